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
	"toril/syntax/ini"
)

// Format is the format of systemd-networkd's units.
var Format = &read.Format{
	Name:     "systemd-networkd",
	Comments: []string{"#", ";"},
	Title:    "addresses, routes and tunnel interfaces: units .network and .netdev",
	Software: "systemd",
	About:    model.AboutNetwork,
	Linux:    true,
	Hints:    []string{"*.network", "*.netdev"},
	Order:    6,
	Looks: func(f *source.File) (int, string) {
		head := f.Head()
		if m := netdev.Find(head); m != nil && kindLine.Match(head) {
			return 90, "it has the section [NetDev] with a kind"
		}
		if m := network.Find(head); m != nil && matchLine.Match(head) {
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
	netdev    = lazy.NewSearch(`(?m)^\[NetDev\]`)
	kindLine  = lazy.NewSearch(`(?m)^Kind[ \t]*=`)
	network   = lazy.NewSearch(`(?m)^\[(Network|Route|Address)\]`)
	matchLine = lazy.NewSearch(`(?m)^\[Match\]`)
)

func parse(in *read.Input) []*ini.Section {
	f := ini.Parse(in.File.Bytes())
	for _, b := range f.Bad {
		in.Unread(in.Pos(b), read.Owner{}, "it is neither a section nor a setting of one")
	}
	for _, s := range f.Sections {
		in.File.Statements += 1 + len(s.Values)
	}
	return f.Sections
}

func readUnit(in *read.Input) {
	told := &in.Gateway.Told
	told.Addresses, told.Routes = max(told.Addresses, model.Partly), max(told.Routes, model.Partly)
	sections := parse(in)
	var names []string
	by := ""
	for _, s := range sections {
		switch s.Name {
		case "Match", "NetDev":
			if n := s.Get("Name"); n != "" && len(names) == 0 {
				names = strings.Fields(n)
			}
			for _, v := range s.Values {
				if s.Name == "Match" && matched[v.Key] && by == "" {
					by = v.Key + "=" + v.Text
					in.Unread(in.Pos(v.At), read.Owner{Harmless: true}, "which interface this matches, the file does not say")
				}
			}
		}
	}
	if len(names) == 0 && by != "" { // its addresses are the gateway's all the same
		names = []string{by}
	}
	if len(names) == 0 {
		in.Unread(in.At(1), read.Owner{}, "the unit names no interface: what it sets is not read")
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

func (r *unit) section(s *ini.Section) {
	switch s.Name {
	case "NetDev", "Xfrm", "Tunnel", "VLAN":
		r.rest(s, read.Owner{Name: r.iface.Name, To: &r.iface.Doubts})
	case "Route", "RoutingPolicyRule":
	default:
		r.rest(s, read.Owner{})
	}
	switch s.Name {
	case "NetDev":
		if k := s.Get("Kind"); k != "" {
			if r.iface.Kind = model.TunnelKind(k); !has(kinds, k) {
				r.in.Unread(
					r.in.Pos(s.At),
					read.Owner{Name: r.iface.Name, To: &r.iface.Doubts},
					"%q is not a kind of interface",
					source.Clean(k),
				)
			}
		}
	case "Xfrm":
		id, err := strconv.ParseUint(s.Get("InterfaceId"), 0, 32)
		if err != nil {
			r.in.Unread(r.in.Pos(s.At), read.Owner{Name: r.iface.Name, To: &r.iface.Doubts}, "an xfrm interface has a numeric InterfaceId")
			return
		}
		r.iface.IfID = uint32(id)
	case "Tunnel":
		r.iface.Ends(s.Get("Local"), s.Get("Remote"))
		r.iface.Keyed(s.Get("Key"), s.Get("OutputKey"), s.Get("InputKey"))
	case "Network":
		for _, v := range s.Values {
			switch v.Key {
			case "Address":
				r.address(v)
			case "Gateway":
				r.route(v.At.Line, "", v.Text, &ini.Section{})
			case "DHCP":
				r.iface.Dynamic = r.iface.Dynamic || v.Text != "no" && v.Text != "false"
			}
		}
	case "Address":
		for _, v := range s.Values {
			if v.Key == "Address" {
				r.address(v)
			}
		}
	case "Route":
		r.route(s.At.Line, s.Get("Destination"), s.Get("Gateway"), s)
	case "RoutingPolicyRule":
		if !r.again {
			r.rule(s)
		}
	}
}

func (r *unit) address(v ini.Value) {
	p, err := netip.ParsePrefix(v.Text)
	if err != nil {
		a, err := netip.ParseAddr(v.Text)
		if err != nil {
			r.in.Unread(r.in.Pos(v.At), read.Owner{}, "%q is not an address", source.Clean(v.Text))
			return
		}
		p = netip.PrefixFrom(a, a.BitLen())
	}
	r.iface.AddAddress(p)
}

func (r *unit) route(line int, to, via string, s *ini.Section) {
	rt := &model.Route{At: r.in.At(line), Dev: r.iface.Name, Kind: s.Get("Type"), Table: source.Clean(s.Get("Table")), Origin: "static"}
	if via != "" && via != "_dhcp4" && via != "_ipv6ra" {
		a, err := netip.ParseAddr(via)
		if err != nil {
			r.in.Unread(r.in.At(line), read.Owner{}, "%q is not an address", source.Clean(via))
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
		r.in.Unread(r.in.At(line), read.Owner{}, "%v", err)
		return
	}
	rt.To = p
	rt.Metric, _ = strconv.Atoi(s.Get("Metric"))
	rt.Src, _ = netip.ParseAddr(s.Get("PreferredSource"))
	if rt.Kind == "blackhole" || rt.Kind == "unreachable" || rt.Kind == "prohibit" {
		rt.Dev = ""
	}
	if s.At.Line > 0 {
		of := read.Owner{To: &rt.Doubts}
		if s.Get("Destination") == "" { // it may be in what was not understood
			of = read.Owner{}
		}
		r.rest(s, of)
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

// undecided notes a condition of a routing rule that the model does not have.
func (r *unit) undecided(rule *model.RouteRule, v ini.Value) {
	rule.Doubts.Add(
		&model.Doubt{Cause: model.Undecided, Gateway: r.in.Gateway.Name, At: r.in.Pos(v.At), Why: "the routing rule has a condition " +
			"that is not modelled"},
	)
}

func (r *unit) rule(s *ini.Section) {
	rule := &model.RouteRule{At: r.in.At(s.At.Line), When: packet.All(), Kind: "lookup", Table: "main"}
	for _, v := range s.Values {
		narrow := func(f packet.Field, vs packet.Values) { rule.When = rule.When.And(packet.Where(f, vs)) }
		switch v.Key {
		case "From", "To":
			p, err := prefix(v.Text)
			if err != nil {
				r.in.Unread(r.in.Pos(v.At), read.Owner{To: &rule.Doubts}, "%v", err)
				continue
			}
			f := packet.Src
			if v.Key == "To" {
				f = packet.Dst
			}
			rule.When = rule.When.And(packet.Prefixes(f, p))
		case "FirewallMark":
			text, mask, masked := strings.Cut(v.Text, "/")
			n, err := strconv.ParseUint(text, 0, 32)
			m, err2 := uint64(1<<32-1), error(nil)
			if masked {
				m, err2 = strconv.ParseUint(mask, 0, 32)
			}
			if got, ok := packet.Masked(uint32(n), uint32(m)); ok && err == nil && err2 == nil {
				narrow(packet.Mark, got)
			} else {
				r.undecided(rule, v)
			}
		case "IncomingInterface":
			narrow(packet.In, packet.Name(v.Text))
		case "OutgoingInterface":
			narrow(packet.Out, packet.Name(v.Text))
		case "Table":
			rule.Table = source.Clean(v.Text)
		case "Priority":
			rule.Priority, _ = strconv.Atoi(v.Text)
		case "Type":
			if v.Text != "table" {
				rule.Kind = source.Clean(v.Text)
			}
		case "Family":
		default:
			if has(used[s.Name], v.Key) {
				r.undecided(rule, v)
			}
		}
	}
	r.rest(s, read.Owner{To: &rule.Doubts})
	r.in.Gateway.RouteRules = append(r.in.Gateway.RouteRules, rule)
}
