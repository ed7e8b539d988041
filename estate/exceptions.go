package estate

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"toril/internal/strictyaml"
	"toril/source"
)

// Exception is a finding, or some, that an owner accepts for a reason until a day.
type Exception struct {
	At         source.Pos
	Findings   []string  // identities of findings, as the JSON has them (16 hexadecimal digits); none for all within the scope
	Check      string    // a check's name, or an area with "/*"; "" where findings are named
	Gateway    string    // "" for any
	Tunnel     string    // the name of a tunnel, or "gateway/connection" of an end of it; "" for any
	Reason     string    // why
	Owner      string    // who answers for it
	Until      time.Time // the last day of it, 00:00 UTC
	Suppressed int       // how many findings of the last audit are within its scope
}

// Expired reports whether the exception's last day is over.
func (x *Exception) Expired(now time.Time) bool { return !now.Before(x.Until.AddDate(0, 0, 1)) }

// ExceptionText is an exception as a file has it.
type ExceptionText struct {
	Findings []string `yaml:"findings,omitempty"`
	Check    string   `yaml:"check,omitempty"`
	Gateway  string   `yaml:"gateway,omitempty"`
	Tunnel   string   `yaml:"tunnel,omitempty"`
	Reason   string   `yaml:"reason"`
	Owner    string   `yaml:"owner"`
	Until    string   `yaml:"until"`
}

// ParseExceptions reads a file that holds exceptions and nothing else. Its error is a *source.Error with the line of the mistake.
func ParseExceptions(file string, text []byte) ([]*Exception, error) {
	var d struct {
		Exceptions []ExceptionText `yaml:"exceptions"`
	}
	tree, err := strictyaml.Decode(file, text, &d)
	if err != nil {
		return nil, err
	}
	return exceptions(d.Exceptions, file, tree)
}

func exceptions(texts []ExceptionText, file string, tree *strictyaml.Tree) ([]*Exception, error) {
	var out []*Exception
	for i, t := range texts {
		at := source.Pos{File: file, Line: tree.Line(fmt.Sprintf("$.exceptions[%d]", i))}
		x, err := t.exception(at)
		if err != nil {
			return nil, source.Errorf(at, "exception: %v", err)
		}
		out = append(out, x)
	}
	return out, nil
}

func (t ExceptionText) exception(at source.Pos) (*Exception, error) {
	x := &Exception{At: at, Findings: t.Findings, Check: t.Check, Gateway: t.Gateway, Tunnel: t.Tunnel, Reason: t.Reason, Owner: t.Owner}
	for _, id := range t.Findings {
		if raw, err := hex.DecodeString(id); err != nil || len(raw) != 8 {
			return nil, fmt.Errorf("%q is not the id of a finding (16 hexadecimal digits)", source.Clean(id))
		}
	}
	for _, need := range []struct{ name, value string }{{"reason", t.Reason}, {"owner", t.Owner}, {"until", t.Until}} {
		if strings.TrimSpace(need.value) == "" {
			return nil, fmt.Errorf("%s is required", need.name)
		}
		if need.value != source.Clean(need.value) {
			return nil, fmt.Errorf("%s holds characters that cannot be shown", need.name)
		}
	}
	if t.Check == "" && len(t.Findings) == 0 {
		return nil, fmt.Errorf("check or findings is required: an exception is never for everything")
	}
	var err error
	if x.Until, err = time.Parse(time.DateOnly, t.Until); err != nil {
		return nil, fmt.Errorf("until: %q is not a day such as 2027-01-31", source.Clean(t.Until))
	}
	return x, nil
}

// AddException adds an exception to a toril.yaml, or to a file of exceptions, behind those that are there; all else stays as it is, to
// the byte. file names the text in errors; the text may be empty.
func AddException(file string, text []byte, x ExceptionText) ([]byte, error) {
	if _, err := x.exception(source.Pos{}); err != nil {
		return nil, err
	}
	lines := strings.SplitAfter(string(text), "\n")
	if n := len(lines); lines[n-1] == "" {
		lines = lines[:n-1]
	} else {
		lines[n-1] += "\n"
	}
	key := slices.IndexFunc(lines, func(l string) bool { return strings.HasPrefix(l, "exceptions:") })
	var indent string
	var at int
	switch {
	case key < 0:
		indent = "  "
		head := "exceptions:\n"
		if len(lines) > 0 {
			head = "\n" + head
		}
		lines = append(lines, head)
		at = len(lines)
	default:
		rest, _, _ := strings.Cut(strings.TrimSpace(strings.TrimPrefix(lines[key], "exceptions:")), "#")
		switch strings.TrimSpace(rest) {
		case "[]":
			lines[key] = strings.Replace(lines[key], " []", "", 1)
		case "":
		default:
			return nil, source.Errorf(
				source.Pos{File: file, Line: key + 1},
				"exceptions are written in one line: write them as a list, one below the other",
			)
		}
		indent, at = lastItem(lines, key)
	}
	item, err := yaml.MarshalWithOptions([]ExceptionText{x}, yaml.IndentSequence(true))
	if err != nil {
		return nil, err
	}
	var added strings.Builder
	for l := range strings.Lines(string(item)) {
		added.WriteString(indent + strings.TrimPrefix(l, "  "))
	}
	out := strings.Join(slices.Insert(lines, at, added.String()), "")
	return []byte(out), addedOnly(file, text, []byte(out))
}

// lastItem returns how the items of a list below a key are indented, and the number of the line behind the last one.
func lastItem(lines []string, key int) (indent string, behind int) {
	indent, behind = "  ", key+1
	first := true
	for i := key + 1; i < len(lines); i++ {
		bare := strings.TrimLeft(lines[i], " ")
		switch {
		case strings.TrimSpace(bare) == "" || strings.HasPrefix(bare, "#"):
			continue
		case strings.HasPrefix(bare, "- ") && first:
			indent, first = lines[i][:len(lines[i])-len(bare)], false
		case len(bare) == len(lines[i]): // another key
			return indent, behind
		}
		behind = i + 1
	}
	return indent, behind
}

// addedOnly makes sure that a text has one exception more than another, and that those before are what they were.
func addedOnly(file string, before, after []byte) error {
	read := func(text []byte) ([]ExceptionText, error) {
		var d struct {
			Exceptions []ExceptionText `yaml:"exceptions"`
		}
		return d.Exceptions, yaml.Unmarshal(text, &d)
	}
	was, err := read(before)
	if err != nil {
		return fmt.Errorf("%s cannot be read as YAML; nothing was changed", file)
	}
	is, err := read(after)
	if err != nil || len(is) != len(was)+1 || !slices.EqualFunc(was, is[:len(was)], func(a, b ExceptionText) bool {
		return a.Check == b.Check && a.Reason == b.Reason && a.Until == b.Until && slices.Equal(a.Findings, b.Findings)
	}) {
		return fmt.Errorf("no exception can be added to %s as it is written: add it by hand", file)
	}
	return nil
}
