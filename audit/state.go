package audit

import (
	"time"

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
	Unknown               // the far end was not given, or something that decides was not read
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
	State State
	Only  string        // of OneSided: the gateway that must initiate
	After time.Duration // of Dies: when the first rekey fails
	Why   string        // of Unknown: what is not known
	Suite string        // what the IKE SA is protected by, and the first child; "" where it does not come up

	Leaks     bool // protected packets leave unencrypted
	LeaksDown bool // they do while the tunnel is down
	Worst     Severity
	Causes    int // how many stand
}

// Says puts the state in words: "comes up only if skerry initiates".
func (t *Tunnel) Says() string {
	out := ""
	switch t.State {
	case ComesUp:
		out = "comes up"
	case Unknown:
		out = t.Why
	case ByHand:
		out = "comes up only by hand: neither end initiates"
	case OneSided:
		out = "comes up only if " + t.Only + " initiates"
	case InPart:
		out = "comes up in part"
	case Mute:
		out = "comes up, passes nothing"
	case Dies:
		out = "comes up, dies after " + present.Span(t.After)
	case Never:
		out = "never comes up"
	}
	switch {
	case t.Leaks:
		out += " · leaks"
	case t.LeaksDown:
		out += " · leaks while down"
	}
	return out
}

// stateOf says what becomes of a tunnel by what its ends are predicted to agree on.
func stateOf(m *pair.Match, attempts []negotiate.Attempt) *Tunnel {
	t := &Tunnel{Match: m}
	if attempts == nil {
		t.State, t.Why = Unknown, "far end not given"
		return t
	}
	var works []*negotiate.Attempt
	partly := false
	for i := range attempts {
		a := &attempts[i]
		switch {
		case a.Unsure != "" && a.Outcome != negotiate.Agrees:
			t.State, t.Why = Unknown, "not certain: "+a.Unsure
			return t
		case a.Outcome == negotiate.Agrees || a.Outcome == negotiate.Partly:
			works, partly = append(works, a), partly || a.Outcome == negotiate.Partly
		}
	}
	switch {
	case len(works) == 0:
		t.State = Never
		return t
	case partly:
		t.State = InPart
	case len(works) < len(attempts):
		t.State, t.Only = OneSided, works[0].Initiator.Gateway.Name
	}
	for _, a := range works {
		if a.Outcome == negotiate.Agrees || t.Suite == "" {
			t.suite(a)
		}
		for _, c := range a.Children {
			if c.Outcome == negotiate.Agrees && c.Broken != "" && t.State < Mute {
				t.State = Mute
			}
			if c.Outcome == negotiate.Agrees && c.Rekey.Outcome == negotiate.Fails && (t.State != Dies || c.Rekey.After < t.After) {
				t.State, t.After = Dies, c.Rekey.After
			}
		}
	}
	return t
}

func (t *Tunnel) suite(a *negotiate.Attempt) {
	t.Suite = a.Version.String() + ", " + a.IKE.String()
	for _, c := range a.Children {
		if c.Outcome == negotiate.Agrees {
			t.Suite += "; " + c.Suite.Protocol.String() + " " + c.Suite.String()
			return
		}
	}
}

// states settles what becomes of every tunnel by what was found, beside what its ends agree on.
func (r *Result) states() {
	index := make(map[string]*Tunnel, len(r.Tunnels))
	stopped := map[*Tunnel]map[string]bool{} // the initiators that fail
	for _, t := range r.Tunnels {
		index[t.Name], stopped[t] = t, map[string]bool{}
	}
	for i := range r.Findings {
		f := &r.Findings[i]
		t := index[f.Tunnel]
		if t == nil {
			continue
		}
		if f.Accepted == nil && f.PartOf == "" {
			t.Worst, t.Causes = max(t.Worst, f.Severity), t.Causes+1
		}
		if f.Unsure != "" || f.Severity < Medium {
			continue
		}
		t.Leaks, t.LeaksDown = t.Leaks || f.effect == Leaks, t.LeaksDown || f.effect == LeaksDown
		for _, s := range t.Sides {
			own := s.Gateway.Name == f.Gateway
			if f.effect == Stops || f.effect == StopsOwn && own || f.effect == StopsPeer && !own {
				stopped[t][s.Gateway.Name] = true
			}
		}
		if f.waits && t.State == ComesUp {
			t.State = ByHand
		}
	}
	for _, t := range r.Tunnels {
		var left []string
		for _, s := range t.Sides {
			if name := s.Gateway.Name; !stopped[t][name] && (t.State != OneSided || t.Only == name) {
				left = append(left, name)
			}
		}
		switch {
		case len(stopped[t]) == 0 || t.State == Never:
		case len(left) == 0:
			t.State, t.Suite = Never, ""
		case len(t.Sides) == 2 && len(left) == 1 && (t.State == ComesUp || t.State == ByHand):
			t.State, t.Only = OneSided, left[0]
		}
	}
}
