package policy

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// A Span is a named time: on the given days, from one minute of the day to
// another (over midnight when To is not later; the whole day when both are the
// same), in a time zone.
type Span struct {
	Source
	Name     string
	Days     [7]bool // by time.Weekday
	From, To int     // minutes
	Zone     *time.Location
}

// Holds reports whether a moment is within the span.
func (t *Span) Holds(at time.Time) bool {
	at = at.In(t.Zone)
	minute, day := at.Hour()*60+at.Minute(), at.Weekday()
	if t.From < t.To {
		return t.Days[day] && minute >= t.From && minute < t.To
	}
	// Over midnight: the late part belongs to its own day, the early to the day before.
	return t.Days[day] && minute >= t.From || t.Days[(day+6)%7] && minute < t.To
}

// String says the span in words: "mon-fri 08:00 to 17:30 in Europe/Oslo".
func (t *Span) String() string {
	days := ""
	if names := t.dayRanges(); names != "" {
		days = names + " "
	}
	return fmt.Sprintf("%s%02d:%02d to %02d:%02d in %s", days, t.From/60, t.From%60, t.To/60, t.To%60, t.Zone)
}

// dayRanges returns the days as ranges, "" for every day.
func (t *Span) dayRanges() string {
	if t.Days == [7]bool{true, true, true, true, true, true, true} {
		return ""
	}
	var out []string
	for i := 1; i <= 7; i++ { // from Monday to Sunday
		first := i
		for i <= 7 && t.Days[i%7] {
			i++
		}
		switch n := i - first; {
		case n == 1:
			out = append(out, dayWord(first))
		case n > 1:
			out = append(out, dayWord(first)+"-"+dayWord(i-1))
		}
	}
	return strings.Join(out, ", ")
}

func dayWord(day int) string { return DayWords()[day%7] }

// DayWords are the words of the language for the days, by time.Weekday.
func DayWords() []string { return []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"} }

func itoa(n int) string { return strconv.Itoa(n) }
