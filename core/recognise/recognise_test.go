package recognise

import (
	"bytes"
	"encoding/binary"
	"flag"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
)

// clientHello builds a ClientHello for a server name, in TLS records of at most size
// bytes, with other extensions before it.
func clientHello(name string, size int) []byte {
	sni := binary.BigEndian.AppendUint16(nil, uint16(len(name)+3))
	sni = append(sni, 0)
	sni = binary.BigEndian.AppendUint16(sni, uint16(len(name)))
	sni = append(sni, name...)
	var ext []byte
	add := func(kind uint16, b []byte) {
		ext = binary.BigEndian.AppendUint16(ext, kind)
		ext = binary.BigEndian.AppendUint16(ext, uint16(len(b)))
		ext = append(ext, b...)
	}
	add(51, make([]byte, 1200)) // a large key share, so that the hello spans segments
	add(0, sni)
	add(43, []byte{2, 3, 4})
	body := append([]byte{3, 3}, make([]byte, 32)...)
	body = append(body, 32)
	body = append(body, make([]byte, 32)...)
	body = append(body, 0, 4, 0x13, 1, 0x13, 2, 1, 0)
	body = binary.BigEndian.AppendUint16(body, uint16(len(ext)))
	body = append(body, ext...)
	message := append([]byte{1, 0, byte(len(body) >> 8), byte(len(body))}, body...)
	var out []byte
	for len(message) > 0 {
		n := min(size, len(message))
		out = append(out, 22, 3, 1, byte(n>>8), byte(n))
		out = append(out, message[:n]...)
		message = message[n:]
	}
	return out
}

var (
	client = netip.MustParseAddr("10.1.0.1")
	server = netip.MustParseAddr("10.2.0.1")
)

// send makes a packet with a payload and lets the recogniser watch it.
func send(r *Recogniser, f packet.Flow, sequence uint32, payload []byte) *packet.Packet {
	header := 20 + 8
	if f.Protocol == packet.TCP {
		header = 20 + 20
	}
	var p packet.Packet
	p.Build(make([]byte, packet.HeaderRoom), f, 0, header+len(payload), 0)
	frame := append(append([]byte{}, p.Bytes[:packet.EthernetHeader+header]...), payload...)
	if f.Protocol == packet.TCP {
		binary.BigEndian.PutUint32(frame[packet.EthernetHeader+24:], sequence)
	}
	q := &packet.Packet{}
	if err := q.Parse(frame, len(frame)); err != nil {
		panic(err)
	}
	r.Watch(0, q)
	return q
}

func web(port uint16) packet.Flow {
	return packet.Flow{From: client, To: server, FromPort: port, ToPort: 443, Protocol: packet.TCP}
}

func apps() []policy.App {
	return []policy.App{
		{Name: "weather", Number: 0, ServerNames: []string{"*.weather.example"}},
		{Name: "mail", Number: 1, ServerNames: []string{"mail.weather.example"}},
		{Name: "media", Number: 2, LooksLike: policy.LooksLikeRTP},
		{Name: "ssh", Number: 3, TCP: []policy.Range{policy.One(22)}},
		{Name: "https", Number: 4, TCP: []policy.Range{policy.One(443)}},
	}
}

func TestServerNamesInWhateverPieces(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 1))
	for trial := range 200 {
		r := New(apps())
		b := clientHello("Feeds.Weather.example", []int{1 << 14, 700, 37}[trial%3])
		f := web(uint16(2000 + trial))
		send(r, f, 999, nil) // the handshake's last step
		sequence := uint32(1000)
		if trial%5 == 0 {
			sequence = 0xffffff00 // about to begin anew
		}
		start := sequence
		for rest := b; len(rest) > 0; {
			n := min(len(rest), 1+rng.IntN(900))
			send(r, f, sequence, rest[:n])
			if rng.IntN(4) == 0 { // sent again, perhaps with more
				again := min(len(rest), n+rng.IntN(50))
				send(r, f, sequence, rest[:again])
			}
			rest, sequence = rest[n:], sequence+uint32(n)
		}
		if name := r.Known(f).Name; name != "feeds.weather.example" {
			t.Fatalf("trial %d: %d bytes from %d recognised as %q", trial, len(b), start, name)
		}
		// Both directions keep it.
		if p := send(r, f.Reverse(), 1, []byte{22, 3, 3, 0, 1, 2}); len(p.Apps) == 0 || p.Apps[0] != 1 {
			t.Fatalf("trial %d: the other direction has %v", trial, p.Apps)
		}
		if len(r.hellos.items) != 0 {
			t.Fatalf("trial %d: %d conversations are still being collected", trial, len(r.hellos.items))
		}
	}
}

func TestHTTPHost(t *testing.T) {
	for request, want := range map[string]string{
		"GET /a HTTP/1.1\r\nAccept: */*\r\nhost:  Maps.Weather.example:8080\r\n\r\n": "maps.weather.example",
		"POST / HTTP/1.1\r\nHost: mail.weather.example\r\n\r\n":                      "mail.weather.example",
		"GET / HTTP/1.0\r\n\r\nHost: no.weather.example\r\n":                         "",
		"GET / HTTP/1.1\r\nHost: bad name\r\n\r\n":                                   "",
		"SSH-2.0-thing\r\nHost: x.weather.example\r\n":                               "",
	} {
		for _, step := range []int{1, 7, 1000} {
			r := New(apps())
			f := web(3000)
			for i := 0; i < len(request); i += step {
				send(r, f, uint32(i), []byte(request[i:min(len(request), i+step)]))
			}
			if name := r.Known(f).Name; name != want {
				t.Errorf("%q in steps of %d: %q; want %q", request, step, name, want)
			}
		}
	}
}

// Two names on one address are separated by what each conversation says; a DNS
// answer names only what could say a name itself.
func TestDNSAnswers(t *testing.T) {
	r := New(apps())
	name := func(s string) []byte {
		var b []byte
		for _, l := range strings.Split(s, ".") {
			b = append(append(b, byte(len(l))), l...)
		}
		return append(b, 0)
	}
	// An alias, then the address of what it leads to.
	m := append([]byte{0, 1, 0x81, 0x80, 0, 1, 0, 2, 0, 0, 0, 0}, name("feeds.weather.example")...)
	m = append(m, 0, 1, 0, 1)
	alias := name("host7.provider.example")
	m = append(m, 0xc0, 12, 0, 5, 0, 1, 0, 0, 0, 60, 0, byte(len(alias)))
	at := len(m)
	m = append(m, alias...)
	m = append(m, 0xc0, byte(at), 0, 1, 0, 1, 0, 0, 0, 60, 0, 4)
	m = append(m, server.AsSlice()...)
	send(r, packet.Flow{From: netip.MustParseAddr("10.3.0.1"), To: client, FromPort: 53, ToPort: 4000, Protocol: packet.UDP}, 0, m)
	if p := send(r, web(5000), 0, nil); len(p.Apps) == 0 || p.Apps[0] != 1 {
		t.Errorf("a conversation with the address is %v; want weather", p.Apps)
	}
	mail := web(5001)
	send(r, mail, 100, clientHello("mail.weather.example", 1<<14))
	if name := r.Known(mail).Name; name != "mail.weather.example" {
		t.Errorf("its own word does not outweigh DNS: %q", name)
	}
	for what, f := range map[string]packet.Flow{
		"SSH":      {From: client, To: server, FromPort: 5002, ToPort: 22, Protocol: packet.TCP},
		"some TCP": {From: client, To: server, FromPort: 5004, ToPort: 8730, Protocol: packet.TCP},
		"some UDP": {From: client, To: server, FromPort: 5003, ToPort: 7400, Protocol: packet.UDP},
	} {
		if p := send(r, f, 0, nil); len(p.Apps) != 0 {
			t.Errorf("%s to the same address is %v; want nothing", what, p.Apps)
		}
	}
}

func TestLooksLikeRTP(t *testing.T) {
	media := packet.Flow{From: client, To: server, FromPort: 40000, ToPort: 41000, Protocol: packet.UDP}
	rtp := func(sequence uint16, source uint32) []byte {
		b := make([]byte, 172)
		b[0], b[1] = 0x80, 96
		binary.BigEndian.PutUint16(b[2:], sequence)
		binary.BigEndian.PutUint32(b[8:], source)
		return b
	}
	r := New(apps())
	for n := range 6 {
		p := send(r, media, 0, rtp(uint16(65533+n), 7)) // over the end of the numbers
		if got, want := len(p.Apps) > 0 && p.Apps[0] == 4, n >= 3; got != want {
			t.Errorf("packet %d in a row: recognised %t; want %t", n+1, got, want)
		}
	}
	// Nothing else is taken for it.
	rng := rand.New(rand.NewPCG(2, 2))
	for trial := range 2000 {
		f := media
		f.FromPort = uint16(trial)
		for n := range 10 {
			b := make([]byte, 20+rng.IntN(200))
			for i := range b {
				b[i] = byte(rng.Uint32())
			}
			if trial%2 == 0 { // a valid first byte, and another source each time
				b[0], b[1] = 0x80, 0
				binary.BigEndian.PutUint16(b[2:], uint16(n))
			}
			send(r, f, 0, b)
		}
		if is := r.Known(f).RTP; is {
			t.Fatalf("random packets are taken for RTP in trial %d", trial)
		}
	}
	report := packet.Flow{From: client, To: server, FromPort: 40001, ToPort: 41001, Protocol: packet.UDP}
	send(r, report, 0, append([]byte{0x80, 201, 0, 1, 0, 0, 0, 7}, 0x81, 202, 0, 1, 0, 0, 0, 7))
	if is := r.Known(report).RTP; !is {
		t.Error("RTCP beside it is not recognised")
	}
}

// Later fragments get the ports of the first.
func TestFragments(t *testing.T) {
	r := New(apps())
	f := packet.Flow{From: client, To: server, FromPort: 9, ToPort: 7400, Protocol: packet.UDP}
	piece := func(offset uint16, id byte) *packet.Packet {
		var p packet.Packet
		p.Build(make([]byte, packet.HeaderRoom), f, 0, 1028, 0)
		frame := append(append([]byte{}, p.Bytes...), make([]byte, 1042-len(p.Bytes))...)
		frame[14+5] = id
		binary.BigEndian.PutUint16(frame[14+6:], 0x2000|offset)
		q := &packet.Packet{}
		if err := q.Parse(frame, len(frame)); err != nil {
			panic(err)
		}
		r.Watch(0, q)
		return q
	}
	if stray := piece(126, 1); stray.HasPorts || r.Strays != 1 {
		t.Errorf("a stray fragment has ports %d", stray.Flow.ToPort)
	}
	piece(0, 2)
	if later := piece(126, 2); !later.HasPorts || later.Flow != f || r.Fragments != 1 {
		t.Errorf("a later fragment has %+v", later.Flow)
	}
}

// However many conversations there are, memory is bounded, the oldest are forgotten
// and counted, and new ones are still recognised.
func TestAFloodOfConversations(t *testing.T) {
	r := New(apps())
	for i := range MaxConversations + 5000 {
		f := packet.Flow{From: netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}), To: server, FromPort: 1, ToPort: 443, Protocol: packet.TCP}
		send(r, f, 0, []byte{22, 3, 1}) // a hello that never ends
	}
	conversations, hellos := r.Forgotten()
	if len(r.conversations.items) != MaxConversations || conversations != 5000 || len(r.hellos.items) != MaxHellos || hellos != MaxConversations+5000-MaxHellos {
		t.Errorf("%d conversations and %d hellos remembered, %d and %d forgotten", len(r.conversations.items), len(r.hellos.items), conversations, hellos)
	}
	f := web(7000)
	send(r, f, 0, clientHello("feeds.weather.example", 1<<14))
	if known := r.Known(f); known != (Known{Name: "feeds.weather.example", By: ByTLS}) {
		t.Errorf("a hello after the flood: %+v", known)
	}
}

// A hello has bounds of its own: one that is larger than MaxHello is given up, whatever
// comes after.
func TestAHelloWithoutEnd(t *testing.T) {
	r := New(apps())
	f := web(7001)
	piece := append([]byte("GET / HTTP/1.1\r\nCookie: "), make([]byte, 1000)...) // a header without end
	for i := 24; i < len(piece); i++ {
		piece[i] = 'a'
	}
	sequence := uint32(0)
	for range MaxHello/len(piece) + 3 {
		send(r, f, sequence, piece)
		sequence += uint32(len(piece))
		if h := r.hellos.peek(key0(f)); h != nil && len(h.bytes) > MaxHello+len(piece) {
			t.Fatalf("%d bytes of a hello are kept; the most is %d", len(h.bytes), MaxHello)
		}
	}
	if len(r.hellos.items) != 0 {
		t.Errorf("a hello of %d bytes is still being collected", sequence)
	}
}

func key0(f packet.Flow) packet.Flow {
	k, _ := key(f)
	return k
}

// What was not used for its time is forgotten; what is in use stays.
func TestWhatIsOldIsForgotten(t *testing.T) {
	r := New(apps())
	busy, idle := web(8000), web(8001)
	send(r, busy, 0, clientHello("mail.weather.example", 1<<14))
	send(r, idle, 0, clientHello("mail.weather.example", 1<<14))
	var p packet.Packet
	for now := time.Duration(0); now < 3*ConversationLasts; now += time.Minute {
		p.Build(make([]byte, packet.HeaderRoom), busy, 0, 1500, 0)
		r.Watch(now, &p)
	}
	if len(p.Apps) == 0 || p.Apps[0] != 3 { // the patterns of weather and of mail
		t.Errorf("a conversation in use is of the applications %b; want 11", p.Apps)
	}
	p.Build(make([]byte, packet.HeaderRoom), idle, 0, 1500, 0)
	if r.Watch(3*ConversationLasts, &p); len(p.Apps) != 0 {
		t.Errorf("a conversation that idled for %v is still of the applications %b", 3*ConversationLasts, p.Apps)
	}
}

// A SYN begins a new conversation on the same ports, which says its own name.
func TestPortsAreUsedAgain(t *testing.T) {
	r := New(apps())
	f := web(9000)
	send(r, f, 0, clientHello("feeds.weather.example", 1<<14))
	var syn packet.Packet
	syn.Build(make([]byte, packet.HeaderRoom), f, 0, 60, 0)
	syn.Network()[20+13] = 0x02
	if r.Watch(0, &syn); len(syn.Apps) != 0 {
		t.Errorf("a SYN is of the applications %b of the conversation before", syn.Apps)
	}
	send(r, f, 5000, clientHello("mail.weather.example", 1<<14))
	if name := r.Known(f).Name; name != "mail.weather.example" {
		t.Errorf("the second conversation's name is %q", name)
	}
}

func FuzzServerName(f *testing.F) {
	f.Add(clientHello("a.example", 100))
	f.Add([]byte("GET / HTTP/1.1\r\nHost: a.example\r\n\r\n"))
	f.Fuzz(func(t *testing.T, b []byte) { anyHello(t, b) })
}

// anyHello reads the name of the first bytes of a conversation.
func anyHello(t testing.TB, b []byte) (named bool) {
	if len(b) == 0 {
		return false
	}
	name, _ := serverName(b)
	if name != strings.ToLower(name) || len(name) > 253 {
		t.Fatalf("%q", name)
	}
	return name != ""
}

var mutated = flag.Int("mutated", 100_000, "how many damaged hellos, answers and media packets TestDamagedConversations reads")

// Damaged hellos, answers and media packets give a name, or none.
func TestDamagedConversations(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	seeds := [][]byte{clientHello("a.example", 100), []byte("GET / HTTP/1.1\r\nHost: a.example\r\n\r\n"),
		{0, 1, 0x81, 0x80, 0, 1, 0, 1, 0, 0, 0, 0, 1, 'a', 0, 0, 1, 0, 1, 0xc0, 12, 0, 1, 0, 1, 0, 0, 0, 60, 0, 4, 10, 0, 0, 1},
		{0x80, 0, 0, 1, 0, 0, 0, 160, 1, 2, 3, 4, 0, 0, 0, 0, 0, 0, 0, 0}}
	named := 0
	recogniser := New(nil)
	for n := range *mutated {
		b := bytes.Clone(seeds[r.IntN(len(seeds))])
		for range 1 + r.IntN(4) {
			b[r.IntN(len(b))] = byte(r.IntN(256))
		}
		b = b[:len(b)-r.IntN(1+r.IntN(len(b)))]
		if anyHello(t, b) {
			named++
		}
		if n%(1<<16) == 0 {
			recogniser = New(nil)
		}
		recogniser.answer(0, b)
		isRTCP(b)
		var s rtpState
		s.watch(b)
	}
	if known := len(recogniser.names.items); known > MaxNames || named < *mutated/100 {
		t.Errorf("%d named, %d names known", named, known)
	}
}

func FuzzAnswer(f *testing.F) {
	f.Add([]byte{0, 1, 0x81, 0x80, 0, 1, 0, 1, 0, 0, 0, 0, 1, 'a', 0, 0, 1, 0, 1, 0xc0, 12, 0, 1, 0, 1, 0, 0, 0, 60, 0, 4, 10, 0, 0, 1})
	f.Add([]byte{0, 1, 0x81, 0x80, 0, 1, 0, 1, 0, 0, 0, 0, 0xc0, 12, 0, 1, 0, 1}) // a name that leads to itself
	f.Fuzz(func(t *testing.T, b []byte) {
		r := New(nil)
		r.answer(0, b)
		if len(r.names.items) > 64 {
			t.Fatalf("%d names from one answer", len(r.names.items))
		}
		isRTCP(b)
		var s rtpState
		s.watch(b)
	})
}

// What a client is made to begin with is what is recognised, of any name and port.
func TestHelloIsRecognised(t *testing.T) {
	for _, port := range []uint16{443, 80, 8080, 8730} {
		for _, name := range []string{"www.weather.example", "a.example", strings.Repeat("long.", 40) + "example"} {
			r := New(apps())
			f := web(6000)
			f.ToPort = port
			send(r, f, 7, Hello(name, port))
			if got := r.Known(f); got.Name != name || (got.By == ByHTTP) != (port == 80 || port == 8080) {
				t.Errorf("port %d, %s: %+v", port, name, got)
			}
		}
	}
}

// What is kept of a conversation is kept for both directions, until a new one begins or it is forgotten; without ports it is between addresses.
func TestKept(t *testing.T) {
	r := New(apps())
	f := web(6001)
	p := send(r, f, 1, nil)
	here := r.Here(0, p)
	*here.Kept = "mine"
	if back := r.Here(0, send(r, f.Reverse(), 1, nil)); *back.Kept != "mine" || back.Forward == here.Forward || back.Flow != here.Flow {
		t.Errorf("the other direction: %+v", back)
	}
	if other := r.Here(0, send(r, web(6002), 1, nil)); *other.Kept != nil {
		t.Errorf("another conversation: %+v", other)
	}
	ping := packet.Flow{From: client, To: server, Protocol: 1}
	*r.Here(0, send(r, ping, 0, nil)).Kept = 5
	if again := r.Here(0, send(r, ping.Reverse(), 0, nil)); *again.Kept != 5 {
		t.Errorf("without ports: %+v", again)
	}
}
