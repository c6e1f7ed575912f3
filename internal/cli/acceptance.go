package cli

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"imbrel.example/imbrel/core/acceptance"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/route"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/live"
	"imbrel.example/imbrel/internal/render"
)

const (
	acceptLength = 1200 // of the IP packets of an acceptance test, in bytes
	acceptRuns   = 5    // bursts of a step
	acceptTries  = 4    // of a step, where this machine is too busy to send
	acceptFor    = 5 * time.Second
)

// bought returns the end of a link that has a contract, by its interface; without a name, the only one that there is.
func bought(f *policy.File, at string) (*policy.LinkEnd, error) {
	var all []string
	var found *policy.LinkEnd
	for _, l := range f.Network.Links {
		for i := range l.Ends {
			end := &l.Ends[i]
			if end.Contract == nil {
				continue
			}
			if all = append(all, end.Interface.Path()); at == "" || end.Interface.Path() == at {
				found = end
			}
		}
	}
	switch {
	case len(all) == 0:
		return nil, fmt.Errorf("no link of the file has a `contract`: say there what was bought")
	case at == "" && len(all) > 1:
		return nil, fmt.Errorf("say which contract is tested, as node/interface: there are those of %s", strings.Join(all, ", "))
	case found == nil:
		return nil, fmt.Errorf("the link at %s has no `contract`: there are those of %s", at, strings.Join(all, ", "))
	}
	return found, nil
}

// hosts returns addresses of hosts between which packets cross an end of a link.
func hosts(f *policy.File, end *policy.LinkEnd) (from, to netip.Addr, err error) {
	table := route.New(f)
	near := end.Interface
	ways := func(n *policy.Node, towards *policy.Node) bool {
		for _, out := range table.Nexts(n, towards) {
			if out == near {
				return true
			}
		}
		return false
	}
	for i := range f.Network.Nodes {
		for _, a := range f.Network.Nodes[i].Interfaces {
			for _, p := range a.Subnets {
				n := &f.Network.Nodes[i]
				if host := p.Masked().Addr().Next(); n == near.Node && !a.Own && p.Contains(host) && !from.IsValid() {
					from = host
				}
				if host := p.Masked().Addr().Next().Next(); n != near.Node && !a.Own && p.Contains(host) && !to.IsValid() && ways(near.Node, n) {
					to = host
				}
			}
		}
	}
	if !from.IsValid() || !to.IsValid() || from.Is4() != to.Is4() {
		return from, to, fmt.Errorf("nothing can be sent over %s: it takes hosts at `%s`, and others of the same IP version that are reached by it", near.Path(), near.Node.Name)
	}
	return from, to, nil
}

// acceptRehearsed tests a contract in simulated time: each step is a rehearsal of its own.
func (a *app) acceptRehearsed(text render.Text, r *rehearsalRun, at string) error {
	defer r.interruptible()()
	end, err := bought(r.file, at)
	if err != nil {
		return err
	}
	from, to, err := hosts(r.file, end)
	if err != nil {
		return err
	}
	steps := acceptance.Steps(end, acceptLength)
	var todo []job
	for i := range steps {
		plan := &policy.Rehearsal{Name: steps[i].Name, Lasts: acceptFor + time.Second, WarmUp: time.Millisecond}
		for _, l := range steps[i].Loads {
			t := policy.Traffic{Kind: policy.Stream, Rate: l.Rate, Packet: acceptLength, Arrivals: policy.Exact, DSCP: l.DSCP, From: from, To: to, Protocol: packet.UDP, ToPort: uint16(40000 + l.Line), Starts: 10 * time.Millisecond, Lasts: acceptFor}
			if l.Burst == 0 {
				t.Name = fmt.Sprintf("%s-%d", l.DSCP.Name(), l.Line)
				plan.Traffic = append(plan.Traffic, t)
				continue
			}
			gap, pause := l.Rate.Time(acceptLength), acceptance.Pause(&end.Contract[l.Line])+10*time.Millisecond
			for n := range acceptRuns {
				t.Name = fmt.Sprintf("%s-%d-%d", l.DSCP.Name(), l.Line, n)
				t.Starts, t.Lasts = 10*time.Millisecond+time.Duration(n)*pause, time.Duration(l.Burst)*gap // the first begins within a gap
				plan.Traffic = append(plan.Traffic, t)
			}
			plan.Lasts = max(plan.Lasts, acceptRuns*pause+time.Second)
		}
		todo = append(todo, job{plan, r.without, r.seed})
	}
	results, err := a.runJobs(r, todo)
	if err != nil {
		return err
	}
	if r.stop() {
		return errInterrupted
	}
	out := &acceptance.Result{At: end.Interface.Path(), Policies: !r.without}
	for i := range steps {
		s := &steps[i]
		for _, l := range s.Loads {
			met, delay := acceptance.Met{Over: acceptFor}, (*measure.Milliseconds)(nil)
			for _, row := range results[i].Traffic {
				if row.Direction == "forward" && strings.HasPrefix(row.Name+"-", fmt.Sprintf("%s-%d-", l.DSCP.Name(), l.Line)) {
					met.Sent, met.Arrived = met.Sent+row.SentPackets, met.Arrived+row.ReceivedPackets
					if row.Delay != nil && (delay == nil || row.Delay.P99 > delay.P99) {
						delay = row.Delay
					}
				}
			}
			if o := out.Add(s, &l, met, acceptLength, 0); delay != nil {
				o.DelayMs = &delay.P99
			}
		}
	}
	return a.accepted(text, out)
}

// acceptLive tests a contract with floods from this machine to a far end.
func (a *app) acceptLive(ctx context.Context, text render.Text, file, at string, base live.FloodConfig) error {
	f, _, err := files.ReadPolicy(file, a.in, a.includeFrom...)
	if err != nil {
		return err
	}
	end, err := bought(f, at)
	if err != nil {
		return err
	}
	steps := acceptance.Steps(end, base.Packet)
	for _, s := range steps {
		for _, l := range s.Loads {
			if l.Rate > maxFlood && l.Burst == 0 {
				return fmt.Errorf("%s takes %s: a flood sends up to %s", s.Name, l.Rate, unit.Rate(maxFlood))
			}
		}
	}
	out := &acceptance.Result{At: end.Interface.Path()}
	show, done := a.progress("testing the contract")
	defer done()
	for i := range steps {
		s := &steps[i]
		reports, errs := make([]*live.FloodReport, len(s.Loads)), make([]error, len(s.Loads))
		runs, count := 1, 0
		if s.Kind == acceptance.InBurst {
			runs, count = acceptRuns, s.Loads[0].Burst
		}
		met := make([]acceptance.Met, len(s.Loads))
		for try := 0; try < runs; try++ {
			var all sync.WaitGroup
			for k, l := range s.Loads {
				c := base
				c.DSCP, c.From, c.To, c.Count = l.DSCP, min(l.Rate, maxFlood), min(l.Rate, maxFlood), count
				all.Go(func() { reports[k], errs[k] = live.Flood(ctx, c) })
			}
			all.Wait()
			for k, r := range reports {
				if errs[k] != nil {
					return a.toldTo(ctx, errs[k])
				}
				if ctx.Err() != nil {
					return errInterrupted
				}
				if r.Gone {
					return fmt.Errorf("the far end at %s does not answer: start `imbrel answer` there", r.To)
				}
				met[k].Sent, met[k].Arrived = met[k].Sent+int64(r.Sent), met[k].Arrived+int64(r.Arrived)
				met[k].Over += time.Duration(r.OverS * float64(time.Second))
			}
			if slow := slices.ContainsFunc(s.Loads, func(l acceptance.Load) bool { return s.Slow(&l, met[slices.Index(s.Loads, l)], base.Packet) }); slow && runs < acceptTries {
				runs++
				clear(met)
			}
			if count > 0 {
				time.Sleep(acceptance.Pause(&end.Contract[s.Loads[0].Line]))
			}
		}
		for k := range s.Loads {
			out.Add(s, &s.Loads[k], met[k], base.Packet, lostAnyway)
		}
		if show != nil {
			show(float64(i+1) / float64(len(steps)))
		}
	}
	done()
	return a.accepted(text, out)
}

// lostAnyway is the part of the packets of a real line that may be lost of what is within a contract (ITU-T Y.1541 table 1).
const lostAnyway = 0.001

// accepted writes what came of an acceptance test.
func (a *app) accepted(text render.Text, r *acceptance.Result) (err error) {
	if a.output == "json" {
		err = render.JSON(a.out, struct {
			Imbrel     int                `json:"imbrel"`
			Acceptance *acceptance.Result `json:"acceptance"`
		}{1, r})
	} else {
		text.Acceptance(r)
	}
	if err == nil && !r.Holds {
		err = errFound
	}
	return err
}
