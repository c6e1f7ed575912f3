package cli_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// pages are those whose commands print what the page shows below them. WRITE_DOCS=1 writes what they print into the page.
var pages = []string{"docs/start.md"}

// Every command of the pages runs as it stands, in the order of the page, and prints what the page says.
func TestPagesShowWhatIsPrinted(t *testing.T) {
	t.Parallel()
	blocks := regexp.MustCompile("(?s)```sh\n(.*?)```\n```\n(.*?)```")
	for _, page := range pages {
		path := filepath.Join("..", "..", page)
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		dir := t.TempDir()
		ran := 0
		written := blocks.ReplaceAllStringFunc(string(text), func(block string) string {
			m := blocks.FindStringSubmatch(block)
			out, err := inShell(t, dir, m[1])
			if ran++; err != nil {
				t.Errorf("%s: %s: %v\n%s", page, strings.TrimSpace(m[1]), err, out)
			}
			return "```sh\n" + m[1] + "```\n```\n" + strings.TrimRight(out, "\n") + "\n```"
		})
		if ran == 0 {
			t.Errorf("%s has no command", page)
		}
		if written == string(text) {
			continue
		}
		if os.Getenv("WRITE_DOCS") == "" {
			t.Errorf("%s is not what the program prints: WRITE_DOCS=1 go test ./internal/cli -run Pages writes it", page)
		} else if err := os.WriteFile(path, []byte(written), 0o666); err != nil {
			t.Fatal(err)
		}
	}
}

// The policy of the README runs when it is pasted, and has at most 25 lines.
func TestReadmePolicy(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile(filepath.Join("..", "..", "README.md"))
	if err != nil {
		t.Fatal(err)
	}
	m := regexp.MustCompile("(?s)```yaml\n(.*?)```").FindSubmatch(text)
	if m == nil || strings.Count(string(m[1]), "\n") > 25 {
		t.Fatal("the README has no policy of at most 25 lines")
	}
	if r := imbrel(t, t.TempDir(), string(m[1]), nil, "check", "-"); r.status != 0 || r.out != "Nothing found.\n" {
		t.Errorf("check: exit %d: %s%s", r.status, r.out, r.err)
	}
	if r := imbrel(t, t.TempDir(), string(m[1]), nil, "rehearse", "-", "--both"); r.status != 0 || !strings.Contains(r.out, "without them 3 of 4 expectations fail") {
		t.Errorf("rehearse: exit %d: %s%s", r.status, r.out, r.err)
	}
}

// Every file that the pages name is there.
func TestLinksInTheDocs(t *testing.T) {
	t.Parallel()
	root := filepath.Join("..", "..")
	files, _ := filepath.Glob(filepath.Join(root, "docs", "*.md"))
	for _, file := range append(files, filepath.Join(root, "README.md"), filepath.Join(root, "CONTRIBUTING.md")) {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range regexp.MustCompile(`\]\(([^)#: ]+)(#[^)]*)?\)`).FindAllSubmatch(text, -1) {
			target, err := os.ReadFile(filepath.Join(filepath.Dir(file), string(m[1])))
			if info, e := os.Stat(filepath.Join(filepath.Dir(file), string(m[1]))); err != nil && (e != nil || !info.IsDir()) {
				t.Errorf("%s links to %s, which is not there", file, m[1])
			} else if len(m[2]) > 0 && !headings(target)[string(m[2][1:])] {
				t.Errorf("%s links to %s%s, and the page has no such heading", file, m[1], m[2])
			}
		}
	}
}

// headings returns the anchors of a page's headings.
func headings(page []byte) map[string]bool {
	all := make(map[string]bool)
	for _, m := range regexp.MustCompile(`(?m)^#+ (.*)$`).FindAllSubmatch(page, -1) {
		anchor := regexp.MustCompile(`[^a-z0-9 _-]`).ReplaceAllString(strings.ToLower(string(m[1])), "")
		all[strings.ReplaceAll(anchor, " ", "-")] = true
	}
	return all
}
