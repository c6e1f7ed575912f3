package render

import (
	"fmt"
	"strings"

	"imbrel.example/imbrel/core/check"
	"imbrel.example/imbrel/core/humanize"
)

// Findings writes what a check found, the most serious first; what is the same at several places, once.
func (t Text) Findings(all []check.Finding) {
	done := make([]bool, len(all))
	for _, level := range []check.Level{check.Error, check.Warning, check.Note} {
		for i := range all {
			f := &all[i]
			if f.Level != level || done[i] {
				continue
			}
			t.Line("%s:%d:%d: %s %s", f.At.File, f.At.Line, f.At.Column, t.level(level), f.Name)
			t.paragraph("  ", f.Text()+": "+f.Fact.Consequence()+".")
			t.paragraph("  → ", f.Fact.Fix())
			for j := i + 1; j < len(all); j++ {
				if g := &all[j]; !done[j] && g.Alike(f) {
					done[j] = true
					t.Line("  the same: %s:%d:%d%s", g.At.File, g.At.Line, g.At.Column, prefixed(", at ", g.Where()))
				}
			}
			t.Line("")
		}
	}
	certain := 0
	for i := range all {
		if all[i].Edit != nil {
			certain++
		}
	}
	if certain > 0 {
		t.Line("%d can be fixed automatically: --diff shows the change, --fix writes it.", certain)
	}
	if len(all) == 0 {
		t.Line("Nothing found.")
		return
	}
	t.Line("%s. `imbrel check --about NAME` explains one at length.", counted(all))
}

// counted is how many findings of each level there are.
func counted(all []check.Finding) string {
	errors, warnings := check.Count(all)
	return humanize.Plural(errors, "error") + ", " + humanize.Plural(warnings, "warning") + ", " + humanize.Plural(len(all)-errors-warnings, "note")
}

// level paints a level by how serious it is.
func (t Text) level(l check.Level) painted {
	switch l {
	case check.Error:
		return t.bad(string(l))
	case check.Warning:
		return t.warn(string(l))
	}
	return t.paint(string(l))
}

// prefixed returns a text after a prefix; nothing where there is none.
func prefixed(prefix, text string) string {
	if text == "" {
		return ""
	}
	return prefix + text
}

// Mended writes what was mended.
func (t Text) Mended(all []check.Finding) {
	for i := range all {
		f := &all[i]
		t.Line("%s:%d: mended %s", f.At.File, f.At.Line, f.Name)
		t.paragraph("  ", f.Text()+": line "+fmt.Sprint(f.Edit.Line)+" says "+f.Edit.New+" now.")
	}
	if len(all) > 0 {
		t.Line("")
	}
}

// around is how many lines a unified diff shows around what differs.
const around = 3

// Diff writes a unified diff of two texts that have as many lines.
func (t Text) Diff(name string, before, after []byte) {
	old, now := strings.SplitAfter(string(before), "\n"), strings.SplitAfter(string(after), "\n")
	var differ []int
	for i := range old {
		if old[i] != now[i] {
			differ = append(differ, i)
		}
	}
	if last := len(old) - 1; old[last] == "" {
		old = old[:last]
	}
	put := func(mark byte, line string) {
		end := ""
		if !strings.HasSuffix(line, "\n") {
			end = "\n\\ No newline at end of file\n"
		}
		fmt.Fprintf(t.W, "%c%s%s", mark, line, end)
	}
	fmt.Fprintf(t.W, "--- %s\n+++ %s\n", Visible(name), Visible(name))
	for len(differ) > 0 {
		n := 1
		for n < len(differ) && differ[n]-differ[n-1] <= 2*around {
			n++
		}
		first, last := max(0, differ[0]-around), min(len(old)-1, differ[n-1]+around)
		fmt.Fprintf(t.W, "@@ -%d,%d +%d,%d @@\n", first+1, last-first+1, first+1, last-first+1)
		for i := first; i <= last; {
			if old[i] == now[i] {
				put(' ', old[i])
				i++
				continue
			}
			end := i
			for end <= last && old[end] != now[end] {
				put('-', old[end])
				end++
			}
			for ; i < end; i++ {
				put('+', now[i])
			}
		}
		differ = differ[n:]
	}
}

// FindingsDoc returns the page of all findings.
func FindingsDoc() string {
	out := `# What ` + "`imbrel check`" + ` finds

Generated from the text that ` + "`imbrel check --about NAME`" + ` prints. An *error* cannot work; a *warning* does not do what most
people would mean by it; a *note* does nothing, or is worth a look. A comment on its line accepts a finding, with a reason:
` + "`# imbrel: accept slow-link because the new line comes in May`" + `.
`
	for _, r := range check.Rules() {
		out += fmt.Sprintf("\n## %s\n\n*%s*. %s\n", r.Name, r.Level, r.About)
	}
	return out + untold
}

// untold is what goes wrong and a policy file does not tell, or another command does.
const untold = `
## What goes wrong, and what tells it

| what goes wrong | what tells it |
|---|---|
| bits and bytes, or k and M, are mixed up; a digit is missing | ` + "`unit-slip`, `bound-below-call`, `bound-below-calls`, `shape-above-link`, `shape-far-below`, `expectation-estimated`" + ` |
| shares come to more than the whole | an error of every command that reads the file |
| nothing is left for the default class | ` + "`nothing-for-rest`" + ` |
| the strict class has no bound, or one below a call | ` + "`unbounded-priority`, `bound-below-call`" + ` |
| a policer's burst is below a packet, or below what comes in an interval | ` + "`burst-below-packet`, `burst-below-interval`" + ` |
| the catch-all is first; a rule is shadowed | an error when a ` + "`rest`" + ` is not last; ` + "`never-matches`, `partly-shadowed`, `contradiction`" + ` |
| an address that is nowhere in the network; a class that takes one direction of a conversation | ` + "`address-nowhere`, `answers-in-rest`" + ` |
| a class is never used, a policy attached nowhere | ` + "`unused`, `policy-unattached`, `expectation-untested`, `traffic-unclassified`" + ` |
| only uploads are limited, or one end of a link | ` + "`one-end`" + ` |
| the shape is above what the link carries, or the far end lets in | ` + "`shape-above-link`, `shape-at-link`, `shape-above-port`, `shape-above-far-end`, `in-never-queues`" + ` |
| the shape ignores framing | ` + "`framing-forgotten`" + ` |
| a marking is ignored or rewritten later, or lost in a tunnel or a label | ` + "`mark-unserved`, `tag-nowhere`, `expectation-mark`; `imbrel explain`" + ` shows it hop by hop |
| voice has the network-control codepoint, or anybody's marking is trusted | ` + "`voice-as-control`, `open-trust`, `voice-without-priority`" + ` |
| a limit for a group was meant for each, or the other way round | ` + "`shared-or-each`, `each-one-server`" + ` |
| a policer is sized for today's number of phones | ` + "`bound-below-calls`" + `, as far as a rehearsal says how many there will be; ` + "`imbrel budget`" + ` |
| a schedule never fires | ` + "`time-without-zone`, `time-unrehearsed`, `times-overlap`, `pressure-flaps`" + `; whether a device's clock is right, a file cannot tell |
| the queue is too deep, or too shallow | ` + "`queue-too-deep`, `queue-too-shallow`" + ` |
| a full packet ahead of voice on a slow link | ` + "`slow-link`" + ` |
| several edits look right one by one | ` + "`imbrel changes`" + ` shows the effect of the whole |
| hardware forwards established flows on a fast path that no policy sees | a file cannot tell: it says what a device should do, not by which of its paths. Measure a marked flow before and after |
| existing flows keep their old class until they are renewed | a file cannot tell: it knows no flows. In a rehearsal of a capture a flow has its class from what was recognised of it by then |
| editing a policy in use silently detaches it | a file cannot tell what a device does with an edit. ` + "`imbrel changes`" + ` says what is attached no longer in the file itself |
`
