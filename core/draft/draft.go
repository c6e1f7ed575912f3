// Package draft writes a policy file from facts: what a line carries, how many calls it has to hold, and what traffic was seen.
package draft

import (
	"fmt"
	"math"
	"net/netip"
	"strings"
	"time"

	"imbrel.example/imbrel/core/budget"
	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/survey"
	"imbrel.example/imbrel/core/unit"
)

// Facts are what is known. The line and the calls are needed; without the rest the file is the smallest that is of use.
type Facts struct {
	Up, Down    unit.Rate // what the line carries out of the site and into it, as its framing counts bytes
	Calls       int       // at a time
	Codec       codec.Codec
	Framing     packet.Framing
	Classes     []string // besides voice and the rest; nil with a Survey: those that it saw
	Survey      *survey.Result
	Inside      []netip.Prefix // of the site; nil: what the survey's clients are in
	Delay       time.Duration  // of the line, one way; 0: unknown
	Buffer      time.Duration  // of the carrier's queue; 0: unknown
	LineFrom    string         // where the rates come from, for a comment
	CallsFrom   string         // where the number of calls comes from
	FramingFrom string
}

// Bounds of the facts.
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
	linkBuffer   = 200 * time.Millisecond
	restPercent  = 10 // of a shape, that traffic without a class is left at least
	callsSpare   = 5  // of so many calls that were seen one more is planned for
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
func Text(f *Facts) (string, error) {
	for _, r := range []struct {
		rate  unit.Rate
		where string
	}{{f.Up, "out of the site"}, {f.Down, "into the site"}} {
		if r.rate < MinRate || r.rate > MaxRate {
			return "", fmt.Errorf("a line of %s %s: give from %s to %s", r.rate, r.where, MinRate, MaxRate)
		}
	}
	if f.Calls < 1 || f.Calls > MaxCalls {
		return "", fmt.Errorf("%d calls: give from 1 to %d", f.Calls, MaxCalls)
	}
	ip := f.Codec.Length(false)
	wire := f.Framing.Size(ip, 0)
	percent, downloads := arriving(f.Down)
	w := &writer{Facts: f, shapes: [2]unit.Rate{f.Up * upPercent / 100, f.Down * percent / 100}, wire: wire}
	room := budget.Fitting(f.Codec, wire, min(w.shapes[0], w.shapes[1])*voicePercent/100)
	if f.Calls > room {
		return "", fmt.Errorf("%d calls of %s take %s in each direction: this line has room for %d (%d %% of its slower direction); plan for fewer, or choose another codec", f.Calls, f.Codec.Name, f.Codec.Rate(f.Calls*wire), room, voicePercent)
	}
	if err := w.plan(); err != nil {
		return "", err
	}
	// A packet of a call waits for one full packet and for those of the other calls; in the provider's queue for a few full ones.
	full, others := unit.Size(f.Framing.Size(budget.FullPacket, 0)), time.Duration(f.Calls)
	wait := max(w.shapes[0].Time(full)+others*w.shapes[0].Time(unit.Size(wire)), w.shapes[1].Time(full)+others*w.shapes[1].Time(unit.Size(wire))+time.Duration(3+w.bursts())*f.Down.Time(full))
	link, buffer := linkDelay, linkBuffer
	if f.Delay > 0 {
		link = roundUp(f.Delay, time.Millisecond/10)
	}
	if f.Buffer > 0 {
		buffer = roundUp(f.Buffer, time.Millisecond)
	}
	delay := roundUp(link+wait*3/2, time.Millisecond)
	playout := max(policy.DefaultPlayout, roundUp(wait*3/2, 10*time.Millisecond))
	mos := math.Floor(10*f.Codec.Best(delay+playout)-1) / 10
	keys := ""
	if playout > policy.DefaultPlayout {
		keys = ", playout: " + unit.FormatDuration(playout)
	}
	port := unit.Rate(unit.GbitPerSecond)
	for port <= max(f.Up, f.Down) {
		port *= 10
	}
	lines := strings.NewReplacer(
		"CLASSES", w.classes(), "LEAVING", w.entries(0), "ARRIVING", w.entries(1), "ASSUMED", w.assumptions(), "SUBNETS", w.subnets(), "WORLD", w.world(), "TRAFFIC", w.traffic(downloads), "EXPECTED", w.expected(),
	).Replace(template)
	text := strings.NewReplacer(
		"CALLS", fmt.Sprint(f.Calls), "CODEC", f.Codec.Name, "UP", f.Up.String(), "DOWN", f.Down.String(), "PORT", port.String(), "FRAMING", f.Framing.Name,
		"OUTSHAPE", fmt.Sprintf("%d%%", upPercent), "INSHAPE", fmt.Sprintf("%d%%", percent),
		"INRATE", (f.Codec.Rate(f.Calls*wire) * 11 / 10).String(), "INBURST", unit.Size(max(f.Calls*wire*10, 3000)).String(),
		"LATENCY", unit.FormatDuration(link), "BUFFER", unit.FormatDuration(buffer), "DELAY", unit.FormatDuration(delay), "MOS", fmt.Sprint(mos), "PLAYOUT", keys,
	).Replace(lines)
	return text, nil
}

// roundUp returns a time rounded up to a step.
func roundUp(d, step time.Duration) time.Duration { return (d + step - 1) / step * step }

const template = `# A line of UP out and DOWN in that has to hold CALLS calls. Change what is marked.
ASSUMEDimbrel: 1
title: A line with CALLS calls

classes:
CLASSES
policies:
  - name: leaving
    shape: OUTSHAPE       # of what the line carries: packets queue here, by class, and not at the provider
    treat:
LEAVING  - name: arriving
    shape: INSHAPE       # of what the provider sends: senders slow down before its queue fills
    treat:
ARRIVING
attach:
  - {policy: leaving,  at: site/line out}
  - {policy: arriving, at: site/line in}

network:
  nodes:
    - name: site
      interfaces:
        - {name: lan, rate: PORT, subnets: [SUBNETS]}   # CHANGE: your own addresses
        - name: line
          rate: PORT        # of the port, not of the line
          framing: FRAMING   # CHANGE: how the line counts bytes
          link: {to: provider, sends: UP, receives: DOWN, delay: LATENCY, buffer: BUFFER}
    - name: provider
      interfaces: [{name: net, rate: PORT, subnets: [WORLD]}]

rehearsals:
  - name: full-line       # all calls at once, while downloads and an upload fill the line
    lasts: 20s
    warm-up: 5s
    traffic:
TRAFFIC    expect:
EXPECTED`
