// Package model is the neutral picture of a firewall or router: what it is told about its IPsec peers, its packet
// filter, its addresses and routes, whatever the format that said so. Every value knows its origin.
package model

import (
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"toril/ike"
	"toril/packet"
	"toril/source"
)

// Gateway is one firewall or router, whatever number of files describe it.
type Gateway struct {
	Name        string
	Number      int       // in its estate
	Day         time.Time // for which its certificates are judged; zero: they hold whatever the day
	Files       []*File
	LeftOut     []LeftOut // files that were not read
	Refused     []Refusal // mistakes for which a program takes nothing of its configuration
	Connections []*Connection
	Unloaded    []*Connection // written in full, and never loaded by the daemon
	Keys        []*Key
	Certs       []*Certificate
	Revocations []*Revocations
	Authorized  []string     // files of further authorities that are trusted, as configured
	Fetches     bool         // lists of revoked certificates, or answers about one, are fetched, as configured
	PublicKeys  []*PublicKey // those that lie beside the configuration without a certificate
	PrivateKeys []source.Pos // private keys that lie beside the configuration
	Sets        []*NamedSet  // of its packet filter, where they are saved apart from the rules
	Chains      []*Chain     // of its packet filter, in the order of the files
	Interfaces  []*Interface
	Routes      []*Route
	RouteRules  []*RouteRule
	Protocols   []*RoutingProtocol
	Definitions []*Definition
	Problems    []*source.Error // what could not be read, and where
	Options     Options
	Order       Order
	Versions    []Version // of its daemons, where something says them
	Observed    Observed

	Told Told // how much of it the files tell

	open  []open // doubts about all that is told of some topics
	index index
}

// Options are properties of a gateway's IKE daemon as a whole; the zero value is the daemon's default.
type Options struct {
	InitiatorDecides  Setting[bool] // as responder it follows the initiator's order of proposals, not its own
	NoRoutes          Setting[bool] // it adds no route for remote networks
	ReplayWindow      Setting[int]  // packets, for children that do not say; 0 and a default: not said
	PrivateAlgorithms Setting[bool] // of the numbers for private use it sends and takes algorithms, whoever its peer is
	ShowsVendor       Setting[bool] // it tells its peer its vendor ID, by which one of its make sends and takes those too
	AggressiveKeys    Setting[bool] // it answers aggressive mode with a pre-shared key
	NoReuse           Setting[bool] // a further child gets an IKE SA of its own
}

// Order is the order in which a gateway works on a packet; the zero value is that of Linux: destination translation, route, access rules,
// source translation, and then the tunnel, chosen by what the translations made of the packet.
type Order struct {
	AccessFirst bool // access rules are asked about packets as they came in, before their destination was translated
	TunnelFirst bool // the tunnel is chosen before the source is translated: what a tunnel takes is not translated
}

// Version is the version of a daemon, where something says it.
type Version struct {
	Software string // "strongSwan"
	Number   string // "5.9.8"
	On       string // the system that it runs on, where that makes a difference and is told: "Linux"
	At       source.Pos
}

// VersionOf returns the version of a daemon, as the first that says it does; "" where nothing does.
func (g *Gateway) VersionOf(software string) string {
	for _, v := range g.Versions {
		if v.Software == software {
			return v.Number
		}
	}
	return ""
}

// SystemOf returns the system that a daemon runs on, as the first that says so does; "" where nothing does.
func (g *Gateway) SystemOf(software string) string {
	for _, v := range g.Versions {
		if v.Software == software && v.On != "" {
			return v.On
		}
	}
	return ""
}

// File is one saved file as a reader has read it.
type File struct {
	*source.File
	Format     string
	Why        string // why it was taken for that format
	Statements int    // statements read
	Unread     []Unread
	Within     string // the file that includes this one; "" for none
	Omissions  []Omission
}

// Omission is something that a file says it leaves out.
type Omission struct {
	About      Topic
	Connection string // that it belongs to; "" for the gateway as a whole
	What       string // for people
}

// Shunts reports whether the child protects nothing by intent: it lets packets pass, or drops them.
func (k *Child) Shunts() bool { return k.Mode.Value == ike.Pass || k.Mode.Value == ike.Drop }

// Refusal is a mistake for which a program takes nothing of its configuration.
type Refusal struct {
	*source.Error
	Format string // of the file
	What   string // is not loaded: "nothing of swanctl.conf", "table filter"
}

// RefusedOf returns the first mistake for which a program takes nothing of its configuration in a format; nil for none.
func (g *Gateway) RefusedOf(format string) *source.Error {
	for _, r := range g.Refused {
		if r.Format == format {
			return r.Error
		}
	}
	return nil
}

// File returns a file of the gateway's by its shown path; nil where there is none.
func (g *Gateway) File(path string) *File {
	g.index.filesOnce.Do(func() {
		g.index.files = make(map[string]*File, len(g.Files))
		for _, f := range g.Files {
			g.index.files[f.Path] = f
		}
	})
	return g.index.files[path]
}

// Shows returns the identity that a connection shows its peer: what is configured, else the address that it sends from, or the
// subject of its certificate. ok is false where the files do not tell.
func (g *Gateway) Shows(c *Connection, own netip.Addr) (id ike.Identity, ok bool) {
	id = c.Local.ID.Value
	if id.Kind != ike.NoID {
		if certs := named(g.loaded(c), c.Local.Certificates.Value); c.Local.OrSubject && len(certs) > 0 &&
			!slices.ContainsFunc(certs, func(x *Certificate) bool { return x.Shows(id) }) {
			return certs[0].Subject, true
		}
		return id, id.Kind != ike.IDHost
	}
	if c.Local.Method.Value != ike.Certificate {
		return ike.Addr(own), own.IsValid()
	}
	for _, cert := range g.loaded(c) {
		if !cert.CA &&
			slices.ContainsFunc(c.Local.Certificates.Value, func(n string) bool { return path.Base(n) == path.Base(cert.At.File) }) {
			return cert.Subject, true
		}
	}
	return id, false
}

// Unusable marks the connections of every format of which its program refuses what it was given: it takes none of them.
func (g *Gateway) Unusable() {
	for _, r := range g.Refused {
		for _, c := range g.Connections {
			if f := g.File(c.At.File); c.Unusable == nil && f != nil && f.Format == r.Format {
				c.Unusable = r.Error
			}
		}
	}
}

// LeftOut is a file that was not read, and why.
type LeftOut struct{ Path, Why string }

// Unread is a statement that a reader did not understand.
type Unread struct {
	At    source.Pos
	Why   string
	Scope string // what it belongs to: a connection's name, a chain's; "" for the gateway as a whole
	Doubt *Doubt // nil where nothing that is asked depends on it
}

// Definition is something that a configuration gives a name, for use elsewhere in it.
type Definition struct {
	Kind string // "set", "chain", "connection", "proposal", ...
	Name string
	At   source.Pos
	Used []source.Pos
	// Again are the places that say the same name or value again with another content; the last one wins.
	Again []source.Pos
	// Missing is set where Used refers to a name that nothing defines; At is then nowhere.
	Missing bool
	Doubts  Doubts // whether it is unused, or missing
}

// Address is where an IKE peer is, or may be.
type Address struct {
	Text   string
	Any    bool       // %any: every address
	Lo, Hi netip.Addr // both included; the same for one address; invalid where Name is set
	Name   string     // a DNS name, not resolved
}

// Single returns the address where it is exactly one.
func (a Address) Single() (netip.Addr, bool) {
	return a.Lo, a.Lo.IsValid() && a.Lo == a.Hi
}

// Covers reports whether an address is meant by a.
func (a Address) Covers(b netip.Addr) bool {
	return a.Any || a.Lo.IsValid() && a.Lo.BitLen() == b.BitLen() && a.Lo.Compare(b) <= 0 && b.Compare(a.Hi) <= 0
}

// Addresses is a list of them, the first being the one that an initiator uses.
type Addresses []Address

// String returns the list as written, with commas between.
func (as Addresses) String() string {
	out := make([]string, len(as))
	for i, a := range as {
		out[i] = a.Text
	}
	return strings.Join(out, ", ")
}

// Any reports whether the list leaves the address open: %any, or nothing at all.
func (as Addresses) Any() bool {
	return len(as) == 0 || slices.ContainsFunc(as, func(a Address) bool { return a.Any })
}

// Fixed returns the single addresses of the list.
func (as Addresses) Fixed() []netip.Addr {
	var out []netip.Addr
	for _, a := range as {
		if one, ok := a.Single(); ok {
			out = append(out, one)
		}
	}
	return out
}

// Connection is what a gateway is told about one IKE peer.
type Connection struct {
	Name        string
	Number      int // in its gateway's list
	At          source.Pos
	Daemon      Daemon // the daemon whose semantics hold
	Version     Setting[ike.Version]
	Aggressive  Setting[bool]
	LocalAddrs  Setting[Addresses]
	RemoteAddrs Setting[Addresses]
	LocalPort   Setting[int]
	RemotePort  Setting[int]
	Proposals   Setting[[]ike.Proposal]
	Accepts     []ike.Proposal // what a responder takes, where that is more than the proposals; nil: those
	Local       Party
	Remote      Party
	Rekey       Setting[time.Duration] // 0: the IKE SA is not rekeyed
	Reauth      Setting[time.Duration] // 0: it is not reauthenticated
	Over        Setting[time.Duration] // how long after rekey or reauthentication time it is closed; 0: never
	Random      Setting[time.Duration] // rekeying comes up to this much earlier
	DPD         Setting[time.Duration] // interval of the liveness check; 0: none
	DPDTimeout  Setting[time.Duration] // IKEv1 only
	Encap       Setting[bool]          // ESP in UDP, NAT or not
	NoEncap     bool                   // what Encap says is that ESP is never in UDP, NAT or not
	MOBIKE      Setting[bool]
	Childless   Setting[string] // "allow", "prefer", "force" or "never" (RFC 6023)
	PPK         Setting[bool]   // a post-quantum pre-shared key is set (RFC 8784)
	PPKRequired Setting[bool]
	SendCert    Setting[string] // when the own certificate is sent: one of the values below; "" where that is not known
	AskCert     Setting[bool]   // it asks for the peer's certificate
	AsksKeys    string          // the type of public keys that it asks for too, "RSA" or "ECDSA"
	IfIDIn      Setting[uint32]
	IfIDOut     Setting[uint32]
	Tries       Setting[int]           // attempts to set it up; 0: for ever
	Spans       []Span                 // the times that are configured, as they are written
	Margin      Setting[time.Duration] // how long before its end the IKE SA is renewed, where that is what is configured
	Joins       bool                   // the daemon looks for a child in all connections with the same peer, not in this one alone
	Turn        int                    // as a responder the daemon takes the connection with the highest that fits; 0: it goes by other rules
	NeverAsked  bool                   // as a responder it leaves this one out
	Doubts      Doubts                 // what of it was not understood: what looks unsaid may have been said
	Unusable    *source.Error          // the daemon would refuse the connection as a whole, and why
	Parts       Parts                  // where parts of the proposals are configured, if by statements of their own
	Children    []*Child
	More        map[string]Setting[string] // further settings, as written, by their names in model/settings
}

// When a certificate is sent.
const (
	SentAlways    = "always"
	SentWhenAsked = "when one is asked for"
	SentWhenNamed = "when one of its authority is asked for" // RFC 7296 section 3.7: a request may name none
	SentNever     = "never"
)

// Parts are the places of parts of proposals, by the type of transform.
type Parts map[ike.Registry]source.Pos

// Party is one side's authentication, as this gateway is told.
type Party struct {
	Method       Setting[ike.Method]
	ID           Setting[ike.Identity]
	Written      string            // the identity as it is written: where it is a distinguished name, its letters keep their case
	Certificates Setting[[]string] // files, as written
	CAs          Setting[[]string]
	Signatures   ike.Signatures // how it is signed, or may be; Method says where that is configured
	First        ike.Signatures // those with the hash that is taken where the peer knows it
	Otherwise    ike.Signatures // how the own one is, where the peer knows no hash of those
	Chain        ike.Signatures // how its certificate, and those of the authorities above it, may be signed
	Strict       bool           // its certificate, and those above it, must be known not to be revoked
	Partial      bool           // its certificate may lead to an intermediate authority alone
	Keyed        bool           // its public key is configured: it needs no certificate
	PublicKeys   []*PublicKey   // those keys, where the configuration has them itself
	KeyFiles     []string       // or the files that have them, as written
	// KeyedElsewhere: a public key of the party is in the daemon's store, or is written in a way that Toril does not read.
	KeyedElsewhere bool
	Loose          bool // its certificate need not name its identity
	OrSubject      bool // of the own party: it shows the subject of its certificate where that does not name its identity
}

// Named is the identity as a configuration would write it: as it is written, where that is a distinguished name; "" for none.
func (p *Party) Named() string {
	switch id := p.ID.Value; {
	case id.Kind == ike.NoID:
		return ""
	case id.Kind == ike.IDDN && p.Written != "":
		return p.Written
	default:
		return id.String()
	}
}

// SamePeer reports whether two connections are for the same peer, as a daemon that joins them sees it.
func (c *Connection) SamePeer(d *Connection) bool {
	return c.Version.Value == d.Version.Value && c.LocalAddrs.Value.String() == d.LocalAddrs.Value.String() &&
		c.RemoteAddrs.Value.String() == d.RemoteAddrs.Value.String() &&
		c.Local.ID.Value == d.Local.ID.Value &&
		c.Remote.ID.Value == d.Remote.ID.Value &&
		c.Local.Method.Value == d.Local.Method.Value &&
		c.Remote.Method.Value == d.Remote.Method.Value
}

// AlikeSA reports whether two connections for the same peer are alike in every setting of the IKE SA: its times, what it proposes, how it
// is kept up and how it authenticates.
func (c *Connection) AlikeSA(d *Connection) bool {
	times := func(c *Connection) [6]time.Duration {
		return [6]time.Duration{c.Rekey.Value, c.Reauth.Value, c.Random.Value, c.Over.Value, c.DPD.Value, c.DPDTimeout.Value}
	}
	flags := func(c *Connection) [6]bool {
		return [6]bool{c.Aggressive.Value, c.Encap.Value, c.MOBIKE.Value, c.PPK.Value, c.PPKRequired.Value, c.AskCert.Value}
	}
	party := func(p, q *Party) bool {
		return slices.Equal(p.Certificates.Value, q.Certificates.Value) && slices.Equal(p.CAs.Value, q.CAs.Value) &&
			p.Signatures == q.Signatures
	}
	return times(c) == times(d) && flags(c) == flags(d) && c.Tries.Value == d.Tries.Value && c.SendCert.Value == d.SendCert.Value &&
		c.Childless.Value == d.Childless.Value && c.More["fragmentation"].Value == d.More["fragmentation"].Value &&
		slices.EqualFunc(c.Proposals.Value, d.Proposals.Value, ike.Proposal.Equal) && party(&c.Local, &d.Local) &&
		party(&c.Remote, &d.Remote)
}

// Hard returns the time after which the IKE SA is closed if nothing renewed it; 0 where it never is.
func (c *Connection) Hard() time.Duration {
	longest := c.Lifetime()
	if longest == 0 {
		return 0
	}
	return longest + c.Over.Value
}

// Lifetime returns the time after which the IKE SA is rekeyed or reauthenticated, whichever comes first; 0: neither.
func (c *Connection) Lifetime() time.Duration {
	switch {
	case c.Rekey.Value == 0:
		return c.Reauth.Value
	case c.Reauth.Value == 0:
		return c.Rekey.Value
	}
	return min(c.Rekey.Value, c.Reauth.Value)
}

// LifetimeSetting returns the setting that Lifetime comes from.
func (c *Connection) LifetimeSetting() Setting[time.Duration] {
	if c.Rekey.Value == 0 && (c.Reauth.Value > 0 || c.Rekey.IsDefault()) || c.Reauth.Value > 0 && c.Reauth.Value < c.Rekey.Value {
		return c.Reauth
	}
	return c.Rekey
}

// Span is a time as it is written, of a lifetime or its like.
type Span struct {
	Setting[time.Duration]
	Name string // the keyword
}

// Start is what sets a child up.
type Start uint8

// The ways.
const (
	StartNever   Start = iota // it waits for the peer, or for an administrator
	StartTraffic              // the first packet for it
	StartBoot                 // loading the configuration
	StartBoth                 // loading the configuration, and again the first packet
)

// String says it in the words of the report.
func (s Start) String() string {
	return [...]string{"waits for the peer", "by traffic", "at start", "at start and by traffic"}[s]
}

// Traps reports whether a policy catches the child's packets while it is down.
func (s Start) Traps() bool { return s == StartTraffic || s == StartBoth }

// Child is what a gateway is told about one child SA.
type Child struct {
	Name         string
	At           source.Pos
	Protocol     Setting[ike.Protocol]
	Proposals    Setting[[]ike.Proposal]
	Local        Setting[ike.Selectors]
	Remote       Setting[ike.Selectors]
	Accepts      []ike.Proposal // what a responder takes, where that is more than the proposals; nil: those
	Lacks        ike.Choices    // algorithms that Linux does not take from the daemon: a child that agrees on one is not installed there
	OnLinux      bool           // and it is told that the daemon runs there
	Mode         Setting[ike.Mode]
	Whole        Setting[bool] // its selectors are taken as they are, or not at all: no narrowing (RFC 7296 section 2.9)
	Start        Setting[Start]
	CloseAction  Setting[Start]
	DPDAction    Setting[string]
	Rekey        Setting[time.Duration] // 0: not rekeyed by time
	Life         Setting[time.Duration] // hard limit; 0: none
	Random       Setting[time.Duration] // rekeying comes up to this much earlier
	Spans        []Span                 // the times that are configured, as they are written
	Margin       Setting[time.Duration] // how long before its end the child is renewed, where that is what is configured
	PFS          Setting[bool]          // where a statement of its own turns perfect forward secrecy on or off, beside the proposals
	RekeyBytes   Setting[uint64]
	LifeBytes    Setting[uint64]
	RekeyPackets Setting[uint64]
	LifePackets  Setting[uint64]
	ReplayWindow Setting[int] // packets; 0: off
	IPComp       Setting[bool]
	Cut96        Setting[bool] // HMAC-SHA2-256 is cut to 96 bits, whatever was negotiated
	Policies     Setting[bool] // policies are installed in the kernel
	ForwardOut   Setting[bool]
	IfIDIn       Setting[uint32]
	IfIDOut      Setting[uint32]
	MarkIn       Setting[string]
	MarkOut      Setting[string]
	Inactivity   Setting[time.Duration]
	Opens        Setting[bool]              // a script of the daemon's adds rules for iptables that accept what the child forwards, while it is up
	OpensHost    Setting[bool]              // and what is for the gateway itself
	Pool         ike.Selectors              // the addresses that the gateway gives its peers, where it does
	Script       Setting[string]            // another script that runs as the child comes up: what it does is not known
	Doubts       Doubts                     // what of it was not understood, beside what its connection has
	Parts        Parts                      // as of a connection
	HostToHost   bool                       // the selectors are the IKE addresses
	More         map[string]Setting[string] // further settings, as written, by their names in model/settings
}

// Takes returns what a responder takes.
func (c *Connection) Takes() []ike.Proposal {
	if c.Accepts != nil {
		return c.Accepts
	}
	return c.Proposals.Value
}

// Takes returns what a responder takes.
func (c *Child) Takes() []ike.Proposal {
	if c.Accepts != nil {
		return c.Accepts
	}
	return c.Proposals.Value
}

// RouteBased reports whether the child's packets are chosen by an interface or a mark, and not by its selectors alone.
func (c *Child) RouteBased() bool {
	_, _, marked := c.Marked()
	return c.IfIDOut.Value != 0 || marked
}

// Marked returns the mark that packets on their way out must have to be the child's: mark&mask is value. ok is false where
// the child asks for none. Where the daemon makes a mark up as it starts, mask is 0.
func (c *Child) Marked() (value, mask uint32, ok bool) { return parseMark(c.MarkOut.Value) }

// MarkedIn returns, as Marked does, the mark that is asked for on the way in.
func (c *Child) MarkedIn() (value, mask uint32, ok bool) { return parseMark(c.MarkIn.Value) }

// parseMark reads "value" or "value/mask", decimal or hexadecimal, or a word like "%unique".
func parseMark(s string) (value, mask uint32, ok bool) {
	if s == "" {
		return 0, 0, false
	}
	if strings.HasPrefix(s, "%") {
		return 0, 0, true
	}
	v, m, masked := strings.Cut(s, "/")
	n, err := strconv.ParseUint(v, 0, 32)
	if err != nil {
		return 0, 0, false
	}
	k := uint64(1<<32 - 1)
	if masked {
		if k, err = strconv.ParseUint(m, 0, 32); err != nil {
			return 0, 0, false
		}
	}
	return uint32(n), uint32(k), n != 0 || masked && k != 0
}

// Domain returns the packets that the child protects on their way out: local to remote, of the selectors' protocols and
// ports. own and peer stand for dynamic selectors, which mean the IKE addresses.
func (c *Child) Domain(own, peer netip.Addr) packet.Set {
	return ike.Domain(c.Local.Value, c.RemoteAt(peer), own, peer)
}

// RemoteAt returns the remote selectors as the peer's address makes them. Where that is not known, a dynamic one stands for the addresses
// that the gateway gives its peers.
func (c *Child) RemoteAt(peer netip.Addr) ike.Selectors {
	if len(c.Pool) > 0 && !peer.IsValid() && c.Remote.Value.Dynamic() {
		return c.Pool
	}
	return c.Remote.Value.At(peer)
}

// Interface is a network interface.
type Interface struct {
	Name      string
	At        source.Pos
	Addresses []netip.Prefix // with the host part
	Kind      string         // "", "loopback", "dummy", "vlan", "bridge", "xfrm", "vti", "gre", ...
	IfID      uint32         // xfrm
	Key       uint32         // vti, gre: the mark or key of what goes out
	KeyIn     uint32         // and of what comes in
	Local     netip.Addr     // vti, gre: outer addresses
	Remote    netip.Addr
	Parent    string
	Down      bool
	Dynamic   bool         // gets its address by DHCP or the like
	MTU       Setting[int] // in bytes; 0 where it is not told
	Doubts    Doubts       // what was not understood of it
}

// Wraps returns the protocol number in which an interface wraps the packets that are routed to it, in the clear as far as
// the interface itself goes: GRE (47), or IP in IP (4, 41). ok is false for an interface that does not.
func (i *Interface) Wraps() (proto uint64, ok bool) {
	switch i.Kind {
	case "gre", "gretap", "ip6gre":
		return 47, true
	case "ipip":
		return 4, true
	case "sit", "ip6tnl":
		return 41, true
	}
	return 0, false
}

// Tunnel reports whether the interface leads into a tunnel: of IPsec, or one that IPsec may protect.
func (i *Interface) Tunnel() bool {
	_, wraps := i.Wraps()
	return wraps || i.Kind == "xfrm" || i.Kind == "vti"
}

// Route is an entry of a routing table.
type Route struct {
	At     source.Pos
	To     netip.Prefix
	Via    netip.Addr // invalid where there is none
	Dev    string
	Kind   string // "unicast", "blackhole", "unreachable", "prohibit", "throw", "local"
	Table  string // "main" unless said
	Metric int
	Src    netip.Addr
	Origin string // "static", "connected", or the routing protocol that carries it
	Doubts Doubts // what was not understood of it: packets to its network may go another way
}

// UnreadRoute is the kind of a route of which only the network was understood: it leads nowhere that is known.
const UnreadRoute = "unread"

// RouteRule chooses a routing table.
type RouteRule struct {
	At       source.Pos
	Priority int
	When     packet.Set
	Table    string
	Kind     string // "lookup", "blackhole", "unreachable", "prohibit"
	Doubts   Doubts // conditions that are not modelled, or were not understood: it chooses for some of When
}
