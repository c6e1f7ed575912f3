package draft_test

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/budget"
	"imbrel.example/imbrel/core/check"
	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/draft"
	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/core/unit"
)

var lines = flag.Int("lines", 12, "how many random lines a starter file is written for")

// A starter file of any line has no finding and rehearses to a verdict. Where neither direction is below 1 Mbit/s nor eight times as
// slow as the other, it passes with the policies, and fails without them.
func TestFilesCheckCleanAndPass(t *testing.T) {
	r := rand.New(rand.NewPCG(24, 4))
	for n := range *lines {
		l := &draft.Facts{Up: unit.Rate(300_000 << r.IntN(8)), Down: unit.Rate(300_000 << r.IntN(8))}
		l.Codec, _ = codec.ByName(codec.Names()[r.IntN(len(codec.Names()))])
		l.Framing, _ = language.ParseFraming([]string{"ethernet", "ethernet-vlan", "ethernet-pppoe", "aal5-pppoe-llc"}[r.IntN(4)])
		room := budget.Fitting(l.Codec, l.Framing.Size(l.Codec.Length(false), 0), min(l.Up, l.Down)*45/100)
		if room == 0 {
			continue
		}
		l.Calls = 1 + r.IntN(room)
		text, err := draft.Text(l)
		if err != nil {
			t.Fatal(err)
		}
		what := fmt.Sprintf("line %d: %s up, %s down, %d calls of %s, %s", n, l.Up, l.Down, l.Calls, l.Codec.Name, l.Framing.Name)
		f, err := policyfile.Parse("new.yaml", []byte(text), nil)
		if err != nil {
			t.Errorf("%s: %v\n%s", what, err, text)
			continue
		}
		for _, found := range check.File(f, nil) {
			if found.Name == "slow-link" { // so it is
				continue
			}
			t.Errorf("%s: %s:%d: %s %s", what, found.At.File, found.At.Line, found.Name, found.Text())
		}
		for _, without := range []bool{false, true} {
			res, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: uint64(n), WithoutPolicy: without})
			if err != nil {
				t.Fatal(err)
			}
			for _, o := range res.Expectations {
				if usual := min(l.Up, l.Down) >= 1_000_000 && max(l.Up, l.Down) < 8*min(l.Up, l.Down); usual && !without && !o.Holds {
					t.Errorf("%s: %s fails, measured %v", what, o.Text, *o.Measured)
				}
			}
			if without && res.Verdict == "pass" {
				t.Errorf("%s: the calls hold without the policies", what)
			}
		}
	}
}

// A line that cannot hold the calls is refused, with the number that it can hold.
func TestRefused(t *testing.T) {
	g711, _ := codec.ByName("g711")
	ethernet, _ := language.ParseFraming("ethernet")
	for _, c := range []struct {
		up, down unit.Rate
		calls    int
		want     string
	}{
		{1_000_000, 50_000_000, 12, "room for 7"}, // 95.2 kbit/s a call, 75 % of 950 kbit/s
		{1_000_000, 50_000_000, 7, ""},
		{100_000, 50_000_000, 1, "out of the site: give from 256kbit/s"},
		{1_000_000, 0, 1, "into the site: give from 256kbit/s"},
		{1_000_000, 50_000_000, 0, "give from 1 to 10000"},
	} {
		text, err := draft.Text(&draft.Facts{Up: c.up, Down: c.down, Calls: c.calls, Codec: g711, Framing: ethernet})
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) || err == nil && !strings.Contains(text, "police: {calls: 7, codec: g711}") {
			t.Errorf("%s up, %s down, %d calls: %v; want %q", c.up, c.down, c.calls, err, c.want)
		}
	}
}
