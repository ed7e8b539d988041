package fix

import (
	"cmp"
	"slices"
	"strings"
	"sync"
	"time"

	"toril/audit"
	"toril/daemon/form"
	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/pair"
)

// fixer knows ways to fix the findings of some checks.
type fixer struct {
	checks []string
	ways   func(*Case) []Change // the best first; each is tried
	why    string               // why there may be none
}

// ways are the changes that may fix a finding, the best first, or why there are none.
func ways(c *Case) (out []Change, why string) {
	if c.Gateway == nil {
		return nil, "it is about no gateway's file"
	}
	for _, f := range fixers() {
		if !slices.Contains(f.checks, c.Finding.Check) {
			continue
		}
		if f.ways != nil {
			out = f.ways(c)
		}
		if len(out) == 0 {
			return nil, cmp.Or(c.unwritten, f.why)
		}
		return out, ""
	}
	return nil, byArea()[c.Finding.Check[:strings.IndexByte(c.Finding.Check, '/')]]
}

// byArea says why findings of an area without a fixer have no mechanical fix.
var byArea = sync.OnceValue(func() map[string]string {
	return map[string]string{
		"key":      "a key, or a certificate, is made and handed over by people, not written by a tool",
		"access":   "which traffic is wanted only its owner knows: declare it in toril.yaml, then write the rules",
		"domain":   "which networks belong to the tunnel only its owner knows",
		"route":    "Toril writes no routes and no interfaces: change them where the system has them, and save its state again",
		"read":     "what could not be read cannot be edited safely",
		"observed": "status is what happened: change the configuration, load it, and save the status again",
		"policy":   "an exception is its owner's to renew or to withdraw",
		"ends":     "which end is right only people know",
		"nat":      "which traffic is to be translated only its owner knows",
		"life":     "what was meant cannot be told from what is written",
		"ike":      "it depends on what the far end can do",
		"esp":      "it depends on what the far end can do",
		"pfs":      "it depends on what the far end can do",
		"tidy":     "whether it is still wanted only its owner knows",
	}
})

// fixers is the list of all fixers.
func fixers() []fixer {
	const far = "the far end was not given, and both must change"
	const rule = "the format of the rule is not one that Toril writes"
	return []fixer{
		{[]string{"ike/weak-algorithm", "ike/downgrade", "ike/weaker-first"}, ikeProposals, far},
		{[]string{"esp/weak-algorithm", "esp/downgrade", "esp/no-encryption", "esp/no-integrity", "esp/ah-alone", "pfs/absent",
			"pfs/optional", "pfs/weak-group", "pfs/weaker-than-ike", "ends/pfs-differs", "life/no-byte-limit"}, childProposals, far},
		{[]string{"ends/proposals-differ", "ends/weaker-than-possible"}, eitherProposals, far},
		{[]string{"ike/version-1", "ike/version-open", "ends/version-differs"}, versions, far},
		{[]string{"ike/aggressive-key"}, setting(settings.IKEv1Mode, false, "main mode"), far},
		{[]string{"ike/no-liveness"}, setting(settings.Liveness, 30*time.Second, "a liveness check every 30 s"), ""},
		{[]string{"ike/identity-open"}, identity, "the far end was not given, so its identity is not known"},
		{[]string{"life/ike-too-long"}, lifetimes(settings.IKELifetime, 24*time.Hour, 8*time.Hour, 4*time.Hour), ""},
		{[]string{"life/child-too-long"}, lifetimes(settings.ChildLifetime, 8*time.Hour, time.Hour), ""},
		{[]string{"life/no-hard-limit"}, lifetimes(settings.ChildHardLifetime, 66*time.Minute), ""},
		{[]string{"life/child-longer-than-ike"}, lifetimes(settings.ChildLifetime, time.Hour), ""},
		{
			[]string{"life/unit", "life/too-short", "life/margin"},
			nil,
			"what was meant, a time or an amount and in which unit, only " +
				"its author knows",
		},
		{[]string{"ends/lifetimes-differ"}, sameLifetimes, far},
		{[]string{"ends/both-wait", "route/clear-when-down"}, trap, "the file does not say how the child is started"},
		{[]string{"ends/mode-differs", "esp/transport"}, setting(settings.Mode, ike.Tunnel, "tunnel mode"), ""},
		{[]string{"esp/replay"}, setting(settings.ReplayWindow, 32, "a replay window of 32 packets"), ""},
		{[]string{"esp/compression"}, setting(settings.IPComp, false, "no compression"), ""},
		{[]string{"nat/rewritten", "nat/late-exemption", "nat/narrow-exemption"}, exempt(audit.ExemptByPolicy), rule},
		{[]string{"nat/outer-rewritten"}, exempt(audit.ExemptESP), rule},
		{[]string{"nat/leftover-exemption", "access/redundant", "access/never-matches", "access/shadowed"}, remove, rule},
		{[]string{"access/ike-closed"}, openIKE, rule},
		{[]string{"access/no-log"}, logged, rule},
		{[]string{"access/answers-stopped"}, accept(answers), rule},
		{[]string{"access/no-icmp", "access/no-mss"}, accept(tooBig, answers), rule},
		{[]string{"tidy/said-twice", "tidy/unused"}, remove, "the statement does not stand by itself on its lines"},
		{[]string{"ends/identity-differs", "ends/authentication-differs"}, nil, "which identity is right only people know: it is " +
			"part of what both ends agreed on"},
		{[]string{"ends/not-mirrored", "ends/any-against-list", "ends/several-networks"}, nil, "which networks are meant only " +
			"their owners know: write them down, then make one end the mirror of the other"},
		{
			[]string{"access/default-accept"},
			nil,
			"dropping what matches no rule stops whatever relies on it: accept that by rules first",
		},
		{[]string{"ike/quantum"}, nil, "it needs a key exchange, or a post-quantum key, that both daemons know"},
	}
}

// try adds a change to others where it can be written.
func (c *Case) try(to []Change, says string, sets ...set) []Change {
	change, err := c.change(says, sets...)
	if err != nil {
		c.unwritten = cmp.Or(c.unwritten, err.Error())
		return to
	}
	return append(to, change)
}

// setting makes ways that set one setting: at the finding's end, else at both.
func setting[T any](s settings.Setting[T], value T, says string) func(*Case) []Change {
	return func(c *Case) []Change {
		if c.Tunnel == nil {
			return nil
		}
		var k *model.Child
		if s.Row.Of == settings.OfChild {
			k = c.Child
		}
		own := to(c.End, k, s, value)
		out := c.try(nil, says, own)
		if c.Far.Gateway != nil {
			far := to(c.Far, nil, s, value)
			if k != nil {
				far.child = c.mate()
			}
			out = c.try(out, says+" on the other end", far)
			out = c.try(out, says+" on both ends", own, far)
		}
		return out
	}
}

func lifetimes(s settings.Setting[time.Duration], each ...time.Duration) func(*Case) []Change {
	return func(c *Case) []Change {
		var out []Change
		for _, d := range each {
			out = append(out, setting(s, d, "a lifetime of "+form.TimeText(d))(c)...)
		}
		return out
	}
}

// sameLifetimes gives both ends the shorter of their lifetimes.
func sameLifetimes(c *Case) []Change {
	if c.Far.Gateway == nil {
		return nil
	}
	if c.Child == nil {
		d := min(c.End.Connection.Lifetime(), c.Far.Connection.Lifetime())
		return setting(settings.IKELifetime, d, "the same lifetime of the IKE SA, "+form.TimeText(d))(c)
	}
	m := c.mate()
	if m == nil {
		return nil
	}
	d := min(c.Child.Rekey.Value, m.Rekey.Value)
	return setting(settings.ChildLifetime, d, "the same lifetime of the child, "+form.TimeText(d))(c)
}

// versions sets both ends to IKEv2.
func versions(c *Case) []Change { return setting(settings.IKEVersion, ike.V2, "IKE version 2")(c) }

// identity pins the peer's identity to the one that the far end shows.
func identity(c *Case) []Change {
	if c.Far.Gateway == nil {
		return nil
	}
	id, ok := c.Far.Shows(c.Tunnel.Own(c.Far))
	if !ok || !id.Definite() {
		return nil
	}
	return c.try(nil, "the peer's identity, "+id.String(), to(c.End, nil, settings.PeerIdentity, id))
}

// trap has the child started by traffic: a policy then stands while there is no SA.
func trap(c *Case) []Change {
	if c.Tunnel == nil || c.Child == nil {
		return nil
	}
	how := func(k *model.Child) model.Start {
		if k != nil && (k.Start.Value == model.StartBoot || k.Start.Value == model.StartBoth) {
			return model.StartBoth
		}
		return model.StartTraffic
	}
	out := c.try(nil, "started by traffic", to(c.End, c.Child, settings.Start, how(c.Child)))
	if m := c.mate(); m != nil {
		out = c.try(out, "started by traffic on the other end", to(c.Far, m, settings.Start, how(m)))
		out = c.try(
			out,
			"started by traffic on both ends",
			to(c.End, c.Child, settings.Start, how(c.Child)),
			to(c.Far, m, settings.Start, how(m)),
		)
	}
	return out
}

// strongIKE and strongChild are proposals that every baseline of Toril's takes, the usual first.
var (
	strongIKE = func() [][]ike.Proposal {
		var out [][]ike.Proposal
		for _, p := range [][2]uint16{{6, 20}, {5, 19}, {7, 21}, {6, 15}} {
			q := ike.Proposal{Protocol: ike.IKE}
			q.Transforms[ike.Encryption] = ike.Choices{ike.Pick(ike.Encryption, 20, 256)}
			q.Transforms[ike.PRF] = ike.Picks(ike.PRF, p[0])
			q.Transforms[ike.KeyExchange] = ike.Picks(ike.KeyExchange, p[1])
			out = append(out, []ike.Proposal{q})
		}
		return out
	}
	strongChild = func() [][]ike.Proposal {
		var out [][]ike.Proposal
		for _, g := range []uint16{20, 19, 21, 15} {
			q := ike.Proposal{Protocol: ike.ESP}
			q.Transforms[ike.Encryption] = ike.Choices{ike.Pick(ike.Encryption, 20, 256)}
			q.Transforms[ike.KeyExchange] = ike.Picks(ike.KeyExchange, g)
			out = append(out, []ike.Proposal{q})
		}
		return out
	}
)

// ikeProposals offers lists of proposals for the IKE SA.
func ikeProposals(c *Case) []Change {
	if c.Tunnel == nil {
		return nil
	}
	return c.agree(settings.IKEProposals, ike.IKE, nil, nil, c.End.Connection.Proposals.Value, farOf(c.Far, nil), strongIKE())
}

// childProposals offers lists of proposals for a child.
func childProposals(c *Case) []Change {
	if c.Child == nil {
		return nil
	}
	m := c.mate()
	return c.agree(settings.ChildProposals, ike.ESP, c.Child, m, c.Child.Proposals.Value, farOf(c.Far, m), strongChild())
}

func farOf(far pair.End, m *model.Child) []ike.Proposal {
	switch {
	case m != nil:
		return m.Proposals.Value
	case far.Connection != nil:
		return far.Connection.Proposals.Value
	}
	return nil
}

// eitherProposals is for findings that are about the IKE SA or about a child.
func eitherProposals(c *Case) []Change {
	if c.Child == nil {
		return ikeProposals(c)
	}
	return append(childProposals(c), ikeProposals(c)...)
}

// agree offers lists of proposals: each end's own without what is weak, what the one has for the other, and what is strong anyway; at one
// end, else at both.
func (c *Case) agree(
	s settings.Setting[[]ike.Proposal],
	protocol ike.Protocol,
	k, m *model.Child,
	own, far []ike.Proposal,
	strong [][]ike.Proposal,
) (out []Change) {
	given := c.Far.Gateway != nil && (k == nil || m != nil)
	mine := func(ps []ike.Proposal) set { return to(c.End, k, s, ps) }
	theirs := func(ps []ike.Proposal) set { return to(c.Far, m, s, ps) }
	bare, bareFar := c.without(own, protocol), c.without(far, protocol)
	if len(bare) > 0 && !same(bare, own) {
		out = c.try(out, "its proposals without what is weak", mine(bare))
	}
	if !given {
		return out
	}
	if len(bareFar) > 0 && !same(bareFar, far) {
		out = c.try(out, "the far end's proposals without what is weak", theirs(bareFar))
		if len(bare) > 0 && !same(bare, own) {
			out = c.try(out, "the proposals of both ends without what is weak", mine(bare), theirs(bareFar))
		}
	}
	var lists [][]ike.Proposal
	for _, ps := range [][]ike.Proposal{bareFar, bare} {
		if len(ps) > 0 {
			lists = append(lists, ps)
			if k != nil {
				lists = append(lists, c.withGroup(ps))
			}
		}
	}
	for _, ps := range append(lists, strong...) {
		text := "the proposals " + proposalsText(ps)
		if !same(ps, own) {
			out = c.try(out, text, mine(ps))
		}
		if !same(ps, far) {
			out = c.try(out, text+" on the other end", theirs(ps))
		}
		if !same(ps, own) && !same(ps, far) {
			out = c.try(out, text+" on both ends", mine(ps), theirs(ps))
		}
	}
	return out
}

func proposalsText(ps []ike.Proposal) string {
	var out []string
	for _, p := range ps {
		out = append(out, p.Names())
	}
	return strings.Join(out, ", ")
}

func same(a, b []ike.Proposal) bool { return proposalsText(a) == proposalsText(b) }

// without returns proposals without the algorithms that the baseline advises against; a proposal that has no others is left out.
func (c *Case) without(ps []ike.Proposal, protocol ike.Protocol) []ike.Proposal {
	var out []ike.Proposal
next:
	for _, p := range ps {
		q := ike.Proposal{Protocol: p.Protocol}
		for _, r := range ike.TypesShown() {
			for _, x := range p.Of(r) {
				if level, _ := c.Baseline.Judge(protocol, x); !level.Against() {
					q.Transforms[r] = append(q.Transforms[r], x)
				}
			}
			if len(p.Of(r)) > 0 && len(q.Transforms[r]) == 0 && !p.Combined() {
				continue next
			}
			if len(p.Of(r)) > 0 && len(q.Transforms[r]) == 0 && r != ike.Integrity {
				continue next
			}
		}
		if !slices.ContainsFunc(out, func(o ike.Proposal) bool { return o.Names() == q.Names() }) {
			out = append(out, q)
		}
	}
	return out
}

// withGroup gives every proposal of a child that has no key exchange the first of the IKE SA's.
func (c *Case) withGroup(ps []ike.Proposal) []ike.Proposal {
	group := ike.FirstGroup(c.without(c.End.Connection.Proposals.Value, ike.IKE))
	if group.Algorithm == nil {
		return ps
	}
	var out []ike.Proposal
	for _, p := range ps {
		if asked, optional := p.PFS(); !asked || optional {
			p.Transforms[ike.KeyExchange] = ike.Choices{group}
		}
		if !slices.ContainsFunc(out, func(o ike.Proposal) bool { return o.Names() == p.Names() }) {
			out = append(out, p)
		}
	}
	return out
}

// exempt puts a rule that exempts before the rule that translates.
func exempt(how audit.Saying) func(*Case) []Change {
	return func(c *Case) []Change {
		var out []Change
		for _, at := range append([]audit.Evidence{c.Finding.At}, c.Finding.Also...) {
			r := ruleAt(c.Gateway, at.Pos)
			if r == nil {
				continue
			}
			if edit, ok := insertRule(c.Gateway, r, how); ok {
				out = append(out, Change{Edits: []Edit{edit}, Says: "an exemption before the rule that translates"})
			}
		}
		return out
	}
}

// remove takes the statement out that a finding is at.
func remove(c *Case) []Change {
	f := c.Gateway.File(c.Finding.At.File)
	if f == nil || c.Finding.At.Line == 0 {
		return nil
	}
	r := f.Range(c.Finding.At.Pos)
	first, last := f.LineAt(r.Start), f.LineAt(max(r.Start, r.End-1))
	alone := strings.TrimSpace(strings.Join(linesOf(f, first, last), "\n")) == strings.TrimSpace(string(f.Bytes()[r.Start:r.End]))
	if c.Finding.At.Col > 0 && !alone {
		return nil
	}
	return []Change{{Edits: []Edit{without(f, first, last)}, Says: "the statement taken out"}}
}

func linesOf(f *model.File, first, last int) []string {
	var out []string
	for n := first; n <= last; n++ {
		out = append(out, f.Line(n))
	}
	return out
}

// openIKE accepts IKE and ESP of the peer.
func openIKE(c *Case) []Change {
	if c.Tunnel == nil && c.Gateway == nil {
		return nil
	}
	peers := map[string]bool{}
	for _, conn := range c.Gateway.Connections {
		for _, a := range conn.RemoteAddrs.Value.Fixed() {
			if c.End.Connection == nil || conn == c.End.Connection {
				peers[a.String()] = true
			}
		}
	}
	var out []Change
	for _, chain := range c.Gateway.Chains {
		if chain.Hook != model.Input || chain.Kind != model.FilterChain {
			continue
		}
		for _, what := range []string{"IKE and ESP", "IKE", "ESP"} {
			if edits, ok := acceptIKE(c.Gateway, chain, peers, what); ok {
				out = append(out, Change{Edits: edits, Says: "rules that accept " + what + " of the peer"})
			}
		}
	}
	return out
}
