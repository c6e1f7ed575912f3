// Package ipfix reads flow records as RFC 7011 has them: messages, templates, options, fields of variable length, and several
// observation domains. Of the information elements of RFC 7012 it uses those that say who sent how much, when, and how it was marked.
package ipfix

import (
	"encoding/binary"
	"errors"
	"math"
	"net/netip"
	"slices"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/packet"
)

// A Record is a flow, as an exporter says it. What it does not say is zero, or false.
type Record struct {
	Flow           packet.Flow
	DSCP           codepoint.DSCP
	Tagged         bool
	VLAN           uint16
	FlagsKnown     bool
	TCPFlags       uint8 // of all packets together
	FromInitiator  bool  // the sender began the conversation
	InitiatorKnown bool
	App            string // as the exporter names it
	Packets, Bytes int64
	From, To       time.Duration // since 1970
	Reverse        *Counts       // of the other direction (RFC 5103); nil: the record does not say
}

// Counts are of packets and their bytes.
type Counts struct{ Packets, Bytes int64 }

// Bounds of a Reader's memory.
const (
	MaxTemplates = 1 << 12 // of all domains together
	MaxFields    = 1 << 9  // of a template
	MaxDomains   = 1 << 10
	headerLength = 16
)

// Lost is what could not be used, and why.
type Lost struct {
	Messages  int64 // that do not make sense
	Records   int64 // missing, by the sequence numbers of the domains
	Unknown   int64 // sets whose template has not come
	Useless   int64 // records that do not say who sent how much
	Withdrawn int64 // templates that were taken back
	Crowded   int64 // templates, or domains, for which there was no room
	Old       int64 // messages of another version
}

// A Reader turns the messages of one exporter into records.
type Reader struct {
	Lost
	templates map[templateKey]*template
	domains   map[uint32]*domain
	record    Record
}

type templateKey struct {
	domain uint32
	id     uint16
}

type domain struct {
	next    uint32 // sequence number
	begun   bool
	started time.Duration // of the exporter's system, by its options; 0: unknown
}

// A template says of what fields a record is.
type template struct {
	fields  []field
	least   int // length of a record: the sum of the fixed ones, and one for each variable
	options bool
}

type field struct {
	element uint16
	length  uint16 // 65535: variable
	reverse bool   // of the other direction (RFC 5103)
	foreign bool   // of an enterprise that is not known
}

const (
	variable      = 0xffff
	templateSet   = 2
	optionsSet    = 3
	reverseNumber = 29305 // the enterprise of RFC 5103
)

// New returns a reader.
func New() *Reader {
	return &Reader{templates: make(map[templateKey]*template), domains: make(map[uint32]*domain)}
}

// ErrNoMessage says that bytes are not a message.
var ErrNoMessage = errors.New("not a message of IPFIX")

// Length returns how long the message that begins with these bytes is, or 0 when too few are at hand. An error: it is none.
func Length(b []byte) (int, error) {
	if len(b) < 4 {
		return 0, nil
	}
	n := int(binary.BigEndian.Uint16(b[2:]))
	if binary.BigEndian.Uint16(b) != 10 || n < headerLength {
		return 0, ErrNoMessage
	}
	return n, nil
}

// Message reads a message and gives each flow record to take; the record is valid until take returns.
func (r *Reader) Message(b []byte, take func(*Record)) error {
	switch n, err := Length(b); {
	case len(b) >= 2 && binary.BigEndian.Uint16(b) != 10:
		r.Old++
		return ErrNoMessage
	case err != nil || n == 0 || n > len(b):
		r.Messages++
		return ErrNoMessage
	default:
		b = b[:n]
	}
	exported := time.Duration(binary.BigEndian.Uint32(b[4:])) * time.Second
	sequence, id := binary.BigEndian.Uint32(b[8:]), binary.BigEndian.Uint32(b[12:])
	d := r.domains[id]
	if d == nil {
		if len(r.domains) >= MaxDomains {
			r.Crowded++
			return nil
		}
		d = &domain{}
		r.domains[id] = d
	}
	next := d.next
	switch missing := int32(sequence - next); {
	case !d.begun || missing >= 1<<24 || missing <= -1<<24: // the first, or the exporter began again
		next = sequence
	case missing > 0:
		r.Records += int64(missing)
		next = sequence
	}
	d.begun, d.next = true, sequence
	before := r.Unknown
	defer func() {
		if int32(next-sequence) > 0 { // it came late, and was counted as missing
			r.Records = max(0, r.Records-int64(d.next-sequence))
			d.next = next
		}
		d.begun = r.Unknown == before // how many records there were in what could not be read is not known
	}()
	for b = b[headerLength:]; len(b) >= 4; {
		set, n := binary.BigEndian.Uint16(b), int(binary.BigEndian.Uint16(b[2:]))
		if n < 4 || n > len(b) {
			r.Messages++
			return ErrNoMessage
		}
		body := b[4:n]
		b = b[n:]
		switch {
		case set == templateSet || set == optionsSet:
			if !r.learn(id, body, set == optionsSet) {
				r.Messages++
				return ErrNoMessage
			}
		case set >= 256:
			t := r.templates[templateKey{id, set}]
			if t == nil {
				r.Unknown++
				continue
			}
			d.next += uint32(r.data(d, t, body, exported, take))
		}
	}
	return nil
}

// learn reads templates.
func (r *Reader) learn(domain uint32, b []byte, options bool) bool {
	for len(b) >= 4 {
		id, count := binary.BigEndian.Uint16(b), int(binary.BigEndian.Uint16(b[2:]))
		if id == 0 { // padding
			return true
		}
		b = b[4:]
		k := templateKey{domain, id}
		if count == 0 { // a withdrawal, of one or of all
			r.Withdrawn++
			if id == templateSet || id == optionsSet {
				for o, t := range r.templates {
					if o.domain == domain && t.options == (id == optionsSet) {
						delete(r.templates, o)
					}
				}
			} else {
				delete(r.templates, k)
			}
			continue
		}
		if options {
			if len(b) < 2 {
				return false
			}
			b = b[2:] // how many of the fields are the scope
		}
		if id < 256 || count > MaxFields {
			return false
		}
		t := &template{options: options, fields: make([]field, 0, count)}
		for range count {
			if len(b) < 4 {
				return false
			}
			f := field{element: binary.BigEndian.Uint16(b) & 0x7fff, length: binary.BigEndian.Uint16(b[2:])}
			enterprise := b[0]&0x80 != 0
			b = b[4:]
			if enterprise {
				if len(b) < 4 {
					return false
				}
				f.reverse = binary.BigEndian.Uint32(b) == reverseNumber
				f.foreign = !f.reverse
				b = b[4:]
			}
			if f.length == variable {
				t.least++
			} else {
				t.least += int(f.length)
			}
			t.fields = append(t.fields, f)
		}
		if t.least == 0 {
			return false
		}
		if _, known := r.templates[k]; !known && len(r.templates) >= MaxTemplates {
			r.Crowded++
			continue
		}
		r.templates[k] = t
	}
	return true
}

// data reads the records of a set, and returns how many there were.
func (r *Reader) data(d *domain, t *template, b []byte, exported time.Duration, take func(*Record)) (n int) {
	for len(b) >= t.least {
		length := r.read(d, t, b, exported)
		if length < 0 {
			r.Messages++
			return n
		}
		b = b[length:]
		n++
		if t.options {
			continue
		}
		if k := &r.record; k.Flow.From.IsValid() && k.Flow.To.IsValid() && k.Flow.From.Is4() == k.Flow.To.Is4() && (k.Packets > 0 || k.Bytes > 0) && k.Packets >= 0 && k.Bytes >= 0 {
			take(k)
		} else {
			r.Useless++
		}
	}
	return n
}

// The information elements that are used (RFC 7012).
const (
	octetDelta        = 1
	packetDelta       = 2
	protocol          = 4
	classOfService    = 5
	tcpFlags          = 6
	fromPort          = 7
	from4             = 8
	toPort            = 11
	to4               = 12
	endUptime         = 21
	startUptime       = 22
	from6             = 27
	to6               = 28
	vlan              = 58
	octetTotal        = 85
	packetTotal       = 86
	applicationName   = 96
	startSeconds      = 150
	endSeconds        = 151
	startMilliseconds = 152
	endMilliseconds   = 153
	startMicroseconds = 154
	endMicroseconds   = 155
	startNanoseconds  = 156
	endNanoseconds    = 157
	startDelta        = 158
	endDelta          = 159
	systemInit        = 160
	dot1qVLAN         = 243
	codepointElement  = 195 // ipDiffServCodePoint
	biflowDirection   = 239
	durationMillis    = 161
)

// read reads one record into r.record, and returns its length; -1: it goes beyond its set.
func (r *Reader) read(d *domain, t *template, b []byte, exported time.Duration) int {
	k := &r.record
	*k = Record{}
	var reverse Counts
	var upFrom, upTo, lasted int64 = -1, -1, -1
	at := 0
	for i := range t.fields {
		f := &t.fields[i]
		n := int(f.length)
		if f.length == variable {
			if at >= len(b) {
				return -1
			}
			if n = int(b[at]); n == 255 {
				if at+3 > len(b) {
					return -1
				}
				n = int(binary.BigEndian.Uint16(b[at+1:]))
				at += 2
			}
			at++
		}
		if at+n > len(b) {
			return -1
		}
		v := b[at : at+n]
		at += n
		if f.foreign {
			continue
		}
		if f.reverse {
			switch f.element {
			case octetDelta, octetTotal:
				reverse.Bytes = number(v)
			case packetDelta, packetTotal:
				reverse.Packets = number(v)
			}
			continue
		}
		switch f.element {
		case octetDelta:
			k.Bytes = number(v)
		case packetDelta:
			k.Packets = number(v)
		case octetTotal:
			if k.Bytes == 0 {
				k.Bytes = number(v)
			}
		case packetTotal:
			if k.Packets == 0 {
				k.Packets = number(v)
			}
		case protocol:
			k.Flow.Protocol = uint8(number(v))
		case classOfService:
			k.DSCP = codepoint.DSCP(uint8(number(v)) >> 2)
		case codepointElement:
			k.DSCP = codepoint.DSCP(number(v) & 63)
		case tcpFlags:
			k.TCPFlags, k.FlagsKnown = uint8(number(v)), true
		case fromPort:
			k.Flow.FromPort = uint16(number(v))
		case toPort:
			k.Flow.ToPort = uint16(number(v))
		case from4, from6:
			if a, ok := netip.AddrFromSlice(v); ok && !(a.IsUnspecified() && k.Flow.From.IsValid()) {
				k.Flow.From = a.Unmap()
			}
		case to4, to6:
			if a, ok := netip.AddrFromSlice(v); ok && !(a.IsUnspecified() && k.Flow.To.IsValid()) {
				k.Flow.To = a.Unmap()
			}
		case vlan, dot1qVLAN:
			if n := number(v) & 0xfff; n > 0 {
				k.VLAN, k.Tagged = uint16(n), true
			}
		case applicationName:
			k.App = printable(v)
		case biflowDirection:
			n := number(v)
			k.InitiatorKnown, k.FromInitiator = n == 1 || n == 2, n == 1
		case startSeconds:
			k.From = scaled(number(v), time.Second)
		case endSeconds:
			k.To = scaled(number(v), time.Second)
		case startMilliseconds:
			k.From = scaled(number(v), time.Millisecond)
		case endMilliseconds:
			k.To = scaled(number(v), time.Millisecond)
		case startMicroseconds, startNanoseconds:
			k.From = ntp(v)
		case endMicroseconds, endNanoseconds:
			k.To = ntp(v)
		case startDelta:
			k.From = exported - scaled(number(v), time.Microsecond)
		case endDelta:
			k.To = exported - scaled(number(v), time.Microsecond)
		case startUptime:
			upFrom = number(v)
		case endUptime:
			upTo = number(v)
		case durationMillis:
			lasted = number(v)
		case systemInit:
			d.started = scaled(number(v), time.Millisecond)
		}
	}
	if k.From == 0 && upFrom >= 0 && d.started > 0 {
		k.From = d.started + scaled(upFrom, time.Millisecond)
	}
	if k.To == 0 && upTo >= 0 && d.started > 0 {
		k.To = d.started + scaled(upTo, time.Millisecond)
	}
	switch { // without the system's start: the last packet was when the record was exported
	case k.From == 0 && k.To == 0 && upFrom >= 0 && upTo >= upFrom:
		k.To = exported
		k.From = exported - scaled(upTo-upFrom, time.Millisecond)
	case k.From == 0 && k.To == 0:
		k.From, k.To = exported, exported
	}
	if k.To == 0 {
		if k.To = k.From; lasted > 0 {
			k.To += scaled(lasted, time.Millisecond)
		}
	}
	if k.From == 0 {
		if k.From = k.To; lasted > 0 {
			k.From -= scaled(lasted, time.Millisecond)
		}
	}
	if reverse != (Counts{}) && reverse.Packets >= 0 && reverse.Bytes >= 0 {
		k.Reverse = &reverse
	}
	return at
}

// number reads an unsigned number of reduced size (RFC 7011 §6.2); one that is too large is the largest.
func number(b []byte) int64 {
	if len(b) > 8 {
		return 0
	}
	var n uint64
	for _, c := range b {
		n = n<<8 | uint64(c)
	}
	return int64(min(n, math.MaxInt64))
}

// scaled returns a number of steps of time; what is out of range is nothing.
func scaled(n int64, step time.Duration) time.Duration {
	if n < 0 || n > math.MaxInt64/int64(step) {
		return 0
	}
	return time.Duration(n) * step
}

// ntp reads a time of RFC 5905 as one since 1970.
func ntp(b []byte) time.Duration {
	if len(b) != 8 {
		return 0
	}
	const since1970 = 2208988800
	seconds := int64(binary.BigEndian.Uint32(b)) - since1970
	return time.Duration(seconds)*time.Second + time.Duration(uint64(binary.BigEndian.Uint32(b[4:]))*uint64(time.Second)>>32)
}

// printable returns a short name without what a terminal would take for commands.
func printable(b []byte) string {
	b = slices.DeleteFunc(slices.Clone(b[:min(len(b), 40)]), func(c byte) bool { return c <= ' ' || c > '~' })
	return string(b)
}

// Add adds what another reader could not use.
func (l *Lost) Add(o Lost) {
	l.Messages += o.Messages
	l.Records += o.Records
	l.Unknown += o.Unknown
	l.Useless += o.Useless
	l.Withdrawn += o.Withdrawn
	l.Crowded += o.Crowded
	l.Old += o.Old
}

// Notes says in words what could not be used.
func (l *Lost) Notes() (out []string) {
	for _, n := range []struct {
		count int64
		what  string
	}{{l.Messages, "messages of IPFIX make no sense"}, {l.Old, "messages are of another version than IPFIX (10)"}, {l.Records, "records are missing, by the sequence numbers of the exporters"},
		{l.Unknown, "sets came before their template, and could not be read"}, {l.Useless, "records do not say who sent how much"}, {l.Crowded, "templates or domains found no room"}} {
		if n.count > 0 {
			out = append(out, humanize.Count(n.count)+" "+n.what)
		}
	}
	return out
}
