package strongswan

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"toril/daemon"
	"toril/daemon/strongswan"
	"toril/ike"
	"toril/internal/lazy"
	"toril/model"
	"toril/model/settings"
	"toril/read"
	"toril/read/literal"
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
		switch string(line[:end]) {
		case "local_ts", "remote_ts", "esp_proposals", "local_addrs", "remote_addrs", "start_action", "proposals", "children",
			"rekey_time", "life_time":
			if rest := bytes.TrimLeft(line[end:], " \t"); len(rest) > 0 && (rest[0] == '=' || rest[0] == '{') {
				if out = append(out, line[:end]); len(out) == n {
					return out
				}
			}
		}
	}
	return out
}

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

// The options that are read and have no bearing on what an auditor asks, each with the reason.
var irrelevantConnection = map[string]string{
	"pull": "direction of the mode config exchange", "dscp": "marking of IKE packets",
	"vips":      "virtual addresses of roadwarriors",
	"pools":     "virtual addresses of roadwarriors",
	"mediation": "mediation between peers behind NAT", "mediated_by": "mediation between peers behind NAT",
	"mediation_peer": "mediation between peers behind NAT",
	"unique":         "what happens to an older SA of the same peer",
}

var irrelevantChild = map[string]string{
	"reqid":     "number of the SA in the kernel",
	"interface": "outbound interface for hardware", "priority": "order of policies, set by hand", "mark_in_sa": "form of the mark",
	"set_mark_in":  "mark of packets after decryption",
	"set_mark_out": "mark of packets after encryption", "label": "security label", "label_mode": "security label",
	"tfc_padding": "padding against traffic analysis",
	"hw_offload":  "who computes", "copy_df": "fragmentation of the outer packet", "copy_ecn": "congestion marks",
	"copy_dscp": "marking of the outer packet",
}

var irrelevantParty = map[string]string{
	"round": "order of authentication rounds", "eap_id": "EAP identity", "aaa_id": "EAP server identity", "xauth_id": "XAuth identity",
	"groups":      "group membership of certificates",
	"cert_policy": "policy OIDs of certificates", "ca_id": "identity in the CA certificate",
}

type swanctl struct {
	in      *read.Input
	root    *section
	res     *resolver
	version string // of the daemon; "" where it is not known
	pools   map[string]ike.Selectors
	given   map[*model.Connection][]string // the pools of whose addresses a connection gives its peers some
}

func (r *swanctl) defaults(path string) *table.Defaults {
	return table.By(strongswan.Known, r.version, "swanctl.conf", path)
}

// since reports whether the daemon has what a version brought; where its version is not known, it is the newest.
func (r *swanctl) since(version string) bool {
	return r.version == "" || daemon.Compare(r.version, version) >= 0
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
					if addrs, err := parseSelectors(v.Text); err == nil {
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
	}
}

// connection: it is long as a table is: a line a setting.
func (r *swanctl) connection(s *section) {
	c := &model.Connection{Name: source.Clean(s.name), At: s.at, Daemon: strongswan.Daemon}
	f := r.of(s, "connections.<conn>", read.Owner{Name: c.Name, To: &c.Doubts}, &c.Unusable)
	if v := s.value("pools"); v != nil {
		r.given[c] = splitList(v.Text)
	}
	c.Version = table.Take(f, func(t string) (ike.Version, error) {
		switch t {
		case "0", "1", "2":
			return ike.Version(t[0] - '0'), nil
		}
		return 0, fmt.Errorf("%q is none of 0, 1 and 2", t)
	}, "version")
	addresses := func(t string) (model.Addresses, error) {
		if strings.Contains(t, "\n") {
			return nil, strongswan.ErrLines
		}
		return parseAddresses(t), nil
	}
	c.LocalAddrs = table.Take(f, addresses, "local_addrs")
	c.RemoteAddrs = table.Take(f, addresses, "remote_addrs")
	c.LocalPort = table.Take(f, number, "local_port")
	c.RemotePort = table.Take(f, number, "remote_port")
	c.Proposals = table.TakeOr(
		f,
		strongswan.Unset(ike.IKE),
		func(t string) ([]ike.Proposal, error) { return strongswan.Proposals(t, ike.IKE) },
		"proposals",
	)
	c.Aggressive = table.Take(f, literal.Bool, "aggressive")
	c.Encap = table.Take(f, literal.Bool, "encap")
	c.MOBIKE = table.Take(f, literal.Bool, "mobike")
	c.DPD = table.Take(f, literal.Time, "dpd_delay")
	c.DPDTimeout = table.Take(f, literal.Time, "dpd_timeout")
	c.Childless = table.Take(f, func(t string) (string, error) {
		switch t = strings.ToLower(t); t {
		case "allow", "force", "never":
			return t, nil
		case "prefer":
			if r.version == "" || daemon.Compare(r.version, "5.9.8") > 0 { // 5.9.8 refuses it, 6.0.1 has it
				return t, nil
			}
		}
		return "", fmt.Errorf("%q is none of allow, force and never", t)
	}, "childless")
	c.PPK = table.Take(f, func(string) (bool, error) { return true, nil }, "ppk_id")
	c.PPKRequired = table.Take(f, literal.Bool, "ppk_required")
	c.SendCert = table.Take(f, sends, "send_cert")
	c.AskCert = table.Take(f, literal.Bool, "send_certreq")
	c.Tries = table.Take(f, number, "keyingtries")
	c.Reauth = table.Take(f, literal.Time, "reauth_time")
	c.Rekey = table.Take(f, literal.Time, "rekey_time")
	if c.Reauth.Value > 0 && c.Rekey.IsDefault() { // setting reauth_time turns rekeying off unless it is set too
		c.Rekey.Value = 0
	}
	c.Spans = []model.Span{{Setting: c.Rekey, Name: "rekey_time"}, {Setting: c.Reauth, Name: "reauth_time"}}
	over := max(c.Rekey.Value, c.Reauth.Value) / 10
	c.Over = table.TakeOr(f, over, literal.Time, "over_time")
	c.Random = table.TakeOr(f, c.Over.Value, literal.Time, "rand_time")
	c.IfIDIn = table.Take(f, ifID, "if_id_in")
	c.IfIDOut = table.Take(f, ifID, "if_id_out")
	table.More(f, &c.More, settings.Fragmentation, "fragmentation")
	f.Rest(irrelevantConnection)
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

// ifID reads an interface identifier. One that is only chosen when the tunnel comes up counts as set.
func ifID(t string) (uint32, error) {
	if strings.HasPrefix(strings.ToLower(t), "%unique") {
		return ^uint32(0), nil
	}
	return literal.Number(t)
}

// number reads a number as strtoul(3) does: with a sign, and one below zero from the far end of the range.
func number(t string) (int, error) {
	n, err := strconv.ParseInt(strings.TrimSpace(t), 0, 33)
	if err != nil {
		return 0, fmt.Errorf("%q is not a number", t)
	}
	return int(uint32(n)), nil
}

// parties reads the first authentication round of each side; further rounds only add to it.
func (r *swanctl) parties(c *model.Connection, s *section) {
	for _, side := range []struct {
		name string
		to   *model.Party
		id   ike.Identity
	}{{"local", &c.Local, ike.Identity{Kind: ike.NoID}}, {"remote", &c.Remote, ike.Identity{Kind: ike.AnyID}}} {
		found := false
		for _, sub := range s.subs {
			if !strings.HasPrefix(strings.ToLower(sub.name), side.name) {
				continue
			}
			f := r.of(sub, "connections.<conn>."+side.name, read.Owner{Name: c.Name, To: &c.Doubts}, &c.Unusable)
			p := r.party(f, sub.subs, side.id, side.name)
			if !found {
				*side.to = p
			}
			found = true
		}
		if !found {
			empty := &section{name: side.name, at: s.at}
			*side.to = r.party(
				r.of(empty, "connections.<conn>."+side.name, read.Owner{Name: c.Name, To: &c.Doubts}, &c.Unusable),
				nil,
				side.id,
				side.name,
			)
			if side.name == "remote" { // without a remote section any authentication of the peer is accepted
				side.to.Method.Value = ike.AnyMethod
			}
		}
	}
}

func (r *swanctl) party(f *table.Section, subs []*section, noID ike.Identity, side string) model.Party {
	byDefault := ike.Certificate
	if side == "remote" {
		byDefault = ike.AnyMethod
	}
	auth, written := "", ""
	p := model.Party{
		Method: table.TakeOr(f, byDefault, func(t string) (ike.Method, error) {
			if strings.EqualFold(t, "psk") {
				return ike.PSK, nil
			}
			if auth = t; strongswan.BySignature(t) {
				return ike.Certificate, nil
			}
			switch first, _, _ := strings.Cut(t, "-"); first {
			case "any":
				return ike.Certificate, nil
			case "eap":
				return ike.EAP, nil
			case "xauth":
				return ike.XAuth, nil
			}
			return 0, fmt.Errorf("%q is not a known method of authentication", t)
		}, "auth"),
		ID: table.TakeOr(f, noID, func(t string) (ike.Identity, error) { written = t; return ParseIdentity(t), nil }, "id"),
	}
	p.Written = source.Clean(written)
	files := func(t string) ([]string, error) { return splitList(t), nil }
	p.Certificates = table.Take(f, files, "certs")
	p.CAs = table.Take(f, files, "cacerts")
	p.Strict = table.Take(f, func(t string) (bool, error) { return t == "strict", nil }, "revocation").Value
	p.KeyFiles = table.Take(f, files, "pubkeys").Value
	p.Keyed = len(p.KeyFiles) > 0
	signatures(&p, auth, side == "local")
	for _, sub := range subs {
		if name := strings.ToLower(sub.name); strings.HasPrefix(name, "cert") || strings.HasPrefix(name, "cacert") {
			table.TakeOr(r.of(sub, f.Path+".cert", f.Owner, nil), "", table.Word, "file")
			continue
		}
		f.Refuse(&table.Value{Key: sub.name, At: sub.at}, fmt.Errorf("it is not a section of %s", f.Path))
	}
	f.Rest(irrelevantParty)
	return p
}

// signatures notes how a party signs, or may, by its "auth".
func signatures(p *model.Party, auth string, own bool) {
	if own {
		p.Signatures, p.Otherwise = strongswan.Signs(auth), strongswan.Classic
	} else {
		p.Signatures, p.Chain = strongswan.Takes(auth)
	}
}

// sends reads when an end sends its certificate.
func sends(t string) (string, error) {
	switch strings.ToLower(t) {
	case "always", "yes":
		return model.SentAlways, nil
	case "ifasked":
		return model.SentWhenAsked, nil
	case "never", "no":
		return model.SentNever, nil
	}
	return "", fmt.Errorf("%q is none of always, ifasked and never", t)
}

func splitList(t string) []string {
	var out []string
	for part := range strings.SplitSeq(t, ",") {
		if part = strings.TrimSpace(part); part != "" {
			out = append(out, part)
		}
	}
	return out
}

// child: it is long as a table is: a line a setting.
func (r *swanctl) child(c *model.Connection, s *section) *model.Child {
	k := &model.Child{Name: source.Clean(s.name), At: s.at}
	f := r.of(s, "connections.<conn>.children.<child>", read.Owner{Name: c.Name + "/" + k.Name, To: &k.Doubts}, &c.Unusable)
	esp := table.TakeOr(
		f,
		strongswan.Unset(ike.ESP),
		func(t string) ([]ike.Proposal, error) { return strongswan.Proposals(t, ike.ESP) },
		"esp_proposals",
	)
	ah := table.Take(f, func(t string) ([]ike.Proposal, error) { return strongswan.Proposals(t, ike.AH) }, "ah_proposals")
	k.Protocol, k.Proposals = model.Unsaid(ike.ESP, "ESP unless only ah_proposals is said"), esp
	if len(ah.Value) > 0 && esp.IsDefault() { // both said: ESP
		k.Protocol, k.Proposals = model.Say(ike.AH, ah.At), ah
	}
	k.Local = table.Take(f, parseSelectors, "local_ts")
	k.Remote = table.Take(f, parseSelectors, "remote_ts")
	k.HostToHost = k.Local.Value.Dynamic() && k.Remote.Value.Dynamic()
	k.Mode = table.Take(f, func(t string) (ike.Mode, error) {
		switch strings.ToLower(t) {
		case "tunnel":
			return ike.Tunnel, nil
		case "transport", "transport_proxy":
			return ike.Transport, nil
		case "beet":
			return ike.BEET, nil
		case "pass":
			return ike.Pass, nil
		case "drop":
			return ike.Drop, nil
		}
		return 0, fmt.Errorf("%q is not a mode", t)
	}, "mode")
	k.Start = table.Take(f, parseStart, "start_action")
	k.CloseAction = table.Take(f, parseStart, "close_action")
	k.DPDAction = table.Take(f, table.Word, "dpd_action")
	k.Rekey = table.Take(f, literal.Time, "rekey_time")
	k.Life = table.TakeOr(f, k.Rekey.Value+k.Rekey.Value/10, literal.Time, "life_time")
	less(r, &k.Rekey, k.Life)
	k.Spans = []model.Span{{Setting: k.Rekey, Name: "rekey_time"}, {Setting: k.Life, Name: "life_time"}}
	k.Random = table.TakeOr(f, max(0, k.Life.Value-k.Rekey.Value), literal.Time, "rand_time")
	k.RekeyBytes = table.Take(f, literal.Size, "rekey_bytes")
	k.LifeBytes = table.TakeOr(f, k.RekeyBytes.Value+k.RekeyBytes.Value/10, literal.Size, "life_bytes")
	less(r, &k.RekeyBytes, k.LifeBytes)
	k.RekeyPackets = table.Take(f, literal.Size, "rekey_packets")
	k.LifePackets = table.TakeOr(f, k.RekeyPackets.Value+k.RekeyPackets.Value/10, literal.Size, "life_packets")
	less(r, &k.RekeyPackets, k.LifePackets)
	table.Take(f, literal.Size, "rand_bytes")
	table.Take(f, literal.Size, "rand_packets")
	k.ReplayWindow = table.TakeOr(f, 0, number, "replay_window")
	if k.ReplayWindow.IsDefault() { // strongswan.conf may say it
		r.in.Later(func() { k.ReplayWindow.Value = replayWindow(r.in.Gateway) })
	}
	k.IPComp = table.Take(f, literal.Bool, "ipcomp")
	k.Cut96 = table.Take(f, literal.Bool, "sha256_96")
	k.Policies = table.Take(f, literal.Bool, "policies")
	k.ForwardOut = table.Take(f, literal.Bool, "policies_fwd_out")
	k.Inactivity = table.Take(f, literal.Time, "inactivity")
	k.IfIDIn = table.TakeOr(f, c.IfIDIn.Value, ifID, "if_id_in")
	k.IfIDOut = table.TakeOr(f, c.IfIDOut.Value, ifID, "if_id_out")
	k.OpensHost = table.Take(f, literal.Bool, "hostaccess")
	if updown(r.in, k, table.Take(f, table.Word, "updown")); k.Script.Value != "" {
		f.Leave(k.Script.At, "a script that runs as the child comes up; what it does is not known")
	}
	k.MarkIn = table.Take(f, table.Word, "mark_in")
	k.MarkOut = table.Take(f, table.Word, "mark_out")
	f.Rest(irrelevantChild)
	return k
}

// less makes a renewal that is not configured come a tenth before a hard limit that is: since 6.0 (swanctl.conf(5)).
func less[T time.Duration | uint64](r *swanctl, rekey *model.Setting[T], hard model.Setting[T]) {
	if r.since("6.0.1") && rekey.IsDefault() && !hard.IsDefault() && hard.Value > 0 {
		rekey.Value = hard.Value - hard.Value/10
		if r.version == "" {
			rekey.Why += " (since 6.0.1; earlier versions pass over the hard limit)"
		}
	}
}

func parseStart(t string) (model.Start, error) {
	switch strings.ToLower(strings.ReplaceAll(t, " ", "")) {
	case "none", "clear":
		return model.StartNever, nil
	case "trap", "route", "hold":
		return model.StartTraffic, nil
	case "start", "restart":
		return model.StartBoot, nil
	case "trap|start", "start|trap":
		return model.StartBoth, nil
	}
	return 0, fmt.Errorf("%q is none of none, trap, start and trap|start", t)
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
			k.Owners = append(k.Owners, ParseIdentity(v.Text))
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
