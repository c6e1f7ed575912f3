package files

import (
	"bufio"
	"bytes"
	"errors"
	"io/fs"
	"reflect"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/examples"
)

// Whatever is in a file, reading it ends in a policy or in problems with
// words and places, and never in a panic.
func FuzzReadPolicy(f *testing.F) {
	names, err := fs.Glob(examples.FS, "*.yaml")
	if err != nil {
		f.Fatal(err)
	}
	for _, n := range names {
		text, err := fs.ReadFile(examples.FS, n)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(string(text))
		for i := 0; i < len(text); i += 700 { // parts that are broken in many ways
			f.Add("imbrel: 1\n" + string(text[i:]))
		}
	}
	f.Fuzz(func(t *testing.T, text string) {
		file, _, err := readPolicy(Place{FS: examples.FS}, "fuzz", strings.NewReader(text))
		if err == nil {
			if file.Version != 1 {
				t.Fatalf("a file without a version is read: %q", text)
			}
			return
		}
		var problems policy.Problems
		if !errors.As(err, &problems) || len(problems) == 0 || problems[0].Text == "" {
			t.Fatalf("no problem is told: %v", err)
		}
		_ = err.Error()
	})
}

// A capture file ends, whatever it holds, and what it yields can be parsed.
func FuzzCapture(f *testing.F) {
	data, err := examples.FS.ReadFile("ternrock-office.pcap")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(data[:600])
	f.Add(data[:23])
	f.Add([]byte("\x0a\x0d\x0d\x0a\x1c\x00\x00\x00\x4d\x3c\x2b\x1a\x01\x00\x00\x00\xff\xff\xff\xff\xff\xff\xff\xff\x1c\x00\x00\x00" +
		"\x01\x00\x00\x00\x14\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x14\x00\x00\x00"))
	for _, link := range []byte{0, 12, 101, 113} {
		d := bytes.Clone(data[:400])
		d[20] = link
		f.Add(d)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		c, err := newCapture("fuzz", bufio.NewReader(bytes.NewReader(data)))
		if err != nil {
			return
		}
		for n := 0; ; n++ {
			frame, wire, _, ok, err := c.ReadFrame()
			if err != nil || !ok {
				return
			}
			if n > len(data) {
				t.Fatalf("%d packets in a file of %d bytes", n, len(data))
			}
			var p packet.Packet
			_ = p.Parse(frame, wire)
		}
	})
}

// A JSON text is the same document whether it is read as JSON or as YAML, which
// holds JSON.
func TestJSONIsTheSameDocument(t *testing.T) {
	var plain func(n language.Value) language.Value
	plain = func(n language.Value) language.Value {
		n.At = policy.Place{}
		for i := range n.Keys {
			n.Keys[i] = plain(n.Keys[i])
		}
		for i := range n.Items {
			n.Items[i] = plain(n.Items[i])
		}
		return n
	}
	for _, text := range []string{
		`{"imbrel": 1, "classes": [{"name": "v", "match": [{"dscp": ["ef", 40]}, {}]}], "title": null}`,
		"[]", "{}", `"text with \"quotes\""`, "7", "true", `{"a": {"b": [[1], [2, "3%"]]}, "c": "x: y"}`,
	} {
		a, err := language.FromJSON("", []byte(text))
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		b, err := Document("", []byte(text))
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		if a, b := plain(a), plain(b); !reflect.DeepEqual(a, b) {
			t.Errorf("%s is\n%+v as JSON and\n%+v as YAML", text, a, b)
		}
	}
}
