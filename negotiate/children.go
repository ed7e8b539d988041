package negotiate

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"toril/ike"
	"toril/model"
	"toril/pair"
	"toril/source"
)

// children tries every child of the initiator. Under IKEv2 the first one is made along with the IKE SA, without a key
// exchange of its own.
func (a *attempt) children() {
	first := true
	for _, k := range asked(a.i.c) {
		c := a.child(k, first)
		if !first {
			a.atOnce(&c, k)
		}
		first = false
		a.Children = append(a.Children, c)
	}
}

// asked are the children that an initiator asks for: those that protect something, or that come up as if they did where it has no others.
func asked(c *model.Connection) []*model.Child {
	protecting := slices.DeleteFunc(slices.Clone(c.Children), (*model.Child).Shunts)
	if len(protecting) == 0 && c.Daemon.Children.NegotiatesShunts {
		return c.Children
	}
	return protecting
}

// answers reports whether a responder sets a child of its own up with its peer.
func answers(c *model.Connection, k *model.Child) bool {
	return !k.Shunts() || c.Daemon.Children.NegotiatesShunts
}

// atOnce has a further child of an initiator that asks for all of its networks in one request, as one child, fail where another child of
// the responder answers for it: only the one that fits first does.
func (a *attempt) atOnce(c *Child, k *model.Child) {
	with := a.Children[0].With
	if a.Version != ike.V2 || !a.i.c.Daemon.Children.OwnSelectors || a.r.c.Daemon.Children.OwnSelectors {
		return
	}
	if c.Outcome != Agrees || c.With == with || with == nil {
		return
	}
	c.Outcome = Fails
	c.Failure = &Failure{
		Topic: Selectors,
		Step:  Auth,
		Lines: [2]source.Pos{k.Remote.Where(k.At), with.Local.Where(with.At)},
		Why: fmt.Sprintf("%s asks for all of its networks at once, as one child, and %s answers with its child %s, %s to %s: nothing else "+
			"passes where %s initiates", a.i.name(), a.r.name(), with.Name, with.Local.Value, with.Remote.Value, a.i.name()),
		Changes: []string{
			fmt.Sprintf("on %s set one child with all networks", a.r.name()),
			fmt.Sprintf("have %s initiate, and set %s to wait", a.r.name(), a.i.name()),
		},
	}
}

// offered returns the selectors that the initiator sends for a child: in transport mode those that hold its address.
func (a *attempt) offered(k *model.Child) (local, remote ike.Selectors) {
	local, remote = k.Local.Value.At(a.i.own).Reduce(), k.Remote.Value.At(a.target()).Reduce()
	if a.Version == ike.V1 && len(local) > 0 && len(remote) > 0 {
		// one pair of identities a quick mode, and of ports one or all (RFC 2409 section 5.5, RFC 2407 section 4.6.2)
		local, remote = ike.Selectors{onePort(local[0])}, ike.Selectors{onePort(remote[0])}
	}
	return local, remote
}

func onePort(s ike.Selector) ike.Selector {
	if !s.AllPorts() {
		s.HiPort = s.LoPort
	}
	return s
}

// target is the address that the initiator sends to.
func (a *attempt) target() (out netip.Addr) {
	if one, ok := a.i.c.RemoteAddrs.Value[0].Single(); ok {
		return one
	}
	return a.i.peer
}

// source is the address that the responder sees: the initiator's own, or the one that the responder expects where that is behind NAT. It is
// invalid where it is not known.
func (a *attempt) source() netip.Addr {
	if !a.i.own.IsValid() {
		return a.r.peer
	}
	if a.r.c == nil || !pair.Translated(a.i.own, a.target(), a.r.c.RemoteAddrs.Value) {
		return a.i.own
	}
	for _, one := range a.r.c.RemoteAddrs.Value.Fixed() {
		if !one.IsPrivate() {
			return one
		}
	}
	return netip.Addr{}
}

// translated reports whether an end's address is another where the other end sees it.
func (a *attempt) translated() (initiator, responder bool) {
	initiator = a.i.own.IsValid() && a.source() != a.i.own
	return initiator, pair.Translated(a.r.own, a.target(), a.i.c.RemoteAddrs.Value)
}

// hosts reports whether selectors, as the initiator has them, hold the addresses of both gateways.
func (a *attempt) hosts(local, remote ike.Selectors) bool {
	return (local.Hold(a.i.own) || local.Hold(a.source())) && remote.Hold(a.target())
}

// answering returns the selectors of a responder's child, and those that the initiator asks for as the responder compares the two: where
// NAT is on the way the gateways' own addresses may be in the place of what they are translated to.
func (a *attempt) answering(asks, k *model.Child) (local, remote, askedLocal, askedRemote ike.Selectors) {
	own, peer := a.r.own, a.source()
	if !own.IsValid() {
		own = a.target()
	}
	askedLocal, askedRemote = a.offered(asks)
	if !a.replaces(asks, k) {
		return k.Local.Value.At(own), k.Remote.Value.At(peer), askedLocal, askedRemote
	}
	if !peer.IsValid() { // what it is translated to is not known, and not needed
		peer = a.i.own
	}
	local, remote = k.Local.Value.At(own), k.Remote.Value.At(peer)
	either := a.Version == ike.V1 && a.r.c.Daemon.Hosts.TakesV1 // it takes them as they are, too
	if !either || fit(local, askedRemote) == 0 {
		askedRemote = moved(askedRemote, a.target(), own)
	}
	if !either || fit(remote, askedLocal) == 0 {
		askedLocal = moved(askedLocal, a.i.own, peer)
	}
	return local, remote, askedLocal, askedRemote
}

// moved returns selectors with one address in the place of another.
func moved(ss ike.Selectors, from, to netip.Addr) ike.Selectors {
	ss = slices.Clone(ss)
	for i, s := range ss {
		if s.Lo == from && s.Hi == from {
			ss[i].Lo, ss[i].Hi = to, to
		}
	}
	return ss
}

// replaces reports whether the responder, NAT being on the way, takes the gateways' own addresses as they are seen: in transport mode,
// where the initiator too knows that (RFC 7296 section 2.23.1, RFC 3947 section 5).
func (a *attempt) replaces(asks, k *model.Child) bool {
	initiator, responder := a.translated()
	if !a.i.own.IsValid() || !initiator && !responder {
		return false
	}
	i, r := a.i.c.Daemon, a.r.c.Daemon
	switch {
	case a.Version == ike.V1 && (r.Hosts.TakesV1 || i.Hosts.UnsaidV1 && asks.HostToHost && !initiator):
		return true
	case asks.Mode.Value != ike.Transport || k.Mode.Value != ike.Transport:
		return false
	}
	return (r.Hosts.Replaces || r.Children.OwnSelectors) && (i.Hosts.Replaces || i.Children.OwnSelectors || a.Version == ike.V1)
}

func (a *attempt) child(k *model.Child, first bool) Child {
	c := Child{Of: k, Outcome: Fails}
	step := Auth
	switch {
	case a.Version == ike.V1:
		step = QuickMode
	case !first || a.startsChildless():
		step = Create
	}
	local, remote := a.offered(k)
	c.With = a.counterpart(k)
	if theirs := a.theirs(); c.With == nil && a.r.c.Daemon.Children.OwnSelectors && len(theirs) > 0 {
		c.With = theirs[0]
	}
	if c.With == nil {
		c.Failure = a.selectorsFail(step, k, local, remote)
		return c
	}
	rl, rr, askedLocal, askedRemote := a.answering(k, c.With)
	c.Remote, c.Local = rl.Meet(askedRemote), rr.Meet(askedLocal)
	if !slices.Equal(askedLocal, local) { // to each end its own
		c.Local = moved(c.Local, a.source(), a.i.own)
	}
	if !slices.Equal(askedRemote, remote) {
		c.Remote = moved(c.Remote, a.r.own, a.target())
	}
	if a.Version == ike.V1 {
		c.Local, c.Remote = ike.Selectors{onePort(c.Local[0])}, ike.Selectors{onePort(c.Remote[0])}
	}
	if f := a.wrap(&c, k, step); f != nil {
		c.Failure = f
		return c
	}
	if f := a.suite(&c, k, step); f != nil {
		c.Failure = f
		return c
	}
	if f := a.installed(&c, k, step); f != nil {
		c.Failure = f
		return c
	}
	if f := a.ownSelectorsOnly(&c, askedLocal, askedRemote, rl, rr, step); f != nil {
		c.Failure = f
		return c
	}
	if f := a.lessThanAsked(&c, k, local, remote, step); f != nil {
		c.Failure = f
		return c
	}
	c.Outcome = Agrees
	a.narrowed(&c, k, local, remote)
	a.rekeyChild(&c, k)
	return c
}

// counterpart is the responder's child whose selectors fit best: each side's exactly, wider, or in part; of several as
// good the first.
func (a *attempt) counterpart(asks *model.Child) *model.Child {
	var best *model.Child
	bestScore := 0
	for _, k := range a.theirs() {
		mine, theirs, local, remote := a.answering(asks, k)
		if k.Whole.Value && !(samePackets(mine, remote) && samePackets(theirs, local)) {
			continue
		}
		l, r := fit(mine, remote), fit(theirs, local)
		if l > 0 && r > 0 && l+r > bestScore {
			best, bestScore = k, l+r
		}
	}
	return best
}

// theirs are the responder's children to choose from: those of the connection that answers, and of all others with the same
// peer where its daemon joins them.
func (a *attempt) theirs() []*model.Child {
	var out []*model.Child
	for _, c := range a.r.Gateway.Accepting(a.i.own) {
		joins := c.Joins && a.r.c.Joins && c.Unusable == nil
		same := c.SamePeer(a.r.c) && (!c.Daemon.Answers.JoinsAlike || c.AlikeSA(a.r.c))
		if c != a.r.c && !(joins && (same || c.Daemon.Answers.JoinsByIdentity && a.alikeBut(c))) {
			continue
		}
		for _, k := range c.Children {
			if answers(c, k) {
				out = append(out, k)
			}
		}
	}
	if a.r.c.Daemon.Answers.LatestFirst {
		slices.Reverse(out)
	}
	if !slices.ContainsFunc(out, func(k *model.Child) bool { return slices.Contains(a.r.c.Children, k) }) {
		for _, k := range a.r.c.Children {
			if answers(a.r.c, k) {
				out = append(out, k)
			}
		}
	}
	return out
}

// alikeBut reports whether a connection differs from the one that answers in nothing but the address of the peer, which it takes too, and
// the method.
func (a *attempt) alikeBut(c *model.Connection) bool {
	return c.Version.Value == a.r.c.Version.Value && c.Local.ID.Value == a.r.c.Local.ID.Value && c.Remote.ID.Value == a.r.c.Remote.ID.Value
}

// fit says how well configured selectors fit those that are asked for: 3 one is the same, 2 one holds it, 1 they meet, 0
// they have nothing in common.
func fit(have, asked ike.Selectors) int {
	if len(have.Meet(asked)) == 0 {
		return 0
	}
	best := 1
	for _, h := range have {
		for _, s := range asked {
			switch {
			case h == s:
				return 3
			case h.Holds(s):
				best = max(best, 2)
			}
		}
	}
	return best
}

// holds reports whether selectors have all that others have.
func holds(all, some ike.Selectors) bool { return some.Packets().Minus(all.Packets()).Empty() }

func samePackets(a, b ike.Selectors) bool { return a.Packets().Equal(b.Packets()) }

// ownSelectorsOnly compares the selectors where an end ignores what its peer proposes: nothing is negotiated, and only what both ends have
// passes.
func (a *attempt) ownSelectorsOnly(c *Child, local, remote, theirLocal, theirRemote ike.Selectors, step Step) *Failure {
	i, r := a.i.c.Daemon.Children.OwnSelectors, a.r.c.Daemon.Children.OwnSelectors
	if !i && !r || samePackets(theirLocal, remote) && samePackets(theirRemote, local) {
		return nil
	}
	heed := a.i.name() + " heeds its own"
	switch {
	case i && r:
		heed = "both heed their own"
	case r:
		heed = a.r.name() + " heeds its own"
	}
	both := fmt.Sprintf("%s protects %s to %s, %s %s to %s, and %s alone", a.i.name(), local, remote, a.r.name(), theirLocal, theirRemote,
		heed)
	lines := [2]source.Pos{c.Of.Remote.Where(c.Of.At), c.With.Local.Where(c.With.At)}
	common := len(c.Local) > 0 && len(c.Remote) > 0
	switch more := !holds(remote, theirLocal) || !holds(local, theirRemote); {
	case !i && (!common || more && a.i.c.Daemon.Children.WithinAsked):
		return &Failure{
			Topic: Selectors, Step: step, Notify: "TS_UNACCEPTABLE", Lines: lines, rejected: true,
			Why:     fmt.Sprintf("%s: %s does not take that", both, a.i.name()),
			Changes: []string{fmt.Sprintf("on %s set local to %s and remote to %s", a.r.name(), remote, local)},
		}
	case common:
		c.Notes = append(c.Notes, both+": only what is of both passes")
	default:
		c.Broken, c.BrokenBy, c.BrokenAt = both+": the child comes up, and no packet passes", Selectors, lines
	}
	return nil
}

// lessThanAsked asks whether an initiator takes the answer where it is less than what it asked for.
func (a *attempt) lessThanAsked(c *Child, k *model.Child, local, remote ike.Selectors, step Step) *Failure {
	if !k.Whole.Value || samePackets(c.Local, local) && samePackets(c.Remote, remote) {
		return nil
	}
	return &Failure{
		Topic: Selectors, rejected: true,
		Step:  step,
		Lines: [2]source.Pos{k.Whole.Where(k.At), c.With.Local.Where(c.With.At)},
		Why: fmt.Sprintf("%s proposes %s to %s, %s narrows that to %s to %s, and %s takes no less than it asks for", a.i.name(), local,
			remote, a.r.name(), c.Local, c.Remote, a.i.name()),
		Changes: []string{fmt.Sprintf("on %s set local to %s and remote to %s", a.i.name(), c.Local, c.Remote)},
	}
}

func (a *attempt) selectorsFail(step Step, k *model.Child, local, remote ike.Selectors) *Failure {
	notify := "TS_UNACCEPTABLE"
	if a.Version == ike.V1 {
		notify = "INVALID_ID_INFORMATION"
	}
	f := &Failure{Topic: Selectors, Step: step, Notify: notify, Lines: [2]source.Pos{k.Remote.Where(k.At), a.r.c.At}}
	f.Why = fmt.Sprintf("%s proposes %s to %s, and no child of %s overlaps with that", a.i.name(), local, remote, a.r.name())
	f.Changes = []string{fmt.Sprintf("on %s set local to %s and remote to %s", a.r.name(), remote, local)}
	if theirs := a.theirs(); len(theirs) == 1 {
		o := theirs[0]
		f.Lines[1] = o.Local.Where(o.At)
		mine, theirs, askedLocal, askedRemote := a.answering(k, o)
		differ := "which is not mirrored"
		if o.Whole.Value && fit(mine, askedRemote) > 0 && fit(theirs, askedLocal) > 0 {
			differ = "and takes nothing else"
		}
		f.Why = fmt.Sprintf("%s proposes %s to %s, and %s has %s to %s, %s", a.i.name(), local, remote, a.r.name(), mine, theirs, differ)
		all := slices.Concat(o.Local.Value, o.Remote.Value, k.Local.Value, k.Remote.Value)
		if i, r := a.translated(); (i || r) && all.Dynamic() {
			f.Why += ": the gateways' own addresses are protected, and NAT is between them"
			return f
		}
		f.Changes = append(f.Changes, fmt.Sprintf("on %s set local to %s and remote to %s", a.i.name(), theirs, mine))
	}
	return f
}

// modeOf is the mode in which a child is asked for.
func modeOf(k *model.Child) ike.Mode {
	if k.Shunts() {
		return ike.Tunnel
	}
	return k.Mode.Value
}

// wrap agrees on tunnel or transport mode. Transport mode is for the two gateways' own packets.
func (a *attempt) wrap(c *Child, k *model.Child, step Step) *Failure {
	c.Mode = ike.Tunnel
	if a.Version == ike.V1 && k.Shunts() && modeOf(c.With) == ike.Tunnel { // seen with strongSwan 5.9.8
		c.Mode = k.Mode.Value
		a.assume("the child comes up in the mode %q at %s: what becomes of its packets was not tried", c.Mode, a.i.name())
		return nil
	}
	mine, theirs := modeOf(k), modeOf(c.With)
	lines := [2]source.Pos{k.Mode.Where(k.At), c.With.Mode.Where(c.With.At)}
	if mine == ike.BEET || theirs == ike.BEET {
		return a.beet(c, mine, theirs, lines, step)
	}
	if mine == ike.Tunnel && theirs == ike.Tunnel {
		return nil
	}
	hosts := a.hosts(c.Local, c.Remote)
	if !hosts && !a.unanswered(mine, theirs) && (minds(a.i, mine) || minds(a.r, theirs)) {
		return a.notTransported(lines, step)
	}
	if mine == theirs {
		c.Mode = mine
	} else if f := a.twoModes(c, mine, theirs, lines, step); f != nil {
		return f
	}
	if !hosts && c.Mode == ike.Transport {
		c.BrokenAt = lines
		c.Broken = "in transport mode only the gateways' own packets are carried, and the selectors are for others: the child comes up, " +
			"and no packet is accepted"
	}
	return nil
}

// unanswered reports whether the responder finds nothing set up for an initiator in transport mode.
func (a *attempt) unanswered(mine, theirs ike.Mode) bool {
	return a.Version == ike.V2 && a.r.c.Daemon.Children.OwnMode && mine == ike.Transport && theirs != ike.Transport
}

// minds reports whether an end that is set to a mode refuses it where more is protected than the gateways' own packets.
func minds(s side, mode ike.Mode) bool {
	return mode == ike.Transport && !s.c.Daemon.Children.AnyTransport
}

func (a *attempt) notTransported(lines [2]source.Pos, step Step) *Failure {
	f := &Failure{
		Topic:   Mode,
		Step:    step,
		Notify:  "TS_UNACCEPTABLE",
		Lines:   lines,
		Why:     "in transport mode only the gateways' own addresses can be protected, and the selectors do not hold them",
		Changes: []string{"set tunnel mode on both ends"},

		rejected: a.r.c.Daemon.Children.OwnSelectors, // it looks at nobody's
	}
	if a.Version == ike.V1 {
		f.Notify = "INVALID_ID_INFORMATION"
	}
	return f
}

// twoModes agrees where one end is set to tunnel and the other to transport mode.
func (a *attempt) twoModes(c *Child, mine, theirs ike.Mode, lines [2]source.Pos, step Step) *Failure {
	if a.Version == ike.V1 && a.r.c.Daemon.Children.KeepsMode {
		c.Mode = mine
		return nil
	}
	if a.unanswered(mine, theirs) {
		return &Failure{
			Topic: Mode, Step: step, Notify: "AUTHENTICATION_FAILED", Lines: lines,
			Why: fmt.Sprintf("%s is set to %s mode, %s to %s mode, and finds no policy for it", a.i.name(), mine, a.r.name(),
				theirs),
			Changes: []string{"set the same mode on both ends"},
		}
	}
	keeps := func(s side, mode ike.Mode) bool { return s.c.Daemon.Children.KeepsMode && mode == ike.Transport }
	if a.Version == ike.V2 && (keeps(a.i, mine) || keeps(a.r, theirs)) {
		f := &Failure{
			Topic:   Mode,
			Step:    step,
			Lines:   lines,
			Why:     fmt.Sprintf("%s is set to %s mode, %s to %s mode, and one of them takes no other", a.i.name(), mine, a.r.name(), theirs),
			Changes: []string{"set the same mode on both ends"},
		}
		if theirs == ike.Transport {
			f.Notify = "NO_PROPOSAL_CHOSEN"
		}
		return f
	}
	if a.Version == ike.V1 {
		return &Failure{
			Topic:   Mode,
			Step:    step,
			Notify:  "INVALID_ID_INFORMATION",
			Lines:   lines,
			Why:     fmt.Sprintf("%s proposes %s mode, and %s is set to %s mode", a.i.name(), mine, a.r.name(), theirs),
			Changes: []string{"set the same mode on both ends"},
		}
	}
	c.Notes = append(c.Notes, "one end is set to transport mode, the other to tunnel mode: tunnel mode is used")
	return nil
}

// beet agrees where an end is set to bound end-to-end tunnel mode: IKEv2 makes tunnel mode of it, and IKEv1 fails where the
// responder is set to it, and leaves the ends in different modes where only the initiator is (seen with strongSwan 5.9.8).
func (a *attempt) beet(c *Child, mine, theirs ike.Mode, lines [2]source.Pos, step Step) *Failure {
	if a.Version == ike.V2 {
		c.Notes = append(c.Notes, "beet mode is not negotiated: it becomes tunnel mode")
		return nil
	}
	if theirs == ike.BEET {
		return &Failure{
			Topic:   Mode,
			Step:    step,
			Notify:  "INVALID_ID_INFORMATION",
			Lines:   lines,
			Why:     "beet mode cannot be negotiated with IKEv1",
			Changes: []string{"set tunnel mode on both ends"},
		}
	}
	c.Mode, c.BrokenAt = mine, lines
	c.Broken = fmt.Sprintf(
		"%s uses beet mode and %s %s mode: the child comes up, and no packet is accepted",
		a.i.name(),
		a.r.name(),
		theirs,
	)
	return nil
}

// quickTransport asks whether an IKEv1 initiator in transport mode has anything to ask for: where its selectors do not hold
// the gateways' own addresses, the daemon gives up and takes the IKE SA down with it.
func (a *attempt) quickTransport() *Failure {
	if a.Version != ike.V1 || len(a.i.c.Children) == 0 {
		return nil
	}
	k := a.i.c.Children[0]
	local, remote := a.offered(k)
	if !minds(a.i, k.Mode.Value) || a.hosts(local, remote) {
		return nil
	}
	return &Failure{
		Topic: Mode,
		Step:  QuickMode,
		Lines: [2]source.Pos{k.Mode.Where(k.At)},
		Why: fmt.Sprintf(
			"in transport mode only the gateways' own addresses can be protected, and the selectors of %s do not hold them",
			a.i.name(),
		),
		Changes: []string{fmt.Sprintf("set tunnel mode on both ends, or leave the selectors of %s out", a.i.name())},
	}
}

// suite chooses the child's suite.
func (a *attempt) suite(c *Child, k *model.Child, step Step) *Failure {
	mine, theirs := a.public(a.i, k.Proposals.Value), a.public(a.r, c.With.Takes())
	decides := a.prefers(a.r.Gateway, a.r.c)
	lines := [2]source.Pos{k.Proposals.Where(k.At), c.With.Proposals.Where(c.With.At)}
	var ok bool
	switch {
	case a.Version == ike.V1:
		offer := a.quickOffer(a.i.c, mine)
		c.Suite, _, ok = ike.Choose(theirs, offer, decides)
		if !ok {
			return &Failure{
				Topic:   a.pfsOr(mine, theirs),
				Step:    step,
				Notify:  "NO_PROPOSAL_CHOSEN",
				Lines:   lines,
				Why:     a.difference(offer, theirs, k.Protocol.Value.String()),
				Changes: a.widen(mine, theirs),
			}
		}
	case step == Auth:
		offer, own := ike.WithoutKeyExchange(mine), ike.WithoutKeyExchange(theirs)
		c.Suite, _, ok = ike.Choose(own, offer, decides)
		if !ok {
			f := &Failure{
				Topic:   Proposals,
				Step:    step,
				Notify:  "NO_PROPOSAL_CHOSEN",
				Lines:   lines,
				Why:     a.difference(offer, own, k.Protocol.Value.String()),
				Changes: a.widen(mine, theirs),
			}
			for _, end := range []struct {
				ps []ike.Proposal
				at side
			}{{offer, a.i}, {own, a.r}} {
				if len(end.ps) > 0 {
					continue
				}
				such := "a cipher that is not combined (AEAD), with integrity"
				if end.at.c.Daemon.StripsPrivate {
					such = "algorithms with numbers of IANA's, none for private use"
				}
				f.Changes = []string{fmt.Sprintf("on %s propose what its daemon does not leave out: %s", end.at.name(), such)}
			}
			return f
		}
	default:
		c.Suite, ok = create(mine, theirs, decides)
		if !ok {
			return &Failure{
				Topic:   a.pfsOr(mine, theirs),
				Step:    step,
				Notify:  "NO_PROPOSAL_CHOSEN",
				Lines:   lines,
				Why:     a.difference(mine, theirs, k.Protocol.Value.String()),
				Changes: a.widen(mine, theirs),
			}
		}
	}
	a.truncated(c, k)
	return nil
}

// truncated notes where the two ends cut HMAC-SHA2-256 to different lengths.
func (a *attempt) truncated(c *Child, k *model.Child) {
	if integrity := c.Suite.Transforms[ike.Integrity]; integrity.Algorithm != nil && integrity.ID == 12 &&
		k.Cut96.Value != c.With.Cut96.Value {
		long, short := a.r.name(), a.i.name()
		if c.With.Cut96.Value {
			long, short = short, long
		}
		c.Broken = fmt.Sprintf(
			"%s truncates HMAC-SHA2-256 to 96 bits and %s to 128: the child comes up, and no packet is accepted",
			short,
			long,
		)
		c.BrokenAt = [2]source.Pos{k.Cut96.Where(k.At), c.With.Cut96.Where(c.With.At)}
	}
}

// installed asks whether the kernels of both ends take what was agreed on.
func (a *attempt) installed(c *Child, k *model.Child, step Step) *Failure {
	for _, end := range []struct {
		at side
		of *model.Child
	}{{a.r, c.With}, {a.i, k}} {
		for _, one := range c.Suite.Transforms {
			if one.Algorithm == nil || !end.of.Lacks.Has(one) {
				continue
			}
			if !end.of.OnLinux {
				c.Notes = append(c.Notes, fmt.Sprintf("%s 7.2 cannot install %s on Linux, which other files of %s are from; where it runs "+
					"there, say so in toril.yaml (versions: \"%s 7.2 on Linux\")", end.at.c.Daemon.Name, one.Label(), end.at.name(),
					end.at.c.Daemon.Name))
				break
			}
			return &Failure{
				Topic: Proposals,
				Step:  step,
				Lines: [2]source.Pos{k.Proposals.Where(k.At), c.With.Proposals.Where(c.With.At)},
				Why: fmt.Sprintf("both ends agree on %s, which the kernel of %s does not take from its daemon", one.Label(),
					end.at.name()),
				Changes: []string{fmt.Sprintf("on %s propose another algorithm for the child", end.at.name())},
			}
		}
	}
	return nil
}

// pfsOr tells a failure for want of a common key exchange from others.
func (a *attempt) pfsOr(mine, theirs []ike.Proposal) Topic {
	if _, _, ok := ike.Choose(ike.WithoutKeyExchange(theirs), ike.WithoutKeyExchange(mine), ike.OwnOrder); ok {
		return PFS
	}
	return Proposals
}

// quickOffer is what an IKEv1 initiator proposes in quick mode: proposals of one group, or of none.
func (a *attempt) quickOffer(of *model.Connection, ps []ike.Proposal) []ike.Proposal {
	group := ike.QuickModeGroup(ps, a.IKE.Transforms[ike.KeyExchange])
	var out []ike.Proposal
	for _, p := range ps {
		switch {
		case group.Algorithm == nil:
			p.Transforms[ike.KeyExchange] = nil
		case !p.Transforms[ike.KeyExchange].Has(group):
			continue
		default:
			p.Transforms[ike.KeyExchange] = ike.Choices{group}
		}
		out = append(out, p)
	}
	if of.Daemon.FollowsV1 {
		return out
	}
	return ike.OfferV1(out)
}

// create chooses a suite in an exchange with a key exchange of its own (RFC 7296 section 1.3.1). An initiator whose first
// group of all is none sends no share, so that all of its proposals go without; it takes back only what one of them allows.
func create(initiator, responder []ike.Proposal, decides ike.Preference) (ike.Suite, bool) {
	offer := initiator
	first := ike.FirstGroup(initiator)
	without := first.Algorithm == nil || first.ID == 0
	if without {
		offer = ike.WithoutKeyExchange(initiator)
	}
	s, at, ok := ike.Choose(responder, offer, decides)
	if !ok || !without {
		return s, ok
	}
	own := initiator[at].Transforms[ike.KeyExchange]
	if len(own) > 0 && !slices.ContainsFunc(own, func(c ike.Choice) bool { return c.ID == 0 }) {
		return s, false
	}
	return s, true
}

// narrowed notes what of the configured selectors never passes.
func (a *attempt) narrowed(c *Child, k *model.Child, local, remote ike.Selectors) {
	if c.BrokenBy == Selectors { // nothing is left of them
		return
	}
	for _, side := range []struct {
		what        string
		have, taken ike.Selectors
	}{{"local", k.Local.Value.At(a.i.own), c.Local}, {"remote", k.Remote.Value.At(a.target()), c.Remote}} {
		if lost := side.have.Packets().Minus(side.taken.Packets()); !lost.Empty() {
			c.Notes = append(
				c.Notes,
				fmt.Sprintf("the %s selectors of %s are %s, and only %s is negotiated", side.what, a.i.name(), side.have, side.taken),
			)
		}
	}
	_, _ = local, remote
}

// public leaves out of proposals what a daemon does not say under IKEv2: algorithms for private use, and proposals that need them.
func (a *attempt) public(s side, ps []ike.Proposal) []ike.Proposal {
	private := func(x ike.Choice) bool { return x.Algorithm != nil && x.ID >= 1024 }
	has := func(p ike.Proposal) bool { return slices.ContainsFunc(p.All(), private) }
	if a.Version != ike.V2 || !s.c.Daemon.StripsPrivate || !slices.ContainsFunc(ps, has) {
		return ps
	}
	peer := a.other(s)
	if s.Gateway.Options.PrivateAlgorithms.Value || peer.c.Daemon.StripsPrivate && peer.Gateway.Options.ShowsVendor.Value {
		return ps
	}
	if !s.Gateway.Told.Daemon {
		a.assume("the settings of the IKE daemon of %s as a whole were not given: by default it leaves out algorithms for private use",
			s.Gateway.Name)
	}
	var out []ike.Proposal
next:
	for _, p := range ps {
		for r := range p.Transforms {
			some := len(p.Transforms[r])
			p.Transforms[r] = slices.DeleteFunc(slices.Clone(p.Transforms[r]), private)
			if some > 0 && len(p.Transforms[r]) == 0 {
				continue next
			}
		}
		out = append(out, p)
	}
	return out
}

// renewal is what an end proposes, or takes, when the keys of a child are renewed under IKEv2.
func (a *attempt) renewal(c *Child, k *model.Child) []ike.Proposal {
	if !a.alike(c, k) {
		return k.Proposals.Value
	}
	p := ike.Proposal{Protocol: c.Suite.Protocol}
	for _, r := range ike.TypesShown() {
		if one := c.Suite.Transforms[r]; one.Algorithm != nil {
			p.Transforms[r] = ike.Choices{one}
		}
	}
	p.Transforms[ike.KeyExchange] = ike.Choices{a.IKE.Transforms[ike.KeyExchange]}
	return []ike.Proposal{p}
}

// owner is the end that a child is of.
func (a *attempt) owner(c *Child, k *model.Child) side {
	if k == c.Of {
		return a.i
	}
	return a.r
}

// alike reports whether a child is renewed as it is, with the group of the IKE SA.
func (a *attempt) alike(c *Child, k *model.Child) bool {
	return a.Version == ike.V2 && a.owner(c, k).c.Daemon.Renews.Alike && k.PFS.Value
}

// sendsAnother reports whether whoever renews a child sends the share of another group than the one that the other end takes, which does
// not ask for that: it says INVALID_SYNTAX, and the IKE SA goes too (seen with strongSwan 5.9.8 and Libreswan 4.10).
func (a *attempt) sendsAnother(c *Child, takes *model.Child, asked []ike.Proposal) bool {
	sent := ike.FirstGroup(asked)
	return a.alike(c, takes) && sent.Algorithm != nil && sent.ID != 0 && !sent.Same(a.IKE.Transforms[ike.KeyExchange])
}

// rekeyChild says when the child's keys are renewed, and whether that succeeds.
func (a *attempt) rekeyChild(c *Child, k *model.Child) {
	i, r := k.Rekey.Value, c.With.Rekey.Value
	re := &c.Rekey
	prefers := func(of *model.Child) ike.Preference {
		s := a.owner(c, of)
		return a.prefers(s.Gateway, s.c)
	}
	by := func(initiator, responder *model.Child) (ike.Suite, Outcome) {
		if a.Version == ike.V1 { // a quick mode like the first, the other way round where the responder begins it
			if initiator == k {
				return c.Suite, Agrees
			}
			if s, _, ok := ike.Choose(responder.Takes(), a.quickOffer(a.r.c, initiator.Proposals.Value),
				prefers(responder)); ok &&
				a.reverses(initiator, responder) {
				return s, Agrees
			}
			return ike.Suite{}, Fails
		}
		asked := a.renewal(c, initiator)
		if a.owner(c, initiator).c.Daemon.Renews.NoSecondGroup {
			return a.renewOnce(asked, a.renewal(c, responder), initiator, responder, c)
		}
		if a.answersMore(c, initiator, responder) {
			return ike.Suite{}, Fails
		}
		if s, ok := create(asked, a.renewal(c, responder), prefers(responder)); ok && !a.sendsAnother(c, responder, asked) {
			return s, Agrees
		}
		return ike.Suite{}, Fails
	}
	suiteI, outI := by(k, c.With)
	suiteR, outR := by(c.With, k)
	re.ByInitiator, re.ByResponder = outI, outR
	life := func(x *model.Child) time.Duration { return x.Life.Value }
	re.when(i, a.responded(r, c.With.Margin.Value), a.i.name(), a.r.name())
	switch re.By {
	case "":
		re.Outcome = Never
		if l := least(life(k), life(c.With)); l > 0 {
			re.After, re.Ends = l, l
		}
		return
	case a.i.name():
		re.Outcome, re.Suite = outI, suiteI
	default:
		re.Outcome, re.Suite = outR, suiteR
	}
	if re.Outcome == Agrees {
		return
	}
	re.Ends = least(life(k), life(c.With))
	begins, takes := k, c.With
	if re.By == a.r.name() {
		begins, takes = takes, begins
	}
	re.Failure = a.renewalFails(c, begins, takes)
}

// responded is when the responder renews what its own lifetime and margin would have it renew after a time; 0 where it never does.
func (a *attempt) responded(after, margin time.Duration) time.Duration {
	if after > 0 && a.r.c.Daemon.Renews.HalfMargin {
		after += margin / 2
	}
	return after
}

// when notes who renews first, after which time: of the initiator's and the responder's, each 0 where it never does.
func (re *Rekey) when(i, r time.Duration, initiator, responder string) {
	switch {
	case i == 0 && r == 0:
	case r == 0 || i > 0 && i <= r:
		re.After, re.By, re.Later, re.LaterBy = i, initiator, r, responder
	default:
		re.After, re.By, re.Later, re.LaterBy = r, responder, i, initiator
	}
}

// renewOnce renews a child with the share of one group, or none, and takes no other.
func (a *attempt) renewOnce(asked, taken []ike.Proposal, initiator, responder *model.Child, c *Child) (ike.Suite, Outcome) {
	to := a.owner(c, responder)
	s, _, ok := ike.Choose(taken, asked, a.prefers(to.Gateway, to.c))
	if !ok || a.sendsAnother(c, responder, asked) {
		return s, Fails
	}
	sent, chosen := ike.FirstGroup(asked[:1]), s.Transforms[ike.KeyExchange]
	switch {
	case to.c.Daemon.Children.OwnSelectors:
	case chosen.Algorithm != nil && (sent.Algorithm == nil || !sent.Same(chosen)): // asked for another, it gives up
		return s, Fails
	case chosen.Algorithm == nil && sent.Algorithm != nil && to.c.Daemon.Renews.Alike: // a share that nobody needs
		return s, Fails
	}
	return s, Agrees
}

// answersMore reports whether the end that takes the renewal of a child answers with its own selectors, which are more than the other end
// has for the child and takes.
func (a *attempt) answersMore(c *Child, begins, takes *model.Child) bool {
	one, other := a.owner(c, begins), a.owner(c, takes)
	if !other.c.Daemon.Children.OwnSelectors || !one.c.Daemon.Children.WithinAsked {
		return false
	}
	local, remote := c.Local, c.Remote
	if begins != c.Of {
		local, remote = remote, local
	}
	return !holds(remote, takes.Local.Value.At(other.own)) || !holds(local, takes.Remote.Value.At(one.own))
}

// renewalFails says why one end's renewal of a child fails.
func (a *attempt) renewalFails(c *Child, begins, takes *model.Child) *Failure {
	asked, taken := a.renewal(c, begins), a.renewal(c, takes)
	one, other := a.owner(c, begins), a.owner(c, takes)
	f := &Failure{
		Topic:  PFS,
		Step:   Create,
		Notify: "NO_PROPOSAL_CHOSEN",
		Lines:  [2]source.Pos{c.Of.Proposals.Where(c.Of.At), c.With.Proposals.Where(c.With.At)},
		Why:    a.pfsDiffers(c),
	}
	s, _, ok := ike.Choose(taken, asked, a.prefers(other.Gateway, other.c))
	if ok && one.c.Daemon.Renews.NoSecondGroup && !a.alike(c, takes) {
		wants := s.Transforms[ike.KeyExchange]
		f.Notify = "INVALID_KE_PAYLOAD"
		f.Why = fmt.Sprintf("%s renews with a share of the first group of its first proposal, %s; %s takes %s, and %s does not try again",
			one.name(), shareOf(asked), other.name(), exchangeOf(wants), one.name())
		f.Changes = []string{fmt.Sprintf("on %s name %s first for the child", one.name(), exchangeOf(wants))}
		if wants.Algorithm == nil {
			f.Notify, f.Changes = "", []string{fmt.Sprintf("on %s name no group in the first proposal of the child", one.name())}
		}
		return f
	}
	if a.answersMore(c, begins, takes) {
		f.Topic, f.Notify = Selectors, "TS_UNACCEPTABLE"
		f.Lines = [2]source.Pos{c.Of.Remote.Where(c.Of.At), c.With.Local.Where(c.With.At)}
		f.Why = fmt.Sprintf("%s renews the child with what was narrowed; %s answers with %s to %s, which is more, and %s takes no more "+
			"than it asks for", one.name(), other.name(), takes.Local.Value, takes.Remote.Value, one.name())
		f.Changes = []string{"set the same networks on both ends"}
		return f
	}
	ofIKE := a.IKE.Transforms[ike.KeyExchange]
	if _, ok := create(asked, taken, a.prefers(other.Gateway, other.c)); ok && a.sendsAnother(c, takes, asked) {
		f.Notify = "INVALID_SYNTAX"
		f.Why = fmt.Sprintf("%s renews with the key exchange that its proposals name first, %s; "+
			"%s takes that of the IKE SA alone, %s, and does not ask for it: the IKE SA is closed",
			one.name(), ike.FirstGroup(asked).Label(), other.name(), ofIKE.Label())
		f.Changes = []string{fmt.Sprintf("on %s name %s first for the child", one.name(), ofIKE.Label())}
		return f
	}
	for _, x := range []struct {
		at   side
		k    *model.Child
		adds []ike.Proposal
		has  []ike.Proposal
		from side
	}{{other, takes, asked, taken, one}, {one, begins, taken, asked, other}} {
		if groupStrength(x.adds) >= groupStrength(x.has) && !a.alike(c, x.k) {
			f.Changes = append(f.Changes, fmt.Sprintf("on %s, add the group of %s to the child's proposals (%s)", x.at.name(),
				x.from.name(), groupsOf(x.adds)))
		}
	}
	if len(f.Changes) == 0 { // the weaker group is that of the IKE SA
		better := asked
		if groupStrength(taken) > groupStrength(asked) {
			better = taken
		}
		f.Changes = []string{fmt.Sprintf("on both ends name a group of the child first for the IKE SA too (%s)", groupsOf(better))}
	}
	return f
}

// shareOf is the key exchange of which an end sends its share that looks at its first proposal alone.
func shareOf(ps []ike.Proposal) string { return exchangeOf(ike.FirstGroup(ps[:1])) }

func exchangeOf(c ike.Choice) string {
	if c.Algorithm == nil || c.ID == 0 {
		return "none"
	}
	return c.Label()
}

// reverses reports whether the selectors that the responder would ask for in quick mode fit the initiator's child.
func (a *attempt) reverses(asks, answers *model.Child) bool {
	local, remote := asks.Local.Value.At(a.r.own).Reduce(), asks.Remote.Value.At(a.source()).Reduce()
	if len(local) == 0 || len(remote) == 0 {
		return false
	}
	return fit(answers.Remote.Value.At(a.target()), local[:1]) > 0 && fit(answers.Local.Value.At(a.i.own), remote[:1]) > 0
}

func least(a, b time.Duration) time.Duration {
	switch {
	case a == 0:
		return b
	case b == 0:
		return a
	}
	return min(a, b)
}

func groupsOf(ps []ike.Proposal) string {
	if cs := ike.All(ps, ike.KeyExchange); len(cs) > 0 {
		return cs.Labels()
	}
	return "none"
}

// groupStrength is the strength in bits of the strongest group of proposals; 0 for none.
func groupStrength(ps []ike.Proposal) int {
	best := 0
	for _, c := range ike.All(ps, ike.KeyExchange) {
		if c.ID != 0 {
			best = max(best, c.Strength())
		}
	}
	return best
}

func (a *attempt) pfsDiffers(c *Child) string {
	groups := func(k *model.Child) string {
		out := groupsOf(a.renewal(c, k))
		if a.alike(c, k) {
			out += " (that of the IKE SA, whatever the child's proposals name)"
		}
		return out
	}
	return fmt.Sprintf(
		"perfect forward secrecy: %s on %s, %s on %s. The first child SA is set up without a key exchange of its own, so it comes "+
			"up; rekeying needs a common one",
		groups(c.Of),
		a.i.name(),
		groups(c.With),
		a.r.name(),
	)
}
