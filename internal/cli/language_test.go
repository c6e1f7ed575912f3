package cli_test

import (
	"encoding/json"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v3"

	"imbrel.example/imbrel/examples"
)

// schema returns the schema that the program prints, compiled and as it is.
func schema(t *testing.T) (*jsonschema.Schema, map[string]any) {
	t.Helper()
	r := imbrel(t, t.TempDir(), "", nil, "schema")
	if r.status != 0 {
		t.Fatalf("exit %d: %s", r.status, r.err)
	}
	var raw map[string]any
	if err := json.Unmarshal([]byte(r.out), &raw); err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(r.out))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("imbrel.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("imbrel.json")
	if err != nil {
		t.Fatal(err)
	}
	return s, raw
}

// instance reads YAML as the JSON that an editor would check.
func instance(t *testing.T, text string) any {
	t.Helper()
	var v any
	if err := yaml.Unmarshal([]byte(text), &v); err != nil {
		t.Fatal(err)
	}
	b, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	out, err := jsonschema.UnmarshalJSON(strings.NewReader(string(b)))
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func exampleFiles(t *testing.T) []string {
	t.Helper()
	var names []string
	err := fs.WalkDir(examples.FS, ".", func(path string, d fs.DirEntry, err error) error {
		if strings.HasSuffix(path, ".yaml") {
			names = append(names, path)
		}
		return err
	})
	if err != nil || len(names) < 4 {
		t.Fatalf("%d examples, %v", len(names), err)
	}
	return names
}

// The schema takes every example, and what the reader refuses key by key the
// schema refuses too.
func TestSchemaAgreesWithTheReader(t *testing.T) {
	t.Parallel()
	s, _ := schema(t)
	for _, name := range exampleFiles(t) {
		if err := s.Validate(instance(t, example(t, name))); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	for what, edit := range map[string][2]string{
		"an unknown key":       {"at-least: 30%", "at-leest: 30%"},
		"a rate without unit":  {"shape: 11.4Mbit/s", "shape: 11.4"},
		"bytes for bits":       {"shape: 11.4Mbit/s", "shape: 11.4MB"},
		"a list for a value":   {"title: Ternrock pilot station", "title: [a]"},
		"a value for a list":   {"attach:\n", "attach: 1\nx:\n"},
		"a needed key missing": {"{name: lan,   rate: 1Gbit/s, ", "{name: lan, "},
		"a word of no meaning": {"codec: g711", "codec: g712"},
		"another version":      {"imbrel: 1", "imbrel: one two"},
		"a burst without unit": {"burst: 3kB", "burst: 3"},
		"no codepoint":         {"mark: ef", "mark: eff"},
		"no metric":            {"voice mos >= 4.2", "voice moss >= 4.2"},
	} {
		text := change(t, edit[0], edit[1])
		if r := imbrel(t, t.TempDir(), text, nil, "rehearse", "-"); r.status != 2 {
			t.Errorf("%s: the reader takes it", what)
		}
		if err := s.Validate(instance(t, text)); err == nil {
			t.Errorf("%s: the schema takes it", what)
		}
	}
}

// Every key of the language is in the example of every key, and in the docs.
func TestEveryKeyHasItsExampleAndItsDocs(t *testing.T) {
	t.Parallel()
	_, raw := schema(t)
	docs, err := os.ReadFile(filepath.Join("..", "..", "docs", "language.md"))
	if err != nil {
		t.Fatal(err)
	}
	text := example(t, "every-key.yaml")
	keys := 0
	for def, d := range raw["$defs"].(map[string]any) {
		for key := range d.(map[string]any)["properties"].(map[string]any) {
			keys++
			if !regexp.MustCompile(`(^|[\s{,])` + key + `:`).MatchString(text) {
				t.Errorf("examples/every-key.yaml has no `%s` (%s)", key, def)
			}
			if !strings.Contains(string(docs), "`"+key+"`") && !strings.Contains(string(docs), key+":") {
				t.Errorf("docs/language.md has no `%s` (%s)", key, def)
			}
		}
	}
	if keys < 100 {
		t.Errorf("only %d keys", keys)
	}
	dir := t.TempDir()
	for _, name := range exampleFiles(t) {
		put(t, dir, name, example(t, name))
	}
	put(t, dir, "ternrock-office.pcap", example(t, "ternrock-office.pcap"))
	// All of it is rehearsed.
	if r := imbrel(t, dir, "", nil, "rehearse", "every-key.yaml"); r.status > 1 || r.err != "" {
		t.Errorf("exit %d: %s", r.status, r.err)
	}
}

func TestIncludes(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "main.yaml", "imbrel: 1\ninclude: [parts/one.yaml, two.yaml]\nclasses:\n  - {name: mine, match: [{app: a, from: g}]}\n")
	put(t, dir, "parts/one.yaml", "imbrel: 1\ninclude: [deep/three.yaml]\napps: {a: {tcp: 1}}\nclasses:\n  - {name: theirs, match: [{app: b}]}\n")
	put(t, dir, "parts/deep/three.yaml", "imbrel: 1\napps: {b: {tcp: 2}}\n")
	put(t, dir, "two.yaml", "imbrel: 1\ngroups: {g: 10.0.0.0/8}\n")
	r := imbrel(t, dir, "", nil, "explain", "--apps", "main.yaml")
	if r.status != 0 || !strings.Contains(r.out, "  a ") || !strings.Contains(r.out, "  b ") {
		t.Errorf("exit %d: %s%s", r.status, r.out[:min(300, len(r.out))], r.err)
	}
	for name, c := range map[string]struct {
		files map[string]string
		want  string
	}{
		"itself":         {map[string]string{"main.yaml": "imbrel: 1\ninclude: [main.yaml]\n"}, "main.yaml includes itself: main.yaml → main.yaml"},
		"a circle":       {map[string]string{"main.yaml": "imbrel: 1\ninclude: [b.yaml]\n", "b.yaml": "imbrel: 1\ninclude: [main.yaml]\n"}, "main.yaml → b.yaml → main.yaml"},
		"missing":        {map[string]string{"main.yaml": "imbrel: 1\ninclude: [none.yaml]\n"}, "main.yaml:2:11: cannot include: none.yaml does not exist"},
		"no version":     {map[string]string{"main.yaml": "imbrel: 1\ninclude: [b.yaml]\n", "b.yaml": "apps: {}\n"}, "needs the key `imbrel` too"},
		"two titles":     {map[string]string{"main.yaml": "imbrel: 1\ninclude: [b.yaml]\nnetwork: {nodes: []}\n", "b.yaml": "imbrel: 1\nnetwork: {nodes: {}}\n"}, "`nodes` cannot be joined"},
		"its own errors": {map[string]string{"main.yaml": "imbrel: 1\ninclude: [b.yaml]\n", "b.yaml": "imbrel: 1\nclasses:\n  - {name: x, match: [{frm: 1}]}\n"}, "b.yaml:3:24: unknown key `frm`\n  3 |   - {name: x"},
		"a name twice":   {map[string]string{"main.yaml": "imbrel: 1\ninclude: [b.yaml]\napps: {a: {tcp: 1}}\n", "b.yaml": "imbrel: 1\napps: {a: {tcp: 2}}\n"}, "two applications are named `a`"},
		"many times": {map[string]string{"main.yaml": "imbrel: 1\ninclude: [" + strings.Repeat("b.yaml, ", 150) + "b.yaml]\n", "b.yaml": "imbrel: 1\n"},
			"more than 100 files are included"},
		"too deep": {func() map[string]string {
			m := map[string]string{"main.yaml": "imbrel: 1\ninclude: [i0.yaml]\n"}
			for i := range 12 {
				m["i"+string(rune('0'+i))+".yaml"] = "imbrel: 1\ninclude: [i" + string(rune('0'+i+1)) + ".yaml]\n"
			}
			return m
		}(), "more than 8 deep"},
	} {
		dir := t.TempDir()
		for file, text := range c.files {
			put(t, dir, file, text)
		}
		r := imbrel(t, dir, "", nil, "explain", "--apps", "main.yaml")
		if r.status != 2 || !strings.Contains(r.err, c.want) {
			t.Errorf("%s: exit %d:\n%s\nwant %q", name, r.status, r.err, c.want)
		}
	}
}

// What the language refuses beyond what the rehearsals already show.
func TestMoreBadPolicies(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for _, name := range exampleFiles(t) {
		put(t, dir, name, example(t, name))
	}
	for name, c := range map[string]struct{ old, new, want string }{
		"a policy inside itself":    {"inside: office", "inside: link", "the policy `link` is inside itself"},
		"an unknown time":           {"when: office-hours", "when: office-hour", "there is no time `office-hour`"},
		"no such zone":              {"zone: Europe/Oslo", "zone: Europe/Olso", `there is no time zone "Europe/Olso"`},
		"no such day":               {"mon-fri", "mon-fry", `"mon-fry" is not a day`},
		"25 o'clock":                {`"17:30"`, `"25:00"`, "is not a time of day"},
		"a peak below the rate":     {"peak: 2Mbit/s", "peak: 500kbit/s", "is below the rate"},
		"a peak without its burst":  {", peak-burst: 4kB", "", "`peak` and `peak-burst` go together"},
		"yellow of one bucket":      {"excess-burst: 16kB, ", "", "nothing is yellow"},
		"blocked and shaped":        {"block: {when: office-hours}", "block: true, weight: 3", "`weight` means nothing to an entry that blocks"},
		"never at rest":             {"load: 60%", "load: 90%", "never come to rest"},
		"PCP 8":                     {"pcp: 6", "pcp: 8", "0 to 7"},
		"VLAN 5000":                 {"vlan: 30-39", "vlan: 5000", "0 to 4095"},
		"a length without unit":     {"20B-128B", "20-128", "no unit"},
		"a tunnel through nowhere":  {"through: [skerry, relay, shore]", "through: [skerry, relay, shoer]", "did you mean `shore`"},
		"a tunnel that jumps":       {"through: [skerry, relay, shore]", "through: [skerry, shore]", "no link joins `skerry` and `shore`"},
		"labels of GRE":             {"kind: gre,", "kind: gre, labels: 2,", "`labels` means nothing to a tunnel of kind gre"},
		"a bad framing":             {"framing: ethernet-vlan}", "framing: ethernet-vlna}", "did you mean `ethernet-vlan`"},
		"cells backwards":           {"48/53", "53/48", "payload and the whole of a cell"},
		"a map of nothing":          {"{af41: af42,", "{af41: af42, af41: af43,", "af41 is mapped twice"},
		"a server name with spaces": {"charts.example]", `"charts example"]`, "is not a server name"},
		"too much within":           {"{class: local, at-least: 10%}", "{class: local, at-least: 9Mbit/s}", "the promises within `rest` come to 11.7Mbit/s, and it is promised"},
		"an interface unknown":      {"in: skerry/lan", "in: skerry/lam", "did you mean `skerry/lan`"},
		"each of nothing":           {"each: source", "each: phone", "is not allowed here"},
		"a burst below":             {"to: 6Mbit/s", "to: 1Mbit/s", "a burst to 1Mbit/s is below at-most 2Mbit/s"},
	} {
		put(t, dir, "bad.yaml", example(t, "every-key.yaml", c.old, c.new))
		r := imbrel(t, dir, "", nil, "explain", "--apps", "bad.yaml")
		if r.status != 2 || !strings.Contains(r.err, c.want) || !strings.Contains(r.err, "bad.yaml:") {
			t.Errorf("%s: exit %d:\n%s\nwant %q", name, r.status, r.err, c.want)
		}
	}
}

// Every piece of YAML in the docs is of the language, key by key.
func TestYAMLInTheDocs(t *testing.T) {
	t.Parallel()
	s, _ := schema(t)
	pieces := 0
	for _, file := range []string{"README.md", "docs/language.md"} {
		text, err := os.ReadFile(filepath.Join("..", "..", file))
		if err != nil {
			t.Fatal(err)
		}
		for _, piece := range regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
			pieces++
			yaml := piece[1]
			if !strings.HasPrefix(yaml, "imbrel:") {
				yaml = "imbrel: 1\n" + yaml
			}
			if err := s.Validate(instance(t, yaml)); err != nil {
				t.Errorf("%s:\n%s%v", file, piece[1], err)
			}
		}
	}
	if pieces < 15 {
		t.Errorf("only %d pieces of YAML", pieces)
	}
}
