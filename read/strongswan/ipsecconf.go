package strongswan

import (
	"bytes"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"toril/daemon/strongswan"
	"toril/ike"
	"toril/internal/lazy"
	"toril/model"
	"toril/model/settings"
	"toril/read"
	"toril/read/ipsecconf"
	"toril/read/publickey"
	"toril/read/table"
	"toril/source"
)

// IPsecConf is the format of ipsec.conf, the daemon's older configuration.
var IPsecConf = &read.Format{
	Name:     "ipsec.conf-strongswan",
	Comments: []string{"#"},
	Family:   "ipsec.conf",
	Title:    "IKE daemon strongSwan, older configuration: connections",
	Software: software,
	About:    model.AboutIKE,
	Hints:    []string{"ipsec.conf", "*.ipsec.conf"},
	Order:    20,
	Looks:    looksLikeIPsecConf,
	Read:     readIPsecConf,
	Covers:   ipsecConfCoverage,
}

// IPsecSecrets is the format of ipsec.secrets.
var IPsecSecrets = &read.Format{
	Name:     "ipsec.secrets",
	Comments: []string{"#"},
	Title:    "IKE daemons strongSwan and Libreswan: pre-shared keys",
	Shared:   true,
	Software: software,
	About:    model.AboutKeys,
	Hints:    []string{"ipsec.secrets", "*.secrets"},
	Order:    21,
	Looks:    looksLikeSecrets,
	Read:     readSecrets,
	Covers: read.Rows(
		read.Coverage{
			Statement: "[who ...] : PSK value",
			Use:       read.Used,
			Note:      "the value is hidden from every quote; 0x and 0s are decoded",
		},
		read.Coverage{Statement: "include", Use: read.Used},
		read.Coverage{
			Statement: ": RSA, ECDSA, PKCS8, P12, EAP, XAUTH, NTLM, PIN",
			Use:       read.Irrelevant,
			Note:      "hidden from every quote",
		},
		read.Coverage{Statement: "who : PPKS value", Use: read.Used, Note: "Libreswan's post-quantum pre-shared keys"},
	),
}

var (
	connLine    = lazy.NewSearch(`(?m)^conn[ \t]+\S+`)
	configLine  = lazy.NewSearch(`(?m)^config[ \t]+setup`)
	ownKeywords = lazy.NewSearch(
		`(?m)^[ \t]+(charondebug|charonstart|strictcrlpolicy|cachecrls|margintime|lifebytes|lifepackets|marginbytes|lefthostaccess|righthostaccess|leftauth2|rightauth2|forceencaps|installpolicy|mediation|modeconfig|leftallowany|rightallowany|eap_identity|inactivity|reauth|closeaction)[ \t]*=?|=[^\n#]*![ \t]*$|auto[ \t]*=[ \t]*route`,
	)
	secretsLine   = lazy.NewSearch(`(?m)^[^#\n]*:[ \t]*(PSK|RSA|ECDSA|PKCS8|P12|EAP|XAUTH|NTLM|PPKS)\b`)
	onlyIncludes  = lazy.Regexp(`^(?:[ \t]*(?:#[^\n]*|include[ \t]+[^\n]*|version[ \t]+[^\n]*)?(?:\n|$))+$`)
	forIPsecConf  = "it has sections of connections (%q)"
	alsoIPsecConf = ", with keywords that only strongSwan knows (%q)"
)

func looksLikeIPsecConf(f *source.File) (int, string) {
	data := f.Head()
	conn := connLine.Find(data)
	if path.Base(f.Path) == "ipsec.conf" && onlyIncludes().Match(data) {
		return 40, "it has comments and includes only"
	}
	if conn == nil && !configLine.Match(data) || !bytes.Contains(data, []byte("=")) {
		return 0, ""
	}
	why := fmt.Sprintf(forIPsecConf, bytes.TrimSpace(conn))
	if own := ownKeywords.Find(data); own != nil {
		return 80, why + fmt.Sprintf(alsoIPsecConf, bytes.TrimSpace(own))
	}
	return 60, why
}

func looksLikeSecrets(f *source.File) (int, string) {
	data := f.Head()
	if m := secretsLine.FindSubmatch(data); m != nil && !connLine.Match(data) {
		return 70, fmt.Sprintf("it has entries of the form \"who : %s value\"", m[1])
	}
	if strings.HasSuffix(f.Path, ".secrets") && onlyIncludes().Match(data) {
		return 60, "its name ends in .secrets, and it has comments and includes only"
	}
	return 0, ""
}

func ipsecConfCoverage() []read.Coverage {
	out := []read.Coverage{
		{Statement: "include, also, conn %default", Use: read.Used},
		{Statement: "config setup", Use: read.Irrelevant, Note: "logging; but for strictcrlpolicy"},
		{Statement: "ca", Use: read.Used, Note: "which authorities there are, and whether lists of revoked certificates are fetched"},
	}
	out = append(out, table.Covers(strongswan.Known, "ipsec.conf")...)
	out = append(out, table.Ignored(strongswan.Known.Section(strongswan.IPsecConf, strongswan.IPsecConn), "")...)
	return out
}

func readIPsecConf(in *read.Input) {
	in.Gateway.Told.IKE = true
	f := ipsecconf.Parse(in, ipsecconf.Dialect{Authority: true, MissingBad: true})
	f.Check(
		"config",
		map[string]ipsecconf.Words{
			"uniqueids":       {Any: []string{"yes", "no", "never", "replace", "keep"}},
			"strictcrlpolicy": {Any: []string{"yes", "no", "ifuri"}},
			"cachecrls":       {Any: []string{"yes", "no"}},
			"charonstart":     {Any: []string{"yes", "no"}},
		},
		nil,
	)
	f.Mistaken()
	f.Rest("config", func(key string) bool { return slices.Contains(setupKeys, key) }, read.Owner{})
	f.Rest("ca", func(key string) bool { return slices.Contains(authorityKeys, key) }, read.Owner{Topic: model.AboutCertificates})
	r := &ipsecConf{in: in, defaults: table.By(strongswan.Known, in.Gateway.VersionOf(software), "ipsec.conf", "conn")}
	strict := false
	for _, s := range f.Sections {
		for _, v := range s.Values {
			switch {
			case s.Kind == "ca" && v.Key == "cacert":
				in.Gateway.Authorized = append(in.Gateway.Authorized, v.Text)
			case s.Kind == "ca" && (strings.HasPrefix(v.Key, "crluri") || strings.HasPrefix(v.Key, "ocspuri")):
				in.Gateway.Fetches = true
			case s.Kind == "config" && v.Key == "strictcrlpolicy":
				strict = v.Text == "yes"
			}
		}
	}
	f.Declare(func(s *ipsecconf.Section) bool { return r.loaded(f.Effective(s, true)) })
	in.Later(func() { // which end is this one depends on the gateway's addresses
		for _, s := range f.Sections {
			if s.Kind != "conn" || s.Name == "%default" {
				continue
			}
			switch values := f.Effective(s, true); {
			case r.loaded(values):
				c := r.connection(s, values, false)
				c.Remote.Strict = strict
				c.Doubts.Add(f.Doubts(s)...)
				in.Gateway.Connections = append(in.Gateway.Connections, c)
			case ipsecconf.Complete(values):
				in.Gateway.Unloaded = append(in.Gateway.Unloaded, r.connection(s, values, true))
			case !f.Inherited(s): // what of it was not understood may make it a connection
				r.connection(s, s.Values, true)
			}
		}
	})
}

// The keywords of "config setup" and of sections "ca" (ipsec.conf(5)), those of older versions too.
var (
	setupKeys = strings.Fields("cachecrls charondebug charonstart strictcrlpolicy uniqueids plutostart nat_traversal virtual_private " +
		"klipsdebug plutodebug plutostderrlog interfaces crlcheckinterval keep_alive force_keepalive hidetos fragicmp overridemtu " +
		"packetdefault nocrsend postpluto prepluto pkcs11module pkcs11initargs pkcs11keepstate pkcs11proxy dumpdir pfkeydebug syslog")
	authorityKeys = strings.Fields("cacert crluri crluri1 crluri2 ocspuri ocspuri1 ocspuri2 certuribase auto ldaphost ldapbase")
)

type ipsecConf struct {
	in       *read.Input
	defaults *table.Defaults
}

// loaded reports whether the daemon loads a section: auto is add, route or start.
func (r *ipsecConf) loaded(values []*table.Value) bool {
	return slices.ContainsFunc(values, func(v *table.Value) bool { return v.Key == "auto" && v.Text != "ignore" && v.Text != "" })
}

func (r *ipsecConf) connection(s *ipsecconf.Section, said []*table.Value, unloaded bool) *model.Connection {
	c := &model.Connection{Name: source.Clean(s.Name), At: s.At, Daemon: strongswan.Daemon, Joins: true}
	of := read.Owner{Name: c.Name, To: &c.Doubts}
	if unloaded { // what was not understood may load it
		of = read.Owner{Name: c.Name, Topic: model.AboutIKE}
	}
	f := &table.Section{
		In:       r.in,
		Values:   said,
		Software: software,
		Path:     "ipsec.conf conn",
		Defaults: r.defaults,
		Owner:    of,
		Refused:  &c.Unusable,
		Quiet:    unloaded && ipsecconf.Says(said, "auto"),
	}
	for _, v := range said {
		if v.Returned && !strings.HasSuffix(v.Key, "id") { // of an identity it becomes a part
			f.Refuse(v, errors.New("a carriage return stands at the end of the value"))
		}
	}
	local, remote := ipsecconf.Sides(r.in.Gateway, said)
	k := &model.Child{Name: c.Name, At: c.At}
	table.Fill(f, settings.Subject{Connection: c, Child: k})
	c.LocalAddrs = table.Read[model.Addresses](f, local)
	c.RemoteAddrs = table.Read[model.Addresses](f, remote)
	table.Read[bool](f, local+"allowany")
	if any := table.Read[bool](f, remote+"allowany"); any.Value ||
		strings.HasPrefix(firstText(c.RemoteAddrs.Value), "%") && !c.RemoteAddrs.Value.Any() {
		c.RemoteAddrs.Value = append(slices.Clone(c.RemoteAddrs.Value), model.Address{Text: "%any", Any: true})
	}
	c.LocalPort = table.Read[int](f, local+"ikeport")
	c.RemotePort = table.Read[int](f, remote+"ikeport")
	c.Childless = model.Unsaid("allow", software+" default of ipsec.conf conn")
	r.dpd(c, f)
	r.ikeLife(c, f)
	c.IfIDIn = table.Read[uint32](f, "if_id_in")
	c.IfIDOut = table.Read[uint32](f, "if_id_out")
	r.parties(c, f, local, remote)
	r.child(c, k, f, local, remote)
	c.Children = append(c.Children, k)
	f.Unknown()
	return c
}

func firstText(as model.Addresses) string {
	if len(as) == 0 {
		return ""
	}
	return as[0].Text
}

func (r *ipsecConf) dpd(c *model.Connection, f *table.Section) {
	action := table.Read[string](f, "dpdaction")
	delay := table.Read[time.Duration](f, "dpddelay")
	c.DPD = model.Setting[time.Duration]{Origin: action.Origin, At: action.At, Why: action.Why}
	if action.Value != "none" {
		c.DPD.Value = delay.Value
		if !delay.IsDefault() {
			c.DPD.Origin, c.DPD.At = delay.Origin, delay.At
		}
	}
}

// margin is how long before the end of an SA its renewal begins, and how much of that is random.
func (r *ipsecConf) margin(f *table.Section) (set model.Setting[time.Duration], before, random time.Duration) {
	m := table.Read[time.Duration](f, "margintime")
	fuzz := table.Read[int](f, "rekeyfuzz")
	return m, m.Value, m.Value * time.Duration(max(0, min(fuzz.Value, 10_000))) / 100
}

func (r *ipsecConf) ikeLife(c *model.Connection, f *table.Section) {
	life := table.Read[time.Duration](f, "ikelifetime")
	rekeys := table.Read[bool](f, "rekey")
	reauth := table.Read[bool](f, "reauth")
	margin, before, random := r.margin(f)
	c.Margin, c.Spans = margin, []model.Span{{Setting: life, Name: "ikelifetime"}}
	set := model.Setting[time.Duration]{Value: max(0, life.Value-before), Origin: life.Origin, At: life.At, Why: life.Why}
	off := model.Setting[time.Duration]{Origin: reauth.Origin, At: reauth.At, Why: reauth.Why}
	switch {
	case !rekeys.Value:
		off.Origin, off.At, off.Why = rekeys.Origin, rekeys.At, rekeys.Why
		c.Rekey, c.Reauth = off, off
	case reauth.Value:
		c.Rekey, c.Reauth = off, set
	default:
		c.Rekey, c.Reauth = set, off
	}
	c.Over = model.Setting[time.Duration]{Value: before, Why: software + " default of ipsec.conf conn.margintime"}
	c.Random = model.Setting[time.Duration]{Value: random, Why: software + " default of ipsec.conf conn.rekeyfuzz"}
}

func (r *ipsecConf) parties(c *model.Connection, f *table.Section, local, remote string) {
	authby := table.Read[ike.Method](f, "authby")
	c.SendCert = table.Read[string](f, local+"sendcert")
	c.AskCert = model.Unsaid(true, software+" default of ipsec.conf conn")
	table.Read[string](f, remote+"sendcert")
	for _, side := range []struct {
		name  string
		to    *model.Party
		addrs model.Setting[model.Addresses]
		noID  ike.Identity
	}{{local, &c.Local, c.LocalAddrs, ike.Identity{Kind: ike.NoID}}, {remote, &c.Remote, c.RemoteAddrs, ike.Identity{Kind: ike.AnyID}}} {
		id := side.noID // the address, where it is one
		if fixed := side.addrs.Value.Fixed(); len(fixed) > 0 && !side.addrs.Value.Any() {
			id = ike.Addr(fixed[0])
		}
		side.to.Certificates = table.Read[[]string](f, side.name+"cert")
		if len(side.to.Certificates.Value) > 0 {
			id = side.noID
		}
		side.to.CAs = table.Read[[]string](f, side.name+"ca")
		side.to.ID = table.TakeOr(
			f,
			id,
			func(t string) (ike.Identity, error) {
				if !strings.HasPrefix(t, "%any") { // it says not to ask the peer for the identity
					t = strings.TrimPrefix(t, "%")
				}
				side.to.Written = source.Clean(t)
				return strongswan.ParseIdentity(t), nil
			},
			side.name+"id",
		)
		auth := ""
		if v := f.Lookup(side.name + "auth"); v != nil {
			auth = v.Text
		}
		side.to.Method = table.ReadOr(f, authby.Value, side.name+"auth")
		signatures(side.to, auth, side.to == &c.Local)
		publickey.Take(f, side.to, side.name+"sigkey", side.name+"rsasigkey")
		if side.to.Method.IsDefault() {
			side.to.Method = authby
		}
	}
	c.Local.OrSubject = true // the program that loads it says so in its log; not asked
}

// child works out what is no setting by itself.
func (r *ipsecConf) child(c *model.Connection, k *model.Child, f *table.Section, local, remote string) {
	ah := table.Read[[]ike.Proposal](f, "ah")
	k.Protocol = model.Unsaid(ike.ESP, "ESP unless ah is said")
	if len(ah.Value) > 0 {
		k.Protocol, k.Proposals = model.Say(ike.AH, ah.At), ah
	}
	k.Local, k.Remote = r.selectors(f, local), r.selectors(f, remote)
	k.HostToHost = k.Local.Value.Dynamic() && k.Remote.Value.Dynamic()
	if v := f.Lookup(remote + "sourceip"); v != nil && !strings.HasPrefix(v.Text, "%") {
		k.Pool, _ = strongswan.Selectors(v.Text)
	}
	r.life(k, f)
	k.ReplayWindow = table.ReadOr(f, replayWindow(r.in.Gateway), "replay_window")
	k.IfIDIn, k.IfIDOut = c.IfIDIn, c.IfIDOut
	k.Opens = table.Read[bool](f, local+"firewall")
	k.OpensHost = table.Read[bool](f, local+"hostaccess")
	if updown(r.in, k, table.Read[string](f, local+"updown")); k.Script.Value != "" {
		f.Leave(k.Script.At, "a script that runs as the child comes up; what it does is not known")
	}
	table.Read[bool](f, remote+"firewall")
}

func (r *ipsecConf) life(k *model.Child, f *table.Section) {
	rekeys := table.Read[bool](f, "rekey")
	margin, before, random := r.margin(f)
	k.Margin, k.Spans = margin, []model.Span{{Setting: k.Life, Name: "lifetime"}}
	k.Rekey = model.Setting[time.Duration]{Value: max(0, k.Life.Value-before), Origin: k.Life.Origin, At: k.Life.At, Why: k.Life.Why}
	k.Random = model.Setting[time.Duration]{Value: random, Why: software + " default of ipsec.conf conn.rekeyfuzz"}
	k.RekeyBytes = table.Read[uint64](f, "marginbytes")
	k.RekeyBytes.Value = k.LifeBytes.Value - min(k.RekeyBytes.Value, k.LifeBytes.Value)
	k.RekeyPackets = table.Read[uint64](f, "marginpackets")
	k.RekeyPackets.Value = k.LifePackets.Value - min(k.RekeyPackets.Value, k.LifePackets.Value)
	if !rekeys.Value {
		k.Rekey = model.Setting[time.Duration]{Origin: rekeys.Origin, At: rekeys.At, Why: rekeys.Why}
	}
}

// selectors reads subnet and protoport of one side.
func (r *ipsecConf) selectors(f *table.Section, side string) model.Setting[ike.Selectors] {
	set := table.Read[ike.Selectors](f, side+"subnet")
	ports := table.ReadOr(f, ike.Selector{HiPort: 65535}, side+"protoport")
	if !ports.IsDefault() {
		out := slices.Clone(set.Value)
		for i := range out {
			if out[i].Proto == 0 && out[i].AllPorts() {
				out[i].Proto, out[i].LoPort, out[i].HiPort, out[i].Opaque = ports.Value.Proto, ports.Value.LoPort, ports.Value.HiPort,
					ports.Value.Opaque
			}
		}
		set.Value = out
		if set.IsDefault() {
			set.Origin, set.At = ports.Origin, ports.At
		}
	}
	return set
}

// readSecrets reads ipsec.secrets of either daemon: which it is, another file says.
func readSecrets(in *read.Input) {
	secrets := ipsecconf.Secrets(in)
	in.Later(func() {
		libreswan := slices.ContainsFunc(in.Gateway.Files, func(f *model.File) bool { return f.Format == "ipsec.conf-libreswan" })
		for i, s := range secrets {
			if s.Kind != "PSK" && s.Kind != "PPKS" {
				continue
			}
			k := &model.Key{At: s.At, Name: strings.Join(s.Who, " "), Secret: source.NewSecret(s.Value), PPK: s.Kind == "PPKS"}
			if !s.Quoted { // in quotation marks 0x and 0s are the key's own
				k.Secret, k.Coded = decodeSecret(s.Value)
			}
			for _, who := range s.Who {
				k.Owners = append(k.Owners, strongswan.ParseIdentity(who))
			}
			if why := refused(secrets, i, libreswan); why != "" {
				k.Refused = source.Errorf(s.At, "the entry is not taken: %s", why)
				in.Gateway.Problems = append(in.Gateway.Problems, k.Refused)
			}
			in.Gateway.Keys = append(in.Gateway.Keys, k)
		}
	})
}

// refused says why the daemon does not take an entry, as both were asked; "" where it does. For Libreswan a line that begins with a blank
// goes on with the entry before it, which then has too much, and stands for nothing itself; and a key is in quotation marks, or is bits.
func refused(all []ipsecconf.Secret, i int, libreswan bool) string {
	s := all[i]
	switch {
	case s.Glued:
		return "no blank stands before the colon"
	case !libreswan:
		return ""
	case s.Blank:
		return "its line begins with a blank, and so belongs to the entry before it"
	case i+1 < len(all) && all[i+1].Blank && all[i+1].File == s.File:
		return "the next line begins with a blank, and so belongs to it"
	case s.Kind == "PSK" && !s.Quoted && !bits().MatchString(s.Value):
		return "a key stands in quotation marks, or begins with 0x, 0s or 0t"
	}
	return ""
}

// bits are the forms of a key that is no text.
var bits = lazy.Regexp(`^0[xst]`)

// updown notes what the script does that runs as a child comes up: the daemon's own opens the packet filter where it is told
// so, and any other may do anything.
func updown(in *read.Input, k *model.Child, set model.Setting[string]) {
	script := strings.Fields(set.Value)
	switch {
	case len(script) == 0:
	case strings.HasSuffix(script[0], "_updown") || len(script) > 1 && script[0] == "ipsec" && script[1] == "_updown":
		if script[len(script)-1] == "iptables" {
			k.Opens = model.Say(true, set.At)
		}
	default:
		k.Script = set
		if given := strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(set.Value), script[0])); given != "" { // it may be a secret
			in.File.Hide(set.At.Line, given)
			k.Script.Value = script[0] + " " + source.Mask
		}
	}
}
