// Package frr reads the saved configuration of the routing daemons of FRRouting.
package frr

import (
	"bytes"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"toril/internal/lazy"
	"toril/model"
	"toril/model/literal"
	"toril/packet"
	"toril/read"
	"toril/source"
	"toril/syntax/lines"
)

// Format is the format of frr.conf, and of what "show running-config" and "write file" leave.
var Format = &read.Format{
	Name:     "frr.conf",
	Comments: []string{"!", "#"},
	Title:    "routing daemons FRRouting: interfaces, static routes, routing protocols",
	Software: "FRRouting",
	About:    model.AboutNetwork,
	Hints:    []string{"frr.conf", "zebra.conf", "staticd.conf", "ospfd.conf", "bgpd.conf"},
	Order:    7,
	Looks: func(f *source.File) (int, string) {
		head := f.Head()
		if m := frrLine.Find(head); m != nil {
			return 95, fmt.Sprintf("it begins as FRRouting saves it (%q)", m)
		}
		blocks := blockLine.FindAll(head, 2)
		if len(blocks) == 0 && !interfaceLine.Match(head) {
			return 0, ""
		}
		switch inner := innerLine.Find(head); {
		case len(blocks) > 1 || len(blocks) > 0 && (inner != nil || routeLine.Match(head)):
			return 50, fmt.Sprintf("it has statements of routing daemons (%q)", blocks[0])
		case len(blocks) > 0 && !foreign.Match(head):
			return 40, fmt.Sprintf("it has a statement of routing daemons (%q)", blocks[0])
		case len(blocks) == 0 && inner != nil && !foreign.Match(head):
			return 40, fmt.Sprintf("it has interfaces with statements of routing daemons (%q)", bytes.TrimSpace(inner))
		}
		return 0, ""
	},
	Read: readFile,
	Covers: read.Rows(
		read.Coverage{
			Statement: "interface: ip address, ipv6 address, shutdown, ip ospf area, ipv6 ospf6 area, ip router isis",
			Use:       read.Used,
		},
		read.Coverage{
			Statement: "ip route, ipv6 route: gateway, interface, Null0, blackhole, reject, distance, table, vrf blocks",
			Use:       read.Used,
		},
		read.Coverage{
			Statement: "router ospf, ospf6, bgp, rip, ripng, eigrp, isis: network, neighbor, redistribute, passive-interface, " +
				"interface area",
			Use: read.Used,
		},
		read.Coverage{
			Statement: "password, enable password, username, key-string, neighbor password, message-digest-key, authentication-key",
			Use:       read.Used,
			Note:      "hidden from every quote",
		},
		read.Coverage{
			Statement: "frr, hostname, log, service, line, ip prefix-list, access-list, route-map, bfd, key chain and the other " +
				"settings of protocols",
			Use:  read.Irrelevant,
			Note: "they choose and order routes, which are not computed here",
		},
		read.Coverage{
			Statement: "pbr-map: match src-ip, dst-ip, mark, set nexthop, set vrf; pbr-policy",
			Use:       read.Used,
			Note:      "other parts leave the rule unsure",
		},
	),
}

var (
	frrLine   = lazy.NewSearch(`(?m)^frr (version|defaults) .*$`)
	blockLine = lazy.NewSearch(
		`(?m)^(router (?:ospf|ospf6|bgp|rip|ripng|eigrp|isis|babel|openfabric|pim|pim6)\b|ip route [0-9]|ipv6 route |ip forwarding|ipv6 forwarding|service integrated-vtysh-config|bfd[ \t]*$|route-map \S+ (?:permit|deny) \d|(?:ip|ipv6|bgp) (?:prefix-list|access-list|community-list|as-path access-list) \S+|access-list \S+ (?:permit|deny|seq)|vrf \S+[ \t]*$|debug (?:ospf6?|bgp|zebra|rip|isis|pim|bfd)|pbr-map \S+ seq|nexthop-group \S+|key chain \S+|mpls (?:ldp|label)|segment-routing[ \t]*$|log (?:file|syslog|stdout)|hostname \S+[ \t]*$|password \S+|zebra |agentx[ \t]*$)`,
	)
	// what stands within blocks, indented by a blank or not
	innerLine = lazy.NewSearch(
		`(?m)^[ \t]*(?:no )?(?:ip(?:v6)? (?:address|ospf6?|rip|router|igmp|pim) |ip(?:v6)? address |neighbor \S+ (?:remote-as|peer-group|timers|password|update-source)|network [0-9a-f.:]+/[0-9]+(?: area \S+)?[ \t]*$|bgp (?:router-id|log|as-path)|redistribute (?:connected|static|kernel|ospf|bgp|rip)|router-id |ospf router-id|passive-interface |isis |address-family (?:ipv4|ipv6|l2vpn)|exit-address-family)`,
	)
	interfaceLine = lazy.NewSearch(`(?m)^interface [A-Za-z0-9._@:-]+[ \t]*(?:vrf \S+)?[ \t]*$`)
	// what none of these daemons writes
	foreign   = lazy.NewSearch(`(?m)[{};]|^[ \t]*\[|^(?:auto|iface|conn|config setup)\b`)
	routeLine = lazy.NewSearch(`(?m)^(ip|ipv6) route `)
)

type reader struct {
	said  map[said]bool // whether protocols are passive on interfaces
	in    *read.Input
	block string // "interface", "router", "vrf", "other", ""
	iface *model.Interface
	proto *model.RoutingProtocol
	vrf   string
	steps []*step // of routing by policy
	step  *step
	by    map[string][]string // the interfaces of each map
}

// said is an interface of which a protocol is told whether it is passive there.
type said struct {
	protocol *model.RoutingProtocol
	name     string
}

// step is one entry of a map for routing by policy.
type step struct {
	name   string
	seq    int
	at     source.Pos
	when   packet.Set
	via    netip.Addr
	dev    string
	table  string
	doubts model.Doubts
}

func readFile(in *read.Input) {
	r := &reader{in: in, said: map[said]bool{}}
	for l := range lines.Parse(in.File.Bytes(), lines.Manner{Comments: "!#"}) {
		if in.Context.Err() != nil {
			return
		}
		n, w := l.Line, l.Fields()
		if len(w) == 0 {
			continue
		}
		in.Count()
		no := w[0] == "no" && len(w) > 1
		if no {
			w = w[1:]
		}
		r.hide(n, w)
		r.whole(w)
		if !l.Indented() && !strings.HasPrefix(w[0], "exit") && r.opens(n, w) {
			continue
		}
		r.statement(n, w, no)
	}
	r.policies()
}

// spelt are the words that may be cut short, as long as they mean one thing: at the top, and inside a block.
var spelt = map[string][]string{
	"top": {
		"interface",
		"router",
		"hostname",
		"service",
		"route-map",
		"access-list",
		"password",
		"enable",
		"username",
		"debug",
		"banner",
		"vrf",
		"pbr-map",
		"line",
		"log",
		"key",
		"nexthop-group",
	},
	"interface": {"description", "shutdown", "bandwidth", "pbr-policy", "vrf", "link-params", "mpls", "multicast", "evpn", "ipv6"},
	"router": {
		"network",
		"neighbor",
		"redistribute",
		"passive-interface",
		"default-information",
		"distribute-list",
		"address-family",
		"interface",
		"timers",
		"version",
		"area",
		"auto-cost",
		"maximum-paths",
		"log-adjacency-changes",
	},
	"ip": {
		"address",
		"route",
		"ospf",
		"router",
		"prefix-list",
		"forwarding",
		"igmp",
		"pim",
		"nht",
		"rip",
		"access-list",
		"community-list",
		"as-path",
		"import-table",
		"protocol",
		"multicast",
	},
}

// whole writes the words of a statement out that are cut short.
func (r *reader) whole(w []string) {
	list := spelt[r.block]
	if r.block == "" || r.block == "other" {
		list = spelt["top"]
	}
	w[0] = longer(w[0], append(slices.Clone(list), "interface", "router", "ip", "ipv6", "exit", "end"))
	if len(w) > 1 && (w[0] == "ip" || w[0] == "ipv6") {
		w[1] = longer(w[1], spelt["ip"])
	}
	if len(w) > 1 && w[0] == "router" {
		w[1] = longer(w[1], []string{"ospf", "bgp", "rip", "ripng", "isis", "eigrp", "babel", "openfabric"})
	}
}

// longer returns the one word of a list that begins as another does; the other where none or several do.
func longer(word string, list []string) string {
	found := ""
	for _, k := range list {
		if k == word {
			return word
		}
		if len(word) > 1 && strings.HasPrefix(k, word) && k != found {
			if found != "" {
				return word
			}
			found = k
		}
	}
	if found == "" {
		return word
	}
	return found
}

// policies turns the maps for routing by policy into rules: 300 and the number of the step is the priority that the daemon gives.
func (r *reader) policies() {
	for _, s := range r.steps {
		for _, dev := range r.by[s.name] {
			rule := &model.RouteRule{
				At:       s.at,
				Priority: 300 + s.seq,
				When:     s.when.And(packet.Where(packet.In, packet.Name(dev))),
				Kind:     "lookup",
				Table:    s.table,
				Doubts:   s.doubts,
			}
			if s.via.IsValid() || s.dev != "" {
				rule.Table = fmt.Sprintf("%s %d", s.name, s.seq)
			}
			r.in.Gateway.RouteRules = append(r.in.Gateway.RouteRules, rule)
		}
		if len(r.by[s.name]) > 0 && (s.via.IsValid() || s.dev != "") {
			for _, to := range []netip.Prefix{netip.PrefixFrom(netip.IPv4Unspecified(), 0), netip.PrefixFrom(netip.IPv6Unspecified(), 0)} {
				if !s.via.IsValid() || s.via.Is4() == to.Addr().Is4() {
					r.in.Gateway.AddRoute(
						&model.Route{
							At:     s.at,
							Kind:   "unicast",
							To:     to,
							Via:    s.via,
							Dev:    s.dev,
							Table:  fmt.Sprintf("%s %d", s.name, s.seq),
							Origin: "static",
						},
					)
				}
			}
		}
	}
}

// policyLine reads "match src-ip P", "match dst-ip P", "match mark N", "set nexthop A [DEV]", "set vrf NAME|unchanged".
func (r *reader) policyLine(n int, w []string, no bool) {
	s := r.step
	if len(w) > 2 && !no {
		switch w[0] + " " + w[1] {
		case "match src-ip", "match dst-ip":
			f := packet.Src
			if w[1] == "dst-ip" {
				f = packet.Dst
			}
			if p, err := netip.ParsePrefix(w[2]); err == nil {
				s.when = s.when.And(packet.Prefixes(f, p.Masked()))
				return
			}
		case "match mark":
			if m, err := strconv.ParseUint(w[2], 0, 32); err == nil {
				s.when = s.when.And(packet.Where(packet.Mark, packet.OneOf(m)))
				return
			}
		case "set nexthop":
			a, err := netip.ParseAddr(w[2])
			if s.via = a; err != nil {
				s.dev = source.Clean(w[2])
			} else if len(w) > 3 {
				s.dev = source.Clean(w[3])
			}
			return
		case "set vrf":
			s.table = "vrf " + source.Clean(w[2])
			return
		}
	}
	if w[0] == "description" {
		return
	}
	r.in.Unread(r.in.At(n), read.Owner{Name: s.name, To: &s.doubts}, "this part of routing by policy is not read")
}

// secretWords are the words behind which a secret stands.
var secretWords = []string{"password", "key-string", "message-digest-key", "authentication-key", "md5", "secret", "sha", "text"}

func (r *reader) hide(n int, w []string) {
	for i, word := range w {
		if slices.Contains(secretWords, word) && i+1 < len(w) {
			for _, s := range w[i+1:] {
				if len(s) > 2 && !slices.Contains(secretWords, s) {
					r.in.File.Hide(n, s)
				}
			}
		}
	}
}

// opens reads a statement that opens a block, or stands at the top. It is long as a table is: a case a block.
func (r *reader) opens(n int, w []string) bool {
	r.block, r.iface, r.proto, r.step = "", nil, nil, nil
	second := ""
	if len(w) > 1 {
		second = w[1]
	}
	switch w[0] {
	case "interface":
		r.block, r.iface = "interface", r.in.Gateway.InterfaceOf(second, r.in.At(n))
		r.vrf = ""
	case "router":
		r.block = "router"
		r.vrf = ""
		if !words("ospf ospf6 bgp rip ripng isis eigrp babel openfabric pim pim6").has(second) {
			r.in.Unread(r.in.At(n), read.Owner{}, "%q is not a known routing protocol", source.Clean(second))
		}
		instance := ""
		if len(w) > 2 {
			instance = source.Clean(w[2])
		}
		r.proto = r.protocol(source.Clean(second), instance, n)
		r.proto.At = r.in.At(n)
		if instance != "" {
			r.proto.Instance = instance
		}
	case "vrf":
		r.block, r.vrf = "vrf", second
	case "ip", "ipv6":
		return false
	case "pbr-map":
		r.block = "pbr"
		r.step = &step{name: source.Clean(second), at: r.in.At(n), when: packet.All()}
		if len(w) > 3 {
			r.step.seq, _ = strconv.Atoi(w[3])
		}
		r.steps = append(r.steps, r.step)
	case "frr",
		"hostname",
		"log",
		"service",
		"line",
		"route-map",
		"access-list",
		"bfd",
		"key",
		"password",
		"enable",
		"username",
		"debug",
		"domainname",
		"banner",
		"mpls",
		"bgp",
		"agentx",
		"nexthop-group",
		"segment-routing",
		"rpki",
		"vni",
		"zebra",
		"fpm",
		"allow-external-route-update",
		"router-id",
		"nexthop",
		"affinity-map",
		"mac",
		"evpn",
		"end",
		"configure",
		"Building",
		"Current",
		"version",
		"l2vpn",
		"ipv4":
		r.block = "other"
	default:
		r.block = "other"
		r.in.Unread(r.in.At(n), read.Owner{}, "%q is not a known statement", source.Clean(w[0]))
	}
	return true
}

func (r *reader) statement(n int, w []string, no bool) {
	switch {
	case w[0] == "exit" || w[0] == "end" || w[0] == "exit-vrf":
		r.block, r.iface, r.proto, r.vrf = "", nil, nil, ""
	case strings.HasPrefix(w[0], "exit-"):
	case r.step != nil:
		r.policyLine(n, w, no)
	case len(w) > 2 && (w[0] == "ip" || w[0] == "ipv6") && w[1] == "route" && (r.block == "" || r.block == "vrf"):
		r.route(n, w[2:], no)
	case r.iface != nil:
		r.interfaceLine(n, w, no)
	case r.proto != nil:
		r.protocolLine(n, w, no)
	case r.block == "" && (w[0] == "ip" || w[0] == "ipv6") && (len(w) < 2 || !topIP.has(w[1])):
		r.in.Unread(r.in.At(n), read.Owner{}, "it is not a known statement")
	case r.block == "vrf" && !words("vni ip ipv6 router-id netns exit-vrf").has(w[0]):
		r.in.Unread(r.in.At(n), read.Owner{}, "%q is not a known statement of a VRF", source.Clean(w[0]))
	}
}

// known reports whether a statement of an interface is one on which nothing depends that is asked.
func known(w []string) bool {
	if w[0] != "ip" && w[0] != "ipv6" {
		return ofInterface.has(w[0]) || strings.HasPrefix(w[0], "exit")
	}
	if len(w) < 2 || !ifaceIP.has(w[1]) {
		return false
	}
	if w[1] != "ospf" && w[1] != "ospf6" || len(w) < 3 || ospf.has(w[2]) {
		return true
	}
	_, err := strconv.Atoi(w[2]) // an instance
	return err == nil && len(w) > 3 && ospf.has(w[3])
}

func (r *reader) interfaceLine(n int, w []string, no bool) {
	switch {
	case w[0] == "shutdown":
		r.iface.Down = !no
	case len(w) > 2 && (w[0] == "ip" || w[0] == "ipv6") && w[1] == "address" && !no:
		p, err := netip.ParsePrefix(w[2])
		if err != nil {
			r.in.Unread(r.in.At(n), read.Owner{}, "%q is not an address with its network", source.Clean(w[2]))
			return
		}
		r.iface.AddAddress(p)
		r.in.Gateway.Told.Addresses = max(r.in.Gateway.Told.Addresses, model.Partly)
	case len(w) > 2 && (w[0] == "ip" && w[1] == "ospf" || w[0] == "ipv6" && w[1] == "ospf6") &&
		(w[2] == "area" || len(w) > 3 && w[3] == "area") && !no:
		name := "ospf"
		if w[0] == "ipv6" {
			name = "ospf6"
		}
		r.runs(n, name, "")
	case len(w) > 3 && w[1] == "router" && (w[2] == "isis" || w[2] == "openfabric") && !no:
		r.runs(n, w[2], w[3])
	case len(w) > 2 && (w[0] == "ip" || w[0] == "ipv6") && w[1] == "ospf" && w[2] == "passive":
		r.passive(r.protocol("ospf", "", n), r.iface.Name, !no)
	case w[0] == "pbr-policy" && len(w) > 1 && !no:
		if r.by == nil {
			r.by = map[string][]string{}
		}
		r.by[source.Clean(w[1])] = append(r.by[source.Clean(w[1])], r.iface.Name)
	case !known(w):
		r.in.Unread(r.in.At(n), read.Owner{Name: r.iface.Name}, "it is not a known statement of an interface")
	}
}

// passive makes a protocol passive on an interface ("default" for all), or takes it out of those on which it is.
func (r *reader) passive(p *model.RoutingProtocol, name string, yes bool) {
	key := said{p, name}
	if r.said[key] { // before
		without := func(list []string) []string { return slices.DeleteFunc(list, func(s string) bool { return s == name }) }
		p.Passive, p.Active = without(p.Passive), without(p.Active)
	}
	r.said[key] = true
	if yes {
		p.Passive = append(p.Passive, name)
	} else {
		p.Active = append(p.Active, name)
	}
}

// runs notes that a protocol is told to run on the current interface.
func (r *reader) runs(n int, name, instance string) {
	p := r.protocol(name, instance, n)
	p.Interfaces = append(p.Interfaces, model.Carried{Name: r.iface.Name, At: r.in.At(n)})
}

// protocol returns an instance, made where it is not known yet: interfaces may come before it.
func (r *reader) protocol(name, instance string, n int) *model.RoutingProtocol {
	for _, p := range r.in.Gateway.Protocols {
		if p.Name == name && (instance == "" || p.Instance == instance || p.Instance == "") {
			return p
		}
	}
	p := &model.RoutingProtocol{Name: name, Instance: source.Clean(instance), At: r.in.At(n)}
	r.in.Gateway.Protocols = append(r.in.Gateway.Protocols, p)
	return p
}

func (r *reader) protocolLine(n int, w []string, no bool) {
	if no {
		if w[0] == "passive-interface" && len(w) > 1 {
			r.passive(r.proto, source.Clean(w[1]), false)
		}
		return
	}
	value := ""
	if len(w) > 1 {
		value = w[1]
	}
	at := r.in.At(n)
	switch w[0] {
	case "network":
		if p, err := netip.ParsePrefix(value); err == nil {
			r.proto.Networks = append(r.proto.Networks, model.Carried{Network: p.Masked(), At: at})
		} else {
			r.proto.Interfaces = append(r.proto.Interfaces, model.Carried{Name: source.Clean(value), At: at})
		}
	case "interface": // ospf6: interface NAME area A
		r.proto.Interfaces = append(r.proto.Interfaces, model.Carried{Name: source.Clean(value), At: at})
	case "passive-interface":
		r.passive(r.proto, source.Clean(value), true)
	case "redistribute":
		r.proto.Redistribute = append(r.proto.Redistribute, model.Carried{Name: source.Clean(value), At: at})
	case "default-information":
		r.proto.Redistribute = append(r.proto.Redistribute, model.Carried{Name: "default route", At: at})
	case "neighbor":
		nb := model.Neighbor{At: at}
		if a, err := netip.ParseAddr(value); err == nil {
			nb.Addr = a
		} else {
			nb.Interface = source.Clean(value)
		}
		if !slices.ContainsFunc(
			r.proto.Neighbors,
			func(o model.Neighbor) bool { return o.Addr == nb.Addr && o.Interface == nb.Interface },
		) {
			r.proto.Neighbors = append(r.proto.Neighbors, nb)
		}
	default:
		if !ofRouter.has(w[0]) && !strings.HasPrefix(w[0], "exit") {
			r.in.Unread(
				r.in.At(n),
				read.Owner{Name: r.proto.Name, To: &r.proto.Doubts},
				"%q is not a known statement of a routing protocol",
				source.Clean(w[0]),
			)
		}
	}
}

// route reads "DESTINATION [MASK] GATEWAY|INTERFACE|Null0|blackhole|reject [INTERFACE] [tag N] [DISTANCE] [table N]".
// It is long as a grammar is: a case a word that may follow.
func (r *reader) route(n int, w []string, no bool) {
	rt := &model.Route{At: r.in.At(n), Kind: "unicast", Table: "main", Origin: "static"}
	if r.vrf != "" {
		rt.Table = "vrf " + source.Clean(r.vrf)
	}
	p, err := netip.ParsePrefix(w[0])
	rest := w[1:]
	if err != nil {
		a, err := netip.ParseAddr(w[0])
		if err != nil || len(rest) == 0 {
			r.in.Unread(r.in.At(n), read.Owner{Topic: model.AboutRoutes}, "%q is not a network", source.Clean(w[0]))
			return
		}
		mask, err := netip.ParseAddr(rest[0])
		if err != nil || !mask.Is4() {
			r.in.Unread(r.in.At(n), read.Owner{Topic: model.AboutRoutes}, "%q is not a mask", source.Clean(rest[0]))
			return
		}
		bits, ok := literal.MaskBits(mask)
		if !ok {
			r.in.Unread(r.in.At(n), read.Owner{Topic: model.AboutRoutes}, "%q is not a mask", source.Clean(rest[0]))
			return
		}
		p, rest = netip.PrefixFrom(a, bits), rest[1:]
	}
	rt.To = p.Masked()
	for i := 0; i < len(rest); i++ {
		next := ""
		if i+1 < len(rest) {
			next = rest[i+1]
		}
		switch word := rest[i]; word {
		case "Null0", "blackhole":
			rt.Kind = "blackhole"
		case "reject":
			rt.Kind = "unreachable"
		case "table":
			rt.Table = source.Clean(next)
			i++
		case "vrf":
			rt.Table = "vrf " + source.Clean(next)
			i++
		case "onlink":
		default:
			if ofRoute.has(word) {
				i++
			} else if a, err := netip.ParseAddr(word); err == nil {
				rt.Via = a
			} else if d, err := strconv.Atoi(word); err == nil {
				rt.Metric = d // FRRouting gives the kernel a metric of its own; the order of distances is kept
			} else {
				rt.Dev = source.Clean(word)
			}
		}
	}
	if no { // one that stood before, on the same way or on any
		same := func(o *model.Route) bool {
			return o.Origin == "static" && o.To == rt.To && o.Table == rt.Table && (!rt.Via.IsValid() || o.Via == rt.Via) &&
				(rt.Dev == "" || o.Dev == rt.Dev) &&
				o.At.File == rt.At.File
		}
		r.in.Gateway.Routes = slices.DeleteFunc(r.in.Gateway.Routes, same)
		return
	}
	r.in.Gateway.Told.Routes = max(r.in.Gateway.Told.Routes, model.Partly)
	r.in.Gateway.AddRoute(rt)
}
