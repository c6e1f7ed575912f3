package live

import (
	"context"
	"fmt"
	"net"
	"time"

	"golang.org/x/sys/unix"
)

// Listen gives take each frame that an interface receives or sends, with its time since 1970, until the context ends. It returns how
// many frames came faster than they could be read.
func Listen(ctx context.Context, device string, take func(at time.Duration, frame []byte)) (missed uint64, err error) {
	s, err := Open(device)
	if err != nil {
		return 0, err
	}
	defer s.Close()
	for i := range s.frames { // the kernel may not have divided what is sent yet
		s.frames[i] = make([]byte, headroom+largest)
	}
	if i, err := net.InterfaceByName(device); err == nil && i.Flags&net.FlagLoopback == 0 { // where all that is sent is received, it is seen once
		if err := unix.SetsockoptInt(s.fd, unix.SOL_PACKET, packetIgnoreOutgoing, 0); err != nil {
			return 0, fmt.Errorf("at %s the kernel does not show frames that are sent: %w", device, err)
		}
	}
	for ctx.Err() == nil {
		n, err := s.Read(func(frame []byte, age time.Duration) { take(time.Duration(time.Now().UnixNano())-age, frame) })
		if err != nil {
			return 0, fmt.Errorf("the interface %s is gone: %w", device, err)
		}
		if n == 0 {
			_, _ = unix.Poll([]unix.PollFd{{Fd: int32(s.fd), Events: unix.POLLIN}}, 100)
		}
	}
	stats, err := unix.GetsockoptTpacketStats(s.fd, unix.SOL_PACKET, unix.PACKET_STATISTICS)
	if err != nil {
		return s.Cut, nil
	}
	return s.Cut + uint64(stats.Drops), nil
}
