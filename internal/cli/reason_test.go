package cli_test

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/internal/files"
)

var reasons = flag.Int("reasons", 30, "for how many random failing rehearsals TestReasonsAreCauses removes the named cause")

// A blamed file is a random policy, kept as its parts, so that a test can remove one of them.
type blamed struct {
	shape, sends        string
	police, most, queue map[string]string // by the path of the entry
	least               map[string]string
	priority            map[string]string
	traffic             map[string]string
	silent              map[string]bool
	expect              string
}

func newBlamed(r *rand.Rand) *blamed {
	b := &blamed{shape: "9.5Mbit/s", sends: "10Mbit/s", police: map[string]string{}, most: map[string]string{}, queue: map[string]string{}, least: map[string]string{}, priority: map[string]string{}, traffic: map[string]string{}, silent: map[string]bool{}}
	mbit := func(from, to float64) string { return fmt.Sprintf("%.2fMbit/s", from+r.Float64()*(to-from)) }
	b.priority["voice"] = "1"
	if r.IntN(2) == 0 {
		b.police["voice"] = fmt.Sprintf("{rate: %s, burst: %dB}", mbit(0.1, 3), 300+r.IntN(6000))
	}
	switch r.IntN(4) {
	case 0:
		b.police["dept"] = fmt.Sprintf("{rate: %s, burst: 20kB}", mbit(0.5, 5))
	case 1:
		b.most["dept"] = mbit(0.5, 5)
	}
	b.least["dept"] = fmt.Sprintf("%d%%", 5+r.IntN(40))
	if r.IntN(2) == 0 && b.police["dept"] == "" {
		b.least["dept/radar"] = "50%"
	}
	if r.IntN(3) == 0 {
		b.most["dept/mail"] = mbit(0.2, 2)
	}
	if r.IntN(2) == 0 {
		b.most["guests"] = mbit(0.3, 3)
	}
	if r.IntN(3) == 0 {
		b.least["bulk"] = fmt.Sprintf("%d%%", 1+r.IntN(20))
	}
	if r.IntN(3) == 0 {
		b.queue["guests"] = fmt.Sprintf("{limit: %dms}", 5+r.IntN(300))
	}
	if r.IntN(5) == 0 {
		b.shape = mbit(10.3, 14)
	}
	to := map[string]int{"voice": 5060, "dept/radar": 7000, "dept/mail": 25, "guests": 443, "bulk": 873, "rest": 9}
	for _, name := range []string{"voice", "dept/radar", "dept/mail", "guests", "bulk", "rest"} {
		arrivals := pick(r, "", ", arrivals: poisson")
		timing := pick(r, "", "", fmt.Sprintf(", starts: %ds, lasts: 3s", r.IntN(4)))
		b.traffic[name] = fmt.Sprintf("{name: t-%s, rate: %s, packet: %dB, from: 10.1.0.%d, to: 10.2.0.9, to-port: %d%s%s}", strings.ReplaceAll(name, "/", "-"), mbit(0.2, 4.5), 200+r.IntN(1200), 1+r.IntN(200), to[name], arrivals, timing)
	}
	subject := pick(r, "voice", "dept/radar", "dept/mail", "guests", "bulk")
	traffic := "t-" + strings.ReplaceAll(subject, "/", "-")
	b.expect = pick(r, traffic+" loss <= 1%", traffic+" loss <= 5%", traffic+fmt.Sprintf(" delay p99 <= %dms", 8+r.IntN(60)), subject+" drops at west/wan out = 0", traffic+" loss <= 1% from 4s to 6s")
	return b
}

func (b *blamed) text() string {
	entry := func(path string) string {
		keys := ""
		for _, k := range []struct {
			key string
			of  map[string]string
		}{{"priority", b.priority}, {"at-least", b.least}, {"police", b.police}, {"at-most", b.most}, {"queue", b.queue}} {
			if v := k.of[path]; v != "" {
				keys += fmt.Sprintf(", %s: %s", k.key, v)
			}
		}
		return "{class: " + path[strings.LastIndexByte(path, '/')+1:] + keys
	}
	var traffic []string
	for _, name := range []string{"voice", "dept/radar", "dept/mail", "guests", "bulk", "rest"} {
		if !b.silent[name] {
			traffic = append(traffic, "      - "+b.traffic[name])
		}
	}
	return fmt.Sprintf(`imbrel: 1
classes:
  - {name: voice, match: [{to-port: 5060}]}
  - {name: dept, match: [{to-port: [7000, 25]}]}
  - {name: radar, match: [{to-port: 7000}]}
  - {name: mail, match: [{to-port: 25}]}
  - {name: guests, match: [{to-port: 443}]}
  - {name: bulk, match: [{to-port: 873}]}
policies:
  - name: up
    shape: %s
    treat:
      - %s}
      - %s, treat: [%s}, %s}, {class: rest}]}
      - %s}
      - %s}
      - {class: rest}
attach: [{policy: up, at: west/wan out}]
network:
  nodes:
    - {name: west, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: wan, rate: 1Gbit/s}]}
    - {name: east, interfaces: [{name: wan, rate: 1Gbit/s}, {name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/16]}]}
  links: [{ends: [{at: west/wan, sends: %s}, {at: east/wan}], delay: 2ms}]
rehearsals:
  - name: r
    lasts: 8s
    traffic:
%s
    expect: ["%s"]
`, b.shape, entry("voice"), entry("dept"), entry("dept/radar"), entry("dept/mail"), entry("guests"), entry("bulk"), b.sends, strings.Join(traffic, "\n"), b.expect)
}

var rateText = regexp.MustCompile(`rate: [0-9.]+Mbit/s, burst: [0-9]+k?B`)

// without removes the causes that a reason names. It returns false when the first of them cannot be removed.
func (b *blamed) without(w *measure.Why) bool {
	for _, also := range w.Also {
		b.cause(also.Cause, also.By, also.Against)
	}
	return b.cause(w.Cause, w.By, w.Against)
}

func (b *blamed) cause(cause, by string, against []string) bool {
	switch cause {
	case "police":
		b.police[by] = rateText.ReplaceAllString(b.police[by], "rate: 900Mbit/s, burst: 100kB")
	case "at-most":
		delete(b.most, by)
	case "queue":
		b.queue[by] = "{limit: 2s}"
	case "share", "priority":
		for _, name := range against {
			b.silent[name] = true
		}
		if len(against) == 0 {
			b.shape, b.sends = "90Mbit/s", "100Mbit/s"
		}
	case "carrier":
		b.sends = "100Mbit/s"
	default:
		return false
	}
	return true
}

func rehearsedText(t *testing.T, text string) *measure.Result {
	t.Helper()
	f, _, err := files.ReadPolicy("-", strings.NewReader(text))
	if err != nil { // the promises are more than there is
		return nil
	}
	res, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1})
	if err != nil {
		t.Fatal(err)
	}
	return res
}

// TestReasonsAreCauses removes the causes that a reason names: then the expectation holds, or comes at least half way to its
// bound.
func TestReasonsAreCauses(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(31, 31))
	cases, wrong, causes := 0, 0, make(map[string]int)
	for tries := 0; cases < *reasons && tries < 20**reasons; tries++ {
		b := newBlamed(r)
		text := b.text()
		first := rehearsedText(t, text)
		if first == nil {
			continue
		}
		before := first.Expectations[0]
		if before.Holds || before.Measured == nil || before.Why == nil {
			continue
		}
		w := before.Why
		if !b.without(w) {
			continue
		}
		second := rehearsedText(t, b.text())
		if second == nil {
			continue
		}
		cases++
		causes[w.Cause]++
		after := second.Expectations[0]
		e := before.Expectation()
		limit := before.Limit
		if after.Holds || after.Measured == nil || *after.Measured-limit <= (*before.Measured-limit)/2 && e.AtMost() || e.Metric == policy.Drops && *after.Measured <= *before.Measured/2 {
			continue
		}
		wrong++
		t.Logf("%s: measured %v, without the cause %v: %s %s by %q against %v: %s\n%s", before.Text, *before.Measured, *after.Measured, w.Reason, w.Cause, w.By, w.Against, w.Text, text)
	}
	t.Logf("%d of %d reasons name the cause; the causes: %v", cases-wrong, cases, causes)
	if cases < *reasons || wrong*20 > cases || len(causes) < 4 {
		t.Errorf("%d of %d reasons are wrong, of the causes %v", wrong, cases, causes)
	}
}

// shorter makes the rehearsals of ten minutes as short as a tenth of that.
var shorter = strings.NewReplacer("2min", "12s", "600s", "60s", "300s", "30s", "115s", "11500ms", "125s", "12500ms")

// TestReasonsNameTheLimit: the reason names the limit and the time that did it, and a right policy is not accused.
func TestReasonsNameTheLimit(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ file, rehearsal, says, cause, by string }{
		{"reason-of-a-when.yaml", "ten-minutes", "`guests` was offered 30.8 Mbit/s: its `at-most` of 20.0 Mbit/s was active for 11.5 s of 17.5 s", "", "guests"},
		{"reason-starved.yaml", "lent-and-taken-back", "it was offered 25.6 Mbit/s and is promised 13.3 Mbit/s, but got 1.44 Mbit/s. Traffic with priority went first: ef 15.6 Mbit/s", "priority", "rest"},
		{"reason-wrong-class.yaml", "in-the-evening", "most of it was in `hog-down` at house/wan in: its `at-most` of 10.0 Mbit/s was never active", "", ""},
		{"policed-parent.json", "r", "the policer of `dept` around it passes 4.00 Mbit/s with a burst of 20kB, and was offered 9.82 Mbit/s", "police", "dept"},
		{"parent-policed.json", "r", "the policer of `dept` around it passes 4.00 Mbit/s with a burst of 20kB, and was offered 11.2 Mbit/s", "police", "dept"},
	} {
		res := parsed[measure.Result](t, imbrel(t, t.TempDir(), shorter.Replace(readFile(t, broken, c.file)), nil, "rehearse", "-", c.rehearsal, "-o", "json").out)
		if !slices.ContainsFunc(res.Expectations, func(o measure.Outcome) bool {
			return o.Why != nil && (c.cause == "" || o.Why.Cause == c.cause) && (c.by == "" || o.Why.By == c.by) && strings.Contains(o.Why.Text.String(), c.says)
		}) {
			t.Errorf("%s: nothing is caused by the %s of %q, %q: %+v", c.file, c.cause, c.by, c.says, res.Expectations)
		}
	}
	// The change that is suggested starts from the number that the reason names.
	if r := imbrel(t, ".", "", nil, "rehearse", broken+"/suggest-finds-nothing.yaml", "--suggest"); !strings.Contains(r.out, "change policies.hop3.treat.voice.police.rate from 16kbit/s to 1.1424Mbit/s: it holds") || strings.Contains(r.out, "no single number") {
		t.Errorf("exit %d: %s", r.status, r.out)
	}
	if r := imbrel(t, t.TempDir(), shorter.Replace(readFile(t, broken, "false-limit-too-small.yaml")), nil, "rehearse", "-", "--fail-on", "warning"); r.status != 0 {
		t.Errorf("a right policy: exit %d, %s", r.status, r.out)
	}
}
