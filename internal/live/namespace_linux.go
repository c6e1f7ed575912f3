package live

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"runtime"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

// A namespace is a network namespace without a name: it goes when nothing has it open any more,
// whatever ends this process.
type namespace struct{ fd int }

// newNamespace makes one, with nothing in it but its loopback, which is down.
func newNamespace() (*namespace, error) {
	type made struct {
		fd  int
		err error
	}
	done := make(chan made)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread ends with the goroutine
		if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
			done <- made{0, err}
			return
		}
		fd, err := unix.Open("/proc/thread-self/ns/net", unix.O_RDONLY|unix.O_CLOEXEC, 0)
		done <- made{fd, err}
	}()
	m := <-done
	if errors.Is(m.err, unix.EPERM) {
		return nil, errRoot
	}
	if m.err != nil {
		return nil, fmt.Errorf("no network namespace can be made here: %w", m.err)
	}
	return &namespace{m.fd}, nil
}

var errRoot = errors.New("making network namespaces needs root (CAP_SYS_ADMIN and CAP_NET_ADMIN), which this process is not: run it with sudo")

func (n *namespace) close() { unix.Close(n.fd) }

// enter moves this thread, which must be locked, into the namespace.
func (n *namespace) enter() error { return unix.Setns(n.fd, unix.CLONE_NEWNET) }

// handle returns what sets interfaces up in the namespace.
func handle() (*netlink.Handle, error) {
	return netlink.NewHandle(unix.NETLINK_ROUTE) // of the namespace that this thread is in
}

// deviceOf returns an interface of the namespace that this thread is in, and what sets it up.
func deviceOf(name string) (*netlink.Handle, netlink.Link, error) {
	h, err := handle()
	if err != nil {
		return nil, nil, err
	}
	l, err := h.LinkByName(name)
	if err != nil {
		h.Close()
		return nil, nil, err
	}
	return h, l, nil
}

// A cable is what joins two namespaces: a pair of interfaces.
type cable struct {
	here, there string
	hereMAC     net.HardwareAddr
	thereMAC    net.HardwareAddr
	mtu         int
	thereIn     *namespace
}

// lay makes a cable from the namespace that this thread is in, and brings its near end up.
func (c *cable) lay() error {
	h, err := handle()
	if err != nil {
		return err
	}
	defer h.Close()
	link := &netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: c.here, MTU: c.mtu, HardwareAddr: c.hereMAC}, PeerName: c.there, PeerHardwareAddr: c.thereMAC, PeerMTU: uint32(c.mtu),
		PeerNamespace: netlink.NsFd(c.thereIn.fd)}
	if err := h.LinkAdd(link); err != nil {
		return fmt.Errorf("no pair of virtual interfaces can be made here: %w", err)
	}
	near, err := h.LinkByName(c.here)
	if err != nil {
		return err
	}
	_ = h.LinkSetIP6AddrGenMode(near, 1) // no address of its own; without IPv6 it has none anyway
	return h.LinkSetUp(near)
}

// home sets up the interface of hosts in the namespace that this thread is in: it asks nobody for
// hardware addresses, and sends all there is to send.
func home(device string) error {
	h, l, err := deviceOf(device)
	if err != nil {
		return err
	}
	defer h.Close()
	_ = h.LinkSetIP6AddrGenMode(l, 1)
	_ = os.WriteFile("/proc/sys/net/ipv6/conf/"+device+"/accept_ra", []byte("0"), 0)
	if err := h.LinkSetARPOff(l); err != nil {
		return err
	}
	if err := h.LinkSetUp(l); err != nil {
		return err
	}
	for _, to := range []string{"0.0.0.0/0", "::/0"} {
		_, dst, _ := net.ParseCIDR(to)
		if err := h.RouteAdd(&netlink.Route{LinkIndex: l.Attrs().Index, Dst: dst, Scope: netlink.SCOPE_LINK}); err != nil && to != "::/0" {
			return fmt.Errorf("no route can be set: %w", err)
		}
	}
	return nil
}

// address gives the interface of hosts one more address.
func address(device string, a netip.Addr) error {
	h, l, err := deviceOf(device)
	if err != nil {
		return err
	}
	defer h.Close()
	err = h.AddrAdd(l, &netlink.Addr{IPNet: &net.IPNet{IP: a.AsSlice(), Mask: net.CIDRMask(a.BitLen(), a.BitLen())}, Flags: unix.IFA_F_NODAD})
	if err != nil && !errors.Is(err, unix.EEXIST) {
		return fmt.Errorf("the address %s cannot be set: %w", a, err)
	}
	return nil
}
