package cli_test

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// someEstate writes an estate that was made, and the demonstration estate, and returns their folders.
func someEstate(t *testing.T) (made, demo string) {
	dir := t.TempDir()
	made, demo = filepath.Join(dir, "made"), filepath.Join(dir, "demo")
	code, _, errs := toril(t, "demo", "--to", made, "--gateways", "24", "--seed", "11")
	require.Zero(t, code, errs)
	code, _, errs = toril(t, "demo", "--to", demo)
	require.Zero(t, code, errs)
	return made, demo
}

// edits are changes that people make to an estate: each a change of one file, or of which there are.
var edits = []struct {
	name string
	edit func(text string) string
}{
	{"swanctl.conf", func(s string) string { return strings.Replace(s, "aes256gcm16-ecp384", "aes256gcm16", 1) }},
	{"swanctl.conf", func(s string) string { return strings.Replace(s, "secret = \"", "secret = \"x", 1) }},
	{"swanctl.conf", func(s string) string { return strings.Replace(s, "rekey_time = 4h", "rekey_time = 90h", 1) }},
	{"swanctl.conf", func(s string) string { return s + "\nwarble { a = b }\n" }},
	{"swanctl.conf", func(s string) string { return s + "\ninclude .hidden.conf\n" }},
	{"nftables.conf", func(s string) string {
		return strings.Replace(s, "meta l4proto esp accept", "meta l4proto ah accept", 1)
	}},
	{"nftables.conf", func(s string) string { return strings.Replace(s, "accept\n", "drop\n", 2) }},
	{"ip-address.txt", func(s string) string { return strings.Replace(s, "inet 198.18", "inet 198.19", 1) }},
	{"ip-route.txt", func(string) string { return "" }},
	{".hidden.conf", func(s string) string { return s + "connections { other { remote_addrs = 192.0.2.9 } }\n" }},
	{"ip-rule.txt", func(string) string { return "0:\tfrom all lookup local\n32766:\tfrom all lookup main\n" }},
}

// TestACacheChangesNothing: whatever was changed since, an audit with a cache says what one without says, byte for byte.
func TestACacheChangesNothing(t *testing.T) {
	made, demo := someEstate(t)
	r := rand.New(rand.NewPCG(20261127, 12))
	for _, dir := range []string{made, demo} {
		kept := t.TempDir()
		same := func(what string, more ...string) {
			args := append([]string{"audit", dir, "--format", "json"}, more...)
			code, want, wantErrs := toril(t, args...)
			for _, again := range []string{"", ", again"} {
				gotCode, got, errs := toril(t, append(args, "--cache", kept)...)
				require.Equal(t, want, got, what+again)
				assert.Equal(t, code, gotCode, what+again)
				assert.Equal(t, wantErrs, errs, what+again)
			}
		}
		same("at first")
		same("another baseline", "--baseline", "nist")
		same("another day", "--as-of", "2031-01-01")
		gateways, err := filepath.Glob(filepath.Join(dir, "*", "swanctl.conf"))
		require.NoError(t, err)
		some := edits
		if dir == demo { // the rest is of no other kind
			some = edits[:4]
		}
		for _, e := range some {
			file := filepath.Join(filepath.Dir(gateways[r.IntN(len(gateways))]), e.name)
			text, err := os.ReadFile(file)
			if err != nil {
				require.ErrorIs(t, err, os.ErrNotExist)
			}
			require.NoError(t, os.WriteFile(file, []byte(e.edit(string(text))), 0o600))
			same("changed " + file)
		}
		require.NoError(t, os.RemoveAll(filepath.Dir(gateways[0])))
		same("a gateway less")
		yaml := filepath.Join(dir, "toril.yaml")
		text, _ := os.ReadFile(yaml)
		require.NoError(t, os.WriteFile(yaml, append(text, "\nkeys:\n- partner: \"*\"\n  least: 4\n  most: 12\n  source: a call\n"...), 0o600))
		same("another toril.yaml")
	}
}

// TestACacheHoldsNoSecrets: nor anything else that its reader has not got.
func TestACacheHoldsNoSecrets(t *testing.T) {
	_, demo := someEstate(t)
	kept := t.TempDir()
	_, _, _ = toril(t, "audit", demo, "--cache", kept)
	files, err := os.ReadDir(kept)
	require.NoError(t, err)
	require.Len(t, files, 1)
	data, err := os.ReadFile(filepath.Join(kept, files[0].Name()))
	require.NoError(t, err)
	for _, word := range []string{"hV3x9QmTz7LwRk2PbYc8NsGd4JfAe6Uo", "lampwright", "10.20.0.0", "swanctl"} {
		assert.NotContains(t, string(data), word)
	}
	info, err := files[0].Info()
	require.NoError(t, err)
	assert.Zero(t, info.Mode().Perm()&0o077, "it is its owner's")
}

// TestPartsMakeTheWhole: an audit in parts says what one says, in every form that parts suffice for.
func TestPartsMakeTheWhole(t *testing.T) {
	made, demo := someEstate(t)
	for _, dir := range []string{made, demo} {
		for _, n := range map[string][]string{made: {"1", "3", "30"}, demo: {"2"}}[dir] {
			var parts []string
			folder := t.TempDir()
			for i := 1; ; i++ {
				part := filepath.Join(folder, "part"+strconv.Itoa(i)+".json")
				name := strconv.Itoa(i) + "/" + n
				code, _, errs := toril(t, "audit", dir, "--part", name, "-o", part, "--baseline", "nist", "--as-of", "2026-11-27")
				require.Zero(t, code, errs)
				if parts = append(parts, part); strconv.Itoa(i) == n {
					break
				}
			}
			forms := []string{"json"}
			if n == "2" {
				forms = []string{"json", "text", "sarif", "csv", "markdown", "junit"}
			}
			for _, form := range forms {
				wantCode, want, _ := toril(t, "audit", dir, "--format", form, "--all", "--baseline", "nist", "--as-of", "2026-11-27")
				code, got, _ := toril(t, append([]string{"join", "--format", form, "--all", "--baseline", "nist"}, parts...)...)
				require.Equal(t, want, got, "%s in %s parts", form, n)
				assert.Equal(t, wantCode, code)
			}
			if n == "3" {
				refusesParts(t, dir, parts)
			}
		}
	}
}

func refusesParts(t *testing.T, dir string, parts []string) {
	refused := func(says string, args ...string) {
		code, out, errs := toril(t, args...)
		assert.Equal(t, 2, code)
		assert.Empty(t, out)
		assert.Contains(t, errs, says)
	}
	refused("part 2 of 3 is missing", "join", "--baseline", "nist", parts[0])
	refused("part 2 of 3 is missing, or one is given twice", "join", "--baseline", "nist", parts[0], parts[0], parts[2])
	refused("part 1 of 3 is missing", "join", "--baseline", "nist", parts[1], parts[2])
	refused("another baseline", append([]string{"join"}, parts...)...)
	refused("as of 2026-11-27", append([]string{"join", "--baseline", "nist", "--as-of", "2026-01-01"}, parts...)...)
	refused("cannot be made of parts", append([]string{"join", "--baseline", "nist", "--format", "html"}, parts...)...)
	broken := filepath.Join(t.TempDir(), "broken.json")
	require.NoError(t, os.WriteFile(broken, []byte(`{"schema":"other"}`), 0o600))
	refused("is not of the form toril-part", "join", broken)
	refused("no such file", "join", filepath.Join(t.TempDir(), "none"))
	for _, bad := range []string{"0/3", "4/3", "x", "1/", "1/2/3", "-1/3"} {
		refused("is not a part such as 2/8", "audit", dir, "--part", bad, "-o", broken)
	}
	refused("one --output", "audit", dir, "--part", "1/3")
	refused("for toril join", "audit", dir, "--part", "1/3", "-o", broken, "--format", "csv")
	other := filepath.Join(t.TempDir(), "other.json")
	code, _, errs := toril(t, "audit", filepath.Dir(dir), "--part", "2/3", "-o", other, "--baseline", "nist", "--as-of", "2026-11-27")
	require.Zero(t, code, errs)
	refused("the estate was called", "join", "--baseline", "nist", parts[0], other, parts[2])
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "newcomer"), 0o700))
	file := filepath.Join(dir, "newcomer", "notes.txt")
	require.NoError(t, os.WriteFile(file, []byte("nothing that anybody reads\n"), 0o600))
	_, _, errs = toril(t, "audit", dir, "--part", "2/3", "-o", other, "--baseline", "nist", "--as-of", "2026-11-27")
	require.NoError(t, os.RemoveAll(filepath.Dir(file)), errs)
	refused("the files changed", "join", "--baseline", "nist", parts[0], other, parts[2])
	_, _, _ = toril(t, "audit", dir, "--part", "2/3", "-o", other, "--baseline", "nist", "--as-of", "2026-11-28")
	refused("as of 2026-11-27 and of 2026-11-28", "join", "--baseline", "nist", parts[0], other, parts[2])
	refusesDamaged(t, parts)
}

// refusesDamaged flips bits of a part, one at a time: it is refused by its name, or says what it said before.
func refusesDamaged(t *testing.T, parts []string) {
	join := func(second string) (int, string, string) {
		return toril(t, "join", "--baseline", "nist", "--format", "json", parts[0], second, parts[2])
	}
	code, want, _ := join(parts[1])
	whole, err := os.ReadFile(parts[1])
	require.NoError(t, err)
	bad := filepath.Join(t.TempDir(), "bad.json")
	r := rand.New(rand.NewPCG(20261201, 33))
	refused := 0
	for range 60 {
		data := slices.Clone(whole)
		data[r.IntN(len(data))] ^= 1 << r.IntN(8)
		require.NoError(t, os.WriteFile(bad, data, 0o600))
		gotCode, got, errs := join(bad)
		if gotCode == 2 && got == "" {
			assert.Contains(t, errs, bad)
			refused++
			continue
		}
		assert.Equal(t, code, gotCode)
		assert.Equal(t, want, got, "a damaged part changes nothing that is reported")
	}
	assert.Greater(t, refused, 40)
}
