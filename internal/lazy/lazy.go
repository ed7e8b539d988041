// Package lazy puts off what a run may not need.
package lazy

import (
	"regexp"
	"sync"
)

// Regexp returns a function that gives an expression, compiled when it is first asked for. A pattern that is none panics then.
func Regexp(pattern string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(pattern) })
}

// Match returns a function that reports whether a text matches a pattern.
func Match(pattern string) func(string) bool {
	re := Regexp(pattern)
	return func(s string) bool { return re().MatchString(s) }
}
