package memory

import (
	"slices"
)

// Policy says which byte counts where two inputs give the same address one.
type Policy uint8

const (
	// First keeps the byte of the input named first.
	First Policy = iota
	// Last keeps the byte of the input named last.
	Last
)

// Clash is a stretch of addresses to which two inputs both give bytes.
type Clash struct {
	Span
	Kept, Other Origin // where the first byte of the span came from
	KeptInput   int    // number of the input whose bytes were kept
	OtherInput  int    // number of the other
	Differ      uint64 // how many of the bytes are not equal
}

// Merge lays images over each other. It returns the image of all their bytes
// and every clash, in the order of addresses; where images clash, policy says
// which bytes the result holds. The start address and header are the first
// image's that has one. Time is linear in the bytes held, whatever the number
// of images.
func Merge(images []*Image, policy Policy) (*Image, []Clash) {
	layers := make([]layer, len(images))
	for i, m := range images {
		layers[i] = layer{m.runs, m.trail}
	}
	merged, clashes := weave(layers, policy)
	for _, m := range images {
		if merged.Start.Kind == NoStart {
			merged.Start = m.Start
		}
		if merged.Header == nil {
			merged.Header = m.Header
		}
	}
	return merged, clashes
}

// layer is one of the images woven together.
type layer struct {
	runs  []Run
	trail []stretch
}

// weave sweeps over all runs of all layers by address. Between two addresses
// at which a run begins or ends, the layers present are known, and the policy
// picks one. Each step looks at each layer present, and each of these gives
// at least one byte of its own there, so that the whole is linear in bytes.
func weave(layers []layer, policy Policy) (*Image, []Clash) {
	type piece struct {
		Run
		layer int
	}
	var pieces []piece
	for l := range layers {
		for _, r := range layers[l].runs {
			pieces = append(pieces, piece{r, l})
		}
	}
	sortByKey(pieces, func(p *piece) uint64 { return p.First })
	out := weaver{layers: layers, cursor: make([]int, len(layers))}
	var clashes []Clash
	open := map[[2]int]int{} // the clash that two layers are in
	var present []piece      // by layer
	var at uint64
	for i := 0; i < len(pieces) || len(present) > 0; {
		if len(present) == 0 {
			at = pieces[i].First
		}
		for ; i < len(pieces) && pieces[i].First == at; i++ {
			p := pieces[i]
			j, _ := slices.BinarySearchFunc(present, p.layer, func(q piece, l int) int { return q.layer - l })
			present = slices.Insert(present, j, p)
		}
		end := present[0].Last()
		for _, p := range present[1:] {
			end = min(end, p.Last())
		}
		if i < len(pieces) {
			end = min(end, pieces[i].First-1)
		}
		kept := present[0]
		if policy == Last {
			kept = present[len(present)-1]
		}
		here := Span{at, end}
		bytes := kept.Data[at-kept.First : end-kept.First+1]
		for _, p := range present {
			if p.layer == kept.layer {
				continue
			}
			differ := countDiffering(bytes, p.Data[at-p.First:end-p.First+1])
			pair := [2]int{kept.layer, p.layer}
			if c, ok := open[pair]; ok && clashes[c].Last+1 == at {
				clashes[c].Last = end
				clashes[c].Differ += differ
				continue
			}
			open[pair] = len(clashes)
			clashes = append(clashes, Clash{
				Span: here, KeptInput: kept.layer, OtherInput: p.layer, Differ: differ,
				Kept: layers[kept.layer].origin(at), Other: layers[p.layer].origin(at),
			})
		}
		out.add(here, bytes, kept.layer)
		present = slices.DeleteFunc(present, func(p piece) bool { return p.Last() == end })
		at = end + 1
	}
	out.flush()
	return &out.image, clashes
}

func (l *layer) origin(address uint64) Origin {
	o, _ := (&Image{trail: l.trail}).Origin(address)
	return o
}

func countDiffering(a, b []byte) uint64 {
	var n uint64
	for i := range a {
		if a[i] != b[i] {
			n++
		}
	}
	return n
}

// weaver gathers bytes in the order of their addresses into runs. A run that
// one layer gives whole is shared with it; others are copied together.
type weaver struct {
	layers []layer
	cursor []int // for each layer, where in its trail the sweep is
	image  Image

	first uint64
	parts [][]byte
	next  uint64
}

func (w *weaver) add(s Span, data []byte, l int) {
	if len(w.parts) > 0 && w.next != s.First {
		w.flush()
	}
	if len(w.parts) == 0 {
		w.first = s.First
	}
	w.parts = append(w.parts, data)
	w.next = s.Last + 1

	trail, c := w.layers[l].trail, w.cursor[l]
	for trail[c].first+trail[c].size-1 < s.First {
		c++
	}
	w.cursor[l] = c
	for ; c < len(trail) && trail[c].first <= s.Last; c++ {
		w.image.trail = joinTrail(w.image.trail, trail[c].cut(s))
	}
}

func (w *weaver) flush() {
	switch len(w.parts) {
	case 0:
		return
	case 1:
		w.image.runs = append(w.image.runs, Run{w.first, w.parts[0]})
	default:
		w.image.runs = append(w.image.runs, Run{w.first, slices.Concat(w.parts...)})
	}
	w.parts = w.parts[:0]
}
