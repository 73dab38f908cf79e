package report

import (
	"encoding/xml"
	"io"
	"strings"

	"mexalt/check"
	"mexalt/source"
)

// JUnit XML: each rule is a test case, which fails with what it found.
type (
	junitSuites struct {
		XMLName  xml.Name     `xml:"testsuites"`
		Name     string       `xml:"name,attr"`
		Tests    int          `xml:"tests,attr"`
		Failures int          `xml:"failures,attr"`
		Errors   int          `xml:"errors,attr"`
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
		Skipped *junitSkipped `xml:"skipped,omitempty"`
		Failure *junitFailure `xml:"failure,omitempty"`
		Error   *junitFailure `xml:"error,omitempty"`
		Output  string        `xml:"system-out,omitempty"`
	}
	junitSkipped struct {
		Message string `xml:"message,attr"`
	}
	junitFailure struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",chardata"`
	}
)

// JUnit prints the report as JUnit XML.
func (c *Checked) JUnit(to io.Writer) error {
	r := c.Best
	suite := junitSuite{Name: r.Map.Name}
	skipped := map[string]string{}
	for _, s := range r.Skipped {
		skipped[s.Rule] = s.Why
	}
	for _, rule := range check.Rules() {
		one := junitCase{Name: rule.ID, Class: "mexalt.check"}
		if why := skipped[rule.ID]; why != "" {
			one.Skipped = &junitSkipped{why}
			suite.Skipped++
		}
		var counting, others []string
		kind := ""
		for i := range r.Findings {
			f := &r.Findings[i]
			if f.Rule != rule.ID {
				continue
			}
			text := at(r, f) + ": " + c.whole(f)
			if f.Accepted || f.Severity == source.Note {
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
			one.Failure = &junitFailure{Message: counting[0], Type: kind, Text: strings.Join(counting, "\n")}
		}
		one.Output = strings.Join(others, "\n")
		suite.Cases = append(suite.Cases, one)
	}
	return suite.write(to)
}

// JUnit prints that nothing could be checked, as JUnit XML.
func (f Failure) JUnit(to io.Writer) error {
	var lines []string
	for _, p := range f.Problems {
		lines = append(lines, p.text())
	}
	one := junitCase{
		Name:  "check",
		Class: "mexalt.check",
		Error: &junitFailure{Message: lines[0], Type: "error", Text: strings.Join(lines, "\n")},
	}
	return junitSuite{Name: "mexalt check", Errors: 1, Cases: []junitCase{one}}.write(to)
}

func (suite junitSuite) write(to io.Writer) error {
	suite.Tests = len(suite.Cases)
	if _, err := io.WriteString(to, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(to)
	e.Indent("", "  ")
	if err := e.Encode(junitSuites{Name: "mexalt check", Tests: suite.Tests, Failures: suite.Failures, Errors: suite.Errors,
		Suites: []junitSuite{suite}}); err != nil {
		return err
	}
	_, err := io.WriteString(to, "\n")
	return err
}
