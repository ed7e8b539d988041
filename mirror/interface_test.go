package mirror_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/mirror"
)

const byInterface = `connections {
    wrack {
        version = 2
        local_addrs = 198.51.100.61
        remote_addrs = 203.0.113.61
        proposals = aes256gcm16-prfsha384-ecp384-ke1_mlkem1024
        dpd_delay = 30s
        local {
            auth = psk
            id = kelp.example
        }
        remote {
            auth = psk
            id = wrack.example
        }
        children {
            net {
                SELECTORS
                esp_proposals = aes256gcm16-ecp384
                replay_window = 64
                start_action = trap
            }
        }
    }
}
secrets {
    ike-peer {
        id-own = kelp.example
        id-peer = wrack.example
        secret = "Zk3vXq8LmT2wRc7YpB5nHd9JgAe6UoFs"
    }
}
`

// TestMirrorsOfTunnelsByInterface: the far end of a tunnel that is routed through an interface agrees with the original, and once
// it has its key the audit of both finds nothing that one would act on.
func TestMirrorsOfTunnelsByInterface(t *testing.T) {
	for name, c := range map[string]struct{ selectors, device string }{
		"xfrm": {"local_ts = 0.0.0.0/0\nremote_ts = 0.0.0.0/0\nif_id_in = 42\nif_id_out = 42", "xfrm if_id 0x2a"},
		"VTI": {"local_ts = 0.0.0.0/0\nremote_ts = 0.0.0.0/0\nmark_in = 42\nmark_out = 42", "vti remote FAR local OWN ikey 0.0.0.42 okey " +
			"0.0.0.42"},
		"GRE in transport":  {"local_ts = dynamic[gre]\nremote_ts = dynamic[gre]\nmode = transport", "gre remote FAR local OWN ttl 64"},
		"IPIP in transport": {"local_ts = dynamic[4]\nremote_ts = dynamic[4]\nmode = transport", "ipip remote FAR local OWN ttl 64"},
	} {
		t.Run(name, func(t *testing.T) {
			files := fstest.MapFS{}
			device := func(gw, own, far, lan, remote, transfer string) {
				d := strings.NewReplacer("OWN", own, "FAR", far).Replace(c.device)
				files[gw+"/net.txt"] = &fstest.MapFile{
					Data: []byte(
						fmt.Sprintf(
							"2: wan0: <UP> mtu 1500\n    inet %s/24 scope global wan0\n3: lan0: <UP> mtu 1500\n"+
								"    inet %s.1/24 scope global lan0\n9: t0@NONE: <POINTOPOINT,NOARP,UP> mtu 1400\n    %s\n"+
								"    inet %s/30 scope global t0\ndefault dev wan0\n%s.0/24 dev lan0 proto kernel\n%s.0/24 dev t0\n",
							own,
							lan,
							d,
							transfer,
							lan,
							remote,
						),
					),
				}
				files[gw+"/strongswan.conf"] = &fstest.MapFile{Data: []byte("charon {\n    install_routes = no\n}\n")}
			}
			device("kelp", "198.51.100.61", "203.0.113.61", "10.70.2", "10.71.2", "172.31.9.5")
			files["kelp/swanctl.conf"] = &fstest.MapFile{Data: []byte(strings.Replace(byInterface, "SELECTORS", c.selectors, 1))}
			alone := load(t, files)
			text, err := mirror.Swanctl(mirror.Of(alone.Tunnels[0], alone.Tunnels[0].Ends[0]))
			require.NoError(t, err)
			agrees(t, alone.Tunnels[0].Ends[0], text)

			device("wrack", "203.0.113.61", "198.51.100.61", "10.71.2", "10.70.2", "172.31.9.6")
			key := "secrets {\n  ike-peer {\n    id-own = wrack.example\n    id-peer = kelp.example\n" +
				"    secret = \"Zk3vXq8LmT2wRc7YpB5nHd9JgAe6UoFs\"\n  }\n}\n"
			files["wrack/swanctl.conf"] = &fstest.MapFile{Data: []byte(text + key)}
			b, err := baseline.Named(baseline.Default)
			require.NoError(t, err)
			r, err := audit.Run(context.Background(), load(t, files).Estate, suite.All(), b, time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC))
			require.NoError(t, err)
			for _, f := range r.Findings {
				assert.Less(t, f.Severity, audit.Low, "%s: %s\n%s", f.Check, f.Message, text)
			}
		})
	}
}
