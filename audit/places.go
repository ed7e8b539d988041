package audit

import (
	"cmp"
	"iter"
	"strconv"
	"strings"

	"toril/source"
)

// Places are where statements of one file stand, in order.
type Places []Place

// Place is a line of a file, from 1, and the column of a statement that is not a line, in bytes from 1; 0 for one that is.
type Place struct{ Line, Col int }

// PlaceOf is where a position is in its file.
func PlaceOf(at source.Pos) Place { return Place{at.Line, at.Col} }

// String writes the place: "12", or "1:345".
func (p Place) String() string {
	if p.Col == 0 {
		return strconv.Itoa(p.Line)
	}
	return strconv.Itoa(p.Line) + ":" + strconv.Itoa(p.Col)
}

func (p Place) compare(q Place) int {
	return cmp.Or(cmp.Compare(p.Line, q.Line), cmp.Compare(p.Col, q.Col))
}

// stretch is places that follow each other: lines, or one statement that is less.
type stretch struct {
	first, last Place
	n           int
}

// stretches are the places as ranges.
func (p Places) stretches() iter.Seq[stretch] {
	return func(yield func(stretch) bool) {
		for rest := p; len(rest) > 0; {
			n := 1
			for n < len(rest) && rest[n].Col == 0 && rest[n-1].Col == 0 && rest[n].Line <= rest[n-1].Line+1 {
				n++
			}
			if !yield(stretch{rest[0], rest[n-1], n}) {
				return
			}
			rest = rest[n:]
		}
	}
}

// String writes the places as ranges, of many the first ten and how many there are besides: "12-40, 55, 3 more ranges".
func (p Places) String() string {
	const most = 10
	var words []string
	more := 0
	for r := range p.stretches() {
		word := r.first.String()
		if r.last != r.first {
			word += "-" + r.last.String()
		}
		if len(words) <= most {
			words = append(words, word)
		} else {
			more++
		}
	}
	if more > 0 {
		words[most] = strconv.Itoa(more+1) + " more ranges"
	}
	return strings.Join(words, ", ")
}

// List writes every place.
func (p Places) List() []string {
	out := make([]string, len(p))
	for i, at := range p {
		out[i] = at.String()
	}
	return out
}

// Places are where the statements that the finding is about stand.
func (f *Finding) Places() Places { return append(Places{PlaceOf(f.At.Pos)}, f.Others...) }
