package memory

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/source"
)

// TestOriginsCanBeKept makes images by random operations, writes their origins as
// JSON, reads them, and asks for the origin of every byte.
func TestOriginsCanBeKept(t *testing.T) {
	none, err := (&Origins{}).Tracer()
	require.NoError(t, err)
	_, known := none.Origin(0)
	assert.False(t, known)
	for seed := range uint64(200 / golden.Every(4)) {
		r := rand.New(rand.NewPCG(seed, 7))
		step := func(name string) *source.Input {
			return &source.Input{Name: fmt.Sprintf("%s %d", name, r.IntN(100)), Counting: source.Operation}
		}
		file := func(n int) *Image {
			data := make([]byte, 1+r.IntN(600))
			first := uint64(r.IntN(4000))
			if r.IntN(2) == 0 {
				m, _ := FromBytes(first, data, &source.Input{Name: fmt.Sprint("raw", n), Counting: source.Offsets})
				return m
			}
			var b Batch
			line := 1
			for len(data) > 0 {
				n := min(1+r.IntN(40), len(data))
				b.Add(first, data[:n], line)
				first += uint64(n) + uint64(r.IntN(3)/2*r.IntN(50))
				data = data[n:]
				line += 1 + r.IntN(2)
			}
			m, _ := b.Image(&source.Input{Name: fmt.Sprint("hex", n)})
			return m
		}
		images := []*Image{file(0), file(1), file(2)}
		m, _ := Merge(images, Policy(r.IntN(2)))
		for range r.IntN(8) {
			all, _ := m.Span()
			switch r.IntN(6) {
			case 0:
				m, _ = m.Move(uint64(r.IntN(500)), false, step("place"))
			case 1:
				if swapped, err := m.Swap(1<<r.IntN(4), step("swap")); err == nil {
					m = swapped
				}
			case 2:
				m, _ = m.Write(step("patch"), all.First+uint64(r.IntN(int(all.Size()))), make([]byte, 1+r.IntN(20)))
			case 3:
				if filled, _, err := m.Fill(step("fill"), []byte{0xFF}, all); err == nil {
					m = filled
				}
			case 4:
				if joined, err := JoinLanes([]*Image{m, m}, 1, step("lanes")); err == nil {
					m = joined
				}
			case 5:
				m, _ = Merge([]*Image{m, file(3)}, First)
			}
		}
		text, err := json.Marshal(m.Origins())
		require.NoError(t, err)
		var o Origins
		require.NoError(t, json.Unmarshal(text, &o))
		tracer, err := o.Tracer()
		require.NoError(t, err)
		for _, run := range m.Runs() {
			for a := run.First; ; a++ {
				want, ok := m.Origin(a)
				require.True(t, ok)
				got, ok := tracer.Origin(a)
				require.True(t, ok)
				require.Equal(t, deep(want), deep(got), "seed %d, 0x%X", seed, a)
				if a == run.Last() {
					break
				}
			}
			_, ok := tracer.Origin(run.Last() + 1)
			require.Equal(t, m.Holds(run.Last()+1), ok)
		}
	}
	tracer, err := (&Image{}).Origins().Tracer()
	require.NoError(t, err)
	_, ok := tracer.Origin(0)
	assert.False(t, ok)
}

// deep names an origin with what it was written over.
func deep(o Origin) string {
	text := o.String()
	if o.Over != nil {
		text += " over (" + deep(*o.Over) + ")"
	}
	return text
}

// TestChangedOriginsAreRefused changes what refers to something.
func TestChangedOriginsAreRefused(t *testing.T) {
	raw, _ := FromBytes(0x100, make([]byte, 64), &source.Input{Name: "a.bin", Counting: source.Offsets})
	moved, _ := raw.Move(16, false, &source.Input{Name: "place", Counting: source.Operation})
	m, _ := moved.Write(&source.Input{Name: "patch", Counting: source.Operation}, 0x120, []byte("x"))
	for name, change := range map[string]func(o *Origins){
		"input":             func(o *Origins) { o.Tables[0].Sources[0].Input = 9 },
		"source":            func(o *Origins) { o.Tables[0].Ranges[0].Source = -1 },
		"empty piece":       func(o *Origins) { o.Tables[0].Ranges[0].Size = 0 },
		"past the end":      func(o *Origins) { o.Tables[0].Ranges[0].First = 1<<64 - 2 },
		"out of order":      func(o *Origins) { o.Tables[0].Ranges[1].First = 0 },
		"phase":             func(o *Origins) { o.Tables[len(o.Tables)-1].Ranges[0].Phase = 1 },
		"circle":            func(o *Origins) { o.Tables[1].Sources[0].From = []int{1} },
		"table before it":   func(o *Origins) { o.Tables[1].Sources[0].From = []int{0} },
		"no such table":     func(o *Origins) { o.Tables[1].Sources[0].From = []int{99} },
		"over itself":       func(o *Origins) { o.Tables[0].Sources[1].Over = -3 },
		"unknown rule":      func(o *Origins) { o.Tables[1].Sources[0].Rule = "turned" },
		"words of 0 bytes":  func(o *Origins) { o.Tables[1].Sources[0].Rule = "swapped" },
		"lanes without end": func(o *Origins) { s := &o.Tables[1].Sources[0]; s.Rule, s.Word, s.Lanes = "joined", 1, 1<<40 },
		"lane of none":      func(o *Origins) { s := &o.Tables[1].Sources[0]; s.Rule, s.Word = "lane", 1 },
	} {
		o := m.Origins()
		require.Equal(t, "moved", o.Tables[1].Sources[0].Rule, "the patch stands over what was moved")
		_, err := o.Tracer()
		require.NoError(t, err)
		change(o)
		_, err = o.Tracer()
		assert.Error(t, err, name)
	}
}

// TestBytesOfFiles counts what came from files, whatever was done to it since.
// TestChunksThatExtendOthers has one where bytes carry the ones before them on by the same rule:
// on one line, on the next ones, or wholly at one position.
func TestChunksThatExtendOthers(t *testing.T) {
	at := func(first uint64, position, size uint32, each, phase uint8) Chunk {
		return Chunk{First: first, Position: position, More: size - 1, Each: each, phase: phase}
	}
	line, whole := at(0x10, 3, 16, 16, 0), at(0x10, 3, 1000, 0, 0)
	half := at(0x10, 3, 8, 16, 0)
	for name, c := range map[string]struct {
		p, next Chunk
		want    bool
	}{
		"the next line":               {line, at(0x20, 4, 16, 16, 0), true},
		"a short last line":           {at(0x10, 3, 32, 16, 0), at(0x30, 5, 3, 3, 0), true},
		"the line after the next":     {line, at(0x20, 5, 16, 16, 0), false},
		"the same line":               {line, at(0x20, 3, 16, 16, 0), false},
		"a line before":               {line, at(0x20, 2, 16, 16, 0), false},
		"behind a hole":               {line, at(0x21, 4, 16, 16, 0), false},
		"longer lines":                {line, at(0x20, 4, 32, 32, 0), false},
		"behind a line cut off":       {half, at(0x18, 4, 16, 16, 0), false},
		"the rest of a line":          {half, at(0x18, 3, 8, 16, 8), true},
		"another rest":                {half, at(0x18, 3, 8, 16, 7), false},
		"a rest, and the next line":   {at(0x10, 3, 8, 16, 8), at(0x18, 4, 16, 16, 0), true},
		"one position":                {whole, at(0x3F8, 3, 2, 0, 0), true},
		"another position":            {whole, at(0x3F8, 4, 2, 0, 0), false},
		"one position, then lines":    {whole, at(0x3F8, 3, 16, 16, 0), false},
		"lines, then one position":    {line, at(0x20, 4, 16, 0, 0), false},
		"as much as a chunk may have": {at(0, 3, math.MaxUint32, 0, 0), at(math.MaxUint32, 3, 1, 0, 0), true},
		"more than a chunk may have":  {at(0, 3, math.MaxUint32, 0, 0), at(math.MaxUint32, 3, 2, 0, 0), false},
	} {
		p, size := c.p, c.p.More
		if c.want {
			size += c.next.More + 1
		}
		assert.Equal(t, c.want, p.extends(&c.next), name)
		assert.Equal(t, size, p.More, name)
	}
}

func TestBytesOfFiles(t *testing.T) {
	file := &source.Input{Name: "app.bin", Counting: source.Offsets}
	step := &source.Input{Name: "step", Counting: source.Operation}
	app, ok := FromBytes(0x1000, bytes.Repeat([]byte{1, 2}, 32), file)
	require.True(t, ok)
	filled, _, err := app.Fill(step, []byte{0xFF}, Span{First: 0xFF0, Last: 0x105F})
	require.NoError(t, err)
	patched, ok := filled.Write(step, 0x103E, []byte{9, 9, 9, 9}) // two of them over bytes of the file
	require.True(t, ok)
	moved, ok := patched.Move(0x10, false, step)
	require.True(t, ok)
	swapped, err := moved.Swap(4, step)
	require.NoError(t, err)
	for i, m := range []*Image{app, filled, patched} {
		assert.EqualValues(t, 64, m.FromFiles(Span{Last: 0xFFFF}), i)
		assert.EqualValues(t, 3, m.FromFiles(Span{First: 0xF00, Last: 0x1002}), i)
		assert.EqualValues(t, 1, m.FromFiles(Span{First: 0x103F, Last: 0x2000}), i)
	}
	for i, m := range []*Image{moved, swapped} {
		assert.EqualValues(t, 64, m.FromFiles(Span{Last: 0xFFFF}), i)
		assert.EqualValues(t, 4, m.FromFiles(Span{First: 0x104C, Last: 0x2000}), i)
		assert.EqualValues(t, 0, m.FromFiles(Span{First: 0x1050, Last: 0x2000}), i)
	}
	for i, part := range patched.SplitLanes(2, 2, step) {
		assert.EqualValues(t, 32, part.Image.FromFiles(Span{Last: 0xFFFF}), i)
	}
}
