// Package starter writes the smallest useful policy file for one line: from its rates and its calls.
package starter

import (
	"fmt"
	"math"
	"strings"
	"time"

	"imbrel.example/imbrel/core/budget"
	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// A Line is what is known of a line: what it carries out of the site and into it, as its framing counts bytes, and how many calls
// at a time it has to hold.
type Line struct {
	Up, Down unit.Rate
	Calls    int
	Codec    codec.Codec
	Framing  packet.Framing
}

// Bounds of a Line.
const (
	MinRate  = 256 * unit.KbitPerSecond
	MaxRate  = 100 * unit.GbitPerSecond
	MaxCalls = 10_000
)

// Assumptions that the file states.
const (
	upPercent    = 95 // of the line's rate, that the shape takes
	voicePercent = 75 // of a shape, that calls may take
	linkDelay    = 10 * time.Millisecond
)

// arriving returns the percentage of the rate that the provider sends which a shape at the site may take, and how many
// downloads the rehearsal has: senders slow down late on a slow line, where each packet counts.
func arriving(down unit.Rate) (percent unit.Rate, downloads int) {
	switch {
	case down >= 20*unit.MbitPerSecond:
		return 90, 4
	case down >= 5*unit.MbitPerSecond:
		return 85, 4
	case down >= 2*unit.MbitPerSecond:
		return 75, 2
	}
	return 65, 1
}

// Text returns the policy file. An error says which value cannot be, and what would do.
func Text(l *Line) (string, error) {
	for _, r := range []struct {
		rate  unit.Rate
		where string
	}{{l.Up, "out of the site"}, {l.Down, "into the site"}} {
		if r.rate < MinRate || r.rate > MaxRate {
			return "", fmt.Errorf("a line of %s %s: give from %s to %s", r.rate, r.where, MinRate, MaxRate)
		}
	}
	if l.Calls < 1 || l.Calls > MaxCalls {
		return "", fmt.Errorf("%d calls: give from 1 to %d", l.Calls, MaxCalls)
	}
	ip := l.Codec.Length(false)
	wire := l.Framing.Size(ip, 0)
	percent, downloads := arriving(l.Down)
	shapes := [2]unit.Rate{l.Up * upPercent / 100, l.Down * percent / 100}
	room := budget.Fitting(l.Codec, wire, min(shapes[0], shapes[1])*voicePercent/100)
	if l.Calls > room {
		return "", fmt.Errorf("%d calls of %s take %s in each direction: this line has room for %d (%d %% of its slower direction); plan for fewer, or choose another codec", l.Calls, l.Codec.Name, l.Codec.Rate(l.Calls*wire), room, voicePercent)
	}
	// A packet of a call waits for one full packet and for those of the other calls; in the provider's queue for a few full ones.
	full, others := unit.Size(l.Framing.Size(budget.FullPacket, 0)), time.Duration(l.Calls)
	wait := max(shapes[0].Time(full)+others*shapes[0].Time(unit.Size(wire)), shapes[1].Time(full)+others*shapes[1].Time(unit.Size(wire))+3*l.Down.Time(full))
	delay := roundUp(linkDelay+wait*3/2, time.Millisecond)
	playout := max(policy.DefaultPlayout, roundUp(wait*3/2, 10*time.Millisecond))
	ear := delay + playout + l.Codec.Interval + l.Codec.LookAhead
	mos := math.Floor(10*measure.MOS(measure.R(ear, 0, 1, l.Codec.Ie, l.Codec.Bpl))-1) / 10
	keys := ""
	if playout > policy.DefaultPlayout {
		keys = ", playout: " + unit.FormatDuration(playout)
	}
	port := unit.Rate(unit.GbitPerSecond)
	for port <= max(l.Up, l.Down) {
		port *= 10
	}
	return strings.NewReplacer(
		"CALLS", fmt.Sprint(l.Calls), "CODEC", l.Codec.Name, "UP", l.Up.String(), "DOWN", l.Down.String(), "PORT", port.String(), "FRAMING", l.Framing.Name,
		"OUTSHAPE", fmt.Sprintf("%d%%", upPercent), "INSHAPE", fmt.Sprintf("%d%%", percent), "TCPS", fmt.Sprint(downloads),
		"INRATE", (l.Codec.Rate(l.Calls*wire) * 11 / 10).String(), "INBURST", unit.Size(max(l.Calls*wire*10, 3000)).String(),
		"DELAY", unit.FormatDuration(delay), "MOS", fmt.Sprint(mos), "PLAYOUT", keys,
	).Replace(template), nil
}

// roundUp returns a time rounded up to a step.
func roundUp(d, step time.Duration) time.Duration { return (d + step - 1) / step * step }

const template = `# A line of UP out and DOWN in that has to hold CALLS calls. Change what is marked.
imbrel: 1
title: A line with CALLS calls

classes:
  # The packets of calls. CHANGE the ports to those of your phones, or match dscp: ef.
  - {name: voice, match: [{protocol: udp, port: 16384-32767}]}

policies:
  - name: leaving
    shape: OUTSHAPE       # of what the line carries: packets queue here, by class, and not at the provider
    treat:
      # Calls go first, up to the rate of CALLS calls; the policer drops what exceeds it.
      - {class: voice, mark: ef, priority: 1, police: {calls: CALLS, codec: CODEC}}
      # All other traffic divides the extra bandwidth between its flows.
      - {class: rest, queue: {drop: fq-codel}}
  - name: arriving
    shape: INSHAPE       # of what the provider sends: senders slow down before its queue fills
    treat:
      # Calls may arrive in bursts from the provider's queue: a tenth more than their rate, and a long burst.
      - {class: voice, mark: ef, priority: 1, police: {rate: INRATE, burst: INBURST}}
      - {class: rest, queue: {drop: fq-codel}}

attach:
  - {policy: leaving,  at: site/line out}
  - {policy: arriving, at: site/line in}

network:
  nodes:
    - name: site
      interfaces:
        - {name: lan, rate: PORT, subnets: [192.0.2.0/24]}   # CHANGE: your own addresses
        - name: line
          rate: PORT        # of the port, not of the line
          framing: FRAMING   # CHANGE: how the line counts bytes
          link: {to: provider, sends: UP, receives: DOWN, delay: 10ms, buffer: 200ms}
    - name: provider
      interfaces: [{name: net, rate: PORT, subnets: [198.51.100.0/24]}]

rehearsals:
  - name: full-line       # all calls at once, while downloads and an upload fill the line
    lasts: 20s
    warm-up: 5s
    traffic:
      - {name: calls, calls: CALLS, codec: CODECPLAYOUT, between: [192.0.2.20, 198.51.100.20]}
      - {name: downloads, tcp: TCPS, from: 198.51.100.40, to: 192.0.2.40, from-port: 443}
      - {name: upload, tcp: 1, from: 192.0.2.41, to: 198.51.100.41, to-port: 443}
    expect:
      - voice loss = 0
      - voice delay p99 <= DELAY
      - voice mos >= MOS
`
