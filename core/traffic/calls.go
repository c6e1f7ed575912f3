package traffic

import (
	"math/rand/v2"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
)

// Speech is when somebody talks, in talkspurts and pauses of random length. The mean
// talkspurt is a second (ITU-T P.59 has 1.004 s), the pauses are as long as it takes for
// Active to be the part of the time with speech.
type Speech struct {
	Active float64 // above 0, below 1
	Random *rand.Rand

	until   time.Duration // of the talkspurt
	resumes time.Duration // after it
	begun   bool
}

const talkspurt = time.Second

// next returns the first time from at on, in steps of an interval, at which there is
// speech.
func (s *Speech) next(at, interval time.Duration) time.Duration {
	pause := float64(talkspurt) * (1 - s.Active) / s.Active
	if !s.begun {
		s.begun = true
		s.until = at
		s.resumes = at
		if s.Random.Float64() > s.Active { // it begins in a pause
			s.resumes += time.Duration(Exponential(s.Random) * pause)
		}
	}
	for at >= s.until {
		if at < s.resumes {
			at += (s.resumes - at + interval - 1) / interval * interval
		}
		s.until = s.resumes + time.Duration(Exponential(s.Random)*float64(talkspurt))
		s.resumes = s.until + time.Duration(Exponential(s.Random)*pause)
	}
	return at
}

// Reports are the control packets of one direction of a call (RTCP, RFC 3550 §6): a sender
// report with one report block, and the name of the source.
type Reports struct {
	Flow       packet.Flow
	DSCP       codepoint.DSCP
	Start, End time.Duration
	ID         uint32
	Random     *rand.Rand

	next  time.Duration
	begun bool
}

// reportsEvery is the least interval of the reports (RFC 3550 §6.2), and reportBytes their
// length without IP and UDP: a sender report of 28 bytes, a block of 24 and a source
// description of 24.
const (
	reportsEvery = 5 * time.Second
	reportBytes  = 76
)

// Next yields the next report: the first after half an interval, each at random between half
// and one and a half of it, divided by e - 3/2 (RFC 3550 §6.3.1).
func (r *Reports) Next(p *packet.Packet, room []byte) (time.Duration, bool, error) {
	every := float64(reportsEvery)
	if !r.begun {
		r.begun, r.next = true, r.Start
		every /= 2
	}
	r.next += time.Duration(every * (0.5 + r.Random.Float64()) / 1.21828)
	if r.next >= r.End {
		return 0, false, nil
	}
	length := packet.IPv4Header
	if r.Flow.From.Is6() {
		length = packet.IPv6Header
	}
	p.Build(room, r.Flow, r.DSCP, length+8+reportBytes, 8)
	b := p.Payload()
	if len(b) >= 8 { // version 2, one block, SR; its length in words less one
		b[0], b[1], b[3] = 0x81, 200, 12
		b[4], b[5], b[6], b[7] = byte(r.ID>>24), byte(r.ID>>16), byte(r.ID>>8), byte(r.ID)
		p.Seal()
	}
	return r.next, true, nil
}
