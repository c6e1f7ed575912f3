package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"imbrel/core/measure"
)

// Every capture is rehearsed with its TCP conversations at work: those in which one end sends nothing too.
func TestClosedLoopOfEveryCapture(t *testing.T) {
	text := readFile(t, broken, "closed-loop-crash.yaml")
	dir := t.TempDir()
	captures, _ := filepath.Glob(filepath.Join("testdata", "*.pcap"))
	more, _ := filepath.Glob(filepath.Join(broken, "*.pcap"))
	for _, c := range append(captures, more...) {
		b, err := os.ReadFile(c)
		if err != nil {
			t.Fatal(err)
		}
		put(t, dir, "c.pcap", string(b))
		put(t, dir, "p.yaml", strings.Replace(text, "../site.pcap", "c.pcap", 1))
		r := imbrel(t, dir, "", nil, "rehearse", "p.yaml", "--closed-loop", "-o", "json")
		if r.status != 0 {
			t.Fatalf("%s: exit %d: %s", c, r.status, r.err)
		}
		if filepath.Base(c) != "site.pcap" {
			continue
		}
		for _, row := range parsed[measure.Result](t, r.out).Traffic {
			if row.TCP != nil && (row.TCP.Opened != row.TCP.Flows || row.TCP.Completed != int64(row.TCP.Flows)) {
				t.Errorf("%s %s: %+v", row.Name, row.Direction, *row.TCP)
			}
		}
	}
}

// On an idle line nothing is sent again, and answers take as long as the kernel's.
func TestIdleLine(t *testing.T) {
	r := rehearsed(t, "tcp-idle-line.yaml")
	if r.Verdict != "pass" {
		t.Errorf("%s: %+v", r.Verdict, r.Expectations)
	}
}
