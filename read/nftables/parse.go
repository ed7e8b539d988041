// Package nftables reads the packet filter of a Linux gateway as "nft list ruleset" prints it or as people write it.
package nftables

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"toril/model"
	"toril/read"
	"toril/source"
	"toril/syntax"
	"toril/syntax/nft"
)

type token = nft.Token

// maxTokens bounds what definitions may expand to in all, and the words of one statement.
const maxTokens = 2_000_000

// chain is a chain as written: its rules are token lists until all sets are known.
type chain struct {
	*model.Chain
	in    *read.Input
	rules []row
}

type row struct {
	in     *read.Input
	tokens []token
	rule   *model.Rule // what it says, where that hangs on nothing else
}

// set is a named set or map.
type set struct {
	family, table, name string
	in                  *read.Input
	at                  source.Pos
	isMap, dynamic      bool
	interval            bool      // it may hold ranges and prefixes
	key, data           []operand // of which types its keys are, and its data; nil where that is not known
	verdicts            bool      // its data are verdicts
	odd                 string    // what is wrong with its type
	elements            [][]token
	used                []source.Pos
	doubts              model.Doubts // what of it was not understood
}

// parser reads the statements of a file, and of the files that it includes, into tables.
type parser struct {
	*ruleset
	in     *read.Input
	lex    nft.Scanner
	next   token   // that was looked at and not taken
	seen   bool    // next is one
	behind []token // those that come after it, before what the text goes on with
	words  []token // the room of a statement that is being taken
	kept   []token // the room of statements that were taken
	depth  int
	ahead  *ahead // of the rules that come; nil where nothing is read ahead

	ofRules bool // a rule or a list of elements is read
}

type ruleset struct {
	gateway *model.Gateway
	defines map[string][]token
	chains  []*chain
	byID    map[string]*chain
	sets    map[string]*set
	setList []*set
	objects map[string]*model.Definition
	asleep  map[string]source.Pos // tables with the flag dormant
	tables  map[string]bool       // that were made
	defs    []*model.Definition
	unnamed int

	expanded int            // tokens that definitions gave so far
	extra    []*model.Chain // chains without a name

	operands [commonOperands]*operand // the commonest ones, that were made
	rules    state                    // the room of the rule that is being translated
	made     model.Room

	chainUse   map[string][]source.Pos // where a chain is jumped to
	chainOrder []string
}

func (p *parser) peek() token { return *p.look() }

// look is peek; what it returns holds until the next one is taken.
func (p *parser) look() *token {
	if !p.seen {
		p.seen = true
		if len(p.behind) > 0 {
			p.next, p.behind = p.behind[0], p.behind[1:]
		} else {
			p.lex.Take(&p.next)
		}
	}
	return &p.next
}

func (p *parser) take() token {
	t := *p.look()
	p.seen = false
	return t
}

// back puts a token before what comes next.
func (p *parser) back(t token) {
	if p.seen {
		p.behind = append([]token{p.next}, p.behind...)
	}
	p.next, p.seen = t, true
}

func (p *parser) rows() {
	for p.look().Kind == nft.Row {
		p.seen = false
	}
}

// rest takes the tokens up to the end of the statement: a line end, a semicolon, or the brace that closes what the
// statement stands in. Inside of braces and parentheses, lines do not end a statement.
func (p *parser) rest() []token { return p.keep(p.passing()) }

// passing is rest; what it returns holds until the next statement is taken.
func (p *parser) passing() []token {
	out := p.words[:0]
	defer func() { p.words = out[:0] }()
	start := p.look().Place
	tight := 0  // the depth of braces in which no line may end
	inline := 0 // the depth at which the rules of a chain without a name stand
	for depth := 0; ; {
		for p.look(); (p.next.Kind == nft.Word || p.next.Kind == nft.Text) && len(out) < maxTokens; p.look() { // nearly all
			out = append(out, p.next)
			p.seen = false
		}
		t := p.next
		if len(out) == maxTokens {
			p.in.Lost(p.on(start), "a statement of more than %d words begins here; the rest of it is not read", maxTokens)
			out = append(
				out,
				token{Kind: nft.Mark, Text: "}", Place: t.Place},
			) // one more than the limit: no further word is kept, nor said again
		}
		switch {
		case t.Kind == nft.End && depth > 0:
			p.broken(p.on(start), "a brace or parenthesis that opens here is not closed: the file ends before")
			return out
		case t.Kind == nft.End, depth == 0 && (t.Kind == nft.Row || t.Is("}")):
			return out
		case t.Kind == nft.Mark && (t.Text == "{" || t.Text == "("):
			depth++
			if len(out) > 0 && (out[len(out)-1].Is("jump") || out[len(out)-1].Is("goto")) && (inline == 0 || inline == depth-1) {
				inline = depth
			}
			if len(out) > 0 && out[len(out)-1].Kind == nft.Word && strings.HasPrefix(out[len(out)-1].Text, "@") {
				tight = depth
			}
		case t.Kind == nft.Mark && (t.Text == "}" || t.Text == ")"):
			if inline == depth && depth > 0 {
				inline--
			}
			if tight == depth {
				tight = 0
			}
			depth--
		}
		p.take()
		if t.Kind == nft.Row && t.Text == "\n" && p.ofRules && inline == 0 && depth > 0 && len(out) > 0 &&
			(tight > 0 || !out[len(out)-1].Is("{") && !out[len(out)-1].Is(",")) {
			for p.peek().Kind == nft.Row && p.peek().Text == "\n" {
				p.take()
			}
			if next := p.peek(); tight > 0 || !next.Is(",") && !next.Is("}") && next.Kind != nft.End {
				p.broken(p.on(t.Place), "a line ends here between braces, inside an element")
			}
		}
		if t.Text == ";" && t.Kind == nft.Row && p.ofRules && inline == 0 {
			p.broken(p.on(t.Place), "a semicolon stands between braces")
		}
		if (t.Kind != nft.Row || inline > 0 && inline == depth) && len(out) <= maxTokens {
			out = append(out, t)
		}
	}
}

// keep returns a copy of tokens, beside those that were kept before.
func (p *parser) keep(tokens []token) []token {
	if cap(p.kept)-len(p.kept) < len(tokens) {
		p.kept = make([]token, 0, max(len(tokens), min(2*cap(p.kept), 4096), 64))
	}
	from := len(p.kept)
	p.kept = append(p.kept, tokens...)
	return p.kept[from:len(p.kept):len(p.kept)]
}

// restOfRule is rest for rules and lists of elements, in whose braces no semicolon may stand.
func (p *parser) restOfRule() []token { return p.keep(p.passingRule()) }

// passingRule is restOfRule; what it returns holds until the next statement is taken.
func (p *parser) passingRule() []token {
	p.ofRules = true
	defer func() { p.ofRules = false }()
	return p.passing()
}

// name says of a token where a name is expected that it is none.
func (p *parser) name(t token) token {
	if t.Kind != nft.Word || keywords()[t.Text] || !name(t.Text) {
		p.broken(p.on(t.Place), "%q is not a name", source.Clean(t.Text))
	}
	return t
}

func (p *parser) unread(at source.Pos, of read.Owner, why string, args ...any) {
	p.in.Unread(at, of, why, args...)
}

// owner is a chain, as what a statement belongs to.
func (c *chain) owner() read.Owner { return read.Owner{Name: c.ID(), To: &c.Doubts} }

// owner is a set, as what a statement belongs to.
func (s *set) owner() read.Owner {
	return read.Owner{Name: source.Clean(s.family + " " + s.table), To: &s.doubts}
}

// file reads a whole file.
func (p *parser) file() {
	defer func() { p.ahead.end() }()
	for {
		p.rows()
		t := p.peek()
		switch {
		case t.Kind == nft.End:
			return
		case t.Is("}"):
			p.take()
			p.broken(p.on(t.Place), "a closing brace has no opening one")
		default:
			p.statement()
			p.ends()
		}
		if p.lex.Open {
			p.lex.Open = false
			p.broken(p.in.At(p.lex.Line), "a quotation mark is not closed")
		}
		if p.lex.Junk && !p.in.File.Converted() {
			p.broken(p.in.At(p.lex.Line), "a carriage return stands here, or before")
		}
		p.lex.Junk = false
	}
}

// ends says of a statement that a line end or a semicolon does not end that it has none: nft wants one also before a closing brace.
func (p *parser) ends() {
	if t := p.look(); t.Kind != nft.Row && t.Kind != nft.End {
		p.broken(p.on(t.Place), "before %q a semicolon or a line end is missing", source.Clean(t.Text))
	}
}

// on is the position of the line on which a token stands; or, in a file whose statements are not lines, of the statement.
func (p *parser) on(t syntax.Place) source.Pos { return on(p.in, t) }

func on(in *read.Input, t syntax.Place) source.Pos {
	if t.Col > 0 {
		return in.Pos(t)
	}
	return in.At(t.Line)
}

// broken says that the text breaks the grammar: nft then loads nothing of it.
func (p *parser) broken(at source.Pos, format string, args ...any) {
	if p.in.Gateway.RefusedOf(p.in.File.Format) == nil {
		at.Line = min(at.Line, max(1, p.in.File.Lines()))
		p.in.Refuse(at, format, args...)
	}
}

func (p *parser) statement() {
	t := p.take()
	if t.Kind != nft.Word {
		p.rest()
		p.unread(p.on(t.Place), read.Owner{}, "a statement cannot begin with %q", source.Clean(t.Text))
		return
	}
	switch t.Text {
	case "include":
		p.in.Count()
		for _, arg := range p.rest() {
			p.include(p.on(t.Place), arg.Text)
		}
	case "define", "redefine":
		p.define(t)
	case "undefine":
		p.in.Count()
		for _, arg := range p.rest() {
			delete(p.defines, arg.Text)
		}
	case "flush":
		p.in.Count()
		p.flush(p.on(t.Place), p.rest())
	case "delete", "destroy":
		p.in.Count()
		p.delete(t, p.expand(p.rest()))
	case "reset", "list", "get", "monitor", "export", "describe":
		p.in.Count() // they change nothing
		p.rest()
	case "rename", "import":
		p.rest()
		p.unread(p.on(t.Place), read.Owner{}, "%s is not read", t.Text)
	case "table":
		p.table(p.on(t.Place))
	case "add", "create", "insert", "replace":
		p.command(t)
	case "chain", "set", "map", "rule", "element":
		p.back(t)
		p.command(token{Kind: nft.Word, Text: "add", Place: t.Place})
	case "flowtable", "counter", "quota", "limit", "ct", "secmark", "synproxy": // as behind the word add
		if t.Is("ct") {
			t.Text += " " + p.take().Text
			if t.Text != "ct helper" && t.Text != "ct timeout" && t.Text != "ct expectation" {
				p.broken(p.on(t.Place), "%q is not a command", source.Clean(t.Text))
			}
		}
		family, table := p.place()
		p.object(family, table, t)
	default:
		p.rest()
		p.broken(p.on(t.Place), "%q is not a command", source.Clean(t.Text))
		p.unread(p.on(t.Place), read.Owner{}, "%q is not a known command", source.Clean(t.Text))
	}
}

func (p *parser) include(at source.Pos, pattern string) {
	if strings.HasSuffix(pattern, "/") {
		pattern += "*"
	}
	for _, in := range p.in.Include(at, pattern) {
		sub := &parser{ruleset: p.ruleset, in: in, lex: nft.Scan(in.File.Bytes()), depth: p.depth + 1}
		sub.file()
	}
}

func (p *parser) define(verb token) {
	at := p.on(verb.Place)
	p.in.Count()
	name := p.take()
	if p.defines[name.Text] != nil && verb.Is("define") {
		p.broken(at, "%s is defined twice", source.Clean(name.Text))
	}
	if name.Kind != nft.Word || !p.peek().Is("=") {
		p.rest()
		p.unread(at, read.Owner{}, "a definition is a name, an equals sign and a value")
		return
	}
	p.take()
	value := p.rest()
	for _, t := range value {
		p.in.File.Named(at.Line, t.Text)
	}
	p.defines[name.Text] = p.expand(value)
	id := "definition " + name.Text
	if p.objects[id] == nil || p.objects[id].Missing {
		p.objects[id] = p.declare("definition", name.Text, at)
	}
}

// expand replaces $names by what they stand for.
func (p *ruleset) expand(in []token) []token {
	hit := false
	for _, t := range in {
		if t.Kind == nft.Word && strings.Contains(t.Text, "$") {
			hit = true
			break
		}
	}
	if !hit {
		return in
	}
	var out []token
	for i, t := range in {
		name, isVar := strings.CutPrefix(t.Text, "$")
		if t.Kind != nft.Word || !isVar {
			out = append(out, t)
			continue
		}
		value, ok := p.defines[name]
		if !ok || p.expanded+len(value) > maxTokens {
			out = append(out, t)
			continue
		}
		p.expanded += len(value)
		inBraces := len(value) > 1 && value[0].Is("{") && i > 0 && (in[i-1].Is("{") || in[i-1].Is(","))
		if inBraces { // a set inside a set
			value = value[1 : len(value)-1]
		}
		if d := p.objects["definition "+name]; d != nil {
			d.Used = append(d.Used, source.Pos{File: d.At.File, Line: t.Line, Range: t.Range})
		}
		for _, v := range value {
			v.Place = t.Place
			out = append(out, v)
		}
	}
	return out
}

func isFamily(s string) bool {
	switch s {
	case "ip", "ip6", "inet", "arp", "bridge", "netdev":
		return true
	}
	return false
}

// table reads "table [family] name { ... }".
func (p *parser) table(at source.Pos) {
	p.in.Count()
	family := "ip"
	name := p.take()
	if name.Kind == nft.Word && isFamily(name.Text) && p.peek().Kind == nft.Word {
		family = name.Text
		name = p.take()
	}
	p.name(name)
	if !p.peek().Is("{") {
		if more := p.rest(); len(more) > 0 {
			p.broken(at, "%q is no family of tables", source.Clean(name.Text))
		}
		p.tables[family+" "+name.Text] = true
		return
	}
	p.tables[family+" "+name.Text] = true
	p.take()
	for {
		p.rows()
		t := p.take()
		switch {
		case t.Kind == nft.End:
			p.broken(p.on(t.Place), "table %s, opened at line %d, is not closed: the file ends here", source.Clean(name.Text), at.Line)
			return
		case t.Is("}"):
			return
		case t.Is("chain"):
			p.chain(family, name.Text, p.on(t.Place))
		case t.Is("set") || t.Is("map"):
			p.set(family, name.Text, p.on(t.Place), t.Is("map"))
		case t.Is("counter") || t.Is("quota") || t.Is("limit") || t.Is("ct") || t.Is("flowtable") || t.Is("secmark") || t.Is("synproxy"):
			p.object(family, name.Text, t)
		case t.Is("flags"):
			p.in.Count()
			for _, f := range p.rest() {
				if !f.Is("dormant") && !f.Is("owner") && !f.Is("persist") && !f.Is(",") {
					p.broken(p.on(t.Place), "%q is not a flag of a table", source.Clean(f.Text))
				}
				if f.Is("dormant") {
					p.asleep[family+" "+name.Text] = p.in.Pos(t.Place)
				}
			}
		case t.Is("comment"):
			p.in.Count()
			p.rest()
		case t.Is("include"):
			p.in.Count()
			for _, arg := range p.rest() {
				p.unread(p.on(t.Place), read.Owner{}, "%s is included inside a table", source.Clean(arg.Text))
			}
		default:
			p.rest()
			p.unread(
				p.on(t.Place),
				read.Owner{Name: source.Clean(family + " " + name.Text)},
				"%q is not a known part of a table",
				source.Clean(t.Text),
			)
		}
		p.ends()
	}
}

// object reads a named counter, limit or the like: it is declared, and its own settings are passed over.
func (p *parser) object(family, table string, t token) {
	p.in.Count()
	args := p.rest()
	if t.Text == "ct" && len(args) > 0 {
		t.Text, args = "ct "+args[0].Text, args[1:]
	}
	if len(args) == 0 ||
		strings.HasPrefix(t.Text, "ct") && t.Text != "ct helper" && t.Text != "ct timeout" && t.Text != "ct expectation" ||
		args[0].Kind != nft.Word ||
		len(args) > 1 && !args[1].Is("{") {
		p.unread(p.on(t.Place), read.Owner{}, "a name was expected behind %q, and settings in braces", source.Clean(t.Text))
		return
	}
	if i := slices.IndexFunc(args, func(a token) bool {
		return a.Kind == nft.Word && slices.Contains(strings.Fields("chain table set map rule accept drop jump goto"), a.Text)
	}); i > 0 {
		p.broken(p.on(t.Place), "the settings of %s go on up to %q in line %d", source.Clean(args[0].Text), args[i].Text, args[i].Line)
	}
	p.objects[family+" "+table+" "+t.Text+" "+args[0].Text] = p.declare(t.Text, family+" "+table+" "+args[0].Text, p.on(t.Place))
}

func (p *parser) declare(kind, name string, at source.Pos) *model.Definition {
	if strings.HasPrefix(kind, "ct ") { // a helper may be called anything
		name = p.in.File.Named(at.Line, name)
	}
	d := &model.Definition{Kind: kind, Name: source.Clean(name), At: at}
	p.defs = append(p.defs, d)
	return d
}

// chain reads "name { ... }" behind the word chain.
func (p *parser) chain(family, table string, at source.Pos) {
	p.in.Count()
	name := p.name(p.take())
	c := p.chainOf(family, table, name.Text, at)
	if !p.peek().Is("{") {
		if len(p.rest()) > 0 {
			p.broken(at, "a chain has a name and its rules in braces")
		}
		return
	}
	p.take()
	policies := 0
	for {
		p.rows()
		t := p.peek()
		switch {
		case t.Kind == nft.End:
			p.broken(p.on(t.Place), "chain %s, opened at line %d, is not closed: the file ends here", source.Clean(name.Text), at.Line)
			return
		case t.Is("}"):
			p.take()
			return
		case t.Is("type"):
			p.base(c, p.rest())
		case t.Is("policy"):
			p.policy(c, p.rest(), policies > 0)
			policies++
		case t.Is("comment") || t.Is("devices"):
			p.in.Count()
			p.rest()
		case t.Is("flags"):
			p.in.Count()
			if r := p.rest(); len(r) != 2 || !r[1].Is("offload") {
				p.unread(p.on(t.Place), c.owner(), "\"offload\" is the only flag of a chain")
			}
		case p.takeAhead(c):
		default:
			before := t
			tokens := p.passingRule()
			if len(tokens) == 0 {
				p.take()
				p.unread(p.on(before.Place), c.owner(), "%q does not begin a rule", source.Clean(before.Text))
				continue
			}
			r := row{in: p.in, rule: p.simple(c, p.in, tokens)}
			if r.rule == nil {
				r.tokens = p.expand(p.keep(tokens))
			}
			c.rules = append(c.rules, r)
			p.readAhead(c)
		}
		p.ends()
	}
}

func (p *parser) chainOf(family, table, name string, at source.Pos) *chain {
	id := family + " " + table + " " + name
	if c := p.byID[id]; c != nil {
		return c
	}
	c := &chain{in: p.in, Chain: &model.Chain{Family: family, Table: source.Clean(table), Name: source.Clean(name), At: at,
		Policy: model.Unsaid(model.Accept, "nftables default of a chain's policy")}}
	p.chains = append(p.chains, c)
	p.byID[id] = c
	return c
}

var chainKinds = map[string]model.ChainKind{"filter": model.FilterChain, "nat": model.NATChain, "route": model.RouteChain}

// base reads "type filter hook forward [device d|devices = { d, ... }] priority 0".
func (p *parser) base(c *chain, tokens []token) {
	p.in.Count()
	tokens = p.expand(tokens)
	begun := p.on(tokens[0].Place)
	bad := func(format string, args ...any) {
		p.unread(begun, c.owner(), format, args...)
	}
	for i := 0; i < len(tokens); i++ {
		at := func(n int) token {
			if i+n < len(tokens) {
				return tokens[i+n]
			}
			return token{}
		}
		switch tokens[i].Text {
		case "type":
			kind, ok := chainKinds[at(1).Text]
			if !ok {
				bad("%q is not a type of chain", source.Clean(at(1).Text))
			}
			c.Kind = kind
			i++
		case "hook":
			h, ok := hooks[at(1).Text]
			if !ok {
				bad("%q is not a hook", source.Clean(at(1).Text))
			}
			c.Hook, c.At = h, begun
			i++
		case "device":
			i++
		case "devices":
			for i+1 < len(tokens) && !tokens[i].Is("}") {
				i++
			}
		case "priority":
			n, err := priority(tokens[i+1:])
			if err != nil {
				bad("%v", err)
			}
			c.Priority = n
			if i < 4 {
				bad("a base chain has a type, a hook and a priority")
			}
			return
		default:
			bad("%q was not expected here", source.Clean(tokens[i].Text))
			return
		}
	}
	bad("a base chain has a type, a hook and a priority")
}

var oneOrSum = matching(`^(- ?[0-9]+|-?[0-9]+|[a-z]+( ?[-+] ?[0-9]+)?)$`)

// priority reads a number, a name, or a name with a number added or taken away.
func priority(tokens []token) (int, error) {
	var b strings.Builder
	for _, t := range tokens {
		b.WriteString(t.Text)
	}
	s := b.String()
	if !oneOrSum(strings.TrimSuffix(spelled(tokens), " ")) {
		return 0, fmt.Errorf("%q is not a priority", source.Clean(s))
	}
	if n, err := strconv.Atoi(s); err == nil {
		return n, nil
	}
	i := strings.IndexAny(s, "+-")
	if i < 0 {
		i = len(s)
	}
	base, ok := priorities[s[:i]]
	if !ok {
		return 0, fmt.Errorf("%q is not a priority", source.Clean(s))
	}
	if i == len(s) {
		return base, nil
	}
	n, err := strconv.Atoi(s[i:])
	if err != nil {
		return 0, fmt.Errorf("%q is not a priority", source.Clean(s))
	}
	return base + n, nil
}

func (p *parser) policy(c *chain, tokens []token, twice bool) {
	p.in.Count()
	tokens = p.expand(tokens)
	at := p.on(tokens[0].Place)
	if twice {
		p.broken(at, "the policy of a chain is set twice")
	}
	switch {
	case len(tokens) == 2 && tokens[1].Text == "drop":
		c.Policy = model.Say(model.Drop, at)
	case len(tokens) == 2 && tokens[1].Text == "accept":
		c.Policy = model.Say(model.Accept, at)
	default:
		p.unread(at, c.owner(), "a policy is accept or drop")
	}
}

// set reads "name { type ...; flags ...; elements = { ... } }" behind the word set or map.
func (p *parser) set(family, table string, at source.Pos, isMap bool) {
	p.in.Count()
	name := p.name(p.take())
	if !p.peek().Is("{") {
		p.rest()
		p.unread(at, read.Owner{Name: source.Clean(family + " " + table)}, "a set has its type in braces")
		return
	}
	s := p.setOf(family, table, name.Text, at, isMap)
	p.take()
	for {
		p.rows()
		t := p.take()
		switch {
		case t.Kind == nft.End:
			p.broken(p.on(t.Place), "set %s, opened at line %d, is not closed: the file ends here", source.Clean(name.Text), at.Line)
			return
		case t.Is("}"):
			return
		case t.Is("type"):
			s.shape(p.rest(), named)
		case t.Is("typeof"):
			s.shape(p.expand(p.rest()), spelledOut)
		case t.Is("flags"):
			flags := p.rest()
			for i, f := range flags {
				if f.Kind == nft.Word && !setFlags[f.Text] || f.Is(",") == (i%2 == 0) || i%2 == 1 && i == len(flags)-1 {
					p.unread(p.on(t.Place), s.owner(), "%q is not a flag of a set", source.Clean(f.Text))
				}
				s.interval = s.interval || f.Text == "interval"
				if f.Text == "dynamic" || f.Text == "timeout" { // filled by rules, or by programs that add what is to vanish
					s.dynamic = true
				}
			}
		case t.Is("elements"):
			tokens := p.expand(p.restOfRule())
			if len(tokens) < 3 || !tokens[0].Is("=") || !tokens[1].Is("{") || !tokens[len(tokens)-1].Is("}") {
				p.unread(p.on(t.Place), s.owner(), "elements are an equals sign and a list in braces")
				continue
			}
			p.elements(s, tokens[2:len(tokens)-1])
			continue
		case settingsOfSets[t.Text] != nil && t.Kind == nft.Word:
			if rest := p.rest(); !settingsOfSets[t.Text](rest) {
				p.unread(p.on(t.Place), s.owner(), "%q is not a setting of a set in this form", t.Text)
			}
		default:
			p.rest()
			p.unread(p.on(t.Place), s.owner(), "%q is not a known part of a set", source.Clean(t.Text))
		}
		if !t.Is("auto-merge") {
			p.ends()
		}
	}
}

func (p *parser) setOf(family, table, name string, at source.Pos, isMap bool) *set {
	id := family + " " + table + " " + name
	if s := p.sets[id]; s != nil {
		return s
	}
	s := &set{family: family, table: table, name: name, in: p.in, at: at, isMap: isMap}
	p.sets[id] = s
	p.setList = append(p.setList, s)
	return s
}

func (p *parser) elements(s *set, tokens []token) {
	if len(tokens) == 0 || tokens[0].Is(",") {
		p.unread(s.at, s.owner(), "an element is missing in a list")
	}
	s.elements = append(s.elements, commas(tokens)...)
	p.in.File.Statements += len(s.elements)
}

// commas splits tokens at the commas that stand outside of braces and parentheses. One that divides nothing is an element by itself,
// which no set can hold.
func commas(tokens []token) [][]token {
	var out [][]token
	depth, start := 0, 0
	for i, t := range tokens {
		switch {
		case t.Kind != nft.Mark:
		case t.Text == "{" || t.Text == "(":
			depth++
		case t.Text == "}" || t.Text == ")":
			depth--
		case t.Text == "," && depth == 0:
			out = append(out, tokens[start:max(i, start+1)]) // an empty one keeps its comma
			start = i + 1
		}
	}
	if start < len(tokens) {
		out = append(out, tokens[start:])
	}
	return out
}

// command reads "add|insert|create table|chain|rule|set|map|element ...".
func (p *parser) command(verb token) {
	what := p.take()
	if what.Is("table") {
		p.table(p.on(verb.Place))
		return
	}
	known := what.Is("chain") || what.Is("rule") || what.Is("set") || what.Is("map") || what.Is("element")
	if !known {
		if what.Kind == nft.Word && !verb.Is("add") && (isFamily(what.Text) || p.peek().Kind == nft.Word) {
			p.broken(p.on(verb.Place), "%s what is not said", verb.Text)
		}
		if what.Kind == nft.Word &&
			(isFamily(what.Text) || p.peek().Kind == nft.Word) { // "add ip filter forward ..." without the word rule
			p.back(what)
			p.rule(verb)
			return
		}
		p.rest()
		p.unread(p.on(verb.Place), read.Owner{}, "%q is not a known object of %q", source.Clean(what.Text), verb.Text)
		return
	}
	if what.Is("rule") {
		p.rule(verb)
		return
	}
	family, table := p.place()
	switch what.Text {
	case "chain":
		p.chain(family, table, p.on(what.Place))
	case "set", "map":
		p.set(family, table, p.on(what.Place), what.Text == "map")
	case "element":
		p.in.Count()
		name := p.take()
		tokens := p.expand(p.restOfRule())
		if len(tokens) < 2 || !tokens[0].Is("{") {
			p.unread(p.on(what.Place), read.Owner{}, "elements in braces were expected")
			return
		}
		p.elements(p.setOf(family, table, name.Text, p.on(what.Place), false), tokens[1:len(tokens)-1])
	}
}

func (p *parser) place() (family, table string) {
	family = "ip"
	t := p.take()
	if isFamily(t.Text) && p.peek().Kind == nft.Word {
		family = t.Text
		t = p.take()
	}
	p.made(p.on(t.Place), family, t.Text)
	return family, t.Text
}

// made says of a table that this file has not made: what else is in it is not known, and without it the program takes nothing.
func (p *parser) made(at source.Pos, family, table string) {
	if id := family + " " + table; !p.tables[id] {
		p.tables[id] = true
		p.unread(at, read.Owner{}, "table %s is not made by this file", source.Clean(id))
	}
}

// rule reads "[family] table chain [handle|index|position n] ..." behind the word rule.
func (p *parser) rule(verb token) {
	family, table := p.place()
	name := p.take()
	if id := family + " " + table + " " + name.Text; p.byID[id] == nil {
		p.unread(p.on(verb.Place), read.Owner{}, "chain %s is not made by this file", source.Clean(id))
	}
	c := p.chainOf(family, table, name.Text, p.on(verb.Place))
	tokens := p.expand(p.restOfRule())
	placed, at := false, -1
	for len(tokens) > 1 && (tokens[0].Is("handle") || tokens[0].Is("index") || tokens[0].Is("position")) {
		if n, err := strconv.Atoi(tokens[1].Text); err == nil && n >= 0 && n < len(c.rules) && tokens[0].Is("index") {
			at = n
		} else {
			placed = true
		}
		tokens = tokens[2:]
	}
	if len(tokens) == 0 {
		p.unread(p.on(verb.Place), c.owner(), "the rule is empty")
		return
	}
	if placed || verb.Is("replace") {
		p.unread(
			p.on(verb.Place),
			c.owner(),
			"the rule is placed by a number that only the running system knows; it is read as the chain's last",
		)
	}
	r := row{in: p.in, tokens: tokens}
	switch {
	case at >= 0 && verb.Is("insert"):
		c.rules = slices.Insert(c.rules, at, r)
	case at >= 0:
		c.rules = slices.Insert(c.rules, at+1, r)
	case verb.Is("insert") && !placed:
		c.rules = append([]row{r}, c.rules...)
	default:
		c.rules = append(c.rules, r)
	}
}
