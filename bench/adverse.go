package main

import (
	"fmt"
	"strings"
)

// adversity is work that somebody made to be slow, beside work of the same size that nobody did: files by their names.
type adversity struct {
	name          string
	worse, benign map[string]string
}

// adversities makes them all. It is long as a table is.
func adversities(small bool) []adversity {
	size := func(n int) int {
		if small {
			return n / 10
		}
		return n
	}
	chain := func(body, before string) string {
		return "table inet f {\n" + before + " chain forward {\n  type filter hook forward priority 0; policy drop;\n" + body + " }\n}\n"
	}
	each := func(n int, one func(i int) string) string {
		var t strings.Builder
		for i := range n {
			t.WriteString(one(i))
		}
		return t.String()
	}
	verb := func(i int) string { return []string{"accept", "drop"}[i%2] }
	peers := func(n int, peer func(i int) string) string {
		return "connections {\n" + each(n, func(i int) string {
			return fmt.Sprintf(" s%d {\n  version = 2\n  local_addrs = 203.0.113.1\n  remote_addrs = %s\n  local {\n   auth = psk\n  }\n"+
				"  remote {\n   auth = psk\n  }\n  children {\n   n {\n    local_ts = 172.16.0.0/24\n    remote_ts = 10.%d.%d.0/24\n   }\n  }\n }\n",
				i, peer(i), i/256, i%256)
		}) + "}\n"
	}
	mirrored := strings.NewReplacer(
		"local_addrs", "remote_addrs", "remote_addrs", "local_addrs", "local_ts", "remote_ts", "remote_ts", "local_ts",
	)
	same, apart := func(int) string { return "198.18.0.1" }, func(i int) string { return fmt.Sprintf("198.18.%d.%d", i/250, 1+i%250) }
	set := func(n, step int) string {
		return chain("  ip saddr @s accept\n", " set s {\n  type ipv4_addr\n  elements = { "+each(n, func(i int) string {
			a := i * step
			return fmt.Sprintf("10.%d.%d.%d, ", a>>16, a>>8&255, a&255)
		})+"10.255.255.255 }\n }\n")
	}
	rules, many, elements, chains := size(5000), size(2000), size(1_000_000), size(1000)
	return []adversity{
		{
			fmt.Sprintf("%d rules that all overlap", rules),
			map[string]string{"g/nftables.conf": chain(each(rules, func(i int) string {
				return fmt.Sprintf("  ip saddr 10.%d.%d.0-10.%d.%d.255 tcp dport %d-%d %s\n",
					i/256, i%256, 128+i/256, i%256, 1+i, 30000+i, verb(i))
			}), "")},
			map[string]string{"g/nftables.conf": chain(each(rules, func(i int) string {
				return fmt.Sprintf("  ip saddr 10.%d.%d.0/24 tcp dport %d-%d %s\n", i/256, i%256, 1+i, 30000+i, verb(i))
			}), "")},
		},
		{
			fmt.Sprintf("%d connections to one peer", many),
			map[string]string{"g/swanctl.conf": peers(many, same), "h/swanctl.conf": mirrored.Replace(peers(many, same))},
			map[string]string{"g/swanctl.conf": peers(many, apart), "h/swanctl.conf": mirrored.Replace(peers(many, apart))},
		},
		{
			fmt.Sprintf("a set of %d addresses that are apart", elements),
			map[string]string{"g/nftables.conf": set(elements, 2)}, map[string]string{"g/nftables.conf": set(elements, 1)},
		},
		{
			fmt.Sprintf("%d chains that jump to each other", chains),
			map[string]string{"g/nftables.conf": chain("  jump c0\n", each(chains, func(i int) string {
				i = chains - 1 - i
				return fmt.Sprintf(" chain c%d {\n  tcp dport %d accept\n", i, i+1) + each(min(5, chains-1-i), func(k int) string {
					return fmt.Sprintf("  ip saddr 10.%d.0.0/16 jump c%d\n", k+1, i+k+1)
				}) + " }\n"
			}))},
			map[string]string{"g/nftables.conf": chain(each(chains, func(i int) string {
				return fmt.Sprintf("  ip saddr 10.%d.%d.0/24 jump c%d\n", i/256, i%256, i)
			}), each(chains, func(i int) string {
				return fmt.Sprintf(" chain c%d {\n  tcp dport %d accept\n", i, i+1) + each(5, func(k int) string {
					return fmt.Sprintf("  ip saddr 10.%d.0.0/16 tcp dport %d accept\n", k+1, k+1)
				}) + " }\n"
			}))},
		},
	}
}

// adverse measures each, beside what is benign.
func adverse(b *bench) ([]line, error) {
	var out []line
	for _, c := range adversities(b.small) {
		var dirs [2]string
		for i, files := range []map[string]string{c.worse, c.benign} {
			for name, text := range files {
				dir, err := b.write(fmt.Sprintf("adverse-%d-%s/%s", i, strings.ReplaceAll(c.name, " ", "-"), name), text)
				if err != nil {
					return nil, err
				}
				dirs[i] = dir
			}
		}
		costs, err := sideBySide(1, b.audit(dirs[0]), b.audit(dirs[1]))
		if err != nil {
			return nil, err
		}
		work := c.name + ", beside the benign case"
		out = append(out, line{work, ratio(costs[0], costs[1]), b.lax(10), both(costs[0], costs[1])})
	}
	return out, nil
}
