// Command cost counts what a rehearsed packet costs: instructions, and misses of a cache of a megabyte, with the cachegrind of valgrind (Debian's
// package). Counts are steady where times are not. Each case is run for two lengths, and what the second has more is divided by its packets, so
// that reading the file and the report do not count.
//
//	go run ./scripts/cost            # of the tree
//	go run ./scripts/cost -of v0.1.0 # and, beside it, of a commit
package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
)

// A costCase is a kind of rehearsal.
type costCase struct {
	name  string
	text  func(seconds int) string
	short int // seconds
	long  int
}

var cases = []costCase{
	{"1 hop, 100 flows", func(s int) string { return row(1, 100, s) }, 4, 8},
	{"5 hops, 100 flows", func(s int) string { return row(5, 100, s) }, 4, 8},
	{"5 hops, 10,000 flows", func(s int) string { return row(5, 10_000, s) }, 8, 16},
	{"10 sites of 2 calls", func(s int) string { return sites(10, s) }, 10, 30},
	{"250 sites of 2 calls", func(s int) string { return sites(250, s) }, 2, 4},
	{"20 flows of TCP at 1 Gbit/s", transfers, 2, 4},
}

// row is a file of nodes in a row with a policy of eight classes on two levels, and Poisson flows that offer 95 % of the rate.
func row(nodes, flows, seconds int) string {
	var b strings.Builder
	b.WriteString("imbrel: 1\nclasses:\n")
	for i := range 7 {
		fmt.Fprintf(&b, "  - {name: c%d, match: [{to-port: %d-%d, protocol: udp}]}\n", i, 1000+125*i, 1124+125*i)
	}
	b.WriteString(`  - {name: upper, match: [{to-port: 1250-1624}]}
policies:
  - name: p
    shape: 99%
    treat:
      - {class: c0, priority: 1, mark: ef, police: {rate: 20%, burst: 50kB}}
      - {class: c1, at-least: 10%, mark: af41, police: {rate: 15%, burst: 20kB, peak: 30%, peak-burst: 40kB, red: {mark: af43}}}
      - {class: upper, at-least: 40%, treat: [{class: c2, at-least: 30%, queue: {drop: red}}, {class: c3, at-least: 30%, mark: af11}, {class: c4, at-most: 90%}, {class: rest}]}
      - {class: c5, at-least: 10%, queue: {drop: red}}
      - {class: c6, at-least: 10%}
      - {class: rest}
attach: [{policy: p, at: "*/far out"}]
network:
  nodes:
`)
	for i := range nodes {
		near, far := "rate: 100Mbit/s", "rate: 100Mbit/s"
		if i == 0 {
			near = "rate: 10Gbit/s, subnets: [10.1.0.0/16]"
		}
		if i == nodes-1 {
			far += ", subnets: [10.2.0.0/16]"
		}
		fmt.Fprintf(&b, "    - {name: n%d, interfaces: [{name: near, %s}, {name: far, %s}]}\n", i, near, far)
	}
	if nodes > 1 {
		b.WriteString("  links:\n")
	}
	for i := range nodes - 1 {
		fmt.Fprintf(&b, "    - {ends: [{at: n%d/far}, {at: n%d/near}], delay: 1ms}\n", i, i+1)
	}
	fmt.Fprintf(&b, "rehearsals:\n  - name: r\n    lasts: %ds\n    traffic:\n", seconds)
	for i := range flows {
		fmt.Fprintf(&b, "      - {name: f%d, rate: %dbit/s, packet: 700B, arrivals: poisson, from: 10.1.%d.%d, to: 10.2.%d.%d, to-port: %d}\n", i, 95_000_000*700/738/flows, i/250, i%250+1, i/250, i%250+1, 1000+i*37%1000)
	}
	return b.String()
}

// sites is a file of sites with nine interfaces each, whose calls meet at one node, and of two hundred classes.
func sites(n, seconds int) string {
	var b strings.Builder
	b.WriteString("imbrel: 1\nclasses:\n  - {name: voice, match: [{dscp: ef}]}\n")
	for i := range 199 {
		fmt.Fprintf(&b, "  - {name: c%d, match: [{to-port: %d}]}\n", i, 1000+i)
	}
	b.WriteString(`policies:
  - {name: p, shape: 95%, treat: [{class: voice, priority: 1, at-most: 10%}, {class: c1, at-least: 20%}, {class: rest, at-least: 20%}]}
attach: [{policy: p, at: "*/w* out"}]
network:
  nodes:
    - {name: hub, interfaces: [{name: lan, rate: 10Gbit/s, subnets: [10.0.0.0/16]}]}
`)
	for i := range n {
		fmt.Fprintf(&b, "    - {name: s%d, interfaces: [{name: wan, rate: 1Gbit/s, link: {to: hub, sends: 10Mbit/s, receives: 50Mbit/s, delay: 5ms}}", i)
		for j := range 8 {
			fmt.Fprintf(&b, ", {name: l%d, rate: 1Gbit/s, subnets: [11.%d.%d.%d/27]}", j, j, i/8, 32*(i%8))
		}
		b.WriteString("]}\n")
	}
	fmt.Fprintf(&b, "rehearsals:\n  - name: r\n    lasts: %ds\n    traffic:\n", seconds)
	for i := range n {
		fmt.Fprintf(&b, "      - {name: c%d, calls: 2, codec: g711, between: [11.0.%d.%d, 10.0.0.1], dscp: ef}\n", i, i/8, 32*(i%8)+1)
	}
	return b.String()
}

// transfers is a file of TCP over a link of 1 Gbit/s.
func transfers(seconds int) string {
	return fmt.Sprintf(`imbrel: 1
classes:
  - {name: a, match: [{to-port: 80}]}
policies:
  - {name: p, shape: 95%%, treat: [{class: a, at-least: 50%%}, {class: rest}]}
attach: [{policy: p, at: w/wan out}]
network:
  nodes:
    - name: w
      interfaces:
        - {name: lan, rate: 10Gbit/s, subnets: [10.1.0.0/16]}
        - {name: wan, rate: 1Gbit/s, link: {to: e, delay: 5ms}}
    - {name: e, interfaces: [{name: lan, rate: 10Gbit/s, subnets: [10.2.0.0/16]}]}
rehearsals:
  - name: r
    lasts: %ds
    traffic:
      - {name: t, tcp: 20, from: 10.1.0.1, to: 10.2.0.1, to-port: 80}
`, seconds)
}

// A count is what one run took.
type count struct {
	instructions, misses, packets float64
	megabytes                     float64 // at most, without valgrind
}

var figures = map[string]*regexp.Regexp{
	"instructions": regexp.MustCompile(`I +refs: +([\d,]+)`),
	"misses":       regexp.MustCompile(`LLd misses: +([\d,]+)`),
}

// counted runs a rehearsal twice: as it is, and under valgrind.
func counted(program, file string) (count, error) {
	var c count
	var errors strings.Builder
	plain := exec.Command(program, "rehearse", file, "-o", "json")
	plain.Stderr = &errors
	out, err := plain.Output()
	if len(out) == 0 {
		return c, fmt.Errorf("%s rehearse %s: %v\n%s", program, file, err, errors.String())
	}
	c.megabytes = float64(plain.ProcessState.SysUsage().(*syscall.Rusage).Maxrss) / 1024
	var result struct {
		Traffic []struct {
			Sent float64 `json:"sent_packets"`
		} `json:"traffic"`
	}
	if err := json.Unmarshal(out, &result); err != nil {
		return c, err
	}
	for _, t := range result.Traffic {
		c.packets += t.Sent
	}
	run := exec.Command("valgrind", "--tool=cachegrind", "--cache-sim=yes", "--D1=32768,8,64", "--LL=1048576,16,64", "--cachegrind-out-file=/dev/null", program, "rehearse", file)
	run.Env = append(os.Environ(), "GOMAXPROCS=1", "GOGC=off")
	said, err := run.CombinedOutput()
	for name, pattern := range figures {
		m := pattern.FindSubmatch(said)
		if m == nil {
			return c, fmt.Errorf("valgrind, of Debian's package valgrind, did not say how many %s: %v\n%.2000s", name, err, said)
		}
		n, err := strconv.ParseFloat(strings.ReplaceAll(string(m[1]), ",", ""), 64)
		if err != nil {
			return c, err
		}
		if name == "misses" {
			c.misses = n
		} else {
			c.instructions = n
		}
	}
	return c, nil
}

// build builds the program of a folder.
func build(from, into string) error {
	c := exec.Command("go", "build", "-trimpath", "-o", into, "./cmd/imbrel")
	c.Dir, c.Env = from, append(os.Environ(), "CGO_ENABLED=0")
	if out, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("%w\n%s", err, out)
	}
	return nil
}

func run(of string) error {
	dir, err := os.MkdirTemp("", "cost")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	programs := []string{filepath.Join(dir, "imbrel")}
	if err := build(".", programs[0]); err != nil {
		return err
	}
	if of != "" {
		tree := filepath.Join(dir, "tree")
		if out, err := exec.Command("git", "worktree", "add", "--detach", tree, of).CombinedOutput(); err != nil {
			return fmt.Errorf("%w\n%s", err, out)
		}
		defer func() { _ = exec.Command("git", "worktree", "remove", "--force", tree).Run() }()
		programs = append(programs, filepath.Join(dir, "imbrel-of"))
		if err := build(tree, programs[1]); err != nil {
			return err
		}
	}
	fmt.Println("| case | program | instructions a packet | misses a packet | MB at most |\n|---|---|--:|--:|--:|")
	for _, k := range cases {
		for i, program := range programs {
			var counts [2]count
			for j, seconds := range []int{k.short, k.long} {
				file := filepath.Join(dir, "case.yaml")
				if err := os.WriteFile(file, []byte(k.text(seconds)), 0o666); err != nil {
					return err
				}
				if counts[j], err = counted(program, file); err != nil {
					return err
				}
			}
			a, b := counts[0], counts[1]
			more := b.packets - a.packets
			fmt.Printf("| %s | %s | %.0f | %.1f | %.0f |\n", k.name, []string{"the tree", of}[i], (b.instructions-a.instructions)/more, (b.misses-a.misses)/more, b.megabytes)
		}
	}
	return nil
}

func main() {
	of := flag.String("of", "", "count the program of a `COMMIT` as well")
	flag.Parse()
	if err := run(*of); err != nil {
		log.Fatal(err)
	}
}
