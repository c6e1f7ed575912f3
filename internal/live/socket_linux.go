// Package live is where the data path meets real interfaces: packet sockets, the kernel's clock,
// and what is set on an interface while a gate has it.
package live

import (
	"encoding/binary"
	"errors"
	"fmt"
	"iter"
	"net"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// batch is how many frames are read or written with one call.
const batch = 64

// headroom is what is left free before a frame for a tag that the kernel took off.
const headroom = 4

// largest is the longest frame that is read whole.
const largest = 1 << 16

// A Socket is a packet socket at an interface: all frames that come, none of those that leave. One thread may read by it, and
// send; to do so by two threads takes two sockets.
type Socket struct {
	Name string
	fd   int

	in, out  [batch]message
	frames   [batch][]byte
	controls [batch][128]byte
	vectors  [batch]unix.Iovec
	ring     *ring // nil: it reads by messages
	queued   int
	outputs  [batch]unix.Iovec
	outBytes [batch][]byte

	// Counts of frames.
	Received, Sent, Refused uint64 // Refused: the kernel did not take them
	Cut                     uint64 // longer than the largest
	Giants                  uint64 // of several segments, that could not be sent
}

// message is a struct mmsghdr.
type message struct {
	header unix.Msghdr
	length uint32
	_      [4]byte
}

// Open opens a packet socket at an interface and takes all of its frames.
func Open(name string) (*Socket, error) { return open(name, true, false) }

// OpenRing does so with memory that the kernel writes frames to: who has read some must Release them.
func OpenRing(name string) (*Socket, error) { return open(name, true, true) }

// OpenSender opens a packet socket at an interface that takes no frames.
func OpenSender(name string) (*Socket, error) { return open(name, false, false) }

func open(name string, reads, byRing bool) (*Socket, error) {
	i, err := net.InterfaceByName(name)
	if err != nil {
		return nil, fmt.Errorf("there is no interface %q here", name)
	}
	if i.Flags&net.FlagUp == 0 {
		return nil, fmt.Errorf("the interface %s is down: bring it up first", name)
	}
	protocol := uint16(0)
	if reads {
		protocol = binary.BigEndian.Uint16([]byte{unix.ETH_P_ALL & 0xff, unix.ETH_P_ALL >> 8}) // in network order
	}
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0)
	if errors.Is(err, unix.EPERM) {
		return nil, fmt.Errorf("opening a packet socket needs the capability CAP_NET_RAW, which this process lacks: run it as root, or give the program the capability")
	}
	if err != nil {
		return nil, fmt.Errorf("cannot open a packet socket: %w", err)
	}
	s := newSocket(name, fd)
	membership := unix.PacketMreq{Ifindex: int32(i.Index), Type: unix.PACKET_MR_PROMISC}
	for _, o := range []struct {
		what string
		set  func() error
	}{
		{"leave out frames that are sent", func() error { return unix.SetsockoptInt(fd, unix.SOL_PACKET, packetIgnoreOutgoing, 1) }},
		{"ask for tags", func() error { return unix.SetsockoptInt(fd, unix.SOL_PACKET, unix.PACKET_AUXDATA, 1) }},
		{"ask for times", func() error { return unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1) }},
		{"make room for what comes", func() error { return unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, 16<<20) }},
		{"make room for what is sent", func() error { return unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_SNDBUFFORCE, 4<<20) }},
		{"take frames by a ring", func() (err error) {
			if byRing {
				s.ring, err = newRing(fd, i.MTU)
			}
			return err
		}},
		{"take frames of all addresses", func() error {
			if !reads {
				return nil
			}
			return unix.SetsockoptPacketMreq(fd, unix.SOL_PACKET, unix.PACKET_ADD_MEMBERSHIP, &membership)
		}},
		{"bind to it", func() error {
			return unix.Bind(fd, &unix.SockaddrLinklayer{Protocol: protocol, Ifindex: i.Index})
		}},
	} {
		if err := o.set(); err != nil {
			s.Close()
			return nil, fmt.Errorf("at %s the kernel does not %s: %w", name, o.what, err)
		}
	}
	for n := range batch {
		if reads && !byRing {
			s.frames[n] = make([]byte, headroom+2048)
		}
	}
	return s, nil
}

// newSocket returns the socket of a descriptor.
func newSocket(name string, fd int) *Socket {
	s := &Socket{Name: name, fd: fd}
	for n := range batch {
		s.in[n].header.Iov = &s.vectors[n]
		s.in[n].header.Iovlen = 1
		s.in[n].header.Control = &s.controls[n][0]
		s.out[n].header.Iov = &s.outputs[n]
		s.out[n].header.Iovlen = 1
	}
	return s
}

const packetIgnoreOutgoing = 23 // PACKET_IGNORE_OUTGOING of linux/if_packet.h

// Close gives the interface back.
func (s *Socket) Close() error {
	if s.ring != nil && s.ring.memory != nil {
		_ = unix.Munmap(s.ring.memory)
	}
	return unix.Close(s.fd)
}

// Release says that the frames that were read by a ring are of no more use.
func (s *Socket) Release() {
	if s.ring != nil && s.ring.taken > 0 {
		s.ring.release()
	}
}

// Read reads frames that have come, without waiting, and gives each to take with the time that
// it has waited in the kernel. It returns how many there were. An error says that the interface
// is gone or down.
func (s *Socket) Read(take func(frame []byte, age time.Duration)) (int, error) {
	if s.ring != nil {
		return s.ring.read(s, take)
	}
	for n := range batch {
		s.vectors[n].Base = &s.frames[n][headroom]
		s.vectors[n].SetLen(len(s.frames[n]) - headroom)
		s.in[n].header.SetControllen(len(s.controls[n]))
		s.in[n].header.Flags = 0
	}
	got, _, e := unix.Syscall6(unix.SYS_RECVMMSG, uintptr(s.fd), uintptr(unsafe.Pointer(&s.in[0])), batch, unix.MSG_DONTWAIT|unix.MSG_TRUNC, 0, 0)
	switch {
	case e == unix.EAGAIN || e == unix.EINTR:
		return 0, nil
	case e != 0:
		return 0, e
	}
	now := time.Now().Round(0) // by the clock that the kernel stamps frames with
	for n := range int(got) {
		length := int(s.in[n].length)
		s.Received++
		room := len(s.frames[n]) - headroom
		if length > room {
			s.Cut++
			if length <= largest { // the next one of that length is read whole
				s.frames[n] = make([]byte, headroom+largest)
			}
			continue
		}
		take(s.frame(n, length, now))
	}
	return int(got), nil
}

// frame returns the n-th frame that was read, as it was on the wire, and its age.
func (s *Socket) frame(n, length int, now time.Time) ([]byte, time.Duration) {
	bytes, age := s.frames[n][headroom:headroom+length], time.Duration(0)
	for h, data := range controls(s.controls[n][:s.in[n].header.Controllen]) {
		switch {
		case stamped(&h, data):
			age = max(0, min(time.Second, now.Sub(stampOf(data))))
		case h.Level == unix.SOL_PACKET && h.Type == unix.PACKET_AUXDATA && len(data) >= 20:
			status := binary.NativeEndian.Uint32(data)
			if status&unix.TP_STATUS_CSUMNOTREADY != 0 {
				complete(bytes)
			}
			if status&unix.TP_STATUS_VLAN_VALID != 0 && length >= 14 { // the kernel took the tag off
				tpid := uint16(0x8100)
				if status&unix.TP_STATUS_VLAN_TPID_VALID != 0 {
					tpid = binary.NativeEndian.Uint16(data[18:])
				}
				bytes = s.frames[n][:headroom+length]
				retag(bytes, tpid, binary.NativeEndian.Uint16(data[16:]))
			}
		}
	}
	return bytes, age
}

// controls yields the control messages that came with a datagram.
func controls(b []byte) iter.Seq2[unix.Cmsghdr, []byte] {
	return func(yield func(unix.Cmsghdr, []byte) bool) {
		for len(b) >= unix.SizeofCmsghdr {
			h, data, rest, err := unix.ParseOneSocketControlMessage(b)
			if err != nil || !yield(h, data) {
				return
			}
			b = rest
		}
	}
}

// stamped reports whether a control message says when a datagram came.
func stamped(h *unix.Cmsghdr, data []byte) bool {
	return h.Level == unix.SOL_SOCKET && h.Type == unix.SO_TIMESTAMPNS && len(data) >= 16
}

// stampOf returns when it came.
func stampOf(data []byte) time.Time {
	return time.Unix(int64(binary.NativeEndian.Uint64(data)), int64(binary.NativeEndian.Uint64(data[8:])))
}

// complete computes the checksum of a TCP or UDP packet over IPv4 or IPv6 that its sender left to
// the hardware. What is right stays right.
func complete(b []byte) {
	at := 12
	for at+6 <= len(b) && (binary.BigEndian.Uint16(b[at:]) == 0x8100 || binary.BigEndian.Uint16(b[at:]) == 0x88a8) {
		at += 4
	}
	if at+2+20 > len(b) {
		return
	}
	ip := b[at+2:]
	var protocol byte
	var transport, addresses []byte
	switch binary.BigEndian.Uint16(b[at:]) {
	case 0x0800:
		h, total := int(ip[0]&15)*4, int(binary.BigEndian.Uint16(ip[2:]))
		if h < 20 || total < h || total > len(ip) || binary.BigEndian.Uint16(ip[6:])&0x3fff != 0 {
			return
		}
		protocol, addresses, transport = ip[9], ip[12:20], ip[h:total]
	case 0x86dd:
		if len(ip) < 40 {
			return
		}
		total := int(binary.BigEndian.Uint16(ip[4:]))
		if 40+total > len(ip) {
			return
		}
		protocol, addresses, transport = ip[6], ip[8:40], ip[40:40+total]
	default:
		return
	}
	offset := 16
	if protocol == unix.IPPROTO_UDP {
		offset = 6
	} else if protocol != unix.IPPROTO_TCP {
		return
	}
	if len(transport) < offset+2 {
		return
	}
	transport[offset], transport[offset+1] = 0, 0
	sum := uint32(protocol) + uint32(len(transport))
	for _, part := range [][]byte{addresses, transport} {
		for i := 0; i+1 < len(part); i += 2 {
			sum += uint32(part[i])<<8 | uint32(part[i+1])
		}
		if len(part)%2 == 1 {
			sum += uint32(part[len(part)-1]) << 8
		}
		for sum > 0xffff {
			sum = sum&0xffff + sum>>16
		}
	}
	value := ^uint16(sum)
	if value == 0 && protocol == unix.IPPROTO_UDP {
		value = 0xffff
	}
	binary.BigEndian.PutUint16(transport[offset:], value)
}

// Queue takes a frame to be sent with others; Flush sends them.
func (s *Socket) Queue(frame []byte) {
	if s.queued == batch {
		s.Flush()
	}
	n := s.queued
	s.outBytes[n] = append(s.outBytes[n][:0], frame...)
	s.Lend(s.outBytes[n])
}

// Lend does what Queue does with a frame that stays as it is until Flush.
func (s *Socket) Lend(frame []byte) {
	if s.queued == batch {
		s.Flush()
	}
	s.outputs[s.queued].Base = &frame[0]
	s.outputs[s.queued].SetLen(len(frame))
	s.queued++
}

// Flush sends what is queued. What the kernel does not take is counted. An error says that the interface is gone or down.
func (s *Socket) Flush() (gone error) {
	for at := 0; at < s.queued; {
		sent, _, e := unix.Syscall6(unix.SYS_SENDMMSG, uintptr(s.fd), uintptr(unsafe.Pointer(&s.out[at])), uintptr(s.queued-at), unix.MSG_DONTWAIT, 0, 0)
		switch {
		case e == 0 && sent > 0:
			s.Sent += uint64(sent)
			at += int(sent)
		case e == unix.EINTR:
		default:
			switch e {
			case unix.EMSGSIZE:
				s.Giants++
			case unix.ENETDOWN, unix.ENXIO, unix.ENODEV:
				gone = e
			}
			s.Refused++
			at++
		}
	}
	s.queued = 0
	return gone
}

// Wait waits until a frame has come to one of the sockets, or for so long at most.
func Wait(sockets []*Socket, most time.Duration) error {
	fds := make([]unix.PollFd, 0, 8)
	for _, s := range sockets {
		fds = append(fds, unix.PollFd{Fd: int32(s.fd), Events: unix.POLLIN})
	}
	limit := unix.NsecToTimespec(int64(max(0, most)))
	_, err := unix.Ppoll(fds, &limit, nil)
	if errors.Is(err, unix.EINTR) {
		return nil
	}
	return err
}

// Monotonic returns the time of the kernel's monotonic clock since this program began.
func Monotonic() time.Duration { return time.Since(began) }

var began = time.Now()

// overrun returns how many frames came faster than they were read, since it was asked last.
func (s *Socket) overrun() uint64 {
	stats, err := unix.GetsockoptTpacketStats(s.fd, unix.SOL_PACKET, unix.PACKET_STATISTICS)
	if err != nil {
		return 0
	}
	return uint64(stats.Drops)
}
