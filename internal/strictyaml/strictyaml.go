// Package strictyaml reads YAML that people write for Toril, and YAML that gateways saved: with the line of every
// mistake, a suggestion for every unknown key, and bounds on what a hostile file may cost.
package strictyaml

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"
	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"toril/source"
)

// The bounds of a file: bytes, and how deep its collections nest.
const (
	MaxBytes = 1 << 20
	MaxDepth = 64
)

// Tree is a parsed document that knows its lines.
type Tree struct{ file *ast.File }

// Line returns the line of what a YAML path ("$.scopes[0]") leads to; 0 where it leads nowhere.
func (t *Tree) Line(path string) int {
	if t == nil || t.file == nil {
		return 0
	}
	if p, err := yaml.PathString(path); err == nil {
		if n, err := p.FilterFile(t.file); err == nil && n.GetToken() != nil {
			return n.GetToken().Position.Line
		}
	}
	return 0
}

// Root returns the top node of the document.
func (t *Tree) Root() ast.Node { return t.file.Docs[0].Body }

// Parse reads one document. Its error is a *source.Error with the line.
func Parse(file string, text []byte) (*Tree, error) { return parse(file, text) }

// ParseMerged is Parse for programs that take a key that stands twice, as Netplan does.
func ParseMerged(file string, text []byte) (*Tree, error) {
	return parse(file, text, parser.AllowDuplicateMapKey())
}

func parse(file string, text []byte, options ...parser.Option) (*Tree, error) {
	if line, err := bounded(text); err != nil {
		return nil, source.Errorf(source.Pos{File: file, Line: line}, "%v", err)
	}
	var tree *ast.File
	err := guarded(func() (err error) {
		tree, err = parser.ParseBytes(text, 0, options...)
		return err
	})
	if err != nil {
		return nil, yamlError(file, err)
	}
	if len(tree.Docs) != 1 || tree.Docs[0].Body == nil {
		return nil, source.Errorf(source.Pos{File: file}, "one YAML document was expected")
	}
	var odd refusedNodes
	ast.Walk(&odd, tree.Docs[0].Body)
	if odd.what != "" {
		return nil, source.Errorf(source.Pos{File: file, Line: odd.line}, "%s are not read", odd.what)
	}
	return &Tree{tree}, nil
}

// refusedNodes looks for the first node of a kind that no file for Toril needs and that makes the decoder do more than
// decode: tags, anchors, aliases and merge keys.
type refusedNodes struct {
	what string
	line int
}

// Visit implements ast.Visitor.
func (r *refusedNodes) Visit(n ast.Node) ast.Visitor {
	if r.what != "" {
		return nil
	}
	switch n.(type) {
	case *ast.TagNode:
		r.what = "tags (!…)"
	case *ast.AnchorNode:
		r.what = "anchors (&…)"
	case *ast.AliasNode, *ast.MergeKeyNode:
		r.what = "aliases (*…) and merge keys (<<)"
	default:
		return r
	}
	if t := n.GetToken(); t != nil {
		r.line = t.Position.Line
	}
	return nil
}

var errParser = errors.New("this is not YAML that can be read")

// guarded runs the YAML library over a hostile file: its panic is an error like any other.
func guarded(run func() error) (err error) {
	defer func() {
		if recover() != nil {
			err = errParser
		}
	}()
	return run()
}

// bounded looks for what would cost a YAML parser more than it is worth, before one sees it.
func bounded(text []byte) (line int, err error) {
	if len(text) > MaxBytes {
		return 0, fmt.Errorf("it is larger than %d MiB", MaxBytes>>20)
	}
	line = 1
	flow := 0
	for row := range bytes.Lines(text) {
		indent, dashes := 0, 0
		for _, c := range row {
			if c == ' ' {
				indent++
			} else if c == '-' {
				dashes++
			} else {
				break
			}
		}
		if indent > 16*MaxDepth || dashes > MaxDepth && bytes.Count(row, []byte("- ")) > MaxDepth {
			return line, fmt.Errorf("it nests more than %d deep", MaxDepth)
		}
		for _, c := range row {
			switch c {
			case '[', '{':
				flow++
			case ']', '}':
				flow = max(0, flow-1)
			}
			if flow > MaxDepth {
				return line, fmt.Errorf("it nests more than %d deep", MaxDepth)
			}
		}
		if trimmed := bytes.TrimSpace(row); bytes.Contains(row, []byte(": *")) || bytes.HasPrefix(trimmed, []byte("- *")) ||
			bytes.HasPrefix(trimmed, []byte("*")) {
			return line, errors.New("aliases are not read")
		}
		line++
	}
	return 0, nil
}

// Decode reads one document into a struct whose fields carry yaml tags. A key without a field is an error that suggests
// the nearest.
func Decode(file string, text []byte, into any) (*Tree, error) {
	t, err := Parse(file, text)
	if err != nil {
		return nil, err
	}
	if err := checkKeys(file, t.Root(), reflect.TypeOf(into).Elem()); err != nil {
		return nil, err
	}
	if err := guarded(func() error { return yaml.NodeToValue(t.Root(), into) }); err != nil {
		return nil, yamlError(file, err)
	}
	return t, nil
}

// yamlError says where a file can't be read and why, and never what stands there: the library's own text quotes it.
func yamlError(file string, err error) error {
	pos := source.Pos{File: file}
	var (
		ye       yaml.Error
		mistyped *yaml.TypeError
		syntax   *yaml.SyntaxError
	)
	if errors.As(err, &ye) && ye.GetToken() != nil {
		pos.Line = ye.GetToken().Position.Line
	}
	switch {
	case errors.As(err, &mistyped):
		return source.Errorf(pos, "%s was expected", kindName(mistyped.DstType))
	case errors.As(err, &syntax) && strings.Contains(syntax.Message, "already defined at"):
		return source.Errorf(pos, "this key stands twice")
	case errors.As(err, &syntax):
		return source.Errorf(pos, "this is not valid YAML")
	}
	return source.Errorf(pos, "%v", errParser)
}

func kindName(t reflect.Type) string {
	if t == nil {
		return "another value"
	}
	switch t.Kind() {
	case reflect.Slice:
		return "a list"
	case reflect.Map, reflect.Struct:
		return "a mapping"
	case reflect.String:
		return "text"
	case reflect.Bool:
		return "true or false"
	case reflect.Pointer:
		return kindName(t.Elem())
	}
	return "a number"
}

// checkKeys compares the keys of a YAML node with the fields of a type; a key that has no field is an error with the
// nearest name.
func checkKeys(file string, n ast.Node, t reflect.Type) error {
	switch t.Kind() {
	case reflect.Slice:
		seq, ok := n.(*ast.SequenceNode)
		if !ok {
			return expected(file, n, t)
		}
		for _, v := range seq.Values {
			if err := checkKeys(file, v, t.Elem()); err != nil {
				return err
			}
		}
	case reflect.Map:
		if Pairs(n) == nil {
			return expected(file, n, t)
		}
		for _, kv := range Pairs(n) {
			if err := checkKeys(file, kv.Value, t.Elem()); err != nil {
				return err
			}
		}
	case reflect.Struct:
		if Pairs(n) == nil {
			return expected(file, n, t)
		}
		fields := fieldsOf(t)
		for _, kv := range Pairs(n) {
			key := kv.Key.String()
			ft, ok := fields[key]
			if !ok {
				return source.Errorf(
					source.Pos{File: file, Line: kv.Key.GetToken().Position.Line},
					"%s",
					unknownKey(key, slices.Sorted(maps.Keys(fields))),
				)
			}
			if err := checkKeys(file, kv.Value, ft); err != nil {
				return err
			}
		}
	}
	return nil
}

// Pairs returns the keys and values of a mapping; nil where the node is none.
func Pairs(n ast.Node) []*ast.MappingValueNode {
	switch n := n.(type) {
	case *ast.MappingNode:
		return n.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{n}
	}
	return nil
}

func fieldsOf(t reflect.Type) map[string]reflect.Type {
	out := map[string]reflect.Type{}
	for f := range t.Fields() {
		tag, opts, _ := strings.Cut(f.Tag.Get("yaml"), ",")
		switch {
		case opts == "inline":
			for k, v := range fieldsOf(f.Type) {
				out[k] = v
			}
		case tag != "" && tag != "-":
			out[tag] = f.Type
		}
	}
	return out
}

// expected is the error of a node that is not of a type's kind; nil where nothing stands there.
func expected(file string, n ast.Node, t reflect.Type) error {
	if _, empty := n.(*ast.NullNode); empty || n.GetToken() == nil {
		return nil
	}
	if m, ok := n.(*ast.MappingNode); ok && len(m.Values) == 0 && t.Kind() != reflect.Slice {
		return nil
	}
	return source.Errorf(source.Pos{File: file, Line: n.GetToken().Position.Line}, "%s was expected", kindName(t))
}

// unknownKey names a key only where a known one is near: anything else may be a file of another kind, and a secret.
func unknownKey(key string, known []string) string {
	hint := Suggest(key, known)
	if strings.HasPrefix(hint, "did you mean") {
		return fmt.Sprintf("unknown key %q; %s", source.Clean(key), hint)
	}
	return "unknown key; " + hint
}

// Suggest names the nearest of the known words, or all of them.
func Suggest(word string, known []string) string {
	best, distance := "", 1+len(word)/2
	for _, k := range known {
		if d := levenshtein.ComputeDistance(strings.ToLower(word), strings.ToLower(k)); d < distance {
			best, distance = k, d
		}
	}
	if best != "" {
		return fmt.Sprintf("did you mean %q?", best)
	}
	if len(known) > 24 {
		return fmt.Sprintf("%d names are known, such as %s", len(known), strings.Join(known[:6], ", "))
	}
	return "known are: " + strings.Join(known, ", ")
}
