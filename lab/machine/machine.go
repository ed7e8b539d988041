//go:build lab

// Package machine runs scripts in a stock Debian kernel under emulation: what needs real ESP, which the machine's own
// kernel may lack. It needs root, to install Debian's packages; nothing else on the machine is changed.
package machine

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"toril/lab"
)

// Machine is a kernel and what its first file system holds.
type Machine struct {
	t       testing.TB
	kernel  string
	archive string   // the first file system, as the kernel unpacks it
	more    []string // archives that are unpacked over it
}

// New makes the first file system: a shell, ip, nft and ping of this machine with their libraries, and the modules
// that packets need.
func New(t testing.TB) *Machine {
	t.Helper()
	lab.Need(t, "qemu-system-x86_64", "qemu-system-x86")
	lab.Need(t, "/usr/sbin/nft", "nftables")
	lab.Need(t, "/usr/bin/ping", "iputils-ping")
	lab.Need(t, "/usr/sbin/modprobe", "kmod")
	lab.Need(t, "/usr/bin/busybox", "busybox-static")
	lab.Need(t, "cpio", "cpio")
	defer lab.Alone(t)() // tests run side by side, in several programs
	if made != nil {
		return &Machine{t: t, kernel: made.kernel, archive: made.archive}
	}
	dir := filepath.Join(os.TempDir(), "toril-lab", "machine")
	require.NoError(t, os.MkdirAll(dir, 0o777))
	require.NoError(t, os.Chmod(dir, 0o777))
	sh(t, dir, `
name=$(apt-cache depends linux-image-cloud-amd64 | awk '/Depends:/{print $2; exit}')
[ -d kernel ] || { apt-get download -q "$name" && dpkg-deb -x "$name"_*.deb kernel.new && mv kernel.new kernel; }
from=$(echo kernel/lib/modules/*); version=${from##*/}
rm -rf root; mkdir -p root/bin root/sbin root/proc root/sys root/dev root/run root/tmp root/etc "root/lib/modules/$version/kernel"
add() {
  cp -L "$1" "root$2"
  ldd "$1" 2>/dev/null | grep -oE '/[^ ]+\.so[^ ]*' | while read -r lib; do [ -e "root$lib" ] || { mkdir -p "root$(dirname "$lib")"; cp -L "$lib" "root$lib"; }; done || true
}
add "$(command -v busybox)" /bin/busybox; add /bin/dash /bin/sh; add "$(command -v ip || echo /usr/sbin/ip)" /sbin/ip; add /usr/sbin/nft /sbin/nft; add /usr/bin/ping /bin/ping; add "$(readlink -f /usr/sbin/modprobe)" /sbin/modprobe
for tool in mount uname awk cat grep sed mkdir ln sleep tr; do ln -s busybox "root/bin/$tool"; done
into=root/lib/modules/$version; cp "$from"/modules.order "$from"/modules.builtin "$from"/modules.builtin.modinfo "$into"/
for part in net/ipv4 net/ipv6 net/netfilter net/xfrm net/key net/8021q net/llc crypto arch/x86/crypto lib drivers/net/veth.ko; do
  [ ! -e "$from/kernel/$part" ] || { mkdir -p "$into/kernel/$(dirname "$part")"; cp -r "$from/kernel/$part" "$into/kernel/$(dirname "$part")/"; }
done
depmod -b root "$version"
cat > root/init <<'END'
#!/bin/sh
export PATH=/sbin:/bin HOME=/
mount -t proc proc /proc; mount -t sysfs sys /sys; mount -t devtmpfs dev /dev; mount -t tmpfs run /run; mkdir -p /run/netns; ln -s /run /var/run 2>/dev/null
exec </dev/null
for m in veth xfrm_user xfrm_interface esp4 nf_tables nft_chain_nat nft_nat nft_masq nft_xfrm nft_ct; do modprobe $m || echo "modprobe $m failed"; done
echo BEGIN $(uname -r)
sh /script 2>&1
echo END
busybox reboot -f
END
chmod 755 root/init
(cd root && find . -print0 | cpio -0 -o -H newc --quiet) > made.cpio; mv made.cpio base.cpio
`)
	kernels, err := filepath.Glob(filepath.Join(dir, "kernel/boot/vmlinuz-*"))
	require.NoError(t, err)
	require.Len(t, kernels, 1)
	made = &Machine{kernel: kernels[0], archive: filepath.Join(dir, "base.cpio")}
	return &Machine{t: t, kernel: made.kernel, archive: made.archive}
}

var made *Machine

func sh(t testing.TB, dir, script string) {
	t.Helper()
	cmd := exec.Command("bash", "-e", "-c", script)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// Run starts the kernel, runs a script in it and returns what it printed.
func (m *Machine) Run(script string, limit time.Duration) string {
	m.t.Helper()
	dir := m.t.TempDir()
	require.NoError(m.t, os.WriteFile(filepath.Join(dir, "script"), []byte(script), 0o755))
	sh(m.t, dir, fmt.Sprintf("echo script | cpio -o -H newc --quiet > s.cpio; cat %s "+
		"s.cpio > first", strings.Join(append([]string{m.archive}, m.more...), " ")))
	cmd := exec.Command(
		"timeout",
		fmt.Sprint(int(limit.Seconds())),
		"qemu-system-x86_64",
		"-M",
		"pc",
		"-accel",
		"tcg,thread=multi",
		"-cpu",
		"max",
		"-smp",
		"1",
		"-m",
		"1024",
		"-nodefaults",
		"-no-user-config",
		"-display",
		"none",
		"-no-reboot",
		"-serial",
		"stdio",
		"-monitor",
		"none",
		"-kernel",
		m.kernel,
		"-initrd",
		filepath.Join(dir, "first"),
		"-append",
		// what IPv6 says to its neighbours, through tunnels too, is none of what is sent: interfaces have none
		"console=ttyS0 panic=-1 quiet loglevel=3 edd=off ipv6.disable_ipv6=1",
	)
	out, err := cmd.CombinedOutput()
	text := strings.ReplaceAll(string(out), "\r", "")
	_, text, begun := strings.Cut(text, "BEGIN ")
	require.True(m.t, begun, "the kernel did not start: %v\n%s", err, out)
	text, _, ended := strings.Cut(text, "\nEND")
	require.True(m.t, ended, "the script did not end: %v\n%s", err, text)
	return text
}

// With returns the machine with further programs: those of lines "FROM TO", with their libraries, below a root ("" for this machine's),
// and whatever a shell script then does in the folder root, which is laid over the first file system. It is made once for a name.
func (m *Machine) With(name, root, programs, script string) *Machine {
	m.t.Helper()
	defer lab.Alone(m.t)()
	dir := filepath.Join(os.TempDir(), "toril-lab", "machine-"+name)
	out := &Machine{t: m.t, kernel: m.kernel, archive: m.archive, more: append(slices.Clone(m.more), filepath.Join(dir, "more.cpio"))}
	if _, err := os.Stat(filepath.Join(dir, "more.cpio")); err == nil {
		return out
	}
	require.NoError(m.t, os.MkdirAll(dir, 0o777))
	require.NoError(m.t, os.WriteFile(filepath.Join(dir, "programs"), []byte(programs), 0o644))
	sh(m.t, dir, fmt.Sprintf(`
from=%q
rm -rf root; mkdir -p root
add() {
  mkdir -p "root$(dirname "$2")"; cp -L "$1" "root$2"
  { LD_LIBRARY_PATH=${from:+$from/usr/lib/x86_64-linux-gnu:$from/lib/x86_64-linux-gnu} ldd "$1" 2>/dev/null || true; } | grep -oE '/[^ ]+\.so[^ ]*' | while read -r lib; do
    to=${lib#"$from"}; [ -e "root$to" ] || { mkdir -p "root$(dirname "$to")"; cp -L "$lib" "root$to"; }
  done || true
}
while read -r what to; do [ -z "$what" ] || for one in $from$what; do add "$one" "${to:-${one#"$from"}}"; done; done < programs
add /lib/x86_64-linux-gnu/libgcc_s.so.1 /lib/x86_64-linux-gnu/libgcc_s.so.1
mkdir -p root/bin root/etc
for tool in ps kill rm cp head tail touch true cut sort test env timeout; do ln -sf /bin/busybox "root/bin/$tool"; done
echo 'root:x:0:0:root:/:/bin/sh' > root/etc/passwd; echo 'root:x:0:' > root/etc/group; echo 'hosts: files' > root/etc/nsswitch.conf
echo '127.0.0.1 localhost' > root/etc/hosts; : > root/etc/resolv.conf
%s
(cd root && find . -print0 | cpio -0 -o -H newc --quiet) > made.cpio; mv made.cpio more.cpio
`, root, script))
	return out
}
