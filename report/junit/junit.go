// Package junit writes an audit as a report of tests in the XML that pipelines read: a suite for every area, a case that passed for every
// check that found nothing, and a case for every finding.
package junit

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"time"

	"toril/audit"
	"toril/model"
	"toril/report"
)

// Form is the XML of test reports.
var Form = report.Form{Name: "junit", Endings: []string{".junit.xml", ".xml"}, Audit: write}

// The elements, as the published schema of such reports has them: what was skipped has a text and no attributes.
type (
	testsuites struct {
		XMLName  xml.Name     `xml:"testsuites"`
		Name     string       `xml:"name,attr"`
		Tests    int          `xml:"tests,attr"`
		Failures int          `xml:"failures,attr"`
		Suites   []*testsuite `xml:"testsuite"`
	}
	testsuite struct {
		Name       string     `xml:"name,attr"`
		Tests      int        `xml:"tests,attr"`
		Failures   int        `xml:"failures,attr"`
		Errors     int        `xml:"errors,attr"`
		Skipped    int        `xml:"skipped,attr"`
		ID         int        `xml:"id,attr"`
		Hostname   string     `xml:"hostname,attr"`
		Package    string     `xml:"package,attr"`
		Time       string     `xml:"time,attr"`
		Timestamp  string     `xml:"timestamp,attr"`
		Properties []property `xml:"properties>property"`
		Cases      []testcase `xml:"testcase"`
	}
	property struct {
		Name  string `xml:"name,attr"`
		Value string `xml:"value,attr"`
	}
	testcase struct {
		Name      string   `xml:"name,attr"`
		Classname string   `xml:"classname,attr"`
		Time      string   `xml:"time,attr"`
		Skipped   string   `xml:"skipped,omitempty"`
		Failure   *failure `xml:"failure"`
	}
	failure struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",cdata"`
	}
)

func (s *testsuite) add(c testcase) {
	s.Cases = append(s.Cases, c)
	s.Tests++
	if c.Failure != nil {
		s.Failures++
	}
	if c.Skipped != "" {
		s.Skipped++
	}
}

// write writes the suites. Findings at or above o.FailOn failed, possible ones too where o.CertainOnly does not leave them out, and so did
// statements that were not understood; findings below and those that are accepted are skipped, with the reason.
func write(w io.Writer, a *report.Audited, o report.Options) error {
	found := map[string][]*audit.Finding{}
	for _, f := range a.Findings {
		found[f.Check] = append(found[f.Check], f)
	}
	all := testsuites{Name: "toril"}
	index := map[string]*testsuite{}
	for _, c := range a.Checks {
		area := c.Area()
		s := index[area]
		if s == nil {
			s = &testsuite{Name: area, ID: len(all.Suites), Hostname: "localhost", Package: "toril", Time: "0",
				Timestamp: a.Now.Format(time.DateOnly) + "T00:00:00"}
			s.Properties = []property{{"baseline", a.Baseline.Name}}
			index[area], all.Suites = s, append(all.Suites, s)
		}
		if len(found[c.Name]) == 0 {
			s.add(testcase{Name: c.Name + ": " + c.Title, Classname: "toril." + area, Time: "0"})
		}
		for _, f := range found[c.Name] {
			s.add(caseOf(f, area, o.FailOn, o.CertainOnly))
		}
	}
	doubts := &testsuite{Name: "doubts", ID: len(all.Suites), Hostname: "localhost", Package: "toril", Time: "0",
		Timestamp: a.Now.Format(time.DateOnly) + "T00:00:00", Properties: []property{{"baseline", a.Baseline.Name}}}
	for _, u := range a.Doubtful() {
		doubts.add(doubtOf(u, o))
	}
	if len(doubts.Cases) > 0 {
		all.Suites = append(all.Suites, doubts)
	}
	for _, s := range all.Suites {
		all.Tests, all.Failures = all.Tests+s.Tests, all.Failures+s.Failures
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", " ")
	if err := e.Encode(&all); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

func caseOf(f *audit.Finding, area string, failOn audit.Severity, certainOnly bool) testcase {
	c := testcase{Name: fmt.Sprintf("%s: %s [%s]", f.Check, f.Subject(), f.ID), Classname: "toril." + area, Time: "0"}
	head := f.Severity.String() + ": " + f.Message
	if f.Possible() {
		head = "possible " + head
	}
	switch x := f.Accepted; {
	case x != nil:
		c.Skipped = fmt.Sprintf("accepted by %s until %s: %s (%s)", x.Owner, x.Until.Format(time.DateOnly), x.Reason, head)
	case f.Severity < failOn || f.Possible() && certainOnly:
		c.Skipped = head
	default:
		c.Failure = &failure{Message: head, Type: f.Severity.String(), Text: body(f)}
	}
	return c
}

// doubtOf is a statement of which it is not known what it does: a failure where it was not understood, and may hide one.
func doubtOf(u *audit.Unsettled, o report.Options) testcase {
	c := testcase{Name: strings.TrimSpace(u.At.Place() + " " + u.Why), Classname: "toril.doubts", Time: "0"}
	if u.Cause != model.NotRead || u.Worst < o.FailOn || o.CertainOnly {
		c.Skipped = u.Says()
		return c
	}
	c.Failure = &failure{Message: u.Says(), Type: u.Worst.String(), Text: strings.TrimSpace(u.At.Text + "\n" + u.Settle())}
	return c
}

// body is all that is to be said of a finding, line by line.
func body(f *audit.Finding) string {
	var out []string
	add := func(label, s string) {
		if s != "" {
			out = append(out, label+s)
		}
	}
	add("", f.At.Place()+"  "+f.At.Text)
	for _, e := range f.Also {
		add("", strings.TrimSpace(e.Place()+"  "+e.Text+"  "+e.Note))
	}
	add("on lines ", strings.Join(f.Others.List(), ", "))
	add("as: ", f.Example)
	add("why: ", f.Why)
	add("fix: ", f.Fix)
	add("by: ", f.Standard)
	add("open: ", f.Unsure)
	add("part of: ", f.PartOf)
	return strings.Join(out, "\n")
}
