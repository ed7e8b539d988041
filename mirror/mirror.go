// Package mirror turns one end of a tunnel round: it says what the administrator of the far end must set so that both
// agree. No key is part of it.
package mirror

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"toril/daemon/strongswan"
	"toril/estate"
	"toril/ike"
	"toril/model"
)

// Sheet is what the far end must set. Values that the known end leaves open are said to be open.
type Sheet struct {
	For        string // the gateway that the sheet was made from
	Connection string
	Version    ike.Version
	Own        string // the far end's own address: what the known end expects
	Peer       string // the known end's address
	OwnID      string
	PeerID     string
	Method     ike.Method
	Aggressive bool
	Proposals  []ike.Proposal
	IKELife    time.Duration
	DPD        time.Duration
	Encap      bool
	Children   []Child
	Open       []string // what must still be settled between the two
}

// Child is one child of a Sheet.
type Child struct {
	Name      string
	Protocol  ike.Protocol
	Local     []string // networks behind the far end
	Remote    []string
	Proposals []ike.Proposal
	Groups    ike.Choices // for PFS
	Mode      ike.Mode
	Life      time.Duration
	Bytes     uint64
	Cut96     bool
}

// Of makes the sheet for the far end of a connection.
func Of(t *estate.Tunnel, e estate.End) Sheet {
	c := e.Connection
	own, peer := t.Own(e), t.Peer(e)
	s := Sheet{For: e.Gateway.Name, Connection: c.Name, Version: c.Version.Value, Aggressive: c.Aggressive.Value, Method: c.Local.Method.Value, Proposals: c.Proposals.Value, IKELife: c.Lifetime(),
		DPD: c.DPD.Value, Encap: c.Encap.Value}
	if s.Version == ike.Either {
		s.Version = ike.V2
	}
	s.Peer, s.Own = address(own), address(peer)
	if s.Peer == "" {
		s.open("the address of %s: it is not in its configuration", e.Gateway.Name)
	}
	if s.Own == "" {
		s.open("the far end's own address: %s accepts %s", e.Gateway.Name, c.RemoteAddrs.Value)
	}
	s.PeerID = c.Local.ID.Value.String()
	if c.Local.ID.Value.Kind == ike.NoID {
		s.PeerID = address(own)
		s.open("the identity of %s is not written down: its address stands for it", e.Gateway.Name)
	}
	switch id := c.Remote.ID.Value; {
	case id.Wild() || id.Kind == ike.NoID:
		s.OwnID = address(peer)
		s.open("the far end's own identity: %s accepts %s", e.Gateway.Name, id)
	default:
		s.OwnID = id.String()
	}
	if c.Remote.Method.Value != ike.AnyMethod && c.Remote.Method.Value != c.Local.Method.Value {
		s.open("%s authenticates with %s and expects %s from its peer", e.Gateway.Name, c.Local.Method.Value, c.Remote.Method.Value)
	}
	if s.Method == ike.PSK {
		s.open("the pre-shared key: hand it over by another way than this sheet")
	}
	for _, k := range c.Children {
		if k.Mode.Value == ike.Pass || k.Mode.Value == ike.Drop {
			continue
		}
		switch {
		case k.IfIDOut.Value != 0 || k.MarkOut.Value != "":
			s.open("child %s is chosen by routes: an interface for it, and routes by that to the networks behind %s", k.Name, e.Gateway.Name)
		case k.Mode.Value == ike.Transport:
			s.open("child %s protects packets between the two gateways themselves: what they carry, as GRE, needs an interface and routes of its own", k.Name)
		}
		s.Children = append(s.Children, Child{Name: k.Name, Protocol: k.Protocol.Value, Local: spell(k.Remote.Value.At(peer), "its own address"), Remote: spell(k.Local.Value.At(own), "the peer's address"), Proposals: k.Proposals.Value,
			Groups: ike.All(k.Proposals.Value, ike.KeyExchange), Mode: k.Mode.Value, Life: k.Rekey.Value, Bytes: k.RekeyBytes.Value, Cut96: k.Cut96.Value})
	}
	return s
}

func (s *Sheet) open(format string, args ...any) {
	s.Open = append(s.Open, fmt.Sprintf(format, args...))
}

func address(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

// spell writes selectors; an address of a gateway's own that is not known in words.
func spell(ss ike.Selectors, whose string) []string {
	var out []string
	for _, s := range ss {
		text := s.String()
		if s.Dynamic {
			text = strings.Replace(text, s.Addresses(), whose, 1)
		}
		out = append(out, text)
	}
	return out
}

// Writers are the formats in which a sheet can be written as a configuration, by name.
var Writers = map[string]func(t *estate.Tunnel, e estate.End) (string, error){"swanctl": Swanctl}

// Swanctl writes the far end of a connection as a swanctl.conf. Read back, it agrees with the end that it was made from.
// The pre-shared key is left for people to fill in.
func Swanctl(t *estate.Tunnel, e estate.End) (string, error) {
	s := Of(t, e)
	c := e.Connection
	if s.Own == "" && s.Peer == "" {
		return "", fmt.Errorf("%s names neither its own nor its peer's address; there is nothing to mirror", e.Name())
	}
	w := &writer{}
	w.line("# far end of %s; made by toril mirror", e.Name())
	for _, o := range s.Open {
		w.line("# to settle: %s", o)
	}
	w.open("connections")
	w.open(section(e.Gateway.Name))
	w.set("version", fmt.Sprint(uint8(s.Version)))
	w.set("local_addrs", s.Own)
	w.set("remote_addrs", s.Peer)
	proposals, err := written(s.Proposals)
	if err != nil {
		return "", err
	}
	w.set("proposals", proposals)
	if s.Aggressive {
		w.set("aggressive", "yes")
	}
	if c.Rekey.Value > 0 {
		w.set("rekey_time", seconds(c.Rekey.Value))
	}
	if c.Reauth.Value > 0 {
		w.set("reauth_time", seconds(c.Reauth.Value))
	}
	if s.DPD > 0 {
		w.set("dpd_delay", seconds(s.DPD))
	}
	if s.Encap {
		w.set("encap", "yes")
	}
	auth := map[ike.Method]string{ike.PSK: "psk", ike.Certificate: "pubkey"}
	w.open("local")
	w.set("auth", auth[pick(c.Remote.Method.Value, s.Method)])
	w.set("id", s.OwnID)
	w.close()
	w.open("remote")
	w.set("auth", auth[s.Method])
	w.set("id", s.PeerID)
	w.close()
	w.open("children")
	for _, k := range c.Children {
		if k.Mode.Value == ike.Pass || k.Mode.Value == ike.Drop {
			continue
		}
		if err := w.child(k); err != nil {
			return "", err
		}
	}
	w.close()
	w.close()
	w.close()
	if s.Method == ike.PSK {
		w.open("secrets")
		w.open("ike-" + section(e.Gateway.Name))
		w.set("id-own", s.OwnID)
		w.set("id-peer", s.PeerID)
		w.line("# secret = (the key of %s, handed over by another way)", e.Gateway.Name)
		w.close()
		w.close()
	}
	return w.b.String(), nil
}

func pick(m, otherwise ike.Method) ike.Method {
	if m == ike.AnyMethod {
		return otherwise
	}
	return m
}

// section makes a name that may stand for a section.
func section(name string) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(" \t.{}#:=\"'\\/,", r) || r < ' ' {
			return '-'
		}
		return r
	}, name)
}

func seconds(d time.Duration) string { return fmt.Sprintf("%d", int(d.Seconds())) }

type writer struct {
	b      strings.Builder
	indent string
}

func (w *writer) line(format string, args ...any) {
	w.b.WriteString(w.indent + strings.NewReplacer("\n", " ", "\r", " ").Replace(fmt.Sprintf(format, args...)) + "\n")
}

func (w *writer) open(name string) {
	w.line("%s {", name)
	w.indent += "  "
}

func (w *writer) close() {
	w.indent = w.indent[2:]
	w.line("}")
}

// set writes a value, in quotation marks where it needs them; none where it is empty.
func (w *writer) set(key, value string) {
	switch {
	case value == "":
	case strings.ContainsAny(value, " #{}\"="):
		w.line("%s = \"%s\"", key, strings.ReplaceAll(value, `"`, `\"`))
	default:
		w.line("%s = %s", key, value)
	}
}

func (w *writer) child(k *model.Child) error {
	w.open(section(k.Name))
	proposals, err := written(k.Proposals.Value)
	if err != nil {
		return fmt.Errorf("child %s: %w", k.Name, err)
	}
	w.set(map[bool]string{true: "ah_proposals", false: "esp_proposals"}[k.Protocol.Value == ike.AH], proposals)
	w.set("local_ts", selectors(k.Remote.Value))
	w.set("remote_ts", selectors(k.Local.Value))
	if k.Mode.Value != ike.Tunnel {
		w.set("mode", k.Mode.Value.String())
	}
	w.set("rekey_time", seconds(k.Rekey.Value))
	if k.RekeyBytes.Value > 0 {
		w.set("rekey_bytes", fmt.Sprint(k.RekeyBytes.Value))
	}
	if k.Cut96.Value {
		w.set("sha256_96", "yes")
	}
	if id := k.IfIDOut.Value; id != 0 {
		w.set("if_id_in", fmt.Sprint(id))
		w.set("if_id_out", fmt.Sprint(id))
	}
	if mark := k.MarkOut.Value; mark != "" {
		w.set("mark_in", mark)
		w.set("mark_out", mark)
	}
	w.set("start_action", "trap")
	w.close()
	return nil
}

// selectors writes traffic selectors as swanctl.conf does.
func selectors(ss ike.Selectors) string {
	var out []string
	for _, s := range ss {
		text := "dynamic"
		if !s.Dynamic {
			text = s.Lo.String() + "-" + s.Hi.String()
			if a := s.Addresses(); !strings.Contains(a, "-") {
				text = a
			}
		}
		switch {
		case s.Proto == 0 && s.AllPorts():
		case s.AllPorts():
			text += fmt.Sprintf("[%d]", s.Proto)
		case s.LoPort == s.HiPort:
			text += fmt.Sprintf("[%s/%d]", proto(s.Proto), s.LoPort)
		default:
			text += fmt.Sprintf("[%s/%d-%d]", proto(s.Proto), s.LoPort, s.HiPort)
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

func proto(n uint8) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

// written writes proposals with the daemon's keywords.
func written(ps []ike.Proposal) (string, error) {
	var out []string
	for _, p := range ps {
		text, err := strongswan.Write(p)
		if err != nil {
			return "", err
		}
		if !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	return strings.Join(out, ", "), nil
}
