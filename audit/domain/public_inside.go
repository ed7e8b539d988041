package domain

import (
	"fmt"
	"net/netip"
	"sync"

	"toril/audit"
	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/packet"
)

// PublicInside reports where a domain holds public addresses.
var PublicInside = &audit.Check{
	Name:     "domain/public-inside",
	Setting:  settings.OwnNetworks.Row,
	Title:    "Public addresses inside the encryption domain",
	Severity: audit.Low,
	Why:      "Public networks in the selectors are a typing mistake, or send Internet traffic into the tunnel.",
	Fix:      "Correct the network, or declare it in the estate's toril.yaml.",
	PartOf: []audit.Part{
		{Of: "domain/public-inside", By: audit.SameChildren},
	},
	Doc: audit.Doc{
		What: "Selectors with addresses that are neither private (RFC 1918, RFC 4193), shared (RFC 6598) nor for documentation " +
			"(RFC 5737), without being everything; the tunnel's own addresses are left out. Nothing is said where a declared intent " +
			"names them.",
		Harm:    "172.61.0.0/16 in place of 172.16.0.0/16: the partner's network never passes, and someone else's would.",
		Write:   "remote_ts = 172.16.0.0/16",
		Sources: []string{"RFC 1918", "RFC 4193", "RFC 6598"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		if s.Shunted() || s.Child.RouteBased() {
			return
		}
		own, peer := s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End)
		intended := packet.None()
		if in := s.Tunnel.Intent; in != nil {
			for _, a := range in.Allow {
				intended = intended.Or(a.Packets).Or(a.Packets.Mirror())
			}
		}
		for _, side := range []struct {
			what string
			set  model.Setting[ike.Selectors]
		}{{"local", s.Child.Local}, {"remote", s.Child.Remote}} {
			if side.set.Value.AnyAddress() || side.set.Value.Dynamic() {
				continue
			}
			all := side.set.Value.At(own).Packets()
			public := all.Minus(notPublic()).Free(packet.Proto, packet.Sport, packet.ICMP)
			for _, a := range []netip.Addr{own, peer} {
				if a.IsValid() {
					public = public.Minus(packet.Range(packet.Src, a, a))
				}
			}
			if public.Empty() || !intended.Empty() && intended.Overlaps(public) {
				continue
			}
			f := p.On(s, side.set.Where(s.Child.At), false)
			f.Message = fmt.Sprintf("the %s side holds public addresses: %s", side.what, audit.Networks(public, packet.Src))
			f.Rests(s.SelectorDoubts())
			p.Report(f)
		}
	},
}

var notPublic = sync.OnceValue(func() packet.Set {
	var sets []packet.Set
	for _, n := range []string{"10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "192.0.2.0/24", "198.51.100.0/24",
		"203.0.113.0/24", "198.18.0.0/15", "169.254.0.0/16", "224.0.0.0/4", "127.0.0.0/8", "fc00::/7", "fe80::/10", "ff00::/8",
		"2001:db8::/32", "3fff::/20"} {
		sets = append(sets, packet.Prefixes(packet.Src, netip.MustParsePrefix(n)))
	}
	return packet.Union(sets...)
})
