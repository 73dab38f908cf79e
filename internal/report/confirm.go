package report

import (
	"cmp"
	"fmt"

	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/release/proof"
)

// Confirmed is what came of confirming a manifest.
type Confirmed struct {
	*proof.Confirmation
	Quiet bool // the verdict alone
}

// Text prints the answers and the verdict.
func (c Confirmed) Text(p *render.Printer) {
	no := 0
	said := map[string]bool{}
	words := map[string]string{"made again": "rebuild"}
	for _, a := range c.Answers {
		asked := a.What
		a.What = cmp.Or(words[a.What], a.What)
		if c.Quiet {
			no += map[bool]int{false: 1}[a.Yes || a.Open]
			continue
		}
		if n, all := c.allYes(asked); all && n > 1 {
			if !said[a.What] {
				p.Hanging(render.Styled(fmt.Sprintf("%s  %-10s ", p.Good("yes"), a.What)), "%s %s", memory.FormatNumber(n, "file"), map[bool]string{true: "the same, byte for byte", false: "unchanged"}[a.What == "rebuild"])
			}
			said[a.What] = true
			continue
		}
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

// allYes counts the answers about something, and reports whether all are yes.
func (c Confirmed) allYes(what string) (n int, all bool) {
	all = true
	for _, a := range c.Answers {
		if a.What == what {
			n, all = n+1, all && a.Yes && !a.Open
		}
	}
	return n, all
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
