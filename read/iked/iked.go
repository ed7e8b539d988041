// Package iked reads the configuration of the IKE daemon OpenIKED, iked.conf.
package iked

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"toril/daemon"
	"toril/daemon/form"
	"toril/daemon/openiked"
	"toril/ike"
	"toril/internal/lazy"
	"toril/model"
	"toril/model/literal"
	"toril/packet"
	"toril/read"
	"toril/source"
	"toril/syntax"
	"toril/syntax/words"
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
	About:    model.AboutIKE | model.AboutKeys,
	Hints:    []string{"iked.conf", "*.iked"},
	Order:    20,
	Looks: func(f *source.File) (int, string) {
		if m := policyLine.Find(f.Head()); m != nil {
			return 95, fmt.Sprintf("it has policies (%q)", strings.TrimSpace(string(m)))
		}
		return 0, ""
	},
	Read:   readFile,
	Covers: coverage,
}

var policyLine = lazy.NewSearch(
	`(?m)^[ \t]*ikev2[ \t]+("[^"]*"|([\w.-]+[ \t]+)?(quick|skip|default|active|passive|esp|ah|from|proto|tunnel|transport|inet6?|ipcomp)\b)`,
)

type reader struct {
	defaults map[string]daemon.Default
	macros   map[string][]words.Word
	dpd      model.Setting[time.Duration]
	mobike   model.Setting[bool]
	passive  bool
	partial  bool // an intermediate authority may end a chain
	conns    []*model.Connection
	count    int
}

func readFile(in *read.Input) {
	in.Gateway.Told.IKE = true
	r := &reader{
		macros:   map[string][]words.Word{},
		defaults: openiked.Known.For(in.Gateway.VersionOf(software), "iked.conf", ""),
		mobike:   unsaid(true, "mobike"),
	}
	r.dpd = standing(r, "dpd_check_interval", form.Time.Read)
	r.file(in)
	for _, c := range r.conns { // what is set for all holds wherever it stands
		c.DPD, c.MOBIKE, c.Remote.Partial = r.dpd, r.mobike, r.partial
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
		r.refuse(in, in.At(1), "the file begins with a byte order mark")
	}
	for st := range words.Parse(in.File.Bytes(), in.File.Converted()) {
		if in.Context.Err() != nil {
			return
		}
		if st.Open > 0 {
			r.refuse(in, in.At(st.Open), "a quotation mark is not closed")
		}
		in.Count()
		r.statement(in, in.Pos(st.Place()), st.Words)
	}
}

// refuse says that the daemon does not start with the file, once.
func (r *reader) refuse(in *read.Input, at source.Pos, format string, args ...any) {
	if in.Gateway.RefusedOf(in.File.Format) == nil {
		in.Refuse(at, format, args...)
	}
}

const maxTokens = 100_000

// expand replaces $names by what they stand for, cut into words anew, and joins what slashes part: networks are one word.
func (r *reader) expand(in *read.Input, tokens []words.Word) []words.Word {
	var out []words.Word
	for _, t := range tokens {
		name, named := strings.CutPrefix(t.Text, "$")
		if t.Quoted || !named {
			out = append(out, t)
			continue
		}
		value, ok := r.macros[name]
		if !ok {
			r.refuse(in, in.Pos(t.Place), "the macro %s is not defined", source.Clean(t.Text))
			out = append(out, t)
			continue
		}
		if len(out)+len(value) > maxTokens {
			out = append(out, t)
			continue
		}
		for _, v := range value {
			v.Place = t.Place
			out = append(out, v)
		}
	}
	return slashes(out)
}

// slashes joins a word, a slash and a number.
func slashes(in []words.Word) []words.Word {
	var out []words.Word
	for i := 0; i < len(in); i++ {
		if i+1 < len(in) && in[i].Text == "/" && !in[i].Quoted && len(out) > 0 && !out[len(out)-1].Quoted &&
			strings.Trim(in[i+1].Text, "0123456789") == "" {
			out[len(out)-1].Text += "/" + in[i+1].Text
			out[len(out)-1].Place = syntax.Over(out[len(out)-1].Place, in[i+1].Place)
			i++
			continue
		}
		out = append(out, in[i])
	}
	return out
}

func (r *reader) statement(in *read.Input, at source.Pos, t []words.Word) {
	switch {
	case len(t) > 2 && t[1].Text == "=" && !t[1].Quoted:
		var text []string
		for _, v := range t[2:] {
			text = append(text, v.Text)
		}
		value := r.expand(in, words.Split(strings.Join(text, " "), t[0].Place))
		if len(value) > maxTokens/10 {
			in.Unread(at, read.Owner{}, "a macro of more than %d words", maxTokens/10)
			return
		}
		r.macros[t[0].Text] = value
	case t[0].Text == "include":
		for _, arg := range t[1:] {
			for _, sub := range in.Include(at, arg.Text) {
				r.file(sub)
			}
		}
	case t[0].Text == "set":
		r.set(in, at, t[1:])
	case t[0].Text == "user":
		if len(t) > 2 {
			hide(in, t[2])
		}
	case t[0].Text == "ikev2" && !t[0].Quoted:
		p := &policy{reader: r, in: in, at: at, t: r.expand(in, t[1:])}
		p.read()
	default:
		in.Unread(at, read.Owner{}, "%q is not a known statement", source.Clean(t[0].Text))
		r.refuse(in, at, "%q is not a statement", source.Clean(t[0].Text))
	}
}

func (r *reader) set(in *read.Input, at source.Pos, t []words.Word) {
	if len(t) == 0 {
		in.Unread(at, read.Owner{}, "a property is missing")
		return
	}
	i := slices.IndexFunc(properties, func(row property) bool { return slices.Contains(strings.Fields(row.words), t[0].Text) })
	switch {
	case i < 0:
		in.Unread(at, read.Owner{}, "%q is not a known property", source.Clean(t[0].Text))
		r.refuse(in, at, "%q is not a property", source.Clean(t[0].Text))
	case properties[i].set != nil && !properties[i].set(r, t, at):
		in.Unread(at, read.Owner{}, "an interval in seconds is missing")
	}
}

// duration reads a time: seconds, or a number with m or h.
func duration(t string) (time.Duration, error) { return form.Time.Read(strings.ToLower(t)) }

// policy is one ikev2 statement on its way into the model.
type policy struct {
	*reader
	in     *read.Input
	at     source.Pos
	t      []words.Word
	i      int // of the word that comes next
	begun  int // of the word that began the part of the policy that is read
	conn   *model.Connection
	child  *model.Child
	flows  []flow
	flowed syntax.Place // where they stand
	protos []uint8
	ah     bool
	keyed  *model.Key

	written []ike.Proposal // of the child, as they are written
	quick   bool           // as a responder the daemon looks no further where it fits
}

type flow struct{ from, to ike.Selectors }

func (p *policy) peek() words.Word {
	if p.i < len(p.t) {
		return p.t[p.i]
	}
	return words.Word{}
}

func (p *policy) take() words.Word {
	t := p.peek()
	p.i++
	return t
}

// here is the position of the word that was taken last.
func (p *policy) here() source.Pos {
	if p.i > 0 && p.i <= len(p.t) {
		return p.in.Pos(p.t[p.i-1].Place)
	}
	return p.at
}

// said is the position of the part of the policy that is read, from its keyword up to the word that was taken last.
func (p *policy) said() source.Pos {
	return p.in.Pos(syntax.Over(p.t[p.begun].Place, p.t[min(p.i, len(p.t))-1].Place))
}

func (p *policy) unread(format string, args ...any) {
	p.in.Unread(p.here(), read.Owner{Name: p.conn.Name, To: &p.conn.Doubts}, "%s", source.Clean(fmt.Sprintf(format, args...)))
}

// refuse says that the daemon does not take the policy, nor the file.
func (p *policy) refuse(format string, args ...any) {
	p.unread(format, args...)
	p.reader.refuse(p.in, p.here(), "%s", source.Clean(fmt.Sprintf(format, args...)))
}

// reserved are the words of the grammar beside those that begin a part of a policy: none is a name as it stands (asked of 7.2).
var reserved = sync.OnceValue(func() map[string]bool {
	out := map[string]bool{}
	for w := range strings.FieldsSeq("any auth cert_partial_chain config couple decouple dpd_check_interval dynamic enc " +
		"enforcesingleikesa esn file flow fragmentation group ike ikev2 include maxage mobike name noenforcesingleikesa noesn " +
		"nofragmentation nomobike nostickyaddress novendorid ocsp port prf request sa set stickyaddress tcpmd5 to tolerate user " +
		"vendorid") {
		out[w] = true
	}
	return out
})

// read reads the policy.
func (p *policy) read() {
	p.count++
	name := fmt.Sprintf("policy%d", p.count)
	if t := p.peek(); t.Quoted || t.Text != "" && placeOf(t.Text) == 0 && strings.IndexAny(t.Text, "{}=()<>!/,") != 0 {
		name = p.take().Text
		if !t.Quoted && reserved()[name] {
			defer p.refuse("%q is a word of the grammar: as a name it stands in quotation marks", name)
		}
	}
	p.defaults(source.Clean(name))
	before, last := 0, ""
	for p.i < len(p.t) {
		t := p.peek()
		here := placeOf(t.Text)
		switch {
		case t.Text == "," && last == "from" && p.i+1 < len(p.t) && p.t[p.i+1].Text == "from": // between flows
			p.i++
			continue
		case t.Quoted:
			p.i++
			p.refuse("%q in quotation marks was not expected here", t.Text)
			continue
		case here == 0:
		case here < before || here == before && !parts[here-1].again && (t.Text == last || !parts[here-1].both):
			p.i++
			p.refuse("%q stands in the wrong place", t.Text)
			p.i--
		case t.Text == "bytes" && before != placeOf("lifetime"):
			p.i++
			p.refuse("%q stands behind a lifetime only", t.Text)
			p.i--
		}
		before, last = max(before, here), t.Text
		p.part()
	}
	p.finish()
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
	at := p.at
	p.conn = &model.Connection{
		Name:       name,
		At:         at,
		Daemon:     openiked.Daemon,
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
	p.conn.Local = model.Party{Method: unsaid(ike.Certificate, "ikeauth"), ID: unsaid(ike.Identity{Kind: ike.IDHost}, "srcid")}
	p.signs("")
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
	p.life(standing(p.reader, "lifetime", form.Time.Read))
	p.bytes(standing(p.reader, "bytes", form.Size.Read))
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

// part reads one part.
func (p *policy) part() {
	p.begun = p.i
	t := p.take()
	n := placeOf(t.Text)
	if n == 0 {
		p.refuse("%q is not a known part of a policy", t.Text)
		return
	}
	if row := parts[n-1]; row.read != nil {
		row.read(p, t.Text)
	} else {
		p.i += row.skip
	}
}

// hide hides a secret from quotes, as it is meant and as it is written.
func hide(in *read.Input, secret words.Word) {
	in.File.Hide(secret.Line, secret.Text)
	in.File.Hide(secret.Line, secret.Raw)
}

func (p *policy) methods(m ike.Method) {
	p.conn.Local.Method, p.conn.Remote.Method = model.Say(m, p.said()), model.Say(m, p.said())
}

func (p *policy) key(t words.Word) {
	secret := t.Text
	if coded, ok := strings.CutPrefix(t.Text, "0x"); ok {
		b, err := hex.DecodeString(coded)
		if err != nil {
			p.refuse("a key that begins with 0x is hexadecimal")
		}
		secret = string(b)
	}
	p.keyed = &model.Key{At: p.said(), Name: p.conn.Name, Secret: source.NewSecret(secret)}
	p.in.Gateway.Keys = append(p.in.Gateway.Keys, p.keyed)
}

// list takes a word, or words in braces.
func (p *policy) list() []string {
	if p.peek().Text != "{" {
		return []string{p.take().Text}
	}
	p.take()
	var out []string
	for p.i < len(p.t) {
		t := p.take()
		if t.Text == "}" {
			return out
		}
		if t.Text == "," && !t.Quoted {
			continue
		}
		out = append(out, t.Text)
	}
	p.refuse("a closing brace is missing")
	return out
}

// flow reads "from A [port P] [(natted)] to B [port P]".
func (p *policy) flow() {
	if p.peek().Text == "{" {
		p.refuse("a flow names one network")
	}
	from := p.end()
	if p.peek().Text == "(" {
		for p.i < len(p.t) && p.take().Text != ")" {
		}
		p.unread("a translated source is not read")
	}
	if p.peek().Text != "to" {
		p.refuse("%q stands where \"to\" was expected", p.peek().Text)
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
	if p.peek().Text == "port" {
		p.take()
		for i := range out {
			if err := literal.SelectorPorts(p.peek().Text, &out[i]); err != nil {
				p.refuse("%v", err)
			}
		}
		p.take()
	}
	return out
}

// proposals reads the transforms behind ikesa or childsa into one more proposal.
func (p *policy) proposals(to *model.Setting[[]ike.Proposal], protocol ike.Protocol) {
	one := ike.Proposal{Protocol: protocol}
	start := p.i
	add := func(list *ike.Choices, c ike.Choice) {
		if !list.Has(c) {
			*list = append(*list, c)
		}
	}
loop:
	for p.i+1 <= len(p.t) {
		switch p.peek().Text {
		case "enc", "auth", "prf", "group":
		case "esn", "noesn":
			n := uint16(0)
			if p.take().Text == "esn" {
				n = 1
			}
			add(&one.Transforms[ike.Sequence], ike.Pick(ike.Sequence, n, 0))
			continue
		default:
			break loop
		}
		kind, name := p.take().Text, p.take().Text
		c, ok := openiked.Transform(protocol, kind, name)
		if ok {
			add(&one.Transforms[c.Registry], c)
		}
		if !ok {
			p.refuse("%q is not an algorithm of %s", name, kind)
		}
	}
	if p.i == start {
		p.refuse("%q stands alone", p.t[p.begun].Text)
	}
	if why := openiked.Mixed(one); why != "" {
		p.refuse("%s", why)
	}
	if g := one.Transforms[ike.KeyExchange]; len(g) == 1 && g[0].ID == 0 { // none
		one.Transforms[ike.KeyExchange] = nil
	}
	words := make([]string, 0, p.i-start)
	for _, t := range p.t[start:min(p.i, len(p.t))] {
		words = append(words, t.Text)
	}
	one.Text = strings.Join(words, " ")
	if p.i > start {
		one.Range = syntax.Over(p.t[start].Place, p.t[min(p.i, len(p.t))-1].Place).Range
	}
	if to.IsDefault() {
		*to = model.Say([]ike.Proposal(nil), p.said())
	}
	to.Value = append(to.Value, openiked.Complete(one)...)
	if protocol != ike.IKE {
		p.written = append(p.written, one)
	}
}

// finish turns the flows into children: one where one side is the same in all of them, else one for each.
func (p *policy) finish() {
	defer func() {
		p.conns = append(p.conns, p.conn)
		p.conn.Turn = p.count
		if p.quick {
			p.conn.Turn = 1<<20 - p.count
		}
		p.in.Later(p.onLinux)
	}()
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
	own := p.conn.LocalAddrs
	if p.child.Start.Value == model.StartBoot && (!single(p.conn.RemoteAddrs) || !own.IsDefault() && !single(own)) {
		p.reader.refuse(p.in, p.conn.At, "an active policy names one address for each end")
	}
	at := p.conn.At
	if p.flowed.End > 0 {
		at = p.in.Pos(p.flowed)
	}
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

// single reports whether addresses are one, or a name.
func single(as model.Setting[model.Addresses]) bool {
	if len(as.Value) != 1 {
		return false
	}
	_, one := as.Value[0].Single()
	return one || as.Value[0].Name != ""
}

// onLinux notes what the daemon cannot install on Linux, where other files of the gateway are of that, and has the children be as they are
// there, where it is told that the daemon runs there.
func (p *policy) onLinux() {
	told := p.in.Gateway.SystemOf(software) == "Linux"
	if !told && !p.in.OnLinux() {
		return
	}
	for _, k := range p.conn.Children {
		k.Lacks, k.OnLinux = openiked.Lacking(), told
		if !told {
			continue
		}
		if k.Proposals.IsDefault() {
			k.Proposals = unsaid(openiked.Linux(k.Protocol.Value, nil), "childsa on Linux")
		} else {
			k.Proposals.Value = openiked.Linux(k.Protocol.Value, p.written)
		}
	}
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

// identity reads the identity of an end.
func (p *policy) identity(of *model.Party) {
	text := p.take().Text
	of.Written = source.Clean(text)
	of.ID = model.Say(identity(text), p.said())
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
