package limits

import (
	"fmt"
	"slices"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// Fit returns a policy file of a device as the device can do it, with what that is less than was asked. The file and the document are of
// one reading. What cannot be done at all is an error.
func (l *Limits) Fit(doc language.Value, f *policy.File) (language.Value, []words.Fact, error) {
	if l.IsZero() {
		return doc, nil, nil
	}
	k := fitter{Limits: l, doc: doc}
	seen := make(map[*policy.Policy]bool)
	for i := range f.Attach {
		a := &f.Attach[i]
		if l.Policies > 0 && policiesAt(a.Interface) > l.Policies {
			return doc, nil, fmt.Errorf("%s has policies in both directions, and the device has one at an interface: attach one of them elsewhere", a.Interface.Path())
		}
		if seen[a.Policy] {
			continue
		}
		seen[a.Policy] = true
		p := plan.Attached(a)
		if n := levels(p.Top); l.Levels > 0 && n > l.Levels {
			return doc, nil, fmt.Errorf("`%s` has entries within entries, %d deep, and the device has %d: write it flatter for this device", a.Policy.Name, n, l.Levels)
		}
		if err := k.policy(p); err != nil {
			return doc, nil, err
		}
	}
	if k.err != nil {
		return doc, nil, k.err
	}
	return k.doc, k.less, nil
}

// A fitter fits the policies of a document one after the other.
type fitter struct {
	*Limits
	doc  language.Value
	less []words.Fact
	err  error
}

func (k *fitter) say(f words.Fact) { k.less = append(k.less, f) }

func (k *fitter) set(path, text string) {
	doc, err := k.doc.With(path, text)
	if k.err == nil {
		k.err = err
	}
	k.doc = doc
}

// policy fits one policy.
func (k *fitter) policy(p *plan.Plan) error {
	path := "policies." + p.Policy.Name + ".treat."
	for _, e := range p.Entries {
		if e.Parent != nil {
			continue
		}
		at := path + e.Spec.ClassName.Text
		if s := e.Spec.AtLeast; k.PromiseStep > 0 && !s.Nothing && !s.IsZero() {
			part := s.Percent
			if part == 0 {
				part = unit.Percent(int64(s.Rate) * int64(unit.Whole) / int64(max(p.Whole, 1)))
			}
			if is := max(part/k.PromiseStep*k.PromiseStep, k.PromiseStep); is != s.Percent {
				k.set(at+".at-least", is.String())
				k.say(words.LessPromise.With(e.Name, is.String(), s.String()))
			}
		}
		k.meter(p, e, at)
		if k.NoVLAN && e.Class != nil && asks(e.Class, policy.KeyVLAN) {
			k.say(words.NotCounted.With(e.Name))
		}
	}
	return k.share(p, path)
}

// asks reports whether a class asks for a key.
func asks(c *policy.Class, key policy.Key) bool {
	return slices.ContainsFunc(slices.Concat(c.Match, c.Except), func(c policy.Condition) bool {
		return slices.ContainsFunc(c.Terms, func(t policy.Term) bool { return t.Key == key })
	})
}

// meter fits the policer of an entry.
func (k *fitter) meter(p *plan.Plan, e *plan.Entry, at string) {
	m := e.Meter
	if m == nil {
		return
	}
	rate, burst := m.Rate, m.Burst
	if k.PoliceStep > 0 {
		rate = max(rate/k.PoliceStep*k.PoliceStep, k.PoliceStep)
	}
	burst = max(burst, k.LeastBurst)
	if rate == m.Rate && burst == m.Burst {
		return
	}
	written, _ := k.doc.Lookup(at + ".police")
	if i := slices.IndexFunc(written.Keys, func(key language.Value) bool { return key.Text == "calls" }); i >= 0 { // in place of a number of calls, what they come to
		var kept language.Value
		kept.Kind, kept.At = language.Keyed, written.At
		for n, key := range written.Keys {
			if !slices.Contains([]string{"calls", "codec", "interval", "bitrate", "ip"}, key.Text) {
				kept.Keys, kept.Items = append(kept.Keys, key), append(kept.Items, written.Items[n])
			}
		}
		k.doc = k.doc.Put(at+".police", kept)
	}
	k.set(at+".police.rate", rate.String())
	k.set(at+".police.burst", burst.String())
	if rate != m.Rate {
		one := call(p)
		k.say(words.LessRate.With(e.Name, rate, m.Rate, words.CallsFit(int(m.Rate/one), int(rate/one))))
	}
	if burst != m.Burst {
		k.say(words.MoreBurst.With(e.Name, burst, m.Burst, words.Wait(burst-m.Burst, p.Whole)))
	}
}

// call returns what a call of the usual codec takes at an interface.
func call(p *plan.Plan) unit.Rate {
	c, _ := codec.ByName("g711")
	return c.Rate(p.Framing.Size(c.Length(false), 0))
}

// share removes entries until the device has a queue for each; the rest takes their packets and their promises. Entries with the lowest promises go first.
// Entries with a priority, a limit or entries within stay.
func (k *fitter) share(p *plan.Plan, path string) error {
	left := queues(p.Top)
	if k.Queues == 0 || left <= k.Queues {
		return nil
	}
	rest := slices.IndexFunc(p.Top, func(e *plan.Entry) bool { return e.Spec.ClassName.Text == policy.Rest })
	if rest < 0 {
		return fmt.Errorf("`%s` needs %d queues, and the device has %d: give it an entry for the rest, which others can share", p.Policy.Name, left, k.Queues)
	}
	may := slices.DeleteFunc(slices.Clone(p.Top), func(e *plan.Entry) bool {
		return e.Spec.ClassName.Text == policy.Rest || e.Priority > 0 || e.Block || e.Meter != nil || e.AtMost != nil || e.When != nil || len(e.Inner) > 0 || e.Each != 0
	})
	slices.SortStableFunc(may, func(a, b *plan.Entry) int { return int(min(max(a.Promise-b.Promise, -1), 1)) })
	if left-len(may) > k.Queues {
		return fmt.Errorf("`%s` needs %d queues, and the device has %d: only %d of its entries could share one with the rest", p.Policy.Name, left, k.Queues, len(may))
	}
	total := k.promised(path+policy.Rest, p.Whole)
	was := total
	for _, e := range may[:left-k.Queues] {
		own := k.promised(path+e.Spec.ClassName.Text, p.Whole)
		total += own
		mark := ""
		if e.Spec.Mark != nil && e.Spec.Mark.DSCP != nil {
			mark = e.Spec.Mark.DSCP.Name()
		}
		k.say(words.SharedQueue.With(e.Name, total.String(), own.String(), was.String(), mark))
		k.doc = k.doc.Remove(path + e.Spec.ClassName.Text)
	}
	k.set(path+policy.Rest+".at-least", total.String())
	return nil
}

// promised returns what an entry is promised, as a part of the whole.
func (k *fitter) promised(path string, whole unit.Rate) unit.Percent {
	v, ok := k.doc.Lookup(path + ".at-least")
	if !ok {
		return 0
	}
	s, err := unit.ParsePromise(v.Text)
	if err != nil {
		return 0
	}
	if s.Percent == 0 {
		return unit.Percent(int64(s.Rate) * int64(unit.Whole) / int64(max(whole, 1)))
	}
	return s.Percent
}
