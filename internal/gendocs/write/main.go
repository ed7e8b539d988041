// Command write puts the generated documents into docs/. It is run by go generate.
package main

import (
	"fmt"
	"os"
	"path/filepath"

	"toril/internal/gendocs"
)

//go:generate go run . ../../../docs

func main() {
	if err := run(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(docs string) error {
	files, err := gendocs.Files(filepath.Dir(docs))
	if err != nil {
		return err
	}
	if err := os.RemoveAll(filepath.Join(docs, "checks")); err != nil {
		return err
	}
	for name, text := range files {
		to := filepath.Join(docs, name)
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(to, []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}
