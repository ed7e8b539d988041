package formats_test

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/internal/cputime"
	"toril/model"
	"toril/read"
	"toril/read/formats"
	"toril/read/readtest"
	"toril/source"
)

// samples are the files that the laboratory holds against the real programs, with the format that each is in.
var samples = map[string]string{
	"swanctl/site.conf": "swanctl.conf", "swanctl/defaults.conf": "swanctl.conf",
	"ipsec.conf-strongswan/site.conf": "ipsec.conf-strongswan", "ipsec.conf-libreswan/site.conf": "ipsec.conf-libreswan",
	"iked/site.conf": "iked.conf", "nftables/written.nft": "nftables", "nftables/listed.nft": "nftables",
	"iptables/site.rules": "iptables-save", "iptables/sets.ipset": "ipset",
	"ifupdown/interfaces": "interfaces", "netplan/01-net.yaml": "netplan", "frr/frr.conf": "frr.conf",
}

func sample(t *testing.T, name string) string {
	data, err := os.ReadFile(filepath.Join("../../lab/formats/samples", name))
	require.NoError(t, err)
	return string(data)
}

func byName(t *testing.T, name string) *read.Format {
	for _, f := range formats.All() {
		if f.Name == name {
			return f
		}
	}
	require.Fail(t, "no format "+name)
	return nil
}

// understood is all that was understood of a gateway.
func understood(g *model.Gateway) string {
	return readtest.Connections(
		g,
	) + readtest.Rules(
		g,
	) + readtest.Network(
		g,
	) + strings.Join(
		readtest.Unread(g),
		"\n",
	) + strings.Join(
		readtest.Problems(g),
		"\n",
	)
}

func TestSamplesAreRecognised(t *testing.T) {
	for name, format := range samples {
		v := read.Recognise(formats.All(), source.NewFile("gw/unnamed", []byte(sample(t, name))))
		if assert.NotNil(t, v.Format, "%s: %s", name, v.Why) {
			assert.Equal(t, format, v.Format.Name, "%s: %s", name, v.Why)
		}
	}
	for _, prose := range []string{"Dear colleagues,\nthe tunnel is up.\n", "a: 1\nb: [2]\n", `{"a": 1}`, "[]", "<xml/>", "x = 1\n",
		"#!/bin/sh\nexit 0\n"} {
		v := read.Recognise(formats.All(), source.NewFile("gw/notes", []byte(prose)))
		assert.Nil(t, v.Format, prose)
	}
}

// TestWhatANameHintsAt: which formats are looked at for its name never changes what a file is taken for.
func TestWhatANameHintsAt(t *testing.T) {
	known := read.NewRecogniser(formats.All())
	for range 2 { // the second time what the names hint at is known
		for name := range samples {
			text := []byte(sample(t, name))
			for _, as := range []string{name, "unnamed", "swanctl.conf", "nftables.conf", "ipsec.conf", "notes.txt", "a.json", "x"} {
				want, got := read.Recognise(formats.All(), source.NewFile("gw/"+as, text)), known.Surely(source.NewFile("gw/"+as, text))
				assert.Same(t, want.Format, got.Format, "%s as %s", name, as)
				assert.Equal(t, want.Why, got.Why, "%s as %s", name, as)
			}
		}
	}
}

func TestFormatsAreDeclared(t *testing.T) {
	seen := map[string]bool{}
	for _, f := range formats.All() {
		assert.False(t, seen[f.Name], f.Name)
		seen[f.Name] = true
		assert.NotContains(t, f.Name, " ")
		assert.NotEmpty(t, f.Title)
		assert.NotEmpty(t, f.Hints)
		assert.NotEmpty(t, f.Covers())
		for _, c := range f.Covers() {
			assert.Contains(t, []read.Use{read.Used, read.Irrelevant, read.Left}, c.Use, c.Statement)
		}
	}
}

func TestLineEndsAndMarksChangeNothing(t *testing.T) {
	for name, format := range samples {
		text := sample(t, name)
		want := understood(readtest.Read(byName(t, format), "x", text, nil))
		assert.Equal(
			t,
			want,
			understood(readtest.Read(byName(t, format), "x", strings.ReplaceAll(text, "\n", "\r\n"), nil)),
			"%s with CRLF",
			name,
		)
		marked := readtest.Read(byName(t, format), "x", "\xef\xbb\xbf"+text, nil)
		if slices.Contains(
			[]string{
				"swanctl.conf",
				"nftables",
				"iptables-save",
				"ipsec.conf-strongswan",
				"ipsec.conf-libreswan",
				"interfaces",
				"iked.conf",
			},
			format,
		) { // a byte order mark is too much for these programs
			assert.Len(t, marked.Refused, 1, name)
			continue
		}
		assert.Equal(t, want, understood(marked), "%s with a byte order mark", name)
	}
}

func TestTheRestIsStillRead(t *testing.T) {
	for name, format := range samples {
		f := byName(t, format)
		text := sample(t, name)
		want := readtest.Read(f, "x", text, nil)
		for what, spoilt := range map[string]string{
			"bytes of Latin-1 in a comment": "# caf\xe9 \xff\xfe\n" + text,
			"garbage behind":                text + "\n\x01\x02 garbage = } ) ] trailing\n",
			"a line of 10 MB":               text + "\n# " + strings.Repeat("x", 10<<20) + "\n",
		} {
			if strings.HasSuffix(name, ".yaml") && strings.HasPrefix(what, "garbage") {
				continue // a YAML document is sound as a whole or not at all
			}
			if strings.HasSuffix(name, ".yaml") && strings.HasPrefix(what, "a line") {
				continue // beyond what a YAML file may have
			}
			got := readtest.Read(f, "x", spoilt, nil)
			assert.Equal(t, len(want.Connections), len(got.Connections), "%s: %s", name, what)
			assert.Equal(t, len(want.Chains), len(got.Chains), "%s: %s", name, what)
			assert.Equal(t, len(want.Interfaces), len(got.Interfaces), "%s: %s", name, what)
			assert.Equal(t, len(want.Routes), len(got.Routes), "%s: %s", name, what)
			if what == "garbage behind" {
				assert.NotEmpty(t, append(readtest.Unread(got), readtest.Problems(got)...), name)
			}
		}
	}
}

// TestHostileInput feeds every reader what no gateway saves: time and memory stay bounded.
func TestHostileInput(t *testing.T) {
	deep := 100_000
	inputs := map[string]string{
		"braces":        strings.Repeat("a {\n", deep),
		"table braces":  "table ip x {\n chain y {\n  type filter hook input priority 0;\n ip saddr " + strings.Repeat("{ ", deep) + "\n",
		"brackets":      "[" + strings.Repeat("[", deep),
		"json objects":  `{"nftables":[` + strings.Repeat(`{"a":`, deep),
		"json set":      `{"nftables":[{"rule":{"family":"ip","table":"t","chain":"c","expr":[` + strings.Repeat(`{"&":[`, deep) + `]}}]}`,
		"yaml flow":     "network: " + strings.Repeat("{a: ", deep),
		"yaml blocks":   "network:\n" + strings.Repeat("- ", deep),
		"one long line": strings.Repeat("conn ", 2<<20),
		"long value":    "conn a\n\tleft=" + strings.Repeat("1", 10<<20) + "\n\tauto=add\n",
		"many sections": strings.Repeat("conn a\n\talso=b\n\tauto=add\nconn b\n\talso=a\n", 3000),
		"macros":        "a = \"$a $a $a $a\"\n" + strings.Repeat("b = \"$a $b $b\"\n", 40) + "ikev2 from $b to $b\n",
		"defines": "define a = { 1, 2, 3, 4 }\n" + strings.Repeat(
			"define a = { $a, $a, $a }\n",
			40,
		) + "table ip t {\n chain c {\n tcp dport $a accept\n }\n}\n",
		"continued": strings.Repeat("\\\n", deep),
		"quotes":    strings.Repeat("\"", deep),
		"inherits":  "connections {\n" + strings.Repeat("  a : b {\n  }\n  b : a {\n  }\n", 500) + "}\n",
		"sets":      "create a list:set\n" + strings.Repeat("add a a\n", 3000),
		"masks":     "*filter\n:INPUT DROP [0:0]\n" + strings.Repeat("-A INPUT -m mark --mark 0x1/0x55555555 -j DROP\n", 200),
		"subnets": "conn a\n\tleft=192.0.2.1\n\tright=192.0.2.2\n\tauto=add\n\tleftsubnets={" + strings.Repeat(
			"10.0.0.0/8 ",
			3000,
		) + "}\n\trightsubnets={" + strings.Repeat(
			"10.0.0.0/8 ",
			3000,
		) + "}\n",
		"nothing":    "",
		"zero bytes": strings.Repeat("\x00", 1000),
		"escapes":    "\x1b[31m\x1b]0;title\x07 { = }\n",
	}
	for what, text := range inputs {
		for _, f := range formats.All() {
			t.Run(what+"/"+f.Name, func(t *testing.T) {
				start := cputime.Spent()
				var before, after runtime.MemStats
				runtime.ReadMemStats(&before)
				g := readtest.Read(f, "x", text, nil)
				runtime.ReadMemStats(&after)
				assert.Less(t, cputime.Spent()-start, 20*time.Second)
				assert.Less(t, (after.TotalAlloc-before.TotalAlloc)>>20, uint64(2048), "MiB allocated in all")
				for _, line := range append(readtest.Unread(g), readtest.Problems(g)...) {
					assert.NotContains(t, line, "\x1b")
				}
			})
		}
	}
}

func TestFilesThatIncludeThemselves(t *testing.T) {
	for format, statement := range map[string]string{"swanctl.conf": "include x", "ipsec.conf-strongswan": "include x",
		"ipsec.conf-libreswan": "include x", "iked.conf": `include "x"`, "nftables": `include "x"`, "interfaces": "source x",
		"ipsec.secrets": "include x"} {
		g := readtest.Read(byName(t, format), "x", statement+"\n", nil)
		assert.Equal(t, []string{"x:1: x includes itself"}, readtest.Problems(g), format)
		chain := map[string]string{}
		for i := range 100 {
			chain[fmt.Sprintf("f%d", i)] = strings.Replace(statement, "x", fmt.Sprintf("f%d", i+1), 1) + "\n"
		}
		g = readtest.Read(byName(t, format), "x", strings.Replace(statement, "x", "f0", 1)+"\n", chain)
		require.Len(t, readtest.Problems(g), 1, format)
		assert.Contains(t, readtest.Problems(g)[0], "files include each other more than 64 deep", format)
		g = readtest.Read(byName(t, format), "x", strings.Replace(statement, "x", "../../etc/passwd", 1)+"\n", nil)
		assert.NotEmpty(t, readtest.Unread(g), "%s: nothing outside is opened", format)
	}
}

// TestManySections: what a file takes grows with its size, not with the square of its sections.
func TestManySections(t *testing.T) {
	for name, conn := range map[string]string{
		"ipsec.conf-strongswan": "conn c%d\n\tleft=192.0.2.1\n\tright=198.51.100.7\n\tauto=add\n\tkeyexchange=ikev2\n",
		"ipsec.conf-libreswan":  "conn c%d\n\tleft=192.0.2.1\n\tright=198.51.100.7\n\tauto=ondemand\n\tikev2=insist\n",
	} {
		var b strings.Builder
		const sections = 40_000
		for i := range sections {
			fmt.Fprintf(&b, conn, i)
		}
		began := cputime.Spent()
		g := readtest.Read(byName(t, name), "ipsec.conf", b.String(), nil)
		assert.Len(t, g.Connections, sections, name)
		assert.Less(t, cputime.Spent()-began, 20*time.Second, name)
	}
}
