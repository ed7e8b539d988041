package cli

import (
	"cmp"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"toril/audit"
	"toril/audit/suite"
	"toril/estate"
	"toril/internal/cache"
	"toril/internal/disk"
	"toril/pair"
	"toril/report"
	"toril/source"
)

// partSchema names the form of a part's file.
const partSchema = "toril-part/2"

// maxPart is the size in bytes beyond which a part is not read.
const maxPart = 2 << 30

// partFile is what a part of an audit writes: what it worked out, and what tells that parts are of one audit.
type partFile struct {
	Schema   string `json:"schema"`
	Part     int    `json:"part"`
	Of       int    `json:"of"`
	Program  string `json:"program"`  // a digest of the program
	Books    string `json:"books"`    // one of the phrasebooks that it was given
	Content  string `json:"content"`  // one of all files of the estate, and of what was wrong with them
	Baseline string `json:"baseline"` // one of the baseline
	AsOf     string `json:"as_of"`
	Paths    string `json:"paths"` // of the estate, as they were given
	Estate   []byte `json:"estate"`
	Work     []byte `json:"work"`
	Sum      string `json:"sum"` // a digest of all else

	name string // of the file
}

// sum is a digest of all that a part says.
func (p *partFile) sum() string {
	s := cache.NewSum("part")
	s.Text(p.Schema, strconv.Itoa(p.Part), strconv.Itoa(p.Of), p.Program, p.Books, p.Content, p.Baseline, p.AsOf, p.Paths)
	s.Bytes(p.Estate)
	s.Bytes(p.Work)
	d := s.Digest()
	return hex.EncodeToString(d[:])
}

// share reads "2/8".
func share(text string) (i, n int, err error) {
	first, second, ok := strings.Cut(text, "/")
	i, err1 := strconv.Atoi(first)
	n, err2 := strconv.Atoi(second)
	if !ok || err1 != nil || err2 != nil || i < 1 || n < i || n > 1_000_000 {
		return 0, 0, fmt.Errorf("--part: %q is not a part such as 2/8, the second of eight", text)
	}
	return i, n, nil
}

// digest is a digest of bytes that says nothing about them to those who have not got them.
func digest(of []byte) string {
	s := cache.NewSum("part")
	s.Bytes(of)
	d := s.Digest()
	return hex.EncodeToString(d[:])
}

// auditPart does a part of an audit, and writes it down.
func (a *app) auditPart(cmd *cobra.Command, args []string, f *auditFlags, part string) error {
	for _, name := range []string{"format", "exceptions", "fail-on", "at-least", "all"} {
		if cmd.Flags().Changed(name) {
			return fmt.Errorf("--part writes down what is to be joined: --%s is for toril join", name)
		}
	}
	i, n, err := share(part)
	if err != nil {
		return err
	}
	if len(f.out.files) != 1 {
		return errors.New("--part needs one --output, the file for the part")
	}
	b, err := pickBaseline(f.baseline)
	if err != nil {
		return err
	}
	now, err := a.today()
	if err != nil {
		return err
	}
	program, books, err := a.program()
	if err != nil {
		return err
	}
	a.sums = true
	e, err := a.load(cmd, args)
	if err != nil {
		return err
	}
	content := e.Content()
	source.KeyFingerprints(content) // the same in all parts, and known to nobody who has not got the configurations
	work, err := audit.RunPart(cmd.Context(), e, suite.All(), b, now, i, n)
	if err != nil {
		return err
	}
	out := partFile{
		Schema: partSchema, Part: i, Of: n, Program: hex.EncodeToString(program[:]), Books: hex.EncodeToString(books[:]),
		Content: digest(content[:]), Baseline: digest(b.Record()), AsOf: now.Format(time.DateOnly), Paths: strings.Join(args, " "),
		Estate: e.Part(i, n), Work: work,
	}
	out.Sum = out.sum()
	err = disk.Replace(cmd.Context(), f.out.files[0], func(to io.Writer) error { return json.NewEncoder(to).Encode(out) })
	if err == nil {
		fmt.Fprintf(a.err, "toril: wrote %s (part %d of %d)\n", f.out.files[0], i, n)
	}
	return err
}

// readPart reads the file of a part.
func readPart(path string) (*partFile, error) {
	data, err := disk.ReadFile(path, maxPart)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", path, err)
	}
	p := &partFile{name: path}
	switch err := json.Unmarshal(data, p); {
	case err != nil || p.Schema == "":
		return nil, fmt.Errorf("%s is no part of an audit, or is damaged (see: toril audit --part)", path)
	case p.Schema != partSchema:
		return nil, fmt.Errorf("%s is not of the form %s: it is of another version of Toril, or is damaged", path, partSchema)
	case p.Sum != p.sum():
		return nil, fmt.Errorf("%s is damaged: make it again", path)
	}
	return p, nil
}

func (a *app) join() *cobra.Command {
	var f auditFlags
	cmd := &cobra.Command{
		Use:   "join PART...",
		Short: "Join the parts of an audit that was spread over several runs or machines",
		Long: "Reads what \"toril audit --part\" wrote, and reports what one audit of the whole estate would report, byte for byte.\n" +
			"All parts must be of the same files, baseline and day, and of the same program. The baseline is said again, as\n" +
			"parts only hold a digest of it. An HTML page shows the ways of packets, which are not in parts: it cannot be made.\n\n" +
			"Exit code: as that of toril audit.",
		Example: "  toril audit estate/ --part 1/2 -o part1.json\n  toril audit estate/ --part 2/2 -o part2.json\n" +
			"  toril join part1.json part2.json -o report.json",
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.joinParts(cmd, args, &f)
		},
	}
	f.add(cmd)
	f.addFailOn(cmd)
	a.dated(cmd)
	return a.withBooks(cmd)
}

func (a *app) joinParts(cmd *cobra.Command, args []string, f *auditFlags) error {
	asked, err := a.asked(cmd, f)
	if err != nil {
		return err
	}
	for _, w := range asked.plan {
		if w.form.Name == "html" {
			return errors.New("a page cannot be made of parts: it shows the ways of packets, which are not in them")
		}
	}
	program, books, err := a.program()
	if err != nil {
		return err
	}
	parts, err := partsOfOne(args)
	if err != nil {
		return err
	}
	first := parts[0]
	switch {
	case first.Program != hex.EncodeToString(program[:]):
		return errors.New("the parts were made by another build of Toril than this")
	case first.Books != hex.EncodeToString(books[:]):
		return errors.New("the parts were made with other phrasebooks: name the same with --phrasebook")
	case first.Baseline != digest(asked.baseline().Record()):
		return fmt.Errorf("the parts were judged by another baseline than %q: name it with --baseline", asked.baseline().Name)
	case cmd.Flags().Changed("as-of") && first.AsOf != asked.now.Format(time.DateOnly):
		return fmt.Errorf("the parts were judged as of %s", first.AsOf)
	}
	if asked.now, err = day(first.AsOf); err != nil {
		return err
	}
	var shares, work [][]byte
	for _, p := range parts {
		shares, work = append(shares, p.Estate), append(work, p.Work)
	}
	whole, err := estate.Join(shares)
	if err != nil {
		return err
	}
	e := pair.Of(whole)
	if err := a.complain(e); err != nil {
		return err
	}
	e.Exceptions = append(e.Exceptions, asked.exceptions...)
	r, err := audit.JoinParts(cmd.Context(), e, suite.All(), asked.baseline(), asked.now, work)
	if err != nil {
		return err
	}
	a.name(r.Failed)
	more := func() (*report.More, error) { return nil, errors.New("the configurations are not in parts") }
	if err := a.report(cmd.Context(), r, asked, more); err != nil {
		return err
	}
	if len(e.Problems) > 0 {
		return exit(exitFindings)
	}
	return verdict(r, asked)
}

// partsOfOne reads parts, in any order, and returns them in theirs. They must be all of one audit.
func partsOfOne(paths []string) ([]*partFile, error) {
	var out []*partFile
	for _, path := range paths {
		p, err := readPart(path)
		if err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	slices.SortStableFunc(out, func(a, b *partFile) int { return cmp.Compare(a.Part, b.Part) })
	for i, p := range out {
		f := out[0]
		if what := p.differs(f); what != "" {
			return nil, fmt.Errorf("%s and %s are of different audits: %s", f.name, p.name, what)
		}
		switch {
		case p.Part != i+1:
			return nil, fmt.Errorf("part %d of %d is missing, or one is given twice", i+1, f.Of)
		}
	}
	if len(out) != out[0].Of {
		return nil, fmt.Errorf("part %d of %d is missing", len(out)+1, out[0].Of)
	}
	return out, nil
}

// differs says what tells two parts apart that are not of one audit; "" where they are of one.
func (p *partFile) differs(f *partFile) string {
	switch {
	case p.Of != f.Of:
		return fmt.Sprintf("one of %d parts, one of %d", f.Of, p.Of)
	case p.Program != f.Program:
		return "they were made by different builds of Toril"
	case p.Books != f.Books:
		return "they were made with different phrasebooks"
	case p.Baseline != f.Baseline:
		return "they were judged by different baselines"
	case p.AsOf != f.AsOf:
		return fmt.Sprintf("they were judged as of %s and of %s", f.AsOf, p.AsOf)
	case p.Paths != f.Paths:
		return fmt.Sprintf("the estate was called %q and %q, which reports show", f.Paths, p.Paths)
	case p.Content != f.Content:
		return "the files changed between them: run them again"
	}
	return ""
}
