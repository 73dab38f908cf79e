package report

import (
	"testing"

	"mexalt/memory"
	"mexalt/rehearsal"
	"mexalt/survey"

	"github.com/stretchr/testify/assert"
)

func TestGrown(t *testing.T) {
	for _, c := range []struct {
		now, before uint64
		want        string
	}{{5, 5, "as before"}, {0, 0, "as before"}, {150, 100, "+50 (+50.0 %)"}, {100, 150, "−50 (−33.3 %)"}, {2000, 0, "+2,000, new"},
		{0, 1000, "−1,000 (−100.0 %)"}} {
		assert.Equal(t, c.want, Grown(c.now, c.before))
	}
}

// TestCostsNameTheirCauses words why places are written.
func TestCostsNameTheirCauses(t *testing.T) {
	span := func(first, last uint64) memory.Span { return memory.Span{First: first, Last: last} }
	c := &Costs{Cost: &rehearsal.Cost{}, Programs: true, Guards: []Guard{{"crc", span(0xFFC, 0xFFF)}}, Symbols: []survey.SymbolChange{
		{Name: "tide", Fate: survey.Grown, Before: span(0x100, 0x10F), After: span(0x100, 0x117)},
		{Name: "old_way", Fate: survey.Gone, Before: span(0x120, 0x12F)},
		{Name: "fresh", Fate: survey.Fresh, After: span(0x140, 0x143)},
		{Name: "small", Fate: survey.Shrunk, Before: span(0x150, 0x157), After: span(0x150, 0x153)},
		{Name: "table", Fate: survey.Changed, Before: span(0x300, 0x30F), After: span(0x300, 0x30F), Bytes: 3},
		{Name: "later", Fate: survey.Moved, Before: span(0x200, 0x20F), After: span(0x208, 0x217)},
	}}
	for _, p := range []struct {
		place rehearsal.Place
		want  string
	}{
		{rehearsal.Place{Span: span(0x100, 0x1FF), Changed: span(0x110, 0x150)},
			"old_way is gone (-16), tide has grown by 8, fresh is new (+4), and 1 more"},
		{rehearsal.Place{Span: span(0x200, 0x3FF), Changed: span(0x208, 0x30F)}, "1 moved, 1 changed in place"},
		{rehearsal.Place{Span: span(0xC00, 0xFFF), Changed: span(0xFFC, 0xFFD)}, "only crc changes here"},
		{rehearsal.Place{Span: span(0xC00, 0xFFF), Changed: span(0xC00, 0xFFF)}, "crc"},
		{rehearsal.Place{Span: span(0x500, 0x5FF), Changed: span(0x500, 0x5FF)}, ""},
	} {
		assert.Equal(t, p.want, c.why(&p.place))
	}
	assert.Equal(t, "functions and variables: 1 grown, 1 shrunk, 1 new, 1 gone, 1 changed, 1 moved", c.Counts())
	assert.Equal(t, "nothing has to be written", c.Text())
}
