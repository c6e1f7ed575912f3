package policy

import (
	"fmt"
	"strings"
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/unit"
)

// A Policy is an ordered list of entries and the rate they share.
type Policy struct {
	Source
	Name  string
	Shape unit.Share // zero: what the interface really carries; a percentage is of that
	Burst ShapeBurst
	Treat []Entry
	// Follows says that the device learns what the link carries, and that the shape follows it after FollowsAfter.
	Follows      bool
	FollowsAfter time.Duration
}

// ShapeBurst is what a shaper may send at once, at the rate of the interface, when it has sent less than its rate before. At most one of the two
// is set; the zero ShapeBurst is one packet.
type ShapeBurst struct {
	Time  time.Duration // at the rate of the shape
	Bytes unit.Size
}

// Of returns the burst in bytes.
func (b ShapeBurst) Of(shape unit.Rate) unit.Size { return max(b.Bytes, shape.Bytes(b.Time)) }

// An Entry is what a policy does with one class.
type Entry struct {
	Source
	ClassName Ref
	Class     *Class // nil for the rest
	Mark      *Mark
	Priority  int // 0: none; 1 is the most urgent, MaxPriority the least
	Police    *Police
	AtLeast   unit.Share
	AtMost    *Ceiling
	Weight    int // 0: not given
	Queue     Queue
	Each      Each
	When      *When // nil: always in force
	Block     bool
	BlockWhen *When // with Block, nil: always
	Treat     []Entry
	Inside    Ref     // or the policy whose entries are within this one
	Within    *Policy // what Inside names
}

// MaxPriority is the least urgent priority.
const MaxPriority = 16

// Inner returns the entries within this one.
func (e *Entry) Inner() []Entry {
	if e.Within != nil {
		return e.Within.Treat
	}
	return e.Treat
}

// A Mark is what a packet is marked with: at each layer a value or nothing.
type Mark struct {
	Source
	DSCP       *codepoint.DSCP
	Precedence *uint8 // the upper three bits of the DSCP; the lower stay
	PCP, TC    *uint8
	DEI        *bool
	MapName    Ref
	Map        *MarkTable // of DSCPs
}

// A Ceiling is an at-most: the entry waits rather than send faster.
type Ceiling struct {
	Source
	Rate  unit.Share
	Burst *Burst // above Rate, for a while
	When  *When  // nil: always in force
}

// A Burst lets an entry go above its at-most up to To for a time.
type Burst struct {
	Source
	To  unit.Share
	For time.Duration
}

// A Police is a meter and what is done with each colour. Its fields say which
// meter it is: see Kind.
type Police struct {
	Source
	Rate      unit.Share
	Burst     unit.Size
	Calls     int // in place of Rate and Burst: those of so many calls of Codec
	Codec     codec.Codec
	IPv6      bool       // of the calls
	Excess    unit.Size  // of the second bucket
	Peak      unit.Share // of the second bucket
	PeakBurst unit.Size
	Aware     bool // of the colour packets arrive with
	Green     Action
	Yellow    Action
	Red       Action
	When      *When // nil: always in force
}

// A MeterKind is the rule by which a policer colours packets.
type MeterKind uint8

// The kinds of meters.
const (
	OneBucket     MeterKind = iota // a rate and a burst: green or red
	SingleRate                     // and an excess burst: RFC 2697
	TwoRate                        // a peak and its burst: RFC 2698
	TwoRateExcess                  // a peak and an excess burst: RFC 4115
)

// Kind returns the kind of meter that the policer's fields describe.
func (p *Police) Kind() MeterKind {
	switch {
	case !p.Peak.IsZero() && p.PeakBurst > 0:
		return TwoRate
	case !p.Peak.IsZero() && p.Excess > 0:
		return TwoRateExcess
	case p.Excess > 0:
		return SingleRate
	}
	return OneBucket
}

// An Action is what is done with the packets of a colour. The zero Action
// passes them on.
type Action struct {
	Source
	Drop bool
	Mark *Mark
}

// A When says when an entry or a limit is in force: in a named time, or under
// pressure.
type When struct {
	Source
	TimeName     Ref
	Time         *Span    // nil: under pressure
	Starts, Ends Pressure // of the load of the interface
}

// Words returns what it asks for.
func (w *When) Words() string {
	if w.Time != nil {
		return "the time is `" + w.Time.Name + "`"
	}
	return fmt.Sprintf("the load has reached %s for %s, until it is below %s for %s",
		w.Starts.Load, unit.FormatDuration(w.Starts.For), w.Ends.Load, unit.FormatDuration(w.Ends.For))
}

// A Pressure is a load of the interface that lasts.
type Pressure struct {
	Source
	Load unit.Share
	For  time.Duration
}

// A Queue is how much may wait, and what is dropped; at most one of the limits is
// set.
type Queue struct {
	Source
	Time    time.Duration
	Bytes   unit.Size
	Packets int
	Drop    Dropper
	ECN     bool
	RED     REDNumbers
}

// REDNumbers are those of a RED queue; what is zero is as usual.
type REDNumbers struct {
	From, To    *Queue  // limits, of the average queue: where dropping begins, and where its probability is reached
	Probability float64 // there
	Weight      float64 // of the newest sample in the average
}

// A Dropper is what a queue drops, and when.
type Dropper uint8

// The droppers. TailDrop is the zero Dropper.
const (
	TailDrop Dropper = iota
	RED
	CoDel
	FQCoDel
	PIE
)

// A DropperRow holds what all queues with one dropper have in common.
type DropperRow struct {
	Name string // as the file has it
	Fair bool   // it divides its rate between its flows
}

var droppers = [...]DropperRow{
	TailDrop: {Name: "tail"},
	RED:      {Name: "red"},
	CoDel:    {Name: "codel"},
	FQCoDel:  {Name: "fq-codel", Fair: true},
	PIE:      {Name: "pie"},
}

// Droppers returns the names of all droppers, in their order.
func Droppers() []string {
	var names []string
	for _, d := range droppers {
		names = append(names, d.Name)
	}
	return names
}

// Row returns what all queues with the dropper have in common.
func (d Dropper) Row() *DropperRow { return &droppers[d] }

func (d Dropper) String() string { return d.Row().Name }

// Each is by what an entry has separate instances: a set. The zero Each has none.
type Each uint8

// What the packets of one instance have in common.
const (
	BySource Each = 1 << iota
	ByDestination
	ByFlow
	ByVLAN
	ByInterface
)

// EachWords are the words of `each`, in the order of the bits.
func EachWords() []string { return []string{"source", "destination", "flow", "vlan", "interface"} }

// Words returns the words of the set.
func (e Each) Words() []string {
	var words []string
	for i, w := range EachWords() {
		if e&(1<<i) != 0 {
			words = append(words, w)
		}
	}
	return words
}

// String joins the words: "source and vlan".
func (e Each) String() string { return strings.Join(e.Words(), " and ") }
