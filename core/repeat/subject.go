package repeat

import (
	"slices"

	"imbrel.example/imbrel/core/measure"
)

// A Subject has figures: a traffic in a direction and a class, or a whole class.
type Subject struct {
	Of        string `json:"of"` // "traffic" or "class"
	Name      string `json:"name"`
	Direction string `json:"direction,omitempty"`
	Class     string `json:"class,omitempty"` // of a traffic
}

// Met has the figures of a subject in each run that has it.
type Met struct {
	Subject
	Runs []*measure.TrafficFigures
}

// Subjects returns the subjects of several runs of one rehearsal in the order of their first run, traffic before classes.
func Subjects(runs []*measure.Result) []Met {
	var traffic, classes []Met
	places := make(map[Subject]int)
	add := func(to *[]Met, s Subject, met *measure.TrafficFigures) {
		n, known := places[s]
		if !known {
			n = len(*to)
			places[s] = n
			*to = append(*to, Met{Subject: s})
		}
		(*to)[n].Runs = append((*to)[n].Runs, met)
	}
	for _, r := range runs {
		for i := range r.Traffic {
			o := &r.Traffic[i]
			add(&traffic, Subject{"traffic", o.Name, o.Direction, o.Class}, &o.TrafficFigures)
		}
		for i := range r.Classes {
			o := &r.Classes[i]
			add(&classes, Subject{Of: "class", Name: o.Class}, &o.TrafficFigures)
		}
	}
	return slices.Concat(traffic, classes)
}
