package walk_test

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"sort"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/estate"
	"toril/lab/cases"
	"toril/model"
	"toril/packet"
	"toril/pair"
	"toril/read/formats"
	"toril/walk"
)

// gatewayOf reads the gateway of the cases with a ruleset and more lines of routes.
func gatewayOf(t *testing.T, start, rules, routes string) (*pair.Whole, *model.Gateway) {
	files := fstest.MapFS{"g/net.txt": {Data: []byte(cases.Network + routes)}}
	if rules != "" {
		files["g/rules.nft"] = &fstest.MapFile{Data: []byte(rules)}
	}
	if start != cases.NoConnection {
		files["g/swanctl.conf"] = &fstest.MapFile{Data: []byte(strings.Replace(cases.Daemon, "START", start, 1))}
	}
	e, err := pair.WholeFS(context.Background(), files, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	require.Empty(t, e.Problems)
	for _, f := range e.Gateways[0].Files {
		require.Empty(t, f.Unread, "%s", f.Path)
	}
	return e, e.Gateways[0]
}

func ping(from, to string) packet.Set {
	return packet.Range(packet.Src, netip.MustParseAddr(from), netip.MustParseAddr(from)).
		And(packet.Range(packet.Dst, netip.MustParseAddr(to), netip.MustParseAddr(to))).
		With(packet.Proto, packet.OneOf(1)).
		With(packet.ICMP, packet.OneOf(8<<8))
}

// say writes outcomes as the measurements do: ESP with the inner source, CLEAR with the source, or nothing.
func say(os []walk.Outcome) string {
	var out []string
	for _, o := range os {
		w, _ := o.Now.Witness()
		switch o.Fate {
		case walk.Encrypted:
			text := "ESP from " + w.Src.String()
			for _, e := range o.Outer {
				ow, _ := e.Now.Witness()
				if e.Fate == walk.Clear {
					text += ", outer from " + ow.Src.String()
				} else {
					text += ", outer " + e.String()
				}
			}
			out = append(out, text)
		case walk.Clear:
			if o.Wrap != nil {
				outer, _ := o.Wrap.Outer.Now.Witness()
				out = append(out, "CLEAR, wrapped, from "+outer.Src.String())
				continue
			}
			out = append(out, "CLEAR from "+w.Src.String())
		default:
			if o.Wrap != nil {
				out = append(out, "wrapped, "+o.String())
				continue
			}
			out = append(out, o.String())
		}
	}
	sort.Strings(out)
	return strings.Join(out, "; ")
}

const esp = "ESP from 10.1.0.10, outer from 198.51.100.1"

// TestWhatAKernelDid asks for cases that were tried on a kernel with real ESP; the laboratory tries them again.
func TestWhatAKernelDid(t *testing.T) {
	require.NotEmpty(t, cases.All)
	for _, c := range cases.All {
		t.Run(c.Name, func(t *testing.T) {
			e, g := gatewayOf(t, c.Start, c.Rules, c.Routes)
			p := walk.NewPath(g, e.Ends(g), walk.Options{Down: func(*model.Child) bool { return c.Down }})
			assert.Equal(t, c.Want, say(p.Forward(walk.Fresh(ping(cmp.Or(c.From, "10.1.0.10"), cmp.Or(c.To, "10.2.0.5")), "lan0"))))
		})
	}
}

// TestTunnelInterfaces asks for packets that are routed into tunnel interfaces, or come out of them; the laboratory tries them
// again in a kernel.
func TestTunnelInterfaces(t *testing.T) {
	for _, i := range cases.Interfaces {
		for _, c := range cases.AllBy {
			t.Run(i.Name+"/"+c.Name, func(t *testing.T) {
				network, daemon := c.Files(i)
				files := fstest.MapFS{"g/net.txt": {Data: []byte(network)}, "g/swanctl.conf": {Data: []byte(daemon)}}
				if c.Rules != "" {
					files["g/rules.nft"] = &fstest.MapFile{Data: []byte(c.Rules)}
				}
				e, err := pair.WholeFS(context.Background(), files, estate.Options{Formats: formats.All()})
				require.NoError(t, err)
				require.Empty(t, e.Problems)
				g := e.Gateways[0]
				for _, f := range g.Files {
					require.Empty(t, f.Unread, "%s", f.Path)
				}
				g.Options.NoRoutes = model.Say(true, g.Connections[0].At)
				p := walk.NewPath(g, e.Ends(g), walk.Options{Down: func(*model.Child) bool { return c.Down || c.Trap }})
				if !c.Inbound {
					assert.Equal(t, c.Wants(i), say(p.Forward(walk.Fresh(ping("10.1.0.10", "10.2.0.5"), "lan0"))))
					return
				}
				esp, inner := p.Inbound(p.Policies[0], ping("10.2.0.5", "10.1.0.10"))
				if inner == nil {
					inner = esp[len(esp)-1:]
				}
				assert.Equal(t, c.Wants(i), say(inner))
			})
		}
	}
}

func TestBlackholeWithoutTheDaemonsRoute(t *testing.T) {
	e, g := gatewayOf(t, "", "", "blackhole 10.2.0.0/24\n")
	g.Options.NoRoutes = model.Say(true, g.Connections[0].At)
	p := walk.NewPath(g, e.Ends(g), walk.Options{})
	assert.Equal(t, "dropped in route", say(p.Forward(walk.Fresh(ping("10.1.0.10", "10.2.0.5"), "lan0"))), "also with the tunnel up")
}

func TestOwnPackets(t *testing.T) {
	e, g := gatewayOf(t, "", cases.Nat(`oifname "wan0" masquerade`), "")
	p := walk.NewPath(g, e.Ends(g), walk.Options{})
	assert.Equal(t, "CLEAR from 198.51.100.1", say(p.Local(ping("10.1.0.1", "10.2.0.5"))))
	assert.Equal(t, "CLEAR from 198.51.100.1", say(p.Local(ping("198.51.100.1", "10.2.0.5"))))
}

func TestInbound(t *testing.T) {
	require.NotEmpty(t, cases.AllInbound)
	for _, c := range cases.AllInbound {
		e, g := gatewayOf(t, "", c.Rules, "")
		p := walk.NewPath(g, e.Ends(g), walk.Options{Down: func(*model.Child) bool { return c.Down }})
		if c.Clear {
			assert.Equal(t, c.Inner, say(p.Forward(walk.Fresh(ping("10.2.0.5", "10.1.0.10"), "wan0"))), c.Name)
			continue
		}
		out, in := p.Inbound(p.Policies[0], ping("10.2.0.5", "10.1.0.10"))
		assert.Equal(t, c.ESP, say(out), c.Name)
		assert.Equal(t, c.Inner, say(in), c.Name)
	}
}

func TestRouteBased(t *testing.T) {
	e, g := gatewayOf(
		t,
		"if_id_in = 42\nif_id_out = 42",
		cases.Nat(`oifname "wan0" masquerade`),
		"4: xf0@wan0: <UP> mtu 1400\n    xfrm if_id 0x2a\n10.2.0.0/24 dev xf0\n",
	)
	p := walk.NewPath(g, e.Ends(g), walk.Options{})
	got := p.Forward(walk.Fresh(ping("10.1.0.10", "10.2.0.5"), "lan0"))
	assert.Equal(t, esp, say(got), "the masquerade names another interface")
	assert.Equal(t, "xf0", got[0].Out)
	assert.Equal(
		t,
		"dropped in encapsulation",
		say(p.Forward(walk.Fresh(ping("10.1.0.10", "10.2.0.5"), "lan0").Moved("10.77.0.1"))),
		"what no policy of the interface is for does not leave by it",
	)
	p = walk.NewPath(g, e.Ends(g), walk.Options{Down: func(*model.Child) bool { return true }})
	assert.Equal(t, "dropped in encapsulation", say(p.Forward(walk.Fresh(ping("10.1.0.10", "10.2.0.5"), "lan0"))))
}

func TestRoutingRules(t *testing.T) {
	_, g := gatewayOf(
		t,
		cases.NoConnection,
		"",
		"0:\tfrom all lookup local\n100:\tfrom 10.1.0.0/25 lookup 7\n200:\tfrom all fwmark 0x5 unreachable\n"+
			"32766:\tfrom all lookup main\n10.9.0.0/24 dev wan0 table 7\nthrow 10.9.0.128/25 table 7\nblackhole 10.9.0.0/16\n",
	)
	p := walk.NewPath(g, func(*model.Connection) []walk.Ends { return nil }, walk.Options{})
	for to, want := range map[string]string{"10.9.0.5": "CLEAR from 10.1.0.10", "10.9.0.200": "dropped in route",
		"10.9.7.1": "dropped in route", "192.0.2.7": "CLEAR from 10.1.0.10", "10.1.0.1": "delivered"} {
		assert.Equal(t, want, say(p.Forward(walk.Fresh(ping("10.1.0.10", to), "lan0"))), to)
	}
	assert.Equal(t, "wan0", p.InterfaceFor(netip.MustParseAddr("192.0.2.7")))
}

// TestASetIsWhatItsPacketsAre walks sets and, for many packets of them, the packet alone: it must be found in exactly the
// outcomes that the set gave it.
func TestASetIsWhatItsPacketsAre(t *testing.T) {
	rules := cases.Nat(
		`ip daddr 10.2.0.0/25 accept; ip saddr 10.1.0.64/26 snat to 10.1.0.7; oifname "wan0" masquerade`,
	) + cases.Forward(
		`tcp dport 22 drop; ip saddr 10.1.0.128/25 ip daddr 10.2.0.0/24 rt ipsec exists accept; ip protocol icmp accept; ip daddr 10.2.0.64/26 drop`,
	)
	e, g := gatewayOf(t, "", rules, "")
	p := walk.NewPath(g, e.Ends(g), walk.Options{})
	all := packet.Prefixes(packet.Src, netip.MustParsePrefix("10.1.0.0/24")).
		And(packet.Prefixes(packet.Dst, netip.MustParsePrefix("10.2.0.0/24")))
	whole := p.Forward(walk.Fresh(all, "lan0"))
	fates := map[string]bool{}
	for s := 1; s < 250; s += 21 {
		for d := 1; d < 250; d += 17 {
			for _, kind := range []packet.Set{packet.Where(packet.Proto, packet.OneOf(1)).With(packet.ICMP, packet.OneOf(8<<8)),
				packet.Where(packet.Proto, packet.OneOf(6)).With(packet.Sport, packet.OneOf(50000)).With(packet.Dport, packet.OneOf(22)),
				packet.Where(packet.Proto, packet.OneOf(17)).With(packet.Sport, packet.OneOf(50000)).With(packet.Dport, packet.OneOf(53))} {
				src, dst := netip.MustParseAddr(fmt.Sprintf("10.1.0.%d", s)), netip.MustParseAddr(fmt.Sprintf("10.2.0.%d", d))
				one := packet.Range(packet.Src, src, src).And(packet.Range(packet.Dst, dst, dst)).And(kind)
				alone := p.Forward(walk.Fresh(one, "lan0"))
				require.Len(t, alone, 1)
				fates[alone[0].String()] = true
				for _, o := range whole {
					same := o.String() == alone[0].String() && o.Now.Contains(alone[0].Now)
					if o.Was().
						Free(packet.Out, packet.PeerOut, packet.Translated).
						Overlaps(alone[0].Was().Free(packet.Out, packet.PeerOut, packet.Translated)) &&
						!same {
						assert.True(
							t,
							o.Now.Overlaps(alone[0].Now) || o.String() == alone[0].String(),
							"%s %s: %s, in the set %s",
							src,
							dst,
							alone[0],
							o,
						)
					}
				}
			}
		}
	}
	assert.Len(t, fates, 3, "%v", fates)
}
