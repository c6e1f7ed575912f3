package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"imbrel.example/imbrel/core/changes"
	"imbrel.example/imbrel/core/deliver"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/limits"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/words"
	"imbrel.example/imbrel/core/yang"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/live"
	"imbrel.example/imbrel/internal/manage"
	"imbrel.example/imbrel/internal/render"
)

// A deliverRun is how to deliver.
type deliverRun struct {
	only                        []string
	user, key, history, confirm string
	wave                        string
	commit, together, takeOver  bool
	trust, renew                bool
	verify                      verification

	name    string
	file    *policy.File
	in      files.Place
	record  *files.History
	agent   []ssh.Signer
	mutex   sync.Mutex
	learned map[string]string // fingerprints of devices that were not known
}

// devicesAtATime is how many devices are talked to at a time.
const devicesAtATime = 48

// flags defines the flags of all deliveries.
func (r *deliverRun) flags(c *cobra.Command) {
	c.Flags().StringArrayVar(&r.only, "only", nil, "deliver to the `NODE` alone; may be given several times")
	c.Flags().StringVar(&r.user, "user", "", "log in as a `USER` where the file names none; your own name when not given")
	c.Flags().StringVar(&r.key, "key", "", "log in with the private key in a `FILE` where the file names none; the keys of the SSH agent when not given")
	c.Flags().StringVar(&r.history, "history", "", "keep the history in a `FILE`; beside the policy file when not given")
	c.Flags().BoolVar(&r.trust, "trust-new-keys", false, "take the keys of devices that are reached for the first time")
}

// committing defines the flags of deliveries that change devices.
func (r *deliverRun) committing(c *cobra.Command) {
	c.Flags().BoolVar(&r.commit, "commit", false, "change the devices; without it, show what would change")
	c.Flags().StringVar(&r.confirm, "confirm", "10m", "a device that hears nothing more takes itself back after a `TIME`")
	c.Flags().StringVar(&r.wave, "wave", "all", "deliver to so many devices, verify, and go on: `NUMBERS` such as 2,10,all")
	c.Flags().BoolVar(&r.together, "together", false, "confirm nothing before all waves hold: all devices change, or none")
	c.Flags().BoolVar(&r.takeOver, "take-over", false, "overwrite what somebody changed on a device by hand, and remove what is not in the file")
	c.Flags().BoolVar(&r.renew, "renew", false, "ask devices to put flows that are under way into their new classes")
	r.verify.flags(c)
}

func (a *app) deliver(text render.Text) *cobra.Command {
	var r deliverRun
	c := &cobra.Command{
		Use:   "deliver FILE",
		Short: "Bring a policy file to the devices, verify it, and take it back when it fails",
		Long: `Deliver asks each device of the file what it has, and shows what would change there: the
classes, the limits, the packets that move, and the edit. It touches nothing else. What
somebody changed on a device by hand is shown and kept.

With --commit it changes the devices for the time of --confirm, verifies, and confirms.
When the verification fails, when a device is lost, or when this program ends for any
reason, every device takes itself back.`,
		Example: `  imbrel deliver sites.yaml
  imbrel deliver sites.yaml --commit --confirm 5m --ask
  imbrel deliver sites.yaml --commit --verify busy --for 30s --wave 2,10,all
  imbrel deliver drift sites.yaml`,
		Args: between(1, 1, "a policy file"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.deliverTo(text, &r, args[0], func(targets []*target) error { return a.deliverFile(text, &r, targets) })
		},
	}
	r.flags(c)
	r.committing(c)
	for _, within := range []*cobra.Command{a.deliverDrift(text), a.deliverHistory(text), a.deliverBack(text), a.deliverResume(text)} {
		within.Annotations = map[string]string{hasResult: "true"}
		c.AddCommand(within)
	}
	return c
}

// A target is a device of a delivery, as it was read.
type target struct {
	device   *policy.Device
	err      error         // it could not be read
	has      *yang.Element // what is in force
	last     *yang.Element // what was delivered last; nil: not known
	wish     deliver.Wish
	changes  *changes.Result
	state    *yang.Element
	less     []words.Fact // what the device does less than the file asks
	spelling bool         // it differs from the file in spelling alone
}

// deliverTo opens the history, reads what each device has, and goes on.
func (a *app) deliverTo(text render.Text, r *deliverRun, name string, next func([]*target) error) error {
	if name == "-" {
		return fmt.Errorf("name a file: its history is beside it")
	}
	var err error
	if r.file, r.in, err = files.ReadPolicy(name, a.in, a.includeFrom...); err != nil {
		return err
	}
	r.name = name
	if err := r.verify.check(r, a); err != nil {
		return err
	}
	if len(r.file.Devices) == 0 {
		return fmt.Errorf("%s has no `devices`: say where the nodes are managed, as in devices: {hub: {address: 192.0.2.17}}", name)
	}
	if r.record, err = files.OpenHistory(r.historyFile(name)); err != nil {
		return err
	}
	defer r.record.Close()
	all, err := r.record.All()
	if err != nil {
		return err
	}
	if open := unfinished(all); len(open) > 0 && r.commit {
		return fmt.Errorf("delivery %d was cut, and it is not known how its devices are: run `imbrel deliver resume %s` first", open[0].ID, name)
	}
	r.agent, r.learned = manage.AgentKeys(), make(map[string]string)
	targets, err := r.targets(all)
	if err != nil {
		return err
	}
	show, clear := a.progress("reading the devices")
	done := 0
	deliver.Each(devicesAtATime, len(targets), func(i int) {
		targets[i].err = r.read(targets[i])
		r.mutex.Lock()
		if done++; show != nil {
			show(float64(done) / float64(len(targets)))
		}
		r.mutex.Unlock()
	})
	clear()
	return next(targets)
}

// historyFile returns where the history is kept.
func (r *deliverRun) historyFile(name string) string {
	return cmp.Or(r.history, strings.TrimSuffix(name, filepath.Ext(name))+".history")
}

// targets returns the devices to deliver to, with what was delivered to them last.
func (r *deliverRun) targets(all []files.Delivery) (out []*target, err error) {
	var names []string
	for i := range r.file.Devices {
		names = append(names, r.file.Devices[i].Name)
	}
	for _, o := range r.only {
		if !slices.Contains(names, o) {
			return nil, fmt.Errorf("--only %s: %s%s has the devices %s", o, policy.DidYouMean(o, names), r.name, policy.OrList(names))
		}
	}
	for i := range r.file.Devices {
		d := &r.file.Devices[i]
		if len(r.only) > 0 && !slices.Contains(r.only, d.Name) {
			continue
		}
		t := &target{device: d}
		for n := range all {
			if x := slices.IndexFunc(all[n].Devices, func(k files.DeliveryDevice) bool { return k.Node == d.Name && k.State == string(deliver.AsWished) }); x >= 0 {
				if t.last, err = element(all[n].Devices[x].After); err != nil {
					return nil, err
				}
				break
			}
		}
		out = append(out, t)
	}
	return out, nil
}

// element reads a configuration of the history.
func element(text string) (*yang.Element, error) {
	if text == "" {
		return nil, nil
	}
	return yang.Parse([]byte(text))
}

// open begins a session with a device.
func (r *deliverRun) open(d *policy.Device) (*manage.Session, error) {
	l := manage.Login{Address: d.Address, User: cmp.Or(d.User, r.user, ownName()), Keys: r.agent}
	if name := cmp.Or(d.Key, r.key); name != "" {
		if d.Key != "" && !filepath.IsAbs(name) {
			name = filepath.Join(filepath.Dir(r.name), name)
		}
		key, err := manage.ReadKey(name)
		if err != nil {
			return nil, err
		}
		l.Keys = []ssh.Signer{key}
	}
	if len(l.Keys) == 0 {
		return nil, errors.New("there is no key to log in with: give --key FILE, or load one into the SSH agent")
	}
	l.Known = func(fingerprint string) error { return r.known(d, fingerprint) }
	return manage.Open(&l)
}

// known says whether a device has the key that it should have.
func (r *deliverRun) known(d *policy.Device, fingerprint string) error {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	want := cmp.Or(d.HostKey, r.learned[d.Address])
	if want == "" {
		var err error
		if want, err = r.record.HostKey(d.Address); err != nil {
			return err
		}
	}
	switch {
	case want == fingerprint:
		return nil
	case want != "":
		return fmt.Errorf("%w than before: %s and not %s. If the device was replaced, write its new key into the file: host-key: %q", manage.ErrHostKey, fingerprint, want, fingerprint)
	case !r.trust:
		return fmt.Errorf("the key of the device is not known: it is %s. Compare it with what the device says of itself, and give --trust-new-keys", fingerprint)
	}
	r.learned[d.Address] = fingerprint
	return r.record.KeepHostKey(d.Address, fingerprint)
}

// ownName returns the name of the user of this program.
func ownName() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return "imbrel"
}

// read reads what a device has, and finds out what is to change.
func (r *deliverRun) read(t *target) error {
	s, err := r.open(t.device)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := s.Speaks(); err != nil {
		return err
	}
	if t.state, err = s.State(); err != nil {
		return err
	}
	if node := t.state.TextOf("node"); node != "" && node != t.device.Name {
		return fmt.Errorf("the device at %s says that it is `%s`", t.device.Address, node)
	}
	if t.has, err = s.Config("running"); err != nil {
		return err
	}
	return t.compare(r)
}

// compare finds out what is to change at a device by the file.
func (t *target) compare(r *deliverRun) error {
	node, err := live.NodeOf(r.file, t.device.Name)
	if err != nil {
		return err
	}
	part := r.in.Part(r.file, node)
	form := language.DeviceForm()
	var cannot limits.Limits
	for _, e := range t.state.Inner {
		if e.Name != "limit" {
			continue
		}
		if err := cannot.Set(e.TextOf("name"), e.TextOf("value")); err != nil {
			return fmt.Errorf("the device says of a limit of its own what is not known: %w", err)
		}
	}
	if part, t.less, err = fitted(part, &cannot); err != nil {
		return fmt.Errorf("it cannot be done on this device: %w", err)
	}
	return t.towards(form, deliver.Want(form, t.has, t.last, yang.Tree(form, &part).In(yang.Namespace), r.takeOver))
}

// towards finds out what a wish changes at a device.
func (t *target) towards(form *language.Form, w deliver.Wish) error {
	t.wish = w
	after, err := manage.File(w.Config)
	if err != nil {
		return fmt.Errorf("what the device has and what the file says do not fit together: %w", err)
	}
	before := &policy.File{}
	if t.has != nil {
		if before, err = manage.File(t.has); err != nil {
			return fmt.Errorf("the device has a configuration that is not valid: %w", err)
		}
	}
	t.changes = changes.Between(changes.Checked{File: before}, changes.Checked{File: after})
	t.spelling = t.changes.Same && !deliver.Same(form, t.has, w.Config)
	return nil
}

// differs reports whether a device is to change.
func (t *target) differs() bool { return t.err == nil && !t.changes.Same }

// shown returns what is to be seen of the devices.
func shown(targets []*target) *render.Delivery {
	out := &render.Delivery{Imbrel: 1, Devices: []render.DeliveryDevice{}}
	for _, t := range targets {
		d := render.DeliveryDevice{Node: t.device.Name, Address: t.device.Address, State: "same", Kept: t.wish.Kept, ByHand: t.wish.ByHand, Changes: t.changes, Less: t.less, KeepsFlows: t.state != nil && t.state.TextOf("renews") == "false"}
		switch {
		case t.err != nil:
			d.State, d.Why = "unread", t.err.Error()
		case !t.changes.Same:
			d.State = "differs"
		}
		out.Devices = append(out.Devices, d)
	}
	return out
}

// deliverFile shows what a file changes, and changes it.
func (a *app) deliverFile(text render.Text, r *deliverRun, targets []*target) error {
	d := shown(targets)
	d.File, d.Before, d.After, d.Committing, d.TakeOver = r.name, "what they have", r.name, r.commit, r.takeOver
	if !r.commit {
		return a.delivered(text, d, d.Unread() > 0)
	}
	if d.Unread() > 0 || !r.takeOver && d.ChangedByHand() > 0 {
		d.Refused = true
		return a.delivered(text, d, true)
	}
	return a.commitTo(text, r, targets, d, 0)
}

// delivered shows a delivery.
func (a *app) delivered(text render.Text, d *render.Delivery, found bool) error {
	if a.output == "json" {
		if err := render.JSON(a.out, d); err != nil {
			return err
		}
	} else {
		text.Delivery(d)
	}
	if found {
		return errFound
	}
	return nil
}

// waves divides targets by the flag --wave.
func (r *deliverRun) waves(targets []*deliver.Target) (out [][]*deliver.Target, err error) {
	for _, word := range strings.Split(r.wave, ",") {
		n := len(targets)
		if word = strings.TrimSpace(word); word != "all" {
			if n, err = strconv.Atoi(word); err != nil || n < 1 {
				return nil, fmt.Errorf("--wave %s: write numbers of devices, such as 2,10,all", r.wave)
			}
		}
		if n = min(n, len(targets)); n > 0 {
			out = append(out, targets[:n])
		}
		targets = targets[n:]
	}
	if len(targets) > 0 {
		return nil, fmt.Errorf("--wave %s leaves %s out: end it with all", r.wave, humanize.Plural(len(targets), "device"))
	}
	return out, nil
}

// commitTo changes devices, verifies, and confirms or takes back. It writes a record into the history.
func (a *app) commitTo(text render.Text, r *deliverRun, targets []*target, d *render.Delivery, back uint64) (err error) {
	plan := &deliver.Plan{Together: r.together, Renew: r.renew, Parallel: devicesAtATime}
	if plan.Confirm, err = timeOf("confirm", r.confirm, 10*time.Second, "a device needs some time"); err != nil {
		return err
	}
	record := &files.Delivery{At: time.Now().UTC(), By: ownName(), File: r.name, Hash: changes.Hash(r.file), Back: back, Together: r.together, State: files.Begun, What: d.InWords()}
	var list []*deliver.Target
	devices := make(map[string]*policy.Device)
	for _, t := range targets {
		if !t.differs() {
			continue
		}
		devices[t.device.Name] = t.device
		list = append(list, &deliver.Target{Node: t.device.Name, Before: t.has, After: t.wish.Config})
		record.Devices = append(record.Devices, files.DeliveryDevice{Node: t.device.Name, Address: t.device.Address, Before: compact(t.has), After: compact(t.wish.Config), State: string(deliver.AsBefore)})
	}
	if len(list) == 0 {
		return a.delivered(text, d, false)
	}
	if plan.Waves, err = r.waves(list); err != nil {
		return err
	}
	if a.output != "json" { // before anything happens
		text.Delivery(d)
		if err := a.flush(); err != nil {
			return err
		}
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	if err := r.record.Put(record); err != nil {
		return err
	}
	plan.Open = func(node string) (deliver.Session, error) {
		s, err := r.open(devices[node])
		if err != nil {
			return nil, err
		}
		return s, nil
	}
	plan.Step = func(what string) { fmt.Fprintln(a.err, "imbrel deliver: "+what) }
	plan.Settle = func(try int) bool { return settle(ctx, try, plan.Confirm) }
	plan.Decide = func(nodes []string) error {
		if ctx.Err() != nil {
			return errInterrupted
		}
		record.State = files.Decided
		for i := range record.Devices {
			if slices.Contains(nodes, record.Devices[i].Node) {
				record.Devices[i].State = string(files.Decided)
			}
		}
		return r.record.Put(record)
	}
	plan.Verify = func(wave int, nodes []string) error {
		record.Verified, err = r.verify.run(ctx, a, r, plan, nodes, targets)
		return err
	}
	out, failed := plan.Deliver()
	d.Outcomes, d.Verified, d.Committed = out, record.Verified, true
	ended(record, out, failed)
	if err := r.record.Put(record); err != nil {
		fmt.Fprintln(a.err, "imbrel deliver: "+err.Error()+"; the next delivery asks the devices")
	}
	d.ID, d.Finished = record.ID, record.State.Over()
	if failed != nil {
		d.Failure = failed.Error()
	}
	if a.output != "json" {
		text.DeliveryEnd(d)
	} else if err := render.JSON(a.out, d); err != nil {
		return err
	}
	switch {
	case errors.Is(failed, errInterrupted):
		return errInterrupted
	case failed != nil:
		return errFound
	}
	return nil
}

// inOrder returns outcomes in the order of the devices of a record.
func inOrder(record *files.Delivery, out []deliver.Outcome) []deliver.Outcome {
	at := func(o deliver.Outcome) int {
		return slices.IndexFunc(record.Devices, func(k files.DeliveryDevice) bool { return k.Node == o.Node })
	}
	slices.SortFunc(out, func(a, b deliver.Outcome) int { return at(a) - at(b) })
	return out
}

// compact returns a configuration as text, "" for none.
func compact(e *yang.Element) string {
	if e == nil {
		return ""
	}
	return string(e.Append(nil, "", ""))
}

// ended notes in a record what became of the devices.
func ended(record *files.Delivery, out []deliver.Outcome, failed error) {
	states := make(map[deliver.State]int)
	for i, o := range out {
		record.Devices[i].State, record.Devices[i].Saved, record.Devices[i].Why = string(o.State), o.Saved, o.Why
		states[o.State]++
	}
	switch {
	case states[deliver.AsBefore] == len(out):
		record.State = files.TakenBack
	case failed == nil:
		record.State = files.Done
	case states[deliver.AsBefore]+states[deliver.AsWished] == len(out) && !record.Together:
		record.State = files.InPart
	case record.State == files.Decided && record.Together && states[deliver.AsBefore] > 0:
		record.State = files.Returning
	}
}

// settle waits before a device is tried again: seconds at first, then longer, as long as it may take itself back.
func settle(ctx context.Context, try int, within time.Duration) bool {
	wait := min(time.Duration(1<<min(try, 5))*250*time.Millisecond, 5*time.Second)
	if time.Duration(try)*2*time.Second > min(within, 2*time.Minute) {
		return false
	}
	select {
	case <-ctx.Done():
		return try < 3 // what is under way is finished even so
	case <-time.After(wait):
		return true
	}
}

// flush writes what was shown so far.
func (a *app) flush() error {
	if b, ok := a.out.(*bufio.Writer); ok {
		return b.Flush()
	}
	return nil
}
