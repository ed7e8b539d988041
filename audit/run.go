package audit

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"toril/baseline"
	"toril/estate"
	"toril/internal/cache"
	"toril/internal/progress"
	"toril/internal/spread"
	"toril/model"
	"toril/negotiate"
	"toril/observe"
	"toril/packet"
	"toril/pair"
	"toril/source"
	"toril/walk"
)

// Result is all that an audit found, in a fixed order: by severity, tunnel, gateway, place, check.
type Result struct {
	Estate    *pair.Estate
	Baseline  *baseline.Baseline
	Findings  []*Finding     // the worst first
	Open      []*Finding     // answers that could not be told, as they rest on something that was not given
	NotGiven  []NotGiven     // what could not be judged, by gateway
	Unsettled []*Unsettled   // what keeps answers from being certain, the worst first
	Tunnels   []*Tunnel      // what becomes of every tunnel, by name
	Now       time.Time      // the day that the audit was asked for
	between   map[string]int // tunnels between the same gateways
	// Failed are questions that Toril failed to answer, which is a fault of its own: what they would have found is not known.
	Failed []*source.Error
	// Undeclared are checks that asked for what they do not require: a slip in their declaration, of no consequence for what was found.
	Undeclared []string
}

// Problems are what could not be read, and what Toril failed to answer.
func (r *Result) Problems() []*source.Error { return slices.Concat(r.Estate.Problems, r.Failed) }

// shared is what the checks of one run have worked out for them once. What is of a gateway is let go with it, or as soon as nobody can
// ask for it any more.
type shared struct {
	paths      sync.Map // *model.Gateway: *made[*walk.Path]
	path       func(*model.Gateway) *walk.Path
	shadows    sync.Map // *model.Chain: *made[[]*walk.Shadow]
	attempts   sync.Map // *pair.Tunnel: *made[[]negotiate.Attempt]
	strengths  sync.Map // [32]byte, the fingerprint of a secret: *made[float64]
	undeclared sync.Map // the names of checks
	counts     *progress.Counts
	others     sync.Once
	ofOthers   []Reason       // see elsewhere
	pending    []atomic.Int32 // work that is about a gateway and was not done yet, by its number
}

// made is a value that is made once.
type made[V any] struct {
	once   sync.Once
	value  V
	failed any // what the making of it panicked with
	ready  atomic.Bool
}

// once returns what a function makes for a key, made by whoever asks first. Where that panics, it does for whoever asks.
func once[K comparable, V any](m *sync.Map, key K, makeIt func(K) V) V {
	held, ok := m.Load(key)
	if !ok {
		held, _ = m.LoadOrStore(key, new(made[V]))
	}
	one := held.(*made[V])
	one.once.Do(func() {
		defer func() { one.failed = recover() }()
		one.value = makeIt(key)
		one.ready.Store(true)
	})
	if one.failed != nil {
		panic(one.failed)
	}
	return one.value
}

// elsewhere are what was not understood of the IKE configurations of all gateways: as many reasons as one answer names.
func (s *shared) elsewhere(e *pair.Estate) []Reason {
	s.others.Do(func() { s.ofOthers = elsewhere(e) })
	return s.ofOthers
}

func elsewhere(e *pair.Estate) (out []Reason) {
	const most = 16
	for _, f := range e.Gateways {
		for _, file := range f.Files {
			for _, u := range file.Unread {
				if !u.Matters || !u.IKE || u.Cause != model.NotRead {
					continue
				}
				if len(out) == most {
					return out
				}
				out = append(out, reasonOf(f.Name, u))
			}
		}
	}
	return out
}

// attemptsOf predicts what comes of either end's setting a tunnel up, once.
func (s *shared) attemptsOf(t *pair.Tunnel) []negotiate.Attempt {
	return once(&s.attempts, t, negotiate.Tunnel)
}

// forget lets go what was worked out for a gateway.
func (s *shared) forget(g *model.Gateway) {
	s.paths.Delete(g)
	for _, c := range g.Chains {
		s.shadows.Delete(c)
	}
}

// release lets go of what the checks of a tunnel worked out for it alone.
func (s *shared) release(w *work) {
	if w.tunnel == nil {
		return
	}
	for _, end := range w.tunnel.Ends {
		held, ok := s.paths.Load(end.Gateway)
		if !ok || !held.(*made[*walk.Path]).ready.Load() {
			continue
		}
		path := held.(*made[*walk.Path]).value
		for _, child := range end.Connection.Children {
			if pol := path.Policy(child, w.tunnel.Own(end), w.tunnel.Peer(end)); pol != nil {
				pol.Release()
			}
		}
	}
}

// work is the checks of one subject: a gateway, or a tunnel with its ends and their children, or the estate.
type work struct {
	facts  *estate.Facts
	match  *pair.Match
	place  int          // of the gateway among gateways, of the tunnel among tunnels
	digest cache.Digest // of all that it may look at, where a cache is used

	once   sync.Once    // for what is opened
	left   atomic.Int32 // parts of the checks that were not asked yet
	*doing              // nil before it is begun, and once what came of it was put down
	put    []byte       // what came of it, put down; see append
}

// doing is work under way, and what came of it.
type doing struct {
	gateway *model.Gateway
	tunnel  *pair.Tunnel
	err     error

	notGiven []NotGiven
	state    *Tunnel

	mu     sync.Mutex
	failed []*source.Error
	found  []answer
	kept   []kept
}

// answer is a finding of one of the checks that were asked.
type answer struct {
	check int
	*Finding
}

// kept is what one of the checks saved for its Estate function.
type kept struct {
	check int
	what  any
}

// jobs lists the work on gateways and tunnels. Gateways that share a tunnel come near each other, each tunnel behind the later of its
// gateways, so that few gateways are in memory at a time and few are read again.
func jobs(e *pair.Estate) []*work {
	all := make([]work, len(e.Gateways)+len(e.Matches))
	out := make([]*work, 0, len(all))
	add := func() *work {
		out = append(out, &all[len(out)])
		return out[len(out)-1]
	}
	reached, done := make([]bool, len(e.Gateways)), make([]bool, len(e.Matches))
	for _, first := range e.Gateways {
		for next := []*estate.Facts{first}; len(next) > 0; {
			at := next[len(next)-1]
			next = next[:len(next)-1]
			if reached[at.Number] {
				continue
			}
			reached[at.Number] = true
			w := add()
			w.facts, w.place = at, at.Number
			for _, m := range slices.Backward(e.MatchesAbout(at)) {
				open := false // some gateway of it comes later
				for _, f := range m.Gateways() {
					if !reached[f.Number] {
						next, open = append(next, f), true
					}
				}
				if !open && !done[m.Number] {
					done[m.Number] = true
					w := add()
					w.match, w.place = m, m.Number
				}
			}
		}
	}
	return out
}

// Run asks every check, as of a day. The findings do not depend on the number of processors.
func Run(ctx context.Context, e *pair.Estate, checks []*Check, b *baseline.Baseline, now time.Time) (*Result, error) {
	r := newRun(ctx, e, checks, b, now)
	todo := jobs(e)
	if err := r.work(todo); err != nil {
		return nil, err
	}
	e.Complete()
	return r.finish(todo)
}

// run is an audit under way.
type run struct {
	ctx      context.Context
	e        *pair.Estate
	checks   []*Check
	baseline *baseline.Baseline
	now      time.Time
	shared   *shared
}

func newRun(ctx context.Context, e *pair.Estate, checks []*Check, b *baseline.Baseline, now time.Time) *run {
	path := func(g *model.Gateway) *walk.Path { return walk.NewPath(g, e.Ends(g), walk.Options{}) }
	return &run{
		ctx,
		e,
		checks,
		b,
		now,
		&shared{path: path, pending: make([]atomic.Int32, len(e.Gateways)), counts: progress.Of(ctx)},
	}
}

// pass is a check of the run about to be asked.
func (r *run) pass(ctx context.Context, w *work) *Pass {
	return &Pass{Context: ctx, Estate: r.e, Baseline: r.baseline, Now: r.now, shared: r.shared, work: w}
}

// work asks every check about subjects, or finds what came of asking before.
func (r *run) work(todo []*work) error {
	ctx, e, checks, all := r.ctx, r.e, r.checks, r.shared
	e.WhenGone(all.forget)
	defer e.WhenGone(nil)
	all.counts.WorkOf.Store(int64(len(todo)))
	all.counts.Tunnels.Store(int64(len(e.Matches)))
	parts := partsOf(len(checks), len(todo))
	before, open := newStore(e, checks, r.baseline, r.now), todo
	if before != nil {
		known := make([]bool, len(todo))
		if err := spread.Each(ctx, len(todo), func(_ context.Context, i int) error {
			known[i] = before.recall(todo[i])
			return nil
		}); err != nil {
			return err
		}
		open = nil
		for i, w := range todo {
			if !known[i] {
				open = append(open, w)
				continue
			}
			all.counts.Work.Add(1)
			all.counts.Findings.Add(int64(len(w.found)))
		}
	}
	for _, w := range open {
		for _, f := range w.about() {
			all.pending[f.Number].Add(1)
		}
	}
	for _, w := range open {
		w.left.Store(int32(len(parts)))
	}
	err := spread.Each(ctx, len(open)*len(parts), func(ctx context.Context, i int) error {
		w, part := open[i/len(parts)], parts[i%len(parts)]
		defer w.close(r)
		if w.open(ctx, e, all); w.err != nil {
			return w.err
		}
		r.pass(ctx, w).ask(checks, part)
		return ctx.Err()
	})
	if err != nil {
		return err
	}
	for _, w := range open {
		before.remember(w)
	}
	return nil
}

// finish asks the checks about the estate as a whole, and gathers what was found of all its subjects.
func (r *run) finish(todo []*work) (*Result, error) {
	spread.InShares(len(todo), 64, func(i int) { todo[i].takeUp(r.checks) })
	last := &work{doing: &doing{}}
	p := r.pass(r.ctx, last)
	p.last(todo, r.checks)
	if err := r.ctx.Err(); err != nil {
		return nil, err
	}
	return p.result(append([]*work{last}, todo...), r.checks), nil
}

// last puts the work in order and asks the checks about the estate as a whole.
func (p *Pass) last(todo []*work, checks []*Check) {
	slices.SortFunc(todo, func(a, b *work) int { // gateways, then tunnels, each in their order
		if (a.match == nil) != (b.match == nil) {
			return map[bool]int{true: -1, false: 1}[a.match == nil]
		}
		return cmp.Compare(a.place, b.place)
	})
	p.kept = make([][]any, len(checks))
	for _, w := range todo {
		for _, k := range w.kept {
			p.kept[k.check] = append(p.kept[k.check], k.what)
		}
		w.kept = nil
	}
	p.ask(checks, [2]int{0, len(checks)})
}

// result gathers what was found: in order, without what is accepted, each cause once, with what becomes of every tunnel.
func (p *Pass) result(done []*work, checks []*Check) *Result {
	p.Estate.LetGo() // what was found may take as much memory
	r := &Result{Estate: p.Estate, Baseline: p.Baseline, Now: p.Now}
	for _, w := range done {
		r.NotGiven = append(r.NotGiven, w.notGiven...)
		if w.state != nil {
			r.Tunnels = append(r.Tunnels, w.state)
		}
		r.Failed = append(r.Failed, w.failed...)
	}
	r.doubtFailed(done)
	r.gather(done, len(checks))
	r.accept(p, checks)
	r.fold(checks)
	r.states()
	r.unsettled()
	for _, c := range checks {
		if _, slip := p.shared.undeclared.Load(c.Name); slip {
			r.Undeclared = append(r.Undeclared, c.Name)
		}
	}
	return r
}

// doubtFailed leaves open what becomes of the tunnels of which, or of whose gateways, a question failed.
func (r *Result) doubtFailed(done []*work) {
	failed := map[*estate.Facts]bool{}
	for _, w := range done {
		if len(w.failed) > 0 && w.facts != nil {
			failed[w.facts] = true
		}
		if len(w.failed) > 0 && w.state != nil {
			w.state.failed = true
		}
	}
	for _, t := range r.Tunnels {
		t.failed = t.failed || slices.ContainsFunc(t.Match.Gateways(), func(f *estate.Facts) bool { return failed[f] })
	}
}

// about are the gateways that the work is about, each once.
func (w *work) about() []*estate.Facts {
	if w.match != nil {
		return w.match.Gateways()
	}
	return []*estate.Facts{w.facts}
}

// open opens what the work is about, once.
func (w *work) open(ctx context.Context, e *pair.Estate, all *shared) {
	w.once.Do(func() {
		w.doing = &doing{}
		if w.match != nil {
			if w.tunnel, w.err = e.OpenTunnel(ctx, w.match); w.err == nil {
				w.state = &Tunnel{Match: w.match, failed: true}
				at := w.tunnel.Ends[0].Connection.At
				w.guard(
					at,
					"the prediction of "+w.tunnel.Name,
					func() { w.state = stateOf(w.match, w.tunnel, all.attemptsOf(w.tunnel)) },
				)
			}
			return
		}
		if w.gateway, w.err = e.Open(ctx, w.facts); w.err == nil {
			if n, ok := absences(e, w.gateway); ok {
				w.notGiven = append(w.notGiven, n)
			}
		}
	})
}

// guard does a step of the work. One that fails is a fault of Toril's own: it is noted, and the rest goes on.
func (w *work) guard(at source.Pos, what string, step func()) {
	defer func() {
		if r := recover(); r != nil {
			w.mu.Lock()
			defer w.mu.Unlock()
			w.failed = append(
				w.failed,
				source.Errorf(at, "%s failed, which is a fault of Toril's: what it would have said is not known", what),
			)
		}
	}()
	step()
}

// close notes that a part of the checks was asked; after the last one the work's gateways are let go, and of a large estate what came of
// it is encoded as one slice of bytes, in which the garbage collector has nothing to look at.
func (w *work) close(r *run) {
	if w.left.Add(-1) > 0 || w.err != nil {
		return
	}
	e, all := r.e, r.shared
	all.counts.Work.Add(1)
	all.release(w)
	for _, g := range w.gateways() {
		if all.pending[g.Number].Add(-1) == 0 {
			all.forget(g)
		}
	}
	if w.tunnel != nil {
		all.attempts.Delete(w.tunnel)
		e.CloseTunnel(w.match)
	} else {
		e.Close(w.facts)
	}
	w.tunnel, w.gateway = nil, nil
	if e.Large() {
		room := rooms.Get().(*[]byte)
		*room = w.append((*room)[:0], r.checks)
		w.put, w.doing = slices.Clone(*room), nil
		rooms.Put(room)
	}
}

// rooms are for what came of work, before it is put down in as many bytes as it takes.
var rooms = sync.Pool{New: func() any { return new([]byte) }}

// takeUp takes up what was put down.
func (w *work) takeUp(checks []*Check) {
	if w.put != nil {
		if _, err := w.read(w.put, checks); err != nil {
			panic(err) // it was written by this run
		}
		w.put = nil
	}
}

// partsOf divides checks, by their numbers, into parts that are asked side by side: all in one where there is much work, so that what they
// share is soon let go; else one by one, so that a single gateway keeps every processor busy.
func partsOf(checks, work int) [][2]int {
	size := max(1, checks)
	if work < 8*runtime.GOMAXPROCS(0) {
		size = 1
	}
	out := [][2]int{{0, min(checks, size)}}
	for from := size; from < checks; from += size {
		out = append(out, [2]int{from, min(checks, from+size)})
	}
	return out
}

// ask asks checks about the subject of the work, from one number up to another.
func (p *Pass) ask(checks []*Check, part [2]int) {
	w := p.work
	ends := p.subjects(w.tunnel)
	for i := part[0]; i < part[1]; i++ {
		p.Check, p.number = checks[i], i
		p.run(w, ends)
		p.quote()
		w.mu.Lock()
		for _, f := range p.found {
			w.found = append(w.found, answer{i, f})
			p.shared.counts.Findings.Add(1)
		}
		w.mu.Unlock()
		p.found = p.found[:0]
	}
}

// Keep puts something down for the check's Estate function, which is asked when everything else has been. It must hold nothing of the
// gateway's: that is let go.
func (p *Pass) Keep(what any) {
	p.work.mu.Lock()
	defer p.work.mu.Unlock()
	p.work.kept = append(p.work.kept, kept{p.number, what})
}

// Kept returns what the check has put down, in the order of the gateways, then of the tunnels. It is for Estate functions.
func (p *Pass) Kept() []any { return p.kept[p.number] }

// gather puts the findings in order: those of each check in the order of the work, those that say the same merged, then all by severity.
func (r *Result) gather(done []*work, checks int) {
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
	all := make([]*Finding, 0, total)
	for i := range of {
		all, of[i] = append(all, of[i]...), nil
	}
	identify(all)
	r.Open, all = apart(all)
	r.take(all)
}

// apart divides findings into those that rest on something that was not given, and the others.
func apart(all []*Finding) (open, told []*Finding) {
	if !slices.ContainsFunc(all, (*Finding).Open) {
		return nil, all
	}
	for _, f := range all {
		if f.Open() {
			open = append(open, f)
		} else {
			told = append(told, f)
		}
	}
	inOrder(open)
	return open, told
}

// take takes findings in order.
func (r *Result) take(all []*Finding) {
	inOrder(all)
	r.Findings = all
}

func inOrder(all []*Finding) {
	slices.SortStableFunc(all, func(a, b *Finding) int {
		if n := cmp.Or(cmp.Compare(b.Severity, a.Severity), cmp.Compare(a.Tunnel, b.Tunnel), cmp.Compare(a.Gateway, b.Gateway)); n != 0 {
			return n
		}
		if n := a.At.Pos.Compare(b.At.Pos); n != 0 {
			return n
		}
		return cmp.Or(cmp.Compare(a.Check, b.Check), cmp.Compare(a.Child, b.Child), cmp.Compare(a.Message, b.Message))
	})
}

// share is how many findings one processor takes at a time.
const share = 1024

// identify gives every finding its identity. Findings of one check about one subject that are about the same in every word are told apart
// by their order.
func identify(all []*Finding) {
	ids := make([][8]byte, len(all))
	spread.InShares(len(all), share, func(i int) { ids[i] = all[i].identity(1) })
	seen := make(map[[8]byte]int, len(all))
	for i, f := range all {
		first := ids[i]
		if seen[first]++; seen[first] > 1 {
			ids[i] = f.identity(seen[first])
		}
	}
	spread.InShares(len(all), share, func(i int) { all[i].ID = hex.EncodeToString(ids[i][:]) })
}

// identity returns the identity of the finding as the nth of its kind.
func (f *Finding) identity(n int) [8]byte {
	about := f.About
	if about == "" && f.Connection == "" {
		about = f.At.Text
	}
	room := make([]byte, 0, 256) // mostly enough
	for _, part := range [...]string{f.Check, cmp.Or(f.Gateway, f.Tunnel), f.Connection, f.Child, about} {
		room = append(append(room, part...), 0)
	}
	room = strconv.AppendInt(room, int64(n), 10)
	sum := sha256.Sum256(room)
	return [8]byte(sum[:8])
}

// subjects are the ends of a tunnel, each with the baseline that holds for it.
func (p *Pass) subjects(t *pair.Tunnel) []Subject {
	if t == nil {
		return nil
	}
	var out []Subject
	for _, end := range t.Ends {
		s := Subject{End: end, Tunnel: t, Baseline: p.BaselineFor(t, end)}
		if len(t.Ends) == 1 {
			s.elsewhere = p.Elsewhere(end.Gateway)
		}
		if end.Gateway.Observed.Given() {
			s.seen = sync.OnceValue(func() observe.End { return observe.Of(t, end) })
		}
		out = append(out, s)
	}
	if len(out) == 2 {
		out[0].far, out[1].far = out[1].seen, out[0].seen
	}
	for i := range out {
		children := make([]Subject, len(out[i].Connection.Children))
		for k, child := range out[i].Connection.Children {
			children[k] = out[i]
			children[k].Child = child
		}
		out[i].children = children
	}
	return out
}

// run asks one check about the subject of some work.
func (p *Pass) run(w *work, ends []Subject) {
	c := p.Check
	switch {
	case w.gateway != nil:
		if c.Gateway != nil {
			p.guarded(func() Finding { return Finding{Gateway: w.gateway.Name} }, func() { c.Gateway(p, w.gateway) })
		}
	case w.tunnel != nil:
		p.tunnel(w.tunnel, ends)
	case w.facts == nil && w.match == nil && c.Estate != nil:
		p.guarded(func() Finding { return Finding{} }, func() { c.Estate(p) })
	}
}

// tunnel asks one check about a tunnel, its ends and their children.
func (p *Pass) tunnel(t *pair.Tunnel, ends []Subject) {
	c := p.Check
	if c.Tunnel != nil {
		at := func() Finding {
			return Finding{Tunnel: t.Name, Gateway: t.Ends[0].Gateway.Name, At: Evidence{Pos: t.Ends[0].Connection.At}}
		}
		p.guarded(at, func() { c.Tunnel(p, t) })
	}
	if c.Connection == nil && c.Child == nil {
		return
	}
	for i := range ends {
		s := &ends[i]
		end := s.End
		at := func() Finding {
			return Finding{
				Tunnel:     t.Name,
				Gateway:    end.Gateway.Name,
				Connection: end.Connection.Name,
				At:         Evidence{Pos: end.Connection.At},
			}
		}
		if c.Connection != nil {
			p.guarded(at, func() { c.Connection(p, s) })
		}
		if c.Child == nil {
			continue
		}
		for k := range s.children {
			p.guarded(at, func() { c.Child(p, &s.children[k]) })
		}
	}
}

// guarded runs one question; where its packet sets become too complex, it is one that could not be answered.
func (p *Pass) guarded(about func() Finding, ask func()) {
	if p.Context.Err() != nil {
		return
	}
	var err error
	where := about()
	name := cmp.Or(where.Tunnel, where.Gateway)
	p.work.guard(where.At.Pos, "the check "+p.Check.Name+" of "+cmp.Or(name, "the estate"), func() { err = packet.Guard(ask) })
	if err != nil {
		where.undecided = true
		where.Reasons = []Reason{{Cause: model.Undecided, Gateway: where.Gateway, Why: err.Error()}}
		where.Message = "this was not decided: " + err.Error()
		p.Report(where)
	}
}

// merge makes one finding of those that say the same at one line: a section that several connections inherit, or a
// connection that is an end of several tunnels.
func merge(in []*Finding) []*Finding {
	type key struct {
		pos          source.Pos
		message, fix string
	}
	apart := 1 // as many as stand each behind the one before it
	for apart < len(in) && in[apart].At.Pos.Compare(in[apart-1].At.Pos) > 0 {
		apart++
	}
	if apart >= len(in) { // none is at the place of another
		return in
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
		if f.Possible() != out[i].Possible() { // what is certain of one of them is certain
			out[i].Unsure, out[i].Reasons = "", nil
		}
	}
	return out
}
