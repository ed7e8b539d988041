package yang_test

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/demo"
	"toril/estate"
	"toril/ike"
	"toril/model"
	"toril/pair"
	"toril/read/formats"
	"toril/read/readtest"
	"toril/read/yang"
	"toril/source"
)

// gateways are those of the demonstration estate.
func gateways(t testing.TB) []*model.Gateway {
	e, err := pair.WholeFS(context.Background(), demo.Estate(), estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	return e.Gateways
}

// TestThereAndBack: what is written of a gateway is read as the same, as far as the models can say it, in JSON and in XML.
func TestThereAndBack(t *testing.T) {
	for _, g := range gateways(t) {
		for _, asXML := range []bool{false, true} {
			var out bytes.Buffer
			lacks, err := yang.Write(&out, g, asXML)
			require.NoError(t, err)
			back := readtest.Read(yang.Format, "x", out.String(), nil)
			assert.Empty(t, notRead(back), g.Name)
			for i, k := range g.Keys {
				assert.NotContains(t, out.String(), k.Secret.Reveal(), i)
			}
			var second bytes.Buffer
			again, err := yang.Write(&second, back, asXML)
			require.NoError(t, err)
			assert.Equal(t, out.String(), second.String(), "%s: read back and written again", g.Name)
			for _, l := range again {
				assert.True(
					t,
					slices.Contains(lacks, l) || strings.Contains(l, "the hook") || strings.Contains(l, "kind of tunnel"),
					"%s: %s",
					g.Name,
					l,
				)
			}
			assert.Equal(t, sayable(g, lacks), sayable(back, lacks), g.Name)
		}
	}
}

// sayable is what a gateway is, as far as the models can say it.
func sayable(g *model.Gateway, lacks []string) string {
	var b strings.Builder
	lacking := func(text string) bool {
		return slices.ContainsFunc(lacks, func(l string) bool { return strings.Contains(l, text) })
	}
	for _, i := range g.Interfaces {
		fmt.Fprintln(&b, i.Name, i.Addresses, i.Down)
	}
	for _, r := range g.Routes {
		if r.Origin != "connected" {
			fmt.Fprintln(&b, r.To, r.Via, r.Dev, r.Kind)
		}
	}
	for _, c := range g.Connections {
		if lacking("connection " + c.Name + ": IKEv1") {
			continue
		}
		fmt.Fprintln(&b, c.Name, c.LocalAddrs.Value, c.RemoteAddrs.Value, c.Local.Method.Value)
		for _, id := range []ike.Identity{c.Local.ID.Value, c.Remote.ID.Value} {
			if id.Definite() && id.Kind != ike.IDAddr { // one that is not configured is written as the address
				fmt.Fprintln(&b, id)
			}
		}
		fmt.Fprintln(&b, c.Rekey.Value, c.Reauth.Value, c.Over.Value)
		for _, k := range c.Children {
			fmt.Fprintln(&b, k.Name, k.Local.Value, k.Remote.Value, k.Mode.Value, k.ReplayWindow.Value)
			if len(k.Proposals.Value) == 1 && !lacking(k.Name) {
				fmt.Fprintln(&b, k.Proposals.Value[0].Names(), k.Rekey.Value, k.Life.Value,
					k.RekeyBytes.Value)
			}
		}
	}
	return b.String()
}

const instance = `{
  "ietf-interfaces:interfaces": {"interface": [
    {"name": "wan", "type": "iana-if-type:ethernetCsmacd", "ietf-ip:ipv4": {"address": [{"ip": "192.0.2.1", "prefix-length": 24}]}},
    {"name": "lan", "type": "iana-if-type:ethernetCsmacd", "enabled": false, "ietf-ip:ipv4": {"address": [{"ip": "10.1.0.1", "prefix-length": 16}]}},
    {"name": "odd", "type": "x", "ietf-ip:ipv4": {"address": [{"ip": "10.1.0.300", "prefix-length": 16}], "mtu": 1400}}]},
  "ietf-routing:routing": {"control-plane-protocols": {"control-plane-protocol": [
    {"type": "ietf-routing:static", "name": "s", "static-routes": {"ietf-ipv4-unicast-routing:ipv4": {"route": [
      {"destination-prefix": "0.0.0.0/0", "next-hop": {"next-hop-address": "192.0.2.254"}},
      {"destination-prefix": "10.9.0.0/16", "next-hop": {"special-next-hop": "blackhole"}}]}}},
    {"type": "ietf-ospf:ospfv2", "name": "1"}]}},
  "ietf-access-control-list:acls": {
    "acl": [{"name": "guard", "type": "ipv4-acl-type", "aces": {"ace": [
      {"name": "web", "matches": {"ipv4": {"protocol": 6, "source-ipv4-network": "10.2.0.0/16", "destination-ipv4-network": "10.1.0.0/16"},
        "tcp": {"destination-port": {"operator": "eq", "port": 443}}},
        "actions": {"forwarding": "ietf-access-control-list:accept", "logging": "log-syslog"}},
      {"name": "high", "matches": {"ipv4": {}, "udp": {"destination-port": {"lower-port": 1024, "upper-port": 2047}}},
        "actions": {"forwarding": "accept"}},
      {"name": "ping", "matches": {"ipv4": {}, "icmp": {"type": 8}, "ingress-interface": "lan"}, "actions": {"forwarding": "reject"}},
      {"name": "rest", "matches": {"ipv4": {"ttl": 4}}, "actions": {"forwarding": "drop"}}]}}],
    "attachment-points": {"interface": [{"interface-id": "wan", "ingress": {"acl-sets": {"acl-set": [{"name": "guard"}, {"name": "gone"}]}}}]}},
  "ietf-nat:nat": {"instances": {"instance": [{"id": 1, "mapping-table": {"mapping-entry": [
    {"index": 1, "type": "static", "internal-src-address": "10.1.0.0/24", "external-src-address": "192.0.3.0/24"},
    {"index": 2, "type": "static", "transport-protocol": 6, "external-dst-address": "192.0.2.9/32", "external-dst-port": {"start-port-number": 443},
      "internal-dst-address": "10.1.0.9/32", "internal-dst-port": {"start-port-number": 8443}}]}}]}},
  "ietf-i2nsf-ike:ipsec-ike": {
    "pad": {"pad-entry": [
      {"name": "me", "fqdn-string": "a.example", "peer-authentication": {"auth-method": "pre-shared", "pre-shared": {"secret": "4a:61:63:6b:64:61:77"}}},
      {"name": "you", "ipv4-address": "198.51.100.7", "peer-authentication": {"auth-method": "digital-signature"}}]},
    "conn-entry": [{"name": "c", "autostartup": "on-demand", "version": "ikev2", "ike-sa-lifetime-soft": {"rekey-time": 14400},
      "ike-sa-intr-alg": [12], "ike-sa-encr-alg": [{"id": 1, "algorithm-type": 12, "key-length": 256}], "fs-group": 14, "cookies": true,
      "local": {"local-pad-entry-name": "me"}, "remote": {"remote-pad-entry-name": "you"},
      "spd": {"spd-entry": [
        {"name": "k", "ipsec-policy-config": {"anti-replay-window-size": 32,
          "traffic-selector": {"local-prefix": "10.1.0.0/16", "remote-prefix": "10.2.0.0/16", "inner-protocol": 6,
            "remote-ports": [{"start": 443, "end": 443}]},
          "processing-info": {"action": "protect", "ipsec-sa-cfg": {"mode": "tunnel", "ext-seq-num": true, "protocol-parameters": "esp",
            "esp-algorithms": {"encryption": [{"id": 1, "algorithm-type": 20, "key-length": 256}]},
            "tunnel": {"local": "192.0.2.1", "remote": "198.51.100.7"}}}}},
        {"name": "open", "ipsec-policy-config": {"traffic-selector": {"local-prefix": "10.1.0.0/16", "remote-prefix": "10.3.0.0/16"},
          "processing-info": {"action": "bypass"}}}]},
      "child-sa-info": {"fs-groups": [14], "child-sa-lifetime-soft": {"time": 3600, "bytes": "1000000"}, "child-sa-lifetime-hard": {"time": "soon"}}}]}
}
`

// TestWhatAnotherProgramWrites: every module, what is not read, and values that are none, each with its line; keys are hidden.
func TestWhatAnotherProgramWrites(t *testing.T) {
	g := readtest.Read(yang.Format, "x", instance, nil)
	said := readtest.Unread(g)
	slices.Sort(said)
	assert.Equal(t, []string{
		"x:19: ttl is not read",
		`x:20: "gone" is not the name of an access list`,
		"x:30: cookies is not read",
		`x:41: "soon" is not a number`,
		`x:5: "10.1.0.300" is not an address`,
	}, said)
	for _, u := range g.Files[0].Unread {
		assert.Equal(t, u.At.Line > 26, u.Scope == "c", u.Why)
	}
	assert.Equal(t, `connection c  unsure
  version IKEv2, aggressive false, encap (false), mobike (false)
  192.0.2.1 > 198.51.100.7
  pre-shared key a.example > certificate or public key 198.51.100.7
  ike AES-CBC-256 / HMAC-SHA2-256 cut to 128 bits / HMAC-SHA2-256 / group 14 (MODP 2048)
  rekey 4h0m0s, reauth (0s), dpd (0s)
  child k: 10.1.0.0/16 tcp === 10.2.0.0/16 tcp 443
    ESP AES-GCM-256 with a 16-byte ICV / group 14 (MODP 2048) / ESN
    mode tunnel, start by traffic, rekey 1h0m0s, life (0s), bytes (0), window 32, if_id (0), mark ()
  child open: 10.1.0.0/16 === 10.3.0.0/16
    mode pass, start by traffic, rekey 1h0m0s, life (0s), bytes (0), window (0), if_id (0), mark ()
key me for connection c, 7 bytes
`, strings.Replace(readtest.Connections(g), "aggressive (false)", "aggressive false", 1))
	assert.Equal(t, `chain inet acls guard: hook none, priority 0, kind 0, policy accept
  10.2.0.0/16 > 10.1.0.0/16 tcp port 443 -> accept log
  any IPv4 udp port 1024-2047 -> accept
  any IPv4 icmp type 8 in on lan -> reject
  any IPv4 if a match that was not read -> drop
chain inet acls attachment points: hook forward, priority 0, kind 0, policy accept
  any IPv4 in on wan; any IPv6 in on wan -> jump inet acls guard
chain inet nat source: hook postrouting, priority 100, kind 1, policy accept
  10.1.0.0/24 > any -> source NAT 192.0.3.0/24
chain inet nat destination: hook prerouting, priority -100, kind 1, policy accept
  any > 192.0.2.9 tcp port 443 -> destination NAT 10.1.0.9/32
`, readtest.Rules(g))
	assert.Equal(t, []string{"[192.0.2.1/24]", "[10.1.0.1/16]", "[]"}, []string{fmt.Sprint(g.Interfaces[0].Addresses),
		fmt.Sprint(g.Interfaces[1].Addresses), fmt.Sprint(g.Interfaces[2].Addresses)})
	assert.True(t, g.Interfaces[1].Down)
	require.Len(t, g.Routes, 2)
	assert.Equal(t, "blackhole", g.Routes[1].Kind)
	require.Len(t, g.Protocols, 1)
	assert.NotContains(t, g.Files[0].Quote(g.Keys[0].At), "4a:61")
	for text, want := range map[string]int{instance: 95, `<data><nat xmlns="urn:ietf:params:xml:ns:yang:ietf-nat"/></data>`: 95, `{"a": 1}`: 0} {
		score, _ := yang.Format.Looks(source.NewFile("x", []byte(text)))
		assert.Equal(t, want, score)
	}
	for _, broken := range []string{"{", "<data>", `{"ietf-nat:nat": 5}`, `{"ietf-i2nsf-ike:ipsec-ike": {"conn-entry": [{}]}}`} {
		g := readtest.Read(yang.Format, "x", broken, nil)
		assert.LessOrEqual(t, len(g.Connections), 1)
	}
}

// FuzzRead: whatever is read can be written, and is then read as the same.
func FuzzRead(f *testing.F) {
	f.Add(instance)
	f.Add(`<data><nat xmlns="urn:ietf:params:xml:ns:yang:ietf-nat"><instances><instance><id>1</id></instance></instances></nat></data>`)
	f.Fuzz(func(t *testing.T, text string) {
		g := readtest.Read(yang.Format, "x", text, nil)
		var out bytes.Buffer
		_, err := yang.Write(&out, g, false)
		require.NoError(t, err)
	})
}
