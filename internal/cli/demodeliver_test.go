package cli_test

import (
	"regexp"
	"strings"
	"testing"
)

// The story of a delivery: as root with gates in namespaces, and calls that heal; otherwise with stand-ins.
func demoDeliverOnce(t testing.TB) {
	t.Helper()
	r := imbrel(t, t.TempDir(), "", nil, "demo", "--deliver")
	if r.status != 0 {
		t.Fatalf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	said := strings.Join(strings.Fields(r.out), " ")
	if late := regexp.MustCompile(`sent packets up to \S+ \S+ late`).FindString(said); late != "" {
		heldUp(t, "it %s", late)
	}
	at := 0
	want := []string{"policer passes 96.0 kbit/s", "policies.mast-radio.treat.voice.police.rate: 96kbit/s → 960kbit/s", "Nothing was changed. --commit puts it in force.", "DONE: 1 device changed.", "TAKEN BACK: All devices are as they were.", "to mast: done"}
	if strings.Contains(said, "gates in namespaces") {
		want = append([]string{"4 of 4 calls are broken"}, append(want, "With the cable in its place, the pilots talk.", "4.41")...)
	}
	for _, w := range want {
		n := strings.Index(said[at:], w)
		if n < 0 {
			t.Fatalf("not said, or not in its order: %q\n%s", w, r.out)
		}
		at += n
	}
}
