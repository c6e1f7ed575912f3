package check

import (
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
)

func unused() Rule {
	return Rule{"unused", Note, `A class, group, application, time, map or load is named nowhere: it does nothing. Perhaps the name was changed in one place.`,
		func(s *survey) {

			u := usedNames(s.f)
			say := func(what, name string, at policy.Place) {
				s.say(at, "", words.Unused.With(what, name))
			}
			for i := range s.f.Classes {
				if c := &s.f.Classes[i]; !u.classes[c] {
					say("class", c.Name, c.PlaceOf("name"))
				}
			}
			for i := range s.f.Groups {
				if g := &s.f.Groups[i]; !u.groups[g.Name] {
					say("group", g.Name, g.At)
				}
			}
			for i := range s.f.Apps {
				if a := &s.f.Apps[i]; a.At != (policy.Place{}) && !u.apps[a] {
					say("application", a.Name, a.At)
				}
			}
			for i := range s.f.Maps {
				if m := &s.f.Maps[i]; !u.maps[m] {
					say("map", m.Name, m.At)
				}
			}
			for i := range s.f.Loads {
				if l := &s.f.Loads[i]; !l.Taken {
					say("load", l.Name, l.At)
				}
			}
			for i := range s.f.Times {
				if t := &s.f.Times[i]; !u.times[t] {
					say("time", t.Name, t.At)
				}
			}
		}}
}

// A usage is what is named somewhere.
type usage struct {
	classes map[*policy.Class]bool
	groups  map[string]bool
	apps    map[*policy.App]bool
	maps    map[*policy.MarkTable]bool
	times   map[*policy.Span]bool
}

func usedNames(f *policy.File) *usage {
	u := &usage{make(map[*policy.Class]bool), make(map[string]bool), make(map[*policy.App]bool), make(map[*policy.MarkTable]bool), make(map[*policy.Span]bool)}
	mark := func(m *policy.Mark) {
		if m != nil && m.Map != nil {
			u.maps[m.Map] = true
		}
	}
	when := func(w *policy.When) {
		if w != nil && w.Time != nil {
			u.times[w.Time] = true
		}
	}
	var entries func(list []policy.Entry)
	entries = func(list []policy.Entry) {
		for i := range list {
			e := &list[i]
			u.classes[e.Class] = true
			mark(e.Mark)
			when(e.When)
			when(e.BlockWhen)
			if e.AtMost != nil {
				when(e.AtMost.When)
			}
			if e.Police != nil {
				when(e.Police.When)
				mark(e.Police.Green.Mark)
				mark(e.Police.Yellow.Mark)
				mark(e.Police.Red.Mark)
			}
			entries(e.Treat)
		}
	}
	for i := range f.Policies {
		entries(f.Policies[i].Treat)
	}
	addresses := func(a *policy.Addresses) {
		for _, g := range a.Given {
			u.groups[g.Text] = true
		}
	}
	for i := range f.Groups {
		addresses(&f.Groups[i].Addresses)
	}
	for i := range f.Classes {
		for _, list := range [][]policy.Condition{f.Classes[i].Match, f.Classes[i].Except} {
			for j := range list {
				for k := range list[j].Terms {
					t := &list[j].Terms[k]
					if t.Addresses != nil {
						addresses(t.Addresses)
					}
					for _, a := range t.Apps {
						u.apps[a] = true
					}
				}
			}
		}
	}
	for i := range f.Rehearsals { // a class may be there to be judged by
		for j := range f.Rehearsals[i].Expect {
			for _, subject := range f.Rehearsals[i].Expect[j].Subjects() {
				for k := range f.Classes {
					if f.Classes[k].Name == subject {
						u.classes[&f.Classes[k]] = true
					}
				}
			}
		}
	}
	return u
}
