package survey

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"

	"mexalt/codec/format"
	"mexalt/memory"
)

// Fate is what became of a symbol.
type Fate string

// The fates of symbols.
const (
	Grown   Fate = "grown"
	Shrunk  Fate = "shrunk"
	Changed Fate = "changed" // as large as before, with other bytes, where it was
	Moved   Fate = "moved"   // as large as before, at another address
	Fresh   Fate = "new"
	Gone    Fate = "gone"
)

// SymbolChange is a function or a variable that is not as it was.
type SymbolChange struct {
	Name          string
	Fate          Fate
	Before, After memory.Span // the one that there is not is zero
	Bytes         uint64      // that are not as they were, of one that is where it was
}

// By is by how many bytes it is larger than before; below 0 it is smaller.
func (c *SymbolChange) By() int64 {
	size := func(s memory.Span) int64 {
		if s == (memory.Span{}) {
			return 0
		}
		return int64(s.Size())
	}
	return size(c.After) - size(c.Before)
}

// SymbolChanges tells what became of the functions and variables that are programmed,
// from one program to another, by their names: first those that make others move, by
// address. Names that a program has more than once are told apart by their order.
func SymbolChanges(old, new *format.Program, oldImage, newImage *memory.Image) ([]SymbolChange, error) {
	before, err := named(old, oldImage)
	if err != nil {
		return nil, err
	}
	after, err := named(new, newImage)
	if err != nil {
		return nil, err
	}
	var list []SymbolChange
	for key, was := range before {
		is, ok := after[key]
		if !ok {
			list = append(list, SymbolChange{Name: key.name, Fate: Gone, Before: was})
			continue
		}
		c := SymbolChange{Name: key.name, Before: was, After: is}
		a, b := make([]byte, was.Size()), make([]byte, is.Size())
		oldImage.ReadAt(a, was.First)
		newImage.ReadAt(b, is.First)
		switch {
		case is.Size() > was.Size():
			c.Fate = Grown
		case is.Size() < was.Size():
			c.Fate = Shrunk
		case is.First != was.First:
			c.Fate = Moved
		case !bytes.Equal(a, b):
			c.Fate = Changed
		default:
			continue
		}
		if is.First == was.First {
			for i := range min(len(a), len(b)) {
				if a[i] != b[i] {
					c.Bytes++
				}
			}
		}
		list = append(list, c)
	}
	for key, is := range after {
		if _, ok := before[key]; !ok {
			list = append(list, SymbolChange{Name: key.name, Fate: Fresh, After: is})
		}
	}
	rank := map[Fate]int{Grown: 0, Shrunk: 0, Fresh: 0, Gone: 0, Changed: 1, Moved: 2}
	place := func(c SymbolChange) uint64 {
		if c.Fate == Gone {
			return c.Before.First
		}
		return c.After.First
	}
	slices.SortFunc(list, func(a, b SymbolChange) int {
		return cmp.Or(cmp.Compare(rank[a.Fate], rank[b.Fate]), cmp.Compare(place(a), place(b)), cmp.Compare(a.Name, b.Name))
	})
	return list, nil
}

// nameKey is a name and which of those that bear it.
type nameKey struct {
	name string
	n    int
}

// mostTimes is how often the symbols of a program may cover its image, before it is
// taken for damaged.
const mostTimes = 64

func named(p *format.Program, image *memory.Image) (map[nameKey]memory.Span, error) {
	all, err := p.Symbols()
	if err != nil {
		return nil, err
	}
	out := map[nameKey]memory.Span{}
	count := map[string]int{}
	left := image.Bytes() * mostTimes
	for _, s := range all {
		span, ok := memory.SpanOf(s.First, s.Size)
		if !s.Loads || !s.Data || s.Size == 0 || !ok || s.Size > image.Bytes() {
			continue
		}
		if left < s.Size {
			return nil, fmt.Errorf("the symbols cover the image more than %d times", mostTimes)
		}
		left -= s.Size
		if image.Count(span) != s.Size {
			continue // what it names is not all programmed
		}
		out[nameKey{s.Name, count[s.Name]}] = span
		count[s.Name]++
	}
	return out, nil
}
