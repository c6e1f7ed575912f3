package ipfix_test

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"testing"
	"time"

	"imbrel.example/imbrel/core/ipfix"
)

// message puts sets into a message of a domain, with a sequence number.
func message(domain, sequence uint32, sets ...[]byte) []byte {
	b := make([]byte, 16)
	binary.BigEndian.PutUint16(b, 10)
	binary.BigEndian.PutUint32(b[4:], 1_790_000_000)
	binary.BigEndian.PutUint32(b[8:], sequence)
	binary.BigEndian.PutUint32(b[12:], domain)
	b = append(b, slices.Concat(sets...)...)
	binary.BigEndian.PutUint16(b[2:], uint16(len(b)))
	return b
}

func set(id uint16, body ...byte) []byte {
	b := binary.BigEndian.AppendUint16(nil, id)
	b = binary.BigEndian.AppendUint16(b, uint16(4+len(body)))
	return append(b, body...)
}

func numbers(all ...uint16) (b []byte) {
	for _, n := range all {
		b = binary.BigEndian.AppendUint16(b, n)
	}
	return b
}

// usual is a template of the addresses, the ports, the protocol, the class, bytes (in four octets: reduced), packets and two times.
var usual = numbers(256, 10, 8, 4, 12, 4, 7, 2, 11, 2, 4, 1, 5, 1, 1, 4, 2, 8, 152, 8, 153, 8)

func usualRecord(last byte, bytes uint32) (b []byte) {
	b = append(b, 10, 1, 0, last, 10, 2, 0, 9)
	b = append(b, numbers(50000, 443)...)
	b = append(b, 6, 0xb8)
	b = binary.BigEndian.AppendUint32(b, bytes)
	b = binary.BigEndian.AppendUint64(b, 3)
	b = binary.BigEndian.AppendUint64(b, 1_790_000_000_500)
	return binary.BigEndian.AppendUint64(b, 1_790_000_030_000)
}

func read(t *testing.T, r *ipfix.Reader, messages ...[]byte) (out []ipfix.Record) {
	t.Helper()
	for _, m := range messages {
		_ = r.Message(m, func(k *ipfix.Record) { out = append(out, *k) })
	}
	return out
}

func TestRecord(t *testing.T) {
	r := ipfix.New()
	got := read(t, r, message(7, 0, set(2, usual...), set(256, slices.Concat(usualRecord(1, 4500), usualRecord(2, 1<<31), []byte{0, 0, 0})...)))
	if len(got) != 2 || r.Lost != (ipfix.Lost{}) {
		t.Fatalf("%d records, %+v", len(got), r.Lost)
	}
	k := got[1]
	if k.Flow.From != netip.MustParseAddr("10.1.0.2") || k.Flow.To != netip.MustParseAddr("10.2.0.9") || k.Flow.FromPort != 50000 || k.Flow.ToPort != 443 || k.Flow.Protocol != 6 ||
		k.DSCP.Name() != "ef" || k.Bytes != 1<<31 || k.Packets != 3 || k.From != 1_790_000_000_500*time.Millisecond || k.To != 1_790_000_030*time.Second {
		t.Errorf("%+v", k)
	}
}

// Templates are of their domain, may change, and may be taken back; what has none is counted; what is missing, and what comes late, too.
func TestTemplatesAndSequence(t *testing.T) {
	r := ipfix.New()
	read(t, r, message(1, 0, set(2, usual...), set(256, usualRecord(1, 1)...)))
	if got := read(t, r, message(2, 0, set(256, usualRecord(1, 1)...))); got != nil || r.Unknown != 1 {
		t.Errorf("a template of another domain is used: %v, %+v", got, r.Lost)
	}
	if got := read(t, r, message(1, 5, set(256, usualRecord(1, 1)...))); len(got) != 1 || r.Records != 4 {
		t.Errorf("%d records, %d missing; want 1, 4", len(got), r.Records)
	}
	if read(t, r, message(1, 2, set(256, slices.Concat(usualRecord(1, 1), usualRecord(1, 1))...))); r.Records != 2 {
		t.Errorf("two of them come late: %d missing; want 2", r.Records)
	}
	if read(t, r, message(1, 6, set(256, usualRecord(1, 1)...))); r.Records != 2 {
		t.Errorf("then goes on: %d missing; want 2", r.Records)
	}
	short := numbers(256, 3, 8, 4, 12, 4, 1, 2) // the same number, another record
	if got := read(t, r, message(1, 7, set(2, short...), set(256, 10, 1, 0, 3, 10, 2, 0, 4, 0x12, 0x34))); len(got) != 1 || got[0].Bytes != 0x1234 || got[0].From != 1_790_000_000*time.Second {
		t.Errorf("a template that changes: %+v", got)
	}
	if got := read(t, r, message(1, 8, set(2, numbers(256, 0)...), set(256, usualRecord(1, 1)...))); got != nil || r.Withdrawn != 1 || r.Unknown != 2 {
		t.Errorf("a template that was taken back: %v, %+v", got, r.Lost)
	}
}

// Fields of variable length, of enterprises, of the other direction and of options are read over or used.
func TestFields(t *testing.T) {
	r := ipfix.New()
	template := slices.Concat(numbers(300, 8, 27, 16, 28, 16, 96, 0xffff, 0x8000|500, 4), []byte{0, 0, 0x23, 0x45}, numbers(85, 8, 0x8000|1, 8), []byte{0, 0, 0x72, 0x79}, numbers(0x8000|2, 2), []byte{0, 0, 0x72, 0x79}, numbers(239, 1))
	from, to := netip.MustParseAddr("2001:db8::1").As16(), netip.MustParseAddr("2001:db8::2").As16()
	record := func(name string, long bool) []byte {
		length := []byte{byte(len(name))}
		if long {
			length = []byte{255, 0, byte(len(name))}
		}
		return slices.Concat(from[:], to[:], length, []byte(name), []byte{1, 2, 3, 4}, make([]byte, 6), numbers(900), make([]byte, 6), numbers(70), numbers(5), []byte{2})
	}
	options := slices.Concat(numbers(301, 2, 1, 149, 4, 160, 8))
	got := read(t, r, message(1, 0, set(2, template...), set(3, options...), set(300, slices.Concat(record("maps", false), record("a\x1b[31m b", true))...), set(301, make([]byte, 12)...)))
	if len(got) != 2 || r.Lost != (ipfix.Lost{}) {
		t.Fatalf("%d records, %+v", len(got), r.Lost)
	}
	if k := got[0]; k.App != "maps" || k.Bytes != 900 || k.Reverse == nil || *k.Reverse != (ipfix.Counts{Packets: 5, Bytes: 70}) || !k.InitiatorKnown || k.FromInitiator {
		t.Errorf("%+v", k)
	}
	if got[1].App != "a[31mb" {
		t.Errorf("a name for a terminal: %q", got[1].App)
	}
	if read(t, r, message(1, 3)); r.Records != 0 {
		t.Errorf("records of options count in the sequence: %d missing", r.Records)
	}
}

func TestNonsense(t *testing.T) {
	good := message(1, 0, set(2, usual...), set(256, usualRecord(1, 1)...))
	for what, m := range map[string][]byte{
		"nothing": {}, "another version": append([]byte{0, 9}, good[2:]...), "cut short": good[:len(good)-9], "a set of length 0": message(1, 0, []byte{1, 0, 0, 0}),
		"a template without fields that take room": message(1, 0, set(2, numbers(256, 1, 8, 0)...)), "a template of too many": message(1, 0, set(2, numbers(256, 600)...)),
		"a variable field beyond its set": message(1, 0, set(2, numbers(256, 1, 96, 0xffff)...), set(256, 200, 1, 2)),
	} {
		r := ipfix.New()
		if got := read(t, r, m); len(got) > 0 || what != "nothing" && r.Lost == (ipfix.Lost{}) {
			t.Errorf("%s: %d records, %+v", what, len(got), r.Lost)
		}
	}
	r := ipfix.New()
	for i := range uint32(3 * ipfix.MaxDomains) {
		read(t, r, message(i, 0, set(2, numbers(uint16(256+i%60000), 1, 8, 4)...)))
	}
	if r.Crowded != 2*ipfix.MaxDomains {
		t.Errorf("%d domains found no room", r.Crowded)
	}
}

func FuzzMessage(f *testing.F) {
	f.Add(message(1, 0, set(2, usual...), set(256, usualRecord(1, 1)...)), message(1, 1, set(256, usualRecord(1, 1)...)))
	f.Add(message(1, 0, set(3, numbers(301, 2, 1, 149, 4, 160, 8)...)), message(1, 0, set(2, numbers(256, 1, 96, 0xffff)...), set(256, 3, 1, 2, 3)))
	f.Fuzz(func(t *testing.T, a, b []byte) {
		r := ipfix.New()
		for _, m := range [][]byte{a, b, a} {
			n := 0
			_ = r.Message(m, func(k *ipfix.Record) {
				if n++; k.Bytes < 0 || k.Packets < 0 || !k.Flow.From.IsValid() {
					t.Errorf("%+v", k)
				}
			})
			if n > len(m) {
				t.Errorf("%d records in %d bytes", n, len(m))
			}
		}
	})
}

func BenchmarkMessage(b *testing.B) {
	r := ipfix.New()
	_ = r.Message(message(1, 0, set(2, usual...)), func(*ipfix.Record) {})
	var body []byte
	for i := range byte(28) {
		body = append(body, usualRecord(i, 1000)...)
	}
	m := message(1, 0, set(256, body...))
	n := 0
	for b.Loop() {
		_ = r.Message(m, func(*ipfix.Record) { n++ })
	}
	b.ReportMetric(float64(n)/b.Elapsed().Seconds(), "records/s")
}
