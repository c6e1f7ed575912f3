package measure

// A Result is what a rehearsal measured. Its JSON form is a contract: fields
// may be added, never renamed.
type Result struct {
	Imbrel       int           `json:"imbrel"`
	Rehearsal    string        `json:"rehearsal"`
	Title        string        `json:"title,omitempty"`
	Seed         uint64        `json:"seed"`
	DurationS    float64       `json:"duration_s"`
	Policy       bool          `json:"policy"`
	Verdict      string        `json:"verdict"` // "pass" or "fail"
	Expectations []Outcome     `json:"expectations"`
	Interfaces   []Interface   `json:"interfaces"`
	Links        []Link        `json:"links"`
	Traffic      []Row         `json:"traffic"`
	Classes      []ClassResult `json:"classes"`
	Captures     []Capture     `json:"captures,omitempty"`
}

// An Outcome is an expectation, what was measured, and whether it holds.
type Outcome struct {
	Text     string   `json:"text"`
	Measured *float64 `json:"measured"` // nil: nothing to measure
	Unit     string   `json:"unit"`
	Holds    bool     `json:"holds"`
	Reason   string   `json:"reason,omitempty"`
}

// An Interface is what one interface did in one direction.
type Interface struct {
	Node      string  `json:"node"`
	Interface string  `json:"interface"`
	Direction string  `json:"direction"`
	PolicyAt  string  `json:"policy_name,omitempty"`
	RateBps   int64   `json:"rate_bps"`
	SentBps   int64   `json:"sent_bps"`
	Classes   []Class `json:"classes"`
}

// A Class is what one interface did with the packets of one class. Bytes and
// rates are as the interface counts.
type Class struct {
	Class          string            `json:"class"`
	OfferedPackets uint64            `json:"offered_packets"`
	SentPackets    uint64            `json:"sent_packets"`
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
	QueueDelay     *Milliseconds     `json:"queue_delay_ms"`

	delay *Distribution
}

// SetDelay gives the class the distribution of its packets' queue delay.
func (c *Class) SetDelay(d *Distribution) { c.delay, c.QueueDelay = d, d.Summary() }

// Presence is for how long an entry's `when` held, and how often it began to.
type Presence struct {
	HeldS float64 `json:"held_s"`
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
	Most   int        `json:"most"`
	Shared uint64     `json:"shared_packets"`
	Top    []Instance `json:"top"`
}

// An Instance is one of them.
type Instance struct {
	Value   string `json:"value"`
	Offered uint64 `json:"offered_packets"`
	Dropped uint64 `json:"dropped_packets"`
	Bytes   uint64 `json:"offered_bytes"`
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
}

// Total returns the drops of every reason.
func (d Drops) Total() uint64 { return d.Policed + d.QueueFull + d.Early + d.Blocked }

// A Link is what the carrier did in one direction.
type Link struct {
	From       string        `json:"from"`
	To         string        `json:"to"`
	SendsBps   int64         `json:"sends_bps"`
	CarriedBps int64         `json:"carried_bps"`
	Drops      uint64        `json:"drops"`
	QueueDelay *Milliseconds `json:"queue_delay_ms"`
}

// A Row is what one traffic met in one direction and class, end to end.
type Row struct {
	Name            string        `json:"name"`
	Direction       string        `json:"direction"` // "forward" or "reverse"
	Class           string        `json:"class"`
	SentPackets     int64         `json:"sent_packets"`
	ReceivedPackets int64         `json:"received_packets"`
	Loss            float64       `json:"loss"`
	OfferedBps      int64         `json:"offered_bps"` // IP bytes, as RateBps
	RateBps         int64         `json:"rate_bps"`
	Delay           *Milliseconds `json:"delay_ms"`
	JitterMs        float64       `json:"jitter_ms"`
	MOS             *float64      `json:"mos,omitempty"`
}

// A ClassResult is what the packets of one class met end to end, all traffic in
// all directions together.
type ClassResult struct {
	Class           string        `json:"class"`
	SentPackets     int64         `json:"sent_packets"`
	ReceivedPackets int64         `json:"received_packets"`
	Loss            float64       `json:"loss"`
	OfferedBps      int64         `json:"offered_bps"` // IP bytes, as RateBps
	RateBps         int64         `json:"rate_bps"`
	Delay           *Milliseconds `json:"delay_ms"`
	JitterMs        float64       `json:"jitter_ms"`
	MOS             *float64      `json:"mos,omitempty"`
}

// A Capture is what a replayed capture held and how much was sent.
type Capture struct {
	Name      string `json:"name"`
	Packets   int64  `json:"packets"`
	Replayed  int64  `json:"replayed"`
	NotIP     int64  `json:"not_ip"`
	Malformed int64  `json:"malformed"`
	// NoRoute counts packets to an address in no subnet of the network, OtherWay
	// those to an address at the very interface that they were to enter by.
	NoRoute  int64 `json:"no_route"`
	OtherWay int64 `json:"other_way"`
}
