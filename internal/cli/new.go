package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/starter"
	"imbrel.example/imbrel/core/unit"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/render"
)

func (a *app) newFile() *cobra.Command {
	values := make(map[string]*string)
	c := &cobra.Command{
		Use:   "new FILE",
		Short: "Write the smallest useful policy file for your own line",
		Long: `New writes a policy file for one line: calls first, all other traffic below the
rate of the line, and a rehearsal of a full line. It asks for what the flags do
not say, when it runs in a terminal. FILE - writes to standard output. An
existing file is never overwritten.`,
		Example: `  imbrel new office.yaml
  imbrel new office.yaml --up 10Mbit/s --down 50Mbit/s --calls 12 --codec g711`,
		Args: between(1, 1, "the name of the file to write"),
		RunE: func(_ *cobra.Command, args []string) error {
			line, err := a.line(values)
			if err != nil {
				return err
			}
			text, err := starter.Text(line)
			if err != nil {
				return err
			}
			return a.writeNew(args[0], text)
		},
	}
	for _, q := range questions {
		values[q.flag] = c.Flags().String(q.flag, q.preset, q.usage)
	}
	return c
}

// questions are what a new file needs to know, by flags or by answers.
var questions = []struct {
	flag, preset, usage string
	ask                 string // "": it is not asked, the preset does
	read                func(l *starter.Line, s string) error
}{
	{"up", "", "the `RATE` that the line carries out of the site, such as 10Mbit/s", "Rate of the line out of the site (such as 10Mbit/s)", func(l *starter.Line, s string) (err error) {
		l.Up, err = unit.ParseRate(s)
		return err
	}},
	{"down", "", "the `RATE` that the line carries into the site", "Rate of the line into the site (such as 50Mbit/s)", func(l *starter.Line, s string) (err error) {
		l.Down, err = unit.ParseRate(s)
		return err
	}},
	{"calls", "", "how `MANY` calls the line has to hold at a time", "Calls at a time (such as 12)", func(l *starter.Line, s string) (err error) {
		if l.Calls, err = strconv.Atoi(s); err != nil || l.Calls < 1 || l.Calls > starter.MaxCalls {
			return fmt.Errorf("%.40q is not a number of calls from 1 to %d", s, starter.MaxCalls)
		}
		return nil
	}},
	{"codec", "g711", "the `CODEC` of the calls: " + strings.Join(codec.Names(), ", "), "", func(l *starter.Line, s string) (err error) {
		l.Codec, err = codecOf(s, "", "")
		return err
	}},
	{"framing", "ethernet", "the `FRAMING` by which the line counts bytes, as in a policy file", "", func(l *starter.Line, s string) (err error) {
		l.Framing, err = language.ParseFraming(s)
		return err
	}},
}

// line reads the flags, and asks for what they do not say.
func (a *app) line(values map[string]*string) (*starter.Line, error) {
	l := &starter.Line{}
	asks := isTerminal(a.in)
	answers := bufio.NewReader(a.in)
	var missing []string
	for _, q := range questions {
		value := strings.TrimSpace(*values[q.flag])
		if value == "" && !asks {
			missing = append(missing, "--"+q.flag)
			continue
		}
		given := value != ""
		for {
			if !given {
				fmt.Fprintf(a.err, "%s: ", q.ask)
				said, err := answers.ReadString('\n')
				if value = strings.TrimSpace(said); err != nil && value == "" {
					return nil, errors.New("no answer was given; the flags --up, --down and --calls say the same")
				}
			}
			err := q.read(l, value)
			if err == nil {
				break
			}
			if given {
				return nil, fmt.Errorf("--%s: %w", q.flag, err)
			}
			fmt.Fprintf(a.err, "%s\n", render.Visible(err.Error()))
		}
	}
	if len(missing) > 0 {
		return nil, fmt.Errorf("new needs %s, such as --up 10Mbit/s --down 50Mbit/s --calls 12; in a terminal it asks", strings.Join(missing, ", "))
	}
	return l, nil
}

// writeOnce writes a file, and refuses to overwrite one; what is the thing to rename: a file or a folder.
func writeOnce(path string, data []byte, what string) error {
	f, err := files.NewPart(path)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s already exists; not overwritten. Name another %s", path, what)
	}
	if err == nil {
		if _, err = f.Write(data); err == nil {
			err = f.Finish()
		} else {
			f.Discard()
		}
	}
	if err != nil {
		return fmt.Errorf("cannot write %s: %w", path, err)
	}
	return nil
}

// writeNew writes a file that is not there yet, and says what to do next.
func (a *app) writeNew(path, text string) error {
	if path == "-" {
		_, err := fmt.Fprint(a.out, text)
		return err
	}
	if err := writeOnce(path, []byte(text), "file"); err != nil {
		return err
	}
	shown := render.Visible(path)
	fmt.Fprintf(a.out, `%s is written. Next:
  imbrel rehearse %s --both    do the calls hold when the line is full?
  Open %s and change what is marked CHANGE: ports, addresses, framing.
  imbrel check %s              find mistakes after each change
`, shown, shown, shown, shown)
	return nil
}
