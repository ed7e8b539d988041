package read

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"

	"toril/model"
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

// sure is the score of a content from which no other can win where the file's name hints at that format alone: more than any has without
// the ten points of the name.
const sure = 95

// Recogniser finds the formats of the files of an estate, most of which have one of a few names.
type Recogniser struct {
	formats []*Format
	only    sync.Map // by a file's name, the only *Format that it hints at; nil for none, and for several
}

// NewRecogniser makes one that knows some formats.
func NewRecogniser(formats []*Format) *Recogniser { return &Recogniser{formats: formats} }

// Formats are those formats, in their order.
func (r *Recogniser) Formats() []*Format { return r.formats }

// hinted returns the only format that a name hints at; nil for none, and for several.
func (r *Recogniser) hinted(name string) *Format {
	if known, ok := r.only.Load(name); ok {
		return known.(*Format)
	}
	var hinted []*Format
	for _, format := range r.formats {
		if format.hint(name) != "" {
			hinted = append(hinted, format)
		}
	}
	var only *Format
	if len(hinted) == 1 {
		only = hinted[0]
	}
	r.only.Store(name, only)
	return only
}

// Surely finds the format of a file as Recognise does, without saying which others were thought of where none of them could win.
func (r *Recogniser) Surely(f *source.File) Verdict {
	formats, only := r.formats, r.hinted(path.Base(f.Path))
	if only == nil || only.Family != "" || bytes.IndexByte(f.Bytes(), 0) >= 0 || len(f.Bytes()) == 0 {
		return Recognise(formats, f)
	}
	if v := only.judge(f); v.Score >= sure+10 {
		return v
	}
	return Recognise(formats, f)
}

// hint returns the pattern of the format that a file's name is like; "" for none.
func (format *Format) hint(file string) string {
	name := path.Base(file)
	for _, hint := range format.Hints {
		if ends(hint, name) {
			if ok, _ := path.Match(hint, name); ok {
				return hint
			}
		}
	}
	return ""
}

// Named returns what the formats are about whose very name, or whose extension, a file has.
func (r *Recogniser) Named(file string) (about model.Topic) {
	name := path.Base(file)
	for _, format := range r.formats {
		for _, hint := range format.Hints {
			if rest, _ := strings.CutPrefix(hint, "*."); strings.ContainsAny(rest, "*?[") {
				continue
			}
			if ok, _ := path.Match(hint, name); ok {
				about |= format.About & (model.AboutEverything &^ model.AboutCertificates)
			}
		}
	}
	return about
}

// ends reports whether a name may be like a pattern by its first and its last character: nearly none is.
func ends(pattern, name string) bool {
	if pattern == "" || name == "" {
		return pattern == name
	}
	first, last := pattern[0], pattern[len(pattern)-1]
	begins := first == name[0] || strings.IndexByte("*?[\\", first) >= 0
	return begins && (last == name[len(name)-1] || strings.IndexByte("*?]", last) >= 0)
}

// judge says how much a file looks like one of the format; 0 for not at all.
func (format *Format) judge(f *source.File) Verdict {
	score, why := format.Looks(f)
	if hint := format.hint(f.Path); score > 0 && hint != "" {
		score, why = score+10, why+fmt.Sprintf(", and its name is like %q", hint)
	}
	return Verdict{Format: format, Score: score, Why: why}
}

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
		if v := format.judge(f); v.Score > 0 {
			all = append(all, v)
		}
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
