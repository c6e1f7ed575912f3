package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/deliver"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/route"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/yang"
	"imbrel.example/imbrel/internal/live"
	"imbrel.example/imbrel/internal/render"
)

// A verification says how a delivery is verified before it is confirmed.
type verification struct {
	rehearsal, callsTo, key, lasts string
	calls, ask, unverified         bool

	time     time.Duration
	foreseen *measure.Result // of the rehearsal, by the file that is delivered
	traffic  *policy.Rehearsal
	sent     []sent        // by calls
	answers  *bufio.Reader // of the person who is asked, for all waves
}

// A sent is traffic of the rehearsal that is sent from here to a far end.
type sent struct {
	*policy.Traffic
	to string
}

// plan finds out which traffic of the rehearsal goes from here, and where to: that to the one far end that is named, or that which ends at nodes whose
// devices say where they answer.
func (v *verification) plan(r *deliverRun) error {
	var table *route.Table
	if v.callsTo == "" {
		table = route.New(r.file)
	}
	calls := 0
	for i := range v.traffic.Traffic {
		t := &v.traffic.Traffic[i]
		if t.Kind != policy.Calls && (t.Kind != policy.Stream || t.Rate == 0) {
			continue
		}
		to := ""
		if table == nil {
			to = withPort(v.callsTo)
		} else if at := table.Where(t.To); at != nil {
			if n := slices.IndexFunc(r.file.Devices, func(d policy.Device) bool { return d.Name == at.Node.Name }); n >= 0 {
				to = r.file.Devices[n].Answers
			}
		}
		if to == "" {
			continue
		}
		if v.sent = append(v.sent, sent{t, to}); t.Kind == policy.Calls {
			calls++
		}
	}
	if calls == 0 {
		return fmt.Errorf("`%s` has no calls that can be made from here: the devices at whose nodes they end need `answers`, or give --calls-to ADDRESS", v.rehearsal)
	}
	return nil
}

func (v *verification) flags(c *cobra.Command) {
	c.Flags().StringVar(&v.rehearsal, "verify", "", "compare what the devices drop with what a `REHEARSAL` foresaw; with --calls or --calls-to, make its calls and floods")
	c.Flags().BoolVar(&v.calls, "calls", false, "with --verify: send the calls and floods of the rehearsal from here to the nodes where they end, by the key answers of their devices")
	c.Flags().StringVar(&v.callsTo, "calls-to", "", "with --verify: send the calls and floods of the rehearsal from here to an `ADDRESS` where imbrel answer listens")
	c.Flags().StringVar(&v.key, "key-file", "", "with --calls or --calls-to: authenticate with the key in a `FILE`")
	c.Flags().StringVar(&v.lasts, "for", "30s", "with --verify: look for a `TIME`")
	c.Flags().BoolVar(&v.ask, "ask", false, "ask on this terminal whether to keep it")
	c.Flags().BoolVar(&v.unverified, "unverified", false, "confirm without a verification")
}

// check checks the flags, and rehearses what is to be compared with.
func (v *verification) check(r *deliverRun, a *app) (err error) {
	if v.calls = v.calls || v.callsTo != ""; v.calls && v.rehearsal == "" {
		return errors.New("--calls and --calls-to make the calls of a rehearsal: name it with --verify")
	}
	if r.commit && v.rehearsal == "" && !v.ask && !v.unverified {
		return errors.New("say how it is verified: --verify REHEARSAL, --ask, or --unverified")
	}
	if v.rehearsal == "" {
		return nil
	}
	if v.time, err = measuredFor("for", v.lasts); err != nil {
		return err
	}
	list, err := choose(r.file, "the file", v.rehearsal)
	if err != nil {
		return err
	}
	v.traffic = list[0]
	if v.calls {
		return v.plan(r)
	}
	if !r.commit {
		return nil
	}
	run := &rehearsalRun{file: r.file, in: r.in, seed: 1, stop: func() bool { return false }}
	show, clear := a.progress("rehearsing " + v.rehearsal)
	defer clear()
	v.foreseen, err = a.run(run, r.file, v.traffic, simulate.Options{Seed: 1, Progress: show})
	return err
}

// run verifies a wave, and says how; an error takes all back.
func (v *verification) run(ctx context.Context, a *app, r *deliverRun, plan *deliver.Plan, nodes []string, targets []*target) (how string, err error) {
	switch {
	case v.calls:
		plan.Step("calling for " + unit.FormatDuration(v.time))
		how, err = v.call(ctx)
	case v.rehearsal != "":
		plan.Step(fmt.Sprintf("comparing what %s drop with what `%s` foresaw, for %s", humanize.Plural(len(nodes), "device"), v.rehearsal, unit.FormatDuration(v.time)))
		how, err = v.compare(ctx, r, nodes, targets)
	default:
	}
	if err == nil && v.ask {
		if err = v.asked(ctx, a, plan.Confirm); err == nil {
			how = strings.TrimPrefix(how+"; kept by "+ownName(), "; ")
		}
	}
	if ctx.Err() != nil {
		return how, errInterrupted
	}
	if err != nil {
		return "failed: " + err.Error(), err
	}
	return how, nil
}

// asked asks whether to keep what is in force, for as long as the devices wait.
func (v *verification) asked(ctx context.Context, a *app, within time.Duration) error {
	fmt.Fprintf(a.err, "Keep it? Write yes to keep it. Anything else, or nothing within %s, takes it back: ", unit.FormatDuration(within*9/10))
	if v.answers == nil {
		v.answers = bufio.NewReader(a.in)
	}
	answer := make(chan string, 1)
	go func() {
		line, _ := v.answers.ReadString('\n')
		answer <- strings.TrimSpace(line)
	}()
	select {
	case <-ctx.Done():
		return errInterrupted
	case <-time.After(within * 9 / 10):
		return errors.New("nobody answered in time")
	case said := <-answer:
		if said != "yes" {
			return errors.New("it was not to be kept")
		}
		return nil
	}
}

// A counter is what a class of a place had counted.
type counter struct{ offered, dropped uint64 }

// counters returns those of devices, by place and class.
func (r *deliverRun) counters(nodes []string, targets []*target) (map[[2]string]counter, error) {
	out := make(map[[2]string]counter)
	var mutex sync.Mutex
	var failed error
	deliver.Each(devicesAtATime, len(targets), func(i int) {
		t := targets[i]
		if !slices.Contains(nodes, t.device.Name) {
			return
		}
		state, err := r.stateOf(t)
		mutex.Lock()
		defer mutex.Unlock()
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("%s: %w", t.device.Name, err))
			return
		}
		for _, place := range state.Inner {
			if place.Name != "place" {
				continue
			}
			for _, class := range place.Inner {
				if class.Name != "class" {
					continue
				}
				var c counter
				c.offered, _ = strconv.ParseUint(class.TextOf("offered-packets"), 10, 64)
				for _, d := range class.Inner {
					if d.Name == "dropped" {
						n, _ := strconv.ParseUint(d.TextOf("packets"), 10, 64)
						c.dropped += n
					}
				}
				out[[2]string{place.TextOf("at"), class.TextOf("name")}] = c
			}
		}
	})
	return out, failed
}

// stateOf asks a device what it says of itself, in a session of its own.
func (r *deliverRun) stateOf(t *target) (*yang.Element, error) {
	s, err := r.open(t.device)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	return s.State()
}

// more is by how much a class may lose a larger part of its packets than the rehearsal foresaw.
const more = 0.005

// compare compares what devices drop for a time with what the rehearsal foresaw.
func (v *verification) compare(ctx context.Context, r *deliverRun, nodes []string, targets []*target) (string, error) {
	before, err := r.counters(nodes, targets)
	if err != nil {
		return "", err
	}
	select {
	case <-ctx.Done():
		return "", errInterrupted
	case <-time.After(v.time):
	}
	after, err := r.counters(nodes, targets)
	if err != nil {
		return "", err
	}
	foreseen := make(map[[2]string]float64)
	for i := range v.foreseen.Interfaces {
		k := &v.foreseen.Interfaces[i]
		for j := range k.Classes {
			c := &k.Classes[j]
			if c.OfferedPackets > 0 {
				foreseen[[2]string{k.Node + "/" + k.Interface + " " + k.Direction, c.Class}] = float64(c.Drops.Total()) / float64(c.OfferedPackets)
			}
		}
	}
	var wrong []error
	var packets uint64
	for at, now := range after {
		was := before[at]
		offered, dropped := now.offered-was.offered, now.dropped-was.dropped
		if now.offered < was.offered || now.dropped < was.dropped { // it began anew
			offered, dropped = now.offered, now.dropped
		}
		packets += offered
		part := float64(dropped) / float64(max(offered, 1))
		if allowed := foreseen[at]; dropped > 0 && (allowed == 0 || part > allowed+more) {
			wrong = append(wrong, fmt.Errorf("%s, class `%s`: %s of %s packets were dropped; `%s` foresaw %s", at[0], at[1], humanize.Count(int64(dropped)), humanize.Count(int64(offered)), v.rehearsal, humanize.Ratio(allowed)))
		}
	}
	if len(wrong) > 0 {
		return "", errors.Join(wrong...)
	}
	if packets == 0 {
		return "", fmt.Errorf("no packet came to the devices in %s, so nothing could be verified", unit.FormatDuration(v.time))
	}
	return fmt.Sprintf("%s packets in %s: no class dropped more than `%s` foresaw", humanize.Count(int64(packets)), unit.FormatDuration(v.time), v.rehearsal), nil
}

// call makes the calls of the rehearsal, with its floods meanwhile, and judges the calls.
func (v *verification) call(ctx context.Context) (string, error) {
	key, err := readKey(v.key)
	if err != nil {
		return "", err
	}
	least, _ := unit.ParseDecimal(brokenBelow)
	for _, e := range v.traffic.Expect {
		if e.Metric == policy.MOS && strings.HasPrefix(e.Operator, ">") {
			least = max(least, e.Limit)
		}
	}
	ctx, stop := context.WithTimeout(ctx, v.time+20*time.Second)
	defer stop()
	var group sync.WaitGroup
	var mutex sync.Mutex
	var failed []error
	worst, calls := 5.0, 0
	for _, t := range v.sent {
		switch {
		case t.Kind == policy.Calls:
			n := min(t.Calls, maxCalls)
			calls += n
			group.Go(func() {
				report, err := live.Call(ctx, live.CallConfig{Address: t.to, Calls: n, Codec: t.Codec, DSCP: t.DSCP, For: v.time, Playout: t.Playout, Key: key})
				mutex.Lock()
				defer mutex.Unlock()
				switch {
				case err != nil:
					failed = append(failed, fmt.Errorf("%s: %w", t.Name, err))
				case report.Gone:
					failed = append(failed, fmt.Errorf("%s: the far end went away", t.Name))
				case report.Worst() < least && render.WasBusy(report):
					failed = append(failed, fmt.Errorf("%s: the calls cannot be judged, because this machine was busy and sent packets up to %s late", t.Name, humanize.Milliseconds(report.SentLate)))
				default:
					if worst = min(worst, report.Worst()); report.Worst() < least {
						failed = append(failed, fmt.Errorf("%s: the worst call has MOS %.2f, and `%s` asks for %.2f", t.Name, report.Worst(), v.rehearsal, least))
					}
				}
			})
		default:
			group.Go(func() {
				_, err := live.Flood(ctx, live.FloodConfig{Address: t.to, From: min(t.Rate, maxFlood), To: min(t.Rate, maxFlood), Over: v.time, Packet: max(int(t.Packet), 80), DSCP: t.DSCP, Key: key})
				mutex.Lock()
				defer mutex.Unlock()
				if err != nil {
					failed = append(failed, fmt.Errorf("%s: %w", t.Name, err))
				}
			})
		}
	}
	group.Wait()
	if len(failed) > 0 {
		return "", errors.Join(failed...)
	}
	var ends []string
	for _, t := range v.sent {
		if !slices.Contains(ends, t.to) {
			ends = append(ends, t.to)
		}
	}
	return fmt.Sprintf("%s to %s for %s: the worst has MOS %.2f", humanize.Plural(calls, "call"), humanize.List(ends), unit.FormatDuration(v.time), worst), nil
}
