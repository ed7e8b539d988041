//go:build lab

// Package lab holds Toril's predictions against the real programs: IKE daemons, packet filters, kernels. Its tests need
// root, Debian's packages and network namespaces; they are built with the tag lab and say how many cases they ran.
package lab

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
)

// Need installs a Debian package where a program of it is missing.
func Need(t testing.TB, program string, packages ...string) {
	t.Helper()
	if _, err := exec.LookPath(program); err == nil {
		return
	}
	if _, err := os.Stat(program); err == nil {
		return
	}
	defer Alone(t)()
	aptUpdate.Do(func() { _ = exec.Command("apt-get", "update", "-qq").Run() })
	cmd := exec.Command("apt-get", append([]string{"install", "-y", "-qq", "--no-install-recommends"}, packages...)...)
	cmd.Env = append(os.Environ(), "DEBIAN_FRONTEND=noninteractive")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "apt-get install %v: %s", packages, out)
}

var aptUpdate sync.Once

// Alone waits until no other test, of this program or of another that runs beside it, installs or makes what all share below toril-lab, and
// returns what ends that. Whoever has it must not ask for it again.
func Alone(t testing.TB) func() {
	t.Helper()
	dir := filepath.Join(os.TempDir(), "toril-lab")
	require.NoError(t, os.MkdirAll(dir, 0o777))
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_RDWR|os.O_CREATE, 0o666)
	require.NoError(t, err)
	require.NoError(t, syscall.Flock(int(f.Fd()), syscall.LOCK_EX))
	return func() { _ = f.Close() }
}

// Unpacked returns a folder with a Debian package and what it depends on, unpacked and not installed: for programs that
// cannot be installed beside each other.
func Unpacked(t testing.TB, name string) string {
	t.Helper()
	defer Alone(t)()
	root := filepath.Join(os.TempDir(), "toril-lab", name)
	done := filepath.Join(root, ".done")
	if _, err := os.Stat(done); err == nil {
		return root
	}
	aptUpdate.Do(func() { _ = exec.Command("apt-get", "update", "-qq").Run() })
	debs := t.TempDir()
	require.NoError(t, os.Chmod(debs, 0o777))
	list, err := exec.Command("apt-get", "install", "-s", "--no-install-recommends", name).Output()
	require.NoError(t, err)
	args := []string{"download", "-q"}
	for line := range strings.Lines(string(list)) {
		if f := strings.Fields(line); len(f) > 1 && f[0] == "Inst" {
			args = append(args, f[1])
		}
	}
	get := exec.Command("apt-get", args...)
	get.Dir = debs
	out, err := get.CombinedOutput()
	require.NoError(t, err, "%s", out)
	found, err := filepath.Glob(filepath.Join(debs, "*.deb"))
	require.NoError(t, err)
	require.NotEmpty(t, found)
	require.NoError(t, os.MkdirAll(root, 0o755))
	for _, deb := range found {
		out, err := exec.Command("dpkg-deb", "-x", deb, root).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	require.NoError(t, os.WriteFile(done, nil, 0o644))
	return root
}

// Libraries is the environment in which programs of an unpacked package find their libraries.
func Libraries(root string) []string {
	return append(os.Environ(), "LD_LIBRARY_PATH="+root+"/usr/lib/x86_64-linux-gnu:"+root+"/lib/x86_64-linux-gnu")
}

// Half returns every second of some cases, from the first on or, where the number is odd, from the second: enough for every change. With
// TORIL_LAB_CASES it returns them all.
func Half[T any](all []T, number int) (out []T) {
	if os.Getenv("TORIL_LAB_CASES") != "" {
		return all
	}
	for i := number % 2; i < len(all); i += 2 {
		out = append(out, all[i])
	}
	return out
}

// Result is what a program said.
type Result struct {
	Out, Err string
	Failed   error
}

// Run runs a program with a time limit.
func Run(env []string, name string, args ...string) Result {
	cmd := exec.Command(name, args...)
	cmd.Env = env
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	if err := cmd.Start(); err != nil {
		return Result{Failed: err}
	}
	timer := time.AfterFunc(2*time.Minute, func() { _ = cmd.Process.Kill() })
	defer timer.Stop()
	err := cmd.Wait()
	return Result{out.String(), errs.String(), err}
}

// InNamespace runs a shell script in a network namespace of its own.
func InNamespace(t testing.TB, script string) string {
	t.Helper()
	r := Run(nil, "unshare", "-n", "sh", "-e", "-c", script)
	require.NoError(t, r.Failed, "%s\n%s", script, r.Err)
	return r.Out
}

// Wire makes two network namespaces at the ends of a wire, at 10.0.0.1 and 10.0.0.2, each with an address of the network behind it and the
// other as its default route.
func Wire(t testing.TB, name string) (a, b string) {
	t.Helper()
	a, b = "toril-"+name+"-a", "toril-"+name+"-b"
	run := func(line string, args ...any) error {
		return exec.Command("sh", "-c", fmt.Sprintf(line, args...)).Run()
	}
	clean := func() { _ = run("ip netns del %s; ip netns del %s", a, b) }
	clean()
	t.Cleanup(clean)
	require.NoError(t, run("ip netns add %[1]s && ip netns add %[2]s && "+
		"ip link add tv netns %[1]s type veth peer name tv netns %[2]s", a, b))
	for i, ns := range []string{a, b} {
		require.NoError(t, run("ip -n %[1]s link set lo up && ip -n %[1]s addr add 10.0.0.%[2]d/24 dev tv && "+
			"ip -n %[1]s link set tv up && ip -n %[1]s addr add 10.%[2]d.0.1/32 dev lo && "+
			"ip -n %[1]s route add default via 10.0.0.%[3]d", ns, i+1, 2-i))
	}
	return a, b
}

// Samples returns the files of lab/samples in a folder, by name.
func Samples(t testing.TB, folder string) map[string]string {
	t.Helper()
	found, err := filepath.Glob(filepath.Join("samples", folder, "*"))
	require.NoError(t, err)
	require.NotEmpty(t, found, folder)
	out := map[string]string{}
	for _, f := range found {
		data, err := os.ReadFile(f)
		require.NoError(t, err)
		out[f] = string(data)
	}
	return out
}

// Tally counts the cases of a test and says at its end how many agreed; none at all is a failure.
type Tally struct {
	mu            sync.Mutex
	cases, agreed int
}

// NewTally makes the tally of a test.
func NewTally(t *testing.T, what string) *Tally {
	c := &Tally{}
	t.Cleanup(func() {
		fmt.Printf("lab: %s: %d cases, %d agree\n", what, c.cases, c.agreed)
		if c.cases == 0 {
			t.Errorf("%s: no case ran", what)
		}
	})
	return c
}

// Count counts one case.
func (c *Tally) Count(agrees bool) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.cases++
	if agrees {
		c.agreed++
	}
	return agrees
}

// Versions is a toril.yaml that says which version of strongSwan is asked: Debian 12's.
func Versions() *fstest.MapFile {
	return &fstest.MapFile{Data: []byte("versions: {\"*\": strongSwan 5.9.8}\n")}
}

// Shim builds a library that is laid under a program to stand for what this machine's kernel lacks, and returns its path.
func Shim(t testing.TB, name, source string, libraries ...string) string {
	t.Helper()
	Need(t, "gcc", "gcc", "libc6-dev")
	defer Alone(t)()
	dir := filepath.Join(os.TempDir(), "toril-lab", "shims")
	file, library := filepath.Join(dir, name+".c"), filepath.Join(dir, name+".so")
	if was, err := os.ReadFile(file); err == nil && string(was) == source {
		if _, err := os.Stat(library); err == nil {
			return library
		}
	}
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(file, []byte(source), 0o644))
	r := Run(nil, "gcc", append([]string{"-shared", "-fPIC", "-O1", "-o", library, file, "-ldl"}, libraries...)...)
	require.NoError(t, r.Failed, r.Err)
	return library
}
