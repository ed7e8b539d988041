package strongswan

import (
	"fmt"
	"strings"

	"toril/ike"
	"toril/model/literal"
)

// Selectors reads a list of traffic selectors: network, address or range, each with an optional [protocol/port].
func Selectors(text string) (ike.Selectors, error) {
	var out ike.Selectors
	if strings.Contains(text, "\n") {
		return out, ErrLines
	}
	for part := range strings.SplitSeq(text, ",") {
		part = strings.TrimSpace(part)
		if part == "" {
			continue
		}
		s, err := Selector(part)
		if err != nil {
			return out, err
		}
		out = append(out, s)
	}
	return out, nil
}

// Selector reads one traffic selector.
func Selector(text string) (ike.Selector, error) {
	nets, ports, bracketed := strings.Cut(text, "[")
	s, err := literal.Net(strings.TrimSpace(nets))
	if err != nil || !bracketed {
		return s, err
	}
	ports, ok := strings.CutSuffix(strings.TrimSpace(ports), "]")
	if !ok {
		return s, fmt.Errorf("in %q a closing bracket is missing", text)
	}
	proto, port, _ := strings.Cut(ports, "/")
	if s.Proto, err = literal.Proto(proto); err != nil {
		return s, err
	}
	err = literal.SelectorPorts(port, &s)
	return s, err
}
