// Package forms is the list of the forms in which results are written.
package forms

import (
	"fmt"
	"strings"

	"toril/report"
	"toril/report/json"
	"toril/report/markdown"
	"toril/report/text"
)

// All are the forms; the first that can write a kind of result is the usual one.
func All() []report.Form { return []report.Form{text.Form, markdown.Form, json.Form} }

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

// Named returns the form of a name that can write a kind of result; the error lists those that can.
func Named(name string, can func(report.Form) bool) (report.Form, error) {
	for _, f := range All() {
		if f.Name == name && can(f) {
			return f, nil
		}
	}
	return report.Form{}, fmt.Errorf("unknown format %q; known are: %s", name, strings.Join(Can(can), ", "))
}
