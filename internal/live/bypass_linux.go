package live

import (
	"fmt"
	"strings"

	"github.com/vishvananda/netlink"
)

// bypassPrefix begins the names of the bridges that a gate leaves in its place.
const bypassPrefix = "imb-"

// Bypass joins interfaces by a bridge of the kernel: all frames pass between them, and no policy is in force.
func Bypass(devices []string) error {
	name := bypassPrefix + devices[0]
	bridge := &netlink.Bridge{LinkAttrs: netlink.LinkAttrs{Name: name[:min(len(name), 15)]}}
	if err := netlink.LinkAdd(bridge); err != nil {
		return fmt.Errorf("cannot make a bridge: %w", err)
	}
	for _, d := range devices {
		l, err := netlink.LinkByName(d)
		if err == nil {
			err = netlink.LinkSetMaster(l, bridge)
		}
		if err != nil {
			_ = netlink.LinkDel(bridge)
			return fmt.Errorf("cannot put %s into a bridge: %w", d, err)
		}
	}
	if err := netlink.LinkSetUp(bridge); err != nil {
		return fmt.Errorf("cannot bring a bridge up: %w", err)
	}
	return nil
}

// EndBypass takes away the bridge that joins interfaces in the place of a gate, if there is one.
func EndBypass(devices []string) {
	for _, d := range devices {
		l, err := netlink.LinkByName(d)
		if err != nil || l.Attrs().MasterIndex == 0 {
			continue
		}
		if master, err := netlink.LinkByIndex(l.Attrs().MasterIndex); err == nil && strings.HasPrefix(master.Attrs().Name, bypassPrefix) && master.Type() == "bridge" {
			_ = netlink.LinkDel(master)
		}
	}
}
