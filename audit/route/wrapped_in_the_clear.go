package route

import (
	"fmt"

	"toril/audit"
	"toril/model"
	"toril/packet"
	"toril/walk"
)

// WrappedInTheClear reports where an interface that wraps packets without encrypting them is protected by no tunnel.
var WrappedInTheClear = &audit.Check{
	Name:     "route/wrapped-in-the-clear",
	Title:    "GRE or IP in IP leaves unencrypted",
	Severity: audit.High,
	Why:      "GRE and IP in IP do not encrypt: only a child that covers the outer packets does, and none does.",
	Fix:      "Make the interface's addresses and the child's selectors the same, or correct the interface's remote address.",
	Effect:   audit.Leaks,
	Doc: audit.Doc{
		What: "The outer packets of every GRE, IPIP and SIT interface with a known far end are followed as the gateway's own, " +
			"with all tunnels up. The check reports where no tunnel takes them: they leave unencrypted, or a rule drops them for " +
			"that.",
		Harm: "The interface and the routing protocol on it come up, traffic flows, and all of it is readable on the path; or the " +
			"remote address is mistyped and it goes to someone else.",
		Write: "For gre remote 203.0.113.9 local 198.51.100.1: local_ts = dynamic[gre], remote_ts = dynamic[gre] and mode = " +
			"transport, with remote_addrs = 203.0.113.9.",
		Sources: []string{"RFC 2784 section 8", "RFC 4301 section 4.4.1"},
	},
	Requires: audit.Walks,
	Gateway: func(p *audit.Pass, g *model.Gateway) {
		if len(g.Connections) == 0 {
			return
		}
		path := p.Walk(g)
		for _, i := range g.Interfaces {
			outer, ok := path.WrapOf(i)
			if !ok || i.Down {
				continue
			}
			for _, o := range path.Local(outer) {
				if o.Policy != nil {
					continue // it is encrypted, or held back until it is
				}
				w, _ := o.Was().Witness()
				f := audit.Finding{Gateway: g.Name, At: audit.Evidence{Pos: i.At}}
				f.Example = w.String()
				what := fmt.Sprintf("%s from %s to %s", packet.ProtoName(uint64(w.Proto)), w.Src, w.Dst)
				f.Message = fmt.Sprintf("what is routed into %s leaves unencrypted as %s: no child covers these packets", i.Name, what)
				if o.Fate == walk.Dropped {
					f.Message = fmt.Sprintf(
						"what is routed into %s is dropped in %s as %s: no child covers these packets",
						i.Name,
						o.Where,
						what,
					)
				}
				for _, c := range g.Connections {
					f.Also = append(f.Also, audit.Evidence{Pos: c.RemoteAddrs.Where(c.At), Note: "the peer of " + c.Name})
				}
				f.Also = f.Also[:min(len(f.Also), 3)]
				f.Rests(o.Doubts)
				p.Report(f)
				break
			}
		}
	},
}
