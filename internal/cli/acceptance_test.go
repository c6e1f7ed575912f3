package cli_test

import (
	"strings"
	"testing"

	"imbrel.example/imbrel/core/acceptance"
)

// A rehearsed line passes what was bought and no more, whatever it is; one whose contract is less than the file's policies let through is found out.
func TestAcceptanceRehearsed(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	text := example(t, "cookbook/bought-line.yaml")
	for _, contract := range []string{
		"{rate: 10Mbit/s, burst: 8kB}",
		"{rate: 9Mbit/s, burst: 20kB, peak: 12Mbit/s, peak-burst: 20kB}",
		"{rate: 9Mbit/s, burst: 20kB, excess: 4Mbit/s, excess-burst: 10kB}",
		"[{dscp: [ef, cs6], rate: 2Mbit/s, burst: 4kB}, {dscp: af21, rate: 3Mbit/s, burst: 9kB, excess-burst: 9kB}, {rate: 4Mbit/s, burst: 9kB}]",
	} {
		put(t, dir, "line.yaml", strings.Replace(text, "contract: {rate: 10Mbit/s, burst: 8kB}", "contract: "+contract, 1))
		r := imbrel(t, dir, "", nil, "rehearse", "line.yaml", "--acceptance", "depot/line", "--without-policy", "-o", "json")
		got := parsed[struct{ Acceptance acceptance.Result }](t, r.out).Acceptance
		if r.status != 0 || !got.Holds || len(got.Steps) < 5 || got.At != "depot/line" {
			t.Errorf("%s: exit %d: %+v %s", contract, r.status, got, r.err)
		}
		for _, s := range got.Steps {
			if s.Sent == 0 || s.DelayMs == nil {
				t.Errorf("%s: %+v", contract, s)
			}
		}
	}
	put(t, dir, "line.yaml", text)
	if r := imbrel(t, dir, "", nil, "rehearse", "line.yaml", "--acceptance", "mill/line"); r.status != 1 || !strings.Contains(r.out, "all at their rates, ef: ") || !strings.Contains(r.out, "--without-policy tests the line alone") {
		t.Errorf("exit %d: %s%s", r.status, r.out, r.err)
	}
	for at, says := range map[string]string{"mill/lan": "has no `contract`: there are those of mill/line, depot/line"} {
		if r := imbrel(t, dir, "", nil, "rehearse", "line.yaml", "--acceptance", at); r.status != 2 || !strings.Contains(r.err, says) {
			t.Errorf("%q: exit %d: %s", at, r.status, r.err)
		}
	}
	put(t, dir, "plain.yaml", example(t, "cookbook/deep-ring.yaml"))
	if r := imbrel(t, dir, "", nil, "rehearse", "plain.yaml", "--acceptance", "kiosk/line"); r.status != 2 || !strings.Contains(r.err, "no link of the file has a `contract`") {
		t.Errorf("exit %d: %s", r.status, r.err)
	}
}
