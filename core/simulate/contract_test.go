package simulate_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
)

const boughtFile = `
imbrel: 1
policies: [{name: up, SHAPE treat: [{class: rest, queue: {limit: 60}}]}]
attach: [{policy: up, at: a/line out}]
network:
  nodes:
    - {name: a, interfaces: [{name: lan, rate: 10Gbit/s, subnets: 10.1.0.0/16}, {name: line, rate: 100Mbit/s}]}
    - {name: b, interfaces: [{name: line, rate: 100Mbit/s}, {name: lan, rate: 10Gbit/s, subnets: 10.2.0.0/16}]}
  links: [{ends: [{at: a/line, contract: CONTRACT}, {at: b/line}], delay: 1ms}]
rehearsals:
  - name: run
    lasts: 10s
    warm-up: 1us
    traffic:
TRAFFIC
`

// bought runs a file, and returns the result and what left a/line: when, its marks, and its length on the line.
func bought(t *testing.T, shape, contract, traffic string) (*measure.Result, []sentOver) {
	t.Helper()
	f, err := policyfile.Parse("line.yaml", []byte(strings.NewReplacer("SHAPE", shape, "CONTRACT", contract, "TRAFFIC", traffic).Replace(boughtFile)), time.LoadLocation)
	if err != nil {
		t.Fatal(err)
	}
	var sent []sentOver
	r, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1, Tap: func(at *policy.Interface, d policy.Direction, now time.Duration, p *packet.Packet) error {
		switch {
		case at.Path() == "a/line" && d == policy.Out:
			sent = append(sent, sentOver{at: now, size: at.Framing.Size(p.Length, 0), dscp: int(p.DSCP()), arrives: -1})
		case at.Path() == "b/line" && d == policy.In:
			for i := range sent {
				if sent[i].arrives < 0 && sent[i].at == now-time.Millisecond {
					sent[i].arrives = int(p.DSCP())
				}
			}
		}
		return nil
	}})
	if err != nil {
		t.Fatal(err)
	}
	return r, sent
}

// A sentOver is a packet on the line; arrives is the DSCP that it has behind it, or -1.
type sentOver struct {
	at         time.Duration
	size, dscp int
	arrives    int
}

// A metering is a meter by the words of RFC 2698 and RFC 4115, in whole parts of a byte: 8e9 of them are one, and a rate in bit/s gives as many
// in a nanosecond.
type metering struct {
	rates, sizes, tokens [2]int64 // committed; peak or excess
	last                 time.Duration
	excess               bool // RFC 4115: a packet takes of one bucket; else of both
}

func (m *metering) color(now time.Duration, size int, arrives int) int {
	for i := range m.tokens {
		m.tokens[i] = min(m.sizes[i], m.tokens[i]+m.rates[i]*int64(now-m.last))
	}
	m.last = now
	need := int64(size) * 8e9
	if m.excess {
		switch {
		case arrives == 0 && m.tokens[0] >= need:
			m.tokens[0] -= need
			return 0
		case arrives < 2 && m.tokens[1] >= need:
			m.tokens[1] -= need
			return 1
		}
		return 2
	}
	switch {
	case arrives == 2 || m.tokens[1] < need:
		return 2
	case arrives == 1 || m.tokens[0] < need:
		m.tokens[1] -= need
		return 1
	}
	m.tokens[0] -= need
	m.tokens[1] -= need
	return 0
}

// A contract gives each packet the colour that a meter gives it which was written from the RFCs alone, and does with it what the contract says.
func TestContractAgreesWithAnotherMeter(t *testing.T) {
	t.Parallel()
	const af1 = `
      - {name: one, rate: 6Mbit/s, packet: 900B, arrivals: poisson, starts: 5ms, dscp: af11, from: 10.1.0.1, to: 10.2.0.1}
      - {name: two, rate: 3Mbit/s, packet: 300B, arrivals: poisson, starts: 5ms, dscp: af12, from: 10.1.0.2, to: 10.2.0.1}
      - {name: three, rate: 1Mbit/s, packet: 1400B, arrivals: poisson, starts: 5ms, dscp: af13, from: 10.1.0.3, to: 10.2.0.1}`
	const colours = "green: {mark: cs1}, yellow: {mark: cs2}, red: {mark: cs3}"
	for _, aware := range []bool{false, true} {
		for _, c := range []struct {
			keys string
			m    metering
		}{
			{"rate: 4Mbit/s, burst: 6kB, peak: 7Mbit/s, peak-burst: 9kB", metering{rates: [2]int64{4e6, 7e6}, sizes: [2]int64{6000 * 8e9, 9000 * 8e9}}},
			{"rate: 4Mbit/s, burst: 6kB, excess: 3Mbit/s, excess-burst: 9kB", metering{rates: [2]int64{4e6, 3e6}, sizes: [2]int64{6000 * 8e9, 9000 * 8e9}, excess: true}},
		} {
			m := c.m
			m.tokens = m.sizes
			r, sent := bought(t, "", fmt.Sprintf("{%s, aware: %v, %s}", c.keys, aware, colours), af1)
			counts := [3]uint64{}
			for i, p := range sent {
				arrives := 0
				if aware {
					arrives = (p.dscp&7)/2 - 1
				}
				color := m.color(p.at, p.size, arrives)
				if counts[color]++; p.arrives >= 0 && p.arrives != 8*(color+1) {
					t.Fatalf("%s, aware %v: packet %d at %s arrives marked %d; the other meter says colour %d", c.keys, aware, i, p.at, p.arrives, color)
				}
			}
			if u := r.Contracts[0]; u.Green != counts[0] || u.Yellow != counts[1] || u.Red != counts[2] || u.Dropped != 0 || min(u.Green, u.Yellow, u.Red) < 100 {
				t.Errorf("%s, aware %v: %+v, the other meter counts %v", c.keys, aware, u, counts)
			}
		}
	}
}

// A burst B at the rate L of the interface passes a contract of the rate R where its burst is B·(1-R/L), to one packet; from then on the shape keeps
// the contract to the last packet.
func TestBurstAgainstContract(t *testing.T) {
	t.Parallel()
	const size, line = 1000, 100e6 // bytes of a packet on the line, bit/s
	random := rand.New(rand.NewPCG(3, 9))
	passed, dropped := 0, 0
	for range 60 {
		rate, burst := 1e6*float64(1+random.IntN(60)), 1000*(2+random.IntN(40))
		need := float64(burst) * (1 - rate/line)
		room := max(size, int(need)+random.IntN(6*size)-3*size)
		shape := fmt.Sprintf("shape: {rate: %.0fbit/s, burst: %dB},", rate, burst)
		r, sent := bought(t, shape, fmt.Sprintf("{rate: %.0fbit/s, burst: %dB}", rate, room), `
      - {name: flood, rate: 300Mbit/s, packet: 962B, starts: 1s, lasts: 2s, from: 10.1.0.1, to: 10.2.0.1}`)
		u := r.Contracts[0]
		switch {
		case need <= float64(room-size) && u.Dropped > 0:
			t.Errorf("%s needs %.0f B, the contract has %d B and dropped %d packets", shape, need, room, u.Dropped)
		case need > float64(room+size) && u.Dropped == 0:
			t.Errorf("%s needs %.0f B, the contract has %d B and dropped none", shape, need, room)
		}
		if u.Dropped > 0 {
			dropped++
		} else {
			passed++
		}
		atOnce, run := 1, 1 // packets that left one behind the other
		for i := 1; i < len(sent); i++ {
			if run++; sent[i].at-sent[i-1].at != 80*time.Microsecond {
				run = 1
			}
			atOnce = max(atOnce, run)
		}
		if rate < 80e6 && (atOnce*size > burst+size || atOnce*size < burst-4*size) {
			t.Errorf("%s: %d packets of 1,000 B left at once", shape, atOnce)
		}
	}
	if passed < 10 || dropped < 10 {
		t.Errorf("%d passed, %d were dropped: the cases are too far from the limit", passed, dropped)
	}
}

// Lines of a contract are for their code points: calls keep theirs while the others are far beyond, and what is marked down is another class from there on.
func TestContractLines(t *testing.T) {
	t.Parallel()
	r, _ := bought(t, "", "[{dscp: ef, rate: 1Mbit/s, burst: 3kB}, {rate: 4Mbit/s, burst: 5kB, red: {mark: le}}]", `
      - {name: calls, rate: 800kbit/s, packet: 200B, dscp: ef, from: 10.1.0.1, to: 10.2.0.1}
      - {name: flood, rate: 12Mbit/s, packet: 1000B, from: 10.1.0.2, to: 10.2.0.1}`)
	ef, other := r.Contracts[0], r.Contracts[1]
	if ef.Dropped != 0 || ef.Red > 0 || other.Red < other.Green || other.Dropped != 0 || r.Traffic[1].ReceivedPackets < r.Traffic[1].SentPackets-2 {
		t.Errorf("%+v\n%+v", ef, other)
	}
}
