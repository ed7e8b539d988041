//go:build lab

package negotiation

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/demo"
	"toril/estate"
	"toril/lab"
	"toril/lab/charon"
	"toril/mirror"
	"toril/pair"
	"toril/read/formats"
)

// TestMirrors loads the mirrored end of every demonstration connection into a daemon and has it come up against the
// original, from either side.
func TestMirrors(t *testing.T) {
	tally := lab.NewTally(t, "mirror: mirrored ends that come up against their originals")
	p := charon.StartPair(t, "mir")
	e, err := pair.WholeFS(context.Background(), demo.Estate(), estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	for _, tu := range e.Tunnels {
		for _, end := range tu.Ends {
			far, err := mirror.Swanctl(mirror.Of(tu, end))
			require.NoError(t, err)
			var original string
			for _, f := range end.Gateway.Files {
				if f.Format == "swanctl.conf" {
					original = string(f.Bytes())
				}
			}
			if original == "" { // of a make that does not run here
				continue
			}
			// the wire of the laboratory has addresses of its own; the key is what people hand over by another way
			own, peer := tu.Own(end).String(), tu.Peer(end).String()
			here := strings.NewReplacer(own, "10.0.0.1", peer, "10.0.0.2")
			secret := ""
			for _, k := range end.Gateway.Keys {
				for _, o := range k.Owners {
					if o == end.Connection.Remote.ID.Value {
						secret = k.Secret.Reveal()
					}
				}
			}
			require.NotEmpty(t, secret, end.Name())
			far = strings.Replace(far, "# secret =", "secret = \""+secret+"\" #", 1)
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "a.conf"), []byte(here.Replace(original)), 0o600))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "b.conf"), []byte(here.Replace(far)), 0o600))
			require.NoError(t, p.A.LoadFile(filepath.Join(dir, "a.conf")))
			require.NoError(t, p.B.LoadFile(filepath.Join(dir, "b.conf")), far)
			child := end.Connection.Children[0].Name
			mirrored := end.Gateway.Name // the section that the mirror gave its connection
			o := charon.Try(t, p.A, p.B, end.Connection.Name, child, true)
			tally.Count(
				assert.True(
					t,
					o.IKE != nil && len(o.IKE.Children) == 1 && strings.HasPrefix(o.RekeyI, "ok"),
					"%s begins: %+v\n%s",
					end.Name(),
					o,
					far,
				),
			)
			o = charon.Try(t, p.B, p.A, mirrored, child, true)
			tally.Count(
				assert.True(
					t,
					o.IKE != nil && len(o.IKE.Children) == 1 && strings.HasPrefix(o.RekeyI, "ok"),
					"the mirror of %s begins: %+v\n%s",
					end.Name(),
					o,
					far,
				),
			)
		}
	}
}
