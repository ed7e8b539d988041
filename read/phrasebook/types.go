package phrasebook

import (
	"fmt"
	"maps"
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"toril/daemon/form"
	"toril/ike"
	"toril/internal/strictyaml"
	"toril/model/literal"
	"toril/source"
	"toril/syntax/statements"
)

// Type is what may fill a slot.
type Type struct {
	Name  string
	Says  string // what it takes, in a few words
	Words int    // how many words it takes; 0: all up to the statement's end
	Parse func(words []string) (any, error)

	single func(word string) (any, error) // as Parse, of one word
}

// The kinds of what a language gives a name: they are types of slots too.
const (
	networks   = "networks"
	proposals  = "proposals"
	services   = "services"
	interfaces = "interfaces"
	profiles   = "settings"
)

// suite is the type of words that mean whole proposals.
const suite = "suite"

// device is the name of an interface.
type device string

// reference is the name of something that is said elsewhere in the file, before or behind.
type reference struct{ kind, name string }

// parse reads the value of words.
func (t *Type) parse(words []statements.Word) (any, error) {
	if t.single != nil {
		return t.single(words[0].Text)
	}
	texts := make([]string, len(words))
	for i, w := range words {
		texts[i] = w.Text
	}
	return t.Parse(texts)
}

// width is how many words the type takes of those that are left; 0 where there are too few.
func (t *Type) width(left int) int {
	switch {
	case t.Words == 0:
		return left
	case t.Words > left:
		return 0
	}
	return t.Words
}

// Types are those that phrases may use, by their names.
type Types map[string]*Type

// find returns a type; its error suggests one.
func (ts Types) find(name string) (*Type, error) {
	if t := ts[name]; t != nil {
		return t, nil
	}
	return nil, fmt.Errorf("unknown type %q; %s", source.Clean(name), strictyaml.Suggest(name, slices.Sorted(maps.Keys(ts))))
}

// one makes a type of a single word.
func one[T any](name, says string, parse func(string) (T, error)) *Type {
	single := func(w string) (any, error) { return parse(w) }
	return &Type{name, says, 1, func(w []string) (any, error) { return parse(w[0]) }, single}
}

// two makes a type of two words.
func two[T any](name, says string, parse func(a, b string) (T, error)) *Type {
	return &Type{name, says, 2, func(w []string) (any, error) { return parse(w[0], w[1]) }, nil}
}

// BuiltIn are the types that every language has. A phrasebook's vocabulary adds its own.
func BuiltIn() Types {
	all := []*Type{
		one("word", "any word", func(w string) (string, error) { return w, nil }),
		{"text", "all words up to the end", 0, func(w []string) (any, error) { return strings.Join(w, " "), nil }, nil},
		one("secret", "a key, which no quote shows", func(w string) (source.Secret, error) { return source.NewSecret(w), nil }),
		one("address", "an address", address),
		one("host", "an address, or a name", func(w string) (any, error) { return literal.Host(w), nil }),
		one("network", "an address, a network with its length, or a range with a hyphen", network),
		one("prefix", "an address of a host, with the length of its network", prefix),
		two("host-mask", "an address of a host and the mask of its network", hostMasked),
		two("address-mask", "an address and a mask, 10.1.0.0 255.255.0.0", masked),
		two("address-wildcard", "an address and the bits that are open, 10.1.0.0 0.0.255.255", wildcard),
		two("address-range", "two addresses, from the first to the last", ranged),
		one("number", "a number", number),
		one("group", "a group of a key exchange, by its IANA number or by its bits, 14 or 2048", group),
		one("port", "a port, by number or name, or a range with a hyphen", literal.Ports),
		one("protocol", "a protocol, by number or name", literal.Protocols),
		one("time", "a time with its unit, 8h or 90m; without one: seconds", form.Time.Read),
		one("interface", "the name of an interface", func(w string) (device, error) { return device(w), nil }),
	}
	for _, kind := range []string{networks, proposals, services, interfaces, profiles} {
		all = append(all, one(kind, "the name of "+kind, func(w string) (reference, error) { return reference{kind, w}, nil }))
	}
	for unit, span := range units {
		all = append(all, one(unit, "a time, in "+unit, spanOf(unit, span)))
	}
	all = append(
		all,
		one("size", "an amount of data, with its unit, 500M", func(w string) (uint64, error) { return form.Size.Read(strings.ToLower(w)) }),
	)
	for unit, size := range map[string]uint64{"bytes": 1, "kilobytes": 1 << 10, "megabytes": 1 << 20} {
		all = append(all, one(unit, "an amount of data, in "+unit, sizeOf(unit, size)))
	}
	out := Types{}
	for _, t := range all {
		out[t.Name] = t
	}
	return out
}

// mark is the type of a word that may stand in a phrase: a flag, which is set where it does.
func mark(word string, fold bool) *Type {
	return one("flag", fmt.Sprintf("the word %q", word), func(w string) (bool, error) {
		if w == word || fold && strings.EqualFold(w, word) {
			return true, nil
		}
		return false, fmt.Errorf("%q is not the word %q", source.Clean(w), source.Clean(word))
	})
}

// units are those of times.
var units = map[string]time.Duration{"seconds": time.Second, "minutes": time.Minute, "hours": time.Hour, "days": 24 * time.Hour}

// span returns the unit of a type of times; ok is false for other types.
func (t *Type) span() (unit time.Duration, ok bool) {
	unit, ok = units[t.Name]
	return unit, ok
}

func address(w string) (netip.Addr, error) {
	a, err := netip.ParseAddr(w)
	if err != nil || a.Zone() != "" {
		return a, fmt.Errorf("%q is not an address", source.Clean(w))
	}
	return a, nil
}

func network(w string) (ike.Selector, error) {
	s, err := literal.Net(w)
	if err != nil || s.Dynamic {
		return s, fmt.Errorf("%q is not a network", source.Clean(w))
	}
	return s, nil
}

// masked is an address with a mask whose ones come first.
func masked(a, m string) (ike.Selector, error) {
	addr, mask, err := addresses(a, m)
	if err != nil {
		return ike.Selector{}, err
	}
	bits, ok := literal.MaskBits(mask)
	if !ok {
		return ike.Selector{}, fmt.Errorf("%s is not the mask of a network", mask)
	}
	return ike.SelectPrefix(netip.PrefixFrom(addr, bits)), nil
}

// prefix is an address of a host with the length of its network.
func prefix(w string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(w)
	if err != nil {
		return p, fmt.Errorf("%q is no address with the length of its network", source.Clean(w))
	}
	return p, nil
}

// hostMasked is an address of a host with the mask of its network.
func hostMasked(a, m string) (netip.Prefix, error) {
	addr, mask, err := addresses(a, m)
	if err != nil {
		return netip.Prefix{}, err
	}
	bits, ok := literal.MaskBits(mask)
	if !ok {
		return netip.Prefix{}, fmt.Errorf("%s is not the mask of a network", mask)
	}
	return netip.PrefixFrom(addr, bits), nil
}

// wildcard is an address with the bits that are open, which come last.
func wildcard(a, w string) (ike.Selector, error) {
	addr, open, err := addresses(a, w)
	if err != nil {
		return ike.Selector{}, err
	}
	raw := open.AsSlice()
	for i := range raw {
		raw[i] = ^raw[i]
	}
	mask, _ := netip.AddrFromSlice(raw)
	bits, ok := literal.MaskBits(mask)
	if !ok {
		return ike.Selector{}, fmt.Errorf("%s leaves bits open that do not come last", open)
	}
	return ike.SelectPrefix(netip.PrefixFrom(addr, bits)), nil
}

func ranged(a, b string) (ike.Selector, error) {
	lo, hi, err := addresses(a, b)
	if err != nil {
		return ike.Selector{}, err
	}
	if hi.Less(lo) {
		return ike.Selector{}, fmt.Errorf("%s comes before %s", hi, lo)
	}
	return ike.Selector{Lo: lo, Hi: hi, HiPort: math.MaxUint16}, nil
}

// addresses reads two addresses of one family.
func addresses(a, b string) (x, y netip.Addr, err error) {
	if x, err = address(a); err != nil {
		return x, y, err
	}
	if y, err = address(b); err != nil {
		return x, y, err
	}
	if x.BitLen() != y.BitLen() {
		return x, y, fmt.Errorf("%s and %s are of different families", x, y)
	}
	return x, y, nil
}

func number(w string) (uint64, error) {
	n, err := strconv.ParseUint(w, 10, 64)
	if err != nil {
		return 0, fmt.Errorf("%q is not a number", source.Clean(w))
	}
	return n, nil
}

// primes are the MODP groups by the length of their prime (RFC 2409, RFC 3526).
var primes = map[uint64]uint16{768: 1, 1024: 2, 1536: 5, 2048: 14, 3072: 15, 4096: 16, 6144: 17, 8192: 18}

// group reads the number of a group (IANA, Transform Type 4), or the bits of a MODP group.
func group(w string) (ike.Choice, error) {
	n, err := number(w)
	if id, ok := primes[n]; ok {
		n = uint64(id)
	}
	if err != nil || n == 0 || n > math.MaxUint16 || !ike.ByID(ike.KeyExchange, uint16(n)).Known() {
		return ike.Choice{}, fmt.Errorf("%q is no group of a key exchange", source.Clean(w))
	}
	return ike.Pick(ike.KeyExchange, uint16(n), 0), nil
}

// longest is the longest time that is read: what is longer is no lifetime.
const longest = 100 * 365 * 24 * time.Hour

func spanOf(unit string, span time.Duration) func(string) (time.Duration, error) {
	return func(w string) (time.Duration, error) {
		n, err := number(w)
		if err != nil || n > uint64(longest/span) {
			return 0, fmt.Errorf("%q is no time in %s", source.Clean(w), unit)
		}
		return time.Duration(n) * span, nil
	}
}

func sizeOf(unit string, size uint64) func(string) (uint64, error) {
	return func(w string) (uint64, error) {
		n, err := number(w)
		if err != nil || n > math.MaxUint64/size {
			return 0, fmt.Errorf("%q is no amount of %s", source.Clean(w), unit)
		}
		return n * size, nil
	}
}

// Vocabulary makes a type of a language's own words: each means an algorithm, a choice, an action.
func Vocabulary[T any](name, says string, means map[string]T, fold bool) *Type {
	known := slices.Sorted(maps.Keys(means))
	small := map[string]T{}
	for _, k := range known {
		small[strings.ToLower(k)] = means[k]
	}
	return one(name, says, func(w string) (T, error) {
		if v, ok := means[w]; ok {
			return v, nil
		}
		if v, ok := small[strings.ToLower(w)]; ok && fold {
			return v, nil
		}
		var none T
		return none, fmt.Errorf("%q is not in the vocabulary %s; %s", source.Clean(w), name, strictyaml.Suggest(w, known))
	})
}
