package model

import "toril/source"

// Origin says who gave a setting its value.
type Origin uint8

// The origins.
const (
	Default   Origin = iota // nobody: it is what the software does by itself
	Said                    // the line at the setting's position
	Inherited               // a line at the setting's position, of another section that this one refers to
	InPart                  // a line at the setting's position, and something beside it that the file says it leaves out
)

// String returns "default", "said", "inherited" or "in part".
func (o Origin) String() string { return [...]string{"default", "said", "inherited", "in part"}[o] }

// Setting is a configured value that remembers where it comes from.
type Setting[T any] struct {
	Value  T
	Origin Origin
	At     source.Pos // the line that says it; nowhere for a default
	Why    string     // for a default: whose it is ("strongSwan default of connections.<name>.version")
}

// Say makes a Setting that is said at a position.
func Say[T any](value T, at source.Pos) Setting[T] {
	return Setting[T]{Value: value, Origin: Said, At: at}
}

// Unsaid makes a Setting that nobody said; why names whose default it is.
func Unsaid[T any](value T, why string) Setting[T] { return Setting[T]{Value: value, Why: why} }

// IsDefault reports whether nobody said the value, or not the whole of it.
func (s Setting[T]) IsDefault() bool { return s.Origin == Default || s.Origin == InPart }

// Where returns the line that says the value, or, for a default, the given place: where it would have been said.
func (s Setting[T]) Where(otherwise source.Pos) source.Pos {
	if s.At.IsZero() {
		return otherwise
	}
	return s.At
}
