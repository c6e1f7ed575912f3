package cli_test

import (
	"encoding/binary"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/explain"
	"imbrel.example/imbrel/core/measure"
)

// hopsRow is the row of a key that the language does not have: how many hops a packet may still take.
const hopsRow = `	KeyHops: {Name: "hops", Doc: "how many more hops the packet may take", Max: 255, Value: "a number of hops", Parse: ParsePorts, Print: printRange,
		Of: func(p *packet.Packet) (uint32, uint32, bool) {
			if !visible(p) || !p.Flow.From.Is4() {
				return 0, 0, false
			}
			n := uint32(p.Network()[8])
			return n, n, true
		}},
}

const (
	portValue =`

// withHops builds the program with a table of keys that has one row more.
func withHops(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	keys, err := filepath.Abs("../../core/policy/keys.go")
	if err != nil {
		t.Fatal(err)
	}
	text := readFile(t, "", keys)
	changed := strings.Replace(text, "	NumKeys // how", "	KeyHops\n	NumKeys // how", 1)
	changed = strings.Replace(changed, "}\n\nconst (\n	portValue =", hopsRow, 1)
	if len(changed) < len(text)+len(hopsRow)/2 {
		t.Fatal("the table of keys has another form: mend this test")
	}
	overlay, _ := json.Marshal(map[string]map[string]string{"Replace": {keys: put(t, dir, "keys.go", changed)}})
	out := filepath.Join(dir, "imbrel")
	// without optimizations, which take longer than the test
	build := gently(exec.Command("go", "build", "-pgo=off", "-gcflags=imbrel.example/imbrel/...=-N -l", "-overlay", put(t, dir, "overlay.json", string(overlay)), "-o", out, "imbrel.example/imbrel/cmd/imbrel"))
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if said, err := build.CombinedOutput(); err != nil {
		t.Fatalf("a row alone does not build: %s", said)
	}
	return out
}

// A new key is one row: check, changes, explain, captures and rehearsals know it.
func TestAKeyIsOneRow(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("it builds the program once more")
	}
	own := withHops(t)
	run := func(dir string, args ...string) reply {
		c := gently(exec.Command(own, args...))
		c.Dir = dir
		out, err := c.Output()
		r := reply{out: string(out), status: c.ProcessState.ExitCode()}
		if e, ok := err.(*exec.ExitError); ok {
			r.err = string(e.Stderr)
		}
		return r
	}
	dir := t.TempDir()
	text := `imbrel: 1
classes:
  - {name: near, match: [{hops: 1-9}]}
  - {name: far,  match: [{hops: 10-255, protocol: udp}]}
  - {name: some, match: [{hops: 3-5}]}
policies: [{name: p, treat: [{class: near, mark: af11}, {class: far, mark: af21}, {class: some, mark: af31}, {class: rest}]}]
attach: [{policy: p, at: a/wan out}]
network:
  nodes:
    - {name: a, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/16]}, {name: wan, rate: 1Gbit/s, link: {to: b, delay: 1ms}}]}
    - {name: b, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/16]}]}
rehearsals: [{name: r, lasts: 6s, traffic: [{name: take, capture: hops.pcap, enters: a/lan}]}]
`
	put(t, dir, "p.yaml", text)
	put(t, dir, "q.yaml", strings.Replace(text, "hops: 1-9", "hops: 1-7", 1))
	put(t, dir, "hops.pcap", string(hopsCapture()))

	// Of one flow six packets have 4, 8 or 64 hops.
	counts := func(name string, got map[string]int64) {
		if got["near"] != 4 || got["far"] != 2 || got["rest"] != 0 || got["some"] != 0 {
			t.Errorf("%s: %v", name, got)
		}
	}
	got := make(map[string]int64)
	for _, c := range parsed[explain.CaptureResult](t, run(dir, "explain", "p.yaml", "--capture", "hops.pcap", "-o", "json").out).Classes {
		got[c.Class] = c.Packets
	}
	counts("explain --capture", got)
	for _, flag := range []string{"--seed=1", "--without-policy"} { // classified, and foreseen
		got = make(map[string]int64)
		r := parsed[measure.Result](t, run(dir, "rehearse", "p.yaml", "-o", "json", flag).out)
		for _, c := range r.Classes {
			got[c.Class] = c.SentPackets
		}
		counts("rehearse "+flag, got)
	}
	if r := run(dir, "changes", "p.yaml", "q.yaml"); !strings.Contains(r.out, "near → far") && !strings.Contains(r.out, "hops 8") && !strings.Contains(r.out, "from near to far") {
		t.Errorf("changes: exit %d: %s%s", r.status, r.out, r.err)
	}
	var found struct{ Findings []found }
	if err := json.Unmarshal([]byte(run(dir, "check", "p.yaml", "-o", "json").out), &found); err != nil {
		t.Fatal(err)
	}
	never := false
	for _, f := range found.Findings {
		never = never || f.Name == "never-matches" && strings.Contains(f.Text, "`some`")
		if f.Name == "contradiction" {
			t.Errorf("check: %s", f.Text)
		}
	}
	if !never {
		t.Errorf("check does not say that `some` never takes a packet: %+v", found.Findings)
	}
	if r := run(dir, "explain", "p.yaml", "--from", "10.1.0.1", "--to", "10.2.0.1", "--why"); !strings.Contains(r.out, "it has 64") {
		t.Errorf("explain --why: %s", r.out)
	}
	if r := run(dir, "schema"); !strings.Contains(r.out, `"hops"`) {
		t.Error("the schema does not have it")
	}
}

// hopsCapture is a classic pcap of six packets of one UDP flow.
func hopsCapture() []byte {
	b := make([]byte, 24)
	binary.LittleEndian.PutUint32(b, 0xa1b2c3d4)
	b[4], b[6], b[16], b[18], b[20] = 2, 4, 0xff, 0xff, 1
	for i, hops := range []byte{4, 8, 64, 8, 4, 64} {
		frame := make([]byte, 14+20+8+40)
		frame[12], frame[13] = 8, 0
		ip := frame[14:]
		ip[0], ip[3], ip[8], ip[9] = 0x45, 68, hops, 17
		copy(ip[12:], []byte{10, 1, 0, 1, 10, 2, 0, 1})
		copy(ip[20:], []byte{0x13, 0x88, 0x13, 0x89, 0, 48})
		sum := uint32(0)
		for j := 0; j < 20; j += 2 {
			sum += uint32(ip[j])<<8 | uint32(ip[j+1])
		}
		binary.BigEndian.PutUint16(ip[10:], ^uint16(sum+sum>>16))
		record := make([]byte, 16)
		binary.LittleEndian.PutUint32(record, uint32(1000+i))
		binary.LittleEndian.PutUint32(record[8:], uint32(len(frame)))
		binary.LittleEndian.PutUint32(record[12:], uint32(len(frame)))
		b = append(append(b, record...), frame...)
	}
	return b
}
