package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/check"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/render"
)

func (a *app) check(text render.Text) *cobra.Command {
	about, failOn := "", "error"
	fix, diff := false, false
	c := &cobra.Command{
		Use:   "check FILE…",
		Short: "Find mistakes in a policy file, and fix the certain ones",
		Long: `Check reads policy files and reports the lines that will not work, or will not do what
most people expect. Each finding names the place, the reason, what follows from it in
numbers, and what to do. To accept a finding, write a comment with a reason on its line:
  # imbrel: accept slow-link because the new line comes in May
If only one edit can be right, --fix writes it into the file and --diff shows it. For
tools that show findings beside the code, use -o sarif (SARIF 2.1.0).`,
		Example: `  imbrel check ternrock.yaml
  imbrel check ternrock.yaml --diff
  imbrel check --about open-trust`,
		RunE: func(c *cobra.Command, args []string) error {
			if failOn != "error" && failOn != "warning" {
				return fmt.Errorf("--fail-on %s: the levels are error and warning", failOn)
			}
			if about != "" {
				if len(args) > 0 {
					return fmt.Errorf("--about explains a finding, and has no file beside it")
				}
				return a.aboutFinding(text, about)
			}
			if len(args) == 0 {
				return fmt.Errorf("%s wants a policy file\nsee: %s --help", c.CommandPath(), c.CommandPath())
			}
			if (fix || diff) && a.output == "sarif" {
				return fmt.Errorf("-o sarif reports findings only: leave --fix and --diff out")
			}
			all, mended := []check.Finding{}, []check.Finding{}
			var unusable error // of a file that cannot be read: its mistakes are among the findings
			var changed []policyfile.Changed
			for _, name := range args {
				f, in, err := files.ReadPolicy(name, a.in, a.includeFrom...)
				var mistakes policy.Problems
				if errors.As(err, &mistakes) && a.output != "text" && !fix && !diff {
					all, unusable = append(all, check.Mistakes(mistakes)...), err
					continue
				}
				if err != nil {
					return err
				}
				if !fix && !diff {
					all = append(all, withEnds(check.File(f, in.Accepted), in)...)
					continue
				}
				if name == "-" && fix {
					return fmt.Errorf("--fix needs a file to write to, and standard input is none; --diff shows the change")
				}
				_, after, left, gone := mend(f, in)
				all, mended, changed = append(all, left...), append(mended, gone...), append(changed, after.Changed(in.Source)...)
			}
			if fix {
				for i := range changed {
					if err := files.Write(changed[i]); err != nil {
						return err
					}
				}
			}
			bad, warnings := check.Count(all)
			var err error
			switch {
			case a.output == junit.name:
				err = render.JUnitFindings(a.out, args, all)
			case a.output == sarif.name:
				err = render.JSON(a.out, render.SARIF(all, version()))
			case a.output == "json":
				err = render.JSON(a.out, struct {
					Findings []check.Finding `json:"findings"`
					Errors   int             `json:"errors"`
					Warnings int             `json:"warnings"`
					Mended   []check.Finding `json:"mended,omitempty"`
				}{all, bad, warnings, mended})
			case diff:
				for i := range changed {
					text.Diff(changed[i].Name, changed[i].Old, changed[i].New)
				}
				if len(changed) == 0 {
					text.Line("No finding has a fix that is certain.")
				}
				return nil
			default:
				text.Mended(mended)
				text.Findings(all)
			}
			if err != nil {
				return err
			}
			if unusable != nil {
				return unusable
			}
			if bad > 0 || failOn == "warning" && warnings > 0 {
				return errFound
			}
			return nil
		},
	}
	c.Flags().StringVar(&about, "about", "", "explain the finding `NAME` at length")
	c.Flags().BoolVar(&fix, "fix", false, "write each fix that is certain into the file, and show the findings that are left")
	c.Flags().BoolVar(&diff, "diff", false, "show what --fix would write, as a unified diff, and write nothing")
	c.MarkFlagsMutuallyExclusive("fix", "diff")
	c.Flags().StringVar(&failOn, "fail-on", failOn, "exit with 1 from this `LEVEL` on: error or warning")
	return c
}

// withEnds notes where the values end that findings are about, and that their edits replace.
func withEnds(all []check.Finding, in files.Place) []check.Finding {
	for i := range all {
		f := &all[i]
		f.End = in.End(f.At)
		if e := f.Edit; e != nil {
			e.End = in.End(policy.Place{File: e.File, Line: e.Line, Column: e.Column})
		}
	}
	return all
}

// aboutFinding explains a finding at length.
func (a *app) aboutFinding(text render.Text, name string) error {
	var names []string
	for _, r := range append(check.Rules(), check.UnreadableRule()) {
		if r.Name == name {
			if a.output == "json" {
				return render.JSON(a.out, map[string]string{"name": r.Name, "level": string(r.Level), "about": r.About})
			}
			text.Title("%s, %s", r.Name, string(r.Level))
			text.Lines(r.About)
			return nil
		}
		names = append(names, r.Name)
	}
	return fmt.Errorf("--about %s: %sthe findings are: %s", name, policy.DidYouMean(name, names), policy.OrList(names))
}
