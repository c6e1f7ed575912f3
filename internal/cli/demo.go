package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/examples"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/render"
)

// demoFile is the embedded example that the demo tells.
const demoFile = "ternrock.yaml"

func (a *app) demo(text render.Text) *cobra.Command {
	var write string
	var delivers bool
	var out pages
	view := render.View{Next: true}
	c := &cobra.Command{
		Use:   "demo",
		Short: "Rehearse a built-in example: a full radio link, without and with a policy",
		Long: `Demo rehearses an embedded example: a pilot station whose radio link to the
harbour is full in fog. The same traffic runs without and with the policy.`,
		Example: `  imbrel demo
  imbrel demo --write tern`,
		Args: cobra.NoArgs,
		RunE: func(_ *cobra.Command, _ []string) error {
			if write != "" {
				return a.writeDemo(write)
			}
			if delivers {
				return a.demoDeliver(text)
			}
			if err := out.free(); err != nil {
				return err
			}
			f, in, err := files.ReadPolicyIn(examples.FS, demoFile)
			if err != nil {
				return err
			}
			plans, err := choose(f, demoFile, "fog")
			if err != nil {
				return err
			}
			if a.output == "text" {
				text.Lines(examples.Story)
			}
			err = a.runAll(text, &rehearsalRun{file: f, in: in, seed: 1, both: true, view: view, pages: out}, plans)
			if a.output == "text" && (err == nil || errors.Is(err, errFound)) {
				text.Lines(examples.Next)
			}
			return err
		},
	}
	c.Flags().BoolVar(&view.Detail, "detail", false, "also show each traffic, interface and link")
	out.flags(c)
	c.Flags().BoolVar(&delivers, "deliver", false, "show how a policy is brought to three devices, and taken back: gates of this machine as root, stand-ins otherwise")
	c.Flags().StringVar(&write, "write", "", "write the example's files into the folder `DIR` instead, to try changes on")
	return c
}

// writeDemo copies the example's files out. It never overwrites a file.
func (a *app) writeDemo(dir string) error {
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return fmt.Errorf("cannot make the folder: %w", err)
	}
	for _, name := range examples.Demo {
		data, err := fs.ReadFile(examples.FS, name)
		if err != nil {
			return err
		}
		path := filepath.Join(dir, name)
		if err := writeOnce(path, data, "folder"); err != nil {
			return err
		}
		fmt.Fprintln(a.out, render.Visible(path))
	}
	return nil
}
