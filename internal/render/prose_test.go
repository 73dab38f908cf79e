package render

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestProseIsBrokenAgain joins and breaks what was written in lines, and leaves
// code as it is.
func TestProseIsBrokenAgain(t *testing.T) {
	text := `A paragraph that was written in lines of some width, of which a
terminal has less: of 16 KiB each word stays with its number.

- an item of a list that runs on to
  a second line
- another
1. the first of several that are
   numbered
2. the second

  name   what it means, which is more than one line holds
  other  short
Behind it.

    code that is not broken, however long it is

The end.`
	wide := Plain(&strings.Builder{})
	wide.Prose(text)
	plain := wide.W.(*strings.Builder).String()
	assert.Contains(t, plain, "terminal has less: of\n16 KiB", "as wide as text")
	assert.Contains(t, plain, "\n- an item of a list that runs on to a second line\n")
	assert.Contains(t, plain, "\n    code that is not broken, however long it is\n")

	out := &plainTerminal{}
	p := &Printer{W: out, Terminal: true, Width: 32}
	p.Prose(text)
	assert.Equal(t, []string{
		"A paragraph that was written in",
		"lines of some width, of which a",
		"terminal has less: of 16 KiB",
		"each word stays with its number.",
		"",
		"- an item of a list that runs on",
		"  to a second line",
		"- another",
		"1. the first of several that are",
		"   numbered",
		"2. the second",
		"",
		"  name   what it means, which is",
		"         more than one line",
		"         holds",
		"  other  short",
		"Behind it.",
		"",
		"    code that is not broken, however long it is",
		"",
		"The end.",
	}, out.lines())
}

// TestTablesThatCannotFitAreLists prints rows one below the other where words
// would have to be broken.
func TestTablesThatCannotFitAreLists(t *testing.T) {
	out := &plainTerminal{}
	p := &Printer{W: out, Terminal: true, Width: 30}
	p.Table([]string{"memory", "kind", "span", "page"}, [][]string{
		{"flash", "flash", "0x0600_0000..0x0607_FFFF (512 KiB)", "256"},
		{"ram", "ram", "0x2800_0000..0x2801_FFFF (128 KiB)", ""},
	}, 4)
	assert.Equal(t, []string{
		"flash",
		"  kind flash; span",
		"  0x0600_0000..0x0607_FFFF",
		"  (512 KiB); page 256",
		"ram",
		"  kind ram; span",
		"  0x2800_0000..0x2801_FFFF",
		"  (128 KiB)",
	}, out.lines())

	out = &plainTerminal{}
	p = &Printer{W: out, Terminal: true, Width: 44}
	p.Table([]string{"memory", "kind", "span", "page"}, [][]string{{"flash", "flash", "0x0600_0000..0x0607_FFFF (512 KiB)", "256"}}, 4)
	assert.Equal(t, []string{
		"memory  kind   span                     page",
		"─────── ────── ──────────────────────── ────",
		"flash   flash  0x0600_0000..             256",
		"               0x0607_FFFF (512 KiB)",
	}, out.lines(), "a span is broken behind its dots, a size not at all")
}
