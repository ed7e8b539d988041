// Package negotiate predicts what two ends of a tunnel would agree on, from their configurations alone: for either of them
// as the initiator, the IKE SA, the authentication, every child, and what becomes of both when their keys are renewed.
// IKEv2 is as RFC 7296 describes it, IKEv1 as RFC 2409 does; where the documents leave a choice, the daemons decided that
// were asked (see the laboratory).
package negotiate

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"toril/ike"
	"toril/model"
	"toril/packet"
	"toril/pair"
	"toril/source"
)

// Outcome is how an attempt, or a part of it, ends.
type Outcome string

// The outcomes.
const (
	Agrees  Outcome = "agrees"   // all of it comes up
	Partly  Outcome = "partly"   // the IKE SA does, and not every child
	Fails   Outcome = "fails"    // it does not come up
	NoStart Outcome = "no start" // this end cannot begin: it does not know where its peer is, or its daemon refuses the connection
	Never   Outcome = "never"    // of a rekey: neither end renews the keys
)

// Step is where an attempt failed.
type Step string

// The steps: the exchanges of RFC 7296, and the modes of RFC 2409.
const (
	Local      Step = "start"           // before anything is sent
	Init       Step = "IKE_SA_INIT"     // RFC 7296 section 1.2
	Auth       Step = "IKE_AUTH"        // RFC 7296 section 1.2
	Create     Step = "CREATE_CHILD_SA" // RFC 7296 section 1.3
	MainMode   Step = "main mode"       // RFC 2409 section 5
	Aggressive Step = "aggressive mode"
	QuickMode  Step = "quick mode" // RFC 2409 section 5.5
)

// Topic is what a failure is about.
type Topic string

// The topics.
const (
	Refused      Topic = "refused"       // a daemon would not load the connection
	AnswersOnly  Topic = "responds only" // an end that does not know where its peer is
	Address      Topic = "address"       // where the ends are
	Version      Topic = "version"       // of IKE
	Proposals    Topic = "proposals"     // of the IKE SA or of a child
	Method       Topic = "method"        // of authentication, and IKEv1's mode
	Identity     Topic = "identity"
	Key          Topic = "key"          // the pre-shared key
	Certificates Topic = "certificates" // who signed them
	Childless    Topic = "childless"
	Selectors    Topic = "selectors"
	Mode         Topic = "mode" // tunnel or transport
	PFS          Topic = "pfs"
)

// Failure is why an attempt, or a part of it, fails.
type Failure struct {
	Topic  Topic
	Step   Step
	Notify string // what the peer is told (IANA's name); "" where nothing is sent
	Why    string
	// Lines are one line of either end that disagree: the initiator's first. One of them may be nowhere.
	Lines [2]source.Pos
	// Changes are the smallest changes that would fix it: of the initiator's configuration or of the responder's.
	Changes []string

	rejected bool // the initiator does not take the responder's answer
}

// Attempt is what happens when one end sets up the tunnel.
type Attempt struct {
	Initiator, Responder pair.End
	Outcome              Outcome
	Failure              *Failure // of the IKE SA
	Version              ike.Version
	Aggressive           bool
	IKE                  ike.Suite // valid unless Failure is set
	Retry                bool      // the responder asks for another group than the one that was guessed (INVALID_KE_PAYLOAD)
	Method               ike.Method
	Rekey                Rekey // of the IKE SA
	Children             []Child
	Doubts               model.Doubts // why it may end otherwise: what was not understood, or not given
	Assumes              []string     // what was not given and taken to fit: the pre-shared keys, for one
	Notes                []string
}

// Child is what becomes of one child of the initiator.
type Child struct {
	Of      *model.Child // the initiator's
	With    *model.Child // the responder's; nil where none fits
	Outcome Outcome
	Failure *Failure
	Suite   ike.Suite
	Mode    ike.Mode
	Local   ike.Selectors // of the initiator, as narrowed
	Remote  ike.Selectors
	Rekey   Rekey
	Notes   []string
	// Broken says why no packet passes although the child comes up; "" where packets do. BrokenAt is a line of either end.
	Broken   string
	BrokenBy Topic
	BrokenAt [2]source.Pos
}

// Rekey is what happens when keys are renewed.
type Rekey struct {
	Outcome Outcome // Agrees, Fails or Never: of what the end does that renews first
	After   time.Duration
	By      string        // the gateway that renews first; "" for Never
	Later   time.Duration // when the other end would; 0: it never does
	LaterBy string        // the other end; "" for Never
	Failure *Failure      // of the IKE SA also where only the end fails that does not renew first
	// Ends is, where renewal fails, when the SA is closed for good; 0 where it is not.
	Ends time.Duration
	// ByInitiator and ByResponder are the outcomes if one or the other renews.
	ByInitiator, ByResponder Outcome
	Suite                    ike.Suite
}

// Tunnel predicts the attempts of both ends of a tunnel; of one end where the far gateway was given and has no connection
// for it; none where it was not given. An attempt meets a gateway: which of its connections answers is for its daemon to
// choose.
func Tunnel(t *pair.Tunnel) []Attempt {
	switch {
	case len(t.Ends) == 2:
		return []Attempt{try(t, t.Ends[0], t.Ends[1]), try(t, t.Ends[1], t.Ends[0])}
	case t.Toward != nil:
		return []Attempt{try(t, t.Ends[0], pair.End{Gateway: t.Toward})}
	}
	return nil
}

// side is one end with the addresses that it is thought to use.
type side struct {
	pair.End
	c    *model.Connection
	own  netip.Addr
	peer netip.Addr // where it expects the other
}

func (s side) name() string { return s.Gateway.Name }

// attempt is an Attempt in the making.
type attempt struct {
	Attempt
	t    *pair.Tunnel
	i, r side
	meet []*model.Connection // those of the responder that may answer, the one that its daemon prefers first
}

func try(t *pair.Tunnel, from, to pair.End) Attempt {
	a := begin(t, from, to)
	a.of(from)
	a.of(to)
	if to.Connection == nil && !to.Gateway.Told.IKE {
		a.Doubts.Add(&model.Doubt{Cause: model.NotGiven, Gateway: to.Gateway.Name, Of: model.IKEConfiguration,
			Why: "the IKE configuration of " + to.Gateway.Name + " was not given"})
	}
	a.run()
	a.Responder = a.r.End
	return a.Attempt
}

// of notes what was not understood of an end: of its connection and the children of that, and of the daemon's configuration as a whole.
func (a *attempt) of(end pair.End) {
	a.Doubts.Add(end.Gateway.Doubts(model.AboutIKE)...)
	if c := end.Connection; c != nil {
		a.Doubts.Add(c.Doubts...)
		for _, k := range c.Children {
			a.Doubts.Add(k.Doubts...)
		}
	}
}

// assume notes what was not given and is taken to fit.
func (a *attempt) assume(format string, args ...any) {
	a.Assumes = append(a.Assumes, fmt.Sprintf(format, args...))
}

// Bare reports whether the IKE SA comes up, and no child of it.
func (a *Attempt) Bare() bool {
	return a.Outcome == Partly && !slices.ContainsFunc(a.Children, func(c Child) bool { return c.Outcome == Agrees })
}

// PartlyUp says in words what comes up where not all does.
func (a *Attempt) PartlyUp() string {
	if a.Bare() {
		return "the IKE SA comes up, and no child"
	}
	return "the IKE SA comes up, but not every child"
}

// Unsure says why the attempt may end otherwise, or what it rests on that was not given; "" for nothing.
func (a *Attempt) Unsure() string { return strings.Join(append(a.Doubts.Says(), a.Assumes...), "; ") }

// begin makes an attempt of which nothing is predicted yet.
func begin(t *pair.Tunnel, from, to pair.End) *attempt {
	a := &attempt{t: t}
	a.Initiator, a.Responder = from, to
	a.i = side{from, from.Connection, t.Own(from), t.Peer(from)}
	a.r = side{End: to, c: to.Connection}
	if to.Connection != nil {
		a.r.own, a.r.peer = t.Own(to), t.Peer(to)
	}
	a.Version = a.i.c.Version.Value
	if a.Version == ike.Either {
		a.Version = ike.V2
	}
	a.Aggressive = a.Version == ike.V1 && a.i.c.Aggressive.Value
	return a
}

// run goes through the steps until one fails.
func (a *attempt) run() {
	for _, step := range []func() *Failure{a.start, a.address, a.version, a.proposals, a.authenticate, a.quickTransport} {
		if f := step(); f != nil {
			a.Failure, a.Outcome = f, Fails
			if f.Step == Local {
				a.Outcome = NoStart
			}
			return
		}
	}
	a.rekeyIKE()
	a.children()
	up, down := 0, 0
	for _, c := range a.Children {
		if c.Outcome == Agrees {
			up++
		} else {
			down++
		}
	}
	a.Outcome = Agrees
	if down > 0 {
		a.Outcome = Partly
	}
	a.withoutChild()
}

// withoutChild takes the IKE SA away where the child that is made along with it fails and an end keeps none without.
func (a *attempt) withoutChild() {
	if len(a.Children) == 0 || a.Children[0].Failure == nil || a.startsChildless() {
		return
	}
	answer := !a.Children[0].Failure.rejected && a.r.c.Daemon.Children.OrNone
	if !answer && !a.i.c.Daemon.Children.OrNone {
		return
	}
	a.Failure, a.Outcome = a.Children[0].Failure, Fails
	a.Children = nil
}

// phase1 is the step in which the IKE SA's proposals are exchanged.
func (a *attempt) phase1() Step {
	switch {
	case a.Version == ike.V2:
		return Init
	case a.Aggressive:
		return Aggressive
	}
	return MainMode
}

func (a *attempt) authStep() Step {
	if a.Version == ike.V2 {
		return Auth
	}
	return a.phase1()
}

// start asks whether the initiator can begin at all.
func (a *attempt) start() *Failure {
	c := a.i.c
	if c.Unusable != nil {
		return &Failure{
			Topic:   Refused,
			Step:    Local,
			Why:     fmt.Sprintf("the daemon of %s refuses the connection: %s", a.i.name(), c.Unusable.Message),
			Lines:   [2]source.Pos{c.Unusable.Pos},
			Changes: []string{fmt.Sprintf("correct %s", c.Unusable.Pos)},
		}
	}
	first := model.Address{Any: true}
	if as := c.RemoteAddrs.Value; len(as) > 0 {
		first = as[0]
	}
	if _, single := first.Single(); !single && first.Name == "" {
		return &Failure{
			Topic:   AnswersOnly,
			Step:    Local,
			Why:     fmt.Sprintf("%s names no single address of its peer (%s), so it can only respond", a.i.name(), c.RemoteAddrs.Value),
			Lines:   [2]source.Pos{c.RemoteAddrs.Where(c.At)},
			Changes: []string{fmt.Sprintf("name the address of %s as the peer's on %s", a.r.name(), a.i.name())},
		}
	}
	return nil
}

// address asks whether the initiator's packets reach the responder, and whether that has a connection for their source.
func (a *attempt) address() *Failure {
	to, single := a.i.c.RemoteAddrs.Value[0].Single()
	if c := a.r.c; c != nil && single {
		lines := [2]source.Pos{a.i.c.RemoteAddrs.Where(a.i.c.At), c.LocalAddrs.Where(c.At)}
		if owns := c.LocalAddrs.Value; !owns.Any() && !covers(owns, to) && !a.behindNAT(a.r, to) && !a.answersAt(to) {
			return &Failure{
				Topic: Address,
				Step:  a.phase1(),
				Why:   fmt.Sprintf("%s sends to %s, and %s responds at %s only", a.i.name(), to, a.r.name(), owns),
				Lines: lines,
				Changes: []string{
					fmt.Sprintf("on %s set the peer's address to %s", a.i.name(), owns),
					fmt.Sprintf("on %s set the local address to %s", a.r.name(), to),
				},
			}
		}
	}
	if f := a.ports(); f != nil {
		return f
	}
	a.meet = a.candidates(to)
	for _, c := range a.r.Gateway.Connections { // one that was not wholly understood may be the one that answers
		if slices.Contains(a.meet, c) || c.RemoteAddrs.IsDefault() {
			a.Doubts.Add(c.Doubts...)
		}
	}
	if len(a.meet) > 0 {
		return nil
	}
	if a.r.c == nil {
		return &Failure{
			Topic:   Address,
			Step:    a.phase1(),
			Notify:  "NO_PROPOSAL_CHOSEN",
			Why:     a.nobody(),
			Lines:   [2]source.Pos{a.i.c.At},
			Changes: []string{fmt.Sprintf("on %s add a connection for %s, or remove the one on %s", a.r.name(), a.i.name(), a.i.name())},
		}
	}
	expected := a.r.c.RemoteAddrs.Value
	return &Failure{
		Topic:  Address,
		Step:   a.phase1(),
		Notify: "NO_PROPOSAL_CHOSEN",
		Why: fmt.Sprintf(
			"%s sends from %s, and %s has no connection for that address, only for %s",
			a.i.name(),
			a.i.own,
			a.r.name(),
			expected,
		),
		Lines:   [2]source.Pos{a.i.c.LocalAddrs.Where(a.i.c.At), a.r.c.RemoteAddrs.Where(a.r.c.At)},
		Changes: []string{fmt.Sprintf("on %s set the peer's address to %s", a.r.name(), a.i.own)},
	}
}

// nobody says that the responder has no connection for the initiator.
func (a *attempt) nobody() string {
	if from := a.source(); from.IsValid() {
		return fmt.Sprintf("%s has no connection for a peer at %s", a.r.name(), from)
	}
	return fmt.Sprintf("%s has no connection for %s", a.r.name(), a.i.name())
}

// answersAt reports whether any connection of the responder answers at an address.
func (a *attempt) answersAt(to netip.Addr) bool {
	return slices.ContainsFunc(a.r.Gateway.Accepting(a.i.own), func(c *model.Connection) bool { return covers(c.LocalAddrs.Value, to) })
}

// candidates are the connections of the responder that are for the initiator's address and for the one that it sends to, those
// that say so exactly first: a daemon prefers its own address, then the peer's, then the order of its file, unless it has an order of its
// own.
func (a *attempt) candidates(to netip.Addr) []*model.Connection {
	type ranked struct {
		c    *model.Connection
		rank int
	}
	var all []ranked
	list := a.r.Gateway.Accepting(a.i.own)
	if a.r.c != nil && !slices.Contains(list, a.r.c) &&
		(a.natted(a.r.c.RemoteAddrs.Value) || !a.i.own.IsValid() || hasName(a.r.c.RemoteAddrs.Value)) {
		list = append([]*model.Connection{a.r.c}, list...)
	}
	if len(list) > 0 && list[0].Daemon.Answers.LatestFirst {
		list = slices.Clone(list)
		slices.Reverse(list)
	}
	for _, c := range list {
		own := nearness(c.LocalAddrs.Value, to)
		if own == 0 && !to.IsValid() || own == 0 && c == a.r.c { // behind NAT, or a name: taken to reach it
			own = 1
		}
		peer := nearness(c.RemoteAddrs.Value, a.i.own)
		if peer == 0 && (c == a.r.c || hasName(c.RemoteAddrs.Value)) {
			peer = 1
		}
		rank := own*1000 + peer
		if c.Turn > 0 {
			rank = c.Turn
		}
		if own > 0 && peer > 0 && !shunt(c) && !c.NeverAsked {
			all = append(all, ranked{c, rank})
		}
	}
	slices.SortStableFunc(all, func(x, y ranked) int { return y.rank - x.rank })
	out := make([]*model.Connection, len(all))
	for i, r := range all {
		out[i] = r.c
	}
	return out
}

// nearness says how closely a list of addresses means one: more for it alone, less for a network or a range, 1 for any.
func nearness(as model.Addresses, a netip.Addr) int {
	if len(as) == 0 {
		return 1
	}
	best := 0
	for _, one := range as {
		_, single := one.Single()
		switch {
		case one.Any:
			best = max(best, 1)
		case !a.IsValid() || !one.Covers(a):
		case single:
			best = max(best, 200)
		default:
			best = max(best, 2+packet.Range(packet.Src, one.Lo, one.Hi).Prefixes(packet.Src)[0].Bits())
		}
	}
	return best
}

// shunt reports whether a connection only lets packets pass, or drops them, and answers nobody.
func shunt(c *model.Connection) bool {
	return len(c.Children) > 0 && !slices.ContainsFunc(c.Children, func(k *model.Child) bool { return answers(c, k) })
}

// ports asks whether each daemon listens at the port that its peer sends to: those of RFC 7296, unless configured otherwise.
func (a *attempt) ports() *Failure {
	c := a.i.c
	if own := c.LocalPort; own.Value != 500 && own.Value != 4500 && own.Value != 0 && !own.IsDefault() && c.Daemon.FixedPorts {
		return &Failure{
			Topic: Address,
			Step:  Local,
			Why: fmt.Sprintf(
				"the daemon of %s has no socket at port %d, from which the connection is to be set up",
				a.i.name(),
				own.Value,
			),
			Lines:   [2]source.Pos{own.Where(c.At)},
			Changes: []string{fmt.Sprintf("on %s remove the local port, or set the daemon's own port to it", a.i.name())},
		}
	}
	to := c.RemotePort
	if to.IsDefault() || to.Value == 500 || to.Value == 4500 || to.Value == 0 || a.r.c != nil && a.r.c.LocalPort.Value == to.Value {
		return nil
	}
	return &Failure{
		Topic:   Address,
		Step:    a.phase1(),
		Why:     fmt.Sprintf("%s sends to port %d, and %s does not respond there", a.i.name(), to.Value, a.r.name()),
		Lines:   [2]source.Pos{to.Where(c.At)},
		Changes: []string{fmt.Sprintf("on %s remove the peer's port", a.i.name())},
	}
}

func covers(as model.Addresses, a netip.Addr) bool {
	for _, one := range as {
		if one.Covers(a) {
			return true
		}
	}
	return false
}

func hasName(as model.Addresses) bool {
	for _, one := range as {
		if one.Name != "" {
			return true
		}
	}
	return false
}

// behindNAT reports whether an address may be translated to one of a side's private ones.
func (a *attempt) behindNAT(s side, to netip.Addr) bool {
	for _, own := range s.c.LocalAddrs.Value.Fixed() {
		if own.IsPrivate() && !to.IsPrivate() {
			a.Notes = append(a.Notes, fmt.Sprintf("%s is taken to be behind NAT: %s is not its own address %s", s.name(), to, own))
			return true
		}
	}
	return false
}

// natted reports whether the initiator's private source may become one of the addresses that the responder expects.
func (a *attempt) natted(expected model.Addresses) bool {
	if !a.i.own.IsPrivate() {
		return false
	}
	for _, e := range expected.Fixed() {
		if !e.IsPrivate() {
			a.Notes = append(
				a.Notes,
				fmt.Sprintf("%s is taken to be behind NAT: it sends from %s, and %s is expected", a.i.name(), a.i.own, e),
			)
			return true
		}
	}
	return false
}

// version asks whether the responder knows the initiator's version, and its mode.
func (a *attempt) version() *Failure {
	var fitting, loaded []*model.Connection
	for _, c := range a.meet {
		if v := c.Version.Value; v == ike.Either || v == a.Version {
			fitting = append(fitting, c)
			if c.Unusable == nil {
				loaded = append(loaded, c)
			}
		}
	}
	nearest := a.nominal(a.meet)
	if len(fitting) == 0 {
		v := nearest.Version
		return &Failure{
			Topic:   Version,
			Step:    a.phase1(),
			Notify:  "NO_PROPOSAL_CHOSEN",
			Why:     fmt.Sprintf("%s initiates with %s, and %s accepts %s only", a.i.name(), a.Version, a.r.name(), v.Value),
			Lines:   [2]source.Pos{a.i.c.Version.Where(a.i.c.At), v.Where(nearest.At)},
			Changes: []string{fmt.Sprintf("set IKEv2 on %s", map[bool]string{true: a.r.name(), false: a.i.name()}[a.Version == ike.V2])},
		}
	}
	if len(loaded) == 0 {
		e := a.nominal(fitting).Unusable
		return &Failure{
			Topic:   Refused,
			Step:    a.phase1(),
			Notify:  "NO_PROPOSAL_CHOSEN",
			Why:     fmt.Sprintf("the daemon of %s refuses its connection: %s", a.r.name(), e.Message),
			Lines:   [2]source.Pos{{}, e.Pos},
			Changes: []string{fmt.Sprintf("correct %s", e.Pos)},
		}
	}
	a.meet = loaded
	return nil
}

// nominal is the connection of a list that the tunnel names as its other end, otherwise the first.
func (a *attempt) nominal(cs []*model.Connection) *model.Connection {
	if a.r.c != nil && slices.Contains(cs, a.r.c) {
		return a.r.c
	}
	return cs[0]
}

// answers makes a connection of the responder's gateway the one that answers; the addresses are those of the tunnel all the same.
func (a *attempt) answers(c *model.Connection) { a.r.c, a.r.Connection = c, c }

// proposals chooses the IKE SA's suite: under IKEv2 with the first connection that has one for it, under IKEv1 with the
// first alone. Those that could have it are left to choose from.
func (a *attempt) proposals() *Failure {
	asked := a.meet
	if a.Version == ike.V1 || asked[0].Daemon.Answers.AsksOne {
		asked = asked[:1]
	}
	offer := a.offer()
	for _, c := range asked {
		if s, retry, ok := a.negotiate(offer, c); ok {
			a.IKE, a.Retry = s, retry
			a.meet = slices.DeleteFunc(slices.Clone(a.meet), func(c *model.Connection) bool { return !has(c.Takes(), s) })
			return nil
		}
	}
	c := a.nominal(asked)
	own := c.Proposals
	return &Failure{
		Topic:   Proposals,
		Step:    a.phase1(),
		Notify:  "NO_PROPOSAL_CHOSEN",
		Why:     a.difference(offer, own.Value, "IKE"),
		Lines:   [2]source.Pos{a.i.c.Proposals.Where(a.i.c.At), own.Where(c.At)},
		Changes: a.widen(a.i.c.Proposals.Value, own.Value),
	}
}

// offer is what the initiator proposes for the IKE SA.
func (a *attempt) offer() []ike.Proposal {
	offer := a.i.c.Proposals.Value
	if a.Version == ike.V2 {
		return offer
	}
	if !a.i.c.Daemon.FollowsV1 {
		offer = ike.OfferV1(offer)
	}
	if !a.Aggressive {
		return offer
	}
	g := ike.FirstGroup(offer) // the key exchange is done with the first message: all proposals must be of one group
	return slices.DeleteFunc(slices.Clone(offer), func(p ike.Proposal) bool {
		cs := p.Of(ike.KeyExchange)
		return len(cs) == 0 || g.Algorithm == nil || !cs[0].Same(g)
	})
}

// negotiate chooses the suite of an IKE SA. retry says that the responder asks for another group than the one guessed.
func (a *attempt) negotiate(offer []ike.Proposal, c *model.Connection) (s ike.Suite, retry, ok bool) {
	if a.Version == ike.V1 && !c.Daemon.FollowsV1 { // it knows no others of the initiator's
		offer = ike.OfferV1(offer)
	}
	guess, written := ike.FirstGroup(offer), offer
	for range 4 {
		if a.Version == ike.V2 {
			offer = ike.Lead(written, guess)
		}
		s, _, ok = ike.Choose(c.Takes(), offer, a.prefers(a.r.Gateway, c))
		chosen := s.Transforms[ike.KeyExchange]
		if !ok || a.Version == ike.V1 || guess.Algorithm == nil || guess.Same(chosen) {
			break
		}
		retry, guess = true, chosen // asked for another group: once more, with that
	}
	return s, retry, ok
}

// prefers says what decides at a connection of a gateway that answers.
func (a *attempt) prefers(g *model.Gateway, c *model.Connection) ike.Preference {
	switch {
	case g.Options.InitiatorDecides.Value || a.Version == ike.V1 && c.Daemon.FollowsV1:
		return ike.PeerOrder
	case c.Daemon.Answers.Weighs:
		return ike.ByWeight
	}
	return ike.OwnOrder
}

// number is that of the first proposal of a connection that has all of a suite, from 1; 0 for none.
func number(c *model.Connection, s ike.Suite) int {
	for i := range c.Proposals.Value {
		if has(c.Proposals.Value[i:i+1], s) {
			return i + 1
		}
	}
	return 0
}

// has reports whether some proposal of a list has all of a suite.
func has(ps []ike.Proposal, s ike.Suite) bool {
	return slices.ContainsFunc(ps, func(p ike.Proposal) bool {
		for _, r := range ike.TypesShown() {
			if c := s.Transforms[r]; c.Algorithm != nil && !p.Of(r).Has(c) {
				return false
			}
		}
		return true
	})
}

// difference says in what two lists of proposals that share nothing come nearest to each other.
func (a *attempt) difference(offer, own []ike.Proposal, what string) string {
	if len(offer) == 0 {
		if a.Version == ike.V2 {
			return fmt.Sprintf("the daemon of %s has nothing to propose for %s: it leaves out all that it is set to", a.i.name(), what)
		}
		return fmt.Sprintf("nothing that %s is set to propose exists in %s", a.i.name(), a.Version)
	}
	best, missing := [2]int{}, 99
	for x, p := range offer {
		for y, q := range own {
			if n := len(lacking(p, q)); n < missing {
				best, missing = [2]int{x, y}, n
			}
		}
	}
	if len(own) == 0 {
		return fmt.Sprintf("the daemon of %s has nothing for %s: it leaves out all that it is set to", a.r.name(), what)
	}
	p, q := offer[best[0]], own[best[1]]
	var parts []string
	for _, l := range lacking(p, q) {
		parts = append(parts, fmt.Sprintf("%s: %s on %s, %s on %s", l.what, named(l.a), a.i.name(), named(l.b), a.r.name()))
	}
	return fmt.Sprintf("no common %s proposal; the closest two differ in %s", what, strings.Join(parts, "; "))
}

func named(cs ike.Choices) string {
	if len(cs) == 0 {
		return "none"
	}
	return cs.Labels()
}

type lack struct {
	what string
	a, b ike.Choices
}

// lacking returns the types of transform in which two proposals have nothing in common.
func lacking(p, q ike.Proposal) []lack {
	var out []lack
	for _, r := range p.Lacking(q) {
		out = append(out, lack{r.String(), p.Of(r), q.Of(r)})
	}
	if p.Protocol != q.Protocol {
		out = append(out, lack{what: fmt.Sprintf("protocol (%s and %s)", p.Protocol, q.Protocol)})
	}
	return out
}

// widen names the proposal that one end would have to add so that both have one in common: the strongest of the other's, unless
// that is weaker than what it has itself.
func (a *attempt) widen(mine, theirs []ike.Proposal) []string {
	own, far := strongest(mine), strongest(theirs)
	var out []string
	if len(far.All()) > 0 && !weaker(far, own) {
		out = append(out, fmt.Sprintf("on %s add the proposal %s", a.i.name(), far))
	}
	if len(own.All()) > 0 && !weaker(own, far) {
		out = append(out, fmt.Sprintf("on %s add the proposal %s", a.r.name(), own))
	}
	return out
}

// weaker reports whether one suite protects less than another: it has fewer bits of strength, or no key exchange where the other has one.
func weaker(s, than ike.Suite) bool {
	exchanges := func(s ike.Suite) bool {
		return s.Transforms[ike.KeyExchange].Algorithm != nil && s.Transforms[ike.KeyExchange].ID != 0
	}
	if exchanges(s) != exchanges(than) {
		return exchanges(than)
	}
	return s.Strength() < than.Strength()
}

// strongest is the strongest suite that can be made of some proposals.
func strongest(ps []ike.Proposal) (best ike.Suite) {
	for _, p := range ps {
		if s, ok := p.Agree(p); ok && (len(best.All()) == 0 || s.Strength() > best.Strength()) {
			best = s
		}
	}
	return best
}

// rekeyIKE says when the IKE SA is renewed. A renewal takes the same proposals and never fails for them, only for the form in which they
// are sent.
func (a *attempt) rekeyIKE() {
	i, r := a.i.c.Lifetime(), a.r.c.Lifetime()
	a.Rekey = Rekey{Outcome: Agrees, ByInitiator: Agrees, ByResponder: Agrees, Suite: a.IKE}
	if a.Rekey.when(i, a.responded(r, a.r.c.Margin.Value), a.i.name(), a.r.name()); a.Rekey.By == "" {
		a.Rekey.Outcome = Never
	}
	if a.Version != ike.V2 || number(a.i.c, a.IKE) <= 1 || !a.i.c.Daemon.Renews.KeepsNumber || !a.r.c.Daemon.Answers.FirstIsOne {
		return
	}
	a.Rekey.ByInitiator = Fails
	if a.Rekey.By == a.i.name() {
		a.Rekey.Outcome = Fails
	}
	a.Rekey.Failure = &Failure{
		Topic:  Proposals,
		Step:   Create,
		Notify: "INVALID_SYNTAX",
		Lines:  [2]source.Pos{a.i.c.Proposals.Where(a.i.c.At), a.r.c.Proposals.Where(a.r.c.At)},
		Why: fmt.Sprintf("%s renews the IKE SA with what was agreed on, under the number that it has among its proposals, %d, and %s "+
			"takes a first proposal of number 1 alone", a.i.name(), number(a.i.c, a.IKE), a.r.name()),
		Changes: []string{
			fmt.Sprintf("on %s name %s first, or alone, for the IKE SA", a.i.name(), a.IKE),
			fmt.Sprintf("on %s do not renew the IKE SA, so that %s does", a.i.name(), a.r.name()),
		},
	}
}
