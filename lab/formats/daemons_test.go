//go:build lab

package formats_test

import (
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
	"toril/lab"
	"toril/lab/charon"
	"toril/model"
	"toril/read/iked"
	"toril/read/libreswan"
	"toril/read/strongswan"
)

// held is what the daemon logs of one connection or child: its settings by name.
type held map[string]string

var logLine = regexp.MustCompile(`^\d+\[CFG\] ( +)(.*)$`)

// heldBy reads the log of a daemon at level 2: connections, children and parties by indentation.
func heldBy(log string) map[string]held {
	out := map[string]held{}
	conn, part := "", ""
	for line := range strings.Lines(log) {
		m := logLine.FindStringSubmatch(strings.TrimRight(line, "\n"))
		if m == nil {
			continue
		}
		text := m[2]
		switch name, isSection := strings.CutSuffix(text, ":"); {
		case isSection && strings.HasPrefix(name, "conn "):
			conn, part = strings.TrimPrefix(name, "conn "), ""
		case isSection:
			part = "/" + strings.TrimPrefix(name, "child ")
		default:
			if len(m[1]) == 2 { // back in the connection
				part = ""
			}
			key, value, ok := strings.Cut(text, " = ")
			if !ok {
				continue
			}
			if out[conn+part] == nil {
				out[conn+part] = held{}
			}
			out[conn+part][key] = value
		}
	}
	return out
}

func seconds(d time.Duration) string { return fmt.Sprint(int(d.Seconds())) }

func yes(b bool) string { return map[bool]string{true: "1", false: "0"}[b] }

func proposalsOf(ps []ike.Proposal) string {
	var out []string
	for _, p := range ps {
		out = append(out, charon.Proposal(p))
	}
	return strings.Join(out, ", ")
}

func addressesOf(as model.Addresses) string {
	var out []string
	for _, a := range as {
		out = append(out, a.Text)
	}
	return strings.Join(out, ", ")
}

// selectors writes selectors as the daemon does: blanks between, services by name.
func selectors(ss ike.Selectors) string {
	var out []string
	for _, s := range ss {
		text := strings.NewReplacer("own address", "dynamic", "-", "..").Replace(strings.Fields(s.String() + " ")[0])
		if s.Dynamic {
			text = "dynamic"
		}
		if s.Proto != 0 {
			ports := fmt.Sprintf("%d-%d", s.LoPort, s.HiPort)
			if s.LoPort == s.HiPort {
				ports = map[uint16]string{443: "https"}[s.LoPort]
			}
			text += fmt.Sprintf("[%s/%s]", map[uint8]string{6: "tcp", 17: "udp"}[s.Proto], ports)
		}
		out = append(out, text)
	}
	return strings.Join(out, " ")
}

func TestSwanctl(t *testing.T) {
	tally := lab.NewTally(t, "swanctl.conf: settings that the daemon holds")
	for file, text := range lab.Samples(t, "swanctl") {
		g := understood(t, strongswan.Swanctl, text)
		d := charon.Start(t, "d", "", "")
		require.NoError(t, d.LoadFile(file))
		all := heldBy(d.Log())
		same := func(where, key, want string) {
			tally.Count(assert.Equal(t, all[where][key], want, "%s: %s of %s: first the daemon's", file, key, where))
		}
		for _, c := range g.Connections {
			require.NotNil(t, all[c.Name], c.Name)
			same(c.Name, "version", fmt.Sprint(int(c.Version.Value)))
			same(c.Name, "local_addrs", addressesOf(c.LocalAddrs.Value))
			same(c.Name, "remote_addrs", addressesOf(c.RemoteAddrs.Value))
			same(c.Name, "proposals", proposalsOf(c.Proposals.Value))
			same(c.Name, "rekey_time", seconds(c.Rekey.Value))
			same(c.Name, "reauth_time", seconds(c.Reauth.Value))
			same(c.Name, "over_time", seconds(c.Over.Value))
			same(c.Name, "rand_time", seconds(c.Random.Value))
			same(c.Name, "dpd_delay", seconds(c.DPD.Value))
			same(c.Name, "encap", yes(c.Encap.Value))
			same(c.Name, "mobike", yes(c.MOBIKE.Value))
			same(c.Name, "aggressive", yes(c.Aggressive.Value))
			for _, k := range c.Children {
				name := c.Name + "/" + k.Name
				require.NotNil(t, all[name], name)
				same(name, "local_ts", selectors(k.Local.Value))
				same(name, "remote_ts", selectors(k.Remote.Value))
				same(name, "proposals", proposalsOf(k.Proposals.Value))
				same(name, "mode", strings.ToUpper(k.Mode.Value.String()))
				same(name, "rekey_time", seconds(k.Rekey.Value))
				same(name, "life_time", seconds(k.Life.Value))
				same(name, "rand_time", seconds(k.Random.Value))
				same(name, "rekey_bytes", fmt.Sprint(k.RekeyBytes.Value))
				same(name, "life_bytes", fmt.Sprint(k.LifeBytes.Value))
				same(name, "if_id_out", fmt.Sprint(k.IfIDOut.Value))
				same(name, "ipcomp", yes(k.IPComp.Value))
			}
		}
		shown := lab.Run(nil, "swanctl", "--list-conns", "--raw", "--uri", d.Socket())
		for _, c := range g.Connections {
			for _, p := range []model.Party{c.Local, c.Remote} {
				if !p.ID.IsDefault() && p.ID.Value.Kind == ike.IDFQDN {
					tally.Count(assert.Contains(t, shown.Out, "id="+p.ID.Value.Value))
				}
			}
		}
		d.Stop()
	}
}

func TestIPsecConf(t *testing.T) {
	lab.Need(t, "/usr/lib/ipsec/starter", "strongswan-starter")
	tally := lab.NewTally(t, "ipsec.conf of strongSwan: connections as the daemon lists them")
	for file, text := range lab.Samples(t, "ipsec.conf-strongswan") {
		g := understood(t, strongswan.IPsecConf, text)
		dir := t.TempDir()
		// the programs' files have fixed places: they run in a mount namespace of their own
		script := "mount -t tmpfs tmpfs /run; cp " + file + " " + dir + "/ipsec.conf; touch " + dir + "/ipsec.secrets; mount --bind " +
			dir + "/ipsec.conf /etc/ipsec.conf; ip link set lo up; " +
			"ip tuntap add dev t0 mode tun; ip addr add 192.0.2.1/24 dev t0; " +
			"ipsec start >/dev/null 2>&1; sleep 2; ipsec statusall; ipsec stop >/dev/null 2>&1"
		r := lab.Run(nil, "unshare", "-n", "-m", "sh", "-c", script)
		require.NoError(t, r.Failed, r.Err)
		for _, c := range g.Connections {
			k := c.Children[0]
			tally.Count(
				assert.Regexp(
					t,
					`(?m)^ *`+c.Name+`: +`+regexp.QuoteMeta(
						addressesOf(c.LocalAddrs.Value)+"..."+addressesOf(c.RemoteAddrs.Value)+"  "+c.Version.Value.String(),
					),
					r.Out,
				),
			)
			tally.Count(
				assert.Contains(t, r.Out, fmt.Sprintf("%s:   local:  [%s] uses pre-shared key authentication", c.Name, c.Local.ID.Value)),
			)
			tally.Count(
				assert.Contains(
					t,
					r.Out,
					fmt.Sprintf(
						"%s:   child:  %s === %s %s",
						c.Name,
						selectors(k.Local.Value),
						selectors(k.Remote.Value),
						strings.ToUpper(k.Mode.Value.String()),
					),
				),
			)
		}
	}
}

func TestLibreswan(t *testing.T) {
	root := lab.Unpacked(t, "libreswan")
	env := lab.Libraries(root)
	tally := lab.NewTally(t, "ipsec.conf of Libreswan: effective settings and algorithms as its own programs give them")
	for file, text := range lab.Samples(t, "ipsec.conf-libreswan") {
		g := understood(t, libreswan.Format, "# Libreswan 4.10\n"+text)
		r := lab.Run(env, root+"/usr/libexec/ipsec/addconn", "--config", file, "--checkconfig")
		tally.Count(assert.NoError(t, r.Failed, "%s: %s%s", file, r.Out, r.Err))
		r = lab.Run(env, root+"/usr/libexec/ipsec/readwriteconf", "--config", file)
		require.NoError(t, r.Failed)
		effective := sections(r.Out)
		for _, c := range g.Connections {
			e := effective[c.Name]
			require.NotNil(t, e, c.Name)
			same := func(key, want string) {
				tally.Count(assert.Equal(t, strings.Trim(e[key], `"`), want, "%s of %s: first the program's", key, c.Name))
			}
			v1 := c.Version.Value == ike.V1
			same("ikev2", map[bool]string{true: "no", false: e["ikev2"]}[v1])
			same("left", addressesOf(c.LocalAddrs.Value))
			same("right", addressesOf(c.RemoteAddrs.Value))
			same("type", c.Children[0].Mode.Value.String())
			same("compress", map[bool]string{true: "yes", false: "no"}[c.Children[0].IPComp.Value])
			asked, _ := c.Children[0].Proposals.Value[0].PFS()
			same("pfs", map[bool]string{true: "yes", false: "no"}[asked])
			for _, kind := range []string{"ike", "esp"} {
				if e[kind] == "" {
					continue
				}
				version := map[bool]string{true: "-v1", false: "-v2"}[v1]
				a := lab.Run(env, root+"/usr/libexec/ipsec/algparse", version, "-pfs", kind+"="+e[kind])
				require.NoError(t, a.Failed, a.Err)
				ps := c.Proposals.Value
				if kind == "esp" {
					ps = c.Children[0].Proposals.Value
				}
				i := 0
				for line := range strings.Lines(a.Out) {
					if strings.HasPrefix(line, "\t") {
						tally.Count(
							assert.Equal(
								t,
								strings.TrimSpace(line),
								spelt(ps[i], kind == "esp"),
								"%s of %s: first the program's",
								kind,
								c.Name,
							),
						)
						i++
					}
				}
				assert.Equal(t, i, len(ps))
			}
		}
	}
}

// sections reads the output of readwriteconf.
func sections(out string) map[string]map[string]string {
	all := map[string]map[string]string{}
	name := ""
	for line := range strings.Lines(out) {
		line = strings.TrimRight(line, "\n")
		if n, ok := strings.CutPrefix(line, "conn "); ok {
			name = n
			all[name] = map[string]string{}
		} else if key, value, ok := strings.Cut(strings.TrimSpace(line), "="); ok && name != "" {
			if value != "" {
				all[name][key] = value
			}
		}
	}
	return all
}

// spelt writes a proposal as Libreswan's algparse does. A child's group is written only where the proposal names it
// itself; what pfs=yes adds is left out.
func spelt(p ike.Proposal, child bool) string {
	group := func(c ike.Choice) string {
		if c.ID >= 19 {
			return fmt.Sprintf("DH%d", c.ID)
		}
		return charonGroup(c)
	}
	join := func(cs ike.Choices, f func(ike.Choice) string) string {
		var out []string
		for _, c := range cs {
			out = append(out, f(c))
		}
		return strings.Join(out, "+")
	}
	parts := []string{
		join(
			p.Transforms[ike.Encryption],
			func(c ike.Choice) string { return strings.ReplaceAll(charon.Algorithm(c), "HMAC_SHA1_96", "HMAC_SHA1") },
		),
	}
	switch {
	case child && len(p.Transforms[ike.Integrity]) == 0:
		parts = append(parts, "NONE")
	case child:
		parts = append(parts, join(p.Transforms[ike.Integrity], charon.Algorithm))
	default:
		parts = append(
			parts,
			join(p.Transforms[ike.PRF], func(c ike.Choice) string { return strings.TrimPrefix(charon.Algorithm(c), "PRF_") }),
		)
	}
	if !child || strings.Contains(p.Text, ";") || strings.Contains(p.Text, "dh") {
		parts = append(parts, join(p.Transforms[ike.KeyExchange], group))
	}
	return strings.Join(parts, "-")
}

func charonGroup(c ike.Choice) string { return strings.ReplaceAll(charon.Algorithm(c), "_", "") }

// ikedUser makes the user that the daemon wants to become.
func ikedUser(t *testing.T) {
	if exec.Command("id", "_iked").Run() != nil {
		require.NoError(t, exec.Command("useradd", "-r", "-s", "/usr/sbin/nologin", "_iked").Run())
	}
}

func TestIked(t *testing.T) {
	root := lab.Unpacked(t, "openiked")
	env := lab.Libraries(root)
	ikedUser(t)
	tally := lab.NewTally(t, "iked.conf: policies as the daemon prints them")
	for file, text := range lab.Samples(t, "iked") {
		g := understood(t, iked.Format, text)
		require.NoError(t, os.Chmod(file, 0o600))
		r := lab.Run(env, root+"/usr/sbin/iked", "-nvv", "-f", file)
		require.NoError(t, os.Chmod(file, 0o644))
		require.NoError(t, r.Failed, "%s%s", r.Out, r.Err)
		printed := map[string]string{}
		for line := range strings.Lines(r.Out + r.Err) {
			if m := regexp.MustCompile(`^ikev2 "([^"]+)" (.*)`).FindStringSubmatch(line); m != nil {
				printed[m[1]] = m[2]
			}
		}
		for _, c := range g.Connections {
			p := printed[c.Name]
			require.NotEmpty(t, p, c.Name)
			tally.Count(assert.Contains(t, p, "peer "+addressesOf(c.RemoteAddrs.Value), c.Name))
			k := c.Children[0]
			tally.Count(assert.Contains(t, p, " "+k.Mode.Value.String()+" ", c.Name))
			tally.Count(assert.Contains(t, p, fmt.Sprintf("lifetime %s bytes %d", seconds(k.Life.Value), k.LifeBytes.Value), c.Name))
			tally.Count(assert.Equal(t, strings.Contains(" "+p, " active "), k.Start.Value == model.StartBoot, c.Name))
			for _, s := range k.Remote.Value {
				tally.Count(
					assert.Contains(t, p, "to "+strings.TrimSuffix(s.String()[:strings.IndexAny(s.String()+" ", " ")], "/32"), c.Name),
				)
			}
			for _, ps := range [][]ike.Proposal{c.Proposals.Value} {
				for _, one := range ps {
					var groups []string
					for _, ke := range one.Transforms[ike.KeyExchange] {
						groups = append(groups, "group "+ikedGroup(ke.ID))
					}
					tally.Count(assert.Contains(t, p, strings.Join(groups, " "), c.Name))
				}
			}
		}
	}
}

func ikedGroup(id uint16) string {
	return map[uint16]string{2: "modp1024", 5: "modp1536", 14: "modp2048", 15: "modp3072", 16: "modp4096", 19: "ecp256", 20: "ecp384",
		21: "ecp521", 31: "curve25519"}[id]
}
