package baseline

import (
	"embed"
	"fmt"
	"io/fs"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"toril/ike"
	"toril/internal/strictyaml"
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
		return nil, fmt.Errorf("there is no baseline %q; %s", name, strictyaml.Suggest(name, Names()))
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
	tree      *strictyaml.Tree  `yaml:"-"`
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
	var d document
	tree, err := strictyaml.Decode(file, text, &d)
	d.tree = tree
	return &d, err
}

// errorf makes an error at the line of what a YAML path leads to.
func (d *document) errorf(file, at, format string, args ...any) error {
	return source.Errorf(source.Pos{File: file, Line: d.tree.Line(at)}, format, args...)
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

// fill reads the rules, limits and demands that stand at a place of the file.
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
		out, err := d.limit(file, fmt.Sprintf("%s.limits.%s", at, name), name, limits[name])
		if err != nil {
			return err
		}
		b.Limits[name] = out
	}
	for _, name := range mapKeys(demands) {
		where := fmt.Sprintf("%s.demands.%s", at, name)
		kind := kindNamed(DemandKinds(), name)
		if kind == nil {
			return d.errorf(file, where, "unknown demand %q; %s", source.Clean(name), strictyaml.Suggest(name, kindNames(DemandKinds())))
		}
		level, err := parseLevel(demands[name].Level)
		if err == nil {
			err = kind.fits(level)
		}
		if err != nil {
			return d.errorf(file, where+".level", "%v", err)
		}
		b.Demands[name] = Demand{name, level, demands[name].Source}
	}
	return nil
}

// limit reads one limit, which stands at a place of the file.
func (d *document) limit(file, where, name string, l limit) (Limit, error) {
	out := Limit{Name: name, Source: l.Source, Level: Must}
	kind := kindNamed(LimitKinds(), name)
	if kind == nil {
		return out, d.errorf(file, where, "unknown limit %q; %s", source.Clean(name), strictyaml.Suggest(name, kindNames(LimitKinds())))
	}
	for _, bound := range []struct {
		text string
		to   *float64
		key  string
		may  bool
	}{{l.Most, &out.Most, ".most", kind.Most}, {l.Least, &out.Least, ".least", kind.Least}} {
		if bound.text == "" {
			continue
		}
		if !bound.may {
			return out, d.errorf(file, where+bound.key, "no check enforces a bound %q of %s", bound.key[1:], name)
		}
		n, err := quantity(bound.text, kind.Unit)
		if err != nil {
			return out, d.errorf(file, where+bound.key, "%v", err)
		}
		*bound.to = n
	}
	if l.Level != "" {
		level, err := parseLevel(l.Level)
		if err != nil {
			return out, d.errorf(file, where+".level", "%v", err)
		}
		if level.Against() {
			return out, d.errorf(file, where+".level", "a limit says what must or should be; %s says nothing about a bound", level)
		}
		out.Level = level
	}
	if l.Most == "" && l.Least == "" {
		return out, d.errorf(file, where, "a limit has a bound: %s", bounds(kind))
	}
	return out, nil
}

var types = map[string]ike.Registry{
	"encryption":     ike.Encryption,
	"prf":            ike.PRF,
	"integrity":      ike.Integrity,
	"key-exchange":   ike.KeyExchange,
	"authentication": ike.AuthMethod,
}
var protocols = map[string]ike.Protocol{"ike": ike.IKE, "esp": ike.ESP, "ah": ike.AH}

func (r ruleText) parse() (rule Rule, where string, err error) {
	for _, name := range r.For {
		p, ok := protocols[name]
		if !ok {
			return rule, "for", fmt.Errorf("unknown protocol %q; %s", source.Clean(name), strictyaml.Suggest(name, mapKeys(protocols)))
		}
		rule.For = append(rule.For, p)
	}
	t, ok := types[r.Type]
	if !ok {
		return rule, "type", fmt.Errorf("unknown type %q; %s", source.Clean(r.Type), strictyaml.Suggest(r.Type, mapKeys(types)))
	}
	for _, p := range rule.For {
		if !slices.Contains(judged[p], t) {
			return rule, "type", fmt.Errorf("no check judges the %s algorithms of %s", t, p)
		}
	}
	if len(r.For) == 0 {
		return rule, "type", fmt.Errorf("a rule says for which protocols it is: for: [ike, esp]")
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
			return rule, "names", fmt.Errorf("unknown %s algorithm %q; %s", t, source.Clean(name), strictyaml.Suggest(name, known))
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
	return Unsaid, fmt.Errorf("unknown level %q; %s", source.Clean(s), strictyaml.Suggest(s, levelNames[1:]))
}

// bounds names those that a limit of a kind may have.
func bounds(k *Kind) string {
	switch {
	case k.Most && k.Least:
		return "most, least or both"
	case k.Most:
		return "most"
	}
	return "least"
}

// quantity reads a number of a unit: a time with s, min, h or d (gives seconds), a size with KiB, MiB or GiB (gives bytes), or a
// number alone.
func quantity(text string, unit Unit) (float64, error) {
	i := strings.LastIndexAny(text, "0123456789.") + 1
	n, err := strconv.ParseFloat(text[:i], 64)
	words := map[string]float64{"": 1}
	form := "a number"
	switch unit {
	case Seconds:
		words = map[string]float64{"": 1, "s": 1, "min": 60, "h": time.Hour.Seconds(), "d": 24 * time.Hour.Seconds()}
		form = "a time (s, min, h, d)"
	case Bytes:
		words = map[string]float64{"": 1, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30}
		form = "a size (KiB, MiB, GiB)"
	case Bits, Packets, Characters:
		words[unit.String()] = 1
		form = "a number of " + unit.String()
	}
	factor, ok := words[strings.TrimSpace(text[i:])]
	if err != nil || !ok || math.IsInf(n, 0) || n < 0 {
		return 0, fmt.Errorf("%q is not %s", source.Clean(text), form)
	}
	return n * factor, nil
}
