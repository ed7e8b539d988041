package suite_test

import (
	"context"
	"fmt"
	"math/big"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/daemon/strongswan"
	"toril/estate"
	"toril/ike"
	"toril/model"
	"toril/pair"
	"toril/source"
)

// sample is a connection in the model, against which a line of a baseline is tried.
type sample struct {
	g *model.Gateway
	c *model.Connection
	k *model.Child
}

var someday = time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC)

func at(line int) source.Pos { return source.Pos{File: "g/x", Line: line} }

func newSample() *sample {
	s := &sample{
		g: &model.Gateway{Name: "g"},
		c: &model.Connection{Name: "c", At: at(1), Daemon: strongswan.Daemon},
		k: &model.Child{Name: "k", At: at(2)},
	}
	s.g.Connections, s.c.Children = []*model.Connection{s.c}, []*model.Child{s.k}
	net := func(text string) ike.Selectors {
		return ike.Selectors{{Lo: ip(text), Hi: ip(text), HiPort: 65535}}
	}
	s.c.RemoteAddrs.Value = model.Addresses{{Text: "203.0.113.9", Lo: ip("203.0.113.9"), Hi: ip("203.0.113.9")}}
	s.c.Version, s.c.DPD = model.Say(ike.V2, at(3)), model.Say(30*time.Second, at(4))
	s.c.Rekey, s.c.Local.Method, s.c.Remote.Method = model.Say(
		4*time.Hour,
		at(5),
	), model.Say(
		ike.Certificate,
		at(6),
	), model.Say(
		ike.Certificate,
		at(6),
	)
	s.c.Local.ID, s.c.Remote.ID = model.Say(ike.FQDN("a.example"), at(7)), model.Say(ike.FQDN("b.example"), at(8))
	s.k.Protocol.Value = ike.ESP
	s.k.Local, s.k.Remote = model.Say(net("10.1.0.1"), at(9)), model.Say(net("10.2.0.1"), at(10))
	s.k.Rekey, s.k.Life, s.k.ReplayWindow, s.k.Policies = model.Say(
		time.Hour,
		at(11),
	), model.Say(
		66*time.Minute,
		at(11),
	), model.Say(
		1024,
		at(12),
	), model.Say(
		true,
		at(2),
	)
	s.c.Proposals, s.k.Proposals = model.Say(
		[]ike.Proposal{{Protocol: ike.IKE}},
		at(13),
	), model.Say(
		[]ike.Proposal{{Protocol: ike.ESP}},
		at(14),
	)
	return s
}

// offer makes the sample offer one algorithm.
func (s *sample) offer(p ike.Protocol, r ike.Registry, c ike.Choice) {
	one := ike.Proposal{Protocol: p}
	one.Transforms[r] = ike.Choices{c}
	if p == ike.IKE {
		s.c.Proposals.Value = []ike.Proposal{one}
		return
	}
	s.k.Protocol.Value, s.k.Proposals.Value = p, []ike.Proposal{one}
}

func (s *sample) certificate(keyType string, bits int) *model.Certificate {
	c := &model.Certificate{
		At:      at(20),
		Subject: ike.DN("CN=g"),
		KeyType: keyType,
		KeyBits: bits,
		From:    someday.AddDate(-1, 0, 0),
		To:      someday.AddDate(5, 0, 0),
		Signs:   true,
		ForIKE:  true,
		Names:   []ike.Identity{ike.FQDN("a.example")},
	}
	s.g.Certs = append(s.g.Certs, c)
	return c
}

func (s *sample) key(text string) {
	s.c.Local.Method.Value, s.c.Remote.Method.Value = ike.PSK, ike.PSK
	s.g.Keys = append(s.g.Keys, &model.Key{At: at(21), Secret: source.NewSecret(text), Owners: []ike.Identity{ike.FQDN("b.example")}})
}

func (s *sample) findings(t *testing.T, b *baseline.Baseline) []*audit.Finding {
	r, err := audit.Run(context.Background(), pair.Of(estate.Of(s.g)), suite.All(), b, someday)
	require.NoError(t, err)
	return r.Findings
}

// authentications make the sample authenticate by an IANA method; nil where no connection can be told to.
var authentications = map[uint16]func(*sample){
	1: func(s *sample) { s.certificate("RSA", 4096) }, 2: func(s *sample) { s.key("Zk3vXq8LmT2wRc7YpB5nHd9JgAe6UoFs") },
	3: func(s *sample) { s.certificate("DSA", 2048) },
	9: func(s *sample) { s.certificate("ECDSA", 256) }, 10: func(s *sample) { s.certificate("ECDSA", 384) },
	11: func(s *sample) { s.certificate("ECDSA", 521) },
	13: func(s *sample) { s.c.Local.Method.Value = ike.NoAuth }, 14: func(s *sample) { s.certificate("Ed25519", 256) },
}

// limits break a limit, by its kind: at is just beyond the bound.
var limits = map[*baseline.Kind]func(s *sample, most bool, at float64){
	baseline.IKELifetime: func(s *sample, _ bool, at float64) { s.c.Rekey.Value = time.Duration(at * float64(time.Second)) },
	baseline.ChildLifetime: func(s *sample, _ bool, at float64) {
		s.k.Rekey.Value = time.Duration(at * float64(time.Second))
		s.k.Life.Value = s.k.Rekey.Value * 11 / 10
	},
	baseline.KeyBits:      func(s *sample, _ bool, _ float64) { s.key("correcthorsecorrecthorse") },
	baseline.KeyLength:    func(s *sample, _ bool, at float64) { s.key("Zk3vXq8LmT2wRc7YpB5nHd9JgAe6UoFs"[:int(at)]) },
	baseline.RSABits:      func(s *sample, _ bool, at float64) { s.certificate("RSA", int(at)) },
	baseline.CurveBits:    func(s *sample, _ bool, at float64) { s.certificate("ECDSA", int(at)) },
	baseline.ReplayWindow: func(s *sample, _ bool, at float64) { s.k.ReplayWindow.Value = int(at) },
	baseline.Volume64: func(s *sample, _ bool, at float64) {
		s.offer(ike.ESP, ike.Encryption, ike.Pick(ike.Encryption, 3, 0))
		s.k.LifeBytes = model.Say(uint64(at*1.5), at2)
	},
	baseline.CertificateExpiry: func(s *sample, _ bool, at float64) {
		s.certificate("RSA", 4096).To = someday.Add(time.Duration(at * float64(time.Second)))
	},
}

func ip(text string) netip.Addr { return netip.MustParseAddr(text) }

var at2 = at(15)

// demands break a demand, by its kind.
var demands = map[*baseline.Kind]func(*sample){
	baseline.IKEv2: func(s *sample) { s.c.Version.Value = ike.V1 },
	baseline.PFS:   func(s *sample) { s.offer(ike.ESP, ike.Encryption, ike.Pick(ike.Encryption, 20, 256)) },
	baseline.AggressiveWithKey: func(s *sample) {
		s.c.Version.Value, s.c.Aggressive.Value = ike.V1, true
		s.key("Zk3vXq8LmT2wRc7YpB5nHd9JgAe6UoFs")
	},
	baseline.QuantumSafe: func(s *sample) { s.offer(ike.IKE, ike.KeyExchange, ike.Pick(ike.KeyExchange, 20, 0)) },
	baseline.QuantumSafeKE: func(s *sample) {
		s.offer(ike.IKE, ike.KeyExchange, ike.Pick(ike.KeyExchange, 20, 0))
		s.c.PPK.Value, s.c.PPKRequired.Value = true, true
	},
	baseline.Certificates:     func(s *sample) { s.key("Zk3vXq8LmT2wRc7YpB5nHd9JgAe6UoFs") },
	baseline.ReplayProtection: func(s *sample) { s.k.ReplayWindow.Value = 0 },
	baseline.ExtendedSequence: func(s *sample) { s.k.Rekey.Value = 24 * time.Hour; s.k.Life.Value = 26 * time.Hour },
	baseline.Liveness:         func(s *sample) { s.c.DPD.Value = 0 },
	baseline.AH:               func(s *sample) { s.offer(ike.AH, ike.Integrity, ike.Pick(ike.Integrity, 12, 0)) },
	baseline.IPCompression:    func(s *sample) { s.k.IPComp = model.Say(true, at2) },
	baseline.SHA1Signature:    func(s *sample) { s.certificate("RSA", 4096).WeakHash = true },
}

// TestEveryLineOfTheBaselinesBites walks what every embedded baseline holds: an algorithm that a rule advises against, and a
// value beyond a bound, is found by the check that enforces it, with the line's document; what a rule asks for or allows is not.
func TestEveryLineOfTheBaselinesBites(t *testing.T) {
	for _, name := range baseline.Names() {
		b, err := baseline.Named(name)
		require.NoError(t, err)
		t.Run(name, func(t *testing.T) {
			lines := 0
			for _, rule := range b.Rules {
				for _, p := range rule.For {
					for _, c := range meant(b, rule, p) {
						lines++
						tryRule(t, b, rule, p, c)
					}
				}
			}
			for _, k := range baseline.LimitKinds() {
				l := b.Limit(k)
				if l.Most > 0 {
					lines++
					tryLimit(t, b, k, l, true, l.Most+1)
				}
				if l.Least > 0 {
					lines++
					tryLimit(t, b, k, l, false, l.Least-1)
				}
			}
			for _, k := range baseline.DemandKinds() {
				d := b.Demand(k)
				if d.Level == baseline.Unsaid ||
					d.Level == baseline.May && !slices.Contains([]*baseline.Kind{baseline.QuantumSafe, baseline.ExtendedSequence}, k) {
					continue
				}
				lines++
				s := newSample()
				require.NotNil(t, demands[k], k.Name)
				demands[k](s)
				found := of(s.findings(t, b), k.Check)
				if assert.NotNil(t, found, "%s: %s is broken and %s is silent", name, k.Name, k.Check) {
					assert.Contains(t, found.Standard, d.Source.Document, "%s: %s", name, k.Name)
				}
			}
			assert.Positive(t, lines)
		})
	}
}

// meant are the algorithms that a rule is for: those that it names, or for "*" one that no other rule names.
func meant(b *baseline.Baseline, rule baseline.Rule, p ike.Protocol) ike.Choices {
	var out ike.Choices
	for i := range ike.Catalogue {
		a := &ike.Catalogue[i]
		if a.Registry != rule.Type {
			continue
		}
		for _, bits := range append([]int{0}, a.Keys...) {
			c := ike.Choice{Algorithm: a, KeyBits: bits}
			if bits == 0 && len(a.Keys) > 0 {
				continue
			}
			level, got := b.Judge(p, c)
			if level == rule.Level && slices.Equal(got.Names, rule.Names) && slices.Equal(got.Bits, rule.Bits) &&
				got.Source == rule.Source &&
				slices.Equal(got.For, rule.For) {
				out = append(out, c)
			}
		}
	}
	return out[:min(len(out), 12)]
}

func tryRule(t *testing.T, b *baseline.Baseline, rule baseline.Rule, p ike.Protocol, c ike.Choice) {
	s := newSample()
	checks := []string{"ike/weak-algorithm"}
	switch {
	case rule.Type == ike.AuthMethod:
		make := authentications[c.ID]
		if make == nil {
			return // no connection can be told to use it
		}
		make(s)
		checks = []string{"ike/authentication"}
	case rule.Type.Exchanges() && c.ID == 0:
		return
	case rule.Type.Exchanges() && p != ike.IKE:
		checks = []string{"pfs/weak-group"}
	case p != ike.IKE && rule.Type == ike.Encryption && c.Bits == 0:
		checks = []string{"esp/no-encryption"}
	case p != ike.IKE && rule.Type == ike.Integrity && c.ID == 0:
		checks = []string{"esp/no-integrity"}
	case p != ike.IKE:
		checks = []string{"esp/weak-algorithm"}
	}
	if rule.Type != ike.AuthMethod {
		s.offer(p, rule.Type, c)
	}
	found := of(s.findings(t, b), checks...)
	what := fmt.Sprintf("%s: %s %s %s of %s", b.Name, rule.Level, p, c, rule.Source)
	if !rule.Level.Against() {
		if found != nil && checks[0] != "esp/no-encryption" && checks[0] != "esp/no-integrity" {
			assert.NotContains(t, found.Message, c.String(), "%s is held against a tunnel", what)
		}
		return
	}
	if assert.NotNil(t, found, "%s: nothing is found", what) && !strings.HasPrefix(checks[0], "esp/no-") {
		assert.Contains(t, found.Standard, rule.Source.Document, what)
		assert.Equal(t, audit.OfLevel(rule.Level), found.Severity, what)
	}
}

func tryLimit(t *testing.T, b *baseline.Baseline, k *baseline.Kind, l baseline.Limit, most bool, at float64) {
	s := newSample()
	require.NotNil(t, limits[k], k.Name)
	limits[k](s, most, at)
	check := k.Check
	if !most && (k == baseline.IKELifetime || k == baseline.ChildLifetime) {
		check = "life/too-short"
	}
	found := of(s.findings(t, b), check)
	if assert.NotNil(t, found, "%s: %s is broken at %v and %s is silent", b.Name, k.Name, big.NewFloat(at), check) {
		assert.Contains(t, found.Standard, l.Source.Document, "%s: %s", b.Name, k.Name)
	}
}

func of(fs []*audit.Finding, checks ...string) *audit.Finding {
	for i := range fs {
		if slices.Contains(checks, fs[i].Check) {
			return fs[i]
		}
	}
	return nil
}

// TestEveryKindNamesItsCheck: what a baseline may hold names the check that enforces it, and the check says so.
func TestEveryKindNamesItsCheck(t *testing.T) {
	for _, k := range append(baseline.LimitKinds(), baseline.DemandKinds()...) {
		i := slices.IndexFunc(suite.All(), func(c *audit.Check) bool { return c.Name == k.Check })
		if assert.GreaterOrEqual(t, i, 0, "%s names %s, which is no check", k.Name, k.Check) {
			assert.Contains(t, suite.All()[i].Doc.Demands, k.Name, k.Check)
		}
		assert.True(t, k.Unit != baseline.NoUnit == (k.Most || k.Least), k.Name)
		assert.True(t, k.Unit == baseline.NoUnit == (k.For || k.Against), k.Name)
	}
}

// TestEveryKeyExchangeMayHaveToResist: where a baseline asks for a quantum-safe key exchange, a post-quantum pre-shared key is not
// enough, and the message says so.
func TestEveryKeyExchangeMayHaveToResist(t *testing.T) {
	conf := "connections {\n  a {\n    version = 2\n    remote_addrs = 192.0.2.1\n    proposals = aes256gcm16-prfsha384-ecp384%s\n" +
		"    ppk_id = both\n    ppk_required = yes\n  }\n}\n"
	for demand, wants := range map[string][2]string{
		"quantum-safe": {"", ""},
		"quantum-safe-key": {"no key exchange of the tunnel withstands a quantum computer, and the baseline does not take a " +
			"post-quantum pre-shared key for one", ""},
	} {
		b, err := baseline.Parse("site.yaml", []byte("name: site\ndemands:\n  "+demand+": {level: MUST, document: house rule}\n"))
		require.NoError(t, err)
		for i, more := range []string{"", "-ke1_mlkem1024"} {
			r := run(t, fstest.MapFS{"g/swanctl.conf": {Data: []byte(fmt.Sprintf(conf, more))}}, suite.All(), b)
			got := ""
			for _, f := range r.Findings {
				if f.Check == "ike/quantum" {
					got = f.Message
					assert.Equal(t, audit.High, f.Severity)
				}
			}
			assert.Equal(t, wants[i], got, "%s with %s", demand, more)
		}
	}
}
