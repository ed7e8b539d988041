//go:build lab

package kernel

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"toril/estate"
	"toril/ike"
	"toril/lab"
	"toril/model"
	"toril/packet"
	"toril/pair"
	"toril/read/formats"
	"toril/walk"
)

// cases is how many gateways are tried: TORIL_LAB_CASES, else enough for every change.
func cases() int {
	if n, err := strconv.Atoi(os.Getenv("TORIL_LAB_CASES")); err == nil {
		return n
	}
	return 200
}

const (
	seed    = 20261125
	perCase = 6 // packets of a gateway
)

// observer counts, by the packets' IP identification, who comes to which hook. Its chains stand before and behind all others.
func observer(ids []uint16) string {
	var b strings.Builder
	b.WriteString("table ip obs {\n")
	for _, c := range []string{"fwd0 hook forward priority -500", "fwd1 hook forward priority 500", "in1 hook input priority 500"} {
		name, place, _ := strings.Cut(c, " ")
		fmt.Fprintf(&b, "\tchain %s {\n\t\ttype filter %s;\n", name, place)
		for _, id := range ids {
			fmt.Fprintf(&b, "\t\tip id %d counter\n", id)
		}
		b.WriteString("\t}\n")
	}
	return b.String() + "}\n"
}

var counted = regexp.MustCompile(`chain (\w+)|ip id (\d+) counter packets ([1-9]\d*)`)

// TestRandomGateways loads random gateways into a kernel, sends packets through them, and compares where each comes out, as
// what, or in which hook it is lost, with what Toril says.
func TestRandomGateways(t *testing.T) {
	lab.Need(t, "nft", "nftables")
	lab.Need(t, "iptables-restore", "iptables")
	tally := lab.NewTally(t, "walk: random gateways in nftables and iptables form, one packet each")
	replies := lab.NewTally(t, "walk: answers on their way back")
	w := newWire(t)
	from, _ := strconv.Atoi(os.Getenv("TORIL_LAB_FROM"))
	dir := t.TempDir()
	id := uint32(0)
	for n := from; n < from+cases(); n++ {
		g, s := random(seed, n)
		rules, name := s.nft(), "g/rules.nft"
		if s.iptables {
			rules, name = s.save(), "g/rules.v4"
		}
		w.reset(s, dir, rules)
		path := readBack(t, w, s, name, rules)
		w.install(path)
		packets := g.packets(perCase)
		ids := map[uint32]packet.Packet{}
		var ipids []uint16
		for i := range packets {
			id++
			if uint16(id) == 0 {
				id++
			}
			packets[i].Sport = map[bool]uint16{true: 0, false: uint16(10000 + id%50000)}[packets[i].Proto == 1]
			ids[id] = packets[i]
			ipids = append(ipids, uint16(id))
		}
		file := filepath.Join(dir, "obs")
		require.NoError(t, os.WriteFile(file, []byte(observer(ipids)), 0o644))
		sh(t, "ip netns exec %s nft -f %s", w.gw, file)
		for k := range len(ipids) {
			k := id - uint32(len(ipids)) + uint32(k) + 1
			w.emit(ids[k], k)
		}
		seen := w.watch(12*time.Millisecond, len(ids), "wan0", "alt0")
		hooks := w.counted()
		for k, p := range ids {
			got := fate(seen[k], hooks, uint16(k))
			outcomes := path.Forward(walk.Fresh(p.Set(), "lan0"))
			want := words(outcomes)
			if !tally.Count(got == want) {
				t.Errorf(
					"case %d: %s\n kernel:    %s\n predicted: %s\n steps: %s\n%s%s\nroutes: %v\n",
					n,
					p,
					got,
					want,
					steps(outcomes),
					rules,
					s.children,
					s.routes,
				)
			}
			if s, ok := seen[k]; ok && got == want {
				if len(outcomes) == 1 {
					left, _ := outcomes[0].Now.Witness()
					s.p.ConnMark = left.ConnMark // which nobody sees on the wire
				}
				w.answer(replies, n, path, p, s, k)
			}
		}
	}
}

// reset takes the gateway back and loads a scene.
func (w *wire) reset(s scene, dir, rules string) {
	batch := filepath.Join(dir, "batch")
	lines := "route flush table main\nroute flush table 7\nroute flush table 8\nrule flush\n" +
		"rule add from all lookup main priority 32766\nxfrm policy flush\nxfrm state flush\n" +
		"route add 10.1.0.0/16 dev lan0 src 10.1.0.1\nroute add 198.51.100.0/24 dev wan0 src 198.51.100.1\n" +
		"route add 192.0.2.0/24 dev alt0 src 192.0.2.1\nroute add default via 198.51.100.254\n"
	for _, r := range s.routes {
		lines += r + "\n"
	}
	require.NoError(w.t, os.WriteFile(batch, []byte(lines), 0o644))
	_ = exec.Command("ip", "-n", w.gw, "-force", "-batch", batch).Run() // what is there twice is refused, and not added
	file := filepath.Join(dir, "rules")
	require.NoError(w.t, os.WriteFile(file, []byte(rules), 0o644))
	load := "nft -f " + file
	if s.iptables {
		load = "iptables-nft-restore " + file
	}
	sh(w.t, "ip netns exec %s sh -c 'nft flush ruleset; %s'", w.gw, load)
}

// readBack reads the scene back from what the system saves, and prepares the walk. No child has an SA.
func readBack(t *testing.T, w *wire, s scene, name, rules string) *walk.Path {
	state := func(cmd string) []byte {
		out, err := exec.Command("sh", "-c", "ip -n "+w.gw+" "+cmd).Output()
		require.NoError(t, err)
		return out
	}
	files := fstest.MapFS{
		name:                {Data: []byte(rules)},
		"g/swanctl.conf":    {Data: []byte(s.swanctl())},
		"g/addr.txt":        {Data: state("addr")},
		"g/route.txt":       {Data: state("route show table all")},
		"g/rule.txt":        {Data: state("rule")},
		"g/strongswan.conf": {Data: []byte("charon {\n install_routes = no\n}\n")},
	}
	e, err := pair.WholeFS(context.Background(), files, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	require.Empty(t, e.Problems)
	gw := e.Gateway("g")
	for _, f := range gw.Files {
		require.Empty(t, f.Unread, "%s", f.Path)
	}
	return walk.NewPath(gw, e.Ends(gw), walk.Options{Down: func(*model.Child) bool { return true }})
}

// install puts the policies into the kernel as the daemon would: those asked first with the lower number.
func (w *wire) install(p *walk.Path) {
	batch, there := "", map[string]bool{}
	for i, pol := range p.Policies {
		for _, l := range pol.Child.Local.Value.At(pol.Own) {
			for _, r := range pol.Child.Remote.Value.At(pol.Peer) {
				match := ""
				if r.Proto != 0 {
					match = " proto " + packet.ProtoName(uint64(r.Proto))
					if !r.AllPorts() {
						match += fmt.Sprintf(" dport %d", r.LoPort)
					}
				}
				if selector := cidr(l) + cidr(r) + match; there[selector] { // the second of two alike is refused, and never asked
					continue
				} else {
					there[selector] = true
				}
				line := fmt.Sprintf("xfrm policy add src %s dst %s%s dir out priority %d", cidr(l), cidr(r), match, 1000+i)
				switch pol.Child.Mode.Value {
				case ike.Pass:
				case ike.Drop:
					line += " action block"
				default:
					line += " tmpl src 198.51.100.1 dst 203.0.113.99 proto esp mode tunnel"
				}
				batch += line + "\n"
				for _, dir := range []string{"in", "fwd"} { // what comes back must come through the tunnel, or may come as it is
					back := strings.NewReplacer("dport", "sport").Replace(match)
					if selector := cidr(l) + cidr(r) + match; there[selector] { // the second of two alike is refused, and never asked
						continue
					} else {
						there[selector] = true
					}
					line := fmt.Sprintf("xfrm policy add src %s dst %s%s dir %s priority %d", cidr(r), cidr(l), back, dir, 1000+i)
					switch pol.Child.Mode.Value {
					case ike.Pass:
					case ike.Drop:
						line += " action block"
					default:
						line += " tmpl src 203.0.113.99 dst 198.51.100.1 proto esp mode tunnel"
					}
					batch += line + "\n"
				}
			}
		}
	}
	if batch == "" {
		return
	}
	cmd := exec.Command("ip", "-n", w.gw, "-force", "-batch", "-")
	cmd.Stdin = strings.NewReader(batch)
	out, err := cmd.CombinedOutput()
	require.NoError(w.t, err, "%s", out)
}

func cidr(s ike.Selector) string {
	return packet.Range(packet.Src, s.Lo, s.Hi).Prefixes(packet.Src)[0].String()
}

// counted reads the observer's counters: hooks by identification.
func (w *wire) counted() map[uint16]map[string]bool {
	out, err := exec.Command("ip", "netns", "exec", w.gw, "nft", "list", "table", "ip", "obs").Output()
	require.NoError(w.t, err)
	seen := map[uint16]map[string]bool{}
	chain := ""
	for _, m := range counted.FindAllStringSubmatch(string(out), -1) {
		if m[1] != "" {
			chain = m[1]
			continue
		}
		n, _ := strconv.Atoi(m[2])
		if seen[uint16(n)] == nil {
			seen[uint16(n)] = map[string]bool{}
		}
		seen[uint16(n)][chain] = true
	}
	return seen
}

// fate says what the kernel did with a packet.
func fate(s sighting, hooks map[uint16]map[string]bool, id uint16) string {
	h := hooks[id]
	switch {
	case s.where != "":
		return "leaves by " + s.where + " as " + as(s.p)
	case h["in1"]:
		return "delivered"
	case h["fwd1"]:
		return "lost in postrouting"
	case h["fwd0"]:
		return "lost in forward"
	}
	return "lost before forward"
}

// as is how a packet looks from outside. A source port may be changed by a translation to keep it apart from others.
func as(p packet.Packet) string {
	if p.Proto == 1 {
		return fmt.Sprintf("icmp %s > %s", p.Src, p.Dst)
	}
	return fmt.Sprintf("%s %s > %s", packet.ProtoName(uint64(p.Proto)), p.Src, netip.AddrPortFrom(p.Dst, p.Dport))
}

// words says a prediction in the words of fate.
func words(os []walk.Outcome) string {
	var out []string
	for _, o := range os {
		w, _ := o.Now.Witness()
		switch {
		case !o.Doubts.Certain():
			out = append(out, "unsure: "+strings.Join(o.Doubts.Says(), ", "))
		case o.Fate == walk.Clear:
			out = append(out, "leaves by "+o.Out+" as "+as(w))
		case o.Fate == walk.Delivered:
			out = append(out, "delivered")
		case o.Fate == walk.Dropped && o.Where == "forward":
			out = append(out, "lost in forward")
		case o.Fate == walk.Dropped && (o.Where == "postrouting" || o.Where == "encapsulation"):
			out = append(out, "lost in postrouting")
		case o.Fate == walk.Dropped:
			out = append(out, "lost before forward")
		default:
			out = append(out, o.String())
		}
	}
	return strings.Join(out, " and ")
}

func steps(os []walk.Outcome) string {
	var out []string
	for _, o := range os {
		for _, s := range o.Steps {
			text := s.Stage + ": " + s.What
			if s.Rule != nil {
				text += fmt.Sprintf(" (line %d)", s.Rule.At.Line)
			}
			out = append(out, text)
		}
	}
	return strings.Join(out, "; ")
}

// answer sends the answer to a packet that came out, and compares where it goes.
func (w *wire) answer(tally *lab.Tally, n int, path *walk.Path, first packet.Packet, s sighting, id uint32) {
	last := s.p
	back := packet.Packet{
		Family:    packet.IPv4,
		Src:       last.Dst,
		Dst:       last.Src,
		Proto:     last.Proto,
		Sport:     last.Dport,
		Dport:     last.Sport,
		Direction: packet.Reply,
	}
	if last.Proto == 1 {
		back.ICMP = 0
	}
	w.emitOutside(s.where, back, id)
	got := "lost"
	if seen, ok := w.watch(12*time.Millisecond, 1, "lan")[id]; ok {
		got = "arrives as " + returned(seen.p)
	}
	want := []string{}
	outcomes := path.Reply(first, last, s.where, netip.Addr{})
	for _, o := range outcomes {
		wit, _ := o.Now.Witness()
		if o.Fate == walk.Clear && o.Out == "lan0" {
			want = append(want, "arrives as "+returned(wit))
		} else {
			want = append(want, "lost")
		}
	}
	if !tally.Count(got == strings.Join(want, " and ")) {
		w.t.Errorf(
			"case %d: the answer to %s, which left as %s\n kernel:    %s\n predicted: %s\n steps: %s",
			n,
			first,
			last,
			got,
			want,
			steps(outcomes),
		)
	}
}

func returned(p packet.Packet) string {
	if p.Proto == 1 {
		return fmt.Sprintf("icmp %s > %s", p.Src, p.Dst)
	}
	return fmt.Sprintf(
		"%s %s > %s",
		packet.ProtoName(uint64(p.Proto)),
		netip.AddrPortFrom(p.Src, p.Sport),
		netip.AddrPortFrom(p.Dst, p.Dport),
	)
}
