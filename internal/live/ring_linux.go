package live

import (
	"encoding/binary"
	"fmt"
	"sync/atomic"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// A ring is memory that the kernel writes frames to, a slot each (TPACKET_V2 of linux/if_packet.h): a frame is there as soon
// as it has come, with its time and its tag, and is read where it lies.
type ring struct {
	memory []byte
	slot   int // bytes of each
	slots  int
	next   int           // the slot that is written next
	taken  int           // of those before it, how many are not given back
	long   []byte        // room for a frame that is longer than a slot
	asked  time.Duration // when it was asked last whether the interface is there
}

const (
	ringBytes  = 16 << 20
	blockBytes = 1 << 18
	leastSlot  = 2048
	// slotOverhead is what of a slot is not a frame's: the kernel's header and an address, each aligned, and the room before it.
	slotOverhead = 96 + headroom
	hereEvery    = 50 * time.Millisecond
)

// newRing asks for a ring at a socket that is not bound yet, for frames of an interface that sends so many bytes of IP.
func newRing(fd, mtu int) (*ring, error) {
	r := &ring{slot: leastSlot}
	for r.slot < min(mtu, largest)+18+slotOverhead {
		r.slot *= 2
	}
	r.slots = ringBytes / r.slot
	request := unix.TpacketReq{Block_size: blockBytes, Block_nr: ringBytes / blockBytes, Frame_size: uint32(r.slot), Frame_nr: uint32(r.slots)}
	for _, o := range []struct {
		what string
		set  func() error
	}{
		{"write frames to a ring", func() error { return unix.SetsockoptInt(fd, unix.SOL_PACKET, unix.PACKET_VERSION, unix.TPACKET_V2) }},
		{"leave room before a frame", func() error { return unix.SetsockoptInt(fd, unix.SOL_PACKET, unix.PACKET_RESERVE, headroom) }},
		{"keep long frames", func() error { return unix.SetsockoptInt(fd, unix.SOL_PACKET, unix.PACKET_COPY_THRESH, 1) }},
		{"give memory for a ring", func() error { return unix.SetsockoptTpacketReq(fd, unix.SOL_PACKET, unix.PACKET_RX_RING, &request) }},
	} {
		if err := o.set(); err != nil {
			return nil, fmt.Errorf("%s: %w", o.what, err)
		}
	}
	var err error
	if r.memory, err = unix.Mmap(fd, 0, ringBytes, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED); err != nil {
		return nil, fmt.Errorf("map the memory of a ring: %w", err)
	}
	return r, nil
}

func (r *ring) head(n int) *unix.Tpacket2Hdr {
	return (*unix.Tpacket2Hdr)(unsafe.Pointer(&r.memory[n*r.slot]))
}

// read gives frames to take as Socket.Read does. They stay in the ring until they are released.
func (r *ring) read(s *Socket, take func(frame []byte, age time.Duration)) (int, error) {
	var now time.Time
	got := 0
	for ; got < batch; got++ {
		h := r.head(r.next)
		status := atomic.LoadUint32(&h.Status)
		if status&unix.TP_STATUS_USER == 0 {
			break
		}
		if got == 0 {
			now = time.Now().Round(0) // by the clock that the kernel stamps frames with
		}
		slot := r.memory[r.next*r.slot : (r.next+1)*r.slot]
		if r.next++; r.next == r.slots {
			r.next = 0
		}
		r.taken++
		s.Received++
		at, end := int(h.Mac), int(h.Mac)+int(h.Snaplen)
		if h.Len > h.Snaplen {
			if slot = r.whole(s, status, int(h.Len)); slot == nil {
				s.Cut++
				continue
			}
			at, end = headroom, headroom+int(h.Len)
		}
		if status&unix.TP_STATUS_CSUMNOTREADY != 0 {
			complete(slot[at:end])
		}
		if status&unix.TP_STATUS_VLAN_VALID != 0 && end-at >= 14 {
			tpid := uint16(0x8100)
			if status&unix.TP_STATUS_VLAN_TPID_VALID != 0 {
				tpid = h.Vlan_tpid
			}
			at -= headroom
			retag(slot[at:], tpid, h.Vlan_tci)
		}
		take(slot[at:end:end], max(0, min(time.Second, now.Sub(time.Unix(int64(h.Sec), int64(h.Nsec))))))
	}
	if now := Monotonic(); got == 0 && now-r.asked > hereEvery {
		r.asked = now
		if e, err := unix.GetsockoptInt(s.fd, unix.SOL_SOCKET, unix.SO_ERROR); err == nil && e != 0 {
			return 0, unix.Errno(e)
		}
	}
	return got, nil
}

// retag puts a tag back into the first bytes of a frame that has room for it in front.
func retag(frame []byte, tpid, control uint16) {
	copy(frame, frame[headroom:headroom+12])
	binary.BigEndian.PutUint16(frame[12:], tpid)
	binary.BigEndian.PutUint16(frame[14:], control)
}

// whole returns a frame that is longer than its slot, with room in front of it; nil: it is lost.
func (r *ring) whole(s *Socket, status uint32, length int) []byte {
	if status&unix.TP_STATUS_COPY == 0 {
		return nil
	}
	if r.long == nil {
		r.long = make([]byte, headroom+largest)
	}
	n, _, err := unix.Recvfrom(s.fd, r.long[headroom:], unix.MSG_DONTWAIT|unix.MSG_TRUNC)
	if err != nil || n != length || n > largest {
		return nil
	}
	return r.long
}

// release gives the slots of the frames that were read back to the kernel.
func (r *ring) release() {
	for n := r.next - r.taken; n < r.next; n++ {
		atomic.StoreUint32(&r.head((n+r.slots)%r.slots).Status, unix.TP_STATUS_KERNEL)
	}
	r.taken = 0
}
