package survey

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"imbrel.example/imbrel/core/unit"
)

// A Replayed is a part of a survey as traffic of a rehearsal.
type Replayed struct {
	Name     string // of the part: the application and the direction
	App      string
	Kind     string // tcp, rate, calls or video: the key of its size
	Rate     unit.Rate
	Packet   int64 // bytes, of rate
	Calls    int
	Codec    string
	From, To string
	FromPort uint16 // of the server, where it sends; 0: none is given
	ToPort   uint16
	Protocol string
	DSCP     string
}

// maxReplayed is how many parts a survey is replayed as, those with most bytes.
const maxReplayed = 64

// acknowledgement is how long the packets of TCP are on average at most, where they carry no data to speak of.
const acknowledgement = 100

// leastRate is what a part has at least, to be replayed.
const leastRate = 1000

// Replay returns what was sent in a minute as traffic: TCP whose applications write at the rate that was seen, streams, video and calls. busiest
// is the minute in which everything together was most, whatever at says. Sums whose minutes were given up are replayed at their mean.
func (r *Result) Replay(at time.Time, busiest bool) ([]Replayed, error) {
	minute := at.Unix() / 60
	if busiest {
		if r.Total.BusiestMinute == nil {
			return nil, fmt.Errorf("it does not know its busiest minute")
		}
		minute = r.Total.BusiestMinute.At.Unix() / 60
	} else if minute < r.From.Unix()/60 || minute > r.To.Unix()/60 {
		return nil, fmt.Errorf("it is from %s to %s, and %s is not between", r.From.Format(stamp), r.To.Format(stamp), at.Format(stamp))
	}
	var out []Replayed
	begin, end := max(0, float64(60*minute-r.From.Unix())), float64(60*(minute+1)-r.From.Unix())
	seconds := min(60, r.Seconds) // of the minute, that were seen
	type codecs struct{ codec, from, to string }
	calls := make(map[string]int)
	first := make(map[string]codecs)
	counted := make(map[[4]string]bool)
	video := false
	for _, c := range r.Calls {
		if c.FromS > end || c.FromS+c.LastsS < begin {
			continue
		}
		if c.Video {
			video = true
			if c.LastsS > 1 {
				out = append(out, Replayed{Name: "video", App: "rtp", Kind: "video", Rate: unit.Rate(float64(8*c.Bytes) / c.LastsS), From: c.From, To: c.To, ToPort: c.ToPort, DSCP: c.DSCP})
			}
			continue
		}
		a, b := fmt.Sprint(c.From, c.FromPort), fmt.Sprint(c.To, c.ToPort)
		k := [4]string{min(a, b), max(a, b)}
		if c.Codec == "" || counted[k] {
			continue
		}
		counted[k] = true
		if calls[c.Codec]++; calls[c.Codec] == 1 {
			first[c.Codec] = codecs{c.Codec, c.From, c.To}
		}
	}
	for name, n := range calls {
		out = append(out, Replayed{Name: "calls-" + name, Kind: "calls", Calls: n, Codec: name, From: first[name].from, To: first[name].to})
	}
	for i := range r.Mix {
		m := &r.Mix[i]
		if m.App == "rtp" && (len(calls) > 0 || video) {
			continue
		}
		rate := m.MeanBps
		if m.Minutes != nil {
			rate = int64(float64(8*m.bytesIn(minute)) / seconds)
		}
		if m.Protocol == "tcp" && m.Bytes <= acknowledgement*m.Packets { // they follow from the data of the other direction
			continue
		}
		if rate < leastRate || m.Protocol != "tcp" && m.Protocol != "udp" {
			continue
		}
		p := Replayed{Name: cmp.Or(m.App, m.Protocol), App: m.App, Kind: "tcp", Rate: unit.Rate(rate), From: m.Client, To: m.Server, ToPort: m.Port, DSCP: m.DSCP}
		if m.Protocol == "udp" {
			p.Kind, p.Packet = "rate", min(1500, max(64, m.Bytes/max(m.Packets, 1)))
		}
		if !m.FromClient {
			p.From, p.To, p.FromPort, p.ToPort = p.To, p.From, p.ToPort, 0
			p.Name += "-back"
		}
		out = append(out, p)
	}
	slices.SortStableFunc(out, func(a, b Replayed) int { return cmp.Or(cmp.Compare(b.Rate, a.Rate), cmp.Compare(a.Name, b.Name)) })
	out = out[:min(len(out), maxReplayed)]
	if len(out) == 0 {
		return nil, fmt.Errorf("nothing that can be replayed was sent in the minute from %s", time.Unix(60*minute, 0).UTC().Format(stamp))
	}
	names := make(map[string]int)
	for i := range out {
		if names[out[i].Name]++; names[out[i].Name] > 1 {
			out[i].Name = fmt.Sprintf("%s-%d", out[i].Name, names[out[i].Name])
		}
	}
	return out, nil
}

const stamp = "2006-01-02T15:04"

// bytesIn returns the bytes of a minute.
func (s *Sum) bytesIn(minute int64) int64 {
	for _, run := range s.Minutes {
		if k := minute - run[0]; k >= 0 && k+1 < int64(len(run)) {
			return run[k+1]
		}
	}
	return 0
}
