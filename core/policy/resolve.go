package policy

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"imbrel/core/packet"
	"imbrel/core/unit"
)

// Read turns a document into a validated File; zone looks up a time zone. The
// error is a Problems with everything wrong with it.
func Read(doc Node, zone func(string) (*time.Location, error)) (*File, error) {
	r := &reader{}
	f, _ := aFile.read(r, doc)
	s := &resolver{reader: r, f: &f, zone: zone}
	s.resolve()
	if len(r.problems) > 0 {
		slices.SortStableFunc(r.problems, func(a, b Problem) int {
			return cmp.Or(cmp.Compare(a.Place.Line, b.Place.Line), cmp.Compare(a.Place.Column, b.Place.Column))
		})
		if len(r.problems) > mostProblems {
			r.problems = append(r.problems[:mostProblems], Problem{Place: r.problems[mostProblems].Place, Text: "and more problems; mend these first"})
		}
		return nil, r.problems
	}
	return &f, nil
}

// A resolver looks up the names in a file and checks what spans several keys.
type resolver struct {
	*reader
	f          *File
	policies   map[string]int
	interfaces map[string]*Interface
	paths      []string // of all interfaces
	zone       func(string) (*time.Location, error)
	extents    map[*Policy]*extent
	tooMuch    bool // entries within entries: it was said
}

func (s *resolver) resolve() {
	s.network()
	s.groups()
	s.apps()
	s.times()
	unique(s, "maps", s.f.Maps, func(m *Map) (string, Place) { return m.Name, m.At })
	s.classes()
	s.treat()
	s.attachments()
	s.rehearsals()
}

// unique reports names that stand twice and returns the index by name.
func unique[T any](s *resolver, what string, items []T, name func(*T) (string, Place)) map[string]int {
	index := make(map[string]int, len(items))
	for i := range items {
		n, at := name(&items[i])
		if n == "" {
			continue // already reported
		}
		if first, twice := index[n]; twice {
			_, was := name(&items[first])
			s.problem(at, 0, fmt.Sprintf("the first stands in line %d; give each a name of its own", was.Line), "two %s are named `%s`", what, n)
			continue
		}
		index[n] = i
	}
	return index
}

func (s *resolver) unknown(ref Ref, what string, known []string) {
	if ref.Text == "" {
		return // already reported
	}
	help := "there are none in this file"
	if len(known) > 0 {
		help = didYouMean(ref.Text, known) + "there are: " + strings.Join(known, ", ")
	}
	if runes := []rune(help); len(runes) > 300 {
		help = string(runes[:300]) + "…"
	}
	s.problem(ref.At, len(ref.Text), help, "there is no %s `%.60s`", what, ref.Text)
}

func (s *resolver) groups() {
	f := s.f
	index := unique(s, "groups", f.Groups, func(g *Group) (string, Place) { return g.Name, g.At })
	const visiting, done = 1, 2
	state := make([]uint8, len(f.Groups))
	var visit func(i int, via Ref)
	expand := func(a *Addresses) {
		seen := make(map[netip.Prefix]bool)
		for _, given := range a.Given {
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
	}
	visit = func(i int, via Ref) {
		switch state[i] {
		case visiting:
			s.problem(via.At, len(via.Text), "take one of the names out of the circle", "the group `%s` contains itself", f.Groups[i].Name)
		case 0:
			state[i] = visiting
			expand(&f.Groups[i].Addresses)
			state[i] = done
		}
	}
	for i := range f.Groups {
		visit(i, Ref{})
	}
	for c := range f.conditions() {
		for _, a := range []*Addresses{c.From, c.To} {
			if a != nil {
				expand(a)
			}
		}
	}
}

// addresses returns the prefixes of an address, a prefix or a group's name.
func (s *resolver) addresses(given Ref, groups map[string]int, visit func(int, Ref)) ([]netip.Prefix, bool) {
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
	s.unknown(given, "address or group", names)
	return nil, false
}

func (s *resolver) apps() {
	f := s.f
	for i := range f.Apps {
		if a := &f.Apps[i]; len(a.TCP) == 0 && len(a.UDP) == 0 && !a.Recognised() {
			s.problem(a.At, len(a.Name), "give its `tcp` or `udp` ports, a `server-name`, or what it `looks-like`", "the application `%s` looks like nothing", a.Name)
		}
	}
	index := unique(s, "applications", f.Apps, func(a *App) (string, Place) { return a.Name, a.At })
	for _, a := range Catalogue() { // the file's own come first
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
	for c := range f.conditions() {
		for _, a := range c.App {
			if k, ok := index[a.Text]; ok {
				c.Apps = append(c.Apps, &f.Apps[k])
			} else {
				s.unknown(a, "application", names)
			}
		}
		for _, in := range c.InName {
			if face := s.interfaces[in.Text]; face != nil {
				c.In = append(c.In, face)
			} else {
				s.unknown(in, "interface", s.paths)
			}
		}
	}
}

// conditions yields every condition of every class.
func (f *File) conditions() func(yield func(*Condition) bool) {
	return func(yield func(*Condition) bool) {
		for i := range f.Classes {
			for _, list := range [][]Condition{f.Classes[i].Match, f.Classes[i].Except} {
				for j := range list {
					if !yield(&list[j]) {
						return
					}
				}
			}
		}
	}
}

func (s *resolver) times() {
	unique(s, "times", s.f.Times, func(t *Span) (string, Place) { return t.Name, t.At })
	for i := range s.f.Times {
		t := &s.f.Times[i]
		if t.Days == [7]bool{} {
			t.Days = [7]bool{true, true, true, true, true, true, true}
		}
		if t.From == t.To {
			s.problem(t.At, len(t.Name), "for the whole day write from \"00:00\" to \"24:00\"", "the time `%s` begins when it ends", t.Name)
		}
		t.Zone = time.UTC
		if t.zone.Text == "" {
			continue
		}
		zone, err := s.zone(t.zone.Text)
		if err != nil || t.zone.Text == "Local" {
			s.problem(t.zone.At, len(t.zone.Text), "write a name of the time zone database, such as Europe/Oslo", "there is no time zone %q", t.zone.Text)
			continue
		}
		t.Zone = zone
	}
}

// Holds reports whether a moment is within the span.
func (t *Span) Holds(at time.Time) bool {
	at = at.In(t.Zone)
	minute, day := at.Hour()*60+at.Minute(), at.Weekday()
	if t.From < t.To {
		return t.Days[day] && minute >= t.From && minute < t.To
	}
	// Over midnight: the late part belongs to its own day, the early to the day before.
	return t.Days[day] && minute >= t.From || t.Days[(day+6)%7] && minute < t.To
}

func (s *resolver) classes() {
	f := s.f
	f.classes = unique(s, "classes", f.Classes, func(c *Class) (string, Place) { return c.Name, c.PlaceOf("name") })
	for i := range f.Classes {
		c := &f.Classes[i]
		if c.Name == Rest {
			s.problem(c.PlaceOf("name"), len(Rest), "choose another name", "`rest` is the default class: it takes what no class matches, and cannot be defined")
		}
		if c.Has("match") && len(c.Match) == 0 {
			s.problem(c.PlaceOf("match"), 0, "give it at least one condition", "the class `%s` matches nothing", c.Name)
		}
	}
	for c := range f.conditions() {
		if len(c.keys) == 0 && !c.At.isZero() {
			s.problem(c.At, 0, "give it at least one key; what no class matches is the class `rest` anyway", "an empty condition would match everything")
		}
	}
}

func (p Place) isZero() bool { return p == Place{} }

func (s *resolver) rehearsals() {
	f := s.f
	unique(s, "rehearsals", f.Rehearsals, func(h *Rehearsal) (string, Place) { return h.Name, h.PlaceOf("name") })
	for i := range f.Rehearsals {
		h := &f.Rehearsals[i]
		names := unique(s, "traffics", h.Traffic, func(t *Traffic) (string, Place) { return t.Name, t.PlaceOf("name") })
		if h.Has("traffic") && len(h.Traffic) == 0 {
			s.problem(h.PlaceOf("traffic"), 0, "give it some", "the rehearsal `%s` has no traffic", h.Name)
		}
		var subjects []string
		for j := range h.Traffic {
			s.traffic(h, &h.Traffic[j])
			subjects = append(subjects, h.Traffic[j].Name)
		}
		subjects = append(subjects, Rest)
		for j := range f.Classes {
			subjects = append(subjects, f.Classes[j].Name)
		}
		for j := range h.Expect {
			e := &h.Expect[j]
			if e.Operator == "" {
				continue // already reported
			}
			_, isTraffic := names[e.Subject]
			_, isClass := f.classes[e.Subject]
			if !isTraffic && !isClass && e.Subject != Rest {
				s.unknown(Ref{e.Subject, e.At}, "class or traffic", subjects)
			}
			if e.WhereName == "" {
				continue
			}
			if e.Where = s.interfaces[e.WhereName]; e.Where == nil {
				s.unknown(Ref{e.WhereName, e.At}, "interface", s.paths)
			}
			if isTraffic && !isClass {
				s.problem(e.At, len(e.Text), "name the class instead", "an interface counts by class, so `%s` cannot be told apart there", e.Subject)
			}
		}
	}
}

func (s *resolver) traffic(h *Rehearsal, t *Traffic) {
	kinds := 0
	for _, k := range []string{"calls", "rate", "tcp", "capture"} {
		if t.Has(k) {
			kinds++
		}
	}
	if kinds != 1 {
		s.problem(t.At, 0, "give it one of `calls`, `rate`, `tcp` or `capture`", "the traffic `%s` is of %d kinds", t.Name, kinds)
		return
	}
	needs := func(kind string, keys ...string) {
		for _, k := range keys {
			if !t.Has(k) {
				s.problem(t.PlaceOf(kind), 0, "add it to `"+t.Name+"`", "`%s` needs the key `%s` beside it", kind, k)
			}
		}
	}
	only := func(kind string, keys ...string) {
		for _, k := range t.keys {
			if !slices.Contains(keys, k.key) && !slices.Contains([]string{"name", "starts", "lasts", kind}, k.key) {
				s.problem(k.place, 0, "remove it; `"+kind+"` goes with "+strings.Join(keys, ", ")+", starts, lasts", "`%s` means nothing to `%s`", k.key, kind)
			}
		}
	}
	if t.Starts >= h.Lasts && h.Lasts > 0 {
		s.problem(t.PlaceOf("starts"), 0, "start it earlier, or let the rehearsal last longer", "the traffic `%s` starts when the rehearsal is over", t.Name)
	}
	switch {
	case t.Has("calls"):
		needs("calls", "codec", "between")
		only("calls", "codec", "between", "playout", "dscp")
		if !t.Has("playout") {
			t.Playout = DefaultPlayout
		}
		if n := len(t.Between); n != 2 && n != 0 {
			s.problem(t.PlaceOf("between"), 0, "give the two ends of the calls", "calls are between two addresses, not %d", n)
		} else if n == 2 {
			t.From, t.To = t.Between[0], t.Between[1]
		}
	case t.Has("rate"):
		needs("rate", "packet", "from", "to")
		only("rate", "packet", "arrivals", "from", "to", "protocol", "from-port", "to-port", "dscp")
		if !t.Has("protocol") {
			t.Protocol = packet.UDP
		}
		s.packetLength(t)
	case t.Has("tcp"):
		needs("tcp", "from", "to")
		only("tcp", "from", "to", "from-port", "to-port", "dscp")
		t.Protocol = packet.TCP
	case t.Has("capture"):
		needs("capture", "enters")
		only("capture", "enters")
		if t.Enters = s.interfaces[t.EntersName.Text]; t.Enters == nil {
			s.unknown(t.EntersName, "interface", s.paths)
		}
		return
	}
	s.ends(t)
}

// packetLength checks that a stream's packets hold their own headers.
func (s *resolver) packetLength(t *Traffic) {
	if !t.Has("packet") || t.Packet == 0 {
		return
	}
	least := unit.Size(20)
	if t.From.Is6() {
		least = 40
	}
	switch t.Protocol {
	case packet.UDP:
		least += 8
	case packet.TCP:
		least += 20
	}
	if t.Packet < least || t.Packet > 65535 {
		s.problem(t.PlaceOf("packet"), 0, fmt.Sprintf("give a length from %d to 65535 bytes", least), "an IP packet of %d bytes cannot be", t.Packet)
	}
}

// ends checks that the two addresses are behind interfaces of the network.
func (s *resolver) ends(t *Traffic) {
	if !t.From.IsValid() || !t.To.IsValid() {
		return // already reported
	}
	if t.From.Is4() != t.To.Is4() {
		s.problem(t.At, 0, "use two addresses of one kind", "%s and %s are of different IP versions", t.From, t.To)
		return
	}
	for _, a := range []netip.Addr{t.From, t.To} {
		if s.f.InterfaceOf(a) == nil {
			s.problem(t.At, 0, "add its subnet to an interface's `subnets`", "the address %s is in no subnet of the network", a)
		}
	}
}

// InterfaceOf returns the interface behind which an address is, by the longest
// prefix of all subnets, or nil. Package route does it faster.
func (f *File) InterfaceOf(a netip.Addr) *Interface {
	var best *Interface
	length := -1
	for i := range f.Network.Nodes {
		for j := range f.Network.Nodes[i].Interfaces {
			face := &f.Network.Nodes[i].Interfaces[j]
			for _, p := range face.Subnets {
				if p.Bits() > length && p.Contains(a) {
					best, length = face, p.Bits()
				}
			}
		}
	}
	return best
}

// InterfaceName returns the path of the interface of a number, from 1.
func (f *File) InterfaceName(number int32) string {
	for i := range f.Network.Nodes {
		for k := range f.Network.Nodes[i].Interfaces {
			if face := &f.Network.Nodes[i].Interfaces[k]; face.Number == int(number) {
				return face.Path()
			}
		}
	}
	return fmt.Sprint(number)
}

// Attached returns the policy attached to an interface in a direction, or nil.
func (f *File) Attached(at *Interface, d Direction) *Policy {
	for i := range f.Attach {
		if a := &f.Attach[i]; a.Interface == at && a.Direction == d {
			return a.Policy
		}
	}
	return nil
}

// ClassNames returns the names of all classes in the order of the file, the
// rest last.
func (f *File) ClassNames() []string {
	names := make([]string, 0, len(f.Classes)+1)
	for i := range f.Classes {
		names = append(names, f.Classes[i].Name)
	}
	return append(names, Rest)
}
