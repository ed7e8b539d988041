package walk

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"sync"

	"toril/model"
	"toril/packet"
)

// maxFlows bounds into how many flows a set may be split; beyond it the question is too complex.
const maxFlows = 1 << 12

// Verdict is what a base chain decided about a flow.
type Verdict struct {
	Flow
	Verb model.Verb  // Accept, Drop, Reject, Queue, UnknownAction, or a translation
	Rule *model.Rule // nil: the chain's policy
}

// Filter is the packet filter of a gateway, ready to be asked.
type Filter struct {
	chains map[string]*model.Chain
	bases  map[model.Hook][]*model.Chain
	self   func(out packet.Values, fam packet.Family) packet.Values // addresses that a masqueraded packet may get
	rules  map[*model.Chain]*lookup                                 // of the long chains
}

// lookup finds the rules of a chain that packets may meet.
type lookup struct {
	made  sync.Once
	index *packet.Index
}

// manyRules is from how many rules on those of a chain are looked up; fewer are asked one after the other.
const manyRules = 24

// Asked returns the rules of a chain that some packets may meet, in their order. What a rule of a filter changes of packets
// that stay in it, marks and states, is not what they are looked up by.
func (f *Filter) Asked(c *model.Chain, s packet.Set) []*model.Rule {
	l := f.rules[c]
	if l == nil {
		return c.Rules
	}
	l.made.Do(func() {
		sets := make([]packet.Set, len(c.Rules))
		for i, r := range c.Rules {
			sets[i] = r.When
		}
		l.index = packet.NewIndex(sets)
	})
	at := l.index.Meeting(s, packet.Mark, packet.State)
	out := make([]*model.Rule, len(at))
	for i, k := range at {
		out[i] = c.Rules[k]
	}
	return out
}

// NewFilter prepares the packet filter of a gateway. self gives the addresses that the gateway may use on the
// interfaces named by out.
func NewFilter(g *model.Gateway, self func(out packet.Values, fam packet.Family) packet.Values) *Filter {
	f := &Filter{
		chains: map[string]*model.Chain{}, bases: map[model.Hook][]*model.Chain{}, self: self, rules: map[*model.Chain]*lookup{},
	}
	for _, c := range g.Chains {
		if len(c.Rules) >= manyRules {
			f.rules[c] = &lookup{}
		}
		f.chains[c.ID()] = c
		if c.Hook != model.NoHook {
			f.bases[c.Hook] = append(f.bases[c.Hook], c)
		}
	}
	for hook, list := range f.bases {
		list = slices.DeleteFunc(list, func(c *model.Chain) bool { return c.Family != "ip" && c.Family != "ip6" && c.Family != "inet" })
		slices.SortStableFunc(list, func(a, b *model.Chain) int { return cmp.Compare(a.Priority, b.Priority) })
		f.bases[hook] = list
	}
	return f
}

// Bases returns the base chains of a hook that see packets of the Internet Protocol, in the order in which they do. They must not be
// changed.
func (f *Filter) Bases(h model.Hook) []*model.Chain { return slices.Clip(f.bases[h]) }

// familyOf returns the packets that a chain's family lets it see.
func familyOf(c *model.Chain) packet.Set {
	switch c.Family {
	case "ip":
		return packet.Only(packet.IPv4)
	case "ip6":
		return packet.Only(packet.IPv6)
	}
	return packet.All()
}

// Run sends a flow through one base chain. The verdicts cover the flow: every packet is in one of them, and in several
// only where the rules leave it open which.
func (f *Filter) Run(c *model.Chain, flow Flow) []Verdict {
	r := run{filter: f, base: c}
	mine := familyOf(c)
	if rest := flow.Now.Minus(mine); !rest.Empty() {
		r.done = append(r.done, Verdict{Flow: flow.with(rest), Verb: model.Accept})
		flow = flow.with(flow.Now.And(mine))
	}
	for _, left := range r.chain(c, flow, 0) {
		r.policy(left)
	}
	return r.done
}

// run is one passage through a base chain.
type run struct {
	filter *Filter
	base   *model.Chain
	done   []Verdict
}

func (r *run) policy(f Flow) {
	if f.Now.Empty() {
		return
	}
	verb := r.base.Policy.Value
	if r.base.Unsure {
		verb = model.UnknownAction
	}
	if verb != model.Accept {
		f = f.met(Step{Stage: r.base.Hook.String(), Chain: r.base, What: "policy " + verb.String()})
	}
	r.done = append(r.done, Verdict{Flow: f, Verb: verb})
}

func (r *run) decide(f Flow, rule *model.Rule, verb model.Verb) {
	if len(r.done) > maxFlows {
		panic(packet.TooComplex())
	}
	r.done = append(r.done, Verdict{Flow: f, Verb: verb, Rule: rule})
}

// chain sends a flow through the rules of a chain and returns what comes out at its end or by return.
func (r *run) chain(c *model.Chain, flow Flow, depth int) []Flow {
	var back []Flow
	flows := []Flow{flow}
	for _, rule := range r.filter.Asked(c, flow.Now) {
		if len(flows) == 0 {
			break
		}
		if len(flows) > maxFlows {
			panic(packet.TooComplex())
		}
		if !slices.ContainsFunc(flows, func(f Flow) bool { return f.Now.Overlaps(rule.When) }) {
			continue
		}
		var next []Flow
		for _, f := range flows {
			if !f.Now.Overlaps(rule.When) {
				next = append(next, f)
				continue
			}
			hit := f.with(f.Now.And(rule.When))
			if rule.Certain() {
				if miss := f.Now.Minus(rule.When); !miss.Empty() {
					next = append(next, f.with(miss))
				}
			} else { // some of the packets, nobody knows which: both ways are followed
				hit = hit.doubt(rule.Unsure...)
				next = append(next, f.doubt(rule.Unsure...))
			}
			stay, out := r.apply(c, rule, hit, depth)
			next = append(next, stay...)
			back = append(back, out...)
		}
		flows = next
	}
	return append(flows, back...)
}

// apply does what a rule does to a flow. stay goes on to the next rule; back leaves the chain by return.
func (r *run) apply(c *model.Chain, rule *model.Rule, f Flow, depth int) (stay, back []Flow) {
	if rule.SetMark != nil {
		flows := r.mark(rule, f)
		if rule.Verb == model.Continue {
			return flows, nil
		}
		for _, one := range flows {
			s, b := r.verb(c, rule, one, depth)
			stay, back = append(stay, s...), append(back, b...)
		}
		return stay, back
	}
	return r.verb(c, rule, f, depth)
}

func (r *run) mark(rule *model.Rule, f Flow) []Flow {
	f = r.step(f, rule, "sets the mark")
	if rule.SetMark.Any || rule.SetMark.Mask != ^uint32(0) {
		return f.set(packet.Mark, packet.Numbers(0, 1<<32-1), 0)
	}
	return f.set(packet.Mark, packet.OneOf(uint64(rule.SetMark.Value)), 0)
}

func (r *run) step(f Flow, rule *model.Rule, what string) Flow {
	return f.met(Step{Stage: r.base.Hook.String(), Rule: rule, Chain: rule.Of, What: what})
}

func (r *run) verb(c *model.Chain, rule *model.Rule, f Flow, depth int) (stay, back []Flow) {
	switch rule.Verb {
	case model.Continue, model.NoTrack:
		if rule.Verb == model.NoTrack {
			return r.step(f, rule, "keeps out of connection tracking").set(packet.State, packet.OneOf(packet.Untracked), 0), nil
		}
		return []Flow{f}, nil
	case model.Accept, model.Drop, model.Reject, model.Queue:
		r.decide(r.step(f, rule, rule.Verb.String()), rule, rule.Verb)
	case model.Return:
		return nil, []Flow{r.step(f, rule, "return")}
	case model.Jump, model.Goto:
		to := r.filter.chains[rule.Target]
		f = r.step(f, rule, rule.Verb.String()+" "+rule.Target)
		switch {
		case to == nil:
			r.decide(f.doubt("chain "+rule.Target+" is not defined"), rule, model.UnknownAction)
		case depth >= 16: // the kernel refuses deeper jumps (NFT_JUMP_STACK_SIZE)
			r.decide(f.doubt("the chains jump in a circle"), rule, model.UnknownAction)
		case rule.Verb == model.Jump:
			return r.chain(to, f, depth+1), nil
		default:
			return nil, r.chain(to, f, depth+1)
		}
	case model.UnknownAction:
		r.decide(r.step(f, rule, "does something that was not read"), rule, model.UnknownAction)
	default:
		r.translate(rule, f)
	}
	return nil, nil
}

// translate rewrites addresses and ports. In a chain of another type than nat, that cannot be.
func (r *run) translate(rule *model.Rule, f Flow) {
	what, to := rule.Verb.String(), rule.Writes()
	if to.Text != "" {
		what += " to " + to.Text
	}
	f = r.step(f, rule, what)
	addr, port := packet.Src, packet.Sport
	if rule.Verb == model.DestinationNAT || rule.Verb == model.Redirect {
		addr, port = packet.Dst, packet.Dport
	}
	flows := []Flow{f}
	switch {
	case to.From.IsValid():
		flows = f.shift(addr, to.From, to.Onto)
	case to.Onto.IsValid():
		flows = f.shiftEach(addr, to.Onto)
	case rule.Verb == model.Masquerade || rule.Verb == model.Redirect:
		flows = r.toSelf(f, addr)
	case !to.Addrs.Empty():
		flows = f.set(addr, to.Addrs, to.Family)
	case to.Ports.Empty():
		r.decide(f.doubt("the target of the translation was not read"), rule, model.UnknownAction)
		return
	}
	for _, one := range flows {
		ports := []Flow{one}
		if !to.Ports.Empty() {
			ports = one.setPorts(port, to.Ports)
		}
		for _, p := range ports {
			r.decide(p.translated(addr), rule, rule.Verb)
		}
	}
}

// shiftEach moves each network of a size onto another, whichever they are: the host's part of an address stays. Where they are many, an
// address of the other network may be any of its.
func (f Flow) shiftEach(field packet.Field, onto netip.Prefix) []Flow {
	const most = 64
	networks := map[netip.Prefix]bool{}
	for _, p := range f.Now.Prefixes(field) {
		if p.Addr().Is4() != onto.Addr().Is4() {
			continue
		}
		if p.Bits() < onto.Bits() || len(networks) == most {
			return f.set(field, packet.Prefix(onto), family(onto))
		}
		networks[netip.PrefixFrom(p.Addr(), onto.Bits()).Masked()] = true
	}
	var out []Flow
	for _, from := range slices.SortedFunc(maps.Keys(networks), netip.Prefix.Compare) {
		part := f.with(f.Now.And(packet.Prefixes(field, from)))
		out = joined(out, part.shift(field, from, onto))
	}
	return out
}

func family(p netip.Prefix) packet.Family {
	if p.Addr().Is4() {
		return packet.IPv4
	}
	return packet.IPv6
}

// setPorts writes a port into the packets that have one.
func (f Flow) setPorts(field packet.Field, v packet.Values) []Flow {
	with := packet.Where(packet.Proto, packet.WithPorts)
	var out []Flow
	if rest := f.Now.Minus(with); !rest.Empty() {
		out = append(out, f.with(rest))
	}
	if hit := f.Now.And(with); !hit.Empty() {
		out = append(out, f.with(hit).set(field, v, 0)...)
	}
	return out
}

// translated notes on the packets that their connection is translated, as conditions on it see: 1 is its source, 2 its destination,
// 3 both.
func (f Flow) translated(field packet.Field) Flow {
	bit, other := uint64(1), uint64(2)
	if field == packet.Dst {
		bit, other = other, bit
	}
	before := packet.Where(packet.Translated, packet.OneOf(other, 3))
	f.Now = f.Now.And(before).
		Replace(packet.Translated, packet.OneOf(3)).
		Or(f.Now.Minus(before).Replace(packet.Translated, packet.OneOf(bit)))
	return f
}

// toSelf gives the packets an address of the gateway's own.
func (r *run) toSelf(f Flow, field packet.Field) []Flow {
	var out []Flow
	by := packet.Out
	if field == packet.Dst {
		by = packet.In
	}
	for _, part := range f.Now.Parts() {
		fam := part.Families()[0]
		v := r.filter.self(part.Values(by, fam), fam)
		one := f.with(part)
		if v.Empty() {
			one = one.doubt(fmt.Sprintf("the gateway's IPv%d address on that interface is not known", fam))
			v = packet.All().Values(field, fam)
		}
		out = joined(out, one.set(field, v, fam))
	}
	return out
}
