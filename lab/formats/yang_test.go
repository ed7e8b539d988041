//go:build lab

package formats

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/demo"
	"toril/estate"
	"toril/lab"
	"toril/pair"
	"toril/read/formats"
	"toril/read/yang"
)

// TestYANG: what is written as the IETF's models is valid by them, as yanglint has it, in JSON and in XML.
func TestYANG(t *testing.T) {
	tally := lab.NewTally(t, "gateways written as YANG instance data that yanglint takes")
	lab.Need(t, "yanglint", "libyang2-tools")
	packaged := lab.Unpacked(t, "libyuma-base")
	e, err := pair.WholeFS(context.Background(), demo.Estate(), estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	samples, err := pair.WholeFS(context.Background(), os.DirFS("samples"), estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	modules, err := filepath.Glob("yang/*.yang")
	require.NoError(t, err)
	for _, pattern := range []string{"nmda-modules/ietf/ietf-interfaces@2018*", "nmda-modules/ietf/ietf-ip@2018*",
		"nmda-modules/ietf/ietf-routing@2018*", "nmda-modules/ietf/ietf-ipv4-unicast-routing@2018*",
		"nmda-modules/ietf/ietf-ipv6-unicast-routing@2018*", "modules/ietf/iana-if-type@2014*"} {
		found, err := filepath.Glob(packaged + "/usr/share/yuma/" + pattern)
		require.NoError(t, err)
		require.NotEmpty(t, found, pattern)
		modules = append(modules, found...)
	}
	dir := t.TempDir()
	for _, g := range append(e.Gateways, samples.Gateways...) {
		for _, ending := range []string{"json", "xml"} {
			name := filepath.Join(dir, "g."+ending)
			f, err := os.Create(name)
			require.NoError(t, err)
			_, err = yang.Write(f, g, ending == "xml")
			require.NoError(t, err)
			require.NoError(t, f.Close())
			if ending == "xml" { // yanglint takes the tops one behind the other
				text, err := os.ReadFile(name)
				require.NoError(t, err)
				require.NoError(t, os.WriteFile(name, inside(text), 0o600))
			}
			args := []string{
				"-p",
				"yang",
				"-p",
				packaged + "/usr/share/yuma/nmda-modules/ietf",
				"-p",
				packaged + "/usr/share/yuma/modules/ietf",
				"-t",
				"config",
			}
			got := lab.Run(os.Environ(), "yanglint", append(append(args, modules...), name)...)
			text, _ := os.ReadFile(name)
			tally.Count(assert.NoError(t, got.Failed, "%s: %s%s\n%s", g.Name, got.Out, got.Err, text))
		}
	}
}

// inside is what stands in the element that holds all of a file.
func inside(text []byte) []byte {
	_, text, _ = bytes.Cut(text, []byte("<data>"))
	text, _, _ = bytes.Cut(text, []byte("</data>"))
	return text
}
