package ends

import (
	"fmt"

	"toril/audit"
	"toril/ike"
	"toril/model"
	"toril/negotiate"
	"toril/pair"
)

// NotMirrored speaks where the selectors of two children that belong together are not each other's reverse.
var NotMirrored = &audit.Check{
	Name:     "ends/not-mirrored",
	Title:    "The selectors of both ends are not mirrored",
	Severity: audit.High,
	Why:      "The child covers only what both ends name; the rest of either side never passes.",
	Fix:      "Configure the same networks on both ends, local and remote swapped.",
	PartOf: []audit.Part{
		{Of: "ends/not-mirrored", By: audit.SameChildren},
	},
	Doc: audit.Doc{
		What: "The local selectors of one end's child are compared with the remote ones of the other's, and the other way round. " +
			"With nothing in common the child does not come up; " +
			"with a part in common it comes up for that part.",
		Harm: "One network works and its neighbour does not; or the tunnel works from one side only, as the responder refuses " +
			"what it does not know.",
		Write:   "Here local_ts = 10.1.0.0/24 and remote_ts = 10.2.0.0/24, there local_ts = 10.2.0.0/24 and remote_ts = 10.1.0.0/24.",
		Sources: []string{"RFC 7296 section 2.9"},
	},
	Requires: audit.Negotiation,
	Tunnel: func(p *audit.Pass, t *pair.Tunnel) {
		if len(t.Ends) < 2 {
			return
		}
		a, b := t.Ends[0], t.Ends[1]
		said := map[*model.Child]bool{}
		for _, attempt := range p.Attempts(t) { // a child that nothing of the far end answers for
			if attempt.Failure != nil && attempt.Failure.Topic == negotiate.Selectors && !said[nil] { // the IKE SA went with the child
				said[nil] = true
				f := of(p, t, attempt, attempt.Failure)
				f.Unsure = attempt.Unsure
				p.Report(f)
			}
			for _, c := range attempt.Children {
				if c.Failure == nil || c.Failure.Topic != negotiate.Selectors || said[c.Of] || len(t.Counterparts(c.Of)) > 0 {
					continue
				}
				said[c.Of] = true
				f := of(p, t, attempt, c.Failure)
				f.Child, f.Unsure = c.Of.Name, attempt.Unsure
				p.Report(f)
			}
		}
		for _, pair := range t.Children() {
			if pair.A == nil || pair.B == nil {
				continue
			}
			compare(p, t, a, b, pair.A, pair.B)
		}
	},
}

func compare(p *audit.Pass, t *pair.Tunnel, a, b pair.End, ca, cb *model.Child) {
	ownA, ownB := t.Own(a), t.Own(b)
	for _, side := range []struct {
		what, other string
		x, y        model.Setting[ike.Selectors]
		atX, atY    ike.Selectors
	}{
		{"local", "remote", ca.Local, cb.Remote, ca.Local.Value.At(ownA), cb.Remote.Value.At(t.Peer(b))},
		{"remote", "local", ca.Remote, cb.Local, ca.Remote.Value.At(t.Peer(a)), cb.Local.Value.At(ownB)},
	} {
		x, y := side.atX.Packets(), side.atY.Packets()
		if x.Equal(y) || x.Empty() || y.Empty() {
			continue
		}
		s := &audit.Subject{End: a, Tunnel: t, Child: ca}
		f := p.On(s, side.x.Where(ca.At), side.x.IsDefault())
		f.Also = []audit.Evidence{{Pos: side.y.Where(cb.At), Note: fmt.Sprintf("what is configured on %s", b.Name())}}
		both := side.atX.Meet(side.atY)
		f.Message = fmt.Sprintf(
			"the %s side of %s is %s, but the %s side of %s is %s: only %s passes",
			side.what,
			a.Gateway.Name,
			side.atX,
			side.other,
			b.Gateway.Name,
			side.atY,
			both,
		)
		if len(both) == 0 {
			comes := "the child does not come up"
			if a.Connection.Daemon.Children.OwnSelectors && b.Connection.Daemon.Children.OwnSelectors {
				comes = "the child comes up, as the daemons of both ends compare nothing, and no packet passes"
			}
			f.Message = fmt.Sprintf(
				"the %s side of %s is %s, but the %s side of %s is %s: they have nothing in common, so %s",
				side.what,
				a.Gateway.Name,
				side.atX,
				side.other,
				b.Gateway.Name,
				side.atY,
				comes,
			)
		} else {
			f.Lower(1)
		}
		p.Report(f)
	}
}
