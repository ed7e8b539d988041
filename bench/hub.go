package main

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"

	"toril/estate"
	"toril/read/formats"
)

// readOnly is how this program is asked to do nothing but read an estate.
const readOnly = "only-read"

func readEstate(dir string) error {
	_, err := estate.Load(context.Background(), []string{dir}, estate.Options{Formats: formats.All()})
	return err
}

// hub is one gateway with ever more tunnels, and a route, a rule either way and an exemption from NAT for each.
func hub(b *bench) ([]line, error) {
	sizes := []int{500, 1000, 2000, 4000, 8000}
	if b.small {
		sizes = []int{250, 500, 1000}
	}
	dirs := map[int]string{}
	out, err := growth(b, "a hub of tunnels", sizes, func(n int) (dir string, err error) {
		for name, text := range hubOf(n) {
			if dir, err = b.write(fmt.Sprintf("hub%d/hub/%s", n, name), text); err != nil {
				return "", err
			}
		}
		dirs[n] = dir
		return dir, nil
	})
	if err != nil || b.small {
		return out, err
	}
	last := sizes[len(sizes)-1]
	c, err := sideBySide(1, b.audit(dirs[last]), job{b.self, readOnly, dirs[last]})
	if err != nil {
		return nil, err
	}
	work := fmt.Sprintf("a hub of %d tunnels, beside reading it", last)
	return append(out, line{work, ratio(c[0], c[1]), 50, both(c[0], c[1])}), nil
}

func hubOf(n int) map[string]string {
	var connections, secrets, routes, forward, nat strings.Builder
	for i := range n {
		peer, net := fmt.Sprintf("198.18.%d.%d", i/250, 1+i%250), fmt.Sprintf("10.%d.%d.0/24", i/256, i%256)
		fmt.Fprintf(
			&connections,
			" s%d {\n  version = 2\n  local_addrs = 203.0.113.1\n  remote_addrs = %s\n  proposals = aes256gcm16-prfsha384-ecp384\n"+
				"  local {\n   auth = psk\n   id = hub.example\n  }\n  remote {\n   auth = psk\n   id = s%d.example\n  }\n"+
				"  children {\n   n {\n    local_ts = 172.16.0.0/24\n    remote_ts = %s\n    esp_proposals = aes256gcm16-ecp384\n"+
				"    start_action = trap\n   }\n  }\n }\n",
			i, peer, i, net,
		)
		key := sha256.Sum256(fmt.Append(nil, i))
		secret := hex.EncodeToString(key[:])[:48]
		fmt.Fprintf(&secrets, " ike%d {\n  id-0 = hub.example\n  id-1 = s%d.example\n  secret = %s\n }\n", i, i, secret)
		fmt.Fprintf(&routes, "%s via 203.0.113.254 dev wan\n", net)
		fmt.Fprintf(&forward, "  ip saddr 172.16.0.0/24 ip daddr %s accept\n", net)
		fmt.Fprintf(&forward, "  ip saddr %s ip daddr 172.16.0.0/24 meta ipsec exists accept\n", net)
		fmt.Fprintf(&nat, "  ip daddr %s accept\n", net)
	}
	return map[string]string{
		"swanctl.conf": "connections {\n" + connections.String() + "}\nsecrets {\n" + secrets.String() + "}\n",
		"rules.nft": "table inet f {\n chain input {\n  type filter hook input priority 0; policy drop;\n" +
			"  ct state established,related accept\n  udp dport { 500, 4500 } accept\n  meta l4proto esp accept\n }\n" +
			" chain forward {\n  type filter hook forward priority 0; policy drop;\n  ct state established,related accept\n" +
			forward.String() + " }\n chain post {\n  type nat hook postrouting priority 100; policy accept;\n" +
			nat.String() + "  oif wan masquerade\n }\n}\n",
		"addr.txt": "1: lo: <LOOPBACK,UP,LOWER_UP> mtu 65536 state UNKNOWN\n    inet 127.0.0.1/8 scope host lo\n" +
			"2: wan: <BROADCAST,UP,LOWER_UP> mtu 1500 state UP\n    inet 203.0.113.1/24 scope global wan\n" +
			"3: lan: <BROADCAST,UP,LOWER_UP> mtu 1500 state UP\n    inet 172.16.0.1/24 scope global lan\n",
		"route.txt": "default via 203.0.113.254 dev wan\n203.0.113.0/24 dev wan proto kernel scope link src 203.0.113.1\n" +
			"172.16.0.0/24 dev lan proto kernel scope link src 172.16.0.1\n" + routes.String(),
	}
}
