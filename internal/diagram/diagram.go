// Package diagram draws the network of a policy file: nodes, interfaces, links, and the policies on them. As SVG it needs nothing
// else; as DOT it is for programs that lay graphs out.
package diagram

import (
	"cmp"
	"fmt"
	"html"
	"slices"
	"strings"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/internal/chart"
)

// A Drawing is a network, or some of its nodes.
type Drawing struct {
	file  *policy.File
	nodes []*policy.Node
}

// Of returns the drawing of a file's whole network.
func Of(f *policy.File) *Drawing {
	d := &Drawing{file: f}
	for i := range f.Network.Nodes {
		d.nodes = append(d.nodes, &f.Network.Nodes[i])
	}
	return d
}

// Only leaves in the drawing the nodes that a test chooses.
func (d *Drawing) Only(keep func(*policy.Node) bool) {
	d.nodes = slices.DeleteFunc(d.nodes, func(n *policy.Node) bool { return !keep(n) })
}

// Nodes returns how many nodes are drawn.
func (d *Drawing) Nodes() int { return len(d.nodes) }

// links returns the links between nodes that are drawn.
func (d *Drawing) links() (out []*policy.Link) {
	for _, l := range d.file.Network.Links {
		if slices.Contains(d.nodes, l.Ends[0].Interface.Node) && slices.Contains(d.nodes, l.Ends[1].Interface.Node) {
			out = append(out, l)
		}
	}
	return out
}

// rateOf is what a link carries, each way where they differ.
func rateOf(l *policy.Link) string {
	a, b := l.Ends[0].Interface.Carries(policy.Out), l.Ends[1].Interface.Carries(policy.Out)
	text := a.String()
	if a != b {
		text = "→ " + a.String() + ", ← " + b.String()
	}
	return text
}

// linkText is what a link does to packets.
func linkText(l *policy.Link) []string {
	out := []string{rateOf(l)}
	if l.Delay > 0 {
		out = append(out, l.Delay.String())
	}
	if l.Loss.Part > 0 {
		out = append(out, fmt.Sprintf("%.3g %% lost", 100*l.Loss.Part))
	}
	if l.Jitter.Mean > 0 {
		out = append(out, "± "+l.Jitter.Mean.String())
	}
	return out
}

// policyText says which policies are attached to an interface.
func policyText(i *policy.Interface) (out []string) {
	for _, direction := range []policy.Direction{policy.In, policy.Out} {
		if a := i.Attached[direction]; a != nil {
			text := a.Policy.Name + " " + direction.String()
			if !a.Policy.Shape.IsZero() {
				text += ", shape " + a.Policy.Shape.String()
			}
			out = append(out, text)
		}
	}
	return out
}

// hostsText names the hosts at an interface.
func hostsText(i *policy.Interface) string {
	var out []string
	for _, s := range i.Subnets[:min(2, len(i.Subnets))] {
		out = append(out, s.String())
	}
	if n := len(i.Subnets) - len(out); n > 0 {
		out = append(out, fmt.Sprintf("%d more", n))
	}
	return strings.Join(out, ", ")
}

// DOT returns the drawing in the language of graphs that many programs read.
func (d *Drawing) DOT() string {
	var b strings.Builder
	quote := func(s string) string { return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"` }
	field := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "|", `\|`, "{", `\{`, "}", `\}`, "<", `\<`, ">", `\>`)
	b.WriteString("graph network {\n  rankdir=LR;\n  node [shape=record];\n")
	for _, n := range d.nodes {
		parts := []string{field.Replace(n.Name)}
		for k, i := range n.Interfaces {
			lines := append([]string{i.Name + " " + i.Rate.String()}, policyText(i)...)
			if hosts := hostsText(i); hosts != "" {
				lines = append(lines, hosts)
			}
			for j := range lines {
				lines[j] = field.Replace(lines[j])
			}
			parts = append(parts, fmt.Sprintf("<i%d> %s", k, strings.Join(lines, `\n`)))
		}
		fmt.Fprintf(&b, "  %s [label=\"%s\"];\n", quote(n.Name), strings.Join(parts, "|"))
	}
	for _, l := range d.links() {
		end := func(e int) string {
			i := l.Ends[e].Interface
			return fmt.Sprintf("%s:i%d", quote(i.Node.Name), slices.Index(i.Node.Interfaces, i))
		}
		fmt.Fprintf(&b, "  %s -- %s [label=%s];\n", end(0), end(1), quote(strings.Join(linkText(l), ", ")))
	}
	b.WriteString("}\n")
	return b.String()
}

// Sizes in an SVG.
const (
	line   = 16.0
	pad    = 8.0
	gapX   = 170.0
	gapY   = 18.0
	margin = 14.0
)

// A box is a node where it is drawn.
type box struct {
	node       *policy.Node
	x, y, w, h float64
	rows       map[*policy.Interface]float64 // the middle of each interface
	text       []row
}

type row struct {
	text  string
	class string
	y     float64
}

// SVG returns the drawing as an SVG file.
func (d *Drawing) SVG() string {
	layers := d.layers()
	boxes := make(map[*policy.Node]*box)
	var order []*box
	x, height := margin, 0.0
	for _, layer := range layers {
		y, wide := margin, 0.0
		var column []*box
		for _, n := range layer {
			k := newBox(n)
			k.x, k.y = x, y
			y += k.h + gapY
			wide = max(wide, k.w)
			column = append(column, k)
			boxes[n] = k
		}
		for _, k := range column {
			k.w = wide
		}
		order = append(order, column...)
		height = max(height, y)
		x += wide + gapX
	}
	for _, layer := range layers { // each column stands in the middle
		last := boxes[layer[len(layer)-1]]
		shift := (height - gapY - last.y - last.h) / 2
		for _, n := range layer {
			k := boxes[n]
			k.y += shift
		}
	}
	var b strings.Builder
	for _, l := range d.links() {
		drawLink(&b, l, boxes)
	}
	for _, k := range order {
		k.draw(&b)
	}
	width := x - gapX + margin
	title := d.file.Title
	if title == "" {
		title = "the network"
	}
	return fmt.Sprintf("<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 %.0f %.0f\" width=\"%.0f\" height=\"%.0f\" role=\"img\" aria-label=\"%s\">\n<title>%s</title>\n<style>%s.t{font-size:12px}.b{font-weight:bold}.n{fill:var(--bg,#fff)}</style>\n%s</svg>\n",
		width, height, width, height, html.EscapeString(title), html.EscapeString(title), chart.Style(), b.String())
}

// newBox lays the text of a node out.
func newBox(n *policy.Node) *box {
	k := &box{node: n, rows: make(map[*policy.Interface]float64)}
	add := func(text, class string) {
		k.h += line
		k.text = append(k.text, row{text, class, k.h})
		k.w = max(k.w, chart.Width(text, strings.Contains(class, "b"))*12/11+2*pad)
	}
	add(n.Name, "f kx t b")
	k.h += 4
	for _, i := range n.Interfaces {
		k.rows[i] = k.h + line*0.7
		add(i.Name+"  "+i.Rate.String(), "f kx t")
		for _, p := range policyText(i) {
			add("   "+p, "f k0 t")
		}
		if hosts := hostsText(i); hosts != "" {
			add("   "+hosts, "f kx t")
		}
	}
	k.h += pad
	return k
}

func (k *box) draw(b *strings.Builder) {
	fmt.Fprintf(b, "<rect class=\"s kx n\" x=\"%.1f\" y=\"%.1f\" width=\"%.1f\" height=\"%.1f\" rx=\"6\"/>\n", k.x, k.y, k.w, k.h)
	for _, r := range k.text {
		fmt.Fprintf(b, "<text class=\"%s\" x=\"%.1f\" y=\"%.1f\" xml:space=\"preserve\">%s</text>\n", r.class, k.x+pad, k.y+r.y, html.EscapeString(r.text))
	}
}

// drawLink draws a link from interface to interface, and beside it what it carries.
func drawLink(b *strings.Builder, l *policy.Link, boxes map[*policy.Node]*box) {
	i, j := l.Ends[0].Interface, l.Ends[1].Interface
	p, q := boxes[i.Node], boxes[j.Node]
	words := linkText(l)
	if p.x > q.x {
		i, j, p, q = j, i, q, p
		words[0] = strings.NewReplacer("→", "←", "←", "→").Replace(words[0])
	}
	x0, y0, x1, y1 := p.x+p.w, p.y+p.rows[i], q.x, q.y+q.rows[j]
	if p.x == q.x { // in one column: around the right
		x1 = q.x + q.w
		fmt.Fprintf(b, "<path class=\"s kx\" d=\"M%.1f %.1fC%.1f %.1f %.1f %.1f %.1f %.1f\"/>\n", x0, y0, x0+60, y0, x1+60, y1, x1, y1)
	} else {
		fmt.Fprintf(b, "<path class=\"s kx\" d=\"M%.1f %.1fC%.1f %.1f %.1f %.1f %.1f %.1f\"/>\n", x0, y0, x0+gapX/3, y0, x1-gapX/3, y1, x1, y1)
	}
	// The words stand at the end that has fewer links, so that many from one node do not share a place.
	at, anchor, y := x1-6, "end", y1-4
	if p.x == q.x {
		at, anchor, y = (x0+x1)/2+50, "start", (y0+y1)/2
	} else if len(q.node.Interfaces) > len(p.node.Interfaces) {
		at, anchor, y = x0+6, "start", y0-4
	}
	for n, w := range words {
		fmt.Fprintf(b, "<text class=\"f kx t o\" style=\"font-size:11px\" text-anchor=\"%s\" x=\"%.1f\" y=\"%.1f\">%s</text>\n", anchor, at, y+float64(n)*13, html.EscapeString(w))
	}
}

// layers puts the nodes into columns: each as far from the first as its way from the node with most links has hops. Parts that no
// link joins follow one another.
func (d *Drawing) layers() (out [][]*policy.Node) {
	links := d.links()
	near := make(map[*policy.Node][]*policy.Node)
	for _, l := range links {
		a, b := l.Ends[0].Interface.Node, l.Ends[1].Interface.Node
		near[a], near[b] = append(near[a], b), append(near[b], a)
	}
	far := make(map[*policy.Node]int)
	for len(far) < len(d.nodes) {
		var left []*policy.Node
		for _, n := range d.nodes {
			if _, known := far[n]; !known {
				left = append(left, n)
			}
		}
		root := slices.MaxFunc(left, func(a, b *policy.Node) int { // of several the first
			return cmp.Or(cmp.Compare(len(near[a]), len(near[b])), cmp.Compare(slices.Index(left, b), slices.Index(left, a)))
		})
		far[root] = 0
		for todo := []*policy.Node{root}; len(todo) > 0; todo = todo[1:] {
			n := todo[0]
			for len(out) <= far[n] {
				out = append(out, nil)
			}
			out[far[n]] = append(out[far[n]], n)
			for _, m := range near[n] {
				if _, known := far[m]; !known {
					far[m] = far[n] + 1
					todo = append(todo, m)
				}
			}
		}
	}
	return out
}
