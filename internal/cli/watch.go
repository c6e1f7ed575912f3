package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"imbrel.example/imbrel/internal/live"
	"imbrel.example/imbrel/internal/render"
)

// minWatch is how often a gate is asked at most.
const minWatch = 100 * time.Millisecond

func (a *app) watchCounters(text render.Text) *cobra.Command {
	var every string
	var times uint64
	c := &cobra.Command{
		Use:   "watch DEVICE",
		Short: "Show the counters of a running gate, live",
		Long: `Watch shows a running gate, live. Name any interface of this machine that the gate
uses. For each class it shows the rate that arrives and the rate that leaves, the last
steps as a row of blocks, the promise, the drops with their reasons, and the time that
packets wait. Press Tab for the next interface of the gate, f to freeze the view, and q
to leave. With -o json it writes one report on each line.`,
		Example: `  imbrel watch eth1
  imbrel watch eth1 --every 5s --count 12 -o json`,
		Args: between(1, 1, "an interface of this machine that a gate has"),
		RunE: func(_ *cobra.Command, args []string) error {
			step, err := timeOf("every", every, minWatch, "")
			if err != nil {
				return err
			}
			return a.watchGate(text, args[0], step, int(times))
		},
	}
	c.Flags().StringVar(&every, "every", "1s", "ask the gate every `TIME`")
	numberVar(c.Flags(), &times, "count", 0, 0, 1_000_000_000, "end after `N` steps; 0: at an interrupt")
	return c
}

// watchGate asks the gate at a device again and again, and shows what it says.
func (a *app) watchGate(text render.Text, device string, step time.Duration, times int) error {
	ctx, stop := untilTold()
	defer stop()
	first, err := live.Snapshot(device)
	if err != nil {
		return err
	}
	if a.output == "json" {
		return a.watchLines(ctx, device, first, step, times)
	}
	keys, restore := a.keys(ctx)
	defer restore()
	screen := keys != nil && text.Width > 0 // a terminal, both ways
	w := &render.Watch{Device: device}
	w.Add(first, 0)
	last, frozen, ticker := time.Now(), false, time.NewTicker(step)
	defer ticker.Stop()
	for n := 0; times == 0 || n < times; {
		select {
		case <-ctx.Done():
			return nil
		case k, open := <-keys:
			switch {
			case !open:
				keys = nil // the input is at its end: the view goes on
				continue
			case k == 'q' || k == 3: // Ctrl-C, which the terminal does not send as a signal now
				return nil
			case k == '\t':
				w.At++
			case k == 'f':
				frozen = !frozen
			default:
				continue
			}
		case <-ticker.C:
			n++
			if frozen {
				continue
			}
			r, err := live.Snapshot(device)
			if err != nil {
				return err
			}
			now := time.Now()
			w.Add(r, now.Sub(last))
			last = now
		}
		if err := a.drawWatch(text, w, frozen, screen); err != nil {
			return err
		}
	}
	return nil
}

// drawWatch writes the view: over the one before, where there is a screen.
func (a *app) drawWatch(text render.Text, w *render.Watch, frozen, screen bool) error {
	var b bytes.Buffer
	text.W = &b
	text.Watch(w, frozen)
	out := b.Bytes()
	if screen {
		out = bytes.ReplaceAll(out, []byte("\n"), []byte("\x1b[K\r\n"))
		out = append(append([]byte("\x1b[H"), out...), "\x1b[J"...)
	}
	if _, err := a.out.Write(out); err != nil {
		return fmt.Errorf("cannot write the view: %w", err)
	}
	if f, ok := a.out.(interface{ Flush() error }); ok {
		return f.Flush()
	}
	return nil
}

// watchLines writes a report a line.
func (a *app) watchLines(ctx context.Context, device string, r *live.Report, step time.Duration, times int) error {
	ticker := time.NewTicker(step)
	defer ticker.Stop()
	for n := 0; ; {
		if err := render.JSON(a.out, r); err != nil {
			return err
		}
		if f, ok := a.out.(interface{ Flush() error }); ok {
			if err := f.Flush(); err != nil {
				return fmt.Errorf("cannot write the report: %w", err)
			}
		}
		if n++; times > 0 && n >= times {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-ticker.C:
		}
		var err error
		if r, err = live.Snapshot(device); err != nil {
			return err
		}
	}
}

// keys reads single keys from a terminal; nil where the input is none. restore makes the terminal
// what it was.
func (a *app) keys(ctx context.Context) (keys chan byte, restore func()) {
	in, ok := a.in.(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return nil, func() {}
	}
	before, err := term.MakeRaw(int(in.Fd()))
	if err != nil {
		return nil, func() {}
	}
	keys = make(chan byte)
	go func() {
		defer close(keys)
		b := make([]byte, 1)
		for {
			if n, err := in.Read(b); n == 0 || err != nil {
				return
			}
			select {
			case keys <- b[0]:
			case <-ctx.Done():
				return
			}
		}
	}()
	return keys, func() {
		_ = term.Restore(int(in.Fd()), before)
		fmt.Fprintln(a.err)
	}
}
