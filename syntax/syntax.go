// Package syntax is the frame of the syntaxes in which programs save their settings. syntax/<kind> turns bytes into statements, each with
// its place, and knows no meaning. One promise holds for all, and is fuzzed: statements printed from their bytes, with what stands between
// them, are the file.
package syntax

import "toril/source"

// Place is where a statement stands: the line on which it begins, and its bytes.
type Place struct {
	Line int
	source.Range
}
