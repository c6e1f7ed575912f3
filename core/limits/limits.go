// Package limits says what a device cannot do, and makes of a policy file what the device can.
package limits

import (
	"fmt"
	"strconv"
	"time"

	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// Limits are those of a device. The zero Limits are none: everything can be done.
type Limits struct {
	Queues      int           // entries of a policy, the rest among them; 0: any number
	Levels      int           // of entries within entries; 0: any number
	Policies    int           // at an interface; 0: one in each direction
	PromiseStep unit.Percent  // promises are multiples of this part; 0: any
	PoliceStep  unit.Rate     // rates of policers are multiples of this rate; 0: any
	LeastBurst  unit.Size     // of a policer; 0: any
	NoVLAN      bool          // classes by VLAN are not counted
	Detaches    bool          // an edit of a policy detaches it
	KeepsFlows  bool          // flows that are under way keep their class until they are renewed
	Takes       time.Duration // to put a configuration in force
	Refuses     unit.Percent  // of the commits, for no reason
}

// A Row is one of the limits: its name, what it means, and its value as text, "" when there is none.
type Row struct {
	Name, Doc string
	Get       func(*Limits) string
	set       func(*Limits, string) error
}

// number describes a limit that is a whole number.
func number(name, doc string, of func(*Limits) *int) Row {
	return Row{name, doc, func(l *Limits) string {
		if *of(l) == 0 {
			return ""
		}
		return strconv.Itoa(*of(l))
	}, func(l *Limits, s string) error {
		n, err := strconv.Atoi(s)
		if err != nil || n < 1 || n > 1000 {
			return fmt.Errorf("%.40q is not a whole number from 1 to 1000", s)
		}
		*of(l) = n
		return nil
	}}
}

// quantity describes a limit with a unit.
func quantity[T interface {
	comparable
	fmt.Stringer
}](name, doc string, parse func(string) (T, error), of func(*Limits) *T) Row {
	var zero T
	return Row{name, doc, func(l *Limits) string {
		if *of(l) == zero {
			return ""
		}
		return (*of(l)).String()
	}, func(l *Limits, s string) (err error) {
		*of(l), err = parse(s)
		return err
	}}
}

// yes describes a limit that is there or not.
func yes(name, doc string, of func(*Limits) *bool) Row {
	return Row{name, doc, func(l *Limits) string {
		if *of(l) {
			return "true"
		}
		return ""
	}, func(l *Limits, s string) error {
		if s != "true" && s != "false" {
			return fmt.Errorf("%.40q is not true or false", s)
		}
		*of(l) = s == "true"
		return nil
	}}
}

// Rows returns the table of limits.
func Rows() []Row {
	return []Row{
		number("queues", "the most entries that a policy may have, `rest` among them", func(l *Limits) *int { return &l.Queues }),
		number("levels", "the most levels of entries within entries; 1: there are none", func(l *Limits) *int { return &l.Levels }),
		number("policies", "the most policies at an interface, in both directions together", func(l *Limits) *int { return &l.Policies }),
		quantity("promise-step", "promises are multiples of this part", unit.ParsePercent, func(l *Limits) *unit.Percent { return &l.PromiseStep }),
		quantity("police-step", "rates of policers are multiples of this rate", unit.ParseRate, func(l *Limits) *unit.Rate { return &l.PoliceStep }),
		quantity("least-burst", "the least burst of a policer", unit.ParseSize, func(l *Limits) *unit.Size { return &l.LeastBurst }),
		yes("no-vlan-counters", "true: entries whose class matches `vlan` are not counted", func(l *Limits) *bool { return &l.NoVLAN }),
		yes("detaches", "true: an edit of a policy detaches it where it is attached", func(l *Limits) *bool { return &l.Detaches }),
		yes("keeps-flows", "true: flows that are under way keep their class until they are renewed", func(l *Limits) *bool { return &l.KeepsFlows }),
		Row{"takes", "the time that a change takes", func(l *Limits) string {
			if l.Takes == 0 {
				return ""
			}
			return unit.FormatDuration(l.Takes)
		}, func(l *Limits, s string) (err error) {
			l.Takes, err = unit.ParseDuration(s)
			if err == nil && l.Takes > time.Minute {
				err = fmt.Errorf("%s is longer than a minute", s)
			}
			return err
		}},
		quantity("refuses", "the part of the commits that is refused for no reason", unit.ParsePercent, func(l *Limits) *unit.Percent { return &l.Refuses }),
	}
}

// Set sets a limit.
func (l *Limits) Set(name, value string) error {
	var names []string
	for _, r := range Rows() {
		if r.Name == name {
			if err := r.set(l, value); err != nil {
				return fmt.Errorf("`%s`: %w", name, err)
			}
			return nil
		}
		names = append(names, r.Name)
	}
	return fmt.Errorf("there is no limit `%.60s`; %sthere are %s", name, policy.DidYouMean(name, names), policy.OrList(names))
}

// IsZero reports whether there are no limits.
func (l *Limits) IsZero() bool { return *l == Limits{} }

// A Problem is what a device cannot do of a policy file.
type Problem struct {
	Path string // of the part of the file, such as policies.wan.treat.voice.police.rate
	Text string
}

// Check returns what a device with these limits cannot do of a policy file of its own.
func (l *Limits) Check(f *policy.File) (out []Problem) {
	say := func(path, format string, args ...any) {
		out = append(out, Problem{path, fmt.Sprintf(format, args...)})
	}
	seen := make(map[*policy.Policy]bool)
	for i := range f.Attach {
		a := &f.Attach[i]
		if n := policiesAt(a.Interface); l.Policies > 0 && n > l.Policies && a == a.Interface.Attached[policy.Out] {
			say("attach."+a.Interface.Path(), "an interface has at most %d policy", l.Policies)
		}
		if seen[a.Policy] {
			continue
		}
		seen[a.Policy] = true
		p := plan.Attached(a)
		path := "policies." + a.Policy.Name
		if n := queues(p.Top); l.Queues > 0 && n > l.Queues {
			say(path+".treat", "a policy has at most %d entries, and this one has %d", l.Queues, n)
		}
		if n := levels(p.Top); l.Levels > 0 && n > l.Levels {
			say(path+".treat", "entries are at most %d deep, and these are %d deep", l.Levels, n)
		}
		for _, e := range p.Entries {
			at := path + ".treat." + e.Name
			if s := e.Spec.AtLeast; l.PromiseStep > 0 && !s.Nothing && !s.IsZero() && (s.Percent == 0 || s.Percent%l.PromiseStep != 0) {
				say(at+".at-least", "a promise is a multiple of %s, and this is %s", l.PromiseStep, s)
			}
			if m := e.Meter; m != nil {
				if l.PoliceStep > 0 && m.Rate%l.PoliceStep != 0 {
					say(at+".police.rate", "the rate of a policer is a multiple of %s, and this is %s", l.PoliceStep, m.Rate)
				}
				if m.Burst < l.LeastBurst {
					say(at+".police.burst", "the burst of a policer is at least %s, and this is %s", l.LeastBurst, m.Burst)
				}
			}
		}
	}
	return out
}

// policiesAt returns how many policies an interface has.
func policiesAt(i *policy.Interface) (n int) {
	for _, a := range i.Attached {
		if a != nil {
			n++
		}
	}
	return n
}

// queues returns how many entries need one each.
func queues(top []*plan.Entry) (n int) {
	for _, e := range top {
		if !e.Block {
			n++
		}
	}
	return n
}

func levels(top []*plan.Entry) int {
	deepest := 0
	for _, e := range top {
		deepest = max(deepest, levels(e.Inner))
	}
	if len(top) == 0 {
		return 0
	}
	return 1 + deepest
}
