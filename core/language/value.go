package language

import "imbrel.example/imbrel/core/policy"

// A Kind is the kind of a document value.
type Kind uint8

// The kinds of values a document has.
const (
	Null Kind = iota // nothing is written there
	Scalar
	List
	Keyed
)

func (k Kind) String() string {
	return [...]string{"nothing", "a single value", "a list", "a set of keys"}[k]
}

// A Value is one part of a document, whatever notation it was written in. Text
// is the value as written; Items are a list's elements or the values of keys, and
// Keys those keys.
type Value struct {
	Kind  Kind
	At    policy.Place
	Text  string
	Keys  []Value
	Items []Value
}
