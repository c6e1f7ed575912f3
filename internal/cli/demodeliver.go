package cli

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"imbrel.example/imbrel/examples"
	"imbrel.example/imbrel/internal/live"
	"imbrel.example/imbrel/internal/render"
)

// The parts of the story of a delivery.
const (
	deliveryFile  = "skerry.yaml"
	callerAddress = "10.52.1.5"
	farAddress    = "10.52.3.5"
	mistyped      = "rate: 96kbit/s, burst: 16kB}}    # a digit is missing"
	mended        = "rate: 960kbit/s, burst: 16kB}}"
)

// A deliveryDemo tells the story of a delivery with programs at work: gates where they may be, stand-ins elsewhere.
type deliveryDemo struct {
	*app
	text    render.Text
	dir     string
	program string
	chain   *live.Chain // nil: stand-ins
	stop    []func()
}

// demoDeliver tells the story.
func (a *app) demoDeliver(text render.Text) (err error) {
	d := &deliveryDemo{app: a, text: text}
	if d.program, err = os.Executable(); err != nil {
		return err
	}
	if d.dir, err = os.MkdirTemp("", "imbrel-demo"); err != nil {
		return err
	}
	defer os.RemoveAll(d.dir)
	defer func() {
		for _, f := range d.stop {
			f()
		}
	}()
	if runtime.GOOS == "linux" && os.Geteuid() == 0 {
		if d.chain, err = live.NewChain(netip.MustParsePrefix(callerAddress+"/16"), netip.MustParsePrefix(farAddress+"/16")); err != nil {
			d.chain = nil
			text.Line("No namespaces can be made here (%s), so the gates are stand-ins.", err)
		} else {
			defer d.chain.Close()
		}
	}
	if err := d.begin(); err != nil {
		return err
	}
	return d.tell()
}

// begin writes the file, and starts three gates or stand-ins, and the far end.
func (d *deliveryDemo) begin() error {
	file, err := examples.Sites.ReadFile("sites/" + deliveryFile)
	if err != nil {
		return err
	}
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		return err
	}
	key, err := ssh.NewSignerFromKey(private)
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(d.dir, "anna.key"), pem.EncodeToMemory(block), 0o600); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(d.dir, "first.yaml"), file, 0o600); err != nil {
		return err
	}
	devices := "\ndevices:\n"
	for i, node := range []struct{ name, near, far string }{{"skerry", "lan", "mast"}, {"mast", "west", "east"}, {"harbour", "mast", "lan"}} {
		dir := filepath.Join(d.dir, node.name)
		if err := os.Mkdir(dir, 0o700); err != nil {
			return err
		}
		line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key.PublicKey()))) + " anna\n"
		if err := os.WriteFile(filepath.Join(dir, "managers"), []byte(line), 0o600); err != nil {
			return err
		}
		args, at := []string{"device", "wide-branch", "first.yaml", "--node", node.name, "--managed-in", dir, "--manage", "127.0.0.1:0"}, live.Caller
		if d.chain != nil {
			at = live.Gates
			p := live.ChainPorts[i]
			args = []string{"gate", "first.yaml", "--node", node.name, "--port", node.near + "=" + p[0], "--port", node.far + "=" + p[1], "--managed-in", dir, "--manage", live.ChainGates + ":0"}
		}
		said, err := d.start(at, args...)
		if err != nil {
			return err
		}
		address := ""
		if _, after, found := strings.Cut(said, "managed at "); found {
			address, _, _ = strings.Cut(after, ";")
		}
		if address == "" {
			return fmt.Errorf("the demo's %s does not start: %s", node.name, said)
		}
		answers := ""
		if d.chain != nil && node.name == "harbour" {
			answers = ", answers: " + farAddress
		}
		devices += fmt.Sprintf("  %s: {address: %q, user: anna, key: anna.key%s}\n", node.name, address, answers)
	}
	if d.chain != nil {
		if _, err := d.start(live.Far, "answer", "--listen", farAddress); err != nil {
			return err
		}
	}
	return os.WriteFile(filepath.Join(d.dir, deliveryFile), append(file, devices...), 0o600)
}

// start starts a program that goes on, and returns what it says first.
func (d *deliveryDemo) start(at int, args ...string) (string, error) {
	c := exec.Command(d.program, args...)
	c.Dir = d.dir
	said, theirs, err := os.Pipe()
	if err != nil {
		return "", err
	}
	defer theirs.Close()
	c.Stderr, c.Stdout = theirs, theirs
	if err := d.run(at, c); err != nil {
		said.Close()
		return "", err
	}
	d.stop = append(d.stop, func() {
		_ = c.Process.Kill()
		_ = c.Wait()
		said.Close()
	})
	_ = said.SetReadDeadline(time.Now().Add(10 * time.Second))
	first := make([]byte, 512)
	n, err := said.Read(first)
	if err != nil {
		return "", fmt.Errorf("the demo's `%s` says nothing: %w", args[0], err)
	}
	_ = said.SetReadDeadline(time.Time{})
	go func() { _, _ = io.Copy(io.Discard, said) }()
	return string(first[:n]), nil
}

// run starts a program at a place.
func (d *deliveryDemo) run(at int, c *exec.Cmd) error {
	if d.chain == nil {
		return c.Start()
	}
	return d.chain.Start(at, c)
}

// shows runs a command as a user would, and shows it and what it says.
func (d *deliveryDemo) shows(input string, args ...string) error {
	var said bytes.Buffer
	c := exec.Command(d.program, args...)
	c.Dir, c.Stdout, c.Stderr, c.Stdin = d.dir, &said, &said, strings.NewReader(input)
	c.Env = append(os.Environ(), fmt.Sprintf("COLUMNS=%d", d.text.Width-2))
	d.text.Line("$ imbrel %s", strings.Join(args, " "))
	err := d.run(live.Caller, c)
	if err == nil {
		err = c.Wait()
	}
	for line := range strings.Lines(said.String()) {
		d.text.Line("  %s", strings.TrimRight(line, "\n"))
	}
	d.text.Line("")
	_ = d.flush()
	var status *exec.ExitError
	if errors.As(err, &status) && status.ExitCode() <= exitFound {
		return nil // what it found is part of the story
	}
	return err
}

// says tells a part of the story.
func (d *deliveryDemo) says(format string, args ...any) {
	d.text.Prose(fmt.Sprintf(format, args...) + "\n")
	_ = d.flush()
}

// edit changes the file.
func (d *deliveryDemo) edit(from, to string) error {
	name := filepath.Join(d.dir, deliveryFile)
	text, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	if !bytes.Contains(text, []byte(from)) {
		return fmt.Errorf("the demo's file has no %q", from)
	}
	return os.WriteFile(name, bytes.Replace(text, []byte(from), []byte(to), 1), 0o600)
}

// tell tells the story.
func (d *deliveryDemo) tell() error {
	verify := []string{"--verify", "watch", "--calls", "--for", "2s"}
	what := "gates in namespaces of this machine"
	if d.chain == nil {
		verify, what = []string{"--ask"}, "stand-ins, since gates need root"
	}
	d.says("Three devices stand in a row between the pilots at the skerry and the harbour: skerry, mast, harbour. They are %s. A digit is missing at one of them.", what)
	steps := []func() error{
		func() error {
			if d.chain == nil {
				return nil
			}
			d.says("The pilots complain.")
			return d.shows("", "call", farAddress, "--calls", "4", "--for", "2s")
		},
		func() error {
			d.says("The rehearsal names the hop, the class and the number.")
			return d.shows("", "rehearse", deliveryFile, "watch")
		},
		func() error {
			d.says("Anna mends the number in the file, and looks at what would change: one number at one device.")
			if err := d.edit(mistyped, mended); err != nil {
				return err
			}
			return d.shows("", "deliver", deliveryFile, "--trust-new-keys")
		},
		func() error {
			d.says("She delivers it. The device keeps it when the verification holds.")
			return d.shows("yes\n", append([]string{"deliver", deliveryFile, "--commit", "--confirm", "1min"}, verify...)...)
		},
	}
	if d.chain != nil {
		steps = append(steps, func() error {
			d.says("The same once more, with another change. This time the cable between the mast and the harbour is pulled in the middle.")
			if err := d.edit("shape: 9.5Mbit/s", "shape: 9Mbit/s"); err != nil {
				return err
			}
			pulled := time.AfterFunc(1500*time.Millisecond, func() { _ = d.chain.Pull(true) })
			defer pulled.Stop()
			err := d.shows("", append([]string{"deliver", deliveryFile, "--commit", "--together", "--confirm", "1min"}, verify...)...)
			_ = d.chain.Pull(false)
			time.Sleep(time.Second) // the gates look for an interface that was gone four times a second
			return err
		})
	} else {
		steps = append(steps, func() error {
			d.says("The same once more, with another change; and this time Anna does not say yes.")
			if err := d.edit("shape: 9.5Mbit/s", "shape: 9Mbit/s"); err != nil {
				return err
			}
			return d.shows("no\n", "deliver", deliveryFile, "--commit", "--together", "--confirm", "1min", "--ask")
		})
	}
	steps = append(steps, func() error {
		d.says("Every device is as it was before, and the history says so.")
		if err := d.shows("", "deliver", "history", deliveryFile); err != nil || d.chain == nil {
			return err
		}
		d.says("With the cable in its place, the pilots talk.")
		return d.shows("", "call", farAddress, "--calls", "4", "--for", "2s")
	})
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}
