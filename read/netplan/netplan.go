// Package netplan reads netplan's YAML: addresses, routes and tunnel interfaces.
package netplan

import (
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"toril/internal/lazy"
	"toril/model"
	"toril/packet"
	"toril/read"
	"toril/source"
	"toril/syntax/tree"
)

// Format is the format of /etc/netplan/*.yaml.
var Format = &read.Format{
	Name:     "netplan",
	Comments: []string{"#"},
	Title:    "addresses and routes: netplan's YAML",
	Software: "netplan",
	Linux:    true,
	Hints:    []string{"*netplan*.yaml", "[0-9][0-9]-*.yaml"},
	Order:    6,
	Looks: func(f *source.File) (int, string) {
		head := f.Head()
		if top.Match(head) && kinds.Match(head) {
			return 90, fmt.Sprintf("it has the key network with %s", strings.TrimSpace(string(kinds.Find(head))))
		}
		return 0, ""
	},
	Read: readFile,
	Covers: read.Rows(
		read.Coverage{
			Statement: "ethernets, vlans, bridges, bonds, wifis, tunnels, dummy-devices, vrfs: addresses, gateway4, gateway6, dhcp4, dhcp6",
			Use:       read.Used,
		},
		read.Coverage{Statement: "routes: to, via, table, metric, type, from", Use: read.Used},
		read.Coverage{Statement: "routing-policy: from, to, mark, table, priority", Use: read.Used},
		read.Coverage{Statement: "match: name; set-name; vrfs: table", Use: read.Used},
		read.Coverage{Statement: "tunnels: mode, local, remote, key, keys; vlans: id, link", Use: read.Used},
		read.Coverage{Statement: "other keys", Use: read.Irrelevant, Note: "name servers, Wi-Fi, DHCP options, hardware"},
		read.Coverage{Statement: "anchors and aliases", Use: read.Left},
	),
}

var (
	top   = lazy.NewSearch(`(?m)^network[ \t]*:`)
	kinds = lazy.NewSearch(`(?m)^[ \t]+(ethernets|vlans|bridges|bonds|tunnels|wifis|vrfs|dummy-devices|version|renderer)[ \t]*:`)
)

type reader struct{ in *read.Input }

func readFile(in *read.Input) {
	root, err := tree.YAML(in.File.Bytes())
	if err != nil {
		var e *tree.Error
		if errors.As(err, &e) {
			in.Problemf(e.Line, "%s", e.Why)
		}
		return
	}
	r := &reader{in}
	for _, n := range members(root) {
		if n.Key != "network" {
			in.UnreadAt(in.Pos(n.At()), "", "%q is not a key of netplan", source.Clean(n.Key))
			continue
		}
		for _, group := range members(n) {
			in.Count()
			switch group.Key {
			case "ethernets", "vlans", "bridges", "bonds", "tunnels", "wifis", "vrfs", "dummy-devices", "modems":
				for _, dev := range members(group) {
					in.Count()
					r.device(group.Key, dev)
				}
			case "version", "renderer", "nm-devices":
			default:
				in.UnreadAt(in.Pos(group.At()), "", "%q is not a known key", source.Clean(group.Key))
			}
		}
	}
}

// members are those of a map; nil for what is none.
func members(n *tree.Node) []*tree.Node {
	if n.Kind != tree.Map {
		return nil
	}
	return n.Nodes
}

// items are those of a list; nil for what is none.
func items(n *tree.Node) []*tree.Node {
	if n.Kind != tree.List {
		return nil
	}
	return n.Nodes
}

// device: it is long as a table is: a case a key.
func (r *reader) device(group string, dev *tree.Node) {
	i := r.in.Gateway.InterfaceOf(r.named(dev), r.in.Pos(dev.At()))
	table := "" // of a vrf, whose routes and rules are of it unless they say another
	if group == "vrfs" {
		if n := dev.Get("table"); n != nil {
			table = n.Text
		}
	}
	of := func(o map[string]string) map[string]string {
		if o["table"] == "" {
			o["table"] = table
		}
		return o
	}
	switch group {
	case "vlans", "bridges", "bonds", "vrfs":
		i.Kind = strings.TrimSuffix(group, "s")
	case "dummy-devices":
		i.Kind = "dummy"
	}
	for _, n := range members(dev) {
		r.in.Count()
		text := n.Text
		switch n.Key {
		case "addresses":
			for _, a := range items(n) {
				if m := members(a); len(m) > 0 { // an address with options
					r.address(i, r.in.Pos(a.At()), m[0].Key)
					continue
				}
				r.address(i, r.in.Pos(a.At()), a.Text)
			}
		case "dhcp4", "dhcp6":
			i.Dynamic = i.Dynamic || text == "true" || text == "yes"
		case "gateway4", "gateway6":
			r.route(i, r.in.Pos(n.At()), map[string]string{"to": "default", "via": text})
		case "routes":
			for _, o := range items(n) {
				r.route(i, r.in.Pos(o.At()), of(fields(o)))
			}
		case "routing-policy":
			for _, o := range items(n) {
				r.rule(r.in.Pos(o.At()), of(fields(o)))
			}
		case "mode":
			if group == "tunnels" {
				i.Kind = model.TunnelKind(text)
			}
		case "local":
			i.Local, _ = netip.ParseAddr(text)
		case "remote":
			i.Remote, _ = netip.ParseAddr(text)
		case "key":
			i.Keyed(text, "", "")
		case "keys":
			i.Keyed(text, "", "")
			for _, k := range members(n) {
				switch k.Key {
				case "output":
					i.Keyed("", k.Text, "")
				case "input":
					i.Keyed("", "", k.Text)
				}
			}
		case "link":
			i.Parent = source.Clean(text)
		}
	}
}

// named returns what an interface is called: its key, unless the definition matches it by another name or gives it one.
func (r *reader) named(dev *tree.Node) string {
	if n := dev.Get("set-name"); n != nil && n.Text != "" {
		return n.Text
	}
	if match := dev.Get("match"); match != nil {
		if n := match.Get("name"); n != nil && n.Text != "" {
			return n.Text
		}
	}
	return dev.Key
}

func fields(n *tree.Node) map[string]string {
	out := map[string]string{}
	for _, m := range members(n) {
		out[m.Key] = m.Text
	}
	return out
}

func (r *reader) address(i *model.Interface, at source.Pos, text string) {
	p, err := netip.ParsePrefix(text)
	if err != nil {
		r.in.UnreadAt(at, "", "%q is not an address with its network", source.Clean(text))
		return
	}
	i.AddAddress(p)
}

func (r *reader) route(i *model.Interface, at source.Pos, o map[string]string) {
	r.in.Count()
	rt := &model.Route{At: at, Dev: i.Name, Kind: source.Clean(o["type"]), Table: source.Clean(o["table"]), Origin: "static"}
	rt.Via, _ = netip.ParseAddr(o["via"])
	rt.Src, _ = netip.ParseAddr(o["from"])
	rt.Metric, _ = strconv.Atoi(o["metric"])
	to := o["to"]
	if to == "default" {
		to = "0.0.0.0/0"
		if rt.Via.Is6() {
			to = "::/0"
		}
	}
	p, err := prefix(to)
	if err != nil {
		r.in.UnreadAt(at, "", "%v", err)
		return
	}
	rt.To = p
	if rt.Kind == "blackhole" || rt.Kind == "unreachable" || rt.Kind == "prohibit" {
		rt.Dev = ""
	}
	r.in.Gateway.AddRoute(rt)
}

func prefix(text string) (netip.Prefix, error) {
	if p, err := netip.ParsePrefix(text); err == nil {
		return p.Masked(), nil
	}
	if a, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(a, a.BitLen()), nil
	}
	return netip.Prefix{}, fmt.Errorf("%q is not a network", source.Clean(text))
}

func (r *reader) rule(at source.Pos, o map[string]string) {
	r.in.Count()
	rule := &model.RouteRule{At: at, When: packet.All(), Kind: "lookup", Table: source.Clean(o["table"])}
	if rule.Table == "" {
		rule.Table = "main"
	}
	rule.Priority, _ = strconv.Atoi(o["priority"])
	for k, text := range o {
		switch k {
		case "from", "to":
			p, err := prefix(text)
			if err != nil {
				rule.Unsure = true
				continue
			}
			f := packet.Src
			if k == "to" {
				f = packet.Dst
			}
			rule.When = rule.When.And(packet.Prefixes(f, p))
		case "mark":
			n, err := strconv.ParseUint(text, 0, 32)
			rule.Unsure = rule.Unsure || err != nil
			rule.When = rule.When.And(packet.Where(packet.Mark, packet.OneOf(n)))
		case "table", "priority":
		default:
			rule.Unsure = true
		}
	}
	r.in.Gateway.RouteRules = append(r.in.Gateway.RouteRules, rule)
}
