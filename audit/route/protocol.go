package route

import (
	"fmt"
	"net/netip"
	"slices"

	"toril/audit"
	"toril/model"
	"toril/packet"
	"toril/walk"
)

// traffic is how a routing protocol's messages look.
type traffic struct {
	proto     uint64
	port      uint64 // 0: the protocol has none
	multicast string // where they go to unless neighbours are named; "" for neighbours alone
}

// protocols are the routing protocols whose messages go in IP (RFC 2328, RFC 5340, RFC 4271, RFC 2453, RFC 7868).
var protocols = map[string]traffic{
	"ospf":  {89, 0, "224.0.0.5"},
	"bgp":   {6, 179, ""},
	"rip":   {17, 520, "224.0.0.9"},
	"eigrp": {88, 0, "224.0.0.10"},
}

// runsOn returns the interfaces that lead into tunnels on which a protocol is told to run, and the address of the neighbour there
// where one is named.
type running struct {
	proto     *model.RoutingProtocol
	on        *model.Interface
	neighbour netip.Addr
}

func runsOn(g *model.Gateway, wanted func(*model.Interface) bool) []running {
	var out []running
	for _, proto := range g.Protocols {
		if _, known := protocols[proto.Name]; !known {
			continue
		}
		for _, i := range g.Interfaces {
			if !wanted(i) {
				continue
			}
			one := running{proto: proto, on: i}
			told := slices.ContainsFunc(proto.Interfaces, func(c model.Carried) bool { return c.Name == i.Name })
			for _, a := range i.Addresses {
				told = told || slices.ContainsFunc(proto.Networks, func(c model.Carried) bool {
					return protocols[proto.Name].multicast != "" && c.Network.IsValid() && c.Network.Contains(a.Addr())
				})
				for _, n := range proto.Neighbors {
					if n.Addr.IsValid() && a.Masked().Contains(n.Addr) && a.Addr() != n.Addr {
						told, one.neighbour = true, n.Addr
					}
				}
			}
			told = told || slices.ContainsFunc(proto.Neighbors, func(n model.Neighbor) bool { return n.Interface == i.Name })
			if told {
				out = append(out, one)
			}
		}
	}
	return out
}

// passive reports whether a protocol only tells of an interface and does not run on it.
func (r running) passive() bool {
	return slices.Contains(r.proto.Passive, r.on.Name) ||
		slices.Contains(r.proto.Passive, "default") && !slices.Contains(r.proto.Active, r.on.Name)
}

// ProtocolBlocked reports where the filter drops the messages of a routing protocol that is to run inside a tunnel.
var ProtocolBlocked = &audit.Check{
	Name:     "route/protocol-blocked",
	Title:    "The filter drops the routing protocol inside the tunnel",
	Severity: audit.Medium,
	Why:      "Without its neighbour the protocol learns no routes: nothing is routed into the tunnel.",
	Fix:      "Accept the protocol in the input chain on the tunnel interface, and in the output chain.",
	Doc: audit.Doc{
		What: "The messages of OSPF, BGP, RIP and EIGRP that are set to run on a GRE, IPIP, xfrm or VTI interface are sent " +
			"through the input and the output hook on that interface.",
		Harm:    "The tunnel and the interface are up, ping between the interface's addresses may work, and the neighbour never appears.",
		Write:   "iifname \"gre1\" meta l4proto ospf accept",
		Sources: []string{"RFC 2328 section 8", "RFC 4271 section 8.2.1"},
	},
	Requires: audit.Walks,
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		path := p.Walk(g)
		for _, r := range runsOn(g, func(i *model.Interface) bool { return i.Tunnel() && !i.Down }) {
			if r.passive() || len(g.Chains) == 0 {
				continue
			}
			in, out := r.messages()
			for _, way := range []struct {
				what string
				got  []walk.Outcome
			}{{"from", path.Receive(walk.Fresh(in, r.on.Name))}, {"to", path.Local(out)}} {
				for _, o := range way.got {
					if !o.Filtered() {
						continue
					}
					f := audit.Finding{Gateway: g.Name, At: audit.Evidence{Pos: o.Decided(r.proto.At)}}
					w, _ := o.Was().Witness()
					f.Example = w.String()
					f.Message = fmt.Sprintf(
						"%s is set to run on %s, and its messages %s the neighbour there are dropped in %s",
						r.proto.Name,
						r.on.Name,
						way.what,
						o.Where,
					)
					f.Also = []audit.Evidence{{Pos: r.proto.At, Note: "the routing protocol"}}
					f.Rests(o.Doubts)
					p.Report(f)
					break
				}
			}
		}
	},
}

// messages are those of the protocol from the neighbour and to it, by the interface's addresses.
func (r running) messages() (in, out packet.Set) {
	how := protocols[r.proto.Name]
	for _, a := range r.on.Addresses {
		if !a.Addr().Is4() {
			continue
		}
		peer := r.neighbour
		if !peer.IsValid() {
			if peer = a.Masked().Addr().Next(); peer == a.Addr() {
				peer = peer.Next()
			}
		}
		to := a.Addr()
		if how.multicast != "" {
			to = netip.MustParseAddr(how.multicast)
		}
		from := packet.Range(packet.Src, peer, peer).With(packet.Proto, packet.OneOf(how.proto))
		if how.port != 0 {
			from = from.With(packet.Dport, packet.OneOf(how.port))
		}
		in = in.Or(from.And(packet.Range(packet.Dst, to, to)))
		if how.multicast == "" {
			back := packet.Range(packet.Src, a.Addr(), a.Addr()).
				And(packet.Range(packet.Dst, peer, peer)).
				With(packet.Proto, packet.OneOf(how.proto)).
				With(packet.Dport, packet.OneOf(how.port))
			out = out.Or(back)
		}
	}
	return in, out
}

// ProtocolPassive reports where a routing protocol is to carry a tunnel's networks and is passive on its interface.
var ProtocolPassive = &audit.Check{
	Name:     "route/protocol-passive",
	Title:    "The routing protocol is passive on the tunnel interface",
	Severity: audit.Medium,
	Why:      "A passive interface sends and accepts no messages: there is no neighbour, and nothing is learned through the tunnel.",
	Fix:      "Make the tunnel interface active; keep the inside interfaces passive.",
	Doc: audit.Doc{
		What: "Routing protocols that are set to run on a tunnel interface and to be passive there, while no other route leads into it.",
		Harm: "The default was set to passive for all interfaces, and the tunnel's was not taken out of it: the interface's " +
			"network is announced, and no neighbour appears.",
		Write:   "interface gre1, no ip ospf passive; or, under router ospf, no passive-interface gre1.",
		Sources: []string{"RFC 2328 section 9"},
	},
	Requires: audit.Walks,
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		for _, r := range runsOn(g, func(i *model.Interface) bool { return i.Tunnel() }) {
			if !r.passive() || leads(g, r.on.Name, r.proto.Name) || r.proto.Name == "bgp" {
				continue
			}
			f := audit.Finding{Gateway: g.Name, At: audit.Evidence{Pos: r.proto.At}}
			f.Message = fmt.Sprintf("%s is passive on %s, and no route but its own leads into it", r.proto.Name, r.on.Name)
			f.Also = []audit.Evidence{{Pos: r.on.At, Note: "the interface"}}
			p.Report(f)
		}
	},
}

// ProtocolOutside reports where a routing protocol runs on the outside interface of a tunnel.
var ProtocolOutside = &audit.Check{
	Name:     "route/protocol-outside",
	Title:    "A routing protocol runs on the outside interface",
	Severity: audit.Medium,
	Why:      "It announces the inside networks to anyone on the outside network, and accepts routes from there.",
	Fix:      "Remove the outside interface or its network from the protocol; run it on the tunnel interface.",
	Doc: audit.Doc{
		What: "OSPF, RIP and EIGRP on the interface from which a tunnel's own packets leave, by name or by a network statement " +
			"that covers its address, unless it is passive there.",
		Harm: "A neighbour on the transfer network to the provider offers a better route to a network behind the tunnel, and its " +
			"traffic leaves unencrypted.",
		Write:   "no network 198.51.100.0/24 area 0, and network 172.31.254.0/30 area 0 for the tunnel interface.",
		Sources: []string{"RFC 2328 section 9", "RFC 7454 section 2"},
	},
	Requires: audit.Walks,
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		path := p.Walk(g)
		outside := map[string]bool{}
		for _, pol := range path.Policies {
			if pol.Protects() && pol.Own.IsValid() && !pol.Own.IsPrivate() {
				if dev := path.OutsideOf(pol); dev != "" {
					outside[dev] = true
				}
			}
		}
		for _, r := range runsOn(g, func(i *model.Interface) bool { return outside[i.Name] }) {
			if r.passive() || r.proto.Name == "bgp" {
				continue
			}
			f := audit.Finding{Gateway: g.Name, At: audit.Evidence{Pos: r.proto.At}}
			for _, c := range r.proto.Interfaces {
				if c.Name == r.on.Name {
					f.At.Pos = c.At
				}
			}
			for _, c := range r.proto.Networks {
				if slices.ContainsFunc(
					r.on.Addresses,
					func(a netip.Prefix) bool { return c.Network.IsValid() && c.Network.Contains(a.Addr()) },
				) {
					f.At.Pos = c.At
				}
			}
			f.Message = fmt.Sprintf("%s runs on %s, the outside interface", r.proto.Name, r.on.Name)
			p.Report(f)
		}
	},
}
