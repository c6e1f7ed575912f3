package simulate_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
)

const nodesFile = `
imbrel: 1
classes:
  - {name: inner, match: [{from: 10.1.0.0/16}, {to: 10.1.0.0/16}]}
  - {name: outer, match: [{from: 203.0.113.7}, {to: 203.0.113.7}]}
policies:
  - {name: marks, treat: [{class: inner, mark: af11}, {class: outer, mark: af21}, {class: rest, mark: cs1}]}
  - {name: guard, treat: [{class: rest, police: {rate: 64kbit/s, burst: 2kB}}]}
attach: [{policy: marks, at: [a/wan out, a/wan in, b/wan in]}, {policy: guard, at: b in}]
network:
  nodes:
    - {name: a, interfaces: [{name: lan, rate: 1Gbit/s, subnets: 10.1.0.0/16}, {name: wan, rate: 10Mbit/s, address: 203.0.113.7NAT}]}
    - {name: b, interfaces: [{name: wan, rate: 10Mbit/s, address: 203.0.113.8}, {name: lan, rate: 1Gbit/s, subnets: 10.2.0.0/16}]}
  links: [{ends: [{at: a/wan}, {at: b/wan}], delay: 5ms}]
rehearsals:
  - name: run
    lasts: 60s
    traffic:
TRAFFIC
EVENTS
`

func nodes(t *testing.T, nat, traffic, events string) *policy.File {
	t.Helper()
	f, err := policyfile.Parse("nodes.yaml", []byte(strings.NewReplacer("NAT", nat, "TRAFFIC", traffic, "EVENTS", events).Replace(nodesFile)), time.LoadLocation)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// What crosses an interface that translates addresses has the address of the interface beyond it, and that of the host on this side, bytes and checksums
// included; its policies see what the file says, and explain says the same.
func TestTranslatedAddresses(t *testing.T) {
	t.Parallel()
	for _, nat := range []string{"", ", nat: before-policy", ", nat: after-policy"} {
		f := nodes(t, nat, `
      - {name: talk, calls: 2, codec: g711, between: [10.1.0.9, 10.2.0.9]}
      - {name: page, requests: 1, answer: 3kB, think: 1s, from: 10.1.0.8, to: 10.2.0.8, to-port: 443}`, "")
		host, seen := netip.MustParseAddr("10.1.0.9"), make(map[string]bool)
		own := netip.MustParseAddr("203.0.113.7")
		r, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1, Tap: func(at *policy.Interface, d policy.Direction, _ time.Duration, p *packet.Packet) error {
			var q packet.Packet
			if err := q.Parse(p.Bytes, len(p.Bytes)+p.Length); err != nil {
				return err
			}
			q.Length = p.Length
			sealed := append([]byte{}, q.Bytes...)
			q.Bytes = sealed
			if q.Seal(); packet.Checksum(q.Network()[:20]) != 0 || string(sealed) != string(p.Bytes) {
				t.Fatalf("%s: %s %s: a checksum is wrong: %x", nat, at.Path(), d, p.Bytes)
			}
			inner := q.Flow.From
			if q.Flow.To.As4()[1] != 2 {
				inner = q.Flow.To
			}
			if inner == host || inner == own {
				seen[fmt.Sprint(at.Path(), " ", d, " ", inner)] = true
			}
			return nil
		}})
		if err != nil {
			t.Fatal(err)
		}
		beyond := own
		if nat == "" {
			beyond = host
		}
		// A frame is looked at as it comes in and as it leaves: by a/wan with the address that it has on the link.
		for _, want := range []string{"a/lan in", "a/lan out"} {
			if !seen[want+" "+host.String()] || seen[want+" "+own.String()] {
				t.Errorf("%s: %s: %v", nat, want, seen)
			}
		}
		for _, want := range []string{"a/wan out", "b/wan in", "b/lan out", "b/lan in", "b/wan out"} {
			if nat != "" && (!seen[want+" "+beyond.String()] || seen[want+" "+host.String()]) && want != "b/lan in" {
				t.Errorf("%s: %s: %v", nat, want, seen)
			}
		}
		for i := range r.Traffic {
			if row := &r.Traffic[i]; row.ReceivedPackets != row.SentPackets || row.SentPackets == 0 {
				t.Errorf("%s: %+v", nat, row)
			}
		}
		class := map[string]string{"": "inner", ", nat: before-policy": "outer", ", nat: after-policy": "inner"}[nat]
		for _, at := range []struct{ node, iface, direction, class string }{{"a", "wan", "out", class}, {"a", "wan", "in", class}, {"b", "wan", "in", map[bool]string{true: "inner", false: "outer"}[nat == ""]}} {
			for i := range r.Interfaces {
				if k := &r.Interfaces[i]; k.Node == at.node && k.Interface == at.iface && k.Direction == at.direction {
					for _, c := range k.Classes {
						if (c.OfferedPackets > 0) != (c.Class == at.class) {
							t.Errorf("%s: %d packets are in %s at %+v", nat, c.OfferedPackets, c.Class, at)
						}
					}
				}
			}
		}
		follower := explain.New(f)
		for _, q := range []packet.Flow{{From: host, To: netip.MustParseAddr("10.2.0.9"), FromPort: 5000, ToPort: 5000, Protocol: packet.UDP}} {
			for _, flow := range []packet.Flow{q, q.Reverse()} {
				a, err := follower.Ask(explain.Question{Flow: flow, Length: 200})
				if err != nil {
					t.Fatal(err)
				}
				for _, h := range a.Hops {
					if h.Node == "a" && h.Interface == "wan" && h.Class != class {
						t.Errorf("%s: explain says %s at a/wan %s, the rehearsal %s", nat, h.Class, h.Direction, class)
					}
				}
			}
		}
	}
}

// A node gives its neighbour up when no hello comes for the dead time: as often as the link is down for longer; and a policy at the node guards it.
func TestHellos(t *testing.T) {
	t.Parallel()
	const hellos = `
      - {name: ospf, hellos: 1s, dead: 4s, between: [a/wan, b/wan]}
      - {name: scan, rate: 2Mbit/s, packet: 100B, from: 10.1.0.5, to: 203.0.113.8, to-port: 22, protocol: tcp}`
	for _, c := range []struct {
		events string
		dead   int64
	}{
		{"", 0},
		{"    events: [{at: 10s, link: a/wan, down: 1900ms}]", 0},
		{"    events: [{at: 10s, link: a/wan, down: 6s}]", 1},
		{"    events: [{at: 10s, link: a/wan, down: 6s, name: x}, {at: 30s, link: a/wan, down: 2s, name: y}, {at: 40s, link: a/wan, down: 5100ms, name: z}]", 2},
		{"    events: [{at: 50s, link: a/wan, down: 20s}]", 1}, // it does not come back
	} {
		f := nodes(t, "", hellos, c.events)
		f.Attach = f.Attach[:3] // without the guard, hellos come through
		f.Network.Nodes[1].Interfaces[2].Attached = [2]*policy.Attachment{}
		r, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1})
		if err != nil {
			t.Fatal(err)
		}
		for _, row := range r.Traffic[:2] {
			if row.Dead == nil || *row.Dead != c.dead {
				t.Errorf("%s: %s %s: %v times, want %d", c.events, row.Name, row.Direction, row.Dead, c.dead)
			}
		}
	}
	f := nodes(t, "", hellos, "")
	r, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1})
	if err != nil {
		t.Fatal(err)
	}
	for _, row := range r.Traffic {
		if row.Name == "scan" && float64(row.RateBps) > 64e3 {
			t.Errorf("the guard lets %d bit/s through", row.RateBps)
		}
	}
}
