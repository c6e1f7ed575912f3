package cli_test

import (
	"fmt"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/measure"
)

// narrow is a network of eight ways over a link of 1,400 bytes: bare or through a tunnel of each kind, of nodes that tell that a packet is too large or do not,
// with datagrams that may be fragmented, datagrams that may not, and TCP, of both versions of IP.
func narrow() string {
	var nodes, links, tunnels, traffic strings.Builder
	for n, kind := range []string{"", "mpls", "gre", "ipsec"} {
		for filters := range 2 {
			id := 2*n + filters + 1
			icmp := ""
			if filters == 1 {
				icmp = ", icmp: filtered"
			}
			fmt.Fprintf(&nodes, "    - {name: a%d, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.%d.1.0/24, \"2001:db8:%d:1::/64\"]}, {name: wan, rate: 100Mbit/s, mtu: 1600B}]}\n", id, id, id)
			fmt.Fprintf(&nodes, "    - {name: m%d%s, interfaces: [{name: a, rate: 100Mbit/s, mtu: 1600B}, {name: b, rate: 100Mbit/s, mtu: 1400B}]}\n", id, icmp)
			fmt.Fprintf(&nodes, "    - {name: b%d, interfaces: [{name: wan, rate: 100Mbit/s, mtu: 1600B}, {name: lan, rate: 1Gbit/s, subnets: [10.%d.2.0/24, \"2001:db8:%d:2::/64\"]}]}\n", id, id, id)
			fmt.Fprintf(&links, "    - {ends: [{at: a%d/wan}, {at: m%d/a}], delay: 1ms}\n    - {ends: [{at: m%d/b}, {at: b%d/wan}], delay: 1ms}\n", id, id, id, id)
			if kind != "" {
				ends := ""
				if kind != "mpls" {
					ends = fmt.Sprintf(", from: 192.0.2.%d, to: 192.0.2.%d", 2*id, 2*id+1)
				}
				fmt.Fprintf(&tunnels, "    - {name: t%d, kind: %s, through: [a%d, m%d, b%d]%s}\n", id, kind, id, id, id, ends)
			}
			for version, ends := range []string{fmt.Sprintf("from: 10.%d.1.%%d, to: 10.%d.2.%%d", id, id), fmt.Sprintf("from: \"2001:db8:%d:1::%%d\", to: \"2001:db8:%d:2::%%d\"", id, id)} {
				fmt.Fprintf(&traffic, "      - {name: whole-%d-%d, rate: 480kbit/s, packet: 1500B, arrivals: exact, "+ends+", to-port: 7001}\n", id, version, 1, 1)
				if version == 0 {
					fmt.Fprintf(&traffic, "      - {name: parts-%d, rate: 480kbit/s, packet: 1500B, arrivals: exact, df: false, "+ends+", to-port: 7002}\n", id, 2, 2)
				}
				fmt.Fprintf(&traffic, "      - {name: pages-%d-%d, requests: 1, answer: 20kB, think: 500ms, "+ends+", to-port: 443}\n", id, version, 3, 3)
			}
		}
	}
	return "imbrel: 1\nnetwork:\n  nodes:\n" + nodes.String() + "  links:\n" + links.String() + "  tunnels:\n" + tunnels.String() + "rehearsals:\n  - name: run\n    lasts: 5s\n    traffic:\n" + traffic.String()
}

// proveTooLargeOnce: the kernel's hosts find out what fits a path, fragment and put together, as rehearsed: with every tunnel and both versions of IP,
// with and without reports of routers, and with packets that may be divided or not.
func proveTooLargeOnce(t testing.TB) {
	p, _ := proven(t, narrow())
	measured := make(map[string]*measure.Row)
	for i := range p.Staged.Result.Traffic {
		row := &p.Staged.Result.Traffic[i]
		measured[row.Name+" "+row.Direction] = row
	}
	all, none, some := 0, 0, 0
	for _, want := range p.Rehearsed.Traffic {
		got := measured[want.Name+" "+want.Direction]
		if got == nil || got.SentPackets == 0 {
			t.Errorf("%s %s: nothing was measured", want.Name, want.Direction)
			continue
		}
		if want.OverTCP {
			if want.TCP != nil && (want.TCP.Completed > 0) != (got.TCP.Completed > 0) {
				t.Errorf("%s %s: %d exchanges rehearsed, %d measured", want.Name, want.Direction, want.TCP.Completed, got.TCP.Completed)
			}
			continue
		}
		lost, gone := want.SentPackets-want.ReceivedPackets, got.SentPackets-got.ReceivedPackets
		switch {
		case want.ReceivedPackets == 0:
			none++
		case lost > 0:
			some++
		default:
			all++
		}
		if (want.ReceivedPackets == 0) != (got.ReceivedPackets == 0) || lost-gone > 2 || gone-lost > 2 && want.ReceivedPackets > 0 {
			t.Errorf("%s %s: rehearsed %d of %d arrive, measured %d of %d", want.Name, want.Direction, want.ReceivedPackets, want.SentPackets, got.ReceivedPackets, got.SentPackets)
		}
	}
	t.Logf("of %d traffics all arrives, of %d nothing, of %d all but the first, in both", all, none, some)
	if all < 4 || none < 4 || some < 4 {
		t.Errorf("of %d traffics all arrives, of %d nothing, of %d all but the first", all, none, some)
	}
}
