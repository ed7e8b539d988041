// Package audit is the framework of the checks: a check is a value with a name, a documentation and functions that ask
// a question of the model; the driver owns order, parallelism and what becomes of the answers.
package audit

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"toril/baseline"
	"toril/estate"
	"toril/model"
	"toril/negotiate"
	"toril/packet"
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
// subject of its kind.
type Check struct {
	Name     string   // "area/name"
	Title    string   // a short statement of the fault
	Severity Severity // the usual one
	Why      string   // one sentence: why it matters
	Fix      string   // one sentence: what to write instead
	Doc      Doc

	Estate     func(*Pass)
	Gateway    func(*Pass, *model.Gateway)
	Tunnel     func(*Pass, *estate.Tunnel)
	Connection func(*Pass, *Subject)
	Child      func(*Pass, *Subject) // with Subject.Child set
}

// Area returns the part of the name before the slash.
func (c *Check) Area() string {
	area, _, _ := strings.Cut(c.Name, "/")
	return area
}

// Doc is a check's documentation page, as plain paragraphs.
type Doc struct {
	What    string   // what the check looks at, and when it speaks
	Harm    string   // how an attacker or an outage uses the fault
	Write   string   // what to write instead, with an example
	Sources []string // standards and their sections
	Demands []string // demands and limits of a baseline that set its level
}

// Evidence is a line of a saved file.
type Evidence struct {
	source.Pos
	Text string // the line, secrets masked
	Note string // what it shows
}

// Finding is an answer that a person should act on.
type Finding struct {
	Check      string
	Severity   Severity
	Gateway    string
	Tunnel     string
	Connection string
	Child      string
	Message    string
	Example    string // a packet for which it is so
	Why        string
	Fix        string
	Standard   string // what the baseline leans on
	Unsure     string // why it could not be told for certain
	At         Evidence
	Also       []Evidence
	AlsoIn     []string // other connections and children that the same line serves
}

// Pass is one check at work.
type Pass struct {
	Context  context.Context
	Check    *Check
	Estate   *estate.Estate
	Baseline *baseline.Baseline
	Now      time.Time // the day that the question is asked for
	found    []Finding
	shared   *shared
}

// shared is what the passes of one run work out once.
type shared struct {
	paths    sync.Map // *model.Gateway: func() *walk.Path
	attempts sync.Map // *estate.Tunnel: func() []negotiate.Attempt
}

// once returns what a function makes for a key, made by whoever asks first.
func once[K comparable, V any](m *sync.Map, key K, make func() V) V {
	made, _ := m.LoadOrStore(key, sync.OnceValue(make))
	return made.(func() V)()
}

// Subject is a connection, or a child of it, in its tunnel.
type Subject struct {
	estate.End
	Tunnel   *estate.Tunnel
	Child    *model.Child // nil for a connection
	Baseline *baseline.Baseline
}

// Far returns the other end; ok is false where it was not given.
func (s *Subject) Far() (estate.End, bool) { return s.Tunnel.Far(s.End) }

// Unsure reports whether something in the subject's section is unread, so that what looks unsaid may be said.
func (s *Subject) Unsure() bool {
	return s.Connection.Unsure || s.Child != nil && s.Child.Unsure
}

// Shunted reports whether the subject's child protects nothing by intent: it lets packets pass, or drops them.
func (s *Subject) Shunted() bool {
	return s.Child.Shunts()
}

// ByDefault returns words for the end of a message about a setting that nobody said; "" for one that was said.
func ByDefault[T any](s model.Setting[T]) string {
	if s.IsDefault() {
		return " (not configured; daemon default)"
	}
	return ""
}

// On starts a finding about a subject, at a line of its gateway. fromDefault says that the finding rests on a value
// that nobody said: where something in the section is unread, it then only says that it could not tell.
func (p *Pass) On(s *Subject, at source.Pos, fromDefault bool) Finding {
	f := Finding{Gateway: s.Gateway.Name, Tunnel: s.Tunnel.Name, Connection: s.Connection.Name, At: Evidence{Pos: at}}
	if s.Child != nil {
		f.Child = s.Child.Name
	}
	if fromDefault && s.Unsure() {
		f.Unsure = "a statement of the same section was not understood"
	}
	return f
}

// Walk returns the way of packets through a gateway all of whose children have an SA.
func (p *Pass) Walk(g *model.Gateway) *walk.Path {
	return once(&p.shared.paths, g, func() *walk.Path { return walk.NewPath(g, p.Estate.Ends(g), walk.Options{}) })
}

// Attempts predicts what happens when either end sets a tunnel up; nil where only one end was given. It must not be
// changed.
func (p *Pass) Attempts(t *estate.Tunnel) []negotiate.Attempt {
	return once(&p.shared.attempts, t, func() []negotiate.Attempt { return negotiate.Tunnel(t) })
}

// PolicyOf returns the policy of the subject's child on a path; nil where the daemon installs none.
func (s *Subject) PolicyOf(path *walk.Path) *walk.Policy {
	return path.Policy(s.Child, s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End))
}

// Egress follows new connections out of a declared full tunnel to public addresses, at the end that they leave for the Internet
// by; ok is false where the subject is not such a child.
func Egress(p *Pass, s *Subject) (inner []walk.Outcome, ok bool) {
	if in := s.Tunnel.Intent; in == nil || !in.FullTunnel || s.Shunted() || !s.Child.Local.Value.AnyAddress() || s.Child.Remote.Value.AnyAddress() {
		return nil, false
	}
	path := p.Walk(s.Gateway)
	pol := s.PolicyOf(path)
	if pol == nil || !path.Known() {
		return nil, false
	}
	_, inner = path.Inbound(pol, pol.Back().And(packet.Only(packet.IPv4)).Minus(reserved))
	return inner, true
}

// reserved are packets to addresses that are nobody's on the Internet (IANA's registry of special-purpose addresses).
var reserved = packet.Prefixes(packet.Dst, special("0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12", "192.168.0.0/16", "192.0.2.0/24", "198.18.0.0/15",
	"198.51.100.0/24", "203.0.113.0/24", "224.0.0.0/3")...)

func special(texts ...string) []netip.Prefix {
	var out []netip.Prefix
	for _, t := range texts {
		out = append(out, netip.MustParsePrefix(t))
	}
	return out
}

// Undecided notes on a finding that conditions outside the model decide about it.
func (f *Finding) Undecided(reasons []string) {
	if len(reasons) > 0 {
		f.Unsure = "the rules have conditions that cannot be decided from here: " + List(reasons)
	}
}

// Report hands in a finding. What it leaves empty is taken from the check; the quotes are filled in.
func (p *Pass) Report(f Finding) {
	f.Check = p.Check.Name
	f.Why = cmp.Or(f.Why, p.Check.Why)
	f.Fix = cmp.Or(f.Fix, p.Check.Fix)
	if f.Unsure != "" {
		f.Severity = Info
		f.Message = "could not be told for certain: " + f.Message
	}
	f.At.Text = p.Estate.Quote(f.At.Pos)
	for i := range f.Also {
		f.Also[i].Text = p.Estate.Quote(f.Also[i].Pos)
	}
	f.Message = source.Clean(f.Message)
	p.found = append(p.found, f)
}

// Result is all that an audit found, in a fixed order: by severity, tunnel, gateway, place, check.
type Result struct {
	Estate   *estate.Estate
	Baseline *baseline.Baseline
	Findings []Finding
	NotGiven []NotGiven // what could not be judged, by gateway
}

// Run asks every check, as of a day. The findings do not depend on the number of processors.
func Run(ctx context.Context, e *estate.Estate, checks []*Check, b *baseline.Baseline, now time.Time) (*Result, error) {
	passes, all := make([]*Pass, len(checks)), &shared{}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, c := range checks {
		passes[i] = &Pass{Context: ctx, Check: c, Estate: e, Baseline: b, Now: now, shared: all}
		group.Go(func() error {
			passes[i].run()
			return ctx.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	r := &Result{Estate: e, Baseline: b, NotGiven: Absences(e)}
	total := 0
	for _, p := range passes {
		p.found = merge(p.found)
		total += len(p.found)
	}
	r.Findings = make([]Finding, 0, total)
	for _, p := range passes {
		r.Findings, p.found = append(r.Findings, p.found...), nil
	}
	slices.SortStableFunc(r.Findings, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(b.Severity, a.Severity), cmp.Compare(a.Tunnel, b.Tunnel), cmp.Compare(a.Gateway, b.Gateway),
			a.At.Pos.Compare(b.At.Pos), cmp.Compare(a.Check, b.Check), cmp.Compare(a.Child, b.Child), cmp.Compare(a.Message, b.Message))
	})
	return r, nil
}

func (p *Pass) run() {
	c := p.Check
	if c.Estate != nil {
		p.guarded(Finding{}, func() { c.Estate(p) })
	}
	if c.Gateway != nil {
		for _, g := range p.Estate.Gateways {
			p.guarded(Finding{Gateway: g.Name}, func() { c.Gateway(p, g) })
		}
	}
	if c.Tunnel == nil && c.Connection == nil && c.Child == nil {
		return
	}
	for _, t := range p.Estate.Tunnels {
		if c.Tunnel != nil {
			p.guarded(Finding{Tunnel: t.Name, Gateway: t.Ends[0].Gateway.Name, At: Evidence{Pos: t.Ends[0].Connection.At}}, func() { c.Tunnel(p, t) })
		}
		if c.Connection == nil && c.Child == nil {
			continue
		}
		for _, end := range t.Ends {
			s := Subject{End: end, Tunnel: t, Baseline: p.BaselineFor(t, end)}
			at := Finding{Tunnel: t.Name, Gateway: end.Gateway.Name, Connection: end.Connection.Name, At: Evidence{Pos: end.Connection.At}}
			if c.Connection != nil {
				p.guarded(at, func() { c.Connection(p, &s) })
			}
			if c.Child == nil {
				continue
			}
			for _, child := range end.Connection.Children {
				one := s
				one.Child = child
				p.guarded(at, func() { c.Child(p, &one) })
			}
		}
	}
}

// BaselineFor lays the scopes that fit an end over the baseline: those that name its gateway, its connection or the
// far gateway.
func (p *Pass) BaselineFor(t *estate.Tunnel, end estate.End) *baseline.Baseline {
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
	for _, t := range p.Estate.TunnelsOf(g) {
		for _, end := range t.Ends {
			if end.Gateway == g && slices.Contains(uses, end.Connection) {
				if b := p.BaselineFor(t, end); !slices.Contains(out, b) {
					out = append(out, b)
				}
			}
		}
	}
	if len(out) == 0 {
		out = append(out, p.Baseline.For(g.Name))
	}
	return out
}

// guarded runs one question; where its packet sets become too complex, that is the answer.
func (p *Pass) guarded(at Finding, ask func()) {
	if p.Context.Err() != nil {
		return
	}
	if err := packet.Guard(ask); err != nil {
		at.Severity = Low
		at.Unsure = err.Error()
		at.Message = "this was not decided: " + err.Error()
		at.Why = "The result is left open instead of guessed; other checks are not affected."
		at.Fix = "Ask about a part of the rules, or look at the rules by hand."
		p.Report(at)
	}
}

// merge makes one finding of those that say the same at one line: a section that several connections inherit, or a
// connection that is an end of several tunnels.
func merge(in []Finding) []Finding {
	type key struct {
		pos          source.Pos
		message, fix string
	}
	index := make(map[key]int, len(in))
	out := in[:0] // what is kept never comes before what is read
	for _, f := range in {
		k := key{f.At.Pos, f.Message, f.Fix}
		i, seen := index[k]
		if !seen || f.At.Pos.IsZero() {
			index[k] = len(out)
			out = append(out, f)
			continue
		}
		if out[i].Example == "" {
			out[i].Example = f.Example
		}
		name := f.Connection
		if f.Child != "" {
			name += "/" + f.Child
		}
		if name == "" {
			name = f.Tunnel
		}
		if !slices.Contains(out[i].AlsoIn, name) {
			out[i].AlsoIn = append(out[i].AlsoIn, name)
		}
		out[i].Severity = max(out[i].Severity, f.Severity)
	}
	return out
}
