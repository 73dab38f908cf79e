package memory

import (
	"fmt"
	"math"

	"mexalt/source"
)

// Origins says where the bytes of an image came from, by the rules by which the
// image keeps it, in a form that can be written to a file and read again. The
// first provenance is the image's; a provenance refers only to those behind it.
type Origins struct {
	Inputs []*source.Input // files and operations, each once
	Tables []OriginTable
}

// OriginTable is a list of stretches, sorted by address, and what they come from.
type OriginTable struct {
	Ranges  []OriginRange
	Sources []OriginSource
}

// OriginRange is a stretch of bytes, by the rule of [Chunk].
type OriginRange struct {
	First    uint64
	Size     uint64 // 1 to 4 GiB
	Source   int    // among those of the provenance
	Position uint64 // line or offset of the first byte
	Each     uint8  // bytes on each line; 0 puts all at Position
	Phase    uint8  // bytes of its line before the first byte
}

// OriginSource is what bytes come from: a file or an operation that made them,
// or one that had them from other images.
type OriginSource struct {
	Input int // among the inputs
	// Over is the provenance of what an operation wrote over; 0 is nothing.
	Over int
	// From are the provenances that the bytes came from, by the rule; none where the
	// input itself made them.
	From []int
	Rule string // moved, swapped, joined, lane
	// Delta is what moved adds to the address, modulo 2^64; Word is the bytes in a
	// word, Lanes how many lanes there are, and Lane which one this is.
	Delta, Word, Lanes, Lane uint64
}

var ruleNames = [...]string{moved: "moved", swapped: "swapped", joined: "joined", lane: "lane"}

// Origins returns the origins of all bytes of the image.
func (m *Image) Origins() *Origins {
	o := &Origins{}
	c := collector{out: o, inputs: map[*source.Input]int{}, tables: map[tableKey]int{}}
	c.provenance(&m.provenance)
	// Those that are finished last refer to the others: turned round, each stands
	// before what it refers to.
	place := make([]int, len(c.finished))
	sorted := make([]OriginTable, len(c.finished))
	for i, n := range c.finished {
		place[n] = len(c.finished) - 1 - i
		sorted[place[n]] = o.Tables[n]
	}
	for i := range sorted {
		for j := range sorted[i].Sources {
			s := &sorted[i].Sources[j]
			if s.Over != none {
				s.Over = place[s.Over]
			} else {
				s.Over = 0
			}
			for k := range s.From {
				s.From[k] = place[s.From[k]]
			}
		}
	}
	o.Tables = sorted
	return o
}

// none is no provenance, while they have no places yet.
const none = -1

// tableKey tells provenances apart: they are parts of lists that are never changed.
type tableKey struct {
	first *Chunk
	count int
}

type collector struct {
	out    *Origins
	inputs map[*source.Input]int
	tables map[tableKey]int
	// finished are the provenances in the order in which all was added that they refer
	// to.
	finished []int
}

func (c *collector) input(in *source.Input) int {
	n, ok := c.inputs[in]
	if !ok {
		n = len(c.out.Inputs)
		c.inputs[in] = n
		c.out.Inputs = append(c.out.Inputs, in)
	}
	return n
}

// provenance adds a provenance and those that it refers to, and returns its number.
func (c *collector) provenance(t *provenance) int {
	var key tableKey
	if len(t.ranges) > 0 {
		key = tableKey{&t.ranges[0], len(t.ranges)}
		if n, ok := c.tables[key]; ok {
			return n
		}
	}
	n := len(c.out.Tables)
	c.tables[key] = n
	c.out.Tables = append(c.out.Tables, OriginTable{})
	out := OriginTable{}
	number := map[uint32]int{} // of the sources that are used
	for i := range t.ranges {
		p := &t.ranges[i]
		s, ok := number[p.Ref]
		if !ok {
			s = len(out.Sources)
			number[p.Ref] = s
			out.Sources = append(out.Sources, c.source(t.sources[p.Ref]))
		}
		out.Ranges = append(out.Ranges,
			OriginRange{First: p.First, Size: uint64(p.More) + 1, Source: s, Position: uint64(p.Position), Each: p.Each, Phase: p.phase})
	}
	c.out.Tables[n] = out
	c.finished = append(c.finished, n)
	return n
}

func (c *collector) source(s *byteSource) OriginSource {
	if s.input != nil {
		out := OriginSource{Input: c.input(s.input), Over: none}
		if s.over != nil {
			out.Over = c.provenance(s.over)
		}
		return out
	}
	out := OriginSource{
		Input: c.input(s.step),
		Over:  none,
		Rule:  ruleNames[s.rule.kind],
		Delta: s.rule.delta,
		Word:  s.rule.word,
		Lanes: s.rule.lanes,
		Lane:  s.rule.lane,
	}
	for i := range s.from {
		out.From = append(out.From, c.provenance(&s.from[i]))
	}
	return out
}

// Tracer finds origins by what [Origins] says.
type Tracer struct{ provenance provenance }

// Origin returns where the byte at address came from; ok is false where there is
// none.
func (t *Tracer) Origin(address uint64) (o Origin, ok bool) { return t.provenance.origin(address) }

// Tracer returns what finds origins. What does not fit together, as in a file that
// was changed, is an error.
func (o *Origins) Tracer() (*Tracer, error) {
	if len(o.Tables) == 0 {
		return &Tracer{}, nil
	}
	tables := make([]provenance, len(o.Tables))
	for n := len(tables) - 1; n >= 0; n-- { // those that it refers to are there already
		in := &o.Tables[n]
		for i := range in.Sources {
			s, err := o.source(&in.Sources[i], n, tables)
			if err != nil {
				return nil, fmt.Errorf("table %d, source %d: %w", n, i, err)
			}
			tables[n].sources = append(tables[n].sources, s)
		}
		tables[n].ranges = make([]Chunk, 0, len(in.Ranges))
		for i := range in.Ranges {
			p := &in.Ranges[i]
			_, fits := SpanOf(p.First, p.Size)
			switch {
			case !fits || p.Size == 0 || p.Size > mostInPiece || p.Position > math.MaxUint32:
				return nil, fmt.Errorf("table %d, piece %d: no stretch of bytes", n, i)
			case p.Source < 0 || p.Source >= len(in.Sources):
				return nil, fmt.Errorf("table %d, piece %d: there is no source %d", n, i, p.Source)
			case p.Each != 0 && p.Phase >= p.Each:
				return nil, fmt.Errorf("table %d, piece %d: %d bytes of a line of %d are before it", n, i, p.Phase, p.Each)
			case i > 0 && p.First <= tables[n].ranges[i-1].Last():
				return nil, fmt.Errorf("table %d, piece %d: not after the one before it", n, i)
			}
			tables[n].ranges = append(
				tables[n].ranges,
				Chunk{First: p.First, More: uint32(p.Size - 1), Ref: uint32(p.Source), Position: uint32(p.Position), Each: p.Each,
					phase: p.Phase},
			)
		}
	}
	return &Tracer{tables[0]}, nil
}

// source makes a source of provenance n.
func (o *Origins) source(s *OriginSource, n int, tables []provenance) (*byteSource, error) {
	behind := func(t int) bool { return t > n && t < len(tables) }
	if s.Input < 0 || s.Input >= len(o.Inputs) {
		return nil, fmt.Errorf("there is no input %d", s.Input)
	}
	in := o.Inputs[s.Input]
	if len(s.From) == 0 {
		out := &byteSource{input: in}
		if s.Over != 0 {
			if !behind(s.Over) {
				return nil, fmt.Errorf("table %d is not after it", s.Over)
			}
			out.over = &tables[s.Over]
		}
		return out, nil
	}
	out := &byteSource{step: in, rule: rule{delta: s.Delta, word: s.Word, lanes: s.Lanes, lane: s.Lane}}
	known := false
	for kind, name := range ruleNames {
		if name == s.Rule {
			out.rule.kind, known = ruleKind(kind), true
		}
	}
	wants := 1
	if out.rule.kind == joined {
		wants = int(min(s.Lanes, math.MaxInt32))
	}
	switch {
	case !known:
		return nil, fmt.Errorf("unknown rule %q", s.Rule)
	case out.rule.kind != moved && s.Word == 0:
		return nil, fmt.Errorf("words of 0 bytes")
	case len(s.From) != wants:
		return nil, fmt.Errorf("it comes from %d tables; expected %d", len(s.From), wants)
	case out.rule.kind == lane && s.Lane >= s.Lanes:
		return nil, fmt.Errorf("lane %d of %d", s.Lane, s.Lanes)
	}
	for _, t := range s.From {
		if !behind(t) {
			return nil, fmt.Errorf("table %d is not after it", t)
		}
		out.from = append(out.from, tables[t])
	}
	return out, nil
}
