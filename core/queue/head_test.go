package queue

import (
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
)

// Head is the size of the packet that Pop returns next, whatever the discipline: held against Pop with random flows and
// sizes, where nothing is dropped on the way out.
func TestHeadIsWhatPopReturns(t *testing.T) {
	for name, q := range map[string]Discipline{
		"fifo":     &FIFO{Limits: Limits{Packets: 40}},
		"fq-codel": NewFQCoDel(Limits{Packets: 40}, 8, time.Millisecond, 1500, false, func(*packet.Packet, Verdict) {}),
		"codel":    NewCoDel(Limits{Packets: 40}, time.Millisecond, 1500, false, func(*packet.Packet, Verdict) {}),
		"red":      NewRED(Limits{Packets: 40}, 10_000_000, 1500, false, rand.New(rand.NewPCG(1, 1))),
	} {
		r := rand.New(rand.NewPCG(71, 1))
		popped := 0
		for range 50_000 {
			if r.IntN(2) == 0 {
				p := &packet.Packet{}
				p.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: netip.AddrFrom4([4]byte{10, 0, 0, byte(r.IntN(12))}), To: netip.AddrFrom4([4]byte{10, 0, 1, 0}), Protocol: packet.UDP, ToPort: uint16(r.IntN(3))},
					codepoint.DF, 64+r.IntN(1400), packet.HeaderRoom)
				p.Size = int32(p.Length)
				q.Push(0, p)
				continue
			}
			head := q.Level().Head
			p := q.Pop(0) // at time 0 nothing has waited for long
			switch {
			case p == nil && head != 0:
				t.Fatalf("%s: empty, and the head is said to have %d B", name, head)
			case p != nil && p.Size != head:
				t.Fatalf("%s: a packet of %d B, and the head is said to have %d", name, p.Size, head)
			case p != nil:
				popped++
			}
		}
		if popped < 10_000 {
			t.Errorf("%s: %d packets", name, popped)
		}
	}
}
