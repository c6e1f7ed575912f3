package simulate_test

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/datapath"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/core/unit"
)

// twoHosts is a file built in Go: one node between two subnets.
func twoHosts(traffic policy.Traffic) *policy.File {
	f := &policy.File{Rehearsals: []policy.Rehearsal{{Name: "r", Lasts: time.Second, Traffic: []policy.Traffic{traffic}}}}
	f.Network.Nodes = []policy.Node{{Name: "n"}}
	n := &f.Network.Nodes[0]
	for i, subnet := range []string{"10.1.0.0/16", "10.2.0.0/16"} {
		n.Interfaces = append(n.Interfaces, &policy.Interface{Name: string(rune('a' + i)), Rate: unit.GbitPerSecond, Framing: packet.FramingEthernet(),
			Subnets: []netip.Prefix{netip.MustParsePrefix(subnet)}, Number: i + 1, Node: n})
	}
	return f
}

// What a file built in Go may lack is an error that says so, never a panic.
func TestFilesBuiltInGo(t *testing.T) {
	a, b := netip.MustParseAddr("10.1.0.1"), netip.MustParseAddr("10.2.0.1")
	g711, _ := codec.ByName("g711")
	for name, c := range map[string]struct {
		traffic policy.Traffic
		want    string
	}{
		"well":                 {policy.Traffic{Name: "t", Kind: policy.Calls, Calls: 1, Codec: g711, From: a, To: b, FromPort: 1, ToPort: 1}, ""},
		"no codec":             {policy.Traffic{Name: "t", Kind: policy.Calls, Calls: 1, From: a, To: b}, "calls need a codec"},
		"no address":           {policy.Traffic{Name: "t", Kind: policy.Calls, Calls: 1, Codec: g711}, "is in no subnet"},
		"an address elsewhere": {policy.Traffic{Name: "t", Rate: 1e6, Packet: 500, From: a, To: netip.MustParseAddr("192.0.2.1")}, "192.0.2.1 is in no subnet"},
		"a rate of 0":          {policy.Traffic{Name: "t", Packet: 500, From: a, To: b}, "needs a rate"},
		"a length of 0":        {policy.Traffic{Name: "t", Rate: 1e6, From: a, To: b}, "a packet length"},
		"nothing to open it":   {policy.Traffic{Name: "t", Kind: policy.Replay, Capture: "c"}, "set Options.Capture"},
		"both at one place":    {policy.Traffic{Name: "t", Rate: 1e6, Packet: 500, From: a, To: a}, "both addresses are at n/a"},
	} {
		f := twoHosts(c.traffic)
		_, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{})
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v; want %q", name, err, c.want)
		}
	}
	// A plain FIFO without ClassOf counts all as one class.
	p := datapath.New(datapath.Config{Rate: unit.MbitPerSecond})
	var pkt packet.Packet
	pkt.Build(make([]byte, packet.HeaderRoom), packet.Flow{From: a, To: b}, 0, 100, 0)
	if p.Enqueue(0, &pkt); p.Counters()[0].OfferedPackets != 1 {
		t.Errorf("counted %+v", p.Counters())
	}
}
