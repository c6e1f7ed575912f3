package cli

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/core/threshold"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/internal/render"
	"imbrel.example/imbrel/internal/report"
)

// A search is a number of the file, the values between which it changes, and the expectation to judge.
type search struct{ path, values, until string }

func (a *app) find(text render.Text) *cobra.Command {
	var r rehearsalRun
	c := &cobra.Command{
		Use:   "find FILE REHEARSAL PATH FIRST..LAST EXPECTATION",
		Short: "Find where an expectation just holds as one number changes",
		Long: `Find runs a rehearsal with one number of the file at several values from FIRST to LAST.
It reports the value at which the expectation just holds. PATH names the number by its
keys from the top; an item of a list has its name or class, for example
policies.up.treat.voice.police.rate. EXPECTATION is written as in the file, but need not
be in the file. Find exits with 1 when the expectation holds at no value.`,
		Example: `  imbrel find ternrock.yaml fog policies.ternrock-radio.shape 8Mbit/s..14Mbit/s "voice delay p99 <= 20ms"
  imbrel find ternrock.yaml fog rehearsals.fog.traffic.pilot-calls.calls 1..40 "voice mos >= 4" --both`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 5 {
				return fmt.Errorf("imbrel find wants five things: a policy file, a rehearsal, the path of a number, its first and last value as FIRST..LAST, and an expectation in quotes; %s\nsee: imbrel find --help", given(args))
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			plans, err := r.read(a, args[:2])
			if err != nil {
				return err
			}
			if err := r.pages.free(); err != nil {
				return err
			}
			return a.findOne(text, &r, plans[0], search{args[2], args[3], args[4]})
		},
	}
	c.Flags().BoolVar(&r.without, "without-policy", false, "send the same traffic through plain FIFO queues")
	c.Flags().BoolVar(&r.both, "both", false, "search without and with the policies, and show both")
	numberVar(c.Flags(), &r.seed, "seed", 1, 0, math.MaxUint64, "`NUMBER` from which everything random follows")
	c.Flags().BoolVar(&r.closed, "closed-loop", false, closedLoopUsage)
	r.pages.flags(c)
	c.MarkFlagsMutuallyExclusive("without-policy", "both")
	return c
}

// given says how many arguments there are.
func given(args []string) string {
	if len(args) == 1 {
		return "1 was given"
	}
	return fmt.Sprintf("%d were given", len(args))
}

// findOne looks for where an expectation just holds, and writes it. It returns errFound when
// it holds nowhere.
func (a *app) findOne(text render.Text, r *rehearsalRun, plan *policy.Rehearsal, s search) error {
	first, last, ok := strings.Cut(s.values, "..")
	if !ok {
		return fmt.Errorf("%q is not a range: write FIRST..LAST, such as 8Mbit/s..14Mbit/s", s.values)
	}
	from, err := unit.ParseNumber(first)
	if err != nil {
		return fmt.Errorf("%s: the first value: %w", s.values, err)
	}
	to, err := unit.ParseNumber(last)
	if err != nil {
		return fmt.Errorf("%s: the last value: %w", s.values, err)
	}
	if from.Kind != to.Kind || from.Value == to.Value {
		return fmt.Errorf("%s: these are not two values of one kind", s.values)
	}
	if _, err := policy.ParseExpectation(s.until); err != nil {
		return fmt.Errorf("the expectation %q: %w\nexpected %s", s.until, err, policy.ExpectationForm)
	}
	written, at := r.in.Number(s.path)
	if n, err := unit.ParseNumber(written); written == "" || err != nil || n.Kind != from.Kind && !(n.Kind == unit.APercent || from.Kind == unit.APercent) {
		switch {
		case written == "":
			return fmt.Errorf("%s: no number is written there; a path names keys from the top, an item of a list by its name or class, such as policies.up.treat.voice.police.rate", s.path)
		case err != nil:
			return fmt.Errorf("%s: `%s` at %s is not a number", s.path, written, at)
		}
		return fmt.Errorf("%s: `%s` at %s is %s, and %s is %s", s.path, written, at, n.Kind, first, from.Kind)
	}
	in := r.in
	index := slices.IndexFunc(plan.Expect, func(e policy.Expectation) bool { return e.Text == s.until })
	if index < 0 {
		index = len(plan.Expect)
		if _, in, err = in.Expecting(plan.Name, s.until); err != nil {
			var ps policy.Problems
			if errors.As(err, &ps) && len(ps) > 0 {
				return fmt.Errorf("the expectation %q: %s\n%s", s.until, ps[0].Text, ps[0].Help)
			}
			return err
		}
	}
	defer r.interruptible()()
	var results []*threshold.Result
	modes := []bool{r.without}
	if r.both {
		modes = []bool{true, false}
	}
	show, clear := a.progress("looking for where it holds")
	defer clear()
	for _, without := range modes {
		tried := 0
		res, err := threshold.Between(from, to, func(value string) (*measure.Result, *measure.Outcome, error) {
			f, err := in.With(s.path, value)
			if err != nil {
				var ps policy.Problems
				if errors.As(err, &ps) && len(ps) > 0 {
					return nil, nil, fmt.Errorf("with %s the file is not valid: %s: %s\nlook between other values", value, ps[0].Place, ps[0].Text)
				}
				return nil, nil, err
			}
			changed, err := choose(f, "the file", plan.Name)
			if err != nil {
				return nil, nil, err
			}
			if tried++; show != nil {
				show(1 - 1/(1+float64(tried)/8))
			}
			got, err := a.run(r, f, changed[0], simulate.Options{Seed: r.seed, WithoutPolicy: without})
			if err != nil {
				return nil, nil, err
			}
			if r.stop() {
				return nil, nil, errInterrupted
			}
			return got, &got.Expectations[index], nil
		})
		if err != nil && (!errors.Is(err, errInterrupted) || len(res.Points) == 0) {
			return err
		}
		res.Policy = !without
		if results = append(results, res); err != nil {
			break
		}
	}
	clear()
	v := render.Found{Rehearsal: plan.Name, Path: s.path, File: at.File, Line: at.Line, Written: written, Judged: s.until, First: from.String(), Last: to.String(), Runs: results, Incomplete: r.stop()}
	defer r.pages.say(a)
	if err := r.pages.write(func() *report.Page {
		ran := a.ran(r.in, nil)
		ran.Seed = r.seed
		return report.Found(&v, ran)
	}); err != nil {
		return err
	}
	if a.output == "json" {
		err = render.JSON(a.out, struct {
			Imbrel int `json:"imbrel"`
			render.Found
		}{1, v})
	} else {
		text.Found(&v)
	}
	if err == nil && r.stop() {
		return errInterrupted
	}
	if last := results[len(results)-1]; err == nil && last.Holds == "" && !last.Everywhere() {
		err = errFound
	}
	return err
}
