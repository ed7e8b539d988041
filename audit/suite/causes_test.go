package suite_test

import (
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/demo"
)

// audited audits files by the usual baseline.
func audited(t *testing.T, fsys fs.FS) *audit.Result {
	t.Helper()
	b, err := baseline.Named(baseline.Default)
	require.NoError(t, err)
	return run(t, fsys, suite.All(), b)
}

// all keeps what everywhere found: it takes a while.
var all map[string]*audit.Result

// everywhere are all estates of the tests, each with what was found in it.
func everywhere(t *testing.T) (out map[string]*audit.Result) {
	if all != nil {
		return all
	}
	defer func() { all = out }()
	out = map[string]*audit.Result{"demo": audited(t, demo.Estate())}
	for _, s := range samples(t) {
		out["sample "+s.name] = s.result
	}
	files, err := filepath.Glob("testdata/cases/*.txtar")
	require.NoError(t, err)
	for _, file := range files {
		fsys, _ := caseFiles(t, file)
		out[file] = audited(t, fsys)
	}
	return out
}

// TestEveryFindingIsReachable: a finding stands by itself, or is a part of one that does and is at least as severe; no finding is lost,
// and none is in two causes.
func TestEveryFindingIsReachable(t *testing.T) {
	folded := 0
	for name, r := range everywhere(t) {
		byID := map[string]*audit.Finding{}
		for _, f := range r.Findings {
			require.Nil(t, byID[f.ID], "%s: two findings have one id", name)
			byID[f.ID] = f
		}
		shown := map[string]int{}
		for _, c := range r.Causes() {
			shown[c.ID]++
			for _, p := range c.Parts {
				shown[p.ID]++
				folded++
				assert.LessOrEqual(t, p.Severity, c.Severity, "%s: %s is less than its part %s", name, c.Check, p.Check)
				assert.Empty(t, c.PartOf)
			}
		}
		for _, f := range r.Findings {
			want := 1
			if f.Accepted != nil {
				want = 0
			}
			assert.Equal(t, want, shown[f.ID], "%s: %s", name, f.Check)
		}
	}
	assert.Greater(t, folded, 100)
}

// TestADeadTunnelIsHigh: a tunnel that never comes up, passes nothing or dies at its first rekey has a finding that is high or worse; and
// what leaks has one that is.
func TestADeadTunnelIsHigh(t *testing.T) {
	dead, leaks, up := 0, 0, 0
	for name, r := range everywhere(t) {
		if strings.HasPrefix(name, "sample ") { // they ask some checks only
			continue
		}
		worst := map[string]audit.Severity{}
		for _, f := range r.Findings {
			if f.Unsure == "" {
				worst[f.Tunnel] = max(worst[f.Tunnel], f.Severity)
			}
		}
		for _, tu := range r.Tunnels {
			switch tu.State {
			case audit.Never, audit.Dies, audit.Mute:
				dead++
				assert.GreaterOrEqual(t, worst[tu.Name], audit.High, "%s: %s %s", name, tu.Name, tu.Says())
			case audit.ComesUp:
				up++
			}
			if tu.Leaks {
				leaks++
				assert.GreaterOrEqual(t, worst[tu.Name], audit.High, "%s: %s leaks", name, tu.Name)
			}
		}
	}
	assert.Greater(t, dead, 20)
	assert.Greater(t, leaks, 3)
	assert.Greater(t, up, 60)
}

// gate is a gateway's swanctl.conf for a tunnel between two of them; more stands in the child.
func gate(own, peer int, proposals, esp, local, remote, more string) *fstest.MapFile {
	return &fstest.MapFile{Data: []byte(fmt.Sprintf(`connections {
  to%[2]d {
    version = 2
    local_addrs = 198.51.100.%[1]d
    remote_addrs = 198.51.100.%[2]d
    proposals = %[3]s
    dpd_delay = 30s
    rekey_time = 4h
    local {
      auth = psk
      id = g%[1]d.example
    }
    remote {
      auth = psk
      id = g%[2]d.example
    }
    children {
      net {
        local_ts = %[5]s
        remote_ts = %[6]s
        esp_proposals = %[4]s
        start_action = trap
        %[7]s
      }
    }
  }
}
secrets {
  ike-1 {
    id-1 = g1.example
    id-2 = g2.example
    secret = 0sVnq7xP2mLw9cR4tYb8kZ1sJ6hD3fG5aE0uQiXoNyMzWp
  }
}
`, own, peer, proposals, esp, local, remote, more))}
}

// addr is what ip(8) says of a gateway with a network behind it, and routes its routes.
func network(own int, behind ...string) (addr, routes *fstest.MapFile) {
	a := "1: lo: <LOOPBACK,UP,LOWER_UP> mtu 65536 state UNKNOWN\n    inet 127.0.0.1/8 scope host lo\n" +
		fmt.Sprintf("2: wan: <BROADCAST,UP,LOWER_UP> mtu 1500 state UP\n    inet 198.51.100.%d/24 scope global wan\n", own)
	r := "default via 198.51.100.254 dev wan\n" + fmt.Sprintf("198.51.100.0/24 dev wan proto kernel scope link src 198.51.100.%d\n", own)
	for i, n := range behind {
		a += fmt.Sprintf("%d: lan%d: <BROADCAST,UP,LOWER_UP> mtu 1500 state UP\n    inet %s.1/24 scope global lan%d\n", i+3, i, n, i)
		r += fmt.Sprintf("%s.0/24 dev lan%d proto kernel scope link src %s.1\n", n, i, n)
	}
	return &fstest.MapFile{Data: []byte(a)}, &fstest.MapFile{Data: []byte(r)}
}

// cause returns the cause that a check's finding at a gateway leads, and the names of its parts.
func cause(t *testing.T, r *audit.Result, check, gateway string) (audit.Cause, []string) {
	t.Helper()
	for _, c := range r.Causes() {
		if c.Check == check && (gateway == "" || c.Gateway == gateway) {
			var parts []string
			for _, p := range c.Parts {
				parts = append(parts, p.Check+" "+p.Gateway)
			}
			return c, parts
		}
	}
	for _, f := range r.Findings {
		t.Log(f.Severity, f.Check, f.Subject(), f.PartOf)
	}
	require.Fail(t, "no such cause", "%s of %s", check, gateway)
	return audit.Cause{}, nil
}

// TestAWeakValueOnBothEndsIsOneCause, and one that only one end has is another.
func TestAWeakValueOnBothEndsIsOneCause(t *testing.T) {
	weak := "aes256-sha256-modp1024"
	r := audited(t, fstest.MapFS{
		"g1/swanctl.conf": gate(1, 2, weak, "aes256gcm16-ecp384", "10.1.0.0/24", "10.2.0.0/24", ""),
		"g2/swanctl.conf": gate(2, 1, weak, "aes256gcm16-ecp384", "10.2.0.0/24", "10.1.0.0/24", ""),
	})
	_, parts := cause(t, r, "ike/weak-algorithm", "g1")
	assert.Equal(t, []string{"ike/weak-algorithm g2"}, parts)
	r = audited(t, fstest.MapFS{
		"g1/swanctl.conf": gate(
			1,
			2,
			"aes256gcm16-prfsha384-ecp384",
			"aes256gcm16",
			"10.1.0.0/24",
			"10.2.0.0/24",
			"life_time = 40h\n rekey_time = 38h",
		),
		"g2/swanctl.conf": gate(
			2,
			1,
			"aes256gcm16-prfsha384-ecp384",
			"aes256gcm16",
			"10.2.0.0/24",
			"10.1.0.0/24",
			"life_time = 40h\n rekey_time = 38h",
		),
	})
	_, parts = cause(t, r, "pfs/absent", "")
	assert.Len(t, parts, 1)
	_, parts = cause(t, r, "life/child-too-long", "")
	assert.Contains(t, parts, "life/child-too-long g2")
}

// rules are a packet filter with NAT rules of a gateway.
func rules(forward, nat string) *fstest.MapFile {
	return &fstest.MapFile{Data: []byte("table inet f {\n chain input {\n  type filter hook input priority 0; policy drop;\n" +
		"  ct state established,related accept\n  udp dport { 500, 4500 } accept\n  meta l4proto esp accept\n }\n chain forward {\n" +
		"  type filter hook forward priority 0; policy drop;\n  ct state established,related accept\n" + forward + " }\n chain post {\n" +
		"  type nat hook postrouting priority 100; policy accept;\n" + nat + " }\n}\n")}
}

// TestExemptionsFoldIntoWhatBecomesOfPackets: that an exemption is late, or too narrow, is a part of what NAT does to the traffic.
func TestExemptionsFoldIntoWhatBecomesOfPackets(t *testing.T) {
	pass := "  ip saddr 10.1.0.0/16 oifname \"wan\" accept\n  ip daddr 10.1.0.0/16 meta ipsec exists tcp dport 443 accept\n"
	addr, routes := network(1, "10.1.0")
	files := func(nat string) fstest.MapFS {
		return fstest.MapFS{
			"g1/swanctl.conf": gate(1, 2, "aes256gcm16-prfsha384-ecp384", "aes256gcm16-ecp384", "10.1.0.0/24", "10.2.0.0/24", ""),
			"g1/rules.nft":    rules(pass, nat), "g1/addr.txt": addr, "g1/routes.txt": routes,
			"g2/swanctl.conf": gate(2, 1, "aes256gcm16-prfsha384-ecp384", "aes256gcm16-ecp384", "10.2.0.0/24", "10.1.0.0/24", ""),
		}
	}
	r := audited(t, files("  oifname \"wan\" masquerade\n  ip daddr 10.2.0.0/24 accept\n"))
	c, parts := cause(t, r, "nat/rewritten", "g1")
	assert.Contains(t, parts, "nat/late-exemption g1")
	assert.Equal(t, audit.Critical, c.Severity)
	r = audited(t, files("  ip daddr 10.2.0.0/25 accept\n  oifname \"wan\" masquerade\n"))
	_, parts = cause(t, r, "nat/rewritten", "g1")
	assert.Contains(t, parts, "nat/narrow-exemption g1")
	for _, tu := range r.Tunnels {
		assert.True(t, tu.Leaks)
	}
}

// TestAnAddedNetworkIsOneCause: a network that was added on one end only gives a selector that is not mirrored, NAT that no exemption
// covers and a filter that nobody opened: one cause.
func TestAnAddedNetworkIsOneCause(t *testing.T) {
	addr, routes := network(1, "10.1.0", "10.1.9")
	r := audited(t, fstest.MapFS{
		"g1/swanctl.conf": gate(
			1,
			2,
			"aes256gcm16-prfsha384-ecp384",
			"aes256gcm16-ecp384",
			"10.1.0.0/24, 10.1.9.0/24",
			"10.2.0.0/24",
			"",
		),
		"g1/rules.nft": rules(
			"  ip saddr 10.1.0.0/24 ip daddr 10.2.0.0/24 accept\n  ip saddr 10.2.0.0/24 ip daddr 10.1.0.0/24 tcp dport 443 accept\n",
			"  ip saddr 10.1.0.0/24 ip daddr 10.2.0.0/24 accept\n  oifname \"wan\" masquerade\n",
		),
		"g1/addr.txt": addr, "g1/routes.txt": routes,
		"g2/swanctl.conf": gate(2, 1, "aes256gcm16-prfsha384-ecp384", "aes256gcm16-ecp384", "10.2.0.0/24", "10.1.0.0/24", ""),
	})
	_, parts := cause(t, r, "nat/rewritten", "g1")
	for _, want := range []string{"ends/not-mirrored g1", "nat/narrow-exemption g1", "access/blocked g1"} {
		assert.Contains(t, parts, want)
	}
}

// TestAChildOnOneEndIsOneCause: a whole child that only one end has is refused, has no route and is let in by no filter: one cause.
func TestAChildOnOneEndIsOneCause(t *testing.T) {
	fsys, _ := caseFiles(t, "testdata/cases/child-on-one-side.txtar")
	c, parts := cause(t, audited(t, fsys), "ends/not-mirrored", "")
	assert.Equal(t, audit.High, c.Severity)
	assert.ElementsMatch(t, []string{"access/blocked " + c.Gateway, "route/no-return " + c.Gateway}, parts)
}

// TestABlanketRuleCarriesWhatItHides: the rules behind it that it shadows are a part of it, and so is that it does not log.
func TestABlanketRuleCarriesWhatItHides(t *testing.T) {
	addr, routes := network(1, "10.1.0")
	r := audited(t, fstest.MapFS{
		"g1/swanctl.conf": gate(1, 2, "aes256gcm16-prfsha384-ecp384", "aes256gcm16-ecp384", "10.1.0.0/24", "10.2.0.0/24", ""),
		"g1/rules.nft": rules(
			"  meta ipsec exists accept\n  meta ipsec exists ip saddr 10.2.0.66 drop\n  meta ipsec exists tcp dport 23 drop\n"+
				"  ip saddr 10.1.0.0/24 oifname \"wan\" accept\n",
			"  rt ipsec exists accept\n  oifname \"wan\" masquerade\n",
		),
		"g1/addr.txt": addr, "g1/routes.txt": routes,
		"g2/swanctl.conf": gate(2, 1, "aes256gcm16-prfsha384-ecp384", "aes256gcm16-ecp384", "10.2.0.0/24", "10.1.0.0/24", ""),
	})
	c, parts := cause(t, r, "access/any-from-tunnel", "g1")
	assert.Equal(t, 11, c.At.Line)
	assert.Contains(t, parts, "access/blanket g1")
	assert.Contains(t, parts, "access/no-log g1")
	shadowed := 0
	for _, p := range parts {
		if p == "access/shadowed g1" {
			shadowed++
		}
	}
	assert.Equal(t, 2, shadowed)
}

// TestManyRedundantRulesAreOneCause, with a count, ranges and the most telling.
func TestManyRedundantRulesAreOneCause(t *testing.T) {
	var forward strings.Builder
	for i := range 400 {
		fmt.Fprintf(&forward, "  ip saddr 10.1.%d.%d tcp dport 443 accept\n", i/200, 1+i%200)
		if i == 199 {
			forward.WriteString("  ip saddr 192.0.2.9 tcp dport 22 accept\n")
		}
	}
	forward.WriteString("  ip saddr 10.1.0.0/16 accept\n")
	r := audited(t, fstest.MapFS{"g1/rules.nft": rules(forward.String(), "")})
	c, parts := cause(t, r, "access/redundant", "g1")
	assert.Len(t, parts, 100, "a hundred each, and one of all others")
	s, ok := c.SeriesOf("access/redundant")
	require.True(t, ok)
	assert.Equal(t, 400, s.Count)
	assert.Equal(t, "11-210, 212-411", s.Ranges)
	require.Len(t, s.Telling, 1, "the first of each run, where it is a finding of its own")
	assert.Equal(t, 11, s.Telling[0].At.Line)
}

// TestWhatBecomesOfTunnels names the state of every tunnel of the demonstration estate.
func TestWhatBecomesOfTunnels(t *testing.T) {
	got := map[string]string{}
	r := audited(t, demo.Estate())
	for _, tu := range r.Tunnels {
		got[r.Short(tu)] = tu.State.Mark() + " " + tu.Says()
	}
	assert.Equal(t, map[string]string{
		"breakwater <> fogbank":    "○ never comes up · leaks",
		"buoyyard <> lampwright":   "● comes up · leaks",
		"almanac <> breakwater":    "◑ comes up only if almanac initiates, by hand · leaks while down",
		"almanac <> pilothouse":    "○ never comes up",
		"fogbank <> pilothouse":    "◔ comes up, dies after 1 h",
		"lampwright <> quayside":   "◔ comes up, dies after 1 h",
		"breakwater <> pilothouse": "● comes up",
		"headland <> skerry":       "● comes up",
	}, got)
}

// TestRulesBeyondAHundredAreOneFinding: it tells of all of them, keeps its identity when there are more, and blames what hides all of them.
func TestRulesBeyondAHundredAreOneFinding(t *testing.T) {
	others := func(blanket string, n int) *audit.Finding {
		var forward strings.Builder
		forward.WriteString(blanket)
		for i := range n {
			fmt.Fprintf(&forward, "  ip saddr 10.%d.%d.%d tcp dport 443 drop\n", 1+i%2, i/200, 1+i%200)
		}
		r := audited(t, fstest.MapFS{"g1/rules.nft": rules(forward.String(), "")})
		var own, found []*audit.Finding
		for _, f := range r.Findings {
			switch {
			case f.Check != "access/shadowed":
			case f.Others == nil:
				own = append(own, f)
			default:
				found = append(found, f)
			}
		}
		assert.Len(t, own, 100)
		require.Len(t, found, 1)
		return found[0]
	}
	const one, two = "  ip saddr 10.0.0.0/8 accept\n", "  ip saddr 10.1.0.0/16 accept\n  ip saddr 10.2.0.0/16 accept\n"
	f := others(one, 250)
	assert.Equal(t, "no packet reaches 150 more rules of chain forward: earlier rules match them all", f.Message)
	assert.Equal(t, audit.Medium, f.Severity)
	assert.Equal(t, "112-261", f.Places().String())
	require.Len(t, f.Also, 1)
	assert.Equal(t, 11, f.Also[0].Line)
	more := others(one, 300)
	assert.Equal(t, "112-311", more.Places().String())
	assert.Equal(t, f.ID, more.ID)
	assert.Empty(t, others(two, 250).Also, "nothing hides all of them")
}
