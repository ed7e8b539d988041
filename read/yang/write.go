package yang

import (
	"fmt"
	"io"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/packet"
)

// Write writes a gateway as instance data of the IETF's models, in JSON or XML. It returns what they cannot say, in the order in which it
// stands in the gateway. The same stands in the output, in a module of Toril's own (see LeftOut): read back, it is not known. Keys are
// never written.
func Write(w io.Writer, g *model.Gateway, asXML bool) (lacks []string, err error) {
	x := &writer{g: g}
	var top object
	x.about = model.AboutInterfaces
	top.put("ietf-interfaces:interfaces", x.interfaces())
	x.about = model.AboutRoutes
	top.put("ietf-routing:routing", x.routing())
	x.about = model.AboutFilter
	top.put("ietf-access-control-list:acls", x.acls())
	top.put("ietf-nat:nat", x.nat())
	x.about = model.AboutIKE
	top.put("ietf-i2nsf-ike:ipsec-ike", x.ipsec())
	x.doubts()
	top.put(LeftOut+":left-out", x.leftOut())
	for _, l := range x.lacks {
		if !slices.Contains(lacks, l.What) {
			lacks = append(lacks, l.What)
		}
	}
	if asXML {
		return lacks, writeXML(w, top)
	}
	return lacks, writeJSON(w, top)
}

type writer struct {
	g     *model.Gateway
	about model.Topic // what is being written
	of    string      // the connection that is being written; "" for none
	lacks []model.Omission
}

// cannot notes what the models cannot say.
func (x *writer) cannot(format string, args ...any) {
	x.lack(model.Omission{About: x.about, Connection: x.of, What: fmt.Sprintf(format, args...)})
}

func (x *writer) lack(l model.Omission) {
	if !slices.Contains(x.lacks, l) {
		x.lacks = append(x.lacks, l)
	}
}

// types are those of interfaces (iana-if-type) by the kinds that Toril knows.
var types = map[string]string{"loopback": "softwareLoopback", "": "ethernetCsmacd", "dummy": "softwareLoopback", "vlan": "l2vlan",
	"bridge": "bridge"}

func (x *writer) interfaces() (out object) {
	var list []object
	for _, i := range x.g.Interfaces {
		var o object
		o.put("name", i.Name)
		typ, ok := types[i.Kind]
		if !ok {
			typ = "tunnel"
		}
		if !ok && i.Kind != "tunnel" {
			x.cannot("interface %s: what kind of tunnel it is (%s), its identifier and its ends", i.Name, i.Kind)
		}
		if i.Dynamic {
			x.cannot("interface %s: that it gets its address while it runs", i.Name)
		}
		o.put("type", "iana-if-type:"+typ)
		o.put("enabled", !i.Down)
		var by [2][]object
		for _, a := range i.Addresses {
			var one object
			one.put("ip", a.Addr().String())
			one.put("prefix-length", a.Bits())
			n := 0
			if a.Addr().Is6() {
				n = 1
			}
			by[n] = append(by[n], one)
		}
		for n, fam := range []string{"ipv4", "ipv6"} {
			if len(by[n]) > 0 {
				o.put("ietf-ip:"+fam, object{{"address", by[n]}})
			}
		}
		list = append(list, o)
	}
	out.put("interface", list)
	return out
}

// ports are the names of the interfaces.
func (x *writer) ports() map[string]bool {
	out := map[string]bool{}
	for _, i := range x.g.Interfaces {
		out[i.Name] = true
	}
	return out
}

func (x *writer) routing() (out object) {
	known := x.ports()
	var by [2][]object
	seen := map[netip.Prefix]bool{}
	for _, rt := range x.g.Routes {
		if rt.Origin == "connected" {
			continue
		}
		if seen[rt.To] && rt.Table == "main" {
			x.cannot("route to %s: a second one", rt.To)
			continue
		}
		seen[rt.To] = seen[rt.To] || rt.Table == "main"
		o, ok := x.route(rt, known)
		if !ok {
			continue
		}
		n := 0
		if rt.To.Addr().Is6() {
			n = 1
		}
		by[n] = append(by[n], o)
	}
	for _, p := range x.g.Protocols {
		x.cannot("routing protocol %s: what it is told", strings.TrimSpace(p.Name+" "+p.Instance))
	}
	if len(x.g.RouteRules) > 0 {
		x.cannot("rules that choose routing tables")
	}
	var static object
	for n, fam := range []string{"ipv4", "ipv6"} {
		if len(by[n]) > 0 {
			static.put("ietf-"+fam+"-unicast-routing:"+fam, object{{"route", by[n]}})
		}
	}
	if len(static) == 0 {
		return nil
	}
	var one object
	one.put("type", "ietf-routing:static")
	one.put("name", "static")
	one.put("static-routes", static)
	out.within("control-plane-protocols/control-plane-protocol", []object{one})
	return out
}

// route writes a static route; ok is false where the model has no place for it.
func (x *writer) route(rt *model.Route, known map[string]bool) (o object, ok bool) {
	if rt.Table != "main" || rt.Metric != 0 || rt.Src.IsValid() {
		x.cannot("route to %s: its table, metric or source", rt.To)
	}
	if rt.Table != "main" {
		return nil, false
	}
	var hop object
	switch {
	case rt.Kind != "unicast":
		hop.put("special-next-hop", rt.Kind)
	case known[rt.Dev]:
		hop.put("outgoing-interface", rt.Dev)
	case rt.Dev != "":
		x.cannot("route to %s: interface %s, which is not known", rt.To, rt.Dev)
	}
	if rt.Via.IsValid() && rt.Kind == "unicast" {
		hop.put("next-hop-address", rt.Via.String())
	}
	if len(hop) == 0 {
		x.cannot("route to %s: it has no next hop that is known", rt.To)
		return nil, false
	}
	return object{{"destination-prefix", rt.To.String()}, {"next-hop", hop}}, true
}

// acls writes filter chains as access lists, rule by rule. Where a chain stands, and what depends on connections and tunnels, RFC 8519 does
// not say.
func (x *writer) acls() (out object) {
	ports := x.ports()
	var list []object
	for _, c := range x.g.Chains {
		if c.Kind != model.FilterChain {
			continue
		}
		if c.Hook != model.NoHook {
			x.cannot("access list %s: that it is asked at the hook %s, and what becomes of the rest", c.Name, c.Hook)
		}
		var aces []object
		for n, r := range c.Rules {
			entries, ok := entriesOf(r, ports)
			if !ok {
				x.cannot("access list %s: rule %d (%s)", c.Name, n+1, r.When)
				continue
			}
			for _, o := range entries {
				aces = append(aces, append(object{{"name", fmt.Sprint(len(aces) + 1)}}, o...))
			}
		}
		if len(aces) == 0 {
			continue
		}
		var o object
		o.put("name", c.Name)
		o.within("aces/ace", aces)
		list = append(list, o)
	}
	out.put("acl", list)
	return out
}

// maxEntries is how many entries one rule may become.
const maxEntries = 64

// entriesOf writes a rule as entries of an access list; ok is false where they cannot say exactly what it is for.
func entriesOf(r *model.Rule, ports map[string]bool) (out []object, ok bool) {
	action := map[model.Verb]string{model.Accept: "accept", model.Drop: "drop", model.Reject: "reject"}[r.Verb]
	if action == "" || !r.Certain() || r.When.Empty() {
		return nil, false
	}
	actions := object{{"forwarding", "ietf-access-control-list:" + action}}
	if r.Log {
		actions.put("logging", "ietf-access-control-list:log-syslog")
	}
	same := packet.None()
	for _, part := range r.When.Parts() {
		for _, e := range entriesIn(part) {
			set, o, ok := e.write(part, ports)
			if !ok || len(out) == maxEntries {
				return nil, false
			}
			same = same.Or(set)
			out = append(out, object{{"matches", o}, {"actions", actions}})
		}
	}
	return out, same.Equal(r.When)
}

// entry is what one entry of an access list matches. A range from 0 on up to its field's greatest value is any.
type entry struct {
	fam          packet.Family
	src, dst     netip.Prefix
	proto        [2]uint64
	sport, dport [2]uint64
	icmp         [2]uint64
}

// entriesIn are those that a part of a rule becomes, at most one more than a rule may.
func entriesIn(part packet.Set) (out []entry) {
	fam := part.Families()[0]
	ranges := func(f packet.Field) [][2]uint64 {
		if all := part.Values(f, fam).Ranges(); len(all) > 0 {
			return all
		}
		return [][2]uint64{{0, 0xffff}}
	}
	for _, src := range part.Prefixes(packet.Src) {
		for _, dst := range part.Prefixes(packet.Dst) {
			for _, proto := range ranges(packet.Proto) {
				for _, sport := range ranges(packet.Sport) {
					for _, dport := range ranges(packet.Dport) {
						for _, icmp := range eachType(ranges(packet.ICMP)) {
							if len(out) > maxEntries {
								return out
							}
							out = append(out, entry{fam, src, dst, proto, sport, dport, icmp})
						}
					}
				}
			}
		}
	}
	return out
}

// eachType parts ranges of types and codes of ICMP into types, where they hold whole types.
func eachType(in [][2]uint64) (out [][2]uint64) {
	for _, r := range in {
		if r == [2]uint64{0, 0xffff} || r[0]&255 != 0 || r[1]&255 != 255 {
			out = append(out, r)
			continue
		}
		for t := r[0] >> 8; t <= r[1]>>8; t++ {
			out = append(out, [2]uint64{t << 8, t<<8 | 255})
		}
	}
	return out
}

// write writes what an entry matches, and the packets that this is.
func (e entry) write(part packet.Set, ports map[string]bool) (set packet.Set, o object, ok bool) {
	set = packet.Only(e.fam)
	name := "ipv4"
	if e.fam == packet.IPv6 {
		name = "ipv6"
	}
	var ip object
	proto, one := e.proto[0], e.proto[0] == e.proto[1]
	switch {
	case one:
		ip.put("protocol", proto)
		set = set.And(packet.Where(packet.Proto, packet.OneOf(proto)))
	case e.proto != [2]uint64{0, 255}:
		return set, nil, false
	}
	if e.src.Bits() > 0 {
		ip.put("source-"+name+"-network", e.src.String())
		set = set.And(packet.Prefixes(packet.Src, e.src))
	}
	if e.dst.Bits() > 0 {
		ip.put("destination-"+name+"-network", e.dst.String())
		set = set.And(packet.Prefixes(packet.Dst, e.dst))
	}
	if len(ip) == 0 {
		o = append(o, member{name, object{}})
	}
	o.put(name, ip)
	if set, o, ok = e.devices(part, set, o, ports); !ok {
		return set, nil, false
	}
	l4 := map[uint64]string{6: "tcp", 17: "udp"}[proto]
	for _, side := range []struct {
		name  string
		field packet.Field
		is    [2]uint64
	}{{"source-port", packet.Sport, e.sport}, {"destination-port", packet.Dport, e.dport}} {
		if side.is == [2]uint64{0, 65535} {
			continue
		}
		if !one || l4 == "" {
			return set, nil, false
		}
		set = set.And(packet.Where(side.field, packet.Numbers(side.is[0], side.is[1])))
		if side.is[0] == side.is[1] {
			o.within(l4+"/"+side.name, object{{"operator", "eq"}, {"port", side.is[0]}})
			continue
		}
		o.within(l4+"/"+side.name, object{{"lower-port", side.is[0]}, {"upper-port", side.is[1]}})
	}
	if e.icmp != [2]uint64{0, 0xffff} {
		if !one || proto != 1 && proto != 58 || e.icmp[0]&255 != 0 || e.icmp[1] != e.icmp[0]|255 {
			return set, nil, false
		}
		o.within("icmp/type", e.icmp[0]>>8)
		set = set.And(packet.Where(packet.ICMP, packet.Numbers(e.icmp[0], e.icmp[1])))
	}
	return set, o, true
}

// devices writes the interfaces that a part of a rule is for, where these are one each, and known.
func (e entry) devices(part, set packet.Set, o object, ports map[string]bool) (packet.Set, object, bool) {
	for _, by := range []struct {
		name  string
		field packet.Field
	}{{"ingress-interface", packet.In}, {"egress-interface", packet.Out}} {
		if all := packet.All().Values(by.field, e.fam); part.Values(by.field, e.fam).Equal(all) {
			continue
		}
		w, _ := part.Witness()
		dev := w.In
		if by.field == packet.Out {
			dev = w.Out
		}
		if dev == "" || !ports[dev] || !part.Values(by.field, e.fam).Equal(packet.Name(dev)) {
			return set, nil, false
		}
		o.put(by.name, dev)
		set = set.And(packet.Where(by.field, packet.Name(dev)))
	}
	return set, o, true
}

// nat writes what is translated one to one, and destinations of one address.
func (x *writer) nat() (out object) {
	var list []object
	for _, c := range x.g.Chains {
		if c.Kind != model.NATChain {
			continue
		}
		for n, r := range c.Rules {
			o, ok := mapping(r)
			if !ok {
				x.cannot("address translation %s: rule %d (%s of %s)", c.Name, n+1, r.Verb, r.When)
				continue
			}
			list = append(list, append(object{{"index", len(list) + 1}, {"type", "static"}}, o...))
		}
	}
	if len(list) == 0 {
		return nil
	}
	one := object{{"id", 1}, {"name", "translations"}}
	one.within("mapping-table/mapping-entry", list)
	out.within("instances/instance", []object{one})
	return out
}

// mapping writes a translation as a static mapping; ok is false where that says another thing.
func mapping(r *model.Rule) (o object, ok bool) {
	field, from, onto := packet.Src, "internal-src-address", "external-src-address"
	switch r.Verb {
	case model.SourceNAT:
	case model.DestinationNAT:
		field, from, onto = packet.Dst, "external-dst-address", "internal-dst-address"
	default:
		return nil, false
	}
	nets := r.When.Prefixes(field)
	writes := r.Writes()
	to := writes.Onto
	if a := addressOf(writes.Addrs, writes.Family); a.IsValid() {
		to = netip.PrefixFrom(a, a.BitLen())
	}
	if len(nets) != 1 || !to.IsValid() || nets[0].Bits() != to.Bits() || !r.Certain() {
		return nil, false
	}
	o.put(from, nets[0].String())
	o.put(onto, to.String())
	set := packet.Prefixes(field, nets[0])
	fam := writes.Family
	proto, one := r.When.Values(packet.Proto, fam).Single()
	if one {
		set = set.And(packet.Where(packet.Proto, packet.OneOf(proto)))
		o.put("transport-protocol", proto)
	}
	if port, single := r.When.Values(packet.Dport, fam).Single(); one && single && field == packet.Dst {
		set = set.And(packet.Where(packet.Dport, packet.OneOf(port)))
		o.put("external-dst-port", object{{"start-port-number", port}})
	}
	if port, single := writes.Ports.Single(); single && field == packet.Dst {
		o.put("internal-dst-port", object{{"start-port-number", port}})
	} else if !writes.Ports.Empty() {
		return nil, false
	}
	return o, set.Equal(r.When)
}

// addressOf returns the only address of some; invalid where there are several.
func addressOf(v packet.Values, fam packet.Family) netip.Addr {
	all := packet.Only(fam).With(packet.Src, v).Prefixes(packet.Src)
	if v.Empty() || len(all) != 1 || !all[0].IsSingleIP() {
		return netip.Addr{}
	}
	return all[0].Addr()
}

func (x *writer) ipsec() (out object) {
	var pads, conns []object
	names := map[string]bool{}
	for _, c := range x.g.Connections {
		for n := 2; names[c.Name]; n++ { // of another file
			one := *c
			if one.Name, _, _ = strings.Cut(c.Name, " ("); true {
				one.Name = fmt.Sprintf("%s (%d)", one.Name, n)
			}
			c = &one
		}
		names[c.Name] = true
		if c.Version.Value == ike.V1 {
			x.cannot("connection %s: IKEv1", c.Name)
			continue
		}
		if c.Version.Value == ike.Either {
			x.cannot("connection %s: that it takes IKEv1 too", c.Name)
		}
		x.of = c.Name
		conns = append(conns, x.connection(c))
		for _, side := range []struct {
			name string
			p    *model.Party
			at   netip.Addr
		}{{c.Name + "-own", &c.Local, single(c.LocalAddrs.Value)}, {c.Name + "-peer", &c.Remote, single(c.RemoteAddrs.Value)}} {
			pads = append(pads, x.pad(side.name, side.p, side.at))
		}
		x.of = ""
	}
	if len(x.g.Keys) > 0 {
		x.lack(model.Omission{About: model.AboutKeys, What: "pre-shared keys: they are never written"})
	}
	out.within("pad/pad-entry", pads)
	out.put("conn-entry", conns)
	return out
}

// pad writes who one end is, and how it authenticates. Where no identity is configured it is the address that the end is at (RFC 7296,
// section 3.5).
func (x *writer) pad(name string, p *model.Party, at netip.Addr) object {
	o := object{{"name", name}}
	id := p.ID.Value
	if id.Kind == ike.NoID && at.IsValid() && p.Method.Value != ike.Certificate {
		id = ike.Addr(at)
	}
	if id.Kind == ike.IDHost {
		x.cannot("%s: its identity, %s, which is not in its configuration", name, id)
		id = ike.Identity{Kind: ike.NoID}
	}
	switch id.Kind {
	case ike.IDFQDN:
		if strings.Trim(strings.ToLower(id.Value), "abcdefghijklmnopqrstuvwxyz0123456789.-_") != "" || id.Value == "" {
			x.cannot("%s: the identity %s, which is no domain name", name, id)
			o.put("id-null", empty{})
			break
		}
		o.put("fqdn-string", id.Value)
	case ike.IDMail:
		o.put("rfc822-address-string", id.Value)
	case ike.IDAddr:
		kind := "ipv4-address"
		if strings.Contains(id.Value, ":") {
			kind = "ipv6-address"
		}
		o.put(kind, id.Value)
	default:
		x.cannot("%s: the identity %s", name, id)
		o.put("id-null", empty{})
	}
	method := map[ike.Method]string{ike.PSK: "pre-shared", ike.Certificate: "digital-signature", ike.EAP: "eap",
		ike.NoAuth: "null"}[p.Method.Value]
	o.put("auth-protocol", "ikev2")
	o.within("peer-authentication/auth-method", method)
	return o
}

// algorithms writes the ciphers of proposals as a list.
func algorithms(ps []ike.Proposal, r ike.Registry) (ciphers []object, ids []any) {
	for _, c := range ike.All(ps, r) {
		if r != ike.Encryption {
			ids = append(ids, c.ID)
			continue
		}
		o := object{{"id", len(ciphers) + 1}, {"algorithm-type", c.ID}}
		if c.KeyBits > 0 {
			o.put("key-length", c.KeyBits)
		}
		ciphers = append(ciphers, o)
	}
	return ciphers, ids
}

// leavesOf writes the settings that one leaf says: those of a connection, or those of each spd-entry.
func leavesOf(spd bool, s settings.Subject, to *object) {
	for _, l := range leaves {
		row := l.row
		if l.spd != spd || row.Of == settings.OfChild && s.Child == nil {
			continue
		}
		v, has := row.Get(s)
		n, ok := number(v.Value)
		switch {
		case !has || !ok || n == 0:
		case strings.HasSuffix(l.path, "bytes"):
			to.within(l.path, big(n))
		default:
			to.within(l.path, n)
		}
	}
}

// connection writes a conn-entry.
func (x *writer) connection(c *model.Connection) object {
	o := object{{"name", c.Name}}
	start := model.StartNever
	if len(c.Children) > 0 {
		start = c.Children[0].Start.Value
	}
	words := map[model.Start]string{
		model.StartNever:   "add",
		model.StartTraffic: "on-demand",
		model.StartBoot:    "start",
		model.StartBoth:    "start",
	}
	o.put("autostartup", words[start])
	o.put("version", "ikev2")
	s := settings.Subject{Connection: c}
	if len(c.Children) > 0 {
		s.Child = c.Children[0]
	}
	var times object
	leavesOf(false, s, &times)
	var child object
	for _, m := range times {
		if m.key == "child-sa-info" {
			child, _ = m.value.(object)
			continue
		}
		o = append(o, m)
	}
	ciphers, _ := algorithms(c.Proposals.Value, ike.Encryption)
	_, hashes := algorithms(c.Proposals.Value, ike.Integrity)
	_, groups := algorithms(c.Proposals.Value, ike.KeyExchange)
	o.put("ike-sa-intr-alg", hashes)
	o.put("ike-sa-encr-alg", ciphers)
	if len(groups) > 0 {
		o.put("fs-group", groups[0])
	}
	x.proposals("connection "+c.Name, c.Proposals.Value, groups, 1)
	for _, p := range c.Proposals.Value {
		x.prf(c, p)
	}
	o.put("local", object{{"local-pad-entry-name", c.Name + "-own"}})
	o.put("remote", object{{"remote-pad-entry-name", c.Name + "-peer"}})
	if c.Encap.Value {
		o.put("encapsulation-type", object{{"espencap", "espinudp"}})
	}
	x.rest(c)
	var entries []object
	for i, k := range c.Children {
		entries = append(entries, x.child(c, k, func(s settings.Subject, to *object) { leavesOf(true, s, to) })...)
		if i > 0 {
			x.unlike(c, k)
		}
	}
	o.within("spd/spd-entry", entries)
	var info object
	if first := protecting(c); first != nil {
		_, groups := algorithms(first.Proposals.Value, ike.KeyExchange)
		info.put("fs-groups", groups)
	}
	info = append(info, child...)
	o.put("child-sa-info", info)
	return o
}

// prf notes a PRF that is not that of the hash of the integrity algorithm: the model has no place for it.
func (x *writer) prf(c *model.Connection, p ike.Proposal) {
	var derived []uint16
	for _, i := range p.Of(ike.Integrity) {
		if prf, ok := ike.PRFOf(i); ok {
			derived = append(derived, prf.ID)
		}
	}
	for _, f := range p.Of(ike.PRF) {
		if !slices.Contains(derived, f.ID) {
			x.cannot(prfOf(c.Name)+" %s", f)
		}
	}
}

// proposals notes what a single proposal of lists cannot say of several.
func (x *writer) proposals(of string, ps []ike.Proposal, groups []any, most int) {
	if len(ps) > 1 {
		x.cannot("%s: %swhich algorithms of the %d belong together", of, notWhole, len(ps))
	}
	if len(groups) > most {
		x.cannot("%s: %smore than one group of the IKE SA", of, notWhole)
	}
	for _, p := range ps {
		for _, r := range ike.TypesShown() {
			if r.Exchanges() && r != ike.KeyExchange && len(p.Transforms[r]) > 0 {
				x.cannot("%s: %sadditional key exchanges", of, notWhole)
			}
		}
	}
}

// said are the settings that the models have a place for.
func said() map[*settings.Row]bool {
	out := map[*settings.Row]bool{
		settings.OwnAddress.Row:         true,
		settings.PeerAddress.Row:        true,
		settings.OwnIdentity.Row:        true,
		settings.PeerIdentity.Row:       true,
		settings.OwnAuthentication.Row:  true,
		settings.PeerAuthentication.Row: true,
		settings.IKEVersion.Row:         true,
		settings.IKEProposals.Row:       true,
		settings.IKEKeyExchange.Row:     true,
		settings.Encapsulation.Row:      true,
		settings.OwnNetworks.Row:        true,
		settings.PeerNetworks.Row:       true,
		settings.ChildProposals.Row:     true,
		settings.PFS.Row:                true,
		settings.Mode.Row:               true,
		settings.Start.Row:              true,
		settings.Policies.Row:           true,
	}
	for _, l := range leaves {
		out[l.row] = true
	}
	return out
}

// rest notes settings that somebody configures and the models have no place for.
func (x *writer) rest(c *model.Connection) {
	places := said()
	for _, k := range append([]*model.Child{nil}, c.Children...) {
		s := settings.Subject{Connection: c, Child: k}
		for _, row := range settings.All() {
			if places[row] || (row.Of == settings.OfChild) != (k != nil) {
				continue
			}
			told, has := row.Said(s)
			byItself := row == settings.Liveness.Row && c.DPD.Value != 0 // some daemons check by themselves
			if has && (told || byItself) {
				x.cannot("connection %s: %s", c.Name, row.Term)
			}
		}
	}
}

// unlike notes what differs between the children of a connection, where the model has one value for all.
func (x *writer) unlike(c *model.Connection, k *model.Child) {
	first := c.Children[0]
	for _, l := range leaves {
		row := l.row
		a, _ := row.Get(settings.Subject{Connection: c, Child: first})
		b, _ := row.Get(settings.Subject{Connection: c, Child: k})
		if !l.spd && row.Of == settings.OfChild && a.Text != b.Text {
			x.cannot("connection %s: another %s of child %s", c.Name, row.Term, k.Name)
		}
	}
	if k.Start.Value != first.Start.Value {
		x.cannot("connection %s: another start of child %s", c.Name, k.Name)
	}
	if first := protecting(c); !k.Shunts() && !maps.Equal(groupsOf(first), groupsOf(k)) {
		x.cannot("child %s of %s: %sother groups than those of %s", k.Name, c.Name, notWhole, first.Name)
	}
}

// protecting returns the first child that protects packets; nil for none.
func protecting(c *model.Connection) *model.Child {
	for _, k := range c.Children {
		if !k.Shunts() {
			return k
		}
	}
	return nil
}

func groupsOf(k *model.Child) map[uint16]bool {
	out := map[uint16]bool{}
	for _, c := range ike.All(k.Proposals.Value, ike.KeyExchange) {
		out[c.ID] = true
	}
	return out
}

// child writes a spd-entry for every pair of networks.
func (x *writer) child(c *model.Connection, k *model.Child, leaf func(settings.Subject, *object)) (out []object) {
	x.proposals("child "+k.Name+" of "+c.Name, k.Proposals.Value, nil, 1)
	own, peer := single(c.LocalAddrs.Value), single(c.RemoteAddrs.Value)
	for _, l := range k.Local.Value {
		for _, r := range k.Remote.Value {
			lp, ok := l.At(own).Prefix()
			rp, ok2 := r.At(peer).Prefix()
			if !ok || !ok2 || l.Opaque || r.Opaque {
				x.cannot("child %s of %s: networks that are none of one length (%s to %s)", k.Name, c.Name, l, r)
				continue
			}
			name := k.Name
			if len(out) > 0 {
				name = fmt.Sprintf("%s~%d", k.Name, len(out)+1)
			}
			var conf object
			leaf(settings.Subject{Connection: c, Child: k}, &conf)
			conf.put("traffic-selector", x.selector(k, l, r, lp, rp))
			conf.put("processing-info", x.processing(k, own, peer))
			out = append(out, object{{"name", name}, {"ipsec-policy-config", conf}})
		}
	}
	return out
}

func single(as model.Addresses) netip.Addr {
	if all := as.Fixed(); len(all) > 0 {
		return all[0]
	}
	return netip.Addr{}
}

func (x *writer) selector(k *model.Child, l, r ike.Selector, lp, rp netip.Prefix) (ts object) {
	ts.put("local-prefix", lp.String())
	ts.put("remote-prefix", rp.String())
	proto := max(l.Proto, r.Proto)
	if l.Proto != r.Proto && l.Proto != 0 && r.Proto != 0 {
		x.cannot("child %s: different protocols of its sides", k.Name)
	}
	if proto != 0 {
		ts.put("inner-protocol", proto)
	}
	for _, side := range []struct {
		name string
		s    ike.Selector
	}{{"local-ports", l}, {"remote-ports", r}} {
		if !side.s.AllPorts() {
			ts.put(side.name, []object{{{"start", side.s.LoPort}, {"end", side.s.HiPort}}})
		}
	}
	return ts
}

// end is the address of one end of a tunnel: the unspecified one where it may be at any, as the model demands an address.
func (x *writer) end(k *model.Child, a, other netip.Addr) string {
	if a.IsValid() {
		return a.String()
	}
	x.cannot("child %s: that an end of the tunnel may be at any address, which is written as the unspecified one", k.Name)
	if other.Is6() {
		return netip.IPv6Unspecified().String()
	}
	return netip.IPv4Unspecified().String()
}

func (x *writer) processing(k *model.Child, own, peer netip.Addr) (info object) {
	switch k.Mode.Value {
	case ike.Pass:
		return object{{"action", "bypass"}}
	case ike.Drop:
		return object{{"action", "discard"}}
	}
	info.put("action", "protect")
	var sa object
	if slices.ContainsFunc(ike.All(k.Proposals.Value, ike.Sequence), func(c ike.Choice) bool { return c.ID == 1 }) {
		sa.put("ext-seq-num", true)
	}
	mode := "tunnel"
	if k.Mode.Value == ike.Transport {
		mode = "transport"
	}
	sa.put("mode", mode)
	if k.Protocol.Value == ike.AH {
		x.cannot("child %s: AH", k.Name)
	}
	sa.put("protocol-parameters", "esp")
	ciphers, _ := algorithms(k.Proposals.Value, ike.Encryption)
	_, hashes := algorithms(k.Proposals.Value, ike.Integrity)
	var esp object
	esp.put("integrity", hashes)
	esp.put("encryption", ciphers)
	sa.put("esp-algorithms", esp)
	switch {
	case mode == "transport": // the networks are the addresses
	default:
		sa.put("tunnel", object{{"local", x.end(k, own, peer)}, {"remote", x.end(k, peer, own)}})
	}
	info.put("ipsec-sa-cfg", sa)
	return info
}
