package render

import (
	"crypto/sha256"
	"fmt"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"imbrel.example/imbrel/core/check"
	"imbrel.example/imbrel/core/measure"
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
		Name            string      `json:"name"`
		Version         string      `json:"version"`
		SemanticVersion string      `json:"semanticVersion"`
		InformationURI  string      `json:"informationUri"`
		Rules           []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID            string       `json:"id"`
		Full          sarifMessage `json:"fullDescription"`
		HelpURI       string       `json:"helpUri"`
		Configuration sarifLevel   `json:"defaultConfiguration"`
	}
	sarifLevel struct {
		Level string `json:"level"`
	}
	sarifMessage struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		Rule         string            `json:"ruleId"`
		Index        int               `json:"ruleIndex"`
		Level        string            `json:"level"`
		Message      sarifMessage      `json:"message"`
		Locations    []sarifLocation   `json:"locations"`
		Fingerprints map[string]string `json:"partialFingerprints"`
		Fixes        []sarifFix        `json:"fixes,omitempty"`
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
		Line      int `json:"startLine"`
		Column    int `json:"startColumn"`
		EndColumn int `json:"endColumn"`
	}
	sarifFix struct {
		Description sarifMessage  `json:"description"`
		Changes     []sarifChange `json:"artifactChanges"`
	}
	sarifChange struct {
		Artifact     sarifArtifact      `json:"artifactLocation"`
		Replacements []sarifReplacement `json:"replacements"`
	}
	sarifReplacement struct {
		Deleted  sarifRegion  `json:"deletedRegion"`
		Inserted sarifMessage `json:"insertedContent"`
	}
)

// informationURI is where the findings are described. The project has no public address yet.
const informationURI = "https://imbrel.example/findings"

// semanticVersion is the version in numbers: a build that has no release of its own is 0.0.0 with its revision.
func semanticVersion(version string) string {
	if v := strings.TrimPrefix(version, "v"); v != "" && v[0] >= '0' && v[0] <= '9' && strings.Count(v, ".") >= 2 {
		return v
	}
	word := strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' || r >= 'a' && r <= 'z' {
			return r
		}
		return -1
	}, version)
	return "0.0.0-dev." + word
}

// fingerprint tells a finding from others wherever in the file it is.
func fingerprint(f *check.Finding, seen map[string]int) string {
	sum := sha256.Sum256([]byte(f.Name + "\x00" + f.At.File + "\x00" + f.Fact.Fingerprint()))
	key := fmt.Sprintf("%x", sum[:8])
	seen[key]++
	return fmt.Sprintf("%s:%d", key, seen[key])
}

// region returns a region on one line; without an end it is one character.
func region(line, column, end int) sarifRegion {
	line, column = max(line, 1), max(column, 1)
	return sarifRegion{line, column, max(end, column+1)}
}

// newRun starts a run of the program.
func newRun(version string) sarifRun {
	run := sarifRun{ColumnKind: "unicodeCodePoints", Results: []sarifResult{}}
	run.Tool.Driver = sarifDriver{Name: "imbrel", Version: version, SemanticVersion: semanticVersion(version), InformationURI: informationURI, Rules: []sarifRule{}}
	return run
}

// log is a log of one run.
func (r sarifRun) log() sarifLog {
	return sarifLog{"https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json", "2.1.0", []sarifRun{r}}
}

// rule returns the index of a rule, which is added where it is not there.
func (r *sarifRun) rule(name, about, level string) int {
	d := &r.Tool.Driver
	if n := slices.IndexFunc(d.Rules, func(k sarifRule) bool { return k.ID == name }); n >= 0 {
		return n
	}
	d.Rules = append(d.Rules, sarifRule{name, sarifMessage{about}, informationURI + "#" + name, sarifLevel{level}})
	return len(d.Rules) - 1
}

// SARIFOfRuns returns the expectations that failed, and the warnings, each at its line, as a log of SARIF 2.1.0.
func SARIFOfRuns(results []*measure.Result, version string) any {
	run := newRun(version)
	seen := make(map[string]int)
	add := func(rule, about, level, file string, line int, text, key string) {
		key = fmt.Sprintf("%x", sha256.Sum256([]byte(rule+"\x00"+file+"\x00"+key)))[:16]
		seen[key]++
		run.Results = append(run.Results, sarifResult{Rule: rule, Index: run.rule(rule, about, level), Level: level, Message: sarifMessage{Visible(text)},
			Locations:    []sarifLocation{{sarifPhysical{sarifArtifact{uri(file)}, region(line, 1, 0)}}},
			Fingerprints: map[string]string{"imbrelRun/v1": fmt.Sprintf("%s:%d", key, seen[key])}})
	}
	for _, r := range results {
		for n := range r.Expectations {
			o := &r.Expectations[n]
			e := o.Expectation()
			if o.Holds || e == nil {
				continue
			}
			text := fmt.Sprintf("rehearsal `%s`: %s: measured %s", r.Rehearsal, o.Title(), Measured(o))
			if o.Why != nil {
				text += ". " + o.Why.Text.String()
				if change := ChangeText(o.Why); change != "" {
					text += "; " + change
				}
			}
			add("expectation", "An expectation of a rehearsal fails.", "error", e.At.File, e.At.Line, text, r.Rehearsal+"\x00"+o.Text)
		}
		for _, w := range r.Warnings {
			add(w.Name, "What the verdict of a rehearsal does not cover.", w.Level, w.File, w.Line, fmt.Sprintf("rehearsal `%s`: %s", r.Rehearsal, w.Text), r.Rehearsal+"\x00"+w.Text.Fingerprint())
		}
	}
	return run.log()
}

// SARIF returns the findings as a log of SARIF 2.1.0.
func SARIF(all []check.Finding, version string) any {
	run := newRun(version)
	number := make(map[string]int)
	for i, r := range append(check.Rules(), check.UnreadableRule()) {
		number[r.Name] = i
		run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, sarifRule{r.Name, sarifMessage{strings.Join(strings.Fields(r.About), " ")}, informationURI + "#" + r.Name, sarifLevel{string(r.Level)}})
	}
	seen := make(map[string]int)
	for i := range all {
		f := &all[i]
		r := sarifResult{Rule: f.Name, Index: number[f.Name], Level: string(f.Level), Message: sarifMessage{f.Text() + ": " + f.Fact.Consequence() + ". " + f.Fact.Fix() + "."},
			Locations:    []sarifLocation{{sarifPhysical{sarifArtifact{uri(f.At.File)}, region(f.At.Line, f.At.Column, f.End)}}},
			Fingerprints: map[string]string{"imbrelFinding/v1": fingerprint(f, seen)}}
		if e := f.Edit; e != nil && e.End > 0 {
			r.Fixes = []sarifFix{{sarifMessage{f.Fact.Fix()}, []sarifChange{{sarifArtifact{uri(e.File)}, []sarifReplacement{{region(e.Line, e.Column, e.End), sarifMessage{e.New}}}}}}}
		}
		run.Results = append(run.Results, r)
	}
	return run.log()
}

// uri returns a file's name as a relative or a file URI (RFC 3986, RFC 8089).
func uri(name string) string {
	u := url.URL{Path: filepath.ToSlash(name)}
	if filepath.IsAbs(name) {
		u.Scheme = "file"
	}
	return u.String()
}
