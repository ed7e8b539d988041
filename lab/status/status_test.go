//go:build lab

// Package status saves status of real daemons after real negotiations, in a kernel with ESP, and holds what Toril reads of it against
// what was done. TORIL_LAB_RECORD=yes puts what was saved in place of the recordings that the tests read.
package status

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit/observed/observedtest"
	"toril/lab"
	"toril/lab/machine"
)

const recorded = "../../audit/observed/testdata/recorded"

// prologue makes two gateways, each with a host behind it.
const prologue = `
export PATH=/usr/sbin:/sbin:/bin:/usr/bin
mkdir -p /var/lib; rm -rf /var/run; ln -s /run /var/run; : > /etc/ipsec.secrets; for d in cacerts aacerts ocspcerts acerts crls; do mkdir -p /etc/ipsec.d/$d; done
for m in authenc cbc gcm ccm hmac sha256_generic sha512_generic sha1_generic des_generic md5 seqiv echainiv xfrm_algo nf_conntrack nf_conntrack_netlink nft_ct nft_masq; do
  modprobe $m 2>/dev/null
done
echo 1 >/proc/sys/net/ipv4/ip_forward
GATEWAYS="lampwright buoyyard"
for g in $GATEWAYS; do ip netns add $g; ip netns add $g-host; ip -n $g link set lo up; ip -n $g-host link set lo up; done
ip link add wan netns lampwright type veth peer name wan netns buoyyard
net() { # gateway address networks...
  g=$1; ip -n $g addr add $2/24 dev wan; ip -n $g link set wan up; shift 2
  ip link add lan netns $g type veth peer name eth0 netns $g-host
  ip -n $g link set lan up; ip -n $g-host link set eth0 up
  for n in $*; do ip -n $g addr add $n.1/24 dev lan; ip -n $g-host addr add $n.10/24 dev eth0; done
  ip -n $g-host route add default via $1.1
  ip netns exec $g sh -c 'echo 1 >/proc/sys/net/ipv4/ip_forward; for f in all default wan lan; do echo 0 >/proc/sys/net/ipv4/conf/$f/rp_filter; done'
}
net lampwright 198.51.100.10 10.10.0 10.10.1
net buoyyard 198.51.100.40 10.40.0 10.40.1
ip -n lampwright route add default via 198.51.100.40; ip -n buoyyard route add default via 198.51.100.10
file() { echo "=== $S/estate/$1"; cat; }
awaits() { n=0; until "$@" >/dev/null 2>&1 || [ $n -ge 300 ]; do sleep 0.2; n=$((n+1)); done; } # a busy machine is waited for, a minute at most
daemons() { ps | awk '/\/ipsec\/(charon|pluto)/{print $1}'; }
ended() { ! kill -0 $1; } # process
logged() { awaits grep -qE "$2" /tmp/$1.log; } # gateway, what its daemon says
traffic() { ip netns exec lampwright-host ping -n -c3 -i0.3 -W0.5 -I 10.10.0.10 10.40.0.10 >/dev/null 2>&1; }
rules() { ip netns exec $1 nft -f /s/$S/estate/$1/nftables.conf; }
scenario() { # name
  S=$1; BEFORE=; TRIES=15; AGAIN=4
  for g in $GATEWAYS; do ip netns exec $g nft flush ruleset; ip -n $g xfrm state flush; ip -n $g xfrm policy flush; ip netns exec $g conntrack -F >/dev/null 2>&1; done
}
seen() { # gateway: what the kernel and ip show
  ip -n $1 -s xfrm state | file $1/xfrm-state.txt
  ip -n $1 xfrm policy | file $1/xfrm-policy.txt
  case $S in up|one-way|in-the-clear)
    ip netns exec $1 conntrack -L -p icmp 2>/dev/null | file $1/conntrack.txt
    ip -n $1 addr | file $1/ip-address.txt
    ip -n $1 route | file $1/ip-route.txt;;
  esac
}
`

// strongswan are the steps for that daemon.
const strongswan = `
printf 'swanctl {\n  load = pem pkcs1 x509 pubkey random openssl\n}\ncharon {\n}\n' >/etc/strongswan.conf
begin() { # gateway
  mkdir -p /etc/$1
  cat > /etc/$1/strongswan.conf <<E
charon {
  load = kdf random nonce openssl pem pkcs1 x509 pubkey aes sha1 sha2 hmac gcm des md5 gmp kernel-netlink socket-default vici stroke updown
  plugins {
    vici {
      socket = unix:///tmp/$1.vici
    }
    stroke {
      socket = unix:///tmp/$1.ctl
    }
  }
  filelog {
    f {
      path = /tmp/$1.log
      default = 1
      flush_line = yes
      time_format = %b %e %T
    }
  }
  retransmit_tries = $TRIES
  retransmit_timeout = $AGAIN
  retransmit_base = 1
}
E
  ip netns exec $1 sh -c "mount -t tmpfs t /run; STRONGSWAN_CONF=/etc/$1/strongswan.conf exec /usr/lib/ipsec/charon" >/dev/null 2>&1 &
  awaits [ -S /tmp/$1.vici ]
  conf=/s/$S/estate/$1/swanctl.conf; [ "$BEFORE" != $1 ] || conf=/s/$S/before/$1.conf
  sed 's/start_action = trap/start_action = none/' $conf > /tmp/$1.conf
  awaits sw $1 --load-all --noprompt --file /tmp/$1.conf
}
start() { begin lampwright; begin buoyyard; }
before() { BEFORE=$1; }
alone() { TRIES=2; AGAIN=1; begin $1; } # nothing answers it
sw() { g=$1; shift; swanctl "$@" --uri unix:///tmp/$g.vici >/dev/null 2>&1; }
one() { # gateway file
  case $2 in
    list-sas.txt) swanctl --list-sas --uri unix:///tmp/$1.vici;;
    list-sas-raw.txt) swanctl --list-sas --raw --uri unix:///tmp/$1.vici;;
    list-conns.txt) swanctl --list-conns --uri unix:///tmp/$1.vici;;
    list-conns-pretty.txt) swanctl --list-conns --pretty --uri unix:///tmp/$1.vici;;
    statusall.txt) printf "charon {\n plugins {\n  stroke {\n   socket = unix:///tmp/$1.ctl\n  }\n }\n}\n" > /etc/stroke.conf; STRONGSWAN_CONF=/etc/stroke.conf /usr/lib/ipsec/stroke statusall;;
  esac 2>&1
}
keep() { one $1 $2 > /tmp/kept; }
put() { file $1/$2 < /tmp/kept; }
save() {
  for g in $GATEWAYS; do
    [ -S /tmp/$g.vici ] || continue
    for f in list-sas list-conns; do one $g $f.txt | file $g/$f.txt; done
    if [ $S = up ]; then for f in list-sas-raw list-conns-pretty statusall; do one $g $f.txt | file $g/$f.txt; done; ip -n $g -s link | file $g/ip-s-link.txt; fi
    cat /tmp/$g.log | file $g/charon.log
    seen $g
  done
}
halt() { P=$(daemons); kill $P 2>/dev/null; for p in $P; do awaits ended $p; done; for g in $GATEWAYS; do rm -f /tmp/$g.vici /tmp/$g.ctl /tmp/$g.log; done; }
`

// libreswan are the steps for that daemon.
const libreswan = `
w() { g=$1; shift; ip netns exec $g timeout 20 /usr/libexec/ipsec/whack --rundir /tmp/$g.run "$@" 2>&1; }
launch() {
  for g in $GATEWAYS; do
    mkdir -p /tmp/$g.run /etc/$g.nss; cp /var/lib/ipsec/nss/* /etc/$g.nss/
    ip netns exec $g sh -c "mount -t tmpfs t /run; mkdir -p /run/pluto; exec /usr/libexec/ipsec/pluto --config /s/$S/estate/$g/ipsec.conf --secretsfile /s/$S/estate/$g/ipsec.secrets --nssdir /etc/$g.nss --rundir /tmp/$g.run --logfile /tmp/$g.log --nofork" >/dev/null 2>&1 &
  done
  for g in $GATEWAYS; do
    awaits w $g --listen
    ip netns exec $g /usr/libexec/ipsec/addconn --ctlsocket /tmp/$g.run/pluto.ctl --config /s/$S/estate/$g/ipsec.conf depot >/dev/null 2>&1
  done
}
refused() { w lampwright --asynchronous --initiate --name depot; logged lampwright 'rejected|dropping unexpected'; sleep 1; }
save() {
  for g in $GATEWAYS; do
    if [ $S = libreswan-up ]; then w $g --status; else w $g --status | grep -v ' algorithm '; fi | grep -v unity: | file $g/whack-status.txt
    w $g --trafficstatus | file $g/trafficstatus.txt
    grep depot /tmp/$g.log | file $g/pluto.log
    seen $g
  done
}
halt() { P=$(daemons); for g in $GATEWAYS; do w $g --shutdown >/dev/null; done; for p in $P; do awaits ended $p; done; for g in $GATEWAYS; do rm -rf /tmp/$g.run /tmp/$g.log /etc/$g.nss; done; }
`

// TestStatusOfRealDaemons runs every recorded scenario anew, and asks of what was saved what the tests ask of the recordings.
func TestStatusOfRealDaemons(t *testing.T) {
	tally := lab.NewTally(t, "status saved from real daemons, read and judged")
	names, err := os.ReadDir(recorded)
	require.NoError(t, err)
	of := map[bool][]string{}
	for _, n := range names {
		is := strings.HasPrefix(n.Name(), "libreswan-")
		of[is] = append(of[is], n.Name())
	}
	t.Run("strongSwan", func(t *testing.T) {
		t.Parallel()
		all(t, tally, WithStrongSwan(t), strongswan, of[false])
	})
	t.Run("Libreswan", func(t *testing.T) {
		t.Parallel()
		all(t, tally, WithLibreswan(t), libreswan, of[true])
	})
}

// WithStrongSwan returns a machine on which the daemon of strongSwan runs.
func WithStrongSwan(t testing.TB) *machine.Machine {
	lab.Need(t, "/usr/lib/ipsec/charon", "strongswan-charon", "strongswan-swanctl", "libcharon-extra-plugins",
		"libstrongswan-extra-plugins", "libstrongswan-standard-plugins", "strongswan-starter")
	lab.Need(t, "/usr/sbin/conntrack", "conntrack")
	return machine.New(t).With("strongswan", "", `
/usr/lib/ipsec/charon
/usr/lib/ipsec/stroke
/usr/lib/ipsec/_updown
/usr/lib/ipsec/plugins/*.so
/usr/sbin/swanctl
/usr/sbin/conntrack
`, "")
}

// WithLibreswan returns a machine on which Libreswan runs.
func WithLibreswan(t testing.TB) *machine.Machine {
	lab.Need(t, "/usr/sbin/conntrack", "conntrack")
	root := lab.Unpacked(t, "libreswan")
	return machine.New(t).With("libreswan", root, `
/usr/libexec/ipsec/pluto
/usr/libexec/ipsec/whack
/usr/libexec/ipsec/addconn
/usr/lib/x86_64-linux-gnu/libnss*.so
/usr/lib/x86_64-linux-gnu/libsoftokn3.so
/usr/lib/x86_64-linux-gnu/libfreebl*.so
`, fmt.Sprintf(`
mkdir -p root/var/lib/ipsec/nss root/usr/sbin; cp /usr/sbin/conntrack root/usr/sbin/; cp /usr/lib/x86_64-linux-gnu/libnetfilter_conntrack.so.3 /usr/lib/x86_64-linux-gnu/libmnl.so.0 /usr/lib/x86_64-linux-gnu/libnfnetlink.so.0 /usr/lib/x86_64-linux-gnu/libsqlite3.so.0 root/usr/lib/x86_64-linux-gnu/
LD_LIBRARY_PATH=%[1]s/usr/lib/x86_64-linux-gnu %[1]s/usr/bin/certutil -N -d sql:root/var/lib/ipsec/nss --empty-password
`, root))
}

// all runs scenarios in one machine.
func all(t *testing.T, tally *lab.Tally, m *machine.Machine, how string, names []string) {
	var b strings.Builder
	b.WriteString(prologue + how)
	for _, name := range names {
		for _, f := range []string{"estate/lampwright", "estate/buoyyard", "before"} {
			found, err := filepath.Glob(filepath.Join(recorded, name, f, "*"))
			require.NoError(t, err)
			for _, file := range found {
				if !strings.HasSuffix(file, ".conf") && !strings.HasSuffix(file, ".secrets") {
					continue
				}
				text, err := os.ReadFile(file)
				require.NoError(t, err)
				fmt.Fprintf(&b, "mkdir -p /s/%s/%s\ncat > /s/%s/%s/%s <<'EOS'\n%sEOS\n", name, f, name, f, filepath.Base(file), text)
			}
		}
		steps, err := os.ReadFile(filepath.Join(recorded, name, "steps.sh"))
		require.NoError(t, err)
		fmt.Fprintf(&b, "scenario %s\n%shalt\n", name, steps)
	}
	saved := split(m.Run(b.String(), 9*time.Minute))
	for _, name := range names {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			require.NoError(t, os.CopyFS(dir, os.DirFS(filepath.Join(recorded, name))))
			n := 0
			for file, text := range saved {
				if strings.HasPrefix(file, name+"/") {
					n++
					write(t, filepath.Join(dir, strings.TrimPrefix(file, name+"/")), text)
					if os.Getenv("TORIL_LAB_RECORD") != "" {
						write(t, filepath.Join(recorded, file), text)
					}
				}
			}
			require.Positive(t, n, "nothing was saved")
			tally.Count(assert.Empty(t, observedtest.Differences(t, dir)))
		})
	}
}

func write(t *testing.T, file, text string) {
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
}

// split takes apart what the script printed: "=== NAME" begins a file.
func split(out string) map[string]string {
	files, name := map[string]string{}, ""
	for line := range strings.Lines(out) {
		if n, ok := strings.CutPrefix(line, "=== "); ok {
			name = strings.TrimSpace(n)
			files[name] = ""
			continue
		}
		if name != "" {
			files[name] += line
		}
	}
	return files
}
