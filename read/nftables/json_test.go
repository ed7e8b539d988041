package nftables_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/model"
	"toril/read/nftables"
	"toril/read/readtest"
)

// inChain wraps expressions as one rule of a base chain.
func inChain(expr string) string {
	return `{"nftables": [{"metainfo": {"version": "1.0.6"}},
{"table": {"family": "inet", "name": "filter", "handle": 1}},
{"chain": {"family": "inet", "table": "filter", "name": "forward", "type": "filter", "hook": "forward", "prio": 0, "policy": "drop"}},
{"chain": {"family": "inet", "table": "filter", "name": "other"}},
{"set": {"family": "inet", "table": "filter", "name": "peers", "type": "ipv4_addr", "flags": ["interval"], "elem": ["192.0.2.1", {"prefix": {"addr": "198.51.100.0", "len": 24}}]}},
{"map": {"family": "inet", "table": "filter", "name": "vm", "type": "ipv4_addr", "map": "verdict", "elem": [["10.0.0.1", {"drop": null}], ["10.0.0.2", {"jump": {"target": "other"}}]]}},
{"rule": {"family": "inet", "table": "filter", "chain": "forward", "handle": 9, "comment": "say \"hi\"", "expr": [` + expr + `]}}]}`
}

func TestJSONMeansWhatItsTextMeans(t *testing.T) {
	for expr, text := range map[string]string{
		`{"accept": null}`: "accept",
		`{"match": {"op": "==", "left": {"payload": {"protocol": "ip", "field": "saddr"}}, "right": {"prefix": {"addr": "10.0.0.0", "len": 8}}}}, {"drop": null}`:                                                                  "ip saddr 10.0.0.0/8 drop",
		`{"match": {"op": "!=", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": {"set": [22, {"range": [80, 90]}]}}}, {"reject": {"type": "tcp reset"}}`:                                                      "tcp dport != { 22, 80-90 } reject",
		`{"match": {"op": "in", "left": {"ct": {"key": "state"}}, "right": ["established", "related"]}}, {"counter": {"packets": 5, "bytes": 9}}, {"accept": null}`:                                                                "ct state established,related counter accept",
		`{"match": {"op": "==", "left": {"payload": {"protocol": "ip", "field": "saddr"}}, "right": "@peers"}}, {"log": {"prefix": "x"}}, {"drop": null}`:                                                                          "ip saddr @peers log drop",
		`{"vmap": {"key": {"payload": {"protocol": "ip", "field": "saddr"}}, "data": "@vm"}}`:                                                                                                                                      "ip saddr vmap @vm",
		`{"vmap": {"key": {"meta": {"key": "iifname"}}, "data": {"set": [["eth0", {"accept": null}], ["wan*", {"goto": {"target": "other"}}]]}}}`:                                                                                  `iifname vmap { "eth0" : accept, "wan*" : goto other }`,
		`{"match": {"op": "==", "left": {"meta": {"key": "ipsec"}}, "right": true}}, {"accept": null}`:                                                                                                                             "meta ipsec exists accept",
		`{"match": {"op": "==", "left": {"rt": {"key": "ipsec"}}, "right": false}}, {"drop": null}`:                                                                                                                                "rt ipsec missing drop",
		`{"match": {"op": "==", "left": {"ipsec": {"key": "saddr", "dir": "in", "spnum": 0, "family": "ip"}}, "right": "192.0.2.1"}}, {"accept": null}`:                                                                            "ipsec in ip saddr 192.0.2.1 accept",
		`{"match": {"op": "==", "left": {"&": [{"meta": {"key": "mark"}}, 255]}, "right": 16}}, {"drop": null}`:                                                                                                                    "meta mark & 0xff == 0x10 drop",
		`{"match": {"op": "==", "left": {"concat": [{"payload": {"protocol": "ip", "field": "saddr"}}, {"payload": {"protocol": "tcp", "field": "dport"}}]}, "right": {"set": [{"concat": ["10.0.0.1", 22]}]}}}, {"accept": null}`: "ip saddr . tcp dport { 10.0.0.1 . 22 } accept",
		`{"match": {"op": "==", "left": {"payload": {"protocol": "icmp", "field": "type"}}, "right": "echo-request"}}, {"limit": {"rate": 5, "per": "second"}}, {"accept": null}`:                                                  "icmp type echo-request limit rate 5/second accept",
		`{"mangle": {"key": {"meta": {"key": "mark"}}, "value": 5}}`:                                                                                                                                                               "meta mark set 5",
		`{"match": {"op": "==", "left": {"fib": {"result": "type", "flags": ["daddr"]}}, "right": "local"}}, {"accept": null}`:                                                                                                     "fib daddr type local accept",
		`{"match": {"op": ">", "left": {"payload": {"protocol": "udp", "field": "dport"}}, "right": 1023}}, {"notrack": null}`:                                                                                                     "udp dport > 1023 notrack",
		`{"match": {"op": "==", "left": {"ct": {"key": "direction"}}, "right": "reply"}}, {"queue": {"num": 0}}`:                                                                                                                   "ct direction reply queue",
		`{"set": {"op": "add", "elem": {"payload": {"protocol": "ip", "field": "saddr"}}, "set": "@peers"}}, {"drop": null}`:                                                                                                       "add @peers { ip saddr } drop",
	} {
		json := readtest.Read(nftables.JSON, "r.json", inChain(expr), nil)
		plain := readtest.Read(nftables.Text, "r.nft", `table inet filter {
	set peers { type ipv4_addr; flags interval; elements = { 192.0.2.1, 198.51.100.0/24 } }
	map vm { type ipv4_addr : verdict; elements = { 10.0.0.1 : drop, 10.0.0.2 : jump other } }
	chain forward { type filter hook forward priority 0; policy drop;
		`+text+`
	}
	chain other {
	}
}
`, nil)
		assert.Empty(t, readtest.Unread(json), expr)
		assert.Equal(t, readtest.Rules(plain), readtest.Rules(json), expr)
	}
}

func TestJSONTranslations(t *testing.T) {
	g := readtest.Read(nftables.JSON, "r.json", `{"nftables": [
{"chain": {"family": "ip", "table": "nat", "name": "post", "type": "nat", "hook": "postrouting", "prio": 100, "policy": "accept"}},
{"rule": {"family": "ip", "table": "nat", "chain": "post", "expr": [{"masquerade": null}]}},
{"rule": {"family": "ip", "table": "nat", "chain": "post", "expr": [{"match": {"op": "==", "left": {"meta": {"key": "l4proto"}}, "right": "tcp"}}, {"snat": {"addr": "192.0.2.9", "port": {"range": [1024, 2000]}}}]}},
{"rule": {"family": "ip", "table": "nat", "chain": "post", "expr": [{"snat": {"addr": {"map": {"key": {"payload": {"protocol": "ip", "field": "saddr"}}, "data": {"set": [["10.1.0.5", "192.0.2.5"]]}}}}}]}},
{"add": {"rule": {"family": "ip", "table": "nat", "chain": "post", "expr": [{"match": {"op": "==", "left": {"meta": {"key": "l4proto"}}, "right": "tcp"}}, {"redirect": {"port": 22}}]}}},
{"insert": {"rule": {"family": "ip", "table": "nat", "chain": "post", "expr": [{"match": {"op": "==", "left": {"meta": {"key": "l4proto"}}, "right": "tcp"}}, {"dnat": {"family": "ip6", "addr": "fd00::1", "port": 80}}]}}}
]}`, nil)
	assert.Empty(t, readtest.Unread(g))
	assert.Equal(t, `chain ip nat post: hook postrouting, priority 100, kind 1, policy accept
  any IPv4 tcp -> destination NAT [fd00::1]:80
  any IPv4 -> masquerade an address of the interface
  any IPv4 tcp -> source NAT 192.0.2.9:1024-2000
  10.1.0.5 > any -> source NAT 192.0.2.5
  any IPv4 tcp -> redirect an address of the interface
`, readtest.Rules(g))
	assert.Equal(t, 3, g.Chains[0].Rules[1].At.Line, "positions are those of the JSON")
}

func TestJSONMistakes(t *testing.T) {
	for text, want := range map[string]string{
		`{"nftables": [`:                                       "the rest is not JSON",
		`{"nftables": {"a": 1}}`:                               `the member "nftables" is not an array`,
		`{"nftables": [{"rule": `:                              "the rest is not JSON",
		`{"nftables": [{"gizmo": {"name": "x"}}]}`:             `"gizmo" is not a known object`,
		`{"nftables": [7]}`:                                    "an object was expected",
		inChain(`{"xt": {"type": "match", "name": "string"}}`): `"xt" is a statement that is not modelled`,
		inChain(`{"match": {"op": "==", "left": {"crystal": {}}, "right": 1}}`):                                     `"crystal" is an expression that is not known`,
		inChain(`{"match": {"op": "==", "left": {"payload": {"base": "nh", "offset": 0, "len": 8}}, "right": 69}}`): "",
	} {
		g := readtest.Read(nftables.JSON, "r.json", text, nil)
		said := strings.Join(append(readtest.Unread(g), readtest.Problems(g)...), "\n")
		if want == "" {
			assert.Empty(t, said, text)
			require.Len(t, g.Chains[0].Rules, 1)
			assert.Equal(t, model.Continue, g.Chains[0].Rules[0].Verb, "a condition without a verdict decides nothing")
			continue
		}
		assert.Contains(t, said, want, text)
	}
}

func TestJSONNesting(t *testing.T) {
	deep := strings.Repeat(`{"&": [`, 5000) + "1" + strings.Repeat(`]}`, 5000)
	g := readtest.Read(nftables.JSON, "r.json", inChain(`{"match": {"op": "==", "left": `+deep+`, "right": 1}}`), nil)
	assert.NotEmpty(t, append(readtest.Unread(g), readtest.Problems(g)...))
}

func FuzzJSON(f *testing.F) {
	f.Add(inChain(`{"match": {"op": "==", "left": {"payload": {"protocol": "ip", "field": "saddr"}}, "right": "@peers"}}, {"drop": null}`))
	f.Add(inChain(`{"snat": {"addr": {"map": {"key": {"meta": {"key": "iifname"}}, "data": {"set": [["a", "192.0.2.5"]]}}}}}`))
	f.Fuzz(func(t *testing.T, text string) {
		readtest.Rules(readtest.Read(nftables.JSON, "r.json", text, nil))
	})
}
