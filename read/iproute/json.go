package iproute

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"toril/model"
	"toril/packet"
	"toril/read"
	"toril/source"
)

// JSON is the format of "ip -j addr", "ip -j link", "ip -j route" and "ip -j rule".
var JSON = &read.Format{
	Name:     "iproute2-json",
	Title:    "addresses, routes and routing rules: the output of ip -j addr, link, route, rule",
	Software: "iproute2",
	About:    model.AboutNetwork,
	Linux:    true,
	Hints:    []string{"*addr*.json", "*route*.json", "*rule*.json", "*link*.json", "ip*.json"},
	Order:    5,
	Looks:    looksLikeJSON,
	Read:     readJSON,
	Covers: read.Rows(
		read.Coverage{Statement: "ifname, addr_info, flags, link, linkinfo of xfrm, vti, gre, vlan, dummy, bridge", Use: read.Used},
		read.Coverage{Statement: "route: type, dst, gateway, via, dev, table, protocol, metric, prefsrc, nexthops", Use: read.Used},
		read.Coverage{Statement: "rule: priority, src, dst, fwmark, iif, oif, ipproto, sport, dport, table, action", Use: read.Used},
		read.Coverage{
			Statement: "rule: tos, uidrange, l3mdev, suppress, not",
			Use:       read.Used,
			Note:      "outside the model: results that depend on them say so",
		},
		read.Coverage{Statement: "everything else", Use: read.Irrelevant, Note: "queues, sizes, counters, lifetimes of addresses"},
	),
}

func looksLikeJSON(f *source.File) (int, string) {
	head := bytes.TrimSpace(f.Head())
	if !bytes.HasPrefix(head, []byte("[")) {
		return 0, ""
	}
	has := func(words ...string) bool {
		for _, w := range words {
			if !bytes.Contains(head, []byte(`"`+w+`"`)) {
				return false
			}
		}
		return true
	}
	switch {
	case has("ifname", "flags"):
		return 90, `it is JSON with the members "ifname" and "flags"`
	case has("priority", "src", "table"):
		return 90, `it is JSON with the members "priority", "src" and "table"`
	case has("dst", "dev") || has("dst", "type"):
		return 85, `it is JSON with the members "dst" and "dev" or "type"`
	}
	return 0, ""
}

type link struct {
	Name     string   `json:"ifname"`
	Parent   string   `json:"link"`
	Flags    []string `json:"flags"`
	MTU      int      `json:"mtu"`
	LinkType string   `json:"link_type"`
	Addrs    []struct {
		Family  string `json:"family"`
		Local   string `json:"local"`
		Bits    int    `json:"prefixlen"`
		Dynamic bool   `json:"dynamic"`
	} `json:"addr_info"`
	Info struct {
		Kind string         `json:"info_kind"`
		Data map[string]any `json:"info_data"`
	} `json:"linkinfo"`
}

type route struct {
	Type     string `json:"type"`
	Dst      string `json:"dst"`
	Gateway  string `json:"gateway"`
	Via      *via   `json:"via"`
	Dev      string `json:"dev"`
	Table    any    `json:"table"`
	Protocol string `json:"protocol"`
	Metric   int    `json:"metric"`
	Src      string `json:"prefsrc"`
	Hops     []struct {
		Gateway string `json:"gateway"`
		Via     *via   `json:"via"`
		Dev     string `json:"dev"`
	} `json:"nexthops"`
}

type via struct {
	Host string `json:"host"`
}

// readJSON streams an array: each object is a link, a route or a rule.
func readJSON(in *read.Input) {
	data := in.File.Bytes()
	dec := json.NewDecoder(bytes.NewReader(data))
	if _, err := dec.Token(); err != nil {
		in.Lost(in.Here(dec), "it is not JSON: %v", err)
		return
	}
	in.Objects(dec, func(raw json.RawMessage, at source.Pos) {
		if err := one(in, at, raw); err != nil {
			in.Unread(at, read.Owner{}, "%s", source.Clean(err.Error()))
		}
	})
}

func one(in *read.Input, at source.Pos, raw json.RawMessage) error {
	var keys map[string]json.RawMessage
	if err := json.Unmarshal(raw, &keys); err != nil {
		return fmt.Errorf("an object was expected: %v", err)
	}
	if len(keys) == 0 { // iproute2 writes {} for what a filter left out
		return nil
	}
	in.Count()
	switch {
	case keys["ifname"] != nil:
		var l link
		if err := json.Unmarshal(raw, &l); err != nil {
			return err
		}
		if err := addLink(in, at, l); err != nil {
			return err
		}
		linkKeysOf(in, at, raw, in.Gateway.InterfaceOf(l.Name, at))
		return nil
	case keys["dst"] != nil && keys["priority"] == nil:
		var r route
		if err := json.Unmarshal(raw, &r); err != nil {
			return err
		}
		return addRoute(in, at, r, raw)
	case keys["priority"] != nil:
		var r map[string]any
		if err := json.Unmarshal(raw, &r); err != nil {
			return err
		}
		in.Gateway.Told.Rules = true
		if err := addRule(in, at, r); err != nil {
			return err
		}
		keysOf(in, at, raw, ruleKeys, read.Owner{To: &in.Gateway.RouteRules[len(in.Gateway.RouteRules)-1].Doubts})
		return nil
	}
	return fmt.Errorf("it is neither an interface nor a route nor a rule")
}

func addLink(in *read.Input, at source.Pos, l link) error {
	i := in.Gateway.InterfaceOf(l.Name, at)
	i.Parent = l.Parent
	up := false
	for _, f := range l.Flags {
		up = up || f == "UP"
	}
	i.Down = !up
	if l.MTU > 0 {
		i.MTU = model.Say(l.MTU, at)
	}
	in.Gateway.Told.Addresses = max(in.Gateway.Told.Addresses, model.Partly)
	if l.LinkType == "loopback" { // a list of all begins with it
		i.Kind, in.Gateway.Told.Addresses = "loopback", model.Wholly
	}
	if l.Info.Kind != "" {
		i.Kind = model.TunnelKind(l.Info.Kind)
		text := func(key string) string { return fmt.Sprint(l.Info.Data[key]) }
		if id, err := strconv.ParseUint(text("if_id"), 0, 32); err == nil {
			i.IfID = uint32(id)
		}
		i.Ends(text("local"), text("remote"))
		i.Keyed("", text("okey"), text("ikey"))
	}
	for _, a := range l.Addrs {
		addr, err := netip.ParseAddr(a.Local)
		if err != nil {
			return fmt.Errorf("%q is not an address", a.Local)
		}
		p, err := addr.Prefix(a.Bits)
		if err != nil {
			return fmt.Errorf("%s/%d is not an address with its network", a.Local, a.Bits)
		}
		i.AddAddress(netip.PrefixFrom(addr, p.Bits()))
		i.Dynamic = i.Dynamic || a.Dynamic
	}
	return nil
}

func addRoute(in *read.Input, at source.Pos, j route, raw json.RawMessage) error {
	table := ""
	if j.Table != nil {
		table = fmt.Sprint(j.Table)
	}
	switch table {
	case "", "main":
		in.Gateway.Told.Routes = model.Wholly
	case "local":
		in.Gateway.Told.Tables = true
	}
	r := model.Route{
		At:     at,
		Dev:    source.Clean(j.Dev),
		Kind:   j.Type,
		Table:  source.Clean(table),
		Metric: j.Metric,
		Origin: origin(j.Protocol),
	}
	six := strings.Contains(j.Gateway+j.Src, ":")
	var err error
	if r.To, err = destination(j.Dst, six); err != nil {
		return err
	}
	gw := j.Gateway
	if j.Via != nil {
		gw = j.Via.Host
	}
	r.Via, _ = netip.ParseAddr(gw)
	r.Src, _ = netip.ParseAddr(j.Src)
	if skipped(r.Kind) {
		return nil
	}
	keysOf(in, at, raw, routeKeys, read.Owner{To: &r.Doubts})
	var hops struct {
		Hops []json.RawMessage `json:"nexthops"`
	}
	if json.Unmarshal(raw, &hops) == nil {
		for _, h := range hops.Hops {
			keysOf(in, at, h, "gateway via dev weight flags encap", read.Owner{To: &r.Doubts})
		}
	}
	if !r.Doubts.Certain() && r.Kind != "blackhole" && r.Dev == "" && len(j.Hops) == 0 {
		r.Kind = model.UnreadRoute
	}
	if len(j.Hops) == 0 {
		in.Gateway.AddRoute(&r)
	}
	for _, h := range j.Hops {
		hop := r
		gw := h.Gateway
		if h.Via != nil {
			gw = h.Via.Host
		}
		hop.Via, _ = netip.ParseAddr(gw)
		hop.Dev = source.Clean(h.Dev)
		in.Gateway.AddRoute(&hop)
	}
	return nil
}

// skipped reports whether routes of a kind are about no packet of ours.
func skipped(kind string) bool {
	return kind == "broadcast" || kind == "multicast" || kind == "anycast"
}

func origin(protocol string) string {
	switch protocol {
	case "kernel":
		return "connected"
	case "", "boot", "static", "dhcp", "ra":
		return "static"
	}
	return source.Clean(protocol)
}

// destination reads the network of a route; "default" is every address, of IPv6 where something else of the route is.
func destination(text string, six bool) (netip.Prefix, error) {
	if text == "default" {
		if six {
			return netip.MustParsePrefix("::/0"), nil
		}
		return netip.MustParsePrefix("0.0.0.0/0"), nil
	}
	if p, err := netip.ParsePrefix(text); err == nil {
		return p.Masked(), nil
	}
	if a, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(a, a.BitLen()), nil
	}
	return netip.Prefix{}, fmt.Errorf("%q is not a network", text)
}

// addRule turns the members of a rule into the words of its text form, which one function reads.
func addRule(in *read.Input, at source.Pos, o map[string]any) error {
	text := func(key string) string {
		if v, ok := o[key]; ok && v != nil {
			if f, ok := v.(float64); ok {
				return strconv.FormatFloat(f, 'f', -1, 64)
			}
			return fmt.Sprint(v)
		}
		return ""
	}
	words := []string{}
	if _, ok := o["not"]; ok {
		words = append(words, "not")
	}
	net := func(word, key string) {
		if t := text(key); t != "" && t != "all" {
			if l := text(key + "len"); l != "" {
				t += "/" + l
			}
			words = append(words, word, t)
		}
	}
	net("from", "src")
	net("to", "dst")
	if m := text("fwmark"); m != "" {
		if mask := text("fwmask"); mask != "" {
			m += "/" + mask
		}
		words = append(words, "fwmark", m)
	}
	for _, k := range []string{"iif", "oif", "ipproto", "sport", "dport", "tos", "uid_start", "suppress_prefixlen"} {
		if t := text(k); t != "" {
			words = append(words, k, t)
		}
	}
	for _, k := range []string{"sport", "dport"} {
		if lo := text(k + "_start"); lo != "" {
			words = append(words, k, lo+"-"+text(k+"_end"))
		}
	}
	if _, ok := o["l3mdev"]; ok {
		words = append(words, "l3mdev")
	}
	if t := text("table"); t != "" {
		words = append(words, "lookup", t)
	}
	if t := text("action"); t != "" {
		words = append(words, t)
	}
	return rule(in, at, text("priority"), words)
}

// rule reads a rule of the routing policy from its words.
// AddRule reads the words behind "ip rule add". Without a priority the kernel gives it the one before the lowest that was added.
func AddRule(in *read.Input, at source.Pos, w []string) error {
	lowest := 32766
	for _, r := range in.Gateway.RouteRules {
		if r.Priority > 0 {
			lowest = min(lowest, r.Priority)
		}
	}
	priority := strconv.Itoa(lowest - 1)
	var rest []string
	for i := 0; i < len(w); i++ {
		switch w[i] {
		case "pref", "preference", "priority", "prio", "order":
			if i++; i < len(w) {
				priority = w[i]
			}
		default:
			rest = append(rest, w[i])
		}
	}
	return rule(in, at, priority, rest)
}

func rule(in *read.Input, at source.Pos, priority string, w []string) error {
	n, err := strconv.Atoi(priority)
	if err != nil {
		return fmt.Errorf("%q is not the priority of a rule", priority)
	}
	r := &model.RouteRule{At: at, Priority: n, When: packet.All(), Kind: "lookup"}
	not := false
	for i := 0; i < len(w); i++ {
		next := ""
		if i+1 < len(w) {
			next = w[i+1]
		}
		took, err := condition(r, w[i], next)
		if err != nil {
			return err
		}
		switch {
		case took:
			i++
		case w[i] == "not":
			not = true
		case w[i] == "lookup" || w[i] == "table":
			r.Table = source.Clean(next)
			i++
		case w[i] == "blackhole" || w[i] == "unreachable" || w[i] == "prohibit":
			r.Kind = w[i]
		case w[i] == "all" || w[i] == "proto" || w[i] == "to_table" || strings.HasPrefix(w[i], "["):
			if w[i] == "proto" {
				i++
			}
		case ruleWords.has(w[i]) || !plain(w[i]):
			r.Doubts.Add(&model.Doubt{Cause: model.Undecided, Gateway: in.Gateway.Name, At: r.At, Why: "the routing rule has a condition " +
				"that is not modelled"})
		default:
			in.Unread(at, read.Owner{To: &r.Doubts}, "%q is not known of a routing rule", source.Clean(w[i]))
		}
	}
	if not {
		r.When = packet.All().Minus(r.When)
	}
	in.Gateway.RouteRules = append(in.Gateway.RouteRules, r)
	return nil
}

// condition narrows a rule by a word and its value; took is false where the word is no condition.
func condition(r *model.RouteRule, word, value string) (took bool, err error) {
	narrow := func(f packet.Field, v packet.Values) { r.When = r.When.And(packet.Where(f, v)) }
	switch word {
	case "from", "to":
		if value == "all" {
			return true, nil
		}
		p, err := destination(value, false)
		if err != nil {
			return true, err
		}
		f := packet.Src
		if word == "to" {
			f = packet.Dst
		}
		r.When = r.When.And(packet.Prefixes(f, p))
	case "fwmark":
		v, mask, masked := strings.Cut(value, "/")
		n, err1 := strconv.ParseUint(v, 0, 32)
		m, err2 := uint64(1<<32-1), error(nil)
		if masked {
			m, err2 = strconv.ParseUint(mask, 0, 32)
		}
		if err1 != nil || err2 != nil {
			return true, fmt.Errorf("%q is not a mark", value)
		}
		if got, ok := packet.Masked(uint32(n), uint32(m)); ok {
			narrow(packet.Mark, got)
		} else {
			r.Doubts.Add(&model.Doubt{Cause: model.Undecided, At: r.At, Why: "the routing rule has a condition that is not modelled"})
		}
	case "iif":
		narrow(packet.In, packet.Name(value))
	case "oif":
		narrow(packet.Out, packet.Name(value))
	case "ipproto":
		n, ok := packet.ProtoNumber(value)
		if !ok {
			n64, err := strconv.ParseUint(value, 10, 8)
			if err != nil {
				return true, fmt.Errorf("%q is not a protocol", value)
			}
			n = n64
		}
		narrow(packet.Proto, packet.OneOf(n))
	case "sport", "dport":
		lo, hi, ranged := strings.Cut(value, "-")
		if !ranged {
			hi = lo
		}
		l, err1 := strconv.ParseUint(lo, 10, 16)
		h, err2 := strconv.ParseUint(hi, 10, 16)
		if err1 != nil || err2 != nil {
			return true, fmt.Errorf("%q is not a port", value)
		}
		f := packet.Sport
		if word == "dport" {
			f = packet.Dport
		}
		narrow(f, packet.Numbers(l, h))
	default:
		return false, nil
	}
	return true, nil
}
