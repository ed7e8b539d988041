// Package phrasebook is what reads device languages that nobody here knows: a phrasebook says, as YAML, which statement of a language means
// which setting, rule, route or object. It fits statements into phrases in linear time, runs nothing and opens nothing.
package phrasebook

import (
	"fmt"
	"slices"
	"strings"

	"toril/source"
	"toril/syntax"
	"toril/syntax/statements"
)

// Phrase is the form of statements: words, slots, and which of them may be left out, stand in another's place, or stand again.
//
//	peer <a:address> [port <p:number>] ( main | aggressive ) networks <n:network>...
type Phrase struct {
	text  string
	prog  []step
	slots map[string]*Slot // by their names

	least, most int // words of its statements; most is -1 for any number
}

// Slot is a place of a phrase that a value fills.
type Slot struct {
	Name string
	Type *Type
}

// step is one step of a program that goes through a statement's words.
type step struct {
	op   op
	word string // that must stand here
	slot *Slot  // that is filled here
	to   int    // where a branch leads
}

type op uint8

const (
	opWord op = iota
	opSlot
	opBranch // goes on at the next step, or there
	opJump
	opEnd
)

// The bounds of a phrase.
const (
	maxPhrase = 2000 // characters
	maxSteps  = 500
	maxNested = 16 // brackets within each other
)

// Fill is the value of a slot, and where it stands.
type Fill struct {
	Slot  *Slot
	Value any
	Text  string // as it is written
	At    syntax.Place
}

// ParsePhrase reads a phrase. Its error says what was expected, and where it can, what was meant.
// fold takes capitals for small letters.
func ParsePhrase(text string, types Types, fold bool) (*Phrase, error) {
	if len(text) > maxPhrase {
		return nil, fmt.Errorf("a phrase has at most %d characters", maxPhrase)
	}
	c := &compiler{types: types, fold: fold, tokens: tokensOf(text), p: &Phrase{text: text, slots: map[string]*Slot{}}}
	if err := c.sequence(0); err != nil {
		return nil, err
	}
	if c.at < len(c.tokens) {
		return nil, fmt.Errorf("%q closes nothing", c.tokens[c.at])
	}
	if len(c.p.prog) == 0 {
		return nil, fmt.Errorf("a phrase has at least one word")
	}
	c.emit(step{op: opEnd})
	if len(c.p.prog) > maxSteps {
		return nil, fmt.Errorf("the phrase has more than %d parts", maxSteps)
	}
	c.p.least, c.p.most = c.p.lengths()
	return c.p, nil
}

// String returns the phrase as it is written.
func (p *Phrase) String() string { return p.text }

// Slot returns a slot by its name; nil where the phrase has none.
func (p *Phrase) Slot(name string) *Slot { return p.slots[name] }

// tokensOf cuts a phrase into words, slots and brackets. What stands in quotation marks is a word, whatever it is.
func tokensOf(text string) []string {
	var out []string
	for i := 0; i < len(text); {
		switch c := text[i]; {
		case c == ' ' || c == '\t':
			i++
		case strings.IndexByte("[]()|", c) >= 0:
			out = append(out, text[i:i+1])
			i++
		case strings.HasPrefix(text[i:], "..."):
			out = append(out, "...")
			i += 3
		default:
			end, close := i, byte(0)
			for ; end < len(text); end++ {
				switch c := text[end]; {
				case close != 0 && c == close:
					close = 0
				case close == 0 && c == '<':
					close = '>'
				case close == 0 && c == '\'':
					close = '\''
				}
				if close == 0 && (strings.IndexByte(" \t[]()|", text[end]) >= 0 || strings.HasPrefix(text[end:], "...")) {
					break
				}
			}
			out = append(out, text[i:end])
			i = end
		}
	}
	return out
}

type compiler struct {
	types  Types
	fold   bool
	tokens []string
	at     int
	p      *Phrase
}

func (c *compiler) emit(s step) int {
	c.p.prog = append(c.p.prog, s)
	return len(c.p.prog) - 1
}

// sequence reads items up to what closes them.
func (c *compiler) sequence(depth int) error {
	if depth > maxNested {
		return fmt.Errorf("brackets stand in each other more than %d deep", maxNested)
	}
	for c.at < len(c.tokens) && !slices.Contains([]string{"]", ")", "|"}, c.tokens[c.at]) {
		begin := len(c.p.prog)
		if err := c.item(depth); err != nil {
			return err
		}
		if c.at < len(c.tokens) && c.tokens[c.at] == "..." {
			c.at++
			// once more from the beginning, or on; what may be empty would stand still and is passed by when it runs
			c.emit(step{op: opBranch, to: begin})
			c.p.prog[len(c.p.prog)-1].to = begin
		}
		if len(c.p.prog) > maxSteps {
			return fmt.Errorf("the phrase has more than %d parts", maxSteps)
		}
	}
	return nil
}

// item reads a word, a slot, or what stands in brackets.
func (c *compiler) item(depth int) error {
	t := c.tokens[c.at]
	c.at++
	switch {
	case t == "...":
		return fmt.Errorf("%q stands behind what may stand again", t)
	case t == "[":
		branch := c.emit(step{op: opBranch})
		if err := c.choice(depth, "]"); err != nil {
			return err
		}
		c.p.prog[branch].to = len(c.p.prog)
		return nil
	case t == "(":
		return c.choice(depth, ")")
	case strings.HasPrefix(t, "<"):
		return c.slot(t)
	}
	word := t
	if len(t) > 1 && t[0] == '\'' && t[len(t)-1] == '\'' {
		word = t[1 : len(t)-1]
	}
	if strings.ContainsAny(t, "<>") && word == t {
		return fmt.Errorf("%q is neither a word nor a slot (<name:type>)", t)
	}
	c.emit(step{op: opWord, word: word})
	return nil
}

// choice reads alternatives behind an opening bracket, up to the one that closes.
func (c *compiler) choice(depth int, end string) error {
	var ends []int
	for {
		branch := c.emit(step{op: opBranch})
		begin := len(c.p.prog)
		if err := c.sequence(depth + 1); err != nil {
			return err
		}
		if len(c.p.prog) == begin {
			return fmt.Errorf("an alternative is empty")
		}
		ends = append(ends, c.emit(step{op: opJump}))
		c.p.prog[branch].to = len(c.p.prog)
		if c.at < len(c.tokens) && c.tokens[c.at] == "|" {
			c.at++
			continue
		}
		if err := c.close(end); err != nil {
			return err
		}
		c.p.prog[branch].to = -1 // there is no further one
		break
	}
	for _, e := range ends {
		c.p.prog[e].to = len(c.p.prog)
	}
	return nil
}

func (c *compiler) close(mark string) error {
	if c.at >= len(c.tokens) || c.tokens[c.at] != mark {
		return fmt.Errorf("a %q is missing", mark)
	}
	c.at++
	return nil
}

// slot reads "<name:type>", or "<name=word>": a word that may stand there, whose slot is then a flag that is set.
func (c *compiler) slot(t string) error {
	inner, ok := strings.CutSuffix(t[1:], ">")
	if !ok {
		return fmt.Errorf("a slot is not closed: %q", t)
	}
	name, word, marks := strings.Cut(inner, "=")
	name, kind, typed := strings.Cut(name, ":")
	if !typed {
		kind = "word"
	}
	if marks && (typed || word == "" || strings.ContainsAny(word, "<>")) {
		return fmt.Errorf("%q is not a slot for a word, as <name=word>", t)
	}
	if name != "_" && name == "" || strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789-_") != "" {
		return fmt.Errorf("%q is not a name of a slot: small letters, digits, hyphens", name)
	}
	var what *Type
	if marks {
		what = mark(word, c.fold)
	} else {
		var err error
		if what, err = c.types.find(kind); err != nil {
			return err
		}
	}
	if name == "_" { // its value is of no consequence
		c.emit(step{op: opSlot, slot: &Slot{name, what}})
		return nil
	}
	s := c.p.slots[name]
	if s != nil && marks && s.Type.Name == what.Name {
		what = s.Type
	}
	if s != nil && s.Type != what {
		return fmt.Errorf("slot %s has two types", name)
	}
	if s == nil {
		s = &Slot{name, what}
		c.p.slots[name] = s
	}
	c.emit(step{op: opSlot, slot: s})
	return nil
}

// filled is a slot that was filled on the way to a step.
type filled struct {
	slot   *Slot
	value  any
	lo, hi int // words
	before *filled
}

// thread is a way through a phrase that still fits.
type thread struct {
	pc     int
	filled *filled
}

// Match fits a statement's words into the phrase. fold takes capitals for small letters. Where they do not fit, near says how far they
// went, in words, and why they went no further, if a value stands where a slot was and is none of its type.
func (p *Phrase) Match(words []statements.Word, fold bool) (fills []Fill, near Near, ok bool) {
	var m matcher
	return m.match(p, words, fold, true)
}

// matcher fits statements into phrases, one after another. Its tables are used again.
type matcher struct {
	lists [][]thread
	seen  []uint32 // by word and step: the turn in which a thread came there
	turn  uint32
	p     *Phrase

	parsed []parsed // at the word that is looked at
}

// parsed is what a type makes of the words that begin somewhere.
type parsed struct {
	of    *Type
	value any
	err   error
}

// parse asks a type about words once, however many slots of it may begin at the first of them.
func (m *matcher) parse(t *Type, words []statements.Word) (any, error) {
	for i := range m.parsed {
		if p := &m.parsed[i]; p.of == t {
			return p.value, p.err
		}
	}
	v, err := t.parse(words)
	m.parsed = append(m.parsed, parsed{t, v, err})
	return v, err
}

// match is Phrase.Match; without why, near does not say why no value fits.
func (m *matcher) match(p *Phrase, words []statements.Word, fold, why bool) (fills []Fill, near Near, ok bool) {
	m.p, m.turn = p, m.turn+1
	for len(m.lists) <= len(words) {
		m.lists = append(m.lists, nil)
	}
	for at := range len(words) + 1 {
		m.lists[at] = m.lists[at][:0]
	}
	if need := (len(words) + 1) * len(p.prog); len(m.seen) < need || m.turn == 0 {
		m.seen, m.turn = make([]uint32, max(need, 2*len(m.seen))), 1
	}
	m.add(0, thread{})
	for at := range len(words) + 1 {
		m.parsed = m.parsed[:0]
		for i := 0; i < len(m.lists[at]); i++ {
			t := m.lists[at][i]
			s := &p.prog[t.pc]
			switch {
			case s.op == opEnd:
				if at == len(words) {
					return p.fills(t.filled, words), near, true
				}
				near.reach(at, "")
			case at == len(words):
				near.reach(at, "")
			case s.op == opWord:
				if w := words[at].Text; w == s.word || fold && strings.EqualFold(w, s.word) {
					m.add(at+1, thread{t.pc + 1, t.filled})
				} else {
					near.reach(at, "")
				}
			case s.op == opSlot:
				n := s.slot.Type.width(len(words) - at)
				if n == 0 {
					near.reach(at, "")
					continue
				}
				v, err := m.parse(s.slot.Type, words[at:at+n])
				if err != nil {
					if why {
						near.reach(at, err.Error())
					}
					continue
				}
				m.add(at+n, thread{t.pc + 1, &filled{s.slot, v, at, at + n, t.filled}})
			}
		}
	}
	return nil, near, false
}

// add lets a thread come to a word, unless another was at the same step there before: whoever came first is preferred.
func (m *matcher) add(at int, t thread) {
	if t.pc < 0 {
		return
	}
	if seen := &m.seen[at*len(m.p.prog)+t.pc]; *seen == m.turn {
		return
	} else {
		*seen = m.turn
	}
	switch s := &m.p.prog[t.pc]; s.op {
	case opJump:
		m.add(at, thread{s.to, t.filled})
	case opBranch:
		m.add(at, thread{t.pc + 1, t.filled}) // of what may stand again, words of the phrase come before one more value
		m.add(at, thread{s.to, t.filled})
	default:
		m.lists[at] = append(m.lists[at], t)
	}
}

// lengths are how many words statements of the phrase have, at least and at most; -1 for any number.
func (p *Phrase) lengths() (least, most int) {
	const far = 1 << 20
	memo := make([]int, len(p.prog))
	for i := range memo {
		memo[i] = far
	}
	for changed := true; changed; { // the shortest ways to the end
		changed = false
		for pc := len(p.prog) - 1; pc >= 0; pc-- {
			best := far
			switch s := &p.prog[pc]; s.op {
			case opEnd:
				best = 0
			case opWord:
				best = 1 + memo[pc+1]
			case opSlot:
				best = max(1, s.slot.Type.Words) + memo[pc+1]
			case opJump:
				best = memo[s.to]
			case opBranch:
				best = memo[pc+1]
				if s.to >= 0 {
					best = min(best, memo[s.to])
				}
			}
			if best < memo[pc] {
				memo[pc], changed = best, true
			}
		}
	}
	most = 0
	for pc := range p.prog {
		switch s := &p.prog[pc]; {
		case s.op == opBranch && s.to >= 0 && s.to <= pc, s.op == opSlot && s.slot.Type.Words == 0:
			return memo[0], -1
		case s.op == opWord:
			most++
		case s.op == opSlot:
			most += s.slot.Type.Words
		}
	}
	return memo[0], most
}

// takes reports whether statements of the phrase may have so many words.
func (p *Phrase) takes(words int) bool {
	return words >= p.least && (p.most < 0 || words <= p.most)
}

// Near says how far a statement went into a phrase that it does not fit.
type Near struct {
	Words int    // that fit
	Why   string // the next is no value of the slot's type; "" for any other reason
}

func (n *Near) reach(words int, why string) {
	if words > n.Words || words == n.Words && n.Why == "" {
		n.Words, n.Why = words, why
	}
}

// fills are the slots in the order of the words.
func (p *Phrase) fills(last *filled, words []statements.Word) []Fill {
	n := 0
	for f := last; f != nil; f = f.before {
		n++
	}
	out := make([]Fill, 0, n)
	for f := last; f != nil; f = f.before {
		text := words[f.lo].Text
		if f.hi > f.lo+1 {
			all := make([]string, 0, f.hi-f.lo)
			for _, w := range words[f.lo:f.hi] {
				all = append(all, w.Text)
			}
			text = strings.Join(all, " ")
		}
		out = append(out, Fill{
			Slot:  f.slot,
			Value: f.value,
			Text:  source.Clean(text),
			At:    syntax.Over(words[f.lo].Place, words[f.hi-1].Place),
		})
	}
	slices.Reverse(out)
	return out
}

// first are the words that a statement of the phrase may begin with; nil where a slot may stand there.
func (p *Phrase) first(fold bool) map[string]bool {
	out := map[string]bool{}
	seen := make([]bool, len(p.prog))
	var walk func(pc int) bool
	walk = func(pc int) bool {
		if pc < 0 || seen[pc] {
			return true
		}
		seen[pc] = true
		switch s := p.prog[pc]; s.op {
		case opJump:
			return walk(s.to)
		case opBranch:
			return walk(pc+1) && walk(s.to)
		case opWord:
			w := s.word
			if fold {
				w = strings.ToLower(w)
			}
			out[w] = true
			return true
		}
		return false
	}
	if !walk(0) {
		return nil
	}
	return out
}

// mayBegin reports whether a statement that begins with a word may be of the rule's phrase.
func (r *rule) mayBegin(word string, fold bool) bool {
	if r.first == nil {
		return true
	}
	if fold {
		word = strings.ToLower(word)
	}
	return r.first[word]
}
