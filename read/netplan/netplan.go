// Package netplan reads netplan's YAML: addresses, routes and tunnel interfaces.
package netplan

import (
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"toril/internal/lazy"
	"toril/internal/strictyaml"
	"toril/model"
	"toril/packet"
	"toril/read"
	"toril/source"
)

// Format is the format of /etc/netplan/*.yaml.
var Format = &read.Format{
	Name:     "netplan",
	Comments: []string{"#"},
	Title:    "addresses and routes: netplan's YAML",
	Software: "netplan",
	Hints:    []string{"*netplan*.yaml", "[0-9][0-9]-*.yaml"},
	Order:    6,
	Looks: func(f *source.File) (int, string) {
		head := f.Head()
		if top().Match(head) && kinds().Match(head) {
			return 90, fmt.Sprintf("it has the key network with %s", strings.TrimSpace(string(kinds().Find(head))))
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
	top   = lazy.Regexp(`(?m)^network[ \t]*:`)
	kinds = lazy.Regexp(`(?m)^[ \t]+(ethernets|vlans|bridges|bonds|tunnels|wifis|vrfs|dummy-devices|version|renderer)[ \t]*:`)
)

type reader struct{ in *read.Input }

func readFile(in *read.Input) {
	t, err := strictyaml.ParseMerged(in.File.Path, in.File.Bytes())
	if err != nil {
		var e *source.Error
		if errors.As(err, &e) {
			in.Problemf(max(1, e.Line), "%s", e.Message)
		}
		return
	}
	r := &reader{in}
	for _, kv := range strictyaml.Pairs(t.Root()) {
		if key(kv) != "network" {
			in.Unread(line(kv), "", "%q is not a key of netplan", source.Clean(key(kv)))
			continue
		}
		for _, group := range strictyaml.Pairs(kv.Value) {
			in.Count()
			switch k := key(group); k {
			case "ethernets", "vlans", "bridges", "bonds", "tunnels", "wifis", "vrfs", "dummy-devices", "modems":
				for _, dev := range strictyaml.Pairs(group.Value) {
					in.Count()
					r.device(k, dev)
				}
			case "version", "renderer", "nm-devices":
			default:
				in.Unread(line(group), "", "%q is not a known key", source.Clean(k))
			}
		}
	}
}

func key(kv *ast.MappingValueNode) string { return strings.Trim(kv.Key.String(), `"' `) }

func line(kv *ast.MappingValueNode) int { return kv.Key.GetToken().Position.Line }

func scalar(n ast.Node) string {
	if n == nil || n.GetToken() == nil {
		return ""
	}
	return strings.TrimSpace(n.GetToken().Value)
}

func items(n ast.Node) []ast.Node {
	if s, ok := n.(*ast.SequenceNode); ok {
		return s.Values
	}
	return nil
}

func (r *reader) device(group string, dev *ast.MappingValueNode) {
	i := r.in.Gateway.InterfaceOf(r.named(dev), r.in.At(line(dev)))
	table := "" // of a vrf, whose routes and rules are of it unless they say another
	if group == "vrfs" {
		for _, kv := range strictyaml.Pairs(dev.Value) {
			if key(kv) == "table" {
				table = scalar(kv.Value)
			}
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
	for _, kv := range strictyaml.Pairs(dev.Value) {
		r.in.Count()
		text := scalar(kv.Value)
		switch key(kv) {
		case "addresses":
			for _, a := range items(kv.Value) {
				if m := strictyaml.Pairs(a); len(m) > 0 { // an address with options
					r.address(i, line(m[0]), key(m[0]))
					continue
				}
				r.address(i, a.GetToken().Position.Line, scalar(a))
			}
		case "dhcp4", "dhcp6":
			i.Dynamic = i.Dynamic || text == "true" || text == "yes"
		case "gateway4", "gateway6":
			r.route(i, line(kv), map[string]string{"to": "default", "via": text})
		case "routes":
			for _, n := range items(kv.Value) {
				r.route(i, n.GetToken().Position.Line, of(fields(n)))
			}
		case "routing-policy":
			for _, n := range items(kv.Value) {
				r.rule(n.GetToken().Position.Line, of(fields(n)))
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
			for _, k := range strictyaml.Pairs(kv.Value) {
				switch key(k) {
				case "output":
					i.Keyed("", scalar(k.Value), "")
				case "input":
					i.Keyed("", "", scalar(k.Value))
				}
			}
		case "link":
			i.Parent = source.Clean(text)
		}
	}
}

// named returns what an interface is called: its key, unless the definition matches it by another name or gives it one.
func (r *reader) named(dev *ast.MappingValueNode) string {
	name := key(dev)
	for _, kv := range strictyaml.Pairs(dev.Value) {
		switch key(kv) {
		case "match":
			for _, m := range strictyaml.Pairs(kv.Value) {
				if n := scalar(m.Value); key(m) == "name" && n != "" && name == key(dev) {
					name = n
				}
			}
		case "set-name":
			if n := scalar(kv.Value); n != "" {
				return n
			}
		}
	}
	return name
}

func fields(n ast.Node) map[string]string {
	out := map[string]string{}
	for _, kv := range strictyaml.Pairs(n) {
		out[key(kv)] = scalar(kv.Value)
	}
	return out
}

func (r *reader) address(i *model.Interface, at int, text string) {
	p, err := netip.ParsePrefix(text)
	if err != nil {
		r.in.Unread(at, "", "%q is not an address with its network", source.Clean(text))
		return
	}
	i.AddAddress(p)
}

func (r *reader) route(i *model.Interface, at int, o map[string]string) {
	r.in.Count()
	rt := &model.Route{At: r.in.At(at), Dev: i.Name, Kind: source.Clean(o["type"]), Table: source.Clean(o["table"]), Origin: "static"}
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
		r.in.Unread(at, "", "%v", err)
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

func (r *reader) rule(at int, o map[string]string) {
	r.in.Count()
	rule := &model.RouteRule{At: r.in.At(at), When: packet.All(), Kind: "lookup", Table: source.Clean(o["table"])}
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
