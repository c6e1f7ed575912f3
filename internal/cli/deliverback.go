package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strconv"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/changes"
	"imbrel.example/imbrel/core/deliver"
	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/manage"
	"imbrel.example/imbrel/internal/render"
)

func (a *app) deliverDrift(text render.Text) *cobra.Command {
	var r deliverRun
	c := &cobra.Command{
		Use:   "drift FILE",
		Short: "Show which devices differ from the file",
		Long: `Drift asks each device what it has, and compares it with the file. It exits with 1 when a
device has what the file has not, or the other way round, and when one cannot be asked.`,
		Example: "  imbrel deliver drift sites.yaml --quiet || echo somebody was there",
		Args:    between(1, 1, "a policy file"),
	}
	quiet := c.Flags().Bool("quiet", false, "print nothing; exit with 1 when something differs")
	c.RunE = func(_ *cobra.Command, args []string) error {
		r.takeOver = true // compared with the file alone
		return a.deliverTo(text, &r, args[0], func(targets []*target) error {
			d := shown(targets)
			d.File, d.Before, d.After, d.Drift = r.name, r.name, "what they have", true
			found := d.Unread() > 0
			for i, t := range targets {
				if t.err != nil {
					continue
				}
				if t.differs() {
					found = true
					if err := t.reverse(); err != nil {
						return err
					}
					d.Devices[i].Changes = t.changes
				}
			}
			if *quiet {
				if found {
					return errFound
				}
				return nil
			}
			return a.delivered(text, d, found)
		})
	}
	r.flags(c)
	return c
}

// reverse makes the changes those from the file to the device.
func (t *target) reverse() error {
	after, err := manage.File(t.wish.Config)
	if err != nil {
		return err
	}
	before := &policy.File{}
	if t.has != nil {
		if before, err = manage.File(t.has); err != nil {
			return err
		}
	}
	t.changes = changes.Between(changes.Checked{File: after}, changes.Checked{File: before})
	return nil
}

func (a *app) deliverHistory(text render.Text) *cobra.Command {
	var r deliverRun
	c := &cobra.Command{
		Use:     "history FILE",
		Short:   "List what was delivered: who, when, what, how it was verified",
		Example: "  imbrel deliver history sites.yaml",
		Args:    between(1, 1, "a policy file"),
		RunE: func(_ *cobra.Command, args []string) error {
			name := r.historyFile(args[0])
			if _, err := os.Stat(name); err != nil {
				return fmt.Errorf("nothing was delivered yet: there is no history %s", name)
			}
			h, err := files.OpenHistory(name)
			if err != nil {
				return err
			}
			defer h.Close()
			all, err := h.All()
			if err != nil {
				return err
			}
			if a.output == "json" {
				if all == nil {
					all = []files.Delivery{}
				}
				return render.JSON(a.out, struct {
					Imbrel     int              `json:"imbrel"`
					Deliveries []files.Delivery `json:"deliveries"`
				}{1, all})
			}
			text.History(all)
			return nil
		},
	}
	c.Flags().StringVar(&r.history, "history", "", "the history in a `FILE`; beside the policy file when not given")
	return c
}

func (a *app) deliverBack(text render.Text) *cobra.Command {
	var r deliverRun
	c := &cobra.Command{
		Use:   "back FILE [ID]",
		Short: "Give the devices back what they had before a delivery",
		Long: `Back gives the devices of a delivery what they had before it; the devices that later
deliveries changed, too. Without an ID it is the last delivery. Back is a delivery of its
own: it shows what would change, and needs --commit.`,
		Example: "  imbrel deliver back sites.yaml\n  imbrel deliver back sites.yaml 4 --commit --ask",
		Args:    between(1, 2, "a policy file, and the number of a delivery"),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.deliverTo(text, &r, args[0], func(targets []*target) error {
				id, err := r.before(args[1:], targets)
				if err != nil {
					return err
				}
				targets = slices.DeleteFunc(targets, func(t *target) bool { return t.wish.Config == nil && t.err == nil })
				d := shown(targets)
				d.File, d.Before, d.After, d.Committing, d.TakeOver = r.name, "what they have", fmt.Sprintf("what they had before delivery %d", id), r.commit, true
				if !r.commit || d.Unread() > 0 {
					d.Refused = r.commit
					return a.delivered(text, d, d.Unread() > 0)
				}
				return a.commitTo(text, &r, targets, d, id)
			})
		},
	}
	r.flags(c)
	r.committing(c)
	return c
}

// before makes the wish of each target what it had before a delivery.
func (r *deliverRun) before(args []string, targets []*target) (id uint64, err error) {
	all, err := r.record.All()
	if err != nil {
		return 0, err
	}
	done := slices.DeleteFunc(slices.Clone(all), func(d files.Delivery) bool { return d.State != files.Done && d.State != files.InPart })
	if len(done) == 0 {
		return 0, errors.New("nothing was delivered that could be taken back")
	}
	id = done[0].ID
	if len(args) > 0 {
		id, err = strconv.ParseUint(args[0], 10, 64)
		if err != nil || !slices.ContainsFunc(done, func(d files.Delivery) bool { return d.ID == id }) {
			return 0, fmt.Errorf("%s is not the number of a delivery that was done: `imbrel deliver history` lists them", args[0])
		}
	}
	had := make(map[string]string)
	for _, d := range done { // the last first: what is found last was there first
		for _, k := range d.Devices {
			if d.ID >= id && k.State == string(deliver.AsWished) {
				had[k.Node] = k.Before
			}
		}
	}
	for _, t := range targets {
		text, there := had[t.device.Name]
		t.wish = deliver.Wish{}
		if !there || t.err != nil {
			continue
		}
		config, err := element(text)
		if err != nil {
			return 0, err
		}
		if config == nil {
			return 0, fmt.Errorf("`%s` had no configuration before delivery %d", t.device.Name, id)
		}
		t.err = t.towards(language.DeviceForm(), deliver.Wish{Config: config})
	}
	return id, nil
}

func (a *app) deliverResume(text render.Text) *cobra.Command {
	var r deliverRun
	c := &cobra.Command{
		Use:   "resume FILE",
		Short: "Finish a delivery that was cut",
		Long: `Resume looks for a delivery that was cut by a crash or a lost machine. When it had been
decided, each device gets what it was to have. When it had not, the devices took
themselves back, and resume checks that they did.`,
		Example: "  imbrel deliver resume sites.yaml",
		Args:    between(1, 1, "a policy file"),
		RunE: func(_ *cobra.Command, args []string) error {
			var err error
			if r.file, r.in, err = files.ReadPolicy(args[0], a.in, a.includeFrom...); err != nil {
				return err
			}
			r.name = args[0]
			if r.record, err = files.OpenHistory(r.historyFile(r.name)); err != nil {
				return err
			}
			defer r.record.Close()
			r.agent, r.learned = manage.AgentKeys(), make(map[string]string)
			return a.resume(text, &r)
		},
	}
	r.flags(c)
	return c
}

// unfinished returns the deliveries that are not finished.
func unfinished(all []files.Delivery) []files.Delivery {
	return slices.DeleteFunc(slices.Clone(all), func(d files.Delivery) bool { return d.State.Over() })
}

// resume finishes what was cut.
func (a *app) resume(text render.Text, r *deliverRun) error {
	all, err := r.record.All()
	if err != nil {
		return err
	}
	open := unfinished(all)
	if len(open) == 0 {
		text.Line("No delivery was cut.")
		return nil
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	var failed error
	for i := range open {
		record := &open[i]
		devices := make(map[string]*policy.Device)
		for n := range r.file.Devices {
			devices[r.file.Devices[n].Name] = &r.file.Devices[n]
		}
		var decided, others []*deliver.Target
		for _, k := range record.Devices {
			t := &deliver.Target{Node: k.Node}
			if t.Before, err = element(k.Before); err == nil {
				t.After, err = element(k.After)
			}
			if err != nil {
				return err
			}
			if record.State != files.Begun && k.State != string(deliver.AsBefore) {
				decided = append(decided, t)
			} else {
				others = append(others, t)
			}
		}
		plan := &deliver.Plan{Together: record.Together, Parallel: devicesAtATime,
			Open: func(node string) (deliver.Session, error) {
				d := devices[node]
				if d == nil {
					return nil, fmt.Errorf("%s has no such device any more", r.name)
				}
				s, err := r.open(d)
				if err != nil {
					return nil, err
				}
				return s, nil
			},
			Settle: func(try int) bool { return settle(ctx, try, 20*time.Second) }}
		want := deliver.AsWished
		if record.State == files.Returning {
			want = deliver.AsBefore
		}
		plan.Waves = [][]*deliver.Target{decided}
		out, err := plan.Finish(want)
		plan.Waves = [][]*deliver.Target{others}
		rest, e := plan.Look()
		out, err = inOrder(record, append(out, rest...)), errors.Join(err, e)
		ended(record, out, err)
		failed = errors.Join(failed, err)
		if e := r.record.Put(record); e != nil {
			return e
		}
		d := &render.Delivery{Imbrel: 1, File: r.name, ID: record.ID, Outcomes: out, Committed: true, Finished: record.State.Over()}
		if err != nil {
			d.Failure = err.Error()
		}
		if a.output == "json" {
			if err := render.JSON(a.out, d); err != nil {
				return err
			}
		} else {
			text.DeliveryEnd(d)
		}
	}
	if failed != nil {
		return errFound
	}
	return nil
}
