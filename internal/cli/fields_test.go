package cli_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"

	"go.yaml.in/yaml/v3"

	"imbrel.example/imbrel/core/changes"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/internal/files"
)

var eachValue = flag.Int("each-value", 6, "of how many values of the example TestEveryKeyIsCompared edits one; 1: every value")

// A scalar is a value of a file: where it is written, and under which key.
type scalar struct {
	node *yaml.Node
	path string
}

func scalars(n *yaml.Node, path string, out *[]scalar) {
	switch n.Kind {
	case yaml.DocumentNode, yaml.SequenceNode:
		for i, c := range n.Content {
			scalars(c, fmt.Sprintf("%s[%d]", path, i), out)
		}
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 {
			scalars(n.Content[i+1], path+"."+n.Content[i].Value, out)
		}
	case yaml.ScalarNode:
		*out = append(*out, scalar{n, path})
	}
}

var digits = regexp.MustCompile(`\d+`)

// otherValues are values that may be written in place of one.
func otherValues(v string) (out []string) {
	runs := digits.FindAllStringIndex(v, -1)
	for i := len(runs) - 1; i >= 0; i-- {
		n, _ := strconv.Atoi(v[runs[i][0]:runs[i][1]])
		for _, d := range []int{1, -1, 4} {
			if n+d >= 0 {
				out = append(out, v[:runs[i][0]]+fmt.Sprint(n+d)+v[runs[i][1]:])
			}
		}
	}
	if len(runs) == 0 || !strings.ContainsAny(v[:1], "0123456789") {
		for _, word := range strings.Fields("true false ef af41 cs5 df g711 g729 opus tail red codel fq-codel constant poisson on-off exact cubic newreno udp tcp icmp in out source destination flow vlan even exponential heavy-tailed pipe short-pipe uniform penultimate ultimate mpls gre ipsec drop pass rtp mon sat sun mon-fri Europe/Oslo UTC ethernet ethernet-vlan ip here rest") {
			if word != v {
				out = append(out, word)
			}
		}
	}
	return out
}

// TestEveryKeyIsCompared: an edit of the value of any key of the language is reported by `changes`, or the reader refuses it.
// Names that are only used to refer to something are not values.
func TestEveryKeyIsCompared(t *testing.T) {
	t.Parallel()
	const name = "../../examples/every-key.yaml"
	text, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	apps, err := os.ReadFile("../../examples/parts/shore-apps.yaml")
	if err != nil {
		t.Fatal(err)
	}
	read := func(text string) *policy.File {
		f, _, err := files.ReadPolicyIn(fstest.MapFS{"every-key.yaml": {Data: []byte(text)}, "parts/shore-apps.yaml": {Data: apps}}, "every-key.yaml")
		if err != nil {
			return nil
		}
		return f
	}
	before := read(string(text))
	if before == nil {
		t.Fatal("the example cannot be read")
	}
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		t.Fatal(err)
	}
	var all []scalar
	scalars(&root, "", &all)
	lines := strings.Split(string(text), "\n")
	edited, refused := 0, 0
	for n, s := range all {
		if n%*eachValue != 0 {
			continue
		}
		line, at := s.node.Line-1, len(string([]rune(lines[s.node.Line-1])[:s.node.Column-1]))
		if s.node.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 {
			at++
		}
		if !strings.HasPrefix(lines[line][at:], s.node.Value) {
			continue // folded over lines
		}
		some := false
		for _, v := range otherValues(s.node.Value) {
			changed := append([]string(nil), lines...)
			changed[line] = lines[line][:at] + v + lines[line][at+len(s.node.Value):]
			after := read(strings.Join(changed, "\n"))
			if after == nil {
				continue
			}
			some = true
			if r := changes.Between(changes.Checked{File: before}, changes.Checked{File: after}); r.Same {
				t.Errorf("line %d, %s: %s in place of %s is not reported", s.node.Line, s.path, v, s.node.Value)
			}
			break
		}
		if some {
			edited++
		} else {
			refused++
		}
	}
	t.Logf("%d values edited, %d allow no other", edited, refused)
	if edited < 200 / *eachValue {
		t.Errorf("%d values were edited", edited)
	}
}

var pairs = flag.Int("pairs", 15, "for how many random pairs of files TestChangesIsNeverSilent compares rehearsals")

// TestChangesIsNeverSilent: where the rehearsals of two files differ, `changes` reports something.
func TestChangesIsNeverSilent(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(77, 1))
	differ, same := 0, 0
	run := func(f *policy.File) string {
		res, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1})
		if err != nil {
			return err.Error()
		}
		text, _ := json.Marshal([]any{res.Traffic, res.Interfaces, res.Links, res.Expectations})
		return string(text)
	}
	for n := 0; differ+same < *pairs && n < 50**pairs; n++ {
		h := &house{r: r}
		text := h.document()
		before, _, err := files.ReadPolicy("-", strings.NewReader(text))
		if err != nil || len(before.Rehearsals) == 0 {
			continue
		}
		var root yaml.Node
		if err := yaml.Unmarshal([]byte(text), &root); err != nil {
			t.Fatal(err)
		}
		var all []scalar
		scalars(&root, "", &all)
		lines := strings.Split(text, "\n")
		for range 20 {
			s := all[r.IntN(len(all))]
			line, at := s.node.Line-1, len(string([]rune(lines[s.node.Line-1])[:s.node.Column-1]))
			others := otherValues(s.node.Value)
			if !strings.HasPrefix(lines[line][at:], s.node.Value) || len(others) == 0 {
				continue
			}
			v := others[r.IntN(len(others))]
			changed := slices.Clone(lines)
			changed[line] = lines[line][:at] + v + lines[line][at+len(s.node.Value):]
			after, _, err := files.ReadPolicy("-", strings.NewReader(strings.Join(changed, "\n")))
			if err != nil || len(after.Rehearsals) == 0 {
				continue
			}
			silent := changes.Between(changes.Checked{File: before}, changes.Checked{File: after}).Same
			if run(before) == run(after) {
				same++
			} else if differ++; silent {
				t.Errorf("%s: %s in place of %s changes the rehearsal, and nothing is reported\n%s", s.path, v, s.node.Value, text)
			}
			break
		}
	}
	t.Logf("%d pairs whose rehearsals differ, %d whose do not", differ, same)
	if differ < *pairs/4 {
		t.Errorf("%d pairs differ", differ)
	}
}
