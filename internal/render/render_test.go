package render

import (
	"bytes"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"mexalt/memory"
	"mexalt/source"
)

func TestProblemsMarkThePlace(t *testing.T) {
	var ps source.Problems
	ps.Add(&source.Problem{File: "f", Line: 1, Column: 4, What: "bad", Text: ":00\tx–"})
	ps.Add(&source.Problem{File: "f", Line: 2, Column: 101, What: "far", Text: strings.Repeat("a", 100) + "b"})
	for range 30 {
		ps.Add(&source.Problem{File: "g", What: "more"})
	}
	var b bytes.Buffer
	Plain(&b).Problems(&ps, nil, true)
	lines := strings.Split(b.String(), "\n")
	assert.Equal(t, []string{"f:1:4: error: bad", "    :00·x–", "       ^", "f:2:101: error: far"}, lines[:4])
	assert.Equal(t, strings.IndexByte(lines[4], 'b'), strings.IndexByte(lines[5], '^'),
		"the mark stands under the place, in the device that is shown")
	assert.LessOrEqual(t, len(lines[4]), 80)
	assert.Equal(t, "and 12 more problems", lines[len(lines)-2])
	b.Reset()
	Plain(&b).Problems(&ps, nil, false)
	assert.Equal(t, 21, strings.Count(b.String(), "\n"), "one line each")
}

func TestTableAndBar(t *testing.T) {
	var b bytes.Buffer
	Plain(&b).Table([]string{"a", "n"}, [][]string{{"x", "1"}, {"yy", "22"}}, 2)
	assert.Equal(t, "a    n\n─── ──\nx    1\nyy  22\n", b.String())
	assert.Equal(t, strings.Repeat("█", 10)+strings.Repeat("░", 10), Bar(5, 10))
	assert.Equal(t, "█"+strings.Repeat("░", 19), Bar(1, 1<<40), "what is used at all shows")
	assert.Equal(t, strings.Repeat("░", 20), Bar(0, 10))
}

func TestViewAtTheEdges(t *testing.T) {
	in := &source.Input{Name: "f", Counting: source.Offsets}
	m, _ := memory.FromBytes(1<<64-3, []byte("abc"), in)
	all, _ := m.Span()
	var b bytes.Buffer
	(&View{Columns: 16, Origin: true}).Print(Plain(&b), m, []memory.Span{all})
	assert.Equal(t, "0xFFFF_FFFF_FFFF_FFF0                                          61 62 63               abc  f+0x0\n", b.String())
	b.Reset()
	(&View{Columns: 3}).Print(Plain(&b), m, []memory.Span{all})
	assert.Equal(t, 2, strings.Count(b.String(), "\n"), "rows begin at multiples of their length")
}

func TestLinesBreakBetweenWordsOnATerminal(t *testing.T) {
	var b bytes.Buffer
	p := &Printer{W: &b, Terminal: true, Colour: true, Width: 20}
	p.Line("%s: %s", p.Bad("error"), "one two three four five averyveryverylongwordindeed six")
	assert.Equal(t, "\x1b[31;1merror\x1b[0;22m: one two three\n    four five\n    averyveryverylongwordindeed\n    six\n", b.String())
	b.Reset()
	Plain(&b).Line("%s", "one two three four five six seven eight nine ten eleven twelve thirteen fourteen fifteen sixteen")
	assert.Equal(t, 1, strings.Count(b.String(), "\n"))
}

func TestWhatComesFromOutsideIsMadeVisible(t *testing.T) {
	var b bytes.Buffer
	p := &Printer{W: &b, Colour: true}
	p.Printf("%s %s %v\n", "a\x1b[2Jb", p.Good("c\u202ed"), errors.New("e\u009bf"))
	p.Table([]string{"n"}, [][]string{{"g\rh"}})
	out := strings.ReplaceAll(strings.ReplaceAll(b.String(), "\x1b[32;1m", ""), "\x1b[0;22m", "")
	assert.NotContains(t, out, "\x1b")
	assert.NotContains(t, out, "\r")
	assert.Contains(t, out, `a\x1B[2Jb c\u202Ed e\x9Bf`)
	assert.Contains(t, out, `g\x0Dh`)
}
