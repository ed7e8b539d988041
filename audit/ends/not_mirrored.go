package ends

import (
	"fmt"
	"slices"

	"toril/audit"
	"toril/ike"
	"toril/model"
	"toril/negotiate"
	"toril/pair"
)

// NotMirrored reports where the selectors of two children that belong together are not each other's reverse.
var NotMirrored = &audit.Check{
	Name:     "ends/not-mirrored",
	Title:    "The selectors of both ends are not mirrored",
	Severity: audit.High,
	Why:      "The child covers only what both ends name; the rest of either side never passes.",
	Fix:      "Configure the same networks on both ends, local and remote swapped.",
	PartOf: []audit.Part{
		{Of: "ends/not-mirrored", By: audit.SameChildren},
	},
	Suggest: audit.ByPeople("which networks are meant only their owners know: write them down, then make one end the mirror of the other"),
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
				f.Rests(attempt.Doubts)
				p.Report(f)
			}
			for _, c := range attempt.Children {
				if c.Failure == nil || c.Failure.Topic != negotiate.Selectors || said[c.Of] || len(t.Counterparts(c.Of)) > 0 {
					continue
				}
				said[c.Of] = true
				f := of(p, t, attempt, c.Failure)
				f.Child = c.Of.Name
				f.Rests(attempt.Doubts)
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
	localA, remoteA := asked(t, a, ca, b, cb)
	localB, remoteB := asked(t, b, cb, a, ca)
	for _, side := range []struct {
		what, other string
		x, y        model.Setting[ike.Selectors]
		atX, atY    ike.Selectors
	}{
		{"local", "remote", ca.Local, cb.Remote, localA, remoteB},
		{"remote", "local", ca.Remote, cb.Local, remoteA, localB},
	} {
		x, y := side.atX.Packets(), side.atY.Packets()
		if x.Equal(y) || x.Empty() || y.Empty() {
			continue
		}
		s := &audit.Subject{End: a, Tunnel: t, Child: ca}
		f := p.On(s, side.x.Where(ca.At), false)
		f.Rests(doubts(t))
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

// asked are the selectors of a child as its daemon asks for them. Where that asks for all that it protects at once, they are those of every
// child that has something in common with the far end's.
func asked(t *pair.Tunnel, end pair.End, k *model.Child, far pair.End, theirs *model.Child) (local, remote ike.Selectors) {
	at := func(k *model.Child) (l, r ike.Selectors) {
		return k.Local.Value.At(t.Own(end)), k.Remote.Value.At(t.Peer(end))
	}
	local, remote = at(k)
	if !end.Connection.Daemon.Children.OwnSelectors {
		return local, remote
	}
	farLocal, farRemote := theirs.Local.Value.At(t.Own(far)), theirs.Remote.Value.At(t.Peer(far))
	for _, other := range end.Connection.Children {
		if other == k || other.Shunts() {
			continue
		}
		if l, r := at(other); len(l.Meet(farRemote)) > 0 && len(r.Meet(farLocal)) > 0 {
			local, remote = slices.Concat(local, l), slices.Concat(remote, r)
		}
	}
	return local, remote
}
