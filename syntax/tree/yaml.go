package tree

import (
	"bytes"
	"errors"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"

	"toril/internal/strictyaml"
	"toril/source"
	"toril/syntax"
)

// YAML reads one document, as programs take it in which a name may stand twice. Its error is an *Error.
func YAML(data []byte) (*Node, error) {
	parsed, err := strictyaml.ParseMerged("", data)
	if err != nil {
		var e *source.Error
		if errors.As(err, &e) {
			return nil, &Error{max(1, e.Line), e.Message}
		}
		return nil, &Error{1, err.Error()}
	}
	r := &yamlReader{data: data, lines: []int{0}}
	for i, b := range data {
		if b == '\n' {
			r.lines = append(r.lines, i+1)
		}
	}
	return r.node(parsed.Root(), 0), nil
}

type yamlReader struct {
	data  []byte
	lines []int // where each begins
}

func (r *yamlReader) node(n ast.Node, depth int) *Node {
	if depth > MaxDepth { // the parser has refused it before
		return &Node{Kind: Text}
	}
	if s, ok := n.(*ast.SequenceNode); ok {
		out := &Node{Kind: List}
		for _, v := range s.Values {
			out.Nodes = append(out.Nodes, r.node(v, depth+1))
		}
		return out
	}
	if pairs := strictyaml.Pairs(n); len(pairs) > 0 {
		out := &Node{Kind: Map}
		for _, kv := range pairs {
			m := r.node(kv.Value, depth+1)
			m.Key, m.Name = strings.Trim(kv.Key.String(), `"' `), r.place(kv.Key)
			out.Nodes = append(out.Nodes, m)
		}
		return out
	}
	switch n := n.(type) {
	case *ast.MappingNode:
		return &Node{Kind: Map}
	case *ast.LiteralNode:
		return &Node{Kind: Text, Text: n.Value.Value, Value: syntax.Place{Line: r.place(n).Line}}
	case *ast.StringNode:
		return &Node{Kind: Text, Text: scalar(n), Value: r.place(n)}
	}
	return &Node{Kind: Word, Text: scalar(n), Value: r.place(n)}
}

func scalar(n ast.Node) string {
	if n == nil || n.GetToken() == nil {
		return ""
	}
	return strings.TrimSpace(n.GetToken().Value)
}

// place returns where a name or a value of one line stands; of others only the line is known.
func (r *yamlReader) place(n ast.Node) syntax.Place {
	if n == nil || n.GetToken() == nil {
		return syntax.Place{}
	}
	t := n.GetToken()
	at := syntax.Place{Line: t.Position.Line}
	if at.Line < 1 || at.Line > len(r.lines) {
		return at
	}
	start, end := r.lines[at.Line-1], len(r.data)
	if at.Line < len(r.lines) {
		end = r.lines[at.Line] - 1
	}
	written := []byte(strings.TrimSpace(t.Origin)) // with its quotation marks
	if len(written) == 0 || bytes.IndexByte(written, '\n') >= 0 {
		return at
	}
	for range t.Position.Column - 1 {
		_, size := utf8.DecodeRune(r.data[start:end])
		start += size
	}
	if !bytes.HasPrefix(r.data[start:end], written) {
		return at
	}
	at.Range = source.Range{Start: start, End: start + len(written)}
	return at
}
