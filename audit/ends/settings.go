package ends

import (
	"fmt"
	"slices"
	"time"

	"toril/agree"
	"toril/audit"
	"toril/baseline"
	"toril/estate"
	"toril/gateway"
	"toril/ike"
	"toril/source"
)

// both starts a finding at a line of one end, with one of the other as further evidence.
func both(p *audit.Pass, t *estate.Tunnel, at, other source.Pos) audit.Finding {
	f := p.On(&audit.Subject{End: t.Ends[0], Tunnel: t}, at, false)
	f.Also = []audit.Evidence{{Pos: other, Note: "what " + t.Ends[1].Name() + " says"}}
	return f
}

// pairs are the children that both ends have.
func pairs(t *estate.Tunnel) []estate.ChildPair {
	if len(t.Ends) < 2 {
		return nil
	}
	return slices.DeleteFunc(t.Children(), func(c estate.ChildPair) bool { return c.A == nil || c.B == nil })
}

// AnyAgainstList speaks where one end names networks and the other everything.
var AnyAgainstList = &audit.Check{
	Name:     "ends/any-against-list",
	Title:    "One end says any to any, the other a list of networks",
	Severity: audit.Medium,
	Why:      "It is narrowed to the list and works, so the loose end is never noticed; it would take whatever the other end comes to ask for.",
	Mend:     "Write the same networks on both ends.",
	Doc: audit.Doc{
		What:    "The selectors of one end's child hold every address, those of the other's do not.",
		Harm:    "Whoever changes the narrow end, or takes it over, gets every network behind the loose one.",
		Write:   "local_ts = 10.1.0.0/16 in place of 0.0.0.0/0.",
		Sources: []string{"RFC 7296 section 2.9"},
	},
	Tunnel: func(p *audit.Pass, t *estate.Tunnel) {
		for _, c := range pairs(t) {
			for _, side := range []struct {
				a, b gateway.Setting[ike.Selectors]
			}{{c.A.Local, c.B.Remote}, {c.A.Remote, c.B.Local}} {
				if side.a.Value.AnyAddress() == side.b.Value.AnyAddress() {
					continue
				}
				f := both(p, t, side.a.Where(c.A.At), side.b.Where(c.B.At))
				f.Severity = audit.Medium
				f.Message = fmt.Sprintf("%s says %s where %s says %s: only the list is agreed on, and the other end would take anything", t.Ends[0].Gateway.Name, side.a.Value, t.Ends[1].Gateway.Name, side.b.Value)
				p.Report(f)
			}
		}
	},
}

// SeveralNetworks speaks where a child of IKEv1 has several networks.
var SeveralNetworks = &audit.Check{
	Name:     "ends/several-networks",
	Title:    "Several networks in one child of IKEv1",
	Severity: audit.High,
	Why:      "IKEv1 takes one pair of networks a child: only the first of each side passes.",
	Mend:     "Make a child for every pair of networks, or use IKEv2.",
	Doc: audit.Doc{
		What:    "A connection that speaks IKEv1 and a child with more than one selector on a side, after those that lie within others are taken out.",
		Harm:    "The first network works and the others do not, or the tunnel works from one side only, as the ends name them in another order.",
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
			set  gateway.Setting[ike.Selectors]
			all  ike.Selectors
		}{{"local", s.Child.Local, s.Child.Local.Value.At(own).Reduce()}, {"remote", s.Child.Remote, s.Child.Remote.Value.At(peer).Reduce()}} {
			if len(side.all) < 2 {
				continue
			}
			f := p.On(s, side.set.Where(s.Child.At), side.set.IsDefault())
			f.Severity = audit.High
			f.Message = fmt.Sprintf("of the %d %s networks only %s is negotiated: IKEv1 takes one pair a child", len(side.all), side.what, side.all[0])
			p.Report(f)
		}
	},
}

// LifetimesDiffer speaks where the lifetimes of both ends differ by far.
var LifetimesDiffer = &audit.Check{
	Name:     "ends/lifetimes-differ",
	Title:    "Lifetimes differ where it matters",
	Severity: audit.Low,
	Why:      "Each end keeps its own; one whose hard limit comes before the other renews drops the child first.",
	Mend:     "Write the same lifetimes on both ends.",
	Doc: audit.Doc{
		What:    "A child whose hard lifetime on one end, where that end does not renew by itself, is shorter than the renewal of the other; IKE SAs and children that differ by more than four times.",
		Harm:    "Under IKEv1 a peer that keeps an SA the other has dropped sends into nothing until it notices.",
		Write:   "rekey_time = 1h on both.",
		Sources: []string{"RFC 7296 section 2.8", "RFC 2409 section 5.5"},
	},
	Tunnel: func(p *audit.Pass, t *estate.Tunnel) {
		far := func(a, b time.Duration) bool { return a > 0 && b > 0 && (a > 4*b || b > 4*a) }
		for _, c := range pairs(t) {
			if a, b := c.A.Rekey.Value, c.B.Rekey.Value; far(a, b) {
				f := both(p, t, c.A.Rekey.Where(c.A.At), c.B.Rekey.Where(c.B.At))
				f.Severity = audit.Low
				f.Message = fmt.Sprintf("the child's lifetime is %s on %s and %s on %s: the shorter decides", baseline.Span(a), t.Ends[0].Gateway.Name, baseline.Span(b), t.Ends[1].Gateway.Name)
				p.Report(f)
			}
			for _, side := range [][2]*gateway.Child{{c.A, c.B}, {c.B, c.A}} {
				if side[0].Rekey.Value == 0 && side[0].Life.Value > 0 && side[1].Rekey.Value > side[0].Life.Value {
					f := both(p, t, c.A.Rekey.Where(c.A.At), c.B.Rekey.Where(c.B.At))
					f.Severity = audit.Medium
					f.Message = fmt.Sprintf("one end closes the child after %s and does not renew it, the other would renew it after %s: it drops in between", baseline.Span(side[0].Life.Value), baseline.Span(side[1].Rekey.Value))
					p.Report(f)
				}
			}
		}
		if len(t.Ends) < 2 {
			return
		}
		a, b := t.Ends[0].Connection, t.Ends[1].Connection
		if far(a.Lifetime(), b.Lifetime()) {
			f := both(p, t, a.LifetimeSetting().Where(a.At), b.LifetimeSetting().Where(b.At))
			f.Severity = audit.Low
			f.Message = fmt.Sprintf("the IKE SA's lifetime is %s on %s and %s on %s: the shorter decides", baseline.Span(a.Lifetime()), t.Ends[0].Gateway.Name, baseline.Span(b.Lifetime()), t.Ends[1].Gateway.Name)
			p.Report(f)
		}
	},
}

// ModeDiffers speaks where one end says transport mode and the other tunnel mode.
var ModeDiffers = &audit.Check{
	Name:     "ends/mode-differs",
	Title:    "One end says transport mode, the other tunnel mode",
	Severity: audit.Medium,
	Why:      "IKEv2 falls back to tunnel mode where it can; IKEv1 refuses, and so do selectors that do not hold the gateways' own addresses.",
	Mend:     "Set the same mode on both ends: tunnel mode for networks.",
	Doc: audit.Doc{
		What:    "The mode of both ends of every child, and what becomes of it for either initiator.",
		Harm:    "No child, with an answer about selectors that leads to the wrong place.",
		Write:   "mode = tunnel on both.",
		Sources: []string{"RFC 7296 section 1.3.1", "RFC 4301 section 4.1"},
	},
	Tunnel: func(p *audit.Pass, t *estate.Tunnel) {
		for _, c := range pairs(t) {
			if c.A.Mode.Value == c.B.Mode.Value {
				continue
			}
			f := both(p, t, c.A.Mode.Where(c.A.At), c.B.Mode.Where(c.B.At))
			f.Severity = audit.Medium
			f.Message = fmt.Sprintf("%s is in %s mode on %s and in %s mode on %s", c.A.Name, c.A.Mode.Value, t.Ends[0].Gateway.Name, c.B.Mode.Value, t.Ends[1].Gateway.Name)
			for _, a := range agree.Tunnel(t) {
				for _, k := range a.Children {
					if k.Failure != nil && k.Failure.Topic == agree.Mode {
						f.Severity, f.Message = audit.High, f.Message+": the child does not come up"
					}
				}
			}
			p.Report(f)
		}
	},
}

// BothWait speaks where neither end begins.
var BothWait = &audit.Check{
	Name:     "ends/both-wait",
	Title:    "Both ends wait for the other",
	Severity: audit.Medium,
	Why:      "No traffic and no restart sets the tunnel up: it is down until somebody does it by hand.",
	Mend:     "Let one end begin: by traffic, so that a policy also catches packets while the tunnel is down.",
	Doc: audit.Doc{
		What:    "A child that on both ends waits for the peer; or one that only one end would begin, where that end does not know the other's address.",
		Harm:    "The tunnel is up after the tests, and gone after the first restart.",
		Write:   "start_action = trap on at least one end.",
		Sources: []string{"RFC 7296 section 1.2"},
	},
	Tunnel: func(p *audit.Pass, t *estate.Tunnel) {
		for _, c := range pairs(t) {
			begins := func(k *gateway.Child, e estate.End) bool {
				return k.Start.Value != gateway.StartNever && (len(e.Connection.RemoteAddrs.Value.Fixed()) > 0 || !e.Connection.RemoteAddrs.Value.Any())
			}
			if begins(c.A, t.Ends[0]) || begins(c.B, t.Ends[1]) {
				continue
			}
			f := both(p, t, c.A.Start.Where(c.A.At), c.B.Start.Where(c.B.At))
			f.Severity = audit.Medium
			f.Message = fmt.Sprintf("%s: neither %s nor %s begins", c.A.Name, t.Ends[0].Gateway.Name, t.Ends[1].Gateway.Name)
			if t.Ends[0].Connection.Unsure || t.Ends[1].Connection.Unsure {
				f.Unsure = "a statement of one of the ends was not understood"
			}
			p.Report(f)
		}
	},
}

// FarEndUnseen speaks where the far end of a tunnel was not given, or where several would do.
var FarEndUnseen = &audit.Check{
	Name:     "ends/far-end-unseen",
	Title:    "The far end was not given",
	Severity: audit.Info,
	Why:      "Nothing can be said about whether both ends agree; what is said about this end holds all the same.",
	Mend:     "Add the far end's saved configuration, or compare with toril mirror what its administrator set.",
	Doc: audit.Doc{
		What:    "Connections for which no other in the estate is the far end, by addresses, identities and networks; and connections that several others fit just as well.",
		Harm:    "Half of what goes wrong with tunnels is a difference between two ends.",
		Write:   "toril mirror GATEWAY/CONNECTION writes what the far end must set.",
		Sources: []string{"RFC 7296"},
	},
	Tunnel: func(p *audit.Pass, t *estate.Tunnel) {
		e := t.Ends[0]
		f := p.On(&audit.Subject{End: e, Tunnel: t}, e.Connection.At, false)
		switch {
		case len(t.Ends) < 2:
			f.Message = fmt.Sprintf("the far end of %s was not given", e.Name())
			if t.Intent != nil && t.Intent.Partner != "" {
				f.Message += fmt.Sprintf(": it is %s's", t.Intent.Partner)
			}
		case len(t.Doubts) > 0:
			f.Severity = audit.Low
			f.Message = "the far end may be another: " + t.Doubts[0]
		default:
			return
		}
		p.Report(f)
	},
}

// WeakerThanPossible speaks where the negotiated suite is weaker than the best that both ends have.
var WeakerThanPossible = &audit.Check{
	Name:     "ends/weaker-than-possible",
	Title:    "A weaker suite is agreed on than both ends could have",
	Severity: audit.Medium,
	Why:      "Order decides: the responder takes the first of its own proposals that fits, not the strongest.",
	Mend:     "Put the strong proposal first on both ends, or take the weak ones out.",
	Doc: audit.Doc{
		What:    "For either initiator, the suite that is chosen for the IKE SA and for every child is compared with the strongest that both ends have in common, in bits (NIST SP 800-57).",
		Harm:    "Both administrators wrote AES-256 and 3DES, and 3DES is what runs.",
		Write:   "proposals = aes256gcm16-prfsha384-ecp384 alone.",
		Sources: []string{"RFC 7296 section 2.7", "NIST SP 800-57 part 1"},
	},
	Tunnel: func(p *audit.Pass, t *estate.Tunnel) {
		for _, a := range agree.Tunnel(t) {
			if a.Failure != nil {
				continue
			}
			speak := func(what string, chosen ike.Suite, mine, theirs []ike.Proposal, at, other source.Pos) {
				best := strongest(mine, theirs)
				if chosen.Strength() >= 128 || best.Strength() <= chosen.Strength() { // between strong suites the order is a matter of taste
					return
				}
				f := p.On(&audit.Subject{End: a.Responder, Tunnel: t}, other, false)
				f.Also = []audit.Evidence{{Pos: at, Note: "what " + a.Initiator.Name() + " offers"}}
				f.Severity = audit.Medium
				f.Message = fmt.Sprintf("%s: when %s begins, %s chooses %s (%d bits) though both have %s (%d bits)", what, a.Initiator.Gateway.Name, a.Responder.Gateway.Name, chosen, chosen.Strength(), best, best.Strength())
				p.Report(f)
			}
			i, r := a.Initiator.Connection, a.Responder.Connection
			offer := i.Proposals.Value
			if a.Version == ike.V1 {
				offer = ike.OfferV1(offer)
			}
			speak("IKE SA", a.IKE, offer, r.Proposals.Value, i.Proposals.Where(i.At), r.Proposals.Where(r.At))
			for _, c := range a.Children {
				if c.Outcome == agree.Agrees && a.Version == ike.V2 {
					speak("child "+c.Of.Name, c.Suite, ike.WithoutKeyExchange(c.Of.Proposals.Value), ike.WithoutKeyExchange(c.With.Proposals.Value), c.Of.Proposals.Where(c.Of.At), c.With.Proposals.Where(c.With.At))
				}
			}
		}
	},
}

// strongest is the strongest suite that two lists have in common.
func strongest(mine, theirs []ike.Proposal) ike.Suite {
	var best ike.Suite
	for _, p := range mine {
		for _, q := range theirs {
			if s, ok := narrowest(p, q); ok && s.Strength() > best.Strength() {
				best = s
			}
		}
	}
	return best
}

// narrowest is the strongest suite of two proposals: of every type the strongest that both have.
func narrowest(p, q ike.Proposal) (ike.Suite, bool) {
	by := func(cs ike.Choices) ike.Choices {
		out := slices.Clone(cs)
		slices.SortStableFunc(out, func(a, b ike.Choice) int { return b.Strength() - a.Strength() })
		return out
	}
	p.Encryption, p.Integrity, p.PRF, p.KeyExchange = by(p.Encryption), by(p.Integrity), by(p.PRF), by(p.KeyExchange)
	return p.Agree(q)
}

// BackupMissing speaks where one end names several addresses for its peer and the other has no more than one.
var BackupMissing = &audit.Check{
	Name:     "ends/backup-missing",
	Title:    "Redundancy that only one end promises",
	Severity: audit.Low,
	Why:      "A second address for the peer helps only if the peer answers there, and from there.",
	Mend:     "Configure the second address on both ends, or take it out.",
	Doc: audit.Doc{
		What:    "An end that names more than one address for its peer, where the peer speaks from one of them only and no second tunnel joins the two gateways.",
		Harm:    "The line fails, and the backup that everybody counted on was never there.",
		Write:   "local_addrs = 198.51.100.7, 203.0.113.7 on the far end too.",
		Sources: []string{"RFC 7296 section 2.23", "RFC 4555"},
	},
	Tunnel: func(p *audit.Pass, t *estate.Tunnel) {
		if len(t.Ends) < 2 {
			return
		}
		for i, e := range t.Ends {
			far := t.Ends[1-i]
			named, has := e.Connection.RemoteAddrs, far.Connection.LocalAddrs
			if len(named.Value.Fixed()) < 2 || has.Value.Any() || len(has.Value.Fixed()) >= len(named.Value.Fixed()) {
				continue
			}
			f := p.On(&audit.Subject{End: e, Tunnel: t}, named.Where(e.Connection.At), false)
			f.Also = []audit.Evidence{{Pos: has.Where(far.Connection.At), Note: "what " + far.Name() + " says"}}
			f.Severity = audit.Low
			f.Message = fmt.Sprintf("%s names %s as addresses of its peer, and %s speaks from %s only", e.Gateway.Name, named.Value, far.Gateway.Name, has.Value)
			p.Report(f)
		}
	},
}
