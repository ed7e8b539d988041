package nftables_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/model"
	"toril/read/nftables"
	"toril/read/readtest"
)

// TestWhatIsLeft: what a file makes and takes away again. What nft itself did with these texts is in lab/formats/samples/nftables,
// and what it refuses was asked of it one by one (version 1.0.6).
func TestWhatIsLeft(t *testing.T) {
	const made = "table ip f {\n chain c {\n  type filter hook input priority 0; policy drop;\n  tcp dport 1 accept\n" +
		"  tcp dport 2 accept\n }\n chain d {\n  tcp dport 9 accept\n }\n set s {\n type ipv4_addr\n elements = { 192.0.2.1 }\n }\n" +
		"}\n"
	const all = "c drop 1 2; d accept 9"
	for more, want := range map[string]string{
		"":                                      all,
		"insert rule ip f c tcp dport 3 accept": "c drop 3 1 2; d accept 9",
		"add rule ip f c index 0 tcp dport 3 accept":    "c drop 1 3 2; d accept 9",
		"insert rule ip f c index 1 tcp dport 3 accept": "c drop 1 3 2; d accept 9",
		"delete chain ip f d":                           "c drop 1 2",
		"delete chain f d":                              "c drop 1 2",
		"flush chain ip f c":                            "c drop; d accept 9",
		"flush table ip f":                              "c drop; d accept",
		"flush ruleset":                                 "",
		"flush ruleset ip":                              "",
		"flush ruleset ip6":                             all,
		"delete table ip f":                             "",
		"delete table ip other":                         all,
		"destroy table ip f":                            "",
		"add chain ip f c { policy accept; }":           "c accept 1 2; d accept 9",
		"table ip f {\n flags dormant\n}":               "",
		"list ruleset":                                  all,
		"delete rule ip f c handle 4":                   "c drop 1 2 unsure; d accept 9",
		"add rule ip f c position 4 tcp dport 3 accept": "c drop 1 2 3; d accept 9",
		made: "c drop 1 2 1 2; d accept 9 9",
	} {
		g := readtest.Read(nftables.Text, "n.nft", made+more+"\n", nil)
		assert.Empty(t, g.Refused, more)
		var got []string
		for _, c := range g.Chains {
			text := c.Name + " " + c.Policy.Value.String()
			for _, r := range c.Rules {
				w, _ := r.When.Witness()
				text += fmt.Sprintf(" %d", w.Dport)
			}
			if !c.Doubts.Certain() && strings.Contains(more, "delete rule") {
				text += " unsure"
			}
			got = append(got, text)
		}
		assert.Equal(t, want, strings.Join(got, "; "), more)
	}
}

// TestWhatNftRefuses: then nothing is loaded, and nothing of the file is certain.
func TestWhatNftRefuses(t *testing.T) {
	for text, want := range map[string]string{
		"\xef\xbb\xbftable ip f {\n}\n":                     "n.nft:1: the file begins with a byte order mark",
		"table ip f {\n chain c {\n":                        `n.nft:2: chain c, opened at line 2, is not closed: the file ends here`,
		"table ip f {\n}\n}\n":                              "n.nft:3: a closing brace has no opening one",
		"tabel ip f {\n}\n":                                 `n.nft:1: "tabel" is not a command`,
		"TABLE ip f {\n}\n":                                 `n.nft:1: "TABLE" is not a command`,
		"table ipp f {\n}\n":                                `n.nft:1: "ipp" is no family of tables`,
		"table ip f {\n chain c {\n accept comment \"x\n}}": "n.nft:4: chain c, opened at line 2, is not closed: the file ends here",
	} {
		g := readtest.Read(nftables.Text, "n.nft", "table ip f {\n chain z {\n  accept\n }\n}\n", nil)
		assert.Empty(t, g.Refused)
		g = readtest.Read(nftables.Text, "n.nft", text, nil)
		if assert.Len(t, g.Refused, 1, text) {
			assert.Equal(t, want, g.Refused[0].Error.Error(), text)
		}
		assert.NotEmpty(t, g.Doubts(model.AboutFilter), text)
	}
}
