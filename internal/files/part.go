package files

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// A Part is a file that is being written: beside its place, under another name, until it
// is whole. What a program that was killed left there is written anew.
type Part struct {
	*os.File
	name string
}

// NewPart begins a file. It is fs.ErrExist when there is one of the name.
func NewPart(name string) (*Part, error) {
	if _, err := os.Lstat(name); err == nil {
		return nil, fmt.Errorf("%s: %w", name, fs.ErrExist)
	}
	f, err := os.OpenFile(filepath.Join(filepath.Dir(name), "."+filepath.Base(name)+".part"), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o666)
	if err != nil {
		return nil, err
	}
	return &Part{f, name}, nil
}

// Finish gives the file its name, which no other may have got meanwhile.
func (p *Part) Finish() error {
	err := p.Sync()
	if e := p.Close(); err == nil {
		err = e
	}
	if err == nil {
		if _, exists := os.Lstat(p.name); exists == nil {
			err = fs.ErrExist
		} else {
			err = os.Rename(p.Name(), p.name)
		}
	}
	if err != nil {
		os.Remove(p.Name())
	}
	return err
}

// Discard removes the file.
func (p *Part) Discard() {
	p.Close()
	os.Remove(p.Name())
}
