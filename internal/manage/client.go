package manage

import (
	"errors"
	"fmt"
	"net"
	"os"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"imbrel.example/imbrel/core/netconf"
)

// How long a device may take.
const AnswerTime = 60 * time.Second

var dialTime = 15 * time.Second

// A Login is how a device is reached, and as whom.
type Login struct {
	Address string
	User    string
	Keys    []ssh.Signer
	// Known says whether a device has the right key: nil when it has. It is given the fingerprint.
	Known func(fingerprint string) error
}

// ErrHostKey says that a device does not have the key that it should have.
var ErrHostKey = errors.New("the device has another key")

// Session is a session with a device.
type Session struct {
	*netconf.Client
	conn net.Conn
	ssh  *ssh.Client
	stop func()
}

// Open begins a session with a device. On a wire that loses packets a connection can stall for longer than a new one
// takes: one that stalls is made once more.
func Open(l *Login) (*Session, error) {
	s, err := open(l)
	if op := new(net.OpError); errors.As(err, &op) && op.Timeout() {
		s, err = open(l)
	}
	return s, err
}

// open makes one attempt. Its error wraps a net.OpError only where the device took the connection.
func open(l *Login) (*Session, error) {
	conn, err := net.DialTimeout("tcp", l.Address, dialTime)
	if err != nil {
		return nil, fmt.Errorf("cannot be reached at %s: %w", l.Address, reason(err))
	}
	var strange error
	config := &ssh.ClientConfig{User: l.User, Auth: []ssh.AuthMethod{ssh.PublicKeys(l.Keys...)}, ClientVersion: "SSH-2.0-imbrel", HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
		strange = l.Known(ssh.FingerprintSHA256(key))
		return strange
	}}
	_ = conn.SetDeadline(time.Now().Add(dialTime))
	c, channels, requests, err := ssh.NewClientConn(conn, l.Address, config)
	switch {
	case strange != nil:
		conn.Close()
		return nil, strange
	case err != nil && strings.Contains(err.Error(), "unable to authenticate"):
		conn.Close()
		return nil, fmt.Errorf("%s does not let `%s` in with this key", l.Address, l.User)
	case err != nil:
		conn.Close()
		return nil, fmt.Errorf("%s does not answer as SSH does: %w", l.Address, err)
	}
	_ = conn.SetDeadline(time.Time{})
	s := &Session{conn: conn, ssh: ssh.NewClient(c, channels, requests), stop: alive(c, conn)}
	if err := s.begin(); err != nil {
		s.end()
		return nil, err
	}
	return s, nil
}

// reason returns why a connection could not be made, without what the reader knows.
func reason(err error) error {
	var op *net.OpError
	if errors.As(err, &op) {
		return op.Err
	}
	return err
}

// begin opens the channel and says hello.
func (s *Session) begin() error {
	channel, requests, err := s.ssh.OpenChannel("session", nil)
	if err != nil {
		return err
	}
	go ssh.DiscardRequests(requests)
	ok, err := channel.SendRequest("subsystem", true, []byte("\x00\x00\x00\x07netconf"))
	if err != nil || !ok {
		return fmt.Errorf("the device does not speak NETCONF there")
	}
	s.Client, err = netconf.Open(channel, func() func() {
		late := time.AfterFunc(AnswerTime, func() { s.conn.Close() })
		return func() { late.Stop() }
	})
	return err
}

func (s *Session) end() {
	s.stop()
	s.ssh.Close()
	s.conn.Close()
}

// Close ends the session, and the connection whatever the device says.
func (s *Session) Close() error {
	err := s.Client.Close()
	s.end()
	return err
}

// ReadKey reads a private key.
func ReadKey(name string) (ssh.Signer, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, fmt.Errorf("the private key cannot be read: %w", err)
	}
	key, err := ssh.ParsePrivateKey(text)
	var locked *ssh.PassphraseMissingError
	switch {
	case errors.As(err, &locked):
		return nil, fmt.Errorf("the private key %s has a passphrase: load it into an agent (SSH_AUTH_SOCK), and leave --key out", name)
	case err != nil:
		return nil, fmt.Errorf("%s is not a private key: %w", name, err)
	}
	return key, nil
}

// AgentKeys returns the keys of the agent of this user, none when there is no agent.
func AgentKeys() []ssh.Signer {
	c, err := net.Dial("unix", os.Getenv("SSH_AUTH_SOCK"))
	if err != nil {
		return nil
	}
	keys, err := agent.NewClient(c).Signers()
	if err != nil {
		return nil
	}
	return keys
}
