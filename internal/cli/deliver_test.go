package cli_test

import (
	"bufio"
	"bytes"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/netconf"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/yang"
	"imbrel.example/imbrel/internal/manage"
)

// placesFile is a network of three sites with a policy at each.
const placesFile = `imbrel: 1
groups: {phones: [10.1.0.0/24, 10.2.0.0/24, 10.3.0.0/24]}
classes:
  - {name: voice, match: [{from: phones, protocol: udp, to-port: 16384-32767}]}
  - {name: charts, match: [{protocol: tcp, port: 8730}]}
  - {name: mail, match: [{protocol: tcp, port: 25}]}
policies:
  - name: wan
    shape: 9.5Mbit/s
    treat:
      - {class: voice, mark: ef, priority: 1, police: {rate: 960kbit/s, burst: 16kB}}
      - {class: charts, mark: af11, at-least: 20%}
      - {class: mail, at-least: 10%}
      - {class: rest, at-least: 20%}
attach: [{policy: wan, at: "*/wan out"}]
network:
  nodes:
    - {name: hub, interfaces: [{name: lan, rate: 1Gbit/s, subnets: 10.1.0.0/16}, {name: wan, rate: 100Mbit/s}, {name: wan2, rate: 100Mbit/s}]}
    - {name: north, interfaces: [{name: lan, rate: 1Gbit/s, subnets: 10.2.0.0/16}, {name: wan, rate: 100Mbit/s}]}
    - {name: south, interfaces: [{name: lan, rate: 1Gbit/s, subnets: 10.3.0.0/16}, {name: wan, rate: 100Mbit/s}]}
  links:
    - {ends: [{at: hub/wan, sends: 10Mbit/s}, {at: north/wan, sends: 10Mbit/s}], delay: 5ms}
    - {ends: [{at: hub/wan2, sends: 10Mbit/s}, {at: south/wan, sends: 10Mbit/s}], delay: 5ms}
rehearsals:
  - name: busy
    lasts: 2s
    traffic: [{name: calls, calls: 4, codec: g711, between: [10.1.0.5, 10.2.0.5]}]
`

// Places are stand-ins of the nodes of a file, with what manages them.
type places struct {
	testing.TB
	dir     string
	devices map[string]*siteDevice
	anna    ssh.Signer
}

type siteDevice struct {
	node, profile, address, print string
	process                       *exec.Cmd
}

// keyPair writes a private key, and returns the line of its public key.
func keyPair(t testing.TB, dir, name string) (ssh.Signer, string) {
	t.Helper()
	var private any
	var err error
	if name == "ben" { // of the other kind
		private, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	} else {
		_, private, err = ed25519.GenerateKey(rand.Reader)
	}
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		t.Fatal(err)
	}
	text := pem.EncodeToMemory(block)
	if err := os.WriteFile(filepath.Join(dir, name+".key"), text, 0o600); err != nil {
		t.Fatal(err)
	}
	key, err := ssh.ParsePrivateKey(text)
	if err != nil {
		t.Fatal(err)
	}
	return key, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key.PublicKey()))) + " " + name + "\n"
}

// newPlaces starts a stand-in for each node, with a profile, and writes the file with the devices.
func newPlaces(t testing.TB, profiles ...string) *places {
	t.Helper()
	s := &places{TB: t, dir: t.TempDir(), devices: make(map[string]*siteDevice)}
	var anna, ben, carl string
	s.anna, anna = keyPair(t, s.dir, "anna")
	_, ben = keyPair(t, s.dir, "ben")
	_, carl = keyPair(t, s.dir, "carl")
	put(t, s.dir, "first.yaml", placesFile)
	for i, node := range []string{"hub", "north", "south"} {
		if i == len(profiles) {
			break
		}
		dir := filepath.Join(s.dir, node)
		if err := os.Mkdir(dir, 0o700); err != nil {
			t.Fatal(err)
		}
		put(t, dir, "managers", "# who may\n"+anna+"\nread-only "+ben+carl)
		s.devices[node] = &siteDevice{node: node, profile: profiles[i], address: "127.0.0.1:0"}
		s.start(node)
	}
	s.write(placesFile)
	return s
}

// write writes sites.yaml: a text, and the devices.
func (s *places) write(text string) {
	s.Helper()
	text += "devices:\n"
	for _, node := range []string{"hub", "north", "south"} {
		if d := s.devices[node]; d != nil {
			text += fmt.Sprintf("  %s: {address: %q, user: anna, key: anna.key}\n", node, d.address)
		}
	}
	put(s, s.dir, "sites.yaml", text)
}

var managedAt = regexp.MustCompile(`managed at (\S+); the key of this \w+ is (\S+)`)

// start starts a stand-in, where it was before.
func (s *places) start(node string) {
	s.Helper()
	d := s.devices[node]
	d.process = exec.Command(program, "device", d.profile, "first.yaml", "--node", node, "--manage", d.address, "--managed-in", node)
	d.process.Dir = s.dir
	said, err := d.process.StderrPipe()
	if err != nil {
		s.Fatal(err)
	}
	if err := d.process.Start(); err != nil {
		s.Fatal(err)
	}
	s.Cleanup(func() { s.kill(node) })
	lines := bufio.NewReader(said)
	line, _ := lines.ReadString('\n')
	m := managedAt.FindStringSubmatch(line)
	if m == nil {
		s.Fatalf("%s does not start: %s", node, line)
	}
	d.address, d.print = m[1], m[2]
	go func() { // or it waits for somebody to read
		for {
			if _, err := lines.ReadString('\n'); err != nil {
				return
			}
		}
	}()
}

func (s *places) kill(node string) {
	if p := s.devices[node].process; p.ProcessState == nil {
		_ = p.Process.Kill()
		_ = p.Wait()
	}
}

// deliver runs a delivery.
func (s *places) deliver(args ...string) reply {
	s.Helper()
	return imbrel(s, s.dir, "", nil, append([]string{"deliver"}, args...)...)
}

// wants reports an exit status and parts of what was said that are not as wanted.
func (s *places) wants(r reply, status int, parts ...string) {
	s.Helper()
	said := r.out + r.err
	for _, p := range parts {
		if !strings.Contains(strings.Join(strings.Fields(said), " "), p) {
			s.Errorf("not said: %q\n%s", p, said)
		}
	}
	if r.status != status {
		s.Errorf("exit status %d, want %d\n%s", r.status, status, said)
	}
}

// session opens a session with a device, as anna.
func (s *places) session(node string) *manage.Session {
	s.Helper()
	c, err := manage.Open(&manage.Login{Address: s.devices[node].address, User: "anna", Keys: []ssh.Signer{s.anna}, Known: func(string) error { return nil }})
	if err != nil {
		s.Fatal(err)
	}
	return c
}

// running returns what is in force at a device.
func (s *places) running(node string) *yang.Element {
	s.Helper()
	c := s.session(node)
	defer c.Close()
	e, err := c.Config("running")
	if err != nil {
		s.Fatal(err)
	}
	return e
}

// shape returns the rate of the policy at each device.
func (s *places) shapes() (out string) {
	s.Helper()
	for _, node := range []string{"hub", "north", "south"} {
		if s.devices[node] != nil {
			for _, p := range s.running(node).Inner {
				if p.Name == "policies" {
					out += " " + p.TextOf("shape", "value")
				}
			}
		}
	}
	return strings.TrimSpace(out)
}

// edit changes a device by hand.
func (s *places) edit(node, edit string) {
	s.Helper()
	c := s.session(node)
	defer c.Close()
	e, err := yang.Parse([]byte(`<policy-file xmlns:nc="` + yang.Base + `">` + edit + `</policy-file>`))
	if err == nil {
		err = c.Edit(e)
	}
	if err == nil {
		err = c.Commit()
	}
	if err != nil {
		s.Fatal(err)
	}
}

// From the file to the sites and back: what is shown, what is changed, what is kept, and what the history says.
func TestDeliver(t *testing.T) {
	t.Parallel()
	s := newPlaces(t, "wide-branch", "wide-branch", "wide-branch")
	s.wants(s.deliver("sites.yaml"), 1, "0 of 3 devices answered.", "the key of the device is not known: it is "+s.devices["hub"].print)
	s.wants(s.deliver("sites.yaml", "--trust-new-keys"), 0, "All that answered have what the file says.")
	edited := strings.Replace(placesFile, "shape: 9.5Mbit/s", "shape: 9.4Mbit/s", 1)
	s.write(edited)
	s.wants(s.deliver("sites.yaml"), 0, "3 differ from the file.", "at hub, north and south", "policies.wan.shape: 9.5Mbit/s → 9.4Mbit/s", "Nothing was changed. --commit puts it in force.")
	s.wants(s.deliver("sites.yaml", "--commit"), 2, "say how it is verified")
	if got := s.shapes(); got != "9.5Mbit/s 9.5Mbit/s 9.5Mbit/s" {
		t.Fatalf("before the commit: %s", got)
	}
	s.wants(s.deliver("sites.yaml", "--commit", "--unverified", "--wave", "1"), 2, "leaves 2 devices out")
	s.wants(s.deliver("sites.yaml", "--commit", "--unverified", "--wave", "1,all"), 0, "DONE: All 3 devices changed.")
	if got := s.shapes(); got != "9.4Mbit/s 9.4Mbit/s 9.4Mbit/s" {
		t.Fatalf("after the commit: %s", got)
	}
	s.kill("south") // what is delivered is there at the next start
	s.start("south")
	s.wants(s.deliver("drift", "sites.yaml"), 0, "All that answered have what the file says.")

	// Somebody adds a class at north and changes the rate at south.
	s.edit("north", `<classes><name>lab</name><match><id>1</id><port>99</port></match></classes>`)
	s.edit("south", `<policies><name>wan</name><shape><value>2Mbit/s</value></shape></policies>`)
	s.wants(s.deliver("drift", "sites.yaml"), 1, "at south", "policies.wan.shape: 9.4Mbit/s → 2Mbit/s", "at north", "classes.lab")
	s.wants(s.deliver("sites.yaml"), 0, "Kept, since the file does not have it, at `north`: the class `lab`.", "Not touched, since somebody changed it after the last delivery, at `south`: the policy `wan`.")
	s.write(strings.Replace(edited, "at-least: 10%", "at-least: 12%", 1))
	s.wants(s.deliver("sites.yaml", "--commit", "--unverified"), 1, "somebody changed devices by hand", "--take-over")
	if got := s.shapes(); got != "9.4Mbit/s 9.4Mbit/s 2Mbit/s" {
		t.Fatalf("after a refusal: %s", got)
	}
	s.wants(s.deliver("sites.yaml", "--commit", "--unverified", "--only", "north"), 0, "DONE: 1 device changed.")
	if s.running("north").String() == "" || !strings.Contains(s.running("north").String(), "lab") {
		t.Error("what somebody added is gone")
	}
	s.wants(s.deliver("sites.yaml", "--commit", "--unverified", "--take-over"), 0, "Overwritten, although somebody changed it since the last delivery, at `south`: the policy `wan`.", "DONE")
	if strings.Contains(s.running("north").String(), "lab") {
		t.Error("--take-over left what is not in the file")
	}

	// And back, to what was before the first.
	s.wants(s.deliver("history", "sites.yaml"), 0, "hub, north and south: policies.wan.shape: 9.5Mbit/s → 9.4Mbit/s", "done")
	s.wants(s.deliver("back", "sites.yaml", "7"), 2, "7 is not the number of a delivery")
	s.wants(s.deliver("back", "sites.yaml", "1", "--commit", "--unverified"), 0, "DONE: All 3 devices changed.")
	if got := s.shapes(); got != "9.5Mbit/s 9.5Mbit/s 9.5Mbit/s" {
		t.Fatalf("after going back: %s", got)
	}
	var history struct {
		Deliveries []struct {
			State, Verified string
			Back            uint64
		}
	}
	if err := json.Unmarshal([]byte(s.deliver("history", "sites.yaml", "-o", "json").out), &history); err != nil || len(history.Deliveries) != 4 || history.Deliveries[0].Back != 1 || history.Deliveries[0].State != "done" {
		t.Errorf("history: %+v, %v", history, err)
	}
}

// --ask keeps the change after yes alone, and a verification without packets fails.
func TestDeliverAsks(t *testing.T) {
	t.Parallel()
	s := newPlaces(t, "wide-branch")
	s.write(strings.Replace(placesFile, "shape: 9.5Mbit/s", "shape: 9.4Mbit/s", 1))
	for _, c := range []struct {
		answer, want string
		status       int
		shape        string
	}{{"no\n", "TAKEN BACK: `hub` is as it was. Because: it was not to be kept.", 1, "9.5Mbit/s"}, {"", "TAKEN BACK", 1, "9.5Mbit/s"}, {"yes\n", "DONE: 1 device changed. Verified: kept by", 0, "9.4Mbit/s"}} {
		s.wants(imbrel(s, s.dir, c.answer, nil, "deliver", "sites.yaml", "--trust-new-keys", "--commit", "--ask"), c.status, c.want)
		if got := s.shapes(); got != c.shape {
			t.Errorf("after %q: %s", c.answer, got)
		}
	}
	three := newPlaces(t, "wide-branch", "wide-branch", "wide-branch")
	three.write(strings.Replace(placesFile, "shape: 9.5Mbit/s", "shape: 9.3Mbit/s", 1))
	three.wants(imbrel(t, three.dir, "yes\nno\n", nil, "deliver", "sites.yaml", "--trust-new-keys", "--commit", "--ask", "--wave", "1,all"), 1, "wave 2 of 2: 2 devices", "IN PART: Some devices changed, and some are as they were.", "hub as wished as now")
	if got := three.shapes(); got != "9.3Mbit/s 9.5Mbit/s 9.5Mbit/s" {
		t.Errorf("after a second wave that failed: %s", got)
	}
	three.wants(three.deliver("history", "sites.yaml"), 0, "to hub, north and south: in part")
	three.wants(three.deliver("back", "sites.yaml", "--commit", "--unverified"), 0, "DONE: 1 device changed.")
	three.wants(imbrel(t, three.dir, "yes\nyes\n", nil, "deliver", "sites.yaml", "--commit", "--ask", "--wave", "1,all"), 0, "DONE: All 3 devices changed.")
	s.write(strings.Replace(placesFile, "shape: 9.5Mbit/s", "shape: 9.3Mbit/s", 1))
	s.wants(s.deliver("sites.yaml", "--commit", "--verify", "busy", "--for", "1s"), 1, "TAKEN BACK", "no packet came to the devices in 1s")
}

// While a delivery waits for an answer, its program, its terminal or a device goes away: all devices are as they were, and `resume` says so.
func TestDeliverIsCut(t *testing.T) {
	t.Parallel()
	s := newPlaces(t, "wide-branch", "wide-branch", "wide-branch")
	s.wants(s.deliver("sites.yaml", "--trust-new-keys"), 0)
	s.write(strings.Replace(placesFile, "shape: 9.5Mbit/s", "shape: 9.4Mbit/s", 1))
	for _, how := range []string{"killed", "hung up", "a device"} {
		c := exec.Command(program, "deliver", "sites.yaml", "--commit", "--ask", "--together")
		c.Dir = s.dir
		in, _ := c.StdinPipe()
		var out bytes.Buffer
		said := &waiter{want: "Keep it?", there: make(chan struct{})}
		c.Stdout, c.Stderr = &out, said
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		select {
		case <-said.there:
		case <-time.After(30 * time.Second):
			t.Fatalf("it does not ask: %s", said.said.String())
		}
		if got := s.shapes(); got != "9.4Mbit/s 9.4Mbit/s 9.4Mbit/s" {
			t.Errorf("%s: while it asks: %s", how, got)
		}
		switch how {
		case "killed":
			_ = c.Process.Kill()
		case "hung up":
			_ = c.Process.Signal(syscall.SIGHUP)
		case "a device":
			s.kill("south")
			s.start("south")
			fmt.Fprintln(in, "yes")
		}
		_ = c.Wait()
		in.Close()
		deadline := time.Now().Add(20 * time.Second)
		want := "9.5Mbit/s 9.5Mbit/s 9.5Mbit/s"
		if how == "a device" { // it is given the same again
			want = "9.4Mbit/s 9.4Mbit/s 9.4Mbit/s"
		}
		for s.shapes() != want && time.Now().Before(deadline) {
			time.Sleep(50 * time.Millisecond)
		}
		if got := s.shapes(); got != want {
			t.Fatalf("%s: %s, want %s\n%s%s", how, got, want, out.String(), said.said.String())
		}
		if how == "killed" {
			s.wants(s.deliver("history", "sites.yaml"), 0, "cut; `imbrel deliver resume` finishes it")
			s.wants(s.deliver("sites.yaml", "--commit", "--unverified"), 2, "was cut, and it is not known how its devices are")
			s.wants(s.deliver("resume", "sites.yaml"), 0, "TAKEN BACK: All devices are as they were.")
			s.wants(s.deliver("resume", "sites.yaml"), 0, "No delivery was cut.")
		}
	}
}

// A waiter is written to, and tells when a text has come.
type waiter struct {
	said  bytes.Buffer
	want  string
	there chan struct{}
	told  bool
}

func (w *waiter) Write(b []byte) (int, error) {
	n, err := w.said.Write(b)
	if !w.told && strings.Contains(w.said.String(), w.want) {
		w.told = true
		close(w.there)
	}
	return n, err
}

// Keys of users, their rights, and keys of devices.
func TestDeliverKeys(t *testing.T) {
	t.Parallel()
	s := newPlaces(t, "wide-branch")
	s.wants(s.deliver("sites.yaml", "--trust-new-keys"), 0)
	edited := strings.Replace(placesFile, "shape: 9.5Mbit/s", "shape: 9.4Mbit/s", 1)
	as := func(user, key, more string) {
		put(t, s.dir, "sites.yaml", edited+fmt.Sprintf("devices:\n  hub: {address: %q, user: %s, key: %s.key%s}\n", s.devices["hub"].address, user, key, more))
	}
	as("ben", "ben", "")
	s.wants(s.deliver("sites.yaml"), 0, "1 differs from the file.")
	s.wants(s.deliver("sites.yaml", "--commit", "--unverified"), 1, "this key may read only")
	as("ben", "anna", "")
	s.wants(s.deliver("sites.yaml"), 1, "does not let `ben` in with this key")
	as("nobody", "anna", "")
	s.wants(s.deliver("sites.yaml"), 1, "does not let `nobody` in with this key")
	as("anna", "nobody", "")
	s.wants(s.deliver("sites.yaml"), 1, "the private key cannot be read")
	as("anna", "anna", `, host-key: "SHA256:uNiVztksCsDhcc0u9e8BrrJXVhHsXEx0uVqW1kJbQJk"`)
	s.wants(s.deliver("sites.yaml"), 1, "the device has another key than before")
	as("anna", "anna", "")
	s.kill("hub") // somebody else answers there, with a key of his own
	if err := os.Remove(filepath.Join(s.dir, "hub", "host-key")); err != nil {
		t.Fatal(err)
	}
	s.start("hub")
	s.wants(s.deliver("sites.yaml", "--trust-new-keys"), 1, "the device has another key than before: "+s.devices["hub"].print)
	put(t, filepath.Join(s.dir, "hub"), "managers", "no key at all\n")
	as("anna", "anna", fmt.Sprintf(", host-key: %q", s.devices["hub"].print))
	s.wants(s.deliver("sites.yaml"), 1, "does not let `anna` in")
	if got := len(s.devices); got != 1 {
		t.Fatal(got)
	}
}

// Something else answers at the address of a device: deliver ends soon, and names the device.
func TestDeliverToStrangers(t *testing.T) {
	t.Parallel()
	for name, answer := range map[string]string{
		"nobody":           "",
		"a web server":     "HTTP/1.1 400 Bad Request\r\n\r\n",
		"endless garbage":  strings.Repeat("garbage\n", 1<<17),
		"a line of length": "SSH-2.0-" + strings.Repeat("x", 1<<16) + "\r\n",
	} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				go func() {
					_, _ = c.Write([]byte(answer))
					c.Close()
				}()
			}
		}()
		dir := t.TempDir()
		keyPair(t, dir, "anna")
		put(t, dir, "sites.yaml", placesFile+fmt.Sprintf("devices:\n  hub: {address: %q, user: anna, key: anna.key}\n", l.Addr()))
		if name == "nobody" {
			l.Close()
		}
		r := imbrel(t, dir, "", nil, "deliver", "sites.yaml", "--commit", "--unverified", "--trust-new-keys")
		if r.status != 1 || !strings.Contains(r.out, "`hub` could not be read") || len(r.out) > 2000 {
			t.Errorf("%s: exit %d\n%.2000s%s", name, r.status, r.out, r.err)
		}
		l.Close()
	}
}

// Each profile that comes with the program: what is delivered is within its limits, and the preview says where that is less than asked.
func TestDeliverWithinLimits(t *testing.T) {
	t.Parallel()
	asked := strings.NewReplacer("police: {rate: 960kbit/s, burst: 16kB}", "police: {calls: 6, codec: g711}", "at-least: 20%}\n      - {class: mail", "at-least: 22.5%}\n      - {class: mail").Replace(placesFile)
	five := strings.NewReplacer("classes:\n", "classes:\n  - {name: logs, match: [{protocol: udp, port: 514}]}\n", "      - {class: rest,", "      - {class: logs, mark: cs1, at-least: 3%}\n      - {class: rest,").Replace(asked)
	for profile, want := range map[string][]string{
		"small-branch":  {"`logs` shares a queue with the rest, which is promised 23%: before, `logs` was promised 3% and the rest 20%; its packets are not marked cs1 any more", "`charts` is promised 22% in place of 22.5%", "the policer of `voice` passes 568 kbit/s in place of 571 kbit/s: 5 calls of G.711 fit in place of 6", "the burst of `voice` is 8,000 B in place of 2,856 B"},
		"wide-branch":   {"the policer of `voice` passes 568 kbit/s"},
		"old-access":    {"`charts` is promised 20% in place of 22.5%", "the policer of `voice` passes 512 kbit/s"},
		"site-firewall": {"`charts` is promised 22% in place of 22.5%", "Flows that are under way keep their class at hub until they are renewed"},
		"busy-core":     {"`charts` is promised 22% in place of 22.5%"},
		"radio-head":    {"the burst of `voice` is 4,000 B in place of 2,856 B"},
	} {
		s := newPlaces(t, profile)
		s.write(five)
		s.wants(s.deliver("sites.yaml", "--trust-new-keys"), 0, want...)
		for try := 0; ; try++ { // one of them refuses now and then
			r := s.deliver("sites.yaml", "--commit", "--unverified", "--renew")
			if profile == "busy-core" && r.status == 1 && try < 20 {
				s.wants(r, 1, "the device is busy", "as before")
				continue
			}
			s.wants(r, 0, "DONE: 1 device changed.")
			break
		}
		s.wants(s.deliver("drift", "sites.yaml"), 0)
		s.kill("hub")
	}
	s := newPlaces(t, "old-access")
	s.write(strings.Replace(placesFile, `attach: [{policy: wan, at: "*/wan out"}]`, `attach: [{policy: wan, at: ["*/wan out", "hub/wan in"]}]`, 1))
	s.wants(s.deliver("sites.yaml", "--trust-new-keys"), 1, "it cannot be done on this device: hub/wan has policies in both directions")
	s.write(strings.Replace(placesFile, "{class: mail, at-least: 10%}", "{class: mail, at-least: 10%, treat: [{class: rest}]}", 1))
	s.wants(s.deliver("sites.yaml"), 1, "entries within entries, 2 deep, and the device has 1")
}

// One device is locked by another session, one hides its limits: all devices stay as they were.
func TestDeliverToALiar(t *testing.T) {
	t.Parallel()
	s := newPlaces(t, "wide-branch", "small-branch")
	s.wants(s.deliver("sites.yaml", "--trust-new-keys"), 0)
	s.write(strings.Replace(placesFile, "shape: 9.5Mbit/s", "shape: 9.4Mbit/s", 1))
	c := s.session("north") // somebody else is at work there
	if err := c.Lock("candidate"); err != nil {
		t.Fatal(err)
	}
	s.wants(s.deliver("sites.yaml", "--commit", "--unverified", "--together"), 1, "TAKEN BACK", "has locked candidate")
	c.Close()
	if got := s.shapes(); got != "9.5Mbit/s 9.5Mbit/s" {
		t.Errorf("after a refusal of one: %s", got)
	}
	s.kill("north")
	l, err := net.Listen("tcp", s.devices["north"].address)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	store := manage.Store{Dir: filepath.Join(s.dir, "north")}
	key, err := store.HostKey()
	if err != nil {
		t.Fatal(err)
	}
	liar := &liar{running: s.running("hub").Clone()}
	first, _, err := policyfile.Read("sites.yaml", strings.NewReader(placesFile), nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	_, source, _ := policyfile.Read("sites.yaml", strings.NewReader(placesFile), nil, nil)
	part := source.Part(first, &first.Network.Nodes[1])
	liar.running = yang.Tree(language.DeviceForm(), &part).In(yang.Namespace)
	go manage.Serve(l, store, key, netconf.NewServer(liar, liar.running, nil), func(string, int, string) {})
	s.wants(s.deliver("sites.yaml", "--commit", "--unverified", "--together"), 1, "TAKEN BACK: All devices are as they were.", "only three queues after all")
	if liar.applied {
		t.Error("what is not valid was put in force")
	}
}

// A liar says that it has no limits, and has.
type liar struct {
	running *yang.Element
	applied bool
}

func (l *liar) Check(*yang.Element) error { return errors.New("only three queues after all") }
func (l *liar) Apply(*yang.Element) error { l.applied = true; return nil }
func (l *liar) Save(*yang.Element) error  { return nil }
func (l *liar) Renew() error              { return nil }
func (l *liar) State(int) *yang.Element   { return yang.New("device", yang.Leaf("node", "north")) }

// Where the history cannot be written, nothing is changed.
func TestDeliverWithAFullDisk(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("sh"); err != nil {
		t.Skip("no shell here, to limit the sizes of files")
	}
	s := newPlaces(t, "wide-branch")
	s.wants(s.deliver("sites.yaml", "--trust-new-keys"), 0)
	s.write(strings.Replace(placesFile, "shape: 9.5Mbit/s", "shape: 9.4Mbit/s", 1))
	c := exec.Command("sh", "-c", `ulimit -f 1; exec "$0" "$@"`, program, "deliver", "sites.yaml", "--commit", "--unverified")
	c.Dir = s.dir
	out, err := c.CombinedOutput()
	if err == nil || !strings.Contains(string(out), "the history") {
		t.Errorf("%v\n%s", err, out)
	}
	if got := s.shapes(); got != "9.5Mbit/s" {
		t.Errorf("without a history: %s\n%s", got, out)
	}
	s.wants(s.deliver("sites.yaml", "--commit", "--unverified"), 0, "DONE")
}
