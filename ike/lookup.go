package ike

import (
	"fmt"
	"slices"
	"strings"
	"sync"
)

// ByID returns the algorithm with a number in a registry; for an additional key exchange, that of KeyExchange. A number
// that no registry knows gives an Algorithm that says so in its name.
func ByID(r Registry, id uint16) *Algorithm {
	if r >= Additional1 && r <= Additional7 {
		r = KeyExchange
	}
	if a := numbered()[number{r, id}]; a != nil {
		return a
	}
	return &Algorithm{Registry: r, ID: id, Name: fmt.Sprintf("%s %d", r, id), Common: fmt.Sprintf("unknown %s %d", r, id)}
}

// number is what an algorithm is found by.
type number struct {
	registry Registry
	id       uint16
}

// numbered are the algorithms of the catalogue by their numbers.
var numbered = sync.OnceValue(func() map[number]*Algorithm {
	out := make(map[number]*Algorithm, len(Catalogue))
	for i := range Catalogue {
		a := &Catalogue[i]
		if n := (number{a.Registry, a.ID}); out[n] == nil {
			out[n] = a
		}
	}
	return out
})

// ByName returns the algorithm of a registry by IANA's name, whatever its case; nil where there is none.
func ByName(r Registry, name string) *Algorithm {
	for i := range Catalogue {
		if a := &Catalogue[i]; a.Registry == r && strings.EqualFold(a.Name, name) {
			return a
		}
	}
	return nil
}

// Known reports whether a number is in IANA's registry or in the catalogue's own.
func (a *Algorithm) Known() bool { return a.Source != "" }

// Equivalent returns the IKEv2 algorithm that means the same as a value of an IKEv1 registry, a itself for one of
// IKEv2's, and nil where IKEv2 has none.
func (a *Algorithm) Equivalent() *Algorithm {
	to := map[Registry]Registry{V1Encryption: Encryption, V1Hash: PRF, V1Group: KeyExchange, V1Auth: AuthMethod,
		V1ESP: Encryption, V1AH: Integrity, V1Integrity: Integrity}[a.Registry]
	switch {
	case to == 0:
		return a
	case a.SameAs == 0:
		return nil
	}
	return ByID(to, a.SameAs)
}

// Choice is an algorithm as a proposal offers it, with the key size in bits where there is a choice of sizes (else 0).
type Choice struct {
	*Algorithm
	KeyBits int
}

// Pick makes a Choice by number.
func Pick(r Registry, id uint16, keyBits int) Choice { return Choice{ByID(r, id), keyBits} }

// Picks makes Choices by number, of algorithms that have one key size.
func Picks(r Registry, ids ...uint16) Choices {
	var out Choices
	for _, id := range ids {
		out = append(out, Pick(r, id, 0))
	}
	return out
}

// Same reports whether two choices are the same algorithm with the same key size.
func (c Choice) Same(d Choice) bool {
	return c.Registry == d.Registry && c.ID == d.ID && c.KeyBits == d.KeyBits
}

// Strength returns the security of the choice in bits against a classical adversary.
func (c Choice) Strength() int {
	if c.KeyBits > 0 && c.Bits > 0 && c.KeyBits < c.Bits {
		return c.KeyBits
	}
	return c.Bits
}

// Resists reports whether the choice is thought to withstand a quantum adversary.
func (c Choice) Resists() bool {
	return c.Quantum && (len(c.Keys) == 0 || c.KeyBits >= 256)
}

// String returns the everyday name with the key size: "AES-CBC-256".
func (c Choice) String() string {
	if c.KeyBits == 0 {
		return c.Common
	}
	name, rest, _ := strings.Cut(c.Common, " ")
	if rest != "" {
		rest = " " + rest
	}
	return fmt.Sprintf("%s-%d%s", name, c.KeyBits, rest)
}

// IANA returns IANA's name with the key size in bits behind it: "ENCR_AES_CBC-256".
func (c Choice) IANA() string {
	if c.KeyBits == 0 {
		return c.Name
	}
	return fmt.Sprintf("%s-%d", c.Name, c.KeyBits)
}

// Label returns the everyday name of a choice as people compare it, with a group's number: "group 14 (MODP 2048)".
func (c Choice) Label() string {
	if c.Registry == KeyExchange && c.ID != 0 {
		return fmt.Sprintf("group %d (%s)", c.ID, c.Common)
	}
	return c.String()
}

// Choices is a list in the order of preference.
type Choices []Choice

// Has reports whether the list holds a choice.
func (cs Choices) Has(c Choice) bool { return slices.ContainsFunc(cs, c.Same) }

// Labels returns the labels, with commas between.
func (cs Choices) Labels() string {
	out := make([]string, len(cs))
	for i, c := range cs {
		out[i] = c.Label()
	}
	return strings.Join(out, ", ")
}
