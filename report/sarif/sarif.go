// Package sarif writes an audit in OASIS SARIF 2.1.0, which code hosts and editors read.
package sarif

import (
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"

	"toril/audit"
	"toril/report"
)

// Form is SARIF.
var Form = report.Form{Name: "sarif", Endings: []string{".sarif", ".sarif.json"}, Audit: write}

// write writes one run: a rule for every check that was asked, a result for every finding.
func write(w io.Writer, a *report.Audited, o report.Options) error {
	run := sarif.NewRunWithInformationURI("toril", "https://toril.example/")
	run.Tool.Driver.WithVersion(report.Version).WithSemanticVersion(report.Version)
	run.WithColumnKind("unicodeCodePoints")
	index := make(map[string]int, len(a.Checks))
	for i, c := range a.Checks {
		index[c.Name] = i
		run.Tool.Driver.AddRule(rule(c))
	}
	for i := range a.Findings {
		run.AddResult(result(&a.Findings[i], index))
	}
	for _, e := range a.Estate.Problems {
		n := sarif.NewNotification().WithLevel("error").WithMessage(sarif.NewTextMessage(e.Message))
		n.AddLocation(location(audit.Evidence{Pos: e.Pos}, ""))
		if len(run.Invocations) == 0 {
			run.AddInvocation(sarif.NewInvocation().WithExecutionSuccessful(true))
		}
		run.Invocations[0].AddToolExecutionNotification(n)
	}
	doc := sarif.NewReport()
	doc.AddRun(run)
	e := json.NewEncoder(w)
	e.SetIndent("", " ")
	e.SetEscapeHTML(false)
	return e.Encode(doc)
}

// level is what SARIF calls a severity.
func level(s audit.Severity) string {
	switch {
	case s >= audit.High:
		return "error"
	case s == audit.Medium:
		return "warning"
	}
	return "note"
}

// scores are what readers of SARIF sort by, from 0 to 10 (the property security-severity).
var scores = []string{"0.0", "3.0", "5.0", "8.0", "9.5"}

func text(s string) *sarif.MultiformatMessageString {
	return sarif.NewMultiformatMessageString().WithText(s)
}

func rule(c *audit.Check) *sarif.ReportingDescriptor {
	help := strings.Join(
		[]string{c.Doc.What, c.Doc.Harm, "Fix: " + c.Fix, c.Doc.Write, "Sources: " + strings.Join(c.Doc.Sources, "; ")},
		"\n\n",
	)
	properties := sarif.NewPropertyBag().WithTags([]string{"security", c.Area()}).Add("security-severity", scores[c.Severity]).
		Add("severity", c.Severity.String())
	return sarif.NewReportingDescriptor().WithID(c.Name).WithName(name(c.Name)).WithShortDescription(text(c.Title)).
		WithFullDescription(text(c.Why)).WithHelp(text(help)).
		WithDefaultConfiguration(
			sarif.NewReportingConfiguration().WithEnabled(true).WithLevel(level(c.Severity)),
		).WithProperties(properties)
}

// name writes a check's name as one word: "IkeWeakAlgorithm".
func name(check string) string {
	var b strings.Builder
	for _, word := range strings.FieldsFunc(check, func(r rune) bool { return r == '/' || r == '-' }) {
		b.WriteString(strings.ToUpper(word[:1]) + word[1:])
	}
	return b.String()
}

// result is a finding. Its fingerprint is the finding's identity, which moved lines and other values do not change.
func result(f *audit.Finding, index map[string]int) *sarif.Result {
	r := sarif.NewRuleResult(f.Check).WithRuleIndex(index[f.Check]).WithLevel(level(f.Severity)).
		WithMessage(sarif.NewTextMessage(f.Subject() + ": " + f.Message + ". " + f.Fix))
	r.WithPartialFingerprints(map[string]string{"torilFinding/v1": f.ID})
	r.AddLocation(location(f.At, f.Subject()))
	for _, e := range f.Also {
		if !e.Pos.IsZero() {
			r.AddRelatedLocation(location(e, "").WithMessage(sarif.NewTextMessage(e.Note)))
		}
	}
	properties := sarif.NewPropertyBag()
	add := func(key, value string) {
		if value != "" {
			properties.Add(key, value)
		}
	}
	add("severity", f.Severity.String())
	add("gateway", f.Gateway)
	add("tunnel", f.Tunnel)
	add("connection", f.Connection)
	add("child", f.Child)
	add("example", f.Example)
	add("why", f.Why)
	add("standard", f.Standard)
	add("unsure", f.Unsure)
	add("part_of", f.PartOf)
	r.WithProperties(properties)
	if x := f.Accepted; x != nil {
		s := sarif.NewSuppression().WithKind("external").WithStatus("accepted").
			WithJustification(fmt.Sprintf("%s (%s, until %s)", x.Reason, x.Owner, x.Until.Format(time.DateOnly)))
		r.WithSuppressions([]*sarif.Suppression{s.WithLocation(location(audit.Evidence{Pos: x.At}, ""))})
	} else {
		r.WithSuppressions([]*sarif.Suppression{})
	}
	return r
}

// location is a place in a file; what names the subject that it is about.
func location(e audit.Evidence, what string) *sarif.Location {
	l := sarif.NewLocation()
	if e.File != "" {
		physical := sarif.NewPhysicalLocation().WithArtifactLocation(sarif.NewSimpleArtifactLocation(uri(e.File)))
		if e.Line > 0 {
			region := sarif.NewRegion().WithStartLine(e.Line)
			if e.Character > 0 {
				region.WithStartColumn(e.Character)
			}
			if e.End > e.Start {
				region.WithByteOffset(e.Start).WithByteLength(e.End - e.Start)
			}
			if e.Text != "" {
				region.WithSnippet(sarif.NewArtifactContent().WithText(e.Text))
			}
			physical.WithRegion(region)
		}
		l.WithPhysicalLocation(physical)
	}
	if what != "" {
		l.WithLogicalLocations([]*sarif.LogicalLocation{sarif.NewLogicalLocation().WithFullyQualifiedName(what).WithKind("resource")})
	}
	return l
}

// uri writes a path as a relative or absolute URI reference (RFC 3986).
func uri(path string) string {
	parts := strings.Split(path, "/")
	for i, p := range parts {
		parts[i] = url.PathEscape(p)
	}
	if strings.HasPrefix(path, "/") {
		return "file://" + strings.Join(parts, "/")
	}
	if slices.Contains([]string{"", "-"}, path) {
		return "stdin"
	}
	return strings.Replace(strings.Join(parts, "/"), ":", "%3A", 1)
}
