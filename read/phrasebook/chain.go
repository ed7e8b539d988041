package phrasebook

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"toril/model"
	"toril/packet"
	"toril/read/literal"
	"toril/source"
)

// chain is a list of rules that the language has: where in a packet's way it stands, and what becomes of packets that no rule is for.
type chain struct {
	name   string
	hook   model.Hook
	policy model.Verb
}

var (
	hooks   = map[string]model.Hook{"input": model.Input, "forward": model.Forward, "output": model.Output}
	actions = map[string]model.Verb{"accept": model.Accept, "drop": model.Drop, "reject": model.Reject}
)

// chains reads those of the language.
func (l *loader) chains(in []chainText) error {
	for i, c := range in {
		where := fmt.Sprintf("$.chains[%d]", i)
		if c.Name == "" || slices.ContainsFunc(l.book.chains, func(o chain) bool { return o.name == c.Name }) {
			return l.errorf(where, "a chain has a name of its own")
		}
		hook, err := choice(hooks, c.Hook)
		if err != nil {
			return l.errorf(where+".hook", "%v", err)
		}
		policy, err := choice(actions, c.Policy)
		if err != nil {
			return l.errorf(where+".policy", "%v", err)
		}
		l.book.chains = append(l.book.chains, chain{c.Name, hook, policy})
	}
	return nil
}

// numbered is a rule with the number that orders it, where it has one.
type numbered struct {
	*model.Rule
	number uint64
}

// rule adds a rule of the packet filter, now that what it may refer to is known.
func (r *run) rule(f *fact, fills []Fill, pos source.Pos, at place) {
	name := f.text("chain", fills)
	i := slices.IndexFunc(r.book.chains, func(c chain) bool { return c.name == name || r.book.Fold && strings.EqualFold(c.name, name) })
	if i < 0 {
		r.in.UnreadAt(pos, at.name, "%q is no chain of the language's", name)
		return
	}
	if f.text("disabled", fills) == "yes" || f.text("disabled", fills) == "true" {
		return
	}
	one := numbered{Rule: &model.Rule{At: pos, When: packet.All(), Verb: model.UnknownAction}}
	for _, v := range f.values("action", fills) {
		switch v := v.(type) {
		case model.Verb:
			one.Verb = v
		case string:
			one.Verb = actions[v]
		}
	}
	one.Log, one.Comment = f.text("log", fills) == "yes", f.text("comment", fills)
	if why := f.text("unless", fills); why != "" {
		one.Unsure = append(one.Unsure, why)
	}
	for _, v := range f.values("number", fills) {
		one.number, _ = v.(uint64)
	}
	r.narrow(&one, f, "from", packet.Src, fills, pos, at)
	r.narrow(&one, f, "to", packet.Dst, fills, pos, at)
	for _, by := range []struct {
		key   string
		field packet.Field
	}{{"in", packet.In}, {"out", packet.Out}} {
		if dev := f.text(by.key, fills); dev != "" {
			one.When = one.When.And(packet.Where(by.field, packet.Name(dev)))
		}
	}
	valued(&one, f, "protocol", packet.Proto, fills)
	valued(&one, f, "source-ports", packet.Sport, fills)
	valued(&one, f, "ports", packet.Dport, fills)
	if words := f.text("state", fills); words != "" {
		set := packet.None()
		for w := range strings.FieldsSeq(words) {
			set = set.Or(packet.Where(packet.State, packet.OneOf(literal.States[w])))
		}
		one.When = one.When.And(set)
	}
	r.rules[i] = append(r.rules[i], one)
}

// narrow keeps the packets of networks, by their names too. Where one is not there, which packets the rule is for is not known.
func (r *run) narrow(one *numbered, f *fact, key string, field packet.Field, fills []Fill, pos source.Pos, at place) {
	said := f.values(key, fills)
	if len(said) == 0 {
		return
	}
	set := packet.None()
	for _, v := range said {
		for _, value := range r.resolved(v, pos, at) {
			if s, ok := selector(value); ok {
				set = set.Or(packet.Range(field, s.Lo, s.Hi))
			}
		}
		if ref, ok := v.(reference); ok {
			if o := r.object(ref); o.def.Missing || o.circle || o.cut {
				one.Unsure, one.Unread = append(one.Unsure, fmt.Sprintf("the networks %s are not known", source.Clean(ref.name))), true
				return
			}
		}
	}
	one.When = one.When.And(set)
}

// valued keeps the packets of protocols or ports. Ports alone are of every protocol that has them.
func valued(one *numbered, f *fact, key string, field packet.Field, fills []Fill) {
	said := f.values(key, fills)
	if len(said) == 0 {
		return
	}
	var all []packet.Values
	for _, v := range said {
		switch v := v.(type) {
		case packet.Values:
			all = append(all, v)
		case string:
			parse := literal.Ports
			if field == packet.Proto {
				parse = literal.Protocols
			}
			if vs, err := parse(v); err == nil {
				all = append(all, vs)
			}
		}
	}
	if field != packet.Proto {
		one.When = one.When.And(packet.Where(packet.Proto, packet.WithPorts))
	}
	one.When = one.When.And(packet.Where(field, packet.Join(all...)))
}

// handOver adds the chains to the gateway, rules with numbers in their order.
func (r *run) handOver() {
	for i, c := range r.book.chains {
		if len(r.rules[i]) == 0 {
			continue
		}
		slices.SortStableFunc(r.rules[i], func(a, b numbered) int { return cmp.Compare(a.number, b.number) })
		out := &model.Chain{Family: "inet", Table: r.book.Language, Name: c.name, At: r.rules[i][0].At, Hook: c.hook,
			Policy: model.Unsaid(c.policy, r.book.Title+" default of "+c.name)}
		for _, one := range r.rules[i] {
			out.Rules = append(out.Rules, one.Rule)
		}
		r.in.Gateway.Chains = append(r.in.Gateway.Chains, out)
	}
}
