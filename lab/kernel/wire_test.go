//go:build lab

// Package kernel holds Toril's walk of packets against a Linux kernel that does it.
package kernel

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"toril/packet"
)

// wire is a gateway in a namespace of its own, between a network and two outside wires:
//
//	lan 10.1.0.10 -- lan0 10.1.0.1 | gateway | wan0 198.51.100.1 -- 198.51.100.254 outside
//	                                         | alt0 192.0.2.1    -- 192.0.2.254    outside
type wire struct {
	t            testing.TB
	lan, gw, out string
	send         int            // raw IP socket in lan
	seen         map[string]int // packet sockets by where they listen
}

func sh(t testing.TB, format string, args ...any) {
	t.Helper()
	out, err := exec.Command("sh", "-e", "-c", fmt.Sprintf(format, args...)).CombinedOutput()
	require.NoError(t, err, "%s", out)
}

func newWire(t testing.TB) *wire {
	w := &wire{t: t, lan: "toril-k-lan", gw: "toril-k-gw", out: "toril-k-out", seen: map[string]int{}}
	clean := func() {
		for _, ns := range []string{w.lan, w.gw, w.out} {
			_ = exec.Command("ip", "netns", "del", ns).Run()
		}
	}
	clean()
	t.Cleanup(clean)
	sh(t, "ip netns add %s; ip netns add %s; ip netns add %s", w.lan, w.gw, w.out)
	for _, l := range []struct{ gw, far, ns, own, peer string }{{"lan0", "eth0", w.lan, "10.1.0.1/16", "10.1.0.10"},
		{"wan0", "wan0", w.out, "198.51.100.1/24", "198.51.100.254"}, {"alt0", "alt0", w.out, "192.0.2.1/24", "192.0.2.254"}} {
		sh(t, "ip link add %s netns %s type veth peer name %s netns %s", l.gw, w.gw, l.far, l.ns)
		sh(t, "ip -n %s link set %s address 02:00:00:00:00:01; ip -n %s link set %s address 02:00:00:00:00:02", w.gw, l.gw, l.ns, l.far)
		sh(t, "ip -n %s addr add %s dev %s; ip -n %s link set %s up; ip -n %s link set %s up", w.gw, l.own, l.gw, w.gw, l.gw, l.ns, l.far)
		sh(t, "ip -n %s neigh add %s lladdr 02:00:00:00:00:02 dev %s nud permanent", w.gw, l.peer, l.gw)
	}
	for i := range 8 { // the hosts of the network
		for _, third := range []int{0, 9} {
			sh(t, "ip -n %s neigh replace 10.1.%d.%d lladdr 02:00:00:00:00:02 dev lan0 nud permanent", w.gw, third, 10+i)
		}
	}
	sh(
		t,
		"ip -n %s link set lo up; ip -n %s addr add 10.1.0.10/16 dev eth0; ip -n %s route add default via 10.1.0.1; ip -n %s neigh "+
			"add 10.1.0.1 lladdr 02:00:00:00:00:01 dev eth0 nud permanent",
		w.gw,
		w.lan,
		w.lan,
		w.lan,
	)
	sh(t, "ip -n %s addr add 198.51.100.254/24 dev wan0; ip -n %s addr add 192.0.2.254/24 dev alt0", w.out, w.out)
	sh(
		t,
		"ip netns exec %s sh -c 'echo 1 > /proc/sys/net/ipv4/ip_forward; for f in /proc/sys/net/ipv4/conf/*/rp_filter; do echo 0 > "+
			"$f; done; for f in /proc/sys/net/ipv4/conf/*/send_redirects; do echo 0 > $f; done'",
		w.gw,
	)
	for _, ns := range []string{w.lan, w.out} { // nobody answers but the laboratory
		sh(t, "ip netns exec %s nft 'add table ip quiet; add chain ip quiet in { type filter hook input priority 0; policy drop; }'", ns)
	}
	w.in(w.lan, func() {
		fd, err := unix.Socket(unix.AF_INET, unix.SOCK_RAW, unix.IPPROTO_RAW)
		require.NoError(t, err)
		w.send = fd
		w.seen["lan"] = listen(t, "eth0")
	})
	w.in(w.out, func() {
		w.seen["wan0"], w.seen["alt0"] = listen(t, "wan0"), listen(t, "alt0")
	})
	w.in(w.gw, func() { w.seen["gw-lan0"] = listen(t, "lan0") })
	return w
}

// in runs a function in a network namespace. Sockets that it opens stay there.
func (w *wire) in(ns string, f func()) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		runtime.LockOSThread() // the thread is given up afterwards: it is in another namespace
		h, err := os.Open("/run/netns/" + ns)
		require.NoError(w.t, err)
		defer h.Close()
		require.NoError(w.t, unix.Setns(int(h.Fd()), unix.CLONE_NEWNET))
		f()
	}()
	<-done
}

func htons(n uint16) uint16 { return n<<8 | n>>8 }

func listen(t testing.TB, dev string) int {
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_NONBLOCK, int(htons(unix.ETH_P_IP)))
	require.NoError(t, err)
	require.NoError(t, unix.Bind(fd, &unix.SockaddrLinklayer{Protocol: htons(unix.ETH_P_IP), Ifindex: ifindex(t, dev)}))
	return fd
}

func ifindex(t testing.TB, dev string) int {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM, 0)
	require.NoError(t, err)
	defer unix.Close(fd)
	r, err := unix.NewIfreq(dev)
	require.NoError(t, err)
	require.NoError(t, unix.IoctlIfreq(fd, unix.SIOCGIFINDEX, r))
	return int(r.Uint32())
}

// bytes writes a packet for the wire, its payload a number to know it by.
func bytes(p packet.Packet, id uint32) []byte {
	var body []byte
	tag := binary.BigEndian.AppendUint32([]byte("toril"), id)
	switch p.Proto {
	case 6:
		body = make([]byte, 20)
		binary.BigEndian.PutUint16(body, p.Sport)
		binary.BigEndian.PutUint16(body[2:], p.Dport)
		binary.BigEndian.PutUint32(body[4:], 1)
		body[12], body[13] = 5<<4, 0x02 // SYN
		if p.Direction == packet.Reply {
			body[13] = 0x12
			binary.BigEndian.PutUint32(body[8:], 2+uint32(len(tag)))
		}
		binary.BigEndian.PutUint16(body[14:], 1000)
	case 17:
		body = make([]byte, 8)
		binary.BigEndian.PutUint16(body, p.Sport)
		binary.BigEndian.PutUint16(body[2:], p.Dport)
		binary.BigEndian.PutUint16(body[4:], uint16(8+len(tag)))
	case 1:
		body = make([]byte, 8)
		body[0], body[1] = byte(p.ICMP>>8), byte(p.ICMP)
		binary.BigEndian.PutUint16(body[4:], uint16(id))
	default:
		body = make([]byte, 8)
	}
	body = append(body, tag...)
	head := make([]byte, 20)
	head[0], head[8], head[9] = 0x45, 60, p.Proto
	binary.BigEndian.PutUint16(head[2:], uint16(20+len(body)))
	binary.BigEndian.PutUint16(head[4:], uint16(id))
	copy(head[12:], p.Src.AsSlice())
	copy(head[16:], p.Dst.AsSlice())
	binary.BigEndian.PutUint16(head[10:], sum(head, 0))
	switch at := map[uint8]int{6: 16, 17: 6, 1: 2}[p.Proto]; p.Proto {
	case 6, 17:
		pseudo := append(append(append([]byte{}, p.Src.AsSlice()...), p.Dst.AsSlice()...), 0, p.Proto, byte(len(body)>>8), byte(len(body)))
		binary.BigEndian.PutUint16(body[at:], sum(append(pseudo, body...), 0))
	case 1:
		binary.BigEndian.PutUint16(body[at:], sum(body, 0))
	}
	return append(head, body...)
}

func sum(b []byte, start uint32) uint16 {
	n := start
	for i := 0; i+1 < len(b); i += 2 {
		n += uint32(b[i])<<8 | uint32(b[i+1])
	}
	if len(b)%2 == 1 {
		n += uint32(b[len(b)-1]) << 8
	}
	for n > 0xffff {
		n = n>>16 + n&0xffff
	}
	return ^uint16(n)
}

// parse reads a packet off the wire; ok is false where it is none of ours.
func parse(b []byte) (p packet.Packet, id uint32, ok bool) {
	if len(b) < 29 || b[0] != 0x45 {
		return p, 0, false
	}
	at := strings.Index(string(b), "toril")
	if at < 0 || at+9 > len(b) {
		return p, 0, false
	}
	id = binary.BigEndian.Uint32(b[at+5:])
	p.Family = packet.IPv4
	p.Proto = b[9]
	p.Src, _ = netip.AddrFromSlice(b[12:16])
	p.Dst, _ = netip.AddrFromSlice(b[16:20])
	if p.Proto == 6 || p.Proto == 17 {
		p.Sport, p.Dport = binary.BigEndian.Uint16(b[20:]), binary.BigEndian.Uint16(b[22:])
	}
	if p.Proto == 1 {
		p.ICMP = uint16(b[20])<<8 | uint16(b[21])
		if b[20] != 8 && b[20] != 0 {
			return p, 0, false // an answer of the gateway's, with our packet in it
		}
	}
	return p, id, true
}

// emit sends a packet from the network.
func (w *wire) emit(p packet.Packet, id uint32) {
	to := unix.SockaddrInet4{Addr: p.Dst.As4()}
	require.NoError(w.t, unix.Sendto(w.send, bytes(p, id), 0, &to))
}

// emitOutside sends a packet from an outside wire to the gateway.
func (w *wire) emitOutside(dev string, p packet.Packet, id uint32) {
	w.in(w.out, func() {
		index := ifindex(w.t, dev)
		require.NoError(
			w.t,
			unix.Sendto(
				w.seen[dev],
				bytes(p, id),
				0,
				&unix.SockaddrLinklayer{Protocol: htons(unix.ETH_P_IP), Ifindex: index, Halen: 6, Addr: [8]byte{2, 0, 0, 0, 0, 1}},
			),
		)
	})
}

// sighting is a packet that was seen on a wire.
type sighting struct {
	where string
	p     packet.Packet
}

// watch collects what is seen on some wires within a time, by number.
func (w *wire) watch(d time.Duration, enough int, where ...string) map[uint32]sighting {
	out := map[uint32]sighting{}
	buf := make([]byte, 2048)
	for end := time.Now().Add(d); time.Now().Before(end) && len(out) < enough; time.Sleep(200 * time.Microsecond) {
		for _, dev := range where {
			for {
				n, from, err := unix.Recvfrom(w.seen[dev], buf, 0)
				if err != nil {
					break
				}
				if ll, ok := from.(*unix.SockaddrLinklayer); ok && ll.Pkttype == unix.PACKET_OUTGOING {
					continue // our own
				}
				if p, id, ok := parse(buf[:n]); ok {
					out[id] = sighting{dev, p}
				}
			}
		}
	}
	return out
}
