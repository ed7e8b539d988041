package json

import (
	"bytes"
	"runtime"
)

// queue encodes elements of a list on all processors, a share of them at a time, and has them written in their order.
type queue struct {
	write func(text []byte) error
	share []any
	under []chan encoded // the shares that are being encoded, in their order
}

// encoded is what a share has become: the elements, or why one could not be encoded.
type encoded struct {
	texts [][]byte
	err   error
}

// perShare is how many elements are encoded at a time: few enough for little memory, enough to be worth handing over.
const perShare = 256

func newQueue(write func([]byte) error) *queue { return &queue{write: write} }

// add takes an element; its error may be of one before it.
func (q *queue) add(element any) error {
	if q.share = append(q.share, element); len(q.share) < perShare {
		return nil
	}
	return q.hand()
}

// hand has the share encoded, and waits where as many are under way as there are processors.
func (q *queue) hand() error {
	share, done := q.share, make(chan encoded, 1)
	q.share = nil
	q.under = append(q.under, done)
	go func() {
		const before = "    "
		var room bytes.Buffer
		var out encoded
		for _, one := range share {
			text, err := laidOut(&room, one, before)
			if out.err = err; err != nil {
				break
			}
			out.texts = append(out.texts, bytes.TrimSuffix(bytes.TrimPrefix(text, []byte(before)), []byte("\n")))
		}
		done <- out
	}()
	if len(q.under) <= runtime.GOMAXPROCS(0) {
		return nil
	}
	return q.next()
}

// next writes the first share that is under way.
func (q *queue) next() error {
	got := <-q.under[0]
	q.under = q.under[1:]
	for _, text := range got.texts {
		if err := q.write(text); err != nil {
			return err
		}
	}
	return got.err
}

// end writes what is left.
func (q *queue) end() error {
	if len(q.share) > 0 {
		if err := q.hand(); err != nil {
			return err
		}
	}
	for len(q.under) > 0 {
		if err := q.next(); err != nil {
			return err
		}
	}
	return nil
}
