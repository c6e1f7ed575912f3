package cli_test

import (
	"fmt"
	"runtime"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/internal/files"
)

// manyFlows is a chain of five nodes whose links are full, and traffic along it: n streams,
// or n calls, each of its own name.
func manyFlows(n int, calls bool) string {
	var b strings.Builder
	fmt.Fprint(&b, `imbrel: 1
classes:
  - {name: a, match: [{to-port: 1000-1024}]}
  - {name: voice, match: [{to-port: 16384-65535}]}
policies:
  - {name: p, shape: 950Mbit/s, treat: [{class: voice, priority: 1, police: {rate: 900Mbit/s, burst: 1MB}}, {class: a, at-least: 3%}, {class: rest}]}
attach: [{policy: p, at: "*/right out"}]
network:
  nodes:
`)
	for i := range 5 {
		fmt.Fprintf(&b, "    - {name: n%d, interfaces: [{name: left, rate: 10Gbit/s, subnets: [10.%d.0.0/16]}, {name: right, rate: 10Gbit/s, subnets: [10.%d.0.0/16]}]}\n", i, 100+i, 200+i)
	}
	fmt.Fprint(&b, "  links:\n")
	for i := range 4 {
		fmt.Fprintf(&b, "    - {ends: [{at: n%d/right, sends: 1Gbit/s}, {at: n%d/left, sends: 1Gbit/s}], delay: 1ms}\n", i, i+1)
	}
	fmt.Fprint(&b, "rehearsals:\n  - name: r\n    lasts: 2s\n    expect: [voice delay p99 <= 6ms, a delay p99 <= 6ms]\n    traffic:\n")
	for i := range n {
		if calls {
			fmt.Fprintf(&b, "      - {name: t%d, calls: 1, codec: g711, between: [10.100.%d.%d, 10.204.%d.%d]}\n", i, i>>8, i&255, i>>8, i&255)
		} else {
			fmt.Fprintf(&b, "      - {name: t%d, rate: 100kbit/s, packet: 500B, arrivals: poisson, from: 10.100.%d.%d, to: 10.204.%d.%d, to-port: %d}\n", i, i>>8, i&255, i>>8, i&255, 1000+i%50)
		}
	}
	return b.String()
}

// heapPerFlow rehearses and returns how many bytes a flow more takes, at the end.
func heapPerFlow(t *testing.T, calls bool) float64 {
	heap := func(n int) float64 {
		f, _, err := files.ReadPolicy("-", strings.NewReader(manyFlows(n, calls)))
		if err != nil {
			t.Fatal(err)
		}
		var before, most runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		last := 0.0
		_, err = simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1, Hops: true, Progress: func(done float64) {
			if done > last+0.2 || done >= 0.99 && last < 0.99 {
				last = done
				runtime.GC()
				runtime.ReadMemStats(&most)
			}
		}})
		if err != nil {
			t.Fatal(err)
		}
		return float64(most.HeapAlloc) - float64(before.HeapAlloc)
	}
	flows := 2000.0
	if calls {
		flows *= 2 // both directions
	}
	return (heap(2500) - heap(500)) / flows
}

// A flow costs at most 8 kB, with its distributions and its figures at every hop.
func TestMemoryOfFlows(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("the race detector has memory of its own")
	}
	for _, calls := range []bool{false, true} {
		if got := heapPerFlow(t, calls); got > 8000 || got < 500 {
			t.Errorf("calls %t: %.0f bytes a flow; at most 8,000 are right", calls, got)
		} else {
			t.Logf("calls %t: %.0f bytes a flow", calls, got)
		}
	}
}
