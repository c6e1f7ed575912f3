// Package files opens what users name: policy files, captures and saved results; and writes captures.
package files

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"time"
	_ "time/tzdata" // the same time zones on every machine

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
)

// A Place to read files from: the operating system's, or an embedded one. It is also the text of the policy file
// that was read there.
type Place struct {
	FS   fs.FS    // nil: the operating system's files
	In   string   // the folder that relative names start from
	Also []string // other folders from which files may be included
	*policyfile.Source
}

// read reads a policy file and what it includes.
func (p Place) read(name string, r io.Reader) (f *policy.File, in Place, err error) {
	f, p.Source, err = policyfile.Read(name, r, included{p}, time.LoadLocation)
	return f, p, err
}

// Expecting returns the policy file with one more expectation of a rehearsal, and the place
// from which it can be changed further.
func (p Place) Expecting(rehearsal, text string) (f *policy.File, in Place, err error) {
	f, p.Source, err = p.Source.Expecting(rehearsal, text)
	return f, p, err
}

// Edited returns the policy file read again with edits (policyfile.Source.Edited).
func (p Place) Edited(edits []policyfile.Edit) (f *policy.File, in Place, err error) {
	f, p.Source, err = p.Source.Edited(edits)
	return f, p, err
}

// included opens what a policy file includes.
type included struct{ at Place }

func (i included) Open(name string) (io.ReadCloser, error) { return i.at.openIncluded(name) }

func (i included) Join(dir, name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return path.Join(dir, name)
}

func (i included) Shown(name string) string {
	if i.at.FS == nil && !filepath.IsAbs(name) && i.at.In != "." {
		return filepath.Join(i.at.In, name)
	}
	return name
}

// open opens a file by a name as a policy file gives it.
func (p Place) open(name string) (fs.File, error) {
	if p.FS != nil {
		return p.FS.Open(name)
	}
	if !filepath.IsAbs(name) {
		name = filepath.Join(p.In, name)
	}
	return os.Open(name)
}

// ReadPolicy reads and validates a policy file and what it includes, from its own folder
// and those given; "-" is standard input, given as stdin. It also returns the place that
// names within the file start from.
func ReadPolicy(name string, stdin io.Reader, includeFrom ...string) (*policy.File, Place, error) {
	if name == "-" {
		return Place{In: ".", Also: includeFrom}.read("stdin", stdin)
	}
	file, err := openNamed(Place{}, name)
	if err != nil {
		return nil, Place{}, fmt.Errorf("cannot read the policy file: %w", err)
	}
	defer file.Close()
	return Place{In: filepath.Dir(name), Also: includeFrom}.read(name, file)
}

// ReadPolicyIn reads and validates a policy file of an embedded file system.
func ReadPolicyIn(in fs.FS, name string) (*policy.File, Place, error) {
	file, err := in.Open(name)
	if err != nil {
		return nil, Place{}, err
	}
	defer file.Close()
	return Place{FS: in}.read(name, file)
}

// openNamed opens what the user names, which may be a pipe, and says in people's words why
// something cannot be opened.
func openNamed(p Place, name string) (fs.File, error) {
	file, err := p.open(name)
	if err != nil {
		return nil, inWords(name, err)
	}
	if info, err := file.Stat(); err == nil && info.IsDir() {
		file.Close()
		return nil, fmt.Errorf("%s is a directory; name a file in it", name)
	}
	return file, nil
}

// openRegular opens a file that another file names. It is a regular one: to open a pipe or
// a device may wait for ever.
func openRegular(p Place, name string) (fs.File, error) {
	if p.FS == nil {
		full := name
		if !filepath.IsAbs(name) {
			full = filepath.Join(p.In, name)
		}
		info, err := os.Stat(full)
		if err != nil {
			return nil, inWords(name, err)
		}
		if err := regular(name, info); err != nil {
			return nil, err
		}
	}
	return openNamed(p, name)
}

func regular(name string, info fs.FileInfo) error {
	switch {
	case info.IsDir():
		return fmt.Errorf("%s is a directory; name a file in it", name)
	case !info.Mode().IsRegular():
		return fmt.Errorf("%s is a pipe or a device, not a regular file", name)
	}
	return nil
}

func inWords(name string, err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%s does not exist", name)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%s may not be read by you", name)
	}
	return err
}

// openIncluded opens a file to be included: a regular one within the folder of the first
// file or one of those that are allowed besides, links followed.
func (p Place) openIncluded(name string) (fs.File, error) {
	if p.FS != nil {
		return openRegular(p, name)
	}
	full := name
	if !filepath.IsAbs(name) {
		full = filepath.Join(p.In, name)
	}
	for _, folder := range append([]string{p.In}, p.Also...) {
		rel, ok := within(folder, full)
		if !ok {
			continue
		}
		root, err := os.OpenRoot(folder)
		if err != nil {
			return nil, fmt.Errorf("cannot include from %s: %w", folder, inWords(folder, err))
		}
		defer root.Close()
		info, err := root.Stat(rel)
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
			return nil, inWords(name, err)
		}
		if err != nil { // a link that leads out of the folder
			continue
		}
		if err := regular(name, info); err != nil {
			return nil, err
		}
		file, err := root.Open(rel)
		if err != nil {
			return nil, inWords(name, err)
		}
		return file, nil
	}
	return nil, &policyfile.Outside{Folder: p.In}
}

// within returns the name of a file as a folder knows it, and whether it is in it.
func within(folder, full string) (string, bool) {
	a, err1 := filepath.Abs(folder)
	b, err2 := filepath.Abs(full)
	if err1 != nil || err2 != nil {
		return "", false
	}
	rel, err := filepath.Rel(a, b)
	return rel, err == nil && filepath.IsLocal(rel)
}
