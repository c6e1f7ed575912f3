package measure

import (
	"time"

	"imbrel.example/imbrel/core/bound"
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/traffic"
	"imbrel.example/imbrel/core/words"
)

// A Result is what a rehearsal measured. Its JSON form is a contract: fields
// may be added, never renamed.
type Result struct {
	Imbrel     int     `json:"imbrel"`
	Rehearsal  string  `json:"rehearsal"`
	Title      string  `json:"title,omitempty"`
	Seed       uint64  `json:"seed"`
	FileHash   string  `json:"file_hash,omitempty"` // of the resolved file: equal for files that mean the same
	Version    string  `json:"version,omitempty"`   // of the program
	Shard      *Shard  `json:"shard,omitempty"`     // of a run in one of several parts of a repeat
	DurationS  float64 `json:"duration_s"`          // that is measured
	WarmUpS    float64 `json:"warm_up_s,omitempty"` // before it
	Policy     bool    `json:"policy"`
	Incomplete bool    `json:"incomplete,omitempty"` // interrupted: all of this is of the first DurationS
	Verdict    string  `json:"verdict"`              // "pass", "fail", or "none": nothing was expected
	// Bounds are the proven bounds of the traffic; nil where none were asked for.
	Bounds    *bound.Result `json:"bounds,omitempty"`
	Warnings  []Warning     `json:"warnings"`
	NotJudged []NotJudged   `json:"not_judged,omitempty"`
	// WhoPays is, of a run with the policies next to one without, what got worse: the worst first. Nil: there was no other run.
	WhoPays      []Payment     `json:"who_pays,omitzero"`
	Elsewhere    int           `json:"expectations_elsewhere,omitempty"` // at a gate: expectations that need both ends, or another place
	Expectations []Outcome     `json:"expectations"`
	Breaks       []Break       `json:"breaks,omitempty"` // where there is a ramp
	Events       []EventResult `json:"events,omitempty"`
	Interfaces   []Interface   `json:"interfaces"`
	Links        []Link        `json:"links"`
	Contracts    []ContractUse `json:"contracts,omitempty"`
	Admissions   []Admission   `json:"admissions,omitempty"`
	Oversize     []Oversize    `json:"too_large,omitempty"` // packets longer than the interface sends that they were to leave by
	Traffic      []Row         `json:"traffic"`
	Classes      []ClassResult `json:"classes"`
	Captures     []Capture     `json:"captures,omitempty"`
	Hops         []HopRow      `json:"hops,omitempty"`   // where it was asked for
	Series       *Series       `json:"series,omitempty"` // where it was asked for

	idle []idle
}

// A Shard is one part of the repeats of a rehearsal, counted from 1.
type Shard struct {
	Part    int `json:"part"`
	Of      int `json:"of"`
	Repeats int `json:"repeats"` // of all parts together
}

// An Outcome is an expectation, what was measured, and whether it holds.
type Outcome struct {
	Text     string   `json:"text"`
	Phase    string   `json:"phase,omitempty"`                   // "during hut/radio 6Mbit/s": it holds over the whole time, and is measured there, where it fails
	Measured *float64 `json:"measured"`                          // nil: nothing to measure
	Whole    *float64 `json:"measured_over_the_whole,omitempty"` // with Phase: over the whole time
	// Above says that the true figure is higher than Measured, since a request or transfer did not end.
	Above  bool       `json:"measured_is_above,omitempty"`
	Unit   string     `json:"unit"`
	Limit  float64    `json:"limit"`        // what it is compared with, in the same unit
	Of     string     `json:"of,omitempty"` // the traffic that it was judged by: the worst
	Holds  bool       `json:"holds"`
	Reason words.Fact `json:"reason,omitzero"` // why there was nothing to measure
	Why    *Why       `json:"why,omitempty"`   // where and why it failed

	e *policy.Expectation
}

// Title names the expectation, with the phase of an event in which it is measured.
func (o *Outcome) Title() string {
	if o.Phase == "" {
		return o.Text
	}
	return o.Text + " " + o.Phase
}

// OverTheWhole returns the figure of the whole rehearsal, or nil.
func (o *Outcome) OverTheWhole() *float64 {
	if o.Phase != "" {
		return o.Whole
	}
	return o.Measured
}

// Expectation returns what was expected.
func (o *Outcome) Expectation() *policy.Expectation { return o.e }

// A Place is where packets wait or are dropped: an interface in a direction, or the
// carrier after an interface.
type Place struct {
	Interface *policy.Interface
	Direction policy.Direction
	Carrier   bool
	Link      bool       // with Carrier: on the way after it, where nothing queues
	Ring      bool       // with Carrier: the FIFO of the hardware, behind the queues of the policy
	Plan      *plan.Plan // in force there, or before the carrier; nil: none
}

// Words names the place.
func (p *Place) Words() string {
	if p.Ring {
		return "the ring of " + p.Interface.Path()
	}
	if p.Link {
		return "the link from " + p.Interface.Path()
	}
	if p.Carrier {
		return "the carrier of " + p.Interface.Path()
	}
	return p.Interface.Path() + " " + p.Direction.String()
}

// At gives an interface's result its place.
func (i *Interface) At(p Place) { i.place = p }

// At gives a link's result its place.
func (l *Link) At(p Place) { l.place = p }

// An Interface is what one interface did in one direction.
type Interface struct {
	Node      string `json:"node"`
	Interface string `json:"interface"`
	Direction string `json:"direction"`
	PolicyAt  string `json:"policy_name,omitempty"`
	// FromS and UntilS are when an event put the policy in force, and when one took it out of force; 0: at the start, and at the end.
	FromS  float64 `json:"policy_from_s,omitempty"`
	UntilS float64 `json:"policy_until_s,omitempty"`
	// LostOutside is how many frames of a gate the machine lost at the interface: nobody knows of which class.
	LostOutside uint64  `json:"lost_outside,omitempty"`
	RateBps     int64   `json:"rate_bps"`
	SentBps     int64   `json:"sent_bps"`
	Classes     []Class `json:"classes"`

	place Place
}

// A Class is what one interface did with the packets of one class. Bytes and
// rates are as the interface counts.
type Class struct {
	Class          string            `json:"class"`
	OfferedPackets uint64            `json:"offered_packets"`
	SentPackets    uint64            `json:"sent_packets"`
	OfferedBytes   uint64            `json:"offered_bytes"`
	SentBytes      uint64            `json:"sent_bytes"`
	OfferedBps     int64             `json:"offered_bps"`
	SentBps        int64             `json:"sent_bps"`
	PromisedBps    *int64            `json:"promised_bps,omitempty"`
	PerInstance    bool              `json:"per_instance,omitempty"` // PromisedBps is what one instance gets of all that it may
	Drops          Drops             `json:"drops"`
	Colors         *Colors           `json:"colors,omitempty"`            // where there is a meter
	TooLarge       uint64            `json:"larger_than_burst,omitempty"` // packets that no bucket of the meter holds: always red
	Congested      uint64            `json:"ecn_marked,omitempty"`
	Marks          map[string]uint64 `json:"marks"`         // packets sent, by DSCP
	PCPs           map[string]uint64 `json:"pcp,omitempty"` // the same of frames with a VLAN tag, as they leave
	TCs            map[string]uint64 `json:"tc,omitempty"`  // the same of frames with a label
	MaxQueueBytes  int64             `json:"max_queue_bytes"`
	Instances      *Instances        `json:"instances,omitempty"` // of an entry with `each`
	When           *Presence         `json:"when,omitempty"`      // of an entry with `when`
	Limits         []LimitPresence   `json:"limits,omitempty"`    // of limits with `when`
	Fullness       []Fullness        `json:"fullness,omitempty"`  // of its policer and its ceiling
	QueueDelay     *Milliseconds     `json:"queue_delay_ms"`

	seen *Seen
}

// Seen is what a data path did with the packets of one entry, or of one class in a
// plain FIFO, and what a verdict needs to know of it beyond a Class.
type Seen struct {
	Entry   *plan.Entry // nil: of a plain FIFO where no policy is attached
	Slot    int32
	Windows []Figures // the whole time first, then those of Windows
	// How many bytes a bucket of the policer's rate, and a queue that is emptied at the
	// promise, would have held at most: with as much no packet is red, or dropped. 0: not
	// known.
	BurstNeeded, QueueNeeded int64
	ActiveBps                int64 // offered, over the time from its first packet to its last
	// Of an entry with instances, BurstNeeded and ActiveBps are those of the instance with
	// this value, which had so many red packets.
	RedOf string
	Red   uint64
	// Steps are what happened in each step of the run, up to the last in which something did.
	StepLength time.Duration
	Steps      []StepFigures
	Active     []Active // when its limits with a `when`, and itself, were active
}

// StepFigures are what an entry did in one step of a run. Bytes are as the interface counts.
type StepFigures struct {
	Offered, Sent, Waiting float32 // Waiting: at the end
	Drops                  uint32
}

// Active is a time in which a limit, or an entry, with a `when` was active.
type Active struct {
	Limit    datapath.Limit
	From, To time.Duration
}

// Figures are what is counted in a window of time.
type Figures struct {
	OfferedPackets, SentPackets, Drops uint64
	OfferedBps, SentBps                int64
	MaxQueue                           int64
	Delay                              Distribution
	Marks                              map[codepoint.DSCP]uint64 // of packets that left
}

// See gives the class what the verdict needs.
func (c *Class) See(s *Seen) {
	c.seen = s
	c.QueueDelay = s.Windows[0].Delay.Summary()
}

// Fullness is how full a limit was: the rate of its fullest second.
type Fullness struct {
	Limit      string  `json:"limit"` // police or at-most
	RateBps    int64   `json:"rate_bps"`
	BusiestBps int64   `json:"busiest_bps"`
	Ratio      float64 `json:"ratio"`
	Of         string  `json:"of,omitempty"` // the instance that was fullest
}

// Presence is for how long an entry's `when` held, and how often it began to.
type Presence struct {
	HeldS float64 `json:"active_s"`
	Times int     `json:"times"`
}

// A LimitPresence is for how long a limit with a `when` was in force: an `at-most`,
// a `police` or a `block`.
type LimitPresence struct {
	Limit string `json:"limit"`
	Presence
}

// Instances are the separate instances of an entry: how many there were at most
// at a time, how many packets shared one because there were too many, and those
// that were offered most.
type Instances struct {
	Max    int        `json:"most"`
	Shared uint64     `json:"shared_packets"`
	Top    []Instance `json:"top"`
}

// An Instance is one of them.
type Instance struct {
	Value      string  `json:"value"`
	Offered    uint64  `json:"offered_packets"`
	Dropped    uint64  `json:"dropped_packets"`
	Bytes      uint64  `json:"offered_bytes"`
	OfferedBps int64   `json:"offered_bps"`
	SentBps    int64   `json:"sent_bps"`
	MeanMs     float64 `json:"mean_queue_delay_ms"`
	MaxMs      float64 `json:"max_queue_delay_ms"`
	BusiestBps int64   `json:"busiest_bps"` // of its fullest second
}

// Colors counts packets by what a meter said of them.
type Colors struct {
	Green  uint64 `json:"green"`
	Yellow uint64 `json:"yellow"`
	Red    uint64 `json:"red"`
}

// Drops counts dropped packets by reason.
type Drops struct {
	Policed   uint64 `json:"policed"`
	QueueFull uint64 `json:"queue_full"`
	Early     uint64 `json:"early"`
	Blocked   uint64 `json:"blocked"`
	Link      uint64 `json:"link,omitempty"`      // lost on a link, which no interface drops
	TooLarge  uint64 `json:"too_large,omitempty"` // longer than the interface sends
	TooOld    uint64 `json:"too_old,omitempty"`   // overtaken by more packets than a tunnel's replay window has
	Contract  uint64 `json:"contract,omitempty"`  // beyond what was bought of a carrier
}

// Total returns the drops of every reason.
func (d Drops) Total() uint64 {
	return d.Policed + d.QueueFull + d.Early + d.Blocked + d.Link + d.TooLarge + d.TooOld + d.Contract
}

// A DropCount is how many packets were dropped for a reason.
type DropCount struct {
	Reason  string
	Packets uint64
}

// Reasons returns the drops at an interface, by the reasons that there are.
func (d Drops) Reasons() []DropCount {
	return []DropCount{{"policed", d.Policed}, {"queue_full", d.QueueFull}, {"early", d.Early}, {"blocked", d.Blocked}}
}

// most returns the reason for which most packets were dropped.
func (d Drops) most() datapath.Reason {
	reason, most := datapath.Passed, uint64(0)
	for i, n := range []uint64{0, d.Policed, d.QueueFull, d.Early, d.Blocked} {
		if n > most {
			reason, most = datapath.Reason(i), n
		}
	}
	return reason
}

// An Oversize is what an interface did with packets that were longer than it sends.
type Oversize struct {
	At           string `json:"at"`
	MTUBytes     int    `json:"mtu_bytes"`     // that it sends at most: IP, labels and outer headers
	LongestBytes int    `json:"longest_bytes"` // that came
	Dropped      uint64 `json:"dropped"`
	Untold       uint64 `json:"untold"` // of those, whose sender got no word of it
	Fragmented   uint64 `json:"fragmented"`

	place Place
}

// Place gives it its place.
func (o *Oversize) Place(p Place) { o.place = p }

// A Link is what the carrier did in one direction.
type Link struct {
	From       string        `json:"from"`
	To         string        `json:"to"`
	SendsBps   int64         `json:"sends_bps"`
	CarriedBps int64         `json:"carried_bps"`
	Drops      uint64        `json:"drops"`
	Lost       uint64        `json:"lost,omitempty"` // on the link itself
	QueueDelay *Milliseconds `json:"queue_delay_ms"`
	Classes    []LinkClass   `json:"classes,omitempty"` // that came, by the first class that took each packet

	place Place
}

// An Admission is what became of the calls of a traffic that admits so many at once: of those that arrived after the warm-up.
type Admission struct {
	Traffic string  `json:"traffic"`
	Erlangs float64 `json:"erlangs"`
	Admit   int     `json:"admit"`
	Offered int     `json:"offered_calls"`
	Refused int     `json:"refused_calls"`
	ErlangB float64 `json:"erlang_b"` // the part that is refused on average, over a long time
}

// A LinkClass is what a carrier did with the packets of one class.
type LinkClass struct {
	Class      string `json:"class"`
	CarriedBps int64  `json:"carried_bps"`
	Drops      uint64 `json:"drops"`
}

// TrafficFigures is what packets met from end to end.
type TrafficFigures struct {
	OverTCP         bool          `json:"over_tcp,omitempty"` // a row of a traffic of TCP: what is lost of it is sent again
	SentPackets     int64         `json:"sent_packets"`
	ReceivedPackets int64         `json:"received_packets"`
	Loss            float64       `json:"loss"`           // Late ones are not in it
	Late            *float64      `json:"late,omitempty"` // of calls, the ratio of the packets that arrive that are too late to be played
	OfferedBps      int64         `json:"offered_bps"`    // IP bytes, as RateBps
	RateBps         int64         `json:"rate_bps"`
	OfferedPps      float64       `json:"offered_pps"` // packets a second
	RatePps         float64       `json:"rate_pps"`    // that arrived
	Delay           *Milliseconds `json:"delay_ms"`
	JitterMs        float64       `json:"jitter_ms"`
	MOS             *float64      `json:"mos,omitempty"`      // of the call with the lowest
	MOSMean         *float64      `json:"mos_mean,omitempty"` // of all its calls
	Dead            *int64        `json:"dead,omitempty"`     // of hellos, how often the receiver gave the sender up
	// TCP is what its TCP flows met, where the row is of the direction of their data. What
	// of it is lost is sent again: Retransmissions says how much.
	TCP *TCPFigures `json:"tcp,omitempty"`
}

// A Row is what one traffic met in one direction, by the first class that took its
// packets.
type Row struct {
	Name      string `json:"name"`
	Direction string `json:"direction"` // "forward" or "reverse"
	Class     string `json:"class"`
	TrafficFigures
}

// A ClassResult is what the packets of one class met, all traffic in all directions
// together. Classes overlap: a packet counts once for each class, at every level, of
// an entry that takes it on its way; a call counts whole.
type ClassResult struct {
	Class string `json:"class"`
	TrafficFigures
}

// A Capture is what a replayed capture held and how much was sent.
type Capture struct {
	Name      string `json:"name"`
	Packets   int64  `json:"packets"`
	Replayed  int64  `json:"replayed"`
	NotIP     int64  `json:"not_ip"`
	Control   int64  `json:"link_control,omitempty"` // neighbour discovery and what else only links need
	Malformed int64  `json:"malformed"`
	// NoRoute counts packets to an address in no subnet of the network, OtherWay
	// those to an address at the very interface that they were to enter by.
	NoRoute  int64 `json:"no_route"`
	OtherWay int64 `json:"other_way"`
	TCPLost  int64 `json:"tcp_lost,omitempty"` // packets of TCP that were sent and lost
	// ClosedLoop counts packets of TCP in place of which flows of as many bytes were at work.
	ClosedLoop int64 `json:"closed_loop,omitempty"`
	// Wild counts packets whose time was more than a day from that of the one before: they
	// were sent with it. NotRead is the part of the file that comes after the end of the
	// rehearsal. Skipped is what of the file could not be used.
	Wild    int64             `json:"wild_times,omitempty"`
	NotRead float64           `json:"not_read,omitempty"`
	Skipped []traffic.Skipped `json:"skipped,omitempty"`
}
