package render

import (
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/bound"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/proof"
	"imbrel.example/imbrel/core/words"
	"imbrel.example/imbrel/internal/live"
)

// A Proof is a rehearsal held against the same with real packets.
type Proof struct {
	Imbrel  int    `json:"imbrel"`
	Verdict string `json:"verdict"` // pass, fail or not judged
	*proof.Proof
	Beyond    []words.Fact    `json:"beyond_bounds"` // of traffic that was measured to take longer than is proven: whether the machine explains it
	Rehearsed *measure.Result `json:"rehearsed"`
	*live.Staged
}

// maxProof is how many rows of a table are shown where all agree.
const maxProof = 24

// Proof writes what was rehearsed beside what was measured.
func (t Text) Proof(r *Proof, all bool) {
	m := r.Staged.Result
	with := "with the policies"
	if !m.Policy {
		with = "without policies"
	}
	t.Title("rehearsal `%s`, %s: %.4g s rehearsed, %.4g s measured with real packets", r.Rehearsal, with, r.Rehearsed.DurationS, m.DurationS)
	t.Line("  %s between %s, in real time", humanize.Plural(int(r.Staged.Frames), "real frame"), humanize.Plural(r.Staged.Homes, "network namespace"))
	t.Line("")
	if len(r.Expectations) > 0 {
		t.Title("What was expected")
		w := t.grid([]column{{"expectation", true}, {"rehearsed", false}, {"", true}, {"measured", false}, {"", true}, {"ratio", false}, {"", true}}, nil)
		for i := range r.Expectations {
			e := &r.Expectations[i]
			w.add(table.Row{e.Text, Moved(e.Rehearsed, e.Unit), t.held(e.RehearsedHolds), Moved(e.Measured, e.Unit), t.held(e.MeasuredHolds), ratioOf(&e.Figure), t.word(e.Word)})
		}
		t.put(w)
		t.Line("")
	}
	t.proofTable(r, "traffic", "Traffic, from host to host", "delay p99", all)
	t.proofTable(r, "class", "Classes, where a policy is in force", "wait p99", all)
	t.proofTCP(r)
	t.proofBounds(r)
	t.Title("How exact these figures are")
	k := &r.Tolerances
	w := t.grid([]column{{"allowed difference", true}, {"rate", false}, {"loss", false}, {"delay", false}, {"MOS", false}}, nil)
	w.add(table.Row{"without TCP in the class", humanize.Ratio(k.Rate), fmt.Sprintf("%.4g points", k.Loss), fmt.Sprintf("%.4g ms or %s", k.DelayMs, humanize.Ratio(k.Delay)), fmt.Sprintf("%.4g", k.MOS)})
	w.add(table.Row{"with TCP in the class", humanize.Ratio(k.Goodput), fmt.Sprintf("%.4g points", k.LossWithTCP), fmt.Sprintf("%.4g ms or %s", k.DelayWithTCPMs, humanize.Ratio(k.DelayWithTCP)), fmt.Sprintf("%.4g", k.MOS)})
	w.add(table.Row{fmt.Sprintf("below %d packets", k.Few), "", "", humanize.Ratio(k.FewDelay), ""})
	t.put(w)
	t.staging(r.Staged)
	t.Line("")
	t.proofVerdict(r)
}

// proofVerdict writes the last line.
func (t Text) proofVerdict(r *Proof) {
	word, said, more := r.Said()
	if r.Verdict == Pass {
		t.verdictLine(t.good(word), said)
	} else {
		t.verdictLine(t.bad(word), said)
	}
	if more != "" {
		t.paragraph("", more)
	}
}

// Said is the verdict in a word and a sentence: whether the figures agree and the expectations hold. Where nothing can be judged,
// more says what was found all the same.
func (r *Proof) Said() (word, said, more string) {
	holds := 0
	for i := range r.Expectations {
		if r.Expectations[i].MeasuredHolds {
			holds++
		}
	}
	figures := words.FiguresAgree.With(r.Agree, r.Agree+r.Differ)
	if r.Differ > 0 {
		var names []string
		for i := range r.Figures {
			if f := &r.Figures[i]; f.Word == proof.Differs {
				names = append(names, f.Name+" "+f.Metric)
			}
		}
		for i := range r.Expectations {
			if e := &r.Expectations[i]; e.Word == proof.Differs {
				names = append(names, e.Text)
			}
		}
		figures = words.FiguresDiffer.With(r.Differ, r.Agree+r.Differ, names[:min(maxDiffering, len(names))], max(0, len(names)-maxDiffering))
	}
	said = words.ProofSays.With(figures, holds, len(r.Expectations)).String()
	switch r.Verdict {
	case Pass:
		return "PASS", said, ""
	case Fail:
		return "FAIL", said, ""
	}
	return "NOT JUDGED", words.NotJudgedHeldUp.With(words.Part(r.Staged.HeldUpPart())).String(), said
}

// maxDiffering is how many figures the verdict names that differ.
const maxDiffering = 3

// The verdicts of a proof.
const (
	Pass      = "pass"
	Fail      = "fail"
	NotJudged = "not judged"
)

// maxHeldUp is the part of a run for which the machine may hold the program up; beyond, nothing is judged.
const maxHeldUp = 0.02

// Judge sets the verdict of a proof, and what exceeds its bound.
func (r *Proof) Judge() {
	r.Beyond = r.beyond()
	switch {
	case r.Staged.HeldUpPart() > maxHeldUp:
		r.Verdict = NotJudged
	case r.Differ > 0 || r.Staged.Result.Verdict == Fail:
		r.Verdict = Fail
	default:
		r.Verdict = Pass
	}
}

// beyond returns a sentence for each traffic that was measured to take longer than is proven. The cause is this machine where the packets
// did not take longer within the network.
func (r *Proof) beyond() []words.Fact {
	facts := []words.Fact{}
	if r.Rehearsed.Bounds == nil || r.Staged.Late == nil {
		return facts
	}
	late := time.Duration(r.Staged.Late.Max * 1e6) // by so much senders may come nearer to each other
	staged, rehearsed := r.Staged.Result.Longest(), r.Rehearsed.Longest()
	for i := range r.Rehearsed.Bounds.Paths {
		p := &r.Rehearsed.Bounds.Paths[i]
		seen, within := staged.Seen(p), r.Staged.Passage(p)
		switch {
		case p.Max == bound.Never || seen <= rehearsed.Bounded(p) || p.Reports:
		case within <= p.Max+late:
			facts = append(facts, words.MeasuredLate.With(p.Name(), seen, p.Max, within))
		default:
			facts = append(facts, words.MeasuredBeyond.With(p.Name(), seen, p.Max, within, late))
		}
	}
	return facts
}

func (t Text) held(holds bool) painted {
	if holds {
		return t.good("holds")
	}
	return t.bad("fails")
}

// word prints that a figure differs; that it agrees needs no word.
func (t Text) word(word string) painted {
	if word == proof.Agrees {
		return ""
	}
	return t.bad(word)
}

func ratioOf(f *proof.Figure) string {
	if f == nil || f.Ratio == nil {
		return "-"
	}
	return fmt.Sprintf("%.3f", *f.Ratio)
}

// A proofRow is the figures of one traffic or class.
type proofRow struct {
	name, where string
	of          map[string]*proof.Figure
	differs     []string
}

func proofRows(r *Proof, of string) []*proofRow {
	var out []*proofRow
	for i := range r.Figures {
		f := &r.Figures[i]
		if f.Of != of {
			continue
		}
		if n := len(out); n == 0 || out[n-1].name != f.Name || out[n-1].where != f.Where {
			out = append(out, &proofRow{name: f.Name, where: f.Where, of: make(map[string]*proof.Figure)})
		}
		row := out[len(out)-1]
		row.of[f.Metric] = f
		if f.Word == proof.Differs {
			row.differs = append(row.differs, f.Metric)
		}
	}
	return out
}

// proofTable writes the figures of the traffic, or of the classes.
func (t Text) proofTable(r *Proof, of, title, delay string, all bool) {
	columns := []column{{of, true}, {"", true}, {"rehearsed", false}, {"measured", false}, {"ratio", false}, {"rehearsed", false}, {"measured", false}, {"rehearsed", false}, {"measured", false}}
	above := []string{"", "", "rate", "rate", "rate", "lost", "lost", delay, delay}
	if of == "traffic" {
		columns = append(columns, column{"rehearsed", false}, column{"measured", false})
		above = append(above, "MOS", "MOS")
	}
	w := t.dense(t.grid(append(columns, column{"", true}), append(above, "")))
	left, shown := 0, 0
	for _, row := range proofRows(r, of) {
		rate := row.of[string(policy.Throughput)]
		if rate == nil {
			continue // of TCP
		}
		if shown >= maxProof && !all && len(row.differs) == 0 {
			left++
			continue
		}
		shown++
		both := func(metric policy.Metric) (a, b string) {
			f := row.of[string(metric)]
			if f == nil {
				return "-", "-"
			}
			return Moved(f.Rehearsed, f.Unit), Moved(f.Measured, f.Unit)
		}
		cells := table.Row{row.name, row.where, Moved(rate.Rehearsed, rate.Unit), Moved(rate.Measured, rate.Unit), ratioOf(rate)}
		for _, metric := range []policy.Metric{policy.Loss, policy.Delay, policy.MOS} {
			if metric == policy.MOS && of != "traffic" {
				break
			}
			a, b := both(metric)
			cells = append(cells, a, b)
		}
		w.add(append(cells, t.differs(row)))
	}
	if shown == 0 {
		return
	}
	t.Title("%s", title)
	t.put(w)
	if left > 0 {
		t.Line("  and %s that agree: --all shows them", humanize.Plural(left, "more row"))
	}
	t.Line("")
}

// differs names what of a row differs.
func (t Text) differs(row *proofRow) painted {
	if len(row.differs) == 0 {
		return ""
	}
	return t.bad(strings.Join(row.differs, ", ") + " " + proof.Differs)
}

// proofTCP writes the figures of TCP: the model's, and the kernel's.
func (t Text) proofTCP(r *Proof) {
	w := t.grid([]column{{"traffic", true}, {"", true}, {"rehearsed", false}, {"kernel's", false}, {"ratio", false}, {"rehearsed", false}, {"kernel's", false}, {"rehearsed", false}, {"kernel's", false}, {"", true}},
		[]string{"", "", "goodput", "goodput", "goodput", "retransmissions", "retransmissions", "completion p50", "completion p50", ""})
	shown := 0
	for _, row := range proofRows(r, "traffic") {
		goodput := row.of[string(policy.Goodput)]
		if goodput == nil {
			continue
		}
		shown++
		cells := table.Row{row.name, row.where, Moved(goodput.Rehearsed, goodput.Unit), Moved(goodput.Measured, goodput.Unit), ratioOf(goodput)}
		for _, metric := range []policy.Metric{policy.Retransmissions, policy.Completion} {
			a, b := "-", "-"
			if f := row.of[string(metric)]; f != nil {
				a, b = Moved(f.Rehearsed, f.Unit), Moved(f.Measured, f.Unit)
			}
			cells = append(cells, a, b)
		}
		w.add(append(cells, t.differs(row)))
	}
	if shown == 0 {
		return
	}
	t.Title("TCP: the model's, and the kernel's")
	t.put(w)
	t.Line("")
}

// staging writes how well the machine did its part.
func (t Text) staging(s *live.Staged) {
	if l := s.Late; l != nil {
		t.paragraph("  ", fmt.Sprintf("This machine sent packets late: p99 %s, max %s. Measured delays are no more exact than that.", humanize.Milliseconds(l.P99), humanize.Milliseconds(l.Max)))
		if s.TooLate > 0.01 {
			t.paragraph("  ", string(t.bad(fmt.Sprintf("%s of the packets were more than a millisecond late: this machine is too slow for this rehearsal, and figures may differ for that reason.", humanize.Ratio(s.TooLate)))))
		}
	}
	if s.HeldUpMs > 0 {
		t.paragraph("  ", words.HeldUp.With(time.Duration(1e6*s.HeldUpMs), time.Duration(1e6*s.MaxHeldUpMs), time.Duration(s.Result.DurationS*1e9), time.Duration(s.Result.DurationS*1e9)+time.Duration(1e6*s.HeldUpMs)).String())
	}
	for _, n := range []struct {
		count uint64
		why   string
	}{{s.Outside.NotSent, "could not be sent by its host"}, {s.Outside.NotTaken, "was sent and did not come to the network"},
		{s.Outside.NotHad, "left the network and did not come to its host"}, {s.Outside.Waiting, "still waited in the network ten seconds after the end"}, {s.Overrun, "came faster than the network read"}} {
		if n.count > 0 {
			t.Line("  %s: each %s, and counts as lost.", humanize.Plural(int(n.count), "packet"), n.why)
		}
	}
	for _, n := range s.NotReal {
		t.paragraph("  ", "Differs from the file: "+n+".")
	}
}
