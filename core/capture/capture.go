// Package capture reads captures of packets: pcap and pcapng, from any reader.
package capture

import (
	"bufio"
	"compress/gzip"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/gopacket/gopacket/layers"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/traffic"
)

// A Reader reads the frames of a capture as Ethernet frames: those of links without Ethernet get a header of zeros.
type Reader struct {
	name   string
	frames *frameReader
	count  int
	origin time.Duration
	room   []byte
	alien  error // why the first frame of a link that cannot be read was left out
}

// A linkLayer says how the frames of a link type become Ethernet frames: what
// goes in front of them is cut off, and the EtherType is at typeAt, or told by
// the IP version when typeAt is negative.
type linkLayer struct {
	cut, typeAt int
}

var linkLayers = map[layers.LinkType]linkLayer{
	layers.LinkTypeRaw:      {0, -1},
	12:                      {0, -1}, // raw IP on some systems
	14:                      {0, -1},
	layers.LinkTypeIPv4:     {0, -1},
	layers.LinkTypeIPv6:     {0, -1},
	layers.LinkTypeNull:     {4, -1},
	layers.LinkTypeLoop:     {4, -1},
	layers.LinkTypeLinuxSLL: {16, 14},
	276:                     {20, 0}, // Linux "cooked" version 2
}

// NewReader recognises the format of a capture by its first bytes: pcap or pcapng, plain or compressed by gzip. The
// name is for errors. A bufio.Reader is read as it is.
func NewReader(name string, from io.Reader) (*Reader, error) {
	r, buffered := from.(*bufio.Reader)
	if !buffered {
		r = bufio.NewReader(from)
	}
	if isGzip(r) {
		z, err := gzip.NewReader(r)
		if err != nil {
			return nil, fmt.Errorf("%s is not compressed as it seems: %w", name, err)
		}
		r = bufio.NewReader(z)
	}
	frames, err := newFrameReader(name, r)
	if err != nil {
		return nil, err
	}
	return &Reader{name: name, frames: frames, room: make([]byte, packet.EthernetHeader, 2048)}, nil
}

// ErrCutShort says that a capture ends in the middle of a packet.
var ErrCutShort = errors.New("it is cut short")

// Count returns how many frames have been read.
func (c *Reader) Count() int { return c.count }

// Began returns when the first frame was captured, since 1970; it is known once a frame was read.
func (c *Reader) Began() time.Duration { return c.origin }

// Ahead returns how many bytes were taken from the input and not yet read, of a capture that is not compressed.
func (c *Reader) Ahead() int { return c.frames.r.Buffered() - c.frames.used }

// Skipped returns what of the file could not be used.
func (c *Reader) Skipped() []traffic.Skipped { return c.frames.skipped }

// ReadFrame returns the next frame, which is valid until the next call, its whole length on the wire, its time since the
// first, and false at the end. ErrCutShort and what makes no sense are errors.
func (c *Reader) ReadFrame() ([]byte, int, time.Duration, bool, error) {
	for {
		rec, err := c.frames.next()
		switch {
		case errors.Is(err, io.EOF) && c.count == 0 && c.alien != nil:
			return nil, 0, 0, false, c.alien
		case errors.Is(err, io.EOF):
			return nil, 0, 0, false, nil
		case err != nil:
			return nil, 0, 0, false, fmt.Errorf("%s, packet %d: %w", c.name, c.count+1, err)
		}
		link, known := linkLayers[rec.link]
		if !known && rec.link != layers.LinkTypeEthernet {
			what := fmt.Sprintf("a link of type %d (%s)", int(rec.link), rec.link)
			if c.alien == nil {
				c.alien = fmt.Errorf("%s was taken on %s, which cannot be read: take it on Ethernet, or as raw IP", c.name, what)
			}
			c.frames.skip("packets of " + what)
			continue
		}
		if c.count++; c.count == 1 {
			c.origin = rec.at
		}
		if !known {
			return rec.data, rec.wire, rec.at - c.origin, true, nil
		}
		return c.asEthernet(&rec, link), rec.wire - link.cut + packet.EthernetHeader, rec.at - c.origin, true, nil
	}
}

// asEthernet puts an Ethernet header before what a frame of another link holds.
func (c *Reader) asEthernet(rec *record, link linkLayer) []byte {
	c.room = c.room[:packet.EthernetHeader]
	if len(rec.data) < link.cut {
		return c.room
	}
	kind, body := uint16(0), rec.data[link.cut:]
	switch {
	case link.typeAt >= 0 && len(rec.data) >= link.typeAt+2:
		kind = binary.BigEndian.Uint16(rec.data[link.typeAt:])
	case len(body) > 0 && body[0]>>4 == 4:
		kind = packet.TypeIPv4
	case len(body) > 0 && body[0]>>4 == 6:
		kind = packet.TypeIPv6
	}
	binary.BigEndian.PutUint16(c.room[12:], kind)
	c.room = append(c.room, body...)
	return c.room
}
