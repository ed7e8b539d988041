package tree

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
)

// XML reads one element. An element with others in it is a map of these, its attributes first, one with nothing but text is a text; names
// have no namespace. Its error is an *Error.
func XML(data []byte) (*Node, error) {
	dec := xml.NewDecoder(bytes.NewReader(data))
	dec.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil } // bytes are what they are
	r := &xmlReader{dec: dec, t: &text{data: data, line: 1}}
	n, err := r.root()
	if err == nil {
		return n, nil
	}
	e, ok := err.(*Error)
	if !ok {
		var wrong *xml.SyntaxError
		e = &Error{Why: "it is not XML: " + shortened(err.Error())}
		if errors.As(err, &wrong) {
			e = &Error{wrong.Line, "it is not XML: " + shortened(wrong.Msg)}
		}
	}
	if e.Line == 0 {
		e.Line = 1 + bytes.Count(data[:dec.InputOffset()], []byte("\n"))
	}
	return nil, e
}

type xmlReader struct {
	dec *xml.Decoder
	t   *text
}

// root reads up to the end of the file, which holds one element.
func (r *xmlReader) root() (*Node, error) {
	var root *Node
	for {
		at := int(r.dec.InputOffset())
		tok, err := r.dec.Token()
		if err == io.EOF && root != nil {
			return root, nil
		}
		if err == io.EOF {
			return nil, &Error{Why: "there is no element"}
		}
		if err != nil {
			return nil, err
		}
		switch v := tok.(type) {
		case xml.StartElement:
			if root != nil {
				return nil, &Error{Why: "a second element stands behind the first"}
			}
			if root, err = r.element(v, at, 1); err != nil {
				return nil, err
			}
		case xml.CharData:
			if len(bytes.TrimSpace(v)) > 0 {
				return nil, &Error{Why: "text stands outside of the element"}
			}
		}
	}
}

// element reads up to its end tag; at is where its start tag begins.
func (r *xmlReader) element(start xml.StartElement, at, depth int) (*Node, error) {
	n := &Node{Kind: Text, Key: start.Name.Local, Name: r.t.place(at, int(r.dec.InputOffset()))}
	if depth > MaxDepth {
		return nil, &Error{n.Name.Line, fmt.Sprintf("elements nest more than %d deep", MaxDepth)}
	}
	for _, a := range start.Attr {
		n.Kind = Map
		n.Nodes = append(n.Nodes, &Node{Kind: Text, Key: a.Name.Local, Text: a.Value})
	}
	for {
		at := int(r.dec.InputOffset())
		tok, err := r.dec.Token()
		if err != nil {
			return nil, err
		}
		switch v := tok.(type) {
		case xml.StartElement:
			m, err := r.element(v, at, depth+1)
			if err != nil {
				return nil, err
			}
			n.Kind = Map
			n.Nodes = append(n.Nodes, m)
		case xml.CharData:
			said := bytes.TrimSpace(v)
			if len(said) == 0 {
				continue
			}
			n.Text += string(said)
			if n.Value.End > 0 { // it goes on behind something else: only its line is known
				n.Value.End, n.Value.Start = 0, 0
				continue
			}
			raw := r.t.data[at:r.dec.InputOffset()]
			first := at + len(raw) - len(bytes.TrimLeft(raw, " \t\r\n"))
			n.Value = r.t.place(first, at+len(bytes.TrimRight(raw, " \t\r\n")))
		case xml.EndElement:
			return n, nil
		}
	}
}
