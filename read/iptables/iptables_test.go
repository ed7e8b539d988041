package iptables_test

import (
	"maps"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/internal/cputime"
	"toril/model"
	"toril/packet"
	"toril/read"
	"toril/read/iproute"
	"toril/read/iptables"
	"toril/read/readtest"
	"toril/source"
)

const sets = `create peers hash:ip family inet hashsize 1024
add peers 192.0.2.1
add peers 198.51.100.7
create nets hash:net,port family inet
add nets 10.1.0.0/16,tcp:22
add nets 10.2.0.0/16,53
create holes hash:net family inet
add holes 10.0.0.0/8
add holes 10.5.0.0/16 nomatch
create old hash:ip timeout 300
add old 10.9.9.9
create all list:set size 8
add all peers
create six hash:net family inet6
add six fd00::/8
`

// table reads rules of the filter table's chain FORWARD.
func table(lines string) *model.Gateway {
	return readtest.ReadAll([]*read.Format{iptables.Sets, iptables.Save}, map[string]string{
		"a.ipset": sets, "b.rules": "*filter\n:FORWARD DROP [0:0]\n:vpn - [0:0]\n" + lines + "\nCOMMIT\n"})
}

// meanings are rules, and what they mean; "" where they are not read.
func meanings() map[string]string {
	return map[string]string{
		`-j ACCEPT`:                             "any IPv4 -> accept",
		`-s 10.1.0.0/16 -d 10.2.0.5/32 -j DROP`: "10.1.0.0/16 > 10.2.0.5 -> drop",
		`! -s 10.0.0.0/8 -j DROP`: "0.0.0.0/5, 8.0.0.0/7, 11.0.0.0-255.255.255.255 > " +
			"any -> drop",
		`-s 10.0.0.0/255.0.0.0 -j DROP`:      "10.0.0.0/8 > any -> drop",
		`-s 0.0.0.0/0 -j DROP`:               "any IPv4 -> drop",
		`-i eth0 ! -o wan+ -j ACCEPT`:        "any IPv4 in on eth0 out via any but wan* -> accept",
		`-p tcp -m tcp --dport 22 -j ACCEPT`: "any IPv4 tcp port 22 -> accept",
		`-p tcp -m tcp --sport 1024:65535 --dport :80 -j ACCEPT`: "any IPv4 tcp from port 1024-65535 port 0-80 -> " +
			"accept",
		`-p tcp -m multiport --dports 22,80:90,https -j ACCEPT`: "any IPv4 tcp port 22, 80-90, 443 -> accept",
		`-p tcp -m multiport ! --dports 22 -j ACCEPT`:           "any IPv4 tcp port not 22 -> accept",
		`-p udp -m multiport --ports 53 -j ACCEPT`: "any IPv4 udp from port 53; any IPv4 udp port 53 " +
			"-> accept",
		`! -p tcp -j DROP`:                        "any IPv4 not tcp -> drop",
		`-p esp -j ACCEPT`:                        "any IPv4 esp -> accept",
		`-p icmp -m icmp --icmp-type 8 -j ACCEPT`: "any IPv4 icmp type 8 -> accept",
		`-p icmp -m icmp --icmp-type fragmentation-needed -j ACCEPT`:     "any IPv4 icmp type 3/4 -> accept",
		`-p icmp -m icmp --icmp-type 3/4 -j ACCEPT`:                      "any IPv4 icmp type 3/4 -> accept",
		`-p icmp -m icmp --icmp-type any -j ACCEPT`:                      "any IPv4 icmp -> accept",
		`-m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT`:           "any IPv4 established, related -> accept",
		`-m state --state NEW -j LOG --log-prefix "new: " --log-level 4`: "any IPv4 new -> continue log",
		`-m conntrack ! --ctstate INVALID -j RETURN`: "any IPv4 new, established, related, untracked -> " +
			"return",
		`-m conntrack --ctstate DNAT -j ACCEPT`:    "any IPv4 translated destination, both -> accept",
		`-m conntrack --ctdir REPLY -j ACCEPT`:     "any IPv4 replies -> accept",
		`-m policy --dir in --pol ipsec -j ACCEPT`: "any IPv4 decrypted -> accept",
		`-m policy --dir out --pol none -j ACCEPT`: "any IPv4 in the clear -> accept",
		`-m policy --dir in --pol ipsec --mode tunnel --tunnel-src 198.51.100.7 -g vpn`: "any IPv4 decrypted from 198.51.100.7 -> goto ip " +
			"filter vpn",
		`-m policy --dir in --pol ipsec --reqid 5 -j ACCEPT`: "any IPv4 decrypted if the reqid of the SA -> " +
			"accept",
		`-m policy --dir out --pol ipsec --proto esp -j ACCEPT`: "any IPv4 to be encrypted if the proto of the SA " +
			"-> accept",
		`-m iprange --src-range 10.1.0.5-10.1.0.9 -j ACCEPT`:        "10.1.0.5-10.1.0.9 > any -> accept",
		`-m iprange ! --dst-range 0.0.0.0-10.255.255.255 -j ACCEPT`: "any > 11.0.0.0-255.255.255.255 -> accept",
		`-m mark --mark 0x10 -j ACCEPT`:                             "any IPv4 mark 0x10 -> accept",
		`-m mark --mark 0x1/0xff -j ACCEPT`:                         "any IPv4 if single bits of the mark -> accept",
		`-m set --match-set peers src -j ACCEPT`:                    "192.0.2.1, 198.51.100.7 > any -> accept",
		`-m set ! --match-set peers src -p udp -j DROP`: "0.0.0.0-192.0.2.0, 192.0.2.2-198.51.100.6, " +
			"198.51.100.8-255.255.255.255 > any udp -> drop",
		`-m set --match-set nets dst,dst -j ACCEPT`: "any > 10.1.0.0/16 tcp port 22; any > 10.2.0.0/16 " +
			"tcp port 53 -> accept",
		`-m set --match-set holes dst -j ACCEPT`: "any > 10.0.0.0/14, 10.4.0.0/16, " +
			"10.6.0.0-10.255.255.255 -> accept",
		`-m set --match-set old src -j DROP`: "any IPv4 if set old: its elements expire -> drop",
		`-m set --match-set all src -j vpn`: "192.0.2.1, 198.51.100.7 > any -> jump ip filter " +
			"vpn",
		`-m limit --limit 5/min --limit-burst 7 -j REJECT --reject-with icmp-port-unreachable`: "any IPv4 if module limit -> reject",
		`-m addrtype --dst-type LOCAL -j DROP`:                                                 "any IPv4 if module addrtype -> drop",
		`-p tcp --syn -j DROP`:                                                                 "any IPv4 tcp if tcp flags -> drop",
		`-p tcp -m tcp --tcp-flags SYN,RST SYN -j TCPMSS --clamp-mss-to-pmtu`:                  "any IPv4 tcp if tcp flags -> continue",
		`-f -j DROP`: "any IPv4 if fragments -> drop",
		`-m comment --comment "a \"quoted\" word" -j ACCEPT`:    "any IPv4 -> accept",
		`-j MARK --set-xmark 0x10/0xffffffff`:                   "any IPv4 -> continue mark 0x10",
		`-j MARK --set-mark 0x10/0xf0`:                          "any IPv4 -> continue mark 0x10/0xf0 any=false",
		`-j MARK --or-mark 0x4`:                                 "any IPv4 -> continue mark 0x4/0x4 any=false",
		`-j MARK --and-mark 0xf`:                                "any IPv4 -> continue mark 0x0/0xfffffff0 any=false",
		`-j CONNMARK --restore-mark`:                            "any IPv4 -> continue mark 0x0 copied",
		`-j CONNMARK --save-mark --nfmask 0xff --ctmask 0xff`:   "any IPv4 -> continue connection mark 0x0 copied/0xff any=false",
		`-j CONNMARK --save-mark --nfmask 0xff --ctmask 0xff00`: "any IPv4 -> continue connection mark 0x0/0xff00 any=true",
		`-j CONNMARK --set-xmark 0x20/0xffffffff`:               "any IPv4 -> continue connection mark 0x20",
		`-m connmark --mark 0x20 -j ACCEPT`:                     "any IPv4 connection mark 0x20 -> accept",
		`-m connmark ! --mark 0 -j ACCEPT`:                      "any IPv4 connection mark not 0x0 -> accept",
		`-j SET --add-set peers src`:                            "any IPv4 -> continue",
		`-p tcp --tcp-option 5 -j DROP`:                         "any IPv4 tcp if tcp --tcp-option -> drop",
		`-p ipcomp -m ipcomp --ipcompspi 5 -j DROP`:             "any IPv4 comp if module ipcomp -> drop",
		`-s 203.0.0.9/255.0.0.255 -j DROP`:                      "203.0.0.0/8 > any if a mask that is no prefix -> drop",
		`! -s 203.0.0.9/255.0.0.255 -j DROP`:                    "any IPv4 if a mask that is no prefix -> drop",
		`-s 203.0.113.9/255.255.252.255 -j DROP`:                "203.0.112.9, 203.0.113.9, 203.0.114.9, 203.0.115.9 > any -> drop",
		`-p icmp -m icmp --icmp-type host-unreachable -j DROP`:  "any IPv4 icmp type 3/1 -> drop",
		`-p icmp --icmp-type ping -j DROP`:                      "any IPv4 icmp type 8 -> drop",
		`-m comment --comment 'ab' -j ACCEPT`:                   "any IPv4 -> accept",
		`-j NFQUEUE --queue-num 0`:                              "any IPv4 -> queue",
		`-s 10.1.0.0/16 -m set --match-set peers dst -j DROP`:   "10.1.0.0/16 > 192.0.2.1, 198.51.100.7 -> drop",
	}
}

// TestARuleAmongOthers reads all rules in one chain: none takes anything from those beside it.
func TestARuleAmongOthers(t *testing.T) {
	of := meanings()
	rules := slices.Sorted(maps.Keys(of))
	rules = slices.DeleteFunc(rules, func(rule string) bool { return of[rule] == "" })
	g := table("-A FORWARD " + strings.Join(rules, "\n-A FORWARD "))
	require.Len(t, g.Chains[0].Rules, len(rules))
	for i, r := range g.Chains[0].Rules {
		assert.Equal(t, of[rules[i]], readtest.Rule(r), rules[i])
	}
}

func TestRules(t *testing.T) {
	for rule, want := range meanings() {
		g := table("-A FORWARD " + rule)
		require.Len(t, g.Chains, 2, rule)
		require.Len(t, g.Chains[0].Rules, 1, rule)
		if want == "" {
			assert.NotEmpty(t, readtest.Unread(g), rule)
			assert.True(t, g.Chains[0].Rules[0].Doubts.Unread(), rule)
			continue
		}
		assert.Empty(t, readtest.Unread(g), rule)
		assert.Equal(t, want, readtest.Rule(g.Chains[0].Rules[0]), rule)
	}
}

func TestTranslations(t *testing.T) {
	g := readtest.Read(iptables.Save, "rules.v4", `*nat
:PREROUTING ACCEPT [0:0]
:POSTROUTING ACCEPT [3:200]
[7:900] -A PREROUTING -d 192.0.2.1/32 -p tcp -m tcp --dport 8080 -j DNAT --to-destination 10.1.0.80:80
-A PREROUTING -d 10.200.0.0/24 -j NETMAP --to 10.1.0.0/24
-A PREROUTING -p tcp -m tcp --dport 2222 -j REDIRECT --to-ports 22
-A POSTROUTING -s 10.1.0.0/16 ! -d 10.2.0.0/16 -o eth0 -j MASQUERADE --random
-A POSTROUTING -s 10.1.5.5/32 -p udp -j SNAT --to-source 192.0.2.5-192.0.2.9:1024-2000
-A POSTROUTING -s 10.1.7.0/24 -j NETMAP --to 10.77.0.0/24
-I POSTROUTING 1 -j RETURN
COMMIT
`, nil)
	assert.Empty(t, readtest.Unread(g))
	assert.Equal(t, `chain ip nat PREROUTING: hook prerouting, priority -100, kind 1, policy accept
  any > 192.0.2.1 tcp port 8080 -> destination NAT 10.1.0.80:80
  any > 10.200.0.0/24 -> destination NAT 10.1.0.0/24
  any IPv4 tcp port 2222 -> redirect an address of the interface
chain ip nat POSTROUTING: hook postrouting, priority 100, kind 1, policy accept
  any IPv4 -> return
  10.1.0.0/16 > 0.0.0.0-10.1.255.255, 10.3.0.0-255.255.255.255 out via eth0 -> masquerade an address of the interface
  10.1.5.5 > any udp -> source NAT 192.0.2.5-192.0.2.9:1024-2000
  10.1.7.0/24 > any -> source NAT 10.77.0.0/24
`, readtest.Rules(g))
	pre, post := g.Chains[0].Rules, g.Chains[1].Rules
	assert.Equal(t, uint64(7), pre[0].Packets)
	assert.Equal(t, "10.200.0.0/24", pre[1].To.From.String())
	assert.Equal(t, "10.1.0.0/24", pre[1].To.Onto.String())
	assert.Equal(t, "10.1.7.0/24", post[3].To.From.String())
}

func TestFamilies(t *testing.T) {
	six := readtest.Read(
		iptables.Save,
		"rules",
		"# Generated by ip6tables-save v1.8.9\n*filter\n:INPUT DROP [0:0]\n"+
			"-A INPUT -s fd00::/8 -p ipv6-icmp -m icmp6 --icmpv6-type 135 -j ACCEPT\nCOMMIT\n",
		nil,
	)
	assert.Equal(t, "fd00::/8 > any icmpv6 type 135 -> accept", readtest.Rule(six.Chains[0].Rules[0]))
	byName := readtest.Read(iptables.Save, "rules.v6", "*filter\n:INPUT DROP [0:0]\n-A INPUT -j ACCEPT\nCOMMIT\n", nil)
	assert.Equal(t, "ip6", byName.Chains[0].Family)
	byAddress := readtest.Read(iptables.Save, "x", "*filter\n:INPUT DROP [0:0]\n-A INPUT -s 2001:db8::/32 -j ACCEPT\nCOMMIT\n", nil)
	assert.Equal(t, "ip6", byAddress.Chains[0].Family)
}

func TestUnreadStatements(t *testing.T) {
	for line, want := range map[string]string{
		"-A FORWARD -m wizardry --spell x -j ACCEPT":        `module "wizardry" is not known`,
		"-A FORWARD -j TELEPORT --to nowhere":               `target "TELEPORT" is not modelled`,
		"-A FORWARD -m set --match-set gone src -j ACCEPT":  `set gone was not given`,
		"-A FORWARD -s house.example -j ACCEPT":             `"house.example" is not an IPv4 address, network or range`,
		"-A FORWARD -m conntrack --ctstate BORED -j ACCEPT": `"bored" is not a connection state`,
		"-D FORWARD 1": `"-D" is not a known command of iptables-restore`,
		"nonsense":     "it is not a command of iptables-restore",
		"-A FORWARD -p icmp -m icmp --icmp-type wink -j DROP": `"wink" is not a type of ICMP`,
		"-A FORWARD -m mark --mark red -j DROP":               `"red" is not a value of --mark`,
		":FORWARD MAYBE [0:0]":                                "a policy is ACCEPT or DROP",
	} {
		g := table(line)
		assert.Contains(t, strings.Join(readtest.Unread(g), "\n"), want, line)
	}
}

func TestDefinitions(t *testing.T) {
	g := table("-A FORWARD -j vpn\n-A FORWARD -j lost\n-A FORWARD -m set --match-set peers src -j DROP")
	status := map[string]string{}
	for _, d := range g.Definitions {
		switch {
		case d.Missing:
			status[d.Name] = "missing"
		case len(d.Used) == 0:
			status[d.Name] = "unused"
		default:
			status[d.Name] = "used"
		}
	}
	assert.Equal(t, "used", status["ip filter vpn"])
	assert.Equal(t, "missing", status["ip filter lost"])
	assert.Equal(t, "used", status["peers"])
	assert.Equal(t, "unused", status["nets"])
}

func TestSetMistakes(t *testing.T) {
	g := readtest.Read(
		iptables.Sets,
		"a.ipset",
		"create a hash:ip\nadd a notanaddress\nadd b 10.0.0.1\ncreate a hash:net\nswap a b\ncreate m hash:mac\n"+
			"add m 02:00:00:00:00:01\ncreate p hash:ip,port\nadd p 10.0.0.1\n",
		nil,
	)
	assert.Equal(
		t,
		[]string{
			"a.ipset:3: set \"b\" is not created before it is filled",
			"a.ipset:4: set \"a\" is also created at a.ipset:1; only that one is used",
		},
		readtest.Problems(g),
	)
	assert.Len(t, readtest.Unread(g), 4)
	assert.Equal(t, "an element of it was not read", g.Set("a").Changes)
}

func TestTwoSavedStates(t *testing.T) {
	text := "*filter\n:INPUT DROP [0:0]\nCOMMIT\n"
	g := readtest.ReadAll([]*read.Format{iptables.Save}, map[string]string{"a.rules": text, "b.rules": text})
	assert.Len(t, g.Chains, 1)
	assert.Contains(t, readtest.Problems(g)[0], "two saved states of one packet filter cannot both hold")
}

func TestRecognition(t *testing.T) {
	score, why := iptables.Save.Looks(source.NewFile("x", []byte("# c\n*filter\n:INPUT ACCEPT [0:0]\nCOMMIT\n")))
	assert.Equal(t, 95, score)
	assert.Contains(t, why, "*filter")
	score, _ = iptables.Save.Looks(source.NewFile("x", []byte("table ip filter {\n}\n")))
	assert.Zero(t, score)
}

func FuzzSave(f *testing.F) {
	f.Add("*filter\n:INPUT DROP [0:0]\n[1:2] -A INPUT -p tcp -m multiport ! --dports 1,2:3 -m set --match-set a src -j a\nCOMMIT\n")
	f.Add("*nat\n-A POSTROUTING -s 10.0.0.0/8 -j NETMAP --to 10.1.0.0/8\n-I POSTROUTING 99 -j SNAT --to-source :1-2\n")
	f.Fuzz(func(t *testing.T, text string) {
		g := readtest.Read(iptables.Save, "rules", text, nil)
		readtest.Rules(g)
	})
}

func TestListsOfSetsInThemselvesTakeNoTime(t *testing.T) {
	text := "create a list:set\ncreate b list:set\n" + strings.Repeat("add a a\nadd a b\nadd b a\n", 2000)
	began := cputime.Spent()
	g := readtest.ReadAll(
		[]*read.Format{iptables.Sets, iptables.Save},
		map[string]string{"a.ipset": text, "b.rules": "*filter\n:INPUT DROP [0:0]\n-A INPUT -m set --match-set a src -j DROP\n"},
	)
	assert.Contains(t, readtest.Rules(g), "a list of sets is in a list of sets")
	assert.Less(t, cputime.Spent()-began, 5*time.Second)
}

func FuzzSets(f *testing.F) {
	f.Add(sets)
	f.Add("create a list:set\nadd a a\nadd a a\nadd a a\nadd a a\n")
	f.Add("create a list:set\nadd a a\ncreate b hash:net,iface\nadd b 10.0.0.0/8,eth0\n")
	f.Fuzz(func(t *testing.T, text string) {
		g := readtest.ReadAll(
			[]*read.Format{iptables.Sets, iptables.Save},
			map[string]string{
				"a.ipset": "create z hash:ip\n" + text,
				"b.rules": "*filter\n:INPUT DROP [0:0]\n-A INPUT -m set --match-set a src -m set --match-set b dst,dst -j DROP\n",
			},
		)
		readtest.Rules(g)
	})
}

// TestAddressesOfTheRule: behind -s and -d the program takes no range, which only the module iprange does, no star, and no other family.
func TestAddressesOfTheRule(t *testing.T) {
	for words, refused := range map[string]bool{"-s 10.1.0.5-10.1.0.9": true, "-d 10.2.0.0/24,10.1.0.5-10.1.0.9": true, "-s *": true,
		"-s 0.0.0.0/0": false, "-s 0.0.0.0/0 -d ::/0": true, "-s 10.1.0.5": false, "-m iprange --src-range 10.1.0.5-10.1.0.9": false} {
		g := readtest.Read(iptables.Save, "rules.v4", "*filter\n:INPUT DROP [0:0]\n-A INPUT "+words+" -j ACCEPT\nCOMMIT\n", nil)
		assert.Equal(t, refused, len(g.Refused) > 0, words)
	}
}

// TestDemands is what iptables-restore 1.8.9 said of each rule.
func TestDemands(t *testing.T) {
	for words, refused := range map[string]bool{
		"-m addrtype": true, "-m addrtype --limit-iface-in": true, "-m addrtype --src-type LOCAL": false,
		"-m addrtype --src-type LOCAL --limit-iface-in --limit-iface-out": true, "-p icmp -m icmp": true, "-p icmp": false,
		"-m statistic --mode random": true, "-m statistic --mode random --probability 0.5": false,
		"-m statistic --mode nth --every 2": true,
		"-m recent --name a":                true, "-m recent --rcheck": false, "-m recent --rcheck --update": true,
		"-m recent --rcheck --reap":         true,
		"-m hashlimit --hashlimit-upto 1/s": true, "-m hashlimit --hashlimit-upto 1/s --hashlimit-name x": false,
		"-m connlimit --connlimit-mask 3": true, "-m string --string a": true, "-m string --algo bm --string a": false,
		"-p tcp -m multiport --sports 1 --dports 2": true, "-p tcp -m tcp --sport 1 --source-port 2": true,
		"-m time --kerneltz --utc": true,
		"-m policy --dir in":       false, "-m policy --dir in --pol none --strict": true, "-m policy --dir in --pol ipsec --strict": true,
		"-m policy --dir in --pol ipsec --tunnel-src 10.0.0.1": true, "-m policy --dir in --pol ipsec --mode tunnel --tunnel-src " +
			"10.0.0.1": false,
		"-m policy --dir in --pol ipsec --proto esp --next --proto ah": true, "-m policy --dir in --pol ipsec --strict --proto esp " +
			"--next --proto ah": false,
		"-m policy --dir in --pol ipsec --strict --proto esp --next": true,
	} {
		g := readtest.Read(iptables.Save, "a.rules", "*filter\n-A INPUT "+words+" -j ACCEPT\nCOMMIT\n", nil)
		assert.Equal(t, refused, len(g.Refused) > 0, words)
	}
	for words, refused := range map[string]bool{
		"MARK --set-mark 1 --or-mark 2": true, "CONNMARK --save-mark --restore-mark": true, "CONNMARK --save-mark --nfmask 1": false,
		"CONNMARK --left-shift-mark 1": true, "TOS": true, "TTL --ttl-inc 1 --ttl-dec 1": true, "NFQUEUE --queue-cpu-fanout": true,
		"NFQUEUE": false,
	} {
		g := readtest.Read(iptables.Save, "a.rules", "*mangle\n-A PREROUTING -j "+words+"\nCOMMIT\n", nil)
		assert.Equal(t, refused, len(g.Refused) > 0, words)
	}
}

// TestLineEnds is what it said of a line in a file that is not wholly converted.
func TestLineEnds(t *testing.T) {
	for line, refused := range map[string]bool{
		"": false, " ": true, "\t": true, "\r": true, " # x": true, "#x": false, "#x\r": false, " COMMIT": true,
		" -A INPUT -j DROP": false, "\f": true,
		"-A INPUT -j DROP\r": true, "-A INPUT\f-j DROP": true, "*nat\r": true, "COMMIT\r": true, ":INPUT ACCEPT [0:0]\r": false,
	} {
		g := readtest.Read(iptables.Save, "a.rules", "*filter\n"+line+"\n-A FORWARD -j ACCEPT\nCOMMIT\n", nil)
		assert.Equal(t, refused, len(g.Refused) > 0, "%q", line)
	}
}

// TestNumbersAsAddresses is what it held of each.
func TestNumbersAsAddresses(t *testing.T) {
	for words, held := range map[string]string{
		"-s 123": "-s 123.0.0.0/32", "-s 0x10": "-s 16.0.0.0/32", "-s 010.1.1.1": "-s 8.1.1.1/32", "-s 10.1": "-s 10.1.0.0/32",
		"-s 10.1/16":       "-s 10.1.0.0/16",
		"-s 10.1.0.0/0x10": "-s 10.1.0.0/16", "-s 10.1.0.0/016": "-s 10.0.0.0/14", "-s 300": "-s 0.0.1.44/32", "-s 1.256": "-s 1.0.1.0/32",
		"-s 4294967295": "-s 255.255.255.255/32", "-s 10.1.2.3/+8": "-s 10.0.0.0/8",
		"-m iprange --src-range 10.0.0.9-10.0.0.1": "-m iprange --src-range 10.0.0.9-10.0.0.1", "-s 0X1f": "-s 31.0.0.0/32",
		"-m iprange --src-range 10-20":     "-m iprange --src-range 10.0.0.0-20.0.0.0",
		"-m iprange --src-range 0x10-10.2": "-m iprange --src-range 16.0.0.0-10.2.0.0",
		"-s 4294967296":                    "", "-s 1.2.3.256": "", "-s 08": "", "-s -1": "", "-s 1.2.3.": "", "-s 10.1.2.3/33": "",
		"-s 10.1.0.0/255.255": "", "-s 1.2.3.4.5": "", "-s 0b11": "", "-s 1_0": "",
	} {
		file := func(w string) string { return "*filter\n-A INPUT " + w + " -j ACCEPT\nCOMMIT\n" }
		g := readtest.Read(iptables.Save, "a.rules", file(words), nil)
		assert.Equal(t, held == "", len(g.Refused) > 0, words)
		if held != "" {
			assert.Empty(t, readtest.Differences(g, readtest.Read(iptables.Save, "a.rules", file(held), nil)), words)
		}
	}
	for to, held := range map[string]string{"10": "0.0.0.10/32", "10.1/16": "10.0.0.0/16", "10.2.0.1": "10.2.0.1/32",
		"0x10/0xffffffff": "", "10.2.0.0/255.255.0.0": "10.2.0.0/16"} {
		file := func(w string) string { return "*nat\n-A PREROUTING -d 10.1.0.0/16 -j NETMAP --to " + w + "\nCOMMIT\n" }
		g := readtest.Read(iptables.Save, "a.rules", file(to), nil)
		assert.Empty(t, g.Refused, to)
		if held == "" {
			assert.NotEmpty(t, readtest.Unread(g), to)
			continue
		}
		assert.Empty(t, readtest.Differences(g, readtest.Read(iptables.Save, "a.rules", file(held), nil)), to)
	}
}

// TestOwnAddressesAreKnown: addresses of the gateway's own are told by another file; without it nothing decides.
func TestOwnAddressesAreKnown(t *testing.T) {
	const rules = "*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -m addrtype --dst-type LOCAL -j DROP\n" +
		"-A INPUT -m addrtype ! --src-type LOCAL -j DROP\n" +
		"-A INPUT -m addrtype --dst-type BROADCAST -j DROP\nCOMMIT\n"
	const addresses = "1: lo: <LOOPBACK,UP> mtu 65536\n    inet 127.0.0.1/8 scope host lo\n" +
		"2: wan0: <UP> mtu 1500\n    inet 192.0.2.1/24 scope global wan0\n"
	files := map[string]string{"rules.v4": rules}
	g := readtest.ReadAll([]*read.Format{iptables.Save, iproute.Text}, files)
	for _, r := range g.Chains[0].Rules {
		assert.False(t, r.Certain())
	}
	files["ip-address.txt"] = addresses
	g = readtest.ReadAll([]*read.Format{iptables.Save, iproute.Text}, files)
	all := g.Chains[0].Rules
	assert.Equal(t, "any > 127.0.0.0/8, 192.0.2.1", all[0].When.String())
	assert.True(t, all[0].Certain())
	assert.True(t, all[1].When.And(packet.Prefixes(packet.Src, netip.MustParsePrefix("192.0.2.1/32"))).Empty())
	assert.True(t, all[1].Certain())
	assert.False(t, all[2].Certain())
	files["ip-address.txt"] = addresses + "    wobble 7\n"
	for _, r := range readtest.ReadAll([]*read.Format{iptables.Save, iproute.Text}, files).Chains[0].Rules {
		assert.False(t, r.Certain(), "what was not understood may be one more address")
	}
}
