package netconf

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/yang"
)

// Namespaces, beside that of yang.Base.
const (
	notifications = "urn:ietf:params:xml:ns:netconf:notification:1.0"
	monitoring    = "urn:ietf:params:xml:ns:yang:ietf-netconf-monitoring"
	library       = "urn:ietf:params:xml:ns:yang:ietf-yang-library"
	capability    = "urn:ietf:params:netconf:capability:"
	base10        = "urn:ietf:params:netconf:base:1.0"
	base11        = "urn:ietf:params:netconf:base:1.1"
)

// capabilities are what a device says that it can do.
var capabilities = []string{base10, base11, capability + "candidate:1.0", capability + "confirmed-commit:1.0", capability + "confirmed-commit:1.1", capability + "rollback-on-error:1.0",
	capability + "validate:1.0", capability + "validate:1.1", capability + "startup:1.0", capability + "with-defaults:1.0?basic-mode=explicit&also-supported=report-all,trim",
	capability + "notification:1.0", capability + "interleave:1.0", capability + "yang-library:1.0?revision=2016-06-21&module-set-id=" + yang.Revision,
	monitoring + "?module=ietf-netconf-monitoring&revision=2010-10-04",
	yang.Namespace + "?module=" + yang.Module + "&revision=" + yang.Revision}

// An Editor is a device that changes a candidate further when it is edited: what it does to the configuration after the edit.
type Editor interface {
	Edited(before, after, edit *yang.Element)
}

// MaxSessions is how many sessions a device has at a time.
const MaxSessions = 16

// defaultTimeout is how long a commit waits to be confirmed when nothing is said (RFC 6241 §8.4.5.1).
const defaultTimeout = 600 * time.Second

// A Device is what is managed.
type Device interface {
	// Check says what is wrong with a configuration: an error, or a list of *yang.Error by errors.Join.
	Check(config *yang.Element) error
	// Apply puts a configuration in force, or says why it does not.
	Apply(config *yang.Element) error
	// Save keeps a configuration for the next start; nil: none.
	Save(config *yang.Element) error
	// State returns the element `device` of the module: what it says of itself. commits is for it to say.
	State(commits int) *yang.Element
	// Renew puts flows that are under way into their new classes.
	Renew() error
}

// A Server manages a device: its datastores, and who is at work on them. It is safe for several sessions at a time.
type Server struct {
	Device Device
	Log    func(user string, session int, what string) // may be nil
	After  func(d time.Duration, do func()) (stop func())
	Now    func() time.Time // for the times of notifications

	mutex     sync.Mutex
	form      *language.Form
	running   *yang.Element
	candidate *yang.Element
	startup   *yang.Element
	modified  bool // the candidate, since it was that in force
	locks     map[string]*session
	sessions  map[int]*session
	last      int // session number
	commits   int
	waiting   *confirmation
}

// A confirmation is what a commit waits for.
type confirmation struct {
	before   *yang.Element
	by       *session
	persist  string // what confirms it from another session; "": none does
	stop     func()
	sequence int
}

// NewServer returns the server of a device with the configuration in force, and that of the next start. Its clock is to be set.
func NewServer(d Device, running, startup *yang.Element) *Server {
	return &Server{Device: d, form: language.DeviceForm(), running: running, candidate: running, startup: startup, locks: make(map[string]*session), sessions: make(map[int]*session)}
}

// Running returns the configuration in force, whether it is that of the next start, and whether it waits to be confirmed.
func (s *Server) Running() (config *yang.Element, saved, waits bool) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return s.running, yang.Difference(s.form, s.startup, s.running) == nil && yang.Difference(s.form, s.running, s.startup) == nil, s.waiting != nil
}

// A session is one of a client's.
type session struct {
	*Server
	id       int
	user     string
	reads    bool // it may change nothing
	messages *framer
	close    func()
	events   chan []byte // nil: not subscribed
	ends     bool
}

// Serve serves one session until it ends. A user who reads may change nothing. The caller closes the connection.
func (s *Server) Serve(c io.ReadWriteCloser, user string, reads bool) error {
	k := &session{Server: s, user: user, reads: reads, messages: newFramer(c), close: func() { c.Close() }}
	s.mutex.Lock()
	if len(s.sessions) >= MaxSessions {
		s.mutex.Unlock()
		return fmt.Errorf("%d sessions are open, and a device has no more", MaxSessions)
	}
	s.last++
	k.id = s.last
	s.sessions[k.id] = k
	s.mutex.Unlock()
	k.log("session begins")
	defer k.end()
	hello := yang.New("hello", yang.New("capabilities")).In(yang.Base)
	for _, c := range capabilities {
		hello.Inner[0].Add(yang.Leaf("capability", c))
	}
	hello.Add(yang.Leaf("session-id", strconv.Itoa(k.id)))
	if err := k.send(hello); err != nil {
		return err
	}
	text, err := k.messages.read()
	if err != nil {
		return err
	}
	theirs, err := yang.Parse(text)
	if err != nil || theirs.Name != "hello" || theirs.Space != yang.Base || theirs.Find("session-id") != nil {
		return errors.New("a session begins with hello")
	}
	switch {
	case has(theirs, base11):
		k.messages.chunked = true
	case !has(theirs, base10):
		return errors.New("the client speaks neither version 1.0 nor 1.1")
	}
	for !k.ends {
		text, err := k.messages.read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if err := k.send(k.answer(text)); err != nil {
			return err
		}
	}
	return nil
}

// has reports whether a hello has a capability.
func has(hello *yang.Element, c string) bool {
	list := hello.Find("capabilities")
	return list != nil && slices.ContainsFunc(list.Inner, func(e *yang.Element) bool { return e.Text == c })
}

func (k *session) log(format string, args ...any) {
	if k.Log != nil {
		k.Log(k.user, k.id, fmt.Sprintf(format, args...))
	}
}

func (k *session) send(e *yang.Element) error {
	return k.messages.write(append([]byte(`<?xml version="1.0" encoding="UTF-8"?>`+"\n"), e.Append(nil, "", "")...))
}

// end gives up what a session had: its locks, a commit that only it could confirm, and changes of the candidate that it had locked.
func (k *session) end() {
	s := k.Server
	s.mutex.Lock()
	defer s.mutex.Unlock()
	delete(s.sessions, k.id)
	if s.waiting != nil && s.waiting.by == k && s.waiting.persist == "" {
		s.takeBack("the session ended that could confirm the commit")
	}
	for store, by := range s.locks {
		if by == k {
			delete(s.locks, store)
			if store == "candidate" {
				s.discard()
			}
		}
	}
	if k.events != nil {
		close(k.events)
		k.events = nil
	}
	k.log("session ends")
}

func (s *Server) discard() { s.candidate, s.modified = s.running, false }

// answer returns the reply to a message.
func (k *session) answer(text []byte) *yang.Element {
	reply := yang.New("rpc-reply").In(yang.Base)
	fail := func(e *yang.Error) *yang.Element { return reply.Add(problem(e)) }
	rpc, err := yang.Parse(text)
	switch {
	case err != nil:
		return fail(&yang.Error{Type: "rpc", Tag: "malformed-message", Message: err.Error()})
	case rpc.Name != "rpc" || rpc.Space != yang.Base:
		return fail(&yang.Error{Type: "rpc", Tag: "unknown-namespace", Element: rpc.Name, Message: "expected rpc in the namespace " + yang.Base})
	}
	reply.Attr = rpc.Attr
	switch {
	case rpc.Attribute("", "message-id") == "":
		return fail(&yang.Error{Type: "rpc", Tag: "missing-attribute", Element: "rpc", Message: "rpc needs the attribute message-id", Info: []*yang.Element{yang.Leaf("bad-attribute", "message-id")}})
	case len(rpc.Inner) != 1:
		return fail(&yang.Error{Type: "protocol", Tag: "operation-not-supported", Message: "an rpc has one operation"})
	}
	op := rpc.Inner[0]
	row, known := operations[op.Space+" "+op.Name]
	if !known {
		return fail(&yang.Error{Type: "protocol", Tag: "operation-not-supported", Element: op.Name, Message: fmt.Sprintf("there is no operation `%.60s` in %.100s", op.Name, op.Space)})
	}
	if row.changes && k.reads {
		k.log("%s refused: the key may read only", op.Name)
		return fail(&yang.Error{Type: "protocol", Tag: "access-denied", Message: "this key may read only"})
	}
	k.mutex.Lock()
	data, err := row.do(k, op)
	k.mutex.Unlock()
	if row.changes || err != nil {
		k.log("%s", outcome(op, err))
	}
	if err != nil {
		for _, e := range problems(err) {
			reply.Add(problem(e))
		}
		return reply
	}
	if data == nil {
		data = yang.New("ok")
	}
	return reply.Add(data)
}

// outcome returns a line for the log: the operation, and its error.
func outcome(op *yang.Element, err error) string {
	out := op.Name
	for _, k := range op.Inner {
		switch {
		case k.Name == "source" && len(k.Inner) == 1:
			out += " from " + k.Inner[0].Name
		case k.Name == "target" && len(k.Inner) == 1:
			out += " to " + k.Inner[0].Name
		case k.Name == "confirmed":
			out += ", to be confirmed"
		case k.Name == "confirm-timeout" && len(k.Text) < 10:
			out += " within " + k.Text + " s"
		}
	}
	out = strings.Replace(strings.Replace(out, "lock to ", "lock ", 1), "edit-config to ", "edit-config of ", 1)
	if err != nil {
		return out + ": " + strings.ReplaceAll(err.Error(), "\n", "; ")
	}
	return out
}

// problems returns the parts of an error.
func problems(err error) (out []*yang.Error) {
	if many, ok := err.(interface{ Unwrap() []error }); ok {
		for _, e := range many.Unwrap() {
			out = append(out, problems(e)...)
		}
		return out
	}
	var e *yang.Error
	if !errors.As(err, &e) {
		e = &yang.Error{Type: "application", Tag: "operation-failed", Message: err.Error()}
	}
	return []*yang.Error{e}
}

// problem returns an error as the protocol says it (RFC 6241 §4.3).
func problem(e *yang.Error) *yang.Element {
	out := yang.New("rpc-error", yang.Leaf("error-type", e.Type), yang.Leaf("error-tag", e.Tag), yang.Leaf("error-severity", "error"))
	if e.Path != "" {
		path := yang.Leaf("error-path", e.Path)
		path.Attr = append(path.Attr, xml.Attr{Name: xml.Name{Local: "xmlns:imbrel"}, Value: yang.Namespace})
		out.Add(path)
	}
	out.Add(yang.Leaf("error-message", e.Message))
	info := yang.New("error-info", e.Info...)
	if e.Element != "" {
		info.Add(yang.Leaf("bad-element", e.Element))
	}
	if len(info.Inner) > 0 {
		out.Add(info)
	}
	return out
}

// An operation is one that a client can call.
type operation struct {
	changes bool
	do      func(k *session, op *yang.Element) (*yang.Element, error)
}

// operations are those there are, by namespace and name.
var operations = map[string]operation{
	yang.Base + " get":                     {false, (*session).get},
	yang.Base + " get-config":              {false, (*session).getConfig},
	yang.Base + " edit-config":             {true, (*session).editConfig},
	yang.Base + " copy-config":             {true, (*session).copyConfig},
	yang.Base + " delete-config":           {true, (*session).deleteConfig},
	yang.Base + " lock":                    {true, (*session).lock},
	yang.Base + " unlock":                  {true, (*session).unlock},
	yang.Base + " close-session":           {false, (*session).closeSession},
	yang.Base + " kill-session":            {true, (*session).killSession},
	yang.Base + " validate":                {false, (*session).validate},
	yang.Base + " commit":                  {true, (*session).commit},
	yang.Base + " discard-changes":         {true, (*session).discardChanges},
	yang.Base + " cancel-commit":           {true, (*session).cancelCommit},
	notifications + " create-subscription": {false, (*session).subscribe},
	monitoring + " get-schema":             {false, (*session).getSchema},
	yang.Namespace + " renew":              {true, func(k *session, _ *yang.Element) (*yang.Element, error) { return nil, k.Device.Renew() }},
}
