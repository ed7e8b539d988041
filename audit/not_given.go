package audit

import (
	"slices"
	"strings"

	"toril/ike"
	"toril/model"
	"toril/pair"
)

// NotGiven is what one gateway's saved files leave out, and what was therefore not judged.
type NotGiven struct {
	Gateway string
	What    []Absent
}

// Absent is one thing that was not given.
type Absent struct {
	Thing    string   // "packet filter"
	Unjudged string   // what nothing is said about: "access rules and NAT"
	Of       []string // the connections concerned; none for the whole gateway
}

// absences lists what could not be judged of a gateway because it was not given; ok is false where it was, or there are no connections.
func absences(e *pair.Estate, g *model.Gateway) (n NotGiven, ok bool) {
	n.Gateway = g.Name
	add := func(missing bool, thing, unjudged string, of ...string) {
		if missing {
			n.What = append(n.What, Absent{thing, unjudged, of})
		}
	}
	if len(g.Connections) == 0 {
		if meant := slices.ContainsFunc(e.MatchesOf(g), func(m *pair.Match) bool { return m.Toward != nil }); meant && !g.Told.IKE {
			add(true, model.IKEConfiguration, "whether both ends agree, and what the gateway would do with packets of its tunnels")
		}
		return n, len(n.What) > 0
	}
	add(len(g.Chains) == 0 && !g.Told.Filter4 && !g.Told.Filter6, model.PacketFilter, "access rules and NAT")
	add(
		!slices.ContainsFunc(g.Interfaces, func(i *model.Interface) bool { return i.Kind != "loopback" && len(i.Addresses) > 0 }),
		model.AddressList,
		"own addresses, and which networks are behind the gateway",
	)
	add(len(g.Routes) == 0, model.RouteList, "routes to peers and networks, and what leaves while a tunnel is down")
	var far, keys, certs, cas []string
	seen := map[string]bool{}
	for _, m := range e.MatchesOf(g) {
		if name := m.Sides[0].Connection.Name; len(m.Sides) == 1 && m.Toward == nil && !seen[name] {
			seen[name] = true
			far = append(far, name)
		}
	}
	for _, c := range g.Connections {
		key := c.Local.Method.Value == ike.PSK || c.Remote.Method.Value == ike.PSK
		if key && !g.Given() {
			keys = append(keys, c.Name)
		}
		if c.Local.Method.Value == ike.Certificate && !c.Local.Keyed && len(g.CertificatesOf(c)) == 0 {
			certs = append(certs, c.Name)
		}
		pinned := c.Remote.Keyed || len(c.Remote.Certificates.Value) > 0
		if c.Remote.Method.Value == ike.Certificate && !pinned &&
			!slices.ContainsFunc(g.Certs, func(x *model.Certificate) bool { return x.CA }) {
			cas = append(cas, c.Name)
		}
	}
	add(len(far) > 0, "far end", "whether both ends agree", far...)
	add(len(keys) > 0, "pre-shared keys", "their strength, and whether both ends have the same", keys...)
	add(len(certs) > 0, "own certificates", "their keys, dates and names", certs...)
	add(len(cas) > 0, "certificates of authorities", "whether the peer's certificate is trusted", cas...)
	return n, len(n.What) > 0
}

// Says puts what was not given, and so not judged, in words: a line for each thing.
func (n NotGiven) Says() (out []string) {
	for _, a := range n.What {
		of := n.Gateway
		if len(a.Of) > 0 {
			of += " (" + strings.Join(a.Of, ", ") + ")"
		}
		out = append(out, a.Thing+" of "+of+": "+a.Unjudged)
	}
	return out
}
