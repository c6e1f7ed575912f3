package files

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"imbrel.example/imbrel/core/policyfile"
)

// Write replaces a file on disk by its changed text, as a whole or not at all: the new text gets the name when
// it is written.
func Write(c policyfile.Changed) error {
	now, err := os.ReadFile(c.Name)
	if err == nil && !bytes.Equal(now, c.Old) {
		err = fmt.Errorf("it has changed meanwhile")
	}
	if err != nil {
		return fmt.Errorf("cannot mend %s: %w", c.Name, inWords(c.Name, err))
	}
	target, err := filepath.EvalSymlinks(c.Name)
	if err != nil {
		return fmt.Errorf("cannot mend %s: %w", c.Name, err)
	}
	info, err := os.Stat(target)
	if err != nil {
		return fmt.Errorf("cannot mend %s: %w", c.Name, err)
	}
	if err := asBefore(target, c.New, info); err != nil {
		return fmt.Errorf("cannot mend %s: %w", c.Name, err)
	}
	return nil
}

// asBefore gives a file another text; its owner, its mode and its other names stay. Where that takes writing into the file
// itself, what it had is beside it until all is written.
func asBefore(name string, text []byte, info fs.FileInfo) error {
	owner := func(*os.File) error { return nil }
	if links, keep := ownership(info); links > 1 {
		return inPlace(name, text)
	} else if keep != nil {
		owner = keep
	}
	err := whole(name, text, info.Mode().Perm(), owner)
	if errors.Is(err, errOwner) {
		return inPlace(name, text)
	}
	return err
}

// errOwner says that a new file cannot have the owner of the one before.
var errOwner = errors.New("it has another owner")

func inPlace(name string, text []byte) error {
	before, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	kept := filepath.Join(filepath.Dir(name), "."+filepath.Base(name)+".before")
	if err := os.WriteFile(kept, before, 0o600); err != nil {
		return err
	}
	f, err := os.OpenFile(name, os.O_WRONLY, 0)
	if err == nil {
		_, err = f.WriteAt(text, 0)
		if err == nil {
			err = f.Truncate(int64(len(text)))
		}
		if e := f.Close(); err == nil {
			err = e
		}
		if err != nil {
			return fmt.Errorf("%w; what it had is in %s", err, kept)
		}
	}
	return errors.Join(err, os.Remove(kept))
}

// Replaceable reports whether a file may be written: when there is none, or when the one that is there has a mark in its first
// kilobyte that says it is of the kind that replaces it.
func Replaceable(name string, mark []byte, kind string) error {
	f, err := os.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		if _, err := os.Stat(filepath.Dir(name)); err != nil {
			return fmt.Errorf("cannot write %s: its folder does not exist; make it first", name)
		}
		return nil
	}
	if err != nil {
		return fmt.Errorf("cannot write %s: %w", name, inWords(name, err))
	}
	defer f.Close()
	start := make([]byte, 1024)
	n, err := io.ReadFull(f, start)
	if err != nil && n == 0 || !bytes.Contains(start[:n], mark) {
		return fmt.Errorf("%s already exists and is not %s; not overwritten. Give another name", name, kind)
	}
	return nil
}

// Replace writes a file as a whole or not at all.
func Replace(name string, text []byte) error {
	if err := whole(name, text, 0o644, func(*os.File) error { return nil }); err != nil {
		return fmt.Errorf("cannot write %s: %w", name, inWords(name, err))
	}
	return nil
}

// whole gives a file its text: another file gets the name when all of it is written.
func whole(name string, text []byte, mode fs.FileMode, owner func(*os.File) error) error {
	f, err := os.CreateTemp(filepath.Dir(name), ".imbrel-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // when it did not get the name
	_, err = f.Write(text)
	if e := owner(f); err == nil {
		err = e
	}
	if e := f.Chmod(mode); err == nil {
		err = e
	}
	if e := f.Sync(); err == nil { // or a failing machine leaves the name and no text
		err = e
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(f.Name(), name)
	}
	return err
}
