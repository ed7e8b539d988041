// Package iproute reads addresses, routes and routing rules of a Linux gateway as the program ip prints them.
package iproute

import (
	"bytes"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"toril/internal/lazy"
	"toril/model"
	"toril/read"
	"toril/source"
	"toril/syntax/lines"
)

// Text is the format of "ip addr", "ip link", "ip route" and "ip rule" as text; one file may hold several of them.
var Text = &read.Format{
	Name:     "iproute2",
	Comments: []string{"#"},
	Title:    "addresses, routes and routing rules: the output of ip addr, link, route, rule",
	Software: "iproute2",
	About:    model.AboutNetwork,
	Linux:    true,
	Hints: []string{
		"ip-addr*",
		"ip-route*",
		"ip-rule*",
		"ip_addr*",
		"ip_route*",
		"ip_rule*",
		"addr.txt",
		"addresses.txt",
		"routes.txt",
		"route*.txt",
		"rule*.txt",
	},
	Order: 5,
	Looks: looksLikeText,
	Read:  readText,
	Covers: read.Rows(
		read.Coverage{Statement: "interfaces: flags, inet, inet6, peer, and of -d: xfrm, vti, gre, ipip, sit, vlan", Use: read.Used},
		read.Coverage{Statement: "interfaces: mtu; of -s: bytes, errors and dropped packets", Use: read.Used},
		read.Coverage{Statement: "routes: all types, via, dev, table, proto, metric, src, nexthop", Use: read.Used},
		read.Coverage{
			Statement: "rules: from, to, fwmark, iif, oif, ipproto, sport, dport, lookup, blackhole, unreachable, prohibit",
			Use:       read.Used,
		},
		read.Coverage{
			Statement: "rules: tos, uidrange, l3mdev, suppress_prefixlength",
			Use:       read.Used,
			Note:      "outside the model: results that depend on them say so",
		},
		read.Coverage{Statement: "everything else", Use: read.Irrelevant, Note: "queues, lifetimes of addresses"},
	),
}

var (
	linkLine  = lazy.NewSearch(`(?m)^\d+: \S+: <[A-Z0-9_,-]*>`)
	ruleLine  = lazy.NewSearch(`(?m)^\d+:\s+(not )?from \S+ `)
	routeLine = lazy.NewSearch(
		`(?m)^((unicast|blackhole|unreachable|prohibit|throw|local|broadcast) )?(default|[0-9a-f.:]+(/\d+)?) ?(via|dev|proto|metric|table|$)`,
	)
	types = []string{"unicast", "blackhole", "unreachable", "prohibit", "throw", "local", "broadcast", "multicast", "anycast"} // of routes
)

func looksLikeText(f *source.File) (int, string) {
	head := f.Head()
	if at := linkLine.FindIndex(head); at != nil {
		score := 85
		if at[0] == 0 { // nothing else begins so
			score = 95
		}
		return score, fmt.Sprintf("it lists interfaces (%q)", head[at[0]:at[1]])
	}
	if m := ruleLine.Find(head); m != nil {
		return 80, fmt.Sprintf("it lists rules of the routing policy (%q)", m)
	}
	if routes := routeLine.FindAll(head, -1); len(routes) > 0 {
		lines := bytes.Count(bytes.TrimSpace(head), []byte("\n")) + 1
		switch {
		case len(routes) == lines: // and nothing else
			return 95, fmt.Sprintf("it lists routes (%q)", routes[0])
		case len(routes)*3 >= lines:
			return 60, fmt.Sprintf("it lists routes (%q)", routes[0])
		}
	}
	return 0, ""
}

// readText tells the three lists apart line by line. It is long as a list is: a case a kind of line.
func readText(in *read.Input) {
	var dev *model.Interface
	var hops *model.Route // a route whose next hops follow on lines of their own
	var of *model.Traffic // of the interface, once its counters have begun
	head := ""            // of the counters that the next line holds
	for l := range lines.Parse(in.File.Bytes(), lines.Manner{Comments: "#"}) {
		n, line, w, indented := l.Line, l.Text, l.Fields(), l.Indented()
		numbered := !indented && len(w) > 0 && strings.HasSuffix(w[0], ":")
		switch {
		case len(w) == 0:
		case numbered && linkLine.MatchString(line):
			in.Count()
			hops, of, head = nil, nil, ""
			dev = addLinkLine(in, n, w)
			for k := 3; k < len(w); k += 2 { // keywords with their values
				if plain(w[k]) && !linkWords.has(w[k]) {
					in.Unread(in.At(n), read.Owner{Name: dev.Name, To: &dev.Doubts}, "%q is not known of an interface", source.Clean(w[k]))
					break
				}
			}
		case numbered && ruleLine.MatchString(line+" "):
			in.Count()
			in.Gateway.Told.Rules = true
			if err := rule(in, in.At(n), strings.TrimSuffix(w[0], ":"), w[1:]); err != nil {
				in.Unread(in.At(n), read.Owner{Topic: model.AboutRoutes}, "%s", source.Clean(err.Error()))
			}
		case indented && hops != nil && w[0] == "nexthop":
			r := *hops
			if err := routeWords(&r, w[1:]); err != nil {
				unreadRoute(in, in.At(n), &r, err)
				continue
			}
			in.Gateway.AddRoute(&r)
		case indented && dev != nil && (w[0] == "RX:" || w[0] == "TX:" || w[0] == "RX" || w[0] == "TX"):
			if head = strings.TrimSuffix(w[0], ":"); of == nil {
				of = &model.Traffic{At: dev.At, Interface: dev.Name}
				in.Gateway.Observed.Traffic = append(in.Gateway.Observed.Traffic, of)
			}
			if slices.Contains(w, "errors:") { // the second line of ip -s -s
				head = "more"
			}
		case indented && dev != nil && head != "":
			if head != "more" {
				if err := count(of, head == "RX", w); err != nil {
					in.Unread(in.At(n), read.Owner{Topic: model.AboutStatus}, "%s", source.Clean(err.Error()))
				}
			}
			head = ""
		case indented && dev != nil:
			if err := detail(dev, w); err != nil {
				in.Unread(in.At(n), owner(dev, w), "%s", source.Clean(err.Error()))
			} else if word := unknown(w); word != "" {
				in.Unread(in.At(n), owner(dev, w), "%q is not known of an interface", source.Clean(word))
			}
		case !indented:
			in.Count()
			dev = nil
			hops = nil
			toldRoutes(in, slices.Index(w, "table"), w)
			r, err := routeOf(in, in.At(n), w)
			if err != nil {
				unreadRoute(in, in.At(n), r, err)
				continue
			}
			if !r.Via.IsValid() && r.Dev == "" && r.Kind == "unicast" {
				hops = r
				if slices.Contains(w, "nexthop") {
					hops = nil
				}
				continue
			}
			if !skipped(r.Kind) {
				in.Gateway.AddRoute(r)
			}
		default:
			in.Unread(in.At(n), read.Owner{}, "it belongs to nothing before it")
		}
	}
}

// toldRoutes notes which tables a line of a list of routes tells of: the main one, where it names none; all, where it names the local one.
func toldRoutes(in *read.Input, at int, w []string) {
	told := &in.Gateway.Told
	switch {
	case at < 0 || at+1 < len(w) && w[at+1] == "main":
		told.Routes = model.Wholly
	case at+1 < len(w) && w[at+1] == "local":
		told.Tables = true
	}
}

// unreadRoute keeps a line of a list of routes that was not understood. Where it tells of which network it is, only packets to that may go
// another way.
func unreadRoute(in *read.Input, at source.Pos, r *model.Route, err error) {
	if r == nil {
		in.Unread(at, read.Owner{Topic: model.AboutRoutes}, "%s", source.Clean(err.Error()))
		return
	}
	r.Kind = model.UnreadRoute
	in.Unread(at, read.Owner{To: &r.Doubts}, "%s", source.Clean(err.Error()))
	in.Gateway.AddRoute(r)
}

func addLinkLine(in *read.Input, n int, w []string) *model.Interface {
	name, parent, _ := strings.Cut(strings.TrimSuffix(w[1], ":"), "@")
	i := in.Gateway.InterfaceOf(name, in.At(n))
	if parent != "" && parent != "NONE" {
		i.Parent = source.Clean(parent)
	}
	flags := strings.Split(strings.Trim(w[2], "<>"), ",")
	i.Down = !slices.Contains(flags, "UP")
	in.Gateway.Told.Addresses = max(in.Gateway.Told.Addresses, model.Partly)
	if slices.Contains(flags, "LOOPBACK") { // a list of all begins with it
		i.Kind, in.Gateway.Told.Addresses = "loopback", model.Wholly
	}
	if k := slices.Index(w, "mtu"); k > 0 && k+1 < len(w) {
		if mtu, err := strconv.Atoi(w[k+1]); err == nil && mtu > 0 {
			i.MTU = model.Say(mtu, in.At(n))
		}
	}
	return i
}

// detail reads an indented line of an interface.
func detail(i *model.Interface, w []string) error {
	value := func(key string) string {
		for k := range w {
			if w[k] == key && k+1 < len(w) {
				return w[k+1]
			}
		}
		return ""
	}
	switch w[0] {
	case "inet", "inet6":
		if len(w) < 2 {
			return fmt.Errorf("an address is missing")
		}
		p, err := netip.ParsePrefix(w[1])
		if err != nil {
			a, err := netip.ParseAddr(w[1])
			if err != nil {
				return fmt.Errorf("%q is not an address", w[1])
			}
			p = netip.PrefixFrom(a, a.BitLen())
		}
		i.AddAddress(p)
		if peer, err := netip.ParsePrefix(value("peer")); err == nil {
			i.AddAddress(netip.PrefixFrom(p.Addr(), min(peer.Bits(), p.Bits())))
		}
		i.Dynamic = i.Dynamic || slices.Contains(w, "dynamic")
	case "xfrm":
		i.Kind = "xfrm"
		id, err := strconv.ParseUint(value("if_id"), 0, 32)
		if err != nil {
			return fmt.Errorf("the if_id of the xfrm interface is no number")
		}
		i.IfID = uint32(id)
	case "vti", "vti6", "gre", "gretap", "ip6gre", "ip6gretap", "ipip", "sit", "ip6tnl":
		i.Kind = model.TunnelKind(w[0])
		i.Ends(value("local"), value("remote"))
		i.Keyed(value("key"), value("okey"), value("ikey"))
	case "link/gre", "link/sit": // without -d it is all that tells; link/ipip may be a VTI
		if len(w) > 3 && w[2] == "peer" && i.Kind == "" {
			i.Kind = strings.TrimPrefix(w[0], "link/")
			i.Ends(w[1], w[3])
		}
	case "vlan", "bridge", "dummy", "tun", "bond", "vrf", "veth", "wireguard":
		i.Kind = w[0]
	}
	return nil
}

func routeOf(in *read.Input, at source.Pos, w []string) (*model.Route, error) {
	r := &model.Route{At: at, Kind: "unicast", Table: "main", Origin: "static"}
	if slices.Contains(types, w[0]) {
		r.Kind, w = w[0], w[1:]
	}
	if len(w) == 0 {
		return nil, fmt.Errorf("a route has a destination")
	}
	six := slices.ContainsFunc(w[1:], func(s string) bool { return strings.Contains(s, ":") })
	var err error
	if r.To, err = destination(w[0], six); err != nil {
		err = fmt.Errorf("it is neither an interface nor a route nor a rule: %v", err)
		if len(w) > 1 { // a kind of route that is not known
			var known error
			if r.To, known = destination(w[1], six); known == nil {
				return r, err
			}
		}
		return nil, err
	}
	return r, routeWords(r, w[1:])
}

// AddRoute adds the route that "ip route add" makes of some words, out of an interface where they name none. What was not understood is
// kept unread.
func AddRoute(in *read.Input, at source.Pos, w []string, dev string) {
	r, err := routeOf(in, at, w)
	if r != nil && r.Dev == "" && !r.Via.IsValid() && r.Kind == "unicast" {
		r.Dev = source.Clean(dev)
	}
	switch {
	case err != nil:
		unreadRoute(in, at, r, err)
	case !skipped(r.Kind):
		in.Gateway.AddRoute(r)
	}
}

// Stray is the first of the words behind the kind of a tunnel interface that is not known; "" for none.
func Stray(w []string) string {
	if len(w) == 0 {
		return ""
	}
	return unknown(w)
}

func routeWords(r *model.Route, w []string) error {
	for k := 0; k < len(w); k++ {
		value := ""
		if k+1 < len(w) {
			value = w[k+1]
		}
		switch w[k] {
		case "via":
			if value == "inet6" || value == "inet" {
				k++
				if k+1 < len(w) {
					value = w[k+1]
				}
			}
			a, err := netip.ParseAddr(value)
			if err != nil {
				return fmt.Errorf("%q is not an address", value)
			}
			r.Via = a
		case "dev":
			r.Dev = source.Clean(value)
		case "table":
			r.Table = source.Clean(value)
		case "proto":
			r.Origin = origin(value)
		case "metric":
			m, err := strconv.ParseUint(value, 10, 32)
			if err != nil {
				return fmt.Errorf("%q is not a metric", value)
			}
			r.Metric = int(m)
		case "src":
			r.Src, _ = netip.ParseAddr(value)
		case "scope",
			"weight",
			"preference",
			"mtu",
			"advmss",
			"pref",
			"expires",
			"hoplimit",
			"error",
			"realm",
			"initcwnd",
			"rtt",
			"window",
			"encap",
			"nhid",
			"tos",
			"features",
			"cache":
		default:
			if !routeFlags.has(w[k]) {
				return fmt.Errorf("%q is not known of a route", w[k])
			}
			continue
		}
		k++
	}
	return nil
}
