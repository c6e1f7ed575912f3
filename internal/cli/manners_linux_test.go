package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// slip is a file with a mistake whose way out is certain.
var slip = strings.Replace(checkable, "shape: 9Mbit/s", "shape: 11Mbit/s", 1)

// TestFixKeepsTheFile: a file that --fix writes has the owner, the mode and the other names that it had.
func TestFixKeepsTheFile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	name := put(t, dir, "p.yaml", slip)
	other := filepath.Join(dir, "other.yaml")
	if err := os.Link(name, other); err != nil {
		t.Skipf("no second name: %v", err)
	}
	alone := put(t, dir, "alone.yaml", slip)
	for _, f := range []string{name, alone} {
		_ = os.Chmod(f, 0o640)
		if os.Geteuid() == 0 {
			_ = os.Chown(f, 12345, 12346)
		}
	}
	for _, f := range []string{name, alone} {
		before, _ := os.Stat(f)
		r := imbrel(t, dir, "", nil, "check", filepath.Base(f), "--fix")
		text, _ := os.ReadFile(f)
		if string(text) == slip {
			t.Fatalf("nothing was mended: %s%s", r.out, r.err)
		}
		after, err := os.Stat(f)
		if err != nil {
			t.Fatal(err)
		}
		a, b := before.Sys().(*syscall.Stat_t), after.Sys().(*syscall.Stat_t)
		if a.Mode != b.Mode || a.Uid != b.Uid || a.Gid != b.Gid || a.Nlink != b.Nlink {
			t.Errorf("%s: mode %o, owner %d:%d, %d names; then %o, %d:%d, %d", f, a.Mode, a.Uid, a.Gid, a.Nlink, b.Mode, b.Uid, b.Gid, b.Nlink)
		}
	}
	one, _ := os.ReadFile(name)
	two, _ := os.ReadFile(other)
	if string(one) != string(two) {
		t.Error("the two names have files of their own")
	}
	if left, _ := filepath.Glob(filepath.Join(dir, ".*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// TestClosedOutput: a result that nobody can have is an error.
func TestClosedOutput(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "p.yaml", slip)
	well := imbrel(t, dir, "", nil, "check", "p.yaml").status
	for _, c := range []struct {
		shell, want string
		status      int
	}{
		{`"$0" check p.yaml >&-`, "cannot write the result: standard output is closed", 2},
		{`"$0" check p.yaml >/dev/null`, "", well},
		{`"$0" check p.yaml >/dev/full`, "cannot write the result", 2},
		{`"$0" check p.yaml </dev/null >/dev/null`, "", well},
		{`"$0" check p.yaml <&- >/dev/null`, "", well},
	} {
		cmd := exec.Command("sh", "-c", c.shell, program)
		cmd.Dir = dir
		var errs strings.Builder
		cmd.Stderr, cmd.Stdin = &errs, strings.NewReader("")
		_ = cmd.Run()
		if got := cmd.ProcessState.ExitCode(); got != c.status || !strings.Contains(errs.String(), c.want) {
			t.Errorf("%s: exit %d, %q", c.shell, got, errs.String())
		}
	}
}
