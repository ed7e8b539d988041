package literal_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/daemon/form"
	"toril/model/literal"
	"toril/packet"
)

func TestTime(t *testing.T) {
	for text, want := range map[string]time.Duration{
		"0": 0, "3600": time.Hour, "90s": 90 * time.Second, "30m": 30 * time.Minute, "4h": 4 * time.Hour, "2d": 48 * time.Hour,
		"10 m": 10 * time.Minute,
	} {
		got, err := form.Time.Read(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "h", "-1", "1w", "1.5h", "4 hours", "99999999999", "0x10"} {
		_, err := form.Time.Read(text)
		assert.Error(t, err, text)
	}
}

func TestSize(t *testing.T) {
	for text, want := range map[string]uint64{"0": 0, "1000": 1000, "7m": 7 << 20, "1G": 1 << 30, "512k": 512 << 10,
		"18446744073709551615": 1<<64 - 1} {
		got, err := form.Size.Read(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "k", "1t", "-5", "18446744073709551615k", "1.5m"} {
		_, err := form.Size.Read(text)
		assert.Error(t, err, text)
	}
}

func TestBoolAndNumber(t *testing.T) {
	for text, want := range map[string]bool{"yes": true, "no": false, "TRUE": true, "false": false, "1": true, "0": false,
		"enabled": true} {
		got, err := form.Bool.Read(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	_, err := form.Bool.Read("perhaps")
	assert.Error(t, err)
	n, err := form.Number.Read("0x2a")
	require.NoError(t, err)
	assert.EqualValues(t, 42, n)
	_, err = form.Number.Read("4294967296")
	assert.Error(t, err, "does not fit 32 bits")
}

func TestNet(t *testing.T) {
	for text, want := range map[string]string{
		"10.1.0.0/16": "10.1.0.0/16", "10.1.2.3": "10.1.2.3", "10.1.2.3/16": "10.1.0.0/16", "10.1.0.0/33": "10.1.0.0",
		"10.1.0.5-10.1.0.9": "10.1.0.5-10.1.0.9", "2001:db8::/32": "2001:db8::/32", "::/0": "::/0", "dynamic": "own address",
		"": "own address",
	} {
		got, err := literal.Net(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.String(), text)
	}
	for _, text := range []string{"10.1", "10.1.0.9-10.1.0.5", "10.1.0.1-2001:db8::1", "host.example", "10.1.0.0/x", "10.1.0.0/-1"} {
		_, err := literal.Net(text)
		assert.Error(t, err, text)
	}
}

func TestProtocols(t *testing.T) {
	for text, want := range map[string]uint8{"": 0, "any": 0, "%any": 0, "tcp": 6, "UDP": 17, "icmp": 1, "ipv6-icmp": 58, "esp": 50,
		"47": 47, "255": 255} {
		got, err := literal.Proto(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"256", "-1", "tpc"} {
		_, err := literal.Proto(text)
		assert.Error(t, err, text)
		_, err = literal.Protocols(text)
		assert.Error(t, err, text)
	}
	v, err := literal.Protocols("50-51")
	require.NoError(t, err)
	assert.True(t, v.Has(50) && v.Has(51) && !v.Has(52))
}

func TestPorts(t *testing.T) {
	for text, want := range map[string]packet.Values{
		"443": packet.OneOf(443), "ssh": packet.OneOf(22), "1024-65535": packet.Numbers(1024, 65535), "*": packet.Numbers(0, 65535),
		"0x50": packet.OneOf(80), "http-443": packet.Numbers(80, 443),
	} {
		got, err := literal.Ports(text)
		require.NoError(t, err, text)
		assert.True(t, want.Equal(got), text)
	}
	for _, text := range []string{"", "65536", "443-80", "nosuchservice", "-", "80-"} {
		_, err := literal.Ports(text)
		assert.Error(t, err, text)
	}
}

func TestSelectorPorts(t *testing.T) {
	for text, want := range map[string][2]uint16{"": {0, 65535}, "any": {0, 65535}, "443": {443, 443}, "ssh": {22, 22},
		"1000-2000": {1000, 2000}} {
		s, err := literal.Net("10.0.0.1")
		require.NoError(t, err)
		require.NoError(t, literal.SelectorPorts(text, &s), text)
		assert.Equal(t, want, [2]uint16{s.LoPort, s.HiPort}, text)
	}
	s, err := literal.Net("10.0.0.1")
	require.NoError(t, err)
	require.NoError(t, literal.SelectorPorts("opaque", &s))
	assert.True(t, s.Opaque)
	for _, text := range []string{"70000", "20-10", "x"} {
		assert.Error(t, literal.SelectorPorts(text, &s), text)
	}
}

func TestAddresses(t *testing.T) {
	for text, want := range map[string]string{"10.0.0.1": "10.0.0.1", "10.0.0.0/8": "10.0.0.0/8",
		"10.0.0.1-10.0.0.9": "10.0.0.1-10.0.0.9"} {
		v, err := literal.Addresses(text, packet.IPv4)
		require.NoError(t, err, text)
		assert.Equal(t, want, packet.Spell(v, packet.IPv4), text)
	}
	for _, text := range []string{"2001:db8::1", "10.0.0.9-10.0.0.1", "10.0.0.256", "lan"} {
		_, err := literal.Addresses(text, packet.IPv4)
		assert.Error(t, err, text)
	}
	_, err := literal.Addresses("2001:db8::/32", packet.IPv6)
	assert.NoError(t, err)
}

func TestMaskBits(t *testing.T) {
	for text, want := range map[string]int{"255.255.255.0": 24, "255.255.255.255": 32, "0.0.0.0": 0, "255.254.0.0": 15} {
		n, ok := literal.MaskBits(netip.MustParseAddr(text))
		assert.True(t, ok, text)
		assert.Equal(t, want, n, text)
	}
	_, ok := literal.MaskBits(netip.MustParseAddr("255.0.255.0"))
	assert.False(t, ok, "not a prefix")
}

func TestHost(t *testing.T) {
	fixed := literal.Host("198.51.100.1")
	a, ok := fixed.Single()
	assert.True(t, ok)
	assert.Equal(t, "198.51.100.1", a.String())
	network := literal.Host("198.51.100.0/24")
	_, ok = network.Single()
	assert.False(t, ok)
	assert.True(t, network.Covers(netip.MustParseAddr("198.51.100.77")))
	assert.False(t, network.Covers(netip.MustParseAddr("198.51.101.1")))
	span := literal.Host("198.51.100.5-198.51.100.9")
	assert.True(t, span.Covers(netip.MustParseAddr("198.51.100.7")))
	assert.True(t, literal.Host("%any").Covers(netip.MustParseAddr("192.0.2.1")))
	name := literal.Host("peer.example")
	_, ok = name.Single()
	assert.False(t, ok)
}

func TestTargets(t *testing.T) {
	for text, want := range map[string]struct {
		addrs, ports string
		onto         bool
	}{
		"10.1.0.7": {addrs: "10.1.0.7"}, "10.1.0.7:8080": {addrs: "10.1.0.7", ports: "8080"}, ":3128": {ports: "3128"},
		"10.1.0.7-10.1.0.9":  {addrs: "10.1.0.7, 10.1.0.8/31"},
		"10.1.0.7:1024-2048": {addrs: "10.1.0.7", ports: "1024-2048"}, "10.9.0.0/24": {addrs: "10.9.0.0/24", onto: true},
	} {
		to, err := literal.Target(text, packet.IPv4)
		require.NoError(t, err, text)
		assert.Equal(t, text, to.Text)
		assert.Equal(t, want.onto, to.Onto.IsValid(), text)
		if want.addrs != "" {
			assert.Equal(t, want.addrs, packet.Spell(to.Addrs, packet.IPv4), text)
		} else {
			assert.True(t, to.Addrs.Empty(), text)
		}
		if want.ports != "" {
			v, err := literal.Ports(want.ports)
			require.NoError(t, err)
			assert.True(t, v.Equal(to.Ports), text)
		} else {
			assert.True(t, to.Ports.Empty(), text)
		}
	}
	six, err := literal.Target("[2001:db8::7]:443", packet.IPv4)
	require.NoError(t, err)
	assert.Equal(t, packet.IPv6, six.Family)
	assert.True(t, packet.OneOf(443).Equal(six.Ports))
	for _, text := range []string{"", ":", "[2001:db8::7", "10.1.0.7:x", "nowhere"} {
		_, err := literal.Target(text, packet.IPv4)
		assert.Error(t, err, text)
	}
}

func TestEachType(t *testing.T) {
	v := literal.EachType(packet.OneOf(8, 3))
	assert.True(t, v.Has(8<<8) && v.Has(8<<8|255) && v.Has(3<<8|4))
	assert.False(t, v.Has(9<<8))
	for name, n := range literal.ICMPTypes {
		assert.LessOrEqual(t, n, uint64(255), name)
	}
	assert.EqualValues(t, 8, literal.ICMPTypes["echo-request"])
	assert.EqualValues(t, 128, literal.ICMPv6Types["echo-request"])
	assert.EqualValues(t, 500, literal.Services["isakmp"])
}

// TestFourReadsWhatTheStandardLibraryDoes: addresses and networks with something changed in them.
func TestFourReadsWhatTheStandardLibraryDoes(t *testing.T) {
	r := rand.New(rand.NewPCG(20261128, 2))
	const chars = "0123456789./ :-+a"
	read := 0
	for range 200_000 {
		text := []byte(fmt.Sprintf("%d.%d.%d.%d", r.IntN(260), r.IntN(30), r.IntN(260), r.IntN(4)))
		if r.IntN(2) == 0 {
			text = fmt.Appendf(text, "/%d", r.IntN(34))
		}
		for range r.IntN(3) {
			switch at := r.IntN(len(text)); r.IntN(3) {
			case 0:
				text[at] = chars[r.IntN(len(chars))]
			case 1:
				text = slices.Insert(text, at, chars[r.IntN(len(chars))])
			default:
				text = slices.Delete(text, at, at+1)
			}
		}
		var want packet.Values
		known := false
		if p, err := netip.ParsePrefix(string(text)); err == nil && p.Addr().Is4() {
			want, known = packet.Prefix(p), true
		} else if a, err := netip.ParseAddr(string(text)); err == nil && a.Is4() {
			want, known = packet.Addresses(a, a), true
		}
		got, ok := literal.Four(string(text))
		require.Equal(t, known, ok, "%s", text)
		require.Equal(t, want.String(), got.String(), "%s", text)
		if ok {
			read++
		}
	}
	assert.Greater(t, read, 20_000)
}
