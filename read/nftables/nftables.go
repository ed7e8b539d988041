package nftables

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"toril/internal/lazy"
	"toril/model"
	"toril/packet"
	"toril/read"
	"toril/source"
	"toril/syntax/nft"
)

// Text is the format of nftables rulesets as text.
var Text = &read.Format{
	Name:     "nftables",
	Comments: []string{"#"},
	Title:    "packet filter nftables: the text of nft list ruleset, or nftables.conf",
	Software: "nftables",
	About:    model.AboutFilter,
	Linux:    true,
	Hints:    []string{"nftables.conf", "*.nft", "ruleset*", "nft*"},
	Order:    30,
	Looks:    looks,
	Read:     readText,
	Covers:   coverage,
	Departures: []read.Departure{
		{
			Says: "Operation not supported",
			Why:  "the kernel that was asked has no such expression: which ones the gateway's has, its files do not say",
		},
		{Says: "Assertion", Why: "the program itself ends by a mistake of its own"},
		{Says: "User does not exist", Why: "which users the gateway has, the file does not say"},
		{Says: "conntrack label", Why: "which labels the gateway's own list names, the file does not say"},
		{Says: "Interface does not exist", Why: "which interfaces there were when it was loaded, the file does not say"},
	},
}

var (
	opensTable = lazy.NewSearch(
		`(?m)^[ \t]*(?:add[ \t]+|create[ \t]+)?table[ \t]+(?:(?:ip|ip6|inet|arp|bridge|netdev)[ \t]+)?[\w.-]+[ \t]*[{;\n]?`,
	)
	baseLine = lazy.NewSearch(`(?m)\btype[ \t]+(?:filter|nat|route)[ \t]+hook[ \t]+\w+`)
	shebang  = lazy.NewSearch(`^#!.*\bnft\b`)
	commands = lazy.NewSearch(`(?m)^[ \t]*(?:(?:add|insert)[ \t]+(?:rule|chain|element|set)|flush[ \t]+ruleset|define[ \t]+\w+[ \t]*=)`)
)

func looks(f *source.File) (int, string) {
	data := f.Head()
	tables, bases := opensTable.FindIndex(data), baseLine.Find(data)
	switch {
	case tables != nil && bases != nil:
		return 95, fmt.Sprintf("it opens a table and has a base chain (%q)", bases)
	case shebang.Match(data):
		return 90, "its first line names nft"
	case tables != nil && data[tables[1]-1] == '{':
		return 60, "it opens a table"
	case commands.Match(data):
		return 50, fmt.Sprintf("it has statements such as %q", commands.Find(data))
	}
	return 0, ""
}

// keptRooms are for the statements of a file, until all of it was understood: of most files they are enough.
var keptRooms = sync.Pool{New: func() any {
	room := make([]token, 0, 1024)
	return &room
}}

func readText(in *read.Input) {
	in.Gateway.Told.Filter4, in.Gateway.Told.Filter6 = true, true
	rs := newRuleset(in)
	kept := keptRooms.Get().(*[]token)
	defer func() {
		clear((*kept)[:cap(*kept)]) // nothing of the file stays
		keptRooms.Put(kept)
	}()
	p := &parser{ruleset: rs, in: in, lex: nft.Scan(in.File.Bytes()), kept: *kept}
	if in.File.Marked() {
		p.broken(in.At(1), "the file begins with a byte order mark")
	}
	p.file()
	if e := in.Gateway.RefusedOf(in.File.Format); e != nil { // what then stands is not known
		in.Gateway.Doubt(model.AboutFilter, &model.Doubt{Cause: model.NotRead, Gateway: in.Gateway.Name, At: e.Pos,
			Why: "the file is not loaded: which rules hold is not known"})
	}
	rs.finish(in)
}

func newRuleset(in *read.Input) *ruleset {
	return &ruleset{
		gateway: in.Gateway,
		defines: map[string][]token{},
		byID:    map[string]*chain{},
		sets:    map[string]*set{},
		objects: map[string]*model.Definition{},
		asleep:  map[string]source.Pos{},
		tables:  map[string]bool{},
	}
}

// finish turns what was read into the model, now that every set is known.
func (rs *ruleset) finish(in *read.Input) {
	for _, t := range rs.dormant() {
		rs.defs = append(rs.defs, &model.Definition{Kind: "dormant table", Name: source.Clean(t.name), At: t.at})
	}
	for _, c := range rs.chains {
		for _, r := range c.rules {
			rs.filled(c, r.tokens)
		}
	}
	for _, s := range rs.setList {
		rs.complain(s)
	}
	for _, c := range rs.chains {
		c.Rules = slices.Grow(c.Rules, len(c.rules))
		for i, r := range c.rules {
			if in.Context.Err() != nil {
				return
			}
			c.Rules = rs.rule(c.Rules, c, r, 0)
			c.rules[i].tokens = nil // they take more memory than the rule
		}
	}
	rs.unhooked(in)
	rs.declareAll()
	in.Later(func() { rs.handOver(in) })
}

// handOver adds the chains to the gateway, but for those that another file has.
func (rs *ruleset) handOver(in *read.Input) {
	known := map[string]*model.Chain{}
	for _, c := range in.Gateway.Chains {
		known[c.ID()] = c
	}
	for _, c := range rs.chains {
		if other := known[c.ID()]; other != nil {
			in.Lost(
				c.At,
				"chain %s is also in %s; only that one is used, as two saved states of one packet filter cannot both hold",
				c.ID(),
				other.At,
			)
			continue
		}
		known[c.ID()] = c.Chain
		in.Gateway.Chains = append(in.Gateway.Chains, c.Chain)
	}
	in.Gateway.Chains = append(in.Gateway.Chains, rs.extra...)
}

// complain says what is wrong with a set.
func (rs *ruleset) complain(s *set) {
	var at source.Pos
	var why string
	if packet.Guard(func() { at, why = s.complaint() }) == nil && why != "" {
		s.in.Unread(at, s.owner(), "set %s: %s", source.Clean(s.name), why)
	}
}

// filled notes the sets that a rule fills: what they hold is known to the running system only, whatever their flags are.
func (rs *ruleset) filled(c *chain, t []token) {
	for i := 0; i+1 < len(t); i++ {
		if t[i].Kind != nft.Word || t[i].Text != "add" && t[i].Text != "update" && t[i].Text != "delete" || t[i+1].Kind != nft.Word {
			continue
		}
		if name, ok := strings.CutPrefix(t[i+1].Text, "@"); ok {
			if s := rs.sets[c.Family+" "+c.Table+" "+name]; s != nil {
				s.dynamic = true
			}
		}
	}
}

// unhooked makes the filter as a whole unsure where a chain that nothing jumps to has no hook, and something in it was not understood: that
// may be its hook.
func (rs *ruleset) unhooked(in *read.Input) {
	for _, c := range rs.chains {
		if c.Hook != model.NoHook || len(rs.chainUse[c.ID()]) > 0 {
			continue
		}
		for _, d := range c.Doubts {
			in.Gateway.Doubt(model.AboutFilter, d)
		}
		for _, r := range c.Rules {
			for _, d := range r.Doubts {
				if d.Cause == model.NotRead {
					in.Gateway.Doubt(model.AboutFilter, d)
				}
			}
		}
	}
}

// declareAll hands over what has a name, for the checks that ask what is used.
func (rs *ruleset) declareAll() {
	for _, s := range rs.setList {
		kind := "set"
		if s.isMap {
			kind = "map"
		}
		rs.defs = append(
			rs.defs,
			&model.Definition{Kind: kind, Name: source.Clean(s.family + " " + s.table + " " + s.name), At: s.at, Used: s.used},
		)
	}
	for _, c := range rs.chains {
		if c.Hook == model.NoHook && c.Doubts.Certain() {
			rs.defs = append(rs.defs, &model.Definition{Kind: "chain", Name: c.ID(), At: c.At, Used: rs.chainUse[c.ID()]})
		}
	}
	for _, id := range rs.chainOrder {
		if rs.byID[id] == nil {
			rs.defs = append(rs.defs, &model.Definition{Kind: "chain", Name: source.Clean(id), Used: rs.chainUse[id], Missing: true})
		}
	}
	rs.gateway.Definitions = append(rs.gateway.Definitions, rs.defs...)
}

func (rs *ruleset) useChain(id string, at source.Pos) {
	if rs.chainUse == nil {
		rs.chainUse = map[string][]source.Pos{}
	}
	if rs.chainUse[id] == nil {
		rs.chainOrder = append(rs.chainOrder, id)
	}
	rs.chainUse[id] = append(rs.chainUse[id], at)
}

func coverage() []read.Coverage {
	return []read.Coverage{
		{Statement: "table, chain, rule, set, map, element: as blocks and as commands", Use: read.Used},
		{Statement: "include, define, redefine, undefine, flush ruleset", Use: read.Used},
		{Statement: "type, hook, priority (numbers, names, sums), policy", Use: read.Used},
		{Statement: "ip|ip6 saddr, daddr, protocol, nexthdr", Use: read.Used},
		{Statement: "tcp|udp|sctp|dccp|udplite|th sport, dport", Use: read.Used},
		{Statement: "icmp type, icmpv6 type", Use: read.Used},
		{Statement: "iif, oif, iifname, oifname, meta l4proto, nfproto, protocol, mark", Use: read.Used},
		{Statement: "ct state, ct direction, ct status snat, dnat", Use: read.Used},
		{Statement: "meta ipsec, rt ipsec, ipsec in|out ip|ip6 saddr|daddr", Use: read.Used},
		{Statement: "anonymous and named sets, intervals, concatenations, maps, verdict maps", Use: read.Used},
		{Statement: "accept, drop, reject, return, continue, jump, goto, queue, notrack", Use: read.Used},
		{Statement: "masquerade, redirect, snat, dnat: addresses, ports, ranges, prefixes, maps", Use: read.Used},
		{Statement: "meta mark set", Use: read.Used, Note: "a value that is computed counts as any mark"},
		{Statement: "counter, log, comment", Use: read.Used},
		{
			Statement: "limit, quota, ct count, other ct status, tcp flags, fib, time, sockets, other headers",
			Use:       read.Used,
			Note:      "conditions outside the model: the rule may or may not concern a packet, and results that depend on it say so",
		},
		{Statement: "sets with flag dynamic or timeout, or filled by a rule", Use: read.Used, Note: "filled at run time: as above"},
		{
			Statement: "flowtable, flow add, ct helper, secmark, synproxy objects, quota and limit objects",
			Use:       read.Irrelevant,
			Note:      "declared; they decide about no first packet",
		},
		{
			Statement: "delete, destroy, flush of tables, chains, sets, elements, rulesets; flags dormant",
			Use:       read.Used,
			Note:      "of what the file itself has made: what is left is judged",
		},
		{Statement: "reset, list, get, monitor", Use: read.Irrelevant, Note: "they change nothing"},
		{Statement: "tproxy, dup, fwd, rewriting of header fields", Use: read.Left, Note: "the rule counts as one that may do anything"},
		{Statement: "rules placed by index", Use: read.Used},
		{
			Statement: "rules placed, replaced or deleted by handle",
			Use:       read.Left,
			Note:      "numbers that only the running system knows: what their chain does is not certain",
		},
	}
}
