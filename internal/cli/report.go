package cli

import (
	"encoding/xml"
	"fmt"
	"io"
	"path/filepath"
	"strconv"
	"strings"

	"mexalt/check"
)

// SARIF 2.1.0 (OASIS), as far as findings need it.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool    sarifTool     `json:"tool"`
		Results []sarifResult `json:"results"`
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
		ID    string    `json:"id"`
		Short sarifText `json:"shortDescription"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		RuleID       string             `json:"ruleId"`
		RuleIndex    int                `json:"ruleIndex"`
		Level        string             `json:"level"`
		Message      sarifText          `json:"message"`
		Locations    []sarifLocation    `json:"locations,omitempty"`
		Suppressions []sarifSuppression `json:"suppressions,omitempty"`
	}
	sarifLocation struct {
		Physical sarifPhysical `json:"physicalLocation"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   *sarifRegion  `json:"region,omitempty"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		StartLine  int  `json:"startLine,omitempty"`
		ByteOffset *int `json:"byteOffset,omitempty"`
	}
	sarifSuppression struct {
		Kind          string `json:"kind"`
		Justification string `json:"justification"`
	}
)

func printSARIF(to io.Writer, r *check.Result) error {
	run := sarifRun{Tool: sarifTool{sarifDriver{Name: "mexalt", Version: version}}, Results: []sarifResult{}}
	index := map[string]int{}
	for i, rule := range check.Rules {
		index[rule.Name] = i
		run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, sarifRule{rule.Name, sarifText{rule.Finds}})
	}
	for _, f := range r.Findings {
		result := sarifResult{RuleID: f.Rule, RuleIndex: index[f.Rule], Level: f.Severity.String(), Message: sarifText{findingText(r, f)}}
		if l, ok := locationOf(f); ok {
			result.Locations = []sarifLocation{l}
		}
		if f.Accepted {
			result.Suppressions = []sarifSuppression{{"external", "accepted by name"}}
		}
		run.Results = append(run.Results, result)
	}
	return printJSON(to, sarifLog{"https://json.schemastore.org/sarif-2.1.0.json", "2.1.0", []sarifRun{run}})
}

func findingText(r *check.Result, f check.Finding) string {
	return fmt.Sprintf("%s at %s on %s: %s; %s (%s)", f.Rule, f.Where, r.Map.Name, f.What, f.Expected, f.Advice)
}

// uriOf writes a path as a URI reference (RFC 3986): bytes that may not stand
// in one are given by their values.
func uriOf(path string) string {
	var b strings.Builder
	for i := range len(path) {
		switch c := path[i]; {
		case c|0x20 >= 'a' && c|0x20 <= 'z', c >= '0' && c <= '9', strings.IndexByte("-._~/", c) >= 0:
			b.WriteByte(c)
		default:
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	return b.String()
}

// locationOf returns the file, and line or offset, that a finding came from.
func locationOf(f check.Finding) (sarifLocation, bool) {
	if f.Input == "" {
		return sarifLocation{}, false
	}
	uri := uriOf(filepath.ToSlash(f.Input))
	l := sarifLocation{sarifPhysical{Artifact: sarifArtifact{uri}}}
	if place, ok := strings.CutPrefix(f.Origin, f.Input); ok {
		if line, err := strconv.Atoi(strings.TrimPrefix(place, ":")); err == nil && line > 0 && strings.HasPrefix(place, ":") {
			l.Physical.Region = &sarifRegion{StartLine: line}
		} else if offset, err := strconv.ParseInt(strings.TrimPrefix(place, "+"), 0, 64); err == nil && strings.HasPrefix(place, "+") {
			n := int(offset)
			l.Physical.Region = &sarifRegion{ByteOffset: &n}
		}
	}
	return l, true
}

// JUnit XML: each rule is a test case, which fails with what it found.
type (
	junitSuites struct {
		XMLName  xml.Name     `xml:"testsuites"`
		Name     string       `xml:"name,attr"`
		Tests    int          `xml:"tests,attr"`
		Failures int          `xml:"failures,attr"`
		Suites   []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Errors   int         `xml:"errors,attr"`
		Skipped  int         `xml:"skipped,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Name    string        `xml:"name,attr"`
		Class   string        `xml:"classname,attr"`
		Failure *junitFailure `xml:"failure,omitempty"`
		Output  string        `xml:"system-out,omitempty"`
	}
	junitFailure struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",chardata"`
	}
)

func printJUnit(to io.Writer, r *check.Result) error {
	suite := junitSuite{Name: r.Map.Name}
	for _, rule := range check.Rules {
		c := junitCase{Name: rule.Name, Class: "mexalt.check"}
		var counting, others []string
		kind := ""
		for _, f := range r.Findings {
			if f.Rule != rule.Name {
				continue
			}
			at := f.Origin
			if at == "" {
				at = f.Input
			}
			text := fmt.Sprintf("%s: %s", at, findingText(r, f))
			if f.Accepted || f.Severity == check.Note {
				prefix := f.Severity.String()
				if f.Accepted {
					prefix = "accepted " + prefix
				}
				others = append(others, prefix+": "+text)
				continue
			}
			if kind == "" {
				kind = f.Severity.String()
			}
			counting = append(counting, text)
		}
		if len(counting) > 0 {
			suite.Failures++
			c.Failure = &junitFailure{Message: counting[0], Type: kind, Text: strings.Join(counting, "\n")}
		}
		c.Output = strings.Join(others, "\n")
		suite.Cases = append(suite.Cases, c)
	}
	suite.Tests = len(suite.Cases)
	if _, err := io.WriteString(to, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(to)
	e.Indent("", "  ")
	if err := e.Encode(junitSuites{Name: "mexalt check", Tests: suite.Tests, Failures: suite.Failures, Suites: []junitSuite{suite}}); err != nil {
		return err
	}
	_, err := io.WriteString(to, "\n")
	return err
}
