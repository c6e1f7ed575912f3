package cli_test

import (
	"bytes"
	"encoding/json"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"imbrel.example/imbrel/core/measure"
)

// endless is a rehearsal that takes far longer than a test.
var endless = strings.Replace(crossingWith(bothEnds, "7.6Mbit/s", anyVoice), "lasts: 4s", "lasts: 20h", 1)

// started runs the program until it has begun to write captures into a folder.
func started(t *testing.T, dir string, args ...string) (c *exec.Cmd, out, errs *bytes.Buffer) {
	t.Helper()
	out, errs = &bytes.Buffer{}, &bytes.Buffer{}
	c = exec.Command(program, args...)
	c.Dir, c.Stdout, c.Stderr = dir, out, errs
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	for begun := time.Now(); len(filesIn(t, dir, ".part")) == 0; time.Sleep(5 * time.Millisecond) {
		if time.Since(begun) > time.Minute {
			t.Fatal("nothing is written")
		}
	}
	return c, out, errs
}

// filesIn lists the files under a folder whose names end in a suffix.
func filesIn(t *testing.T, dir, suffix string) (names []string) {
	t.Helper()
	_ = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && strings.HasSuffix(path, suffix) {
			names = append(names, path)
		}
		return nil
	})
	return names
}

// An interrupt, or a request to end, ends a rehearsal with what was measured so far, marked
// so, exit 130, and no file half-written.
func TestInterrupt(t *testing.T) {
	t.Parallel()
	t.Run("interrupted", func(t *testing.T) { interrupted(t, os.Interrupt) })
	t.Run("told to end", func(t *testing.T) { interrupted(t, syscall.SIGTERM) })
}

func interrupted(t *testing.T, by os.Signal) {
	dir := t.TempDir()
	put(t, dir, "p.yaml", endless)
	c, out, errs := started(t, dir, "rehearse", "p.yaml", "-o", "json", "--capture-out", "cap", "--every", "2s")
	if err := c.Process.Signal(by); err != nil {
		t.Skip("this system has no interrupts: ", err)
	}
	_ = c.Wait()
	var res measure.Result
	if err := json.Unmarshal(out.Bytes(), &res); err != nil {
		t.Fatalf("%v: %.300s %s", err, out, errs)
	}
	if c.ProcessState.ExitCode() != 130 || !res.Incomplete || res.DurationS <= 0 || res.DurationS >= 72_000 {
		t.Errorf("exit %d, incomplete %t, %g s", c.ProcessState.ExitCode(), res.Incomplete, res.DurationS)
	}
	if left := filesIn(t, filepath.Join(dir, "cap"), ""); len(left) > 0 {
		t.Errorf("left: %v", left)
	}
	for _, row := range res.Traffic { // rates are of the time that was measured
		if row.Name == "up" && (row.OfferedBps < 11_000_000 || row.OfferedBps > 13_000_000) {
			t.Errorf("12 Mbit/s was offered, and %d is said of %g s", row.OfferedBps, res.DurationS)
		}
	}
}

// A program that is killed leaves no capture under its own name, and the next run works.
func TestKilled(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "p.yaml", endless)
	c, _, _ := started(t, dir, "rehearse", "p.yaml", "--capture-out", "cap")
	_ = c.Process.Kill()
	_ = c.Wait()
	if whole := filesIn(t, dir, ".pcapng"); len(whole) > 0 {
		t.Errorf("half-written: %v", whole)
	}
	put(t, dir, "p.yaml", strings.Replace(endless, "20h", "1s", 1))
	if r := imbrel(t, dir, "", nil, "rehearse", "p.yaml", "--capture-out", "cap"); r.status > 1 || len(filesIn(t, dir, ".part")) > 0 || len(filesIn(t, dir, ".pcapng")) == 0 {
		t.Errorf("the next run: exit %d, %s", r.status, r.err)
	}
	if r := imbrel(t, dir, "", nil, "rehearse", "p.yaml", "--capture-out", "cap"); r.status != 2 || !strings.Contains(r.err, "already exists") {
		t.Errorf("over what is there: exit %d, %s", r.status, r.err)
	}
}

// What cannot be written is told, whatever the verdict was.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	if err != nil {
		t.Skip("there is no device that is full: ", err)
	}
	defer full.Close()
	dir := t.TempDir()
	put(t, dir, "fail.yaml", strings.Replace(endless, "20h", "1s", 1))
	for _, args := range [][]string{{"rehearse", "fail.yaml", "--without-policy"}, {"rehearse", "fail.yaml"}, {"codepoint"}, {"shares", "fail.yaml", "-o", "json"}} {
		var errs bytes.Buffer
		c := exec.Command(program, args...)
		c.Dir, c.Stdout, c.Stderr = dir, full, &errs
		_ = c.Run()
		if c.ProcessState.ExitCode() != 2 || !strings.Contains(errs.String(), "cannot write the result") {
			t.Errorf("%v: exit %d: %s", args, c.ProcessState.ExitCode(), errs.String())
		}
	}
}

// An interrupt of repeats, or of a search, shows what was done until then, marked so.
func TestInterruptOfMany(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "p.yaml", strings.Replace(chancy, "lasts: 2s", "lasts: 90s", 1))
	for _, args := range []string{"rehearse p.yaml --repeat 10000", "find p.yaml run policies.up.shape 4Mbit/s..400Mbit/s orders_loss_=_0"} {
		words := strings.Fields(args + " -o json")
		for i := range words {
			words[i] = strings.ReplaceAll(words[i], "_", " ")
		}
		var out bytes.Buffer
		c := exec.Command(program, words...)
		c.Dir, c.Stdout = dir, &out
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(700 * time.Millisecond) // it takes seconds, and its first run less
		if err := c.Process.Signal(os.Interrupt); err != nil {
			t.Skip("this system has no interrupts: ", err)
		}
		_ = c.Wait()
		if status := c.ProcessState.ExitCode(); status == 130 && out.Len() == 0 || status == 0 {
			t.Logf("%s: the machine is too slow, or too fast, to be interrupted in between", args)
			continue
		}
		if c.ProcessState.ExitCode() != 130 || !strings.Contains(out.String(), `"incomplete":true`) || !json.Valid(out.Bytes()) {
			t.Errorf("%s: exit %d: %.300s", args, c.ProcessState.ExitCode(), out.String())
		}
	}
}
