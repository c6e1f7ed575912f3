package diagram_test

import (
	"encoding/xml"
	"io"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/examples"
	"imbrel.example/imbrel/internal/diagram"
	"imbrel.example/imbrel/internal/files"
)

// Every node, interface, policy and link of a file is in its drawing, and a part of it holds nothing else.
func TestDrawingHoldsTheNetwork(t *testing.T) {
	for _, name := range []string{"ternrock.yaml", "coast-mpls.yaml", "cookbook/branches.yaml"} {
		f, _, err := files.ReadPolicyIn(examples.FS, name)
		if err != nil {
			t.Fatal(err)
		}
		d := diagram.Of(f)
		svg, dot := d.SVG(), d.DOT()
		x := xml.NewDecoder(strings.NewReader(svg))
		for {
			if _, err := x.Token(); err == io.EOF {
				break
			} else if err != nil {
				t.Fatalf("%s: the SVG is no XML: %v", name, err)
			}
		}
		for i := range f.Network.Nodes {
			n := &f.Network.Nodes[i]
			if !strings.Contains(svg, ">"+n.Name+"<") || !strings.Contains(dot, `"`+n.Name+`" [label=`) {
				t.Errorf("%s: %s is not drawn", name, n.Name)
			}
			for _, k := range n.Interfaces {
				if want := k.Name + "  " + k.Rate.String(); !strings.Contains(svg, want) {
					t.Errorf("%s: %q is not drawn", name, want)
				}
				for _, a := range k.Attached {
					if a != nil && (!strings.Contains(svg, a.Policy.Name) || !strings.Contains(dot, a.Policy.Name)) {
						t.Errorf("%s: the policy %s is not drawn", name, a.Policy.Name)
					}
				}
			}
		}
		if got := strings.Count(dot, " -- "); got != len(f.Network.Links) || strings.Count(svg, "<path class=\"s kx\"") != got {
			t.Errorf("%s: %d links are drawn of %d", name, got, len(f.Network.Links))
		}
		first := f.Network.Nodes[0].Name
		d.Only(func(n *policy.Node) bool { return n.Name == first })
		if d.Nodes() != 1 || strings.Contains(d.DOT(), " -- ") {
			t.Errorf("%s: the drawing of one node holds more", name)
		}
	}
}
