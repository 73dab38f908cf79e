package report

import (
	"fmt"
	"regexp"
	"slices"
	"sync"

	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/release/proof"
)

// Confirmed is what came of confirming a manifest.
type Confirmed struct {
	*proof.Confirmation
	Quiet bool // the verdict alone
}

// digest is a SHA-256 in a text.
var digest = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\b([0-9a-f]{12})[0-9a-f]{52}\b`) })

// Text prints the answers and the verdict: each no, and the yeses of a kind together, where
// they are several. Digests are shown by their first digits; the manifest has them whole.
func (c Confirmed) Text(p *render.Printer) {
	summed, yeses := map[string]bool{}, c.yeses()
	no := 0
	for _, a := range c.Answers {
		plain := a.Yes && !a.Open
		if !a.Yes && !a.Open {
			no++
		}
		n := yeses[a.What]
		if c.Quiet || plain && n > 1 && summed[a.What] {
			continue
		}
		word, text := p.Good("yes"), a.Name+": "+digest().ReplaceAllString(a.Text, "$1")
		switch {
		case a.Open:
			word = "-  "
		case !a.Yes:
			word = p.Bad("no ")
		case n > 1:
			summed[a.What] = true
			switch a.What {
			case "output", "input":
				text = memory.FormatNumber(n, "file") + " unchanged"
			case proof.Rebuild:
				text = memory.FormatNumber(n, "file") + " the same, byte for byte"
			case "signature":
				text = memory.FormatNumber(n, "envelope") + ": " + a.Text
			default:
				text = memory.FormatNumber(n, "manifest") + ": " + digest().ReplaceAllString(a.Text, "$1")
			}
		}
		p.Hanging(render.Styled(fmt.Sprintf("%s  %-10s ", word, a.What)), "%s", text)
	}
	done := ", not rebuilt"
	if slices.ContainsFunc(c.Answers, func(a proof.Answer) bool { return a.What == proof.Rebuild && a.Yes && !a.Open }) {
		done = ""
	}
	verdict := p.Good(fmt.Sprintf("confirmed, %s%s", memory.FormatNumber(c.Outputs(), "output"), done))
	if no > 0 {
		verdict = p.Bad(fmt.Sprintf("not confirmed: %d of %d answers are no", no, len(c.Answers)))
	}
	p.Line("%s: %s", verdict, c.Manifest.Name)
}

// yeses counts the answers that are plain yeses, by what they are about.
func (c Confirmed) yeses() map[string]int {
	counts := map[string]int{}
	for _, a := range c.Answers {
		if a.Yes && !a.Open {
			counts[a.What]++
		}
	}
	return counts
}

// SchemaName returns the name of the schema of a command's report, with its number, which
// changes with the meaning of anything in it.
func SchemaName(command string) string {
	number := map[string]int{"confirm": 2, "device": 2, "devices": 2, "compare": 2}[command]
	return fmt.Sprintf("mexalt.%s/%d", command, max(number, 1))
}

// Confirmation is the result of confirming a manifest.
type Confirmation struct {
	Schema    string   `json:"schema"`
	Name      string   `json:"name"`
	Confirmed bool     `json:"confirmed"`
	Outputs   int      `json:"outputs"` // the number of outputs that were compared
	Answers   []Answer `json:"answers"`
}

// Answer is the answer about one file.
type Answer struct {
	Yes  bool   `json:"yes"`
	Open bool   `json:"open,omitempty"` // neither yes nor no, because it cannot be known here
	What string `json:"what"`           // output, input, rebuild
	File string `json:"file"`
	Text string `json:"text"`
}

// Model makes the model for programs.
func (c Confirmed) Model() any {
	out := Confirmation{
		Schema:    SchemaName("confirm"),
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
