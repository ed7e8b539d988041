package audit

import (
	"cmp"
	"slices"
	"time"
	"toril/model"

	"toril/negotiate"
	"toril/pair"
	"toril/present"
)

// Effect is what a finding means for its tunnel.
type Effect uint8

// The effects.
const (
	NoEffect  Effect = iota
	Stops            // the tunnel does not come up
	StopsPeer        // it does not come up if the far end initiates
	StopsOwn         // it does not come up if the finding's own end initiates
	Leaks            // protected packets leave unencrypted
	LeaksDown        // they do while the tunnel is down
)

// State is what becomes of a tunnel, the best first.
type State uint8

// The states.
const (
	ComesUp  State = iota // whichever end initiates
	Unknown               // the far end was not given, or something that decides
	ByHand                // no end initiates by itself
	OneSided              // only if one of the ends initiates
	InPart                // not all of its children
	Mute                  // and passes nothing
	Dies                  // and fails when it is rekeyed
	Never
)

// Mark is a sign for the state that needs no colour: how full the circle is says how much of the tunnel there is.
func (s State) Mark() string {
	return [...]string{"●", "?", "◑", "◑", "◑", "◔", "◔", "○"}[s]
}

// Word names the state for programs: "comes-up", "never".
func (s State) Word() string {
	return [...]string{"comes-up", "unknown", "by-hand", "one-sided", "in-part", "passes-nothing", "dies", "never"}[s]
}

// Tunnel is what an audit says of a tunnel as a whole.
type Tunnel struct {
	*pair.Match
	State  State
	Only   string        // of OneSided: the gateway that must initiate
	After  time.Duration // of Dies: when the first rekey fails
	Why    string        // of Unknown: what is not known; of one that is possible only, why
	ByHand bool          // of OneSided: and it does not by itself
	Suite  string        // what the IKE SA is protected by, and the first child; "" where it does not come up

	Possible bool     // State is what becomes of it if what was not understood changes nothing
	Reasons  []Reason // why something of it is possible and not certain: its state, or that it leaks

	Leaks       bool // protected packets leave unencrypted
	LeaksDown   bool // they do while the tunnel is down
	MayLeak     bool // Leaks is possible, and not certain
	MayLeakDown bool // LeaksDown is
	Worst       Severity
	WorstOf     string // the check of the worst finding; "" for none
	Perhaps     bool   // the worst finding is possible and not certain
	Causes      int    // how many stand

	tries    []try
	waits    bool     // neither end sets any child up by itself
	failed   bool     // a question about it, or one of its gateways, failed
	leaksFor []Reason // why it is only possible that it leaks
}

// Says puts the state in words: "comes up only if skerry initiates".
func (t *Tunnel) Says() string {
	out, up := "", "comes up"
	if t.Possible {
		up = "may come up"
	}
	switch t.State {
	case ComesUp:
		out = up
	case Unknown:
		out = t.Why
	case ByHand:
		out = up + " only by hand: neither end initiates"
	case OneSided:
		out = up + " only if " + t.Only + " initiates"
		if t.ByHand {
			out += ", by hand"
		}
	case InPart:
		out = up + " in part"
	case Mute:
		out = up + ", and pass nothing"
		if !t.Possible {
			out = up + ", passes nothing"
		}
	case Dies:
		out = up + ", dies after " + present.Span(t.After)
		if t.Possible {
			out = up + ", and die after " + present.Span(t.After)
		}
	case Never:
		out = "never comes up"
		if t.Possible {
			out = "may never come up"
		}
	}
	switch {
	case t.Leaks:
		out += " · leaks"
	case t.MayLeak && t.LeaksDown:
		out += " · leaks while down, may leak"
	case t.MayLeak:
		out += " · may leak"
	case t.LeaksDown:
		out += " · leaks while down"
	case t.MayLeakDown:
		out += " · may leak while down"
	}
	return out
}

// Certain is the state where it is certain, else Unknown.
func (t *Tunnel) Certain() State {
	if t.Possible {
		return Unknown
	}
	return t.State
}

// Sign is the mark of the state where it is certain, else that of one that is not known.
func (t *Tunnel) Sign() string { return t.Certain().Mark() }

// try is the predicted result of one end's initiating.
type try struct {
	initiator string
	outcome   negotiate.Outcome
	mute      bool          // no packet passes some child
	bare      bool          // the IKE SA comes up, and no child
	after     time.Duration // when the first rekey fails; 0 for never
	suite     string
	reasons   []Reason
}

// Predict says what becomes of a tunnel by what its ends are predicted to agree on, and by nothing else.
func Predict(m *pair.Match, of *pair.Tunnel, attempts []negotiate.Attempt) *Tunnel {
	t := stateOf(m, of, attempts)
	t.settle(nil, nil)
	return t
}

// reasonsOf are doubts as what answers rest on.
func reasonsOf(d model.Doubts) []Reason {
	var f Finding
	f.Rests(d)
	return f.Reasons
}

// stateOf notes what comes of either end's initiating, by what the ends are predicted to agree on.
func stateOf(m *pair.Match, of *pair.Tunnel, attempts []negotiate.Attempt) *Tunnel {
	t := &Tunnel{Match: m, waits: len(attempts) > 0 && of.Waits()}
	for i := range attempts {
		a := &attempts[i]
		one := try{initiator: a.Initiator.Gateway.Name, outcome: a.Outcome, suite: suiteOf(a), reasons: reasonsOf(a.Doubts)}
		one.bare = a.Bare()
		for _, c := range a.Children {
			if c.Outcome != negotiate.Agrees {
				continue
			}
			one.mute = one.mute || c.Broken != ""
			if c.Rekey.Outcome == negotiate.Fails && (one.after == 0 || c.Rekey.After < one.after) {
				one.after = c.Rekey.After
			}
		}
		t.tries = append(t.tries, one)
	}
	return t
}

// settle says what becomes of the tunnel where some of those who would initiate it cannot, for certain or possibly.
func (t *Tunnel) settle(stopped map[string]bool, perhaps map[string][]Reason) {
	t.State, t.Only, t.After, t.Suite, t.Possible, t.Reasons, t.Why = ComesUp, "", 0, "", false, nil, ""
	if t.failed {
		t.State, t.Why = Unknown, "Toril failed on it"
		return
	}
	if len(t.tries) == 0 {
		t.State, t.Why = Unknown, "far end not given"
		if len(stopped) == len(t.Sides) {
			t.State = Never
		}
		return
	}
	var works []try
	var lacks []Reason
	partly, mute, bare := false, false, false
	for _, one := range t.tries {
		doubts := perhaps[one.initiator]
		fails := one.outcome != negotiate.Agrees && one.outcome != negotiate.Partly
		for _, r := range one.reasons {
			switch {
			case r.Cause != model.NotGiven:
				doubts = append(doubts, r)
			case fails:
				lacks = append(lacks, r)
			}
		}
		if stopped[one.initiator] {
			continue
		}
		t.Reasons = append(t.Reasons, doubts...)
		if bare = bare || one.bare; fails || one.bare || len(perhaps[one.initiator]) > 0 {
			continue
		}
		works = append(works, one)
		partly, mute = partly || one.outcome == negotiate.Partly, mute || one.mute
		if one.after > 0 && (t.After == 0 || one.after < t.After) {
			t.After = one.after
		}
		if t.Suite == "" || one.outcome == negotiate.Agrees && partly {
			t.Suite = one.suite
		}
	}
	switch {
	case len(lacks) > 0:
		t.State, t.Why, t.After, t.Suite = Unknown, "not certain: "+lacks[0].Why, 0, ""
		t.Reasons = append(t.Reasons, lacks...)
	case len(works) == 0 && bare: // the IKE SA comes up, and no child
		t.State = Mute
	case len(works) == 0:
		t.State = Never
	case t.After > 0:
		t.State = Dies
	case mute:
		t.State = Mute
	case partly:
		t.State = InPart
	case len(works) < len(t.tries):
		t.State, t.Only, t.ByHand = OneSided, works[0].initiator, t.waits
	case t.waits:
		t.State = ByHand
	}
	t.reasons()
}

// reasons puts in order what the state rests on, and that the tunnel leaks, and says it in words.
func (t *Tunnel) reasons() {
	t.Possible = len(t.Reasons) > 0 && t.State != Unknown
	if t.Reasons = append(t.Reasons, t.leaksFor...); len(t.Reasons) > 0 && t.State != Unknown {
		f := Finding{Reasons: t.Reasons}
		f.settle()
		t.Reasons, t.Why = f.Reasons, f.Unsure
	}
}

// suiteOf names what the IKE SA and the first child are protected by; "" where nothing comes up.
func suiteOf(a *negotiate.Attempt) string {
	if a.Outcome != negotiate.Agrees && a.Outcome != negotiate.Partly {
		return ""
	}
	out := a.Version.String() + ", " + a.IKE.String()
	for _, c := range a.Children {
		if c.Outcome == negotiate.Agrees {
			return out + "; " + c.Suite.Protocol.String() + " " + c.Suite.String()
		}
	}
	return out
}

// states settles what becomes of every tunnel: by what its ends agree on, and by what was found.
func (r *Result) states() {
	index := make(map[string]int, len(r.Tunnels))
	stopped, perhaps := make([]map[string]bool, len(r.Tunnels)), make([]map[string][]Reason, len(r.Tunnels))
	for i, t := range r.Tunnels {
		index[t.Name], stopped[i], perhaps[i] = i, map[string]bool{}, map[string][]Reason{}
	}
	for _, f := range slices.Concat(r.Findings, r.undecided()) {
		at, is := index[f.Tunnel]
		if !is {
			continue
		}
		t := r.Tunnels[at]
		if !f.undecided && f.Accepted == nil && f.PartOf == "" {
			if t.Causes++; t.WorstOf == "" || f.Severity > t.Worst {
				t.Worst, t.WorstOf, t.Perhaps = f.Severity, f.Check, f.Possible()
			}
		}
		if f.Severity < Medium {
			continue
		}
		t.leaks(f)
		for _, s := range t.Sides {
			own := s.Gateway.Name == f.Gateway
			if f.effect == Stops || f.effect == StopsOwn && own || f.effect == StopsPeer && !own {
				if f.Possible() {
					perhaps[at][s.Gateway.Name] = append(perhaps[at][s.Gateway.Name], f.Reasons...)
				} else {
					stopped[at][s.Gateway.Name] = true
				}
			}
		}
	}
	for i, t := range r.Tunnels {
		t.settle(stopped[i], perhaps[i])
	}
}

// undecided are the answers that stand for questions that were not answered: any may be the worst that its check finds.
func (r *Result) undecided() (out []*Finding) {
	for _, f := range r.Open {
		if f.undecided {
			out = append(out, f)
		}
	}
	return out
}

// leaks notes what a finding means for the packets of its tunnel.
func (t *Tunnel) leaks(f *Finding) {
	switch {
	case f.effect == Leaks && f.Possible():
		t.MayLeak, t.leaksFor = true, append(t.leaksFor, f.Reasons...)
	case f.effect == Leaks:
		t.Leaks = true
	case f.effect == LeaksDown && f.Possible():
		t.MayLeakDown, t.leaksFor = true, append(t.leaksFor, f.Reasons...)
	case f.effect == LeaksDown:
		t.LeaksDown = true
	}
}

// Short names the tunnel by its gateways where no other tunnel of the estate is between the two: "skerry <> headland".
func (r *Result) Short(t *Tunnel) string {
	if r.between == nil {
		r.between = map[string]int{}
		for _, o := range r.Tunnels {
			r.between[pairOf(o)]++
		}
	}
	if name := pairOf(t); name != "" && r.between[name] == 1 {
		return name
	}
	return t.Name
}

func pairOf(t *Tunnel) string {
	if len(t.Sides) < 2 {
		return ""
	}
	return t.Sides[0].Gateway.Name + " <> " + t.Sides[1].Gateway.Name
}

// WorstFirst returns the tunnels by their worst finding, then by name.
func (r *Result) WorstFirst() []*Tunnel {
	out := slices.Clone(r.Tunnels)
	slices.SortStableFunc(out, func(a, b *Tunnel) int { return cmp.Compare(b.rank(), a.rank()) })
	return out
}

// rank orders tunnels: one without findings comes after one with findings of the lowest severity.
func (t *Tunnel) rank() int {
	if t.Causes == 0 {
		return -1
	}
	return int(t.Worst)
}
