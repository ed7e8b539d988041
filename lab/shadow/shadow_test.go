//go:build lab

// Package shadow_test measures the analysis of very long chains against nft, which loads and checks the same file.
package shadow_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/estate"
	"toril/lab"
	"toril/read/formats"
	"toril/walk"
)

const rules = 100_000

// chain writes a forward chain of many rules; of every hundred, one lies within an earlier one and is never reached.
func chain(seed uint64) (text string, planted int) {
	r := rand.New(rand.NewPCG(seed, 0))
	var b strings.Builder
	b.WriteString("table inet filter {\n\tchain forward {\n\t\ttype filter hook forward priority filter; policy drop;\n")
	type made struct{ a, b, port int }
	var before []made
	for i := range rules {
		m := made{r.IntN(1 << 16), r.IntN(1 << 16), 1 + r.IntN(60_000)}
		if i%100 == 99 {
			m = before[r.IntN(len(before))]
			planted++
			fmt.Fprintf(
				&b,
				"\t\tip saddr 10.%d.%d.7 ip daddr 172.%d.%d.0/25 tcp dport %d accept\n",
				m.a>>8,
				m.a&255,
				16+m.b>>12,
				m.b>>4&255,
				m.port,
			)
			continue
		}
		before = append(before, m)
		verb := []string{"accept", "drop"}[r.IntN(2)]
		fmt.Fprintf(
			&b,
			"\t\tip saddr 10.%d.%d.0/24 ip daddr 172.%d.%d.0/24 tcp dport %d %s\n",
			m.a>>8,
			m.a&255,
			16+m.b>>12,
			m.b>>4&255,
			m.port,
			verb,
		)
	}
	b.WriteString("\t}\n}\n")
	return b.String(), planted
}

// TestLongChain: the shadowing of a chain of 100,000 rules is known, exactly, in less than a tenth of the time that
// nft -c -f takes for the file, and a whole audit of it stays below 512 MiB.
func TestLongChain(t *testing.T) {
	lab.Need(t, "nft", "nftables")
	tally := lab.NewTally(t, "chains of 100,000 rules")
	text, planted := chain(20261125)
	dir := t.TempDir()
	file := filepath.Join(dir, "nftables.conf")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))

	began := time.Now()
	lab.InNamespace(t, "nft -c -f "+file)
	theirs := time.Since(began)

	began = time.Now()
	e, err := estate.Load(context.Background(), []string{file}, estate.Options{Formats: formats.All()})
	reading := time.Since(began)
	require.NoError(t, err)
	require.Empty(t, e.Problems)
	g, err := e.Open(context.Background(), e.Gateways[0])
	require.NoError(t, err)
	c := g.Chains[0]
	require.Len(t, c.Rules, rules)

	var found []*walk.Shadow
	var ours []time.Duration
	for range 3 {
		began = time.Now()
		found = walk.Shadows(c)
		ours = append(ours, time.Since(began))
	}
	analysis := slices.Min(ours)
	hidden := 0
	for _, s := range found {
		require.NoError(t, s.Err)
		if s.Kind == walk.Hidden {
			hidden++
			for _, by := range s.By {
				assert.Less(t, by.At.Line, s.Rule.At.Line)
			}
		}
	}
	assert.GreaterOrEqual(t, hidden, planted)

	program := filepath.Join(dir, "toril")
	built := lab.Run(append(os.Environ(), "CGO_ENABLED=0"), "go", "build", "-o", program, "toril/cmd/toril")
	require.NoError(t, built.Failed, built.Err)
	whole := exec.Command(program, "audit", "--format", "json", file)
	began = time.Now()
	_ = whole.Run() // findings: exit code 1
	audit := time.Since(began)
	mib := whole.ProcessState.SysUsage().(*syscall.Rusage).Maxrss / 1024

	fmt.Printf(
		"lab: shadowing of %d rules: nft -c -f %.2f s, Toril's analysis %.2f s (ratio %.3f), reading %.2f s; a whole audit %.2f s "+
			"and %d MiB; %d never reached\n",
		rules,
		theirs.Seconds(),
		analysis.Seconds(),
		analysis.Seconds()/theirs.Seconds(),
		reading.Seconds(),
		audit.Seconds(),
		mib,
		hidden,
	)
	fast := assert.Less(t, analysis.Seconds()*10, theirs.Seconds(), "a tenth of the time of nft")
	small := assert.LessOrEqual(t, mib, int64(512), "MiB")
	tally.Count(fast && small && hidden >= planted)
}
