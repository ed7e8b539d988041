// Package ifupdown reads the file interfaces of Debian's ifupdown (interfaces(5)).
package ifupdown

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"toril/internal/lazy"
	"toril/model"
	"toril/model/literal"
	"toril/read"
	"toril/read/iproute"
	"toril/source"
	"toril/syntax/lines"
)

// Format is the format of /etc/network/interfaces.
var Format = &read.Format{
	Name:     "interfaces",
	Comments: []string{"#"},
	Title:    "addresses and routes: ifupdown's /etc/network/interfaces",
	Software: "ifupdown",
	About:    model.AboutNetwork,
	Linux:    true,
	Hints:    []string{"interfaces"},
	Order:    6,
	Looks: func(f *source.File) (int, string) {
		if m := ifaceLine.Find(f.Head()); m != nil {
			return 85, fmt.Sprintf("it has stanzas of interfaces (%q)", m)
		}
		return 0, ""
	},
	Read: readFile,
	Covers: read.Rows(
		read.Coverage{Statement: "iface, auto, allow-hotplug, source, source-directory, no-auto-down, rename", Use: read.Used},
		read.Coverage{Statement: "address, netmask, gateway, metric", Use: read.Used},
		read.Coverage{
			Statement: "up, post-up, pre-up: ip route, ip addr, ip link add of xfrm, vti, gre; route add",
			Use:       read.Used,
			Note:      "other commands are left unread",
		},
		read.Coverage{Statement: "mapping, template, hwaddress, mtu, dns, bridge, bond, vlan, wireless options", Use: read.Irrelevant},
	),
}

var ifaceLine = lazy.NewSearch(`(?m)^[ \t]*iface[ \t]+\S+[ \t]+(inet6?|can)[ \t]+\w+|^[ \t]*(auto|allow-hotplug)[ \t]+\S+`)

type reader struct {
	in    *read.Input
	iface *model.Interface
	mask  string
	six   bool
	skip  bool // inside a stanza that is of no interest

	method string
	said   map[string]bool // what the stanza said: the first of several counts
}

func readFile(in *read.Input) {
	told := &in.Gateway.Told
	told.Addresses, told.Routes = max(told.Addresses, model.Partly), max(told.Routes, model.Partly)
	r := &reader{in: in}
	if in.File.Marked() {
		r.refuse(r.in.At(1), "the file begins with a byte order mark")
	}
	for l := range lines.Parse(in.File.Bytes(), lines.Manner{Comments: "#", Joined: true}) {
		if len(l.Words) > 0 {
			r.statement(in.Pos(l.Place), l.Fields())
		}
	}
}

// refuse says that the program takes nothing of the file, once.
func (r *reader) refuse(at source.Pos, format string, args ...any) {
	if r.in.Gateway.RefusedOf(r.in.File.Format) == nil {
		r.in.Refuse(at, format, args...)
	}
}

// methods are those of the program, by address family (interfaces(5)).
var methods = map[string][]string{
	"inet": {
		"loopback",
		"static",
		"manual",
		"dhcp",
		"bootp",
		"tunnel",
		"ppp",
		"wvdial",
		"ipv4ll",
	}, "inet6": {"loopback", "auto", "static", "manual", "dhcp", "v4tunnel", "6to4", "ppp", "wvdial", "tunnel"},
	"can": {"static", "manual"}, "ipx": {"static", "dynamic"}, "link": {"none", "manual"}, "meta": {"none"},
}

func (r *reader) statement(at source.Pos, w []string) {
	r.in.Count()
	switch w[0] {
	case "auto", "no-auto-down", "no-scripts", "rename":
	case "source", "source-directory":
		for _, pattern := range w[1:] {
			if w[0] == "source-directory" {
				pattern = strings.TrimSuffix(pattern, "/") + "/*"
			}
			for _, sub := range r.in.Include(at, pattern) {
				readFile(sub)
			}
		}
	case "mapping", "template":
		r.iface, r.skip = nil, true
	case "iface":
		r.skip = false
		inherits := slices.Contains(w, "inherits")
		if len(w) < 4 || !slices.Contains(methods[w[2]], w[3]) && !inherits {
			if !inherits {
				r.refuse(at, "a stanza is: iface NAME inet|inet6 METHOD")
			}
			r.in.Unread(at, read.Owner{}, "a stanza is: iface NAME inet|inet6 METHOD")
			r.iface, r.skip = nil, true
			return
		}
		name, _, _ := strings.Cut(w[1], ":") // eth0:1 is a second address of eth0
		r.iface, r.mask, r.six, r.said, r.method = r.in.Gateway.InterfaceOf(name, at), "", w[2] == "inet6", map[string]bool{}, w[3]
		switch w[3] {
		case "dhcp", "auto", "ppp", "wvdial", "bootp", "6to4", "ipv4ll":
			r.iface.Dynamic = true
		case "loopback":
			r.iface.Kind = "loopback"
			r.iface.AddAddress(netip.MustParsePrefix("127.0.0.1/8"))
		case "tunnel":
			r.iface.Kind = "tunnel"
		case "v4tunnel":
			r.iface.Kind = "sit"
		}
	default:
		switch {
		case strings.HasPrefix(w[0], "allow-"):
		case r.skip:
		case r.iface == nil:
			r.in.Unread(at, read.Owner{}, "it stands outside every stanza")
			r.refuse(at, "an option stands outside every stanza")
		case len(w) == 1:
			r.in.Unread(at, read.Owner{}, "an option without a value")
			r.refuse(at, "an option without a value")
		default:
			r.option(at, w)
		}
	}
}

// option: it is long as a table is: a case an option.
func (r *reader) option(at source.Pos, w []string) {
	value := ""
	if len(w) > 1 {
		value = w[1]
	}
	if once := w[0]; once == "address" || once == "netmask" || once == "gateway" {
		if r.said[once] {
			r.in.Unread(at, read.Owner{Harmless: true}, "the stanza says %q before: only the first counts", once)
			return
		}
		r.said[once] = true
	}
	tunnel := r.method == "tunnel" || r.method == "v4tunnel"
	switch w[0] {
	case "mode":
		if tunnel {
			r.iface.Kind = model.TunnelKind(strings.ToLower(value))
		}
	case "local", "endpoint", "dstaddr":
		if !tunnel && w[0] != "dstaddr" {
			r.in.Unread(at, read.Owner{}, "%q is of tunnels only", w[0])
		} else if w[0] == "local" {
			r.iface.Local, _ = netip.ParseAddr(value)
		} else if w[0] == "endpoint" {
			r.iface.Remote, _ = netip.ParseAddr(value)
		}
	case "ttl", "tos", "proto":
	case "address":
		r.address(at, value)
	case "netmask":
		r.mask = value
		if len(r.iface.Addresses) > 0 {
			last := &r.iface.Addresses[len(r.iface.Addresses)-1]
			if bits, ok := bitsOf(value, last.Addr()); ok {
				*last = netip.PrefixFrom(last.Addr(), bits)
			} else {
				r.in.Unread(at, read.Owner{}, "%q is not a netmask", source.Clean(value))
			}
		}
	case "gateway":
		a, err := netip.ParseAddr(value)
		if err != nil {
			r.in.Unread(at, read.Owner{}, "%q is not an address", source.Clean(value))
			return
		}
		to := netip.PrefixFrom(netip.IPv4Unspecified(), 0)
		if a.Is6() {
			to = netip.PrefixFrom(netip.IPv6Unspecified(), 0)
		}
		r.in.Gateway.AddRoute(&model.Route{At: at, To: to, Via: a, Dev: r.iface.Name, Origin: "static"})
	case "up", "post-up", "pre-up":
		for _, c := range commands(w[1:]) {
			if !r.command(at, c) {
				r.in.Unread(at, affected(c), "the command %q is not read", source.Clean(strings.Join(c, " ")))
			}
		}
	case "down",
		"pre-down",
		"post-down",
		"metric",
		"broadcast",
		"network",
		"mtu",
		"hwaddress",
		"pointopoint",
		"scope",
		"accept_ra",
		"autoconf",
		"privext",
		"dad-attempts",
		"preferred-lifetime",
		"hostname",
		"leasehours",
		"leasetime",
		"vendor",
		"client",
		"label",
		"description",
		"provider",
		"request_prefix":
	default:
		if !strings.ContainsAny(w[0], "-_") { // dns-*, bridge_*, bond-*, vlan-*, wpa-*: options of scripts
			r.in.Unread(at, read.Owner{}, "%q is not a known option", source.Clean(w[0]))
		}
	}
}

func (r *reader) address(at source.Pos, value string) {
	if p, err := netip.ParsePrefix(value); err == nil {
		r.iface.AddAddress(p)
		return
	}
	a, err := netip.ParseAddr(value)
	if err != nil {
		r.in.Unread(at, read.Owner{}, "%q is not an address", source.Clean(value))
		return
	}
	bits := a.BitLen()
	if b, ok := bitsOf(r.mask, a); ok {
		bits = b
	}
	r.iface.AddAddress(netip.PrefixFrom(a, bits))
}

func bitsOf(mask string, a netip.Addr) (int, bool) {
	if m, err := netip.ParseAddr(mask); err == nil && m.Is4() && a.Is4() {
		return literal.MaskBits(m)
	}
	n, err := strconv.Atoi(mask)
	return n, err == nil && n >= 0 && n <= a.BitLen()
}

// affected is what a command that is not read may change.
func affected(c []string) read.Owner {
	switch name := c[0][strings.LastIndexByte(c[0], '/')+1:]; name {
	case "iptables-restore", "ip6tables-restore", "iptables-legacy-restore", "iptables-nft-restore": // what is loaded is saved by itself
		return read.Owner{Harmless: true}
	case "nft":
		if slices.Contains(c, "-f") {
			return read.Owner{Harmless: true}
		}
		return read.Owner{Topic: model.AboutFilter}
	case "iptables", "ip6tables", "ipset", "ebtables", "tc", "ufw":
		return read.Owner{Topic: model.AboutFilter}
	case "ethtool", "sysctl", "echo", "logger", "sleep", "modprobe", "brctl", "ifenslave", "test", "[", "systemctl", "iw", "iwconfig":
		return read.Owner{Harmless: true}
	}
	return read.Owner{}
}

// commands parts a line of the shell at "&&", "||" and ";".
func commands(w []string) [][]string {
	var out [][]string
	start := 0
	for i := 0; i <= len(w); i++ {
		if i < len(w) && w[i] != "&&" && w[i] != "||" && w[i] != ";" && !strings.HasSuffix(w[i], ";") {
			continue
		}
		one := slices.Clone(w[start:i])
		if i < len(w) && len(w[i]) > 1 && strings.HasSuffix(w[i], ";") {
			one = append(one, strings.TrimSuffix(w[i], ";"))
		}
		if len(one) > 0 && !(len(one) == 1 && (one[0] == "true" || one[0] == ":")) {
			out = append(out, one)
		}
		start = i + 1
	}
	return out
}

// command reads the few commands that set addresses, routes and tunnel interfaces; false where it is another.
func (r *reader) command(at source.Pos, w []string) bool {
	for i := range w {
		w[i] = strings.ReplaceAll(w[i], "$IFACE", r.iface.Name)
	}
	if len(w) > 0 {
		w[0] = w[0][strings.LastIndexByte(w[0], '/')+1:]
	}
	for len(w) > 1 && w[0] == "ip" && (w[1] == "-4" || w[1] == "-6") {
		w = append([]string{"ip"}, w[2:]...)
	}
	get := func(keys ...string) string {
		for i := range w {
			for _, k := range keys {
				if w[i] == k && i+1 < len(w) {
					return w[i+1]
				}
			}
		}
		return ""
	}
	is := func(prefix ...string) bool {
		if len(w) < len(prefix) {
			return false
		}
		for i, p := range prefix {
			if !strings.HasPrefix(p, w[i]) || w[i] == "" {
				return false
			}
		}
		return true
	}
	switch {
	case len(w) > 3 && (is("ip", "route", "add") || is("ip", "route", "replace")):
		iproute.AddRoute(r.in, at, w[3:], r.iface.Name)
		return true
	case len(w) > 2 && w[0] == "route" && w[1] == "add":
		iproute.AddRoute(r.in, at, inNewWords(w[2:]), r.iface.Name)
		return true
	case len(w) > 3 && is("ip", "rule", "add"):
		return iproute.AddRule(r.in, at, w[3:]) == nil
	case len(w) > 3 && is("ip", "address", "add"):
		p, err := netip.ParsePrefix(w[3])
		if err != nil {
			return false
		}
		r.in.Gateway.InterfaceOf(or(get("dev"), r.iface.Name), at).AddAddress(p)
		return true
	case len(w) > 3 && (is("ip", "link", "add") || is("ip", "tunnel", "add")):
		return r.link(at, w, get)
	case is("ip", "link", "set") || is("sysctl") || is("ip", "tunnel", "change"):
		return true
	}
	return false
}

// inNewWords writes what follows "route add" as "ip route add" does: "-net 10.0.0.0 netmask 255.0.0.0 gw A" as "10.0.0.0/8 via A".
func inNewWords(w []string) []string {
	to := ""
	var rest []string
	for i := 0; i < len(w); i++ {
		switch w[i] {
		case "-net", "-host":
		case "gw":
			rest = append(rest, "via")
		case "netmask":
			if i++; i < len(w) {
				if mask, err := netip.ParseAddr(w[i]); err == nil && mask.Is4() {
					if bits, ok := literal.MaskBits(mask); ok {
						to += "/" + strconv.Itoa(bits)
					}
				}
			}
		default:
			if to == "" {
				to = w[i]
			} else {
				rest = append(rest, w[i])
			}
		}
	}
	return append([]string{to}, rest...)
}

// link reads "ip link add NAME type xfrm dev D if_id N" and "ip tunnel add NAME mode vti|gre local A remote B key K".
func (r *reader) link(at source.Pos, w []string, get func(...string) string) bool {
	name := w[3:][0]
	if name == "name" && len(w) > 4 {
		name = w[4]
	}
	i := r.in.Gateway.InterfaceOf(name, at)
	i.Kind = model.TunnelKind(or(get("type"), get("mode")))
	if id, err := strconv.ParseUint(get("if_id"), 0, 32); err == nil {
		i.IfID = uint32(id)
	}
	i.Keyed(get("key"), get("okey"), get("ikey"))
	i.Ends(get("local"), get("remote"))
	i.Parent = source.Clean(get("dev"))
	if known := slices.Index(w, or(get("type"), get("mode"))); known >= 0 {
		if word := iproute.Stray(w[known:]); word != "" {
			r.in.Unread(at, read.Owner{Name: i.Name, To: &i.Doubts}, "%q is not known of a tunnel interface", source.Clean(word))
		}
	}
	return true
}

func or(a, b string) string {
	if a != "" {
		return a
	}
	return b
}
