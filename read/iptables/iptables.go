// Package iptables reads the packet filter of a Linux gateway as iptables-save, ip6tables-save and ipset save write it.
package iptables

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"toril/internal/lazy"
	"toril/model"
	"toril/packet"
	"toril/read"
	"toril/source"
	"toril/syntax/lines"
)

// Save is the format of iptables-save and ip6tables-save.
var Save = &read.Format{
	Name:     "iptables-save",
	Comments: []string{"#"},
	Title:    "packet filter iptables: the output of iptables-save or ip6tables-save",
	Software: "iptables",
	About:    model.AboutFilter,
	Linux:    true,
	Hints:    []string{"iptables*", "ip6tables*", "rules.v4", "rules.v6", "*.iptables", "*.ip6tables"},
	Order:    31,
	Words:    func() []string { return slices.Collect(maps.Keys(places())) }, // the tables
	Looks:    looks,
	Read:     readSave,
	Covers:   coverage,
	Departures: []read.Departure{
		{
			Says: "Operation not supported",
			Why:  "the kernel that was asked has no such match or target: which ones the gateway's has, its files do not say",
		},
	},
}

var (
	tableLine = lazy.NewSearch(`(?m)^\*(filter|nat|mangle|raw|security)[ \t]*\r?$`)
	chainLine = lazy.NewSearch(`(?m)^(:\S+ \S+|-A \S+ )`)
)

func looks(f *source.File) (int, string) {
	table := tableLine.Find(f.Head())
	if table == nil {
		return 0, ""
	}
	if chain := chainLine.Find(f.Head()); chain != nil {
		return 95, fmt.Sprintf("it has the table %q and chains or rules (%q)", strings.TrimSpace(string(table)), chain)
	}
	return 50, fmt.Sprintf("it has the table %q", strings.TrimSpace(string(table)))
}

// A base chain's place: hook and priority (netfilter's ip_tables.h; the kernel's NF_IP_PRI_*).
var places = sync.OnceValue(func() map[string]map[string]model.Chain {
	return map[string]map[string]model.Chain{
		"raw": {"PREROUTING": {Hook: model.Prerouting, Priority: -300}, "OUTPUT": {Hook: model.Output, Priority: -300}},
		"mangle": {
			"PREROUTING":  {Hook: model.Prerouting, Priority: -150},
			"INPUT":       {Hook: model.Input, Priority: -150},
			"FORWARD":     {Hook: model.Forward, Priority: -150},
			"OUTPUT":      {Hook: model.Output, Priority: -150, Kind: model.RouteChain},
			"POSTROUTING": {Hook: model.Postrouting, Priority: -150},
		},
		"nat": {
			"PREROUTING":  {Hook: model.Prerouting, Priority: -100, Kind: model.NATChain},
			"INPUT":       {Hook: model.Input, Priority: 100, Kind: model.NATChain},
			"OUTPUT":      {Hook: model.Output, Priority: -100, Kind: model.NATChain},
			"POSTROUTING": {Hook: model.Postrouting, Priority: 100, Kind: model.NATChain},
		},
		"filter": {"INPUT": {Hook: model.Input}, "FORWARD": {Hook: model.Forward}, "OUTPUT": {Hook: model.Output}},
		"security": {
			"INPUT":   {Hook: model.Input, Priority: 50},
			"FORWARD": {Hook: model.Forward, Priority: 50},
			"OUTPUT":  {Hook: model.Output, Priority: 50},
		},
	}
})

// manner is how the programs take lines apart: what is a comment they see by its first character.
var manner = lines.Manner{Quoted: true}

// reader reads one file.
type reader struct {
	in       *read.Input
	family   string // "ip" or "ip6"
	table    string
	chains   map[string]*model.Chain // of the current table
	order    []*model.Chain
	tables   map[string]int // the line that began each
	opened   int            // the line that began a table; 0 where it was committed
	used     map[*model.Chain][]source.Pos
	twice    map[string]bool
	fallen   bool         // the program stopped: nothing from there on is loaded
	unloaded *model.Doubt // why
	jumps    []jump
	sets     []setUse
	locals   []localUse
	words    []string // the room of the line that is being read
	one      state    // and of its rule
	made     model.Room
	nets     [2]addresses // behind -s and -d, that were read last: rules that stand together often have the same
	ahead    bool         // it reads rules before the lines before them
	hangs    bool         // what it reads so hangs on them, or on other files
}

// addresses is what stands behind -s or -d, and means.
type addresses struct {
	text   string
	values packet.Values
}

// setUse is a set that a rule asks for, which another file may hold.
type setUse struct {
	rule *state
	name string
	dirs []string
	not  bool
}

// localUse is a condition that an address is one of the gateway's own, which another file tells.
type localUse struct {
	rule  *state
	field packet.Field
	not   bool
}

// jump is a jump to a chain that was not declared yet.
type jump struct {
	name string
	line int
}

func readSave(in *read.Input) {
	r := &reader{in: in, family: familyOf(in.File.File), used: map[*model.Chain][]source.Pos{}, tables: map[string]int{}}
	if in.File.Marked() {
		r.refuse(1, "the file begins with a byte order mark")
	}
	in.Gateway.Told.Filter4 = in.Gateway.Told.Filter4 || r.family == "ip"
	in.Gateway.Told.Filter6 = in.Gateway.Told.Filter6 || r.family == "ip6"
	r.lines()
	if !r.fallen {
		r.uncommitted()
	}
	in.Later(func() {
		for _, u := range r.sets {
			u.rule.not = u.not
			u.rule.matchSet(u.name, u.dirs)
		}
		for _, u := range r.locals {
			u.rule.not = u.not
			u.rule.matchLocal(u.field)
		}
		r.finish()
	})
}

// uncommitted says that a table was begun and not committed: the program does not load it.
func (r *reader) uncommitted() {
	if r.opened == 0 {
		return
	}
	r.in.RefusePart("table "+source.Clean(r.table), r.in.At(r.opened), "table %s, begun here, has no COMMIT", source.Clean(r.table))
	r.doubt(r.opened)
	r.opened = 0
}

// familyOf tells iptables from ip6tables: by the comment that the program writes, by the file's name, else by an address.
func familyOf(f *source.File) string {
	head := string(f.Head())
	base := path.Base(f.Path)
	switch {
	case strings.Contains(head, "ip6tables-save"):
		return "ip6"
	case strings.Contains(head, "iptables-save"):
		return "ip"
	case strings.Contains(base, "ip6") || strings.HasSuffix(base, "v6"):
		return "ip6"
	case sixAddress().MatchString(head) && !fourAddress().MatchString(head) || strings.Contains(head, "ipv6-icmp"):
		return "ip6"
	}
	return "ip"
}

var (
	sixAddress  = lazy.Regexp(` -[sd] [0-9a-f]*:[0-9a-f:]*`)
	fourAddress = lazy.Regexp(` -[sd] [0-9]+\.[0-9]`)
)

func (r *reader) line(l lines.Line) {
	n, line := l.Line, l.Text
	returned := strings.Contains(line, "\r") || l.Return && !strings.HasPrefix(line, ":")
	if returned && !strings.HasPrefix(line, "#") && !r.in.File.Converted() {
		r.refuse(n, "a carriage return stands here")
	}
	switch {
	case line == "" || line[0] == '#':
	case line[0] == '*':
		r.in.Count()
		if r.opened != 0 && !r.fallen {
			r.uncommitted()
		}
		r.open(n, tableOf(line))
	case strings.TrimRight(line, "\r") == "COMMIT":
		r.in.Count()
		if r.opened == 0 {
			r.refuse(n, "it stands outside every table")
		}
		r.commit()
	case r.opened == 0:
		r.in.Unread(r.in.At(n), read.Owner{}, "it stands outside every table")
		r.refuse(n, "it stands outside every table")
	case line[0] == ':':
		r.in.Count()
		r.declare(n, strings.Fields(line[1:]))
	default:
		r.words = l.AppendFields(r.words[:0])
		r.command(n, r.words)
	}
}

// commit ends a table. A chain that a rule jumps to must be there by then.
func (r *reader) commit() {
	for _, j := range r.jumps {
		if r.chains[j.name] == nil {
			r.refuse(j.line, "chain %s does not exist", j.name)
			break
		}
	}
	r.circles()
	r.opened, r.jumps = 0, nil
}

// circles refuses chains that jump to each other, and jumps to base chains, as the kernel does.
func (r *reader) circles() {
	const onTheWay, done = 1, 2
	state := map[*model.Chain]int{}
	var visit func(c *model.Chain, depth int)
	visit = func(c *model.Chain, depth int) {
		state[c] = onTheWay
		for _, rule := range c.Rules {
			if rule.Verb != model.Jump && rule.Verb != model.Goto || r.fallen {
				continue
			}
			name := strings.TrimPrefix(rule.Target, c.Family+" "+c.Table+" ")
			to := r.chains[name]
			switch {
			case places()[r.table][name].Hook != model.NoHook:
				r.refuse(rule.At.Line, "a rule jumps to the base chain %s", name)
			case to == nil:
			case state[to] == onTheWay:
				r.refuse(rule.At.Line, "the chains jump in a circle")
			case state[to] == 0 && depth < 1000:
				visit(to, depth+1)
			}
		}
		state[c] = done
	}
	for _, c := range r.order {
		if c.Table == source.Clean(r.table) && state[c] == 0 {
			visit(c, 0)
		}
	}
}

// refuse says that the program stops at a line: what was committed before stands, this table and those behind it are not loaded.
func (r *reader) refuse(n int, format string, args ...any) {
	if r.waits() || r.fallen {
		return
	}
	r.fallen = true
	what := "of the file from here on"
	if r.opened != 0 {
		what = "table " + source.Clean(r.table) + ", and what stands behind it"
	}
	r.in.RefusePart(what, r.in.At(n), format, args...)
	r.doubt(n)
}

// doubt makes the chains of the current table unsure: the program does not load them, for what stands on a line.
func (r *reader) doubt(n int) {
	r.unloaded = &model.Doubt{Cause: model.NotRead, Gateway: r.in.Gateway.Name, At: r.in.At(n), Of: "table " + source.Clean(r.table),
		Why: "the table is not loaded: which rules hold is not known"}
	for _, c := range r.chains {
		c.Doubts.Add(r.unloaded)
	}
}

func (r *reader) open(n int, table string) {
	r.table, r.chains, r.opened = table, map[string]*model.Chain{}, n
	r.tables[source.Clean(table)] = n
	r.order = slices.DeleteFunc(
		r.order,
		func(c *model.Chain) bool { return c.Table == source.Clean(table) },
	) // the last block of a table holds
	if places()[table] == nil {
		r.in.Unread(r.in.At(n), read.Owner{}, "%q is not a table that is known", source.Clean(table))
		r.refuse(n, "%q is not a table", source.Clean(table))
	}
}

func (r *reader) declare(n int, w []string) {
	if len(w) < 2 {
		r.in.Unread(r.in.At(n), read.Owner{}, "a chain has a name and a policy")
		r.refuse(n, "a chain has a name and a policy")
		return
	}
	if _, target := forms()[w[0]]; strings.HasPrefix(w[0], "-") || strings.HasPrefix(w[0], "!") || len(w[0]) > 28 ||
		target && strings.ToUpper(w[0]) == w[0] {
		r.in.Unread(r.in.At(n), read.Owner{}, "%q is not a name of a chain", source.Clean(w[0]))
		r.refuse(n, "%q is not a name of a chain", source.Clean(w[0]))
		return
	}
	c := r.chain(n, w[0])
	c.At = r.in.At(n)
	r.policy(n, c, w[1])
}

func (r *reader) policy(n int, c *model.Chain, word string) {
	built := c.Hook != model.NoHook
	switch {
	case !built: // whatever it says
	case word == "ACCEPT":
		c.Policy = model.Say(model.Accept, r.in.At(n))
	case word == "DROP":
		c.Policy = model.Say(model.Drop, r.in.At(n))
	case word == "-":
	default:
		r.in.Unread(r.in.At(n), read.Owner{Name: c.ID(), To: &c.Doubts}, "a policy is ACCEPT or DROP")
		r.refuse(n, "a policy is ACCEPT or DROP")
	}
}

// chain returns a chain of the current table, made where it is not known yet.
func (r *reader) chain(n int, name string) *model.Chain {
	if c := r.chains[name]; c != nil {
		return c
	}
	c := r.newChain(n, name)
	if r.fallen {
		c.Doubts.Add(r.unloaded)
	}
	r.chains[name] = c
	r.order = append(r.order, c)
	return c
}

// newChain returns a chain of the current table, without rules.
func (r *reader) newChain(n int, name string) *model.Chain {
	c := places()[r.table][name]
	c.Family, c.Table, c.Name, c.At = r.family, source.Clean(r.table), source.Clean(name), r.in.At(n)
	c.Policy = model.Unsaid(model.Accept, "iptables default of a chain's policy")
	return &c
}

// counted divides a line's words: how many packets the counters before a command say, "" where none stand there, and the command; ok is
// false where they are none.
func counted(w []string) (packets string, command []string, ok bool) {
	if len(w) == 0 || !strings.HasPrefix(w[0], "[") {
		return "", w, true
	}
	packets, ok = counters(w[0])
	return packets, w[1:], ok
}

// counters reads the counters before a command: "[packets:bytes]".
func counters(word string) (packets string, ok bool) {
	packets, _, ok = strings.Cut(strings.Trim(word, "[]"), ":")
	return packets, ok && strings.HasSuffix(word, "]")
}

// command reads "-A chain ...", "-I chain [n] ...", "-P chain policy", "-N chain"; counters may stand before it.
// It is long as a table is: a case a command.
func (r *reader) command(n int, w []string) {
	packets, w, ok := counted(w)
	if !ok {
		r.refuse(n, "counters are two numbers in brackets, with a colon between")
	}
	if len(w) > 0 && len(w[0]) > 2 && w[0][0] == '-' && w[0][1] != '-' && strings.IndexByte("AINPFXZ", w[0][1]) >= 0 { // "-AINPUT"
		w = append([]string{w[0][:2], w[0][2:]}, w[1:]...)
	}
	if len(w) < 2 {
		r.in.Unread(r.in.At(n), read.Owner{}, "it is not a command of iptables-restore")
		r.refuse(n, "it is not a command of iptables-restore")
		return
	}
	missing := r.chains[w[1]] == nil && places()[r.table][w[1]].Hook == model.NoHook
	switch w[0] {
	case "-A", "--append", "-I", "--insert", "-P", "--policy", "-F", "--flush", "-X", "--delete-chain":
		if missing {
			r.in.Unread(r.in.At(n), read.Owner{}, "chain %s does not exist", source.Clean(w[1]))
			r.refuse(n, "chain %s does not exist", source.Clean(w[1]))
			return
		}
	}
	switch w[0] {
	case "-A", "--append", "-I", "--insert":
		r.in.Count()
		c, rest := r.chain(n, w[1]), w[2:]
		at := len(c.Rules)
		if w[0] == "-I" || w[0] == "--insert" {
			at = 0
			if len(rest) > 0 && strings.Trim(rest[0], "0123456789") == "" {
				fmt.Sscan(rest[0], &at)
				if at < 1 || at > len(c.Rules)+1 {
					r.refuse(n, "the chain has no place %d", at)
				}
				at, rest = max(0, min(at-1, len(c.Rules))), rest[1:]
			}
		}
		c.Rules = slices.Insert(c.Rules, at, r.rule(n, c, packets, rest))
	case "-P", "--policy":
		r.in.Count()
		if len(w) > 2 {
			r.policy(n, r.chain(n, w[1]), w[2])
		}
	case "-N", "--new-chain":
		r.in.Count()
		r.chain(n, w[1])
	case "-F", "--flush":
		r.in.Count()
		r.chain(n, w[1]).Rules = nil
	case "-X", "--delete-chain":
		r.in.Count()
		if c := r.chains[w[1]]; c != nil && c.Hook == model.NoHook {
			delete(r.chains, w[1])
			r.order = slices.DeleteFunc(r.order, func(o *model.Chain) bool { return o == c })
		}
	case "-Z", "--zero":
		r.in.Count() // counters
	case "-L", "--list", "-S", "--list-rules":
		r.in.Count()
	default:
		r.in.Unread(r.in.At(n), read.Owner{}, "%q is not a known command of iptables-restore", source.Clean(w[0]))
		if !strings.HasPrefix(w[0], "-") {
			r.refuse(n, "%q is not a command", source.Clean(w[0]))
		}
	}
}

// again reports whether the table of a chain stands in another file too, and says so once: then only that one is used.
func (r *reader) again(c *model.Chain, known []*model.Chain) bool {
	i := slices.IndexFunc(known, func(k *model.Chain) bool { return k.Family == c.Family && k.Table == c.Table })
	if i < 0 {
		return false
	}
	if !r.twice[c.Table] {
		r.in.Lost(
			r.in.At(r.tables[c.Table]),
			"table %q is also in %s; only that one is used, as two saved states of one packet filter cannot both hold",
			c.Table,
			known[i].At,
		)
		if r.twice == nil {
			r.twice = map[string]bool{}
		}
		r.twice[c.Table] = true
	}
	return true
}

// finish hands the chains over, with what refers to each.
func (r *reader) finish() {
	known := slices.Clone(r.in.Gateway.Chains)
	for _, c := range r.order {
		if r.again(c, known) {
			continue
		}
		r.in.Gateway.Chains = append(r.in.Gateway.Chains, c)
		if c.Hook == model.NoHook {
			r.in.Gateway.Definitions = append(
				r.in.Gateway.Definitions,
				&model.Definition{Kind: "chain", Name: c.ID(), At: c.At, Used: r.used[c]},
			)
		}
	}
}

func (r *reader) packetFamily() packet.Family {
	if r.family == "ip6" {
		return packet.IPv6
	}
	return packet.IPv4
}

func coverage() []read.Coverage {
	return []read.Coverage{
		{Statement: "*table, :CHAIN policy [counters], COMMIT, -A, -I, -N, -P", Use: read.Used},
		{
			Statement: "-s, -d, -i, -o, -p, with \"!\" before them",
			Use:       read.Used,
			Note:      "also under masks that are no prefix, of which those with many ranges are a doubt",
		},
		{Statement: "-m tcp|udp|udplite|sctp|dccp --sport, --dport", Use: read.Used},
		{Statement: "-m multiport --sports, --dports, --ports", Use: read.Used},
		{Statement: "-m icmp|icmp6 types and codes, by number and by name", Use: read.Used},
		{Statement: "-m conntrack --ctstate, --ctdir, --ctstatus; -m state --state", Use: read.Used},
		{Statement: "-m policy --dir, --pol, --tunnel-src, --tunnel-dst", Use: read.Used},
		{
			Statement: "-m policy --reqid, --spi, --proto, --mode, --strict, --next",
			Use:       read.Used,
			Note:      "outside the model: results that depend on them say so",
		},
		{Statement: "-m set --match-set", Use: read.Used, Note: "with the sets of ipset save"},
		{Statement: "-m iprange --src-range, --dst-range", Use: read.Used},
		{Statement: "-m mark --mark", Use: read.Used},
		{Statement: "-m comment", Use: read.Used},
		{Statement: "ACCEPT, DROP, REJECT, RETURN, QUEUE, NFQUEUE, NOTRACK, CT, chains by -j and -g", Use: read.Used},
		{Statement: "TPROXY", Use: read.Used, Note: "the rule counts as one that may do anything"},
		{Statement: "SNAT, DNAT, MASQUERADE, REDIRECT, NETMAP", Use: read.Used},
		{Statement: "MARK, CONNMARK", Use: read.Used, Note: "also saved to the connection's and restored from it"},
		{Statement: "LOG, NFLOG", Use: read.Used},
		{
			Statement: "-m " + strings.Join(sortedModules(), ", "),
			Use:       read.Used,
			Note:      "outside the model: the rule may or may not concern a packet",
		},
		{Statement: strings.Join(sortedTargets(), ", "), Use: read.Irrelevant, Note: "they decide about no packet"},
		{Statement: "other modules and targets", Use: read.Left, Note: "the rule counts as one that may do anything"},
	}
}
