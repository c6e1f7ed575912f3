package render

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/codepoint"
)

// Asked is a value that someone wrote, and what it may mean.
type Asked struct {
	Value    string
	Readings []codepoint.Reading
}

// CodepointJSON is the JSON of one codepoint under one reading.
type CodepointJSON struct {
	Value          string `json:"value,omitempty"`
	Reading        string `json:"reading,omitempty"`
	Name           string `json:"name"`
	DSCP           uint8  `json:"dscp"`
	Binary         string `json:"binary"`
	Hex            string `json:"hex"`
	ToS            uint8  `json:"tos"`
	Precedence     uint8  `json:"precedence"`
	PCP            uint8  `json:"pcp"`
	TC             uint8  `json:"tc"`
	UserPriority   uint8  `json:"user_priority"`
	DropPrecedence int    `json:"drop_precedence"`
	ServiceClass   string `json:"service_class"`
	Note           string `json:"note,omitempty"`
}

// Codepoints returns the JSON of what was asked.
func Codepoints(asked []Asked) any {
	out := []CodepointJSON{}
	for _, a := range asked {
		for _, r := range a.Readings {
			for _, d := range r.Points {
				c := CodepointJSON{Value: a.Value, Name: d.Name(), DSCP: uint8(d), Binary: fmt.Sprintf("%06b", d), Hex: fmt.Sprintf("0x%02x", uint8(d)),
					ToS: d.ToS(), Precedence: d.Precedence(), PCP: d.PCP(), TC: d.TC(), UserPriority: d.UserPriority(),
					DropPrecedence: d.DropPrecedence(), ServiceClass: d.ServiceClass(), Note: cmp.Or(r.Note, d.Note())}
				if a.Value != "" {
					c.Reading = r.As
				}
				out = append(out, c)
			}
		}
	}
	return struct {
		Codepoints []CodepointJSON `json:"codepoints"`
	}{out}
}

// Codepoints writes what was asked, a table for each reading.
func (t Text) Codepoints(asked []Asked) {
	for i, a := range asked {
		if i > 0 {
			t.Line("")
		}
		for j, r := range a.Readings {
			if j > 0 {
				t.Line("")
			}
			if a.Value != "" {
				note := ""
				if r.Note != "" {
					note = ", " + r.Note
				}
				t.Title("%s as %s%s", a.Value, r.As, note)
			}
			t.points(r.Points)
		}
	}
}

func (t Text) points(points []codepoint.DSCP) {
	w := t.grid([]column{{"name", true}, {"DSCP", false}, {"binary", false}, {"hex", false}, {"ToS byte", false}, {"", false}, {"prec.", false},
		{"PCP", false}, {"TC", false}, {"802.11", false}, {"drop", false}, {"service class", true}}, nil)
	for _, d := range points {
		drop := "-"
		if n := d.DropPrecedence(); n > 0 {
			drop = fmt.Sprint(n)
		}
		class := d.ServiceClass()
		if class == "" {
			class = "-"
		}
		name := strings.ToUpper(d.Name())
		if name[0] <= '9' {
			name = "-"
		}
		w.add(table.Row{name, uint8(d), fmt.Sprintf("%06b", d), fmt.Sprintf("0x%02x", uint8(d)), d.ToS(), fmt.Sprintf("0x%02x", d.ToS()),
			d.Precedence(), d.PCP(), d.TC(), d.UserPriority(), drop, class})
	}
	t.put(w)
	if len(points) > maxNoted {
		return
	}
	for _, d := range points {
		if note := d.Note(); note != "" {
			t.paragraph("  ", d.Name()+": "+note)
		}
	}
}

// maxNoted is how many codepoints a table has at most for their notes to follow it.
const maxNoted = 4
