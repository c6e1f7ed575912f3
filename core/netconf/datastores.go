package netconf

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"imbrel.example/imbrel/core/yang"
)

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
		return nil, err // the candidate stays as it was, whatever the error-option
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
		return nil, &yang.Error{Type: "protocol", Tag: "operation-not-supported", Message: "earlier notifications are not kept"}
	case op.Find("filter") != nil:
		return nil, &yang.Error{Type: "protocol", Tag: "operation-not-supported", Message: "a subscription has no filter: there is one kind of notification"}
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
