package tree

import (
	"bytes"
	"encoding/json"
	"fmt"
	"iter"
	"strings"

	"toril/source"
	"toril/syntax"
)

// JSON reads one value. Its error is an *Error.
func JSON(data []byte) (*Node, error) {
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.UseNumber()
	r := &jsonReader{dec: dec, t: &text{data: data, line: 1}}
	n, err := r.value(0)
	if err == nil && len(bytes.TrimSpace(data[dec.InputOffset():])) > 0 {
		err = &Error{Why: "something stands behind the value"}
	}
	if err == nil {
		return n, nil
	}
	e, ok := err.(*Error)
	if !ok {
		e = &Error{Why: fmt.Sprintf("it is not JSON: %v", err)}
	}
	if e.Line == 0 {
		e.Line = 1 + bytes.Count(data[:dec.InputOffset()], []byte("\n"))
	}
	return nil, e
}

type jsonReader struct {
	dec *json.Decoder
	t   *text
}

// token returns the next token and its bytes.
func (r *jsonReader) token() (json.Token, syntax.Place, error) {
	at := int(r.dec.InputOffset())
	tok, err := r.dec.Token()
	if err != nil {
		return nil, syntax.Place{}, err
	}
	end := int(r.dec.InputOffset())
	start := end - len(bytes.TrimLeft(r.t.data[at:end], " \t\r\n,:"))
	return tok, r.t.place(start, end), nil
}

func (r *jsonReader) value(depth int) (*Node, error) {
	tok, at, err := r.token()
	if err != nil {
		return nil, err
	}
	switch v := tok.(type) {
	case json.Delim:
		if depth >= MaxDepth {
			return nil, &Error{at.Line, fmt.Sprintf("values nest more than %d deep", MaxDepth)}
		}
		return r.collection(v, depth+1)
	case string:
		return &Node{Kind: Text, Text: v, Value: at}, nil
	}
	return &Node{Kind: Word, Text: string(r.t.data[at.Start:at.End]), Value: at}, nil
}

func (r *jsonReader) collection(open json.Delim, depth int) (*Node, error) {
	n := &Node{Kind: List}
	if open == '{' {
		n.Kind = Map
	}
	for r.dec.More() {
		key, name := "", syntax.Place{}
		if n.Kind == Map {
			tok, at, err := r.token()
			if err != nil {
				return nil, err
			}
			key, _ = tok.(string)
			name = at
		}
		m, err := r.value(depth)
		if err != nil {
			return nil, err
		}
		m.Key, m.Name = key, name
		n.Nodes = append(n.Nodes, m)
	}
	_, err := r.dec.Token() // what closes it
	return n, err
}

// Element is a value in a row of them, as it is written.
type Element struct {
	Raw json.RawMessage
	syntax.Place
}

// Elements returns the values of the row that a decoder of a text has just entered, one by one: the whole may be long. It ends with an
// *Error at the first that is broken, as nothing behind it can be told apart.
func Elements(data []byte, dec *json.Decoder) iter.Seq2[Element, error] {
	return func(yield func(Element, error) bool) {
		t := &text{data: data, line: 1}
		broken := func(err error) *Error {
			at := min(int(dec.InputOffset()), max(0, len(data)-1))
			return &Error{1 + bytes.Count(data[:at], []byte("\n")), fmt.Sprintf("the rest is not JSON: %v", err)}
		}
		for dec.More() {
			var raw json.RawMessage
			if err := dec.Decode(&raw); err != nil {
				yield(Element{}, broken(err))
				return
			}
			end := int(dec.InputOffset())
			if !yield(Element{raw, t.place(end-len(raw), end)}, nil) {
				return
			}
		}
		if _, err := dec.Token(); err != nil {
			yield(Element{}, broken(err))
		}
	}
}

// shortened is a text on one line.
func shortened(s string) string { return strings.Join(strings.Fields(source.Clean(s)), " ") }
