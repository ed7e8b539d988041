// Package libreswan reads the ipsec.conf of the IKE daemon Libreswan.
package libreswan

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"toril/daemon"
	"toril/daemon/form"
	"toril/daemon/libreswan"
	"toril/ike"
	"toril/internal/lazy"
	"toril/model"
	"toril/model/literal"
	"toril/model/settings"
	"toril/packet"
	"toril/read"
	"toril/read/ipsecconf"
	"toril/read/publickey"
	"toril/read/table"
	"toril/source"
)

// software is the name of the daemon.
var software = libreswan.Daemon.Name

// Format is the format of Libreswan's ipsec.conf.
var Format = &read.Format{
	Name:     "ipsec.conf-libreswan",
	Comments: []string{"#"},
	Words:    libreswan.Words,
	Family:   "ipsec.conf",
	Title:    "IKE daemon Libreswan: connections",
	Software: software,
	About:    model.AboutIKE,
	Hints:    []string{"ipsec.conf", "*.ipsec.conf"},
	Order:    20,
	Looks:    looks,
	Read:     readFile,
	Covers:   coverage,
}

var (
	connLine = lazy.NewSearch(`(?m)^(conn[ \t]+\S+|config[ \t]+setup)`)
	own      = lazy.NewSearch(
		`(?m)^[ \t]+(ikev2|salifetime|phase2alg|phase2|(left|right)subnets|(left|right)ckaid|ipsec-interface|vti-interface|sha2-truncbug|encapsulation|dpddelay[ \t]*=[ \t]*\d+$|narrowing|ppk|esn|pfs|ikepad|replay-window|ipsec-max-bytes|virtual-private|virtual_private|plutodebug|plutostderrlog|plutorestartoncrash|logfile|logappend|logtime|logip|audit-log|crlcheckinterval|ocsp-[a-z]+|ddos-mode|seedbits|global-redirect|uniqueids[ \t]*=[ \t]*(yes|no)$|nssdir|protostack|dnssec-enable|auto[ \t]*=[ \t]*(ondemand|keep)|authby[ \t]*=[ \t]*(rsasig|rsa-sha|ecdsa)|(left|right)id[ \t]*=[ \t]*%fromcert|ike[ \t]*=[ \t]*[^#\n]*(;|_gcm|sha2_))[ \t]*=?`,
	)
)

func looks(f *source.File) (int, string) {
	head := f.Head()
	conn := connLine.Find(head)
	if conn == nil || !strings.Contains(string(head), "=") {
		return 0, ""
	}
	n := len(own.FindAll(head, 20))
	if n == 0 {
		return 40, fmt.Sprintf("it has sections of connections (%q)", conn)
	}
	return min(
			95,
			70+5*n,
		), fmt.Sprintf(
			"it has sections of connections (%q), with keywords that only Libreswan knows (%q)",
			conn,
			strings.TrimSpace(string(own.Find(head))),
		)
}

func coverage() []read.Coverage {
	out := []read.Coverage{
		{Statement: "include, also, conn %default", Use: read.Used},
		{Statement: "config setup, ca", Use: read.Irrelevant, Note: "logging, revocation, threads"},
		{Statement: "alsoflip", Use: read.Left},
	}
	out = append(out, table.Covers(libreswan.Known, libreswan.File)...)
	out = append(out, table.Ignored(libreswan.Known.Section(libreswan.File, libreswan.Conn), "")...)
	return out
}

type reader struct {
	in       *read.Input
	version  string // of the daemon; "" where it is not known
	defaults *table.Defaults
}

func readFile(in *read.Input) {
	in.Gateway.Told.IKE = true
	version := in.Gateway.VersionOf(software)
	f := ipsecconf.Parse(in, ipsecconf.Dialect{FoldKeys: true, OneWord: true, OnceOnly: true})
	f.Check("conn", wordsOf(version), known)
	f.Check("config", setupWords, knownSetup)
	r := &reader{in, version, table.By(libreswan.Known, version, libreswan.File, libreswan.Conn)}
	loaded := func(said []*table.Value) bool {
		return slices.ContainsFunc(said, func(v *table.Value) bool {
			return v.Key == "auto" && strings.ToLower(v.Text) != "ignore" && v.Text != ""
		})
	}
	f.Declare(func(s *ipsecconf.Section) bool { return loaded(f.Effective(s, false)) })
	closed := ikev1Closed(f, version)
	in.Later(func() { // which end is this one depends on the gateway's addresses
		for _, s := range f.Sections {
			if s.Kind != "conn" || s.Name == "%default" {
				continue
			}
			switch said := f.Effective(s, false); {
			case loaded(said):
				c := r.connection(s, said, false)
				c.Doubts.Add(f.Doubts(s)...)
				if e := f.Broken(s); e != nil {
					c.Unusable = e
				}
				if c.Version.Value == ike.V1 && closed != nil && c.Unusable == nil {
					c.Unusable = closed
				}
				in.Gateway.Connections = append(in.Gateway.Connections, c)
			case ipsecconf.Complete(said):
				in.Gateway.Unloaded = append(in.Gateway.Unloaded, r.connection(s, said, true))
			}
		}
	})
}

// ikev1Closed is why the daemon loads no connection of IKEv1: "config setup", where the file has it, does not allow them. Since 4.5 that
// must be said, as Debian builds it, and since 5.0 everywhere. nil where they are loaded, or where that is not known.
func ikev1Closed(f *ipsecconf.File, version string) *source.Error {
	for _, s := range f.Sections {
		if s.Kind != "config" {
			continue
		}
		closed, at, said := version == "" || daemon.Compare(version, "4.5") >= 0, s.At, ""
		for _, v := range f.Effective(s, false) {
			if strings.ReplaceAll(v.Key, "_", "-") == "ikev1-policy" && v.Text != "" {
				closed, at, said = !strings.EqualFold(v.Text, "accept"), v.At, " to accept"
			}
		}
		if closed {
			return source.Errorf(at, "connections of IKEv1 are not loaded: ikev1-policy is not set%s", said)
		}
	}
	return nil
}

func (r *reader) connection(s *ipsecconf.Section, said []*table.Value, unloaded bool) *model.Connection {
	c := &model.Connection{Name: source.Clean(s.Name), At: s.At, Daemon: libreswan.Daemon, Joins: true}
	for _, v := range said {
		if v.Key = strings.ReplaceAll(v.Key, "_", "-"); v.Key == "aggrmode" {
			v.Key = "aggressive"
		}
		if w, ok := words()[v.Key]; ok && w.Fold {
			v.Text = strings.ToLower(v.Text)
		}
	}
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
		Version:  r.version,
	}
	local, remote := ipsecconf.Sides(r.in.Gateway, said)
	k := &model.Child{Name: c.Name, At: c.At}
	table.Fill(f, settings.Subject{Connection: c, Child: k})
	r.exchange(c, f)
	c.LocalAddrs = table.Take(f, address, local)
	c.RemoteAddrs = table.Take(f, address, remote)
	c.LocalPort = table.Read[int](f, local+"ikeport")
	c.RemotePort = table.Read[int](f, remote+"ikeport")
	r.proposals(c, f)
	c.Encap = table.Take(f, func(t string) (bool, error) {
		if t == "auto" {
			return false, nil
		}
		yes, err := form.Bool.Read(t)
		c.NoEncap = err == nil && !yes
		return yes, err
	}, "encapsulation")
	c.MOBIKE = table.Take(f, onlyV2(c), "mobike")
	c.Childless = model.Unsaid("never", software+" default of ipsec.conf conn")
	c.PPKRequired = table.Take(f, func(t string) (bool, error) { return t == "insist", nil }, "ppk")
	r.ikeLife(c, f)
	r.interfaces(c, f)
	r.parties(c, f, local, remote)
	c.Children = r.children(c, k, f, local, remote)
	r.vti(c, f, local, unloaded)
	for _, v := range said {
		if strings.HasPrefix(v.Key, "x-") || strings.HasSuffix(v.Key, "-unity") {
			v.Used = true
		}
	}
	f.Unknown()
	return c
}

// proposals reads what the connection offers, and what it takes.
func (r *reader) proposals(c *model.Connection, f *table.Section) {
	dialect := r.dialect(c)
	c.Proposals = table.TakeOr(
		f,
		dialect.Default(ike.IKE),
		func(t string) ([]ike.Proposal, error) {
			c.Accepts = dialect.Accepts(t, ike.IKE)
			return dialect.Proposals(t, ike.IKE)
		},
		"ike",
	)
	if c.Proposals.IsDefault() {
		c.Accepts = dialect.Accepts("", ike.IKE)
	}
	oneGroup(c)
}

// oneGroup leaves of what is proposed what aggressive mode can, which sends the share of a key exchange first: proposals of one group.
// Group 2 or 5 is kept, whatever comes behind it, else the last; as a responder the daemon takes every one (asked of 4.10).
func oneGroup(c *model.Connection) {
	ps := c.Proposals.Value
	if c.Version.Value != ike.V1 || !c.Aggressive.Value || len(ps) == 0 {
		return
	}
	var kept ike.Choices
	seen := map[string]bool{}
	for _, p := range ps {
		groups := p.Of(ike.KeyExchange)
		if seen[p.Names()] {
			continue
		}
		if seen[p.Names()] = true; len(groups) > 0 {
			kept = groups[:1]
			if id := groups[0].ID; id == modp1024 || id == modp1536 {
				break
			}
		}
	}
	c.Proposals.Value = slices.DeleteFunc(slices.Clone(ps), func(p ike.Proposal) bool {
		return len(kept) == 0 || !p.Of(ike.KeyExchange).Has(kept[0])
	})
}

// Groups by their numbers (RFC 2409 section 6, RFC 3526 section 2).
const (
	modp1024 = 2
	modp1536 = 5
)

// dialect is for what the connection's proposals are written.
func (r *reader) dialect(c *model.Connection) libreswan.Dialect {
	return libreswan.Dialect{V1: c.Version.Value == ike.V1, Version: r.version}
}

// exchange reads keyexchange, which says since 5.0 what ikev2 did before; which of the two holds where they differ is not known.
func (r *reader) exchange(c *model.Connection, f *table.Section) {
	set := table.TakeOr(f, ike.Either, func(t string) (ike.Version, error) {
		switch t {
		case "ike":
			return ike.Either, nil
		case "ikev1":
			return ike.V1, nil
		case "ikev2":
			return ike.V2, nil
		}
		return 0, fmt.Errorf("%q is none of ike, ikev1 and ikev2", t)
	}, "keyexchange")
	if set.Value == ike.Either {
		return
	}
	if !c.Version.IsDefault() && c.Version.Value != set.Value {
		f.Note(f.Lookup("keyexchange"), "ikev2 says another version")
	}
	c.Version = set
}

func address(t string) (model.Addresses, error) {
	switch t {
	case "%defaultroute", "%any", "%any6", "%opportunistic", "%opportunisticgroup", "%group", "0.0.0.0", "::":
		return model.Addresses{{Text: t, Any: true}}, nil
	}
	return model.Addresses{literal.Host(strings.TrimPrefix(t, "%"))}, nil
}

// longest is a lifetime as the daemon takes it: a day at most, and for 0 (asked of 4.10).
func longest(life model.Setting[time.Duration]) model.Setting[time.Duration] {
	if day := 24 * time.Hour; life.Value == 0 || life.Value > day {
		life.Value = day
	}
	return life
}

// onlyV2 reads yes or no of what there is in IKEv2 alone: the daemon refuses a connection of IKEv1 with it.
func onlyV2(c *model.Connection) func(string) (bool, error) {
	return func(t string) (bool, error) {
		yes, err := form.Bool.Read(t)
		if err == nil && yes && c.Version.Value == ike.V1 {
			return false, errors.New("it is for IKEv2 only")
		}
		return yes, err
	}
}

// margins is how long before the end of an SA its renewal begins, and how much of that is random.
func (r *reader) margins(f *table.Section, life time.Duration) (set model.Setting[time.Duration], before, random time.Duration) {
	m := table.Read[time.Duration](f, "rekeymargin")
	if m.Value >= life { // the daemon halves it then
		m.Value = life / 2
	}
	fuzz := table.Read[int](f, "rekeyfuzz")
	return m, m.Value, m.Value * time.Duration(max(0, min(fuzz.Value, 10_000))) / 100
}

func (r *reader) ikeLife(c *model.Connection, f *table.Section) {
	life := longest(table.Read[time.Duration](f, "ikelifetime"))
	rekey := table.Read[bool](f, "rekey")
	margin, before, random := r.margins(f, life.Value)
	c.Margin, c.Spans = margin, []model.Span{{Setting: life, Name: "ikelifetime"}}
	c.Rekey = model.Setting[time.Duration]{Value: max(0, life.Value-before), Origin: life.Origin, At: life.At, Why: life.Why}
	c.Reauth = model.Unsaid[time.Duration](0, software+" does not reauthenticate")
	c.Over = model.Unsaid(before, software+" default of ipsec.conf conn.rekeymargin")
	c.Random = model.Unsaid(random, software+" default of ipsec.conf conn.rekeyfuzz")
	if !rekey.Value {
		c.Rekey = model.Setting[time.Duration]{Origin: rekey.Origin, At: rekey.At, Why: rekey.Why}
	}
}

// interfaces reads what makes a tunnel route-based: ipsec-interface is an xfrm interface with that if_id.
func (r *reader) interfaces(c *model.Connection, f *table.Section) {
	id := table.Read[uint32](f, "ipsec-interface")
	c.IfIDIn, c.IfIDOut = id, id
}

// vti makes the interface that the daemon makes for a connection: its key is the mark, its routes lead to the remote networks.
func (r *reader) vti(c *model.Connection, f *table.Section, local string, unloaded bool) {
	name := table.Read[string](f, "vti-interface")
	address := table.Take(f, netip.ParsePrefix, local+"vti")
	routing := table.Read[bool](f, "vti-routing")
	shared := table.Read[bool](f, "vti-shared")
	if name.Value == "" || unloaded || len(c.Children) == 0 {
		return
	}
	i := r.in.Gateway.InterfaceOf(name.Value, name.At)
	if i.Kind == "" {
		i.Kind = "vti"
	}
	if key, _, ok := c.Children[0].Marked(); ok && i.Key == 0 {
		i.Key, i.KeyIn = key, key
	}
	if own := c.LocalAddrs.Value.Fixed(); len(own) > 0 && !i.Local.IsValid() {
		i.Local = own[0]
	}
	if peer := c.RemoteAddrs.Value.Fixed(); len(peer) > 0 && !i.Remote.IsValid() && !shared.Value {
		i.Remote = peer[0]
	}
	if address.Value.IsValid() {
		i.AddAddress(address.Value)
	}
	if !routing.Value {
		return
	}
	for _, k := range c.Children {
		for _, n := range k.Remote.Value.Packets().Prefixes(packet.Src) {
			r.in.Gateway.AddRoute(&model.Route{At: name.At, To: n, Dev: name.Value, Kind: "unicast", Table: "main", Origin: "static"})
		}
	}
}

func (r *reader) parties(c *model.Connection, f *table.Section, local, remote string) {
	authby := table.Take(f, func(t string) (string, error) {
		_, err := method(t)
		return t, err
	}, "authby")
	of, _ := method(authby.Value)
	both := model.Setting[ike.Method]{Value: of, Origin: authby.Origin, At: authby.At, Why: authby.Why}
	c.SendCert = table.Read[string](f, local+"sendcert")
	table.Read[string](f, remote+"sendcert")
	c.Remote.Loose = !table.Read[bool](f, "require-id-on-certificate").Value
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
		side.to.CAs = table.Read[[]string](f, side.name+"ca")
		side.to.ID = table.TakeOr(f, id, func(t string) (ike.Identity, error) {
			if (t == "%any" || t == "%none") && side.to == &c.Remote && id.Definite() { // asked of 4.10
				const why = "the daemon takes %s for the peer's address where that is said: it accepts no other identity"
				f.Leave(f.Lookup(side.name+"id").At, fmt.Sprintf(why, t))
				return id, nil
			}
			side.to.Written = source.Clean(t)
			return identity(t, side.noID), nil
		}, side.name+"id")
		words := authby.Value
		side.to.Method = table.TakeOr(f, of, func(t string) (ike.Method, error) {
			words = t
			return method(t)
		}, side.name+"auth")
		if side.to.Method.IsDefault() {
			side.to.Method = both
		}
		signs, takes := libreswan.Signatures(words, r.version)
		if side.to.Signatures = takes; side.to == &c.Local {
			side.to.Signatures = signs
		}
		publickey.Take(f, side.to, side.name+"rsasigkey", side.name+"ecdsakey", side.name+"pubkey", side.name+"ckaid")
	}
	ca := c.Remote.CAs // it is asked for by its authority alone
	named := len(ca.Value) > 0 && ca.Value[0] != "" && ca.Value[0] != "%any"
	c.AskCert = model.Setting[bool]{Value: named, Origin: ca.Origin, At: ca.At, Why: ca.Why}
}

func method(t string) (ike.Method, error) {
	first, _, _ := strings.Cut(t, ",")
	switch first {
	case "secret", "psk":
		return ike.PSK, nil
	case "rsasig",
		"ecdsa",
		"rsa",
		"rsa-sha1",
		"rsa-sha2",
		"rsa-sha2_256",
		"rsa-sha2_384",
		"rsa-sha2_512",
		"ecdsa-sha1",
		"ecdsa-sha2",
		"ecdsa-sha2_256",
		"ecdsa-sha2_384",
		"ecdsa-sha2_512",
		"secret|rsasig",
		"rsasig|secret",
		"never":
		return ike.Certificate, nil
	case "eaponly":
		return ike.EAP, nil
	case "null":
		return ike.AnyMethod, nil
	}
	return 0, fmt.Errorf("%q is not a known method of authentication", t)
}

// identity reads leftid: @name, @[key id], @#hex, user@name, a distinguished name, an address, a name.
func identity(t string, noID ike.Identity) ike.Identity {
	switch {
	case t == "%fromcert" || t == "%any" || t == "%myid" || t == "%none":
		return noID
	case strings.HasPrefix(t, "@[") && strings.HasSuffix(t, "]"):
		return ike.Identity{Kind: ike.IDKey, Value: t[2 : len(t)-1]}
	case strings.HasPrefix(t, "@#"):
		return ike.Identity{Kind: ike.IDKey, Value: "#" + strings.ToLower(t[2:])}
	case strings.HasPrefix(t, "@@"):
		return ike.Identity{Kind: ike.IDMail, Value: strings.ToLower(t[2:])}
	case strings.HasPrefix(t, "@"):
		return ike.FQDN(t[1:])
	case strings.Contains(t, "="):
		return ike.DN(t)
	case strings.Contains(t, "@"):
		return ike.Identity{Kind: ike.IDMail, Value: strings.ToLower(t)}
	}
	if h := literal.Host(t); h.Name == "" && !h.Any {
		return ike.Addr(h.Lo)
	}
	return ike.FQDN(t)
}
