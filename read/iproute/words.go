package iproute

import (
	"encoding/json"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"toril/model"
	"toril/read"
	"toril/source"
)

// words is a set of words that are divided by blanks.
type words string

func (ws words) has(w string) bool {
	return w != "" && strings.Contains(" "+string(ws)+" ", " "+w+" ")
}

// The words of ip(8), as iproute2 6 prints them.
const (
	// addressWords are behind an address; tunnelWords behind the kind of a tunnel interface.
	addressWords words = "brd peer scope global link host site secondary primary dynamic noprefixroute tentative deprecated mngtmpaddr " +
		"temporary permanent any metric proto kernel_lo kernel_ra kernel_ll optimistic dadfailed nodad home autojoin stable-privacy " +
		"managed anycast kernel static"
	tunnelWords words = "remote local ttl tos key ikey okey if_id dev any inherit fwmark icsum ocsum csum iseq oseq seq pmtudisc " +
		"nopmtudisc ignore-df noignore-df external encap noencap encap-sport encap-dport encap-csum noencap-csum encap-csum6 " +
		"noencap-csum6 encap-remcsum noencap-remcsum fou gue none auto addrgenmode eui64 mode ipip ip6ip sit any6in4 encaplimit " +
		"hoplimit tclass flowlabel numtxqueues numrxqueues gso_max_size gso_max_segs tso_max_size tso_max_segs gro_max_size " +
		"gso_ipv4_max_size gro_ipv4_max_size ip6ip6 ipip6 isatap 6rd-prefix 6rd-relay_prefix lladdr"
	// routeFlags stand alone in a route.
	routeFlags words = "linkdown onlink dead offload rt_offload offload_failed rt_offload_failed trap rt_trap pervasive notify " +
		"unresolved redirect nexthop cache prohibit equalize lock"
	// ruleWords are conditions and results of a rule that are known and have no place in the model, and those that stand alone.
	ruleWords words = "tos dsfield uidrange l3mdev suppress_prefixlength suppress_prefixlen suppress_ifgroup realms realm flow " +
		"goto nop tun_id iif_detached oif_detached unresolved detached uid_start uid_end iifmask oifmask dscp flowlabel"
	// detailWords begin a line of an interface on which nothing depends that is asked.
	detailWords words = "valid_lft altname promiscuity vf bridge_slave bond_slave prog/xdp alias macvlan macvtap ipvlan ipvtap " +
		"vxlan geneve team openvswitch netdevsim ifb nlmon vcan can hsr macsec tun_slave numtxqueues min_mtu parentbus permaddr xstats " +
		"bareudp rmnet ipoib team_slave vrf_slave amt dsa netkit proto_down inet6_addr_gen_mode brd qdisc"
	// linkWords are in the first line of an interface.
	linkWords words = "mtu qdisc state group default qlen master mode addrgenmode noqueue UNKNOWN UP DOWN LOWERLAYERDOWN DORMANT " +
		"DEFAULT txqlen vrf team protodown link-netnsid link-netns portid broadcast promisc"
)

// The keys of what ip -j prints.
const (
	linkKeys words = "ifindex link link_index link_netnsid ifname flags mtu qdisc master operstate linkmode group txqlen link_type " +
		"address broadcast permaddr altnames promiscuity allmulti min_mtu max_mtu linkinfo inet6_addr_gen_mode num_tx_queues " +
		"num_rx_queues gso_max_size gso_max_segs tso_max_size tso_max_segs gro_max_size gso_ipv4_max_size gro_ipv4_max_size " +
		"addr_info stats stats64 vfinfo_list phys_port_name phys_port_id phys_switch_id parentbus parentdev ifalias num_vf xdp " +
		"proto_down carrier_changes link_pointtopoint link_peer deleted vrf headroom tailroom netns-immutable"
	infoKeys words = "info_kind info_data info_slave_kind info_slave_data info_xstats"
	dataKeys words = "remote local ttl tos proto ikey okey key if_id link fwmark external encap pmtudisc " +
		"icsum ocsum iseq oseq ignore_df mode"
	addressKeys words = "family local prefixlen broadcast scope label valid_life_time preferred_life_time dynamic noprefixroute " +
		"secondary temporary tentative deprecated mngtmpaddr permanent nodad optimistic dadfailed home address anycast protocol " +
		"metric link_netnsid ifa_flags deleted stable-privacy autojoin"
	routeKeys words = "type dst gateway via dev protocol scope prefsrc metric flags metrics nexthops table pref src tos expires " +
		"cache nhid error encap uid realm mark used cacheinfo weight"
	ruleKeys words = "priority not src srclen dst dstlen fwmark fwmask iif iif_detached oif oif_detached l3mdev uid_start uid_end " +
		"ipproto sport sport_start sport_end dport dport_start dport_end table suppress_prefixlen suppress_ifgroup tos flow_from " +
		"flow_to goto nop nat_gateway to_tbl action protocol tun_id realms flags unresolved"
)

// plain reports whether a word may be a keyword: it has small letters and nothing that names and numbers have.
func plain(w string) bool {
	return len(w) > 1 && !strings.ContainsFunc(w, func(r rune) bool { return (r < 'a' || r > 'z') && r != '_' && r != '-' })
}

// kinds are interfaces of which nothing but their kind is read.
const kinds words = "vlan bridge dummy tun bond vrf veth wireguard"

// unknown is the first word of an interface's line that is not known, and may be a keyword; "" for none.
func unknown(w []string) string {
	known := words("")
	values := words("")
	switch {
	case w[0] == "inet" || w[0] == "inet6":
		known, values = addressWords, "label proto protocol"
		if n := len(w); n > 2 && !known.has(w[n-1]) && plain(w[n-1]) { // the label, or the name of the interface
			w = w[:n-1]
		}
	case w[0] == "xfrm" || model.TunnelKind(w[0]) != w[0] || tunnelKinds.has(w[0]):
		known, values = tunnelWords, "dev"
	case kinds.has(w[0]) || detailWords.has(w[0]) || strings.HasPrefix(w[0], "link/"):
		return ""
	default:
		return w[0]
	}
	for i := 1; i < len(w); i++ {
		switch {
		case values.has(w[i]):
			i++
		case plain(w[i]) && !known.has(w[i]):
			return w[i]
		}
	}
	return ""
}

const tunnelKinds words = "vti vti6 gre gretap ip6gre ip6gretap ipip sit ip6tnl"

// owner is what a line of an interface belongs to that was not understood: one that has an address may give it to the interface.
func owner(i *model.Interface, w []string) read.Owner {
	for _, x := range w {
		if _, err := netip.ParsePrefix(x); err == nil {
			return read.Owner{Name: i.Name}
		}
		if _, err := netip.ParseAddr(x); err == nil {
			return read.Owner{Name: i.Name}
		}
	}
	return read.Owner{Name: i.Name, To: &i.Doubts}
}

// keysOf notes the keys of a JSON object that are none of those known.
func keysOf(in *read.Input, at source.Pos, raw json.RawMessage, known words, of read.Owner) {
	var keys map[string]json.RawMessage
	if json.Unmarshal(raw, &keys) != nil {
		return
	}
	for _, k := range slices.Sorted(maps.Keys(keys)) {
		if !known.has(k) {
			in.Unread(at, of, "%q is not a key that is known", source.Clean(k))
			return
		}
	}
}

// linkKeysOf notes what of an interface is not known.
func linkKeysOf(in *read.Input, at source.Pos, raw json.RawMessage, i *model.Interface) {
	of := read.Owner{Name: i.Name, To: &i.Doubts}
	keysOf(in, at, raw, linkKeys, read.Owner{Name: i.Name})
	var parts struct {
		Addrs []json.RawMessage `json:"addr_info"`
		Info  json.RawMessage   `json:"linkinfo"`
	}
	if json.Unmarshal(raw, &parts) != nil {
		return
	}
	for _, a := range parts.Addrs {
		keysOf(in, at, a, addressKeys, read.Owner{Name: i.Name})
	}
	if len(parts.Info) == 0 {
		return
	}
	keysOf(in, at, parts.Info, infoKeys, of)
	var info struct {
		Kind string          `json:"info_kind"`
		Data json.RawMessage `json:"info_data"`
	}
	if json.Unmarshal(parts.Info, &info) == nil && len(info.Data) > 0 && (info.Kind == "xfrm" || tunnelKinds.has(info.Kind)) {
		keysOf(in, at, info.Data, dataKeys+" "+tunnelWords, of)
	}
}
