package phrasebook

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"toril/daemon"
	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/packet"
	"toril/source"
)

// level is how near a statement stands to what it is about: what is nearer holds.
type level int

// The levels.
const (
	forAll       level = iota // of every connection
	inheritedAll              // of every child of a connection, by named settings
	forChildren               // of every child of a connection
	inherited                 // of one, by named settings
	direct                    // of one
	lastLevel    = direct
)

// near returns the level of a statement about settings of connections or of children.
func (at place) near(of settings.Level, l level) level {
	switch {
	case at.Connection == nil:
		return forAll
	case of == settings.OfChild && at.Child == nil && l == inherited:
		return inheritedAll
	case of == settings.OfChild && at.Child == nil:
		return forChildren
	}
	return l
}

// subjects are the connections, or the children, that a statement is about.
func (r *run) subjects(of settings.Level, at place) (out []settings.Subject) {
	all := []*model.Connection{at.Connection}
	if at.Connection == nil {
		all = r.in.Gateway.Connections
	}
	for _, c := range all {
		switch {
		case of == settings.OfConnection:
			out = append(out, settings.Subject{Connection: c})
		case at.Child != nil:
			out = append(out, settings.Subject{Connection: c, Child: at.Child})
		default:
			for _, k := range c.Children {
				out = append(out, settings.Subject{Connection: c, Child: k})
			}
		}
	}
	return out
}

// assign has the settings and proposals of a statement hold, once every statement was seen, in the order of their levels.
func (r *run) assign(rule *rule, fills []Fill, pos source.Pos, at place, l level) {
	for _, a := range rule.sets {
		to := at.near(a.row.Of, l)
		r.queue[to] = append(r.queue[to], func() { r.set(a, fills, pos, at, to) })
	}
	for _, o := range []*offer{rule.offers, rule.parts} {
		switch {
		case o == nil:
		case o.of == "object":
			r.offerObject(o, o == rule.parts, fills, pos, at)
		default:
			of := settings.OfConnection
			if o.of == "child" {
				of = settings.OfChild
			}
			to, piece := at.near(of, l), o == rule.parts
			r.queue[to] = append(r.queue[to], func() {
				list := r.subjects(of, at)
				if to != direct && to != inherited && !r.spend(len(list), pos, at) {
					return
				}
				for _, s := range list {
					r.offer(o, piece, fills, pos, s, to)
				}
			})
		}
	}
}

// spend counts what statements come to in all: of what is more than the file's size allows, nothing is done, and that is said.
func (r *run) spend(n int, pos source.Pos, at place) bool {
	if r.spent += n; r.spent > r.budget() {
		r.unreadAt(pos, at.owner(), "the statements of the file come to more than can be looked at")
		return false
	}
	return true
}

// budget bounds what names, and statements about everything, may come to: so that the work is of the order of the file's size.
func (r *run) budget() int { return 1<<18 + 2*len(r.in.File.Bytes()) }

// sayKey is a setting that several statements may say in pieces: of a connection, a child, or of all in a place.
type sayKey struct {
	of    any
	row   string
	level level
}

// said are the values of a setting so far, each once.
type said struct {
	assignment
	place  place
	values []any
	seen   map[any]bool
	at     source.Pos
	level  level
}

func (s *said) add(v any) {
	if reflect.TypeOf(v).Comparable() {
		if s.seen[v] {
			return
		}
		s.seen[v] = true
	}
	s.values = append(s.values, v)
}

// put gives a setting its value, as its level has it.
func (r *run) put(row *settings.Row, s settings.Subject, v any, pos source.Pos, l level) bool {
	switch {
	case pos.IsZero():
		r.assumed[sayKey{of: subject(row, s), row: row.Name}] = true
		return row.Assume(s, v, r.whose(row.Name))
	case l == inherited || l == inheritedAll || l == forAll:
		return row.Inherit(s, v, pos)
	}
	return row.Put(s, v, pos)
}

// subject is what a setting is of.
func subject(row *settings.Row, s settings.Subject) any {
	if row.Of == settings.OfChild {
		return s.Child
	}
	return s.Connection
}

func (r *run) whose(setting string) string {
	if r.why == nil {
		r.why = map[string]string{}
	}
	if r.why[setting] == "" {
		r.why[setting] = fmt.Sprintf("%s default of %s", r.book.Title, setting)
	}
	return r.why[setting]
}

// set keeps what a statement says of a setting, until all of its level was seen. Several statements may give a list its elements.
func (r *run) set(a assignment, fills []Fill, pos source.Pos, at place, l level) {
	key := sayKey{of: at.Connection, row: a.row.Name, level: l}
	if a.row.Of == settings.OfChild && at.Child != nil {
		key.of = at.Child
	}
	to := r.said[key]
	if to == nil {
		to = &said{seen: map[any]bool{}, level: l}
		r.said[key], r.lists = to, append(r.lists, to)
	}
	if _, list := lists()[a.row.Takes()]; !list || len(a.slots) == 0 || len(to.slots) == 0 {
		to.values, to.seen = to.values[:0], map[any]bool{}
	}
	var values []any
	for _, slot := range a.slots {
		for _, f := range fills {
			if f.Slot != slot {
				continue
			}
			values = append(values, r.resolved(f.Value, pos, at)...)
			if ref, ok := f.Value.(reference); ok && ref.kind == proposals {
				for _, s := range r.subjects(a.row.Of, at) {
					r.partsOf(s, a.row.Of, r.object(ref, at).parts)
				}
			}
		}
	}
	if len(values) == 0 && len(a.slots) > 0 { // every slot of it may be left out
		return
	}
	to.assignment, to.place, to.at = a, at, pos
	for _, v := range withPorts(values) {
		to.add(v)
	}
}

// putLevel sets the settings of a level, now that all of it was seen.
func (r *run) putLevel() {
	for _, s := range r.lists {
		r.putSaid(s)
	}
	r.lists = nil
}

// putSaid gives a setting the value that its pieces make.
func (r *run) putSaid(s *said) {
	if s.row == nil { // every slot of it was left out
		return
	}
	v := s.value
	if len(s.slots) > 0 {
		if len(s.values) == 0 {
			return
		}
		for i, v := range s.values {
			if p, ok := v.(ike.Proposal); ok { // of whichever its name was used for
				p.Protocol = ike.IKE
				if s.row.Of == settings.OfChild {
					p.Protocol = ike.ESP
					p.Transforms[ike.PRF] = nil // a child has none (RFC 7296, section 3.3.3)
				}
				s.values[i] = p
			}
		}
		var err error
		if v, err = s.one(s.values); err != nil {
			r.unreadAt(s.at, s.place.owner(), "%s cannot be what stands here", s.row.Name)
			return
		}
		if span, ok := v.(time.Duration); ok && s.share > 0 {
			v = span * time.Duration(s.share) / 100
		}
	}
	for _, of := range r.subjects(s.row.Of, s.place) {
		if !r.put(s.row, of, v, s.at, s.level) {
			r.unreadAt(s.at, s.place.owner(), "%s cannot be what stands here", s.row.Name)
		}
	}
}

// withPorts gives selectors the ports that a statement says beside them.
func withPorts(values []any) []any {
	i := slices.IndexFunc(values, func(v any) bool { _, ok := v.(packet.Values); return ok })
	if i < 0 {
		return values
	}
	ports, _ := values[i].(packet.Values)
	lo, hi, ok := ports.Bounds()
	var out []any
	for _, v := range values {
		s, is := selector(v)
		if is && ok {
			s.LoPort, s.HiPort = uint16(lo), uint16(hi)
			v = s
		}
		if _, more := v.(packet.Values); !more {
			out = append(out, v)
		}
	}
	return out
}

// partsOf notes where the parts of named proposals are said, for whoever refers to them. Of several names the first one's are known.
func (r *run) partsOf(s settings.Subject, of settings.Level, parts model.Parts) {
	to := &s.Connection.Parts
	if of == settings.OfChild {
		to = &s.Child.Parts
	}
	if *to == nil {
		*to = maps.Clone(parts)
	}
}

// order is that of the parts of a proposal.
var order = []ike.Registry{ike.Encryption, ike.Integrity, ike.PRF, ike.KeyExchange, ike.Sequence}

// assembly is the one proposal that statements make together.
type assembly struct {
	parts map[ike.Registry]*assembled
}

// assembled is one part of it: what the nearest statements say.
type assembled struct {
	choices []ike.Choice
	words   []string
	as      bool // of a child's key exchange: as that of the IKE SA
	level   level
	at      source.Pos
}

// chosen are the parts of a proposal that a statement says.
func (o *offer) chosen(fills []Fill) map[ike.Registry]*assembled {
	out := map[ike.Registry]*assembled{}
	add := func(reg ike.Registry, c ike.Choice, word string) {
		if out[reg] == nil {
			out[reg] = &assembled{}
		}
		if !slices.Contains(out[reg].choices, c) {
			out[reg].choices, out[reg].words = append(out[reg].choices, c), append(out[reg].words, word)
		}
	}
	for _, f := range fills {
		for _, reg := range order {
			c, ok := f.Value.(ike.Choice)
			if o.slots[reg] == nil || o.slots[reg] != f.Slot || !ok {
				continue
			}
			if reg == ike.PRF && c.Registry == ike.Integrity {
				if c, ok = ike.PRFOf(c); !ok {
					continue
				}
			}
			add(reg, c, f.Text)
		}
	}
	for reg, p := range o.says {
		switch {
		case p.none, p.asIt:
			out[reg] = &assembled{as: p.asIt}
		default:
			add(reg, p.Choice, p.String())
		}
	}
	return out
}

// offer adds a proposal to what a connection or a child offers, or a part to the one that statements make together.
func (r *run) offer(o *offer, piece bool, fills []Fill, pos source.Pos, s settings.Subject, l level) {
	said := o.chosen(fills)
	var of any = s.Connection
	to, protocol := &s.Connection.Proposals, ike.IKE
	if o.of == "child" {
		of, to, protocol = s.Child, &s.Child.Proposals, ike.ESP
	}
	if !piece {
		if p, ok := joined(said, protocol); ok {
			*to = model.Say(append(slices.Clip(to.Value), p), pos)
		}
		return
	}
	all := r.of[s.Connection].whole
	if all[of] == nil {
		all[of] = &assembly{parts: map[ike.Registry]*assembled{}}
	}
	for reg, one := range said {
		was := all[of].parts[reg]
		if was == nil || was.level < l || one.as || len(one.choices) == 0 {
			one.level, one.at = l, pos
			all[of].parts[reg] = one
			continue
		}
		was.choices, was.words, was.at = append(was.choices, one.choices...), append(was.words, one.words...), pos
	}
}

// joined makes a proposal of its parts; ok is false where there are none.
func joined(said map[ike.Registry]*assembled, protocol ike.Protocol) (p ike.Proposal, ok bool) {
	p.Protocol = protocol
	var words []string
	said = withoutSpare(said)
	for _, reg := range order {
		one := said[reg]
		if one == nil || reg == ike.PRF && protocol != ike.IKE && protocol != 0 {
			continue
		}
		for i, c := range one.choices {
			if !p.Transforms[reg].Has(c) {
				p.Transforms[reg] = append(p.Transforms[reg], c)
				if w := one.words[i]; !slices.Contains(words, w) {
					words = append(words, w)
				}
			}
		}
		ok = ok || len(one.choices) > 0
	}
	p.Text = strings.Join(words, " ")
	return p, ok
}

// offerObject adds a proposal to those of a name, or a part to the one that the statements of the name make together.
func (r *run) offerObject(o *offer, piece bool, fills []Fill, pos source.Pos, at place) {
	if at.object == nil || at.object.kind != proposals {
		r.problem(pos, "a proposal belongs to what stands around it, and there is nothing of its kind")
		return
	}
	said := o.chosen(fills)
	if at.object.parts == nil {
		at.object.parts = model.Parts{}
	}
	for reg := range said {
		if _, before := at.object.parts[reg]; !before && !pos.IsZero() {
			at.object.parts[reg] = pos
		}
	}
	values := at.object.values
	if n := len(values); piece && n > 0 {
		if last, ok := values[n-1].(ike.Proposal); ok {
			p, _ := joined(said, 0)
			for reg := range p.Transforms {
				for _, c := range p.Transforms[reg] {
					if !last.Transforms[reg].Has(c) {
						last.Transforms[reg] = append(slices.Clip(last.Transforms[reg]), c)
					}
				}
			}
			last.Text = strings.TrimSpace(last.Text + " " + p.Text)
			values[n-1] = last
			return
		}
	}
	if p, ok := joined(said, 0); ok {
		at.object.values = append(values, p)
	}
}

// assemble makes proposals of the parts that were said, with the language's defaults for those that were not.
func (r *run) assemble(c *model.Connection) {
	c.Parts = joinParts(c.Parts, r.assembled(c, &c.Proposals, "ike", nil))
	for _, k := range c.Children {
		k.Parts = joinParts(k.Parts, r.assembled(k, &k.Proposals, "child", c))
	}
}

// joinParts are places of parts, the nearer ones where both tell.
func joinParts(named, own model.Parts) model.Parts {
	if len(named) == 0 {
		return own
	}
	maps.Copy(named, own)
	return named
}

// assembled returns where the parts of proposals are said, if by statements of their own.
func (r *run) assembled(of any, to *model.Setting[[]ike.Proposal], which string, ikeOf *model.Connection) map[ike.Registry]source.Pos {
	parts, protocol := map[ike.Registry]*assembled{}, ike.ESP
	c, ok := of.(*model.Connection)
	if ok {
		protocol = ike.IKE
	} else {
		c = ikeOf
	}
	if a := r.of[c].whole[of]; a != nil {
		parts = a.parts
	}
	if a, _ := r.book.since(which+"-proposals", r.version); len(parts) == 0 && len(to.Value) == 0 && a != nil {
		return nil // the default is a whole proposal
	}
	saidParts := len(parts) > 0
	seen := map[ike.Registry]bool{}
	for _, d := range r.book.parts {
		if d.of != which || seen[d.registry] || r.version != "" && d.since != "" && daemon.Compare(r.version, d.since) < 0 {
			continue
		}
		seen[d.registry] = true
		if parts[d.registry] == nil {
			one := &assembled{as: d.pick.asIt}
			if !d.pick.none && !d.pick.asIt {
				one.choices, one.words = []ike.Choice{d.pick.Choice}, []string{""}
			}
			parts[d.registry] = one
		}
	}
	if kx := parts[ike.KeyExchange]; kx != nil && kx.as && ikeOf != nil {
		kx.choices, kx.words = ike.All(ikeOf.Proposals.Value, ike.KeyExchange), nil
		for range kx.choices {
			kx.words = append(kx.words, "")
		}
	}
	if len(to.Value) > 0 {
		complete(to, parts)
	} else if p, ok := joined(parts, protocol); ok {
		p.Text = strings.Join(strings.Fields(p.Text), " ")
		*to = model.Unsaid([]ike.Proposal{p}, r.whose(which+"-proposals"))
		if at := positions(parts); saidParts && !at.IsZero() {
			to.Origin, to.At, to.Why = model.Said, at, ""
		}
	}
	at := map[ike.Registry]source.Pos{}
	for reg, one := range parts {
		if !one.at.IsZero() {
			at[reg] = one.at
		}
	}
	return at
}

// positions is where an assembled proposal is said: its cipher, or else what there is.
func positions(parts map[ike.Registry]*assembled) source.Pos {
	for _, reg := range order {
		if one := parts[reg]; one != nil && !one.at.IsZero() {
			return one.at
		}
	}
	return source.Pos{}
}

// sealed reports whether all ciphers protect integrity too: then there is no algorithm for it (RFC 7296, section 3.3.3), and a hash that
// stands beside them is that of the PRF.
func sealed(ciphers []ike.Choice) bool {
	return len(ciphers) > 0 && !slices.ContainsFunc(ciphers, func(c ike.Choice) bool { return !c.Combined })
}

// withoutSpare leaves out an algorithm for integrity where there is none.
func withoutSpare(parts map[ike.Registry]*assembled) map[ike.Registry]*assembled {
	if e := parts[ike.Encryption]; e == nil || !sealed(e.choices) {
		return parts
	}
	out := maps.Clone(parts)
	delete(out, ike.Integrity)
	return out
}

// complete adds to whole proposals the parts that they do not say themselves.
func complete(to *model.Setting[[]ike.Proposal], parts map[ike.Registry]*assembled) {
	to.Value = slices.Clone(to.Value)
	for i := range to.Value {
		p := &to.Value[i]
		for reg, one := range parts {
			if reg == ike.PRF && p.Protocol != ike.IKE || reg == ike.Integrity && sealed(p.Transforms[ike.Encryption]) {
				continue
			}
			if len(p.Transforms[reg]) == 0 || !one.at.IsZero() { // a statement of its own holds
				p.Transforms[reg] = slices.Clone(one.choices)
			}
		}
	}
}

// newChild makes a child, with what no statement can say.
func newChild(name string, at source.Pos, title string) *model.Child {
	return &model.Child{Name: name, At: at, Protocol: model.Unsaid(ike.ESP, title), Policies: model.Unsaid(true, title)}
}

// assume gives settings that nobody configures the language's defaults. Where one that people compare first is neither configured nor has a
// default, nobody knows what holds: that is a doubt about what begins at a place.
func (r *run) assume(s settings.Subject, of settings.Level, at source.Pos) model.Doubts {
	var lacks []string
	for _, row := range r.rows {
		if row.Of != of || row.Takes() == nil {
			continue
		}
		if said, has := row.Said(s); said || !has || decided(row, s) || r.assumed[sayKey{of: subject(row, s), row: row.Name}] {
			continue
		}
		a, before := r.book.since(row.Name, r.version)
		if a == nil {
			if row == settings.OwnIdentity.Row { // the address, by the standard
				row.Assume(s, ike.Identity{Kind: ike.NoID}, "RFC 7296, section 3.5")
				continue
			}
			if row.Main {
				lacks = append(lacks, row.Name)
			}
			continue
		}
		why := r.whose(row.Name)
		if r.version == "" && before != nil {
			why += fmt.Sprintf(" (since %s; before: %s)", a.since, before.text)
		}
		row.Assume(s, a.of(r.rows, s), why)
	}
	if len(lacks) == 0 {
		return nil
	}
	return model.Doubts{{Cause: model.NotRead, Gateway: r.in.Gateway.Name, At: at,
		Why: "neither the file nor the phrasebook says what holds for " + strings.Join(lacks, ", ")}}
}

// of is the value of a default, which may be a share of another setting.
func (a *assumption) of(rows []*settings.Row, s settings.Subject) any {
	if a.share == 0 {
		return a.value
	}
	v, _ := settings.Named(a.other).Get(s)
	span, _ := v.Value.(time.Duration)
	return span * time.Duration(a.share) / 100
}

// decided reports whether proposals were made of default parts already, or policies are what they always are.
func decided(row *settings.Row, s settings.Subject) bool {
	switch row {
	case settings.PFS.Row, settings.Policies.Row: // the first follows from the proposals
		return true
	case settings.IKEProposals.Row:
		return len(s.Connection.Proposals.Value) > 0
	case settings.ChildProposals.Row:
		return len(s.Child.Proposals.Value) > 0
	case settings.InterfaceIn.Row, settings.InterfaceOut.Row:
		return s.Child.IfIDOut.Value != 0
	}
	return false
}

// since returns the default of a setting for a version, the newest where that is not known, and the one before it; nil for none.
func (b *Book) since(setting, version string) (a, before *assumption) {
	all := b.defaults[setting]
	for i := range all {
		if version == "" || all[i].since == "" || daemon.Compare(version, all[i].since) >= 0 {
			if i+1 < len(all) {
				before = &all[i+1]
			}
			return &all[i], before
		}
	}
	return nil, nil
}
