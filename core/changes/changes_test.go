package changes_test

import (
	"os"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/changes"
	"imbrel.example/imbrel/core/policyfile"
)

// Single edits of a file, with the values and treatments that then differ. A group that classes stop using is not new.
// All upper limits of an entry are in one row.
func TestSingleEdits(t *testing.T) {
	before, err := os.ReadFile("../check/testdata/sound.yaml")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ old, new, fields, does string }{
		{"voice, match: [{dscp: ef, from: phones}]", "voice, match: [{dscp: ef}]", "classes.voice.match: dscp ef and from 10.1.1.0/24, 10.2.1.0/24 → dscp ef", ""},
		{"groups: {phones:", "groups: {cells: [10.9.0.0/24], phones:", "groups.cells:  → 10.9.0.0/24", ""},
		{"phones: [10.1.1.0/24, ", "phones: [10.1.2.0/24, ", "classes.voice.match: dscp ef and from 10.1.1.0/24, 10.2.1.0/24 → dscp ef and from 10.1.2.0/24, 10.2.1.0/24", ""},
		{"groups: {phones:", "groups: {handsets:", "", ""}, // with the class
		{"at-most: {rate: 90%, when: work}}", "at-most: 5Mbit/s}", "policies.up.treat.bulk.at-most.rate: 90% → 5Mbit/s, policies.up.treat.bulk.at-most.when.time: 08:00 to 17:00 in Europe/Oslo → ",
			"bulk upper limit: 8.10 Mbit/s, while the time is 08:00 to 17:00 in Europe/Oslo → 5.00 Mbit/s"},
		{"at-most: {rate: 90%, when: work}}", "at-most: {rate: 90%, when: work}, police: {rate: 7Mbit/s, burst: 9kB}}",
			"policies.up.treat.bulk.police.rate:  → 7Mbit/s, policies.up.treat.bulk.police.burst:  → 9kB, policies.up.treat.bulk.police.red.drop:  → true",
			"bulk upper limit: 8.10 Mbit/s, while the time is 08:00 to 17:00 in Europe/Oslo → 7.00 Mbit/s; 8.10 Mbit/s, while the time is 08:00 to 17:00 in Europe/Oslo, bulk burst: none → 9kB, bulk green is: none → passed, bulk red is: none → dropped"},
		{"at-most: {rate: 90%, when: work}}", "at-most: {rate: 4Mbit/s, burst: {to: 6Mbit/s, for: 1s}}}",
			"policies.up.treat.bulk.at-most.rate: 90% → 4Mbit/s, policies.up.treat.bulk.at-most.when.time: 08:00 to 17:00 in Europe/Oslo → , policies.up.treat.bulk.at-most.burst.to:  → 6Mbit/s, policies.up.treat.bulk.at-most.burst.for:  → 1s",
			"bulk promise: 4.20 Mbit/s → 4.00 Mbit/s, bulk upper limit: 8.10 Mbit/s, while the time is 08:00 to 17:00 in Europe/Oslo → 4.00 Mbit/s, bulk burst above it: none → to 6.00 Mbit/s for 1s, rest promise: 4.20 Mbit/s → 4.40 Mbit/s"},
		{"- {class: rest, at-least: 20%}", "- {class: rest, at-least: 20%, queue: {drop: codel}}", "policies.up.treat.rest.queue.drop:  → codel", "rest queue: 100ms, tail → 100ms, codel"},
		{"mark: ef, priority: 1", "mark: af41, priority: 1", "policies.up.treat.voice.mark.dscp: ef → af41", "voice mark: EF → AF41"},
		{"delay: 5ms", "delay: 8ms", "network.links.west/wan to east/wan.delay: 5ms → 8ms", ""},
	} {
		text := strings.ReplaceAll(string(before), c.old, c.new)
		if strings.Contains(c.new, "handsets") {
			text = strings.ReplaceAll(text, "from: phones", "from: handsets")
		}
		a, _, err := policyfile.Read("a", strings.NewReader(string(before)), nil, time.LoadLocation)
		if err != nil {
			t.Fatal(err)
		}
		b, _, err := policyfile.Read("b", strings.NewReader(text), nil, time.LoadLocation)
		if err != nil {
			t.Fatal(err)
		}
		r := changes.Between(changes.Checked{File: a}, changes.Checked{File: b})
		var fields, does []string
		for _, f := range r.Fields {
			fields = append(fields, f.Path+": "+f.Old+" → "+f.New)
		}
		for _, i := range r.Interfaces {
			for _, e := range i.Entries {
				does = append(does, e.Class+" "+e.What+": "+e.Old+" → "+e.New)
			}
		}
		if got := strings.Join(fields, ", "); got != c.fields {
			t.Errorf("%s: the values\n%s\nwant\n%s", c.new, got, c.fields)
		}
		if got := strings.Join(does, ", "); got != c.does {
			t.Errorf("%s: what differs\n%s\nwant\n%s", c.new, got, c.does)
		}
	}
}
