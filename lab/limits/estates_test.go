//go:build lab

package limits

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/lab"
)

// ringOf writes an estate of gateways in a ring: each with two connections, to the one before and the one behind, forty rules, addresses,
// routes and keys.
func ringOf(t *testing.T, dir string, n int) {
	address := func(i int) string { return fmt.Sprintf("198.%d.%d.%d", 18+i/65536, i/256%256, i%256) }
	network := func(i int) string { return fmt.Sprintf("10.%d.%d", i/256%256, i%256) }
	var rules strings.Builder
	for k := range 32 {
		fmt.Fprintf(&rules, "  ip saddr 10.%d.0.0/16 tcp dport %d accept\n", k, 1000+k)
	}
	for i := range n {
		folder := filepath.Join(dir, fmt.Sprintf("g%06d", i))
		require.NoError(t, os.MkdirAll(folder, 0o755))
		var connections, secrets strings.Builder
		for _, far := range []int{(i + 1) % n, (i + n - 1) % n} {
			fmt.Fprintf(
				&connections,
				" to%d {\n  version = 2\n  local_addrs = %s\n  remote_addrs = %s\n  proposals = aes256gcm16-prfsha384-ecp384\n"+
					"  local {\n   auth = psk\n   id = g%d.example\n  }\n  remote {\n   auth = psk\n   id = g%d.example\n  }\n"+
					"  children {\n   n {\n    local_ts = %s.0/24\n    remote_ts = %s.0/24\n    esp_proposals = aes256gcm16-ecp384\n"+
					"    start_action = trap\n   }\n  }\n }\n",
				far, address(i), address(far), i, far, network(i), network(far),
			)
			key := sha256.Sum256(fmt.Appendf(nil, "%d %d", min(i, far), max(i, far)))
			fmt.Fprintf(&secrets, " ike%d {\n  id-0 = g%d.example\n  id-1 = g%d.example\n  secret = %s\n }\n",
				far, i, far, hex.EncodeToString(key[:])[:48])
		}
		for name, text := range map[string]string{
			"swanctl.conf": "connections {\n" + connections.String() + "}\nsecrets {\n" + secrets.String() + "}\n",
			"rules.nft": "table inet f {\n chain input {\n  type filter hook input priority 0; policy drop;\n" +
				"  ct state established,related accept\n  udp dport { 500, 4500 } accept\n  meta l4proto esp accept\n }\n" +
				" chain forward {\n  type filter hook forward priority 0; policy drop;\n  ct state established,related accept\n" +
				rules.String() + "  ip saddr " + network(i) + ".0/24 oif wan accept\n  ip daddr " + network(i) +
				".0/24 rt ipsec exists accept\n }\n chain post {\n  type nat hook postrouting priority 100; policy accept;\n" +
				"  ip daddr 10.0.0.0/8 accept\n  oif wan masquerade\n }\n}\n",
			"addr.txt": "1: lo: <LOOPBACK,UP,LOWER_UP> mtu 65536 state UNKNOWN\n    inet 127.0.0.1/8 scope host lo\n" +
				"2: wan: <BROADCAST,UP,LOWER_UP> mtu 1500 state UP\n    inet " + address(i) + "/15 scope global wan\n" +
				"3: lan: <BROADCAST,UP,LOWER_UP> mtu 1500 state UP\n    inet " + network(i) + ".1/24 scope global lan\n",
			"route.txt": "default via 198.18.0.254 dev wan\n198.18.0.0/15 dev wan proto kernel scope link src " + address(i) + "\n" +
				network(i) + ".0/24 dev lan proto kernel scope link src " + network(i) + ".1\n",
		} {
			require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
		}
	}
}

// TestMemoryOfAnEstate: ten times the gateways take at most twice the memory. TORIL_LAB_CASES is the larger number of gateways, 10,000 in
// the measurement that docs/architecture.md tells of; without it the estate only grows threefold, for time.
func TestMemoryOfAnEstate(t *testing.T) {
	tally := lab.NewTally(t, "memory of an estate within twice that of a tenth of it")
	const small = 1000
	large, err := strconv.Atoi(os.Getenv("TORIL_LAB_CASES"))
	if err != nil {
		large = 3 * small
	}
	program := filepath.Join(t.TempDir(), "toril")
	out, err := exec.Command("go", "build", "-o", program, "../../cmd/toril").CombinedOutput()
	require.NoError(t, err, "%s", out)
	var used [2]int64
	for i, n := range []int{small, large} {
		dir := t.TempDir()
		ringOf(t, dir, n)
		cmd := exec.Command(program, "audit", dir, "--format", "json")
		begin := time.Now()
		require.NoError(t, cmd.Run())
		used[i] = cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss << 10
		fmt.Printf("lab: %d gateways %5.1f s  %4d MiB\n", n, time.Since(begin).Seconds(), used[i]>>20)
	}
	tally.Count(assert.LessOrEqual(t, float64(used[1]), 2*float64(used[0])))
}
