// Package read is what all readers share: how a format is declared and recognised, and what a reader is given. Each
// format has a package of its own below this one, which knows that format and the model and nothing about checks.
package read

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"unicode"

	"toril/internal/disk"
	"toril/model"
	"toril/model/literal"
	"toril/packet"
	"toril/source"
	"toril/syntax"
	"toril/syntax/tree"
)

// MaxDepth is how deep files may include each other, and how deep the sections of a file may nest.
const MaxDepth = 64

// TooLarge is why a statement is left unread that names more than can be looked at exactly (packet.MaxBoxes).
const TooLarge = "it names more combinations of addresses and ports than can be looked at exactly"

// Format is one saved format.
type Format struct {
	Name     string          // "swanctl.conf"
	Title    string          // what it is, in a few words
	Software string          // whose it is
	Hints    []string        // patterns of usual file names (path.Match)
	Empty    string          // pattern of file names whose emptiness tells something: a list with nothing in it; "" for none
	Binary   bool            // files of it may hold bytes that text does not
	Order    int             // formats with a lower order are read first: addresses before what refers to them
	Comments []string        // what begins a comment
	Words    func() []string // of the format, beside those of its coverage: they may be shown where a line was not understood
	Taught   bool            // by a phrasebook
	Linux    bool            // what saves it runs on Linux alone
	Shared   bool            // others' programs read it too: it does not tell whose the files beside it are
	About    model.Topic     // what it tells of a gateway: what a statement of it that was not understood may change

	// Vocabulary are the words of a language that a phrasebook teaches, by kind, each with what it means: "encryption", "aes256",
	// "ENCR_AES_CBC 256".
	Vocabulary map[string]map[string]string
	Family     string // formats of one family may include each other's files; "" for a format by itself

	// Looks judges a file's content: 0 is "certainly not this format", 100 "certainly". Why is a sentence for people.
	Looks func(f *source.File) (score int, why string)

	// Read reads a file into a gateway. What it does not understand it says with Unread, what is wrong with Problemf.
	Read func(in *Input)

	// Covers declares what the reader does with every statement of the format.
	Covers func() []Coverage

	// Departures are what the laboratory found to differ from the program, and was left so.
	Departures []Departure
}

// Use is what a reader does with a statement.
type Use string

// The uses.
const (
	Used       Use = "used"
	Irrelevant Use = "irrelevant" // read, and of no consequence for the audit
	Left       Use = "left unread"
)

// Rows returns a declaration that is written out.
func Rows(rows ...Coverage) func() []Coverage {
	return func() []Coverage { return rows }
}

// Departure is a way in which a reader departs from the program itself, known and left so.
type Departure struct {
	Says string // what the program says then
	Why  string // why the reader takes or reads it otherwise
}

// Coverage is one row of a reader's declaration.
type Coverage struct {
	Statement string
	Use       Use
	Note      string
}

// Objects calls a function for every element of the array that a JSON decoder of the file has just entered, with its text and its place.
// It ends at the first that is broken, as nothing behind it can be told apart.
func (in *Input) Objects(dec *json.Decoder, one func(raw json.RawMessage, at source.Pos)) {
	for e, err := range tree.Elements(in.File.Bytes(), dec) {
		switch {
		case err != nil:
			in.Lost(in.Here(dec), "%v", err)
		case in.Context.Err() != nil:
			return
		default:
			one(e.Raw, in.File.Part(e.Start, e.End))
		}
	}
}

// Here returns the place that a JSON decoder has come to.
func (in *Input) Here(dec *json.Decoder) source.Pos {
	at := min(int(dec.InputOffset()), max(0, len(in.File.Bytes())-1))
	return in.File.Part(at, len(in.File.Bytes()))
}

// Input is one file on its way into a gateway. Until every file of the gateway is read, Gateway is a part by itself: what this file says,
// and those that it includes. What depends on other files waits (Later).
type Input struct {
	Context context.Context
	Gateway *model.Gateway
	File    *model.File
	Folder  *Folder
	depth   int
	later   []func()
}

// Folder is where a gateway's files lie. It opens what they include.
type Folder struct {
	FS       fs.FS     // the gateway's own folder
	Prefix   string    // what shown paths begin with
	MaxBytes int64     // of one file
	Formats  []*Format // all that are known: a file of another format is not included
	Manners  map[*Format]*source.Manner
	Taken    map[string]bool
	Edited   map[string][]byte // what files are read with in place of their content, by their shown paths
	files    []*model.File     // that are read, or being read
}

// NewInput makes the Input of a file that was found in a folder, of a gateway with these versions of its daemons.
func NewInput(ctx context.Context, name string, versions []model.Version, f *model.File, folder *Folder) *Input {
	folder.files = append(folder.files, f)
	part := &model.Gateway{Name: name, Versions: versions, Files: []*model.File{f}}
	return &Input{Context: ctx, Gateway: part, File: f, Folder: folder}
}

// Later has something done when every file of the gateway is read. Gateway is then all of it.
func (in *Input) Later(do func()) { in.later = append(in.later, do) }

// OnLinux reports whether a file of the gateway is of a format that Linux alone has. Before Later, only this file is known.
func (in *Input) OnLinux() bool {
	return slices.ContainsFunc(in.Gateway.Files, func(f *model.File) bool {
		return slices.ContainsFunc(in.Folder.Formats, func(x *Format) bool { return x.Linux && x.Name == f.Format })
	})
}

// Join puts together what the files of a gateway say, in their order, and does what had to wait for that. Each step runs by itself: guard
// runs it, and says what of a file was too much.
func Join(g *model.Gateway, read []*Input, guard func(in *Input, step func())) {
	for _, in := range read {
		again := g.Join(in.Gateway)
		in.Gateway = g
		for _, s := range again {
			in.Problemf(s.At, "set %q is also created at %s; only that one is used", s.Name, g.Set(s.Name).At)
		}
	}
	for _, in := range read {
		for _, do := range in.later {
			guard(in, do)
		}
		in.later = nil
	}
	g.Unusable()
	for _, e := range g.Problems {
		if f := g.File(e.File); f != nil {
			e.Region = f.Region(e.Pos)
		}
	}
}

// At returns the position of a line.
func (in *Input) At(line int) source.Pos { return in.File.At(line) }

// Pos returns the position of a statement, or of a part of one.
func (in *Input) Pos(p syntax.Place) source.Pos {
	return source.Pos{File: in.File.Path, Line: p.Line, Col: p.Col, Range: p.Range}
}

// Count counts a statement as read.
func (in *Input) Count() { in.File.Statements++ }

// Owner is what a statement belongs to: what may be otherwise than it seems where the statement was not understood. The zero Owner is
// the gateway as a whole, in all that the file's format tells.
type Owner struct {
	Name     string        // for people: a connection's name, a chain's
	Topic    model.Topic   // of the facts of the gateway that may be others; 0 with To nil: all that the format tells
	To       *model.Doubts // of one thing; nil for none
	Harmless bool          // whatever it says, nothing that is asked depends on it
}

// Unread keeps a statement that was not understood, and makes unsure what it belongs to.
func (in *Input) Unread(p source.Pos, of Owner, format string, args ...any) *model.Doubt {
	in.File.Veil(p)
	return in.Leave(in.File, p, of, model.NotRead, in.File.Veiled(p, fmt.Sprintf(format, args...)))
}

// FileOf returns a file that was read so far by its shown path; nil for none.
func (in *Input) FileOf(path string) *model.File {
	for _, f := range in.Gateway.Files {
		if f.Path == path {
			return f
		}
	}
	return nil
}

// Leave keeps a statement of a file unread, and makes unsure what it belongs to.
func (in *Input) Leave(file *model.File, p source.Pos, of Owner, cause model.Cause, why string) *model.Doubt {
	if of.Topic == 0 {
		of.Topic = in.about()
	}
	d := &model.Doubt{Cause: cause, Gateway: in.Gateway.Name, At: p, Of: of.Name, Why: why, Topic: of.Topic}
	if of.Harmless {
		d = nil
	} else {
		in.Doubt(of, d)
	}
	if file != nil {
		file.Unread = append(file.Unread, model.Unread{At: p, Scope: of.Name, Why: why, Doubt: d})
	}
	return d
}

// Lacks keeps a statement that names something which was not given, and makes unsure what it belongs to.
func (in *Input) Lacks(p source.Pos, of Owner, format string, args ...any) {
	in.File.Veil(p)
	in.Leave(in.File, p, of, model.NotGiven, in.File.Veiled(p, fmt.Sprintf(format, args...)))
}

// Doubt makes unsure what a statement belongs to.
func (in *Input) Doubt(of Owner, d *model.Doubt) {
	switch {
	case of.To != nil:
		of.To.Add(d)
	case of.Topic != 0:
		in.Gateway.Doubt(of.Topic, d)
	default:
		in.Gateway.Doubt(in.about(), d)
	}
}

// about is what the file's format tells of a gateway.
func (in *Input) about() model.Topic {
	for _, f := range in.Folder.Formats {
		if f.Name == in.File.Format {
			return f.About
		}
	}
	return model.AboutEverything
}

// Problemf says that something is wrong.
func (in *Input) Problemf(p source.Pos, format string, args ...any) {
	in.File.Veil(p)
	in.Gateway.Problems = append(in.Gateway.Problems, source.Errorf(p, "%s", in.File.Veiled(p, fmt.Sprintf(format, args...))))
}

// Lost says that something could not be read from a place on: what the file tells may be otherwise.
func (in *Input) Lost(p source.Pos, format string, args ...any) {
	in.Problemf(p, format, args...)
	why := in.File.Veiled(p, fmt.Sprintf(format, args...))
	in.Doubt(Owner{}, &model.Doubt{Cause: model.NotRead, Gateway: in.Gateway.Name, At: p, Why: why, Topic: in.about()})
}

// Refuse says that the program itself does not take this file, nor any other that it loads with it: what the gateway then does is
// not known.
func (in *Input) Refuse(p source.Pos, format string, args ...any) {
	in.refuse("nothing of "+in.File.Format, p, format, args...)
}

// RefusePart says so of a part that the program loads by itself.
func (in *Input) RefusePart(what string, p source.Pos, format string, args ...any) {
	in.refuse(what, p, format, args...)
}

func (in *Input) refuse(what string, p source.Pos, format string, args ...any) {
	in.File.Veil(p)
	e := source.Errorf(p, "%s", in.File.Veiled(p, fmt.Sprintf(format, args...)))
	in.Gateway.Problems = append(in.Gateway.Problems, e)
	in.Gateway.Refused = append(in.Gateway.Refused, model.Refusal{Error: e, Format: in.File.Format, What: what})
}

// Include opens the files that a pattern in an include statement means, each as an Input of its own for the same
// gateway. A relative pattern is relative to the including file. An absolute one is looked for below the gateway's
// folder: whole, then without its first folders; with wildcards it keeps its last folder, and never takes whatever lies about.
// A file of another format is not taken. Where nothing matches, that is a problem at the line, unless the pattern has
// wildcards, which may match nothing.
func (in *Input) Include(at source.Pos, pattern string) []*Input {
	shown := source.Clean(in.File.Named(at.Line, pattern))
	if in.depth >= MaxDepth {
		in.Lost(at, "files include each other more than %d deep; %q is not read", MaxDepth, shown)
		return nil
	}
	wild := strings.ContainsAny(pattern, "*?[")
	names := in.Folder.find(strings.TrimPrefix(in.File.Path, in.Folder.Prefix), pattern)
	var out []*Input
	for _, name := range names {
		if in.isOpen(name) {
			in.Problemf(at, "%s includes itself", source.Clean(name))
			continue
		}
		if !in.Folder.Taken[name] &&
			slices.ContainsFunc(in.Folder.files, func(f *model.File) bool { return f.Path == in.Folder.Prefix+name }) {
			continue // it was read before, by itself
		}
		f, err := in.Folder.Open(name)
		if err != nil {
			in.Lost(at, "%v", err)
			continue
		}
		if other := in.foreign(f.File); other != nil {
			if !wild {
				in.Unread(at, Owner{}, "the file %s, which is included here, is taken for %s", source.Clean(path.Base(name)), other.Name)
			}
			continue
		}
		in.Folder.Taken[name] = true
		if i := slices.IndexFunc(in.Folder.Formats, func(x *Format) bool { return x.Name == in.File.Format }); i >= 0 {
			in.Folder.Take(f, in.Folder.Formats[i], "")
		}
		f.Format, f.Why, f.Within = in.File.Format, "included at "+at.String(), in.File.Path
		in.Gateway.Files, in.Folder.files = append(in.Gateway.Files, f), append(in.Folder.files, f)
		out = append(out, &Input{Context: in.Context, Gateway: in.Gateway, File: f, Folder: in.Folder, depth: in.depth + 1})
	}
	if len(names) == 0 && !wild {
		in.Gateway.Definitions = append(
			in.Gateway.Definitions,
			&model.Definition{Kind: model.IncludedFile, Name: shown, Used: []source.Pos{at}, Missing: true},
		)
		in.Unread(at, Owner{Name: model.IncludedFile}, "the included file %s was not given", shown)
	}
	return out
}

// foreign is the format that a file is taken for, where that is another than the one it would be included in; nil where it may be
// included.
func (in *Input) foreign(f *source.File) *Format {
	own := in.File.Format
	i := slices.IndexFunc(in.Folder.Formats, func(x *Format) bool { return x.Name == own })
	v := Recognise(in.Folder.Formats, f)
	if i < 0 || v.Format == nil || v.Format.Name == own || v.Format.Family != "" && v.Format.Family == in.Folder.Formats[i].Family {
		return nil
	}
	if slices.ContainsFunc(v.Others, func(o Verdict) bool { return o.Format.Name == own && o.Score >= enough }) {
		return nil // it may be either
	}
	return v.Format
}

func (in *Input) isOpen(name string) bool {
	shown := in.Folder.Prefix + name
	for within := in.File.Path; within != ""; {
		if within == shown {
			return true
		}
		i := slices.IndexFunc(in.Folder.files, func(f *model.File) bool { return f.Path == within })
		if i < 0 {
			return false
		}
		within = in.Folder.files[i].Within
	}
	return false
}

func (d *Folder) find(from, pattern string) []string {
	var tries []string
	if path.IsAbs(pattern) {
		parts := strings.Split(strings.Trim(path.Clean(pattern), "/"), "/")
		for i := range parts {
			if i == len(parts)-1 && i > 0 && strings.ContainsAny(parts[i], "*?[") {
				break
			}
			tries = append(tries, path.Join(parts[i:]...))
		}
	} else {
		tries = []string{path.Join(path.Dir(from), pattern)}
	}
	for _, try := range tries {
		names, err := fs.Glob(d.FS, try)
		if err != nil || try == ".." || strings.HasPrefix(try, "../") {
			return nil
		}
		names = slices.DeleteFunc(names, func(name string) bool {
			info, err := fs.Stat(d.FS, name)
			return err != nil || info.IsDir()
		})
		if len(names) > 0 {
			slices.Sort(names)
			return names
		}
	}
	return nil
}

// Open reads a file of the folder. Its errors name the file and say what to do.
func (d *Folder) Open(name string) (*model.File, error) {
	shown := d.Prefix + name
	if data, ok := d.Edited[shown]; ok {
		return &model.File{File: source.NewFile(shown, data)}, nil
	}
	data, err := disk.Read(d.FS, name, d.MaxBytes)
	switch {
	case errors.Is(err, disk.ErrTooLarge):
		return nil, source.Errorf(source.Pos{File: shown}, "is larger than %d MiB and was not read", d.MaxBytes>>20)
	case err != nil:
		return nil, source.Errorf(source.Pos{File: shown}, "cannot be read: %v", unwrapPath(err))
	}
	return &model.File{File: source.NewFile(shown, data)}, nil
}

// Take makes a file one of a format: that is how it is quoted.
func (d *Folder) Take(f *model.File, format *Format, why string) {
	f.Format, f.Why = format.Name, why
	if m := d.Manners[format]; m != nil {
		f.As(m)
	}
}

// common are words that stand in many formats.
var common = []string{
	"yes",
	"no",
	"true",
	"false",
	"on",
	"off",
	"none",
	"any",
	"all",
	"default",
	"auto",
	"add",
	"set",
	"del",
	"delete",
	"to",
	"from",
	"in",
	"out",
	"up",
	"down",
	"src",
	"dst",
	"log",
	"prefix",
	"name",
	"type",
	"mode",
	"version",
	"via",
	"dev",
	"table",
	"description",
	"enabled",
	"disabled",
	"allow",
	"deny",
	"permit",
	"reject",
	"with",
	"and",
	"or",
	"not",
	"eq",
	"neq",
}

// Manners says how the files of formats are quoted; open shows what was not understood.
func Manners(formats []*Format, open bool) map[*Format]*source.Manner {
	words := map[string]bool{}
	for _, w := range slices.Concat(common, slices.Collect(maps.Keys(literal.Services)), packet.ProtoNames()) {
		words[w] = true
	}
	for _, f := range formats {
		for _, c := range f.Covers() {
			for _, w := range strings.FieldsFunc(c.Statement, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
				words[strings.ToLower(w)] = true
			}
		}
		if f.Words == nil {
			continue
		}
		for _, w := range f.Words() {
			words[strings.ToLower(w)] = true
		}
	}
	out := map[*Format]*source.Manner{}
	for _, f := range formats {
		out[f] = &source.Manner{Comments: f.Comments, Words: words, Open: open}
	}
	return out
}

func unwrapPath(err error) error {
	if pe, ok := err.(*fs.PathError); ok {
		return pe.Err
	}
	return err
}
