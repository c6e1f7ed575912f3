package policyfile_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/unit"
)

const expanded = `imbrel: 1
policies:
  - name: up
    shape: {measured: line.json, part: 90%}
    treat: [{class: rest}]
  - name: down
    shape: {measured: line.json, direction: in}
    treat: [{class: rest}]
attach: [{policy: up, at: site/line out}, {policy: down, at: site/line in}]
network:
  nodes:
    - name: site
      interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/24]}, {name: line, rate: 100Mbit/s, link: {to: far}}]
    - name: far
      interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/24]}]
rehearsals:
  - name: office
    lasts: 20s
    traffic:
      - {name: first, tcp: 1, from: 10.1.0.1, to: 10.2.0.1}
      - {name: week, survey: week.json, starts: 2s}
`

const (
	lineText = `{"measured":1,"runs":[{"up":{"rate_bps":9000000},"down":{"rate_bps":40000000}},{"up":{"rate_bps":8000000,"unsteady":true},"down":{"rate_bps":36000000}}]}`
	weekText = `{"survey":1,"from":"2026-03-02T08:00:10Z","to":"2026-03-02T08:02:10Z","seconds":120,
	 "total":{"bytes":3,"packets":3,"busiest_minute":{"bps":1,"at":"2026-03-02T08:01:00Z"}},
	 "mix":[{"app":"https","protocol":"tcp","port":443,"direction":"in","dscp":"af21","from_client":false,"client":"10.1.0.5","server":"10.2.0.5","bytes":900000,"packets":700,"minutes":[[29540640,0,600000,300000]]},
	  {"app":"https","protocol":"tcp","port":443,"direction":"out","dscp":"df","from_client":true,"client":"10.1.0.5","server":"10.2.0.5","bytes":26000,"packets":500,"minutes":[[29540640,6000,20000]]},
	  {"app":"dns","protocol":"udp","port":53,"direction":"out","dscp":"df","from_client":true,"client":"10.1.0.6","server":"10.2.0.6","bytes":30000,"packets":300,"mean_bps":2000}],
	 "calls":[{"from":"10.1.0.7","to":"10.2.0.7","from_port":20000,"to_port":20000,"codec":"g711","from_s":30,"lasts_s":60},{"from":"10.2.0.7","to":"10.1.0.7","from_port":20000,"to_port":20000,"codec":"g711","from_s":30,"lasts_s":60},
	  {"from":"10.1.0.8","to":"10.2.0.7","from_port":20004,"to_port":20002,"codec":"g711","from_s":0,"lasts_s":20}]}`
)

// What was measured stands in the place of the names of its files.
func TestExpanded(t *testing.T) {
	in := fstest.MapFS{"p.yaml": {Data: []byte(expanded)}, "line.json": {Data: []byte(lineText)}, "week.json": {Data: []byte(weekText)}}
	f, _, err := policyfile.ReadOpened(in.Open, "p.yaml", nil)
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range []unit.Rate{8_100_000, 34_200_000} { // nine tenths of the steady run; 95 % of the worst
		if got := f.Policies[i].Shape.Rate; got != want {
			t.Errorf("policy %d is shaped to %s, want %s", i, got, want)
		}
	}
	var names []string
	for _, k := range f.Rehearsals[0].Traffic {
		names = append(names, k.Name)
		switch k.Name {
		case "week-https-back": // 600,000 bytes in the minute
			if k.AppRate != 80_000 || k.FromPort != 443 || k.From.String() != "10.2.0.5" || k.DSCP.Name() != "af21" || k.Starts != 2e9 || k.At.Line != 21 {
				t.Errorf("%+v", k)
			}
		case "week-calls-g711": // one of them is over by then
			if k.Calls != 1 || k.Codec.Name != "g711" {
				t.Errorf("%+v", k)
			}
		case "week-dns":
			if k.Rate != 2000 || k.Packet != 100 || k.ToPort != 53 {
				t.Errorf("%+v", k)
			}
		}
	}
	if got := strings.Join(names, " "); got != "first week-https-back week-dns week-calls-g711" { // acknowledgements follow from the data
		t.Errorf("traffic: %s", got)
	}
	for old, c := range map[string][2]string{
		"survey: week.json": {"survey: gone.json", "cannot read what was measured"}, "week.json, starts": {"line.json, starts", "is not a saved survey"}, "starts: 2s": {"minute: 2026-03-02T09:00", "is not between"},
		"starts: ": {"bytes: ", "unknown key `bytes`"}, "part: 90%": {"part: 120%", "is not a part of a line"}, "direction: in": {"direction: up", "it is out or in"},
		"{measured: line.json, part": {"{measured: week.json, part", "has no rate of this direction"}, "{measured: line.json, direction: in}": {"{part: 3%}", "a shape needs a rate"},
	} {
		in["p.yaml"] = &fstest.MapFile{Data: []byte(strings.Replace(expanded, old, c[0], 1))}
		if _, _, err := policyfile.ReadOpened(in.Open, "p.yaml", nil); err == nil || !strings.Contains(err.Error(), c[1]) || !strings.Contains(err.Error(), "p.yaml:") {
			t.Errorf("%s: %v; want %q", c[0], err, c[1])
		}
	}
}
