package policy

// A Kind is the kind of a document node.
type Kind uint8

// The kinds of nodes a document has.
const (
	Null Kind = iota // nothing stands there
	Scalar
	List
	Keyed
)

func (k Kind) String() string {
	return [...]string{"nothing", "a single value", "a list", "a set of keys"}[k]
}

// A Node is one part of a document, whatever notation it was written in. Text
// is the value as written; Items are a list's elements or the values of keys, and
// Keys those keys.
type Node struct {
	Kind  Kind
	At    Place
	Text  string
	Keys  []Node
	Items []Node
}
