package simulate_test

import (
	"encoding/binary"
	"fmt"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
)

// What priority overtakes within a tunnel is dropped at its end by the replay window. A reader of the frames, which knows only the standard's window,
// drops the same packets. An association for each class, or no window, lets all through.
func TestReplayWindow(t *testing.T) {
	const file = `
imbrel: 1
classes: [{name: voice, match: [{dscp: ef}]}]
policies:
  - {name: edge, treat: [{class: voice, mark: ef}, {class: rest, mark: df}]}
  - {name: core, shape: 4Mbit/s, treat: [{class: voice, priority: 1, at-most: 60%}, {class: rest, queue: {limit: 400ms}}]}
attach: [{policy: edge, at: a/out out}, {policy: core, at: b/out out}]
network:
  nodes:
    - {name: a, interfaces: [{name: lan, rate: 1Gbit/s, subnets: 10.1.0.0/16}, {name: out, rate: 100Mbit/s}]}
    - {name: b, interfaces: [{name: in, rate: 100Mbit/s}, {name: out, rate: 5Mbit/s}]}
    - {name: c, interfaces: [{name: in, rate: 5Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: 10.2.0.0/16}]}
  links: [{ends: [{at: a/out}, {at: b/in}], delay: 1ms}, {ends: [{at: b/out}, {at: c/in}], delay: 1ms}]
  tunnels: [{name: t, kind: ipsec, through: [a, b, c], from: 192.0.2.1, to: 192.0.2.2, KEYS}]
rehearsals:
  - name: run
    lasts: 5s
    traffic:
      - {name: calls, rate: 1Mbit/s, packet: 160B, from: 10.1.0.1, to: 10.2.0.1, dscp: ef}
      - {name: bulk, rate: 1.4Mbit/s, packet: 800B, arrivals: on-off, on: 300ms, off: 300ms, from: 10.1.0.2, to: 10.2.0.2}
    expect: [bulk loss = 0, bulk reordered = 0, calls loss = 0]
`
	for _, c := range []struct {
		keys   string
		window uint32
		loses  bool
	}{{"replay-window: 64", 64, true}, {"replay-window: 16", 16, true}, {"df: keep", 64, true}, {"replay-window: 0", 0, false}, {"replay-window: 4096", 4096, false}, {"replay-window: 64, sa-per: class", 64, false}} {
		text := strings.Replace(file, "KEYS", c.keys, 1)
		text = strings.Replace(text, "bulk, rate: 1.4Mbit/s", "bulk, rate: 6Mbit/s", 1)
		f, err := policyfile.Parse("order.yaml", []byte(text), time.LoadLocation)
		if err != nil {
			t.Fatal(err)
		}
		newest, dropped := make(map[uint32]uint32), int64(0)
		first := make(map[uint32]bool)
		r, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 2, Tap: func(at *policy.Interface, d policy.Direction, _ time.Duration, p *packet.Packet) error {
			if at.Path() != "c/in" || d != policy.In {
				return nil
			}
			b := p.Transport()
			if p.Flow.Protocol != packet.ESP || len(b) < 8 {
				return fmt.Errorf("a packet of protocol %d in the tunnel", p.Flow.Protocol)
			}
			index, n := binary.BigEndian.Uint32(b), binary.BigEndian.Uint32(b[4:])
			if index < 256 || n == 0 {
				return fmt.Errorf("index %d, number %d", index, n)
			}
			first[index] = true
			switch {
			case n > newest[index]:
				newest[index] = n
			case c.window > 0 && newest[index]-n >= c.window:
				dropped++
			}
			return nil
		}})
		if err != nil {
			t.Fatal(err)
		}
		tooOld := int64(0)
		for _, o := range r.Expectations {
			if o.Text == "bulk loss = 0" && o.Why != nil && strings.Contains(o.Why.Text.String(), "its replay window has") {
				tooOld = 1
			}
		}
		lost := r.Traffic[1].SentPackets - r.Traffic[1].ReceivedPackets
		queue := int64(0)
		for _, i := range r.Interfaces {
			for _, k := range i.Classes {
				queue += int64(k.Drops.QueueFull)
			}
		}
		if c.loses != (dropped > 0) || lost-queue != dropped {
			t.Errorf("%s: %d packets are lost besides the %d of queues, and a reader drops %d", c.keys, lost-queue, queue, dropped)
		}
		if c.loses != (tooOld > 0) && queue == 0 {
			t.Errorf("%s: %+v", c.keys, r.Expectations[0])
		}
		if got := r.Traffic[0].SentPackets - r.Traffic[0].ReceivedPackets; got != 0 {
			t.Errorf("%s: %d packets with priority are lost", c.keys, got)
		}
		if !r.Expectations[1].Holds {
			t.Errorf("%s: bulk overtakes itself: %v", c.keys, *r.Expectations[1].Measured)
		}
		if want := 1 + strings.Count(c.keys, "sa-per"); len(first) != want {
			t.Errorf("%s: %d associations, not %d", c.keys, len(first), want)
		}
	}
}
