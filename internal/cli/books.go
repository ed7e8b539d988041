package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"toril/internal/disk"
	"toril/internal/strictyaml"
	"toril/read"
	"toril/read/formats"
	"toril/read/phrasebook"
	"toril/source"
)

// booksFolder is where a user's own phrasebooks are, below the user's folder for configurations.
const booksFolder = "toril/phrasebooks"

// openBook reads a phrasebook.
func openBook(name string) (*phrasebook.Book, error) {
	data, err := disk.ReadFile(name, strictyaml.MaxBytes)
	if err != nil {
		var pe *fs.PathError
		if errors.As(err, &pe) {
			err = pe.Err
		}
		return nil, fmt.Errorf("phrasebook %s cannot be read: %w", name, err)
	}
	return phrasebook.Load(filepath.ToSlash(name), data)
}

// known are all formats that a command reads: those of --phrasebook, those in the user's folder, and Toril's own. A mistake in a
// phrasebook that was named ends the run; one in the user's folder is said, and the others are used.
func (a *app) known() ([]*read.Format, error) {
	all := formats.All()
	add := func(b *phrasebook.Book) error {
		if slices.ContainsFunc(all, func(f *read.Format) bool { return f.Name == b.Language }) {
			return fmt.Errorf("there is a format %s already", b.Language)
		}
		all = append(all, b.Format())
		return nil
	}
	for _, name := range a.books {
		b, err := openBook(name)
		if err != nil {
			return nil, err
		}
		if err := add(b); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
	}
	for _, name := range usersBooks() {
		b, err := openBook(name)
		if err == nil {
			err = add(b)
		}
		if err != nil {
			fmt.Fprintf(a.err, "toril: %s\n", source.Clean(err.Error()))
		}
	}
	return all, nil
}

// usersBooks are the phrasebooks in the user's folder, by name.
func usersBooks() []string {
	dir, err := os.UserConfigDir()
	if err != nil {
		return nil
	}
	found, _ := filepath.Glob(filepath.Join(dir, filepath.FromSlash(booksFolder), "*.yaml"))
	return found
}

func namesOf(all []*read.Format) []string {
	var out []string
	for _, f := range all {
		out = append(out, f.Name)
	}
	return out
}
