package render

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
)

// Markdown writes results for a comment in a review: the verdict, the expectations with their reasons, and who pays. Of two modes each
// result with the policies follows that without.
func Markdown(w io.Writer, results []*measure.Result, modes int) error {
	var b strings.Builder
	for i := modes - 1; i < len(results); i += modes {
		r := results[i]
		var without []*measure.Result
		if modes == 2 {
			without = results[i-1 : i]
		}
		word, said := Verdict(r, without...)
		fmt.Fprintf(&b, "### %s %s: rehearsal %s\n\n%s\n\n", map[string]string{"pass": "✅", "fail": "❌"}[r.Verdict], word, code(r.Rehearsal), marked(strings.TrimLeft(said, ":, ")))
		if text := Uncovered(r.NotJudged); text != "" {
			fmt.Fprintf(&b, "%s\n\n", marked(text))
		}
		if len(r.Expectations) > 0 {
			head, line := "| expectation |", "|---|"
			for range modes - 1 {
				head, line = head+" without the policies |", line+"--:|"
			}
			fmt.Fprintf(&b, "%s measured | |\n%s--:|---|\n", head, line)
			v := &View{Detail: true}
			order, _ := v.order(r)
			for _, n := range order {
				o := &r.Expectations[n]
				row := "| " + code(o.Text) + " |"
				for _, before := range without {
					row += " " + Phased(&before.Expectations[n]) + " |"
				}
				holds := "holds"
				if !o.Holds {
					holds = "**fails**"
				}
				fmt.Fprintf(&b, "%s %s | %s |\n", row, Phased(o), holds)
			}
			b.WriteByte('\n')
		}
		for n := range r.Expectations {
			o := &r.Expectations[n]
			if o.Holds || o.Why == nil {
				continue
			}
			why := marked(o.Why.Text.String())
			if first := slices.IndexFunc(r.Expectations[:n], func(p measure.Outcome) bool { return p.Why != nil && p.Why.SameCause(o.Why) }); first >= 0 {
				why = "the same cause as for " + code(r.Expectations[first].Title())
			}
			fmt.Fprintf(&b, "- %s: %s\n", code(o.Title()), why)
			if change := ChangeText(o.Why); change != "" {
				fmt.Fprintf(&b, "  - %s\n", marked(change))
			}
		}
		if failures(r) > 0 {
			b.WriteByte('\n')
		}
		if modes == 2 {
			fmt.Fprintf(&b, "%s\n\n", marked(WhoPays(r.WhoPays).String()))
		}
		if n := r.WarningCount(); n > 0 {
			fmt.Fprintf(&b, "<details><summary>%s</summary>\n\n", humanize.Plural(n, "warning"))
			for _, warning := range r.Warnings {
				if warning.Level == "warning" {
					fmt.Fprintf(&b, "- %s:%d: %s\n", marked(warning.File), warning.Line, marked(warning.Text.String()))
				}
			}
			b.WriteString("\n</details>\n\n")
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// marked is text in which nothing is markup but what stands between backticks.
func marked(text string) string {
	parts := strings.Split(Visible(text), "`")
	for i := 0; i < len(parts); i += 2 {
		parts[i] = strings.NewReplacer(`\`, `\\`, "*", `\*`, "_", `\_`, "<", "&lt;", "[", `\[`, "|", `\|`, "#", `\#`).Replace(parts[i])
	}
	return strings.Join(parts, "`")
}

// code is a text as it stands.
func code(text string) string {
	return "`" + strings.NewReplacer("`", "'", "|", `\|`).Replace(Visible(text)) + "`"
}
