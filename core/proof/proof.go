// Package proof holds what was rehearsed against what was measured with real packets: each figure
// beside the other, and which differ by more than a tolerance.
package proof

import (
	"math"
	"slices"
	"strings"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
)

// Tolerances say by how much two figures may differ and still agree. The kernel's TCP is not the
// model's, and what shares a class with it waits as it makes it wait: of that, more is tolerated.
type Tolerances struct {
	Rate    float64 `json:"rate"`     // a part of the rehearsed
	Loss    float64 `json:"loss"`     // in percent of the packets sent
	DelayMs float64 `json:"delay_ms"` // or Delay, where that is more
	Delay   float64 `json:"delay"`    // a part of the rehearsed
	MOS     float64 `json:"mos"`

	Goodput        float64 `json:"goodput"`           // of TCP, a part; also of the rates of its classes
	LossWithTCP    float64 `json:"with_tcp_loss"`     // in percent, in a class with TCP
	DelayWithTCPMs float64 `json:"with_tcp_delay_ms"` // in a class with TCP, or DelayWithTCP, where that is more
	DelayWithTCP   float64 `json:"with_tcp_delay"`    // a part
	FewDelay       float64 `json:"few_delay"`         // a part, of fewer than Few packets: a percentile of theirs is one packet's luck
	Few            int     `json:"few"`
}

// Stated are the tolerances that Compare goes by.
var Stated = Tolerances{Rate: 0.02, Loss: 0.5, DelayMs: 1, Delay: 0.05, MOS: 0.1, Goodput: 0.05, LossWithTCP: 2, DelayWithTCPMs: 2, DelayWithTCP: 0.15, FewDelay: 0.5, Few: 500}

// The words for a figure.
const (
	Agrees  = "agrees"
	Differs = "differs"
	Turns   = "turns" // an expectation that holds in one way, and fails in the other
)

// A Figure is one number, as it was rehearsed and as it was measured.
type Figure struct {
	Of        string   `json:"of"` // traffic or class
	Name      string   `json:"name"`
	Where     string   `json:"where"` // the direction of a traffic; the interface of a class, with its direction
	Metric    string   `json:"metric"`
	Unit      string   `json:"unit"`
	Rehearsed *float64 `json:"rehearsed"` // nil: there was nothing to measure
	Measured  *float64 `json:"measured"`
	Ratio     *float64 `json:"ratio,omitempty"` // of the measured to the rehearsed
	Tolerance float64  `json:"tolerance"`       // by how much they may differ, in the unit
	Word      string   `json:"word"`
}

// An Expectation is one, as it came out both times.
type Expectation struct {
	Text           string `json:"text"`
	RehearsedHolds bool   `json:"rehearsed_holds"`
	MeasuredHolds  bool   `json:"measured_holds"`
	Figure
}

// A Proof is all of it.
type Proof struct {
	Rehearsal    string        `json:"rehearsal"`
	Tolerances   Tolerances    `json:"tolerances"`
	Expectations []Expectation `json:"expectations"`
	Figures      []Figure      `json:"figures"`
	Agree        int           `json:"agree"` // figures and expectations
	Differ       int           `json:"differ"`
}

// Compare holds the result of a rehearsal against that of the same rehearsal with real packets.
func Compare(rehearsed, measured *measure.Result) *Proof {
	p := &Proof{Rehearsal: rehearsed.Rehearsal, Tolerances: Stated, Expectations: []Expectation{}, Figures: []Figure{}}
	tcp := carriesTCP(rehearsed)
	for i := range rehearsed.Expectations {
		if i >= len(measured.Expectations) {
			break
		}
		a := &rehearsed.Expectations[i]
		p.expectation(a, &measured.Expectations[i], tcp, packetsOf(rehearsed, a.Expectation()))
	}
	p.traffic(rehearsed, measured, tcp)
	p.classes(rehearsed, measured, tcp)
	for i := range p.Expectations {
		p.count(p.Expectations[i].Word)
	}
	for i := range p.Figures {
		p.count(p.Figures[i].Word)
	}
	return p
}

func (p *Proof) count(word string) {
	if word == Agrees {
		p.Agree++
	} else {
		p.Differ++
	}
}

// A carrier of TCP is a traffic, or a class that has some of its packets.
type carriers map[string]bool

func carriesTCP(r *measure.Result) carriers {
	out := make(carriers)
	for _, row := range r.Traffic {
		if row.OverTCP {
			out[row.Name], out[row.Class] = true, true
		}
	}
	return out
}

// has reports whether a subject carries TCP: a traffic, or a class by its path.
func (c carriers) has(subject string) bool {
	return c[subject] || slices.ContainsFunc(strings.Split(subject, "/"), func(part string) bool { return c[part] })
}

// tolerance returns by how much a figure may differ, in its unit.
func (t *Tolerances) tolerance(metric policy.Metric, beside bool, rehearsed, packets float64) float64 {
	part := func(p float64) float64 { return p * math.Abs(rehearsed) }
	lone := 0.0 // in percent, of a few packets one is much
	if packets > 0 {
		lone = 200 / packets
	}
	row := metric.Row()
	switch row.Kind {
	case policy.Scores:
		return t.MOS
	case policy.Parts, policy.Marks:
		if beside {
			return max(t.LossWithTCP, lone, part(t.DelayWithTCP))
		}
		return max(t.Loss, lone)
	case policy.Rates:
		switch {
		case row.OfTCP && packets > 0 && packets < float64(t.Few):
			return part(t.FewDelay)
		case row.OfTCP:
			return part(t.Goodput)
		case beside:
			return max(part(t.Goodput), 5000)
		}
		return max(part(t.Rate), 2000) // bit/s: a packet or two in a few seconds
	case policy.Times:
		lowest, share := t.DelayMs, t.Delay
		if beside || row.OfTCP {
			lowest, share = t.DelayWithTCPMs, t.DelayWithTCP
		}
		if packets > 0 && packets < float64(t.Few) {
			share = t.FewDelay
		}
		return max(lowest, part(share))
	case policy.Counts:
		return max(5, part(t.DelayWithTCP))
	}
	return max(3000, part(t.Delay)) // bytes of a queue
}

// judge says whether two figures agree.
func (f *Figure) judge(t *Tolerances, metric policy.Metric, beside bool, packets float64) {
	f.Word = Differs
	if f.Rehearsed == nil || f.Measured == nil {
		if f.Rehearsed == nil && f.Measured == nil {
			f.Word = Agrees
		}
		return
	}
	f.Tolerance = t.tolerance(metric, beside, *f.Rehearsed, packets)
	if *f.Rehearsed != 0 {
		ratio := math.Round(1000**f.Measured / *f.Rehearsed) / 1000
		f.Ratio = &ratio
	}
	if math.Abs(*f.Measured-*f.Rehearsed) <= f.Tolerance+1e-9 {
		f.Word = Agrees
	}
}

func (p *Proof) expectation(a, b *measure.Outcome, tcp carriers, packets float64) {
	e := a.Expectation()
	out := Expectation{Text: a.Text, RehearsedHolds: a.Holds, MeasuredHolds: b.Holds, Figure: Figure{Of: "expectation", Name: e.Subject, Metric: string(e.Metric), Unit: a.Unit, Rehearsed: a.Measured, Measured: b.Measured}}
	if e.Where != nil {
		out.Where = e.WhereName + " " + e.Direction.String()
	}
	metric := e.Metric
	beside := tcp.has(e.Subject)
	if e.Versus != "" { // a ratio of two
		out.judge(&p.Tolerances, policy.Goodput, true, 0)
	} else {
		out.judge(&p.Tolerances, metric, beside, packets)
	}
	if a.Holds != b.Holds {
		out.Word = Turns
	}
	p.Expectations = append(p.Expectations, out)
}

// packetsOf returns how many packets of its subject an expectation is judged by, in the part of
// the time that it is about: where it is judged by the worst of several traffics, of the least.
func packetsOf(r *measure.Result, e *policy.Expectation) float64 {
	var n float64
	if e.Where != nil {
		for i := range r.Interfaces {
			f := &r.Interfaces[i]
			if f.Node+"/"+f.Interface != e.Where.Path() || f.Direction != e.Direction.String() {
				continue
			}
			for j := range f.Classes {
				if policy.IsOf(f.Classes[j].Class, e.Subject) {
					n += float64(f.Classes[j].SentPackets)
				}
			}
		}
	} else {
		for i := range r.Traffic {
			row := &r.Traffic[i]
			if e.Metric == policy.Completion || e.Metric == policy.Goodput {
				if row.TCP != nil && (row.Name == e.Subject || row.Class == e.Subject) {
					n += float64(row.TCP.Completed)
				}
				continue
			}
			if got := float64(row.ReceivedPackets); (row.Name == e.Subject || row.Class == e.Subject) && got > 0 && (n == 0 || got < n) {
				n = got
			}
		}
	}
	if e.Windowed() && r.DurationS > 0 {
		n *= (e.To - e.From).Seconds() / r.DurationS
	}
	return n
}

// minPackets is how many packets make a percentile of theirs worth comparing.
const minPackets = 100

func (p *Proof) add(f Figure, metric policy.Metric, beside bool, packets float64) {
	f.Metric, f.Unit = string(metric), metric.Row().Unit
	if f.Rehearsed == nil && f.Measured == nil {
		return
	}
	f.judge(&p.Tolerances, metric, beside, packets)
	p.Figures = append(p.Figures, f)
}

// number returns a figure; nil where there is none.
func number(v float64) *float64 { return &v }

func (p *Proof) traffic(rehearsed, measured *measure.Result, tcp carriers) {
	a, b := byWay(rehearsed), byWay(measured)
	for _, k := range a.order {
		r, m := a.rows[k], b.rows[k]
		if m == nil {
			m = &way{}
		}
		f := Figure{Of: "traffic", Name: k.name, Where: k.direction}
		add := func(metric policy.Metric, of func(*way) *float64, beside bool) {
			f.Rehearsed, f.Measured = of(r), of(m)
			packets := r.sent
			if metric == policy.Completion || metric == policy.Goodput {
				packets = r.tcp.Completed // 0 of flows that have no end
			}
			p.add(f, metric, beside, float64(packets))
		}
		if r.overTCP {
			if r.tcp == nil {
				continue // only acknowledgements
			}
			add(policy.Goodput, func(w *way) *float64 {
				if w.tcp == nil {
					return nil
				}
				return number(float64(w.tcp.GoodputBps))
			}, true)
			add(policy.Retransmissions, func(w *way) *float64 {
				if w.tcp == nil {
					return nil
				}
				return number(100 * w.tcp.Retransmissions)
			}, true)
			add(policy.Completion, func(w *way) *float64 {
				if w.tcp == nil || w.tcp.Completion == nil || w.tcp.Completed < minPackets/2 {
					return nil
				}
				return number(w.tcp.Completion.P50)
			}, true)
			continue
		}
		beside := tcp.has(r.class)
		add(policy.Throughput, func(w *way) *float64 { return number(float64(w.rate)) }, beside)
		add(policy.Loss, func(w *way) *float64 {
			if w.sent == 0 {
				return nil
			}
			return number(100 * float64(w.sent-w.received) / float64(w.sent))
		}, beside)
		add(policy.Delay, func(w *way) *float64 {
			if w.received < minPackets {
				return nil
			}
			return w.delay
		}, beside)
		add(policy.MOS, func(w *way) *float64 { return w.mos }, beside)
	}
}

// A wayKey is a traffic in a direction.
type wayKey struct{ name, direction string }

// A way is what a traffic met in a direction, by all classes: the worst delay and MOS of them.
type way struct {
	class          string // of most packets
	most           int64
	sent, received int64
	rate           int64
	delay, mos     *float64
	overTCP        bool
	tcp            *measure.TCPFigures
}

type ways struct {
	order []wayKey
	rows  map[wayKey]*way
}

func byWay(r *measure.Result) ways {
	out := ways{rows: make(map[wayKey]*way)}
	for i := range r.Traffic {
		row := &r.Traffic[i]
		k := wayKey{row.Name, row.Direction}
		w := out.rows[k]
		if w == nil {
			w = &way{}
			out.rows[k] = w
			out.order = append(out.order, k)
		}
		if row.SentPackets >= w.most {
			w.most, w.class = row.SentPackets, row.Class
		}
		w.sent += row.SentPackets
		w.received += row.ReceivedPackets
		w.rate += row.RateBps
		w.overTCP = w.overTCP || row.OverTCP
		if row.TCP != nil {
			w.tcp = row.TCP
		}
		if d := row.Delay; d != nil && (w.delay == nil || d.P99 > *w.delay) {
			w.delay = &d.P99
		}
		if m := row.MOS; m != nil && (w.mos == nil || *m < *w.mos) {
			w.mos = m
		}
	}
	return out
}

// classes holds what each class met where a policy is in force.
func (p *Proof) classes(rehearsed, measured *measure.Result, tcp carriers) {
	for i := range rehearsed.Interfaces {
		r := &rehearsed.Interfaces[i]
		if r.PolicyAt == "" {
			continue
		}
		j := slices.IndexFunc(measured.Interfaces, func(o measure.Interface) bool {
			return o.Node == r.Node && o.Interface == r.Interface && o.Direction == r.Direction
		})
		for k := range r.Classes {
			c := &r.Classes[k]
			other := &measure.Class{}
			if j >= 0 {
				if n := slices.IndexFunc(measured.Interfaces[j].Classes, func(o measure.Class) bool { return o.Class == c.Class }); n >= 0 {
					other = &measured.Interfaces[j].Classes[n]
				}
			}
			if c.OfferedPackets+other.OfferedPackets > 0 {
				p.class(r, c, other, tcp.has(c.Class))
			}
		}
	}
}

func (p *Proof) class(at *measure.Interface, r, m *measure.Class, beside bool) {
	f := Figure{Of: "class", Name: r.Class, Where: at.Node + "/" + at.Interface + " " + at.Direction}
	add := func(metric policy.Metric, of func(*measure.Class) *float64) {
		f.Rehearsed, f.Measured = of(r), of(m)
		p.add(f, metric, beside, float64(r.OfferedPackets))
	}
	add(policy.Throughput, func(c *measure.Class) *float64 { return number(float64(c.SentBps)) })
	add(policy.Loss, func(c *measure.Class) *float64 {
		if c.OfferedPackets == 0 {
			return nil
		}
		return number(100 * float64(c.Drops.Total()) / float64(c.OfferedPackets))
	})
	add(policy.Delay, func(c *measure.Class) *float64 {
		if c.QueueDelay == nil || c.SentPackets < minPackets {
			return nil
		}
		return &c.QueueDelay.P99
	})
}
