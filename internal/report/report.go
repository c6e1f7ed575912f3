// Package report writes results as a page to look at: one HTML file that asks for nothing else, with charts, that works
// without scripts and prints.
package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/internal/chart"
	"imbrel.example/imbrel/internal/render"
)

// Ran is what was run, for the end of the page.
type Ran struct {
	Command string
	Files   []policyfile.Text // the policy file, and what it includes
	Hash    string            // of what they mean
	Version string
	Seed    uint64
}

// A Page is a report on its way to a file.
type Page struct {
	Charts []Named // all that it shows

	page
}

// A Named chart has a name that is good for a file.
type Named struct {
	Name string
	*chart.Chart
}

// A page is what the template writes.
type page struct {
	Title   string
	Word    string // of the verdict: PASS, FAIL, or a few words
	State   string // good, bad or none: its colour
	Said    string // the sentence of the verdict
	Notes   []string
	Facts   []string // below the verdict: what was rehearsed
	Answers []answer // to what a reader asks first
	Blocks  []block
	Ran     *Ran
	Refresh int // seconds after which the page loads itself again; 0: never
	Style   template.CSS
	Pattern template.HTML
}

// An answer is what a reader asks, and what the page says of it at length further down.
type answer struct{ Question, Text, State string }

// A block is a part of the page under a heading.
type block struct {
	ID, Title string
	Lead      []string
	Reasons   []reason
	Lists     []list
	Table     *table
	Ways      []way
	Scores    []scores
	Groups    []group
}

// A list is sentences under a word.
type list struct {
	Title string
	Items []item
}

type item struct{ Text, At string }

// A reason is a failed expectation and why it failed.
type reason struct {
	Expectation, Measured, Why, At, Change string
	Also                                   []reason // that failed for the same cause
	Chart                                  string   // the ID of what shows it; "": nothing does
}

// A table has a row of heads, and above them perhaps what several columns are of.
type table struct {
	Above []above
	Head  []string
	Left  int // the first columns, which hold words
	Rows  [][]cell
}

type above struct {
	Text string
	Span int
}

// A cell is a text, with a bar beside it where it is a part of something.
type cell struct {
	Text  string
	State string  // good, bad or ""
	Bar   float64 // 0 to 1; below 0: there is none
	Limit float64 // where the bar has a line; below 0: nowhere
}

func plain(text string) cell { return cell{Text: text, Bar: -1, Limit: -1} }

// A group is charts beside one another: the same without and with the policies.
type group struct {
	ID, Title string
	Lead      []string
	Charts    []drawn
}

// A drawn chart is its picture in two widths, and its numbers.
type drawn struct {
	ID, Caption  string
	Wide, Narrow template.HTML
	Tables       []chart.Table
}

// draw draws a chart, and keeps it.
func (p *Page) draw(caption string, c *chart.Chart) drawn {
	c.Title = caption
	name := strings.ToLower(strings.Trim(notInName.ReplaceAllString(caption, "-"), "-"))
	if name == "" {
		name = "chart"
	}
	for n := 2; slices.ContainsFunc(p.Charts, func(o Named) bool { return o.Name == name }); n++ {
		name = fmt.Sprintf("%s-%d", strings.TrimSuffix(name, fmt.Sprintf("-%d", n-1)), n)
	}
	p.Charts = append(p.Charts, Named{name, c})
	return drawn{"", caption, template.HTML(c.SVG(chart.Wide)), template.HTML(c.SVG(chart.Narrow)), c.Table()} // escaped by chart
}

// notInName is what a file's name goes without.
var notInName = regexp.MustCompile(`[^A-Za-z0-9.]+`)

// A scores is a strip of calls, the worst first, each by its MOS.
type scores struct {
	Title string
	Calls []score
	Left  int // not shown
}

type score struct {
	Text, State string
}

//go:embed page.html
var source string

//go:embed page.css
var style string

var pages = template.Must(template.New("page").Funcs(template.FuncMap{
	"percent": func(part float64) template.CSS { return template.CSS(fmt.Sprintf("%.1f%%", 100*min(max(part, 0), 1))) },
	"prose":   prose,
	"whole":   func(part float64) string { return fmt.Sprintf("%.0f %%", 100*part) },
}).Parse(source))

// prose is a sentence in which what stands between backticks is code.
func prose(text string) template.HTML {
	var b strings.Builder
	for i, part := range strings.Split(render.Visible(text), "`") {
		if part = template.HTMLEscapeString(part); i%2 == 1 {
			part = "<code>" + part + "</code>"
		}
		b.WriteString(part)
	}
	return template.HTML(b.String())
}

// Write writes the page.
func (p *Page) Write(w io.Writer) error {
	p.Style = template.CSS(chart.Style() + style)
	p.Pattern = template.HTML(chart.Patterns())
	return pages.Execute(w, &p.page)
}

// ms says milliseconds, seconds says when.
func ms(v float64) string { return round(humanize.Milliseconds(v)) }

func seconds(v float64) string { return fmt.Sprintf("%.4g s", v) }

func bps(v float64) string { return round(humanize.Rate(int64(v))) }

// round leaves the zeros after a point away.
func round(text string) string {
	number, unit, _ := strings.Cut(text, " ")
	if strings.Contains(number, ".") {
		number = strings.TrimRight(strings.TrimRight(number, "0"), ".")
	}
	return number + " " + unit
}

func count(v float64) string { return humanize.Count(int64(v)) }

// judged gives the page the verdict of a run.
func (p *Page) judged(r *measure.Result, without ...*measure.Result) {
	p.Word, p.Said = render.Verdict(r, without...)
	p.Said = sentence(strings.TrimPrefix(strings.TrimPrefix(p.Said, ": "), ", "))
	p.State = map[string]string{"pass": "good", "fail": "bad", "none": "none"}[r.Verdict]
	if text := render.Uncovered(r.NotJudged); text != "" {
		p.Notes = append(p.Notes, text)
	}
}

// Step returns the interval of a report's series: about sixty in a run, of a round length.
func Step(lasts time.Duration) time.Duration { return measure.RoundStep(lasts, 60) }
