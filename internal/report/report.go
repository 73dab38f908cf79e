// Package report says what came of a command, for people and for programs: one
// model type a result, made from what the core returns, and turned into text,
// JSON, SARIF or JUnit here and nowhere else.
package report

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// JSON prints a model as one object.
func JSON(to io.Writer, model any) error {
	e := json.NewEncoder(to)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(model)
}

// Span is a span in JSON: addresses are strings without _, since JSON numbers
// do not hold 64 bits everywhere; both ends are equally wide.
type Span struct {
	First string `json:"first"`
	Last  string `json:"last"`
	Size  uint64 `json:"size"`
}

func spanOf(s memory.Span) Span {
	last := memory.PlainAddress(s.Last)
	first := memory.PlainAddress(s.First)
	if short := len(last) - len(first); short > 0 {
		first = "0x" + strings.Repeat("0", short) + first[2:]
	}
	return Span{first, last, s.Size()}
}

// RegionsOf names the regions that a span touches; "" without a map.
func RegionsOf(m *device.Map, s memory.Span) string {
	if m == nil {
		return ""
	}
	const few = 4
	var names []string
	for _, r := range m.RegionsIn(s) {
		names = append(names, r.Name)
	}
	switch {
	case names == nil:
		return "in no region"
	case len(names) > few:
		names = append(names[:few], "...")
	}
	return strings.Join(names, ", ")
}

// Signed prints a number of bytes that may be missing.
func Signed(n int64) string {
	if n < 0 {
		return "−" + memory.FormatCount(uint64(-n))
	}
	return memory.FormatCount(uint64(n))
}

func Percent(part, whole uint64) string {
	return fmt.Sprintf("%.1f %%", 100*float64(part)/float64(whole))
}

// Problem is a problem in JSON.
type Problem struct {
	Severity string `json:"severity"`
	File     string `json:"file,omitempty"`
	Line     int    `json:"line,omitempty"`
	Column   int    `json:"column,omitempty"`
	What     string `json:"what"`
	Expected string `json:"expected,omitempty"`
	Advice   string `json:"advice,omitempty"`
}

// text says a problem in one line.
func (p Problem) text() string {
	text := source.Message(p.What, p.Expected, p.Advice)
	if p.File == "" {
		return text
	}
	return p.File + ": " + text
}

func problemsOf(problems *source.Problems, w source.Wording) []Problem {
	list := []Problem{}
	for _, p := range problems.Sorted() {
		list = append(list, Problem{p.Severity.String(), "", p.Line, p.Column, p.What, p.Expected, p.Advice.In(w)})
	}
	return list
}
