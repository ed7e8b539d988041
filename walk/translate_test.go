package walk_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/lab/cases"
	"toril/model"
	"toril/packet"
	"toril/walk"
)

const nat = "table ip n {\nchain pre {\ntype nat hook prerouting priority dstnat;\n%s\n}\nchain post {\n" +
	"type nat hook postrouting priority srcnat;\n%s\n}\nchain late {\ntype filter hook postrouting priority srcnat + 10;\n%s\n}\n}\n"

// through sends packets of a protocol through a hook and says what they are then, and what was done to them.
func through(f *walk.Filter, h model.Hook, s packet.Set) string {
	var out []string
	for _, v := range f.Through(h, walk.Fresh(s, "lan0")) {
		w, _ := v.Now.Witness()
		out = append(out, fmt.Sprintf("%s %s", v.Verb, w))
	}
	return strings.Join(out, "; ")
}

// TestPortsAreTranslatedWhereThereAreSome: a translation of ports is for protocols that have ports.
func TestPortsAreTranslatedWhereThereAreSome(t *testing.T) {
	from := packet.Range(packet.Src, netip.MustParseAddr("192.0.2.7"), netip.MustParseAddr("192.0.2.7")).
		And(packet.Range(packet.Dst, netip.MustParseAddr("192.0.2.9"), netip.MustParseAddr("192.0.2.9")))
	tcp := from.With(packet.Proto, packet.OneOf(6)).With(packet.Dport, packet.OneOf(80)).With(packet.Sport, packet.OneOf(1024))
	echo := from.With(packet.Proto, packet.OneOf(1)).With(packet.ICMP, packet.OneOf(8<<8))
	_, f := filterOf(t, fmt.Sprintf(nat, "tcp dport 80 dnat to 10.0.0.9:8080", "", ""))
	assert.Equal(t, "destination NAT tcp 192.0.2.7:1024 > 10.0.0.9:8080", through(f, model.Prerouting, tcp))
	assert.Equal(t, "accept icmp 192.0.2.7 > 192.0.2.9", strings.Split(through(f, model.Prerouting, echo), " type")[0])
	assert.Len(t, strings.Split(through(f, model.Prerouting, tcp.Or(echo)), "; "), 2, "both kinds at once")
	_, f = filterOf(t, fmt.Sprintf(nat, "tcp dport 80 redirect to :3128", "", ""))
	assert.Contains(t, through(f, model.Prerouting, tcp), ":3128")
	_, f = filterOf(t, fmt.Sprintf(nat, "dnat to 10.0.0.9", "", ""))
	assert.Equal(t, "destination NAT tcp 192.0.2.7:1024 > 10.0.0.9:80", through(f, model.Prerouting, tcp), "the port stays")
}

// TestWhatWasTranslatedIsKnownAsSuch: by conditions on the connection, and through filter chains that come after.
func TestWhatWasTranslatedIsKnownAsSuch(t *testing.T) {
	tcp := tcp(80).With(packet.Translated, packet.OneOf(0))
	for name, c := range map[string]struct{ post, late, want string }{
		"a filter chain after it":        {"masquerade", "accept", "masquerade"},
		"only sources":                   {"snat to 192.0.2.1", "ct status dnat drop", "source NAT"},
		"source translation is seen":     {"snat to 192.0.2.1", "ct status snat drop", "drop"},
		"what nobody translated":         {"tcp dport 81 masquerade", "ct status snat drop", "accept"},
		"a mark and on to the next rule": {"meta mark set 7\nmeta mark 7 masquerade", "accept", "masquerade"},
		"a mark with a verdict":          {"meta mark set 7 accept\nmasquerade", "meta mark != 7 drop", "accept"},
	} {
		_, f := filterOf(t, fmt.Sprintf(nat, "", c.post, c.late))
		var verbs []string
		for _, v := range f.Through(model.Postrouting, walk.Fresh(tcp, "lan0")) {
			verbs = append(verbs, v.Verb.String())
		}
		assert.Equal(t, c.want, strings.Join(verbs, "+"), name)
	}
}

// TestWordsOfTheWay: what a way says of routes, translations and policies.
func TestWordsOfTheWay(t *testing.T) {
	words := func(start, rules, routes, to string) string {
		e, g := gatewayOf(t, start, rules, routes)
		var out []string
		for _, o := range walk.NewPath(g, e.Ends(g), walk.Options{}).Forward(walk.Start(ping("10.1.0.10", to).With(packet.In,
			packet.Name("lan0")))) {
			for _, s := range o.Steps {
				out = append(out, s.Stage+": "+s.What)
			}
		}
		return strings.Join(out, "; ")
	}
	const out = "table ip n {\nchain post {\ntype nat hook postrouting priority srcnat;\noifname \"wan0\" snat to %s\n}\n}\n"
	assert.Equal(
		t,
		"route: out via wan0, next hop 198.51.100.254, a route of the IKE daemon's; encrypt: by far/net",
		words("start_action = trap", "", "", "10.2.0.5"),
	)
	assert.Equal(t, "route: out via wan0, next hop 198.51.100.254", words("start_action = trap", "", "", "192.0.2.5"))
	assert.Equal(
		t,
		"route: out via lan0",
		words(cases.NoConnection, "", "192.0.2.0/24 dev lan0\n", "192.0.2.5"),
		"a route without a gateway",
	)
	assert.Equal(t, "route: prohibit route", words(cases.NoConnection, "", "prohibit 192.0.2.0/24\n", "192.0.2.5"))
	assert.Contains(
		t,
		words("start_action = trap", fmt.Sprintf(out, "198.51.100.1"), "", "10.2.0.5"),
		"source NAT to 198.51.100.1; policy: policy looked up again after NAT: no match",
		"what is translated leaves the tunnel",
	)
	assert.NotContains(
		t,
		words("start_action = trap", fmt.Sprintf(out, "10.1.0.99"), "", "10.2.0.5"),
		"policy:",
		"translated within the tunnel's networks: the same policy",
	)
}

// TestHostPartStays: a network moved onto another keeps each host's part, also where the rule does not say which network it was.
func TestHostPartStays(t *testing.T) {
	to := func(a string) packet.Set { return packet.Prefixes(packet.Dst, netip.MustParsePrefix(a)) }
	_, f := filterOf(t, "*nat\n:PREROUTING ACCEPT [0:0]\n:POSTROUTING ACCEPT [0:0]\n-A PREROUTING -j NETMAP --to 10.1.0.0/24\nCOMMIT\n")
	assert.Contains(t, through(f, model.Prerouting, to("192.0.2.7/32")), "> 10.1.0.7")
	out := f.Through(model.Prerouting, walk.Fresh(to("192.0.2.8/31").Or(to("198.51.100.9/32")), "lan0"))
	all := packet.None()
	for _, v := range out {
		all = all.Or(v.Now)
	}
	assert.Equal(t, []string{"10.1.0.8/31"}, text(all.Prefixes(packet.Dst)))
	wide := packet.None()
	for _, v := range f.Through(model.Prerouting, walk.Fresh(to("192.0.0.0/16"), "lan0")) {
		wide = wide.Or(v.Now)
	}
	assert.Equal(t, []string{"10.1.0.0/24"}, text(wide.Prefixes(packet.Dst)), "a wider network: any address of the other")
	assert.Equal(t, []packet.Family{packet.IPv4}, wide.Families())
	_, f = filterOf(t, fmt.Sprintf(nat, "dnat ip prefix to 10.1.0.0/24", "", ""))
	assert.Contains(t, through(f, model.Prerouting, to("192.0.2.7/32")), "> 10.1.0.7")
	_, f = filterOf(t, fmt.Sprintf(nat, "dnat to 10.1.0.0/24", "", ""))
	assert.NotContains(t, through(f, model.Prerouting, to("192.0.2.7/32")), "> 10.1.0.7", "any of the network, without the word prefix")
}

func text(ps []netip.Prefix) []string {
	var out []string
	for _, p := range ps {
		out = append(out, p.String())
	}
	return out
}
