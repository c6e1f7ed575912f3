package handshake

import (
	"encoding/binary"
	"time"

	"imbrel.example/imbrel/core/rtp"
)

// An Order asks a far end, over a connection, to send a train of packets, or to say what came of one.
type Order struct {
	Kind   OrderKind
	Train  uint16 // its number
	Length uint16 // of its IP packets
	Rate   uint64 // bit/s of IP
	Over   time.Duration
}

// An OrderKind is what is asked for.
type OrderKind uint8

// The kinds of orders.
const (
	SendTrain    OrderKind = 1 // send one
	CollectTrain OrderKind = 2 // say what came of the one that was sent
	SendStream   OrderKind = 3 // send over the connection itself, as fast as TCP can
)

// OrderLength is the length of an order.
const OrderLength = 32

const (
	order = 5
	train = 6
)

// Bytes returns the message.
func (o *Order) Bytes() []byte {
	b := make([]byte, OrderLength)
	copy(b, magic[:])
	b[4], b[5], b[6] = 1, order, byte(o.Kind)
	binary.BigEndian.PutUint16(b[8:], o.Train)
	binary.BigEndian.PutUint16(b[10:], o.Length)
	binary.BigEndian.PutUint64(b[12:], o.Rate)
	binary.BigEndian.PutUint64(b[20:], uint64(o.Over))
	return b
}

// ParseOrder reads an order.
func ParseOrder(b []byte) (o Order, err error) {
	if len(b) != OrderLength || [4]byte(b) != magic || b[4] != 1 || b[5] != order {
		return o, ErrOther
	}
	return Order{OrderKind(b[6]), binary.BigEndian.Uint16(b[8:]), binary.BigEndian.Uint16(b[10:]), binary.BigEndian.Uint64(b[12:]), time.Duration(binary.BigEndian.Uint64(b[20:]))}, nil
}

// A Car is the head of a packet of a train.
type Car struct {
	Train  uint16
	Cookie Cookie
	Number uint64
	Sent   time.Time
}

// CarLength is the length of the head.
const CarLength = 32

// Put writes the head into the first CarLength bytes of a datagram.
func (c *Car) Put(b []byte) {
	copy(b, magic[:])
	b[4], b[5] = 1, train
	binary.BigEndian.PutUint16(b[6:], c.Train)
	binary.BigEndian.PutUint64(b[8:], uint64(c.Cookie))
	binary.BigEndian.PutUint64(b[16:], c.Number)
	binary.BigEndian.PutUint64(b[24:], rtp.NTP(c.Sent))
}

// ParseCar reads the head.
func ParseCar(b []byte) (c Car, err error) {
	if len(b) < CarLength || [4]byte(b) != magic || b[4] != 1 || b[5] != train {
		return c, ErrOther
	}
	return Car{binary.BigEndian.Uint16(b[6:]), Cookie(binary.BigEndian.Uint64(b[8:])), binary.BigEndian.Uint64(b[16:]), rtp.Time(binary.BigEndian.Uint64(b[24:]))}, nil
}
