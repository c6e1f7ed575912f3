package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gdamore/tcell/v2"
	"github.com/mattn/go-runewidth"
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
		Long: `Watch shows a running gate, live, on the whole screen. Name any interface of this
machine that the gate uses. The view has a line for each interface, the classes of one of
them with their rates against their promises, their drops with the reasons and their
waits of the last minute, and a chart of one class with its promise and its limit. Press
Tab for the next interface, an arrow for another class, f to freeze the view, and q to
leave. With -o json it writes one report on each line.`,
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

// watchGate asks the gate at a device again and again, and shows what it says: on the whole screen of a terminal, and elsewhere one
// view after the other.
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
	w := &render.Watch{Device: device}
	w.Add(first)
	if in, ok := a.in.(*os.File); ok && text.Width > 0 && term.IsTerminal(int(in.Fd())) {
		return watchScreen(ctx, w, step, times)
	}
	ticker := time.NewTicker(step)
	defer ticker.Stop()
	for n := 0; times == 0 || n < times; n++ {
		select {
		case <-ctx.Done():
			return nil
		case <-ticker.C:
		}
		r, err := live.Snapshot(device)
		if err != nil {
			return err
		}
		w.Add(r)
		text.Watch(w)
		if f, ok := a.out.(interface{ Flush() error }); ok {
			if err := f.Flush(); err != nil {
				return fmt.Errorf("cannot write the view: %w", err)
			}
		}
	}
	return nil
}

// watchScreen shows the view on a whole screen, until a key or an interrupt ends it.
func watchScreen(ctx context.Context, w *render.Watch, step time.Duration, times int) error {
	screen, err := tcell.NewScreen()
	if err == nil {
		err = screen.Init()
	}
	if err != nil {
		return fmt.Errorf("cannot use the terminal: %w", err)
	}
	defer screen.Fini()
	events, quit := make(chan tcell.Event), make(chan struct{})
	defer close(quit)
	go screen.ChannelEvents(events, quit)
	ticker := time.NewTicker(step)
	defer ticker.Stop()
	for n := 0; ; {
		drawScreen(screen, w)
		select {
		case <-ctx.Done():
			return nil
		case e := <-events:
			switch e := e.(type) {
			case *tcell.EventResize:
				screen.Sync()
			case *tcell.EventKey:
				switch {
				case e.Rune() == 'q' || e.Key() == tcell.KeyCtrlC || e.Key() == tcell.KeyEscape:
					return nil
				case e.Key() == tcell.KeyTab || e.Key() == tcell.KeyRight:
					w.Interface(1)
				case e.Key() == tcell.KeyBacktab || e.Key() == tcell.KeyLeft:
					w.Interface(-1)
				case e.Key() == tcell.KeyDown:
					w.Class(1)
				case e.Key() == tcell.KeyUp:
					w.Class(-1)
				case e.Rune() == 'f':
					w.Frozen = !w.Frozen
				}
			}
		case <-ticker.C:
			if n++; times > 0 && n >= times {
				return nil
			}
			if w.Frozen {
				continue
			}
			r, err := live.Snapshot(w.Device)
			if err != nil {
				return err
			}
			w.Add(r)
		}
	}
}

// drawScreen writes the view into the cells of a screen, and the keys into its last line.
func drawScreen(screen tcell.Screen, w *render.Watch) {
	width, height := screen.Size()
	w.Rows = height
	var b bytes.Buffer
	render.Text{W: &b, Color: true, Width: width}.Watch(w)
	screen.Clear()
	lines := strings.Split(strings.TrimSuffix(b.String(), "\n"), "\n")
	for y, line := range lines[:min(len(lines), max(0, height-1))] {
		style, x := tcell.StyleDefault, 0
		for len(line) > 0 && x < width {
			if code, rest, ok := strings.Cut(strings.TrimPrefix(line, "\x1b["), "m"); ok && strings.HasPrefix(line, "\x1b[") {
				style, line = styled(style, code), rest
				continue
			}
			r, n := utf8.DecodeRuneInString(line)
			screen.SetContent(x, y, r, nil, style)
			line, x = line[n:], x+max(1, runewidth.RuneWidth(r))
		}
	}
	for x, r := range []rune(render.WatchKeys) {
		screen.SetContent(x, height-1, r, nil, tcell.StyleDefault.Reverse(true))
	}
	screen.Show()
}

// styled returns a style after the codes of a colour, as text has them (ECMA-48 SGR).
func styled(s tcell.Style, codes string) tcell.Style {
	for code := range strings.SplitSeq(codes, ";") {
		switch n, _ := strconv.Atoi(code); {
		case n == 0:
			s = tcell.StyleDefault
		case n == 1:
			s = s.Bold(true)
		case n >= 30 && n <= 37:
			s = s.Foreground(tcell.PaletteColor(n - 30))
		case n >= 90 && n <= 97:
			s = s.Foreground(tcell.PaletteColor(n - 90 + 8))
		}
	}
	return s
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
