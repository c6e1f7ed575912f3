package render

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/threshold"
)

// Found is where an expectation just holds.
type Found struct {
	Rehearsal string              `json:"rehearsal"`
	Path      string              `json:"path"` // of the number that was changed
	File      string              `json:"file"`
	Line      int                 `json:"line"`
	Written   string              `json:"written"` // what the file says
	Judged    string              `json:"expectation"`
	First     string              `json:"first"`
	Last      string              `json:"last"`
	Runs      []*threshold.Result `json:"runs"`

	Incomplete bool `json:"incomplete,omitempty"` // interrupted
}

// longestBar is how many columns the longest bar of a curve has.
const longestBar = 30

// Found writes where an expectation just holds, and the curve that was found.
func (t Text) Found(f *Found) {
	t.Title("rehearsal `%s`: where %q holds as %s changes", f.Rehearsal, f.Judged, f.Path)
	for _, r := range f.Runs {
		t.Line("")
		if len(f.Runs) > 1 {
			t.Title("%s", strings.ToUpper(with(r)[:1])+with(r)[1:])
		}
		t.curve(r)
	}
	t.Line("")
	for _, said := range f.Sentences() {
		t.paragraph("", said)
	}
	if f.Incomplete {
		t.Line("Interrupted: only these values were tried.")
	}
	t.paragraph("", fmt.Sprintf("%s:%d says %s now.", f.File, f.Line, f.Written))
}

// Sentences says of each run where the expectation holds, and of what the verdict there would warn.
func (f *Found) Sentences() (out []string) {
	for _, r := range f.Runs {
		where := ""
		if len(f.Runs) > 1 {
			where = with(r) + " "
		}
		text := where + "it holds nowhere from " + f.First + " to " + f.Last
		switch {
		case r.Everywhere():
			text = where + "it holds everywhere from " + f.First + " to " + f.Last
		case r.Holds != "":
			text = fmt.Sprintf("%sit holds at %s, and fails at %s", where, r.Holds, r.Fails)
			if r.Turns > 1 {
				text += "; it turns more than once, so look at the curve"
			}
		}
		out = append(out, strings.ToUpper(text[:1])+text[1:]+".")
		if p := r.Held(); p != nil {
			for i := range p.Warnings {
				out = append(out, fmt.Sprintf("But with %s: %s.", p.Value, p.Warnings[i].Text))
			}
		}
	}
	return out
}

func with(r *threshold.Result) string {
	if r.Policy {
		return "with the policies"
	}
	return "without policies"
}

// curve draws what was measured with each value.
func (t Text) curve(r *threshold.Result) {
	most := 0.0
	for _, p := range r.Points {
		if p.Measured != nil {
			most = max(most, *p.Measured)
		}
	}
	w := t.grid([]column{{"value", false}, {"measured", false}, {"", true}, {"", true}}, nil)
	for _, p := range r.Points {
		holds, bar := t.bad("fails"), ""
		if p.Holds {
			holds = t.good("holds")
		}
		if p.Measured != nil && most > 0 {
			bar = strings.Repeat("▇", int(longestBar**p.Measured/most+0.5))
		}
		w.add(table.Row{p.Value, Moved(p.Measured, p.Unit), holds, bar})
	}
	t.put(w)
}
