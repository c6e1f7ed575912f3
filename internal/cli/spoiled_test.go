package cli_test

import (
	"flag"
	"io/fs"
	"math"
	"math/rand/v2"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"

	"imbrel.example/imbrel/core/check"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/examples"
	"imbrel.example/imbrel/internal/files"
)

var spoiledAll = flag.Bool("spoiled", false, "rehearse every spoiled example in TestSpoiledExamples, and list those that nothing tells")

// A spoiling is one number, word or line of a file made wrong.
type spoiling struct {
	file, way string
	line      int
	text      string // of the whole file
}

// A way spoils what a pattern finds on a line: by what its first group is replaced with.
type way struct {
	name    string
	pattern *regexp.Regexp
	with    func(found string) []string
}

func replace(with ...string) func(string) []string { return func(string) []string { return with } }

// scaled multiplies the number at the start of a text.
func scaled(by ...float64) func(string) []string {
	return func(found string) (out []string) {
		i := strings.IndexFunc(found, func(r rune) bool { return (r < '0' || r > '9') && r != '.' })
		if i < 0 {
			i = len(found)
		}
		n, _ := strconv.ParseFloat(found[:i], 64)
		for _, b := range by {
			out = append(out, strconv.FormatFloat(math.Round(n*b*1000)/1000, 'f', -1, 64)+found[i:])
		}
		return out
	}
}

// The ways: those of everyday that are one number, word or line.
var ways = []way{
	{"k for M, or a digit missing, or bytes for bits", regexp.MustCompile(`(?:shape|rate|at-least|at-most|peak|to): ([0-9.]+[kM]bit/s)`), func(found string) []string {
		other := strings.NewReplacer("kbit", "Mbit", "Mbit", "kbit").Replace(found)
		return append([]string{other}, scaled(0.1, 0.125, 8)(found)...)
	}},
	{"a share", regexp.MustCompile(`(?:shape|rate|at-least|at-most|load): ([0-9.]+)%`), scaled(0.1, 2)},
	{"a burst below what arrives at once", regexp.MustCompile(`burst: ([0-9.]+kB)`), scaled(0.03)},
	{"calls", regexp.MustCompile(`calls: ([0-9]+), codec: g711}`), scaled(0.4)},
	{"weight", regexp.MustCompile(`weight: ([0-9]+)`), scaled(10)},
	{"a queue too deep or too shallow", regexp.MustCompile(`limit: ([0-9]+ms)`), scaled(10, 0.1)},
	{"no priority", regexp.MustCompile(`(priority: 1, )`), replace("")},
	{"no policer", regexp.MustCompile(`(, police: \{[^{}]*\})`), replace("")},
	{"no limit", regexp.MustCompile(`(, at-most: [0-9][^,}]*)`), replace("")},
	{"another mark", regexp.MustCompile(`mark: ([a-z]+[0-9]*)`), replace("cs6", "df")},
	{"no mark", regexp.MustCompile(`(, mark: [a-z0-9]+)`), replace("")},
	{"shared, not each", regexp.MustCompile(`(, each: [a-z]+)`), replace("")},
	{"each, not shared", regexp.MustCompile(`(, at-most: [0-9][^,}]*)\}$`), replace(", each: source$")},
	{"the wrong each", regexp.MustCompile(`each: (source|destination)`), func(f string) []string {
		return []string{map[string]string{"source": "destination", "destination": "source"}[f]}
	}},
	{"the other direction", regexp.MustCompile(`policy: \S+, +at: .*? (in|out)\b`), func(f string) []string { return []string{map[string]string{"in": "out", "out": "in"}[f]} }},
	{"a class that is not there", regexp.MustCompile(`match: \[\{.*?-port: ([0-9]+)`), scaled(1.01)},
	{"a marking nobody sets", regexp.MustCompile(`match: \[\{.*?dscp: \[?([a-z]+[0-9]*)`), replace("cs7")},
	{"the sender for the receiver", regexp.MustCompile(`match: \[\{.*?(from|to):`), func(f string) []string { return []string{map[string]string{"from": "to", "to": "from"}[f]} }},
	{"a time that never comes", regexp.MustCompile(`from: "([0-9]{2}):`), replace("05")},
	{"no when", regexp.MustCompile(`(, when: [a-z-]+)`), replace("")},
	{"overhead forgotten", regexp.MustCompile(`(, framing: [a-z0-9-]+)`), replace(", framing: ip")},
}

// spoil returns the text spoiled in every way.
func spoil(name, text string) []spoiling {
	var out []spoiling
	lines := strings.Split(text, "\n")
	with := func(way string, at int, changed ...string) {
		all := slices.Concat(lines[:at], changed, lines[at+1:])
		out = append(out, spoiling{name, way, at + 1, strings.Join(all, "\n")})
	}
	section := ""
	for i, line := range lines {
		if line != "" && line[0] != ' ' && line[0] != '#' {
			section, _, _ = strings.Cut(line, ":")
		}
		if !slices.Contains([]string{"groups", "apps", "maps", "times", "classes", "policies", "attach", "network"}, section) {
			continue
		}
		code, comment := line, ""
		if at := strings.Index(line, " #"); at >= 0 {
			code, comment = line[:at], line[at:]
		}
		for _, w := range ways {
			if section == "network" && w.name != "overhead forgotten" {
				continue
			}
			for _, m := range w.pattern.FindAllStringSubmatchIndex(code, -1) {
				for _, by := range w.with(code[m[2]:m[3]]) {
					with(w.name, i, code[:m[2]]+strings.TrimSuffix(by, "$")+code[m[3]:]+comment)
				}
			}
		}
		entry := func(l string) bool { return strings.HasPrefix(strings.TrimSpace(l), "- {class:") }
		if section == "policies" && entry(line) {
			with("an entry missing", i)
			if i+1 < len(lines) && entry(lines[i+1]) {
				s := slices.Clone(lines)
				s[i], s[i+1] = s[i+1], s[i]
				out = append(out, spoiling{name, "the order", i + 1, strings.Join(s, "\n")})
			}
		}
		if section == "attach" && strings.Contains(line, "- {policy:") {
			with("attached nowhere", i)
		}
	}
	return out
}

// rehearseText rehearses every rehearsal of a text; an error is about the text.
func rehearseText(text string) ([]*measure.Result, error) {
	f, in, err := files.ReadPolicyIn(oneFile{"policy.yaml", text}, "policy.yaml")
	if err != nil {
		return nil, err
	}
	var out []*measure.Result
	for i := range f.Rehearsals {
		captures := files.Captures{In: in}
		r, err := simulate.Run(f, &f.Rehearsals[i], simulate.Options{Seed: 1, Capture: captures.Open})
		captures.Close()
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	measure.Idle(out)
	return out, nil
}

// same reports whether the packets of two runs met the same: no class, mark, rate, drop
// or wait differs beyond little.
func same(a, b []*measure.Result) bool {
	type class struct {
		packets, sent, drops float64
		marks                map[string]uint64
	}
	at := func(r *measure.Result) map[string]class {
		m := make(map[string]class)
		for _, f := range r.Interfaces {
			for _, c := range f.Classes {
				if c.OfferedPackets > 0 && f.PolicyAt != "" {
					m[f.Node+"/"+f.Interface+f.Direction+c.Class] = class{float64(c.OfferedPackets), float64(c.SentBps), float64(c.Drops.Total()), c.Marks}
				}
			}
		}
		return m
	}
	near := func(x, y, whole float64) bool { return math.Abs(x-y) <= 0.02*max(whole, 50) }
	for i := range a {
		x, y := at(a[i]), at(b[i])
		if len(x) != len(y) {
			return false
		}
		for k, c := range x {
			d, ok := y[k]
			if !ok || !near(c.packets, d.packets, c.packets) || !near(c.sent, d.sent, c.sent) || !near(c.drops, d.drops, c.packets) || len(c.marks) != len(d.marks) {
				return false
			}
			for m := range c.marks {
				if d.marks[m] == 0 {
					return false
				}
			}
		}
		if len(a[i].Traffic) != len(b[i].Traffic) {
			return false
		}
		for j := range a[i].Traffic {
			x, y := &a[i].Traffic[j], &b[i].Traffic[j]
			if x.Class != y.Class || math.Abs(x.Loss-y.Loss) > 0.02 || x.Delay != nil && y.Delay != nil && math.Abs(x.Delay.P99-y.Delay.P99) > max(3, 0.2*x.Delay.P99) {
				return false
			}
		}
	}
	return true
}

// told reports whether an expectation fails, or a warning names the line.
func told(rs []*measure.Result, line int) bool {
	for _, r := range rs {
		if r.Verdict == "fail" {
			return true
		}
		for _, w := range r.Warnings {
			if w.Level == "warning" && (w.Line == line || w.Line == line+1) {
				return true
			}
		}
	}
	return false
}

// The examples, spoiled in every way that goes wrong in practice: where that changes what
// packets meet, an expectation fails, or a warning names the line, or a check finds an error or a warning, which a rehearsal counts.
// Sound ones raise none.
func TestSpoiledExamples(t *testing.T) {
	t.Parallel()
	var all []spoiling
	sound := make(map[string][]*measure.Result)
	for _, name := range exampleFiles(t) {
		text := example(t, name)
		if !strings.HasPrefix(name, "cookbook/") {
			continue
		}
		rs, err := rehearseText(text)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		sound[name] = rs
		for _, r := range rs {
			if r.Verdict != "pass" || r.WarningCount() > 0 {
				t.Errorf("%s is sound, and %s says %s, %+v", name, r.Rehearsal, r.Verdict, r.Warnings)
			}
		}
		all = append(all, spoil(name, text)...)
	}
	made := len(all)
	if !*spoiledAll {
		r := rand.New(rand.NewPCG(9, 1))
		r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		all = all[:60]
		if testing.Short() {
			all = all[:6]
		}
	}
	refused, unchanged, found, missed := 0, 0, 0, 0
	checked := 0 // of those that change what packets meet, named without a rehearsal
	for _, s := range all {
		named := false
		rs, err := rehearseText(s.text)
		if err == nil && !same(sound[s.file], rs) {
			f, _, _ := files.ReadPolicyIn(oneFile{"policy.yaml", s.text}, "policy.yaml")
			findings := check.File(f, nil)
			estimated(t, &s, findings, rs)
			if e, w := check.Count(findings); e+w > 0 {
				checked++
				named = true
			} else if *spoiledAll {
				t.Logf("no finding: %s:%d, %s: %.150s", s.file, s.line, s.way, strings.Split(s.text, "\n")[s.line-1])
			}
		}
		switch {
		case err != nil:
			refused++
		case told(rs, s.line) || named:
			found++
		case same(sound[s.file], rs):
			unchanged++
		default:
			missed++
			lines := strings.Split(s.text, "\n")
			t.Logf("not told: %s:%d, %s: %.150s", s.file, s.line, s.way, lines[min(s.line-1, len(lines)-1)])
		}
	}
	t.Logf("%d spoiled files; of %d rehearsed: %d refused by the reader, %d change nothing the rehearsals meet, %d told, %d not; a check names %d without rehearsing", made, len(all), refused, unchanged, found, missed, checked)
	if made < 150 || found < 10 && !testing.Short() || missed*33 > found+missed && *spoiledAll || missed*10 > found+missed && !testing.Short() {
		t.Errorf("%d of %d spoiled files that change what packets meet are told", found, found+missed)
	}
}

// estimated holds what a check estimates of expectations against the rehearsals: what is said not
// to hold does not.
func estimated(t *testing.T, s *spoiling, findings []check.Finding, rs []*measure.Result) {
	for _, f := range findings {
		if f.Name != "expectation-estimated" && f.Name != "expectation-bound" {
			continue
		}
		holds, met := true, false
		for _, r := range rs {
			for _, o := range r.Expectations {
				if strings.Contains(f.Text(), strconv.Quote(o.Text)) {
					met = true
					holds = holds && o.Holds
				}
			}
		}
		if !met || holds {
			t.Errorf("%s:%d, %s: a check says %s (%s), and in the rehearsal it holds", s.file, s.line, s.way, f.Text(), f.Fact.Consequence())
		}
	}
}

// oneFile is a file system of one file beside the examples.
type oneFile struct{ name, text string }

func (o oneFile) Open(name string) (fs.File, error) {
	if name == o.name {
		return fstest.MapFS{o.name: &fstest.MapFile{Data: []byte(o.text)}}.Open(name)
	}
	return examples.FS.Open("cookbook/" + name)
}
