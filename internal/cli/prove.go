package cli

import (
	"fmt"
	"math"
	"time"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/proof"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/live"
	"imbrel.example/imbrel/internal/render"
)

func (a *app) prove(text render.Text) *cobra.Command {
	var r rehearsalRun
	var lasts string
	var all bool
	c := &cobra.Command{
		Use:   "prove FILE [NAME]",
		Short: "Run a rehearsal with real packets and compare the figures",
		Long: `Prove plays a rehearsal twice: in simulated time, and on this machine with real packets.
For the second it makes a network namespace for the hosts at each interface with subnets,
and joins them by the network of the file, its policies, links and delays included, under
the real clock. Calls, streams and video are datagrams through sockets, at the times of
the rehearsal; TCP is the kernel's own; captures are replayed as frames. So it lasts as
long as the rehearsal does.

It shows what was rehearsed beside what was measured and says where the two differ by
more than the tolerances that it names. It exits with 1 when an expectation fails as it
was measured, or a figure differs. It runs on Linux, needs root, and leaves nothing behind.`,
		Example: `  imbrel prove ternrock.yaml fog
  imbrel prove ternrock.yaml fog --for 10s --all`,
		Args: between(1, 2, "a policy file, and perhaps the name of a rehearsal"),
		RunE: func(_ *cobra.Command, args []string) error {
			plans, err := r.read(a, args)
			if err != nil {
				return err
			}
			if len(plans) > 1 {
				return fmt.Errorf("prove is about one rehearsal, in real time: name one of %s", args[0])
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
	rehearsed, err := a.run(r, r.file, plan, simulate.Options{Seed: r.seed, WithoutPolicy: r.without})
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
		Options: simulate.Options{Seed: r.seed, WithoutPolicy: r.without, ClosedLoop: r.closed, Capture: captures.Open, Progress: show}})
	clear()
	if err != nil {
		return r.in.WithLines(err)
	}
	if r.stop() {
		return errInterrupted
	}
	p := proof.Compare(rehearsed, staged.Result)
	report := &render.Proof{Imbrel: 1, Proof: p, Staged: staged, Rehearsed: rehearsed}
	report.Judge()
	if a.output == "json" {
		err = render.JSON(a.out, report)
	} else {
		text.Proof(report, all)
	}
	switch {
	case err != nil:
		return err
	case report.Verdict == render.Fail:
		return errFound
	case report.Verdict == render.NotJudged:
		return errNotJudged
	}
	return nil
}
