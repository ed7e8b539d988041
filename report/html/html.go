// Package html writes an audit as one page that needs nothing else: no request leaves it, and it opens from a file.
package html

import (
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"time"

	"toril/audit"
	"toril/follow"
	"toril/negotiate"
	"toril/present"
	"toril/report"
)

// Form is a page of HTML.
var Form = report.Form{Name: "html", Endings: []string{".html", ".htm"}, Audit: write, Documents: documents}

//go:embed page.tmpl
var pageText string

//go:embed page.css
var style string

//go:embed page.js
var script string

// page is what the template shows.
type page struct {
	Style, Script         template.HTML // as they are embedded, with their elements
	StyleHash, ScriptHash string
	Title, Version        string
	Day, Baseline         string
	Counts                string // gateways, files, statements
	Verdicts              []verdict
	Severities            []count
	NotGiven              []string
	Doubts                []doubt
	Errors                []string
	Unread                []unread
	Map                   *drawing
	Matrix                matrix
	Gateways, Areas       []string
	Findings              []finding
	Folded, Accepted      int
	Tunnels               []tunnel
	Ways                  []gatewayWays
	Exceptions            []finding
}

// verdict is how many tunnels are in a state.
type verdict struct {
	N           int
	State, Says string // the state's class, and the words
	Mark        string
}

type count struct {
	Severity string
	N        int
}

// doubt is a statement of which it is not known what it does.
type doubt struct{ Gateway, Place, Text, Why, Says, Settle, Severity string }

type unread struct {
	File  string
	Lines []string
}

type finding struct {
	ID, Severity, Check, Area, Subject, Gateway, Gateways, Tunnel string
	Sentence, Why, Fix, Standard, Example, Unsure                 string
	Possible                                                      bool
	Evidence                                                      []evidence
	AlsoIn                                                        string
	Parts                                                         []finding
	Series                                                        string
	Accepted                                                      string
}

type evidence struct{ Place, Text, Note string }

type tunnel struct {
	Anchor, Name, Short, State, Mark, Says, Suite string
	Ends                                          []string
	Groups                                        []group
	Attempts                                      []attempt
	Findings                                      int
	Legend                                        string
}

// group is the connection, or a child, of both ends.
type group struct {
	Child string
	Rows  []row
}

type row struct {
	Name    string
	Differs bool
	Cells   []cell
}

type cell struct {
	Text    string
	Default bool
	Weak    string // the check that says so
	Finding string // its ID
}

type attempt struct {
	Who, Outcome string
	Good         bool
	Lines        []string
}

type gatewayWays struct {
	Gateway, Anchor string
	Rows            []way
	Left            int
}

type way struct {
	Subject, Packets, Says, Mark, Place string
	Good                                bool
}

func write(w io.Writer, a *report.Audited, _ report.Options) error {
	more, err := a.More()
	if err != nil {
		return err
	}
	p := &page{
		Style:      template.HTML("<style>" + style + "</style>"),
		Script:     template.HTML("<script>" + script + "</script>"),
		StyleHash:  hash(style),
		ScriptHash: hash(script),
		Title:      "Audit of " + present.Plural(len(a.Tunnels), "tunnel"),
		Version:    report.Version,
		Day:        a.Now.Format(time.DateOnly),
		Baseline:   a.Baseline.Name,
	}
	p.summary(a)
	p.findings(a)
	p.Map = draw(a)
	p.Matrix = matrixOf(a)
	p.tunnels(a, more)
	p.ways(more)
	t, err := template.New("page").Parse(pageText)
	if err != nil {
		return err
	}
	return t.Execute(w, p)
}

// hash is what a content security policy names an embedded text by (CSP level 3, section 6.7.3.3).
func hash(text string) string {
	sum := sha256.Sum256([]byte(text))
	return "sha256-" + base64.StdEncoding.EncodeToString(sum[:])
}

// summary counts what was read and what becomes of the tunnels.
func (p *page) summary(a *report.Audited) {
	files, statements, not := 0, 0, 0
	for _, g := range a.Estate.Gateways {
		p.Gateways = append(p.Gateways, g.Name)
		for _, f := range g.Files {
			files, statements, not = files+1, statements+f.Statements, not+len(f.Unread)
			if len(f.Unread) > 0 {
				u := unread{File: f.Path}
				for _, s := range f.Unread {
					u.Lines = append(u.Lines, fmt.Sprintf("%d: %s (%s)", s.At.Line, s.Text, s.Why))
				}
				p.Unread = append(p.Unread, u)
			}
		}
	}
	p.Counts = fmt.Sprintf("%s, %s, %s", present.Plural(len(a.Estate.Gateways), "gateway"), present.Plural(files, "file"),
		present.Plural(statements, "statement"))
	if not > 0 {
		p.Counts += fmt.Sprintf(", %d of them not understood", not)
	}
	by := map[audit.State]int{}
	leaks, may := 0, 0
	for _, t := range a.Tunnels {
		by[t.Certain()]++
		switch {
		case t.Leaks:
			leaks++
		case t.MayLeak:
			may++
		}
	}
	if leaks > 0 {
		p.Verdicts = append(
			p.Verdicts,
			verdict{leaks, "leaks", map[bool]string{true: "leaks traffic", false: "leak traffic"}[leaks == 1], "▲"},
		)
	}
	if may > 0 {
		p.Verdicts = append(p.Verdicts, verdict{may, "may-leak", "may leak traffic", "?"})
	}
	for s := audit.Never; ; s-- {
		if by[s] > 0 {
			p.Verdicts = append(
				p.Verdicts,
				verdict{by[s], s.Word(), stateWords[s][map[bool]int{true: 0, false: 1}[by[s] == 1]], s.Mark()},
			)
		}
		if s == audit.ComesUp {
			break
		}
	}
	for _, n := range a.NotGiven {
		p.NotGiven = append(p.NotGiven, n.Says()...)
	}
	for _, u := range a.Doubtful() {
		d := doubt{Gateway: u.Gateway, Why: u.Why, Says: u.Says(), Settle: u.Settle(), Severity: u.Worst.String()}
		if !u.At.Pos.IsZero() {
			d.Place, d.Text = u.At.Place(), u.At.Text
		}
		p.Doubts = append(p.Doubts, d)
	}
	for _, e := range a.Problems() {
		p.Errors = append(p.Errors, e.Error())
	}
}

// stateWords are what one tunnel does, and what several do.
var stateWords = [...][2]string{
	audit.ComesUp: {"comes up", "come up"},
	audit.Unknown: {
		"is not known for certain: something was not given, or not understood",
		"are not known for certain: something was not given, or not understood",
	},
	audit.ByHand:   {"comes up only by hand", "come up only by hand"},
	audit.OneSided: {"comes up only if one end initiates", "come up only if one end initiates"},
	audit.InPart:   {"comes up in part", "come up in part"},
	audit.Mute:     {"comes up and passes nothing", "come up and pass nothing"},
	audit.Dies:     {"dies at its first rekey", "die at their first rekey"},
	audit.Never:    {"never comes up", "never come up"},
}

// findings lays out the causes, the worst first, each with its parts, and what is accepted.
func (p *page) findings(a *report.Audited) {
	sides := map[string][]string{}
	for _, t := range a.Tunnels {
		for _, s := range t.Sides {
			sides[t.Name] = append(sides[t.Name], s.Gateway.Name)
		}
	}
	by := map[audit.Severity]int{}
	areas := map[string]bool{}
	for _, c := range a.Causes() {
		by[c.Severity]++
		f := findingOf(c.Finding, sides)
		areas[f.Area] = true
		parts, series := c.Told()
		p.Folded += len(c.Parts)
		for _, s := range series {
			f.Series = fmt.Sprintf("%d such rules, on lines %s", s.Count, s.Ranges)
			for _, t := range s.Telling {
				if t != c.Finding {
					f.Evidence = append(f.Evidence, evidenceOf(t.At))
				}
			}
		}
		for _, part := range parts {
			f.Parts = append(f.Parts, findingOf(part, sides))
		}
		p.Findings = append(p.Findings, f)
	}
	for s := audit.Critical; ; s-- {
		p.Severities = append(p.Severities, count{s.String(), by[s]})
		if s == audit.Info {
			break
		}
	}
	for area := range areas {
		p.Areas = append(p.Areas, area)
	}
	slices.Sort(p.Areas)
	for _, one := range a.Findings {
		if x := one.Accepted; x != nil {
			f := findingOf(one, sides)
			f.Accepted = fmt.Sprintf("accepted by %s until %s: %s (%s)", x.Owner, x.Until.Format(time.DateOnly), x.Reason, x.At)
			p.Exceptions = append(p.Exceptions, f)
		}
	}
}

func findingOf(f *audit.Finding, sides map[string][]string) finding {
	area, _, _ := strings.Cut(f.Check, "/")
	gateways := append([]string{f.Gateway}, sides[f.Tunnel]...)
	out := finding{ID: f.ID, Severity: f.Severity.String(), Check: f.Check, Area: area, Subject: f.Subject(), Gateway: f.Gateway,
		Gateways: strings.Join(slices.Compact(slices.Sorted(slices.Values(gateways))), " "), Tunnel: f.Tunnel, Sentence: f.Sentence(),
		Why: f.Why, Fix: f.Fix, Standard: f.Standard, Example: f.Example, Unsure: f.Unsure, Possible: f.Possible(),
		AlsoIn: strings.Join(f.AlsoIn, ", ")}
	if len(f.Others) > 0 {
		out.Series = f.Places().String()
	}
	for _, e := range append([]audit.Evidence{f.At}, f.Also...) {
		if !e.Pos.IsZero() {
			out.Evidence = append(out.Evidence, evidenceOf(e))
		}
	}
	return out
}

func evidenceOf(e audit.Evidence) evidence { return evidence{e.Place(), e.Text, e.Note} }

// anchor names a part of the page for a tunnel, by its number.
func anchor(t *audit.Tunnel) string { return fmt.Sprintf("tunnel-%d", t.Number) }

// tunnels lays both ends of every tunnel side by side, with what comes of either's initiating.
func (p *page) tunnels(a *report.Audited, more *report.More) {
	for _, t := range a.WorstFirst() {
		v := more.Views[t.Number]
		out := tunnel{Anchor: anchor(t), Name: t.Name, Short: a.Short(t), State: stateClass(t), Mark: t.Sign(), Says: t.Says(),
			Suite: t.Suite, Findings: t.Causes}
		for _, end := range v.Tunnel.Ends {
			out.Ends = append(out.Ends, end.Name())
		}
		signs := map[string]bool{}
		for _, l := range v.Lines {
			if n := len(out.Groups); n == 0 || out.Groups[n-1].Child != l.Child {
				out.Groups = append(out.Groups, group{Child: l.Child})
			}
			r := row{Name: l.Name, Differs: l.Differs}
			signs["≠"] = signs["≠"] || l.Differs
			for _, c := range l.Cells {
				one := cell{Text: c.Text, Default: c.Default}
				signs["*"] = signs["*"] || c.Default
				if c.Found != nil {
					one.Weak, one.Finding, signs["!"] = c.Found.Check, c.Found.ID, true
				}
				r.Cells = append(r.Cells, one)
			}
			g := &out.Groups[len(out.Groups)-1]
			g.Rows = append(g.Rows, r)
		}
		var legend []string
		for _, sign := range []struct{ sign, means string }{{"≠", "mismatch"}, {"!", "a finding, named behind it"},
			{"*", "not configured; daemon default"}} {
			if signs[sign.sign] {
				legend = append(legend, sign.sign+" "+sign.means)
			}
		}
		out.Legend = strings.Join(legend, "   ")
		for _, x := range more.Attempts[t.Number] {
			out.Attempts = append(out.Attempts, attemptOf(x))
		}
		p.Tunnels = append(p.Tunnels, out)
	}
}

// attemptOf says what comes of one end's initiating.
func attemptOf(x negotiate.Attempt) attempt {
	out := attempt{Who: x.Initiator.Gateway.Name, Good: x.Outcome == negotiate.Agrees}
	switch {
	case x.Outcome == negotiate.Agrees:
		out.Outcome = fmt.Sprintf("comes up: %s, %s", x.Version, x.IKE)
	case x.Outcome == negotiate.Partly:
		out.Outcome = x.PartlyUp()
	case x.Outcome == negotiate.NoStart:
		out.Outcome = "cannot: " + x.Failure.Why
	default:
		out.Outcome = fmt.Sprintf("fails in %s: %s", x.Failure.Step, x.Failure.Why)
	}
	for _, c := range x.Children {
		switch {
		case c.Failure != nil:
			out.Lines = append(out.Lines, fmt.Sprintf("child %s fails in %s: %s", c.Of.Name, c.Failure.Step, c.Failure.Why))
			continue
		case c.Broken != "":
			out.Lines = append(out.Lines, fmt.Sprintf("child %s: %s", c.Of.Name, c.Broken))
		}
		line := fmt.Sprintf("child %s: %s, %s; %s to %s", c.Of.Name, c.Suite.Protocol, c.Suite, c.Local, c.Remote)
		switch {
		case c.Rekey.Outcome == negotiate.Never:
			line += "; never rekeyed by time"
		case c.Rekey.Outcome == negotiate.Agrees:
			line += "; rekeyed within " + present.Span(c.Rekey.After) + " by " + c.Rekey.By + report.Later(c.Rekey)
		default:
			line += "; rekeying fails within " + present.Span(c.Rekey.After)
			out.Good = false
		}
		out.Lines = append(out.Lines, line)
	}
	if why := x.Unsure(); why != "" {
		out.Lines = append(out.Lines, "the result may differ: "+why)
	}
	return out
}

// stateClass is the class of a tunnel's state: a leak is worse than any, and one that comes up and may leak is not good.
func stateClass(t *audit.Tunnel) string {
	switch {
	case t.Leaks:
		return "leaks"
	case t.Certain() == audit.ComesUp && (t.MayLeak || t.MayLeakDown || t.LeaksDown):
		return "may-leak"
	}
	return t.Certain().Word()
}

// ways lays out what becomes of the packets of every gateway's networks.
func (p *page) ways(more *report.More) {
	for _, g := range more.Ways {
		out := gatewayWays{Gateway: g.Gateway, Anchor: "gateway-" + g.Gateway, Left: g.Left}
		for _, w := range g.Ways {
			out.Rows = append(out.Rows, wayOf(w, more.Place))
		}
		if len(out.Rows) > 0 {
			p.Ways = append(p.Ways, out)
		}
	}
}

func wayOf(w follow.Way, place func(follow.Way) string) way {
	out := way{Subject: w.Connection + "/" + w.Child, Packets: w.Packets, Says: w.Says, Mark: "○", Good: w.Arrives, Place: place(w)}
	if w.Arrives {
		out.Mark = "●"
	}
	return out
}

// matrix is how many causes there are of each area in each tunnel.
type matrix struct {
	Areas []string
	Rows  []matrixRow
}

type matrixRow struct {
	Anchor, Name, Tunnel, State, Mark string
	Cells                             []matrixCell
}

type matrixCell struct {
	N                    int
	Severity, Area, Says string
}

// matrixOf counts causes, the parts of a cause with it; the areas in the order in which practitioners work.
func matrixOf(a *report.Audited) matrix {
	type key struct{ tunnel, area string }
	n, worst, used := map[key]int{}, map[key]audit.Severity{}, map[string]bool{}
	for _, c := range a.Causes() {
		if c.Tunnel == "" {
			continue
		}
		area, _, _ := strings.Cut(c.Check, "/")
		k := key{c.Tunnel, area}
		n[k]++
		worst[k] = max(worst[k], c.Severity)
		used[area] = true
	}
	var out matrix
	for _, c := range a.Checks {
		if area := c.Area(); used[area] && !slices.Contains(out.Areas, area) {
			out.Areas = append(out.Areas, area)
		}
	}
	for _, t := range a.WorstFirst() {
		r := matrixRow{Anchor: anchor(t), Name: a.Short(t), Tunnel: t.Name, State: stateClass(t), Mark: t.Sign()}
		for _, area := range out.Areas {
			k := key{t.Name, area}
			c := matrixCell{N: n[k], Area: area}
			if c.N > 0 {
				c.Severity = worst[k].String()
				c.Says = fmt.Sprintf("%d %s: %s of %s", c.N, c.Severity, area, t.Name)
			}
			r.Cells = append(r.Cells, c)
		}
		out.Rows = append(out.Rows, r)
	}
	return out
}
