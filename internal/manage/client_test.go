package manage

import (
	"net"
	"strings"
	"testing"
	"time"
)

// TestOpenTriesAStalledConnectionOnce counts the connections that a session makes to a device that takes them: two where it
// says nothing, one where it closes them.
func TestOpenTriesAStalledConnectionOnce(t *testing.T) {
	dialTime = 100 * time.Millisecond
	for _, c := range []struct {
		closes bool
		want   int
		says   string
	}{{false, 2, "timeout"}, {true, 1, "does not answer as SSH does"}} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Skipf("no socket on the loopback: %v", err)
		}
		taken := make(chan int)
		go func() {
			n := 0
			for {
				conn, err := l.Accept()
				if err != nil {
					taken <- n
					return
				}
				defer conn.Close()
				if n++; c.closes {
					conn.Close()
				}
			}
		}()
		_, err = Open(&Login{Address: l.Addr().String(), User: "anna", Known: func(string) error { return nil }})
		l.Close()
		if n := <-taken; n != c.want || err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("closes %v: %d connections, want %d; %v", c.closes, n, c.want, err)
		}
	}
	if _, err := Open(&Login{Address: "127.0.0.1:1"}); err == nil || !strings.HasPrefix(err.Error(), "cannot be reached at 127.0.0.1:1: ") {
		t.Errorf("where nobody listens: %v", err)
	}
}
