package render

import (
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/allocation"
	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/humanize"
)

// Shares writes what each class gets at every interface with a policy.
func (t Text) Shares(r *allocation.Result, wishes []allocation.Wish) {
	var words []string
	for _, w := range wishes {
		if w.All {
			words = append(words, w.Class+" wants all it can get")
		} else {
			words = append(words, w.Class+" wants "+humanize.Rate(int64(w.Rate)))
		}
	}
	codec, _ := codec.ByName(r.Codec)
	calls := codec.String()
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		if i > 0 {
			t.Line("")
		}
		t.Title("%s/%s %s, policy %s: %s to share, %s reserved", f.Node, f.Interface, f.Direction, f.Policy, humanize.Rate(f.Rate), humanize.Rate(f.Reserved))
		if !f.Note.IsZero() {
			if f.Direction == "in" {
				t.Line("  %s", f.Note)
				continue
			}
			t.paragraph("  ", "not kept: "+f.Note.String())
		}
		if len(words) > 0 {
			t.Line("  gets: when %s, and the others nothing", humanize.List(words))
		}
		columns := []column{{"class", true}, {"alone", false}, {"reserved", false}, {"promised", false}, {"all busy", false}, {calls + " calls", false}}
		if len(words) > 0 { // what was asked for, and what it is held against
			columns = []column{{"class", true}, {"promised", false}, {"all busy", false}, {"gets", false}, {"lent", false}}
		}
		columns = append(columns, column{"longest wait", false}, column{"below promise", false})
		w := t.dense(t.grid(columns, nil))
		for _, c := range f.Classes {
			name := strings.Repeat("  ", strings.Count(c.Class, "/")) + c.Class[strings.LastIndexByte(c.Class, '/')+1:]
			if c.Priority > 0 {
				name += " (priority)"
			}
			if len(c.Each) > 0 {
				name += ", each " + strings.Join(c.Each, " and ")
				if c.EachBps > 0 {
					name += " " + humanize.Rate(c.EachBps)
				}
			}
			if c.When != "" {
				name += ", sometimes"
			}
			row := table.Row{name, humanize.Rate(c.Alone), humanize.Rate(c.Reserved), humanize.Rate(c.Promised), humanize.Rate(c.AllBusy), humanize.Count(c.Calls)}
			if len(words) > 0 {
				row = table.Row{name, humanize.Rate(c.Promised), humanize.Rate(c.AllBusy), humanize.Rate(c.Gets), humanize.Rate(c.Lent)}
			}
			w.add(append(row, wait(c.LongestWait), wait(c.BelowPromiseWait)))
		}
		t.put(w)
		t.Line("    waits of packets up to %s: longest in a full queue, and of a class that sends below its promise", humanize.Bytes(f.LargestPacket))
		t.policedInside(f)
		for _, c := range f.Classes {
			if c.Unbounded {
				t.Line("    %s: its priority has no bound, so it can take everything from the others: give it `police` or `at-most`", c.Class)
			}
			switch {
			case c.Never && c.When != "":
				t.Line("    %s, sometimes: never in force. Its condition (%s) is never true while the entry around it is in force", c.Class, c.When)
			case c.Never: // as the entry around it
			case c.When != "":
				t.Line("    %s, sometimes: only while %s; its figures are for then", c.Class, c.When)
			}
			for _, s := range c.Sometimes {
				t.Line("    %s is %s: not counted here", c.Class, s)
			}
			if len(c.Each) > 0 && slices.ContainsFunc(f.Classes, func(o allocation.Class) bool { return o.Parent == c.Class }) {
				t.Line("    within %s: what one %s gets when it gets all it may", c.Class, strings.Join(c.Each, " and "))
			}
		}
		t.byTime(f, len(words) > 0)
	}
}

// wait writes the bound of a wait, or `-` where there is none.
func wait(ms *float64) string {
	if ms == nil {
		return "-"
	}
	return humanize.Milliseconds(*ms)
}

// policedInside says which classes are promised nothing, since a policer around them drops first.
func (t Text) policedInside(f *allocation.Interface) {
	inside := make(map[string][]string)
	var order []string
	for _, c := range f.Classes {
		if c.PolicedBy == "" {
			continue
		}
		if inside[c.PolicedBy] == nil {
			order = append(order, c.PolicedBy)
		}
		inside[c.PolicedBy] = append(inside[c.PolicedBy], c.Class)
	}
	for _, by := range order {
		t.Line("    %s: promised nothing. The policer of %s drops before its classes count; `at-most` keeps their promises", humanize.List(inside[by]), by)
	}
}

// byTime writes what the classes get at each of the named times.
func (t Text) byTime(f *allocation.Interface, wished bool) {
	if len(f.Times) == 0 {
		return
	}
	columns := []column{{"class", true}}
	gets := make(map[string][]string) // by class, a cell for each time
	for i, at := range f.Times {
		name := "at other times"
		if len(at.When) > 0 {
			name = "by " + humanize.List(at.When)
		}
		columns = append(columns, column{name, false})
		for _, c := range at.Classes {
			if gets[c.Class] == nil {
				gets[c.Class] = slices.Repeat([]string{"-"}, len(f.Times))
			}
			if gets[c.Class][i] = humanize.Rate(c.AllBusy); wished {
				gets[c.Class][i] = humanize.Rate(c.Gets)
			}
		}
	}
	t.Line("")
	what := "all busy"
	if wished {
		what = "gets"
	}
	t.Line("  %s, at each of the times that the file names", what)
	w := t.grid(columns, nil)
	for _, c := range f.Classes {
		if gets[c.Class] == nil {
			continue
		}
		row := table.Row{strings.Repeat("  ", strings.Count(c.Class, "/")) + c.Class[strings.LastIndexByte(c.Class, '/')+1:]}
		for _, cell := range gets[c.Class] {
			row = append(row, cell)
		}
		delete(gets, c.Class) // the alternatives of a class are one row
		w.add(row)
	}
	t.put(w)
}
