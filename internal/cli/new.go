package cli

import (
	"errors"
	"fmt"
	"io/fs"

	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/render"
)

// writeOnce writes a file, and refuses to overwrite one; what is the thing to rename: a file or a folder.
func writeOnce(path string, data []byte, what string) error {
	f, err := files.NewPart(path)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s already exists; not overwritten. Name another %s", path, what)
	}
	if err == nil {
		if _, err = f.Write(data); err == nil {
			err = f.Finish()
		} else {
			f.Discard()
		}
	}
	if err != nil {
		return fmt.Errorf("cannot write %s: %w", path, err)
	}
	return nil
}

// writeNew writes a file that is not there yet, and says what to do next.
func (a *app) writeNew(path, text string) error {
	if path == "-" {
		_, err := fmt.Fprint(a.out, text)
		return err
	}
	if err := writeOnce(path, []byte(text), "file"); err != nil {
		return err
	}
	shown := render.Visible(path)
	fmt.Fprintf(a.out, `%s is written. Next:
  imbrel rehearse %s --both    do the calls hold when the line is full?
  Open %s and change what is marked CHANGE: ports, addresses, framing.
  imbrel check %s              find mistakes after each change
`, shown, shown, shown, shown)
	return nil
}
