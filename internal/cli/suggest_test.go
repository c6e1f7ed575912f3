package cli_test

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/simulate"
	"imbrel.example/imbrel/core/suggest"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/internal/files"
)

var failing = flag.Int("failing", 20, "for how many random failing rehearsals TestSuggestedChanges looks for a change")

// failingText is two sites whose policy is wrong in one random number.
func failingText(r *rand.Rand) string {
	rates := map[string]string{"SHAPE": "7.6Mbit/s", "POLICE": "600kbit/s", "BURST": "3kB", "LEAST": "40%", "MOST": "6Mbit/s", "LIMIT": "60ms", "WEB": "20%"}
	calls, orders, others := 1+r.IntN(5), 500+r.IntN(2000), 9000
	var expect string
	switch r.IntN(8) {
	case 0:
		rates["SHAPE"] = fmt.Sprintf("%.2fMbit/s", 8.05+r.Float64()*4)
		expect = pick(r, "voice loss = 0", "voice delay p99 <= 25ms", "voice mos >= 4.2")
	case 1:
		rates["POLICE"] = fmt.Sprintf("%dkbit/s", 30+r.IntN(95*calls-40))
		expect = pick(r, "voice loss = 0", "voice loss <= 1%", "voice mos >= 4")
	case 2:
		rates["BURST"] = fmt.Sprintf("%dB", 240+r.IntN(200))
		calls = 3 + r.IntN(3)
		expect = "voice drops = 0"
	case 3:
		orders = 2500 + r.IntN(700)
		rates["LEAST"] = fmt.Sprintf("%d%%", 2+r.IntN(15))
		expect = pick(r, "orders loss <= 1%", "orders rate >= 2.3Mbit/s")
	case 4:
		orders = 2500 + r.IntN(1000)
		rates["LEAST"], others = "5%", 1000
		rates["MOST"] = fmt.Sprintf("%.2fMbit/s", 0.5+r.Float64()*1.9)
		expect = pick(r, "orders loss <= 0.5%", "orders delay p99 <= 60ms", "orders rate at west/wan out >= 2.4Mbit/s")
	case 5:
		rates["LIMIT"] = fmt.Sprintf("%dB", 1600+r.IntN(4000))
		expect = "orders loss = 0"
	case 6:
		orders = 6000 + r.IntN(3000)
		rates["LIMIT"] = fmt.Sprintf("%dms", 80+r.IntN(800))
		expect = fmt.Sprintf("orders delay p99 <= %dms", 55+r.IntN(40))
	default:
		rates["WEB"] = fmt.Sprintf("%d%%", 1+r.IntN(8))
		expect = fmt.Sprintf("web rate at west/wan out >= %d00kbit/s", 10+r.IntN(5))
	}
	text := fmt.Sprintf(`imbrel: 1
classes:
  - {name: voice, match: [{protocol: udp, to-port: 16384-32767}]}
  - {name: orders, match: [{to-port: 1433}]}
  - {name: web, match: [{to-port: 443}]}
policies:
  - name: wan
    shape: SHAPE
    treat:
      - {class: voice, priority: 1, police: {rate: POLICE, burst: BURST}}
      - {class: orders, at-least: LEAST, at-most: MOST, queue: {limit: LIMIT}}
      - {class: web, at-least: WEB}
      - {class: rest, at-least: 20%%}
attach: [{policy: wan, at: ["west/wan out", "east/wan out"]}]
network:
  nodes:
    - {name: west, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: wan, rate: 100Mbit/s}]}
    - {name: east, interfaces: [{name: wan, rate: 100Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/16]}]}
  links: [{ends: [{at: west/wan, sends: 8Mbit/s}, {at: east/wan, sends: 8Mbit/s}], delay: 3ms}]
rehearsals:
  - name: full
    lasts: 2s
    traffic:
      - {name: calls, calls: %[1]d, codec: g711, between: [10.1.0.5, 10.2.0.5]}
      - {name: order-entry, rate: %[2]dkbit/s, packet: 800B, arrivals: poisson, from: 10.1.0.7, to: 10.2.0.7, to-port: 1433}
      - {name: web-pages, rate: %[3]dkbit/s, packet: 1500B, from: 10.1.0.8, to: 10.2.0.8, to-port: 443}
      - {name: up, rate: %[3]dkbit/s, packet: 1500B, from: 10.1.0.9, to: 10.2.0.9}
    expect: ["%[4]s"]
`, calls, orders, others, expect)
	for k, v := range rates {
		text = strings.Replace(text, k, v, 1)
	}
	return text
}

// A trial rehearses a text with another number at a path.
func holdsWith(t *testing.T, in files.Place, path, number string) (*measure.Result, error) {
	t.Helper()
	f, err := in.With(path, number)
	if err != nil {
		return nil, err
	}
	return simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1})
}

// lessBy returns the number that is a tenth less of a change, in its own unit.
func lessBy(t *testing.T, from, to string) string {
	t.Helper()
	part := func(a, b int64) int64 { return a + (b-a)*9/10 }
	if a, err := unit.ParsePercent(from); err == nil {
		b, _ := unit.ParsePercent(to)
		return unit.Percent(part(int64(a), int64(b))).String()
	}
	if a, err := unit.ParseRate(from); err == nil {
		b, _ := unit.ParseRate(to)
		return unit.Rate(part(int64(a), int64(b))).String()
	}
	if a, err := unit.ParseSize(from); err == nil {
		b, _ := unit.ParseSize(to)
		return unit.Size(part(int64(a), int64(b))).String()
	}
	if a, err := unit.ParseDuration(from); err == nil {
		b, _ := unit.ParseDuration(to)
		return unit.FormatDuration(time.Duration(part(int64(a), int64(b))))
	}
	a, err1 := strconv.ParseInt(from, 10, 64)
	b, err2 := strconv.ParseInt(to, 10, 64)
	if err1 != nil || err2 != nil {
		t.Fatalf("from %s to %s", from, to)
	}
	return fmt.Sprint(part(a, b))
}

// The change that is suggested makes the expectation hold, and a tenth less of it does
// not: random failing rehearsals of policies in which one number is wrong.
func TestSuggestedChanges(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(9, 9))
	cases, none, kinds := 0, 0, make(map[string]int)
	for cases < *failing {
		text := failingText(r)
		f, in, err := files.ReadPolicy("-", strings.NewReader(text))
		if err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		res, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: 1})
		if err != nil {
			t.Fatal(err)
		}
		if res.Verdict == "pass" {
			continue
		}
		cases++
		finder := suggest.Finder{Number: in.Number, Try: func(path, number string) (*measure.Result, error) { return holdsWith(t, in, path, number) }}
		c, _ := finder.Change(res, 0)
		if c == nil {
			none++
			t.Logf("no single number makes %s hold: %s", res.Expectations[0].Text, res.Expectations[0].Why.Text)
			continue
		}
		kinds[c.Path]++
		if with, err := holdsWith(t, in, c.Path, c.To); err != nil || !with.Expectations[0].Holds {
			t.Errorf("%s: with %s = %s in place of %s it does not hold (%v)\n%s", res.Expectations[0].Text, c.Path, c.To, c.From, err, text)
		}
		less := lessBy(t, c.From, c.Least)
		if with, err := holdsWith(t, in, c.Path, less); err == nil && with.Expectations[0].Holds {
			t.Errorf("%s: %s = %s in place of %s is more than it takes: %s is enough\n%s", res.Expectations[0].Text, c.Path, c.Least, c.From, less, text)
		}
		if line := strings.Split(text, "\n")[c.Line-1]; !strings.Contains(line, c.From) {
			t.Errorf("%s is said to be in line %d: %s", c.From, c.Line, line)
		}
	}
	if none*20 > cases || len(kinds) < min(7, cases/3) {
		t.Errorf("no change for %d of %d; numbers of %d kinds", none, cases, len(kinds))
	}
	t.Logf("%d failing rehearsals, %d without a change; the numbers: %v", cases, none, kinds)
}

// Expectations that fail for one cause get one change: what check --fix writes, where it would, and nothing of which a check would say
// more than before. Where there is none, the numbers that were tried are named.
func TestOneChangeForOneCause(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", "tern")
	text := strings.Replace(example(t, "ternrock.yaml"), "shape: 11.4Mbit/s", "shape: 14Mbit/s", 1)
	put(t, dir, "tern/slip.yaml", text)
	r := imbrel(t, dir, "", nil, "rehearse", "tern/slip.yaml", "fog", "--suggest")
	if strings.Count(r.out, "change policies.ternrock-radio.shape from 14Mbit/s to 95%") != 1 || strings.Count(r.out, "the change above makes it hold, too") < 3 {
		t.Errorf("%s%s", r.out, r.err)
	}
	imbrel(t, dir, "", nil, "check", "tern/slip.yaml", "--fix")
	fixed, err := os.ReadFile(filepath.Join(dir, "tern/slip.yaml"))
	if err != nil || !strings.Contains(string(fixed), "shape: 95%") {
		t.Errorf("--fix writes otherwise: %v", err)
	}
	one := parsed[measure.Result](t, imbrel(t, ".", "", nil, "rehearse", broken+"/suggest-finds-nothing.yaml", "--suggest", "-o", "json").out)
	for _, o := range one.Expectations[:2] {
		if o.Why == nil || o.Why.Change == nil || o.Why.Change.To != "1.1424Mbit/s" {
			t.Errorf("%s: %+v", o.Text, o.Why)
		}
	}
	none := imbrel(t, ".", "", nil, "rehearse", broken+"/reason-starved.yaml", "--suggest")
	if flat := strings.Join(strings.Fields(none.out), " "); !strings.Contains(flat, "no single number in the file makes it hold; tried: policies.wan.treat.af41.at-least from 30% to 37.5%") {
		t.Errorf("%s", none.out)
	}
}
