package nftables

import (
	"maps"
	"slices"
	"strings"

	"toril/source"
)

// flush does "flush ruleset [family]", "flush table|chain|set|map [family] name ...": what the file itself has made before goes.
func (p *parser) flush(line int, args []token) {
	if len(args) == 0 {
		p.unread(line, "", "nothing is named that is to be flushed")
		return
	}
	what, family, names := args[0].s, "", names(args[1:])
	if len(names) > 0 && isFamily(names[0]) && (what == "ruleset" || len(names) > 1) {
		family, names = names[0], names[1:]
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
				c.rules = nil
			}
		}
	case "chain":
		if c := p.byID[id]; c != nil {
			c.rules = nil
		}
	case "set", "map", "meter":
		if s := p.sets[id]; s != nil {
			s.elements = nil
		}
	default:
		p.unread(line, "", "%q is not a known object of flush", source.Clean(what))
	}
}

// delete does "delete table|chain|set|map|element|rule [family] name ...". What the file has not made is about what was there
// before, which no saved file tells.
func (p *parser) delete(line int, args []token) {
	if len(args) == 0 {
		p.unread(line, "", "nothing is named that is to be deleted")
		return
	}
	what, all := args[0].s, args[1:]
	braces := slices.IndexFunc(all, func(t token) bool { return t.is("{") })
	if braces < 0 {
		braces = len(all)
	}
	family, names := "ip", names(all[:braces])
	if len(names) > 1 && isFamily(names[0]) {
		family, names = names[0], names[1:]
	}
	id := family + " " + strings.Join(names, " ")
	switch what {
	case "table":
		p.drop(func(f, table string) bool { return len(names) == 1 && f+" "+table == id })
	case "chain":
		if c := p.byID[id]; c != nil {
			delete(p.byID, id)
			p.chains = slices.DeleteFunc(p.chains, func(o *chain) bool { return o == c })
		}
	case "set", "map":
		if s := p.sets[id]; s != nil {
			delete(p.sets, id)
			p.setList = slices.DeleteFunc(p.setList, func(o *set) bool { return o == s })
		}
	case "element":
		if s := p.sets[id]; s != nil && braces+1 < len(all) {
			gone := map[string]bool{}
			for _, e := range commas(all[braces+1 : len(all)-1]) {
				gone[spelled(e)] = true
			}
			s.elements = slices.DeleteFunc(s.elements, func(e []token) bool { return gone[spelled(e)] })
		}
	case "rule":
		scope := ""
		if len(names) > 1 {
			if c := p.byID[family+" "+names[0]+" "+names[1]]; c != nil {
				scope, c.Unsure = c.ID(), true
			}
		}
		p.unread(line, scope, "the rule is named by a number that only the running system knows")
	case "counter", "quota", "limit", "ct", "flowtable", "secmark", "synproxy":
	default:
		p.unread(line, "", "%q is not a known object of delete", source.Clean(what))
	}
}

// drop takes tables away, with all that is in them.
func (p *parser) drop(gone func(family, table string) bool) {
	p.chains = slices.DeleteFunc(p.chains, func(c *chain) bool { return gone(c.Family, c.Table) })
	maps.DeleteFunc(p.byID, func(_ string, c *chain) bool { return gone(c.Family, c.Table) })
	p.setList = slices.DeleteFunc(p.setList, func(s *set) bool { return gone(s.family, s.table) })
	maps.DeleteFunc(p.sets, func(_ string, s *set) bool { return gone(s.family, s.table) })
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
		if t.kind == word {
			out = append(out, t.s)
		}
	}
	return out
}

// spelled is how a list of tokens is written.
func spelled(tokens []token) string {
	var b strings.Builder
	for _, t := range tokens {
		b.WriteString(t.s)
		b.WriteByte(' ')
	}
	return b.String()
}
