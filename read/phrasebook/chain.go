package phrasebook

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"toril/source"

	"toril/ike"
	"toril/model"
	"toril/model/literal"
	"toril/packet"
)

// chain is a list of rules that the language has: where in a packet's way it stands, and what becomes of packets that no rule is for.
type chain struct {
	name    string
	hook    model.Hook
	policy  model.Verb
	answers bool // what belongs to an accepted connection passes before any rule is asked
}

var (
	hooks   = map[string]model.Hook{"input": model.Input, "forward": model.Forward, "output": model.Output}
	actions = map[string]model.Verb{"accept": model.Accept, "drop": model.Drop, "reject": model.Reject}
)

// numbered is a rule with what orders it, where it has that.
type numbered struct {
	*model.Rule
	rank, number, place, before uint64
}

// The chains of address translation, and where in a packet's way they stand.
const (
	sourceChain      = "source translation"
	destinationChain = "destination translation"

	destinationPriority = -100 // as Linux has them: before and after the routing decision
	sourcePriority      = 100
)

// list returns the name of the chain that a rule names, made where it is a list of its own; ok is false where there is none.
func (r *run) list(name string) (string, bool) {
	for _, c := range r.book.chains {
		if c.name == name || r.book.Fold && strings.EqualFold(c.name, name) {
			return c.name, true
		}
	}
	if r.book.lists == nil {
		return "", false
	}
	if r.book.Fold {
		name = strings.ToLower(name)
	}
	return name, true
}

// What rules that nobody writes say of themselves.
const (
	endComment     = "at the end of the list"
	answersComment = "implied: answers pass"
)

// rule adds a rule to a chain.
func (r *run) rule(chain string, one numbered) {
	if _, known := r.chains[chain]; !known {
		r.names = append(r.names, chain)
	}
	r.chains[chain] = append(r.chains[chain], one)
}

// narrowed makes a rule that is for the packets which a record chooses.
func (r *run) narrowed(rec *record) numbered {
	v := rec.values
	one := numbered{
		Rule:   &model.Rule{At: rec.at, When: serviced(v), Verb: model.UnknownAction, Log: flag(v, "log"), Comment: text(v, "comment")},
		rank:   count(v, "rank"),
		number: count(v, "number"),
		place:  count(v, "place"),
		before: count(v, "before"),
	}
	one.Doubts.Add(rec.doubts...)
	if why := text(v, "condition"); why != "" {
		one.Doubts.Add(r.undecided(rec.at, why))
	}
	for _, by := range []struct {
		key   string
		field packet.Field
		not   bool
	}{{"from", packet.Src, false}, {"to", packet.Dst, false}, {"not-from", packet.Src, true}, {"not-to", packet.Dst, true},
		{"in", packet.In, false}, {"out", packet.Out, false}, {"service", 0, false}} {
		if len(v[by.key]) == 0 {
			continue
		}
		set, known := r.packets(&one, by.field, v[by.key], rec)
		switch {
		case !known:
		case by.not:
			one.When = one.When.Minus(set)
		default:
			one.When = one.When.And(set)
		}
	}
	return one
}

// undecided is a doubt about a condition that the file does not decide.
func (r *run) undecided(at source.Pos, why string) *model.Doubt {
	return &model.Doubt{Cause: model.Undecided, Gateway: r.in.Gateway.Name, At: at, Why: why}
}

// packets are those that values stand for, by their names too. Where one is not known, which packets the rule is for is not known either.
func (r *run) packets(one *numbered, field packet.Field, values []any, rec *record) (set packet.Set, known bool) {
	var plain []any
	set = packet.None()
	for _, v := range values {
		ref, isName := v.(reference)
		if !isName {
			plain = append(plain, v)
			continue
		}
		all := r.named(ref, rec.at, rec.place)
		o := r.object(ref, rec.place)
		if why := o.unknown(); why != "" {
			one.Doubts.Add(&model.Doubt{Cause: model.NotRead, Gateway: r.in.Gateway.Name, At: rec.at, Of: rec.place.name, Why: why})
			return set, false
		}
		if one.Doubts.Add(o.doubts...); o.doubts.Unread() { // it may stand for more
			return set, false
		}
		if o.sets == nil {
			o.sets = map[packet.Field]packet.Set{}
		}
		if _, done := o.sets[field]; !done {
			o.sets[field] = setOf(field, all)
		}
		set = set.Or(o.sets[field])
	}
	if len(plain) > 0 {
		set = set.Or(setOf(field, plain))
	}
	return set, true
}

// setOf are the packets of which a field is one of some values, or that some services are for.
func setOf(field packet.Field, values []any) packet.Set {
	set := packet.None()
	var names []packet.Values
	var by [2][]packet.Values // addresses of IPv4 and IPv6
	for _, v := range values {
		switch v := v.(type) {
		case packet.Set:
			set = set.Or(v)
		case device:
			names = append(names, packet.Name(string(v)))
		case string:
			names = append(names, packet.Name(v))
		default:
			s, ok := selector(v)
			switch {
			case !ok:
			case s.Lo.Is4():
				by[0] = append(by[0], packet.Addresses(s.Lo, s.Hi))
			default:
				by[1] = append(by[1], packet.Addresses(s.Lo, s.Hi))
			}
		}
	}
	if len(names) > 0 {
		set = set.Or(packet.Where(field, packet.Join(names...)))
	}
	for i, fam := range []packet.Family{packet.IPv4, packet.IPv6} {
		if len(by[i]) > 0 {
			set = set.Or(packet.Only(fam).With(field, packet.Join(by[i]...)))
		}
	}
	return set
}

// accessRule adds a rule of the packet filter, now that what it may refer to is known.
func (r *run) accessRule(rec *record) {
	name, ok := r.list(text(rec.values, "chain"))
	if !ok {
		r.unreadAt(rec.at, rec.owner(), "%q is no chain of the language's", text(rec.values, "chain"))
		return
	}
	one := r.narrowed(rec)
	for _, v := range rec.values["action"] {
		one.Verb, _ = v.(model.Verb)
	}
	if to := text(rec.values, "list"); to != "" {
		if to, ok = r.list(to); ok {
			one.Verb, one.Target = model.Jump, r.chainOf(to).ID()
			d := r.in.Gateway.Defined("chain", to)
			d.Used = append(d.Used, rec.at)
		}
	} else if len(rec.values["action"]) == 0 {
		r.unreadAt(rec.at, rec.owner(), "the rule has no action")
	}
	var states []uint64
	for _, v := range rec.values["state"] {
		for w := range strings.FieldsSeq(fmt.Sprint(v)) {
			states = append(states, literal.States[w])
		}
	}
	if len(states) > 0 {
		one.When = one.When.And(packet.Where(packet.State, packet.OneOf(states...)))
	}
	from, into := packet.Where(packet.PeerIn, packet.OneOf(0)), packet.Where(packet.PeerOut, packet.OneOf(0))
	switch text(rec.values, "tunnel") {
	case "from":
		one.When = one.When.Minus(from)
	case "into":
		one.When = one.When.Minus(into)
	case "neither":
		one.When = one.When.And(from).And(into)
	}
	r.rule(name, one)
}

// translationRule adds a rule of address translation, one that is for both ways to both chains.
func (r *run) translationRule(rec *record) {
	kind := toSource
	for _, v := range rec.values["kind"] {
		kind, _ = v.(translation)
	}
	one := r.narrowed(rec)
	switch kind {
	case exempt:
		one.Verb = model.Accept
		r.rule(sourceChain, one)
	case toSource:
		r.translates(rec, &one, model.SourceNAT, model.Masquerade)
		r.rule(sourceChain, one)
	case toDestination:
		r.translates(rec, &one, model.DestinationNAT, model.Redirect)
		r.rule(destinationChain, one)
	case toBoth:
		r.static(rec, one)
	}
}

// translates says what a rule writes into a packet: addresses, or where itself is meant, those of the interface.
func (r *run) translates(rec *record, one *numbered, verb, self model.Verb) {
	var to model.Translation
	one.Verb = verb
	for _, v := range rec.values["onto-ports"] {
		to.Ports, _ = v.(packet.Values)
	}
	if len(rec.values["onto"]) == 0 && to.Ports.Empty() {
		one.Verb = model.UnknownAction
		r.unreadAt(rec.at, rec.owner(), "the translation has no new address")
		return
	}
	var all ike.Selectors
	for _, v := range rec.values["onto"] {
		switch v := v.(type) {
		case itself:
			one.Verb = self
			to.Text = "an address of the interface"
			continue
		default:
			l, _ := each(r.resolved(v, rec.at, rec.place), selector)
			all = append(all, l...)
		}
	}
	for _, s := range all {
		to.Family = packet.IPv6
		if s.Lo.Is4() {
			to.Family = packet.IPv4
		}
		to.Addrs = to.Addrs.Or(packet.Addresses(s.Lo, s.Hi))
	}
	if len(all) > 0 {
		to.Text = all.String()
	}
	if !to.Ports.Empty() {
		to.Text = strings.TrimSpace(to.Text + " and other ports")
	}
	one.To = &to
}

// static adds a translation of one to one, both ways: the source of what leaves, the destination of what comes in.
func (r *run) static(rec *record, one numbered) {
	prefix := func(key string) (p netip.Prefix, ok bool) {
		var all ike.Selectors
		for _, v := range rec.values[key] {
			l, _ := each(r.resolved(v, rec.at, rec.place), selector)
			all = append(all, l...)
		}
		if len(all) != 1 {
			return p, false
		}
		return all[0].Prefix()
	}
	inside, ok := prefix("from")
	outside, ok2 := prefix("onto")
	if !ok || !ok2 || inside.Bits() != outside.Bits() || inside.Addr().BitLen() != outside.Addr().BitLen() {
		one.Verb = model.UnknownAction
		r.unreadAt(rec.at, rec.owner(), "a translation of one to one is between two networks of one size")
		r.rule(sourceChain, one)
		return
	}
	fam := packet.IPv6
	if inside.Addr().Is4() {
		fam = packet.IPv4
	}
	one.Verb, one.To = model.SourceNAT, &model.Translation{
		Family: fam,
		From:   inside,
		Onto:   outside,
		Addrs:  packet.Prefix(outside),
		Text:   outside.String(),
	}
	r.rule(sourceChain, one)
	back := rec.values["in"]
	other := *rec
	other.values = map[string][]any{"in": rec.values["out"], "to": rec.values["onto"], "from": rec.values["to"]}
	if len(back) > 0 {
		other.values["out"] = nil
	}
	two := r.narrowed(&other)
	two.rank, two.number, two.Comment = one.rank, one.number, one.Comment
	two.Verb, two.To = model.DestinationNAT, &model.Translation{
		Family: fam,
		From:   outside,
		Onto:   inside,
		Addrs:  packet.Prefix(inside),
		Text:   inside.String(),
	}
	r.rule(destinationChain, two)
}

// chainOf makes a chain by its name.
func (r *run) chainOf(name string) *model.Chain {
	out := &model.Chain{Family: "inet", Table: r.book.Language, Name: name, Opened: true}
	switch name {
	case sourceChain:
		out.Kind, out.Hook, out.Priority = model.NATChain, model.Postrouting, sourcePriority
	case destinationChain:
		out.Kind, out.Hook, out.Priority = model.NATChain, model.Prerouting, destinationPriority
	}
	return out
}

// handOver adds the chains to the gateway: those that the language always has, and those of lists that statements name; rules by rank,
// number, and place.
func (r *run) handOver() {
	g := r.in.Gateway
	first := r.in.At(1) // where a chain stands that has no rules
	add := func(c chain, why string, end model.Verb) {
		out := r.chainOf(c.name)
		if c.hook != model.NoHook {
			out.Hook = c.hook
		}
		out.At, out.Policy = first, model.Unsaid(c.policy, why)
		all := r.ordered(r.chains[c.name])
		if end != model.Continue { // what becomes of packets that no rule of a list is for
			all = append(all, &model.Rule{At: all[len(all)-1].At, When: packet.All(), Verb: end, Comment: endComment})
		}
		if c.answers {
			pass := packet.Where(packet.State, packet.OneOf(packet.Established, packet.Related))
			all = append([]*model.Rule{{At: first, When: pass, Verb: model.Accept, Comment: answersComment}}, all...)
		}
		for _, one := range all {
			one.Of, one.Index = out, len(out.Rules)
			out.Rules = append(out.Rules, one)
		}
		if len(out.Rules) > 0 && !out.Rules[0].At.IsZero() {
			out.At = out.Rules[0].At
		}
		g.Chains = append(g.Chains, out)
	}
	known := map[string]bool{}
	for _, c := range r.book.chains {
		known[c.name] = true
		add(c, r.book.Title+" default of "+c.name, model.Continue)
	}
	for _, name := range r.names {
		switch {
		case known[name]:
		case name == sourceChain || name == destinationChain:
			add(chain{name: name, policy: model.Accept}, "", model.Continue)
		default:
			add(chain{name: name, policy: model.Accept}, "", *r.book.lists)
			d := g.Defined("chain", name)
			d.At, d.Missing = r.chains[name][0].At, false
		}
	}
}

// ordered are rules in the order in which they are asked. Those that are inserted at a place come there as they are read.
func (r *run) ordered(in []numbered) []*model.Rule {
	var list []numbered
	for _, one := range in {
		if one.place > 0 {
			at := min(int(min(one.place, 1<<31-1))-1, len(list))
			if !r.spend(len(list)-at, one.At, place{}) {
				one.Doubts.Add(r.undecided(one.At, "where it stands"))
				at = len(list)
			}
			list = slices.Insert(list, at, one)
			continue
		}
		list = append(list, one)
	}
	slices.SortStableFunc(list, func(a, b numbered) int {
		return cmp.Or(cmp.Compare(a.rank, b.rank), cmp.Compare(a.number, b.number))
	})
	for _, one := range slices.Clone(list) { // each goes once
		if one.before == 0 || !r.spend(len(list), one.At, place{}) {
			continue
		}
		to := slices.IndexFunc(list, func(o numbered) bool { return o.rank == one.rank && o.number == one.before })
		if to < 0 {
			continue
		}
		if i := slices.IndexFunc(list, func(o numbered) bool { return o.Rule == one.Rule }); i != to {
			list = slices.Delete(list, i, i+1)
			if i < to {
				to--
			}
			list = slices.Insert(list, to, one)
		}
	}
	var out []*model.Rule
	for _, one := range list {
		out = append(out, one.Rule)
	}
	return out
}
