package formats_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/read/readtest"
)

// TestSecretsOverSeveralLines: no line of a key that goes on in the next one shows its part of it.
func TestSecretsOverSeveralLines(t *testing.T) {
	for _, c := range []struct{ format, text string }{
		{"swanctl.conf", "secrets {\n ike-a {\n  id = b.example\n  secret = \"Jack\ndaw\"\n }\n}\n"},
		{"iked.conf", "ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.1 psk \"Jack\ndaw\"\n"},
		{"iked.conf", "ikev2 \"a\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.1 psk \\\n \"Jackdaw\"\n"},
		{"iked.conf", "user \"a\" \"Jack\ndaw\"\n"},
		{"ipsec.secrets", "a.example : PSK \"Jack\n daw\"\n"},
		{"ipsec.secrets", "a.example :\n PSK \"Jackdaw\"\n"},
	} {
		g := readtest.Read(byName(t, c.format), "x", c.text, nil)
		for n := 1; n <= g.Files[0].Lines(); n++ {
			quote := g.Files[0].Quote(g.Files[0].At(n))
			assert.NotContains(t, quote, "Jack", "%s %q", c.format, c.text)
			assert.NotContains(t, quote, "daw", "%s %q", c.format, c.text)
		}
	}
}
