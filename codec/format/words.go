package format

import (
	"errors"

	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
)

// OrderKey is the key that says in which order the bytes of a word are.
func OrderKey(into *memory.Order) *key.Key {
	return key.Word(into, []string{string(memory.Little), string(memory.Big)}, "order", "ORDER",
		"memory text, templates: which byte of a word is at its first address: little, the lowest, or big, the highest (little)")
}

// WordKey is the key that says how many bytes a word has.
func WordKey(into *uint64, most uint64) *key.Key {
	return key.Number(into, 1, most, "word", "N", "memory text, templates: N bytes in a word (1)")
}

// RowLengthKey is the key that says how many bytes a record or a line has.
func RowLengthKey(into *uint64) *key.Key {
	return key.Number(into, 1, 255, "record-length", "N", "N data bytes in a record or a line (16)")
}

// CRLFKey is the key that makes lines end in CR LF.
func CRLFKey(into *bool) *key.Key {
	return key.Switch(into, "crlf", "text formats: lines end in CR LF")
}

// HolesKey is the key that says what holes are written as.
const HolesKey = "holes"

// KeyOfHoles is the key that says what holes are written as.
func KeyOfHoles(into **byte) *key.Key {
	return key.Byte(into, HolesKey, "BYTE", "raw, UF2, memory text, templates: write holes as BYTE")
}

// RowLength returns how many bytes a line of words has: what is asked for, or as
// many whole words as go into 16 bytes, or one.
func RowLength(asked, word uint64) uint64 {
	const usual = 16
	if asked != 0 {
		return asked
	}
	return max(usual/word, 1) * word
}

// borders returns the words in which runs begin and end, those of which an image
// may hold a part only, in order.
func borders(m *memory.Image, word uint64) func(yield func(memory.Span) bool) {
	return func(yield func(memory.Span) bool) {
		for _, r := range m.Runs() {
			for _, a := range []uint64{r.First, r.Last()} {
				first := a - a%word
				s, ok := memory.SpanOf(first, word)
				if !ok {
					s = memory.Span{First: first, Last: r.Last()}
				}
				if !yield(s) {
					return
				}
			}
		}
	}
}

// WholeWords returns the image with its words made whole: what a hole within one
// is written as is said, or, where it is nil, it is an error.
func WholeWords(m *memory.Image, word uint64, hole *byte) (*memory.Image, error) {
	if word == 1 {
		return m, nil
	}
	parts := []*memory.Image{m}
	for s := range borders(m, word) {
		switch {
		case m.Count(s) == s.Size() && s.Size() == word:
			continue
		case s.Size() < word:
			return nil, errors.New("the last word would run past the last 64-bit address")
		case hole == nil:
			return nil, &source.Problem{
				What: "the image has a hole within words of " + memory.FormatBytes(word) + ": " + m.Holes(s)[0].String(),
				Advice: source.Advice{Text: "fill it first",
					AnyOf: []source.Setting{{Key: HolesKey, Value: "FF", Does: "writes it as FF"}}},
			}
		}
		data := make([]byte, s.Size())
		for i := range data {
			data[i] = *hole
		}
		filled, _ := memory.FromBytes(s.First, data, &source.Input{Name: "holes", Counting: source.Operation})
		parts = append(parts, filled)
	}
	whole, _ := memory.Merge(parts, memory.First)
	return whole, nil
}
