package stamp_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"testing"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/stamp"
)

// TestLayout holds the bytes of both packets, open and authenticated, against the figures of RFC
// 8762 §4.2 and §4.3, field by field, and the extension against RFC 8972 §4.4.
func TestLayout(t *testing.T) {
	at := time.Unix(1_790_000_000, 250_000_000)
	seconds, quarter := uint32(1_790_000_000+2_208_988_800), uint32(1<<30)
	for _, key := range [][]byte{nil, []byte("a key of the field")} {
		p := stamp.Probe{Sequence: 7, Time: at, Error: 0x8001, Session: 99, Class: &stamp.Class{Wanted: 46}}
		b := p.Bytes(key)
		times, n := 4, 44
		if key != nil {
			times, n = 16, 112
		}
		if len(b) != n+8 || binary.BigEndian.Uint32(b) != 7 || binary.BigEndian.Uint32(b[times:]) != seconds || binary.BigEndian.Uint32(b[times+4:]) != quarter ||
			binary.BigEndian.Uint16(b[times+8:]) != 0x8001 || binary.BigEndian.Uint16(b[times+10:]) != 99 {
			t.Errorf("the probe is %x", b)
		}
		if e := b[n:]; !bytes.Equal(e, []byte{0x80, 4, 0, 4, 46 << 2, 0, 0, 0}) {
			t.Errorf("the extension is %x", e)
		}
		got, err := stamp.ParseProbe(b, key)
		if err != nil || got.Sequence != 7 || !got.Time.Equal(at) || got.Session != 99 || got.Class == nil || got.Class.Wanted != 46 {
			t.Errorf("%+v, %v", got, err)
		}
		a := stamp.Answer{Sequence: 3, Time: at.Add(time.Second), Error: 0x8002, Session: 99, Received: at.Add(time.Second / 2), TTL: 61, Class: &stamp.Class{Wanted: 46, Received: 34, ECN: 1, Refused: true}}
		r := a.Reflect(b, key)
		if len(r) != len(b) || binary.BigEndian.Uint32(r) != 3 {
			t.Errorf("the answer is %x", r)
		}
		if key == nil && (binary.BigEndian.Uint32(r[4:]) != seconds+1 || binary.BigEndian.Uint32(r[16:]) != seconds || !bytes.Equal(r[24:38], b[:14]) || r[40] != 61) {
			t.Errorf("the answer is %x", r)
		}
		if e := r[n:]; !bytes.Equal(e, []byte{0, 4, 0, 4, 46<<2 | 34>>4, 34<<4&0xff | 1<<2 | 1, 0, 0}) {
			t.Errorf("the extension comes back as %x", e)
		}
		back, err := stamp.ParseAnswer(r, key)
		if err != nil || back.Sequence != 3 || back.Probe.Sequence != 7 || !back.Probe.Time.Equal(at) || back.TTL != 61 || !back.Received.Equal(at.Add(time.Second/2)) || *back.Class != *a.Class {
			t.Errorf("%+v, %v", back, err)
		}
		if key != nil {
			for _, i := range []int{0, 20, 95, 111} {
				r[i] ^= 1
				if _, err := stamp.ParseAnswer(r, key); !errors.Is(err, stamp.ErrKey) {
					t.Errorf("byte %d was changed: %v", i, err)
				}
				r[i] ^= 1
			}
			if _, err := stamp.ParseProbe(b, []byte("another")); !errors.Is(err, stamp.ErrKey) {
				t.Errorf("another key: %v", err)
			}
		}
		if _, err := stamp.ParseProbe(b[:n-1], key); !errors.Is(err, stamp.ErrShort) {
			t.Errorf("a packet that is cut: %v", err)
		}
	}
}

// TestUnknownExtensions: a reflector sends back what it does not know, marked so, and all of the
// length.
func TestUnknownExtensions(t *testing.T) {
	p := stamp.Probe{Class: &stamp.Class{Wanted: 10}}
	b := append(p.Bytes(nil), 0, 1, 0, 6, 1, 2, 3, 4, 5, 6, 0, 9, 0xff)
	a := stamp.Answer{Class: &stamp.Class{Wanted: 10, Received: 10}}
	r := a.Reflect(b, nil)
	if len(r) != len(b) || !bytes.Equal(r[52:62], []byte{0x80, 1, 0, 6, 1, 2, 3, 4, 5, 6}) {
		t.Errorf("%x comes back as %x", b[44:], r[44:])
	}
}

func FuzzStamp(f *testing.F) {
	p := stamp.Probe{Sequence: 1, Time: time.Unix(1, 1), Class: &stamp.Class{Wanted: 46}}
	f.Add(p.Bytes(nil), false)
	f.Add(p.Bytes([]byte("k")), true)
	f.Fuzz(func(t *testing.T, b []byte, authenticated bool) {
		var key []byte
		if authenticated {
			key = []byte("k")
		}
		_, _ = stamp.ParseAnswer(b, key)
		p, err := stamp.ParseProbe(b, key)
		if err != nil {
			return
		}
		a := stamp.Answer{Sequence: p.Sequence, Time: p.Time, Received: p.Time, Session: p.Session, Class: p.Class}
		r := a.Reflect(b, key)
		if len(r) != len(b) {
			t.Fatalf("%d bytes are answered with %d", len(b), len(r))
		}
		if back, err := stamp.ParseAnswer(r, key); err != nil || back.Probe.Sequence != p.Sequence {
			t.Fatalf("%+v, %v", back, err)
		}
	})
}

func ExampleProbe() {
	probe := stamp.Probe{Sequence: 1, Time: time.Unix(1_790_000_000, 0), Class: &stamp.Class{Wanted: codepoint.EF}}
	packet := probe.Bytes(nil)
	answer := stamp.Answer{Sequence: 0, Time: time.Unix(1_790_000_000, 3e6), Received: time.Unix(1_790_000_000, 2e6), Class: &stamp.Class{Wanted: codepoint.EF, Received: 0}}
	got, _ := stamp.ParseAnswer(answer.Reflect(packet, nil), nil)
	fmt.Println(len(packet), got.Probe.Sequence, got.Received.Sub(got.Probe.Time), got.Class.Received.Name())
	// Output: 52 1 2ms df
}
