package cli

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/render"
)

// A form is a way to write a result, and whom it is for.
type form struct{ name, is string }

// The forms of results. Every command with -o has the first two.
var (
	forPeople   = form{"text", "for people"}
	forPrograms = form{"json", "for programs"}
	sarif       = form{"sarif", "for code reviews"}
	junit       = form{"junit", "for reports of tests"}
	csv         = form{"csv", "for spreadsheets"}
	openmetrics = form{"openmetrics", "for monitoring"}
	markdown    = form{"markdown", "for a comment in a review"}
	svg         = form{"svg", "for browsers"}
	dot         = form{"dot", "for programs that lay graphs out"}

	usual = []form{forPeople, forPrograms}
)

// formsOf returns the forms that a command's result has; none where it has no -o.
func formsOf(c *cobra.Command) []form {
	if c.Flags().Lookup("output") == nil {
		return nil
	}
	switch c.Name() {
	case "rehearse", "demo":
		return append(slices.Clone(usual), junit, csv, openmetrics, markdown, sarif)
	case "check":
		return append(slices.Clone(usual), sarif, junit)
	case "prove":
		return append(slices.Clone(usual), junit)
	case "draw":
		return []form{svg, dot}
	case "gate":
		return append(slices.Clone(usual), openmetrics)
	}
	return usual
}

// formsInWords lists forms, each with whom it is for.
func formsInWords(all []form) string {
	var out []string
	for _, f := range all {
		out = append(out, f.name+" "+f.is)
	}
	return strings.Join(out, ", ")
}

// known reports a form that a command does not have.
func known(c *cobra.Command, output string) error {
	all := formsOf(c)
	if f := c.Flags().Lookup("output"); f != nil && !f.Changed {
		return nil
	}
	var names []string
	for _, f := range all {
		if f.name == output {
			return nil
		}
		names = append(names, f.name)
	}
	if all == nil {
		return nil
	}
	return fmt.Errorf("-o %s: %sthe output is %s", output, policy.DidYouMean(output, names), policy.OrList(names))
}

// write writes results of so many modes each in a form for programs; false: it is none of these.
func (a *app) write(results []*measure.Result, modes int) (bool, error) {
	var judged []*measure.Result // without what stands beside them for comparison
	for i := modes - 1; i < len(results); i += modes {
		judged = append(judged, results[i])
	}
	switch a.output {
	case junit.name:
		return true, render.JUnit(a.out, judged)
	case csv.name:
		return true, render.CSV(a.out, results)
	case openmetrics.name:
		return true, render.OpenMetrics(a.out, version(), results, nil)
	case markdown.name:
		return true, render.Markdown(a.out, results, modes)
	case sarif.name:
		return true, render.JSON(a.out, render.SARIFOfRuns(judged, version()))
	}
	return false, nil
}

// writeSeries writes what happened over time as tables into a folder, which may have such tables already.
func writeSeries(dir string, results []*measure.Result) error {
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return fmt.Errorf("cannot make the folder: %w", err)
	}
	for _, f := range render.SeriesFiles {
		var b bytes.Buffer
		if err := f.Write(&b, results); err != nil {
			return err
		}
		name := filepath.Join(dir, f.Name)
		if err := files.Replaceable(name, []byte("rehearsal,policies,seed,"), "a table of a series"); err != nil {
			return err
		}
		if err := files.Replace(name, b.Bytes()); err != nil {
			return err
		}
	}
	return nil
}
