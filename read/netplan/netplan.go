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
	About:    model.AboutNetwork,
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

type reader struct {
	in      *read.Input
	links   []link
	defined map[string]bool // interfaces, by the names that the file has for them
}

func readFile(in *read.Input) {
	told := &in.Gateway.Told
	told.Addresses, told.Routes = max(told.Addresses, model.Partly), max(told.Routes, model.Partly)
	root, err := tree.YAML(in.File.Bytes())
	if err != nil {
		var e *tree.Error
		if errors.As(err, &e) {
			in.Lost(in.At(e.Line), "%s", e.Why)
		}
		return
	}
	r := &reader{in: in, defined: map[string]bool{}}
	for _, n := range members(root) {
		if n.Key != "network" {
			r.refuse(n, "%q is not a key of netplan", source.Clean(n.Key))
			continue
		}
		for _, group := range members(n) {
			in.Count()
			switch group.Key {
			case "ethernets", "vlans", "bridges", "bonds", "tunnels", "wifis", "vrfs", "dummy-devices", "modems":
				for _, dev := range members(group) {
					in.Count()
					if dev.Kind != tree.Map {
						r.refuse(dev, "the settings of %q are missing", source.Clean(dev.Key))
						continue
					}
					r.device(group.Key, dev)
				}
			case "version":
				if group.Text != "2" {
					r.refuse(group, "only version 2 is supported")
				}
			case "renderer", "nm-devices", "openvswitch", "virtual-ethernets":
			default:
				r.refuse(group, "%q is not a key of netplan", source.Clean(group.Key))
			}
		}
	}
	in.Later(func() {
		for _, f := range in.Gateway.Files {
			if f.Format == in.File.Format && f != in.File { // it may be defined there
				return
			}
		}
		for _, l := range r.links {
			if !r.defined[l.name] {
				r.refuse(l.at, "interface %q is not defined", source.Clean(l.name))
			}
		}
	})
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
	r.defined[dev.Key] = true
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
			r.list(n)
			for _, a := range items(n) {
				if m := members(a); len(m) > 0 { // an address with options
					r.address(i, a, m[0].Key)
					continue
				}
				r.address(i, a, a.Text)
			}
		case "dhcp4", "dhcp6":
			i.Dynamic = i.Dynamic || text == "true" || text == "yes"
		case "gateway4", "gateway6":
			if _, err := netip.ParseAddr(text); err != nil {
				r.refuse(n, "%q is not an address", source.Clean(text))
				continue
			}
			r.route(i, n, map[string]string{"to": "default", "via": text})
		case "routes":
			r.list(n)
			for _, o := range items(n) {
				r.known(o, routeKeys)
				r.route(i, o, of(fields(o)))
			}
		case "routing-policy":
			r.list(n)
			for _, o := range items(n) {
				r.known(o, policyKeys)
				r.rule(o, of(fields(o)))
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
			r.links = append(r.links, link{n, text})
		default:
			if !strings.Contains(deviceKeys, " "+n.Key+" ") {
				r.refuse(n, "%q is not a key of netplan", source.Clean(n.Key))
			}
		}
	}
}

// The keys of netplan 1.1 (netplan(5)): of devices, on which nothing depends that is asked, and all that routes and routing rules have.
const (
	deviceKeys = " accept-ra access-points activation-mode ageing aging allow-hotplug apn arp-proxy auth auto-config checksums critical " +
		"delay-virtual-functions-rebind device-id dhcp-identifier dhcp4-overrides dhcp6-overrides do-not-fragment embedded-switch-mode " +
		"emit-lldp extensions flow-label generic-receive-offload generic-segmentation-offload gratuitous-arp id ignore-carrier " +
		"infiniband-mode interfaces ipv6-address-generation ipv6-address-token ipv6-mtu ipv6-privacy large-receive-offload limit " +
		"link-local mac-learning macaddress mark match mtu nameservers neigh-suppress network-id networkmanager notifications number " +
		"openvswitch optional optional-addresses parameters password peer peers pin port port-range private ra-overrides " +
		"receive-checksum-offload regulatory-domain renderer set-name short-circuit sim-id sim-operator-id table " +
		"tcp-segmentation-offload tcp6-segmentation-offload transmit-checksum-offload ttl type-of-service username " +
		"virtual-function-count wakeonlan wakeonwlan "
	routeKeys  = " from to via on-link metric type scope table mtu congestion-window advertised-receive-window advertised-mss "
	policyKeys = " from to table priority mark type-of-service "
)

// link is an interface that lies on another.
type link struct {
	at   *tree.Node
	name string
}

// refuse says that netplan takes nothing of its files, for a mistake at a node.
func (r *reader) refuse(n *tree.Node, format string, args ...any) {
	r.in.Refuse(r.in.Pos(n.At()), format, args...)
}

// list refuses what is no list.
func (r *reader) list(n *tree.Node) {
	if n.Kind != tree.List {
		r.refuse(n, "a list was expected")
	}
}

// known refuses the members of a node that are none of some keys.
func (r *reader) known(n *tree.Node, keys string) {
	for _, m := range members(n) {
		if !strings.Contains(keys, " "+m.Key+" ") {
			r.refuse(m, "%q is not a key of netplan", source.Clean(m.Key))
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

func (r *reader) address(i *model.Interface, at *tree.Node, text string) {
	p, err := netip.ParsePrefix(text)
	if err != nil {
		r.refuse(at, "%q is not an address with its network", source.Clean(text))
		return
	}
	i.AddAddress(p)
}

func (r *reader) route(i *model.Interface, at *tree.Node, o map[string]string) {
	r.in.Count()
	rt := &model.Route{At: r.in.Pos(at.At()), Dev: i.Name, Kind: source.Clean(o["type"]), Table: source.Clean(o["table"]), Origin: "static"}
	rt.Via, _ = netip.ParseAddr(o["via"])
	rt.Src, _ = netip.ParseAddr(o["from"])
	rt.Metric = r.number(at, "metric", o)
	r.number(at, "table", o)
	to := o["to"]
	if to == "default" {
		to = "0.0.0.0/0"
		if rt.Via.Is6() {
			to = "::/0"
		}
	}
	p, err := prefix(to)
	if err != nil {
		r.refuse(at, "%v", err)
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

// number reads the decimal number of a key; 0 where there is none.
func (r *reader) number(at *tree.Node, key string, o map[string]string) int {
	text := o[key]
	if text == "" {
		return 0
	}
	n, err := strconv.ParseUint(text, 10, 32)
	if err != nil {
		r.refuse(at, "%s: %q is not a decimal number", key, source.Clean(text))
	}
	return int(n)
}

func (r *reader) rule(at *tree.Node, o map[string]string) {
	r.in.Count()
	rule := &model.RouteRule{At: r.in.Pos(at.At()), When: packet.All(), Kind: "lookup", Table: source.Clean(o["table"])}
	if rule.Table == "" {
		rule.Table = "main"
	}
	rule.Priority = r.number(at, "priority", o)
	r.number(at, "table", o)
	mark := r.number(at, "mark", o)
	for k, text := range o {
		switch k {
		case "from", "to":
			p, err := prefix(text)
			if err != nil {
				r.refuse(at, "%v", err)
				continue
			}
			f := packet.Src
			if k == "to" {
				f = packet.Dst
			}
			rule.When = rule.When.And(packet.Prefixes(f, p))
		case "mark":
			rule.When = rule.When.And(packet.Where(packet.Mark, packet.OneOf(uint64(mark))))
		case "type-of-service":
			rule.Doubts.Add(&model.Doubt{Cause: model.Undecided, Gateway: r.in.Gateway.Name, At: rule.At,
				Why: "the routing rule has a condition that is not modelled"})
		}
	}
	r.in.Gateway.RouteRules = append(r.in.Gateway.RouteRules, rule)
}
