package check_test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/check"
	"imbrel.example/imbrel/core/policyfile"
)

// testdata/variants.txt has the findings of other changes of the sound file. WRITE_FINDINGS=1 writes it anew. Read the sentences that change.
func TestVariants(t *testing.T) {
	const (
		voice   = "- {name: voice, match: [{dscp: ef, from: phones}]}"
		bulk    = "- {name: bulk, match: [{app: sensor}, {to-port: 8000}]}"
		flood   = "      - {name: flood, rate: 12Mbit/s, packet: 1400B, from: 10.2.0.9, to: 10.1.0.9, to-port: 8000}"
		expect  = "expect: [voice loss = 0, bulk delay p99 <= 150ms]"
		asLeast = "at-least: 20%, at-most: {rate: 90%, when: work}}"
		link    = "links: [{ends: [{at: west/wan, sends: 10Mbit/s}, {at: east/wan, sends: 10Mbit/s}], delay: 5ms}]"
	)
	expecting := func(what string) []string { return []string{expect, "expect: [" + what + "]"} }
	stream := func(name, rate, to string) string {
		return "\n      - {name: " + name + ", rate: " + rate + ", packet: 1400B, from: 10.2.0.9, to: 10.1.0." + to + ", to-port: 8000}"
	}
	var got strings.Builder
	for _, c := range []struct {
		name    string
		changes []string
	}{
		{"addresses of two versions", []string{bulk, "- {name: bulk, match: [{from: 10.1.0.0/16, to: 2001:db8::/32}, {to-port: 8000}]}"}},
		{"a condition excepted", []string{bulk, "- {name: bulk, match: [{to-port: 8000}], except: [{to-port: 7000-9000}]}"}},
		{"a part excepted", []string{bulk, "- {name: bulk, match: [{to-port: 8000}], except: [{to-port: 8001-9000}, {from: 10.9.9.9}]}"}},
		{"a rate just within the limit", expecting("bulk rate at east/wan out >= 8Mbit/s")},
		{"a rate beyond the limit", expecting("bulk rate at east/wan out >= 8.3Mbit/s")},
		{"losses that are certain", expecting("bulk loss <= 10%, bulk loss = 0, bulk drops = 0, bulk drops at east/wan out = 0")},
		{"losses that are allowed", expecting("bulk loss <= 45%, bulk loss >= 1%, bulk drops <= 5, bulk drops >= 5")},
		{"rates by the fluid", expecting("flood rate <= 3Mbit/s, flood rate >= 10Mbit/s, flood loss <= 5%, bulk queue max at east/wan out <= 20kB, bulk queue max at east/wan out <= 2MB, bulk delay p99 <= 20ms, bulk delay p99 at east/wan out <= 20ms, bulk delay mean <= 60ms")},
		{"a policer of two rates", append(expecting("bulk rate at east/wan out >= 4Mbit/s, bulk loss <= 10%"), asLeast, "at-least: 20%, police: {rate: 1Mbit/s, burst: 20kB, peak: 2Mbit/s, peak-burst: 20kB}}")},
		{"each source may have all", append(expecting("voice loss = 0"), asLeast, "each: source, at-most: 9Mbit/s}")},
		{"each source may have nearly all", append(expecting("voice loss = 0"), asLeast, "each: source, at-most: 8999kbit/s}")},
		{"each source within a limit", append(expecting("voice loss = 0"), asLeast, "at-most: 4Mbit/s, treat: [{class: rest, each: source, at-most: 4Mbit/s}]}")},
		{"two destinations", append(expecting("flood rate >= 6Mbit/s, two rate >= 6Mbit/s"), asLeast, "each: destination, at-most: 3Mbit/s}", flood, flood+stream("two", "12Mbit/s", "8"))},
		{"each flow", append(expecting("flood rate >= 6Mbit/s, two rate >= 6Mbit/s"), asLeast, "each: flow, at-most: 3Mbit/s}", flood, flood+stream("two", "12Mbit/s", "8"))},
		{"each source of one host", append(expecting("flood rate >= 3Mbit/s, two rate >= 2Mbit/s"), asLeast, "each: source, at-most: 3Mbit/s}", flood, flood+stream("two", "12Mbit/s", "8"))},
		{"each interface", append(expecting("flood rate >= 6Mbit/s"), asLeast, "each: interface, at-most: 3Mbit/s}")},
		{"flows that share fairly", append(expecting("flood rate >= 6Mbit/s, two rate >= 3Mbit/s, two loss = 0"), asLeast, "at-most: 8Mbit/s, queue: {drop: fq-codel}}", flood, flood+stream("two", "1Mbit/s", "8")+stream("three", "9Mbit/s", "7"))},
		{"flows that share one queue", append(expecting("flood rate >= 6Mbit/s, two rate >= 900kbit/s, bulk loss <= 20%"), asLeast, "at-most: 8Mbit/s}", flood, flood+stream("two", "1Mbit/s", "8")+stream("three", "9Mbit/s", "7"))},
		{"blocked", append(expecting("flood rate >= 1kbit/s, flood loss = 0"), "mark: {map: down}, "+asLeast, "block: true}")},
		{"blocked, and what a stream has not", append(expecting("bulk mos >= 4, bulk late <= 1%, bulk reordered <= 1%, bulk drops <= 5"), "mark: {map: down}, "+asLeast, "block: true}")},
		{"blocked, and a delay", append(expecting("bulk delay p99 <= 20ms"), "mark: {map: down}, "+asLeast, "block: true}")},
		{"blocked within what is in force at work", append(expecting("bulk delay p99 <= 20ms"), "mark: {map: down}, "+asLeast, "when: work, treat: [{class: bulk, block: true}, {class: rest}]}")},
		{"blocked at work", append(expecting("flood rate >= 1kbit/s, flood loss = 0"), "mark: {map: down}, "+asLeast, "block: {when: work}}")},
		{"delays below that of the links", expecting("voice delay p99 <= 4ms, bulk delay p50 <= 4.9ms, bulk delay p99 <= 5ms, calls delay mean <= 6ms")},
		{"the rest, and calls that are in a class", append(expecting("rest delay p99 <= 4ms, rest arrive as af41, rest mos >= 4.5"), "attach:\n", "  - {name: late, treat: [{class: bulk, at-least: 1%}, {class: rest}]}\nattach:\n  - {policy: late, at: east/lan out}\n  - {policy: late, at: west/lan out}\n")},
		{"a round trip in a class with calls", append(expecting("voice rtt p50 <= 9ms"), voice, "- {name: voice, match: [{dscp: ef, from: phones}]}")},
		{"what the codec reaches", append(expecting("voice mos >= 4.2, calls mos >= 4, voice mos <= 3"), "codec: g711", "codec: g729")},
		{"what the codec reaches far away", append(expecting("voice mos >= 4.2, voice delay p99 <= 200ms, voice delay p99 <= 301ms"), link, strings.Replace(link, "5ms", "300ms", 1))},
		{"times below those of the links", append(expecting("get completion p95 <= 9ms, bulk rtt p50 <= 9.9ms, get completion p95 <= 11ms, get rtt max <= 10ms"), flood, "      - {name: get, requests: 2, answer: 9kB, think: 100ms, from: 10.1.0.7, to: 10.2.0.7, to-port: 8000}")},
		{"more data than a link carries", append(expecting("copy goodput >= 9.6Mbit/s, bulk goodput >= 9.3Mbit/s, get goodput >= 9.6Mbit/s"), asLeast, "at-least: 20%}", flood, "      - {name: copy, tcp: 2, from: 10.2.0.9, to: 10.1.0.9, to-port: 8000}\n      - {name: get, tcp: 1, from: 10.2.0.8, to: 10.1.0.8, from-port: 8000, starts: 1s}")},
		{"what no codec reaches", expecting("voice mos >= 4.5, voice mos >= 4.4")},
		{"a delay that an event changes", []string{expect, "events: [{name: other, at: 1s, link: west/wan, delay: 1ms}]\n    expect: [voice delay p99 <= 4ms]"}},
		{"a value of a list taken before", []string{bulk, "- {name: apps, match: [{app: sensor}]}\n  - {name: bulk, match: [{app: [sensor, other]}, {to-port: [8000, 8100-8200], protocol: udp}]}", "apps: {sensor:", "apps: {other: {server-name: [x.example, \"*.x.example\"]}, sensor:", "      - {class: bulk,", "      - {class: apps}\n      - {class: bulk,"}},
		{"a range of a list taken before", []string{bulk, "- {name: early, match: [{to-port: 8100-8300}]}\n  - {name: bulk, match: [{to-port: [8000, 8100-8200]}]}", "      - {class: bulk,", "      - {class: early}\n      - {class: bulk,"}},
		{"a prefix of a list taken before", []string{bulk, "- {name: early, match: [{from: 10.1.0.0/17}]}\n  - {name: bulk, match: [{from: [10.1.0.0/24, 10.2.0.0/16]}, {to-port: 8000}]}", "      - {class: bulk,", "      - {class: early}\n      - {class: bulk,"}},
		{"a condition taken before", []string{bulk, "- {name: early, match: [{to-port: 8000-8100}]}\n  - {name: bulk, match: [{to-port: 8000}, {to-port: 9000}]}", "      - {class: bulk,", "      - {class: early}\n      - {class: bulk,"}},
		{"most of a condition taken before", []string{bulk, "- {name: early, match: [{to-port: 8000-8069}]}\n  - {name: bulk, match: [{to-port: 8000-8099}]}", "      - {class: bulk,", "      - {class: early}\n      - {class: bulk,"}},
		{"half of a condition taken before", []string{bulk, "- {name: early, match: [{to-port: 8000-8049}]}\n  - {name: bulk, match: [{to-port: 8000-8099}]}", "      - {class: bulk,", "      - {class: early}\n      - {class: bulk,"}},
		{"less than half taken before", []string{bulk, "- {name: early, match: [{to-port: 8000-8048}]}\n  - {name: bulk, match: [{to-port: 8000-8099}]}", "      - {class: bulk,", "      - {class: early}\n      - {class: bulk,"}},
		{"two take a class together", []string{bulk, "- {name: one, match: [{to-port: 8000-8049}]}\n  - {name: two, match: [{to-port: 8050-8099}]}\n  - {name: bulk, match: [{to-port: 8000-8099}]}", "      - {class: bulk,", "      - {class: one}\n      - {class: two}\n      - {class: bulk,"}},
		{"full packets in a tunnel", []string{link, link + "\n  tunnels: [{name: pipe, kind: gre, through: [east, west]}]", flood, strings.Replace(flood, "1400B", "1500B", 1)}},
		{"full segments in a tunnel", []string{link, link + "\n  tunnels: [{name: pipe, kind: gre, through: [east, west]}]", flood, "      - {name: flood, tcp: 2, from: 10.2.0.9, to: 10.1.0.9, to-port: 8000}"}},
		{"shorter segments in a tunnel", []string{link, link + "\n  tunnels: [{name: pipe, kind: gre, through: [east, west], mss: 1400B}]", flood, "      - {name: flood, tcp: 2, from: 10.2.0.9, to: 10.1.0.9, to-port: 8000}"}},
		{"a sender that is not told", []string{link, strings.Replace(link, "delay: 5ms", "delay: 5ms, mtu: 1300B", 1), "{name: east, ", "{name: east, icmp: filtered, "}},
		{"a mark taken off again", []string{"{class: voice, mark: ef, priority: 1", "{class: voice, mark: df, priority: 1", expect, "expect: [voice delay p99 <= 50ms]"}},
		{"calls marked where nothing serves them", []string{"treat: [{class: voice, mark: ef}, {class: rest, mark: df}]", "treat: [{class: voice, mark: cs3}, {class: rest, mark: df}]"}},
		{"priorities of all there is", []string{"rate: 600kbit/s, burst: 4kB", "rate: 9Mbit/s, burst: 40kB", "at-least: 20%, at-most: {rate: 90%, when: work}}", "at-most: {rate: 90%, when: work}}", "{class: rest, at-least: 20%}", "{class: rest}"}},
		{"priorities of a little more", []string{"rate: 600kbit/s, burst: 4kB", "rate: 9100kbit/s, burst: 40kB", "at-least: 20%, at-most: {rate: 90%, when: work}}", "at-most: {rate: 90%, when: work}}", "{class: rest, at-least: 20%}", "{class: rest}"}},
		{"two priorities", []string{"{class: bulk, mark: {map: down}, at-least: 20%, at-most: {rate: 90%, when: work}}", "{class: bulk, priority: 2}"}},
		{"a contract of two lines", []string{"{at: west/wan, sends: 10Mbit/s}", "{at: west/wan, contract: [{dscp: ef, rate: 500kbit/s, burst: 8kB}, {rate: 8500kbit/s, burst: 90kB}]}"}},
		{"a contract of two lines that suffice", []string{"{at: west/wan, sends: 10Mbit/s}", "{at: west/wan, contract: [{dscp: ef, rate: 600kbit/s, burst: 8kB}, {rate: 9Mbit/s, burst: 90kB}]}"}},
		{"a contract below the whole", []string{"{at: west/wan, sends: 10Mbit/s}", "{at: west/wan, contract: [{dscp: ef, rate: 600kbit/s, burst: 8kB}, {rate: 8Mbit/s, burst: 90kB}]}"}},
		{"no shape before a contract", []string{"{at: west/wan, sends: 10Mbit/s}", "{at: west/wan, contract: {rate: 9Mbit/s, burst: 90kB}}", "    shape: 9Mbit/s\n", ""}},
		{"a pressure that never comes", []string{"{rate: 90%, when: work}", "{rate: 1Mbit/s, when: {starts: {load: 9100kbit/s, for: 1s}, ends: {load: 60%, for: 2s}}}"}},
		{"a pressure that comes", []string{"{rate: 90%, when: work}", "{rate: 1Mbit/s, when: {starts: {load: 9Mbit/s, for: 1s}, ends: {load: 60%, for: 2s}}}"}},
		{"a policer far below, and marked", append(expecting("bulk rate at east/wan out >= 2Mbit/s"), asLeast, "police: {rate: 3Mbit/s, burst: 20kB}}")},
		{"a bound that names each", []string{"rate: 600kbit/s, burst: 4kB", "calls: 5, codec: g711"}},
		{"calls of another codec", []string{"codec: g711, between", "codec: g729, between"}},
		{"more calls than a burst holds", []string{"calls: 6, codec", "calls: 30, codec", "rate: 600kbit/s, burst: 4kB", "rate: 3Mbit/s, burst: 4kB"}},
		{"two expectations for a queue", append(expecting("bulk delay p99 <= 90ms, bulk delay max <= 101ms"), asLeast, "at-least: 20%, queue: {limit: 95ms}}")},
		{"short packets behind full ones", []string{link, strings.ReplaceAll(link, "10Mbit/s", "700kbit/s"), "shape: 9Mbit/s", "shape: 95%", "rate: 600kbit/s, burst: 4kB", "rate: 100kbit/s, burst: 4kB"}},
		{"a goodput beyond the limit of its data", append(expecting("copy goodput >= 5Mbit/s"), asLeast, "at-most: 4Mbit/s}", flood, "      - {name: copy, tcp: 2, from: 10.2.0.9, to: 10.1.0.9, to-port: 8000}")},
		{"a goodput within the limit of its data", append(expecting("copy goodput >= 3Mbit/s"), asLeast, "at-most: 4Mbit/s}", flood, "      - {name: copy, tcp: 2, from: 10.2.0.9, to: 10.1.0.9, to-port: 8000}")},
		{"a limit on acknowledgements", append(expecting("copy goodput >= 5Mbit/s"), asLeast, "at-most: 4Mbit/s}", "attach:\n  - {policy: up, at: west/wan out}\n  - {policy: up, at: east/wan out}\n", "attach:\n  - {policy: up, at: west/wan out}\n", flood, "      - {name: copy, tcp: 2, from: 10.2.0.9, to: 10.1.0.9, to-port: 8000}")},
		{"a link that loses", []string{"delay: 5ms", "delay: 5ms, loss: 1%"}},
	} {
		text := checkable
		for i := 0; i < len(c.changes); i += 2 {
			if strings.Count(text, c.changes[i]) == 0 {
				t.Fatalf("%s: %q is not in the file", c.name, c.changes[i])
			}
			text = strings.ReplaceAll(text, c.changes[i], c.changes[i+1])
		}
		fmt.Fprintf(&got, "# %s\n", c.name)
		file, source, err := policyfile.Read("file", strings.NewReader(text), nil, time.LoadLocation)
		if err != nil {
			t.Fatalf("%s: %v\n%s", c.name, err, text)
		}
		for _, f := range check.File(file, source.Accepted) {
			if f.Name != "unused" {
				fmt.Fprintf(&got, "%s, %s, line %d: %s. %s. Fix: %s.\n", f.Name, f.Level, f.At.Line, f.Text(), f.Fact.Consequence(), f.Fact.Fix())
			}
		}
		got.WriteByte('\n')
	}
	compareSentences(t, "testdata/variants.txt", got.String())
}

// compareSentences compares sentences with a file, line by line.
func compareSentences(t *testing.T, name, got string) {
	t.Helper()
	if os.Getenv("WRITE_FINDINGS") != "" {
		if err := os.WriteFile(name, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	lines, wanted := strings.Split(got, "\n"), strings.Split(string(want), "\n")
	for i := range min(len(lines), len(wanted)) {
		if lines[i] != wanted[i] {
			t.Errorf("line %d:\n%s\nwant\n%s", i+1, lines[i], wanted[i])
		}
	}
	if len(lines) != len(wanted) {
		t.Errorf("%d lines; want %d", len(lines), len(wanted))
	}
}
