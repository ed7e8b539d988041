//go:build lab

package charon

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"sort"
)

// Section is a message of the VICI protocol: its values are string, []string or Section.
type Section map[string]any

// The types of packets and of message elements (strongSwan's VICI protocol, README of the plugin).
const (
	cmdRequest, cmdResponse, eventRegister, eventConfirm, event = 0, 1, 3, 5, 7

	sectionStart, sectionEnd, keyValue, listStart, listItem, listEnd = 1, 2, 3, 4, 5, 6
)

func encode(s Section) []byte {
	var out []byte
	name := func(kind byte, n string) { out = append(append(out, kind, byte(len(n))), n...) }
	value := func(v string) { out = append(binary.BigEndian.AppendUint16(out, uint16(len(v))), v...) }
	keys := make([]string, 0, len(s))
	for k := range s {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	for _, k := range keys {
		switch v := s[k].(type) {
		case Section:
			name(sectionStart, k)
			out = append(out, encode(v)...)
			out = append(out, sectionEnd)
		case []string:
			name(listStart, k)
			for _, item := range v {
				out = append(out, listItem)
				value(item)
			}
			out = append(out, listEnd)
		case string:
			name(keyValue, k)
			value(v)
		default:
			panic(fmt.Sprintf("vici: %T is not a value", v))
		}
	}
	return out
}

func decode(b []byte) (Section, error) {
	stack := []Section{{}}
	list := ""
	i := 0
	str := func(size int) (string, error) {
		if i+size > len(b) {
			return "", io.ErrUnexpectedEOF
		}
		n := 0
		for k := range size {
			n = n<<8 | int(b[i+k])
		}
		i += size
		if i+n > len(b) {
			return "", io.ErrUnexpectedEOF
		}
		i += n
		return string(b[i-n : i]), nil
	}
	for i < len(b) {
		kind := b[i]
		i++
		top := stack[len(stack)-1]
		switch kind {
		case sectionStart:
			n, err := str(1)
			if err != nil {
				return nil, err
			}
			sub := Section{}
			top[n] = sub
			stack = append(stack, sub)
		case sectionEnd:
			stack = stack[:len(stack)-1]
		case keyValue:
			n, err := str(1)
			if err != nil {
				return nil, err
			}
			v, err := str(2)
			if err != nil {
				return nil, err
			}
			top[n] = v
		case listStart:
			n, err := str(1)
			if err != nil {
				return nil, err
			}
			list = n
			top[n] = []string{}
		case listItem:
			v, err := str(2)
			if err != nil {
				return nil, err
			}
			top[list] = append(top[list].([]string), v)
		case listEnd:
		default:
			return nil, fmt.Errorf("vici: element of type %d", kind)
		}
	}
	return stack[0], nil
}

// conn is one connection to a daemon.
type conn struct{ net.Conn }

func (c conn) packet(b []byte) (events []Section, reply Section, err error) {
	if _, err := c.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(b))), b...)); err != nil {
		return nil, nil, err
	}
	for {
		var size [4]byte
		if _, err := io.ReadFull(c, size[:]); err != nil {
			return nil, nil, err
		}
		body := make([]byte, binary.BigEndian.Uint32(size[:]))
		if _, err := io.ReadFull(c, body); err != nil {
			return nil, nil, err
		}
		switch body[0] {
		case event:
			s, err := decode(body[2+int(body[1]):])
			if err != nil {
				return nil, nil, err
			}
			events = append(events, s)
		case cmdResponse:
			s, err := decode(body[1:])
			return events, s, err
		case eventConfirm:
			return events, nil, nil
		default:
			return nil, nil, fmt.Errorf("vici: the daemon answers with a packet of type %d", body[0])
		}
	}
}

func (c conn) command(name string, args Section) (events []Section, reply Section, err error) {
	b := append([]byte{cmdRequest, byte(len(name))}, name...)
	return c.packet(append(b, encode(args)...))
}
