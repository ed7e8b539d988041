package walk_test

import (
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
	"toril/gateway"
	"toril/packet"
	"toril/read/formats"
	"toril/walk"
)

// The gateway of the cases: lan 10.1.0.0/24 behind lan0, outside 198.51.100.0/24 behind wan0, a tunnel from 10.1.0.0/24 to
// 10.2.0.0/24 whose peer is 203.0.113.9.
const (
	network = `1: lo: <LOOPBACK,UP> mtu 65536
    inet 127.0.0.1/8 scope host lo
2: lan0: <UP> mtu 1500
    inet 10.1.0.1/24 scope global lan0
3: wan0: <UP> mtu 1500
    inet 198.51.100.1/24 scope global wan0
default via 198.51.100.254 dev wan0
10.1.0.0/24 dev lan0 proto kernel scope link src 10.1.0.1
198.51.100.0/24 dev wan0 proto kernel scope link src 198.51.100.1
`
	daemon = `connections {
  far {
    local_addrs = 198.51.100.1
    remote_addrs = 203.0.113.9
    children {
      net {
        local_ts = 10.1.0.0/24
        remote_ts = 10.2.0.0/24
        START
      }
    }
  }
}
`
)

// gatewayOf reads the gateway of the cases with a ruleset and more lines of routes.
func gatewayOf(t *testing.T, start, rules, routes string) (*estate.Estate, *gateway.Gateway) {
	files := fstest.MapFS{"g/net.txt": {Data: []byte(network + routes)}}
	if rules != "" {
		files["g/rules.nft"] = &fstest.MapFile{Data: []byte(rules)}
	}
	if start != "none at all" {
		files["g/swanctl.conf"] = &fstest.MapFile{Data: []byte(strings.Replace(daemon, "START", start, 1))}
	}
	e, err := estate.LoadFS(context.Background(), files, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	require.Empty(t, e.Problems)
	for _, f := range e.Gateways[0].Files {
		require.Empty(t, f.Unread, "%s", f.Path)
	}
	return e, e.Gateways[0]
}

func nat(rules string) string {
	return "table ip nat {\n\tchain post {\n\t\ttype nat hook postrouting priority 100;\n\t\t" + strings.ReplaceAll(rules, "; ", "\n\t\t") + "\n\t}\n}\n"
}

func forward(rules string) string {
	return "table inet filter {\n\tchain forward {\n\t\ttype filter hook forward priority 0;\n\t\t" + strings.ReplaceAll(rules, "; ", "\n\t\t") + "\n\t}\n}\n"
}

func ping(from, to string) packet.Set {
	return packet.Range(packet.Src, netip.MustParseAddr(from), netip.MustParseAddr(from)).And(packet.Range(packet.Dst, netip.MustParseAddr(to), netip.MustParseAddr(to))).
		With(packet.Proto, packet.OneOf(1)).With(packet.ICMP, packet.OneOf(8<<8))
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
			out = append(out, "CLEAR from "+w.Src.String())
		default:
			out = append(out, o.String())
		}
	}
	sort.Strings(out)
	return strings.Join(out, "; ")
}

const esp = "ESP from 10.1.0.10, outer from 198.51.100.1"

// TestWhatAKernelDid are cases that were tried on a Linux 6.1 kernel with real ESP; the laboratory tries them again.
func TestWhatAKernelDid(t *testing.T) {
	for name, c := range map[string]struct {
		start, rules, routes string // of the child; nftables; more routes
		down                 bool
		from, to             string // "" for 10.1.0.10 and 10.2.0.5
		want                 string
	}{
		"no NAT":                        {want: esp},
		"masquerade, no exemption":      {rules: nat(`oifname "wan0" masquerade`), want: "CLEAR from 198.51.100.1"},
		"exempt before masquerade":      {rules: nat(`ip daddr 10.2.0.0/24 accept; oifname "wan0" masquerade`), want: esp},
		"exempt after masquerade":       {rules: nat(`oifname "wan0" masquerade; ip daddr 10.2.0.0/24 accept`), want: "CLEAR from 198.51.100.1"},
		"exempt in another chain":       {rules: "table ip early {\n\tchain post {\n\t\ttype nat hook postrouting priority 90;\n\t\tip daddr 10.2.0.0/24 accept\n\t}\n}\n" + nat(`oifname "wan0" masquerade`), want: "CLEAR from 198.51.100.1"},
		"rt ipsec exists accept":        {rules: nat(`rt ipsec exists accept; oifname "wan0" masquerade`), want: esp},
		"rt ipsec missing masquerade":   {rules: nat(`oifname "wan0" rt ipsec missing masquerade`), want: "ESP from 10.1.0.10, outer from 198.51.100.1"},
		"ipsec out accept":              {rules: nat(`ipsec out ip daddr 203.0.113.9 accept; oifname "wan0" masquerade`), want: esp},
		"SNAT inside of the selector":   {rules: nat(`oifname "wan0" snat to 10.1.0.77`), want: "ESP from 10.1.0.77, outer from 10.1.0.77"},
		"SNAT into the selector":        {from: "10.9.0.10", rules: nat(`ip saddr 10.9.0.0/24 snat to 10.1.0.77`), routes: "10.9.0.0/24 dev lan0\n", want: "ESP from 10.1.0.77, outer from 198.51.100.1"},
		"SNAT to another address":       {rules: nat(`ip saddr 10.1.0.0/24 snat to 10.77.0.1`), want: "CLEAR from 10.77.0.1"},
		"DNAT into the selector":        {to: "10.3.0.5", rules: "table ip nat {\n\tchain pre {\n\t\ttype nat hook prerouting priority -100;\n\t\tip daddr 10.3.0.5 dnat to 10.2.0.5\n\t}\n}\n", want: esp},
		"DNAT in, with masquerade":      {to: "10.3.0.5", rules: "table ip nat {\n\tchain pre {\n\t\ttype nat hook prerouting priority -100;\n\t\tip daddr 10.3.0.5 dnat to 10.2.0.5\n\t}\n\tchain post {\n\t\ttype nat hook postrouting priority 100;\n\t\toifname \"wan0\" masquerade\n\t}\n}\n", want: "CLEAR from 198.51.100.1"},
		"DNAT out of the selector":      {rules: "table ip nat {\n\tchain pre {\n\t\ttype nat hook prerouting priority -100;\n\t\tip daddr 10.2.0.5 dnat to 10.3.0.5\n\t}\n}\n", want: "CLEAR from 10.1.0.10"},
		"exempt, then SNAT of the rest": {rules: nat(`ip daddr 10.2.0.0/24 accept; oifname "wan0" snat to 198.51.100.2`), want: "ESP from 10.1.0.10, outer from 198.51.100.2"},
		"with ESP exempt too":           {rules: nat(`ip daddr 10.2.0.0/24 accept; meta l4proto esp accept; oifname "wan0" snat to 198.51.100.2`), want: esp},

		"forward drop":                         {rules: forward("ip daddr 10.2.0.0/24 drop"), want: "dropped in forward"},
		"forward drop of ESP does nothing":     {rules: forward("meta l4proto esp drop"), want: esp},
		"ESP dropped in output":                {rules: "table inet filter {\n\tchain output {\n\t\ttype filter hook output priority 0;\n\t\tmeta l4proto esp drop\n\t}\n}\n", want: "ESP from 10.1.0.10, outer dropped in output"},
		"ESP dropped in postrouting":           {rules: "table inet filter {\n\tchain post {\n\t\ttype filter hook postrouting priority 0;\n\t\tmeta l4proto esp drop\n\t}\n}\n", want: "ESP from 10.1.0.10, outer dropped in postrouting"},
		"only what will be encrypted may pass": {rules: forward(`rt ipsec missing drop`), want: esp},

		"policy, no SA":                               {start: "start_action = trap", down: true, want: "dropped in policy"},
		"neither policy nor SA":                       {down: true, want: "CLEAR from 10.1.0.10"},
		"neither, with masquerade":                    {down: true, rules: nat(`oifname "wan0" masquerade`), want: "CLEAR from 198.51.100.1"},
		"neither, with an exemption by address":       {down: true, rules: nat(`ip daddr 10.2.0.0/24 accept; oifname "wan0" masquerade`), want: "CLEAR from 10.1.0.10"},
		"neither, with an exemption by policy":        {down: true, rules: nat(`rt ipsec exists accept; oifname "wan0" masquerade`), want: "CLEAR from 198.51.100.1"},
		"a guard in forward":                          {down: true, rules: forward("ip daddr 10.2.0.0/24 rt ipsec missing drop"), want: "dropped in forward"},
		"the guard does not help against NAT":         {rules: forward("ip daddr 10.2.0.0/24 rt ipsec missing drop") + nat(`oifname "wan0" masquerade`), want: "CLEAR from 198.51.100.1"},
		"a guard behind NAT does":                     {rules: "table inet filter {\n\tchain post {\n\t\ttype filter hook postrouting priority 150;\n\t\tip daddr 10.2.0.0/24 rt ipsec missing drop\n\t}\n}\n" + nat(`oifname "wan0" masquerade`), want: "dropped in postrouting"},
		"policy for the source after NAT only, no SA": {start: "start_action = trap", down: true, from: "10.9.0.10", rules: nat(`ip saddr 10.9.0.0/24 snat to 10.1.0.77`), routes: "10.9.0.0/24 dev lan0\n", want: "dropped in postrouting"},
		"a policy that drops":                         {start: "mode = drop", want: "dropped in policy"},

		"blackhole, no policy":        {start: "none at all", routes: "blackhole 10.2.0.0/24\n", want: "dropped in route"},
		"blackhole, the daemon's own": {routes: "blackhole 10.2.0.0/24\n", want: esp},
		"no policy at all":            {start: "none at all", want: "CLEAR from 10.1.0.10"},
		"a policy that lets pass":     {start: "}\nbypass {\nmode = pass\nlocal_ts = 10.1.0.0/24\nremote_ts = 10.2.0.0/28", want: "CLEAR from 10.1.0.10"},
		"which is not for this":       {start: "}\nbypass {\nmode = pass\nlocal_ts = 10.1.0.0/24\nremote_ts = 10.2.0.128/28", want: esp},
	} {
		t.Run(name, func(t *testing.T) {
			e, g := gatewayOf(t, c.start, c.rules, c.routes)
			p := walk.NewPath(g, e.Ends(g), walk.Options{Down: func(*gateway.Child) bool { return c.down }})
			from, to := "10.1.0.10", "10.2.0.5"
			if c.from != "" {
				from = c.from
			}
			if c.to != "" {
				to = c.to
			}
			assert.Equal(t, c.want, say(p.Forward(walk.Fresh(ping(from, to), "lan0"))))
		})
	}
}

func TestBlackholeWithoutTheDaemonsRoute(t *testing.T) {
	e, g := gatewayOf(t, "", "", "blackhole 10.2.0.0/24\n")
	g.Options.NoRoutes = gateway.Say(true, g.Connections[0].At)
	p := walk.NewPath(g, e.Ends(g), walk.Options{})
	assert.Equal(t, "dropped in route", say(p.Forward(walk.Fresh(ping("10.1.0.10", "10.2.0.5"), "lan0"))), "also with the tunnel up")
}

func TestOwnPackets(t *testing.T) {
	e, g := gatewayOf(t, "", nat(`oifname "wan0" masquerade`), "")
	p := walk.NewPath(g, e.Ends(g), walk.Options{})
	assert.Equal(t, "CLEAR from 198.51.100.1", say(p.Local(ping("10.1.0.1", "10.2.0.5"))))
	assert.Equal(t, "CLEAR from 198.51.100.1", say(p.Local(ping("198.51.100.1", "10.2.0.5"))))
}

func TestInbound(t *testing.T) {
	inner := ping("10.2.0.5", "10.1.0.10")
	for name, c := range map[string]struct{ rules, esp, inner string }{
		"nothing in the way":   {"", "delivered", "CLEAR from 10.2.0.5"},
		"ESP closed":           {"table inet filter {\n\tchain input {\n\t\ttype filter hook input priority 0; policy drop;\n\t\tudp dport 500 accept\n\t}\n}\n", "dropped in input", ""},
		"decrypted may pass":   {forward("meta ipsec exists accept; drop"), "delivered", "CLEAR from 10.2.0.5"},
		"from this peer":       {forward("ipsec in ip saddr 203.0.113.9 accept; drop"), "delivered", "CLEAR from 10.2.0.5"},
		"from another":         {forward("ipsec in ip saddr 203.0.113.8 accept; drop"), "delivered", "dropped in forward"},
		"prerouting sees both": {"table inet filter {\n\tchain pre {\n\t\ttype filter hook prerouting priority 0;\n\t\tip saddr 10.2.0.0/24 drop\n\t}\n}\n", "delivered", "dropped in prerouting"},
	} {
		e, g := gatewayOf(t, "", c.rules, "")
		p := walk.NewPath(g, e.Ends(g), walk.Options{})
		out, in := p.Inbound(p.Policies[0], inner)
		assert.Equal(t, c.esp, say(out), name)
		assert.Equal(t, c.inner, say(in), name)
	}
}

func TestClearPacketsForADomain(t *testing.T) {
	e, g := gatewayOf(t, "", "", "")
	p := walk.NewPath(g, e.Ends(g), walk.Options{})
	assert.Equal(t, "dropped in policy", say(p.Forward(walk.Fresh(ping("10.2.0.5", "10.1.0.10"), "wan0"))), "it should have come through the tunnel")
	p = walk.NewPath(g, e.Ends(g), walk.Options{Down: func(*gateway.Child) bool { return true }})
	assert.Equal(t, "CLEAR from 10.2.0.5", say(p.Forward(walk.Fresh(ping("10.2.0.5", "10.1.0.10"), "wan0"))), "no policy, no demand")
}

func TestRouteBased(t *testing.T) {
	e, g := gatewayOf(t, "if_id_in = 42\nif_id_out = 42", nat(`oifname "wan0" masquerade`), "4: xf0@wan0: <UP> mtu 1400\n    xfrm if_id 0x2a\n10.2.0.0/24 dev xf0\n")
	p := walk.NewPath(g, e.Ends(g), walk.Options{})
	got := p.Forward(walk.Fresh(ping("10.1.0.10", "10.2.0.5"), "lan0"))
	assert.Equal(t, esp, say(got), "the masquerade names another interface")
	assert.Equal(t, "xf0", got[0].Out)
	assert.Equal(t, "dropped in policy", say(p.Forward(walk.Fresh(ping("10.1.0.10", "10.2.0.5"), "lan0").Moved("10.77.0.1"))), "what no policy of the interface is for does not leave by it")
	p = walk.NewPath(g, e.Ends(g), walk.Options{Down: func(*gateway.Child) bool { return true }})
	assert.Equal(t, "dropped in policy", say(p.Forward(walk.Fresh(ping("10.1.0.10", "10.2.0.5"), "lan0"))))
}

func TestRoutingRules(t *testing.T) {
	_, g := gatewayOf(t, "none at all", "", "0:\tfrom all lookup local\n100:\tfrom 10.1.0.0/25 lookup 7\n200:\tfrom all fwmark 0x5 unreachable\n32766:\tfrom all lookup main\n10.9.0.0/24 dev wan0 table 7\nthrow 10.9.0.128/25 table 7\nblackhole 10.9.0.0/16\n")
	p := walk.NewPath(g, func(*gateway.Connection) []walk.Ends { return nil }, walk.Options{})
	for to, want := range map[string]string{"10.9.0.5": "CLEAR from 10.1.0.10", "10.9.0.200": "dropped in route", "10.9.7.1": "dropped in route", "192.0.2.7": "CLEAR from 10.1.0.10", "10.1.0.1": "delivered"} {
		assert.Equal(t, want, say(p.Forward(walk.Fresh(ping("10.1.0.10", to), "lan0"))), to)
	}
	assert.Equal(t, "wan0", p.InterfaceFor(netip.MustParseAddr("192.0.2.7")))
}

// TestASetIsWhatItsPacketsAre walks sets and, for many packets of them, the packet alone: it must be found in exactly the
// outcomes that the set gave it.
func TestASetIsWhatItsPacketsAre(t *testing.T) {
	rules := nat(`ip daddr 10.2.0.0/25 accept; ip saddr 10.1.0.64/26 snat to 10.1.0.7; oifname "wan0" masquerade`) + forward(`tcp dport 22 drop; ip saddr 10.1.0.128/25 ip daddr 10.2.0.0/24 rt ipsec exists accept; ip protocol icmp accept; ip daddr 10.2.0.64/26 drop`)
	e, g := gatewayOf(t, "", rules, "")
	p := walk.NewPath(g, e.Ends(g), walk.Options{})
	all := packet.Prefixes(packet.Src, netip.MustParsePrefix("10.1.0.0/24")).And(packet.Prefixes(packet.Dst, netip.MustParsePrefix("10.2.0.0/24")))
	whole := p.Forward(walk.Fresh(all, "lan0"))
	fates := map[string]bool{}
	for s := 1; s < 250; s += 21 {
		for d := 1; d < 250; d += 17 {
			for _, kind := range []packet.Set{packet.Where(packet.Proto, packet.OneOf(1)).With(packet.ICMP, packet.OneOf(8<<8)), packet.Where(packet.Proto, packet.OneOf(6)).With(packet.Sport, packet.OneOf(50000)).With(packet.Dport, packet.OneOf(22)), packet.Where(packet.Proto, packet.OneOf(17)).With(packet.Sport, packet.OneOf(50000)).With(packet.Dport, packet.OneOf(53))} {
				src, dst := netip.MustParseAddr(fmt.Sprintf("10.1.0.%d", s)), netip.MustParseAddr(fmt.Sprintf("10.2.0.%d", d))
				one := packet.Range(packet.Src, src, src).And(packet.Range(packet.Dst, dst, dst)).And(kind)
				alone := p.Forward(walk.Fresh(one, "lan0"))
				require.Len(t, alone, 1)
				fates[alone[0].String()] = true
				for _, o := range whole {
					same := o.String() == alone[0].String() && o.Now.Contains(alone[0].Now)
					if o.Was().Free(packet.Out, packet.PeerOut, packet.Translated).Overlaps(alone[0].Was().Free(packet.Out, packet.PeerOut, packet.Translated)) && !same {
						assert.True(t, o.Now.Overlaps(alone[0].Now) || o.String() == alone[0].String(), "%s %s: %s, in the set %s", src, dst, alone[0], o)
					}
				}
			}
		}
	}
	assert.Len(t, fates, 3, "%v", fates)
}
