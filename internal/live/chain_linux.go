package live

import (
	"errors"
	"net/netip"
	"os/exec"
	"runtime"

	"github.com/vishvananda/netlink"
)

// A Chain is two hosts and a place for gates between them, in namespaces of their own, joined by cables in a row. It goes when it is closed, whatever ends this
// process.
type Chain struct {
	caller, gates, far *namespace
}

// The places of a chain.
const (
	Caller = iota // the host that calls, which also reaches the gates
	Gates
	Far // the host that answers
)

// ChainGates is where gates of a chain are managed, and ChainPorts are the interfaces at the place of the gates, in pairs for each gate from the caller on.
const ChainGates = "192.0.2.2"

// ChainPorts are the interfaces at the place of the gates: two for each of three gates, from the caller on.
var ChainPorts = [3][2]string{{"a0", "a1"}, {"b0", "b1"}, {"c0", "c1"}}

// NewChain makes a chain whose hosts have these addresses.
func NewChain(caller, far netip.Prefix) (*Chain, error) {
	c := &Chain{}
	for _, n := range []**namespace{&c.caller, &c.gates, &c.far} {
		var err error
		if *n, err = newNamespace(); err != nil {
			c.Close()
			return nil, err
		}
	}
	lay := func(from *namespace, here string, to *namespace, there string) error {
		return within(from, func() error {
			return (&cable{here: here, there: there, mtu: 1500, thereIn: to}).lay()
		})
	}
	up := func(n *namespace, name string, a netip.Prefix) error {
		return within(n, func() error {
			h, l, err := deviceOf(name)
			if err != nil {
				return err
			}
			defer h.Close()
			_ = h.LinkSetIP6AddrGenMode(l, 1)
			if a.IsValid() {
				at, err := netlink.ParseAddr(a.String())
				if err == nil {
					err = h.AddrAdd(l, at)
				}
				if err != nil {
					return err
				}
			}
			if name != "lo" {
				if _, err := WithoutOffloads(name); err != nil {
					return err
				}
				zero := uint32(0)
				_ = ethtool(name, 0x17, &zero) // checksums are in the frames (ETHTOOL_STXCSUM)
			}
			return h.LinkSetUp(l)
		})
	}
	p := ChainPorts
	management := netip.MustParsePrefix("192.0.2.1/24")
	err := errors.Join(
		lay(c.caller, "host", c.gates, p[0][0]), lay(c.gates, p[0][1], c.gates, p[1][0]), lay(c.gates, p[1][1], c.gates, p[2][0]), lay(c.gates, p[2][1], c.far, "host"), lay(c.caller, "manage", c.gates, "manage"),
		up(c.caller, "host", caller), up(c.far, "host", far), up(c.caller, "manage", management), up(c.gates, "manage", netip.MustParsePrefix(ChainGates+"/24")),
		up(c.caller, "lo", netip.Prefix{}), up(c.gates, "lo", netip.Prefix{}), up(c.far, "lo", netip.Prefix{}))
	for _, pair := range p {
		for _, name := range pair {
			err = errors.Join(err, up(c.gates, name, netip.Prefix{}))
		}
	}
	if err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// Close gives the chain up.
func (c *Chain) Close() {
	for _, n := range []*namespace{c.caller, c.gates, c.far} {
		if n != nil {
			n.close()
		}
	}
}

func (c *Chain) at(place int) *namespace { return [...]*namespace{c.caller, c.gates, c.far}[place] }

// Start starts a program at a place of the chain.
func (c *Chain) Start(place int, command *exec.Cmd) error {
	return within(c.at(place), command.Start)
}

// Pull takes the cable between the second gate and the third out, or puts it in again.
func (c *Chain) Pull(out bool) error {
	return within(c.gates, func() error {
		h, l, err := deviceOf(ChainPorts[1][1])
		if err != nil {
			return err
		}
		defer h.Close()
		if out {
			return h.LinkSetDown(l)
		}
		return h.LinkSetUp(l)
	})
}

// within does something in a namespace, on a thread that ends with it.
func within(n *namespace, do func() error) error {
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread ends with the goroutine
		err := n.enter()
		if err == nil {
			err = do()
		}
		done <- err
	}()
	return <-done
}
