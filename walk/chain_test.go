package walk_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/estate"
	"toril/model"
	"toril/packet"
	"toril/pair"
	"toril/read/formats"
	"toril/walk"
)

// filterOf reads a ruleset.
func filterOf(t *testing.T, rules string) (*model.Gateway, *walk.Filter) {
	t.Helper()
	e, err := pair.WholeFS(
		context.Background(),
		fstest.MapFS{"g/rules.nft": {Data: []byte(rules)}},
		estate.Options{Formats: formats.All()},
	)
	require.NoError(t, err)
	require.Empty(t, e.Problems)
	g := e.Gateways[0]
	return g, walk.NewFilter(g, walk.SelfAddresses(g))
}

func tcp(port uint64) packet.Set {
	return packet.Only(packet.IPv4).With(packet.Proto, packet.OneOf(6)).With(packet.Dport, packet.OneOf(port))
}

// fates sends TCP packets of some ports through the forward hook and says what became of each.
func fates(f *walk.Filter, ports ...uint64) string {
	var out []string
	for _, p := range ports {
		var verbs []string
		for _, v := range f.Through(model.Forward, walk.Fresh(tcp(p), "lan0")) {
			verbs = append(verbs, v.Verb.String())
		}
		out = append(out, fmt.Sprintf("%d %s", p, strings.Join(verbs, "+")))
	}
	return strings.Join(out, ", ")
}

const base = "table inet f {\n%s\nchain pass {\ntype filter hook forward priority 0; policy %s;\n%s\n}\n}\n"

func TestVerdictsOfChains(t *testing.T) {
	for name, c := range map[string]struct{ more, policy, rules, want string }{
		"the first that fits decides":         {"", "drop", "tcp dport 22 drop\ntcp dport 1-1024 accept", "22 drop, 80 accept, 8080 drop"},
		"the policy decides what nobody does": {"", "accept", "tcp dport 22 drop", "22 drop, 80 accept, 8080 accept"},
		"jump comes back": {"chain sub {\ntcp dport 22 drop\n}", "accept", "jump sub\ntcp dport 80 drop",
			"22 drop, 80 drop, 8080 accept"},
		"goto does not": {"chain sub {\ntcp dport 22 drop\n}", "accept", "goto sub\ntcp dport 80 drop",
			"22 drop, 80 accept, 8080 accept"},
		"return leaves the chain": {"chain sub {\ntcp dport 22 return\ndrop\n}", "accept", "jump sub",
			"22 accept, 80 drop, 8080 drop"},
		"return of a base chain is its policy": {"", "drop", "tcp dport 22 return\naccept", "22 drop, 80 accept, 8080 accept"},
		"reject is a drop that says so":        {"", "accept", "tcp dport 22 reject", "22 reject, 80 accept, 8080 accept"},
		"jumps within jumps": {"chain a {\njump b\ntcp dport 80 drop\n}\nchain b {\ntcp dport 22 drop\n}", "accept",
			"jump a", "22 drop, 80 drop, 8080 accept"},
		"untracked, and on": {"", "drop", "notrack\nct state untracked tcp dport 22 accept\nct state new accept",
			"22 accept, 80 drop, 8080 drop"},
		"a verdict map": {"", "drop", "tcp dport vmap { 22 : drop, 80 : accept }", "22 drop, 80 accept, 8080 drop"},
		"a named set": {"set open {\ntype inet_service\nelements = { 80, 8080 }\n}", "drop",
			"tcp dport @open accept", "22 drop, 80 accept, 8080 accept"},
		"negation": {"", "drop", "tcp dport != 22 accept", "22 drop, 80 accept, 8080 accept"},
		"counters and logs decide nothing": {"", "drop", "counter log\ntcp dport 80 counter log prefix \"x\" accept",
			"22 drop, 80 accept, 8080 drop"},
		"marks carry a decision": {"", "drop", "tcp dport 80 meta mark set 5\nmeta mark 5 accept",
			"22 drop, 80 accept, 8080 drop"},
		"marks are overwritten": {"", "drop", "meta mark set 5\ntcp dport 80 meta mark set 6\nmeta mark 5 accept",
			"22 accept, 80 drop, 8080 accept"},
		"another family's rule": {"", "drop", "ip6 nexthdr tcp accept\nmeta nfproto ipv6 accept",
			"22 drop, 80 drop, 8080 drop"},
		"states": {"", "drop", "ct state established,related accept\nct state new tcp dport 80 accept",
			"22 drop, 80 accept, 8080 drop"},
	} {
		_, f := filterOf(t, fmt.Sprintf(base, c.more, c.policy, c.rules))
		assert.Equal(t, c.want, fates(f, 22, 80, 8080), name)
	}
}

func TestSeveralChainsAtOneHook(t *testing.T) {
	const two = "table inet a {\nchain c {\ntype filter hook forward priority %d; policy accept;\n%s\n}\n}\ntable inet b {\n" +
		"chain c {\ntype filter hook forward priority 10; policy accept;\n%s\n}\n}\n"
	_, f := filterOf(t, fmt.Sprintf(two, 0, "tcp dport 22 accept", "tcp dport 22 drop"))
	assert.Equal(t, "22 drop, 80 accept", fates(f, 22, 80), "what one chain accepts the next may drop")
	_, f = filterOf(t, fmt.Sprintf(two, 20, "tcp dport 22 drop", "tcp dport 22 accept"))
	assert.Equal(t, "22 drop, 80 accept", fates(f, 22, 80), "in whatever order")
	_, f = filterOf(t, fmt.Sprintf(two, 0, "tcp dport 22 drop", "tcp dport 22 accept"))
	assert.Equal(t, "22 drop, 80 accept", fates(f, 22, 80), "what one drops no later one sees")
	g, f := filterOf(t, fmt.Sprintf(two, 20, "", ""))
	require.Len(t, f.Bases(model.Forward), 2)
	assert.Equal(t, 10, f.Bases(model.Forward)[0].Priority, "by priority")
	assert.Len(t, g.Chains, 2)
	assert.Empty(t, f.Bases(model.Input))
}

// TestDoubts: what becomes of packets is told as if conditions that no file decides were as they usually are, and as if what was not
// understood changed nothing; where something else may become of them, that is a doubt, and nowhere else.
func TestDoubts(t *testing.T) {
	log := "chain noisy {\nlimit rate 5/minute log\ndrop\n}"
	for name, c := range map[string]struct{ more, policy, rules, want string }{
		"a condition that seldom holds":     {"", "drop", "tcp dport 80 meta length > 1000 accept", "80 drop?"},
		"of another port":                   {"", "drop", "tcp dport 22 meta length > 1000 accept", "80 drop"},
		"which does the same":               {"", "drop", "tcp dport 80 meta length > 1000 drop", "80 drop"},
		"as a rule before":                  {"", "accept", "tcp dport 80 meta length > 1000 drop\ntcp dport 80 reject", "80 reject"},
		"a condition that usually holds":    {"", "drop", "tcp dport 80 limit rate 100/second accept", "80 accept?"},
		"that accepts as the rule after it": {"", "drop", "tcp dport 80 limit rate 100/second accept\ntcp dport 80 accept", "80 accept"},
		"over a rate":                       {"", "accept", "tcp dport 80 limit rate over 100/second drop", "80 accept?"},
		"one that only logs":                {"", "drop", "limit rate 5/minute log", "80 drop"},
		"a chain that logs and drops":       {log, "drop", "jump noisy", "80 drop"},
		"into it at times":                  {log, "drop", "limit rate 5/minute jump noisy", "80 drop"},
		"not understood":                    {"", "drop", "tcp dport 80 wobble 7 accept", "80 drop?"},
		"what it does":                      {"", "drop", "tcp dport 80 wobble", "80 drop?"},
		"not understood, behind":            {"", "drop", "tcp dport 80 accept\ntcp dport 80 wobble drop", "80 accept"},
		"a circle":                          {"chain a {\njump b\n}\nchain b {\njump a\n}", "accept", "jump a", "80 accept?"},
		"a chain that is not there":         {"", "accept", "jump nowhere", "80 accept?"},
		"two that add up":                   {"", "drop", "tcp dport 80 wobble 7 accept\nmeta length > 9 drop", "80 drop?"},
		"a mark": {"", "accept", "tcp dport 80 wobble 7 meta mark set 5\nmeta mark 5 drop",
			"80 accept?"},
	} {
		_, f := filterOf(t, fmt.Sprintf(base, c.more, c.policy, c.rules))
		var got []string
		for _, v := range f.Through(model.Forward, walk.Fresh(tcp(80), "lan0")) {
			one := "80 " + v.Verb.String()
			if !v.Doubts.Certain() {
				one += "?"
				for _, d := range v.Doubts {
					assert.NotEmpty(t, d.Why, name)
					if strings.Contains(c.rules, "wobble") {
						assert.NotEqual(t, "what the rule does was not understood", d.Why, "the reader says what was not")
					}
				}
			}
			got = append(got, one)
		}
		assert.Equal(t, []string{c.want}, got, name)
	}
}

// TestDoubtsDoNotMultiply: packets that go the same way whether a rule concerns them or not are followed once.
func TestDoubtsDoNotMultiply(t *testing.T) {
	jumps := strings.Repeat("limit rate 1/second jump sub\n", 40)
	_, f := filterOf(t, fmt.Sprintf(base, "chain sub {\ntcp dport 22 drop\n}", "accept", jumps))
	assert.Equal(t, "80 accept", fates(f, 80))
}

// TestDoubtsArePartial: of a set only the packets that may fare otherwise are in doubt.
func TestDoubtsArePartial(t *testing.T) {
	_, f := filterOf(t, fmt.Sprintf(base, "", "drop", "tcp dport 80 wobble 7 accept\ntcp dport 22 accept"))
	certain := map[bool]string{}
	for _, v := range f.Through(model.Forward, walk.Fresh(tcp(80).Or(tcp(22)).Or(tcp(8080)), "lan0")) {
		for _, part := range v.Now.Parts() {
			w, ok := part.Witness()
			require.True(t, ok)
			certain[v.Doubts.Certain()] += fmt.Sprintf("%d %s,", w.Dport, v.Verb)
		}
	}
	assert.Equal(t, "80 drop,", certain[false])
	assert.ElementsMatch(t, []string{"22 accept", "8080 drop", ""}, strings.Split(certain[true], ","))
}

func TestStepsSayWhichRules(t *testing.T) {
	_, f := filterOf(t, fmt.Sprintf(base, "chain sub {\ntcp dport 22 drop\n}", "accept", "jump sub"))
	vs := f.Through(model.Forward, walk.Fresh(tcp(22), "lan0"))
	require.Len(t, vs, 1)
	var steps []string
	for _, s := range vs[0].Steps {
		steps = append(steps, fmt.Sprintf("%s %s %d", s.Stage, s.What, s.Rule.At.Line))
	}
	assert.Equal(t, []string{"forward jump inet f sub 7", "forward drop 3"}, steps)
}

func TestTranslationRemembersWhatThePacketsWere(t *testing.T) {
	_, f := filterOf(
		t,
		"table ip nat {\nchain post {\ntype nat hook postrouting priority 100;\nip saddr 10.1.0.0/24 snat to 10.77.0.9\n}\n}\n",
	)
	set := packet.Only(packet.IPv4).With(packet.Proto, packet.OneOf(17))
	translated := 0
	for _, v := range f.Through(model.Postrouting, walk.Fresh(set, "lan0")) {
		if !v.Verb.Translates() {
			assert.False(t, v.Changed())
			continue
		}
		translated++
		assert.True(t, v.Rewritten(packet.Src))
		assert.False(t, v.Rewritten(packet.Dst))
		w, ok := v.Now.Witness()
		require.True(t, ok)
		assert.Equal(t, "10.77.0.9", w.Src.String())
		was, ok := v.Was().Witness()
		require.True(t, ok)
		assert.Equal(t, byte(1), was.Src.As4()[1])
	}
	assert.Equal(t, 1, translated)
}
