package cli

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// A number is a flag's value: a whole number as people write it, so that 010 is ten.
type number[T int | uint16 | uint64] struct {
	into        *T
	least, most uint64
}

// numberVar defines a flag that is a number from least to most, and presets its value.
func numberVar[T int | uint16 | uint64](fl *pflag.FlagSet, into *T, name string, preset T, least, most uint64, usage string) {
	*into = preset
	fl.Var(&number[T]{into, least, most}, name, usage)
}

func (n *number[T]) Set(s string) error {
	v, err := strconv.ParseUint(s, 10, 64)
	if err != nil || v < n.least || v > n.most {
		if n.most == math.MaxUint64 {
			return fmt.Errorf("it is a whole number, from %d up", n.least)
		}
		return fmt.Errorf("it is a whole number from %d to %d", n.least, n.most)
	}
	*n.into = T(v)
	return nil
}

func (n *number[T]) String() string {
	if n.into == nil {
		return ""
	}
	return fmt.Sprint(*n.into)
}

func (n *number[T]) Type() string { return "number" }

// flagError says what is wrong with a flag in people's words.
func flagError(c *cobra.Command, err error) error {
	see := fmt.Sprintf("\nsee: %s --help", c.CommandPath())
	var unknown *pflag.NotExistError
	if errors.As(err, &unknown) {
		var names []string
		c.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
		hint := strings.TrimSpace(policy.DidYouMean(unknown.GetSpecifiedName(), names))
		if hint != "" {
			hint = "; " + strings.ReplaceAll(strings.Replace(hint, "`", "--", 1), "`", "")
		}
		return fmt.Errorf("there is no flag --%s%s%s", unknown.GetSpecifiedName(), hint, see)
	}
	var wrong *pflag.InvalidValueError
	if !errors.As(err, &wrong) {
		return fmt.Errorf("%w%s", err, see)
	}
	f := wrong.GetFlag()
	switch f.Value.Type() {
	case "bool":
		return fmt.Errorf("--%s=%s: this flag takes no value%s", f.Name, wrong.GetValue(), see)
	case "number":
		return fmt.Errorf("--%s %s: %w%s", f.Name, wrong.GetValue(), errors.Unwrap(wrong), see)
	}
	return fmt.Errorf("--%s %s: it cannot be read: write it without quotes of its own%s", f.Name, wrong.GetValue(), see)
}

// noneEmpty reports a flag that was given without a value.
func noneEmpty(c *cobra.Command) (err error) {
	c.Flags().Visit(func(f *pflag.Flag) {
		values := []string{f.Value.String()}
		if list, ok := f.Value.(pflag.SliceValue); ok {
			if values = list.GetSlice(); len(values) == 0 {
				values = []string{""}
			}
		}
		for _, v := range values {
			if strings.TrimSpace(v) == "" && err == nil {
				err = fmt.Errorf("--%s: the value is empty; leave the flag out, or give it one", f.Name)
			}
		}
	})
	return err
}

// apart returns an error when a flag is given beside another with which it has no effect.
func apart(c *cobra.Command, with, why string, flags ...string) error {
	for _, f := range flags {
		if c.Flags().Changed(f) {
			return fmt.Errorf("--%s has no effect with %s: %s", f, with, why)
		}
	}
	return nil
}

// unknownCommand returns the error for a command that there is none of.
func unknownCommand(root *cobra.Command, name string) error {
	var names []string
	for _, c := range root.Commands() {
		if c.IsAvailableCommand() {
			names = append(names, c.Name())
		}
	}
	return fmt.Errorf("there is no command `%s`; %sthere are: %s", name, policy.DidYouMean(name, names), strings.Join(names, ", "))
}

// help is the command that shows the help of another.
func help(root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use:   "help [COMMAND]",
		Short: "The help of a command",
		RunE: func(_ *cobra.Command, args []string) error {
			c, left, err := root.Find(args)
			if err != nil || len(left) > 0 {
				return unknownCommand(root, strings.Join(args, " "))
			}
			return c.Help()
		},
	}
}

// colored reports whether output goes to a terminal that shows colours, and they are not
// refused.
func colored(w any) bool {
	return isTerminal(w) && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
}

// columns returns how wide a terminal is, or what COLUMNS says; 0 when nobody knows.
func columns(w any) int {
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n > 0 {
		return max(n, minColumns)
	}
	if f, ok := w.(*os.File); ok && isTerminal(w) {
		if n, _, err := term.GetSize(int(f.Fd())); err == nil && n > 0 {
			return max(n, minColumns)
		}
	}
	return 0
}

// minColumns is the narrowest terminal that is written for.
const minColumns = 40

// timeOf returns the time that a flag says, which is at least the least; why says why, or nothing.
func timeOf(flag, value string, least time.Duration, why string) (time.Duration, error) {
	if strings.HasSuffix(value, "m") { // as people write minutes for a command
		value += "in"
	}
	d, err := unit.ParseDuration(value)
	if err != nil {
		return 0, fmt.Errorf("--%s: %w", flag, err)
	}
	if d < least {
		return 0, fmt.Errorf("--%s %s: the least is %s%s", flag, value, unit.FormatDuration(least), why)
	}
	return d, nil
}

// untilTold returns a context that ends when the program is interrupted or told to end, and
// what leaves both to the system again.
func untilTold() (context.Context, context.CancelFunc) {
	return signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
}
