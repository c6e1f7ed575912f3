package explain

import (
	"cmp"
	"fmt"
	"math/bits"
	"slices"
	"strings"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/recognise"
	"imbrel.example/imbrel/core/traffic"
	"imbrel.example/imbrel/core/tunnel"
)

// At is what one attachment made of a flow.
type At struct {
	Interface string   `json:"interface"`
	Direction string   `json:"direction"`
	Class     string   `json:"class"` // most of its packets'
	Classes   []string `json:"classes,omitempty"`
	DSCPIn    []string `json:"dscp_in"`
	DSCPOut   []string `json:"dscp_out"` // of the packets that leave
	Dropped
}

// Dropped is how many packets go no further.
type Dropped struct {
	Blocked  int64 `json:"blocked_packets,omitempty"`
	TooLarge int64 `json:"too_large_packets,omitempty"` // for the burst of a policer, which drops them all
}

// Add adds others.
func (d *Dropped) Add(o Dropped) {
	d.Blocked += o.Blocked
	d.TooLarge += o.TooLarge
}

// A FlowResult is one flow of a capture.
type FlowResult struct {
	From       string `json:"from"`
	To         string `json:"to"`
	Protocol   string `json:"protocol"`
	FromPort   uint16 `json:"from_port"`
	ToPort     uint16 `json:"to_port"`
	App        string `json:"app"`
	AppBy      string `json:"app_by,omitempty"` // tls, http, dns, looks or port: how the application was recognised
	ServerName string `json:"server_name,omitempty"`
	Packets    int64  `json:"packets"`
	Bytes      int64  `json:"bytes"` // of IP packets
	At         []At   `json:"at"`
}

// A ClassTotal is what one attachment put into one class.
type ClassTotal struct {
	Interface string `json:"interface"`
	Direction string `json:"direction"`
	Class     string `json:"class"`
	Packets   int64  `json:"packets"`
	Bytes     int64  `json:"bytes"`
	Dropped
}

// CaptureResult is a capture explained.
type CaptureResult struct {
	Flows   []FlowResult `json:"flows"`
	Classes []ClassTotal `json:"classes"`
	Packets int64        `json:"packets"`
	Bytes   int64        `json:"bytes"`
	Totals  []Total      `json:"totals,omitempty"` // by the groupings that were asked for
	Notes   []string     `json:"notes"`            // what was not followed, and why

	Attachments []string `json:"attachments"` // "ternrock/lan in", in the order met
}

// Bounds of what is remembered of a capture.
const (
	maxFlows    = 1 << 16
	maxOutcomes = 1 << 17
)

// A Watch explains a capture packet by packet.
type Watch struct {
	follower   *Follower
	enter      *policy.Interface
	recogniser *recognise.Recogniser
	asked      []asked // what conditions ask for
	longest    int     // packets up to so long fit every policer's burst
	flows      map[packet.Flow]*watched
	other      *watched
	before     *watched // of the packet before
	others     int64
	outcomes   int // in the memos of all flows
	routes     map[[2]*policy.Interface]*routed
	attached   []attachedAt
	totals     map[total]*sums
	notes      struct{ control, notIP, cut, malformed, deep, noSender, noReceiver, local, noRoute, backwards, short int64 }
	last       time.Duration
	packets    int64
	bytes      int64

	groupings   []Grouping
	groups      map[[2]string]*grouped
	keptSeconds int
}

type attachedAt struct {
	at        *policy.Interface
	direction policy.Direction
}

type total struct {
	at    int // number of the attachment
	class string
}

// routed is the route between two interfaces, and the attachments on it by number,
// for each step.
type routed struct {
	crossings []tunnel.Crossing
	numbers   []int // -1: no policy
}

// watched is what is known of a flow.
type watched struct {
	flow    packet.Flow
	route   *routed
	number  int // in the order of their first packets
	seconds bySecond
	packets int64
	bytes   int64
	app     int // number in the file plus one
	known   bool
	made    []made // of what passed, in the order met
	memo    map[seen]*outcome
	lastKey seen
	last    *outcome
}

// made is what one attachment made of a flow.
type made struct {
	at      int    // number of the attachment
	in, out uint64 // DSCPs, as bits
	classes []*classCount
}

type classCount struct {
	class   string
	packets int64
	Dropped
}

type sums struct {
	packets, bytes int64
	seconds        bySecond
	Dropped
}

// seen is what may differ between two packets of a flow and matter to a policy.
type seen struct {
	class  uint8 // DSCP and ECN
	tags   [2]packet.Tag
	tagged uint8
	tc     uint8
	labels uint8
	ports  bool
	length int
	apps   uint64
	values [policy.NumKeys]uint32 // of the keys that conditions ask for, plus one
}

// An outcome is what the attachments made of such packets.
type outcome []result

// A result is where packets are counted: for the class of the attachment, and for that of
// the flow there.
type result struct {
	sums *sums
	own  *classCount
	drop Dropped // of one packet
}

// Watch returns a watch for a capture that enters by an interface, or, when that
// is nil, wherever each sender is.
func (f *Follower) Watch(enter *policy.Interface) *Watch {
	w := &Watch{follower: f, enter: enter, recogniser: recognise.New(f.file.Apps), flows: make(map[packet.Flow]*watched),
		routes: make(map[[2]*policy.Interface]*routed), totals: make(map[total]*sums), other: &watched{}, longest: 65535}
	for i := range f.file.Attach {
		for _, e := range f.site(&f.file.Attach[i]).plan.Entries {
			if e.Meter != nil { // a quarter of the burst, whatever the framing adds
				w.longest = min(w.longest, int(e.Meter.Burst/4))
			}
		}
	}
	for i := range f.file.Classes {
		for _, list := range [][]policy.Condition{f.file.Classes[i].Match, f.file.Classes[i].Except} {
			for j := range list {
				for _, t := range list[j].Terms {
					w.asks(t.Key)
				}
			}
		}
	}
	return w
}

// An asked key is one that conditions ask for, with the function that reads it from a packet.
type asked struct {
	key policy.Key
	of  func(*packet.Packet) (a, b uint32, ok bool)
}

// asks notes that a condition asks for a key, and so for those that the key asks for.
func (w *Watch) asks(k policy.Key) {
	row := k.Row()
	for _, o := range row.Either {
		w.asks(o)
	}
	if row.Own() && row.Of != nil && !slices.ContainsFunc(w.asked, func(a asked) bool { return a.key == k }) {
		w.asked = append(w.asked, asked{k, row.Of})
	}
}

// Run explains every packet a reader yields. progress, when not nil, is called
// now and then.
func (w *Watch) Run(r traffic.Reader, progress func()) error {
	var p packet.Packet
	for n := 0; ; n++ {
		frame, wire, at, ok, err := r.ReadFrame()
		if err != nil {
			return err
		}
		if !ok {
			return nil
		}
		if n&0xfff == 0 && progress != nil {
			progress()
		}
		if at < w.last {
			w.notes.backwards++
		}
		w.last = max(w.last, at)
		w.Packet(w.last, &p, frame, wire)
	}
}

// Packet explains one frame, seen at a time.
func (w *Watch) Packet(now time.Duration, p *packet.Packet, frame []byte, wire int) {
	w.packets++
	err := p.Parse(frame, wire)
	stands := p.Standing()
	switch {
	case stands.Control():
		w.notes.control++
	case err == nil && stands == packet.Unreadable:
		w.notes.notIP++
	case err == packet.ErrCut && p.IsIP():
		w.notes.short++
	case err == packet.ErrCut:
		w.notes.cut++
	case err == packet.ErrTooDeep:
		w.notes.deep++
	case err != nil:
		w.notes.malformed++
	}
	if stands != packet.Classified {
		return
	}
	w.bytes += int64(p.Length)
	w.recogniser.Watch(now, p)
	f := w.before
	if f == nil || f.flow != p.Flow { // packets of one flow often come in a row
		if f = w.flows[p.Flow]; f == nil {
			f = w.newFlow(p)
		}
		if w.before = f; f == w.other {
			w.before = nil
		}
	}
	f.packets++
	f.bytes += int64(p.Length)
	if len(w.groupings) > 0 {
		w.summed(now, f, p)
	}
	if f == w.other {
		return
	}
	if !f.known && (f.packets <= 64 || len(p.Apps) > 0) {
		w.name(f, p)
	}
	if f.route == nil {
		return
	}
	for _, s := range *f.outcome(w, p) {
		s.sums.packets++
		s.sums.bytes += int64(p.Length)
		if len(w.groupings) > 0 && w.keptSeconds < maxSeconds && s.sums.seconds.add(int64(now/time.Second), int64(p.Length)) {
			w.keptSeconds++
		}
		s.sums.Add(s.drop)
		s.own.packets++
		s.own.Add(s.drop)
	}
}

// newFlow finds the route of a flow that is seen for the first time.
func (w *Watch) newFlow(p *packet.Packet) *watched {
	if len(w.flows) >= maxFlows {
		w.others++
		return w.other
	}
	f := &watched{flow: p.Flow, number: len(w.flows)}
	w.flows[p.Flow] = f
	from, to := w.enter, w.follower.table.Where(p.Flow.To)
	if from == nil {
		from = w.follower.table.Where(p.Flow.From)
	}
	switch {
	case from == nil:
		w.notes.noSender++
	case to == nil:
		w.notes.noReceiver++
	case from == to:
		w.notes.local++
	default:
		if f.route = w.route(from, to, p.Flow); f.route == nil {
			w.notes.noRoute++
		}
	}
	return f
}

// route returns the route of a flow between two interfaces, or nil when there is none.
func (w *Watch) route(from, to *policy.Interface, flow packet.Flow) *routed {
	key := [2]*policy.Interface{from, to}
	if known, ok := w.routes[key]; ok && !w.follower.table.Several(to) {
		return known
	}
	var found *routed
	if crossings, err := w.follower.route(from, to, flow); err == nil {
		found = &routed{crossings: crossings}
		for _, c := range crossings {
			found.numbers = append(found.numbers, w.number(c.In, policy.In), w.number(c.Out, policy.Out))
		}
	}
	w.routes[key] = found
	return found
}

func (w *Watch) number(at *policy.Interface, d policy.Direction) int {
	if at.Attached[d] == nil {
		return -1
	}
	a := attachedAt{at, d}
	i := slices.Index(w.attached, a)
	if i < 0 {
		i = len(w.attached)
		w.attached = append(w.attached, a)
	}
	return i
}

// name finds the application to show for a flow: one recognised beyond ports
// first, the file's own before the catalogue's.
func (w *Watch) name(f *watched, p *packet.Packet) {
	apps := w.follower.file.Apps
	for i := range p.Apps {
		if p.Apps[i] != 0 {
			f.app, f.known = i*64+bits.TrailingZeros64(p.Apps[i])+1, true
			return
		}
	}
	if f.app > 0 {
		return
	}
	for i := range apps {
		if apps[i].Takes(p) {
			f.app = i + 1
			return
		}
	}
}

// outcome returns what the attachments make of a packet, worked out once for
// all packets that a policy cannot tell from it.
func (f *watched) outcome(w *Watch, p *packet.Packet) *outcome {
	k := seen{class: p.TrafficClass(), labels: uint8(p.Labels()), ports: p.HasPorts}
	if p.Tagged {
		k.tagged = uint8(copy(k.tags[:], p.Tags()))
	}
	k.tc, _ = p.TC()
	if p.Length > w.longest {
		k.length = p.Length
	}
	for i := range w.asked {
		if n, _, ok := w.asked[i].of(p); ok {
			k.values[w.asked[i].key] = n + 1
		}
	}
	for i, a := range p.Apps {
		k.apps ^= a * (0x9e3779b97f4a7c15 + uint64(i)<<1)
	}
	if f.last != nil && k == f.lastKey {
		return f.last
	}
	o := f.memo[k]
	if o == nil {
		o = w.work(f, p)
		if w.outcomes++; w.outcomes > maxOutcomes { // flows that change their marks with every packet
			w.outcomes = 1
			for _, other := range w.flows {
				other.memo, other.last = nil, nil
			}
		}
		if f.memo == nil {
			f.memo = make(map[seen]*outcome, 1)
		}
		f.memo[k] = o
	}
	f.lastKey, f.last = k, o
	return o
}

// work takes one packet along its route.
func (w *Watch) work(f *watched, p *packet.Packet) *outcome {
	r := f.route
	own := *p
	own.Bytes = slices.Clone(p.Bytes[:min(len(p.Bytes), 256)])
	steps, _ := w.follower.follow(nil, &own, r.crossings, false)
	o := outcome{}
	for i, s := range steps {
		n := r.numbers[i]
		if n < 0 {
			continue
		}
		key := total{n, s.Class}
		all := w.totals[key]
		if all == nil {
			all = &sums{}
			w.totals[key] = all
		}
		m := f.madeAt(n)
		m.in |= 1 << s.in
		own := result{sums: all, own: m.of(s.Class)}
		switch {
		case s.Blocked:
			own.drop.Blocked = 1
		case s.Policed:
			own.drop.TooLarge = 1
		default:
			m.out |= 1 << s.out
		}
		o = append(o, own)
	}
	return &o
}

// madeAt returns what an attachment made of the flow.
func (f *watched) madeAt(n int) *made {
	i := slices.IndexFunc(f.made, func(m made) bool { return m.at == n })
	if i < 0 {
		i = len(f.made)
		f.made = append(f.made, made{at: n})
	}
	return &f.made[i]
}

// of returns the count of a class.
func (m *made) of(class string) *classCount {
	i := slices.IndexFunc(m.classes, func(c *classCount) bool { return c.class == class })
	if i < 0 {
		i = len(m.classes)
		m.classes = append(m.classes, &classCount{class: class})
	}
	return m.classes[i]
}

// Result returns what was watched, the flows with most bytes first.
func (w *Watch) Result() *CaptureResult {
	r := &CaptureResult{Flows: []FlowResult{}, Classes: []ClassTotal{}, Packets: w.packets, Bytes: w.bytes, Notes: w.noted(), Attachments: []string{}}
	for _, a := range w.attached {
		r.Attachments = append(r.Attachments, a.at.Path()+" "+a.direction.String())
	}
	results := make(map[*watched]*FlowResult)
	for _, f := range w.flows {
		one := w.flowResult(f)
		if r.Flows = append(r.Flows, one); len(w.groupings) > 0 {
			results[f] = &one
		}
	}
	r.Totals = w.totalsOf(results)
	slices.SortFunc(r.Flows, func(a, b FlowResult) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To),
			cmp.Compare(a.Protocol, b.Protocol), cmp.Compare(a.FromPort, b.FromPort), cmp.Compare(a.ToPort, b.ToPort))
	})
	for k, sums := range w.totals {
		a := w.attached[k.at]
		r.Classes = append(r.Classes, ClassTotal{a.at.Path(), a.direction.String(), k.class, sums.packets, sums.bytes, sums.Dropped})
	}
	slices.SortFunc(r.Classes, func(a, b ClassTotal) int {
		return cmp.Or(cmp.Compare(slices.Index(r.Attachments, a.Interface+" "+a.Direction), slices.Index(r.Attachments, b.Interface+" "+b.Direction)),
			cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Class, b.Class))
	})
	return r
}

func (w *Watch) flowResult(f *watched) FlowResult {
	r := FlowResult{From: f.flow.From.String(), To: f.flow.To.String(), Protocol: policy.ProtocolName(f.flow.Protocol),
		FromPort: f.flow.FromPort, ToPort: f.flow.ToPort, Packets: f.packets, Bytes: f.bytes, At: []At{}}
	known := w.recogniser.Known(f.flow)
	r.ServerName = known.Name
	switch {
	case f.app > 0:
		app := &w.follower.file.Apps[f.app-1]
		if r.App, r.AppBy = app.Name, "port"; f.known {
			r.AppBy = known.By.Word()
			if app.LooksLike == policy.LooksLikeRTP && !recognise.NameMatches(app.ServerNames, known.Name) {
				r.AppBy = "looks"
			}
		}
	case known.RTP:
		r.App, r.AppBy = "rtp", "looks"
	}
	if f.route == nil {
		return r
	}
	for _, n := range f.route.numbers {
		i := slices.IndexFunc(f.made, func(m made) bool { return m.at == n })
		if i < 0 {
			continue
		}
		m := &f.made[i]
		slices.SortFunc(m.classes, func(x, y *classCount) int {
			return cmp.Or(cmp.Compare(y.packets, x.packets), cmp.Compare(x.class, y.class))
		})
		a := At{Interface: w.attached[n].at.Path(), Direction: w.attached[n].direction.String(), Class: m.classes[0].class, DSCPIn: names(m.in), DSCPOut: names(m.out)}
		for _, c := range m.classes {
			a.Add(c.Dropped)
			if len(m.classes) > 1 {
				a.Classes = append(a.Classes, c.class)
			}
		}
		r.At = append(r.At, a)
	}
	return r
}

// names returns those of a set of DSCPs.
func names(set uint64) []string {
	out := []string{}
	for d := range codepoint.DSCP(64) {
		if set>>d&1 != 0 {
			out = append(out, d.Name())
		}
	}
	return out
}

// noted returns what was not followed, each said once.
func (w *Watch) noted() []string {
	out := []string{}
	n := &w.notes
	conversations, hellos := w.recogniser.Forgotten()
	inNetwork := func(flows int64) int64 {
		if len(w.follower.file.Network.Nodes) == 0 { // nothing is to be followed
			return 0
		}
		return flows
	}
	for _, note := range []struct {
		count int64
		one   string
		text  string
	}{
		{n.control, "packet", "of link control, which no class takes"},
		{n.notIP, "packet", "not IP"},
		{n.cut, "packet", "cut before the end of the IP header"},
		{n.short, "packet", "cut within extension headers, taken as far as they go"},
		{n.malformed, "packet", "with header lengths that contradict the packet, taken as far as they can be read"},
		{n.deep, "packet", "with too many headers, taken as far as they can be read"},
		{n.backwards, "packet", "earlier than the one before"},
		{w.recogniser.Strays, "fragment", "without the first of its packet, so without ports"},
		{inNetwork(n.noSender), "flow", "from addresses in no subnet of the network"},
		{inNetwork(n.noReceiver), "flow", "to addresses in no subnet of the network"},
		{n.local, "flow", "between hosts at the same interface, or travelling the other way"},
		{n.noRoute, "flow", "between nodes that no route joins"},
		{conversations, "conversation", "forgotten because there were too many at a time: what comes later is known by ports alone"},
		{hellos, "conversation", "forgotten before it said a server name, because too many began at a time"},
		{w.others, "packet", fmt.Sprintf("of flows beyond the first %d, neither listed nor counted by class", maxFlows)},
		{int64(w.keptSeconds / maxSeconds), "capture", "longer than busiest seconds are known for: those of its end are left out"},
	} {
		if note.count == 1 {
			out = append(out, "1 "+note.one+" "+note.text)
		} else if note.count > 1 {
			out = append(out, strings.Join([]string{fmt.Sprint(note.count), note.one + "s", note.text}, " "))
		}
	}
	return out
}
