package phrasebook

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"toril/internal/strictyaml"
	"toril/model"
	"toril/model/literal"
	"toril/packet"
	"toril/source"
)

// fact is what a statement says of a gateway beside its settings, or a part of that: of an interface, a route, a rule.
type fact struct {
	what  string
	slots map[string][]*Slot // by the parts of it
	says  map[string]any     // what the phrasebook itself says of parts
}

// part is a part of a fact.
type part struct {
	types []string                  // of slots that may be it
	must  bool                      // there is none without it
	says  func(string) (any, error) // reads what the phrasebook itself says of it; nil: only a slot can
	about string                    // for the reference
}

// places are the types of slots for networks.
var places = []string{"network", "address", "prefix", "address-mask", "address-wildcard", "address-range", networks}

// devices are the types of slots for interfaces.
var devices = []string{"word", "interface", interfaces}

func words(t string) (any, error)         { return t, nil }
func saysFlag(t string) (any, error)      { return choice(flags, t) }
func saysNumber(t string) (any, error)    { return number(t) }
func saysProtocols(t string) (any, error) { return literal.Protocols(t) }
func saysNetwork(t string) (any, error)   { return network(t) }

// saysPorts reads ports and ranges with blanks between.
func saysPorts(t string) (any, error) {
	var all []packet.Values
	for w := range strings.FieldsSeq(t) {
		v, err := literal.Ports(w)
		if err != nil {
			return nil, err
		}
		all = append(all, v)
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("a port is missing")
	}
	return packet.Join(all...), nil
}

func saysStates(t string) (any, error) {
	for w := range strings.FieldsSeq(t) {
		if _, err := choice(literal.States, w); err != nil {
			return nil, err
		}
	}
	return t, nil
}

// among makes a reader of one of some words.
func among(list ...string) func(string) (any, error) {
	known := map[string]string{}
	for _, w := range list {
		known[w] = w
	}
	return func(t string) (any, error) { return choice(known, t) }
}

// matches are the parts by which rules choose packets.
var matches = sync.OnceValue(func() map[string]part {
	return map[string]part{
		"from":         {types: places, says: saysNetwork, about: "source networks"},
		"to":           {types: places, says: saysNetwork, about: "destination networks"},
		"not-from":     {types: places, says: saysNetwork, about: "source networks that it does not match"},
		"not-to":       {types: places, says: saysNetwork, about: "destination networks that it does not match"},
		"protocol":     {types: []string{"protocol"}, says: saysProtocols, about: "protocol, by name or number"},
		"ports":        {types: []string{"port"}, says: saysPorts, about: "destination ports"},
		"source-ports": {types: []string{"port"}, says: saysPorts, about: "source ports"},
		"icmp":         {types: []string{"number"}, says: saysNumber, about: "type of ICMP"},
		"service":      {types: []string{services}, about: "services, by name"},
		"in":           {types: devices, says: words, about: "interface, or interfaces by name, that packets come in by"},
		"out":          {types: devices, says: words, about: "interface, or interfaces by name, that packets leave by"},
		"number":       {types: []string{"number"}, about: "number that orders it"},
		"place":        {types: []string{"number"}, says: saysNumber, about: "place in the list at which it is inserted, from 1"},
		"before":       {types: []string{"number"}, about: "number of the rule before which it is inserted"},
		"rank":         {says: saysNumber, about: "rules of a lower rank come before others, whatever their numbers"},
		"disabled":     {types: []string{"flag"}, says: saysFlag, about: "yes: it is not in force"},
		"condition":    {types: []string{"word", "text"}, says: words, about: "what cannot be decided from the file, as a schedule"},
		"log":          {types: []string{"flag"}, says: saysFlag, about: "yes: it is logged"},
		"comment":      {types: []string{"text", "word"}, about: "a comment"},
	}
})

// facts are what a statement may say of a gateway, by their parts.
var facts = sync.OnceValue(func() map[string]map[string]part {
	return map[string]map[string]part{
		"interface": {
			"name":    {types: []string{"word", "interface"}, says: words, about: "its name, where the statement stands in none"},
			"address": {types: []string{"prefix", "host-mask", "address"}, about: "an address with its network"},
			"kind":    {says: words, about: "loopback, dummy, vlan, bridge; xfrm, vti, gre for tunnels"},
			"down":    {types: []string{"flag"}, says: saysFlag, about: "yes: it is switched off"},
			"dynamic": {types: []string{"flag"}, says: saysFlag, about: "yes: it gets its address while it runs"},
			"within":  {types: []string{interfaces}, about: "the interfaces, a zone for example, that it belongs to"},
			"borrows": {types: []string{"interface", "word"}, about: "the interface whose addresses it uses"},
			"local":   {types: []string{"address"}, about: "of a tunnel: own outer address"},
			"remote":  {types: []string{"address"}, about: "of a tunnel: outer address of the far end"},
		},
		"route": {
			"to": {
				types: []string{"network", "prefix", "address-mask", "address-wildcard"},
				must:  true,
				says:  saysNetwork,
				about: "destination",
			},
			"via":    {types: []string{"address"}, about: "next hop"},
			"device": {types: []string{"word", "interface"}, says: words, about: "interface"},
			"metric": {types: []string{"number"}, says: saysNumber, about: "the lowest is taken"},
			"kind": {
				says:  among("unicast", "blackhole", "unreachable", "prohibit"),
				about: "unicast, blackhole, unreachable, prohibit",
			},
			"disabled": matches()["disabled"],
		},
		"rule": with(matches(), map[string]part{
			"chain": {types: []string{"word"}, must: true, says: words, about: "the list that it stands in"},
			"action": {
				types: []string{"action"},
				says:  func(t string) (any, error) { return choice(actions, t) },
				about: "accept, drop or reject",
			},
			"list": {types: []string{"word"}, says: words, about: "instead of an action: the list that decides"},
			"state": {
				types: []string{"states"},
				says:  saysStates,
				about: "states of the connection: new, established, related, invalid",
			},
			"tunnel": {says: among("from", "into", "neither"), about: "packets that came from a tunnel, go into one, or neither"},
		}),
		"translation": with(matches(), map[string]part{
			"kind": {types: []string{"translation"}, must: true, says: func(t string) (any, error) { return choice(translations, t) },
				about: "source, destination, static (one to one, both ways) or exempt"},
			"onto": {
				types: append(slices.Clone(places), "interface"),
				says:  onto,
				about: "new addresses; interface: those of the interface",
			},
			"onto-ports": {types: []string{"port"}, says: saysPorts, about: "new ports"},
		}),
		"key": {
			"value":  {types: []string{"secret"}, must: true, about: "the key itself"},
			"owners": {types: []string{"word", "address", "host"}, about: "identities that it is for"},
		},
		"service": {
			"protocol": matches()["protocol"], "ports": matches()["ports"], "source-ports": matches()["source-ports"],
			"icmp": matches()["icmp"],
		},
		"routing": {
			"network": {
				types: []string{"network", "prefix", "address-mask", "address-wildcard"},
				about: "a network that it is told to carry",
			},
			"protocol": {says: words, about: "its name, where the statement stands in none"},
			"interface": {
				types: []string{"word", "interface"},
				says:  among("here"),
				about: "an interface that it runs on; here: the one around",
			},
			"passive": {
				types: []string{"word", "interface"},
				says:  among("here", "default"),
				about: "an interface on which it only tells its networks; here: the one around; default: all",
			},
			"redistribute": {types: []string{"word"}, says: words, about: "an origin of routes that it takes in"},
			"neighbor":     {types: []string{"address"}, about: "a peer"},
		},
		"child": {
			"protocol": {types: []string{"protocol"}, says: saysProtocols, about: "the protocol of all its networks"},
		},
		"status": {
			"connection":  {types: []string{"word"}, must: true, says: words, about: "the connection's name, as it is configured"},
			"child":       {types: []string{"word"}, says: words, about: "the child's name; left out: it is of the IKE SA"},
			"up":          {types: []string{"flag"}, says: saysFlag, about: "no: it is down; left out: it is up"},
			"peer":        {types: []string{"address"}, about: "address of the far end"},
			"encryption":  {types: []string{"encryption"}, about: "cipher in use"},
			"integrity":   {types: []string{"integrity"}, about: "integrity algorithm in use"},
			"group":       {types: []string{"group"}, about: "key exchange in use"},
			"bytes-in":    {types: []string{"number"}, about: "bytes that came out of the tunnel"},
			"bytes-out":   {types: []string{"number"}, about: "bytes that went into it"},
			"packets-in":  {types: []string{"number"}, about: "packets that came out of the tunnel"},
			"packets-out": {types: []string{"number"}, about: "packets that went into it"},
			"age":         {types: []string{"seconds", "minutes", "hours"}, about: "how long it has been up"},
			"local":       {types: places, about: "own networks"},
			"remote":      {types: places, about: "the far end's networks"},
		},
		"connection": {
			"disabled":  {types: []string{"flag"}, says: saysFlag, about: "yes: it is not in force"},
			"interface": {types: []string{"word", "interface"}, about: "the tunnel interface that leads into it"},
		},
	}
})

// with adds parts to a table of them.
func with(base, more map[string]part) map[string]part {
	out := maps.Clone(base)
	maps.Copy(out, more)
	return out
}

// translations are the kinds of them.
var translations = map[string]translation{"source": toSource, "destination": toDestination, "static": toBoth, "exempt": exempt}

// translation is what a rule of address translation does.
type translation uint8

const (
	toSource translation = iota
	toDestination
	toBoth
	exempt
)

// itself stands for the addresses of the interface that packets leave by, or came in by.
type itself struct{}

// onto reads new addresses that a phrasebook says.
func onto(t string) (any, error) {
	if t == "interface" {
		return itself{}, nil
	}
	return network(t)
}

// ends are what the end of a list of rules may do.
var ends = map[string]model.Verb{
	"accept": model.Accept, "drop": model.Drop, "reject": model.Reject, "continue": model.Continue,
}

// fact reads "route: {to: <n>, via: <g>}".
func (l *loader) fact(p *Phrase, what string, text map[string]string, path string) (*fact, error) {
	f := &fact{what: what, slots: map[string][]*Slot{}, says: map[string]any{}}
	for _, key := range slices.Sorted(maps.Keys(text)) {
		of, ok := facts()[what][key]
		if !ok {
			return nil, l.errorf(path, "unknown part %q of %s; %s", source.Clean(key), what,
				strictyaml.Suggest(key, slices.Sorted(maps.Keys(facts()[what]))))
		}
		if !strings.HasPrefix(text[key], "<") {
			if of.says == nil {
				return nil, l.errorf(path, "%s: a slot was expected, as <name>", key)
			}
			v, err := of.says(text[key])
			if err != nil {
				return nil, l.errorf(path, "%s: %v", key, err)
			}
			f.says[key] = v
			continue
		}
		for word := range strings.FieldsSeq(text[key]) {
			s, err := l.slot(p, word, path)
			if err != nil {
				return nil, err
			}
			if !slices.Contains(of.types, s.Type.Name) {
				return nil, l.errorf(
					path,
					"%s: slot %s is of type %s; it takes %s",
					key,
					s.Name,
					s.Type.Name,
					strings.Join(of.types, ", "),
				)
			}
			f.slots[key] = append(f.slots[key], s)
		}
	}
	return f, nil
}

// lacks are the parts that there must be, and that the fact by itself does not have.
func (f *fact) lacks() (out []string) {
	for key, part := range facts()[f.what] {
		if part.must && !f.tells(key) {
			out = append(out, key)
		}
	}
	if f.what == "rule" && !f.tells("action") && !f.tells("list") {
		out = append(out, "action")
	}
	slices.Sort(out)
	return out
}

// tells reports whether the fact has a part.
func (f *fact) tells(key string) bool {
	_, said := f.says[key]
	return said || len(f.slots[key]) > 0
}
