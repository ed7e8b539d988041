package iptables_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/model"
	"toril/read/iptables"
	"toril/read/readtest"
)

// TestLongListsAreReadAhead holds a list that is long enough to be read on all processors against the same rules in short ones, whose lines
// are read one after the other.
func TestLongListsAreReadAhead(t *testing.T) {
	const opens = "*nat\n:POSTROUTING ACCEPT [0:0]\n:own - [0:0]\n"
	const filter = "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n:own - [0:0]\n:late - [0:0]\n"
	r := rand.New(rand.NewPCG(20261128, 5))
	odd := []string{
		"-A FORWARD -j own", "-A own -s 10.1.0.0/16 -j RETURN", "-A FORWARD -j WARBLE", "-A FORWARD -m warble --warble 3 -j DROP",
		"-A FORWARD -m set --match-set gone src -j ACCEPT", "[7:420] -A FORWARD -s 10.2.0.0/16 -p tcp -m tcp --dport 23 -j DROP",
		`-A FORWARD -m comment --comment "a \"remark\" -j DROP" -j ACCEPT`, "# -A FORWARD -j DROP", "", "-A FORWARD -g late",
		"-A FORWARD ! -s 10.0.0.0/8 -i lan+ -o wan -p udp -m multiport --dports 500,4500 -j ACCEPT", "-A INPUT -f -j DROP",
		"-A FORWARD -p tcp -m tcp --dport 80 -j LOG --log-prefix \"seen \"", "-N more", "-A FORWARD -s 10.0.0.1,10.0.0.9 -j ACCEPT",
		"-A FORWARD -m conntrack --ctstate NEW -j ACCEPT", " -A FORWARD -j DROP",
	}
	alike := map[string][]string{ // rules that differ in their addresses only
		"POSTROUTING": {"-s 10.%d.7.0/24 -j NETMAP --to 10.77.0.0/24"},
		"FORWARD": {
			"-s 10.%d.0.0/16 -p tcp -m tcp --dport 443 -j ACCEPT", "-d 172.16.%d.9 -i lan+ -p udp -m multiport --dports 500,4500 -j ACCEPT",
			"-s 10.%d.0.0/16 ! -d 10.9.0.0/16 -p icmp -m icmp --icmp-type 8 -j ACCEPT", "-d 10.%d.0.0/16 -s 10.8.0.0/16 -j DROP",
			"-s 10.%d.3.0/24 -m iprange --src-range 10.7.0.0-10.90.9.9 -m policy --dir in --pol none -j REJECT", "-s 10.%d.0.0/16",
			"-s 10.%d.0.0/16 -d 10.1.0.0/16 ! -p tcp -m conntrack --ctstate NEW -m limit --limit 5/sec -j LOG",
			"-s 10.%d.0.0/255.255.0.0 -j DROP", "-s 10.%d.0.0/16 -c 5 7 -j DROP", `-s 10.%d.1.1 -m comment --comment "-s x"`,
			"-s 10.%d.0.0/16 -d 10.1.2.0/24 -j MARK --set-xmark 0x7/0xff",
		},
	}
	rules := func(n int, chain, verb string) (out []string) {
		for range n {
			if some := alike[chain]; r.IntN(3) == 0 {
				counters := []string{"", "", fmt.Sprintf("[%d:900] ", r.IntN(50))}[r.IntN(3)]
				out = append(out, counters+"-A "+chain+" "+fmt.Sprintf(some[r.IntN(len(some))], r.IntN(90)))
				continue
			}
			if r.IntN(6) == 0 && chain == "FORWARD" {
				out = append(out, odd[r.IntN(len(odd))])
				continue
			}
			out = append(out, fmt.Sprintf("-A %s -s 10.%d.%d.0/%d -d 172.16.%d.0/24 -p tcp -m tcp --dport %d -j %s",
				chain, r.IntN(256), r.IntN(256), 24+r.IntN(2), r.IntN(256), 1+r.IntN(9000), verb))
		}
		return out
	}
	nat, all := rules(3000, "POSTROUTING", "ACCEPT"), rules(6000, "FORWARD", "ACCEPT")
	read := func(tables ...[]string) (told []string, unread []string, statements int) {
		text := ""
		for i, list := range tables {
			text += []string{opens, filter}[i] + strings.Join(list, "\n") + "\nCOMMIT\n"
		}
		g := readtest.Read(iptables.Save, "r.v4", text, nil)
		require.Empty(t, readtest.Problems(g))
		rows := strings.Split(text, "\n")
		for _, c := range g.Chains {
			for _, rule := range c.Rules {
				require.NotEmpty(t, rows[rule.At.Line-1])
				to := rule.Writes()
				told = append(
					told,
					fmt.Sprint(c.ID(), ": ", rows[rule.At.Line-1], " => ", readtest.Rule(rule), rule.Doubts.Says(), rule.Counter,
						rule.Packets, to.Addrs, to.Ports, to.From, to.Onto),
				)
			}
		}
		for _, u := range readtest.Unread(g) {
			_, what, _ := strings.Cut(u, ": ")
			unread = append(unread, what)
		}
		return told, unread, g.Files[0].Statements
	}
	got, gotUnread, gotStatements := read(nat, all)
	var want, wantUnread []string
	wantStatements, short := 0, 0
	for i, list := range [][]string{nat, all} {
		for from := 0; from < len(list); from += 500 {
			tables := [][]string{nil, nil}
			tables[i] = list[from : from+500]
			told, unread, statements := read(tables...)
			want, wantUnread = append(want, told...), append(wantUnread, unread...)
			wantStatements, short = wantStatements+statements, short+1
		}
	}
	slices.SortStableFunc(want, func(a, b string) int { return strings.Compare(chain(a), chain(b)) })
	slices.SortStableFunc(got, func(a, b string) int { return strings.Compare(chain(a), chain(b)) })
	assert.Equal(t, want, got)
	slices.Sort(wantUnread) // what hangs on other files is said when these were read
	slices.Sort(gotUnread)
	assert.Equal(t, wantUnread, gotUnread)
	assert.Greater(t, len(wantUnread), 100)
	_, _, none := read(nil, nil) // the tables and chains of each
	assert.Equal(t, wantStatements-short*none, gotStatements-none)
}

// chain is what stands before a rule.
func chain(told string) string {
	name, _, _ := strings.Cut(told, ":")
	return name
}

// TestLongListsOfIPv6: an address of IPv4 is refused there, also in a rule of which others have been read.
func TestLongListsOfIPv6(t *testing.T) {
	rule := "-A FORWARD -s 2001:db8:%x::/48 -p tcp -m tcp --dport 443 -j ACCEPT\n"
	text := "*filter\n:INPUT ACCEPT [0:0]\n:FORWARD ACCEPT [0:0]\n"
	for n := range 5000 {
		text += fmt.Sprintf(rule, n)
	}
	g := readtest.Read(iptables.Save, "r.v6", text+"-A FORWARD -s 10.7.0.0/16 -p tcp -m tcp --dport 443 -j ACCEPT\nCOMMIT\n", nil)
	problems := readtest.Problems(g)
	require.Len(t, problems, 1)
	assert.Regexp(t, `^r.v6:5004: .*"10.7.0.0/16" is not an IPv6 address, network or range$`, problems[0])
}

// TestWhereALongListFails: what was read ahead counts up to there as the rest does.
func TestWhereALongListFails(t *testing.T) {
	rule := "-A FORWARD -s 10.1.0.0/16 -d 172.16.0.0/24 -p tcp -m tcp --dport 443 -j ACCEPT\n"
	opens := "*filter\n:INPUT ACCEPT [0:0]\n:FORWARD ACCEPT [0:0]\n"
	for name, c := range map[string]struct {
		middle string
		line   int
		why    string
	}{
		"a rule":           {"-A FORWARD -p warble -j DROP\n", 2004, `"warble" is not a protocol`},
		"an address twice": {"-A FORWARD -s 10.1.0.0/16 -d 10.2.0.0/16 -s 10.3.0.0/16 -j DROP\n", 2004, "-s stands twice"},
		"a chain":          {"-A gone -p tcp -j DROP\n", 2004, "chain gone does not exist"},
		"a name in quotes": {`-N "\"a"` + "\n" + `-A "\"a" -j DROP` + "\n" + `-A "a -j DROP` + "\n", 2006, "chain a -j DROP.* does not exist"},
		"counters in quotes": {`["1:2] -A FORWARD -s 10.1.0.0/16 -d 172.16.0.0/24 -p tcp -m tcp --dport 443 -j ACCEPT` + "\n", 2004,
			"counters are two numbers in brackets, with a colon between"},
		"outside of a table": {"COMMIT\n", 2005, "it stands outside every table"},
		"of another table":   {"COMMIT\n*nat\n:POSTROUTING ACCEPT [0:0]\n", 2007, "chain FORWARD does not exist"},
		"a carriage return":  {"-A FORWARD -s 10.7.0.0/16 -j DROP\r\n", 2004, "a carriage return stands here"},
	} {
		g := readtest.Read(iptables.Save, "r.v4", opens+strings.Repeat(rule, 2000)+c.middle+strings.Repeat(rule, 3000)+"COMMIT\n", nil)
		problems := readtest.Problems(g)
		require.Len(t, problems, 1, name)
		assert.Regexp(t, fmt.Sprintf("^r.v4:%d: .*%s$", c.line, c.why), problems[0], name)
		i := slices.IndexFunc(g.Chains, func(c *model.Chain) bool { return c.Name == "FORWARD" })
		require.GreaterOrEqual(t, len(g.Chains[i].Rules), 2000, name)
		for n, r := range g.Chains[i].Rules[:2000] {
			require.Equal(t, 4+n, r.At.Line, name)
			require.Equal(t, model.Accept, r.Verb, name)
		}
	}
}
