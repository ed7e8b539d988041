// Package iked reads the configuration of the IKE daemon OpenIKED, iked.conf.
package iked

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"toril/daemon"
	"toril/daemon/openiked"
	"toril/ike"
	"toril/internal/lazy"
	"toril/model"
	"toril/packet"
	"toril/read"
	"toril/read/literal"
	"toril/source"
)

// software is the name of the daemon.
var software = openiked.Daemon.Name

// Format is the format of iked.conf.
var Format = &read.Format{
	Name:     "iked.conf",
	Comments: []string{"#"},
	Words:    openiked.Words,
	Title:    "IKE daemon OpenIKED: policies",
	Software: software,
	Hints:    []string{"iked.conf", "*.iked"},
	Order:    20,
	Looks: func(f *source.File) (int, string) {
		if m := policyLine().Find(f.Head()); m != nil {
			return 95, fmt.Sprintf("it has policies (%q)", strings.TrimSpace(string(m)))
		}
		return 0, ""
	},
	Read: readFile,
	Covers: read.Rows(
		read.Coverage{Statement: "macros, include, lines that go on with a backslash", Use: read.Used},
		read.Coverage{
			Statement: "ikev2 [name] active|passive, tunnel|transport, esp|ah, ipcomp, proto, from, to, port, local, peer",
			Use:       read.Used,
		},
		read.Coverage{Statement: "ikesa, childsa: enc, auth, prf, group, esn, noesn", Use: read.Used},
		read.Coverage{Statement: "srcid, dstid, ikelifetime, lifetime, bytes", Use: read.Used},
		read.Coverage{Statement: "psk", Use: read.Used, Note: "the value is hidden from every quote"},
		read.Coverage{Statement: "rsa, ecdsa256, ecdsa384, ecdsa521, rfc7427, eap", Use: read.Used},
		read.Coverage{Statement: "set active, passive, dpd_check_interval, mobike, nomobike", Use: read.Used},
		read.Coverage{Statement: "user", Use: read.Irrelevant, Note: "its password is hidden from every quote"},
		read.Coverage{
			Statement: "set of other properties, tag, tap, iface, config, request, rdomain",
			Use:       read.Irrelevant,
			Note:      "addresses of roadwarriors, marks for other programs",
		},
		read.Coverage{
			Statement: "quick, skip, default",
			Use:       read.Irrelevant,
			Note:      "which policy answers a peer that several match; the last one does",
		},
		read.Coverage{Statement: "(srcnat) behind from", Use: read.Left},
	),
}

var policyLine = lazy.Regexp(
	`(?m)^[ \t]*ikev2[ \t]+("[^"]*"|quick|skip|default|active|passive|esp|ah|from|proto|tunnel|transport|inet6?|ipcomp)\b?`,
)

// token is a word, or a text in quotation marks.
type token struct {
	s      string
	quoted bool
	line   int
	raw    string // between quotation marks, as it is written
}

type reader struct {
	defaults map[string]daemon.Default
	macros   map[string][]token
	dpd      model.Setting[time.Duration]
	mobike   model.Setting[bool]
	passive  bool
	conns    []*model.Connection
	count    int
}

func readFile(in *read.Input) {
	r := &reader{
		macros:   map[string][]token{},
		defaults: openiked.Known.For(in.Gateway.VersionOf(software), "iked.conf", ""),
		mobike:   unsaid(true, "mobike"),
	}
	r.dpd = standing(r, "dpd_check_interval", literal.Time)
	r.file(in)
	if e := in.Gateway.RefusedOf(in.File.Format); e != nil {
		for _, c := range r.conns {
			c.Unusable = e
		}
	}
	for _, c := range r.conns { // what is set for all holds wherever it stands
		c.DPD, c.MOBIKE = r.dpd, r.mobike
		for _, k := range c.Children {
			if r.passive {
				k.Start.Value = model.StartNever
			}
		}
	}
	in.Gateway.Connections = append(in.Gateway.Connections, r.conns...)
}

func (r *reader) file(in *read.Input) {
	if in.File.Marked() {
		r.refuse(in, 1, "the file begins with a byte order mark")
	}
	data := in.File.Bytes()
	if in.File.Converted() {
		data = bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n"))
	}
	l := &lexer{data: data, line: 1}
	for l.at < len(l.data) {
		if in.Context.Err() != nil {
			return
		}
		tokens := l.statement()
		if l.open > 0 {
			r.refuse(in, l.open, "a quotation mark is not closed")
			l.open = 0
		}
		if len(tokens) > 0 {
			in.Count()
			r.statement(in, tokens[0].line, tokens)
		}
	}
}

// refuse says that the daemon does not start with the file, once.
func (r *reader) refuse(in *read.Input, line int, format string, args ...any) {
	if in.Gateway.RefusedOf(in.File.Format) == nil {
		in.Refuse(line, format, args...)
	}
}

// lexer cuts a file into statements as the daemon does: a line end ends one, except behind a backslash, which joins lines everywhere,
// comments included, and inside of quotation marks, where it is nothing.
type lexer struct {
	data []byte
	at   int
	line int
	open int // where a quotation mark that is not closed opens
}

// joined passes over backslashes before line ends.
func (l *lexer) joined() {
	for l.at+1 < len(l.data) && l.data[l.at] == '\\' && l.data[l.at+1] == '\n' {
		l.at += 2
		l.line++
	}
}

func (l *lexer) statement() []token {
	var out []token
	for l.at < len(l.data) {
		if l.joined(); l.at >= len(l.data) {
			return out
		}
		switch c := l.data[l.at]; {
		case c == '\n':
			l.at++
			l.line++
			return out
		case c == ' ' || c == '\t':
			l.at++
		case c == '#':
			for l.at < len(l.data) && l.data[l.at] != '\n' {
				l.at++
				l.joined()
			}
		case c == '"' || c == '\'':
			out = append(out, l.text(c))
		case strings.IndexByte("{}=()<>!/,\r", c) >= 0:
			out = append(out, token{string(c), false, l.line, ""})
			l.at++
		default:
			start, line := l.at, l.line
			var b strings.Builder
			for l.at < len(l.data) && strings.IndexByte(" \t\r\n,#\"'{}=()<>!/", l.data[l.at]) < 0 {
				b.WriteByte(l.data[l.at])
				l.at++
				l.joined()
			}
			if l.at == start {
				l.at++
			}
			out = append(out, token{b.String(), false, line, ""})
		}
	}
	return out
}

// text reads what stands between quotation marks.
func (l *lexer) text(mark byte) token {
	var b strings.Builder
	start, line := l.at, l.line
	for l.at++; l.at < len(l.data) && l.data[l.at] != mark; l.at++ {
		switch c := l.data[l.at]; {
		case c == '\n':
			l.line++
		case c == '\\' && l.at+1 < len(l.data) && (l.data[l.at+1] == mark || l.data[l.at+1] == ' ' || l.data[l.at+1] == '\t'):
			l.at++
			b.WriteByte(l.data[l.at])
		case c == '\\' && l.at+1 < len(l.data) && l.data[l.at+1] == '\n':
			l.at++
			l.line++
		default:
			b.WriteByte(c)
		}
	}
	if l.at >= len(l.data) {
		l.open = line
	}
	raw := string(l.data[min(start+1, l.at):l.at])
	l.at = min(l.at+1, len(l.data))
	return token{b.String(), true, line, raw}
}

const maxTokens = 100_000

// expand replaces $names by what they stand for, cut into words anew, and joins what slashes part: networks are one word.
func (r *reader) expand(in *read.Input, tokens []token) []token {
	var out []token
	for _, t := range tokens {
		name, named := strings.CutPrefix(t.s, "$")
		if t.quoted || !named {
			out = append(out, t)
			continue
		}
		value, ok := r.macros[name]
		if !ok {
			r.refuse(in, t.line, "the macro %s is not defined", source.Clean(t.s))
			out = append(out, t)
			continue
		}
		if len(out)+len(value) > maxTokens {
			out = append(out, t)
			continue
		}
		for _, v := range value {
			v.line = t.line
			out = append(out, v)
		}
	}
	return slashes(out)
}

// slashes joins a word, a slash and a number.
func slashes(in []token) []token {
	var out []token
	for i := 0; i < len(in); i++ {
		if i+1 < len(in) && in[i].s == "/" && !in[i].quoted && len(out) > 0 && !out[len(out)-1].quoted &&
			strings.Trim(in[i+1].s, "0123456789") == "" {
			out[len(out)-1].s += "/" + in[i+1].s
			i++
			continue
		}
		out = append(out, in[i])
	}
	return out
}

func (r *reader) statement(in *read.Input, line int, t []token) {
	switch {
	case len(t) > 2 && t[1].s == "=" && !t[1].quoted:
		var text []string
		for _, v := range t[2:] {
			text = append(text, v.s)
		}
		value := (&lexer{data: []byte(strings.Join(text, " ")), line: line}).statement()
		value = r.expand(in, value)
		if len(value) > maxTokens/10 {
			in.Unread(line, "", "a macro of more than %d words", maxTokens/10)
			return
		}
		r.macros[t[0].s] = value
	case t[0].s == "include":
		for _, arg := range t[1:] {
			for _, sub := range in.Include(line, arg.s) {
				r.file(sub)
			}
		}
	case t[0].s == "set":
		r.set(in, line, t[1:])
	case t[0].s == "user":
		if len(t) > 2 {
			in.File.Hide(line, t[2].s)
			in.File.Hide(line, t[2].raw)
		}
	case t[0].s == "ikev2" && !t[0].quoted:
		p := &policy{reader: r, in: in, line: line, t: r.expand(in, t[1:])}
		p.read()
	default:
		in.Unread(line, "", "%q is not a known statement", source.Clean(t[0].s))
		r.refuse(in, line, "%q is not a statement", source.Clean(t[0].s))
	}
}

func (r *reader) set(in *read.Input, line int, t []token) {
	if len(t) == 0 {
		in.Unread(line, "", "a property is missing")
		return
	}
	switch t[0].s {
	case "active", "passive":
		r.passive = t[0].s == "passive"
	case "mobike", "nomobike":
		r.mobike = model.Say(t[0].s == "mobike", in.At(line))
	case "dpd_check_interval":
		if len(t) > 1 {
			if d, err := duration(t[1].s); err == nil {
				r.dpd = model.Say(d, in.At(line))
				return
			}
		}
		in.Unread(line, "", "an interval in seconds is missing")
	case "couple",
		"decouple",
		"fragmentation",
		"nofragmentation",
		"vendorid",
		"novendorid",
		"enforcesingleikesa",
		"noenforcesingleikesa",
		"cert_partial_chain",
		"ocsp",
		"stickyaddress",
		"nostickyaddress":
	default:
		in.Unread(line, "", "%q is not a known property", source.Clean(t[0].s))
		r.refuse(in, line, "%q is not a property", source.Clean(t[0].s))
	}
}

// duration reads a time: seconds, or a number with m or h.
func duration(t string) (time.Duration, error) { return literal.Time(strings.ToLower(t)) }

// policy is one ikev2 statement on its way into the model.
type policy struct {
	*reader
	in     *read.Input
	line   int
	t      []token
	i      int
	conn   *model.Connection
	child  *model.Child
	flows  []flow
	protos []uint8
	ah     bool
	keyed  *model.Key
}

type flow struct{ from, to ike.Selectors }

func (p *policy) peek() token {
	if p.i < len(p.t) {
		return p.t[p.i]
	}
	return token{}
}

func (p *policy) take() token {
	t := p.peek()
	p.i++
	return t
}

func (p *policy) unread(format string, args ...any) {
	line := p.line
	if p.i > 0 && p.i <= len(p.t) {
		line = p.t[p.i-1].line
	}
	p.in.Unread(line, p.conn.Name, "%s", source.Clean(fmt.Sprintf(format, args...)))
	p.conn.Unsure, p.child.Unsure = true, true
}

// refuse says that the daemon does not take the policy, nor the file.
func (p *policy) refuse(format string, args ...any) {
	line := p.line
	if p.i > 0 && p.i <= len(p.t) {
		line = p.t[p.i-1].line
	}
	p.unread(format, args...)
	p.reader.refuse(p.in, line, "%s", source.Clean(fmt.Sprintf(format, args...)))
}

// places is the order in which the parts of a policy stand (OpenIKED 7.2, asked in lab/formats); many are those that may stand again.
var (
	places = func() map[string]int {
		out := map[string]int{}
		for i, group := range []string{"quick skip default", "active passive", "ipcomp", "tunnel transport", "esp ah", "inet inet6",
			"proto", "rdomain", "from", "local peer", "ikesa", "childsa", "srcid", "dstid",
			"ikelifetime", "lifetime", "bytes", "psk rsa ecdsa256 ecdsa384 ecdsa521 rfc7427 eap", "config request", "iface", "tag tap"} {
			for _, w := range strings.Fields(group) {
				out[w] = i + 1
			}
		}
		return out
	}()
	many = map[string]bool{"from": true, "ikesa": true, "childsa": true, "config": true, "request": true}
)

func (p *policy) read() {
	p.count++
	name := fmt.Sprintf("policy%d", p.count)
	if t := p.peek(); t.quoted || t.s != "" && places[t.s] == 0 && strings.IndexAny(t.s, "{}=()<>!/,") != 0 {
		name = p.take().s
	}
	p.defaults(source.Clean(name))
	before, last := 0, ""
	for p.i < len(p.t) {
		t := p.peek()
		here := places[t.s]
		switch {
		case t.s == "," && last == "from" && p.i+1 < len(p.t) && p.t[p.i+1].s == "from": // between flows
			p.i++
			continue
		case t.quoted:
			p.i++
			p.refuse("%q in quotation marks was not expected here", t.s)
			continue
		case here == 0:
		case here < before || here == before && !many[t.s] && (t.s == last || here != places["local"] && here != places["tag"]):
			p.i++
			p.refuse("%q stands in the wrong place", t.s)
			p.i--
		case t.s == "bytes" && before != places["lifetime"]:
			p.i++
			p.refuse("%q stands behind a lifetime only", t.s)
			p.i--
		}
		before, last = max(before, here), t.s
		p.part()
	}
	p.finish()
	if e := p.in.Gateway.RefusedOf(p.in.File.Format); e != nil && p.conn.Unusable == nil {
		p.conn.Unusable = e
	}
}

func unsaid[T any](v T, what string) model.Setting[T] {
	return model.Unsaid(v, software+" default of iked.conf "+what)
}

// standing returns a default that stands in the daemon's table.
func standing[T any](r *reader, key string, parse func(string) (T, error)) model.Setting[T] {
	v, err := parse(r.defaults[key].Value)
	if err != nil {
		panic(fmt.Sprintf("the default of %s cannot be read: %v", key, err)) // daemon/openiked and the reader do not fit each other
	}
	return unsaid(v, key)
}

func (p *policy) defaults(name string) {
	anywhere := model.Addresses{{Text: "any", Any: true}}
	at := p.in.At(p.line)
	p.conn = &model.Connection{
		Name:       name,
		At:         at,
		Daemon:     openiked.Daemon,
		Joins:      true,
		Version:    unsaid(ike.V2, "ikev2"),
		Aggressive: unsaid(false, "ikev2"),
		LocalAddrs: unsaid(anywhere, "local"),
		RemoteAddrs: unsaid(
			anywhere,
			"peer",
		),
		LocalPort:  unsaid(500, "local"),
		RemotePort: unsaid(500, "peer"),
		Proposals:  unsaid(openiked.Default(ike.IKE), "ikesa"),
		Rekey: unsaid(
			time.Duration(0),
			"ikelifetime",
		),
		Reauth:    unsaid(time.Duration(0), "ikelifetime"),
		Over:      unsaid(time.Duration(0), "ikelifetime"),
		Random:    unsaid(time.Duration(0), "ikelifetime"),
		Encap:     unsaid(false, "ikev2"),
		Childless: unsaid("never", "ikev2"),
		Tries:     unsaid(0, "ikev2"),
		PPK:       unsaid(false, "ikev2"),
	}
	p.conn.Local = model.Party{Method: unsaid(ike.Certificate, "ikeauth"), ID: unsaid(ike.Identity{Kind: ike.NoID}, "srcid")}
	p.conn.Remote = model.Party{Method: unsaid(ike.Certificate, "ikeauth"), ID: unsaid(ike.Identity{Kind: ike.AnyID}, "dstid")}
	p.child = &model.Child{
		Name:      name,
		At:        at,
		Protocol:  unsaid(ike.ESP, "encap"),
		Proposals: unsaid(openiked.Default(ike.ESP), "childsa"),
		Mode:      unsaid(ike.Tunnel, "tmode"),
		Start:     unsaid(model.StartNever, "mode"),
		CloseAction: unsaid(
			model.StartNever,
			"mode",
		),
		DPDAction:    unsaid("clear", "mode"),
		ReplayWindow: standing(p.reader, "replay window", strconv.Atoi),
		IPComp:       unsaid(false, "ipcomp"),
		Policies:     unsaid(true, "couple"),
		RekeyPackets: unsaid(uint64(0), "lifetime"),
		LifePackets:  unsaid(uint64(0), "lifetime"),
	}
	p.life(standing(p.reader, "lifetime", literal.Time))
	p.bytes(standing(p.reader, "bytes", literal.Size))
}

// life sets the hard lifetime of the child; it is renewed after 85 to 95 parts of a hundred.
func (p *policy) life(d model.Setting[time.Duration]) {
	p.child.Life, p.child.Rekey, p.child.Random = d, d, d
	p.child.Spans = []model.Span{{Setting: d, Name: "lifetime"}}
	p.child.Rekey.Value, p.child.Random.Value = d.Value/100*95, d.Value/100*10
}

func (p *policy) bytes(n model.Setting[uint64]) {
	p.child.LifeBytes, p.child.RekeyBytes = n, n
	p.child.RekeyBytes.Value = n.Value / 100 * 95
}

func (p *policy) part() {
	t := p.take()
	at := p.in.At(t.line)
	switch t.s {
	case "quick", "skip", "default", "inet", "inet6":
	case "active":
		p.child.Start = model.Say(model.StartBoot, at)
	case "passive":
		p.child.Start = model.Say(model.StartNever, at)
	case "ipcomp":
		p.child.IPComp = model.Say(true, at)
	case "tunnel":
		p.child.Mode = model.Say(ike.Tunnel, at)
	case "transport":
		p.child.Mode = model.Say(ike.Transport, at)
	case "esp", "ah":
		p.ah = t.s == "ah"
		if p.ah {
			p.child.Protocol = model.Say(ike.AH, at)
			if p.child.Proposals.IsDefault() {
				p.child.Proposals = unsaid(openiked.Default(ike.AH), "childsa")
			}
		}
	case "proto":
		for _, w := range p.list() {
			n, err := literal.Proto(w)
			if err != nil {
				p.refuse("%v", err)
				continue
			}
			p.protos = append(p.protos, n)
		}
	case "rdomain", "tag", "tap", "iface":
		p.take()
	case "config", "request":
		p.take()
		p.take()
	case "from":
		p.flow()
	case "local":
		p.conn.LocalAddrs = model.Say(host(p.take().s), at)
	case "peer":
		p.conn.RemoteAddrs = model.Say(host(p.take().s), at)
	case "ikesa":
		p.proposals(&p.conn.Proposals, ike.IKE, at)
	case "childsa":
		protocol := ike.ESP
		if p.ah {
			protocol = ike.AH
		}
		p.proposals(&p.child.Proposals, protocol, at)
	case "srcid":
		p.conn.Local.ID = model.Say(identity(p.take().s), at)
	case "dstid":
		p.conn.Remote.ID = model.Say(identity(p.take().s), at)
	case "ikelifetime":
		d, err := duration(p.take().s)
		if err != nil {
			p.refuse("%v", err)
			return
		}
		p.conn.Rekey = model.Say(d, at)
		p.conn.Spans = []model.Span{{Setting: p.conn.Rekey, Name: "ikelifetime"}}
	case "lifetime":
		d, err := duration(p.take().s)
		if err != nil {
			p.refuse("%v", err)
			return
		}
		p.life(model.Say(d, at))
	case "bytes":
		n, err := literal.Size(p.take().s)
		if err != nil {
			p.refuse("%v", err)
			return
		}
		p.bytes(model.Say(n, at))
	case "psk":
		secret := p.take()
		p.in.File.Hide(at.Line, secret.s)
		p.in.File.Hide(at.Line, secret.raw)
		p.key(secret)
		p.methods(ike.PSK, at)
	case "rsa", "ecdsa256", "ecdsa384", "ecdsa521", "rfc7427":
		p.methods(ike.Certificate, at)
	case "eap":
		p.take()
		p.conn.Remote.Method = model.Say(ike.EAP, at)
	default:
		p.refuse("%q is not a known part of a policy", t.s)
	}
}

func (p *policy) methods(m ike.Method, at source.Pos) {
	p.conn.Local.Method, p.conn.Remote.Method = model.Say(m, at), model.Say(m, at)
}

func (p *policy) key(t token) {
	secret := t.s
	if coded, ok := strings.CutPrefix(t.s, "0x"); ok {
		b, err := hex.DecodeString(coded)
		if err != nil {
			p.refuse("a key that begins with 0x is hexadecimal")
		}
		secret = string(b)
	}
	p.keyed = &model.Key{At: p.in.At(t.line), Name: p.conn.Name, Secret: source.NewSecret(secret)}
	p.in.Gateway.Keys = append(p.in.Gateway.Keys, p.keyed)
}

// list takes a word, or words in braces.
func (p *policy) list() []string {
	if p.peek().s != "{" {
		return []string{p.take().s}
	}
	p.take()
	var out []string
	for p.i < len(p.t) {
		t := p.take()
		if t.s == "}" {
			return out
		}
		if t.s == "," && !t.quoted {
			continue
		}
		out = append(out, t.s)
	}
	p.refuse("a closing brace is missing")
	return out
}

// flow reads "from A [port P] [(natted)] to B [port P]".
func (p *policy) flow() {
	if p.peek().s == "{" {
		p.refuse("a flow names one network")
	}
	from := p.end()
	if p.peek().s == "(" {
		for p.i < len(p.t) && p.take().s != ")" {
		}
		p.unread("a translated source is not read")
	}
	if p.peek().s != "to" {
		p.refuse("%q stands where \"to\" was expected", p.peek().s)
		return
	}
	p.take()
	p.flows = append(p.flows, flow{from, p.end()})
}

func (p *policy) end() ike.Selectors {
	var out ike.Selectors
	for _, w := range p.list() {
		switch w {
		case "any":
			four, _ := literal.Net("0.0.0.0/0")
			six, _ := literal.Net("::/0")
			out = append(out, four, six)
		case "dynamic":
			out = append(out, ike.Selector{Dynamic: true, HiPort: 65535})
		default:
			s, err := literal.Net(w)
			if err != nil {
				p.refuse("%v", err)
				continue
			}
			out = append(out, s)
		}
	}
	if p.peek().s == "port" {
		p.take()
		for i := range out {
			if err := literal.SelectorPorts(p.peek().s, &out[i]); err != nil {
				p.refuse("%v", err)
			}
		}
		p.take()
	}
	return out
}

// proposals reads the transforms behind ikesa or childsa into one more proposal.
func (p *policy) proposals(to *model.Setting[[]ike.Proposal], protocol ike.Protocol, at source.Pos) {
	one := ike.Proposal{Protocol: protocol}
	start := p.i
	add := func(list *ike.Choices, c ike.Choice) {
		if !list.Has(c) {
			*list = append(*list, c)
		}
	}
loop:
	for p.i+1 <= len(p.t) {
		switch p.peek().s {
		case "enc", "auth", "prf", "group":
		case "esn", "noesn":
			n := uint16(0)
			if p.take().s == "esn" {
				n = 1
			}
			add(&one.Transforms[ike.Sequence], ike.Pick(ike.Sequence, n, 0))
			continue
		default:
			break loop
		}
		kind, name := p.take().s, p.take().s
		c, ok := openiked.Transform(kind, name)
		if ok && (c.Registry != ike.KeyExchange || c.ID != 0) { // group none: no key exchange
			add(&one.Transforms[c.Registry], c)
		}
		if !ok {
			p.refuse("%q is not an algorithm of %s", name, kind)
		}
	}
	words := make([]string, 0, p.i-start)
	for _, t := range p.t[start:min(p.i, len(p.t))] {
		words = append(words, t.s)
	}
	one.Text = strings.Join(words, " ")
	if to.IsDefault() {
		*to = model.Say([]ike.Proposal(nil), at)
	}
	to.Value = append(to.Value, openiked.Complete(one))
}

// finish turns the flows into children: one where one side is the same in all of them, else one for each.
func (p *policy) finish() {
	defer func() { p.conns = append(p.conns, p.conn) }()
	if len(p.flows) == 0 {
		p.unread("the policy names no flow (from ... to ...)")
		p.conn.Unusable = source.Errorf(p.conn.At, "the policy names no flow")
		return
	}
	if p.conn.RemoteAddrs.IsDefault() && len(p.flows) == 1 && len(p.flows[0].to) == 1 && p.flows[0].to[0].Lo == p.flows[0].to[0].Hi &&
		p.flows[0].to[0].Lo.IsValid() {
		a := p.flows[0].to[0].Lo // host to host: the far end is the destination
		p.conn.RemoteAddrs.Value = model.Addresses{{Text: a.String(), Lo: a, Hi: a}}
	}
	if p.keyed != nil {
		p.keyed.For = p.conn
	}
	at := p.flowAt()
	same := func(side func(flow) ike.Selectors) bool {
		return !slices.ContainsFunc(p.flows, func(f flow) bool { return fmt.Sprint(side(f)) != fmt.Sprint(side(p.flows[0])) })
	}
	from, to := func(f flow) ike.Selectors { return f.from }, func(f flow) ike.Selectors { return f.to }
	if same(from) || same(to) {
		var froms, tos ike.Selectors
		for _, f := range p.flows {
			froms, tos = append(froms, f.from...), append(tos, f.to...)
		}
		p.add(p.conn.Name, froms, tos, at)
		return
	}
	for i, f := range p.flows {
		p.add(fmt.Sprintf("%s/%d", p.conn.Name, i+1), f.from, f.to, at)
	}
}

func (p *policy) flowAt() source.Pos {
	for _, t := range p.t {
		if t.s == "from" && !t.quoted {
			return p.in.At(t.line)
		}
	}
	return p.conn.At
}

func (p *policy) add(name string, from, to ike.Selectors, at source.Pos) {
	k := *p.child
	k.Name = name
	k.Local, k.Remote = model.Say(p.restrict(dedupe(from)), at), model.Say(p.restrict(dedupe(to)), at)
	k.HostToHost = k.Local.Value.Dynamic() && k.Remote.Value.Dynamic()
	p.conn.Children = append(p.conn.Children, &k)
}

func dedupe(in ike.Selectors) ike.Selectors {
	var out ike.Selectors
	for _, s := range in {
		if !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// restrict gives every selector the protocols of the policy.
func (p *policy) restrict(in ike.Selectors) ike.Selectors {
	if len(p.protos) == 0 {
		return in
	}
	var out ike.Selectors
	for _, s := range in {
		for _, n := range p.protos {
			one := s
			one.Proto = n
			if !packet.WithPorts.Has(uint64(n)) {
				one.LoPort, one.HiPort = 0, 65535
			}
			out = append(out, one)
		}
	}
	return out
}

func host(s string) model.Addresses {
	if s == "any" {
		return model.Addresses{{Text: s, Any: true}}
	}
	return model.Addresses{literal.Host(s)}
}

// identity reads srcid and dstid: a distinguished name begins with a slash, mail has an "@", then addresses, then names.
func identity(s string) ike.Identity {
	switch {
	case strings.HasPrefix(s, "/"):
		return ike.DN(s)
	case strings.Contains(s, "@"):
		return ike.Identity{Kind: ike.IDMail, Value: strings.ToLower(s)}
	}
	if h := literal.Host(s); h.Name == "" && !h.Any && h.Lo == h.Hi {
		return ike.Addr(h.Lo)
	}
	return ike.FQDN(s)
}
