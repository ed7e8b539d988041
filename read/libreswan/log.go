package libreswan

import (
	"fmt"
	"net/netip"
	"strings"

	"toril/daemon/libreswan"
	"toril/internal/lazy"
	"toril/model"
	"toril/read"
	"toril/source"
	"toril/syntax/lines"
)

// Log is the format of the daemon's log: negotiations that failed are told in it.
var Log = &read.Format{
	Name:     "libreswan-log",
	Title:    "log of IKE daemon Libreswan: negotiations that failed, with what was received and what is configured",
	Software: libreswan.Daemon.Name,
	About:    model.AboutStatus,
	Hints:    []string{"pluto*.log", "pluto.log"},
	Order:    61,
	Looks:    looksLikeLog,
	Read:     readLog,
	Covers: read.Rows(
		read.Coverage{Statement: "errors that a peer notifies or is notified of (RFC 7296, section 3.10.1)", Use: read.Used},
		read.Coverage{Statement: "proposals, identities, keys and selectors that do not fit", Use: read.Used},
		read.Coverage{Statement: "everything else", Use: read.Irrelevant, Note: "a failure that a later success follows is not told"},
	),
}

var (
	logHead = lazy.NewSearch(
		`(?m)(?:Starting Pluto|^.{0,60}"[^"]+" #\d+: (?:initiating|responding|proposal|sent) |"[^"]+": added IKEv[12] connection)`,
	)
	logLine   = lazy.Regexp(`^(.*?)"([^"]+)"(?:\[\d+\] \S+)? #(\d+): (.*)$`)
	rejected  = lazy.Regexp(`response rejected Child SA with ([A-Z_]+)`)
	byPeer    = lazy.Regexp(`request rejected by peer: ([A-Z_]+)`)
	dropping  = lazy.Regexp(`^dropping unexpected \S+ message containing ([A-Z_]+) notification`)
	noLocal   = lazy.Regexp(`^no local proposal matches remote proposals (.*)$`)
	peerID    = lazy.Regexp(`^Peer ID '([^']*)' mismatched`)
	addedIKE  = lazy.Regexp(`^(.*?)"([^"]+)":\s+\d+:(IKE|ESP|AH)=(\S+)`)
	sendsFrom = lazy.Regexp(`^responding to \S+ message \(ID \d+\) from ([0-9a-fA-F.:]+):\d+ with \S+ notification ([A-Z_0-9]+)`)
)

func looksLikeLog(f *source.File) (int, string) {
	if m := logHead.Find(f.Head()); m != nil {
		return 93, fmt.Sprintf("its lines are those of the daemon's log (%q)", source.Shorten(string(m), 60))
	}
	return 0, ""
}

func readLog(in *read.Input) {
	l := &logReader{in: in, configured: map[[2]string]string{}}
	for line := range lines.Parse(in.File.Bytes(), lines.Manner{}) {
		in.Count()
		if m := addedIKE().FindStringSubmatch(line.Text); m != nil {
			l.configured[[2]string{m[2], m[3]}] = m[4]
		}
		if m := logLine().FindStringSubmatch(line.Text); m != nil {
			l.line(m[2], strings.TrimSpace(m[4]), strings.TrimSuffix(strings.TrimSpace(m[1]), ":"), in.At(line.Line))
		}
	}
}

type logReader struct {
	in         *read.Input
	configured map[[2]string]string // what each connection proposes, by its name and the protocol
}

func (l *logReader) line(conn, text, when string, at source.Pos) {
	fail := func(f model.Failure) {
		f.Connection, f.At, f.When = source.Clean(conn), at, source.Clean(when)
		l.in.Gateway.Observed.Fail(f)
	}
	if m := rejected().FindStringSubmatch(text); m != nil {
		fail(model.Failure{Child: source.Clean(conn), Notify: m[1], What: "the child SA"})
	} else if m := byPeer().FindStringSubmatch(text); m != nil {
		fail(model.Failure{Notify: m[1], What: "the IKE SA"})
	} else if m := dropping().FindStringSubmatch(text); m != nil {
		fail(model.Failure{Notify: m[1], What: "the IKE SA"})
	} else if m := noLocal().FindStringSubmatch(text); m != nil {
		f := model.Failure{Notify: "NO_PROPOSAL_CHOSEN", Sent: true, What: "the IKE proposals", Received: m[1]}
		f.Configured = l.configured[[2]string{conn, "IKE"}]
		if strings.Contains(m[1], ":ESP:") || strings.Contains(m[1], ":AH:") {
			f.What, f.Configured, f.Child = "the ESP proposals", l.configured[[2]string{conn, "ESP"}], source.Clean(conn)
		}
		fail(f)
	} else if strings.HasPrefix(text, "No IKEv2 connection found with compatible Traffic Selectors") {
		fail(model.Failure{Child: source.Clean(conn), Notify: "TS_UNACCEPTABLE", Sent: true, What: "the traffic selectors"})
	} else if m := peerID().FindStringSubmatch(text); m != nil {
		fail(model.Failure{Notify: "AUTHENTICATION_FAILED", Sent: true, What: "the identities", Received: m[1]})
	} else if strings.HasPrefix(text, "authentication failed: computed hash does not match") {
		fail(model.Failure{Notify: "AUTHENTICATION_FAILED", Sent: true, What: "the pre-shared keys"})
	} else if m := sendsFrom().FindStringSubmatch(text); m != nil {
		if found := l.in.Gateway.Observed.Failures; len(found) > 0 {
			found[len(found)-1].Peer, _ = netip.ParseAddr(m[1])
		}
	} else if strings.Contains(text, "established IKE SA") || strings.Contains(text, "ISAKMP SA established") {
		l.in.Gateway.Observed.Overcome(func(f *model.Failure) bool { return f.Connection == conn && f.Child == "" })
	} else if strings.Contains(text, "established Child SA") || strings.Contains(text, "IPsec SA established") {
		l.in.Gateway.Observed.Overcome(func(f *model.Failure) bool { return f.Connection == conn && f.Child != "" })
	}
}
