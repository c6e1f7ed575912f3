// Package linetest says what a line carries, from trains of packets that were sent faster than it carries them: its rate, the depth
// of the queue before it, whether it polices or shapes, and which framing fits its bytes.
//
// While a queue is never empty, what leaves it is spaced by the time that the line takes for each packet (the dispersion of a
// train), so the bytes that arrived between two packets of a busy period, over the time between them, are the line's rate.
package linetest

import (
	"cmp"
	"math"
	"slices"
	"strings"
	"time"

	"imbrel.example/imbrel/core/packet"
)

// A Sample is a packet of a train that arrived. Sent is by the sender's clock, Came by the receiver's.
type Sample struct {
	Number     uint64
	Sent, Came time.Duration
}

// A Train is packets of one length, sent at a rate.
type Train struct {
	Length   int    // of the IP packets
	Packets  uint64 // that were sent
	Arrived  []Sample
	LastSent time.Duration // by the sender's clock
	RateBps  int64         // that was sent
}

// A Busy is what a train says of the line.
type Busy struct {
	Full      bool          // more was sent than the line carries: else RateBps is only what was sent
	RateBps   int64         // of IP bytes
	Loss      float64       // part of the packets
	Queue     time.Duration // by how much the queue delays a packet when it is full
	Polices   bool          // packets are lost although they do not wait
	MeasuredS float64       // for how long the rate was measured
}

// Judge says what a train met. Too few packets are no train: Full is false, and the rate 0.
func Judge(t *Train) Busy {
	b := Busy{}
	a := slices.Clone(t.Arrived)
	slices.SortFunc(a, func(x, y Sample) int { return cmp.Or(cmp.Compare(x.Came, y.Came), cmp.Compare(x.Number, y.Number)) })
	a = slices.CompactFunc(a, func(x, y Sample) bool { return x.Number == y.Number })
	if len(a) < 20 || t.Packets == 0 {
		return b
	}
	b.Loss = max(0, 1-float64(len(a))/float64(t.Packets))
	// Waits, against the least: the clocks need not agree.
	least := time.Duration(math.MaxInt64)
	for _, s := range a {
		least = min(least, s.Came-s.Sent)
	}
	waits := make([]time.Duration, len(a))
	for i, s := range a {
		waits[i] = s.Came - s.Sent - least
	}
	first := 0 // of the packets after which one was lost
	for i := 1; i < len(a); i++ {
		if a[i].Number > a[i-1].Number+1 {
			first = i
			break
		}
	}
	if first == 0 && b.Loss > 0 {
		first = len(a) - 1 // only the end of the train was lost
	}
	spacing := time.Duration(float64(8*t.Length) / float64(max(t.RateBps, 1)) * 1e9)
	wait := quantile(waits[len(waits)/2:], 0.5)
	from := 0
	switch {
	case b.Loss > 0.005:
		late := waits[first:]
		b.Queue = quantile(late, 0.75)
		b.Polices = quantile(late, 0.8) < 2*time.Millisecond+2*spacing
		if from = first; len(a)-from < 50 { // hardly any after it
			from = max(0, len(a)-50)
		}
		b.Full = true
	case wait > 5*time.Millisecond+3*spacing && waits[len(waits)-1] > waits[len(waits)/2]+time.Millisecond: // it grew, and nothing was lost
		b.Queue = quantile(waits, 0.99)
		from = len(a) / 4
		b.Full = true
	}
	last := len(a) - 1
	if over := a[last].Came - a[from].Came; over > 0 {
		b.RateBps = int64(math.Round(float64(last-from) * float64(8*t.Length) / over.Seconds()))
		b.MeasuredS = over.Seconds()
		if b.Full && !b.Polices {
			b.RateBps = typical(a[from:], t.Length, b.RateBps)
		}
	}
	return b
}

// typical cuts a busy period into parts and returns the median of their rates. A machine that is held up now and then spoils few parts.
func typical(a []Sample, length int, whole int64) int64 {
	const least, parts = 20, 25
	n := min(parts, len(a)/least)
	if n < 5 {
		return whole
	}
	rates := make([]int64, 0, n)
	for i := range n {
		from, to := i*(len(a)-1)/n, (i+1)*(len(a)-1)/n
		if over := a[to].Came - a[from].Came; over > 0 {
			rates = append(rates, int64(math.Round(float64(to-from)*float64(8*length)/over.Seconds())))
		}
	}
	if len(rates) < n {
		return whole
	}
	slices.Sort(rates)
	return rates[n/2]
}

func quantile(v []time.Duration, q float64) time.Duration {
	if len(v) == 0 {
		return 0
	}
	s := slices.Clone(v)
	slices.Sort(s)
	return s[min(len(s)-1, int(q*float64(len(s))))]
}

// A Fit is how well a framing explains the rates of packets of several lengths.
type Fit struct {
	Framing string  `json:"framing"`
	RateBps int64   `json:"rate_bps"` // of the line, as the framing counts
	Off     float64 `json:"off"`      // by how much the rates of the lengths differ, as a part
}

// A Point is the rate of IP bytes at one length of packets.
type Point struct {
	Length  int   `json:"packet_bytes"`
	RateBps int64 `json:"rate_bps"`
}

// Fits returns the framings, the best first, by which the rates of several lengths are most nearly the same. Of framings that
// fit equally well, that with fewer layers is first. With less than two lengths there is nothing to fit.
func Fits(points []Point) []Fit {
	if len(points) < 2 {
		return nil
	}
	var out []Fit
	for _, f := range packet.Framings() {
		least, most, sum := math.Inf(1), 0.0, 0.0
		for _, p := range points {
			r := float64(p.RateBps) * float64(f.Size(p.Length, 0)) / float64(p.Length)
			least, most, sum = min(least, r), max(most, r), sum+r
		}
		if least > 0 {
			out = append(out, Fit{f.Name, int64(math.Round(sum / float64(len(points)))), most/least - 1})
		}
	}
	slices.SortStableFunc(out, func(a, b Fit) int {
		return cmp.Or(cmp.Compare(math.Round(a.Off*2e3), math.Round(b.Off*2e3)), cmp.Compare(strings.Count(a.Framing, "-"), strings.Count(b.Framing, "-")))
	})
	return out
}

// A Way is one direction of a line, in one run.
type Way struct {
	Full     bool    `json:"full"`     // false: the line carries at least the rate, which was the most that was sent
	RateBps  int64   `json:"rate_bps"` // of the line, as Framing counts bytes
	IPBps    int64   `json:"ip_bps"`   // of IP bytes, in packets of full length
	Framing  string  `json:"framing,omitempty"`
	Fits     []Fit   `json:"fits,omitempty"`
	Points   []Point `json:"points"`
	QueueMs  float64 `json:"queue_ms"` // how long a packet waits when the queue is full
	QueueB   int64   `json:"queue_bytes"`
	Polices  bool    `json:"polices"`
	BurstB   int64   `json:"burst_bytes,omitempty"` // of the policer
	Loss     float64 `json:"loss_under_load"`
	TCPBps   int64   `json:"tcp_bps,omitempty"`  // what the kernel's TCP carried of data
	DelayMs  float64 `json:"delay_ms"`           // with an idle line: half the least round trip
	LoadedMs float64 `json:"delay_loaded_ms"`    // with a full one
	Unsteady bool    `json:"unsteady,omitempty"` // no framing explains the rates of the lengths: the line, or this machine, was not steady
}

// A Run is one measurement of a line.
type Run struct {
	At   time.Time `json:"at"`
	Up   Way       `json:"up"`
	Down Way       `json:"down"`
	Note string    `json:"note,omitempty"`
}

// A Line is what is known of a line.
type Line struct {
	Version int    `json:"measured"`
	To      string `json:"to"`
	Runs    []Run  `json:"runs"`
}

// Version of a line's form.
const Version = 1

// Worst returns the run with the least rate of a direction, and its number; -1: none was steady.
func (l *Line) Worst(up bool) (Way, int) {
	way := func(r *Run) *Way {
		if up {
			return &r.Up
		}
		return &r.Down
	}
	worst := -1
	for i := range l.Runs {
		if w := way(&l.Runs[i]); w.RateBps > 0 && !w.Unsteady && (worst < 0 || w.RateBps < way(&l.Runs[worst]).RateBps) {
			worst = i
		}
	}
	if worst < 0 {
		return Way{}, -1
	}
	return *way(&l.Runs[worst]), worst
}

// unsteady is by how much the rates of several lengths differ at least, by the framing that fits best, where a line was not steady.
const unsteady = 0.03

// Of joins what the trains of a direction say.
func Of(trains []Train) Way {
	w := Way{}
	var full Busy
	for i := range trains {
		b := Judge(&trains[i])
		if i == 0 {
			full = b
			w.IPBps, w.Full, w.Polices, w.Loss = b.RateBps, b.Full, b.Polices, b.Loss
			if b.Full && !b.Polices {
				w.QueueMs = 1000 * b.Queue.Seconds()
				w.QueueB = int64(float64(b.RateBps) / 8 * b.Queue.Seconds())
			}
		}
		if b.Full && b.MeasuredS > 0.2 {
			w.Points = append(w.Points, Point{trains[i].Length, b.RateBps})
		}
	}
	w.RateBps = w.IPBps
	if w.Full {
		if w.Fits = Fits(w.Points); len(w.Fits) > 0 {
			w.Framing, w.RateBps = w.Fits[0].Framing, w.Fits[0].RateBps
			w.Fits = w.Fits[:min(len(w.Fits), 4)]
			w.Unsteady = w.Fits[0].Off > unsteady
		}
		if full.Polices {
			w.BurstB = burst(&trains[0], full.RateBps)
		}
	}
	return w
}

// burst is what a policer passed before it dropped a packet, less what its rate explains.
func burst(t *Train, rate int64) int64 {
	a := slices.Clone(t.Arrived)
	slices.SortFunc(a, func(x, y Sample) int { return cmp.Compare(x.Number, y.Number) })
	for i := 1; i < len(a); i++ {
		if a[i].Number > a[i-1].Number+1 {
			took := a[i-1].Sent - a[0].Sent
			return max(0, int64(i*t.Length)-int64(float64(rate)/8*took.Seconds()))
		}
	}
	return 0
}
