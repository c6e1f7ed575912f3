package cli

import (
	"strings"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/internal/render"
)

// whatIfDown runs rehearsals with each link down in turn, on all processors, and writes where expectations break. It returns errFound when one fails
// that holds with all links, or traffic has no other way.
func (a *app) whatIfDown(text render.Text, r *rehearsalRun, plans []*policy.Rehearsal) error {
	defer r.interruptible()()
	var todo []job
	all := make([]*measure.WhatIfDown, len(plans))
	type place struct {
		of   *measure.WhatIfDown
		at   int
		link *policy.Link
	}
	var places []place
	for i, plan := range plans {
		if err := a.checkOne(r, plan); err != nil {
			return err
		}
		all[i] = &measure.WhatIfDown{Rehearsal: plan.Name}
		for n := -1; n < len(r.file.Network.Links); n++ {
			failed := *plan
			if n >= 0 {
				failed.Fails = r.file.Network.Links[n]
			}
			down := measure.LinkDown{Link: measure.LinkName(failed.Fails), Verdict: "cut off", Fails: []measure.Outcome{}}
			if err := a.checkOne(r, &failed); err != nil {
				down.CutOff, _, _ = strings.Cut(err.Error(), ": join them")
			} else {
				todo = append(todo, job{&failed, r.without, r.seed})
				places = append(places, place{all[i], len(all[i].Links), failed.Fails})
			}
			all[i].Links = append(all[i].Links, down)
		}
	}
	results, err := a.runJobs(r, todo)
	if err != nil {
		return err
	}
	if r.stop() {
		return errInterrupted
	}
	found := false
	for i, p := range places {
		p.of.Links[p.at] = measure.DownLink(p.link, results[i])
	}
	for _, w := range all {
		for _, l := range w.Links {
			found = found || l.Verdict == "fail" || l.Verdict == "cut off"
		}
	}
	if a.output == "json" {
		err = render.JSON(a.out, struct {
			Imbrel     int                   `json:"imbrel"`
			WhatIfDown []*measure.WhatIfDown `json:"what_if_down"`
		}{1, all})
	} else {
		for i, w := range all {
			if i > 0 {
				text.Line("")
			}
			text.WhatIfDown(w)
		}
	}
	if err == nil && found {
		err = errFound
	}
	return err
}
