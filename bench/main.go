// Bench measures how fast Toril is, side by side with what its work is compared to, in one run: it prints a table of ratios, which say the
// same on any machine.
//
//	go run ./bench            all of it, about ten minutes
//	go run ./bench --huge     and 100,000 gateways, which take a quarter of an hour more
//	go run ./bench --small    the small sizes; it fails where time grows faster than the work, measured up to three times (bounds are
//	                          laxer there: what a start costs is most of it, and other work on the machine is part of what is measured)
//	go run ./bench hub start  some rows
package main

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"
)

// line is a line of the table: a ratio, and the bound that it is held against.
type line struct {
	work   string
	ratio  float64
	bound  float64 // the most that the ratio may be
	detail string  // what was measured, in absolute terms
}

func (l line) broken() bool { return l.ratio > l.bound }

// row is a kind of work; small ones are measured in CI too.
type row struct {
	name    string
	measure func(b *bench) ([]line, error)
}

// rows are all kinds, in the order of the table.
var rows = []row{{"start", start}, {"rules", rules}, {"hub", hub}, {"gateways", gateways}, {"cache", cached}, {"adverse", adverse}}

// bench is one run.
type bench struct {
	small bool
	huge  bool
	dir   string // for what is made
	toril string // the program
	self  string // this program, for what it does beside
}

func main() {
	if len(os.Args) == 3 && os.Args[1] == readOnly {
		if err := readEstate(os.Args[2]); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	small := flag.Bool("small", false, "small sizes only; exit code 1 where a bound is not kept")
	huge := flag.Bool("huge", false, "100,000 gateways too")
	flag.Parse()
	kept, err := run(*small, *huge, flag.Args())
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(2)
	}
	if *small && !kept {
		os.Exit(1)
	}
}

// run measures the rows that are named, all where none is; kept says whether every bound was kept.
func run(small, huge bool, names []string) (kept bool, err error) {
	dir, err := os.MkdirTemp("", "toril-bench-*")
	if err != nil {
		return false, err
	}
	defer os.RemoveAll(dir)
	b := &bench{small: small, huge: huge, dir: dir, toril: filepath.Join(dir, "toril")}
	if b.self, err = os.Executable(); err != nil {
		return false, err
	}
	if err := build(b.toril, "toril/cmd/toril"); err != nil {
		return false, err
	}
	fmt.Printf("Measured with %s on %s, %d processors (%s).\n\n", runtime.Version(), runtime.GOARCH, runtime.NumCPU(), processor())
	fmt.Println("| work | ratio | bound | measured |")
	fmt.Println("| --- | --- | --- | --- |")
	kept = true
	for _, r := range rows {
		if len(names) > 0 && !slices.Contains(names, r.name) {
			continue
		}
		lines, err := b.lines(r)
		if err != nil {
			return false, fmt.Errorf("%s: %w", r.name, err)
		}
		for _, l := range lines {
			mark := ""
			if l.broken() {
				kept, mark = false, " (not kept)"
			}
			fmt.Printf("| %s | %.3g | %.3g%s | %s |\n", l.work, l.ratio, l.bound, mark, l.detail)
		}
	}
	return kept, nil
}

// lines measures a row. At the small sizes one whose bounds are not all kept is measured again, twice at most, and of each line the best
// counts: work that grows too fast does so every time, a busy machine looks so once.
func (b *bench) lines(r row) ([]line, error) {
	best, err := r.measure(b)
	for again := 0; again < 2 && err == nil && b.small && slices.ContainsFunc(best, line.broken); again++ {
		var more []line
		if more, err = r.measure(b); err != nil {
			break
		}
		for i, l := range more {
			if l.ratio < best[i].ratio {
				best[i] = l
			}
		}
	}
	return best, err
}

// grown is the most that the time may grow where the work does so many times: a tenth more; at the small sizes, where a quadratic would
// show four times for two, a quarter more.
func (b *bench) grown(times float64) float64 {
	if b.small {
		return 1.25 * times
	}
	return 1.1 * times
}

// lax is a bound for what is measured at the small sizes too.
func (b *bench) lax(bound float64) float64 {
	if b.small {
		return 3 * bound
	}
	return bound
}

// build makes a static program.
func build(program, what string) error {
	cmd := exec.Command("go", "build", "-trimpath", "-o", program, what)
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("go build %s: %w\n%s", what, err, out)
	}
	return nil
}

// processor names the machine's.
func processor() string {
	data, _ := os.ReadFile("/proc/cpuinfo")
	for text := range strings.Lines(string(data)) {
		if name, ok := strings.CutPrefix(text, "model name"); ok {
			return strings.Trim(name, " \t:\n")
		}
	}
	return "a processor without a name"
}

// cost is what a run of a program took.
type cost struct {
	wall   time.Duration
	memory int64 // bytes resident at most
}

// once runs a command; an exit code of 1 says that there are findings. What it prints is left out, unless out is given.
func once(out *os.File, name string, args ...string) (c cost, err error) {
	cmd := exec.Command(name, args...)
	if out != nil {
		cmd.Stdout = out
	}
	var complaint strings.Builder
	cmd.Stderr = &complaint
	debug.FreeOSMemory() // what a program is started from counts as its own (getrusage(2))
	begin := time.Now()
	err = cmd.Run()
	c.wall = time.Since(begin)
	if cmd.ProcessState != nil {
		c.memory = cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss << 10
		if cmd.ProcessState.ExitCode() == 1 && name == filepath.Base(name) {
			return c, fmt.Errorf("%s: %s", name, complaint.String())
		}
		if cmd.ProcessState.ExitCode() == 1 {
			err = nil
		}
	}
	if err != nil {
		return c, fmt.Errorf("%s: %w: %s", name, err, complaint.String())
	}
	return c, nil
}

// job is a command that is measured beside others.
type job []string

// sideBySide runs commands by turns and returns of each the best of some rounds: other work on the machine can only make them look slower.
func sideBySide(rounds int, jobs ...job) ([]cost, error) {
	best := make([]cost, len(jobs))
	for range rounds {
		for i, j := range jobs {
			c, err := once(nil, j[0], j[1:]...)
			if err != nil {
				return nil, err
			}
			if best[i].wall == 0 || c.wall < best[i].wall {
				best[i].wall = c.wall
			}
			if best[i].memory == 0 || c.memory < best[i].memory {
				best[i].memory = c.memory
			}
		}
	}
	return best, nil
}

func (c cost) String() string { return fmt.Sprintf("%.3g s, %d MiB", c.wall.Seconds(), c.memory>>20) }

func both(a, b cost) string { return a.String() + "; " + b.String() }

func ratio(a, b cost) float64 { return a.wall.Seconds() / b.wall.Seconds() }

// memoryOf is a line about memory alone, in MiB against a bound in MiB.
func memoryOf(work string, c cost, most float64) line {
	return line{"memory of " + work + ", of " + fmt.Sprint(most) + " MiB", float64(c.memory>>20) / most, 1, c.String()}
}

// write puts a file into the bench's folder, and returns the path of the part before the first slash.
func (b *bench) write(path, text string) (string, error) {
	target := filepath.Join(b.dir, path)
	if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
		return "", err
	}
	first, _, _ := strings.Cut(path, "/")
	return filepath.Join(b.dir, first), os.WriteFile(target, []byte(text), 0o644)
}

// audit is the job of a whole audit of a folder, as JSON.
func (b *bench) audit(dir string, more ...string) job {
	return append(job{b.toril, "audit", dir, "--format", "json", "--as-of", "2026-11-27"}, more...)
}
