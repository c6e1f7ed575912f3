package policy

import (
	"imbrel.example/imbrel/core/codepoint"
)

// Rest is the name of the default class: it takes what no class matches.
const Rest = "rest"

// A File is a whole policy file. Package language makes it from a document and
// validates it; from then on nothing changes it.
type File struct {
	Source
	Version    int
	Title      string
	Groups     []Group
	Apps       []App // the file's own, then those of the catalogue
	Maps       []MarkTable
	Times      []Span
	Classes    []Class
	Policies   []Policy
	Attach     []Attachment
	Network    Network
	Devices    []Device
	Loads      []Load
	Rehearsals []Rehearsal
}

// A Device says how the device is reached that is a node of the network.
type Device struct {
	Source
	Name    string // of the node
	Address string // HOST:PORT
	User    string
	Key     string // the file of a private key, relative to the policy file
	Answers string // HOST:PORT of an `imbrel answer` at the node; "": not given
	Profile string // of its limits: of the program, or a file relative to the policy file; "": not given
	HostKey string // the fingerprint of the device's key, as SHA256:…; "": not given
}

// AnswerPort is the port at which `imbrel answer` listens when none is given (RFC 8762 §3).
const AnswerPort = "862"

// DevicePort is the port at which devices are managed when none is given (RFC 6242 §6).
const DevicePort = "830"

// A Group is a named set of addresses.
type Group struct {
	Source
	Name      string
	Addresses Addresses
}

// A MarkTable turns one DSCP into another; those it does not name stay.
type MarkTable struct {
	Source
	Name string
	To   [codepoint.MaxDSCP + 1]codepoint.DSCP
}

// A Class is a predicate on packets: any of Match holds and none of Except.
type Class struct {
	Source
	Name   string
	Match  []Condition
	Except []Condition
}

// Direction is the direction in which packets cross an interface, seen from its
// node.
type Direction uint8

// In is towards the node, Out away from it.
const (
	In Direction = iota
	Out
)

func (d Direction) String() string { return [...]string{"in", "out"}[d] }

// An Attachment puts a policy on one interface in one direction. An entry of the
// file that names several interfaces, or a pattern of them, is as many
// Attachments, all with the place of that entry.
type Attachment struct {
	Source
	Policy    *Policy
	Interface *Interface
	Direction Direction
}

// EntryPaths returns the names of all entries within others, each with the classes
// around it, "sales/voice", and the rest of each such level.
func (f *File) EntryPaths() []string {
	var paths []string
	known := make(map[string]bool)
	add := func(path string) {
		if !known[path] {
			known[path] = true
			paths = append(paths, path)
		}
	}
	var within func(around string, entries []Entry, depth int)
	within = func(around string, entries []Entry, depth int) {
		for i := range entries {
			path := entries[i].ClassName.Text
			if around != "" {
				path = around + "/" + path
				add(path)
			}
			if inner := entries[i].Inner(); len(inner) > 0 && depth < maxDepth && len(paths) < maxPaths {
				within(path, inner, depth+1)
				add(path + "/" + Rest)
			}
		}
	}
	for i := range f.Policies {
		within("", f.Policies[i].Treat, 0)
	}
	return paths
}

// maxDepth and maxPaths bound the entries within one another, where the file is not
// validated yet.
const (
	maxDepth = 32
	maxPaths = 100_000
)
