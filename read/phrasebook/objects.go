package phrasebook

import (
	"fmt"
	"slices"
	"toril/read"

	"toril/model"
	"toril/packet"
	"toril/source"
)

// object is what has a name.
type object struct {
	reference
	values []any // selectors, proposals, packets, interfaces, acts; references to others of its kind
	def    *model.Definition

	parts model.Parts // where parts of proposals are said

	sets map[packet.Field]packet.Set // the packets that the values are for, by whoever asked first

	flat   []any // the values, with those of what it refers to
	state  uint8
	circle bool // it refers to itself
	cut    bool // it stands for more than is followed

	doubts model.Doubts // what of it was not understood, or of what it refers to

	builtIn bool // a device has it without its being saved
}

// The states of a name whose values are looked for.
const (
	onTheWay = iota + 1
	done
)

// maxReferred bounds what a name may stand for.
const maxReferred = 10_000

// scope is where names are known: in a statement that others stand in, or in the whole file.
type scope struct {
	objects map[reference]*object
	outer   *scope
}

// find returns what has a name, the innermost where several have it; nil where none does.
func (s *scope) find(ref reference) *object {
	for ; s != nil; s = s.outer {
		if o := s.objects[ref]; o != nil {
			return o
		}
	}
	return nil
}

// outermost is the scope of the whole file.
func (s *scope) outermost() *scope {
	for s.outer != nil {
		s = s.outer
	}
	return s
}

// add makes what has a name known. It is missing until it has a place.
func (r *run) add(to *scope, ref reference) *object {
	o := &object{reference: ref, def: &model.Definition{Kind: ref.kind, Name: source.Clean(ref.name), Missing: true}}
	if to.objects == nil {
		to.objects = map[reference]*object{}
	}
	to.objects[ref] = o
	r.order = append(r.order, o)
	return o
}

// object returns what has a name, made in the whole file where it is not known yet.
func (r *run) object(ref reference, at place) *object {
	if o := at.scope.find(ref); o != nil {
		return o
	}
	return r.add(at.scope.outermost(), ref)
}

// define returns the object that a statement begins, as the phrase says where its name was there before.
func (r *run) define(rule *rule, name string, pos source.Pos, at place) *object {
	to, ref := at.scope, reference{rule.kind, name}
	if !rule.local {
		to = to.outermost()
	}
	o := to.objects[ref]
	switch {
	case o == nil:
		o = r.add(to, ref)
	case o.def.Missing:
	case rule.again == isIgnored:
		o.def.Again = append(o.def.Again, pos)
		return &object{reference: ref, def: &model.Definition{}}
	case rule.again == replacesIt:
		o.def.Again = append(o.def.Again, pos)
		o.values = nil
	}
	if o.def.Missing {
		o.def.Missing = false
		if o.def.At = pos; pos.IsZero() { // the device has it without its being saved
			o.builtIn = true
		}
	}
	return o
}

// resolved are the values that a value stands for: those of a name, with what that refers to; an interface's addresses.
func (r *run) resolved(v any, pos source.Pos, at place) []any {
	switch v := v.(type) {
	case reference:
		return r.named(v, pos, at)
	case device:
		return r.addresses(string(v), pos, at)
	}
	return []any{v}
}

// named are the values of a name. What is not known of them is unread.
func (r *run) named(ref reference, pos source.Pos, at place) []any {
	o := r.object(ref, at)
	if !pos.IsZero() {
		o.def.Used = append(o.def.Used, pos)
	}
	r.flatten(o, at)
	of := at.owner()
	if why := o.unknown(); why != "" {
		r.unreadAt(pos, of, "%s", why)
	}
	for _, d := range o.doubts {
		r.in.Doubt(of, d)
	}
	if !r.spend(len(o.flat), pos, at) {
		return nil
	}
	return o.flat
}

// unknown says why it is not known what a name stands for; "" where it is.
func (o *object) unknown() string {
	what := fmt.Sprintf("the %s %s ", o.kind, source.Clean(o.name))
	switch {
	case o.def.Missing:
		return what + "are not there"
	case o.circle:
		return what + "refer to themselves"
	case o.cut:
		return what + "stand for too many values"
	}
	return ""
}

// flatten finds out, once, what a name stands for.
func (r *run) flatten(o *object, at place) {
	switch o.state {
	case onTheWay:
		o.circle = true
		return
	case done:
		return
	}
	o.state = onTheWay
	for _, v := range o.values {
		ref, ok := v.(reference)
		if !ok {
			o.flat = append(o.flat, v)
			continue
		}
		other := r.object(ref, at)
		other.def.Used = append(other.def.Used, o.def.At)
		r.flatten(other, at)
		o.circle, o.cut = o.circle || other.circle, o.cut || other.cut
		o.doubts.Add(other.doubts...)
		if other.def.Missing {
			r.unreadAt(o.def.At, read.Owner{Name: o.name, To: &o.doubts}, "%s", other.unknown())
			o.cut = true
		}
		if r.referred += len(other.flat); len(o.flat)+len(other.flat) > maxReferred || r.referred > r.budget() {
			o.cut = true
			break
		}
		o.flat = append(o.flat, other.flat...)
	}
	o.state = done
}

// addresses are those of an interface, as far as the file says.
func (r *run) addresses(name string, pos source.Pos, at place) []any {
	var out []any
	if i := r.interfaceBy(name); i != nil {
		for _, a := range i.Addresses {
			out = append(out, a.Addr())
		}
		if i.Dynamic && len(out) == 0 {
			return []any{model.Address{Text: "any", Any: true}}
		}
	}
	if len(out) == 0 {
		r.unreadAt(pos, at.owner(), "the addresses of interface %s are not known", source.Clean(name))
	}
	return out
}

// interfaceBy returns an interface by its name; nil where there is none. All of them must be known.
func (r *run) interfaceBy(name string) *model.Interface {
	if r.ports == nil {
		r.ports = map[string]*model.Interface{}
		for _, i := range r.in.Gateway.Interfaces {
			r.ports[i.Name] = i
		}
	}
	return r.ports[source.Clean(name)]
}

// definitions hands over what has names. What a device has without saving it is no use of anything, and need not be used.
func (r *run) definitions() {
	for _, o := range r.order {
		if o.builtIn {
			continue
		}
		o.def.Used = slices.DeleteFunc(o.def.Used, func(p source.Pos) bool { return p.IsZero() })
		if o.def.Missing && len(o.def.Used) == 0 {
			continue
		}
		r.in.Gateway.Definitions = append(r.in.Gateway.Definitions, o.def)
	}
}
