//go:build lab

package lab

import (
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// The addresses of Behind: the end behind NAT, what it is translated to, and its peer.
const (
	Inside  = "192.168.7.2"
	Outside = "198.51.100.7"
	Peer    = "203.0.113.2"
)

// Behind makes two network namespaces with a device between them that translates addresses: the first is at Inside and seen at Outside, to
// which ports 500 and 4500 are forwarded, the second at Peer. Each has an address of the network behind it. The device is a relay of IKE
// and of ESP in UDP, as this kernel translates nothing; what is not UDP does not pass it.
func Behind(t testing.TB, name string) (a, b string) {
	t.Helper()
	a, b = "toril-"+name+"-a", "toril-"+name+"-b"
	in, out := "toril-"+name+"-i", "toril-"+name+"-o"
	run := func(line string, args ...any) error {
		return exec.Command("sh", "-ec", fmt.Sprintf(line, args...)).Run()
	}
	clean := func() {
		for _, ns := range []string{a, b, in, out} {
			_ = run("ip netns del %s", ns)
		}
	}
	clean()
	t.Cleanup(clean)
	const end = "ip -n %[1]s link set lo up; ip -n %[1]s addr add %[2]s/24 dev tv; ip -n %[1]s link set tv up; " +
		"ip -n %[1]s addr add %[3]s/32 dev lo; "
	for _, pair := range [][2]string{{a, in}, {b, out}} {
		require.NoError(t, run("ip netns add %[1]s; ip netns add %[2]s; "+
			"ip link add tv netns %[1]s type veth peer name tv netns %[2]s", pair[0], pair[1]))
	}
	require.NoError(t, run(end+"ip -n %[1]s route add default via 192.168.7.1", a, Inside, "10.1.0.1"))
	require.NoError(t, run(end+"ip -n %[1]s route add default via 203.0.113.1", b, Peer, "10.2.0.1"))
	require.NoError(t, run(end, in, "192.168.7.1", Peer))
	require.NoError(t, run(end, out, "203.0.113.1", Outside))
	for _, port := range []uint16{500, 4500} {
		relay(listen(t, in, Peer, port), listen(t, out, Outside, port), port)
	}
	return a, b
}

// listen opens a UDP socket in a network namespace.
func listen(t testing.TB, ns, address string, port uint16) *net.UDPConn {
	t.Helper()
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	own, err := os.Open("/proc/thread-self/ns/net")
	require.NoError(t, err)
	defer own.Close()
	there, err := os.Open("/var/run/netns/" + ns)
	require.NoError(t, err)
	defer there.Close()
	require.NoError(t, unix.Setns(int(there.Fd()), unix.CLONE_NEWNET))
	defer func() { require.NoError(t, unix.Setns(int(own.Fd()), unix.CLONE_NEWNET)) }()
	c, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(netip.MustParseAddr(address), port)))
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	return c
}

// relay hands on what comes to a port at either side: to the other end's port of that number, or to the one from which the end behind the
// device last spoke.
func relay(in, out *net.UDPConn, port uint16) {
	var mu sync.Mutex
	back := netip.AddrPortFrom(netip.MustParseAddr(Inside), port)
	pass := func(from, to *net.UDPConn, next func(netip.AddrPort) netip.AddrPort) {
		buffer := make([]byte, 1<<16)
		for {
			n, source, err := from.ReadFromUDPAddrPort(buffer)
			if err != nil {
				return
			}
			_, _ = to.WriteToUDPAddrPort(buffer[:n], next(source))
		}
	}
	go pass(in, out, func(source netip.AddrPort) netip.AddrPort {
		mu.Lock()
		defer mu.Unlock()
		back = source
		return netip.AddrPortFrom(netip.MustParseAddr(Peer), port)
	})
	go pass(out, in, func(netip.AddrPort) netip.AddrPort {
		mu.Lock()
		defer mu.Unlock()
		return back
	})
}
