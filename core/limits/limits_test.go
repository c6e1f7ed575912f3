package limits_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/limits"
	"imbrel.example/imbrel/core/policyfile"
)

// profile reads the limits of a file with one a line.
func profile(t testing.TB, name string) *limits.Limits {
	t.Helper()
	text, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	var l limits.Limits
	for line := range strings.Lines(string(text)) {
		if key, value, found := strings.Cut(strings.TrimSpace(line), ": "); found && key[0] != '#' {
			if err := l.Set(key, value); err != nil {
				t.Fatalf("%s: %v", name, err)
			}
		}
	}
	return &l
}

// Whatever a device with the limits of a profile is given of an example is within its limits, and what is less is said; what is within them already is not touched.
func TestFitIsWithinTheLimits(t *testing.T) {
	profiles, _ := filepath.Glob("../../examples/devices/*.yaml")
	names, _ := filepath.Glob("../../examples/cookbook/*.yaml")
	fitted, refused := 0, 0
	for _, p := range profiles {
		l := profile(t, p)
		for _, name := range names {
			root, err := os.OpenRoot(filepath.Dir(name))
			if err != nil {
				t.Fatal(err)
			}
			f, source, err := policyfile.ReadOpened(root.FS().Open, filepath.Base(name), nil)
			root.Close()
			if err != nil {
				continue
			}
			for i := range f.Network.Nodes {
				part := source.Part(f, &f.Network.Nodes[i])
				own, _, err := policyfile.FromValue(part, nil)
				if err != nil {
					t.Fatal(err)
				}
				before := l.Check(own)
				out, less, err := l.Fit(part, own)
				if err != nil {
					if refused++; len(before) == 0 {
						t.Errorf("%s of %s on %s: %v, and it is within the limits", f.Network.Nodes[i].Name, name, p, err)
					}
					continue
				}
				fitted++
				now, _, err := policyfile.FromValue(out, nil)
				if err != nil {
					t.Errorf("%s of %s on %s: %v", f.Network.Nodes[i].Name, name, p, err)
					continue
				}
				if after := l.Check(now); len(after) > 0 {
					t.Errorf("%s of %s on %s: %v", f.Network.Nodes[i].Name, name, p, after)
				}
				if len(before) > 0 && len(less) == 0 {
					t.Errorf("%s of %s on %s: %v, and nothing is less", f.Network.Nodes[i].Name, name, p, before)
				}
				again, more, err := l.Fit(out, now)
				if a, _ := policyfile.Write(&again); err != nil || !l.NoVLAN && len(more) > 0 {
					t.Errorf("%s of %s on %s: what fits is fitted again: %v, %v\n%s", f.Network.Nodes[i].Name, name, p, more, err, a)
				}
			}
		}
	}
	if fitted < 200 || refused == 0 {
		t.Errorf("%d fitted, %d refused", fitted, refused)
	}
}

// Each row of the table is set, and says what was set.
func TestRows(t *testing.T) {
	values := map[string]string{"queues": "4", "levels": "1", "policies": "1", "promise-step": "5%", "police-step": "64kbit/s", "least-burst": "16kB", "no-vlan-counters": "true", "detaches": "true", "keeps-flows": "true", "takes": "2s", "refuses": "20%"}
	for _, r := range limits.Rows() {
		var l limits.Limits
		if got := r.Get(&l); got != "" {
			t.Errorf("%s: %q where there is none", r.Name, got)
		}
		if err := l.Set(r.Name, values[r.Name]); err != nil || r.Get(&l) != values[r.Name] || l.IsZero() {
			t.Errorf("%s: %q, %v", r.Name, r.Get(&l), err)
		}
		if err := l.Set(r.Name, "nonsense"); err == nil || !strings.Contains(err.Error(), r.Name) {
			t.Errorf("%s: nonsense is taken: %v", r.Name, err)
		}
		if r.Doc == "" {
			t.Errorf("%s is not explained", r.Name)
		}
	}
	var l limits.Limits
	if err := l.Set("queue", "4"); err == nil || !strings.Contains(err.Error(), "queues") {
		t.Errorf("a limit that is not there: %v", err)
	}
}

func ExampleLimits_Fit() {
	f, source, err := policyfile.Read("site.yaml", strings.NewReader(`imbrel: 1
classes: [{name: voice, match: [{protocol: udp}]}]
policies: [{name: wan, shape: 9.5Mbit/s, treat: [{class: voice, priority: 1, police: {rate: 100kbit/s, burst: 8kB}}, {class: rest, at-least: 20.5%}]}]
attach: [{policy: wan, at: site/wan out}]
network: {nodes: [{name: site, interfaces: [{name: wan, rate: 100Mbit/s, subnets: 192.0.2.0/24}]}]}
`), nil, nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	l := limits.Limits{PromiseStep: 10_000, PoliceStep: 8_000} // 1 %, 8 kbit/s
	_, less, err := l.Fit(*source.Value(), f)
	for _, fact := range less {
		fmt.Println(fact)
	}
	fmt.Println(err)
	// Output:
	// the policer of `voice` passes 96.0 kbit/s in place of 100 kbit/s
	// `rest` is promised 20% in place of 20.5%
	// <nil>
}
