package demo

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"net/netip"
	"strings"
)

// Most is how many gateways an estate may be made of: so many have networks and addresses of their own.
const Most = 120_000

// Fault is a fault that a made estate has: what an audit must say, and of whom.
type Fault struct {
	Check   string // the name of the check that sees it
	Gateway string // at which gateway; "" where it is one of both ends
	Tunnel  string // of which tunnel, as audits name it; "" where it is one of the gateway
}

// faulty is how many of a hundred tunnels have a fault.
const faulty = 6

// Make makes an estate of n gateways, the same for the same seed: stars of a hub and its lights, meshes of three yards, and quays in pairs
// that have a partner each whose files are not given. Some of its tunnels have a fault, all of which it returns. write takes the files one
// by one; its error ends the work.
func Make(n int, seed uint64, write func(path string, data []byte) error) ([]Fault, error) {
	if n < 1 || n > Most {
		return nil, fmt.Errorf("an estate is made of 1 to %d gateways", Most)
	}
	var faults []Fault
	for first := 0; first < n; {
		r := rand.New(rand.NewPCG(seed, uint64(first)))
		g := newGroup(r, first, n-first)
		faults = append(faults, g.spoil(r)...)
		for _, m := range g.members {
			for name, text := range m.files() {
				if err := write(m.name+"/"+name, []byte(text)); err != nil {
					return nil, err
				}
			}
		}
		first += len(g.members)
	}
	return faults, nil
}

// group is some gateways that have tunnels with each other, and with nobody else's.
type group struct {
	members []*member
	links   []*link
}

// member is a gateway that is made.
type member struct {
	number int
	name   string
	ends   []end
	open   bool // its NAT has no exemption
}

// end is a link as one of its gateways sees it.
type end struct {
	*link
	side int // 0 or 1
}

// link is a tunnel that is made: between two members, or of one with a partner that is not given.
type link struct {
	sides    [2]*member // the second is nil for a partner
	partner  int        // the partner's number
	key      string
	proposal string
	esp      [2]string
	extra    bool // the first side protects a network more than the second knows of
}

// newGroup makes a group of at most so many gateways, the first of which has a number.
func newGroup(r *rand.Rand, first, most int) *group {
	g := &group{}
	add := func(kind string) *member {
		m := &member{number: first + len(g.members)}
		m.name = fmt.Sprintf("%s-%06d", kind, m.number)
		g.members = append(g.members, m)
		return m
	}
	switch kind := r.IntN(3); {
	case kind == 0 && most >= 6:
		hub := add("hub")
		for range 5 {
			light := add("light")
			g.join(hub, light)
			g.partner(light)
		}
	case kind == 1 && most >= 3:
		a, b, c := add("yard"), add("yard"), add("yard")
		g.join(a, b)
		g.join(b, c)
		g.join(a, c)
	case most >= 2:
		a, b := add("quay"), add("quay")
		g.join(a, b)
		g.partner(a)
		g.partner(b)
	default:
		g.partner(add("quay"))
	}
	return g
}

func (g *group) join(a, b *member) {
	l := newLink(a, b, fmt.Sprintf("%d %d", a.number, b.number))
	g.links = append(g.links, l)
	a.ends, b.ends = append(a.ends, end{l, 0}), append(b.ends, end{l, 1})
}

func (g *group) partner(a *member) {
	l := newLink(a, nil, fmt.Sprintf("%d and its partner", a.number))
	l.partner = a.number
	g.links = append(g.links, l)
	a.ends = append(a.ends, end{l, 0})
}

const soundIKE, soundESP = "aes256gcm16-prfsha384-ecp384", "aes256gcm16-ecp384"

func newLink(a, b *member, name string) *link {
	key := sha256.Sum256([]byte("the key of " + name))
	return &link{
		sides: [2]*member{a, b}, key: base64.StdEncoding.EncodeToString(key[:24]), proposal: soundIKE, esp: [2]string{soundESP, soundESP},
	}
}

// tunnel is the link's name in audits.
func (l *link) tunnel() string {
	if l.sides[1] == nil {
		return l.sides[0].name + "/" + end{l, 0}.name() + " <> (not given)"
	}
	return l.sides[0].name + "/" + end{l, 0}.name() + " <> " + l.sides[1].name + "/" + end{l, 1}.name()
}

// spoil gives some links of a group a fault each, and says which.
func (g *group) spoil(r *rand.Rand) (out []Fault) {
	for _, l := range g.links {
		if r.IntN(100) >= faulty {
			continue
		}
		a, b := l.sides[0], l.sides[1]
		seen := func(check string) { out = append(out, Fault{Check: check, Tunnel: l.tunnel()}) } // of two ends it is one cause
		switch kind := r.IntN(6); {
		case kind == 0:
			l.proposal = "aes256-sha256-modp1024"
			seen("ike/weak-algorithm")
		case kind == 1:
			l.esp = [2]string{"aes256gcm16", "aes256gcm16"}
			seen("pfs/absent")
		case kind == 2 && b != nil:
			l.esp[1] = "aes256gcm16"
			seen("ends/pfs-differs")
		case kind == 3 && b != nil:
			l.extra = true
			seen("ends/not-mirrored")
		case kind == 4:
			l.key = fmt.Sprint("lanternshore", a.number) // of this link alone
			if b != nil {
				l.key += fmt.Sprint(".", b.number)
			}
			seen("key/weak")
		case !a.open:
			a.open = true
			out = append(out, Fault{Check: "nat/rewritten", Gateway: a.name})
		}
	}
	return out
}

// spread puts a number into an address, from a base on.
func spread(base string, n, step int) netip.Addr {
	b := netip.MustParseAddr(base).As4()
	binary.BigEndian.PutUint32(b[:], binary.BigEndian.Uint32(b[:])+uint32(n*step))
	return netip.AddrFrom4(b)
}

// outside is the gateway's public address, of the range for benchmarks (RFC 2544).
func (m *member) outside() netip.Addr { return spread("198.18.1.0", m.number, 1) }

// networks of 64 addresses: behind a gateway, one more behind it, and behind a partner.
func (m *member) network() netip.Prefix {
	return netip.PrefixFrom(spread("10.0.0.0", m.number, 64), 26)
}
func (m *member) added() netip.Prefix {
	return netip.PrefixFrom(spread("10.128.0.0", m.number, 64), 26)
}
func partnerNetwork(n int) netip.Prefix {
	return netip.PrefixFrom(spread("172.16.0.0", n%16384, 64), 26)
}
func partnerAddress(n int) netip.Addr { return spread("203.0.113.1", n%200, 1) }
func (m *member) id() string          { return m.name + ".lanternshore.example" }
func (e end) own() *member            { return e.sides[e.side] }
func (e end) far() *member            { return e.sides[1-e.side] }
func (e end) name() string {
	if e.far() == nil {
		return "partner"
	}
	return e.far().name
}

func (e end) peer() netip.Addr {
	if e.far() == nil {
		return partnerAddress(e.partner)
	}
	return e.far().outside()
}

func (e end) peerID() string {
	if e.far() == nil {
		return fmt.Sprintf("partner-%d.example", e.partner)
	}
	return e.far().id()
}

func (e end) remote() netip.Prefix {
	if e.far() == nil {
		return partnerNetwork(e.partner)
	}
	return e.far().network()
}

func (e end) local() string {
	if e.extra && e.side == 0 {
		return e.own().network().String() + ", " + e.own().added().String()
	}
	return e.own().network().String()
}

// files are the gateway's saved files, by name.
func (m *member) files() map[string]string {
	return map[string]string{
		"swanctl.conf": m.connections(), "nftables.conf": m.rules(), "ip-address.txt": m.addresses(), "ip-route.txt": m.routes(),
	}
}

func (m *member) connections() string {
	var c, s strings.Builder
	for _, e := range m.ends {
		fmt.Fprintf(&c, connection, e.name(), m.outside(), e.peer(), e.proposal, m.id(), e.peerID(), e.local(), e.remote(), e.esp[e.side])
		fmt.Fprintf(&s, secret, e.name(), m.id(), e.peerID(), e.key)
	}
	return "# " + m.name + ", made by toril demo\nconnections {\n" + c.String() + "}\n\nsecrets {\n" + s.String() + "}\n"
}

const connection = `    %s {
        version = 2
        local_addrs = %s
        remote_addrs = %s
        proposals = %s
        rekey_time = 4h
        dpd_delay = 30s
        local {
            auth = psk
            id = %s
        }
        remote {
            auth = psk
            id = %s
        }
        children {
            net {
                local_ts = %s
                remote_ts = %s
                esp_proposals = %s
                rekey_time = 1h
                replay_window = 64
                start_action = trap
                dpd_action = trap
            }
        }
    }
`

const secret = `    ike-%s {
        id-own = %s
        id-peer = %s
        secret = "%s"
    }
`

// ruleCount is how many rules a gateway's filter has at least.
const ruleCount = 40

func (m *member) rules() string {
	var in, forward, nat strings.Builder
	count := 8
	rule := func(to io.Writer, format string, args ...any) {
		count++
		fmt.Fprintf(to, "        "+format+"\n", args...)
	}
	for _, e := range m.ends {
		rule(&in, `iifname "wan" ip saddr %s udp dport { 500, 4500 } accept`, e.peer())
		rule(&in, `iifname "wan" ip saddr %s meta l4proto esp accept`, e.peer())
		own := e.own().network().String()
		if e.extra && e.side == 0 {
			own = "{ " + e.local() + " }"
		}
		rule(&forward, `ip daddr %s rt ipsec missing log prefix "not encrypted " drop`, e.remote())
		rule(&forward, `ip saddr %s ip daddr %s tcp dport { 443, 8883 } log accept`, own, e.remote())
		rule(&forward, `meta ipsec exists ip saddr %s ip daddr %s tcp dport { 443, 8883 } log accept`, e.remote(), own)
		if !m.open {
			rule(&nat, `ip saddr %s ip daddr %s accept`, own, e.remote())
		}
	}
	for k := 0; count < ruleCount; k++ {
		rule(&forward, `iifname "lan" oifname "wan" ip saddr %s ip daddr 192.0.2.%d tcp dport 443 log accept`, m.network(), k+1)
	}
	return fmt.Sprintf(filter, in.String(), m.network(), forward.String(), m.network(), nat.String(), m.network())
}

const filter = `table inet filter {
    chain input {
        type filter hook input priority filter; policy drop;
        ct state established,related accept
        iifname "lo" accept
%s        iifname "lan" ip saddr %s tcp dport 22 ct state new log prefix "ssh " accept
        icmp type { echo-request, destination-unreachable, time-exceeded } accept
    }

    chain forward {
        type filter hook forward priority filter; policy drop;
        ct state established,related accept
%s        iifname "lan" oifname "wan" ip saddr %s udp dport 123 accept
    }
}

table ip nat {
    chain postrouting {
        type nat hook postrouting priority srcnat; policy accept;
%s        ip saddr %s oifname "wan" masquerade
    }
}
`

func (m *member) addresses() string {
	out := fmt.Sprintf(`1: lo: <LOOPBACK,UP,LOWER_UP> mtu 65536 qdisc noqueue state UNKNOWN group default qlen 1000
    inet 127.0.0.1/8 scope host lo
2: wan: <BROADCAST,MULTICAST,UP,LOWER_UP> mtu 1500 qdisc fq_codel state UP group default qlen 1000
    inet %s/15 scope global wan
3: lan: <BROADCAST,MULTICAST,UP,LOWER_UP> mtu 1500 qdisc fq_codel state UP group default qlen 1000
    inet %s/26 scope global lan
`, m.outside(), m.network().Addr().Next())
	if m.has(func(e end) bool { return e.extra && e.side == 0 }) {
		out += fmt.Sprintf("    inet %s/26 scope global lan\n", m.added().Addr().Next())
	}
	return out
}

func (m *member) routes() string {
	out := fmt.Sprintf("default via 198.18.0.1 dev wan proto static\n198.18.0.0/15 dev wan proto kernel scope link src %s\n"+
		"%s dev lan proto kernel scope link src %s\n", m.outside(), m.network(), m.network().Addr().Next())
	if m.has(func(e end) bool { return e.extra && e.side == 0 }) {
		out += fmt.Sprintf("%s dev lan proto kernel scope link src %s\n", m.added(), m.added().Addr().Next())
	}
	return out
}

func (m *member) has(is func(end) bool) bool {
	for _, e := range m.ends {
		if is(e) {
			return true
		}
	}
	return false
}
