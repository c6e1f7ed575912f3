package cli_test

import (
	"fmt"
	"runtime"
	"testing"
	"time"
)

// An attempt is one run of a test that measures with the real clock. It keeps the failures to itself.
type attempt struct {
	testing.TB
	failures []string
	cleanups []func()
	heldUp   string // what shows that the machine held the program up, when it did
}

func (a *attempt) Errorf(format string, args ...any) {
	a.failures = append(a.failures, fmt.Sprintf(format, args...))
}
func (a *attempt) Error(args ...any) { a.failures = append(a.failures, fmt.Sprint(args...)) }
func (a *attempt) Fatalf(format string, args ...any) {
	a.Errorf(format, args...)
	runtime.Goexit()
}
func (a *attempt) Fatal(args ...any) {
	a.Error(args...)
	runtime.Goexit()
}
func (a *attempt) Failed() bool     { return len(a.failures) > 0 }
func (a *attempt) Cleanup(f func()) { a.cleanups = append(a.cleanups, f) }

// heldUp notes that the machine held the program up during this attempt, as the program itself reports.
func heldUp(t testing.TB, format string, args ...any) {
	if a, ok := t.(*attempt); ok {
		a.heldUp = fmt.Sprintf(format, args...)
	}
}

// tries runs a test that measures with the real clock until it passes, three times at most. Other programs on a
// shared machine can hold Imbrel up for longer than any queue is deep. A fault of Imbrel fails every time; the test
// skips only where the program reports in the last attempt, too, that the machine held it up.
func tries(t *testing.T, body func(t testing.TB)) {
	t.Helper()
	for left := 2; ; left-- {
		a := &attempt{TB: t}
		done := make(chan struct{})
		go func() {
			defer close(done)
			defer func() {
				for i := len(a.cleanups) - 1; i >= 0; i-- {
					a.cleanups[i]()
				}
			}()
			body(a)
		}()
		<-done
		switch {
		case t.Skipped():
			t.SkipNow()
		case len(a.failures) == 0:
			return
		case left == 0 && a.heldUp != "":
			t.Skipf("this machine is too busy to measure: %s; %s", a.heldUp, a.failures[0])
		case left == 0:
			for _, f := range a.failures {
				t.Error(f)
			}
			return
		}
		t.Logf("tried again: %s", a.failures[0])
		time.Sleep(time.Second)
	}
}

// trying returns the test that tries a body.
func trying(body func(t testing.TB)) func(t *testing.T) {
	return func(t *testing.T) { tries(t, body) }
}

// A measurement is a test that measures with the real clock.
type measurement struct {
	name string
	body func(t *testing.T)
}

var realClock = []measurement{{"DemoDeliver", trying(demoDeliverOnce)}}

// TestRealClock runs the measurements one after another, beside the tests that do not measure.
func TestRealClock(t *testing.T) {
	t.Parallel()
	for _, m := range realClock {
		t.Run(m.name, m.body)
	}
}
