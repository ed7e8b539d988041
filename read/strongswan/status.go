package strongswan

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"toril/daemon"
	"toril/daemon/strongswan"
	"toril/ike"
	"toril/internal/lazy"
	"toril/model"
	"toril/read"
	"toril/source"
	"toril/syntax/lines"
)

// Status is the format of what the daemon's commands list: its SAs, and the connections that it has loaded.
var Status = &read.Format{
	Name:     "strongswan-status",
	Title:    "status of IKE daemon strongSwan: swanctl --list-sas and --list-conns (text, --raw, --pretty), ipsec status and statusall",
	Software: software,
	About:    model.AboutStatus,
	Hints:    []string{"list-sas*", "list-conns*", "statusall*", "ipsec-status*", "swanctl-list*"},
	Empty:    "list-sas*",
	Order:    60,
	Looks:    looksLikeStatus,
	Read:     readStatus,
	Covers: read.Rows(
		read.Coverage{Statement: "IKE SAs: name, state, version, addresses, suite, age", Use: read.Used},
		read.Coverage{Statement: "child SAs: name, state, mode, suite, SPIs, counters, selectors, age", Use: read.Used},
		read.Coverage{Statement: "loaded connections: version, addresses, times, children with their selectors", Use: read.Used},
		read.Coverage{
			Statement: "identities, tasks, plugins, pools, certificates",
			Use:       read.Irrelevant,
			Note:      "the configuration tells them",
		},
	),
}

var (
	saLine   = lazy.NewSearch(`^(\S.*): #(\d+), ([A-Z_]+), (IKEv[12]), `)
	endLine  = lazy.Regexp(`^(local|remote)\s+'.*' @ ([0-9a-fA-F.:%a-z]+)\[(\d+)\]`)
	kidLine  = lazy.Regexp(`^(\S.*): #\d+, (?:reqid \d+, )?([A-Z_]+), ([A-Z_]+)(-in-UDP)?, (ESP|AH):(\S*)`)
	wayLine  = lazy.Regexp(`^(in|out)\s+([0-9a-f]+)(?: \([^)]*\))?,\s*(\d+) bytes,\s*(\d+) packets`)
	connHead = lazy.NewSearch(
		`^(\S.*): (IKEv1/2|IKEv1|IKEv2), (?:no reauthentication|reauthentication every \S+)(?:, (?:no rekeying|rekeying every (\d+)s))?`,
	)
	kidHead   = lazy.Regexp(`^(\S.*): (TUNNEL|TRANSPORT|BEET|PASS|DROP|TRANSPORT_PROXY), (?:no rekeying|rekeying every ([^,]*))`)
	agoWord   = lazy.Regexp(`(?:established|installed) (\d+)s ago`)
	statusSA  = lazy.Regexp(`^\s+(\S+)\[(\d+)\]: ([A-Z_]+)(?: (.+?) ago)?, ([0-9a-fA-F.:]+)\[.*?\]\.\.\.([0-9a-fA-F.:]+)\[`)
	statusIKE = lazy.Regexp(`^\s+(\S+)\[(\d+)\]: (?:(IKEv[12]) SPIs: |IKE proposal: (\S+))`)
	statusKid = lazy.Regexp(
		`^\s+(\S+)\{(\d+)\}:\s+([A-Z_]+), ([A-Z_]+), reqid \d+, (ESP|AH)( in UDP)? SPIs: ([0-9a-f]+)_i ([0-9a-f]+)_o`,
	)
	statusBy = lazy.Regexp(
		`^\s+\S+\{(\d+)\}:\s+([A-Z0-9_/]+), (\d+) bytes_i(?: \((\d+) pkts?, [^)]*\))?, (\d+) bytes_o(?: \((\d+) pkts?, [^)]*\))?`,
	)
	statusTS   = lazy.Regexp(`^\s+\S+\{(\d+)\}:\s+(.+) === (.+)$`)
	statusConn = lazy.Regexp(`^\s+(\S+):  (\S+)\.\.\.(\S+)  (IKEv1/2|IKEv1|IKEv2)`)
	statusSub  = lazy.Regexp(`^\s+(\S+):   child:  (.+) === (.+) (TUNNEL|TRANSPORT|BEET|PASS|DROP)`)
	statusHead = lazy.NewSearch(`(?m)^(Status of IKE charon daemon|Security Associations \(\d+ up|Shunted Connections:|Routed Connections:)`)
	rawHead    = lazy.NewSearch(`(?m)^list-(sa|conn) event \{`)
)

func looksLikeStatus(f *source.File) (int, string) {
	head := f.Head()
	if m := statusHead.Find(head); m != nil {
		return 96, fmt.Sprintf("it is what the daemon says of its state (%q)", m)
	}
	if m := rawHead.Find(head); m != nil {
		return 96, fmt.Sprintf("it is a list of the daemon's (%q)", m)
	}
	if !saLine.May(head) && !connHead.May(head) {
		return 0, ""
	}
	for line := range strings.Lines(string(head)) {
		if saLine.MatchString(line) {
			return 96, "it lists IKE SAs"
		}
		if connHead.MatchString(strings.TrimRight(line, "\r\n")) {
			return 96, "it lists connections that are loaded"
		}
	}
	return 0, ""
}

func readStatus(in *read.Input) {
	head := in.File.Head()
	switch {
	case len(head) == 0:
		(&listing{in: in}).lists(model.ListSAs, in.At(1))
	case rawHead.Match(head):
		readLists(in)
	case statusHead.Match(head):
		readStatusAll(in)
	default:
		readListText(in)
	}
}

// listing is a list on its way into what was observed.
type listing struct {
	in     *read.Input
	sa     *model.IKESA
	kid    *model.ChildSA
	loaded *model.Loaded
	sub    *model.LoadedChild
}

func (l *listing) seen() *model.Observed { return &l.in.Gateway.Observed }

// lists notes that a list was given.
func (l *listing) lists(what model.List, at source.Pos) {
	if _, ok := l.seen().Lists(what); !ok {
		l.seen().Listed = append(l.seen().Listed, model.Listed{List: what, At: at})
	}
}

// readListText reads what swanctl lists for people.
func readListText(in *read.Input) {
	l := &listing{in: in}
	for line := range lines.Parse(in.File.Bytes(), lines.Manner{}) {
		text := strings.TrimSpace(line.Text)
		if text == "" {
			continue
		}
		in.Count()
		depth := len(line.Text) - len(strings.TrimLeft(line.Text, " "))
		if !l.text(depth, text, in.At(line.Line)) {
			in.Unread(in.Pos(line.Place), read.Owner{}, "it is no line of a list that is known")
		}
	}
}

// text takes one line of a list; false where it is none.
func (l *listing) text(depth int, text string, at source.Pos) bool {
	if depth == 0 {
		l.sa, l.kid, l.loaded, l.sub = nil, nil, nil, nil
		if m := saLine.FindStringSubmatch(text + " "); m != nil {
			l.sa = &model.IKESA{At: at, Connection: source.Clean(m[1]), State: m[3], Up: m[3] == "ESTABLISHED", Version: versionOf(m[4])}
			l.seen().IKE = append(l.seen().IKE, l.sa)
			l.lists(model.ListSAs, at)
			return true
		}
		if m := connHead.FindStringSubmatch(text); m != nil {
			l.loaded = &model.Loaded{At: at, Name: source.Clean(m[1]), Version: versionOf(m[2]), Rekey: every(m[3])}
			l.seen().Loaded = append(l.seen().Loaded, l.loaded)
			l.lists(model.ListLoaded, at)
			return true
		}
		return false
	}
	switch {
	case l.sa != nil && depth == 2:
		return l.ofSA(text, at)
	case l.kid != nil && depth == 4:
		return l.ofKid(text, at)
	case l.loaded != nil && depth == 2:
		return l.ofLoaded(text, at)
	case l.sub != nil && depth == 4:
		if v, ok := strings.CutPrefix(text, "local:"); ok {
			l.sub.Local = selectorsShown(v)
		} else if v, ok := strings.CutPrefix(text, "remote:"); ok {
			l.sub.Remote = selectorsShown(v)
		}
		return true
	case l.loaded != nil:
		return true // identities and certificates
	}
	return false
}

func (l *listing) ofSA(text string, at source.Pos) bool {
	l.kid = nil
	if m := endLine().FindStringSubmatch(text); m != nil {
		a, _ := netip.ParseAddr(m[2])
		if m[1] == "local" {
			l.sa.Local = a
		} else {
			l.sa.Remote = a
		}
		return true
	}
	if m := kidLine().FindStringSubmatch(text); m != nil {
		l.child(at, m[1], m[2], m[3], m[5])
		l.kid.Encapsulated = m[4] != ""
		l.kid.Suite, _ = daemon.SuiteShown(l.kid.Protocol, strings.Split(m[6], "/")...)
		return true
	}
	if m := agoWord().FindStringSubmatch(text); m != nil {
		l.sa.Age = secondsOf(m[1])
		return true
	}
	for _, known := range []string{"local", "remote", "established", "queued:", "active:", "passive:", "rekeying", "reauth"} {
		if strings.HasPrefix(text, known) {
			return true
		}
	}
	suite, _ := daemon.SuiteShown(ike.IKE, strings.Split(text, "/")...)
	l.sa.Suite = suite
	return suite.Valid()
}

// child begins a child SA of the IKE SA.
func (l *listing) child(at source.Pos, name, state, mode, protocol string) {
	l.kid = &model.ChildSA{
		At:         at,
		Connection: l.sa.Connection,
		Name:       source.Clean(name),
		State:      state,
		Up:         state == "INSTALLED" || state == "REKEYING" || state == "UPDATING",
		Mode:       modeShown(mode),
		Protocol:   ike.ESP,
		OwnAddr:    l.sa.Local,
		Peer:       l.sa.Remote,
	}
	if protocol == "AH" {
		l.kid.Protocol = ike.AH
	}
	l.seen().Children = append(l.seen().Children, l.kid)
}

func (l *listing) ofKid(text string, at source.Pos) bool {
	if m := wayLine().FindStringSubmatch(text); m != nil {
		c := counter(m[2], m[3], m[4])
		c.At = at
		if m[1] == "in" {
			l.kid.In = c
		} else {
			l.kid.Out = c
		}
		return true
	}
	if m := agoWord().FindStringSubmatch(text); m != nil {
		l.kid.Age = secondsOf(m[1])
		return true
	}
	if v, ok := strings.CutPrefix(text, "local "); ok {
		l.kid.Local = selectorsShown(v)
		return true
	}
	if v, ok := strings.CutPrefix(text, "remote "); ok {
		l.kid.Remote = selectorsShown(v)
		return true
	}
	return strings.HasPrefix(text, "in ") || strings.HasPrefix(text, "out ") || strings.HasPrefix(text, "installed") ||
		strings.HasPrefix(text, "rekeying") || strings.HasPrefix(text, "expires")
}

func (l *listing) ofLoaded(text string, at source.Pos) bool {
	l.sub = nil
	switch m := kidHead().FindStringSubmatch(text); {
	case m != nil:
		l.sub = &model.LoadedChild{At: at, Name: source.Clean(m[1]), Rekey: every(strings.TrimSuffix(m[3], "s"))}
		l.loaded.Children = append(l.loaded.Children, l.sub)
	case strings.HasPrefix(text, "local: "):
		l.loaded.Local = strings.Fields(strings.TrimPrefix(text, "local:"))
	case strings.HasPrefix(text, "remote: "):
		l.loaded.Remote = strings.Fields(strings.TrimPrefix(text, "remote:"))
	}
	return true
}

// readStatusAll reads what ipsec status and statusall print.
func readStatusAll(in *read.Input) {
	l := &listing{in: in}
	kids, by := map[string]*model.ChildSA{}, map[string]*model.IKESA{}
	for line := range lines.Parse(in.File.Bytes(), lines.Manner{}) {
		text, at := line.Text, in.At(line.Line)
		if strings.TrimSpace(text) == "" {
			continue
		}
		in.Count()
		switch {
		case strings.HasPrefix(text, "Connections:"):
			l.lists(model.ListLoaded, at)
		case strings.HasPrefix(text, "Security Associations"):
			l.lists(model.ListSAs, at)
			l.loaded = nil
		default:
			if !l.statusLine(text, at, kids, by) {
				l.loadedLine(text, at)
			}
		}
	}
}

// loadedLine takes a line of the loaded connections; others, as of plugins and addresses, tell nothing.
func (l *listing) loadedLine(text string, at source.Pos) {
	if m := statusConn().FindStringSubmatch(text); m != nil {
		l.loaded = &model.Loaded{
			At: at, Name: source.Clean(m[1]), Version: versionOf(m[4]), Rekey: -1,
			Local: strings.Split(m[2], ","), Remote: strings.Split(m[3], ","),
		}
		l.seen().Loaded = append(l.seen().Loaded, l.loaded)
	} else if m := statusSub().FindStringSubmatch(text); m != nil && l.loaded != nil {
		l.loaded.Children = append(l.loaded.Children, &model.LoadedChild{
			At: at, Name: source.Clean(m[1]), Local: selectorsShown(m[2]), Remote: selectorsShown(m[3]), Rekey: -1,
		})
	}
}

func (l *listing) statusLine(text string, at source.Pos, kids map[string]*model.ChildSA, by map[string]*model.IKESA) bool {
	if m := statusSA().FindStringSubmatch(text); m != nil {
		l.sa = &model.IKESA{At: at, Connection: source.Clean(m[1]), State: m[3], Up: m[3] == "ESTABLISHED", Age: roughly(m[4])}
		l.sa.Local, _ = netip.ParseAddr(m[5])
		l.sa.Remote, _ = netip.ParseAddr(m[6])
		l.seen().IKE, by[m[2]] = append(l.seen().IKE, l.sa), l.sa
		return true
	}
	if m := statusIKE().FindStringSubmatch(text); m != nil && by[m[2]] != nil {
		if m[3] != "" {
			by[m[2]].Version = versionOf(m[3])
		} else {
			by[m[2]].Suite, _ = daemon.SuiteShown(ike.IKE, strings.Split(m[4], "/")...)
		}
		return true
	}
	if m := statusKid().FindStringSubmatch(text); m != nil && l.sa != nil {
		l.child(at, m[1], m[3], m[4], m[5])
		l.kid.Encapsulated = m[6] != ""
		l.kid.In, l.kid.Out = counter(m[7], "", ""), counter(m[8], "", "")
		l.kid.In.At, l.kid.Out.At = at, at
		kids[m[2]] = l.kid
		return true
	}
	if m := statusBy().FindStringSubmatch(text); m != nil && kids[m[1]] != nil {
		k := kids[m[1]]
		k.Suite, _ = daemon.SuiteShown(k.Protocol, strings.Split(m[2], "/")...)
		in, out := counter("", m[3], m[4]), counter("", m[5], m[6])
		in.SPI, out.SPI, in.At, out.At = k.In.SPI, k.Out.SPI, at, at
		k.In, k.Out = in, out
		return true
	}
	if m := statusTS().FindStringSubmatch(text); m != nil && kids[m[1]] != nil {
		kids[m[1]].Local, kids[m[1]].Remote = selectorsShown(m[2]), selectorsShown(m[3])
		return true
	}
	return false
}

func versionOf(text string) ike.Version {
	switch text {
	case "IKEv1":
		return ike.V1
	case "IKEv2":
		return ike.V2
	}
	return ike.Either
}

func modeShown(text string) ike.Mode {
	switch strings.ToUpper(text) {
	case "TRANSPORT", "TRANSPORT_PROXY":
		return ike.Transport
	case "BEET":
		return ike.BEET
	case "PASS":
		return ike.Pass
	case "DROP":
		return ike.Drop
	}
	return ike.Tunnel
}

// counter reads one direction: its SPI in hexadecimal, bytes and packets; what is "" was not told.
func counter(spi, bytes, packets string) model.Counter {
	var c model.Counter
	if n, err := strconv.ParseUint(spi, 16, 32); err == nil {
		c.SPI = uint32(n)
	}
	var err error
	if c.Bytes, err = strconv.ParseUint(bytes, 10, 64); err == nil {
		c.Told = true
	}
	c.Packets, _ = strconv.ParseUint(packets, 10, 64)
	return c
}

// selectorsShown reads selectors with blanks or commas between; one that cannot be read is left out.
func selectorsShown(text string) ike.Selectors {
	var out ike.Selectors
	for _, word := range strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ',' }) {
		if s, err := strongswan.Selector(word); err == nil {
			out = append(out, s)
		}
	}
	return out
}

func secondsOf(text string) time.Duration {
	n, err := strconv.ParseUint(text, 10, 31)
	if err != nil {
		return 0
	}
	return time.Duration(n) * time.Second
}

// every reads a time in seconds; negative where it is not told.
func every(text string) time.Duration {
	n, err := strconv.ParseUint(strings.TrimSpace(text), 10, 31)
	if err != nil {
		return -1
	}
	return time.Duration(n) * time.Second
}

// roughly reads "4 seconds", "3 hours": a time as people are told it, rounded down.
func roughly(text string) time.Duration {
	var n int
	var unit string
	if _, err := fmt.Sscanf(text, "%d %s", &n, &unit); err != nil || n < 0 || n > 1<<20 {
		return 0
	}
	of := map[string]time.Duration{"second": time.Second, "minute": time.Minute, "hour": time.Hour, "day": 24 * time.Hour}
	return time.Duration(n) * of[strings.TrimSuffix(unit, "s")]
}
