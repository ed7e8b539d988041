package ends

import (
	"fmt"

	"toril/audit"
	"toril/ike"
	"toril/model"
)

// SeveralNetworks reports where a child of IKEv1 has several networks.
var SeveralNetworks = &audit.Check{
	Name:     "ends/several-networks",
	Title:    "Several networks in one child of IKEv1",
	Severity: audit.High,
	Why:      "IKEv1 takes one pair of networks per child: only the first of each side passes.",
	Fix:      "Configure one child per pair of networks, or use IKEv2.",
	Suggest:  audit.ByPeople("which networks are meant only their owners know: write them down, then make one end the mirror of the other"),
	Doc: audit.Doc{
		What: "A connection that uses IKEv1 and a child with more than one selector on a side, after those that lie within others " +
			"are taken out.",
		Harm: "The first network works and the others do not, or the tunnel works from one side only, as the ends name them in " +
			"another order.",
		Write:   "children { lan { local_ts = 10.1.0.0/24 } phones { local_ts = 10.1.9.0/24 } }",
		Sources: []string{"RFC 2409 section 5.5", "RFC 2407 section 4.6.2"},
	},
	Child: func(p *audit.Pass, s *audit.Subject) {
		if s.Connection.Version.Value != ike.V1 || s.Shunted() {
			return
		}
		own, peer := s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End)
		for _, side := range []struct {
			what string
			set  model.Setting[ike.Selectors]
			all  ike.Selectors
		}{{"local", s.Child.Local, s.Child.Local.Value.At(own).Reduce()},
			{"remote", s.Child.Remote, s.Child.Remote.Value.At(peer).Reduce()}} {
			if len(side.all) < 2 {
				continue
			}
			f := p.On(s, side.set.Where(s.Child.At), side.set.IsDefault())
			f.Message = fmt.Sprintf(
				"of the %d %s networks only %s is negotiated: IKEv1 takes one pair per child",
				len(side.all),
				side.what,
				side.all[0],
			)
			p.Report(f)
		}
	},
}
