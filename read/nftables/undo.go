package nftables

import (
	"maps"
	"slices"
	"strings"
	"toril/read"

	"toril/source"
	"toril/syntax/nft"
)

// flush does "flush ruleset [family]", "flush table|chain|set|map [family] name ...": what the file itself has made before goes.
func (p *parser) flush(at source.Pos, args []token) {
	if len(args) == 0 {
		p.unread(at, read.Owner{}, "nothing is named that is to be flushed")
		return
	}
	what, family, names := args[0].Text, "", names(args[1:])
	if len(names) > 0 && isFamily(names[0]) && (what == "ruleset" || len(names) > 1) {
		family, names = names[0], names[1:]
	}
	if parts, known := map[string]int{"ruleset": 0, "table": 1, "chain": 2, "set": 2, "map": 2, "meter": 2}[what]; known &&
		len(names) != parts ||
		slices.ContainsFunc(names, func(s string) bool { return !name(s) }) {
		p.broken(at, "a name was expected behind %q, or fewer of them", source.Clean(what))
	}
	if what == "ruleset" {
		p.drop(func(f, _ string) bool { return family == "" || f == family })
		return
	}
	if family == "" {
		family = "ip"
	}
	switch id := family + " " + strings.Join(names, " "); what {
	case "table":
		for _, c := range p.chains {
			if len(names) == 1 && c.Family+" "+c.Table == id {
				p.discard(c)
			}
		}
	case "chain":
		if c := p.byID[id]; c != nil {
			p.discard(c)
		} else {
			p.unread(at, read.Owner{}, "what is flushed was not made by this file")
		}
	case "set", "map", "meter":
		if s := p.sets[id]; s != nil {
			p.complain(s)
			s.elements = nil
		} else {
			p.unread(at, read.Owner{}, "what is flushed was not made by this file")
		}
	default:
		p.unread(at, read.Owner{}, "%q is not a known object of flush", source.Clean(what))
	}
}

// delete does "delete table|chain|set|map|element|rule [family] name ...". What the file has not made is about what was there
// before, which no saved file tells. It is long as a table is: a case a kind of object.
func (p *parser) delete(verb token, args []token) {
	at := p.on(verb.Place)
	if len(args) == 0 {
		p.unread(at, read.Owner{}, "nothing is named that is to be deleted")
		return
	}
	what, all := args[0].Text, args[1:]
	braces := slices.IndexFunc(all, func(t token) bool { return t.Is("{") })
	if braces < 0 {
		braces = len(all)
	}
	if slices.ContainsFunc(all[:braces], func(t token) bool { return t.Kind != nft.Word }) {
		p.broken(at, "a name was expected behind %q", source.Clean(what))
	}
	family, names := "ip", names(all[:braces])
	if len(names) > 1 && isFamily(names[0]) {
		family, names = names[0], names[1:]
	}
	id := family + " " + strings.Join(names, " ")
	parts, known := map[string]int{"table": 1, "chain": 2, "set": 2, "map": 2, "element": 2}[what]
	if known && len(names) != parts && !(len(names) == parts+1 && names[parts-1] == "handle") || what != "element" && braces < len(all) {
		p.broken(at, "a name was expected behind %q, or fewer of them", source.Clean(what))
	}
	if _, made := p.tables[family+" "+strings.Join(names[:min(1, len(names))], "")]; known && !made && verb.Is("delete") {
		p.unread(at, read.Owner{}, "what is deleted was not made by this file")
	}
	if made := p.sets[id]; verb.Is("delete") &&
		(what == "chain" && p.byID[id] == nil || (what == "set" || what == "map" || what == "element") && made == nil) {
		p.unread(at, read.Owner{}, "what is deleted was not made by this file")
	}
	switch what {
	case "table":
		p.drop(func(f, table string) bool { return len(names) == 1 && f+" "+table == id })
	case "chain":
		if c := p.byID[id]; c != nil {
			p.discard(c)
			delete(p.byID, id)
			p.chains = slices.DeleteFunc(p.chains, func(o *chain) bool { return o == c })
		}
	case "set", "map":
		if s := p.sets[id]; s != nil {
			p.complain(s)
			delete(p.sets, id)
			p.setList = slices.DeleteFunc(p.setList, func(o *set) bool { return o == s })
		}
	case "element":
		if s := p.sets[id]; s != nil && braces+1 < len(all) {
			gone := map[string]bool{}
			for _, e := range commas(all[braces+1 : len(all)-1]) {
				gone[spelled(e)] = true
			}
			before := len(s.elements)
			s.elements = slices.DeleteFunc(s.elements, func(e []token) bool { return gone[spelled(e)] })
			if before-len(s.elements) < len(gone) && verb.Is("delete") {
				p.unread(at, s.owner(), "an element that is deleted is not in the set by this spelling")
			}
		}
	case "rule":
		of := read.Owner{}
		if len(names) > 1 {
			if c := p.byID[family+" "+names[0]+" "+names[1]]; c != nil {
				of = c.owner()
			}
		}
		p.unread(at, of, "the rule is named by a number that only the running system knows")
	case "counter", "quota", "limit", "ct", "flowtable", "secmark", "synproxy":
	default:
		p.unread(at, read.Owner{}, "%q is not a known object of delete", source.Clean(what))
	}
}

// discard forgets the rules of a chain. They were read before: one that could not be read has been reported, as nft
// refuses the whole file for it.
func (p *parser) discard(c *chain) {
	extra := len(p.extra)
	for _, r := range c.rules {
		p.ruleset.rule(nil, c, r, 0)
	}
	p.extra = p.extra[:extra]
	c.rules = nil
}

// drop takes tables away, with all that is in them.
func (p *parser) drop(gone func(family, table string) bool) {
	for _, c := range p.chains {
		if gone(c.Family, c.Table) {
			p.discard(c)
		}
	}
	for _, s := range p.setList {
		if gone(s.family, s.table) {
			p.complain(s)
		}
	}
	p.chains = slices.DeleteFunc(p.chains, func(c *chain) bool { return gone(c.Family, c.Table) })
	maps.DeleteFunc(p.byID, func(_ string, c *chain) bool { return gone(c.Family, c.Table) })
	p.setList = slices.DeleteFunc(p.setList, func(s *set) bool { return gone(s.family, s.table) })
	maps.DeleteFunc(p.sets, func(_ string, s *set) bool { return gone(s.family, s.table) })
	maps.DeleteFunc(p.tables, func(id string, _ bool) bool {
		family, table, _ := strings.Cut(id, " ")
		return gone(family, table)
	})
	maps.DeleteFunc(p.asleep, func(id string, _ source.Pos) bool {
		family, table, _ := strings.Cut(id, " ")
		return gone(family, table)
	})
}

// sleeper is a table whose rules do not act.
type sleeper struct {
	name string
	at   source.Pos
}

// dormant takes the chains of dormant tables out of the ruleset and returns the tables.
func (rs *ruleset) dormant() []sleeper {
	var out []sleeper
	for _, id := range slices.Sorted(maps.Keys(rs.asleep)) {
		out = append(out, sleeper{id, rs.asleep[id]})
	}
	asleep := func(family, table string) bool { _, ok := rs.asleep[family+" "+table]; return ok }
	rs.chains = slices.DeleteFunc(rs.chains, func(c *chain) bool { return asleep(c.Family, c.Table) })
	rs.setList = slices.DeleteFunc(rs.setList, func(s *set) bool { return asleep(s.family, s.table) })
	return out
}

func names(tokens []token) []string {
	var out []string
	for _, t := range tokens {
		if t.Kind == nft.Word {
			out = append(out, t.Text)
		}
	}
	return out
}

// spelled is how a list of tokens is written.
func spelled(tokens []token) string {
	var b strings.Builder
	for _, t := range tokens {
		b.WriteString(t.Text)
		b.WriteByte(' ')
	}
	return b.String()
}
