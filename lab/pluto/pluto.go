//go:build lab

// Package pluto runs real IKE daemons of Libreswan in network namespaces, for predictions to be held against.
package pluto

import (
	_ "embed"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"toril/lab"
)

//go:embed kernel/accepts.c
var backendSource string

// Daemon is one running daemon.
type Daemon struct {
	lab.Written
	Name string
	root string // of the unpacked package
	dir  string
	ns   string // network namespace
	cmd  *exec.Cmd
}

// Start starts a daemon in a network namespace that exists. setup are the lines of "config setup"; before is what is done to its store
// before it runs, which is when it reads it.
func Start(t testing.TB, name, ns, setup string, before ...func(*Daemon)) *Daemon {
	t.Helper()
	under := lab.Shim(t, "accepts", backendSource)
	d := &Daemon{Name: name, root: lab.Unpacked(t, "libreswan"), dir: t.TempDir(), ns: ns}
	d.Path = filepath.Join(d.dir, "log")
	for _, sub := range []string{"run", "nss"} {
		require.NoError(t, os.MkdirAll(filepath.Join(d.dir, sub), 0o755))
	}
	r := lab.Run(lab.Libraries(d.root), d.root+"/usr/bin/certutil", "-N", "-d", "sql:"+d.dir+"/nss", "--empty-password")
	require.NoError(t, r.Failed, r.Err)
	for _, do := range before {
		do(d)
	}
	d.write(t, "secrets", "")
	d.write(t, "setup.conf", "config setup\n"+setup)
	script := fmt.Sprintf("mount -t tmpfs t /run; mkdir -p /run/pluto; mount --bind %[1]s/usr/libexec /usr/libexec; "+
		"LD_PRELOAD=%[3]s exec %[1]s/usr/libexec/ipsec/pluto --config %[2]s/setup.conf --secretsfile %[2]s/secrets "+
		"--nssdir %[2]s/nss --rundir %[2]s/run --logfile %[4]s --nofork", d.root, d.dir, under, d.Path)
	d.cmd = exec.Command("ip", "netns", "exec", ns, "unshare", "-m", "sh", "-c", script)
	d.cmd.Env = lab.Libraries(d.root)
	require.NoError(t, d.cmd.Start())
	t.Cleanup(d.Stop)
	for range 100 {
		if out := d.Whack("--listen"); strings.Contains(out, "listening") || strings.Contains(d.Log(), "loading secrets") {
			return d
		}
		time.Sleep(50 * time.Millisecond)
	}
	require.Fail(t, "the daemon did not start", "%s", d.Log())
	return nil
}

func (d *Daemon) write(t testing.TB, file, text string) string {
	t.Helper()
	path := filepath.Join(d.dir, file)
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

// Stop ends the daemon.
func (d *Daemon) Stop() {
	d.Whack("--shutdown")
	done := make(chan struct{})
	go func() { _ = d.cmd.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(3 * time.Second):
		_ = d.cmd.Process.Kill()
		<-done
	}
}

// Whack gives the daemon an order and returns what it says.
func (d *Daemon) Whack(args ...string) string {
	all := []string{"netns", "exec", d.ns, "timeout", "10", d.root + "/usr/libexec/ipsec/whack", "--rundir", d.dir + "/run"}
	r := lab.Run(lab.Libraries(d.root), "ip", append(all, args...)...)
	return r.Out + r.Err
}

// Load has the daemon take a connection of a configuration and the secrets, in place of what it had under that name. It returns what it
// has against them.
func (d *Daemon) Load(t testing.TB, conf, secrets, connection string) string {
	t.Helper()
	d.write(t, "secrets", secrets)
	file := d.write(t, "ipsec.conf", conf)
	d.Whack("--rereadsecrets")
	d.Whack("--name", connection, "--delete")
	addconn := d.root + "/usr/libexec/ipsec/addconn"
	r := lab.Run(lab.Libraries(d.root), "ip", "netns", "exec", d.ns, addconn,
		"--ctlsocket", d.dir+"/run/pluto.ctl", "--config", file, connection)
	return strings.TrimSpace(r.Out + r.Err)
}

// Trust puts the certificate of an authority, in PEM, into the daemon's store.
func (d *Daemon) Trust(t testing.TB, name, cert string) {
	t.Helper()
	file := d.write(t, "cert.pem", cert)
	args := []string{"-A", "-d", "sql:" + d.dir + "/nss", "-n", name, "-t", "CT,,", "-a", "-i", file}
	r := lab.Run(lab.Libraries(d.root), d.root+"/usr/bin/certutil", args...)
	require.NoError(t, r.Failed, r.Err)
}

// Own puts a certificate of the daemon's own into its store, with its key, both in PEM.
func (d *Daemon) Own(t testing.TB, name, cert, key string) {
	t.Helper()
	certs, keys, both := d.write(t, "cert.pem", cert), d.write(t, "key.pem", key), filepath.Join(d.dir, "both.p12")
	r := lab.Run(nil, "openssl", "pkcs12", "-export", "-in", certs, "-inkey", keys, "-name", name, "-out", both, "-passout", "pass:")
	require.NoError(t, r.Failed, r.Err)
	r = lab.Run(lab.Libraries(d.root), d.root+"/usr/bin/pk12util", "-i", both, "-d", "sql:"+d.dir+"/nss", "-W", "", "-K", "")
	require.NoError(t, r.Failed, r.Err+r.Out)
}
