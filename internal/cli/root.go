// Package cli is the command line: one file a command, each with its flags, its
// help, and the call.
package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime/debug"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"imbrel.example/imbrel/internal/render"
)

// Exit statuses.
const (
	exitWell      = 0
	exitFound     = 1 // a finding of error level, or an expectation that failed
	exitUnusable  = 2 // unusable input or flags
	exitFault     = 3 // our own fault
	exitNotJudged = 4 // the machine held the program up for too long to judge

	exitInterrupted = 130
)

// errFound ends a command that worked and found something wrong.
var errFound = errors.New("found")

// errNotJudged ends a command that measured, on a machine that held it up for too long.
var errNotJudged = errors.New("not judged")

// errInterrupted ends a command that an interrupt stopped, and that has shown what it did.
var errInterrupted = errors.New("interrupted")

// An app is what every command works with.
type app struct {
	in       io.Reader
	out, err io.Writer
	output   string // -o
	// includeFrom are folders from which policy files may be included besides their own.
	includeFrom []string
}

// Main runs the command line and returns the exit status.
func Main(args []string, in io.Reader, out, errs io.Writer) (status int) {
	defer func() {
		if p := recover(); p != nil {
			fmt.Fprintf(errs, "imbrel: this is our own fault, not yours: %v\n%s\nPlease report it with the file that caused it.\n", p, debug.Stack())
			status = exitFault
		}
	}()
	buffered := bufio.NewWriter(out)
	a := &app{in: in, out: buffered, err: errs}
	root := a.root(out)
	root.SetArgs(args)
	err := root.Execute()
	if e := buffered.Flush(); e != nil && (err == nil || errors.Is(err, errFound) || errors.Is(err, errNotJudged)) {
		err = fmt.Errorf("cannot write the result: %w", e)
	}
	switch {
	case err == nil:
		return exitWell
	case errors.Is(err, errFound):
		return exitFound
	case errors.Is(err, errNotJudged):
		return exitNotJudged
	case errors.Is(err, errInterrupted):
		return exitInterrupted
	}
	fmt.Fprintln(errs, render.Error(err, args, columns(errs)))
	return exitUnusable
}

func (a *app) root(terminal io.Writer) *cobra.Command {
	root := &cobra.Command{
		Use:   "imbrel",
		Short: "Will voice hold when the link is full, and who pays for it?",
		Long: `Imbrel reads one policy file: classes of traffic, the treatment of each, the
interfaces and the network, and rehearsals. It sends the traffic through the
network packet by packet and says with numbers what every class gets.

Start with:  imbrel demo`,
		Version:       version(),
		SilenceErrors: true,
		SilenceUsage:  true,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				return unknownCommand(c, args[0])
			}
			return nil
		},
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
		PersistentPreRunE: func(c *cobra.Command, _ []string) error {
			if err := noneEmpty(c); err != nil {
				return err
			}
			if a.output != "text" && a.output != "json" && (a.output != "sarif" || c.Name() != "check") {
				return fmt.Errorf("-o %s: the output is text or json", a.output)
			}
			return nil
		},
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: true},
	}
	root.SetIn(a.in)
	root.SetOut(a.out)
	root.SetErr(a.err)
	root.PersistentFlags().StringVarP(&a.output, "output", "o", "text", "`FORM` of the result: text for people, json for programs")
	root.PersistentFlags().StringArrayVar(&a.includeFrom, "include-from", nil, "allow includes from the folder `DIR`, too, not only from the folder of the file")
	root.SetFlagErrorFunc(flagError)
	root.SetHelpCommand(help(root))
	root.SetVersionTemplate("imbrel {{.Version}}\n")
	text := render.Text{W: a.out, Color: colored(terminal), Width: columns(terminal)}
	root.AddCommand(a.demo(text), a.newFile(), a.check(text), a.explain(text), a.shares(text), a.rehearse(text), a.find(text), a.codepoint(text), a.budget(text), a.compare(text), a.changes(text), a.gate(text), a.watchCounters(text), a.prove(text), a.answer(), a.probe(text), a.call(text), a.flood(text), a.schema())
	return root
}

// version returns the version from the build information.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "(unknown)"
	}
	v := info.Main.Version
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" && len(s.Value) >= 12 && (v == "" || v == "(devel)") {
			v = s.Value[:12]
		}
	}
	if v == "" {
		v = "(devel)"
	}
	return v
}

func isTerminal(w any) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}
