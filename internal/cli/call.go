package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/live"
	"imbrel.example/imbrel/internal/render"
	"imbrel.example/imbrel/internal/report"
)

// The bounds of calls and floods: they are for measuring.
const (
	maxCalls    = 200
	maxCalling  = 10 * time.Minute
	maxFlood    = 1000 * unit.MbitPerSecond
	maxFlows    = 64
	brokenBelow = "3.6" // R of 70: below it many are dissatisfied (ITU-T G.109)
)

// voiceFlags are how a call is made.
type voiceFlags struct {
	codec, interval, bitRate, dscp, playout, key, mos string
	agree                                             bool
}

// define defines the flags that a call and a flood share.
func (v *voiceFlags) define(fl *pflag.FlagSet, of string) {
	fl.StringVar(&v.codec, "codec", "g711", "the `CODEC`"+of+": "+strings.Join(codec.Names(), ", "))
	fl.StringVar(&v.playout, "playout", unit.FormatDuration(policy.DefaultPlayout), "the `TIME` that a listener's buffer holds")
	fl.StringVar(&v.mos, "mos", brokenBelow, "a call below this `MOS` is broken")
	fl.StringVar(&v.key, "key-file", "", "authenticate with the key in a `FILE`")
}

// config returns what is called.
func (v *voiceFlags) config(address string, calls int) (c live.CallConfig, mos float64, err error) {
	c = live.CallConfig{Address: withPort(address), Calls: calls, Agree: v.agree}
	if c.Codec, err = codecOf(v.codec, v.interval, v.bitRate); err != nil {
		return c, 0, err
	}
	if c.DSCP, err = codepoint.ParseDSCP(v.dscp); err != nil {
		return c, 0, fmt.Errorf("--dscp: %w", err)
	}
	if c.Playout, err = timeOf("playout", v.playout, 0, ""); err != nil {
		return c, 0, err
	}
	if c.Playout > time.Second {
		return c, 0, fmt.Errorf("--playout %s: nobody waits for longer than a second", v.playout)
	}
	if c.Key, err = readKey(v.key); err != nil {
		return c, 0, err
	}
	if mos, err = unit.ParseDecimal(v.mos); err != nil || mos < 1 || mos > 4.5 {
		return c, 0, fmt.Errorf("--mos %s: a mean opinion score is from 1 to 4.5", v.mos)
	}
	return c, mos, nil
}

func (a *app) call(text render.Text) *cobra.Command {
	v := voiceFlags{}
	var page pages
	var calls int
	var lasts string
	c := &cobra.Command{
		Use:   "call ADDRESS",
		Short: "Call a far end and measure the calls: loss, delay, MOS",
		Long: `Call makes real calls to the far end, where ` + "`imbrel answer`" + ` returns each packet. It
sends RTP at the codec's rate and reports of RTCP (RFC 3550), from free ports above
16383. For each call and direction it shows the packets that were lost or late, the
jitter and the mean opinion score, and for both directions together the round trip.
Without --clocks-agree, the delay of each direction is an estimate: half the shortest
round trip is counted for each.

Call exits with 1 when a call is below --mos. It stops when the far end is gone.`,
		Example: `  imbrel call 192.0.2.9
  imbrel call 192.0.2.9 --calls 6 --codec g729 --for 30s`,
		Args: between(1, 1, "the address of a far end"),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := page.free(); err != nil {
				return err
			}
			config, mos, err := v.config(args[0], calls)
			if err != nil {
				return err
			}
			if config.For, err = measuredFor("for", lasts); err != nil {
				return err
			}
			ctx, stop := untilTold()
			defer stop()
			called, err := live.Call(ctx, config)
			if err != nil {
				return a.toldTo(ctx, err)
			}
			defer page.say(a)
			if err := page.write(func() *report.Page { return report.Called(called, mos, a.ran(files.Place{}, nil)) }); err != nil {
				return err
			}
			return a.told(ctx, called, func() { text.Call(called, mos) }, called.Gone || called.Worst() < mos)
		},
	}
	numberVar(c.Flags(), &calls, "calls", 1, 1, maxCalls, "make `N` calls at a time")
	c.Flags().StringVar(&lasts, "for", "10s", "hold them for a `TIME`")
	c.Flags().StringVar(&v.dscp, "dscp", "ef", "the `CODEPOINT` of their packets, on both ways")
	c.Flags().StringVar(&v.interval, "interval", "", "the `TIME` between two packets of a call; the codec's usual one when not given")
	c.Flags().StringVar(&v.bitRate, "bitrate", "", "the `RATE` of a codec that has several")
	c.Flags().BoolVar(&v.agree, "clocks-agree", false, "the clocks of both machines agree: measure the delay of each direction")
	v.define(c.Flags(), "")
	page.flags(c)
	return c
}

// toldTo returns the error of what was ended by an interrupt.
func (a *app) toldTo(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return errInterrupted
	}
	return err
}

// told shows what was measured, and returns how the command ends.
func (a *app) told(ctx context.Context, report any, text func(), found bool) (err error) {
	if a.output == "json" {
		err = render.JSON(a.out, report)
	} else {
		text()
	}
	switch {
	case err != nil:
		return err
	case ctx.Err() != nil:
		return errInterrupted
	case found:
		return errFound
	}
	return nil
}

// measuredFor returns the time that a measurement lasts, within bounds.
func measuredFor(flag, value string) (time.Duration, error) {
	d, err := timeOf(flag, value, time.Second, "")
	if err == nil && d > maxCalling {
		err = fmt.Errorf("--%s %s: the most is %s, for this measures", flag, value, unit.FormatDuration(maxCalling))
	}
	return d, err
}

func (a *app) flood(text render.Text) *cobra.Command {
	v := voiceFlags{dscp: "ef"}
	var page pages
	var rate, over, dscp, packet, contract, at string
	var flows, calls int
	c := &cobra.Command{
		Use:   "flood ADDRESS --rate RATE",
		Short: "Flood a far end and find the rate at which packets are lost and a call breaks",
		Long: `Flood sends datagrams to the far end, where ` + "`imbrel answer`" + ` counts them. Give one rate,
or a range such as 1..40Mbit/s through which the rate rises. With --tcp it opens TCP
connections of the kernel, each as fast as it can be. With --while-calling it calls the
far end at the same time and reports the rate at which the call breaks.

Rates count IP packets. Flood ends by itself, and when the far end is gone. It takes
capacity from everybody on the same line: use it only on your own network.`,
		Example: `  imbrel flood 192.0.2.9 --rate 1..40Mbit/s --for 30s --while-calling 1
  imbrel flood 192.0.2.9 --tcp 4 --dscp af11 --while-calling 1
  imbrel flood 192.0.2.9 --acceptance site.yaml --at site/line --for 5s`,
		Args: between(1, 1, "the address of a far end"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := page.free(); err != nil {
				return err
			}
			call, mos, err := v.config(args[0], calls)
			if err != nil {
				return err
			}
			config := live.FloodConfig{Address: call.Address, Key: call.Key, TCP: flows, MOS: mos}
			if contract != "" {
				if err := apart(c, "--acceptance", "the contract says what is sent", "rate", "tcp", "dscp", "while-calling", "codec", "playout", "mos", "report"); err != nil {
					return err
				}
				if err := bounds(&config, "1Mbit/s", over, packet, dscp); err != nil {
					return err
				}
				ctx, stop := untilTold()
				defer stop()
				return a.acceptLive(ctx, text, contract, at, config)
			}
			if at != "" {
				return fmt.Errorf("--at has no effect without --acceptance: it names the link whose contract is tested")
			}
			if err := bounds(&config, rate, over, packet, dscp); err != nil {
				return err
			}
			if calls > 0 {
				call.For = config.Over + 4*time.Second
				config.Call = &call
			} else if err := apart(c, "no --while-calling", "nothing is called", "codec", "playout", "mos"); err != nil {
				return err
			}
			ctx, stop := untilTold()
			defer stop()
			flooded, err := live.Flood(ctx, config)
			if err != nil {
				return a.toldTo(ctx, err)
			}
			defer page.say(a)
			if err := page.write(func() *report.Page { return report.Flooded(flooded, a.ran(files.Place{}, nil)) }); err != nil {
				return err
			}
			return a.told(ctx, flooded, func() { text.Flood(flooded, mos) }, flooded.Gone)
		},
	}
	c.Flags().StringVar(&rate, "rate", "", "the `RATE` of the datagrams, such as 5Mbit/s, or one that changes: 1..40Mbit/s")
	c.Flags().StringVar(&over, "for", "10s", "flood for a `TIME`")
	c.Flags().StringVar(&packet, "packet", "1200B", "the `SIZE` of its IP packets")
	c.Flags().StringVar(&dscp, "dscp", "df", "the `CODEPOINT` of its packets")
	c.Flags().StringVar(&contract, "acceptance", "", "test the contract of a policy `FILE` in steps: each class below its rate, all together, beyond it, and in bursts; each step takes --for")
	c.Flags().StringVar(&at, "at", "", "with --acceptance: the `INTERFACE` at whose link the contract is, where there are several")
	numberVar(c.Flags(), &flows, "tcp", 0, 1, maxFlows, "send by `N` connections of TCP, as fast as they can be, and not datagrams")
	numberVar(c.Flags(), &calls, "while-calling", 0, 1, maxCalls, "make `N` calls meanwhile, marked ef")
	v.define(c.Flags(), " of the calls")
	page.flags(c)
	return c
}

// bounds reads what a flood is, and refuses more than is for measuring.
func bounds(c *live.FloodConfig, rate, over, packet, dscp string) (err error) {
	if c.Over, err = measuredFor("for", over); err != nil {
		return err
	}
	if c.DSCP, err = codepoint.ParseDSCP(dscp); err != nil {
		return fmt.Errorf("--dscp: %w", err)
	}
	size, err := unit.ParseSize(packet)
	if err != nil {
		return fmt.Errorf("--packet: %w", err)
	}
	if c.Packet = int(size); c.Packet < 80 || c.Packet > 9000 {
		return fmt.Errorf("--packet %s: from 80B to 9000B", packet)
	}
	switch {
	case rate == "" && c.TCP == 0:
		return fmt.Errorf("say at what rate: --rate 5Mbit/s, or 1..40Mbit/s; or --tcp N")
	case rate == "":
		return nil
	case c.TCP > 0:
		return fmt.Errorf("--rate has no effect with --tcp: TCP finds its rate by itself")
	}
	first, last, ramp := strings.Cut(rate, "..")
	if c.To, err = unit.ParseRate(strings.TrimSpace(last)); !ramp {
		c.To, err = unit.ParseRate(rate)
	}
	if err != nil {
		return fmt.Errorf("--rate: %w", err)
	}
	c.From = c.To
	if ramp {
		if first = strings.TrimSpace(first); first != "" && first[len(first)-1] <= '9' { // with the unit of the other
			first += strings.TrimLeft(strings.TrimSpace(last), "0123456789.")
		}
		if c.From, err = unit.ParseRate(first); err != nil {
			return fmt.Errorf("--rate: %w", err)
		}
	}
	for _, r := range []unit.Rate{c.From, c.To} {
		if r < unit.MinRate || r > maxFlood {
			return fmt.Errorf("--rate %s: from %s to %s", rate, unit.MinRate, maxFlood)
		}
	}
	return nil
}
