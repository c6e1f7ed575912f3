package repeat

import "imbrel.example/imbrel/core/measure"

// RowsLike returns what the packets of a row met in each of several runs of one rehearsal;
// those that lack the row are left out.
func RowsLike(row *measure.Row, runs []*measure.Result) []*measure.TrafficFigures {
	var out []*measure.TrafficFigures
	for _, r := range runs {
		for i := range r.Traffic {
			if o := &r.Traffic[i]; o.Name == row.Name && o.Direction == row.Direction && o.Class == row.Class {
				out = append(out, &o.TrafficFigures)
				break
			}
		}
	}
	return out
}

// ClassLike does the same of a class.
func ClassLike(class string, runs []*measure.Result) []*measure.TrafficFigures {
	var out []*measure.TrafficFigures
	for _, r := range runs {
		for i := range r.Classes {
			if o := &r.Classes[i]; o.Class == class {
				out = append(out, &o.TrafficFigures)
				break
			}
		}
	}
	return out
}
