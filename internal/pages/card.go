package pages

import (
	"fmt"
	"io"
	"strings"

	"mexalt/internal/pages/page"
	"mexalt/internal/render"
	"mexalt/internal/report"
	"mexalt/memory"
	"mexalt/rehearsal"
)

// Card is what somebody at a bench needs on one page: what to connect, what to see at
// each step, and what it means where something else is seen.
type Card struct {
	*report.Rehearsed
	Contents *memory.Image // that is programmed
	Symptoms []rehearsal.Symptom
}

// connect are what is connected, and what it should be.
func (c *Card) connect() []page.Fact {
	m := c.Map
	facts := []page.Fact{
		{Name: "part", Text: fmt.Sprintf("%s (%s)", m.Name, m.File)},
		{Name: "image", Text: c.Image},
		{Name: "plan", Text: report.PlanName(c.Run.Plan) + ", carried out by the " + string(c.Run.Plan.By)},
	}
	for i, d := range m.Identities {
		name := "says that it is"
		if i > 0 {
			name = "or"
		}
		facts = append(facts, page.Fact{Name: name, Text: d.String()})
	}
	if l := m.Link; l.Baud > 0 {
		facts = append(facts, page.Fact{Name: "link", Text: memory.FormatCount(l.Baud) + " bits a second"})
	}
	_, typical, most := c.Run.Total()
	facts = append(facts, page.Fact{Name: "takes", Text: fmt.Sprintf("%s, at most %s", report.Duration(typical), report.Duration(most))})
	for i := range m.Checksums {
		d := &m.Checksums[i]
		if spec, err := d.Spec(c.Run.Map, c.Contents); err == nil && c.Contents.Count(*spec.Place) > 0 {
			if value, _, err := spec.Compute(c.Contents, 1); err == nil {
				facts = append(facts, page.Fact{Name: d.Name, Text: fmt.Sprintf("%s at %s", value, spec.Place.Range())})
			}
		}
	}
	return append(facts, page.Fact{Name: "contents", Text: fmt.Sprintf("SHA-256 %x", c.Contents.Digest()), Digest: true})
}

// steps are what to see at each act.
func (c *Card) steps() (rows [][]string) {
	for i := range c.Run.Acts {
		a := &c.Run.Acts[i]
		if a.Steps == 0 {
			continue
		}
		typical, most := report.Duration(a.Typical), report.Duration(a.Most)
		if a.Most == 0 {
			typical, most = "", ""
		}
		rows = append(rows, []string{string(a.Do), c.Objects(a), typical, most, a.Said})
	}
	return rows
}

// symptoms are what is seen of each fault.
func (c *Card) symptoms() (rows [][]string) {
	for i := range c.Symptoms {
		s := &c.Symptoms[i]
		seen := s.What
		if s.Known && s.Starts.Outcome != c.Run.Expected {
			seen += "; the device " + s.Starts.Outcome.Text()
		}
		likely := s.Likely
		if len(s.Causes) > 0 {
			likely += " (" + strings.Join(s.Causes, "; ") + ")"
		}
		rows = append(rows, []string{string(s.Act), seen, likely, s.Fault})
	}
	return rows
}

var (
	stepsHead    = []string{"act", "for", "takes", "at most", "to be seen"}
	symptomsHead = []string{"in", "what is seen", "likely", "to try it: -fault"}
)

// Text prints the card.
func (c *Card) Text(p *render.Printer) {
	p.Line("%s", p.Title("Programming "+c.Image))
	p.Printf("\n")
	var facts [][]string
	for _, f := range c.connect() {
		facts = append(facts, []string{f.Name, f.Text})
	}
	p.Table([]string{"to connect", ""}, facts)
	p.Printf("\n")
	p.Table(stepsHead, c.steps(), 3, 4)
	p.Printf("\n")
	p.Line("Where something else is seen: each fault, tried on this image at a place where it shows.")
	for _, r := range c.symptoms() {
		p.Printf("\n")
		if r[0] != "" {
			r[0] += ": "
		}
		p.Line("%s%s", p.Title(r[0]), r[1])
		p.Line("    likely: %s", r[2])
		p.Line("    to try it: -fault '%s'", r[3])
	}
}

// Write writes the card as a page to be printed.
func (c *Card) Write(to io.Writer) error {
	p := &page.Page{Heading: "Programming " + c.Image, Sub: "a card for the bench", Verdict: "rehearsed", Sheet: true, Facts: c.connect()}
	if c.Run.Failed != nil || c.Run.After.Outcome.Bad() {
		p.Verdict, p.Bad = "does not go well even in a rehearsal: "+c.Run.After.Outcome.Text(), true
		if c.Run.Failed != nil {
			p.Verdict = "fails in a rehearsal: " + c.Run.Failed.What
		}
	}
	p.Title = p.Heading + ": " + c.Map.Name
	table := func(head []string, rows [][]string, numbers ...int) *page.Table {
		t := &page.Table{}
		for i, h := range head {
			column := page.Column{Text: h}
			for _, n := range numbers {
				column.Numbers = column.Numbers || n == i
			}
			t.Header = append(t.Header, column)
		}
		for _, r := range rows {
			var cells []page.Cell
			for _, text := range r {
				cells = append(cells, page.Cell{Text: text})
			}
			t.Rows = append(t.Rows, cells)
		}
		return t
	}
	p.Sections = []page.Section{
		{ID: "steps", Title: "What to see", Table: table(stepsHead, c.steps(), 2, 3)},
		{
			ID:    "symptoms",
			Title: "Where something else is seen",
			Intro: []string{"Each fault was tried on this image, at a place where it shows: addresses are those of that place."},
			Table: table(symptomsHead, c.symptoms()),
		},
	}
	return p.Write(to)
}
