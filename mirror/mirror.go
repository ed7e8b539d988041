// Package mirror turns one end of a tunnel round: it makes the far end's connection from what the known end is told, to be shown by the
// table of settings or written as a configuration. No key is part of it.
package mirror

import (
	"fmt"
	"net/netip"
	"strings"

	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/pair"
)

// Sheet is what the far end must set. Values that the known end leaves open are said to be open.
type Sheet struct {
	For  pair.End          // the end that the sheet was made from
	Far  *model.Connection // the far end's, as far as the known end says it
	Open []string          // what must still be settled between the two

	own, peer netip.Addr // the far end's own address and its peer's; invalid where they are not known
}

// Line is a setting of the far end.
type Line struct {
	Setting *settings.Row
	Name    string // for people
	Text    string // in words that no daemon's are; "" where it is open
	Value   any
}

// Of makes the sheet for the far end of a connection.
func Of(t *pair.Tunnel, e pair.End) Sheet {
	c := e.Connection
	own, peer := t.Own(e), t.Peer(e)
	s := Sheet{For: e, own: peer, peer: own}
	far := *c
	far.Children = nil
	far.LocalAddrs, far.RemoteAddrs = just(peer), just(own)
	far.LocalPort, far.RemotePort = c.RemotePort, c.LocalPort
	far.Local, far.Remote = model.Party{ID: c.Remote.ID, Written: c.Remote.Written, Method: c.Remote.Method},
		model.Party{ID: c.Local.ID, Written: c.Local.Written, Method: c.Local.Method}
	if far.Version.Value == ike.Either {
		far.Version.Value = ike.V2
	}
	if !own.IsValid() {
		s.open("the address of %s: it is not in its configuration", e.Gateway.Name)
	}
	if !peer.IsValid() {
		s.open("the far end's own address: %s accepts %s", e.Gateway.Name, c.RemoteAddrs.Value)
	}
	switch c.Local.ID.Value.Kind {
	case ike.IDHost:
		far.Remote.ID.Value = ike.Identity{Kind: ike.NoID}
		s.open("the identity of %s is %s: it is not in its configuration", e.Gateway.Name, c.Local.ID.Value)
	case ike.NoID:
		far.Remote.ID.Value = identity(own)
		s.open("the identity of %s is not written down: its address stands for it", e.Gateway.Name)
	}
	if id := c.Remote.ID.Value; id.Wild() || id.Kind == ike.NoID {
		far.Local.ID.Value = identity(peer)
		s.open("the far end's own identity: %s accepts %s", e.Gateway.Name, id)
	}
	if c.Remote.Method.Value != ike.AnyMethod && c.Remote.Method.Value != c.Local.Method.Value {
		s.open("%s authenticates with %s and expects %s from its peer", e.Gateway.Name, c.Local.Method.Value, c.Remote.Method.Value)
	}
	if far.Local.Method.Value == ike.AnyMethod {
		far.Local.Method.Value = c.Local.Method.Value
	}
	if c.Local.Method.Value == ike.PSK {
		s.open("the pre-shared key: hand it over by another way than this sheet")
	}
	for _, k := range c.Children {
		if !k.Shunts() {
			far.Children = append(far.Children, s.child(k))
		}
	}
	s.Far = &far
	return s
}

// child turns a child round. How the far end starts it is its own matter: it waits for packets.
func (s *Sheet) child(k *model.Child) *model.Child {
	name := s.For.Gateway.Name
	switch {
	case k.RouteBased():
		s.open("child %s is chosen by routes: an interface for it, and routes by that to the networks behind %s", k.Name, name)
	case k.Mode.Value == ike.Transport:
		s.open(
			"child %s protects packets between the two gateways themselves: what they carry, as GRE, needs an interface and routes "+
				"of its own",
			k.Name,
		)
	}
	out := *k
	out.Local, out.Remote = k.Remote, k.Local
	out.Start = model.Setting[model.Start]{Value: model.StartTraffic}
	return &out
}

// Lines are the far end's settings, by the table; of a child, where one is given.
func (s Sheet) Lines(k *model.Child, table []*settings.Row) []Line {
	var out []Line
	at := settings.Subject{Connection: s.Far, Child: k}
	for _, r := range table {
		if r.Of == settings.OfChild != (k != nil) || !binding(r) || !r.Told(at) {
			continue
		}
		v, ok := r.Get(at)
		if !ok {
			continue
		}
		switch value := v.Value.(type) {
		case model.Addresses:
			if len(value) == 0 {
				v.Plain = ""
			}
		case ike.Identity:
			if value.Kind == ike.NoID {
				v.Plain = ""
			}
		case ike.Selectors:
			whose, addr := "its own address", s.own
			if r == settings.PeerNetworks.Row {
				whose, addr = "the peer's address", s.peer
			}
			spelt := spell(value.At(addr), whose)
			v.Plain, v.Value = strings.Join(spelt, ", "), spelt
		}
		out = append(out, Line{r, r.Label(at), v.Plain, v.Value})
	}
	return out
}

// binding reports whether a setting is the far end's business: what both must agree on, and the check that each makes of the other.
func binding(r *settings.Row) bool {
	return !r.Derived && (r.Relation != settings.Own || r == settings.Liveness.Row)
}

func (s *Sheet) open(format string, args ...any) {
	s.Open = append(s.Open, fmt.Sprintf(format, args...))
}

// just is the one address that is known; no address where none is.
func just(a netip.Addr) model.Setting[model.Addresses] {
	if !a.IsValid() {
		return model.Setting[model.Addresses]{}
	}
	return model.Setting[model.Addresses]{Value: model.Addresses{{Text: a.String(), Lo: a, Hi: a}}}
}

// identity is an address as identity; none where it is not known.
func identity(a netip.Addr) ike.Identity {
	if !a.IsValid() {
		return ike.Identity{Kind: ike.NoID}
	}
	return ike.Addr(a)
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
var Writers = map[string]func(Sheet) (string, error){"swanctl": Swanctl}
