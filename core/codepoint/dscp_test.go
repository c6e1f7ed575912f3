package codepoint

import (
	"fmt"
	"testing"
)

// The IANA registry of pool 1 codepoints.
func TestRegisteredCodepoints(t *testing.T) {
	for name, want := range map[string]DSCP{
		"df": 0, "cs0": 0, "CS1": 8, "cs2": 16, "cs3": 24, "cs4": 32, "cs5": 40, "cs6": 48, "cs7": 56,
		"af11": 10, "af12": 12, "af13": 14, "af21": 18, "af22": 20, "af23": 22,
		"af31": 26, "af32": 28, "af33": 30, "af41": 34, "af42": 36, "AF43": 38,
		"ef": 46, "EF": 46, "voice-admit": 44, "le": 1, "46": 46, "63": 63,
	} {
		if got, err := ParseDSCP(name); err != nil || got != want {
			t.Errorf("ParseDSCP(%q) = %d, %v; want %d", name, got, err, want)
		}
	}
	for _, bad := range []string{"", "64", "184", "af14", "af51", "cs8", "-1", "af", "e f"} {
		if got, err := ParseDSCP(bad); err == nil {
			t.Errorf("ParseDSCP(%q) = %d; want an error", bad, got)
		}
	}
}

func TestEveryNameReadsBack(t *testing.T) {
	for d := range MaxDSCP + 1 {
		if back, err := ParseDSCP(d.Name()); err != nil || back != d {
			t.Errorf("%d is named %s, which reads as %d, %v", d, d.Name(), back, err)
		}
	}
}

func ExampleDSCP_ToS() {
	d, _ := ParseDSCP("ef")
	fmt.Printf("%s is %d, the whole byte 0x%02x\n", d.Name(), d, d.ToS())
	_, err := ParseDSCP("184")
	fmt.Println(err)
	// Output:
	// ef is 46, the whole byte 0xb8
	// 184 is not a DSCP: it is a number from 0 to 63 (as a whole ToS byte 184 is DSCP 46, ef)
}
