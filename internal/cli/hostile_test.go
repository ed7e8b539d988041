package cli

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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

// TestHostileFields puts each of these texts into every place of every format, into the names of files, gateways and archive entries,
// into a baseline and a toril.yaml, and looks at all that every command prints in every form.
func TestHostileFields(t *testing.T) {
	fields, runs := 0, 0
	for _, h := range hostile {
		dir := t.TempDir()
		estate := filepath.Join(dir, "estate")
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
		conn := "connections {\n \"" + h + "\" {\n }\n n" + h + " {\n  version = 1\n  remote_addrs = 192.0.2.1\n  local {\n   id = " +
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
		baseline := filepath.Join(dir, "b.yaml")
		require.NoError(t, os.WriteFile(baseline, []byte("name: "+h+"\nextends: sound\ntitle: "+h+"\n"), 0o644))
		fields += 12
		var lists [][]string
		for _, form := range []string{"text", "json"} {
			lists = append(
				lists,
				[]string{"audit", estate, "--format", form},
				[]string{"audit", estate, "--show-unread", "--format", form},
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
		lists = append(
			lists,
			[]string{"mirror", "gx/n" + h, estate},
			[]string{"mirror", "gx/n" + h, estate, "--format", "json"},
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
