package cli_test

import (
	"strings"
	"testing"

	"imbrel.example/imbrel/core/compare"
	"imbrel.example/imbrel/core/measure"
)

func TestCompare(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", ".")
	put(t, dir, "wide.yaml", strings.Replace(readFile(t, dir, "ternrock.yaml"), "shape: 11.4Mbit/s", "shape: 14Mbit/s", 1))
	save := func(name string, args ...string) measure.Result {
		t.Helper()
		r := imbrel(t, dir, "", nil, append([]string{"rehearse", "-o", "json"}, args...)...)
		put(t, dir, name, r.out)
		if strings.Contains(r.out, `"runs"`) {
			return measure.Result{}
		}
		return parsed[measure.Result](t, r.out)
	}
	a, b := save("a.json", "ternrock.yaml"), save("b.json", "wide.yaml")
	save("both.json", "ternrock.yaml", "--both")
	put(t, dir, "cut.json", readFile(t, dir, "a.json")[:500])
	put(t, dir, "other.json", `{"imbrel":1,"flows":[]}`)

	r := imbrel(t, dir, "", nil, "compare", "a.json", "b.json")
	for _, want := range []string{"old: PASS, new: FAIL, both with the policies", "fails now  pilot-calls", "the carrier of ternrock/radio  drops"} {
		if r.status != 1 || !strings.Contains(r.out, want) {
			t.Errorf("exit %d, want 1 and %q:\n%s", r.status, want, r.out)
		}
	}
	// An expectation that is gone, or asks for less, is worse; one that asks for more is not, nor is another way of writing it.
	for _, c := range []struct {
		old, new string
		status   int
		want     string
	}{
		{"", "", 0, "No change"},
		{"voice mos >= 4.2", "voice  mos >= 4.20", 0, "No change"},
		{"voice mos >= 4.2", "voice mos >= 4", 1, "voice mos >= 4 (before: voice mos >= 4.2)  4.41  4.41  asks for less"},
		{"voice mos >= 4.2", "voice mos >= 4.3", 0, "asks for more"},
		{"voice mos >= 4.2", "voice mos >= 4.45", 0, "asks for more, fails"},
		{"- voice mos >= 4.2", "", 1, "gone"},
		{"radar drops at ternrock/radio out = 0", "radar drops at harbour/radio out = 0", 1, "gone"},
		{"voice delay p99 <= 25ms", "voice delay p99 <= 25ms from 5s to 6s", 1, "gone"},
		{"radar drops at ternrock/radio out = 0", "radar drops at ternrock/radio out <= 5", 1, "asks for less"},
	} {
		put(t, dir, "loose.yaml", strings.Replace(readFile(t, dir, "ternrock.yaml"), c.old, c.new, 1))
		save("loose.json", "loose.yaml", "fog")
		if r := imbrel(t, dir, "", nil, "compare", "a.json", "loose.json"); r.status != c.status || !strings.Contains(r.out, c.want) {
			t.Errorf("%q for %q: exit %d, want %d and %q\n%s%s", c.new, c.old, r.status, c.status, c.want, r.out, r.err)
		}
	}
	type compared struct{ Compared []compare.Result }
	c := parsed[compared](t, imbrel(t, dir, "", nil, "compare", "a.json", "b.json", "-o", "json").out).Compared[0]
	turned := 0
	for i := range a.Expectations {
		if a.Expectations[i].Holds && !b.Expectations[i].Holds {
			turned++
		}
	}
	if turned == 0 || len(c.Expectations) != turned {
		t.Errorf("%d expectations turned; %+v", turned, c.Expectations)
	}
	for _, m := range c.Moved { // each figure is that of the results
		if m.Of != "class" || m.Metric != "delay p99" {
			continue
		}
		for i := range b.Classes {
			if k := &b.Classes[i]; k.Class == m.Name && k.Delay.P99 != *m.New {
				t.Errorf("%s: %v, the result says %v", m.Name, *m.New, k.Delay.P99)
			}
		}
	}
	for _, c := range []struct {
		args   string
		status int
		want   string
	}{
		{"a.json a.json", 0, "No change in 133 figures."},
		{"both.json", 0, "old, without policies: FAIL; new, with the policies: PASS"},
		{"b.json a.json", 0, "holds now"},
		{"a.json b.json --all", 1, "as before"},
		{"a.json", 2, "has no two runs of a rehearsal"},
		{"a.json ternrock.yaml", 2, "ternrock.yaml is not a saved result"},
		{"a.json cut.json", 2, "cut.json is not a saved result"},
		{"a.json other.json", 2, "other.json is not a saved result of a rehearsal"},
		{"a.json none.json", 2, "none.json does not exist"},
		{"- -", 2, "one of the two can be standard input"},
		{"", 2, "one or two saved results"},
	} {
		r := imbrel(t, dir, "", nil, append([]string{"compare"}, strings.Fields(c.args)...)...)
		if r.status != c.status || !strings.Contains(r.out+r.err, c.want) {
			t.Errorf("compare %s: exit %d, want %d and %q:\n%s%s", c.args, r.status, c.status, c.want, r.out, r.err)
		}
	}
}
