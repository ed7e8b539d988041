package strongswan

import (
	"fmt"
	"net/netip"
	"strings"

	"toril/internal/lazy"
	"toril/model"
	"toril/read"
	"toril/source"
	"toril/syntax/lines"
)

// Log is the format of the daemon's log: negotiations that failed are told in it.
var Log = &read.Format{
	Name:     "strongswan-log",
	Title:    "log of IKE daemon strongSwan: negotiations that failed, with what was received and what is configured",
	Software: software,
	About:    model.AboutStatus,
	Hints:    []string{"charon*.log", "charon.log", "strongswan*.log"},
	Order:    61,
	Looks:    looksLikeLog,
	Read:     readLog,
	Covers: read.Rows(
		read.Coverage{Statement: "errors that a peer notifies or is notified of (RFC 7296, section 3.10.1)", Use: read.Used},
		read.Coverage{
			Statement: "proposals received and configured, traffic selectors, identities, keys that do not fit",
			Use:       read.Used,
		},
		read.Coverage{Statement: "rekeying that failed, peers that did not answer", Use: read.Used},
		read.Coverage{Statement: "everything else", Use: read.Irrelevant, Note: "a failure that a later success follows is not told"},
	),
}

var (
	logLine   = lazy.Regexp(`^(.*?)\b(\d\d)\[([A-Z0-9]{3})\] (?:<(?:([^|>]*)\|)?\d+> )?(.*)$`)
	logHead   = lazy.NewSearch(`(?m)^.*?\b\d\d\[(?:IKE|CFG|NET|ENC|DMN|KNL|LIB|JOB|MGR)\] `)
	initiates = lazy.Regexp(`^initiating (?:Main Mode |Aggressive Mode )?IKE_SA (\S+)\[\d+\] to (\S+)`)
	isAsked   = lazy.Regexp(`^(\S+) is initiating an? (?:Main Mode |Aggressive Mode )?IKE_SA`)
	builds    = lazy.Regexp(`^establishing CHILD_SA (\S+)\{\d+\}( reqid \d+)?`)
	notified  = lazy.Regexp(`^received ([A-Z_]+) (?:error )?notify`)
	proposed  = lazy.Regexp(`^(received|configured) proposals: (.*)$`)
	refusedTS = lazy.Regexp(`^traffic selectors (.*) unacceptable`)
	lookingAt = lazy.Regexp(`^looking for peer configs matching (\S+?)\[(.*)\]\.\.\.(\S+?)\[(.*)\]$`)
	chosen    = lazy.Regexp(`^selected peer config ["']?([^"']+)["']?`)
	mismatch  = lazy.Regexp(`^tried \d+ shared keys? for '(.*)' - '(.*)', but MAC mismatched`)
	noKey     = lazy.Regexp(`^no shared key found for '?(.*?)'?(?:\[.*?\])? - '?(.*?)'?(?:\[.*\])?$`)
	noConfig  = lazy.Regexp(`^no IKE config found for (\S+?)\.\.\.(\S+?), sending (\S+)`)
	ikeUp     = lazy.Regexp(`^IKE_SA (\S+)\[\d+\] established between`)
	kidUp     = lazy.Regexp(`^(?:CHILD_SA|inbound CHILD_SA) (\S+)\{\d+\} established`)
)

func looksLikeLog(f *source.File) (int, string) {
	head := f.Head()
	if m := logHead.FindAll(head, -1); len(m) >= 2 {
		return 93, fmt.Sprintf("its lines are those of the daemon's log (%q)", source.Shorten(string(m[0]), 60))
	}
	return 0, ""
}

// logReader follows what is under way, by the daemon's threads: what one thread says belongs together.
type logReader struct {
	in      *read.Input
	threads map[string]*underWay
	conn    string // the connection that was initiated last
	peer    netip.Addr
	child   string // the child that was asked for last
	rekey   bool
}

// underWay is what a thread works at.
type underWay struct {
	received, configured string
	peer                 netip.Addr
	conn                 string
	asked                bool // the peer asks
	ids                  [2]string
	last                 *model.Failure
}

func readLog(in *read.Input) {
	l := &logReader{in: in, threads: map[string]*underWay{}}
	for line := range lines.Parse(in.File.Bytes(), lines.Manner{}) {
		m := logLine().FindStringSubmatch(line.Text)
		if m == nil {
			continue
		}
		in.Count()
		t := l.threads[m[2]]
		if t == nil {
			t = &underWay{}
			l.threads[m[2]] = t
		}
		if m[4] != "" {
			t.conn = m[4]
		}
		l.line(t, strings.TrimSpace(m[5]), strings.TrimSpace(m[1]), in.At(line.Line))
	}
}

// line takes what a thread says. It is long as a list is: a case a kind of line.
func (l *logReader) line(t *underWay, text, when string, at source.Pos) {
	fail := func(f model.Failure) {
		f.At, f.When = at, source.Clean(when)
		t.last = l.in.Gateway.Observed.Fail(f)
	}
	if m := initiates().FindStringSubmatch(text); m != nil {
		l.conn, l.child, l.rekey = m[1], "", false
		l.peer, _ = netip.ParseAddr(m[2])
		*t = underWay{conn: m[1], peer: l.peer}
	} else if m := isAsked().FindStringSubmatch(text); m != nil {
		*t = underWay{asked: true}
		t.peer, _ = netip.ParseAddr(m[1])
		l.peer = t.peer
	} else if m := builds().FindStringSubmatch(text); m != nil {
		l.child, l.rekey = m[1], m[2] != ""
	} else if m := proposed().FindStringSubmatch(text); m != nil {
		if m[1] == "received" {
			t.received = m[2]
		} else {
			t.configured = m[2]
		}
	} else if text == "received proposals unacceptable" || text == "no acceptable proposal found" || text == "no proposal found" {
		what, peer := "the IKE proposals", t.peer
		if strings.HasPrefix(t.received, "ESP") || strings.HasPrefix(t.received, "AH") {
			what, peer = "the ESP proposals", l.peer
		}
		fail(model.Failure{
			Connection: t.conn, Peer: peer, Notify: "NO_PROPOSAL_CHOSEN", Sent: true, What: what,
			Received: t.received, Configured: t.configured,
		})
		t.received, t.configured = "", ""
	} else if m := refusedTS().FindStringSubmatch(text); m != nil {
		fail(model.Failure{
			Connection: t.conn, Peer: l.peer, Notify: "TS_UNACCEPTABLE", Sent: true, What: "the traffic selectors", Received: m[1],
		})
	} else if m := lookingAt().FindStringSubmatch(text); m != nil {
		t.ids = [2]string{m[2], m[4]}
		t.peer, _ = netip.ParseAddr(m[3])
		l.peer = t.peer
	} else if m := chosen().FindStringSubmatch(text); m != nil {
		t.conn = m[1]
	} else if text == "no matching peer config found" {
		fail(model.Failure{
			Peer: t.peer, Notify: "AUTHENTICATION_FAILED", Sent: true, What: "the identities",
			Received: t.ids[1] + ", asking for " + t.ids[0],
		})
	} else if m := mismatch().FindStringSubmatch(text); m != nil {
		fail(model.Failure{Connection: t.conn, Peer: t.peer, Notify: "AUTHENTICATION_FAILED", Sent: true, What: "the pre-shared keys"})
	} else if m := noKey().FindStringSubmatch(text); m != nil {
		fail(model.Failure{Connection: t.conn, Peer: t.peer, What: "no pre-shared key for " + m[2]})
	} else if m := noConfig().FindStringSubmatch(text); m != nil {
		peer, _ := netip.ParseAddr(m[2])
		fail(model.Failure{Peer: peer, Notify: m[3], Sent: true, What: "no connection for this peer"})
	} else if m := notified().FindStringSubmatch(text); m != nil && m[1] != "INVALID_KE_PAYLOAD" {
		f := model.Failure{Connection: orConn(t.conn, l.conn), Peer: l.peer, Notify: m[1], What: "the IKE SA"}
		if strings.Contains(text, "no CHILD_SA built") {
			f.Child, f.Rekey, f.What = l.child, l.rekey, "the child SA"
		}
		fail(f)
	} else if strings.HasPrefix(text, "establishing IKE_SA failed, peer not responding") {
		fail(model.Failure{Connection: orConn(t.conn, l.conn), Peer: l.peer, What: "no answer"})
	} else if strings.HasPrefix(text, "CHILD_SA rekeying failed") && t.last != nil {
		t.last.Rekey = true
	} else if m := ikeUp().FindStringSubmatch(text); m != nil {
		l.in.Gateway.Observed.Overcome(func(f *model.Failure) bool {
			return f.Child == "" && ofIKE(f) && (f.Connection == m[1] || f.Connection == "" && f.Peer == l.peer)
		})
	} else if m := kidUp().FindStringSubmatch(text); m != nil {
		l.in.Gateway.Observed.Overcome(func(f *model.Failure) bool {
			return f.Child == m[1] || f.Child == "" && !ofIKE(f) && f.Peer == l.peer
		})
	}
}

// ofIKE reports whether a failure is of the IKE SA, and not of a child.
func ofIKE(f *model.Failure) bool {
	return f.What != "the ESP proposals" && f.What != "the traffic selectors" && f.What != "the child SA"
}

func orConn(own, last string) string {
	if own != "" {
		return own
	}
	return last
}
