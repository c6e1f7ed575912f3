package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/budget"
	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/draft"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/render"
)

func (a *app) newFile() *cobra.Command {
	var values asked
	c := &cobra.Command{
		Use:   "new FILE",
		Short: "Write the smallest useful policy file for your own line",
		Long: `New writes a policy file for one line: calls first, all other traffic below the
rate of the line, and a rehearsal of a full line. It asks for what the flags do
not say, when it runs in a terminal. FILE - writes to standard output. An
existing file is never overwritten. With more facts, use imbrel draft.`,
		Example: `  imbrel new office.yaml
  imbrel new office.yaml --up 10Mbit/s --down 50Mbit/s --calls 12 --codec g711`,
		Args: between(1, 1, "the name of the file to write"),
		RunE: func(c *cobra.Command, args []string) error {
			f := &draft.Facts{}
			if err := a.ask(c, f, values, nil); err != nil {
				return err
			}
			return a.writeDraft(args[0], f)
		},
	}
	values = questionFlags(c)
	return c
}

func (a *app) draft() *cobra.Command {
	var values asked
	var line, measured, erlangs, blocking, surveyed string
	var phones int
	var classes, inside []string
	c := &cobra.Command{
		Use:   "draft FILE",
		Short: "Write a policy file from facts: a line test, phones, a survey",
		Long: `Draft writes a policy file with its network and a rehearsal, from what is known: what the
line carries, how many phones or calls there are, which classes are wanted, and what a
survey saw. Each number has a comment that says where it comes from, and what is only
assumed is listed at the top. Markings follow RFC 4594. It asks for what the flags do not
say, when it runs in a terminal. FILE - writes to standard output. An existing file is
never overwritten.`,
		Example: `  imbrel draft office.yaml --line "18.3Mbit/s down, 4.1Mbit/s up" --phones 9 --codec g711
  imbrel draft office.yaml --line "18.3Mbit/s down, 4.1Mbit/s up" --erlangs 3 --classes video,business,bulk
  imbrel draft office.yaml --line "50Mbit/s down, 10Mbit/s up" --survey week.json --inside 10.44.8.0/22`,
		Args: between(1, 1, "the name of the file to write"),
		RunE: func(c *cobra.Command, args []string) error {
			f := &draft.Facts{}
			given := make(map[string]string)
			if line != "" {
				if err := apart(c, "--line", "it says both rates", "up", "down"); err != nil {
					return err
				}
				if err := lineOf(f, line); err != nil {
					return err
				}
				given["up"], given["down"] = "--line", "--line"
				f.LineFrom = "as you said"
			}
			if measured != "" {
				if err := apart(c, "--measured", "it says both rates", "up", "down", "line"); err != nil {
					return err
				}
				if err := measuredLine(f, measured, c.Flags().Changed("framing"), given); err != nil {
					return err
				}
			}
			if surveyed != "" {
				s, err := files.ReadSurvey(surveyed)
				if err != nil {
					return fmt.Errorf("--survey: %w", err)
				}
				f.Survey = s
			}
			if err := callsOf(c, f, phones, erlangs, blocking, given); err != nil {
				return err
			}
			for _, s := range inside {
				p, err := netip.ParsePrefix(strings.TrimSpace(s))
				if err != nil {
					return fmt.Errorf("--inside %s: this is not a prefix such as 10.44.8.0/22", s)
				}
				f.Inside = append(f.Inside, p.Masked())
			}
			for _, name := range classes {
				if name = strings.TrimSpace(name); !slices.Contains(draft.ClassNames(), name) {
					return fmt.Errorf("--classes %s: %sthe classes are %s", name, policy.DidYouMean(name, draft.ClassNames()), strings.Join(draft.ClassNames(), ", "))
				}
				f.Classes = append(f.Classes, name)
			}
			if err := a.ask(c, f, values, given); err != nil {
				return err
			}
			if f.LineFrom == "" {
				f.LineFrom = "as you said"
			}
			return a.writeDraft(args[0], f)
		},
	}
	values = questionFlags(c)
	fl := c.Flags()
	fl.StringVar(&line, "line", "", "what the `LINE` carries, as a test of it said: \"18.3Mbit/s down, 4.1Mbit/s up\"")
	fl.StringVar(&measured, "measured", "", "plan for the worst of what imbrel measure kept in a `FILE`: rates, framing, delay and queue")
	numberVar(fl, &phones, "phones", 0, 1, draft.MaxCalls, "how `MANY` phones there are: all may talk at a time")
	fl.StringVar(&erlangs, "erlangs", "", "in place of --phones: `HOW MUCH` traffic comes in the busy hour, in erlangs")
	fl.StringVar(&blocking, "blocking", "1%", "with --erlangs: the `PART` of the calls that may find no room")
	fl.StringVar(&surveyed, "survey", "", "plan for the traffic that a saved survey in a `FILE` saw")
	fl.StringSliceVar(&classes, "classes", nil, "the `CLASSES` to have besides the rest: "+strings.Join(draft.ClassNames(), ", "))
	fl.StringSliceVar(&inside, "inside", nil, "the `PREFIXES` of the site")
	return c
}

// lineOf reads rates with a word for each direction.
func lineOf(f *draft.Facts, s string) error {
	wrong := fmt.Errorf("--line %q: write both rates, each with its direction, as in \"18.3Mbit/s down, 4.1Mbit/s up\"", s)
	parts := strings.Split(s, ",")
	if len(parts) != 2 {
		return wrong
	}
	for _, p := range parts {
		words := strings.Fields(p)
		if len(words) != 2 {
			return wrong
		}
		rate, err := unit.ParseRate(words[0])
		if err != nil {
			return fmt.Errorf("--line: %w", err)
		}
		switch words[1] {
		case "up":
			f.Up = rate
		case "down":
			f.Down = rate
		default:
			return wrong
		}
	}
	if f.Up == 0 || f.Down == 0 {
		return wrong
	}
	return nil
}

// measuredLine takes what was measured of a line.
func measuredLine(f *draft.Facts, name string, framing bool, given map[string]string) error {
	l, err := files.ReadLine(name)
	if errors.Is(err, fs.ErrNotExist) {
		err = fmt.Errorf("%s does not exist", name)
	}
	if err != nil {
		return fmt.Errorf("--measured: %w", err)
	}
	up, n := l.Worst(true)
	down, k := l.Worst(false)
	if n < 0 || k < 0 || up.RateBps <= 0 || down.RateBps <= 0 {
		return fmt.Errorf("--measured %s: no run measured both directions", name)
	}
	f.Up, f.Down = draft.Round(unit.Rate(up.RateBps)), draft.Round(unit.Rate(down.RateBps))
	given["up"], given["down"] = "--measured", "--measured"
	f.LineFrom = fmt.Sprintf("the worst of %s, out at %s and in at %s", humanize.Plural(len(l.Runs), "measurement"), l.Runs[n].At.Format("2006-01-02 15:04"), l.Runs[k].At.Format("2006-01-02 15:04"))
	f.Delay = time.Duration(up.DelayMs * 1e6)
	f.Buffer = time.Duration(max(up.QueueMs, down.QueueMs) * 1e6)
	if up.Framing != "" && !framing {
		if f.Framing, err = language.ParseFraming(up.Framing); err != nil {
			return fmt.Errorf("--measured %s: %w", name, err)
		}
		f.FramingFrom, given["framing"] = "it fits the measured rates of packets of several lengths", "--measured"
	}
	return nil
}

// callsOf finds how many calls to plan for from phones, erlangs or a survey.
func callsOf(c *cobra.Command, f *draft.Facts, phones int, erlangs, blocking string, given map[string]string) error {
	switch {
	case phones > 0:
		if err := apart(c, "--phones", "it says how many calls there can be", "calls", "erlangs"); err != nil {
			return err
		}
		f.Calls, f.CallsFrom = phones, "the number of phones, all of which may talk"
	case erlangs != "":
		if err := apart(c, "--erlangs", "it says how many calls to plan for", "calls"); err != nil {
			return err
		}
		traffic, err := strconv.ParseFloat(erlangs, 64)
		if err != nil || !(traffic > 0) || traffic > draft.MaxCalls || math.IsNaN(traffic) {
			return fmt.Errorf("--erlangs %s: it is a number of more than 0 and at most %d: calls that begin in an hour, times how many hours they last on average", erlangs, draft.MaxCalls)
		}
		part, err := unit.ParsePercent(blocking)
		if err != nil || part <= 0 || part >= unit.Whole {
			return fmt.Errorf("--blocking %s: it is a percentage of more than 0%% and less than 100%%, such as 1%%", blocking)
		}
		plan, err := budget.Plan(traffic, float64(part)/float64(unit.Whole))
		if err != nil {
			return err
		}
		f.Calls, f.CallsFrom = plan.Calls, fmt.Sprintf("%g erlangs, of which %s find no room (Erlang B)", traffic, blocking)
	case f.Survey != nil && f.Survey.AtOnce > 0 && !c.Flags().Changed("calls"):
		f.Calls, f.CallsFrom = draft.Planned(f.Survey.AtOnce), fmt.Sprintf("the survey saw %d, and a few may be added", f.Survey.AtOnce)
		if k := draft.CodecSeen(f.Survey); k != "" && !c.Flags().Changed("codec") {
			var err error
			if f.Codec, err = codecOf(k, "", ""); err != nil {
				return err
			}
			given["codec"] = "--survey"
		}
	default:
		return nil
	}
	given["calls"] = "--phones"
	return nil
}

// writeDraft writes the file of the facts.
func (a *app) writeDraft(name string, f *draft.Facts) error {
	text, err := draft.Text(f)
	if err != nil {
		return err
	}
	return a.writeNew(name, text)
}

// asked are the values of the questions' flags.
type asked map[string]*string

// questions are what a draft needs to know, by flags or by answers.
var questions = []struct {
	flag, preset, usage string
	ask                 string // "": it is not asked, the preset does
	offer               string // what an empty answer means
	why                 string
	read                func(f *draft.Facts, s string) error
}{
	{"up", "", "the `RATE` that the line carries out of the site, such as 10Mbit/s", "Rate of the line out of the site (such as 10Mbit/s)", "", "Take the worst of several tests at different hours: a shape above what the line carries keeps no promise.", func(f *draft.Facts, s string) (err error) {
		f.Up, err = unit.ParseRate(s)
		return err
	}},
	{"down", "", "the `RATE` that the line carries into the site", "Rate of the line into the site (such as 50Mbit/s)", "", "The queue of downloads is at the provider: it is kept short by shaping below this rate.", func(f *draft.Facts, s string) (err error) {
		f.Down, err = unit.ParseRate(s)
		return err
	}},
	{"calls", "", "how `MANY` calls the line has to hold at a time", "Calls at a time (such as 12)", "", "Calls have priority up to this number, and no further: one more harms all of them.", func(f *draft.Facts, s string) (err error) {
		if f.Calls, err = strconv.Atoi(s); err != nil || f.Calls < 1 || f.Calls > draft.MaxCalls {
			return fmt.Errorf("%.40q is not a number of calls from 1 to %d", s, draft.MaxCalls)
		}
		return nil
	}},
	{"codec", "g711", "the `CODEC` of the calls: " + strings.Join(codec.Names(), ", "), "Codec of the calls", "g711", "It says how much a call takes. g711 takes most: with it there is room for all others.", func(f *draft.Facts, s string) (err error) {
		f.Codec, err = codecOf(s, "", "")
		return err
	}},
	{"framing", "ethernet", "the `FRAMING` by which the line counts bytes, as in a policy file", "Framing of the line", "ethernet", "Small packets, such as those of calls, take up to half as much again by what the line adds.", func(f *draft.Facts, s string) (err error) {
		f.Framing, err = language.ParseFraming(s)
		return err
	}},
}

// questionFlags gives a command a flag for each question.
func questionFlags(c *cobra.Command) asked {
	values := make(asked)
	for _, q := range questions {
		values[q.flag] = c.Flags().String(q.flag, q.preset, q.usage)
	}
	return values
}

// ask reads the flags, and asks for what they do not say. given are facts that are known already.
func (a *app) ask(c *cobra.Command, f *draft.Facts, values asked, given map[string]string) error {
	asks := isTerminal(a.in)
	answers := bufio.NewReader(a.in)
	var missing []string
	bare := c.Flags().NFlag() == 0
	for _, q := range questions {
		if given[q.flag] != "" {
			continue
		}
		value := strings.TrimSpace(*values[q.flag])
		told := c.Flags().Changed(q.flag) || !bare && value != ""
		if !told && !asks && value == "" {
			missing = append(missing, "--"+q.flag)
			continue
		}
		if !asks {
			told = true
		}
		for {
			if !told {
				fmt.Fprintf(a.err, "%s\n", q.why)
				if q.offer != "" {
					fmt.Fprintf(a.err, "%s [%s]: ", q.ask, q.offer)
				} else {
					fmt.Fprintf(a.err, "%s: ", q.ask)
				}
				said, err := answers.ReadString('\n')
				if value = strings.TrimSpace(said); err != nil && value == "" {
					return errors.New("the answers ended before the last question; the flags --up, --down and --calls answer them too")
				}
				if value == "" {
					value = q.offer
				}
			}
			err := q.read(f, value)
			if err == nil {
				break
			}
			if told {
				return fmt.Errorf("--%s: %w", q.flag, err)
			}
			fmt.Fprintf(a.err, "%s\n", render.Visible(err.Error()))
		}
	}
	if len(missing) > 0 {
		return fmt.Errorf("%s needs %s, such as --up 10Mbit/s --down 50Mbit/s --calls 12; in a terminal it asks", c.Name(), strings.Join(missing, ", "))
	}
	return nil
}
