package queue

import (
	"time"

	"imbrel.example/imbrel/core/packet"
)

// A Discipline is a queue that decides which packets to drop. It tells drop of
// each packet that it drops, other than one it refuses in Push: the reason is
// Full or Early.
type Discipline interface {
	// Push takes a packet in and returns Taken, or refuses it and says why.
	Push(now time.Duration, p *packet.Packet) Verdict
	// Pop returns the next packet, or nil.
	Pop(now time.Duration) *packet.Packet
	// Level returns a pointer to the queue's current length.
	Level() *Waiting
}

// Waiting is how much waits in a queue; bytes are as the interface counts.
type Waiting struct {
	Packets int
	Bytes   int64
	Head    int32 // bytes of the packet that Pop returns next, if it drops none; 0: there is none
}

func (w *Waiting) add(p *packet.Packet) {
	w.Packets++
	w.Bytes += int64(p.Size)
}

func (w *Waiting) take(p *packet.Packet) {
	w.Packets--
	w.Bytes -= int64(p.Size)
}

// Verdict says what became of a packet.
type Verdict uint8

// The verdicts.
const (
	Taken Verdict = iota
	Full          // there was no room
	Early         // dropped before there was none
)

// Limits are how much a queue holds; 0 is no limit.
type Limits struct {
	Bytes   int64
	Packets int
}

// DropFunc is told of a packet that left a queue undelivered.
type DropFunc func(p *packet.Packet, v Verdict)
