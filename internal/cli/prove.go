package cli

import (
	"fmt"
	"math"
	"time"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/proof"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/live"
	"imbrel.example/imbrel/internal/render"
	"imbrel.example/imbrel/internal/report"
)

func (a *app) prove(text render.Text) *cobra.Command {
	var r rehearsalRun
	var lasts string
	var all bool
	c := &cobra.Command{
		Use:   "prove FILE [NAME]",
		Short: "Run a rehearsal with real packets and compare the figures",
		Long: `Prove runs a rehearsal twice: in simulated time, and with real packets on this machine.
For the second run it makes a network namespace for each interface with subnets and
joins the namespaces by the network of the file, with its policies, links and delays, in
real time. Calls, streams and video are datagrams from sockets, sent at the times of the
rehearsal. TCP is that of the kernel. Captures are replayed as frames. The run takes as
long as the rehearsal lasts.

Prove shows the rehearsed figures beside the measured ones and reports those that differ
by more than the tolerance, which it prints. It exits with 1 when an expectation fails in
the measured run or a figure differs. It needs root, and leaves nothing behind.`,
		Example: `  imbrel prove ternrock.yaml fog
  imbrel prove ternrock.yaml fog --for 10s --all`,
		Args: between(1, 2, "a policy file, and perhaps the name of a rehearsal"),
		RunE: func(_ *cobra.Command, args []string) error {
			plans, err := r.read(a, args)
			if err != nil {
				return err
			}
			if len(plans) > 1 {
				return fmt.Errorf("prove runs one rehearsal, in real time: name one of %s", args[0])
			}
			if err := r.pages.free(); err != nil {
				return err
			}
			plan := plans[0]
			if lasts != "" {
				d, err := timeOf("for", lasts, time.Second, "")
				if err != nil {
					return err
				}
				if plan, err = cut(plan, d); err != nil {
					return err
				}
			}
			return a.runProof(text, &r, plan, all)
		},
	}
	c.Flags().StringVar(&lasts, "for", "", "play only the first `TIME` of the rehearsal, such as 10s")
	c.Flags().BoolVar(&r.without, "without-policy", false, "send the same traffic through plain FIFO queues")
	c.Flags().BoolVar(&r.closed, "closed-loop", false, "make each TCP conversation of a capture a flow of as many bytes")
	numberVar(c.Flags(), &r.seed, "seed", 1, 0, math.MaxUint64, "`NUMBER` from which everything random follows")
	r.pages.flags(c)
	c.Flags().BoolVar(&all, "all", false, "show every figure, also those that agree")
	return c
}

// cut returns the first part of a rehearsal.
func cut(plan *policy.Rehearsal, lasts time.Duration) (*policy.Rehearsal, error) {
	if lasts >= plan.Lasts {
		return plan, nil
	}
	if lasts <= plan.WarmUp {
		return nil, fmt.Errorf("--for %s: the warm-up of `%s` alone takes %s", lasts, plan.Name, plan.WarmUp)
	}
	for _, t := range plan.Traffic {
		if t.Starts >= lasts {
			return nil, fmt.Errorf("--for %s: `%s` of `%s` starts after %s: let it last longer", lasts, t.Name, plan.Name, t.Starts)
		}
	}
	out := *plan
	out.Lasts = lasts
	return &out, nil
}

// runProof plays a rehearsal in both ways and shows what came of it.
func (a *app) runProof(text render.Text, r *rehearsalRun, plan *policy.Rehearsal, all bool) error {
	defer r.interruptible()()
	every := time.Duration(0)
	if r.pages.wanted() {
		every = report.Step(plan.Lasts)
	}
	rehearsed, err := a.run(r, r.file, plan, simulate.Options{Seed: r.seed, WithoutPolicy: r.without, Bounds: !r.without, Every: every, Hops: every > 0})
	if err != nil {
		return err
	}
	if r.stop() {
		return errInterrupted
	}
	captures := files.Captures{In: r.in}
	defer captures.Close()
	show, clear := a.progress("staging " + plan.Name)
	staged, err := live.Stage(r.told, live.StageConfig{File: r.file, Rehearsal: plan,
		Options: simulate.Options{Seed: r.seed, WithoutPolicy: r.without, ClosedLoop: r.closed, Capture: captures.Open, Progress: show, Every: every, Hops: every > 0}})
	clear()
	if err != nil {
		return r.in.WithLines(err)
	}
	if r.stop() {
		return errInterrupted
	}
	p := proof.Compare(rehearsed, staged.Result)
	proved := &render.Proof{Imbrel: 1, Proof: p, Staged: staged, Rehearsed: rehearsed}
	proved.Judge()
	defer r.pages.say(a)
	if err := r.pages.write(func() *report.Page { return report.Proof(proved, a.ran(r.in, rehearsed)) }); err != nil {
		return err
	}
	for _, res := range []*measure.Result{rehearsed, staged.Result} { // what only the page needed
		res.Series, res.Hops = nil, nil
	}
	switch a.output {
	case junit.name:
		err = proved.JUnit(a.out)
	case forPrograms.name:
		err = render.JSON(a.out, proved)
	default:
		text.Proof(proved, all)
	}
	switch {
	case err != nil:
		return err
	case proved.Verdict == render.Fail:
		return errFound
	case proved.Verdict == render.NotJudged:
		return errNotJudged
	}
	return nil
}
