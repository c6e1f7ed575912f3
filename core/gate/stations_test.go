package gate

import (
	"encoding/binary"
	"testing"
	"time"

	"imbrel.example/imbrel/core/policy"
)

// A gate of three ports learns where stations are from their frames, never from a group address, and keeps a bounded number of them.
func TestStations(t *testing.T) {
	node := &policy.Node{Name: "n"}
	for i, name := range []string{"a", "b", "c"} {
		node.Interfaces = append(node.Interfaces, &policy.Interface{Name: name, Node: node, Number: i, Rate: 1_000_000_000})
	}
	g, err := New(&policy.File{Network: policy.Network{Nodes: []policy.Node{*node}}}, node, node.Interfaces, 0, Options{})
	if err != nil {
		t.Fatal(err)
	}
	left := map[int]int{}
	send := func(port int, _ []byte) { left[port]++ }
	at := time.Duration(0)
	take := func(port int, to, from uint64) {
		b := make([]byte, 64)
		binary.BigEndian.PutUint64(b[6:], from<<16)
		var dst [8]byte
		binary.BigEndian.PutUint64(dst[:], to<<16)
		copy(b, dst[:6])
		b[12], b[13] = 8, 6 // ARP, and there is no policy
		clear(left)
		g.Take(at, port, b, send)
	}
	const station, group = 0x020000000001, 0x010000000001
	take(0, 0xffffffffffff, station)
	if take(1, station, station+1); left[0] != 1 || len(left) != 1 {
		t.Errorf("to a known station: %v", left)
	}
	take(0, 0xffffffffffff, group)
	if take(1, group, station+1); left[0] != 1 || left[2] != 1 {
		t.Errorf("to a group: %v", left)
	}
	stations := g.Lanes[0].stations.at
	if _, known := stations[[6]byte{1, 0, 0, 0, 0, 1}]; known {
		t.Error("a group address was learned")
	}
	for i := range uint64(maxStations + 100) {
		take(0, 0xffffffffffff, 0x020000010000+i)
	}
	if full := g.Counts().StationsFull; len(stations) != maxStations || full != 102 { // two stations were there before
		t.Errorf("%d stations are kept, and of %d frames the sender is not", len(stations), full)
	}
	// Who moved is found where he sends from; who says nothing for long is looked for everywhere, and there is room again.
	at = time.Minute
	take(2, 0xffffffffffff, station)
	if take(1, station, station+1); left[2] != 1 || len(left) != 1 {
		t.Errorf("to a station that moved: %v", left)
	}
	at += stationLasts
	if take(1, station, station+1); left[0] != 1 || left[2] != 1 {
		t.Errorf("to a station that may be gone: %v", left)
	}
	if take(1, 0xffffffffffff, 0x020000ffffff); len(stations) > 2 {
		t.Errorf("%d stations are kept of which nothing was heard", len(stations))
	}
}

// A gate of two ports is a wire: it learns nothing, so that a station that moved is never lost.
func TestTwoPortsAreAWire(t *testing.T) {
	node := &policy.Node{Name: "n"}
	for i, name := range []string{"a", "b"} {
		node.Interfaces = append(node.Interfaces, &policy.Interface{Name: name, Node: node, Number: i, Rate: 1_000_000_000})
	}
	g, err := New(&policy.File{Network: policy.Network{Nodes: []policy.Node{*node}}}, node, node.Interfaces, 0, Options{})
	if err != nil {
		t.Fatal(err)
	}
	for n := range 2 { // the same two stations, in both places
		for range 2 {
			b := make([]byte, 60)
			b[5], b[11], b[12], b[13] = 1, 2, 8, 6
			left := -1
			g.Take(0, n, b, func(port int, _ []byte) { left = port })
			if left != 1-n {
				t.Errorf("a frame from port %d leaves by %d", n, left)
			}
		}
	}
}
