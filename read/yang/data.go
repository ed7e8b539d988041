package yang

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"strings"
)

// object is a container or an entry of a list: members in their order. A member's value is an object, a list of objects, a list of texts or
// numbers, a text, a number or a truth.
type object []member

type member struct {
	key   string // with its module where that changes (RFC 7951, section 4)
	value any
}

// put adds a member, unless its value is nothing.
func (o *object) put(key string, value any) {
	switch v := value.(type) {
	case nil:
		return
	case object:
		if len(v) == 0 {
			return
		}
	case []object:
		if len(v) == 0 {
			return
		}
	case []any:
		if len(v) == 0 {
			return
		}
	case string:
		if v == "" {
			return
		}
	}
	*o = append(*o, member{key, value})
}

// within puts a value at a path, with the containers on the way to it.
func (o *object) within(path string, value any) {
	name, rest, deeper := strings.Cut(path, "/")
	if !deeper {
		o.put(name, value)
		return
	}
	for i := range *o {
		if in, ok := (*o)[i].value.(object); ok && (*o)[i].key == name {
			in.within(rest, value)
			(*o)[i].value = in
			return
		}
	}
	var in object
	in.within(rest, value)
	o.put(name, in)
}

// MarshalJSON writes the members in their order (RFC 7951). Numbers of 64 bits are texts there.
func (o object) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	b.WriteByte('{')
	for i, m := range o {
		if i > 0 {
			b.WriteByte(',')
		}
		key, _ := json.Marshal(m.key)
		v := m.value
		if long, ok := v.(big); ok {
			v = fmt.Sprint(uint64(long))
		}
		value, err := json.Marshal(v)
		if err != nil {
			return nil, err
		}
		b.Write(key)
		b.WriteByte(':')
		b.Write(value)
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

// big is a number of 64 bits.
type big uint64

// empty is the value of a leaf of the type empty.
type empty struct{}

// MarshalJSON writes it as RFC 7951, section 6.9 has it.
func (empty) MarshalJSON() ([]byte, error) { return []byte("[null]"), nil }

// namespaces are those of the modules.
var namespaces = map[string]string{
	"ietf-interfaces":           "urn:ietf:params:xml:ns:yang:ietf-interfaces",
	"ietf-ip":                   "urn:ietf:params:xml:ns:yang:ietf-ip",
	"iana-if-type":              "urn:ietf:params:xml:ns:yang:iana-if-type",
	"ietf-routing":              "urn:ietf:params:xml:ns:yang:ietf-routing",
	"ietf-ipv4-unicast-routing": "urn:ietf:params:xml:ns:yang:ietf-ipv4-unicast-routing",
	"ietf-ipv6-unicast-routing": "urn:ietf:params:xml:ns:yang:ietf-ipv6-unicast-routing",
	"ietf-access-control-list":  "urn:ietf:params:xml:ns:yang:ietf-access-control-list",
	"ietf-nat":                  "urn:ietf:params:xml:ns:yang:ietf-nat",
	"ietf-i2nsf-ike":            "urn:ietf:params:xml:ns:yang:ietf-i2nsf-ike",
	LeftOut:                     "https://toril.example/yang/" + LeftOut,
}

// writeJSON writes instance data as JSON.
func writeJSON(w io.Writer, o object) error {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(o)
}

// writeXML writes instance data as XML, in an element that holds all of it.
func writeXML(w io.Writer, o object) error {
	var b bytes.Buffer
	b.WriteString(xml.Header + "<data>\n")
	for _, m := range o {
		writeElement(&b, m.key, m.value, 1)
	}
	b.WriteString("</data>\n")
	_, err := w.Write(b.Bytes())
	return err
}

// writeElement writes a member: a list as an element for each entry.
func writeElement(b *bytes.Buffer, key string, value any, depth int) {
	switch v := value.(type) {
	case []object:
		for _, one := range v {
			writeElement(b, key, one, depth)
		}
		return
	case []any:
		for _, one := range v {
			writeElement(b, key, one, depth)
		}
		return
	}
	indent := strings.Repeat("  ", depth)
	module, name, qualified := strings.Cut(key, ":")
	space := ""
	if !qualified {
		name = key
	} else {
		space = fmt.Sprintf(" xmlns=%q", namespaces[module])
	}
	switch v := value.(type) {
	case object:
		fmt.Fprintf(b, "%s<%s%s>\n", indent, name, space)
		for _, m := range v {
			writeElement(b, m.key, m.value, depth+1)
		}
		fmt.Fprintf(b, "%s</%s>\n", indent, name)
	case empty:
		fmt.Fprintf(b, "%s<%s%s/>\n", indent, name, space)
	default:
		text := fmt.Sprint(v)
		if module, _, ok := strings.Cut(text, ":"); ok && namespaces[module] != "" { // an identity
			space += fmt.Sprintf(" xmlns:%s=%q", module, namespaces[module])
		}
		fmt.Fprintf(b, "%s<%s%s>", indent, name, space)
		_ = xml.EscapeText(b, []byte(text))
		fmt.Fprintf(b, "</%s>\n", name)
	}
}
