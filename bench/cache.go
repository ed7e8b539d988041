package main

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// cached is an audit that begins a cache, beside the one after a gateway was changed; and whether that says the same as one without.
func cached(b *bench) ([]line, error) {
	n := 1000
	if b.small {
		n = 200
	}
	dir, _, err := b.estateOf(n)
	if err != nil {
		return nil, err
	}
	var first, second cost
	gateways, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	for round := range 3 {
		keep := filepath.Join(b.dir, fmt.Sprint("cache", round))
		c, err := once(nil, b.toril, b.audit(dir, "--cache", keep)[1:]...)
		if err != nil {
			return nil, err
		}
		changed := filepath.Join(dir, gateways[round].Name(), "ip-route.txt")
		text, err := os.ReadFile(changed)
		if err != nil {
			return nil, err
		}
		if err := os.WriteFile(changed, append(text, fmt.Sprintf("192.0.2.%d via 198.18.0.1 dev wan\n", 1+round)...), 0o644); err != nil {
			return nil, err
		}
		again, err := b.printed("again.json", b.audit(dir, "--cache", keep))
		if err != nil {
			return nil, err
		}
		fresh, err := b.printed("fresh.json", b.audit(dir))
		if err != nil {
			return nil, err
		}
		if !bytes.Equal(again.text, fresh.text) {
			return nil, errors.New("an audit with a cache says something else than one without")
		}
		if round == 0 || c.wall < first.wall {
			first = c
		}
		if round == 0 || again.wall < second.wall {
			second = again.cost
		}
	}
	return []line{{
		fmt.Sprintf("second audit of %d gateways with `--cache`, one of which changed, beside the first", n),
		ratio(second, first), b.lax(0.15), both(second, first),
	}}, os.RemoveAll(dir)
}

// printout is what a command printed, and what it took.
type printout struct {
	cost
	text []byte
}

// printed runs a command and returns what it prints.
func (b *bench) printed(name string, j job) (p printout, err error) {
	file, err := os.Create(filepath.Join(b.dir, name))
	if err != nil {
		return p, err
	}
	defer file.Close()
	if p.cost, err = once(file, j[0], j[1:]...); err != nil {
		return p, err
	}
	p.text, err = os.ReadFile(file.Name())
	return p, err
}
