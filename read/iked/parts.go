package iked

import (
	"strings"
	"sync"
	"time"

	"toril/daemon/form"
	"toril/daemon/openiked"
	"toril/ike"
	"toril/model"
	"toril/model/literal"
	"toril/read"
	"toril/source"
	"toril/syntax"
	"toril/syntax/words"
)

// part is a kind of part of a policy: the words that begin it, and what is read of it.
type part struct {
	words string
	read  func(p *policy, word string) // nil where no answer depends on the keyword
	skip  int                          // words behind one of no consequence
	again bool                         // it may stand again
	both  bool                         // each of its words may stand once
	inner string                       // words within it
	note  string
}

// parts are those of a policy, in the order in which the daemon takes them (OpenIKED 7.2, asked in lab/formats).
var parts = []part{
	{words: "quick skip default", read: func(p *policy, word string) {
		p.quick, p.conn.NeverAsked = word == "quick", word == "skip"
	}, note: "which policy answers a peer that several match: the last one, or the first one that is quick"},
	{words: "active passive", read: func(p *policy, word string) {
		start := map[string]model.Start{"active": model.StartBoot, "passive": model.StartNever}[word]
		p.child.Start = model.Say(start, p.said())
	}},
	{words: "ipcomp", read: func(p *policy, _ string) { p.child.IPComp = model.Say(true, p.said()) }},
	{words: "tunnel transport", read: func(p *policy, word string) {
		p.child.Mode = model.Say(map[string]ike.Mode{"tunnel": ike.Tunnel, "transport": ike.Transport}[word], p.said())
	}},
	{words: "esp ah", read: (*policy).encap},
	{words: "inet inet6", note: "a family that the networks have anyway"},
	{words: "proto", read: (*policy).protocols, note: "one, or several in braces"},
	{words: "rdomain", skip: 1, note: "routing domains"},
	{words: "from", read: func(p *policy, _ string) {
		p.flow()
		if p.flowed.End == 0 {
			p.flowed = p.t[p.begun].Place
		}
		p.flowed = syntax.Over(p.flowed, p.t[min(p.i, len(p.t))-1].Place)
	}, again: true, inner: "to port"},
	{words: "local peer", both: true, read: func(p *policy, word string) {
		to := map[string]*model.Setting[model.Addresses]{"local": &p.conn.LocalAddrs, "peer": &p.conn.RemoteAddrs}[word]
		*to = model.Say(host(p.take().Text), p.said())
	}},
	{words: "ikesa", again: true, read: func(p *policy, _ string) { p.proposals(&p.conn.Proposals, ike.IKE) },
		inner: "enc auth prf group esn noesn"},
	{words: "childsa", again: true, read: func(p *policy, _ string) {
		protocol := ike.ESP
		if p.ah {
			protocol = ike.AH
		}
		p.proposals(&p.child.Proposals, protocol)
	}, inner: "enc auth prf group esn noesn"},
	{words: "srcid", read: func(p *policy, _ string) { p.identity(&p.conn.Local) }},
	{words: "dstid", read: func(p *policy, _ string) { p.identity(&p.conn.Remote) }},
	{words: "ikelifetime", read: func(p *policy, _ string) {
		if d, ok := taken(p, duration); ok {
			p.conn.Rekey = model.Say(d, p.said())
			p.conn.Spans = []model.Span{{Setting: p.conn.Rekey, Name: "ikelifetime"}}
		}
	}},
	{words: "lifetime", read: func(p *policy, _ string) {
		if d, ok := taken(p, duration); ok {
			p.life(model.Say(d, p.said()))
		}
	}},
	{words: "bytes", read: func(p *policy, _ string) {
		if n, ok := taken(p, form.Size.Read); ok {
			p.bytes(model.Say(n, p.said()))
		}
	}},
	{words: "psk rsa ecdsa256 ecdsa384 ecdsa521 rfc7427 eap", read: (*policy).authentication, note: "keys are hidden from every quote"},
	{words: "config request", skip: 2, again: true, note: "addresses of roadwarriors"},
	{words: "iface", skip: 1, note: "the interface of such addresses"},
	{words: "tag tap", skip: 1, both: true, note: "marks for other programs"},
}

// placeOf is the place of a word among the parts of a policy, from 1; 0 for a word that begins none.
func placeOf(word string) int { return places()[word] }

var places = sync.OnceValue(func() map[string]int {
	out := map[string]int{}
	for i, row := range parts {
		for w := range strings.FieldsSeq(row.words) {
			out[w] = i + 1
		}
	}
	return out
})

// taken reads the word that comes next; what it is not makes the daemon refuse the file.
func taken[T any](p *policy, parse func(string) (T, error)) (T, bool) {
	v, err := parse(p.take().Text)
	if err != nil {
		p.refuse("%v", err)
	}
	return v, err == nil
}

func (p *policy) encap(word string) {
	if p.ah = word == "ah"; !p.ah {
		return
	}
	p.child.Protocol = model.Say(ike.AH, p.said())
	if p.child.Proposals.IsDefault() {
		p.child.Proposals = unsaid(openiked.Default(ike.AH), "childsa")
	}
}

func (p *policy) protocols(string) {
	for _, w := range p.list() {
		n, err := literal.Proto(w)
		if err != nil {
			p.refuse("%v", err)
			continue
		}
		p.protos = append(p.protos, n)
	}
}

func (p *policy) authentication(word string) {
	switch word {
	case "psk":
		secret := p.take()
		hide(p.in, secret)
		p.key(secret)
		p.methods(ike.PSK)
	case "eap":
		p.take()
		p.conn.Remote.Method = model.Say(ike.EAP, p.said())
	default:
		p.methods(ike.Certificate)
		p.signs(word)
	}
}

// signs has the own end sign, and send its certificate, as a word of the policy says.
func (p *policy) signs(word string) {
	signs, always := openiked.Signatures(word)
	p.conn.AsksKeys = openiked.AsksKeys(word)
	sent := map[bool]string{true: model.SentAlways, false: model.SentWhenNamed}[always]
	p.conn.Local.First = openiked.First
	p.conn.Local.Signatures, p.conn.SendCert, p.conn.AskCert = signs, unsaid(sent, "ikeauth"), unsaid(true, "ikeauth")
	if word != "" {
		p.conn.SendCert = model.Say(sent, p.said())
	}
}

// property is what "set" may set. A nil set is one of no consequence.
type property struct {
	words string
	set   func(r *reader, t []words.Word, at source.Pos) (ok bool)
}

var properties = []property{
	{"active passive", func(r *reader, t []words.Word, _ source.Pos) bool {
		r.passive = t[0].Text == "passive"
		return true
	}},
	{"mobike nomobike", func(r *reader, t []words.Word, at source.Pos) bool {
		r.mobike = model.Say(t[0].Text == "mobike", at)
		return true
	}},
	{"dpd_check_interval", func(r *reader, t []words.Word, at source.Pos) bool {
		if len(t) < 2 {
			return false
		}
		d, err := duration(t[1].Text)
		if err == nil {
			r.dpd = model.Say[time.Duration](d, at)
		}
		return err == nil
	}},
	{"cert_partial_chain", func(r *reader, _ []words.Word, _ source.Pos) bool {
		r.partial = true
		return true
	}},
	{
		"couple decouple fragmentation nofragmentation vendorid novendorid enforcesingleikesa noenforcesingleikesa ocsp stickyaddress " +
			"nostickyaddress",
		nil,
	},
}

// coverage is what the tables hold.
func coverage() []read.Coverage {
	use := func(does bool) read.Use {
		if does {
			return read.Used
		}
		return read.Irrelevant
	}
	out := []read.Coverage{
		{Statement: "macros, include, lines that go on with a backslash", Use: read.Used},
		{Statement: "ikev2 [name]", Use: read.Used},
	}
	for _, row := range parts {
		text := listed(row.words)
		if row.inner != "" {
			text += ": " + listed(row.inner)
		}
		out = append(out, read.Coverage{Statement: text, Use: use(row.read != nil), Note: row.note})
	}
	for _, row := range properties {
		out = append(out, read.Coverage{Statement: "set " + listed(row.words), Use: use(row.set != nil)})
	}
	return append(
		out,
		read.Coverage{Statement: "user", Use: read.Irrelevant, Note: "its password is hidden from every quote"},
		read.Coverage{Statement: "(srcnat) behind from", Use: read.Left},
	)
}

func listed(words string) string { return strings.Join(strings.Fields(words), ", ") }
