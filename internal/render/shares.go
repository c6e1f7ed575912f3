package render

import (
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/allocation"
	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/humanize"
)

// Shares writes what each class gets at every interface with a policy.
func (t Text) Shares(r *allocation.Result, wishes []allocation.Wish) {
	asked := gets(wishes)
	codec, _ := codec.ByName(r.Codec)
	calls := codec.String()
	largest := int64(0)
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		if i > 0 {
			t.Line("")
		}
		t.Title("%s/%s %s, policy %s: %s to divide", f.Node, f.Interface, f.Direction, f.Policy, humanize.Rate(f.Rate))
		if !f.Note.IsZero() {
			if f.Direction == "in" {
				t.Line("  %s", f.Note)
				continue
			}
			t.paragraph("  ", "not kept: "+f.Note.String())
		}
		if asked != "" {
			t.Line("  `gets`: %s", asked)
		}
		differs := slices.ContainsFunc(f.Classes, func(c allocation.Class) bool { return c.AllBusy != c.Promised })
		voice := slices.ContainsFunc(f.Classes, func(c allocation.Class) bool { return c.TakesCalls })
		columns := []column{{"class", true}}
		if asked == "" {
			columns = append(columns, column{"alone", false})
		}
		columns = append(columns, column{"promised", false})
		if differs {
			columns = append(columns, column{"all busy", false})
		}
		switch {
		case asked != "": // what was asked for, and what it is compared with
			columns = append(columns, column{"gets", false}, column{"extra", false})
		case voice:
			columns = append(columns, column{calls + " calls", false})
		}
		columns = append(columns, column{"longest wait", false}, column{"within promise", false})
		w := t.dense(t.grid(columns, nil)).without("within promise", "alone")
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
			row := table.Row{name}
			if asked == "" {
				row = append(row, humanize.Rate(c.Alone))
			}
			row = append(row, humanize.Rate(c.Promised))
			if differs {
				row = append(row, humanize.Rate(c.AllBusy))
			}
			switch {
			case asked != "":
				row = append(row, humanize.Rate(c.Gets), humanize.Rate(c.Extra))
			case voice && c.TakesCalls:
				row = append(row, humanize.Count(c.Calls))
			case voice:
				row = append(row, "-")
			}
			w.add(append(row, wait(c.LongestWait), wait(c.BelowPromiseWait)))
		}
		t.put(w)
		largest = max(largest, f.LargestPacket)
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
				full := ""
				if c.EachBps > 0 {
					full = ", at its full " + humanize.Rate(c.EachBps)
				}
				t.Line("    rows below %s are for ONE %s%s", c.Class, strings.Join(c.Each, " and "), full)
			}
		}
		t.byTime(f, asked != "")
	}
	if largest > 0 {
		t.Line("")
		t.paragraph("", fmt.Sprintf("Waits in the queue, of packets up to %s. Longest: when the queue is full. Within promise: while the class sends no more than its promise.", humanize.Bytes(largest)))
	}
}

// gets says who sends how much: "voice and charts send all they can, the other classes nothing"; "" where nothing was asked for.
func gets(wishes []allocation.Wish) string {
	var all, some []string
	for _, w := range wishes {
		if w.All {
			all = append(all, w.Class)
		} else {
			some = append(some, w.Class+" sends "+humanize.Rate(int64(w.Rate)))
		}
	}
	if len(all) == 1 {
		some = append([]string{all[0] + " sends all it can"}, some...)
	} else if len(all) > 1 {
		some = append([]string{humanize.List(all) + " send all they can"}, some...)
	}
	if len(some) == 0 {
		return ""
	}
	return strings.Join(some, ", ") + ", the other classes nothing"
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
