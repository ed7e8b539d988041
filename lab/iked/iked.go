//go:build lab

// Package iked runs real IKE daemons of OpenIKED in network namespaces, for predictions to be held against.
package iked

import (
	_ "embed"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"toril/lab"
)

//go:embed kernel/keys.c
var keysSource string

// Daemon is one running daemon.
type Daemon struct {
	lab.Written
	Name  string
	root  string // of the unpacked package
	dir   string
	ns    string // network namespace
	cmd   *exec.Cmd
	ended chan struct{}
}

// Start lays out a daemon in a network namespace that exists; it runs once it has a configuration.
func Start(t testing.TB, name, ns string) *Daemon {
	t.Helper()
	d := &Daemon{Name: name, root: lab.Unpacked(t, "openiked"), dir: t.TempDir(), ns: ns}
	d.Path = filepath.Join(d.dir, "log")
	for _, sub := range []string{"certs", "ca", "crls", "private", "pubkeys/fqdn", "pubkeys/ipv4", "pubkeys/ipv6", "pubkeys/ufqdn"} {
		require.NoError(t, os.MkdirAll(filepath.Join(d.dir, "iked", sub), 0o755))
	}
	lab.Need(t, "openssl", "openssl")
	key := filepath.Join(d.dir, "iked", "private", "local.key")
	require.NoError(t, lab.Run(nil, "openssl", "ecparam", "-genkey", "-name", "prime256v1", "-noout", "-out", key).Failed)
	require.NoError(t, os.Chmod(key, 0o600))
	require.NoError(t, lab.Run(nil, "openssl", "ec", "-in", key, "-pubout", "-out", filepath.Join(d.dir, "iked", "local.pub")).Failed)
	t.Cleanup(d.Stop)
	return d
}

// Folder is where the daemon looks for certificates, authorities and keys, as below /etc/iked.
func (d *Daemon) Folder() string { return filepath.Join(d.dir, "iked") }

// Load has the daemon begin anew with a configuration, waiting for the peer until it is told to begin. It returns what the daemon has
// against it; "" where it runs.
func (d *Daemon) Load(t testing.TB, conf string) string {
	t.Helper()
	d.Stop()
	file := filepath.Join(d.dir, "iked.conf")
	require.NoError(t, os.WriteFile(file, []byte(conf), 0o600))
	d.Anew()
	out, err := os.Create(d.Path)
	require.NoError(t, err)
	defer out.Close()
	script := "mkdir -p /etc/iked && mount --bind " + d.dir + "/iked /etc/iked && hostname " + d.Name + "-host && " +
		"KEYS_DIR=" + d.dir + " LD_PRELOAD=" + lab.Shim(t, "keys", keysSource, "-lpthread") + " exec " + d.root + "/usr/sbin/iked " +
		"-dvvS -s " + d.dir + "/control -f " + file
	apart := []string{"unshare", "-mu", "--pid", "--fork", "--kill-child", "--mount-proc"}
	d.cmd = exec.Command("ip", append(append([]string{"netns", "exec", d.ns}, apart...), "sh", "-c", script)...)
	d.cmd.Env = lab.Libraries(d.root)
	d.cmd.Stdout, d.cmd.Stderr = out, out
	require.NoError(t, d.cmd.Start())
	d.ended = make(chan struct{})
	go func(cmd *exec.Cmd, ended chan struct{}) { _ = cmd.Wait(); close(ended) }(d.cmd, d.ended)
	for range 300 {
		select {
		case <-d.ended:
			d.cmd = nil
			return strings.TrimSpace(d.Log())
		case <-time.After(10 * time.Millisecond):
		}
		log := d.Log()
		if strings.Contains(log, "config_getstatic: nattport") && (!d.trusts() || strings.Contains(log, "updated local CERTREQ")) {
			d.Mark()
			return ""
		}
	}
	require.Fail(t, "the daemon did not start", "%s", d.Log())
	return ""
}

// trusts reports whether the daemon has the certificate of an authority, which another of its processes reads after it began.
func (d *Daemon) trusts() bool {
	found, _ := filepath.Glob(filepath.Join(d.Folder(), "ca", "*"))
	return len(found) > 0
}

// Stop ends the daemon, without a word to the peer.
func (d *Daemon) Stop() {
	if d.cmd != nil {
		_ = d.cmd.Process.Kill() // and with it all of its process namespace
		<-d.ended
		d.cmd = nil
	}
}

// order gives the daemon an order and returns what it says.
func (d *Daemon) order(args ...string) string {
	all := append([]string{"5", d.root + "/usr/sbin/ikectl", "-s", d.dir + "/control"}, args...)
	r := lab.Run(lab.Libraries(d.root), "timeout", all...)
	return r.Out + r.Err
}
