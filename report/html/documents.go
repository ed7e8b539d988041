package html

import (
	_ "embed"
	"html/template"
	"io"

	"toril/present"
	"toril/report"
)

//go:embed document.tmpl
var documentText string

// documents writes sheets and their like as a page without scripts, to be printed or sent.
func documents(w io.Writer, _ string, all []present.Document, _ report.Options) error {
	t, err := template.New("document").Parse(documentText)
	if err != nil {
		return err
	}
	return t.Execute(w, struct {
		Documents      []present.Document
		Style          template.HTML
		Title, Version string
		StyleHash      string
	}{all, template.HTML("<style>" + style + "</style>"), titleOf(all), report.Version, hash(style)})
}

func titleOf(all []present.Document) string {
	if len(all) == 1 {
		return all[0].Title
	}
	return "Tunnels"
}
