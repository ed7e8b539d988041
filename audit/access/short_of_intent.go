package access

import (
	"fmt"

	"toril/audit"
	"toril/packet"
	"toril/walk"
)

// ShortOfIntent reports where a declared flow is not possible.
var ShortOfIntent = &audit.Check{
	Name:     "access/short-of-intent",
	Title:    "Declared traffic does not pass",
	Severity: audit.High,
	Why:      "The tunnel does not carry the traffic it was set up for.",
	Fix:      "Accept the flow in the filter, or name its networks in the selectors.",
	PartOf: []audit.Part{
		{Of: "access/blocked", By: audit.SameLine},
		{Of: "ends/not-mirrored", By: audit.SameExcess},
	},
	Doc: audit.Doc{
		What: "Every declared flow of a tunnel is sent through the gateway, into the children of the tunnel and out of them. The " +
			"check reports where some of it is in no child, or is blocked by the filter.",
		Harm:    "The service that the tunnel was ordered for does not work.",
		Write:   "local_ts and remote_ts that hold the declared networks, and a rule that accepts them.",
		Sources: []string{"RFC 4301 section 5"},
	},
	Requires: audit.Walks,
	Connection: func(p *audit.Pass, s *audit.Subject) {
		if s.Tunnel.Intent == nil || len(s.Tunnel.Intent.Allow) == 0 || len(s.Connection.Children) == 0 {
			return
		}
		path := p.Walk(s.Gateway)
		var policies []*walk.Policy
		all := packet.None()
		for _, k := range s.Connection.Children {
			one := *s
			one.Child = k
			pol := one.PolicyOf(path)
			if pol == nil {
				all = all.Or(k.Domain(s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End)))
				continue
			}
			policies = append(policies, pol)
			all = all.Or(carries(path, pol))
		}
		all = all.Or(all.Mirror())
		for _, a := range s.Tunnel.Intent.Allow {
			if out := a.Needed.Minus(all); !out.Empty() {
				f := p.On(s, a.At, false)
				w, _ := out.Witness()
				f.Example = w.String()
				f.Message = fmt.Sprintf("no child of %s covers all of %s", s.End.Name(), a.Text)
				if len(policies) > 0 && len(path.Into(policies[0])) > 0 {
					f.Message = fmt.Sprintf("no route leads all of %s into %s", a.Text, path.Into(policies[0])[0].Name)
				}
				f.Also = []audit.Evidence{{Pos: s.Connection.At, Note: "the connection"}}
				f.Rests(path.IKEDoubts(), s.Gateway.UnreadNetwork())
				p.Report(f)
				continue
			}
			if len(s.Gateway.Chains) == 0 {
				continue
			}
			for _, pol := range policies {
				if o, what := short(path, pol, a.Needed); o != nil {
					f := p.On(s, a.At, false)
					w, _ := o.Was().Witness()
					f.Example = w.String()
					f.Message = fmt.Sprintf("%s is declared, and %s dropped in %s", a.Text, what, o.Where)
					f.Also = []audit.Evidence{{Pos: o.Decided(s.Connection.At), Note: "where it is dropped"}}
					f.Rests(o.Doubts, path.TrafficDoubts(pol))
					p.Report(f)
				}
			}
		}
	},
}

// carries are the packets that a policy's tunnel is there for, on their way in: by its selectors, or by the routes into it, as
// far as these are saved.
func carries(path *walk.Path, pol *walk.Policy) packet.Set {
	for _, i := range path.Into(pol) {
		if len(path.Gateway.Routes) == 0 || i.Dynamic || len(path.Gateway.Protocols) > 0 {
			return packet.All() // routes that are not saved may lead into it
		}
	}
	if len(path.Into(pol)) > 0 {
		return path.Traffic(pol)
	}
	return pol.Domain
}

// short is what is dropped of a flow that is to pass a policy's tunnel, in either direction, or of the answers to it; nil for
// nothing.
func short(path *walk.Path, pol *walk.Policy, flow packet.Set) (dropped *walk.Outcome, what string) {
	domain := carries(path, pol)
	first := func(os []walk.Outcome) *walk.Outcome {
		for _, o := range os {
			if o.Fate == walk.Dropped {
				return &o
			}
		}
		return nil
	}
	out := path.ForwardAll(path.Entering(pol, flow.And(domain)))
	if o := first(out); o != nil {
		return o, "it is"
	}
	for _, o := range out {
		if o.Fate == walk.Encrypted && o.Policy == pol {
			if got := first(path.Answers(pol, o)); got != nil {
				return got, "the replies are"
			}
		}
	}
	in := path.BesidesOwn(flow.And(domain.Mirror()))
	if in.Empty() {
		return nil, ""
	}
	_, inner := path.Inbound(pol, in)
	if o := first(inner); o != nil {
		return o, "it is"
	}
	for _, o := range inner {
		if o.Fate == walk.Clear {
			if got := first(path.Answers(pol, o)); got != nil {
				return got, "the replies are"
			}
		}
	}
	return nil, ""
}
