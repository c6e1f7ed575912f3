package check_test

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/check"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/words"
)

// checkable is a policy file without findings. Each test changes it in one place.
var checkable = func() string {
	text, err := os.ReadFile("testdata/sound.yaml")
	if err != nil {
		panic(err)
	}
	return string(text)
}()

// Each finding has a change that raises it, with the consequence in numbers, and one like it
// that does not.
func TestFindings(t *testing.T) {
	t.Parallel()
	const east = "  - {policy: up, at: east/wan out}\n"
	cases := map[string]struct{ old, raises, near, says string }{
		"address-nowhere":        {"{to-port: 8000}", "{to-port: 8000}, {from: 10.9.0.0/16}", "{to-port: 8000}, {from: 10.2.9.0/24}", "`bulk` asks for `from` 10.9.0.0/16, which is in no subnet of the network"},
		"answers-in-rest":        {"    expect:", "      - {name: cards, requests: 2, answer: 9kB, think: 100ms, from: 10.1.0.7, to: 10.2.0.7, to-port: 8000}\n    expect:", "      - {name: cards, requests: 2, answer: 9kB, think: 100ms, from: 10.1.0.7, to: 10.2.0.7, to-port: 8001}\n    expect:", "`cards` is in `bulk`, but `cards, reverse`, which carries the data, is in the rest: where east/wan is full"},
		"bound-below-call":       {"rate: 600kbit/s", "rate: 60kbit/s", "rate: 600kbit/s", "a call of G.711 takes 95.2 kbit/s there: one call alone loses 37.0 % of its packets"},
		"bound-below-calls":      {"rate: 600kbit/s", "rate: 500kbit/s", "rate: 571.2kbit/s", "the 6 calls of `run` take 571 kbit/s, but `voice` is limited to 500 kbit/s: when all talk, 12.5 % of their packets are lost; for half a minute at a time one call can lose half of its packets; there is room for 5 calls"},
		"burst-below-interval":   {"burst: 4kB", "burst: 1000B", "burst: 1428B", "up to 2 of 6 packets of an interval are lost"},
		"burst-below-packet":     {"burst: 4kB", "burst: 237B", "burst: 238B", "all are dropped"},
		"contradiction":          {"{to-port: 8000}", "{to-port: 8000, protocol: icmp}", "{to-port: 8000, protocol: udp}", "no packet has both: it never holds"},
		"each-one-server":        {"at-least: 20%, at-most: {rate: 90%, when: work}}", "each: source, at-most: 2Mbit/s} # second", "each: destination, at-most: 2Mbit/s} # second", "`bulk` has a limit for each source, but all its packets in `run` come from 10.2.0.9: the 2 hosts at the other end share one limit"},
		"framing-forgotten":      {"{at: west/wan, sends: 10Mbit/s}", "{at: west/wan, sends: 10Mbit/s, framing: aal5-bridged-llc}", "{at: west/wan, sends: 10Mbit/s, framing: ethernet-vlan}", "9.00 Mbit/s of call packets take 10.02 Mbit/s on a link of 10.0 Mbit/s"},
		"mark-unserved":          {"treat: [{class: voice, mark: ef}", "treat: [{class: voice, mark: af31} # second\n", "treat: [{class: voice, mark: ef} # second\n", "`calls` is marked af31 at west/lan in, but here it falls into the rest, which keeps the mark, but gives it no treatment of its own"},
		"pressure-flaps":         {"{rate: 90%, when: work}", "{rate: 1Mbit/s, when: {starts: {load: 85%, for: 1s}, ends: {load: 60%, for: 2s}}}", "{rate: 1Mbit/s, when: {starts: {load: 85%, for: 1s}, ends: {load: 10%, for: 2s}}}", "and 1.57 Mbit/s with it; the limit ends below 5.40 Mbit/s: it starts and ends again about every 3s"},
		"promise-inside-policer": {"at-least: 20%, at-most: {rate: 90%, when: work}}", "at-least: 20%, police: {rate: 2Mbit/s, burst: 20kB}, treat: [{class: fast, at-least: 10%}, {class: rest}]}", "at-least: 20%, at-most: 2Mbit/s, treat: [{class: fast, at-least: 10%}, {class: rest}]}", "the policer of `bulk` drops before its entries count: `bulk/fast` can count on nothing"},
		"queue-too-shallow":      {"at-least: 20%, at-most", "at-least: 20%, queue: {limit: 1600B}, at-most", "at-least: 20%, queue: {limit: 8kB}, at-most", "a TCP flow of `copy` keeps about 91"},
		"shape-above-far-end":    {"lan in}\n", "lan in}\n  - {policy: up2, at: east/wan in} # shape: 8Mbit/s\n", "lan in}\n  - {policy: up2, at: east/wan in} # shape: 9.5Mbit/s\n", "the shape of 9.00 Mbit/s is above the 8.00 Mbit/s that `up2` lets in at east/wan"},
		"shared-or-each":         {"- {class: bulk,", "- {class: guest, at-most: 1Mbit/s} # second\n      - {class: bulk,", "- {class: guest, each: destination, at-most: 1Mbit/s} # second\n      - {class: bulk,", "the 2 hosts in `guest` share one limit of 1.00 Mbit/s: when all are busy each has 500 kbit/s"},
		"time-unrehearsed":       {"    expect:", "    expect: [bulk rate >= 1Mbit/s]\n  - name: again\n    lasts: 1s\n    starts-at: 2026-03-02T09:30\n    traffic: [{name: x, rate: 1Mbit/s, packet: 1400B, from: 10.2.0.9, to: 10.1.0.9, to-port: 8000}]\n    expect:", "    expect: [bulk rate >= 1Mbit/s]\n  - name: again\n    lasts: 1s\n    starts-at: 2026-03-02T22:30\n    traffic: [{name: x, rate: 1Mbit/s, packet: 1400B, from: 10.2.0.9, to: 10.1.0.9, to-port: 8000}]\n    expect:", "all of the rehearsals are within the time `work`, 08:00 to 17:00 in Europe/Oslo"},
		"half-duplex-shared":     {"{ends: [{at: west/wan, sends: 10Mbit/s}, {at: east/wan, sends: 10Mbit/s}], delay: 5ms}", "{ends: [{at: west/wan}, {at: east/wan}], delay: 5ms, half-duplex: 16Mbit/s}", "{ends: [{at: west/wan}, {at: east/wan}], delay: 5ms, half-duplex: 20Mbit/s}", "let 18.0 Mbit/s through, and both directions share 16.0 Mbit/s"},
		"ring-too-deep":          {"{name: wan, rate: 100Mbit/s}]}\n    - {name: east", "{name: wan, rate: 8Mbit/s, ring: 64}]}\n    - {name: east", "{name: wan, rate: 8Mbit/s, ring: 4}]}\n    - {name: east", "the ring of west/wan holds 64 packets: full ones take"},
		"too-large":              {"west/wan, sends: 10Mbit/s}, {at: east/wan, sends: 10Mbit/s}], delay: 5ms}", "west/wan, sends: 10Mbit/s}, {at: east/wan, sends: 10Mbit/s}], delay: 5ms, mtu: 1399B}", "west/wan, sends: 10Mbit/s}, {at: east/wan, sends: 10Mbit/s}], delay: 5ms, mtu: 1400B}", "the packets of `flood` do not fit their path: one of 1,400 B leaves east/wan as 1,400 B, and east/wan sends 1,399 B at most: the first are dropped; then their sender knows, and sends shorter ones"},
		"times-overlap":          {"      - {class: bulk,", "      - {class: bulk, at-most: 1Mbit/s, when: work}\n      - {class: bulk, at-most: 2Mbit/s, when: late} # late: 16:00\n      - {class: bulk,", "      - {class: bulk, at-most: 1Mbit/s, when: work}\n      - {class: bulk, at-most: 2Mbit/s, when: late} # late: 17:00\n      - {class: bulk,", "for 420 minutes a week, first from Mon 16:00 CET, the entry in line 14 takes all packets"},
		"unit-slip":              {"{rate: 90%, when: work}", "{rate: 900Mbit/s, when: work}", "{rate: 9Mbit/s, when: work}", "`bulk` is limited to 900Mbit/s, but the interface sends only 100 Mbit/s"},
		"expectation-bound":      {"bulk delay p99 <= 150ms]", "bulk delay p99 <= 150ms, bulk rate at east/wan out >= 9.5Mbit/s]", "bulk delay p99 <= 150ms, bulk rate at east/wan out >= 8Mbit/s]", "`bulk` is limited to 9.00 Mbit/s, but \"bulk rate at east/wan out >= 9.5Mbit/s\" is expected: the expectation cannot hold"},
		"expectation-mark":       {"bulk delay p99 <= 150ms]", "bulk delay p99 <= 150ms, voice arrive as af41]", "bulk delay p99 <= 150ms, voice arrive as ef]", "arrive as ef: \"voice arrive as af41\" cannot hold"},
		"expectation-estimated":  {"bulk delay p99 <= 150ms]", "bulk delay p99 <= 150ms, flood rate <= 6Mbit/s]", "bulk delay p99 <= 150ms, flood rate >= 6Mbit/s]", "by a fluid estimate, `flood` gets 7.89 Mbit/s, but \"flood rate <= 6Mbit/s\" is expected"},
		"expectation-exceedable": {"bulk delay p99 <= 150ms]", "bulk delay p99 <= 150ms, voice delay max <= 7ms]", "bulk delay p99 <= 150ms, voice delay max <= 8ms]", "a packet of calls, reverse can take 7.64 ms, but \"voice delay max <= 7ms\" is expected"},
		"expectation-untested":   {"{to-port: 8000}]}", "{to-port: 8001}]}", "{to-port: 8000-8001}]}", "no traffic of `run` is in `bulk`: there is nothing to judge"},
		"in-never-queues":        {"lan in}", "lan in}\n  - {policy: up2, at: east/lan in}", "lan in}\n  - {policy: edge, at: east/lan in}", "nothing ever waits in `up2`"},
		"never-matches":          {"      - {class: voice, mark: ef, priority: 1, police: {rate: 600kbit/s, burst: 4kB}}\n      - {class: bulk,", "      - {class: voice, mark: ef, priority: 1, police: {rate: 600kbit/s, burst: 4kB}}\n      - {class: fast, at-least: 1%}\n      - {class: bulk,", "      - {class: fast, at-least: 1%}\n      - {class: voice, mark: ef, priority: 1, police: {rate: 600kbit/s, burst: 4kB}}\n      - {class: bulk,", "`fast` never takes a packet: `voice` (line 14) takes them all first: the 205 kbit/s promised to it help nobody; `voice` takes, for example, a packet from 10.1.1.9, dscp ef"},
		"nothing-for-rest":       {"at-least: 20%, at-most: {rate: 90%, when: work}}\n      - {class: rest, at-least: 20%}", "at-least: 93%}\n      - {class: rest}", "at-least: 93%}\n      - {class: rest, at-least: 0%}", "`rest` is promised 30.0 kbit/s of 9.00 Mbit/s"},
		"one-end":                {east, "", "  - {policy: up, at: east/wan out} # as it was\n", "what east/wan sends waits in the carrier's queue of 10.0 Mbit/s"},
		"open-trust":             {"{dscp: ef, from: phones}", "{dscp: ef}", "{dscp: ef, from: 10.0.0.0/8}", "`voice` trusts the marking of every host"},
		"partly-shadowed":        {"- {name: bulk, match: [{app: sensor}, {to-port: 8000}]}", "- {name: bulk, match: [{app: sensor}, {to-port: 8000}, {dscp: [ef, af11], from: 10.1.1.0/25}]}", "- {name: bulk, match: [{app: sensor}, {to-port: 8000}, {dscp: [ef, af11], from: 10.1.0.0/16}]}", "`dscp ef` of `bulk` never reaches its entry in line 14: `voice` (line 13) takes such packets first: `voice` takes, for example, a packet from 10.1.1.1, dscp ef"},
		"policy-unattached":      {"attach:\n", "  - {name: old, treat: [{class: voice, mark: ef}]}\nattach:\n", "  - {name: old, treat: [{class: bulk, inside: older}, {class: rest}]}\n  - {name: older, treat: [{class: voice}]}\nattach:\n  - {policy: old, at: east/lan in}\n", "the policy `old` is attached nowhere"},
		"queue-too-deep":         {"at-least: 20%, at-most", "at-least: 20%, queue: {limit: 200ms}, at-most", "at-least: 20%, queue: {limit: 100ms}, at-most", "a full queue of `bulk` holds a packet for 200 ms"},
		"server-name-alone":      {`["*.sensor.example"]`, `[sensor.example]`, `[sensor.example, "*.sensor.example"]`, "www.sensor.example does not match"},
		"shape-above-link":       {"shape: 9Mbit/s", "shape: 11Mbit/s", "shape: 10Mbit/s", "the shape is 11.0 Mbit/s, but the link carries 10.0 Mbit/s"},
		"shape-above-port":       {"shape: 9Mbit/s", "shape: 900Mbit/s", "shape: 95Mbit/s", "the shape of 900 Mbit/s is above the 100 Mbit/s that the interface sends"},
		"shape-at-link":          {"shape: 9Mbit/s", "shape: 10Mbit/s", "shape: 9.8Mbit/s", "the shape of 10.0 Mbit/s leaves no margin below what the link carries: if the link carries 200 kbit/s less, no promise is kept"},
		"shape-far-below":        {"shape: 9Mbit/s", "shape: 3Mbit/s", "shape: 3.4Mbit/s", "70.0 % of the link is never used"},
		"slow-link":              {"links: [{ends: [{at: west/wan, sends: 10Mbit/s}, {at: east/wan, sends: 10Mbit/s}]", "links: [{ends: [{at: west/wan, sends: 1.2Mbit/s}, {at: east/wan, sends: 10Mbit/s}]", "links: [{ends: [{at: west/wan, sends: 1.3Mbit/s}, {at: east/wan, sends: 10Mbit/s}]", "a full packet takes 10.3 ms"},
		"tag-nowhere":            {"{to-port: 8000}", "{to-port: 8000}, {pcp: 5}", "{to-port: 8000}, {dscp: 5}", "`bulk` asks for a tag, but frames here have none"},
		"time-without-zone":      {", zone: Europe/Oslo", "", ", zone: UTC", "the time `work` has no zone"},
		"traffic-unclassified":   {"[10.1.1.1, 10.2.1.1], dscp: ef", "[10.1.9.1, 10.2.1.1], dscp: ef", "[10.1.1.2, 10.2.1.1], dscp: ef", "no class takes the calls of `calls`: they are in the rest"},
		"unbounded-priority":     {"police: {rate: 600kbit/s, burst: 4kB}", "queue: {limit: 20ms}", "at-most: 600kbit/s", "it can take all of 9.00 Mbit/s"},
		"unused":                 {"  - {name: bulk,", "  - {name: idle, match: [{dscp: cs1}]}\n  - {name: bulk,", "  - {name: bulk,", "the class `idle` is used nowhere"},
		"voice-without-priority": {"mark: ef, priority: 1", "mark: ef", "mark: ef, priority: 2", "the calls of `calls` are in `voice`, which has no priority: where the link is full, a call's packet waits for packets of other classes, 1.37 ms each"},
		"mark-nowhere":           {"mark: ef, priority: 1", "mark: {dscp: ef, pcp: 5}, priority: 1", "mark: {dscp: ef}, priority: 1", "`voice` writes a mark into a tag, but frames leave without one: nothing carries the mark"},
		"mark-trusted-later":     {"voice, match: [{dscp: ef, from: phones}]", "voice, match: [{dscp: ef}]}\n  - {name: own, match: [{dscp: ef, from: phones}]", "voice, match: [{dscp: ef, from: phones}]", "`voice` has priority by its marking alone, and hosts at east/lan can set that marking"},
		"policer-far-below":      {"at-least: 20%, at-most: {rate: 90%, when: work}}", "police: {rate: 3Mbit/s, burst: 20kB}}", "police: {rate: 3Mbit/s, burst: 20kB, red: {mark: le}}}", "`run` offers 12.3 Mbit/s to `bulk`, but its policer passes only 3.00 Mbit/s: it drops 75.7 %, although \"bulk delay p99 <= 150ms\" is expected"},
		"priority-above-link":    {"rate: 600kbit/s, burst: 4kB", "calls: 400, codec: g711}} # bare\n#", "calls: 20, codec: g711}} # bare\n#", "the entries with priority may take 38.1 Mbit/s together, of 9.00 Mbit/s: their limits protect nobody"},
		"server-name-unseen":     {"{app: sensor}, {to-port: 8000}", "{app: sensor}", "{to-port: 8000}", "`bulk` is recognised by server names alone, and no rehearsal replays a capture"},
		"slower-further-on":      {"sends: 10Mbit/s}, {at: east/wan", "sends: 10Mbit/s}, {at: mid/a}], delay: 1ms}, {ends: [{at: mid/b, sends: 4Mbit/s}, {at: east/wan", "sends: 10Mbit/s}, {at: mid/a}], delay: 1ms}, {ends: [{at: mid/b, sends: 40Mbit/s}, {at: east/wan", "`up` divides 9.00 Mbit/s, and then"},
		"weights-reversed":       {"at-least: 20%, at-most: {rate: 90%, when: work}}\n      - {class: rest, at-least: 20%}", "weight: 1}\n      - {class: rest, weight: 4} # reversed", "weight: 8}\n      - {class: rest, weight: 4} # reversed", "`bulk` has a smaller weight than `rest`, 1 and 4, and is expected to get more"},
		"exempt-one-way":         {"{to-port: 8000}]", "{from: 10.2.0.0/16}, {to: 10.2.0.0/16}], except: [{to: 10.2.0.9}] # both", "{from: 10.2.0.0/16}, {to: 10.2.0.0/16}], except: [{to: 10.2.0.9}, {from: 10.2.0.9}] # both", "`copy` is excluded from `bulk`, but `copy, reverse` is included: the same conversation is in the class on its way back"},
		"voice-as-control":       {"mark: ef, priority: 1", "mark: cs6, priority: 1", "mark: cs5, priority: 1", "leave as cs6, which is network control"},

		"address-hidden":               {"{name: wan, rate: 100Mbit/s}]}\n    - {name: east", "{name: wan, rate: 100Mbit/s, address: 192.0.2.1, nat: before-policy}]}\n    - {name: east", "{name: wan, rate: 100Mbit/s, address: 192.0.2.1, nat: after-policy}]}\n    - {name: east", "asks for `from` 10.1.1.0/24, and west/wan translates addresses before the policy: the policies there see 192.0.2.1 for all hosts behind it"},
		"flow-divided":                 {"treat: [{class: voice, mark: ef}, {class: rest, mark: df}]", "treat: [{class: voice, mark: ef, police: {rate: 200kbit/s, burst: 2kB, red: {mark: af41}}}, {class: rest, mark: df}]", "treat: [{class: voice, mark: ef, police: {rate: 800kbit/s, burst: 2kB, red: {mark: af41}}}, {class: rest, mark: df}]", "the policer of `voice` marks a part of `calls` af41, and at west/wan out that part is in `rest`, the other packets in `voice`"},
		"fragments-unclassified":       {"{name: flood, rate: 12Mbit/s, packet: 1400B,", "{name: flood, rate: 12Mbit/s, packet: 1600B,", "{name: flood, rate: 12Mbit/s, packet: 1500B,", "packets of `flood` come in fragments, and `bulk` takes them by what only the first fragment has"},
		"shape-exceeds-contract":       {"{at: west/wan, sends: 10Mbit/s}", "{at: west/wan, contract: {rate: 8.9Mbit/s, burst: 8kB}}", "{at: west/wan, contract: {rate: 9Mbit/s, burst: 8kB}}", "the shape of 9Mbit/s is above the 8.9Mbit/s of the contract: the carrier drops the excess, of whatever class"},
		"shape-burst-exceeds-contract": {"shape: 9Mbit/s", "shape: {rate: 9Mbit/s, burst: 10kB} # contract", "shape: {rate: 9Mbit/s, burst: 8800B} # contract", "that needs a contract with a burst of 9,000 B, and it has 8,000 B"},
	}
	sentences := ""
	for _, r := range check.Rules() {
		sentences += "\n# " + r.Name
		c, ok := cases[r.Name]
		if !ok {
			t.Errorf("nothing raises %s", r.Name)
			continue
		}
		named := func(text string) (said string, names []string) {
			sentences += "\n"
			file, source, err := policyfile.Read("file", strings.NewReader(text), nil, time.LoadLocation)
			if err != nil {
				t.Fatalf("%s: %v\n%s", r.Name, err, text)
			}
			for _, f := range check.File(file, source.Accepted) {
				names = append(names, f.Name)
				if f.At.Line == 0 || f.Text() == "" || f.Fact.Consequence() == "" || f.Fact.Fix() == "" {
					t.Errorf("%s: something is missing: %+v", r.Name, f)
				}
				said += f.Text() + ": " + f.Fact.Consequence() + ": " + f.Fact.Fix() + "\n"
				sentences += fmt.Sprintf("%s, %s, line %d: %s. %s. Fix: %s.\n", f.Name, f.Level, f.At.Line, f.Text(), f.Fact.Consequence(), f.Fact.Fix())
			}
			return said, names
		}
		if strings.Count(checkable, c.old) != 1 {
			t.Fatalf("%s: %q is not once in the file", r.Name, c.old)
		}
		with := func(s string) string {
			text := strings.Replace(checkable, c.old, s, 1)
			if strings.Contains(s, "fast") {
				text = strings.Replace(text, "  - {name: bulk,", "  - {name: fast, match: [{dscp: ef, from: 10.1.1.9}]}\n  - {name: bulk,", 1)
			}
			if strings.Contains(s, "up2") {
				_, shape, _ := strings.Cut(s, "# ")
				shape, _, _ = strings.Cut(shape, "\n")
				text = strings.Replace(text, "attach:\n", "  - {name: up2, "+shape+", treat: [{class: voice, priority: 1, at-most: 10%}, {class: rest, at-least: 10%}]}\nattach:\n", 1)
				text = strings.Replace(text, "{name: up2, , ", "{name: up2, ", 1)
			}
			if strings.Contains(s, "# second") || strings.Contains(s, "queue: {limit: 1600B}") || strings.Contains(s, "queue: {limit: 8kB}") {
				text = strings.Replace(text, "    expect:", "      - {name: copy, rate: 12Mbit/s, packet: 1400B, from: 10.2.0.9, to: 10.1.0.8, to-port: 8000, protocol: tcp}\n      - {name: back, rate: 12Mbit/s, packet: 1400B, from: 10.1.0.9, to: 10.2.0.8}\n    expect:", 1)
				text = strings.Replace(text, "  - {name: bulk,", "  - {name: guest, match: [{to: 10.1.0.0/24}]}\n  - {name: bulk,", 1)
			}
			if _, from, late := strings.Cut(s, "# late: "); late {
				text = strings.Replace(text, "Europe/Oslo}}", "Europe/Oslo}, late: {from: \""+from[:5]+"\", to: \"20:00\", zone: Europe/Oslo}}", 1)
			}
			if s, both := strings.CutSuffix(s, " # both"); both {
				text = strings.Replace(text, "    expect:", "      - {name: copy, tcp: 1, from: 10.1.0.9, to: 10.2.0.9}\n    expect:", 1)
				text = strings.Replace(text, s+" # both}", s+"}", 1)
			}
			if strings.Contains(s, "# contract") {
				text = strings.Replace(text, "{at: west/wan, sends: 10Mbit/s}", "{at: west/wan, contract: {rate: 10Mbit/s, burst: 8kB}}", 1)
			}
			if strings.Contains(s, "# bare") { // nothing is promised to the others
				text = strings.ReplaceAll(strings.ReplaceAll(text, "at-least: 20%, ", ""), ", at-least: 20%", "")
			}
			if strings.Contains(s, "# reversed") {
				text = strings.Replace(text, "expect: [", "expect: [bulk rate at east/wan out >= 6Mbit/s, rest rate at east/wan out >= 1Mbit/s, ", 1)
			}
			if strings.Contains(s, "mid/a") {
				text = strings.Replace(text, "network:\n  nodes:\n", "network:\n  nodes:\n    - {name: mid, interfaces: [{name: a, rate: 1Gbit/s}, {name: b, rate: 1Gbit/s}]}\n", 1)
				text = strings.Replace(text, "bulk delay p99 <= 150ms]", "bulk delay p99 <= 150ms]", 1)
				text = strings.Replace(text, "from: 10.2.0.9, to: 10.1.0.9, to-port: 8000", "from: 10.1.0.9, to: 10.2.0.9, to-port: 8000", 1)
			}
			return text
		}
		said, names := named(with(c.raises))
		if !slices.Contains(names, r.Name) {
			t.Errorf("%s is not raised by %q, but %v", r.Name, c.raises, names)
			continue
		}
		if !strings.Contains(said, c.says) {
			t.Errorf("%s does not say %q:\n%s", r.Name, c.says, said)
		}
		if _, names := named(with(c.near)); slices.Contains(names, r.Name) {
			t.Errorf("%s is raised by %q", r.Name, c.near)
		}
	}
	file, source, err := policyfile.Read("file", strings.NewReader(checkable), nil, time.LoadLocation)
	if err != nil {
		t.Fatal(err)
	}
	if all := check.File(file, source.Accepted); len(all) > 0 {
		t.Errorf("the sound file: %+v", all)
	}
	// WRITE_FINDINGS=1 writes the sentences anew. Read those that change.
	compareSentences(t, "testdata/findings.txt", sentences)
}

// raised returns the findings of a rule in the sound file after changes, as "LINE: TEXT".
func raised(t *testing.T, rule string, changes ...string) (out []string) {
	t.Helper()
	file, source, err := policyfile.Read("file", strings.NewReader(strings.NewReplacer(changes...).Replace(checkable)), nil, time.LoadLocation)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range check.File(file, source.Accepted) {
		if f.Name == rule {
			out = append(out, f.Text())
		}
	}
	return out
}

// A limit for each source is one for all where there is one source, and a limit for each destination where there is one
// destination; one host alone shares with nobody.
func TestEachOneServer(t *testing.T) {
	const entry = "at-least: 20%, at-most: {rate: 90%, when: work}}"
	second := func(from, to string) string {
		return "      - {name: copy, rate: 1Mbit/s, packet: 1400B, from: " + from + ", to: " + to + ", to-port: 8000}\n    expect:"
	}
	for _, c := range []struct {
		each, from, to string
		raises         bool
	}{
		{"source", "10.2.0.9", "10.1.0.8", true}, {"source", "10.2.0.8", "10.1.0.9", false}, {"source", "10.2.0.9", "10.1.0.9", false},
		{"destination", "10.2.0.8", "10.1.0.9", true}, {"destination", "10.2.0.9", "10.1.0.8", false}, {"flow", "10.2.0.9", "10.1.0.8", false},
	} {
		got := raised(t, "each-one-server", entry, "each: "+c.each+", at-most: 2Mbit/s}", "    expect:", second(c.from, c.to))
		if (len(got) > 0) != c.raises {
			t.Errorf("each %s, from %s to %s: %q", c.each, c.from, c.to, got)
		}
	}
}

// TestNoneWithinATime: a time is reported when all rehearsals are outside it.
func TestNoneWithinATime(t *testing.T) {
	again := "    expect: [bulk rate >= 1Mbit/s]\n  - name: again\n    lasts: 1s\n    starts-at: 2026-03-02T21:30\n    traffic: [{name: x, rate: 1Mbit/s, packet: 1400B, from: 10.2.0.9, to: 10.1.0.9, to-port: 8000}]\n    expect:"
	got := raised(t, "time-unrehearsed", "starts-at: 2026-03-02T08:30", "starts-at: 2026-03-02T22:30", "    expect:", again)
	if len(got) != 1 || !strings.Contains(got[0], "none of the rehearsals is within the time `work`") {
		t.Errorf("%q", got)
	}
}

// TestAlike: two findings are the same but for their place.
func TestAlike(t *testing.T) {
	fact := func(n int) words.Fact { return words.CallsAndAll.With(n) }
	one := check.Finding{Name: "unused", Level: check.Warning, Fact: fact(1)}
	for _, c := range []struct {
		other check.Finding
		alike bool
	}{
		{one, true}, {check.Finding{Name: "unused", Level: check.Warning, Fact: fact(1), At: policy.Place{Line: 7}}, true},
		{check.Finding{Name: "too-large", Level: check.Warning, Fact: fact(1)}, false},
		{check.Finding{Name: "unused", Level: check.Note, Fact: fact(1)}, false},
		{check.Finding{Name: "unused", Level: check.Warning, Fact: fact(2)}, false},
	} {
		if one.Alike(&c.other) != c.alike || c.other.Alike(&one) != c.alike {
			t.Errorf("Alike of %+v and %+v is %v", one, c.other, !c.alike)
		}
	}
}

// An unused name of each kind is reported.
func TestUnused(t *testing.T) {
	for name, change := range map[string][]string{
		"class `idle`":       {"policies:\n", "  - {name: idle, match: [{to-port: 9}]}\npolicies:\n"},
		"group `idle`":       {"groups: {", "groups: {idle: [10.1.2.0/24], "},
		"application `idle`": {"apps: {", "apps: {idle: {tcp: [9]}, "},
		"time `idle`":        {"times: {", "times: {idle: {from: \"01:00\", to: \"02:00\", zone: UTC}, "},
		"map `idle`":         {"maps: {", "maps: {idle: {af21: af22}, "},
		"load `idle`":        {"rehearsals:\n", "loads: {idle: [{name: x, rate: 1Mbit/s, packet: 1400B, from: 10.2.0.9, to: 10.1.0.9}]}\nrehearsals:\n"},
	} {
		if got := raised(t, "unused", change...); len(got) != 1 || !strings.Contains(got[0], "the "+name+" is used nowhere") {
			t.Errorf("%s: %q", name, got)
		}
	}
	if got := raised(t, "unused"); len(got) > 0 {
		t.Errorf("the sound file: %q", got)
	}
}

// What a limit loses of what is offered is arithmetic: an expectation of less cannot hold, and one of more may.
func TestLossBeyondALimit(t *testing.T) {
	const entry, expect = "at-least: 20%, at-most: {rate: 90%, when: work}}", "bulk delay p99 <= 150ms]"
	for loss, want := range map[string]int{"10%": 1, "60%": 0} {
		got := raised(t, "expectation-bound", entry, "at-least: 20%, at-most: 6Mbit/s}", "lasts: 2s", "lasts: 60s", expect, "bulk delay p99 <= 150ms, bulk loss <= "+loss+"]")
		if len(got) != want {
			t.Errorf("a loss of at most %s: %q", loss, got)
		}
	}
}

// Two limits of one class that differ by a unit's factor are likely a slip.
func TestFactorsOfUnits(t *testing.T) {
	const entry, other = "at-most: {rate: 90%, when: work}}", "{class: voice, mark: ef}, {class: rest, mark: df}"
	for rate, factor := range map[string]string{"1Mbit/s": "8", "800kbit/s": "10", "8kbit/s": "1,000", "900kbit/s": "", "8Mbit/s": ""} {
		got := raised(t, "unit-slip", entry, "at-most: 8Mbit/s}", other, "{class: voice, mark: ef}, {class: bulk, police: {rate: "+rate+", burst: 4kB}}, {class: rest, mark: df}")
		if len(got) != min(1, len(factor)) || factor != "" && !strings.HasSuffix(got[0], ": a factor of exactly "+factor) {
			t.Errorf("8Mbit/s and %s: %q", rate, got)
		}
	}
}

// The estimate leaves to a flood what the calls do not take: of 9 Mbit/s six calls take 571.2 kbit/s, and of what is left IP is 1,400 of 1,438 bytes.
func TestEstimateBesideCalls(t *testing.T) {
	got := raised(t, "expectation-estimated", "at-least: 20%, at-most: {rate: 90%, when: work}}", "at-least: 20%}", "bulk delay p99 <= 150ms]", "flood rate <= 6Mbit/s]")
	if len(got) != 1 || !strings.Contains(got[0], "`flood` gets 8.21 Mbit/s") {
		t.Errorf("%q", got)
	}
}

// A mark that the rest of a policy on the way takes off does not reach the class that asks for it.
func TestMarkTakenOffByTheRest(t *testing.T) {
	for mark, want := range map[string]int{", mark: df": 1, "": 0, ", mark: af31": 0} {
		got := raised(t, "mark-unserved", "- {policy: up, at: west/wan out}", "",
			"{class: voice, mark: ef}, {class: rest, mark: df}", "{class: voice, mark: af31}, {class: rest}",
			"    - {name: west, interfaces: [", "    - {name: core, interfaces: [{name: a, rate: 100Mbit/s}, {name: b, rate: 100Mbit/s}]}\n    - {name: west, interfaces: [",
			"{at: west/wan, sends: 10Mbit/s}, {at: east/wan, sends: 10Mbit/s}", "{at: west/wan}, {at: core/a}], delay: 1ms}, {ends: [{at: core/b, sends: 400kbit/s}, {at: east/wan, sends: 10Mbit/s}",
			"attach:\n", "  - {name: clean, treat: [{class: rest"+mark+"}]}\n  - {name: late, treat: [{class: marked, at-least: 10%}, {class: rest}]}\nattach:\n  - {policy: clean, at: core/a in}\n  - {policy: late, at: core/b out}\n",
			"policies:\n", "  - {name: marked, match: [{dscp: af31}]}\npolicies:\n")
		if len(got) != want || want > 0 && !strings.Contains(got[0], "but here `rest` marks it df") {
			t.Errorf("the rest with %q: %q", mark, got)
		}
	}
}
