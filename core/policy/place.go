// Package policy is the model of a policy file: the classes, the treatment of
// each, the interfaces, the network and the rehearsals. Package language makes a
// File of a document; every part of it knows its place there. A File built in Go
// works as well: its fields say what each part is.
package policy

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// A Place is a position in a file. Line and Column count from 1; the zero
// Place is nowhere.
type Place struct {
	File         string
	Line, Column int
}

func (p Place) String() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// A Problem is one thing wrong with a file: where, what, and what could be
// written instead.
type Problem struct {
	Place Place
	Width int    // how many bytes of the line are meant, 0 when unknown
	Text  string // what is wrong
	Help  string // what to do
	Line  string // the line of the file itself, filled in by who has the file
}

// Problems are all the things wrong with a file, in the order of their places.
type Problems []Problem

// Error lists every problem with its place and what to do.
func (ps Problems) Error() string {
	var b strings.Builder
	for i, p := range ps {
		if i > 0 {
			b.WriteByte('\n')
		}
		fmt.Fprintf(&b, "%s: %s", p.Place, p.Text)
		if p.Help != "" {
			fmt.Fprintf(&b, "\n  %s", p.Help)
		}
	}
	return b.String()
}

// Sort puts the problems in the order of their places: the files given first, in their
// order, then the others by name.
func (ps Problems) Sort(files ...string) {
	rank := func(p *Problem) int {
		if i := slices.Index(files, p.Place.File); i >= 0 {
			return i
		}
		return len(files)
	}
	slices.SortStableFunc(ps, func(a, b Problem) int {
		return cmp.Or(rank(&a)-rank(&b), cmp.Compare(a.Place.File, b.Place.File), cmp.Compare(a.Place.Line, b.Place.Line), cmp.Compare(a.Place.Column, b.Place.Column))
	})
}

// A Source is where a part of the model was written. Every part embeds one; the
// zero Source was written nowhere.
type Source struct {
	At   Place
	keys []KeyPlace
}

// A KeyPlace is a key and the place of its value.
type KeyPlace struct {
	Key   string
	Place Place
}

// Begins notes where the part begins. Readers call it.
func (s *Source) Begins(at Place) { s.At = at }

// Written notes that a key was written, and where. Readers call it.
func (s *Source) Written(key string, at Place) { s.keys = append(s.keys, KeyPlace{key, at}) }

// Moved gives the value of a key another place: that of a key within it.
func (s *Source) Moved(key string, at Place) {
	for i := range s.keys {
		if s.keys[i].Key == key {
			s.keys[i].Place = at
		}
	}
}

// Keys returns the keys that were written, in their order.
func (s *Source) Keys() []KeyPlace { return s.keys }

// PlaceOf returns the place of a key's value, or of the part itself when the
// key was not written.
func (s *Source) PlaceOf(key string) Place {
	for _, k := range s.keys {
		if k.Key == key {
			return k.Place
		}
	}
	return s.At
}

// A Ref is a name of something defined elsewhere in the file.
type Ref struct {
	Text string
	At   Place
}
