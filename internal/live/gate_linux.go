package live

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"runtime"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"imbrel.example/imbrel/core/gate"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
)

// longestWait is how long the gate waits at most before it looks whether it is to do something
// else.
const longestWait = 50 * time.Millisecond

// comesBack is how often an interface that is gone is looked for.
const comesBack = 250 * time.Millisecond

// RunGate runs a gate until the context ends or its time is over, and returns what it did.
func RunGate(ctx context.Context, c Config) (*Report, error) {
	r := &runner{config: c, log: c.Log, over: make(chan struct{}), leave: make(chan struct{}), failed: make(chan error, 8)}
	if r.log == nil {
		r.log = slog.New(slog.DiscardHandler)
	}
	defer r.close()
	if c.TakesOver == nil {
		if err := r.open(); err != nil {
			return nil, err
		}
	}
	node, ifaces, err := r.find(c.File)
	if err != nil {
		return nil, err
	}
	if r.gate, err = gate.New(c.File, node, ifaces, 0, gate.Options{StartAt: time.Now(), Seed: c.Seed, PassUnreadable: c.PassUnreadable}); err != nil {
		return nil, err
	}
	r.file = c.File
	r.recent = measure.NewHistory(recentSteps, time.Second, 0)
	every := longStep
	if c.For > 0 {
		every = max(measure.RoundStep(c.For, wholeSteps/2), time.Second)
	}
	r.whole = measure.NewHistory(wholeSteps, every, 0)
	if c.Kept != nil {
		if err := r.gate.Restore(c.Kept, 0); err != nil {
			r.log.Warn("the counters begin anew: " + err.Error())
		}
	}
	running := func() {}
	if c.TakesOver != nil {
		if running, err = r.takeOver(c.TakesOver); err != nil {
			return nil, err
		}
	}
	if err := r.openLanes(); err != nil {
		return nil, err
	}
	// Each lane has a thread; what else is done must not wait for one, nor one for it.
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(max(runtime.GOMAXPROCS(0), len(r.lanes)+2)))
	r.began = Monotonic()
	r.run()
	confine(c.Writes)
	running()
	for _, l := range r.controls {
		go r.serve(l)
	}
	if c.Started != nil {
		c.Started(r)
	}
	r.foresee()
	notifyService("READY=1\nSTATUS=frames pass")
	err = r.attend(ctx)
	if r.handed { // the service goes on
		return nil, ErrHandedOver
	}
	notifyService("STOPPING=1")
	close(r.over)
	r.halt()
	if err != nil {
		return nil, err
	}
	r.keep()
	report := r.report()
	report.Series = r.whole.Series()
	return report, nil
}

// foresee says at the start what would not work later, with the rights that are left: to read the file again, and to keep the counters.
func (r *runner) foresee() {
	if r.config.Load == nil {
		r.keep()
		return
	}
	if _, err := r.config.Load(); err != nil {
		r.log.Warn("the file cannot be read again, so a reload will change nothing: " + err.Error())
	}
	r.keep()
}

// run lets the lanes move frames.
func (r *runner) run() {
	r.stop.Store(false)
	for _, l := range r.lanes {
		r.moving.Go(func() {
			defer func() {
				if p := recover(); p != nil {
					close(l.dead)
					r.failed <- &Failure{p, debug.Stack()}
				}
			}()
			l.loop()
		})
	}
	tids := make(map[int]bool)
	for _, l := range r.lanes {
		select {
		case tid := <-l.thread:
			tids[tid] = true
		case <-l.dead:
		}
	}
	putFirst(tids)
}

// keep gives away what was counted.
func (r *runner) keep() {
	if r.config.Keep != nil {
		r.mutex.Lock()
		o := r.observe(false)
		r.mutex.Unlock()
		r.config.Keep(o.Kept())
	}
}

// attend does what a gate does beside moving frames, until it is to end.
func (r *runner) attend(ctx context.Context) error {
	every := watchdogEvery()
	alive := time.NewTicker(cmp.Or(every, time.Hour))
	defer alive.Stop()
	minute := time.NewTicker(time.Minute)
	defer minute.Stop()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	var end <-chan time.Time
	if r.config.For > 0 {
		end = time.After(r.config.For - (Monotonic() - r.began))
	}
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-end:
			return nil
		case <-r.leave:
			return nil
		case err := <-r.failed:
			return err
		case <-r.config.Reload:
			_ = r.reload() // it says itself what came of it
		case <-minute.C:
			r.keep()
		case <-alive.C:
			if every > 0 { // as long as all lanes answer
				r.mutex.Lock()
				r.do(func(*lane, time.Duration, func(int, []byte)) {})
				r.mutex.Unlock()
				notifyService("WATCHDOG=1")
			}
		case <-tick.C:
			r.mutex.Lock()
			o := r.observe(true)
			samples := o.Samples()
			r.recent.Put(o.At, samples)
			r.whole.Put(o.At, samples)
			r.mutex.Unlock()
		}
	}
}

// How much of the past a gate keeps: two minutes by the second, and of a gate without an end an hour.
const (
	recentSteps = 120
	wholeSteps  = 360
	longStep    = 10 * time.Second
)

// A runner is a gate at work.
type runner struct {
	config   Config
	gate     *gate.Gate
	ports    []*livePort
	lanes    []*lane
	controls []net.Listener
	locks    []*os.File
	began    time.Duration
	moving   sync.WaitGroup
	serving  sync.WaitGroup
	stop     atomic.Bool
	over     chan struct{} // closed when the lanes are about to end
	leave    chan struct{} // closed when another gate goes on
	failed   chan error
	log      *slog.Logger
	pending  [][]gate.Pending // by lane: what waited in the gate before
	handed   bool             // another gate has it all

	mutex  sync.Mutex // of what follows, and of who asks the lanes for something
	file   *policy.File
	recent *measure.History // for those who watch
	whole  *measure.History // for the report at the end
}

// open takes the interfaces for itself, or says which cannot be had and why.
func (r *runner) open() error {
	seen := make(map[string]bool)
	for _, p := range r.config.Ports {
		if seen[p.Device] {
			return fmt.Errorf("the interface %s is given for two ports: each needs one of its own", p.Device)
		}
		seen[p.Device] = true
		if err := r.mayTake(p.Device); err != nil {
			return err
		}
		lock, control, err := takeControl(p.Device, r.log)
		if err != nil {
			return err
		}
		if lock != nil {
			r.locks = append(r.locks, lock)
		}
		if control != nil {
			r.controls = append(r.controls, control)
		}
		l := &livePort{name: p.Interface, device: p.Device}
		r.ports = append(r.ports, l)
		if l.in.socket, err = OpenRing(p.Device); err != nil {
			return err
		}
		if l.out.socket, err = OpenSender(p.Device); err != nil {
			return err
		}
		if l.offloads, err = WithoutOffloads(p.Device); err != nil {
			return err
		}
	}
	return nil
}

// close gives the interfaces back as they were.
func (r *runner) close() {
	for _, l := range r.controls {
		l.Close()
	}
	r.serving.Wait()
	for _, p := range r.ports {
		if !r.handed {
			p.offloads.Restore()
		}
		for _, h := range []*half{&p.in, &p.out} {
			if h.socket != nil {
				h.socket.Close()
			}
		}
	}
	for _, l := range r.lanes {
		if l.event >= 0 {
			unix.Close(l.event)
		}
	}
	for _, l := range r.locks {
		l.Close()
	}
}

// mayTake reports that an interface is one that this machine talks by itself, unless it was said
// to be taken all the same.
func (r *runner) mayTake(device string) error {
	for _, t := range r.config.Take {
		if t == device {
			return nil
		}
	}
	i, err := net.InterfaceByName(device)
	if err != nil {
		return fmt.Errorf("there is no interface %q here", device)
	}
	addresses, err := i.Addrs()
	if err != nil {
		return fmt.Errorf("cannot ask for the addresses of %s: %w", device, err)
	}
	for _, a := range addresses {
		if n, ok := a.(*net.IPNet); ok && !n.IP.IsLinkLocalUnicast() {
			return fmt.Errorf("the interface %s has the address %s of this machine, which a gate would take from it: remove the address, or say --take %s", device, n.IP, device)
		}
	}
	if routes, err := os.ReadFile("/proc/net/route"); err == nil {
		for line := range strings.Lines(string(routes)) {
			if k := strings.Fields(line); len(k) > 7 && k[0] == device && k[1] == "00000000" && k[7] == "00000000" {
				return fmt.Errorf("the interface %s has the default route of this machine: remove it, or say --take %s", device, device)
			}
		}
	}
	return nil
}

// find returns the node of the file and the interfaces of the ports.
func (r *runner) find(f *policy.File) (*policy.Node, []*policy.Interface, error) {
	node, err := NodeOf(f, r.config.Node)
	if err != nil {
		return nil, nil, err
	}
	var ifaces []*policy.Interface
	for _, p := range r.config.Ports {
		i, err := InterfaceOf(node, p.Interface)
		if err != nil {
			return nil, nil, err
		}
		ifaces = append(ifaces, i)
	}
	return node, ifaces, nil
}

// do does something between two frames of each lane, one lane after the other; when they have ended, at once.
func (r *runner) do(what func(l *lane, now time.Duration, send func(int, []byte))) {
	for _, l := range r.lanes {
		done := make(chan struct{})
		ask := func(now time.Duration, send func(int, []byte)) {
			what(l, now, send)
			close(done)
		}
		select {
		case l.asked <- ask:
			l.wake()
		case <-r.over:
		case <-l.dead:
			continue
		}
		select {
		case <-done:
		case <-l.dead:
		case <-r.over:
			r.moving.Wait()
			select {
			case <-done:
			default:
				what(l, Monotonic()-r.began, func(int, []byte) {})
			}
		}
	}
}

// observe asks the lanes what they have done. The mutex is held.
func (r *runner) observe(sampled bool) *observed {
	o := &observed{ports: make([]PortReport, len(r.ports))}
	r.do(func(l *lane, now time.Duration, _ func(int, []byte)) {
		l.lane.Observe(&o.Observation, now, sampled)
		for _, n := range l.in {
			h := &r.ports[n].in
			h.count()
			o.ports[n].Received, o.ports[n].Missed, o.ports[n].Cut = h.totals.Received, h.totals.Missed, h.totals.Cut
		}
		for _, n := range l.out {
			h := &r.ports[n].out
			h.count()
			o.ports[n].Sent, o.ports[n].Refused, o.ports[n].Giants, o.ports[n].Lost = h.totals.Sent, h.totals.Refused, h.totals.Giants, h.totals.Lost
		}
	})
	r.gate.Observed(&o.Observation)
	for n, p := range r.ports {
		o.ports[n].Port, o.ports[n].Device = p.name, p.device
	}
	return o
}

// observed is what a gate and the machine's interfaces had done at a time.
type observed struct {
	gate.Observation
	ports []PortReport
}

// report says what the gate has done so far.
func (r *runner) report() *Report {
	r.mutex.Lock()
	o, h := r.observe(false), r.rehearsal()
	r.mutex.Unlock()
	lost := func(i *policy.Interface, d policy.Direction) uint64 {
		for n := range o.ports {
			if p := &o.ports[n]; p.Port == i.Name && d == policy.In {
				return p.Missed + p.Cut
			} else if p.Port == i.Name {
				return p.Refused + p.Lost
			}
		}
		return 0
	}
	return &Report{Result: o.Result(h, lost), Gate: o.Counts, Waiting: o.Waiting, Ports: o.ports}
}

// Snapshot returns what the gate has done so far.
func (r *runner) Snapshot() *Report {
	report := r.report()
	r.mutex.Lock()
	defer r.mutex.Unlock()
	report.Series = r.recent.Series()
	return report
}

// Figures returns a snapshot that holds all waits, not their percentiles alone.
func (r *runner) Figures() *Report {
	report := r.report()
	report.KeepDistributions()
	return report
}

// rehearsal returns that whose expectations are judged, or nil.
func (r *runner) rehearsal() *policy.Rehearsal {
	for i := range r.file.Rehearsals {
		if r.file.Rehearsals[i].Name == r.config.Expect {
			return &r.file.Rehearsals[i]
		}
	}
	return nil
}

// reload puts the policies of the file as it is now in force.
func (r *runner) reload() error {
	if r.config.Load == nil {
		return errors.New("this gate is managed: `imbrel deliver` changes its policies")
	}
	f, err := r.config.Load()
	if err == nil {
		err = r.Change(f)
	}
	if err != nil {
		r.log.Error("nothing was changed: " + err.Error())
		return err
	}
	r.log.Info("the policies are those of the file as it is now")
	return nil
}

// Change puts the policies of a file in force. Frames go on meanwhile: all that takes long is done beside them.
func (r *runner) Change(f *policy.File) error {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	node, ifaces, err := r.find(f)
	if err != nil {
		return err
	}
	p := r.gate.Prepare(f, node, ifaces)
	r.settle()
	r.do(func(l *lane, now time.Duration, send func(int, []byte)) { l.lane.Put(p, now, send) })
	r.gate.Reloaded(p)
	r.file = f
	return nil
}

// settle waits until no frame waits under the policies before the last.
func (r *runner) settle() {
	for moves := true; moves; {
		moves = false
		r.do(func(l *lane, _ time.Duration, _ func(int, []byte)) { moves = moves || l.lane.Moving() })
		if moves {
			time.Sleep(time.Millisecond)
		}
	}
}

// answer does what was asked for by name, for another program.
func (r *runner) answer(what string) (b []byte) {
	var err error
	switch what {
	case "snapshot":
		b, err = json.Marshal(r.Snapshot())
	case "figures":
		b, err = json.Marshal(r.Figures())
	case "reload":
		b, err = []byte("ok"), r.reload()
	case "upgrade":
		b, err = []byte("ok"), r.upgrade()
	default:
		err = fmt.Errorf("a gate is asked for `snapshot`, `figures`, `reload` or `upgrade`")
	}
	if err != nil {
		return []byte("error " + err.Error())
	}
	return b
}

// confine gives up all capabilities but those that an interface that comes back needs, and that reading the file again
// and writing other files does.
func confine(writes bool) {
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var data [2]unix.CapUserData
	if unix.Capget(&header, &data[0]) != nil {
		return
	}
	keep := uint32(1<<unix.CAP_NET_RAW | 1<<unix.CAP_NET_ADMIN | 1<<unix.CAP_DAC_READ_SEARCH)
	if writes {
		keep |= 1 << unix.CAP_DAC_OVERRIDE
	}
	for i := range data {
		mask := uint32(0)
		if i == 0 {
			mask = keep
		}
		data[i].Effective &= mask
		data[i].Permitted &= mask
		data[i].Inheritable = 0
	}
	capset(&header, &data)
}
