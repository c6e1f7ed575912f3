// Package changes says what differs in meaning between two policy files: what each class is
// promised and bounded by, which packets go to another class, with an example of each, what
// is attached anew or no longer, and which findings of a check are new or gone.
package changes

import (
	"encoding/json"
	"fmt"
	"slices"

	"imbrel.example/imbrel/core/check"
	"imbrel.example/imbrel/core/compare"
	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/packetset"
	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
)

// A Result is what differs between an old file and a new one.
type Result struct {
	Same         bool            `json:"same"`
	Interfaces   []Interface     `json:"interfaces"` // those that differ
	Fields       []Field         `json:"fields"`     // values of the file that differ
	FindingsNew  []check.Finding `json:"findings_new"`
	FindingsGone []check.Finding `json:"findings_gone"`

	Flows *Flows            `json:"flows,omitempty"` // of a capture
	Runs  []*compare.Result `json:"runs,omitempty"`
}

// An Interface is an interface and a direction whose treatment of packets differs.
type Interface struct {
	Node      string   `json:"node"`
	Interface string   `json:"interface"`
	Direction string   `json:"direction"`
	Also      []string `json:"also"`       // other places at which the same differs
	OldPolicy string   `json:"old_policy"` // "": none
	NewPolicy string   `json:"new_policy"`
	Entries   []Entry  `json:"entries"`
	Packets   []Move   `json:"packets"`
	GaveUp    int      `json:"gave_up"` // pairs of classes of which was not found out whether packets go from one to the other
}

// An Entry is something that differs of a class's treatment. Of a class that is new or gone
// What is "class".
type Entry struct {
	Class string `json:"class"` // "" for the policy as a whole
	What  string `json:"what"`
	Old   string `json:"old"`
	New   string `json:"new"`
	Note  string `json:"note,omitempty"`
}

// A Move is packets that are in another class than before, and one of them.
type Move struct {
	From    string `json:"from"`
	To      string `json:"to"`
	Example string `json:"example"`
	Old     string `json:"old"` // what was done to them
	New     string `json:"new"`
	While   string `json:"while,omitempty"`
}

// A Checked is a file and what a check finds in it.
type Checked struct {
	File     *policy.File
	Findings []check.Finding
}

// Between returns what differs between two files.
func Between(before, after Checked) *Result {
	r := &Result{Interfaces: []Interface{}, Fields: fields(before.File, after.File),
		FindingsNew: missing(after.Findings, before.Findings), FindingsGone: missing(before.Findings, after.Findings)}
	d := &differ{space: packetset.New(before.File, after.File), moved: make(map[pair]moves)}
	order, olds := attached(before.File)
	more, news := attached(after.File)
	for _, where := range more {
		if olds[where] == nil {
			order = append(order, where)
		}
	}
	known := make(map[string]int)
	for _, where := range order {
		i, differs := d.at(olds[where], news[where])
		if !differs {
			continue
		}
		key := i.key()
		if n, found := known[key]; found {
			r.Interfaces[n].Also = append(r.Interfaces[n].Also, where)
			continue
		}
		known[key] = len(r.Interfaces)
		r.Interfaces = append(r.Interfaces, i)
	}
	r.Same = len(r.Interfaces)+len(r.Fields)+len(r.FindingsNew)+len(r.FindingsGone) == 0
	return r
}

// key tells interfaces apart at which not the same differs. An example may be of another
// site's addresses.
func (i Interface) key() string {
	i.Node, i.Interface = "", ""
	i.Packets = slices.Clone(i.Packets)
	for j := range i.Packets {
		i.Packets[j].Example = ""
	}
	text, _ := json.Marshal(i) // strings and numbers alone
	return string(text)
}

// attached returns the plan of each attachment by its place, and the places in the order of
// the file.
func attached(f *policy.File) (order []string, plans map[string]*plan.Plan) {
	plans = make(map[string]*plan.Plan, len(f.Attach))
	for i := range f.Attach {
		p := plan.Attached(&f.Attach[i])
		order = append(order, p.Where())
		plans[p.Where()] = p
	}
	return order, plans
}

// missing returns the findings that others do not have, wherever they are in the file.
func missing(of, others []check.Finding) []check.Finding {
	left, out := slices.Clone(others), []check.Finding{}
	for i := range of {
		f := &of[i]
		n := slices.IndexFunc(left, func(o check.Finding) bool { return f.Same(&o) })
		if n < 0 {
			out = append(out, *f)
			continue
		}
		left = slices.Delete(left, n, n+1)
	}
	return out
}

// A differ compares plans; what the same two policies come to is found once.
type differ struct {
	space *packetset.Space
	moved map[pair]moves
}

type pair struct {
	old, new *policy.Policy
	node     [2]*policy.Node // where a class names what is here
}

type moves struct {
	list   []Move
	gaveUp int
}

// at returns what differs at one place; one of the plans may be nil.
func (d *differ) at(before, after *plan.Plan) (Interface, bool) {
	some := after
	if some == nil {
		some = before
	}
	i := Interface{Node: some.Interface.Node.Name, Interface: some.Interface.Name, Direction: some.Direction.String(), Also: []string{}, Entries: []Entry{}, Packets: []Move{}}
	if before != nil {
		i.OldPolicy = before.Policy.Name
	}
	if after != nil {
		i.NewPolicy = after.Policy.Name
	}
	if before == nil || after == nil {
		return i, true
	}
	i.Entries = entries(before, after)
	k := pair{old: before.Policy, new: after.Policy}
	for n, p := range []*plan.Plan{before, after} {
		if slices.ContainsFunc(p.Entries, func(e *plan.Entry) bool { return e.Spec.Class != nil && e.Spec.Class.UsesHere() }) {
			k.node[n] = p.Interface.Node
		}
	}
	m, known := d.moved[k]
	if !known {
		m = d.packets(before, after)
		d.moved[k] = m
	}
	i.Packets, i.GaveUp = append(i.Packets, m.list...), m.gaveUp
	for n := range i.Packets { // what is done differs from place to place
		move := &i.Packets[n]
		move.Old, move.New = treatment(before, move.From), treatment(after, move.To)
	}
	return i, len(i.Entries)+len(i.Packets)+i.GaveUp > 0
}

// packets returns the packets that change class: when all entries are in force, and when
// those with a `when` are not.
func (d *differ) packets(before, after *plan.Plan) (out moves) {
	always := func(e *plan.Entry) bool { return e.When == nil }
	conditional := !all(before.Entries, always) || !all(after.Entries, always)
	known := make(map[[2]string]bool)
	compare := func(inForce func(*plan.Entry) bool, while string) {
		olds, news := d.space.Entries(0, before, inForce), d.space.Entries(1, after, inForce)
		same := make(map[string]*packetset.Region) // by the name of its class, where only one has it
		for i := range news {
			l := &news[i]
			if _, twice := same[l.Entry.Name]; twice {
				l = nil
			}
			same[news[i].Entry.Name] = l
		}
		for a := range olds {
			old := &olds[a]
			l := same[old.Entry.Name]
			if !old.Entry.Leaf() || l != nil && l.Entry.Leaf() && !d.space.Search().Leaves(old, l) {
				continue
			}
			for b := range news {
				now := &news[b]
				move := [2]string{old.Entry.Name, now.Entry.Name}
				if !now.Entry.Leaf() || move[0] == move[1] || known[move] {
					continue
				}
				search := d.space.Search()
				box, some := search.Common(old, now)
				switch {
				case some:
					known[move] = true
					example, _ := d.space.Example(box)
					out.list = append(out.list, Move{From: move[0], To: move[1], Example: example.String(), While: while})
				case search.GaveUp():
					out.gaveUp++
				}
				if d.space.Spent() {
					return
				}
			}
		}
	}
	if !conditional {
		compare(nil, "")
		return out
	}
	compare(nil, "every `when` holds")
	compare(always, "no `when` holds")
	return out
}

func all[T any](list []T, holds func(T) bool) bool {
	return !slices.ContainsFunc(list, func(v T) bool { return !holds(v) })
}

// treatment says in a few words what an entry does with packets.
func treatment(p *plan.Plan, name string) string {
	i := slices.IndexFunc(p.Entries, func(e *plan.Entry) bool { return e.Name == name })
	if i < 0 {
		return ""
	}
	e := p.Entries[i]
	if e.Block {
		return "blocked"
	}
	out := "promised " + humanize.Rate(int64(e.Promise))
	if e.Priority > 0 {
		out += fmt.Sprintf(", priority %d", e.Priority)
	}
	if e.Spec.Mark != nil {
		out += ", marked " + explain.Mark(e.Spec.Mark).String()
	}
	return out
}
