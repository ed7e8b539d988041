package estate

import (
	"errors"
	"strconv"

	"toril/internal/cache"
	"toril/internal/record"
	"toril/model"
	"toril/source"
)

// part is a share of an estate: the facts of some of its gateways, and what is of all of it with the first share.
type part struct {
	Gateways []stored
	Whole    *whole
}

// whole is what is of an estate as a whole.
type whole struct {
	Gateways   int
	Problems   []*source.Error
	LeftOut    []model.LeftOut
	Configs    []config
	Intents    []*Intent
	KeyRules   []*KeyRule
	Exceptions []*Exception
}

// config is a file of the estate's own.
type config struct {
	Path string
	Text []byte
}

// Share returns where the share i of n begins and ends, of as many things; i counts from 1.
func Share(things, i, n int) (from, to int) { return things * (i - 1) / n, things * i / n }

// Part writes down the share i of n of what is kept of an estate, to be joined with the others; i counts from 1.
func (e *Estate) Part(i, n int) []byte {
	var p part
	from, to := Share(len(e.Gateways), i, n)
	for _, f := range e.Gateways[from:to] {
		p.Gateways = append(p.Gateways, f.stored())
	}
	if i == 1 {
		p.Whole = &whole{
			Gateways: len(e.Gateways), Problems: e.reading, LeftOut: e.LeftOut, Intents: e.Intents, KeyRules: e.KeyRules,
			Exceptions: e.Exceptions,
		}
		for _, f := range e.configs {
			p.Whole.Configs = append(p.Whole.Configs, config{f.Path, f.Bytes()})
		}
	}
	return record.Append(nil, p)
}

// Join makes an estate of all its parts, in their order. Its gateways cannot be opened: what was worked out about them comes with the
// parts.
func Join(parts [][]byte) (*Estate, error) {
	e := &Estate{keeper: newKeeper(Options{})}
	var all *whole
	for _, data := range parts {
		var p part
		if err := record.Whole(data, &p); err != nil {
			return nil, err
		}
		if p.Whole != nil {
			all = p.Whole
		}
		for _, s := range p.Gateways {
			f := s.facts()
			f.tight()
			e.Read += len(f.Files)
			e.add(f)
		}
	}
	if all == nil || all.Gateways != len(e.Gateways) {
		return nil, errors.New("parts of the estate are missing")
	}
	e.Problems, e.reading, e.LeftOut = all.Problems, all.Problems, all.LeftOut
	e.Intents, e.KeyRules, e.Exceptions = all.Intents, all.KeyRules, all.Exceptions
	for _, c := range all.Configs {
		e.configs = append(e.configs, source.NewFile(c.Path, c.Text))
	}
	return e, nil
}

// Content is a digest of all files of an estate that was read with its sums, with what could not be read and what was left out.
func (e *Estate) Content() cache.Digest {
	s := cache.NewSum("content")
	settings := e.Settings()
	s.Bytes(settings[:])
	s.Text(strconv.Itoa(len(e.Gateways)), strconv.Itoa(len(e.reading)))
	for _, f := range e.Gateways {
		s.Bytes(f.plan.sum[:])
	}
	for _, p := range e.reading {
		s.Text(p.Error())
	}
	for _, l := range e.LeftOut {
		s.Text(l.Path, l.Why)
	}
	return s.Digest()
}
