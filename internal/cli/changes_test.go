package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/changes"
)

// Each edit of a file, and what of its meaning is said to change, with an example that
// explain agrees with; what is only written in another way changes nothing.
func TestChanges(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "old.yaml", checkable)
	for _, c := range []struct{ old, now, says string }{
		{"", "# a remark\n", "Nothing changes."},
		{"[{app: sensor}, {to-port: 8000}]", "[{to-port: 8000-8000}, {app: [sensor]}]", "Nothing changes."},
		{"rate: 600kbit/s", "rate: 0.6Mbit/s", "Nothing changes."},
		{"      - {class: voice, mark: ef, priority: 1, police: {rate: 600kbit/s, burst: 4kB}}\n      - {class: bulk, mark: {map: down}, at-least: 20%, at-most: {rate: 90%, when: work}}\n",
			"      - {class: bulk, mark: {map: down}, at-least: 20%, at-most: {rate: 90%, when: work}}\n      - {class: voice, mark: ef, priority: 1, police: {rate: 600kbit/s, burst: 4kB}}\n",
			"voice → bulk for example from 10.1.1.1, dscp ef, of www.sensor.example: was promised 600 kbit/s, priority 1, marked EF; is promised 4.20 Mbit/s, marked by map down"},
		{"rate: 600kbit/s", "rate: 700kbit/s", "voice upper limit 600 kbit/s 700 kbit/s"},
		{"mark: ef, priority: 1", "mark: cs5, priority: 1", "west/wan out and east/wan out, policy `up` class was is ─"},
		{"to-port: 8000", "to-port: 8000-8001", "rest → bulk for example"},
		{"{dscp: ef, from: phones}", "{dscp: [ef, af41], from: phones}", "dscp af41: was promised"},
		{"when: work", "when: {starts: {load: 85%, for: 3s}, ends: {load: 60%, for: 10s}}", "bulk upper limit 8.10 Mbit/s, while the time is 08:00 to 17:00 in Europe/Oslo 8.10 Mbit/s, while the load has reached 7.65 Mbit/s"},
		{"  - {policy: edge, at: west/lan in}\n", "", "west/lan in: the policy `edge` is attached no longer"},
		{"lan in}\n", "lan in}\n  - {policy: edge, at: east/lan in}\n", "east/lan in: the policy `edge` is attached now"},
		{"delay: 5ms", "delay: 50ms", "network.links.west/wan to east/wan.delay: 5ms → 50ms"},
		{"voice loss = 0", "voice loss <= 1%", "rehearsals.run.expect.voice loss = 0 is gone rehearsals.run.expect.voice loss <= 1% is new"},
		{"shape: 9Mbit/s", "shape: 11Mbit/s", "New findings new.yaml:11: error shape-above-link"},
		{"treat: [{class: voice, mark: ef}", "treat: [{class: bulk, block: true}, {class: voice, mark: ef}", "bulk new - blocked"},
		{"      - {class: rest, at-least: 20%}", "      - {class: rest, at-least: 20%, treat: [{class: voice, at-most: 10%}, {class: rest}]}", "rest → rest/rest for example"},
	} {
		text := strings.Replace(checkable, c.old, c.now, 1)
		put(t, dir, "new.yaml", text)
		r := imbrel(t, dir, "", nil, "changes", "old.yaml", "new.yaml")
		flat := strings.Join(strings.Fields(r.out), " ")
		if r.status != 0 || !strings.Contains(flat, c.says) {
			t.Errorf("%q for %q: exit %d, want %q\n%s%s", c.now, c.old, r.status, c.says, r.out, r.err)
		}
		want := 1
		if c.says == "Nothing changes." {
			want = 0
		}
		if r := imbrel(t, dir, "", nil, "changes", "old.yaml", "new.yaml", "--quiet"); r.status != want || r.out != "" {
			t.Errorf("%q for %q: --quiet exits with %d and says %q", c.now, c.old, r.status, r.out)
		}
	}
	based := strings.Replace(checkable, "at-most: {rate: 90%, when: work}}", "at-most: 60%, treat: [{class: voice, at-most: 50%}, {class: rest}]}", 1)
	put(t, dir, "old.yaml", based)
	put(t, dir, "new.yaml", strings.Replace(based, "{class: voice, at-most: 50%}", "{class: voice, priority: 1, at-most: 50%}", 1))
	if r := imbrel(t, dir, "", nil, "changes", "old.yaml", "new.yaml"); !strings.Contains(strings.Join(strings.Fields(r.out), " "), "bulk/voice, upper limit: its 50% is of the promise around it, because it now has priority") {
		t.Errorf("a base that changes is not said:\n%s%s", r.out, r.err)
	}
}

// TestNothingIsPassedOver: edits that ruin calls, and that no interface shows.
func TestNothingIsPassedOver(t *testing.T) {
	t.Parallel()
	for name, says := range map[string]string{"changes-loss": "network.links.west/wan to east/wan.loss: - → 30%", "changes-map": "policies.phone-port.treat.phone-video.police.red.mark.map: af41 as af42 → af41 as af43"} {
		if r := imbrel(t, ".", "", nil, "changes", broken+"/"+name+"-old.yaml", broken+"/"+name+"-new.yaml"); !strings.Contains(strings.Join(strings.Fields(r.out), " "), says) {
			t.Errorf("%s: no %q in %s%s", name, says, r.out, r.err)
		}
	}
}

// The flows of a capture and the rehearsals of both files are compared.
func TestChangesOfCaptureAndRehearsal(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", ".")
	text, err := os.ReadFile(filepath.Join(dir, "ternrock.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	const archive = "    except: [{to: 10.44.64.99}]"
	if !strings.Contains(string(text), archive) {
		t.Fatal("the demo has no archive")
	}
	put(t, dir, "new.yaml", strings.Replace(strings.Replace(string(text), archive, "", 1), "match: [{app: chart-sync}]", "match: [{app: chart-sync}, {to: 10.44.64.99}]", 1))
	r := imbrel(t, dir, "", nil, "changes", "ternrock.yaml", "new.yaml", "--capture", "ternrock-office.pcap", "--rehearse", "-o", "json")
	got := parsed[changes.Result](t, r.out)
	sums := map[string]int{}
	for _, name := range []string{"ternrock.yaml", "new.yaml"} {
		e := parsed[struct {
			Flows []struct {
				At []struct{ Interface, Class string }
			}
		}](t, imbrel(t, dir, "", nil, "explain", name, "--capture", "ternrock-office.pcap", "-o", "json").out)
		for _, f := range e.Flows {
			for _, at := range f.At {
				if at.Interface == "ternrock/radio" && at.Class == "charts" {
					sums[name]++
				}
			}
		}
	}
	if got.Flows == nil || len(got.Flows.Moves) == 0 || got.Flows.Changed != sums["new.yaml"]-sums["ternrock.yaml"] || got.Flows.Moves[0].From != "rest" || got.Flows.Moves[0].To != "charts" {
		t.Errorf("%+v, want %d flows", got.Flows, sums["new.yaml"]-sums["ternrock.yaml"])
	}
	if len(got.Runs) == 0 || len(got.Runs[0].Moved) == 0 || got.Runs[0].Old.Verdict != "pass" {
		t.Errorf("the rehearsals are not compared: %s", r.err)
	}
	for args, want := range map[string]string{"ternrock.yaml": "wants two policy files", "- -": "one of the two can be standard input", "ternrock.yaml none.yaml": "does not exist", "a --git": "is not merged", "a b --git": "seven arguments", "ternrock.yaml new.yaml --capture none.pcap": "none.pcap"} {
		if r := imbrel(t, dir, "", nil, append([]string{"changes"}, strings.Fields(args)...)...); r.status != 2 || !strings.Contains(r.err, want) {
			t.Errorf("changes %s: exit %d: %s; want %q", args, r.status, r.err, want)
		}
	}
}

// A review in git shows the meaning; an included file of the old side is the one of its
// revision.
func TestChangesInGit(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("git is not installed")
	}
	dir := t.TempDir()
	git := func(args ...string) string {
		t.Helper()
		c := exec.Command("git", append([]string{"-c", "user.name=a", "-c", "user.email=a@site.example", "-c", "diff.imbrel.command='" + program + "' changes --git"}, args...)...)
		c.Dir = dir
		out, err := c.CombinedOutput()
		if err != nil {
			t.Fatalf("git %v: %v\n%s", args, err, out)
		}
		return strings.Join(strings.Fields(string(out)), " ")
	}
	const app = "apps: {sensor: {server-name: [\"*.sensor.example\"]}}\n"
	text := strings.Replace(checkable, app, "include: [apps.yaml]\n", 1)
	git("init", "-q")
	if err := os.Mkdir(filepath.Join(dir, "site"), 0o777); err != nil {
		t.Fatal(err)
	}
	put(t, dir, ".gitattributes", "*.yaml diff=imbrel\napps.yaml -diff=imbrel\n")
	put(t, dir, "site/p.yaml", text)
	put(t, dir, "site/apps.yaml", "imbrel: 1\n"+app)
	git("add", "-A")
	git("commit", "-qm", "first")
	put(t, dir, "site/p.yaml", text+"# a remark\n")
	put(t, dir, "site/apps.yaml", "imbrel: 1\napps: {sensor: {tcp: 8100}}\n")
	moved := "bulk → rest for example"
	if out := git("diff", "--", "site/p.yaml"); !strings.Contains(out, moved) || !strings.Contains(out, "rest → bulk") {
		t.Errorf("what an included file changes is not seen: %s", out)
	}
	git("commit", "-qam", "second")
	put(t, dir, "site/apps.yaml", "imbrel: 1\napps: {sensor: {tcp: 8200}}\n")
	if out := git("diff", "HEAD~1", "HEAD", "--", "site/p.yaml"); !strings.Contains(out, moved) || !strings.Contains(out, "8100") {
		t.Errorf("a difference of two revisions: %s", out)
	}
	put(t, dir, "site/new.yaml", text)
	git("add", "-A")
	if out := git("diff", "--cached", "--", "site/new.yaml"); !strings.Contains(out, "west/wan out and east/wan out: the policy `up` is attached now") {
		t.Errorf("a new file: %s", out)
	}
	put(t, dir, "site/p.yaml", "imbrel: 1\nclases: []\n")
	if out := git("diff", "--", "site/p.yaml"); !strings.Contains(out, "did you mean `classes`") {
		t.Errorf("a file that cannot be read: %s", out)
	}
}
