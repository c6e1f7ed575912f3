package cli_test

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/yang"
)

// Clients of NETCONF that are not ours manage a device: hello, reading, editing, commits, confirmed commits, their cancellation. scripts/clients
// installs them.
func TestOthersManage(t *testing.T) {
	t.Run("yangcli", func(t *testing.T) {
		if _, err := exec.LookPath("yangcli"); err != nil {
			t.Skip("no yangcli here: scripts/clients installs it")
		}
		s := newPlaces(t, "wide-branch")
		host, port, _ := net.SplitHostPort(s.devices["hub"].address)
		put(t, s.dir, "edit.xml", `<policy-file xmlns="https://imbrel.example/yang/policy"><policies><name>wan</name><shape><value>9Mbit/s</value></shape></policies></policy-file>`)
		put(t, s.dir, "anna.key.pub", publicLine(t, s))
		put(t, s.dir, "script", strings.Join([]string{"lock target=candidate", "edit-config target=candidate config=@" + filepath.Join(s.dir, "edit.xml"), "validate source=candidate", "commit confirmed confirm-timeout=60",
			"cancel-commit", "edit-config target=candidate config=@" + filepath.Join(s.dir, "edit.xml"), "commit confirmed confirm-timeout=60", "commit", "copy-config source=running target=startup", "unlock target=candidate", "close-session", ""}, "\n"))
		c := exec.Command("yangcli", "--server="+host, "--ncport="+port, "--user=anna", "--private-key="+filepath.Join(s.dir, "anna.key"), "--public-key="+filepath.Join(s.dir, "anna.key.pub"), "--run-script="+filepath.Join(s.dir, "script"), "--batch-mode")
		c.Env = append(os.Environ(), "HOME="+s.dir)
		out := within(t, c, 60*time.Second)
		if n := strings.Count(out, "RPC OK Reply"); n < 10 || strings.Contains(out, "RPC Error") {
			t.Errorf("%d of 10 calls are well:\n%s", n, out)
		}
		if got := s.shapes(); got != "9Mbit/s" {
			t.Errorf("in force: %s", got)
		}
	})
	t.Run("a Go library", func(t *testing.T) {
		path, _ := exec.Command("go", "env", "GOPATH").Output()
		client := filepath.Join(strings.TrimSpace(string(path)), "bin", "imbrel-netconf-client")
		if _, err := os.Stat(client); err != nil {
			t.Skip("no client here: scripts/clients makes it")
		}
		for _, version := range []string{"1.0", "1.1"} {
			s := newPlaces(t, "wide-branch")
			host, port, _ := net.SplitHostPort(s.devices["hub"].address)
			if out := within(t, exec.Command(client, host, port, "anna", filepath.Join(s.dir, "anna.key"), version), 60*time.Second); !strings.Contains(out, "well") {
				t.Errorf("version %s: %s", version, out)
			}
		}
	})
	t.Run("yanglint", func(t *testing.T) {
		lint, err := exec.LookPath("yanglint")
		if err != nil {
			t.Skip("no yanglint here: scripts/clients installs it")
		}
		s := newPlaces(t, "small-branch")
		put(t, s.dir, "imbrel-policy.yang", imbrel(t, s.dir, "", nil, "schema", "--yang").out)
		c := s.session("hub")
		defer c.Close()
		reply, err := c.Call(yang.New("get"))
		if err != nil {
			t.Fatal(err)
		}
		var got string
		for _, e := range reply.Find("data").Inner {
			if e.Space == yang.Namespace {
				got += e.String() + "\n"
			}
		}
		if strings.Count(got, "<limit>") < 4 {
			t.Errorf("get says nothing of limits: %s", got)
		}
		put(t, s.dir, "get.xml", got)
		if out, err := exec.Command(lint, "-t", "get", filepath.Join(s.dir, "imbrel-policy.yang"), filepath.Join(s.dir, "get.xml")).CombinedOutput(); err != nil || len(out) > 0 {
			t.Errorf("%v\n%s\n%s", err, out, got)
		}
	})
}

// publicLine returns anna's public key as OpenSSH writes it.
func publicLine(t testing.TB, s *places) string {
	t.Helper()
	line, _, _ := strings.Cut(readFile(t, filepath.Join(s.dir, "hub"), "managers")[len("# who may\n"):], "\n")
	return line + "\n"
}

// within runs a program of somebody else's for a time at most, and returns what it says.
func within(t testing.TB, c *exec.Cmd, d time.Duration) string {
	t.Helper()
	f, err := os.Create(filepath.Join(t.TempDir(), "out"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	c.Stdout, c.Stderr = f, f
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	late := time.AfterFunc(d, func() { _ = c.Process.Kill() })
	err = c.Wait()
	late.Stop()
	out, _ := os.ReadFile(f.Name())
	if err != nil {
		t.Errorf("%s: %v\n%s", c.Path, err, out)
	}
	return string(out)
}
