package cli_test

import (
	"encoding/json"
	"math"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/allocation"
)

func shares(t *testing.T, policy string, args ...string) map[string]allocation.Class {
	t.Helper()
	r := imbrel(t, t.TempDir(), policy, nil, append([]string{"shares", "-", "-o", "json"}, args...)...)
	if r.status != 0 {
		t.Fatalf("exit %d: %s", r.status, r.err)
	}
	var res allocation.Result
	if err := json.Unmarshal([]byte(r.out), &res); err != nil {
		t.Fatal(err)
	}
	out := make(map[string]allocation.Class)
	for _, f := range res.Interfaces {
		for _, c := range f.Classes {
			out[f.Node+" "+c.Class] = c
		}
	}
	return out
}

// The demo's radio by hand: 11.4 Mbit/s less 0.9 for voice are 10.5; promised are
// 2, 30, 15, 20 and 20 % of 11.4, and the 0.582 left go 2:30:15:20:20.
func TestSharesOfTheDemo(t *testing.T) {
	t.Parallel()
	demo := change(t, "title:", "title:")
	c := shares(t, demo)
	for class, want := range map[string]float64{"voice": 0.9e6, "signalling": 10.5e6 * 2 / 87, "radar": 10.5e6 * 30 / 87, "charts": 10.5e6 * 20 / 87, "rest": 10.5e6 * 20 / 87} {
		if got := c["ternrock "+class].AllBusy; math.Abs(float64(got)-want) > 2 {
			t.Errorf("%s: %d bit/s when all are busy; by hand %.0f", class, got, want)
		}
	}
	v := c["ternrock voice"]
	if v.Calls != 9 || v.Alone != 900_000 || v.LongestWait == nil || math.Abs(*v.LongestWait-(3000+1538)*8/11.4e3) > 0.001 {
		t.Errorf("voice: %+v; 900 kbit/s carry 9 calls of 95.2, and a burst of 3 kB after a full packet waits 3.18 ms", v)
	}
	if charts := c["ternrock charts"]; charts.Alone != 6_840_000 || charts.Reserved != 2_280_000 || math.Abs(*charts.LongestWait-(200+float64(3000+2*1538)*8/11.4e3+1538*8/2.413793e3)) > 0.1 {
		t.Errorf("charts: %+v", charts)
	}
	// Two want everything, one a little: the ceiling holds, and the rest is lent.
	c = shares(t, demo, "--busy", "charts,rest", "--offer", "voice=600kbit/s")
	if a, b := c["ternrock charts"], c["ternrock rest"]; math.Abs(float64(a.Gets-5_400_000)) > 2 || math.Abs(float64(b.Gets-5_400_000)) > 2 || a.Extra != a.Gets-a.Promised {
		t.Errorf("charts %+v, rest %+v", a, b)
	}
	c = shares(t, demo, "--busy", "charts", "--offer", "rest=1Mbit/s")
	if a := c["ternrock charts"]; a.Gets != 6_840_000 {
		t.Errorf("charts at its ceiling: %+v", a)
	}
	for args, want := range map[string]string{"--busy chart": "treats a class `chart`", "--offer voice": "write CLASS=RATE", "--offer voice=2": "no unit"} {
		if r := imbrel(t, t.TempDir(), demo, nil, append([]string{"shares", "-"}, strings.Fields(args)...)...); r.status != 2 || !strings.Contains(r.err, want) {
			t.Errorf("%s: exit %d, %s", args, r.status, r.err)
		}
	}
}

// Departments in a ratio with classes inside each: what shares computes is what
// packets get, and an idle department's part goes to the other.
func TestHierarchyGetsWhatSharesPromises(t *testing.T) {
	t.Parallel()
	policy := strings.ReplaceAll(pair, "SENDS", "100Mbit/s") + `    traffic:
      - {name: a-voice, rate: 300kbit/s, packet: 200B, from: 10.1.1.1, to: 10.2.0.1, dscp: ef}
      - {name: a-bulk, rate: 9Mbit/s, packet: 1500B, from: 10.1.1.2, to: 10.2.0.1, to-port: 8000}
      - {name: a-rest, rate: 9Mbit/s, packet: 700B, from: 10.1.1.3, to: 10.2.0.1}
      - {name: b-bulk, rate: 9Mbit/s, packet: 1200B, from: 10.1.2.2, to: 10.2.0.1, to-port: 8000, lasts: 5s}
    expect: ["voice loss = 0", "voice delay p99 <= 14ms"]
policies:
  - name: house
    shape: 8Mbit/s
    treat:
      - {class: sales, at-least: 75%, inside: office}
      - {class: rest, at-least: 25%, treat: [{class: bulk, at-most: 50%}, {class: rest}]}
  - name: office
    treat:
      - {class: voice, priority: 1, at-most: 10%}
      - {class: bulk, at-least: 60%}
      - {class: rest, at-least: 20%}
attach: [{policy: house, at: west/wan out}]
`
	policy = strings.Replace(policy, "classes:\n", "classes:\n  - {name: sales, match: [{from: 10.1.1.0/24}]}\n", 1)
	c := shares(t, policy, "--offer", "sales/voice=357kbit/s,sales/bulk=20Mbit/s,sales/rest=20Mbit/s,rest/bulk=20Mbit/s")
	res := result(t, policy)
	if res.Verdict != "pass" {
		t.Errorf("%+v", res.Expectations)
	}
	for _, f := range res.Interfaces {
		if f.PolicyAt != "house" {
			continue
		}
		// The other department falls silent half way: the mean of both halves.
		all := shares(t, policy, "--offer", "sales/voice=357kbit/s,sales/bulk=20Mbit/s,sales/rest=20Mbit/s")
		for _, k := range f.Classes {
			want := float64(c["west "+k.Class].Gets+all["west "+k.Class].Gets) / 2
			if math.Abs(float64(k.SentBps)-want) > 0.01*want+20_000 {
				t.Errorf("%s sent %d bit/s; the fluid allocation is %.0f", k.Class, k.SentBps, want)
			}
		}
		return
	}
	t.Error("the policy is nowhere in the result")
}

// What exceeds a meter is marked down, and dropped first where a queue is RED.
func TestExcessIsMarkedDown(t *testing.T) {
	t.Parallel()
	policy := strings.ReplaceAll(pair, "SENDS", "100Mbit/s") + `    traffic:
      - {name: feed, rate: 4Mbit/s, packet: 1000B, arrivals: poisson, from: 10.1.1.1, to: 10.2.0.1, to-port: 8000}
    expect: ["bulk drops = 0"]
maps: {down: {af41: af42}}
policies:
  - name: edge
    treat: [{class: bulk, mark: af41, police: {rate: 1Mbit/s, burst: 5kB, peak: 3Mbit/s, peak-burst: 5kB, yellow: {map: down}, red: {mark: le}}}]
attach: [{policy: edge, at: west/lan in}]
`
	res := result(t, policy)
	for _, f := range res.Interfaces {
		if f.Direction != "in" {
			continue
		}
		m := f.Classes[0].Marks
		total := float64(m["af41"] + m["af42"] + m["le"])
		wire := 1000.0 / 1038
		for mark, want := range map[string]float64{"af41": 0.25 * wire, "af42": 0.5 * wire} {
			if got := float64(m[mark]) / total; math.Abs(got-want) > 0.03 {
				t.Errorf("%s: %.3f of the packets; the contract is %.3f of the rate", mark, got, want)
			}
		}
		if res.Verdict != "pass" || f.Classes[0].Colors == nil || f.Classes[0].Colors.Yellow != m["af42"] || f.Classes[0].Colors.Red != m["le"] {
			t.Errorf("%s, colours %+v, marks %v", res.Verdict, f.Classes[0].Colors, m)
		}
	}
}

// sentOf returns what a class sent at the interface with the policy, in bit/s.
func sentOf(t *testing.T, policy, class string) float64 {
	t.Helper()
	for _, f := range result(t, policy).Interfaces {
		for _, k := range f.Classes {
			if f.PolicyAt == "p" && k.Class == class {
				return float64(k.SentBps)
			}
		}
	}
	t.Fatalf("no class %s", class)
	return 0
}

const limited = `    STARTS
    traffic:
      - {name: bulk, rate: 8Mbit/s, packet: 962B, from: 10.1.1.1, to: 10.2.0.1, to-port: 8000}
      - {name: other, rate: OTHER, packet: 962B, from: 10.1.1.2, to: 10.2.0.1, starts: 4s, lasts: 4s}
times: {work: {days: [mon-fri], from: "08:00", to: "17:00", zone: Europe/Oslo}}
policies:
  - name: p
    shape: 10Mbit/s
    treat:
      - ENTRY
      - {class: rest}
attach: [{policy: p, at: west/wan out}]
`

// bulk sends 8 × 1000/962 = 8.316 Mbit/s as the interface counts, for 10 s.
func limit(starts, other, entry string) string {
	return strings.NewReplacer("SENDS", "100Mbit/s", "STARTS", starts, "OTHER", other, "ENTRY", entry).Replace(pair + limited)
}

func TestWorkingHoursLimit(t *testing.T) {
	t.Parallel()
	entry := "{class: bulk, at-most: 2Mbit/s, when: work}"
	for starts, want := range map[string]float64{
		"2026-03-02T07:30":    2e6,                        // 08:30 in Oslo
		"2026-03-02T06:30":    8.316e6,                    // 07:30
		"2026-07-06T06:30":    2e6,                        // 08:30: summer
		"2026-03-01T09:00":    8.316e6,                    // a Sunday
		"2026-03-02T06:59:55": (5*8.316e6 + 5*2.0e6) / 10, // it begins half way
	} {
		if got := sentOf(t, limit("starts-at: "+starts, "80kbit/s", entry), "bulk") + sentOf(t, limit("starts-at: "+starts, "80kbit/s", entry), "rest") - 0.4*80e3*1000/962; math.Abs(got/want-1) > 0.02 {
			t.Errorf("at %s: %.0f bit/s; want %.0f", starts, got, want)
		}
	}
	r := imbrel(t, t.TempDir(), limit("", "80kbit/s", entry), nil, "rehearse", "-")
	if r.status != 2 || !strings.Contains(r.err, "give the rehearsal a `starts-at`") {
		t.Errorf("without a date: exit %d, %s", r.status, r.err)
	}
}

// A limit only under pressure: while the link has been at 95 % for a second,
// until it has been below half for a second.
func TestLimitUnderPressure(t *testing.T) {
	t.Parallel()
	entry := "{class: bulk, at-most: 2Mbit/s, when: {starts: {load: 95%, for: 1s}, ends: {load: 50%, for: 1s}}}"
	free := sentOf(t, limit("", "80kbit/s", entry), "rest") + sentOf(t, limit("", "80kbit/s", entry), "bulk")
	if math.Abs(free/(8.316e6+0.4*83e3)-1) > 0.02 {
		t.Errorf("without pressure: %.0f bit/s", free)
	}
	// The other comes at 4 s with 5 Mbit/s: full at once, limited from about 5 s on,
	// to the end of the other at 8 s and a second more, by when the load is 2 Mbit/s.
	policy := limit("", "5Mbit/s", entry)
	if got, want := sentOf(t, policy, "bulk"), 2e6*4/10.0; math.Abs(got/want-1) > 0.1 {
		t.Errorf("under pressure bulk is in its entry for about 4 s: %.0f bit/s of ten seconds; want %.0f", got, want)
	}
}

// A burst of 6 Mbit/s for 2 s above 2 Mbit/s: 6 × 2 + 2 × 8 Mbit in ten seconds,
// never faster than 6; 10 MB at once is quick, more is not.
func TestBurstAboveALimit(t *testing.T) {
	t.Parallel()
	if got := sentOf(t, limit("", "80kbit/s", "{class: bulk, at-most: {rate: 2Mbit/s, burst: {to: 6Mbit/s, for: 2s}}}"), "bulk"); math.Abs(got/((6*2+2*8)*1e5)-1) > 0.02 {
		t.Errorf("sent %.0f bit/s over ten seconds; want 2.8 Mbit/s", got)
	}
	if got := sentOf(t, limit("", "80kbit/s", "{class: bulk, at-most: 2Mbit/s}"), "bulk"); math.Abs(got/2e6-1) > 0.02 {
		t.Errorf("without the burst: %.0f bit/s", got)
	}
}

func TestBlock(t *testing.T) {
	t.Parallel()
	res := result(t, limit("", "80kbit/s", "{class: bulk, block: true}"))
	for _, f := range res.Interfaces {
		for _, k := range f.Classes {
			if k.Class == "bulk" && f.PolicyAt == "p" && (k.SentPackets != 0 || k.Drops.Blocked != k.OfferedPackets || k.OfferedPackets == 0) {
				t.Errorf("blocked: %+v", k)
			}
		}
	}
}

// A limit shared by all of a group is not the same as one for each member.
func TestPerClientAndSharedLimits(t *testing.T) {
	t.Parallel()
	traffic := `    traffic:
      - {name: a, rate: 3Mbit/s, packet: 962B, from: 10.1.1.1, to: 10.2.0.1, to-port: 8000}
      - {name: b, rate: 3Mbit/s, packet: 962B, from: 10.1.1.2, to: 10.2.0.1, to-port: 8000}
      - {name: c, rate: 400kbit/s, packet: 962B, from: 10.1.1.3, to: 10.2.0.1, to-port: 8000}
policies:
  - {name: p, shape: 20Mbit/s, treat: [{class: bulk, at-most: 1Mbit/s EACH}, {class: rest}]}
attach: [{policy: p, at: west/wan out}]
`
	base := strings.ReplaceAll(pair, "SENDS", "100Mbit/s") + traffic
	if got := sentOf(t, strings.Replace(base, " EACH", "", 1), "bulk"); math.Abs(got/1e6-1) > 0.02 {
		t.Errorf("shared by all: %.0f bit/s", got)
	}
	each := strings.Replace(base, " EACH", ", each: source", 1)
	if got, want := sentOf(t, each, "bulk"), 2e6+400e3*1000/962; math.Abs(got/want-1) > 0.02 {
		t.Errorf("for each: %.0f bit/s; want %.0f", got, want)
	}
	res := result(t, each)
	for _, row := range res.Traffic {
		if row.Name == "c" && row.Loss > 0 {
			t.Errorf("the client below its limit loses %.3f", row.Loss)
		}
		if row.Name != "c" && math.Abs(float64(row.RateBps)/(1e6*0.962)-1) > 0.02 {
			t.Errorf("%s: %d bit/s", row.Name, row.RateBps)
		}
	}
	for _, f := range res.Interfaces {
		if f.PolicyAt == "p" {
			if i := f.Classes[0].Instances; i == nil || i.Max != 3 || i.Top[0].Value != "source 10.1.1.1" || i.Top[0].Dropped == 0 || i.Top[2].Dropped != 0 {
				t.Errorf("instances: %+v", i)
			}
		}
	}
}

// A policed phone port: what a PC plugged into the phone sends as EF in its
// own name cannot eat the phone's allotment.
func TestPolicedPhonePort(t *testing.T) {
	t.Parallel()
	policy := strings.ReplaceAll(pair, "SENDS", "100Mbit/s") + `    traffic:
      - {name: phone, calls: 1, codec: g711, between: [10.1.8.1, 10.2.0.1], dscp: ef}
      - {name: pc, rate: 5Mbit/s, packet: 500B, from: 10.1.8.99, to: 10.2.0.1, dscp: ef}
    expect: ["phone loss = 0", "phone mos >= 4.3"]
policies:
  - name: p
    treat:
      - {class: voice, each: source, police: {rate: 100kbit/s, burst: 2kB, red: {mark: le}}}
      - {class: rest, mark: df}
attach: [{policy: p, at: west/lan in}]
`
	res := result(t, policy)
	if res.Verdict != "pass" {
		t.Errorf("%+v", res.Expectations)
	}
	k := res.Interfaces[0].Classes[0]
	if ef, le := k.Marks["ef"], k.Marks["le"]; ef < 700 || ef > 900 || le < 11_000 || k.Instances.Max != 2 {
		t.Errorf("of 500 packets of the phone and 12500 of the PC, %d left as EF and %d as LE; %+v", ef, le, k.Instances)
	}
}

// Of the entries of a class one is in force at a time: what 10 % keep of the 20 % is
// lent to all, 1 : 8. A limit that comes and goes is said and not counted.
func TestSharesOfWhatIsThereSometimes(t *testing.T) {
	t.Parallel()
	file := limit("", "80kbit/s", "{class: bulk, at-least: 20%, when: work}\n      - {class: bulk, at-least: 10%, at-most: {rate: 1.5Mbit/s, when: work}}")
	var r allocation.Result
	out := imbrel(t, t.TempDir(), file, nil, "shares", "-", "-o", "json")
	if err := json.Unmarshal([]byte(out.out), &r); err != nil {
		t.Fatal(err, out.err)
	}
	f := r.Interfaces[0]
	if f.Reserved != 2_000_000 {
		t.Errorf("reserved %d: both were counted", f.Reserved)
	}
	for i, want := range []struct{ promised, busy int64 }{{2_000_000, 2_000_000}, {1_000_000, 1_111_111}, {8_000_000, 8_000_000}} {
		if c := f.Classes[i]; c.Promised != want.promised || c.AllBusy < want.busy-10 || c.AllBusy > want.busy+10 {
			t.Errorf("%s %s: promised %d, all busy %d; want %+v", c.Class, c.When, c.Promised, c.AllBusy, want)
		}
	}
	text := imbrel(t, t.TempDir(), file, nil, "shares", "-").out
	for _, want := range []string{"bulk, sometimes: only while the time is `work`", "bulk is at most 1.5Mbit/s while the time is `work`: not counted here"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not in\n%s", want, text)
		}
	}
}

// Two bounds of 60 % of which one holds at a time leave the others 40 %, and a wait
// that has a bound.
func TestWaitBehindAPriorityThatIsThereSometimes(t *testing.T) {
	t.Parallel()
	got := shares(t, limit("", "80kbit/s", "{class: bulk, priority: 1, at-most: 6Mbit/s, when: work}\n      - {class: bulk, priority: 1, at-most: 6Mbit/s}"))
	one := shares(t, limit("", "80kbit/s", "{class: bulk, priority: 1, at-most: 6Mbit/s}"))
	rest, want := got["west rest"], one["west rest"]
	if rest.LongestWait == nil || *rest.LongestWait != *want.LongestWait || rest.Promised != 4_000_000 {
		t.Errorf("rest: %+v; with the one entry %+v", rest, want)
	}
}

// What is offered to a class with others within it is offered to them; a space after a comma
// is nothing; an unknown class is an error that lists those there are.
func TestOfferedToWhatIsWithin(t *testing.T) {
	t.Parallel()
	text := example(t, "cookbook/departments.yaml")
	for _, args := range [][]string{{"--busy", "office, rest"}, {"--offer", "office = 3Mbit/s, workshop/voice=300kbit/s"}} {
		c := shares(t, text, args...)
		within := c["site office/voice"].Gets + c["site office/bulk"].Gets + c["site office/rest"].Gets
		office := c["site office"].Gets
		want := int64(3_000_000)
		if args[0] == "--busy" {
			want = 12_000_000 - c["site rest"].Gets
		}
		if d := office - want; d < -3 || d > 3 || within-office < -3 || within-office > 3 || c["site office/voice"].Gets != 800_000 {
			t.Errorf("%v: office gets %d, want %d; within it %d", args, office, want, within)
		}
		if c["site workshop/bulk"].Gets != 0 || args[0] == "--offer" && c["site workshop/voice"].Gets != 300_000 {
			t.Errorf("%v: %+v", args, c["site workshop/bulk"])
		}
	}
	r := imbrel(t, t.TempDir(), text, nil, "shares", "-", "--busy", "office,nobody")
	if r.status != 2 || !strings.Contains(r.err, "no attached policy treats a class `nobody`; there are: office, office/bulk") {
		t.Errorf("exit %d: %s", r.status, r.err)
	}
}
