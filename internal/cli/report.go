package cli

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/report"
)

// Pages is what a command writes to look at: a page, and its charts as files.
type pages struct {
	page, charts string
	wrote        []string
}

func (p *pages) flags(c *cobra.Command) {
	c.Flags().StringVar(&p.page, "report", "", "write a `PAGE`.html with charts, which needs nothing else to be read")
	c.Flags().StringVar(&p.charts, "charts", "", "write the charts of the report as SVG and PNG into the folder `DIR`")
}

// wanted reports whether there is anything to write.
func (p *pages) wanted() bool { return p.page != "" || p.charts != "" }

// check reports what stands in the way before anything is run.
func (p *pages) check(plans []*policy.Rehearsal) error {
	if p.wanted() && len(plans) > 1 {
		return fmt.Errorf("a report is about one rehearsal: name one of %s", strings.Join(names(plans), ", "))
	}
	return p.free()
}

// free reports a file of somebody else's in the page's place.
func (p *pages) free() error {
	if p.page == "" {
		return nil
	}
	return files.Replaceable(p.page, []byte(`content="imbrel"`), "a report of imbrel")
}

func names(plans []*policy.Rehearsal) (out []string) {
	for _, h := range plans {
		out = append(out, h.Name)
	}
	return out
}

// write writes the page that a function makes, and its charts, where they are wanted.
func (p *pages) write(of func() *report.Page) error {
	if !p.wanted() {
		return nil
	}
	page := of()
	if p.page != "" {
		var b bytes.Buffer
		if err := page.Write(&b); err != nil {
			return err
		}
		if err := files.Replace(p.page, b.Bytes()); err != nil {
			return err
		}
		p.wrote = append(p.wrote, p.page)
	}
	if p.charts == "" {
		return nil
	}
	if err := os.MkdirAll(p.charts, 0o777); err != nil {
		return fmt.Errorf("cannot make the folder: %w", err)
	}
	for _, c := range page.Charts {
		png, err := c.PNG()
		if err != nil {
			return err
		}
		for _, f := range []struct {
			ending string
			text   []byte
		}{{".svg", []byte(c.File())}, {".png", png}} {
			if err := files.Replace(filepath.Join(p.charts, c.Name+f.ending), f.text); err != nil {
				return err
			}
		}
	}
	p.wrote = append(p.wrote, fmt.Sprintf("%d charts in %s", len(page.Charts), p.charts))
	return nil
}

// say names what was written, to people and not to programs.
func (p *pages) say(a *app) {
	for _, name := range p.wrote {
		fmt.Fprintf(a.err, "wrote %s\n", name)
	}
}

// ran is what was run.
func (a *app) ran(in files.Place, res *measure.Result) *report.Ran {
	r := &report.Ran{Command: commandLine(a.args), Version: version()}
	if in.Source != nil {
		r.Files = in.Texts()
	}
	if res != nil {
		r.Hash, r.Seed = res.FileHash, res.Seed
	}
	return r
}

// commandLine is the command as it can be pasted into a shell.
func commandLine(args []string) string {
	out := []string{"imbrel"}
	for _, a := range args {
		if strings.ContainsAny(a, " \t\n'\"\\$`*?[]{}()<>|&;#~!") || a == "" {
			a = "'" + strings.ReplaceAll(a, "'", `'\''`) + "'"
		}
		out = append(out, a)
	}
	return strings.Join(out, " ")
}
