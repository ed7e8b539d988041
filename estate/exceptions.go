package estate

import (
	"encoding/hex"
	"fmt"
	"strings"
	"time"

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
	Suppressed int       // how many findings of the last audit it accepts
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
			return nil, fmt.Errorf("%q does not identify a finding: 16 hexadecimal digits do", source.Clean(id))
		}
	}
	for _, need := range []struct{ name, value string }{{"reason", t.Reason}, {"owner", t.Owner}, {"until", t.Until}} {
		if strings.TrimSpace(need.value) == "" {
			return nil, fmt.Errorf("%s is required", need.name)
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
