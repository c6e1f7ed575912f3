package policyfile

import (
	"errors"
	"io/fs"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/examples"
)

// Whatever is in a file, reading it ends in a policy or in problems with
// words and places, and never in a panic.
func FuzzReadPolicy(f *testing.F) {
	names, err := fs.Glob(examples.FS, "*.yaml")
	if err != nil {
		f.Fatal(err)
	}
	for _, n := range names {
		text, err := fs.ReadFile(examples.FS, n)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(string(text))
		for i := 0; i < len(text); i += 700 { // parts that are broken in many ways
			f.Add("imbrel: 1\n" + string(text[i:]))
		}
	}
	f.Fuzz(func(t *testing.T, text string) {
		file, _, err := Read("fuzz", strings.NewReader(text), Opened(examples.FS.Open), time.LoadLocation)
		if err == nil {
			if file.Version != 1 {
				t.Fatalf("a file without a version is read: %q", text)
			}
			return
		}
		var problems policy.Problems
		if !errors.As(err, &problems) || len(problems) == 0 || problems[0].Text == "" {
			t.Fatalf("no problem is told: %v", err)
		}
		_ = err.Error()
	})
}

// An edit of any value of a file, to any text, ends in a policy or in problems, and the text around it stays.
func FuzzEdit(f *testing.F) {
	_, source, err := ReadOpened(examples.FS.Open, "ternrock.yaml", time.LoadLocation)
	if err != nil {
		f.Fatal(err)
	}
	var values []policy.Place
	var collect func(v *language.Value)
	collect = func(v *language.Value) {
		if v.Kind == language.Scalar {
			values = append(values, v.At)
		}
		for i := range v.Items {
			collect(&v.Items[i])
		}
	}
	collect(source.doc)
	for i, text := range []string{"11Mbit/s", "", "'", "[1, 2", "ef\n  x: 1", "\x00", "é: # ?"} {
		f.Add(i*7, text)
	}
	before := string(source.texts["ternrock.yaml"])
	f.Fuzz(func(t *testing.T, n int, text string) {
		_, edited, err := source.Edited([]Edit{{At: values[uint(n)%uint(len(values))], New: text}})
		if _, ok := errors.AsType[policy.Problems](err); err != nil && !ok && len(text) < MaxBytes/2 && edited != source {
			t.Fatalf("%q: %v", text, err)
		}
		after := string(edited.texts["ternrock.yaml"])
		same := 0
		for same < len(before) && same < len(after) && before[same] == after[same] {
			same++
		}
		if rest := len(before) - same; edited != source && len(after) < len(before)-200-len(text) || rest < 0 {
			t.Fatalf("an edit of one value to %q took away %d bytes", text, len(before)-len(after))
		}
	})
}
