package render

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"

	"imbrel.example/imbrel/core/check"
	"imbrel.example/imbrel/core/measure"
	"imbrel.example/imbrel/core/proof"
)

// The parts of the XML in which test reports are exchanged.
type (
	suites struct {
		XMLName xml.Name `xml:"testsuites"`
		Name    string   `xml:"name,attr"`
		Tests   int      `xml:"tests,attr"`
		Failed  int      `xml:"failures,attr"`
		Suites  []suite  `xml:"testsuite"`
	}
	suite struct {
		Name       string      `xml:"name,attr"`
		Tests      int         `xml:"tests,attr"`
		Failed     int         `xml:"failures,attr"`
		Errors     int         `xml:"errors,attr"`
		Skipped    int         `xml:"skipped,attr"`
		Seconds    float64     `xml:"time,attr"`
		Properties *properties `xml:"properties"`
		Cases      []testCase  `xml:"testcase"`
		Out        string      `xml:"system-out,omitempty"`
	}
	properties struct {
		All []property `xml:"property"`
	}
	property struct {
		Name  string `xml:"name,attr"`
		Value string `xml:"value,attr"`
	}
	testCase struct {
		Suite   string   `xml:"classname,attr"`
		Name    string   `xml:"name,attr"`
		File    string   `xml:"file,attr,omitempty"`
		Line    int      `xml:"line,attr,omitempty"`
		Failure *failure `xml:"failure"`
	}
	failure struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",chardata"`
	}
)

// add adds a case, and counts it.
func (s *suite) add(c testCase) {
	c.Suite = s.Name
	s.Cases = append(s.Cases, c)
	if s.Tests++; c.Failure != nil {
		s.Failed++
	}
}

// write writes suites of tests as XML.
func writeSuites(w io.Writer, all []suite) error {
	out := suites{Name: "imbrel", Suites: all}
	for i := range all {
		out.Tests, out.Failed = out.Tests+all[i].Tests, out.Failed+all[i].Failed
	}
	text, err := xml.MarshalIndent(out, "", " ")
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(w, "%s%s\n", xml.Header, text)
	return err
}

// JUnit writes rehearsals as reports of tests: a case for each expectation of each run.
func JUnit(w io.Writer, results []*measure.Result) error {
	var all []suite
	for _, r := range results {
		s := suite{Name: Visible(r.Rehearsal) + " " + withWords[r.Policy], Seconds: r.DurationS,
			Properties: &properties{[]property{{"seed", fmt.Sprint(r.Seed)}, {"file_hash", r.FileHash}, {"version", r.Version}}}}
		for i := range r.Expectations {
			o := &r.Expectations[i]
			c := testCase{Name: Visible(o.Text)}
			if e := o.Expectation(); e != nil {
				c.File, c.Line = e.At.File, e.At.Line
			}
			if !o.Holds {
				c.Failure = &failure{Message: Visible(Phased(o)), Type: "expectation"}
				if why := o.Why; why != nil {
					c.Failure.Type, c.Failure.Text = why.Reason, Visible(why.Text.String())
					c.Failure.Message += ": " + c.Failure.Text
					if change := ChangeText(why); change != "" {
						c.Failure.Text += "\n" + Visible(change)
					}
				}
			}
			s.add(c)
		}
		var out strings.Builder
		for _, warning := range r.Warnings {
			fmt.Fprintf(&out, "%s: %s:%d: %s\n", warning.Level, warning.File, warning.Line, Visible(warning.Text.String()))
		}
		s.Out = out.String()
		all = append(all, s)
	}
	return writeSuites(w, all)
}

// withWords says whether the policies were in force.
var withWords = map[bool]string{true: withPolicies, false: withoutPolicies}

// JUnitFindings writes the findings of a check as a report of tests: a case for each, and for each file in which nothing was found.
// A note does not fail.
func JUnitFindings(w io.Writer, files []string, all []check.Finding) error {
	s := suite{Name: "check"}
	for i := range all {
		f := &all[i]
		c := testCase{Name: fmt.Sprintf("%s at %s:%d", f.Name, f.At.File, f.At.Line), File: f.At.File, Line: f.At.Line}
		if f.Level != check.Note {
			c.Failure = &failure{Message: Visible(f.Text()), Type: string(f.Level), Text: Visible(f.Text()+": "+f.Fact.Consequence()+".") + "\n" + Visible(f.Fact.Fix()+".")}
		} else {
			s.Out += Visible(f.At.String()+": "+f.Text()) + "\n"
		}
		s.add(c)
	}
	for _, name := range files {
		if !found(all, name) {
			s.add(testCase{Name: "nothing found in " + name, File: name})
		}
	}
	return writeSuites(w, []suite{s})
}

func found(all []check.Finding, name string) bool {
	for i := range all {
		if all[i].At.File == name {
			return true
		}
	}
	return false
}

// JUnit writes a proof as a report of tests: a case for each expectation and each figure.
func (r *Proof) JUnit(w io.Writer) error {
	s := suite{Name: Visible(r.Rehearsal) + " with real packets", Seconds: r.Staged.Result.DurationS}
	word, said, _ := r.Said()
	if r.Verdict == NotJudged {
		s.add(testCase{Name: "the machine kept time", Failure: &failure{Message: said, Type: word}})
		return writeSuites(w, []suite{s})
	}
	figure := func(name string, f *proof.Figure, holds bool) {
		c := testCase{Name: Visible(name)}
		if f.Word != proof.Agrees || !holds {
			c.Failure = &failure{Message: fmt.Sprintf("rehearsed %s, measured %s", Moved(f.Rehearsed, f.Unit), Moved(f.Measured, f.Unit)), Type: f.Word}
		}
		s.add(c)
	}
	for i := range r.Expectations {
		figure(r.Expectations[i].Text, &r.Expectations[i].Figure, r.Expectations[i].MeasuredHolds)
	}
	for i := range r.Figures {
		f := &r.Figures[i]
		figure(strings.Join([]string{f.Name, f.Where, f.Metric}, " "), f, true)
	}
	return writeSuites(w, []suite{s})
}
