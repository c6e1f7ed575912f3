package gate_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/gate"
	"imbrel.example/imbrel/core/packet"
)

// A gate that takes over from another has its counters and the frames that waited: together they send what came, once, in its order.
func TestTakeOver(t *testing.T) {
	f := read(t, strings.Replace(house, "DROP", "tail", 1))
	node, ifaces := ports(f)
	before, _ := gate.New(f, node, ifaces, 0, gate.Options{})
	var order []byte
	send := func(_ int, b []byte) { order = append(order, b[19]) }
	file := upload(80)
	file.Protocol = packet.TCP
	for n := range 14 {
		b := frame(1, 2, file, 1500)
		b[19] = byte(n)
		before.Take(0, 0, b, send)
	}
	before.Take(0, 1, frame(2, 1, file.Reverse(), 1500), send)
	before.Run(5*time.Millisecond, send)
	was := before.Observe(time.Second, false)
	text, err := json.Marshal(was.Kept())
	if err != nil {
		t.Fatal(err)
	}
	var kept gate.Kept
	if err := json.Unmarshal(text, &kept); err != nil {
		t.Fatal(err)
	}
	after, _ := gate.New(f, node, ifaces, 0, gate.Options{})
	if err := after.Restore(&kept, 0); err != nil {
		t.Fatal(err)
	}
	for i, l := range before.Lanes {
		for _, p := range l.Pending() {
			after.Lanes[i].Resume(p, 0, send)
		}
		l.Resume(gate.Pending{From: 7, To: 1}, 0, send)
		l.Resume(gate.Pending{From: i, To: -5}, 0, send)
	}
	if after.Waiting() < 8 || after.Waiting() > before.Waiting() {
		t.Errorf("%d frames waited, and %d are taken over", before.Waiting(), after.Waiting())
	}
	for next := after.Run(0, send); next != gate.Never; {
		next = after.Run(next, send)
	}
	if len(order) != 15 {
		t.Errorf("%d frames of 15 leave", len(order))
	}
	for i, n := range order[len(order)-10:] {
		if int(n) != 4+i {
			t.Fatalf("they leave as %v", order)
		}
	}
	done := after.Observe(time.Second, false).Result(nil, nil)
	for _, i := range done.Interfaces {
		for _, c := range i.Classes {
			if c.OfferedPackets != c.SentPackets+c.Drops.Total() {
				t.Errorf("%s %s: %d offered, %d sent", i.Interface, c.Class, c.OfferedPackets, c.SentPackets)
			}
			if i.Direction == "out" && c.Class == "files" && (c.SentPackets != 14 || c.QueueDelay == nil) {
				t.Errorf("of the files %d are counted as sent", c.SentPackets)
			}
		}
	}
	if c := after.Counts(); c.Taken != 15 || done.DurationS < 1.9 {
		t.Errorf("%+v, %.1f s", c, done.DurationS)
	}
	if err := after.Restore(&gate.Kept{Sides: []gate.KeptSide{{Entries: []gate.KeptEntry{{}}}}}, 0); err == nil {
		t.Error("what is not whole is taken over")
	}
}
