package simulate_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
)

// pathFile is a path of three nodes, of which the middle one sends packets of MTU at most.
const pathFile = `
imbrel: 1
network:
  nodes:
    - {name: a, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16, "2001:db8:1::/48"]}, {name: out, rate: 10Mbit/s}]}
    - {name: b, FILTER interfaces: [{name: in, rate: 10Mbit/s}, {name: out, rate: 10Mbit/s, mtu: 1400B}]}
    - {name: c, interfaces: [{name: in, rate: 10Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/16, "2001:db8:2::/48"]}]}
  links: [{ends: [{at: a/out}, {at: b/in}], delay: 5ms}, {ends: [{at: b/out}, {at: c/in}], delay: 5ms}]
  TUNNELS
rehearsals:
  - {name: run, lasts: 4s, traffic: [{TRAFFIC, from: FROM, to: TO}]}
`

func pathRun(t *testing.T, tunnel, filter, traffic string, v6 bool, tap func(at *policy.Interface, d policy.Direction, now time.Duration, p *packet.Packet) error) *measure.Result {
	t.Helper()
	from, to := "10.1.0.1", "10.2.0.1"
	if v6 {
		from, to = "2001:db8:1::1", "2001:db8:2::1"
	}
	text := strings.NewReplacer("TUNNELS", tunnel, "FILTER", filter, "TRAFFIC", traffic, "FROM", `"`+from+`"`, "TO", `"`+to+`"`).Replace(pathFile)
	f, err := policyfile.Parse("path.yaml", []byte(text), time.LoadLocation)
	if err != nil {
		t.Fatal(err)
	}
	r, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1, Tap: tap})
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// Three tunnels and none, IPv4 and IPv6, DF or not, told or not: what arrives, in how many pieces, and who is told, is what the standards say.
func TestPacketsTooLarge(t *testing.T) {
	tunnels := map[string]string{"none": "", "mpls": "tunnels: [{name: t, kind: mpls, through: [a, b, c], pop: ultimate}]", "gre": "tunnels: [{name: t, kind: gre, through: [a, b, c], from: 192.0.2.1, to: 192.0.2.2DF}]", "ipsec": "tunnels: [{name: t, kind: ipsec, through: [a, b, c], from: 192.0.2.1, to: 192.0.2.2DF}]"}
	for kind, tunnel := range tunnels {
		for _, v6 := range []bool{false, true} {
			for _, df := range []bool{true, false} {
				for _, clear := range []bool{false, true} {
					for _, filtered := range []bool{false, true} {
						if clear && (kind == "none" || kind == "mpls") {
							continue
						}
						name := fmt.Sprintf("%s, v6 %v, df %v, clear %v, filtered %v", kind, v6, df, clear, filtered)
						of, filter := tunnel, ""
						if of = strings.Replace(of, "DF", "", 1); clear {
							of = strings.Replace(tunnel, "DF", ", df: clear", 1)
						}
						if filtered {
							filter = "icmp: filtered,"
						}
						pieces, most := 0, 0 // at the end of the narrow link
						tap := func(at *policy.Interface, d policy.Direction, _ time.Duration, p *packet.Packet) error {
							if at.Path() == "c/in" && d == policy.In {
								pieces++
								most = max(most, p.Length+4*p.Labels())
							}
							return nil
						}
						traffic := fmt.Sprintf("name: x, rate: 1Mbit/s, packet: 1440B, arrivals: exact, df: %v", df)
						r := pathRun(t, of, filter, traffic, v6, tap)
						row := r.Traffic[0]
						whole := df || v6 // nobody on the way may divide it
						if clear {
							whole = false
						}
						received := row.ReceivedPackets
						switch {
						case most > 1400:
							t.Errorf("%s: a packet of %d bytes crosses a link of 1,400", name, most)
						case !whole && (received != row.SentPackets || pieces <= int(received)):
							t.Errorf("%s: %d of %d arrive, in %d pieces; all should, in more pieces than packets", name, received, row.SentPackets, pieces)
						case whole && filtered && received > 0:
							t.Errorf("%s: %d of %d arrive; nothing should", name, received, row.SentPackets)
						case whole && !filtered && (received == 0 || received == row.SentPackets || float64(received) < 0.95*float64(row.SentPackets) || pieces < 2*int(received)):
							t.Errorf("%s: %d of %d arrive in %d pieces; the first should be lost, the others come in fragments of their host", name, received, row.SentPackets, pieces)
						}
						// TCP: whole segments that fit, or a connection that stands still.
						r = pathRun(t, of, filter, fmt.Sprintf("name: x, tcp: 1, packet: 1440B, df: %v", df), v6, tap)
						goodput := float64(r.Traffic[0].TCP.GoodputBps)
						if black := whole && filtered; black && goodput > 0 || !black && goodput < 5e6 {
							t.Errorf("%s: TCP carries %.0f bit/s", name, goodput)
						}
					}
				}
			}
		}
	}
}

// A tunnel that limits the segments lets connections through a path that tells nobody.
func TestLimitedSegments(t *testing.T) {
	for mss, works := range map[int]bool{1306: true, 1307: false} { // 1400: 20 of the outer header, 32 of ESP, 1346 and 2 of its trailer, of which 40 are of IP and TCP
		most := 0
		r := pathRun(t, fmt.Sprintf("tunnels: [{name: t, kind: ipsec, through: [a, b, c], from: 192.0.2.1, to: 192.0.2.2, mss: %dB}]", mss), "icmp: filtered,", "name: x, tcp: 1, packet: 1500B", false,
			func(at *policy.Interface, d policy.Direction, _ time.Duration, p *packet.Packet) error {
				if at.Path() == "a/lan" && d == policy.In {
					most = max(most, p.Length)
				}
				return nil
			})
		if goodput := r.Traffic[0].TCP.GoodputBps; (goodput > 0) != works || most != mss+40 {
			t.Errorf("mss %d: %v bit/s, segments of %d bytes", mss, goodput, most)
		}
	}
}

// The loss of one fragment loses the packet: with a chance p of each, 1-(1-p)² of two.
func TestLostFragments(t *testing.T) {
	r := pathRun(t, "", "", "name: x, rate: 5Mbit/s, packet: 1480B, arrivals: exact, df: false", false, nil)
	if r.Traffic[0].ReceivedPackets != r.Traffic[0].SentPackets || len(r.Oversize) != 1 || r.Oversize[0].Fragmented != uint64(r.Traffic[0].SentPackets) {
		t.Errorf("%+v, %+v", r.Traffic[0], r.Oversize)
	}
	text := strings.NewReplacer("TUNNELS", "", "FILTER", "", "TRAFFIC", "name: x, rate: 5Mbit/s, packet: 1480B, df: false", "FROM", "10.1.0.1", "TO", "10.2.0.1", "{at: c/in}], delay: 5ms", "{at: c/in}], delay: 5ms, loss: 10%").Replace(pathFile)
	f, err := policyfile.Parse("path.yaml", []byte(text), time.LoadLocation)
	if err != nil {
		t.Fatal(err)
	}
	r, err = simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1})
	if err != nil {
		t.Fatal(err)
	}
	if loss := r.Traffic[0].Loss; loss < 0.17 || loss > 0.21 { // 0.19 ± 0.01
		t.Errorf("with a tenth of the fragments lost, %.3f of the packets are", loss)
	}
}
