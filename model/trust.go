package model

import (
	"bytes"
	"crypto/x509"
	"errors"
	"path"
	"slices"
	"time"

	"toril/ike"
	"toril/source"
)

// Trust is whether an end accepts a certificate of its peer.
type Trust struct {
	Known   bool // false where none of the authorities that it would ask were given
	Trusted bool
	Lacks   ike.Identity // where it is not: the authority that it finds no certificate of, and has to
	Below   ike.Identity // whose certificate that one signed
	Revoked ike.Identity // where it is not: whose certificate on the way is revoked
	NoList  bool         // what it lacks is not the authority's certificate, but its list of revoked ones
	Late    bool         // it has that list, and it was to be replaced
	Stale   *Certificate // where it is not: the one on the way that does not hold on the gateway's day
	Limits  string       // where it is not: the limit of an authority on the way that it breaks
}

// Revocations is a list of the certificates that an authority has revoked (RFC 5280 section 5).
type Revocations struct {
	At     source.Pos
	Issuer ike.Identity
	X509   *x509.RevocationList
	serial map[string]bool
}

// NewRevocations makes a list of one that was read.
func NewRevocations(at source.Pos, issuer ike.Identity, l *x509.RevocationList) *Revocations {
	out := &Revocations{At: at, Issuer: issuer, X509: l, serial: make(map[string]bool, len(l.RevokedCertificateEntries))}
	for _, e := range l.RevokedCertificateEntries {
		out.serial[e.SerialNumber.String()] = true
	}
	return out
}

// Covers reports whether the list is of the authority that issued a certificate.
func (l *Revocations) Covers(c *Certificate) bool {
	if c.X509 == nil || !sameName(l.X509.RawIssuer, c.X509.RawIssuer) {
		return false
	}
	mine, its := l.X509.AuthorityKeyId, c.X509.AuthorityKeyId
	return len(mine) == 0 || len(its) == 0 || bytes.Equal(mine, its)
}

// Holds reports whether a certificate that the list covers is on it.
func (l *Revocations) Holds(c *Certificate) bool {
	return l.Covers(c) && l.serial[c.X509.SerialNumber.String()]
}

// Late reports whether the list was to be replaced before a day; zero: no day.
func (l *Revocations) Late(day time.Time) bool {
	return !day.IsZero() && !l.X509.NextUpdate.IsZero() && day.After(l.X509.NextUpdate)
}

// stale reports whether a certificate does not hold on the gateway's day.
func (g *Gateway) stale(c *Certificate) bool {
	return !g.Day.IsZero() && (c.Early(g.Day) || c.Late(g.Day))
}

// list is the newest list of the authority that issued a certificate, nil for none. One that another key signed than that of the authority,
// where its certificate is there, is none.
func (g *Gateway) list(c *Certificate) (newest *Revocations) {
	for _, l := range g.Revocations {
		if l.Covers(c) && !g.forged(l) && (newest == nil || l.X509.ThisUpdate.After(newest.X509.ThisUpdate)) {
			newest = l
		}
	}
	return newest
}

// forged reports whether a list was signed by none of the certificates of its authority that the gateway has.
func (g *Gateway) forged(l *Revocations) bool {
	known := false
	for _, ca := range g.Certs {
		if ca.X509 == nil || !ca.CA || !sameName(ca.X509.RawSubject, l.X509.RawIssuer) {
			continue
		}
		err := ca.X509.CheckSignature(l.X509.SignatureAlgorithm, l.X509.RawTBSRevocationList, l.X509.Signature)
		var insecure x509.InsecureAlgorithmError
		if err == nil || errors.Is(err, x509.ErrUnsupportedAlgorithm) || errors.As(err, &insecure) {
			return false
		}
		known = true
	}
	return known
}

// Trusts says whether a connection accepts a certificate that the connection of a peer shows it: it is the very one that is named for the
// peer, or one that an authority signed which the connection trusts, directly or through others that either side has (RFC 4945 section 5.1,
// RFC 5280 section 6.1).
func (g *Gateway) Trusts(c *Connection, shown *Certificate, peer *Gateway, by *Connection) Trust {
	own := g.Authorities(c)
	if names := c.Remote.Certificates.Value; len(names) > 0 {
		pinned := named(g.loaded(c), names)
		if i := slices.IndexFunc(pinned, shown.SameKey); i >= 0 {
			return g.held(c, pinned[i], own)
		}
		return Trust{Known: len(pinned) > 0}
	}
	var through []*Certificate
	if names := c.Remote.CAs.Value; len(names) > 0 {
		if through = named(g.loaded(c), names); len(through) == 0 {
			return Trust{}
		}
	}
	does := c.Daemon.Certs
	if does.TakesOwn && len(through) == 0 && slices.ContainsFunc(g.loaded(c), shown.Same) {
		return g.held(c, shown, own)
	}
	if len(own) == 0 || shown.X509 == nil {
		if t := g.faulty(shown, peer); t.Known {
			return t
		}
		unread := func(x *Certificate) bool { return x.CA && x.Behind }
		return Trust{Known: slices.ContainsFunc(g.Certs, unread), Lacks: shown.Issuer, Below: shown.Subject} // there, and not taken
	}
	intermediates := own
	if !does.OwnIntermediates {
		intermediates = slices.Concat(own, peer.sends(by, shown, own))
	}
	trust := shown.leads(anchors(c, own), through, intermediates, g.bars(c))
	elsewhere := func(file string) bool { return len(named(g.Certs, []string{file})) == 0 }
	if !trust.Trusted && !trust.NoList && trust.Lacks != (ike.Identity{}) && slices.ContainsFunc(g.Authorized, elsewhere) {
		return Trust{} // it may be the one that was not given
	}
	return trust
}

// anchors are those authorities at which a chain may end.
func anchors(c *Connection, own []*Certificate) []*Certificate {
	return slices.DeleteFunc(slices.Clone(own), func(x *Certificate) bool {
		return c.Daemon.Certs.NeedsRoot && !c.Remote.Partial && !x.SelfSigned
	})
}

// bars tells why a connection takes no chain through a certificate, where it does not.
func (g *Gateway) bars(c *Connection) func(x *Certificate) (why Trust, barred bool) {
	wantsLists, strict := c.Daemon.Certs.WantsLists, c.Remote.Strict
	return func(x *Certificate) (why Trust, barred bool) {
		list := g.list(x)
		switch {
		case g.stale(x):
			return Trust{Known: true, Stale: x}, true
		case list != nil && list.Holds(x):
			return Trust{Known: true, Revoked: x.Subject}, true
		case list != nil && list.Late(g.Day) && (wantsLists || strict):
			return Trust{Known: true, NoList: true, Late: true, Lacks: x.Issuer, Below: x.Subject}, true
		case x.SelfSigned || list != nil:
		case strict && (g.Fetches || len(x.X509.CRLDistributionPoints)+len(x.X509.OCSPServer) > 0): // what is fetched is not known
			return Trust{}, true
		case wantsLists && len(g.Revocations) > 0, strict:
			return Trust{Known: true, NoList: true, Lacks: x.Issuer, Below: x.Subject}, true
		}
		return Trust{}, false
	}
}

// held is whether a connection trusts a certificate of its peer that lies among its own: always, unless one of its authorities signed it,
// and the chain has a fault.
func (g *Gateway) held(c *Connection, cert *Certificate, own []*Certificate) Trust {
	does := c.Daemon.Certs
	if does.TakesOwn && !does.HeldFirst && !cert.SelfSigned && slices.ContainsFunc(own, cert.SignedBy) {
		t := cert.leads(anchors(c, own), nil, own, g.bars(c))
		if t.Stale != nil || t.Revoked != (ike.Identity{}) || t.NoList || t.Limits != "" {
			return t
		}
	}
	return Trust{Known: true, Trusted: true}
}

// faulty is why a certificate is trusted by no authority at all: it does not hold, or one above it that its gateway has may not sign for
// it. The zero value says that it may be.
func (g *Gateway) faulty(shown *Certificate, peer *Gateway) Trust {
	if g.stale(shown) {
		return Trust{Known: true, Stale: shown}
	}
	for path := []*Certificate{shown}; len(path) < longest && !path[len(path)-1].SelfSigned; {
		i := slices.IndexFunc(peer.Certs, func(y *Certificate) bool { return y.CA && path[len(path)-1].SignedBy(y) })
		if i < 0 {
			break
		}
		if t := limited(path, peer.Certs[i]); !t.Trusted {
			return t
		}
		path = append(path, peer.Certs[i])
	}
	return Trust{}
}

// longest is how many certificates a chain may have.
const longest = 8

// leads follows a certificate upwards to an anchor, by one of those that are named, where some are, and by none that is barred: why it is
// not trusted then, bars tells.
func (c *Certificate) leads(anchors, through, intermediates []*Certificate, bars func(*Certificate) (why Trust, barred bool)) Trust {
	type step struct {
		at     *Certificate
		passed bool           // one of those that are named, or none is
		path   []*Certificate // to it
	}
	passes := func(x *Certificate) bool { return len(through) == 0 || slices.ContainsFunc(through, x.Same) }
	last, steps := c, []step{{c, passes(c), []*Certificate{c}}}
	var why *Trust
	for range longest {
		var next []step
		for _, s := range steps {
			if t, barred := bars(s.at); barred {
				why = &t
				continue
			}
			last = s.at
			for _, r := range anchors {
				if !s.at.Same(r) && !s.at.SignedBy(r) || !s.passed && !passes(r) {
					continue
				}
				t, _ := bars(r)
				if t.Stale == nil { // the lists of an anchor are not asked for
					t = limited(s.path, r)
				}
				if t.Trusted {
					return t
				}
				why = &t
			}
			for _, y := range intermediates {
				if y.CA && !y.Same(s.at) && s.at.SignedBy(y) && !slices.ContainsFunc(next, func(o step) bool { return o.at.Same(y) }) {
					next = append(next, step{y, s.passed || passes(y), append(slices.Clip(s.path), y)})
				}
			}
		}
		steps = next
	}
	switch {
	case why != nil:
		return *why
	case last.SelfSigned:
		return Trust{Known: true}
	}
	return Trust{Known: true, Lacks: last.Issuer, Below: last.Subject}
}

// Authorities are the certificates of authorities that a connection's daemon trusts, whichever it names.
func (g *Gateway) Authorities(c *Connection) []*Certificate {
	var all, kept []*Certificate
	for _, x := range g.loaded(c) {
		if !x.CA {
			continue
		}
		all = append(all, x)
		if path.Base(path.Dir(x.At.File)) == c.Daemon.Certs.Folder {
			kept = append(kept, x)
		}
	}
	if len(kept) > 0 {
		return kept
	}
	return all // which of them lie where is not known: the folders are not the gateway's
}

// sends are the intermediate authorities that a gateway sends along with a certificate, to a peer that has some authorities and asks for
// them.
func (g *Gateway) sends(c *Connection, cert *Certificate, asked []*Certificate) []*Certificate {
	does := c.Daemon.Certs
	if c.SendCert.Value == SentNever {
		return nil
	}
	if !does.SendsAsked && !does.SendsToRoot {
		return g.loaded(c) // not known: any that it has
	}
	own := g.Authorities(c)
	isAsked := func(x *Certificate) bool { return slices.ContainsFunc(asked, x.Same) }
	var out []*Certificate
	whole, met := false, false
	for at := cert; len(out) < longest && !whole; {
		i := slices.IndexFunc(own, func(y *Certificate) bool { return !y.Same(at) && at.SignedBy(y) })
		if i < 0 {
			break
		}
		at = own[i]
		if whole, met = at.SelfSigned, met || isAsked(at); !whole { // a root is of no use to a peer that has not got it
			out = append(out, at)
		}
	}
	if does.SendsToRoot && !whole || does.SendsAsked && !met && slices.ContainsFunc(own, isAsked) {
		return nil
	}
	return out
}
