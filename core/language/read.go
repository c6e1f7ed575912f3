// Package language reads a policy file: the description of every key and of what
// may be written there, the reader that follows it, the JSON Schema that is printed
// from it, and the checks that span several keys.
package language

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"imbrel.example/imbrel/core/plan"
	"imbrel.example/imbrel/core/policy"
)

// MaxNesting bounds how deep a document may be nested; no policy is that deep.
const MaxNesting = 100

// Here is the word for the subnets of the node at which a policy is attached.
const Here = "here"

// Read turns a document into a validated File; zone looks up a time zone. The
// error is a policy.Problems with everything wrong with it.
func Read(doc Value, zone func(string) (*time.Location, error)) (*policy.File, error) {
	r := &reader{broken: make(map[string]bool)}
	d, _ := aFile.read(r, doc)
	s := &resolver{reader: r, doc: &d, f: &d.File, zone: zone}
	s.resolve()
	if ps := r.sorted(doc); len(ps) > 0 {
		return nil, ps
	}
	return s.f, nil
}

// ReadParts returns what is wrong with the parts of a document by themselves, where not all
// of it is there: names are not looked up.
func ReadParts(doc Value) policy.Problems {
	r := &reader{broken: make(map[string]bool)}
	aFile.read(r, doc)
	return r.sorted(doc)
}

// sorted returns the problems in the order of their places, as many as are told at once.
func (r *reader) sorted(doc Value) policy.Problems {
	r.problems.Sort(doc.At.File)
	if len(r.problems) > maxProblems {
		return append(r.problems[:maxProblems], policy.Problem{Place: r.problems[maxProblems].Place, Text: "and more problems; mend these first"})
	}
	return r.problems
}

// A resolver looks up the names in a file and checks what spans several keys.
type resolver struct {
	*reader
	doc        *document
	f          *policy.File
	classNames map[string]int
	policies   map[string]int
	maps       map[string]int
	times      map[string]int
	nodes      map[string]*policy.Node
	interfaces map[string]*policy.Interface
	paths      []string // of all interfaces
	subnets    map[netip.Prefix]*policy.Interface
	prefixes   [129]bool // lengths of the subnets there are, of either version
	loads      map[string]*loadLines
	zone       func(string) (*time.Location, error)
	extents    map[*policy.Policy]*extent
	tooMuch    bool // entries within entries: it was said
}

func (s *resolver) resolve() {
	s.section = "network"
	s.network()
	s.section = "groups"
	s.groups()
	s.section = "apps"
	s.apps()
	s.section = "times"
	s.namedTimes()
	s.section = "maps"
	s.maps = unique(s, "maps", s.f.Maps, func(m *policy.MarkTable) (string, policy.Place) { return m.Name, m.At })
	s.section = "classes"
	s.classes()
	s.section = "policies"
	s.treat()
	s.section = "attach"
	s.attachments()
	s.section = "devices"
	s.devices()
	s.section = "rehearsals"
	s.rehearsals()
}

// sound reports whether none of these sections has a problem yet: what rests on them can
// be judged.
func (s *resolver) sound(sections ...string) bool {
	return !slices.ContainsFunc(sections, func(k string) bool { return s.broken[k] })
}

// A written part of the file knows where its keys are.
type written interface {
	PlaceOf(string) policy.Place
	Keys() []policy.KeyPlace
}

// has reports whether a key of a part was written.
func has(part interface{ Keys() []policy.KeyPlace }, key string) bool {
	return slices.ContainsFunc(part.Keys(), func(k policy.KeyPlace) bool { return k.Key == key })
}

// unique reports names that are given twice and returns the index by name.
func unique[T any](s *resolver, what string, items []T, name func(*T) (string, policy.Place)) map[string]int {
	index := make(map[string]int, len(items))
	for i := range items {
		n, at := name(&items[i])
		if n == "" {
			continue // already reported
		}
		if first, twice := index[n]; twice {
			_, was := name(&items[first])
			s.problem(at, 0, fmt.Sprintf("the first is in line %d; give each a name of its own", was.Line), "two %s are named `%s`", what, n)
			continue
		}
		index[n] = i
	}
	return index
}

func (s *resolver) unknown(ref policy.Ref, what string, known []string) {
	if ref.Text == "" || slices.ContainsFunc(known, nameless) {
		return // already reported: it, or a name that it may be of
	}
	help := "there are none in this file"
	if len(known) > 0 {
		help = policy.DidYouMean(ref.Text, known) + "there are: " + strings.Join(known[:min(len(known), 60)], ", ")
	}
	if runes := []rune(help); len(runes) > 300 {
		help = string(runes[:300]) + "…"
	}
	s.problem(ref.At, len(ref.Text), help, "there is no %s `%.60s`", what, ref.Text)
}

// nameless reports whether a name, or a part of its path, could not be read.
func nameless(name string) bool { return slices.Contains(strings.Split(name, "/"), "") }

func (s *resolver) groups() {
	f := s.f
	index := unique(s, "groups", f.Groups, func(g *policy.Group) (string, policy.Place) { return g.Name, g.At })
	const visiting, done = 1, 2
	state := make([]uint8, len(f.Groups))
	var visit func(i int, via policy.Ref)
	expand := func(a *policy.Addresses, group bool) {
		seen := make(map[netip.Prefix]bool)
		for _, given := range a.Given {
			if given.Text == Here {
				if a.Here = true; group {
					s.problem(given.At, len(Here), "use it in a condition of a class", "`here` is the subnets of the node at which a policy is attached, so a group cannot hold it")
				}
				continue
			}
			found, ok := s.addresses(given, index, visit)
			if !ok {
				continue
			}
			for _, p := range found {
				if !seen[p] {
					seen[p] = true
					a.Prefixes = append(a.Prefixes, p)
				}
			}
		}
		a.Index()
	}
	visit = func(i int, via policy.Ref) {
		switch state[i] {
		case visiting:
			s.problem(via.At, len(via.Text), "take one of the names out of the circle", "the group `%s` contains itself", f.Groups[i].Name)
		case 0:
			state[i] = visiting
			expand(&f.Groups[i].Addresses, true)
			state[i] = done
		}
	}
	for i := range f.Groups {
		if g := &f.Groups[i]; g.Name == Here {
			s.problem(g.At, len(Here), "choose another name", "`here` is the word for the subnets of the node at which a policy is attached")
		}
		visit(i, policy.Ref{})
	}
	for t := range s.terms() {
		if t.Addresses != nil {
			expand(t.Addresses, false)
		}
	}
}

// addresses returns the prefixes of an address, a prefix or a group's name.
func (s *resolver) addresses(given policy.Ref, groups map[string]int, visit func(int, policy.Ref)) ([]netip.Prefix, bool) {
	if i, ok := groups[given.Text]; ok {
		visit(i, given)
		return s.f.Groups[i].Addresses.Prefixes, true
	}
	if a, err := netip.ParseAddr(given.Text); err == nil && a.Zone() == "" {
		a = a.Unmap()
		return []netip.Prefix{netip.PrefixFrom(a, a.BitLen())}, true
	}
	p, err := parsePrefix(given.Text)
	if err == nil {
		return []netip.Prefix{p}, true
	}
	if strings.Contains(given.Text, "/") {
		s.problem(given.At, len(given.Text), "", "%s", err)
		return nil, false
	}
	var names []string
	for _, g := range s.f.Groups {
		names = append(names, g.Name)
	}
	s.unknown(given, "address or group", append(names, Here))
	return nil, false
}

func (s *resolver) apps() {
	f := s.f
	for i := range f.Apps {
		if a := &f.Apps[i]; len(a.TCP) == 0 && len(a.UDP) == 0 && !a.Recognised() && s.sound("apps") {
			s.problem(a.At, len(a.Name), "give its `tcp` or `udp` ports, a `server-name`, or what it `looks-like`", "nothing is of the application `%s`", a.Name)
		}
	}
	index := unique(s, "applications", f.Apps, func(a *policy.App) (string, policy.Place) { return a.Name, a.At })
	for _, a := range policy.Catalogue() { // the file's own come first
		if _, own := index[a.Name]; !own {
			index[a.Name] = len(f.Apps)
			f.Apps = append(f.Apps, a)
		}
	}
	var names []string
	for i := range f.Apps {
		f.Apps[i].Number = i
		names = append(names, f.Apps[i].Name)
	}
	for t := range s.terms() {
		for _, given := range t.Given {
			if t.Key == policy.KeyApp {
				if k, ok := index[given.Text]; ok {
					t.Apps = append(t.Apps, &f.Apps[k])
				} else {
					s.unknown(given, "application", names)
				}
				continue
			}
			if iface := s.interfaces[given.Text]; iface != nil {
				t.Ranges = append(t.Ranges, policy.One(uint32(iface.Number)))
			} else {
				s.unknown(given, "interface", s.paths)
			}
		}
	}
}

// conditions yields every condition of every class.
func (s *resolver) conditions() func(yield func(*policy.Condition) bool) {
	return func(yield func(*policy.Condition) bool) {
		for i := range s.f.Classes {
			for _, list := range [][]policy.Condition{s.f.Classes[i].Match, s.f.Classes[i].Except} {
				for j := range list {
					if !yield(&list[j]) {
						return
					}
				}
			}
		}
	}
}

// terms yields every term of every condition.
func (s *resolver) terms() func(yield func(*policy.Term) bool) {
	return func(yield func(*policy.Term) bool) {
		for c := range s.conditions() {
			for i := range c.Terms {
				if !yield(&c.Terms[i]) {
					return
				}
			}
		}
	}
}

func (s *resolver) namedTimes() {
	s.times = unique(s, "times", s.doc.times, func(t *namedTime) (string, policy.Place) { return t.Name, t.At })
	for i := range s.doc.times {
		t := &s.doc.times[i]
		if t.Days == [7]bool{} {
			t.Days = [7]bool{true, true, true, true, true, true, true}
		}
		t.Zone = time.UTC
		if t.zone.Text != "" {
			zone, err := s.zone(t.zone.Text)
			if err != nil || t.zone.Text == "Local" {
				s.problem(t.zone.At, len(t.zone.Text), "write a name of the time zone database, such as Europe/Oslo", "there is no time zone %q", t.zone.Text)
			} else {
				t.Zone = zone
			}
		}
		s.f.Times = append(s.f.Times, t.Span)
	}
}

func (s *resolver) classes() {
	f := s.f
	s.classNames = unique(s, "classes", f.Classes, func(c *policy.Class) (string, policy.Place) { return c.Name, c.PlaceOf("name") })
	for i := range f.Classes {
		c := &f.Classes[i]
		if c.Name == policy.Rest {
			s.problem(c.PlaceOf("name"), len(policy.Rest), "choose another name", "`rest` is the default class: it takes what no class matches, and cannot be defined")
		}
		if has(c, "match") && len(c.Match) == 0 {
			s.problem(c.PlaceOf("match"), 0, "give it at least one condition", "the class `%s` matches nothing", c.Name)
		}
	}
	for c := range s.conditions() {
		slices.SortStableFunc(c.Terms, func(a, b policy.Term) int { return int(a.Key) - int(b.Key) })
		if len(c.Keys()) == 0 && c.At != (policy.Place{}) {
			s.problem(c.At, 0, "give it at least one key; what no class matches is the class `rest` anyway", "an empty condition would match everything")
		}
	}
}

func (s *resolver) attachments() {
	type spot struct {
		at        *policy.Interface
		direction policy.Direction
	}
	type placement struct {
		line    *attachLine
		policy  *policy.Policy
		pattern bool
	}
	taken := make(map[spot]placement)
	var order []spot
	for i := range s.doc.attach {
		line := &s.doc.attach[i]
		var p *policy.Policy
		if k, ok := s.policies[line.policy.Text]; ok {
			p = &s.f.Policies[k]
		} else {
			s.unknown(line.policy, "policy", s.policyNames())
		}
		clashes := 0
		for _, ref := range line.at {
			ifaces, pattern := s.matching(ref.Ref)
			for _, iface := range ifaces {
				here := spot{iface, ref.direction}
				if iface.Own && !strings.Contains(ref.Text, "/") { // what comes in to the node leaves by the interface that leads to it
					here.direction = 1 - ref.direction
				}
				first, twice := taken[here]
				switch {
				case twice && first.pattern != pattern: // an exact name beats a pattern
					if !pattern {
						taken[here] = placement{line, p, pattern}
					}
					continue
				case twice:
					if clashes++; clashes == 1 {
						s.problem(ref.At, len(ref.Text), fmt.Sprintf("line %d attaches `%s` there; there is one policy at an interface in a direction", first.line.At.Line, first.line.policy.Text),
							"two policies at %s %s", iface.Path(), ref.direction)
					}
					continue
				}
				taken[here] = placement{line, p, pattern}
				order = append(order, here)
			}
		}
	}
	slices.SortStableFunc(order, func(a, b spot) int {
		x, y := taken[a].line.At, taken[b].line.At
		return cmp.Or(cmp.Compare(x.File, y.File), cmp.Compare(x.Line, y.Line), cmp.Compare(x.Column, y.Column))
	})
	all := 0
	for _, here := range order {
		p := taken[here]
		if p.policy == nil {
			continue
		}
		s.f.Attach = append(s.f.Attach, policy.Attachment{Source: p.line.Source, Policy: p.policy, Interface: here.at, Direction: here.direction})
		if all += s.extents[p.policy].entries; all > MaxAttached {
			s.problem(p.line.At, 0, "attach smaller policies, or at fewer places", "with this, the attached policies come to %d entries; the most are %d", all, MaxAttached)
			return
		}
	}
	for i := range s.f.Attach {
		a := &s.f.Attach[i]
		a.Interface.Attached[a.Direction] = a
	}
	if s.sound("network", "policies", "attach") {
		s.promises()
	}
}

// matching returns the interfaces of a name or a pattern, in which `*` is any part
// of a node's or an interface's name.
func (s *resolver) matching(ref policy.Ref) (ifaces []*policy.Interface, pattern bool) {
	if !strings.Contains(ref.Text, "*") {
		if node := s.nodes[ref.Text]; node != nil { // what is for the node itself, or comes from it
			if iface := s.interfaces[ref.Text+"/"+policy.Self]; iface != nil && iface.Own {
				return []*policy.Interface{iface}, false
			}
			if s.sound("network") {
				s.problem(ref.At, len(ref.Text), "give one of its interfaces an `address`, or name an interface as node/interface", "the node `%s` has no address: nothing is for the node itself", ref.Text)
			}
			return nil, false
		}
		if iface := s.interfaces[ref.Text]; iface != nil {
			return []*policy.Interface{iface}, false
		}
		s.unknown(ref, "interface", s.paths)
		return nil, false
	}
	node, name, _ := strings.Cut(ref.Text, "/")
	for _, path := range s.paths {
		n, i, _ := strings.Cut(path, "/")
		if matches(node, n) && matches(name, i) && i != policy.Self {
			ifaces = append(ifaces, s.interfaces[path])
		}
	}
	if len(ifaces) == 0 && s.sound("network") {
		s.problem(ref.At, len(ref.Text), "`*` stands for any letters in the name of a node or an interface, as in */wan", "no interface matches `%.60s`", ref.Text)
	}
	return ifaces, true
}

// matches reports whether a word is of a pattern, in which `*` is any letters.
func matches(pattern, word string) bool {
	parts := strings.Split(pattern, "*")
	if len(parts) == 1 {
		return pattern == word
	}
	first, last := parts[0], parts[len(parts)-1]
	if len(word) < len(first)+len(last) || !strings.HasPrefix(word, first) || !strings.HasSuffix(word, last) {
		return false
	}
	word = word[len(first) : len(word)-len(last)]
	for _, part := range parts[1 : len(parts)-1] {
		at := strings.Index(word, part)
		if at < 0 {
			return false
		}
		word = word[at+len(part):]
	}
	return true
}

// promises checks that every attached policy can be kept. What several interfaces
// have in common is said once.
func (s *resolver) promises() {
	type found struct {
		plan.Problem
		where string
		more  int
	}
	var all []*found
	known := make(map[policy.Place]*found)
	for i := range s.f.Attach {
		p := plan.Attached(&s.f.Attach[i])
		for _, q := range p.Problems {
			if first := known[q.At]; first != nil {
				if first.where != p.Where() {
					first.more++
				}
				continue
			}
			known[q.At] = &found{Problem: q, where: p.Where()}
			all = append(all, known[q.At])
		}
		if len(s.problems) > maxProblems {
			return
		}
	}
	for _, q := range all {
		where := " at " + q.where
		if q.more > 0 {
			where += fmt.Sprintf(", and so at %d more", q.more)
		}
		s.problem(q.At, 0, q.Help, "%s%s", q.Text, where)
	}
}
