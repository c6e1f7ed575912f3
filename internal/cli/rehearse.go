package cli

import (
	"context"
	"fmt"
	"math"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/changes"
	"imbrel.example/imbrel/core/check"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/core/suggest"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/render"
	"imbrel.example/imbrel/internal/report"
)

// A rehearsalRun is how to run rehearsals and what to do with the results.
type rehearsalRun struct {
	file       *policy.File
	in         files.Place
	errors     []check.Finding // of the file, which are warnings of each run
	seed       uint64
	without    bool
	delivered  bool // as the devices would have it
	both       bool
	hash       string // of the file, once it is asked for
	hashed     sync.Once
	closed     bool
	keep       bool // distributions
	hops       bool
	suggest    bool
	every      string
	failOn     string
	captureOut string
	whatIf     bool
	acceptance string
	worst      string // a class
	worstTo    string
	repeat     int
	shard      string
	view       render.View
	pages      pages
	series     string // a folder for tables of what happened over time

	interval time.Duration // of every
	told     context.Context
	stop     func() bool // an interrupt has come
}

func (a *app) rehearse(text render.Text) *cobra.Command {
	var r rehearsalRun
	c := &cobra.Command{
		Use:   "rehearse FILE [NAME]",
		Short: "Rehearse the traffic of a file and judge its expectations",
		Long: `Rehearse sends the traffic of a rehearsal through the network packet by packet,
in simulated time, and measures every class and every call. It warns of what the
verdict does not cover, and tells where and why each expectation failed. It exits
with 1 when an expectation fails. FILE is a policy file, or - for standard input.
Without NAME all rehearsals run, and parts of the file that none of them used are
reported.`,
		Example: `  imbrel rehearse ternrock.yaml fog --both
  imbrel rehearse ternrock.yaml fog --suggest --fail-on warning
  imbrel rehearse ternrock.yaml fog --hops --every 1s --class voice,charts
  imbrel rehearse ternrock.yaml fog --repeat 20
  imbrel rehearse ternrock.yaml fog -o json
  imbrel rehearse ternrock.yaml fog --capture-out marked/`,
		Args: between(1, 2, "a policy file, and perhaps the name of a rehearsal"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.effects(c, &r); err != nil {
				return err
			}
			if c.Flags().Changed("acceptance") {
				var err error
				if r.file, r.in, err = files.ReadPolicy(args[0], a.in, a.includeFrom...); err != nil {
					return err
				}
				return a.acceptRehearsed(text, &r, r.acceptance)
			}
			plans, err := r.read(a, args)
			if err != nil {
				return err
			}
			f, in := r.file, r.in
			if err := r.check(plans); err != nil {
				return err
			}
			if err := r.pages.check(plans); err != nil {
				return err
			}
			findings := check.File(f, in.Accepted)
			for i := range findings {
				if findings[i].Level == check.Error {
					r.errors = append(r.errors, findings[i])
				}
			}
			if errors, warnings := check.Count(findings); errors+warnings > 0 && a.output == "text" {
				r.view.Checked = checked(args[0], errors, warnings)
			}
			if r.whatIf {
				return a.whatIfDown(text, &r, plans)
			}
			if r.worst != "" {
				return a.worst(text, &r, args[0], plans)
			}
			if r.repeat > 0 {
				return a.repeatAll(text, &r, plans)
			}
			return a.runAll(text, &r, plans)
		},
	}
	c.Flags().BoolVar(&r.without, "without-policy", false, "send the same traffic through plain FIFO queues")
	c.Flags().BoolVar(&r.delivered, "as-delivered", false, "rehearse what the devices would really do, by their profiles in `devices`")
	c.Flags().BoolVar(&r.both, "both", false, "run without and with the policies, and show the two side by side")
	numberVar(c.Flags(), &r.seed, "seed", 1, 0, math.MaxUint64, "`NUMBER` from which everything random follows")
	c.Flags().BoolVar(&r.suggest, "suggest", false, "try changes of one number and report the smallest one that makes the failed expectations hold")
	c.Flags().StringVar(&r.failOn, "fail-on", "failure", "exit with 1 on a `LEVEL`: failure (of an expectation) or warning")
	c.Flags().BoolVar(&r.hops, "hops", false, "show delay and drops of each traffic at each place on its way")
	c.Flags().StringVar(&r.every, "every", "", "show rates, queues and drops over time, in steps of a `TIME` such as 500ms")
	c.Flags().BoolVar(&r.view.Detail, "detail", false, "also show each traffic, interface and link")
	c.Flags().StringSliceVar(&r.view.At, "at", nil, "show only these `PLACES` in detail, such as ternrock/radio, or with a direction")
	c.Flags().StringSliceVar(&r.view.Classes, "class", nil, "show only these `CLASSES`")
	c.Flags().BoolVar(&r.view.All, "all", false, "show every row, also idle interfaces and those with few drops")
	c.Flags().BoolVar(&r.view.Packets, "packets", false, "show packets per second next to bit/s")
	c.Flags().BoolVar(&r.closed, "closed-loop", false, closedLoopUsage)
	c.Flags().BoolVar(&r.keep, "distributions", false, "write the delay histograms into the JSON, so that results of several runs can be merged")
	c.Flags().StringVar(&r.captureOut, "capture-out", "", "write what enters and leaves each interface as pcapng into the folder `DIR`")
	numberVar(c.Flags(), &r.repeat, "repeat", 0, 1, maxRepeats, "run `N` times with different seeds, on all processors, and say in how many each expectation holds")
	c.Flags().StringVar(&r.shard, "shard", "", "run only a `PART` of the repeats, such as 3/16; compare --merge joins the results")
	c.Flags().BoolVar(&r.whatIf, "what-if-down", false, "run with each link down in turn, its traffic taking the other ways there are, and show which expectations break")
	c.Flags().StringVar(&r.acceptance, "acceptance", "", "test the contract of the link at an `INTERFACE`, in place of the file's rehearsals: each class below its rate, all together, beyond it, and in bursts")
	c.Flags().StringVar(&r.worst, "worst", "", "look for the traffic that makes a `CLASS` wait longest, and compare with what is proven")
	c.Flags().StringVar(&r.worstTo, "worst-to", "", "of --worst: write a policy `FILE` with what was found as one more rehearsal")
	r.pages.flags(c)
	c.Flags().StringVar(&r.series, "series", "", "write what happened over time as tables (CSV) into the folder `DIR`, in steps of --every")
	c.MarkFlagsMutuallyExclusive("without-policy", "both")
	return c
}

// checked says what a check finds in the file.
func checked(file string, errors, warnings int) string {
	var found []string
	if errors > 0 {
		found = append(found, humanize.Plural(errors, "error"))
	}
	if warnings > 0 {
		found = append(found, humanize.Plural(warnings, "warning"))
	}
	return fmt.Sprintf("`imbrel check %s` finds %s in the file", file, humanize.List(found))
}

const closedLoopUsage = "make each TCP conversation of a capture a flow of as many bytes, which slows down when packets are lost"

// read reads the policy file and returns the rehearsal that is named, or all.
func (r *rehearsalRun) read(a *app, args []string) (plans []*policy.Rehearsal, err error) {
	if r.file, r.in, err = files.ReadPolicy(args[0], a.in, a.includeFrom...); err != nil {
		return nil, err
	}
	if r.delivered {
		if r.file, r.in, err = a.asDelivered(r.file, r.in); err != nil {
			return nil, err
		}
	}
	name := ""
	if len(args) > 1 {
		name = args[1]
	}
	return choose(r.file, args[0], name)
}

// effects reports flags that have no effect beside others.
func (a *app) effects(c *cobra.Command, r *rehearsalRun) error {
	if r.keep && a.output != "json" {
		return fmt.Errorf("--distributions has no effect without -o json: the text has the percentiles alone")
	}
	if r.shard != "" && r.repeat == 0 {
		return fmt.Errorf("--shard is a part of --repeat: say how many repeats there are in all")
	}
	if r.repeat > 0 {
		if err := apart(c, "--repeat", "it is about many runs: run one with --seed", "suggest", "hops", "every", "detail", "at", "class", "all", "packets", "capture-out", "series", "charts"); err != nil {
			return err
		}
	}
	if c.Flags().Changed("acceptance") {
		if a.output != "json" && a.output != "text" {
			return fmt.Errorf("-o %s has no effect with --acceptance: ask for text or json", a.output)
		}
		if err := apart(c, "--acceptance", "it sends traffic of its own", "what-if-down", "both", "repeat", "suggest", "hops", "every", "detail", "at", "class", "all", "packets", "capture-out", "series", "charts", "report", "fail-on", "distributions", "closed-loop", "as-delivered"); err != nil {
			return err
		}
	}
	if r.worstTo != "" && r.worst == "" {
		return fmt.Errorf("--worst-to writes what --worst finds: say of which class, as in --worst voice")
	}
	if r.worst != "" {
		if a.output != "json" && a.output != "text" {
			return fmt.Errorf("-o %s has no effect with --worst: ask for text or json", a.output)
		}
		return apart(c, "--worst", "it is about many runs", "what-if-down", "both", "without-policy", "repeat", "suggest", "hops", "every", "detail", "at", "class", "all", "packets", "capture-out", "series", "charts", "report", "fail-on", "distributions", "closed-loop", "acceptance")
	}
	if r.whatIf {
		if a.output != "json" && a.output != "text" {
			return fmt.Errorf("-o %s has no effect with --what-if-down: ask for text or json", a.output)
		}
		if err := apart(c, "--what-if-down", "it is about many runs", "both", "repeat", "suggest", "hops", "every", "detail", "at", "class", "all", "packets", "capture-out", "series", "charts", "report", "fail-on", "distributions"); err != nil {
			return err
		}
	}
	switch {
	case a.output == "json":
		return apart(c, "-o json", "the JSON is always complete", "detail", "all", "packets")
	case a.output != "text":
		return apart(c, "-o "+a.output, "it is always complete", "detail", "all", "packets", "hops", "at", "class")
	case r.both:
		names := []string{"hops", "at"}
		if !r.pages.wanted() && r.series == "" {
			names = append(names, "every")
		}
		return apart(c, "--both", "name one run, or ask for -o json", names...)
	case r.without:
		return apart(c, "--without-policy", "no policy is in force that a change could mend", "suggest")
	}
	return nil
}

// interruptible lets an interrupt stop the run at its next step, and returns what ends that. A
// second interrupt ends the program at once.
func (r *rehearsalRun) interruptible() func() {
	ctx, restore := untilTold()
	context.AfterFunc(ctx, restore)
	r.told, r.stop = ctx, func() bool { return ctx.Err() != nil }
	return restore
}

// check reports flags that make no sense for the file and the rehearsals.
func (r *rehearsalRun) check(plans []*policy.Rehearsal) error {
	r.view.Suggested = r.suggest
	if r.captureOut != "" && (r.both || len(plans) > 1) {
		return fmt.Errorf("--capture-out goes with one run: name one rehearsal, and leave --both out")
	}
	if r.failOn != "failure" && r.failOn != "warning" {
		return fmt.Errorf("--fail-on %s: the levels are failure and warning", r.failOn)
	}
	if r.every != "" {
		d, err := unit.ParseDuration(r.every)
		if err != nil {
			return fmt.Errorf("--every: %w", err)
		}
		for _, h := range plans {
			if d <= 0 || h.Lasts/d > simulate.MaxIntervals {
				return fmt.Errorf("--every %s: the rehearsal `%s` lasts %s, and at most %d steps are possible: give a longer step", r.every, h.Name, unit.FormatDuration(h.Lasts), simulate.MaxIntervals)
			}
		}
		r.interval = d
	}
	paths, classes := interfaces(r.file), classes(r.file)
	trim(r.view.At)
	trim(r.view.Classes)
	for _, at := range r.view.At {
		iface, direction, named := strings.Cut(at, " ")
		if !slices.Contains(paths, iface) || named && direction != "in" && direction != "out" {
			return fmt.Errorf("--at %s: there is no such place; %sthere are, each with `in` or `out` after it: %s", at, policy.DidYouMean(iface, paths), strings.Join(paths[:min(len(paths), 40)], ", "))
		}
	}
	for _, c := range r.view.Classes {
		if !slices.Contains(classes, c) {
			return fmt.Errorf("--class %s: there is no such class; %sthere are: %s", c, policy.DidYouMean(c, classes), strings.Join(classes[:min(len(classes), 40)], ", "))
		}
	}
	return nil
}

// trim takes the spaces after the commas of a list off.
func trim(list []string) {
	for i := range list {
		list[i] = strings.TrimSpace(list[i])
	}
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
		return nil, fmt.Errorf("%s: there is no rehearsal `%s`; %sthere are: %s", file, name, policy.DidYouMean(name, names), strings.Join(names, ", "))
	}
	return all, nil
}

// runAll runs rehearsals one after the other, writes the results and returns
// errFound when an expectation failed, or there is a warning that counts.
func (a *app) runAll(text render.Text, r *rehearsalRun, plans []*policy.Rehearsal) error {
	modes := []bool{r.without}
	if r.both {
		modes = []bool{true, false}
	}
	defer r.interruptible()()
	if len(plans) > 1 { // nothing runs before all can
		for _, plan := range plans {
			if err := a.checkOne(r, plan); err != nil {
				return err
			}
		}
	}
	var results, ruled []*measure.Result
	for _, plan := range plans {
		for _, without := range modes {
			res, err := a.runOne(r, r.file, plan, without)
			if err != nil {
				return err
			}
			if results = append(results, res); r.stop() {
				return a.interrupted(text, r, results, len(modes))
			}
			if !without {
				ruled = append(ruled, res)
			}
		}
	}
	if r.stop() {
		return a.interrupted(text, r, results, len(modes))
	}
	if len(plans) == len(r.file.Rehearsals) {
		measure.Idle(ruled)
	}
	found := false
	for i, res := range results {
		if i%len(modes) == 1 {
			res.WhoPays = measure.WhoPays(results[i-1], res)
		}
		judged := i%len(modes) == len(modes)-1
		found = found || judged && (res.Verdict == "fail" || r.failOn == "warning" && res.WarningCount() > 0)
		if r.suggest && judged {
			if err := a.suggest(r, plans[i/len(modes)], res); err != nil {
				return err
			}
		}
	}
	if err := r.pages.write(func() *report.Page { return report.Rehearsal(results, a.ran(r.in, results[0])) }); err != nil {
		return err
	}
	if r.series != "" {
		if err := writeSeries(r.series, results); err != nil {
			return err
		}
		r.pages.wrote = append(r.pages.wrote, "the tables of the series into "+r.series)
	}
	if r.pages.wanted() || r.series != "" {
		for _, res := range results { // what only the page and the tables needed
			if !r.hops {
				res.Hops = nil
			}
			if r.interval == 0 {
				res.Series = nil
			}
		}
	}
	if err := a.show(text, r, results, len(modes)); err != nil {
		return err
	}
	r.pages.say(a)
	if r.stop() { // while it looked for changes
		return errInterrupted
	}
	if found {
		return errFound
	}
	return nil
}

// interrupted shows what was measured until an interrupt.
func (a *app) interrupted(text render.Text, r *rehearsalRun, results []*measure.Result, modes int) error {
	if len(results)%modes != 0 { // without the other, there is nothing to put beside it
		r.both, modes = false, 1
	}
	if err := a.show(text, r, results, modes); err != nil {
		return err
	}
	if r.pages.wanted() || r.series != "" {
		fmt.Fprintln(a.err, "interrupted: no report, chart or series is written")
	}
	return errInterrupted
}

// show writes the results, of so many modes each.
func (a *app) show(text render.Text, r *rehearsalRun, results []*measure.Result, modes int) error {
	if a.output == "json" {
		for _, res := range results {
			r.view.Only(res)
		}
	}
	if done, err := a.write(results, modes); done {
		return err
	}
	switch {
	case a.output == "json" && len(results) == 1:
		return render.JSON(a.out, results[0])
	case a.output == "json":
		return render.JSON(a.out, struct {
			Imbrel int               `json:"imbrel"`
			Runs   []*measure.Result `json:"runs"`
		}{1, results})
	}
	for i := 0; i < len(results); i += modes {
		if i > 0 {
			text.Line("")
		}
		if r.both {
			text.Both(results[i], results[i+1], &r.view)
		} else {
			text.Rehearsal(results[i], &r.view)
		}
	}
	return nil
}

// suggest finds, for each expectation of a result that failed, the least change that
// makes it hold.
func (a *app) suggest(r *rehearsalRun, plan *policy.Rehearsal, res *measure.Result) error {
	tried := make(map[string]*measure.Result) // several expectations want the same
	show, clear := a.progress("looking for changes")
	defer clear()
	finder := suggest.Finder{Number: r.in.Number, Try: func(path, text string) (*measure.Result, error) {
		if r.stop() {
			return nil, errInterrupted
		}
		key := path + "=" + text
		if res := tried[key]; res != nil {
			return res, nil
		}
		f, err := r.in.With(path, text)
		if err != nil {
			return nil, err
		}
		if show != nil { // how many it takes is not known: towards the end, never there
			show(1 - 1/(1+float64(len(tried))/20))
		}
		changed, err := choose(f, "the file", plan.Name)
		if err != nil {
			return nil, err
		}
		res, err := a.run(r, f, changed[0], simulate.Options{Seed: r.seed, WithoutPolicy: r.without})
		tried[key] = res
		return res, err
	}}
	before := check.File(r.file, r.in.Accepted)
	finder.Sound = func(path, text string) bool {
		f, err := r.in.With(path, text)
		return err == nil && !slices.ContainsFunc(check.File(f, r.in.Accepted), func(g check.Finding) bool {
			return !slices.ContainsFunc(before, func(o check.Finding) bool {
				return o.Name == g.Name && o.At.File == g.At.File && o.At.Line == g.At.Line
			})
		})
	}
	finder.Fix = func(at policy.Place) string {
		for i := range before {
			if e := before[i].Edit; e != nil && (policy.Place{File: e.File, Line: e.Line, Column: e.Column}) == at {
				return e.New
			}
		}
		return ""
	}
	finder.Changes(res, r.stop)
	return nil
}

func (a *app) runOne(r *rehearsalRun, f *policy.File, plan *policy.Rehearsal, without bool) (res *measure.Result, err error) {
	o := simulate.Options{Seed: r.seed, WithoutPolicy: without, Bounds: !without, Hops: r.hops || r.pages.wanted(), Every: r.interval}
	if o.Every == 0 && (r.pages.wanted() || r.series != "") {
		o.Every = report.Step(plan.Lasts)
	}
	if r.captureOut != "" {
		dir, failed := files.NewCaptureDir(r.captureOut)
		if failed != nil {
			return nil, failed
		}
		o.Tap = dir.Write
		defer func() {
			if err != nil || res.Incomplete {
				dir.Discard()
				return
			}
			if e := dir.Close(); e != nil {
				res, err = nil, e
			}
		}()
	}
	show, clear := a.progress("rehearsing " + plan.Name)
	o.Progress = show
	defer clear()
	return a.run(r, f, plan, o)
}

// checkOne returns what is wrong with a rehearsal before it runs.
func (a *app) checkOne(r *rehearsalRun, plan *policy.Rehearsal) error {
	captures := files.Captures{In: r.in}
	defer captures.Close()
	return r.in.WithLines(simulate.Check(r.file, plan, simulate.Options{Seed: r.seed, Capture: captures.Open, ClosedLoop: r.closed}))
}

// run runs a rehearsal of the file, or of a change of it.
func (a *app) run(r *rehearsalRun, f *policy.File, plan *policy.Rehearsal, o simulate.Options) (*measure.Result, error) {
	captures := files.Captures{In: r.in}
	defer captures.Close()
	o.Capture, o.Stop, o.ClosedLoop = captures.Open, r.stop, r.closed
	if o.Cores == 0 {
		o.Cores = runtime.GOMAXPROCS(0)
	}
	res, err := simulate.Run(f, plan, o)
	if err != nil {
		return nil, r.in.WithLines(err)
	}
	if f == r.file {
		r.hashed.Do(func() { r.hash = changes.Hash(f) })
		res.FileHash, res.Version = r.hash, version()
	}
	if r.keep {
		res.KeepDistributions()
	}
	if res.Policy {
		for _, f := range r.errors {
			if slices.ContainsFunc(res.Warnings, func(w measure.Warning) bool { return w.Name == f.Name && w.File == f.At.File && w.Line == f.At.Line }) {
				continue // the rehearsal saw it too
			}
			res.Warnings = append(res.Warnings, measure.Warning{Name: f.Name, Level: "warning", Text: words.FoundInFile.With(f.Text(), f.Fact.Consequence()), File: f.At.File, Line: f.At.Line})
		}
	}
	return res, nil
}
