package walk_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/read/nftables"
	"toril/read/readtest"
	"toril/walk"
)

func shadows(rules, policy string) string {
	g := readtest.Read(
		nftables.Text,
		"r.nft",
		"table inet f {\n\tchain x {\n\t\taccept\n\t}\n\tchain c {\n\t\ttype filter hook forward priority 0; policy "+policy+";\n"+rules+
			"\n\t}\n}\n",
		nil,
	)
	var out []string
	for _, s := range walk.Shadows(g.Chains[1]) {
		text := fmt.Sprintf("%d %s", s.Rule.At.Line-7, [...]string{"hidden", "impossible", "redundant"}[s.Kind])
		for _, r := range s.By {
			text += fmt.Sprintf(" %d", r.At.Line-7)
		}
		if s.Kind == walk.Hidden && s.Same {
			text += " same"
		}
		out = append(out, text)
	}
	return strings.Join(out, "; ")
}

func TestShadows(t *testing.T) {
	for rules, want := range map[string]string{
		"ip saddr 10.0.0.0/8 accept\nip saddr 10.1.0.0/16 drop":                                           "1 hidden 0",
		"ip saddr 10.0.0.0/8 accept\nip saddr 10.1.0.0/16 accept":                                         "1 hidden 0 same",
		"ip saddr 10.0.0.0/9 accept\nip saddr 10.128.0.0/9 drop\nip saddr 10.0.0.0/8 tcp dport 22 accept": "2 hidden 0 1",
		"ip saddr 10.0.0.0/9 accept\nip saddr 10.0.0.0/8 drop":                                            "1 redundant",
		"ip saddr 10.1.0.0/16 tcp dport 22 accept\nip saddr 10.0.0.0/8 accept":                            "0 redundant 1",
		"ip saddr 10.1.0.0/16 tcp dport 22 log accept\nip saddr 10.0.0.0/8 accept":                        "",
		"ip saddr 10.1.0.0/16 tcp dport 22 accept\nip saddr 10.1.0.0/24 drop\nip saddr 10.0.0.0/8 accept": "",
		"ip saddr 10.0.0.1 ip saddr 10.0.0.2 accept":                                                      "0 impossible",
		"tcp dport 22 udp dport 22 accept":                                                                "0 impossible",
		"ip saddr 10.0.0.0/8 counter\nip saddr 10.1.0.0/16 accept":                                        "",
		"limit rate 5/second accept\naccept":                                                              "",
		"ip saddr 10.0.0.0/8 limit rate 5/second drop\nip saddr 10.1.0.0/16 accept":                       "",
		"ip saddr 10.0.0.0/8 jump x\nip saddr 10.1.0.0/16 accept":                                         "",
		"meta mark set 5\nmeta mark 5 accept\nmeta mark 5 accept":                                         "",
		"tcp dport 22 return\ntcp dport { 22, 23 } accept\ntcp dport 22 accept":                           "2 hidden 0",
	} {
		assert.Equal(t, want, shadows(rules, "drop"), rules)
	}
	assert.Equal(t, "0 redundant", shadows("ip saddr 10.0.0.0/8 accept", "accept"))
}
