//go:build lab

package emulated

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
	"toril/lab"
	"toril/lab/machine"
)

// sized are the algorithms whose packets are measured: as ip(8) has them, and as the suite.
var sized = []struct {
	name  string
	words string
	suite []ike.Choice
}{
	{"aes-gcm", "aead 'rfc4106(gcm(aes))' 0xKEY36 128", []ike.Choice{ike.Pick(ike.Encryption, 20, 256)}},
	{"aes-gcm-8", "aead 'rfc4106(gcm(aes))' 0xKEY20 64", []ike.Choice{ike.Pick(ike.Encryption, 18, 128)}},
	{"chacha", "aead 'rfc7539esp(chacha20,poly1305)' 0xKEY36 128", []ike.Choice{ike.Pick(ike.Encryption, 28, 0)}},
	{"aes-cbc-sha256", "enc 'cbc(aes)' 0xKEY32 auth-trunc 'hmac(sha256)' 0xKEY32 128",
		[]ike.Choice{ike.Pick(ike.Encryption, 12, 256), ike.Pick(ike.Integrity, 12, 0)}},
	{"aes-cbc-sha512", "enc 'cbc(aes)' 0xKEY32 auth-trunc 'hmac(sha512)' 0xKEY64 256",
		[]ike.Choice{ike.Pick(ike.Encryption, 12, 256), ike.Pick(ike.Integrity, 14, 0)}},
	{"aes-cbc-sha1", "enc 'cbc(aes)' 0xKEY16 auth-trunc 'hmac(sha1)' 0xKEY20 96",
		[]ike.Choice{ike.Pick(ike.Encryption, 12, 128), ike.Pick(ike.Integrity, 2, 0)}},
	{"3des-sha1", "enc 'cbc(des3_ede)' 0xKEY24 auth-trunc 'hmac(sha1)' 0xKEY20 96",
		[]ike.Choice{ike.Pick(ike.Encryption, 3, 0), ike.Pick(ike.Integrity, 2, 0)}},
	{"aes-ctr-sha256", "enc 'rfc3686(ctr(aes))' 0xKEY36 auth-trunc 'hmac(sha256)' 0xKEY32 128",
		[]ike.Choice{ike.Pick(ike.Encryption, 13, 256), ike.Pick(ike.Integrity, 12, 0)}},
	{"null-sha256", "enc 'ecb(cipher_null)' \"\" auth-trunc 'hmac(sha256)' 0xKEY32 128",
		[]ike.Choice{ike.Pick(ike.Encryption, 11, 0), ike.Pick(ike.Integrity, 12, 0)}},
}

// wraps are the ways in which packets are put into outer ones.
var wraps = []ike.Wrap{
	{Mode: ike.Tunnel},
	{Mode: ike.Tunnel, Encapsulated: true},
	{Mode: ike.Tunnel, Outer6: true},
	{Mode: ike.Tunnel, Inner6: true},
	{Mode: ike.Transport},
}

// TestSizesOfPackets sends packets of the computed size through a tunnel of every suite, and packets that are a byte longer: the first
// arrive whole, the second are too long.
func TestSizesOfPackets(t *testing.T) {
	tally := lab.NewTally(t, "inner MTU: packets of the size, and a byte more, through a kernel with ESP")
	t.Parallel()
	m := machine.New(t)
	var b strings.Builder
	b.WriteString(`
for x in esp6 authenc seqiv echainiv chacha20poly1305 rfc7539 ctr des_generic sha512_generic sha1_generic xfrm_algo crypto_null; do modprobe $x 2>/dev/null; done
ip netns add a; ip netns add b; ip link add w netns a type veth peer name w netns b
for n in a b; do ip netns exec $n sh -c 'for f in all default lo w; do echo 0 >/proc/sys/net/ipv6/conf/$f/disable_ipv6; done'; done
ip -n a link set lo up; ip -n b link set lo up
ip -n a addr add 198.51.100.1/24 dev w; ip -n b addr add 198.51.100.2/24 dev w
ip -n a addr add 2001:db8::1/64 dev w nodad; ip -n b addr add 2001:db8::2/64 dev w nodad
ip -n a addr add 10.1.0.1/32 dev lo; ip -n b addr add 10.2.0.1/32 dev lo
ip -n a addr add 2001:db8:1::1/128 dev lo nodad; ip -n b addr add 2001:db8:2::1/128 dev lo nodad
ip -n a link set w up; ip -n b link set w up
ip -n a route add 10.2.0.1/32 via 198.51.100.2; ip -n b route add 10.1.0.1/32 via 198.51.100.1
ip -n a route add 2001:db8:2::1/128 via 2001:db8::2; ip -n b route add 2001:db8:1::1/128 via 2001:db8::1
`)
	type tried struct {
		name string
		want int
	}
	var all []tried
	for i, s := range sized {
		words := s.words
		for _, n := range []int{16, 20, 24, 32, 36, 64} {
			words = strings.ReplaceAll(words, fmt.Sprintf("KEY%d", n), strings.Repeat("5a", n-1)+"5b")
		}
		for n, w := range wraps {
			if i%3 > 0 && n > 0 && w.Mode == ike.Tunnel { // what goes around a packet is the same for every suite: three are enough
				continue
			}
			suite := ike.Suite{Protocol: ike.ESP}
			for _, c := range s.suite {
				suite.Transforms[c.Registry] = c
			}
			want := suite.InnerMTU(w, 1500)
			all = append(all, tried{fmt.Sprintf("%s %+v", s.name, w), want})
			b.WriteString(sizes(words, w, want))
		}
	}
	parts := strings.Split(m.Run(b.String(), 9*time.Minute), "CASE\n")[1:]
	require.Len(t, parts, len(all))
	for i, c := range all {
		tally.Count(assert.Equal(t, "fits yes\nlonger no", strings.TrimSpace(said(parts[i])), "%s: %d bytes\n%s", c.name, c.want, parts[i]))
	}
}

// said are the lines of a case that tell what came of it.
func said(text string) string {
	var out strings.Builder
	for line := range strings.Lines(text) {
		if strings.HasPrefix(line, "fits ") || strings.HasPrefix(line, "longer ") {
			out.WriteString(line)
		}
	}
	return out.String()
}

// sizes is the script of one case.
func sizes(words string, w ike.Wrap, want int) string {
	own, peer, inner, far, header := "198.51.100.1", "198.51.100.2", "10.1.0.1", "10.2.0.1", 28
	if w.Outer6 {
		own, peer = "2001:db8::1", "2001:db8::2"
	}
	if w.Inner6 {
		inner, far, header = "2001:db8:1::1", "2001:db8:2::1", 48
	}
	mode, encap := "tunnel", ""
	if w.Mode == ike.Transport {
		mode, inner, far = "transport", own, peer
	}
	if w.Encapsulated {
		encap = " encap espinudp 4500 4500 0.0.0.0"
	}
	var b strings.Builder
	b.WriteString("echo CASE\nip -n a route flush cache; ip -n a -6 route flush cache 2>/dev/null\n")
	for _, n := range []string{"a", "b"} {
		fmt.Fprintf(&b, "ip -n %s -batch - <<'E'\nxfrm state flush\nxfrm policy flush\n", n)
		for _, dir := range [][2]string{{own, peer}, {peer, own}} {
			fmt.Fprintf(&b, "xfrm state add src %s dst %s proto esp spi 0x1%d mode %s flag af-unspec %s%s\n", dir[0], dir[1],
				len(dir[0])+strings.Count(dir[0], "1"), mode, words, encap)
		}
		from, to, x, z := inner, far, own, peer
		if n == "b" {
			from, to, x, z = far, inner, peer, own
		}
		bits := map[bool]string{true: "/128", false: "/32"}[strings.Contains(from, ":")]
		policy := func(src, dst, dir, of, to string) {
			fmt.Fprintf(&b, "xfrm policy add src %s%s dst %s%s dir %s tmpl src %s dst %s proto "+
				"esp mode %s\n", src, bits, dst, bits, dir, of, to, mode)
		}
		policy(from, to, "out", x, z)
		policy(to, from, "in", z, x)
		b.WriteString("E\n")
	}
	ping := func(size int) string {
		return fmt.Sprintf("ip netns exec a ping -n -M do -c1 -W0.5 -I %s -s %d %s >/tmp/ping 2>&1", inner, size-header, far)
	}
	sent := "grep -q 'too long\\|oo big' /tmp/ping"
	if w.Encapsulated { // a socket that takes what comes in UDP is a daemon's: what is sent is enough
		fmt.Fprintf(&b, "%s; %s && echo fits no || echo fits yes\n", ping(want), sent)
	} else {
		fmt.Fprintf(&b, "%s && echo fits yes || { echo fits no; cat /tmp/ping; }\n", ping(want))
	}
	fmt.Fprintf(&b, "%s && echo longer yes || { %s && echo longer no || { echo longer lost; cat /tmp/ping; }; }\n", ping(want+1), sent)
	return b.String()
}
