// Package networkd reads the units of systemd-networkd: .network and .netdev (systemd.network(5), systemd.netdev(5)).
package networkd

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"toril/internal/lazy"
	"toril/model"
	"toril/packet"
	"toril/read"
	"toril/source"
)

// Format is the format of systemd-networkd's units.
var Format = &read.Format{
	Name:     "systemd-networkd",
	Comments: []string{"#", ";"},
	Title:    "addresses, routes and tunnel interfaces: units .network and .netdev",
	Software: "systemd",
	Hints:    []string{"*.network", "*.netdev"},
	Order:    6,
	Looks: func(f *source.File) (int, string) {
		head := f.Head()
		if m := netdev().Find(head); m != nil && kindLine().Match(head) {
			return 90, "it has the section [NetDev] with a kind"
		}
		if m := network().Find(head); m != nil && matchLine().Match(head) {
			return 90, fmt.Sprintf("it has the sections [Match] and %s", m)
		}
		return 0, ""
	},
	Read: readUnit,
	Covers: read.Rows(
		read.Coverage{Statement: "[Match] Name", Use: read.Used, Note: "a pattern is kept as the interface's name"},
		read.Coverage{Statement: "[Network] Address, Gateway, DHCP; [Address] Address", Use: read.Used},
		read.Coverage{Statement: "[Route] Destination, Gateway, Table, Metric, Type, PreferredSource", Use: read.Used},
		read.Coverage{
			Statement: "[RoutingPolicyRule] From, To, FirewallMark, IncomingInterface, OutgoingInterface, Table, Priority, Type",
			Use:       read.Used,
		},
		read.Coverage{Statement: "[NetDev] Name, Kind; [Xfrm] InterfaceId; [Tunnel] Local, Remote, Key, OutputKey", Use: read.Used},
		read.Coverage{Statement: "other sections and keys", Use: read.Irrelevant, Note: "DHCP options, queues, Wi-Fi, DNS"},
	),
}

var (
	netdev    = lazy.Regexp(`(?m)^\[NetDev\]`)
	kindLine  = lazy.Regexp(`(?m)^Kind[ \t]*=`)
	network   = lazy.Regexp(`(?m)^\[(Network|Route|Address)\]`)
	matchLine = lazy.Regexp(`(?m)^\[Match\]`)
)

// section is one section of a unit: its keys in order.
type section struct {
	name   string
	at     int
	values []value
}

type value struct {
	key, text string
	line      int
}

func (s *section) get(key string) string {
	for _, v := range s.values {
		if v.key == key {
			return v.text
		}
	}
	return ""
}

func parse(in *read.Input) []*section {
	var out []*section
	for n := 1; n <= in.File.Lines(); n++ {
		at := n
		if first := strings.TrimSpace(in.File.Line(n)); first == "" || first[0] == '#' || first[0] == ';' {
			continue
		}
		var line string
		line, n = in.Logical(n)
		line = strings.TrimSpace(line)
		if name, ok := strings.CutPrefix(line, "["); ok && strings.HasSuffix(line, "]") {
			in.Count()
			out = append(out, &section{name: strings.TrimSuffix(name, "]"), at: at})
			continue
		}
		key, text, ok := strings.Cut(line, "=")
		if !ok || len(out) == 0 {
			in.Unread(at, "", "it is neither a section nor a setting of one")
			continue
		}
		in.Count()
		s := out[len(out)-1]
		s.values = append(s.values, value{strings.TrimSpace(key), strings.TrimSpace(text), at})
	}
	return out
}

func readUnit(in *read.Input) {
	sections := parse(in)
	var names []string
	by := ""
	for _, s := range sections {
		switch s.name {
		case "Match", "NetDev":
			if n := s.get("Name"); n != "" && len(names) == 0 {
				names = strings.Fields(n)
			}
			for _, v := range s.values {
				if s.name == "Match" && matched[v.key] && by == "" {
					by = v.key + "=" + v.text
					in.Unread(v.line, "", "which interface this matches, the file does not say")
				}
			}
		}
	}
	if len(names) == 0 && by != "" { // its addresses are the gateway's all the same
		names = []string{by}
	}
	if len(names) == 0 {
		in.Unread(1, "", "the unit names no interface: what it sets is not read")
		return
	}
	for i, name := range names {
		r := &unit{in: in, iface: in.Gateway.InterfaceOf(name, in.At(1)), again: i > 0}
		for _, s := range sections {
			r.section(s)
		}
	}
}

// matched are the keys that choose an interface by something else than its name.
var matched = map[string]bool{
	"MACAddress":          true,
	"PermanentMACAddress": true,
	"Path":                true,
	"Driver":              true,
	"Type":                true,
	"Kind":                true,
	"Property":            true,
	"Architecture":        true,
}

type unit struct {
	in    *read.Input
	iface *model.Interface
	again bool // the unit was read for another interface before
}

func (r *unit) section(s *section) {
	switch s.name {
	case "NetDev":
		if k := s.get("Kind"); k != "" {
			r.iface.Kind = model.TunnelKind(k)
		}
	case "Xfrm":
		id, err := strconv.ParseUint(s.get("InterfaceId"), 0, 32)
		if err != nil {
			r.in.Unread(s.at, "", "an xfrm interface has a numeric InterfaceId")
			return
		}
		r.iface.IfID = uint32(id)
	case "Tunnel":
		r.iface.Ends(s.get("Local"), s.get("Remote"))
		r.iface.Keyed(s.get("Key"), s.get("OutputKey"), s.get("InputKey"))
	case "Network":
		for _, v := range s.values {
			switch v.key {
			case "Address":
				r.address(v)
			case "Gateway":
				r.route(v.line, "", v.text, &section{})
			case "DHCP":
				r.iface.Dynamic = r.iface.Dynamic || v.text != "no" && v.text != "false"
			}
		}
	case "Address":
		for _, v := range s.values {
			if v.key == "Address" {
				r.address(v)
			}
		}
	case "Route":
		r.route(s.at, s.get("Destination"), s.get("Gateway"), s)
	case "RoutingPolicyRule":
		if !r.again {
			r.rule(s)
		}
	}
}

func (r *unit) address(v value) {
	p, err := netip.ParsePrefix(v.text)
	if err != nil {
		a, err := netip.ParseAddr(v.text)
		if err != nil {
			r.in.Unread(v.line, "", "%q is not an address", source.Clean(v.text))
			return
		}
		p = netip.PrefixFrom(a, a.BitLen())
	}
	r.iface.AddAddress(p)
}

func (r *unit) route(line int, to, via string, s *section) {
	rt := &model.Route{At: r.in.At(line), Dev: r.iface.Name, Kind: s.get("Type"), Table: source.Clean(s.get("Table")), Origin: "static"}
	if via != "" && via != "_dhcp4" && via != "_ipv6ra" {
		a, err := netip.ParseAddr(via)
		if err != nil {
			r.in.Unread(line, "", "%q is not an address", source.Clean(via))
			return
		}
		rt.Via = a
	}
	if to == "" {
		to = "0.0.0.0/0"
		if rt.Via.Is6() {
			to = "::/0"
		}
	}
	p, err := prefix(to)
	if err != nil {
		r.in.Unread(line, "", "%v", err)
		return
	}
	rt.To = p
	rt.Metric, _ = strconv.Atoi(s.get("Metric"))
	rt.Src, _ = netip.ParseAddr(s.get("PreferredSource"))
	if rt.Kind == "blackhole" || rt.Kind == "unreachable" || rt.Kind == "prohibit" {
		rt.Dev = ""
	}
	r.in.Gateway.AddRoute(rt)
}

func prefix(text string) (netip.Prefix, error) {
	if p, err := netip.ParsePrefix(text); err == nil {
		return p.Masked(), nil
	}
	a, err := netip.ParseAddr(text)
	if err != nil {
		return netip.Prefix{}, fmt.Errorf("%q is not a network", source.Clean(text))
	}
	return netip.PrefixFrom(a, a.BitLen()), nil
}

func (r *unit) rule(s *section) {
	rule := &model.RouteRule{At: r.in.At(s.at), When: packet.All(), Kind: "lookup", Table: "main"}
	for _, v := range s.values {
		narrow := func(f packet.Field, vs packet.Values) { rule.When = rule.When.And(packet.Where(f, vs)) }
		switch v.key {
		case "From", "To":
			p, err := prefix(v.text)
			if err != nil {
				r.in.Unread(v.line, "", "%v", err)
				rule.Unsure = true
				continue
			}
			f := packet.Src
			if v.key == "To" {
				f = packet.Dst
			}
			rule.When = rule.When.And(packet.Prefixes(f, p))
		case "FirewallMark":
			text, mask, masked := strings.Cut(v.text, "/")
			n, err := strconv.ParseUint(text, 0, 32)
			m, err2 := uint64(1<<32-1), error(nil)
			if masked {
				m, err2 = strconv.ParseUint(mask, 0, 32)
			}
			if got, ok := packet.Masked(uint32(n), uint32(m)); ok && err == nil && err2 == nil {
				narrow(packet.Mark, got)
			} else {
				rule.Unsure = true
			}
		case "IncomingInterface":
			narrow(packet.In, packet.Name(v.text))
		case "OutgoingInterface":
			narrow(packet.Out, packet.Name(v.text))
		case "Table":
			rule.Table = source.Clean(v.text)
		case "Priority":
			rule.Priority, _ = strconv.Atoi(v.text)
		case "Type":
			if v.text != "table" {
				rule.Kind = source.Clean(v.text)
			}
		case "Family":
		default:
			rule.Unsure = true
		}
	}
	r.in.Gateway.RouteRules = append(r.in.Gateway.RouteRules, rule)
}
