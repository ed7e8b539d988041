// Package audit is the framework of the checks: a check is a value with a name, a documentation and functions that ask
// a question of the model; the driver owns order, parallelism and what becomes of the answers.
package audit

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"
	"unique"

	"toril/baseline"
	"toril/estate"
	"toril/model"
	"toril/model/settings"
	"toril/negotiate"
	"toril/observe"
	"toril/packet"
	"toril/pair"
	"toril/source"
	"toril/walk"
)

// Severity is how urgently a person should act on a finding.
type Severity uint8

// The severities.
const (
	Info     Severity = iota // worth knowing
	Low                      // fix it when you are there
	Medium                   // plan the fixing
	High                     // fix it
	Critical                 // fix it now
)

var severityNames = []string{"info", "low", "medium", "high", "critical"}

// String returns the severity's name.
func (s Severity) String() string { return severityNames[s] }

// MarshalText returns the severity's name.
func (s Severity) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// Less returns the severity n steps lower, Info at the least.
func (s Severity) Less(n int) Severity { return Severity(max(0, int(s)-n)) }

// ParseSeverity reads a severity's name.
func ParseSeverity(name string) (Severity, error) {
	if i := slices.Index(severityNames, name); i >= 0 {
		return Severity(i), nil
	}
	return 0, fmt.Errorf("unknown severity %q; known are: %s", name, strings.Join(severityNames, ", "))
}

// Check is a question that is asked of an estate. Of its functions at least one is set; each is called once for every
// subject of its kind, for several of them side by side. A gateway is in memory only while it is asked about: what an Estate function
// looks at, the other functions have put down (Pass.Keep).
type Check struct {
	Name     string   // "area/name"
	Title    string   // a short statement of the fault
	Severity Severity // the usual one
	Why      string   // one sentence: why it matters
	Fix      string   // one sentence: what to write instead
	Suggest  Advice   // the same as settings and rules
	Doc      Doc
	Requires Needs         // what it asks of the driver, which works it out once and lets it go
	Setting  *settings.Row // the setting that it judges at the finding's own end; nil for none or several
	Effect   Effect        // what a finding of it means for its tunnel, unless the finding says otherwise
	PartOf   []Part        // with whose findings its own may have one cause
	Symptom  bool          // it shows what a fault does: of one cause, a finding that is as bad and says where it is configured comes first

	Estate     func(*Pass)
	Gateway    func(*Pass, *model.Gateway)
	Tunnel     func(*Pass, *pair.Tunnel)
	Connection func(*Pass, *Subject)
	Child      func(*Pass, *Subject)            // with Subject.Child set
	Exceptions func(*Pass, []*estate.Exception) // asked last, when it is known what each accepts

	Keeps *Kept // what it puts down for its Estate function; nil for nothing
}

// Needs are results that several checks ask for.
type Needs uint8

// The results: the ways of packets through a gateway (Pass.Walk), rules that no packet reaches (Pass.Shadows), what comes of either end's
// setting a tunnel up (Pass.Attempts).
const (
	Walks Needs = 1 << iota
	Shadows
	Negotiation
)

// Area returns the part of the name before the slash.
func (c *Check) Area() string {
	area, _, _ := strings.Cut(c.Name, "/")
	return area
}

// Doc is a check's documentation page, as plain paragraphs.
type Doc struct {
	What    string   // what the check looks at, and when it reports something
	Harm    string   // how an attacker or an outage uses the fault
	Write   string   // what to write instead, with an example
	Sources []string // standards and their sections
	Demands []string // demands and limits of a baseline that set its level
}

// Evidence is a statement of a saved file, with its place: line, and bytes.
type Evidence struct {
	source.Pos
	Text   string        // the line, secrets masked
	Region source.Region // of the statement, or of the part of it that matters; zero where that is not known
	Note   string        // what it shows
}

// Finding is an answer that a person should act on.
type Finding struct {
	// ID says which finding it is, from one run to the next: by the check, the subject and what it is about, whatever the line it stands
	// on and whatever the value is by now. It is 16 hexadecimal digits; Run sets it.
	ID         string
	Check      string
	Severity   Severity // Report sets it; see By and Lower
	Gateway    string
	Tunnel     string
	Connection string
	Child      string
	About      string // what of the subject it is about, where the subject has several such things; "" for the statement itself
	Message    string
	Measured   string // what is, where a limit decides: "36 h"
	Required   string // and what the baseline requires: "at most 24 h"
	Example    string // a packet for which it is so
	Why        string
	Fix        string
	Standard   string // what the baseline leans on
	Unsure     string // why it is possible and not certain; Report sets it
	Reasons    []Reason
	At         Evidence
	Also       []Evidence
	Others     Places            // of one that stands for many like it: where the others stand, in the file of At
	AlsoIn     []string          // other connections and children that the same line serves
	Series     string            // of many like findings in one place: which place, "chain forward"; "" for a finding of its own
	PartOf     string            // the ID of the finding that has the same cause and says it better; "" for one that stands by itself
	Accepted   *estate.Exception // by whom and why it is accepted; nil for one that is not

	level   Severity // by the baseline, where leveled
	leveled bool
	lower   int

	effect  Effect
	settled bool // effect was set for this finding

	undecided bool // the question was not answered, and this stands for the answer
	traits    *traits
}

// traits identify the cause of a finding; they are dropped once causes are grouped.
type traits struct {
	weak     string      // the weak algorithms that it is about, divided by line ends
	culprit  *source.Pos // the statement at fault, where that is another than the one it is at
	packets  *packet.Set // the packets that it is about
	children string      // the children that mean each other, of either end, that it is about
	excess   bool        // it concerns only networks that one end has and the other has not
}

func (f *Finding) trait() *traits {
	if f.traits == nil {
		f.traits = &traits{}
	}
	return f.traits
}

// Blame names the statement at fault, where that is another than the one that the finding is at.
func (f *Finding) Blame(at source.Pos) { f.trait().culprit = &at }

// Concerns says which packets a finding is about, where that decides of which cause it is.
func (f *Finding) Concerns(s packet.Set) { f.trait().packets = &s }

// Means overrides the check's Effect for this finding.
func (f *Finding) Means(e Effect) { f.effect, f.settled = e, true }

// By makes the severity that of breaking a requirement of a level, which a standard demands.
func (f *Finding) By(l baseline.Level, standard string) {
	f.level, f.leveled, f.Standard = OfLevel(l), true, standard
}

// Lower makes the severity a number of steps less than the check's or the level's: what is wrong is exposed less.
func (f *Finding) Lower(steps int) { f.lower += steps }

// Severity returns the severity that a finding will have.
func (p *Pass) Severity(f Finding) Severity {
	f.rate(p.Check)
	return f.Severity
}

// rate sets the severity: said once, by the check or by the baseline's level, lowered by exposure.
func (f *Finding) rate(c *Check) {
	f.Severity = c.Severity
	if f.leveled {
		f.Severity = f.level
	}
	f.Severity = f.Severity.Less(f.lower)
}

// Pass is one check at work.
type Pass struct {
	Context  context.Context
	Check    *Check
	Estate   *pair.Estate
	Baseline *baseline.Baseline
	Now      time.Time // the day that the question is asked for
	found    []*Finding
	shared   *shared
	work     *work
	number   int     // of the check
	kept     [][]any // what checks put down, by their numbers
}

// need notes where a check asks for what it did not say: the tests want it said.
func (p *Pass) need(n Needs) {
	if p.Check.Requires&n == 0 {
		p.shared.undeclared.Store(p.Check.Name, true)
	}
}

// Subject is a connection, or a child of it, in its tunnel.
type Subject struct {
	pair.End
	Tunnel   *pair.Tunnel
	Child    *model.Child // nil for a connection
	Baseline *baseline.Baseline

	children  []Subject // of a connection
	elsewhere []Reason  // of one whose far end was not given: see Pass.Elsewhere

	seen, far func() observe.End // of the own and of the far end, worked out once; nil where no status was given
}

// Observed says what saved status shows of the subject's end; nothing where none was given.
func (s *Subject) Observed() (e observe.End) {
	if s.seen == nil {
		return e
	}
	return s.seen()
}

// FarObserved does so of the far end.
func (s *Subject) FarObserved() (e observe.End) {
	if s.far == nil {
		return e
	}
	return s.far()
}

// Far returns the other end; ok is false where it was not given.
func (s *Subject) Far() (pair.End, bool) { return s.Tunnel.Far(s.End) }

// Doubts are what was not understood of the subject, and of its daemon's configuration as a whole: what looks unsaid may be said there.
func (s *Subject) Doubts() model.Doubts {
	out := s.Gateway.Doubts(model.AboutIKE).And(s.Connection.Doubts)
	if s.Child != nil {
		return out.And(s.Child.Doubts)
	}
	return out
}

// SelectorDoubts are what was not understood of the subject where its child's networks are not said, as they may be there, or are any, as a
// mark or an interface may narrow them.
func (s *Subject) SelectorDoubts() model.Doubts {
	c := s.Child
	if c.Local.IsDefault() || c.Remote.IsDefault() || c.Local.Value.AnyAddress() || c.Remote.Value.AnyAddress() {
		return s.Doubts()
	}
	return nil
}

// Summarises reports whether the subject's child protects a network of which the networks behind other far ends are parts: a hub says it
// once for all, and is the way between them.
func (s *Subject) Summarises(path *walk.Path) bool {
	pol := s.PolicyOf(path)
	if pol == nil {
		return false
	}
	back := path.Traffic(pol).Mirror()
	others := path.AtFarEnds(back, pol)
	return !others.Empty() && !others.Contains(back)
}

// Shunted reports whether the subject's child protects nothing by intent: it lets packets pass, or drops them.
func (s *Subject) Shunted() bool {
	return s.Child.Shunts()
}

// ByDefault returns words for the end of a message about a setting that nobody said; "" for one that was said.
func ByDefault[T any](s model.Setting[T]) string {
	if s.Origin == model.Default {
		return " (not configured; daemon default)"
	}
	return ""
}

// On starts a finding about a subject, at a line of its gateway. fromDefault says that the finding rests on a value
// that nobody said: where something in the section is unread, it is possible only.
func (p *Pass) On(s *Subject, at source.Pos, fromDefault bool) Finding {
	f := Finding{Gateway: s.Gateway.Name, Tunnel: s.Tunnel.Name, Connection: s.Connection.Name, At: Evidence{Pos: at}}
	if s.Child != nil {
		f.Child = s.Child.Name
	}
	if fromDefault {
		f.Rests(s.Doubts())
	}
	return f
}

// Elsewhere are the doubts about the IKE configurations of other gateways: a far end may be in what was not understood there.
func (p *Pass) Elsewhere(but *model.Gateway) []Reason {
	all := p.shared.elsewhere(p.Estate)
	return slices.DeleteFunc(slices.Clone(all), func(r Reason) bool { return r.Gateway == but.Name })
}

// Walk returns the way of packets through a gateway all of whose children have an SA.
func (p *Pass) Walk(g *model.Gateway) *walk.Path {
	p.need(Walks)
	return once(&p.shared.paths, g, p.shared.path)
}

// Attempts predicts what happens when either end sets a tunnel up; nil where only one end was given. It must not be
// changed.
func (p *Pass) Attempts(t *pair.Tunnel) []negotiate.Attempt {
	p.need(Negotiation)
	return p.shared.attemptsOf(t)
}

// Estimate returns what the secret of a fingerprint is worth to a guesser who knows no names, in bits; it is computed on first use.
func (p *Pass) Estimate(fingerprint [32]byte, estimate func() float64) float64 {
	return once(&p.shared.strengths, fingerprint, func([32]byte) float64 { return estimate() })
}

// Shadows returns the rules of a chain that no packet reaches, or that nothing would change without. It must not be changed.
func (p *Pass) Shadows(c *model.Chain) []*walk.Shadow {
	p.need(Shadows)
	return once(&p.shared.shadows, c, walk.Shadows)
}

// PolicyOf returns the policy of the subject's child on a path; nil where the daemon installs none.
func (s *Subject) PolicyOf(path *walk.Path) *walk.Policy {
	return path.Policy(s.Child, s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End))
}

// Egress follows new connections out of a declared full tunnel to public addresses, at the end that they leave for the Internet
// by; ok is false where the subject is not such a child.
func Egress(p *Pass, s *Subject) (inner []walk.Outcome, ok bool) {
	if in := s.Tunnel.Intent; in == nil || !in.FullTunnel || s.Shunted() || !s.Child.Local.Value.AnyAddress() ||
		s.Child.Remote.Value.AnyAddress() {
		return nil, false
	}
	path := p.Walk(s.Gateway)
	pol := s.PolicyOf(path)
	if pol == nil || !path.Known() {
		return nil, false
	}
	_, inner = path.Inbound(pol, pol.Back().And(packet.Only(packet.IPv4)).Minus(reserved()))
	return inner, true
}

// reserved are packets to addresses that are nobody's on the Internet (IANA's registry of special-purpose addresses).
var reserved = sync.OnceValue(func() packet.Set {
	return packet.Prefixes(
		packet.Dst,
		special(
			"0.0.0.0/8",
			"10.0.0.0/8",
			"100.64.0.0/10",
			"127.0.0.0/8",
			"169.254.0.0/16",
			"172.16.0.0/12",
			"192.168.0.0/16",
			"192.0.2.0/24",
			"198.18.0.0/15",
			"198.51.100.0/24",
			"203.0.113.0/24",
			"224.0.0.0/3",
		)...)
})

func special(texts ...string) []netip.Prefix {
	var out []netip.Prefix
	for _, t := range texts {
		out = append(out, netip.MustParsePrefix(t))
	}
	return out
}

// Report hands in a finding. What it leaves empty is taken from the check; the quotes are filled in when the check has been asked.
func (p *Pass) Report(f Finding) { p.found = append(p.found, p.finished(&f)) }

// finished fills in what a check says of all that it finds.
func (p *Pass) finished(f *Finding) *Finding {
	f.Check = p.Check.Name
	f.Why = cmp.Or(f.Why, p.Check.Why)
	if f.Fix == "" { // else the check has an answer for this very case
		f.Fix = unique.Make(p.Check.Fix + p.example(p.subjectOf(f))).Value() // the same for many
	}
	f.rate(p.Check)
	f.settle()
	f.Message = source.Clean(f.Message)
	if !f.settled {
		f.effect = p.Check.Effect
	}
	p.place(f)
	f.Detach()
	return f
}

// Evidence returns a statement with its quote, for a finding that is reported later.
func (p *Pass) Evidence(at source.Pos, note string) Evidence {
	return p.quoted(Evidence{Pos: at, Note: note})
}

// quote fills in the quotes of what was found.
func (p *Pass) quote() {
	for _, f := range p.found {
		f.At = p.quoted(f.At)
		for i, e := range f.Also {
			f.Also[i] = p.quoted(e)
		}
		for i := range f.Reasons {
			f.Reasons[i].At = p.quoted(f.Reasons[i].At)
		}
	}
}

// quoted fills in the quote and the range of a statement, where they are not filled in yet.
func (p *Pass) quoted(e Evidence) Evidence {
	if e.Text != "" {
		return e
	}
	var f *source.File
	for _, g := range p.work.gateways() {
		if x := g.File(e.File); x != nil {
			f = x.File
		}
	}
	if f == nil {
		f = p.Estate.Config(e.File)
	}
	if f != nil {
		e.Range, e.Text, e.Region = f.Range(e.Pos), f.Quote(e.Pos), f.Region(e.Pos)
	}
	return e
}

// gateways are those that the work is about.
func (w *work) gateways() []*model.Gateway {
	var out []*model.Gateway
	if w.gateway != nil {
		out = append(out, w.gateway)
	}
	if w.tunnel != nil {
		for _, end := range w.tunnel.Ends {
			out = append(out, end.Gateway)
		}
		if w.tunnel.Toward != nil {
			out = append(out, w.tunnel.Toward)
		}
	}
	return out
}

// Detach makes the names in the finding its own: those of readers are parts of files, which would stay in memory. The other texts were
// made for the finding.
func (f *Finding) Detach() {
	for _, name := range []*string{&f.Gateway, &f.Tunnel, &f.Connection, &f.Child, &f.About, &f.At.File} {
		if *name != "" {
			*name = unique.Make(*name).Value()
		}
	}
	for i := range f.Also {
		f.Also[i].File = unique.Make(f.Also[i].File).Value()
	}
}

// BaselineFor lays the scopes that fit an end over the baseline: those that name its gateway, its connection or the
// far gateway.
func (p *Pass) BaselineFor(t *pair.Tunnel, end pair.End) *baseline.Baseline {
	partners := []string{end.Connection.Name}
	if far, ok := t.Far(end); ok {
		partners = append(partners, far.Gateway.Name)
	}
	return p.Baseline.For(end.Gateway.Name, partners...)
}

// Baselines returns the baselines that hold for something of a gateway's that several connections use: one a tunnel that these
// are an end of, each once; the gateway's own where there is none.
func (p *Pass) Baselines(g *model.Gateway, uses []*model.Connection) []*baseline.Baseline {
	var out []*baseline.Baseline
	for _, m := range p.Estate.MatchesOfAny(g, uses...) {
		for i, side := range m.Sides {
			if !slices.ContainsFunc(uses, func(c *model.Connection) bool { return side.Of(g, c) }) {
				continue
			}
			partners := []string{side.Connection.Name}
			if len(m.Sides) == 2 {
				partners = append(partners, m.Sides[1-i].Gateway.Name)
			}
			if b := p.Baseline.For(g.Name, partners...); !slices.Contains(out, b) {
				out = append(out, b)
			}
		}
	}
	if len(out) == 0 {
		out = append(out, p.Baseline.For(g.Name))
	}
	return out
}

// Place returns where the evidence stands as "path:line:column", or as much of it as is known; "" for nowhere.
func (e Evidence) Place() string {
	if e.Col == 0 {
		e.Col = int(e.Region.Column)
	}
	return e.Pos.String()
}

// Subject names what a finding is about: "gateway/connection/child", or as much of it as there is.
func (f *Finding) Subject() string {
	parts := slices.DeleteFunc([]string{f.Gateway, f.Connection, f.Child}, func(s string) bool { return s == "" })
	if len(parts) == 0 {
		return cmp.Or(f.Tunnel, "the estate")
	}
	return strings.Join(parts, "/")
}

// Sentence is the finding's message as a sentence; the name of a gateway or child at its beginning stays as it is.
func (f *Finding) Sentence() string {
	first, _, _ := strings.Cut(f.Message, " ")
	names := strings.FieldsFunc(
		f.Tunnel+" "+f.Gateway+" "+f.Connection+" "+f.Child,
		func(r rune) bool { return r == ' ' || r == '/' || r == ',' },
	)
	if f.Message == "" || slices.Contains(names, strings.TrimRight(first, ":,")) {
		return f.Message + "."
	}
	return strings.ToUpper(f.Message[:1]) + f.Message[1:] + "."
}
