package frr

import "strings"

// words is a set of words that are divided by blanks.
type words string

func (ws words) has(w string) bool {
	return w != "" && strings.Contains(" "+string(ws)+" ", " "+w+" ")
}

// The words that begin statements of FRRouting 8 to 10 on which nothing depends that is asked, by where they stand.
const (
	// topIP are behind "ip" and "ipv6" outside of every block.
	topIP words = "route prefix-list forwarding nht access-list community-list extcommunity-list large-community-list as-path " +
		"import-table protocol multicast mroute pim msdp igmp mld ssmpingd router-id nhrp tcp address ospf router rip"
	// ofInterface begin statements within an interface; ifaceIP are behind "ip" and "ipv6" there, ospf behind "ip ospf" and "ipv6 ospf6".
	ofInterface words = "description bandwidth link-params mpls multicast link-detect vrf evpn bfd isis babel openfabric vrrp " +
		"tunnel ripng admin-grp affinity affinity-mode metric enable exit-link-params max-bw max-rsv-bw unrsv-bw neighbor " +
		"use-bw delay delay-min delay-variation packet-loss ava-bw res-bw"
	ifaceIP words = "address ospf ospf6 rip ripng router igmp mld pim nhrp eigrp multicast split-horizon summary-address " +
		"hello-interval hold-time nd mroute access-group msdp"
	ospf words = "area network cost priority hello-interval dead-interval retransmit-interval retransmit-window transmit-delay " +
		"authentication authentication-key message-digest-key bfd mtu-ignore ifmtu instance-id passive prefix-suppression " +
		"neighbor-filter graceful-restart capability mpls p2p-p2mp advertise hello-delay-interval dr-priority"
	// ofRouter begin statements of a routing protocol.
	ofRouter words = "network neighbor redistribute passive-interface default-information distribute-list address-family " +
		"exit-address-family interface timers version area auto-cost maximum-paths maximum-path log-adjacency-changes ospf ospf6 " +
		"router-id bgp default-metric distance max-metric refresh compatible graceful-restart capability mpls-te mpls " +
		"summary-address aggregate-address opaque opaque-lsa write-multiplier stub-router is-type net metric-style " +
		"lsp-gen-interval lsp-refresh-interval max-lsp-lifetime lsp-mtu lsp-timers spf-interval spf-delay-ietf spf prefix-priority " +
		"proactive-arp offset-list route-map route allow-ecmp eigrp variance rd rt import export label nexthop segment-routing " +
		"set-attached-bit set-overload-bit advertise advertise-all-vni advertise-default-gw advertise-high-metrics " +
		"advertise-passive-only advertise-pip advertise-svi-ip vni table table-map purge-originator hostname dynamic-hostname " +
		"domain-password area-password overload fast-reroute flex-algo affinity-map log attached-bit exit-vni babel read-quanta " +
		"write-quanta coalesce-time update-delay use-underlay-metric vnc vrf-policy aggregation sid nexthop-group flood " +
		"dup-addr-detection default-originate autort mac-vrf ead-es-frag ead-evi-rx ead-evi-tx exit enable disable default " +
		"external match-clause redistribute-local snmp socket tunnel send multi-instance admin-group clear"
	// ofRoute are behind the network of a static route, with a value.
	ofRoute words = "tag label color segments bfd profile source from nexthop-vrf"
)
