//go:build lab

package negotiation

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"toril/estate"
	"toril/lab"
	"toril/lab/charon"
	"toril/negotiate"
	"toril/pair"
	"toril/read/formats"
)

// named is a pair of configurations that was thought of, rather than drawn.
type named struct {
	name  string
	a, b  []section
	keyA  string // owners of the key, as statements; "" for everybody
	keyB  string
	first string // the connection that is set up; "" for the first
}

// section is one connection with one child; empty values take those of a pair that agrees.
type section struct {
	name, version, id, peerID, local, remote, ike, esp, more, child string
}

func (s section) text(own, far string, me, peer int) string {
	or := func(a, b string) string {
		if a == "" {
			return b
		}
		return a
	}
	net := map[int]string{1: "10.1.0.0/24", 2: "10.2.0.0/24"}
	who := map[int]string{1: "a.example", 2: "b.example"}
	id, peerID := or(s.id, who[me]), or(s.peerID, who[peer])
	var b strings.Builder
	line := func(text ...string) { b.WriteString("    " + strings.Join(text, "") + "\n") }
	b.WriteString("  " + s.name + " {\n")
	line("local_addrs = ", own)
	line("remote_addrs = ", far)
	line("version = ", or(s.version, "2"))
	line("proposals = ", or(s.ike, "aes128-sha256-modp2048"))
	line("local { auth = psk\n id = ", id, "\n}")
	line("remote { auth = psk\n id = ", peerID, "\n}")
	line(s.more)
	line(
		"children { ",
		s.name,
		" { local_ts = ",
		or(s.local, net[me]),
		"\nremote_ts = ",
		or(s.remote, net[peer]),
		"\nesp_proposals = ",
		or(s.esp, "aes128-sha256"),
		"\n",
		s.child,
		"\n} }",
	)
	b.WriteString("  }\n")
	return b.String()
}

func (n named) texts() (a, b string) {
	secret := func(owners string) string {
		return "secrets { ike { " + owners + "\nsecret = abcdefghijklmnopqrstuv\n} }\n"
	}
	side := func(ss []section, own, far string, me, peer int, key string) string {
		var out strings.Builder
		out.WriteString("connections {\n")
		for _, s := range ss {
			out.WriteString(s.text(own, far, me, peer))
		}
		return out.String() + "}\n" + secret(key)
	}
	return side(n.a, "10.0.0.1", "10.0.0.2", 1, 2, n.keyA), side(n.b, "10.0.0.2", "10.0.0.1", 2, 1, n.keyB)
}

func one(s section) []section { s.name = "ike"; return []section{s} }

// allNamed are the pairs.
func allNamed() []named {
	v1 := func(s section) section { s.version = "1"; return s }
	hostsA := section{local: "10.0.0.1", remote: "10.0.0.2"}
	hostsB := section{local: "10.0.0.2", remote: "10.0.0.1"}
	with := func(s section, change func(*section)) section { change(&s); return s }
	beet := func(s *section) { s.child = "mode = beet" }
	pass := func(s *section) { s.child = "mode = pass" }
	transport := func(s *section) { s.child = "mode = transport" }
	out := []named{
		{
			name: "two connections, the same peers: the first",
			a:    []section{{name: "ike"}, {name: "two", local: "10.1.8.0/24"}},
			b:    []section{{name: "ike"}, {name: "two", remote: "10.1.8.0/24"}},
		},
		{
			name:  "two connections, the same peers: the second",
			a:     []section{{name: "ike"}, {name: "two", local: "10.1.8.0/24"}},
			b:     []section{{name: "ike"}, {name: "two", remote: "10.1.8.0/24"}},
			first: "two",
		},
		{
			name: "two connections told apart by identity",
			a:    one(section{id: "c.example"}),
			b:    []section{{name: "ike"}, {name: "two", peerID: "c.example"}},
		},
		{
			name: "two connections told apart by identity, another cipher",
			a:    one(section{id: "c.example", ike: "aes256-sha256-modp2048"}),
			b:    []section{{name: "ike"}, {name: "two", peerID: "c.example", ike: "aes256-sha256-modp2048"}},
		},
		{
			name: "the first connection has another cipher",
			a:    one(section{ike: "aes256-sha256-modp2048"}),
			b:    []section{{name: "ike"}, {name: "two", ike: "aes256-sha256-modp2048"}},
		},
		{
			name: "the first connection has other ESP",
			a:    one(section{esp: "aes256-sha256"}),
			b:    []section{{name: "ike"}, {name: "two", esp: "aes256-sha256"}},
		},
		{
			name: "the first connection has other networks",
			a:    one(section{}),
			b:    []section{{name: "ike", remote: "10.1.8.0/24"}, {name: "two"}},
		},
		{
			name: "any peer beside the named one",
			a:    one(section{}),
			b:    []section{{name: "ike", peerID: "%any", remote: "10.1.8.0/24"}, {name: "two"}},
		},
		{
			name: "IKEv1, the first connection has another cipher",
			a:    one(v1(section{ike: "aes256-sha256-modp2048"})),
			b:    []section{v1(section{name: "ike"}), v1(section{name: "two", ike: "aes256-sha256-modp2048"})},
		},
		{
			name: "IKEv1, told apart by identity",
			a:    one(v1(section{id: "c.example"})),
			b:    []section{v1(section{name: "ike"}), v1(section{name: "two", peerID: "c.example"})},
		},
		{name: "childless = prefer", a: one(section{more: "childless = prefer"}), b: one(section{})},
		{name: "a port that nobody answers on", a: one(section{more: "remote_port = 4711"}), b: one(section{})},
		{name: "the other IKE port", a: one(section{more: "remote_port = 4500"}), b: one(section{})},
		{name: "a local port without a socket", a: one(section{more: "local_port = 4711"}), b: one(section{})},
		{name: "the responder expects a network", a: one(section{id: "10.0.0.1"}), b: one(section{peerID: "10.0.0.0/24"})},
		{name: "the initiator expects a network", a: one(section{peerID: "10.0.0.0/24"}), b: one(section{id: "10.0.0.2"})},
		{
			name: "key owned by addresses, identities are names",
			a:    one(section{}),
			b:    one(section{}),
			keyA: "id-1 = 10.0.0.1\nid-2 = 10.0.0.2",
			keyB: "id-1 = 10.0.0.1\nid-2 = 10.0.0.2",
		},
		{
			name: "the same with IKEv1",
			a:    one(v1(section{})),
			b:    one(v1(section{})),
			keyA: "id-1 = 10.0.0.1\nid-2 = 10.0.0.2",
			keyB: "id-1 = 10.0.0.1\nid-2 = 10.0.0.2",
		},
		{name: "what passes, at the initiator", a: one(section{child: "mode = pass"}), b: one(section{})},
		{name: "what is dropped, at the initiator", a: one(section{child: "mode = drop"}), b: one(section{})},
		{
			name: "what passes in a trap, at the initiator",
			a:    one(section{child: "mode = pass\nstart_action = trap"}),
			b:    one(section{}),
		},
		{
			name: "what is dropped in a trap, at the responder",
			a:    one(section{}),
			b:    one(section{child: "mode = drop\nstart_action = trap"}),
		},
		{name: "what passes, at both ends", a: one(section{child: "mode = pass"}), b: one(section{child: "mode = pass"})},
		{name: "what passes and transport", a: one(with(hostsA, pass)), b: one(with(hostsB, transport))},
		{
			name: "what passes beside what is protected",
			a:    one(section{}),
			b:    one(section{child: "}\nshunt {\nlocal_ts = 10.2.0.0/24\nremote_ts = 10.1.0.0/24\nmode = pass"}),
		},
		{
			name: "what passes is narrower",
			a:    one(section{}),
			b:    one(section{local: "10.2.0.0/16", child: "}\nshunt {\nlocal_ts = 10.2.0.0/24\nremote_ts = 10.1.0.0/24\nmode = pass"}),
		},
		{name: "IKEv1, what passes", a: one(v1(section{child: "mode = pass"})), b: one(v1(section{}))},
		{name: "beet, hosts", a: one(with(hostsA, beet)), b: one(with(hostsB, beet))},
		{name: "beet on one end", a: one(with(hostsA, beet)), b: one(hostsB)},
		{name: "beet between networks", a: one(section{child: "mode = beet"}), b: one(section{child: "mode = beet"})},
		{name: "IKEv1, beet", a: one(v1(with(hostsA, beet))), b: one(v1(with(hostsB, beet)))},
		{name: "IKEv1, beet at the initiator", a: one(v1(with(hostsA, beet))), b: one(v1(hostsB))},
		{name: "IKEv1, beet at the responder", a: one(v1(hostsA)), b: one(v1(with(hostsB, beet)))},
		{
			name: "several children with other ESP",
			a:    one(section{esp: "aes256-sha256"}),
			b:    one(section{child: "}\nwide {\nlocal_ts = 10.2.0.0/16\nremote_ts = 10.1.0.0/16\nesp_proposals = aes256-sha256"}),
		},
	}
	for _, i := range []string{"", "-esn", "-noesn", "-esn-noesn", "-noesn-esn"} {
		for _, r := range []string{"", "-esn", "-noesn-esn"} {
			out = append(
				out,
				named{
					name: "IKEv1, sequence numbers" + i + " to" + r,
					a:    one(v1(section{esp: "aes128-sha256" + i})),
					b:    one(v1(section{esp: "aes128-sha256" + r})),
				},
			)
		}
	}
	for _, i := range []string{"-modpnone-modp2048", "-modp3072-modpnone", "-modpnone-modp3072"} {
		for _, r := range []string{"", "-modp2048", "-modp3072", "-modpnone-modp3072"} {
			out = append(
				out,
				named{
					name: "IKEv1, PFS" + i + " to" + r,
					a:    one(v1(section{esp: "aes128-sha256" + i})),
					b:    one(v1(section{esp: "aes128-sha256" + r})),
				},
			)
		}
	}
	return out
}

// TestNamedPairs sets up every pair, the first end initiating, and compares with what Toril predicts.
func TestNamedPairs(t *testing.T) {
	tally := lab.NewTally(t, "negotiation: named pairs")
	kept := newRecord(t, "named")
	p := charon.StartPair(t, "nam")
	dir := t.TempDir()
	empty := filepath.Join(dir, "empty.conf")
	require.NoError(t, os.WriteFile(empty, []byte("connections {\n}\n"), 0o600))
	for _, n := range allNamed() {
		a, b := n.texts()
		for d, text := range map[*charon.Daemon]string{p.A: a, p.B: b} {
			file := filepath.Join(dir, d.Name+".conf")
			require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
			_ = d.LoadFile(empty) // a daemon keeps the order in which connections were first loaded
			_ = d.LoadFile(file)
		}
		first := n.first
		if first == "" {
			first = "ike"
		}
		got := strings.Split(seen(charon.Try(t, p.A, p.B, first, first, false)), "; renewed")[0]
		e, err := pair.WholeFS(
			context.Background(),
			fstest.MapFS{"toril.yaml": lab.Versions(), "a/swanctl.conf": {Data: []byte(a)}, "b/swanctl.conf": {Data: []byte(b)}},
			estate.Options{Formats: formats.All()},
		)
		require.NoError(t, err)
		want, why := "no tunnel", ""
		for _, tu := range e.Tunnels {
			for _, at := range negotiate.Tunnel(tu) {
				if at.Initiator.Name() == "a/"+first {
					want, why = strings.Split(predicted(at), "; renewed")[0], because(at)
				}
			}
		}
		if tally.Count(got == want) {
			kept.keep(n.name, a, b)
		} else {
			t.Errorf("%s\n daemons:   %s\n predicted: %s\n because:   %s\n--- a\n%s--- b\n%s", n.name, got, want, why, a, b)
		}
	}
}
