package policyfile

import (
	"fmt"
	"slices"
	"strconv"
	"time"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// A Sender is how a traffic sends in place of how its file says.
type Sender struct {
	Phase  time.Duration   // from its start to its first packet
	Stream *policy.Traffic // that is sent in its place; nil: it is as the file says otherwise
}

// WithSenders returns the policy file as YAML, with what it includes, and with one more rehearsal: that of a name, under another, in
// which some of the traffic, by its name, sends otherwise, and which has those of the expectations that are to be kept, by their number.
func (s *Source) WithSenders(rehearsal, name string, senders map[string]Sender, keeps func(expectation int) bool) ([]byte, error) {
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
			item = s.sends(&item, senders)
		case "expect":
			kept := item
			kept.Items = nil
			for n := range item.Items {
				if keeps(n) {
					kept.Items = append(kept.Items, item.Items[n])
				}
			}
			if item = kept; len(kept.Items) == 0 {
				continue
			}
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

// sends returns traffic with its senders, and the traffic of loads in their place.
func (s *Source) sends(traffic *language.Value, senders map[string]Sender) language.Value {
	out := language.Value{Kind: traffic.Kind, At: traffic.At}
	for i := range traffic.Items {
		t := traffic.Items[i]
		if load := field(&t, "load"); load != "" {
			if items, ok := s.doc.Lookup("loads." + load); ok {
				inner := s.sends(items, senders)
				out.Items = append(out.Items, inner.Items...)
			}
			continue
		}
		if how, ok := senders[field(&t, "name")]; ok {
			t = without(&t, "phase")
			t = without(&t, "skew")
			if how.Stream != nil {
				t = stream(&t, how.Stream)
			}
			put(&t, "phase", text(t.At, unit.FormatDuration(how.Phase)))
		}
		out.Items = append(out.Items, t)
	}
	return out
}

// stream returns a traffic as a stream, with the marks of the traffic.
func stream(t *language.Value, as *policy.Traffic) language.Value {
	out := keyed(t.At)
	own := [][2]string{{"rate", as.Rate.String()}, {"packet", as.Packet.String()}, {"arrivals", as.Arrivals.String()}, {"protocol", policy.ProtocolName(as.Protocol)}, {"from", as.From.String()}, {"to", as.To.String()}, {"from-port", strconv.Itoa(int(as.FromPort))}, {"to-port", strconv.Itoa(int(as.ToPort))}, {"starts", unit.FormatDuration(as.Starts)}, {"lasts", unit.FormatDuration(as.Lasts)}}
	kept := []string{"name", "dscp", "ecn", "df"}
	if as.Tagged() {
		kept = append(kept, "vlan", "pcp")
	}
	for i, key := range t.Keys {
		if slices.Contains(kept, key.Text) {
			put(&out, key.Text, t.Items[i])
		}
	}
	for _, k := range own {
		put(&out, k[0], text(t.At, k[1]))
	}
	return out
}
