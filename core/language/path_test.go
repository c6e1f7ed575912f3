package language_test

import (
	"testing"

	"imbrel.example/imbrel/core/policyfile"
)

// A value is found, replaced and written by its path, with names that have dots and two of
// one name; the document stays as it was.
func TestPaths(t *testing.T) {
	doc, err := policyfile.Document("doc", []byte(`{"policies": [{"name": "up.1", "shape": "5Mbit/s", "treat": [{"class": "v", "at-least": "1%"}, {"class": "v.x", "police": {"rate": "1Mbit/s"}}, {"class": "v", "at-least": "2%"}]}, {"name": "up", "treat": []}], "times": {"a.b": {"from": "08:00"}}}`))
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{
		"policies.up.1.shape":                 "5Mbit/s",
		"policies.up.1.treat.v.at-least":      "1%",
		"policies.up.1.treat.v#2.at-least":    "2%",
		"policies.up.1.treat.v.x.police.rate": "1Mbit/s",
		"times.a.b.from":                      "08:00",
	} {
		v, ok := doc.Lookup(path)
		if !ok || v.Text != want {
			t.Errorf("%s is %+v; want %s", path, v, want)
			continue
		}
		changed, err := doc.With(path, "new")
		if err != nil {
			t.Fatal(err)
		}
		if v, _ := changed.Lookup(path); v.Text != "new" {
			t.Errorf("%s is %s after it was replaced", path, v.Text)
		}
		if v, _ := doc.Lookup(path); v.Text != want {
			t.Errorf("%s changed in the document itself", path)
		}
	}
	const added = "policies.up.1.treat.v.x.queue.limit"
	if _, ok := doc.Lookup(added); ok {
		t.Errorf("%s is there", added)
	}
	changed, err := doc.With(added, "40ms")
	if v, ok := changed.Lookup(added); err != nil || !ok || v.Text != "40ms" {
		t.Errorf("%s: %v, %v", added, v, err)
	}
	for _, bad := range []string{"policies.none.shape", "policies.up.1.shape.rate"} {
		if _, err := doc.With(bad, "x"); err == nil {
			t.Errorf("%s could be written", bad)
		}
	}
}
