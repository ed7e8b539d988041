package fix_test

import (
	"bytes"
	"context"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/demo"
	"toril/estate"
	"toril/fix"
	"toril/pair"
	"toril/read/formats"
	"toril/source"
)

// session fixes findings of an estate in memory.
func session(t *testing.T, fsys fs.FS) *fix.Session {
	b, err := baseline.Named(baseline.Default)
	require.NoError(t, err)
	return &fix.Session{
		Checks: suite.All(), Baseline: b, Now: time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC),
		Load: func(ctx context.Context, edited map[string][]byte, only []string) (*pair.Estate, error) {
			return pair.LoadFS(ctx, fsys, estate.Options{Formats: formats.All(), Edited: edited, Only: only})
		},
	}
}

func every(f *audit.Finding) bool { return f.Severity >= audit.Low && f.Unsure == "" }

// TestTheDemonstrationIsFixed fixes all that can be fixed of the demonstration estate, applies the diffs with patch(1), and audits what
// came of them: every fixed finding is gone, and no other came.
func TestTheDemonstrationIsFixed(t *testing.T) {
	s := session(t, demo.Estate())
	fixes, err := s.Run(context.Background(), every)
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, demo.Estate()))
	fixed := map[string]bool{}
	for _, f := range fixes {
		if f.Why != "" {
			assert.Empty(t, f.Files, f.Finding.Check)
			continue
		}
		fixed[f.Finding.ID] = true
		require.NotEmpty(t, f.Files, f.Finding.Check)
		for _, p := range f.Files {
			cmd := exec.Command("patch", "-p1", "--fuzz=0", "-s", "-d", dir)
			cmd.Stdin = strings.NewReader(p.Diff)
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s\n%s", out, p.Diff)
		}
	}
	assert.GreaterOrEqual(t, len(fixed), 17)
	taught := string(s.Edited["fogbank/fogbank.wharfgate"])
	assert.Contains(t, taught, "suite frail\n  cipher gcm-256\n  digest sha-384\n  group 20\n", "the words of a phrasebook")
	assert.Contains(
		t,
		string(s.Edited["breakwater/breakwater.tidewheel"]),
		"ike renew 1440;",
		"a time in the unit of the statement",
	)
	for name, text := range s.Edited {
		got, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, string(text), string(got), "%s: the diffs make what the proof has read", name)
	}
	before, after := audited(t, demo.Estate()), audited(t, os.DirFS(dir))
	for id := range fixed {
		assert.NotContains(t, after, id)
	}
	for id := range after {
		assert.Contains(t, before, id)
	}
}

func audited(t *testing.T, fsys fs.FS) map[string]bool {
	b, err := baseline.Named(baseline.Default)
	require.NoError(t, err)
	e, err := pair.LoadFS(context.Background(), fsys, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	r, err := audit.Run(context.Background(), e, suite.All(), b, time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	out := map[string]bool{}
	for _, f := range r.Findings {
		out[f.ID] = true
	}
	return out
}

// pairOf is an estate of two gateways in ipsec.conf or swanctl.conf.
func pairOf(file, a, b string) fstest.MapFS {
	return fstest.MapFS{"brig/" + file: {Data: []byte(a)}, "tarn/" + file: {Data: []byte(b)}}
}

func ipsec(own, peer, self, other, local, remote, more string) string {
	return "# kept\r\nconn far # and " +
		"this\r\n\tikev2=insist\r\n\tleft=" + own + "\r\n\tright=" + peer + "\r\n\tleftid=@" + self + "\r\n\trightid=@" + other +
		"\r\n\tleftsubnet=" + local + "\r\n\trightsubnet=" + remote + "\r\n\tauthby=secret\r\n\tauto=start\r\n" + more
}

// TestFixesOfIPsecConf keeps comments, order and line ends, and changes both ends where both must change.
func TestFixesOfIPsecConf(t *testing.T) {
	weak := "\tike=3des-sha1;modp1536\r\n\tesp=aes_gcm256\r\n"
	s := session(t, pairOf("ipsec.conf",
		ipsec("192.0.2.1", "192.0.2.2", "brig", "tarn", "10.1.0.0/24", "10.2.0.0/24", weak),
		ipsec("192.0.2.2", "192.0.2.1", "tarn", "brig", "10.2.0.0/24", "10.1.0.0/24", weak)))
	fixes, err := s.Run(context.Background(), func(f *audit.Finding) bool { return f.Check == "ike/weak-algorithm" })
	require.NoError(t, err)
	require.NotEmpty(t, fixes)
	f := fixes[0]
	require.Empty(t, f.Why)
	assert.Len(t, f.Files, 2)
	assert.Contains(t, f.Order, "brig and tarn at the same time")
	for _, name := range []string{"brig/ipsec.conf", "tarn/ipsec.conf"} {
		text := string(s.Edited[name])
		assert.NotContains(t, text, "3des")
		assert.Equal(t, strings.Count(text, "\n"), strings.Count(text, "\r\n"))
		assert.Contains(t, text, "# kept\r\nconn far # and this\r\n")
		assert.Len(t, strings.Split(text, "\n"), len(strings.Split(string(s.Original[name]), "\n")))
	}
}

// TestALivenessCheckNeedsTwoKeywords: whichever of the two a file has, and says not to check by, both stand there afterwards, once.
func TestALivenessCheckNeedsTwoKeywords(t *testing.T) {
	for _, c := range []struct{ version, said, delay, beside string }{
		{"keyexchange=ikev2", "", "dpddelay=30s", "dpdaction=restart"},
		{"keyexchange=ikev2", "dpdaction=none", "dpddelay=30s", "dpdaction=restart"},
		{"keyexchange=ikev2", "dpddelay=0s", "dpddelay=30s", "dpdaction=restart"},
		{"keyexchange=ikev2", "dpddelay=0s\n\tdpdaction=clear", "dpddelay=30s", "dpdaction=clear"},
		{"ikev2=insist", "", "dpddelay=30s", "dpdtimeout=120"},
		{"ikev2=insist", "dpddelay=0", "dpddelay=30s", "dpdtimeout=120"},
		{"ikev2=insist", "dpddelay=0\n\tdpdtimeout=60", "dpddelay=30s", "dpdtimeout=60"},
	} {
		end := func(own, peer, a, b string) string {
			return "conn far\n\t" + c.version + "\n\tleft=" + own + "\n\tright=" + peer + "\n\tleftid=@" + a + "\n\trightid=@" + b +
				"\n\tleftsubnet=10." + own[8:] + ".0.0/16\n\trightsubnet=10." + peer[8:] + ".0.0/16" +
				"\n\tauthby=secret\n\tauto=start\n\t" + c.said + "\n"
		}
		s := session(
			t,
			pairOf("ipsec.conf", end("192.0.2.1", "192.0.2.2", "brig", "tarn"), end("192.0.2.2", "192.0.2.1", "tarn", "brig")),
		)
		fixes, err := s.Run(context.Background(), func(f *audit.Finding) bool { return f.Check == "ike/no-liveness" })
		require.NoError(t, err)
		require.NotEmpty(t, fixes, c.said)
		assert.Empty(t, fixes[0].Why, "%s %q", c.version, c.said)
		text := string(s.Edited["brig/ipsec.conf"])
		for _, want := range []string{c.delay, c.beside} {
			key, _, _ := strings.Cut(want, "=")
			assert.Equal(t, 1, strings.Count(text, "\t"+key+"="), text)
			assert.Contains(t, text, "\t"+want+"\n")
		}
	}
}

// TestWhatCannotBeFixedSaysWhy looks at findings that no tool can fix, and at formats that are not written.
func TestWhatCannotBeFixedSaysWhy(t *testing.T) {
	s := session(t, demo.Estate())
	fixes, err := s.Run(context.Background(), func(f *audit.Finding) bool {
		return f.Check == "key/weak" || f.Check == "ends/not-mirrored" || f.Gateway == "breakwater" && f.Check == "nat/rewritten"
	})
	require.NoError(t, err)
	why := map[string]string{}
	for _, f := range fixes {
		why[f.Finding.Check] = f.Why
		assert.Empty(t, f.Files)
	}
	assert.Contains(t, why["key/weak"], "made and handed over by people")
	assert.Contains(t, why["ends/not-mirrored"], "only their owners know")
	assert.Contains(t, why["nat/rewritten"], "not one that Toril writes")
	assert.Empty(t, s.Edited)
}

// TestDiffsShowNoSecret edits a line beside a key: the diff ends before that.
func TestDiffsShowNoSecret(t *testing.T) {
	text := []byte("secrets {\n    ike-a {\n        secret = \"tell nobody\"\n    }\n}\nconnections {\n}\n")
	f := source.NewFile("g/swanctl.conf", text)
	f.Hide(3, "tell nobody")
	diff := fix.Unified(f, bytes.Replace(text, []byte("    }\n}\nc"), []byte("    }\n    new\n}\nc"), 1))
	assert.NotContains(t, diff, "nobody")
	assert.Equal(t, "--- a/g/swanctl.conf\n+++ b/g/swanctl.conf\n@@ -4,2 +4,3 @@\n     }\n+    new\n }\n", diff)
}

// TestASecretOnALineThatIsEditedStopsTheFix: a rule that is never reached is taken out, but not where the diff would show a secret.
func TestASecretOnALineThatIsEditedStopsTheFix(t *testing.T) {
	for comment, fits := range map[string]bool{"": true, "-m comment --comment \"password: quayside-lantern\" ": false} {
		s := session(t, fstest.MapFS{"brig/rules.v4": {Data: []byte("*filter\n" +
			":INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n-A INPUT -p tcp -m tcp --dport 22 -j ACCEPT\n" +
			"-A INPUT -p tcp -m tcp --dport 22 " + comment + "-j ACCEPT\nCOMMIT\n")}})
		fixes, err := s.Run(context.Background(), func(f *audit.Finding) bool { return strings.HasPrefix(f.Check, "access/") })
		require.NoError(t, err)
		var said []string
		for _, f := range fixes {
			if f.Finding.At.Line == 6 {
				said = append(said, f.Why)
			}
		}
		require.NotEmpty(t, said)
		if fits {
			assert.Equal(t, []string{""}, said)
			continue
		}
		for _, why := range said {
			assert.Contains(t, why, "would show a secret")
		}
		if text, edited := s.Edited["brig/rules.v4"]; edited { // for another finding
			assert.Contains(t, string(text), "quayside-lantern")
		}
	}
}

// FuzzUnified makes diffs of two texts: patch(1)'s rules give the one of the other.
func FuzzUnified(f *testing.F) {
	f.Add("a\nb\nc\n", "a\nc\nd")
	f.Add("", "x\n")
	f.Fuzz(func(t *testing.T, a, b string) {
		if strings.ContainsRune(a+b, 0) || strings.HasPrefix(a, "\ufeff") || strings.HasPrefix(b, "\ufeff") {
			return
		}
		old := source.NewFile("f", []byte(a))
		assert.Equal(t, b, patched(t, a, fix.Unified(old, []byte(b))))
	})
}

// patched applies a unified diff.
func patched(t *testing.T, text, diff string) string {
	old := strings.SplitAfter(text, "\n")
	var out strings.Builder
	at := 0
	all := strings.SplitAfter(diff, "\n")
	for i := 2; i < len(all); i++ {
		line := all[i]
		switch {
		case strings.HasPrefix(line, "@@ "):
			var from, n int
			scan(t, line, &from, &n)
			if n > 0 {
				from--
			}
			for ; at < from; at++ {
				out.WriteString(old[at])
			}
		case strings.HasPrefix(line, "\\"), line == "":
		default:
			body := line[1:]
			if i+1 < len(all) && strings.HasPrefix(all[i+1], "\\") {
				body = strings.TrimSuffix(body, "\n")
			}
			if line[0] != '+' {
				require.Equal(t, old[at], body)
				at++
			}
			if line[0] != '-' {
				out.WriteString(body)
			}
		}
	}
	for ; at < len(old); at++ {
		out.WriteString(old[at])
	}
	return out.String()
}

func scan(t *testing.T, line string, from, n *int) {
	fields := strings.FieldsFunc(line, func(r rune) bool { return r == ' ' || r == ',' || r == '-' || r == '+' || r == '@' })
	require.GreaterOrEqual(t, len(fields), 2)
	for i, to := range []*int{from, n} {
		for _, r := range strings.TrimSpace(fields[i]) {
			*to = *to*10 + int(r-'0')
		}
	}
}

// TestPatchesApplyForOddNames: patch(1) finds a file with blanks, quotation marks and characters of other scripts in its name.
func TestPatchesApplyForOddNames(t *testing.T) {
	for name, head := range map[string]string{
		"g/a b.conf":     "--- a/g/a b.conf\t\n+++ b/g/a b.conf\t\n",
		"/g/plain.conf":  "--- a/g/plain.conf\n+++ b/g/plain.conf\n",
		"g/ü.conf":       "--- a/g/ü.conf\n+++ b/g/ü.conf\n",
		"g/q\"u\\o.conf": "--- \"a/g/q\\\"u\\\\o.conf\"\n+++ \"b/g/q\\\"u\\\\o.conf\"\n",
		"g/tab\t\n.conf": "--- \"a/g/tab\\011\\012.conf\"\n+++ \"b/g/tab\\011\\012.conf\"\n",
	} {
		diff := fix.Unified(source.NewFile(name, []byte("old\n")), []byte("new\n"))
		assert.Equal(t, head+"@@ -1,1 +1,1 @@\n-old\n+new\n", diff)
		patch, err := exec.LookPath("patch")
		if err != nil {
			continue
		}
		dir := t.TempDir()
		file := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
		require.NoError(t, os.WriteFile(file, []byte("old\n"), 0o600))
		cmd := exec.Command(patch, "-p1", "--batch")
		cmd.Dir, cmd.Stdin = dir, strings.NewReader(diff)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		now, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, "new\n", string(now), name)
	}
}
