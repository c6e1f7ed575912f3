package traffic

import (
	"math/rand/v2"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/unit"
)

// Video sends the frames of a picture, each as packets of RTP that leave at the rate of
// the host's line. Rate counts IP bytes. A key frame is KeyWeight times as large as
// another; each varies by up to 30 %.
type Video struct {
	Rate       unit.Rate
	Frames     int           // a second
	KeyFrames  time.Duration // from one to the next; 0: there are none
	Packet     int           // the longest IP packet
	Line       unit.Rate     // of the host
	Flow       packet.Flow
	DSCP       codepoint.DSCP
	Start, End time.Duration
	ID         uint32
	Random     *rand.Rand

	frame    int64
	at       time.Duration // of the next packet
	left     int           // bytes of the frame
	sequence uint16
}

// KeyWeight is how many times as large as another frame a key frame is.
const KeyWeight = 6

// videoType is the RTP payload type, a dynamic one (RFC 3551 §6).
const videoType = 96

// Next yields the next packet.
func (v *Video) Next(p *packet.Packet, room []byte) (time.Duration, bool, error) {
	headers := 20 + 8 + packet.RTPHeader
	if v.Flow.From.Is6() {
		headers += 20
	}
	if v.left <= 0 {
		v.at = v.Start + time.Duration(v.frame)*time.Second/time.Duration(v.Frames)
		v.left = max(v.size(), headers+1)
		v.frame++
	}
	if v.at >= v.End {
		return 0, false, nil
	}
	length := max(min(v.Packet, v.left), headers+1)
	v.left -= length
	at := v.at
	v.at += v.Line.Time(unit.Size(length))
	p.Build(room, v.Flow, v.DSCP, length, packet.RTPHeader)
	p.PutRTP(videoType, v.sequence, uint32((v.frame-1)*90000/int64(v.Frames)), v.ID)
	v.sequence++
	return at, true, nil
}

// size returns the bytes of the next frame, so that the mean is that of the rate.
func (v *Video) size() int {
	mean := float64(v.Rate) / 8 / float64(v.Frames)
	key := int64(0)
	if v.KeyFrames > 0 {
		key = max(1, int64(v.KeyFrames)*int64(v.Frames)/int64(time.Second))
	}
	if key > 1 {
		mean = mean * float64(key) / float64(key-1+KeyWeight)
		if v.frame%key == 0 {
			mean *= KeyWeight
		}
	}
	return int(mean * (0.7 + 0.6*v.Random.Float64()))
}
