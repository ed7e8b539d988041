package sheet

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"toril/ike"
	"toril/model"
	"toril/negotiate"
	"toril/present"
)

// sizesOf computes the sizes of a child, by what both ends would negotiate, else by what the known end offers first.
func (m *maker) sizesOf(k *model.Child) (z negotiate.Sizes, ok bool) {
	suite, ok := m.suite(k)
	if !ok && !m.given && len(k.Proposals.Value) > 0 {
		suite, ok = first(k.Proposals.Value[0]), true
	}
	if !ok {
		return z, false
	}
	return negotiate.SizesOf(m.t, m.end, k, suite, outsideOf(m.path, m.end, m.t.Own(m.end), m.t.Peer(m.end)))
}

// first is the suite of the first choices of a proposal.
func first(p ike.Proposal) ike.Suite {
	s := ike.Suite{Protocol: p.Protocol}
	for _, r := range ike.TypesShown() {
		if cs := p.Of(r); len(cs) > 0 {
			s.Transforms[r] = cs[0]
		}
	}
	return s
}

// sizes tells what fits.
func (m *maker) sizes(k *model.Child) {
	z, ok := m.sizesOf(k)
	if !ok {
		return
	}
	p := present.Part{Name: "sizes", Title: "What fits into a packet of " + k.Name, About: k.Name, Head: []string{"", "bytes"}}
	row := func(key, name string, n int) {
		p.Rows = append(p.Rows, present.Row{Key: key, Name: name, Cells: []string{fmt.Sprint(n)}})
	}
	row("link-mtu", "MTU of the outside interface", z.Link)
	row("inner-mtu", "largest inner packet (inner MTU)", z.InnerMTU)
	is6 := func(s ike.Selector) bool { return s.Lo.Is6() }
	nets := slices.Concat(k.Local.Value.At(m.t.Own(m.end)), k.Remote.Value.At(m.t.Peer(m.end)))
	inner := z.Wrap
	if slices.ContainsFunc(nets, func(s ike.Selector) bool { return !is6(s) }) {
		row("mss-ipv4", "largest TCP segment over IPv4 (MSS)", inner.MSS(z.InnerMTU))
	}
	if inner.Inner6 = true; slices.ContainsFunc(nets, is6) {
		row("mss-ipv6", "largest TCP segment over IPv6 (MSS)", inner.MSS(z.InnerMTU))
	}
	how := []string{z.Suite.String(), z.Wrap.Mode.String() + " mode"}
	if z.Wrap.Encapsulated {
		how = append(how, "in UDP")
	}
	if z.Wrap.Outer6 {
		how = append(how, "over IPv6")
	}
	p.Notes = []string{"For " + strings.Join(how, ", ") + "; the formula is in docs/sizes.md (RFC 4303, section 2)."}
	if !z.Told {
		p.Notes = append(p.Notes, "The MTU of the outside interface was not given; that of Ethernet is assumed.")
	}
	if !z.Wrap.Encapsulated && z.Wrap.Protocol == ike.ESP {
		behind := z.Wrap
		behind.Encapsulated = true
		p.Notes = append(p.Notes, fmt.Sprintf("Behind NAT, in UDP: inner MTU %d.", z.Suite.InnerMTU(behind, z.Link)))
	}
	m.add(p)
}

// tests tells how to prove that the tunnel works, and what to expect.
func (m *maker) tests() {
	p := present.Part{Name: "tests", Title: "Three tests, with the answers expected", Head: []string{"", "where", "type", "expect"}}
	row := func(key, name, where, what, expect string) {
		p.Rows = append(p.Rows, present.Row{Key: key, Name: name, Cells: []string{where, what, expect}})
	}
	for _, k := range m.end.Connection.Children {
		if k.Shunts() {
			continue
		}
		from, to := m.inner(k)
		if !from.IsValid() || !to.IsValid() {
			continue
		}
		row("reach", "1. it passes", "a host in "+k.Local.Value.String(), fmt.Sprintf("ping -c 3 %s", to), "3 received, 0% packet loss")
		if z, ok := m.sizesOf(k); ok {
			head := 28 // of IPv4 and ICMP
			if to.Is6() {
				head = 48
			}
			row("size", "2. whole packets pass", "the same host", fmt.Sprintf("ping -c 3 -M do -s %d %s", z.InnerMTU-head, to),
				fmt.Sprintf("3 received; with -s %d: \"message too long, mtu=%d\", or no reply", z.InnerMTU-head+1, z.InnerMTU))
		}
		row("status", "3. it is up, and counts both ways", m.end.Gateway.Name, statusCommand(m.end.Connection), m.expected(k))
		break
	}
	if len(p.Rows) == 0 {
		p.Notes = []string{"No address on both sides is known to test with."}
	}
	m.add(p)
}

// inner are an address of either side to test with: a gateway's own inside address where one is known, else the first host.
func (m *maker) inner(k *model.Child) (from, to netip.Addr) {
	pick := func(ss ike.Selectors, g *model.Gateway) netip.Addr {
		if g != nil {
			for _, i := range g.Interfaces {
				for _, a := range i.Addresses {
					if ss.Hold(a.Addr()) && !ss.AnyAddress() {
						return a.Addr()
					}
				}
			}
		}
		for _, s := range ss {
			if s.Lo.IsValid() && !s.AnyAddress() {
				if s.Lo == s.Hi {
					return s.Lo
				}
				return s.Lo.Next()
			}
		}
		return netip.Addr{}
	}
	var far *model.Gateway
	if m.given {
		far = m.far.Gateway
	}
	return pick(k.Local.Value.At(m.t.Own(m.end)), m.end.Gateway), pick(k.Remote.Value.At(m.t.Peer(m.end)), far)
}

// statusCommand is what shows the SAs of a connection on its gateway.
func statusCommand(c *model.Connection) string {
	switch c.Daemon.Name {
	case "strongSwan":
		return "swanctl --list-sas --ike " + c.Name
	case "Libreswan":
		return "ipsec trafficstatus"
	case "OpenIKED":
		return "ikectl show sa"
	}
	return "the gateway's status of SAs"
}

func (m *maker) expected(k *model.Child) string {
	out := m.end.Connection.Name + " established, " + k.Name + " installed"
	if m.end.Connection.Name == k.Name {
		out = k.Name + " established, with its child installed"
	}
	if s, ok := m.suite(k); ok {
		out += ", " + s.String()
	}
	return out + "; the bytes of both directions grow"
}
