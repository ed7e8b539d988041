package strongswan

import (
	"encoding/hex"
	"net/netip"
	"strings"

	"toril/ike"
	"toril/model"
	"toril/model/literal"
)

// ParseIdentity reads an identity as the daemon does (swanctl.conf(5), ipsec.conf(5)): the type follows from the form,
// or from a prefix such as "fqdn:", "keyid:", "@#".
func ParseIdentity(text string) ike.Identity {
	text = strings.TrimSpace(text)
	if kind, rest, ok := strings.Cut(text, ":"); ok {
		if id, ok := prefixed(strings.ToLower(kind), rest); ok {
			return id
		}
	}
	switch {
	case text == "" || text == "%any" || text == "%any6" || text == "*" || text == "0.0.0.0" || text == "::":
		return ike.Identity{Kind: ike.AnyID}
	case strings.HasPrefix(text, "@#"):
		return ike.Identity{Kind: ike.IDKey, Value: "#" + strings.ToLower(text[2:])}
	case strings.HasPrefix(text, "@@"):
		return ike.Identity{Kind: ike.IDMail, Value: strings.ToLower(text[2:])}
	case strings.HasPrefix(text, "@"):
		return ike.FQDN(text[1:])
	case strings.Contains(text, "="):
		return ike.DN(text)
	case strings.Contains(text, "@"):
		return ike.Identity{Kind: ike.IDMail, Value: strings.ToLower(text)}
	}
	if a, err := netip.ParseAddr(text); err == nil {
		return ike.Addr(a)
	}
	if p, err := netip.ParsePrefix(text); err == nil {
		return ike.Identity{Kind: ike.IDNet, Value: p.Masked().String()}
	}
	if lo, hi, ok := strings.Cut(text, "-"); ok {
		if l, err := netip.ParseAddr(lo); err == nil {
			if h, err := netip.ParseAddr(hi); err == nil {
				return ike.Identity{Kind: ike.IDNet, Value: l.String() + "-" + h.String()}
			}
		}
	}
	return ike.FQDN(text)
}

func prefixed(kind, rest string) (ike.Identity, bool) {
	if hexed, ok := strings.CutPrefix(rest, "#"); ok && kind != "keyid" {
		b, err := hex.DecodeString(hexed)
		if err != nil {
			return ike.Identity{}, false
		}
		if a, ok := netip.AddrFromSlice(b); ok && (kind == "ipv4" || kind == "ipv6") {
			return ike.Addr(a), true
		}
		rest = string(b)
	}
	switch kind {
	case "fqdn", "dns":
		return ike.FQDN(rest), true
	case "rfc822", "email", "userfqdn":
		return ike.Identity{Kind: ike.IDMail, Value: strings.ToLower(rest)}, true
	case "keyid":
		return ike.Identity{Kind: ike.IDKey, Value: rest}, true
	case "asn1dn":
		return ike.DN(rest), true
	case "ipv4", "ipv6", "ipv4net", "ipv6net", "ipv4range", "ipv6range", "asn1gn", "xmppaddr":
		return ike.Identity{Kind: ike.IDKey, Value: kind + ":" + rest}, true // taken literally: equal to nothing else
	}
	return ike.Identity{}, false
}

// Addresses reads a list of addresses, networks, ranges and names.
func Addresses(text string) model.Addresses {
	var out model.Addresses
	for part := range strings.SplitSeq(text, ",") {
		if part = strings.TrimSpace(part); part != "" {
			out = append(out, literal.Host(part))
		}
	}
	return out
}
