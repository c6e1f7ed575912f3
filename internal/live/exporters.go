package live

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"sync"

	"imbrel.example/imbrel/core/ipfix"
)

// Bounds of who may export at a time.
const (
	maxExporters   = 256
	maxConnections = 64
)

// Exporters is what came of a time of listening to exporters of flow records.
type Exporters struct {
	Lost     ipfix.Lost
	Messages int64
	Crowded  int64 // messages of exporters for whom there was no room
}

// Collect listens for messages of IPFIX by UDP and TCP at an address, and gives each record to take, one at a time, until the context ends.
func Collect(ctx context.Context, address string, ready func(string), take func(*ipfix.Record)) (*Exporters, error) {
	packets, err := net.ListenPacket("udp", address)
	if err != nil {
		return nil, fmt.Errorf("cannot listen at %s: %w", address, err)
	}
	defer packets.Close()
	if u, ok := packets.(*net.UDPConn); ok {
		_ = u.SetReadBuffer(8 << 20)
	}
	stream, err := net.Listen("tcp", packets.LocalAddr().String())
	if err != nil {
		return nil, fmt.Errorf("cannot listen for connections at %s: %w", packets.LocalAddr(), err)
	}
	defer stream.Close()
	ready(packets.LocalAddr().String())
	out := &Exporters{}
	var mu sync.Mutex
	var all []*ipfix.Reader
	message := func(r *ipfix.Reader, b []byte) {
		mu.Lock()
		defer mu.Unlock()
		out.Messages++
		_ = r.Message(b, take) // what makes no sense is counted
	}
	exporter := func() *ipfix.Reader {
		mu.Lock()
		defer mu.Unlock()
		if len(all) >= maxExporters {
			out.Crowded++
			return nil
		}
		all = append(all, ipfix.New())
		return all[len(all)-1]
	}
	var open []net.Conn
	stop := context.AfterFunc(ctx, func() {
		packets.Close()
		stream.Close()
		mu.Lock()
		defer mu.Unlock()
		for _, c := range open {
			c.Close()
		}
	})
	defer stop()
	var work sync.WaitGroup
	work.Go(func() {
		for {
			c, err := stream.Accept()
			if err != nil {
				return
			}
			mu.Lock()
			full := len(open) >= maxConnections || ctx.Err() != nil
			if !full {
				open = append(open, c)
			}
			mu.Unlock()
			if full {
				c.Close()
				continue
			}
			work.Go(func() {
				if r := exporter(); r != nil {
					readStream(c, func(b []byte) { message(r, b) })
				}
				c.Close()
				mu.Lock()
				open = slices.DeleteFunc(open, func(o net.Conn) bool { return o == c })
				mu.Unlock()
			})
		}
	})
	from := make(map[string]*ipfix.Reader)
	b := make([]byte, 1<<16)
	for {
		n, peer, err := packets.ReadFrom(b)
		if errors.Is(err, net.ErrClosed) {
			break
		}
		if err != nil {
			continue
		}
		r := from[peer.String()]
		if r == nil {
			if r = exporter(); r == nil {
				continue
			}
			from[peer.String()] = r
		}
		message(r, b[:n])
	}
	work.Wait()
	for _, r := range all {
		out.Lost.Add(r.Lost)
	}
	return out, nil
}

// readStream reads messages one after the other, until something is none.
func readStream(c io.Reader, message func([]byte)) {
	r := bufio.NewReaderSize(c, 1<<17)
	for {
		head, err := r.Peek(4)
		if err != nil {
			return
		}
		n, err := ipfix.Length(head)
		if err != nil {
			return
		}
		b, err := r.Peek(n)
		if err != nil {
			return
		}
		message(b)
		_, _ = r.Discard(n)
	}
}
