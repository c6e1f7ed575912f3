package datapath

import (
	"testing"
	"unsafe"
)

// What every packet touches fills whole cache lines, and begins with one.
func TestCacheLines(t *testing.T) {
	for what, bytes := range map[string]uintptr{
		"element":               unsafe.Sizeof(element{}),
		"state of an element":   unsafe.Offsetof(element{}.own),
		"Counters":              unsafe.Sizeof(Counters{}),
		"Path":                  unsafe.Sizeof(Path{}),
		"second line of a Path": unsafe.Offsetof(Path{}.framing),
	} {
		if bytes%64 != 0 {
			t.Errorf("%s: %d bytes are no whole number of cache lines", what, bytes)
		}
	}
}
