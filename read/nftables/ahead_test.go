package nftables_test

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/read/nftables"
	"toril/read/readtest"
)

// TestLongChainsAreReadAhead holds a chain that is long enough to be read on all processors against the same rules as commands, which are
// read one by one.
func TestLongChainsAreReadAhead(t *testing.T) {
	r := rand.New(rand.NewPCG(20261128, 1))
	odd := []string{
		"tcp dport { 22, 80 } drop",
		"ip saddr { 10.0.0.1,\n 10.0.0.2 } accept",
		"ip saddr 10.3.0.0/16 \\\n tcp dport 23 drop",
		"log prefix \"on two\n lines ip saddr 10.9.0.0/16 accept\" accept",
		"jump next",
		"ip saddr @gone accept",
		"warble",
		"ip saddr $one accept",
		"counter log accept # and a remark { \"",
		"ip6 daddr fd00::/8 accept",
		"tcp dport 25 " + strings.Repeat("counter ", 300) + "accept",
	}
	rules := func(n int) (out []string) {
		for i := range n {
			if r.IntN(8) == 0 {
				out = append(out, odd[r.IntN(len(odd))])
				continue
			}
			out = append(out, fmt.Sprintf("ip saddr 10.%d.%d.0/24 ip daddr 172.16.%d.0/24 tcp dport %d %s",
				i>>8&255, i&255, r.IntN(256), 1+r.IntN(9000), []string{"accept", "drop"}[r.IntN(2)]))
		}
		return out
	}
	const opens = "table %s %s {\n chain next {\n }\n chain c {\n  type filter hook forward priority 0\n"
	var long, short strings.Builder
	all := map[string]bool{}
	for _, family := range []string{"ip6", "inet", "ip"} {
		n := 6000
		if family == "ip6" {
			n = 1500 // enough to begin, for another family than what comes
		}
		long.WriteString(fmt.Sprintf(opens, family, "t"))
		short.WriteString(fmt.Sprintf(opens, family, "t") + " }\n}\n")
		for _, rule := range rules(n) {
			rule = strings.ReplaceAll(rule, "$one", "10.0.0.1")
			if family == "ip6" {
				rule = strings.ReplaceAll(rule, "ip saddr 10.", "ip saddr != 10.")
			}
			fmt.Fprintf(&long, "\t%s\n", rule)
			fmt.Fprintf(&short, "add rule %s t c %s\n", family, rule)
			rule, _, _ = strings.Cut(rule, " #")
			all[rule] = true
		}
		long.WriteString(" }\n}\n")
	}
	text := long.String()
	got, want := readtest.Read(nftables.Text, "n.conf", text, nil), readtest.Read(nftables.Text, "n.conf", short.String(), nil)
	require.Empty(t, readtest.Problems(want))
	assert.Equal(t, readtest.Problems(want), readtest.Problems(got))
	assert.Equal(t, len(readtest.Unread(want)), len(readtest.Unread(got)))
	require.Equal(t, readtest.Rules(want), readtest.Rules(got))
	seen := 0
	for _, c := range got.Chains {
		for _, rule := range c.Rules {
			seen++
			at := rule.At
			if !all[text[at.Start:at.End]] || at.Line != 1+strings.Count(text[:at.Start], "\n") {
				t.Fatalf("line %d: %q", at.Line, text[at.Start:at.End])
			}
		}
	}
	assert.Greater(t, seen, 13_000)
}

// TestAChainThatGoesOnElsewhere has a thousand rules before a long file goes on with it: how far it has come in that file tells nothing of
// how many there will be.
func TestAChainThatGoesOnElsewhere(t *testing.T) {
	opens := "table inet t {\n chain c {\n"
	rules := func(n int) string {
		return strings.Repeat("  ip saddr 10.0.0.0/8 tcp dport 443 accept\n", n) + " }\n}\n"
	}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	more := map[string]string{"more.nft": opens + rules(8000)}
	g := readtest.Read(nftables.Text, "n.conf", opens+rules(999)+"include \"more.nft\"\n", more)
	runtime.ReadMemStats(&after)
	require.Empty(t, readtest.Problems(g))
	assert.Len(t, g.Chains[0].Rules, 8999)
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(100<<20))
}
