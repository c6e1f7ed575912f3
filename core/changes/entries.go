package changes

import (
	"fmt"
	"slices"
	"strings"

	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/meter"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

// A trait is something of an entry's treatment.
type trait struct {
	what, value string
	share       unit.Share // what was written, of a share
}

// traits returns all of an entry's treatment.
func traits(e *plan.Entry) []trait {
	var out []trait
	add := func(what, value string, share unit.Share) { out = append(out, trait{what, value, share}) }
	when := func(w *plan.When) string {
		if w == nil {
			return ""
		}
		if w.Time != nil {
			return ", while the time is " + w.Time.String()
		}
		return fmt.Sprintf(", while the load has reached %s for %s, until it is below %s for %s", humanize.Rate(int64(w.Starts.Load)), unit.FormatDuration(w.Starts.For), humanize.Rate(int64(w.Ends.Load)), unit.FormatDuration(w.Ends.For))
	}
	each := ""
	if e.Each != 0 {
		each = " for each " + e.Each.String()
	}
	if e.Block || e.BlockWhen != nil {
		add("block", "blocked"+when(e.BlockWhen), unit.Share{})
	}
	if e.When != nil {
		add("in force", when(e.When)[2:], unit.Share{})
	}
	of := ""
	if e.Priority > 0 {
		of = each
		add("priority", fmt.Sprint(e.Priority), unit.Share{})
	}
	add("promise", humanize.Rate(int64(e.Promise))+of, e.Spec.AtLeast)
	var limits []string
	var limit unit.Share
	if e.Bounded {
		if c := e.Spec.AtMost; c != nil {
			limit = c.Rate
		} else if p := e.Spec.Police; p != nil {
			limit = p.Rate
		}
		limits = append(limits, humanize.Rate(int64(e.Ceiling))+each)
	}
	if m := e.AtMost; m != nil && m.When != nil {
		limit = e.Spec.AtMost.Rate
		limits = append(limits, humanize.Rate(int64(m.Rate))+each+when(m.When))
	}
	if limits != nil {
		add("upper limit", strings.Join(limits, "; "), limit)
	}
	if e.Each != 0 {
		add("each", e.Each.String(), unit.Share{})
	}
	if e.Spec.Weight > 0 {
		add("weight", fmt.Sprint(e.Spec.Weight), unit.Share{})
	}
	if m := e.AtMost; m != nil && m.Peak > 0 {
		add("burst above it", fmt.Sprintf("to %s for %s", humanize.Rate(int64(m.Peak)), unit.FormatDuration(e.Spec.AtMost.Burst.For)), unit.Share{})
	}
	if m := e.Meter; m != nil {
		if bound, ok := m.Bound(); !ok || bound != e.Ceiling {
			add("policed at", humanize.Rate(int64(m.Rate))+each+when(m.When), e.Spec.Police.Rate)
		}
		add("burst", m.Burst.String(), unit.Share{})
		if m.Second > 0 {
			add("second burst", m.Second.String(), unit.Share{})
		}
		if m.Peak > 0 {
			add("peak", humanize.Rate(int64(m.Peak)), e.Spec.Police.Peak)
		}
		if m.Aware {
			add("policer", "follows the colour that packets come with", unit.Share{})
		}
		for c := meter.Green; c <= meter.Red; c++ {
			what := "passed"
			if a := m.Actions[c]; a.Drop {
				what = "dropped"
			} else if a.Mark != nil {
				what = "marked " + explain.Mark(a.Mark).String()
			}
			if c != meter.Yellow || m.Kind != policy.OneBucket {
				add(c.String()+" is", what, unit.Share{})
			}
		}
	}
	if e.Spec.Mark != nil {
		add("mark", explain.Mark(e.Spec.Mark).String(), unit.Share{})
	}
	if e.Leaf() && !e.Block {
		holds := plan.DefaultQueueTime
		if q := e.Spec.Queue; q.Time > 0 {
			holds = q.Time
		}
		limit := unit.FormatDuration(holds)
		switch q := &e.Queue; {
		case q.Packets > 0:
			limit = humanize.Plural(q.Packets, "packet")
		case e.Spec.Queue.Bytes > 0:
			limit = q.Bytes.String()
		}
		if e.Queue.ECN {
			limit += ", marks congestion"
		}
		if red := e.Queue.RED; red != (plan.RED{}) {
			limit += fmt.Sprintf(", from %.6g to %.6g, %.6g %%, weight %.6g", red.From, red.To, 100*red.Probability, red.Weight)
		}
		add("queue", limit+", "+e.Queue.Drop.String(), unit.Share{})
	}
	return out
}

// entries returns what differs of the treatment of the classes that both plans have, and
// which classes are new or gone.
func entries(before, after *plan.Plan) []Entry {
	out := []Entry{}
	if a, b := humanize.Rate(int64(before.Whole)), humanize.Rate(int64(after.Whole)); a != b {
		out = append(out, Entry{What: "to divide", Old: a, New: b})
	}
	if a, b := before.NotKept(), after.NotKept(); a.IsZero() != b.IsZero() {
		kept := func(why words.Fact) string {
			if why.IsZero() {
				return "yes"
			}
			return "no"
		}
		e := Entry{What: "promises kept", Old: kept(a), New: kept(b)}
		if !b.IsZero() {
			e.Note = b.String()
		}
		out = append(out, e)
	}
	used := make(map[*plan.Entry]bool)
	for _, old := range before.Entries {
		i := like(old, after, used)
		if i < 0 {
			if !implied(old) {
				out = append(out, Entry{Class: old.Name, What: "class", Old: treatment(before, old.Name)})
			}
			continue
		}
		now := after.Entries[i]
		used[now] = true
		out = append(out, differences(old, now)...)
	}
	for _, now := range after.Entries {
		if !used[now] && !implied(now) {
			out = append(out, Entry{Class: now.Name, What: "class", New: treatment(after, now.Name)})
		}
	}
	return out
}

// implied reports whether an entry is the rest of a level that does not write it.
func implied(e *plan.Entry) bool { return e.Class == nil && len(e.Spec.Keys()) == 0 }

// like returns the number of the entry of a plan that is of the same class: with the same
// `when`, or else with another; -1: there is none.
func like(e *plan.Entry, in *plan.Plan, used map[*plan.Entry]bool) int {
	condition := func(w *plan.When) string {
		if w == nil {
			return ""
		}
		return w.Spec.Words()
	}
	i := slices.IndexFunc(in.Entries, func(o *plan.Entry) bool {
		return !used[o] && o.Name == e.Name && condition(o.When) == condition(e.When)
	})
	if i < 0 {
		i = slices.IndexFunc(in.Entries, func(o *plan.Entry) bool { return !used[o] && o.Name == e.Name })
	}
	return i
}

// differences returns what differs between two entries of one class.
func differences(old, now *plan.Entry) (out []Entry) {
	a, b := traits(old), traits(now)
	find := func(list []trait, what string) trait {
		if i := slices.IndexFunc(list, func(t trait) bool { return t.what == what }); i >= 0 {
			return list[i]
		}
		return trait{what: what, value: "none"}
	}
	var names []string
	for _, t := range append(slices.Clone(a), b...) {
		if !slices.Contains(names, t.what) {
			names = append(names, t.what)
		}
	}
	for _, what := range names {
		x, y := find(a, what), find(b, what)
		if x.value == y.value {
			continue
		}
		e := Entry{Class: now.Name, What: what, Old: x.value, New: y.value}
		if y.share.Rate == 0 && x.share == y.share && !y.share.IsZero() && (old.Priority > 0) != (now.Priority > 0) && what != "promise" {
			of := "of the upper limit around it, because it no longer has priority"
			if now.Priority > 0 {
				of = "of the promise around it, because it now has priority"
			}
			e.Note = fmt.Sprintf("its %s is %s", y.share, of)
		}
		out = append(out, e)
	}
	return out
}
