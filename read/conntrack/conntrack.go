// Package conntrack reads the connections that a Linux kernel tracks, as the program conntrack lists them.
package conntrack

import (
	"net/netip"
	"strings"

	"toril/internal/lazy"
	"toril/model"
	"toril/read"
	"toril/source"
	"toril/syntax/lines"
)

// Format is the format of "conntrack -L", and of /proc/net/nf_conntrack.
var Format = &read.Format{
	Name:     "conntrack",
	Title:    "connections that the kernel tracks: the output of conntrack -L",
	Software: "conntrack-tools",
	About:    model.AboutStatus,
	Linux:    true,
	Hints:    []string{"conntrack*", "nf_conntrack*"},
	Order:    63,
	Looks:    looks,
	Read:     readFlows,
	Covers: read.Rows(
		read.Coverage{Statement: "src, dst of both directions", Use: read.Used},
		read.Coverage{Statement: "protocols, ports, timeouts, states, marks, counters, zones, helpers", Use: read.Irrelevant},
	),
}

var flowLine = lazy.NewSearch(`(?m)^(?:ipv[46] +\d+ +)?[a-z0-9]+ +\d+ (?:\d+ )?(?:[A-Z_]+ )?src=\S+ dst=\S+ `)

func looks(f *source.File) (int, string) {
	if flowLine.Match(f.Head()) {
		return 95, "its lines are connections that the kernel tracks"
	}
	return 0, ""
}

func readFlows(in *read.Input) {
	for line := range lines.Parse(in.File.Bytes(), lines.Manner{}) {
		w := line.Fields()
		switch {
		case len(w) == 0, strings.HasPrefix(line.Text, "conntrack v"):
			continue
		case !flowLine.MatchString(line.Text):
			in.Unread(in.Pos(line.Place), read.Owner{}, "it is no connection that the kernel tracks")
			continue
		}
		in.Count()
		in.Gateway.Observed.Flows = append(in.Gateway.Observed.Flows, flow(w, in.At(line.Line)))
	}
}

// flow reads one connection: the first src and dst are of how it began, the second of how replies are expected.
func flow(w []string, at source.Pos) *model.Flow {
	f := &model.Flow{At: at}
	for _, word := range w {
		key, value, _ := strings.Cut(word, "=")
		a, _ := netip.ParseAddr(value)
		switch {
		case key == "src" && !f.Src.IsValid():
			f.Src = a
		case key == "dst" && !f.Dst.IsValid():
			f.Dst = a
		case key == "src":
			f.RSrc = a
		case key == "dst":
			f.RDst = a
		}
	}
	return f
}
