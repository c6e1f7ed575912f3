package live

import (
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/roundtrip"
	"imbrel.example/imbrel/core/unit"
)

// A CallConfig says how a far end is called.
type CallConfig struct {
	Address string // host:port
	Calls   int
	Codec   codec.Codec
	DSCP    codepoint.DSCP
	For     time.Duration
	Playout time.Duration
	Agree   bool // the two clocks do
	Key     []byte
}

// A CallReport is what calls met.
type CallReport struct {
	Imbrel    int              `json:"imbrel"`
	To        string           `json:"to"`
	Codec     string           `json:"codec"`
	DSCP      string           `json:"dscp"`
	DurationS float64          `json:"duration_s"`
	Gone      bool             `json:"far_end_gone,omitempty"` // it answered no more, and that ended the calls
	Agree     bool             `json:"clocks_agree"`           // so it was said
	ArrivesAs map[string]int64 `json:"arrives_as"`             // DSCPs of packets at the far end
	ReturnsAs map[string]int64 `json:"returns_as"`             // and here
	SentLate  float64          `json:"sent_late_ms"`           // how late a packet left this machine at most
	Wrong     int64            `json:"not_accepted"`           // packets that were no echoes, or say what cannot be
	TooMany   bool             `json:"far_end_counts_too_many,omitempty"`
	Calls     []Called         `json:"calls"`
	// What the packets of all calls met over time.
	EveryS   float64                 `json:"interval_s"`
	OverTime []measure.SeriesTraffic `json:"over_time"`
}

// Called is what one call met.
type Called struct {
	Call int            `json:"call"` // from 1
	Ways roundtrip.Call `json:"ways"`
	// Far is what the far end reported of the packets there (RTCP); nil: nothing came.
	Far *FarReport `json:"far_end_reports"`
}

// A FarReport is what the far end counted of a call, by its last report.
type FarReport struct {
	Reports     int     `json:"reports"`
	Lost        int32   `json:"lost"`
	JitterMs    float64 `json:"jitter_ms"`
	RoundTripMs float64 `json:"round_trip_ms"` // by the times in the report
}

// Worst returns the lowest MOS of all calls and ways.
func (r *CallReport) Worst() float64 {
	worst := 5.0
	for i := range r.Calls {
		for _, w := range []*roundtrip.Way{&r.Calls[i].Ways.There, &r.Calls[i].Ways.Back} {
			if w.MOS != nil {
				worst = min(worst, *w.MOS)
			}
		}
	}
	return worst
}

// A FloodConfig says how a far end is flooded.
type FloodConfig struct {
	Address  string
	From, To unit.Rate // of IP bytes; From becomes To over the time. Not of TCP
	Over     time.Duration
	Packet   int // bytes of IP
	Count    int // of datagrams at most; 0: as many as there are in the time
	DSCP     codepoint.DSCP
	TCP      int // flows; 0: UDP
	Key      []byte
	Call     *CallConfig // what is called meanwhile; nil: nothing
	MOS      float64     // below which a call is broken
}

// A FloodReport is what came of a flood.
type FloodReport struct {
	Imbrel    int         `json:"imbrel"`
	To        string      `json:"to"`
	DSCP      string      `json:"dscp"`
	ArrivesAs string      `json:"arrives_as,omitempty"` // of UDP; "" where nothing was reported
	Remarked  bool        `json:"arrives_as_several,omitempty"`
	Flows     int         `json:"tcp_flows"`
	FromBps   int64       `json:"from_bps,omitempty"`
	ToBps     int64       `json:"to_bps,omitempty"`
	OverS     float64     `json:"over_s"`
	Packet    int         `json:"packet_bytes,omitempty"`
	Gone      bool        `json:"far_end_gone,omitempty"`
	TooMany   bool        `json:"far_end_counts_too_many,omitempty"` // packets: more than were sent
	Steps     []FloodStep `json:"steps"`
	Sent      uint64      `json:"sent_packets,omitempty"`
	Arrived   uint64      `json:"arrived_packets,omitempty"` // by the far end's last report
	MaxBps    int64       `json:"most_arrived_bps"`          // of a step
	// FullUntilBps is the rate up to which all arrived, where there is one.
	FullUntilBps *int64 `json:"all_arrives_until_bps,omitempty"`
	// Slow counts the steps in which this machine sent less than nine tenths of what it was to.
	Slow     int    `json:"slow_steps,omitempty"`
	Resent   uint32 `json:"tcp_resent_segments,omitempty"`
	Segments uint32 `json:"tcp_segments,omitempty"`

	Call   *CallReport `json:"call,omitempty"`
	Before float64     `json:"call_mos_before,omitempty"` // the flood
	During float64     `json:"call_mos_during,omitempty"` // the lowest of a step
	Broken int         `json:"broken_steps,omitempty"`    // in which the call was below the MOS
	Breaks *FloodBreak `json:"call_breaks,omitempty"`     // nil: it does not
}

// A FloodStep is a part of the time of a flood.
type FloodStep struct {
	AtS        float64 `json:"at_s"`
	OfferedBps int64   `json:"offered_bps"` // what was to be sent
	SentBps    int64   `json:"sent_bps"`
	ArrivedBps int64   `json:"arrived_bps"`
	Loss       float64 `json:"loss"`
	MOS        float64 `json:"call_mos,omitempty"` // the lowest of the calls' ways
}

// A FloodBreak is where the call broke.
type FloodBreak struct {
	AtS      float64 `json:"at_s"`
	RateBps  int64   `json:"rate_bps"`     // of the flood, sent
	HoldsBps *int64  `json:"holds_to_bps"` // the step before; nil: it never held
}
