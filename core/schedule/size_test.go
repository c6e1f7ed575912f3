package schedule

import (
	"testing"
	"unsafe"
)

// What every packet touches fills whole cache lines, and begins with one.
func TestCacheLines(t *testing.T) {
	for what, bytes := range map[string]uintptr{
		"node":                  unsafe.Sizeof(node{}),
		"second line of a node": unsafe.Offsetof(node{}.free),
		"siblings":              unsafe.Sizeof(siblings{}),
	} {
		if bytes%64 != 0 {
			t.Errorf("%s: %d bytes are no whole number of cache lines", what, bytes)
		}
	}
}
