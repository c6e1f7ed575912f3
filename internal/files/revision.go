package files

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"time"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
)

// A Side is one side of a difference as git gives it to an external driver: the file that
// holds the text, and the text's object name.
type Side struct {
	File, Object string
	New          bool
}

// ReadPolicySide reads one side of a policy file, whose path git gives from the top of the
// working tree, where the program runs. What it includes is read beside the real path when
// the text is the working tree's own, and from its revision otherwise. A side that does not
// exist is an empty policy.
func ReadPolicySide(name string, s Side) (*policy.File, Place, error) {
	if s.File == os.DevNull {
		return Place{}.read(name, strings.NewReader("imbrel: 1\n"))
	}
	file, err := openNamed(Place{}, s.File)
	if err != nil {
		return nil, Place{}, fmt.Errorf("cannot read the policy file: %w", err)
	}
	defer file.Close()
	in := Place{In: filepath.Dir(name)}
	if filepath.Clean(s.File) != filepath.Clean(name) {
		if rev := revisionOf(name, s); rev != "" {
			in = Place{FS: revision{rev, path.Dir(filepath.ToSlash(name))}}
		}
	}
	return in.read(name, file)
}

// revisionOf finds the revision in which a path has an object: what is checked out; the one
// before the latest change away from it, or for the new side the latest that brought it; the
// index. It returns "" when there is none.
func revisionOf(name string, s Side) string {
	has := func(rev string) bool {
		object, err := git("rev-parse", "--verify", "--quiet", rev+":"+name)
		return err == nil && s.Object != "" && strings.HasPrefix(strings.TrimSpace(string(object)), s.Object)
	}
	if has("HEAD") {
		return "HEAD"
	}
	list, _ := git("log", "--all", "--format=%H", "-n", "20", "--find-object="+s.Object, "--", name)
	for _, rev := range strings.Fields(string(list)) {
		if !s.New && has(rev+"^") {
			return rev + "^"
		}
		if has(rev) {
			return rev
		}
	}
	return ""
}

// git runs git and returns what it prints, up to more than a policy may have.
func git(args ...string) ([]byte, error) {
	c := exec.Command("git", args...)
	out, err := c.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := c.Start(); err != nil {
		return nil, fmt.Errorf("cannot run git: %w", err)
	}
	text, err := io.ReadAll(io.LimitReader(out, policyfile.MaxBytes+1))
	_, _ = io.Copy(io.Discard, out)
	if e := c.Wait(); err == nil {
		err = e
	}
	return text, err
}

// A revision is the files of a folder as they were.
type revision struct{ rev, dir string }

func (r revision) Open(name string) (fs.File, error) {
	full := path.Join(r.dir, name)
	text, err := git("cat-file", "blob", r.rev+":"+full)
	if err != nil {
		return nil, fmt.Errorf("%s is not in the revision %.12s", full, r.rev)
	}
	return &blob{name: path.Base(full), size: int64(len(text)), Reader: bytes.NewReader(text)}, nil
}

// A blob is a file of a revision.
type blob struct {
	*bytes.Reader
	name string
	size int64
}

func (b *blob) Stat() (fs.FileInfo, error) { return b, nil }
func (b *blob) Close() error               { return nil }
func (b *blob) Name() string               { return b.name }
func (b *blob) Size() int64                { return b.size }
func (b *blob) Mode() fs.FileMode          { return 0o444 }
func (b *blob) ModTime() time.Time         { return time.Time{} }
func (b *blob) IsDir() bool                { return false }
func (b *blob) Sys() any                   { return nil }
