package simulate

import (
	"testing"

	"imbrel.example/imbrel/core/policy"
)

// Every kind of traffic has sources.
func TestEveryKindHasSources(t *testing.T) {
	for k := range policy.TrafficKinds() {
		if int(k) >= len(sourceKinds) || sourceKinds[k].start == nil || sourceKinds[k].count == nil {
			t.Errorf("%s: no row in sourceKinds", k.Row().Name)
		}
	}
}
