package check

import (
	"slices"
	"time"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

func expectationEstimated() Rule {
	return Rule{"expectation-estimated", Warning, `The check treats the traffic of a rehearsal as a fluid and divides each interface as its policy says. The estimate misses an
expectation (a rate, a loss, the delay of a full queue) by more than its error. There is an estimate only if every traffic
sends steadily for the whole rehearsal, without captures, loads or policers that mark. The rehearsal decides:
` + "`" + `imbrel rehearse FILE NAME --suggest` + "`" + ` says what to change.`,
		func(s *survey) {
			for i := range s.f.Rehearsals {
				h := &s.f.Rehearsals[i]
				streams := s.flow(h)
				for j := range h.Expect {
					x := &h.Expect[j]
					if x.Versus != "" || x.Windowed() || x.OfPromise || streams == nil || s.bound[x] {
						continue
					}
					if got := estimate(h, x, streams); !got.IsZero() {
						s.say(x.At, "", words.ExpectationEstimated.With(got, words.Quote(x.Text), h.Name))
					}
				}
			}
		}}
}

// estimate says what a rehearsal comes to where it misses an expectation, or nothing.
func estimate(h *policy.Rehearsal, x *policy.Expectation, streams []*stream) words.Fact {
	lasts := h.Lasts.Seconds()
	var at []*passage // where it is judged, of the streams that it is about
	var about []*stream
	for _, f := range streams {
		if x.Where == nil && !f.route.within(x.Subject) {
			continue
		}
		n := len(at)
		for _, p := range f.steps {
			if x.Where == nil || x.Where == p.iface && x.Direction.String() == p.hop.Direction && policy.IsWithin(p.hop.Class, x.Subject) {
				at = append(at, p)
			}
		}
		if len(at) == n {
			continue
		}
		if !f.certainRate {
			return words.Fact{}
		}
		about = append(about, f)
	}
	if len(about) == 0 {
		return words.Fact{}
	}
	for _, f := range about { // how streams divide a plain queue's loss is chance
		for _, p := range f.steps {
			for _, o := range p.lossy {
				if !slices.Contains(about, o.stream) && x.Metric != policy.Delay && x.Metric != policy.QueueSize {
					return words.Fact{}
				}
			}
		}
	}
	switch x.Metric {
	case policy.Throughput:
		if x.Where == nil && slices.ContainsFunc(about, func(f *stream) bool { return f.route.reverse != about[0].route.reverse }) {
			return words.Fact{}
		}
		rate, held := 0.0, 0.0
		for _, f := range about {
			got := f.steps[len(f.steps)-1].out
			for _, p := range f.steps {
				if x.Where != nil && slices.Contains(at, p) {
					got = p.sent * p.wire
				}
			}
			rate += got
			held += f.held() / lasts
		}
		if x.AtMost() && rate*0.95-held > x.Limit || x.AtLeast() && rate*1.05+held < x.Limit {
			return words.EstimateRate.With(x.Subject, unit.Rate(rate))
		}
	case policy.Loss, policy.Drops:
		limit := x.Limit
		if x.Metric == policy.Drops && limit > 0 || !x.AtMost() && x.Operator != "=" {
			return words.Fact{}
		}
		for _, f := range about {
			last := f.steps[len(f.steps)-1]
			lost, held := 1-last.out/max(f.rate, 1), f.held()
			if lost-held/lasts/max(f.rate, 1) > limit+0.01 {
				return words.EstimateLoss.With(words.Part(lost), f.route.name())
			}
		}
	case policy.Delay, policy.QueueSize:
		holds, deepest := 0.0, (*passage)(nil)
		for _, p := range at {
			if p.leaf == nil || p.leaf.Queue.Drop != policy.TailDrop || p.leaf.Queue.Bytes == 0 || p.drained == 0 {
				continue
			}
			limit := float64(p.leaf.Queue.Bytes) * 8
			fills := p.offered > p.drained*1.05 && limit/(p.offered-p.drained) < lasts/4
			waits := limit / p.drained * 1e9
			switch {
			case x.Metric == policy.Delay && fills && x.AtMost() && waits*0.85 > x.Limit:
				return words.EstimateWait.With(p.leaf.Name, p.iface.Path(), time.Duration(waits))
			case x.Metric == policy.QueueSize && fills && x.AtMost() && limit*0.9/8 > x.Limit:
				return words.EstimateFills.With(p.leaf.Name, p.iface.Path(), unit.Size(limit/8))
			}
			if most := limit/8 + float64(p.plan.MaxPacket); most > holds {
				holds, deepest = most, p
			}
		}
		if x.Metric == policy.QueueSize && x.AtLeast() && deepest != nil && holds < x.Limit {
			return words.EstimateHolds.With(deepest.leaf.Name, deepest.iface.Path(), deepest.leaf.Queue.Bytes)
		}
	}
	return words.Fact{}
}
