package codec

import (
	"fmt"
	"testing"
	"time"

	"imbrel.example/imbrel/core/unit"
)

// The budget of one call at its usual interval, from the standards' own tables:
// payload, IPv4, Ethernet frames, Ethernet on the wire.
func TestOneCall(t *testing.T) {
	for _, c := range []struct {
		name          string
		payload       int
		ip, frame, on unit.Rate
	}{
		{"g711", 160, 80_000, 87_200, 95_200},
		{"g722", 160, 80_000, 87_200, 95_200},
		{"g729", 20, 24_000, 31_200, 39_200},
		{"g723", 24, 17_067, 21_867, 27_200},
		{"opus", 60, 40_000, 47_200, 55_200},
	} {
		k, ok := ByName(c.name)
		if !ok || k.Payload != c.payload || k.Rate(k.Length(false)) != c.ip || k.Rate(k.Length(false)+18) != c.frame || k.Rate(k.Length(false)+38) != c.on {
			t.Errorf("%s: payload %d B, %d, %d and %d bit/s; want %d B, %d, %d and %d", c.name, k.Payload,
				k.Rate(k.Length(false)), k.Rate(k.Length(false)+18), k.Rate(k.Length(false)+38), c.payload, c.ip, c.frame, c.on)
		}
		if k.Length(true) != k.Length(false)+20 {
			t.Errorf("%s: over IPv6 a packet has %d B; want 20 more than %d", c.name, k.Length(true), k.Length(false))
		}
	}
	if len(Names()) != 5 {
		t.Errorf("codecs %v; want the five of the table above", Names())
	}
}

func TestOtherIntervals(t *testing.T) {
	for _, c := range []struct {
		name     string
		interval time.Duration
		bitRate  unit.Rate
		payload  int // 0: refused
		ticks    uint32
	}{
		{"g711", 10 * time.Millisecond, 0, 80, 80},
		{"g711", 30 * time.Millisecond, 0, 240, 240},
		{"g729", 40 * time.Millisecond, 0, 40, 320},
		{"g729", 25 * time.Millisecond, 0, 0, 0},
		{"g723", 20 * time.Millisecond, 0, 0, 0},
		{"g711", 300 * time.Millisecond, 0, 0, 0},
		{"opus", 40 * time.Millisecond, 32_000, 160, 1920},
		{"opus", 0, 600_000, 0, 0},
		{"g711", 0, 32_000, 0, 0},
	} {
		k, _ := ByName(c.name)
		k, err := k.With(c.interval, c.bitRate)
		if (err != nil) != (c.payload == 0) || err == nil && (k.Payload != c.payload || k.Ticks() != c.ticks) {
			t.Errorf("%s every %v at %v: payload %d, %d ticks, %v; want %d, %d", c.name, c.interval, c.bitRate, k.Payload, k.Ticks(), err, c.payload, c.ticks)
		}
	}
}

func ExampleCodec() {
	c, _ := ByName("g729")
	fmt.Println(c, c.Payload, c.Rate(c.Length(false)))
	// Output: G.729 20 24kbit/s
}
