package phrasebook

import (
	"fmt"
	"maps"
	"math"
	"net/netip"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"toril/daemon/form"
	"toril/ike"
	"toril/internal/strictyaml"
	"toril/model"
	"toril/model/literal"
	"toril/source"
)

// named are Toril's own names for choices.
var (
	versions = map[string]ike.Version{"ikev1": ike.V1, "ikev2": ike.V2, "both": ike.Either}
	methods  = map[string]ike.Method{"psk": ike.PSK, "certificate": ike.Certificate, "eap": ike.EAP, "none": ike.NoAuth}
	modes    = map[string]ike.Mode{"tunnel": ike.Tunnel, "transport": ike.Transport, "pass": ike.Pass, "drop": ike.Drop}
	starts   = map[string]model.Start{"waits": model.StartNever, "traffic": model.StartTraffic, "start": model.StartBoot,
		"start-and-traffic": model.StartBoth}
	flags = map[string]bool{"yes": true, "no": false}
)

// literals make types of a language's own words for choices that Toril has names for.
var literals = sync.OnceValue(func() map[string]func(name string, words map[string]string, fold bool) (*Type, error) {
	return map[string]func(name string, words map[string]string, fold bool) (*Type, error){
		"version": own(versions), "method": own(methods), "mode": own(modes), "initiation": own(starts), "flag": own(flags),
		"action": own(actions), "states": own(states), "translation": own(translations), suite: suites,
	}
})

// states are the names of connection states.
var states = func() map[string]string {
	out := map[string]string{}
	for name := range literal.States {
		out[name] = name
	}
	return out
}()

// suites make the type of words that mean whole proposals.
func suites(name string, words map[string]string, fold bool) (*Type, error) {
	means := map[string]ike.Proposal{}
	for w, text := range words {
		p, err := proposal(text)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", source.Clean(w), err)
		}
		p.Text = w
		means[w] = p
	}
	return Vocabulary(name, "a whole proposal by the language's own words", means, fold), nil
}

func own[T any](names map[string]T) func(string, map[string]string, bool) (*Type, error) {
	return func(name string, words map[string]string, fold bool) (*Type, error) {
		means := map[string]T{}
		for w, text := range words {
			v, err := choice(names, text)
			if err != nil {
				return nil, err
			}
			means[w] = v
		}
		return Vocabulary(name, "a choice by the language's own words", means, fold), nil
	}
}

func choice[T any](names map[string]T, text string) (T, error) {
	v, ok := names[text]
	if !ok {
		known := slices.Sorted(maps.Keys(names))
		return v, fmt.Errorf("%q is no choice; %s", source.Clean(text), strictyaml.Suggest(text, known))
	}
	return v, nil
}

// written are how a phrasebook writes values of settings, by the types of these.
var written = sync.OnceValue(func() map[reflect.Type]func(string) (any, error) {
	return map[reflect.Type]func(string) (any, error){
		reflect.TypeFor[ike.Version]():   func(t string) (any, error) { return choice(versions, t) },
		reflect.TypeFor[ike.Method]():    func(t string) (any, error) { return choice(methods, t) },
		reflect.TypeFor[ike.Mode]():      func(t string) (any, error) { return choice(modes, t) },
		reflect.TypeFor[model.Start]():   func(t string) (any, error) { return choice(starts, t) },
		reflect.TypeFor[bool]():          func(t string) (any, error) { return choice(flags, t) },
		reflect.TypeFor[time.Duration](): func(t string) (any, error) { return form.Time.Read(t) },
		reflect.TypeFor[string]():        func(t string) (any, error) { return t, nil },
		reflect.TypeFor[int](): func(t string) (any, error) {
			n, err := strconv.Atoi(t)
			if err != nil {
				return nil, fmt.Errorf("%q is not a number", source.Clean(t))
			}
			return n, nil
		},
		reflect.TypeFor[uint32](): func(t string) (any, error) { return form.Number.Read(t) },
		reflect.TypeFor[uint64](): func(t string) (any, error) { return form.Size.Read(t) },
		reflect.TypeFor[ike.Selectors](): func(t string) (any, error) {
			var out ike.Selectors
			for w := range strings.FieldsSeq(t) {
				s, err := network(w)
				if err != nil {
					return nil, err
				}
				out = append(out, s)
			}
			return out, nil
		},
		reflect.TypeFor[model.Addresses](): func(t string) (any, error) {
			if t == "any" {
				return model.Addresses{{Text: t, Any: true}}, nil
			}
			return model.Addresses{literal.Host(t)}, nil
		},
		reflect.TypeFor[ike.Identity](): func(t string) (any, error) { return identity(t), nil },
		reflect.TypeFor[[]ike.Proposal](): func(t string) (any, error) {
			var out []ike.Proposal
			for one := range strings.SplitSeq(t, ",") {
				p, err := proposal(one)
				if err != nil {
					return nil, err
				}
				p.Text = ""
				out = append(out, p)
			}
			return out, nil
		},
	}
})

// meant reads a value that a phrasebook writes for a setting.
func meant(t reflect.Type, text string) (any, error) {
	read := written()[t]
	if read == nil {
		return nil, fmt.Errorf("a phrasebook cannot write its value; a slot can give it")
	}
	return read(text)
}

// converter returns the function that makes a setting's value of those of slots.
func converter(to reflect.Type, slots []*Slot) (func([]any) (any, error), error) {
	if c, ok := lists()[to]; ok {
		return c.of(slots)
	}
	c, ok := singles()[to]
	switch {
	case !ok:
		return nil, errNoWay
	case len(slots) != 1:
		return nil, fmt.Errorf("it takes one value")
	}
	return c.of(slots)
}

// conversion says of which types a setting's value can be made, and how.
type conversion struct {
	types []string
	make  func(values []any) (any, bool)
}

func (c conversion) of(slots []*Slot) (func([]any) (any, error), error) {
	for _, s := range slots {
		if !slices.Contains(c.types, s.Type.Name) {
			return nil, fmt.Errorf("%w: %s is of type %s; it takes %s", errNoWay, s.Name, s.Type.Name, strings.Join(c.types, ", "))
		}
	}
	return func(values []any) (any, error) {
		v, ok := c.make(values)
		if !ok {
			return nil, errNoWay
		}
		return v, nil
	}, nil
}

// lists are of settings whose value is a list: each value of a slot is an element.
var lists = sync.OnceValue(func() map[reflect.Type]conversion {
	return map[reflect.Type]conversion{
		reflect.TypeFor[ike.Selectors](): {
			append(slices.Clone(places), "port"),
			func(vs []any) (any, bool) { l, ok := each(vs, selector); return ike.Selectors(l), ok },
		},
		reflect.TypeFor[model.Addresses](): {
			[]string{"host", "address", "interface"},
			func(vs []any) (any, bool) { l, ok := each(vs, peer); return model.Addresses(l), ok },
		},
		reflect.TypeFor[[]ike.Proposal](): {
			[]string{proposals, suite},
			func(vs []any) (any, bool) {
				return each(vs, func(v any) (ike.Proposal, bool) { p, ok := v.(ike.Proposal); return p, ok })
			},
		},
		reflect.TypeFor[[]string](): {
			[]string{"word", "text"},
			func(vs []any) (any, bool) {
				return each(vs, func(v any) (string, bool) { s, ok := v.(string); return s, ok })
			},
		},
	}
})

// singles are of settings with one value: of several that are said the last one holds.
var singles = sync.OnceValue(func() map[reflect.Type]conversion {
	return map[reflect.Type]conversion{
		reflect.TypeFor[time.Duration](): {[]string{"seconds", "minutes", "hours", "days", "time"}, last[time.Duration]},
		reflect.TypeFor[ike.Version]():   {[]string{"version"}, last[ike.Version]},
		reflect.TypeFor[ike.Method]():    {[]string{"method"}, last[ike.Method]},
		reflect.TypeFor[ike.Mode]():      {[]string{"mode"}, last[ike.Mode]},
		reflect.TypeFor[model.Start]():   {[]string{"initiation"}, last[model.Start]},
		reflect.TypeFor[bool]():          {[]string{"flag"}, last[bool]},
		reflect.TypeFor[string]():        {[]string{"word", "text"}, last[string]},
		reflect.TypeFor[uint64]():        {[]string{"number", "bytes", "kilobytes", "megabytes", "size"}, last[uint64]},
		reflect.TypeFor[int](): {[]string{"number"}, func(vs []any) (any, bool) {
			n, ok := vs[len(vs)-1].(uint64)
			return int(min(n, math.MaxInt32)), ok && n <= math.MaxInt32
		}},
		reflect.TypeFor[uint32](): {[]string{"number"}, func(vs []any) (any, bool) {
			n, ok := vs[len(vs)-1].(uint64)
			return uint32(n), ok && n <= math.MaxUint32
		}},
		reflect.TypeFor[ike.Identity](): {[]string{"word", "text", "address"}, func(vs []any) (any, bool) {
			switch v := vs[len(vs)-1].(type) {
			case netip.Addr:
				return ike.Addr(v), true
			case string:
				return identity(v), true
			}
			return nil, false
		}},
	}
})

func last[T any](vs []any) (any, bool) {
	v, ok := vs[len(vs)-1].(T)
	return v, ok
}

// each makes the elements of a list.
func each[T any](values []any, one func(any) (T, bool)) (out []T, ok bool) {
	for _, v := range values {
		e, ok := one(v)
		if !ok {
			return nil, false
		}
		out = append(out, e)
	}
	return out, true
}

func selector(v any) (ike.Selector, bool) {
	switch v := v.(type) {
	case ike.Selector:
		return v, true
	case netip.Addr:
		return ike.SelectPrefix(netip.PrefixFrom(v, v.BitLen())), true
	case netip.Prefix:
		return ike.SelectPrefix(v.Masked()), true
	}
	return ike.Selector{}, false
}

func peer(v any) (model.Address, bool) {
	switch v := v.(type) {
	case model.Address:
		return v, true
	case netip.Addr:
		return model.Address{Text: v.String(), Lo: v, Hi: v}, true
	}
	return model.Address{}, false
}

// identity reads an identity as most languages write it: an address, mail with an "@", a distinguished name with an "=", else a name.
func identity(t string) ike.Identity {
	switch a, err := netip.ParseAddr(t); {
	case err == nil:
		return ike.Addr(a)
	case t == "any":
		return ike.Identity{Kind: ike.AnyID}
	case t == "address":
		return ike.Identity{Kind: ike.NoID}
	case strings.Contains(t, "="):
		return ike.DN(t)
	case strings.Contains(t, "@"):
		return ike.Identity{Kind: ike.IDMail, Value: strings.ToLower(t)}
	}
	return ike.FQDN(t)
}
