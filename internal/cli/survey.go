package cli

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/ipfix"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/survey"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/live"
	"imbrel.example/imbrel/internal/render"
	"imbrel.example/imbrel/internal/report"
)

// surveyRun is what the flags of survey ask for.
type surveyRun struct {
	add, by, inside         []string
	device, gate, exporters string
	lasts, where            string
	top                     int
	page                    pages
	apps                    []policy.App
	takes                   func(*packet.Packet) bool
	survey                  *survey.Survey
	sources, notes          []string
}

func (a *app) survey(text render.Text) *cobra.Command {
	var r surveyRun
	c := &cobra.Command{
		Use:   "survey [SOURCE…]",
		Short: "Sum traffic: who sends how much, when, and how it is marked",
		Long: `Survey reads captures (pcap, pcapng, also compressed by gzip), files of flow records
(IPFIX), an interface, a running gate, or what exporters send, and sums it: by application,
client, server, DSCP, VLAN, protocol and direction, with the busiest second and minute. It
finds calls by their RTP and reports their loss, jitter and MOS as seen at the place of the
capture, and traffic whose marking is not the one that RFC 4594 advises. Its memory is
bounded: up to 65,536 sums of a kind are exact, and beyond that each has its error.
Save a survey with -o json, add it to others with --add, and give it to imbrel draft.`,
		Example: `  imbrel survey ternrock-office.pcap
  imbrel survey monday.pcapng.gz tuesday.pcapng.gz --by app,client --inside 10.44.8.0/22 -o json >week.json
  imbrel survey --add week.json wednesday.pcapng.gz --report week.html
  imbrel survey --interface eth1 --for 10m --where 'app: rtp'
  imbrel survey --ipfix 192.0.2.9:4739 --for 1h`,
		Args: cobra.ArbitraryArgs,
		RunE: func(_ *cobra.Command, args []string) error {
			ctx, done := untilTold()
			defer done()
			if err := r.prepare(args); err != nil {
				return err
			}
			if err := r.read(ctx, a, args); err != nil {
				return err
			}
			res := r.survey.Result()
			res.Sources, res.Notes = append(r.sources, r.survey.Sources()...), append(res.Notes, r.notes...)
			if res.Total.Packets == 0 && len(res.Groups) == 0 {
				return fmt.Errorf("%s: no packet or flow was found to sum%s", strings.Join(res.Sources, ", "), inBrackets(res.Notes))
			}
			if err := r.page.write(func() *report.Page { return report.Survey(res, r.by, a.ran(files.Place{}, nil)) }); err != nil {
				return err
			}
			if a.output == "json" {
				if err := render.JSON(a.out, res); err != nil {
					return err
				}
			} else {
				text.Survey(res, r.by, r.top)
			}
			r.page.say(a)
			return nil
		},
	}
	fl := c.Flags()
	fl.StringArrayVar(&r.add, "add", nil, "add the saved survey in a `FILE`")
	fl.StringVar(&r.device, "interface", "", "read what an `INTERFACE` of this machine sends and receives (Linux)")
	fl.StringVar(&r.gate, "gate", "", "read the counters of the gate at a `DEVICE`, by class (Linux)")
	fl.StringVar(&r.exporters, "ipfix", "", "listen at an `ADDRESS` for flow records, by UDP and TCP; :4739 is the registered port, on the loopback unless a host is given")
	fl.StringVar(&r.lasts, "for", "1m", "how long --interface, --gate and --ipfix go on, a `TIME` such as 10m; an interrupt ends them earlier")
	fl.StringSliceVar(&r.by, "by", []string{"app", "client", "server", "dscp"}, "the `GROUPS` that the text shows: "+surveyGroups())
	fl.StringSliceVar(&r.inside, "inside", nil, "the `PREFIXES` of the site: directions are then out, in, within and passing, and otherwise to server and to client")
	fl.StringVar(&r.where, "where", "", "sum only packets for which a `CONDITION` of the language holds, such as 'app: rtp' or 'from: 10.44.8.0/22, protocol: udp'")
	numberVar(fl, &r.top, "top", 10, 0, 1<<31-1, "how many rows of a group the text shows, those with most bytes first; 0 is all")
	r.page.flags(c)
	return c
}

func inBrackets(notes []string) string {
	if len(notes) == 0 {
		return ""
	}
	return " (" + strings.Join(notes, "; ") + ")"
}

func surveyGroups() string {
	var names []string
	for _, g := range survey.Groupings {
		names = append(names, g.Name)
	}
	return policy.OrList(names)
}

// prepare reads the flags.
func (r *surveyRun) prepare(args []string) error {
	if len(args) == 0 && len(r.add) == 0 && r.device == "" && r.gate == "" && r.exporters == "" {
		return errors.New("imbrel survey wants something to read: a capture, a file of flow records, --interface, --gate, --ipfix or --add\nsee: imbrel survey --help")
	}
	var inside []netip.Prefix
	for _, s := range r.inside {
		p, err := netip.ParsePrefix(strings.TrimSpace(s))
		if err != nil {
			return fmt.Errorf("--inside %s: this is not a prefix such as 10.44.8.0/22", s)
		}
		inside = append(inside, p.Masked())
	}
	for i, name := range r.by {
		r.by[i] = strings.TrimSpace(name)
		if !slices.ContainsFunc(survey.Groupings, func(g survey.Grouping) bool { return g.Name == r.by[i] }) {
			return fmt.Errorf("--by %s: traffic is summed by %s", name, surveyGroups())
		}
	}
	r.apps = policy.Catalogue()
	if r.where != "" {
		f, err := policyfile.Parse("--where", []byte("imbrel: 1\nclasses:\n- {name: where, match: [{"+r.where+"}]}\n"), nil)
		var problems policy.Problems
		switch {
		case errors.As(err, &problems):
			return fmt.Errorf("--where %q is not a condition: %s", r.where, problems[0].Text)
		case err != nil:
			return fmt.Errorf("--where %q is not a condition: %w", r.where, err)
		case len(f.Classes) != 1:
			return fmt.Errorf("--where %q is not a condition: write keys and values, as in 'app: rtp'", r.where)
		}
		if r.gate != "" {
			return errors.New("--where has no effect with --gate: its counters know classes only")
		}
		r.apps, r.takes = f.Apps, f.Classes[0].Holds
	}
	r.survey = survey.New(inside)
	return r.page.free()
}

// read sums all sources.
func (r *surveyRun) read(ctx context.Context, a *app, args []string) error {
	for _, name := range r.add {
		saved, err := files.ReadSurvey(name)
		if err == nil {
			err = r.survey.Merge(saved)
		}
		if err != nil {
			return fmt.Errorf("--add %s: %w", name, err)
		}
	}
	apps := survey.NewApps(r.apps)
	var names []string
	var captures []*files.Capture
	for _, name := range args {
		r.sources = append(r.sources, name)
		capture, flows, err := files.OpenSource(name)
		switch {
		case err != nil:
		case capture != nil:
			defer capture.Close()
			names, captures = append(names, name), append(captures, capture)
		default:
			err = r.flows(ctx, a, name, flows, apps)
		}
		if err != nil {
			return err
		}
	}
	if captures != nil {
		if err := r.captures(ctx, a, names, captures); err != nil {
			return err
		}
	}
	if r.device == "" && r.gate == "" && r.exporters == "" {
		return nil
	}
	lasts, err := timeOf("for", r.lasts, time.Second, "")
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, lasts)
	defer cancel()
	switch {
	case r.device != "" && r.gate != "" || r.device != "" && r.exporters != "" || r.gate != "" && r.exporters != "":
		return errors.New("name one of --interface, --gate and --ipfix: save each survey with -o json, and join them with --add")
	case r.device != "":
		r.sources = append(r.sources, r.device)
		return r.listen(ctx)
	case r.gate != "":
		r.sources = append(r.sources, "the gate at "+r.gate)
		r.notes = append(r.notes, "bytes are counted as the interfaces of the gate count them")
		return r.counters(ctx)
	}
	address, err := listenAt("ipfix", r.exporters)
	if err != nil {
		return err
	}
	r.sources = append(r.sources, "exporters at "+r.exporters)
	got, err := live.Collect(ctx, address, func(at string) { fmt.Fprintf(a.err, "listening at %s\n", at) }, r.record(apps))
	if err != nil {
		return err
	}
	r.notes = append(r.notes, got.Lost.Notes()...)
	if got.Crowded > 0 {
		r.notes = append(r.notes, humanize.Count(got.Crowded)+" messages came from exporters for whom there was no room")
	}
	return nil
}

// captures sums captures as if they were one: their packets in the order of time.
func (r *surveyRun) captures(ctx context.Context, a *app, names []string, all []*files.Capture) error {
	show, clear := a.progress("reading " + names[0])
	defer clear()
	w := r.survey.Watch(r.apps, r.takes)
	merged := &mergedCaptures{all: all}
	err := w.Run(merged, func() bool {
		if show != nil {
			done := 0.0
			for _, c := range all {
				done += c.Done() / float64(len(all))
			}
			show(done)
		}
		return ctx.Err() == nil
	})
	r.notes = append(r.notes, w.Notes()...)
	for i, c := range all {
		for _, n := range c.Notes() {
			r.notes = append(r.notes, names[i]+": "+n)
		}
	}
	if ctx.Err() != nil {
		r.notes = append(r.notes, "interrupted: the rest of the captures is not in the survey")
	}
	return err
}

// mergedCaptures reads captures in the order of time, with times since 1970.
type mergedCaptures struct {
	all   []*files.Capture
	heads []head
	last  int // that was read last
}

// head is the next frame of a capture.
type head struct {
	frame []byte
	wire  int
	at    time.Duration
	ok    bool
}

func (m *mergedCaptures) next(i int) (err error) {
	h := &m.heads[i]
	h.frame, h.wire, h.at, h.ok, err = m.all[i].ReadFrame()
	h.at += m.all[i].Began()
	return err
}

// ReadFrame returns the earliest frame that is left.
func (m *mergedCaptures) ReadFrame() ([]byte, int, time.Duration, bool, error) {
	if m.heads == nil {
		m.heads = make([]head, len(m.all))
		for i := range m.all {
			if err := m.next(i); err != nil {
				return nil, 0, 0, false, err
			}
		}
	} else if err := m.next(m.last); err != nil {
		return nil, 0, 0, false, err
	}
	m.last = -1
	for i := range m.heads {
		if m.heads[i].ok && (m.last < 0 || m.heads[i].at < m.heads[m.last].at) {
			m.last = i
		}
	}
	if m.last < 0 {
		m.last = 0
		return nil, 0, 0, false, nil
	}
	h := &m.heads[m.last]
	return h.frame, h.wire, h.at, true, nil
}

// record sums flow records, those for which the condition holds.
func (r *surveyRun) record(apps *survey.Apps) func(*ipfix.Record) {
	var p packet.Packet
	room := make([]byte, packet.HeaderRoom)
	return func(k *ipfix.Record) {
		if r.takes != nil {
			length := int(max(60, min(65535, k.Bytes/max(k.Packets, 1))))
			p.Build(room, k.Flow, k.DSCP&63, length, 0)
			if k.Tagged {
				p.Tagged, p.VLAN = true, k.VLAN
			}
			if !r.takes(&p) {
				return
			}
		}
		r.survey.Flow(apps, k)
	}
}

func (r *surveyRun) flows(ctx context.Context, a *app, name string, f *files.FlowFile, apps *survey.Apps) error {
	defer f.Close()
	show, clear := a.progress("reading " + name)
	defer clear()
	read, take := ipfix.New(), r.record(apps)
	for n := 0; ctx.Err() == nil; n++ {
		b, err := f.Next()
		if err != nil {
			return err
		}
		if b == nil {
			break
		}
		if n&0xff == 0 && show != nil {
			show(f.Done())
		}
		_ = read.Message(b, take) // what makes no sense is counted
	}
	for _, n := range read.Lost.Notes() {
		r.notes = append(r.notes, name+": "+n)
	}
	if f.Cut() {
		r.notes = append(r.notes, name+": something other than messages of IPFIX is at the end, and was left out")
	}
	return nil
}

// listen sums what an interface sends and receives.
func (r *surveyRun) listen(ctx context.Context) error {
	w := r.survey.Watch(r.apps, r.takes)
	var p packet.Packet
	missed, err := live.Listen(ctx, r.device, func(at time.Duration, frame []byte) { w.Packet(at, &p, frame, len(frame)) })
	w.Finish()
	for _, n := range w.Notes() {
		r.notes = append(r.notes, r.device+": "+n)
	}
	if missed > 0 {
		r.notes = append(r.notes, fmt.Sprintf("%s: %s frames came faster than they could be read, and are missing", r.device, humanize.Count(missed)))
	}
	return err
}

// counters sums what a gate counts of each class, second by second.
func (r *surveyRun) counters(ctx context.Context) error {
	type count struct{ packets, bytes uint64 }
	before := make(map[string]count)
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	last := time.Duration(time.Now().UnixNano())
	for first := true; ; first = false {
		report, err := live.Snapshot(r.gate)
		if err != nil {
			return err
		}
		now := time.Duration(time.Now().UnixNano())
		for i := range report.Interfaces {
			f := &report.Interfaces[i]
			for k := range f.Classes {
				c := &f.Classes[k]
				name := f.Node + "/" + f.Interface + " " + f.Direction + " " + c.Class
				n := count{c.OfferedPackets, c.OfferedBytes}
				if b := before[name]; !first && n.bytes > b.bytes && n.packets >= b.packets {
					r.survey.Add(&survey.Record{Class: name, DSCP: codepoint.DF, Packets: int64(n.packets - b.packets), Bytes: int64(n.bytes - b.bytes), From: last, To: now - 1})
				}
				before[name] = n
			}
		}
		last = now
		select {
		case <-ctx.Done():
			return nil
		case <-ticker.C:
		}
	}
}
