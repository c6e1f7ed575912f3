package cli_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"imbrel.example/imbrel/core/changes"
	"imbrel.example/imbrel/internal/render"
)

// checkable is a policy file without findings. Each test changes it in one place.
var checkable = func() string {
	text, err := os.ReadFile("../../core/check/testdata/sound.yaml")
	if err != nil {
		panic(err)
	}
	return string(text)
}()

// Each of these changes raises a finding whose way out is certain, and --fix takes it; core/check tests the rules.
func TestFixes(t *testing.T) {
	t.Parallel()
	for name, changes := range map[string][]string{
		"bound-below-call":     {"rate: 600kbit/s", "rate: 60kbit/s"},
		"bound-below-calls":    {"rate: 600kbit/s", "rate: 500kbit/s"},
		"burst-below-interval": {"burst: 4kB", "burst: 1000B"},
		"burst-below-packet":   {"burst: 4kB", "burst: 237B"},
		"each-one-server": {"at-least: 20%, at-most: {rate: 90%, when: work}}", "each: source, at-most: 2Mbit/s}",
			"    expect:", "      - {name: copy, rate: 12Mbit/s, packet: 1400B, from: 10.2.0.9, to: 10.1.0.8, to-port: 8000, protocol: tcp}\n    expect:"},
		"pressure-flaps": {"{rate: 90%, when: work}", "{rate: 1Mbit/s, when: {starts: {load: 85%, for: 1s}, ends: {load: 60%, for: 2s}}}"},
		"shape-above-far-end": {"lan in}\n", "lan in}\n  - {policy: up2, at: east/wan in}\n",
			"attach:\n", "  - {name: up2, shape: 8Mbit/s, treat: [{class: voice, priority: 1, at-most: 10%}, {class: rest, at-least: 10%}]}\nattach:\n"},
		"shape-above-link": {"shape: 9Mbit/s", "shape: 11Mbit/s"},
		"voice-as-control": {"mark: ef, priority: 1", "mark: cs6, priority: 1"},
	} {
		mended(t, name, strings.NewReplacer(changes...).Replace(checkable))
	}
	r := imbrel(t, t.TempDir(), checkable, nil, "check", "-")
	if r.status != 0 || r.out != "Nothing found.\n" {
		t.Errorf("the sound file: exit %d\n%s", r.status, r.out)
	}
}

// mended mends a file that raises a finding, and holds what is left against what it was: the
// finding is gone, and no line differs but those of edits, which --diff and the JSON show.
func mended(t *testing.T, name, text string) {
	dir := t.TempDir()
	text = strings.ReplaceAll(text, "policies:\n", "policies: # as agreed, Ærø\n")
	put(t, dir, "p.yaml", text)
	var edits []int
	for _, f := range parsed[struct{ Findings []found }](t, imbrel(t, dir, "", nil, "check", "p.yaml", "-o", "json").out).Findings {
		if f.Name == name && f.Edit != nil {
			edits = append(edits, f.Edit.Line)
		}
	}
	if len(edits) == 0 {
		t.Errorf("%s cannot be mended", name)
		return
	}
	diff := imbrel(t, dir, "", nil, "check", "p.yaml", "--diff")
	imbrel(t, dir, "", nil, "check", "p.yaml", "--fix")
	after, err := os.ReadFile(filepath.Join(dir, "p.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	old, now := strings.Split(text, "\n"), strings.Split(string(after), "\n")
	if len(old) != len(now) {
		t.Fatalf("%s: %d lines of %d are left", name, len(now), len(old))
	}
	for i := range old {
		changed := old[i] != now[i]
		if changed != (strings.Contains(diff.out, "\n-"+old[i]+"\n") && strings.Contains(diff.out, "\n+"+now[i]+"\n")) || !changed && slices.Contains(edits, i+1) {
			t.Errorf("%s: line %d is %q of %q, and the diff is\n%s", name, i+1, now[i], old[i], diff.out)
		}
	}
	for _, f := range parsed[struct{ Findings []found }](t, imbrel(t, dir, "", nil, "check", "p.yaml", "-o", "json").out).Findings {
		if f.Level != "note" {
			t.Errorf("%s: left after --fix: %+v", name, f)
		}
	}
	put(t, dir, "old.yaml", text)
	got := parsed[changes.Result](t, imbrel(t, dir, "", nil, "changes", "old.yaml", "p.yaml", "-o", "json").out)
	if len(got.FindingsGone) == 0 || len(got.FindingsNew) > 0 || slices.ContainsFunc(got.Fields, func(f changes.Field) bool { return !strings.HasPrefix(f.Path, "policies.") }) {
		t.Errorf("%s: --fix changes more than it should: %+v", name, got)
	}
	for _, i := range got.Interfaces {
		if len(i.Packets) > 0 && name != "voice-as-control" {
			t.Errorf("%s: --fix moves packets: %+v", name, i.Packets)
		}
	}
}

// The findings as SARIF are of its schema, and are all there.
func TestSARIF(t *testing.T) {
	t.Parallel()
	file, err := os.ReadFile("testdata/sarif-2.1.0.json")
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(file))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	if err := c.AddResource("sarif.json", doc); err != nil {
		t.Fatal(err)
	}
	schema, err := c.Compile("sarif.json")
	if err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{checkable, strings.Replace(checkable, "rate: 600kbit/s, burst: 4kB", "rate: 60kbit/s, burst: 237B", 1), strings.Replace(checkable, "shape: 9Mbit/s", "shape: 9", 1)} {
		dir := t.TempDir()
		put(t, dir, "a file.yaml", text)
		findings := parsed[struct{ Findings []found }](t, imbrel(t, dir, "", nil, "check", "a file.yaml", "-o", "json").out).Findings
		r := imbrel(t, dir, "", nil, "check", "a file.yaml", "-o", "sarif")
		log, err := jsonschema.UnmarshalJSON(strings.NewReader(r.out))
		if err != nil {
			t.Fatal(err)
		}
		if err := schema.Validate(log); err != nil {
			t.Error(err)
		}
		if unreadable := strings.Contains(text, "shape: 9,") || strings.Contains(text, "shape: 9\n"); unreadable != (r.status == 2) || unreadable && (len(findings) != 1 || findings[0].Name != "unreadable" || !strings.Contains(r.err, "has no unit")) {
			t.Errorf("exit %d with %+v: %s", r.status, findings, r.err)
		}
		for _, f := range findings { // a fix replaces just the value
			if f.Edit != nil && !strings.Contains(r.out, fmt.Sprintf(`"deletedRegion":{"startLine":%d,"startColumn":%d,"endColumn":%d},"insertedContent":{"text":%q}`, f.Edit.Line, f.Edit.Column, f.Edit.End, f.Edit.New)) {
				t.Errorf("no fix for %+v", f)
			}
		}
		if n := strings.Count(r.out, `"ruleIndex"`); n != len(findings) || n > 0 && !strings.Contains(r.out, `"uri":"a%20file.yaml"`) {
			t.Errorf("%d results of %d findings:\n%s", n, len(findings), r.out)
		}
	}
	for args, want := range map[string]string{"check - -o sarif --fix": "leave --fix and --diff out", "shares - -o sarif": "the output is text or json", "check - --fix": "--fix needs a file to write to", "check - --fix --diff": "fix diff"} {
		if r := imbrel(t, t.TempDir(), checkable, nil, strings.Fields(args)...); r.status != 2 || !strings.Contains(r.err, want) {
			t.Errorf("%s: exit %d: %s; want %q", args, r.status, r.err, want)
		}
	}
}

// TestTheRightEntryIsAccused: each file raises the finding that it is for, at the line that is wrong, and a right one none.
func TestTheRightEntryIsAccused(t *testing.T) {
	t.Parallel()
	for file, want := range map[string]struct {
		name, says string
		line       int
	}{
		"wrong-entry-accused":    {"mark-unserved", "is marked ef at r1/east out, but here `voice` marks it df", 31},
		"wrong-entry-accused-2":  {"expectation-mark", "`voice` in line 15 marks it ef", 53},
		"false-shape-above-link": {},
		"address-nowhere":        {"address-nowhere", "`tills` asks for `from` 10.2.0.0/24", 3},
		"answers-in-rest":        {"answers-in-rest", "where hq/shop is full", 19},
		"goodput-above-ceiling":  {"expectation-bound", "`c11` is limited to 125 kbit/s", 11},
	} {
		all := parsed[struct{ Findings []found }](t, imbrel(t, ".", "", nil, "check", broken+"/"+file+".yaml", "-o", "json").out).Findings
		switch at := slices.IndexFunc(all, func(f found) bool { return f.Name == want.name }); {
		case want.name == "" && len(all) > 0:
			t.Errorf("%s: %+v", file, all)
		case want.name == "":
		case at < 0 || all[at].Line != want.line || !strings.Contains(all[at].Text+all[at].Consequence+all[at].Fix, want.says):
			t.Errorf("%s: no %s of line %d with %q: %+v", file, want.name, want.line, want.says, all)
		}
	}
}

// The sound examples raise nothing above a note; a finding is said once, and can be accepted.
func TestCheckOfTheExamples(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", ".")
	for _, name := range exampleFiles(t) {
		put(t, dir, name, example(t, name))
	}
	for _, name := range exampleFiles(t) {
		r := imbrel(t, dir, "", nil, "check", name, "--fail-on", "warning")
		if name != "every-key.yaml" && r.status != 0 {
			t.Errorf("%s: exit %d\n%s%s", name, r.status, r.out, r.err)
		}
	}
	trusting := strings.Replace(checkable, "{dscp: ef, from: phones}", "{dscp: ef}", 1)
	for reason, status := range map[string]int{"": 1, " # imbrel: accept open-trust because the phones have a network of their own": 0, " # imbrel: accept open-trust": 1, " # imbrel: accept one-end because of it": 1} {
		text := strings.Replace(trusting, "match: [{dscp: ef}]}", "match: [{dscp: ef}]}"+reason, 1)
		if r := imbrel(t, dir, text, nil, "check", "-", "--fail-on", "warning"); r.status != status {
			t.Errorf("%q: exit %d, want %d\n%s%s", reason, r.status, status, r.out, r.err)
		}
	}
	idle := strings.Replace(checkable, "rehearsals:\n", "loads: {evening: [{name: film, rate: 1Mbit/s, packet: 1400B, from: 10.2.0.9, to: 10.1.0.9}], night: [{name: copy, rate: 1Mbit/s, packet: 1400B, from: 10.2.0.9, to: 10.1.0.9}]}\nrehearsals:\n", 1)
	idle = strings.Replace(idle, "    traffic:\n", "    traffic:\n      - {load: evening}\n", 1)
	if r := imbrel(t, dir, idle, nil, "check", "-"); !strings.Contains(r.out, "the load `night` is used nowhere") || strings.Contains(r.out, "`evening`") {
		t.Errorf("an idle load: exit %d\n%s%s", r.status, r.out, r.err)
	}
	many := example(t, "cookbook/branches.yaml")
	at := strings.Index(many, "priority: 1, police: {calls: 5, codec: g711}")
	if at < 0 {
		t.Fatal("the branches have another policer")
	}
	r := imbrel(t, dir, strings.Replace(many, ", police: {calls: 5, codec: g711}", "", 1), nil, "check", "-")
	if strings.Count(r.out, "unbounded-priority") != 1 || !strings.Contains(r.out, "and 29 more") {
		t.Errorf("what a pattern repeats is to be said once:\n%s", r.out)
	}
	var long strings.Builder
	for i := range 2100 {
		fmt.Fprintf(&long, "      - {class: c%d}\n", i)
	}
	longer := strings.Replace(checkable, "      - {class: rest, at-least: 20%}\n", long.String(), 1)
	long.Reset()
	for i := range 2100 {
		fmt.Fprintf(&long, "  - {name: c%d, match: [{to-port: %d}]}\n", i, 8000+i)
	}
	longer = strings.Replace(longer, "policies:\n", long.String()+"policies:\n", 1)
	if r := imbrel(t, dir, longer, nil, "check", "-"); r.status != 0 || strings.Count(r.out, "note never-matches") != 1 || !strings.Contains(r.out, "it is unknown whether") {
		t.Errorf("a policy of many entries: exit %d\n%.600s%s", r.status, r.out, r.err)
	}
	text := strings.Replace(checkable, "shape: 9Mbit/s", "shape: 11Mbit/s", 1)
	if r := imbrel(t, dir, text, nil, "rehearse", "-"); !strings.Contains(r.out, "`imbrel check -` finds 1 error in the file") {
		t.Errorf("a rehearsal does not say that its file has findings:\n%.500s", r.out)
	}
	for args, want := range map[string]string{"--about open-trust": "Say who may send it", "--about open-trus": "did you mean `open-trust`", "": "wants a policy file", "- --fail-on note": "the levels are error and warning", "--about unused x": "has no file beside it", "none.yaml": "does not exist"} {
		if r := imbrel(t, dir, checkable, nil, append([]string{"check"}, strings.Fields(args)...)...); !strings.Contains(r.out+r.err, want) {
			t.Errorf("check %s: exit %d: %s%s; want %q", args, r.status, r.out, r.err, want)
		}
	}
}

// docs/findings.md is what --about says.
func TestFindingsInTheDocs(t *testing.T) {
	t.Parallel()
	path := filepath.Join("..", "..", "docs", "findings.md")
	text, err := os.ReadFile(path)
	if want := render.FindingsDoc(); err != nil || string(text) != want {
		if os.Getenv("WRITE_DOCS") != "" {
			err = os.WriteFile(path, []byte(want), 0o666)
		}
		t.Errorf("docs/findings.md is not what the program says: WRITE_DOCS=1 go test ./internal/cli -run FindingsInTheDocs writes it (%v)", err)
	}
}

// A file of a thousand sites.
func BenchmarkCheck(b *testing.B) {
	dir := b.TempDir()
	var text strings.Builder
	text.WriteString("imbrel: 1\nclasses:\n  - {name: voice, match: [{dscp: ef}]}\n")
	for i := range 199 {
		fmt.Fprintf(&text, "  - {name: c%d, match: [{to-port: %d}]}\n", i, 1000+i)
	}
	text.WriteString("policies:\n  - {name: p, shape: 95%, treat: [{class: voice, priority: 1, at-most: 10%}, {class: c1, at-least: 20%}, {class: rest, at-least: 20%}]}\nattach: [{policy: p, at: '*/w* out'}]\nnetwork:\n  nodes:\n    - {name: hub, interfaces: [{name: lan, rate: 10Gbit/s, subnets: [10.0.0.0/16]}]}\n")
	for i := range 1000 {
		fmt.Fprintf(&text, "    - {name: s%d, interfaces: [{name: wan, rate: 1Gbit/s, link: {to: hub, sends: 10Mbit/s, receives: 50Mbit/s}}", i)
		for j := range 8 {
			fmt.Fprintf(&text, ", {name: l%d, rate: 1Gbit/s, subnets: [11.%d.%d.%d/27]}", j, i/256, i%256, 32*j)
		}
		text.WriteString("]}\n")
	}
	text.WriteString("rehearsals:\n  - name: r\n    lasts: 1s\n    traffic:\n")
	for i := range 1000 {
		fmt.Fprintf(&text, "      - {name: c%d, calls: 2, codec: g711, between: [11.%d.%d.1, 10.0.0.1], dscp: ef}\n", i, i/256, i%256)
	}
	put(b, dir, "p.yaml", text.String())
	for b.Loop() {
		if r := imbrel(b, dir, "", nil, "check", "p.yaml"); r.status > 1 {
			b.Fatal(r.err)
		}
	}
}
