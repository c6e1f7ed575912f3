package live

import (
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"time"

	"imbrel.example/imbrel/core/gate"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
)

// A Config says what a gate is run with.
type Config struct {
	File   *policy.File                 // at the start
	Load   func() (*policy.File, error) // reads it again, at each reload; nil: it has another way to change
	Node   string
	Ports  []Port
	Take   []string      // interfaces of the machine that are taken though it uses them itself
	For    time.Duration // 0: until it is stopped
	Expect string        // the rehearsal whose expectations are judged
	Seed   uint64
	// PassUnreadable puts frames that are neither IP nor link control into the classes.
	PassUnreadable bool
	Reload         <-chan os.Signal // each asks for the file to be read anew; may be nil
	Log            *slog.Logger     // what happens meanwhile
	Spin           bool             // never sleep: a processor for each direction
	Program        string           // that an upgrade starts; "": there may be none
	MayUpgrade     func() error     // says why there can be no upgrade now; may be nil
	TakesOver      *os.File         // leads to the gate to take over from; nil: from none
	Kept           *gate.Kept       // what was counted before; may be nil
	Keep           func(*gate.Kept) // is given what was counted, each minute and at the end; may be nil
	// Started, when not nil, is told of the gate when it runs; what it asks may be asked until RunGate returns.
	Started func(Running)
	// Writes says that files are written when the gate has ended, with the rights that it began with.
	Writes bool
	// Came and Sent, when not nil, see each frame that comes to a port and leaves by one, from several threads.
	Came, Sent func(port int, at time.Duration, frame []byte)
}

// ErrHandedOver says that another program goes on in the place of a gate.
var ErrHandedOver = errors.New("another program goes on")

// A Failure is a fault of a gate's own, by which it cannot go on.
type Failure struct {
	What  any
	Stack []byte
}

func (f *Failure) Error() string { return fmt.Sprintf("moving frames failed: %v\n%s", f.What, f.Stack) }

// Running is a gate that runs.
type Running interface {
	// Snapshot returns what it has done so far.
	Snapshot() *Report
	// Figures returns a snapshot that holds all waits, not their percentiles alone.
	Figures() *Report
	// Change puts the policies of another file in force.
	Change(*policy.File) error
}

// A Port is an interface of the node and the machine's interface that it is at.
type Port struct{ Interface, Device string }

// A Report is what a gate has done.
type Report struct {
	*measure.Result
	Gate    gate.Counts  `json:"gate"`
	Ports   []PortReport `json:"ports"`
	Waiting int          `json:"waiting"` // frames now
}

// A PortReport counts the frames of an interface of the machine.
type PortReport struct {
	Port     string `json:"port"`
	Device   string `json:"device"`
	Received uint64 `json:"received"`
	Sent     uint64 `json:"sent"`
	Refused  uint64 `json:"refused"` // that the kernel did not take
	Cut      uint64 `json:"cut"`     // longer than is read
	Giants   uint64 `json:"giants"`  // of those refused, longer than the interface sends
	Lost     uint64 `json:"lost"`    // while the interface was gone
	Missed   uint64 `json:"missed"`  // that came faster than the gate read
}

// NodeOf returns the node of a name.
func NodeOf(f *policy.File, name string) (*policy.Node, error) {
	var names []string
	for i := range f.Network.Nodes {
		if n := &f.Network.Nodes[i]; n.Name == name {
			return n, nil
		}
		names = append(names, f.Network.Nodes[i].Name)
	}
	return nil, fmt.Errorf("the file has no node `%s`; %sit has %s", name, policy.DidYouMean(name, names), policy.OrList(names))
}

// InterfaceOf returns the node's interface of a name.
func InterfaceOf(n *policy.Node, name string) (*policy.Interface, error) {
	var names []string
	for _, i := range n.Interfaces {
		if i.Name == name {
			return i, nil
		}
		names = append(names, i.Name)
	}
	return nil, fmt.Errorf("the node `%s` has no interface `%s`; %sit has %s", n.Name, name, policy.DidYouMean(name, names), policy.OrList(names))
}

// Snapshot returns what the gate that has an interface has done so far.
func Snapshot(device string) (*Report, error) { return reportOf(device, "snapshot") }

// Figures asks for a snapshot that holds all waits, not their percentiles alone.
func Figures(device string) (*Report, error) { return reportOf(device, "figures") }

func reportOf(device, what string) (*Report, error) {
	text, err := Ask(device, what)
	if err != nil {
		return nil, err
	}
	var r Report
	if err := json.Unmarshal(text, &r); err != nil {
		return nil, fmt.Errorf("the gate at %s is of another version: %w", device, err)
	}
	return &r, nil
}

// A LineConfig says how a line is measured.
type LineConfig struct {
	Address string
	Key     []byte
	Most    int64 // bit/s, that is sent at most
	Say     func(string)
}
