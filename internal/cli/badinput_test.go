package cli_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"imbrel.example/imbrel/examples"
)

// change returns the demo's policy with one piece of text replaced.
func change(t *testing.T, old, new string) string {
	t.Helper()
	text, err := examples.FS.ReadFile("ternrock.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(string(text), old) {
		t.Fatalf("the demo has no %q", old)
	}
	return strings.Replace(string(text), old, new, 1)
}

// One clear message with a place, exit 2, no panic.
func TestBadPolicies(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ text, want string }{
		"empty":                 {"", "the file is empty"},
		"only a comment":        {"# nothing\n", "the file is empty"},
		"binary":                {"\x7fELF\x00\x01\x02", "not a text file"},
		"not UTF-8":             {"imbrel: \xff\xfe", "not a text file"},
		"a list":                {"- imbrel: 1\n", "a list is not allowed here"},
		"brackets without end":  {strings.Repeat("[", 1_000_000), "exceeded max depth"},
		"nested":                {"imbrel: " + strings.Repeat("[", 500) + strings.Repeat("]", 500), "nested more than 100 deep"},
		"aliases":               {"a: &a [1,1]\nb: [*a,*a]\n", "the alias `*a` is not part of the language"},
		"a tag":                 {"imbrel: !!int 1\n", "tag"},
		"two documents":         {"imbrel: 1\n---\nimbrel: 1\n", "a second document"},
		"no version":            {"title: x\n", "needs the key `imbrel`"},
		"another version":       {"imbrel: 2\n", `"2" is not a whole number from 1 to 1`},
		"a key twice":           {change(t, "title:", "imbrel: 1\ntitle:"), "key `imbrel` is given twice"},
		"an unknown key":        {change(t, "at-least: 30%", "at-leest: 30%"), "stdin:34:41: unknown key `at-leest`\n"},
		"the nearest word":      {change(t, "at-least: 30%", "at-leest: 30%"), "did you mean `at-least`?"},
		"too much for each":     {change(t, "at-least: 30%, ", "each: source, at-most: 1Mbit/s, treat: [{class: voice, at-least: 800kbit/s}, {class: rest, at-least: 30%}], "), "with at-least 30% (300kbit/s) for `rest` the promises within `radar` come to 1.1Mbit/s, and each source may have 1Mbit/s at ternrock/radio out"},
		"a weight of 0":         {change(t, "at-least: 30%", "weight: 0"), `"0" is not a whole number from 1 to 1000000`},
		"ten thousand levels":   {change(t, "at-least: 30%", "treat: ["+strings.Repeat("{class: radar, treat: [", 10_000)+strings.Repeat("]}", 10_000)+"]"), "exceeded max depth"},
		"policies in policies":  {chain(10_000, "{name: p%d, treat: [{class: v, at-least: 10%%}, {class: rest, inside: p%d}]}"), "this comes to 33 levels"},
		"two to the hundredth":  {chain(100, "{name: p%d, treat: [{class: v, inside: p%[2]d}, {class: rest, inside: p%[2]d}]}"), "levels and 196606 entries; the most are 32 and 100000"},
		"a ramp too long":       {change(t, "rate: 2.4Mbit/s, packet", "rate: {from: 1Mbit/s, to: 2Mbit/s, over: 40s}, packet"), "the ramp of `radar-feed` takes 40s, and the traffic lasts 30s"},
		"calls that fall":       {change(t, "calls: 6", "calls: {from: 6, to: 2, over: 10s}"), "a ramp from 6 to 2 calls does not rise"},
		"all of it speech":      {change(t, "calls: 6", "speech: 100%, calls: 6"), "speech of 100 % of the time is none, or all"},
		"calls and erlangs":     {change(t, "calls: 6", "erlangs: 3, calls: 6"), "the traffic `pilot-calls` is of 2 kinds"},
		"erlangs without time":  {change(t, "calls: 6", "erlangs: 3"), "`erlangs` needs the key `holding` beside it"},
		"on without on-off":     {change(t, "packet: 900B", "packet: 900B, on: 1s"), "`on` means something to arrivals of the kind on-off alone"},
		"on-off without off":    {change(t, "packet: 900B", "packet: 900B, arrivals: on-off, on: 1s"), "`arrivals: on-off` needs the key `off` beside it"},
		"a warm-up of all":      {change(t, "lasts: 30s", "lasts: 30s\n    warm-up: 30s"), "the warm-up takes all of the rehearsal"},
		"a small window":        {change(t, "tcp: 4", "tcp: 4, receive-window: 1kB"), "`receive-window` cannot be 1kB"},
		"tcp without data":      {change(t, "tcp: 4", "tcp: 4, packet: 50B"), "an IP packet cannot have 50 bytes"},
		"a key of a video":      {change(t, "tcp: 4", "tcp: 4, frames: 30"), "`frames` means nothing to `tcp`"},
		"losses too dense":      {change(t, "delay: 4ms", "delay: 4ms\n      loss: {part: 90%, burst: 2}"), "losses come in longer bursts than 2"},
		"a burst below one":     {change(t, "delay: 4ms", "delay: 4ms\n      loss: {part: 1%, burst: 0.5}"), "is not a number of packets from 1"},
		"a capture backwards":   {change(t, "capture: ternrock-office.pcap", "speed: 0%, capture: ternrock-office.pcap"), "is not a percentage from 0.01%"},
		"a rate without unit":   {change(t, "11.4Mbit/s", "11.4"), `"11.4" has no unit`},
		"a rate of 0":           {change(t, "11.4Mbit/s", "0Mbit/s"), "the least is 500bit/s"},
		"a rate of 10^30":       {change(t, "11.4Mbit/s", "1"+strings.Repeat("0", 30)+"bit/s"), "the most is 400Gbit/s"},
		"a rate of 1e30":        {change(t, "11.4Mbit/s", "1e30bit/s"), "is not a unit of a rate"},
		"bytes for bits":        {change(t, "11.4Mbit/s", "11.4MB"), `"MB" is not a unit of a rate`},
		"an unknown class":      {change(t, "{class: radar, ", "{class: radra, "), "there is no class `radra`"},
		"a class twice":         {change(t, "  - name: radar", "  - name: voice"), "two classes are named `voice`"},
		"treated twice":         {change(t, "{class: radar,  ", "{class: voice,  "), "the class `voice` is treated twice"},
		"rest first":            {change(t, "{class: radar,      mark: af41", "{class: rest,      mark: af41"), "`rest` takes everything"},
		"more than the whole":   {change(t, "at-least: 30%", "at-least: 80%"), "with at-least 15% (1.71Mbit/s) for `camera` the promises come to 16.518Mbit/s, and there is 11.4Mbit/s at ternrock/radio out"},
		"more than the rate":    {change(t, "at-least: 30%", "at-least: 11Mbit/s"), "come to 18.398Mbit/s, and there is 11.4Mbit/s at ternrock/radio out"},
		"promise above ceiling": {change(t, "at-most: 60%", "at-most: 10%"), "at-least 20% (2.28Mbit/s) is above its at-most 1.14Mbit/s at ternrock/radio out"},
		"priority and promise":  {change(t, "priority: 1, police", "priority: 1, at-least: 5%, police"), "`at-least` adds nothing"},
		"a group in itself":     {change(t, "[pilot-phones, harbour-phones]", "[pilot-phones, phones]"), "the group `phones` contains itself"},
		"an unknown group":      {change(t, "to: phones}", "to: fones}"), "there is no address or group `fones`"},
		"host bits":             {change(t, "10.44.8.0/25", "10.44.8.1/25"), "the prefix is 10.44.8.0/25"},
		"a DSCP of 184":         {change(t, "mark: af41", "mark: 184"), "as a whole ToS byte 184 is DSCP 46, ef"},
		"attached to nothing":   {change(t, "at: ternrock/radio out", "at: ternrock/radoi out"), "did you mean `ternrock/radio`?"},
		"attached twice":        {change(t, "at: harbour/radio out", "at: ternrock/radio out"), "two policies at ternrock/radio out"},
		"no direction":          {change(t, "at: harbour/radio out", "at: harbour/radio"), "`harbour/radio` names no direction"},
		"three words":           {change(t, "at: harbour/radio out", "at: harbour/radio to out"), "is not an interface and a direction"},
		"blank place":           {change(t, "at: harbour/radio out", "at: \"  \""), "expected an interface and a direction"},
		"leads nowhere":         {change(t, "        - {name: radio, rate: 100Mbit/s, framing: ethernet}", "        - {name: radio, rate: 100Mbit/s}\n        - {name: spare, rate: 1Mbit/s}"), "the interface ternrock/spare leads nowhere"},
		"no link":               {change(t, "  links:\n    - ends: [{at: ternrock/radio, sends: 12Mbit/s}, {at: harbour/radio, sends: 34Mbit/s}]\n      delay: 4ms\n", ""), "leads nowhere"},
		"one end":               {change(t, ", {at: harbour/radio, sends: 34Mbit/s}", ""), "a link has two ends, not 1"},
		"an address nowhere":    {change(t, "between: [10.44.8.20, 10.44.64.20]", "between: [10.44.8.20, 192.0.2.1]"), "the address 192.0.2.1 is in no subnet"},
		"mixed versions":        {change(t, "between: [10.44.8.20, 10.44.64.20]", `between: [10.44.8.20, "2001:db8:44:64::1"]`), "different IP versions"},
		"same place":            {change(t, "between: [10.44.8.20, 10.44.64.20]", "between: [10.44.8.20, 10.44.8.21]"), "both addresses are at ternrock/lan"},
		"two kinds":             {change(t, "calls: 6,", "calls: 6, rate: 1Mbit/s,"), "is of 2 kinds"},
		"a key of another kind": {change(t, "calls: 6,", "calls: 6, arrivals: poisson,"), "`arrivals` means nothing to `calls`"},
		"a packet too small":    {change(t, "packet: 900B", "packet: 20B"), "cannot have 20 bytes"},
		"too many packets":      {change(t, "rate: 2.4Mbit/s, packet: 900B", "rate: 400Gbit/s, packet: 28B"), "the most is"},
		"a strange expectation": {change(t, "voice mos >= 4.2", "voice quality >= 4.2"), `"quality" is not a metric`},
		"an unknown subject":    {change(t, "voice mos >= 4.2", "voize mos >= 4.2"), "there is no class or traffic `voize`"},
		"a capture that is not": {change(t, "ternrock-office.pcap", "nothing.pcap"), "nothing.pcap does not exist"},
		"a folder named ..":     {change(t, "- name: harbour\n", "- name: ..\n"), "is not allowed here"},
		"ports backwards":       {change(t, "7400-7410", "7410-7400"), "runs backwards"},
	} {
		r := imbrel(t, t.TempDir(), c.text, nil, "rehearse", "-")
		if r.status != 2 || r.out != "" {
			t.Errorf("%s: exit %d, stdout %.80q; want 2 and nothing", name, r.status, r.out)
		}
		if !strings.Contains(r.err, c.want) {
			t.Errorf("%s: says\n%s\nwant %q", name, r.err, c.want)
		}
		if strings.Contains(r.err, "our own fault") {
			t.Errorf("%s: panics", name)
		}
	}
}

// A small file that comes to millions of entries is refused, not run.
func TestManyLargePolicies(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	b.WriteString(chain(14, "{name: p%d, treat: [{class: v, inside: p%[2]d}, {class: rest, inside: p%[2]d}]}"))
	b.WriteString("attach:\n")
	for i := range 100 {
		fmt.Fprintf(&b, "  - {policy: p0, at: a/w%d out}\n", i)
	}
	b.WriteString("network:\n  nodes:\n    - name: a\n      interfaces:\n")
	for i := range 100 {
		fmt.Fprintf(&b, "        - {name: w%d, rate: 10Mbit/s, subnets: [10.%d.0.0/16]}\n", i, i)
	}
	r := imbrel(t, t.TempDir(), b.String(), nil, "shares", "-")
	if want := "with this, the attached policies come to"; r.status != 2 || !strings.Contains(r.err, want) || strings.Count(r.err, want) != 1 {
		t.Errorf("exit %d, %s\nwant it to say once %q", r.status, r.err, want)
	}
}

// chain returns a file of policies of which each, as a format with its number and
// the next, has the next inside it.
func chain(n int, policy string) string {
	var b strings.Builder
	b.WriteString("imbrel: 1\nclasses: [{name: v, match: [{dscp: ef}]}]\npolicies:\n")
	for i := range n {
		fmt.Fprintf(&b, "  - "+policy+"\n", i, i+1)
	}
	fmt.Fprintf(&b, "  - {name: p%d, treat: [{class: rest}]}\n", n)
	return b.String()
}

// Two islands: every interface leads somewhere, but not to the other.
func TestANetworkWithoutARoute(t *testing.T) {
	t.Parallel()
	text := strings.ReplaceAll(pair, "SENDS", "10Mbit/s")
	links := text[strings.Index(text, "  links:"):strings.Index(text, "rehearsals:")]
	text = strings.Replace(text, links, "", 1)
	text = strings.ReplaceAll(text, "{name: wan, rate: 100Mbit/s}", "{name: wan, rate: 100Mbit/s, subnets: [SUBNET]}")
	text = strings.Replace(strings.Replace(text, "SUBNET", "10.8.0.0/24", 1), "SUBNET", "10.9.0.0/24", 1)
	r := imbrel(t, t.TempDir(), text+"    traffic: [{name: c, calls: 1, codec: g711, between: [10.1.0.1, 10.2.0.1]}]\n", nil, "rehearse", "-")
	if r.status != 2 || !strings.Contains(r.err, "no route through the network from node `west` to node `east`") {
		t.Errorf("exit %d: %s", r.status, r.err)
	}
}

// All errors at once, in the order of the file.
func TestAllErrorsAtOnce(t *testing.T) {
	t.Parallel()
	r := imbrel(t, t.TempDir(), "imbrel: 1\ntitel: x\nclasses:\n  - {name: a, match: [{from: nobody}]}\npolicies:\n  - {name: p, treat: [{class: b}]}\n", nil, "rehearse", "-")
	last := -1
	for _, want := range []string{"stdin:2:1: unknown key `titel`", "stdin:4:30: there is no address or group `nobody`", "stdin:6:31: there is no class `b`"} {
		at := strings.Index(r.err, want)
		if at <= last {
			t.Errorf("%q is missing or out of order in\n%s", want, r.err)
		}
		last = at
	}
}

func TestBadFilesAndFlags(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", ".")
	pcap, err := os.ReadFile(filepath.Join(dir, "ternrock-office.pcap"))
	if err != nil {
		t.Fatal(err)
	}
	capture := func(name string, data []byte) string {
		put(t, dir, name, string(data))
		put(t, dir, name+".yaml", change(t, "ternrock-office.pcap", name))
		return name + ".yaml"
	}
	link := bytes.Clone(pcap)
	link[20] = 147
	long := bytes.Clone(pcap)
	copy(long[32:], "\xff\xff\xff\x7f\xff\xff\xff\x7f")
	big := put(t, dir, "big.yaml", "")
	if err := os.Truncate(big, 200<<20); err != nil {
		t.Fatal(err)
	}
	nested := put(t, dir, "nested.yaml", strings.Repeat("a: [", 1<<20))
	for name, c := range map[string]struct {
		args []string
		want string
	}{
		"missing file":         {[]string{"rehearse", "none.yaml"}, "none.yaml does not exist"},
		"a directory":          {[]string{"rehearse", "."}, ". is a directory"},
		"200 MB":               {[]string{"rehearse", big}, "larger than 4 MiB"},
		"4 MB of nesting":      {[]string{"rehearse", nested}, "nested.yaml"},
		"no file":              {[]string{"rehearse"}, "wants a policy file"},
		"unknown rehearsal":    {[]string{"rehearse", "ternrock.yaml", "frog"}, "there is no rehearsal `frog`; did you mean `fog`? there are: fog"},
		"unknown command":      {[]string{"rehears"}, "did you mean `rehearse`"},
		"unknown flag":         {[]string{"rehearse", "--sed", "1", "ternrock.yaml"}, "there is no flag --sed; did you mean --seed?"},
		"unknown output":       {[]string{"rehearse", "ternrock.yaml", "-o", "xml"}, "the output is text, json, junit"},
		"both and without":     {[]string{"rehearse", "ternrock.yaml", "--both", "--without-policy"}, "none of the others can be"},
		"captures of two runs": {[]string{"rehearse", "ternrock.yaml", "--both", "--capture-out", "x"}, "leave --both out"},
		"a capture of nothing": {[]string{"rehearse", capture("empty.pcap", nil)}, "is not a capture"},
		"a capture of junk":    {[]string{"rehearse", capture("junk.pcap", []byte("this is no capture at all, but it has some bytes"))}, "is not a pcap or pcapng capture"},
		"a header cut":         {[]string{"rehearse", capture("head.pcap", pcap[:20])}, "cut short"},
		"a capture cut":        {[]string{"rehearse", capture("cut.pcap", pcap[:40_001])}, "it is cut short"},
		"a link type unknown":  {[]string{"rehearse", capture("link.pcap", link)}, "link of type 147"},
		"a packet of 2 GB":     {[]string{"rehearse", capture("long.pcap", long)}, "cut short"},
		"captures into a file": {[]string{"rehearse", "ternrock.yaml", "--capture-out", "ternrock.yaml"}, "cannot make the folder"},
	} {
		r := imbrel(t, dir, "", nil, c.args...)
		if r.status != 2 || !strings.Contains(r.err, c.want) {
			t.Errorf("%s: exit %d, says %q; want 2 and %q", name, r.status, r.err, c.want)
		}
	}
}

// What is included is a regular file within the folder of the first file, or in one that is
// allowed; what is refused is not shown.
func TestIncludesStayInTheirFolder(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	const secret = "SECRET-LINE"
	put(t, dir, "outside.yaml", "imbrel: 1\ngroups: {far: [10.9.0.0/16]}\n")
	put(t, dir, "secret.txt", secret+": [\n")
	put(t, dir, "in/near.yaml", "imbrel: 1\ngroups: {near: [10.8.0.0/16]}\n")
	put(t, dir, "in/sub/deep.yaml", "imbrel: 1\ninclude: [../near.yaml]\n")
	base := strings.Replace(crossingWith(bothEnds, "7.6Mbit/s", anyVoice), "imbrel: 1\n", "imbrel: 1\ninclude: [INCLUDED]\n", 1)
	if err := exec.Command("mkfifo", filepath.Join(dir, "in/pipe.yaml")).Run(); err != nil {
		t.Skip("this system has no named pipes: ", err)
	}
	for link, to := range map[string]string{"in/link.yaml": "../outside.yaml", "in/own.yaml": "near.yaml", "in/leak.yaml": "../secret.txt"} {
		if err := os.Symlink(to, filepath.Join(dir, link)); err != nil {
			t.Fatal(err)
		}
	}
	for included, want := range map[string]string{
		"near.yaml": "", "sub/deep.yaml": "", "own.yaml": "", "./sub/../near.yaml": "",
		"../outside.yaml": "is outside the folder", "../secret.txt": "is outside the folder", "link.yaml": "is outside the folder", "leak.yaml": "is outside the folder",
		"/etc/hostname": "is outside the folder", "pipe.yaml": "is a pipe or a device", "sub": "is a directory", "/dev/zero": "is outside the folder", "none.yaml": "does not exist",
		filepath.Join(dir, "in/near.yaml"): "",
	} {
		put(t, dir, "in/first.yaml", strings.Replace(base, "INCLUDED", included, 1))
		r := imbrel(t, dir, "", nil, "shares", "in/first.yaml")
		switch {
		case want == "" && r.status != 0:
			t.Errorf("%s: exit %d: %s", included, r.status, r.err)
		case want != "" && (r.status != 2 || !strings.Contains(r.err, want) || strings.Contains(r.err, secret)):
			t.Errorf("%s: exit %d: %s; want %q", included, r.status, r.err, want)
		}
	}
	for _, included := range []string{"../outside.yaml", "link.yaml"} {
		put(t, dir, "in/first.yaml", strings.Replace(base, "INCLUDED", included, 1))
		if r := imbrel(t, dir, "", nil, "shares", "in/first.yaml", "--include-from", "."); r.status != 0 && included[0] == '.' {
			t.Errorf("%s allowed: exit %d: %s", included, r.status, r.err)
		}
	}
	// A capture that a policy names is a regular file too.
	piped := strings.Replace(base, "include: [INCLUDED]\n", "", 1)
	piped = strings.Replace(piped, "{name: up, rate: 12Mbit/s, packet: 1500B, from: 10.1.0.9, to: 10.2.0.9}", "{name: up, capture: pipe.yaml, enters: west/lan}", 1)
	put(t, dir, "in/first.yaml", piped)
	if r := imbrel(t, dir, "", nil, "rehearse", "in/first.yaml"); r.status != 2 || !strings.Contains(r.err, "is a pipe or a device") {
		t.Errorf("a capture that is a pipe: exit %d: %s", r.status, r.err)
	}
}

// Flags say what is wrong in people's words, numbers are decimal, an empty value and flags
// without effect are refused, and what is asked for is followed.
func TestManners(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for _, name := range examples.Demo {
		data, err := examples.FS.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		put(t, dir, name, string(data))
	}
	ask := func(more ...string) []string {
		return append([]string{"explain", "ternrock.yaml", "--from", "10.44.8.20", "--to", "10.44.64.20"}, more...)
	}
	for _, c := range []struct {
		args   []string
		status int
		want   string
	}{
		{[]string{"rehearse", "ternrock.yaml", "--seed", "x"}, 2, "--seed x: it is a whole number"},
		{[]string{"rehearse", "ternrock.yaml", "--seed", "-1"}, 2, "--seed -1: it is a whole number"},
		{[]string{"rehearse", "ternrock.yaml", "--seed", "010", "-o", "json"}, 0, `"seed":10,`},
		{[]string{"rehearse", "ternrock.yaml", "--all=x"}, 2, "this flag takes no value"},
		{[]string{"rehearse", "ternrock.yaml", "--class="}, 2, "--class: the value is empty"},
		{[]string{"rehearse", "ternrock.yaml", "--class", "voice, charts", "--at", "ternrock/radio"}, 0, "charts"},
		{[]string{"rehearse", "ternrock.yaml", "--every="}, 2, "--every: the value is empty"},
		{[]string{"rehearse", "ternrock.yaml", "--every", "1ns"}, 2, "at most 100000 steps"},
		{[]string{"rehearse", "ternrock.yaml", "--fail-on", "x"}, 2, "failure and warning"},
		{[]string{"rehearse", "ternrock.yaml", "-o", "json", "--packets"}, 2, "--packets has no effect with -o json"},
		{[]string{"rehearse", "ternrock.yaml", "--both", "--hops"}, 2, "--hops has no effect with --both"},
		{[]string{"rehearse", "ternrock.yaml", "--without-policy", "--suggest"}, 2, "--suggest has no effect"},
		{[]string{"shares", "ternrock.yaml", "--busy="}, 2, "--busy: the value is empty"},
		{[]string{"help", "nothing"}, 2, "there is no command `nothing`"},
		{[]string{"help", "shares"}, 0, "imbrel shares FILE"},
		{[]string{"shars"}, 2, "did you mean `shares`?"},
		{ask("--length", "28"), 0, "28 bytes"},
		{ask("--protocol", "tcp", "--length", "40"), 0, "40 bytes"},
		{ask("--protocol", "tcp", "--length", "39"), 2, "40 to 65535"},
		{ask("--to-port", "x"), 2, "--to-port x: it is a whole number from 0 to 65535"},
		{ask("--to-port", "010"), 0, "port 10"},
		{ask("--top", "3"), 2, "--top has no effect with one packet"},
		{[]string{"explain", "--apps", "--from", "10.1.1.1"}, 2, "--from has no effect with --apps"},
	} {
		r := imbrel(t, dir, "", nil, c.args...)
		if r.status != c.status || !strings.Contains(r.out+r.err, c.want) || strings.Contains(r.err, "strconv") {
			t.Errorf("%v: exit %d; want %d and %q\n%.400s%s", c.args, r.status, c.status, c.want, r.out, r.err)
		}
	}
}

// What is wrong in included files is told with that of the file itself, the files in the
// order in which they are read.
func TestErrorsOfAllFilesAtOnce(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "a.yaml", "imbrel: 1\ngroups: {far: [10.9.0.0/16\n")
	put(t, dir, "b.yaml", "imbrel: 1\nclasses:\n  - {name: v, match: [{from: nobody}], odd: 1}\n")
	put(t, dir, "c.yaml", "imbrel: 1\nclasses:\n  - {name: \x07w, match: [{dscp: ef}]}\n")
	put(t, dir, "sound.yaml", "imbrel: 1\nclasses:\n  - {name: x, match: [{dscp: ef}]}\n")
	for _, c := range []struct {
		text string
		want []string
	}{
		{"imbrel: 1\ninclude: [a.yaml, b.yaml, c.yaml, none.yaml]\ntitel: x\n", []string{"p.yaml:2:35: cannot include: none.yaml", "p.yaml:3:1: unknown key `titel`", "a.yaml:1:1: this is not YAML", "b.yaml:3:40: unknown key `odd`", "c.yaml:3:12: the control character U+0007"}},
		{"imbrel: 1\ninclude: [sound.yaml, b.yaml]\ntitel: x\n", []string{"p.yaml:3:1: unknown key `titel`", "b.yaml:3:30: there is no address or group `nobody`", "b.yaml:3:40: unknown key `odd`"}},
	} {
		put(t, dir, "p.yaml", c.text)
		r := imbrel(t, dir, "", nil, "shares", "p.yaml")
		rest := r.err
		for _, want := range c.want {
			_, after, ok := strings.Cut(rest, want)
			if rest = after; !ok {
				t.Fatalf("%q is missing or out of order in\n%s", want, r.err)
			}
		}
		if got := strings.Count(r.err, ".yaml:"); r.status != 2 || got != len(c.want) {
			t.Errorf("exit %d, %d problems, want %d:\n%s", r.status, got, len(c.want), r.err)
		}
	}
}

// A caret is below what is meant, in the columns of a terminal.
func TestCaretsBelowWhatIsMeant(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]string{
		"title: {a: 日本語, b: c}":                     "       ^",
		"titel: 日本語":                                "^^^^^",
		`"日本": x`:                                   "^^^^^^",
		"groups: {日本語: [10.0.0.0/8]}":               "         ^^^^^^",
		"groups: {a: [日本語]}":                        "             ^^^^^^",
		"groups: {e\u0301: [10.0.0.0/8]}":           "         ^",
		"groups: {\"\u202e\u202ea\": [10.0.0.0/8]}": "         ^^^^^^^^^^^^^^^",
		"maps: {a: {af41:\t\taf9}}":                 "                  ^^^",
	} {
		r := imbrel(t, t.TempDir(), "imbrel: 1\n"+line+"\n", nil, "shares", "-")
		lines := strings.Split(r.err, "\n")
		if len(lines) < 3 || strings.TrimPrefix(lines[2], "    | ") != want {
			t.Errorf("%s: want the caret\n    | %s\n%s", line, want, r.err)
		}
	}
	long := strings.Repeat("日", 200)
	for _, columns := range []string{"60", "80", ""} {
		r := imbrel(t, t.TempDir(), "imbrel: 1\ngroups: {a: ["+long+"]}\nmaps: {b: {af41: "+long+"}}", []string{"COLUMNS=" + columns}, "shares", "-")
		if !strings.Contains(r.err, "…") || strings.Contains(r.err, long[:150*3]) {
			t.Errorf("COLUMNS=%s: %s", columns, r.err)
		}
	}
}
