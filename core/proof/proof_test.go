package proof

import (
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/simulate"
)

const line = `{"imbrel": 1,
	"classes": [{"name": "voice", "match": [{"dscp": "ef"}]}, {"name": "file", "match": [{"to-port": 873}]}],
	"policies": [{"name": "up", "shape": "SHAPE", "treat": [{"class": "voice", "priority": 1, "at-most": "20%"}, {"class": "file"}, {"class": "rest"}]}],
	"attach": [{"policy": "up", "at": "west/wan out"}],
	"network": {"nodes": [
		{"name": "west", "interfaces": [{"name": "lan", "rate": "1Gbit/s", "subnets": ["10.1.0.0/16"]}, {"name": "wan", "rate": "100Mbit/s"}]},
		{"name": "east", "interfaces": [{"name": "wan", "rate": "100Mbit/s"}, {"name": "lan", "rate": "1Gbit/s", "subnets": ["10.2.0.0/16"]}]}],
		"links": [{"ends": [{"at": "west/wan"}, {"at": "east/wan"}], "delay": "3ms"}]},
	"rehearsals": [{"name": "r", "lasts": "6s", "traffic": [
		{"name": "calls", "calls": 3, "codec": "g711", "dscp": "ef", "between": ["10.1.0.7", "10.2.0.9"]},
		{"name": "flow", "rate": "3Mbit/s", "packet": "900B", "arrivals": "poisson", "from": "10.1.0.8", "to": "10.2.0.8"},
		{"name": "sync", "tcp": 2, "from": "10.1.0.9", "to": "10.2.0.9", "to-port": 873}],
		"expect": ["voice delay p99 <= 20ms", "flow loss <= 1%", "flow rate at west/wan out <= 10Mbit/s", "sync goodput >= 1Mbit/s"]}]}`

func rehearsed(t *testing.T, shape string, seed uint64) *measure.Result {
	t.Helper()
	text := strings.Replace(strings.Replace(line, "SHAPE", shape, 1), `"flow rate at west/wan out <= 10Mbit/s", `, "", 1)
	f, err := policyfile.Parse("line.json", []byte(text), time.LoadLocation)
	if err != nil {
		t.Fatal(err)
	}
	r, err := simulate.Run(f, &f.Rehearsals[0], simulate.Options{Seed: seed})
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// words returns the word of each figure and expectation.
func words(p *Proof) map[string]string {
	out := make(map[string]string)
	for _, f := range p.Figures {
		out[f.Of+" "+f.Name+" "+f.Where+" "+f.Metric] = f.Word
	}
	for _, e := range p.Expectations {
		out[e.Text] = e.Word
	}
	return out
}

// TestHold: a result agrees with itself in all; one with less to share differs where that matters, and
// there alone, and its expectations turn.
func TestHold(t *testing.T) {
	a := rehearsed(t, "8Mbit/s", 1)
	same := Compare(a, a)
	if same.Differ != 0 || same.Agree < 20 {
		t.Errorf("a result and itself: %d agree, %d differ", same.Agree, same.Differ)
	}
	for _, f := range same.Figures {
		if f.Ratio != nil && *f.Ratio != 1 || f.Word != Agrees {
			t.Errorf("%+v", f)
		}
	}
	p := Compare(a, rehearsed(t, "2.5Mbit/s", 1))
	got := words(p)
	for what, want := range map[string]string{
		"traffic flow forward rate": Differs, "traffic flow forward loss": Differs, "traffic flow forward delay": Differs, "traffic sync forward goodput": Differs,
		"traffic calls reverse rate": Agrees, "traffic calls reverse mos": Agrees, "traffic calls forward loss": Agrees, "class rest west/wan out rate": Differs,
		"class voice west/wan out loss": Agrees, "flow loss <= 1%": Turns,
	} {
		if got[what] != want {
			t.Errorf("%s: %q; want %q", what, got[what], want)
		}
	}
	if n := strings.Count(strings.Join(values(got), " "), Agrees); n != p.Agree || len(got)-n != p.Differ {
		t.Errorf("%d and %d are counted of %v", p.Agree, p.Differ, got)
	}
	for _, f := range p.Figures {
		if strings.Contains(f.Name, "sync") && f.Metric == "rate" {
			t.Errorf("packets of TCP are held against each other: %+v", f)
		}
	}
}

func values(m map[string]string) (out []string) {
	for _, v := range m {
		out = append(out, v)
	}
	return out
}

// TestTolerances: a figure agrees up to its tolerance and no further, which is wider beside TCP and
// for a few packets.
func TestTolerances(t *testing.T) {
	for _, c := range []struct {
		metric             policy.Metric
		beside             bool
		rehearsed, packets float64
		tolerance          float64
	}{
		{policy.Throughput, false, 1e6, 1e4, 2e4}, {policy.Throughput, false, 1e4, 1e4, 2000}, {policy.Throughput, true, 1e6, 1e4, 5e4},
		{policy.Loss, false, 10, 1e4, 0.5}, {policy.Loss, false, 10, 100, 2}, {policy.Loss, true, 20, 1e4, 3},
		{policy.Delay, false, 5, 1e4, 1}, {policy.Delay, false, 100, 1e4, 5}, {policy.Delay, true, 100, 1e4, 15}, {policy.Delay, false, 100, 200, 50},
		{policy.MOS, false, 4, 1e4, 0.1}, {policy.Goodput, true, 1e6, 0, 5e4}, {policy.Goodput, true, 1e6, 20, 5e5},
	} {
		for _, off := range []float64{-1.01, -0.99, 0, 0.99, 1.01} {
			measured := c.rehearsed + off*c.tolerance
			f := Figure{Rehearsed: &c.rehearsed, Measured: &measured}
			f.judge(&Stated, c.metric, c.beside, c.packets)
			if agrees := off > -1 && off < 1; (f.Word == Agrees) != agrees {
				t.Errorf("%s, beside TCP %v, of %.0f packets: rehearsed %g, measured %g: %s within %g", c.metric, c.beside, c.packets, c.rehearsed, measured, f.Word, f.Tolerance)
			}
		}
	}
	var f Figure
	if f.judge(&Stated, policy.Delay, false, 0); f.Word != Agrees {
		t.Error("nothing and nothing differ")
	}
	one := 1.0
	f = Figure{Rehearsed: &one}
	if f.judge(&Stated, policy.Delay, false, 0); f.Word != Differs {
		t.Error("something and nothing agree")
	}
}
