// Package cli is the command line: one file a command, each with its flags, its
// help, and the call.
package cli

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"imbrel.example/imbrel/core/codepoint"
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
	args     []string
	in       io.Reader
	out, err io.Writer
	output   string // -o
	// includeFrom are folders from which policy files may be included besides their own.
	includeFrom []string
	// Ballast is never touched, and so takes no memory. The collector of garbage runs when the heap has doubled, which is seldom beside it.
	ballast []byte
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
	a := &app{args: args, in: in, out: buffered, err: errs, output: "text"}
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
			a.ballast = make([]byte, 96<<20)
			return known(c, a.output)
		},
	}
	root.SetIn(a.in)
	root.SetOut(a.out)
	root.SetErr(a.err)
	root.SetFlagErrorFunc(flagError)
	root.SetHelpCommand(help(root))
	root.SetVersionTemplate("imbrel {{.Version}}\n")
	text := render.Text{W: a.out, Color: colored(terminal), Width: columns(terminal)}
	a.commands(root, text)
	wrapHelp(root, text)
	return root
}

// hasResult is the annotation of a command within another that has -o, and reads what the other reads.
const hasResult = "result"

// commands adds all commands, in groups by what people do.
func (a *app) commands(root *cobra.Command, text render.Text) {
	cobra.EnableCommandSorting = false
	const start, write, review, network, force, bring = "start", "write", "review", "network", "force", "bring"
	root.AddGroup(&cobra.Group{ID: start, Title: "Start here:"}, &cobra.Group{ID: write, Title: "Write:"}, &cobra.Group{ID: review, Title: "Search and review:"},
		&cobra.Group{ID: network, Title: "Measure a real network (on Linux):"}, &cobra.Group{ID: force, Title: "Enforce (on Linux):"},
		&cobra.Group{ID: bring, Title: "Bring to the devices:"})
	rehearsed := []completion{policyFiles, a.fromFile(rehearsals)}
	for _, r := range []struct {
		c            *cobra.Command
		group        string
		forms, reads bool // it has -o, and --include-from
		arguments    []completion
	}{
		{a.demo(text), start, true, false, nil},
		{a.newFile(), start, false, false, nil},
		{a.draft(), write, false, false, nil},
		{a.check(text), start, true, true, []completion{policyFiles, policyFiles, policyFiles, policyFiles}},
		{a.rehearse(text), start, true, true, rehearsed},
		{a.explain(text), start, true, true, []completion{policyFiles}},
		{a.survey(text), write, true, false, nil},
		{a.shares(text), write, true, true, []completion{policyFiles}},
		{a.bound(text), write, true, true, rehearsed},
		{a.budget(text), write, true, false, nil},
		{a.codepoint(text), write, true, false, []completion{choices(codepoint.Names()...)}},
		{a.draw(), write, true, true, []completion{policyFiles}},
		{a.schema(), write, false, false, nil},
		{a.find(text), review, true, true, append(slices.Clone(rehearsed), a.fromSource(numbers))},
		{a.changes(text), review, true, true, []completion{policyFiles, policyFiles}},
		{a.compare(text), review, true, false, nil},
		{a.answer(), network, false, false, nil},
		{a.probe(text), network, true, false, nil},
		{a.call(text), network, true, false, nil},
		{a.flood(text), network, true, false, nil},
		{a.measure(text), network, true, false, nil},
		{a.prove(text), network, true, true, rehearsed},
		{a.gate(text), force, true, true, []completion{policyFiles}},
		{a.watchCounters(text), force, true, false, nil},
		{a.deliver(text), bring, true, true, []completion{policyFiles}},
		{a.device(), bring, false, true, []completion{choices(profiles()...), policyFiles}},
	} {
		r.c.GroupID = r.group
		if r.group == network || r.group == force {
			r.c.Long += "\n\nThis command needs Linux. The commands of the other groups run on other systems, too."
		}
		for _, c := range append([]*cobra.Command{r.c}, r.c.Commands()...) {
			if c != r.c && c.Annotations[hasResult] == "" {
				continue
			}
			if r.forms {
				c.Flags().StringVarP(&a.output, "output", "o", "text", "")
				f, all := c.Flags().Lookup("output"), formsOf(c)
				f.Usage, f.DefValue = "`FORM` of the result: "+formsInWords(all), all[0].name
			}
			if r.reads {
				c.Flags().StringArrayVar(&a.includeFrom, "include-from", nil, "allow includes from the folder `DIR`, too, not only from the folder of the file")
			}
			a.completing(c, r.arguments...)
		}
		root.AddCommand(r.c)
	}
	// In a shell the word is `completion`, as cobra has it; it is among the others of its own.
	root.InitDefaultCompletionCmd()
}

// wrapHelp makes help as wide as the terminal.
func wrapHelp(root *cobra.Command, text render.Text) {
	width := text.Width
	if width == 0 {
		width = 100
	}
	root.SetUsageTemplate(strings.ReplaceAll(root.UsageTemplate(), "FlagUsages", fmt.Sprintf("FlagUsagesWrapped %d", width)))
	plain := root.HelpFunc()
	root.SetHelpFunc(func(c *cobra.Command, args []string) {
		var b bytes.Buffer
		out := c.OutOrStdout()
		c.Root().SetOut(&b)
		plain(c, args)
		c.Root().SetOut(out)
		text.W = out
		long, rest, _ := strings.Cut(strings.TrimRight(b.String(), "\n"), "Usage:")
		text.Prose(strings.TrimRight(long, "\n") + "\n")
		text.Lines("Usage:" + rest)
	})
}

// release is the version and commit that the release script builds in; "": the build information says it.
var release string

// version returns the version of the release, or of the build information.
func version() string {
	if release != "" {
		return release
	}
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
