// Package walk follows sets of packets through a gateway: which rules they meet, how they are rewritten, and what
// becomes of them. It answers for every packet of a set at once and splits the set where fates part.
package walk

import (
	"iter"
	"net/netip"
	"slices"

	"toril/model"
	"toril/packet"
	"toril/source"
)

// Flow is a set of packets on its way that has met the same rules so far. Now is what the packets are; where a
// translation rewrote a field, Was gives back what they were.
type Flow struct {
	Now    packet.Set
	Steps  []Step
	Doubts model.Doubts // why some of the packets may fare otherwise
	before *rewrite     // the last; nil for none
	wraps  int          // how often interfaces wrapped the packets
	aside  bool         // they come this way only if what the doubts are about is otherwise than supposed
	open   []unknown    // fields whose values are not known
}

// unknown is a field of packets of which no file tells the values, as the interface that they leave by.
type unknown struct {
	field  packet.Field
	doubts model.Doubts
}

// Step is a rule, or a decision of the gateway's, that the packets met.
type Step struct {
	Stage string      // "forward", "route", ...
	Rule  *model.Rule // nil where it was not a rule
	Chain *model.Chain
	Route *model.Route // the one that was taken; nil where it was none
	What  string       // what was done, for people

	Wrapped bool // it was done to the packets that these were wrapped in
}

// Line is the line of the saved file that a step rests on; zero where it is none.
func (s Step) Line() source.Pos {
	switch {
	case s.Rule != nil:
		return s.Rule.At
	case s.Route != nil:
		return s.Route.At
	case s.Chain != nil:
		return s.Chain.Policy.Where(s.Chain.At)
	}
	return source.Pos{}
}

// Decided is the line of the last rule, or policy of a chain, that the packets met; otherwise where there is none.
func (f Flow) Decided(otherwise source.Pos) source.Pos {
	for _, s := range slices.Backward(f.Steps) {
		if s.Chain != nil {
			return s.Line()
		}
	}
	return otherwise
}

// rewrite is a field that was changed, and what it was. It holds for a flow whose Now is one box.
type rewrite struct {
	field      packet.Field
	v4, v6     packet.Values
	from, onto netip.Prefix // of a one-to-one translation: the way back
	earlier    *rewrite     // the one before it
}

// since goes through a rewrite and those before it, the last first.
func (r *rewrite) since() iter.Seq[*rewrite] {
	return func(yield func(*rewrite) bool) {
		for ; r != nil && yield(r); r = r.earlier {
		}
	}
}

// Start makes the flow of packets that have met nothing yet.
func Start(s packet.Set) Flow { return Flow{Now: s} }

// Was returns the packets as they were at the start.
func (f Flow) Was() packet.Set {
	s := f.Now
	for r := range f.before.since() {
		if r.from.IsValid() {
			s = s.Shift(r.field, r.onto, r.from)
			continue
		}
		four := s.And(packet.Only(packet.IPv4)).Replace(r.field, r.v4)
		six := s.And(packet.Only(packet.IPv6)).Replace(r.field, r.v6)
		s = four.Or(six)
	}
	return s
}

// Rewritten reports whether a translation changed a field of the packets.
func (f Flow) Rewritten(field packet.Field) bool {
	for r := range f.before.since() {
		if r.field == field {
			return true
		}
	}
	return false
}

// Changed reports whether anything about the packets was rewritten: an address, a port, a mark.
func (f Flow) Changed() bool { return f.before != nil }

// with returns the flow of other packets (a part of its own) that has met the same.
func (f Flow) with(s packet.Set) Flow {
	f.Now = s
	return f
}

// met adds a step.
func (f Flow) met(s Step) Flow {
	steps := make([]Step, len(f.Steps)+1) // mostly there is no other
	copy(steps, f.Steps)
	steps[len(f.Steps)] = s
	f.Steps = steps
	return f
}

// doubt adds reasons why the packets may fare otherwise.
func (f Flow) doubt(why ...*model.Doubt) Flow {
	f.Doubts.Add(why...)
	return f
}

// beside makes the flow one of what only happens if some doubts are justified.
func (f Flow) beside(why model.Doubts) Flow {
	f.aside = true
	return f.doubt(why...)
}

// Unsure notes why a field of the packets may be another than it seems; nothing where there is no reason.
func (f Flow) Unsure(field packet.Field, why model.Doubts) Flow {
	if len(why) > 0 {
		f.open = append(slices.Clip(f.open), unknown{field, why})
	}
	return f
}

// unknown notes that no file tells a field of the packets.
func (f Flow) unknown(field packet.Field, why *model.Doubt) Flow {
	return f.Unsure(field, model.Doubts{why})
}

// like reports whether packets of two flows are in the same state: nothing was rewritten since they were parts of one, or the same.
func (f Flow) like(g Flow) bool { return f.before == g.before }

// set writes values into a field. The flow is cut into boxes first, so that what the field was is the same for all
// packets of each.
func (f Flow) set(field packet.Field, v packet.Values, only packet.Family) []Flow {
	var out []Flow
	for _, part := range f.Now.Parts() {
		p := f.with(part)
		if fams := part.Families(); v.Empty() || only != 0 && fams[0] != only {
			out = append(out, p)
			continue
		}
		p.before = &rewrite{
			field: field, v4: part.Values(field, packet.IPv4), v6: part.Values(field, packet.IPv6), earlier: p.before,
		}
		p.Now = part.Replace(field, v)
		out = append(out, p)
	}
	return out
}

// again rewrites packets, which are as they were before another flow was rewritten, as that one was. The other's Now is one box.
func (f Flow) again(as Flow) Flow {
	f.before = as.before
	all := slices.Collect(as.before.since())
	slices.Reverse(all)
	for i, r := range all {
		if r.from.IsValid() {
			f.Now = f.Now.Shift(r.field, r.from, r.onto)
			continue
		}
		if slices.ContainsFunc(all[i+1:], func(o *rewrite) bool { return o.field == r.field }) {
			continue // it was rewritten once more
		}
		four := f.Now.And(packet.Only(packet.IPv4)).Replace(r.field, as.Now.Values(r.field, packet.IPv4))
		six := f.Now.And(packet.Only(packet.IPv6)).Replace(r.field, as.Now.Values(r.field, packet.IPv6))
		f.Now = four.Or(six)
	}
	return f
}

// shift moves an address field from one network onto another.
func (f Flow) shift(field packet.Field, from, onto netip.Prefix) []Flow {
	inside := packet.Prefixes(field, from)
	out := []Flow{}
	if rest := f.Now.Minus(inside); !rest.Empty() {
		out = append(out, f.with(rest))
	}
	if hit := f.Now.And(inside); !hit.Empty() {
		p := f.with(hit.Shift(field, from, onto))
		p.before = &rewrite{field: field, from: from, onto: onto, earlier: p.before}
		out = append(out, p)
	}
	return out
}

// Moved returns the flow with another source address, as a translation before this gateway would have it.
func (f Flow) Moved(src string) Flow {
	a := netip.MustParseAddr(src)
	f.Now = f.Now.Replace(packet.Src, packet.Addresses(a, a))
	return f
}
