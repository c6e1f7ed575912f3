package simulate

import (
	"fmt"
	"runtime"
	"testing"
	"unsafe"

	"imbrel.example/imbrel/core/policyfile"
)

// What every packet touches fills whole cache lines, and begins with one.
func TestCacheLines(t *testing.T) {
	const line = 64
	for _, s := range []struct {
		what  string
		bytes uintptr
	}{
		{"source", unsafe.Sizeof(source{})}, {"what a source touches of each packet", unsafe.Offsetof(source{}.Source)},
		{"hop", unsafe.Sizeof(hop{})}, {"port", unsafe.Sizeof(port{})}, {"incoming path of a port", unsafe.Offsetof(port{}.in)},
		{"outgoing path of a port", unsafe.Offsetof(port{}.out)}, {"slots of a path", unsafe.Offsetof(path{}.slots)},
		{"delay of a slot", unsafe.Offsetof(slot{}.whole) + unsafe.Offsetof(figures{}.delay)}, {"queue of a slot", unsafe.Offsetof(slot{}.queue)},
		{"second line of a packet under way", unsafe.Offsetof(flight{}.in)}, {"third line of a packet under way", unsafe.Offsetof(flight{}.number)},
	} {
		if s.bytes%line != 0 {
			t.Errorf("%s: %d bytes are no whole number of cache lines", s.what, s.bytes)
		}
	}
}

// memoryOf returns how many bytes a rehearsal of so many calls holds shortly before its end.
func memoryOf(t *testing.T, calls int) uint64 {
	f, err := policyfile.Parse("calls.yaml", fmt.Appendf(nil, `imbrel: 1
classes:
  - {name: voice, match: [{dscp: ef}]}
policies:
  - {name: p, shape: 95%%, treat: [{class: voice, priority: 1}, {class: rest}]}
attach: [{policy: p, at: w/wan out}]
network:
  nodes:
    - name: w
      interfaces:
        - {name: lan, rate: 100Gbit/s, subnets: [10.1.0.0/16]}
        - {name: wan, rate: 10Gbit/s, link: {to: e, delay: 5ms}}
    - {name: e, interfaces: [{name: lan, rate: 100Gbit/s, subnets: [10.2.0.0/16]}]}
rehearsals:
  - {name: r, lasts: 200ms, traffic: [{name: c, calls: %d, codec: g711, between: [10.1.0.1, 10.2.0.1], dscp: ef}]}
`, calls), nil)
	if err != nil {
		t.Fatal(err)
	}
	held := func() uint64 {
		var m runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&m)
		return m.HeapAlloc
	}
	before := held()
	r, err := prepare(f, &f.Rehearsals[0], Options{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	for r.now < r.plan.Lasts*9/10 {
		e, w, _ := r.events.next()
		r.timeIs(e.at)
		r.step(&e, w)
	}
	taken := held() - before
	runtime.KeepAlive(r)
	return taken
}

// A direction of a call takes at most 2 kB, with its packets under way.
func TestMemoryOfACall(t *testing.T) {
	const few, many = 1000, 9_000
	each := (memoryOf(t, many) - memoryOf(t, few)) / (2 * (many - few))
	t.Logf("a direction of a call takes %d bytes", each)
	if each > 2048 {
		t.Errorf("a direction of a call takes %d bytes", each)
	}
}
