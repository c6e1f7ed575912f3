package measure

// A Series is what happened over time, in intervals of one length.
type Series struct {
	IntervalS  float64           `json:"interval_s"`
	Interfaces []SeriesInterface `json:"interfaces"`
	Whens      []WhenActive      `json:"whens"`
}

// A SeriesInterface is an interface over time.
type SeriesInterface struct {
	Node      string        `json:"node"`
	Interface string        `json:"interface"`
	Direction string        `json:"direction"`
	RateBps   int64         `json:"rate_bps"`
	Classes   []SeriesClass `json:"classes"`
}

// A SeriesClass is a class, or an instance of one, over time: a value for each interval.
type SeriesClass struct {
	Class      string        `json:"class"`
	OfferedBps []int64       `json:"offered_bps"`
	SentBps    []int64       `json:"sent_bps"`
	Drops      []int64       `json:"drops"`
	QueueBytes []int64       `json:"queue_bytes"` // the most that waited
	Wakes      []Wake        `json:"wakes,omitempty"`
	Instances  []SeriesClass `json:"instances,omitempty"` // those that were offered most
}

// A Wake is when a class that had been silent began again, and after how long it had its
// promise, or all it wanted: to the end of the first interval in which it did; nil: never.
type Wake struct {
	AtS          float64  `json:"at_s"`
	PromiseAfter *float64 `json:"promise_after_s"`
}

// A WhenActive is a time in which an entry or a limit with a `when` was in force.
type WhenActive struct {
	Node      string  `json:"node"`
	Interface string  `json:"interface"`
	Direction string  `json:"direction"`
	Class     string  `json:"class"`
	Limit     string  `json:"limit,omitempty"` // at-most, police or block; "": the entry
	FromS     float64 `json:"from_s"`
	ToS       float64 `json:"to_s"`
}
