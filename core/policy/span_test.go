package policy_test

import (
	"testing"
	"time"

	"imbrel.example/imbrel/core/policy"
)

// A named time goes by the clock on the wall in its zone: over midnight the early
// hours belong to the day before, and where the clock is put forward or back it is
// what the clock shows that counts.
func TestNamedTimes(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	everyDay := [7]bool{true, true, true, true, true, true, true}
	day := func(days ...time.Weekday) (d [7]bool) {
		for _, w := range days {
			d[w] = true
		}
		return d
	}
	for _, c := range []struct {
		name     string
		days     [7]bool
		from, to int // minutes of the day
		at       string
		want     bool
	}{
		{"before", everyDay, 8 * 60, 17 * 60, "2026-03-02T06:59:59Z", false},
		{"begins", everyDay, 8 * 60, 17 * 60, "2026-03-02T07:00:00Z", true}, // 08:00 in Oslo
		{"lasts", everyDay, 8 * 60, 17 * 60, "2026-03-02T15:59:59Z", true},
		{"has ended", everyDay, 8 * 60, 17 * 60, "2026-03-02T16:00:00Z", false},
		{"summer begins an hour earlier in UTC", everyDay, 8 * 60, 17 * 60, "2026-07-06T06:00:00Z", true},
		{"the whole day, to 24:00", everyDay, 0, 24 * 60, "2026-03-02T22:59:59Z", true},
		{"from midnight to midnight is the whole day", day(time.Friday), 0, 0, "2026-03-06T12:00:00Z", true},
		{"and no other day", day(time.Friday), 0, 0, "2026-03-07T12:00:00Z", false},
		{"from eight to eight, the next morning too", day(time.Friday), 8 * 60, 8 * 60, "2026-03-07T06:59:59Z", true},
		{"Friday night", day(time.Friday), 22 * 60, 6 * 60, "2026-03-06T21:30:00Z", true}, // Friday, 22:30
		{"Saturday morning is Friday's", day(time.Friday), 22 * 60, 6 * 60, "2026-03-07T04:59:59Z", true},
		{"until six", day(time.Friday), 22 * 60, 6 * 60, "2026-03-07T05:00:00Z", false},
		{"Saturday night is not", day(time.Friday), 22 * 60, 6 * 60, "2026-03-07T21:30:00Z", false},
		{"Friday morning is Thursday's", day(time.Friday), 22 * 60, 6 * 60, "2026-03-06T04:00:00Z", false},
		{"Sunday to Monday", day(time.Sunday), 22 * 60, 6 * 60, "2026-03-09T04:00:00Z", true},
		// On 2026-03-29 01:00 UTC the clock goes from 02:00 to 03:00.
		{"before the clock goes forward", everyDay, 2 * 60, 3 * 60, "2026-03-29T00:59:59Z", false},
		{"the hour that is not there", everyDay, 2 * 60, 3 * 60, "2026-03-29T01:00:00Z", false},
		{"an hour over it", everyDay, 60, 4 * 60, "2026-03-29T01:00:00Z", true},
		{"and its end", everyDay, 60, 4 * 60, "2026-03-29T02:00:00Z", false}, // 04:00
		// On 2026-10-25 01:00 UTC it goes from 03:00 back to 02:00.
		{"an hour that comes twice", everyDay, 2*60 + 15, 2*60 + 45, "2026-10-25T00:30:00Z", true},
		{"between the two", everyDay, 2*60 + 15, 2*60 + 45, "2026-10-25T00:50:00Z", false},
		{"the second time", everyDay, 2*60 + 15, 2*60 + 45, "2026-10-25T01:30:00Z", true},
	} {
		at, err := time.Parse(time.RFC3339, c.at)
		if err != nil {
			t.Fatal(err)
		}
		span := policy.Span{Days: c.days, From: c.from, To: c.to, Zone: oslo}
		if got := span.Holds(at); got != c.want {
			t.Errorf("%s: from %02d:%02d to %02d:%02d, at %s (%s): %t", c.name, c.from/60, c.from%60, c.to/60, c.to%60, c.at, at.In(oslo).Format("Mon 15:04"), got)
		}
	}
}
