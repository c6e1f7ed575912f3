package netconf_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"imbrel.example/imbrel/core/netconf"
	"imbrel.example/imbrel/core/yang"
)

// A box is a device that remembers what is in force.
type box struct {
	mutex   sync.Mutex
	inForce *yang.Element
	saved   *yang.Element
	refuse  error
	renewed int
}

func (b *box) Check(c *yang.Element) error {
	if c != nil && strings.Contains(c.String(), "nonsense") {
		return &yang.Error{Type: "application", Tag: "operation-failed", Path: "/imbrel:policy-file", Message: "this is no rate"}
	}
	return nil
}

func (b *box) Apply(c *yang.Element) error {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if b.refuse != nil {
		return b.refuse
	}
	b.inForce = c
	return nil
}

func (b *box) Save(c *yang.Element) error { b.saved = c; return nil }
func (b *box) Renew() error               { b.renewed++; return nil }
func (b *box) State(commits int) *yang.Element {
	return yang.New("device", yang.Leaf("node", "hub"), yang.Leaf("commits", fmt.Sprint(commits)))
}

// shape returns the rate of the policy that is in force.
func (b *box) shape() string {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return b.inForce.TextOf("policies", "shape", "value")
}

func policyFile(rate string) *yang.Element {
	return yang.New("policy-file", yang.Leaf("imbrel", "1"), yang.New("policies", yang.Leaf("name", "wan"), yang.New("shape", yang.Leaf("value", rate)))).In(yang.Namespace)
}

// A yard is a server with a clock that the test turns.
type yard struct {
	*testing.T
	*netconf.Server
	box    *box
	timers []*timer
	mutex  sync.Mutex
	said   []string
	over   sync.WaitGroup
}

type timer struct {
	d       time.Duration
	do      func()
	stopped bool
}

func newYard(t *testing.T) *yard {
	y := &yard{T: t, box: &box{inForce: policyFile("1Mbit/s")}}
	y.Server = netconf.NewServer(y.box, y.box.inForce, nil)
	y.Server.Now = func() time.Time { return time.Unix(0, 0) }
	y.Server.After = func(d time.Duration, do func()) func() {
		x := &timer{d: d, do: do}
		y.timers = append(y.timers, x)
		return func() { x.stopped = true }
	}
	y.Server.Log = func(user string, session int, what string) {
		y.mutex.Lock()
		defer y.mutex.Unlock()
		y.said = append(y.said, fmt.Sprintf("%s %d %s", user, session, what))
	}
	return y
}

// A seat is a client's place at a server.
type seat struct {
	*netconf.Client
	conn net.Conn
}

// buffered lets both ends of a pipe write without a reader.
func buffered(c net.Conn) io.ReadWriteCloser {
	r, w := io.Pipe()
	var queue = make(chan []byte, 1024)
	go func() {
		for b := range queue {
			if _, err := c.Write(b); err != nil {
				return
			}
		}
	}()
	go func() {
		_, err := io.Copy(w, c)
		w.CloseWithError(errors.Join(err, io.EOF))
	}()
	return &pipe{r, queue, c}
}

type pipe struct {
	*io.PipeReader
	queue chan []byte
	c     net.Conn
}

func (p *pipe) Write(b []byte) (int, error) {
	p.queue <- bytes.Clone(b)
	return len(b), nil
}

func (p *pipe) Close() error { return p.c.Close() }

func (y *yard) sit(user string, reads bool) *seat {
	y.Helper()
	near, far := net.Pipe()
	y.over.Go(func() {
		_ = y.Serve(buffered(far), user, reads)
		far.Close()
	})
	c, err := netconf.Open(buffered(near), nil)
	if err != nil {
		y.Fatal(err)
	}
	return &seat{c, near}
}

func (y *yard) refused(err error, tag string) {
	y.Helper()
	var no *netconf.Refusal
	if !errors.As(err, &no) || no.Problems[0].Tag != tag {
		y.Errorf("%v, want %s", err, tag)
	}
}

func (y *yard) well(errs ...error) {
	y.Helper()
	if err := errors.Join(errs...); err != nil {
		y.Error(err)
	}
}

func (y *yard) has(shape string) {
	y.Helper()
	if got := y.box.shape(); got != shape {
		y.Errorf("in force: %s, want %s", got, shape)
	}
}

func rate(r string) *yang.Element {
	return yang.New("policy-file", yang.New("policies", yang.Leaf("name", "wan"), yang.New("shape", yang.Leaf("value", r))))
}

// One session and the datastores: RFC 6241 §7 and §8.
func TestDatastores(t *testing.T) {
	y := newYard(t)
	c := y.sit("anna", false)
	y.well(c.Speaks(), c.Lock("candidate"), c.Edit(rate("2Mbit/s")))
	y.has("1Mbit/s")
	y.well(c.Validate("candidate"), c.Commit())
	y.has("2Mbit/s")
	y.well(c.Edit(rate("3Mbit/s")), c.Discard())
	if e, err := c.Config("candidate"); err != nil || e.TextOf("policies", "shape", "value") != "2Mbit/s" {
		t.Errorf("candidate after discard: %v, %v", e, err)
	}
	y.well(c.Edit(rate("nonsense")))
	y.refused(c.Validate("candidate"), "operation-failed")
	y.refused(c.Commit(), "operation-failed")
	y.has("2Mbit/s")
	y.refused(c.Edit(yang.New("policy-file", yang.Leaf("polices", ""))), "unknown-element")
	if y.box.saved != nil {
		t.Error("a commit is saved")
	}
	y.well(c.Save())
	if y.box.saved.TextOf("policies", "shape", "value") != "2Mbit/s" {
		t.Error("what is in force is not saved")
	}
	if s, err := c.State(); err != nil || s.TextOf("node") != "hub" || s.TextOf("commits") != "1" {
		t.Errorf("state: %v, %v", s, err)
	}
	y.box.refuse = errors.New("the disk is full")
	y.well(c.Discard(), c.Edit(rate("4Mbit/s")))
	y.refused(c.Commit(), "operation-failed")
	y.has("2Mbit/s")
	y.well(c.Renew())
	if y.box.renewed != 1 {
		t.Error("nothing was renewed")
	}
	_ = c.Close() // the pipe may end before the reply is through
	c.conn.Close()
	y.over.Wait()
}

// A commit that is to be confirmed: RFC 6241 §8.4.
func TestConfirmedCommit(t *testing.T) {
	y := newYard(t)
	commit := func(c *seat, inner ...*yang.Element) error {
		_, err := c.Call(yang.New("commit", inner...))
		return err
	}
	a, b := y.sit("anna", false), y.sit("ben", false)
	y.well(a.Edit(rate("2Mbit/s")), a.CommitFor(time.Minute))
	y.has("2Mbit/s")
	y.refused(commit(b), "in-use")
	y.refused(b.Cancel(), "in-use")
	y.refused(b.Lock("running"), "lock-denied")
	y.well(a.CommitFor(2 * time.Minute)) // its time begins anew
	if !y.timers[0].stopped || y.timers[1].d != 2*time.Minute {
		t.Error("the time does not begin anew")
	}
	y.timers[0].do() // too late
	y.has("2Mbit/s")
	y.timers[1].do()
	y.has("1Mbit/s")

	y.well(a.Edit(rate("3Mbit/s")), a.CommitFor(time.Minute), a.Cancel())
	y.has("1Mbit/s")
	y.well(a.Discard(), a.Edit(rate("4Mbit/s")), a.CommitFor(time.Minute), a.Commit())
	y.has("4Mbit/s")
	if y.timers[len(y.timers)-1].do(); y.box.shape() != "4Mbit/s" {
		t.Error("what was confirmed was taken back")
	}

	// With a name, any session can confirm, and the end of the first changes nothing.
	y.well(a.Edit(rate("5Mbit/s")), commit(a, yang.New("confirmed"), yang.Leaf("persist", "x")))
	a.conn.Close()
	for y.sessions() > 1 {
		time.Sleep(time.Millisecond)
	}
	y.has("5Mbit/s")
	y.refused(commit(b), "invalid-value")
	y.refused(commit(b, yang.Leaf("persist-id", "y")), "invalid-value")
	y.well(commit(b, yang.Leaf("persist-id", "x")))
	y.has("5Mbit/s")

	// Without one, the end of the session takes it back.
	c := y.sit("carl", false)
	y.well(c.Edit(rate("6Mbit/s")), c.CommitFor(time.Minute))
	y.has("6Mbit/s")
	c.conn.Close()
	for y.sessions() > 1 {
		time.Sleep(time.Millisecond)
	}
	y.has("5Mbit/s")
	y.refused(commit(b, yang.Leaf("persist", "z")), "missing-element")
	y.refused(commit(b, yang.New("confirmed"), yang.Leaf("confirm-timeout", "0")), "invalid-value")
	b.conn.Close()
	y.over.Wait()
}

// sessions returns how many sessions are open.
func (y *yard) sessions() int {
	y.mutex.Lock()
	defer y.mutex.Unlock()
	n := 0
	for _, line := range y.said {
		if strings.HasSuffix(line, "session begins") {
			n++
		}
		if strings.HasSuffix(line, "session ends") {
			n--
		}
	}
	return n
}

// Two sessions, locks, rights and notifications.
func TestSessions(t *testing.T) {
	y := newYard(t)
	a, b, r := y.sit("anna", false), y.sit("ben", false), y.sit("rita", true)
	y.well(a.Lock("candidate"), a.Lock("running"), a.Lock("startup"))
	y.refused(b.Lock("candidate"), "lock-denied")
	y.refused(b.Edit(rate("2Mbit/s")), "in-use")
	y.refused(b.Commit(), "in-use")
	y.refused(b.Save(), "in-use")
	y.refused(b.Unlock("candidate"), "operation-failed")
	y.well(a.Edit(rate("2Mbit/s")), a.Unlock("candidate"), a.Unlock("running"), a.Unlock("startup"))
	if e, _ := b.Config("candidate"); e.TextOf("policies", "shape", "value") != "1Mbit/s" {
		t.Error("what a locked candidate had is there after the lock")
	}
	y.well(a.Edit(rate("2Mbit/s")))
	y.refused(b.Lock("candidate"), "lock-denied") // somebody's changes are in it
	y.well(a.Discard())
	for _, op := range []error{r.Lock("candidate"), r.Edit(rate("2Mbit/s")), r.Commit(), r.Save(), r.Discard(), r.Renew(), r.Cancel()} {
		y.refused(op, "access-denied")
	}
	if _, err := r.Config("running"); err != nil {
		t.Error(err)
	}
	if _, err := r.Call(yang.New("create-subscription").In("urn:ietf:params:xml:ns:netconf:notification:1.0")); err != nil {
		t.Fatal(err)
	}
	y.well(a.Edit(rate("2Mbit/s")), a.CommitFor(time.Minute), a.Commit())
	for i := 0; len(r.Events) < 2 && i < 100; i++ {
		if _, err := r.Config("running"); err != nil {
			t.Fatal(err)
		}
	}
	for i, want := range []string{"confirmed-commit", "confirmed"} {
		if e := r.Events[i].Find("committed"); e.TextOf("what") != want || e.TextOf("by") != "anna" {
			t.Errorf("notification %d: %s", i, r.Events[i])
		}
	}
	if _, err := a.Call(yang.New("kill-session", yang.Leaf("session-id", b.Session))); err != nil {
		t.Error(err)
	}
	if _, err := b.Config("running"); err == nil {
		t.Error("a killed session goes on")
	}
	y.refused(func() error { _, err := a.Call(yang.New("sing")); return err }(), "operation-not-supported")
	y.refused(func() error {
		_, err := a.Call(yang.New("get-config", yang.New("source", yang.New("moon"))))
		return err
	}(), "invalid-value")
	y.refused(func() error {
		_, err := a.Call(yang.New("edit-config", yang.New("target", yang.New("running")), yang.New("config")))
		return err
	}(), "invalid-value")
	a.conn.Close()
	r.conn.Close()
	y.over.Wait()
}

const hello = `<hello xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><capabilities><capability>urn:ietf:params:netconf:base:1.%d</capability></capabilities></hello>]]>]]>`

// raw sends bytes to a server and returns what it says, until it ends.
func raw(t testing.TB, s *netconf.Server, text []byte) string {
	t.Helper()
	var out bytes.Buffer
	_ = s.Serve(&tape{Reader: bytes.NewReader(text), to: &out}, "anna", false)
	return out.String()
}

// A tape is a connection that has been recorded.
type tape struct {
	io.Reader
	to *bytes.Buffer
}

func (t *tape) Write(b []byte) (int, error) { return t.to.Write(b) }
func (t *tape) Close() error                { return nil }

// What is no message, and what is one with a bomb in it.
func TestBadMessages(t *testing.T) {
	rpc := func(s string) string {
		return `<rpc message-id="7" xmlns="urn:ietf:params:xml:ns:netconf:base:1.0">` + s + `</rpc>]]>]]>`
	}
	for name, c := range map[string]struct {
		version    int
		text, want string
	}{
		"not XML":             {0, `<rpc<]]>]]>`, "malformed-message"},
		"a bomb":              {0, `<!DOCTYPE r [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;">]>` + rpc(`<get>&b;</get>`), "a type definition is not taken"},
		"deep":                {0, rpc(strings.Repeat("<a>", 300) + strings.Repeat("</a>", 300)), "more than 160 deep"},
		"many":                {0, rpc(strings.Repeat("<a/>", 500_000)), "more than 400000 elements"},
		"no number":           {0, `<rpc xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><get/></rpc>]]>]]>`, "missing-attribute"},
		"two operations":      {0, rpc("<get/><get/>"), "operation-not-supported"},
		"another namespace":   {0, `<rpc message-id="1" xmlns="urn:x"><get/></rpc>]]>]]>`, "unknown-namespace"},
		"well, 1.0":           {0, rpc("<discard-changes/>"), `message-id="7"><ok/>`},
		"well, 1.1":           {1, "\n#4\n<rpc\n#" + fmt.Sprint(len(rpc("<discard-changes/>"))-10) + "\n" + strings.TrimSuffix(strings.TrimPrefix(rpc("<discard-changes/>"), "<rpc"), "]]>]]>") + "\n##\n", `message-id="7"><ok/>`},
		"a chunk of nothing":  {1, "\n#0\n\n##\n", ""},
		"a chunk without end": {1, "\n#4294967295\nx", ""},
		"no chunk":            {1, "garbage", ""},
		"an end at once":      {1, "\n##\n", ""},
		"a filter by path":    {0, rpc(`<get><filter type="xpath" select="/"/></get>`), "operation-not-supported"},
	} {
		y := newYard(t)
		said := raw(t, y.Server, []byte(fmt.Sprintf(hello, c.version)+c.text))
		_, reply, _ := strings.Cut(said, "]]>]]>")
		if c.want == "" && reply != "" || !strings.Contains(reply, c.want) {
			t.Errorf("%s: %.500s, want %q", name, reply, c.want)
		}
	}
	y := newYard(t)
	if said := raw(t, y.Server, []byte(`<hello xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><capabilities/></hello>]]>]]>`)); strings.Count(said, "]]>]]>") != 1 {
		t.Error("a client that speaks no version is served")
	}
}

// A device that answers for ever, or with what it was not asked for, ends the session.
func TestEndlessAnswers(t *testing.T) {
	const theirs = `<hello xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><capabilities><capability>urn:ietf:params:netconf:base:1.0</capability></capabilities><session-id>1</session-id></hello>]]>]]>`
	for name, more := range map[string]string{
		"one message": "<a>", "notifications": `<notification xmlns="urn:ietf:params:xml:ns:netconf:notification:1.0"/>]]>]]>`, "other replies": `<rpc-reply message-id="9" xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"/>]]>]]>`, "no XML": `<]]>]]>`,
	} {
		c, err := netconf.Open(&tape{Reader: io.MultiReader(strings.NewReader(theirs), &endless{text: more}), to: &bytes.Buffer{}}, nil)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := c.Config("running"); err == nil {
			t.Errorf("%s: no error", name)
		}
	}
	if _, err := netconf.Open(&tape{Reader: &endless{text: "garbage>"}, to: &bytes.Buffer{}}, nil); err == nil {
		t.Error("garbage is taken for a hello")
	}
}

// An endless reader gives the same text again and again.
type endless struct {
	text string
	at   int
}

func (e *endless) Read(b []byte) (int, error) {
	for i := range b {
		b[i] = e.text[e.at]
		e.at = (e.at + 1) % len(e.text)
	}
	return len(b), nil
}

func FuzzServer(f *testing.F) {
	f.Add([]byte(fmt.Sprintf(hello, 0) + `<rpc message-id="1" xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><edit-config><target><candidate/></target><config><policy-file xmlns="https://imbrel.example/yang/policy"><policies><name>wan</name></policies></policy-file></config></edit-config></rpc>]]>]]>`))
	f.Add([]byte(fmt.Sprintf(hello, 1) + "\n#6\n<rpc/>\n##\n"))
	f.Add([]byte(fmt.Sprintf(hello, 0) + `<rpc message-id="1" xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><commit><confirmed/><persist>x</persist></commit></rpc>]]>]]><rpc message-id="1" xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><get><filter><device/></filter></get></rpc>]]>]]>`))
	f.Fuzz(func(t *testing.T, text []byte) {
		b := &box{inForce: policyFile("1Mbit/s")}
		s := netconf.NewServer(b, b.inForce, nil)
		s.Now = func() time.Time { return time.Unix(0, 0) }
		s.After = func(time.Duration, func()) func() { return func() {} }
		raw(t, s, text)
		raw(t, s, append([]byte(fmt.Sprintf(hello, 0)), text...))
		if b.shape() == "" && b.inForce != nil && s == nil {
			t.Error("nothing is in force")
		}
	})
}

func FuzzClient(f *testing.F) {
	const theirs = `<hello xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><capabilities><capability>urn:ietf:params:netconf:base:1.0</capability></capabilities><session-id>1</session-id></hello>]]>]]>`
	f.Add([]byte(theirs + `<rpc-reply message-id="1" xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><data/></rpc-reply>]]>]]>`))
	f.Add([]byte(theirs + `<rpc-reply message-id="1" xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><rpc-error><error-tag>x</error-tag></rpc-error></rpc-reply>]]>]]>`))
	f.Fuzz(func(t *testing.T, text []byte) {
		for _, said := range [][]byte{text, append([]byte(theirs), text...)} {
			c, err := netconf.Open(&tape{Reader: bytes.NewReader(said), to: &bytes.Buffer{}}, nil)
			if err != nil {
				continue
			}
			_, _ = c.Config("running")
			_, _ = c.State()
			_ = c.Commit()
		}
	})
}
