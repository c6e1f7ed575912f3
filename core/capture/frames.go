package capture

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"slices"
	"time"

	"github.com/gopacket/gopacket/layers"

	"imbrel.example/imbrel/core/traffic"
)

// A frameReader reads the records of a pcap or pcapng file. What it cannot use it counts
// and leaves out, and where a record makes no sense it goes on at the next that does.
type frameReader struct {
	r       *bufio.Reader
	order   binary.ByteOrder
	ng      bool
	unit    time.Duration      // of a pcap's fractions of a second
	links   []captureInterface // of the section; a pcap has one
	ignored bool               // the section is of a version that is not known
	used    int                // bytes of the record that was returned last
	last    int64              // seconds of the record before
	skipped []traffic.Skipped
}

// A captureInterface is what a capture says of an interface.
type captureInterface struct {
	link   layers.LinkType
	snap   uint32 // 0: no limit
	ticks  uint64 // of its clock, in a second
	offset int64  // seconds that it counts from
}

// A record is a captured frame.
type record struct {
	data []byte // until the next is read
	wire int
	at   time.Duration // since 1970
	link layers.LinkType
}

const (
	captureBuffer = 1 << 20   // the largest block that is looked at
	maxCaptured   = 256 << 10 // bytes of a frame: what capture programs allow at most
	ngSection     = 0x0a0d0d0a
	ngMagic       = 0x1a2b3c4d
)

// newFrameReader recognises the format by its first bytes.
func newFrameReader(name string, r *bufio.Reader) (*frameReader, error) {
	f := &frameReader{r: bufio.NewReaderSize(r, captureBuffer), order: binary.LittleEndian}
	head, err := f.r.Peek(24)
	if len(head) < 4 {
		return nil, fmt.Errorf("%s is not a capture: it has only %d bytes", name, len(head))
	}
	if binary.LittleEndian.Uint32(head) == ngSection {
		f.ng = true
		return f, nil
	}
	for _, order := range []binary.ByteOrder{binary.LittleEndian, binary.BigEndian} {
		switch order.Uint32(head) {
		case 0xa1b2c3d4:
			f.order, f.unit = order, time.Microsecond
		case 0xa1b23c4d:
			f.order, f.unit = order, time.Nanosecond
		}
	}
	switch {
	case f.unit == 0:
		return nil, fmt.Errorf("%s is not a pcap or pcapng capture: it begins with %x", name, head[:4])
	case err != nil:
		return nil, fmt.Errorf("%s: %w", name, ErrCutShort)
	}
	f.links = []captureInterface{{link: layers.LinkType(f.order.Uint32(head[20:]) & 0xffff)}}
	f.used = 24
	return f, nil
}

// skip counts something that cannot be used.
func (f *frameReader) skip(why string) {
	for i := range f.skipped {
		if f.skipped[i].Why == why {
			f.skipped[i].Count++
			return
		}
	}
	const reasons = 20 // a damaged file has any number
	if len(f.skipped) < reasons {
		f.skipped = append(f.skipped, traffic.Skipped{Why: why, Count: 1})
	}
}

// next returns the next record; io.EOF at the end, ErrCutShort within a record.
func (f *frameReader) next() (record, error) {
	for {
		_, _ = f.r.Discard(f.used) // it was there to look at
		f.used = 0
		read := f.pcap
		if f.ng {
			read = f.block
		}
		rec, ok, err := read()
		if err != nil || ok {
			return rec, err
		}
	}
}

// ahead returns the next n bytes; io.EOF when there is none, ErrCutShort when there are
// fewer.
func (f *frameReader) ahead(n int) ([]byte, error) {
	b, err := f.r.Peek(n)
	switch {
	case err == nil:
		return b, nil
	case errors.Is(err, io.EOF) && len(b) == 0:
		return nil, io.EOF
	case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF):
		return nil, ErrCutShort
	}
	return nil, err
}

// pcap reads a record of a pcap file.
func (f *frameReader) pcap() (rec record, ok bool, err error) {
	h, err := f.ahead(16)
	if err != nil {
		return rec, false, err
	}
	if !f.plausible(h) && !f.overfull(h) {
		f.skip("damaged parts of the file")
		return rec, false, f.resync(16, func(b []byte) bool {
			if !f.plausible(b) || abs(int64(f.order.Uint32(b))-f.last) > 366*86400 {
				return false
			}
			end := 16 + int(f.order.Uint32(b[8:]))
			return len(b) < end+16 || f.plausible(b[end:])
		})
	}
	length := int(f.order.Uint32(h[8:]))
	if h, err = f.ahead(16 + length); err != nil {
		return rec, false, ErrCutShort
	}
	f.used, f.last = 16+length, int64(f.order.Uint32(h))
	at := time.Duration(f.last)*time.Second + time.Duration(f.order.Uint32(h[4:]))*f.unit
	return record{data: h[16 : 16+length], wire: int(f.order.Uint32(h[12:])), at: at, link: f.links[0].link}, true, nil
}

// plausible reports whether a pcap's record header can be one.
func (f *frameReader) plausible(h []byte) bool {
	captured, wire := f.order.Uint32(h[8:]), f.order.Uint32(h[12:])
	return captured <= maxCaptured && wire <= 1<<24 && captured <= wire+4 && time.Duration(f.order.Uint32(h[4:]))*f.unit < time.Second
}

// overfull reports whether all that is wrong with a record's header is a fraction of a
// second that is a whole one or more, as careless programs write: another follows it.
func (f *frameReader) overfull(h []byte) bool {
	fixed := bytes.Clone(h[:16])
	f.order.PutUint32(fixed[4:], 0)
	if !f.plausible(fixed) {
		return false
	}
	end := 16 + int(f.order.Uint32(h[8:]))
	b, _ := f.r.Peek(end + 16)
	return len(b) == end || len(b) == end+16 && f.plausible(b[end:])
}

// resync goes on to the next place that begins as begins says, of which so many bytes are
// there at least; at the end of the file it returns io.EOF.
func (f *frameReader) resync(least int, begins func([]byte) bool) error {
	for {
		_, _ = f.r.Discard(1)
		b, err := f.r.Peek(captureBuffer / 4)
		if len(b) < least {
			_, _ = f.r.Discard(len(b))
			return io.EOF
		}
		for i := 0; i+least <= len(b); i++ {
			if begins(b[i:]) {
				_, _ = f.r.Discard(i)
				return nil
			}
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		_, _ = f.r.Discard(len(b) - least)
	}
}

// block reads a block of a pcapng file.
func (f *frameReader) block() (rec record, ok bool, err error) {
	h, err := f.ahead(12)
	if err != nil {
		return rec, false, err
	}
	if binary.LittleEndian.Uint32(h) == ngSection { // the same in both byte orders
		f.order = binary.LittleEndian
		if binary.BigEndian.Uint32(h[8:]) == ngMagic {
			f.order = binary.BigEndian
		}
	}
	kind, total := f.order.Uint32(h), f.order.Uint32(h[4:])
	if total < 12 || total%4 != 0 || total > 1<<28 || kind == ngSection && (total < 28 || f.order.Uint32(h[8:]) != ngMagic) {
		return rec, false, f.damaged()
	}
	if total > captureBuffer {
		f.skip("blocks larger than 1 MiB")
		_, err := f.r.Discard(int(total))
		if err != nil {
			return rec, false, ErrCutShort
		}
		return rec, false, nil
	}
	b, err := f.ahead(int(total))
	if err != nil {
		return rec, false, err
	}
	if f.order.Uint32(b[total-4:]) != total {
		return rec, false, f.damaged()
	}
	f.used = int(total)
	body := b[8 : total-4]
	switch {
	case kind == ngSection:
		f.links = nil
		if f.ignored = f.order.Uint16(body[4:]) != 1; f.ignored {
			f.skip(fmt.Sprintf("sections of version %d.%d", f.order.Uint16(body[4:]), f.order.Uint16(body[6:])))
		}
	case f.ignored:
	case kind == 1:
		f.describe(body)
	case kind == 6 && len(body) >= 20: // an enhanced packet
		rec, ok = f.frame(f.order.Uint32(body), uint64(f.order.Uint32(body[4:]))<<32|uint64(f.order.Uint32(body[8:])), f.order.Uint32(body[12:]), f.order.Uint32(body[16:]), body[20:])
	case kind == 2 && len(body) >= 20: // a packet, as it was before
		rec, ok = f.frame(uint32(f.order.Uint16(body)), uint64(f.order.Uint32(body[4:]))<<32|uint64(f.order.Uint32(body[8:])), f.order.Uint32(body[12:]), f.order.Uint32(body[16:]), body[20:])
	case kind == 3 && len(body) >= 4: // a simple packet: without a time, of the first interface
		wire := f.order.Uint32(body)
		captured := min(wire, uint32(len(body)-4))
		if len(f.links) > 0 && f.links[0].snap > 0 {
			captured = min(captured, f.links[0].snap)
		}
		if rec, ok = f.frame(0, 0, captured, wire, body[4:]); ok {
			rec.at = time.Duration(f.last) * time.Second
		}
	case kind == 2 || kind == 3 || kind == 6:
		f.skip("packet blocks that are too short")
	}
	return rec, ok, nil
}

// damaged goes on at the next block that is whole.
func (f *frameReader) damaged() error {
	f.skip("damaged parts of the file")
	return f.resync(12, func(b []byte) bool {
		kind, total := f.order.Uint32(b), f.order.Uint32(b[4:])
		if !slices.Contains([]uint32{1, 2, 3, 4, 5, 6, ngSection}, kind) || total < 12 || total%4 != 0 || int(total) > len(b) {
			return false
		}
		return f.order.Uint32(b[total-4:]) == total
	})
}

// describe reads the description of an interface.
func (f *frameReader) describe(body []byte) {
	i := captureInterface{ticks: 1e6}
	if len(body) >= 8 {
		i.link, i.snap = layers.LinkType(f.order.Uint16(body)), f.order.Uint32(body[4:])
		for o := body[8:]; len(o) >= 4; {
			code, n := f.order.Uint16(o), int(f.order.Uint16(o[2:]))
			if code == 0 || len(o) < 4+n {
				break
			}
			switch v := o[4 : 4+n]; {
			case code == 9 && n >= 1 && v[0]&0x80 != 0:
				i.ticks = 1 << min(v[0]&0x7f, 62)
			case code == 9 && n >= 1:
				for i.ticks = 1; v[0] > 0 && i.ticks < 1e18; v[0]-- {
					i.ticks *= 10
				}
			case code == 14 && n >= 8:
				i.offset = int64(f.order.Uint64(v))
			}
			o = o[min(len(o), 4+(n+3)/4*4):]
		}
	}
	if len(f.links) < 1<<16 {
		f.links = append(f.links, i)
	}
}

// frame returns the frame of a packet block.
func (f *frameReader) frame(id uint32, ticks uint64, captured, wire uint32, body []byte) (record, bool) {
	switch {
	case int(id) >= len(f.links):
		f.skip("packets of an interface that the file does not describe")
		return record{}, false
	case captured > uint32(len(body)) || wire > 1<<24:
		f.skip("packets that are longer than their block")
		return record{}, false
	}
	i := &f.links[id]
	seconds := min(ticks/i.ticks, 1<<33)
	hi, lo := bits.Mul64(ticks%i.ticks, 1e9)
	ns, _ := bits.Div64(hi, lo, i.ticks)
	f.last = min(max(int64(seconds)+min(max(i.offset, -1<<33), 1<<33), 0), 1<<33)
	return record{data: body[:captured], wire: int(wire), at: time.Duration(f.last)*time.Second + time.Duration(ns), link: i.link}, true
}

func abs(v int64) int64 { return max(v, -v) }

// isGzip reports whether a file is compressed by gzip.
func isGzip(r *bufio.Reader) bool {
	magic, err := r.Peek(2)
	return err == nil && bytes.Equal(magic, []byte{0x1f, 0x8b})
}
