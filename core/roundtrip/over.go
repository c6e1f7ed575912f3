package roundtrip

import (
	"time"

	"imbrel.example/imbrel/core/measure"
)

// Over returns what the packets of several calls met in each of so many intervals of one length, by when they were sent: the delay of
// each way, and how many did not come back, which are lost on one way or the other. offsets are those of the calls.
func Over(calls [][]Packet, offsets []time.Duration, every time.Duration, intervals int) (there, back measure.SeriesTraffic) {
	there, back = measure.SeriesTraffic{Name: "calls", Direction: "forward", Lost: make([]int64, intervals)}, measure.SeriesTraffic{Name: "calls", Direction: "reverse"}
	delays := [2][]measure.Distribution{make([]measure.Distribution, intervals), make([]measure.Distribution, intervals)}
	for c, packets := range calls {
		for i := range packets {
			p := &packets[i]
			at := int(p.Sent / every)
			switch {
			case at < 0 || at >= intervals:
			case !p.Returned:
				there.Lost[at]++
			default:
				delays[0][at].Add(max(0, p.Came-p.Sent-offsets[c]))
				delays[1][at].Add(max(0, p.Back-p.Left+offsets[c]))
			}
		}
	}
	for n, out := range []*measure.SeriesTraffic{&there, &back} {
		var b measure.TimesBuilder
		for i := range delays[n] {
			b.Put(i, &delays[n][i])
		}
		out.Delay = b.Times(0, intervals)
	}
	return there, back
}
