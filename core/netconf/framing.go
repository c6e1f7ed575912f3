// Package netconf speaks NETCONF (RFC 6241): the messages, how they are framed (RFC 6242), the datastores of a device that is managed by
// it, and the calls of a client.
package netconf

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"sync"
)

// MaxMessage is how many bytes a message has at most.
const MaxMessage = 16 << 20

// errTooLong is what is wrong with a message that is not read to its end.
var errTooLong = fmt.Errorf("a message is longer than %d MiB", MaxMessage>>20)

// endOfMessage ends a message of version 1.0 (RFC 6242 §4.3).
var endOfMessage = []byte("]]>]]>")

// A framer reads and writes messages on a connection. Messages may be written by several.
type framer struct {
	r       *bufio.Reader
	writing sync.Mutex
	w       io.Writer
	chunked bool // version 1.1: both have said that they speak it
}

func newFramer(c io.ReadWriter) *framer { return &framer{r: bufio.NewReaderSize(c, 1<<16), w: c} }

// write sends a message.
func (f *framer) write(message []byte) error {
	f.writing.Lock()
	defer f.writing.Unlock()
	var b []byte
	if f.chunked {
		b = fmt.Appendf(nil, "\n#%d\n", len(message))
		b = append(append(b, message...), "\n##\n"...)
	} else {
		b = append(append(b, message...), endOfMessage...)
	}
	_, err := f.w.Write(b)
	return err
}

// read returns the next message.
func (f *framer) read() ([]byte, error) {
	if f.chunked {
		return f.readChunks()
	}
	var out []byte
	for {
		part, err := f.r.ReadSlice('>')
		if out = append(out, part...); len(out) > MaxMessage {
			return nil, errTooLong
		}
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
			return nil, err
		}
		if bytes.HasSuffix(out, endOfMessage) {
			return out[:len(out)-len(endOfMessage)], nil
		}
	}
}

// errFraming is what is wrong with chunks that are not as RFC 6242 §4.2 says.
var errFraming = errors.New("a message is not framed as RFC 6242 says")

// readChunks returns the next message of version 1.1.
func (f *framer) readChunks() ([]byte, error) {
	var out []byte
	for {
		head := make([]byte, 0, 16)
		for {
			c, err := f.r.ReadByte()
			if err != nil {
				return nil, err
			}
			if len(head) == 1 && c == '\n' { // some send one more
				continue
			}
			if head = append(head, c); len(head) > 13 {
				return nil, errFraming
			}
			if c == '\n' && len(head) > 1 {
				break
			}
		}
		if !bytes.HasPrefix(head, []byte("\n#")) {
			return nil, errFraming
		}
		size := string(head[2 : len(head)-1])
		if size == "#" {
			if out == nil {
				return nil, errFraming
			}
			return out, nil
		}
		n, err := strconv.ParseUint(size, 10, 32)
		if err != nil || n == 0 || size[0] == '0' || size[0] == '+' {
			return nil, errFraming
		}
		if len(out)+int(n) > MaxMessage {
			return nil, errTooLong
		}
		for n > 0 { // what is promised takes no memory before it comes
			part := make([]byte, min(n, 1<<16))
			if _, err := io.ReadFull(f.r, part); err != nil {
				return nil, err
			}
			out = append(out, part...)
			n -= uint64(len(part))
		}
	}
}
