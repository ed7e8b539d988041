package disk

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
)

// Replace writes a file beside the one of a name and renames it: whoever looks finds the old file or the whole new one. Where writing
// fails, or the context ends, nothing is left behind and the old file stays.
func Replace(ctx context.Context, name string, write func(io.Writer) error) (err error) {
	mode := os.FileMode(0o644)
	if info, err := os.Stat(name); err == nil {
		if !info.Mode().IsRegular() { // a device or a pipe cannot be replaced
			return direct(ctx, name, write)
		}
		mode = info.Mode().Perm()
	}
	f, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+".*")
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", name, err)
	}
	defer func() {
		if err != nil {
			f.Close()
			os.Remove(f.Name())
		}
	}()
	stop := context.AfterFunc(ctx, func() { os.Remove(f.Name()) }) // a program that is ended while it writes leaves nothing either
	defer stop()
	out := bufio.NewWriter(f)
	if err = write(out); err != nil {
		return err
	}
	if err = out.Flush(); err != nil {
		return fmt.Errorf("%s cannot be written: %w", name, err)
	}
	if err = f.Chmod(mode); err != nil {
		return fmt.Errorf("%s cannot be written: %w", name, err)
	}
	if err = f.Close(); err != nil {
		return fmt.Errorf("%s cannot be written: %w", name, err)
	}
	if err = ctx.Err(); err != nil {
		return err
	}
	if err = os.Rename(f.Name(), name); err != nil {
		return fmt.Errorf("%s cannot be written: %w", name, err)
	}
	return nil
}

// direct writes into what is no regular file.
func direct(ctx context.Context, name string, write func(io.Writer) error) error {
	f, err := os.OpenFile(name, os.O_WRONLY, 0)
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", name, err)
	}
	defer f.Close()
	if err := write(f); err != nil {
		return err
	}
	return ctx.Err()
}
