package policyfile

import (
	"fmt"
	"slices"

	"imbrel.example/imbrel/core/language"
)

// WithPhases returns the policy file as YAML, with what it includes, and with one more rehearsal: that of a name, under another, in which
// traffic has phases, by its name.
func (s *Source) WithPhases(rehearsal, name string, phases map[string]string) ([]byte, error) {
	doc := *s.doc
	at, ok := doc.Lookup("rehearsals")
	if !ok {
		return nil, fmt.Errorf("there are no rehearsals in it")
	}
	i := slices.IndexFunc(at.Items, func(v language.Value) bool { return field(&v, "name") == rehearsal })
	if i < 0 {
		return nil, fmt.Errorf("there is no rehearsal `%s` in it", rehearsal)
	}
	own := keyed(at.Items[i].At)
	for k := range at.Items[i].Keys {
		key, item := at.Items[i].Keys[k], at.Items[i].Items[k]
		switch key.Text {
		case "name":
			item = text(item.At, name)
		case "traffic":
			item = s.phased(&item, phases)
		}
		own.Keys, own.Items = append(own.Keys, key), append(own.Items, item)
	}
	list := *at
	list.Items = append(slices.Clone(at.Items), own)
	out := keyed(doc.At)
	for k := range doc.Keys {
		item := doc.Items[k]
		if doc.Keys[k].Text == "rehearsals" {
			item = list
		}
		out.Keys, out.Items = append(out.Keys, doc.Keys[k]), append(out.Items, item)
	}
	return Write(&out)
}

// phased returns traffic with phases, and the traffic of loads in their place.
func (s *Source) phased(traffic *language.Value, phases map[string]string) language.Value {
	out := language.Value{Kind: traffic.Kind, At: traffic.At}
	for i := range traffic.Items {
		t := traffic.Items[i]
		if load := field(&t, "load"); load != "" {
			if items, ok := s.doc.Lookup("loads." + load); ok {
				inner := s.phased(items, phases)
				out.Items = append(out.Items, inner.Items...)
			}
			continue
		}
		if phase, ok := phases[field(&t, "name")]; ok {
			t = without(&t, "phase")
			t = without(&t, "skew")
			put(&t, "phase", text(t.At, phase))
		}
		out.Items = append(out.Items, t)
	}
	return out
}
