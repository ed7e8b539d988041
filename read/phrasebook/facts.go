package phrasebook

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"toril/ike"
	"toril/internal/strictyaml"
	"toril/model"
	"toril/read/literal"
	"toril/source"
)

// fact is what a statement says of a gateway beside its settings: an interface, a route, a key.
type fact struct {
	what  string           // "interface", "route", "key"
	slots map[string]*Slot // by the parts of it
	texts map[string]string
}

// part is a part of a fact.
type part struct {
	types  []string // of slots that may be it
	must   bool     // there is none without it
	spoken bool     // the phrasebook itself may say it
}

// places are the types of slots for networks.
var places = []string{"network", "address", "address-mask", "address-wildcard", "address-range", networks}

// facts are what a statement may say of a gateway, by their parts.
var facts = map[string]map[string]part{
	"interface": {
		"name":    {types: []string{"word"}, spoken: true}, // where the statement stands in none
		"address": {types: []string{"prefix", "host-mask"}},
		"kind":    {spoken: true},
		"down":    {spoken: true},
	},
	"route": {
		"to":     {types: []string{"network", "address-mask", "address-wildcard"}, must: true, spoken: true},
		"via":    {types: []string{"address"}},
		"device": {types: []string{"word"}, spoken: true},
		"metric": {types: []string{"number"}, spoken: true},
		"kind":   {spoken: true},
	},
	"rule": {
		"chain":        {types: []string{"word"}, must: true, spoken: true},
		"action":       {types: []string{"action"}, must: true, spoken: true},
		"from":         {types: places},
		"to":           {types: places},
		"protocol":     {types: []string{"protocol"}, spoken: true},
		"ports":        {types: []string{"port"}, spoken: true},
		"source-ports": {types: []string{"port"}, spoken: true},
		"in":           {types: []string{"word"}, spoken: true},
		"out":          {types: []string{"word"}, spoken: true},
		"state":        {spoken: true},
		"number":       {types: []string{"number"}},
		"disabled":     {types: []string{"flag"}, spoken: true},
		"unless":       {spoken: true}, // a condition that cannot be decided: a schedule
		"log":          {spoken: true},
		"comment":      {types: []string{"text", "word"}},
	},
	"key": {
		"value":  {types: []string{"secret"}, must: true},
		"owners": {types: []string{"word", "address", "host"}},
	},
}

// spoken judge what a phrasebook itself says of a part.
var spoken = map[string]func(string) error{
	"rule.action":       func(t string) error { _, err := choice(actions, t); return err },
	"rule.protocol":     func(t string) error { _, err := literal.Protocols(t); return err },
	"rule.ports":        func(t string) error { _, err := literal.Ports(t); return err },
	"rule.source-ports": func(t string) error { _, err := literal.Ports(t); return err },
	"rule.disabled":     func(t string) error { _, err := choice(flags, t); return err },
	"rule.log":          func(t string) error { _, err := choice(flags, t); return err },
	"interface.down":    func(t string) error { _, err := choice(flags, t); return err },
	"rule.state": func(t string) error {
		for w := range strings.FieldsSeq(t) {
			if _, err := choice(literal.States, w); err != nil {
				return err
			}
		}
		return nil
	},
	"route.to": func(t string) error { _, err := network(t); return err },
}

// fact reads "route: {to: <n>, via: <g>}".
func (l *loader) fact(p *Phrase, what string, text map[string]string, path string) (*fact, error) {
	f := &fact{what: what, slots: map[string]*Slot{}, texts: map[string]string{}}
	for _, key := range slices.Sorted(maps.Keys(text)) {
		of, ok := facts[what][key]
		if !ok {
			return nil, l.errorf(path, "unknown part %q of %s; %s", source.Clean(key), what,
				strictyaml.Suggest(key, slices.Sorted(maps.Keys(facts[what]))))
		}
		if !strings.HasPrefix(text[key], "<") {
			if !of.spoken {
				return nil, l.errorf(path, "%s: a slot was expected, as <name>", key)
			}
			if check := spoken[what+"."+key]; check != nil {
				if err := check(text[key]); err != nil {
					return nil, l.errorf(path, "%s: %v", key, err)
				}
			}
			f.texts[key] = text[key]
			continue
		}
		s, err := l.slot(p, text[key], path)
		if err != nil {
			return nil, err
		}
		if !slices.Contains(of.types, s.Type.Name) {
			return nil, l.errorf(path, "%s: slot %s is of type %s; it takes %s", key, s.Name, s.Type.Name, strings.Join(of.types, ", "))
		}
		f.slots[key] = s
	}
	for _, key := range slices.Sorted(maps.Keys(facts[what])) {
		if _, said := text[key]; !said && facts[what][key].must {
			return nil, l.errorf(path, "%s has no %s", what, key)
		}
	}
	return f, nil
}

// values are those of a part, of its slot or as the phrasebook says it.
func (f *fact) values(key string, fills []Fill) []any {
	if text, said := f.texts[key]; said {
		return []any{text}
	}
	var out []any
	for _, one := range fills {
		if one.Slot == f.slots[key] && f.slots[key] != nil {
			out = append(out, one.Value)
		}
	}
	return out
}

// text is the last value of a part, as a text.
func (f *fact) text(key string, fills []Fill) string {
	all := f.values(key, fills)
	if len(all) == 0 {
		return ""
	}
	return source.Clean(fmt.Sprint(all[len(all)-1]))
}

// say adds the fact to the gateway.
func (r *run) say(f *fact, fills []Fill, pos source.Pos, at place) {
	switch f.what {
	case "interface":
		r.interfaceOf(f, fills, pos, at)
	case "route":
		if why := r.route(f, fills, pos); why != "" {
			r.in.UnreadAt(pos, at.name, "%s", why)
		}
	case "rule":
		r.later = append(r.later, func() { r.rule(f, fills, pos, at) })
	case "key":
		k := &model.Key{At: pos, Name: at.name, For: at.Connection}
		for _, v := range f.values("value", fills) {
			k.Secret, _ = v.(source.Secret)
		}
		for _, v := range f.values("owners", fills) {
			switch v := v.(type) {
			case netip.Addr:
				k.Owners = append(k.Owners, ike.Addr(v))
			case model.Address:
				k.Owners = append(k.Owners, identity(v.Text))
			case string:
				k.Owners = append(k.Owners, identity(v))
			}
		}
		r.in.Gateway.Keys = append(r.in.Gateway.Keys, k)
	}
}

// interfaceOf says something of the interface that the statement names, else of the one that it stands in.
func (r *run) interfaceOf(f *fact, fills []Fill, pos source.Pos, at place) {
	i := at.port
	if name := f.text("name", fills); name != "" {
		i = r.in.Gateway.InterfaceOf(name, pos)
	}
	if i == nil {
		r.in.ProblemAt(pos, "it is of an interface, and there is none around it")
		return
	}
	for _, v := range f.values("address", fills) {
		if p, ok := v.(netip.Prefix); ok {
			i.AddAddress(p)
		}
	}
	if kind := f.text("kind", fills); kind != "" {
		i.Kind = model.TunnelKind(kind)
	}
	i.Down = i.Down || f.text("down", fills) == "yes"
}

// route adds a route; it returns why it could not.
func (r *run) route(f *fact, fills []Fill, pos source.Pos) string {
	rt := &model.Route{At: pos, Dev: f.text("device", fills), Kind: f.text("kind", fills), Origin: "static"}
	for _, v := range f.values("via", fills) {
		rt.Via, _ = v.(netip.Addr)
	}
	for _, v := range f.values("metric", fills) {
		if n, ok := v.(uint64); ok {
			rt.Metric = int(min(n, 1<<31-1))
		}
	}
	for _, v := range f.values("to", fills) {
		if text, ok := v.(string); ok {
			s, err := literal.Net(text)
			if err != nil {
				return fmt.Sprintf("%q is no network", source.Clean(text))
			}
			v = s
		}
		s, ok := v.(ike.Selector)
		if !ok {
			continue
		}
		prefix, single := onePrefix(s)
		if !single {
			return "a route leads to one network"
		}
		rt.To = prefix
	}
	r.in.Gateway.AddRoute(rt)
	return ""
}

// onePrefix returns the network that a selector is; ok is false for a range that is none.
func onePrefix(s ike.Selector) (netip.Prefix, bool) {
	for bits := s.Lo.BitLen(); bits >= 0; bits-- {
		p := netip.PrefixFrom(s.Lo, bits)
		if p.Masked().Addr() != s.Lo {
			return p, false
		}
		if ike.SelectPrefix(p).Hi == s.Hi {
			return p, true
		}
	}
	return netip.Prefix{}, false
}
