package cli_test

import (
	"encoding/json"
	"os/exec"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/acceptance"
)

const boughtHere = `imbrel: 1
network:
  nodes:
    - {name: site, interfaces: [{name: lan, rate: 1Gbit/s, subnets: [10.44.0.0/18]}, {name: wan, rate: 1Gbit/s}]}
    - {name: far, interfaces: [{name: wan, rate: 1Gbit/s}, {name: lan, rate: 1Gbit/s, subnets: [10.44.64.0/18]}]}
  links: [{ends: [{at: site/wan, contract: {rate: RATE, burst: 12kB}}, {at: far/wan}], delay: 1ms}]
`

// acceptOnce: a gate that polices is the carrier. What it passes is accepted where that is what was bought; a contract of more, or of less, is not.
func acceptOnce(t testing.TB) {
	y := answeringYard(t, "900Mbit/s", "{class: rest, police: {rate: 8Mbit/s, burst: 12kB}}")
	for _, c := range []struct {
		rate  string
		holds bool
		fails string
	}{{"8Mbit/s", true, ""}, {"10Mbit/s", false, "df at 100 %"}} {
		file := put(t, t.TempDir(), "bought.yaml", strings.Replace(boughtHere, "RATE", c.rate, 1))
		out, _ := exec.Command("ip", "netns", "exec", y.left, program, "flood", rightHost, "--acceptance", file, "--for", "1s", "-o", "json").Output()
		var got struct{ Acceptance acceptance.Result }
		if err := json.Unmarshal(out, &got); err != nil || len(got.Acceptance.Steps) != 6 {
			t.Fatalf("%s: %v: %s", c.rate, err, out)
		}
		failed := ""
		for _, s := range got.Acceptance.Steps {
			if !s.Holds {
				failed = s.Step
			}
			if s.Step == "df, bursts of 9 packets" && (s.Sent < 40 || !c.holds && !s.Holds) {
				t.Errorf("%s: %+v", c.rate, s)
			}
		}
		if got.Acceptance.Holds != c.holds || c.fails != "" && failed < c.fails {
			t.Errorf("%s: %+v", c.rate, got.Acceptance)
		}
	}
}
