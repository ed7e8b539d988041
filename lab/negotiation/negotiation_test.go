//go:build lab

package negotiation

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"toril/estate"
	"toril/ike"
	"toril/lab"
	"toril/lab/charon"
	"toril/negotiate"
	"toril/packet"
	"toril/pair"
	"toril/read/formats"
)

// tunnelOf reads two configurations and joins them by hand: whether they would be paired is another question.
func tunnelOf(t testing.TB, a, b string) *pair.Tunnel {
	e, err := pair.WholeFS(
		context.Background(),
		fstest.MapFS{"toril.yaml": lab.Versions(), "a/swanctl.conf": {Data: []byte(a)}, "b/swanctl.conf": {Data: []byte(b)}},
		estate.Options{Formats: formats.All()},
	)
	require.NoError(t, err)
	require.Empty(t, e.Problems)
	ga, gb := e.Gateway("a"), e.Gateway("b")
	return &pair.Tunnel{
		Name: "a <> b",
		Ends: []pair.End{{Gateway: ga, Connection: ga.Connections[0]}, {Gateway: gb, Connection: gb.Connections[0]}},
	}
}

// suite writes a suite as list-sas does.
func suite(s ike.Suite) string {
	var parts []string
	for _, c := range s.All() {
		parts = append(parts, charon.Algorithm(c))
	}
	if s.ESN() {
		parts = append(parts, "EXT_SEQ")
	}
	return strings.Join(parts, "/")
}

// listed writes selectors as list-sas does.
func listed(ss ike.Selectors) string {
	var out []string
	for _, s := range ss {
		text := s.Lo.String() + ".." + s.Hi.String()
		if ps := packet.Range(packet.Src, s.Lo, s.Hi).Prefixes(packet.Src); len(ps) == 1 {
			text = ps[0].String()
		}
		if s.Proto != 0 {
			text += "[" + packet.ProtoName(uint64(s.Proto))
			switch {
			case s.AllPorts():
			case s.LoPort == s.HiPort:
				text += fmt.Sprintf("/%d", s.LoPort)
			default:
				text += fmt.Sprintf("/%d-%d", s.LoPort, s.HiPort)
			}
			text += "]"
		}
		out = append(out, text)
	}
	sort.Strings(out)
	return strings.Join(out, " ")
}

func sorted(in []string) string {
	out := append([]string{}, in...)
	sort.Strings(out)
	return strings.Join(out, " ")
}

// predicted writes a prediction in the words of seen.
func predicted(a negotiate.Attempt) string {
	if a.Failure != nil {
		return "no IKE SA"
	}
	out := "IKEv" + map[ike.Version]string{ike.V1: "1", ike.V2: "2"}[a.Version] + " " + suite(a.IKE)
	c := a.Children[0]
	if c.Outcome != negotiate.Agrees {
		return out + "; no child"
	}
	out += fmt.Sprintf(
		"; %s %s %s %s === %s",
		c.Suite.Protocol,
		strings.ToUpper(c.Mode.String()),
		suite(c.Suite),
		listed(c.Local),
		listed(c.Remote),
	)
	re := func(o negotiate.Outcome) string {
		return map[bool]string{true: "ok", false: "fail"}[o == negotiate.Agrees]
	}
	out += "; renewed by initiator " + re(c.Rekey.ByInitiator)
	if c.Rekey.ByInitiator == negotiate.Agrees || a.Version == ike.V2 {
		out += ", by responder " + re(c.Rekey.ByResponder)
	}
	if a.Version == ike.V2 {
		out += ", IKE SA " + re(a.Rekey.Outcome)
	}
	return out
}

func seen(o charon.Outcome) string {
	if o.IKE == nil {
		return "no IKE SA"
	}
	out := "IKEv" + o.IKE.Version + " " + o.IKE.Suite
	if len(o.IKE.Children) == 0 {
		return out + "; no child"
	}
	k := o.IKE.Children[0]
	out += fmt.Sprintf("; %s %s %s %s === %s", k.Protocol, k.Mode, k.Suite, sorted(k.Local), sorted(k.Remote))
	re := func(s string) string { return strings.Fields(s + " -")[0] }
	out += "; renewed by initiator " + re(o.RekeyI)
	out += ", by responder " + re(o.RekeyR)
	if o.IKE.Version == "2" {
		out += ", IKE SA " + re(o.RekeyIKE)
	}
	return out
}

// howMany is how many pairs are tried: TORIL_LAB_CASES, else enough for every change.
func howMany() int {
	if n, err := strconv.Atoi(os.Getenv("TORIL_LAB_CASES")); err == nil {
		return n
	}
	return 200
}

const seed = 20261125

func TestRandomPairs(t *testing.T) {
	tally := lab.NewTally(t, "negotiation: random pairs, either end as the initiator")
	p := charon.StartPair(t, "neg")
	everything := charon.AcceptsEverything(t)
	kept := newRecord(t, "random")
	if !everything {
		fmt.Println("lab: negotiation: without AH and transport mode, which the daemon's userspace kernel refuses")
	}
	from, _ := strconv.Atoi(os.Getenv("TORIL_LAB_FROM"))
	dir := t.TempDir()
	for n := from; n < from+howMany(); n++ {
		a, b := draw(seed, n, everything)
		texts := map[string]string{"a": a.text("10.0.0.1", "10.0.0.2", 1, 2), "b": b.text("10.0.0.2", "10.0.0.1", 2, 1)}
		refused := map[string]error{}
		for _, d := range []*charon.Daemon{p.A, p.B} {
			file := filepath.Join(dir, d.Name+".conf")
			require.NoError(t, os.WriteFile(file, []byte(texts[d.Name]), 0o600))
			refused[d.Name] = d.LoadFile(file)
		}
		attempts := negotiate.Tunnel(tunnelOf(t, texts["a"], texts["b"]))
		agreed := 0
		for i, ends := range [][2]*charon.Daemon{{p.A, p.B}, {p.B, p.A}} {
			got := seen(charon.Try(t, ends[0], ends[1], "ike", "c", true))
			want := predicted(attempts[i])
			if tally.Count(got == want) {
				agreed++
			} else {
				t.Errorf("case %d, %s initiates\n daemons:   %s\n predicted: %s\n because:   %s\n loaded: %v\n--- a\n%s--- b\n%s", n,
					ends[0].Name, got, want, because(attempts[i]), refused, texts["a"], texts["b"])
			}
		}
		if agreed == 2 && n < kept.most {
			kept.keep(fmt.Sprint(n), texts["a"], texts["b"])
		}
	}
}

func because(a negotiate.Attempt) string {
	if a.Failure != nil {
		return string(a.Failure.Step) + ": " + a.Failure.Why
	}
	for _, c := range a.Children {
		if c.Failure != nil {
			return string(c.Failure.Step) + ": " + c.Failure.Why
		}
		if c.Rekey.Failure != nil {
			return "rekey: " + c.Rekey.Failure.Why
		}
	}
	return ""
}
