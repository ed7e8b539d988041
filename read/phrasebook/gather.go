package phrasebook

import (
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strings"
	"time"
	"toril/read"

	"toril/ike"
	"toril/model"
	"toril/model/literal"
	"toril/model/settings"
	"toril/packet"
	"toril/source"
)

// record is a fact whose parts one statement or several say.
type record struct {
	what   string
	values map[string][]any
	at     source.Pos
	place  place
	doubts model.Doubts // what of it was not understood
}

// owner is what a record as a whole belongs to.
func (rec *record) owner() read.Owner {
	about := map[string]model.Topic{"route": model.AboutRoutes, "rule": model.AboutFilter, "translation": model.AboutFilter,
		"key": model.AboutKeys, "status": model.AboutStatus}
	return read.Owner{Name: rec.place.name, Topic: about[rec.what]}
}

// recordKey is what a record is, its name, and where it stands.
type recordKey struct {
	what, name string
	path       int
}

// record returns the record of a name, made where it is not known yet.
func (r *run) record(what, name string, pos source.Pos, at place) *record {
	key := recordKey{what, name, at.path}
	if rec := r.called[key]; rec != nil && name != "" {
		return rec
	}
	rec := &record{what: what, values: map[string][]any{}, at: pos, place: at}
	for part, vs := range at.held[what] {
		rec.values[part] = slices.Clone(vs)
	}
	r.called[key] = rec
	r.records = append(r.records, rec)
	return rec
}

// add takes over what a statement says. Of what can be only one thing, the last one holds.
func (f *fact) add(to map[string][]any, fills []Fill) {
	for key, v := range f.says {
		to[key] = append(to[key], v)
	}
	for key, slots := range f.slots {
		for _, one := range fills {
			if slices.Contains(slots, one.Slot) {
				to[key] = append(to[key], one.Value)
			}
		}
	}
}

// say takes a fact: a whole one, a part of one that stands around the statement, or what holds for all that stand in it.
func (r *run) say(f *fact, fills []Fill, pos source.Pos, at place, rule *rule) place {
	switch f.what {
	case "interface":
		r.interfaceOf(f, fills, pos, at)
	case "service":
		r.service(f, fills, pos, at)
	case "routing":
		r.routing(f, fills, pos, at)
	case "connection":
		r.connectionOf(f, fills, pos, at)
	case "child":
		r.childOf(f, fills, pos, at)
	default:
		switch {
		case at.record != nil && at.record.what == f.what:
			f.add(at.record.values, fills)
		case len(rule.rules) > 0:
			held := map[string]map[string][]any{}
			for what, parts := range at.held {
				held[what] = parts
			}
			parts := map[string][]any{}
			for key, vs := range at.held[f.what] {
				parts[key] = slices.Clone(vs)
			}
			f.add(parts, fills)
			held[f.what] = parts
			at.held = held
		default:
			f.add(r.record(f.what, "", pos, at).values, fills)
		}
	}
	return at
}

// text is the last value of a part, as a text.
func text(values map[string][]any, key string) string {
	all := values[key]
	if len(all) == 0 {
		return ""
	}
	return source.Clean(fmt.Sprint(all[len(all)-1]))
}

// flag is the last value of a part, as yes or no.
func flag(values map[string][]any, key string) bool {
	all := values[key]
	if len(all) == 0 {
		return false
	}
	on, _ := all[len(all)-1].(bool)
	return on
}

// count is the last value of a part, as a number.
func count(values map[string][]any, key string) uint64 {
	for _, v := range slices.Backward(values[key]) {
		if n, ok := v.(uint64); ok {
			return n
		}
	}
	return 0
}

// complete makes of a record what it says, now that every statement was seen.
func (r *run) complete(rec *record) {
	var lacks []string
	for key, part := range facts()[rec.what] {
		if part.must && len(rec.values[key]) == 0 {
			lacks = append(lacks, key)
		}
	}
	if slices.Sort(lacks); len(lacks) > 0 {
		r.unreadAt(rec.at, rec.owner(), "the %s has no %s", rec.what, strings.Join(lacks, ", "))
		return
	}
	if flag(rec.values, "disabled") {
		return
	}
	switch rec.what {
	case "key":
		for _, d := range rec.doubts {
			r.in.Doubt(rec.owner(), d)
		}
	}
	switch rec.what {
	case "route":
		if why := r.route(rec); why != "" {
			r.unreadAt(rec.at, rec.owner(), "%s", why)
		}
	case "rule":
		r.accessRule(rec)
	case "translation":
		r.translationRule(rec)
	case "key":
		r.key(rec)
	case "status":
		r.status(rec)
	}
}

// status keeps what a status page shows of an SA.
func (r *run) status(rec *record) {
	seen := &r.in.Gateway.Observed
	if _, ok := seen.Lists(model.ListSAs); !ok {
		seen.Listed = append(seen.Listed, model.Listed{List: model.ListSAs, At: rec.at})
	}
	up := len(rec.values["up"]) == 0 || flag(rec.values, "up")
	age := time.Duration(0)
	for _, v := range rec.values["age"] {
		age, _ = v.(time.Duration)
	}
	var suite ike.Suite
	for _, key := range []string{"encryption", "integrity", "group"} {
		for _, v := range rec.values[key] {
			if c, ok := v.(ike.Choice); ok {
				suite.Transforms[c.Registry] = c
			}
		}
	}
	peer := netip.Addr{}
	for _, v := range rec.values["peer"] {
		peer, _ = v.(netip.Addr)
	}
	name, child := text(rec.values, "connection"), text(rec.values, "child")
	state := map[bool]string{true: "up", false: "down"}[up]
	if child == "" {
		suite.Protocol = ike.IKE
		seen.IKE = append(seen.IKE, &model.IKESA{At: rec.at, Connection: name, Up: up, State: state, Suite: suite, Age: age, Remote: peer})
		return
	}
	suite.Protocol = ike.ESP
	count := func(bytes, packets string) model.Counter {
		told := len(rec.values[bytes]) > 0
		return model.Counter{Bytes: count(rec.values, bytes), Packets: count(rec.values, packets), Told: told, At: rec.at}
	}
	seen.Children = append(seen.Children, &model.ChildSA{
		At: rec.at, Connection: name, Name: child, Up: up, State: state, Protocol: ike.ESP, Mode: ike.Tunnel, Suite: suite,
		Peer: peer, Age: age,
		In: count("bytes-in", "packets-in"), Out: count("bytes-out", "packets-out"),
		Local: selectorsOf(rec.values["local"]), Remote: selectorsOf(rec.values["remote"]),
	})
}

// selectorsOf are the networks of a part as selectors.
func selectorsOf(values []any) ike.Selectors {
	var out ike.Selectors
	for _, v := range values {
		switch v := v.(type) {
		case ike.Selector:
			out = append(out, v)
		case netip.Prefix:
			out = append(out, ike.SelectPrefix(v))
		case netip.Addr:
			out = append(out, ike.SelectPrefix(netip.PrefixFrom(v, v.BitLen())))
		}
	}
	return out
}

// key adds a pre-shared key.
func (r *run) key(rec *record) {
	k := &model.Key{At: rec.at, Name: rec.place.name, For: rec.place.Connection}
	for _, v := range rec.values["value"] {
		k.Secret, _ = v.(source.Secret)
	}
	for _, v := range rec.values["owners"] {
		switch v := v.(type) {
		case netip.Addr:
			k.Owners = append(k.Owners, ike.Addr(v))
		case model.Address:
			k.Owners = append(k.Owners, identity(v.Text))
		case string:
			k.Owners = append(k.Owners, identity(v))
		}
	}
	r.in.Gateway.Keys = append(r.in.Gateway.Keys, k)
}

// protocolOf returns the instance of a routing protocol without a name, made where there is none.
func (r *run) protocolOf(name string, pos source.Pos) *model.RoutingProtocol {
	for _, p := range r.in.Gateway.Protocols {
		if p.Name == name {
			return p
		}
	}
	p := &model.RoutingProtocol{Name: name, At: pos}
	r.in.Gateway.Protocols = append(r.in.Gateway.Protocols, p)
	return p
}

// childOf says what concerns all networks of a child.
func (r *run) childOf(f *fact, fills []Fill, pos source.Pos, at place) {
	values := map[string][]any{}
	f.add(values, fills)
	if at.Connection == nil {
		r.problem(pos, "it is of a child, and there is no connection around it")
		return
	}
	proto := uint64(0)
	for _, v := range values["protocol"] {
		if vs, ok := v.(packet.Values); ok {
			proto, ok = vs.Single()
			if !ok {
				r.unreadAt(pos, at.owner(), "a child has one protocol")
				return
			}
		}
	}
	r.after = append(r.after, func() {
		for _, s := range r.subjects(settings.OfChild, at) {
			for _, list := range []*model.Setting[ike.Selectors]{&s.Child.Local, &s.Child.Remote} {
				list.Value = slices.Clone(list.Value)
				for i := range list.Value {
					list.Value[i].Proto = uint8(proto)
				}
			}
		}
	})
}

// connectionOf says what concerns a connection as a whole.
func (r *run) connectionOf(f *fact, fills []Fill, pos source.Pos, at place) {
	values := map[string][]any{}
	f.add(values, fills)
	if at.Connection == nil {
		r.problem(pos, "it is of a connection, and there is none around it")
		return
	}
	if len(values["disabled"]) > 0 {
		r.of[at.Connection].disabled = flag(values, "disabled")
	}
	if dev := text(values, "interface"); dev != "" {
		r.bound = append(r.bound, binding{at.Connection, dev, pos})
	}
}

// binding is a tunnel interface that leads into a connection.
type binding struct {
	connection *model.Connection
	device     string
	at         source.Pos
}

// bind gives tunnel interfaces and the connections that they lead into the same identifier.
func (r *run) bind() {
	next := uint32(0)
	for _, b := range r.bound {
		dev := r.interfaceBy(b.device)
		if dev == nil {
			r.unreadAt(b.at, read.Owner{Name: b.connection.Name, To: &b.connection.Doubts}, "interface %s is not there", b.device)
			continue
		}
		if dev.Kind == "" {
			dev.Kind = "xfrm"
		}
		if dev.Kind != "xfrm" {
			continue // what wraps leads into a tunnel by its outer addresses
		}
		if dev.IfID == 0 {
			next++
			dev.IfID = next
		}
		why := "the identifier of " + dev.Name
		for _, k := range b.connection.Children {
			k.IfIDIn, k.IfIDOut = model.Unsaid(dev.IfID, why), model.Unsaid(dev.IfID, why)
		}
	}
}

// interfaceOf says something of the interface that the statement names, else of the one that it stands in.
func (r *run) interfaceOf(f *fact, fills []Fill, pos source.Pos, at place) {
	values := map[string][]any{}
	f.add(values, fills)
	i := at.port
	if name := text(values, "name"); name != "" {
		i = r.in.Gateway.InterfaceOf(name, pos)
	}
	if i == nil {
		r.problem(pos, "it is of an interface, and there is none around it")
		return
	}
	for _, v := range values["address"] {
		switch v := v.(type) {
		case netip.Prefix:
			i.AddAddress(v)
		case netip.Addr:
			i.AddAddress(netip.PrefixFrom(v, v.BitLen()))
		}
	}
	if kind := text(values, "kind"); kind != "" {
		i.Kind = model.TunnelKind(kind)
	}
	if len(values["down"]) > 0 {
		i.Down = flag(values, "down")
	}
	i.Dynamic = i.Dynamic || flag(values, "dynamic")
	i.Ends(textOr(values, "local", i.Local), textOr(values, "remote", i.Remote))
	for _, v := range values["within"] {
		if ref, ok := v.(reference); ok {
			o := r.object(ref, at)
			o.values = append(o.values, i.Name)
		}
	}
	if from := text(values, "borrows"); from != "" {
		r.borrowed = append(r.borrowed, borrowed{i, from, pos})
	}
}

// textOr is a part as a text, or what was known before.
func textOr(values map[string][]any, key string, before netip.Addr) string {
	if t := text(values, key); t != "" {
		return t
	}
	return before.String()
}

// borrowed is an interface that uses the addresses of another.
type borrowed struct {
	of   *model.Interface
	from string
	at   source.Pos
}

// interfaces gives those that borrow addresses the addresses, without the networks that go with them.
func (r *run) interfaces() {
	for _, b := range r.borrowed {
		if i := r.interfaceBy(b.from); i != nil {
			for _, a := range i.Addresses {
				b.of.AddAddress(netip.PrefixFrom(a.Addr(), a.Addr().BitLen()))
			}
		} else {
			r.unreadAt(b.at, read.Owner{Topic: model.AboutNetwork | model.AboutFilter}, "interface %s is not there", b.from)
		}
	}
}

// service adds a service to those around the statement.
func (r *run) service(f *fact, fills []Fill, pos source.Pos, at place) {
	if at.object == nil || at.object.kind != services {
		r.problem(pos, "a service belongs to services that have a name, and there are none around it")
		return
	}
	values := map[string][]any{}
	f.add(values, fills)
	at.object.values = append(at.object.values, serviced(values))
}

// serviced are the packets of protocols, ports and types of ICMP. Ports alone are of every protocol that has them.
func serviced(values map[string][]any) packet.Set {
	set := packet.All()
	for _, of := range []struct {
		key   string
		field packet.Field
	}{{"protocol", packet.Proto}, {"ports", packet.Dport}, {"source-ports", packet.Sport}} {
		var all []packet.Values
		for _, v := range values[of.key] {
			if vs, ok := v.(packet.Values); ok {
				all = append(all, vs)
			}
		}
		if len(all) == 0 {
			continue
		}
		if of.field != packet.Proto {
			set = set.And(packet.Where(packet.Proto, packet.WithPorts))
		}
		set = set.And(packet.Where(of.field, packet.Join(all...)))
	}
	if len(values["icmp"]) > 0 {
		types := packet.None()
		for _, v := range values["icmp"] {
			if n, ok := v.(uint64); ok && n <= math.MaxUint8 {
				types = types.Or(packet.Where(packet.ICMP, packet.Numbers(n<<8, n<<8|255)))
			}
		}
		set = set.And(packet.Where(packet.Proto, packet.WithTypes)).And(types)
	}
	return set
}

// routing says something of the routing protocol that the statement stands in.
func (r *run) routing(f *fact, fills []Fill, pos source.Pos, at place) {
	values := map[string][]any{}
	f.add(values, fills)
	p := at.protocol
	if name := text(values, "protocol"); name != "" {
		p = r.protocolOf(name, pos)
	}
	if p == nil {
		r.problem(pos, "it is of a routing protocol, and there is none around it")
		return
	}
	for _, key := range []string{"interface", "passive"} {
		for i, v := range values[key] {
			if v == "here" && at.port != nil {
				values[key][i] = at.port.Name
			}
		}
	}
	for _, v := range values["network"] {
		if prefix, ok := prefixOf(v); ok {
			p.Networks = append(p.Networks, model.Carried{Network: prefix, At: pos})
		}
	}
	for _, v := range values["interface"] {
		p.Interfaces = append(p.Interfaces, model.Carried{Name: source.Clean(fmt.Sprint(v)), At: pos})
	}
	for _, v := range values["passive"] {
		p.Passive = append(p.Passive, source.Clean(fmt.Sprint(v)))
	}
	for _, v := range values["redistribute"] {
		p.Redistribute = append(p.Redistribute, model.Carried{Name: source.Clean(fmt.Sprint(v)), At: pos})
	}
	for _, v := range values["neighbor"] {
		if a, ok := v.(netip.Addr); ok {
			p.Neighbors = append(p.Neighbors, model.Neighbor{Addr: a, At: pos})
		}
	}
}

// route adds a route; it returns why it could not.
func (r *run) route(rec *record) string {
	rt := &model.Route{At: rec.at, Dev: text(rec.values, "device"), Kind: text(rec.values, "kind"), Origin: "static",
		Doubts: rec.doubts}
	for _, v := range rec.values["via"] {
		rt.Via, _ = v.(netip.Addr)
	}
	rt.Metric = int(min(count(rec.values, "metric"), 1<<31-1))
	for _, v := range rec.values["to"] {
		prefix, ok := prefixOf(v)
		if !ok {
			return "a route leads to one network"
		}
		rt.To = prefix
	}
	r.in.Gateway.AddRoute(rt)
	return ""
}

// prefixOf returns the network that a value is; ok is false for a range that is none.
func prefixOf(v any) (netip.Prefix, bool) {
	if t, ok := v.(string); ok {
		s, err := literal.Net(t)
		if err != nil {
			return netip.Prefix{}, false
		}
		v = s
	}
	s, ok := selector(v)
	if !ok {
		return netip.Prefix{}, false
	}
	return s.Prefix()
}
