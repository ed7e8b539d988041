package estate

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"toril/daemon"
	"toril/internal/disk"
	"toril/model"
	"toril/packet"
	"toril/read"
	"toril/source"
)

// reading is a gateway as it was read, with the files that lie in its folder.
type reading struct {
	gateway *model.Gateway
	found   []*model.File
	part    bool // those of packet filters were not read
}

// readGateway recognises the files of a gateway and has them read, formats in their order; but for those of packet filters, where only a
// part is asked for.
func readGateway(
	ctx context.Context,
	p *plan,
	formats *formatList,
	edited map[string][]byte,
	part bool,
) reading {
	g := &model.Gateway{Name: source.Clean(p.name)}
	fsys, done := disk.Hold(p.folder())
	defer done()
	folder := &read.Folder{
		FS: watched{fsys, p}, Prefix: p.shown, MaxBytes: MaxFile, Formats: formats.Formats(),
		Manners: formats.manners, Taken: map[string]bool{}, Edited: edited,
	}
	all := p.find(ctx, g, folder, formats)
	g.Versions = p.config.versionsOf(g.Name)
	for _, f := range all {
		if f.verdict.Format == nil {
			continue
		}
		if v, ok := daemon.VersionIn(f.file.File, f.verdict.Format.Software); ok {
			g.Versions = append(g.Versions, v)
		}
	}
	var inputs []*read.Input
	out := reading{gateway: g, part: part}
	for _, f := range all {
		out.found = append(out.found, f.file)
		if folder.Taken[f.name] || ctx.Err() != nil {
			continue
		}
		if f.verdict.Format == nil {
			g.Problems = append(g.Problems, source.Errorf(source.Pos{File: f.file.Path}, "not read: %s", f.verdict.Why))
			formats.doubt(g, source.Pos{File: f.file.Path})
			continue
		}
		folder.Take(f.file, f.verdict.Format, f.verdict.Why)
		in := read.NewInput(ctx, g.Name, g.Versions, f.file, folder)
		if !part || f.verdict.Format.About != model.AboutFilter {
			guarded(in, func() { f.verdict.Format.Read(in) })
		}
		inputs = append(inputs, in)
	}
	read.Join(g, inputs, guarded)
	// what another file includes is read with it, also where that file came later
	g.Problems = slices.DeleteFunc(g.Problems, func(e *source.Error) bool {
		return folder.Taken[strings.TrimPrefix(e.File, p.shown)] && strings.HasPrefix(e.Message, "not read: ")
	})
	finish(g)
	return out
}

// doubt makes unsure what a file that was not read tells, as far as its name says what that is.
func (l *formatList) doubt(g *model.Gateway, at source.Pos) {
	if about := l.Named(at.File); about != 0 {
		g.Doubt(about, &model.Doubt{
			Cause: model.NotRead, Gateway: g.Name, At: at, Topic: about,
			Why: "the file was not read, and its name says that it is about " + about.String(),
		})
	}
}

// find opens the files of a gateway and says what each is taken for, in the order in which they are read: inside a format outer folders
// come first, so that what includes comes before what is included. What is left out, and what cannot be opened, the gateway notes.
func (p *plan) find(ctx context.Context, g *model.Gateway, folder *read.Folder, formats *formatList) []found {
	g.LeftOut = slices.Clip(p.leftOut)
	var all []found
	for i, name := range p.files {
		f, err := folder.Open(name)
		if err != nil {
			g.Problems = append(g.Problems, asProblem(err, p.shown+name))
			formats.doubt(g, source.Pos{File: p.shown + name})
			continue
		}
		v, skip := p.recognise(formats, i, f.File)
		switch {
		case skip:
			g.LeftOut = append(g.LeftOut, model.LeftOut{Path: f.Path, Why: ConfigName + " says so"})
		case len(f.Bytes()) == 0 && (v.Format == nil || v.Format.Empty == ""):
			g.LeftOut = append(g.LeftOut, model.LeftOut{Path: f.Path, Why: "it is empty"})
		default:
			all = append(all, found{i, name, f, v})
		}
	}
	if p.known == nil {
		for i := range all {
			all[i].verdict = between(ctx, folder, all[i], all)
		}
		p.remember(all)
	}
	slices.SortStableFunc(all, func(a, b found) int {
		return cmp.Or(
			order(a.verdict)-order(b.verdict),
			strings.Count(a.name, "/")-strings.Count(b.name, "/"),
			usual(b)-usual(a),
		)
	})
	return all
}

// found is a file of a gateway, and what it was taken for.
type found struct {
	place   int // in plan.files
	name    string
	file    *model.File
	verdict read.Verdict
}

// between decides for a file that fits two programs of one family about as well: the one whose other files lie beside it, else the
// one under which more is understood. The verdict says so.
func between(ctx context.Context, folder *read.Folder, f found, all []found) read.Verdict {
	v := f.verdict
	if v.Format == nil || v.Format.Family == "" {
		return v
	}
	const close = 25
	other := slices.IndexFunc(
		v.Others,
		func(o read.Verdict) bool { return o.Format.Family == v.Format.Family && v.Score-o.Score <= close },
	)
	if other < 0 {
		return v
	}
	rival := v.Others[other]
	beside := func(format *read.Format) bool {
		return slices.ContainsFunc(all, func(o found) bool {
			return o.verdict.Format != nil && o.verdict.Format.Software == format.Software && o.verdict.Format.Family == "" &&
				!o.verdict.Format.Shared && o.verdict.Score >= 60
		})
	}
	left := func(format *read.Format) int {
		file := &model.File{File: source.NewFile(f.file.Path, f.file.Bytes()), Format: format.Name}
		trial := &read.Folder{
			FS:       folder.FS,
			Prefix:   folder.Prefix,
			MaxBytes: folder.MaxBytes,
			Formats:  folder.Formats,
			Taken:    map[string]bool{},
		}
		g := &model.Gateway{Name: "trial"}
		in := read.NewInput(ctx, g.Name, nil, file, trial)
		guarded(in, func() { format.Read(in) })
		read.Join(g, []*read.Input{in}, guarded)
		n := len(g.Problems)
		for _, x := range g.Files {
			n += len(x.Unread)
		}
		return n
	}
	why := ""
	switch a, b := beside(v.Format), beside(rival.Format); {
	case a != b && b:
		v, rival, why = rival, v, "other files of "+rival.Format.Software+" lie beside it"
	case a != b:
		why = "other files of " + v.Format.Software + " lie beside it"
	default:
		mine, theirs := left(v.Format), left(rival.Format)
		if theirs < mine {
			v, rival, mine, theirs = rival, v, theirs, mine
		}
		if mine == theirs && v.Score > rival.Score {
			why = "it is more like those of " + v.Format.Software
			break
		}
		why = fmt.Sprintf("%d of its statements stay unread as %s's, %d as %s's", mine, v.Format.Software, theirs, rival.Format.Software)
	}
	v.Why += fmt.Sprintf("; it fits %s too: %s (%s can say which it is)", rival.Format.Software, why, ConfigName)
	return v
}

// remember keeps what files were taken for, so that it is not asked again when they are read again.
func (p *plan) remember(all []found) {
	p.known = make([]taken, len(p.files))
	for _, f := range all {
		p.known[f.place] = taken{f.verdict.Format, shared(f.verdict.Why), true}
	}
}

// usual is 1 for a file with the very name that its format's main file has, which may include others beside it.
func usual(f found) int {
	if f.verdict.Format != nil && slices.Contains(f.verdict.Format.Hints, path.Base(f.name)) {
		return 1
	}
	return 0
}

// guarded runs a reader. One that fails is a fault of Toril's own: it is named with the file, and the rest goes on.
func guarded(in *read.Input, step func()) {
	defer func() {
		if r := recover(); r != nil {
			in.Unread(in.At(0), read.Owner{}, "the reader of %s failed", in.File.Format)
			in.Problemf(
				source.Pos{File: in.File.Path},
				"the reader of %s failed on this file, which is a fault of Toril's: what it says is not known",
				in.File.Format,
			)
		}
	}()
	if packet.Guard(step) != nil {
		in.Unread(in.At(0), read.Owner{}, "%s", read.TooLarge)
		in.Problemf(source.Pos{File: in.File.Path}, "%s; the rest of it is not read", read.TooLarge)
	}
}

// recognise finds the format of one of the files: as the command line or the estate's toril.yaml says, else by what is in it.
func (p *plan) recognise(formats *formatList, place int, f *source.File) (v read.Verdict, skip bool) {
	if p.known != nil && p.known[place].told {
		return read.Verdict{Format: p.known[place].format, Why: p.known[place].why}, false
	}
	name := p.files[place]
	as, why := p.as, "the command line says so"
	if told, ok := p.config.formatFor(p.within + name); ok {
		as, why = told, ConfigName+" says so"
	}
	if as == "skip" {
		return v, true
	}
	for _, format := range formats.Formats() {
		if format.Name == as {
			return read.Verdict{Format: format, Score: 100, Why: why}, false
		}
	}
	return formats.Surely(f), false
}

func order(v read.Verdict) int {
	if v.Format == nil {
		return 1000
	}
	return v.Format.Order
}

func asProblem(err error, file string) *source.Error {
	if e, ok := err.(*source.Error); ok {
		return e
	}
	return source.Errorf(source.Pos{File: file}, "%v", err)
}

// number gives every connection its number.
func number(g *model.Gateway) {
	for _, list := range [][]*model.Connection{g.Connections, g.Unloaded} {
		for i, c := range list {
			c.Number = i
		}
	}
}

// finish gives every connection its number and every rule its chain and place.
func finish(g *model.Gateway) {
	number(g)
	g.Resolve()
	for _, c := range g.Chains {
		for i, r := range c.Rules {
			r.Of, r.Index = c, i
		}
	}
	for _, f := range g.Files {
		slices.SortStableFunc(f.Unread, func(a, b model.Unread) int { return a.At.Compare(b.At) })
	}
	g.DoubtDefinitions()
}
