package model

import (
	"bytes"
	"slices"
	"strings"
	"unicode"
)

// IncludedFile is the kind of a definition, and what a doubt belongs to, where a file was included and not given.
const IncludedFile = "included file"

// DoubtDefinitions notes for every name that seems unused, or not defined, which statements that were not understood may use or define it:
// those from which on it is written somewhere, and those that include a file which was not given.
func (g *Gateway) DoubtDefinitions() {
	for _, f := range g.Files {
		var unread []Unread
		for _, u := range f.Unread {
			if u.Doubt != nil && u.Doubt.Cause == NotRead {
				unread = append(unread, u)
			}
		}
		if len(unread) == 0 {
			continue
		}
		var words *mentions
		for _, d := range g.Definitions {
			if len(d.Used) > 0 && !d.Missing || d.Kind == IncludedFile {
				continue
			}
			if words == nil {
				words = mentionsIn(f)
			}
			d.Doubts.Add(words.doubts(d, unread)...)
		}
	}
}

// mentions are the words of a file by the lines that they are in.
type mentions struct {
	file  *File
	lines map[string][]int
}

// isPart reports whether a character may be one of a name.
func isPart(r rune) bool {
	return unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("_-.:+/", r)
}

func mentionsIn(f *File) *mentions {
	m := &mentions{f, map[string][]int{}}
	line := 1
	for text := range bytes.Lines(f.Bytes()) {
		for _, word := range bytes.FieldsFunc(text, func(r rune) bool { return !isPart(r) }) {
			if at := m.lines[string(word)]; len(at) == 0 || at[len(at)-1] != line {
				m.lines[string(word)] = append(at, line)
			}
		}
		line++
	}
	return m
}

// doubts are those of some statements about whether a name is used, or defined.
func (m *mentions) doubts(d *Definition, unread []Unread) (out Doubts) {
	name := d.Name[strings.LastIndexFunc(d.Name, func(r rune) bool { return !isPart(r) })+1:]
	lines := m.lines[name]
	for _, u := range unread {
		here := func(line int) bool {
			return line >= u.At.Line && (line != d.At.Line || m.file.Path != d.At.File || line == u.At.Line)
		}
		if u.Scope == IncludedFile || u.Scope == d.Name || name != "" && slices.ContainsFunc(lines, here) {
			out.Add(u.Doubt)
		}
	}
	return out
}
