package render

import (
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel/core/codec"
	"imbrel/core/figure"
	"imbrel/core/share"
)

// Shares writes what each class gets at every interface with a policy.
func (t Text) Shares(r *share.Result, wishes []share.Wish) {
	var words []string
	for _, w := range wishes {
		if w.All {
			words = append(words, w.Class+" wants all it can get")
		} else {
			words = append(words, w.Class+" wants "+figure.Rate(int64(w.Rate)))
		}
	}
	codec, _ := codec.ByName(r.Codec)
	calls := codec.String()
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		if i > 0 {
			t.Line("")
		}
		t.Title("%s/%s %s, policy %s: %s to share, %s reserved", f.Node, f.Interface, f.Direction, f.Policy, figure.Rate(f.Rate), figure.Rate(f.Reserved))
		if f.Note != "" {
			if f.Direction == "in" {
				t.Line("  %s", f.Note)
				continue
			}
			t.Line("  not kept: %s", f.Note)
		}
		if len(words) > 0 {
			t.Line("  gets: when %s, and the others nothing", figure.List(words))
		}
		columns := []column{{"class", true}, {"alone", false}, {"reserved", false}, {"promised", false}, {"all busy", false}}
		if len(words) > 0 {
			columns = append(columns, column{"gets", false}, column{"lent", false})
		}
		columns = append(columns, column{calls + " calls", false}, column{"longest wait", false})
		w := t.grid(columns, nil)
		for _, c := range f.Classes {
			name := strings.Repeat("  ", strings.Count(c.Class, "/")) + c.Class[strings.LastIndexByte(c.Class, '/')+1:]
			if c.Priority > 0 {
				name += " (priority)"
			}
			if len(c.Each) > 0 {
				name += ", each " + strings.Join(c.Each, " and ")
				if c.EachBps > 0 {
					name += " " + figure.Rate(c.EachBps)
				}
			}
			if c.When != "" {
				name += ", sometimes"
			}
			row := table.Row{name, figure.Rate(c.Alone), figure.Rate(c.Reserved), figure.Rate(c.Promised), figure.Rate(c.AllBusy)}
			if len(words) > 0 {
				row = append(row, figure.Rate(c.Gets), figure.Rate(c.Lent))
			}
			wait := "-"
			if c.LongestWait != nil {
				wait = figure.Milliseconds(*c.LongestWait)
			}
			w.add(append(row, figure.Count(c.Calls), wait))
		}
		t.put(w)
		for _, c := range f.Classes {
			if c.Unbounded {
				t.Line("    %s: its priority has no bound, so it can take everything from the others: give it `police` or `at-most`", c.Class)
			}
			if c.When != "" {
				t.Line("    %s, sometimes: only while %s; its figures are for then", c.Class, c.When)
			}
			for _, s := range c.Sometimes {
				t.Line("    %s is %s: not counted here", c.Class, s)
			}
			if len(c.Each) > 0 && slices.ContainsFunc(f.Classes, func(o share.Class) bool { return o.Parent == c.Class }) {
				t.Line("    within %s: what one %s gets when it gets all it may", c.Class, strings.Join(c.Each, " and "))
			}
		}
	}
}
