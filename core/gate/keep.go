package gate

import (
	"fmt"
	"time"

	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
)

// Kept is what a gate has counted, for one that comes after it. It can be written as JSON.
type Kept struct {
	Counts Counts     `json:"counts"`
	Sides  []KeptSide `json:"sides"`
}

// A KeptSide is what was counted at an interface in a direction.
type KeptSide struct {
	Interface string        `json:"interface"`
	Direction string        `json:"direction"`
	For       time.Duration `json:"for_ns"` // how long
	Entries   []KeptEntry   `json:"entries"`
}

// A KeptEntry is what was counted of an entry.
type KeptEntry struct {
	Name     string                `json:"name"`
	Counters datapath.Counters     `json:"counters"`
	MaxQueue int64                 `json:"max_queue_bytes"`
	Busiest  int64                 `json:"busiest_bytes"`
	Waits    *measure.Distribution `json:"waits"`
}

// Kept returns what was counted until the observation. What waited then counts as not offered yet.
func (o *Observation) Kept() *Kept {
	k := &Kept{Counts: o.Counts}
	for n := range o.sides {
		s := &o.sides[n]
		out := KeptSide{Interface: s.iface.Name, Direction: s.direction.String(), For: o.At - s.since}
		for i, e := range s.plan.Entries {
			seen := &s.observed[i]
			c := s.counters[i]
			notOffered(&c, seen.waiting)
			out.Entries = append(out.Entries, KeptEntry{e.Name, c, seen.most, seen.busiest.Max, &seen.delay})
		}
		k.Sides = append(k.Sides, out)
	}
	return k
}

// notOffered takes what waits out of what was offered.
func notOffered(c *datapath.Counters, waiting int64) {
	c.OfferedPackets = c.SentPackets
	for _, n := range c.Drops {
		c.OfferedPackets += n
	}
	c.OfferedBytes -= min(c.OfferedBytes, uint64(max(0, waiting)))
}

// Restore lets a gate that has taken no frame yet go on counting where another one stopped, as far as it has the same interfaces and
// entries.
func (g *Gate) Restore(k *Kept, now time.Duration) error {
	for _, s := range k.Sides {
		for _, e := range s.Entries {
			if e.Waits == nil {
				return fmt.Errorf("what was kept of `%s` at %s is not whole", e.Name, s.Interface)
			}
		}
	}
	g.Lanes[0].Counts = k.Counts
	g.reloads, g.Lanes[0].Reloads = k.Counts.Reloads, 0
	for _, l := range g.Lanes {
		for _, s := range l.sides {
			for _, from := range k.Sides {
				if from.Interface != s.iface.Name || from.Direction != s.direction.String() {
					continue
				}
				s.since = now - max(0, from.For)
				for i, e := range s.plan.Entries {
					for _, was := range from.Entries {
						if was.Name == e.Name {
							s.before[i] = was.Counters
							s.observed[i].most, s.observed[i].busiest.Max, s.observed[i].delay = was.MaxQueue, was.Busiest, was.Waits.Clone()
						}
					}
				}
			}
		}
	}
	return nil
}

// A Pending is a frame that waits, for another gate with the same ports to take over.
type Pending struct {
	From, To int // ports
	In       bool
	Bytes    []byte
}

// Pending returns the frames that wait in a lane, those of an entry in the order in which they came. The lane is to take no more.
func (l *Lane) Pending() (out []Pending) {
	lines := append([]*line(nil), l.moving...)
	for _, s := range l.sides {
		for i := range s.lines {
			lines = append(lines, &s.lines[i])
		}
	}
	for _, k := range lines {
		for f := k.first; f != nil; f = f.behind {
			out = append(out, Pending{f.from, f.to, k.side.direction == policy.In, f.Bytes})
		}
	}
	return out
}

// Resume takes over a frame that waited in another gate.
func (l *Lane) Resume(p Pending, now time.Duration, send func(port int, frame []byte)) {
	ports := len(l.gate.ports)
	if p.From < 0 || p.From >= ports || p.To >= ports || p.To == p.From || !p.In && p.To < 0 || !l.Takes(p.From) || len(p.Bytes) < packet.EthernetHeader || len(p.Bytes) > MaxFrame {
		return
	}
	l.send, l.now = send, max(l.now, now)
	f := l.frame()
	_ = f.Parse(p.Bytes, len(p.Bytes))
	f.from, f.to = p.From, max(-1, p.To)
	f.In = int32(l.gate.ports[p.From].iface.Number)
	f.grow()
	f.keep()
	l.again(f, p.In)
}
