package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"imbrel/core/check"
	"imbrel/core/policy"
	"imbrel/internal/files"
	"imbrel/internal/render"
)

func (a *app) check(text render.Text) *cobra.Command {
	about, failOn := "", "error"
	c := &cobra.Command{
		Use:   "check FILE…",
		Short: "What of a policy will not do what its author means",
		Long: `Check reads policy files and says what of them will not work, or not as most people
would mean it: each finding with its place, the reason, what follows from it in numbers,
and the way out. A comment on its line accepts one, with a reason:
  # imbrel: accept slow-link because the new line comes in May`,
		Example: `  imbrel check ternrock.yaml
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
			all := []check.Finding{}
			for _, name := range args {
				f, in, err := files.ReadPolicy(name, a.in, a.includeFrom...)
				if err != nil {
					return err
				}
				all = append(all, check.File(f, in.Accepted)...)
			}
			errors, warnings := check.Count(all)
			if a.output == "json" {
				if err := render.JSON(a.out, struct {
					Findings []check.Finding `json:"findings"`
					Errors   int             `json:"errors"`
					Warnings int             `json:"warnings"`
				}{all, errors, warnings}); err != nil {
					return err
				}
			} else {
				text.Findings(all)
			}
			if errors > 0 || failOn == "warning" && warnings > 0 {
				return errFound
			}
			return nil
		},
	}
	c.Flags().StringVar(&about, "about", "", "explain the finding `NAME` at length")
	c.Flags().StringVar(&failOn, "fail-on", failOn, "exit with 1 from this `LEVEL` on: error or warning")
	return c
}

// aboutFinding explains a finding at length.
func (a *app) aboutFinding(text render.Text, name string) error {
	var names []string
	for _, r := range check.Rules() {
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
