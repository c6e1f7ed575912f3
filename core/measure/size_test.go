package measure

import (
	"testing"
	"unsafe"
)

// What every packet touches fills whole cache lines, and begins with one.
func TestCacheLines(t *testing.T) {
	for what, bytes := range map[string]uintptr{
		"Flow":                  unsafe.Sizeof(Flow{}),
		"measuredCall":          unsafe.Sizeof(measuredCall{}),
		"second line of a call": unsafe.Offsetof(call{}.first),
		"delay of a Tally":      unsafe.Offsetof(Tally{}.delay),
		"Distribution":          unsafe.Sizeof(Distribution{}),
	} {
		if bytes%64 != 0 {
			t.Errorf("%s: %d bytes are no whole number of cache lines", what, bytes)
		}
	}
}
