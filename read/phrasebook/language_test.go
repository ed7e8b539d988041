package phrasebook_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/model"
	"toril/model/settings"
	"toril/read/phrasebook"
	"toril/read/readtest"
)

// plover is a made-up language that has what the demonstration's do not need together.
const plover = `language: plover
title: Plover
syntax: {kind: lines, comments: ["#"], quotes: '"', negates: [not]}
vocabulary:
  encryption: {thick: ENCR_AES_CBC 256, sealed: ENCR_AES_GCM_16 256, thin: ENCR_3DES}
  integrity: {long: AUTH_HMAC_SHA2_256_128, short: AUTH_HMAC_SHA1_96}
  suite: {best: ENCR_AES_GCM_16 256 + PRF_HMAC_SHA2_384 + 20}
  action: {let: accept, stop: drop}
  states: {known: established, kin: related}
  translation: {mask: source, bring: destination, swap: static, leave: exempt}
defaults:
- {sets: ike-lifetime, value: 8h, source: x}
- {sets: child-lifetime, value: 1h, source: x}
- {sets: child-hard-lifetime, value: 110% of child-lifetime, source: x}
- {offers: {of: ike, integrity: AUTH_HMAC_SHA2_256_128, prf: PRF_HMAC_SHA2_256, key-exchange: "14"}, source: x}
- {offers: {of: child, integrity: AUTH_HMAC_SHA1_96}, since: "2.0", source: x}
- {offers: {of: child, integrity: AUTH_HMAC_SHA2_256_128}, since: "3.0", source: x}
given:
- {text: "errand web\n tcp 443\nways plain\n each 100 minutes\n", source: x}
- {text: "errand shell\n tcp 22\n", since: "2.0", source: x}
chains:
- {name: across, hook: forward, policy: drop, answers: true}
lists: {end: reject}
phrases:
- {say: "plover <v>", version: <v>}
- {say: "each <t:minutes> minutes", sets: {ike-lifetime: <t>}}
- say: ways <n>
  makes: object
  kind: settings
  named: <n>
  again: replaces
  phrases:
  - {say: "each <t:minutes> minutes", sets: {ike-lifetime: <t>}}
  - {say: "child each <t:minutes> minutes", sets: {child-lifetime: <t>}}
  - {say: "cipher <e:encryption>", parts: {of: ike, encryption: <e>}}
  - {say: "ways <n:settings>", uses: <n>}
- say: nets <n>
  makes: object
  kind: networks
  named: <n>
  again: ignored
  phrases: [{say: "<a:network>...", adds: <a>}, {say: "nets <n:networks>", adds: <n>}]
- say: errand <n>
  makes: object
  kind: services
  named: <n>
  phrases:
  - {say: "tcp <p:port>", service: {protocol: tcp, ports: <p>}}
  - {say: "echo", service: {icmp: "8"}}
  - {say: "errand <e:services>", adds: <e>}
- say: side <z>
  makes: object
  kind: interfaces
  named: <z>
  phrases: [{say: "<i:interface>...", adds: <i>}]
- say: jack <i>
  makes: interface
  named: <i>
  phrases:
  - {say: "<a:prefix>", interface: {address: <a>}}
  - {say: leased, interface: {dynamic: "yes"}}
  - {say: dark, interface: {down: "yes"}, not: {interface: {down: "no"}}}
  - {say: "like <o:interface>", interface: {borrows: <o>}}
- say: span <n>
  makes: connection
  named: <n>
  phrases:
  - {say: "to <a:host>...", sets: {peer-address: <a>}}
  - {say: "from <i:interface>", sets: {own-address: <i>}}
  - {say: "ways <n:settings>", uses: <n>}
  - {say: "each <t:minutes> minutes", sets: {ike-lifetime: <t>}}
  - {say: "child each <t:minutes> minutes", sets: {child-lifetime: <t>}}
  - {say: "suite <s:suite>", sets: {ike-proposals: <s>}}
  - {say: "cipher <e:encryption>...", parts: {of: ike, encryption: <e>}}
  - {say: "child cipher <e:encryption>", parts: {of: child, encryption: <e>}}
  - {say: "secrecy <g:group>", parts: {of: child, key-exchange: <g>}, not: {parts: {of: child, key-exchange: none}}}
  - {say: "secrecy as before", parts: {of: child, key-exchange: as-ike}}
  - {say: hurried, sets: {ikev1-mode: "yes", ike-version: ikev1}}
  - {say: "quick [ <m=mobile> ] [ <e=wrapped> ]", sets: {mobike: <m>, encapsulation: <e>}}
  - {say: mobile, sets: {mobike: "yes"}}
  - {say: "by <i:interface>", connection: {interface: <i>}}
  - {say: dark, connection: {disabled: "yes"}}
  - {say: "tube <n>", makes: child, named: <n>, phrases: [
     {say: "carry <a:network> to <b:network> [ port <p:port> ]", sets: {own-networks: <a>, peer-networks: <b> <p>}},
     {say: "carry nets <a:networks> to nets <b:networks>", sets: {own-networks: <a>, peer-networks: <b>}},
     {say: "only <p:protocol>", child: {protocol: <p>}},
     {say: "nets <n>", makes: object, kind: networks, named: <n>, local: true, phrases: [{say: "<a:network>...", adds: <a>}]},
     {say: "each <t:minutes> minutes", sets: {child-lifetime: <t>}}]}
- say: "[<k:number>] <v:action> [ from <a:network> | from nets <an:networks> | not from <na:network> ] [ to <b:network> ] \
    [ for <e:services>... ] [ in <z:interfaces> ] [ if <s:states>... ] [ when <w> ] [ <l=noted> ] [ <o=off> ] [ at <p:number> ] [ ahead of <x:number> ] \
    [ <f=first> ]"
  rule: {chain: across, number: <k>, action: <v>, from: <a> <an>, not-from: <na>, to: <b>, service: <e>, in: <z>, state: <s>, condition: <w>, log: <l>,
    disabled: <o>, place: <p>, before: <x>}
  moot: ""
- {say: "ask <l> in <i:interface>", rule: {chain: across, list: <l>, in: <i>}}
- say: list <l>
  rule: {chain: <l>}
  phrases: [{say: "<v:action> [ to <b:network> ]", rule: {action: <v>, to: <b>}}]
- say: "<k:translation> [ <a:network> ] [ for <b:network> ] [ out <i:interface> ] [ as <n:network> | as itself ] \
    [ door <p:port> [ to <q:port> ] ]"
  translation: {kind: <k>, from: <a>, to: <b>, out: <i>, onto: <n>, ports: <p>, onto-ports: <q>}
- {say: "cover <a:network> out <i:interface>", translation: {kind: source, from: <a>, out: <i>, onto: interface, rank: "9"}}
`

func reading(t *testing.T, book, text string) *model.Gateway {
	t.Helper()
	b, err := phrasebook.Load("b.yaml", []byte(book))
	require.NoError(t, err)
	return readtest.Read(b.Format(), "x", text, nil)
}

// ploverBook is plover without what the tests of mistakes use.
var ploverBook = strings.NewReplacer(" \\\n    [ <f=first> ]\"", "\"", "  moot: \"\"\n", "").Replace(plover)

func shown(g *model.Gateway, name, setting string) string {
	for _, c := range g.Connections {
		s := settings.Subject{Connection: c}
		for _, k := range c.Children {
			if c.Name+"/"+k.Name == name {
				s.Child = k
			}
		}
		if c.Name == name || s.Child != nil {
			v, _ := settings.Named(setting).Get(s)
			if v.Default {
				return v.Text + " *"
			}
			return v.Text
		}
	}
	return "nowhere"
}

// TestTheNearestStatementHolds: of all connections, of named settings, of a connection for its children, of one.
func TestTheNearestStatementHolds(t *testing.T) {
	const text = "span a\n to 192.0.2.1\n tube x\n  each 5 minutes\n tube y\n child each 7 minutes\n" +
		"each 60 minutes\nspan b\n to 192.0.2.2\n ways slow\n ways plain\nspan c\n ways slow\n each 90 minutes\n child each 8 minutes\n" +
		"ways slow\n each 200 minutes\n child each 9 minutes\n ways deep\nways deep\n cipher thin\nspan d\n ways plain\n"
	g := reading(t, ploverBook, text)
	assert.Empty(t, readtest.Unread(g))
	assert.Equal(t, "1 h", shown(g, "a", "ike-lifetime"), "of all")
	assert.Equal(t, "1 h 40 min", shown(g, "b", "ike-lifetime"), "the later of two names")
	assert.Equal(t, "1 h 30 min", shown(g, "c", "ike-lifetime"), "its own")
	assert.Equal(t, "5 min", shown(g, "a/x", "child-lifetime"))
	assert.Equal(t, "7 min", shown(g, "a/y", "child-lifetime"), "of the connection")
	assert.Equal(t, "9 min", shown(g, "b/b", "child-lifetime"), "a child of its own makes where none is said")
	assert.Equal(t, "8 min", shown(g, "c/c", "child-lifetime"))
	assert.Contains(t, shown(g, "b", "ike-proposals"), "thin", "settings that refer to others")
	assert.Equal(t, "9 min 54 s *", shown(g, "b/b", "child-hard-lifetime"), "a share of another setting")
	c := g.Connections[1]
	assert.Equal(t, model.Inherited, c.Rekey.Origin)
	assert.Equal(t, 11, c.Rekey.At.Line, "what the device has without its being saved: the use of it")
	assert.Equal(t, 18, c.Children[0].Rekey.At.Line)
	assert.Equal(t, 21, c.Parts[1].Line, "the cipher's own line")
}

// TestProposalsInPieces: parts make one proposal together, with defaults by version; a whole one is completed.
func TestProposalsInPieces(t *testing.T) {
	for text, want := range map[string][2]string{
		"span a\n cipher thick sealed\n child cipher thick\n secrecy 2048\n": {
			"AES-CBC-256, AES-GCM-256 with a 16-byte ICV / HMAC-SHA2-256 cut to 128 bits / HMAC-SHA2-256 / group 14 (MODP 2048)",
			"AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits / group 14 (MODP 2048)",
		},
		"plover 2.1\nspan a\n suite best\n child cipher thick\n secrecy as before\n": {
			"AES-GCM-256 with a 16-byte ICV / HMAC-SHA2-384 / group 20 (NIST P-384)",
			"AES-CBC-256 / HMAC-SHA1 cut to 96 bits / group 20 (NIST P-384)",
		},
		"plover 3.1\nspan a\n cipher sealed\n child cipher sealed\n secrecy 14\n not secrecy 2\n": {
			"AES-GCM-256 with a 16-byte ICV / HMAC-SHA2-256 / group 14 (MODP 2048)", "AES-GCM-256 with a 16-byte ICV",
		},
		"plover 1.1\nspan a\n child cipher thin\n": {
			"HMAC-SHA2-256 cut to 128 bits / HMAC-SHA2-256 / group 14 (MODP 2048)", "3DES",
		},
	} {
		g := reading(t, ploverBook, text)
		assert.Empty(t, readtest.Unread(g), text)
		c := g.Connections[0]
		assert.Equal(t, want[0], c.Proposals.Value[0].Names(), text)
		assert.Equal(t, want[1], c.Children[0].Proposals.Value[0].Names(), text)
	}
}

// TestNegatedStatements: what the phrasebook says, or flags that are off; what is taken back is not there; what nobody says is unread.
func TestNegatedStatements(t *testing.T) {
	g := reading(
		t,
		ploverBook,
		"jack a\n 10.1.0.1/24\n dark\n not dark\njack b\n dark\nspan a\n mobile\n not hurried\nspan b\n not mobile\n"+
			" each 5 minutes\n not each 5 minutes\n not each 6 minutes\n",
	)
	require.Len(t, readtest.Unread(g), 2)
	assert.Contains(t, readtest.Unread(g)[0], `x:9: it negates "hurried", and the phrasebook does not say what that means`)
	assert.Contains(t, readtest.Unread(g)[1], "x:14: it negates")
	assert.False(t, g.Interfaces[0].Down)
	assert.True(t, g.Interfaces[1].Down)
	assert.Equal(t, "on", shown(g, "a", "mobike"))
	assert.Equal(t, "off", shown(g, "b", "mobike"))
	assert.Equal(t, "8 h *", shown(g, "b", "ike-lifetime"))
}

// TestNamesThatShadow: a name in a statement is not the one outside; of two in one place the first is kept, or the last, as it is said.
func TestNamesThatShadow(t *testing.T) {
	g := reading(
		t,
		ploverBook,
		"nets far\n 10.2.0.0/16\nnets near\n 10.1.0.0/16\nnets near\n 10.9.0.0/16\nspan a\n tube x\n  nets far\n   10.3.0.0/16\n"+
			"  carry nets near to nets far\n tube y\n  carry nets near to nets far\n  only tcp\n tube z\n"+
			"  carry 10.1.0.0/16 to 10.4.0.0/16 port 443\n",
	)
	assert.Empty(t, readtest.Unread(g))
	assert.Equal(t, "10.3.0.0/16", shown(g, "a/x", "peer-networks"))
	assert.Equal(t, "10.2.0.0/16 tcp", shown(g, "a/y", "peer-networks"))
	assert.Equal(t, "10.1.0.0/16 tcp", shown(g, "a/y", "own-networks"))
	assert.Equal(t, "10.4.0.0/16 443", shown(g, "a/z", "peer-networks"))
	assert.Equal(t, "10.1.0.0/16", shown(g, "a/x", "own-networks"))
	var names []string
	for _, d := range g.Definitions {
		names = append(names, fmt.Sprint(d.Name, len(d.Used), len(d.Again)))
	}
	assert.Equal(t, []string{"far1 0", "near2 1", "far1 0"}, names)
}

// TestRulesInTheirOrder: by number, place, and the rule that they come ahead of; sides, services, states, conditions; lists with an end.
func TestRulesInTheirOrder(t *testing.T) {
	g := reading(t, ploverBook, "jack lan\n 10.1.0.1/24\njack pole\n 10.5.0.1/24\nside home\n lan pole\n"+
		"30 let from 10.1.0.0/24 for web shell in home noted\n20 let from nets far if known kin when dusk\n"+
		"40 stop not from 10.9.0.0/16 off\n"+
		"50 let to 10.7.0.0/16 ahead of 20\nask guard in lan\nlist guard\n let to 10.8.0.0/16\nnets far\n 10.2.0.0/16\nerrand web\n echo\n")
	assert.Empty(t, readtest.Unread(g))
	assert.Equal(t, `chain inet plover across: hook forward, priority 0, kind 0, policy drop
  any IPv4 established, related; any IPv6 established, related -> accept
  any IPv4 in on lan; any IPv6 in on lan -> jump inet plover guard
  any > 10.7.0.0/16 -> accept
  10.2.0.0/16 > any established, related if dusk -> accept
  10.1.0.0/24 > any tcp port 22, 443 in on lan, pole; 10.1.0.0/24 > any icmp, icmpv6 type 8 in on lan, pole -> accept log
chain inet plover guard: hook none, priority 0, kind 0, policy accept
  any > 10.8.0.0/16 -> accept
  all packets -> reject
`, readtest.Rules(g))
}

// TestTranslations of every kind.
func TestTranslations(t *testing.T) {
	g := reading(t, ploverBook, "cover 10.1.0.0/24 out wan\nmask 10.2.0.0/24 out wan as 192.0.2.7\nleave 10.1.0.0/24 for 10.9.0.0/16\n"+
		"swap 10.3.0.0/24 out wan as 192.0.3.0/24\nswap 10.3.0.0/24 as 192.0.3.0/25\n"+
		"bring for 192.0.2.9 as 10.1.0.9 door 443 to 8443\nmask 10.8.0.0/24\n")
	said := readtest.Unread(g)
	require.Len(t, said, 2)
	assert.Contains(t, said[0], "x:5: a translation of one to one is between two networks of one size")
	assert.Contains(t, said[1], "x:7: the translation has no new address")
	assert.Contains(t, readtest.Rules(g), `chain inet plover source translation: hook postrouting, priority 100, kind 1, policy accept
  10.2.0.0/24 > any out via wan -> source NAT 192.0.2.7
  10.1.0.0/24 > 10.9.0.0/16 -> accept
  10.3.0.0/24 > any out via wan -> source NAT 192.0.3.0/24
`)
	assert.Contains(
		t,
		readtest.Rules(g),
		"10.1.0.0/24 > any out via wan -> masquerade an address of the interface\n",
		"and it is the last",
	)
	assert.Contains(t, readtest.Rules(g), `  any > 192.0.3.0/24 in on wan -> destination NAT 10.3.0.0/24
  any > 192.0.2.9 port 443 -> destination NAT 10.1.0.9 and other ports`)
}

// TestWhatADeviceHasByItself is there in the versions that have it, is no use of anything, and is not in the file.
func TestWhatADeviceHasByItself(t *testing.T) {
	for version, unread := range map[string]int{"": 0, "plover 2.0\n": 0, "plover 1.9\n": 1} {
		g := reading(t, ploverBook, version+"let for shell\nlet for web\n")
		assert.Len(t, readtest.Unread(g), unread, version)
		for _, d := range g.Definitions {
			assert.True(t, d.Missing, d.Name)
		}
	}
}

// TestTunnelsByInterface: an interface that leads into a connection, with an address of its own or a borrowed one; a connection that is
// switched off; one whose address is an interface's.
func TestTunnelsByInterface(t *testing.T) {
	g := reading(
		t,
		ploverBook,
		"jack wan\n 192.0.2.1/24\njack dsl\n leased\njack t\n like wan\nspan a\n from wan\n by t\n tube x\n tube y\n"+
			"span b\n from dsl\nspan c\n dark\nspan d\n from nowhere\n by nothing\n quick mobile\n",
	)
	said := readtest.Unread(g)
	require.Len(t, said, 2)
	assert.Contains(t, strings.Join(said, "\n"), "the addresses of interface nowhere are not known")
	assert.Contains(t, strings.Join(said, "\n"), "interface nothing is not there")
	assert.Equal(t, "[192.0.2.1/32]", fmt.Sprint(g.Interfaces[2].Addresses))
	assert.Equal(t, "xfrm", g.Interfaces[2].Kind)
	for _, k := range g.Connections[0].Children {
		assert.Equal(t, g.Interfaces[2].IfID, k.IfIDOut.Value)
		assert.NotZero(t, k.IfIDIn.Value)
	}
	assert.Equal(t, "192.0.2.1", shown(g, "a", "own-address"))
	assert.Equal(t, "any", shown(g, "b", "own-address"))
	assert.Equal(t, "on", shown(g, "d", "mobike"))
	require.Len(t, g.Unloaded, 1)
	assert.Equal(t, "c", g.Unloaded[0].Name)
}

// TestMistakesOfALanguage: each has its line and says what was expected.
func TestMistakesOfALanguage(t *testing.T) {
	_, err := phrasebook.Load("b.yaml", []byte(plover))
	assert.ErrorContains(t, err, "nothing is done with slot f; <_:flag>")
	const head = "language: a\ntitle: b\nsyntax: {kind: lines}\n"
	for text, want := range map[string]string{
		"order: [tunnel, access]\nphrases: [{say: x, moot: y}]\n": "4: \"tunnel " +
			"access\" is no choice",
		"given: [{text: x}]\nphrases: [{say: x, moot: y}]\n": "what a device " +
			"has has a source",
		"lists: {end: maybe}\nphrases: [{say: x, moot: y}]\n":                                     "is no choice",
		"phrases:\n- {say: \"x <a:prefx>\", moot: y}\n":                                           `did you mean "prefix"?`,
		"phrases:\n- {say: \"x <a:b=c>\", moot: y}\n":                                             "is not a slot for a word",
		"phrases:\n- {say: \"x <a>\", makes: object, kind: thing, named: <a>}\n":                  "an object is of a kind",
		"phrases:\n- {say: \"x <a>\", makes: object, kind: networks, named: <a>, again: twice}\n": "a second object adds",
		"phrases:\n- {say: \"x <a>\", makes: routing, named: <a>}\n":                              "a routing protocol has a kind",
		"phrases:\n- {say: \"x <a>\", uses: <a>}\n": "is of type " +
			"word, which does not belong",
		"phrases:\n- {say: x, not: {say: y, moot: z}}\n":                                                   "has no form of its own",
		"phrases:\n- {say: x, sets: {pfs: \"14\"}}\n":                                                      "unknown setting \"pfs\"",
		"phrases:\n- {say: \"x <t>\", sets: {ike-lifetime: 95% of <t>}}\n":                                 "it takes seconds",
		"phrases:\n- {say: \"x <t:seconds>\", sets: {ike-version: 95% of <t>}}\n":                          "is no share of a time",
		"defaults: [{sets: mobike, value: 5% of ike-lifetime, source: x}]\nphrases: [{say: x, moot: y}]\n": "is no share of a time",
		"defaults: [{offers: {of: both}, source: x}]\nphrases: [{say: x, moot: y}]\n":                      "of: ike or child",
		"defaults: [{offers: {of: ike, cipher: x}, source: x}]\nphrases: [{say: x, moot: y}]\n":            "unknown part of a proposal",
		"vocabulary: {suite: {x: ENCR_AES_CBC}}\nphrases: [{say: x, moot: y}]\n":                           "has keys of several sizes",
		"phrases:\n- {say: \"x <a:address>\", translation: {from: <a>}}\n":                                 "translation has no kind",
		"phrases:\n- {say: \"x <a:address>\", translation: {kind: sideways, from: <a>}}\n":                 "is no choice",
		"phrases:\n- {say: \"x <a:address>\", routing: {interface: <a>}}\n" +
			"": "interface: slot a is of type address",
	} {
		_, err := phrasebook.Load("b.yaml", []byte(head+text))
		assert.ErrorContains(t, err, want, text)
	}
}

// TestWorkIsBounded: names that refer to themselves, that stand for too much, macros that grow, statements about everything.
func TestWorkIsBounded(t *testing.T) {
	g := reading(t, ploverBook, "ways a\n ways b\nways b\n ways a\nspan x\n ways a\nnets m\n nets m\nlet from nets m\n")
	assert.Contains(t, strings.Join(readtest.Unread(g), "\n"), "the settings a refer to themselves")
	assert.Contains(t, strings.Join(readtest.Unread(g), "\n"), "the networks m refer to themselves")
	var b strings.Builder
	b.WriteString("nets n0\n")
	for range 100 {
		b.WriteString(" 10.1.0.0/16 10.2.0.0/16 10.3.0.0/16 10.4.0.0/16\n")
	}
	for i := 1; i < 40; i++ {
		fmt.Fprintf(&b, "nets n%d\n nets n%d\n nets n%d\n", i, i-1, i-1)
	}
	b.WriteString("span x\n tube y\n  carry nets n39 to nets n0\n")
	g = reading(t, ploverBook, b.String())
	assert.Contains(t, strings.Join(readtest.Unread(g), "\n"), "stand for too many values")
	const clauses = "language: a\ntitle: b\nsyntax: {kind: lines, quotes: '\"', macros: $, clauses: [to, by]}\nphrases:\n" +
		"- say: go <n>\n  makes: connection\n  named: <n>\n  phrases: [{say: \"to <a:host>...\", sets: {peer-address: " +
		"<a>}}, {say: \"by <_:text>\", moot: x}]\n"
	g = reading(t, clauses, "far = \"192.0.2.1 192.0.2.2\"\ngo x to $far by $far $gone\n")
	assert.Empty(t, readtest.Unread(g))
	assert.Equal(t, "192.0.2.1, 192.0.2.2", shown(g, "x", "peer-address"))
	b.Reset()
	b.WriteString("m0 = a b c d e f g h\n")
	for i := 1; i < 30; i++ {
		fmt.Fprintf(&b, "m%d = $m%d $m%d $m%d $m%d\n", i, i-1, i-1, i-1, i-1)
	}
	g = reading(t, clauses, b.String()+"go x by $m29\n")
	assert.Contains(t, strings.Join(readtest.Problems(g), "\n"), "macros stand for more than")
}
