package phrasebook_test

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
	"toril/internal/cputime"
	"toril/model"
	"toril/model/settings"
	"toril/read/phrasebook"
	"toril/read/readtest"
	"toril/source"
)

// tern is a made-up language of command lines.
const tern = `language: tern
title: command lines of the made-up firewall Tern
files: ["*.tern"]
begins: "tern says"
syntax: {kind: lines, comments: ["~"], quotes: '"', fold: true}
vocabulary:
  encryption: {stout: ENCR_AES_CBC 256, frail: ENCR_3DES}
  integrity: {long: AUTH_HMAC_SHA2_256_128}
  prf: {long: PRF_HMAC_SHA2_256}
  method: {passphrase: psk, papers: certificate}
defaults:
- {sets: ike-lifetime, value: 24h, source: "the handbook, chapter 4"}
- {sets: ike-lifetime, value: 8h, since: "2.1", source: "the handbook, chapter 4"}
phrases:
- {say: tern says <x:text>, moot: a greeting}
- {say: tern is <v>, version: <v>}
- say: bridge <name> toward <far:host>
  makes: connection
  named: <name>
  sets: {peer-address: <far>, ike-version: ikev2}
  phrases:
  - {say: "renew each <t:minutes>", sets: {ike-lifetime: <t>}}
  - {say: "known as <id> [ expecting <peer> ]", sets: {own-identity: <id>, peer-identity: <peer>}}
  - {say: "prove by <m:method>", sets: {own-authentication: <m>, peer-authentication: <m>}}
  - say: ( armour | mantle ) <e:encryption>... seal <i:integrity> mix <p:prf> group <g:group>
    offers: {of: ike, encryption: <e>, integrity: <i>, prf: <p>, key-exchange: <g>}
  - say: carry <name>
    makes: child
    named: <name>
    phrases:
    - {say: "ours <n:address-mask>...", sets: {own-networks: <n>}}
    - {say: "theirs <n:network>", sets: {peer-networks: <n>}}
    - {say: "wrap <e:encryption> seal <i:integrity>", offers: {of: child, encryption: <e>, integrity: <i>}}
examples:
- text: |
    tern says good morning
    bridge skerry toward 192.0.2.9
      renew each 480
      KNOWN as a.example expecting b.example
      prove by papers
      armour stout frail seal long mix long group 2048
      carry lights
        ours 10.1.0.0 255.255.0.0 10.3.0.0 255.255.0.0
        theirs 10.2.0.0/16
        theirs 10.4.0.0/16
        wrap stout seal long
    bridge skerry toward 192.0.2.10
  facts:
    skerry: {ike-lifetime: 8 h, ike-version: IKEv2, peer-identity: b.example, own-authentication: certificate or public key}
    skerry/lights: {own-networks: "10.1.0.0/16, 10.3.0.0/16", peer-networks: "10.2.0.0/16, 10.4.0.0/16"}
`

func TestABookReadsItsExamples(t *testing.T) {
	b, err := phrasebook.Load("tern.yaml", []byte(tern))
	require.NoError(t, err)
	assert.Empty(t, b.Test(context.Background()))
	f := b.Format()
	assert.Len(t, f.Covers(), 11)
	score, _ := f.Looks(source.NewFile("x", []byte("~ hi\ntern says hello\n")))
	assert.Equal(t, 95, score)
	score, _ = f.Looks(source.NewFile("x", []byte("gull says hello\n")))
	assert.Zero(t, score)
	g := readtest.Read(f, "a.tern", b.Examples[0].Text, nil)
	require.Len(t, g.Connections, 1)
	c := g.Connections[0]
	assert.Equal(t, "192.0.2.9, 192.0.2.10", c.RemoteAddrs.Value.String(), "a list is said in pieces")
	assert.Equal(t, 12, c.RemoteAddrs.At.Line)
	require.Len(t, c.Proposals.Value, 1)
	assert.Equal(
		t,
		"AES-CBC-256, 3DES / HMAC-SHA2-256 cut to 128 bits / HMAC-SHA2-256 / group 14 (MODP 2048)",
		c.Proposals.Value[0].Names(),
	)
	assert.False(t, c.Doubts.Certain(), "what the language does where nothing is said is not told")
	at := g.Files[0].Range(c.Rekey.At)
	assert.Equal(t, "renew each 480", b.Examples[0].Text[at.Start:at.End])
}

func TestWhatABookDoesNotKnowIsUnread(t *testing.T) {
	b, err := phrasebook.Load("tern.yaml", []byte(tern))
	require.NoError(t, err)
	const text = "bridge a toward 192.0.2.9\n  renew each soon\n  sail away\n    far\n  prove\n  carry x\n    ours 10.1.0.0\nstorm\n"
	g := readtest.Read(b.Format(), "a.tern", text, nil)
	said := readtest.Unread(g)
	require.Len(t, said, 6)
	for i, want := range []string{"is no time in minutes", "no phrase is like it", "stands in a statement", "up to word 1", "up to word 1",
		"no phrase is like it"} {
		assert.Contains(t, said[i], want)
	}
	s := settings.Subject{Connection: g.Connections[0]}
	v, ok := settings.Named("ike-lifetime").Get(s)
	assert.True(t, ok)
	assert.True(t, v.Default)
	assert.Equal(t, "8 h", v.Text, "the newest's")
	var scopes []string
	for _, u := range g.Files[0].Unread {
		scopes = append(scopes, u.Scope)
	}
	assert.Equal(t, []string{"a", "a", "a", "a", "a/x", ""}, scopes, "what it may change")
}

func TestExamplesThatAreWrong(t *testing.T) {
	const wrong = "language: tern\ntitle: x\nsyntax: {kind: paths}\nphrases:\n" +
		"- {say: \"peer <name> at <a:address>\", makes: connection, named: <name>, sets: {peer-address: <a>}}\n" +
		"examples:\n- text: |\n    peer a at 192.0.2.1\n    peer b\n  facts:\n    a: {peer-address: 192.0.2.2, speed: fast}\n" +
		"    c: {peer-address: 192.0.2.1}\n"
	b, err := phrasebook.Load("x.yaml", []byte(wrong))
	require.NoError(t, err)
	var said []string
	for _, d := range b.Test(context.Background()) {
		said = append(said, d.String())
	}
	assert.Equal(t, []string{
		`x.yaml:7: line 2 is not understood: it is like "peer <name> at <a:address>", up to word 2`,
		`x.yaml:7: peer-address of a is "192.0.2.1"; the example says 192.0.2.2`,
		`x.yaml:7: speed of a is no setting that Toril knows; the example says fast`,
		`x.yaml:7: c is not there`,
	}, said)
}

func TestMistakesInABook(t *testing.T) {
	const head = "language: a\ntitle: b\nsyntax: {kind: lines}\n"
	for text, want := range map[string]string{
		"language: A\ntitle: b\n":                                                             "1: a language has a name",
		"language: a\nphrases: []\n":                                                          "1: a title is missing",
		"language: a\ntitle: b\n":                                                             "1: there are no phrases",
		"language: a\ntitle: b\nsintax: {}\n":                                                 `did you mean "syntax"?`,
		"language: a\ntitle: b\nsyntax: {kind: line}\nphrases: [{say: x}]":                    `3: unknown kind of syntax "line"; did you mean "lines"?`,
		head + "phrases:\n- {say: x}\n":                                                       "5: the phrase means nothing",
		head + "phrases:\n- {say: \"<x:adress>\"}\n":                                          `5: unknown type "adress"; did you mean "address"?`,
		head + "phrases:\n- {say: \"x <y>\", sets: {peer-adress: <y>}}\n":                     `unknown setting "peer-adress"; did you mean "peer-address"?`,
		head + "phrases:\n- {say: \"x <y>\", sets: {peer-address: <z>}}\n":                    `the phrase has no slot "z"`,
		head + "phrases:\n- {say: \"x <y:number>\", sets: {ike-lifetime: <y>}}\n":             "it takes seconds, minutes, hours, days",
		head + "phrases:\n- {say: x, sets: {ike-version: ikev3}}\n":                           `did you mean "ikev1"?`,
		head + "phrases:\n- {say: x, moot: y, sets: {ike-version: ikev2}}\n":                  "of no consequence sets nothing",
		head + "phrases:\n- {say: x, makes: tunnel}\n":                                        `unknown thing "tunnel"`,
		head + "phrases:\n- {say: x, offers: {of: esp}}\n":                                    "ike, child or object was expected",
		head + "phrases:\n- {say: x, offers: {of: ike}}\n":                                    "it has no part of a proposal",
		head + "phrases:\n- {say: \"x <g:word>\", offers: {of: ike, key-exchange: <g>}}\n":    "slot g is of type word",
		head + "vocabulary: {encryption: {x: ENCR_AES_CBC}}\nphrases:\n- {say: x, moot: y}\n": "keys of several sizes",
		head + "vocabulary: {encryption: {x: ENCR_AES}}\nphrases:\n- {say: x, moot: y}\n":     "is no name of IANA's",
		head + "vocabulary: {ciphers: {x: y}}\nphrases:\n- {say: x, moot: y}\n":               `unknown vocabulary "ciphers"`,
		head + "vocabulary: {method: {x: pks}}\nphrases:\n- {say: x, moot: y}\n":              "known are: certificate, eap, none, psk",
		head + "vocabulary: {port: {x: y}}\nphrases:\n- {say: x, moot: y}\n":                  "is a type already",
	} {
		_, err := phrasebook.Load("b.yaml", []byte(text))
		require.Error(t, err, text)
		var e *source.Error
		require.ErrorAs(t, err, &e)
		assert.Positive(t, e.Line, text)
		assert.Contains(t, err.Error(), want, text)
	}
}

// TestSecretsOfABookAreHidden: a slot of type secret shows in no quote.
func TestSecretsOfABookAreHidden(t *testing.T) {
	const book = "language: a\ntitle: b\nsyntax: {kind: lines}\nphrases:\n" +
		"- say: peer <name> key <_:secret>\n  makes: connection\n  named: <name>\n- {say: \"door <k:secret>\", moot: who may log in}\n"
	b, err := phrasebook.Load("b.yaml", []byte(book))
	require.NoError(t, err)
	g := readtest.Read(b.Format(), "x", "peer a key Jackdaw-4711\ndoor Jackdaw-4712\n", nil)
	require.Len(t, g.Connections, 1)
	assert.NotContains(t, g.Files[0].Quote(g.Connections[0].At), "Jackdaw")
	assert.NotContains(t, g.Files[0].Quote(g.Files[0].At(2)), "Jackdaw", "also of what is of no consequence")
}

func FuzzBook(f *testing.F) {
	f.Add(gull, "nets a { all of a; } span b { lane c { from a to a; } }")
	f.Add(tern, "bridge a toward 192.0.2.9\n carry x\n")
	f.Add(
		ploverBook,
		"ways a\n each 5 minutes\nspan a\n ways a\n tube x\n  carry 10.1.0.0/16 to 10.2.0.0/16\n"+
			"10 let from nets a ahead of 20\nnot each 5 minutes\n",
	)
	f.Fuzz(func(t *testing.T, book, text string) {
		b, err := phrasebook.Load("b.yaml", []byte(book))
		if err != nil {
			assert.NotEmpty(t, err.Error())
			return
		}
		g := readtest.Read(b.Format(), "x", text, nil)
		for _, c := range g.Connections {
			assert.NotEqual(t, model.Connection{}, *c)
		}
	})
}

// gull is a made-up language in braces, in which networks and proposals have names.
const gull = `language: gull
title: the made-up router Gull, in braces
syntax: {kind: braces, end: ";", comments: ["#"]}
vocabulary:
  encryption: {a256: ENCR_AES_CBC 256}
  integrity: {s256: AUTH_HMAC_SHA2_256_128}
phrases:
- say: nets <name>
  makes: object
  kind: networks
  named: <name>
  phrases:
  - {say: "<n:network>", adds: <n>}
  - {say: "all of <o:networks>", adds: <o>}
- say: cloth <name>
  makes: object
  kind: proposals
  named: <name>
  phrases:
  - {say: "<e:encryption> with <i:integrity>", offers: {of: object, encryption: <e>, integrity: <i>}}
- say: span <name>
  makes: connection
  named: <name>
  phrases:
  - {say: "cloth <p:proposals>", sets: {ike-proposals: <p>}}
  - say: lane <name>
    makes: child
    named: <name>
    phrases:
    - {say: "from <l:networks> to <r:networks>", sets: {own-networks: <l>, peer-networks: <r>}}
    - {say: "cloth <p:proposals>", sets: {child-proposals: <p>}}
examples:
- text: |
    span a { cloth wool; lane b { from here to there; cloth wool; } }
    nets here { 10.1.0.0/16; all of more; }
    nets more { 10.3.0.0/16; }
    nets there { 10.2.0.0/16; }
    cloth wool { a256 with s256; }
    nets idle { 10.9.0.0/16; }
  facts:
    a: {ike-proposals: a256 s256}
    a/b: {own-networks: "10.1.0.0/16, 10.3.0.0/16", peer-networks: 10.2.0.0/16, child-proposals: a256 s256}
`

func TestNamesMayBeUsedBeforeTheyAreDefined(t *testing.T) {
	b, err := phrasebook.Load("gull.yaml", []byte(gull))
	require.NoError(t, err)
	assert.Empty(t, b.Test(context.Background()))
	g := readtest.Read(b.Format(), "x", b.Examples[0].Text, nil)
	assert.Equal(t, ike.IKE, g.Connections[0].Proposals.Value[0].Protocol)
	assert.Equal(t, ike.ESP, g.Connections[0].Children[0].Proposals.Value[0].Protocol, "one name for both")
	used := map[string]int{}
	for _, d := range g.Definitions {
		assert.False(t, d.Missing, d.Name)
		used[d.Name] = len(d.Used)
	}
	assert.Equal(t, map[string]int{"here": 1, "more": 1, "there": 1, "wool": 2, "idle": 0}, used)
}

func TestNamesThatLeadNowhere(t *testing.T) {
	b, err := phrasebook.Load("gull.yaml", []byte(gull))
	require.NoError(t, err)
	for text, want := range map[string]string{
		"span a { lane b { from here to there; } }":                                    "the networks here are not there",
		"nets here { all of here; } span a { lane b { from here to here; } }":          "the networks here refer to themselves",
		"nets a { all of b; } nets b { all of a; } span a { lane b { from a to a; } }": "refer to themselves",
		"cloth wool { a512 with s256; } span a { cloth wool; }":                        "is not in the vocabulary encryption",
	} {
		g := readtest.Read(b.Format(), "x", text, nil)
		require.NotEmpty(t, readtest.Unread(g), text)
		assert.Contains(t, strings.Join(readtest.Unread(g), "; "), want)
	}
	var bomb strings.Builder // each name stands for ten of the one before
	bomb.WriteString("nets n0 { 10.0.0.0/8; }\n")
	for i := range 60 {
		fmt.Fprintf(&bomb, "nets n%d { %s }\n", i+1, strings.Repeat(fmt.Sprintf("all of n%d; ", i), 10))
	}
	bomb.WriteString("nets e0 { }\n")
	for i := range 60 {
		fmt.Fprintf(&bomb, "nets e%d { %s }\n", i+1, strings.Repeat(fmt.Sprintf("all of e%d; ", i), 10))
	}
	bomb.WriteString("span a { lane b { from n60 to e60; } }")
	began := cputime.Spent()
	g := readtest.Read(b.Format(), "x", bomb.String(), nil)
	assert.Less(t, cputime.Spent()-began, 5*time.Second)
	assert.Contains(t, strings.Join(readtest.Unread(g), "; "), "the networks n60 stand for too many values")
}

func TestDefaultsByVersion(t *testing.T) {
	b, err := phrasebook.Load("tern.yaml", []byte(tern))
	require.NoError(t, err)
	for first, want := range map[string]string{"tern is 2.0": "24 h", "tern is 2.1": "8 h", "tern is 3.0": "8 h", "": "8 h"} {
		g := readtest.Read(b.Format(), "x", first+"\nbridge a toward 192.0.2.1\n", nil)
		c := g.Connections[0]
		assert.True(t, c.Rekey.IsDefault())
		v, _ := settings.Named("ike-lifetime").Get(settings.Subject{Connection: c})
		assert.Equal(t, want, v.Text, first)
		assert.Equal(t, first == "", strings.Contains(c.Rekey.Why, "since 2.1; before: 24h"), c.Rekey.Why)
		assert.False(t, c.Doubts.Certain(), "of other settings nobody knows what holds")
	}
	const head = "language: a\ntitle: b\nsyntax: {kind: lines}\nphrases: [{say: x, moot: y}]\ndefaults:\n"
	for text, want := range map[string]string{
		"- {sets: ike-lifetyme, value: 8h, source: x}":             `did you mean "ike-lifetime"?`,
		"- {sets: ike-lifetime, value: long, source: x}":           "ike-lifetime: ",
		"- {sets: ike-lifetime, value: 8h}":                        "a default has a source",
		"- {sets: ike-lifetime, value: 8h, since: now, source: x}": `"now" is not a version`,
		"- {sets: ike-proposals, value: strong, source: x}":        "is no name of IANA's",
	} {
		_, err := phrasebook.Load("b.yaml", []byte(head+text+"\n"))
		assert.ErrorContains(t, err, want, text)
	}
}

func TestInterfacesRoutesAndKeys(t *testing.T) {
	const book = "language: a\ntitle: b\nsyntax: {kind: lines}\nphrases:\n" +
		"- {say: \"port <n> at <a:host-mask>\", interface: {name: <n>, address: <a>}}\n" +
		"- {say: \"port <n> also <a:prefix>\", interface: {name: <n>, address: <a>}}\n" +
		"- {say: \"port <n> asleep\", interface: {name: <n>, down: \"yes\"}}\n" +
		"- {say: \"way to <t:network> over <v:address> [cost <c:number>]\", route: {to: <t>, via: <v>, metric: <c>}}\n" +
		"- {say: \"way out over <v:address>\", route: {to: 0.0.0.0/0, via: <v>}}\n" +
		"- {say: \"nowhere <t:network>\", route: {to: <t>, kind: blackhole}}\n" +
		"- {say: \"word <k:secret> for <o:host>...\", key: {value: <k>, owners: <o>}}\n" +
		"- {say: bridge <n>, makes: connection, named: <n>, phrases: [{say: \"word <k:secret>\", key: {value: <k>}}]}\n"
	b, err := phrasebook.Load("b.yaml", []byte(book))
	require.NoError(t, err)
	g := readtest.Read(b.Format(), "x", "port lan at 10.1.0.1 255.255.0.0\nport lan also 10.3.0.1/24\nport spare asleep\n"+
		"way to 10.2.0.0/16 over 10.1.0.2 cost 5\nway out over 10.1.0.254\nnowhere 10.9.0.0/16\nway to 10.1.0.3-10.1.0.9 over 10.1.0.2\n"+
		"word Jackdaw-1 for 192.0.2.1 far.example\nbridge a\n word Jackdaw-2\n", nil)
	require.Len(t, g.Interfaces, 2)
	assert.Equal(t, "[10.1.0.1/16 10.3.0.1/24]", fmt.Sprint(g.Interfaces[0].Addresses))
	assert.True(t, g.Interfaces[1].Down)
	require.Len(t, g.Routes, 3)
	assert.Equal(t, "10.2.0.0/16 10.1.0.2 5", fmt.Sprint(g.Routes[0].To, g.Routes[0].Via, g.Routes[0].Metric))
	assert.Equal(t, "0.0.0.0/0", g.Routes[1].To.String())
	assert.Equal(t, "blackhole", g.Routes[2].Kind)
	require.Len(t, readtest.Unread(g), 1)
	assert.Contains(t, readtest.Unread(g)[0], "x:7: a route leads to one network")
	require.Len(t, g.Keys, 2)
	assert.Equal(t, []ike.Identity{ike.Addr(netip.MustParseAddr("192.0.2.1")), ike.FQDN("far.example")}, g.Keys[0].Owners)
	assert.Same(t, g.Connections[0], g.Keys[1].For)
	for line := 8; line <= 10; line++ {
		assert.NotContains(t, g.Files[0].Quote(source.Pos{File: "x", Line: line}), "Jackdaw")
	}
	const head = "language: a\ntitle: b\nsyntax: {kind: lines}\nphrases:\n- {say: \"x <y:number>\", "
	for text, want := range map[string]string{
		"route: {via: <y>}}":      "via: slot y is of type number; it takes address",
		"route: {metric: <y>}}":   "route has no to",
		"route: {too: <y>}}":      `did you mean "to"?`,
		"key: {value: hunter2}}":  "a slot was expected",
		"interface: {name: <n>}}": `the phrase has no slot "n"`,
	} {
		_, err := phrasebook.Load("b.yaml", []byte(head+text+"\n"))
		assert.ErrorContains(t, err, want, text)
	}
}

func TestRules(t *testing.T) {
	const book = "language: a\ntitle: b\nsyntax: {kind: lines}\n" +
		"vocabulary:\n  action: {let: accept, stop: drop}\n  flag: {asleep: \"yes\"}\n" +
		"chains:\n- {name: across, hook: forward, policy: drop}\n- {name: itself, hook: input, policy: accept}\nphrases:\n" +
		"- say: nets <n>\n  makes: object\n  kind: networks\n  named: <n>\n  phrases: [{say: \"<a:network>\", adds: <a>}]\n" +
		"- say: \"[<k:number>] <v:action> <c> from ( any | <s:network> | <so:networks> ) to ( any | <d:networks> ) \\\n" +
		"    [ using <p:protocol> [ door <o:port> ] ] [ by <i> ] [ <z:flag> ] [ at night ]\"\n" +
		"  rule: {chain: <c>, action: <v>, from: <s> <so>, to: <d>, protocol: <p>, ports: <o>, in: <i>, number: <k>, disabled: <z>}\n" +
		"- {say: answers pass, rule: {chain: across, action: accept, state: established related}}\n" +
		"- {say: \"door <o:port> opens by day\", rule: {chain: across, action: accept, ports: <o>, " +
		"condition: a time of day, log: \"yes\"}}\n"
	b, err := phrasebook.Load("b.yaml", []byte(book))
	require.NoError(t, err)
	g := readtest.Read(b.Format(), "x", "20 stop across from 10.1.0.0/16 to there using udp\n10 let across from 10.1.0.0/16 to there "+
		"using tcp door 443\n"+
		"let itself from any to any by lan\n30 let across from any to any asleep\nanswers pass\ndoor 22 opens by day\n"+
		"let nowhere from any to any\n"+
		"40 let across from any to gone\nnets there\n 10.2.0.0/16\n 10.3.0.0/16\n", nil)
	assert.Equal(t, `chain inet a across: hook forward, priority 0, kind 0, policy drop
  any IPv4 established, related; any IPv6 established, related -> accept
  any IPv4 port 22; any IPv6 port 22 if a time of day -> accept log
  10.1.0.0/16 > 10.2.0.0/15 tcp port 443 -> accept
  10.1.0.0/16 > 10.2.0.0/15 udp -> drop
  all packets if the networks gone are not there -> accept
chain inet a itself: hook input, priority 0, kind 0, policy accept
  any IPv4 in on lan; any IPv6 in on lan -> accept
`, readtest.Rules(g))
	require.Len(t, readtest.Unread(g), 2)
	assert.Contains(t, readtest.Unread(g)[0], `"nowhere" is no chain`)
	assert.Contains(t, readtest.Unread(g)[1], "the networks gone are not there")
	const head = "language: a\ntitle: b\nsyntax: {kind: lines}\nchains: [{name: c, hook: forward, policy: drop}]\nphrases:\n" +
		"- {say: \"x <y:number>\", rule: "
	for text, want := range map[string]string{
		"{chain: c}}":                              "rule has no action",
		"{chain: c, action: alow}}":                `"alow" is no choice; did you mean "drop"?`,
		"{chain: c, action: accept, state: knew}}": "state: ",
		"{chain: c, action: accept, ports: high}}": "ports: ",
		"{chain: c, action: accept, from: here}}":  "from: \"here\" is not a network",
	} {
		_, err := phrasebook.Load("b.yaml", []byte(head+text+"\n"))
		require.Error(t, err)
		assert.ErrorContains(t, err, strings.Split(want, "; did")[0], text)
	}
	for text, want := range map[string]string{
		"[{name: c, hook: sideways, policy: drop}]": "is no choice", "[{name: c, hook: input, policy: maybe}]": "is no choice",
		"[{hook: input, policy: drop}]": "a chain has a name of its own",
	} {
		_, err := phrasebook.Load("b.yaml", []byte("language: a\ntitle: b\nsyntax: {kind: lines}\n"+
			"phrases: [{say: x, moot: y}]\nchains: "+text+"\n"))
		assert.ErrorContains(t, err, want, text)
	}
}
