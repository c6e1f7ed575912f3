package packet

// A Framing says how many bytes an IP packet takes on a link. The zero Framing
// adds nothing: it counts the IP packet alone.
type Framing struct {
	Name    string
	Bytes   int // added to every packet
	Minimum int // the least a packet takes, padding included
}

// The framings of IEEE 802.3: a frame is a 14-byte header, the payload and a
// 4-byte check sequence, at least 64 bytes; on the wire a preamble of 8 and a
// gap of 12 go with it.
var (
	FramingIP            = Framing{Name: "ip"}
	FramingEthernet      = Framing{Name: "ethernet", Bytes: 38, Minimum: 84}
	FramingEthernetFrame = Framing{Name: "ethernet-frame", Bytes: 18, Minimum: 64}
)

// Framings lists the framings that have a name.
func Framings() []Framing {
	return []Framing{FramingIP, FramingEthernet, FramingEthernetFrame}
}

// Size returns the bytes an IP packet of the given length takes.
func (f Framing) Size(length int) int {
	return max(length+f.Bytes, f.Minimum)
}
