package render

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/words"
)

// warnings writes what makes a verdict worth less: in the short form the first warnings, and how much more there is.
func (t Text) warnings(r *measure.Result, v *View) {
	left := 0
	for _, level := range []string{"warning", "note"} {
		shown := 0
		for i := range r.Warnings {
			w := &r.Warnings[i]
			switch {
			case w.Level != level:
				continue
			case !v.detailed() && level == "note":
				continue
			case !v.detailed() && shown == maxWarnings:
				left++
				continue
			}
			lead := "Note: "
			if level == "warning" {
				lead = "  "
				if shown == 0 {
					t.Line("%s", t.warn("Warnings: what this verdict does not cover"))
				}
			}
			shown++
			t.paragraph(lead, fmt.Sprintf("%s:%d: %s", w.File, w.Line, w.Text))
		}
		if level == "warning" && left > 0 {
			t.Line("  %s: --detail shows them", humanize.Plural(left, "more warning"))
		}
		if shown > 0 {
			t.Line("")
		}
	}
}

// width is how wide a paragraph is.
const width = 98

// paragraph writes text in lines of a width, each after the first as far in as the lead.
func (t Text) paragraph(lead, text string) {
	in, width := strings.Repeat(" ", utf8.RuneCountInString(lead)), width
	if t.Width > 0 {
		width = min(width, t.Width)
	}
	line := lead
	for i, word := range strings.Fields(text) {
		if i > 0 && len(line)+1+len(word) > width {
			t.Line("%s", line)
			line = in + word
			continue
		}
		if i > 0 {
			line += " "
		}
		line += word
	}
	t.Line("%s", line)
}

func (t Text) holds(o *measure.Outcome) painted {
	if o.Holds {
		return t.good("holds")
	}
	return t.bad("FAILS")
}

// cell prints an outcome for a table. The reason of one without a figure goes below its row.
func cell(o *measure.Outcome, say func(*measure.Outcome) string) string {
	if o.Measured == nil {
		return "nothing"
	}
	return say(o)
}

// Phased prints a measured value, with its phase of an event.
func Phased(o *measure.Outcome) string {
	if o.Phase == "" {
		return Measured(o)
	}
	return Measured(o) + " " + o.Phase
}

// Measured prints an outcome's value with its unit, in the digits that decide.
func Measured(o *measure.Outcome) string {
	if o.Measured == nil {
		return o.Reason.String()
	}
	text := humanize.Decided(*o.Measured, o.Limit, o.Unit)
	if o.Above {
		return "> " + text
	}
	return text
}

// order returns the indices of the expectations: those that failed first; in the short form of those that hold only as many as
// fit. left is how many it leaves out.
func (v *View) order(r *measure.Result) (order []int, left int) {
	for _, holds := range []bool{false, true} {
		for i := range r.Expectations {
			if r.Expectations[i].Holds == holds {
				order = append(order, i)
			}
		}
	}
	if most := max(failures(r), maxExpectations); !v.detailed() && len(order) > most {
		return order[:most], len(order) - most
	}
	return order, 0
}

func (t Text) expectations(r *measure.Result, v *View) {
	if len(r.Expectations) == 0 {
		return
	}
	order, left := v.order(r)
	w := t.grid([]column{{"expectation", true}, {"measured", false}, {"", true}, {"of", true}}, nil)
	for _, i := range order {
		o := &r.Expectations[i]
		w.add(table.Row{o.Title(), cell(o, Measured), t.holds(o), o.Of})
	}
	t.putWith(w, func(row int) {
		if row < len(order) {
			t.why(r, v, order[row])
		}
	})
	t.othersHold(left)
	t.Line("")
}

// othersHold says how many expectations hold besides those shown.
func (t Text) othersHold(n int) {
	if n == 1 {
		t.Line("  1 more expectation holds: --detail shows it")
	} else if n > 1 {
		t.Line("  %s hold: --detail shows them", humanize.Plural(n, "more expectation"))
	}
}

// why writes where and why an expectation failed, and what would make it hold.
func (t Text) why(r *measure.Result, v *View, i int) {
	o := &r.Expectations[i]
	if !o.Reason.IsZero() {
		t.paragraph("      ", o.Reason.String())
	}
	if o.Why == nil {
		return
	}
	c := o.Why.Change
	mended := c != nil && slices.ContainsFunc(r.Expectations[:i], func(p measure.Outcome) bool { return p.Why != nil && p.Why.Change == c })
	said := o.Why.Text.String()
	if same := slices.ContainsFunc(r.Expectations[:i], func(p measure.Outcome) bool { return p.Why != nil && p.Why.SameCause(o.Why) }); same && !v.detailed() {
		if said = "the same cause"; mended {
			t.Line("      %s; %s", said, words.SameChangeMends.With())
			return
		}
	}
	t.paragraph("      ", said)
	if mended {
		t.paragraph("      ", words.SameChangeMends.With().String())
		return
	}
	if text := ChangeText(o.Why); text != "" {
		t.paragraph("      ", text)
	}
}

// ChangeText says what would make an expectation hold, or that no change of one number does; "" where none was looked for.
func ChangeText(w *measure.Why) string {
	if w.NoChange {
		tried := make([]words.Fact, len(w.Tried))
		for i, n := range w.Tried {
			tried[i] = words.TriedUpTo.With(n.Path, n.From, n.To)
		}
		return words.NoNumberMends.With(tried).String()
	}
	c := w.Change
	if c == nil {
		return ""
	}
	text := words.ChangeNumber.With(c.Path, c.From, c.To).String()
	if c.From == "" {
		text = words.WriteNumber.With(c.Path, c.To).String()
	}
	if c.File != w.File || c.Line != w.Line {
		text += fmt.Sprintf(" (%s:%d)", c.File, c.Line)
	}
	switch {
	case c.Least == "":
		text += ": " + words.AsFixDoes.With().String()
	case c.Least != c.To:
		text += ": " + words.HoldsFromOn.With(c.Least).String()
	default:
		text += ": " + words.HoldsJust.With().String()
	}
	if len(c.Breaks) > 0 {
		text += ", " + words.ThenFails.With(c.Breaks).String()
	}
	return text
}

func failures(r *measure.Result) int {
	n := 0
	for _, o := range r.Expectations {
		if !o.Holds {
			n++
		}
	}
	return n
}

// verdict writes the verdict of a run, and of a run without the policies where there is one.
func (t Text) verdict(r *measure.Result, without ...*measure.Result) {
	word, said := Verdict(r, without...)
	switch r.Verdict {
	case "pass":
		t.Line("%s%s", t.good(word), said)
	case "fail":
		t.Line("%s%s", t.bad(word), said)
	default:
		t.Line("%s%s", word, said)
	}
	if text := Uncovered(r.NotJudged); text != "" {
		t.paragraph("", text)
	}
}

// Verdict is the verdict of a run in a word, and the sentence that goes on from it; with what a run without the policies came to
// where there is one.
func Verdict(r *measure.Result, without ...*measure.Result) (word, said string) {
	with := ""
	if n := r.WarningCount(); n > 0 {
		with = ", with " + humanize.Plural(n, "warning")
	}
	if r.Incomplete {
		with += ", and interrupted: only of what was measured"
	}
	beside := ""
	for _, r := range without {
		beside = " with the policies; without them " + summary(r)
	}
	switch n := len(r.Expectations); r.Verdict {
	case "none":
		return "No verdict", with + ": the rehearsal expects nothing. Add lines under `expect`"
	case "pass":
		return "PASS", with + ": " + allHold(n) + beside
	default:
		return "FAIL", with + ": " + summary(r) + beside
	}
}

// maxNotJudged is how many subjects the line under the verdict names. The warnings name all of them.
const maxNotJudged = 3

// Uncovered names the damage that no expectation covers: "Nothing was expected of loss or MOS of voice (29.8 % lost,
// MOS 1.19)."
func Uncovered(all []measure.NotJudged) string {
	var words []string
	for i := range all[:min(maxNotJudged, len(all))] {
		n := &all[i]
		var met []string
		if n.Loss > 0 {
			met = append(met, humanize.Ratio(n.Loss)+" lost")
		}
		if n.Late != nil && *n.Late > 0 {
			met = append(met, humanize.Ratio(*n.Late)+" late")
		}
		if n.MOS != nil {
			met = append(met, fmt.Sprintf("MOS %.2f", *n.MOS))
		}
		if n.Unfinished > 0 {
			met = append(met, humanize.Count(n.Unfinished)+" did not end")
		}
		what := n.Subject + " (" + strings.Join(met, ", ") + ")"
		if len(n.Metrics) > 0 {
			what = n.Words() + " of " + what
		}
		words = append(words, what)
	}
	if len(words) == 0 {
		return ""
	}
	text := "Nothing was expected of " + strings.Join(words, "; of ")
	if rest := len(all) - len(words); rest > 0 {
		text += fmt.Sprintf("; and %d more, see the warnings", rest)
	}
	return text + "."
}

// verdictLine writes one word of verdict and what it is about, in as many lines as it takes.
func (t Text) verdictLine(word painted, said string) {
	t.Line("%s: %s", word, painted(Visible(said)))
}

func allHold(n int) string {
	if n == 1 {
		return "the expectation holds"
	}
	return fmt.Sprintf("all %d expectations hold", n)
}

// maxPaying is how many the line of who pays names.
const maxPaying = 3

// WhoPays says who pays for what others got: whose figures are worse with the policies.
func WhoPays(all []measure.Payment) words.Fact {
	if len(all) == 0 {
		return words.NobodyPays.With()
	}
	var list []words.Fact
	for _, p := range all[:min(maxPaying, len(all))] {
		list = append(list, p.Text)
	}
	return words.WhoPays.With(list, max(0, len(all)-maxPaying))
}

const withoutPolicies, withPolicies = "without the policies", "with the policies"

// columnsOf are those of what packets met in a run; one for late packets only when
// there are some.
func columnsOf(late bool) []column {
	c := []column{{"lost", false}, {"late", false}, {"delivered", false}, {"p99 delay", false}, {"MOS", false}}
	if !late {
		c = slices.Delete(c, 1, 2)
	}
	return c
}

// beside starts a table of two runs side by side after a first column, and returns
// which of the runs have a column for late packets.
func (t Text) beside(first string, without, with *measure.Result) (w *grid, late [2]bool) {
	columns, above := []column{{first, true}}, []string{""}
	for i, r := range []*measure.Result{without, with} {
		late[i] = slices.ContainsFunc(r.Traffic, func(r measure.Row) bool { return r.Late != nil && *r.Late > 0 })
		columns, above = append(columns, column{"│", true}), append(above, "│"+strings.Repeat(" ", i))
		for _, c := range columnsOf(late[i]) {
			columns, above = append(columns, c), append(above, [...]string{withoutPolicies, withPolicies}[i])
		}
	}
	return t.dense(t.grid(columns, above)), late
}

func (t Text) sideBySide(without, with *measure.Result, v *View) {
	t.Title("What the traffic met, from end to end (rates count IP bytes)")
	w, late := t.beside("traffic", without, with)
	rows, left := v.rows(with)
	for _, r := range rows {
		name := r.Title()
		if several := slices.ContainsFunc(with.Traffic, func(o measure.Row) bool { return o.Class != r.Class && o.Title() == name }); several {
			name += " (" + r.Class + ")"
		}
		row := table.Row{humanize.Short(name, 28)}
		for i, m := range []*measure.TrafficFigures{findMet(without, r), &r.TrafficFigures} {
			cells := met(m, v, late[i])
			if r.OverTCP {
				cells[0] = "-"
			}
			row = append(append(row, "│"), cells...)
		}
		w.add(row)
	}
	t.put(w)
	if left > 0 {
		t.Line("  the worst %d; %s less harmed: --all shows them", len(rows), humanize.Plural(left, "more row"))
	}
	t.Line("")
}

// classesBeside writes what the packets of each class met, in both runs.
func (t Text) classesBeside(without, with *measure.Result, v *View) {
	if v.detailed() {
		t.Title("By class (a packet counts in each class it passes through; a call counts both directions)")
	}
	w, late := t.beside("class", without, with)
	for i := range with.Classes {
		c := &with.Classes[i]
		if !v.shows(c.Class) {
			continue
		}
		var other *measure.TrafficFigures
		for j := range without.Classes {
			if without.Classes[j].Class == c.Class {
				other = &without.Classes[j].TrafficFigures
			}
		}
		row := append(table.Row{humanize.Short(c.Class, 28), "│"}, met(other, v, late[0])...)
		w.add(append(append(row, "│"), met(&c.TrafficFigures, v, late[1])...))
	}
	t.put(w)
	t.Line("")
}

// find returns what the same packets met in another run.
func findMet(in *measure.Result, like *measure.Row) *measure.TrafficFigures {
	for i := range in.Traffic {
		if r := &in.Traffic[i]; r.Name == like.Name && r.Direction == like.Direction && r.Class == like.Class {
			return &r.TrafficFigures
		}
	}
	return nil
}

func met(m *measure.TrafficFigures, v *View, withLate bool) table.Row {
	row := table.Row{"-", "-", "-", "-", "-"}
	if m != nil {
		row = table.Row{humanize.Ratio(m.Loss), lateOf(m), v.rate(m.RateBps, m.RatePps), times(m.Delay, p99), mos(m.MOS)}
	}
	if !withLate {
		row = slices.Delete(row, 1, 2)
	}
	return row
}

// whereItQueued lists the places at which packets were dropped or waited long,
// in either run.
func (t Text) whereItQueued(without, with *measure.Result) {
	type place struct {
		drops [2]uint64
		wait  [2]float64
	}
	places := make(map[string]*place)
	var order []string
	note := func(run int, name string, drops uint64, wait *measure.Milliseconds) {
		p := places[name]
		if p == nil {
			p = &place{}
			places[name] = p
			order = append(order, name)
		}
		p.drops[run] += drops
		if wait != nil {
			p.wait[run] = max(p.wait[run], wait.Max)
		}
	}
	for run, r := range []*measure.Result{without, with} {
		for _, f := range r.Interfaces {
			for _, c := range f.Classes {
				if !strings.Contains(c.Class, "/") { // those are within these
					note(run, f.Node+"/"+f.Interface+" "+f.Direction, c.Drops.Total(), c.QueueDelay)
				}
			}
		}
		for _, l := range r.Links {
			note(run, "the carrier, "+l.From+" to "+l.To, l.Drops, l.QueueDelay)
		}
	}
	const a, b = withoutPolicies, withPolicies
	w := t.grid([]column{{"place", true}, {"│", true}, {"drops", false}, {"longest wait", false}, {"│", true}, {"drops", false}, {"longest wait", false}},
		[]string{"", "│", a, a, "│ ", b, b})
	rows := 0
	for _, name := range order {
		p := places[name]
		if p.drops == [2]uint64{} && max(p.wait[0], p.wait[1]) < 2 {
			continue
		}
		if rows++; rows <= maxRows {
			w.add(table.Row{name, "│", humanize.Count(p.drops[0]), humanize.Milliseconds(p.wait[0]), "│", humanize.Count(p.drops[1]), humanize.Milliseconds(p.wait[1])})
		}
	}
	if rows == 0 {
		return
	}
	t.Title("Where packets waited or were dropped")
	t.put(w)
	if rows > maxRows {
		t.Line("  and at %s", humanize.Plural(rows-maxRows, "more place"))
	}
	t.Line("")
}

func (t Text) bothExpectations(without, with *measure.Result, v *View) {
	if len(with.Expectations) == 0 {
		return
	}
	order, left := v.order(with)
	w := t.grid([]column{{"expectation", true}, {"without", false}, {"", true}, {"with", false}, {"", true}, {"of", true}}, nil)
	for _, i := range order {
		a, b := &without.Expectations[i], &with.Expectations[i]
		w.add(table.Row{b.Text, cell(a, Phased), t.holds(a), cell(b, Phased), t.holds(b), b.Of})
	}
	said := false
	t.putWith(w, func(row int) {
		if row >= len(order) {
			return
		}
		i := order[row]
		a, b := &without.Expectations[i], &with.Expectations[i]
		switch {
		case !b.Holds:
			t.why(with, v, i)
		case v.detailed() && !a.Holds && a.Why != nil && !said: // the policies mend it: once is enough
			said = true
			t.paragraph("      without: ", a.Why.Text.String())
		}
	})
	t.othersHold(left)
	t.Line("")
}

// summary says how many expectations hold.
func summary(r *measure.Result) string {
	n := len(r.Expectations)
	switch bad := failures(r); {
	case bad == 0:
		return allHold(n)
	case bad == 1:
		return fmt.Sprintf("1 of %s fails", humanize.Plural(n, "expectation"))
	default:
		return fmt.Sprintf("%d of %s fail", bad, humanize.Plural(n, "expectation"))
	}
}
