package draft

import (
	"bytes"
	"slices"
	"strings"

	"toril/source"
	"toril/syntax/statements"
	"toril/syntax/tree"
)

// marks are what may begin a comment.
var commentMarks = []string{"#", "!", "//", ";", "--", "~", "%"}

// manner recognises the syntax of a text: how it becomes statements.
func manner(files []*source.File) statements.Manner {
	data := files[0].Bytes()
	trimmed := bytes.TrimSpace(data)
	switch {
	case bytes.HasPrefix(trimmed, []byte("<")):
		if _, err := tree.XML(data); err == nil {
			return statements.Manner{Kind: statements.XML}
		}
	case bytes.HasPrefix(trimmed, []byte("{")) || bytes.HasPrefix(trimmed, []byte("[")):
		if _, err := tree.JSON(data); err == nil {
			return statements.Manner{Kind: statements.JSON}
		}
	}
	lines := linesOf(files)
	m := statements.Manner{Kind: statements.Lines, Quotes: quotes(lines), Comments: comments(lines)}
	opens, heads, indented, full := 0, 0, 0, 0
	ends := 0
	for _, l := range lines {
		t := strings.TrimSpace(l)
		if t == "" || slices.ContainsFunc(m.Comments, func(c string) bool { return strings.HasPrefix(t, c) }) {
			continue
		}
		full++
		switch {
		case strings.HasSuffix(t, "{"):
			opens++
		case strings.HasPrefix(t, "[") && strings.HasSuffix(t, "]"):
			heads++
		}
		if strings.HasSuffix(t, ";") || strings.HasSuffix(t, "; }") {
			ends++
		}
		if l[0] == ' ' || l[0] == '\t' {
			indented++
		}
	}
	switch {
	case opens > 0 && opens*20 > full:
		m.Kind = statements.Braces
		if ends*4 > full {
			m.End = ";"
			m.Comments = slices.DeleteFunc(m.Comments, func(c string) bool { return c == ";" })
		}
	case heads > 0:
		m.Kind = statements.INI
	case indented == 0 && full > 3 && sameFirst(lines)*2 > full:
		m.Kind = statements.Paths
	default:
		m.Join = slices.ContainsFunc(lines, func(l string) bool { return strings.HasSuffix(l, "\\") })
		m.Leave = leaving(lines)
		if m.Join {
			m.Clauses = clauses(lines)
		}
	}
	if slices.ContainsFunc(lines, func(l string) bool { return strings.Contains(l, " $") }) {
		m.Macros = "$"
	}
	return m
}

func linesOf(files []*source.File) (out []string) {
	for _, f := range files {
		out = append(out, strings.Split(strings.ReplaceAll(string(f.Bytes()), "\r", ""), "\n")...)
	}
	return out
}

// quotes are the characters that stand around texts.
func quotes(lines []string) string {
	out := ""
	for _, q := range []string{`"`, `'`} {
		for _, l := range lines {
			if n := strings.Count(l, q); n > 0 && n%2 == 0 {
				out += q
				break
			}
		}
	}
	return out
}

// comments are the marks that lines begin with and that are followed by words.
func comments(lines []string) (out []string) {
	for _, c := range commentMarks {
		if slices.ContainsFunc(lines, func(l string) bool { return strings.HasPrefix(strings.TrimSpace(l), c) }) {
			out = append(out, c)
		}
	}
	return out
}

// sameFirst counts the lines that begin with the most frequent first word.
func sameFirst(lines []string) int {
	count, most := map[string]int{}, 0
	for _, l := range lines {
		if w, _, ok := strings.Cut(l, " "); ok {
			count[w]++
			most = max(most, count[w])
		}
	}
	return most
}

// clauses are the first words of lines that go on with a statement.
func clauses(lines []string) (out []string) {
	on := false
	for _, l := range lines {
		if w := strings.Fields(l); on && len(w) > 1 && !slices.Contains(out, w[0]) &&
			strings.Trim(w[0], "abcdefghijklmnopqrstuvwxyz-_") == "" {
			out = append(out, w[0])
		}
		on = strings.HasSuffix(l, "\\")
	}
	return out
}

// leaving are words that stand alone on lines and end blocks.
func leaving(lines []string) (out []string) {
	for _, w := range []string{"exit", "end", "quit", "next", "done", "close", "return"} {
		n := 0
		for _, l := range lines {
			if strings.TrimSpace(l) == w {
				n++
			}
		}
		if n > 1 {
			out = append(out, w)
		}
	}
	return out
}
