package estate_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/estate"
	"toril/pair"
	"toril/read/formats"
)

const small = "connections {\n  a {\n    remote_addrs = 198.51.100.7\n  }\n}\n"

type entry struct{ name, body string }

func tarOf(t *testing.T, entries ...entry) []byte {
	var buf bytes.Buffer
	w := tar.NewWriter(&buf)
	for _, e := range entries {
		h := &tar.Header{Name: e.name, Mode: 0o644, Size: int64(len(e.body)), Typeflag: tar.TypeReg}
		if e.body == "->" {
			h = &tar.Header{Name: e.name, Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"}
			e.body = ""
		}
		require.NoError(t, w.WriteHeader(h))
		_, err := w.Write([]byte(e.body))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return buf.Bytes()
}

func gzipped(t *testing.T, data []byte) []byte {
	var buf bytes.Buffer
	w := gzip.NewWriter(&buf)
	_, err := w.Write(data)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return buf.Bytes()
}

func zipOf(t *testing.T, entries ...entry) []byte {
	var buf bytes.Buffer
	w := zip.NewWriter(&buf)
	for _, e := range entries {
		f, err := w.Create(e.name)
		require.NoError(t, err)
		_, err = f.Write([]byte(e.body))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return buf.Bytes()
}

func loadPaths(t *testing.T, opts estate.Options, paths ...string) *pair.Whole {
	t.Helper()
	opts.Formats = formats.All()
	e, err := pair.Load(context.Background(), paths, opts)
	require.NoError(t, err)
	w, err := e.Whole(context.Background())
	require.NoError(t, err)
	return w
}

func fileNames(e *pair.Whole) []string {
	var out []string
	for _, g := range e.Gateways {
		for _, f := range g.Files {
			out = append(out, g.Name+": "+filepath.Base(filepath.Dir(f.Path))+"/"+filepath.Base(f.Path))
		}
	}
	return out
}

func said(e *pair.Whole) string {
	var out []string
	for _, p := range e.Problems {
		out = append(out, p.Error())
	}
	return strings.Join(out, "\n")
}

func TestArchivesAreReadInPlace(t *testing.T) {
	dir := t.TempDir()
	inner := tarOf(t, entry{"etc/swanctl/swanctl.conf", small})
	write := func(name string, data []byte) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o644))
	}
	write("one.tar", inner)
	write("two.tar.gz", gzipped(t, tarOf(t, entry{"backup-2026/etc/swanctl/swanctl.conf", small}, entry{"backup-2026/etc/link", "->"})))
	write("three.zip", zipOf(t, entry{"swanctl.conf", small}))
	write("four/backup.tgz", gzipped(t, inner))
	write("four/deep.zip", zipOf(t, entry{"more.tar", string(tarOf(t, entry{"peers.conf", small}))}))
	e := loadPaths(t, estate.Options{}, dir)
	assert.Equal(
		t,
		[]string{
			"four: more.tar/peers.conf",
			"four: swanctl/swanctl.conf",
			"one: swanctl/swanctl.conf",
			"three: three.zip/swanctl.conf",
			"two: swanctl/swanctl.conf",
		},
		fileNames(e),
	)
	assert.Contains(t, said(e), `two.tar.gz: entry "backup-2026/etc/link" is no plain file and was left out`)
	assert.Equal(t, "remote_addrs = 198.51.100.7", strings.TrimSpace(e.Quote(e.Gateway("one").Connections[0].RemoteAddrs.At)))
	alone := loadPaths(t, estate.Options{}, filepath.Join(dir, "two.tar.gz"))
	assert.Equal(t, []string{"two: swanctl/swanctl.conf"}, fileNames(alone))
}

func TestHostileArchives(t *testing.T) {
	bomb := gzipped(t, tarOf(t, entry{"swanctl.conf", small}, entry{"zeros", strings.Repeat("0", estate.MaxFile+5)}))
	assert.Less(t, len(bomb), 1<<20)
	for name, c := range map[string]struct {
		data []byte
		want string
	}{
		"escape.tar": {tarOf(t, entry{"../../etc/swanctl.conf", small}, entry{"swanctl.conf", small}), "has a name that leads outside"},
		"escape.zip": {zipOf(t, entry{"..\\..\\swanctl.conf", small}, entry{"swanctl.conf", small}), "has a name that leads outside"},
		"twice.tar":  {tarOf(t, entry{"swanctl.conf", small}, entry{"./swanctl.conf", small}), "is there twice"},
		"broken.tar.gz": {gzipped(t, tarOf(t, entry{"swanctl.conf", small}, entry{"b", noise(5000)}))[:2000],
			"the archive is broken; what was before the break " +
				"is read"},
		"bomb.tar.gz": {bomb, "is larger than 64 MiB and was cut off there"},
		"text.zip":    {[]byte("not an archive"), "it is not a tar archive"},
		"pk.zip":      {[]byte("PK not an archive"), "it is not a zip archive"},
		"gz.tgz":      {[]byte{0x1f, 0x8b, 1, 2}, "it is not a gzip file"},
	} {
		dir := t.TempDir()
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, c.data, 0o644))
		e := loadPaths(t, estate.Options{}, file)
		assert.Contains(t, said(e), c.want, name)
		if strings.HasPrefix(name, "escape") || strings.HasPrefix(name, "twice") || strings.HasPrefix(name, "bomb") {
			assert.Len(t, e.Gateways, 1, "%s: what is sound in it is read", name)
		}
	}
	nested := tarOf(t, entry{"swanctl.conf", small})
	for range 6 {
		nested = tarOf(t, entry{"inner.tar", string(nested)})
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.tar"), nested, 0o644))
	assert.NotPanics(t, func() { loadPaths(t, estate.Options{}, filepath.Join(dir, "a.tar")) })
}

// noise is text that does not compress.
func noise(n int) string {
	r := rand.New(rand.NewPCG(1, 2))
	out := make([]byte, n)
	for i := range out {
		out[i] = byte(r.Uint32())
	}
	return string(out)
}

func TestStandardInput(t *testing.T) {
	e := loadPaths(t, estate.Options{Stdin: strings.NewReader(small), Gateway: "headland"}, "-")
	require.Len(t, e.Gateways, 1)
	assert.Equal(t, "headland", e.Gateways[0].Name)
	assert.Equal(t, "swanctl.conf", e.Gateways[0].Files[0].Format)
	assert.Equal(t, "-", e.Gateways[0].Files[0].Path)
	e = loadPaths(t, estate.Options{Stdin: strings.NewReader("x\n"), As: "nftables"}, "-")
	assert.Equal(t, "the command line says so", e.Gateways[0].Files[0].Why)
	e = loadPaths(t, estate.Options{}, "-")
	assert.Contains(t, said(e), "there is no standard input")
}

func TestConfigOverrulesFormats(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("toril.yaml", "formats:\n  \"a/ipsec.conf\": ipsec.conf-libreswan\n  \"*/notes.txt\": skip\n")
	write("a/ipsec.conf", "conn x\n\tleft=192.0.2.1\n\tright=198.51.100.7\n\tlifetime=1h\n\treauth=no\n\tauto=route\n")
	write("a/notes.txt", "some prose")
	write("b/ipsec.conf", "conn x\n\tleft=192.0.2.1\n\tright=198.51.100.7\n\tlifetime=1h\n\treauth=no\n\tauto=route\n")
	e := loadPaths(t, estate.Options{}, dir)
	assert.Equal(t, "Libreswan", e.Gateway("a").Connections[0].Daemon.Name)
	assert.Equal(t, "toril.yaml says so", e.Gateway("a").Files[0].Why)
	assert.Equal(t, "strongSwan", e.Gateway("b").Connections[0].Daemon.Name)
	assert.Empty(t, said(e))
}

// TestVersionOfADaemon finds it in toril.yaml before the comment of a file, and there before the newest that is known.
func TestVersionOfADaemon(t *testing.T) {
	dir := t.TempDir()
	const text = "connections {\n  x {\n    children {\n      k {\n        life_time = 8h\n      }\n    }\n  }\n}\n"
	for name, text := range map[string]string{"toril.yaml": "versions:\n  \"told-*\": strongswan 5.9.8\n", "told-a/swanctl.conf": text,
		"told-b/swanctl.conf": "# strongSwan 6.0.1\n" + text,
		"said/swanctl.conf":   "# strongSwan 5.9.8\n" + text, "beside/a.conf": text,
		"beside/strongswan.conf": "# strongSwan 5.9.1\ncharon {\n}\n", "newest/swanctl.conf": text,
		"new/swanctl.conf": "# strongSwan 6.0.1\n" + text} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	e := loadPaths(t, estate.Options{}, dir)
	for gateway, want := range map[string]string{"told-a": "1h0m0s", "told-b": "1h0m0s", "said": "1h0m0s", "beside": "1h0m0s",
		"newest": "7h12m0s", "new": "7h12m0s"} {
		k := e.Gateway(gateway).Connections[0].Children[0]
		assert.Equal(t, want, k.Rekey.Value.String(), gateway)
		assert.Equal(t, gateway == "newest", strings.Contains(k.Rekey.Why, "since 6.0.1"), gateway)
	}
}

func TestConfigMistakes(t *testing.T) {
	for text, want := range map[string]string{
		"formats:\n  \"a\": nftabels\n":      `toril.yaml:2: unknown format "nftabels"; did you mean "nftables"?`,
		"tunels: []\n":                       `toril.yaml:1: unknown key "tunels"; did you mean "tunnels"?`,
		"tunnels:\n  - between: [a, b, c]\n": "toril.yaml:2: a tunnel is between two gateways",
		"tunnels:\n  - between: [a, b]\n    allow:\n      - {from: x, to: 10.0.0.0/8}\n":                       `toril.yaml:4: "x" is not a network`,
		"tunnels:\n  - between: [a, b]\n    allow:\n      - {from: any, to: any, protocol: bang}\n":            `toril.yaml:4: "bang" is not a protocol`,
		"tunnels:\n  - between: [a, b]\n    allow:\n      - {from: any, to: any, protocol: icmp, ports: 22}\n": "its protocol has no ports",
		"tunnels:\n  - between: [a, b]\n    allow:\n      - {from: any, to: any, ports: harbour}\n":            `"harbour" is not a port`,
		"formats:\n  \"[\": skip\n":               "is not a pattern of file names",
		"versions:\n  \"[\": strongSwan 5.9.8\n":  "toril.yaml:2: \"[\" is not a pattern of gateways' names",
		"versions:\n  a: strongSwam 5.9.8\n":      `toril.yaml:2: unknown daemon "strongSwam"; did you mean "strongSwan"?`,
		"versions:\n  a: strongSwan\n":            `toril.yaml:2: "" is not a version; write it as strongSwan 6.0.1`,
		"versions:\n  a: strongSwan 5.9.8-beta\n": `"5.9.8-beta" is not a version`,
		"a: &x 1\nb: *x\n":                        "aliases are not read",
	} {
		_, err := estate.ParseConfig("toril.yaml", []byte(text), formats.All(), nil)
		if assert.Error(t, err, text) {
			assert.Contains(t, err.Error(), want)
		}
	}
}

func TestIntentFindsItsTunnel(t *testing.T) {
	dir := t.TempDir()
	conf := func(own, peer string) string {
		return "connections {\n  x {\n    local_addrs = " + own + "\n    remote_addrs = " + peer + "\n  }\n}\n"
	}
	for name, text := range map[string]string{"a/swanctl.conf": conf("192.0.2.1", "198.51.100.7"),
		"b/swanctl.conf": conf("198.51.100.7", "192.0.2.1"), "c/swanctl.conf": conf("192.0.2.3", "203.0.113.9"),
		"toril.yaml": "tunnels:\n  - between: [a, b]\n    full-tunnel: true\n    allow:\n" +
			"      - {from: 10.1.0.0/16, to: \"10.2.0.0/16, 10.3.0.0/16\", protocol: tcp, ports: \"22, 80-90\"}\n  - between: [c]\n" +
			"    connection: x\n    partner: Northwind\n  - between: [a, z]\n"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	e := loadPaths(t, estate.Options{}, dir)
	require.Len(t, e.Tunnels, 2)
	assert.True(t, e.Tunnels[0].Intent.FullTunnel)
	assert.Equal(t, "10.1.0.0/16 > 10.2.0.0/15 tcp port 22, 80-90", e.Tunnels[0].Intent.Allow[0].Text)
	assert.Equal(t, "Northwind", e.Tunnels[1].Intent.Partner)
	assert.Contains(t, said(e), "no tunnel is between a and z")
}

func FuzzConfig(f *testing.F) {
	f.Add("formats: {a: skip}\ntunnels: [{between: [a], allow: [{from: any, to: 10.0.0.0/8, ports: 1-2}]}]\n")
	f.Fuzz(func(t *testing.T, text string) {
		c, err := estate.ParseConfig("toril.yaml", []byte(text), formats.All(), nil)
		assert.True(t, c != nil || err != nil)
	})
}

func FuzzArchive(f *testing.F) {
	f.Add([]byte("PK\x03\x04"))
	f.Add([]byte{0x1f, 0x8b, 8, 0})
	f.Fuzz(func(t *testing.T, data []byte) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a.tar.gz"), data, 0o644))
		loadPaths(t, estate.Options{}, filepath.Join(dir, "a.tar.gz"))
	})
}

// TestPhrasebooksOfAnEstate: those that a toril.yaml names are read, and are no gateways; a mistake in one loses nothing else.
func TestPhrasebooksOfAnEstate(t *testing.T) {
	const book = "language: %s\ntitle: a made-up language\nbegins: %s\nsyntax: {kind: lines}\nphrases:\n" +
		"- {say: \"%s <_:text>\", moot: a greeting}\n" +
		"- {say: \"span <n> to <a:address>\", makes: connection, named: <n>, sets: {peer-address: <a>}}\n"
	files := fstest.MapFS{
		"toril.yaml": {Data: []byte("phrasebooks: [books/tern.yaml, books/wrong.yaml, knot.yaml]\n" +
			"formats: {\"b/odd.conf\": knot}\nversions: {b: knot 2.0}\n")},
		"books/tern.yaml":  {Data: fmt.Appendf(nil, book, "tern", "tern", "tern")},
		"books/wrong.yaml": {Data: []byte("language: wrong\ntitle: x\nsyntax: {kind: lines}\nphrases: [{say: \"<x:wird>\", moot: y}]\n")},
		"knot.yaml":        {Data: fmt.Appendf(nil, book, "knot", "knot", "knot")},
		"a/saved":          {Data: []byte("tern says hello\nspan x to 192.0.2.1\n")},
		"b/odd.conf":       {Data: []byte("span y to 192.0.2.2\n")},
	}
	e, err := estate.LoadFS(context.Background(), files, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	var names []string
	for _, g := range e.Gateways {
		names = append(names, fmt.Sprint(g.Name, len(g.Connections)))
	}
	assert.Equal(t, []string{"a1", "b1"}, names)
	require.Len(t, e.Problems, 1)
	assert.Equal(t, `books/wrong.yaml:4: unknown type "wird"; did you mean "word"?`, e.Problems[0].Error())
	for text, want := range map[string]string{
		"phrasebooks: [../x.yaml]\n":                           "toril.yaml:1: \"../x.yaml\" is not a file below the folder",
		"phrasebooks: [gone.yaml]\n":                           "toril.yaml:1: phrasebook gone.yaml cannot be read",
		"phrasebooks: [knot.yaml, knot.yaml]\n":                "there is a format knot already",
		"phrasebooks: [knot.yaml]\nversions: {b: knott 2.0}\n": "unknown daemon \"knott\"; did you mean \"knot\"?",
		"phrasebooks: knot.yaml\n":                             "toril.yaml:1",
	} {
		files["toril.yaml"] = &fstest.MapFile{Data: []byte(text)}
		e, err := estate.LoadFS(context.Background(), files, estate.Options{Formats: formats.All()})
		require.NoError(t, err)
		var said []string
		for _, p := range e.Problems {
			said = append(said, p.Error())
		}
		assert.Contains(t, strings.Join(said, "\n"), want)
	}
}
