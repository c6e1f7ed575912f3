package check

import (
	"slices"

	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/words"
)

func shapeExceedsContract() Rule {
	return Rule{"shape-exceeds-contract", Error, `More may leave than the ` + "`contract`" + ` of the link passes. The carrier drops the excess, and does not look at the classes: calls are lost like downloads. It is also
said of entries that mark packets for a line of the contract, and may together send more than that line passes.`,
		func(s *survey) {
			for _, p := range s.plans {
				end := s.bought(p.Interface, p.Direction)
				if end == nil {
					continue
				}
				if why := p.ExceedsRate(); !why.IsZero() {
					s.say(p.Policy.PlaceOf("shape"), p.Where(), words.ShapeExceedsContract.With(p.Policy.Name, why, end.Bought()))
					s.mend(&p.Policy.Source, "shape", "98%")
					continue
				}
				for i := range end.Contract {
					c := &end.Contract[i]
					sum, at := unit.Rate(0), policy.Place{}
					var names []string
					for _, e := range p.Entries {
						if e.Leaf() && !e.Block && sends(e, end.Contract, i) {
							if sum += e.Ceiling; len(names) == 0 {
								at = e.Spec.At
							}
							names = append(names, "`"+e.Name+"`")
						}
					}
					if sum = min(sum, p.Whole); sum > max(c.Rate.Rate, c.Peak.Rate) {
						s.say(at, p.Where(), words.LineExceeded.With(names, sum, max(c.Rate.Rate, c.Peak.Rate), takenBy(end.Contract, i)))
					}
				}
			}
		}}
}

// sends reports whether packets of an entry go by a line of a contract, as far as the entry's mark says; those of one that marks with no DSCP are
// taken as of the last line.
func sends(e *plan.Entry, lines []policy.ContractLine, line int) bool {
	of := len(lines) - 1
	if m := e.Spec.Mark; m != nil && m.DSCP != nil {
		if i := slices.IndexFunc(lines, func(c policy.ContractLine) bool { return slices.Contains(c.DSCPs, *m.DSCP) }); i >= 0 {
			of = i
		}
	}
	return of == line
}

// takenBy says for which packets a line of a contract is; nothing where it is for all.
func takenBy(lines []policy.ContractLine, line int) words.Fact {
	switch marks := lines[line].Marks(); {
	case len(marks) > 0:
		return words.MarkedWith.With(marks)
	case len(lines) > 1:
		return words.MarkedOtherwise.With()
	}
	return words.Fact{}
}

// bought returns the end of a link that has a contract for what leaves an interface, or nil.
func (s *survey) bought(iface *policy.Interface, d policy.Direction) *policy.LinkEnd {
	if d != policy.Out || iface == nil || iface.Link == nil || iface.Link.Ends[iface.End].Contract == nil {
		return nil
	}
	return &iface.Link.Ends[iface.End]
}
