package strongswan

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"toril/daemon/form"
	"toril/daemon/strongswan"
	"toril/ike"
	"toril/internal/lazy"
	"toril/model"
	"toril/model/settings"
	"toril/read"
	"toril/read/table"
	"toril/source"
)

// software is the name of the daemon.
var software = strongswan.Daemon.Name

// Swanctl is the format of swanctl.conf, the configuration of the daemon's vici interface.
var Swanctl = &read.Format{
	Name:     "swanctl.conf",
	Comments: []string{"#"},
	Words:    strongswan.Words,
	Title:    "IKE daemon strongSwan: connections, secrets and authorities",
	Software: software,
	About:    model.AboutIKE | model.AboutKeys,
	Hints:    []string{"swanctl.conf", "*.swanctl"},
	Order:    20,
	Looks:    looksLikeSwanctl,
	Read:     readSwanctl,
	Covers:   swanctlCoverage,
}

var includeOnly = lazy.NewSearch(`(?m)^[ \t]*include[ \t]+\S+`)

// tellingKeys returns up to n keys and names of sections that lines begin with and that other files hardly have.
func tellingKeys(data []byte, n int) (out [][]byte) {
	for line := range bytes.Lines(data) {
		line = bytes.TrimLeft(line, " \t")
		end := 0
		for end < len(line) && (line[end] >= 'a' && line[end] <= 'z' || line[end] == '_') {
			end++
		}
		if telling()[string(line[:end])] {
			if rest := bytes.TrimLeft(line[end:], " \t"); len(rest) > 0 && (rest[0] == '=' || rest[0] == '{') {
				if out = append(out, line[:end]); len(out) == n {
					return out
				}
			}
		}
	}
	return out
}

// telling are the names of keywords and sections that other files hardly have.
var telling = sync.OnceValue(func() map[string]bool {
	out := map[string]bool{"children": true}
	for _, section := range strongswan.Known.Sections() {
		for _, k := range section.Keywords {
			if k.Telling {
				out[k.Name()] = true
			}
		}
	}
	return out
})

// sectionsOpened returns the beginnings of lines that open a section of the first level, up to the brace.
func sectionsOpened(data []byte) (out [][]byte) {
	for line := range bytes.Lines(data) {
		text := bytes.TrimLeft(line, " \t")
		for _, name := range []string{"connections", "secrets", "pools", "authorities"} {
			rest, ok := bytes.CutPrefix(text, []byte(name))
			if !ok {
				continue
			}
			brace := bytes.IndexByte(rest, '{')
			if brace < 0 {
				continue
			}
			between := bytes.TrimLeft(rest[:brace], " \t")
			if len(between) == 0 || between[0] == ':' && bytes.IndexByte(between, '}') < 0 {
				out = append(out, line[:len(line)-len(rest)+brace+1])
			}
		}
	}
	return out
}

func looksLikeSwanctl(f *source.File) (int, string) {
	data := f.Head()
	opens := sectionsOpened(data)
	keys := tellingKeys(data, 3)
	switch {
	case len(opens) > 0 && len(keys) > 0:
		return 95, fmt.Sprintf(
			"it opens %d of the sections connections, secrets, pools and authorities and has keys such as %s",
			len(opens),
			keys[0],
		)
	case len(opens) > 0:
		return 60, fmt.Sprintf("it opens the section %s", bytes.Fields(opens[0])[0])
	case len(keys) > 2:
		return 50, fmt.Sprintf("it has keys such as %s", keys[0])
	case includeOnly.Match(data) && !bytes.ContainsAny(data, ";"):
		return 25, "it includes other files"
	}
	return 0, ""
}

type swanctl struct {
	in      *read.Input
	root    *section
	res     *resolver
	version string // of the daemon; "" where it is not known
	pools   map[string]ike.Selectors
	round   model.Connection               // what one round of authentication says, while it is read
	given   map[*model.Connection][]string // the pools of whose addresses a connection gives its peers some
}

func (r *swanctl) defaults(path string) *table.Defaults {
	return table.By(strongswan.Known, r.version, "swanctl.conf", path)
}

func readSwanctl(in *read.Input) {
	r := &swanctl{in: in, root: parse(in), version: in.Gateway.VersionOf(software), pools: map[string]ike.Selectors{},
		given: map[*model.Connection][]string{}}
	r.res = newResolver(in, r.root)
	for _, v := range r.root.values {
		in.Unread(v.At, read.Owner{Harmless: true}, "%q stands outside every section", source.Clean(v.Key))
	}
	templates := map[string]*section{}
	for _, s := range r.root.subs {
		switch s.name {
		case "connections":
			in.Gateway.Told.IKE = true
			for _, conn := range r.res.resolve(s, []*section{s}).subs {
				r.connection(conn)
			}
		case "secrets":
			for _, secret := range r.res.resolve(s, []*section{s}).subs {
				r.secret(secret)
			}
		case "pools":
			for _, pool := range r.res.resolve(s, []*section{s}).subs {
				if v := pool.value("addrs"); v != nil {
					if addrs, err := strongswan.Selectors(v.Text); err == nil {
						r.pools[pool.name] = addrs
					}
				}
			}
		case "authorities":
			for _, one := range r.res.resolve(s, []*section{s}).subs {
				for _, v := range one.values {
					switch v.Key {
					case "cacert", "file", "handle":
						r.in.Gateway.Authorized = append(r.in.Gateway.Authorized, v.Text)
					case "crl_uris", "ocsp_uris":
						r.in.Gateway.Fetches = true
					}
				}
			}
		default:
			templates[s.name] = s
		}
	}
	for c, names := range r.given {
		for _, k := range c.Children {
			for _, name := range names {
				k.Pool = append(k.Pool, r.pools[name]...)
			}
		}
	}
	r.templates(templates)
}

// templates declares the sections that only serve to be referred to.
func (r *swanctl) templates(templates map[string]*section) {
	defs := &r.in.Gateway.Definitions
	for name, s := range templates {
		d := &model.Definition{Kind: "section", Name: name, At: s.at}
		for ref, use := range r.res.refs {
			if first, _, _ := strings.Cut(ref, "."); first == name {
				d.Used = append(d.Used, use.used...)
			}
		}
		slices.SortFunc(d.Used, source.Pos.Compare)
		*defs = append(*defs, d)
		if topic := s.about(); len(d.Used) == 0 && topic != 0 {
			r.in.Unread(
				s.at,
				read.Owner{Topic: topic},
				"%q is not a section that is known, and nothing refers to it",
				source.Clean(name),
			)
		}
	}
	for ref, use := range r.res.refs {
		if use.missing {
			*defs = append(*defs, &model.Definition{Kind: "section", Name: ref, Used: use.used, Missing: true})
		}
	}
	slices.SortFunc(*defs, func(a, b *model.Definition) int {
		return cmp.Or(strings.Compare(a.Kind, b.Kind), strings.Compare(a.Name, b.Name), a.At.Compare(b.At))
	})
}

// about is what a section that nothing refers to would tell of, by what stands in the sections within it, if its name were known; 0 where
// it looks like nothing that is known.
func (s *section) about() (out model.Topic) {
	for _, sub := range s.subs {
		for _, v := range sub.values {
			switch v.Key {
			case "secret", "pin":
				out |= model.AboutKeys
			case "remote_addrs", "local_addrs", "proposals", "version":
				out |= model.AboutIKE
			case "cacert", "crl_uris", "ocsp_uris":
				out |= model.AboutCertificates
			}
		}
		for _, part := range sub.subs {
			switch part.name {
			case "children", "local", "remote":
				out |= model.AboutIKE
			}
		}
	}
	return out
}

// of prepares a section for its settings to be taken.
func (r *swanctl) of(s *section, path string, owner read.Owner, refused **source.Error) *table.Section {
	return &table.Section{
		In:       r.in,
		Values:   s.values,
		Software: software,
		Path:     path,
		Defaults: r.defaults(path),
		Owner:    owner,
		Refused:  refused,
		Strict:   true,
		Version:  r.version,
	}
}

func (r *swanctl) connection(s *section) {
	c := &model.Connection{Name: source.Clean(s.name), At: s.at, Daemon: strongswan.Daemon}
	f := r.of(s, strongswan.PathConn, read.Owner{Name: c.Name, To: &c.Doubts}, &c.Unusable)
	if v := s.value("pools"); v != nil {
		r.given[c] = form.Split(v.Text)
	}
	table.Fill(f, settings.Subject{Connection: c})
	c.Spans = []model.Span{{Setting: c.Rekey, Name: "rekey_time"}, {Setting: c.Reauth, Name: "reauth_time"}}
	c.Random = table.ReadOr(f, c.Over.Value, "rand_time")
	c.IfIDIn = table.Read[uint32](f, "if_id_in")
	c.IfIDOut = table.Read[uint32](f, "if_id_out")
	f.Unknown()
	r.parties(c, s)
	for _, sub := range s.subs {
		switch name := strings.ToLower(sub.name); {
		case name == "children":
			for _, child := range sub.subs {
				c.Children = append(c.Children, r.child(c, child))
			}
			for _, v := range sub.values {
				f.Note(v, "a value where the sections of children stand")
			}
		case strings.HasPrefix(name, "local") || strings.HasPrefix(name, "remote"):
		default:
			f.Refuse(&table.Value{Key: sub.name, At: sub.at}, errors.New("it is not a section of a connection"))
		}
	}
	r.in.Gateway.Connections = append(r.in.Gateway.Connections, c)
}

// parties reads the first authentication round of each side; further rounds only add to it.
func (r *swanctl) parties(c *model.Connection, s *section) {
	for _, side := range []struct {
		name string
		to   *model.Party
	}{{"local", &c.Local}, {"remote", &c.Remote}} {
		found := false
		for _, sub := range s.subs {
			if !strings.HasPrefix(strings.ToLower(sub.name), side.name) {
				continue
			}
			f := r.of(sub, strongswan.PathConn+"."+side.name, read.Owner{Name: c.Name, To: &c.Doubts}, &c.Unusable)
			p := r.party(f, sub.subs, side.name)
			if !found {
				*side.to = p
			}
			found = true
		}
		if !found {
			empty := &section{name: side.name, at: s.at}
			*side.to = r.party(
				r.of(empty, strongswan.PathConn+"."+side.name, read.Owner{Name: c.Name, To: &c.Doubts}, &c.Unusable),
				nil,
				side.name,
			)
		}
	}
}

// party reads one round of authentication. Without a section any authentication of the peer is accepted.
func (r *swanctl) party(f *table.Section, subs []*section, side string) model.Party {
	c := &r.round
	*c = model.Connection{}
	table.Fill(f, settings.Subject{Connection: c})
	p := &c.Remote
	if side == "local" {
		p = &c.Local
		p.CAs = table.Read[[]string](f, "cacerts")
	}
	auth := ""
	if v := f.Lookup("auth"); v != nil && !strings.EqualFold(v.Text, "psk") {
		auth = v.Text
	}
	if v := f.Lookup("id"); v != nil {
		p.Written = source.Clean(v.Text)
	}
	p.Strict = table.Read[string](f, "revocation").Value == "strict"
	p.KeyFiles = table.Read[[]string](f, "pubkeys").Value
	p.Keyed = len(p.KeyFiles) > 0
	signatures(p, auth, side == "local")
	for _, sub := range subs {
		if name := strings.ToLower(sub.name); strings.HasPrefix(name, "cert") || strings.HasPrefix(name, "cacert") {
			table.Fill(r.of(sub, f.Path+".cert", f.Owner, nil), settings.Subject{})
			continue
		}
		f.Refuse(&table.Value{Key: sub.name, At: sub.at}, fmt.Errorf("it is not a section of %s", f.Path))
	}
	f.Unknown()
	return *p
}

// signatures notes how a party signs, or may, by its "auth".
func signatures(p *model.Party, auth string, own bool) {
	if own {
		p.Signatures, p.Otherwise = strongswan.Signs(auth), strongswan.Classic
	} else {
		p.Signatures, p.Chain = strongswan.Takes(auth)
	}
}

func (r *swanctl) child(c *model.Connection, s *section) *model.Child {
	k := &model.Child{Name: source.Clean(s.name), At: s.at}
	f := r.of(s, strongswan.PathChild, read.Owner{Name: c.Name + "/" + k.Name, To: &k.Doubts}, &c.Unusable)
	table.Fill(f, settings.Subject{Connection: c, Child: k})
	ah := table.Read[[]ike.Proposal](f, "ah_proposals")
	k.Protocol = model.Unsaid(ike.ESP, "ESP unless only ah_proposals is said")
	if len(ah.Value) > 0 && k.Proposals.IsDefault() { // both said: ESP
		k.Protocol, k.Proposals = model.Say(ike.AH, ah.At), ah
	}
	k.HostToHost = k.Local.Value.Dynamic() && k.Remote.Value.Dynamic()
	k.Spans = []model.Span{{Setting: k.Rekey, Name: "rekey_time"}, {Setting: k.Life, Name: "life_time"}}
	k.Random = table.ReadOr(f, max(0, k.Life.Value-k.Rekey.Value), "rand_time")
	if k.ReplayWindow.IsDefault() { // strongswan.conf may say it
		r.in.Later(func() { k.ReplayWindow.Value = replayWindow(r.in.Gateway) })
	}
	k.ForwardOut = table.Read[bool](f, "policies_fwd_out")
	k.OpensHost = table.Read[bool](f, "hostaccess")
	if updown(r.in, k, table.Read[string](f, "updown")); k.Script.Value != "" {
		f.Leave(k.Script.At, "a script that runs as the child comes up; what it does is not known")
	}
	f.Unknown()
	return k
}

// secret reads a key. The value is hidden at once: no quote of the file shows it.
func (r *swanctl) secret(s *section) {
	k := &model.Key{Name: source.Clean(s.name), At: s.at, PPK: strings.HasPrefix(s.name, "ppk")}
	if !strings.HasPrefix(s.name, "ike") && !k.PPK && !slices.ContainsFunc(otherSecrets, func(kind string) bool {
		return strings.HasPrefix(s.name, kind)
	}) {
		r.in.Unread(s.at, read.Owner{Name: k.Name, Topic: model.AboutKeys}, "it is not a kind of secret that is known")
	}
	f := r.of(s, "secrets.<secret>", read.Owner{Name: k.Name, Topic: model.AboutKeys}, nil)
	for _, v := range s.values {
		switch {
		case v.Key == "secret" || v.Key == "pin":
			v.Used = true
			r.hide(v)
			if v.Key == "secret" {
				k.Secret, k.Coded = decodeSecret(v.Text)
				k.At = v.At
			}
		case strings.HasPrefix(v.Key, "id"):
			v.Used = true
			k.Owners = append(k.Owners, strongswan.ParseIdentity(v.Text))
		}
	}
	f.Rest(nil, "file", "handle", "slot", "module")
	if strings.HasPrefix(s.name, "ike") || k.PPK {
		r.in.Gateway.Keys = append(r.in.Gateway.Keys, k)
	}
}

// otherSecrets are the kinds of secrets that are no pre-shared keys (swanctl.conf(5)).
var otherSecrets = []string{"eap", "xauth", "ntlm", "private", "rsa", "ecdsa", "pkcs8", "pkcs12", "token"}

func (r *swanctl) hide(v *table.Value) {
	for _, file := range r.in.Gateway.Files {
		if file.Path == v.At.File {
			file.Hide(v.At.Line, v.Text)
		}
	}
}

// decodeSecret reads a secret, which 0x or 0s may make bits; coded reports that it did.
func decodeSecret(text string) (key source.Secret, coded bool) {
	if digits, ok := strings.CutPrefix(text, "0x"); ok {
		if b, err := hex.DecodeString(strings.ReplaceAll(digits, ":", "")); err == nil {
			return source.NewSecret(string(b)), true
		}
	}
	if digits, ok := strings.CutPrefix(text, "0s"); ok {
		if b, err := base64.StdEncoding.DecodeString(digits); err == nil {
			return source.NewSecret(string(b)), true
		}
		if b, err := base64.RawStdEncoding.DecodeString(strings.TrimRight(digits, "=")); err == nil {
			return source.NewSecret(string(b)), true
		}
	}
	return source.NewSecret(text), false
}
