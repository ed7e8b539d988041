// Package syntax is the frame of the syntaxes in which programs save their settings. syntax/<kind> turns bytes into statements, each with
// its place, and knows no meaning. One promise holds for all, and is fuzzed: statements printed from their bytes, with what stands between
// them, are the file.
package syntax

import "toril/source"

// Place is where a statement stands: the line on which it begins, and its bytes. Col is the column, in bytes from 1, of a statement that
// shares its line with others, as in JSON; 0 of one that does not.
type Place struct {
	Line, Col int
	source.Range
}

// Over is the place from the beginning of one to the end of another; where their bytes are not known, the line of the first.
func Over(from, to Place) Place {
	if from.End > 0 && to.End > 0 {
		from.End = to.End
	}
	return from
}

// Word is a piece of a statement, with its bytes.
type Word struct {
	Text string
	source.Range
}
