package route

import (
	"fmt"

	"toril/audit"
	"toril/model"
	"toril/packet"
	"toril/walk"
)

// RoutedNotSelected reports where a network is routed into a tunnel interface whose child does not take it.
var RoutedNotSelected = &audit.Check{
	Name:     "route/routed-not-selected",
	Title:    "A network routed into the tunnel is in no selector",
	Severity: audit.High,
	Why:      "No policy of the interface matches the packets, and the kernel drops them.",
	Fix:      "Add the network to the remote selectors on this end and to the local ones on the far end, or route it elsewhere.",
	Doc: audit.Doc{
		What: "Routes into xfrm and VTI interfaces whose destinations no child of the interface has among its remote selectors; " +
			"and interfaces of that kind with routes whose identifier or key no child has.",
		Harm:    "A network was added to the routes and not to the tunnel: its packets disappear without a log.",
		Write:   "remote_ts = 10.2.0.0/24, 10.9.0.0/24 where ip route has 10.9.0.0/24 dev ipsec0.",
		Sources: []string{"RFC 4301 section 4.4.1"},
	},
	Requires: audit.Walks,
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		if len(g.Connections) == 0 {
			return
		}
		path := p.Walk(g)
		for _, i := range g.Interfaces {
			if i.Kind != "xfrm" && i.Kind != "vti" {
				continue
			}
			taken, some := packet.None(), false
			for _, pol := range path.Policies {
				if pol.Protects() && (pol.Device == i || fits(pol, i)) {
					some = true
					taken = taken.Or(
						pol.Domain.Free(packet.Src, packet.Mark, packet.ConnMark, packet.Proto, packet.Sport, packet.Dport, packet.ICMP),
					)
				}
			}
			for _, r := range g.Routes {
				if r.Dev != i.Name || r.Kind != "unicast" || r.Origin == "connected" {
					continue
				}
				lost := packet.Prefixes(packet.Dst, r.To).Minus(taken)
				if lost.Empty() || some && r.To.Bits() == 0 {
					continue
				}
				f := audit.Finding{Gateway: g.Name, At: audit.Evidence{Pos: r.At}}
				f.Message = fmt.Sprintf(
					"%s is routed into %s, and no child of it covers %s",
					r.To,
					i.Name,
					audit.Networks(lost, packet.Dst),
				)
				if !some {
					f.Message = fmt.Sprintf("%s is routed into %s, and no child has its identifier", r.To, i.Name)
				} else {
					f.Lower(1)
				}
				f.Also = []audit.Evidence{{Pos: i.At, Note: "the interface"}}
				f.Rests(g.Doubts(model.AboutIKE|model.AboutInterfaces), r.Doubts, i.Doubts)
				for _, c := range g.Connections {
					f.Rests(c.Doubts)
					for _, k := range c.Children {
						f.Rests(k.Doubts)
					}
				}
				p.Report(f)
			}
		}
	},
}

// fits reports whether packets that leave by a tunnel interface are offered to a policy.
func fits(pol *walk.Policy, i *model.Interface) bool {
	if i.Kind == "xfrm" {
		return pol.IfID == i.IfID || pol.IfID == ^uint32(0)
	}
	mark, mask, ok := pol.Child.Marked()
	return ok && i.Key&mask == mark
}
