package cli_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"imbrel.example/imbrel/core/allocation"
	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
)

var (
	houses     = flag.Int("houses", 10, "how many random policy files TestInvariants runs")
	firstHouse = flag.Int("first-house", 0, "the number of the first of them")
)

// Whatever the policy: every packet is sent or dropped once, at every level; nobody is
// promised more than there is; two runs at once are the two runs; every command says the
// same of the same thing, in both outputs; and what is expected of an interface is judged
// by its counters.
func TestInvariants(t *testing.T) {
	t.Parallel()
	var refused, packets, drops, answers, steady atomic.Int64
	t.Run("houses", func(t *testing.T) {
		for n := range *houses {
			number := *firstHouse + n
			t.Run(fmt.Sprint(number), func(t *testing.T) {
				t.Parallel()
				h := &house{r: rand.New(rand.NewPCG(11, uint64(number)))}
				text := h.document()
				c := &checked{T: t, h: h, dir: t.TempDir(), steady: &steady}
				put(t, c.dir, "p.yaml", text)
				first := imbrel(t, c.dir, "", nil, "rehearse", "p.yaml", "-o", "json", "--hops")
				if first.status == 2 && strings.Contains(first.err, "p.yaml:") {
					refused.Add(1)
					t.Log(first.err)
					return
				}
				if first.status != 0 || first.err != "" {
					t.Fatalf("exit %d: %s\n%s", first.status, first.err, text)
				}
				res := parsed[measure.Result](t, first.out)
				c.counted(&res)
				c.agrees(&res)
				c.both(first.out)
				c.expected(text, &res)
				c.estimated(text)
				if out := c.run("changes", "p.yaml"); !strings.Contains(out, "Nothing changes.") {
					t.Errorf("a file differs from itself:\n%s", out)
				}
				c.promised(&res)
				answers.Add(c.explained(&res))
				c.printed(&res)
				for i := range res.Traffic {
					packets.Add(res.Traffic[i].SentPackets)
					drops.Add(res.Traffic[i].SentPackets - res.Traffic[i].ReceivedPackets)
				}
				if t.Failed() {
					t.Log(text)
				}
			})
		}
	})
	t.Logf("%d files, %d refused; %d packets, %d of them lost; %d hops of explained packets compared", *houses, refused.Load(), packets.Load(), drops.Load(), answers.Load())
	if n := int64(*houses); refused.Load()*5 > n || drops.Load() < 100*n || answers.Load() < n || steady.Load()*2 < n {
		t.Errorf("the test tests little")
	}
}

// estimated holds what a check estimates against a rehearsal in which everything is sent from the
// beginning to the end: of what was measured, nothing is said not to hold.
func (c *checked) estimated(text string) {
	text = strings.NewReplacer(", starts: 1s", "", ", lasts: 700ms", "").Replace(text)
	put(c, c.dir, "steady.yaml", text)
	reply := imbrel(c, c.dir, "", nil, "rehearse", "steady.yaml", "-o", "json")
	if reply.status == 2 { // a call that needs its start
		return
	}
	r := parsed[measure.Result](c, reply.out)
	var b strings.Builder
	fmt.Fprintf(&b, "%s    expect:\n", text)
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		for _, k := range f.Classes {
			if f.PolicyAt != "" && k.OfferedPackets > 0 && k.SentBps > 1000 && strings.Count(k.Class, "/") == 0 {
				at := fmt.Sprintf(" at %s/%s %s", f.Node, f.Interface, f.Direction)
				fmt.Fprintf(&b, "      - %s rate%s >= %dbit/s\n      - %s rate%s <= %dbit/s\n", k.Class, at, k.SentBps, k.Class, at, k.SentBps)
			}
		}
	}
	for _, row := range r.Traffic {
		if row.Direction == "forward" && row.RateBps > 1000 && row.Class != "" {
			fmt.Fprintf(&b, "      - %s loss <= %.4f%%\n", row.Name, min(100, 100*worstLoss(&r, row.Name)+0.0001))
		}
	}
	if strings.HasSuffix(b.String(), "expect:\n") {
		return // nothing was sent
	}
	put(c, c.dir, "steady.yaml", b.String())
	reply = imbrel(c, c.dir, "", nil, "check", "steady.yaml", "-o", "json")
	if reply.status > 1 {
		c.Fatalf("exit %d: %s", reply.status, reply.err)
	}
	for _, f := range parsed[struct{ Findings []found }](c, reply.out).Findings {
		if f.Name == "expectation-estimated" || f.Name == "expectation-bound" {
			c.Errorf("what was measured is said not to hold: %s: %s", f.Text, f.Consequence)
			c.Log(b.String())
		}
	}
	c.steady.Add(1)
}

// worstLoss returns the greater loss of a traffic's directions.
func worstLoss(r *measure.Result, name string) (loss float64) {
	for _, row := range r.Traffic {
		if row.Name == name {
			loss = max(loss, row.Loss)
		}
	}
	return loss
}

// A checked is a file that is looked at.
type checked struct {
	*testing.T
	h      *house
	dir    string
	steady *atomic.Int64
}

// run runs the program on the file.
func (c *checked) run(args ...string) string {
	c.Helper()
	args = slices.Insert(args, 1, "p.yaml")
	r := imbrel(c, c.dir, "", nil, args...)
	if r.status > 1 || r.err != "" {
		c.Fatalf("%v: exit %d: %s", args, r.status, r.err)
	}
	return r.out
}

func parsed[T any](t testing.TB, text string) T {
	t.Helper()
	var v T
	if err := json.Unmarshal([]byte(text), &v); err != nil {
		t.Fatalf("%v in %.200s", err, text)
	}
	return v
}

// parent is the entry around an entry, "" for one of the top level.
func parent(class string) string {
	if dir := path.Dir(class); dir != "." {
		return dir
	}
	return ""
}

// counted checks that packets add up: in each class, at each level, and over the network.
func (c *checked) counted(r *measure.Result) {
	dropped := uint64(0)
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		at := f.Node + "/" + f.Interface + " " + f.Direction
		type sums struct{ offered, sent, policed, full, early, blocked, bytes, sentBytes uint64 }
		inner := make(map[string]sums)
		own := make(map[string]sums)
		rows := make(map[string]int) // those of one class that differ in `when` have one name
		for _, k := range f.Classes {
			if k.OfferedPackets != k.SentPackets+k.Drops.Total() {
				c.Errorf("%s %s: %d offered, %d sent, %+v", at, k.Class, k.OfferedPackets, k.SentPackets, k.Drops)
			}
			if m := k.Colors; m != nil && r.WarmUpS == 0 { // what waited at the end of a warm-up was metered in it; a policer around it drops before its own counts
				n, missed := m.Green+m.Yellow+m.Red, k.OfferedPackets-k.Drops.Policed-k.Drops.Blocked
				if n > k.OfferedPackets || n < missed || n < k.OfferedPackets && parent(k.Class) == "" {
					c.Errorf("%s %s: %d offered, metered %+v", at, k.Class, k.OfferedPackets, *m)
				}
			}
			marks := uint64(0)
			for _, n := range k.Marks {
				marks += n
			}
			if marks != k.SentPackets {
				c.Errorf("%s %s: %d sent, %d with a mark", at, k.Class, k.SentPackets, marks)
			}
			s := sums{k.OfferedPackets, k.SentPackets, k.Drops.Policed, k.Drops.QueueFull, k.Drops.Early, k.Drops.Blocked, k.OfferedBytes, k.SentBytes}
			add := func(to map[string]sums, name string) {
				o := to[name]
				to[name] = sums{o.offered + s.offered, o.sent + s.sent, o.policed + s.policed, o.full + s.full, o.early + s.early, o.blocked + s.blocked, o.bytes + s.bytes, o.sentBytes + s.sentBytes}
			}
			add(own, k.Class)
			rows[k.Class]++
			if add(inner, parent(k.Class)); parent(k.Class) == "" {
				dropped += k.Drops.Total()
			}
		}
		for name, in := range inner {
			// what the outer entry itself drops, before the inner ones see it
			if out := own[name]; name != "" && rows[name] == 1 && (out.offered != in.offered+out.policed-in.policed+out.blocked-in.blocked || out.sent != in.sent || out.sentBytes != in.sentBytes || out.full != in.full || out.early != in.early) {
				c.Errorf("%s: `%s` counts %+v, within it %+v", at, name, out, in)
			}
		}
	}
	for _, l := range r.Links {
		dropped += l.Drops
		inClasses := uint64(0)
		for _, k := range l.Classes {
			inClasses += k.Drops
		}
		if inClasses != l.Drops {
			c.Errorf("the carrier of %s dropped %d, by class %d", l.From, l.Drops, inClasses)
		}
	}
	lost := uint64(0)
	for _, row := range r.Traffic {
		lost += uint64(row.SentPackets - row.ReceivedPackets)
	}
	if lost != dropped && r.WarmUpS == 0 { // what waits at the end of a warm-up was sent in it
		c.Errorf("%d packets of the traffic were lost, %d dropped", lost, dropped)
	}
}

// agrees checks that a figure which stands in two places is the same in both, and that parts add up to their whole.
func (c *checked) agrees(r *measure.Result) {
	near := func(what string, got, want int64, parts int) {
		if d := got - want; d > int64(parts) || -d > int64(parts) { // each is rounded to a bit/s
			c.Errorf("%s: %d bit/s in one place, %d in another", what, got, want)
		}
	}
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		at := f.Node + "/" + f.Interface + " " + f.Direction
		sent := int64(0)
		for _, k := range f.Classes {
			if parent(k.Class) == "" {
				sent += k.SentBps
			}
			if k.When != nil && k.When.HeldS > r.DurationS {
				c.Errorf("%s %s was in force for %v of %v s", at, k.Class, k.When.HeldS, r.DurationS)
			}
			for _, l := range k.Limits {
				full := slices.ContainsFunc(k.Fullness, func(o measure.Fullness) bool { return o.Limit == l.Limit })
				if l.HeldS > r.DurationS || l.HeldS == 0 && full {
					c.Errorf("%s %s: its %s was in force for %v of %v s, and full: %v", at, k.Class, l.Limit, l.HeldS, r.DurationS, full)
				}
			}
			if n := k.Instances; n != nil && n.Shared == 0 && len(n.Top) == n.Max && n.Max < measure.MaxTop {
				var offered, dropped uint64
				var offeredBps, sentBps int64
				for _, in := range n.Top {
					offered, dropped, offeredBps, sentBps = offered+in.Offered, dropped+in.Dropped, offeredBps+in.OfferedBps, sentBps+in.SentBps
				}
				if offered != k.OfferedPackets || dropped != k.Drops.Total() {
					c.Errorf("%s %s: %d offered and %d dropped, its instances %d and %d", at, k.Class, k.OfferedPackets, k.Drops.Total(), offered, dropped)
				}
				near(at+" "+k.Class+" sent by its instances", sentBps, k.SentBps, n.Max+1)
			}
		}
		near(at+" sent by its classes", sent, f.SentBps, len(f.Classes)+1)
	}
}

// whoPays is what a run next to one without the policies has beyond the same run alone.
var whoPays = regexp.MustCompile(`,"who_pays":\[[^\]]*\]`)

// both checks that two runs at once are the two runs.
func (c *checked) both(with string) {
	runs := parsed[struct{ Runs []json.RawMessage }](c, c.run("rehearse", "-o", "json", "--hops", "--both"))
	without := c.run("rehearse", "-o", "json", "--hops", "--without-policy")
	for i, want := range []string{without, with} {
		if len(runs.Runs) != 2 || whoPays.ReplaceAllString(compact(c, string(runs.Runs[i])), "") != compact(c, want) {
			c.Errorf("run %d of --both is not the run alone", i+1)
		}
	}
	r := parsed[measure.Result](c, without)
	c.counted(&r)
}

func compact(t testing.TB, text string) string {
	out, err := json.Marshal(parsed[any](t, text))
	if err != nil {
		t.Fatal(err)
	}
	return string(out)
}

// expected checks that expectations about interfaces are judged by their counters, and
// change nothing.
func (c *checked) expected(text string, r *measure.Result) {
	type wish struct {
		text      string
		want, off float64 // off: by how much it may be off, being a sum of rounded parts
	}
	var wishes []wish
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		if f.PolicyAt == "" {
			continue
		}
		at := " at " + f.Node + "/" + f.Interface + " " + f.Direction
		subjects := make(map[string]bool)
		for _, k := range f.Classes {
			subjects[k.Class], subjects[path.Base(k.Class)] = true, true
		}
		for subject := range subjects {
			var drops, offered uint64
			rate, queue := int64(0), int64(0)
			var counted []string
			for _, k := range f.Classes { // outer entries come before those within
				of := k.Class == subject || subject != "rest" && !strings.Contains(subject, "/") && strings.HasSuffix(k.Class, "/"+subject)
				if !of || slices.ContainsFunc(counted, func(o string) bool { return strings.HasPrefix(k.Class, o+"/") }) {
					continue
				}
				counted = append(counted, k.Class)
				drops, rate, queue, offered = drops+k.Drops.Total(), rate+k.SentBps, max(queue, k.MaxQueueBytes), offered+k.OfferedPackets
			}
			if offered > 0 {
				wishes = append(wishes, wish{subject + " drops" + at + " >= 0", float64(drops), 0}, wish{subject + " rate" + at + " >= 0bit/s", float64(rate), 0}, wish{subject + " queue max" + at + " >= 0B", float64(queue), 0})
			}
		}
	}
	for _, row := range r.Traffic {
		if sent, received := int64(0), int64(0); row.Direction == "forward" {
			for _, o := range r.Traffic {
				if o.Name == row.Name {
					sent, received = sent+o.SentPackets, received+o.ReceivedPackets
				}
			}
			rate, parts := int64(0), 0
			for _, o := range r.Traffic {
				if o.Name == row.Name {
					rate, parts = rate+o.RateBps, parts+1
				}
			}
			wishes = append(wishes, wish{row.Name + " drops >= 0", float64(sent - received), 0})
			if sent > 0 {
				wishes = append(wishes, wish{row.Name + " rate >= 0bit/s", float64(rate), float64(parts)})
			}
		}
	}
	for _, k := range r.Classes {
		wishes = append(wishes, wish{k.Class + " drops >= 0", float64(k.SentPackets - k.ReceivedPackets), 0})
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s    expect:\n", text)
	for _, w := range wishes {
		fmt.Fprintf(&b, "      - %s\n", w.text)
	}
	put(c, c.dir, "expecting.yaml", b.String())
	reply := imbrel(c, c.dir, "", nil, "rehearse", "expecting.yaml", "-o", "json", "--hops")
	if reply.status > 1 {
		c.Fatalf("exit %d: %s", reply.status, reply.err)
	}
	got := parsed[measure.Result](c, reply.out)
	if reply.status != 0 || got.Verdict != "pass" || len(got.Expectations) != len(wishes) {
		c.Fatalf("exit %d, verdict %s, %d expectations of %d: %s", reply.status, got.Verdict, len(got.Expectations), len(wishes), reply.err)
	}
	for i, w := range wishes {
		if o := got.Expectations[i]; o.Measured == nil || math.Abs(*o.Measured-w.want) > w.off {
			c.Errorf("%q: measured %v; the counters say %v", w.text, o.Measured, w.want)
		}
	}
	for i := range got.Bounds.Paths { // what they advise names other lines
		if a, b := got.Bounds.Paths[i].Max, r.Bounds.Paths[i].Max; a != b {
			c.Errorf("with expectations the bound of %s is %v, and %v without", got.Bounds.Paths[i].Name(), a, b)
		}
	}
	got.Bounds = r.Bounds
	got.Verdict, got.Expectations, got.Warnings, got.NotJudged, got.FileHash = r.Verdict, r.Expectations, r.Warnings, r.NotJudged, r.FileHash
	a, _ := json.Marshal(&got)
	if b, _ := json.Marshal(r); string(a) != string(b) {
		x, y := string(a), string(b)
		n := 0
		for n < min(len(x), len(y)) && x[n] == y[n] {
			n++
		}
		c.Errorf("with expectations the figures differ: %.200s and %.200s", x[max(0, n-100):], y[max(0, n-100):])
	}
}

// promised checks that nobody is promised more than there is, and that the commands agree.
func (c *checked) promised(r *measure.Result) {
	shares := parsed[allocation.Result](c, c.run("shares", "-o", "json"))
	for i := range shares.Interfaces {
		f := &shares.Interfaces[i]
		at := f.Node + "/" + f.Interface + " " + f.Direction
		var of *measure.Interface
		for j := range r.Interfaces {
			if g := &r.Interfaces[j]; g.Node == f.Node && g.Interface == f.Interface && g.Direction == f.Direction {
				of = g
			}
		}
		passed := slices.ContainsFunc(r.Hops, func(p measure.HopRow) bool { return p.Node+"/"+p.Interface+" "+p.At == at })
		if of == nil && !passed { // no packet came there
			continue
		}
		if of == nil || of.RateBps != f.Rate || len(of.Classes) != len(f.Classes) {
			c.Errorf("%s: shares has %d classes of %d bit/s; rehearsed %+v", at, len(f.Classes), f.Rate, of)
			continue
		}
		sums := make(map[string]int64)
		largest := make(map[string]int64) // entries of one class that differ in `when` count once
		for j := range f.Classes {
			k, rehearsed := &f.Classes[j], &of.Classes[j]
			name := k.Class
			// where nothing ever waits, nothing is promised: shares says so in a note
			never := rehearsed.PromisedBps == nil && f.Direction == "in" && !f.Note.IsZero()
			if name != rehearsed.Class || !never && (rehearsed.PromisedBps == nil || *rehearsed.PromisedBps != k.Promised) {
				c.Errorf("%s: shares promises `%s` %d; rehearsed `%s` %v", at, name, k.Promised, rehearsed.Class, rehearsed.PromisedBps)
			}
			if k.Promised > f.Rate || k.Alone > f.Rate || k.AllBusy > k.Alone+1 {
				c.Errorf("%s: of %d, `%s` is promised %d, gets %d alone and %d when all are busy", at, f.Rate, name, k.Promised, k.Alone, k.AllBusy)
			}
			if more := k.Promised - largest[name]; more > 0 && !k.Unbounded {
				largest[name] += more
				sums[parent(name)] += more
			}
		}
		for around, sum := range sums {
			has := f.Rate
			if around != "" {
				has = 0
			}
			for j := range f.Classes {
				if k := &f.Classes[j]; k.Class == around {
					if has = max(has, k.Promised); len(k.Each) > 0 { // what is within it is of one instance
						has = f.Rate
					}
				}
			}
			if sum > has {
				c.Errorf("%s: within `%s` %d are promised of %d", at, around, sum, has)
			}
		}
	}
}

// explained checks that explain says of a packet of each stream what a rehearsal did with
// them: the class at every place.
func (c *checked) explained(r *measure.Result) (compared int64) {
	for _, s := range c.h.streams {
		out := c.run("explain", "--from", s.from, "--to", s.to, "--protocol", s.protocol, "--from-port", fmt.Sprint(s.fromPort), "--to-port", fmt.Sprint(s.toPort),
			"--dscp", fmt.Sprint(s.dscp), "--length", fmt.Sprint(s.packet), "-o", "json", "--time", "2026-03-02T08:30")
		a := parsed[explain.Answer](c, out)
		said := make(map[string]string)
		for i := range a.Hops {
			p := &a.Hops[i]
			if p.Assumed {
				break // which entry is in force depends on the packets before
			}
			if p.Policy != "" {
				said[p.Node+"/"+p.Interface+" "+p.Direction] = p.Class
			}
			if p.Remarks {
				break // what it is marked with depends on the packets before
			}
		}
		for i := range r.Hops {
			p := &r.Hops[i]
			at := p.Node + "/" + p.Interface + " " + p.At
			if class, ok := said[at]; p.Traffic == s.name && ok {
				compared++
				if class != p.Class {
					c.Errorf("%s at %s: explained as `%s`, %d rehearsed as `%s`", s.name, at, class, p.Packets, p.Class)
				}
			}
		}
	}
	return compared
}

// printed checks that the text has the rows and the figures of the JSON.
func (c *checked) printed(r *measure.Result) {
	text := c.run("rehearse", "--all")
	lines := strings.Split(text, "\n")
	from := 0
	find := func(what string, cells ...string) {
		for i := from; i < len(lines); i++ {
			if words := strings.Fields(lines[i]); len(words) >= len(cells) && slices.Equal(words[:len(cells)], cells) {
				from = i + 1
				return
			}
		}
		c.Errorf("the text does not say %v of %s", cells, what)
	}
	for _, row := range r.Traffic {
		cells := append(strings.Fields(row.Title()), row.Class, humanize.Count(row.SentPackets))
		find("the traffic", append(cells, strings.Fields(humanize.Ratio(row.Loss))...)...)
	}
	for i := range r.Interfaces {
		f := &r.Interfaces[i]
		find("an interface", f.Node+"/"+f.Interface, f.Direction+":")
		for _, k := range f.Classes {
			cells := []string{k.Class, "-"}
			if k.PromisedBps != nil {
				cells = append(cells[:1], strings.Fields(humanize.Rate(*k.PromisedBps))...)
			}
			if k.PerInstance {
				cells = append(cells, "each")
			}
			find(f.Node+"/"+f.Interface, append(cells, humanize.Count(k.OfferedPackets))...)
		}
	}
	for _, l := range r.Links {
		find("a carrier", append([]string{l.From, l.To}, strings.Fields(humanize.Rate(l.SendsBps))...)...)
	}
}
