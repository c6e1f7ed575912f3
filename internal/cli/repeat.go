package cli

import (
	"fmt"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/repeat"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/render"
	"imbrel.example/imbrel/internal/report"
)

// maxRepeats bounds how often a rehearsal is repeated.
const maxRepeats = 10_000

// parseShard reads "3/16": the third of sixteen parts.
func parseShard(s string) (part, of int, err error) {
	a, b, ok := strings.Cut(s, "/")
	part, err1 := strconv.Atoi(a)
	of, err2 := strconv.Atoi(b)
	if !ok || err1 != nil || err2 != nil || part < 1 || of < part || of > maxRepeats {
		return 0, 0, fmt.Errorf("--shard %s: write a part and how many there are, such as 3/16", s)
	}
	return part, of, nil
}

// repeatAll runs rehearsals with several seeds, on all processors, and writes what they come
// to. It returns errFound when an expectation fails in one of them.
func (a *app) repeatAll(text render.Text, r *rehearsalRun, plans []*policy.Rehearsal) error {
	part, of := 1, 1
	if r.shard != "" {
		var err error
		if part, of, err = parseShard(r.shard); err != nil {
			return err
		}
	}
	modes := []bool{r.without}
	if r.both {
		modes = []bool{true, false}
	}
	for _, plan := range plans {
		if err := a.checkOne(r, plan); err != nil {
			return err
		}
	}
	defer r.interruptible()()
	var todo []job
	for _, plan := range plans {
		for _, without := range modes {
			for n := part - 1; n < r.repeat; n += of {
				todo = append(todo, job{plan, without, r.seed + uint64(n)})
			}
		}
	}
	if len(todo) == 0 {
		return fmt.Errorf("--shard %s: there are only %d repeats, so this part is empty", r.shard, r.repeat)
	}
	results, err := a.runJobs(r, todo)
	if err != nil {
		return err
	}
	if len(results) == 0 {
		return errInterrupted // before the first was done
	}
	if of > 1 {
		for _, res := range results {
			res.Shard = &measure.Shard{Part: part, Of: of, Repeats: r.repeat}
		}
	}
	found := false
	for _, res := range results {
		found = found || res.Policy == !r.without && (res.Verdict == "fail" || r.failOn == "warning" && res.WarningCount() > 0)
	}
	defer r.pages.say(a)
	sums, groups := summed(results, r.stop())
	if err := r.pages.write(func() *report.Page { return report.Repeated(sums, groups, a.ran(r.in, results[0])) }); err != nil {
		return err
	}
	if err := a.showRepeats(text, results, sums); err != nil {
		return err
	}
	switch {
	case r.stop():
		return errInterrupted
	case found:
		return errFound
	}
	return nil
}

// summed returns what runs come to, of each rehearsal and mode, and which runs these are.
func summed(results []*measure.Result, incomplete bool) (sums []*repeat.Summary, groups [][]*measure.Result) {
	groups = repeat.Groups(results)
	for _, runs := range groups {
		s := repeat.Of(runs)
		s.Incomplete = incomplete
		sums = append(sums, s)
	}
	return sums, groups
}

// showRepeats writes runs and what they come to.
func (a *app) showRepeats(text render.Text, results []*measure.Result, sums []*repeat.Summary) error {
	var judged []*measure.Result
	for _, res := range results {
		if res.Policy || !slices.ContainsFunc(results, func(o *measure.Result) bool { return o.Policy }) {
			judged = append(judged, res)
		}
	}
	if done, err := a.write(judged, 1); done {
		return err
	}
	if a.output == "json" {
		return render.JSON(a.out, struct {
			Imbrel  int               `json:"imbrel"`
			Runs    []*measure.Result `json:"runs"`
			Repeats []*repeat.Summary `json:"repeats"`
		}{1, results, sums})
	}
	for i, s := range sums {
		if i > 0 {
			text.Line("")
		}
		text.Repeats(s)
	}
	return nil
}

// A job is one run of a rehearsal.
type job struct {
	plan    *policy.Rehearsal
	without bool
	seed    uint64
}

// runJobs runs jobs on all processors. The results are in their order; of an interrupt, those
// that were done.
func (a *app) runJobs(r *rehearsalRun, todo []job) ([]*measure.Result, error) {
	show, clear := a.progress(fmt.Sprintf("rehearsing %d times", len(todo)))
	defer clear()
	results, errs := make([]*measure.Result, len(todo)), make([]error, len(todo))
	var lock sync.Mutex
	next, done := 0, 0
	var workers sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(todo)) {
		workers.Go(func() {
			for {
				lock.Lock()
				n := next
				next++
				lock.Unlock()
				if n >= len(todo) || r.stop() {
					return
				}
				j := todo[n]
				res, err := a.run(r, r.file, j.plan, simulate.Options{Seed: j.seed, WithoutPolicy: j.without, Cores: 1})
				lock.Lock()
				results[n], errs[n] = res, err
				if done++; show != nil {
					show(float64(done) / float64(len(todo)))
				}
				lock.Unlock()
				if err != nil {
					return
				}
			}
		})
	}
	workers.Wait()
	var out []*measure.Result
	for i, err := range errs {
		if err != nil {
			return nil, err
		}
		if res := results[i]; res != nil && !res.Incomplete {
			out = append(out, res)
		}
	}
	return out, nil
}

// merge joins saved repeats, such as those of shards, and writes them as one run of all.
func (a *app) merge(names []string) error {
	var all []*measure.Result
	known := make(map[string]string)
	for _, name := range names {
		results, err := files.ReadResults(name, a.in)
		if err != nil {
			return err
		}
		for _, r := range results {
			if first := all; len(first) > 0 && (first[0].FileHash != r.FileHash || first[0].Version != r.Version) {
				return fmt.Errorf("%s and %s do not belong together: their policy files differ (%s, %s), or the versions of imbrel do (%s, %s)", names[0], name, first[0].FileHash, r.FileHash, first[0].Version, r.Version)
			}
			key := fmt.Sprint(r.Rehearsal, r.Policy, r.Seed)
			if before, twice := known[key]; twice {
				return fmt.Errorf("%s and %s both have the rehearsal `%s` with seed %d: name each once, and give each shard a part of its own", before, name, r.Rehearsal, r.Seed)
			}
			known[key] = name
		}
		all = append(all, results...)
	}
	if err := complete(all); err != nil {
		return err
	}
	repeat.Sort(all)
	a.output = "json"
	sums, _ := summed(all, false)
	if err := a.showRepeats(render.Text{}, all, sums); err != nil {
		return err
	}
	if slices.ContainsFunc(all, func(r *measure.Result) bool { return r.Policy && r.Verdict == "fail" }) {
		return errFound
	}
	return nil
}

// complete returns an error that names the missing shards. It clears the shard of each result, since merged results are a whole.
func complete(all []*measure.Result) error {
	have := make(map[int]bool)
	var of *measure.Shard
	for _, r := range all {
		switch s := r.Shard; {
		case s == nil:
		case of != nil && (s.Of != of.Of || s.Repeats != of.Repeats):
			return fmt.Errorf("the results are shards of different wholes: part %d of %d (%d repeats), and part %d of %d (%d repeats)", of.Part, of.Of, of.Repeats, s.Part, s.Of, s.Repeats)
		default:
			of, have[s.Part], r.Shard = s, true, nil
		}
	}
	if of == nil {
		return nil
	}
	var missing []string
	for part := 1; part <= min(of.Of, of.Repeats); part++ {
		if !have[part] {
			missing = append(missing, fmt.Sprintf("%d/%d", part, of.Of))
		}
	}
	if len(missing) > 0 {
		return fmt.Errorf("shards are missing: %s; name their results too", strings.Join(missing, ", "))
	}
	return nil
}
