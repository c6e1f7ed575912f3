package rtp

import (
	"bytes"
	"testing"
	"time"
)

// TestLayout holds headers and reports against the figures of RFC 3550, byte by byte.
func TestLayout(t *testing.T) {
	b := make([]byte, HeaderLength)
	h := Header{Type: 8, Marker: true, Sequence: 0x1234, Timestamp: 0x01020304, Source: 0xa0b0c0d0}
	h.Put(b)
	if want := []byte{0x80, 0x88, 0x12, 0x34, 1, 2, 3, 4, 0xa0, 0xb0, 0xc0, 0xd0}; !bytes.Equal(b, want) {
		t.Errorf("a header is %x; want %x", b, want)
	}
	r := Report{Source: 1, Time: 2<<32 | 3, Timestamp: 4, Packets: 5, Octets: 6, Name: "ab", Block: &Block{Source: 7, Fraction: 8, Lost: -2, Highest: 9, Jitter: 10, LastSR: 11, Delay: 12}}
	want := []byte{0x81, 200, 0, 12, 0, 0, 0, 1, 0, 0, 0, 2, 0, 0, 0, 3, 0, 0, 0, 4, 0, 0, 0, 5, 0, 0, 0, 6,
		0, 0, 0, 7, 8, 0xff, 0xff, 0xfe, 0, 0, 0, 9, 0, 0, 0, 10, 0, 0, 0, 11, 0, 0, 0, 12,
		0x81, 202, 0, 3, 0, 0, 0, 1, 1, 2, 'a', 'b', 0, 0, 0, 0}
	if got := r.Bytes(); !bytes.Equal(got, want) {
		t.Errorf("a report is\n%x; want\n%x", got, want)
	}
	back, err := ParseReport(want)
	if err != nil || *back.Block != *r.Block || back.Name != "ab" || back.Time != r.Time || back.Octets != 6 {
		t.Errorf("%+v, %v", back, err)
	}
}

// TestTimes: what goes through NTP comes back to the nanosecond, or one less.
func TestTimes(t *testing.T) {
	for _, ns := range []int64{0, 1, 999_999_999, 123_456_789} {
		at := time.Unix(1_790_000_000, ns)
		if d := at.Sub(Time(NTP(at))); d < 0 || d > 1 {
			t.Errorf("%v comes back %v off", at, d)
		}
	}
}

// TestReceiver: losses, disorder and a sequence number that begins again count as appendix A says,
// and the jitter of packets that come in turn early and late tends to their difference.
func TestReceiver(t *testing.T) {
	var r Receiver
	n := 0
	for i := range 1000 {
		if i%10 == 3 {
			continue // lost
		}
		n++
		late := uint32(i % 2 * 80) // each second one 10 ms late, of 8,000 ticks a second
		r.Take(&Header{Sequence: uint16(65000 + i), Timestamp: uint32(i * 160), Source: 9}, uint32(i*160)+late)
	}
	b := r.Block(time.Now())
	if b.Lost != int32(1000-n) || b.Highest != 65000+999 || b.Fraction != 25 || b.Source != 9 {
		t.Errorf("%+v after %d of 1000", b, n)
	}
	if b.Jitter < 60 || b.Jitter > 80 {
		t.Errorf("jitter %d ticks", b.Jitter)
	}
	if b := r.Block(time.Now()); b.Fraction != 0 || b.Lost != int32(1000-n) {
		t.Errorf("a second report at once: %+v", b)
	}
	if (&Receiver{}).Block(time.Now()) != nil {
		t.Error("who has received nothing reports it")
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte{0x80, 8, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0})
	f.Add((&Report{Name: "x", Block: &Block{}}).Bytes())
	f.Fuzz(func(t *testing.T, b []byte) {
		if h, payload, err := Parse(b); err == nil {
			c := make([]byte, HeaderLength)
			h.Put(c)
			if len(payload) > len(b)-HeaderLength || c[1] != b[1] || !bytes.Equal(c[2:], b[2:HeaderLength]) {
				t.Errorf("%x: %+v, %d bytes", b, h, len(payload))
			}
		}
		if r, err := ParseReport(b); err == nil {
			again, err := ParseReport(r.Bytes())
			if err != nil || again.Source != r.Source || again.Name != r.Name || (again.Block == nil) != (r.Block == nil) || r.Block != nil && *again.Block != *r.Block {
				t.Errorf("%x: %+v, then %+v, %v", b, r, again, err)
			}
		}
	})
}
