package json

import (
	"io"
	"runtime"

	"github.com/segmentio/encoding/json"
)

// perShare is how many elements are encoded at a time: few enough for little memory, enough to be worth handing over.
const perShare = 64

// inList stands at the beginning of the lines of an element, and between before each element but the first.
const (
	inList  = "    "
	between = ",\n" + inList
)

// room is where values are encoded, and then laid out.
type room struct{ compact, text []byte }

// laidOut adds a value to the text in lines, each but the first with what stands before it; nothing where it cannot be encoded.
func (r *room) laidOut(v any, before string) (err error) {
	if r.compact, err = json.Append(r.compact[:0], v, json.SortMapKeys); err == nil {
		r.text = indented(r.text, r.compact, before)
	}
	return err
}

// list is a list of a value, with elements that are encoded on their own.
type list struct {
	name     string
	elements int
	encode   func(w io.Writer) error // all of them, with a comma between
}

// listOf is a list of n elements. fill makes one in the place of another.
func listOf[T any](name string, n int, fill func(i int, into *T)) list {
	return list{name, n, func(w io.Writer) error { return inOrder(w, n, fill) }}
}

// inOrder encodes elements on all processors, a share of them at a time, and writes them in their order.
func inOrder[T any](w io.Writer, n int, fill func(i int, into *T)) error {
	type place struct {
		room
		one T
	}
	type encoded struct {
		*place
		err error
	}
	var under []chan encoded // the shares that are being encoded, in their order
	var free []*place
	next := func() error {
		got := <-under[0]
		if under = under[1:]; got.err != nil {
			return got.err
		}
		free = append(free, got.place)
		_, err := w.Write(got.text)
		return err
	}
	for from := 0; from < n; from += perShare {
		r, done := &place{}, make(chan encoded, 1)
		if len(free) > 0 {
			r, free = free[len(free)-1], free[:len(free)-1]
		}
		under = append(under, done)
		go func() {
			var err error
			r.text = r.text[:0]
			for i := from; i < min(n, from+perShare) && err == nil; i++ {
				if i > 0 {
					r.text = append(r.text, between...)
				}
				fill(i, &r.one)
				err = r.laidOut(&r.one, inList)
			}
			done <- encoded{r, err}
		}()
		if len(under) > runtime.GOMAXPROCS(0) {
			if err := next(); err != nil {
				return err
			}
		}
	}
	for len(under) > 0 {
		if err := next(); err != nil {
			return err
		}
	}
	return nil
}
