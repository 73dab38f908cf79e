package report

import (
	"fmt"

	"mexalt/internal/render"
	"mexalt/release"
)

// Confirmed is what came of confirming a manifest.
type Confirmed struct{ *release.Confirmation }

// Text prints the answers and the verdict.
func (c Confirmed) Text(p *render.Printer) {
	no := 0
	for _, a := range c.Answers {
		word := p.Good("yes")
		if !a.Yes {
			no++
			word = p.Bad("no ")
		}
		p.Hanging(render.Styled(fmt.Sprintf("%s  %-10s ", word, a.What)), "%s: %s", a.Name, a.Text)
	}
	verdict := p.Good("confirmed")
	if no > 0 {
		verdict = p.Bad(fmt.Sprintf("not confirmed, %d of %d are otherwise", no, len(c.Answers)))
	}
	p.Line("%s: %s", verdict, c.Manifest.Name)
}

// Confirmation is what came of confirming a manifest.
type Confirmation struct {
	Schema    string   `json:"schema"`
	Name      string   `json:"name"`
	Confirmed bool     `json:"confirmed"`
	Answers   []Answer `json:"answers"`
}

// Answer is what a [Confirmation] says of one thing.
type Answer struct {
	Yes  bool   `json:"yes"`
	What string `json:"what"` // output, input, made again
	File string `json:"file"`
	Text string `json:"text"`
}

// Model makes the model for programs.
func (c Confirmed) Model() any {
	out := Confirmation{Schema: "mexalt.confirm/1", Name: c.Manifest.Name, Confirmed: c.Confirmation.Confirmed(), Answers: []Answer{}}
	for _, a := range c.Answers {
		out.Answers = append(out.Answers, Answer{a.Yes, a.What, a.Name, a.Text})
	}
	return out
}
