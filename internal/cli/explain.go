package cli

import (
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/render"
)

// An explainRun is what the flags ask for.
type explainRun struct {
	from, to, protocol, dscp, serverName, enter, at, capture string
	fromPort, toPort                                         uint16
	pcp, vlan, length, top                                   int
	rtp, why, apps, marks                                    bool
	by                                                       []string
}

func (a *app) explain(text render.Text) *cobra.Command {
	var r explainRun
	c := &cobra.Command{
		Use:   "explain FILE --from A --to B | explain [FILE] --capture C | explain --apps [FILE]",
		Short: "Follow one packet, or each flow of a capture: its class and marks, hop by hop",
		Long: `Explain follows one packet through the network. For each policy on its way it names
the class that takes the packet, and for each class that does not, the first condition
that the packet fails. It shows the mark before and after, the policer, the queue, the
promise, and the headers that a tunnel hides. With --capture it follows each flow of a
capture, and without a policy file sums them: who sends how much, and when. With
--marks it shows what becomes of each DSCP at each hop. With --apps it lists the applications that it knows.`,
		Example: `  imbrel explain ternrock.yaml --from 10.44.8.20 --to 10.44.64.20 --to-port 16384
  imbrel explain ternrock.yaml --from 10.44.10.40 --to 10.44.64.99 --protocol tcp --to-port 8730 --dscp ef --why
  imbrel explain ternrock.yaml --capture ternrock-office.pcap
  imbrel explain --capture ternrock-office.pcap --by app,client
  imbrel explain ternrock.yaml --from 10.44.8.20 --to 10.44.64.20 --to-port 16384 --marks
  imbrel explain --apps`,
		Args: between(0, 1, "a policy file"),
		RunE: func(c *cobra.Command, args []string) error {
			asked := []string{"from", "to", "protocol", "dscp", "from-port", "to-port", "pcp", "vlan", "length", "server-name", "looks-like-rtp", "time", "why"}
			if r.apps {
				if err := apart(c, "--apps", "it lists applications, and follows no packet", append(asked, "capture", "enter", "top", "by", "marks")...); err != nil {
					return err
				}
				return a.listApps(text, args)
			}
			if len(args) == 0 && r.capture != "" { // sums need no policy
				if err := apart(c, "--capture without a policy file", "nothing is followed", append(asked, "enter", "marks")...); err != nil {
					return err
				}
				if len(r.by) == 0 {
					r.by = []string{"app", "client", "dscp"}
				}
				return a.explainCapture(text, &policy.File{Apps: policy.Catalogue()}, &r)
			}
			if len(args) != 1 {
				return fmt.Errorf("imbrel explain wants a policy file, and --from and --to or --capture\nsee: imbrel explain --help")
			}
			f, _, err := files.ReadPolicy(args[0], a.in, a.includeFrom...)
			if err != nil {
				return err
			}
			if r.capture != "" {
				if err := apart(c, "--capture", "its packets say it themselves", append(asked, "marks")...); err != nil {
					return err
				}
				return a.explainCapture(text, f, &r)
			}
			if err := apart(c, "one packet", "it is about the flows of --capture", "top", "by"); err != nil {
				return err
			}
			if r.marks {
				if err := apart(c, "--marks", "it asks for every DSCP, and shows the marks alone", "dscp", "why"); err != nil {
					return err
				}
			}
			return a.explainPacket(text, f, &r)
		},
	}
	fl := c.Flags()
	fl.StringVar(&r.from, "from", "", "the sender's `ADDRESS`")
	fl.StringVar(&r.to, "to", "", "the receiver's `ADDRESS`")
	fl.StringVar(&r.protocol, "protocol", "udp", "the `PROTOCOL`: udp, tcp, icmp, … or a number")
	numberVar(fl, &r.fromPort, "from-port", 0, 0, 65535, "the sender's `PORT`")
	numberVar(fl, &r.toPort, "to-port", 0, 0, 65535, "the receiver's `PORT`")
	fl.StringVar(&r.dscp, "dscp", "df", "the `DSCP` it arrives with")
	numberVar(fl, &r.pcp, "pcp", -1, 0, 7, "the priority code point of the tag it arrives with, `0-7`")
	numberVar(fl, &r.vlan, "vlan", -1, 0, 4095, "the `VLAN` it arrives in")
	numberVar(fl, &r.length, "length", 200, 20, 65535, "the IP packet's length in `BYTES`")
	fl.StringVar(&r.serverName, "server-name", "", "the `NAME` of the server in the hello of its conversation")
	fl.BoolVar(&r.rtp, "looks-like-rtp", false, "it is part of a flow that looks like RTP")
	fl.StringVar(&r.enter, "enter", "", "where it enters, as `NODE/INTERFACE`; where its sender is when not given")
	fl.StringVar(&r.at, "time", "", "the `TIME` it passes, such as 2026-03-02T08:30, in UTC; without it every `when` is assumed to hold")
	fl.BoolVar(&r.why, "why", false, "show every condition of the entries tried")
	fl.StringVar(&r.capture, "capture", "", "explain every flow of a pcap or pcapng `FILE`")
	numberVar(fl, &r.top, "top", 10, 0, math.MaxInt32, "how many flows, or groups of --by, the text shows, those with most bytes first; 0 is all")
	fl.StringSliceVar(&r.by, "by", nil, "sum the packets of --capture by `GROUPS`: "+groupings())
	fl.BoolVar(&r.marks, "marks", false, "follow the packet with every DSCP: the class at each policy, and the mark that leaves")
	fl.BoolVar(&r.apps, "apps", false, "list the applications: a policy file's own and those built in")
	return c
}

// listApps lists the applications of a file, or the catalogue.
func (a *app) listApps(text render.Text, args []string) error {
	apps := policy.Catalogue()
	if len(args) == 1 {
		f, _, err := files.ReadPolicy(args[0], a.in, a.includeFrom...)
		if err != nil {
			return err
		}
		apps = f.Apps
	}
	if a.output == "json" {
		return render.JSON(a.out, render.AppsJSON(apps))
	}
	text.Apps(apps)
	return nil
}

func (a *app) explainPacket(text render.Text, f *policy.File, r *explainRun) error {
	q, err := r.question(f)
	if err != nil {
		return err
	}
	if r.marks {
		return a.explainMarks(text, f, q)
	}
	answer, err := explain.New(f).Ask(q)
	if err != nil {
		return err
	}
	if a.output == "json" {
		return render.JSON(a.out, answer)
	}
	text.Answer(&q, answer, r.why)
	return nil
}

// question turns the flags into a packet.
func (r *explainRun) question(f *policy.File) (q explain.Question, err error) {
	if r.from == "" || r.to == "" {
		return q, fmt.Errorf("a packet needs --from and --to (or name a --capture)\nsee: imbrel explain --help")
	}
	for _, x := range []struct {
		flag, text string
		to         *netip.Addr
	}{{"from", r.from, &q.Flow.From}, {"to", r.to, &q.Flow.To}} {
		if *x.to, err = netip.ParseAddr(x.text); err != nil || x.to.Zone() != "" {
			return q, fmt.Errorf("--%s %s: this is not an address such as 10.44.8.20", x.flag, x.text)
		}
		*x.to = x.to.Unmap()
	}
	if q.Flow.From.Is4() != q.Flow.To.Is4() {
		return q, fmt.Errorf("--from %s and --to %s are of different IP versions", r.from, r.to)
	}
	if q.Flow.Protocol, err = policy.ParseProtocol(r.protocol); err != nil {
		return q, fmt.Errorf("--protocol: %w", err)
	}
	if q.DSCP, err = codepoint.ParseDSCP(r.dscp); err != nil {
		return q, fmt.Errorf("--dscp: %w", err)
	}
	q.Flow.FromPort, q.Flow.ToPort = r.fromPort, r.toPort
	least := 20 + map[uint8]int{packet.UDP: 8, packet.TCP: 20}[q.Flow.Protocol]
	if q.Flow.From.Is6() {
		least += 20
	}
	if q.Length = r.length; q.Length < least || q.Length > 65535 {
		return q, fmt.Errorf("--length %d: a packet of %s with its headers has %d to 65535 bytes", r.length, policy.ProtocolName(q.Flow.Protocol), least)
	}
	if r.pcp != -1 {
		v := uint8(r.pcp)
		q.PCP = &v
	}
	if r.vlan != -1 {
		v := uint16(r.vlan)
		q.VLAN = &v
	}
	q.ServerName, q.RTP = r.serverName, r.rtp
	if r.at != "" {
		if q.At, err = language.ParseMoment(r.at); err != nil {
			return q, fmt.Errorf("--time: %w: write one such as 2026-03-02T08:30", err)
		}
	}
	q.Enter, err = interfaceOf(f, r.enter)
	return q, err
}

// interfaceOf looks up an interface, or returns nil for none.
func interfaceOf(f *policy.File, path string) (*policy.Interface, error) {
	if path == "" {
		return nil, nil
	}
	var known []string
	for i := range f.Network.Nodes {
		for _, iface := range f.Network.Nodes[i].Interfaces {
			if iface.Path() == path {
				return iface, nil
			}
			known = append(known, iface.Path())
		}
	}
	if len(known) > 12 {
		known = append(slices.Clone(known[:12]), "…")
	}
	return nil, fmt.Errorf("--enter %s: there is no such interface; there are: %s", path, strings.Join(known, ", "))
}

func (a *app) explainCapture(text render.Text, f *policy.File, r *explainRun) error {
	enter, err := interfaceOf(f, r.enter)
	if err != nil {
		return err
	}
	var by []explain.Grouping
	for _, name := range r.by {
		g, known := explain.GroupingOf(strings.TrimSpace(name))
		if !known {
			return fmt.Errorf("--by %s: packets are summed by %s", name, groupings())
		}
		if g.Name == "class" && len(f.Attach) == 0 {
			return fmt.Errorf("--by class: classes are those of a policy that is attached; name a policy file that has one")
		}
		by = append(by, g)
	}
	res, err := a.watch(r.capture, f, enter, by...)
	if err != nil {
		return err
	}
	if a.output == "json" {
		return render.JSON(a.out, res)
	}
	text.Capture(r.capture, res, r.top)
	return nil
}

// groupings names what a capture can be summed by.
func groupings() string {
	var names []string
	for _, g := range explain.Groupings {
		names = append(names, g.Name)
	}
	return policy.OrList(names)
}

// explainMarks follows a packet with each codepoint that has a name.
func (a *app) explainMarks(text render.Text, f *policy.File, q explain.Question) error {
	var rows []render.MarkRow
	follower := explain.New(f)
	for _, name := range codepoint.Names() {
		d, err := codepoint.ParseDSCP(name)
		if err != nil || slices.ContainsFunc(rows, func(r render.MarkRow) bool { return r.Sent == d.Name() }) { // no DSCP, or another name of one
			continue
		}
		q.DSCP = d
		answer, err := follower.Ask(q)
		if err != nil {
			return err
		}
		rows = append(rows, render.MarkRow{Sent: d.Name(), Answer: answer})
	}
	if a.output == "json" {
		return render.JSON(a.out, struct {
			Marks []render.MarkRow `json:"marks"`
		}{rows})
	}
	text.Marks(&q, rows)
	return nil
}

// watch explains the flows of a capture whose packets enter at an interface, or where their
// senders are.
func (a *app) watch(name string, f *policy.File, enter *policy.Interface, by ...explain.Grouping) (*explain.CaptureResult, error) {
	capture, err := files.OpenCapture(name)
	if err != nil {
		return nil, err
	}
	defer capture.Close()
	show, clear := a.progress("reading " + name)
	defer clear()
	watch := explain.New(f).Watch(enter)
	for _, g := range by {
		watch.Group(g)
	}
	var tick func()
	if show != nil {
		tick = func() { show(capture.Done()) }
	}
	if err := watch.Run(capture, tick); err != nil {
		return nil, err
	}
	res := watch.Result()
	res.Notes = append(res.Notes, capture.Notes()...)
	return res, nil
}
