package gate

import (
	"encoding/binary"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/recognise"
)

const (
	// maxStations bounds the hardware addresses that are remembered.
	maxStations = 1 << 14
	// stationLasts is how long a station is remembered that sends nothing: the ageing time of IEEE 802.1Q §8.8.3.
	stationLasts = 300 * time.Second
	// stationFresh is how long what was found for a pair of addresses stands.
	stationFresh = time.Second
)

// stations are the ports at which hardware addresses were seen, of a gate of three ports or more.
type stations struct {
	at    map[[6]byte]station
	swept time.Duration
	// The frame before: its addresses, port and where it went, and until when that stands.
	pair     [12]byte
	from, to int
	until    time.Duration
}

type station struct {
	port int
	seen time.Duration
}

func newStations() *stations { return &stations{at: make(map[[6]byte]station), from: -1} }

// place returns the port that a frame leaves by, -1 for all others, and notes where its sender is; false: there is no room to.
func (t *stations) place(frame []byte, from int, now time.Duration) (to int, remembered bool) {
	pair := [12]byte(frame)
	if pair == t.pair && from == t.from && now < t.until {
		return t.to, true
	}
	receiver, sender := [6]byte(pair[:6]), [6]byte(pair[6:])
	remembered = true
	if sender[0]&1 == 0 { // a group sends nothing
		if len(t.at) >= maxStations {
			t.sweep(now)
		}
		if _, known := t.at[sender]; known || len(t.at) < maxStations {
			t.at[sender] = station{from, now}
		} else {
			remembered = false
		}
	}
	to = -1
	if s, known := t.at[receiver]; known && receiver[0]&1 == 0 && now-s.seen < stationLasts {
		to = s.port
	}
	if remembered {
		t.pair, t.from, t.to, t.until = pair, from, to, now+stationFresh
	}
	return to, remembered
}

// sweep forgets those that have sent nothing for long, once a second.
func (t *stations) sweep(now time.Duration) {
	if now-t.swept < time.Second {
		return
	}
	t.swept = now
	for a, s := range t.at {
		if now-s.seen >= stationLasts {
			delete(t.at, a)
		}
	}
}

// addresses are those that a lane's packets came from and went to lately, for the other lane to ask: one may note and the
// other ask at the same time. What it says may be wrong for addresses that share a place.
type addresses struct {
	seen [1 << 16]atomic.Uint32
}

// answeredLasts is for how many seconds an address counts as seen.
const answeredLasts = 120

func place(a netip.Addr) uint32 {
	b := a.As16()
	h := binary.LittleEndian.Uint64(b[:8])*0x9e3779b97f4a7c15 ^ binary.LittleEndian.Uint64(b[8:])
	return uint32(h * 0x9e3779b97f4a7c15 >> 48)
}

func (t *addresses) note(now time.Duration, a netip.Addr) {
	second := uint32(now/time.Second) + 1
	if p := &t.seen[place(a)]; p.Load() != second {
		p.Store(second)
	}
}

func (t *addresses) has(now time.Duration, a netip.Addr) bool {
	second := t.seen[place(a)].Load()
	return second > 0 && uint32(now/time.Second)+1-second <= answeredLasts
}

// A watcher recognises the applications of conversations, whose two directions may be of two lanes.
type watcher struct {
	mutex      sync.Mutex
	recogniser *recognise.Recogniser
	all        bool // some class asks for an application that is recognised by more than ports
}

func newWatcher(f *policy.File) *watcher {
	return &watcher{recogniser: recognise.New(f.Apps), all: f.Recognises()}
}

// see notes a frame, and on it what is known of its conversation.
func (w *watcher) see(now time.Duration, f *frame) {
	if w.all || f.Fragment {
		w.mutex.Lock()
		w.recogniser.Watch(now, &f.Packet)
		w.mutex.Unlock()
	}
}
