package route

import (
	"fmt"

	"toril/audit"
	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/packet"
	"toril/source"
	"toril/walk"
)

// ClearWhenDown reports where the packets of a domain leave in the clear while no SA stands.
var ClearWhenDown = &audit.Check{
	Name:     "route/clear-when-down",
	Setting:  settings.Start.Row,
	Title:    "Tunnel traffic leaves in the clear while the tunnel is down",
	Severity: audit.High,
	Why:      "Without an SA nothing stops the packets: they follow the default route, readable for anyone on the path.",
	Fix:      "Let a policy catch them (start by traffic), or drop unencrypted packets to the remote networks after NAT.",
	Effect:   audit.LeaksDown,
	PartOf: []audit.Part{
		{Of: "route/clear-when-down", By: audit.SameEnd},
	},
	Suggest: audit.Advice{Sets: audit.ByTraffic, Else: "the file does not say how the child is started"},
	Doc: audit.Doc{
		What: "The packets of every child are sent through the gateway as if its SA had gone, with the policies that the daemon then " +
			"keeps. The check reports where some of them leave by an interface, " +
			"and says with which source.",
		Harm: "Each restart and each failed rekey opens a window in which private traffic leaves in the clear, source-translated and " +
			"working, so nobody notices. A flow that started so stays in the clear when " +
			"the tunnel comes back.",
		Write: "In swanctl.conf start_action = trap; or in nftables, in a postrouting chain of priority 150: ip daddr 10.2.0.0/16 rt " +
			"ipsec missing drop. A guard in the forward chain helps only where no source NAT follows. " +
			"A blackhole route for the remote networks of higher metric serves where the daemon installs routes of its own.",
		Sources: []string{"RFC 4301 section 5.1", "RFC 7296 section 2.4"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		if !protects(s) {
			return
		}
		up := p.Walk(s.Gateway)
		pol := s.PolicyOf(up)
		if pol == nil || s.Child.Start.Value.Traps() || s.Child.Mode.Value != ike.Tunnel && len(pol.Wraps) == 0 {
			return
		}
		down := up.Without(s.Child)
		if !down.Known() && len(s.Gateway.Chains) == 0 {
			return
		}
		var flows []walk.Flow
		var doubts model.Doubts
		for _, flow := range up.Domain(pol) { // what does not enter the tunnel is another check's
			os := up.Forward(flow)
			for _, o := range os {
				if o.Fate != walk.Encrypted {
					doubts.Add(o.Doubts...)
				}
			}
			if flow.Now = flow.Now.And(encrypted(os)); !flow.Now.Empty() {
				flows = append(flows, flow)
			}
		}
		for _, o := range down.ForwardAll(flows) {
			if o.Fate != walk.Clear || o.Was().Empty() {
				doubts.Add(o.Doubts...)
				continue
			}
			if o.Out != "" && len(pol.Wraps) == 0 && inside(s, o.Out) {
				continue // from one inside network to another
			}
			f := p.On(s, s.Child.Start.Where(s.Child.At), s.Child.Start.IsDefault())
			was, _ := o.Was().Witness()
			now, _ := o.Now.Witness()
			f.Example = was.String()
			f.Message = fmt.Sprintf("while %s is down, its packets leave in the clear", s.Child.Name)
			if o.Out != "" {
				f.Message += " via " + o.Out
			}
			if o.Wrap != nil {
				f.Message += ", wrapped by " + o.Wrap.By.Name + " and readable"
			} else if was.Src != now.Src {
				f.Message += fmt.Sprintf(", with the source %s", now.Src)
			} else {
				f.Message += ", with their private source"
			}
			if at := o.Decided(source.Pos{}); !at.IsZero() {
				f.Also = append(f.Also, audit.Evidence{Pos: at, Note: "the last rule that they meet"})
			}
			f.Fix = audit.Sentence(
				"let a policy catch them: "+p.CatchTraffic(s),
				"drop unencrypted packets to the remote networks after NAT",
			)
			f.Rests(o.Doubts, up.TrafficDoubts(pol))
			if !down.Known() { // a blackhole route may catch them
				f.Rests(s.Gateway.NetworkDoubts())
			}
			p.Report(f)
			return
		}
		f := p.On(s, s.Child.Start.Where(s.Child.At), false)
		f.Message = fmt.Sprintf("while %s is down, its packets may leave in the clear", s.Child.Name)
		p.Perhaps(f, doubts.And(up.TrafficDoubts(pol)))
	},
}

// protects reports whether a child is one that protects packets, of which a walk can tell.
func protects(s *audit.Subject) bool {
	return !s.Shunted() && s.Child.Policies.Value && s.Connection.Unusable == nil
}

// whole reports whether it protects those of networks by itself.
func whole(s *audit.Subject) bool { return protects(s) && s.Child.Mode.Value == ike.Tunnel }

// encrypted are the packets, as they came, that end in a tunnel.
func encrypted(os []walk.Outcome) packet.Set {
	var sets []packet.Set
	for _, o := range os {
		if o.Fate == walk.Encrypted {
			sets = append(sets, o.Was().Free(packet.Out, packet.PeerOut, packet.Translated))
		}
	}
	return packet.Union(sets...)
}

// inside reports whether an interface is one of the networks that the child protects.
func inside(s *audit.Subject, dev string) bool {
	local := s.Child.Local.Value.At(s.Tunnel.Own(s.End))
	for _, i := range s.Gateway.Interfaces {
		if i.Name == dev {
			for _, a := range i.Addresses {
				if local.Hold(a.Addr()) && !local.AnyAddress() {
					return true
				}
			}
		}
	}
	return false
}
