package measure

import (
	"cmp"
	"slices"
	"time"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// A Payment is what the policies made worse for one traffic in one direction.
type Payment struct {
	Name    string     `json:"name"`
	Class   string     `json:"class"`
	Metric  string     `json:"metric"` // mos, loss, goodput, completion or delay
	Without float64    `json:"without"`
	With    float64    `json:"with"`
	Unit    string     `json:"unit"`
	Text    words.Fact `json:"text"`

	harm float64 // 0 to 1
}

// What must be exceeded before something counts as worse: chance makes runs differ by less.
const (
	paysMOS   = 0.1
	paysLoss  = 0.005
	paysRate  = 0.05 // of a goodput
	paysTime  = 0.2  // of a delay or a completion
	paysDelay = 2.0  // ms
)

// WhoPays returns what got worse by the policies, the worst first: one line for each traffic and direction, of the metric
// that got worse most.
func WhoPays(without, with *Result) []Payment {
	out := []Payment{}
	for i := range with.Traffic {
		b := &with.Traffic[i]
		n := slices.IndexFunc(without.Traffic, func(a Row) bool { return a.Name == b.Name && a.Direction == b.Direction && a.Class == b.Class })
		if n < 0 {
			n = slices.IndexFunc(without.Traffic, func(a Row) bool { return a.Name == b.Name && a.Direction == b.Direction })
		}
		if n < 0 {
			continue
		}
		if p := payment(&without.Traffic[n].TrafficFigures, &b.TrafficFigures); p.harm > 0 {
			p.Name, p.Class = b.Title(), b.Class
			out = append(out, p)
		}
	}
	slices.SortStableFunc(out, func(a, b Payment) int { return cmp.Compare(b.harm, a.harm) })
	for i := range out {
		p, reference := &out[i], words.Fact{}
		if i == 0 {
			reference = words.WithoutPolicies.With()
		}
		in := payments[p.Metric]
		p.Text = in.With(p.Name, in.value(p.With), in.value(p.Without), reference)
	}
	return out
}

// payments are the sentences by metric, and what their numbers are.
var payments = map[string]paying{
	string(policy.MOS):        {words.PaysMOS, func(v float64) any { return words.MOS(v) }},
	string(policy.Loss):       {words.PaysLoss, func(v float64) any { return words.Part(v / 100) }},
	string(policy.Goodput):    {words.PaysGoodput, func(v float64) any { return unit.Rate(v) }},
	string(policy.Completion): {words.PaysCompletion, func(v float64) any { return time.Duration(v * 1e6) }},
	string(policy.Delay):      {words.PaysDelay, func(v float64) any { return time.Duration(v * 1e6) }},
}

type paying struct {
	*words.Row
	value func(float64) any
}

// payment returns what got worse most.
func payment(a, b *TrafficFigures) (worst Payment) {
	worse := func(metric policy.Metric, unit string, without, with, harm float64) {
		if harm > worst.harm {
			worst = Payment{Metric: string(metric), Without: round(without, 4), With: round(with, 4), Unit: unit, harm: harm}
		}
	}
	if a.MOS != nil && b.MOS != nil && *a.MOS-*b.MOS > paysMOS {
		worse(policy.MOS, "mos", *a.MOS, *b.MOS, (*a.MOS-*b.MOS)/3.5+1) // a call before all else
	}
	if !b.OverTCP && b.Loss-a.Loss > paysLoss {
		worse(policy.Loss, "%", 100*a.Loss, 100*b.Loss, b.Loss-a.Loss)
	}
	slower := func(metric policy.Metric, x, y *float64, weight float64) {
		if x != nil && y != nil && *y-*x > paysDelay && *y > *x*(1+paysTime) {
			worse(metric, "ms", *x, *y, weight*(1 - *x / *y))
		}
	}
	p99 := func(d *Milliseconds) *float64 {
		if d == nil {
			return nil
		}
		return &d.P99
	}
	if a.TCP != nil && b.TCP != nil {
		if x, y := float64(a.TCP.GoodputBps), float64(b.TCP.GoodputBps); a.TCP.Begun == 0 && y < x*(1-paysRate) {
			worse(policy.Goodput, "bit/s", x, y, 1-y/x)
		}
		if x, y := a.TCP.Completion, b.TCP.Completion; x != nil && y != nil {
			slower(policy.Completion, &x.P95, &y.P95, 1)
		}
	} else if !b.OverTCP {
		slower(policy.Delay, p99(a.Delay), p99(b.Delay), 0.3)
	}
	return worst
}
