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

func TestReadings(t *testing.T) {
	for in, want := range map[string]string{
		"ef":           "DSCP [ef]",
		"EF":           "DSCP [ef]",
		"46":           "DSCP [ef]; ToS byte [11] with ECN ECT(0)",
		"0x2e":         "DSCP [ef]; ToS byte [11] with ECN ECT(0)",
		"0xb8":         "ToS byte [ef]",
		"184":          "ToS byte [ef]",
		"101110":       "DSCP in binary [ef]",
		"001010":       "DSCP in binary [af11]",
		"10111000":     "ToS byte in binary [ef]",
		"tos:0xb8":     "ToS byte [ef]",
		"tos:10111001": "ToS byte [ef] with ECN ECT(1)",
		"dscp:40":      "DSCP [cs5]",
		"40":           "DSCP [cs5]; ToS byte [af11]",
		"pcp:5":        "PCP [cs5 voice-admit ef]",
		"tc:4":         "MPLS TC [cs4 af41 af42 af43]",
		"af4*":         "DSCP [af41 af42 af43]",
		"5":            "DSCP [5]; ToS byte [le] with ECN ECT(1); IP precedence [cs5 voice-admit ef]; PCP [cs5 voice-admit ef]; MPLS TC [cs5 voice-admit ef]",
	} {
		readings, err := Read(in)
		got := ""
		for i, r := range readings {
			if i > 0 {
				got += "; "
			}
			var names []string
			for _, d := range r.Points {
				names = append(names, d.Name())
			}
			got += fmt.Sprint(r.As, " ", names)
			if r.Note != "" {
				got += " " + r.Note
			}
		}
		if err != nil || got != want {
			t.Errorf("Read(%q) = %s, %v; want %s", in, got, err, want)
		}
	}
	for _, bad := range []string{"", "eff", "256", "pcp:8", "tos:256", "dscp:64", "vlan:3", "zz*", "0x100", "-1", "1011102"} {
		if r, err := Read(bad); err == nil {
			t.Errorf("Read(%q) = %+v; want an error", bad, r)
		}
	}
}

// RFC 4594 figure 3 and RFC 8325 figure 1.
func TestServiceClassesAndUserPriorities(t *testing.T) {
	for name, want := range map[string]struct {
		class string
		up    uint8
	}{
		"ef": {"telephony", 6}, "voice-admit": {"telephony, capacity admitted", 6}, "cs5": {"signalling", 5}, "af41": {"multimedia conferencing", 4},
		"cs4": {"real-time interactive", 4}, "af33": {"multimedia streaming", 4}, "cs3": {"broadcast video", 4}, "af21": {"low-latency data", 3},
		"cs2": {"operations, management (OAM)", 0}, "af11": {"high-throughput data", 0}, "df": {"standard", 0}, "le": {"lower effort", 1},
		"cs6": {"network control", 7}, "11": {"", 0},
	} {
		d, err := ParseDSCP(name)
		if err != nil || d.ServiceClass() != want.class || d.UserPriority() != want.up {
			t.Errorf("%s: %q, user priority %d; want %+v", name, d.ServiceClass(), d.UserPriority(), want)
		}
	}
}
