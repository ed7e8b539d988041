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
	"toril/lab/machine"
)

// watch counts, at the far end or behind the gateway, what arrives.
const watch = `
watchBy() { # namespace
  look $1 <<'E'
table inet arrived {
  set sealed { type ipv4_addr; flags dynamic; size 64; }
  set ported { type ipv4_addr; flags dynamic; size 64; }
  set wrapped { type ipv4_addr; flags dynamic; size 64; }
  set inner { type ipv4_addr; flags dynamic; size 64; }
  set bare { type ipv4_addr; flags dynamic; size 64; }
  chain p { type filter hook prerouting priority -301;
    meta l4proto esp add @sealed { ip saddr }
    udp dport 4500 add @ported { ip saddr }
    iifname "eth0" meta l4proto { 4, 47 } meta ipsec missing add @wrapped { ip saddr }
    iifname "t0" icmp type echo-request add @inner { ip saddr }
    iifname "eth0" icmp type echo-request add @bare { ip saddr }
  }
}
E
}
`

// TestTunnelInterfacesWithRealESP tries the cases with every kind of tunnel interface.
func TestTunnelInterfacesWithRealESP(t *testing.T) {
	tally := lab.NewTally(t, "packets through tunnel interfaces of a kernel with ESP")
	t.Parallel()
	m := machine.New(t)
	for n, i := range cases.Interfaces {
		all := lab.Half(cases.AllBy, n)
		t.Run(i.Name, func(t *testing.T) {
			t.Parallel()
			parts := strings.Split(m.Run(byScript(i, all), 5*time.Minute), "CASE")
			require.Len(t, parts, 1+len(all), "%s", parts[len(parts)-1])
			for k, c := range all {
				tally.Count(
					assert.Equal(
						t,
						onTheWire(c, c.Wants(i)),
						arrived(parts[1+k]),
						"%s: Toril says %q\n%s",
						c.Name,
						c.Wants(i),
						parts[1+k],
					),
				)
			}
		})
	}
}

// byScript tries cases with a kind of interface.
func byScript(i cases.Interface, all []cases.By) string {
	var b strings.Builder
	b.WriteString("for m in ip_gre ip_vti ipip xfrm_interface; do modprobe $m 2>/dev/null; done\n")
	b.WriteString(strings.ReplaceAll(prologue, "KEYS", cases.Keys) + watch)
	batch := func(ns string, lines []string) {
		fmt.Fprintf(&b, "ip -n $%s -batch - <<'E'\n%s\nE\n", ns, strings.Join(lines, "\n"))
	}
	for _, c := range all {
		gw, far := c.Batches(i)
		b.WriteString("echo CASE\nnew\n")
		batch("gw", gw)
		batch("wan", far)
		fmt.Fprintf(&b, "look $gw <<'E'\n%s%sE\n", c.Rules, stages)
		at, ping := "wan", "lan ping -n -c1 -W0.3 10.2.0.5"
		if c.Inbound {
			at, ping = "lan", "wan ping -n -c1 -W0.3 -I 10.2.0.5 10.1.0.10"
		}
		fmt.Fprintf(&b, "watchBy $%s\nip netns exec $%s >/dev/null 2>&1\nshown $%s arrived\n", at, ping, at)
	}
	return b.String()
}

// onTheWire is what a prediction means for those who watch the wire and the forward hook.
func onTheWire(c cases.By, want string) string {
	switch {
	case strings.HasPrefix(want, "ESP") && c.Encap:
		return "UDP, outer" + want[strings.LastIndex(want, " from"):]
	case want == "dropped in forward":
		return "nothing, stopped in forward"
	case want == "dropped in route", want == "dropped in input":
		return "nothing, never in forward"
	case strings.Contains(want, "dropped"):
		return "nothing, passed forward"
	}
	return want
}

// arrived says what was seen.
func arrived(text string) string {
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
	case seen["sealed"] != "":
		return "ESP from " + cmp.Or(seen["inner"], "?") + ", outer from " + seen["sealed"]
	case seen["ported"] != "":
		return "UDP, outer from " + seen["ported"]
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
