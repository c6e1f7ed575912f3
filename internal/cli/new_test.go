package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A new file checks clean and passes; nothing of the user's is overwritten, and what is missing or cannot be is said.
func TestNew(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	flags := []string{"--up", "10Mbit/s", "--down", "50Mbit/s", "--calls", "12"}
	r := imbrel(t, dir, "", nil, append([]string{"new", "own.yaml"}, flags...)...)
	if r.status != 0 || !strings.Contains(r.out, "imbrel rehearse own.yaml --both") {
		t.Fatalf("exit %d: %s%s", r.status, r.out, r.err)
	}
	if r := imbrel(t, dir, "", nil, "check", "own.yaml"); r.status != 0 || r.out != "Nothing found.\n" {
		t.Errorf("check: exit %d: %s%s", r.status, r.out, r.err)
	}
	if r := imbrel(t, dir, "", nil, "rehearse", "own.yaml", "--both"); r.status != 0 || !strings.Contains(r.out, "PASS: all 3 expectations hold with the policies; without them 3 of 3 expectations fail") {
		t.Errorf("rehearse: exit %d: %s%s", r.status, r.out, r.err)
	}
	before, _ := os.ReadFile(filepath.Join(dir, "own.yaml"))
	if r := imbrel(t, dir, "", nil, append([]string{"new", "own.yaml"}, flags...)...); r.status != 2 || !strings.Contains(r.err, "already exists; not overwritten") {
		t.Errorf("twice: exit %d: %s", r.status, r.err)
	}
	if after, _ := os.ReadFile(filepath.Join(dir, "own.yaml")); string(after) != string(before) {
		t.Error("the file was overwritten")
	}
	if r := imbrel(t, dir, "", nil, append([]string{"new", "-"}, flags...)...); r.out != string(before) {
		t.Errorf("to standard output: exit %d: %s%s", r.status, r.out, r.err)
	}
	for args, want := range map[string]string{
		"x.yaml":                            "new needs --up, --down, --calls, such as",
		"x.yaml --up 10Mbit/s --calls 3":    "new needs --down, such as",
		"":                                  "the name of the file to write",
		"x.yaml --up 10 --down 1 --calls 1": "--up: \"10\" has no unit",
		"x.yaml --up 1Mbit/s --down 9Mbit/s --calls 9":                  "this line has room for 7",
		"x.yaml --up 1Mbit/s --down 9Mbit/s --calls many":               "is not a number of calls",
		"x.yaml --up 1Mbit/s --down 9Mbit/s --calls 2 --codec g712":     "did you mean `g711`",
		"x.yaml --up 1Mbit/s --down 9Mbit/s --calls 2 --framing ethrnt": "--framing",
		"no/such/x.yaml --up 1Mbit/s --down 9Mbit/s --calls 2":          "cannot write no/such/x.yaml",
		"x.yaml --up 1Mbit/s --down 9Mbit/s --calls 2 -o json":          "-o",
	} {
		r := imbrel(t, dir, "", nil, append([]string{"new"}, strings.Fields(args)...)...)
		if r.status != 2 || !strings.Contains(r.err, want) {
			t.Errorf("new %s: exit %d: %s; want %q", args, r.status, r.err, want)
		}
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "*x.yaml*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}
