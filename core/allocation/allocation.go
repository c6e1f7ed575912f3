// Package allocation says what the classes of every policy get: each alone, all when
// all are busy, and when only some are.
package allocation

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/fluid"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// A Class is what one entry of a policy gets.
type Class struct {
	Class  string `json:"class"`
	Parent string `json:"parent"` // "" at the top
	Alone  int64  `json:"alone_bps"`
	// Promised is what it can count on, AllBusy what it gets when everybody wants
	// everything: the same, unless a priority without a bound takes all there is.
	Promised int64 `json:"promised_bps"`
	AllBusy  int64 `json:"all_busy_bps"`
	Gets     int64 `json:"gets_bps"` // with what was asked for; all busy when nothing was
	// Reserved is what it is promised before anything is divided: its at-least, or the
	// bound of its priority. Extra is what it gets beyond Promised.
	Reserved int64 `json:"reserved_bps"`
	Extra    int64 `json:"extra_bps"`
	Priority int   `json:"priority,omitempty"`
	// Unbounded says that its priority has no bound of its own: it can take all.
	Unbounded bool `json:"unbounded,omitempty"`
	// Each is by what the class has instances, EachBps what one of them never
	// exceeds. The classes within it are those of one that gets as much.
	Each    []string `json:"each,omitempty"`
	EachBps int64    `json:"each_bps,omitempty"`
	// Calls is how many calls fit in Promised, of the codec that was asked for. TakesCalls says that the class is for calls: it
	// has priority, or its policer is written in calls.
	Calls      int64 `json:"calls"`
	TakesCalls bool  `json:"takes_calls,omitempty"`
	// LongestWait bounds how long a packet waits in a full queue when all are busy, in ms; nil for a class
	// with others within it, one with instances or within one, one that is promised nothing, and one
	// after a priority without a bound. It reckons with the interface's LargestPacket.
	LongestWait *float64 `json:"longest_wait_ms"`
	// BelowPromiseWait bounds it while the class sends no more than its promise, each packet after the time that
	// the last one takes at it, in ms; nil as LongestWait. It is for packets of Packet bytes.
	BelowPromiseWait *float64 `json:"below_promise_wait_ms"`
	// Packet is the largest that the file's rehearsals send into the class, as the interface
	// counts; the largest of all where they send none into it.
	Packet int64 `json:"packet_bytes"`
	// PolicedBy is the class around it whose policer drops before its classes count, so that
	// they are promised nothing.
	PolicedBy string `json:"policed_by,omitempty"`
	// When says when it is in force; its figures are for that time. Never says that an entry around it is not in
	// force at that time. Sometimes lists its limits that come and go, which the figures leave out.
	When      string   `json:"when,omitempty"`
	Never     bool     `json:"never,omitempty"`
	Sometimes []string `json:"sometimes,omitempty"`
}

// A Time is what the classes that are in force get while the named times of When hold, and no others.
type Time struct {
	When    []string    `json:"when"`
	Classes []TimeClass `json:"classes"`
}

// A TimeClass is what a class gets at a time. Number is its place among the interface's classes.
type TimeClass struct {
	Number   int    `json:"number"`
	Class    string `json:"class"`
	Promised int64  `json:"promised_bps"`
	AllBusy  int64  `json:"all_busy_bps"`
	Gets     int64  `json:"gets_bps"`
}

// An Interface is where a policy is in force.
type Interface struct {
	Node      string `json:"node"`
	Interface string `json:"interface"`
	Direction string `json:"direction"`
	Policy    string `json:"policy"`
	Rate      int64  `json:"rate_bps"` // what there is to share
	Reserved  int64  `json:"reserved_bps"`
	// LargestPacket is the largest that the file's rehearsals send there, and no less than
	// 1,500 bytes of IP, as the interface counts.
	LargestPacket int64      `json:"largest_packet_bytes"`
	Classes       []Class    `json:"classes"`
	Times         []Time     `json:"times,omitempty"` // where classes are in force at named times
	Note          words.Fact `json:"note,omitzero"`   // why nothing of this is kept
}

// Packets are how large the packets are that a file's rehearsals send into entries of plans, as the
// interfaces count.
type Packets map[Into]unit.Size

// Into is an entry by the place of its plan and its number there; All is every entry of the plan.
type Into struct {
	Where  string
	Number int
}

// All is the number of every entry of a plan together.
const All = -1

// Add notes a packet that goes into an entry.
func (p Packets) Add(q *plan.Plan, e *plan.Entry, size unit.Size) {
	for _, n := range []int{e.Number, All} {
		k := Into{q.Where(), n}
		p[k] = max(p[k], size)
	}
}

// A Result is the shares of every policy attached in a file.
type Result struct {
	Codec      string      `json:"codec"` // of Calls
	Interfaces []Interface `json:"interfaces"`
}

// A Wish is what a class wants: a rate, or all it can get.
type Wish struct {
	Class string // "voice", or with those around it "sales/voice"; "rest" is the outermost
	Rate  unit.Rate
	All   bool
}

// Compute returns the shares of every attachment, in calls of a codec. With wishes,
// Gets is for when only those classes send, as much as they wish. Packets may be nil; the waits
// reckon with its sizes and with full packets. An error names a wish for a class that no
// attached policy has.
func Compute(f *policy.File, wishes []Wish, calls codec.Codec, packets Packets) (*Result, error) {
	r := &Result{Codec: calls.Name, Interfaces: []Interface{}}
	known := make([]bool, len(wishes))
	names := make(map[string]bool)
	for i := range f.Attach {
		p := plan.Attached(&f.Attach[i])
		r.Interfaces = append(r.Interfaces, compute(p, wishes, calls, packets))
		for _, e := range p.Entries {
			names[e.Name] = true
			for j, w := range wishes {
				known[j] = known[j] || meant(e, w.Class)
			}
		}
	}
	for j, w := range wishes {
		if !known[j] {
			var all []string
			for n := range names {
				all = append(all, n)
			}
			slices.Sort(all)
			return nil, fmt.Errorf("no attached policy treats a class `%s`; %sthere are: %s", w.Class, policy.DidYouMean(w.Class, all), strings.Join(all[:min(len(all), 40)], ", "))
		}
	}
	return r, nil
}

// meant reports whether an entry is meant by a class's name: its own at any level,
// or with the classes around it. The rest alone is the outermost.
func meant(e *plan.Entry, class string) bool {
	if class == policy.Rest {
		return e.Name == class
	}
	return e.Name == class || strings.HasSuffix(e.Name, "/"+class) && !strings.Contains(class, "/")
}

func compute(p *plan.Plan, wishes []Wish, calls codec.Codec, packets Packets) Interface {
	out := Interface{Node: p.Interface.Node.Name, Interface: p.Interface.Name, Direction: p.Direction.String(), Policy: p.Policy.Name,
		Rate: int64(p.Whole), LargestPacket: int64(max(p.MaxPacket, packets[Into{p.Where(), All}])), Note: p.NotKept()}
	dates := calendarOf(p)
	all := dates.situations(p)
	allBusy := func(wanted func(*plan.Entry) bool) []unit.Rate {
		return Allocate(p, func(e *plan.Entry) unit.Rate {
			if wanted(e) {
				return fluid.Greedy
			}
			return 0
		})
	}
	wished := allBusy
	if len(wishes) > 0 {
		wished = func(wanted func(*plan.Entry) bool) []unit.Rate { return allocate(p, wishes, wanted) }
	}
	busy, seen := least(all, allBusy)
	gets, _ := least(all, wished)
	reserved := make(map[string]int64) // by the classes at the top: alternatives count once
	perCall := calls.Rate(p.Framing.Size(calls.Length(false), 0))
	most := alone(p)
	for i, e := range p.Entries {
		c := Class{Class: e.Name, Alone: int64(most[i]), Promised: int64(e.Promise), AllBusy: int64(busy[i]), Gets: int64(gets[i]), Priority: e.Priority,
			Extra: lent(gets[i], e.Promise, p.Whole), Never: !seen[i] && dates.whole}
		if p.Kept() {
			c.Calls, c.TakesCalls = int64(e.Promise/perCall), e.Priority > 0 || e.Spec.Police != nil && e.Spec.Police.Calls > 0
		}
		if e.Policed != nil {
			c.PolicedBy = e.Policed.Name
		}
		full := unit.Size(out.LargestPacket)
		own := full
		if n := packets[Into{p.Where(), e.Number}]; n > 0 {
			own = n
		}
		c.Packet = int64(own)
		if e.Parent != nil {
			c.Parent = e.Parent.Name
		}
		if c.Each = e.Each.Words(); len(c.Each) > 0 && e.Ceiling < p.Whole {
			c.EachBps = int64(e.Ceiling)
		}
		switch {
		case e.Priority == 0:
			if c.Reserved = int64(e.AtLeast); e.Policed != nil {
				c.Reserved = 0
			}
		case e.Bounded:
			c.Reserved = int64(e.Promise)
		default:
			c.Unbounded = !e.Block
		}
		if e.Parent == nil && c.Reserved > reserved[e.Name] {
			out.Reserved += c.Reserved - reserved[e.Name]
			reserved[e.Name] = c.Reserved
		}
		if wait, ok := longestWait(p, e, full); ok {
			c.LongestWait = milliseconds(wait)
		}
		if wait, ok := BelowPromise(p, e, own, full); ok {
			c.BelowPromiseWait = milliseconds(wait)
		}
		if e.When != nil {
			c.When = e.When.Spec.Words()
		}
		c.Sometimes = sometimes(e)
		out.Classes = append(out.Classes, c)
	}
	out.Times = dates.byTime(p, all, allBusy, wished)
	return out
}

// byTime lists what each entry in force gets at each of the named times.
func (c *calendar) byTime(p *plan.Plan, all []situation, allBusy, wished func(func(*plan.Entry) bool) []unit.Rate) []Time {
	var out []Time
	for len(all) > 0 && len(c.times) > 0 {
		n := 1
		for n < len(all) && all[n].times == all[0].times {
			n++
		}
		busy, seen := least(all[:n], allBusy)
		gets, _ := least(all[:n], wished)
		t := Time{When: c.names(all[0].times)}
		for i, e := range p.Entries {
			if seen[i] {
				t.Classes = append(t.Classes, TimeClass{i, e.Name, int64(e.Promise), int64(busy[i]), int64(gets[i])})
			}
		}
		out, all = append(out, t), all[n:]
	}
	return out
}

// milliseconds returns a time in ms.
func milliseconds(d time.Duration) *float64 {
	ms := float64(d) / 1e6
	return &ms
}

// sometimes lists the limits of an entry that have a `when`.
func sometimes(e *plan.Entry) []string {
	var out []string
	say := func(w *plan.When, limit string) {
		if w != nil {
			out = append(out, limit+" while "+w.Spec.Words())
		}
	}
	if m := e.AtMost; m != nil {
		say(m.When, "at most "+m.Rate.String())
	}
	if m := e.Meter; m != nil {
		say(m.When, "policed at "+m.Rate.String())
	}
	say(e.BlockWhen, "blocked")
	return out
}

// lent returns what an entry gets beyond its promise. Less than a ten-thousandth of
// the whole is what rates are rounded by, and nothing.
func lent(gets, promise, whole unit.Rate) int64 {
	if more := gets - promise; more > whole/10_000 {
		return int64(more)
	}
	return 0
}

// Allocate returns what each entry of a plan gets, by its number, when the entries
// with nothing within them want what wants says.
func Allocate(p *plan.Plan, wants func(*plan.Entry) unit.Rate) []unit.Rate {
	t := &tree{gets: make([]*fluid.Entry, len(p.Entries)), wants: wants}
	return t.divide(p)
}

// allocate does so for wishes of the entries in force: what a class with others
// within it wants, these want together.
func allocate(p *plan.Plan, wishes []Wish, inForce func(*plan.Entry) bool) []unit.Rate {
	want := make([]unit.Rate, len(p.Entries))
	limit := make([]unit.Rate, len(p.Entries)) // of an entry with others within it
	for i, e := range p.Entries {
		limit[i] = -1
		for _, w := range wishes {
			if !meant(e, w.Class) {
				continue
			}
			rate := w.Rate
			if w.All {
				rate = fluid.Greedy
			}
			if e.Leaf() {
				want[i] = min(want[i]+rate, fluid.Greedy)
				continue
			}
			limit[i] = min(max(limit[i], 0)+rate, fluid.Greedy)
			for _, o := range p.Entries {
				if o.Leaf() && o.IsWithin(e) {
					want[o.Number] = fluid.Greedy
				}
			}
		}
	}
	t := &tree{gets: make([]*fluid.Entry, len(p.Entries)), limit: limit, wants: func(e *plan.Entry) unit.Rate {
		if inForce(e) {
			return want[e.Number]
		}
		return 0
	}}
	return t.divide(p)
}

// A tree is the fluid tree of a plan.
type tree struct {
	gets  []*fluid.Entry // by the plan's numbers
	wants func(*plan.Entry) unit.Rate
	limit []unit.Rate // what an entry with others within it wants at most; negative: anything
}

func (t *tree) grow(parent *fluid.Entry, entries []*plan.Entry, around unit.Rate) {
	for _, e := range entries {
		n := &fluid.Entry{Priority: e.Priority, Weight: e.Weight}
		t.gets[e.Number] = n
		if e.Priority == 0 {
			n.Guarantee = e.Part
		}
		if e.Ceiling < around && !e.Together() {
			n.Ceiling = e.Ceiling
		}
		parent.Children = append(parent.Children, n)
		switch {
		case e.Block:
		case e.Leaf():
			n.Demand = t.wants(e)
		case e.Each != 0: // of one that gets all it may
			inside := &fluid.Entry{}
			t.grow(inside, e.Inner, e.Ceiling)
			fluid.Allocate(inside, e.Ceiling)
			n.Demand = inside.Wants()
		default:
			t.grow(n, e.Inner, e.Ceiling)
		}
		if t.limit != nil && t.limit[e.Number] >= 0 {
			n.Ceiling = max(1, t.limit[e.Number])
			if around := e.Ceiling; !e.Together() {
				n.Ceiling = min(n.Ceiling, around)
			}
		}
	}
}

// divide returns what each entry gets of the whole. Within an entry whose policer must drop, none can count on
// anything once two of them send: which packets it drops depends on what the others send.
func (t *tree) divide(p *plan.Plan) []unit.Rate {
	root := &fluid.Entry{}
	t.grow(root, p.Top, p.Whole)
	fluid.Allocate(root, p.Whole)
	out := make([]unit.Rate, len(t.gets))
	for i, n := range t.gets {
		out[i] = n.Gets
	}
	for i, e := range p.Entries {
		if e.Policed != nil && t.contested(p, e.Policed) {
			out[i] = 0
		}
	}
	return out
}

// contested reports whether the entries within another want together more than its policer lets pass.
func (t *tree) contested(p *plan.Plan, around *plan.Entry) bool {
	senders, wanted := 0, unit.Rate(0)
	for _, e := range p.Entries[around.Number+1:] {
		if !e.IsWithin(around) {
			break
		}
		if d := t.gets[e.Number].Demand; e.Leaf() && d > 0 {
			senders, wanted = senders+1, min(wanted+d, fluid.Greedy)
		}
	}
	bound, _ := around.Meter.Bound()
	return senders > 1 && wanted > bound
}

// alone lists what each entry gets when nothing outside it wants anything: what
// its limits and those around it leave, as far as something within it wants it.
func alone(p *plan.Plan) []unit.Rate {
	out := make([]unit.Rate, len(p.Entries))
	for i := len(p.Entries) - 1; i >= 0; i-- { // what is within an entry before it
		e := p.Entries[i]
		around := p.Whole
		if e.Parent != nil {
			around = e.Parent.Ceiling
		}
		switch {
		case e.Block:
			continue
		case e.Leaf():
			out[i] = e.Ceiling
		default:
			out[i] = min(out[i], e.Ceiling)
		}
		if e.Together() && out[i] > 0 {
			out[i] = around // of as many as it takes
		}
		if e.Parent != nil {
			out[e.Parent.Number] = min(out[e.Parent.Number]+out[i], p.Whole)
		}
	}
	return out
}
