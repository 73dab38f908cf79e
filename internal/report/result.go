package report

import (
	"io"

	"mexalt/codec/format"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/operation"
	"mexalt/source"
)

// Result is what came of a command.
type Result interface {
	// Text prints it for people.
	Text(p *render.Printer)
	// Model returns it for programs: an object whose JSON has its schema first.
	Model() any
}

// Streamed is a result whose JSON may be too large to be held.
type Streamed interface {
	Result
	WriteJSON(to io.Writer) error
}

// Write prints a result as JSON.
func Write(to io.Writer, r Result) error {
	if s, ok := r.(Streamed); ok {
		return s.WriteJSON(to)
	}
	return JSON(to, r.Model())
}

// Failure is what is printed in the place of a result, where a command could
// not do its work.
type Failure struct {
	Schema   string    `json:"schema"`
	Failed   bool      `json:"failed"` // always true
	Status   int       `json:"status"` // the exit status
	Problems []Problem `json:"problems"`
}

// ProblemOf makes the model of one problem for programs.
func ProblemOf(p *source.Problem, w source.Wording) Problem {
	return Problem{p.Severity.String(), p.File, p.Line, p.Column, p.What, p.Expected, p.Advice.In(w)}
}

// Changed is what came of a command that makes images of images.
type Changed struct {
	Command  string
	Dry      bool // nothing was written
	Inputs   []Input
	Outcome  *operation.Outcome
	Notes    []string
	Warnings []*source.Problem
	Outputs  []Output
	Uses     []PartUse
	Wording  source.Wording
}

// Input is an image that was read.
type Input struct {
	Name   string
	Format *format.Format
	Image  *memory.Image
}

// Output is an image that was written, or would be.
type Output struct {
	Name     string // "" is standard output
	Format   *format.Format
	Image    *memory.Image
	Replaced bool
}

// Text prints which part uses how much of which region; the rest was told as it
// was done.
func (c *Changed) Text(p *render.Printer) { UsesText(p, c.Uses) }

// ChangedModel is the result of an operation.
type ChangedModel struct {
	Schema   string          `json:"schema"`
	DryRun   bool            `json:"dryRun"` // whether nothing was written
	Inputs   []ImageModel    `json:"inputs"`
	Changes  []string        `json:"did"`
	Notes    []string        `json:"notes"`
	Problems []Problem       `json:"problems"` // warnings of the inputs
	Values   []checksumValue `json:"checksums,omitempty"`
	Uses     []PartUse       `json:"regions,omitempty"`
	Outputs  []ImageModel    `json:"outputs"`
}

// ImageModel is an image that was read or written.
type ImageModel struct {
	File     string `json:"file"`             // - for standard input or standard output
	Format   string `json:"format,omitempty"` // a word of -to; absent if unknown
	Bytes    uint64 `json:"bytes"`
	Span     *Span  `json:"span,omitempty"`
	Runs     int    `json:"runs"`
	Start    string `json:"start,omitempty"`
	Replaced bool   `json:"replaced,omitempty"` // whether it replaced a file
}

// Model makes the model for programs.
func (c *Changed) Model() any {
	out := ChangedModel{
		Schema:   SchemaName(c.Command),
		DryRun:   c.Dry,
		Inputs:   []ImageModel{},
		Notes:    append([]string{}, c.Notes...),
		Problems: []Problem{},
		Outputs:  outputModels(c.Outputs),
		Uses:     c.Uses,
	}
	out.Changes = append([]string{}, c.Outcome.Changes...)
	for _, in := range c.Inputs {
		out.Inputs = append(out.Inputs, imageModel(in.Name, in.Format, in.Image))
	}
	for _, p := range c.Warnings {
		out.Problems = append(out.Problems, ProblemOf(p, c.Wording))
	}
	if len(c.Outcome.Checksums) > 0 {
		out.Values = checksumValues(c.Outcome.Checksums, c.Wording)
	}
	return out
}

func outputModels(outputs []Output) []ImageModel {
	list := []ImageModel{}
	for _, o := range outputs {
		one := imageModel(o.Name, o.Format, o.Image)
		one.Replaced = o.Replaced
		list = append(list, one)
	}
	return list
}

func imageModel(name string, f *format.Format, m *memory.Image) ImageModel {
	out := ImageModel{File: name, Bytes: m.Bytes(), Runs: len(m.Runs())}
	if name == "" || name == source.StandardInput {
		out.File = "-"
	}
	if f != nil {
		out.Format = f.Word
	}
	if all, ok := m.Span(); ok {
		s := spanOf(all)
		out.Span = &s
	}
	if m.Start().Kind != memory.NoStart {
		out.Start = memory.PlainAddress(m.Start().Address())
	}
	return out
}
