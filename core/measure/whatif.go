package measure

import "imbrel.example/imbrel/core/policy"

// A WhatIfDown is what the expectations of a rehearsal come to with each link down in turn, and its routes around it.
type WhatIfDown struct {
	Rehearsal string     `json:"rehearsal"`
	Links     []LinkDown `json:"links"`
}

// A LinkDown is a rehearsal with one link down.
type LinkDown struct {
	Link    string    `json:"link"`              // both of its ends; "": none is down
	Verdict string    `json:"verdict"`           // as of a rehearsal, or "cut off"
	CutOff  string    `json:"cut_off,omitempty"` // why: traffic that has no other way
	Fails   []Outcome `json:"fails"`
}

// DownLink returns what a result says of a rehearsal with a link down, nil: none.
func DownLink(l *policy.Link, r *Result) LinkDown {
	d := LinkDown{Link: LinkName(l), Verdict: r.Verdict, Fails: []Outcome{}}
	for _, o := range r.Expectations {
		if !o.Holds {
			d.Fails = append(d.Fails, o)
		}
	}
	return d
}

// LinkName names a link by its ends; "" is that of nil.
func LinkName(l *policy.Link) string {
	if l == nil {
		return ""
	}
	return l.Ends[0].Interface.Path() + " - " + l.Ends[1].Interface.Path()
}
