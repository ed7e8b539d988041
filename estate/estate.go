// Package estate finds gateways in folders and files, has their files read, and joins their connections into tunnels.
package estate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"toril/daemon"
	"toril/internal/disk"
	"toril/model"
	"toril/packet"
	"toril/read"
	"toril/source"
)

// MaxFile is the size in bytes beyond which a file is not read.
const MaxFile = 64 << 20

// Estate is all that was read in one run.
type Estate struct {
	Gateways []*model.Gateway // by name
	Tunnels  []*Tunnel        // by name
	Problems []*source.Error  // of every file, in their order
	Intents  []*Intent        // what tunnels are for, as far as a toril.yaml says
	Read     int              // files that were read
	LeftOut  []model.LeftOut  // files that were not read, by path
	files    map[string]*model.File

	once      sync.Once
	byGateway map[*model.Gateway][]*Tunnel
}

// Options say how an estate is read.
type Options struct {
	Formats []*read.Format

	ShowUnread bool // quotes show what was not understood, and comments

	// Stdin is what the path "-" stands for; As is the name of its format, "" to recognise it, and Gateway the name of
	// the gateway that it describes.
	Stdin       io.Reader
	As, Gateway string
}

// File returns a file by its shown path; nil where there is none.
func (e *Estate) File(path string) *model.File { return e.files[path] }

// Quote returns the line at a position, fit to be shown; "" where there is none.
func (e *Estate) Quote(p source.Pos) string {
	if f := e.files[p.File]; f != nil {
		return f.Quote(p)
	}
	return ""
}

// Ranged returns a position with the bytes of its statement.
func (e *Estate) Ranged(p source.Pos) source.Pos {
	if f := e.files[p.File]; f != nil {
		p.Range = f.Range(p)
	}
	return p
}

// TunnelsOf returns the tunnels of which a gateway is an end, or the far gateway that has no counterpart.
func (e *Estate) TunnelsOf(g *model.Gateway) []*Tunnel {
	e.once.Do(func() {
		e.byGateway = map[*model.Gateway][]*Tunnel{}
		for _, t := range e.Tunnels {
			for i, end := range t.Ends {
				if i == 0 || end.Gateway != t.Ends[0].Gateway {
					e.byGateway[end.Gateway] = append(e.byGateway[end.Gateway], t)
				}
			}
			if t.Toward != nil {
				e.byGateway[t.Toward] = append(e.byGateway[t.Toward], t)
			}
		}
	})
	return e.byGateway[g]
}

// Gateway returns a gateway by name; nil where there is none.
func (e *Estate) Gateway(name string) *model.Gateway {
	for _, g := range e.Gateways {
		if g.Name == name {
			return g
		}
	}
	return nil
}

// plan is a gateway before it is read: where its files are.
type plan struct {
	name   string
	fsys   fs.FS
	shown  string // what shown paths begin with
	within string // the gateway's folder below the estate's, with a slash behind it
	files  []string
	config *Config // of the estate
	as     string  // the format of all its files, where that is given

	leftOut []model.LeftOut
}

// Load reads every gateway below the paths. A path is a folder with one folder a gateway, the folder of one gateway, an
// archive of either, a file, or "-". What cannot be read becomes a Problem; an error means that the run was cancelled.
func Load(ctx context.Context, paths []string, opts Options) (*Estate, error) {
	l := newLoader(opts)
	for _, p := range once(paths) {
		l.add(p)
	}
	return l.run(ctx)
}

// once leaves out paths that were given before, or lie in a folder that was given too.
func once(paths []string) []string {
	real := make([]string, len(paths))
	for i, p := range paths {
		if p == "-" {
			real[i] = p
			continue
		}
		real[i], _ = filepath.Abs(p)
		if r, err := filepath.EvalSymlinks(real[i]); err == nil {
			real[i] = r
		}
	}
	var out []string
	for i, p := range paths {
		if !slices.ContainsFunc(real[:i], func(r string) bool { return r == real[i] }) &&
			!slices.ContainsFunc(
				real,
				func(r string) bool { return strings.HasPrefix(real[i], strings.TrimSuffix(r, "/")+"/") && real[i] != r },
			) {
			out = append(out, p)
		}
	}
	return out
}

// LoadFS reads an estate out of a file system: its top level is the folder with one folder a gateway.
func LoadFS(ctx context.Context, fsys fs.FS, opts Options) (*Estate, error) {
	l := newLoader(opts)
	l.folder(fsys, "", "estate")
	return l.run(ctx)
}

type loader struct {
	opts     Options
	plans    map[[2]string]*plan // by folder and name
	problems []*source.Error
	files    []*source.File // read besides those of gateways
	intents  []*Intent
	leftOut  []model.LeftOut
	budget   int64 // bytes that archives may still unpack to
}

func newLoader(opts Options) *loader {
	return &loader{opts: opts, plans: map[[2]string]*plan{}, budget: MaxUnpacked}
}

func (l *loader) problem(path, format string, args ...any) {
	l.problems = append(l.problems, source.Errorf(source.Pos{File: path}, format, args...))
}

func (l *loader) add(p string) {
	if p == "-" {
		l.stdin()
		return
	}
	shown := filepath.ToSlash(filepath.Clean(p))
	info, err := os.Stat(p)
	if err == nil && info.IsDir() {
		fsys, err := disk.Folder(p)
		if err != nil {
			l.problem(shown, "cannot be read: %v", reason(err))
			return
		}
		prefix := shown + "/"
		if shown == "." {
			prefix = ""
		}
		abs, _ := filepath.Abs(p)
		l.folder(fsys, prefix, filepath.Base(abs))
		return
	}
	fsys, name, err := disk.File(p)
	if err == nil {
		_, err = fs.Stat(fsys, name)
	}
	if err != nil {
		l.problem(shown, "cannot be read: %v", reason(err))
		return
	}
	dir, given := path.Dir(shown), path.Base(shown)
	prefix := dir + "/"
	if dir == "." {
		prefix = ""
	}
	if given != name { // it was given by a link
		fsys, name = renamed{fsys, given, name}, given
	}
	if isArchive(name) {
		l.archive(fsys, prefix, name)
		return
	}
	l.file(fsys, prefix, name, nil)
}

// renamed is a file system of which one file has another name.
type renamed struct {
	fs.FS
	name, is string
}

func (r renamed) Open(name string) (fs.File, error) {
	if name == r.name {
		name = r.is
	}
	return r.FS.Open(name)
}

// stdin plans what comes on standard input, as one file.
func (l *loader) stdin() {
	if l.opts.Stdin == nil {
		l.problem("-", "there is no standard input")
		return
	}
	data, err := io.ReadAll(io.LimitReader(l.opts.Stdin, MaxFile+1))
	if err != nil {
		l.problem("-", "cannot be read: %v", err)
		return
	}
	if len(data) > MaxFile {
		l.problem("-", "is larger than %d MiB and was not read", MaxFile>>20)
		return
	}
	name := l.opts.Gateway
	if name == "" {
		name = "stdin"
	}
	p := l.plan(name, oneFile(data), "")
	p.files, p.as = append(p.files, stdinName), l.opts.As
}

// archive plans an archive: as if it were a folder of its name. Folders that hold nothing but one folder are passed by.
func (l *loader) archive(fsys fs.FS, prefix, name string) {
	sub, ok := l.unpack(fsys, prefix, name)
	if !ok {
		return
	}
	prefix += name + "/"
	for range 64 {
		entries, err := fs.ReadDir(sub, ".")
		if err != nil || len(entries) != 1 || !entries[0].IsDir() || slices.Contains(system, entries[0].Name()) {
			break
		}
		inner, err := fs.Sub(sub, entries[0].Name())
		if err != nil {
			break
		}
		sub, prefix = inner, prefix+entries[0].Name()+"/"
	}
	l.folder(sub, prefix, archiveName(name))
}

func (l *loader) unpack(fsys fs.FS, prefix, name string) (fs.FS, bool) {
	shown := prefix + name
	data, err := disk.Read(fsys, name, MaxUnpacked)
	if errors.Is(err, disk.ErrTooLarge) {
		l.problem(shown, "is larger than %d MiB and was not read", MaxUnpacked>>20)
		return nil, false
	}
	if err != nil {
		l.problem(shown, "cannot be read: %v", reason(err))
		return nil, false
	}
	sub, err := unpack(data, &l.budget, func(format string, args ...any) { l.problem(shown, format, args...) })
	if err != nil {
		l.problem(shown, "cannot be read: %v", err)
		return nil, false
	}
	return sub, true
}

func reason(err error) error {
	if pe, ok := err.(*fs.PathError); ok {
		return pe.Err
	}
	return err
}

// system are the names of folders that lie inside a gateway's own.
var system = []string{
	"etc",
	"usr",
	"var",
	"opt",
	"root",
	"home",
	"swanctl",
	"conf.d",
	"ipsec.d",
	"strongswan.d",
	"nftables.d",
	"network",
	"netplan",
	"systemd",
	"frr",
	"x509",
	"x509ca",
	"certs",
}

// folder plans what is in a folder: gateways of its own, or one gateway.
func (l *loader) folder(fsys fs.FS, prefix, name string) {
	entries, err := fs.ReadDir(fsys, ".")
	if err != nil {
		l.problem(strings.TrimSuffix(prefix, "/"), "cannot be read: %v", reason(err))
		return
	}
	config := l.loadConfig(fsys, prefix)
	var folders, files []string
	inner := false
	for _, e := range entries {
		switch n := e.Name(); {
		case strings.HasPrefix(n, ".") || n == ConfigName:
		case e.IsDir():
			folders = append(folders, n)
			inner = inner || slices.Contains(system, n)
		default:
			files = append(files, n)
		}
	}
	hidden := func() { // of a folder of gateways; a gateway walks its own
		for _, e := range entries {
			if strings.HasPrefix(e.Name(), ".") {
				l.leftOut = append(l.leftOut, model.LeftOut{Path: prefix + e.Name(), Why: dotted})
			}
		}
	}
	alone := len(folders) == 0 && !slices.ContainsFunc(files, isArchive)
	if alone || inner {
		l.gateway(name, fsys, prefix, "", config)
		return
	}
	hidden()
	for _, n := range folders {
		if sub, err := fs.Sub(fsys, n); err == nil {
			l.gateway(n, sub, prefix+n+"/", n+"/", config)
		}
	}
	for _, n := range files {
		if isArchive(n) {
			l.archive(fsys, prefix, n)
		} else {
			l.file(fsys, prefix, n, config)
		}
	}
}

// dotted is why a file or a folder is left out whose name begins with a dot.
const dotted = "its name begins with a dot"

func (l *loader) gateway(name string, fsys fs.FS, prefix, within string, config *Config) {
	p := l.plan(name, fsys, prefix)
	p.config, p.within = config, within
	l.walk(p, fsys, "", 0)
}

// walk plans every file below a folder of a gateway, and those in archives.
func (l *loader) walk(p *plan, fsys fs.FS, below string, depth int) {
	err := fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			l.problem(p.shown+below+name, "cannot be read: %v", reason(err))
			if d != nil && d.IsDir() {
				return fs.SkipDir
			}
		case name != "." && strings.HasPrefix(d.Name(), "."):
			p.leftOut = append(p.leftOut, model.LeftOut{Path: p.shown + below + name, Why: dotted})
			if d.IsDir() {
				return fs.SkipDir
			}
		case d.IsDir() || below+name == ConfigName:
		case isArchive(name) && depth >= maxArchives:
			l.problem(p.shown+below+name, "archives within each other are read %d deep", maxArchives)
		case isArchive(name):
			sub, ok := l.unpack(fsys, p.shown+below, name)
			if !ok {
				return nil
			}
			p.mount(below+name, sub)
			l.walk(p, sub, below+name+"/", depth+1)
		default:
			p.files = append(p.files, below+name)
		}
		return nil
	})
	if err != nil {
		l.problem(strings.TrimSuffix(p.shown, "/"), "cannot be read: %v", reason(err))
	}
}

func (p *plan) mount(name string, sub fs.FS) {
	m, ok := p.fsys.(mounted)
	if !ok {
		m = mounted{FS: p.fsys, at: map[string]fs.FS{}}
		p.fsys = m
	}
	m.at[name] = sub
}

// file plans a single file: named after itself, or, where its name says only its format, after its folder. Files of
// one name are files of one gateway.
func (l *loader) file(fsys fs.FS, prefix, name string, config *Config) {
	gw := strings.TrimSuffix(name, path.Ext(name))
	for _, f := range l.opts.Formats {
		if slices.Contains(f.Hints, name) && prefix != "" {
			gw = path.Base(strings.TrimSuffix(prefix, "/"))
		}
	}
	p := l.plan(gw, fsys, prefix)
	p.config = config
	p.files = append(p.files, name)
}

// plan returns the plan of a gateway; the same name in two folders is two gateways.
func (l *loader) plan(name string, fsys fs.FS, prefix string) *plan {
	key := [2]string{prefix, name}
	p := l.plans[key]
	if p == nil {
		p = &plan{name: name, fsys: fsys, shown: prefix}
		l.plans[key] = p
	}
	return p
}

// named gives the plans the names that tell them apart: gateways of the same name are called by their folders, whatever their order.
func (l *loader) named() []*plan {
	same := map[string]int{}
	for _, p := range l.plans {
		same[p.name]++
	}
	var out []*plan
	for _, p := range l.plans {
		if folder := strings.TrimSuffix(p.shown, "/"); same[p.name] > 1 && folder != "" {
			if path.Base(folder) == p.name {
				p.name = folder
			} else {
				p.name = folder + "/" + p.name
			}
		}
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b *plan) int {
		return cmp.Or(strings.Compare(a.name, b.name), strings.Compare(a.shown, b.shown))
	})
	return out
}

func (l *loader) run(ctx context.Context) (*Estate, error) {
	plans := l.named()
	manners := read.Manners(l.opts.Formats, l.opts.ShowUnread)
	gateways := make([]*model.Gateway, len(plans))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, p := range plans {
		group.Go(func() error {
			gateways[i] = readGateway(ctx, p, l.opts.Formats, manners)
			return ctx.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	e := &Estate{LeftOut: l.leftOut, Problems: l.problems, Intents: l.intents, files: map[string]*model.File{}}
	for _, f := range l.files {
		e.files[f.Path] = &model.File{File: f}
	}
	for _, g := range gateways {
		e.Problems = append(e.Problems, g.Problems...)
		e.LeftOut = append(e.LeftOut, g.LeftOut...)
		read := 0
		for _, f := range g.Files {
			e.files[f.Path] = f
			if f.Format != "" {
				read++
			}
		}
		e.Read += read
		if read > 0 {
			e.Gateways = append(e.Gateways, g)
		}
	}
	slices.SortStableFunc(e.LeftOut, func(a, b model.LeftOut) int { return strings.Compare(a.Path, b.Path) })
	slices.SortStableFunc(e.Problems, func(a, b *source.Error) int { return a.Pos.Compare(b.Pos) })
	e.Tunnels = pair(e)
	e.declare()
	return e, nil
}

// readGateway recognises the files of a gateway and has them read, formats in their order.
func readGateway(ctx context.Context, p *plan, formats []*read.Format, manners map[*read.Format]*source.Manner) *model.Gateway {
	g := &model.Gateway{Name: source.Clean(p.name)}
	folder := &read.Folder{FS: p.fsys, Prefix: p.shown, MaxBytes: MaxFile, Formats: formats, Manners: manners, Taken: map[string]bool{}}
	g.LeftOut = p.leftOut
	var all []found
	slices.Sort(p.files)
	for _, name := range slices.Compact(p.files) {
		f, err := folder.Open(name)
		if err != nil {
			g.Problems = append(g.Problems, asProblem(err, p.shown+name))
			continue
		}
		v, skip := p.recognise(formats, name, f.File)
		switch {
		case skip:
			g.LeftOut = append(g.LeftOut, model.LeftOut{Path: f.Path, Why: ConfigName + " says so"})
		case len(f.Bytes()) == 0:
			g.LeftOut = append(g.LeftOut, model.LeftOut{Path: f.Path, Why: "it is empty"})
		default:
			all = append(all, found{name, f, v})
		}
	}
	for i := range all {
		all[i].verdict = between(ctx, folder, all[i], all)
	}
	// inside a format outer folders come first, so that what includes comes before what is included
	slices.SortStableFunc(all, func(a, b found) int {
		if o := order(a.verdict) - order(b.verdict); o != 0 {
			return o
		}
		if o := strings.Count(a.name, "/") - strings.Count(b.name, "/"); o != 0 {
			return o
		}
		return usual(b) - usual(a)
	})
	g.Versions = p.config.versionsOf(g.Name)
	for _, f := range all {
		if f.verdict.Format == nil {
			continue
		}
		if v, ok := daemon.VersionIn(f.file.File, f.verdict.Format.Software); ok {
			g.Versions = append(g.Versions, v)
		}
	}
	for _, f := range all {
		if folder.Taken[f.name] || ctx.Err() != nil {
			continue
		}
		if f.verdict.Format == nil {
			g.Problems = append(g.Problems, source.Errorf(source.Pos{File: f.file.Path}, "not read: %s", f.verdict.Why))
			continue
		}
		folder.Take(f.file, f.verdict.Format, f.verdict.Why)
		g.Files = append(g.Files, f.file)
		readFile(f.verdict.Format, read.NewInput(ctx, g, f.file, folder))
	}
	// what another file includes is read with it, also where that file came later
	g.Problems = slices.DeleteFunc(g.Problems, func(e *source.Error) bool {
		return folder.Taken[strings.TrimPrefix(e.File, p.shown)] && strings.HasPrefix(e.Message, "not read: ")
	})
	finish(g)
	return g
}

// found is a file of a gateway, and what it was taken for.
type found struct {
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
	other := slices.IndexFunc(v.Others, func(o read.Verdict) bool { return o.Format.Family == v.Format.Family && v.Score-o.Score <= close })
	if other < 0 {
		return v
	}
	rival := v.Others[other]
	beside := func(format *read.Format) bool {
		return slices.ContainsFunc(all, func(o found) bool {
			return o.verdict.Format != nil && o.verdict.Format.Software == format.Software && o.verdict.Format.Family == "" &&
				o.verdict.Score >= 60
		})
	}
	left := func(format *read.Format) int {
		g := &model.Gateway{Name: "trial"}
		file := &model.File{File: source.NewFile(f.file.Path, f.file.Bytes()), Format: format.Name}
		g.Files = append(g.Files, file)
		trial := &read.Folder{
			FS:       folder.FS,
			Prefix:   folder.Prefix,
			MaxBytes: folder.MaxBytes,
			Formats:  folder.Formats,
			Taken:    map[string]bool{},
		}
		readFile(format, read.NewInput(ctx, g, file, trial))
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

// usual is 1 for a file with the very name that its format's main file has, which may include others beside it.
func usual(f found) int {
	if f.verdict.Format != nil && slices.Contains(f.verdict.Format.Hints, path.Base(f.name)) {
		return 1
	}
	return 0
}

// readFile has a file read. A reader that fails is a fault of Toril's own: it is named with the file, and the rest goes on.
func readFile(format *read.Format, in *read.Input) {
	defer func() {
		if r := recover(); r != nil {
			in.Unread(0, "", "the reader of %s failed", format.Name)
			in.Gateway.Problems = append(
				in.Gateway.Problems,
				source.Errorf(
					source.Pos{File: in.File.Path},
					"the reader of %s failed on this file, which is a fault of Toril's: what it says is not known",
					format.Name,
				),
			)
		}
	}()
	if packet.Guard(func() { format.Read(in) }) != nil {
		in.Unread(0, "", "%s", read.TooLarge)
		in.Gateway.Problems = append(
			in.Gateway.Problems,
			source.Errorf(source.Pos{File: in.File.Path}, "%s; the rest of it is not read", read.TooLarge),
		)
	}
}

// recognise finds the format of a file: as the command line or the estate's toril.yaml says, else by what is in it.
func (p *plan) recognise(formats []*read.Format, name string, f *source.File) (v read.Verdict, skip bool) {
	as, why := p.as, "the command line says so"
	if told, ok := p.config.formatFor(p.within + name); ok {
		as, why = told, ConfigName+" says so"
	}
	if as == "skip" {
		return v, true
	}
	for _, format := range formats {
		if format.Name == as {
			return read.Verdict{Format: format, Score: 100, Why: why}, false
		}
	}
	return read.Recognise(formats, f), false
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

// finish gives every rule its chain and place, and marks as unsure what an unread statement may have changed.
func finish(g *model.Gateway) {
	for _, c := range g.Chains {
		for i, r := range c.Rules {
			r.Of, r.Index = c, i
		}
	}
	whole := false
	for _, f := range g.Files {
		slices.SortStableFunc(f.Unread, func(a, b model.Unread) int { return a.At.Compare(b.At) })
		for _, u := range f.Unread {
			whole = whole || u.Scope == ""
		}
	}
	if whole {
		for _, c := range g.Connections {
			c.Unsure = true
		}
	}
}
