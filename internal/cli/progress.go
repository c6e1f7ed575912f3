package cli

import (
	"fmt"
	"time"

	"imbrel.example/imbrel/internal/render"
)

// progress returns a function that shows on a terminal how much is done, once a
// second has passed, and one that clears it away. Elsewhere both do nothing.
func (a *app) progress(what string) (show func(float64), clear func()) {
	if !isTerminal(a.err) {
		return nil, func() {}
	}
	what = render.Visible(what)
	begun, shown := time.Now(), time.Time{}
	show = func(done float64) {
		now := time.Now()
		if now.Sub(begun) < time.Second || now.Sub(shown) < 100*time.Millisecond {
			return
		}
		shown = now
		fmt.Fprintf(a.err, "\r%s: %3.0f %%", what, 100*done)
	}
	return show, func() {
		if !shown.IsZero() {
			fmt.Fprint(a.err, "\r\x1b[K")
		}
	}
}
