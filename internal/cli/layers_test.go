package cli_test

import (
	"fmt"
	"strings"
	"testing"
)

// Tags on their way through a switch and a router: kept where both links have one,
// new ones of the interface's VLAN (1 when it has none) and priority 0, gone where the
// link has none; a policy sees the frame as it leaves.
func TestTags(t *testing.T) {
	t.Parallel()
	text := strings.NewReplacer(
		"{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}", "{name: lan, rate: 1Gbit/s, framing: ethernet-vlan, subnets: [10.1.0.0/16]}",
		"{name: wan, rate: 100Mbit/s}]\n    - name: east", "{name: wan, rate: 100Mbit/s, FRAMING}]\n    - name: east",
		"SENDS", "100Mbit/s").Replace(pair) + `    traffic:
      - {name: phone, rate: 80kbit/s, packet: 200B, from: 10.1.0.1, to: 10.2.0.1, vlan: 30, pcp: 5}
      - {name: pc, rate: 80kbit/s, packet: 200B, from: 10.1.0.2, to: 10.2.0.1, to-port: 8000}
      - {name: call, calls: 1, codec: g711, between: [10.1.0.3, 10.2.0.3], vlan: 31}
policies:
  - {name: p, treat: [{class: hot}, {class: first}, {class: bulk, mark: {pcp: 2}}, {class: rest}]}
attach: [{policy: p, at: west/wan out}]
`
	text = strings.Replace(text, "classes:\n", "classes:\n  - {name: hot, match: [{pcp: 5, vlan: 30}]}\n  - {name: first, match: [{vlan: 1, from: 10.1.0.2}, {vlan: 77, pcp: 0}]}\n", 1)
	for _, c := range []struct{ framing, want string }{
		{"framing: ethernet-vlan", "hot map[5:%d] first map[0:%d] bulk map[] rest map[0:%d]"},      // a switch
		{"framing: ethernet-vlan, vlan: 77", "hot map[] first map[0:%d] bulk map[] rest map[]"},    // a router: all are in its VLAN, with priority 0
		{"framing: ethernet", "hot map[] first map[] bulk map[] rest map[]"},                       // no tag on the link
		{"framing: ethernet-vlan-vlan", "hot map[5:%d] first map[0:%d] bulk map[] rest map[0:%d]"}, // the outermost counts
	} {
		res := result(t, strings.Replace(text, "FRAMING", c.framing, 1))
		var got []string
		for _, f := range res.Interfaces {
			if f.PolicyAt == "" {
				continue
			}
			for _, k := range f.Classes {
				pcps := make(map[string]string)
				for n := range k.PCPs {
					pcps[n] = "%d"
				}
				got = append(got, fmt.Sprint(k.Class, " ", pcps))
			}
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: %s; want %s", c.framing, strings.Join(got, " "), c.want)
		}
		for _, row := range res.Traffic {
			if row.Loss != 0 {
				t.Errorf("%s: %s %s lost packets", c.framing, row.Name, row.Direction)
			}
		}
	}
	bad := strings.Replace(strings.Replace(text, "FRAMING", "framing: ethernet", 1), "framing: ethernet-vlan, subnets", "subnets", 1)
	if r := imbrel(t, t.TempDir(), bad, nil, "rehearse", "-"); r.status != 2 || !strings.Contains(r.err, "`phone` sends a VLAN tag, and the framing of west/lan, ethernet, has none") {
		t.Errorf("a tag where there can be none: exit %d, %s", r.status, r.err)
	}
}

// Sizes count the labels and outer headers that there really are; the labels of a
// framing are a minimum.
func TestSizesUnderTunnels(t *testing.T) {
	t.Parallel()
	base := strings.ReplaceAll(pair, "SENDS", "100Mbit/s") + `    traffic: [{name: s, rate: 1Mbit/s, packet: 1000B, from: 10.1.0.1, to: 10.2.0.1}]
policies:
  - {name: p, treat: [{class: rest}]}
attach: [{policy: p, at: west/wan out}]
`
	for _, c := range []struct {
		framing, tunnel string
		size            int // of 1000 bytes of IP
	}{
		{"ethernet", "", 1038},
		{"ethernet", "kind: mpls, labels: 2, pop: ultimate", 1046},
		{"ethernet-mpls", "kind: mpls, labels: 2, pop: ultimate", 1046},
		{"ethernet-mpls-mpls", "kind: mpls, labels: 1, pop: ultimate", 1046},
		{"ethernet", "kind: mpls, labels: 2, pop: penultimate", 1042},
		{"ethernet", "kind: gre", 1062},
		{"ethernet", `kind: gre, from: "2001:db8::1", to: "2001:db8::2"`, 1082},
		{"ethernet", "kind: ipsec", 20 + 8 + 8 + 1004 + 16 + 38},
	} {
		text := strings.Replace(base, "{name: wan, rate: 100Mbit/s}]\n    - name: east", "{name: wan, rate: 100Mbit/s, framing: "+c.framing+"}]\n    - name: east", 1)
		if c.tunnel != "" {
			text = strings.Replace(text, "rehearsals:\n", "  tunnels: [{name: t, through: [west, east], "+c.tunnel+"}]\nrehearsals:\n", 1)
		}
		k := at(t, result(t, text), "rest")
		if got := k.SentBps * 10 / 8 / int64(k.SentPackets); int(got) < c.size-2 || int(got) > c.size {
			t.Errorf("%s, %s: %d bytes a packet; want %d", c.framing, c.tunnel, got, c.size)
		}
	}
}
