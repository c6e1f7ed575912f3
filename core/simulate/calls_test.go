package simulate

import (
	"math"
	"testing"
	"time"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/traffic"
)

// Calls beyond those that are admitted are refused as often as Erlang's formula says, and never more are held.
func TestAdmission(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		erlangs float64
		admit   int
		refused float64 // by tables of Erlang's formula B
	}{
		{1, 1, 0.5}, {2, 1, 2.0 / 3}, {2, 2, 0.4}, {3, 3, 0.346154}, {6, 9, 0.07514}, {20, 24, 0.06610}, {0.5, 9, 0}, {200, 3, 0.985099},
	} {
		if b := erlangB(c.erlangs, c.admit); math.Abs(b-c.refused) > 0.00005 {
			t.Errorf("%g erlangs, %d lines: %g is refused, want %g", c.erlangs, c.admit, b, c.refused)
		}
		plan := &policy.Rehearsal{WarmUp: time.Second}
		offered, refused, atFirst := 0.0, 0.0, 0.0
		const runs = 400
		for seed := range uint64(runs) {
			r := &run{plan: plan}
			w := &policy.Traffic{Name: "crew", Erlangs: c.erlangs, Holding: 10 * time.Second, Admit: c.admit}
			held := r.admitted(w, erlangs(w, 2*time.Minute, traffic.Random(seed, "crew", 0)))
			a := r.admissions[0]
			offered, refused = offered+float64(a.Offered), refused+float64(a.Refused)
			for i, s := range held {
				n := 0
				for _, o := range held[:i+1] {
					if o.to > s.from {
						n++
					}
				}
				if n > c.admit {
					t.Fatalf("%g erlangs, %d lines: %d calls are held at %s", c.erlangs, c.admit, n, s.from)
				}
				if s.from == 0 {
					atFirst++
				}
			}
		}
		if got := refused / offered; math.Abs(got-c.refused) > 0.02 {
			t.Errorf("%g erlangs, %d lines: %.4f of %.0f calls were refused, want %.4f", c.erlangs, c.admit, got, offered, c.refused)
		}
		carried := c.erlangs * (1 - c.refused) // calls at a time
		if mean := atFirst / runs; math.Abs(mean-carried) > 4*math.Sqrt(carried/runs) {
			t.Errorf("%g erlangs, %d lines: %.3f calls are held at first, want %.3f on average", c.erlangs, c.admit, mean, carried)
		}
	}
}
