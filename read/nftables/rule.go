package nftables

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"

	"toril/model"
	"toril/model/literal"
	"toril/packet"
	"toril/read"
	"toril/source"
	"toril/syntax"
	"toril/syntax/nft"
)

// state is a rule on its way from tokens to the model. A verdict map splits it into several.
type state struct {
	*ruleset
	in    *read.Input
	chain *chain
	t     []token
	i     int
	rule  model.Rule
	out   []*model.Rule
	depth int
}

// rule translates one row, and adds what becomes of it to rules; what it does not understand makes the rule unsure, and is said.
func (rs *ruleset) rule(rules []*model.Rule, c *chain, r row, depth int) []*model.Rule {
	if r.rule != nil {
		r.in.Count()
		return append(rules, r.rule)
	}
	s := &rs.rules
	if depth > 0 { // within another
		s = &state{}
	}
	*s = state{ruleset: rs, in: r.in, chain: c, t: r.tokens, depth: depth, out: rules}
	base := packet.All()
	s.rule.At = r.in.Pos(syntax.Over(r.tokens[0].Place, r.tokens[len(r.tokens)-1].Place))
	switch c.Family {
	case "ip":
		base = packet.Only(packet.IPv4)
	case "ip6":
		base = packet.Only(packet.IPv6)
	case "arp", "bridge", "netdev":
		s.unsure("a chain of family "+c.Family, false)
	}
	s.rule.When = base
	r.in.Count()
	if packet.Guard(s.read) != nil { // which packets it is for is not known: it may do anything
		one := &model.Rule{At: s.rule.At, When: base, Verb: model.UnknownAction}
		r.in.Unread(on(r.in, r.tokens[0].Place), read.Owner{Name: c.ID(), To: &one.Doubts}, "%s", read.TooLarge)
		return append(rules, one)
	}
	if s.rule.Acts() || len(s.out) == len(rules) {
		s.emit(&s.rule)
	}
	return s.out
}

// simple returns the rule that tokens say, where they are of the commonest form, which hangs on nothing else in the file: conditions that
// each ask for one value, "log" or "counter", and a verdict. It returns nil where they are not.
func (rs *ruleset) simple(c *chain, in *read.Input, tokens []token) *model.Rule {
	for i := range tokens {
		if tokens[i].Kind == nft.Mark { // of a set
			return nil
		}
	}
	s := &rs.rules
	*s = state{ruleset: rs, in: in, chain: c, t: tokens}
	switch c.Family {
	case "ip":
		s.rule.When = packet.Only(packet.IPv4)
	case "ip6":
		s.rule.When = packet.Only(packet.IPv6)
	case "inet":
		s.rule.When = packet.All()
	default:
		return nil
	}
	s.plain()
	last := len(tokens) - 1
	for s.i < last {
		t := &tokens[s.i]
		switch next := &tokens[s.i+1]; {
		case t.Is("log") && next.Is("prefix") && s.i+2 < last && tokens[s.i+2].Kind == nft.Text:
			s.rule.Log = true
			s.i += 2
		case t.Is("log") && !isLogOption(next.Text):
			s.rule.Log = true
		case t.Is("counter") && next.Kind == nft.Word && next.Text != "packets" && next.Text != "name":
			s.rule.Counter = true
		default:
			return nil
		}
		s.i++
	}
	if s.i != last || tokens[last].Kind != nft.Word {
		return nil
	}
	switch tokens[last].Text {
	case "accept", "drop", "return":
		s.verdict(tokens[last])
	default:
		return nil
	}
	s.rule.At = in.Pos(syntax.Over(tokens[0].Place, tokens[last].Place))
	one := rs.made.Next()
	*one = s.rule
	return one
}

// read takes the rule's conditions and statements, one after the other.
func (s *state) read() {
	s.plain()
	for s.i < len(s.t) {
		if !s.step() {
			break
		}
	}
}

// plain reads the conditions that a rule begins with as far as each asks one of the commonest operands for one value: they narrow the
// packets in one step. What is not of that form is left to step.
func (s *state) plain() {
	var room [8]packet.Term
	terms := room[:0]
	for {
		k, n := commonAt(s.left())
		if n == 0 || !s.alone(s.i+n) {
			break
		}
		o := s.common(k, s.left())
		if o.family == packet.IPv4 && s.chain.Family == "ip6" || o.family == packet.IPv6 && s.chain.Family == "ip" {
			break
		}
		text := s.t[s.i+n].Text
		if text != o.text || text == "" { // rules that stand together often ask for the same
			v, err := o.values(text)
			if err != nil {
				break
			}
			o.text, o.value = text, v
		}
		if !o.proto.Empty() {
			terms = append(terms, packet.Term{Field: packet.Proto, Values: o.proto})
		}
		terms = append(terms, packet.Term{Family: o.family, Field: o.field, Values: o.value})
		s.i += n + 1
	}
	s.rule.When = s.rule.When.WithAll(terms...)
}

// alone reports whether a token is a value, and the only one, of the condition before it.
func (s *state) alone(i int) bool {
	if i >= len(s.t) {
		return false
	}
	switch t := &s.t[i]; {
	case t.Kind == nft.Text:
	case t.Kind != nft.Word, t.Text == "set", t.Text == "vmap", t.Text[0] == '@', t.Text[0] == '$':
		return false
	}
	if i+1 == len(s.t) {
		return true
	}
	next := &s.t[i+1]
	return next.Kind == nft.Word && next.Text != "set" && next.Text[0] != '-'
}

// emit adds a rule as it is now.
func (s *state) emit(r *model.Rule) {
	one := s.made.Next()
	*one = *r
	s.out = append(s.out, one)
}

func (s *state) left() []token { return s.t[s.i:] }

func (s *state) peek() token {
	if s.i < len(s.t) {
		return s.t[s.i]
	}
	return token{}
}

func (s *state) take() token {
	t := s.peek()
	s.i++
	return t
}

func (s *state) accept(words ...string) bool {
	for _, w := range words {
		if s.i < len(s.t) && s.t[s.i].Is(w) {
			s.i++
			return true
		}
	}
	return false
}

// unread keeps what was not understood and goes on at the next word that begins a statement.
func (s *state) unread(from int, why string, args ...any) {
	s.in.Unread(on(s.in, s.t[min(from, len(s.t)-1)].Place), read.Owner{Name: s.chain.ID(), To: &s.rule.Doubts}, why, args...)
	for s.i < len(s.t) && !verdicts[s.t[s.i].Text] && !(s.t[s.i].Kind == nft.Word && statements()[s.t[s.i].Text]) {
		s.i++
	}
}

var verdicts = map[string]bool{
	"accept":   true,
	"drop":     true,
	"reject":   true,
	"return":   true,
	"continue": true,
	"jump":     true,
	"goto":     true,
	"queue":    true,
}

var statements = sync.OnceValue(func() map[string]bool {
	return map[string]bool{
		"counter":    true,
		"log":        true,
		"limit":      true,
		"masquerade": true,
		"snat":       true,
		"dnat":       true,
		"redirect":   true,
		"comment":    true,
		"notrack":    true,
	}
})

// step reads one condition or statement; false ends the rule. It is long as a grammar is: a case a form that a part of a rule may have.
func (s *state) step() bool {
	from := s.i
	t := s.take()
	if t.Kind != nft.Word {
		s.unread(from, "%q was not expected here", source.Clean(t.Text))
		return s.i < len(s.t)
	}
	switch t.Text {
	case "accept", "drop", "return", "continue":
		s.verdict(t)
		return s.trailing()
	case "reject":
		s.rule.Verb = model.Reject
		if why := s.refusal(); why != "" {
			s.i = min(s.i, len(s.t))
			s.unread(from, "%s", why)
		}
		return s.trailing()
	case "jump", "goto":
		s.jump(t)
		return s.trailing()
	case "queue":
		s.rule.Verb = model.Queue
		return s.trailing("to", "num", "flags", "bypass", "fanout", ",")
	case "counter":
		s.counter()
		return true
	case "log":
		s.rule.Log = true
		for s.i+1 < len(s.t) && isLogOption(s.t[s.i].Text) {
			flags := s.take().Is("flags")
			if t := s.take(); t.Kind != nft.Text && keywords()[t.Text] && !flags {
				s.unread(s.i-1, "%q is not what is logged", source.Clean(t.Text))
			}
			for flags && s.i < len(s.t) && (s.accept(",") || s.accept("sequence", "options")) {
			}
		}
		return true
	case "limit", "quota":
		s.limit(t)
		return true
	case "comment":
		s.comment()
		return true
	case "notrack":
		s.rule.Verb = model.NoTrack
		return true
	case "masquerade", "redirect":
		s.translateSelf(t)
		return s.trailing("random", "fully-random", "persistent", ",")
	case "snat", "dnat":
		s.translate(t)
		return s.trailing("random", "fully-random", "persistent", ",")
	case "flow", "tproxy", "dup", "fwd", "synproxy", "set", "add", "update", "delete", "last":
		return s.other(t, from)
	}
	s.i = from
	if t.Is("ct") && s.i+1 < len(s.t) && s.t[s.i+1].Is("count") { // "ct count [over] n"
		s.i++
		over := s.i+1 < len(s.t) && s.t[s.i+1].Is("over")
		if why := s.connections(); why != "" {
			s.i = min(s.i, len(s.t))
			s.unread(from, "%s", why)
		}
		s.unsure("a number of connections", !over)
		return true
	}
	return s.match()
}

func isLogOption(w string) bool {
	switch w {
	case "prefix", "level", "group", "snaplen", "queue-threshold", "flags":
		return true
	}
	return false
}

// trailing reads what may stand behind a verdict: a comment, and the settings of reject, queue and translations.
func (s *state) trailing(settings ...string) bool {
	for s.i < len(s.t) {
		switch {
		case s.accept("comment"):
			s.comment()
		case s.accept(settings...):
		case s.rule.Verb == model.Queue && (number(s.peek().Text) || ranged(s.peek().Text, number) || name(s.peek().Text)):
			s.i++
		default:
			verb := s.rule.Verb
			s.unread(s.i, "%q was not expected behind what ends the rule", source.Clean(s.peek().Text))
			s.rule.Verb, s.i = verb, len(s.t)
		}
	}
	return false
}

func (s *state) comment() {
	t := s.take()
	if t.Kind != nft.Text && (!name(t.Text) || keywords()[t.Text]) {
		s.i = min(s.i, len(s.t))
		s.unread(s.i-1, "a comment is a text")
	}
	s.rule.Comment = source.Clean(t.Text)
}

var decisions = map[string]model.Verb{
	"accept": model.Accept, "drop": model.Drop, "return": model.Return, "continue": model.Continue,
}

func (s *state) verdict(t token) {
	s.rule.Verb = decisions[t.Text]
}

func (s *state) jump(t token) {
	s.rule.Verb = model.Jump
	if t.Is("goto") {
		s.rule.Verb = model.Goto
	}
	if s.accept("{") {
		s.rule.Target = s.anonymous()
		return
	}
	s.rule.Target = s.target(s.take())
}

// target names the chain of a jump and notes that it is used.
func (s *state) target(t token) string {
	id := s.chain.Family + " " + s.chain.Table + " " + t.Text
	s.useChain(id, s.in.Pos(t.Place))
	return source.Clean(id)
}

// anonymous reads the rules in braces behind jump into a chain without a name.
func (s *state) anonymous() string {
	s.unnamed++
	name := fmt.Sprintf("(unnamed %d)", s.unnamed)
	c := &chain{
		in: s.in,
		Chain: &model.Chain{
			Family: s.chain.Family,
			Table:  s.chain.Table,
			Name:   name,
			At:     s.rule.At,
			Policy: model.Unsaid(model.Accept, ""),
		},
	}
	depth, start := 1, s.i
	for ; s.i < len(s.t) && depth > 0; s.i++ {
		if s.t[s.i].Is("{") {
			depth++
		} else if s.t[s.i].Is("}") {
			depth--
		}
	}
	body := s.t[start:max(start, s.i-1)]
	if s.depth > read.MaxDepth {
		s.unread(start, "chains nest more than %d deep", read.MaxDepth)
		return c.ID()
	}
	for len(body) > 0 {
		end, depth := 0, 0
		for ; end < len(body) && (depth > 0 || body[end].Kind != nft.Row); end++ {
			if body[end].Is("{") {
				depth++
			} else if body[end].Is("}") {
				depth--
			}
		}
		if end > 0 {
			c.Rules = s.ruleset.rule(c.Rules, c, row{in: s.in, tokens: body[:end]}, s.depth+1)
		}
		body = body[min(len(body), end+1):]
	}
	s.extra = append(s.extra, c.Chain)
	return c.ID()
}

func (s *state) counter() {
	s.rule.Counter = true
	for {
		switch {
		case s.accept("packets"):
			n, err := strconv.ParseUint(s.take().Text, 10, 64)
			if err != nil || !s.accept("bytes") || !number(s.take().Text) {
				s.i = min(s.i, len(s.t))
				s.unread(s.i-1, "a counter has numbers of packets and bytes")
				return
			}
			s.rule.Packets = n
		case s.accept("name"):
			s.use("counter", s.take())
		case s.peek().Kind == nft.Text:
			s.use("counter", s.take())
		default:
			return
		}
	}
}

func (s *state) use(kind string, t token) {
	if keywords()[t.Text] && t.Kind == nft.Word || t.Kind == nft.Mark || t.Text == "" {
		s.i = min(s.i, len(s.t))
		s.unread(s.i-1, "the name of a %s was expected", kind)
		return
	}
	d := s.objects[s.chain.Family+" "+s.chain.Table+" "+kind+" "+t.Text]
	if d == nil {
		d = &model.Definition{Kind: kind, Name: source.Clean(s.chain.Family + " " + s.chain.Table + " " + t.Text), Missing: true}
		s.objects[s.chain.Family+" "+s.chain.Table+" "+kind+" "+t.Text] = d
		s.defs = append(s.defs, d)
	}
	d.Used = append(d.Used, s.in.Pos(t.Place))
}

// limit reads a rate or a quota: the rule concerns some of the packets only.
func (s *state) limit(t token) {
	from := s.i
	if s.accept("name") || s.peek().Kind == nft.Text {
		s.use(t.Text, s.take())
	}
	if s.i == from {
		if why := s.rate(t.Text); why != "" {
			s.i = min(s.i, len(s.t))
			s.unread(from-1, "%s", why)
		}
	}
	s.unsure("a "+t.Text, !slices.ContainsFunc(s.t[min(from, len(s.t)):min(s.i, len(s.t))], func(x token) bool { return x.Is("over") }))
}

// unsure notes a condition that the files do not decide; usually says whether most packets meet it.
func (s *state) unsure(why string, usually bool) {
	s.rule.Doubts.Add(s.undecided(why, usually))
}

func (s *state) undecided(why string, usually bool) *model.Doubt {
	return &model.Doubt{Cause: model.Undecided, Gateway: s.gateway.Name, At: s.rule.At, Of: s.chain.ID(), Why: why, Usually: usually}
}

// other reads statements that change nothing that the model knows, and those that decide outside of it.
func (s *state) other(t token, from int) bool {
	switch t.Text {
	case "flow": // the packets of known connections pass by the rules from now on
		s.i = len(s.t)
		return false
	case "set", "add", "update", "delete":
		why := "the set that is filled is missing"
		if s.peek().Kind == nft.Word && strings.HasPrefix(s.peek().Text, "@") {
			if name := s.take(); s.useSet(name) == nil {
				why = fmt.Sprintf("set %s is not defined", source.Clean(name.Text))
			} else {
				why = s.filling()
			}
		}
		if why != "" {
			s.i = min(s.i, len(s.t))
			s.unread(from, "%s", why)
		}
		s.unsure("a set that the rule itself fills", true)
		return true
	case "last":
		if s.accept("used") {
			s.take()
		}
		return true
	}
	s.i = len(s.t)
	s.rule.Verb = model.UnknownAction
	s.unread(from, "%q is a statement that is not modelled", t.Text)
	return false
}

// match reads a condition: operands, a relation, values; or an assignment; or a verdict map.
func (s *state) match() bool {
	from := s.i
	if s.assignment() {
		return true
	}
	var ops []operand
	for {
		if s.i >= len(s.t) {
			break
		}
		o, n := s.operand()
		if n == 3 && s.chain.Family != "ip" && s.chain.Family != "ip6" && s.peek().Is("ct") &&
			(s.t[s.i+2].Is("saddr") || s.t[s.i+2].Is("daddr")) {
			n = 0 // of which family the address is would not be known
		}
		if n == 0 {
			s.i++
			s.unread(from, "%q is not a condition or statement that is known", source.Clean(s.t[from].Text))
			return true
		}
		ops = append(ops, o)
		s.i += n
		if s.chain.Family == "ip" && o.base.And(packet.Only(packet.IPv4)).Empty() ||
			s.chain.Family == "ip6" && o.base.And(packet.Only(packet.IPv6)).Empty() {
			s.unread(from, "a condition on packets that a table of this family never sees")
			return true
		}
		if !s.accept(".") {
			break
		}
	}
	if s.accept("vmap") {
		return s.verdictMap(ops, from)
	}
	if s.accept("set") { // a field is rewritten that the model does not have
		if slices.ContainsFunc(s.t[from:s.i], func(t token) bool { return t.Is("maxseg") }) {
			s.rule.MSS = model.PathMSS
			if n, err := strconv.ParseUint(s.t[min(s.i, len(s.t)-1)].Text, 0, 16); err == nil && n > 0 {
				s.rule.MSS = int(n)
			}
		}
		s.skipValue(either(number, anyName))
		return true
	}
	set, sure, why := s.relation(ops)
	switch {
	case why != "" && !sure:
		if why != notAllRead {
			s.unsure(why, false)
		}
		s.rule.When = s.rule.When.And(set)
	case why != "":
		s.unread(from, "%s", why)
	default:
		s.rule.When = s.rule.When.And(set)
	}
	return true
}

// assignment reads "meta mark set ...", "ct mark set ..." and the like.
func (s *state) assignment() bool {
	t := s.left()
	for n := 1; n <= 3 && n < len(t); n++ {
		if !t[n].Is("set") {
			continue
		}
		if t[n-1].Is("mark") && (n == 1 || n == 2 && t[0].Is("meta")) {
			s.i += n + 1
			s.setMark(false)
			return true
		}
		if t[n-1].Is("mark") && n == 2 && t[0].Is("ct") {
			s.i += n + 1
			s.setMark(true)
			return true
		}
		if t[0].Is("meta") || t[0].Is("ct") || t[0].Is("ip") || t[0].Is("ip6") || t[0].Is("tcp") || t[0].Is("udp") || t[0].Is("ether") ||
			t[0].Is("vlan") {
			what := t[0].Text + " " + t[n-1].Text
			switch {
			case t[0].Is("ct") && n == 3 && (t[1].Is("original") || t[1].Is("reply")) && t[2].Is("zone"):
			case t[0].Is("meta") || t[0].Is("ct"):
				if n != 2 || !assignable[what] {
					return false
				}
			case !rewritable(t[:n]):
				return false
			}
			s.i += n + 1
			switch what {
			case "ip saddr", "ip daddr", "ip6 saddr", "ip6 daddr", "tcp sport", "tcp dport", "udp sport", "udp dport":
				s.rule.Verb = model.UnknownAction
				s.unread(s.i, "%s is rewritten by hand", what)
			default:
				form := either(number, anyName, address, hardware)
				if what == "ct label" {
					form = forms()["label"]
				}
				s.skipValue(form)
			}
			return true
		}
	}
	return false
}

// setMark reads what is written into the mark of packets, or of their connection.
func (s *state) setMark(conn bool) {
	from := s.i
	if other := map[bool]string{true: "meta", false: "ct"}[conn]; len(s.left()) >= 2 && s.left()[0].Is(other) && s.left()[1].Is("mark") ||
		conn && len(s.left()) >= 1 && s.left()[0].Is("mark") {
		s.accept(other)
		s.accept("mark")
		if s.i >= len(s.t) || s.peek().Kind == nft.Word && !s.peek().Is("and") && !s.peek().Is("or") && !s.peek().Is("xor") {
			s.rule.SetMark = &model.MarkChange{Mask: ^uint32(0), Copy: true, Conn: conn}
			return
		}
		s.i = from
	}
	t := s.take()
	if n, err := strconv.ParseUint(t.Text, 0, 32); err == nil && (s.i >= len(s.t) || s.peek().Kind == nft.Word) {
		s.rule.SetMark = &model.MarkChange{Value: uint32(n), Mask: ^uint32(0), Conn: conn}
		return
	}
	s.i = from
	s.skipValue(number)
	s.rule.SetMark = &model.MarkChange{Mask: ^uint32(0), Any: true, Conn: conn}
}

// skipValue passes over the value of an assignment: an operand or a value, what is reckoned with it, and the map that it is looked
// up in.
func (s *state) skipValue(form check) {
	if s.i >= len(s.t) {
		s.unread(s.i-1, "a value was expected at the end of the rule")
	}
	for s.i < len(s.t) {
		switch _, n := operandAt(s.left()); {
		case s.peek().Is("{") || s.peek().Is("("):
			s.skipBraces()
		case n > 0:
			s.i += n
		default:
			if t := s.take(); !form(t.Text) && t.Kind != nft.Text && !strings.HasPrefix(t.Text, "@") {
				s.unread(s.i-1, "%q is not a value", source.Clean(t.Text))
				return
			}
		}
		if s.accept("map") {
			if elements, ok := s.braces(); ok {
				for _, e := range elements {
					if i := slices.IndexFunc(e, func(t token) bool { return t.Kind == nft.Mark && t.Text == ":" }); i < 1 ||
						i == len(e)-1 {
						s.unread(s.i-1, "an element of a map has no colon")
						return
					} else if _, why := parts(e[:i]); why != "" {
						s.unread(s.i-1, "%s", why)
						return
					} else if words, why := parts(e[i+1:]); why != "" || len(words) == 1 && !form(words[0]) {
						s.unread(s.i-1, "a value of a map is none: %s", why)
						return
					}
				}
				return
			}
			continue
		}
		if s.accept("&", "|", "^", "<<", ">>", ",", ".") {
			continue
		}
		return
	}
}

// skipBraces passes over what stands in the braces or parentheses that open here.
func (s *state) skipBraces() {
	for depth := 0; s.i < len(s.t); {
		switch t := s.take(); {
		case t.Is("{") || t.Is("("):
			depth++
		case t.Is("}") || t.Is(")"):
			if depth--; depth == 0 {
				return
			}
		}
	}
}

// relation reads "[!=|==|<|...] values" and returns the packets for which it holds. With why set and sure unset, it
// holds for some of them; with both set, it was not understood.
func (s *state) relation(ops []operand) (set packet.Set, sure bool, why string) {
	var base packet.Set
	for i, o := range ops {
		if i == 0 {
			base = o.base
		} else {
			base = base.And(o.base)
		}
		if o.opaque != "" {
			why = o.opaque
		}
	}
	from := s.i
	if s.peek().Is("&") || s.peek().Is("|") || s.peek().Is("^") || s.peek().Is("<<") || s.peek().Is(">>") {
		return s.masked(ops, base, why)
	}
	op := "=="
	if s.peek().Kind == nft.Mark {
		switch s.peek().Text {
		case "==", "!=", "<", ">", "<=", ">=":
			op = s.take().Text
		case "!":
			if len(ops) == 1 && (ops[0].bits || strings.HasSuffix(ops[0].opaque, "flags")) {
				s.take()
				op = "!="
			}
		}
	}
	if why != "" {
		s.i = from
		if bad := s.outside(ops); bad != "" {
			s.i = min(s.i, len(s.t))
			return base, true, bad
		}
		return base, false, why
	}
	about := packet.All() // the packets that are asked about: a comparison looks at the value alone
	if op == "==" || op == "!=" {
		about = s.rule.When
	}
	in, sure, why := s.values(ops, about)
	if why != "" {
		return base, sure, why
	}
	switch op {
	case "==":
		return in, true, ""
	case "!=":
		return base.Minus(in), true, ""
	}
	return s.compare(ops, base, in, op)
}

// compare turns a value into the range below or above it.
func (s *state) compare(ops []operand, base, in packet.Set, op string) (packet.Set, bool, string) {
	if len(ops) != 1 || ops[0].set != nil {
		return base, true, "a comparison of this operand is not known"
	}
	fam := packet.IPv4
	if fs := in.Families(); len(fs) > 0 {
		fam = fs[0]
	}
	v := in.Values(ops[0].field, fam)
	all := base.Values(ops[0].field, fam)
	below, above := all.Split(v)
	switch op {
	case "<":
		v = below
	case "<=":
		v = below.Or(v)
	case ">":
		v = above
	default:
		v = above.Or(v)
	}
	return base.With(ops[0].field, v), true, ""
}

// masked reads "& mask == value", which the model has for marks only.
func (s *state) masked(ops []operand, base packet.Set, why string) (packet.Set, bool, string) {
	from := s.i
	if set, sure, why, ok := s.anyBit(ops, base); ok {
		return set, sure, why
	}
	s.take()
	maskText := s.take().Text
	negate := s.accept("!=")
	if !negate {
		s.accept("==")
	}
	valueText := s.peek().Text
	m, err1 := strconv.ParseUint(maskText, 0, 32)
	v, err2 := strconv.ParseUint(valueText, 0, 32)
	if len(ops) == 1 && (ops[0].field == packet.Mark || ops[0].field == packet.ConnMark) && ops[0].values != nil && err1 == nil &&
		err2 == nil {
		if values, ok := packet.Masked(uint32(v), uint32(m)); ok {
			s.take()
			set := base.With(ops[0].field, values)
			if negate {
				set = base.Minus(set)
			}
			return set, true, ""
		}
	}
	s.i = from
	if len(ops) == 1 && ops[0].opaque == "" { // a field of the model, by bits that it has no sets for
		form := either(number, address, anyName)
		switch o := ops[0]; {
		case o.field == packet.Mark || o.field == packet.ConnMark:
			if form = number; err1 == nil && err2 == nil {
				why = model.SingleBits
				s.rule.Bits = append(s.rule.Bits,
					model.MarkBits{Value: uint32(v), Mask: uint32(m), Not: negate, Conn: o.field == packet.ConnMark})
			}
		case o.bits:
			form = func(s string) bool {
				_, err := o.values(s)
				return err == nil || o.beyond[s] || number(s)
			}
		}
		ops = []operand{{base: base, opaque: "a comparison of single bits", form: form}}
	}
	if bad := s.outside(ops); bad != "" {
		s.i = min(s.i, len(s.t))
		return base, true, bad
	}
	if why == "" {
		why = "a comparison of single bits"
	}
	return base, false, why
}

// anyBit reads "& (a | b) != 0" and "== 0", which ask whether any of some states is the packet's.
func (s *state) anyBit(ops []operand, base packet.Set) (set packet.Set, sure bool, why string, ok bool) {
	from := s.i
	if len(ops) != 1 || !ops[0].bits || !s.accept("&") {
		return base, false, "", false
	}
	var elements [][]token
	inside := s.accept("(")
	for {
		elements = append(elements, s.t[s.i:min(len(s.t), s.i+1)])
		s.i++
		if !inside || !s.accept("|") {
			break
		}
	}
	negate := false
	if (!inside || s.accept(")")) && (s.accept("!=") || s.accept("==") && func() bool { negate = true; return true }()) &&
		(s.accept("0") || s.accept("0x0") || s.accept("0x00000000")) {
		set, sure, why = s.union(ops, elements, packet.All())
		if negate && why == "" {
			set = base.Minus(set)
		}
		return set.And(base), sure, why, true
	}
	s.i = from
	return base, false, "", false
}

// values reads the right side of a condition: which packets have it, of those that are asked about at least.
func (s *state) values(ops []operand, about packet.Set) (set packet.Set, sure bool, why string) {
	if s.i >= len(s.t) {
		return packet.None(), true, "a value was expected at the end of the rule"
	}
	t := s.peek()
	switch {
	case t.Is("{"):
		elements, ok := s.braces()
		if !ok {
			return packet.None(), true, "a closing brace is missing"
		}
		return s.union(ops, elements, about)
	case t.Kind == nft.Word && strings.HasPrefix(t.Text, "@"):
		return s.namedSet(ops, s.take(), about)
	case t.Kind == nft.Word && strings.HasPrefix(t.Text, "$"):
		s.take()
		d := "definition " + t.Text[1:]
		if s.objects[d] == nil {
			s.objects[d] = &model.Definition{Kind: "definition", Name: source.Clean(t.Text[1:]), Missing: true}
			s.defs = append(s.defs, s.objects[d])
		}
		s.objects[d].Used = append(s.objects[d].Used, s.in.Pos(t.Place))
		return packet.None(), true, fmt.Sprintf("%s is not defined", source.Clean(t.Text))
	}
	var elements [][]token
	for {
		start := s.i
		s.concatenated(len(ops))
		elements = append(elements, s.t[start:s.i])
		if len(ops) != 1 || !ops[0].bits || !s.accept(",", "|") {
			break
		}
	}
	return s.union(ops, elements, about)
}

// concatenated passes over one value of n parts with dots between, with ranges written apart.
func (s *state) concatenated(n int) {
	for k := range n {
		s.i++
		if s.peek().Is("-") || strings.HasPrefix(s.peek().Text, "-") && s.peek().Kind == nft.Word && len(s.peek().Text) > 1 {
			s.i += 2
		}
		if k+1 < n {
			s.accept(".")
		}
	}
	s.i = min(s.i, len(s.t))
}

// braces takes the elements of a set in braces.
func (s *state) braces() ([][]token, bool) {
	start, depth := s.i+1, 0
	for ; s.i < len(s.t); s.i++ {
		if s.t[s.i].Is("{") {
			depth++
		} else if s.t[s.i].Is("}") {
			if depth--; depth == 0 {
				s.i++
				return commas(s.t[start : s.i-1]), true
			}
		}
	}
	return nil, false
}

// union returns the packets that have one of the elements, of those that are asked about at least.
func (s *state) union(ops []operand, elements [][]token, about packet.Set) (packet.Set, bool, string) {
	for _, o := range ops {
		if o.beyond == nil {
			continue
		}
		for _, e := range elements {
			for _, t := range e {
				if o.beyond[t.Text] {
					for _, e := range elements {
						if why := fits(ops, e); why != "" {
							return packet.None(), true, why
						}
					}
					return packet.All(), false, "a status of the connection"
				}
			}
		}
	}
	if set, ok := s.fastUnion(ops, elements, about); ok {
		return set, true, ""
	}
	sets := make([]packet.Set, 0, len(elements))
	for _, e := range elements {
		set, why := element(ops, e)
		if why != "" {
			return packet.None(), true, why
		}
		sets = append(sets, set)
	}
	return packet.Union(sets...), true, ""
}

// fastUnion serves sets of one operand: the values are united first, and become packets once.
func (s *state) fastUnion(ops []operand, elements [][]token, about packet.Set) (packet.Set, bool) {
	if len(ops) != 1 || ops[0].values == nil {
		return packet.Set{}, false
	}
	if len(elements) == 1 && len(elements[0]) == 1 && elements[0][0].Kind == nft.Word { // the commonest: one value
		v, err := ops[0].values(elements[0][0].Text)
		return about.And(ops[0].base).With(ops[0].field, v), err == nil
	}
	all := make([]packet.Values, 0, len(elements))
	for _, e := range elements {
		parts, why := parts(e)
		if why != "" || len(parts) != 1 {
			return packet.Set{}, false
		}
		v, err := ops[0].values(parts[0])
		if err != nil {
			return packet.Set{}, false
		}
		all = append(all, v)
	}
	return about.And(ops[0].base).With(ops[0].field, packet.Join(all...)), true
}

// parts returns the values of an element, one for each operand of a concatenation; what may stand behind them (a
// timeout, a counter, a comment) is dropped.
func parts(e []token) ([]string, string) {
	var out []string
	joined := false // the next word continues the value before it
	for i := 0; i < len(e); i++ {
		t := e[i]
		switch {
		case t.Kind == nft.Mark && t.Text == "." && (i == 0 || i == len(e)-1 || e[i-1].Kind == nft.Mark):
			return nil, "a value is missing beside a dot"
		case t.Kind == nft.Mark && t.Text == ".":
			joined = false
		case t.Kind == nft.Word && t.Text == "-" && len(out) > 0:
			out[len(out)-1] += "-"
			joined = true
		case t.Kind == nft.Word && len(out) > 0 && !joined &&
			(t.Text == "timeout" || t.Text == "expires" || t.Text == "counter" || t.Text == "comment" || t.Text == "limit"):
			return out, ""
		case t.Kind == nft.Mark:
			return nil, fmt.Sprintf("%q was not expected in a value", source.Clean(t.Text))
		case joined:
			out[len(out)-1] += t.Text
			joined = false
		case i > 0 && e[i-1].Kind != nft.Mark:
			return nil, fmt.Sprintf("%q was not expected behind a value", source.Clean(t.Text))
		default:
			out = append(out, t.Text)
		}
	}
	return out, ""
}

func element(ops []operand, e []token) (packet.Set, string) {
	values, why := parts(e)
	if why != "" {
		return packet.None(), why
	}
	if len(values) != len(ops) {
		return packet.None(), fmt.Sprintf("a value has %d parts where %d were expected", len(values), len(ops))
	}
	out := packet.All()
	for i, o := range ops {
		if o.opaque != "" {
			return packet.None(), o.opaque
		}
		set, err := o.of(values[i])
		if err != nil {
			return packet.None(), source.Clean(err.Error())
		}
		out = out.And(set)
	}
	return out, ""
}

func (s *state) useSet(t token) *set {
	name := strings.TrimPrefix(t.Text, "@")
	id := s.chain.Family + " " + s.chain.Table + " " + name
	found := s.sets[id]
	if found == nil {
		d := s.objects["set "+id]
		if d == nil {
			d = &model.Definition{Kind: "set", Name: source.Clean(id), Missing: true}
			s.objects["set "+id] = d
			s.defs = append(s.defs, d)
		}
		d.Used = append(d.Used, s.in.Pos(t.Place))
		return nil
	}
	found.used = append(found.used, s.in.Pos(t.Place))
	s.rule.Doubts.Add(found.doubts...)
	return found
}

// notAllRead says that a set may hold more than what was read of it.
const notAllRead = "the set was not read whole"

func (s *state) namedSet(ops []operand, t token, about packet.Set) (packet.Set, bool, string) {
	found := s.useSet(t)
	switch {
	case found == nil:
		return packet.None(), true, fmt.Sprintf("set %s is not defined", source.Clean(t.Text))
	case !found.serves(ops):
		return packet.None(), true, fmt.Sprintf("set %s holds something else", source.Clean(t.Text))
	case found.dynamic:
		return packet.All(), false, fmt.Sprintf("set %s is filled while the gateway runs", source.Clean(t.Text))
	case len(found.doubts) > 0: // the rule has its doubts
		return packet.All(), false, notAllRead
	}
	return s.union(ops, found.elements, about)
}

// verdictMap splits the rule: one for every element, with its own verdict.
func (s *state) verdictMap(ops []operand, from int) bool {
	elements, why := s.mapElements()
	for _, o := range ops {
		if o.opaque != "" && why == "" {
			why = o.opaque
		}
	}
	if why != "" {
		s.rule.Verb = model.UnknownAction
		s.i = len(s.t)
		s.unread(from, "a verdict map: %s", why)
		return false
	}
	covered := packet.None()
	for _, e := range elements {
		set, verdict, why := s.mapElement(ops, e)
		if why != "" {
			s.rule.Verb = model.UnknownAction
			s.i = len(s.t)
			s.unread(from, "%s", why)
			return false
		}
		r := s.rule
		r.When = r.When.And(set.Minus(covered))
		covered = covered.Or(set)
		if r.When.Empty() { // another element came before
			continue
		}
		s.applyVerdict(&r, verdict)
		s.emit(&r)
	}
	s.rule.When = s.rule.When.Minus(covered)
	s.rule.Verb = model.Continue
	return s.trailing()
}

// mapElements reads the elements of a map, the one for what no other has last.
func (s *state) mapElements() ([][]token, string) {
	elements, why := s.writtenElements()
	if i := slices.IndexFunc(elements, func(e []token) bool { return len(e) > 0 && e[0].Is("*") }); i >= 0 && i < len(elements)-1 {
		rest := elements[i]
		elements = append(slices.Delete(slices.Clone(elements), i, i+1), rest)
	}
	return elements, why
}

func (s *state) writtenElements() ([][]token, string) {
	t := s.peek()
	if t.Is("{") {
		e, ok := s.braces()
		if !ok {
			return nil, "a closing brace is missing"
		}
		return e, ""
	}
	if t.Kind == nft.Word && strings.HasPrefix(t.Text, "@") {
		s.i++
		found := s.useSet(t)
		switch {
		case found == nil:
			return nil, fmt.Sprintf("map %s is not defined", source.Clean(t.Text))
		case found.dynamic:
			return nil, fmt.Sprintf("map %s is filled while the gateway runs", source.Clean(t.Text))
		}
		return found.elements, ""
	}
	return nil, "a map was expected"
}

// mapElement splits "value : data".
func (s *state) mapElement(ops []operand, e []token) (packet.Set, []token, string) {
	for i, t := range e {
		if t.Kind == nft.Mark && t.Text == ":" {
			if i == 1 && e[0].Is("*") { // what no other element has, of the packets that have such a field
				base := packet.All()
				for _, o := range ops {
					base = base.And(o.base)
				}
				return base, e[i+1:], ""
			}
			set, why := element(ops, e[:i])
			return set, e[i+1:], why
		}
	}
	return packet.None(), nil, "an element of a map has no colon"
}

func (s *state) applyVerdict(r *model.Rule, verdict []token) {
	if why := verdictOf(verdict); why != "" {
		s.unread(s.i-1, "%s", why)
		r.Verb, r.Doubts = model.UnknownAction, s.rule.Doubts
		return
	}
	for i, t := range verdict {
		switch t.Text {
		case "accept":
			r.Verb = model.Accept
		case "drop":
			r.Verb = model.Drop
		case "return":
			r.Verb = model.Return
		case "continue":
			r.Verb = model.Continue
		case "jump", "goto":
			r.Verb = model.Jump
			if t.Text == "goto" {
				r.Verb = model.Goto
			}
			if i+1 < len(verdict) {
				r.Target = s.target(verdict[i+1])
			}
			return
		}
	}
}

// translateSelf reads masquerade and redirect, with ports and flags.
func (s *state) translateSelf(t token) {
	s.rule.Verb = model.Masquerade
	if t.Is("redirect") {
		s.rule.Verb = model.Redirect
	}
	to := model.Translation{Text: "an address of the interface"}
	s.rule.To = &to
	if !s.accept("to") {
		return
	}
	from := s.i
	if !s.rule.When.Minus(packet.Where(packet.Proto, packet.WithPorts)).Empty() {
		s.unread(from, "a translation of ports is for a protocol that has ports")
		return
	}
	if !s.accept(":") {
		s.unread(from, "a port behind a colon was expected")
		return
	}
	ways, why := s.ways()
	for _, w := range ways {
		if why != "" {
			break
		}
		r, to := s.rule, to
		r.To = &to
		var err error
		if to.Ports, err = literal.Ports(strings.TrimPrefix(w.text, ":")); err != nil {
			why = err.Error()
		} else if len(ways) == 1 && !w.looked {
			s.rule = r
			return
		}
		s.way(r, w)
	}
	if why != "" {
		s.unread(from, "%s", source.Clean(why))
		return
	}
	s.rule.Verb = model.Continue
}

// way is one of the targets that a translation may choose: for which packets, and whether something outside the model decides.
type way struct {
	when   packet.Set
	text   string
	unsure string
	looked bool // it was looked up in a map
}

// maxWays bounds what one translation by maps may become.
const maxWays = 10_000

// ways reads a part of a target: an address, a port, or a map of them.
func (s *state) ways() ([]way, string) {
	ops, ok := s.mapOperands()
	if !ok {
		var b strings.Builder
		for s.i < len(s.t) && !s.peek().Is("comment") && !s.peek().Is("random") && !s.peek().Is("persistent") &&
			!s.peek().Is("fully-random") && !s.peek().Is(",") && !s.peek().Is(":") {
			b.WriteString(s.take().Text)
		}
		return []way{{when: packet.All(), text: b.String()}}, ""
	}
	elements, why := s.mapElements()
	if why != "" {
		return nil, why
	}
	unsure := ""
	for _, o := range ops {
		if o.opaque != "" {
			unsure = o.opaque
		}
	}
	var out []way
	for _, e := range elements {
		w := way{when: packet.All(), unsure: unsure, looked: true}
		data := e
		if i := slices.IndexFunc(e, func(t token) bool { return t.Kind == nft.Mark && t.Text == ":" }); unsure != "" && i >= 0 {
			data = e[i+1:]
			if why := fits(ops, e[:i]); why != "" {
				return nil, why
			}
		} else if w.when, data, why = s.mapElement(ops, e); why != "" {
			return nil, why
		}
		words, why := parts(data)
		if why != "" {
			return nil, why
		}
		if len(words) == 0 {
			return nil, "an element of a map has no value"
		}
		w.text = withPort(words[0], strings.Join(words[1:], ":"))
		if unsure != "" && slices.ContainsFunc(out, func(o way) bool { return o.text == w.text }) {
			continue // one of them is as possible as two
		}
		out = append(out, w)
	}
	return out, ""
}

// withPort writes an address and a port as one target.
func withPort(address, port string) string {
	switch {
	case port == "":
		return address
	case strings.Contains(address, ":") && !strings.HasPrefix(address, "["):
		return "[" + address + "]:" + port
	}
	return address + ":" + port
}

// way hands over a rule for one of the ways of a translation.
func (s *state) way(r model.Rule, w way) {
	r.When = r.When.And(w.when)
	if w.unsure != "" {
		r.Doubts.Add(s.undecided(w.unsure, false))
	}
	s.emit(&r)
}

// translate reads snat and dnat: "[ip|ip6] [prefix] [to] target", a target being an address, a port, or both, each of which may be
// looked up in a map. It is long as a grammar is: a case a form that a translation may have.
func (s *state) translate(t token) {
	s.rule.Verb = model.SourceNAT
	if t.Is("dnat") {
		s.rule.Verb = model.DestinationNAT
	}
	from := s.i
	fam := packet.IPv4
	if s.chain.Family == "ip6" {
		fam = packet.IPv6
	}
	named := true
	if s.accept("ip") {
		fam = packet.IPv4
	} else if s.accept("ip6") {
		fam = packet.IPv6
	} else {
		named = false
	}
	if s.accept("addr") && (!named || !s.accept(".") || !s.accept("port")) { // "dnat ip addr . port to ..."
		s.unread(from-1, "what is translated is \"ip addr . port\"")
		return
	}
	prefix := s.accept("prefix")
	if !s.accept("to") && s.i > from {
		s.unread(from-1, "the translation has no word \"to\"")
		return
	}
	if len(s.left()) == 0 {
		s.unread(from-1, "the translation has no target")
		return
	}
	addresses, why := s.ways()
	ports := []way{{when: packet.All()}}
	if why == "" && s.accept(":") {
		ports, why = s.ways()
	}
	if why == "" && !named && s.chain.Family == "inet" && len(s.rule.When.Families()) > 1 && addresses[0].text != "" {
		why = "in a table of family inet a translation names its family"
	}
	if why == "" && ports[0].text != "" && !s.rule.When.Minus(packet.Where(packet.Proto, packet.WithPorts)).Empty() {
		why = "a translation of ports is for a protocol that has ports"
	}
	if why == "" && len(addresses)*len(ports) > maxWays {
		why = fmt.Sprintf("the maps give more than %d translations", maxWays)
	}
	if why == "" && len(addresses) == 1 && len(ports) == 1 && !addresses[0].looked && !ports[0].looked {
		to, err := literal.Target(withPort(addresses[0].text, ports[0].text), fam)
		if err == nil && to.Family != fam && (named || s.chain.Family != "inet") {
			err = errors.New("the address is of another family")
		}
		if err != nil {
			why = err.Error()
		} else {
			s.pairNetworks(&to, s.rule.When, prefix)
			s.rule.To = &to
			return
		}
	}
	var out []model.Rule
	for _, a := range addresses {
		for _, p := range ports {
			if why != "" {
				break
			}
			r := s.rule
			to, err := literal.Target(withPort(a.text, p.text), fam)
			if err != nil {
				why = err.Error()
				break
			}
			s.pairNetworks(&to, r.When.And(a.when), prefix)
			r.To = &to
			if p.unsure != "" {
				r.Doubts.Add(s.undecided(p.unsure, false))
			}
			r.When = r.When.And(p.when)
			out = append(out, r)
		}
	}
	if why != "" {
		s.unread(from, "%s", source.Clean(why))
		s.rule.To = &model.Translation{Text: "an address that was not read"}
		return
	}
	for i, r := range out {
		s.way(r, addresses[i/len(ports)])
	}
	s.rule.Verb = model.Continue
}

// pairNetworks makes a translation between networks of equal size one-to-one.
func (s *state) pairNetworks(to *model.Translation, when packet.Set, prefix bool) {
	if !prefix || !to.Onto.IsValid() {
		to.Onto = netip.Prefix{}
		return
	}
	f := packet.Src
	if s.rule.Verb == model.DestinationNAT {
		f = packet.Dst
	}
	ps := when.Prefixes(f)
	if len(ps) == 1 && ps[0].Bits() == to.Onto.Bits() && ps[0].Addr().BitLen() == to.Onto.Addr().BitLen() {
		to.From = ps[0]
		return
	}
}

// mapOperands reads the operands of "to tcp dport map ..."; ok is false where no map follows.
func (s *state) mapOperands() (ops []operand, ok bool) {
	at := s.i
	for s.i < len(s.t) {
		o, n := operandAt(s.left())
		if n == 0 {
			break
		}
		ops = append(ops, o)
		s.i += n
		if !s.accept(".") {
			break
		}
	}
	if len(ops) > 0 && s.accept("map") {
		return ops, true
	}
	s.i = at
	return nil, false
}
