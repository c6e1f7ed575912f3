package policyfile

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/linetest"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/survey"
	"imbrel.example/imbrel/core/unit"
)

// maxMeasured is the largest file of what was measured that a policy file may name.
const maxMeasured = 256 << 20

// expand writes what was measured in the place of the names of its files: traffic of a survey, and the shape of a measured line. dir is the
// folder of the file.
func (c *includer) expand(doc *language.Value, dir string) error {
	each := func(key string, of func(*language.Value) error) error {
		i := find(doc, key)
		if i < 0 {
			return nil
		}
		for k := range doc.Items[i].Items {
			if err := c.note(of(&doc.Items[i].Items[k])); err != nil {
				return err
			}
		}
		return nil
	}
	traffic := func(list *language.Value) error {
		var out []language.Value
		for _, item := range list.Items {
			if item.Kind != language.Keyed || find(&item, "survey") < 0 {
				out = append(out, item)
				continue
			}
			parts, err := c.surveyed(&item, dir)
			if err := c.note(err); err != nil {
				return err
			}
			out = append(out, parts...)
		}
		list.Items = out
		return nil
	}
	return errors.Join(
		each("policies", func(p *language.Value) error {
			if i := find(p, "shape"); i >= 0 && p.Items[i].Kind == language.Keyed && find(&p.Items[i], "rate") < 0 && find(&p.Items[i], "burst") < 0 {
				err := c.shaped(&p.Items[i], dir)
				if err != nil { // it is said once
					p.Items[i] = language.Value{Kind: language.Scalar, At: p.Items[i].At, Text: "1Mbit/s"}
				}
				return err
			}
			return nil
		}),
		each("rehearsals", func(h *language.Value) error {
			if i := find(h, "traffic"); i >= 0 && h.Items[i].Kind == language.List {
				return traffic(&h.Items[i])
			}
			return nil
		}),
		each("loads", func(l *language.Value) error {
			if l.Kind == language.List {
				return traffic(l)
			}
			return nil
		}))
}

// wrong is a problem with a value.
func wrong(v *language.Value, help, format string, args ...any) error {
	return policy.Problems{{Place: v.At, Width: len(v.Text), Text: fmt.Sprintf(format, args...), Help: help}}
}

// keys returns the values of a set of keys, which may have no others.
func keys(n *language.Value, may ...string) (map[string]*language.Value, error) {
	out := make(map[string]*language.Value)
	for i := range n.Keys {
		known := false
		for _, k := range may {
			known = known || n.Keys[i].Text == k
		}
		if !known {
			return nil, wrong(&n.Keys[i], "it may have "+policy.OrList(may), "unknown key `%.40s`", n.Keys[i].Text)
		}
		if n.Items[i].Kind != language.Scalar {
			return nil, wrong(&n.Items[i], "write one value", "`%s` has one value", n.Keys[i].Text)
		}
		out[n.Keys[i].Text] = &n.Items[i]
	}
	return out, nil
}

// load reads a file of what was measured.
func (c *includer) load(v *language.Value, dir, save string, into any) error {
	name := c.in.from.Join(dir, v.Text)
	file, err := c.in.from.Open(name)
	if outside, ok := errors.AsType[*Outside](err); ok {
		return wrong(v, "put it there, or allow its folder with --include-from DIR", "%s is outside the folder of the first file, %s", v.Text, outside.Folder)
	}
	if err != nil {
		return wrong(v, "names are relative to the file that names them; save one with `"+save+"`", "cannot read what was measured: %s", err)
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, maxMeasured+1))
	if err != nil || len(text) > maxMeasured || json.Unmarshal(text, into) != nil {
		return wrong(v, "save one with `"+save+"`", "%s is not a file of what was measured", v.Text)
	}
	return nil
}

// shaped puts the rate of a measured line in the place of its file.
func (c *includer) shaped(n *language.Value, dir string) error {
	k, err := keys(n, "measured", "part", "direction")
	if err != nil {
		return err
	}
	if k["measured"] == nil {
		return wrong(n, "write a rate, a percentage, or {measured: FILE, part: 95%}", "a shape needs a rate, or the key `measured`")
	}
	part, up := unit.Whole*95/100, true
	if v := k["part"]; v != nil {
		if part, err = unit.ParsePercent(v.Text); err != nil || part <= 0 || part > unit.Whole {
			return wrong(v, "give a part such as 95%", "%.40q is not a part of a line", v.Text)
		}
	}
	if v := k["direction"]; v != nil {
		if up = v.Text == "out"; !up && v.Text != "in" {
			return wrong(v, "out of the place that measured, or into it", "%.40q is not a direction: it is out or in", v.Text)
		}
	}
	var line linetest.Line
	if err := c.load(k["measured"], dir, "imbrel measure ADDRESS --save FILE", &line); err != nil {
		return err
	}
	way, at := line.Worst(up)
	if line.Version != linetest.Version || at < 0 {
		return wrong(k["measured"], "measure it with `imbrel measure ADDRESS --save FILE`", "%s has no rate of this direction", k["measured"].Text)
	}
	*n = language.Value{Kind: language.Scalar, At: n.At, Text: unit.Rate(float64(way.RateBps) * float64(part) / float64(unit.Whole)).String()}
	return nil
}

// surveyed returns the traffic of a survey.
func (c *includer) surveyed(n *language.Value, dir string) ([]language.Value, error) {
	k, err := keys(n, "name", "survey", "minute", "starts", "lasts")
	if err != nil {
		return nil, err
	}
	if k["name"] == nil {
		return nil, wrong(n, "its parts are named after it", "a traffic needs the key `name`")
	}
	at, busiest := time.Time{}, true
	if v := k["minute"]; v != nil && v.Text != "busiest" {
		if at, err = language.ParseMoment(v.Text); err != nil {
			return nil, wrong(v, "write busiest, or a time such as 2026-03-02T08:30, in UTC", "%.40q is not a minute of a survey", v.Text)
		}
		busiest = false
	}
	var saved survey.Result
	if err := c.load(k["survey"], dir, "imbrel survey SOURCE -o json >FILE", &saved); err != nil {
		return nil, err
	}
	if saved.Survey != survey.Version {
		return nil, wrong(k["survey"], "save one with `imbrel survey SOURCE -o json >FILE`", "%s is not a saved survey", k["survey"].Text)
	}
	parts, err := saved.Replay(at, busiest)
	if err != nil {
		return nil, wrong(k["survey"], "name another minute, or another survey", "%s: %s", k["survey"].Text, err)
	}
	var out []language.Value
	for _, p := range parts {
		t := language.Value{Kind: language.Keyed, At: n.At}
		put := func(key string, v language.Value) {
			v.At = n.At
			t.Keys, t.Items = append(t.Keys, language.Value{Kind: language.Scalar, At: n.At, Text: key}), append(t.Items, v)
		}
		text := func(key, v string) { put(key, language.Value{Kind: language.Scalar, Text: v}) }
		text("name", k["name"].Text+"-"+p.Name)
		switch p.Kind {
		case "calls":
			text("calls", fmt.Sprint(p.Calls))
			text("codec", p.Codec)
			put("between", language.Value{Kind: language.List, Items: []language.Value{{Kind: language.Scalar, At: n.At, Text: p.From}, {Kind: language.Scalar, At: n.At, Text: p.To}}})
		case "tcp":
			text("tcp", "1")
			text("app-rate", p.Rate.String())
		case "video":
			text("video", p.Rate.String())
		default:
			text("rate", p.Rate.String())
			text("packet", fmt.Sprintf("%dB", p.Packet))
			text("arrivals", "poisson")
		}
		if p.Kind != "calls" {
			text("from", p.From)
			text("to", p.To)
			if p.FromPort > 0 {
				text("from-port", fmt.Sprint(p.FromPort))
			}
			if p.ToPort > 0 {
				text("to-port", fmt.Sprint(p.ToPort))
			}
			if p.DSCP != "" && p.DSCP != "df" {
				text("dscp", p.DSCP)
			}
		}
		for _, key := range []string{"starts", "lasts"} {
			if v := k[key]; v != nil {
				text(key, v.Text)
			}
		}
		out = append(out, t)
	}
	return out, nil
}
