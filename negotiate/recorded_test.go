package negotiate_test

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"toril/estate"
	"toril/negotiate"
	"toril/pair"
	"toril/read/formats"
)

// told is all that is predicted of a tunnel, whoever begins.
func told(tu *pair.Tunnel) string {
	var b strings.Builder
	failure := func(f *negotiate.Failure) string {
		if f == nil {
			return ""
		}
		return fmt.Sprintf(" (%s: %s: %s; %s)", f.Step, f.Notify, f.Why, strings.Join(f.Changes, "; or "))
	}
	name := func(e pair.End) string {
		if e.Connection == nil {
			return "nobody"
		}
		return e.Name()
	}
	for _, a := range negotiate.Tunnel(tu) {
		fmt.Fprintf(&b, "%s to %s: %s%s\n", name(a.Initiator), name(a.Responder), a.Outcome, failure(a.Failure))
		if a.Failure == nil {
			fmt.Fprintf(
				&b,
				"  %s %s, asked for another group: %v, renewed: %s%s\n",
				a.Version,
				a.IKE,
				a.Retry,
				a.Rekey.Outcome,
				failure(a.Rekey.Failure),
			)
		}
		for _, c := range a.Children {
			fmt.Fprintf(&b, "  child %s: %s%s\n", c.Of.Name, c.Outcome, failure(c.Failure))
			if c.Failure == nil {
				fmt.Fprintf(
					&b,
					"    %s, %s, %s to %s, renewed: by the initiator %s, by the responder %s%s\n",
					c.Mode,
					c.Suite,
					c.Local,
					c.Remote,
					c.Rekey.ByInitiator,
					c.Rekey.ByResponder,
					failure(c.Rekey.Failure),
				)
			}
		}
	}
	return b.String()
}

// TestWhatDaemonsDid asks again about pairs for which two daemons did what had been predicted (lab/negotiation, which keeps them
// where TORIL_LAB_RECORD names a folder). TORIL_WRITE_WANTS writes the predictions, right after such a run.
func TestWhatDaemonsDid(t *testing.T) {
	for _, name := range []string{"named", "random"} {
		file := "testdata/" + name + ".txtar"
		ar, err := txtar.ParseFile(file)
		require.NoError(t, err)
		texts := map[string]string{}
		for _, f := range ar.Files {
			texts[f.Name] = string(f.Data)
		}
		for _, f := range ar.Files {
			both, ok := strings.CutSuffix(f.Name, "/a")
			if !ok {
				continue
			}
			e, err := pair.WholeFS(
				context.Background(),
				fstest.MapFS{
					"toril.yaml":     {Data: []byte("versions: {\"*\": strongSwan 5.9.8}\n")},
					"a/swanctl.conf": {Data: []byte(texts[f.Name])},
					"b/swanctl.conf": {Data: []byte(texts[both+"/b"])},
				},
				estate.Options{Formats: formats.All()},
			)
			require.NoError(t, err)
			tunnels := e.Tunnels
			if name == "random" { // whether they would be paired is another question
				ga, gb := e.Gateway("a"), e.Gateway("b")
				tunnels = []*pair.Tunnel{
					{
						Name: "a <> b",
						Ends: []pair.End{{Gateway: ga, Connection: ga.Connections[0]}, {Gateway: gb, Connection: gb.Connections[0]}},
					},
				}
			}
			var got strings.Builder
			for _, tu := range tunnels {
				got.WriteString(told(tu))
			}
			if os.Getenv("TORIL_WRITE_WANTS") != "" {
				texts[both+"/want"] = got.String()
				continue
			}
			assert.Equal(t, texts[both+"/want"], got.String(), "%s\n%s", both, texts[f.Name])
		}
		if os.Getenv("TORIL_WRITE_WANTS") != "" {
			out := &txtar.Archive{}
			for _, f := range ar.Files {
				if strings.HasSuffix(f.Name, "/want") {
					continue
				}
				out.Files = append(out.Files, f)
				if both, ok := strings.CutSuffix(f.Name, "/b"); ok {
					out.Files = append(out.Files, txtar.File{Name: both + "/want", Data: []byte(texts[both+"/want"])})
				}
			}
			require.NoError(t, os.WriteFile(file, txtar.Format(out), 0o644))
		}
	}
}
