package cli_test

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/measure"
)

// A transferCase is an exchange over an idle line: requests and answers over one connection with pauses, or transfers each
// over one of its own.
type transferCase struct {
	requests         bool
	bytes, request   int
	rtt              int  // ms
	delayed          bool // acknowledgements
	window, segments int  // kB that the receiver can hold, and bytes of a packet
}

func transferCases() []transferCase {
	const ask, send, full = true, false, 1500
	return []transferCase{
		{ask, 1, 200, 1, true, 64, full}, {ask, 100, 200, 300, true, 64, full}, {ask, 1448, 200, 20, true, 64, full}, {ask, 1449, 200, 20, true, 64, full},
		{ask, 2896, 200, 50, true, 64, full}, {ask, 4000, 200, 12, true, 64, full}, {ask, 10_000, 200, 100, true, 64, full}, {ask, 14_480, 200, 30, true, 64, full},
		{ask, 15_000, 200, 30, false, 64, full}, {ask, 40_000, 200, 12, true, 64, full}, {ask, 40_000, 200, 100, false, 64, full}, {ask, 100_000, 200, 50, true, 64, full},
		{ask, 300_000, 200, 20, true, 64, full}, {ask, 1_000_000, 200, 20, true, 64, full}, {ask, 40_000, 200, 20, false, 2, 600}, {ask, 40_000, 200, 20, true, 4, full},
		{ask, 100_000, 200, 50, true, 8, full}, {ask, 100_000, 200, 100, true, 16, full}, {ask, 100_000, 200, 1, true, 32, full}, {ask, 3000, 200, 200, true, 4, full},
		{ask, 500, 3000, 5, true, 64, full}, {ask, 500, 20_000, 5, true, 64, full},
		{send, 1, 0, 50, true, 64, full}, {send, 1449, 0, 20, true, 64, full}, {send, 10_000, 0, 20, true, 64, full}, {send, 40_000, 0, 100, true, 64, full},
		{send, 100_000, 0, 10, true, 16, full}, {send, 300_000, 0, 50, false, 64, full}, {send, 1_000_000, 0, 40, true, 64, full}, {send, 120_000, 0, 20, true, 12, full},
	}
}

// transfersFile is all the cases at once, each over a line of its own that is never full.
func transfersFile() string {
	var nodes, links, traffic strings.Builder
	ports := []string{"{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}"}
	for i, c := range transferCases() {
		ports = append(ports, fmt.Sprintf("{name: w%d, rate: 1Gbit/s}", i))
		fmt.Fprintf(&nodes, "    - {name: s%d, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.2.%d.0/24]}, {name: wan, rate: 1Gbit/s}]}\n", i, i)
		fmt.Fprintf(&links, "    - {ends: [{at: hub/w%d}, {at: s%d/wan}], delay: %dus}\n", i, i, 500*c.rtt)
		what := fmt.Sprintf("tcp: 10, bytes: %dB", c.bytes)
		if c.requests {
			what = fmt.Sprintf("requests: 1, request: %dB, answer: %dB, think: 700ms", c.request, c.bytes)
		}
		fmt.Fprintf(&traffic, "      - {name: c%d, %s, packet: %dB, delayed-acks: %v, receive-window: %dkB, from: 10.2.%d.5, to: 10.1.0.%d, to-port: 8445}\n", i, what, c.segments, c.delayed, c.window, i, i+1)
	}
	return "imbrel: 1\nnetwork:\n  nodes:\n    - {name: hub, interfaces: [" + strings.Join(ports, ", ") + "]}\n" + nodes.String() + "  links:\n" + links.String() +
		"rehearsals:\n  - name: r\n    lasts: 40s\n    traffic:\n" + traffic.String()
}

// rounds returns in how many round trips so many bytes are sent: with a first window of ten segments that doubles
// up to the receiver's, and with the receiver's from the start.
func (c *transferCase) rounds(bytes int) (slow, fast int) {
	mss := c.segments - 52
	left := (bytes + mss - 1) / mss
	held := c.window * 1000 / mss
	fast = (left + held - 1) / held
	for window := 10; left > 0; window *= 2 {
		left -= min(window, held)
		slow++
	}
	return slow, fast
}

// completionOf returns how long the transfers of a case took.
func completionOf(t *testing.T, r *measure.Result, n int) *measure.TCPFigures {
	t.Helper()
	for i := range r.Traffic {
		if row := &r.Traffic[i]; row.Name == fmt.Sprint("c", n) && row.TCP != nil {
			return row.TCP
		}
	}
	t.Fatalf("nothing of case %d", n)
	return nil
}

// On an idle line a transfer takes as many round trips as slow start needs, and no more; nothing is sent again, and no
// timer fires.
func TestTransfersFollowSlowStart(t *testing.T) {
	t.Parallel()
	r := result(t, transfersFile())
	for i, c := range transferCases() {
		m := completionOf(t, &r, i)
		if m.Resent+m.Timeouts > 0 {
			t.Errorf("case %d, %+v: %d segments sent again, %d timeouts", i, c, m.Resent, m.Timeouts)
		}
		slow, fast := c.rounds(c.bytes)
		wire := float64(c.bytes+c.request) * 8 / 1e6 * 1.1 // at 1 Gbit/s, in ms
		least, most := float64(fast*c.rtt), float64(slow*c.rtt)
		if c.requests { // the window is what was left of the answer before
			up, _ := c.rounds(c.request)
			most += float64((up - 1) * c.rtt)
		} else { // the handshake, and half a round trip less for the last segment
			least, most = least+float64(c.rtt)/2, most+float64(c.rtt)/2
		}
		if got := m.Completion.P50; got < 0.99*least || got > 1.1*most+wire+1 {
			t.Errorf("case %d, %+v: it takes %.2f ms; slow start takes %.2f to %.2f", i, c, got, least, most)
		}
	}
}

// TestTransfersAreTheKernels: completion is within 10 % or 2 ms of the kernel's, and what is sent again within 0.5
// points.
func TestTransfersAreTheKernels(t *testing.T) {
	if !*kernels {
		t.Skip("give -kernel: it takes minutes and a quiet machine")
	}
	p, _ := proven(t, transfersFile())
	for i, c := range transferCases() {
		a, b := completionOf(t, p.Rehearsed, i), completionOf(t, p.Staged.Result, i)
		t.Logf("| %+v | %.2f | %.2f | %.2f | %.2f | %.2f %% | %.2f %%", c, a.Completion.P50, b.Completion.P50, a.Completion.P95, b.Completion.P95, 100*a.Retransmissions, 100*b.Retransmissions)
		for name, of := range map[string][2]float64{"p50": {a.Completion.P50, b.Completion.P50}, "p95": {a.Completion.P95, b.Completion.P95}} {
			if off := math.Abs(of[0] - of[1]); off > max(2, 0.1*of[1]) {
				t.Errorf("case %d, %+v: %s %.2f ms rehearsed, %.2f measured", i, c, name, of[0], of[1])
			}
		}
		if math.Abs(a.Retransmissions-b.Retransmissions) > 0.005 {
			t.Errorf("case %d, %+v: %.2f %% sent again rehearsed, %.2f %% measured", i, c, 100*a.Retransmissions, 100*b.Retransmissions)
		}
	}
	t.Logf("held up %.0f ms", p.HeldUpMs)
}
