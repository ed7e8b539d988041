package access

import (
	"fmt"
	"slices"

	"toril/audit"
	"toril/model"
	"toril/packet"
	"toril/walk"
)

// NoICMP reports where a tunnel passes TCP and none of the messages that path MTU discovery needs.
var NoICMP = &audit.Check{
	Name:     "access/no-icmp",
	Title:    "ICMP is blocked: large packets disappear",
	Severity: audit.Low,
	Why:      "A tunnel makes packets larger than the path takes; without \"fragmentation needed\" the sender never learns it.",
	Fix: "Accept ICMP type 3 code 4 (packet too big for IPv6) through the tunnel, or related packets of connection tracking; " +
		"clamping the MSS of TCP helps TCP only.",
	Suggest: audit.Rules(audit.AcceptTooBig, audit.AcceptAnswers),
	Doc: audit.Doc{
		What:    "New TCP connections of a child are allowed, and neither ICMP type 3 code 4 as such nor related packets are.",
		Harm:    "Logins work and copies hang: the usual complaint about tunnels.",
		Write:   "ct state established,related accept, or icmp type destination-unreachable accept.",
		Sources: []string{"RFC 1191", "RFC 8201", "RFC 4301 section 8.1"},
	},
	Requires: audit.Walks,
	Child: func(p *audit.Pass, s *audit.Subject) {
		stopped, doubts := unreported(p, s)
		if len(stopped) == 0 {
			return
		}
		f := p.On(s, stopped[0].Decided(s.Child.At), false)
		f.Message = fmt.Sprintf("%s allows TCP and blocks the ICMP messages that report a packet as too big", s.Child.Name)
		f.Rests(reasons(stopped), doubts)
		p.Report(f)
	},
}

// unreported is what stops the messages that report a packet of the child's as too big; none where they pass, or TCP does not. doubts are
// why TCP may not pass.
func unreported(p *audit.Pass, s *audit.Subject) (stopped []walk.Outcome, doubts model.Doubts) {
	path, pol := of(p, s)
	if pol == nil || pol.Child.Local.Value.At(pol.Own).Packets().Families() == nil {
		return nil, nil
	}
	var tcp []walk.Outcome
	sent := packet.None()
	for _, c := range path.Crossings(pol) {
		passed, _ := filtered(c.Into)
		if slices.ContainsFunc(passed, certain) {
			passed = slices.DeleteFunc(slices.Clone(passed), func(o walk.Outcome) bool { return !certain(o) })
		}
		for _, o := range passed {
			if part := o.Was().And(packet.Only(packet.IPv4)).With(packet.Proto, packet.OneOf(6)); !part.Empty() {
				tcp, sent = append(tcp, o), sent.Or(part.OnTheWire().Free(packet.Proto, packet.Sport, packet.Dport))
			}
		}
	}
	if len(tcp) == 0 {
		return nil, nil
	}
	if !slices.ContainsFunc(tcp, certain) {
		doubts = reasons(tcp)
	}
	message := returning(
		path,
		pol,
		sent.Mirror().With(packet.Proto, packet.OneOf(1)).With(packet.ICMP, packet.OneOf(3<<8|4)),
		packet.Related,
	)
	_, inner := path.InboundAs(pol, message)
	passed, stopped := filtered(inner)
	if len(passed) > 0 {
		return nil, nil
	}
	return stopped, doubts
}

func certain(o walk.Outcome) bool { return o.Doubts.Certain() }
