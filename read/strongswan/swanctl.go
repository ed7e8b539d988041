package strongswan

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"toril/gateway"
	"toril/ike"
	"toril/read"
	"toril/source"
)

// Software is the name of the daemon.
const Software = "strongSwan"

// Swanctl is the format of swanctl.conf, the configuration of the daemon's vici interface.
var Swanctl = &read.Format{
	Name:     "swanctl.conf",
	Title:    "IKE daemon strongSwan: connections, secrets and authorities",
	Software: Software,
	Hints:    []string{"swanctl.conf", "*.swanctl"},
	Order:    20,
	Looks:    looksLikeSwanctl,
	Read:     readSwanctl,
	Covers:   swanctlCoverage(),
}

var (
	sectionOpens = regexp.MustCompile(`(?m)^[ \t]*(connections|secrets|pools|authorities)[ \t]*(:[^{}\n]*)?\{`)
	swanctlKey   = regexp.MustCompile(`(?m)^[ \t]*(local_ts|remote_ts|esp_proposals|local_addrs|remote_addrs|start_action|proposals|children|rekey_time|life_time)[ \t]*[={]`)
	includeOnly  = regexp.MustCompile(`(?m)^[ \t]*include[ \t]+\S+`)
)

func looksLikeSwanctl(f *source.File) (int, string) {
	data := head(f)
	opens := sectionOpens.FindAll(data, -1)
	keys := swanctlKey.FindAll(data, -1)
	switch {
	case len(opens) > 0 && len(keys) > 0:
		return 95, fmt.Sprintf("it opens %d of the sections connections, secrets, pools and authorities and has keys such as %s", len(opens), bytes.TrimSpace(bytes.TrimRight(keys[0], " \t={")))
	case len(opens) > 0:
		return 60, fmt.Sprintf("it opens the section %s", bytes.Fields(opens[0])[0])
	case len(keys) > 2:
		return 50, fmt.Sprintf("it has keys such as %s", bytes.TrimSpace(bytes.TrimRight(keys[0], " \t={")))
	case includeOnly.Match(data) && !bytes.ContainsAny(data, ";"):
		return 25, "it includes other files"
	}
	return 0, ""
}

// head is the part of a file that recognition looks at: enough, and never long.
func head(f *source.File) []byte {
	return f.Bytes()[:min(len(f.Bytes()), 64<<10)]
}

// The options that are read and have no bearing on what an auditor asks, each with the reason.
var irrelevantConnection = map[string]string{
	"pull": "direction of the mode config exchange", "dscp": "marking of IKE packets", "fragmentation": "size of IKE messages",
	"send_certreq": "form of the exchange", "send_cert": "form of the exchange", "vips": "virtual addresses of roadwarriors", "pools": "virtual addresses of roadwarriors",
	"mediation": "mediation between peers behind NAT", "mediated_by": "mediation between peers behind NAT", "mediation_peer": "mediation between peers behind NAT",
	"unique": "what happens to an older SA of the same peer",
}

var irrelevantChild = map[string]string{
	"updown": "script that runs when the child comes up", "hostaccess": "rule that the script adds", "reqid": "number of the SA in the kernel",
	"interface": "outbound interface for hardware", "priority": "order of policies, set by hand", "mark_in_sa": "form of the mark", "set_mark_in": "mark of packets after decryption",
	"set_mark_out": "mark of packets after encryption", "label": "security label", "label_mode": "security label", "tfc_padding": "padding against traffic analysis",
	"hw_offload": "who computes", "copy_df": "fragmentation of the outer packet", "copy_ecn": "congestion marks", "copy_dscp": "marking of the outer packet",
}

var irrelevantParty = map[string]string{
	"round": "order of authentication rounds", "eap_id": "EAP identity", "aaa_id": "EAP server identity", "xauth_id": "XAuth identity", "groups": "group membership of certificates",
	"cert_policy": "policy OIDs of certificates", "ca_id": "identity in the CA certificate",
}

type swanctl struct {
	in   *read.Input
	root *section
	res  *resolver
}

func readSwanctl(in *read.Input) {
	r := &swanctl{in: in, root: parse(in)}
	r.res = &resolver{in: in, root: r.root, left: maxInherited, refs: map[string]*refUse{}}
	for _, v := range r.root.values {
		in.Unread(v.at.Line, "", "%q stands outside of every section", source.Clean(v.key))
	}
	templates := map[string]*section{}
	for _, s := range r.root.subs {
		switch s.name {
		case "connections":
			for _, conn := range r.res.resolve(s, []*section{s}).subs {
				r.connection(conn)
			}
		case "secrets":
			for _, secret := range r.res.resolve(s, []*section{s}).subs {
				r.secret(secret)
			}
		case "pools", "authorities":
			r.ignore(s)
		default:
			templates[s.name] = s
		}
	}
	r.templates(templates)
}

// templates declares the sections that only serve to be referred to.
func (r *swanctl) templates(templates map[string]*section) {
	defs := &r.in.Gateway.Definitions
	for name, s := range templates {
		d := &gateway.Definition{Kind: "section", Name: name, At: s.at}
		for ref, use := range r.res.refs {
			if first, _, _ := strings.Cut(ref, "."); first == name {
				d.Used = append(d.Used, use.used...)
			}
		}
		slices.SortFunc(d.Used, source.Pos.Compare)
		*defs = append(*defs, d)
	}
	for ref, use := range r.res.refs {
		if use.missing {
			*defs = append(*defs, &gateway.Definition{Kind: "section", Name: ref, Used: use.used, Missing: true})
		}
	}
	slices.SortFunc(*defs, func(a, b *gateway.Definition) int {
		return cmp.Or(strings.Compare(a.Kind, b.Kind), strings.Compare(a.Name, b.Name), a.At.Compare(b.At))
	})
}

func (r *swanctl) ignore(s *section) {
	for _, sub := range s.subs {
		r.ignore(sub)
	}
}

// filler takes the settings of one section. What it does not take stays unread.
type filler struct {
	*swanctl
	s       *section
	path    string // for the reason of a default: "connections.<conn>"
	scope   string
	unsure  *bool
	refused **source.Error
}

// take returns a setting: as said, or the daemon's default. A value that the daemon cannot parse makes it refuse the
// whole connection.
func take[T any](f filler, key string, byDefault T, parse func(string) (T, error)) gateway.Setting[T] {
	why := fmt.Sprintf("%s default of %s.%s", Software, f.path, key)
	v := f.s.value(key)
	if v == nil {
		return gateway.Unsaid(byDefault, why)
	}
	v.used = true
	f.again(v)
	if v.text == "" {
		return gateway.Unsaid(byDefault, why)
	}
	got, err := parse(v.text)
	if err != nil {
		f.refuse(v, err)
		if _, list := any(got).([]ike.Proposal); list { // what was understood of a list is still worth judging
			return gateway.Say(got, v.at)
		}
		return gateway.Unsaid(byDefault, why)
	}
	set := gateway.Say(got, v.at)
	if v.inherited {
		set.Origin = gateway.Inherited
	}
	return set
}

func (f filler) refuse(v *value, err error) {
	e := source.Errorf(v.at, "%s: %v", source.Clean(v.key), source.Clean(err.Error()))
	if f.refused != nil && *f.refused == nil {
		*f.refused = e
	}
	f.note(v, e.Message)
}

// note keeps an unread value where it stands, which may be in an included file.
func (f filler) note(v *value, why string) {
	*f.unsure = true
	for _, file := range f.in.Gateway.Files {
		if file.Path == v.at.File {
			file.Unread = append(file.Unread, gateway.Unread{At: v.at, Scope: f.scope, Why: why})
			return
		}
	}
}

func (f filler) again(v *value) {
	if len(v.was) > 0 && !v.inherited {
		f.in.Gateway.Definitions = append(f.in.Gateway.Definitions, &gateway.Definition{Kind: "value", Name: f.scope + " " + v.key, At: v.at, Used: []source.Pos{v.at}, Again: v.was})
	}
}

func word(text string) (string, error) { return text, nil }

func (f filler) rest(irrelevant map[string]string, known ...string) {
	for _, v := range f.s.values {
		switch {
		case v.used || slices.Contains(known, v.key):
		case irrelevant[v.key] != "":
		default:
			f.note(v, fmt.Sprintf("%q is not a known option of %s", source.Clean(v.key), f.path))
		}
	}
}

func (r *swanctl) connection(s *section) {
	c := &gateway.Connection{Name: source.Clean(s.name), At: s.at, Software: Software}
	f := filler{r, s, "connections.<conn>", c.Name, &c.Unsure, &c.Unusable}
	c.Version = take(f, "version", ike.Either, func(t string) (ike.Version, error) {
		switch t {
		case "0", "1", "2":
			return ike.Version(t[0] - '0'), nil
		}
		return 0, fmt.Errorf("%q is none of 0, 1 and 2", t)
	})
	addresses := func(t string) (gateway.Addresses, error) { return parseAddresses(t), nil }
	anywhere := gateway.Addresses{{Text: "%any", Any: true}}
	c.LocalAddrs = take(f, "local_addrs", anywhere, addresses)
	c.RemoteAddrs = take(f, "remote_addrs", anywhere, addresses)
	c.LocalPort = take(f, "local_port", 500, number)
	c.RemotePort = take(f, "remote_port", 500, number)
	c.Proposals = take(f, "proposals", defaultIKE, func(t string) ([]ike.Proposal, error) { return parseProposals(t, ike.IKE) })
	c.Aggressive = take(f, "aggressive", false, parseBool)
	c.Encap = take(f, "encap", false, parseBool)
	c.MOBIKE = take(f, "mobike", true, parseBool)
	c.DPD = take(f, "dpd_delay", 0, parseTime)
	c.DPDTimeout = take(f, "dpd_timeout", 0, parseTime)
	c.Childless = take(f, "childless", "allow", word)
	c.PPK = take(f, "ppk_id", false, func(string) (bool, error) { return true, nil })
	c.PPKRequired = take(f, "ppk_required", false, parseBool)
	c.Tries = take(f, "keyingtries", 1, func(t string) (int, error) {
		if t == "%forever" {
			return 0, nil
		}
		return number(t)
	})
	c.Reauth = take(f, "reauth_time", 0, parseTime)
	rekey := 4 * time.Hour
	if c.Reauth.Value > 0 { // setting reauth_time turns rekeying off unless it is set too
		rekey = 0
	}
	c.Rekey = take(f, "rekey_time", rekey, parseTime)
	over := max(c.Rekey.Value, c.Reauth.Value) / 10
	c.Over = take(f, "over_time", over, parseTime)
	c.Random = take(f, "rand_time", c.Over.Value, parseTime)
	c.IfIDIn = take(f, "if_id_in", 0, ifID)
	c.IfIDOut = take(f, "if_id_out", 0, ifID)
	f.rest(irrelevantConnection)
	r.parties(c, s)
	for _, sub := range s.subs {
		switch {
		case sub.name == "children":
			for _, child := range sub.subs {
				c.Children = append(c.Children, r.child(c, child))
			}
			for _, v := range sub.values {
				f.note(v, "a value where the sections of children stand")
			}
		case strings.HasPrefix(sub.name, "local") || strings.HasPrefix(sub.name, "remote"):
		default:
			r.in.Unread(sub.at.Line, c.Name, "%q is not a section of a connection", source.Clean(sub.name))
			c.Unsure = true
		}
	}
	r.in.Gateway.Connections = append(r.in.Gateway.Connections, c)
}

// ifID reads an interface identifier. One that is only chosen when the tunnel comes up counts as set.
func ifID(t string) (uint32, error) {
	if strings.HasPrefix(t, "%unique") {
		return ^uint32(0), nil
	}
	return parseNumber(t)
}

func number(t string) (int, error) {
	n, err := parseNumber(t)
	return int(n), err
}

// parties reads the first authentication round of each side; further rounds only add to it.
func (r *swanctl) parties(c *gateway.Connection, s *section) {
	for _, side := range []struct {
		name string
		to   *gateway.Party
		id   ike.Identity
	}{{"local", &c.Local, ike.Identity{Kind: ike.NoID}}, {"remote", &c.Remote, ike.Identity{Kind: ike.AnyID}}} {
		found := false
		for _, sub := range s.subs {
			if !strings.HasPrefix(sub.name, side.name) {
				continue
			}
			f := filler{r, sub, "connections.<conn>." + side.name, c.Name, &c.Unsure, &c.Unusable}
			p := r.party(f, side.id, side.name)
			if !found {
				*side.to = p
			}
			found = true
		}
		if !found {
			empty := &section{name: side.name, at: s.at}
			*side.to = r.party(filler{r, empty, "connections.<conn>." + side.name, c.Name, &c.Unsure, &c.Unusable}, side.id, side.name)
			if side.name == "remote" { // without a remote section any authentication of the peer is accepted
				side.to.Method.Value = ike.AnyMethod
			}
		}
	}
}

func (r *swanctl) party(f filler, noID ike.Identity, side string) gateway.Party {
	byDefault := ike.Certificate
	if side == "remote" {
		byDefault = ike.AnyMethod
	}
	p := gateway.Party{
		Method: take(f, "auth", byDefault, func(t string) (ike.Method, error) {
			switch first, _, _ := strings.Cut(t, "-"); first {
			case "psk":
				return ike.PSK, nil
			case "pubkey", "rsa", "ecdsa", "bliss", "ed25519", "ed448", "ike:pubkey", "ike:rsa", "ike:ecdsa", "any":
				return ike.Certificate, nil
			case "eap":
				return ike.EAP, nil
			case "xauth":
				return ike.XAuth, nil
			}
			return 0, fmt.Errorf("%q is not a known method of authentication", t)
		}),
		ID: take(f, "id", noID, func(t string) (ike.Identity, error) { return ParseIdentity(t), nil }),
	}
	files := func(t string) ([]string, error) { return splitList(t), nil }
	p.Certificates = take(f, "certs", nil, files)
	p.CAs = take(f, "cacerts", nil, files)
	take(f, "revocation", "relaxed", word)
	take(f, "pubkeys", "", word)
	for _, sub := range f.s.subs {
		if strings.HasPrefix(sub.name, "cert") || strings.HasPrefix(sub.name, "cacert") {
			take(filler{f.swanctl, sub, f.path + ".cert", f.scope, f.unsure, nil}, "file", "", word)
			continue
		}
		r.in.Unread(sub.at.Line, f.scope, "%q is not a section of %s", source.Clean(sub.name), f.path)
		*f.unsure = true
	}
	f.rest(irrelevantParty)
	return p
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

func (r *swanctl) child(c *gateway.Connection, s *section) *gateway.Child {
	k := &gateway.Child{Name: source.Clean(s.name), At: s.at, AlwaysStrict: true}
	f := filler{r, s, "connections.<conn>.children.<child>", c.Name + "/" + k.Name, &k.Unsure, &c.Unusable}
	esp := take(f, "esp_proposals", espUnset, func(t string) ([]ike.Proposal, error) { return parseProposals(t, ike.ESP) })
	ah := take(f, "ah_proposals", nil, func(t string) ([]ike.Proposal, error) { return parseProposals(t, ike.AH) })
	k.Protocol, k.Proposals = gateway.Unsaid(ike.ESP, "ESP unless only ah_proposals is said"), esp
	if len(ah.Value) > 0 && esp.IsDefault() { // both said: ESP
		k.Protocol, k.Proposals = gateway.Say(ike.AH, ah.At), ah
	}
	dynamic := ike.Selectors{{Dynamic: true, HiPort: 65535}}
	k.Local = take(f, "local_ts", dynamic, parseSelectors)
	k.Remote = take(f, "remote_ts", dynamic, parseSelectors)
	k.HostToHost = k.Local.Value.Dynamic() && k.Remote.Value.Dynamic()
	k.Mode = take(f, "mode", ike.Tunnel, func(t string) (ike.Mode, error) {
		switch t {
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
	})
	k.Start = take(f, "start_action", gateway.StartNever, parseStart)
	k.CloseAction = take(f, "close_action", gateway.StartNever, parseStart)
	k.DPDAction = take(f, "dpd_action", "clear", word)
	k.Rekey = take(f, "rekey_time", time.Hour, parseTime)
	k.Life = take(f, "life_time", k.Rekey.Value+k.Rekey.Value/10, parseTime)
	k.Random = take(f, "rand_time", max(0, k.Life.Value-k.Rekey.Value), parseTime)
	k.RekeyBytes = take(f, "rekey_bytes", 0, parseSize)
	k.LifeBytes = take(f, "life_bytes", k.RekeyBytes.Value+k.RekeyBytes.Value/10, parseSize)
	k.RekeyPackets = take(f, "rekey_packets", 0, parseSize)
	k.LifePackets = take(f, "life_packets", k.RekeyPackets.Value+k.RekeyPackets.Value/10, parseSize)
	take(f, "rand_bytes", 0, parseSize)
	take(f, "rand_packets", 0, parseSize)
	k.ReplayWindow = take(f, "replay_window", 32, number)
	k.IPComp = take(f, "ipcomp", false, parseBool)
	k.Cut96 = take(f, "sha256_96", false, parseBool)
	k.Policies = take(f, "policies", true, parseBool)
	k.ForwardOut = take(f, "policies_fwd_out", false, parseBool)
	k.Inactivity = take(f, "inactivity", 0, parseTime)
	k.IfIDIn = take(f, "if_id_in", c.IfIDIn.Value, ifID)
	k.IfIDOut = take(f, "if_id_out", c.IfIDOut.Value, ifID)
	k.MarkIn = take(f, "mark_in", "", word)
	k.MarkOut = take(f, "mark_out", "", word)
	f.rest(irrelevantChild)
	return k
}

func parseStart(t string) (gateway.Start, error) {
	switch strings.ReplaceAll(t, " ", "") {
	case "none", "clear":
		return gateway.StartNever, nil
	case "trap", "route", "hold":
		return gateway.StartTraffic, nil
	case "start", "restart":
		return gateway.StartBoot, nil
	case "trap|start", "start|trap":
		return gateway.StartBoth, nil
	}
	return 0, fmt.Errorf("%q is none of none, trap, start and trap|start", t)
}

// secret reads a key. The value is hidden at once: no quote of the file shows it.
func (r *swanctl) secret(s *section) {
	k := &gateway.Key{Name: source.Clean(s.name), At: s.at, PPK: strings.HasPrefix(s.name, "ppk")}
	var unsure bool
	f := filler{r, s, "secrets.<secret>", k.Name, &unsure, nil}
	for _, v := range s.values {
		switch {
		case v.key == "secret" || v.key == "pin":
			v.used = true
			r.hide(v)
			if v.key == "secret" {
				k.Secret, k.At = decodeSecret(v.text), v.at
			}
		case strings.HasPrefix(v.key, "id"):
			v.used = true
			k.Owners = append(k.Owners, ParseIdentity(v.text))
		}
	}
	f.rest(nil, "file", "handle", "slot", "module")
	if strings.HasPrefix(s.name, "ike") || k.PPK {
		r.in.Gateway.Keys = append(r.in.Gateway.Keys, k)
	}
}

func (r *swanctl) hide(v *value) {
	for _, file := range r.in.Gateway.Files {
		if file.Path == v.at.File {
			file.Hide(v.text)
			for line := range strings.SplitSeq(v.text, "\n") {
				file.Hide(strings.TrimSpace(line))
			}
		}
	}
}

func decodeSecret(text string) source.Secret {
	if coded, ok := strings.CutPrefix(text, "0x"); ok {
		if b, err := hex.DecodeString(strings.ReplaceAll(coded, ":", "")); err == nil {
			return source.NewSecret(string(b))
		}
	}
	if coded, ok := strings.CutPrefix(text, "0s"); ok {
		if b, err := base64.StdEncoding.DecodeString(coded); err == nil {
			return source.NewSecret(string(b))
		}
		if b, err := base64.RawStdEncoding.DecodeString(strings.TrimRight(coded, "=")); err == nil {
			return source.NewSecret(string(b))
		}
	}
	return source.NewSecret(text)
}
