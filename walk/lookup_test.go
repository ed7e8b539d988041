package walk

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/model"
	"toril/packet"
)

// someRules makes a chain of many rules over few networks, with marks that rules set and ask for, and a chain that it jumps to.
func someRules(r *rand.Rand, n int) *model.Gateway {
	network := func(f packet.Field) packet.Set {
		p := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(r.IntN(3)), byte(r.IntN(8)), 0}), []int{8, 16, 24}[r.IntN(3)]).Masked()
		return packet.Prefixes(f, p)
	}
	chain := func(name string, hook model.Hook, n int) *model.Chain {
		c := &model.Chain{Family: "ip", Table: "filter", Name: name, Hook: hook}
		c.Policy.Value = model.Accept
		for i := range n {
			rule := &model.Rule{When: network(packet.Src).And(network(packet.Dst)), Of: c, Index: i}
			switch r.IntN(6) {
			case 0:
				rule.Verb = model.Drop
			case 1:
				rule.SetMark = &model.MarkChange{Value: uint32(r.IntN(3)), Mask: ^uint32(0)}
			case 2:
				rule.When, rule.Verb = rule.When.With(packet.Mark, packet.OneOf(uint64(r.IntN(3)))), model.Accept
			case 3:
				rule.Verb, rule.Target = model.Jump, "other"
			default:
				rule.When, rule.Verb = rule.When.With(packet.Dport, packet.OneOf(uint64(r.IntN(4)))), model.Accept
			}
			c.Rules = append(c.Rules, rule)
		}
		return c
	}
	g := &model.Gateway{Name: "g"}
	other := chain("other", model.NoHook, 3)
	for _, rule := range other.Rules { // it does not jump to itself
		if rule.Verb == model.Jump {
			rule.Verb = model.Return
		}
	}
	g.Chains = append(g.Chains, chain("forward", model.Forward, n), other)
	for _, rule := range g.Chains[0].Rules {
		if rule.Target != "" {
			rule.Target = other.ID()
		}
	}
	return g
}

// TestLookedUpRulesAreTheRules: a long chain decides the same whether its rules are looked up or asked one after the other.
func TestLookedUpRulesAreTheRules(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 6))
	stopped := 0
	for range 40 {
		g := someRules(r, manyRules+r.IntN(100))
		looked, plain := NewFilter(g, SelfAddresses(g)), NewFilter(g, SelfAddresses(g))
		assert.Contains(t, looked.rules, g.Chains[0], "it is long")
		assert.NotContains(t, looked.rules, g.Chains[1], "it is short")
		plain.rules = nil
		for range 5 {
			a := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(r.IntN(3)), byte(r.IntN(8)), 0}), 24)
			flow := Fresh(packet.Prefixes(packet.Src, a), "lan")
			got, want := looked.Through(model.Forward, flow), plain.Through(model.Forward, flow)
			assert.Equal(t, told(want), told(got))
			for _, v := range want {
				if v.Verb == model.Drop {
					stopped++
				}
			}
		}
	}
	assert.Greater(t, stopped, 50)
}

// told puts verdicts in words, in their order.
func told(all []Verdict) (out []string) {
	for _, v := range all {
		out = append(out, fmt.Sprint(v.Now, " ", v.Verb, " ", len(v.Steps), " ", v.Doubts.Says()))
	}
	return out
}

// TestLookedUpRoutesAreTheRoutes: where packets go is what the longest prefix says, of many routes.
func TestLookedUpRoutesAreTheRoutes(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 8))
	for range 30 {
		g := &model.Gateway{Name: "g", Interfaces: []*model.Interface{{Name: "lan"}}}
		for i := range 120 {
			a := netip.AddrFrom4([4]byte{10, byte(r.IntN(4)), byte(r.IntN(256)), 0})
			to := netip.PrefixFrom(a, []int{0, 8, 16, 24}[r.IntN(4)]).Masked()
			g.AddRoute(&model.Route{To: to, Dev: fmt.Sprint("d", i), Kind: "unicast"})
		}
		router := NewRouter(g)
		for range 30 {
			to := netip.AddrFrom4([4]byte{byte(9 + r.IntN(3)), byte(r.IntN(5)), byte(r.IntN(256)), 9})
			var best *model.Route
			for _, rt := range g.Routes {
				if rt.To.Contains(to) && (best == nil || rt.To.Bits() > best.To.Bits()) {
					best = rt
				}
			}
			hops := router.Decide(Start(packet.Range(packet.Dst, to, to)))
			if assert.Len(t, hops, 1) {
				assert.Same(t, best, hops[0].route, to)
			}
		}
	}
}

// TestWhatIsTooComplexStaysSo: whoever asks again is told so again, and does not take it for nothing.
func TestWhatIsTooComplexStaysSo(t *testing.T) {
	var o once[Outcome]
	asked := 0
	for range 3 {
		err := packet.Guard(func() {
			o.get(func() []Outcome {
				asked++
				panic(packet.TooComplex())
			})
		})
		assert.ErrorIs(t, err, packet.ErrLimit)
	}
	assert.Equal(t, 3, asked)
	for range 2 {
		assert.Len(t, o.get(func() []Outcome { asked++; return make([]Outcome, 1, 5) }), 1)
	}
	assert.Equal(t, 4, asked, "what was worked out is kept")
	o.forget()
	assert.Empty(t, o.get(func() []Outcome { return nil }))
}
