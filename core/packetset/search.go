package packetset

import (
	"fmt"
	"math"
	"slices"

	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
)

// A Taking is the packets that something takes: those of Takes that are not of Spares.
type Taking struct {
	Takes, Spares []Box
	By            *plan.Entry // that takes them, or nil

	id int // the same of all that take the same boxes
}

// Class returns what a class of the file of a number takes.
func (s *Space) Class(file int, c *policy.Class) Taking {
	return Taking{Takes: s.Conditions(file, c.Match), Spares: s.Conditions(file, c.Except)}
}

// takesAll reports whether the taking surely takes all of a box.
func (s *Space) takesAll(t *Taking, b *Box) bool {
	for i := range t.Spares {
		if t.Spares[i].meets(b) {
			return false
		}
	}
	for i := range t.Takes {
		if s.within(b, &t.Takes[i]) {
			return true
		}
	}
	return false
}

func (t *Taking) meets(b *Box) bool {
	for i := range t.Takes {
		if t.Takes[i].meets(b) {
			return true
		}
	}
	return false
}

// MaxPieces is into how many pieces one question may divide packets before it is given up,
// maxTotal into how many all questions of a space; a piece of many ranges, or one that is
// held against many others, counts as several. MaxEntries is how many entries a policy may
// have, and maxProducts how many boxes what is common to two lists.
const (
	MaxPieces   = 100_000
	MaxEntries  = 2_000
	maxTotal    = 2_000_000
	maxProducts = 100_000
	maxSummed   = 2_000 // pieces of what is summed up, where all are looked at
)

// A Search answers questions about what remains of some packets when others are taken away.
type Search struct {
	space   *Space
	pieces  int
	most    int // pieces
	tooMany bool
}

// Search returns a search that may look at MaxPieces pieces.
func (s *Space) Search() *Search { return &Search{space: s, most: MaxPieces} }

// GaveUp reports whether the search was given up: then nothing found says nothing.
func (f *Search) GaveUp() bool {
	return f.tooMany || f.pieces >= f.most || f.space.spent >= maxTotal
}

// Spent reports whether no question of the space is answered any more.
func (s *Space) Spent() bool { return s.spent >= maxTotal }

// spend notes what was looked at.
func (f *Search) spend(pieces int) {
	f.pieces += pieces
	f.space.spent += pieces
}

// Remains yields what remains of the box when what others take is taken away, in pieces that
// have nothing in common, as long as it returns true. It reports whether it went to the end.
func (f *Search) Remains(b Box, less []*Taking, yield func(Box) bool) bool {
	ranges := 0
	for _, s := range b {
		ranges += len(s)
	}
	if f.spend(1 + ranges/64 + len(less)/16); f.GaveUp() || !f.space.possible(&b) {
		return !f.GaveUp()
	}
	var left []*Taking
	for _, t := range less {
		switch {
		case f.space.takesAll(t, &b):
			return true
		case t.meets(&b):
			left = append(left, t)
		}
	}
	if len(left) == 0 {
		return yield(b)
	}
	t := left[0]
	return f.apart(b, t.Spares, func(spared Box) bool { // what it spares is not taken by it
		return f.Remains(spared, left[1:], yield)
	}, func(rest Box) bool {
		return f.apart(rest, t.Takes, func(Box) bool { return true }, func(rest Box) bool { return f.Remains(rest, left[1:], yield) })
	})
}

// apart divides a box into what is in one of others and what is in none.
func (f *Search) apart(b Box, others []Box, inside, outside func(Box) bool) bool {
	for i := range others {
		o := &others[i]
		if !o.meets(&b) {
			continue
		}
		for p := range b {
			if o[p] == nil {
				continue
			}
			if rest := b[p].without(o[p], f.space.most[p]); len(rest) > 0 {
				piece := b
				piece[p] = rest
				if f.spend(1); f.GaveUp() || !f.apart(piece, others[i+1:], inside, outside) {
					return false
				}
			}
			b[p] = b[p].and(o[p])
		}
		return inside(b)
	}
	return outside(b)
}

// Takes returns a box of what a taking takes of some boxes, what is taken before it left out,
// or false.
func (f *Search) Takes(t *Taking, of []Box, before []*Taking) (Box, bool) {
	both, ok := f.space.Both(of, t.Takes)
	if f.tooMany = f.tooMany || !ok; f.tooMany {
		return Box{}, false
	}
	return f.First(both, append(slices.Clip(before), &Taking{Takes: t.Spares}))
}

// Both returns the boxes of what is in one of some boxes and in one of others; false when
// they are too many.
func (s *Space) Both(some, others []Box) ([]Box, bool) {
	if len(some)*len(others) > maxProducts {
		return nil, false
	}
	var out []Box
	for i := range some {
		for j := range others {
			if b := some[i].and(&others[j]); s.possible(&b) {
				out = append(out, b)
			}
		}
	}
	s.spent += len(some) * len(others) / 16
	return out, true
}

// First returns a box of what remains of one of some boxes, or false.
func (f *Search) First(of []Box, less []*Taking) (found Box, ok bool) {
	if f.GaveUp() {
		return found, false
	}
	for i := range of {
		f.Remains(of[i], less, func(b Box) bool {
			found, ok = b, true
			return false
		})
		if ok || f.GaveUp() {
			break
		}
	}
	return found, ok
}

// Common returns a box of the packets that both of two entries take, or false.
func (f *Search) Common(a, b *Region) (Box, bool) {
	both, ok := f.space.Both(a.Of, b.Of)
	if f.tooMany = f.tooMany || !ok || a.TooMany || b.TooMany; f.tooMany || len(both) == 0 {
		return Box{}, false
	}
	return f.First(both, append(slices.Clip(b.Less), a.Less...))
}

// Share returns how much of a box remains, of the packets that can exist: each value of a
// property has the same weight, addresses within their version of IP. Of packets whose
// conversation is recognised by more than ports it takes no account: how many these are
// cannot be said.
func (f *Search) Share(b Box, less []*Taking) float64 {
	whole := f.space.weigh(&b)
	left := 0.0
	if whole == 0 {
		return math.NaN()
	}
	f.most = min(f.most, f.pieces+maxSummed)
	f.Remains(b, less, func(piece Box) bool {
		left += f.space.weigh(&piece)
		return true
	})
	if f.GaveUp() {
		return math.NaN()
	}
	return left / whole
}

// weigh returns the sum of a box's parts of each world.
func (s *Space) weigh(b *Box) (sum float64) {
	for i := range s.worlds {
		w := s.worlds[i]
		w[name], w[rtp] = setOf(policy.One(none)), setOf(policy.One(0))
		if !b.meets(&w) {
			continue
		}
		part := 1.0
		for p := range b {
			both := b[p].and(w[p])
			part *= s.size(p, both) / s.size(p, w[p])
		}
		sum += part
	}
	return sum
}

// size returns how many values of a property are in a set.
func (s *Space) size(p int, of set) (n float64) {
	if of == nil {
		of = set{{First: 0, Last: s.most[p]}}
	}
	for _, r := range of {
		if p != from && p != to {
			n += float64(r.Last-r.First) + 1
			continue
		}
		for i := r.First; i <= r.Last; i++ {
			n += s.width(i)
		}
	}
	return n
}

// width returns how many addresses an interval has.
func (s *Space) width(i uint32) float64 {
	if i == none {
		return 1
	}
	start := number(s.edges[i].AsSlice())
	if int(i)+1 < len(s.edges) && s.edges[i+1].BitLen() == s.edges[i].BitLen() {
		return number(s.edges[i+1].AsSlice()) - start
	}
	return math.Pow(2, float64(s.edges[i].BitLen())) - start
}

func number(bytes []byte) (n float64) {
	for _, b := range bytes {
		n = n*256 + float64(b)
	}
	return n
}

// A Region is the packets that an entry of a plan takes.
type Region struct {
	Entry   *plan.Entry
	Around  []Box     // the packets of the entry that contains it, by its conditions
	Of      []Box     // those of them for which its own conditions hold
	Less    []*Taking // what is taken away before and by exceptions
	TooMany bool      // Of has too many boxes, and is not given
}

// In returns a box of a region, or false.
func (f *Search) In(l *Region) (Box, bool) {
	if f.tooMany = f.tooMany || l.TooMany; f.tooMany {
		return Box{}, false
	}
	return f.First(l.Of, l.Less)
}

// number returns the number of a taking, the same for all of the same boxes.
func (s *Space) number(t *Taking) int {
	key := fmt.Sprint(t.Takes, t.Spares)
	if s.numbers == nil {
		s.numbers = make(map[string]int)
	}
	if _, known := s.numbers[key]; !known {
		s.numbers[key] = len(s.numbers) + 1
	}
	return s.numbers[key]
}

// Leaves reports whether one entry takes a packet that another does not; it may say so where
// that was not found out.
func (f *Search) Leaves(a, of *Region) bool {
	if a.TooMany || of.TooMany {
		return true
	}
	if _, some := f.First(a.Of, append(slices.Clip(a.Less), &Taking{Takes: of.Of})); some || f.GaveUp() {
		return true
	}
	same := make(map[int]bool, len(a.Less))
	for _, t := range a.Less {
		same[t.id] = true
	}
	for _, t := range of.Less {
		if same[t.id] {
			continue
		}
		if _, some := f.Takes(t, a.Of, a.Less); some || f.GaveUp() {
			return true
		}
	}
	return false
}

// Everything is the box of all packets.
var Everything = []Box{{}}

// Entries returns the packets of each entry of a plan, in its order: those of its class and
// of the entries around it, less what the entries before them take. inForce says which
// entries are there, and may be nil: all.
func (s *Space) Entries(file int, p *plan.Plan, inForce func(*plan.Entry) bool) []Region {
	out := make([]Region, len(p.Entries))
	known := make(map[*policy.Class]*Taking)
	class := func(c *policy.Class) *Taking {
		if known[c] == nil {
			t := s.Class(file, c)
			t.id = s.number(&t)
			known[c] = &t
		}
		return known[c]
	}
	var level func(entries []*plan.Entry, around Region)
	level = func(entries []*plan.Entry, around Region) {
		less := slices.Clip(around.Less) // what is appended is not shared
		for _, e := range entries {
			l := Region{Entry: e, Around: around.Of, Of: around.Of, Less: less, TooMany: around.TooMany}
			if inForce != nil && !inForce(e) {
				out[e.Number] = Region{Entry: e}
				level(e.Inner, Region{})
				continue
			}
			if e.Class != nil {
				t := class(e.Class)
				both, ok := s.Both(around.Of, t.Takes)
				l.Of, l.TooMany = both, l.TooMany || !ok
				if len(t.Spares) > 0 {
					l.Less = append(slices.Clip(less), &Taking{Takes: t.Spares, id: -t.id})
				}
				less = append(less, &Taking{t.Takes, t.Spares, e, t.id})
			} else { // of two with the rest, one has a time
				less = append(less, &Taking{Takes: Everything, By: e})
			}
			out[e.Number] = l
			level(e.Inner, l)
		}
	}
	if len(p.Entries) > MaxEntries {
		for i, e := range p.Entries {
			out[i] = Region{Entry: e, TooMany: true}
		}
		return out
	}
	level(p.Top, Region{Of: Everything})
	return out
}
