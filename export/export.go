// Package export writes a gateway in forms that other programs read.
package export

import (
	"io"

	"toril/model"
	"toril/read/yang"
)

// Writer is one form.
type Writer struct {
	Name  string // on the command line
	Title string
	// Write writes a gateway, and returns what the form cannot say of it.
	Write func(w io.Writer, g *model.Gateway) (lacks []string, err error)
}

// Writers returns every form.
func Writers() []Writer {
	return []Writer{
		{
			"yang",
			"the IETF's YANG models in JSON (RFC 7951)",
			func(w io.Writer, g *model.Gateway) ([]string, error) { return yang.Write(w, g, false) },
		},
		{"yang-xml", "the same in XML", func(w io.Writer, g *model.Gateway) ([]string, error) { return yang.Write(w, g, true) }},
	}
}
