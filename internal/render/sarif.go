package render

import (
	"net/url"
	"path/filepath"
	"strings"

	"imbrel/core/check"
)

// The parts of SARIF 2.1.0 (OASIS) that findings come to.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool       sarifTool     `json:"tool"`
		ColumnKind string        `json:"columnKind"`
		Results    []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"version"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID            string       `json:"id"`
		Full          sarifMessage `json:"fullDescription"`
		Configuration sarifLevel   `json:"defaultConfiguration"`
	}
	sarifLevel struct {
		Level string `json:"level"`
	}
	sarifMessage struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		Rule      string          `json:"ruleId"`
		Index     int             `json:"ruleIndex"`
		Level     string          `json:"level"`
		Message   sarifMessage    `json:"message"`
		Locations []sarifLocation `json:"locations"`
	}
	sarifLocation struct {
		Physical sarifPhysical `json:"physicalLocation"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   sarifRegion   `json:"region"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		Line   int `json:"startLine"`
		Column int `json:"startColumn"`
	}
)

// SARIF returns the findings as a log of SARIF 2.1.0.
func SARIF(all []check.Finding, version string) any {
	run := sarifRun{ColumnKind: "unicodeCodePoints", Results: []sarifResult{}}
	run.Tool.Driver = sarifDriver{Name: "imbrel", Version: version, Rules: []sarifRule{}}
	number := make(map[string]int)
	for i, r := range check.Rules() {
		number[r.Name] = i
		run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, sarifRule{r.Name, sarifMessage{strings.Join(strings.Fields(r.About), " ")}, sarifLevel{string(r.Level)}})
	}
	for i := range all {
		f := &all[i]
		run.Results = append(run.Results, sarifResult{f.Name, number[f.Name], string(f.Level), sarifMessage{f.Text() + ": " + f.Fact.Consequence() + ". " + f.Fact.Fix() + "."},
			[]sarifLocation{{sarifPhysical{sarifArtifact{uri(f.At.File)}, sarifRegion{max(f.At.Line, 1), max(f.At.Column, 1)}}}}})
	}
	return sarifLog{"https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json", "2.1.0", []sarifRun{run}}
}

// uri returns a file's name as a relative or a file URI (RFC 3986, RFC 8089).
func uri(name string) string {
	u := url.URL{Path: filepath.ToSlash(name)}
	if filepath.IsAbs(name) {
		u.Scheme = "file"
	}
	return u.String()
}
