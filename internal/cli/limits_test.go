package cli_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/core/traffic"
	"imbrel.example/imbrel/internal/files"
)

// What docs/limits.md says is bounded ends in a message, without the memory.
func TestWhatIsBounded(t *testing.T) {
	t.Parallel()
	base := strings.ReplaceAll(pair, "SENDS", "1Mbit/s") + "    traffic: [TRAFFIC]\n    expect: [EXPECT]\n"
	stream := "{name: s, rate: 1Mbit/s, packet: 500B, from: 10.1.0.1, to: 10.2.0.1}"
	windows := func(n int) string {
		var all []string
		for i := range n {
			all = append(all, fmt.Sprintf("rest drops >= 0 from %dms to %dms", i, i+1))
		}
		return strings.Join(all, ", ")
	}
	for name, c := range map[string]struct {
		traffic, expect string
		args            []string
		want            string
	}{
		"packets":          {"{name: s, rate: 400Gbit/s, packet: 28B, from: 10.1.0.1, to: 10.2.0.1}", "", nil, "the most is 2000000000"},
		"calls":            {"{name: c, calls: 100000, codec: g711, between: [10.1.0.1, 10.2.0.1]}, {name: d, calls: 100000, codec: g711, between: [10.1.0.2, 10.2.0.1]}, {name: e, calls: 1, codec: g711, between: [10.1.0.3, 10.2.0.1]}", "", nil, "would measure 400002 streams and directions of calls"},
		"calls in windows": {"{name: c, calls: 10000, codec: g711, between: [10.1.0.1, 10.2.0.1]}", windows(20), nil, "each in 20 times of its own besides the whole"},
		"windows":          {stream, windows(1001), nil, "are about 1001 different times; the most is 1000"},
		"steps":            {stream, "", []string{"--every", "1us"}, "at most 100000 steps"},
	} {
		text := strings.NewReplacer("TRAFFIC", c.traffic, "EXPECT", c.expect).Replace(base)
		r := imbrel(t, t.TempDir(), text, nil, append([]string{"rehearse", "-"}, c.args...)...)
		if c.want == "" && r.status != 0 || c.want != "" && (r.status != 2 || !strings.Contains(r.err, c.want)) {
			t.Errorf("%s: exit %d: %.500s; want %q", name, r.status, r.err, c.want)
		}
	}
	// A queue that holds more than may be under way.
	text := strings.NewReplacer("TRAFFIC", "{name: s, rate: 900Mbit/s, packet: 28B, from: 10.1.0.1, to: 10.2.0.1, to-port: 8000}", "EXPECT", "").Replace(base) +
		"policies: [{name: p, shape: 1Mbit/s, treat: [{class: bulk, queue: {limit: 10000000}}]}]\nattach: [{policy: p, at: west/wan out}]\n"
	r := imbrel(t, t.TempDir(), text, nil, "rehearse", "-")
	if want := "more than 2000000 packets are under way at a time, most of them at west/wan out"; r.status != 2 || !strings.Contains(r.err, want) {
		t.Errorf("exit %d: %.500s; want %q", r.status, r.err, want)
	}
}

// A packet of a capture holds its headers while it waits, and all of it where frames are
// captured again.
func TestWaitingPacketsHoldTheirHeaders(t *testing.T) {
	t.Parallel()
	f, _, err := files.ReadPolicy("-", strings.NewReader(strings.ReplaceAll(pair, "SENDS", "1Mbit/s")+"    traffic: [{name: c, capture: c, enters: west/lan}]\n"+
		"policies: [{name: p, treat: [{class: voice}]}]\nattach: [{policy: p, at: west/wan out}]\n"))
	if err != nil {
		t.Fatal(err)
	}
	c := &tape{apart: time.Millisecond}
	for i := range 50 {
		var p packet.Packet
		flow := packet.Flow{From: netip.MustParseAddr("10.1.0.1"), To: netip.MustParseAddr("10.2.0.1"), FromPort: uint16(i), ToPort: 8000, Protocol: packet.TCP}
		p.Build(make([]byte, packet.HeaderRoom), flow, 0, 1400, 0)
		c.frames, c.wires = append(c.frames, append(p.Bytes, make([]byte, 1414-len(p.Bytes))...)), append(c.wires, 1414)
	}
	for _, whole := range []bool{false, true} {
		seen, most, least := 0, 0, 1<<20
		o := simulate.Options{Capture: func(name string) (traffic.Reader, error) { return c.again(name) },
			Classified: func(_ *policy.Interface, _ policy.Direction, _ string, p *packet.Packet) {
				seen, most, least = seen+1, max(most, len(p.Bytes)), min(least, len(p.Bytes))
			}}
		if whole {
			o.Tap = func(*policy.Interface, policy.Direction, time.Duration, *packet.Packet) error { return nil }
		}
		if _, err := simulate.Run(f, &f.Rehearsals[0], o); err != nil {
			t.Fatal(err)
		}
		if seen != 50 || !whole && most > 60 || whole && least != 1414 {
			t.Errorf("of %d packets, %d to %d bytes are held; whole: %v", seen, least, most, whole)
		}
	}
}
