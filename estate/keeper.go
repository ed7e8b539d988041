package estate

import (
	"cmp"
	"container/list"
	"context"
	"fmt"
	"hash/maphash"
	"slices"
	"strings"
	"sync"

	"toril/internal/cache"
	"toril/model"
	"toril/read"
	"toril/source"
)

// Room is how many bytes of files the gateways may have that are kept in memory beside those in use, where Options do not say: an estate
// that fits is read once. A gateway takes about fifteen times as much memory as its files.
const Room = 16 << 20

// narrow is the room in an estate that does not fit: for the neighbours of those in use, which are asked about next.
const narrow = 1 << 20

// sample is after how many gateways it is told from their sizes whether all will fit, where that is plain.
const sample = 64

// keeper holds gateways that were read: those in use, and as many others as there is room for, the last used.
type keeper struct {
	opts    Options
	formats *formatList
	by      map[*Config]*formatList // of estates with phrasebooks; under mu
	gone    func(*model.Gateway)    // is told of every gateway that is let go

	room     int64
	plans    int64        // how many gateways there are
	large    bool         // the estate does not fit
	settings cache.Digest // of what the estate's own files say

	mu   sync.Mutex
	seen map[string][]taken // those lists, by what they say
	held map[*Facts]*held
	idle list.List // of *held: not in use, the last used first
	size int64     // of those
}

// held is a gateway in memory.
type held struct {
	facts  *Facts
	read   func() (*model.Gateway, error) // by whoever asks first
	users  int
	at     *list.Element // in keeper.idle; nil while it is in use
	always bool          // it cannot be read again
}

func newKeeper(opts Options) *keeper {
	return &keeper{
		opts:    opts,
		room:    cmp.Or(opts.Room, Room),
		seen:    map[string][]taken{},
		held:    map[*Facts]*held{},
		by:      map[*Config]*formatList{},
		formats: formatsOf(opts.Formats, opts.ShowUnread),
	}
}

// Large reports whether there was no room to keep all gateways in memory.
func (e *Estate) Large() bool { return e.keeper.full() }

// full reports whether the estate has turned out not to fit.
func (k *keeper) full() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.large
}

func (k *keeper) read(ctx context.Context, p *plan, part bool) reading {
	r := readGateway(ctx, p, k.formatsOf(p.config), k.opts.Edited, part)
	r.gateway.Day = k.opts.Day
	return r
}

// alike returns what the files of a gateway were taken for: one list for all gateways whose files were taken for the same.
func (k *keeper) alike(files []taken) []taken {
	var key strings.Builder
	for _, t := range files {
		if t.format != nil {
			key.WriteString(t.format.Name)
		}
		fmt.Fprintf(&key, "\x00%s\x00%t\x00", t.why, t.told)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if same, ok := k.seen[key.String()]; ok && slices.Equal(same, files) {
		return same
	}
	k.seen[key.String()] = files
	return files
}

// formatList are the formats that files may be in, and how they are quoted.
type formatList struct {
	*read.Recogniser
	manners map[*read.Format]*source.Manner
}

func formatsOf(all []*read.Format, showUnread bool) *formatList {
	return &formatList{read.NewRecogniser(all), read.Manners(all, showUnread)}
}

// formatsOf are those of an estate: with phrasebooks of its own there are more.
func (k *keeper) formatsOf(c *Config) *formatList {
	all := c.all(k.opts.Formats)
	if len(all) == len(k.opts.Formats) {
		return k.formats
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.by[c] == nil {
		k.by[c] = formatsOf(all, k.opts.ShowUnread)
	}
	return k.by[c]
}

// offer takes in a gateway that was just read, if there is room.
func (k *keeper) offer(f *Facts, g *model.Gateway) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(f.Files) == 0 || k.large {
		return
	}
	size, others := k.size+f.size, int64(len(k.held))
	if size > k.room && others > 0 || others > sample && size/others*k.plans > 2*k.room {
		k.large = true
		if k.room = min(k.room, narrow); k.size > k.room { // what is kept costs time whenever memory is cleared
			k.empty()
		}
		return
	}
	h := &held{facts: f, read: func() (*model.Gateway, error) { return g, nil }}
	h.at = k.idle.PushBack(h)
	k.held[f], k.size = h, k.size+f.size
}

// hold takes in a gateway that cannot be read again.
func (k *keeper) hold(f *Facts, g *model.Gateway) {
	k.held[f] = &held{facts: f, read: func() (*model.Gateway, error) { return g, nil }, always: true}
}

// number gives a gateway that is held the number of its facts.
func (k *keeper) number(f *Facts) {
	if h := k.held[f]; h != nil {
		g, _ := h.read()
		g.Number = f.Number
	}
}

// seed is of one run: prints are compared within it.
var seed = sync.OnceValue(maphash.MakeSeed)

// print tells whether a gateway's files are what they were: those that lie in its folder, and, unless part, those that they include too.
func (r reading) print(part bool) uint64 {
	files := r.found
	if !part {
		files = append(slices.Clip(files), r.gateway.Files...)
	}
	var h maphash.Hash
	h.SetSeed(seed())
	known := make(map[string]bool, len(files))
	for _, f := range files {
		if !known[f.Path] {
			known[f.Path] = true
			h.WriteString(f.Path)
			h.Write(f.Bytes())
		}
	}
	return h.Sum64()
}

// Open returns a gateway, read again where it was let go, until it is closed. The error, after which there is nothing to close, is that its
// files are not what they were, or that the run was cancelled.
func (e *Estate) Open(ctx context.Context, f *Facts) (*model.Gateway, error) {
	k := e.keeper
	k.mu.Lock()
	h := k.held[f]
	if h == nil {
		h = &held{facts: f}
		h.read = sync.OnceValues(func() (*model.Gateway, error) {
			r := k.read(ctx, f.plan, false)
			r.gateway.Number = f.Number
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			if changed := f.print != 0 && r.print(f.part) != f.print || f.print == 0 && k.sumOf(f.plan) != f.sum; changed {
				return nil, source.Errorf(source.Pos{}, "the files of %s changed while they were read: run it again", f.Name)
			}
			if f.part && !f.whole { // nobody asks for these while gateways are opened
				f.problems, f.leftOut, f.whole = r.gateway.Problems, r.gateway.LeftOut, true
				f.Files, _ = filesOf(r.gateway)
				gather(textsOf(f.Files))
			}
			return r.gateway, nil
		})
		k.held[f] = h
	}
	h.users++
	if h.at != nil {
		k.idle.Remove(h.at)
		h.at, k.size = nil, k.size-f.size
	}
	k.mu.Unlock()
	g, err := h.read()
	if err != nil { // whoever asks next tries again
		k.mu.Lock()
		defer k.mu.Unlock()
		if h.users--; h.users == 0 && k.held[f] == h {
			delete(k.held, f)
		}
	}
	return g, err
}

// Close says that a gateway that was opened is not used any more.
func (e *Estate) Close(f *Facts) {
	k := e.keeper
	k.mu.Lock()
	h := k.held[f]
	h.users--
	var gone []*held
	if h.users == 0 && !h.always {
		h.at = k.idle.PushFront(h)
		k.size += f.size
		for k.size > k.room && k.idle.Len() > 1 {
			last := k.idle.Remove(k.idle.Back()).(*held)
			k.size -= last.facts.size
			delete(k.held, last.facts)
			gone = append(gone, last)
		}
	}
	tell := k.gone
	k.mu.Unlock()
	for _, h := range gone {
		if g, _ := h.read(); g != nil && tell != nil {
			tell(g)
		}
	}
}

// WhenGone has a function told of every gateway that is let go, so that what was worked out for it goes too. It is called from any
// goroutine, one function at a time in a run.
func (e *Estate) WhenGone(tell func(*model.Gateway)) {
	e.keeper.mu.Lock()
	defer e.keeper.mu.Unlock()
	e.keeper.gone = tell
}

// little is how many bytes of files of gateways that are not in use are worth no reading again.
const little = 256 << 10

// LetGo lets go of the gateways that are not in use, where they are large: they are read again if anybody asks.
func (e *Estate) LetGo() {
	k := e.keeper
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.size > little {
		k.empty()
	}
}

// empty lets go of all that is not in use.
func (k *keeper) empty() {
	for k.idle.Len() > 0 {
		delete(k.held, k.idle.Remove(k.idle.Back()).(*held).facts)
	}
	k.size = 0
}
