package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/budget"
	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/internal/render"
)

func (a *app) budget(text render.Text) *cobra.Command {
	var q budget.Question
	var calls uint64
	voice, framing, version := "g711", "ethernet", "4"
	var interval, bitRate, fits, link, erlangs, blocking string
	c := &cobra.Command{
		Use:   "budget",
		Short: "Calculate what calls take on a link, and how many fit",
		Long: `Budget calculates the rates of calls from codec, packet interval and framing: of one call
and of all, in one direction, as payload, as IP and on the wire; how many calls fit a rate;
how much of a link they leave; and the entry of a policy that has room for them.`,
		Example: `  imbrel budget --calls 12 --codec g711 --interval 20ms --framing ethernet-pppoe
  imbrel budget --fits 2Mbit/s --codec g729
  imbrel budget --calls 12 --link 12Mbit/s
  imbrel budget --erlangs 8 --blocking 1%`,
		Args: between(0, 0, "no file"),
		RunE: func(c *cobra.Command, _ []string) error {
			if erlangs != "" {
				if err := apart(c, "--erlangs", "it says how many calls to plan for", "calls"); err != nil {
					return err
				}
			} else if c.Flags().Changed("blocking") {
				return fmt.Errorf("--blocking has no effect without --erlangs: it is the part of that traffic that finds no room")
			}
			q.Calls = int(calls)
			var err error
			if q.Codec, err = codecOf(voice, interval, bitRate); err != nil {
				return err
			}
			if q.Framing, err = language.ParseFraming(framing); err != nil {
				return fmt.Errorf("--framing: %w", err)
			}
			if version != "4" && version != "6" {
				return fmt.Errorf("--ip %s: the versions are 4 and 6", version)
			}
			q.IPv6 = version == "6"
			for _, r := range []struct {
				flag, value string
				into        *unit.Rate
			}{{"fits", fits, &q.Fits}, {"link", link, &q.Link}} {
				if r.value == "" {
					continue
				}
				if *r.into, err = unit.ParseRate(r.value); err != nil {
					return fmt.Errorf("--%s: %w", r.flag, err)
				}
			}
			if erlangs != "" {
				if q.Erlangs, err = strconv.ParseFloat(erlangs, 64); err != nil || strings.Trim(erlangs, "0123456789.") != "" || q.Erlangs <= 0 || q.Erlangs > budget.MaxErlangs {
					return fmt.Errorf("--erlangs %s: it is a number of more than 0 and at most %d: calls that begin in an hour, times how many hours they last on average", erlangs, budget.MaxErlangs)
				}
				p, err := unit.ParsePercent(blocking)
				if err != nil || p <= 0 || p >= unit.Whole {
					return fmt.Errorf("--blocking %s: it is a percentage of more than 0%% and less than 100%%, such as 1%%", blocking)
				}
				q.Blocking = float64(p) / float64(unit.Whole)
			}
			r, err := budget.Reckon(&q)
			if err != nil {
				return err
			}
			if a.output == "json" {
				err = render.JSON(a.out, r)
			} else {
				text.Budget(r)
			}
			if err == nil && r.Link != nil && r.Link.LeftBps < 0 {
				err = errFound
			}
			return err
		},
	}
	fl := c.Flags()
	numberVar(fl, &calls, "calls", 0, 1, budget.MaxCalls, "how `MANY` calls at a time; as many as fit, or 1, when not given")
	fl.StringVar(&voice, "codec", voice, "the `CODEC`: "+strings.Join(codec.Names(), ", "))
	fl.StringVar(&interval, "interval", "", "the `TIME` between two packets of a call; the codec's usual one when not given")
	fl.StringVar(&bitRate, "bitrate", "", "the `RATE` of the payload, for opus")
	fl.StringVar(&version, "ip", version, "the `VERSION` of IP: 4 or 6")
	fl.StringVar(&framing, "framing", framing, "the `FRAMING` by which the link counts bytes, as in a policy file")
	fl.StringVar(&fits, "fits", "", "how many calls the `RATE` carries")
	fl.StringVar(&link, "link", "", "what is left of a link of the `RATE`, and how long a full packet takes on it")
	fl.StringVar(&erlangs, "erlangs", "", "calls to plan for: `HOW MUCH` traffic comes in the busy hour")
	fl.StringVar(&blocking, "blocking", "1%", "the `PART` of the calls that may find no room, with --erlangs")
	return c
}

// codecOf returns the codec of a name, at an interval and a bit rate where they are given.
func codecOf(name, interval, bitRate string) (codec.Codec, error) {
	c, ok := codec.ByName(name)
	if !ok {
		return c, fmt.Errorf("--codec %s: %sthe codecs are %s", name, policy.DidYouMean(name, codec.Names()), strings.Join(codec.Names(), ", "))
	}
	if interval != "" {
		d, err := unit.ParseDuration(interval)
		if err == nil && d == 0 {
			err = fmt.Errorf("%q is no time at all", interval)
		}
		if err == nil {
			c, err = c.With(d, 0)
		}
		if err != nil {
			return c, fmt.Errorf("--interval %s: %w", interval, err)
		}
	}
	if bitRate != "" {
		r, err := unit.ParseRate(bitRate)
		if err == nil {
			c, err = c.With(0, r)
		}
		if err != nil {
			return c, fmt.Errorf("--bitrate %s: %w", bitRate, err)
		}
	}
	return c, nil
}
