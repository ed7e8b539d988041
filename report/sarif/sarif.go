// Package sarif writes an audit in OASIS SARIF 2.1.0, which code hosts and editors read. The tests ask the published schema about it.
package sarif

import (
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"strings"
	"time"

	"toril/audit"
	"toril/report"
)

// Form is SARIF.
var Form = report.Form{Name: "sarif", Endings: []string{".sarif", ".sarif.json"}, Audit: write}

// The objects of SARIF 2.1.0, section 3, as far as they are used.
type (
	document struct {
		Schema  string `json:"$schema"`
		Version string `json:"version"`
		Runs    []run  `json:"runs"`
	}
	run struct {
		Tool        tool         `json:"tool"`
		Invocations []invocation `json:"invocations,omitempty"`
		ColumnKind  string       `json:"columnKind"`
		Results     []result     `json:"results"`
	}
	tool struct {
		Driver driver `json:"driver"`
	}
	driver struct {
		Name            string `json:"name"`
		Version         string `json:"version"`
		SemanticVersion string `json:"semanticVersion"`
		InformationURI  string `json:"informationUri"`
		Rules           []rule `json:"rules"`
	}
	rule struct {
		ID               string         `json:"id"`
		Name             string         `json:"name"`
		ShortDescription text           `json:"shortDescription"`
		FullDescription  text           `json:"fullDescription"`
		Help             text           `json:"help"`
		Default          configuration  `json:"defaultConfiguration"`
		Properties       map[string]any `json:"properties"`
	}
	configuration struct {
		Level string `json:"level"`
	}
	text struct {
		Text string `json:"text"`
	}
	invocation struct {
		Successful    bool           `json:"executionSuccessful"`
		Notifications []notification `json:"toolExecutionNotifications,omitempty"`
	}
	notification struct {
		Level     string     `json:"level"`
		Message   text       `json:"message"`
		Locations []location `json:"locations"`
	}
	result struct {
		RuleID       string            `json:"ruleId"`
		RuleIndex    int               `json:"ruleIndex"`
		Level        string            `json:"level"`
		Message      text              `json:"message"`
		Locations    []location        `json:"locations"`
		Related      []location        `json:"relatedLocations,omitempty"`
		Fingerprints map[string]string `json:"partialFingerprints"`
		Suppressions []suppression     `json:"suppressions"`
		Properties   map[string]string `json:"properties"`
	}
	location struct {
		Physical *physical `json:"physicalLocation,omitempty"`
		Logical  []logical `json:"logicalLocations,omitempty"`
		Message  *text     `json:"message,omitempty"`
	}
	physical struct {
		Artifact artifact `json:"artifactLocation"`
		Region   *region  `json:"region,omitempty"`
	}
	artifact struct {
		URI string `json:"uri"`
	}
	region struct {
		StartLine   int    `json:"startLine"`
		StartColumn int32  `json:"startColumn,omitempty"`
		EndLine     int32  `json:"endLine,omitempty"`
		EndColumn   int32  `json:"endColumn,omitempty"`
		ByteOffset  *int32 `json:"byteOffset,omitempty"`
		ByteLength  int32  `json:"byteLength,omitempty"`
		Snippet     *text  `json:"snippet,omitempty"`
	}
	logical struct {
		Name string `json:"fullyQualifiedName"`
		Kind string `json:"kind"`
	}
	suppression struct {
		Kind          string   `json:"kind"`
		Status        string   `json:"status"`
		Justification string   `json:"justification"`
		Location      location `json:"location"`
	}
)

// write writes one run: a rule for every check that was asked, a result for every finding.
func write(w io.Writer, a *report.Audited, _ report.Options) error {
	one := run{ColumnKind: "unicodeCodePoints", Results: make([]result, 0, len(a.Findings)), Tool: tool{driver{Name: "toril",
		Version: report.Version, SemanticVersion: report.Version, InformationURI: "https://toril.example/"}}}
	index := make(map[string]int, len(a.Checks))
	for i, c := range a.Checks {
		index[c.Name] = i
		one.Tool.Driver.Rules = append(one.Tool.Driver.Rules, ruleOf(c))
	}
	for _, f := range a.Findings {
		one.Results = append(one.Results, resultOf(f, index))
	}
	done := invocation{Successful: true}
	for _, e := range a.Problems() {
		done.Notifications = append(
			done.Notifications,
			notification{"error", text{e.Message}, []location{place(audit.Evidence{Pos: e.Pos, Region: e.Region}, "")}},
		)
	}
	for _, u := range a.Doubtful() {
		done.Notifications = append(done.Notifications, notification{"warning", text{u.Why + "; " + u.Says()}, []location{place(u.At, "")}})
	}
	one.Invocations = []invocation{done}
	e := json.NewEncoder(w)
	e.SetIndent("", " ")
	e.SetEscapeHTML(false)
	return e.Encode(
		document{"https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json", "2.1.0", []run{one}},
	)
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

func ruleOf(c *audit.Check) rule {
	help := strings.Join(
		[]string{c.Doc.What, c.Doc.Harm, "Fix: " + c.Fix, c.Example(), "Sources: " + strings.Join(c.Doc.Sources, "; ")},
		"\n\n",
	)
	return rule{ID: c.Name, Name: name(c.Name), ShortDescription: text{c.Title}, FullDescription: text{c.Why}, Help: text{help},
		Default: configuration{level(c.Severity)}, Properties: map[string]any{"tags": []string{"security", c.Area()},
			"security-severity": scores[c.Severity], "severity": c.Severity.String()}}
}

// name writes a check's name as one word: "IkeWeakAlgorithm".
func name(check string) string {
	var b strings.Builder
	for _, word := range strings.FieldsFunc(check, func(r rune) bool { return r == '/' || r == '-' }) {
		b.WriteString(strings.ToUpper(word[:1]) + word[1:])
	}
	return b.String()
}

// resultOf is a finding. Its fingerprint is the finding's identity, which moved lines and other values do not change.
func resultOf(f *audit.Finding, index map[string]int) result {
	r := result{
		RuleID:       f.Check,
		RuleIndex:    index[f.Check],
		Level:        level(f.Severity),
		Message:      text{f.Subject() + ": " + f.Message + ". " + f.Fix},
		Locations:    []location{place(f.At, f.Subject())},
		Fingerprints: map[string]string{"torilFinding/v1": f.ID},
		Suppressions: []suppression{},
		Properties:   map[string]string{},
	}
	if f.Possible() {
		r.Message.Text = "Possible: " + r.Message.Text
	}
	for _, e := range f.Also {
		if !e.Pos.IsZero() {
			at := place(e, "")
			at.Message = &text{e.Note}
			r.Related = append(r.Related, at)
		}
	}
	for key, value := range map[string]string{"severity": f.Severity.String(), "gateway": f.Gateway, "tunnel": f.Tunnel,
		"connection": f.Connection, "child": f.Child, "example": f.Example, "why": f.Why, "standard": f.Standard, "unsure": f.Unsure,
		"part_of": f.PartOf, "others": strings.Join(f.Others.List(), ", ")} {
		if value != "" {
			r.Properties[key] = value
		}
	}
	if x := f.Accepted; x != nil {
		why := fmt.Sprintf("%s (%s, until %s)", x.Reason, x.Owner, x.Until.Format(time.DateOnly))
		r.Suppressions = append(r.Suppressions, suppression{"external", "accepted", why, place(audit.Evidence{Pos: x.At}, "")})
	}
	return r
}

// place is a place in a file; what names the subject that it is about.
func place(e audit.Evidence, what string) (out location) {
	if e.File != "" {
		out.Physical = &physical{Artifact: artifact{uri(e.File)}}
		if e.Line > 0 {
			r := &region{StartLine: e.Line}
			if at := e.Region; at.Length > 0 {
				r = &region{int(at.Line), at.Character, at.EndLine, at.EndCharacter, &at.Offset, at.Length, nil}
			}
			if e.Text != "" {
				r.Snippet = &text{e.Text}
			}
			out.Physical.Region = r
		}
	}
	if what != "" {
		out.Logical = []logical{{what, "resource"}}
	}
	return out
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
	if path == "" || path == "-" {
		return "stdin"
	}
	return strings.Replace(strings.Join(parts, "/"), ":", "%3A", 1)
}
