package nftables

import (
	"bytes"
	"context"
	"slices"
	"sync"

	"toril/internal/spread"
	"toril/model"
	"toril/read"
	"toril/syntax/nft"
)

// ahead has read the rules of a long text that hang on nothing else in it, before the parser comes to them: on all processors, a piece of
// the text each. A row of rules counts where the parser comes to its very first byte at the beginning of a statement of a chain; whatever
// was read of other places, where a text goes on over lines for one, nobody asks for.
type ahead struct {
	family string // of the chain that the parser was in
	pieces []chan []run
	runs   []run // those of the piece that is looked at
	cancel context.CancelFunc
	ended  sync.WaitGroup
}

// run is rules that follow each other, a line each.
type run struct {
	from, to, line int // bytes of the text; to is that of the line end behind the last rule, line its line
	rules          []*model.Rule
}

const (
	piece = 64 << 10 // bytes that one processor reads at a time
	long  = 4 * piece
	many  = 1000 // rules that a chain has before it is read ahead
	most  = 256  // words of a rule that is read ahead
	usual = 64   // bytes of a rule, about
)

// begin reads ahead of a scanner, from a token on, for a chain; nil where what is left is short.
func begin(c *chain, in *read.Input, lex nft.Scanner, next token) *ahead {
	text := in.File.Bytes()
	if next.End == 0 || len(text)-next.Start < long {
		return nil
	}
	type place struct{ from, to, line int }
	var places []place
	for from, line := next.Start, next.Line; from < len(text); {
		to := min(from+piece, len(text))
		if n := bytes.IndexByte(text[to:], '\n'); n >= 0 {
			to += n + 1
		} else {
			to = len(text)
		}
		places = append(places, place{from, to, line})
		line += bytes.Count(text[from:to], []byte("\n"))
		from = to
	}
	ctx, cancel := context.WithCancel(in.Context)
	pieces := make([]chan []run, len(places))
	for i := range pieces {
		pieces[i] = make(chan []run, 1)
	}
	a := &ahead{family: c.Family, pieces: pieces, cancel: cancel}
	a.ended.Go(func() {
		_ = spread.Each(ctx, len(places), func(_ context.Context, i int) error {
			pieces[i] <- runsOf(c, in, lex.From(places[i].from, places[i].line), places[i].to)
			return nil
		})
	})
	return a
}

// end waits until nothing is read any more.
func (a *ahead) end() {
	if a != nil {
		a.cancel()
		a.ended.Wait()
	}
}

// runsOf reads the rules of a piece of the text, up to a byte. What makes reading fail makes it fail again where it counts.
func runsOf(c *chain, in *read.Input, lex nft.Scanner, end int) (out []run) {
	defer func() {
		if recover() != nil {
			out = nil
		}
	}()
	rs := &ruleset{}
	var words []token
	var t token
	open := false // the last run may go on
	for lex.Take(&t); t.Kind != nft.End && t.Start < end; lex.Take(&t) {
		if t.Kind == nft.Row {
			continue
		}
		words = words[:0]
		for ; (t.Kind == nft.Word || t.Kind == nft.Text) && len(words) < most; lex.Take(&t) {
			words = append(words, t)
		}
		var r *model.Rule
		if t.Kind == nft.Row && len(words) > 0 && !lex.Junk {
			r = rs.simple(c, in, words)
		}
		if r == nil { // on to the next line
			for open = false; t.Kind != nft.End && (t.Kind != nft.Row || t.Text != "\n"); lex.Take(&t) {
			}
			lex.Junk = false
			continue
		}
		if !open {
			out, open = append(out, run{from: words[0].Start}), true
		}
		last := &out[len(out)-1]
		last.to, last.line, last.rules = t.Start, t.Line, append(last.rules, r)
	}
	return out
}

// at returns the rules of a chain that were read from a byte on; nil where there are none.
func (a *ahead) at(ctx context.Context, from int, c *chain) *run {
	if a == nil || a.family != c.Family {
		return nil
	}
	for {
		for len(a.runs) > 0 && a.runs[0].from < from {
			a.runs = a.runs[1:]
		}
		if len(a.runs) > 0 {
			if a.runs[0].from == from {
				return &a.runs[0]
			}
			return nil
		}
		if len(a.pieces) == 0 {
			return nil
		}
		select {
		case a.runs = <-a.pieces[0]:
			a.pieces = a.pieces[1:]
		case <-ctx.Done():
			return nil
		}
	}
}

// takeAhead takes the rules of a chain that were read ahead from the next token on; false where there are none.
func (p *parser) takeAhead(c *chain) bool {
	if p.ahead == nil || len(p.behind) > 0 {
		return false
	}
	r := p.ahead.at(p.in.Context, p.look().Start, c)
	if r == nil {
		return false
	}
	for _, rule := range r.rules {
		c.rules = append(c.rules, row{in: p.in, rule: rule})
	}
	p.lex, p.seen = p.lex.From(r.to, r.line), false
	return true
}

// readAhead begins to read ahead where a chain is long enough.
func (p *parser) readAhead(c *chain) {
	if len(c.rules) >= many && len(c.rules)%many == 0 && len(p.behind) == 0 && (p.ahead == nil || p.ahead.family != c.Family) {
		p.ahead.end()
		if p.ahead = begin(c, p.in, p.lex, p.peek()); p.ahead != nil {
			c.rules = slices.Grow(c.rules, (len(p.in.File.Bytes())-p.next.Start)/usual)
		}
	}
}
