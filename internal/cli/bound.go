package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/bound"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/render"
)

func (a *app) bound(text render.Text) *cobra.Command {
	var hops bool
	var shown []string
	c := &cobra.Command{
		Use:   "bound FILE [NAME]",
		Short: "Prove the longest delay that the traffic of a rehearsal can have",
		Long: `Bound calculates, without sending a packet, the longest delay that a packet of each
traffic can have, whatever the moments at which the senders begin. It also says
whether a packet can be lost. A rehearsal shows one run; the bound holds for every
run. Where there is no bound, the reason says what to change. Without NAME it
calculates the bounds of all rehearsals. docs/bounds.md explains the method.`,
		Example: `  imbrel bound ternrock.yaml fog
  imbrel bound ternrock.yaml fog --hops --class voice
  imbrel bound ternrock.yaml fog -o json`,
		Args: between(1, 2, "a policy file, and perhaps the name of a rehearsal"),
		RunE: func(_ *cobra.Command, args []string) error {
			f, in, err := files.ReadPolicy(args[0], a.in, a.includeFrom...)
			if err != nil {
				return err
			}
			name := ""
			if len(args) > 1 {
				name = args[1]
			}
			plans, err := choose(f, args[0], name)
			if err != nil {
				return err
			}
			trim(shown)
			names := classes(f)
			for _, c := range shown {
				if !slices.Contains(names, c) {
					return fmt.Errorf("--class %s: there is no such class; %sthere are: %s", c, policy.DidYouMean(c, names), strings.Join(names[:min(len(names), 40)], ", "))
				}
			}
			captures := files.Captures{In: in}
			defer captures.Close()
			results := []*bound.Result{}
			for _, h := range plans {
				r := bound.Compute(f, h, captures.Open)
				if len(shown) > 0 {
					r.Only(shown)
				}
				results = append(results, r)
			}
			if a.output == "json" {
				return render.JSON(a.out, struct {
					Rehearsals []*bound.Result `json:"rehearsals"`
				}{results})
			}
			for i, r := range results {
				if i > 0 {
					text.Line("")
				}
				text.Bounds(f.Title, r, hops)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&hops, "hops", false, "show the delay at each place: for what, how much can wait, and what to change for less")
	c.Flags().StringSliceVar(&shown, "class", nil, "show only these `CLASSES`")
	return c
}
