package audit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"toril/estate"
	"toril/model"
	"toril/present"
	"toril/source"
)

// Reason is a doubt that an answer rests on.
type Reason struct {
	Cause   model.Cause
	Gateway string
	At      Evidence // the statement; nowhere for what was not given
	Of      string   // what the statement belongs to, or the thing that was not given
	Why     string
}

// key is what tells reasons apart, whoever reports them.
func (r *Reason) key() [4]string {
	if r.Cause == model.NotGiven && r.Of != "" && r.At.Pos.IsZero() {
		return [4]string{r.Cause.String(), r.Gateway, r.Of}
	}
	return [4]string{r.Cause.String(), r.Gateway, r.At.Pos.Place().String(), r.Why}
}

// Rests notes that a finding rests on doubts. One that holds if what they are about changes nothing is possible: it says so, and keeps its
// severity. One that rests on something that was not given is none, but an answer that could not be told (Result.Open).
func (f *Finding) Rests(on ...model.Doubts) {
	for _, doubts := range on {
		for _, d := range doubts {
			f.Reasons = append(f.Reasons, Reason{Cause: d.Cause, Gateway: d.Gateway, At: Evidence{Pos: d.At}, Of: d.Of, Why: d.Why})
		}
	}
}

// Perhaps hands in what a check would find if something that was not understood did what it need not do: no finding, but an answer that
// could not be told. Nothing is handed in where all was understood.
func (p *Pass) Perhaps(f Finding, on model.Doubts) {
	if !on.Unread() {
		return
	}
	for _, d := range on {
		if d.Cause == model.NotRead {
			f.Rests(model.Doubts{d})
		}
	}
	f.undecided = true
	p.Report(f)
}

// Possible reports whether a finding holds only if what was not understood, or is not decided, changes nothing.
func (f *Finding) Possible() bool { return f.Unsure != "" }

// Open reports whether a finding is an answer that could not be told: it rests on something that was not given, or was not worked out.
func (f *Finding) Open() bool {
	return f.undecided || slices.ContainsFunc(f.Reasons, func(r Reason) bool { return r.Cause == model.NotGiven })
}

// settle puts the reasons of a finding in order, each once, and says in words why it is not certain.
func (f *Finding) settle() {
	if len(f.Reasons) == 0 {
		return
	}
	slices.SortStableFunc(f.Reasons, func(a, b Reason) int {
		x, y := a.key(), b.key()
		return cmp.Or(cmp.Compare(a.Cause, b.Cause), slices.Compare(x[:], y[:]))
	})
	f.Reasons = slices.CompactFunc(f.Reasons, func(a, b Reason) bool { return a.key() == b.key() })
	var read, decided, given []string
	for _, r := range f.Reasons {
		switch r.Cause {
		case model.NotRead:
			read = append(read, r.At.Pos.String())
		case model.NotGiven:
			given = append(given, r.Why)
		case model.Undecided:
			if !slices.Contains(decided, r.Why) {
				decided = append(decided, r.Why)
			}
		}
	}
	var out []string
	if len(read) > 0 {
		out = append(out, "it rests on what was not understood: "+some(read))
	}
	if len(decided) > 0 {
		out = append(out, "it rests on conditions that no file decides: "+some(decided))
	}
	out = append(out, given...)
	f.Unsure = source.Clean(strings.Join(out, "; "))
}

// some lists words, and says how many more there are.
func some(words []string) string {
	const most = 3
	if len(words) <= most {
		return List(words)
	}
	return strings.Join(words[:most], ", ") + " and more"
}

// Unsettled is one thing that keeps answers from being certain, with all that hangs on it.
type Unsettled struct {
	Reason
	Unjudged string     // of what was not given: what nothing is said about
	Parts    []string   // of what was not given: the connections concerned; none for the whole gateway
	Answers  []*Finding // possible findings that rest on it, and answers that could not be told for it; the worst first
	Tunnels  []*Tunnel  // whose state rests on it
	Worst    Severity   // of what it may change
}

// Says puts in words what hangs on it: "3 answers and 1 tunnel rest on it, up to critical".
func (u *Unsettled) Says() string {
	var what []string
	if n := len(u.Answers); n > 0 {
		what = append(what, present.Plural(n, "answer"))
	}
	if n := len(u.Tunnels); n > 0 {
		what = append(what, "the state of "+present.Plural(n, "tunnel"))
	}
	switch {
	case len(what) == 0 && u.Cause == model.NotRead:
		return fmt.Sprintf("nothing that was found rests on it, and it may hide anything, up to %s", u.Worst)
	case len(what) == 0:
		return "nothing that was found rests on it"
	}
	verb := " rest on it"
	if len(u.Answers)+len(u.Tunnels) == 1 {
		verb = " rests on it"
	}
	out := strings.Join(what, " and ") + verb
	if u.Worst > Info {
		out += ", up to " + u.Worst.String()
	}
	return out
}

// Settle says what would settle it.
func (u *Unsettled) Settle() string {
	switch u.Cause {
	case model.NotRead:
		return "correct the statement, or check it by hand; a phrasebook can teach one of a device"
	case model.Undecided:
		return "look at what decides it on the gateway itself"
	}
	return "save it beside the gateway's other files: " + cmp.Or(map[string]string{
		"packet filter":               "nft list ruleset, or iptables-save and ip6tables-save",
		"addresses":                   "ip addr",
		"routes":                      "ip route show table all",
		"routing rules":               "ip rule",
		"IKE configuration":           "the configuration of the IKE daemon, with the files that it includes",
		"far end":                     "the configuration of the far gateway",
		"pre-shared keys":             "the file of secrets, or its values masked alike where they are the same",
		"own certificates":            "the certificates that the connections name",
		"certificates of authorities": "the certificates of the authorities that are trusted",
	}[u.Of], "the file that is named")
}

// hides is the worst severity that a check may have whose answers a statement decides that was not understood: something in a connection,
// a key, a rule or a route may stop or open a tunnel.
const hides = Critical

// reasonOf is a statement of a gateway that was not understood, as a reason.
func reasonOf(gateway string, x estate.Unread) Reason {
	at := Evidence{Pos: x.At, Text: x.Text, Region: x.Region}
	return Reason{Cause: x.Cause, Gateway: gateway, At: at, Of: x.Of, Why: x.Why}
}

// unsettled lists what keeps answers from being certain: what was not given, and what was not understood, or is not decided, as far as
// answers rest on it.
func (r *Result) unsettled() {
	index := map[[4]string]*Unsettled{}
	of := func(x Reason) *Unsettled {
		u := index[x.key()]
		if u == nil {
			u = &Unsettled{Reason: x}
			index[x.key()] = u
			r.Unsettled = append(r.Unsettled, u)
			if x.Cause == model.NotRead {
				u.Worst = hides
			}
		}
		return u
	}
	for _, n := range r.NotGiven {
		for _, a := range n.What {
			u := of(
				Reason{
					Cause:   model.NotGiven,
					Gateway: n.Gateway,
					Of:      a.Thing,
					Why:     "the " + a.Thing + " of " + n.Gateway + " was not given",
				},
			)
			u.Unjudged, u.Parts = a.Unjudged, a.Of
		}
	}
	for _, f := range r.Estate.Gateways {
		for _, file := range f.Files {
			for _, x := range file.Unread {
				if x.Matters {
					of(reasonOf(f.Name, x))
				}
			}
		}
	}
	for _, list := range [][]*Finding{r.Findings, r.Open} {
		for _, f := range list {
			for _, x := range f.Reasons {
				u := of(x)
				u.Answers = append(u.Answers, f)
				u.Worst = max(u.Worst, f.Severity)
			}
		}
	}
	for _, t := range r.Tunnels {
		for _, x := range t.Reasons {
			u := of(x)
			u.Tunnels = append(u.Tunnels, t)
		}
	}
	slices.SortStableFunc(r.Unsettled, func(a, b *Unsettled) int {
		return cmp.Or(
			cmp.Compare(b.Worst, a.Worst),
			cmp.Compare(a.Cause, b.Cause),
			cmp.Compare(a.Gateway, b.Gateway),
			a.At.Pos.Compare(b.At.Pos),
			cmp.Compare(a.Of, b.Of),
			cmp.Compare(a.Why, b.Why),
		)
	})
}

// Doubtful are the statements of which it is not known what they do, and what rests on them, the worst first.
func (r *Result) Doubtful() []*Unsettled {
	var out []*Unsettled
	for _, u := range r.Unsettled {
		if u.Cause != model.NotGiven || !u.At.Pos.IsZero() {
			out = append(out, u)
		}
	}
	return out
}

// Fails reports whether something is at or above a severity: a finding that no exception accepts, or, where answers need not be certain, a
// possible one, or a statement that was not understood, or a question that was not decided, and may hide one.
func (r *Result) Fails(at Severity, certainOnly bool) bool {
	for _, f := range r.Findings {
		if f.Accepted == nil && f.Severity >= at && !(certainOnly && f.Possible()) {
			return true
		}
	}
	return !certainOnly && (slices.ContainsFunc(r.Unsettled, func(u *Unsettled) bool {
		return u.Cause == model.NotRead && u.Worst >= at
	}) || slices.ContainsFunc(r.Open, func(f *Finding) bool { return f.undecided && f.Severity >= at }))
}
