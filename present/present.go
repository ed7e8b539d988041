// Package present writes values in words, once for everything that shows them.
package present

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"toril/ike"
)

// Span writes a time as people say it: "8 h", "30 min", "1 h 6 min", "2 d".
func Span(d time.Duration) string {
	if d == 0 {
		return "0 s"
	}
	var parts []string
	for _, u := range []struct {
		size time.Duration
		name string
	}{{24 * time.Hour, "d"}, {time.Hour, "h"}, {time.Minute, "min"}, {time.Second, "s"}} {
		if n := d / u.size; n > 0 && !(u.name == "d" && d < 48*time.Hour) {
			parts = append(parts, fmt.Sprintf("%d %s", n, u.name))
			d -= n * u.size
		}
	}
	return strings.Join(parts, " ")
}

// SpanOr writes a time; zero has words of its own.
func SpanOr(zero string) func(time.Duration) string {
	return func(d time.Duration) string {
		if d == 0 {
			return zero
		}
		return Span(d)
	}
}

// Number writes a number; zero has words of its own.
func Number[T ~int | ~uint32 | ~uint64](zero string) func(T) string {
	return func(n T) string {
		if n == 0 {
			return zero
		}
		return strconv.FormatUint(uint64(n), 10)
	}
}

// Bytes writes a volume in the largest unit of which it is a whole number: "7 MiB", "1000 bytes"; zero has words of its own.
func Bytes(zero string) func(uint64) string {
	return func(n uint64) string {
		if n == 0 {
			return zero
		}
		for i, unit := range []string{"TiB", "GiB", "MiB", "KiB"} {
			if size := uint64(1) << (40 - 10*i); n%size == 0 {
				return fmt.Sprintf("%d %s", n/size, unit)
			}
		}
		return fmt.Sprintf("%d bytes", n)
	}
}

// Choice returns a function that writes true and false in two words.
func Choice(yes, no string) func(bool) string {
	return func(b bool) string {
		if b {
			return yes
		}
		return no
	}
}

// Text writes a text; "" has words of its own.
func Text(nothing string) func(string) string {
	return func(s string) string {
		if s == "" {
			return nothing
		}
		return s
	}
}

// List writes texts with commas between; an empty list has words of its own.
func List(nothing string) func([]string) string {
	return func(all []string) string {
		if len(all) == 0 {
			return nothing
		}
		return strings.Join(all, ", ")
	}
}

// Proposals writes proposals as they are written; the daemon's own in a few words.
func Proposals(ps []ike.Proposal) string {
	var out []string
	for i, p := range ps {
		if p.Text == "" {
			more := fmt.Sprintf("%d of the daemon's own, %s and more", len(ps)-i, p.All()[0])
			if i > 0 {
				more = "then " + more
			}
			out = append(out, more)
			break
		}
		out = append(out, p.String())
	}
	return strings.Join(out, ", ")
}

// Names writes proposals by the names of their algorithms, each once, for whoever does not know the daemon's words.
func Names(ps []ike.Proposal) string {
	var out []string
	for _, p := range ps {
		if n := p.Names(); !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	return strings.Join(out, "; ")
}

// Few writes up to three algorithms, and how many there are beside them.
func Few(cs ike.Choices) string {
	if len(cs) > 3 {
		return cs[:3].Labels() + fmt.Sprintf(" and %d more", len(cs)-3)
	}
	return cs.Labels()
}

// PFS says by which groups proposals ask for perfect forward secrecy, and whether all of them do.
func PFS(ps []ike.Proposal) string {
	cs := ike.All(ps, ike.KeyExchange)
	asked := 0
	for _, p := range ps {
		if a, optional := p.PFS(); a && !optional {
			asked++
		}
	}
	switch {
	case len(cs) == 0:
		return "none"
	case asked < len(ps):
		return "optional, " + Few(cs)
	}
	return Few(cs)
}

// Plural writes a number of things: "1 gateway", "3 gateways".
func Plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}
