package iptables_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/read/iptables"
	"toril/read/readtest"
)

// TestBlocksOfTables: the last block of a table holds, one without COMMIT is not loaded, and what a block flushes is gone.
func TestBlocksOfTables(t *testing.T) {
	const first = "*filter\n:INPUT ACCEPT [0:0]\n:own - [0:0]\n-A INPUT -p tcp -m tcp --dport 1 -j ACCEPT\n" +
		"-A own -p tcp -m tcp --dport 2 -j ACCEPT\nCOMMIT\n"
	for _, c := range []struct{ name, text, want, refused string }{
		{"one", first, "INPUT 1; own 2", ""},
		{"twice", first + "*filter\n:INPUT DROP [0:0]\n-A INPUT -p tcp -m tcp --dport 3 -j ACCEPT\nCOMMIT\n", "INPUT 3", ""},
		{"two tables", first + "*nat\n:POSTROUTING ACCEPT [0:0]\n-A POSTROUTING -p tcp -m tcp --dport 9 -j MASQUERADE\nCOMMIT\n",
			"INPUT 1; own 2; POSTROUTING 9", ""},
		{"not committed", strings.TrimSuffix(first, "COMMIT\n"), "INPUT 1 unsure; own 2 unsure",
			`r.v4:1: table filter, begun here, has no COMMIT`},
		{"not committed before another", strings.TrimSuffix(first, "COMMIT\n") + "*nat\n:POSTROUTING ACCEPT [0:0]\nCOMMIT\n",
			"INPUT 1 unsure; own 2 unsure; POSTROUTING", `r.v4:1: table filter, begun here, has no COMMIT`},
		{"flushed", strings.Replace(first, "COMMIT", "-F INPUT\n-A INPUT -p tcp -m tcp --dport 4 -j DROP\nCOMMIT", 1), "INPUT 4; own 2",
			""},
		{"a chain taken out", strings.Replace(first, "COMMIT", "-F own\n-X own\nCOMMIT", 1), "INPUT 1", ""},
	} {
		g := readtest.Read(iptables.Save, "r.v4", c.text, nil)
		var got []string
		for _, ch := range g.Chains {
			text := ch.Name
			for _, r := range ch.Rules {
				w, _ := r.When.Witness()
				text += fmt.Sprintf(" %d", w.Dport)
			}
			if !ch.Doubts.Certain() {
				text += " unsure"
			}
			got = append(got, text)
		}
		assert.Equal(t, c.want, strings.Join(got, "; "), c.name)
		assert.Equal(t, c.refused, strings.Join(readtest.Problems(g), "; "), c.name)
		assert.Equal(t, c.refused != "", len(g.Refused) == 1, c.name)
	}
}

// TestModulesWithoutOptions: some have a meaning by themselves, which no file decides.
func TestModulesWithoutOptions(t *testing.T) {
	for match, doubt := range map[string]string{"-m rpfilter": "module rpfilter", "-m socket": "module socket",
		"-m limit": "module limit", "-m time": "module time", "-m rpfilter --invert": "module rpfilter", "-p tcp -m tcp": ""} {
		g := readtest.Read(iptables.Save, "r.v4", "*filter\n:INPUT ACCEPT [0:0]\n-A INPUT "+match+" -j DROP\nCOMMIT\n", nil)
		assert.Equal(t, doubt, strings.Join(g.Chains[0].Rules[0].Doubts.Says(), ", "), match)
		assert.Empty(t, readtest.Unread(g), match)
	}
}
