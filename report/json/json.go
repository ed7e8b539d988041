// Package json writes results for programs, each under a contract that docs/schema describes.
package json

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"slices"
	"time"

	"toril/audit"
	"toril/estate"
	"toril/pair"
	"toril/report"
	"toril/source"
)

// Schema names the contract of the JSON output; docs/json.md describes it and docs/schema/ has it as a JSON Schema.
const Schema = "toril-audit/2"

type auditJSON struct {
	Schema   string         `json:"schema"`
	Tool     toolJSON       `json:"tool"`
	Baseline string         `json:"baseline"`
	AsOf     string         `json:"as_of"`
	Gateways []gatewayJSON  `json:"gateways"`
	Tunnels  []tunnelJSON   `json:"tunnels"`
	NotGiven []notGivenJSON `json:"not_given"`
	Doubts   []doubtJSON    `json:"doubts"`
	LeftOut  []leftOutJSON  `json:"left_out"`
	Findings []findingJSON  `json:"findings"`
	Errors   []errorJSON    `json:"errors"`
}

type notGivenJSON struct {
	Gateway     string   `json:"gateway"`
	Thing       string   `json:"thing"`
	Unjudged    string   `json:"not_judged"`
	Connections []string `json:"connections"`
}

// doubtJSON is one thing that keeps answers from being certain, with what rests on it.
type doubtJSON struct {
	Cause   string         `json:"cause"`
	Gateway string         `json:"gateway"`
	At      placeJSON      `json:"at"`
	Of      string         `json:"of"`
	Why     string         `json:"why"`
	Worst   audit.Severity `json:"worst"`
	Answers []answerJSON   `json:"answers"`
	Tunnels []string       `json:"tunnels"`
	Settle  string         `json:"settle"`
}

// answerJSON is an answer that is not certain: a possible finding, with its ID, or one that could not be told.
type answerJSON struct {
	Finding    string         `json:"finding"`
	Check      string         `json:"check"`
	Severity   audit.Severity `json:"severity"`
	Gateway    string         `json:"gateway"`
	Tunnel     string         `json:"tunnel"`
	Connection string         `json:"connection"`
	Child      string         `json:"child"`
	Message    string         `json:"message"`
}

type leftOutJSON struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}

type toolJSON struct {
	Name    string `json:"name"`
	Version string `json:"version"`
}

type gatewayJSON struct {
	Name  string     `json:"name"`
	Files []fileJSON `json:"files"`
}

type fileJSON struct {
	Path       string       `json:"path"`
	Format     string       `json:"format"`
	Statements int          `json:"statements"`
	Unread     []unreadJSON `json:"unread"`
}

type unreadJSON struct {
	Line int    `json:"line"`
	Col  int    `json:"column,omitempty"`
	Text string `json:"text"`
	Why  string `json:"why"`
}

type tunnelJSON struct {
	Name   string    `json:"name"`
	Ends   []endJSON `json:"ends"`
	Reason string    `json:"reason"`
	Doubts []string  `json:"doubts"`

	State     string         `json:"state"`
	Possible  string         `json:"possible_state"`
	Unsure    string         `json:"unsure"`
	Says      string         `json:"says"`
	Only      string         `json:"only_initiator"`
	After     int            `json:"fails_after_seconds"`
	Suite     string         `json:"suite"`
	Leaks     bool           `json:"leaks"`
	LeaksDown bool           `json:"leaks_while_down"`
	MayLeak   bool           `json:"may_leak"`
	MayDown   bool           `json:"may_leak_while_down"`
	Worst     audit.Severity `json:"worst"`
	Causes    int            `json:"causes"`
}

type endJSON struct {
	Gateway    string `json:"gateway"`
	Connection string `json:"connection"`
}

type findingJSON struct {
	ID         string         `json:"id"`
	Check      string         `json:"check"`
	Severity   audit.Severity `json:"severity"`
	Gateway    string         `json:"gateway"`
	Tunnel     string         `json:"tunnel"`
	Connection string         `json:"connection"`
	Child      string         `json:"child"`
	Message    string         `json:"message"`
	Measured   string         `json:"measured"`
	Required   string         `json:"required"`
	Example    string         `json:"example"`
	Why        string         `json:"why"`
	Fix        string         `json:"fix"`
	Standard   string         `json:"standard"`
	Unsure     string         `json:"unsure"`
	At         placeJSON      `json:"at"`
	Also       []placeJSON    `json:"also"`
	AlsoIn     []string       `json:"also_in"`
	Others     []string       `json:"others,omitempty"`
	Series     string         `json:"series,omitempty"`
	PartOf     string         `json:"part_of"`
	Accepted   *acceptedJSON  `json:"accepted"`
}

type acceptedJSON struct {
	Reason string    `json:"reason"`
	Owner  string    `json:"owner"`
	Until  string    `json:"until"`
	At     placeJSON `json:"at"`
}

type placeJSON struct {
	File  string `json:"file"`
	Line  int    `json:"line"`
	Col   int    `json:"column,omitempty"`
	Start int    `json:"start"`
	End   int    `json:"end"`
	Text  string `json:"text"`
	Note  string `json:"note,omitempty"`
}

type errorJSON struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Col     int    `json:"column,omitempty"`
	Message string `json:"message"`
}

// Form is JSON.
var Form = report.Form{
	Name:      "json",
	Endings:   []string{".json"},
	Audit:     audits,
	Changes:   differences,
	Tunnels:   views,
	Fixes:     fixes,
	Observed:  observed,
	Ends:      ends,
	Follow:    trips,
	Documents: documents,
	Checks:    checks,
	Baselines: baselines,
	Formats:   savedFormats,
	Daemons:   daemons,
	Defaults:  defaults,
}

// audits writes an audit in the form that docs/json.md describes.
func audits(w io.Writer, a *report.Audited, _ report.Options) error {
	r := a.Result
	out := auditJSON{
		Schema:   Schema,
		Tool:     toolJSON{"toril", report.Version},
		Baseline: r.Baseline.Name,
		AsOf:     r.Now.Format(time.DateOnly),
		Gateways: []gatewayJSON{},
		Tunnels:  []tunnelJSON{},
		NotGiven: []notGivenJSON{},
		Doubts:   []doubtJSON{},
		LeftOut:  []leftOutJSON{},
		Findings: []findingJSON{},
		Errors:   errorsJSON(r.Problems()),
	}
	for _, n := range r.NotGiven {
		for _, a := range n.What {
			out.NotGiven = append(out.NotGiven, notGivenJSON{n.Gateway, a.Thing, a.Unjudged, emptied(a.Of)})
		}
	}
	for _, l := range r.Estate.LeftOut {
		out.LeftOut = append(out.LeftOut, leftOutJSON(l))
	}
	return encodeWith(w, out,
		listOf("gateways", len(r.Estate.Gateways), func(i int, into *gatewayJSON) { into.fill(r.Estate.Gateways[i]) }),
		listOf("tunnels", len(r.Tunnels), func(i int, into *tunnelJSON) { into.fill(r.Tunnels[i]) }),
		listOf("doubts", len(r.Unsettled), func(i int, into *doubtJSON) { into.fill(r.Unsettled[i]) }),
		listOf("findings", len(r.Findings), func(i int, into *findingJSON) { into.fill(r.Findings[i]) }),
	)
}

// fill makes it that of a finding.
func (j *findingJSON) fill(f *audit.Finding) {
	*j = findingJSON{
		ID:         f.ID,
		Check:      f.Check,
		Severity:   f.Severity,
		Gateway:    f.Gateway,
		Tunnel:     f.Tunnel,
		Connection: f.Connection,
		Child:      f.Child,
		Message:    f.Message,
		Measured:   f.Measured,
		Required:   f.Required,
		Example:    f.Example,
		Why:        f.Why,
		Fix:        f.Fix,
		Standard:   f.Standard,
		Unsure:     f.Unsure,
		At:         place(f.At),
		Also:       slices.Grow(j.Also[:0], 1), // a list, also where it is empty
		AlsoIn:     emptied(f.AlsoIn),
		Others:     f.Others.List(),
		Series:     f.Series,
		PartOf:     f.PartOf,
	}
	if x := f.Accepted; x != nil {
		j.Accepted = &acceptedJSON{x.Reason, x.Owner, x.Until.Format(time.DateOnly), place(audit.Evidence{Pos: x.At})}
	}
	for _, e := range f.Also {
		j.Also = append(j.Also, place(e))
	}
}

// fill makes it that of a thing that keeps answers from being certain.
func (j *doubtJSON) fill(u *audit.Unsettled) {
	*j = doubtJSON{Cause: u.Cause.String(), Gateway: u.Gateway, At: place(u.At), Of: u.Of, Why: u.Why, Worst: u.Worst,
		Answers: []answerJSON{}, Tunnels: []string{}, Settle: u.Settle()}
	for _, f := range u.Answers {
		one := answerJSON{"", f.Check, f.Severity, f.Gateway, f.Tunnel, f.Connection, f.Child, f.Message}
		if !f.Open() {
			one.Finding = f.ID
		}
		j.Answers = append(j.Answers, one)
	}
	for _, t := range u.Tunnels {
		j.Tunnels = append(j.Tunnels, t.Name)
	}
}

func encode(w io.Writer, v any) error {
	var r room
	err := r.laidOut(v, "")
	if err == nil {
		_, err = w.Write(append(r.text, '\n'))
	}
	return err
}

// encodeWith encodes a value of which some lists are empty, in the order of its fields, and puts their elements into those: the whole of
// long lists would take several times the memory of what they are made of.
func encodeWith(w io.Writer, v any, lists ...list) error {
	var frame bytes.Buffer
	if err := encode(&frame, v); err != nil {
		return err
	}
	out, rest := bufio.NewWriterSize(w, 1<<16), frame.Bytes()
	for _, l := range lists {
		head, behind, ok := bytes.Cut(rest, []byte("\n  \""+l.name+"\": []")) // no text of a value has a line end
		if !ok {
			return fmt.Errorf("json: there is no empty list %q", l.name)
		}
		fmt.Fprintf(out, "%s\n  %q: [", head, l.name)
		if l.elements > 0 {
			out.WriteString(between[1:])
			if err := l.encode(out); err != nil {
				return err
			}
			out.WriteString("\n  ")
		}
		out.WriteString("]")
		rest = behind
	}
	out.Write(rest)
	return out.Flush()
}

func emptied(in []string) []string {
	if in == nil {
		return []string{}
	}
	return in
}

func place(e audit.Evidence) placeJSON {
	r := e.Region
	return placeJSON{e.File, e.Line, max(e.Col, int(r.Column)), int(r.Offset), int(r.Offset + r.Length), e.Text, e.Note}
}

// placeOf is the statement at a position.
func placeOf(e *pair.Whole, at source.Pos) placeJSON {
	return place(audit.Evidence{Pos: at, Text: e.Quote(at), Region: e.Region(at)})
}

// fill makes it that of a gateway.
func (j *gatewayJSON) fill(g *estate.Facts) {
	*j = gatewayJSON{Name: g.Name, Files: []fileJSON{}}
	for _, f := range g.Files {
		file := fileJSON{Path: f.Path, Format: f.Format, Statements: f.Statements, Unread: []unreadJSON{}}
		for _, u := range f.Unread {
			file.Unread = append(file.Unread, unreadJSON{u.At.Line, u.At.Col, u.Text, u.Why})
		}
		j.Files = append(j.Files, file)
	}
}

// fill makes it that of a tunnel.
func (j *tunnelJSON) fill(m *audit.Tunnel) {
	*j = tunnelJSON{Name: m.Name, Reason: m.Reason, Doubts: emptied(m.Doubts), State: m.Certain().Word(), Says: m.Says(), Only: m.Only,
		After: int(m.After.Seconds()), Suite: m.Suite, Leaks: m.Leaks, LeaksDown: m.LeaksDown, MayLeak: m.MayLeak, MayDown: m.MayLeakDown,
		Worst: m.Worst, Causes: m.Causes}
	if m.Possible {
		j.Possible = m.State.Word()
	}
	if len(m.Reasons) > 0 {
		j.Unsure = m.Why
	}
	for _, end := range m.Sides {
		j.Ends = append(j.Ends, endJSON{end.Gateway.Name, end.Connection.Name})
	}
}
