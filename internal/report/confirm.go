package report

import (
	"fmt"

	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/release/proof"
)

// Confirmed is what came of confirming a manifest.
type Confirmed struct{ *proof.Confirmation }

// Text prints the answers and the verdict.
func (c Confirmed) Text(p *render.Printer) {
	no := 0
	for _, a := range c.Answers {
		word := p.Good("yes")
		switch {
		case a.Open:
			word = "-  "
		case !a.Yes:
			no++
			word = p.Bad("no ")
		}
		p.Hanging(render.Styled(fmt.Sprintf("%s  %-10s ", word, a.What)), "%s: %s", a.Name, a.Text)
	}
	verdict := p.Good(fmt.Sprintf("confirmed, %s", memory.FormatNumber(c.Outputs(), "output")))
	if no > 0 {
		verdict = p.Bad(fmt.Sprintf("not confirmed: %d of %d answers are no", no, len(c.Answers)))
	}
	p.Line("%s: %s", verdict, c.Manifest.Name)
}

// Confirmation is what came of confirming a manifest.
type Confirmation struct {
	Schema    string   `json:"schema"`
	Name      string   `json:"name"`
	Confirmed bool     `json:"confirmed"`
	Outputs   int      `json:"outputs"` // that were looked at
	Answers   []Answer `json:"answers"`
}

// Answer is what a [Confirmation] says of one thing.
type Answer struct {
	Yes  bool   `json:"yes"`
	Open bool   `json:"open,omitempty"` // it cannot be known here; neither yes nor no
	What string `json:"what"`           // output, input, made again
	File string `json:"file"`
	Text string `json:"text"`
}

// Model makes the model for programs.
func (c Confirmed) Model() any {
	out := Confirmation{
		Schema:    "mexalt.confirm/1",
		Name:      c.Manifest.Name,
		Confirmed: c.Confirmation.Confirmed(),
		Outputs:   c.Outputs(),
		Answers:   []Answer{},
	}
	for _, a := range c.Answers {
		out.Answers = append(out.Answers, Answer{a.Yes, a.Open, a.What, a.Name, a.Text})
	}
	return out
}
