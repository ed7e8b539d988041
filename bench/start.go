package main

import (
	"os"
	"path/filepath"
	"slices"
	"time"
)

// start is how long a run takes that does nothing, beside an empty program.
func start(b *bench) ([]line, error) {
	source := filepath.Join(b.dir, "empty.go")
	if err := os.WriteFile(source, []byte("package main\n\nfunc main() {}\n"), 0o600); err != nil {
		return nil, err
	}
	empty := filepath.Join(b.dir, "empty")
	if err := build(empty, source); err != nil {
		return nil, err
	}
	most := 3.0
	if b.small { // it is near its bound: what grows is looked for there, not a tenth more or less
		most = 3.5
	}
	least, detail := 0.0, ""
	for round := 0; round < 5 && (round == 0 || least > most); round++ {
		var took [2][]time.Duration
		for range 101 {
			for i, j := range []job{{empty}, {b.toril, "version"}} {
				c, err := once(nil, j[0], j[1:]...)
				if err != nil {
					return nil, err
				}
				took[i] = append(took[i], c.wall)
			}
		}
		slices.Sort(took[0])
		slices.Sort(took[1])
		if r := float64(took[1][50]) / float64(took[0][50]); least == 0 || r < least {
			least, detail = r, took[1][50].Round(time.Microsecond).String()+", empty program "+took[0][50].Round(time.Microsecond).String()
		}
	}
	return []line{{"`toril version`, cold, beside an empty static Go program", least, most, detail}}, nil
}
