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

// prologue makes, for each case anew: lan 10.1.0.10 -- lan0 gw wan0 -- wan, which has the peer and the hosts behind it.
const prologue = `
echo 1 >/proc/sys/net/ipv4/ip_forward
for f in all default; do echo 0 >/proc/sys/net/ipv4/conf/$f/rp_filter; done
K=0
new() { # a number for the names of the namespaces: to take the former down costs more than to leave them
  K=$((K+1)) lan=lan$K gw=gw$K wan=wan$K
  printf "netns add $lan\nnetns add $gw\nnetns add $wan\nlink add lan0 netns $gw type veth peer name eth0 netns $lan\nlink add wan0 netns $gw type veth peer name eth0 netns $wan\n" | ip -batch -
  printf 'link set lo up\naddr add 10.1.0.10/24 dev eth0\naddr add 10.9.0.10/32 dev eth0\nlink set eth0 up\nroute add default via 10.1.0.1\n' | ip -n $lan -batch -
  printf 'link set lo up\naddr add 10.1.0.1/24 dev lan0\naddr add 198.51.100.1/24 dev wan0\nlink set lan0 up\nlink set wan0 up\nroute add default via 198.51.100.254\n' | ip -n $gw -batch -
  printf 'link set lo up\naddr add 198.51.100.254/24 dev eth0\nlink set eth0 up\naddr add 203.0.113.9/32 dev lo\naddr add 10.2.0.5/32 dev lo\naddr add 10.3.0.5/32 dev lo\nroute add default via 198.51.100.1\nxfrm state add src 198.51.100.1 dst 203.0.113.9 proto esp spi 0x1 mode tunnel KEYS\n' | ip -n $wan -batch -
}
look() { # a namespace, in which the standard input is loaded
  ip netns exec $1 nft -f -
}
shown() { # a namespace's table: what its sets hold; and what the gateway has counted
  ip netns exec $1 nft list table inet $2 | awk '$1=="set"{s=$2} $1=="elements"{gsub(",","",$4); print "SEEN", s, $4}'
  ip netns exec $gw nft list table inet stages | awk '$1=="counter"&&NF==3{c=$2} $1=="packets"&&$2>0{print "STAGE", c}'
}
watch() { # namespace
  look $1 <<'E'
table inet seen {
  set outer { type ipv4_addr; flags dynamic; size 64; }
  set inner { type ipv4_addr; flags dynamic; size 64; }
  set clear { type ipv4_addr; flags dynamic; size 64; }
  chain p { type filter hook prerouting priority -300;
    meta l4proto esp add @outer { ip saddr }
    icmp type echo-request meta ipsec exists add @inner { ip saddr }
    icmp type echo-request meta ipsec missing add @clear { ip saddr }
  }
}
E
}
`

// stages counts, at the gateway, what gets to its forward hook and what leaves it.
const stages = `table inet stages {
  counter before {
  }
  counter after {
  }
  chain b { type filter hook forward priority -400;
    icmp type echo-request counter name "before"
  }
  chain a { type filter hook forward priority 400;
    icmp type echo-request counter name "after"
  }
}
`

// TestCasesWithRealESP runs every case in a stock kernel: what arrives, with which source, and where the rest was stopped.
func TestCasesWithRealESP(t *testing.T) {
	tally := lab.NewTally(t, "packets through a kernel with ESP")
	t.Parallel()
	m := machine.New(t)
	outbound, inbound := lab.Half(cases.All, 0), lab.Half(cases.AllInbound, 1)
	var b strings.Builder
	b.WriteString(strings.ReplaceAll(prologue, "KEYS", cases.Keys))
	begin := func(rules string, batch []string) {
		b.WriteString("echo CASE\nnew\n")
		if len(batch) > 0 {
			fmt.Fprintf(&b, "ip -n $gw -batch - <<'E'\n%s\nE\n", strings.Join(batch, "\n"))
		}
		fmt.Fprintf(&b, "look $gw <<'E'\n%s%sE\n", rules, stages)
	}
	for _, c := range outbound {
		var batch []string
		for r := range strings.Lines(c.Routes) {
			batch = append(batch, "route add "+strings.TrimSpace(r))
		}
		begin(c.Rules, append(batch, c.Policies()...))
		fmt.Fprintf(
			&b,
			"watch $wan\nip netns exec $lan ping -n -c1 -W0.4 -I %s %s >/dev/null 2>&1\nshown $wan seen\n",
			cmp.Or(c.From, "10.1.0.10"),
			cmp.Or(c.To, "10.2.0.5"),
		)
	}
	for _, c := range inbound {
		begin(c.Rules, c.Policies())
		if !c.Clear {
			fmt.Fprintf(
				&b,
				"ip -n $wan -batch - <<'E'\nxfrm state add src 203.0.113.9 dst 198.51.100.1 proto esp spi 0x2 mode tunnel %s\n"+
					"xfrm policy add src 10.2.0.0/24 dst 10.1.0.0/24 dir out tmpl src 203.0.113.9 dst 198.51.100.1 proto esp mode "+
					"tunnel\nE\n",
				cases.Keys,
			)
		}
		b.WriteString("watch $lan\nip netns exec $wan ping -n -c1 -W0.4 -I 10.2.0.5 10.1.0.10 >/dev/null 2>&1\nshown $lan seen\n")
	}
	parts := strings.Split(m.Run(b.String(), 8*time.Minute), "CASE\n")
	require.Len(t, parts, 1+len(outbound)+len(inbound), "%s", parts[len(parts)-1])
	t.Log(strings.TrimSpace(parts[0]))
	for i, c := range outbound {
		tally.Count(assert.Equal(t, wire(c.Want), observed(parts[1+i]), "%s: Toril says %q\n%s", c.Name, c.Want, parts[1+i]))
	}
	for i, c := range inbound {
		want, got := cmp.Or(c.Inner, c.ESP), parts[1+len(outbound)+i]
		tally.Count(assert.Equal(t, wire(want), observed(got), "%s: Toril says %q\n%s", c.Name, want, got))
	}
}

// wire is what a prediction means for those who watch the wire and the forward hook.
func wire(want string) string {
	switch {
	case strings.HasPrefix(want, "ESP from") && strings.Contains(want, "outer dropped"):
		return "nothing, passed forward"
	case want == "dropped in forward":
		return "nothing, stopped in forward"
	case want == "dropped in postrouting", want == "dropped in encapsulation":
		return "nothing, passed forward"
	case strings.HasPrefix(want, "dropped in"):
		return "nothing, never in forward"
	}
	return want
}

// observed says what was seen.
func observed(text string) string {
	seen, stage := map[string]string{}, map[string]bool{}
	for line := range strings.Lines(text) {
		switch f := strings.Fields(line); {
		case len(f) == 3 && f[0] == "SEEN":
			seen[f[1]] = strings.TrimSuffix(f[2], ",")
		case len(f) == 2 && f[0] == "STAGE":
			stage[f[1]] = true
		}
	}
	switch {
	case seen["outer"] != "":
		return "ESP from " + cmp.Or(seen["inner"], "?") + ", outer from " + seen["outer"]
	case seen["clear"] != "":
		return "CLEAR from " + seen["clear"]
	case stage["after"]:
		return "nothing, passed forward"
	case stage["before"]:
		return "nothing, stopped in forward"
	}
	return "nothing, never in forward"
}
