package access

import (
	"fmt"
	"net/netip"
	"slices"
	"sync"

	"toril/audit"
	"toril/model"
	"toril/packet"
	"toril/source"
	"toril/walk"
)

// Management reports where the gateway's management is reachable from outside or from a far end.
var Management = &audit.Check{
	Name:     "access/management",
	Title:    "Management of the gateway is reachable from outside or from a far end",
	Severity: audit.Medium,
	Why:      "Anyone who takes over the gateway takes over every tunnel that ends on it, and reaches all networks behind them.",
	Fix:      "Accept management from the networks of its administrators only.",
	PartOf: []audit.Part{
		{Of: "access/any-from-tunnel", By: audit.SameLine},
		{Of: "access/blanket", By: audit.SameLine},
	},
	Doc: audit.Doc{
		What: "New connections to SSH, telnet, HTTP, HTTPS and SNMP of the gateway are sent through the input hook: from the outside " +
			"interface, and decrypted from every tunnel to a gateway of someone else. " +
			"The check reports where some source reaches them that is in no private network, or comes from a far end.",
		Harm:    "Guessed passwords, and flaws of web interfaces, are how gateways fall.",
		Write:   "ip saddr 10.1.0.0/24 tcp dport 22 accept",
		Sources: []string{"NIST SP 800-41 Rev. 1 section 5.2"},
	},
	Requires: audit.Walks,
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		if len(g.Chains) == 0 || len(g.Connections) == 0 {
			return
		}
		path := p.Walk(g)
		bases := path.Filter().Bases(model.Input)
		if len(bases) == 0 {
			return
		}
		for _, pol := range path.Policies {
			if !pol.Own.IsValid() || !pol.Own.Is4() {
				continue
			}
			outside := walk.Plain(packet.Only(packet.IPv4).And(packet.Range(packet.Dst, pol.Own, pol.Own)).And(publicSources())).
				With(packet.PeerIn, packet.OneOf(0))
			inner := walk.Plain(pol.Back().Free(packet.Proto, packet.Sport, packet.Dport, packet.ICMP).And(packet.Only(packet.IPv4))).
				And(walk.Peered(packet.PeerIn, pol.Peer))
			come := func(s packet.Set) walk.Flow { return path.ComingIn(s, pol.Own, pol.Peer) }
			for _, from := range []struct {
				what string
				set  packet.Set
				to   packet.Set
			}{{"from outside", outside, packet.Range(packet.Dst, pol.Own, pol.Own)},
				{"from the far end of " + pol.Name, inner, ownInside(g)}} {
				var open []string
				at, example := source.Pos{}, ""
				doubts := model.Doubts(nil)
				to := from.set.And(from.to)
				if !slices.ContainsFunc( // mostly none is open, and all are asked about at once
					path.Filter().Through(model.Input, come(to.And(managing()))),
					func(v walk.Verdict) bool { return v.Verb == model.Accept },
				) {
					continue
				}
				for _, m := range managed {
					set := to.With(packet.Proto, packet.OneOf(m.proto)).With(packet.Dport, packet.OneOf(m.port))
					if set.Empty() {
						continue
					}
					for _, v := range path.Filter().Through(model.Input, come(set)) {
						_, where, ok := acceptedBy(v, bases)
						if !ok {
							continue
						}
						if len(open) == 0 {
							w, _ := v.Was().Witness()
							at, example = where, w.String()
						}
						open = append(open, m.name)
						doubts.Add(v.Doubts...)
						break
					}
				}
				if len(open) == 0 {
					continue
				}
				f := audit.Finding{
					Gateway: g.Name,
					At:      audit.Evidence{Pos: at},
					Example: example,
					Message: fmt.Sprintf("%s of the gateway can be reached %s", audit.List(open), from.what),
				}
				f.Rests(doubts)
				p.Report(f)
			}
		}
	},
}

// managed are the ports by which gateways are managed (IANA service names).
var managed = []struct {
	name  string
	proto uint64
	port  uint64
}{{"SSH", 6, 22}, {"telnet", 6, 23}, {"HTTP", 6, 80}, {"HTTPS", 6, 443}, {"SNMP", 17, 161}, {"HTTPS on 8443", 6, 8443}}

// managing are the packets of all of them.
var managing = sync.OnceValue(func() packet.Set {
	var sets []packet.Set
	for _, m := range managed {
		sets = append(sets, packet.Where(packet.Proto, packet.OneOf(m.proto)).With(packet.Dport, packet.OneOf(m.port)))
	}
	return packet.Union(sets...)
})

// ownInside are the gateway's addresses as destinations; everything where the files do not tell.
func ownInside(g *model.Gateway) packet.Set {
	var sets []packet.Set
	for _, i := range g.Interfaces {
		for _, a := range i.Addresses {
			if i.Kind != "loopback" {
				sets = append(sets, packet.Range(packet.Dst, a.Addr(), a.Addr()))
			}
		}
	}
	return packet.Union(sets...)
}

var publicSources = sync.OnceValue(func() packet.Set {
	s := packet.Only(packet.IPv4)
	for _, n := range []string{"10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "169.254.0.0/16", "127.0.0.0/8",
		"224.0.0.0/3", "0.0.0.0/8"} {
		s = s.Minus(packet.Prefixes(packet.Src, netip.MustParsePrefix(n)))
	}
	return s
})
