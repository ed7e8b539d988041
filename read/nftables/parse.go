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
)

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
}

// set is a named set or map.
type set struct {
	family, table, name string
	in                  *read.Input
	line                int
	isMap, dynamic      bool
	interval            bool      // it may hold ranges and prefixes
	key, data           []operand // of which types its keys are, and its data; nil where that is not known
	verdicts            bool      // its data are verdicts
	odd                 string    // what is wrong with its type
	elements            [][]token
	used                []source.Pos
}

// parser reads the statements of a file, and of the files that it includes, into tables.
type parser struct {
	*ruleset
	in     *read.Input
	lex    lexer
	peeked []token
	depth  int

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

	chainUse   map[string][]source.Pos // where a chain is jumped to
	chainOrder []string
}

func (p *parser) peek() token {
	if len(p.peeked) == 0 {
		p.peeked = append(p.peeked, p.lex.next())
	}
	return p.peeked[0]
}

func (p *parser) take() token {
	t := p.peek()
	p.peeked = p.peeked[1:]
	return t
}

func (p *parser) rows() {
	for p.peek().kind == newRow {
		p.take()
	}
}

// rest takes the tokens up to the end of the statement: a line end, a semicolon, or the brace that closes what the
// statement stands in. Inside of braces and parentheses, lines do not end a statement.
func (p *parser) rest() []token {
	var out []token
	start := p.peek().line
	tight := 0  // the depth of braces in which no line may end
	inline := 0 // the depth at which the rules of a chain without a name stand
	for depth := 0; ; {
		t := p.peek()
		if len(out) == maxTokens {
			p.in.Problemf(start, "a statement of more than %d words begins here; the rest of it is not read", maxTokens)
			out = append(out, token{mark, "}", t.line}) // one more than the limit: no further word is kept, nor said again
		}
		switch {
		case t.kind == end && depth > 0:
			p.broken(start, "a brace or parenthesis that opens here is not closed: the file ends before")
			return out
		case t.kind == end, depth == 0 && (t.kind == newRow || t.is("}")):
			return out
		case t.kind == mark && (t.s == "{" || t.s == "("):
			depth++
			if len(out) > 0 && (out[len(out)-1].is("jump") || out[len(out)-1].is("goto")) && (inline == 0 || inline == depth-1) {
				inline = depth
			}
			if len(out) > 0 && out[len(out)-1].kind == word && strings.HasPrefix(out[len(out)-1].s, "@") {
				tight = depth
			}
		case t.kind == mark && (t.s == "}" || t.s == ")"):
			if inline == depth && depth > 0 {
				inline--
			}
			if tight == depth {
				tight = 0
			}
			depth--
		}
		p.take()
		if t.kind == newRow && t.s == "\n" && p.ofRules && inline == 0 && depth > 0 && len(out) > 0 &&
			(tight > 0 || !out[len(out)-1].is("{") && !out[len(out)-1].is(",")) {
			for p.peek().kind == newRow && p.peek().s == "\n" {
				p.take()
			}
			if next := p.peek(); tight > 0 || !next.is(",") && !next.is("}") && next.kind != end {
				p.broken(t.line, "a line ends here between braces, inside an element")
			}
		}
		if t.s == ";" && t.kind == newRow && p.ofRules && inline == 0 {
			p.broken(t.line, "a semicolon stands between braces")
		}
		if (t.kind != newRow || inline > 0 && inline == depth) && len(out) <= maxTokens {
			out = append(out, t)
		}
	}
}

// restOfRule is rest for rules and lists of elements, in whose braces no semicolon may stand.
func (p *parser) restOfRule() []token {
	p.ofRules = true
	defer func() { p.ofRules = false }()
	return p.rest()
}

// name says of a token where a name is expected that it is none.
func (p *parser) name(t token) token {
	if t.kind != word || keywords[t.s] || !name(t.s) {
		p.broken(t.line, "%q is not a name", source.Clean(t.s))
	}
	return t
}

func (p *parser) unread(line int, scope, why string, args ...any) {
	p.in.Unread(line, scope, why, args...)
}

// file reads a whole file.
func (p *parser) file() {
	for {
		p.rows()
		t := p.peek()
		switch {
		case t.kind == end:
			return
		case t.is("}"):
			p.take()
			p.broken(t.line, "a closing brace has no opening one")
		default:
			p.statement()
			p.ends()
		}
		if p.lex.open {
			p.lex.open = false
			p.broken(p.lex.line, "a quotation mark is not closed")
		}
		if p.lex.junk && !p.in.File.Converted() {
			p.broken(p.lex.line, "a carriage return stands here, or before")
		}
		p.lex.junk = false
	}
}

// ends says of a statement that a line end or a semicolon does not end that it has none: nft wants one also before a closing brace.
func (p *parser) ends() {
	if t := p.peek(); t.kind != newRow && t.kind != end {
		p.broken(t.line, "before %q a semicolon or a line end is missing", source.Clean(t.s))
	}
}

// broken says that the text breaks the grammar: nft then loads nothing of it.
func (p *parser) broken(line int, format string, args ...any) {
	if p.in.Gateway.RefusedOf(p.in.File.Format) == nil {
		p.in.Refuse(min(line, max(1, p.in.File.Lines())), format, args...)
	}
}

func (p *parser) statement() {
	t := p.take()
	if t.kind != word {
		p.rest()
		p.unread(t.line, "", "a statement cannot begin with %q", source.Clean(t.s))
		return
	}
	switch t.s {
	case "include":
		p.in.Count()
		for _, arg := range p.rest() {
			p.include(t.line, arg.s)
		}
	case "define", "redefine":
		p.define(t)
	case "undefine":
		p.in.Count()
		for _, arg := range p.rest() {
			delete(p.defines, arg.s)
		}
	case "flush":
		p.in.Count()
		p.flush(t.line, p.rest())
	case "delete", "destroy":
		p.in.Count()
		p.delete(t, p.expand(p.rest(), t.line))
	case "reset", "list", "get", "monitor", "export", "describe":
		p.in.Count() // they change nothing
		p.rest()
	case "rename", "import":
		p.rest()
		p.unread(t.line, "", "%s is not read", t.s)
	case "table":
		p.table(t.line)
	case "add", "create", "insert", "replace":
		p.command(t)
	case "chain", "set", "map", "rule", "element":
		p.peeked = append([]token{t}, p.peeked...)
		p.command(token{word, "add", t.line})
	case "flowtable", "counter", "quota", "limit", "ct", "secmark", "synproxy": // as behind the word add
		if t.is("ct") {
			t.s += " " + p.take().s
			if t.s != "ct helper" && t.s != "ct timeout" && t.s != "ct expectation" {
				p.broken(t.line, "%q is not a command", source.Clean(t.s))
			}
		}
		family, table := p.place()
		p.object(family, table, t)
	default:
		p.rest()
		p.broken(t.line, "%q is not a command", source.Clean(t.s))
		p.unread(t.line, "", "%q is not a known command", source.Clean(t.s))
	}
}

func (p *parser) include(line int, pattern string) {
	if strings.HasSuffix(pattern, "/") {
		pattern += "*"
	}
	for _, in := range p.in.Include(line, pattern) {
		sub := &parser{ruleset: p.ruleset, in: in, lex: lexer{data: in.File.Bytes(), line: 1}, depth: p.depth + 1}
		sub.file()
	}
}

func (p *parser) define(verb token) {
	line := verb.line
	p.in.Count()
	name := p.take()
	if p.defines[name.s] != nil && verb.is("define") {
		p.broken(line, "%s is defined twice", source.Clean(name.s))
	}
	if name.kind != word || !p.peek().is("=") {
		p.rest()
		p.unread(line, "", "a definition is a name, an equals sign and a value")
		return
	}
	p.take()
	p.defines[name.s] = p.expand(p.rest(), line)
	id := "definition " + name.s
	if p.objects[id] == nil || p.objects[id].Missing {
		p.objects[id] = p.declare("definition", name.s, line)
	}
}

// expand replaces $names by what they stand for.
func (p *ruleset) expand(in []token, line int) []token {
	hit := false
	for _, t := range in {
		if t.kind == word && strings.Contains(t.s, "$") {
			hit = true
			break
		}
	}
	if !hit {
		return in
	}
	var out []token
	for i, t := range in {
		name, isVar := strings.CutPrefix(t.s, "$")
		if t.kind != word || !isVar {
			out = append(out, t)
			continue
		}
		value, ok := p.defines[name]
		if !ok || p.expanded+len(value) > maxTokens {
			out = append(out, t)
			continue
		}
		p.expanded += len(value)
		inBraces := len(value) > 1 && value[0].is("{") && i > 0 && (in[i-1].is("{") || in[i-1].is(","))
		if inBraces { // a set inside a set
			value = value[1 : len(value)-1]
		}
		if d := p.objects["definition "+name]; d != nil {
			d.Used = append(d.Used, source.Pos{File: d.At.File, Line: t.line})
		}
		for _, v := range value {
			v.line = t.line
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
func (p *parser) table(line int) {
	p.in.Count()
	family := "ip"
	name := p.take()
	if name.kind == word && isFamily(name.s) && p.peek().kind == word {
		family = name.s
		name = p.take()
	}
	p.name(name)
	if !p.peek().is("{") {
		if more := p.rest(); len(more) > 0 {
			p.broken(line, "%q is no family of tables", source.Clean(name.s))
		}
		p.tables[family+" "+name.s] = true
		return
	}
	p.tables[family+" "+name.s] = true
	p.take()
	for {
		p.rows()
		t := p.take()
		switch {
		case t.kind == end:
			p.broken(t.line, "table %s, opened at line %d, is not closed: the file ends here", source.Clean(name.s), line)
			return
		case t.is("}"):
			return
		case t.is("chain"):
			p.chain(family, name.s, t.line)
		case t.is("set") || t.is("map"):
			p.set(family, name.s, t.line, t.is("map"))
		case t.is("counter") || t.is("quota") || t.is("limit") || t.is("ct") || t.is("flowtable") || t.is("secmark") || t.is("synproxy"):
			p.object(family, name.s, t)
		case t.is("flags"):
			p.in.Count()
			for _, f := range p.rest() {
				if !f.is("dormant") && !f.is("owner") && !f.is("persist") && !f.is(",") {
					p.broken(t.line, "%q is not a flag of a table", source.Clean(f.s))
				}
				if f.is("dormant") {
					p.asleep[family+" "+name.s] = p.in.At(t.line)
				}
			}
		case t.is("comment"):
			p.in.Count()
			p.rest()
		case t.is("include"):
			p.in.Count()
			for _, arg := range p.rest() {
				p.unread(t.line, "", "%s is included inside a table", source.Clean(arg.s))
			}
		default:
			p.rest()
			p.unread(t.line, family+" "+name.s, "%q is not a known part of a table", source.Clean(t.s))
		}
		p.ends()
	}
}

// object reads a named counter, limit or the like: it is declared, and its own settings are passed over.
func (p *parser) object(family, table string, t token) {
	p.in.Count()
	args := p.rest()
	if t.s == "ct" && len(args) > 0 {
		t.s, args = "ct "+args[0].s, args[1:]
	}
	if len(args) == 0 || strings.HasPrefix(t.s, "ct") && t.s != "ct helper" && t.s != "ct timeout" && t.s != "ct expectation" ||
		args[0].kind != word ||
		len(args) > 1 && !args[1].is("{") {
		p.unread(t.line, "", "a name was expected behind %q, and settings in braces", source.Clean(t.s))
		return
	}
	if i := slices.IndexFunc(args, func(a token) bool {
		return a.kind == word && slices.Contains([]string{"chain", "table", "set", "map", "rule", "accept", "drop", "jump", "goto"}, a.s)
	}); i > 0 {
		p.broken(t.line, "the settings of %s go on up to %q in line %d", source.Clean(args[0].s), args[i].s, args[i].line)
	}
	p.objects[family+" "+table+" "+t.s+" "+args[0].s] = p.declare(t.s, family+" "+table+" "+args[0].s, t.line)
}

func (p *parser) declare(kind, name string, line int) *model.Definition {
	d := &model.Definition{Kind: kind, Name: source.Clean(name), At: p.in.At(line)}
	p.defs = append(p.defs, d)
	return d
}

// chain reads "name { ... }" behind the word chain.
func (p *parser) chain(family, table string, line int) {
	p.in.Count()
	name := p.name(p.take())
	c := p.chainOf(family, table, name.s, line)
	if !p.peek().is("{") {
		if len(p.rest()) > 0 {
			p.broken(line, "a chain has a name and its rules in braces")
		}
		return
	}
	p.take()
	policies := 0
	for {
		p.rows()
		t := p.peek()
		switch {
		case t.kind == end:
			p.broken(t.line, "chain %s, opened at line %d, is not closed: the file ends here", source.Clean(name.s), line)
			return
		case t.is("}"):
			p.take()
			return
		case t.is("type"):
			p.base(c, p.rest())
		case t.is("policy"):
			p.policy(c, p.rest(), policies > 0)
			policies++
		case t.is("comment") || t.is("devices"):
			p.in.Count()
			p.rest()
		case t.is("flags"):
			p.in.Count()
			if r := p.rest(); len(r) != 2 || !r[1].is("offload") {
				p.unread(t.line, c.ID(), "\"offload\" is the only flag of a chain")
			}
		default:
			before := t
			tokens := p.expand(p.restOfRule(), t.line)
			if len(tokens) == 0 {
				p.take()
				p.unread(before.line, c.ID(), "%q does not begin a rule", source.Clean(before.s))
				continue
			}
			c.rules = append(c.rules, row{p.in, tokens})
		}
		p.ends()
	}
}

func (p *parser) chainOf(family, table, name string, line int) *chain {
	id := family + " " + table + " " + name
	if c := p.byID[id]; c != nil {
		return c
	}
	c := &chain{in: p.in, Chain: &model.Chain{Family: family, Table: source.Clean(table), Name: source.Clean(name), At: p.in.At(line),
		Policy: model.Unsaid(model.Accept, "nftables default of a chain's policy")}}
	p.chains = append(p.chains, c)
	p.byID[id] = c
	return c
}

// base reads "type filter hook forward [device d|devices = { d, ... }] priority 0".
func (p *parser) base(c *chain, tokens []token) {
	p.in.Count()
	tokens = p.expand(tokens, 0)
	line := tokens[0].line
	bad := func(format string, args ...any) {
		p.unread(line, c.ID(), format, args...)
		c.Unsure = true
	}
	for i := 0; i < len(tokens); i++ {
		at := func(n int) token {
			if i+n < len(tokens) {
				return tokens[i+n]
			}
			return token{}
		}
		switch tokens[i].s {
		case "type":
			kind, ok := map[string]model.ChainKind{"filter": model.FilterChain, "nat": model.NATChain, "route": model.RouteChain}[at(1).s]
			if !ok {
				bad("%q is not a type of chain", source.Clean(at(1).s))
			}
			c.Kind = kind
			i++
		case "hook":
			h, ok := hooks[at(1).s]
			if !ok {
				bad("%q is not a hook", source.Clean(at(1).s))
			}
			c.Hook, c.At = h, p.in.At(line)
			i++
		case "device":
			i++
		case "devices":
			for i+1 < len(tokens) && !tokens[i].is("}") {
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
			bad("%q was not expected here", source.Clean(tokens[i].s))
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
		b.WriteString(t.s)
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
	tokens = p.expand(tokens, 0)
	line := tokens[0].line
	if twice {
		p.broken(line, "the policy of a chain is set twice")
	}
	switch {
	case len(tokens) == 2 && tokens[1].s == "drop":
		c.Policy = model.Say(model.Drop, p.in.At(line))
	case len(tokens) == 2 && tokens[1].s == "accept":
		c.Policy = model.Say(model.Accept, p.in.At(line))
	default:
		p.unread(line, c.ID(), "a policy is accept or drop")
		c.Unsure = true
	}
}

// set reads "name { type ...; flags ...; elements = { ... } }" behind the word set or map.
func (p *parser) set(family, table string, line int, isMap bool) {
	p.in.Count()
	name := p.name(p.take())
	if !p.peek().is("{") {
		p.rest()
		p.unread(line, family+" "+table, "a set has its type in braces")
		return
	}
	s := p.setOf(family, table, name.s, line, isMap)
	p.take()
	for {
		p.rows()
		t := p.take()
		switch {
		case t.kind == end:
			p.broken(t.line, "set %s, opened at line %d, is not closed: the file ends here", source.Clean(name.s), line)
			return
		case t.is("}"):
			return
		case t.is("type"):
			s.shape(p.rest(), named)
		case t.is("typeof"):
			s.shape(p.expand(p.rest(), t.line), spelledOut)
		case t.is("flags"):
			flags := p.rest()
			for i, f := range flags {
				if f.kind == word && !setFlags[f.s] || f.is(",") == (i%2 == 0) || i%2 == 1 && i == len(flags)-1 {
					p.unread(t.line, family+" "+table, "%q is not a flag of a set", source.Clean(f.s))
				}
				s.interval = s.interval || f.s == "interval"
				if f.s == "dynamic" || f.s == "timeout" { // filled by rules, or by programs that add what is to vanish
					s.dynamic = true
				}
			}
		case t.is("elements"):
			tokens := p.expand(p.restOfRule(), t.line)
			if len(tokens) < 3 || !tokens[0].is("=") || !tokens[1].is("{") || !tokens[len(tokens)-1].is("}") {
				p.unread(t.line, family+" "+table, "elements are an equals sign and a list in braces")
				continue
			}
			p.elements(s, tokens[2:len(tokens)-1])
			continue
		case settingsOfSets[t.s] != nil && t.kind == word:
			if rest := p.rest(); !settingsOfSets[t.s](rest) {
				p.unread(t.line, family+" "+table, "%q is not a setting of a set in this form", t.s)
			}
		default:
			p.rest()
			p.unread(t.line, family+" "+table, "%q is not a known part of a set", source.Clean(t.s))
		}
		if !t.is("auto-merge") {
			p.ends()
		}
	}
}

func (p *parser) setOf(family, table, name string, line int, isMap bool) *set {
	id := family + " " + table + " " + name
	if s := p.sets[id]; s != nil {
		return s
	}
	s := &set{family: family, table: table, name: name, in: p.in, line: line, isMap: isMap}
	p.sets[id] = s
	p.setList = append(p.setList, s)
	return s
}

func (p *parser) elements(s *set, tokens []token) {
	if len(tokens) == 0 || tokens[0].is(",") {
		p.unread(s.line, source.Clean(s.family+" "+s.table), "an element is missing in a list")
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
		case t.kind != mark:
		case t.s == "{" || t.s == "(":
			depth++
		case t.s == "}" || t.s == ")":
			depth--
		case t.s == "," && depth == 0:
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
	if what.is("table") {
		p.table(verb.line)
		return
	}
	known := what.is("chain") || what.is("rule") || what.is("set") || what.is("map") || what.is("element")
	if !known {
		if what.kind == word && !verb.is("add") && (isFamily(what.s) || p.peek().kind == word) {
			p.broken(verb.line, "%s what is not said", verb.s)
		}
		if what.kind == word && (isFamily(what.s) || p.peek().kind == word) { // "add ip filter forward ..." without the word rule
			p.peeked = append([]token{what}, p.peeked...)
			p.rule(verb)
			return
		}
		p.rest()
		p.unread(verb.line, "", "%q is not a known object of %q", source.Clean(what.s), verb.s)
		return
	}
	if what.is("rule") {
		p.rule(verb)
		return
	}
	family, table := p.place()
	switch what.s {
	case "chain":
		p.chain(family, table, what.line)
	case "set", "map":
		p.set(family, table, what.line, what.s == "map")
	case "element":
		p.in.Count()
		name := p.take()
		tokens := p.expand(p.restOfRule(), what.line)
		if len(tokens) < 2 || !tokens[0].is("{") {
			p.unread(what.line, "", "elements in braces were expected")
			return
		}
		p.elements(p.setOf(family, table, name.s, what.line, false), tokens[1:len(tokens)-1])
	}
}

func (p *parser) place() (family, table string) {
	family = "ip"
	t := p.take()
	if isFamily(t.s) && p.peek().kind == word {
		family = t.s
		t = p.take()
	}
	p.made(t.line, family, t.s)
	return family, t.s
}

// made says of a table that this file has not made: what else is in it is not known, and without it the program takes nothing.
func (p *parser) made(line int, family, table string) {
	if id := family + " " + table; !p.tables[id] {
		p.tables[id] = true
		p.unread(line, "", "table %s is not made by this file", source.Clean(id))
	}
}

// rule reads "[family] table chain [handle|index|position n] ..." behind the word rule.
func (p *parser) rule(verb token) {
	family, table := p.place()
	name := p.take()
	if id := family + " " + table + " " + name.s; p.byID[id] == nil {
		p.unread(verb.line, "", "chain %s is not made by this file", source.Clean(id))
	}
	c := p.chainOf(family, table, name.s, verb.line)
	tokens := p.expand(p.restOfRule(), verb.line)
	placed, at := false, -1
	for len(tokens) > 1 && (tokens[0].is("handle") || tokens[0].is("index") || tokens[0].is("position")) {
		if n, err := strconv.Atoi(tokens[1].s); err == nil && n >= 0 && n < len(c.rules) && tokens[0].is("index") {
			at = n
		} else {
			placed = true
		}
		tokens = tokens[2:]
	}
	if len(tokens) == 0 {
		p.unread(verb.line, c.ID(), "the rule is empty")
		return
	}
	if placed || verb.is("replace") {
		p.unread(verb.line, c.ID(), "the rule is placed by a number that only the running system knows; it is read as the chain's last")
	}
	r := row{p.in, tokens}
	switch {
	case at >= 0 && verb.is("insert"):
		c.rules = slices.Insert(c.rules, at, r)
	case at >= 0:
		c.rules = slices.Insert(c.rules, at+1, r)
	case verb.is("insert") && !placed:
		c.rules = append([]row{r}, c.rules...)
	default:
		c.rules = append(c.rules, r)
	}
}
