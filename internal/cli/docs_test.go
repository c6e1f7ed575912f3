package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// Every command in the docs runs, in the order of the page, in one folder.
func TestCommandsInTheDocs(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile(filepath.Join("..", "..", "docs", "commands.md"))
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	ran := 0
	for _, block := range regexp.MustCompile("(?s)```sh\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		for _, line := range strings.Split(strings.TrimSpace(block[1]), "\n") {
			words := strings.Fields(line)
			if words[0] != "imbrel" {
				t.Fatalf("%q is no command of ours", line)
			}
			ran++
			file := ""
			if last := words[len(words)-1]; last[0] == '>' { // as a shell does
				file, words = last[1:], words[:len(words)-1]
			}
			r := imbrel(t, dir, "", nil, words[1:]...)
			if file != "" {
				put(t, dir, file, r.out)
			}
			if r.status != 0 || r.out == "" && !strings.Contains(line, "--write") {
				t.Errorf("%s: exit %d, %q, %s", line, r.status, r.out[:min(100, len(r.out))], r.err)
			}
		}
	}
	if ran < 12 {
		t.Errorf("only %d commands in the docs", ran)
	}
	// Each command of the program has its place there.
	help := imbrel(t, dir, "", nil, "--help").out
	for _, m := range regexp.MustCompile(`(?m)^  ([a-z]+) {2,}`).FindAllStringSubmatch(help, -1) {
		if m[1] != "help" && !strings.Contains(string(text), "## imbrel "+m[1]) {
			t.Errorf("docs/commands.md says nothing of `imbrel %s`", m[1])
		}
	}
}

// The programs of the page about the library run as they stand, and print what the page says.
func TestProgramsInTheDocs(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile(filepath.Join("..", "..", "docs", "library.md"))
	if err != nil {
		t.Fatal(err)
	}
	programs := regexp.MustCompile("(?s)```go\n(.*?)```\n\n```\n(.*?)```").FindAllStringSubmatch(string(text), -1)
	if len(programs) != 3 {
		t.Fatalf("%d programs", len(programs))
	}
	dir := t.TempDir()
	for i, p := range programs {
		name := fmt.Sprintf("%d.go", i+1)
		put(t, dir, name, p[1])
		run := exec.Command("go", "run", filepath.Join(dir, name))
		run.Dir = filepath.Join("..", "..")
		if out, err := run.CombinedOutput(); err != nil || string(out) != p[2] {
			t.Errorf("program %d prints\n%s (%v), and the page says\n%s", i+1, out, err, p[2])
		}
	}
}
