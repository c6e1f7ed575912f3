package render

import (
	"fmt"

	"imbrel/core/check"
	"imbrel/core/figure"
)

// Findings writes what a check found.
func (t Text) Findings(all []check.Finding) {
	for i := range all {
		f := &all[i]
		level := t.paint(string(f.Level))
		if f.Level == check.Error {
			level = t.bad(string(f.Level))
		}
		t.Line("%s:%d:%d: %s %s", f.File, f.Line, f.Column, level, f.Name)
		t.paragraph("  ", f.Text+": "+f.Consequence+".")
		t.paragraph("  → ", f.Fix)
		t.Line("")
	}
	errors, warnings := check.Count(all)
	switch notes := len(all) - errors - warnings; {
	case len(all) == 0:
		t.Line("Nothing found.")
	default:
		t.Line("%s, %s, %s. `imbrel check --about NAME` explains one at length.", figure.Plural(errors, "error"), figure.Plural(warnings, "warning"), figure.Plural(notes, "note"))
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
	return out
}
