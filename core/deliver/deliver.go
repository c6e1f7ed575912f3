// Package deliver brings configurations to devices: all of them or none, with a way back at every step. It talks to devices through an interface,
// and has no files, connections or clock.
package deliver

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/yang"
)

// A Session is a connection to a device, as netconf.Client has it.
type Session interface {
	Config(store string) (*yang.Element, error)
	State() (*yang.Element, error)
	Lock(store string) error
	Unlock(store string) error
	Edit(edit *yang.Element) error
	Validate(store string) error
	CommitFor(d time.Duration) error
	Commit() error
	Cancel() error
	Discard() error
	Save() error
	Renew() error
	Close() error
}

// A Target is a device, and what it is to have.
type Target struct {
	Node   string
	Before *yang.Element // what it had when it was read; nil: nothing
	After  *yang.Element // what it is to have
}

// A State is how far a device is.
type State string

// The states of a device after a delivery.
const (
	AsBefore State = "as before"
	AsWished State = "as wished"
	Waits    State = "takes itself back" // it cannot be reached, and nobody confirms
	Unknown  State = "unknown"           // it cannot be reached
	Other    State = "something else"    // neither: somebody changed it meanwhile
)

// An Outcome is what became of a device.
type Outcome struct {
	Node  string `json:"node"`
	State State  `json:"state"`
	Saved bool   `json:"saved"` // the next start has it
	Why   string `json:"why,omitempty"`
}

// A Plan is how a delivery goes.
type Plan struct {
	Waves    [][]*Target
	Together bool          // nothing is confirmed before all waves hold
	Confirm  time.Duration // how long a device waits to be confirmed
	Renew    bool
	Parallel int // devices at a time

	Open   func(node string) (Session, error)
	Verify func(wave int, nodes []string) error // nil: nothing is verified
	Decide func(nodes []string) error           // is called before the first device is confirmed; an error takes all back
	Settle func(try int) bool                   // waits before a device is tried again; false: no more
	Step   func(what string)                    // is called at each step, with words for people; may be nil
}

// A member is a device of a delivery that is under way.
type member struct {
	*Target
	session   Session
	committed bool
	outcome   Outcome
}

// Deliver delivers, and says what became of each device, in the order of the plan. The error says why not all is as wished.
func (p *Plan) Deliver() ([]Outcome, error) {
	d := &delivery{Plan: p, form: language.DeviceForm()}
	var all []*member
	for _, wave := range p.Waves {
		for _, t := range wave {
			all = append(all, &member{Target: t, outcome: Outcome{Node: t.Node, State: AsBefore}})
		}
	}
	err := d.waves(all)
	var out []Outcome
	for _, m := range all {
		out = append(out, m.outcome)
	}
	return out, err
}

type delivery struct {
	*Plan
	form *language.Form
}

func (d *delivery) step(format string, args ...any) {
	if d.Step != nil {
		d.Step(fmt.Sprintf(format, args...))
	}
}

// waves delivers to one wave after the other.
func (d *delivery) waves(all []*member) error {
	var open []*member // committed and not confirmed
	next := 0
	for n, wave := range d.Waves {
		if len(d.Waves) > 1 {
			d.step("wave %d of %d: %s", n+1, len(d.Waves), humanize.Plural(len(wave), "device"))
		}
		now := all[next : next+len(wave)]
		next += len(wave)
		open = append(open, now...)
		if err := d.commit(open, now); err != nil {
			return d.takeBack(open, err)
		}
		if d.Verify != nil {
			if err := d.Verify(n, nodes(now)); err != nil {
				return d.takeBack(open, err)
			}
		}
		if d.Together && n < len(d.Waves)-1 {
			continue
		}
		if err := d.confirm(open); err != nil {
			return err
		}
		open = nil
	}
	return nil
}

func nodes(list []*member) (out []string) {
	for _, m := range list {
		out = append(out, m.Node)
	}
	return out
}

// each does something with several devices at a time, and returns the errors with their names.
func (d *delivery) each(list []*member, do func(*member) error) error {
	errs := make([]error, len(list))
	Each(d.Parallel, len(list), func(i int) {
		if err := do(list[i]); err != nil {
			errs[i] = fmt.Errorf("%s: %w", list[i].Node, err)
			list[i].outcome.Why = err.Error()
		}
	})
	return errors.Join(errs...)
}

// Each calls do with each number below n, so many at a time.
func Each(parallel, n int, do func(int)) {
	var all sync.WaitGroup
	slots := make(chan struct{}, max(1, parallel))
	for i := range n {
		slots <- struct{}{}
		all.Go(func() {
			defer func() { <-slots }()
			do(i)
		})
	}
	all.Wait()
}

// ErrChanged says that a device is no longer as it was read.
var ErrChanged = errors.New("somebody changed it since it was read: read it again")

// commit prepares the devices of a wave, locks them, and commits when all are ready. Devices of earlier waves that still wait start their time again.
func (d *delivery) commit(open, wave []*member) error {
	d.step("preparing %s", humanize.Plural(len(wave), "device"))
	if err := d.each(wave, d.prepare); err != nil {
		return err
	}
	d.step("committing, to be confirmed within %s", unit.FormatDuration(d.Confirm))
	return d.each(open, func(m *member) error {
		if m.session == nil {
			return errors.New("the contact is lost")
		}
		m.committed = true // even if the answer is lost
		if err := m.session.CommitFor(d.Confirm); err != nil {
			return err
		}
		if d.Renew {
			return m.session.Renew()
		}
		return nil
	})
}

// prepare edits the candidate of a device that is as it was read.
func (d *delivery) prepare(m *member) error {
	if err := d.open(m); err != nil {
		return err
	}
	if err := m.session.Lock("running"); err != nil {
		return err
	}
	if err := d.edit(m, m.Before, m.After); err != nil {
		return err
	}
	now, err := m.session.Config("running")
	if err != nil {
		return err
	}
	if !Same(d.form, now, m.Before) { // while it was not locked
		return ErrChanged
	}
	return m.session.Validate("candidate")
}

// Same reports whether two configurations are the same.
func Same(f *language.Form, a, b *yang.Element) bool {
	return yang.Difference(f, a, b) == nil && yang.Difference(f, b, a) == nil
}

// takeBack takes the devices back that wait to be confirmed, and says of each how it is.
func (d *delivery) takeBack(list []*member, why error) error {
	d.step("taking back")
	_ = d.each(list, func(m *member) error {
		if m.session == nil {
			return nil
		}
		if m.committed {
			if m.session.Cancel() != nil { // the end of the session takes it back as well
				m.outcome.State = Waits
			}
		}
		d.drop(m)
		return nil
	})
	_ = d.each(list, func(m *member) error {
		if m.committed {
			d.look(m, AsBefore)
		}
		return nil
	})
	return why
}

// look finds out how a device is, and tries until it is as wanted.
func (d *delivery) look(m *member, want State) {
	for try := 0; ; try++ {
		if s, err := d.Open(m.Node); err == nil {
			now, err := s.Config("running")
			settled := s.Lock("running") == nil // no session holds a commit there that it has not confirmed
			_ = s.Close()
			if err == nil {
				switch {
				case Same(d.form, now, m.Before):
					m.outcome.State = AsBefore
				case Same(d.form, now, m.After) && !settled:
					m.outcome.State = Waits
				case Same(d.form, now, m.After):
					m.outcome.State = AsWished
				default:
					m.outcome.State = Other
				}
				if m.outcome.State == want {
					return
				}
			}
		}
		if d.Settle == nil || !d.Settle(try) {
			return
		}
	}
}

// confirm confirms the commits and saves them for the next start. A device that is lost meanwhile gets the same configuration again. With Together, when
// one device stays lost, the others get back what they had.
func (d *delivery) confirm(list []*member) error {
	if d.Decide != nil {
		if err := d.Decide(nodes(list)); err != nil {
			return d.takeBack(list, err)
		}
	}
	d.step("confirming")
	lost := d.each(list, func(m *member) error {
		if err := m.session.Commit(); err != nil {
			d.drop(m)
			return err
		}
		m.outcome.State = AsWished
		return nil
	})
	if lost != nil {
		d.step("some were lost while they were confirmed: giving them the same again")
	}
	err := d.each(list, func(m *member) error { return d.finish(m, AsWished) })
	if err == nil || !d.Together {
		return err
	}
	d.step("one of them cannot be had: giving all what they had")
	return errors.Join(err, d.each(list, func(m *member) error { return d.finish(m, AsBefore) }))
}

// open begins a session where there is none.
func (d *delivery) open(m *member) error {
	if m.session != nil {
		return nil
	}
	s, err := d.Open(m.Node)
	if err == nil {
		m.session = s
	}
	return err
}

// drop gives a session up.
func (d *delivery) drop(m *member) {
	if m.session != nil {
		_ = m.session.Close()
		m.session = nil
	}
}

// finish makes sure that a device has the wanted configuration, now and at its next start.
func (d *delivery) finish(m *member, want State) (err error) {
	m.outcome.Why = ""
	for try := 0; ; try++ {
		if err = d.give(m, want); err == nil || errors.Is(err, ErrChanged) || d.Settle == nil || !d.Settle(try) {
			break
		}
	}
	if err != nil {
		m.outcome.Why = err.Error()
		if errors.Is(err, ErrChanged) {
			m.outcome.State = Other
		} else if m.outcome.State != want {
			m.outcome.State = Unknown
		}
	}
	return err
}

// give commits the wanted configuration where the device does not have it yet, and saves it. It locks the device before it reads: while an earlier
// session of this delivery still waits there, the device shows a commit that it takes back when it notices that the session has ended.
func (d *delivery) give(m *member, want State) error {
	from, to := m.Before, m.After
	if want == AsBefore {
		from, to = to, from
	}
	if err := d.open(m); err != nil {
		return err
	}
	defer d.drop(m)
	if err := m.session.Lock("running"); err != nil {
		return err
	}
	now, err := m.session.Config("running")
	switch {
	case err != nil:
		return err
	case Same(d.form, now, to):
	case !Same(d.form, now, from):
		return ErrChanged
	default:
		if err := d.edit(m, now, to); err != nil {
			return err
		}
		if err := m.session.Commit(); err != nil {
			return err
		}
	}
	m.outcome.State = want
	if err := m.session.Save(); err != nil {
		return fmt.Errorf("it is in force, and not kept for the next start: %w", err)
	}
	m.outcome.Saved = true
	return nil
}

// edits is how often a candidate is edited until it is as wanted. Some devices detach a policy that is edited, and must attach it again.
const edits = 3

// edit locks the candidate of a device and makes it what it is to be.
func (d *delivery) edit(m *member, from, to *yang.Element) error {
	if err := m.session.Lock("candidate"); err != nil {
		return err
	}
	for range edits {
		edit := yang.Difference(d.form, from, to)
		if edit == nil {
			return nil
		}
		if err := m.session.Edit(edit.Inner[0]); err != nil {
			return err
		}
		var err error
		if from, err = m.session.Config("candidate"); err != nil {
			return err
		}
	}
	if edit := yang.Difference(d.form, from, to); edit != nil {
		return fmt.Errorf("it does not keep what it is given: %s is missing or different", firstPath(edit))
	}
	return nil
}

// firstPath returns the path of the first value of an edit.
func firstPath(e *yang.Element) string {
	out := ""
	for len(e.Inner) > 0 {
		k := e.Inner[len(e.Inner)-1]
		if k.Name != "policy-file" {
			out += "." + k.Name
		}
		e = k
	}
	return strings.TrimPrefix(out, ".")
}

// Finish finishes a delivery that was cut after the decision: each device gets the wanted configuration, After or Before.
func (p *Plan) Finish(want State) ([]Outcome, error) {
	return p.every(func(d *delivery, m *member) error { return d.finish(m, want) })
}

// Look says how each device is, after a delivery that was cut before it was decided.
func (p *Plan) Look() ([]Outcome, error) {
	return p.every(func(d *delivery, m *member) error {
		m.outcome.State = Unknown
		d.look(m, AsBefore)
		if m.outcome.State != AsBefore {
			return fmt.Errorf("it is %s", m.outcome.State)
		}
		return nil
	})
}

func (p *Plan) every(do func(*delivery, *member) error) ([]Outcome, error) {
	d := &delivery{Plan: p, form: language.DeviceForm()}
	var all []*member
	for _, wave := range p.Waves {
		for _, t := range wave {
			all = append(all, &member{Target: t, outcome: Outcome{Node: t.Node, State: Unknown}})
		}
	}
	err := d.each(all, func(m *member) error { return do(d, m) })
	var out []Outcome
	for _, m := range all {
		out = append(out, m.outcome)
	}
	return out, err
}
