package libreswan

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"toril/daemon"
	"toril/daemon/form"
	"toril/daemon/libreswan"
	"toril/ike"
	"toril/internal/lazy"
	"toril/model"
	"toril/model/literal"
	"toril/read"
	"toril/source"
	"toril/syntax/lines"
)

// Status is the format of what the daemon says of its state.
var Status = &read.Format{
	Name:     "libreswan-status",
	Title:    "status of IKE daemon Libreswan: ipsec status, whack --status and --trafficstatus",
	Software: libreswan.Daemon.Name,
	About:    model.AboutStatus,
	Hints:    []string{"whack-status*", "trafficstatus*", "ipsec-trafficstatus*", "pluto-status*"},
	Order:    60,
	Looks:    looksLikeStatus,
	Read:     readStatus,
	Covers: read.Rows(
		read.Coverage{Statement: "connections: addresses, selectors, algorithms that are in use", Use: read.Used},
		read.Coverage{Statement: "states: established IKE and child SAs, their SPIs, traffic and time", Use: read.Used},
		read.Coverage{Statement: "interfaces, algorithms that are supported, config setup, policies", Use: read.Irrelevant},
	),
}

var (
	statusHead  = lazy.NewSearch(`(?m)^(?:000 )?using kernel interface: |^000 #\d+: "|^(?:006|000) #\d+: ".*inBytes=|^000 Connection list:`)
	listedConn  = lazy.Regexp(`^"([^"]+)": (.+?);\s+(?:erouted|unrouted|prospective erouted|routed\S*|eroute\S*|fail erouted)`)
	connUses    = lazy.Regexp(`^"([^"]+)":\s+(IKEv?2?|IKE|ESP|AH) algorithm newest: (\S+?);?(?: pfsgroup=(\S+))?$`)
	connTimes   = lazy.Regexp(`^"([^"]+)":\s+ike_life: (\d+)s;`)
	stateLine   = lazy.Regexp(`^#(\d+): "([^"]+)"(?:\[\d+\] \S+)?:\d+ (STATE_\S+) \(([^)]*)\);(.*)$`)
	statePlace  = lazy.Regexp(`^#(\d+): "([^"]+)".* (esp|ah)\.([0-9a-f]+)@(\S+) (?:esp|ah)\.([0-9a-f]+)@(\S+)`)
	stateBytes  = lazy.Regexp(`(?:ESP|AH)in=(\S+) (?:ESP|AH)out=(\S+)`)
	trafficLine = lazy.Regexp(`^#(\d+): "([^"]+)"(?:\[\d+\] \S+)?, type=(ESP|AH), add_time=(\d+), inBytes=(\d+), outBytes=(\d+)`)
)

func looksLikeStatus(f *source.File) (int, string) {
	if m := statusHead.Find(f.Head()); m != nil {
		return 96, fmt.Sprintf("it is what the daemon says of its state (%q)", m)
	}
	return 0, ""
}

// statusReader puts together what several lines say of one state.
type statusReader struct {
	in     *read.Input
	loaded map[string]*model.Loaded
	uses   map[string][2]ike.Suite // of the IKE SA, of the child, by connection
	kids   map[string]*model.ChildSA
	of     []*model.IKESA
}

func readStatus(in *read.Input) {
	r := &statusReader{
		in: in, loaded: map[string]*model.Loaded{}, uses: map[string][2]ike.Suite{}, kids: map[string]*model.ChildSA{},
	}
	seen := &in.Gateway.Observed
	for line := range lines.Parse(in.File.Bytes(), lines.Manner{}) {
		text := strings.TrimSpace(line.Text)
		if text == "" {
			continue
		}
		in.Count()
		if n, rest, ok := strings.Cut(text, " "); ok && len(n) == 3 && n[0] == '0' {
			text = strings.TrimSpace(rest)
		}
		r.line(text, in.At(line.Line))
	}
	for _, sa := range r.of {
		sa.Suite = r.uses[sa.Connection][0]
		if l := r.loaded[sa.Connection]; l != nil {
			sa.Local, sa.Remote = single(l.Local), single(l.Remote)
			l.Version = sa.Version
		}
	}
	for _, k := range seen.Children {
		if k.Suite.Valid() {
			continue
		}
		k.Suite = r.uses[k.Connection][1]
		if l := r.loaded[k.Connection]; l != nil {
			k.Local, k.Remote = l.Children[0].Local, l.Children[0].Remote
			k.OwnAddr, k.Peer = single(l.Local), single(l.Remote)
		}
	}
}

// line takes one line of the status.
func (r *statusReader) line(text string, at source.Pos) {
	seen := &r.in.Gateway.Observed
	lists := func(l model.List) {
		if _, ok := seen.Lists(l); !ok {
			seen.Listed = append(seen.Listed, model.Listed{List: l, At: at})
		}
	}
	if strings.HasPrefix(text, "Connection list:") {
		lists(model.ListLoaded)
		lists(model.ListSAs)
	} else if m := listedConn().FindStringSubmatch(text); m != nil {
		r.connection(m[1], m[2], at)
	} else if m := connUses().FindStringSubmatch(text); m != nil {
		u := r.uses[m[1]]
		if m[2] == "ESP" || m[2] == "AH" {
			u[1] = suiteShown(ike.ESP, m[3])
			if m[2] == "AH" {
				u[1] = suiteShown(ike.AH, m[3])
			}
		} else {
			u[0] = suiteShown(ike.IKE, m[3])
		}
		r.uses[m[1]] = u
	} else if m := connTimes().FindStringSubmatch(text); m != nil && r.loaded[m[1]] != nil {
		if n, err := strconv.ParseUint(m[2], 10, 31); err == nil {
			r.loaded[m[1]].Rekey = time.Duration(n) * time.Second
		}
	} else if m := trafficLine().FindStringSubmatch(text); m != nil {
		k := r.child(m[1], m[2], at)
		k.In, k.Out = told(m[5], k.In.SPI, at), told(m[6], k.Out.SPI, at)
		k.Up, k.State = true, "established"
	} else if m := stateLine().FindStringSubmatch(text); m != nil {
		r.state(m, at)
	} else if m := statePlace().FindStringSubmatch(text); m != nil {
		r.place(m, text, at)
	}
}

// connection takes the line of a connection: "local===own[id]...peer[id]===remote".
func (r *statusReader) connection(name, ends string, at source.Pos) {
	left, right, ok := strings.Cut(ends, "...")
	if !ok {
		return
	}
	l := &model.Loaded{At: at, Name: source.Clean(name), Version: ike.Either, Rekey: -1}
	own, local := end(left)
	peer, remote := end(right)
	l.Local, l.Remote = []string{own}, []string{peer}
	l.Children = []*model.LoadedChild{{At: at, Name: l.Name, Local: local, Remote: remote, Rekey: -1}}
	r.loaded[l.Name] = l
	r.in.Gateway.Observed.Loaded = append(r.in.Gateway.Observed.Loaded, l)
}

// end takes one end of a connection apart: its address, and the networks behind it.
func end(text string) (addr string, nets ike.Selectors) {
	for part := range strings.SplitSeq(text, "===") {
		if p, err := netip.ParsePrefix(part); err == nil {
			nets = append(nets, ike.SelectPrefix(p))
			continue
		}
		host, _, _ := strings.Cut(part, "[")
		host, _, _ = strings.Cut(host, "<")
		if _, err := netip.ParseAddr(host); err == nil || strings.HasPrefix(host, "%") {
			addr = host
		}
	}
	if nets == nil {
		if s, err := literal.Net(addr); err == nil {
			nets = ike.Selectors{s}
		}
	}
	return addr, nets
}

func (r *statusReader) state(m []string, at source.Pos) {
	up := strings.Contains(m[4], "established") || strings.Contains(m[3], "QUICK_I2") || strings.Contains(m[3], "QUICK_R2")
	version := ike.V1
	if strings.Contains(m[3], "_V2_") {
		version = ike.V2
	}
	if strings.Contains(m[4], "Child SA") || strings.Contains(m[3], "QUICK") || strings.Contains(m[3], "CHILD") {
		k := r.child(m[1], m[2], at)
		k.State, k.Up = source.Clean(m[4]), up
		return
	}
	sa := &model.IKESA{At: at, Connection: source.Clean(m[2]), State: source.Clean(m[4]), Up: up, Version: version}
	r.of = append(r.of, sa)
	r.in.Gateway.Observed.IKE = append(r.in.Gateway.Observed.IKE, sa)
}

// place takes the line that tells where packets of a child SA go: the SPI of what is sent first, then that of what is received.
func (r *statusReader) place(m []string, text string, at source.Pos) {
	k := r.child(m[1], m[2], at)
	if m[3] == "ah" {
		k.Protocol = ike.AH
	}
	k.Out.SPI, k.In.SPI = hex32(m[4]), hex32(m[6])
	if b := stateBytes().FindStringSubmatch(text); b != nil {
		k.In, k.Out = told(b[1], k.In.SPI, at), told(b[2], k.Out.SPI, at)
	}
}

// child returns the child SA of a state by its number.
func (r *statusReader) child(number, name string, at source.Pos) *model.ChildSA {
	k := r.kids[number]
	if k == nil {
		name = source.Clean(name)
		k = &model.ChildSA{At: at, Connection: name, Name: name, Protocol: ike.ESP, Mode: ike.Tunnel, State: "?"}
		r.kids[number] = k
		r.in.Gateway.Observed.Children = append(r.in.Gateway.Observed.Children, k)
	}
	return k
}

func hex32(text string) uint32 {
	n, _ := strconv.ParseUint(text, 16, 32)
	return uint32(n)
}

// told reads a number of bytes: "252", "252B", "3KB".
func told(text string, spi uint32, at source.Pos) model.Counter {
	n, err := form.Size.Read(strings.TrimSuffix(text, "B"))
	return model.Counter{SPI: spi, Bytes: n, Told: err == nil, At: at}
}

func single(of []string) netip.Addr {
	if len(of) != 1 {
		return netip.Addr{}
	}
	a, _ := netip.ParseAddr(of[0])
	return a
}

// suiteShown reads "AES_CBC_256-HMAC_SHA2_256-MODP2048": of the IKE SA the hash is that of the PRF, of a child it protects integrity.
func suiteShown(protocol ike.Protocol, text string) ike.Suite {
	var names []string
	for _, n := range strings.Split(text, "-") {
		if protocol == ike.IKE && strings.HasPrefix(n, "HMAC_") {
			n = "PRF_" + n
		}
		names = append(names, n)
	}
	s, _ := daemon.SuiteShown(protocol, names...)
	return s
}
