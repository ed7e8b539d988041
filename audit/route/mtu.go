package route

import (
	"fmt"
	"slices"

	"toril/audit"
	"toril/negotiate"
)

// MTU reports where the MTU of a tunnel interface was chosen, and is more than fits.
var MTU = &audit.Check{
	Name:     "route/mtu",
	Title:    "The MTU of the tunnel interface is more than fits",
	Severity: audit.Low,
	Why:      "Packets of that size do not fit once they are encrypted: they are fragmented, or dropped where that is forbidden.",
	Fix:      "Set the interface's MTU to what fits, or leave it to the kernel.",
	Doc: audit.Doc{
		What: "Tunnel interfaces whose MTU is none of the usual ones, so that somebody chose it, against the largest packet that " +
			"the suite, " +
			"the mode and the outside interface leave room for (docs/sizes.md).",
		Harm:    "Logins work and copies hang, as long as nothing reports packets that are too big.",
		Write:   "ip link set dev t0 mtu 1446",
		Sources: []string{"RFC 4303 section 2", "RFC 1191"},
	},
	Requires: audit.Walks | audit.Negotiation,
	Child: func(p *audit.Pass, s *audit.Subject) {
		pol := s.PolicyOf(p.Walk(s.Gateway))
		if pol == nil || pol.Device == nil || pol.Device.MTU.Value == 0 {
			return
		}
		z, ok := p.Sizes(s)
		mtu := pol.Device.MTU.Value
		if !ok || mtu <= z.InnerMTU || slices.Contains(usual(z.Link), mtu) {
			return
		}
		f := p.On(s, pol.Device.MTU.Where(pol.Device.At), false)
		f.Message = fmt.Sprintf("%s has an MTU of %d; of what %s protects, %d bytes fit", pol.Device.Name, mtu, s.Child.Name, z.InnerMTU)
		f.Measured, f.Required = fmt.Sprint(mtu), fmt.Sprintf("at most %d", z.InnerMTU)
		p.Report(f)
	},
}

// usual are the MTUs that interfaces have by themselves, over a link of a size: the link's, and those less the headers of IPv4, of GRE with
// and without a key, and of IPv6.
func usual(link int) []int {
	out := []int{1280, 1332, 65535}
	for _, header := range []int{0, 20, 24, 28, 40} {
		out = append(out, link-header, negotiate.Ethernet-header)
	}
	return out
}
