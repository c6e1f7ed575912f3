package live

import (
	"fmt"
	"runtime"
	"unsafe"

	"golang.org/x/sys/unix"
)

// The offloads that put several frames into one, or take tags off, with the commands that get and
// set them (linux/ethtool.h).
var offloads = []struct {
	name     string
	get, set uint32
	bit      uint32 // of flags; 0: the value is the offload
}{
	{"generic receive offload", 0x2b, 0x2c, 0},
	{"large receive offload", 0x25, 0x26, 1 << 15},
	{"generic segmentation offload", 0x23, 0x24, 0},
	{"TCP segmentation offload", 0x1e, 0x1f, 0},
}

// Offloads are those that were on at an interface and are off now.
type Offloads struct {
	name string
	was  []int // numbers of offloads
}

// ethtool asks the kernel about an interface, or tells it.
func ethtool(name string, command uint32, value *uint32) error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	question := [2]uint32{command, *value}
	var request struct {
		name [unix.IFNAMSIZ]byte
		data unsafe.Pointer
		_    [16]byte
	}
	copy(request.name[:unix.IFNAMSIZ-1], name)
	request.data = unsafe.Pointer(&question)
	var pin runtime.Pinner
	pin.Pin(&question)
	defer pin.Unpin()
	if _, _, e := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), unix.SIOCETHTOOL, uintptr(unsafe.Pointer(&request))); e != 0 {
		return e
	}
	*value = question[1]
	return nil
}

// WithoutOffloads turns off what puts several frames into one at an interface, and returns what
// was on. What an interface does not know is off.
func WithoutOffloads(name string) (Offloads, error) {
	o := Offloads{name: name}
	for n, k := range offloads {
		value := uint32(0)
		if err := ethtool(name, k.get, &value); err != nil {
			continue
		}
		on := value != 0
		if k.bit != 0 {
			on = value&k.bit != 0
		}
		if !on {
			continue
		}
		off := uint32(0)
		if k.bit != 0 {
			off = value &^ k.bit
		}
		if err := ethtool(name, k.set, &off); err != nil {
			o.Restore()
			return o, fmt.Errorf("at %s the %s is on and cannot be turned off (it needs the capability CAP_NET_ADMIN): %w", name, k.name, err)
		}
		o.was = append(o.was, n)
	}
	return o, nil
}

// Restore turns them on again.
func (o *Offloads) Restore() {
	for _, n := range o.was {
		k := offloads[n]
		value := uint32(1)
		if k.bit != 0 {
			value = 0
			if ethtool(o.name, k.get, &value) != nil {
				continue
			}
			value |= k.bit
		}
		_ = ethtool(o.name, k.set, &value) // the interface may be gone
	}
	o.was = nil
}
