package baseline

import (
	"fmt"
	"slices"
	"time"

	"toril/ike"
	"toril/present"
)

// Unit is what the numbers of a limit count.
type Unit uint8

// The units.
const (
	NoUnit Unit = iota // of a demand: it is met or not
	Seconds
	Bytes
	Bits
	Characters
	Packets
)

// String returns the unit's name.
func (u Unit) String() string {
	return [...]string{"", "time", "bytes", "bits", "characters", "packets"}[u]
}

// write writes a number of a unit for people.
func (u Unit) write(n float64) string {
	switch u {
	case Seconds:
		return present.Span(time.Duration(n * float64(time.Second)))
	case Bytes:
		return fmt.Sprintf("%.0f MiB", n/(1<<20))
	}
	return fmt.Sprintf("%.0f", n)
}

// Kind is a demand or a limit that a baseline may hold: what it is about, and the check that enforces it. A baseline that asks for
// what no check enforces is refused.
type Kind struct {
	Name  string
	About string
	Check string // the name of a check that enforces it

	Unit        Unit // of a limit
	Most, Least bool // the bounds that a limit may have

	For, Against bool // whether a demand may ask for the thing, or advise against it
}

// The limits.
var (
	IKELifetime = &Kind{
		Name:  "ike-lifetime",
		About: "time until the IKE SA is rekeyed (most, least)",
		Check: "life/ike-too-long",
		Unit:  Seconds,
		Most:  true,
		Least: true,
	}
	ChildLifetime = &Kind{
		Name:  "child-lifetime",
		About: "time until a child SA is rekeyed (most, least)",
		Check: "life/child-too-long",
		Unit:  Seconds,
		Most:  true,
		Least: true,
	}
	KeyBits = &Kind{
		Name:  "key-bits",
		About: "estimated strength of a pre-shared key in bits (least)",
		Check: "key/weak",
		Unit:  Bits,
		Least: true,
	}
	KeyLength = &Kind{
		Name:  "key-length",
		About: "length of a pre-shared key in characters (least)",
		Check: "key/weak",
		Unit:  Characters,
		Least: true,
	}
	RSABits = &Kind{
		Name:  "rsa-bits",
		About: "length of an RSA key in bits (least)",
		Check: "key/short-rsa",
		Unit:  Bits,
		Least: true,
	}
	CurveBits = &Kind{
		Name:  "curve-bits",
		About: "length of a key on an elliptic curve in bits (least)",
		Check: "key/short-curve",
		Unit:  Bits,
		Least: true,
	}
	ReplayWindow = &Kind{
		Name:  "replay-window",
		About: "replay window in packets (least)",
		Check: "esp/replay",
		Unit:  Packets,
		Least: true,
	}
	Volume64 = &Kind{
		Name:  "volume-64-bit",
		About: "bytes under one key with a 64-bit block cipher (most)",
		Check: "life/no-byte-limit",
		Unit:  Bytes,
		Most:  true,
	}
	CertificateExpiry = &Kind{
		Name:  "certificate-expiry",
		About: "time before a certificate ends at which it is reported (least)",
		Check: "key/certificate-expiry",
		Unit:  Seconds,
		Least: true,
	}
)

// The demands.
var (
	IKEv2             = &Kind{Name: "ikev2", About: "IKE version 2 and no other", Check: "ike/version-1", For: true}
	PFS               = &Kind{Name: "pfs", About: "a key exchange of its own for every child", Check: "pfs/absent", For: true}
	AggressiveWithKey = &Kind{
		Name:    "aggressive-with-key",
		About:   "aggressive mode with a pre-shared key",
		Check:   "ike/aggressive-key",
		Against: true,
	}
	QuantumSafe = &Kind{
		Name:  "quantum-safe",
		About: "a quantum-safe key exchange or a post-quantum pre-shared key",
		Check: "ike/quantum",
		For:   true,
	}
	QuantumSafeKE = &Kind{
		Name:  "quantum-safe-key",
		About: "as quantum-safe, where a post-quantum pre-shared key is not enough",
		Check: "ike/quantum",
		For:   true,
	}
	Certificates = &Kind{
		Name:  "certificates",
		About: "authentication by certificate or public key",
		Check: "ike/authentication",
		For:   true,
	}
	ReplayProtection = &Kind{Name: "replay-protection", About: "replay protection", Check: "esp/replay", For: true}
	ExtendedSequence = &Kind{Name: "extended-sequence", About: "extended sequence numbers", Check: "esp/sequence-numbers", For: true}
	Liveness         = &Kind{Name: "liveness", About: "a liveness check of the peer", Check: "ike/no-liveness", For: true}
	AH               = &Kind{Name: "ah", About: "AH without ESP", Check: "esp/ah-alone", Against: true}
	IPCompression    = &Kind{Name: "ip-compression", About: "compression before encryption", Check: "esp/compression", Against: true}
	SHA1Signature    = &Kind{
		Name:    "sha1-signature",
		About:   "MD5 or SHA-1 in a certificate's signature",
		Check:   "key/weak-signature",
		Against: true,
	}
)

// LimitKinds and DemandKinds are all that a baseline may hold beside levels of algorithms.
func LimitKinds() []*Kind {
	return []*Kind{IKELifetime, ChildLifetime, KeyBits, KeyLength, RSABits, CurveBits, ReplayWindow, Volume64, CertificateExpiry}
}

// DemandKinds returns the kinds of demands.
func DemandKinds() []*Kind {
	return []*Kind{
		IKEv2,
		PFS,
		AggressiveWithKey,
		QuantumSafe,
		QuantumSafeKE,
		Certificates,
		ReplayProtection,
		ExtendedSequence,
		Liveness,
		AH,
		IPCompression,
		SHA1Signature,
	}
}

// About says what a name of a demand or a limit means; "" for an unknown one.
func About(name string) string {
	for _, k := range append(LimitKinds(), DemandKinds()...) {
		if k.Name == name {
			return k.About
		}
	}
	return ""
}

// judged are the types of transform whose levels some check enforces, by protocol.
var judged = map[ike.Protocol][]ike.Registry{
	ike.IKE: {ike.Encryption, ike.PRF, ike.Integrity, ike.KeyExchange, ike.AuthMethod},
	ike.ESP: {ike.Encryption, ike.Integrity, ike.KeyExchange},
	ike.AH:  {ike.Integrity, ike.KeyExchange},
}

// fits says what is wrong with a level of a demand; nil for nothing.
func (k *Kind) fits(l Level) error {
	switch {
	case l.Against() && !k.Against:
		return fmt.Errorf("no check enforces %s against %q: it can only be required", l, k.Name)
	case !l.Against() && l != May && !k.For:
		return fmt.Errorf("no check enforces %s for %q: it can only be advised against", l, k.Name)
	}
	return nil
}

func kindNamed(kinds []*Kind, name string) *Kind {
	if i := slices.IndexFunc(kinds, func(k *Kind) bool { return k.Name == name }); i >= 0 {
		return kinds[i]
	}
	return nil
}

func kindNames(kinds []*Kind) []string {
	var out []string
	for _, k := range kinds {
		out = append(out, k.Name)
	}
	slices.Sort(out)
	return out
}
