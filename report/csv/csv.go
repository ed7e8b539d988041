// Package csv writes the findings of an audit as a table for spreadsheets (RFC 4180). No cell begins as a formula does.
package csv

import (
	"encoding/csv"
	"io"
	"strconv"
	"strings"
	"time"

	"toril/audit"
	"toril/report"
)

// Form is comma-separated values.
var Form = report.Form{Name: "csv", Endings: []string{".csv"}, Audit: write, Documents: documents}

var columns = []struct {
	name string
	of   func(*audit.Finding) string
}{
	{"id", func(f *audit.Finding) string { return f.ID }},
	{"severity", func(f *audit.Finding) string { return f.Severity.String() }},
	{"check", func(f *audit.Finding) string { return f.Check }},
	{"gateway", func(f *audit.Finding) string { return f.Gateway }},
	{"tunnel", func(f *audit.Finding) string { return f.Tunnel }},
	{"connection", func(f *audit.Finding) string { return f.Connection }},
	{"child", func(f *audit.Finding) string { return f.Child }},
	{"message", func(f *audit.Finding) string { return f.Message }},
	{"measured", func(f *audit.Finding) string { return f.Measured }},
	{"required", func(f *audit.Finding) string { return f.Required }},
	{"file", func(f *audit.Finding) string { return f.At.File }},
	{"line", func(f *audit.Finding) string { return number(f.At.Line) }},
	{"column", func(f *audit.Finding) string { return number(max(f.At.Col, int(f.At.Region.Column))) }},
	{"statement", func(f *audit.Finding) string { return f.At.Text }},
	{"example", func(f *audit.Finding) string { return f.Example }},
	{"why", func(f *audit.Finding) string { return f.Why }},
	{"fix", func(f *audit.Finding) string { return f.Fix }},
	{"standard", func(f *audit.Finding) string { return f.Standard }},
	{"unsure", func(f *audit.Finding) string { return f.Unsure }},
	{"part_of", func(f *audit.Finding) string { return f.PartOf }},
	{"accepted_by", func(f *audit.Finding) string { return accepted(f, func() string { return f.Accepted.Owner }) }},
	{"accepted_until", func(f *audit.Finding) string {
		return accepted(f, func() string { return f.Accepted.Until.Format(time.DateOnly) })
	}},
	{"accepted_reason", func(f *audit.Finding) string { return accepted(f, func() string { return f.Accepted.Reason }) }},
	{"others", func(f *audit.Finding) string { return f.Others.String() }},
}

func write(w io.Writer, a *report.Audited, _ report.Options) error {
	out := csv.NewWriter(w)
	row := make([]string, len(columns))
	for i, c := range columns {
		row[i] = c.name
	}
	if err := out.Write(row); err != nil {
		return err
	}
	for _, f := range a.Findings {
		for k, c := range columns {
			row[k] = harmless(c.of(f))
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// harmless puts an apostrophe before what a spreadsheet would take for a formula.
func harmless(s string) string {
	if strings.ContainsRune("=+-@\t\r\n|%", first(strings.TrimLeft(s, " \u00a0\ufeff"))) {
		return "'" + s
	}
	return s
}

func first(s string) rune {
	for _, r := range s {
		return r
	}
	return 'x'
}

func number(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

func accepted(f *audit.Finding, what func() string) string {
	if f.Accepted == nil {
		return ""
	}
	return what()
}
