// Package yang reads and writes what the IETF's YANG models say of a gateway, in JSON (RFC 7951) and XML: IPsec (RFC 9061), access lists
// (RFC 8519), NAT (RFC 8512), interfaces and IP (RFC 8343, RFC 8344), static routes (RFC 8349). It is how another program hands Toril its
// devices. What the models cannot say Write lists.
package yang

import (
	"bytes"
	"encoding/hex"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"time"

	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/packet"
	"toril/read"
	"toril/source"
	"toril/syntax/tree"
)

var (
	durations = reflect.TypeFor[time.Duration]()
	ints      = reflect.TypeFor[int]()
)

// Format is instance data of the IETF's models.
var Format = &read.Format{
	Name:     "yang",
	Title:    "the IETF's YANG models, in JSON (RFC 7951) or XML: IPsec, access lists, NAT, interfaces, routes",
	Software: "YANG",
	About:    model.AboutEverything,
	Hints:    []string{"*.yang.json", "*.yang.xml"},
	Order:    15,
	Looks: func(f *source.File) (int, string) {
		head := f.Head()
		for _, m := range []string{"ietf-i2nsf-ike", "ietf-interfaces", "ietf-access-control-list", "ietf-routing", "ietf-nat"} {
			if bytes.Contains(head, []byte(`"`+m+`:`)) || bytes.Contains(head, []byte("urn:ietf:params:xml:ns:yang:"+m+`"`)) {
				return 95, "it has data of the module " + m
			}
		}
		return 0, ""
	},
	Read: readFile,
	Covers: read.Rows(
		read.Coverage{
			Statement: "ipsec-ike: pad-entry, conn-entry with spd, child-sa-info",
			Use:       read.Used,
			Note:      "RFC 9061; of the PRF it says nothing",
		},
		read.Coverage{Statement: "interfaces: interface, ipv4 and ipv6 address", Use: read.Used, Note: "RFC 8343, RFC 8344"},
		read.Coverage{Statement: "routing: static-routes", Use: read.Used, Note: "RFC 8349"},
		read.Coverage{Statement: "acls: acl, attachment-points", Use: read.Used, Note: "RFC 8519"},
		read.Coverage{Statement: "nat: mapping-entry of type static", Use: read.Used, Note: "RFC 8512"},
		read.Coverage{Statement: "description, link-up-down-trap-enable, mtu", Use: read.Irrelevant},
	),
}

// moot are leaves of no consequence.
var moot = []string{"description", "link-up-down-trap-enable", "mtu", "action", "initial-contact", "half-open-ike-sa-timer",
	"half-open-ike-sa-cookie-threshold", "statistics", "forwarding"}

// reader is one file on its way into a gateway.
type reader struct {
	in     *read.Input
	used   map[*tree.Node]bool
	owner  read.Owner // what is being read
	pads   map[string]element
	parts  []string     // what the file is a part of only
	leftAt []source.Pos // where it says what it leaves out
}

// containers are what stands at the top, and who reads it.
func (r *reader) containers() map[string]func(element) {
	return map[string]func(element){
		"interfaces": r.interfaces, "routing": r.routing, "acls": r.acls, "nat": r.nat, "ipsec-ike": r.ipsec, "left-out": r.leftOut,
	}
}

func readFile(in *read.Input) {
	parse := tree.XML
	if data := bytes.TrimSpace(in.File.Bytes()); !bytes.HasPrefix(data, []byte("<")) {
		parse = tree.JSON
	}
	root, err := parse(in.File.Bytes())
	if err != nil {
		line := 1
		if e, ok := err.(*tree.Error); ok {
			line = e.Line
		}
		in.Lost(in.At(line), "%v", err)
		return
	}
	r := &reader{in: in, used: map[*tree.Node]bool{}, pads: map[string]element{}}
	tops := r.containers()
	if _, itself := tops[local(root.Key)]; itself {
		root = &tree.Node{Kind: tree.Map, Nodes: []*tree.Node{root}}
	}
	top := element{root, r}
	for _, name := range []string{"left-out", "interfaces", "routing", "acls", "nat", "ipsec-ike"} {
		for _, e := range top.all(name) {
			told(&in.Gateway.Told, name)
			tops[name](e)
		}
	}
	r.lacking()
	r.unread(root, read.Owner{})
}

// told notes what a container at the top tells of a gateway.
func told(t *model.Told, name string) {
	switch name {
	case "interfaces":
		t.Addresses = model.Wholly
	case "routing":
		t.Routes = model.Wholly
	case "acls", "nat":
		t.Filter4, t.Filter6 = true, true
	case "ipsec-ike":
		t.IKE = true
	}
}

// topics are what the containers at the top tell of.
var topics = map[string]model.Topic{"interfaces": model.AboutInterfaces, "routing": model.AboutRoutes, "acls": model.AboutFilter,
	"nat": model.AboutFilter, "ipsec-ike": model.AboutIKE | model.AboutKeys | model.AboutCertificates}

// ofConnection is a connection by its name, as what a statement belongs to.
func (r *reader) ofConnection(name string) read.Owner {
	for _, c := range r.in.Gateway.Connections {
		if c.Name == source.Clean(name) {
			return read.Owner{Name: c.Name, To: &c.Doubts}
		}
	}
	return read.Owner{Name: source.Clean(name), Topic: model.AboutIKE}
}

// unread says of what nobody asked for that it was not read. What belongs to a connection may change that alone.
func (r *reader) unread(n *tree.Node, of read.Owner) {
	for _, m := range n.Nodes {
		name := local(m.Key)
		switch {
		case slices.Contains(moot, name) || namespace(m):
			continue
		case !r.used[m] && m.Key != "":
			r.in.Unread(r.in.Pos(m.At()), of, "%s is not read", source.Clean(name))
			continue
		}
		in := of
		if about := topics[name]; about != 0 {
			in = read.Owner{Topic: about}
		}
		if name == "conn-entry" || n.Kind == tree.List && local(n.Key) == "conn-entry" {
			if id := m.Get("name"); id != nil {
				in = r.ofConnection(id.Text)
			}
		}
		if len(m.Nodes) == 0 {
			r.in.Count()
		}
		r.unread(m, in)
	}
}

func (r *reader) interfaces(e element) {
	for _, i := range e.all("interface") {
		port := r.in.Gateway.InterfaceOf(i.get("name").text(), i.pos())
		switch i.get("type").name() {
		case "softwareLoopback":
			port.Kind = "loopback"
		case "tunnel":
			port.Kind = "tunnel"
		case "l2vlan":
			port.Kind = "vlan"
		case "bridge":
			port.Kind = "bridge"
		}
		port.Down = i.get("enabled").text() == "false"
		for _, fam := range []string{"ipv4", "ipv6"} {
			for _, a := range i.get(fam).all("address") {
				addr, ok := a.get("ip").address()
				n, sized := a.get("prefix-length").number()
				if ok && sized && int(n) <= addr.BitLen() {
					port.AddAddress(netip.PrefixFrom(addr, int(n)))
				}
			}
		}
	}
}

func (r *reader) routing(e element) {
	for _, p := range e.get("control-plane-protocols").all("control-plane-protocol") {
		if kind := p.get("type").name(); kind != "static" {
			r.in.Gateway.Protocols = append(
				r.in.Gateway.Protocols,
				&model.RoutingProtocol{Name: strings.TrimSuffix(kind, "v2"), At: p.pos(),
					Instance: p.get("name").text()},
			)
			continue
		}
		p.get("name")
		for _, fam := range []string{"ipv4", "ipv6"} {
			for _, s := range p.get("static-routes/" + fam).all("route") {
				r.route(s)
			}
		}
	}
}

func (r *reader) route(s element) {
	rt := &model.Route{At: s.pos(), Kind: "unicast", Origin: "static"}
	to, ok := s.get("destination-prefix").prefix()
	if !ok {
		return
	}
	rt.To = to
	hop := s.get("next-hop")
	rt.Via, _ = hop.get("next-hop-address").address()
	rt.Dev = hop.get("outgoing-interface").text()
	if special := hop.get("special-next-hop").name(); special != "" {
		rt.Kind = special
	}
	r.in.Gateway.AddRoute(rt)
}

// acls reads access lists. One that an interface names is asked about what comes in by it, or leaves by it; of what no entry is for the
// standard leaves open what becomes of it (RFC 8519, section 4.1): it passes to the next list.
func (r *reader) acls(e element) {
	const table = "acls"
	lists := map[string]*model.Chain{}
	for _, a := range e.all("acl") {
		name := a.get("name").text()
		a.get("type")
		c := &model.Chain{Family: "inet", Table: table, Name: name, At: a.pos(),
			Policy: model.Unsaid(model.Accept, "RFC 8519, section 4.1")}
		for _, ace := range a.get("aces").all("ace") {
			c.Rules = append(c.Rules, r.ace(ace))
		}
		lists[name] = c
		r.in.Gateway.Chains = append(r.in.Gateway.Chains, c)
	}
	var forward *model.Chain
	for _, i := range e.get("attachment-points").all("interface") {
		for _, way := range []struct {
			name  string
			field packet.Field
		}{{"ingress", packet.In}, {"egress", packet.Out}} {
			for _, set := range i.get(way.name + "/acl-sets").all("acl-set") {
				name := set.get("name").text()
				if lists[name] == nil {
					set.get("name").wrong("the name of an access list")
					continue
				}
				if forward == nil {
					forward = &model.Chain{Family: "inet", Table: table, Name: "attachment points", At: set.pos(), Hook: model.Forward,
						Policy: model.Unsaid(model.Accept, "RFC 8519, section 4.1")}
				}
				forward.Rules = append(forward.Rules, &model.Rule{At: set.pos(), Verb: model.Jump, Target: lists[name].ID(),
					When: packet.Where(way.field, packet.Name(i.get("interface-id").text()))})
			}
		}
	}
	if forward != nil {
		r.in.Gateway.Chains = append(r.in.Gateway.Chains, forward)
	}
}

// ace reads an entry of an access list.
func (r *reader) ace(e element) *model.Rule {
	rule := &model.Rule{At: e.pos(), When: packet.All(), Verb: model.UnknownAction, Comment: e.get("name").text()}
	m := e.get("matches")
	for _, fam := range []struct {
		name string
		only packet.Family
	}{{"ipv4", packet.IPv4}, {"ipv6", packet.IPv6}} {
		ip := m.get(fam.name)
		if !ip.there() {
			continue
		}
		rule.When = rule.When.And(packet.Only(fam.only))
		if n, ok := ip.get("protocol").number(); ok {
			rule.When = rule.When.And(packet.Where(packet.Proto, packet.OneOf(n)))
		}
		if p, ok := ip.get("source-" + fam.name + "-network").prefix(); ok {
			rule.When = rule.When.And(packet.Prefixes(packet.Src, p.Masked()))
		}
		if p, ok := ip.get("destination-" + fam.name + "-network").prefix(); ok {
			rule.When = rule.When.And(packet.Prefixes(packet.Dst, p.Masked()))
		}
	}
	for name, proto := range map[string]uint64{"tcp": 6, "udp": 17} {
		l4 := m.get(name)
		if !l4.there() {
			continue
		}
		rule.When = rule.When.And(packet.Where(packet.Proto, packet.OneOf(proto)))
		for _, side := range []struct {
			name  string
			field packet.Field
		}{{"source-port", packet.Sport}, {"destination-port", packet.Dport}} {
			if v, ok := r.ports(l4.get(side.name)); ok {
				rule.When = rule.When.And(packet.Where(side.field, v))
			}
		}
	}
	if icmp := m.get("icmp"); icmp.there() {
		rule.When = rule.When.And(packet.Only(packet.IPv4).With(packet.Proto, packet.OneOf(1)).
			Or(packet.Only(packet.IPv6).With(packet.Proto, packet.OneOf(58))))
		if n, ok := icmp.get("type").number(); ok && n < 256 {
			rule.When = rule.When.And(packet.Where(packet.ICMP, packet.Numbers(n<<8, n<<8|255)))
		}
	}
	if in := m.get("ingress-interface").text(); in != "" {
		rule.When = rule.When.And(packet.Where(packet.In, packet.Name(in)))
	}
	if out := m.get("egress-interface").text(); out != "" {
		rule.When = rule.When.And(packet.Where(packet.Out, packet.Name(out)))
	}
	if m.there() && r.left(m.n) {
		rule.Doubts.Add(&model.Doubt{Cause: model.NotRead, Gateway: r.in.Gateway.Name, At: rule.At, Why: "a match that was not read"})
	}
	switch e.get("actions/forwarding").name() {
	case "accept":
		rule.Verb = model.Accept
	case "drop":
		rule.Verb = model.Drop
	case "reject":
		rule.Verb = model.Reject
	}
	rule.Log = e.get("actions/logging").name() == "log-syslog"
	return rule
}

// namespace reports whether an attribute of XML says what namespace names are of, or those with a prefix.
func namespace(m *tree.Node) bool {
	return m.Key == "xmlns" || strings.HasPrefix(m.Text, "urn:ietf:params:xml:ns:")
}

// left reports whether something in a node was not read.
func (r *reader) left(n *tree.Node) bool {
	return slices.ContainsFunc(n.Nodes, func(m *tree.Node) bool {
		return m.Key != "" && !r.used[m] && !namespace(m) || r.left(m)
	})
}

// ports reads an operator with a port, or a range.
func (r *reader) ports(e element) (v packet.Values, ok bool) {
	if lo, ranged := e.get("lower-port").number(); ranged {
		hi, _ := e.get("upper-port").number()
		return packet.Numbers(lo, hi), true
	}
	n, ok := e.get("port").number()
	if !ok {
		return v, false
	}
	switch e.get("operator").name() {
	case "lte":
		return packet.Numbers(0, n), true
	case "gte":
		return packet.Numbers(n, 65535), true
	case "neq":
		return packet.Numbers(0, 65535).Minus(packet.OneOf(n)), true
	}
	return packet.OneOf(n), true
}

// nat reads static mappings: of a source as packets leave, of a destination as they come in.
func (r *reader) nat(e element) {
	post := &model.Chain{Family: "inet", Table: "nat", Name: "source", Kind: model.NATChain, Hook: model.Postrouting, Priority: 100,
		Policy: model.Unsaid(model.Accept, "RFC 8512")}
	pre := &model.Chain{Family: "inet", Table: "nat", Name: "destination", Kind: model.NATChain, Hook: model.Prerouting, Priority: -100,
		Policy: post.Policy}
	for _, i := range e.get("instances").all("instance") {
		i.get("id")
		i.get("name")
		i.get("enable")
		for _, m := range i.get("mapping-table").all("mapping-entry") {
			m.get("index")
			m.get("type")
			for _, way := range []struct {
				from, onto string
				field      packet.Field
				chain      *model.Chain
				verb       model.Verb
			}{
				{"internal-src-address", "external-src-address", packet.Src, post, model.SourceNAT},
				{"external-dst-address", "internal-dst-address", packet.Dst, pre, model.DestinationNAT},
			} {
				if !m.get(way.from).there() || !m.get(way.onto).there() {
					continue
				}
				from, ok := m.get(way.from).prefix()
				onto, ok2 := m.get(way.onto).prefix()
				if !ok || !ok2 || from.Bits() != onto.Bits() || from.Addr().BitLen() != onto.Addr().BitLen() {
					continue
				}
				rule := &model.Rule{At: m.pos(), When: packet.Prefixes(way.field, from.Masked()), Verb: way.verb}
				to := &model.Translation{Family: packet.IPv6, Addrs: packet.Prefix(onto.Masked()), Text: onto.String()}
				if from.Addr().Is4() {
					to.Family = packet.IPv4
				}
				if n, ok := m.get("transport-protocol").number(); ok {
					rule.When = rule.When.And(packet.Where(packet.Proto, packet.OneOf(n)))
				}
				if from.Bits() < from.Addr().BitLen() {
					to.From, to.Onto = from.Masked(), onto.Masked()
				}
				if n, ok := m.get("external-dst-port/start-port-number").number(); ok && way.field == packet.Dst {
					rule.When = rule.When.And(packet.Where(packet.Dport, packet.OneOf(n)))
				}
				if n, ok := m.get("internal-dst-port/start-port-number").number(); ok && way.field == packet.Dst {
					to.Ports = packet.OneOf(n)
				}
				rule.To = to
				way.chain.Rules = append(way.chain.Rules, rule)
			}
		}
	}
	for _, c := range []*model.Chain{post, pre} {
		if len(c.Rules) > 0 {
			c.At = c.Rules[0].At
			r.in.Gateway.Chains = append(r.in.Gateway.Chains, c)
		}
	}
}

const why = "RFC 9061"

func (r *reader) ipsec(e element) {
	for _, p := range e.get("pad").all("pad-entry") {
		r.pads[p.get("name").text()] = p
	}
	for _, c := range e.all("conn-entry") {
		r.connection(c)
	}
	r.owner = read.Owner{}
}

// starts are how RFC 9061 says when a tunnel is set up.
var starts = map[string]model.Start{"add": model.StartNever, "on-demand": model.StartTraffic, "start": model.StartBoot}

// connection reads a conn-entry with its children.
func (r *reader) connection(e element) {
	c := &model.Connection{Name: source.Clean(e.get("name").text()), At: e.pos()}
	r.owner = read.Owner{Name: c.Name, To: &c.Doubts}
	c.Version = model.Unsaid(ike.V2, why)
	if v := e.get("version"); v.there() {
		c.Version = model.Say(ike.V2, v.pos())
	}
	c.Proposals = r.proposals("connection "+c.Name, e, "ike-sa-intr-alg", "ike-sa-encr-alg", ike.IKE, e.get("fs-group").ifThere())
	c.Encap = model.Unsaid(false, why)
	if x := e.get("encapsulation-type/espencap"); x.there() {
		c.Encap = model.Say(strings.HasPrefix(x.name(), "espinudp"), x.pos())
	}
	start := model.Unsaid(model.StartNever, why)
	if s := e.get("autostartup"); s.there() {
		start = model.Say(starts[s.name()], s.pos())
	}
	r.party(e.get("local/local-pad-entry-name"), &c.Local, ike.Identity{Kind: ike.NoID}, c)
	r.party(e.get("remote/remote-pad-entry-name"), &c.Remote, ike.Identity{Kind: ike.AnyID}, c)
	for _, p := range e.get("spd").all("spd-entry") {
		r.child(c, p, e.get("child-sa-info").all("fs-groups"), start)
	}
	for _, l := range leaves {
		if l.spd {
			continue
		}
		at := e.get(l.path)
		n, ok := at.number()
		if !ok {
			continue
		}
		row := l.row
		if row.Of == settings.OfConnection {
			row.Put(settings.Subject{Connection: c}, value(row, n), at.pos())
			continue
		}
		for _, k := range c.Children {
			row.Put(settings.Subject{Connection: c, Child: k}, value(row, n), at.pos())
		}
	}
	r.in.Gateway.Connections = append(r.in.Gateway.Connections, c)
}

// ifThere is the node itself as a list, empty where it is not there.
func (e element) ifThere() []element {
	if !e.there() {
		return nil
	}
	return []element{e}
}

// party reads the pad-entry that a connection refers to.
func (r *reader) party(ref element, p *model.Party, none ike.Identity, c *model.Connection) {
	p.ID, p.Method = model.Unsaid(none, why), model.Unsaid(ike.PSK, why)
	pad, ok := r.pads[ref.text()]
	if !ok {
		if ref.there() {
			ref.wrong("the name of a pad-entry")
		}
		return
	}
	pad.get("auth-protocol")
	for _, kind := range []string{"ipv4-address", "ipv6-address"} {
		if a, ok := pad.get(kind).address(); ok {
			p.ID = model.Say(ike.Addr(a), pad.get(kind).pos())
		}
	}
	for kind, id := range map[string]func(string) ike.Identity{
		"fqdn-string":           ike.FQDN,
		"rfc822-address-string": func(t string) ike.Identity { return ike.Identity{Kind: ike.IDMail, Value: strings.ToLower(t)} },
	} {
		if t := pad.get(kind); t.there() {
			p.ID = model.Say(id(t.text()), t.pos())
		}
	}
	pad.get("id-null")
	auth := pad.get("peer-authentication")
	method := auth.get("auth-method")
	switch method.name() {
	case "pre-shared":
		p.Method = model.Say(ike.PSK, method.pos())
	case "digital-signature":
		p.Method = model.Say(ike.Certificate, method.pos())
	case "eap":
		p.Method = model.Say(ike.EAP, method.pos())
	case "null":
		p.Method = model.Say(ike.NoAuth, method.pos())
	}
	if s := auth.get("pre-shared/secret"); s.there() {
		r.in.File.Hide(s.pos().Line, s.text())
		key, err := hex.DecodeString(strings.ReplaceAll(s.text(), ":", ""))
		if err != nil {
			r.in.Unread(s.pos(), r.owner, "the key is not in hexadecimal")
			return
		}
		k := &model.Key{At: s.pos(), Name: ref.text(), For: c, Secret: source.NewSecret(string(key))}
		r.in.Gateway.Keys = append(r.in.Gateway.Keys, k)
	}
}

// proposals reads algorithms of one proposal, whose parts are lists. Of the PRF of an IKE SA the model says nothing: it is that of the
// hash of the integrity algorithm; where there is none, what is proposed is not known.
func (r *reader) proposals(
	of string,
	e element,
	integrity, encryption string,
	protocol ike.Protocol,
	groups []element,
) model.Setting[[]ike.Proposal] {
	p := ike.Proposal{Protocol: protocol}
	var at source.Pos
	add := func(reg ike.Registry, c ike.Choice, from source.Pos) {
		if !p.Transforms[reg].Has(c) {
			p.Transforms[reg] = append(p.Transforms[reg], c)
		}
		if at.IsZero() {
			at = from
		}
	}
	for _, x := range e.all(encryption) {
		x.get("id")
		id, ok := x.get("algorithm-type").number()
		size, _ := x.get("key-length").number()
		if !ok || !known(ike.Encryption, id) {
			continue
		}
		c := ike.Pick(ike.Encryption, uint16(id), 0)
		if slices.Contains(c.Keys, int(size)) {
			c.KeyBits = int(size)
		} else if len(c.Keys) > 0 {
			c.KeyBits = c.Keys[0]
		}
		add(ike.Encryption, c, x.pos())
	}
	for _, x := range e.all(integrity) {
		id, ok := x.number()
		if !ok || id == 0 || !known(ike.Integrity, id) {
			continue
		}
		c := ike.Pick(ike.Integrity, uint16(id), 0)
		add(ike.Integrity, c, x.pos())
		if prf, ok := ike.PRFOf(c); ok && protocol == ike.IKE {
			add(ike.PRF, prf, x.pos())
		}
	}
	for _, x := range groups {
		if id, ok := x.number(); ok && id > 0 && known(ike.KeyExchange, id) {
			add(ike.KeyExchange, ike.Pick(ike.KeyExchange, uint16(id), 0), x.pos())
		}
	}
	if at.IsZero() {
		r.in.Unread(e.pos(), r.owner, "it proposes no algorithm")
		return model.Unsaid[[]ike.Proposal](nil, why)
	}
	if protocol == ike.IKE && len(p.Transforms[ike.PRF]) == 0 && !r.leavesOut(prfOf(r.owner.Name)) {
		r.in.Unread(at, r.owner, "the PRF is not known: the model says nothing of it")
	}
	set := model.Say([]ike.Proposal{p}, at)
	if r.leavesOut(of + ": " + notWhole) {
		set.Origin = model.InPart
	}
	return set
}

func known(r ike.Registry, id uint64) bool { return id < 1<<16 && ike.ByID(r, uint16(id)).Known() }

// child reads a spd-entry. Entries that are called alike, but for a number behind "~", are one child with several networks.
func (r *reader) child(c *model.Connection, e element, groups []element, start model.Setting[model.Start]) {
	name, _, _ := strings.Cut(source.Clean(e.get("name").text()), "~")
	conf := e.get("ipsec-policy-config")
	i := slices.IndexFunc(c.Children, func(k *model.Child) bool { return k.Name == name })
	if i < 0 {
		k := &model.Child{Name: name, At: e.pos(), Protocol: model.Unsaid(ike.ESP, why), Policies: model.Unsaid(true, why), Start: start}
		k.Mode = model.Unsaid(ike.Tunnel, why)
		c.Children = append(c.Children, k)
		i = len(c.Children) - 1
	}
	k := c.Children[i]
	ts := conf.get("traffic-selector")
	r.selectors(k, ts)
	info := conf.get("processing-info")
	action := info.get("action")
	switch action.name() {
	case "bypass":
		k.Mode = model.Say(ike.Pass, action.pos())
	case "discard":
		k.Mode = model.Say(ike.Drop, action.pos())
	}
	sa := info.get("ipsec-sa-cfg")
	if m := sa.get("mode"); m.there() && !k.Shunts() {
		k.Mode = model.Say(map[string]ike.Mode{"transport": ike.Transport}[m.name()], m.pos())
		if m.name() == "tunnel" {
			k.Mode.Value = ike.Tunnel
		}
	}
	if sa.get("protocol-parameters").name() == "ah" {
		k.Protocol = model.Say(ike.AH, sa.get("protocol-parameters").pos())
	}
	if !k.Shunts() {
		said := r.proposals("child "+name+" of "+c.Name, sa.get("esp-algorithms"), "integrity", "encryption", ike.ESP, groups)
		if esn := sa.get("ext-seq-num"); esn.text() == "true" && len(said.Value) > 0 {
			p := &said.Value[0]
			p.Transforms[ike.Sequence] = append(p.Transforms[ike.Sequence], ike.Pick(ike.Sequence, 1, 0))
		}
		switch {
		case len(k.Proposals.Value) == 0:
			k.Proposals = said
		case len(said.Value) > 0 && said.Value[0].Names() != k.Proposals.Value[0].Names():
			r.in.Unread(said.At, r.owner, "its algorithms are others than those of the first entry of %s", name)
		}
	}
	r.ends(c, k, ts, sa)
	for _, l := range leaves {
		if n, ok := conf.get(l.path).number(); l.spd && ok {
			l.row.Put(settings.Subject{Connection: c, Child: k}, value(l.row, n), conf.get(l.path).pos())
		}
	}
	for _, name := range []string{"pfp-flag", "seq-overflow", "stateful-frag-check"} {
		sa.get(name)
	}
}

// selectors reads the networks of a spd-entry.
func (r *reader) selectors(k *model.Child, ts element) {
	for _, side := range []struct {
		name string
		to   *model.Setting[ike.Selectors]
	}{{"local", &k.Local}, {"remote", &k.Remote}} {
		p, ok := ts.get(side.name + "-prefix").prefix()
		if !ok {
			continue
		}
		s := ike.SelectPrefix(p)
		if n, ok := ts.get("inner-protocol").number(); ok && n < 256 {
			s.Proto = uint8(n)
		}
		if ports := ts.get(side.name + "-ports"); ports.there() {
			lo, _ := ports.get("start").number()
			hi, _ := ports.get("end").number()
			s.LoPort, s.HiPort = uint16(min(lo, 65535)), uint16(min(hi, 65535))
		}
		if !slices.Contains(side.to.Value, s) {
			*side.to = model.Say(append(side.to.Value, s), ts.get(side.name+"-prefix").pos())
		}
	}
}

// ends reads the addresses of a tunnel's ends; in transport mode they are the networks. The unspecified address is any.
func (r *reader) ends(c *model.Connection, k *model.Child, ts, sa element) {
	for _, side := range []struct {
		name string
		to   *model.Setting[model.Addresses]
	}{{"local", &c.LocalAddrs}, {"remote", &c.RemoteAddrs}} {
		at := sa.get("tunnel/" + side.name)
		if p, err := netip.ParsePrefix(ts.get(side.name + "-prefix").text()); err == nil && p.IsSingleIP() &&
			k.Mode.Value == ike.Transport {
			*side.to = model.Say(
				model.Addresses{{Text: p.Addr().String(), Lo: p.Addr(), Hi: p.Addr()}},
				ts.get(side.name+"-prefix").pos(),
			)
		}
		if a, ok := at.address(); ok && a.IsUnspecified() {
			*side.to = model.Say(model.Addresses{{Text: "any", Any: true}}, at.pos())
		} else if ok {
			*side.to = model.Say(model.Addresses{{Text: a.String(), Lo: a, Hi: a}}, at.pos())
		}
	}
}
