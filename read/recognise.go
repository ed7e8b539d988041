package read

import (
	"bytes"
	"fmt"
	"path"
	"slices"

	"toril/source"
)

// Verdict is what a file was taken for, and why.
type Verdict struct {
	Format *Format // nil where it is in no known format
	Score  int
	Why    string
	Others []Verdict // the formats that were also thought of, best first
}

// enough is the score from which a file is taken for a format.
const enough = 30

// Recognise finds the format of a file among those given: by its content, with its name as a hint that lends ten
// points. The more certain wins; between equals, the order of the list decides.
func Recognise(formats []*Format, f *source.File) Verdict {
	if len(f.Bytes()) == 0 {
		for _, format := range formats {
			if ok, _ := path.Match(format.Empty, path.Base(f.Path)); ok && format.Empty != "" {
				return Verdict{Format: format, Score: 100, Why: "it is empty, and its name is that of such a list"}
			}
		}
		return Verdict{Why: "the file is empty"}
	}
	binary := bytes.IndexByte(f.Bytes(), 0) >= 0
	var all []Verdict
	for _, format := range formats {
		if binary && !format.Binary {
			continue
		}
		score, why := format.Looks(f)
		if score == 0 {
			continue
		}
		for _, hint := range format.Hints {
			if ok, _ := path.Match(hint, path.Base(f.Path)); ok {
				score += 10
				why += fmt.Sprintf(", and its name is like %q", hint)
				break
			}
		}
		all = append(all, Verdict{Format: format, Score: score, Why: why})
	}
	slices.SortStableFunc(all, func(a, b Verdict) int { return b.Score - a.Score })
	if len(all) == 0 && len(bytes.Trim(f.Bytes(), "\x00")) == 0 {
		return Verdict{Why: "it holds nothing but zero bytes"}
	}
	if len(all) == 0 && binary {
		return Verdict{Why: "it is a binary file"}
	}
	if len(all) == 0 || all[0].Score < enough {
		return Verdict{Why: "it is in no format that toril knows (see: toril formats, toril phrasebook)", Others: all}
	}
	best := all[0]
	best.Others = all[1:]
	return best
}
