package report

import (
	"fmt"
	"strings"

	"mexalt/check"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/source"
)

// Candidates are checks of files each alone.
type Candidates struct{ All []Candidate }

// Candidate is the check of a file alone.
type Candidate struct {
	File   string
	Device string // the map, as it was named
	*check.Result
}

// counts counts findings by severity; those that were accepted as notes.
func (c *Candidate) counts() (errors, warnings, notes int) {
	for _, f := range c.Findings {
		switch {
		case f.Accepted || f.Severity == source.Note:
			notes++
		case f.Severity == source.Error:
			errors++
		default:
			warnings++
		}
	}
	return errors, warnings, notes
}

// first is the first finding that counts, in short.
func (c *Candidate) first() string {
	list := c.Counting()
	if len(list) == 0 {
		return ""
	}
	f := &list[0]
	where := ""
	if f.Where != nil {
		where = f.Where.Range() + ": "
	}
	return fmt.Sprintf("%s%s [%s]", where, f.What, f.Rule)
}

// Text prints a table, and which files fit.
func (x *Candidates) Text(p *render.Printer) {
	var rows [][]string
	var fit []string
	for i := range x.All {
		c := &x.All[i]
		errors, warnings, notes := c.counts()
		verdict := "fits"
		if errors+warnings > 0 {
			var parts []string
			for _, one := range []struct {
				n    int
				noun string
			}{{errors, "error"}, {warnings, "warning"}} {
				if one.n > 0 {
					parts = append(parts, memory.FormatNumber(one.n, one.noun))
				}
			}
			verdict = strings.Join(parts, ", ")
		} else {
			fit = append(fit, c.File)
		}
		rows = append(rows, []string{c.File, c.Device, verdict, fmt.Sprint(notes), c.first()})
	}
	p.Table([]string{"candidate", "device", "verdict", "notes", "first finding"}, rows, 4)
	p.Line("")
	switch len(fit) {
	case 0:
		p.Line("%s", p.Bad("none fits"))
	case 1:
		p.Line("%s fits", p.Good(fit[0]))
	default:
		p.Line("%d of %s fit: %s", len(fit), memory.FormatNumber(len(x.All), "candidate"), strings.Join(fit, ", "))
	}
}

// CandidatesModel is the checks of files each alone.
type CandidatesModel struct {
	Schema     string           `json:"schema"`
	Candidates []CandidateModel `json:"candidates"`
}

// CandidateModel is the check of a file alone.
type CandidateModel struct {
	File     string `json:"file"`
	Device   string `json:"device"`
	Fits     bool   `json:"fits"`
	Errors   int    `json:"errors"`
	Warnings int    `json:"warnings"`
	Notes    int    `json:"notes"`
	First    string `json:"first,omitempty"`
}

// Model makes the model for programs.
func (x *Candidates) Model() any {
	out := CandidatesModel{Schema: SchemaName("candidates"), Candidates: []CandidateModel{}}
	for i := range x.All {
		c := &x.All[i]
		errors, warnings, notes := c.counts()
		out.Candidates = append(out.Candidates, CandidateModel{c.File, c.Device, errors+warnings == 0, errors, warnings, notes, c.first()})
	}
	return out
}
