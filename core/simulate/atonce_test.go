package simulate_test

import (
	"encoding/json"
	"sync"
	"testing"
	"time"

	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/examples"
)

// Runs of one file at once are the runs one after the other: they share nothing that changes. The race detector watches.
func TestRunsAtOnce(t *testing.T) {
	for _, name := range []string{"cookbook/shop.yaml", "cookbook/floors.yaml", "cookbook/one-medium.yaml"} {
		f, _, err := policyfile.ReadOpened(examples.FS.Open, name, time.LoadLocation)
		if err != nil {
			t.Fatal(err)
		}
		h := &f.Rehearsals[0]
		h.Lasts = min(h.Lasts, h.WarmUp+2*time.Second)
		const runs = 4
		run := func(n int) string {
			r, err := simulate.Run(f, h, simulate.Options{Seed: uint64(n / 2), WithoutPolicy: n%2 == 0, Bounds: true, Hops: true})
			if err != nil {
				t.Errorf("%s: %v", name, err)
			}
			text, _ := json.Marshal(r)
			return string(text)
		}
		var atOnce [runs]string
		var all sync.WaitGroup
		for n := range runs {
			all.Go(func() { atOnce[n] = run(n) })
		}
		all.Wait()
		for n, got := range atOnce {
			if got != run(n) {
				t.Errorf("%s: run %d differs from itself alone", name, n)
			}
		}
	}
}
