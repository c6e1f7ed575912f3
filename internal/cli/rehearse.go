package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"imbrel/core/measure"
	"imbrel/core/policy"
	"imbrel/core/simulate"
	"imbrel/internal/files"
	"imbrel/internal/render"
)

// A rehearsalRun is how to run rehearsals and what to do with the results.
type rehearsalRun struct {
	file       *policy.File
	in         files.Place
	seed       uint64
	without    bool
	both       bool
	captureOut string
}

func (a *app) rehearse(text render.Text) *cobra.Command {
	var r rehearsalRun
	c := &cobra.Command{
		Use:   "rehearse FILE [NAME]",
		Short: "Send a rehearsal's traffic through the network and judge what was expected",
		Long: `Rehearse sends the traffic of a rehearsal through the network packet by packet,
in simulated time, and says what every class and every call met. It exits with 1
when an expectation fails. FILE is a policy file, or - for standard input; without
NAME every rehearsal of the file runs.`,
		Example: `  imbrel rehearse ternrock.yaml fog --both
  imbrel rehearse ternrock.yaml fog -o json
  imbrel rehearse ternrock.yaml fog --capture-out marked/`,
		Args: between(1, 2, "a policy file, and perhaps the name of a rehearsal"),
		RunE: func(_ *cobra.Command, args []string) error {
			f, in, err := files.ReadPolicy(args[0], a.in)
			if err != nil {
				return err
			}
			r.file, r.in = f, in
			name := ""
			if len(args) > 1 {
				name = args[1]
			}
			plans, err := choose(f, args[0], name)
			if err != nil {
				return err
			}
			return a.runAll(text, &r, plans)
		},
	}
	c.Flags().BoolVar(&r.without, "without-policy", false, "send the same traffic through plain FIFO queues")
	c.Flags().BoolVar(&r.both, "both", false, "run without and with the policies, and show the two side by side")
	c.Flags().Uint64Var(&r.seed, "seed", 1, "`NUMBER` from which everything random follows")
	c.Flags().StringVar(&r.captureOut, "capture-out", "", "write what enters and leaves each interface as pcapng into the folder `DIR`")
	c.MarkFlagsMutuallyExclusive("without-policy", "both")
	return c
}

// between checks the number of arguments and says what they are.
func between(least, most int, what string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) < least || len(args) > most {
			return fmt.Errorf("%s wants %s; %d arguments were given\nsee: %s --help", c.CommandPath(), what, len(args), c.CommandPath())
		}
		return nil
	}
}

// choose returns the rehearsal of a name, or all.
func choose(f *policy.File, file, name string) ([]*policy.Rehearsal, error) {
	var all []*policy.Rehearsal
	var names []string
	for i := range f.Rehearsals {
		h := &f.Rehearsals[i]
		if h.Name == name {
			return []*policy.Rehearsal{h}, nil
		}
		all = append(all, h)
		names = append(names, h.Name)
	}
	switch {
	case len(all) == 0:
		return nil, fmt.Errorf("%s: there are no rehearsals in it; add some under `rehearsals`", file)
	case name != "":
		return nil, fmt.Errorf("%s: there is no rehearsal `%s`; there are: %s", file, name, strings.Join(names, ", "))
	}
	return all, nil
}

// runAll runs rehearsals one after the other, writes the results and returns
// errFound when an expectation failed.
func (a *app) runAll(text render.Text, r *rehearsalRun, plans []*policy.Rehearsal) error {
	if r.captureOut != "" && (r.both || len(plans) > 1) {
		return fmt.Errorf("--capture-out goes with one run: name one rehearsal, and leave --both out")
	}
	failed := false
	var results []*measure.Result
	for i, plan := range plans {
		modes := []bool{r.without}
		if r.both {
			modes = []bool{true, false}
		}
		var runs []*measure.Result
		for _, without := range modes {
			res, err := a.runOne(r, plan, without)
			if err != nil {
				return err
			}
			runs = append(runs, res)
		}
		failed = failed || runs[len(runs)-1].Verdict == "fail"
		results = append(results, runs...)
		if a.output == "json" {
			continue
		}
		if i > 0 {
			text.Line("")
		}
		if r.both {
			text.Both(runs[0], runs[1])
		} else {
			text.Rehearsal(runs[0])
		}
	}
	if a.output == "json" {
		var err error
		if len(results) == 1 {
			err = render.JSON(a.out, results[0])
		} else {
			err = render.JSON(a.out, struct {
				Imbrel int               `json:"imbrel"`
				Runs   []*measure.Result `json:"runs"`
			}{1, results})
		}
		if err != nil {
			return err
		}
	}
	if failed {
		return errFound
	}
	return nil
}

func (a *app) runOne(r *rehearsalRun, plan *policy.Rehearsal, without bool) (res *measure.Result, err error) {
	captures := files.Captures{In: r.in}
	defer captures.Close()
	o := simulate.Options{Seed: r.seed, WithoutPolicy: without, Capture: captures.Open}
	if r.captureOut != "" {
		dir, err := files.NewCaptureDir(r.captureOut)
		if err != nil {
			return nil, err
		}
		o.Tap = dir.Write
		defer func() {
			if e := dir.Close(); err == nil && e != nil {
				res, err = nil, e
			}
		}()
	}
	show, clear := a.progress("rehearsing " + plan.Name)
	o.Progress = show
	defer clear()
	if res, err = simulate.Run(r.file, plan, o); err != nil {
		return nil, r.in.WithLines(err)
	}
	return res, nil
}
