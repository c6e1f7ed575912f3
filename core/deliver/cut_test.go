package deliver_test

import (
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"imbrel.example/imbrel/core/deliver"
	"imbrel.example/imbrel/core/netconf"
	"imbrel.example/imbrel/core/yang"
)

// A box is a device in memory, with the server that a gate has.
type box struct {
	name    string
	mutex   sync.Mutex
	server  *netconf.Server
	inForce *yang.Element
	startup *yang.Element
	conns   []net.Conn
	lives   int
}

func (b *box) Check(*yang.Element) error { return nil }
func (b *box) Apply(c *yang.Element) error {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	b.inForce = c
	return nil
}

// A life is a box until it restarts: what was not done before then is never done.
type life struct {
	*box
	n int
}

func (l life) Apply(c *yang.Element) error {
	l.mutex.Lock()
	over := l.n != l.lives
	l.mutex.Unlock()
	if over {
		return errors.New("the device has restarted")
	}
	return l.box.Apply(c)
}
func (b *box) Save(c *yang.Element) error {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	b.startup = c
	return nil
}
func (b *box) State(int) *yang.Element { return yang.New("device") }
func (b *box) Renew() error            { return nil }

// start lets the box begin anew with what it keeps for that.
func (b *box) start() {
	b.inForce = b.startup
	b.lives++
	b.server = netconf.NewServer(life{b, b.lives}, b.startup, b.startup)
	b.server.After = func(d time.Duration, do func()) func() { t := time.AfterFunc(d, do); return func() { t.Stop() } }
	b.server.Now = time.Now
}

// A wire counts the messages between all, and cuts at one of them.
type wire struct {
	mutex sync.Mutex
	boxes map[string]*box
	count int
	at    int    // the message that is cut
	what  string // the connection, the device, or the caller
	dead  bool   // the caller
	open  sync.WaitGroup
}

// A line is the caller's end of a connection.
type line struct {
	net.Conn
	w   *wire
	box *box
}

// Write sends a message, or cuts it.
func (l *line) Write(b []byte) (int, error) {
	if l.w.cut(l.box, l.Conn) {
		return 0, errors.New("cut")
	}
	return l.Conn.Write(b)
}

// A far is the device's end of a connection.
type far struct{ line }

func (f *far) Write(b []byte) (int, error) { return f.line.Write(b) }

// Read returns what came. The device notices a cut late.
func (f *far) Read(b []byte) (int, error) {
	n, err := f.line.Read(b)
	if err != nil && f.w.isCut() {
		time.Sleep(2 * time.Millisecond)
	}
	return n, err
}

// cut counts a message and reports whether it is not to arrive.
func (w *wire) cut(b *box, c net.Conn) bool {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	w.count++
	if w.dead {
		return true
	}
	if w.count != w.at {
		return false
	}
	switch w.what {
	case "the caller": // and all that it has open
		w.dead = true
		for _, b := range w.boxes {
			for _, c := range b.conns {
				c.Close()
			}
		}
	case "the device":
		for _, c := range b.conns {
			c.Close()
		}
		b.mutex.Lock()
		b.start()
		b.mutex.Unlock()
	default:
		c.Close()
	}
	return true
}

func (w *wire) isCut() bool {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	return w.at > 0 && w.count >= w.at && w.count < w.at+4
}

func (w *wire) isDead() bool {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	return w.dead
}

// pair returns the two ends of a connection that holds what is on its way.
func pair() (near, away net.Conn) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		panic(err)
	}
	defer l.Close()
	if near, err = net.Dial("tcp", l.Addr().String()); err != nil {
		panic(err)
	}
	if away, err = l.Accept(); err != nil {
		panic(err)
	}
	return near, away
}

// dial opens a session with a box.
func (w *wire) dial(name string) (deliver.Session, error) {
	b := w.boxes[name]
	w.mutex.Lock()
	if w.dead {
		w.mutex.Unlock()
		return nil, errors.New("the caller is no more")
	}
	near, away := pair()
	b.conns = append(b.conns, near, away)
	server := b.server
	w.mutex.Unlock()
	w.open.Go(func() {
		_ = server.Serve(&far{line{away, w, b}}, "anna", false)
		away.Close()
	})
	c, err := netconf.Open(&line{near, w, b}, nil)
	if err != nil {
		near.Close()
		return nil, err
	}
	return closing{c, near}, nil
}

// closing ends the connection with the session.
type closing struct {
	*netconf.Client
	conn net.Conn
}

func (c closing) Close() error {
	defer c.conn.Close()
	return c.Client.Close()
}

func policyFile(name, rate string) *yang.Element {
	return yang.New("policy-file", yang.Leaf("imbrel", "1"), yang.New("policies", yang.Leaf("name", name), yang.New("shape", yang.Leaf("value", rate)),
		yang.New("treat", yang.Leaf("id", "rest"), yang.Leaf("class", "rest")))).In(yang.Namespace)
}

// A delivery to three devices is cut at every message, in three ways: the connection breaks, the device restarts, the caller dies. Afterwards each device
// is as before or as wished, and the outcome says which. With `together` all are the same. After the caller died, this holds when it has resumed.
func TestCutAtEveryMessage(t *testing.T) {
	names := []string{"ternrock", "harbour", "skerry"}
	for _, together := range []bool{true, false} {
		for _, what := range []string{"the connection", "the device", "the caller"} {
			last := 1000
			for at := 1; at <= last; at++ {
				w := &wire{boxes: make(map[string]*box), at: at, what: what}
				var targets []*deliver.Target
				for _, name := range names {
					b := &box{name: name, startup: policyFile(name, "10Mbit/s")}
					b.start()
					w.boxes[name] = b
					targets = append(targets, &deliver.Target{Node: name, Before: policyFile(name, "10Mbit/s"), After: policyFile(name, "1Mbit/s")})
				}
				decided := false
				plan := deliver.Plan{Waves: [][]*deliver.Target{targets[:1], targets[1:]}, Together: together, Confirm: time.Minute, Parallel: 1, Open: w.dial,
					Decide: func([]string) error {
						w.mutex.Lock()
						defer w.mutex.Unlock()
						if w.dead {
							return errors.New("the caller is no more")
						}
						decided = true
						return nil
					},
					Settle: func(try int) bool { time.Sleep(time.Millisecond); return try < 20 && !w.isDead() }}
				out, err := plan.Deliver()
				w.mutex.Lock()
				messages, dead := w.count, w.dead
				w.mutex.Unlock()
				if what == "the caller" && dead { // it comes back, and finishes
					w.open.Wait()
					w.mutex.Lock()
					w.dead, w.at = false, 0
					w.mutex.Unlock()
					if decided && together {
						out, err = plan.Finish(deliver.AsWished)
					} else {
						plan.Settle = nil
						out, err = plan.Look()
						if !together {
							err = nil // each by itself
						}
					}
				}
				w.open.Wait()
				if messages < at {
					if err != nil {
						t.Fatalf("without a cut: %v", err)
					}
					last = 0
				}
				said := make(map[deliver.State]int)
				for i, o := range out {
					b := w.boxes[o.Node]
					is := rate(b.inForce)
					said[o.State]++
					if want := map[deliver.State]string{deliver.AsBefore: "10Mbit/s", deliver.AsWished: "1Mbit/s"}[o.State]; want != is {
						t.Fatalf("cut of %s at message %d, together %v: %s is said to be %q, and has %s (%v, %s)", what, at, together, o.Node, o.State, is, err, out[i].Why)
					}
					if o.Saved && rate(b.startup) != is {
						t.Fatalf("cut of %s at message %d: %s is said to be saved, and its next start has %s", what, at, o.Node, rate(b.startup))
					}
				}
				if together && len(said) != 1 {
					t.Fatalf("cut of %s at message %d: not all are the same: %v (%v)", what, at, said, err)
				}
			}
			if last == 1000 {
				t.Errorf("cuts of %s have no end", what)
			}
		}
	}
}

// rate returns the rate of the policy of a configuration.
func rate(e *yang.Element) string { return e.TextOf("policies", "shape", "value") }

// What fails in a verification, and what somebody changed meanwhile, leaves all devices as they were.
func TestNothingIsLeftHalf(t *testing.T) {
	for name, c := range map[string]struct {
		meanwhile string
		verify    error
		decide    error
		want      string
	}{
		"a failed verification":            {verify: errors.New("3 calls are ruined"), want: "3 calls are ruined"},
		"a disk without room":              {decide: errors.New("no space left on device"), want: "no space left"},
		"a change between read and commit": {meanwhile: "2Mbit/s", want: "somebody changed it"},
	} {
		w := &wire{boxes: make(map[string]*box)}
		var targets []*deliver.Target
		for i := range 3 {
			name := fmt.Sprintf("site%d", i)
			b := &box{name: name, startup: policyFile(name, "10Mbit/s")}
			if i == 2 && c.meanwhile != "" {
				b.startup = policyFile(name, c.meanwhile)
			}
			b.start()
			w.boxes[name] = b
			targets = append(targets, &deliver.Target{Node: name, Before: policyFile(name, "10Mbit/s"), After: policyFile(name, "1Mbit/s")})
		}
		plan := deliver.Plan{Waves: [][]*deliver.Target{targets}, Together: true, Confirm: time.Minute, Parallel: 3, Open: w.dial, Verify: func(int, []string) error { return c.verify }, Decide: func([]string) error { return c.decide }}
		out, err := plan.Deliver()
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
		for i, o := range out {
			if is := rate(w.boxes[o.Node].inForce); o.State != deliver.AsBefore || is == "1Mbit/s" {
				t.Errorf("%s: device %d is said to be %q and has %s", name, i, o.State, is)
			}
		}
		w.open.Wait()
	}
}
