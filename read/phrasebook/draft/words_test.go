package draft

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
	"toril/source"
	"toril/syntax/statements"
)

// TestWordsForAlgorithms: what many languages write, by IANA's names, which the catalogue knows.
func TestWordsForAlgorithms(t *testing.T) {
	for word, want := range map[string]string{
		"aes256": "encryption ENCR_AES_CBC 256", "AES-128-CBC": "encryption ENCR_AES_CBC 128", "aes": "encryption ENCR_AES_CBC 128",
		"aes-256-gcm": "encryption ENCR_AES_GCM_16 256", "aes128gcm16": "encryption ENCR_AES_GCM_16 128", "gcm-256": "encryption " +
			"ENCR_AES_GCM_16 256",
		"3DES": "encryption ENCR_3DES", "des": "encryption ENCR_DES", "triple-des": "encryption ENCR_3DES",
		"chacha20-poly1305": "encryption ENCR_CHACHA20_POLY1305", "null": "encryption ENCR_NULL",
		"sha1": "integrity AUTH_HMAC_SHA1_96", "SHA": "integrity AUTH_HMAC_SHA1_96", "hmac-sha2-256": "integrity AUTH_HMAC_SHA2_256_128",
		"sha512": "integrity AUTH_HMAC_SHA2_512_256", "md5": "integrity AUTH_HMAC_MD5_96",
		"aesop": "", "shark": "", "desk": "", "strong": "", "aes257": "", "": "", "256": "",
	} {
		part, iana, ok := algorithm(word)
		assert.Equal(t, want, strings.TrimSpace(part+" "+iana), word)
		assert.Equal(t, want != "", ok, word)
		if name, _, _ := strings.Cut(iana, " "); ok {
			r := map[string]ike.Registry{"encryption": ike.Encryption, "integrity": ike.Integrity}[part]
			assert.NotNil(t, ike.ByName(r, name), iana)
		}
	}
	for integrity, want := range map[string]string{"AUTH_HMAC_MD5_96": "PRF_HMAC_MD5", "AUTH_HMAC_SHA1_96": "PRF_HMAC_SHA1",
		"AUTH_HMAC_SHA2_256_128": "PRF_HMAC_SHA2_256", "ENCR_AES_CBC 128": "", "": ""} {
		assert.Equal(t, want, prfOf(integrity), integrity)
		assert.True(t, want == "" || ike.ByName(ike.PRF, want) != nil, want)
	}
	for word, want := range map[string]string{"group14": "14", "Group-2": "2", "modp2048": "14", "ecp384": "20",
		"curve25519": "31", "group99": "",
		"group2048": "", "14": "", "grouping": ""} {
		got, ok := group(word)
		assert.Equal(t, want, got, word)
		assert.Equal(t, want != "", ok)
	}
	for n, want := range map[string]bool{"14": true, "2048": true, "20": true, "0": false, "40": false, "1000": false, "x": false,
		"": false} {
		assert.Equal(t, want, isGroup(n), n)
	}
}

// TestUnitsOfLifetimes: a word beside the number tells; else its size, which is a guess.
func TestUnitsOfLifetimes(t *testing.T) {
	for _, c := range []struct {
		text, number, unit string
		sure               bool
	}{
		{"lifetime 480 minutes", "480", "minutes", true}, {"life-seconds", "60", "seconds", true}, {"renew after hours", "8",
			"hours", true},
		{"lifetime", "28800", "seconds", false}, {"lifetime", "1440", "minutes", false}, {"lifetime", "480", "minutes", false},
		{"lifetime", "8", "hours", false}, {"lifetime", "3600", "seconds", false},
	} {
		unit, sure := unit(c.text, c.number)
		assert.Equal(t, c.unit, unit, c)
		assert.Equal(t, c.sure, sure, c)
	}
	for around, want := range map[string][2]bool{
		"ike lifetime": {false, true}, "esp lifetime": {true, true}, "tunnel ike lifetime": {false, true}, "ike group " +
			"tunnel": {false, true},
		"ike esp": {true, true}, "esp ike": {false, true}, "tunnel lifetime": {true, false}, "lifetime": {false, false},
		"childsa": {true, true},
		"phase1":  {false, true}, "phase-2 x": {true, true}, "": {false, false},
	} {
		child, sure := phase(around)
		assert.Equal(t, want, [2]bool{child, sure}, around)
	}
}

// TestSyntaxes are recognised by what the text looks like.
func TestSyntaxes(t *testing.T) {
	for text, want := range map[string]statements.Manner{
		"<a><b>c</b></a>":                            {Kind: statements.XML},
		`{"a": {"b": 1}}`:                            {Kind: statements.JSON},
		"a {\n b c;\n d e;\n}\n":                     {Kind: statements.Braces, End: ";"},
		"a {\n b c\n d e\n}\n":                       {Kind: statements.Braces},
		"[a]\nb = c\n[d]\ne = f\n":                   {Kind: statements.INI},
		"put a b\nput c d\nput e \"f g\"\nput h i\n": {Kind: statements.Paths, Quotes: `"`},
		"a b\n c d\n! words\ne f\nexit\ng h\nexit\n": {Kind: statements.Lines, Comments: []string{"!"}, Leave: []string{"exit"}},
		"go a \\\n from $x \\\n to c\nx = 5\n":       {Kind: statements.Lines, Join: true, Clauses: []string{"from", "to"}, Macros: "$"},
		"# it's a note\na b\n c d\n":                 {Kind: statements.Lines, Comments: []string{"#"}},
		"":                                           {Kind: statements.Lines},
		"<not xml":                                   {Kind: statements.Lines},
	} {
		assert.Equal(t, want, manner([]*source.File{source.NewFile("x", []byte(text))}), text)
	}
}

// TestADraftOfRulesAndRoutes: what looks like rules, routes and routing protocols; what is not known stands at the end.
func TestADraftOfRulesAndRoutes(t *testing.T) {
	const text = "interface lan\n address 10.1.0.1/16\ninterface wan\n address 192.0.2.1/24\nroute 0.0.0.0/0 192.0.2.254\nroute " +
		"10.9.0.0/16 192.0.2.9 50\n" +
		"router ospf\n network 10.1.0.0/16 area 0\n redistribute static\n neighbor 10.1.0.9\nrule 10\n deny\n from 10.8.0.0/16\n port " +
		"443\n" +
		"rule 20\n permit\n from 10.7.0.0/16\nmystery 7 words\nmystery 8 words\n"
	var out strings.Builder
	require.NoError(t, Write(&out, Of([]*source.File{source.NewFile("x", []byte(text))}, nil, "odd")))
	for _, want := range []string{
		"language: odd\n", "- say: \"interface <w:word>\"\n  makes: interface\n  named: \"<w>\"\n",
		"  - say: \"address <p:prefix>\"\n    interface: {address: \"<p>\"}\n",
		"- say: \"route <n:network> <a:address>\"\n  route: {to: \"<n>\", via: \"<a>\"} # a guess",
		"- say: \"route <n:network> <a:address> <k:number>\"\n  route: {to: \"<n>\", via: \"<a>\", metric: \"<k>\"} # a guess",
		"makes: routing\n  kind: ospf\n", "routing: {redistribute: \"static\"}", "routing: {neighbor: \"<a>\"}",
		"makes: rule\n  rule: {chain: across} # a guess\n", "rule: {from: \"<n>\"} # a guess", "rule: {ports: \"<k>\"} # a guess",
		"# Not guessed:\n", "#   2 × mystery <k:number> words\n",
	} {
		assert.Contains(t, out.String(), want)
	}
	assert.NotContains(t, out.String(), "moot", "nothing is of no consequence because it is not known")
}
