package render

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
)

// WhatIfDown writes what breaks with each link down.
func (t Text) WhatIfDown(w *measure.WhatIfDown) {
	t.screens(func(t Text) {
		t.Title("`%s` with each link down in turn; its traffic takes the other ways there are", w.Rehearsal)
		g := t.grid([]column{{"link", true}, {"", true}, {"expectation", true}, {"measured", false}, {"of", true}}, nil)
		bad := 0
		for _, l := range w.Links {
			name, verdict := l.Link, t.good("holds")
			if name == "" {
				name = "none is down"
			}
			switch {
			case l.CutOff != "":
				verdict = t.bad("CUT OFF")
			case l.Verdict == "none":
				verdict = "-"
			case l.Verdict == "fail":
				verdict = t.bad("FAILS")
			}
			if bad++; l.Verdict != "fail" && l.CutOff == "" {
				bad--
			}
			if len(l.Fails) == 0 {
				g.add(table.Row{name, verdict, "", "", ""})
			}
			for i := range l.Fails {
				o := &l.Fails[i]
				g.add(table.Row{name, verdict, o.Title(), Measured(o), o.Of})
				name, verdict = "", ""
			}
		}
		t.put(g)
		for _, l := range w.Links {
			if l.CutOff != "" {
				t.paragraph("  ", fmt.Sprintf("%s: %s", l.Link, firstLine(l.CutOff)))
			}
		}
		t.Line("")
		if bad == 0 {
			t.Line("All expectations hold, whichever link is down.")
		} else {
			t.Line("%s of %s: something fails.", humanize.Count(bad), humanize.Plural(len(w.Links), "run"))
		}
	}, func(Text) {})
}

// firstLine returns the first line of a text.
func firstLine(s string) string {
	s, _, _ = strings.Cut(s, "\n")
	return s
}
