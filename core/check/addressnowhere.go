package check

import (
	"net/netip"
	"slices"

	"imbrel.example/imbrel/core/words"
)

func addressNowhere() Rule {
	return Rule{"address-nowhere", Warning, `A class asks for an address or a prefix that is in no subnet of the network. Packets with it never come, and the class takes less than its
author means: a digit is wrong, or a subnet is missing at an interface. An end of a tunnel counts as an address of the network.`,
		func(s *survey) {
			var here []netip.Prefix
			for i := range s.f.Network.Nodes {
				for _, iface := range s.f.Network.Nodes[i].Interfaces { // and those of nodes themselves
					here = append(here, iface.Subnets...)
				}
			}
			for i := range s.f.Network.Tunnels {
				for _, end := range []netip.Addr{s.f.Network.Tunnels[i].From, s.f.Network.Tunnels[i].To} {
					if end.IsValid() {
						here = append(here, netip.PrefixFrom(end, end.BitLen()))
					}
				}
			}
			if len(here) == 0 {
				return
			}
			for i := range s.f.Classes {
				c := &s.f.Classes[i]
				for j := range c.Match {
					m := &c.Match[j]
					for k := range m.Terms {
						t := &m.Terms[k]
						if t.Addresses == nil {
							continue
						}
						n := slices.IndexFunc(t.Addresses.Prefixes, func(p netip.Prefix) bool { return !slices.ContainsFunc(here, p.Overlaps) })
						if n < 0 {
							continue
						}
						// A list of a group may name addresses of both versions; one that is there is enough for a group.
						if given := t.Addresses.Given; len(given) == 1 && len(t.Addresses.Prefixes) > 1 && slices.ContainsFunc(t.Addresses.Prefixes, func(p netip.Prefix) bool { return slices.ContainsFunc(here, p.Overlaps) }) {
							continue
						}
						s.say(m.At, "", words.AddressNowhere.With(c.Name, t.Key.String(), printPrefix(t.Addresses.Prefixes[n])))
					}
				}
			}
		}}
}

// printPrefix prints a prefix, one address without its length.
func printPrefix(p netip.Prefix) string {
	if p.IsSingleIP() {
		return p.Addr().String()
	}
	return p.String()
}
