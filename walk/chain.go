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
	doubts model.Doubts                                             // about the filter as a whole
	lacks  *model.Lacking                                           // what was not given; nil where that is not asked for
	name   string                                                   // of the gateway
	made   sync.Map                                                 // *model.Doubt, by the rule and the reason
}

// of notes what was not given of a gateway's filter.
func (f *Filter) of(g *model.Gateway) {
	f.doubts = g.Doubts(model.AboutFilter)
	f.lacks = g.Lacks()
}

// doubt returns the doubt that a rule gives for a reason of the walk's own; nil stands for no rule. It is the same each time.
func (f *Filter) doubt(rule *model.Rule, why string) *model.Doubt {
	type key struct {
		rule *model.Rule
		why  string
	}
	if d, ok := f.made.Load(key{rule, why}); ok {
		return d.(*model.Doubt)
	}
	d := &model.Doubt{Cause: model.Undecided, Gateway: f.name, Why: why}
	if rule != nil {
		d.Cause, d.At = model.NotRead, rule.At
	}
	made, _ := f.made.LoadOrStore(key{rule, why}, d)
	return made.(*model.Doubt)
}

// doubtsOf are the doubts about a rule that is not certain.
func (f *Filter) doubtsOf(rule *model.Rule) model.Doubts {
	if rule.Certain() {
		return model.Doubts{f.doubt(rule, "what the rule does was not understood")}
	}
	return rule.Doubts
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
	at := l.index.Meeting(s, packet.Mark, packet.ConnMark, packet.State)
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
		doubts: g.Doubts(model.AboutFilter), name: g.Name,
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

// Run sends a flow through one base chain. The verdicts cover the flow: every packet is in one of them, which is what becomes of it if
// rules that were not understood change nothing, and conditions that no file decides are as they usually are. Where something else may
// become of it, the verdict says why.
func (f *Filter) Run(c *model.Chain, flow Flow) []Verdict {
	done := f.run(c, flow)
	if len(flow.open) == 0 || flow.Now.Empty() {
		return done
	}
	other := flow
	other.open = nil
	var fields []packet.Field
	for _, u := range flow.open {
		fields = append(fields, u.field)
		other = other.beside(u.doubts)
	}
	other.Now = other.Now.Free(fields...)
	return settled(append(done, f.run(c, other)...), fields...)
}

func (f *Filter) run(c *model.Chain, flow Flow) []Verdict {
	r := run{filter: f, base: c}
	mine := familyOf(c)
	if rest := flow.Now.Minus(mine); !rest.Empty() {
		r.done = append(r.done, Verdict{Flow: flow.with(rest), Verb: model.Accept})
		flow = flow.with(flow.Now.And(mine))
	}
	for _, left := range r.chain(c, flow, 0) {
		r.policy(left)
	}
	if !r.doubtful || flow.aside {
		return r.done
	}
	return settled(r.done)
}

// settled leaves out of some verdicts those that come of doubts alone. What they say is noted as a doubt about packets of the others where
// it is something else. The fields are those that do not tell packets apart.
func settled(all []Verdict, apart ...packet.Field) []Verdict {
	var out, aside []Verdict
	for _, v := range all {
		if v.aside {
			aside = append(aside, v)
		} else {
			out = append(out, v)
		}
	}
	apart = append(slices.Clip(apart), packet.Translated) // what it was before is not kept
	for _, a := range aside {
		was := a.Was().Free(apart...)
		var next []Verdict
		for _, v := range out {
			if v.same(a) || len(v.Doubts) > 0 && v.Doubts.Hold(a.Doubts) {
				next = append(next, v)
				continue
			}
			next = append(next, v.doubted(was, a.Doubts, apart)...)
		}
		if len(next) > maxFlows {
			panic(packet.TooComplex())
		}
		out = next
	}
	return out
}

// same reports whether two verdicts mean the same for a packet.
func (v Verdict) same(w Verdict) bool {
	if v.Verb == model.UnknownAction || w.Verb == model.UnknownAction {
		return false
	}
	drops := func(verb model.Verb) bool { return verb == model.Drop || verb == model.Reject }
	if drops(v.Verb) || drops(w.Verb) {
		return drops(v.Verb) && drops(w.Verb)
	}
	return v.Verb == w.Verb && (v.like(w.Flow) || v.Rule != nil && v.Rule == w.Rule)
}

// doubted notes doubts on those packets of a verdict that are, as they were at first, in a set: apart from the others, where nothing was
// rewritten.
func (v Verdict) doubted(was packet.Set, why model.Doubts, apart []packet.Field) []Verdict {
	hit := v.Was().Free(apart...).And(was)
	if hit.Empty() {
		return []Verdict{v}
	}
	rest := packet.None()
	if !v.Changed() {
		rest = v.Now.Minus(was)
	}
	if rest.Empty() {
		v.Flow = v.doubt(why...)
		return []Verdict{v}
	}
	other := v
	other.Flow = v.with(rest)
	v.Flow = v.with(v.Now.And(was)).doubt(why...)
	return []Verdict{v, other}
}

// run is one passage through a base chain.
type run struct {
	filter   *Filter
	base     *model.Chain
	done     []Verdict
	doubtful bool // some verdicts come of doubts alone
}

func (r *run) policy(f Flow) {
	if f.Now.Empty() {
		return
	}
	verb := r.base.Policy.Value
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
	flows := []Flow{flow.doubt(c.Doubts...)}
	for _, rule := range r.filter.Asked(c, flow.Now) {
		if len(flows) == 0 {
			break
		}
		if len(flows) > maxFlows {
			panic(packet.TooComplex())
		}
		certain := rule.Certain() && rule.Verb != model.UnknownAction
		if !certain && !rule.Acts() || !slices.ContainsFunc(flows, func(f Flow) bool { return f.Now.Overlaps(rule.When) }) {
			continue
		}
		var next []Flow
		for _, f := range flows {
			if !f.Now.Overlaps(rule.When) {
				next = append(next, f)
				continue
			}
			if miss := f.Now.Minus(rule.When); !miss.Empty() {
				next = append(next, f.with(miss))
			}
			for _, part := range r.byBits(rule, f.with(f.Now.And(rule.When))) {
				switch {
				case part.holds == never:
					next = append(next, part.Flow)
					continue
				case part.holds == maybe: // both ways are followed
					r.doubtful = true
					passing := part.Flow
					if why := r.filter.doubtsOf(rule); rule.Usually() && rule.Verb != model.UnknownAction {
						passing = passing.beside(why)
					} else {
						part.Flow = part.beside(why)
					}
					next = append(next, passing)
				}
				stay, out := r.apply(c, rule, part.Flow, depth)
				next = append(next, stay...)
				back = append(back, out...)
			}
		}
		if flows = next; !certain {
			flows = besides(flows)
		}
	}
	return append(flows, back...)
}

// hit is a part of a flow that meets what a rule says of packets, and whether it meets its other conditions.
type hit struct {
	Flow
	holds holds
}

type holds uint8

const (
	maybe holds = iota
	always
	never
)

// byBits splits a flow by whether it meets a rule, as far as single bits of its marks tell.
func (r *run) byBits(rule *model.Rule, f Flow) []hit {
	how := maybe
	if rule.Certain() && rule.Verb != model.UnknownAction {
		how = always
	}
	if len(rule.Bits) == 0 {
		return []hit{{f, how}}
	}
	parts := f.Now.Parts()
	if len(parts) > maxMarks {
		return []hit{{f, how}}
	}
	if !slices.ContainsFunc(rule.Doubts, func(d *model.Doubt) bool { return d.Why != model.SingleBits }) {
		how = always
	}
	var out []hit
	for _, part := range parts {
		one := hit{f.with(part), how}
		for _, b := range rule.Bits {
			field := packet.Mark
			if b.Conn {
				field = packet.ConnMark
			}
			switch mark, known := part.Single(field); {
			case !known && one.holds == always:
				one.holds = maybe
			case known && !b.Of(mark):
				one.holds = never
			}
		}
		out = append(out, one)
	}
	return out
}

// besides leaves out flows that come of doubts alone where others go the same way from here on.
func besides(flows []Flow) []Flow {
	return slices.DeleteFunc(flows, func(f Flow) bool {
		if !f.aside {
			return false
		}
		rest := f.Now
		for _, g := range flows {
			if !g.aside && g.like(f) {
				rest = rest.Minus(g.Now)
			}
		}
		return rest.Empty()
	})
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

// mark sets the mark of packets, or of their connection.
func (r *run) mark(rule *model.Rule, f Flow) []Flow {
	m := rule.SetMark
	into, from, what := packet.Mark, packet.ConnMark, "sets the mark"
	if m.Conn {
		into, from, what = packet.ConnMark, packet.Mark, "sets the mark of the connection"
	}
	f = r.step(f, rule, what)
	if !m.Any && !m.Copy && m.Mask == ^uint32(0) {
		return f.set(into, packet.OneOf(uint64(m.Value)), 0)
	}
	any, parts := packet.Numbers(0, 1<<32-1), f.Now.Parts()
	if m.Any || len(parts) > maxMarks {
		return f.set(into, any, 0)
	}
	var out []Flow
	for _, part := range parts {
		was, known := part.Single(into)
		value, told := m.Value, true
		if m.Copy {
			value, told = part.Single(from)
		}
		known = known || m.Mask == ^uint32(0) // none of it stays
		to := any
		if known && told {
			to = packet.OneOf(uint64(was&^m.Mask | value&m.Mask))
		}
		out = joined(out, f.with(part).set(into, to, 0))
	}
	return out
}

// maxMarks is how many parts of a flow are marked each for itself.
const maxMarks = 64

func (r *run) step(f Flow, rule *model.Rule, what string) Flow {
	return f.met(Step{Stage: r.base.Hook.String(), Rule: rule, Chain: rule.Of, What: what})
}

func (r *run) verb(c *model.Chain, rule *model.Rule, f Flow, depth int) (stay, back []Flow) {
	switch rule.Verb {
	case model.Continue, model.NoTrack:
		if rule.Verb == model.Continue && rule.Doubts.Unread() { // what it does may be what was not understood
			r.decide(r.step(f, rule, "does something that was not understood"), rule, model.UnknownAction)
			return nil, nil
		}
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
			return r.nowhere(rule, f, "chain "+rule.Target+" is not defined")
		case depth >= 16: // the kernel refuses deeper jumps (NFT_JUMP_STACK_SIZE)
			return r.nowhere(rule, f, "the chains jump in a circle")
		case rule.Verb == model.Jump:
			return r.chain(to, f, depth+1), nil
		default:
			return nil, r.chain(to, f, depth+1)
		}
	case model.UnknownAction:
		r.decide(r.step(f, rule, "does something that was not understood"), rule, model.UnknownAction)
	default:
		r.translate(rule, f)
	}
	return nil, nil
}

// nowhere is what becomes of packets that a rule sends into a chain that is not there: anything, and if that changes nothing, they go on.
func (r *run) nowhere(rule *model.Rule, f Flow, why string) (stay, back []Flow) {
	r.doubtful = true
	r.decide(f.beside(model.Doubts{r.filter.doubt(rule, why)}), rule, model.UnknownAction)
	return []Flow{f}, nil
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
		r.doubtful = true
		r.decide(
			f.beside(model.Doubts{r.filter.doubt(rule, "the target of the translation was not understood")}),
			rule,
			model.UnknownAction,
		)
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
			one = one.doubt(r.filter.doubt(nil, fmt.Sprintf("the gateway's IPv%d address on that interface is not known", fam)))
			v = packet.All().Values(field, fam)
		}
		out = joined(out, one.set(field, v, fam))
	}
	return out
}
