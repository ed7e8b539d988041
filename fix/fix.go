// Package fix writes edits that make findings go away, and proves each before it is shown: the edited text is read again and audited; the
// finding is gone, no other has come, no tunnel is worse off, and nothing that is negotiated is weaker.
package fix

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"toril/audit"
	"toril/baseline"
	"toril/model"
	"toril/negotiate"
	"toril/pair"
	"toril/source"
)

// Edit replaces bytes of a file, as it stands before the change that the edit is a part of.
type Edit struct {
	File string // its shown path
	source.Range
	Text string
}

// Change is one way to fix a finding: edits of one gateway, or of both ends of a tunnel.
type Change struct {
	Edits []Edit
	Says  string // what it does: "proposals without 3DES on both ends"
}

// Fix is what becomes of one finding.
type Fix struct {
	Finding audit.Finding
	Says    string
	Files   []Patch
	Gone    []*audit.Finding // further findings that go with it
	Tunnel  string           // the name of the finding's tunnel; "" for none
	Before  string           // what becomes of that without the fix, and with it
	After   string
	Order   string // in which order the two ends are changed; "" where one is
	Why     string // why there is no fix; "" where there is one

	with bool // it is gone with another\'s fix, which Why says
}

// Stays reports whether the finding is there after all fixes.
func (f *Fix) Stays() bool { return f.Why != "" && !f.with }

// Patch is one edited file.
type Patch struct {
	Gateway string
	File    string
	Diff    string // unified, against the file as the fixes before this one leave it
}

// Estate loads the estate with some files edited: their content by their shown paths.
type Estate func(ctx context.Context, edited map[string][]byte, only []string) (*pair.Estate, error)

// Session fixes one finding after the other: each is judged on what the ones before have made of the files.
type Session struct {
	Load     Estate
	Checks   []*audit.Check
	Baseline *baseline.Baseline
	Now      time.Time
	Edited   map[string][]byte // files as they stand now, by their shown paths
	Original map[string][]byte // as they were given

	now  *state
	near map[string]*state // as it stands, of some gateways only
}

// state is the estate as it stands.
type state struct {
	whole  *pair.Whole
	result *audit.Result
}

// Wanted chooses findings.
type Wanted func(*audit.Finding) bool

// Run fixes what is wanted, the worst first. The fixes of earlier findings stay in Session.Edited.
func (s *Session) Run(ctx context.Context, wanted Wanted) ([]*Fix, error) {
	s.Edited, s.Original = map[string][]byte{}, map[string][]byte{}
	if err := s.read(ctx); err != nil {
		return nil, err
	}
	first := s.now.result
	gone := map[string]string{} // by ID: the finding that it went with
	var out []*Fix
	for _, c := range first.Causes() {
		if !wanted(c.Finding) {
			continue
		}
		f := &Fix{Finding: *c.Finding, Tunnel: c.Tunnel}
		out = append(out, f)
		if with, is := gone[c.ID]; is {
			f.Why, f.with = "gone with the fix of "+with, true
			continue
		}
		if slices.ContainsFunc(c.Reasons, func(r audit.Reason) bool { return r.Cause == model.NotRead }) { // it may be none
			f.Why = "it is possible and not certain: " + c.Unsure
			continue
		}
		if err := s.guarded(ctx, f); err != nil {
			return nil, err
		}
		for _, g := range f.Gone {
			gone[g.ID] = f.Finding.Check + " " + f.Finding.ID[:8]
		}
	}
	return out, ctx.Err()
}

// read loads and audits the estate as it stands.
func (s *Session) read(ctx context.Context) error {
	r, w, err := s.audited(ctx, s.Edited, nil)
	s.now, s.near = &state{w, r}, map[string]*state{}
	return err
}

// standing audits some gateways as they stand.
func (s *Session) standing(ctx context.Context, near []string) (*state, error) {
	key := strings.Join(near, "\n")
	if s.near[key] == nil {
		r, w, err := s.audited(ctx, s.Edited, near)
		if err != nil {
			return nil, err
		}
		s.near[key] = &state{w, r}
	}
	return s.near[key], nil
}

func (s *Session) audited(ctx context.Context, edited map[string][]byte, only []string) (*audit.Result, *pair.Whole, error) {
	e, err := s.Load(ctx, edited, only)
	if err != nil {
		return nil, nil, err
	}
	r, err := audit.Run(ctx, e, s.Checks, s.Baseline, s.Now)
	if err != nil {
		return nil, nil, err
	}
	w, err := e.Whole(ctx)
	return r, w, err
}

// guarded looks for a fix. Where that fails, which is a fault of Toril's, the finding stays, and the rest goes on.
func (s *Session) guarded(ctx context.Context, f *Fix) (err error) {
	edited, now, near := s.Edited, s.now, s.near
	defer func() {
		if r := recover(); r != nil {
			s.Edited, s.now, s.near = edited, now, near
			*f = Fix{Finding: f.Finding, Tunnel: f.Tunnel, Why: "toril failed on this one, which is a fault of its own"}
			err = nil
		}
	}()
	return s.fix(ctx, f)
}

// fix looks for a change that proves itself.
func (s *Session) fix(ctx context.Context, f *Fix) error {
	i := slices.IndexFunc(s.now.result.Findings, func(x *audit.Finding) bool { return x.ID == f.Finding.ID })
	if i < 0 {
		f.Why, f.with = "gone with the fixes before it", true
		return nil
	}
	c := s.caseOf(s.now.result.Findings[i]) // earlier fixes moved its lines
	changes, why := ways(c)
	if len(changes) == 0 {
		f.Why = why
		return nil
	}
	near := s.nearby(c)
	at, err := s.standing(ctx, near)
	if err != nil {
		return err
	}
	before, was := at.result, at.whole
	reason := ""
	for _, change := range changes {
		edited, err := s.apply(change.Edits)
		if err != nil {
			reason = cmp.Or(reason, err.Error())
			continue
		}
		after, is, err := s.audited(ctx, edited, near)
		if err != nil {
			return err
		}
		if wrong := compare(f.Finding.ID, before, after, was, is); wrong != "" {
			reason = cmp.Or(reason, "tried "+change.Says+": "+wrong)
			continue
		}
		if file := s.unfit(edited, change.Edits); file != "" {
			reason = cmp.Or(reason, "the diff of "+file+" would show a secret, or something that cannot be shown as it is")
			continue
		}
		f.Says = change.Says
		f.Gone = gone(f.Finding.ID, before, after)
		f.Before, f.After = says(before, f.Tunnel), says(after, f.Tunnel)
		if f.Order, err = s.order(ctx, f, change, near); err != nil {
			return err
		}
		f.Files = s.patches(c, edited, change.Edits)
		s.Edited = edited
		return s.read(ctx)
	}
	f.Why = reason
	if c.unwritten != "" {
		f.Why = c.unwritten + "; " + reason
	}
	return nil
}

// nearby are the gateways that a change of a finding's gateways can concern: those, and the far ends of their tunnels.
func (s *Session) nearby(c *Case) []string {
	names := map[string]bool{}
	add := func(g *model.Gateway) {
		if g == nil {
			return
		}
		names[g.Name] = true
		for _, t := range s.now.whole.TunnelsOf(g) {
			for _, e := range t.Ends {
				names[e.Gateway.Name] = true
			}
			if t.Toward != nil {
				names[t.Toward.Name] = true
			}
		}
	}
	add(c.Gateway)
	if c.Tunnel != nil {
		for _, e := range c.Tunnel.Ends {
			add(e.Gateway)
		}
	}
	return slices.Sorted(maps.Keys(names))
}

// apply returns the edited files with further edits.
func (s *Session) apply(edits []Edit) (map[string][]byte, error) {
	out := maps.Clone(s.Edited)
	by := map[string][]Edit{}
	for _, e := range edits {
		by[e.File] = append(by[e.File], e)
	}
	for name, list := range by {
		f := s.fileOf(name)
		if f == nil {
			return nil, fmt.Errorf("%s is not a file of a gateway", name)
		}
		slices.SortStableFunc(list, func(a, b Edit) int { return cmp.Compare(a.Start, b.Start) })
		var text bytes.Buffer
		at := 0
		for _, e := range list {
			if e.Start < at || e.End < e.Start || e.End > len(f.Bytes()) {
				return nil, fmt.Errorf("the edits of %s overlap", name)
			}
			text.Write(f.Bytes()[at:e.Start])
			text.WriteString(e.Text)
			at = e.End
		}
		text.Write(f.Bytes()[at:])
		if _, known := s.Original[name]; !known {
			s.Original[name] = whole(f, f.Bytes())
		}
		out[name] = whole(f, text.Bytes())
	}
	return out, nil
}

// whole is a file's content with the mark that it began with.
func whole(f *model.File, text []byte) []byte {
	if f.Marked() {
		return append([]byte("\xef\xbb\xbf"), text...)
	}
	return slices.Clone(text)
}

func (s *Session) fileOf(name string) *model.File {
	for _, g := range s.now.whole.Gateways {
		if f := g.File(name); f != nil {
			return f
		}
	}
	return nil
}

// compare says what is wrong with a change; "" where it proves itself.
func compare(id string, before, after *audit.Result, was, is *pair.Whole) string {
	had := map[string]*audit.Finding{}
	for _, f := range before.Findings {
		had[f.ID] = f
	}
	for _, f := range after.Findings {
		old := had[f.ID]
		switch {
		case f.ID == id && f.Severity >= old.Severity:
			return "the finding stays"
		case f.ID == id:
			return "the finding stays, less severe"
		case old == nil:
			return fmt.Sprintf("%s comes: %s", f.Check, f.Message)
		case f.Severity > old.Severity:
			return fmt.Sprintf("%s becomes %s", f.Check, f.Severity)
		}
	}
	if n := len(after.Estate.Problems); n > len(before.Estate.Problems) {
		return "the edited text is not read: " + after.Estate.Problems[n-1].Message
	}
	if unread(is) > unread(was) {
		return "a statement of the edited text is not understood"
	}
	old := map[string]*audit.Tunnel{}
	for _, t := range before.Tunnels {
		old[t.Name] = t
	}
	for _, t := range after.Tunnels {
		o := old[t.Name]
		switch {
		case o == nil:
			return "the tunnel " + t.Name + " was none before"
		case rank(t) > rank(o):
			return fmt.Sprintf("the tunnel %s: %s; before: %s", t.Name, t.Says(), o.Says())
		}
	}
	if len(after.Tunnels) != len(before.Tunnels) {
		return "the ends no longer mean each other"
	}
	strength := strengths(was)
	for name, n := range strengths(is) {
		if o := strength[name]; o > 0 && n > 0 && n < o {
			return fmt.Sprintf("%s would be protected by %d bits instead of %d", name, n, o)
		}
	}
	return ""
}

// rank orders what becomes of tunnels, the best first.
func rank(t *audit.Tunnel) int {
	n := 4 * int(t.State)
	if t.State == audit.ByHand { // it comes up, whichever end is told to
		n = 1
	}
	if t.Leaks {
		n += 2
	}
	return n
}

func unread(w *pair.Whole) (n int) {
	for _, g := range w.Gateways {
		for _, f := range g.Files {
			n += len(f.Unread)
		}
	}
	return n
}

// strengths are how strong what is negotiated is, in bits, at its weakest over both initiators: of every IKE SA, and of every child.
func strengths(w *pair.Whole) map[string]int {
	out := map[string]int{}
	least := func(name string, n int) {
		if old, known := out[name]; !known || n < old {
			out[name] = n
		}
	}
	for _, t := range w.Tunnels {
		for _, a := range negotiate.Tunnel(t) {
			if a.Failure != nil {
				continue
			}
			least(t.Name, a.IKE.Strength())
			for _, c := range a.Children {
				if c.Outcome == negotiate.Agrees {
					least(t.Name+", "+c.Of.Name, c.Suite.Strength())
				}
			}
		}
	}
	return out
}

func gone(id string, before, after *audit.Result) []*audit.Finding {
	have := map[string]bool{}
	for _, f := range after.Findings {
		have[f.ID] = true
	}
	var out []*audit.Finding
	for _, f := range before.Findings {
		if f.ID != id && !have[f.ID] {
			out = append(out, f)
		}
	}
	return out
}

func says(r *audit.Result, tunnel string) string {
	for _, t := range r.Tunnels {
		if t.Name == tunnel {
			return t.Says()
		}
	}
	return ""
}

// order says in which order the gateways of a change are changed: after the first of them, the tunnel must still come up.
func (s *Session) order(ctx context.Context, f *Fix, change Change, near []string) (string, error) {
	var gateways []string
	by := map[string][]Edit{}
	for _, e := range change.Edits {
		g := s.gatewayOf(e.File)
		if len(by[g]) == 0 {
			gateways = append(gateways, g)
		}
		by[g] = append(by[g], e)
	}
	if len(gateways) < 2 {
		return "", nil
	}
	if f.Before == "" || strings.HasPrefix(f.Before, "never") {
		return fmt.Sprintf("in any order: the tunnel does not come up before both %s are changed", strings.Join(gateways, " and ")), nil
	}
	for i, g := range gateways {
		edited, err := s.apply(by[g])
		if err != nil {
			return "", err
		}
		half, _, err := s.audited(ctx, edited, near)
		if err != nil {
			return "", err
		}
		if t := says(half, f.Tunnel); !strings.HasPrefix(t, "never") && t != "" {
			return fmt.Sprintf("first %s, then %s: in between the tunnel %s", g, gateways[1-i], t), nil
		}
	}
	return fmt.Sprintf("%s and %s at the same time: with one of them changed, the tunnel does not come up again. "+
		"An SA that is up stays until it is rekeyed.", gateways[0], gateways[1]), nil
}

func (s *Session) gatewayOf(file string) string {
	for _, g := range s.now.whole.Gateways {
		if g.File(file) != nil {
			return g.Name
		}
	}
	return ""
}

// unfit returns a file whose diff cannot be shown as it is; "" for none.
func (s *Session) unfit(edited map[string][]byte, edits []Edit) string {
	for _, e := range edits {
		f := s.fileOf(e.File)
		text := bytes.TrimPrefix(edited[e.File], []byte("\xef\xbb\xbf"))
		if reveals(f.File, text) || !plain(Unified(f.File, text)) {
			return e.File
		}
	}
	return ""
}

// plain reports whether a diff is of short lines of printable text, and so leaves unchanged.
func plain(diff string) bool {
	for line := range strings.Lines(diff) {
		line = strings.TrimSuffix(strings.TrimSuffix(line, "\n"), "\r")
		if len(line) > maxLine || source.Clean(strings.ReplaceAll(line, "\t", " ")) != strings.ReplaceAll(line, "\t", " ") {
			return false
		}
	}
	return true
}

// maxLine is how long a line of a diff may be, in bytes.
const maxLine = 900

// patches are the diffs of a change, by gateway.
func (s *Session) patches(c *Case, edited map[string][]byte, edits []Edit) []Patch {
	var out []Patch
	for _, e := range edits {
		if slices.ContainsFunc(out, func(p Patch) bool { return p.File == e.File }) {
			continue
		}
		f := s.fileOf(e.File)
		text := bytes.TrimPrefix(edited[e.File], []byte("\xef\xbb\xbf"))
		out = append(out, Patch{Gateway: s.gatewayOf(e.File), File: e.File, Diff: Unified(f.File, text)})
	}
	own := c.Finding.Gateway
	slices.SortStableFunc(out, func(a, b Patch) int {
		return cmp.Or(cmp.Compare(btoi(b.Gateway == own), btoi(a.Gateway == own)), strings.Compare(a.File, b.File))
	})
	return out
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}
