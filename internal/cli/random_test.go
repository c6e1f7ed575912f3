package cli_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// A house is a random policy file that is sound: nodes in a row, policies at their
// interfaces, and streams and calls that fill some of the links.
type house struct {
	r       *rand.Rand
	nodes   int
	streams []stream
	b       strings.Builder
}

// A stream is a traffic whose packets are all the same.
type stream struct {
	name, from, to, protocol string
	fromPort, toPort, packet int
	dscp                     int
}

const houseClasses = 6

// document draws the file. Its promises are kept small enough for each level, so that
// nearly every file can be kept; what cannot is refused by the program.
func (h *house) document() string {
	r := h.r
	h.nodes = 2 + r.IntN(3)
	fmt.Fprint(&h.b, "imbrel: 1\nmaps: {down: {af41: af42, ef: cs5}}\nclasses:\n")
	for c := range houseClasses {
		fmt.Fprintf(&h.b, "  - {name: c%d, match: [%s%s]%s}\n", c, h.condition(), pick(r, "", ", "+h.condition()), pick(r, "", "", ", except: ["+h.condition()+"]"))
	}
	fmt.Fprint(&h.b, "policies:\n")
	for p := range 3 {
		shape := pick(r, "", ", shape: 95%", ", shape: 60%", ", shape: 2.5Mbit/s")
		fmt.Fprintf(&h.b, "  - {name: p%d%s, treat: [%s]}\n", p, shape, h.level(3, true))
	}
	fmt.Fprint(&h.b, "network:\n  nodes:\n")
	framing := func() string {
		return pick(r, "ethernet", "ip", "ethernet-vlan", "aal5-routed-llc", "{bytes: 30, minimum: 90}")
	}
	for n := range h.nodes {
		fmt.Fprintf(&h.b, "    - {name: n%d, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.%d.0.0/16]}", n, n)
		for _, other := range []int{n - 1, n + 1} {
			if other >= 0 && other < h.nodes {
				fmt.Fprintf(&h.b, ", {name: to%d, rate: %s, framing: %s}", other, pick(r, "10Mbit/s", "100Mbit/s", "4Mbit/s"), framing())
			}
		}
		fmt.Fprint(&h.b, "]}\n")
	}
	fmt.Fprint(&h.b, "  links:\n")
	for n := 1; n < h.nodes; n++ {
		sends := func() string {
			return pick(r, "", ", sends: 3Mbit/s", ", sends: 6Mbit/s", ", sends: 2Mbit/s, buffer: 30ms")
		}
		fmt.Fprintf(&h.b, "    - {ends: [{at: n%d/to%d%s}, {at: n%d/to%d%s}], delay: %dms}\n", n-1, n, sends(), n, n-1, sends(), r.IntN(9))
	}
	fmt.Fprint(&h.b, "attach:\n")
	for n := range h.nodes {
		ports := []string{"lan"}
		if n > 0 {
			ports = append(ports, fmt.Sprint("to", n-1))
		}
		if n+1 < h.nodes {
			ports = append(ports, fmt.Sprint("to", n+1))
		}
		for _, port := range ports {
			for _, d := range []string{"in", "out"} {
				if r.IntN(5) < 3 {
					fmt.Fprintf(&h.b, "  - {policy: p%d, at: n%d/%s %s}\n", r.IntN(3), n, port, d)
				}
			}
		}
	}
	h.traffic()
	return h.b.String()
}

func (h *house) traffic() {
	r := h.r
	fmt.Fprintf(&h.b, "rehearsals:\n  - name: r\n    lasts: 2s\n%s    starts-at: 2026-03-02T08:30\n    traffic:\n", pick(r, "", "    warm-up: 300ms\n"))
	address := func(node int) string { return fmt.Sprintf("10.%d.0.%d", node, 1+r.IntN(9)) }
	for i := range 3 + r.IntN(4) {
		from := r.IntN(h.nodes)
		to := (from + 1 + r.IntN(h.nodes-1)) % h.nodes
		s := stream{fmt.Sprint("s", i), address(from), address(to), pick(r, "udp", "udp", "tcp"), 1000 + r.IntN(10), 1000 + r.IntN(10), 100 + r.IntN(1300), pick(r, 0, 0, 46, 34, 10, r.IntN(64))}
		h.streams = append(h.streams, s)
		fmt.Fprintf(&h.b, "      - {name: %s, rate: %dkbit/s, packet: %dB, from: %s, to: %s, protocol: %s, from-port: %d, to-port: %d, dscp: %d%s%s}\n",
			s.name, 50+r.IntN(3000), s.packet, s.from, s.to, s.protocol, s.fromPort, s.toPort, s.dscp, pick(r, "", ", arrivals: poisson"), pick(r, "", "", ", starts: 1s", ", lasts: 700ms"))
	}
	if r.IntN(2) == 0 {
		fmt.Fprintf(&h.b, "      - {name: calls, calls: %d, codec: %s, between: [10.0.0.20, 10.%d.0.20], dscp: ef}\n", 1+r.IntN(4), pick(r, "g711", "g729", "opus"), h.nodes-1)
	}
}

func (h *house) condition() string {
	r := h.r
	keys := []string{
		pick(r, fmt.Sprintf("from: 10.%d.0.0/16", r.IntN(h.nodes)), "from: here", "from: 10.0.0.0/29"), pick(r, fmt.Sprintf("to: 10.%d.0.0/16", r.IntN(h.nodes)), "to: here"),
		fmt.Sprintf("dscp: [%d, %s]", r.IntN(64), pick(r, "ef", "af41", "df")), fmt.Sprintf("precedence: %d", r.IntN(8)), "protocol: " + pick(r, "udp", "tcp"),
		"length: 20B-" + fmt.Sprint(200+r.IntN(1000)) + "B", fmt.Sprintf("to-port: %d-1009", 1000+r.IntN(10)), fmt.Sprintf("port: %d-%d", 1000+r.IntN(5), 1005+r.IntN(5)),
	}
	r.Shuffle(len(keys), func(a, b int) { keys[a], keys[b] = keys[b], keys[a] })
	return "{" + strings.Join(keys[:1+r.IntN(2)], ", ") + "}"
}

// level draws the entries of one level: bounds of priorities come to 30 % at most, the
// other promises to 60.
func (h *house) level(depth int, top bool) string {
	r := h.r
	var out []string
	bounds, leasts := 30, 60
	for _, c := range r.Perm(houseClasses)[:1+r.IntN(4)] {
		out = append(out, h.entry(fmt.Sprint("c", c), depth, top, &bounds, &leasts))
	}
	if r.IntN(2) == 0 {
		out = append(out, h.entry("rest", depth, top, new(int), &leasts))
	}
	return strings.Join(out, ", ")
}

func (h *house) entry(class string, depth int, top bool, bounds, leasts *int) string {
	r := h.r
	e := "{class: " + class
	if r.IntN(14) == 0 {
		return e + ", block: true}"
	}
	if r.IntN(3) == 0 {
		e += ", mark: " + pick(r, "ef", "af41", "{map: down}", "{precedence: 3}", "le")
	}
	each := r.IntN(6) == 0
	if each {
		e += ", each: " + pick(r, "source", "destination", "flow", "[source, interface]")
	}
	most := 0 // the least ceiling, per cent
	switch share := 5 + r.IntN(16); {
	case share <= *bounds && r.IntN(3) == 0:
		*bounds -= share
		e += fmt.Sprintf(", priority: %d, %s", 1+r.IntN(3), pick(r, fmt.Sprintf("at-most: %d%%", share), fmt.Sprintf("police: {rate: %d%%, burst: %dB}", share, 1600+r.IntN(4000))))
		most = share
	case r.IntN(12) == 0 && *bounds > 0:
		e += ", priority: 4"
	default:
		if share <= *leasts && r.IntN(2) == 0 {
			*leasts -= share
			e += fmt.Sprintf(", at-least: %d%%", share)
		}
		if r.IntN(3) == 0 {
			e += fmt.Sprintf(", weight: %d", 1+r.IntN(30))
		}
		if r.IntN(3) == 0 {
			most = 40 + r.IntN(60)
			e += fmt.Sprintf(", at-most: %s", pick(r, fmt.Sprintf("%d%%", most), fmt.Sprintf("{rate: %d%%, burst: {to: 100%%, for: 50ms}}", most), fmt.Sprintf("{rate: %d%%, when: {starts: {load: 70%%, for: 100ms}, ends: {load: 50%%, for: 200ms}}}", most)))
		}
		if r.IntN(4) == 0 {
			most = 50 + r.IntN(50)
			e += fmt.Sprintf(", police: {rate: %d%%, burst: %dB%s}", most, 1600+r.IntN(9000), pick(r, "", ", red: {mark: af13}", ", excess-burst: 5kB, yellow: {mark: le}"))
		}
		if r.IntN(12) == 0 {
			e += ", when: {starts: {load: 60%, for: 100ms}, ends: {load: 40%, for: 100ms}}"
		}
	}
	if depth > 1 && r.IntN(3) == 0 && (!each || most > 0) {
		return e + ", treat: [" + h.level(depth-1, false) + "]}"
	}
	if r.IntN(2) == 0 {
		e += fmt.Sprintf(", queue: {limit: %s, drop: %s%s}", pick(r, "30ms", "20", "15kB", "200ms"), pick(r, "tail", "red", "codel", "fq-codel"), pick(r, "", ", ecn: true"))
	}
	return e + "}"
}
