package cli

import (
	"archive/zip"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/extension"
	unsafe "github.com/yuin/goldmark/renderer/html"
	"golang.org/x/net/html"
)

// hostile are texts that would move a cursor, ring, hide, turn or break what is printed.
var hostile = []string{
	"a\x1b[2Jb",
	"a\x1b]0;title\x07b",
	"a\rb",
	"a\x08\x08b",
	"a\u009b31mb",
	"a\u202eb\u2066c",
	"a\u200fb",
	"a\xff\xfeb",
	"a\x7fb",
	"a\u2028b",
	"a\ufeffb",
}

// dangerous are the characters that no output holds.
func dangerous(text string) string {
	for i, r := range text {
		if !utf8.ValidString(text[i:min(len(text), i+utf8.RuneLen(r))]) || r != '\n' && !harmless(r) {
			return fmt.Sprintf("%q at %q", r, text[max(0, i-40):min(len(text), i+40)])
		}
	}
	return ""
}

// hostileEstate writes an estate in which a text stands in every place of every format, and in the names of files, gateways and archives.
// It returns its folder, a connection with the text, and in how many fields it stands.
func hostileEstate(t *testing.T, dir, h string) (estate, conn string, fields int) {
	t.Helper()
	estate = filepath.Join(dir, "estate")
	write := func(name, text string) {
		path := filepath.Join(estate, name)
		if os.MkdirAll(filepath.Dir(path), 0o755) == nil {
			_ = os.WriteFile(path, []byte(text), 0o644) // some names no file system takes
		}
	}
	n := 0
	for name, texts := range places {
		for _, text := range texts {
			n++
			fields += strings.Count(text, "@")
			write(fmt.Sprintf("g%02d/%s", n, name), strings.ReplaceAll(text, "@", h))
		}
	}
	name := strings.ReplaceAll(h, "/", "")
	conn = "connections {\n \"" + h + "\" {\n }\n n" + h + " {\n  version = 1\n  remote_addrs = 192.0.2.1\n  local {\n   id = " +
		h + "\n  }\n  children {\n   k" + h + " {\n    remote_ts = 10.0.0.0/8\n   }\n  }\n }\n}\n"
	write("g"+name+"/swanctl.conf", conn)
	write("gx/x"+name+".conf", conn)
	var packed bytes.Buffer
	z := zip.NewWriter(&packed)
	w, err := z.Create("in" + name + "/swanctl.conf")
	require.NoError(t, err)
	fmt.Fprint(w, conn)
	require.NoError(t, z.Close())
	write("p"+name+".zip", packed.String())
	write("toril.yaml", "tunnels:\n  - {between: [\""+h+"\", b], partner: "+h+"}\nformats:\n  \""+h+"\": "+h+"\n")
	return estate, conn, fields + 12
}

// TestHostileFields puts each of these texts into every place of every format, into the names of files, gateways and archive entries,
// into a baseline and a toril.yaml, and looks at all that every command prints in every form.
func TestHostileFields(t *testing.T) {
	fields, runs := 0, 0
	for _, h := range hostile {
		dir := t.TempDir()
		estate, conn, n := hostileEstate(t, dir, h)
		fields += n
		name := strings.ReplaceAll(h, "/", "")
		baseline := filepath.Join(dir, "b.yaml")
		require.NoError(t, os.WriteFile(baseline, []byte("name: "+h+"\nextends: sound\ntitle: "+h+"\n"), 0o644))
		var lists [][]string
		for _, form := range []string{"text", "json"} {
			lists = append(
				lists,
				[]string{"audit", estate, "--format", form},
				[]string{"audit", estate, "--show-unread", "--all", "--format", form},
				[]string{"tunnels", estate, "--format", form},
				[]string{"ends", estate, "--format", form},
				[]string{
					"follow",
					estate,
					"--gateway",
					"gx",
					"--from",
					"10.1.0.1",
					"--to",
					"10.2.0.1",
					"--format",
					form,
				},
				[]string{"follow", estate, "--gateway", h, "--from", h, "--to", h, "--format", form},
			)
		}
		for _, form := range []string{"markdown", "html", "sarif", "junit", "csv"} {
			lists = append(lists, []string{"audit", estate, "--format", form})
		}
		lists = append(
			lists,
			[]string{"changes", filepath.Join(estate, "gx"), estate},
			[]string{"changes", h, h},
			[]string{"except", h, estate, "--reason", h, "--owner", h, "--until", h},
			[]string{"sheet", "gx/n" + h, estate},
			[]string{"sheet", "gx/n" + h, estate, "--format", "json"},
			[]string{"sheet", "gx/n" + h, estate, "--format", "html"},
			[]string{"sheet", "gx/n" + h, estate, "--format", "csv"},
			[]string{"keys", estate},
			[]string{"observed", estate},
			[]string{"fix", estate},
			[]string{"mirror", "gx/n" + h, estate, "--write", "swanctl"},
			[]string{"audit", h},
			[]string{"explain", h},
			[]string{"baseline", "show", h},
			[]string{
				"baseline",
				"show",
				baseline,
			},
			[]string{"audit", estate, "--baseline", baseline},
			[]string{"audit", estate, "--fail-on", h},
			[]string{"audit", "-", "--as", h},
			[]string{"audit", "-", "--gateway", h},
			[]string{h},
			[]string{"formats", "--explain", filepath.Join(estate, "gx/x"+name+".conf")},
			[]string{"demo", "--as-of", h},
		)
		for _, args := range lists {
			var out, errs bytes.Buffer
			Main(args, strings.NewReader(conn), &out, &errs)
			runs++
			assert.Empty(t, dangerous(out.String()), "toril %q", args)
			assert.Empty(t, dangerous(errs.String()), "toril %q", args)
			if i := slices.Index(args, "json"); i > 0 && args[i-1] == "--format" && out.Len() > 0 {
				assert.True(t, json.Valid(out.Bytes()), "toril %q", args)
			}
		}
	}
	t.Logf("%d fields, %d runs", fields, runs)
}

// markup are texts that mean something to a page, to Markdown, to a spreadsheet or to XML.
var markup = []string{
	`"><script>alert(1)</script><img/src=x/onerror=alert(1)>`, `'onmouseover='alert(1)`, `]]><x>&amp;&lt;`, `</title></style></script><svg/onload=alert(1)>`,
	"`[x](http://evil.example)`**b**<b>", `![x](http://evil.example/y.png)`, `<http://evil.example>`, `http://evil.example/x`, `|a|b|`, `# head`,
	`=HYPERLINK("http://evil.example")`, `+cmd|' /C calc'!A0`, `-2+3`, `@SUM(A1)`, `{{.Style}}`, `javascript:alert(1)`,
}

// TestHostileForms: whatever stands in a configuration, no form of the report has an element, a link, a formula or an attribute of it.
func TestHostileForms(t *testing.T) {
	checked := 0
	for _, h := range markup {
		for _, typed := range []string{h, strings.ReplaceAll(h, " ", "_")} { // where a format ends words at blanks
			estate, _, _ := hostileEstate(t, t.TempDir(), typed)
			at := func(form string) string {
				var out, errs bytes.Buffer
				require.NotEqual(
					t,
					2,
					Main([]string{"audit", estate, "--show-unread", "--format", form}, strings.NewReader(""), &out, &errs),
				)
				return out.String()
			}
			assert.Empty(t, foreign(t, at("html"), true), "html: %s", typed)
			var page bytes.Buffer
			md := goldmark.New(goldmark.WithExtensions(extension.GFM), goldmark.WithRendererOptions(unsafe.WithUnsafe()))
			require.NoError(t, md.Convert([]byte(at("markdown")), &page))
			assert.Empty(t, foreign(t, page.String(), false), "markdown: %s", typed)
			rows, err := csv.NewReader(strings.NewReader(at("csv"))).ReadAll()
			require.NoError(t, err)
			for _, row := range rows {
				for _, cell := range row {
					assert.False(t, cell != "" && strings.ContainsAny(cell[:1], "=+-@\t\r|%"), "csv: %q", cell)
				}
			}
			assert.NoError(t, xml.Unmarshal([]byte(at("junit")), new(struct{ XMLName xml.Name })), "junit: %s", typed)
			assert.True(t, json.Valid([]byte(at("sarif"))), "sarif: %s", typed)
			checked++
		}
	}
	t.Logf("%d estates in five forms", checked)
}

// foreign names what in a page is not Toril's own: elements that it never writes, attributes that run something, links that leave the
// page.
func foreign(t *testing.T, text string, own bool) (out []string) {
	t.Helper()
	doc, err := html.Parse(strings.NewReader(text))
	require.NoError(t, err)
	scripts := 0
	var walk func(*html.Node)
	walk = func(n *html.Node) {
		if n.Type == html.ElementNode {
			switch n.Data {
			case "script", "style":
				scripts++
			case "img", "iframe", "object", "embed", "b", "x", "base", "link", "video", "audio":
				out = append(out, "element "+n.Data)
			case "a":
				if !own {
					out = append(out, "a link")
				}
			}
			for _, a := range n.Attr {
				if strings.HasPrefix(a.Key, "on") || a.Key == "style" && (own || !strings.HasPrefix(a.Val, "text-align:")) ||
					a.Key == "src" ||
					a.Key == "href" && !strings.HasPrefix(a.Val, "#") {
					out = append(out, "attribute "+a.Key+"="+a.Val)
				}
			}
		}
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			walk(c)
		}
	}
	walk(doc)
	if want := map[bool]int{true: 2}[own]; scripts != want {
		out = append(out, fmt.Sprintf("%d scripts and styles", scripts))
	}
	return out
}
