package datapath

import (
	"testing"

	"imbrel.example/imbrel/core/policy"
)

// Every dropper but the plain FIFO makes a queue of its own.
func TestEveryDropperHasADiscipline(t *testing.T) {
	for i, name := range policy.Droppers() {
		if i >= len(disciplines) || (disciplines[i] == nil) != (policy.Dropper(i) == policy.TailDrop) {
			t.Errorf("%s: no row in disciplines", name)
		}
	}
}
