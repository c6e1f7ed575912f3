package language

import "testing"

func TestHostPort(t *testing.T) {
	for in, want := range map[string]string{
		"192.0.2.17": "192.0.2.17:830", "192.0.2.17:22": "192.0.2.17:22", "hub.example": "hub.example:830", "hub.example:2830": "hub.example:2830",
		"2001:db8::1": "[2001:db8::1]:830", "[2001:db8::1]": "[2001:db8::1]:830", "[2001:db8::1]:22": "[2001:db8::1]:22",
		"": "", ":830": "", "hub:": "", "hub:0": "", "hub:70000": "", "hub:x": "", "a:b:c": "", "hub example": "", "http://hub": "", "[hub": "", "[::1]830": "", "2001:db8::1]:22": "",
	} {
		got, err := hostPort("830")(in)
		if got != want || (err == nil) != (want != "") {
			t.Errorf("%q: %q, %v, want %q", in, got, err, want)
		}
	}
}
