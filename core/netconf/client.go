package netconf

import (
	"cmp"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"imbrel.example/imbrel/core/yang"
)

// A Client is a session with a device. It is for one caller at a time.
type Client struct {
	messages *framer
	before   func() (after func()) // around each wait
	number   int
	Session  string          // its number at the device
	Can      map[string]bool // the capabilities of the device, without what follows a question mark
	Events   []*yang.Element // notifications that came while replies were waited for, up to maxEvents
}

// A Refusal is what a device says that is wrong with a call.
type Refusal struct{ Problems []yang.Error }

func (r *Refusal) Error() string {
	var all []string
	for i := range r.Problems {
		all = append(all, r.Problems[i].Error())
	}
	return strings.Join(all, "; ")
}

// errGarbage is what is wrong with an answer that is none.
var errGarbage = errors.New("the device does not answer as NETCONF does")

// Open begins a session on a connection. before is called before each wait, and what it returns after it; it may be nil. It bounds how long a
// wait may last.
func Open(c io.ReadWriter, before func() (after func())) (*Client, error) {
	if before == nil {
		before = func() func() { return func() {} }
	}
	k := &Client{messages: newFramer(c), before: before, Can: make(map[string]bool)}
	hello := yang.New("hello", yang.New("capabilities", yang.Leaf("capability", base10), yang.Leaf("capability", base11))).In(yang.Base)
	defer before()()
	if err := k.messages.write(hello.Append(nil, "", "")); err != nil {
		return nil, err
	}
	text, err := k.messages.read()
	if err != nil {
		return nil, err
	}
	theirs, err := yang.Parse(text)
	if err != nil || theirs.Name != "hello" || theirs.Space != yang.Base || theirs.TextOf("session-id") == "" {
		return nil, fmt.Errorf("%w: it does not begin with hello", errGarbage)
	}
	k.Session = theirs.TextOf("session-id")
	if list := theirs.Find("capabilities"); list != nil {
		for _, c := range list.Inner {
			name, _, _ := strings.Cut(c.Text, "?")
			k.Can[name] = true
		}
	}
	k.messages.chunked = k.Can[base11]
	return k, nil
}

// Speaks reports whether the device has the module of policy files, and what a delivery needs; it says what is missing.
func (k *Client) Speaks() error {
	for _, c := range []struct{ name, what string }{{yang.Namespace, "the module " + yang.Module}, {capability + "candidate:1.0", "a candidate"}, {capability + "confirmed-commit:1.1", "confirmed commits"}, {capability + "validate:1.1", "validation"}} {
		if !k.Can[c.name] {
			return fmt.Errorf("the device does not have %s", c.what)
		}
	}
	return nil
}

// Call calls an operation and returns what is within the reply. What the device refuses is a *Refusal.
func (k *Client) Call(op *yang.Element) (*yang.Element, error) {
	k.number++
	rpc := yang.New("rpc", op).In(yang.Base)
	rpc.Attr = append(rpc.Attr, attribute("message-id", strconv.Itoa(k.number)))
	defer k.before()()
	if err := k.messages.write(rpc.Append(nil, "", "")); err != nil {
		return nil, err
	}
	for range 2 * maxEvents {
		text, err := k.messages.read()
		if err != nil {
			return nil, err
		}
		reply, err := yang.Parse(text)
		switch {
		case err != nil:
			return nil, fmt.Errorf("%w: %w", errGarbage, err)
		case reply.Space == notifications && reply.Name == "notification":
			if len(k.Events) < maxEvents {
				k.Events = append(k.Events, reply)
			}
			continue
		case reply.Name != "rpc-reply" || reply.Space != yang.Base:
			return nil, fmt.Errorf("%w: %.60s came in place of a reply", errGarbage, reply.Name)
		case reply.Attribute("", "message-id") != strconv.Itoa(k.number):
			return nil, fmt.Errorf("%w: the reply is to another message", errGarbage)
		}
		var no Refusal
		for _, e := range reply.Inner {
			if e.Name == "rpc-error" && e.TextOf("error-severity") != "warning" {
				no.Problems = append(no.Problems, yang.Error{Type: e.TextOf("error-type"), Tag: e.TextOf("error-tag"), Path: e.TextOf("error-path"),
					Message: cmp.Or(e.TextOf("error-message"), e.TextOf("error-tag")), Element: e.TextOf("error-info", "bad-element")})
			}
		}
		if len(no.Problems) > 0 {
			return nil, &no
		}
		return reply, nil
	}
	return nil, fmt.Errorf("%w: there is no end to its notifications", errGarbage)
}

// Config returns a configuration, nil when it is empty.
func (k *Client) Config(store string) (*yang.Element, error) {
	reply, err := k.Call(yang.New("get-config", yang.New("source", yang.New(store))))
	if err != nil {
		return nil, err
	}
	data := reply.Find("data")
	if data == nil {
		return nil, fmt.Errorf("%w: a reply without data", errGarbage)
	}
	for _, e := range data.Inner {
		if e.Space == yang.Namespace && e.Name == "policy-file" {
			return e, nil
		}
	}
	return nil, nil
}

// State returns what the device says of itself: the element `device` of the module.
func (k *Client) State() (*yang.Element, error) {
	reply, err := k.Call(yang.New("get", filterOf(yang.New("device").In(yang.Namespace))))
	if err != nil {
		return nil, err
	}
	if e := reply.At("data", "device"); e != nil {
		return e, nil
	}
	return nil, fmt.Errorf("%w: it says nothing of itself", errGarbage)
}

func attribute(name, value string) xml.Attr {
	return xml.Attr{Name: xml.Name{Local: name}, Value: value}
}

func filterOf(e *yang.Element) *yang.Element {
	f := yang.New("filter", e)
	f.Attr = append(f.Attr, attribute("type", "subtree"))
	return f
}

// Lock locks a datastore until the session ends, or Unlock.
func (k *Client) Lock(store string) error { return k.simple("lock", "target", store) }

// Unlock gives a lock back.
func (k *Client) Unlock(store string) error { return k.simple("unlock", "target", store) }

// Validate lets the device check a datastore.
func (k *Client) Validate(store string) error { return k.simple("validate", "source", store) }

func (k *Client) simple(op, parameter, store string) error {
	_, err := k.Call(yang.New(op, yang.New(parameter, yang.New(store))))
	return err
}

// Edit edits the candidate: the edit is of the policy file.
func (k *Client) Edit(edit *yang.Element) error {
	config := yang.New("config", edit.Clone().In(yang.Namespace))
	_, err := k.Call(yang.New("edit-config", yang.New("target", yang.New("candidate")), yang.Leaf("error-option", "rollback-on-error"), config))
	return err
}

// CommitFor commits the candidate until it is confirmed, for a time or to the end of the session; called again, the time begins anew.
func (k *Client) CommitFor(d time.Duration) error {
	_, err := k.Call(yang.New("commit", yang.New("confirmed"), yang.Leaf("confirm-timeout", strconv.Itoa(max(1, int(d/time.Second))))))
	return err
}

// Commit commits the candidate, or confirms a commit.
func (k *Client) Commit() error {
	_, err := k.Call(yang.New("commit"))
	return err
}

// Cancel takes a commit back that waits to be confirmed.
func (k *Client) Cancel() error {
	_, err := k.Call(yang.New("cancel-commit"))
	return err
}

// Discard makes the candidate that in force.
func (k *Client) Discard() error {
	_, err := k.Call(yang.New("discard-changes"))
	return err
}

// Save makes the configuration in force that of the next start.
func (k *Client) Save() error {
	_, err := k.Call(yang.New("copy-config", yang.New("target", yang.New("startup")), yang.New("source", yang.New("running"))))
	return err
}

// Renew puts flows that are under way into their new classes.
func (k *Client) Renew() error {
	_, err := k.Call(yang.New("renew").In(yang.Namespace))
	return err
}

// Close ends the session.
func (k *Client) Close() error {
	_, err := k.Call(yang.New("close-session"))
	return err
}
