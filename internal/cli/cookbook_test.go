package cli_test

import (
	"encoding/json"
	"math"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/examples"
	"imbrel.example/imbrel/internal/files"
)

// Every example of the cookbook holds what it expects, and it is the policies
// that make it so: without them some expectation fails.
func TestCookbook(t *testing.T) {
	t.Parallel()
	found := 0
	for _, name := range exampleFiles(t) {
		if path.Dir(name) != "cookbook" {
			continue
		}
		found++
		text := example(t, name)
		dir, args := t.TempDir(), []string{"rehearse", "-"}
		if f, _, err := files.ReadPolicyIn(examples.FS, name); err != nil {
			t.Fatal(err)
		} else if len(f.Rehearsals) == 1 { // a report is about one
			args = append(args, "--report", "page.html")
		}
		r := imbrel(t, dir, text, nil, args...)
		if r.status != 0 {
			t.Errorf("%s: exit %d\n%s%s", name, r.status, r.out, r.err)
		} else if len(args) > 2 {
			page(t, filepath.Join(dir, "page.html"), 1_000_000) // the thirty branches, too
		}
		without := imbrel(t, t.TempDir(), text, nil, "rehearse", "-", "--without-policy", "-o", "json")
		var one measure.Result
		var many struct{ Runs []measure.Result }
		_ = json.Unmarshal([]byte(without.out), &one)
		_ = json.Unmarshal([]byte(without.out), &many)
		failed := false
		for _, res := range append(many.Runs, one) {
			failed = failed || res.Verdict == "fail"
		}
		if !failed && without.status != 1 {
			t.Errorf("%s: nothing fails without the policies, so it shows nothing", name)
		}
		if !strings.HasPrefix(text, "# ") {
			t.Errorf("%s does not begin with what it shows", name)
		}
	}
	if found < 31 {
		t.Errorf("only %d examples in the cookbook", found)
	}
}

// The instances of an entry are listed by what their packets have in common, those
// offered most first, and their packets add up to the entry's.
func TestInstancesAreListed(t *testing.T) {
	t.Parallel()
	r := imbrel(t, t.TempDir(), example(t, "cookbook/floors.yaml"), nil, "rehearse", "-", "-o", "json")
	var res measure.Result
	if err := json.Unmarshal([]byte(r.out), &res); err != nil {
		t.Fatalf("%v\n%s", err, r.err)
	}
	for _, f := range res.Interfaces {
		if f.PolicyAt == "" {
			continue
		}
		floors, guests := f.Classes[0], f.Classes[1]
		if floors.Instances == nil || len(floors.Instances.Top) != 2 || floors.Instances.Top[0].Value != "interface desk/west" || floors.Instances.Top[1].Value != "interface desk/east" {
			t.Fatalf("the floors: %+v", floors.Instances)
		}
		if guests.Instances == nil || guests.Instances.Max != 6 || !strings.HasPrefix(guests.Instances.Top[0].Value, "interface desk/east, source 10.92.1.") {
			t.Fatalf("the guests: %+v", guests.Instances)
		}
		offered, dropped := uint64(0), uint64(0)
		for _, i := range floors.Instances.Top {
			offered, dropped = offered+i.Offered, dropped+i.Dropped
		}
		if offered != floors.OfferedPackets || dropped != floors.Drops.Total() || offered != guests.OfferedPackets {
			t.Errorf("the floors were offered %d and dropped %d; their entry says %d and %d, the guests' %d", offered, dropped, floors.OfferedPackets, floors.Drops.Total(), guests.OfferedPackets)
		}
		return
	}
	t.Fatal("no policy is attached anywhere")
}

// For how long a limit's `when` held is counted: the load passes 95 % at once and
// has been beyond it for two seconds when the limit comes.
func TestWhenIsCounted(t *testing.T) {
	t.Parallel()
	var busy, quiet measure.Result
	text := example(t, "cookbook/under-pressure.yaml")
	for name, res := range map[string]*measure.Result{"busy": &busy, "quiet": &quiet} {
		r := imbrel(t, t.TempDir(), text, nil, "rehearse", "-", name, "-o", "json")
		if err := json.Unmarshal([]byte(r.out), res); err != nil {
			t.Fatalf("%v\n%s", err, r.err)
		}
	}
	if w := busy.Interfaces[0].Classes[0].Limits; len(w) != 1 || w[0].Limit != "at-most" || w[0].Times != 1 || math.Abs(w[0].HeldS-18) > 0.2 {
		t.Errorf("under pressure the limit was in force %+v; 18 of 20 s are right", w)
	}
	if w := quiet.Interfaces[0].Classes[0].Limits; len(w) != 1 || w[0].Presence != (measure.Presence{}) {
		t.Errorf("without pressure the limit was in force %+v", w)
	}
}
