// Package forms is the list of the forms in which results are written.
package forms

import (
	"fmt"
	"strings"

	"toril/report"
	"toril/report/csv"
	"toril/report/diff"
	"toril/report/html"
	"toril/report/json"
	"toril/report/junit"
	"toril/report/markdown"
	"toril/report/sarif"
	"toril/report/text"
)

// All are the forms; the first that can write a kind of result is the usual one.
func All() []report.Form {
	return []report.Form{text.Form, markdown.Form, json.Form, html.Form, sarif.Form, junit.Form, csv.Form, diff.Form}
}

// Can lists the names of the forms that can write a kind of result.
func Can(can func(report.Form) bool) []string {
	var out []string
	for _, f := range All() {
		if can(f) {
			out = append(out, f.Name)
		}
	}
	return out
}

// For returns the form that a file of a name is written in, by its ending, for a kind of result; the error lists the endings.
func For(file string, can func(report.Form) bool) (report.Form, error) {
	var known []string
	best, length := report.Form{}, 0
	for _, f := range All() {
		if !can(f) {
			continue
		}
		for _, ending := range f.Endings {
			known = append(known, ending)
			if strings.HasSuffix(strings.ToLower(file), ending) && len(ending) > length {
				best, length = f, len(ending)
			}
		}
	}
	if length == 0 {
		return best, fmt.Errorf("no form is known by the ending of %q; known are: %s", file, strings.Join(known, ", "))
	}
	return best, nil
}

// Named returns the form of a name that can write a kind of result; the error lists those that can.
func Named(name string, can func(report.Form) bool) (report.Form, error) {
	for _, f := range All() {
		if f.Name == name && can(f) {
			return f, nil
		}
	}
	return report.Form{}, fmt.Errorf("unknown format %q; known are: %s", name, strings.Join(Can(can), ", "))
}
