package audit

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"toril/baseline"
	"toril/estate"
	"toril/model"
	"toril/packet"
	"toril/source"
)

// Result is all that an audit found, in a fixed order: by severity, tunnel, gateway, place, check.
type Result struct {
	Estate   *estate.Estate
	Baseline *baseline.Baseline
	Findings []Finding
	NotGiven []NotGiven // what could not be judged, by gateway
	// Undeclared are checks that asked for what they do not require: a slip in their declaration, of no consequence for what was found.
	Undeclared []string
}

// shared is what the checks of one run have worked out for them once. It is let go as soon as nobody can ask for it any more.
type shared struct {
	paths      sync.Map                         // *model.Gateway: func() *walk.Path
	shadows    sync.Map                         // *model.Chain: func() []walk.Shadow
	attempts   sync.Map                         // *estate.Tunnel: func() []negotiate.Attempt
	undeclared sync.Map                         // the names of checks
	pending    map[*model.Gateway]*atomic.Int32 // questions about a gateway, or a tunnel of it, that were not asked yet
}

// once returns what a function makes for a key, made by whoever asks first.
func once[K comparable, V any](m *sync.Map, key K, make func() V) V {
	made, ok := m.Load(key)
	if !ok {
		made, _ = m.LoadOrStore(key, sync.OnceValue(make))
	}
	return made.(func() V)()
}

// asked notes that one of the questions about a gateway was answered.
func (s *shared) asked(g *model.Gateway) {
	if s.pending[g].Add(-1) > 0 {
		return
	}
	s.paths.Delete(g)
	for _, c := range g.Chains {
		s.shadows.Delete(c)
	}
}

// work is the checks of one subject: the estate, a gateway, or a tunnel with its ends and their children.
type work struct {
	gateway *model.Gateway
	tunnel  *estate.Tunnel
	mu      sync.Mutex
	found   []answer
}

// answer is a finding of one of the checks that were asked.
type answer struct {
	check int
	*Finding
}

// jobs lists all work, each tunnel behind the later one of its gateways, so that what was worked out for them is let go soon.
func jobs(e *estate.Estate) []*work {
	place := map[*model.Gateway]int{}
	for i, g := range e.Gateways {
		place[g] = i
	}
	behind := make([][]*work, len(e.Gateways))
	for _, t := range e.Tunnels {
		last := 0
		for _, end := range t.Ends {
			last = max(last, place[end.Gateway])
		}
		behind[last] = append(behind[last], &work{tunnel: t})
	}
	out := []*work{{}}
	for i, g := range e.Gateways {
		out = append(append(out, &work{gateway: g}), behind[i]...)
	}
	return out
}

// Run asks every check, as of a day. The findings do not depend on the number of processors.
func Run(ctx context.Context, e *estate.Estate, checks []*Check, b *baseline.Baseline, now time.Time) (*Result, error) {
	all, todo := &shared{pending: map[*model.Gateway]*atomic.Int32{}}, jobs(e)
	for _, g := range e.Gateways {
		all.pending[g] = &atomic.Int32{}
	}
	parts := partsOf(len(checks), len(todo))
	for _, w := range todo {
		for _, g := range w.gateways() {
			all.pending[g].Add(int32(len(parts)))
		}
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for _, w := range todo {
		left := &atomic.Int32{}
		left.Store(int32(len(parts)))
		for _, part := range parts {
			group.Go(func() error {
				p := &Pass{Context: ctx, Estate: e, Baseline: b, Now: now, shared: all}
				p.ask(w, checks, part)
				for _, g := range w.gateways() {
					all.asked(g)
				}
				if left.Add(-1) == 0 && w.tunnel != nil {
					all.attempts.Delete(w.tunnel)
				}
				return ctx.Err()
			})
		}
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	r := &Result{Estate: e, Baseline: b, NotGiven: Absences(e)}
	r.gather(todo, len(checks))
	for _, c := range checks {
		if _, slip := all.undeclared.Load(c.Name); slip {
			r.Undeclared = append(r.Undeclared, c.Name)
		}
	}
	return r, nil
}

// partsOf divides checks, by their numbers, into parts that are asked side by side: all in one where there is much work, so that what they
// share is soon let go; else one by one, so that a single gateway keeps every processor busy.
func partsOf(checks, work int) [][2]int {
	size := max(1, checks)
	if work < 8*runtime.GOMAXPROCS(0) {
		size = 1
	}
	var out [][2]int
	for from := 0; from < checks; from += size {
		out = append(out, [2]int{from, min(checks, from+size)})
	}
	return out
}

// ask asks checks about the subject of some work, from one number up to another.
func (p *Pass) ask(w *work, checks []*Check, part [2]int) {
	ends := p.subjects(w.tunnel)
	for i := part[0]; i < part[1]; i++ {
		p.Check = checks[i]
		p.run(w, ends)
		w.mu.Lock()
		for _, f := range p.found {
			w.found = append(w.found, answer{i, f})
		}
		w.mu.Unlock()
		p.found = p.found[:0]
	}
}

// gateways are those that work may ask about.
func (w *work) gateways() []*model.Gateway {
	if w.gateway != nil {
		return []*model.Gateway{w.gateway}
	}
	var out []*model.Gateway
	if w.tunnel != nil {
		for _, end := range w.tunnel.Ends {
			if !slices.Contains(out, end.Gateway) {
				out = append(out, end.Gateway)
			}
		}
	}
	return out
}

// gather puts the findings in order: those of each check in the estate's order, those that say the same merged, then all by severity.
func (r *Result) gather(done []*work, checks int) {
	place := map[*estate.Tunnel]int{}
	for i, t := range r.Estate.Tunnels {
		place[t] = i
	}
	slices.SortStableFunc(done, func(a, b *work) int { // the estate, its gateways, its tunnels
		switch {
		case (a.tunnel == nil) != (b.tunnel == nil):
			return map[bool]int{true: -1, false: 1}[a.tunnel == nil]
		case a.tunnel == nil:
			return 0
		}
		return cmp.Compare(place[a.tunnel], place[b.tunnel])
	})
	of, total := make([][]*Finding, checks), 0
	for _, w := range done {
		for _, a := range w.found {
			of[a.check] = append(of[a.check], a.Finding)
		}
		w.found = nil
	}
	for i := range of {
		of[i] = merge(of[i])
		total += len(of[i])
	}
	r.Findings = make([]Finding, 0, total)
	for i := range of {
		for _, f := range of[i] {
			r.Findings = append(r.Findings, *f)
		}
		of[i] = nil
	}
	r.identify()
	slices.SortStableFunc(r.Findings, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(b.Severity, a.Severity), cmp.Compare(a.Tunnel, b.Tunnel), cmp.Compare(a.Gateway, b.Gateway),
			a.At.Pos.Compare(b.At.Pos), cmp.Compare(a.Check, b.Check), cmp.Compare(a.Child, b.Child), cmp.Compare(a.Message, b.Message))
	})
}

// identify gives every finding its identity. Findings of one check about one subject that are about the same in every word are told apart
// by their order.
func (r *Result) identify() {
	seen := map[string]int{}
	for i := range r.Findings {
		f := &r.Findings[i]
		about := f.About
		if about == "" && f.Connection == "" {
			about = f.At.Text
		}
		subject := f.Gateway
		if subject == "" {
			subject = f.Tunnel
		}
		id := strings.Join([]string{f.Check, subject, f.Connection, f.Child, about}, "\x00")
		seen[id]++
		sum := sha256.Sum256(fmt.Appendf(nil, "%s\x00%d", id, seen[id]))
		f.ID = hex.EncodeToString(sum[:8])
	}
}

// subjects are the ends of a tunnel, each with the baseline that holds for it.
func (p *Pass) subjects(t *estate.Tunnel) []Subject {
	if t == nil {
		return nil
	}
	var out []Subject
	for _, end := range t.Ends {
		out = append(out, Subject{End: end, Tunnel: t, Baseline: p.BaselineFor(t, end)})
	}
	return out
}

// run asks one check about the subject of some work.
func (p *Pass) run(w *work, ends []Subject) {
	c := p.Check
	switch {
	case w.gateway != nil:
		if c.Gateway != nil {
			p.guarded(Finding{Gateway: w.gateway.Name}, func() { c.Gateway(p, w.gateway) })
		}
	case w.tunnel != nil:
		p.tunnel(w.tunnel, ends)
	case c.Estate != nil:
		p.guarded(Finding{}, func() { c.Estate(p) })
	}
}

// tunnel asks one check about a tunnel, its ends and their children.
func (p *Pass) tunnel(t *estate.Tunnel, ends []Subject) {
	c := p.Check
	if c.Tunnel != nil {
		p.guarded(
			Finding{Tunnel: t.Name, Gateway: t.Ends[0].Gateway.Name, At: Evidence{Pos: t.Ends[0].Connection.At}},
			func() { c.Tunnel(p, t) },
		)
	}
	if c.Connection == nil && c.Child == nil {
		return
	}
	for _, s := range ends {
		end := s.End
		at := Finding{Tunnel: t.Name, Gateway: end.Gateway.Name, Connection: end.Connection.Name, At: Evidence{Pos: end.Connection.At}}
		if c.Connection != nil {
			p.guarded(at, func() { c.Connection(p, &s) })
		}
		if c.Child == nil {
			continue
		}
		for _, child := range end.Connection.Children {
			one := s
			one.Child = child
			p.guarded(at, func() { c.Child(p, &one) })
		}
	}
}

// guarded runs one question; where its packet sets become too complex, that is the answer.
func (p *Pass) guarded(at Finding, ask func()) {
	if p.Context.Err() != nil {
		return
	}
	if err := packet.Guard(ask); err != nil {
		at.Unsure = err.Error()
		at.Message = "this was not decided: " + err.Error()
		at.Why = "The result is left open instead of guessed; other checks are not affected."
		at.Fix = "Ask about a part of the rules, or look at the rules by hand."
		p.Report(at)
	}
}

// merge makes one finding of those that say the same at one line: a section that several connections inherit, or a
// connection that is an end of several tunnels.
func merge(in []*Finding) []*Finding {
	type key struct {
		pos          source.Pos
		message, fix string
	}
	index := make(map[key]int, len(in))
	out := in[:0] // what is kept never comes before what is read
	for _, f := range in {
		k := key{f.At.Pos.Place(), f.Message, f.Fix}
		i, seen := index[k]
		if !seen || f.At.Pos.IsZero() {
			index[k] = len(out)
			out = append(out, f)
			continue
		}
		if out[i].Example == "" {
			out[i].Example = f.Example
		}
		name := f.Connection
		if f.Child != "" {
			name += "/" + f.Child
		}
		if name == "" {
			name = f.Tunnel
		}
		if !slices.Contains(out[i].AlsoIn, name) {
			out[i].AlsoIn = append(out[i].AlsoIn, name)
		}
		out[i].Severity = max(out[i].Severity, f.Severity)
	}
	return out
}
