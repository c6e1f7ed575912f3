package cli

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/stamp"
	"imbrel.example/imbrel/internal/live"
	"imbrel.example/imbrel/internal/render"
)

// The bounds of a probing: it is to be no flood.
const (
	maxProbes     = 10_000
	minInterval   = time.Millisecond
	maxCodepoints = 64
	maxKey        = 1024
)

func (a *app) answer() *cobra.Command {
	var listen, key string
	var media int
	c := &cobra.Command{
		Use:   "answer",
		Short: "Be the far end: answer probes, calls, floods and line tests",
		Long: `Answer is the far end of ` + "`imbrel probe`, `imbrel call`, `imbrel flood` and `imbrel measure`" + `.
It is a reflector of STAMP (RFC 8762), sends the packets of calls back with the times at which they came,
and counts floods; connections of a flood are taken at the same port. It counts what
comes, so that the other end can say what was lost on the way there, and what on the way back.
It sends only to the address that asked, and never more than it receives, but for the trains
of imbrel measure: up to four at a time, of at most ten seconds. It listens on the loopback
until an address is named, and goes on until it is interrupted.`,
		Example: `  imbrel answer --listen 192.0.2.9
  imbrel answer --listen 192.0.2.9:8862 --key-file probes.key`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			secret, err := readKey(key)
			if err != nil {
				return err
			}
			ctx, stop := untilTold()
			defer stop()
			return live.Answer(ctx, live.AnswerConfig{Address: withPort(listen), Media: media, Key: secret, Notice: func(s string) { fmt.Fprintln(a.err, "imbrel answer: "+render.Visible(s)) }})
		},
	}
	c.Flags().StringVar(&listen, "listen", "127.0.0.1", "listen at an `ADDRESS`, HOST or HOST:PORT; the port is 862 when not given")
	c.Flags().StringVar(&key, "key-file", "", "answer only those who have the key in a `FILE`")
	numberVar(c.Flags(), &media, "media", 16384, 0, 65534, "the even `PORT` of calls, whose reports go to the one after it; 0: any that are free")
	return c
}

func (a *app) probe(text render.Text) *cobra.Command {
	var dscps []string
	var count uint64
	var interval, key string
	c := &cobra.Command{
		Use:   "probe ADDRESS",
		Short: "Show which markings a network keeps, there and back",
		Long: `Probe sends a few small packets with each codepoint to the far end. There ` + "`imbrel answer`" + `,
or another reflector of STAMP (RFC 8762, with the class of service of RFC 8972), returns
them. For each codepoint it shows the marking that arrived and the marking that came
back, the packets that each direction lost, and the delay. It tests how a network treats
markings without access to its devices. Probe exits with 1 when a marking is changed in
either direction. It stops at once when nothing listens at the far end.`,
		Example: `  imbrel probe 192.0.2.9 --dscp ef,af41,df
  imbrel probe 192.0.2.9:8862 --dscp ef --count 500 --interval 20ms -o json`,
		Args: between(1, 1, "the address of a far end"),
		RunE: func(_ *cobra.Command, args []string) error {
			config := live.ProbeConfig{Address: withPort(args[0]), Count: int(count), Wait: time.Second}
			if len(dscps) > maxCodepoints {
				return fmt.Errorf("--dscp names %d codepoints; there are %d", len(dscps), maxCodepoints)
			}
			seen := make(map[codepoint.DSCP]bool)
			for _, name := range dscps {
				d, err := codepoint.ParseDSCP(name)
				if err != nil {
					return fmt.Errorf("--dscp: %w", err)
				}
				if seen[d] {
					return fmt.Errorf("--dscp names %s twice", d.Name())
				}
				seen[d] = true
				config.DSCPs = append(config.DSCPs, d)
			}
			var err error
			if config.Interval, err = timeOf("interval", interval, minInterval, ", so that probes are no flood"); err != nil {
				return err
			}
			if config.Key, err = readKey(key); err != nil {
				return err
			}
			ctx, stop := untilTold()
			defer stop()
			report, err := live.Probe(ctx, config)
			if err != nil {
				return err
			}
			return a.told(ctx, report, func() { text.Probe(report) }, render.Rewritten(report) > 0 || slices.ContainsFunc(report.Probes, func(p live.Probed) bool { return p.TooMany }))
		},
	}
	c.Flags().StringSliceVar(&dscps, "dscp", []string{"ef", "af41", "af31", "cs5", "df"}, "the `CODEPOINTS` to probe")
	numberVar(c.Flags(), &count, "count", 20, 1, maxProbes, "send `N` probes of each codepoint")
	c.Flags().StringVar(&interval, "interval", "20ms", "a `TIME` between the probes of one codepoint")
	c.Flags().StringVar(&key, "key-file", "", "authenticate probes with the key in a `FILE`")
	return c
}

// withPort adds the port of STAMP to an address without one.
func withPort(address string) string {
	if _, _, err := net.SplitHostPort(address); err == nil {
		return address
	}
	return net.JoinHostPort(strings.Trim(address, "[]"), strconv.Itoa(stamp.Port))
}

// readKey reads a key from a file: all of it but the end of the last line.
func readKey(name string) ([]byte, error) {
	if name == "" {
		return nil, nil
	}
	key, err := os.ReadFile(name)
	if err != nil {
		return nil, fmt.Errorf("cannot read the key: %w", err)
	}
	key = bytes.TrimRight(key, "\r\n")
	if len(key) < 16 || len(key) > maxKey {
		return nil, fmt.Errorf("the key in %s has %d bytes; give it from 16 to %d", name, len(key), maxKey)
	}
	return key, nil
}
