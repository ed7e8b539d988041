package estate

import (
	"io/fs"
	"net/netip"
	"strconv"
	"strings"
	"sync"

	"toril/internal/cache"
	"toril/internal/disk"
	"toril/internal/record"
	"toril/model"
	"toril/source"
)

// stored are the facts of a gateway as a cache keeps them.
type stored struct {
	Name                  string
	Files                 []File
	Addresses             []netip.Addr
	Inside                netip.Addr
	Connections, Unloaded []Connection
	Keys                  int
	Size                  int64
	Problems              []*source.Error
	LeftOut               []model.LeftOut
}

func (f *Facts) stored() stored {
	return stored{f.Name, f.Files, f.Addresses, f.Inside, f.Connections, f.Unloaded, f.Keys, f.size, f.problems, f.leftOut}
}

func (s stored) facts() *Facts {
	return &Facts{
		Name: s.Name, Files: s.Files, Addresses: s.Addresses, Inside: s.Inside,
		Connections: s.Connections, Unloaded: s.Unloaded, Keys: s.Keys,
		size: s.Size, problems: s.Problems, leftOut: s.LeftOut,
	}
}

// Cache is where what is worked out about the estate is kept; nil for nowhere. Of an estate that was read with its sums only the facts are
// kept: what else is worked out is for this state of all of it.
func (e *Estate) Cache() *cache.Cache {
	if e.keeper.opts.Sums {
		return nil
	}
	return e.keeper.opts.Cache
}

// Settings are a digest of what the estate's own files say, and of the program that read them.
func (e *Estate) Settings() cache.Digest {
	s := cache.NewSum("estate")
	s.Bytes(e.keeper.settings[:])
	s.Bytes(e.keeper.opts.Program[:])
	s.Text(strconv.FormatBool(e.keeper.opts.ShowUnread))
	return s.Digest()
}

// Digest is of all that was read of a gateway; ok is false where that is not known, or where its files do not tell it all.
func (f *Facts) Digest() (d cache.Digest, ok bool) { return f.sum, f.sum != cache.Digest{} }

// recall returns the facts of a gateway as they were worked out before, from the same files; nil where they were not.
func (k *keeper) recall(p *plan) *Facts {
	if !k.opts.Sums && k.opts.Cache == nil || len(k.opts.Edited) > 0 {
		return nil
	}
	sum := k.sumOf(p)
	if p.sum = sum; k.opts.Cache == nil {
		return nil
	}
	data, ok := k.opts.Cache.Get(purpose("facts", sum))
	if !ok {
		return nil
	}
	var s stored
	if record.Whole(data, &s) != nil {
		return nil
	}
	f := s.facts()
	f.tight()
	f.plan, f.sum = p, sum
	return f
}

// remember keeps the facts of a gateway that was just read, where its files tell all of it.
func (k *keeper) remember(f *Facts) {
	if k.opts.Cache == nil || len(k.opts.Edited) > 0 || f.plan.hidden {
		return
	}
	if k.sumOf(f.plan) != f.plan.sum { // they changed meanwhile: who knows what was read
		return
	}
	f.sum = f.plan.sum
	k.opts.Cache.Put(purpose("facts", f.sum), record.Append(nil, f.stored()))
}

// purpose tells entries of one digest apart.
func purpose(what string, d cache.Digest) cache.Digest {
	s := cache.NewSum(what)
	s.Bytes(d[:])
	return s.Digest()
}

// rooms are for files of which only a digest is made; one of more bytes than mostRoom is not kept.
var rooms = sync.Pool{New: func() any { return new([]byte) }}

const mostRoom = 256 << 10

// sumOf is the digest of all that a gateway is read from: its files, their names, and the settings.
func (k *keeper) sumOf(p *plan) cache.Digest {
	s := cache.NewSum("gateway")
	s.Bytes(k.settings[:])
	s.Bytes(k.opts.Program[:])
	s.Text(p.name, p.shown, p.within, p.as, strconv.FormatBool(k.opts.ShowUnread), strconv.FormatBool(p.config != nil))
	fsys, done := disk.Hold(p.folder())
	defer done()
	room := rooms.Get().(*[]byte)
	defer rooms.Put(room)
	for _, name := range p.files {
		data, err := disk.ReadInto(*room, fsys, name, MaxFile)
		why := ""
		if err != nil {
			why = err.Error()
		}
		s.Text(name, why)
		s.Bytes(data)
		if cap(data) <= mostRoom {
			*room = data
		}
	}
	for _, l := range p.leftOut {
		s.Text(l.Path, l.Why)
	}
	return s.Digest()
}

// watched is a gateway's file system that notes whether a reader asks for what is not among the gateway's files: what a name with a dot at
// its beginning hides, and the estate's own files.
type watched struct {
	fs.FS
	plan *plan
}

// Open opens a file or a folder.
func (w watched) Open(name string) (fs.File, error) {
	for part := range strings.SplitSeq(name, "/") {
		if part != "." && strings.HasPrefix(part, ".") {
			w.plan.hidden = true
		}
	}
	if name == ConfigName || w.plan.config.own(w.plan.within+name) {
		w.plan.hidden = true
	}
	return w.FS.Open(name)
}
