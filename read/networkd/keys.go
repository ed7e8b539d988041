package networkd

import (
	"slices"
	"strings"

	"toril/model"
	"toril/read"
	"toril/source"
	"toril/syntax/ini"
)

// used are the keys of each section that are read (systemd.network(5), systemd.netdev(5)).
var used = map[string]string{
	"Match":   "Name MACAddress PermanentMACAddress Path Driver Type Kind Property Architecture",
	"NetDev":  "Name Kind",
	"Xfrm":    "InterfaceId",
	"Tunnel":  "Local Remote Key InputKey OutputKey",
	"Network": "Address Gateway DHCP",
	"Address": "Address",
	"Route":   "Destination Gateway Table Metric Type PreferredSource",
	"RoutingPolicyRule": "From To FirewallMark IncomingInterface OutgoingInterface Table Priority Type Family DestinationPort " +
		"IPProtocol InvertRule SourcePort SuppressInterfaceGroup SuppressPrefixLength TypeOfService User",
}

// moot are the keys of each section on which nothing depends that is asked, as systemd 252 and 257 know them.
var moot = map[string]string{
	"Match":  "BSSID Credential Firmware Host KernelCommandLine KernelVersion SSID Virtualization WLANInterfaceType",
	"NetDev": "Description MACAddress MTUBytes",
	"Xfrm":   "Independent",
	"Tunnel": "AllowLocalRemote AssignToLoopback CopyDSCP DiscoverPathMTU EncapsulationLimit IPv6FlowLabel Independent Mode TOS TTL",
	"Link": "ARP AllMulticast Group MACAddress MTUBytes Multicast Promiscuous RequiredFamilyForOnline RequiredForOnline " +
		"Name AlternativeName Description WakeOnLan",
	"Network": "ActiveSlave BatmanAdvanced BindCarrier Bond Bridge ConfigureWithoutCarrier DHCPPrefixDelegation DHCPServer " +
		"DHCPv6PrefixDelegation DNS DNSDefaultRoute DNSOverTLS DNSSEC DNSSECNegativeTrustAnchors Description Domains EmitLLDP " +
		"IPForward IPv4Forwarding IPv6Forwarding IPVLAN IPVTAP IPoIB IPv4AcceptLocal IPv4ProxyARP IPv4ReversePathFilter " +
		"IPv4RouteLocalnet IPv6AcceptRA IPv6AcceptRouterAdvertisements IPv6DuplicateAddressDetection IPv6HopLimit " +
		"IPv6LinkLocalAddressGenerationMode IPv6MTUBytes IPv6PrefixDelegation IPv6PrivacyExtensions IPv6ProxyNDP " +
		"IPv6ProxyNDPAddress IPv6SendRA IPv6StableSecretAddress IPv6Token IgnoreCarrierLoss KeepConfiguration L2TP LLDP LLMNR " +
		"LinkLocalAddressing MACVLAN MACVTAP MACsec MulticastDNS NTP MPLSRouting PrimarySlave ProxyARP " +
		"SpeedMeter SpeedMeterIntervalSec Tunnel VLAN VXLAN Xfrm",
	"Address": "Broadcast DuplicateAddressDetection HomeAddress Label ManageTemporaryAddress NetLabel NFTSet PreferredLifetime " +
		"RouteMetric Scope AutoJoin",
	"Route": "FastOpenNoCookie GatewayOnLink GatewayOnlink IPv6Preference InitialAdvertisedReceiveWindow InitialCongestionWindow " +
		"MTUBytes Protocol QuickAck Scope TCPAdvertisedMaximumSegmentSize TCPCongestionControlAlgorithm TCPRetransmissionTimeoutSec " +
		"HopLimit TTLPropagate",
	"DHCPv4": "AllowList Anonymize BlackList ClientIdentifier CriticalConnection DUIDRawData DUIDType DenyList " +
		"FallbackLeaseLifetimeSec Hostname IAID IPServiceType IPv6OnlyMode Label ListenPort MUDURL MaxAttempts NetLabel NFTSet " +
		"RapidCommit RequestAddress RequestBroadcast RequestOptions RouteMTUBytes RouteMetric RoutesToDNS RoutesToNTP SendDecline " +
		"SendHostname SendOption SendRelease SendVendorOption SocketPriority Use6RD UseDNS UseDNR UseDomainName UseDomains " +
		"UseHostname UseMTU UseNTP UseSIP UseTimezone UserClass VendorClassIdentifier UseCaptivePortal",
}

// kinds are the kinds of interfaces that systemd.netdev(5) knows.
const kinds = "bareudp batadv bond bridge dummy erspan fou geneve gre gretap hsr ifb ip6gre ip6gretap ip6tnl ipip ipoib ipvlan ipvtap " +
	"l2tp macsec macvlan macvtap netdevsim nlmon sit tap tun vcan veth vlan vrf vti vti6 vxcan vxlan wireguard wlan wwan xfrm"

// mootSections are those on which nothing depends that is asked.
var mootSections = strings.Fields("SR-IOV IPv6AddressLabel Neighbor DHCPv6 DHCPServer DHCPServerStaticLease DHCPPrefixDelegation " +
	"DHCPv6PrefixDelegation IPv6AcceptRA IPv6SendRA IPv6PrefixDelegation IPv6Prefix IPv6RoutePrefix IPv6PREF64Prefix " +
	"Bridge BridgeFDB BridgeMDB BridgeVLAN LLDP CAN IPoIB QDisc NetworkEmulator TokenBucketFilter PIE FlowQueuePIE " +
	"StochasticFairBlue StochasticFairnessQueueing BFIFO PFIFO PFIFOHeadDrop PFIFOFast CAKE ControlledDelay DeficitRoundRobinScheduler " +
	"DeficitRoundRobinSchedulerClass EnhancedTransmissionSelection GenericRandomEarlyDetection FairQueueingControlledDelay " +
	"FairQueueing TrivialLinkEqualizer HierarchyTokenBucket HierarchyTokenBucketClass ClassfulMultiQueueing BandMultiQueueing " +
	"HeavyHitterFilter QuickFairQueueing QuickFairQueueingClass TrafficControlQueueingDiscipline VLAN MACVLAN MACVTAP IPVLAN " +
	"IPVTAP Peer VXCAN Tun Tap Bond BatmanAdvanced " +
	"MACsec MACsecReceiveChannel MACsecTransmitAssociation MACsecReceiveAssociation WLAN DHCP")

// rest keeps what of a section is neither read nor moot.
func (r *unit) rest(s *ini.Section, of read.Owner) {
	if slices.Contains(mootSections, s.Name) || r.again {
		return
	}
	if used[s.Name] == "" && moot[s.Name] == "" {
		r.in.Unread(r.in.Pos(s.At), of, "%q is not a section that is known", source.Clean(s.Name))
		return
	}
	for _, v := range s.Values {
		if has(used[s.Name], v.Key) || has(moot[s.Name], v.Key) || strings.HasPrefix(v.Key, "X-") {
			continue
		}
		own := of
		if s.Name == "Network" && v.Key == "IPMasquerade" && v.Text != "no" {
			own = read.Owner{Topic: model.AboutFilter}
		}
		r.in.Unread(r.in.Pos(v.At), own, "%q is not a key of [%s] that is read", source.Clean(v.Key), s.Name)
	}
}

// has reports whether a word is one of a list that is divided by blanks.
func has(list, word string) bool {
	return word != "" && strings.Contains(" "+list+" ", " "+word+" ")
}
