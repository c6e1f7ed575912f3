package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/linetest"
)

// A line that is never full is measured as carrying at least what was sent, and runs are kept.
func measureOnce(t testing.TB) {
	dir := t.TempDir()
	address := answering(t)
	r := imbrel(t, dir, "", nil, "measure", address, "--most", "4Mbit/s", "--save", "line.json")
	if r.status != 0 || !strings.Contains(r.out, "at least 4") || !strings.Contains(r.out, "was never full") {
		t.Fatalf("exit %d: %s%s", r.status, r.out, r.err)
	}
	text, err := os.ReadFile(filepath.Join(dir, "line.json"))
	var l linetest.Line
	if err != nil || json.Unmarshal(text, &l) != nil || len(l.Runs) != 1 {
		t.Fatalf("%v: %s", err, text)
	}
	for _, w := range []linetest.Way{l.Runs[0].Up, l.Runs[0].Down} {
		if w.Full || w.RateBps < 3_800_000 || w.RateBps > 4_200_000 || w.DelayMs > 20 || w.TCPBps < 1_000_000 {
			t.Errorf("%+v", w)
		}
	}
}

func TestMeasureRefuses(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "other.json", "{}")
	for args, want := range map[string]string{
		"127.0.0.1:9":                     "start `imbrel answer` there",
		"127.0.0.1:9 --save other.json":   "is not a measured line",
		"127.0.0.1:9 --most 1kbit/s":      "from 2Mbit/s to 10Gbit/s",
		"127.0.0.1:9 --at 25:00":          "write hours such as 09:00,12:30",
		"127.0.0.1:9 --days 3":            "--days has no effect without --at",
		"127.0.0.1:9 --key-file gone.key": "cannot read the key",
	} {
		if r := imbrel(t, dir, "", nil, append([]string{"measure"}, strings.Fields(args)...)...); r.status != 2 || !strings.Contains(r.err, want) {
			t.Errorf("measure %s: exit %d: %s; want %q", args, r.status, r.err, want)
		}
	}
}
