package language_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/language"
)

func ExampleRead() {
	doc, err := language.FromJSON("quay.json", []byte(`{"imbrel": 1,
		"classes": [{"name": "voice", "match": [{"dscp": "ef"}]}],
		"policies": [{"name": "wan", "shape": "9.5Mbit/s", "treat": [
			{"class": "voice", "priority": 1, "police": {"rate": "10%", "burst": "3kB"}},
			{"class": "rest", "at-leest": "50%"}]}]}`))
	if err != nil {
		fmt.Println(err)
		return
	}
	if _, err = language.Read(doc, time.LoadLocation); err != nil {
		fmt.Println(err)
	}
	// Output:
	// quay.json:5:22: unknown key `at-leest`
	//   did you mean `at-least`? an entry may have: class, mark, priority, police, at-least, at-most, weight, queue, each, when, block, treat, inside
}

func TestFromJSONSaysWhatIsWrong(t *testing.T) {
	for name, c := range map[string]struct{ text, want string }{
		"empty":      {"", "j:1:1: this is not a JSON document: EOF"},
		"cut":        {"{\n\"imbrel\":", "j:2:"},
		"two":        {"1 2", "there is more after the end"},
		"deep":       {strings.Repeat("[", 100_000), "nested more than 100 deep"},
		"deep keys":  {strings.Repeat(`{"a":`, 100_000), "nested more than 100 deep"},
		"brackets":   {`{"a": [1, 2}`, "not a JSON document"},
		"not closed": {`{"a": 1`, "not a JSON document"},
	} {
		if _, err := language.FromJSON("j", []byte(c.text)); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v; want %q", name, err, c.want)
		}
	}
}

// The place of every value is that of its first byte.
func TestFromJSONKnowsPlaces(t *testing.T) {
	text := "{\n  \"a\": [1,\n 2 ,{\"b\": null}],\n\n\"c\": \"x\"}"
	doc, err := language.FromJSON("j", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(text, "\n")
	var walk func(n language.Value)
	walk = func(n language.Value) {
		want := n.Text
		switch n.Kind {
		case language.Keyed:
			want = "{"
		case language.List:
			want = "["
		case language.Null:
			want = "null"
		}
		if rest := strings.TrimPrefix(lines[n.At.Line-1][n.At.Column-1:], `"`); !strings.HasPrefix(rest, want) {
			t.Errorf("%s is at %v, where the text is %q", want, n.At, rest)
		}
		for _, k := range n.Keys {
			walk(k)
		}
		for _, i := range n.Items {
			walk(i)
		}
	}
	walk(doc)
	// And it takes no more than a look at each byte.
	if _, err := language.FromJSON("j", []byte("["+strings.Repeat("1,", 200_000)+"1]")); err != nil {
		t.Error(err)
	}
}

func FuzzFromJSON(f *testing.F) {
	f.Add([]byte(`{"imbrel": 1, "classes": [{"name": "v", "match": [{"dscp": [46, "af41"]}]}], "title": null}`))
	f.Add([]byte(`{"a":{"b":[true,1e3,"\u0000"]}}`))
	f.Fuzz(func(_ *testing.T, text []byte) {
		if doc, err := language.FromJSON("j", text); err == nil {
			_, _ = language.Read(doc, time.LoadLocation)
		}
	})
}
