// Release builds everything that a release has into a folder: static programs, packages, man pages, completions, checksums, and
// the files of a module proxy. The same commit and version give the same bytes.
//
//	cd scripts/release && go run . -version v0.1.0 -out /tmp/dist
//
// It is a module of its own, so that what it needs is no part of the program.
package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb"
	"github.com/goreleaser/nfpm/v2/files"
	_ "github.com/goreleaser/nfpm/v2/rpm"
	"golang.org/x/mod/module"
	modzip "golang.org/x/mod/zip"
)

// modulePath is the path of the program's module.
const modulePath = "imbrel.example/imbrel"

// targets are the systems that programs are built for.
var targets = []struct{ os, arch string }{
	{"linux", "amd64"}, {"linux", "arm64"}, {"darwin", "amd64"}, {"darwin", "arm64"}, {"windows", "amd64"},
}

// A release is one version of a commit.
type release struct {
	root, out string
	version   string
	commit    string
	at        time.Time // of the commit
	extras    []extra   // that go with each program
}

// An extra is a file beside the program, and where a package installs it.
type extra struct {
	name, installed string
	text            []byte
}

func main() {
	r := release{}
	flag.StringVar(&r.root, "root", "../..", "the checkout")
	flag.StringVar(&r.out, "out", "dist", "the folder to write into; it must not exist")
	flag.StringVar(&r.version, "version", "", "the version, such as v0.1.0")
	flag.Parse()
	if err := r.build(); err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}

func (r *release) build() error {
	if !regexp.MustCompile(`^v\d+\.\d+\.\d+(-[0-9a-z.]+)?$`).MatchString(r.version) {
		return fmt.Errorf("-version %q: give a version such as v0.1.0", r.version)
	}
	var err error
	if r.out, err = filepath.Abs(r.out); err != nil {
		return err
	}
	if err := os.Mkdir(r.out, 0o755); err != nil {
		return fmt.Errorf("-out: %w", err)
	}
	if r.commit, err = r.git("rev-parse", "--short=12", "HEAD"); err != nil {
		return err
	}
	if changed, _ := r.git("status", "--porcelain"); changed != "" {
		r.commit += "-changed"
	}
	seconds, err := r.git("log", "-1", "--format=%ct")
	if err != nil {
		return err
	}
	n, err := strconv.ParseInt(seconds, 10, 64)
	if err != nil {
		return err
	}
	r.at = time.Unix(n, 0).UTC()
	work, err := os.MkdirTemp("", "release")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	if err := r.texts(work); err != nil {
		return err
	}
	for _, t := range targets {
		program := filepath.Join(work, t.os+"-"+t.arch)
		if err := r.compile(program, t.os, t.arch); err != nil {
			return err
		}
		if err := r.archive(program, t.os, t.arch); err != nil {
			return err
		}
		if t.os != "linux" {
			continue
		}
		for _, format := range []string{"deb", "rpm"} {
			if err := r.pack(program, t.arch, format); err != nil {
				return fmt.Errorf("%s for %s: %w", format, t.arch, err)
			}
		}
	}
	if err := r.proxy(); err != nil {
		return err
	}
	return r.sums()
}

func (r *release) git(args ...string) (string, error) {
	c := exec.Command("git", args...)
	c.Dir = r.root
	out, err := c.Output()
	if err != nil {
		return "", fmt.Errorf("git %s: %w", strings.Join(args, " "), err)
	}
	return strings.TrimSpace(string(out)), nil
}

// compile builds the program for a system.
func (r *release) compile(out, goos, arch string) error {
	flags := fmt.Sprintf("-s -w -buildid= -X '%s/internal/cli.release=%s (%s)'", modulePath, r.version, r.commit)
	c := exec.Command("go", "build", "-trimpath", "-buildvcs=false", "-ldflags", flags, "-o", out, "./cmd/imbrel")
	c.Dir, c.Env = r.root, append(os.Environ(), "CGO_ENABLED=0", "GOOS="+goos, "GOARCH="+arch, "GOFLAGS=")
	if text, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("building for %s/%s: %w\n%s", goos, arch, err, text)
	}
	return nil
}

// texts makes the man pages and the completions from what the program itself says, and takes the licence and the README.
func (r *release) texts(work string) error {
	own := filepath.Join(work, "own")
	if err := r.compile(own, runtime.GOOS, runtime.GOARCH); err != nil {
		return err
	}
	say := func(args ...string) ([]byte, error) {
		c := exec.Command(own, args...)
		c.Env = append(os.Environ(), "COLUMNS=78")
		return c.Output()
	}
	help, err := say("--help")
	if err != nil {
		return err
	}
	commands := [][]string{nil}
	for _, m := range regexp.MustCompile(`(?m)^  ([a-z]+) {2,}`).FindAllStringSubmatch(string(help), -1) {
		if m[1] != "help" && m[1] != "completion" {
			commands = append(commands, []string{m[1]})
		}
	}
	for _, c := range commands {
		text, err := say(append(slices.Clone(c), "--help")...)
		if err != nil {
			return err
		}
		name := strings.Join(append([]string{"imbrel"}, c...), "-")
		r.extras = append(r.extras, extra{"man/" + name + ".1", "/usr/share/man/man1/" + name + ".1.gz", r.man(name, string(text), string(help))})
	}
	for shell, installed := range map[string]string{
		"bash": "/usr/share/bash-completion/completions/imbrel", "zsh": "/usr/share/zsh/vendor-completions/_imbrel", "fish": "/usr/share/fish/vendor_completions.d/imbrel.fish",
	} {
		text, err := say("completion", shell)
		if err != nil {
			return err
		}
		r.extras = append(r.extras, extra{"completions/imbrel." + shell, installed, text})
	}
	for name, installed := range map[string]string{"LICENSE": "/usr/share/doc/imbrel/copyright", "README.md": "/usr/share/doc/imbrel/README.md", "CHANGELOG.md": "/usr/share/doc/imbrel/CHANGELOG.md", "scripts/release/imbrel-gate@.service": "/usr/lib/systemd/system/imbrel-gate@.service"} {
		text, err := os.ReadFile(filepath.Join(r.root, name))
		if err != nil {
			return err
		}
		r.extras = append(r.extras, extra{name, installed, text})
	}
	slices.SortFunc(r.extras, func(a, b extra) int { return strings.Compare(a.name, b.name) })
	return nil
}

// man returns the manual page of a command, made of its help.
func (r *release) man(name, help, all string) []byte {
	short := "will voice hold when the link is full, and who pays for it"
	if _, command, ok := strings.Cut(name, "-"); ok {
		if m := regexp.MustCompile(`(?m)^  ` + command + ` +(.*)$`).FindStringSubmatch(all); m != nil {
			short = m[1]
		}
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, ".TH %s 1 %s \"imbrel %s\"\n.SH NAME\n%s \\- %s\n.SH DESCRIPTION\n", strings.ToUpper(name), r.at.Format("2006-01-02"), r.version, name, roff(short))
	fill := true
	for _, line := range strings.Split(strings.TrimSpace(help), "\n") {
		heading := strings.HasSuffix(line, ":") && !strings.HasPrefix(line, " ") && len(line) < 40
		switch {
		case heading:
			if !fill {
				b.WriteString(".fi\n")
			}
			fmt.Fprintf(&b, ".SH %s\n.nf\n", strings.ToUpper(strings.TrimSuffix(line, ":")))
			fill = false
		case fill && strings.HasPrefix(line, " "):
			fmt.Fprintf(&b, ".nf\n%s\n.fi\n", roff(line))
		case fill && line == "":
			b.WriteString(".PP\n")
		default:
			b.WriteString(roff(line) + "\n")
		}
	}
	if !fill {
		b.WriteString(".fi\n")
	}
	return b.Bytes()
}

// roff makes a line plain text of a manual page.
func roff(line string) string {
	line = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(line)
	if strings.HasPrefix(line, ".") || strings.HasPrefix(line, "'") {
		line = `\&` + line
	}
	return line
}

// archive writes the program and its extras as .tar.gz, or .zip for Windows.
func (r *release) archive(program, goos, arch string) error {
	data, err := os.ReadFile(program)
	if err != nil {
		return err
	}
	base := fmt.Sprintf("imbrel-%s-%s-%s", r.version, goos, arch)
	all := append([]extra{{name: "imbrel", text: data}}, r.extras...)
	var b bytes.Buffer
	name := base + ".tar.gz"
	if goos == "windows" {
		all[0].name, name = "imbrel.exe", base+".zip"
		w := zip.NewWriter(&b)
		for _, e := range all {
			f, err := w.CreateHeader(&zip.FileHeader{Name: base + "/" + e.name, Method: zip.Deflate, Modified: r.at})
			if err != nil {
				return err
			}
			if _, err := f.Write(e.text); err != nil {
				return err
			}
		}
		if err := w.Close(); err != nil {
			return err
		}
	} else {
		z := gzip.NewWriter(&b)
		w := tar.NewWriter(z)
		for i, e := range all {
			mode := int64(0o644)
			if i == 0 {
				mode = 0o755
			}
			if err := w.WriteHeader(&tar.Header{Name: base + "/" + e.name, Mode: mode, Size: int64(len(e.text)), ModTime: r.at, Format: tar.FormatUSTAR}); err != nil {
				return err
			}
			if _, err := w.Write(e.text); err != nil {
				return err
			}
		}
		if err := w.Close(); err != nil {
			return err
		}
		if err := z.Close(); err != nil {
			return err
		}
	}
	return os.WriteFile(filepath.Join(r.out, name), b.Bytes(), 0o644)
}

// pack writes a Debian or an RPM package.
func (r *release) pack(program, arch, format string) error {
	dir, err := os.MkdirTemp("", "package")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	contents := files.Contents{{Source: program, Destination: "/usr/bin/imbrel", FileInfo: &files.ContentFileInfo{Mode: 0o755, MTime: r.at}}}
	for _, e := range r.extras {
		text := e.text
		if strings.HasSuffix(e.installed, ".gz") {
			var b bytes.Buffer
			z, _ := gzip.NewWriterLevel(&b, gzip.BestCompression)
			if _, err := z.Write(text); err != nil {
				return err
			}
			if err := z.Close(); err != nil {
				return err
			}
			text = b.Bytes()
		}
		at := filepath.Join(dir, filepath.FromSlash(e.name))
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(at, text, 0o644); err != nil {
			return err
		}
		contents = append(contents, &files.Content{Source: at, Destination: e.installed, FileInfo: &files.ContentFileInfo{Mode: 0o644, MTime: r.at}})
	}
	info := nfpm.WithDefaults(&nfpm.Info{
		Name: "imbrel", Arch: arch, Platform: "linux", Version: r.version, Section: "net", Priority: "optional", Maintainer: "The Imbrel authors <imbrel@imbrel.example>", Vendor: "Imbrel",
		Description: "Classify, mark, queue and police traffic, and verify voice under congestion\nRehearses a policy packet by packet and says whether calls hold when the link is full.",
		License:     "Apache-2.0", MTime: r.at, Overridables: nfpm.Overridables{Contents: contents, RPM: nfpm.RPM{BuildHost: "release"}},
	})
	if err := nfpm.PrepareForPackager(info, format); err != nil {
		return err
	}
	packager, err := nfpm.Get(format)
	if err != nil {
		return err
	}
	f, err := os.Create(filepath.Join(r.out, fmt.Sprintf("imbrel-%s-linux-%s.%s", r.version, arch, format)))
	if err != nil {
		return err
	}
	if err := packager.Package(info, f); err != nil {
		return err
	}
	return f.Close()
}

// proxy writes the files of a module proxy, from which `go install` works: any web server can serve them.
func (r *release) proxy() error {
	dir := filepath.Join(r.out, "proxy", filepath.FromSlash(modulePath), "@v")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	mod, err := os.ReadFile(filepath.Join(r.root, "go.mod"))
	if err != nil {
		return err
	}
	var b bytes.Buffer
	if err := modzip.CreateFromVCS(&b, module.Version{Path: modulePath, Version: r.version}, r.root, "HEAD", ""); err != nil {
		return err
	}
	for name, data := range map[string][]byte{
		r.version + ".zip": b.Bytes(), r.version + ".mod": mod, "list": []byte(r.version + "\n"),
		r.version + ".info": fmt.Appendf(nil, "{\"Version\":%q,\"Time\":%q}\n", r.version, r.at.Format(time.RFC3339)),
	} {
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// sums writes the SHA-256 of every file.
func (r *release) sums() error {
	var b bytes.Buffer
	err := filepath.WalkDir(r.out, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		h := sha256.New()
		if _, err := io.Copy(h, f); err != nil {
			return err
		}
		name, err := filepath.Rel(r.out, path)
		fmt.Fprintf(&b, "%x  %s\n", h.Sum(nil), filepath.ToSlash(name))
		return err
	})
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(r.out, "SHA256SUMS"), b.Bytes(), 0o644)
}
