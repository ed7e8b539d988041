package formats_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/model"
	"toril/read/formats"
	"toril/read/readtest"
)

// recordings is where status of real daemons lies (lab/status).
const recordings = "../../audit/observed/testdata/recorded"

// recorded reads some files of a gateway's recorded status.
func recorded(t *testing.T, scenario, gateway string, names ...string) *model.Gateway {
	files := map[string]string{}
	for _, n := range names {
		data, err := os.ReadFile(filepath.Join(recordings, scenario, "estate", gateway, n))
		require.NoError(t, err)
		files[n] = string(data)
	}
	g := readtest.ReadAll(formats.All(), files)
	assert.Empty(t, readtest.Unread(g))
	assert.Empty(t, readtest.Problems(g))
	return g
}

// TestOneStatusInSeveralForms reads the same SAs as text, raw, as ipsec statusall prints them, and from the kernel: they are the same.
func TestOneStatusInSeveralForms(t *testing.T) {
	type seen struct {
		suite, local, remote string
		in, out              uint32
		bytes                uint64
	}
	of := func(names ...string) map[string]seen {
		out := map[string]seen{}
		for _, k := range recorded(t, "up", "lampwright", names...).Observed.Children {
			require.True(t, k.Up)
			suite := k.Suite
			suite.Transforms[4] = suite.Transforms[0] // the kernel does not tell the key exchange
			out[k.Local.String()] = seen{suite.String(), k.Local.String(), k.Remote.String(), k.In.SPI, k.Out.SPI, k.Out.Bytes}
		}
		return out
	}
	want := of("list-sas.txt")
	assert.Len(t, want, 2)
	assert.Equal(t, want, of("list-sas-raw.txt"), "raw")
	assert.Equal(t, want, of("statusall.txt"), "ipsec statusall")
	assert.Equal(t, want, of("xfrm-state.txt", "xfrm-policy.txt"), "the kernel")

	libre := recorded(t, "libreswan-up", "buoyyard", "whack-status.txt", "trafficstatus.txt", "xfrm-state.txt", "xfrm-policy.txt").Observed
	require.NotEmpty(t, libre.IKE)
	assert.True(t, libre.IKE[0].Up)
	assert.Equal(t, "198.51.100.10", libre.IKE[0].Remote.String())
	spis := map[uint32]bool{}
	for _, k := range libre.Children {
		if k.In.SPI != 0 {
			spis[k.In.SPI] = true
		}
	}
	assert.Len(t, spis, 1, "the daemon and the kernel tell of one SA")
}

// TestLoadedConnections reads what a daemon has loaded, as text and pretty.
func TestLoadedConnections(t *testing.T) {
	for _, name := range []string{"list-conns.txt", "list-conns-pretty.txt"} {
		o := recorded(t, "up", "lampwright", name).Observed
		_, listed := o.Lists(model.ListLoaded)
		assert.True(t, listed, name)
		require.Len(t, o.Loaded, 1, name)
		l := o.Loaded[0]
		assert.Equal(t, "buoyyard", l.Name)
		assert.Equal(t, 4*time.Hour, l.Rekey)
		require.Len(t, l.Children, 2)
		assert.Equal(t, "10.40.1.0/24", l.Children[1].Remote.String())
		assert.Equal(t, time.Hour, l.Children[0].Rekey)
	}
}

// TestKeysOfTheKernelAreHidden quotes every line of ip xfrm state: no key is in any.
func TestKeysOfTheKernelAreHidden(t *testing.T) {
	for scenario, name := range map[string]string{"up": "xfrm-state.txt", "libreswan-up": "xfrm-state.txt"} {
		g := recorded(t, scenario, "lampwright", name)
		f := g.Files[0]
		hidden := 0
		for n := 1; n <= f.Lines(); n++ {
			quote := f.Quote(f.At(n))
			assert.NotRegexp(t, `0x[0-9a-f]{16,}`, quote)
			if quote != f.Line(n) && len(f.Line(n)) > 60 {
				hidden++
			}
		}
		assert.Positive(t, hidden, scenario)
	}
}

// TestCounters reads what interfaces counted, and connections that the kernel tracks.
func TestCounters(t *testing.T) {
	o := recorded(t, "up", "lampwright", "ip-s-link.txt").Observed
	require.Len(t, o.Traffic, 3)
	assert.Equal(t, "wan", o.Traffic[1].Interface)
	assert.Positive(t, o.Traffic[1].BytesIn)
	assert.Positive(t, o.Traffic[1].BytesOut)
	g := recorded(t, "in-the-clear", "lampwright", "conntrack.txt")
	require.NotEmpty(t, g.Observed.Flows)
	f := g.Observed.Flows[0]
	assert.Equal(t, "10.10.0.10 to 10.40.0.10, back to 198.51.100.10", f.Src.String()+" to "+f.Dst.String()+", back to "+f.RDst.String())
	assert.Len(t, g.Translated(), len(g.Observed.Flows))
}

// TestClampsAndMTUs reads what rules make of the MSS of TCP, and the MTUs of interfaces.
func TestClampsAndMTUs(t *testing.T) {
	mss := func(files map[string]string) (out []int) {
		for _, c := range readtest.ReadAll(formats.All(), files).Chains {
			for _, r := range c.Rules {
				out = append(out, r.MSS)
			}
		}
		return out
	}
	assert.Equal(t, []int{1360, model.PathMSS, 0}, mss(map[string]string{"nftables.conf": `table inet filter {
    chain forward {
        type filter hook forward priority filter; policy drop;
        tcp flags & (syn | rst) == syn tcp option maxseg size set 1360
        tcp flags & (syn | rst) == syn tcp option maxseg size set rt mtu
        tcp dport 443 accept
    }
}
`}))
	assert.Equal(t, []int{1360, model.PathMSS}, mss(map[string]string{"rules.v4": `*mangle
:FORWARD ACCEPT [0:0]
-A FORWARD -p tcp -m tcp --tcp-flags SYN,RST SYN -j TCPMSS --set-mss 1360
-A FORWARD -p tcp -m tcp --tcp-flags SYN,RST SYN -j TCPMSS --clamp-mss-to-pmtu
COMMIT
`}))
	for name, text := range map[string]string{
		"ip-address.txt": "2: wan: <BROADCAST,UP,LOWER_UP> mtu 1492 qdisc noqueue state UP\n    inet 192.0.2.1/24 scope global wan\n",
		"addr.json":      `[{"ifname":"wan","flags":["UP"],"mtu":1492,"addr_info":[]}]`,
	} {
		g := readtest.ReadAll(formats.All(), map[string]string{name: text})
		require.Len(t, g.Interfaces, 1, name)
		assert.Equal(t, 1492, g.Interfaces[0].MTU.Value, name)
	}
}

// TestHostileStatus reads status that was cut off or made up: nothing is lost but what cannot be told.
func TestHostileStatus(t *testing.T) {
	for name, text := range map[string]string{
		"list-sas-raw.txt": "list-sa event {a {uniqueid=1 version=2 state=ESTABLISHED child-sas {b-1 {name=b state=INSTALLED " +
			"spi-in=zz local-ts=[10.0.0.0/99",
		"list-sas.txt": "a: #1, ESTABLISHED, IKEv2, 1_i* 2_r\n  b: #1, INSTALLED, TUNNEL, ESP:WARBLE\n    in  c0ffee01, " +
			"99999999999999999999 bytes, 1 packets\n",
		"xfrm-state.txt": "src x dst y\n\tproto esp spi 0xffffffffff reqid 1 mode tunnel\n\taead warble 0x00 128\n",
		"charon.log":     "Nov 27 01:00:00 05[IKE] received \u202eX notify error\nNov 27 01:00:00 05[CFG] received proposals: \u202e\n",
	} {
		g := readtest.ReadAll(formats.All(), map[string]string{name: text})
		require.Len(t, g.Files, 1, name)
		assert.NotPanics(t, func() { g.Observed.Couple() }, name)
	}
}

// FuzzStatus reads anything as any kind of status: no reader fails, and what is coupled has both directions.
func FuzzStatus(f *testing.F) {
	names := []string{"strongswan-status", "strongswan-log", "libreswan-status", "libreswan-log", "ip-xfrm", "conntrack"}
	for _, scenario := range []string{"up", "one-way", "libreswan-up", "libreswan-key"} {
		found, _ := filepath.Glob(filepath.Join(recordings, scenario, "estate", "lampwright", "*.*"))
		for _, file := range found {
			if data, err := os.ReadFile(file); err == nil && len(data) < 6<<10 {
				for i := range names {
					f.Add(string(data), uint8(i))
				}
			}
		}
	}
	f.Fuzz(func(t *testing.T, text string, which uint8) {
		g := readtest.Read(byName(t, names[int(which)%len(names)]), "x", text, nil)
		for _, k := range g.Observed.Children {
			if k.Kernel {
				assert.NotZero(t, k.In.SPI)
				assert.NotZero(t, k.Out.SPI)
			}
		}
		assert.LessOrEqual(t, len(g.Observed.Failures), 200)
	})
}
