package packet

import "testing"

// Every kind of link control has a name of its own.
func TestStandings(t *testing.T) {
	seen := make(map[string]bool)
	for s := range Standings {
		name := Standing(s).String()
		if seen[name] || name == "" || Standing(s).Control() != (Standing(s) != Classified && Standing(s) != Unreadable) {
			t.Errorf("standing %d is %q", s, name)
		}
		seen[name] = true
	}
	if Standing(Standings).String() != "unreadable" {
		t.Error("what is no standing has a name")
	}
	var none Packet
	if none.Standing() != Unreadable {
		t.Error("an empty packet is readable")
	}
}
