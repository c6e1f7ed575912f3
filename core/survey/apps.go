package survey

import (
	"time"

	"imbrel.example/imbrel/core/ipfix"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
)

// Apps finds applications by protocol and ports.
type Apps struct {
	list       []policy.App
	byPort     [2][65536]uint16 // of TCP and UDP: the number of the application plus one
	byProtocol [256]uint16
}

// NewApps returns what finds these applications; of two that take a port the first is found.
func NewApps(apps []policy.App) *Apps {
	a := &Apps{list: apps}
	for i := len(apps) - 1; i >= 0; i-- {
		for k, ports := range [][]policy.Range{apps[i].TCP, apps[i].UDP} {
			for _, r := range ports {
				for n := r.First; n <= min(r.Last, 65535); n++ {
					a.byPort[k][n] = uint16(i + 1)
				}
			}
		}
		for _, n := range apps[i].Protocols {
			a.byProtocol[n] = uint16(i + 1)
		}
	}
	return a
}

// Of returns the number of the application of a flow, plus one; 0: it is unknown. The lower port is tried first: it is the server's.
func (a *Apps) Of(protocol uint8, one, other uint16) uint16 {
	var ports *[65536]uint16
	switch protocol {
	case packet.TCP:
		ports = &a.byPort[0]
	case packet.UDP:
		ports = &a.byPort[1]
	default:
		return a.byProtocol[protocol]
	}
	if n := ports[min(one, other)]; n > 0 {
		return n
	}
	return ports[max(one, other)]
}

// Flow adds what an exporter says of a flow.
func (s *Survey) Flow(apps *Apps, k *ipfix.Record) {
	f := k.Flow
	r := Record{Flow: f, App: k.App, DSCP: k.DSCP, Tagged: k.Tagged, VLAN: k.VLAN, Packets: k.Packets, Bytes: k.Bytes, Began: 1, From: k.From, To: k.To, SecondUnknown: k.To-k.From >= time.Second}
	if n := apps.Of(f.Protocol, f.FromPort, f.ToPort); r.App == "" && n > 0 {
		r.App = apps.list[n-1].Name
	}
	switch low := min(f.FromPort, f.ToPort); {
	case k.InitiatorKnown:
		r.FromClient = k.FromInitiator
	case f.FromPort != f.ToPort && low < policy.FirstEphemeral:
		r.FromClient = f.ToPort == low
	default:
		r.FromClient = f.From.Less(f.To)
	}
	s.Add(&r)
	if b := k.Reverse; b != nil {
		r.Flow, r.FromClient, r.Packets, r.Bytes = f.Reverse(), !r.FromClient, b.Packets, b.Bytes
		s.Add(&r)
	}
}
