//go:build lab

// Package charon runs real IKE daemons of strongSwan in network namespaces, for predictions to be held against.
package charon

import (
	_ "embed"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"toril/lab"
)

//go:embed kernel/acceptall.c
var backendSource string

// Daemon is one running daemon.
type Daemon struct {
	lab.Written
	Name string
	Dir  string
	NS   string // network namespace
	cmd  *exec.Cmd
	vici conn
}

var (
	once    sync.Once
	plugins string
	kernel  string
	failed  error
)

// backend builds the kernel that accepts everything, and lays out a folder of plugins with it. Where that cannot be done
// (the headers come with the source package only), the daemon's own userspace kernel stands in, which refuses AH,
// transport mode and extended sequence numbers.
func backend(t testing.TB) (dir, plugin string) {
	t.Helper()
	once.Do(func() {
		lab.Need(
			t,
			"/usr/lib/ipsec/charon",
			"strongswan-charon",
			"strongswan-swanctl",
			"libcharon-extra-plugins",
			"libstrongswan-extra-plugins",
			"libstrongswan-standard-plugins",
			"strongswan-starter",
		)
		dir := filepath.Join(os.TempDir(), "toril-lab", "charon")
		plugins, kernel = filepath.Join(dir, "plugins"), "acceptall"
		lab.Need(t, "gcc", "gcc", "libc6-dev")
		lab.Need(t, "bzip2", "bzip2")
		lab.Need(t, "dpkg-source", "dpkg-dev")
		defer lab.Alone(t)()
		if _, err := os.Stat(filepath.Join(plugins, "libstrongswan-acceptall.so")); err == nil {
			return
		}
		if failed = os.MkdirAll(plugins, 0o755); failed != nil {
			return
		}
		if failed = os.WriteFile(filepath.Join(dir, "acceptall.c"), []byte(backendSource), 0o644); failed != nil {
			return
		}
		r := lab.Run(nil, "bash", "-c", "set -e; cd "+dir+`
cp /usr/lib/ipsec/plugins/*.so plugins/
if ! ls -d strongswan-*/src >/dev/null 2>&1; then
  mkdir -p lists; sed 's/^Types: deb$/Types: deb-src/' /etc/apt/sources.list.d/debian.sources > src.sources
  opts="-o Dir::Etc::sourcelist=/dev/null -o Dir::Etc::sourceparts=$PWD/parts -o Dir::State::lists=$PWD/lists"
  mkdir -p parts lists/partial; mv src.sources parts/
  apt-get $opts update >/dev/null
  apt-get $opts source --download-only strongswan >/dev/null 2>&1 || test -s strongswan_*.orig.tar.bz2 # only the headers of the original are needed
  tar xf strongswan_*.orig.tar.bz2 --wildcards '*/src/*.h'
fi
src=$(ls -d "$PWD"/strongswan-*/src | head -1)
for have in CONFIG_H_INCLUDED HAVE_SIGWAITINFO HAVE_STRUCT_SADB USE_IKEV1 USE_IKEV2 HAVE_QSORT_R HAVE_QSORT_R_GNU \
  HAVE_GCC_ATOMIC_OPERATIONS HAVE_CLOSEFROM HAVE_EXPLICIT_BZERO; do echo "#define $have 1"; done > config.h
gcc -shared -fPIC -O1 -w -D_GNU_SOURCE -include "$PWD/config.h" -I"$src/libstrongswan" -I"$src/libcharon" -o plugins/libstrongswan-acceptall.so acceptall.c`)
		if r.Failed != nil {
			fmt.Printf(
				"lab: the kernel that accepts everything could not be built; the daemon's own userspace kernel stands in: %s\n",
				r.Err,
			)
			kernel = "kernel-libipsec"
		}
	})
	require.NoError(t, failed)
	return plugins, kernel
}

// AcceptsEverything reports whether the kernel behind the daemons takes AH, transport mode and extended sequence numbers.
func AcceptsEverything(t testing.TB) bool {
	_, k := backend(t)
	return k == "acceptall"
}

// Start starts a daemon in a network namespace that exists. extra are further lines of strongswan.conf's section charon.
func Start(t testing.TB, name, ns, extra string) *Daemon {
	t.Helper()
	plugins, kernel := backend(t)
	dir := t.TempDir()
	d := &Daemon{Name: name, Dir: dir, NS: ns, Written: lab.Written{Path: filepath.Join(dir, "log")}}
	conf := filepath.Join(dir, "strongswan.conf")
	text := fmt.Sprintf(`charon {
  load = kdf ctr ccm chapoly cmac xcbc hmac random nonce openssl pem pkcs1 x509 revocation constraints pubkey aes sha1 sha2 md5 gmp curve25519 gcm %s kernel-netlink socket-default vici stroke updown
  plugins {
    vici {
      socket = unix://%s/vici
    }
    kernel-libipsec {
      allow_peer_ts = yes
    }
  }
  filelog {
    f {
      path = %s
      default = 1
      cfg = 2
      flush_line = yes
    }
  }
  retransmit_tries = 2
  retransmit_timeout = 0.7
  retransmit_base = 1
  dos_protection = no
  delete_rekeyed_delay = 0
  i_dont_care_about_security_and_use_aggressive_mode_psk = yes
  reuse_ikesa = no
%s}
`, kernel, dir, d.Path, extra)
	require.NoError(t, os.WriteFile(conf, []byte(text), 0o644))
	script := "mount -t tmpfs tmpfs /run; mount --bind " + plugins + " /usr/lib/ipsec/plugins; mkdir -p " + dir +
		"; exec /usr/lib/ipsec/charon"
	args := []string{"-m", "sh", "-c", script}
	program := "unshare"
	if ns != "" {
		program, args = "ip", append([]string{"netns", "exec", ns, "unshare"}, args...)
	} else {
		args = append([]string{"-n"}, args...)
	}
	d.cmd = exec.Command(program, args...)
	d.cmd.Env = append(os.Environ(), "STRONGSWAN_CONF="+conf)
	require.NoError(t, d.cmd.Start())
	t.Cleanup(d.Stop)
	for range 1500 { // half a minute
		c, err := net.Dial("unix", filepath.Join(dir, "vici"))
		if err == nil {
			d.vici = conn{c}
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	require.NotNil(t, d.vici.Conn, "the daemon did not start: %s", d.Log())
	_, _, err := d.vici.packet(append([]byte{eventRegister, 7}, "list-sa"...))
	require.NoError(t, err)
	return d
}

// Stop ends the daemon.
func (d *Daemon) Stop() {
	if d.cmd.Process == nil {
		return
	}
	if d.vici.Conn != nil {
		d.vici.Close()
	}
	_ = d.cmd.Process.Signal(os.Interrupt)
	done := make(chan struct{})
	go func() { _ = d.cmd.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(3 * time.Second):
		_ = d.cmd.Process.Kill()
		<-done
	}
}

// Socket is the daemon's address for swanctl.
func (d *Daemon) Socket() string { return "unix://" + d.Dir + "/vici" }

// Command asks the daemon and returns its reply, with its error message where it says that it failed.
func (d *Daemon) Command(name string, args Section) (events []Section, reply Section, err error) {
	_ = d.vici.SetDeadline(time.Now().Add(30 * time.Second))
	events, reply, err = d.vici.command(name, args)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", d.Name, err)
	}
	if reply["success"] == "no" {
		return events, reply, fmt.Errorf("%v", reply["errmsg"])
	}
	return events, reply, nil
}

// LoadFile has swanctl load a configuration file, and the certificates and keys in the folders beside it, in place of all that was loaded
// before.
func (d *Daemon) LoadFile(file string) error {
	env := append(os.Environ(), "SWANCTL_DIR="+filepath.Dir(file))
	r := lab.Run(env, "swanctl", "--load-all", "--clear", "--noprompt", "--uri", d.Socket(), "--file", file)
	if r.Failed != nil {
		return fmt.Errorf("%s%s", strings.TrimSpace(r.Err), strings.TrimSpace(r.Out))
	}
	return nil
}
