// Command pack makes what a package holds beside the program: manual pages, and the bill of materials of a program that was built.
// packaging/build calls it.
package main

import (
	"debug/buildinfo"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	cdx "github.com/CycloneDX/cyclonedx-go"
	"github.com/spf13/cobra/doc"

	"toril/internal/cli"
	"toril/report"
)

func main() {
	var err error
	switch {
	case len(os.Args) == 3 && os.Args[1] == "man":
		err = manual(os.Args[2], date())
	case len(os.Args) == 3 && os.Args[1] == "sbom":
		err = materials(os.Stdout, os.Args[2], date())
	default:
		err = fmt.Errorf("usage: pack man FOLDER, or pack sbom PROGRAM")
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "pack:", err)
		os.Exit(2)
	}
}

// date is the day that everything is dated, by SOURCE_DATE_EPOCH (seconds since 1970).
func date() time.Time {
	n, _ := strconv.ParseInt(os.Getenv("SOURCE_DATE_EPOCH"), 10, 64)
	return time.Unix(n, 0).UTC()
}

// manual writes a manual page for every command.
func manual(folder string, day time.Time) error {
	for _, c := range append(cli.Commands(), cli.Root()) {
		c.DisableAutoGenTag = true
		name := filepath.Join(folder, "toril.1")
		if c.HasParent() {
			name = filepath.Join(folder, manName(c.CommandPath())+".1")
		}
		f, err := os.Create(name)
		if err != nil {
			return err
		}
		head := &doc.GenManHeader{
			Title:   manName(c.CommandPath()),
			Section: "1",
			Date:    &day,
			Source:  "toril " + report.Version,
			Manual:  "Toril",
		}
		if err := doc.GenMan(c, head, f); err != nil {
			return err
		}
		if err := f.Close(); err != nil {
			return err
		}
	}
	return nil
}

func manName(path string) string {
	out := []byte(path)
	for i, b := range out {
		if b == ' ' {
			out[i] = '-'
		}
	}
	return string(out)
}

// materials writes what a program is made of, as it says itself, in CycloneDX (ECMA-424).
func materials(w io.Writer, program string, day time.Time) error {
	info, err := buildinfo.ReadFile(program)
	if err != nil {
		return err
	}
	bom := cdx.NewBOM()
	main := cdx.Component{BOMRef: "toril", Type: cdx.ComponentTypeApplication, Name: "toril", Version: report.Version,
		Licenses: &cdx.Licenses{{License: &cdx.License{ID: "Apache-2.0"}}}}
	bom.Metadata = &cdx.Metadata{Timestamp: day.Format(time.RFC3339), Component: &main}
	parts := []cdx.Component{{BOMRef: "go", Type: cdx.ComponentTypeLibrary, Name: "std", Version: info.GoVersion,
		PackageURL: "pkg:golang/std@" + info.GoVersion}}
	needs := []string{"go"}
	for _, d := range info.Deps {
		if d.Replace != nil {
			d = d.Replace
		}
		url := "pkg:golang/" + d.Path + "@" + d.Version
		parts = append(
			parts,
			cdx.Component{BOMRef: url, Type: cdx.ComponentTypeLibrary, Name: d.Path, Version: d.Version, PackageURL: url},
		)
		needs = append(needs, url)
	}
	slices.Sort(needs)
	bom.Components = &parts
	bom.Dependencies = &[]cdx.Dependency{{Ref: "toril", Dependencies: &needs}}
	return cdx.NewBOMEncoder(w, cdx.BOMFileFormatJSON).SetPretty(true).Encode(bom)
}
