package policyfile

import (
	"errors"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"imbrel.example/imbrel/core/policy"
)

// A file of any file system includes others from its folders, and what it lacks is a problem with a place: a file, an absolute
// name, a time zone that nobody looks up.
func TestReadOpened(t *testing.T) {
	const times = "imbrel: 1\ntimes: {work: {from: \"08:00\", to: \"17:00\", zone: ZONE}}\n"
	files := fstest.MapFS{
		"site.yaml":        {Data: []byte("imbrel: 1\ninclude: [parts/times.yaml]\n")},
		"parts/times.yaml": {Data: []byte(strings.Replace(times, "ZONE", "Europe/Oslo", 1) + "include: [../groups.yaml]\n")},
		"groups.yaml":      {Data: []byte("imbrel: 1\ngroups: {phones: [10.1.0.0/16]}\n")},
		"absolute.yaml":    {Data: []byte("imbrel: 1\ninclude: [/groups.yaml]\n")},
		"lost.yaml":        {Data: []byte("imbrel: 1\ninclude: [none.yaml]\n")},
	}
	f, _, err := ReadOpened(files.Open, "site.yaml", time.LoadLocation)
	if err != nil || len(f.Times) != 1 || len(f.Groups) != 1 {
		t.Fatalf("%v: %+v", err, f)
	}
	for name, want := range map[string]string{"site.yaml": "Europe/Oslo", "absolute.yaml": "/groups.yaml", "lost.yaml": "none.yaml"} {
		_, _, err := ReadOpened(files.Open, name, nil)
		ps, ok := errors.AsType[policy.Problems](err)
		if !ok || ps[0].Place.Line != 2 && ps[0].Place.File == name || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := Parse("utc", []byte(strings.Replace(times, "ZONE", "UTC", 1)), nil); err != nil {
		t.Error(err)
	}
	if _, err := Parse("site", []byte("imbrel: 1\ninclude: [a.yaml]\n"), nil); err == nil {
		t.Error("a text without files includes one")
	}
}
