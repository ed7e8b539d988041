//go:build lab

package formats_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/daemon/openiked"
	"toril/estate"
	"toril/ike"
	"toril/lab"
	"toril/pair"
	"toril/read/formats"
	"toril/read/iked"
)

// TestOpenIKEDProposals has the daemon read random proposals, good and bad, and holds what it prints of them against what the reader makes
// of them.
func TestOpenIKEDProposals(t *testing.T) {
	root := lab.Unpacked(t, "openiked")
	env := lab.Libraries(root)
	ikedUser(t)
	tally := lab.NewTally(t, "proposals of iked.conf as OpenIKED takes them")
	r := rand.New(rand.NewPCG(20261127, 5))
	n, _ := strconv.Atoi(os.Getenv("TORIL_LAB_CASES"))
	file := filepath.Join(t.TempDir(), "iked.conf")
	for range max(500, n) {
		policy := "ikev2 \"p\" passive esp from 10.1.0.0/16 to 10.2.0.0/16 peer 10.0.0.2 " + ikedProposals(r) + " psk \"k\"\n"
		require.NoError(t, os.WriteFile(file, []byte(policy), 0o600))
		out := lab.Run(env, root+"/usr/sbin/iked", "-nvv", "-f", file)
		want := "refused"
		if m := printedSAs.FindStringSubmatch(out.Out + out.Err); m != nil && out.Failed == nil {
			want = transformsOf(m[1])
		}
		got := "refused"
		fsys := fstest.MapFS{
			"toril.yaml":  {Data: []byte("versions: {g: OpenIKED 7.2 on Linux}\n")},
			"g/iked.conf": {Data: []byte(policy)},
		}
		e, err := pair.WholeFS(context.Background(), fsys, estate.Options{Formats: formats.All()})
		require.NoError(t, err)
		if g := e.Gateway("g"); g.RefusedOf(iked.Format.Name) == nil {
			require.Len(t, g.Connections, 1, policy)
			c := g.Connections[0]
			got = written("ikesa", c.Proposals.Value) + written("childsa", c.Children[0].Proposals.Value)
		}
		tally.Count(assert.Equal(t, want, got, "first the daemon's: %s\n%s", policy, out.Err))
	}
}

var printedSAs = regexp.MustCompile(`(?m)^ikev2 "p" .* peer \S+ (ikesa .*) lifetime `)

// transformsOf writes what the daemon prints as written does: kind by kind, each once, and without what says that there is none.
func transformsOf(text string) string {
	var out strings.Builder
	of := map[string][]string{}
	end := func() {
		for _, kind := range []string{"enc", "auth", "prf", "group", "esn"} {
			for _, name := range of[kind] {
				if name == "none" && len(of[kind]) == 1 {
					continue
				}
				fmt.Fprintf(&out, " %s %s", kind, name)
			}
		}
		of = map[string][]string{}
	}
	f := strings.Fields(text)
	for i := 0; i < len(f); i++ {
		switch kind := f[i]; kind {
		case "ikesa", "childsa":
			end()
			fmt.Fprintf(&out, "\n%s", kind)
		case "esn", "noesn":
			if !slices.Contains(of["esn"], kind) {
				of["esn"] = append(of["esn"], kind)
			}
		default:
			if i++; !slices.Contains(of[kind], f[i]) {
				of[kind] = append(of[kind], f[i])
			}
		}
	}
	end()
	return out.String()
}

// written writes proposals as transformsOf does.
func written(sa string, ps []ike.Proposal) string {
	out := ""
	for _, p := range ps {
		text, err := openiked.Write(p)
		if err != nil {
			text = err.Error()
		}
		out += " " + sa + " " + text
	}
	return transformsOf(out)
}

// ikedProposals draws what a policy says of proposals: most of it is right.
func ikedProposals(r *rand.Rand) string {
	one := func(words string) string { f := strings.Fields(words); return f[r.IntN(len(f))] }
	ciphers := "aes-128 aes-192 aes-256 aes 3des 3des-cbc"
	combined := "aes-128-gcm aes-256-gcm aes-192-gcm"
	odd := "null cast blowfish chacha20-poly1305 aes-128-ctr aes-256-gmac aes-128-gcm-12 des aes-128-cbc aes512"
	hashes := "hmac-md5 hmac-sha1 hmac-sha2-256 hmac-sha2-384 hmac-sha2-512"
	groups := "modp1024 modp2048 grp14 grp5 modp3072 ecp256 grp20 ecp521 curve25519 modp768 brainpool256 sntrup761x25519"
	out := ""
	for _, sa := range []string{"ikesa", "childsa"} {
		for r.IntN(5) < 3 {
			out += " " + sa
			list := func(kind, from string, chance int) {
				for n := 0; n < 3 && r.IntN(100) < chance; n++ {
					out += " " + kind + " " + one(from)
				}
			}
			enc := ciphers
			switch r.IntN(8) {
			case 0, 1:
				enc = combined
			case 2:
				enc = odd
			}
			list("enc", enc, 65)
			if enc == ciphers || r.IntN(10) == 0 {
				list("auth", hashes, 50)
			}
			list("prf", hashes, 25)
			list("group", groups, 45)
			if r.IntN(12) == 0 {
				list("group", "none grp22 grp99 modp99", 60)
			}
			if sa == "childsa" || r.IntN(12) == 0 {
				for r.IntN(4) == 0 {
					out += " " + one("esn noesn")
				}
			}
		}
	}
	return out
}
