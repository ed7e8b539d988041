package baseline_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/baseline"
	"toril/ike"
	"toril/present"
)

func named(t *testing.T, name string) *baseline.Baseline {
	b, err := baseline.Named(name)
	require.NoError(t, err)
	return b
}

func TestEveryEmbeddedBaselineIsWhole(t *testing.T) {
	for _, name := range baseline.Names() {
		b := named(t, name)
		assert.Equal(t, name, b.Name)
		assert.NotEmpty(t, b.Title)
		documents := map[string]bool{
			"RFC 4303":              true,
			"RFC 2409":              true,
			"RFC 7296":              true,
			"RFC 3706":              true,
			"RFC 4304":              true,
			"NIST SP 800-77 Rev. 1": true,
			"NIST SP 800-67 Rev. 2": true,
			"RFC 8784":              true,
		}
		for _, d := range b.Documents {
			documents[d.Name] = true
		}
		for _, r := range b.Rules {
			assert.True(
				t,
				documents[r.Source.Document],
				"%s: a rule for %v stands in %q, which is not in its list of documents",
				name,
				r.Names,
				r.Source.Document,
			)
			assert.NotZero(t, r.Level)
			assert.NotEmpty(t, r.For)
		}
		for _, l := range b.Limits {
			assert.True(t, documents[l.Source.Document], "%s: limit %s", name, l.Name)
		}
		for _, d := range b.Demands {
			assert.True(t, documents[d.Source.Document], "%s: demand %s", name, d.Name)
		}
	}
	assert.Equal(t, baseline.Default, baseline.Names()[0])
}

func TestJudge(t *testing.T) {
	for _, c := range []struct {
		baseline string
		protocol ike.Protocol
		choice   ike.Choice
		want     baseline.Level
	}{
		{"rfc", ike.IKE, ike.Pick(ike.Encryption, 12, 128), baseline.Must},
		{"rfc", ike.IKE, ike.Pick(ike.Encryption, 12, 192), baseline.May},
		{"rfc", ike.IKE, ike.Pick(ike.Encryption, 3, 0), baseline.May},
		{"rfc", ike.ESP, ike.Pick(ike.Encryption, 3, 0), baseline.ShouldNot},
		{"sound", ike.IKE, ike.Pick(ike.Encryption, 3, 0), baseline.MustNot},
		{"rfc", ike.IKE, ike.Pick(ike.KeyExchange, 2, 0), baseline.ShouldNot},
		{"sound", ike.IKE, ike.Pick(ike.KeyExchange, 2, 0), baseline.MustNot},
		{"sound", ike.IKE, ike.Pick(ike.KeyExchange, 14, 0), baseline.Must},
		{"bsi", ike.IKE, ike.Pick(ike.KeyExchange, 14, 0), baseline.ShouldNot},
		{"bsi", ike.IKE, ike.Pick(ike.KeyExchange, 28, 0), baseline.Must},
		{"nist", ike.ESP, ike.Pick(ike.Encryption, 12, 192), baseline.MustNot},
		{"cnsa1", ike.ESP, ike.Pick(ike.Encryption, 20, 128), baseline.MustNot},
		{"cnsa1", ike.ESP, ike.Pick(ike.Encryption, 20, 256), baseline.Must},
		{"cnsa2", ike.IKE, ike.Pick(ike.KeyExchange, 37, 0), baseline.Must},
		{"cnsa2", ike.IKE, ike.Pick(ike.KeyExchange, 31, 0), baseline.MustNot},
		{"rfc", ike.IKE, ike.Pick(ike.KeyExchange, 31, 0), baseline.Unsaid},
	} {
		got, _ := named(t, c.baseline).Judge(c.protocol, c.choice)
		assert.Equal(t, c.want, got, "%s: %s %s", c.baseline, c.protocol, c.choice)
	}
}

func TestErrorsNameTheLineAndSuggest(t *testing.T) {
	for text, want := range map[string]string{
		"name: x\nlimitz:\n  a: 1\n":                                                                     `f.yaml:2: unknown key "limitz"; did you mean "limits"?`,
		"name: x\nlimits:\n  child-liftime: {most: 4h}\n":                                                `f.yaml:3: unknown limit "child-liftime"; did you mean "child-lifetime"?`,
		"name: x\nlimits:\n  child-lifetime: {most: 4 weeks}\n":                                          `f.yaml:3: "4 weeks" is not a time (s, min, h, d)`,
		"name: x\nlimits:\n  child-lifetime: {most: 8KiB}\n":                                             `f.yaml:3: "8KiB" is not a time (s, min, h, d)`,
		"name: x\nlimits:\n  key-bits: {most: 100}\n":                                                    `f.yaml:3: no check enforces a bound "most" of key-bits`,
		"name: x\nlimits:\n  key-bits: {level: MUST}\n":                                                  `f.yaml:3: a limit has a bound: least`,
		"name: x\nlimits:\n  key-bits: {least: 100, level: MUST NOT}\n":                                  `f.yaml:3: a limit says what must or should be; MUST NOT says nothing about a bound`,
		"name: x\ndemands:\n  pfs: {level: MUST NOT}\n":                                                  `f.yaml:3: no check enforces MUST NOT against "pfs"`,
		"name: x\ndemands:\n  ah: {level: MUST}\n":                                                       `f.yaml:3: no check enforces MUST for "ah"`,
		"name: x\nalgorithms:\n  - {for: [esp], type: prf, names: [PRF_HMAC_SHA2_256], level: MUST}\n":   `f.yaml:3: no check judges the pseudorandom function algorithms of ESP`,
		"name: x\nalgorithms:\n  - {type: prf, names: [PRF_HMAC_SHA2_256], level: MUST}\n":               `f.yaml:3: a rule says for which protocols it is`,
		"name: x\ndemands:\n  pfs: {level: MUSST}\n":                                                     `f.yaml:3: unknown level "MUSST"; did you mean "MUST"?`,
		"name: x\nextends: soud\n":                                                                       `f.yaml:2: there is no baseline "soud"; did you mean "sound"?`,
		"name: x\nalgorithms:\n  - {for: [ike], type: encryption, names: [ENCR_AES_CBQ], level: MUST}\n": `f.yaml:3: unknown encryption algorithm "ENCR_AES_CBQ"; did you mean "ENCR_AES_CBC"?`,
		"name: x\nscopes:\n  - gateways: [a]\n    limits:\n      ike-lifetime: {mst: 1h}\n":              `f.yaml:5: unknown key "mst"; did you mean "most"?`,
		"title: x\n":                `f.yaml:1: a baseline has a name`,
		"name: x\n\tbad: [\n":       `f.yaml:2: `,
		"name: x\nlimits: [1, 2]\n": `f.yaml:2: `,
	} {
		_, err := baseline.Parse("f.yaml", []byte(text))
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), want)
	}
}

func TestOwnBaselineExtendsAndScopes(t *testing.T) {
	b, err := baseline.Parse("site.yaml", []byte(`
name: site
extends: sound
limits:
  ike-lifetime: {most: 8h, document: house rule}
scopes:
  - partners: ["harbour*"]
    limits: {child-lifetime: {most: 1h}}
    algorithms:
      - {for: [ike], type: key-exchange, names: ["2048-bit MODP Group"], level: MUST NOT, document: house rule}
`))
	require.NoError(t, err)
	group14 := ike.Pick(ike.KeyExchange, 14, 0)
	assert.Equal(t, 8*time.Hour, b.Limit(baseline.IKELifetime).Duration())
	assert.Equal(t, 8*time.Hour, b.Limit(baseline.ChildLifetime).Duration(), "inherited")
	inside, outside := b.For("skerry", "harbour-office"), b.For("skerry", "headland")
	assert.Equal(t, time.Hour, inside.Limit(baseline.ChildLifetime).Duration())
	assert.Equal(t, 8*time.Hour, outside.Limit(baseline.ChildLifetime).Duration())
	level, _ := inside.Judge(ike.IKE, group14)
	assert.Equal(t, baseline.MustNot, level)
	level, _ = outside.Judge(ike.IKE, group14)
	assert.Equal(t, baseline.Must, level)
}

func TestCompareOfTheFourDocuments(t *testing.T) {
	rows := baseline.Compare(named(t, "rfc"), named(t, "nist"), named(t, "cnsa2"), named(t, "bsi"))
	got := map[string][]string{}
	for _, r := range rows {
		for _, c := range r.Cells {
			got[r.Subject] = append(got[r.Subject], c.Text)
		}
	}
	assert.Equal(t, []string{"MAY", "MUST NOT", "MUST NOT", "SHOULD NOT"}, got["IKE encryption ENCR_3DES"])
	assert.Equal(t, []string{"MUST", "MUST", "MUST NOT", "MUST"}, got["ESP encryption ENCR_AES_GCM_16 128"])
	assert.Equal(t, []string{"MUST", "MUST", "MUST", "MUST"}, got["ESP encryption ENCR_AES_GCM_16 256"])
	assert.Equal(t, []string{"MUST", "MUST", "MUST NOT", "SHOULD NOT"}, got["IKE key exchange 2048-bit MODP Group"])
	assert.Equal(t, []string{"not said", "MUST at most 8 h", "not said", "SHOULD at most 4 h"}, got["limit child-lifetime"])
	assert.Equal(t, []string{"MUST", "MUST", "MUST", "MUST"}, got["demand ikev2"])
}

func TestSpan(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "0 s", 90 * time.Minute: "1 h 30 min", 24 * time.Hour: "24 h",
		72 * time.Hour: "3 d", 3960 * time.Second: "1 h 6 min"} {
		assert.Equal(t, want, present.Span(d))
	}
}
