package packetset

import (
	"net/netip"
	"slices"
	"strings"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// An Example is one packet of a box. Of what the box does not ask for, it has what is
// common.
type Example struct {
	Flow     packet.Flow // invalid addresses: its IP header is not looked at
	HasPorts bool
	DSCP     codepoint.DSCP
	Length   int
	Tagged   bool
	VLAN     uint16
	PCP      uint8
	Labelled bool
	TC       uint8
	Kind     uint16 // EtherType
	In       string // the interface, or ""
	Name     string // of the server that was recognised, or ""
	RTP      bool   // it was recognised as RTP

	asked  [numProperties]bool
	values [numProperties]uint32 // of each property
}

// Example returns a packet of a box; false when none can exist.
func (s *Space) Example(b Box) (Example, bool) {
	for i := range s.worlds {
		w := &s.worlds[i]
		if !b.meets(w) {
			continue
		}
		both := b.and(w)
		var v [numProperties]uint32
		for p := range v {
			v[p] = s.pick(p, both[p])
		}
		e := Example{Flow: packet.Flow{From: s.host(both[from], v[from], false), To: s.host(both[to], v[to], true)}, HasPorts: v[fromPort] != none, Tagged: v[vlan] != none, Labelled: v[tc] != none, RTP: v[rtp] == 1}
		value := func(p int) uint32 { return max(v[p], 1) - 1 }
		e.Flow.Protocol, e.Flow.FromPort, e.Flow.ToPort = uint8(value(protocol)), uint16(value(fromPort)), uint16(value(toPort))
		e.DSCP, e.Length, e.VLAN, e.PCP, e.TC, e.Kind = codepoint.DSCP(value(dscp)), int(value(length)), uint16(value(vlan)), uint8(value(pcp)), uint8(value(tc)), uint16(value(etherType))
		if v[in] != none {
			e.In = s.paths[v[in]-1]
		}
		if v[name] != none {
			e.Name = strings.Replace(s.names[v[name]-1], "*", "www", 1)
		}
		e.values = v
		for p := range b {
			e.asked[p] = b[p] != nil
		}
		return e, true
	}
	return Example{}, false
}

// pick returns a value of a property: one that packets usually have, where it may be.
func (s *Space) pick(p int, of set) uint32 {
	if p < int(policy.NumKeys) {
		for _, n := range policy.Key(p).Row().Common {
			if n++; of.has(n) { // NoNumber is none
				return n
			}
		}
	}
	if of == nil || of.has(none) {
		return none
	}
	return of[0].First
}

// host returns a host of the networks whose address is in a set, the last for a receiver;
// when there is none, an address of the interval.
func (s *Space) host(of set, interval uint32, receiver bool) netip.Addr {
	for i := range s.hosts {
		if receiver {
			i = len(s.hosts) - 1 - i
		}
		if a := s.hosts[i]; a.IsValid() && of.has(s.interval(a)) {
			return a
		}
	}
	return s.address(interval)
}

// address returns an address of an interval: the first, or the one after it.
func (s *Space) address(i uint32) netip.Addr {
	if i == none {
		return netip.Addr{}
	}
	a := s.edges[i]
	if next := a.Next(); next.IsValid() && s.interval(next) == i {
		return next
	}
	return a
}

// described are the properties that an example describes in words; others are shown as the language writes them.
var described = [...]int{from, to, protocol, fromPort, toPort, dscp, length, vlan, in, etherType, pcp, tc}

// String describes what of the packet was asked for: "from 10.1.1.1, udp, to port 5060".
func (e Example) String() string {
	var words []string
	say := func(property int, text string) {
		if e.asked[property] {
			words = append(words, text)
		}
	}
	if !e.Flow.From.IsValid() {
		words = append(words, "one whose IP header is not looked at")
	} else {
		say(from, "from "+e.Flow.From.String())
		say(to, "to "+e.Flow.To.String())
		if e.asked[protocol] || e.HasPorts && (e.asked[fromPort] || e.asked[toPort]) {
			words = append(words, policy.ProtocolName(e.Flow.Protocol))
		}
		if e.HasPorts {
			say(fromPort, "from port "+itoa(e.Flow.FromPort))
			say(toPort, "to port "+itoa(e.Flow.ToPort))
		} else if e.asked[fromPort] || e.asked[toPort] {
			words = append(words, "without ports")
		}
		say(dscp, "dscp "+e.DSCP.Name())
		say(length, unit.Size(e.Length).String()+" long")
		if e.Name != "" {
			words = append(words, "of "+e.Name)
		}
		if e.RTP {
			words = append(words, "recognised as RTP")
		}
	}
	switch {
	case e.Tagged:
		say(vlan, "vlan "+itoa(e.VLAN))
		say(pcp, "pcp "+itoa(uint16(e.PCP)))
	case e.asked[vlan] || e.asked[pcp]:
		words = append(words, "untagged")
	}
	switch {
	case e.Labelled:
		say(tc, "tc "+itoa(uint16(e.TC)))
	case e.asked[tc]:
		words = append(words, "without a label")
	}
	if !e.Flow.From.IsValid() {
		say(etherType, "of EtherType "+policy.KeyEtherType.Row().Print(policy.One(uint32(e.Kind))))
	}
	if e.In != "" {
		words = append(words, "that came in by "+e.In)
	}
	for _, k := range policy.Keys() {
		if row := k.Row(); !slices.Contains(described[:], int(k)) && row.Print != nil && row.Own() && e.asked[k] {
			if v := e.values[k]; v == none {
				words = append(words, "without "+row.Name)
			} else {
				words = append(words, row.Name+" "+row.Print(policy.One(v-1)))
			}
		}
	}
	if len(words) == 0 {
		return "any"
	}
	return strings.Join(words, ", ")
}

func itoa(n uint16) string { return policy.KeyToPort.Row().Print(policy.One(uint32(n))) }
