package cli_test

import (
	"bytes"
	"encoding/binary"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"image/png"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"golang.org/x/net/html"

	"imbrel.example/imbrel/examples"
)

// page reads a report, and checks what holds for each: it asks for nothing, its links lead to places in it, and every chart has its
// numbers.
func page(t testing.TB, path string, most int) string {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if len(text) > most {
		t.Errorf("%s has %d bytes", path, len(text))
	}
	doc, err := html.Parse(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	ids, links := make(map[string]bool), []string{}
	figures, tables := 0, 0
	var walk func(n *html.Node, within string)
	walk = func(n *html.Node, within string) {
		if n.Type == html.ElementNode {
			switch n.Data {
			case "script", "iframe", "object", "embed", "img", "base":
				t.Errorf("%s: there is a <%s>", path, n.Data)
			case "figure":
				figures++
			case "table":
				if within == "details" {
					tables++
				}
			case "details":
				within = "details"
			}
			for _, a := range n.Attr {
				switch {
				case a.Key == "id" && strings.HasPrefix(a.Val, "p") && n.Data == "pattern":
				case a.Key == "id":
					if ids[a.Val] {
						t.Errorf("%s: the anchor %s is there twice", path, a.Val)
					}
					ids[a.Val] = true
				case a.Key == "href" && strings.HasPrefix(a.Val, "#"):
					links = append(links, a.Val[1:])
				case a.Key == "src", a.Key == "href" && a.Val != "data:,":
					t.Errorf("%s: it asks for %s", path, a.Val)
				}
			}
		}
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			walk(c, within)
		}
	}
	walk(doc, "")
	for _, l := range links {
		if !ids[l] {
			t.Errorf("%s: a link leads to %s, which is not there", path, l)
		}
	}
	if regexp.MustCompile(`url\((?:[^#]|"[^#])|@import|https?://`).Match(regexp.MustCompile(`(?s)<pre>.*?</pre>`).ReplaceAll(text, nil)) {
		t.Errorf("%s: it names another file or address", path)
	}
	if figures > tables {
		t.Errorf("%s: %d charts, and the numbers of %d", path, figures, tables)
	}
	return string(text)
}

// The report of the demo answers what a reader asks, in one file of less than a megabyte.
func TestReport(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	out := filepath.Join(dir, "charts")
	r := imbrel(t, dir, "", nil, "demo", "--report", "page.html", "--charts", out)
	if r.status != 0 || !strings.Contains(r.err, "wrote page.html\nwrote ") || !strings.Contains(r.out, "PASS") {
		t.Fatalf("exit %d: %s%s", r.status, r.out, r.err)
	}
	text := page(t, filepath.Join(dir, "page.html"), 1_000_000)
	for _, want := range []string{
		`<span class="word">PASS</span> All 10 expectations hold with the policies; without them 7 of 10 expectations fail.`,
		"Yes: the worst call has a MOS of 4.41; without the policies 1.00.", "Without the policies the carrier&#39;s queue after ternrock/radio carried 93 % of its rate", "7 expectations that failed without it now hold.", "office</code> loses 31.3 %",
		"Worse with the policies than without", "mast-camera</code> has a p99 delay of 181 ms",
		"voice delay p99 &lt;= 25ms", "118 ms", "5.34 ms", "The path", "the carrier&#39;s queue after ternrock/radio", "4.41", "p99 at most 25 ms", "imbrel demo --report page.html", "shape: 11.4Mbit/s",
	} {
		if !strings.Contains(text, want) {
			t.Errorf("the page does not say %q", want)
		}
	}
	names, err := os.ReadDir(out)
	if err != nil || len(names) < 20 {
		t.Fatalf("%d charts: %v", len(names), err)
	}
	for _, n := range names {
		data, err := os.ReadFile(filepath.Join(out, n.Name()))
		if err != nil {
			t.Fatal(err)
		}
		if filepath.Ext(n.Name()) == ".png" {
			if img, err := png.Decode(bytes.NewReader(data)); err != nil || img.Bounds().Dx() < 800 {
				t.Errorf("%s: %v", n.Name(), err)
			}
			continue
		}
		for x := xml.NewDecoder(bytes.NewReader(data)); ; {
			if _, err := x.Token(); err == io.EOF {
				break
			} else if err != nil {
				t.Fatalf("%s: %v", n.Name(), err)
			}
		}
	}
	contrasts(t, text)
	inABrowser(t, dir)
	// A page replaces a page, and nothing else.
	put(t, dir, "own.html", "<p>mine")
	if r := imbrel(t, dir, "", nil, "demo", "--report", "own.html"); r.status != 2 || !strings.Contains(r.err, "own.html already exists and is not a report of imbrel; not overwritten") {
		t.Errorf("exit %d: %s", r.status, r.err)
	}
	if own, _ := os.ReadFile(filepath.Join(dir, "own.html")); string(own) != "<p>mine" {
		t.Errorf("own.html is %q now", own)
	}
	if r := imbrel(t, dir, "", nil, "demo", "--report", "page.html"); r.status != 0 {
		t.Errorf("a second time: %s", r.err)
	}
}

// editedDemo writes the demo's files, and one of them with a shape above what the link carries.
func editedDemo(t *testing.T, dir string) {
	t.Helper()
	imbrel(t, dir, "", nil, "demo", "--write", "tern")
	demo, err := os.ReadFile(filepath.Join(dir, "tern", "ternrock.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, "tern/edited.yaml", strings.Replace(string(demo), "shape: 11.4Mbit/s", "shape: 14Mbit/s", 1))
}

// shortDemo writes the demo's file with a rehearsal of six seconds and without its event.
func shortDemo(t *testing.T, dir, name string) {
	t.Helper()
	text, err := examples.FS.ReadFile("ternrock.yaml")
	if err != nil {
		t.Fatal(err)
	}
	short := strings.Replace(string(text), "lasts: 30s", "lasts: 6s", 1)
	fog := strings.Index(short, "    events:\n")
	put(t, dir, name, short[:fog]+short[strings.Index(short, "    expect:\n"):])
}

// Each failed expectation stands with its reason, its line and its change, and leads to the chart that shows it.
func TestReportOfAFailure(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	editedDemo(t, dir)
	r := imbrel(t, dir, "", nil, "rehearse", "tern/edited.yaml", "fog", "--suggest", "--report", "page.html", "-o", "json")
	if r.status != 1 {
		t.Fatalf("exit %d: %s", r.status, r.err)
	}
	text := page(t, filepath.Join(dir, "page.html"), 1_000_000)
	for _, want := range []string{`<span class="word">FAIL</span>`, "tern/edited.yaml:29", "is above the 12Mbit/s that the link carries", "Change policies.ternrock-radio.shape from 14Mbit/s to 95%",
		`<a href="#at-ternrock-radio-out">See it in the chart</a>`, "Failed here: voice delay p99 &lt;= 25ms (118 ms), voice mos &gt;= 4.2 (1.00)", "For the same cause"} {
		if !strings.Contains(text, want) {
			t.Errorf("the page does not say %q", want)
		}
	}
	var res struct {
		Series, Hops any
	}
	if err := json.Unmarshal([]byte(r.out), &res); err != nil || res.Series != nil || res.Hops != nil {
		t.Errorf("the JSON has what only the page needs: %v", err)
	}
	// The other commands.
	shortDemo(t, dir, "tern/short.yaml")
	for _, c := range []struct {
		args []string
		most int
		want string
	}{
		{[]string{"find", "tern/short.yaml", "fog", "policies.ternrock-radio.shape", "11Mbit/s..13Mbit/s", "voice delay p99 <= 20ms"}, 200_000, "With the policies it holds at"},
		{[]string{"rehearse", "tern/ternrock.yaml", "fog", "--repeat", "2"}, 400_000, "10 of 10 expectations hold in each of 2 runs"},
		{[]string{"compare", "a.json", "b.json"}, 200_000, "fails now"},
	} {
		if c.args[0] == "find" {
			c.args = append(c.args, "--both")
		}
		if c.args[0] == "compare" {
			put(t, dir, "a.json", imbrel(t, dir, "", nil, "rehearse", "tern/ternrock.yaml", "fog", "-o", "json").out)
			put(t, dir, "b.json", r.out)
		}
		name := c.args[0] + fmt.Sprint(c.most) + ".html"
		got := imbrel(t, dir, "", nil, append(c.args, "--report", name)...)
		if got.status > 1 {
			t.Fatalf("%v: %s", c.args, got.err)
		}
		if text := page(t, filepath.Join(dir, name), c.most); !strings.Contains(text, c.want) {
			t.Errorf("%v: the page does not say %q", c.args, c.want)
		}
	}
}

// contrasts checks that words and lines can be told from their ground, in light and dark: 4.5 to 1 for words, 3 to 1 for what is drawn.
func contrasts(t *testing.T, text string) {
	t.Helper()
	roots := regexp.MustCompile(`:root\{([^}]*)\}`).FindAllStringSubmatch(text, -1)
	if len(roots) != 6 { // of the charts and of the page: light, dark, print
		t.Fatalf("%d palettes", len(roots))
	}
	for mode := range 3 {
		colours := make(map[string]float64)
		for _, root := range []string{roots[mode][1], roots[mode+3][1]} {
			for _, m := range regexp.MustCompile(`--([a-z0-9]+):#([0-9a-f]{3,6})`).FindAllStringSubmatch(root, -1) {
				colours[m[1]] = luminance(m[2])
			}
		}
		for _, c := range []struct {
			of, on string
			least  float64
		}{{"ink", "bg", 7}, {"ink", "panel", 4.5}, {"soft", "bg", 4.5}, {"soft", "panel", 4.5}, {"good", "bg", 4.5}, {"bad", "bg", 4.5}, {"fair", "bg", 4.5}, {"bad", "panel", 4.5},
			{"good", "goodbg", 4.5}, {"bad", "badbg", 4.5}, {"fair", "fairbg", 4.5}, {"kx", "bg", 4.5}, {"km", "bg", 4.5}, {"kl", "bg", 3},
			{"k0", "bg", 3}, {"k1", "bg", 3}, {"k2", "bg", 3}, {"k3", "bg", 3}, {"k4", "bg", 3}, {"k5", "bg", 3}, {"k6", "bg", 3}, {"k7", "bg", 3}} {
			a, b := colours[c.of], colours[c.on]
			if ratio := (max(a, b) + 0.05) / (min(a, b) + 0.05); ratio < c.least {
				t.Errorf("palette %d: %s on %s is %.2f to 1, below %.1f", mode, c.of, c.on, ratio, c.least)
			}
		}
	}
}

// luminance is that of a colour, as WCAG 2 reckons it.
func luminance(hex string) float64 {
	if len(hex) == 3 {
		hex = strings.Join([]string{hex[:1], hex[:1], hex[1:2], hex[1:2], hex[2:], hex[2:]}, "")
	}
	sum := 0.0
	for i, weight := range []float64{0.2126, 0.7152, 0.0722} {
		n, _ := strconv.ParseUint(hex[2*i:2*i+2], 16, 8)
		v := float64(n) / 255
		if v <= 0.04045 {
			v /= 12.92
		} else {
			v = math.Pow((v+0.055)/1.055, 2.4)
		}
		sum += weight * v
	}
	return sum
}

// Results for other programs are read by parsers that are not ours, and say what the JSON says.
func TestForms(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	editedDemo(t, dir)
	run := func(want int, args ...string) string {
		t.Helper()
		r := imbrel(t, dir, "", nil, append([]string{"rehearse", "tern/edited.yaml", "fog"}, args...)...)
		if r.status != want {
			t.Fatalf("%v: exit %d: %s", args, r.status, r.err)
		}
		return r.out
	}
	var want struct {
		Expectations []struct {
			Text     string
			Measured float64
			Holds    bool
		}
		Traffic []struct {
			Name, Direction string
		}
	}
	if err := json.Unmarshal([]byte(run(1, "-o", "json")), &want); err != nil {
		t.Fatal(err)
	}
	var suites struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Suites   []struct {
			Cases []struct {
				Name    string `xml:"name,attr"`
				Line    int    `xml:"line,attr"`
				Failure *struct {
					Message string `xml:"message,attr"`
				} `xml:"failure"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	for _, args := range [][]string{{"-o", "junit"}, {"-o", "junit", "--both"}} {
		suites.Suites = nil
		if err := xml.Unmarshal([]byte(run(1, args...)), &suites); err != nil {
			t.Fatal(err)
		}
		if suites.Tests != 10 || suites.Failures != 5 || len(suites.Suites) != 1 {
			t.Fatalf("%v: %d tests, %d failures", args, suites.Tests, suites.Failures)
		}
		for i, c := range suites.Suites[0].Cases {
			if w := want.Expectations[i]; c.Name != w.Text || (c.Failure == nil) != w.Holds || c.Line == 0 || !w.Holds && !strings.Contains(c.Failure.Message, "the shape of 14Mbit/s") {
				t.Errorf("%+v; want %+v", c, w)
			}
		}
	}
	rows, err := csv.NewReader(strings.NewReader(run(1, "-o", "csv"))).ReadAll()
	if err != nil || len(rows) < 60 {
		t.Fatalf("%d rows: %v", len(rows), err)
	}
	column := func(name string) int { return slices.Index(rows[0], name) }
	for i, w := range want.Expectations {
		row := rows[1+i]
		if v, _ := strconv.ParseFloat(row[column("value")], 64); row[column("name")] != w.Text || v != w.Measured || row[column("holds")] != fmt.Sprint(w.Holds) {
			t.Errorf("%v; want %+v", row, w)
		}
	}
	var log struct {
		Runs []struct {
			Results []struct {
				RuleID    string
				RuleIndex int
				Locations []struct {
					PhysicalLocation struct{ Region struct{ StartLine int } }
				}
			}
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
		}
	}
	if err := json.Unmarshal([]byte(run(1, "-o", "sarif")), &log); err != nil {
		t.Fatal(err)
	}
	failed := 0
	for _, r := range log.Runs[0].Results {
		if log.Runs[0].Tool.Driver.Rules[r.RuleIndex].ID != r.RuleID || r.Locations[0].PhysicalLocation.Region.StartLine < 10 {
			t.Errorf("%+v", r)
		}
		if r.RuleID == "expectation" {
			failed++
		}
	}
	if failed != 5 {
		t.Errorf("%d expectations failed in SARIF", failed)
	}
	for form, wants := range map[string][]string{
		"openmetrics": {`imbrel_verdict{rehearsal="fog",policies="with",seed="1"} 0`, "imbrel_build_info{version=", "imbrel_promised_bits_per_second{", "imbrel_wait_seconds_bucket{", "# EOF"},
		"markdown":    {"### ❌ FAIL: rehearsal `fog`", "| `voice delay p99 <= 25ms` | 118 ms | **fails** |", "the same cause as for `voice delay p99 <= 25ms`"},
	} {
		text := run(1, "-o", form)
		for _, w := range wants {
			if !strings.Contains(text, w) {
				t.Errorf("%s lacks %q", form, w)
			}
		}
	}
	// The tables of a series have the rows of each traffic for each step.
	run(1, "--series", "series", "--every", "1s")
	for name, least := range map[string]int{"interfaces.csv": 30 * 20, "traffic.csv": 30 * (len(want.Traffic) - 2), "calls.csv": 12, "active.csv": 0} {
		f, err := os.Open(filepath.Join(dir, "series", name))
		if err != nil {
			t.Fatal(err)
		}
		rows, err := csv.NewReader(f).ReadAll()
		f.Close()
		if err != nil || len(rows)-1 < least {
			t.Errorf("%s: %d rows, want %d: %v", name, len(rows)-1, least, err)
		}
	}
	put(t, dir, "series/calls.csv", "mine")
	if r := imbrel(t, dir, "", nil, "rehearse", "tern/ternrock.yaml", "fog", "--series", "series"); r.status != 2 || !strings.Contains(r.err, "calls.csv already exists and is not a table of a series") {
		t.Errorf("exit %d: %s", r.status, r.err)
	}
	if r := imbrel(t, dir, "", nil, "check", "tern/edited.yaml", "tern/ternrock.yaml", "-o", "junit"); r.status != 1 || !strings.Contains(r.out, `name="nothing found in tern/ternrock.yaml"`) || !strings.Contains(r.out, `tests="2" failures="1"`) {
		t.Errorf("check: exit %d: %s", r.status, r.out)
	}
}

// The sums of a capture: all groups together are the capture, and the busiest second is that of a count by hand.
func TestSumsOfACapture(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", "tern")
	sums := func(args ...string) (all struct {
		Bytes, Packets int64
		Flows          []struct{ Bytes int64 }
		Totals         []struct {
			By, Name       string
			Bytes, Packets int64
			BusiestBps     int64 `json:"busiest_bps"`
			MeanBps        int64 `json:"mean_bps"`
			BusiestAtS     int64 `json:"busiest_at_s"`
		}
	}) {
		t.Helper()
		r := imbrel(t, dir, "", nil, append([]string{"explain"}, args...)...)
		if err := json.Unmarshal([]byte(r.out), &all); r.status != 0 || err != nil {
			t.Fatalf("%v: %v, %s", args, err, r.err)
		}
		return all
	}
	all := sums("--capture", "tern/ternrock-office.pcap", "--by", "app,client,server,dscp,vlan", "-o", "json")
	bytesOf, packetsOf := make(map[string]int64), make(map[string]int64)
	for _, k := range all.Totals {
		bytesOf[k.By] += k.Bytes
		packetsOf[k.By] += k.Packets
		if k.BusiestBps < k.MeanBps || k.BusiestBps > 8*k.Bytes {
			t.Errorf("%+v", k)
		}
	}
	for _, by := range []string{"app", "client", "server", "dscp", "vlan"} {
		if bytesOf[by] != all.Bytes || packetsOf[by] != all.Packets {
			t.Errorf("by %s: %d bytes, %d packets of %d, %d", by, bytesOf[by], packetsOf[by], all.Bytes, all.Packets)
		}
	}
	// By hand: Ethernet and IPv4 at their places, seconds from the first packet on.
	data, err := os.ReadFile(filepath.Join(dir, "tern", "ternrock-office.pcap"))
	if err != nil {
		t.Fatal(err)
	}
	type second struct{ dscp, at int64 }
	bytesIn, busiest, first := make(map[second]int64), make(map[int64]int64), int64(-1)
	for at := data[24:]; len(at) > 0; {
		word := func(n int) int64 { return int64(binary.LittleEndian.Uint32(at[4*n:])) }
		now, frame := word(0)*1_000_000+word(1), at[16+14:]
		if first < 0 {
			first = now
		}
		k := second{int64(frame[1] >> 2), (now - first) / 1_000_000}
		bytesIn[k] += int64(binary.BigEndian.Uint16(frame[2:]))
		busiest[k.dscp] = max(busiest[k.dscp], 8*bytesIn[k])
		at = at[16+word(2):]
	}
	for _, k := range all.Totals {
		if dscp := map[string]int64{"df": 0, "ef": 46}[k.Name]; k.By == "dscp" && k.BusiestBps != busiest[dscp] {
			t.Errorf("%s: the busiest second has %d bit/s, and by hand %d", k.Name, k.BusiestBps, busiest[dscp])
		}
	}
	classes := sums("tern/ternrock.yaml", "--capture", "tern/ternrock-office.pcap", "--by", "class", "-o", "json")
	if len(classes.Totals) == 0 || !strings.HasPrefix(classes.Totals[0].Name, "ternrock/") {
		t.Errorf("by class: %+v", classes.Totals)
	}
	r := imbrel(t, dir, "", nil, "explain", "--capture", "tern/ternrock-office.pcap")
	for _, want := range []string{"application", "client", "DSCP", "busiest second", "https"} {
		if r.status != 0 || !strings.Contains(r.out, want) {
			t.Errorf("without a policy file: exit %d, no %q in %s", r.status, want, r.out)
		}
	}
	for _, c := range [][2]string{{"mac", "packets are summed by app, client, server, class, dscp or vlan"}, {"class", "name a policy file that has one"}} {
		if r := imbrel(t, dir, "", nil, "explain", "--capture", "tern/ternrock-office.pcap", "--by", c[0]); r.status != 2 || !strings.Contains(r.err, c[1]) {
			t.Errorf("by %s: exit %d, %s", c[0], r.status, r.err)
		}
	}
	// Every DSCP at every hop, as explain says one by one.
	marks := imbrel(t, dir, "", nil, "explain", "tern/ternrock.yaml", "--from", "10.44.10.40", "--to", "10.44.64.99", "--protocol", "tcp", "--to-port", "8730", "--marks", "-o", "json")
	var table struct {
		Marks []struct {
			Sent    string
			Arrives struct{ DSCP string }
		}
	}
	if err := json.Unmarshal([]byte(marks.out), &table); err != nil || len(table.Marks) < 20 {
		t.Fatalf("%d rows: %v %s", len(table.Marks), err, marks.err)
	}
	for _, row := range table.Marks[:6] {
		one := imbrel(t, dir, "", nil, "explain", "tern/ternrock.yaml", "--from", "10.44.10.40", "--to", "10.44.64.99", "--protocol", "tcp", "--to-port", "8730", "--dscp", row.Sent, "-o", "json")
		if want := fmt.Sprintf(`"arrives":{"dscp":"%s"`, row.Arrives.DSCP); !strings.Contains(one.out, want) {
			t.Errorf("sent as %s it arrives as %s in the table; one by one: %s", row.Sent, row.Arrives.DSCP, one.out)
		}
	}
}

// inABrowser checks, where one is installed, that the demo's page loads without an error or a request, and that nothing on it overlaps
// or is cut, at the width of a screen and of a phone.
func inABrowser(t *testing.T, dir string) {
	t.Helper()
	browser, err := exec.LookPath("chromium")
	if err != nil {
		t.Log("chromium is not installed: scripts/browser installs it")
		return
	}
	for _, width := range []int{1280, 390} {
		probe := put(t, dir, fmt.Sprintf("probe%d.html", width), strings.ReplaceAll(probing, "WIDTH", fmt.Sprint(width)))
		c := exec.Command(browser, "--headless", "--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update", "--disable-sync", "--no-first-run",
			"--allow-file-access-from-files", "--user-data-dir="+filepath.Join(dir, fmt.Sprint("data", width)), "--enable-logging=stderr",
			fmt.Sprintf("--window-size=%d,800", width+40), "--virtual-time-budget=10000", "--dump-dom", "file://"+probe)
		var out, logged bytes.Buffer
		c.Stdout, c.Stderr = &out, &logged
		if err := c.Run(); err != nil {
			t.Fatalf("%v: %s", err, logged.String())
		}
		m := regexp.MustCompile(`(?s)<pre id="said">(.*?)</pre>`).FindStringSubmatch(out.String())
		if m == nil || !strings.HasPrefix(m[1], "looked at ") {
			t.Fatalf("at %d: the page was not looked at: %s", width, out.String())
		}
		if lines := strings.Split(strings.TrimSpace(m[1]), "\n"); len(lines) > 1 {
			t.Errorf("at %d: %s", width, strings.Join(lines[:min(len(lines), 12)], "\n"))
		}
		if strings.Contains(logged.String(), "CONSOLE") {
			t.Errorf("at %d: the console says: %s", width, logged.String())
		}
	}
}

// probing is a page that looks at another: what is wider than it should be, and words of a chart that overlap or are cut.
const probing = `<!doctype html><body style="margin:0"><iframe id="f" src="page.html" style="border:0;width:WIDTHpx;height:800px"></iframe><pre id="said"></pre><script>
document.getElementById("f").onload = e => {
  const doc = e.target.contentDocument, said = [], seen = r => r.width > 0 && r.height > 0
  let looked = 0
  for (const r of e.target.contentWindow.performance.getEntriesByType("resource")) if (!r.name.startsWith("data:")) said.push("it asks for " + r.name)
  if (doc.documentElement.scrollWidth > WIDTH) said.push("the page is " + doc.documentElement.scrollWidth + " wide")
  for (const svg of doc.querySelectorAll("figure svg")) {
    const box = svg.getBoundingClientRect()
    if (!seen(box)) continue
    const words = [...svg.querySelectorAll("text")].map(t => [t.textContent, t.getBoundingClientRect()])
    looked += words.length
    words.forEach(([a, r], i) => {
      if (r.left < box.left - 1 || r.right > box.right + 1 || r.top < box.top - 2 || r.bottom > box.bottom + 2) said.push("cut: " + a + " in " + svg.getAttribute("aria-label"))
      for (const [b, s] of words.slice(i + 1))
        if (Math.min(r.right, s.right) - Math.max(r.left, s.left) > 1 && Math.min(r.bottom, s.bottom) - Math.max(r.top, s.top) > 4) said.push("overlap: " + a + " and " + b + " in " + svg.getAttribute("aria-label"))
    })
  }
  for (const el of doc.querySelectorAll("h1,h2,h3,p,li,td,th,summary,figcaption,small")) {
    const r = el.getBoundingClientRect()
    if (seen(r) && r.right > WIDTH + 1 && !el.closest(".scroll")) said.push("beyond the edge: " + el.textContent.slice(0, 60))
  }
  document.getElementById("said").textContent = ["looked at " + looked + " words", ...said].join("\n")
}
</script>`
