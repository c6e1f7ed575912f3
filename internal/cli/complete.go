package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/check"
	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/internal/files"
)

// Completions of a shell: what an argument or a flag may say, from the policy file that the command line names.

type completion = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective)

// completing gives each flag and argument of a command its completions.
func (a *app) completing(c *cobra.Command, arguments ...completion) {
	c.ValidArgsFunction = func(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
		if len(args) < len(arguments) {
			return arguments[len(args)](c, args, begun)
		}
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	for flag, complete := range map[string]completion{
		"class": a.fromFile(classes), "busy": a.fromFile(classes), "at": a.fromFile(places), "node": a.fromFile(nodes), "expect": a.fromFile(rehearsals),
		"about": choices(findings()...), "codec": choices(codec.Names()...), "dscp": choices(codepoint.Names()...), "output": choices("text", "json"),
		"fail-on": choices("failure", "warning", "error"),
	} {
		if c.Flags().Lookup(flag) != nil {
			_ = c.RegisterFlagCompletionFunc(flag, complete) // it fails for a flag that is not there, or twice
		}
	}
}

// choices completes fixed words.
func choices(list ...string) completion {
	return func(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
		return beginning(list, begun), cobra.ShellCompDirectiveNoFileComp
	}
}

// policyFiles completes the names of policy files.
func policyFiles(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return []string{"yaml", "yml", "json"}, cobra.ShellCompDirectiveFilterFileExt
}

// fromFile completes what a policy file holds: the first argument of the command.
func (a *app) fromFile(of func(*policy.File) []string) completion {
	return a.fromSource(func(f *policy.File, _ files.Place) []string { return of(f) })
}

func (a *app) fromSource(of func(*policy.File, files.Place) []string) completion {
	return func(_ *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
		if len(args) == 0 || args[0] == "-" {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		f, in, err := files.ReadPolicy(args[0], a.in, a.includeFrom...)
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return beginning(of(f, in), begun), cobra.ShellCompDirectiveNoFileComp
	}
}

func rehearsals(f *policy.File) (out []string) {
	for i := range f.Rehearsals {
		out = append(out, f.Rehearsals[i].Name)
	}
	return out
}

func classes(f *policy.File) []string { return append(f.ClassNames(), f.EntryPaths()...) }

func nodes(f *policy.File) (out []string) {
	for i := range f.Network.Nodes {
		out = append(out, f.Network.Nodes[i].Name)
	}
	return out
}

func interfaces(f *policy.File) (out []string) {
	for i := range f.Network.Nodes {
		for _, iface := range f.Network.Nodes[i].Interfaces {
			out = append(out, iface.Path())
		}
	}
	return out
}

func places(f *policy.File) (out []string) {
	for _, path := range interfaces(f) {
		out = append(out, path, path+" in", path+" out")
	}
	return out
}

// numbers returns the paths of the numbers of a file.
func numbers(_ *policy.File, in files.Place) []string { return in.Numbers() }

func findings() (out []string) {
	for _, r := range check.Rules() {
		out = append(out, r.Name)
	}
	return out
}

// beginning returns the words that begin as what was typed.
func beginning(list []string, begun string) (out []string) {
	for _, w := range list {
		if strings.HasPrefix(w, begun) {
			out = append(out, w)
		}
	}
	return out
}
