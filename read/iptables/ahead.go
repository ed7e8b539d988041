package iptables

import (
	"bytes"
	"context"
	"slices"
	"strings"
	"sync"

	"toril/internal/spread"
	"toril/model"
	"toril/model/literal"
	"toril/packet"
	"toril/syntax/lines"
)

// part is some lines of a long file. Rules that hang on nothing else in it are read before the lines before them: on all processors, a part
// each.
type part struct {
	place
	end   int    // behind its last byte
	table string // that it begins in

	items []item // once it was read
}

// place is where a line begins.
type place struct{ at, line int }

// item is a rule that was read ahead, which counts where its table has its chain by then, or lines up to the next item that are to be read
// when it is their turn.
type item struct {
	place
	rule  *model.Rule // nil for lines
	chain *named
}

// named is a chain without rules, and the names by which the file calls it and its table.
type named struct {
	*model.Chain
	table, name string
	alike       map[string]*model.Rule // of its rules, by what stands behind their addresses; nil: that must be read with them
}

const (
	partSize = 64 << 10 // bytes that one processor reads at a time
	long     = 4 * partSize
	atOnce   = 16      // parts that are read before their rules are taken: what a hostile file makes of each is much
	usual    = 64      // bytes of a rule, about
	most     = 4 << 10 // rules that others are likened to
)

// partsOf divides a file at line ends.
func partsOf(text []byte) (out []*part) {
	table := ""
	for from, line := 0, 1; from < len(text); {
		to := min(from+partSize, len(text))
		if n := bytes.IndexByte(text[to:], '\n'); n >= 0 {
			to += n + 1
		} else {
			to = len(text)
		}
		body := text[from:to]
		out = append(out, &part{place: place{from, line}, end: to, table: table})
		if begins := lastTable(body); begins != nil {
			table = tableOf(string(begins))
		}
		line += bytes.Count(body, []byte("\n"))
		from = to
	}
	return out
}

// lastTable returns the last line that begins a table; nil where none does.
func lastTable(text []byte) (line []byte) {
	for {
		if len(text) > 0 && text[0] == '*' {
			line, _, _ = bytes.Cut(text, []byte("\n"))
		}
		n := bytes.Index(text, []byte("\n*"))
		if n < 0 {
			return line
		}
		text = text[n+1:]
	}
}

// tableOf returns the table that a line begins.
func tableOf(line string) string {
	name, _, _ := strings.Cut(strings.TrimSpace(line[1:]), " ")
	return name
}

// lines reads every line of the file.
func (r *reader) lines() {
	text := r.in.File.Bytes()
	if len(text) < long {
		for l := range lines.Parse(text, manner) {
			if r.in.Context.Err() != nil {
				return
			}
			r.line(l)
		}
		return
	}
	readers := sync.Pool{New: func() any {
		return &early{reader: reader{in: r.in, family: r.family, ahead: true}, begun: map[[2]string]*named{}}
	}}
	for some := range slices.Chunk(partsOf(text), atOnce) {
		err := spread.Each(r.in.Context, len(some), func(_ context.Context, i int) error {
			e := readers.Get().(*early)
			e.read(some[i])
			readers.Put(e)
			return nil
		})
		if err != nil { // the run was cancelled
			return
		}
		for _, p := range some {
			r.take(p)
			p.items = nil
		}
	}
}

// early reads rules before the lines before them.
type early struct {
	reader
	begun map[[2]string]*named // the chains that had rules, by table and name
	kinds int                  // how many rules they have that others are likened to
}

// read reads the rules of a part that hang on nothing else. What makes reading one fail makes it fail again where it counts.
func (e *early) read(p *part) {
	defer func() {
		if recover() != nil {
			p.items = []item{{place: p.place}}
		}
	}()
	e.table = p.table
	at := p.place
	text := string(e.in.File.Bytes()[p.at:p.end])
	p.items = make([]item, 0, len(text)/usual)
	for line := range strings.Lines(text) {
		if e.in.Context.Err() != nil {
			return
		}
		if line[0] == '*' {
			e.table = tableOf(line)
		}
		one := item{place: at}
		one.chain, one.rule = e.line(at.line, strings.TrimSuffix(line, "\n"))
		if one.rule != nil || len(p.items) == 0 || p.items[len(p.items)-1].rule != nil {
			p.items = append(p.items, one)
		}
		at = place{at.at + len(line), at.line + 1}
	}
}

// line reads a rule at the end of a chain; it is nil where the line is none, or hangs on what stands elsewhere.
func (e *early) line(n int, line string) (*named, *model.Rule) {
	if line == "" || line[0] != '-' && line[0] != '[' || len(line) > partSize || strings.Contains(line, "\r") {
		return nil, nil
	}
	if c, rule := e.like(n, line); rule != nil {
		return c, rule
	}
	e.words = manner.AppendFields(e.words[:0], line)
	packets, w, ok := counted(e.words)
	if !ok || len(w) < 2 || w[0] != "-A" {
		return nil, nil
	}
	c := e.begun[[2]string{e.table, w[1]}]
	if c == nil {
		c = &named{e.newChain(n, w[1]), strings.Clone(e.table), strings.Clone(w[1]), map[string]*model.Rule{}}
		e.begun[[2]string{c.table, c.name}] = c
	}
	e.hangs = false
	if rule := e.rule(n, c.Chain, packets, w[2:]); !e.hangs {
		return c, rule
	}
	return nil, nil
}

// like reads a rule as the programs write most of them, of which the chain has had one that differs in its addresses only: what stands
// behind these is not read again. It is nil for every other line.
func (e *early) like(n int, line string) (*named, *model.Rule) {
	command, packets, ok := line, "", true
	if line[0] == '[' {
		packets, command, _ = strings.Cut(line, " ")
		packets, ok = counters(packets)
	}
	command, adds := strings.CutPrefix(command, "-A ")
	name, rest, _ := strings.Cut(command, " ")
	c := e.begun[[2]string{e.table, name}]
	if !ok || !adds || c == nil || e.packetFamily() != packet.IPv4 || strings.Contains(line[:len(line)-len(rest)], `"`) {
		return nil, nil
	}
	var room [2]packet.Term
	terms := room[:0]
	for _, end := range [...]struct {
		opt   string
		field packet.Field
	}{{"-s ", packet.Src}, {"-d ", packet.Dst}} {
		if text, is := strings.CutPrefix(rest, end.opt); is {
			text, rest, _ = strings.Cut(text, " ")
			v, plain := literal.Four(text)
			if !plain {
				return nil, nil
			}
			terms = append(terms, packet.Term{Field: end.field, Values: v})
		}
	}
	as, known := c.alike[rest]
	if !known && e.kinds < most {
		as = e.anyAddress(n, c, rest)
		c.alike[strings.Clone(rest)] = as
		e.kinds++
	}
	if as == nil {
		return nil, nil
	}
	rule := e.made.Next()
	*rule = *as
	rule.At, rule.When = e.in.At(n), as.When.WithAll(terms...)
	rule.Doubts = as.Doubts.From(rule.At)
	count(rule, packets)
	return c, rule
}

// anyAddress reads what stands behind a rule's addresses; nil where that says something else with them than without.
func (e *early) anyAddress(n int, c *named, rest string) *model.Rule {
	e.words = manner.AppendFields(e.words[:0], strings.Clone(rest))
	e.hangs = false
	if rule := e.rule(n, c.Chain, "", e.words); !e.hangs && !e.one.addressed {
		return rule
	}
	return nil
}

// take takes the rules of a part that were read, and reads the other lines.
func (r *reader) take(p *part) {
	text := r.in.File.Bytes()
	for i := range p.items {
		one := &p.items[i]
		if one.rule != nil && r.opened != 0 && r.table == one.chain.table {
			if c := r.chains[one.chain.name]; c != nil {
				r.in.Count()
				c.Rules = append(c.Rules, one.rule)
				continue
			}
		}
		end := p.end
		if i+1 < len(p.items) {
			end = p.items[i+1].at
		}
		for l := range lines.From(text[:end], one.at, one.line, manner) {
			if r.in.Context.Err() != nil {
				return
			}
			r.line(l)
		}
	}
}

// waits reports whether what comes must wait for the lines before it, or for other files, and notes that of a rule that is read ahead.
func (r *reader) waits() bool {
	r.hangs = r.hangs || r.ahead
	return r.ahead
}
