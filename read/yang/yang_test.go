package yang_test

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/demo"
	"toril/estate"
	"toril/ike"
	"toril/model"
	"toril/pair"
	"toril/read/formats"
	"toril/read/readtest"
	"toril/read/yang"
)

// gateways are those of the demonstration estate.
func gateways(t testing.TB) []*model.Gateway {
	e, err := pair.WholeFS(context.Background(), demo.Estate(), estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	return e.Gateways
}

// TestThereAndBack: what is written of a gateway is read as the same, as far as the models can say it, in JSON and in XML.
func TestThereAndBack(t *testing.T) {
	for _, g := range gateways(t) {
		for _, asXML := range []bool{false, true} {
			var out bytes.Buffer
			lacks, err := yang.Write(&out, g, asXML)
			require.NoError(t, err)
			back := readtest.Read(yang.Format, "x", out.String(), nil)
			for _, u := range readtest.Unread(back) {
				assert.Contains(t, u, "the PRF is not known", g.Name)
			}
			for i, k := range g.Keys {
				assert.NotContains(t, out.String(), k.Secret.Reveal(), i)
			}
			var second bytes.Buffer
			again, err := yang.Write(&second, back, asXML)
			require.NoError(t, err)
			assert.Equal(t, out.String(), second.String(), "%s: read back and written again", g.Name)
			for _, l := range again {
				assert.True(t, slices.Contains(lacks, l) || strings.Contains(l, "the hook") || strings.Contains(l, "kind of tunnel"), "%s: %s", g.Name, l)
			}
			assert.Equal(t, sayable(g, lacks), sayable(back, lacks), g.Name)
		}
	}
}

// sayable is what a gateway is, as far as the models can say it.
func sayable(g *model.Gateway, lacks []string) string {
	var b strings.Builder
	lacking := func(text string) bool {
		return slices.ContainsFunc(lacks, func(l string) bool { return strings.Contains(l, text) })
	}
	for _, i := range g.Interfaces {
		fmt.Fprintln(&b, i.Name, i.Addresses, i.Down)
	}
	for _, r := range g.Routes {
		if r.Origin != "connected" {
			fmt.Fprintln(&b, r.To, r.Via, r.Dev, r.Kind)
		}
	}
	for _, c := range g.Connections {
		if lacking("connection " + c.Name + ": IKEv1") {
			continue
		}
		fmt.Fprintln(&b, c.Name, c.LocalAddrs.Value, c.RemoteAddrs.Value, c.Local.Method.Value)
		for _, id := range []ike.Identity{c.Local.ID.Value, c.Remote.ID.Value} {
			if id.Definite() && id.Kind != ike.IDAddr { // one that is not configured is written as the address
				fmt.Fprintln(&b, id)
			}
		}
		fmt.Fprintln(&b, c.Rekey.Value, c.Reauth.Value, c.Over.Value)
		for _, k := range c.Children {
			fmt.Fprintln(&b, k.Name, k.Local.Value, k.Remote.Value, k.Mode.Value, k.ReplayWindow.Value)
			if len(k.Proposals.Value) == 1 && !lacking(k.Name) {
				fmt.Fprintln(&b, k.Proposals.Value[0].Names(), k.Rekey.Value, k.Life.Value,
					k.RekeyBytes.Value)
			}
		}
	}
	return b.String()
}
