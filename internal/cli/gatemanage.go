package cli

import (
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/limits"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/netconf"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/words"
	"imbrel.example/imbrel/core/yang"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/live"
	"imbrel.example/imbrel/internal/manage"
)

// A managed device is one that is managed by NETCONF: a gate, or a stand-in.
type managed struct {
	node   string
	ports  []string // interfaces that the node must have
	store  manage.Store
	key    ssh.Signer
	log    *slog.Logger
	saved  bool // the configuration is that of a start before
	server *netconf.Server
}

// managedFlags define how a device is managed.
func managedFlags(c *cobra.Command, manage, managedIn *string) {
	c.Flags().StringVar(manage, "manage", "", "let imbrel deliver and others manage it by NETCONF over SSH, at an `ADDRESS` such as :830, on the loopback unless a host is given")
	c.Flags().StringVar(managedIn, "managed-in", "", "the folder `DIR` with what is its own: who may manage it (managers), its key, and the configuration of its next start")
}

// beginManaged reads what a managed device keeps. It returns the policy file to begin with: what was kept, or the one given.
func beginManaged(at, dir, name string, log *slog.Logger) (*managed, string, error) {
	if at == "" || dir == "" {
		return nil, "", errors.New("what is managed needs both --manage ADDRESS and --managed-in DIR")
	}
	m := &managed{store: manage.Store{Dir: dir}, log: log}
	if _, err := os.Stat(filepath.Join(dir, "managers")); err != nil {
		return nil, "", fmt.Errorf("--managed-in %s: write the public keys of those who may manage it into the file `managers` there, each followed by a name: %w", dir, errors.Unwrap(err))
	}
	var err error
	if m.key, err = m.store.HostKey(); err != nil {
		return nil, "", err
	}
	if m.saved = m.store.Kept(); m.saved {
		name = m.store.StartupFile()
	}
	return m, name, nil
}

// take begins with a configuration: that of the node in the file, as far as the device can do it, or all that was kept.
func (m *managed) take(d netconf.Device, f *policy.File, in files.Place, cannot *limits.Limits) error {
	v := *in.Value()
	if !m.saved {
		node, err := live.NodeOf(f, m.node)
		if err != nil {
			return err
		}
		if v, _, err = fitted(in.Part(f, node), cannot); err != nil {
			return err
		}
	}
	running := yang.Tree(language.DeviceForm(), &v).In(yang.Namespace)
	var startup *yang.Element
	if m.saved {
		startup = running
	}
	m.server = netconf.NewServer(d, running, startup)
	return nil
}

// fitted returns a device's part of a file as the device can do it, and what that is less than was asked.
func fitted(part language.Value, cannot *limits.Limits) (language.Value, []words.Fact, error) {
	own, _, err := policyfile.FromValue(part, time.LoadLocation)
	if err != nil {
		return part, nil, err
	}
	return cannot.Fit(part, own)
}

// listenToManage listens where a device is managed.
func listenToManage(address string) (net.Listener, error) {
	at, err := listenAt("manage", address)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		return nil, fmt.Errorf("--manage %s: cannot listen there: %w", address, errors.Unwrap(err))
	}
	return l, nil
}

// serve lets a device be managed until the listener ends.
func (m *managed) serve(l net.Listener, what string) {
	m.log.Info(fmt.Sprintf("managed at %s; the key of this %s is %s", l.Addr(), what, ssh.FingerprintSHA256(m.key.PublicKey())))
	manage.Serve(l, m.store, m.key, m.server, func(user string, session int, what string) {
		who := user
		if session > 0 {
			who = fmt.Sprintf("%s (session %d)", user, session)
		}
		m.log.Info(who+": "+what, "user", user, "session", session)
	})
}

// file returns the policy file that a configuration is, if it is one for this device.
func (m *managed) file(config *yang.Element) (*policy.File, error) {
	f, err := manage.File(config)
	if err != nil {
		return nil, err
	}
	node, err := live.NodeOf(f, m.node)
	for _, name := range m.ports {
		if err == nil {
			_, err = live.InterfaceOf(node, name)
		}
	}
	return f, err
}

// Check says what is wrong with a configuration.
func (m *managed) Check(config *yang.Element) error {
	_, err := m.file(config)
	return err
}

// Save keeps a configuration for the next start.
func (m *managed) Save(config *yang.Element) error {
	return m.store.Save(config)
}

// A managedGate is a gate that is managed.
type managedGate struct {
	*managed
	gate live.Running
}

// mayUpgrade says why a gate cannot be handed over now: the next one begins with what is saved.
func (m *managedGate) mayUpgrade() error {
	_, saved, waits := m.server.Running()
	switch {
	case waits:
		return errors.New("a commit waits to be confirmed: upgrade when it is")
	case !saved && m.store.Kept():
		return errors.New("the configuration in force is not that of the next start: copy it there first")
	}
	return nil
}

// Apply puts a configuration in force.
func (m *managedGate) Apply(config *yang.Element) error {
	f, err := m.file(config)
	if err != nil {
		return err
	}
	return m.gate.Change(f)
}

// Renew has nothing to do: a gate looks at each packet anew.
func (m *managedGate) Renew() error { return nil }

// State says what the gate is, and what it counted.
func (m *managedGate) State(commits int) *yang.Element {
	return said(m.node, commits, true).Add(counted(m.gate.Snapshot().Interfaces)...)
}

// said begins what a device says of itself.
func said(node string, commits int, renews bool) *yang.Element {
	return yang.New("device", yang.Leaf("node", node), yang.Leaf("program", "imbrel "+version()), yang.Leaf("commits", strconv.Itoa(commits)), yang.Leaf("renews", strconv.FormatBool(renews)))
}

// counted returns the counters of interfaces as the module has them.
func counted(interfaces []measure.Interface) (out []*yang.Element) {
	number := func(name string, n uint64) *yang.Element { return yang.Leaf(name, strconv.FormatUint(n, 10)) }
	for i := range interfaces {
		k := &interfaces[i]
		place := yang.New("place", yang.Leaf("at", k.Node+"/"+k.Interface+" "+k.Direction), yang.Leaf("policy", k.PolicyAt))
		for j := range k.Classes {
			c := &k.Classes[j]
			class := yang.New("class", yang.Leaf("name", c.Class), number("offered-packets", c.OfferedPackets), number("offered-bytes", c.OfferedBytes), number("sent-packets", c.SentPackets), number("sent-bytes", c.SentBytes))
			for _, d := range c.Drops.Reasons() {
				class.Add(yang.New("dropped", yang.Leaf("reason", d.Reason), number("packets", d.Packets)))
			}
			place.Add(class)
		}
		out = append(out, place)
	}
	return out
}
