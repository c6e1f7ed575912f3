package repeat

import (
	"slices"

	"imbrel.example/imbrel/core/measure"
)

// A Subject is what figures are about: a traffic in a direction, in a class, or all of a class.
type Subject struct {
	Of        string `json:"of"` // "traffic" or "class"
	Name      string `json:"name"`
	Direction string `json:"direction,omitempty"`
	Class     string `json:"class,omitempty"` // of a traffic
}

// Met is what the packets of a subject met, in each run that has it.
type Met struct {
	Subject
	Runs []*measure.TrafficFigures
}

// Subjects returns what several runs of one rehearsal have figures of, each in the order in which it comes first, traffic before classes.
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
