package cli_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/binary"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"imbrel.example/imbrel/examples"
)

var (
	mutants     = flag.Int("mutants", 50, "how many damaged policy files, and as many damaged captures, are tried")
	firstMutant = flag.Int("first-mutant", 0, "the number of the first of them")
)

// An outcome of a mutant: what it ended in.
type ended struct{ well, refused, stopped int }

// tried runs the program on damaged input: it ends, well or with a message; it takes no more
// memory than its input is worth; and says nothing of Go.
func tried(t *testing.T, e *ended, dir, what string, input int, args ...string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	c := exec.CommandContext(ctx, program, args...)
	c.Dir = dir
	c.Cancel = func() error { return c.Process.Signal(syscall.SIGINT) }
	c.WaitDelay = 10 * time.Second
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	memory := make(chan int64)
	over := make(chan struct{})
	go func() { memory <- maxMemory(c.Process.Pid, over) }()
	err := c.Wait()
	close(over)
	most := <-memory
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) && ctx.Err() == nil {
		t.Fatal(err)
	}
	switch status := c.ProcessState.ExitCode(); {
	case ctx.Err() != nil && args[0] == "rehearse" && status == 130: // what it sends may be much
		e.stopped++
		return
	case ctx.Err() != nil:
		t.Fatalf("%s: %v did not end within 20 s", what, args)
	case status == 0 || status == 1:
		e.well++
	case status == 2 && errs.Len() > 0:
		e.refused++
	default:
		t.Fatalf("%s: %v: exit %d\n%.3000s", what, args, status, errs.String())
	}
	said := out.String() + errs.String()
	for _, bad := range []string{"strconv", "runtime error", "goroutine", "%!", "0xc0", "<nil>", "NaN", "+Inf", "-9223372036854775808"} {
		if strings.Contains(said, bad) {
			t.Errorf("%s: %v says %q:\n%.2000s", what, args, bad, said)
		}
	}
	if h := hiddenIn(said); h != "" {
		t.Errorf("%s: %v shows %s", what, args, h)
	}
	if args[0] == "rehearse" {
		return
	}
	if bound := int64(64<<10 + input/5); most > bound { // 64 MB, and 200 times the input
		t.Errorf("%s: %v took %d kB for %d bytes; the most is %d", what, args, most, input, bound)
	}
	if took := c.ProcessState.UserTime(); took > 2*time.Second { // of a processor
		t.Errorf("%s: %v took %v", what, args, took)
	}
}

// maxMemory returns the most memory that a process held, in kB, as often as it can be
// looked at; 0 where that is not said.
func maxMemory(pid int, over <-chan struct{}) (most int64) {
	for {
		status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		if _, rest, ok := bytes.Cut(status, []byte("VmHWM:")); ok {
			var kB int64
			if _, err := fmt.Sscan(string(rest[:min(len(rest), 40)]), &kB); err == nil {
				most = max(most, kB)
			}
		}
		select {
		case <-over:
			return most
		case <-time.After(2 * time.Millisecond):
		}
	}
}

// damaged changes a policy file's text in one to four places.
func damaged(r *rand.Rand, text string, others []string) string {
	words := strings.FieldsFunc(text, func(c rune) bool { return strings.ContainsRune(" ,[]{}:\n", c) })
	for range 1 + r.IntN(4) {
		lines := strings.Split(text, "\n")
		at, other := r.IntN(len(lines)), r.IntN(len(lines))
		spot := r.IntN(len(text) + 1)
		switch r.IntN(14) {
		case 0:
			lines = append(lines[:at], lines[at+1:]...)
		case 1:
			lines[at], lines[other] = lines[other], lines[at]
		case 2:
			lines[at] += "\n" + lines[at]
		case 3:
			lines[at] = pick(r, "  ", " ", "\t") + lines[at]
		case 4:
			lines[at] = strings.TrimLeft(lines[at], " ")
		case 5:
			lines[at] = strings.Replace(lines[at], pick(r, words...), pick(r, words...), 1)
		case 6:
			lines[at] = strings.Map(func(c rune) rune {
				if c >= '0' && c <= '9' && r.IntN(3) == 0 {
					return '0' + rune(r.IntN(10))
				}
				return c
			}, lines[at])
		case 7:
			lines[at] = strings.Replace(lines[at], pick(r, words...), pick(r, "-1", "0", "1e9", "999999999999999999999", "\"\"", "null", "[]", "{}", "~", "*", "ｅｆ", "\u202e", "é", "0.000001%", "400Gbit/s", "500bit/s", "24h", "1000MB", "1ns"), 1)
		case 8:
			text = text[:spot] + pick(r, "\x00", "\x1b", "\x7f", "\ufeff", "\u2028", "\xff", "{", "]", ":", "#", "'", "\"", "&", "!", "|", "- ", "\r") + text[spot:]
			continue
		case 9:
			text = text[:spot]
			continue
		case 10:
			lines[at] = pick(r, strings.Split(pick(r, others...), "\n")...)
		case 11:
			lines[at] = strings.Replace(lines[at], pick(r, ",", ":", "}", "]", "{", "["), pick(r, "", ",", "}", "["), 1)
		case 12:
			lines[at] = strings.Replace(lines[at], pick(r, words...), strings.Repeat(pick(r, "v", "1", "日", "."), r.IntN(5000)), 1)
		default:
			lines[at] = strings.Replace(lines[at], pick(r, "kbit/s", "Mbit/s", "ms", "kB", "%", "s"), pick(r, "Gbit/s", "bit/s", "h", "ns", "MB", "B", "%", ""), 1)
		}
		if text = strings.Join(lines, "\n"); text == "" {
			text = "\n"
		}
	}
	return text
}

var lasting = regexp.MustCompile(`lasts: [0-9.]+(ms|s|min|h)`)

// Damaged policy files end in a message, or in what they still say.
func TestDamagedPolicies(t *testing.T) {
	t.Parallel()
	var texts []string
	for _, name := range exampleFiles(t) {
		if text, err := examples.FS.ReadFile(name); err == nil {
			texts = append(texts, lasting.ReplaceAllString(string(text), "lasts: 1s"))
		}
	}
	var e ended
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", ".")
	for _, name := range exampleFiles(t) {
		if strings.HasPrefix(name, "parts/") {
			put(t, dir, name, example(t, name))
		}
	}
	for n := range *mutants {
		r := rand.New(rand.NewPCG(12, uint64(*firstMutant+n)))
		text := damaged(r, pick(r, texts...), texts)
		put(t, dir, "p.yaml", text)
		what := fmt.Sprintf("mutant %d", *firstMutant+n)
		tried(t, &e, dir, what, len(text), "shares", "p.yaml")
		tried(t, &e, dir, what, len(text), "explain", "p.yaml", "--from", "10.44.8.20", "--to", "10.44.64.20", "--why")
		tried(t, &e, dir, what, len(text), "check", "p.yaml", "--diff")
		tried(t, &e, dir, what, len(text), "changes", "ternrock.yaml", "p.yaml")
		if n%4 == 0 {
			tried(t, &e, dir, what, len(text), "rehearse", "p.yaml")
		}
		if t.Failed() {
			t.Fatalf("%s:\n%s", what, text)
		}
	}
	t.Logf("%d files: %d runs went well, %d were refused, %d were stopped", *mutants, e.well, e.refused, e.stopped)
	if *mutants >= 60 && (e.refused < *mutants/2 || e.well < *mutants/10) {
		t.Errorf("the test tests little: %+v", e)
	}
}

// damagedBytes changes a capture in one to eight places.
func damagedBytes(r *rand.Rand, data []byte) []byte {
	data = bytes.Clone(data)
	for range 1 + r.IntN(8) {
		if len(data) < 64 {
			break
		}
		at := r.IntN(len(data) - 16)
		if r.IntN(3) == 0 {
			at = r.IntN(min(len(data)-16, 400)) // the headers of the file
		}
		n := min(r.IntN(200), len(data)-at)
		switch r.IntN(8) {
		case 0:
			data[at] ^= 1 << r.IntN(8)
		case 1:
			for i := range n {
				data[at+i] = byte(r.IntN(256))
			}
		case 2:
			data = append(data[:at], data[at+n:]...)
		case 3:
			data = append(data[:at:at], append(bytes.Clone(data[at:at+n]), data[at:]...)...)
		case 4:
			data = data[:at]
		case 5:
			binary.LittleEndian.PutUint32(data[at:], pick[uint32](r, 0, 1, 0x7fffffff, 0xffffffff, 0x80000000, 65536, uint32(len(data))))
		case 6:
			binary.BigEndian.PutUint16(data[at:], pick[uint16](r, 0, 0x8100, 0x8847, 0x86dd, 0x0800, 0xffff, 0x8864))
		default:
			clear(data[at : at+n])
		}
	}
	return data
}

// Damaged captures are read as far as they go, or refused.
func TestDamagedCaptures(t *testing.T) {
	t.Parallel()
	var captures [][]byte
	for _, name := range []string{"site.pcap", "site-vlan.pcap", "site-mpls.pcap", "broken/ng-mixedlink.pcap", "broken/gzng.pcap", "broken/dns.pcap", "broken/srv.pcap", "broken/reuse.pcap"} {
		data, err := os.ReadFile(filepath.Join("testdata", name))
		if err != nil {
			t.Fatal(err)
		}
		captures = append(captures, data)
		if z, err := gzip.NewReader(bytes.NewReader(data)); err == nil {
			data, _ = io.ReadAll(z)
			captures = append(captures, data)
		}
	}
	var e ended
	dir := t.TempDir()
	put(t, dir, "site.yaml", example(t, "site-wan.yaml")+"rehearsals:\n  - {name: r, lasts: 60s, traffic: [{name: site, capture: c.pcap, enters: a/lan}]}\n")
	for n := range *mutants {
		r := rand.New(rand.NewPCG(13, uint64(*firstMutant+n)))
		data := damagedBytes(r, pick(r, captures...))
		put(t, dir, "c.pcap", string(data))
		what := fmt.Sprintf("mutant %d", *firstMutant+n)
		tried(t, &e, dir, what, len(data), "explain", "site.yaml", "--capture", "c.pcap")
		if n%4 == 0 {
			tried(t, &e, dir, what, len(data), "rehearse", "site.yaml")
			tried(t, &e, dir, what, len(data), "rehearse", "site.yaml", "--closed-loop")
		}
		if t.Failed() {
			t.Fatal(what)
		}
	}
	t.Logf("%d captures: %d runs went well, %d were refused, %d were stopped", *mutants, e.well, e.refused, e.stopped)
	if *mutants >= 60 && e.well < *mutants/2 {
		t.Errorf("the test tests little: %+v", e)
	}
}
