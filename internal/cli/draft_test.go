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
		{"--line", "100Mbit/s up, 100Mbit/s down", "--phones", "60", "--codec", "g722", "--framing", "ethernet-vlan", "--classes", "video,bulk"},
		{"--up", "20Mbit/s", "--down", "34Mbit/s", "--calls", "12", "--inside", "10.9.0.0/16,10.11.4.0/24", "--classes", "voice,video"},
		{"--line", "18.3Mbit/s down, 4.1Mbit/s up", "--phones", "9", "--survey", "office.json", "--inside", "10.44.8.0/22"},
		{"--line", "30Mbit/s down, 12Mbit/s up", "--survey", "calls.json"},
		{"--line", "12Mbit/s down, 12Mbit/s up", "--survey", "office.json", "--erlangs", "1.5", "--classes", "voice,business,bulk"},
		{"--line", "200Mbit/s down, 40Mbit/s up", "--survey", "calls.json", "--phones", "30", "--codec", "g729"},
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
