package negotiate

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"unicode"

	"toril/ike"
	"toril/model"
	"toril/pair"
	"toril/source"
)

// authenticate has the responder choose among its connections, by the identities and then by the methods, and compares
// what they say. A key that does not fit is found too late for another choice.
func (a *attempt) authenticate() *Failure {
	a.Method = a.i.c.Local.Method.Value
	type ranked struct {
		c    *model.Connection
		rank int
	}
	var fitting []ranked
	for _, c := range a.meet {
		if rank := a.identity(c); rank > 0 {
			if c.Turn > 0 {
				rank = c.Turn
			}
			fitting = append(fitting, ranked{c, rank})
		}
	}
	slices.SortStableFunc(fitting, func(x, y ranked) int { return y.rank - x.rank })
	nearest := a.nominal(a.meet)
	if len(fitting) == 0 {
		a.answers(nearest)
		if f := a.mode(); f != nil {
			return f
		}
		return a.identities()
	}
	var first *Failure
	for _, r := range fitting {
		before := a.r
		a.answers(r.c)
		f := a.mode()
		if f == nil {
			f = a.methods()
		}
		if f == nil {
			first = nil
			break
		}
		if first == nil || r.c == nearest {
			first = f
		}
		if r.c.Turn > 0 { // no other is asked
			nearest, first = r.c, f
			break
		}
		a.r = before
	}
	if first != nil {
		a.answers(nearest)
		return first
	}
	if nominal := a.t; len(nominal.Ends) == 2 && a.r.c != nominal.Ends[0].Connection && a.r.c != nominal.Ends[1].Connection {
		a.Notes = append(a.Notes, fmt.Sprintf("%s responds with its connection %s", a.r.name(), a.r.c.Name))
	}
	for _, ask := range []func() *Failure{a.identities, a.keys, a.postQuantum, a.signatures, a.certificates, a.childless} {
		if f := ask(); f != nil {
			return f
		}
	}
	return nil
}

// identity says how well a connection of the responder's is for the identities of an attempt: more where it names them, 0
// where it accepts another only.
func (a *attempt) identity(c *model.Connection) int {
	score := func(want ike.Identity, shown ike.Identity, known bool) int {
		switch {
		case want.Kind == ike.AnyID:
			return 1
		case shown.Kind == ike.IDHost && want.Definite() && want.Kind != ike.IDFQDN:
			return 0
		case !known:
			return 2
		case want == shown:
			return 20
		case want.Accepts(shown):
			return 10
		}
		return 0
	}
	id, known := a.i.Shows(a.i.own)
	peer := score(c.Remote.ID.Value, id, known)
	own, asked := 1, a.asked()
	if a.Version == ike.V2 && asked.Kind != ike.AnyID && asked.Kind != ike.NoID &&
		!(asked.Wild() && asked.Kind != ike.IDNet) { // sent as IDr
		mine, told := (pair.End{Gateway: a.r.Gateway, Connection: c}).Shows(a.target())
		switch {
		case c.Local.ID.Value.Kind == ike.NoID && c.Local.Method.Value != ike.Certificate && !c.Daemon.IDs.AddressIsName ||
			!told: // it takes the one that it is asked for
		case mine == asked:
			own = 20
		default:
			own = 0
		}
	}
	if peer == 0 && known && a.namedToo(a.i, side{End: pair.End{Gateway: a.r.Gateway, Connection: c}, c: c}, id) {
		peer = 10
	}
	if peer == 0 || own == 0 {
		return 0
	}
	return peer + own
}

// postQuantum asks whether an end that insists on a post-quantum pre-shared key gets one (RFC 8784 section 3).
func (a *attempt) postQuantum() *Failure {
	for _, ends := range [][2]side{{a.i, a.r}, {a.r, a.i}} {
		asks, far := ends[0], ends[1]
		if a.Version == ike.V2 && asks.c.PPKRequired.Value && asks.Gateway.Given() && !hasPPK(asks.Gateway) {
			f := &Failure{
				Topic: Key,
				Step:  Auth,
				Lines: ordered(a, asks, asks.c.PPK.Where(asks.c.At), source.Pos{}),
				Why:   fmt.Sprintf("%s insists on a post-quantum pre-shared key, and has none", asks.name()),
				Changes: []string{
					fmt.Sprintf("install the key on %s", asks.name()), fmt.Sprintf("on %s do not insist on it", asks.name()),
				},
			}
			if asks.End == a.i.End {
				f.Step = Local
			}
			return f
		}
		if a.Version != ike.V2 || !asks.c.PPKRequired.Value || far.c.PPK.Value {
			continue
		}
		f := &Failure{
			Topic:  Key,
			Step:   Auth,
			Notify: "AUTHENTICATION_FAILED",
			Lines:  [2]source.Pos{a.i.c.PPK.Where(a.i.c.At), a.r.c.PPK.Where(a.r.c.At)},
			Why:    fmt.Sprintf("%s insists on a post-quantum pre-shared key, and %s is set up without one", asks.name(), far.name()),
		}
		f.Changes = []string{fmt.Sprintf("set the key up on %s", far.name()), fmt.Sprintf("on %s do not insist on it", asks.name())}
		return f
	}
	return nil
}

// hasPPK reports whether a gateway holds a post-quantum pre-shared key at all.
func hasPPK(g *model.Gateway) bool {
	return slices.ContainsFunc(g.Keys, func(k *model.Key) bool { return k.PPK })
}

// mode compares main and aggressive mode, which IKEv1 has.
func (a *attempt) mode() *Failure {
	if a.Version != ike.V1 {
		return nil
	}
	lines := [2]source.Pos{a.i.c.Aggressive.Where(a.i.c.At), a.r.c.Aggressive.Where(a.r.c.At)}
	word := func(aggressive bool) string { return map[bool]string{true: "aggressive", false: "main"}[aggressive] }
	if a.i.c.Aggressive.Value != a.r.c.Aggressive.Value {
		return &Failure{
			Topic:  Method,
			Step:   a.phase1(),
			Notify: "AUTHENTICATION_FAILED",
			Lines:  lines,
			Why: fmt.Sprintf(
				"%s uses %s mode, %s is set to %s mode",
				a.i.name(),
				word(a.i.c.Aggressive.Value),
				a.r.name(),
				word(a.r.c.Aggressive.Value),
			),
			Changes: []string{"set main mode, or rather IKEv2, on both"},
		}
	}
	if a.Aggressive && a.r.c.Daemon.Answers.GuardsAggressive && a.i.c.Local.Method.Value == ike.PSK &&
		!a.r.Gateway.Options.AggressiveKeys.Value {
		return &Failure{
			Topic:  Method,
			Step:   a.phase1(),
			Notify: "AUTHENTICATION_FAILED",
			Lines:  lines,
			Why: fmt.Sprintf(
				"the daemon of %s accepts aggressive mode with a pre-shared key only if its own configuration allows it",
				a.r.name(),
			),
			Changes: []string{"set main mode, or rather IKEv2, on both"},
		}
	}
	return nil
}

func (a *attempt) methods() *Failure {
	i, r := a.i.c, a.r.c
	fail := func(mine, theirs model.Setting[ike.Method], who, whom side) *Failure {
		return &Failure{
			Topic:  Method,
			Step:   a.authStep(),
			Notify: "AUTHENTICATION_FAILED",
			Why:    fmt.Sprintf("%s authenticates with %s, and %s expects %s", who.name(), mine.Value, whom.name(), theirs.Value),
			Lines:  ordered(a, who, mine.Where(who.c.At), theirs.Where(whom.c.At)),
			Changes: []string{
				fmt.Sprintf("set %s for %s on both ends", mine.Value, who.name()),
				fmt.Sprintf("set %s for it on both", theirs.Value),
			},
		}
	}
	for _, s := range []side{a.i, a.r} {
		if mine, peer := s.c.Local.Method, s.c.Remote.Method; a.Version == ike.V1 && mine.Value != peer.Value {
			f := &Failure{
				Topic:  Method,
				Step:   a.phase1(),
				Notify: "AUTHENTICATION_FAILED",
				Why: fmt.Sprintf(
					"IKEv1 has one method for both ends, and %s is set to %s for itself and %s for its peer",
					s.name(),
					mine.Value,
					peer.Value,
				),
				Lines: ordered(
					a,
					s,
					mine.Where(s.c.At),
					source.Pos{},
				),
				Changes: []string{fmt.Sprintf("set one method for both on %s, or IKEv2", s.name())},
			}
			if s.End == a.i.End {
				f.Step, f.Notify = Local, ""
			}
			return f
		}
	}
	if !allows(r.Remote.Method.Value, i.Local.Method.Value) {
		return fail(i.Local.Method, r.Remote.Method, a.i, a.r)
	}
	if !allows(i.Remote.Method.Value, r.Local.Method.Value) {
		return fail(r.Local.Method, i.Remote.Method, a.r, a.i)
	}
	if a.Version == ike.V1 && i.Local.Method.Value != r.Local.Method.Value {
		return fail(i.Local.Method, r.Local.Method, a.i, a.r)
	}
	return nil
}

// ordered puts the lines of who and of the other end into the order initiator, responder.
func ordered(a *attempt, who side, mine, theirs source.Pos) [2]source.Pos {
	if who.End == a.i.End {
		return [2]source.Pos{mine, theirs}
	}
	return [2]source.Pos{theirs, mine}
}

func allows(wanted, shown ike.Method) bool { return wanted == ike.AnyMethod || wanted == shown }

// other is the side that a side negotiates with.
func (a *attempt) other(s side) side {
	if s.End == a.r.End {
		return a.i
	}
	return a.r
}

// answered is the identity that the responder shows: without one of its own it may take the one that it is asked for.
func (a *attempt) answered() (id ike.Identity, ok bool) {
	r, asked := a.r.c, a.asked()
	if a.Version == ike.V2 && r.Local.ID.Value.Kind == ike.NoID && asked.Definite() && !a.bySubject(a.r) && !r.Daemon.IDs.AddressIsName {
		return asked, true
	}
	return shown(a.r)
}

// shown is the identity that a side shows.
func shown(s side) (id ike.Identity, ok bool) { return s.Shows(s.own) }

func (a *attempt) identities() *Failure {
	i, r := a.i.c, a.r.c
	idI, knownI := shown(a.i)
	idR, knownR := a.answered()
	asked, want := a.asked(), i.Remote.ID.Value
	if a.Version == ike.V2 && asked.Kind == ike.IDNet && knownR &&
		r.Local.ID.Value.Kind != ike.NoID { // sent as it is, and nobody is a network
		return &Failure{
			Topic:  Identity,
			Step:   Auth,
			Notify: "AUTHENTICATION_FAILED",
			Why:    fmt.Sprintf("%s requires the identity %s from its peer, and %s sends %s", a.i.name(), asked, a.r.name(), idR),
			Lines: [2]source.Pos{
				i.Remote.ID.Where(i.At),
				r.Local.ID.Where(r.At),
			},
			Changes: []string{fmt.Sprintf("on %s set the peer's identity to %s", a.i.name(), idR)},
		}
	}
	if !knownI && !r.Remote.ID.Value.Wild() {
		if f := a.untold(a.i, a.r, idI); f != nil {
			return f
		}
	} else if knownI && !r.Remote.ID.Value.Accepts(idI) && !a.namedToo(a.i, a.r, idI) {
		return a.unexpected(a.i, a.r, idI)
	} else if knownI && a.ofAnotherString(a.i, a.r) {
		return a.otherString(a.i, a.r, idI)
	}
	if !knownR && want.Definite() {
		if f := a.untold(a.r, a.i, idR); f != nil {
			return f
		}
	} else if knownR && !want.Accepts(idR) && !a.namedToo(a.r, a.i, idR) {
		return a.unexpected(a.r, a.i, idR)
	} else if knownR && a.ofAnotherString(a.r, a.i) {
		return a.otherString(a.r, a.i, idR)
	}
	return nil
}

// ofAnotherString reports whether an end shows the subject of its certificate, and the other expects that name as its daemon wrote it in
// another type of string than certificates have it in: one with letters that ASCII has not.
func (a *attempt) ofAnotherString(who, whom side) bool {
	want := whom.c.Remote.ID.Value
	return whom.c.Daemon.IDs.WritesT61 && a.bySubject(who) && want.Kind == ike.IDDN &&
		strings.IndexFunc(want.Value, func(r rune) bool { return r > unicode.MaxASCII }) >= 0
}

// otherString is the failure of such a name.
func (a *attempt) otherString(who, whom side, id ike.Identity) *Failure {
	f := a.unexpected(who, whom, id)
	f.Why = fmt.Sprintf("%s sends the identity %s, and %s expects that name in the string type T61String, as its daemon writes letters "+
		"beyond ASCII; certificates have them in UTF8String", who.name(), id, whom.name())
	f.Changes = []string{fmt.Sprintf("set the peer's identity on %s to another name of that certificate, and the own identity on %s",
		whom.name(), who.name())}
	return f
}

// asked is the identity that the initiator asks the responder for (IDr): any where it asks for none.
func (a *attempt) asked() ike.Identity {
	want := a.i.c.Remote.ID.Value
	if a.i.c.Daemon.IDs.AsksNoAddress && want.Kind == ike.IDAddr {
		return ike.Identity{Kind: ike.AnyID}
	}
	return want
}

// unexpected is the failure of an identity that the other end does not expect.
func (a *attempt) unexpected(who, whom side, id ike.Identity) *Failure {
	want := whom.c.Remote.ID
	return &Failure{
		Topic:  Identity,
		Step:   a.authStep(),
		Notify: "AUTHENTICATION_FAILED",
		Why:    fmt.Sprintf("%s sends the identity %s, and %s expects %s", who.name(), id, whom.name(), want.Value),
		Lines:  ordered(a, who, who.c.Local.ID.Where(who.c.At), want.Where(whom.c.At)),
		Changes: []string{
			fmt.Sprintf("set the own identity %s on %s", want.Value, who.name()),
			fmt.Sprintf("set the peer's identity %s on %s", id, whom.name()),
		},
	}
}

// untold compares an identity that the files do not tell with what the other end expects: the subject of a certificate, or the name of a
// host.
func (a *attempt) untold(who, whom side, id ike.Identity) *Failure {
	want := whom.c.Remote.ID.Value
	address := id.Kind != ike.IDHost && who.c.Local.Method.Value != ike.Certificate
	switch host := id.Kind == ike.IDHost; {
	case address && (want.Kind == ike.IDAddr || want.Kind == ike.IDNet):
		a.assume("%s sends its own address, which its configuration does not say; %s expects %s", who.name(), whom.name(), want)
	case address:
		f := a.unexpected(who, whom, id)
		f.Why = fmt.Sprintf("%s sends its own address as its identity, and %s expects %s", who.name(), whom.name(), want)
		f.Changes = f.Changes[:1]
		return f
	case host && want.Kind == ike.IDFQDN:
		a.assume("%s sends the name of its host, which its configuration does not say; %s expects %s", who.name(), whom.name(), want)
	case host:
		return a.unexpected(who, whom, id)
	case want.Kind == ike.IDDN || !want.Definite() || whom.c.Daemon.Name == "" || who.c.Daemon.Name == "":
		a.Notes = append(a.Notes, fmt.Sprintf("%s sends the subject of its certificate, which was not compared", who.name()))
	case a.lenient(who, whom) && whom.c.Remote.Loose:
	case whom.c.Daemon.IDs.TakesNamed:
		a.assume("%s sends the subject of its certificate, which was not given; %s takes it if the certificate has the name %s too",
			who.name(), whom.name(), want)
	default:
		return &Failure{
			Topic: Identity, Step: a.authStep(), Notify: "AUTHENTICATION_FAILED",
			Why:     fmt.Sprintf("%s sends the subject of its certificate, and %s expects %s", who.name(), whom.name(), want),
			Lines:   ordered(a, who, who.c.Local.ID.Where(who.c.At), whom.c.Remote.ID.Where(whom.c.At)),
			Changes: []string{fmt.Sprintf("set the own identity %s, which its certificate must name, on %s", want, who.name())},
		}
	}
	return nil
}

// keys compares the pre-shared keys that both would take, by their fingerprints.
func (a *attempt) keys() *Failure {
	if a.i.c.Local.Method.Value != ike.PSK && a.r.c.Local.Method.Value != ike.PSK {
		return nil
	}
	a.Doubts.Add(a.i.Gateway.Doubts(model.AboutKeys)...)
	a.Doubts.Add(a.r.Gateway.Doubts(model.AboutKeys)...)
	if !a.i.Gateway.Given() || !a.r.Gateway.Given() {
		a.assume("the pre-shared keys were not compared: not both of them were given")
		return nil
	}
	ki, kr := a.keyOf(a.i), a.keyOf(a.r)
	switch {
	case ki == nil:
		return a.keyless(a.i, "", source.Pos{})
	case kr == nil && a.Version == ike.V1:
		return a.keyless(a.r, "INVALID_KEY_INFORMATION", ki.At)
	case kr == nil:
		return a.keyless(a.r, "AUTHENTICATION_FAILED", ki.At)
	case !a.takes(a.r, kr, ki) || !a.takes(a.i, ki, kr):
		notify := "AUTHENTICATION_FAILED"
		why := "the pre-shared keys of both ends differ"
		if a.Version == ike.V1 && !a.Aggressive {
			notify, why = "", why+"; in main mode the responder cannot read the message and does not respond"
		}
		return &Failure{
			Topic:   Key,
			Step:    a.authStep(),
			Notify:  notify,
			Why:     why,
			Lines:   [2]source.Pos{ki.At, kr.At},
			Changes: []string{"set the same key on both ends"},
		}
	}
	return nil
}

// keyless is the failure of a side that finds no pre-shared key; far is a line of the other's, where that has one.
func (a *attempt) keyless(s side, notify string, far source.Pos) *Failure {
	f := &Failure{
		Topic:   Key,
		Step:    a.authStep(),
		Notify:  notify,
		Why:     fmt.Sprintf("%s has no pre-shared key for its peer", s.name()),
		Lines:   ordered(a, s, s.c.Remote.ID.Where(s.c.At), far),
		Changes: []string{fmt.Sprintf("name the identities of both ends as the owners of the key on %s", s.name())},
	}
	own, told := shown(s)
	peer, known := shown(a.other(s))
	switch {
	case s.End == a.i.End && known && !s.c.Remote.ID.Value.Definite() && s.Gateway.KeyFor(s.c, nil, []ike.Identity{peer}) != nil:
		f.Why = fmt.Sprintf("%s does not say whom it expects: as the initiator it looks for a key for itself or for anybody, and finds "+
			"none; it has one for %s", s.name(), peer)
		f.Changes = append([]string{fmt.Sprintf("on %s set the peer's identity to %s", s.name(), peer)}, f.Changes...)
	case s.End == a.r.End && told && known && s.Gateway.KeyFor(s.c, []ike.Identity{own}, nil) != nil:
		f.Why = fmt.Sprintf("%s has a pre-shared key for %s, itself; the peer does not ask for that identity, and for %s there is none",
			s.name(), own, peer)
	}
	return f
}

// takes reports whether a side takes what the other made with a key: one like its own, or like any that fits where its daemon tries them
// all.
func (a *attempt) takes(s side, own, others *model.Key) bool {
	if own.Secret.Fingerprint() == others.Secret.Fingerprint() {
		return true
	}
	mine, peer := a.knows(s, true)
	return a.Version == ike.V2 && s.c.Daemon.Keys.Tries && s.Gateway.HasKey(s.c, mine, peer, others.Secret)
}

// keyOf is the pre-shared key that a side takes, nil for none. It looks for it by what it knows when it needs it: as an initiator, and
// under IKEv1, that is what it expects of its peer, as a responder what the peer showed, and of itself what it was asked for.
func (a *attempt) keyOf(s side) *model.Key {
	seen := a.target()
	if s.End == a.r.End {
		seen = a.source()
	}
	own, peer := a.knows(s, false)
	if s.c.Daemon.Keys.OfBoth && len(peer) == 0 {
		peer = addr(seen)
	}
	if a.Version == ike.V2 || s.c.Daemon.Keys.OfBoth {
		return s.Gateway.KeyFor(s.c, own, peer)
	}
	if len(peer) == 0 && s.c.Local.ID.IsDefault() && s.End == a.r.End && !a.Aggressive { // main mode knows nobody's identity yet
		own, peer = addr(s.own), addr(seen)
	}
	if k := s.Gateway.KeyFor(s.c, own, peer); k != nil {
		return k
	}
	return s.Gateway.KeyFor(s.c, addr(s.own), addr(seen))
}

// knows are the identities of its own and of its peer by which a side looks for a key, after the peer showed its identity or before.
func (a *attempt) knows(s side, after bool) (own, peer []ike.Identity) {
	o := a.other(s)
	of := func(id ike.Identity, ok bool) []ike.Identity {
		if !ok {
			return nil
		}
		return []ike.Identity{id}
	}
	asked, want := a.asked(), s.c.Remote.ID.Value
	responds := a.Version == ike.V2 && s.End == a.r.End
	own, peer = of(shown(s)), of(want, want.Definite())
	switch {
	case s.c.Daemon.Name == "": // whatever it may know
		return append(own, of(asked, responds && asked.Definite())...), append(peer, of(shown(o))...)
	case responds && !s.c.Daemon.Keys.OfBoth:
		return of(asked, asked.Definite()), of(shown(o))
	case after || responds && !want.Definite():
		peer = of(shown(o))
	}
	return own, peer
}

func addr(a netip.Addr) []ike.Identity {
	if !a.IsValid() {
		return nil
	}
	return []ike.Identity{ike.Addr(a)}
}

// childless compares whether the first child is to be made along with the IKE SA (RFC 6023).
func (a *attempt) childless() *Failure {
	if a.Version != ike.V2 {
		return nil
	}
	i, r := a.i.c.Childless, a.r.c.Childless
	asks := i.Value == "force"
	lines := [2]source.Pos{i.Where(a.i.c.At), r.Where(a.r.c.At)}
	switch {
	case i.Value == "force" && r.Value == "never":
		return &Failure{
			Topic:   Childless,
			Step:    Auth,
			Why:     fmt.Sprintf("%s requires an IKE SA without a child, and %s does not support that", a.i.name(), a.r.name()),
			Lines:   lines,
			Changes: []string{fmt.Sprintf("allow it on %s", a.r.name())},
		}
	case r.Value == "force" && !asks:
		return &Failure{
			Topic:   Childless,
			Step:    Auth,
			Notify:  "INVALID_SYNTAX",
			Why:     fmt.Sprintf("%s requires an IKE SA without a child, and %s does not initiate so", a.r.name(), a.i.name()),
			Lines:   lines,
			Changes: []string{fmt.Sprintf("allow it on %s", a.r.name())},
		}
	}
	return nil
}

// startsChildless reports whether the first child is made by an exchange of its own.
func (a *attempt) startsChildless() bool {
	i, r := a.i.c.Childless.Value, a.r.c.Childless.Value
	return a.Version == ike.V2 && i == "force" && r != "never"
}
