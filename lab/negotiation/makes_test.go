//go:build lab

package negotiation

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"toril/estate"
	"toril/ike"
	"toril/lab"
	"toril/lab/charon"
	"toril/lab/iked"
	"toril/lab/pluto"
	"toril/negotiate"
	"toril/pair"
	"toril/read/formats"
)

// algorithm is one algorithm in the words of the makes; iked is "" where OpenIKED has none for both SAs.
type algorithm struct{ swanctl, ipsec, iked string }

var (
	makesCiphers = []algorithm{
		{"aes128", "aes128", "aes-128"}, {"aes256", "aes256", "aes-256"}, {"aes192", "aes192", "aes-192"}, {"3des", "3des", "3des"},
		{"camellia256", "camellia256", ""}, {"aes128ctr", "aes_ctr128", ""}, {"aes256", "aes256", "aes-256"},
		{"aes128", "aes128", "aes-128"}, {"aes256-aes128", "aes", "aes-256 aes-128"},
	}
	makesCombined = []algorithm{
		{"aes128gcm16", "aes_gcm128", "aes-128-gcm"}, {"aes256gcm16", "aes_gcm256", "aes-256-gcm"},
		{"chacha20poly1305", "chacha20_poly1305", ""}, {"aes256ccm8", "aes_ccm_8_256", ""},
		{"aes256gcm16-aes128gcm16", "aes_gcm", "aes-256-gcm aes-128-gcm"},
	}
	makesHashes = []algorithm{
		{"sha1", "sha1", "hmac-sha1"}, {"sha256", "sha2_256", "hmac-sha2-256"}, {"sha384", "sha2_384", "hmac-sha2-384"},
		{"sha512", "sha2_512", "hmac-sha2-512"}, {"aesxcbc", "aes_xcbc", ""},
	}
	makesPRFs = map[string]string{"sha1": "prfsha1", "sha256": "prfsha256", "sha384": "prfsha384", "sha512": "prfsha512",
		"aesxcbc": "prfaesxcbc"}
	makesGroups = []algorithm{
		{"modp2048", "modp2048", "modp2048"}, {"modp1536", "modp1536", "modp1536"}, {"modp3072", "modp3072", "modp3072"},
		{"ecp256", "dh19", "ecp256"}, {"ecp384", "dh20", "ecp384"}, {"curve25519", "dh31", "curve25519"},
	}
)

// offer is a proposal of either protocol, in no make's words.
type offer struct {
	ike                   bool
	combined              bool
	ciphers, hash, groups []algorithm
}

// drawer draws pairs of makes; with OpenIKED, that all have a word for every algorithm.
type drawer struct {
	generator
	withIked bool
}

func (g drawer) pick(from []algorithm, ike bool) []algorithm {
	if g.withIked {
		from = slices.DeleteFunc(slices.Clone(from), func(a algorithm) bool {
			return a.iked == "" || !ike && a.iked == "hmac-sha2-256"
		})
	}
	n := 1
	if g.chance(25) {
		n += 1 + g.IntN(2)
	}
	var out []algorithm
	for _, i := range g.Perm(len(from))[:min(n, len(from))] {
		out = append(out, from[i])
	}
	return out
}

func (g drawer) offer(ike bool) offer {
	o := offer{ike: ike, combined: g.chance(35)}
	if g.withIked && !ike { // which it does not offer on Linux: named pairs are for that, and for SHA2-256
		o.combined = false
	}
	o.ciphers = g.pick(makesCiphers, ike)
	if o.combined {
		o.ciphers = g.pick(makesCombined, ike)
	}
	if ike || !o.combined {
		o.hash = g.pick(makesHashes, ike)
	}
	if ike || g.chance(35) {
		o.groups = g.pick(makesGroups, ike)
	}
	return o
}

func (o offer) swanctl() string {
	var out []string
	for _, a := range o.ciphers {
		out = append(out, a.swanctl)
	}
	for _, a := range o.hash {
		if o.combined && o.ike {
			out = append(out, makesPRFs[a.swanctl])
		} else {
			out = append(out, a.swanctl)
		}
	}
	for _, a := range o.groups {
		out = append(out, a.swanctl)
	}
	return strings.Join(out, "-")
}

func (o offer) ipsec() string {
	join := func(list []algorithm) string {
		var out []string
		for _, a := range list {
			out = append(out, a.ipsec)
		}
		return strings.Join(out, "+")
	}
	out := join(o.ciphers)
	if len(o.hash) > 0 {
		out += "-" + join(o.hash)
	}
	if len(o.groups) > 0 {
		out += ";" + join(o.groups)
	}
	return out
}

// iked writes an offer as "ikesa" or "childsa" have it.
func (o offer) iked() string {
	out := map[bool]string{true: "ikesa", false: "childsa"}[o.ike]
	add := func(kind string, list []algorithm) {
		for _, a := range list {
			for name := range strings.FieldsSeq(a.iked) {
				out += " " + kind + " " + name
			}
		}
	}
	add("enc", o.ciphers)
	if o.ike {
		add("prf", o.hash)
	}
	if !o.combined {
		add("auth", o.hash)
	}
	add("group", o.groups)
	return out
}

// party is one end of a pair of makes: what both can say, and what is of one alone.
type party struct {
	v1                bool
	ike, esp          []offer // none: the make's own
	pfs               string  // Libreswan: yes, no, "" for its default
	local, remote     string
	localID, remoteID string
	psk               string
	more              []string // further lines of ipsec.conf
	transport         bool
}

func (g drawer) offers(ike bool) []offer {
	if g.chance(25) {
		return nil
	}
	out := []offer{g.offer(ike)}
	for g.chance(30) {
		out = append(out, g.offer(ike))
	}
	if !ike { // either all name a group, or none
		for i := range out {
			if len(out[0].groups) == 0 {
				out[i].groups = nil
			} else if len(out[i].groups) == 0 {
				out[i].groups = out[0].groups
			}
		}
	}
	return out
}

func (g drawer) otherwise(from []offer, ike bool) []offer {
	switch n := g.IntN(100); {
	case n < 55 || len(from) == 0 && n < 80:
		return from
	case n < 65:
		return append([]offer{g.offer(ike)}, from...)
	case n < 75 && len(from) > 0:
		return from[len(from)-1:]
	case n < 82:
		return nil
	}
	return g.offers(ike)
}

func (g drawer) selector(third int) string {
	return g.one(fmt.Sprintf("10.%d.1.0/24", third), fmt.Sprintf("10.%d.0.0/16", third), fmt.Sprintf("10.%d.1.0/25", third), "0.0.0.0/0",
		fmt.Sprintf("10.%d.1.7/32", third))
}

// drawMakes makes both ends of a case.
func drawMakes(seed uint64, n int, withIked bool) (a, b party) {
	g := drawer{generator{rand.New(rand.NewPCG(seed, uint64(n)))}, withIked}
	a = party{psk: "harbour light of the old town", localID: "@a.example", remoteID: "@b.example", v1: g.chance(18)}
	a.ike, a.esp, a.pfs = g.offers(true), g.offers(false), g.one("", "", "yes", "no")
	a.local, a.remote = g.selector(1), g.selector(2)
	b = a
	b.local, b.remote, b.localID, b.remoteID = a.remote, a.local, a.remoteID, a.localID
	b.ike, b.esp = g.otherwise(a.ike, true), g.otherwise(a.esp, false)
	if g.chance(15) {
		b.pfs = g.one("", "yes", "no")
	}
	if g.chance(6) {
		b.v1 = !b.v1
	}
	if g.chance(12) {
		b.local = g.selector(2)
	}
	if g.chance(12) {
		b.remote = g.selector(1)
	}
	if g.chance(4) {
		b.psk = "another light"
	}
	if g.chance(8) {
		a.localID = g.one("", "@c.example", "10.0.0.1")
	}
	if g.chance(8) {
		a.remoteID = g.one("", "@c.example")
	}
	if g.chance(6) {
		a.transport, a.local, a.remote, b.local, b.remote = true, "", "", "", ""
		b.transport = g.chance(70)
	}
	for _, p := range []*party{&a, &b} {
		if withIked && p.localID == "" { // it would be the name of the host: a named pair is for that
			p.localID = "@c.example"
		}
		if g.chance(8) {
			p.more = append(p.more, "narrowing=yes")
		}
		if !withIked && g.chance(6) {
			p.more = append(p.more, "esn="+g.one("yes", "no", "either"))
		}
		if g.chance(4) {
			p.more = append(p.more, "replay-window=0")
		}
		if g.chance(4) {
			p.more = append(p.more, "ppk="+g.one("never", "yes", "insist"))
		}
		if g.chance(4) && p.v1 {
			p.more = append(p.more, "aggressive=yes")
		}
	}
	if a.v1 || b.v1 { // strongSwan sends a proposal with nothing in it, which ends the IKE SA
		for _, p := range []*party{&a, &b} {
			p.esp = slices.DeleteFunc(slices.Clone(p.esp), func(o offer) bool {
				return slices.ContainsFunc(o.ciphers, func(c algorithm) bool { return c.swanctl == "chacha20poly1305" })
			})
		}
	}
	return a, b
}

func offersOf(list []offer, write func(offer) string, between string) string {
	var out []string
	for _, o := range list {
		out = append(out, write(o))
	}
	return strings.Join(out, between)
}

// daemon is a daemon of either make with what it is given.
type daemon interface {
	// texts are the files that it reads, by name.
	texts(p party, own, peer string) map[string]string
	load(t testing.TB, files map[string]string)
	// up sets the connection up, and says what came of it in the words of seen; child whether a child came up.
	up(t testing.TB) (told string, child bool)
	// rekey renews the child, or the IKE SA.
	rekey(t testing.TB, ike bool) bool
	down(t testing.TB)
	// said is what it has against what it was given, or wrote.
	said() string
	mark()
	Stop()
}

type swan struct{ *charon.Daemon }

func (s swan) texts(p party, own, peer string) map[string]string {
	e := end{
		version: map[bool]string{true: "1", false: "2"}[p.v1], proposals: offersOf(p.ike, offer.swanctl, ","),
		esp: offersOf(p.esp, offer.swanctl, ","), local: p.local, remote: p.remote, localID: strings.TrimPrefix(p.localID, "@"),
		remoteID: strings.TrimPrefix(p.remoteID, "@"), psk: p.psk, localAuth: "psk", remoteAuth: "psk",
	}
	if p.transport {
		e.mode = "transport"
	}
	return map[string]string{"swanctl.conf": e.text(own, peer, 1, 2)}
}

func (s swan) load(t testing.TB, files map[string]string) {
	dir := t.TempDir()
	lay(t, dir, files)
	_ = s.LoadFile(filepath.Join(dir, "swanctl.conf"))
}

// lay writes files into a folder, by their names within it.
func lay(t testing.TB, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
}

func (s swan) up(t testing.TB) (string, bool) {
	o := charon.Set(t, s.Daemon, "ike", "c")
	if o == nil {
		return "no IKE SA", false
	}
	out := "IKEv" + o.Version + " " + o.Suite
	if len(o.Children) == 0 {
		return out + "; no child", false
	}
	k := o.Children[0]
	if o.Version == "1" { // the other daemon does not tell the group
		k.Suite = withoutGroup.ReplaceAllString(k.Suite, "")
	}
	return out + fmt.Sprintf("; %s %s %s %s === %s", k.Protocol, k.Mode, k.Suite, sorted(k.Local), sorted(k.Remote)), true
}

var withoutGroup = regexp.MustCompile(`/(MODP|ECP|CURVE)_\w+`)

func (s swan) rekey(t testing.TB, ike bool) bool { return charon.Renew(t, s.Daemon, ike) }

func (s swan) mark() { s.Mark() }

func (s swan) said() string {
	lines := strings.Split(strings.TrimSpace(s.Log()), "\n")
	return strings.Join(lines[max(0, len(lines)-12):], " / ")
}

func (s swan) down(t testing.TB) { charon.Clear(t, s.Daemon) }

type libre struct {
	*pluto.Daemon
	loaded string // what it had against what it was given
}

func (l *libre) texts(p party, own, peer string) map[string]string {
	var b strings.Builder
	line := func(key, value string) {
		if value != "" {
			fmt.Fprintf(&b, "\t%s=%s\n", key, value)
		}
	}
	b.WriteString("config setup\n\tikev1-policy=accept\n\nconn ike\n")
	line("left", own)
	line("right", peer)
	line("leftid", p.localID)
	line("rightid", p.remoteID)
	line("leftsubnet", p.local)
	line("rightsubnet", p.remote)
	line("authby", "secret")
	line("ikev2", map[bool]string{true: "no", false: "yes"}[p.v1])
	line("ike", offersOf(p.ike, offer.ipsec, ","))
	line("esp", offersOf(p.esp, offer.ipsec, ","))
	line("pfs", p.pfs)
	if p.transport {
		line("type", "transport")
	}
	for _, m := range p.more {
		b.WriteString("\t" + m + "\n")
	}
	line("leftupdown", "%disabled")
	line("keyingtries", "1")
	line("auto", "add")
	return map[string]string{"ipsec.conf": b.String(), "ipsec.secrets": ": PSK \"" + p.psk + "\"\n"}
}

func (l *libre) load(t testing.TB, files map[string]string) {
	l.loaded = l.Load(t, files["ipsec.conf"], files["ipsec.secrets"], "ike")
}

func (l *libre) up(testing.TB) (string, bool) {
	sa := l.Initiate("ike")
	switch {
	case sa == nil:
		return "no IKE SA", false
	case sa.Child == "":
		return "IKEv" + sa.Version + " " + sa.Suite + "; no child", false
	}
	return strings.TrimSpace("IKEv" + sa.Version + " " + sa.Suite + "; " + sa.Child + " " + sa.Selected), true
}

func (l *libre) rekey(_ testing.TB, ike bool) bool { return l.Rekey("ike", ike) }

func (l *libre) mark() { l.Mark() }

func (l *libre) said() string { return l.loaded + " // " + l.Complaints() }

func (l *libre) down(testing.TB) { l.Down("ike") }

type obsd struct {
	*iked.Daemon
	loaded string // what it had against what it was given
}

func (o *obsd) texts(p party, own, peer string) map[string]string {
	end := func(network, address string) string {
		if network == "" {
			return address
		}
		return network
	}
	text := "ikev2 \"ike\" active"
	if p.transport {
		text += " transport"
	}
	text += fmt.Sprintf(" esp from %s to %s local %s peer %s", end(p.local, own), end(p.remote, peer), own, peer)
	for _, one := range slices.Concat(p.ike, p.esp) {
		text += " " + one.iked()
	}
	if p.localID != "" {
		text += " srcid " + strings.TrimPrefix(p.localID, "@")
	}
	if p.remoteID != "" {
		text += " dstid " + strings.TrimPrefix(p.remoteID, "@")
	}
	return map[string]string{"iked.conf": text + " ikelifetime 86400 psk \"" + p.psk + "\"\n"}
}

func (o *obsd) load(t testing.TB, files map[string]string) {
	for _, of := range []string{"certs", "ca", "crls"} { // what another pair had
		require.NoError(t, os.RemoveAll(filepath.Join(o.Folder(), of)))
		require.NoError(t, os.Mkdir(filepath.Join(o.Folder(), of), 0o755))
	}
	lay(t, o.Folder(), files)
	o.loaded = o.Load(t, files["iked.conf"])
}

func (o *obsd) up(testing.TB) (string, bool) {
	sa := o.Initiate()
	switch {
	case sa == nil:
		return "no IKE SA", false
	case sa.Child == "":
		return "IKEv2 " + sa.Suite + "; no child", false
	}
	return "IKEv2 " + sa.Suite + "; " + sa.Child + " " + sa.Selected, true
}

func (o *obsd) rekey(_ testing.TB, ike bool) bool { return o.Renew(ike) }

func (o *obsd) mark() { o.Mark() }

func (o *obsd) said() string { return o.loaded + " // " + o.Complaints() }

func (o *obsd) down(testing.TB) { o.Down() }

// estateOf joins what two daemons read.
func estateOf(t testing.TB, a, b map[string]string) *pair.Tunnel {
	version := func(files map[string]string) string {
		switch {
		case files["ipsec.conf"] != "":
			return "Libreswan 4.10"
		case files["iked.conf"] != "":
			return "OpenIKED 7.2 on Linux"
		}
		return "strongSwan 5.9.8"
	}
	const told = "formats: {\"*/ipsec.conf\": ipsec.conf-libreswan}\nversions: {a: %s, b: %s}\n"
	fsys := fstest.MapFS{"toril.yaml": {Data: []byte(fmt.Sprintf(told, version(a), version(b)))}}
	for folder, files := range map[string]map[string]string{"a": a, "b": b} {
		for name, text := range files {
			if strings.HasPrefix(name, "private/") {
				continue
			}
			fsys[folder+"/"+name] = &fstest.MapFile{Data: []byte(text)}
		}
		if files["ip-address.txt"] == "" {
			address := addressOf(map[string]string{"a": "10.0.0.1", "b": "10.0.0.2"}[folder])
			fsys[folder+"/ip-address.txt"] = &fstest.MapFile{Data: []byte(address)}
		}
	}
	e, err := pair.WholeFS(context.Background(), fsys, estate.Options{Formats: formats.All(), Day: time.Now()})
	require.NoError(t, err)
	ga, gb := e.Gateway("a"), e.Gateway("b")
	if len(ga.Connections) == 0 || len(gb.Connections) == 0 {
		return nil
	}
	return &pair.Tunnel{
		Name: "a <> b",
		Ends: []pair.End{{Gateway: ga, Connection: ga.Connections[0]}, {Gateway: gb, Connection: gb.Connections[0]}},
	}
}

// addressOf is what "ip address" prints at an end.
func addressOf(address string) string {
	return "2: tv: <BROADCAST,MULTICAST,UP,LOWER_UP> mtu 1500 qdisc noqueue state UP group default qlen 1000\n" +
		"    inet " + address + "/24 scope global tv\n"
}

// told writes a prediction in the words of up, and what it says of keys renewed.
func told(a negotiate.Attempt, selectors bool) (text, renewed string) {
	if a.Failure != nil {
		return "no IKE SA", ""
	}
	text = "IKEv" + map[ike.Version]string{ike.V1: "1", ike.V2: "2"}[a.Version] + " " + suite(a.IKE)
	c := a.Children[0]
	if c.Outcome != negotiate.Agrees {
		return text + "; no child", ""
	}
	if a.Version == ike.V1 { // the daemons do not tell the group
		c.Suite.Transforms[ike.KeyExchange] = ike.Choice{}
	}
	text += fmt.Sprintf("; %s %s %s", c.Suite.Protocol, strings.ToUpper(c.Mode.String()), suite(c.Suite))
	if selectors {
		local, remote := c.Local, c.Remote
		if e := a.Initiator.Connection; e.Daemon.Children.OwnSelectors { // what it tells is what it has, not what both have
			local, remote = c.Of.Local.Value, c.Of.Remote.Value
		}
		text += fmt.Sprintf(" %s === %s", listed(local), listed(remote))
	}
	if a.Version == ike.V2 {
		renewed = fmt.Sprintf("child by initiator %v, by responder %v; IKE SA by initiator %v, by responder %v",
			c.Rekey.ByInitiator == negotiate.Agrees, c.Rekey.ByResponder == negotiate.Agrees,
			a.Rekey.ByInitiator == negotiate.Agrees, a.Rekey.ByResponder == negotiate.Agrees)
	}
	return text, renewed
}

const ikev1Accepted = "\tikev1-policy=accept\n"

// startOf starts a daemon of a make by its first letter; before is what is done to Libreswan's store. Only one at a time has the ports of a
// network namespace.
func startOf(t testing.TB, kind, name, ns string, before ...func(*pluto.Daemon)) daemon {
	t.Helper()
	switch kind {
	case "S":
		return swan{charon.Start(t, name, ns, "")}
	case "L":
		return &libre{Daemon: pluto.Start(t, name, ns, ikev1Accepted, before...)}
	}
	return &obsd{Daemon: iked.Start(t, name, ns)}
}

func TestMakes(t *testing.T) {
	t.Parallel()
	for i, makes := range [][2]string{
		{"Libreswan", "Libreswan"}, {"strongSwan", "Libreswan"},
		{"OpenIKED", "OpenIKED"}, {"strongSwan", "OpenIKED"}, {"Libreswan", "OpenIKED"},
	} {
		name := makes[0] + " and " + makes[1]
		t.Run(name, func(t *testing.T) {
			tally := lab.NewTally(t, "negotiation: "+name+", random pairs, either end as the initiator")
			t.Parallel() // most of the time is waiting
			nsA, nsB := lab.Wire(t, fmt.Sprint("makes", i))
			one, two := startOf(t, strings.ToUpper(makes[0][:1]), "a", nsA), startOf(t, strings.ToUpper(makes[1][:1]), "b", nsB)
			kept := newRecord(t, "makes-"+strings.ReplaceAll(name, " ", "-"))
			from, _ := strconv.Atoi(os.Getenv("TORIL_LAB_FROM"))
			pairs := howMany()
			if os.Getenv("TORIL_LAB_CASES") == "" {
				pairs = 20 // a second or two each
			}
			for n := from; n < from+pairs; n++ {
				pa, pb := drawMakes(seed, n, makes[1] == "OpenIKED")
				p := pairOf{name: fmt.Sprintf("%s %d", name, n)}
				p.a, p.b = one.texts(pa, "10.0.0.1", "10.0.0.2"), two.texts(pb, "10.0.0.2", "10.0.0.1")
				p.try(t, tally, one, two, kept)
			}
		})
	}
}

// pairOf is what two daemons are given.
type pairOf struct {
	name string
	a, b map[string]string
	once bool // keys are not renewed
	open bool // nothing comes up, for a reason that the files do not tell: the prediction notes what was not compared
}

// try has either end set the tunnel up and renew its keys, and holds the prediction against that.
func (p pairOf) try(t *testing.T, tally *lab.Tally, one, two daemon, kept *record) {
	tunnel, agreed := estateOf(t, p.a, p.b), 0
	for i := range 2 {
		down := func() {
			one.down(t)
			two.down(t)
			one.down(t) // what the other end began meanwhile
		}
		got, want, why := p.attempt(t, tunnel, i, one, two)
		if got != want { // a daemon that was kept waiting by the others gives up: what it does it does again
			down()
			got, want, why = p.attempt(t, tunnel, i, one, two)
		}
		if tally.Count(got == want) {
			agreed++
			if os.Getenv("TORIL_LAB_ONLY") != "" {
				t.Logf("%s, %s initiates: %s\n a says %s\n b says %s", p.name, []string{"a", "b"}[i], got, one.said(), two.said())
			}
		} else {
			t.Errorf("case %s, %s initiates\n daemons:   %s\n predicted: %s\n because:   %s\n a: %s\n b: %s\n "+
				"a says %s\n b says %s", p.name,
				[]string{"a", "b"}[i], got, want, why, written(p.a), written(p.b), one.said(), two.said())
		}
		down()
	}
	if agreed == 2 {
		kept.keepFiles(p.name, p.a, p.b)
	}
}

// attempt has an end, by its number, set the tunnel up and renew its keys, and returns what came of it and what was predicted.
func (p pairOf) attempt(t *testing.T, tunnel *pair.Tunnel, i int, one, two daemon) (got, want, why string) {
	one.load(t, p.a)
	two.load(t, p.b)
	from, to := one, two
	if i == 1 {
		from, to = two, one
	}
	to.mark()
	got, child := from.up(t)
	want, renewed, why := "no IKE SA", "", "a connection is not loaded"
	if tunnel != nil {
		a := negotiate.Tunnel(tunnel)[i]
		why = because(a)
		_, quiet := from.(*libre) // of IKEv1 it does not tell the selectors
		want, renewed = told(a, !(quiet && a.Version == ike.V1))
		if p.open && len(a.Notes) > 0 && got == "no IKE SA" {
			want, renewed = got, ""
		}
	}
	if p.once {
		renewed = ""
	}
	again := ""
	if child && renewed != "" && got == want {
		again = "child by initiator " + fmt.Sprint(from.rekey(t, false))
		for _, more := range []func() string{
			func() string { return fmt.Sprintf(", by responder %v", to.rekey(t, false)) },
			func() string { return fmt.Sprintf("; IKE SA by initiator %v", from.rekey(t, true)) },
			func() string { return fmt.Sprintf(", by responder %v", to.rekey(t, true)) },
		} {
			from.down(t) // the second renewal may go by the first, and one that fails may take the IKE SA down
			to.down(t)
			from.down(t)
			from.up(t)
			again += more()
		}
	}
	return got + "; " + again, want + "; " + renewed, why
}

func written(files map[string]string) string {
	return strings.Join(strings.Fields(files["swanctl.conf"]+files["iked.conf"]+files["ipsec.conf"]+files["ipsec.secrets"]), " ")
}
