package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"os"
	"os/signal"
	"path"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/limits"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/core/yang"
	"imbrel.example/imbrel/examples"
	"imbrel.example/imbrel/internal/files"
)

// maxProfile bounds what is read of a profile.
const maxProfile = 64 << 10

// profiles returns the names of the profiles that come with the program.
func profiles() (out []string) {
	list, _ := examples.Devices.ReadDir("devices")
	for _, f := range list {
		out = append(out, strings.TrimSuffix(f.Name(), ".yaml"))
	}
	return out
}

// readProfile reads the limits of a device: a profile of the program by its name, or a file.
func readProfile(name string) (*limits.Limits, error) {
	text, err := examples.Devices.ReadFile(path.Join("devices", name+".yaml"))
	if err != nil {
		f, failed := os.Open(name)
		if failed != nil {
			return nil, fmt.Errorf("there is no profile %s: %sthere are %s, and files of your own", name, policy.DidYouMean(name, profiles()), policy.OrList(profiles()))
		}
		defer f.Close()
		if text, err = io.ReadAll(io.LimitReader(f, maxProfile+1)); err != nil || len(text) > maxProfile {
			return nil, fmt.Errorf("the profile %s cannot be read, or is longer than 64 KiB: %w", name, err)
		}
	}
	return parseProfile(name, text)
}

// parseProfile reads a profile: a limit a line.
func parseProfile(name string, text []byte) (*limits.Limits, error) {
	doc, err := policyfile.Document(name, text)
	if err != nil {
		return nil, err
	}
	if doc.Kind != language.Keyed {
		return nil, fmt.Errorf("%s: a profile has limits and their values, such as `queues: 4`", name)
	}
	var l limits.Limits
	for i, key := range doc.Keys {
		if doc.Items[i].Kind != language.Scalar {
			return nil, fmt.Errorf("%s: `%s` has one value", key.At, key.Text)
		}
		if err := l.Set(key.Text, doc.Items[i].Text); err != nil {
			return nil, fmt.Errorf("%s: %w", key.At, err)
		}
	}
	return &l, nil
}

func (a *app) device() *cobra.Command {
	var node, at, dir, form string
	c := &cobra.Command{
		Use:   "device PROFILE FILE",
		Short: "Stand in for a device that deliver manages, with the limits of a real one",
		Long: `Device serves what a managed gate serves, without moving a frame: NETCONF over SSH, with
the policies of a node. It has the limits of a profile, as a real device has them: so many
queues, promises in whole per cent, policers in steps, seconds to answer. What exceeds a
limit is refused. Rehearse deliveries with it.

The profiles that come with the program are ` + strings.Join(profiles(), ", ") + `.
A profile of your own is a file with a limit a line.`,
		Example: `  imbrel device small-branch ternrock.yaml --node ternrock --manage :8301 --managed-in ternrock.d
  imbrel device own-profile.yaml sites.yaml --node hub --manage 192.0.2.16:830 --managed-in hub.d`,
		Args: between(2, 2, "a profile, and a policy file"),
		RunE: func(_ *cobra.Command, args []string) error {
			log, err := a.logger(form, "device")
			if err != nil {
				return err
			}
			l, err := readProfile(args[0])
			if err != nil {
				return err
			}
			if node == "" {
				return errors.New("name the node of the file that it is: --node NODE")
			}
			m, name, err := beginManaged(at, dir, args[1], log)
			if err != nil {
				return err
			}
			f, in, err := files.ReadPolicy(name, a.in, a.includeFrom...)
			if err != nil {
				return err
			}
			m.node = node
			d := &standIn{managed: m, limits: *l, random: rand.New(rand.NewPCG(1, uint64(os.Getpid())))}
			if err := m.take(d, f, in, l); err != nil {
				return err
			}
			listener, err := listenToManage(at)
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			return d.run(ctx, listener, log)
		},
	}
	c.Flags().StringVar(&node, "node", "", "the `NODE` of the file that it is")
	managedFlags(c, &at, &dir)
	c.Flags().StringVar(&form, "log", "words", "say what happens in `FORM`: words, text (keys and values) or json")
	return c
}

// A standIn is a device without interfaces.
type standIn struct {
	*managed
	limits limits.Limits
	mutex  sync.Mutex
	random *rand.Rand
}

// run serves until the context ends.
func (d *standIn) run(ctx context.Context, l net.Listener, _ *slog.Logger) error {
	go func() {
		<-ctx.Done()
		l.Close()
	}()
	d.serve(l, "device")
	return nil
}

// Check returns what is wrong with a configuration, and which limits it exceeds.
func (d *standIn) Check(config *yang.Element) error {
	f, err := d.file(config)
	if err != nil {
		return err
	}
	var all []error
	for _, p := range d.limits.Check(f) {
		all = append(all, &yang.Error{Type: "application", Tag: "operation-failed", Message: p.Path + ": " + p.Text})
	}
	return errors.Join(all...)
}

// Apply takes its time, and fails now and then.
func (d *standIn) Apply(config *yang.Element) error {
	time.Sleep(d.limits.Takes)
	d.mutex.Lock()
	defer d.mutex.Unlock()
	if d.random.Float64() < float64(d.limits.Refuses)/float64(unit.Whole) {
		return errors.New("the device is busy")
	}
	_, err := d.file(config)
	return err
}

// Edited detaches policies that an edit has changed and does not attach itself. Some real devices do so.
func (d *standIn) Edited(before, after *yang.Element, edit *yang.Element) {
	if !d.limits.Detaches {
		return
	}
	form := language.DeviceForm()
	for _, p := range after.Inner {
		if p.Name != "policies" {
			continue
		}
		name := p.TextOf("name")
		same := slices.ContainsFunc(before.Inner, func(o *yang.Element) bool {
			return o.Name == p.Name && o.TextOf("name") == name && bytes.Equal(o.Append(nil, "", ""), p.Append(nil, "", ""))
		})
		if same || !slices.ContainsFunc(before.Inner, func(o *yang.Element) bool { return o.Name == p.Name && o.TextOf("name") == name }) {
			continue
		}
		after.Inner = slices.DeleteFunc(after.Inner, func(e *yang.Element) bool {
			return e.Name == form.KeyOf("attach").Name && e.TextOf("policy") == name && !attaches(edit, e.TextOf("id"))
		})
	}
}

// attaches reports whether an edit names an attachment.
func attaches(edit *yang.Element, id string) bool {
	return slices.ContainsFunc(edit.Inner, func(e *yang.Element) bool { return e.Name == "attach" && e.TextOf("id") == id })
}

// Renew does nothing: a stand-in has no flows.
func (d *standIn) Renew() error { return nil }

// State says what the device is and what it cannot do.
func (d *standIn) State(commits int) *yang.Element {
	out := said(d.node, commits, !d.limits.KeepsFlows)
	for _, r := range limits.Rows() {
		if v := r.Get(&d.limits); v != "" {
			out.Add(yang.New("limit", yang.Leaf("name", r.Name), yang.Leaf("value", v)))
		}
	}
	return out
}
