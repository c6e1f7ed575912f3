package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/worst"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/render"
)

// worstRuns is how many rehearsals a search for the worst traffic runs at most.
const worstRuns = 100

// worst looks for the traffic with which a class waits longest, and writes it as one more rehearsal where that is asked for.
func (a *app) worst(text render.Text, r *rehearsalRun, file string, plans []*policy.Rehearsal) error {
	if len(plans) != 1 {
		return fmt.Errorf("--worst looks at one rehearsal: name it, as in imbrel rehearse %s %s --worst %s", file, plans[0].Name, r.worst)
	}
	plan := plans[0]
	if err := a.checkOne(r, plan); err != nil {
		return err
	}
	if r.worstTo != "" {
		replays := slices.ContainsFunc(plan.Traffic, func(t policy.Traffic) bool { return t.Capture != "" })
		if replays && filepath.Dir(r.worstTo) != filepath.Dir(file) {
			return fmt.Errorf("--worst-to %s: the rehearsal replays a capture, so write it into the folder of %s", r.worstTo, file)
		}
		if _, err := os.Lstat(r.worstTo); err == nil {
			return fmt.Errorf("--worst-to %s: there is such a file; remove it, or name another", r.worstTo)
		}
	}
	captures := files.Captures{In: r.in}
	defer captures.Close()
	defer r.interruptible()()
	rehearse := func(plans []*policy.Rehearsal) ([]*measure.Result, error) {
		var todo []job
		for _, p := range plans {
			todo = append(todo, job{p, false, r.seed})
		}
		return a.runJobs(r, todo)
	}
	found, err := worst.Search(r.file, plan, worst.Options{Class: r.worst, Runs: worstRuns, Seed: r.seed, Capture: captures.Open, Rehearse: rehearse, Stop: r.stop})
	if err != nil {
		return r.in.WithLines(err)
	}
	name := plan.Name + "-worst"
	if r.worstTo != "" && len(found.Senders) > 0 {
		senders := make(map[string]policyfile.Sender)
		for i := range found.Senders {
			c := &found.Senders[i]
			how := policyfile.Sender{Phase: *c.As.Phase}
			if c.Stream != nil {
				how.Stream = &c.As
			}
			senders[c.Traffic] = how
		}
		b, err := r.in.WithSenders(plan.Name, name, senders, func(n int) bool {
			return !slices.ContainsFunc(plan.Expect[n].Subjects(), func(subject string) bool { return subject != r.worst && subject != found.Path.Traffic })
		})
		if err != nil {
			return err
		}
		if err := os.WriteFile(r.worstTo, b, 0o666); err != nil {
			return err
		}
	}
	if a.output == "json" {
		err = render.JSON(a.out, found)
	} else {
		text.Worst(found)
		if r.worstTo != "" && len(found.Senders) > 0 {
			text.Line("  %s has this run as the rehearsal `%s`: imbrel rehearse %s %s --seed %d", r.worstTo, name, r.worstTo, name, r.seed)
		}
	}
	if r.stop() && err == nil {
		return errInterrupted
	}
	return err
}
