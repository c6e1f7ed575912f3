// Package manage carries NETCONF over SSH (RFC 6242), for a device that is managed and for those who manage it.
package manage

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/net/netutil"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/netconf"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/yang"
	"imbrel.example/imbrel/internal/files"
)

// Bounds of a device that is managed.
const (
	maxConnections = 32
	maxChannels    = 4 // of a connection
	maxManagers    = 1 << 20
	handshakeTime  = 15 * time.Second
	aliveEvery     = 10 * time.Second // a connection on which nothing comes is asked so often
	aliveWithin    = 20 * time.Second // and given up when it does not answer
)

// A Store is a folder in which a device keeps what is its own: who may manage it (managers), its key (host-key), and the configuration of its next start
// (startup.yaml).
type Store struct{ Dir string }

func (s Store) path(name string) string { return filepath.Join(s.Dir, name) }

// HostKey returns the device's key, which is made when there is none.
func (s Store) HostKey() (ssh.Signer, error) {
	name := s.path("host-key")
	text, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		block, err := ssh.MarshalPrivateKey(key, "")
		if err != nil {
			return nil, err
		}
		text = pem.EncodeToMemory(block)
		if err := os.WriteFile(name, text, 0o600); err != nil {
			return nil, fmt.Errorf("the device's key cannot be kept: %w", err)
		}
	} else if err != nil {
		return nil, fmt.Errorf("the device's key cannot be read: %w", err)
	}
	key, err := ssh.ParsePrivateKey(text)
	if err != nil {
		return nil, fmt.Errorf("%s is not a private key: %w", name, err)
	}
	return key, nil
}

// A manager is who may manage a device.
type manager struct {
	name  string
	key   []byte
	reads bool
}

// managers reads who may manage the device: keys as OpenSSH lists them, each followed by the name of its user. The option read-only is before the
// keys of those who may change nothing.
func (s Store) managers() (out []manager, err error) {
	f, err := os.Open(s.path("managers"))
	if err != nil {
		return nil, fmt.Errorf("who may manage this is not known: %w", err)
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, maxManagers))
	if err != nil {
		return nil, err
	}
	for n, line := range bytes.Split(text, []byte("\n")) {
		if line = bytes.TrimSpace(line); len(line) == 0 || line[0] == '#' {
			continue
		}
		key, name, options, _, err := ssh.ParseAuthorizedKey(line)
		if err != nil || name == "" {
			return nil, fmt.Errorf("%s:%d: write a public key, and the name of its user, such as `ssh-ed25519 AAAA… anna`", f.Name(), n+1)
		}
		for _, o := range options {
			if o != "read-only" {
				return nil, fmt.Errorf("%s:%d: there is no option %.40q; there is read-only", f.Name(), n+1, o)
			}
		}
		out = append(out, manager{name, key.Marshal(), len(options) > 0})
	}
	return out, nil
}

// maxStartup bounds the configuration of the next start.
const maxStartup = policyfile.MaxBytes

// StartupFile returns the name of the configuration of the next start.
func (s Store) StartupFile() string { return s.path("startup.yaml") }

// Kept reports whether there is a configuration of the next start.
func (s Store) Kept() bool {
	_, err := os.Stat(s.StartupFile())
	return !errors.Is(err, fs.ErrNotExist)
}

// Save keeps a configuration for the next start; nil: none.
func (s Store) Save(config *yang.Element) error {
	if config == nil {
		err := os.Remove(s.StartupFile())
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	}
	text, err := Text(config)
	if err != nil {
		return err
	}
	if len(text) > maxStartup {
		return fmt.Errorf("the configuration is longer than %d MiB", maxStartup>>20)
	}
	return files.Replace(s.StartupFile(), text)
}

// Text returns a configuration as a policy file.
func Text(config *yang.Element) ([]byte, error) {
	var r yang.Reader
	v, err := r.Value(language.DeviceForm(), config)
	if err != nil {
		return nil, err
	}
	return policyfile.Write(&v)
}

// File returns the policy file that a configuration is. What is wrong with it is said as the protocol says it.
func File(config *yang.Element) (*policy.File, error) {
	f, _, err := Source(config)
	return f, err
}

// Source returns the policy file that a configuration is, with its text.
func Source(config *yang.Element) (*policy.File, *policyfile.Source, error) {
	if config == nil {
		return nil, nil, &yang.Error{Type: "application", Tag: "data-missing", Message: "there is no configuration"}
	}
	var r yang.Reader
	v, err := r.Value(language.DeviceForm(), config)
	if err != nil {
		return nil, nil, err
	}
	f, in, err := policyfile.FromValue(v, time.LoadLocation)
	var wrong policy.Problems
	if errors.As(err, &wrong) {
		var all []error
		for _, p := range wrong {
			text := p.Text
			if p.Help != "" {
				text += "; " + p.Help
			}
			all = append(all, &yang.Error{Type: "application", Tag: "operation-failed", Path: r.Path(p.Place), Message: text})
		}
		return nil, nil, errors.Join(all...)
	}
	return f, in, err
}

// Serve lets a device be managed over a listener until that ends.
func Serve(l net.Listener, store Store, key ssh.Signer, server *netconf.Server, log func(user string, session int, what string)) {
	server.Log = log
	server.Now = time.Now
	server.After = func(d time.Duration, do func()) func() { // the clock that jumps is another
		t := time.AfterFunc(d, do)
		return func() { t.Stop() }
	}
	config := &ssh.ServerConfig{MaxAuthTries: 4, ServerVersion: "SSH-2.0-imbrel", PublicKeyCallback: func(c ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		all, err := store.managers()
		if err != nil {
			log(c.User(), 0, "refused: "+err.Error())
			return nil, err
		}
		i := slices.IndexFunc(all, func(m manager) bool { return m.name == c.User() && bytes.Equal(m.key, key.Marshal()) })
		if i < 0 {
			return nil, fmt.Errorf("no key of %.60q", c.User())
		}
		role := map[string]string{}
		if all[i].reads {
			role["reads"] = ""
		}
		return &ssh.Permissions{Extensions: role}, nil
	}}
	config.AddHostKey(key)
	limited := netutil.LimitListener(l, maxConnections)
	for {
		c, err := limited.Accept()
		if err != nil {
			return
		}
		go serve(c, config, server, log)
	}
}

// serve serves one connection.
func serve(c net.Conn, config *ssh.ServerConfig, server *netconf.Server, log func(string, int, string)) {
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(handshakeTime))
	conn, channels, requests, err := ssh.NewServerConn(c, config)
	if err != nil {
		return // nobody that is known
	}
	_ = c.SetDeadline(time.Time{})
	defer conn.Close()
	go ssh.DiscardRequests(requests)
	defer alive(conn, c)()
	_, reads := conn.Permissions.Extensions["reads"]
	var sessions sync.WaitGroup
	open := make(chan struct{}, maxChannels)
	for ask := range channels {
		if ask.ChannelType() != "session" {
			_ = ask.Reject(ssh.UnknownChannelType, "there are sessions only")
			continue
		}
		select {
		case open <- struct{}{}:
		default:
			_ = ask.Reject(ssh.ResourceShortage, "too many sessions on one connection")
			continue
		}
		channel, requests, err := ask.Accept()
		if err != nil {
			<-open
			continue
		}
		sessions.Go(func() {
			defer func() { <-open }()
			defer channel.Close()
			for r := range requests {
				ok := r.Type == "subsystem" && string(r.Payload) == "\x00\x00\x00\x07netconf"
				_ = r.Reply(ok, nil)
				if !ok {
					continue
				}
				go ssh.DiscardRequests(requests)
				if err := server.Serve(channel, conn.User(), reads); err != nil && !errors.Is(err, io.EOF) {
					log(conn.User(), 0, "the session is given up: "+err.Error())
				}
				return
			}
		})
	}
	sessions.Wait()
}

// alive asks the other end of a connection now and then whether it is there, and ends the connection when it is not.
func alive(conn ssh.Conn, c net.Conn) (stop func()) {
	over := make(chan struct{})
	go func() {
		for {
			select {
			case <-over:
				return
			case <-time.After(aliveEvery):
			}
			lost := time.AfterFunc(aliveWithin, func() { c.Close() })
			_, _, err := conn.SendRequest("keepalive@imbrel.example", true, nil)
			lost.Stop()
			if err != nil {
				c.Close()
				return
			}
		}
	}()
	return func() { close(over) }
}
