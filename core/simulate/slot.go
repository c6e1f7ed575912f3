package simulate

import (
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/meter"
)

// A slot is what is measured of the packets of one entry at a path, or of one class in
// a plain FIFO, those within it included.
type slot struct { // what every packet touches is in the first three cache lines
	touched         bool  // it is in the list of those that a step has to look at
	policed, queued bool  // burst and queue are counted
	number          int32 // of the path's
	waiting         int64 // bytes now
	around          *slot // nil: none
	first           time.Duration
	last            time.Duration // that a packet was offered; 0: none was
	whole           figures       // of the whole time

	queue meter.Need // at the promise
	sent  datapath.Busiest

	burst      meter.Need // of the policer
	windows    []windowFigures
	drops      uint64
	dropsNoted uint64
	noted      noted
	steps      []measure.StepFigures
}

// active returns the mean rate at which so many bytes were offered, over the time from
// the first packet to the last.
func (s *slot) active(bytes uint64) int64 {
	return over(bytes, max(s.last-s.first, time.Millisecond))
}

// figures are what is counted in a time. Rates are over the measured time.
type figures struct {
	offered, sent uint64 // bytes
	maxQueue      int64
	delay         measure.Distribution
}

// windowFigures are what is counted in a window; the data path counts the packets of the whole time.
type windowFigures struct {
	figures
	offeredPackets, sentPackets, drops uint64
	marks                              *[64]uint64
}

// offered books a packet that a path was offered, in each slot around its own.
func (r *run) offered(p *path, f *flight, reason datapath.Reason) {
	size := int64(f.Size)
	counts := r.measured()
	for s := p.slot(r, f.Slot); s != nil; s = s.around {
		r.touch(s)
		if counts {
			s.whole.offered += uint64(size)
		}
		if s.last == 0 {
			s.first = r.now
		}
		s.last = r.now
		if s.policed {
			s.burst.Add(r.now, int(size))
		}
		if s.queued && (reason == datapath.Passed || reason == datapath.QueueFull) {
			s.queue.Add(r.now, int(size))
		}
		if reason == datapath.Passed {
			s.waiting += size
			s.whole.maxQueue = max(s.whole.maxQueue, s.waiting)
		} else {
			s.drops++
		}
		for _, w := range r.open {
			g := &s.windows[w-1]
			g.offeredPackets++
			g.offered += uint64(size)
			if reason == datapath.Passed {
				g.maxQueue = max(g.maxQueue, s.waiting)
			} else {
				g.drops++
			}
		}
	}
	if r.series != nil {
		r.series.offered(p, f, reason)
	}
}

// discards books a packet that a path dropped after it had taken it.
func (r *run) discards(p *path, f *flight) {
	for s := p.slot(r, f.Slot); s != nil; s = s.around {
		r.touch(s)
		s.waiting -= int64(f.Size)
		s.drops++
		for _, w := range r.open {
			s.windows[w-1].drops++
		}
	}
	if r.series != nil {
		r.series.dropped(p, f)
	}
}

// sends books a packet that a path gives to be sent.
func (r *run) sends(p *path, f *flight) {
	size, wait := int64(f.Size), r.now-f.Arrived
	counts := r.measured()
	for s := p.slot(r, f.Slot); s != nil; s = s.around {
		r.touch(s)
		s.waiting -= size
		g := &s.whole
		g.delay.Add(wait)
		if counts {
			g.sent += uint64(size)
			if p.ruled && p.Limited(int(s.number)) {
				s.sent.Add(r.now, int(size))
			}
		}
		for _, w := range r.open {
			g := &s.windows[w-1]
			g.sentPackets++
			g.sent += uint64(size)
			g.delay.Add(wait)
			if g.marks == nil {
				g.marks = new([64]uint64)
			}
			g.marks[f.DSCP()]++
		}
	}
	if r.series != nil {
		r.series.sent(p, f)
	}
}

// look brings up to date which windows are open.
func (r *run) look() {
	if r.now < r.nextWindow {
		return
	}
	r.open, r.nextWindow = r.open[:0], 1<<62
	for i, w := range r.windows {
		switch {
		case r.now < w.From:
			r.nextWindow = min(r.nextWindow, w.From)
		case r.now < w.To:
			r.open = append(r.open, i+1)
			r.nextWindow = min(r.nextWindow, w.To)
		}
	}
}
