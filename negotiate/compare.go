package negotiate

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"toril/baseline"
	"toril/estate"
	"toril/ike"
	"toril/model"
	"toril/source"
)

// Row is one thing that both ends say, in their own words, with what they agree on.
type Row struct {
	Name    string
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

func value[T any](s model.Setting[T], text string) Value { return Value{text, s.IsDefault(), s.At} }

// Rows lays both ends of a tunnel side by side. Of a tunnel with one end there is nothing to compare.
func Rows(t *estate.Tunnel, attempts []Attempt) []Row {
	if len(t.Ends) < 2 {
		return nil
	}
	c := &comparison{t: t, attempts: attempts, ends: [2]estate.End{t.Ends[0], t.Ends[1]}}
	c.peers()
	c.ike()
	for _, p := range t.Children() {
		c.child(p)
	}
	return c.rows
}

type comparison struct {
	t        *estate.Tunnel
	attempts []Attempt
	ends     [2]estate.End
	rows     []Row
}

func (c *comparison) add(name, child string, values [2]Value, agreed string, differs bool) {
	if differs {
		agreed = ""
	}
	c.rows = append(c.rows, Row{name, child, values, agreed, differs})
}

// peers compares addresses, identities and authentication: what each end says of itself with what the other expects.
func (c *comparison) peers() {
	for i, e := range c.ends {
		o := c.ends[1-i]
		own, expected := e.Connection.LocalAddrs, o.Connection.RemoteAddrs
		values := [2]Value{}
		values[i], values[1-i] = value(own, own.Value.String()), value(expected, expected.Value.String())
		fits := own.Value.Any() || expected.Value.Any() || hasName(expected.Value) || slices.ContainsFunc(own.Value, func(a model.Address) bool { one, ok := a.Single(); return !ok || covers(expected.Value, one) })
		c.add("address of "+e.Gateway.Name, "", values, "", !fits)
	}
	for i, e := range c.ends {
		o := c.ends[1-i]
		own, expected := e.Connection.Local.ID, o.Connection.Remote.ID
		values := [2]Value{}
		values[i], values[1-i] = value(own, own.Value.String()), value(expected, expected.Value.String())
		id, known := shown(side{End: e, c: e.Connection, own: c.t.Own(e)})
		if own.Value.Kind == ike.NoID && known {
			values[i].Text = id.String()
		}
		agreed := ""
		if known {
			agreed = id.String()
		}
		c.add("identity of "+e.Gateway.Name, "", values, agreed, known && !expected.Value.Accepts(id))
	}
	for i, e := range c.ends {
		o := c.ends[1-i]
		own, expected := e.Connection.Local.Method, o.Connection.Remote.Method
		values := [2]Value{}
		values[i], values[1-i] = value(own, own.Value.String()), value(expected, expected.Value.String())
		c.add(e.Gateway.Name+" authenticates", "", values, own.Value.String(), !allows(expected.Value, own.Value))
	}
	c.key()
}

// key says whether both ends hold the same pre-shared key, and never what it is.
func (c *comparison) key() {
	var keys [2]*model.Key
	var values [2]Value
	for i, e := range c.ends {
		if e.Connection.Local.Method.Value != ike.PSK && c.ends[1-i].Connection.Local.Method.Value != ike.PSK {
			return
		}
		o := c.ends[1-i]
		var own, peer []ike.Identity
		if id, ok := shown(side{End: e, c: e.Connection, own: c.t.Own(e)}); ok {
			own = append(own, id)
		}
		if id, ok := shown(side{End: o, c: o.Connection, own: c.t.Own(o)}); ok {
			peer = append(peer, id)
		}
		keys[i] = e.Gateway.KeyFor(e.Connection, own, peer)
		switch {
		case !e.Gateway.Given():
			values[i].Text = "not given"
		case keys[i] == nil:
			values[i].Text = "none for this peer"
		default:
			values[i] = Value{Text: "set", At: keys[i].At}
		}
	}
	agreed, differs := "", false
	if keys[0] != nil && keys[1] != nil {
		agreed, differs = "the same", keys[0].Secret.Fingerprint() != keys[1].Secret.Fingerprint()
		if differs {
			values[0].Text, values[1].Text = "set, another", "set, another"
		}
	}
	differs = differs || values[0].Text == "none for this peer" || values[1].Text == "none for this peer"
	c.add("pre-shared key", "", values, agreed, differs)
}

// ike compares what is said of the IKE SA.
func (c *comparison) ike() {
	a, b := c.ends[0].Connection, c.ends[1].Connection
	var agreed []string
	suites, versions := map[string]bool{}, map[string]bool{}
	differs, versionDiffers := false, false
	for _, at := range c.attempts {
		switch {
		case at.Failure != nil && at.Failure.Topic == Version:
			versionDiffers = true
		case at.Failure != nil && at.Failure.Topic == Proposals:
			differs = true
		case at.IKE.Transforms[ike.Encryption].Algorithm != nil && !suites[at.IKE.String()]:
			suites[at.IKE.String()] = true
			agreed = append(agreed, at.IKE.String())
		}
		if at.IKE.Transforms[ike.Encryption].Algorithm != nil {
			versions[at.Version.String()] = true
		}
	}
	version := ""
	for _, v := range []string{"IKEv1", "IKEv2"} {
		if versions[v] {
			version = v
		}
	}
	c.add("IKE version", "", [2]Value{value(a.Version, a.Version.Value.String()), value(b.Version, b.Version.Value.String())}, version, versionDiffers)
	if a.Version.Value == ike.V1 || b.Version.Value == ike.V1 {
		word := func(s model.Setting[bool]) Value {
			return value(s, map[bool]string{true: "aggressive", false: "main"}[s.Value])
		}
		c.add("IKEv1 mode", "", [2]Value{word(a.Aggressive), word(b.Aggressive)}, word(a.Aggressive).Text, a.Aggressive.Value != b.Aggressive.Value)
	}
	if len(agreed) == 2 {
		agreed = []string{fmt.Sprintf("%s if %s initiates; %s if %s does", agreed[0], c.attempts[0].Initiator.Gateway.Name, agreed[1], c.attempts[1].Initiator.Gateway.Name)}
	}
	c.add("IKE proposals", "", [2]Value{value(a.Proposals, spellProposals(a.Proposals.Value)), value(b.Proposals, spellProposals(b.Proposals.Value))}, strings.Join(agreed, ""), differs)
	span := func(x *model.Connection) Value {
		s := x.LifetimeSetting()
		return value(s, duration(x.Lifetime(), "never rekeyed"))
	}
	c.add("IKE lifetime", "", [2]Value{span(a), span(b)}, duration(least(a.Lifetime(), b.Lifetime()), "never rekeyed"), false)
	dpd := func(x *model.Connection) Value { return value(x.DPD, duration(x.DPD.Value, "off")) }
	c.add("liveness check", "", [2]Value{dpd(a), dpd(b)}, "", false)
	nat := func(s model.Setting[bool]) Value {
		return value(s, map[bool]string{true: "always in UDP", false: "where NAT is seen"}[s.Value])
	}
	c.add("encapsulation", "", [2]Value{nat(a.Encap), nat(b.Encap)}, map[bool]string{true: "always in UDP"}[a.Encap.Value || b.Encap.Value], false)
}

// duration writes a time; zero has words of its own.
func duration(d time.Duration, zero string) string {
	if d == 0 {
		return zero
	}
	return baseline.Span(d)
}

// spellProposals writes proposals as they are written; the daemon's own in a few words.
func spellProposals(ps []ike.Proposal) string {
	var out []string
	for i, p := range ps {
		if p.Text == "" {
			more := fmt.Sprintf("%d of the daemon's own, %s and more", len(ps)-i, p.All()[0])
			if i > 0 {
				more = "then " + more
			}
			out = append(out, more)
			break
		}
		out = append(out, p.String())
	}
	return strings.Join(out, ", ")
}

// suites names the suite of a pair of children: one, or one for either initiator.
func (c *comparison) suites(p estate.ChildPair) string {
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

// child compares what is said of a child, or says that one end has none.
func (c *comparison) child(p estate.ChildPair) {
	name := ""
	kids := [2]*model.Child{p.A, p.B}
	for _, k := range kids {
		if k != nil && !strings.Contains(name, k.Name) {
			name = strings.TrimPrefix(name+" = "+k.Name, " = ")
		}
	}
	if p.A == nil || p.B == nil {
		var values [2]Value
		for i, k := range kids {
			values[i] = Value{Text: "no such child"}
			if k != nil {
				values[i] = Value{Text: fmt.Sprintf("%s to %s", k.Local.Value, k.Remote.Value), At: k.At}
			}
		}
		c.add("networks", name, values, "", true)
		return
	}
	var done *Child
	for i := range c.attempts {
		for j := range c.attempts[i].Children {
			k := &c.attempts[i].Children[j]
			if (k.Of == p.A || k.Of == p.B) && (done == nil || done.Outcome != Agrees) {
				done = k
			}
		}
	}
	for i, e := range c.ends {
		mine, theirs := kids[i].Local, kids[1-i].Remote
		values := [2]Value{}
		values[i], values[1-i] = value(mine, mine.Value.String()), value(theirs, theirs.Value.String())
		own, seen := mine.Value.At(c.t.Own(e)), theirs.Value.At(c.t.Peer(c.ends[1-i]))
		both := own.Meet(seen)
		differs := !own.Packets().Equal(seen.Packets()) && !own.Dynamic() && !seen.Dynamic()
		c.add("networks of "+e.Gateway.Name, name, values, both.String(), differs)
		if len(both) > 0 {
			c.rows[len(c.rows)-1].Agreed = both.String()
		}
	}
	suite := c.suites(p)
	what := p.A.Protocol.Value.String() + " proposals"
	failed := done != nil && done.Failure != nil && done.Failure.Notify == "NO_PROPOSAL_CHOSEN"
	c.add(what, name, [2]Value{value(p.A.Proposals, spellProposals(p.A.Proposals.Value)), value(p.B.Proposals, spellProposals(p.B.Proposals.Value))}, suite, failed)
	pfs := func(k *model.Child) Value { return value(k.Proposals, groupsOf(k)) }
	_, ab := create(p.A.Proposals.Value, p.B.Proposals.Value, false)
	_, ba := create(p.B.Proposals.Value, p.A.Proposals.Value, false)
	renewed, bites := "", (!ab || !ba) && groupsOf(p.A) != groupsOf(p.B)
	if done != nil && done.Outcome == Agrees && done.Rekey.Suite.Transforms[ike.KeyExchange].Algorithm != nil {
		renewed = done.Rekey.Suite.Transforms[ike.KeyExchange].Label()
	}
	c.add("PFS", name, [2]Value{pfs(p.A), pfs(p.B)}, renewed, bites)
	mode := [2]Value{value(p.A.Mode, p.A.Mode.Value.String()), value(p.B.Mode, p.B.Mode.Value.String())}
	agreedMode := ""
	if done != nil && done.Outcome == Agrees {
		agreedMode = done.Mode.String()
	}
	c.add("mode", name, mode, agreedMode, p.A.Mode.Value != p.B.Mode.Value)
	if p.A.Mode.Value != p.B.Mode.Value {
		c.rows[len(c.rows)-1].Agreed = agreedMode
	}
	life := func(k *model.Child) Value {
		return value(k.Rekey, duration(k.Rekey.Value, "never rekeyed"))
	}
	c.add("lifetime", name, [2]Value{life(p.A), life(p.B)}, duration(least(p.A.Rekey.Value, p.B.Rekey.Value), "never rekeyed"), false)
	start := func(k *model.Child) Value { return value(k.Start, k.Start.Value.String()) }
	waits := p.A.Start.Value == model.StartNever && p.B.Start.Value == model.StartNever
	c.add("started", name, [2]Value{start(p.A), start(p.B)}, "", waits)
}
