//go:build lab

package negotiation

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"

	"toril/lab"
)

// pairsBehindNAT are pairs of which the first end is behind a device that translates its address, and the second knows it by the outside
// one: a line each, as in pairsOfOpenIKED.
const pairsBehindNAT = `
plain | S | S
plain-with-Libreswan | S | L
plain-of-Libreswan | L | L
plain-of-Libreswan-with-strongSwan | L | S
plain-with-OpenIKED | S | O
plain-of-OpenIKED | O | O
plain-of-OpenIKED-with-strongSwan | O | S
plain-of-OpenIKED-with-Libreswan | O | L
plain-of-Libreswan-with-OpenIKED | L | O
no-identities | S id= peer= | S id= peer=
no-identities-with-Libreswan | S id= peer= | L -leftid -rightid
no-identities-of-Libreswan | L -leftid -rightid | L -leftid -rightid
no-identities-of-Libreswan-with-strongSwan | L -leftid -rightid | S id= peer=
outside-address-expected | S id= | S peer=198.51.100.7
outside-address-expected-by-Libreswan | S id= | L rightid=198.51.100.7
outside-address-expected-of-Libreswan | L -leftid | S peer=198.51.100.7
outside-address-as-the-identity | S id=198.51.100.7 | S peer=198.51.100.7
outside-address-as-the-identity-of-Libreswan | L leftid=198.51.100.7 | L -rightid
inside-address-expected | S id= | S peer=192.168.7.2
inside-address-expected-by-Libreswan | S id= | L rightid=192.168.7.2
inside-address-expected-of-Libreswan | L -leftid | L rightid=192.168.7.2
any-identity-of-Libreswan | L -leftid | L rightid=%any
any-identity-with-Libreswan | S id= | L rightid=%any
hosts | S local_ts= remote_ts= | S local_ts= remote_ts=
hosts-at-the-inside-address | S local_ts= remote_ts= | S local_ts= remote_ts=192.168.7.2/32
hosts-with-Libreswan | S local_ts= remote_ts= | L -leftsubnet -rightsubnet
hosts-of-Libreswan | L -leftsubnet -rightsubnet | L -leftsubnet -rightsubnet
hosts-of-Libreswan-at-the-inside-address | L -leftsubnet -rightsubnet | L -leftsubnet rightsubnet=192.168.7.2/32
hosts-of-Libreswan-with-strongSwan | L -leftsubnet -rightsubnet | S local_ts= remote_ts=
transport | S local_ts= remote_ts= mode=transport | S local_ts= remote_ts= mode=transport
transport-with-Libreswan | S local_ts= remote_ts= mode=transport | L type=transport -leftsubnet -rightsubnet
transport-of-Libreswan | L type=transport -leftsubnet -rightsubnet | L type=transport -leftsubnet -rightsubnet
transport-of-Libreswan-with-strongSwan | L type=transport -leftsubnet -rightsubnet | S local_ts= remote_ts= mode=transport
transport-of-OpenIKED | O transport esp from 192.168.7.2 to 203.0.113.2 | O transport esp from 203.0.113.2 to 198.51.100.7
transport-with-OpenIKED | S local_ts= remote_ts= mode=transport esp_proposals=aes256-sha1 | O transport esp from 203.0.113.2 to 198.51.100.7
transport-of-OpenIKED-with-strongSwan | O transport esp from 192.168.7.2 to 203.0.113.2 | S local_ts= remote_ts= mode=transport esp_proposals=aes256-sha1
transport-of-Libreswan-with-OpenIKED | L type=transport -leftsubnet -rightsubnet esp=aes256-sha1 | O transport esp from 203.0.113.2 to 198.51.100.7
transport-of-OpenIKED-with-Libreswan | O transport esp from 192.168.7.2 to 203.0.113.2 | L type=transport -leftsubnet -rightsubnet esp=aes256-sha1
hosts-of-OpenIKED-with-strongSwan | O esp from 192.168.7.2 to 203.0.113.2 | S local_ts= remote_ts= esp_proposals=aes256-sha1
hosts-with-OpenIKED | S local_ts= remote_ts= esp_proposals=aes256-sha1 | O esp from 203.0.113.2 to 198.51.100.7
hosts-of-OpenIKED | O esp from 192.168.7.2 to 203.0.113.2 | O esp from 203.0.113.2 to 198.51.100.7
hosts-of-OpenIKED-at-the-inside-address | O esp from 192.168.7.2 to 203.0.113.2 | O esp from 203.0.113.2 to 192.168.7.2
hosts-written-out | S local_ts=192.168.7.2/32 remote_ts= | S local_ts= remote_ts=192.168.7.2/32
transport-written-out | S local_ts=192.168.7.2/32 remote_ts=203.0.113.2/32 mode=transport | S local_ts=203.0.113.2/32 remote_ts=198.51.100.7/32 mode=transport
transport-at-the-inside-address | S local_ts= remote_ts= mode=transport | S local_ts= remote_ts=192.168.7.2/32 mode=transport
transport-of-a-protocol | S local_ts=dynamic[tcp/30179] remote_ts= mode=transport | S local_ts= remote_ts=dynamic[tcp/30179] mode=transport
transport-at-one-end | S local_ts= remote_ts= mode=transport | S local_ts= remote_ts=
transport-at-the-other-end | S local_ts= remote_ts= | S local_ts= remote_ts= mode=transport
v1-transport-written-out | S version=1 local_ts=192.168.7.2/32 remote_ts=203.0.113.2/32 mode=transport | S version=1 local_ts=203.0.113.2/32 remote_ts=198.51.100.7/32 mode=transport
v1-transport-at-the-inside-address | S version=1 local_ts= remote_ts= mode=transport | S version=1 local_ts= remote_ts=192.168.7.2/32 mode=transport
v1-transport-of-a-protocol | S version=1 local_ts=dynamic[tcp/30179] remote_ts= mode=transport | S version=1 local_ts= remote_ts=dynamic[tcp/30179] mode=transport
v1-transport-at-one-end | S version=1 local_ts= remote_ts= mode=transport | S version=1 local_ts= remote_ts=
network-and-host | S remote_ts= | S local_ts=
network-and-host-of-Libreswan | L -rightsubnet | L -leftsubnet
host-and-network | S local_ts= | S remote_ts=
hosts-and-any-peer | S local_ts= remote_ts= | S local_ts= remote_ts= remote_addrs=%any
hosts-and-any-peer-at-Libreswan | L -leftsubnet -rightsubnet | L -leftsubnet -rightsubnet right=%any
v1-hosts-and-any-peer-at-Libreswan | L ikev2=no -leftsubnet -rightsubnet | L ikev2=no -leftsubnet -rightsubnet right=%any
private-address-and-any-peer-at-Libreswan | L -leftsubnet | L -rightsubnet right=%any
virtual-hosts-at-Libreswan | L -leftsubnet | L right=%any rightsubnet=vhost:%priv,%no
v1-virtual-hosts-with-Libreswan | S version=1 esp_proposals=aes128-sha1 local_ts= | L ikev2=no pfs=no right=%any rightsubnet=vhost:%priv,%no
v1-virtual-hosts-at-Libreswan | L ikev2=no -leftsubnet | L ikev2=no right=%any rightsubnet=vhost:%priv,%no
no-local-address | S local_addrs= id= | S peer=203.0.113.7
no-local-address-and-the-outside-one-expected | S local_addrs= id= | S peer=198.51.100.7
no-local-address-and-the-inside-one-expected | S local_addrs= id= | S peer=192.168.7.2
no-local-address-and-hosts | S local_addrs= local_ts= remote_ts= | S local_ts= remote_ts=
default-route-of-Libreswan | L left=%defaultroute | L
default-route-of-Libreswan-without-identities | L left=%defaultroute -leftid | L -rightid
default-route-of-Libreswan-and-the-inside-address | L left=%defaultroute -leftid | L rightid=192.168.7.2
default-route-of-Libreswan-with-strongSwan | L left=%defaultroute -leftid | S peer=198.51.100.7
any-peer | S | S remote_addrs=%any
any-peer-and-hosts-transport | S local_ts= remote_ts= mode=transport | S local_ts= remote_ts= mode=transport remote_addrs=%any
in-udp | S encap=yes | S encap=yes
never-in-udp-of-Libreswan | L encapsulation=no | L
never-in-udp-at-Libreswan | L | L encapsulation=no
never-in-udp-at-both-of-Libreswan | L encapsulation=no | L encapsulation=no
never-in-udp-with-strongSwan | L encapsulation=no | S
never-in-udp-at-Libreswan-with-strongSwan | S | L encapsulation=no
never-in-udp-with-OpenIKED | L encapsulation=no | O
never-in-udp-at-Libreswan-with-OpenIKED | O | L encapsulation=no
any-peer-of-Libreswan | L | L right=%any
any-peer-with-Libreswan | S | L right=%any
any-peer-without-identities-of-Libreswan | L -leftid -rightid | L right=%any -leftid -rightid
any-peer-of-OpenIKED | O | O passive peer any
v1 | S version=1 | S version=1
v1-with-Libreswan | S version=1 esp_proposals=aes128-sha1 | L ikev2=no pfs=no
v1-of-Libreswan | L ikev2=no | L ikev2=no
v1-of-Libreswan-with-strongSwan | L ikev2=no pfs=no | S version=1 esp_proposals=aes128-sha1
v1-no-identities | S version=1 id= peer= | S version=1 id= peer=
v1-no-identities-of-Libreswan | L ikev2=no -leftid -rightid | L ikev2=no -leftid -rightid
v1-no-identities-with-Libreswan | S version=1 esp_proposals=aes128-sha1 id= peer= | L ikev2=no pfs=no -leftid -rightid
v1-outside-address-expected | S version=1 id= | S version=1 peer=198.51.100.7
v1-inside-address-expected | S version=1 id= | S version=1 peer=192.168.7.2
v1-aggressive-of-Libreswan | L ikev2=no aggressive=yes ike=aes-sha1;modp2048 | L ikev2=no aggressive=yes ike=aes-sha1;modp2048
v1-transport | S version=1 local_ts= remote_ts= mode=transport | S version=1 local_ts= remote_ts= mode=transport
v1-transport-of-Libreswan | L ikev2=no type=transport -leftsubnet -rightsubnet | L ikev2=no type=transport -leftsubnet -rightsubnet
v1-transport-with-Libreswan | S version=1 esp_proposals=aes128-sha1 local_ts= remote_ts= mode=transport | L ikev2=no pfs=no type=transport -leftsubnet -rightsubnet
v1-transport-of-Libreswan-with-strongSwan | L ikev2=no pfs=no type=transport -leftsubnet -rightsubnet | S version=1 esp_proposals=aes128-sha1 local_ts= remote_ts= mode=transport
v1-hosts | S version=1 local_ts= remote_ts= | S version=1 local_ts= remote_ts=
v1-hosts-of-Libreswan | L ikev2=no -leftsubnet -rightsubnet | L ikev2=no -leftsubnet -rightsubnet
v1-hosts-with-Libreswan | S version=1 esp_proposals=aes128-sha1 local_ts= remote_ts= | L ikev2=no pfs=no -leftsubnet -rightsubnet
v1-hosts-of-Libreswan-with-strongSwan | L ikev2=no pfs=no -leftsubnet -rightsubnet | S version=1 esp_proposals=aes128-sha1 local_ts= remote_ts=
v1-host-and-network-of-Libreswan | L ikev2=no -leftsubnet | L ikev2=no -rightsubnet
v1-network-and-host-of-Libreswan | L ikev2=no -rightsubnet | L ikev2=no -leftsubnet
v1-host-and-network-with-Libreswan | S version=1 esp_proposals=aes128-sha1 local_ts= | L ikev2=no pfs=no -rightsubnet
v1-network-and-host-with-Libreswan | S version=1 esp_proposals=aes128-sha1 remote_ts= | L ikev2=no pfs=no -leftsubnet
v1-host-and-network-of-Libreswan-with-strongSwan | L ikev2=no pfs=no -leftsubnet | S version=1 esp_proposals=aes128-sha1 remote_ts=
v1-hosts-of-Libreswan-at-the-inside-address | L ikev2=no -leftsubnet -rightsubnet | L ikev2=no -leftsubnet rightsubnet=192.168.7.2/32
v1-hosts-of-Libreswan-at-the-outside-address | L ikev2=no leftsubnet=198.51.100.7/32 -rightsubnet | L ikev2=no -leftsubnet -rightsubnet
v1-hosts-of-Libreswan-written-out | L ikev2=no leftsubnet=192.168.7.2/32 -rightsubnet | L ikev2=no -leftsubnet -rightsubnet
v1-never-in-udp-of-Libreswan | L ikev2=no encapsulation=no | L ikev2=no
v1-never-in-udp-at-Libreswan | L ikev2=no | L ikev2=no encapsulation=no
v1-never-in-udp-with-strongSwan | L ikev2=no pfs=no encapsulation=no | S version=1 esp_proposals=aes128-sha1
key-of-the-outside-address | S id= | S peer= owners=198.51.100.7
key-of-the-inside-address | S id= | S peer= owners=192.168.7.2
v1-key-of-the-outside-address | S version=1 id= | S version=1 peer= owners=198.51.100.7
v1-key-of-the-inside-address | S version=1 id= | S version=1 peer= owners=192.168.7.2
ah | L phase2=ah | L phase2=ah
v1-ah | L ikev2=no phase2=ah | L ikev2=no phase2=ah
ah-with-strongSwan | S ah_proposals=sha256 | L phase2=ah ah=sha2
`

func TestPairsBehindNAT(t *testing.T) {
	tally := lab.NewTally(t, "negotiation: named pairs of which one end is behind NAT, either end as the initiator")
	t.Parallel()
	nsA, nsB := lab.Behind(t, "nat")
	write := func(t testing.TB, text string, me, peer int) (kind string, files map[string]string) {
		kind, files = endOfIked(t, text, me, peer)
		if me == 1 {
			translate(files, lab.Inside, lab.Peer)
			files["ip-address.txt"] = addressOf(lab.Inside)
		} else {
			translate(files, lab.Outside, lab.Peer)
			files["ip-address.txt"] = addressOf(lab.Peer)
		}
		return kind, files
	}
	tryAll(t, tally, "makes-nat", pairsBehindNAT, write,
		func(kind string) (one, two daemon) {
			return startOf(t, kind[:1], "a", nsA), startOf(t, kind[1:], "b", nsB)
		})
}

// TestMakesBehindNAT tries random pairs of which the first end is behind NAT, as TestMakes does; some protect the gateways' own addresses.
func TestMakesBehindNAT(t *testing.T) {
	tally := lab.NewTally(t, "negotiation: random pairs behind NAT, either end as the initiator")
	t.Parallel()
	nsA, nsB := lab.Behind(t, "nats")
	pairs, _ := strconv.Atoi(os.Getenv("TORIL_LAB_CASES"))
	if pairs == 0 {
		pairs = 5
	}
	from, _ := strconv.Atoi(os.Getenv("TORIL_LAB_FROM"))
	for _, kinds := range []string{"LL", "SL", "LS", "SS", "OO", "SO", "LO"} {
		one, two := startOf(t, kinds[:1], "a", nsA), startOf(t, kinds[1:], "b", nsB)
		for n := from; n < from+pairs; n++ {
			g := drawer{generator{rand.New(rand.NewPCG(seed, uint64(n)+1<<40))}, strings.Contains(kinds, "O")}
			pa, pb := drawMakes(seed, n+5000, g.withIked)
			if g.chance(25) {
				pa.local, pb.remote = "", ""
			}
			if g.chance(15) {
				pa.remote, pb.local = "", ""
			}
			if g.chance(15) && !g.withIked {
				pb.remoteID = g.one("", "@a.example", lab.Inside, lab.Outside)
				pa.localID = g.one("", pa.localID)
			}
			if g.chance(10) && strings.Contains(kinds, "L") {
				pb.more = append(pb.more, "encapsulation="+g.one("no", "yes"))
			}
			p := pairOf{name: fmt.Sprintf("%s behind NAT %d", kinds, n), once: os.Getenv("TORIL_LAB_CASES") == ""}
			p.a, p.b = one.texts(pa, lab.Inside, lab.Peer), two.texts(pb, lab.Peer, lab.Outside)
			translate(p.a, lab.Inside, lab.Peer)
			translate(p.b, lab.Outside, lab.Peer)
			p.a["ip-address.txt"], p.b["ip-address.txt"] = addressOf(lab.Inside), addressOf(lab.Peer)
			p.try(t, tally, one, two, &record{})
		}
		one.Stop()
		two.Stop()
	}
}

// translate puts the addresses of the ends, as one of them knows them, in the place of those that all pairs have.
func translate(files map[string]string, a, b string) {
	for name, text := range files {
		files[name] = strings.NewReplacer("10.0.0.1", a, "10.0.0.2", b).Replace(text)
	}
}
