package render

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/changes"
	"imbrel.example/imbrel/core/check"
	"imbrel.example/imbrel/core/humanize"
)

// Changes writes what differs in meaning between two policy files.
func (t Text) Changes(before, after string, r *changes.Result) {
	t.Title("from %s to %s", before, after)
	t.paragraph("", changesVerdict(r))
	t.fields("In the file", r.Fields)
	for i := range r.Interfaces {
		t.Line("")
		t.changed(&r.Interfaces[i])
	}
	t.findings("New findings", r.FindingsNew)
	t.findings("Findings that are gone", r.FindingsGone)
	if f := r.Flows; f != nil {
		t.Line("")
		t.Title("%s", f.Capture)
		t.Line("%d of %s change class.", f.Changed, humanize.Plural(f.Flows, "flow"))
		if len(f.Moves) > 0 {
			w := t.grid([]column{{"at", true}, {"from", true}, {"to", true}, {"flows", false}, {"bytes", false}, {"largest", true}}, nil)
			for i := range f.Moves {
				m := &f.Moves[i]
				w.add(table.Row{m.Interface + " " + m.Direction, orDash(m.From), orDash(m.To), m.Flows, humanize.Bytes(m.Bytes), flowName(&m.Largest)})
			}
			t.put(w)
		}
	}
	for _, run := range r.Runs {
		t.Line("")
		t.Compared(run, false)
	}
}

// changesVerdict is what changes, counted, in a sentence.
func changesVerdict(r *changes.Result) string {
	if r.Same {
		return "Nothing changes."
	}
	places, moves := len(r.Interfaces), 0
	for i := range r.Interfaces {
		places += len(r.Interfaces[i].Also)
		moves += len(r.Interfaces[i].Packets)
	}
	text := "No interface treats packets differently"
	if places > 0 {
		text = humanize.Plural(places, "interface") + " treat" + map[bool]string{true: "s"}[places == 1] + " packets differently"
	}
	if moves > 0 {
		text += ", and packets change class"
	}
	for _, s := range []struct {
		what     string
		findings []check.Finding
	}{{"new", r.FindingsNew}, {"gone", r.FindingsGone}} {
		if n := len(s.findings); n > 0 {
			text += "; " + humanize.Plural(n, "finding") + map[bool]string{true: " is ", false: " are "}[n == 1] + s.what + " (" + counted(s.findings) + ")"
		}
	}
	return text + "."
}

// maxAlso is how many other places a title names at which the same differs.
const maxAlso = 8

func (t Text) changed(i *changes.Interface) {
	where := i.Node + "/" + i.Interface + " " + i.Direction
	if n := len(i.Also); n > maxAlso {
		where += fmt.Sprintf(", %s and %d more", strings.Join(i.Also[:maxAlso], ", "), n-maxAlso)
	} else if n > 0 {
		where = humanize.List(append([]string{where}, i.Also...))
	}
	switch {
	case i.OldPolicy == "":
		t.Title("%s: the policy `%s` is attached now", where, i.NewPolicy)
		return
	case i.NewPolicy == "":
		t.Title("%s: the policy `%s` is attached no longer", where, i.OldPolicy)
		return
	case i.OldPolicy == i.NewPolicy:
		t.Title("%s, policy `%s`", where, i.NewPolicy)
	default:
		t.Title("%s, policy `%s` in place of `%s`", where, i.NewPolicy, i.OldPolicy)
	}
	if len(i.Entries) > 0 {
		w := t.grid([]column{{"class", true}, {"", true}, {"was", true}, {"is", true}}, nil)
		for _, e := range i.Entries {
			class, what := e.Class, e.What
			if class == "" {
				class = "all"
			}
			if what == "class" {
				what = "gone"
				if e.New != "" {
					what = "new"
				}
			}
			w.add(table.Row{class, what, orDash(e.Old), orDash(e.New)})
		}
		t.put(w)
		for _, e := range i.Entries {
			if e.Note != "" {
				t.paragraph("  ", fmt.Sprintf("%s, %s: %s.", cmp.Or(e.Class, "all"), e.What, e.Note))
			}
		}
	}
	for n, m := range i.Packets {
		if n == 0 && len(i.Entries) > 0 {
			t.Line("")
		}
		if n == 0 {
			t.Line("Packets that change class")
		}
		while := ""
		if m.While != "" {
			while = ", while " + m.While
		}
		t.Line("  %s → %s%s", t.paint(m.From), t.paint(m.To), while)
		t.paragraph("    ", "for example "+m.Example+": was "+m.Old+"; is "+m.New)
	}
	if i.GaveUp > 0 {
		t.paragraph("  ", fmt.Sprintf("For %s of classes it is unknown whether packets move between them: their conditions divide into too many pieces.", humanize.Plural(i.GaveUp, "pair")))
	}
}

// fields writes the values of a file that differ.
func (t Text) fields(title string, all []changes.Field) {
	for i, f := range all {
		if i == 0 {
			t.Line("")
			t.Title("%s", title)
		}
		switch {
		case f.Old == changes.There && f.New == "":
			t.paragraph("  ", f.Path+" is gone")
		case f.New == changes.There && f.Old == "":
			t.paragraph("  ", f.Path+" is new")
		default:
			t.paragraph("  ", fmt.Sprintf("%s: %s → %s", f.Path, orDash(f.Old), orDash(f.New)))
		}
	}
}

func (t Text) findings(title string, list []check.Finding) {
	if len(list) == 0 {
		return
	}
	t.Line("")
	t.Title("%s", title)
	for i := range list {
		f := &list[i]
		t.Line("  %s:%d: %s %s", f.At.File, f.At.Line, string(f.Level), f.Name)
		t.paragraph("    ", f.Text()+": "+f.Fact.Consequence()+".")
	}
}
