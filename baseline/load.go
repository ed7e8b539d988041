package baseline

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/agnivade/levenshtein"
	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"toril/ike"
	"toril/source"
)

//go:embed data/*.yaml
var data embed.FS

// Default is the name of the baseline that holds where none is asked for.
const Default = "sound"

// Names returns the embedded baselines, the default first.
func Names() []string {
	entries, _ := fs.ReadDir(data, "data")
	out := []string{Default}
	for _, e := range entries {
		if name := strings.TrimSuffix(e.Name(), ".yaml"); name != Default {
			out = append(out, name)
		}
	}
	return out
}

// Named returns an embedded baseline. Its error suggests a name that is meant.
func Named(name string) (*Baseline, error) {
	text, err := data.ReadFile("data/" + name + ".yaml")
	if err != nil {
		return nil, fmt.Errorf("there is no baseline %q; %s", name, suggest(name, Names()))
	}
	return Parse(name+".yaml", text)
}

// Parse reads a baseline. An error is a *source.Error with the line of what is wrong and a suggestion.
func Parse(file string, text []byte) (*Baseline, error) {
	doc, err := decode(file, text)
	if err != nil {
		return nil, err
	}
	b, err := doc.baseline(file)
	if err != nil {
		return nil, err
	}
	if doc.Extends != "" {
		base, err := Named(doc.Extends)
		if err != nil {
			return nil, doc.errorf(file, "$.extends", "%v", err)
		}
		merged := over(base, b)
		merged.Extends = doc.Extends
		merged.Scopes = b.Scopes
		b = &merged
	}
	for i := range b.Scopes {
		b.Scopes[i].Baseline.Name = b.Name
	}
	return b, nil
}

// file is a baseline as it is written.
type document struct {
	Name      string            `yaml:"name"`
	Title     string            `yaml:"title"`
	About     string            `yaml:"about"`
	Extends   string            `yaml:"extends"`
	Documents []Document        `yaml:"documents"`
	Rules     []ruleText        `yaml:"algorithms"`
	Limits    map[string]limit  `yaml:"limits"`
	Demands   map[string]demand `yaml:"demands"`
	Scopes    []scopeText       `yaml:"scopes"`
	tree      *ast.File         `yaml:"-"`
}

type ruleText struct {
	For    []string `yaml:"for"`
	Type   string   `yaml:"type"`
	Names  []string `yaml:"names"`
	Bits   []int    `yaml:"bits"`
	Level  string   `yaml:"level"`
	Source `yaml:",inline"`
}

type limit struct {
	Most   string `yaml:"most"`
	Least  string `yaml:"least"`
	Level  string `yaml:"level"`
	Source `yaml:",inline"`
}

type demand struct {
	Level  string `yaml:"level"`
	Source `yaml:",inline"`
}

type scopeText struct {
	Gateways []string          `yaml:"gateways"`
	Partners []string          `yaml:"partners"`
	Rules    []ruleText        `yaml:"algorithms"`
	Limits   map[string]limit  `yaml:"limits"`
	Demands  map[string]demand `yaml:"demands"`
}

func decode(file string, text []byte) (*document, error) {
	tree, err := parser.ParseBytes(text, 0)
	if err != nil {
		return nil, yamlError(file, err)
	}
	var d document
	d.tree = tree
	if len(tree.Docs) != 1 || tree.Docs[0].Body == nil {
		return nil, source.Errorf(source.Pos{File: file}, "a baseline is one YAML document with a name")
	}
	if err := checkKeys(file, tree.Docs[0].Body, reflect.TypeFor[document]()); err != nil {
		return nil, err
	}
	if err := yaml.Unmarshal(text, &d); err != nil {
		return nil, yamlError(file, err)
	}
	return &d, nil
}

func yamlError(file string, err error) error {
	var ye yaml.Error
	if errors.As(err, &ye) && ye.GetToken() != nil {
		return source.Errorf(source.Pos{File: file, Line: ye.GetToken().Position.Line}, "%s", ye.GetMessage())
	}
	return source.Errorf(source.Pos{File: file}, "%v", err)
}

// checkKeys compares the keys of a YAML node with the fields of a type; a key that has no field is an error with the
// nearest name.
func checkKeys(file string, n ast.Node, t reflect.Type) error {
	switch t.Kind() {
	case reflect.Slice:
		seq, ok := n.(*ast.SequenceNode)
		if !ok {
			return nil // a wrong type: decoding says so
		}
		for _, v := range seq.Values {
			if err := checkKeys(file, v, t.Elem()); err != nil {
				return err
			}
		}
	case reflect.Map:
		for _, kv := range pairs(n) {
			if err := checkKeys(file, kv.Value, t.Elem()); err != nil {
				return err
			}
		}
	case reflect.Struct:
		fields := fieldsOf(t)
		for _, kv := range pairs(n) {
			key := kv.Key.String()
			ft, ok := fields[key]
			if !ok {
				return source.Errorf(source.Pos{File: file, Line: kv.Key.GetToken().Position.Line}, "unknown key %q; %s", source.Clean(key), suggest(key, mapKeys(fields)))
			}
			if err := checkKeys(file, kv.Value, ft); err != nil {
				return err
			}
		}
	}
	return nil
}

func pairs(n ast.Node) []*ast.MappingValueNode {
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

// suggest names the nearest of the known words, or all of them.
func suggest(word string, known []string) string {
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

// errorf makes an error at the line of what a YAML path leads to.
func (d *document) errorf(file, at, format string, args ...any) error {
	pos := source.Pos{File: file}
	if p, err := yaml.PathString(at); err == nil {
		if n, err := p.FilterFile(d.tree); err == nil && n.GetToken() != nil {
			pos.Line = n.GetToken().Position.Line
		}
	}
	return source.Errorf(pos, format, args...)
}

func (d *document) baseline(file string) (*Baseline, error) {
	if d.Name == "" {
		return nil, source.Errorf(source.Pos{File: file, Line: 1}, "a baseline has a name")
	}
	b := &Baseline{Name: d.Name, Title: d.Title, About: d.About, Documents: d.Documents}
	if err := d.fill(b, file, "$", d.Rules, d.Limits, d.Demands); err != nil {
		return nil, err
	}
	for i, s := range d.Scopes {
		sub := &Baseline{}
		if err := d.fill(sub, file, fmt.Sprintf("$.scopes[%d]", i), s.Rules, s.Limits, s.Demands); err != nil {
			return nil, err
		}
		b.Scopes = append(b.Scopes, Scope{s.Gateways, s.Partners, sub})
	}
	return b, nil
}

func (d *document) fill(b *Baseline, file, at string, rules []ruleText, limits map[string]limit, demands map[string]demand) error {
	for i, r := range rules {
		rule, where, err := r.parse()
		if err != nil {
			return d.errorf(file, fmt.Sprintf("%s.algorithms[%d].%s", at, i, where), "%v", err)
		}
		b.Rules = append(b.Rules, rule)
	}
	b.Limits, b.Demands = map[string]Limit{}, map[string]Demand{}
	for _, name := range mapKeys(limits) {
		l := limits[name]
		where := fmt.Sprintf("%s.limits.%s", at, name)
		if LimitNames[name] == "" {
			return d.errorf(file, where, "unknown limit %q; %s", source.Clean(name), suggest(name, mapKeys(LimitNames)))
		}
		out := Limit{Name: name, Source: l.Source, Level: Must}
		for _, bound := range []struct {
			text string
			to   *float64
			key  string
		}{{l.Most, &out.Most, ".most"}, {l.Least, &out.Least, ".least"}} {
			if bound.text == "" {
				continue
			}
			n, err := quantity(bound.text)
			if err != nil {
				return d.errorf(file, where+bound.key, "%v", err)
			}
			*bound.to = n
		}
		if l.Level != "" {
			level, err := parseLevel(l.Level)
			if err != nil {
				return d.errorf(file, where+".level", "%v", err)
			}
			out.Level = level
		}
		b.Limits[name] = out
	}
	for _, name := range mapKeys(demands) {
		where := fmt.Sprintf("%s.demands.%s", at, name)
		if DemandNames[name] == "" {
			return d.errorf(file, where, "unknown demand %q; %s", source.Clean(name), suggest(name, mapKeys(DemandNames)))
		}
		level, err := parseLevel(demands[name].Level)
		if err != nil {
			return d.errorf(file, where+".level", "%v", err)
		}
		b.Demands[name] = Demand{name, level, demands[name].Source}
	}
	return nil
}

var types = map[string]ike.Registry{"encryption": ike.Encryption, "prf": ike.PRF, "integrity": ike.Integrity, "key-exchange": ike.KeyExchange, "authentication": ike.AuthMethod}
var protocols = map[string]ike.Protocol{"ike": ike.IKE, "esp": ike.ESP, "ah": ike.AH}

func (r ruleText) parse() (rule Rule, where string, err error) {
	for _, name := range r.For {
		p, ok := protocols[name]
		if !ok {
			return rule, "for", fmt.Errorf("unknown protocol %q; %s", source.Clean(name), suggest(name, mapKeys(protocols)))
		}
		rule.For = append(rule.For, p)
	}
	t, ok := types[r.Type]
	if !ok {
		return rule, "type", fmt.Errorf("unknown type %q; %s", source.Clean(r.Type), suggest(r.Type, mapKeys(types)))
	}
	for _, name := range r.Names {
		if name == "*" {
			continue
		}
		if ike.ByName(t, name) == nil {
			var known []string
			for _, a := range ike.Catalogue {
				if a.Registry == t {
					known = append(known, a.Name)
				}
			}
			return rule, "names", fmt.Errorf("unknown %s algorithm %q; %s", t, source.Clean(name), suggest(name, known))
		}
	}
	level, err := parseLevel(r.Level)
	if err != nil {
		return rule, "level", err
	}
	rule.Type, rule.Names, rule.Bits, rule.Level, rule.Source = t, r.Names, r.Bits, level, r.Source
	return rule, "", nil
}

func parseLevel(s string) (Level, error) {
	if i := slices.Index(levelNames[:], s); i > 0 {
		return Level(i), nil
	}
	return Unsaid, fmt.Errorf("unknown level %q; %s", source.Clean(s), suggest(s, levelNames[1:]))
}

// quantity reads a number, a time with s, min, h or d (gives seconds), or a size with KiB, MiB or GiB (gives bytes).
func quantity(text string) (float64, error) {
	i := strings.LastIndexAny(text, "0123456789.") + 1
	n, err := strconv.ParseFloat(text[:i], 64)
	unit, ok := map[string]float64{"": 1, "s": 1, "min": 60, "h": time.Hour.Seconds(), "d": 24 * time.Hour.Seconds(),
		"KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30, "bits": 1, "packets": 1}[strings.TrimSpace(text[i:])]
	if err != nil || !ok || math.IsInf(n, 0) || n < 0 {
		return 0, fmt.Errorf("%q is not a number, a time (s, min, h, d) or a size (KiB, MiB, GiB)", source.Clean(text))
	}
	return n * unit, nil
}
