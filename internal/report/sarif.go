package report

import (
	"fmt"
	"io"
	"path/filepath"
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
		Tool        sarifTool         `json:"tool"`
		Invocations []sarifInvocation `json:"invocations,omitempty"`
		Results     []sarifResult     `json:"results"`
	}
	sarifInvocation struct {
		Successful    bool                `json:"executionSuccessful"`
		ExitCode      int                 `json:"exitCode"`
		Notifications []sarifNotification `json:"toolExecutionNotifications"`
	}
	sarifNotification struct {
		Level     string          `json:"level"`
		Message   sarifText       `json:"message"`
		Locations []sarifLocation `json:"locations,omitempty"`
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
		Full  sarifText `json:"fullDescription"`
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
		StartLine   int    `json:"startLine,omitempty"`
		StartColumn int    `json:"startColumn,omitempty"`
		ByteOffset  *int64 `json:"byteOffset,omitempty"`
	}
	sarifSuppression struct {
		Kind          string `json:"kind"`
		Justification string `json:"justification"`
	}
)

func newSARIFRun(version string) sarifRun {
	run := sarifRun{Tool: sarifTool{sarifDriver{Name: "mexalt", Version: version}}, Results: []sarifResult{}}
	for _, rule := range check.Rules() {
		run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, sarifRule{rule.ID, sarifText{rule.Title}, sarifText{rule.Description}})
	}
	return run
}

func (run sarifRun) write(to io.Writer) error {
	return JSON(to, sarifLog{"https://json.schemastore.org/sarif-2.1.0.json", "2.1.0", []sarifRun{run}})
}

// SARIF prints that nothing could be checked, as SARIF.
func (f Failure) SARIF(to io.Writer, version string) error {
	run := newSARIFRun(version)
	one := sarifInvocation{ExitCode: f.Status, Notifications: []sarifNotification{}}
	for _, p := range f.Problems {
		n := sarifNotification{Level: p.Severity, Message: sarifText{p.text()}}
		if p.File != "" {
			l := sarifLocation{sarifPhysical{Artifact: sarifArtifact{uriOf(filepath.ToSlash(p.File))}}}
			if p.Line > 0 {
				l.Physical.Region = &sarifRegion{StartLine: p.Line, StartColumn: p.Column}
			}
			n.Locations = []sarifLocation{l}
		}
		one.Notifications = append(one.Notifications, n)
	}
	run.Invocations = []sarifInvocation{one}
	return run.write(to)
}

// SARIF prints the report as SARIF.
func (c *Checked) SARIF(to io.Writer, version string) error {
	r := c.Best
	run := newSARIFRun(version)
	index := map[string]int{}
	for i, rule := range check.Rules() {
		index[rule.ID] = i
	}
	for i := range r.Findings {
		f := &r.Findings[i]
		result := sarifResult{
			RuleID:    f.Rule,
			RuleIndex: index[f.Rule],
			Level:     f.Severity.String(),
			Message:   sarifText{c.whole(f)},
			Locations: locations(r, f),
		}
		if f.Accepted {
			result.Suppressions = []sarifSuppression{{"external", "accepted by name"}}
		}
		run.Results = append(run.Results, result)
	}
	return run.write(to)
}

// whole says everything of a finding in one line.
func (c *Checked) whole(f *check.Finding) string {
	where := ""
	if f.Where != nil {
		where = fmt.Sprintf(" at %s", f.Where)
	}
	return fmt.Sprintf("%s%s on %s: %s", f.Rule, where, c.Best.Map.Name, c.text(f))
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

// locations returns the files, and line or offset there, that a finding
// concerns: of one about the image as a whole, all parts.
func locations(r *check.Result, f *check.Finding) []sarifLocation {
	file := func(name string) sarifLocation {
		return sarifLocation{sarifPhysical{Artifact: sarifArtifact{uriOf(filepath.ToSlash(name))}}}
	}
	p := f.Place
	switch {
	case p.File != "":
		l := file(p.File)
		switch {
		case p.Line > 0:
			l.Physical.Region = &sarifRegion{StartLine: p.Line, StartColumn: p.Column}
		case p.Raw:
			l.Physical.Region = &sarifRegion{ByteOffset: &p.Offset}
		}
		return []sarifLocation{l}
	case f.Input != "":
		return []sarifLocation{file(f.Input)}
	}
	var all []sarifLocation
	for _, part := range r.Parts {
		all = append(all, file(part.Name))
	}
	return all
}
