package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/linetest"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/live"
	"imbrel.example/imbrel/internal/render"
)

func (a *app) measure(text render.Text) *cobra.Command {
	var keyFile, save, most string
	var times, days int
	var hours []string
	c := &cobra.Command{
		Use:   "measure ADDRESS",
		Short: "Measure what a line really carries, in both directions",
		Long: `Measure sends trains of packets to the far end, where imbrel answer runs, and has it send
some back, faster than the line carries them. It reports, for each direction, the worst rate
of all runs, how long a packet waits when the carrier's queue is full and how many bytes that
queue holds, whether the carrier polices or queues, which framing fits the rates of packets
of three lengths, what one connection of TCP carries, and the delay with an idle and with a
full line. With --save it keeps the runs in a file, to which later runs are added, and which
imbrel draft --measured reads. A run takes about half a minute and fills the line: use it
only on your own network.`,
		Example: `  imbrel measure 192.0.2.9 --save line.json
  imbrel measure 192.0.2.9 --save line.json --at 09:00,12:30,17:00 --days 3`,
		Args: between(1, 1, "the address of a far end"),
		RunE: func(c *cobra.Command, args []string) error {
			address := withPort(args[0])
			config := live.LineConfig{Address: address}
			var err error
			if config.Key, err = readKey(keyFile); err != nil {
				return err
			}
			rate, err := unit.ParseRate(most)
			if err != nil {
				return fmt.Errorf("--most: %w", err)
			}
			if rate < 2*unit.MbitPerSecond || rate > 10*unit.GbitPerSecond {
				return fmt.Errorf("--most %s: from 2Mbit/s to 10Gbit/s", most)
			}
			config.Most = int64(rate)
			if days > 1 && len(hours) == 0 {
				return errors.New("--days has no effect without --at: say at which hours")
			}
			when, err := moments(hours, days, time.Now())
			if err != nil {
				return err
			}
			line := &linetest.Line{Version: linetest.Version, To: address, Runs: []linetest.Run{}}
			if save != "" {
				if line, err = files.ReadLine(save); errors.Is(err, fs.ErrNotExist) {
					line, err = &linetest.Line{Version: linetest.Version, To: address, Runs: []linetest.Run{}}, nil
				}
				if err != nil {
					return err
				}
			}
			ctx, done := untilTold()
			defer done()
			config.Say = func(s string) {
				if a.output != "json" {
					fmt.Fprintf(a.err, "  %s\n", s)
				}
			}
			keep := func() error {
				if save == "" {
					return nil
				}
				b, err := json.MarshalIndent(line, "", "  ")
				if err != nil {
					return err
				}
				return files.Replace(save, append(b, '\n'))
			}
			if err := a.measureAt(ctx, config, when, times, line, keep); err != nil && (len(line.Runs) == 0 || ctx.Err() == nil) {
				return err
			}
			if a.output == "json" {
				if err := render.JSON(a.out, line); err != nil {
					return err
				}
			} else {
				text.Measured(line)
			}
			_, up := line.Worst(true)
			_, down := line.Worst(false)
			switch {
			case ctx.Err() != nil:
				return errInterrupted
			case up < 0 || down < 0:
				return errNotJudged
			}
			return nil
		},
	}
	fl := c.Flags()
	fl.StringVar(&keyFile, "key-file", "", "authenticate with the key in a `FILE`")
	fl.StringVar(&save, "save", "", "keep the runs in a `FILE`, after those that it has")
	fl.StringVar(&most, "most", "1Gbit/s", "send at most at this `RATE`")
	numberVar(fl, &times, "times", 1, 1, 100, "measure `N` times, one after the other; the worst counts")
	fl.StringSliceVar(&hours, "at", nil, "measure at these `HOURS` of each day, such as 09:00,12:30,17:00, by this machine's clock; now when not given")
	numberVar(fl, &days, "days", 1, 1, 31, "with --at: for `N` days")
	return c
}

// moments returns when to measure, in order; nil: now.
func moments(hours []string, days int, now time.Time) (out []time.Time, err error) {
	for day := range days {
		for _, h := range hours {
			t, err := time.Parse("15:04", strings.TrimSpace(h))
			if err != nil {
				return nil, fmt.Errorf("--at %s: write hours such as 09:00,12:30", h)
			}
			at := time.Date(now.Year(), now.Month(), now.Day()+day, t.Hour(), t.Minute(), 0, 0, now.Location())
			if at.Before(now) {
				at = at.AddDate(0, 0, days) // of today it is over: after the last day
			}
			out = append(out, at)
		}
	}
	for i := range out {
		for k := i; k > 0 && out[k].Before(out[k-1]); k-- {
			out[k], out[k-1] = out[k-1], out[k]
		}
	}
	return out, nil
}

func (a *app) measureAt(ctx context.Context, config live.LineConfig, when []time.Time, times int, line *linetest.Line, keep func() error) error {
	for n := 0; n == 0 || n < len(when); n++ {
		if when != nil {
			fmt.Fprintf(a.err, "the next measurement is at %s\n", when[n].Format("2006-01-02 15:04"))
			select {
			case <-ctx.Done():
				return errInterrupted
			case <-time.After(time.Until(when[n])):
			}
		}
		for k := range times {
			if times > 1 && a.output != "json" {
				fmt.Fprintf(a.err, "run %d of %d\n", k+1, times)
			}
			run, err := live.MeasureLine(ctx, config)
			if ctx.Err() != nil {
				return errInterrupted
			}
			if err != nil {
				if len(when) < 2 {
					return err
				}
				fmt.Fprintf(a.err, "%s\n", render.Visible(err.Error())) // the line may be back by the next time
				continue
			}
			line.Runs = append(line.Runs, *run)
			if err := keep(); err != nil {
				return err
			}
		}
	}
	return nil
}
