package cli_test

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"imbrel.example/imbrel/core/survey"
)

func surveyed(t testing.TB, dir string, args ...string) *survey.Result {
	t.Helper()
	r := imbrel(t, dir, "", nil, append([]string{"survey", "-o", "json"}, args...)...)
	var res survey.Result
	if err := json.Unmarshal([]byte(r.out), &res); err != nil || r.status != 0 {
		t.Fatalf("survey %v: exit %d, %v: %s", args, r.status, err, r.err)
	}
	return &res
}

// The sums of the demo's capture are those that another reader of packets counts.
func TestSurvey(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", ".")
	name := filepath.Join(dir, "ternrock-office.pcap")
	file, err := os.Open(name)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	read, err := pcapgo.NewReader(file)
	if err != nil {
		t.Fatal(err)
	}
	bytesOf, packets := make(map[string]int64), int64(0)
	for {
		data, info, err := read.ReadPacketData()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		p := gopacket.NewPacket(data, read.LinkType(), gopacket.NoCopy)
		ip, ok := p.Layer(layers.LayerTypeIPv4).(*layers.IPv4)
		if !ok {
			t.Fatalf("packet %d is not IPv4", packets)
		}
		_ = info
		packets++
		bytesOf[ip.SrcIP.String()] += int64(ip.Length)
		bytesOf[ip.DstIP.String()] += int64(ip.Length)
	}
	res := surveyed(t, dir, "ternrock-office.pcap")
	if res.Total.Packets != packets {
		t.Errorf("%d packets, want %d", res.Total.Packets, packets)
	}
	for _, by := range []string{"client", "server"} {
		for _, s := range res.Of(by) {
			if s.Bytes != bytesOf[s.Name] {
				t.Errorf("%s %s: %d bytes, want %d", by, s.Name, s.Bytes, bytesOf[s.Name])
			}
		}
	}
	text := imbrel(t, dir, "", nil, "survey", "ternrock-office.pcap", "--top", "2", "--by", "app,vlan", "--report", "page.html")
	for _, want := range []string{"30 s from 2023-11-14 22:13:20 UTC: 14.2 MB in 11,487 packets", "https", "and 2 more; --top 0 shows all", "untagged", "rsync: 100.0 % is marked ef", "No calls were found"} {
		if !strings.Contains(text.out, want) {
			t.Errorf("no %q in\n%s%s", want, text.out, text.err)
		}
	}
	page(t, filepath.Join(dir, "page.html"), 400_000)
	some := surveyed(t, dir, "ternrock-office.pcap", "--where", "app: rsync")
	if s := some.Of("app"); len(s) != 1 || s[0].Name != "rsync" || some.Total.Bytes != s[0].Bytes {
		t.Errorf("--where: %+v", s)
	}
	saved(t, dir, "one.json", "ternrock-office.pcap")
	if twice := surveyed(t, dir, "--add", "one.json", "ternrock-office.pcap"); twice.Total.Bytes != 2*res.Total.Bytes || len(twice.Sources) != 2 {
		t.Errorf("added: %d bytes of %v, want %d", twice.Total.Bytes, twice.Sources, 2*res.Total.Bytes)
	}
}

// Calls are found with what they lost; captures of the two directions are read in the order of time.
func TestSurveyOfCalls(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	res := surveyed(t, dir, append(callsCapture(t, dir, 4), "--inside", "10.1.0.0/16")...)
	if len(res.Calls) != 8 || res.AtOnce != 4 {
		t.Fatalf("%d streams, %d calls at a time", len(res.Calls), res.AtOnce)
	}
	for _, c := range res.Calls {
		lossy := strings.HasPrefix(c.From, "10.2.") // it has crossed the link, which loses 2 %
		if c.Codec != "g711" || c.Interval != 20 || lossy != (c.Lost > 0) || c.Lost > 60 || c.Packets+c.Lost < 995 || c.MOS == nil {
			t.Errorf("%+v", c)
		}
	}
	if d := res.Of("direction"); len(d) != 2 || d[0].Name != "in" || d[1].Name != "out" {
		t.Errorf("directions: %+v", d)
	}
}

func TestSurveyRefuses(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	imbrel(t, dir, "", nil, "demo", "--write", ".")
	put(t, dir, "empty", "")
	put(t, dir, "other.json", "{}")
	put(t, dir, "nothing.pcap", pcap())
	for args, want := range map[string]string{
		"":                                    "wants something to read",
		"gone.pcap":                           "gone.pcap does not exist",
		"empty":                               "is not a capture",
		"nothing.pcap":                        "no packet or flow was found",
		"ternrock.yaml":                       "is not a pcap or pcapng capture",
		"--add other.json":                    "is not a saved survey",
		"ternrock-office.pcap --by ports":     "traffic is summed by client, server, app",
		"ternrock-office.pcap --inside 10/x":  "this is not a prefix",
		"ternrock-office.pcap --where app:zz": "is not a condition",
		"ternrock-office.pcap --where {":      "is not a condition",
		"--ipfix 4739":                        "write HOST:PORT",
		"--ipfix :0 --for 1ms":                "the least is 1s",
		"--ipfix :0 --interface lo":           "name one of --interface, --gate and --ipfix",
	} {
		if r := imbrel(t, dir, "", nil, append([]string{"survey"}, strings.Fields(args)...)...); r.status != 2 || !strings.Contains(r.err, want) {
			t.Errorf("survey %s: exit %d: %s%s; want %q", args, r.status, r.out, r.err, want)
		}
	}
}

// ipfixMessage has a template and a flow of so many bytes.
func ipfixMessage(sequence uint32, bytesSent uint32) []byte {
	body := []byte{0, 2, 0, 32, 1, 0, 0, 6, 0, 8, 0, 4, 0, 12, 0, 4, 0, 7, 0, 2, 0, 11, 0, 2, 0, 4, 0, 1, 0, 1, 0, 4, 1, 0, 0, 21, 10, 1, 0, 7, 10, 2, 0, 9, 0xc3, 0x50, 1, 0xbb, 6}
	body = binary.BigEndian.AppendUint32(body, bytesSent)
	b := make([]byte, 16, 80)
	binary.BigEndian.PutUint16(b, 10)
	binary.BigEndian.PutUint16(b[2:], uint16(16+len(body)))
	binary.BigEndian.PutUint32(b[4:], uint32(time.Now().Unix()))
	binary.BigEndian.PutUint32(b[8:], sequence)
	return append(b, body...)
}

// Flow records come by UDP, by TCP and from a file, and what is missing is said.
func TestSurveyOfFlowRecords(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "flows.ipfix", string(bytes.Join([][]byte{ipfixMessage(0, 1000), ipfixMessage(4, 500), []byte("tail")}, nil)))
	res := surveyed(t, dir, "flows.ipfix")
	if res.Total.Bytes != 1500 || res.Of("app")[0].Name != "https" || res.Of("client")[0].Name != "10.1.0.7" || len(res.Notes) != 2 || !strings.Contains(res.Notes[0], "3 records are missing") {
		t.Errorf("%+v, %v", res.Total, res.Notes)
	}
	c := exec.Command(program, "survey", "--ipfix", "127.0.0.1:0", "--for", "1min", "-o", "json")
	var out bytes.Buffer
	c.Stdout = &out
	said, _ := c.StderrPipe()
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	b := make([]byte, 200)
	n, _ := said.Read(b)
	address := strings.TrimSpace(strings.TrimPrefix(string(b[:n]), "listening at "))
	for _, network := range []string{"udp", "tcp"} {
		conn, err := net.Dial(network, address)
		if err != nil {
			t.Fatalf("%s: %v", string(b[:n]), err)
		}
		for i := range uint32(3) {
			if _, err := conn.Write(ipfixMessage(i, 700)); err != nil {
				t.Fatal(err)
			}
		}
		time.Sleep(300 * time.Millisecond)
		conn.Close()
	}
	_ = c.Process.Signal(syscall.SIGINT)
	if err := c.Wait(); err != nil {
		t.Errorf("it ends with %v", err)
	}
	var live survey.Result
	if err := json.Unmarshal(out.Bytes(), &live); err != nil || live.Total.Bytes != 6*700 || live.Total.Flows != 6 {
		t.Errorf("%v: %+v\n%s", err, live.Total, out.String())
	}
}
