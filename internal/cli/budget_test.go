package cli_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/budget"
)

// What budget reckons is what a policy promises, and what a rehearsal of the calls takes.
func TestBudgetIsWhatIsRehearsed(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(11, 3))
	for range 25 {
		codec := pick(r, "g711", "g722", "g729", "g723", "opus")
		interval := map[string]string{"g723": "60ms"}[codec]
		if interval == "" {
			interval = pick(r, "20ms", "30ms", "40ms")
		}
		framing := pick(r, "ethernet", "ethernet-pppoe", "ethernet-vlan", "aal5-pppoe-llc", "ip", "ethernet-frame")
		n := 1 + r.IntN(20)
		asked := []string{"budget", "--calls", fmt.Sprint(n), "--codec", codec, "--interval", interval, "--framing", framing, "--link", "10Mbit/s", "-o", "json"}
		b := parsed[budget.Result](t, imbrel(t, t.TempDir(), "", nil, asked...).out)
		text := strings.ReplaceAll(strings.ReplaceAll(pair, "SENDS", "10Mbit/s"), "{name: wan, rate: 100Mbit/s}", "{name: wan, rate: 100Mbit/s, framing: "+framing+"}") +
			fmt.Sprintf("    traffic: [{name: c, calls: %d, codec: %s, interval: %s, between: [10.1.0.1, 10.2.0.1], dscp: ef}]\n    expect: [voice loss = 0]\n", n, codec, interval) +
			"policies: [{name: p, shape: 9Mbit/s, treat: [" + b.Entry + "]}]\nattach: [{policy: p, at: west/wan out}]\n"
		res := result(t, text)
		v := classOf(t, &res, "west/wan out", "voice")
		if *v.PromisedBps != b.Total.WireBps || b.Link.LeftBps != 10_000_000-b.Total.WireBps {
			t.Errorf("%v: %d bit/s, %d left; promised %d", asked, b.Total.WireBps, b.Link.LeftBps, *v.PromisedBps)
		}
		if d := v.SentBps - b.Total.WireBps; d < -v.SentBps/100 || d > v.SentBps/100 || res.Verdict != "pass" {
			t.Errorf("%v: %d bit/s reckoned, %d rehearsed, %s", asked, b.Total.WireBps, v.SentBps, res.Verdict)
		}
	}
}

func TestBudgetInWords(t *testing.T) {
	t.Parallel()
	for args, c := range map[string]struct {
		status int
		want   string
	}{
		"--calls 12 --codec g711 --interval 20ms --framing ethernet-pppoe": {0, "on the wire          246 B  98.4 kbit/s  1.18 Mbit/s"},
		"--fits 2Mbit/s":                      {0, "2.00 Mbit/s carries 21 calls, which take 2.00 Mbit/s."},
		"--fits 90kbit/s":                     {0, "carries no call: one takes 95.2 kbit/s"},
		"--calls 12 --link 12Mbit/s":          {0, "they leave 10.9 Mbit/s, 90.5 % of it.\nA full packet of 1,500 bytes takes 1.03 ms"},
		"--calls 12 --link 1Mbit/s":           {1, "They do not fit a link of 1.00 Mbit/s: 142 kbit/s is missing."},
		"--erlangs 8 --blocking 1%":           {0, "plan for 15 calls at a time"},
		"--codec opus --bitrate 32kbit/s":     {0, "bitrate: 32kbit/s}}"},
		"--ip 6 --calls 2":                    {0, "police: {calls: 2, codec: g711, ip: 6}"},
		"--calls 3 --erlangs 2":               {2, "--calls has no effect with --erlangs"},
		"--blocking 2%":                       {2, "--blocking has no effect without --erlangs"},
		"--erlangs 1e3":                       {2, "--erlangs 1e3: it is a number"},
		"--erlangs 0":                         {2, "--erlangs 0: it is a number"},
		"--erlangs 3 --blocking 0%":           {2, "--blocking 0%"},
		"--codec g71":                         {2, "did you mean `g711`"},
		"--framing atm":                       {2, "is not a framing"},
		"--interval 15ms --codec g729":        {2, "frames of 10ms"},
		"--bitrate 32kbit/s":                  {2, "cannot be chosen"},
		"--fits 2":                            {2, "has no unit"},
		"--calls 0":                           {2, "a whole number from 1 to 100000"},
		"--ip 5":                              {2, "the versions are 4 and 6"},
		"--link 400Gbit/s --calls 100000":     {0, "9.52 Gbit/s"},
		"--fits 400Gbit/s --framing ip":       {0, "5,000,000 calls"},
		"file":                                {2, "file"},
		"--erlangs 8 --link 1Mbit/s -o json":  {1, `"left_bps":-`},
		"--interval 0ms":                      {2, "no time at all"},
		"--calls 5 --fits 1Mbit/s":            {0, "carries 10 calls"},
		"--erlangs 100000 --blocking 0.0001%": {0, "100000 erlangs"},
		"--calls 1 --link 64kbit/s --codec g729 --framing aal5-ppp-vc": {0, "takes 212 ms on it"},
	} {
		r := imbrel(t, t.TempDir(), "", nil, append([]string{"budget"}, strings.Fields(args)...)...)
		if r.status != c.status || !strings.Contains(r.out+r.err, c.want) {
			t.Errorf("%s: exit %d, want %d and %q:\n%s%s", args, r.status, c.status, c.want, r.out, r.err)
		}
	}
}
