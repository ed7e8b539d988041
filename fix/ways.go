package fix

import (
	"cmp"
	"slices"
	"strings"
	"sync"

	"toril/audit"
	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/pair"
)

// ways are the changes that may fix a finding, the best first, or why there are none: what its check advises, at its end, at the other, and
// at both.
func ways(c *Case) (out []Change, why string) {
	if c.Gateway == nil {
		return nil, "it is about no gateway's file"
	}
	advice := c.Check.Suggest
	out = c.settings(advice)
	for _, r := range advice.Rules {
		out = append(out, c.rule(r)...)
	}
	if len(out) == 0 {
		return nil, cmp.Or(c.unwritten, advice.Else, byArea()[c.Check.Area()])
	}
	return out, ""
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

// try adds a change to others where it can be written.
func (c *Case) try(to []Change, says string, sets ...set) []Change {
	change, err := c.change(says, sets...)
	if err != nil {
		c.unwritten = cmp.Or(c.unwritten, err.Error())
		return to
	}
	return append(to, change)
}

// settings makes the changes of settings that a check advises. Proposals come last by what is strong anyway, first by what both ends have.
func (c *Case) settings(advice audit.Advice) (out []Change) {
	if c.Tunnel == nil || advice.Sets == nil {
		return nil
	}
	var proposals []*settings.Row
	all := advice.Sets(c.subject(c.End, c.Child))
	for i, x := range all {
		switch {
		case x.Setting.Of == settings.OfChild && c.Child == nil:
		case x.Setting != settings.IKEProposals.Row && x.Setting != settings.ChildProposals.Row:
			out = append(out, c.setting(advice, i, x)...)
		case !slices.Contains(proposals, x.Setting):
			proposals = append(proposals, x.Setting)
			out = append(out, c.proposals(x.Setting, all)...)
		}
	}
	return out
}

func (c *Case) subject(e pair.End, k *model.Child) *audit.Subject {
	return &audit.Subject{End: e, Tunnel: c.Tunnel, Child: k, Baseline: c.Baseline}
}

// setting sets one setting: at the finding's end, else at the other as is advised there, else at both.
func (c *Case) setting(advice audit.Advice, i int, x audit.Set) []Change {
	var k, m *model.Child
	if x.Setting.Of == settings.OfChild {
		k, m = c.Child, c.mate()
	}
	own := set{c.End, k, x.Setting, x.Value}
	says := x.Setting.Term + ": " + x.Setting.Words(x.Value)
	out := c.try(nil, says, own)
	if advice.Own || c.Far.Gateway == nil || k != nil && m == nil {
		return out
	}
	there := advice.Sets(c.subject(c.Far, m))
	if i >= len(there) {
		return out
	}
	far := set{c.Far, m, x.Setting, there[i].Value}
	out = c.try(out, says+", on the other end", far)
	return c.try(out, says+", on both ends", own, far)
}

// proposals offers lists of proposals for the IKE SA, or for a child.
func (c *Case) proposals(setting *settings.Row, all []audit.Set) []Change {
	var strong [][]ike.Proposal
	for _, x := range all {
		if ps, ok := x.Value.([]ike.Proposal); ok && x.Setting == setting {
			strong = append(strong, ps)
		}
	}
	if setting == settings.IKEProposals.Row {
		return c.agree(settings.IKEProposals, ike.IKE, nil, nil, c.End.Connection.Proposals.Value, farOf(c.Far, nil), strong)
	}
	m := c.mate()
	return c.agree(settings.ChildProposals, ike.ESP, c.Child, m, c.Child.Proposals.Value, farOf(c.Far, m), strong)
}

// rule makes a change of rules that a check advises.
func (c *Case) rule(r audit.RuleChange) []Change {
	switch r {
	case audit.ExemptEncrypted:
		return exempt(c, audit.ExemptByPolicy)
	case audit.ExemptOuter:
		return exempt(c, audit.ExemptESP)
	case audit.RemoveStatement:
		return remove(c)
	case audit.AcceptIKE:
		return openIKE(c)
	case audit.LogAccepted:
		return logged(c)
	case audit.AcceptTooBig:
		return accept(c, tooBig)
	default:
		return accept(c, answers)
	}
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
func exempt(c *Case, how audit.Saying) []Change {
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
