package measure

import (
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

// An impairment is what lowers the rating of a call, in points of the E-model (ITU-T G.107).
type impairment struct {
	codec codec.Codec
	path  time.Duration // the least delay of the network
	far   float64       // by the delay without any wait
	wait  float64       // by what the packets wait
	loss  float64       // by packets lost or late
	best  float64       // the MOS without both
}

// impaired returns what lowers the rating of a call. Path is the delay of its way without any wait.
func (f *Flow) impaired(path time.Duration) impairment {
	ta, loss, burst := f.reached()
	c := f.call.codec
	rating := func(ta time.Duration, loss float64) float64 { return codec.R(ta, loss, burst, c.Ie, c.Bpl) }
	free := rating(min(ta, c.Interval+c.LookAhead+path+f.call.playout), 0)
	return impairment{*c, path, rating(0, 0) - free, free - rating(ta, 0), rating(ta, 0) - rating(ta, loss), codec.MOS(free)}
}

// ceiling says what MOS the codec and the links allow where that is less than an expectation wants, or the links lower it most.
func (i *impairment) ceiling(e *policy.Expectation) words.Fact {
	alone := i.codec.Best(0)
	switch {
	case !e.AtLeast() || i.best >= e.Limit && i.far <= i.wait+i.loss:
		return words.Fact{}
	case alone < e.Limit:
		return words.CodecReaches.With(i.codec, words.MOS(alone))
	}
	return words.PathReaches.With(i.path, i.codec, words.MOS(i.best))
}

// whyMOS says what lowers the score of the worst call most.
func (m *Measures) whyMOS(w *Why, r *Result, e *policy.Expectation, f *finding) {
	var worst *Flow
	path := time.Duration(0)
	for _, t := range f.of {
		for _, o := range t.flows {
			if o.IsCall() && o.Received > 0 && (worst == nil || o.MOS() < worst.MOS()) {
				worst, path = o, t.least
			}
		}
	}
	s := add(f.of)
	w.LostPackets = s.sent - s.received
	if worst == nil {
		m.whyLost(w, r, e, f)
		return
	}
	i := worst.impaired(path)
	ceiling := i.ceiling(e)
	hops, at := most(f.of, func(h *Hop) int64 { return int64(h.Wait) })
	switch {
	case i.best-worst.MOS() < 0.01:
		w.Reason, w.Text = byPath, ceiling
		if ceiling.IsZero() {
			w.Text = words.NothingLowers.With(i.codec, words.MOS(i.best))
		}
		return
	case i.wait > i.loss && at >= 0:
		h := &hops[at]
		cause := m.cause(w, r, h, datapath.Passed, m.span(e, f.of))
		w.Text = words.WaitedMost.With(m.Places[h.Place].Words(), w.Class, time.Duration(h.Wait/float64(h.Packets)), cause)
	case w.LostPackets > s.late:
		m.whyLost(w, r, e, f)
	default:
		m.whySlow(w, r, e, f)
	}
	if !ceiling.IsZero() && !w.Text.IsZero() {
		w.Text = words.AndReaches.With(w.Text, ceiling)
	}
}
