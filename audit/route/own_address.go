package route

import (
	"fmt"
	"net/netip"
	"slices"

	"toril/audit"
	"toril/model"
	"toril/model/settings"
)

// OwnAddress reports where the address that a connection is to send from is on no interface.
var OwnAddress = &audit.Check{
	Name:     "route/own-address",
	Setting:  settings.OwnAddress.Row,
	Title:    "The connection's local address is on no interface",
	Severity: audit.Medium,
	Why:      "A daemon cannot send from an address that the gateway does not have, and packets to it do not arrive.",
	Fix:      "Set the local address to one of the gateway's own; behind NAT that is the private one, not the public one of the router.",
	Doc: audit.Doc{
		What: "The single local addresses of every connection are looked for among the addresses of the gateway's interfaces. Asked " +
			"only where interfaces with addresses were given and none gets its address " +
			"while it runs.",
		Harm: "The address was mistyped, or is the public address of the router in front: both ends agree on it, and no packet " +
			"ever comes from it.",
		Write:   "local_addrs = 192.168.1.2 behind a router whose public address the peer has as its remote address.",
		Sources: []string{"RFC 7296 section 2.23"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		fixed := s.Connection.LocalAddrs.Value.Fixed()
		addressed := false
		for _, i := range s.Gateway.Interfaces {
			if i.Dynamic {
				return
			}
			addressed = addressed || i.Kind != "loopback" && len(i.Addresses) > 0
		}
		if !addressed || len(fixed) == 0 || slices.ContainsFunc(fixed, func(a netip.Addr) bool { return has(s.Gateway, a) }) {
			return
		}
		f := p.On(s, s.Connection.LocalAddrs.Where(s.Connection.At), false)
		f.Message = fmt.Sprintf(
			"%s is set to send from %s, and no interface of %s has that address",
			s.Connection.Name,
			fixed[0],
			s.Gateway.Name,
		)
		f.Rests(s.Gateway.NetworkDoubts(), s.Doubts())
		p.Report(f)
	},
}

func has(g *model.Gateway, a netip.Addr) bool {
	return slices.ContainsFunc(g.Interfaces, func(i *model.Interface) bool {
		return slices.ContainsFunc(i.Addresses, func(n netip.Prefix) bool { return n.Addr() == a })
	})
}
