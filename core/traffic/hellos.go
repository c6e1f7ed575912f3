package traffic

import (
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
)

// Hellos are equal packets that one node sends another, from Start until End.
type Hellos struct {
	Flow       packet.Flow
	DSCP       codepoint.DSCP
	Length     int // of their IP packets
	Every      time.Duration
	Start, End time.Duration

	sent int64
	like like
}

// Next yields the next hello.
func (h *Hellos) Next(p *packet.Packet, room []byte) (time.Duration, bool, error) {
	at := h.Start + time.Duration(h.sent)*h.Every
	if at >= h.End {
		return 0, false, nil
	}
	h.sent++
	h.like.next(p, room, &h.Flow, h.DSCP, h.Length, 0)
	return at, true, nil
}
