package negotiate

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"toril/ike"
	"toril/model"
	"toril/source"
)

// bySubject reports whether an end shows the subject of its certificate, given or not: it names one, and no identity.
func (a *attempt) bySubject(s side) bool {
	return s.c.Local.Method.Value == ike.Certificate && s.c.Local.ID.Value.Kind == ike.NoID && len(s.c.Local.Certificates.Value) > 0
}

// namedToo reports whether an end takes an identity of its peer for the one that it expects: the subject of a certificate that has that
// name too, or any where the certificate need name none.
func (a *attempt) namedToo(who, whom side, id ike.Identity) bool {
	want := whom.c.Remote.ID.Value
	switch {
	case !a.lenient(who, whom), a.Version == ike.V1 && id.Kind != ike.IDDN:
		return false
	case whom.c.Remote.Loose:
		return true
	}
	return id.Kind == ike.IDDN && want.Definite() &&
		slices.ContainsFunc(who.Gateway.CertificatesOf(who.c), func(c *model.Certificate) bool { return c.Subject == id && c.Shows(want) })
}

// lenient reports whether an end may take another identity of its peer than it expects, where certificates prove them. Under IKEv2 it asked
// for the one that it expects, which its peer must not mind.
func (a *attempt) lenient(who, whom side) bool {
	return whom.c.Daemon.IDs.TakesNamed && who.c.Local.Method.Value == ike.Certificate &&
		(a.Version == ike.V1 || whom.End == a.r.End || who.c.Daemon.IDs.MindsNotAsked)
}

// signing are both ends, each as the one that signs, with its peer that verifies.
func (a *attempt) signing() (out [][2]side) {
	for _, ends := range [][2]side{{a.i, a.r}, {a.r, a.i}} {
		if ends[0].c.Local.Method.Value == ike.Certificate {
			out = append(out, ends)
		}
	}
	return out
}

// signatures asks whether each end signs in a way that the other takes (RFC 7427).
func (a *attempt) signatures() *Failure {
	if f := a.oneKind(); f != nil {
		return f
	}
	for _, ends := range a.signing() {
		who, whom := ends[0], ends[1]
		signs, takes := a.signs(who, whom), whom.c.Remote.Signatures.Or(ike.Signed)
		if a.Version == ike.V1 && whom.c.Daemon.Signs.KeyDecidesV1 {
			takes = ike.Signed
		}
		if signs == 0 {
			return a.unsigned(who, whom,
				fmt.Sprintf("%s is set to sign with %s, which the key of its certificate cannot", who.name(), who.c.Local.Signatures),
				fmt.Sprintf("set another way to sign on %s", who.name()))
		}
		for _, s := range []side{who, whom} {
			if a.Version != ike.V1 || !s.c.Daemon.Signs.OneMethodV1 {
				continue
			}
			set := s.c.Remote.Signatures // what it allows, of itself too
			if all := ike.ByKey("RSA"); set&all != all {
				return a.unsigned(who, whom,
					fmt.Sprintf("of IKEv1 the daemon of %s signs with RSA and any hash alone, and it is set to %s", s.name(), set),
					fmt.Sprintf("on %s allow RSA with any hash, or rather set IKEv2 on both", s.name()))
			}
			takes &= ike.RSAv15
		}
		if signs&takes == 0 {
			return a.unsigned(who, whom,
				fmt.Sprintf("%s signs with %s, and %s takes no other signature than %s", who.name(), signs, whom.name(), takes),
				fmt.Sprintf("have %s take signatures of %s", whom.name(), signs),
				fmt.Sprintf("have %s sign with %s", who.name(), takes))
		}
		chain := whom.c.Remote.Chain
		if shows := who.Gateway.CertificatesOf(who.c); chain != 0 && len(shows) == 1 && byAlgorithm(shows[0].Signature)&chain == 0 {
			return a.unsigned(who, whom, fmt.Sprintf("the certificate of %s is signed with %s, and %s takes no other signature than %s, "+
				"of certificates too", who.name(), byAlgorithm(shows[0].Signature), whom.name(), chain),
				fmt.Sprintf("have %s ask for this of the IKE SA alone", whom.name()))
		}
	}
	return nil
}

// oneKind asks whether both ends have keys of one type, where they sign under IKEv1: the method is agreed on for both (RFC 2409 section
// 5.1).
func (a *attempt) oneKind() *Failure {
	if a.Version != ike.V1 || len(a.signing()) < 2 {
		return nil
	}
	kinds := func(s side) (out ike.Signatures, name string) {
		for _, c := range s.Gateway.CertificatesOf(s.c) {
			out, name = out|ike.ByKey(c.KeyType), c.KeyType
		}
		return out, name
	}
	i, ofI := kinds(a.i)
	r, ofR := kinds(a.r)
	if i == 0 || r == 0 || i&r != 0 {
		return nil
	}
	return a.unsigned(a.i, a.r,
		fmt.Sprintf("of IKEv1 both ends sign by one method, and %s has a key of %s, %s one of %s", a.i.name(), ofI, a.r.name(), ofR),
		"set IKEv2 on both, or give both certificates of one type of key")
}

// signs is how an end signs, as far as the type of its key is known; empty where its key cannot do what is configured.
func (a *attempt) signs(who, whom side) ike.Signatures {
	own := who.c.Local
	key, first := ike.Signed, own.First.Or(ike.Signed)
	if shows := who.Gateway.CertificatesOf(who.c); len(shows) > 0 {
		key = 0
		for _, c := range shows { // it takes one that its peer can use
			key |= ike.ByKey(c.KeyType)
		}
		by, within, strong := strengths(shows[0])
		switch free := own.Signatures&ike.RSASHA1 != 0; { // free to choose
		case len(shows) > 1:
		case who.c.Daemon.Signs.HashByKey:
			first = by
			if free && strong&key != 0 {
				key &= strong
			}
		case who.c.Daemon.Signs.HashWithinCurve && shows[0].KeyType == "ECDSA":
			key &= within
		}
	}
	signs, otherwise := own.Signatures.Or(ike.Signed)&key, own.Otherwise&(ike.RSAv15|first)&ike.ByKeys(key)
	if a.Version == ike.V1 && who.c.Daemon.Signs.KeyDecidesV1 {
		signs = key & (ike.RSAv15 | ike.ECDSA)
	}
	if signs == 0 { // nothing that its key can do
		return 0
	}
	if a.Version == ike.V1 { // which does not say how it is signed
		return signs
	}
	if rsa := ike.ByKey("RSA"); who.c.Daemon.Signs.Alike && who.End == a.r.End && signs&rsa != 0 {
		if alike := a.signs(whom, who) & signs & rsa; alike != 0 {
			return alike
		}
	}
	told := ike.Signed // with the hashes that its peer says it knows
	if whom.c.Daemon.Signs.TellsHashes || whom.c.Daemon.Signs.TellsAsked && whom.End == a.i.End {
		told = whom.c.Remote.Signatures.Hashes()
	}
	switch {
	case otherwise != 0 && signs&told == 0:
		return otherwise
	case signs&told == 0: // it is not taken
		return signs
	case signs&told&first != 0:
		return signs & told & first
	}
	return signs & told
}

// strengths are the signatures with the hash that is about as strong as a key, those with none that is stronger, and those with none that
// is weaker.
func strengths(c *model.Certificate) (by, within, strong ike.Signatures) {
	small, large := 3072, 7680
	if c.KeyType != "RSA" {
		small, large = 256, 384
	}
	sha256, sha384, sha512 := ike.RSA256.Hashes(), ike.RSA384.Hashes(), ike.RSA512.Hashes()
	switch {
	case c.KeyBits <= small:
		return sha256, sha256, sha256 | (sha384|sha512)&^ike.ECDSAMethod
	case c.KeyBits <= large:
		return sha384, sha384 | sha256&^ike.ECDSAMethod, sha384 | sha512&^ike.ECDSAMethod
	}
	return sha512, sha512 | (sha384|sha256)&^ike.ECDSAMethod, sha512
}

// byAlgorithm is the signature of a certificate, by its name: "SHA256-RSA", "ECDSA-SHA384"; of another all.
func byAlgorithm(name string) ike.Signatures {
	hash := ike.Signed
	for word, of := range map[string]ike.Signatures{"SHA1": ike.RSASHA1, "SHA256": ike.RSA256 | ike.PSS256 | ike.ECDSA256,
		"SHA384": ike.RSA384 | ike.PSS384 | ike.ECDSA384, "SHA512": ike.RSA512 | ike.PSS512 | ike.ECDSA512} {
		if strings.Contains(name, word) {
			hash = of
		}
	}
	switch {
	case strings.Contains(name, "PSS"):
		return hash & ike.RSAPSS
	case strings.Contains(name, "ECDSA"):
		return hash & ike.ECDSA
	case strings.Contains(name, "RSA"):
		return hash & ike.RSAv15
	}
	return hash
}

// unsigned is the failure of a signature that is not taken.
func (a *attempt) unsigned(who, whom side, why string, changes ...string) *Failure {
	return &Failure{
		Topic: Method, Step: a.authStep(), Notify: "AUTHENTICATION_FAILED", Why: why, Changes: changes,
		Lines: ordered(a, who, who.c.Local.Method.Where(who.c.At), whom.c.Remote.Method.Where(whom.c.At)),
	}
}

// certificates asks whether each end gets the certificate of the other, which must name the identity that it shows, and be signed by an
// authority that is trusted; as far as they were given.
func (a *attempt) certificates() *Failure {
	for _, ends := range a.signing() {
		who, whom := ends[0], ends[1]
		a.Doubts.Add(who.Gateway.Doubts(model.AboutCertificates)...)
		a.Doubts.Add(whom.Gateway.Doubts(model.AboutCertificates)...)
		if f := a.publicKeys(who, whom); f != nil {
			return f
		}
		if whom.c.Remote.Keyed || who.c.Local.Keyed && len(who.c.Local.Certificates.Value) == 0 {
			continue
		}
		shows := who.Gateway.CertificatesOf(who.c)
		for _, ask := range []func(who, whom side, shows []*model.Certificate) *Failure{
			a.taken, a.sent, a.names, a.held, a.usage, a.trust,
		} {
			if f := ask(who, whom, shows); f != nil {
				return f
			}
		}
	}
	return nil
}

// publicKeys asks whether the key that an end expects of its peer, without a certificate, is the one that the peer has: as a key, or in its
// certificate.
func (a *attempt) publicKeys(who, whom side) *Failure {
	if !whom.c.Remote.Keyed {
		return nil
	}
	wants, all := whom.Gateway.PublicKeysOf(&whom.c.Remote)
	has, whole := who.Gateway.PublicKeysOf(&who.c.Local)
	shows := who.Gateway.CertificatesOf(who.c)
	for _, k := range wants {
		if slices.ContainsFunc(has, k.Same) || slices.ContainsFunc(shows, k.Of) {
			return nil
		}
	}
	if !all || !whole || len(has)+len(shows) < max(1, len(who.c.Local.Certificates.Value)) {
		a.assume("the public key that %s expects of %s was not compared: not all of them were given, or could be read",
			whom.name(), who.name())
		return nil
	}
	var at source.Pos
	if len(has) > 0 {
		at = has[0].At
	} else {
		at = shows[0].At
	}
	return &Failure{
		Topic: Certificates, Step: a.authStep(), Notify: "AUTHENTICATION_FAILED",
		Why:     fmt.Sprintf("%s expects a public key of %s that %s does not have", whom.name(), who.name(), who.name()),
		Lines:   ordered(a, who, at, wants[0].At),
		Changes: []string{fmt.Sprintf("on %s set the public key of %s", whom.name(), who.name())},
	}
}

// taken asks whether the daemon of an end takes the certificate that it names from its file.
func (a *attempt) taken(who, whom side, _ []*model.Certificate) *Failure {
	c := who.Gateway.NotTaken(who.c)
	if c == nil {
		return nil
	}
	f := &Failure{
		Topic: Certificates, Step: a.authStep(), Notify: "AUTHENTICATION_FAILED",
		Why: fmt.Sprintf("the daemon of %s takes only the first block of a file, and nothing behind a byte order mark: not its certificate",
			who.name()),
		Lines:   ordered(a, who, c.At, whom.c.Remote.ID.Where(whom.c.At)),
		Changes: []string{fmt.Sprintf("on %s put the certificate into a file of its own", who.name())},
	}
	if who.End == a.i.End {
		f.Step, f.Notify = Local, ""
	}
	return f
}

// usage asks whether the key of an end's certificate may be used for signatures, where its peer minds.
func (a *attempt) usage(who, whom side, shows []*model.Certificate) *Failure {
	if !whom.c.Daemon.Certs.MindsUsage || len(shows) == 0 ||
		slices.ContainsFunc(shows, func(c *model.Certificate) bool { return c.Signs }) {
		return nil
	}
	return &Failure{
		Topic: Certificates, Step: a.authStep(), Notify: "AUTHENTICATION_FAILED",
		Why:     fmt.Sprintf("the key usage of the certificate of %s does not allow signatures", who.name()),
		Lines:   ordered(a, who, shows[0].At, whom.c.Remote.ID.Where(whom.c.At)),
		Changes: []string{fmt.Sprintf("on %s use a certificate whose key usage has digitalSignature", who.name())},
	}
}

// sent asks whether an end gets its peer's certificate, where it has not got it.
func (a *attempt) sent(who, whom side, shows []*model.Certificate) *Failure {
	inTurn := whom.c.Daemon.Certs.AsksInTurn && (whom.End == a.r.End) == (a.Version == ike.V2)
	unknown := whom.c.Daemon.Name == "" && whom.c.AskCert.IsDefault() // a make of which it is not known
	asks := unknown || whom.c.AskCert.Value || inTurn && who.c.SendCert.Value == model.SentWhenAsked
	if f := a.keySent(who, whom, shows); f != nil {
		return f
	}
	ofAnother := func(c *model.Certificate) bool { return c.KeyType != "RSA" } // asked of OpenIKED: one of another key is always sent
	why, named := "", len(whom.c.Remote.Certificates.Value) > 0
	other := fmt.Sprintf("have %s ask for it", whom.name())
	switch {
	case len(shows) == 0 && len(who.c.Local.Certificates.Value) == 0 || named || whom.Gateway.Holds(shows):
		return nil
	case who.c.SendCert.Value == model.SentNever:
		why = fmt.Sprintf("%s never sends its certificate, and %s has not got it", who.name(), whom.name())
		other = fmt.Sprintf("install it on %s", whom.name())
	case who.c.SendCert.Value == model.SentWhenAsked && !asks:
		why = fmt.Sprintf("%s sends its certificate only where it is asked for one, and %s does not ask", who.name(), whom.name())
	case who.c.SendCert.Value == model.SentWhenNamed && !asks && !slices.ContainsFunc(shows, ofAnother):
		why = fmt.Sprintf("%s sends its certificate only where one of its authority is asked for, and %s asks for none",
			who.name(), whom.name())
	default:
		return nil
	}
	return &Failure{
		Topic: Certificates, Step: a.authStep(), Notify: "AUTHENTICATION_FAILED", Why: why,
		Lines:   ordered(a, who, who.c.SendCert.Where(who.c.At), whom.c.AskCert.Where(whom.c.At)),
		Changes: []string{fmt.Sprintf("have %s send its certificate always", who.name()), other},
	}
}

// keySent asks whether an end sends its public key in place of its certificate, as its peer asks for keys too.
func (a *attempt) keySent(who, whom side, shows []*model.Certificate) *Failure {
	asked := whom.c.AsksKeys
	if !who.c.Daemon.Certs.SendsKey || asked == "" ||
		!slices.ContainsFunc(shows, func(c *model.Certificate) bool { return c.KeyType == asked }) {
		return nil
	}
	has, asks := who.Gateway.Authorities(who.c), whom.Gateway.Authorities(whom.c)
	if len(has) == 0 || len(asks) == 0 { // not given
		return nil
	}
	for _, ca := range asks {
		if slices.ContainsFunc(has, ca.Same) && slices.ContainsFunc(shows, func(c *model.Certificate) bool { return c.SignedBy(ca) }) {
			return nil
		}
	}
	return &Failure{
		Topic: Certificates, Step: a.authStep(), Notify: "AUTHENTICATION_FAILED",
		Why: fmt.Sprintf("%s is asked for a certificate or a public key, has not got %s, which signed its certificate, and sends its key, "+
			"which %s does not have", who.name(), shows[0].Issuer, whom.name()),
		Lines: ordered(a, who, shows[0].At, whom.c.Remote.Method.Where(whom.c.At)),
		Changes: []string{
			fmt.Sprintf("install the certificate of %s on %s", shows[0].Issuer, who.name()),
			fmt.Sprintf("on %s leave out the word for the kind of key, so that it asks for certificates alone", whom.name()),
		},
	}
}

// held asks whether an end has another certificate of its peer than the peer sends, and takes that one.
func (a *attempt) held(who, whom side, shows []*model.Certificate) *Failure {
	id, told := a.proves(who)
	if !told || len(shows) == 0 || !whom.c.Daemon.Certs.HeldFirst || whom.Gateway.Holds(shows) {
		return nil
	}
	i := slices.IndexFunc(whom.Gateway.Certs, func(c *model.Certificate) bool { return !c.CA && c.Shows(id) })
	if i < 0 {
		return nil
	}
	has := whom.Gateway.Certs[i]
	return &Failure{
		Topic: Certificates, Step: a.authStep(), Notify: "AUTHENTICATION_FAILED", Lines: ordered(a, who, shows[0].At, has.At),
		Why: fmt.Sprintf("%s has another certificate of %s than %s sends, and takes that one", whom.name(), id, who.name()),
		Changes: []string{
			fmt.Sprintf("remove that certificate from %s", whom.name()),
			fmt.Sprintf("put the certificate of %s in its place", who.name()),
		},
	}
}

// proves is the identity that an end shows and its certificate has to name; told is false where it is not known.
func (a *attempt) proves(who side) (id ike.Identity, told bool) {
	if who.End == a.r.End {
		return a.answered()
	}
	return shown(who)
}

// names asks whether an end's certificate names the identity that it shows (RFC 4945 section 3.1).
func (a *attempt) names(who, whom side, shows []*model.Certificate) *Failure {
	id, told := a.proves(who)
	switch {
	case !told || len(shows) == 0 || whom.c.Remote.Loose || len(whom.c.Remote.Certificates.Value) > 0:
		return nil
	case id.Kind == ike.IDKey, id.Kind == ike.IDDN && !who.c.Daemon.IDs.NameInOrder: // which may be written in other ways
		return nil
	case slices.ContainsFunc(shows, func(c *model.Certificate) bool { return c.Shows(id) }):
		return nil
	}
	return &Failure{
		Topic: Certificates, Step: a.authStep(), Notify: "AUTHENTICATION_FAILED",
		Why:   fmt.Sprintf("%s sends the identity %s, which its certificate does not name", who.name(), id),
		Lines: ordered(a, who, who.c.Local.ID.Where(who.c.At), shows[0].At),
		Changes: []string{
			fmt.Sprintf("give %s a certificate that names %s", who.name(), id),
			fmt.Sprintf("set the own identity of %s, and what %s expects, to one that the certificate names", who.name(), whom.name()),
		},
	}
}

// verified notes where the signature of a certificate that is trusted, or of an authority on the way, cannot be verified here.
func (a *attempt) verified(shown *model.Certificate, who, whom side) {
	for _, c := range slices.Concat([]*model.Certificate{shown}, who.Gateway.Certs, whom.Gateway.Certs) {
		if c.Unverified() && (c == shown || c.CA) {
			a.assume("the signature of the certificate of %s cannot be verified here", c.Subject)
			return
		}
	}
}

// stale is the failure of a certificate that does not hold on the day that is asked about.
func (a *attempt) stale(c *model.Certificate, lines [2]source.Pos) *Failure {
	why := fmt.Sprintf("the certificate of %s expired on %s", c.Subject, c.To.UTC().Format(time.DateOnly))
	if day := a.i.Gateway.Day; c.Early(day) {
		why = fmt.Sprintf("the certificate of %s holds only from %s", c.Subject, c.From.UTC().Format(time.DateOnly))
	}
	return &Failure{
		Topic: Certificates, Step: a.authStep(), Notify: "AUTHENTICATION_FAILED", Why: why, Lines: lines,
		Changes: []string{fmt.Sprintf("have a new certificate made for %s", c.Subject)},
	}
}

// onTheDay notes where a certificate that is trusted begins or ceases to hold within the day that is asked about.
func (a *attempt) onTheDay(c *model.Certificate, whom side) {
	if day := whom.Gateway.Day; !day.IsZero() && c.Turns(day) {
		a.assume("the certificate of %s holds from %s to %s, which is within the day", c.Subject,
			c.From.UTC().Format(time.RFC3339), c.To.UTC().Format(time.RFC3339))
	}
}

// keyGiven notes where the private keys of one end were given, and of the other none.
func (a *attempt) keyGiven(who, whom side, c *model.Certificate) {
	if len(who.Gateway.PrivateKeys) == 0 && len(whom.Gateway.PrivateKeys) > 0 {
		a.assume("the private key of the certificate of %s was not given, and that of its peer was", c.Subject)
	}
}

// whichIsShown notes where several certificates name an end, and it is not said which of them it shows.
func (a *attempt) whichIsShown(who side, shows []*model.Certificate) {
	if len(shows) > 1 && len(who.c.Local.Certificates.Value) == 0 {
		a.assume("%s has %d certificates that name it, and its configuration does not say which it shows", who.name(), len(shows))
	}
}

// trust asks whether an end trusts who signed the certificate of its peer. Where one of the two was not given, a note says so:
// stores of certificates are seldom among the files.
func (a *attempt) trust(who, whom side, shows []*model.Certificate) *Failure {
	if len(shows) == 0 {
		if names := who.c.Local.Certificates.Value; len(names) > 0 && len(who.Gateway.Certs) > 0 && who.c.Daemon.Certs.ByFile {
			a.assume("the certificate %s that %s names is not among its files", names[0], who.name()) // others are
		}
		a.Notes = append(a.Notes,
			fmt.Sprintf("the certificate of %s was not given: its key, whom it names and who signed it were not compared", who.name()))
		return nil
	}
	known, trust := true, model.Trust{}
	for _, c := range shows { // it takes one that its peer can use
		trust = whom.Gateway.Trusts(whom.c, c, who.Gateway, who.c)
		if trust.Trusted {
			a.verified(c, who, whom)
			a.onTheDay(c, whom)
			a.whichIsShown(who, shows)
			a.keyGiven(who, whom, c)
			return nil
		}
		known = known && trust.Known
	}
	if !known {
		a.Notes = append(a.Notes, fmt.Sprintf("whether %s trusts %s was not asked: the authorities of %s were not given",
			whom.name(), shows[0].Issuer, whom.name()))
		return nil
	}
	return a.untrusted(who, whom, shows, trust)
}

// untrusted is the failure of a certificate that the other end does not trust.
func (a *attempt) untrusted(who, whom side, shows []*model.Certificate, trust model.Trust) *Failure {
	why := fmt.Sprintf("%s does not trust that authority", whom.name())
	lacks := shows[0].Issuer
	lines := ordered(a, who, shows[0].At, whom.c.Remote.CAs.Where(whom.c.Remote.Method.Where(whom.c.At)))
	switch {
	case trust.Stale != nil:
		return a.stale(trust.Stale, lines)
	case trust.Limits != "":
		return &Failure{
			Topic: Certificates, Step: a.authStep(), Notify: "AUTHENTICATION_FAILED", Lines: lines,
			Why:     fmt.Sprintf("%s refuses the certificate of %s: %s", whom.name(), who.name(), trust.Limits),
			Changes: []string{"have another certificate made for it, or one for the authority without that limit"},
		}
	case trust.Late:
		return &Failure{
			Topic: Certificates, Step: a.authStep(), Notify: "AUTHENTICATION_FAILED", Lines: lines,
			Why: fmt.Sprintf("%s trusts no certificate without its authority's list of revoked ones, and that of %s was to be replaced",
				whom.name(), trust.Lacks),
			Changes: []string{fmt.Sprintf("install the new list of %s on %s", trust.Lacks, whom.name())},
		}
	case trust.NoList:
		without := fmt.Sprintf("remove the lists of others from %s", whom.name())
		if whom.c.Remote.Strict {
			without = fmt.Sprintf("have %s demand no such lists", whom.name())
		}
		return &Failure{
			Topic: Certificates, Step: a.authStep(), Notify: "AUTHENTICATION_FAILED", Lines: lines,
			Why: fmt.Sprintf("%s trusts no certificate without its authority's list of revoked ones, and has none of %s, which signed "+
				"that of %s", whom.name(), trust.Lacks, trust.Below),
			Changes: []string{fmt.Sprintf("install the list of %s on %s", trust.Lacks, whom.name()), without},
		}
	case trust.Revoked != (ike.Identity{}):
		return &Failure{
			Topic: Certificates, Step: a.authStep(), Notify: "AUTHENTICATION_FAILED", Lines: lines,
			Why: fmt.Sprintf("%s sends a certificate signed by %s, and %s has a list by which that of %s is revoked",
				who.name(), lacks, whom.name(), trust.Revoked),
			Changes: []string{fmt.Sprintf("have a new certificate made for %s", trust.Revoked)},
		}
	}
	if trust.Lacks != (ike.Identity{}) && trust.Lacks != lacks {
		lacks = trust.Lacks
		why = fmt.Sprintf("%s finds no certificate of %s, which signed that of %s", whom.name(), lacks, trust.Below)
	}
	return &Failure{
		Topic: Certificates, Step: a.authStep(), Notify: "AUTHENTICATION_FAILED", Lines: lines,
		Why:     fmt.Sprintf("%s sends a certificate signed by %s, and %s", who.name(), shows[0].Issuer, why),
		Changes: []string{fmt.Sprintf("install the certificate of %s on %s", lacks, whom.name())},
	}
}
