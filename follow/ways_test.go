package follow_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/follow"
	"toril/walk"
)

// kinds counts the fates of all parts of a question's trips at the gateway that was asked.
func kinds(trips []*follow.Trip) map[walk.Fate]int {
	out := map[walk.Fate]int{}
	for _, t := range trips {
		for _, p := range t.Parts {
			out[p.Fate]++
		}
	}
	return out
}

func TestNATOnTheWay(t *testing.T) {
	const nat = "table ip nat {\nchain post {\ntype nat hook postrouting priority 100;\n%s\n}\n}\n"
	for rules, want := range map[string]walk.Fate{
		"oifname wan masquerade":                              walk.Clear,
		"ip daddr 10.2.0.0/16 accept\noifname wan masquerade": walk.Encrypted,
		"rt ipsec exists accept\noifname wan masquerade":      walk.Encrypted,
		"oifname lan masquerade":                              walk.Encrypted,
		"oifname wan snat to 10.1.9.9":                        walk.Encrypted, // into the domain again
	} {
		files := fstest.MapFS{}
		site(files, 1, fmt.Sprintf(nat, rules), "", 2)
		site(files, 2, "", "", 1)
		trips := ask(t, files, "g1", "10.1.0.5", "10.2.0.9:443", "", nil)
		require.Len(t, trips, 1, rules)
		require.Len(t, trips[0].Parts, 1, rules)
		p := trips[0].Parts[0]
		assert.Equal(t, want, p.Fate, rules)
		assert.Equal(t, "10.1.0.5", p.First.Src.String(), "the example is told as it came: %s", rules)
		if strings.Contains(rules, "10.1.9.9") {
			assert.Equal(t, "10.1.9.9", p.Last.Src.String())
			require.NotNil(t, p.Crossing.Trip)
			end := p.Crossing.Trip.Parts[0]
			assert.Equal(t, "10.1.9.9", end.First.Src.String(), "the far gateway sees the new source")
			assert.Empty(t, end.Stray)
			require.Len(t, end.Answer, 2)
			w, ok := end.Answer[1].Parts[0].Now.Witness()
			require.True(t, ok)
			assert.Equal(t, "10.1.0.5", w.Dst.String(), "the answer is turned back to who asked")
		}
	}
}

func TestSetsPart(t *testing.T) {
	files := fstest.MapFS{}
	site(
		files,
		1,
		fmt.Sprintf(forward, "ct state established accept\nip daddr 10.2.0.0/24 tcp dport { 22, 443 } accept\nip daddr 10.2.9.9 accept"),
		"",
		2,
	)
	site(files, 2, fmt.Sprintf(forward, "ct state established accept\nmeta ipsec exists tcp dport 443 accept"), "", 1)
	trips := ask(t, files, "g1", "10.1.0.0/28", "10.2.0.0/20", "tcp", func(q *follow.Question) { q.In = "lan" })
	require.Len(t, trips, 1)
	got := kinds(trips)
	assert.Equal(t, 2, got[walk.Encrypted], "two rules let some through")
	assert.Equal(t, 1, got[walk.Dropped], "the policy stops the rest")
	for _, p := range trips[0].Parts {
		assert.True(t, p.Came.Has(p.First) || p.Came.Overlaps(p.First.Set()), "the example is one of them: %s", p.First)
		for _, q := range trips[0].Parts {
			if p != q {
				assert.False(t, p.Came.Overlaps(q.Came), "no packet has two fates: %s and %s", p.Came, q.Came)
			}
		}
	}
}

func TestWrongInterfaceIsDroppedByThePolicy(t *testing.T) {
	files := fstest.MapFS{}
	site(files, 1, "", "", 2)
	site(files, 2, "", "", 1)
	p := ask(t, files, "g2", "10.1.0.5", "10.2.0.9", "icmp", func(q *follow.Question) { q.In = "wan" })[0].Parts[0]
	assert.Equal(t, walk.Dropped, p.Fate, "what should have come through the tunnel came in the clear")
	assert.Equal(t, "policy", p.Where)
}

func TestFarEndThatWasNotGiven(t *testing.T) {
	files := fstest.MapFS{}
	site(files, 1, "", "", 2)
	c := ask(t, files, "g1", "10.1.0.5", "10.2.0.9", "icmp", nil)[0].Parts[0].Crossing
	require.NotNil(t, c)
	assert.Empty(t, c.Lost)
	assert.Nil(t, c.Trip, "what is behind is not known, and not guessed")
}

func TestRoundInACircle(t *testing.T) {
	files := fstest.MapFS{}
	site(files, 1, "", "REMOTE2=10.2.0.0/16,10.9.0.0/16", 2)
	site(files, 2, "", "LOCAL1=10.2.0.0/16,10.9.0.0/16", 1)
	files["g2/swanctl.conf"].Data = []byte(
		strings.ReplaceAll(string(files["g2/swanctl.conf"].Data), "remote_ts=10.1.0.0/16", "remote_ts=10.1.0.0/16,10.9.0.0/16"),
	)
	p := ask(t, files, "g1", "10.1.0.5", "10.9.0.9", "icmp", nil)[0].Parts[0]
	assert.Equal(t, walk.Encrypted, p.Fate)
	require.NotNil(t, p.Crossing.Trip, p.Crossing.Lost)
	for _, q := range p.Crossing.Trip.Parts {
		if q.Fate == walk.Encrypted {
			assert.Contains(t, q.Crossing.Lost, "in a circle")
		}
	}
}

func TestNothingAtAll(t *testing.T) {
	files := fstest.MapFS{}
	site(files, 1, "", "", 2)
	trips := ask(t, files, "g1", "10.1.0.5", "10.2.0.9", "icmp", func(q *follow.Question) { q.Packets = q.Packets.Minus(q.Packets) })
	assert.Empty(t, trips)
}
