package netconf

import (
	"cmp"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"maps"
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

// outcome says what was called, and what came of it.
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
var operations map[string]operation

func init() {
	operations = map[string]operation{
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
}

// invalid is an error about a parameter.
func invalid(element, format string, args ...any) error {
	return &yang.Error{Type: "protocol", Tag: "invalid-value", Element: element, Message: fmt.Sprintf(format, args...)}
}

// store returns the datastore that a parameter of an operation names, and its configuration.
func (k *session) store(op *yang.Element, parameter string) (name string, config *yang.Element, err error) {
	p := op.Find(parameter)
	if p == nil || len(p.Inner) != 1 {
		return "", nil, &yang.Error{Type: "protocol", Tag: "missing-element", Element: parameter, Message: fmt.Sprintf("`%s` needs `%s` with one datastore", op.Name, parameter)}
	}
	switch name = p.Inner[0].Name; name {
	case "running":
		return name, k.running, nil
	case "candidate":
		return name, k.candidate, nil
	case "startup":
		return name, k.startup, nil
	case "config":
		return name, p.Inner[0].Find(k.form.Name), nil
	}
	return "", nil, invalid(name, "there is no datastore `%.60s`: there are running, candidate and startup", name)
}

// filtered returns data of a reply, as far as the filter of an operation selects it.
func filtered(op *yang.Element, data *yang.Element) (*yang.Element, error) {
	data.Space = yang.Base
	if mode := op.TextOf("with-defaults"); mode != "" && mode != "explicit" && mode != "report-all" && mode != "trim" {
		return nil, invalid("with-defaults", "%.40q is not supported", mode)
	}
	f := op.Find("filter")
	if f == nil {
		return data, nil
	}
	if kind := f.Attribute("", "type"); kind != "" && kind != "subtree" {
		return nil, &yang.Error{Type: "protocol", Tag: "operation-not-supported", Message: "filters are of the type subtree"}
	}
	return yang.Filter(f, data), nil
}

func (k *session) get(op *yang.Element) (*yang.Element, error) {
	data := yang.New("data")
	if k.running != nil {
		data.Add(k.running)
	}
	return filtered(op, data.Add(k.Device.State(k.commits).In(yang.Namespace), k.monitored(), modules()))
}

func (k *session) getConfig(op *yang.Element) (*yang.Element, error) {
	_, config, err := k.store(op, "source")
	if err != nil {
		return nil, err
	}
	data := yang.New("data")
	if config != nil {
		data.Add(config)
	}
	return filtered(op, data)
}

// monitored says which schemas and sessions there are (RFC 6022).
func (k *session) monitored() *yang.Element {
	schema := yang.New("schema", yang.Leaf("identifier", yang.Module), yang.Leaf("version", yang.Revision), yang.Leaf("format", "yang"), yang.Leaf("namespace", yang.Namespace), yang.Leaf("location", "NETCONF"))
	all := yang.New("sessions")
	for _, id := range slices.Sorted(maps.Keys(k.sessions)) {
		all.Add(yang.New("session", yang.Leaf("session-id", strconv.Itoa(id)), yang.Leaf("transport", "netconf-ssh"), yang.Leaf("username", k.sessions[id].user)))
	}
	return yang.New("netconf-state", yang.New("schemas", schema), all).In(monitoring)
}

// modules says which modules there are (RFC 7895).
func modules() *yang.Element {
	row := func(name, revision, space, kind string) *yang.Element {
		return yang.New("module", yang.Leaf("name", name), yang.Leaf("revision", revision), yang.Leaf("namespace", space), yang.Leaf("conformance-type", kind))
	}
	return yang.New("modules-state", yang.Leaf("module-set-id", yang.Revision), row(yang.Module, yang.Revision, yang.Namespace, "implement"),
		row("ietf-netconf-monitoring", "2010-10-04", monitoring, "implement"), row("ietf-yang-library", "2016-06-21", library, "implement")).In(library)
}

func (k *session) getSchema(op *yang.Element) (*yang.Element, error) {
	if op.TextOf("identifier") != yang.Module || cmp.Or(op.TextOf("version"), yang.Revision) != yang.Revision {
		return nil, invalid("identifier", "the schema that there is here is %s of %s", yang.Module, yang.Revision)
	}
	return yang.Leaf("data", yang.Text()).In(monitoring), nil
}

// free reports an error when another session has locked a datastore.
func (k *session) free(store string) error {
	if by := k.locks[store]; by != nil && by != k {
		return &yang.Error{Type: "protocol", Tag: "in-use", Message: fmt.Sprintf("session %d of %s has locked %s", by.id, by.user, store)}
	}
	return nil
}

func (k *session) editConfig(op *yang.Element) (*yang.Element, error) {
	name, _, err := k.store(op, "target")
	if err != nil {
		return nil, err
	}
	if name != "candidate" {
		return nil, invalid("target", "the candidate is edited, and then committed: %s is not edited itself", name)
	}
	if err := k.free(name); err != nil {
		return nil, err
	}
	edit := op.Find("config")
	if edit == nil {
		return nil, &yang.Error{Type: "protocol", Tag: "missing-element", Element: "config", Message: "`edit-config` needs `config`"}
	}
	otherwise, test, onError := cmp.Or(op.TextOf("default-operation"), "merge"), cmp.Or(op.TextOf("test-option"), "test-then-set"), op.TextOf("error-option")
	switch {
	case otherwise != "merge" && otherwise != "replace" && otherwise != "none":
		return nil, invalid("default-operation", "it is merge, replace or none")
	case test != "test-then-set" && test != "set" && test != "test-only":
		return nil, invalid("test-option", "it is test-then-set, set or test-only")
	case onError != "" && onError != "stop-on-error" && onError != "continue-on-error" && onError != "rollback-on-error":
		return nil, invalid("error-option", "it is stop-on-error, continue-on-error or rollback-on-error")
	}
	for _, e := range edit.Inner {
		if e.Space != yang.Namespace {
			return nil, &yang.Error{Type: "application", Tag: "unknown-namespace", Element: e.Name, Message: fmt.Sprintf("`%.60s` is not in the namespace %s", e.Name, yang.Namespace)}
		}
	}
	config := k.candidate
	if otherwise == "replace" {
		config = nil
	}
	if config, err = yang.Edit(k.form, config, edit, strings.Replace(otherwise, "replace", "merge", 1)); err != nil {
		return nil, err // nothing of it is done, whatever the error-option
	}
	if config != nil {
		config.Space = yang.Namespace
	}
	if e, is := k.Device.(Editor); is && config != nil && k.candidate != nil && len(edit.Inner) > 0 {
		e.Edited(k.candidate, config, edit.Inner[0])
	}
	if test != "set" { // a candidate may be in the making: what is wrong with it is said by validate
		var r yang.Reader
		if config != nil {
			if _, err := r.Value(k.form, config); err != nil {
				return nil, err
			}
		}
	}
	if test != "test-only" {
		k.candidate, k.modified = config, true
	}
	return nil, nil
}

func (k *session) copyConfig(op *yang.Element) (*yang.Element, error) {
	target, _, err := k.store(op, "target")
	if err != nil {
		return nil, err
	}
	_, config, err := k.store(op, "source")
	if err != nil {
		return nil, err
	}
	if err := k.free(target); err != nil {
		return nil, err
	}
	switch target {
	case "candidate":
		k.candidate, k.modified = config.Clone(), true
		if config != nil {
			k.candidate.Space = yang.Namespace
		}
		return nil, nil
	case "startup":
		if err := k.Device.Check(config); err != nil {
			return nil, err
		}
		if err := k.Device.Save(config); err != nil {
			return nil, err
		}
		k.startup = config
		return nil, nil
	}
	return nil, invalid("target", "%s is not written by a copy: edit the candidate and commit it", target)
}

func (k *session) deleteConfig(op *yang.Element) (*yang.Element, error) {
	target, _, err := k.store(op, "target")
	if err != nil {
		return nil, err
	}
	if target != "startup" {
		return nil, invalid("target", "only the startup can be deleted")
	}
	if err := k.free(target); err != nil {
		return nil, err
	}
	if err := k.Device.Save(nil); err != nil {
		return nil, err
	}
	k.startup = nil
	return nil, nil
}

func (k *session) lock(op *yang.Element) (*yang.Element, error) {
	store, _, err := k.store(op, "target")
	if err != nil {
		return nil, err
	}
	denied := func(id int, format string, args ...any) error {
		return &yang.Error{Type: "protocol", Tag: "lock-denied", Message: fmt.Sprintf(format, args...), Info: []*yang.Element{yang.Leaf("session-id", strconv.Itoa(id))}}
	}
	switch by := k.locks[store]; {
	case by != nil:
		return nil, denied(by.id, "session %d of %s has locked %s", by.id, by.user, store)
	case store == "candidate" && k.modified:
		return nil, denied(0, "the candidate has changes that nobody has committed: discard-changes gives them up")
	case store == "running" && k.waiting != nil && k.waiting.by != k:
		return nil, denied(k.waiting.sessionID(), "a commit waits to be confirmed")
	}
	k.locks[store] = k
	return nil, nil
}

// sessionID returns the number of the session that made the commit, 0 when it has ended.
func (c *confirmation) sessionID() int {
	if c.by == nil {
		return 0
	}
	return c.by.id
}

func (k *session) unlock(op *yang.Element) (*yang.Element, error) {
	store, _, err := k.store(op, "target")
	if err != nil {
		return nil, err
	}
	if k.locks[store] != k {
		return nil, &yang.Error{Type: "protocol", Tag: "operation-failed", Message: "this session has not locked " + store}
	}
	delete(k.locks, store)
	if store == "candidate" {
		k.discard()
	}
	return nil, nil
}

func (k *session) closeSession(*yang.Element) (*yang.Element, error) {
	k.ends = true
	return nil, nil
}

func (k *session) killSession(op *yang.Element) (*yang.Element, error) {
	id, err := strconv.Atoi(op.TextOf("session-id"))
	other := k.sessions[id]
	if err != nil || other == nil || other == k {
		return nil, invalid("session-id", "there is no other session %.20q", op.TextOf("session-id"))
	}
	other.close()
	return nil, nil
}

func (k *session) validate(op *yang.Element) (*yang.Element, error) {
	_, config, err := k.store(op, "source")
	if err != nil {
		return nil, err
	}
	return nil, k.Device.Check(config)
}

func (k *session) discardChanges(*yang.Element) (*yang.Element, error) {
	if err := k.free("candidate"); err != nil {
		return nil, err
	}
	k.discard()
	return nil, nil
}

// maxTimeout is the longest that a commit waits to be confirmed.
const maxTimeout = 7 * 24 * time.Hour

func (k *session) commit(op *yang.Element) (*yang.Element, error) {
	for _, store := range []string{"candidate", "running"} {
		if err := k.free(store); err != nil {
			return nil, err
		}
	}
	confirmed, persist, id := op.Find("confirmed") != nil, op.TextOf("persist"), op.TextOf("persist-id")
	timeout := defaultTimeout
	if text := op.TextOf("confirm-timeout"); text != "" {
		n, err := strconv.ParseUint(text, 10, 32)
		if err != nil || n == 0 || time.Duration(n)*time.Second > maxTimeout {
			return nil, invalid("confirm-timeout", "it is a number of seconds from 1 to %d", maxTimeout/time.Second)
		}
		timeout = time.Duration(n) * time.Second
	}
	w := k.waiting
	switch {
	case !confirmed && (persist != "" || op.Find("confirm-timeout") != nil):
		return nil, &yang.Error{Type: "protocol", Tag: "missing-element", Element: "confirmed", Message: "`persist` and `confirm-timeout` are of a confirmed commit"}
	case w == nil && id != "":
		return nil, invalid("persist-id", "no commit waits to be confirmed")
	case w != nil && w.persist != id:
		return nil, invalid("persist-id", "it is not that of the commit that waits to be confirmed")
	case w != nil && w.persist == "" && w.by != k:
		return nil, &yang.Error{Type: "protocol", Tag: "in-use", Message: fmt.Sprintf("a commit of session %d waits to be confirmed", w.sessionID())}
	}
	before := k.running
	if k.candidate != k.running {
		if err := k.Device.Check(k.candidate); err != nil {
			return nil, err
		}
		if err := k.Device.Apply(k.candidate); err != nil {
			return nil, err
		}
		k.commits++
		k.running, k.modified = k.candidate, false
	}
	what := "commit"
	switch {
	case confirmed:
		what = "confirmed-commit"
		if w == nil {
			w = &confirmation{before: before}
			k.waiting = w
		} else {
			w.stop()
		}
		w.sequence++
		w.by, w.persist = k, persist
		sequence := w.sequence
		w.stop = k.After(timeout, func() { k.Server.timedOut(w, sequence) })
	case w != nil:
		what = "confirmed"
		w.stop()
		k.waiting = nil
	}
	k.tell(k.user, k.id, what)
	return nil, nil
}

// timedOut takes a commit back that nobody has confirmed.
func (s *Server) timedOut(w *confirmation, sequence int) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.waiting == w && w.sequence == sequence {
		s.takeBack("the commit was not confirmed in time")
	}
}

// takeBack puts what was in force before a commit in force again.
func (s *Server) takeBack(why string) {
	w := s.waiting
	s.waiting = nil
	w.stop()
	if err := s.Device.Apply(w.before); err != nil {
		why += ", and what was before cannot be put in force: " + err.Error()
	} else {
		if s.candidate == s.running {
			s.candidate = w.before
		}
		s.running = w.before
		s.commits++
	}
	if s.Log != nil {
		s.Log("the device", 0, "taken back: "+why)
	}
	s.tell("the device", 0, "taken-back")
}

func (k *session) cancelCommit(op *yang.Element) (*yang.Element, error) {
	w, id := k.waiting, op.TextOf("persist-id")
	switch {
	case w == nil:
		return nil, &yang.Error{Type: "protocol", Tag: "operation-failed", Message: "no commit waits to be confirmed"}
	case w.persist != id:
		return nil, invalid("persist-id", "it is not that of the commit that waits to be confirmed")
	case w.persist == "" && w.by != k:
		return nil, &yang.Error{Type: "protocol", Tag: "in-use", Message: fmt.Sprintf("the commit is of session %d", w.sessionID())}
	}
	k.takeBack("it was cancelled by " + k.user)
	return nil, nil
}

// maxEvents is how many notifications wait for a session that does not read them.
const maxEvents = 64

func (k *session) subscribe(op *yang.Element) (*yang.Element, error) {
	switch {
	case cmp.Or(op.TextOf("stream"), "NETCONF") != "NETCONF":
		return nil, invalid("stream", "there is the stream NETCONF")
	case op.Find("startTime") != nil || op.Find("stopTime") != nil:
		return nil, &yang.Error{Type: "protocol", Tag: "operation-not-supported", Message: "what was before is not told again"}
	case k.events != nil:
		return nil, &yang.Error{Type: "protocol", Tag: "in-use", Message: "this session has a subscription"}
	}
	k.events = make(chan []byte, maxEvents)
	go func(events chan []byte) {
		for e := range events {
			if k.messages.write(e) != nil {
				return
			}
		}
	}(k.events)
	return nil, nil
}

// tell sends a notification to those who have subscribed (RFC 5277). A session that does not read has no more.
func (s *Server) tell(user string, id int, what string) {
	e := yang.New("committed", yang.Leaf("by", user))
	if id > 0 {
		e.Add(yang.Leaf("session", strconv.Itoa(id)))
	}
	e.Add(yang.Leaf("what", what), yang.Leaf("commits", strconv.Itoa(s.commits)))
	n := yang.New("notification", yang.Leaf("eventTime", s.Now().UTC().Format(time.RFC3339)), e.In(yang.Namespace)).In(notifications)
	text := n.Append(nil, "", "")
	for _, k := range s.sessions {
		if k.events == nil {
			continue
		}
		select {
		case k.events <- text:
		default:
			close(k.events)
			k.events = nil
		}
	}
}
