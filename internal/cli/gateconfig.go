package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"go.yaml.in/yaml/v3"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/internal/render"
)

// maxConfig bounds what is read of a gate's configuration.
const maxConfig = 64 << 10

// configure sets the flags of a gate by a file: each key is a flag, `policy` is the policy file, and `ports` has the flag --port as a
// map. A flag that is given on the command line counts. It returns the policy file.
func configure(c *cobra.Command, name string) (file string, err error) {
	f, err := os.Open(name)
	if err != nil {
		return "", fmt.Errorf("--config: %w", err)
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, maxConfig+1))
	if err != nil || len(text) > maxConfig {
		return "", fmt.Errorf("--config %s: it cannot be read, or is longer than 64 KiB: %w", name, err)
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return "", fmt.Errorf("%s: %w", name, err)
	}
	if len(doc.Content) != 1 || doc.Content[0].Kind != yaml.MappingNode {
		return "", fmt.Errorf("%s: a gate is configured by keys and values, such as `policy: site.yaml`", name)
	}
	known := []string{"policy", "ports"}
	c.Flags().VisitAll(func(f *pflag.Flag) {
		if f.Name != "config" && f.Name != "port" && f.Name != "help" {
			known = append(known, f.Name)
		}
	})
	set := func(key *yaml.Node, flag, value string) error {
		if given := c.Flags().Lookup(flag); given.Changed && given.Annotations["config"] == nil {
			return nil // on the command line
		}
		if err := c.Flags().Set(flag, value); err != nil {
			return fmt.Errorf("%s:%d: %w", name, key.Line, flagError(c, err))
		}
		return c.Flags().SetAnnotation(flag, "config", []string{""})
	}
	seen := make(map[string]bool)
	for i := 0; i+1 < len(doc.Content[0].Content); i += 2 {
		key, value := doc.Content[0].Content[i], doc.Content[0].Content[i+1]
		if seen[key.Value] {
			return "", fmt.Errorf("%s:%d: `%s` is there twice", name, key.Line, key.Value)
		}
		seen[key.Value] = true
		wrong := func(want string) error {
			return fmt.Errorf("%s:%d: `%s` is %s", name, key.Line, key.Value, want)
		}
		switch {
		case key.Value == "ports" && value.Kind == yaml.MappingNode:
			for n := 0; n+1 < len(value.Content); n += 2 {
				if err := set(key, "port", value.Content[n].Value+"="+value.Content[n+1].Value); err != nil {
					return "", err
				}
			}
		case key.Value == "ports":
			return "", wrong("a map of interfaces of the node to those of this machine, such as {lan: eth1, wan: eth2}")
		case key.Value == "policy" && value.Kind == yaml.ScalarNode && value.Value != "":
			if file = value.Value; !filepath.IsAbs(file) {
				file = filepath.Join(filepath.Dir(name), file)
			}
		case key.Value == "policy":
			return "", wrong("the name of a policy file")
		case !slices.Contains(known, key.Value):
			return "", fmt.Errorf("%s:%d: a gate has no key `%s`; %sit has %s", name, key.Line, key.Value, policy.DidYouMean(key.Value, known), policy.OrList(known))
		case value.Kind == yaml.SequenceNode:
			for _, v := range value.Content {
				if err := set(key, key.Value, v.Value); err != nil {
					return "", err
				}
			}
		case value.Kind == yaml.ScalarNode:
			if err := set(key, key.Value, value.Value); err != nil {
				return "", err
			}
		default:
			return "", wrong("a value, or a list of some")
		}
	}
	return file, nil
}

// logger returns what writes what happens to a gate to standard error: in words, or a line of keys and values, or of JSON.
func (a *app) logger(kind, command string) (*slog.Logger, error) {
	switch kind {
	case "words":
		return slog.New(&inWords{to: a.err, command: command}), nil
	case "text":
		return slog.New(slog.NewTextHandler(a.err, nil)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(a.err, nil)), nil
	}
	return nil, errors.New("--log is words, text or json")
}

// inWords writes what happens for people: the message says all.
type inWords struct {
	to      io.Writer
	command string
}

func (h *inWords) Enabled(context.Context, slog.Level) bool { return true }

func (h *inWords) Handle(_ context.Context, r slog.Record) error {
	_, err := fmt.Fprintln(h.to, render.Visible("imbrel "+h.command+": "+strings.TrimSpace(r.Message)))
	return err
}

func (h *inWords) WithAttrs([]slog.Attr) slog.Handler { return h }
func (h *inWords) WithGroup(string) slog.Handler      { return h }
