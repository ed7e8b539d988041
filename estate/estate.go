// Package estate finds gateways in folders and files, has their files read, and joins their connections into tunnels.
package estate

import (
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"toril/internal/cache"
	"toril/internal/disk"
	"toril/internal/progress"
	"toril/internal/spread"
	"toril/model"
	"toril/read"
	"toril/source"
)

// MaxFile is the size in bytes beyond which a file is not read.
const MaxFile = 64 << 20

// Estate is all that was found in one run: of every gateway the facts, and the gateway itself for as long as there is room.
type Estate struct {
	Gateways   []*Facts        // by name
	Problems   []*source.Error // of every file, in their order
	Intents    []*Intent       // what tunnels are for, as far as a toril.yaml says
	KeyRules   []*KeyRule      // what far ends take as pre-shared keys
	Exceptions []*Exception    // findings that are accepted, as far as a toril.yaml or the options say
	Read       int             // files that were read
	LeftOut    []model.LeftOut // files that were not read, by path
	configs    []*source.File  // the files of the estate itself
	reading    []*source.Error // the problems that reading it had
	keeper     *keeper
}

// Options say how an estate is read.
type Options struct {
	Formats []*read.Format

	ShowUnread bool // quotes show what was not understood, and comments

	Day time.Time // for which certificates are judged; zero: they hold whatever the day

	// Edited are files that are read with another content than they have, by their shown paths.
	Edited map[string][]byte
	// Only are the names of the gateways that are read; none: all.
	Only []string

	// Cache keeps what was read of gateways, for runs of the same program: Program is its digest. nil: nothing is kept.
	Cache   *cache.Cache
	Program cache.Digest

	// Again says that every gateway is opened after it was loaded, and Complete called then: of those that there is no room for it is
	// enough, the first time, to read what pairs them.
	Again bool

	// Found is told how many gateways there are, and about how many bytes are going to be read of them; nil: nobody.
	Found func(gateways int, bytes int64)

	// Sums has the digests of all gateways known, as a cache has.
	Sums bool

	Room int64 // bytes of files of the gateways that are kept in memory beside those in use; 0: as many as Room says

	// Stdin is what the path "-" stands for; As is the name of its format, "" to recognise it, and Gateway the name of
	// the gateway that it describes.
	Stdin       io.Reader
	As, Gateway string
}

// Config returns a file of the estate itself, a toril.yaml, by its shown path; nil where there is none.
func (e *Estate) Config(path string) *source.File {
	for _, f := range e.configs {
		if f.Path == path {
			return f
		}
	}
	return nil
}

// FactsOf returns the facts of a gateway that was read for the estate.
func (e *Estate) FactsOf(g *model.Gateway) *Facts { return e.Gateways[g.Number] }

// Format returns a format by its name as a gateway's files are read by it, those of its estate's phrasebooks among them; nil for none.
func (e *Estate) Format(g *model.Gateway, name string) *read.Format {
	var own *Config
	if p := e.FactsOf(g).plan; p != nil {
		own = p.config
	}
	for _, f := range own.all(e.keeper.opts.Formats) {
		if f.Name == name {
			return f
		}
	}
	return nil
}

// plan is a gateway before it is read: where its files are.
type plan struct {
	name    string
	fsys    fs.FS  // of the estate, or of the gateway's folder; see folder
	shown   string // what shown paths begin with
	within  string // the gateway's folder below the estate's, with a slash behind it
	files   []string
	config  *Config // of the estate
	without bool    // it has files that are not the gateway's
	as      string  // the format of all its files, where that is given

	leftOut []model.LeftOut
	sum     cache.Digest // of its files, before they were read
	hidden  bool         // its reader asked for files that are not among these
	known   []taken      // what each of its files was taken for, once that was found out
}

// taken is what a file was taken for; format is nil where it is in none.
type taken struct {
	format *read.Format
	why    string
	told   bool // it was found out
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
	opts       Options
	plans      map[[2]string]*plan // by folder and name
	problems   []*source.Error
	files      []*source.File // read besides those of gateways
	intents    []*Intent
	exceptions []*Exception
	keyRules   []*KeyRule
	leftOut    []model.LeftOut
	budget     int64      // bytes that archives may still unpack to
	settings   *cache.Sum // of what the files of the estates themselves say
}

func newLoader(opts Options) *loader {
	return &loader{opts: opts, plans: map[[2]string]*plan{}, budget: MaxUnpacked, settings: cache.NewSum("settings")}
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
		case strings.HasPrefix(n, ".") || config.own(n):
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
		l.list([]*plan{l.gateway(name, fsys, prefix, "", config)})
		return
	}
	hidden()
	var plans []*plan
	for _, n := range folders {
		if fs.ValidPath(n) {
			shown := prefix + n + "/"
			within := shown[len(prefix):]
			plans = append(plans, l.gateway(strings.TrimSuffix(within, "/"), fsys, shown, within, config))
		}
	}
	l.list(plans)
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

// gateway plans the gateway of a folder.
func (l *loader) gateway(name string, fsys fs.FS, prefix, within string, config *Config) *plan {
	p := l.plan(name, fsys, prefix)
	p.config, p.within = config, within
	return p
}

// list finds the files of gateways, those in archives among them: the folders side by side, the archives in their order, for there is one
// bound for all that they hold.
func (l *loader) list(plans []*plan) {
	found := make([]listing, len(plans))
	spread.InShares(len(plans), 16, func(i int) {
		found[i] = plans[i].list(plans[i].folder(), "")
		plans[i].files = slices.Clone(plans[i].files) // without room for more
		gather(func(each func(*string)) {
			for n := range plans[i].files {
				each(&plans[i].files[n])
			}
		})
	})
	for i, p := range plans {
		l.take(p, p.folder(), found[i], 0)
		if len(p.files) == 0 && p.without && p.within != "" { // a folder of the estate's own files
			delete(l.plans, [2]string{p.shown, p.name})
		}
	}
}

// listing is what was found in a folder of a gateway, or in an archive.
type listing struct {
	below    string // the path of the archive in the gateway, with a slash behind it; "" for the folder
	archives []string
	problems []*source.Error
}

// list plans every file below a folder of a gateway, or in an archive.
func (p *plan) list(fsys fs.FS, below string) listing {
	out := listing{below: below}
	problem := func(name string, err error) {
		out.problems = append(out.problems, source.Errorf(source.Pos{File: name}, "cannot be read: %v", reason(err)))
	}
	err := fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			problem(p.shown+below+name, err)
			if d != nil && d.IsDir() {
				return fs.SkipDir
			}
		case name != "." && strings.HasPrefix(d.Name(), "."):
			p.leftOut = append(p.leftOut, model.LeftOut{Path: p.shown + below + name, Why: dotted})
			if d.IsDir() {
				return fs.SkipDir
			}
		case d.IsDir() || below+name == ConfigName || p.config.own(p.within+below+name):
			p.without = p.without || !d.IsDir()
		case isArchive(name):
			out.archives = append(out.archives, name)
		default:
			p.files = append(p.files, below+name)
		}
		return nil
	})
	if err != nil {
		problem(strings.TrimSuffix(p.shown, "/"), err)
	}
	return out
}

// take takes what was found in a folder of a gateway, and goes on in its archives.
func (l *loader) take(p *plan, fsys fs.FS, found listing, depth int) {
	l.problems = append(l.problems, found.problems...)
	for _, name := range found.archives {
		if depth >= maxArchives {
			l.problem(p.shown+found.below+name, "archives within each other are read %d deep", maxArchives)
			continue
		}
		if sub, ok := l.unpack(fsys, p.shown+found.below, name); ok {
			p.mount(found.below+name, sub)
			l.take(p, sub, p.list(sub, found.below+name+"/"), depth+1)
		}
	}
}

// folder is the gateway's folder as a file system.
func (p *plan) folder() fs.FS {
	if _, is := p.fsys.(mounted); is || p.within == "" {
		return p.fsys
	}
	sub, _ := fs.Sub(p.fsys, strings.TrimSuffix(p.within, "/")) // which is a valid path
	return sub
}

// bytesOf is about how many bytes the files of some gateways hold: as many as those of the first.
func bytesOf(plans []*plan) int64 {
	first := plans[:min(len(plans), 16)]
	sum := int64(0)
	for _, p := range first {
		folder := p.folder()
		for _, name := range p.files {
			if info, err := fs.Stat(folder, name); err == nil {
				sum += min(info.Size(), MaxFile)
			}
		}
	}
	return sum * int64(len(plans)) / int64(max(1, len(first)))
}

func (p *plan) mount(name string, sub fs.FS) {
	m, ok := p.fsys.(mounted)
	if !ok {
		m = mounted{FS: p.folder(), at: map[string]fs.FS{}}
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
	out, room := make([]*plan, 0, len(l.plans)), make([]plan, len(l.plans)) // side by side
	for _, p := range l.plans {
		room[len(out)] = *p
		p = &room[len(out)]
		if folder := strings.TrimSuffix(p.shown, "/"); same[p.name] > 1 && folder != "" {
			if path.Base(folder) == p.name {
				p.name = folder
			} else {
				p.name = folder + "/" + p.name
			}
		}
		slices.Sort(p.files)
		p.files = slices.Compact(p.files)
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b *plan) int {
		return cmp.Or(strings.Compare(a.name, b.name), strings.Compare(a.shown, b.shown))
	})
	return out
}

// run reads every gateway once, keeps the facts of each, and lets those go again that there is no room for.
func (l *loader) run(ctx context.Context) (*Estate, error) {
	plans := l.named()
	e := &Estate{
		LeftOut:    l.leftOut,
		Problems:   l.problems,
		Intents:    l.intents,
		Exceptions: l.exceptions,
		KeyRules:   l.keyRules,
		configs:    l.files,
		keeper:     newKeeper(l.opts),
	}
	e.keeper.settings = l.settings.Digest()
	if len(l.opts.Only) > 0 {
		plans = slices.DeleteFunc(plans, func(p *plan) bool { return !slices.Contains(l.opts.Only, source.Clean(p.name)) })
	}
	e.keeper.plans, l.plans = int64(len(plans)), nil
	if l.opts.Found != nil {
		bytes := int64(0) // with a cache there is little to read
		if l.opts.Cache == nil || l.opts.Cache.Empty() {
			bytes = bytesOf(plans)
		}
		l.opts.Found(len(plans), bytes)
	}
	all, room := make([]*Facts, len(plans)), make([]Facts, len(plans))
	err := spread.Each(ctx, len(plans), func(ctx context.Context, i int) error {
		p := plans[i]
		if f := e.keeper.recall(p); f != nil {
			all[i], room[i] = &room[i], *f
			progress.Of(ctx).Files.Add(int64(len(f.Files)))
			return nil
		}
		r := e.keeper.read(ctx, p, l.opts.Again && e.keeper.full())
		progress.Of(ctx).Files.Add(int64(len(r.gateway.Files)))
		all[i], room[i] = &room[i], *factsOf(r)
		all[i].plan, p.known = p, e.keeper.alike(p.known)
		if ctx.Err() == nil {
			e.keeper.remember(all[i])
		}
		e.keeper.offer(all[i], r.gateway)
		return ctx.Err()
	})
	if err != nil {
		return nil, err
	}
	for _, f := range all {
		if !f.part || len(f.Files) == 0 {
			e.tell(f)
		}
		if len(f.Files) > 0 {
			e.Read += len(f.Files)
			e.add(f)
		}
	}
	e.sorted()
	e.reading = slices.Clip(e.Problems)
	return e, nil
}

// tell takes over what reading a gateway told of its files.
func (e *Estate) tell(f *Facts) {
	e.Problems = append(e.Problems, f.problems...)
	e.LeftOut = append(e.LeftOut, f.leftOut...)
	f.problems, f.leftOut = nil, nil
}

// sorted puts in order what reading told.
func (e *Estate) sorted() {
	slices.SortStableFunc(e.LeftOut, func(a, b model.LeftOut) int { return strings.Compare(a.Path, b.Path) })
	slices.SortStableFunc(e.Problems, func(a, b *source.Error) int { return a.Pos.Compare(b.Pos) })
}

// Complete takes over what was not read the first time, when every gateway has been opened since; see Options.Again.
func (e *Estate) Complete() {
	behind := e.Problems[len(e.reading):]
	e.Problems = e.reading
	e.Read = 0
	for _, f := range e.Gateways {
		if e.Read += len(f.Files); f.whole {
			e.tell(f)
		}
	}
	e.sorted()
	e.reading = slices.Clip(e.Problems)
	e.Problems = append(e.reading, behind...)
}

// add gives a gateway its number.
func (e *Estate) add(f *Facts) {
	f.Number = len(e.Gateways)
	if f.Number > 0 {
		last := e.Gateways[f.Number-1]
		f.Before = last.Before + last.Keys
	}
	e.Gateways = append(e.Gateways, f)
	e.keeper.number(f)
}
