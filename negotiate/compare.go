package negotiate

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/pair"
	"toril/source"
)

// Compared is a tunnel with both ends side by side, and what would come of it.
type Compared struct {
	Tunnel   *pair.Tunnel
	Attempts []Attempt // one an initiator
	Lines    []Line    // none where one end was not given
}

// Compare compares both ends of every tunnel, by the table of settings.
func Compare(e *pair.Whole, table []*settings.Row) []Compared {
	var out []Compared
	for _, t := range e.Tunnels {
		attempts := Tunnel(t)
		out = append(out, Compared{t, attempts, Lines(t, attempts, table)})
	}
	return out
}

// Disagrees reports whether anything was compared that does not fit.
func (c Compared) Disagrees() bool {
	return slices.ContainsFunc(c.Lines, func(l Line) bool { return l.Differs }) ||
		slices.ContainsFunc(c.Attempts, func(a Attempt) bool { return a.Outcome == Fails || a.Outcome == Partly })
}

// Line is one thing that both ends say, in their own words, with what they agree on.
type Line struct {
	Setting *settings.Row
	Name    string // for people
	Child   string // the child that it belongs to; "" for the connection
	Values  [2]Value
	Agreed  string // "" where nothing is negotiated, or where they do not agree
	Differs bool   // the two do not fit each other
}

// Value is what one end says.
type Value struct {
	Text    string
	Default bool
	At      source.Pos
}

// Lines lays both ends of a tunnel side by side, by the table of settings. Of a tunnel with one end there is nothing to compare.
func Lines(t *pair.Tunnel, attempts []Attempt, table []*settings.Row) []Line {
	if len(t.Ends) < 2 {
		return nil
	}
	c := &comparison{t: t, attempts: attempts, ends: [2]pair.End{t.Ends[0], t.Ends[1]}, table: table}
	c.level(settings.OfConnection, pair.ChildPair{}, "")
	for _, p := range t.Children() {
		c.child(p)
	}
	return c.lines
}

type comparison struct {
	t        *pair.Tunnel
	attempts []Attempt
	ends     [2]pair.End
	table    []*settings.Row
	lines    []Line
}

// both is what both ends are told of a setting.
type both struct {
	of     [2]settings.Subject
	said   [2]settings.Shown
	values [2]Value
	kids   pair.ChildPair
}

// verdict is what comes of both: what the two agree on, and whether they do not fit.
type verdict struct {
	agreed  string
	differs bool
	partly  bool // what is agreed is worth saying although they differ
}

// settled are the settings that the two ends settle in a way of their own.
var settled = map[*settings.Row]func(c *comparison, p *both) verdict{
	settings.IKEVersion.Row:     (*comparison).version,
	settings.IKEProposals.Row:   (*comparison).ikeProposals,
	settings.ChildProposals.Row: (*comparison).childProposals,
	settings.PFS.Row:            (*comparison).pfs,
	settings.Mode.Row:           (*comparison).mode,
	settings.Start.Row:          (*comparison).start,
	settings.WholeNetworks.Row:  (*comparison).otherNetworks,
}

// mirrored are the settings of which one end's own value is judged by what the other accepts in a way of its own: end i says, the other
// expects.
var mirrored = map[*settings.Row]func(c *comparison, p *both, i int) verdict{
	settings.OwnAddress.Row:        (*comparison).address,
	settings.OwnIdentity.Row:       (*comparison).identity,
	settings.OwnAuthentication.Row: (*comparison).authentication,
	settings.OwnNetworks.Row:       (*comparison).networks,
}

// otherNetworks says what each end does with networks that are not its own; a daemon that compares none does nothing.
func (c *comparison) otherNetworks(p *both) verdict {
	for i, e := range c.ends {
		if e.Connection.Daemon.Children.OwnSelectors {
			p.values[i].Text = "not compared: its own alone"
		}
	}
	return verdict{}
}

// level compares every setting of connections or children.
func (c *comparison) level(of settings.Level, kids pair.ChildPair, name string) {
	subjects := [2]settings.Subject{{Connection: c.ends[0].Connection, Child: kids.A}, {Connection: c.ends[1].Connection, Child: kids.B}}
	for _, r := range c.table {
		if r.Of != of || r.Derived || !r.Told(subjects[:]...) {
			continue
		}
		switch {
		case r.Relation == settings.Mirrored && r.Each == "": // the other row's mirror image
		case r.Relation == settings.Mirrored:
			c.mirror(r, subjects, kids, name)
		default:
			c.compare(r, subjects, kids, name)
		}
		if r == settings.OwnAuthentication.Row {
			c.key()
		}
	}
}

// mirror compares what each end says of itself with what the other expects: a row an end.
func (c *comparison) mirror(r *settings.Row, subjects [2]settings.Subject, kids pair.ChildPair, name string) {
	other := settings.Named(r.Peer)
	for i, e := range c.ends {
		p := &both{of: subjects, kids: kids}
		p.said[i], _ = r.Get(subjects[i])
		p.said[1-i], _ = other.Get(subjects[1-i])
		p.values = [2]Value{valueOf(p.said[0]), valueOf(p.said[1])}
		v := verdict{agreed: p.said[i].Text, differs: p.said[0].Text != p.said[1].Text}
		if judge := mirrored[r]; judge != nil {
			v = judge(c, p, i)
		}
		c.add(r, r.EachOf(e.Gateway.Name), name, p.values, v)
	}
}

// compare lays a setting of both ends side by side.
func (c *comparison) compare(r *settings.Row, subjects [2]settings.Subject, kids pair.ChildPair, name string) {
	p := &both{of: subjects, kids: kids}
	for i := range subjects {
		said, ok := r.Get(subjects[i])
		if !ok {
			said = settings.Shown{Text: "has no place here"}
		}
		p.said[i], p.values[i] = said, valueOf(said)
	}
	a, b := p.said[0], p.said[1]
	var v verdict
	switch judge := settled[r]; {
	case judge != nil:
		v = judge(c, p)
	case r.Relation == settings.Equal || r.Relation == settings.Negotiated:
		v = verdict{agreed: a.Text, differs: a.Text != b.Text}
	case r.Relation == settings.Shorter:
		v.agreed = shorter(a, b)
	case r.Relation == settings.Either:
		for _, s := range p.said {
			if on, is := s.Value.(bool); is && on {
				v.agreed = s.Text
			}
		}
	}
	c.add(r, r.Label(subjects[0]), name, p.values, v)
}

func valueOf(s settings.Shown) Value { return Value{s.Text, s.Default, s.At} }

func (c *comparison) add(setting *settings.Row, name, child string, values [2]Value, v verdict) {
	if v.differs && !v.partly {
		v.agreed = ""
	}
	c.lines = append(c.lines, Line{setting, name, child, values, v.agreed, v.differs})
}

// shorter returns the shorter of two limits, zero being none.
func shorter(a, b settings.Shown) string {
	size := func(s settings.Shown) uint64 {
		switch v := s.Value.(type) {
		case time.Duration:
			return uint64(v)
		case uint64:
			return v
		}
		return 0
	}
	if n, m := size(a), size(b); n == 0 || m != 0 && m < n {
		return b.Text
	}
	return a.Text
}

// side is one end as negotiation sees it.
func (c *comparison) side(i int) side {
	e := c.ends[i]
	return side{End: e, c: e.Connection, own: c.t.Own(e)}
}

func (c *comparison) address(p *both, i int) verdict {
	own, expected := p.of[i].Connection.LocalAddrs.Value, p.of[1-i].Connection.RemoteAddrs.Value
	fits := own.Any() || expected.Any() || hasName(expected) ||
		slices.ContainsFunc(own, func(a model.Address) bool { one, ok := a.Single(); return !ok || covers(expected, one) })
	return verdict{differs: !fits}
}

func (c *comparison) identity(p *both, i int) verdict {
	id, known := shown(c.side(i))
	if !known {
		return verdict{}
	}
	if p.of[i].Connection.Local.ID.Value.Kind == ike.NoID {
		p.values[i].Text = id.String()
	}
	return verdict{agreed: id.String(), differs: !p.of[1-i].Connection.Remote.ID.Value.Accepts(id)}
}

func (c *comparison) authentication(p *both, i int) verdict {
	own, expected := p.of[i].Connection.Local.Method.Value, p.of[1-i].Connection.Remote.Method.Value
	return verdict{agreed: own.String(), differs: !allows(expected, own)}
}

// key says whether both ends hold the same pre-shared key, and never what it is.
func (c *comparison) key() {
	var keys [2]*model.Key
	var values [2]Value
	attempts := [2]*attempt{begin(c.t, c.ends[0], c.ends[1]), begin(c.t, c.ends[1], c.ends[0])}
	none := false
	for i, e := range c.ends {
		if e.Connection.Local.Method.Value != ike.PSK && c.ends[1-i].Connection.Local.Method.Value != ike.PSK {
			return
		}
		begins, responds := attempts[i].keyOf(attempts[i].i), attempts[1-i].keyOf(attempts[1-i].r)
		if keys[i] = begins; begins == nil {
			keys[i] = responds
		}
		if !e.Gateway.Given() {
			values[i].Text = "not given"
			continue
		}
		none = none || begins == nil || responds == nil
		switch {
		case keys[i] == nil:
			values[i].Text = "none for this peer"
		case begins == nil:
			values[i] = Value{Text: "set, and not found as initiator", At: keys[i].At}
		case responds == nil:
			values[i] = Value{Text: "set, and not found as responder", At: keys[i].At}
		default:
			values[i] = Value{Text: "set", At: keys[i].At}
		}
	}
	v := verdict{}
	if keys[0] != nil && keys[1] != nil {
		a := attempts[0]
		v.agreed, v.differs = "the same", !a.takes(a.r, keys[1], keys[0]) || !a.takes(a.i, keys[0], keys[1])
		if v.differs {
			values[0].Text, values[1].Text = "set, another", "set, another"
		}
	}
	v.differs = v.differs || none
	c.add(settings.PreSharedKey, settings.PreSharedKey.Term, "", values, v)
}

// version says which version of IKE the attempts came to.
func (c *comparison) version(*both) verdict {
	v, versions := verdict{}, map[ike.Version]bool{}
	for _, at := range c.attempts {
		v.differs = v.differs || at.Failure != nil && at.Failure.Topic == Version
		if at.IKE.Transforms[ike.Encryption].Algorithm != nil {
			versions[at.Version] = true
		}
	}
	for _, known := range []ike.Version{ike.V1, ike.V2} {
		if versions[known] {
			v.agreed = known.String()
		}
	}
	return v
}

func (c *comparison) ikeProposals(*both) verdict {
	v := verdict{}
	var agreed []string
	for _, at := range c.attempts {
		switch {
		case at.Failure != nil && at.Failure.Topic == Version:
		case at.Failure != nil && at.Failure.Topic == Proposals && at.IKE.Transforms[ike.Encryption].Algorithm == nil:
			v.differs = true
		case at.IKE.Transforms[ike.Encryption].Algorithm != nil && !slices.Contains(agreed, at.IKE.String()):
			agreed = append(agreed, at.IKE.String())
		}
	}
	v.agreed = strings.Join(agreed, "")
	if len(agreed) == 2 {
		v.agreed = fmt.Sprintf(
			"%s if %s initiates; %s if %s does",
			agreed[0],
			c.attempts[0].Initiator.Gateway.Name,
			agreed[1],
			c.attempts[1].Initiator.Gateway.Name,
		)
	}
	return v
}

// suites names the suite of a pair of children: one, or one for either initiator.
func (c *comparison) suites(p pair.ChildPair) string {
	var by []string
	suites := map[string]bool{}
	for _, a := range c.attempts {
		for _, k := range a.Children {
			if k.Outcome == Agrees && (k.Of == p.A && k.With == p.B || k.Of == p.B && k.With == p.A) {
				suites[k.Suite.String()] = true
				by = append(by, fmt.Sprintf("%s if %s initiates", k.Suite, a.Initiator.Gateway.Name))
			}
		}
	}
	if len(suites) == 1 {
		for s := range suites {
			return s
		}
	}
	return strings.Join(by, "; ")
}

// outcome returns what the attempts came to for a pair of children, an agreement before a failure; nil for nothing.
func (c *comparison) outcome(p pair.ChildPair) *Child {
	var done *Child
	for i := range c.attempts {
		for j := range c.attempts[i].Children {
			k := &c.attempts[i].Children[j]
			if (k.Of == p.A || k.Of == p.B) && (done == nil || done.Outcome != Agrees) {
				done = k
			}
		}
	}
	return done
}

// child compares what is said of a child, or says that one end has none.
func (c *comparison) child(p pair.ChildPair) {
	name := ""
	kids := [2]*model.Child{p.A, p.B}
	for _, k := range kids {
		if k != nil && !strings.Contains(name, k.Name) {
			name = strings.TrimPrefix(name+" = "+k.Name, " = ")
		}
	}
	if p.A != nil && p.B != nil {
		c.level(settings.OfChild, p, name)
		return
	}
	var values [2]Value
	for i, k := range kids {
		values[i] = Value{Text: "no such child"}
		if k != nil {
			values[i] = Value{Text: fmt.Sprintf("%s to %s", k.Local.Value, k.Remote.Value), At: k.At}
		}
	}
	c.add(settings.OwnNetworks.Row, "networks", name, values, verdict{differs: true})
}

func (c *comparison) networks(p *both, i int) verdict {
	own, seen := p.of[i].Child.Local.Value.At(c.t.Own(c.ends[i])), p.of[1-i].Child.Remote.Value.At(c.t.Peer(c.ends[1-i]))
	both := own.Meet(seen)
	differs := !own.Packets().Equal(seen.Packets()) && !own.Dynamic() && !seen.Dynamic()
	return verdict{agreed: both.String(), differs: differs, partly: len(both) > 0}
}

func (c *comparison) childProposals(p *both) verdict {
	done := c.outcome(p.kids)
	failed := done != nil && done.Failure != nil && done.Failure.Notify == "NO_PROPOSAL_CHOSEN"
	return verdict{agreed: c.suites(p.kids), differs: failed}
}

// pfs says by which group a child is renewed, and whether the renewal fails for it.
func (c *comparison) pfs(p *both) verdict {
	a, b := p.kids.A, p.kids.B
	_, ab := create(a.Proposals.Value, b.Proposals.Value, ike.OwnOrder)
	_, ba := create(b.Proposals.Value, a.Proposals.Value, ike.OwnOrder)
	v := verdict{differs: (!ab || !ba) && groupsOf(a.Proposals.Value) != groupsOf(b.Proposals.Value)}
	done := c.outcome(p.kids)
	if done != nil && done.Outcome == Agrees && (a.PFS.Value || b.PFS.Value) { // a daemon of one of them does not go by its proposals alone
		v.differs = done.Rekey.ByInitiator != Agrees || done.Rekey.ByResponder != Agrees
	}
	if done != nil && done.Outcome == Agrees && done.Rekey.Suite.Transforms[ike.KeyExchange].Algorithm != nil {
		v.agreed = done.Rekey.Suite.Transforms[ike.KeyExchange].Label()
	}
	return v
}

func (c *comparison) mode(p *both) verdict {
	v := verdict{differs: p.kids.A.Mode.Value != p.kids.B.Mode.Value, partly: true}
	if done := c.outcome(p.kids); done != nil && done.Outcome == Agrees {
		v.agreed = done.Mode.String()
	}
	return v
}

func (c *comparison) start(p *both) verdict {
	return verdict{differs: p.kids.A.Start.Value == model.StartNever && p.kids.B.Start.Value == model.StartNever}
}
