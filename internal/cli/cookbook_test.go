package cli_test

import (
	"encoding/json"
	"path"
	"strings"
	"testing"

	"imbrel/core/measure"
)

// Every example of the cookbook holds what it expects, and it is the policies
// that make it so: without them some expectation fails.
func TestCookbook(t *testing.T) {
	found := 0
	for _, name := range exampleFiles(t) {
		if path.Dir(name) != "cookbook" {
			continue
		}
		found++
		text := example(t, name)
		r := imbrel(t, t.TempDir(), text, nil, "rehearse", "-")
		if r.status != 0 {
			t.Errorf("%s: exit %d\n%s%s", name, r.status, r.out, r.err)
		}
		without := imbrel(t, t.TempDir(), text, nil, "rehearse", "-", "--without-policy", "-o", "json")
		var one measure.Result
		var many struct{ Runs []measure.Result }
		_ = json.Unmarshal([]byte(without.out), &one)
		_ = json.Unmarshal([]byte(without.out), &many)
		failed := false
		for _, res := range append(many.Runs, one) {
			failed = failed || res.Verdict == "fail"
		}
		if !failed && without.status != 1 {
			t.Errorf("%s: nothing fails without the policies, so it shows nothing", name)
		}
		if !strings.HasPrefix(text, "# ") {
			t.Errorf("%s does not begin with what it shows", name)
		}
	}
	if found < 9 {
		t.Errorf("only %d examples in the cookbook", found)
	}
}
