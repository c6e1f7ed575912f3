package cli_test

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// Every command in the docs runs, in the order of the pages, in one folder.
func TestCommandsInTheDocs(t *testing.T) {
	t.Parallel()
	var text []byte
	for _, page := range []string{"commands.md", "report.md", "ci.md"} {
		own, err := os.ReadFile(filepath.Join("..", "..", "docs", page))
		if err != nil {
			t.Fatal(err)
		}
		text = append(text, own...)
	}
	dir := t.TempDir()
	if err := os.CopyFS(filepath.Join(dir, "examples", "cookbook"), os.DirFS(filepath.Join("..", "..", "examples", "cookbook"))); err != nil {
		t.Fatal(err)
	}
	ran := 0
	for _, block := range regexp.MustCompile("(?s)```sh\n(.*?)```(?:\n```\n(.*?)```)?").FindAllStringSubmatch(string(text), -1) {
		ran += strings.Count(block[1], "imbrel ")
		out, err := inShell(t, dir, block[1])
		var exit *exec.ExitError
		if fails := strings.Contains(block[2], "fails") || strings.Contains(block[2], "FAILS"); err != nil && !(fails && errors.As(err, &exit) && exit.ExitCode() == 1) {
			t.Errorf("%s: %v", block[1], err)
		}
		if out == "" && !strings.Contains(block[1], "--write") && !strings.Contains(block[1], " >") {
			t.Errorf("%s prints nothing", block[1])
		}
		// What the page shows of it is an excerpt: its lines, in their order.
		rest := strings.Join(strings.Fields(out), " ")
		for _, line := range strings.Split(strings.TrimSpace(block[2]), "\n") {
			_, after, found := strings.Cut(rest, strings.Join(strings.Fields(line), " "))
			if rest = after; !found {
				t.Errorf("%s does not print %q; it prints\n%s", block[1], line, out)
				break
			}
		}
	}
	if ran < 12 {
		t.Errorf("only %d commands in the docs", ran)
	}
	// What the page shows of JSON has the names of the program's JSON.
	names := make(map[string]bool)
	for _, dir := range []string{"core", "internal"} {
		for _, source := range sources(t, filepath.Join("..", "..", dir)) {
			for _, m := range regexp.MustCompile(`json:"([^",]+)|"([a-z_0-9]+)":`).FindAllStringSubmatch(source, -1) {
				names[m[1]+m[2]] = true
			}
		}
	}
	for _, block := range regexp.MustCompile("(?s)```json\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		for _, m := range regexp.MustCompile(`"([a-z_0-9]+)":`).FindAllStringSubmatch(block[1], -1) {
			if !names[m[1]] && m[1] != "ef" { // counted by mark
				t.Errorf("docs/commands.md shows %q, which no JSON has", m[1])
			}
		}
	}
	// Each command of the program has its place there.
	help := imbrel(t, dir, "", nil, "--help").out
	for _, m := range regexp.MustCompile(`(?m)^  ([a-z]+) {2,}`).FindAllStringSubmatch(help, -1) {
		if m[1] != "help" && !strings.Contains(string(text), "## imbrel "+m[1]) {
			t.Errorf("docs/commands.md says nothing of `imbrel %s`", m[1])
		}
		if m[1] == "help" || m[1] == "completion" {
			continue
		}
		own := imbrel(t, dir, "", []string{"COLUMNS=70"}, m[1], "--help").out
		if n := len(regexp.MustCompile(`(?m)^  (sudo )?imbrel `).FindAllString(own, -1)); n < 3 { // the usage, and two examples
			t.Errorf("the help of %s has %d examples", m[1], n-1)
		}
		for _, line := range strings.Split(own, "\n") {
			if n := len([]rune(line)); n > 70 {
				t.Errorf("the help of %s in 70 columns has %d: %s", m[1], n, line)
			}
		}
	}
}

// inShell runs commands as a shell does that finds the program, in 100 columns.
func inShell(t testing.TB, dir, commands string) (string, error) {
	t.Helper()
	c := gently(exec.Command("sh", "-c", commands))
	c.Dir, c.Env = dir, append(os.Environ(), "COLUMNS=100", "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"))
	out, err := c.Output()
	return string(out), err
}

// sources are the texts of the Go files in a folder and those below it, without the tests.
func sources(t testing.TB, root string) (all []string) {
	t.Helper()
	err := filepath.WalkDir(root, func(path string, _ fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(path, ".go") && !strings.HasSuffix(path, "_test.go") {
			text, err := os.ReadFile(path)
			all = append(all, string(text))
			return err
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// A shell completes what the file on the command line holds.
func TestCompletions(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", ".")
	for line, want := range map[string]string{
		"rehearse ternrock.yaml ":                          "fog",
		"rehearse ternrock.yaml --class sig":               "signalling",
		"rehearse ternrock.yaml --at ternrock/r":           "ternrock/radio out",
		"gate ternrock.yaml --node h":                      "harbour",
		"gate ternrock.yaml --expect ":                     "fog",
		"find ternrock.yaml fog network.links":             "network.links.ternrock/radio to harbour/radio.delay",
		"find ternrock.yaml fog policies.ternrock-radio.s": "policies.ternrock-radio.shape",
		"check --about shape-ab":                           "shape-above-link",
		"budget --codec g72":                               "g729",
		"codepoint af4":                                    "af42",
		"re":                                               "rehearse",
	} {
		words := strings.Split(line, " ")
		r := imbrel(t, dir, "", nil, append([]string{"__complete"}, words...)...)
		if !strings.Contains("\n"+r.out, "\n"+want) {
			t.Errorf("%q completes to %q; want %q", line, r.out, want)
		}
	}
	shortDemo(t, dir, "short.yaml")
	if r := imbrel(t, dir, "", nil, "find", "short.yaml", "fog", "network.links.ternrock/radio to harbour/radio.delay", "1ms..40ms", "voice delay p99 <= 25ms"); r.status != 0 || !strings.Contains(r.out, "It holds at ") {
		t.Errorf("the path of a link: exit %d: %s%s", r.status, r.out, r.err)
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
