//go:build lab

package emulated

import (
	"cmp"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/lab"
	"toril/lab/cases"
)

// watch counts, at the far end or behind the gateway, what arrives.
const watch = `
watch() { # namespace
  ip netns exec $1 nft -f - <<'E'
table inet arrived {
  set esp { type ipv4_addr; flags dynamic; size 64; }
  set udp { type ipv4_addr; flags dynamic; size 64; }
  set wrapped { type ipv4_addr; flags dynamic; size 64; }
  set inner { type ipv4_addr; flags dynamic; size 64; }
  set bare { type ipv4_addr; flags dynamic; size 64; }
  chain p { type filter hook prerouting priority -301;
    meta l4proto esp add @esp { ip saddr }
    udp dport 4500 add @udp { ip saddr }
    iifname "eth0" meta l4proto { gre, 4 } meta ipsec missing add @wrapped { ip saddr }
    iifname "t0" icmp type echo-request add @inner { ip saddr }
    iifname "eth0" icmp type echo-request add @bare { ip saddr }
  }
}
E
}
arrived() { # namespace
  ip netns exec $1 nft list table inet arrived | awk '$1=="set"{s=$2} $1=="elements"{gsub(",","",$4); print "SEEN", s, $4}'
  ip netns exec gw nft list table inet stages | awk '$1=="counter"&&NF==3{c=$2} $1=="packets"&&$2>0{print "STAGE", c}'
}
`

// TestTunnelInterfacesWithRealESP tries every case with every kind of tunnel interface.
func TestTunnelInterfacesWithRealESP(t *testing.T) {
	tally := lab.NewTally(t, "packets through tunnel interfaces of a kernel with ESP")
	m := newMachine(t)
	var b strings.Builder
	b.WriteString("for m in ip_gre ip_vti ipip xfrm_interface esp4_offload; do modprobe $m 2>/dev/null; done\n")
	b.WriteString(strings.ReplaceAll(prologue, "KEYS", cases.Keys) + watch)
	batch := func(ns string, lines []string) {
		fmt.Fprintf(&b, "ip -n %s -batch - <<'E'\n%s\nE\n", ns, strings.Join(lines, "\n"))
	}
	for _, i := range cases.Interfaces {
		for _, c := range cases.AllBy {
			gw, far := c.Batches(i)
			b.WriteString("echo CASE\nnew\n")
			batch("gw", gw)
			batch("wan", far)
			fmt.Fprintf(&b, "ip netns exec gw nft -f - <<'E'\n%s%sE\n", c.Rules, stages)
			b.WriteString("for n in gw wan; do ip netns exec $n sh -c 'for f in /proc/sys/net/ipv4/conf/*/rp_filter; do echo 0 >$f; done'; done\n")
			if c.Inbound {
				b.WriteString("watch lan\nip netns exec wan ping -n -c1 -W0.3 -I 10.2.0.5 10.1.0.10 >/dev/null 2>&1\narrived lan\n")
			} else {
				b.WriteString("watch wan\nip netns exec lan ping -n -c1 -W0.3 10.2.0.5 >/dev/null 2>&1\narrived wan\n")
			}
		}
	}
	parts := strings.Split(m.run(b.String(), 9*time.Minute), "CASE\n")
	require.Len(t, parts, 1+len(cases.Interfaces)*len(cases.AllBy), "%s", parts[len(parts)-1])
	at := 1
	for _, i := range cases.Interfaces {
		for _, c := range cases.AllBy {
			tally.Count(assert.Equal(t, onTheWire(c.Wants(i)), arrived(c, parts[at]), "%s, %s: Toril says %q\n%s", i.Name, c.Name, c.Wants(i), parts[at]))
			at++
		}
	}
}

// onTheWire is what a prediction means for those who watch the wire and the forward hook.
func onTheWire(want string) string {
	switch {
	case want == "dropped in forward":
		return "nothing, stopped in forward"
	case want == "dropped in route", want == "dropped in policy":
		return "nothing, never in forward"
	case strings.HasPrefix(want, "dropped"):
		return "nothing, passed forward"
	}
	return want
}

// arrived says what was seen.
func arrived(c cases.By, text string) string {
	seen, stage := map[string]string{}, map[string]bool{}
	for line := range strings.Lines(text) {
		switch f := strings.Fields(line); {
		case len(f) == 3 && f[0] == "SEEN":
			seen[f[1]] = f[2]
		case len(f) == 2 && f[0] == "STAGE":
			stage[f[1]] = true
		}
	}
	switch {
	case seen["esp"] != "":
		return "ESP from " + cmp.Or(seen["inner"], "?") + ", outer from " + seen["esp"]
	case seen["udp"] != "":
		return "UDP, outer from " + seen["udp"]
	case seen["wrapped"] != "":
		return "CLEAR, wrapped, from " + seen["wrapped"]
	case seen["bare"] != "":
		return "CLEAR from " + seen["bare"]
	case stage["after"]:
		return "nothing, passed forward"
	case stage["before"]:
		return "nothing, stopped in forward"
	}
	return "nothing, never in forward"
}
