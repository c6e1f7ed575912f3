package files

import (
	"bytes"
	"fmt"
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
	f, err := os.CreateTemp(filepath.Dir(target), ".imbrel-*")
	if err != nil {
		return fmt.Errorf("cannot mend %s: %w", c.Name, err)
	}
	defer os.Remove(f.Name()) // when it did not get the name
	_, err = f.Write(c.New)
	if e := f.Chmod(info.Mode().Perm()); err == nil {
		err = e
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(f.Name(), target)
	}
	if err != nil {
		return fmt.Errorf("cannot mend %s: %w", c.Name, err)
	}
	return nil
}
