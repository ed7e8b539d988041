package domain

import (
	"fmt"

	"toril/audit"
	"toril/packet"
)

// Covered reports where a child lies within another of the same connection.
var Covered = &audit.Check{
	Name:     "domain/covered",
	Title:    "A child is covered by another",
	Severity: audit.Low,
	Why:      "Its packets may take either child; traffic meant to be separate is not.",
	Fix:      "Remove the narrower child, or remove its networks from the wider one.",
	PartOf: []audit.Part{
		{Of: "domain/any-to-any", By: audit.SameEnd},
	},
	Doc: audit.Doc{
		What:    "Children of one connection whose whole encryption domain lies within that of another.",
		Harm:    "The narrower child, with its own algorithms or lifetimes, is used from one side and the wider one from the other.",
		Write:   "One child with both networks, or two that are apart.",
		Sources: []string{"RFC 4301 section 4.4.1"},
	},
	Connection: func(p *audit.Pass, s *audit.Subject) {
		own, peer := s.Tunnel.Own(s.End), s.Tunnel.Peer(s.End)
		kids := s.Connection.Children
		sets := make([]packet.Set, len(kids))
		for i, k := range kids {
			one := *s
			one.Child = k
			if !one.Shunted() && !k.RouteBased() {
				sets[i] = k.Domain(own, peer)
			}
		}
		index, room := packet.NewIndex(sets), new(packet.Room)
		for i, k := range kids {
			around, err := index.Around(i, room)
			if err != nil {
				panic(packet.TooComplex())
			}
			by, ok, err := around.Covered(func(j int) bool { return j != i && (!sets[i].Contains(sets[j]) || j < i) })
			if err != nil {
				panic(packet.TooComplex())
			}
			if !ok || len(by) != 1 {
				continue
			}
			one := *s
			one.Child = k
			f := p.On(&one, k.Remote.Where(k.Local.Where(k.At)), false)
			f.Message = fmt.Sprintf("%s lies within %s", k.Name, kids[by[0]].Name)
			f.Also = []audit.Evidence{{Pos: kids[by[0]].At, Note: "the wider child"}}
			f.Rests(one.SelectorDoubts())
			p.Report(f)
		}
	},
}
