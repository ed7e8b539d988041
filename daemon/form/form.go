// Package form has the forms of the values of keywords: how each is read, and how it is written. What is written is read as what it was
// written from.
package form

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"toril/ike"
)

// Form is how a keyword's values of a type are written in a file.
type Form[T any] struct {
	Read  func(text string) (T, error)  // the error says what a program has against the text
	Write func(value T) (string, error) // nil where Toril writes no such value
}

// Time is a time: seconds, or a number with s, m, h or d (swanctl.conf(5), TIME FORMATS). Whole hours and minutes are written as such.
var Time = Form[time.Duration]{readTime, func(d time.Duration) (string, error) { return TimeText(d), nil }}

// Size is a number of bytes, with k, m or g for powers of 1024.
var Size = Form[uint64]{readSize, func(n uint64) (string, error) { return strconv.FormatUint(n, 10), nil }}

// Bool is yes or no, true or false.
var Bool = Form[bool]{readBool, func(yes bool) (string, error) { return yesOrNo(yes), nil }}

// Number is a decimal, octal or 0x number of up to 32 bits.
var Number = Form[uint32]{readNumber, func(n uint32) (string, error) { return strconv.FormatUint(uint64(n), 10), nil }}

// CNumber is a number as strtoul(3) reads it: with a sign, and one below zero from the far end of the range of 32 bits.
var CNumber = Form[int]{readCNumber, func(n int) (string, error) { return strconv.Itoa(n), nil }}

// Word is a value that is taken as it is.
var Word = Form[string]{
	func(text string) (string, error) { return text, nil },
	func(text string) (string, error) { return text, nil },
}

// List is texts with commas between.
var List = Form[[]string]{
	func(text string) ([]string, error) { return Split(text), nil },
	func(list []string) (string, error) { return strings.Join(list, ", "), nil },
}

// Split parts a text at its commas; blanks around the parts, and parts of nothing else, are dropped.
func Split(text string) []string {
	var out []string
	for part := range strings.SplitSeq(text, ",") {
		if part = strings.TrimSpace(part); part != "" {
			out = append(out, part)
		}
	}
	return out
}

// Given is a value of which only matters that there is one.
var Given = Form[bool]{Read: func(string) (bool, error) { return true, nil }}

// Choice is one of some words, in small or capital letters, each with its value. A value that several words have is written with the first.
// What is wrong with any other word is said behind it.
func Choice[T comparable](wrong string, words ...Pair[T]) Form[T] {
	return choice(wrong, strings.ToLower, words)
}

// ExactChoice is Choice for words in small letters only.
func ExactChoice[T comparable](wrong string, words ...Pair[T]) Form[T] {
	return choice(wrong, func(text string) string { return text }, words)
}

// Pair is a word of a choice and what it means; As makes one.
type Pair[T any] struct {
	Word  string
	Value T
}

// As is a word and its value.
func As[T any](word string, value T) Pair[T] { return Pair[T]{word, value} }

func choice[T comparable](wrong string, fold func(string) string, words []Pair[T]) Form[T] {
	read := func(text string) (v T, err error) {
		word := fold(text)
		if i := slices.IndexFunc(words, func(p Pair[T]) bool { return p.Word == word }); i >= 0 {
			return words[i].Value, nil
		}
		return v, fmt.Errorf("%q %s", text, wrong)
	}
	write := func(v T) (string, error) {
		if i := slices.IndexFunc(words, func(p Pair[T]) bool { return p.Value == v }); i >= 0 {
			return words[i].Word, nil
		}
		return "", fmt.Errorf("there is no word for %v", v)
	}
	return Form[T]{read, write}
}

// Proposals is a list of proposals with something between them.
func Proposals(between string, read func(string) ([]ike.Proposal, error), write func(ike.Proposal) (string, error)) Form[[]ike.Proposal] {
	return Form[[]ike.Proposal]{read, func(ps []ike.Proposal) (string, error) {
		var out []string
		for _, p := range ps {
			text, err := write(p)
			if err != nil {
				return "", err
			}
			if !slices.Contains(out, text) {
				out = append(out, text)
			}
		}
		return strings.Join(out, between), nil
	}}
}

func readTime(text string) (time.Duration, error) {
	unit := time.Second
	number := text
	if text != "" {
		switch text[len(text)-1] | 0x20 {
		case 's':
			number = text[:len(text)-1]
		case 'm':
			unit, number = time.Minute, text[:len(text)-1]
		case 'h':
			unit, number = time.Hour, text[:len(text)-1]
		case 'd':
			unit, number = 24*time.Hour, text[:len(text)-1]
		}
	}
	n, err := strconv.ParseUint(strings.TrimSpace(number), 10, 32)
	if err != nil {
		return 0, fmt.Errorf("%q is not a time (a number, with s, m, h or d behind it)", text)
	}
	if n > uint64(math.MaxInt64)/uint64(unit) {
		return 0, fmt.Errorf("%q is longer than any lifetime", text)
	}
	return time.Duration(n) * unit, nil
}

// TimeText writes a time as Time does: "8h", "90m", "45s".
func TimeText(d time.Duration) string {
	switch {
	case d >= time.Hour && d%time.Hour == 0:
		return fmt.Sprintf("%dh", d/time.Hour)
	case d >= time.Minute && d%time.Minute == 0:
		return fmt.Sprintf("%dm", d/time.Minute)
	}
	return fmt.Sprintf("%ds", d/time.Second)
}

func readSize(text string) (uint64, error) {
	factor := uint64(1)
	number := text
	if text != "" {
		switch text[len(text)-1] {
		case 'k', 'K':
			factor = 1 << 10
		case 'm', 'M':
			factor = 1 << 20
		case 'g', 'G':
			factor = 1 << 30
		}
		if factor > 1 {
			number = text[:len(text)-1]
		}
	}
	n, err := strconv.ParseUint(strings.TrimPrefix(strings.TrimSpace(number), "+"), 10, 64)
	if err != nil || n > math.MaxUint64/factor {
		return 0, fmt.Errorf("%q is not a size", text)
	}
	return n * factor, nil
}

func readBool(text string) (bool, error) {
	switch strings.ToLower(text) {
	case "yes", "true", "1", "enabled":
		return true, nil
	case "no", "false", "0", "disabled":
		return false, nil
	}
	return false, fmt.Errorf("%q is neither yes nor no", text)
}

func yesOrNo(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}

func readCNumber(text string) (int, error) {
	n, err := strconv.ParseInt(strings.TrimSpace(text), 0, 33)
	if err != nil {
		return 0, fmt.Errorf("%q is not a number", text)
	}
	return int(uint32(n)), nil
}

func readNumber(text string) (uint32, error) {
	n, err := strconv.ParseUint(text, 0, 32)
	if err != nil {
		return 0, fmt.Errorf("%q is not a number", text)
	}
	return uint32(n), nil
}
