package present

// Document is what is handed over or printed as tables with words around them: a sheet of a tunnel, a calendar of keys.
type Document struct {
	Subject string // what it is about: "lampwright/buoyyard"; "" for an estate
	Title   string
	Lead    []string // sentences
	Parts   []Part
}

// Part is a table of a document, or a list of notes.
type Part struct {
	Name  string // for programs: "addresses"
	Title string // for people
	About string // the child, say, that it is about; "" for all
	Head  []string
	Rows  []Row
	Notes []string
}

// Row is a line of a table: its name, and its cells.
type Row struct {
	Key   string // for programs: a setting's name in docs/settings.md, or one of the document's own
	Name  string
	Cells []string
}
