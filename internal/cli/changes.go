package cli

import (
	"cmp"
	"fmt"
	"sync"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/changes"
	"imbrel.example/imbrel/core/check"
	"imbrel.example/imbrel/core/compare"
	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/render"
)

// A revised is one of two policy files that are compared.
type revised struct {
	name string
	file *policy.File
	in   files.Place
}

func (r *revised) checked() changes.Checked {
	return changes.Checked{File: r.file, Findings: check.File(r.file, r.in.Accepted)}
}

// both does something for each of two at a time. The error is that of the first which has one.
func both(do func(i int) error) error {
	var errs [2]error
	var panics any
	var second sync.WaitGroup
	second.Go(func() {
		defer func() { panics = recover() }()
		errs[1] = do(1)
	})
	errs[0] = do(0)
	if second.Wait(); panics != nil {
		panic(panics)
	}
	return cmp.Or(errs[0], errs[1])
}

func (a *app) changes(text render.Text) *cobra.Command {
	capture := ""
	rehearse, quiet, git := false, false, false
	c := &cobra.Command{
		Use:   "changes OLD NEW",
		Short: "Show what an edit changes for the traffic",
		Long: `Changes reads an old and a new policy file and says what the edit means. For each
interface it lists each class whose promise, limit or mark changes, and the packets
that move to another class, with an example of each. It also lists the policies that
are attached or removed, and the findings of check that appear or disappear. A
different way to write the same policy is no change. With --git, the arguments are
those that git passes to an external diff driver.`,
		Example: `  imbrel changes ternrock.yaml edited.yaml
  imbrel changes ternrock.yaml edited.yaml --capture ternrock-office.pcap
  imbrel changes ternrock.yaml edited.yaml --rehearse
  imbrel changes ternrock.yaml edited.yaml --quiet || echo it differs`,
		RunE: func(c *cobra.Command, args []string) error {
			var sides [2]revised
			var err error
			switch {
			case git:
				if sides, err = a.sides(args); err != nil && len(args) >= 7 && a.output == "text" { // git gives up at an error, and shows no other file
					text.Line("%s: the two cannot be compared, because one cannot be read:", args[0])
					text.Lines(render.Error(err, nil, text.Width))
					return nil
				}
			case len(args) != 2:
				return fmt.Errorf("%s wants two policy files, the old one and the new one; %d arguments were given\nsee: %s --help", c.CommandPath(), len(args), c.CommandPath())
			case args[0] == "-" && args[1] == "-":
				return fmt.Errorf("one of the two can be standard input")
			default:
				err = both(func(i int) (err error) {
					sides[i].name = args[i]
					sides[i].file, sides[i].in, err = files.ReadPolicy(args[i], a.in, a.includeFrom...)
					return err
				})
			}
			if err != nil {
				return err
			}
			var checked [2]changes.Checked
			_ = both(func(i int) error { checked[i] = sides[i].checked(); return nil })
			r := changes.Between(checked[0], checked[1])
			if capture != "" {
				if r.Flows, err = a.flowsOf(capture, &sides); err != nil {
					return err
				}
			}
			if rehearse {
				if r.Runs, err = a.rehearseBoth(&sides); err != nil {
					return err
				}
			}
			switch {
			case quiet:
			case a.output == "json":
				err = render.JSON(a.out, struct {
					Imbrel int `json:"imbrel"`
					*changes.Result
				}{1, r})
			default:
				text.Changes(sides[0].name, sides[1].name, r)
			}
			if err == nil && quiet && !r.Same {
				err = errFound
			}
			return err
		},
	}
	c.Flags().StringVar(&capture, "capture", "", "count the flows of a pcap or pcapng `FILE` that change class")
	c.Flags().BoolVar(&rehearse, "rehearse", false, "run the rehearsals that both files have and compare the results")
	c.Flags().BoolVar(&quiet, "quiet", false, "print nothing; exit with 1 when something differs")
	c.Flags().BoolVar(&git, "git", false, "take the arguments of git's external diff driver: PATH OLD-FILE OLD-HEX OLD-MODE NEW-FILE NEW-HEX NEW-MODE")
	return c
}

// sides reads the two files that git names.
func (a *app) sides(args []string) (sides [2]revised, err error) {
	if len(args) == 1 {
		return sides, fmt.Errorf("%s is not merged: there is nothing to compare it with", args[0])
	}
	if len(args) != 7 && len(args) != 9 {
		return sides, fmt.Errorf("--git wants the seven arguments that git gives an external diff driver; %d were given\nwrite: git config diff.imbrel.command \"imbrel changes --git\"", len(args))
	}
	old, now := args[0], args[0]
	if len(args) == 9 { // renamed
		now = args[7]
	}
	sides[0].name, sides[1].name = old+" as it was", now
	if sides[0].file, sides[0].in, err = files.ReadPolicySide(old, files.Side{File: args[1], Object: args[2]}); err != nil {
		return sides, err
	}
	sides[1].file, sides[1].in, err = files.ReadPolicySide(now, files.Side{File: args[4], Object: args[5], New: true})
	return sides, err
}

// flowsOf explains a capture by both files, and compares.
func (a *app) flowsOf(name string, sides *[2]revised) (*changes.Flows, error) {
	var results [2]*explain.CaptureResult
	for i := range sides {
		var err error
		if results[i], err = a.watch(name, sides[i].file, nil); err != nil {
			return nil, err
		}
	}
	return changes.OfCapture(name, results[0], results[1]), nil
}

// rehearseBoth runs the rehearsals that both files have, and compares their results.
func (a *app) rehearseBoth(sides *[2]revised) ([]*compare.Result, error) {
	out := []*compare.Result{}
	for i := range sides[1].file.Rehearsals {
		name := sides[1].file.Rehearsals[i].Name
		var results [2]*measure.Result
		for j := range sides {
			s := &sides[j]
			for k := range s.file.Rehearsals {
				if s.file.Rehearsals[k].Name != name {
					continue
				}
				r := &rehearsalRun{file: s.file, in: s.in, seed: 1, stop: func() bool { return false }}
				show, clear := a.progress("rehearsing " + name)
				res, err := a.run(r, s.file, &s.file.Rehearsals[k], simulate.Options{Seed: r.seed, Progress: show})
				clear()
				if err != nil {
					return nil, err
				}
				results[j] = res
			}
		}
		if results[0] != nil && results[1] != nil {
			out = append(out, compare.Runs(results[0], results[1]))
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s and %s have no rehearsal in common", sides[0].name, sides[1].name)
	}
	return out, nil
}
