package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/compare"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/repeat"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/render"
	"imbrel.example/imbrel/internal/report"
)

func (a *app) compare(text render.Text) *cobra.Command {
	all, merge := false, false
	var page pages
	c := &cobra.Command{
		Use:   "compare OLD [NEW]",
		Short: "Compare two saved results",
		Long: `Compare reads two results of ` + "`imbrel rehearse -o json`" + ` and reports the expectations that
pass in one and fail in the other, and the figures that differ, the worst first. With one
result of --both it compares the run without the policies to the run with them. Results
of --repeat are compared by their means: a difference within the noise is no difference.
With --merge it joins the results of several shards into one.`,
		Example: `  imbrel rehearse ternrock.yaml fog -o json >before.json
  imbrel rehearse ternrock.yaml fog -o json >after.json
  imbrel compare before.json after.json`,
		RunE: func(c *cobra.Command, args []string) error {
			if merge {
				if len(args) == 0 {
					return fmt.Errorf("%s --merge wants the saved results of the shards", c.CommandPath())
				}
				return a.merge(args)
			}
			if err := page.free(); err != nil {
				return err
			}
			if err := between(1, 2, "one or two saved results")(c, args); err != nil {
				return err
			}
			pairs, err := a.pairs(args)
			if err != nil {
				return err
			}
			var results []*compare.Result
			worse := false
			for _, p := range pairs {
				r := compare.Repeats(p[0], p[1])
				worse = worse || r.Worse()
				results = append(results, r)
			}
			defer page.say(a)
			if err := page.write(func() *report.Page { return report.Compared(results, a.ran(files.Place{}, nil)) }); err != nil {
				return err
			}
			if a.output == "json" {
				err = render.JSON(a.out, struct {
					Imbrel   int               `json:"imbrel"`
					Compared []*compare.Result `json:"compared"`
				}{1, results})
			} else {
				for i, r := range results {
					if i > 0 {
						text.Line("")
					}
					text.Compared(r, all)
				}
			}
			if err == nil && worse {
				err = errFound
			}
			return err
		},
	}
	page.flags(c)
	c.Flags().BoolVar(&merge, "merge", false, "write the results of shards joined, as JSON")
	c.Flags().BoolVar(&all, "all", false, "show all figures that changed, not only the first")
	return c
}

// pairs returns the runs to compare: those of two files by their rehearsals, or the two of
// each rehearsal of one file. Runs that are repeats of each other are compared together.
func (a *app) pairs(args []string) (out [][2][]*measure.Result, err error) {
	if len(args) == 2 && args[0] == "-" && args[1] == "-" {
		return nil, fmt.Errorf("one of the two can be standard input")
	}
	var read [][][]*measure.Result
	for _, name := range args {
		results, err := files.ReadResults(name, a.in)
		if err != nil {
			return nil, err
		}
		read = append(read, repeat.Groups(results))
	}
	if len(read) == 1 {
		for _, old := range read[0] {
			for _, now := range read[0] {
				if !old[0].Policy && now[0].Policy && old[0].Rehearsal == now[0].Rehearsal {
					out = append(out, [2][]*measure.Result{old, now})
				}
			}
		}
		if len(out) == 0 {
			return nil, fmt.Errorf("%s has no two runs of a rehearsal: name a second result, or save one with --both", args[0])
		}
		return out, nil
	}
	if len(read[0]) == 1 && len(read[1]) == 1 {
		return [][2][]*measure.Result{{read[0][0], read[1][0]}}, nil
	}
	for _, now := range read[1] {
		for _, old := range read[0] {
			if old[0].Rehearsal == now[0].Rehearsal && old[0].Policy == now[0].Policy {
				out = append(out, [2][]*measure.Result{old, now})
				break
			}
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s and %s have no rehearsal in common", args[0], args[1])
	}
	return out, nil
}
