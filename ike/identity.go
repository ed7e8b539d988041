package ike

import (
	"net/netip"
	"strings"
)

// Method is how one side proves who it is.
type Method uint8

// The methods.
const (
	AnyMethod   Method = iota // whatever the peer uses
	PSK                       // pre-shared key
	Certificate               // signature by a certificate or public key
	EAP                       // RFC 7296 section 2.16
	XAuth                     // IKEv1 extended authentication, after another method
	NoAuth                    // RFC 7619
)

// String returns the method's everyday name.
func (m Method) String() string {
	return [...]string{"any method", "pre-shared key", "certificate or public key", "EAP", "XAuth", "no authentication"}[m]
}

// IDKind is the type of an identity (RFC 7296 section 3.5).
type IDKind uint8

// The kinds.
const (
	AnyID  IDKind = iota // every identity
	NoID                 // none said: the address, or a certificate's subject
	IDAddr               // ID_IPV4_ADDR or ID_IPV6_ADDR
	IDFQDN               // ID_FQDN
	IDMail               // ID_RFC822_ADDR
	IDDN                 // ID_DER_ASN1_DN
	IDKey                // ID_KEY_ID
	IDNet                // a network or range, for matching only
	IDHost               // the name of the host, ID_FQDN, which no file says
)

// String returns the IANA name.
func (k IDKind) String() string {
	return [...]string{"any", "none", "ID_IPV4_ADDR", "ID_FQDN", "ID_RFC822_ADDR", "ID_DER_ASN1_DN", "ID_KEY_ID", "network", "ID_FQDN"}[k]
}

// Identity is who a peer says it is, or who it must be. Value is in a canonical form: equal identities are ==.
type Identity struct {
	Kind  IDKind
	Value string
}

// Addr makes the identity of an address.
func Addr(a netip.Addr) Identity { return Identity{IDAddr, a.String()} }

// FQDN makes the identity of a name, which is the same whatever its case.
func FQDN(name string) Identity { return Identity{IDFQDN, strings.ToLower(name)} }

// DN makes the identity of a distinguished name, in one form whether it was written "C=AT, CN=a" or "/C=AT/CN=a", whatever name its mail
// address goes by, and with neither case nor more blanks than one in its values (RFC 5280 section 7.1). A separator within a value stands
// behind a backslash or within quotes (RFC 4514 section 2.4), and is kept as RFC 4514 writes it in hex.
func DN(text string) Identity {
	separator := byte(',')
	if rest, ok := strings.CutPrefix(text, "/"); ok {
		text, separator = rest, '/'
	}
	parts := attributesOf(text, separator)
	for i, part := range parts {
		key, value, _ := strings.Cut(part, "=")
		if key = strings.ToUpper(strings.TrimSpace(key)); key == "EMAIL" || key == "EMAILADDRESS" {
			key = "E"
		}
		parts[i] = key + "=" + strings.ToLower(strings.Join(strings.Fields(value), " "))
	}
	return Identity{IDDN, strings.Join(parts, ", ")}
}

// attributesOf splits a distinguished name at its separators but for those that are quoted, which it turns into "\2c".
func attributesOf(text string, separator byte) []string {
	var out []string
	var part strings.Builder
	quoted := false
	put := func(c byte) {
		if c == ',' {
			part.WriteString(`\2c`)
			return
		}
		part.WriteByte(c)
	}
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\' && i+1 < len(text) && !strings.HasPrefix(text[i:], `\2c`):
			i++
			put(text[i])
		case c == '"':
			quoted = !quoted
		case c == separator && !quoted:
			out = append(out, part.String())
			part.Reset()
		case c == ',':
			put(c)
		default:
			part.WriteByte(c)
		}
	}
	return append(out, part.String())
}

// String returns the identity as people write it.
func (id Identity) String() string {
	switch id.Kind {
	case AnyID:
		return "any"
	case NoID:
		return "not said"
	case IDHost:
		return "the name of its host"
	}
	return id.Value
}

// Definite reports whether the identity is one: it is said, and stands for no other.
func (id Identity) Definite() bool { return !id.Wild() && id.Kind != NoID && id.Kind != IDHost }

// Wild reports whether the identity stands for more than one.
func (id Identity) Wild() bool {
	return id.Kind == AnyID || id.Kind == IDNet || strings.Contains(id.Value, "*")
}

// Accepts reports whether a peer's identity satisfies id: the same, or one that id's wildcards cover. "*." at the
// start of a name covers any number of labels; in a distinguished name "*" covers one value.
func (id Identity) Accepts(peer Identity) bool {
	switch {
	case id.Kind == AnyID || id == peer:
		return true
	case id.Kind == IDNet:
		return peer.Kind == IDAddr && inNet(id.Value, peer.Value)
	case id.Kind != peer.Kind || !strings.Contains(id.Value, "*"):
		return false
	case id.Kind == IDDN:
		want, have := strings.Split(id.Value, ", "), strings.Split(peer.Value, ", ")
		if len(want) != len(have) {
			return false
		}
		for i := range want {
			wantKey, wantValue, _ := strings.Cut(want[i], "=")
			haveKey, haveValue, _ := strings.Cut(have[i], "=")
			if wantKey != haveKey || wantValue != haveValue && wantValue != "*" {
				return false
			}
		}
		return true
	}
	tail, ok := strings.CutPrefix(id.Value, "*")
	return ok && strings.HasSuffix(peer.Value, tail)
}

func inNet(network, addr string) bool {
	a, err := netip.ParseAddr(addr)
	if err != nil {
		return false
	}
	if lo, hi, ok := strings.Cut(network, "-"); ok {
		l, err1 := netip.ParseAddr(lo)
		h, err2 := netip.ParseAddr(hi)
		return err1 == nil && err2 == nil && l.BitLen() == a.BitLen() && l.Compare(a) <= 0 && a.Compare(h) <= 0
	}
	p, err := netip.ParsePrefix(network)
	return err == nil && p.Contains(a)
}
