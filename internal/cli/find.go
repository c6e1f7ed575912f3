package cli

import (
	"errors"
	"fmt"
	"slices"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/core/threshold"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/internal/render"
)

// A search is what --find asks for.
type search struct{ path, from, to, until string }

// find looks for where an expectation just holds, and writes it. It returns errFound when
// it holds nowhere.
func (a *app) find(text render.Text, r *rehearsalRun, plan *policy.Rehearsal) error {
	s := &r.search
	if s.from == "" || s.to == "" || s.until == "" {
		return fmt.Errorf("--find wants --from and --to, the values to look between, and --until, what shall hold")
	}
	from, err := unit.ParseNumber(s.from)
	if err != nil {
		return fmt.Errorf("--from: %w", err)
	}
	to, err := unit.ParseNumber(s.to)
	if err != nil {
		return fmt.Errorf("--to: %w", err)
	}
	if from.Kind != to.Kind || from.Value == to.Value {
		return fmt.Errorf("--from %s --to %s: these are not two values of one kind", s.from, s.to)
	}
	if _, err := policy.ParseExpectation(s.until); err != nil {
		return fmt.Errorf("--until %q: %w\nexpected %s", s.until, err, policy.ExpectationForm)
	}
	written, at := r.in.Number(s.path)
	if n, err := unit.ParseNumber(written); written == "" || err != nil || n.Kind != from.Kind && !(n.Kind == unit.APercent || from.Kind == unit.APercent) {
		switch {
		case written == "":
			return fmt.Errorf("--find %s: no number is written there; a path names keys from the top, an item of a list by its name or class, such as policies.up.treat.voice.police.rate", s.path)
		case err != nil:
			return fmt.Errorf("--find %s: `%s` at %s is no number", s.path, written, at)
		}
		return fmt.Errorf("--find %s: `%s` at %s is %s, and --from %s is %s", s.path, written, at, n.Kind, s.from, from.Kind)
	}
	in := r.in
	index := slices.IndexFunc(plan.Expect, func(e policy.Expectation) bool { return e.Text == s.until })
	if index < 0 {
		index = len(plan.Expect)
		if _, in, err = in.Expecting(plan.Name, s.until); err != nil {
			var ps policy.Problems
			if errors.As(err, &ps) && len(ps) > 0 {
				return fmt.Errorf("--until %q: %s\n%s", s.until, ps[0].Text, ps[0].Help)
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
					return nil, nil, fmt.Errorf("with %s the file cannot be so: %s: %s\nlook between other values", value, ps[0].Place, ps[0].Text)
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
	v := render.Found{Rehearsal: plan.Name, Path: s.path, File: at.File, Line: at.Line, Written: written, Until: s.until, From: from.String(), To: to.String(), Runs: results, Incomplete: r.stop()}
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
