//go:build lab

package negotiation

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"toril/lab"
	"toril/lab/cases"
	"toril/lab/charon"
)

var (
	listedConn  = regexp.MustCompile(`(?m)^(\S.*?): (IKEv[12/]+),`)
	listedChild = regexp.MustCompile(`^  (\S.*?): +(TUNNEL|TRANSPORT|BEET|PASS|DROP)`)
)

// holds is what a daemon has of its connections: names, versions, children.
func holds(t *testing.T, d *charon.Daemon) string {
	r := lab.Run(nil, "swanctl", "--list-conns", "--uri", d.Socket())
	require.NoError(t, r.Failed, r.Err)
	var out []string
	var kids []string
	flush := func() {
		if len(out) > 0 {
			slices.Sort(kids)
			out[len(out)-1] += " [" + strings.Join(kids, " ") + "]"
		}
		kids = nil
	}
	for line := range strings.Lines(r.Out) {
		line = strings.TrimRight(line, "\n")
		if m := listedConn.FindStringSubmatch(line); m != nil {
			flush()
			out = append(out, m[1]+" "+m[2])
		} else if m := listedChild.FindStringSubmatch(line); m != nil {
			kids = append(kids, m[1])
		}
	}
	flush()
	slices.Sort(out)
	return strings.Join(out, "; ")
}

// TestLexicalRules gives each text to a daemon and to the reader: nothing that the one holds may be hidden from the other.
func TestLexicalRules(t *testing.T) {
	tally := lab.NewTally(t, "lexical rules of swanctl.conf")
	p := charon.StartPair(t, "lex")
	dir := t.TempDir()
	for i, c := range cases.Lexical {
		empty, file := filepath.Join(dir, "empty.conf"), filepath.Join(dir, fmt.Sprintf("%d.conf", i))
		require.NoError(t, os.WriteFile(empty, []byte("connections {\n}\n"), 0o600))
		require.NoError(t, os.WriteFile(file, []byte(c.Text), 0o600))
		_ = p.A.LoadFile(empty)
		err := p.A.LoadFile(file)
		got, want := holds(t, p.A), c.Want
		if !tally.Count(got == want) {
			said := ""
			if err != nil {
				for line := range strings.Lines(err.Error()) {
					if !strings.HasPrefix(line, "opening directory") {
						said += line
					}
				}
			}
			t.Errorf("%s\n daemon: %s\n toril:  %s\n swanctl: %s\n%q", c.Name, got, want, said, c.Text)
		}
	}
}
