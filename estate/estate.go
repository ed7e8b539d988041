// Package estate finds gateways in folders and files, has their files read, and joins their connections into tunnels.
package estate

import (
	"context"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"toril/gateway"
	"toril/read"
	"toril/source"
)

// MaxFile is the size in bytes beyond which a file is not read.
const MaxFile = 64 << 20

// Estate is all that was read in one run.
type Estate struct {
	Gateways []*gateway.Gateway // by name
	Tunnels  []*Tunnel          // by name
	Problems []*source.Error    // of every file, in their order
	Read     int                // files that were read
	files    map[string]*gateway.File
}

// Options say how an estate is read.
type Options struct {
	Formats []*read.Format
}

// File returns a file by its shown path; nil where there is none.
func (e *Estate) File(path string) *gateway.File { return e.files[path] }

// Quote returns the line at a position, fit to be shown; "" where there is none.
func (e *Estate) Quote(p source.Pos) string {
	if f := e.files[p.File]; f != nil {
		return f.Quote(p.Line)
	}
	return ""
}

// Gateway returns a gateway by name; nil where there is none.
func (e *Estate) Gateway(name string) *gateway.Gateway {
	for _, g := range e.Gateways {
		if g.Name == name {
			return g
		}
	}
	return nil
}

// plan is a gateway before it is read: where its files are.
type plan struct {
	name  string
	fsys  fs.FS
	shown string // what shown paths begin with
	files []string
}

// Load reads every gateway below the paths. A path is a folder with one folder a gateway, the folder of one gateway,
// or a file. What cannot be read becomes a Problem; an error means that the run was cancelled.
func Load(ctx context.Context, paths []string, opts Options) (*Estate, error) {
	l := loader{opts: opts, byName: map[string]*plan{}}
	for _, p := range paths {
		l.add(p)
	}
	return l.run(ctx)
}

// LoadFS reads an estate out of a file system: its top level is the folder with one folder a gateway.
func LoadFS(ctx context.Context, fsys fs.FS, opts Options) (*Estate, error) {
	l := loader{opts: opts, byName: map[string]*plan{}}
	l.folder(fsys, "", "estate")
	return l.run(ctx)
}

type loader struct {
	opts     Options
	byName   map[string]*plan
	problems []*source.Error
}

func (l *loader) problem(path, format string, args ...any) {
	l.problems = append(l.problems, source.Errorf(source.Pos{File: path}, format, args...))
}

func (l *loader) add(p string) {
	shown := filepath.ToSlash(filepath.Clean(p))
	info, err := os.Stat(p)
	switch {
	case err != nil:
		l.problem(shown, "cannot be read: %v", reason(err))
	case info.IsDir():
		prefix := shown + "/"
		if shown == "." {
			prefix = ""
		}
		abs, _ := filepath.Abs(p)
		l.folder(os.DirFS(p), prefix, filepath.Base(abs))
	default:
		dir := path.Dir(shown)
		prefix := dir + "/"
		if dir == "." {
			prefix = ""
		}
		l.file(os.DirFS(filepath.Dir(p)), prefix, path.Base(shown))
	}
}

func reason(err error) error {
	if pe, ok := err.(*fs.PathError); ok {
		return pe.Err
	}
	return err
}

// system are the names of folders that lie inside of a gateway's own.
var system = []string{"etc", "usr", "var", "opt", "root", "home", "swanctl", "conf.d", "ipsec.d", "strongswan.d", "nftables.d", "network", "netplan", "systemd", "frr", "x509", "x509ca", "certs"}

// folder plans what is in a folder: gateways of its own, or one gateway.
func (l *loader) folder(fsys fs.FS, prefix, name string) {
	entries, err := fs.ReadDir(fsys, ".")
	if err != nil {
		l.problem(strings.TrimSuffix(prefix, "/"), "cannot be read: %v", reason(err))
		return
	}
	var folders, files []string
	inner := false
	for _, e := range entries {
		switch n := e.Name(); {
		case strings.HasPrefix(n, "."):
		case e.IsDir():
			folders = append(folders, n)
			inner = inner || slices.Contains(system, n)
		default:
			files = append(files, n)
		}
	}
	if len(folders) == 0 || inner {
		l.gateway(name, fsys, prefix)
		return
	}
	for _, n := range folders {
		if sub, err := fs.Sub(fsys, n); err == nil {
			l.gateway(n, sub, prefix+n+"/")
		}
	}
	for _, n := range files {
		l.file(fsys, prefix, n)
	}
}

func (l *loader) gateway(name string, fsys fs.FS, prefix string) {
	p := l.plan(name, fsys, prefix)
	err := fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			l.problem(prefix+name, "cannot be read: %v", reason(err))
			if d != nil && d.IsDir() {
				return fs.SkipDir
			}
		case name != "." && strings.HasPrefix(d.Name(), "."):
			if d.IsDir() {
				return fs.SkipDir
			}
		case d.IsDir():
		default:
			p.files = append(p.files, name)
		}
		return nil
	})
	if err != nil {
		l.problem(strings.TrimSuffix(prefix, "/"), "cannot be read: %v", reason(err))
	}
}

// file plans a single file: named after itself, or, where its name says only its format, after its folder. Files of
// one name are files of one gateway.
func (l *loader) file(fsys fs.FS, prefix, name string) {
	gw := strings.TrimSuffix(name, path.Ext(name))
	for _, f := range l.opts.Formats {
		if slices.Contains(f.Hints, name) && prefix != "" {
			gw = path.Base(strings.TrimSuffix(prefix, "/"))
		}
	}
	p := l.plan(gw, fsys, prefix)
	p.files = append(p.files, name)
}

func (l *loader) plan(name string, fsys fs.FS, prefix string) *plan {
	key := name
	for n := 2; ; n++ { // the same name in two folders is two gateways
		p := l.byName[key]
		if p == nil {
			p = &plan{name: key, fsys: fsys, shown: prefix}
			l.byName[key] = p
			return p
		}
		if p.shown == prefix {
			return p
		}
		key = strings.TrimSuffix(prefix, "/") + strings.Repeat("'", n-2)
	}
}

func (l *loader) run(ctx context.Context) (*Estate, error) {
	names := slices.Sorted(maps.Keys(l.byName))
	gateways := make([]*gateway.Gateway, len(names))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, name := range names {
		group.Go(func() error {
			gateways[i] = readGateway(ctx, l.byName[name], l.opts.Formats)
			return ctx.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	e := &Estate{Problems: l.problems, files: map[string]*gateway.File{}}
	for _, g := range gateways {
		e.Problems = append(e.Problems, g.Problems...)
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
	slices.SortStableFunc(e.Problems, func(a, b *source.Error) int { return a.Pos.Compare(b.Pos) })
	e.Tunnels = pair(e)
	return e, nil
}

// readGateway recognises the files of a gateway and has them read, formats in their order.
func readGateway(ctx context.Context, p *plan, formats []*read.Format) *gateway.Gateway {
	g := &gateway.Gateway{Name: source.Clean(p.name)}
	folder := &read.Folder{FS: p.fsys, Prefix: p.shown, MaxBytes: MaxFile, Taken: map[string]bool{}}
	type found struct {
		name    string
		file    *gateway.File
		verdict read.Verdict
	}
	var all []found
	slices.Sort(p.files)
	for _, name := range p.files {
		f, err := folder.Open(name)
		if err != nil {
			g.Problems = append(g.Problems, asProblem(err, p.shown+name))
			continue
		}
		all = append(all, found{name, f, read.Recognise(formats, f.File)})
	}
	// inside of a format outer folders come first, so that what includes comes before what is included
	slices.SortStableFunc(all, func(a, b found) int {
		if o := order(a.verdict) - order(b.verdict); o != 0 {
			return o
		}
		return strings.Count(a.name, "/") - strings.Count(b.name, "/")
	})
	for _, f := range all {
		if folder.Taken[f.name] || ctx.Err() != nil {
			continue
		}
		if f.verdict.Format == nil {
			g.Problems = append(g.Problems, source.Errorf(source.Pos{File: f.file.Path}, "not read: %s", f.verdict.Why))
			continue
		}
		f.file.Format, f.file.Why = f.verdict.Format.Name, f.verdict.Why
		g.Files = append(g.Files, f.file)
		f.verdict.Format.Read(read.NewInput(ctx, g, f.file, folder))
	}
	// what another file includes is read with it, also where that file came later
	g.Problems = slices.DeleteFunc(g.Problems, func(e *source.Error) bool {
		return folder.Taken[strings.TrimPrefix(e.File, p.shown)] && strings.HasPrefix(e.Message, "not read: ")
	})
	finish(g)
	return g
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
func finish(g *gateway.Gateway) {
	for _, c := range g.Chains {
		for i, r := range c.Rules {
			r.Of, r.Index = c, i
		}
	}
	whole := false
	for _, f := range g.Files {
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
