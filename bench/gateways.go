package main

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"toril/demo"
)

// estateOf makes an estate, and returns what faults it has.
func (b *bench) estateOf(n int) (dir string, faults []demo.Fault, err error) {
	dir = filepath.Join(b.dir, fmt.Sprintf("estate%d", n))
	folder := ""
	faults, err = demo.Make(n, 1, func(path string, data []byte) error {
		path = filepath.Join(dir, path)
		if d := filepath.Dir(path); d != folder {
			if err := os.MkdirAll(d, 0o755); err != nil {
				return err
			}
			folder = d
		}
		return os.WriteFile(path, data, 0o644)
	})
	return dir, faults, err
}

// right audits an estate and says what of its faults was missed, and what was found that is no fault of it.
func (b *bench) right(dir string, faults []demo.Fault) (missed, wrong int, c cost, err error) {
	p, err := b.printed("report.json", b.audit(dir))
	if err != nil {
		return 0, 0, c, err
	}
	var report struct {
		Findings []struct {
			Check, Gateway, Tunnel, Severity string
			PartOf                           string `json:"part_of"`
		}
	}
	if err := json.Unmarshal(p.text, &report); err != nil {
		return 0, 0, c, err
	}
	var found []demo.Fault
	for _, f := range report.Findings {
		if f.Severity != "info" && f.PartOf == "" {
			found = append(found, demo.Fault{Check: f.Check, Gateway: f.Gateway, Tunnel: f.Tunnel})
		}
	}
	m, w := demo.Compare(faults, found)
	return len(m), len(w), p.cost, nil
}

// gateways are estates of ever more gateways, with two connections and forty rules each, and beside the least of them, reading its bytes.
func gateways(b *bench) ([]line, error) {
	sizes, most := []int{1000, 10_000}, []float64{0, 512}
	if b.huge {
		sizes, most = append(sizes, 100_000), append(most, 2048)
	}
	if b.small {
		sizes, most = []int{200, 1000}, []float64{0, 0}
	}
	var out []line
	var costs []cost
	var jobs []job
	for i, n := range sizes {
		dir, faults, err := b.estateOf(n)
		if err != nil {
			return nil, err
		}
		if i == 0 && !b.small {
			c, err := b.besideSums(dir)
			if err != nil {
				return nil, err
			}
			work := fmt.Sprintf("audit of %d gateways, beside sha256sum of their files", n)
			out = append(out, line{work, ratio(c[0], c[1]), 12, both(c[0], c[1])})
		}
		missed, wrong, c, err := b.right(dir, faults)
		if err != nil {
			return nil, err
		}
		costs, jobs = append(costs, c), append(jobs, b.audit(dir))
		out = append(out, line{
			fmt.Sprintf("audit of %d gateways: faults missed, and findings of none", n), float64(missed + wrong), 0,
			fmt.Sprintf("%d faults found", len(faults)-missed),
		})
	}
	again, err := sideBySide(2, jobs...) // by turns: other work on the machine disturbs one or the other
	if err != nil {
		return nil, err
	}
	for i, n := range sizes {
		costs[i].wall = min(costs[i].wall, again[i].wall)
		if i > 0 {
			bound := b.grown(float64(n) / float64(sizes[i-1]))
			work := fmt.Sprintf("audit of %d gateways, beside %d", n, sizes[i-1])
			out = append(out, line{work, ratio(costs[i], costs[i-1]), bound, both(costs[i], costs[i-1])})
		}
		if most[i] > 0 {
			out = append(out, memoryOf(fmt.Sprintf("%d gateways", n), costs[i], most[i]))
		}
	}
	return out, nil
}

// besideSums audits an estate, and sums up the bytes of all its files.
func (b *bench) besideSums(dir string) ([]cost, error) {
	sums := job{"sha256sum"}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			sums = append(sums, path)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return sideBySide(15, b.audit(dir), sums)
}
