package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// saved surveys a capture of the examples into a file.
func saved(t *testing.T, dir, name string, args ...string) {
	t.Helper()
	r := imbrel(t, dir, "", nil, append([]string{"survey", "-o", "json"}, args...)...)
	if r.status != 0 {
		t.Fatalf("survey: exit %d: %s", r.status, r.err)
	}
	if err := os.WriteFile(filepath.Join(dir, name), []byte(r.out), 0o666); err != nil {
		t.Fatal(err)
	}
}

// Each draft of a sheet of facts checks clean, passes, and fails without its policies.
func TestDraft(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", ".")
	saved(t, dir, "office.json", "ternrock-office.pcap", "--inside", "10.44.8.0/22")
	saved(t, dir, "calls.json", append(callsCapture(t, dir, 4), "--inside", "10.1.0.0/16")...)
	for i, sheet := range [][]string{
		{"--line", "18.3Mbit/s down, 4.1Mbit/s up", "--phones", "9"},
		{"--line", "18.3Mbit/s down, 4.1Mbit/s up", "--phones", "9", "--classes", "voice,video,business,bulk"},
		{"--line", "50Mbit/s down, 10Mbit/s up", "--erlangs", "3", "--codec", "g729", "--classes", "business,bulk"},
		{"--line", "6Mbit/s down, 2Mbit/s up", "--phones", "4", "--codec", "g729", "--framing", "aal5-pppoe-llc", "--classes", "bulk"},
		{"--line", "40Mbit/s up, 40Mbit/s down", "--phones", "60", "--codec", "g722", "--framing", "ethernet-vlan", "--classes", "video,bulk"},
		{"--up", "20Mbit/s", "--down", "34Mbit/s", "--calls", "12", "--inside", "10.9.0.0/16,10.11.4.0/24", "--classes", "voice,video"},
		{"--line", "18.3Mbit/s down, 4.1Mbit/s up", "--phones", "9", "--survey", "office.json", "--inside", "10.44.8.0/22"},
		{"--line", "30Mbit/s down, 12Mbit/s up", "--survey", "calls.json"},
		{"--line", "12Mbit/s down, 12Mbit/s up", "--survey", "office.json", "--erlangs", "1.5", "--classes", "voice,business,bulk"},
		{"--line", "60Mbit/s down, 20Mbit/s up", "--survey", "calls.json", "--phones", "30", "--codec", "g729"},
	} {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			t.Parallel()
			name := fmt.Sprintf("sheet%d.yaml", i)
			if r := imbrel(t, dir, "", nil, append([]string{"draft", name}, sheet...)...); r.status != 0 {
				t.Fatalf("exit %d: %s", r.status, r.err)
			}
			if r := imbrel(t, dir, "", nil, "check", name, "--fail-on", "warning"); r.status != 0 {
				t.Errorf("check: exit %d: %s%s", r.status, r.out, r.err)
			}
			if r := imbrel(t, dir, "", nil, "rehearse", name); r.status != 0 || !strings.Contains(r.out, "PASS") || strings.Contains(r.out, "are ruined") {
				t.Errorf("rehearse: exit %d: %s%s", r.status, r.out, r.err)
			}
			if r := imbrel(t, dir, "", nil, "rehearse", name, "--without-policy"); r.status != 1 {
				t.Errorf("without the policies: exit %d: %s%s", r.status, r.out, r.err)
			}
		})
	}
}

// The cookbook begins with what survey and draft write of the demo's capture, and of a line test.
func TestDraftsOfTheCookbook(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", ".")
	saved(t, dir, "office.json", "ternrock-office.pcap", "--inside", "10.44.8.0/22")
	for name, args := range map[string][]string{
		"from-a-capture":   {"--line", "18.3Mbit/s down, 4.1Mbit/s up", "--phones", "9", "--survey", "office.json", "--inside", "10.44.8.0/22"},
		"from-a-line-test": {"--line", "18.3Mbit/s down, 4.1Mbit/s up", "--phones", "9", "--codec", "g711", "--classes", "voice,video,business,bulk"},
	} {
		if r := imbrel(t, dir, "", nil, append([]string{"draft", "-"}, args...)...); r.status != 0 || r.out != example(t, "cookbook/"+name+".yaml") {
			t.Errorf("%s: exit %d, or not what is in the cookbook:\n%s%s", name, r.status, r.out, r.err)
		}
	}
}

// Facts that contradict each other, or are none, are refused with the reason.
func TestDraftRefuses(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for name, text := range map[string]string{"none.json": "{}", "idle.json": `{"measured":1,"runs":[{"up":{"rate_bps":0},"down":{"rate_bps":0}}]}`, "old.json": `{"survey":9}`} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	line := []string{"--line", "18Mbit/s down, 4Mbit/s up"}
	for _, c := range []struct {
		args []string
		want string
	}{
		{nil, "draft needs --up, --down, --calls"},
		{line, "draft needs --calls"},
		{[]string{"--line", "18Mbit/s"}, "write both rates, each with its direction"},
		{[]string{"--line", "18Mbit/s down, 4Mbit/s down"}, "write both rates"},
		{append(line, "--up", "3Mbit/s", "--phones", "2"), "--up has no effect with --line"},
		{append(line, "--phones", "4", "--calls", "3"), "--calls has no effect with --phones"},
		{append(line, "--phones", "4", "--erlangs", "3"), "--erlangs has no effect with --phones"},
		{append(line, "--erlangs", "-1"), "it is a number of more than 0"},
		{append(line, "--phones", "400"), "this line has room for"},
		{append(line, "--phones", "4", "--classes", "vidoe"), "did you mean `video`"},
		{append(line, "--phones", "4", "--inside", "10.1"), "this is not a prefix"},
		{append(line, "--phones", "4", "--survey", "none.json"), "is not a saved survey"},
		{append(line, "--phones", "4", "--survey", "old.json"), "is not a saved survey"},
		{[]string{"--measured", "none.json", "--phones", "2"}, "is not a measured line"},
		{[]string{"--measured", "idle.json", "--phones", "2"}, "no run measured both directions"},
		{[]string{"--measured", "gone.json", "--phones", "2"}, "gone.json does not exist"},
		{append(line, "--measured", "idle.json", "--phones", "2"), "--line has no effect with --measured"},
		{[]string{"--line", "0bit/s down, 4Mbit/s up", "--phones", "2"}, "--line"},
	} {
		if r := imbrel(t, dir, "", nil, append([]string{"draft", "x.yaml"}, c.args...)...); r.status != 2 || !strings.Contains(r.err, c.want) {
			t.Errorf("%v: exit %d: %s; want %q", c.args, r.status, r.err, c.want)
		}
	}
	if _, err := os.Stat(filepath.Join(dir, "x.yaml")); err == nil {
		t.Error("a file is written all the same")
	}
}

// A measured line gives the rates, the framing, the delay and the queue.
func TestDraftOfAMeasuredLine(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	way := func(rate int) string {
		return fmt.Sprintf(`{"full":true,"rate_bps":%d,"framing":"ethernet-pppoe","queue_ms":80.2,"delay_ms":4.26}`, rate)
	}
	text := `{"measured":1,"to":"192.0.2.9:862","runs":[{"at":"2026-03-02T09:00:00Z","up":` + way(9_876_543) + `,"down":` + way(48_765_432) + `},{"at":"2026-03-02T17:00:00Z","up":` + way(9_912_345) + `,"down":` + way(41_234_567) + `}]}`
	if err := os.WriteFile(filepath.Join(dir, "line.json"), []byte(text), 0o666); err != nil {
		t.Fatal(err)
	}
	r := imbrel(t, dir, "", nil, "draft", "-", "--measured", "line.json", "--phones", "6")
	for _, want := range []string{"sends: 9.87Mbit/s, receives: 41.2Mbit/s, delay: 4.3ms, buffer: 81ms", "framing: ethernet-pppoe", "the worst of 2 measurements, out at 2026-03-02 09:00 and in at 2026-03-02 17:00"} {
		if !strings.Contains(r.out, want) {
			t.Errorf("exit %d: no %q in\n%s%s", r.status, want, r.out, r.err)
		}
	}
}

// callsCapture rehearses calls with reports, and returns the captures of what passed an interface of the site.
func callsCapture(t *testing.T, dir string, calls int) []string {
	t.Helper()
	text := fmt.Sprintf(`imbrel: 1
network:
  nodes:
    - name: site
      interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.1.0.0/24]}, {name: line, rate: 100Mbit/s}]
    - name: far
      interfaces: [{name: line, rate: 100Mbit/s}, {name: lan, rate: 1Gbit/s, subnets: [10.2.0.0/24]}]
  links: [{ends: [{at: site/line}, {at: far/line}], delay: 5ms, loss: 2%%}]
rehearsals:
  - name: calls
    lasts: 20s
    traffic:
      - {name: calls, calls: %d, codec: g711, rtcp: true, between: [10.1.0.20, 10.2.0.20], from-port: 17000, to-port: 18000}
      - {name: desk, tcp: 1, app-rate: 800kbit/s, from: 10.2.0.30, to: 10.1.0.30, from-port: 5432}
      - {name: copy, tcp: 1, app-rate: 400kbit/s, from: 10.1.0.31, to: 10.2.0.31, to-port: 873}
`, calls)
	if err := os.WriteFile(filepath.Join(dir, "calls.yaml"), []byte(text), 0o666); err != nil {
		t.Fatal(err)
	}
	if r := imbrel(t, dir, "", nil, "rehearse", "calls.yaml", "--capture-out", "seen"); r.status > 1 {
		t.Fatalf("exit %d: %s", r.status, r.err)
	}
	return []string{filepath.Join("seen", "site", "lan-in.pcapng"), filepath.Join("seen", "site", "lan-out.pcapng")}
}
