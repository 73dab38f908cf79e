package memory

import (
	"slices"

	"mexalt/source"
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
		layers[i] = layer{m.runs, m.trail, m.inputs}
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
	runs   []Run
	trail  []Piece
	inputs []*source.Input
}

// weave sweeps over all runs of all layers by address. Between two addresses
// at which a run begins or ends, the layers present are known, and the policy
// picks one. Each step looks at each layer present, and each of these gives
// at least one byte of its own there, so that the whole is linear in bytes.
func weave(layers []layer, policy Policy) (*Image, []Clash) {
	// Pieces here are runs: Ref is their layer, Position their number in it.
	var pieces []Piece
	for l := range layers {
		for i, r := range layers[l].runs {
			pieces = append(pieces, Piece{First: r.First, Ref: uint32(l), Position: uint32(i)})
		}
	}
	sortByFirst(pieces)
	type present struct {
		Run
		layer int
	}
	out := weaver{layers: layers, cursor: make([]int, len(layers)), refs: map[*source.Input]uint32{}}
	var clashes []Clash
	open := map[[2]int]int{} // the clash that two layers are in
	var here []present       // by layer
	var at uint64
	for i := 0; i < len(pieces) || len(here) > 0; {
		if len(here) == 0 {
			at = pieces[i].First
		}
		for ; i < len(pieces) && pieces[i].First == at; i++ {
			l := int(pieces[i].Ref)
			j, _ := slices.BinarySearchFunc(here, l, func(p present, l int) int { return p.layer - l })
			here = slices.Insert(here, j, present{layers[l].runs[pieces[i].Position], l})
		}
		end := here[0].Last()
		for _, p := range here[1:] {
			end = min(end, p.Last())
		}
		if i < len(pieces) {
			end = min(end, pieces[i].First-1)
		}
		kept := here[0]
		if policy == Last {
			kept = here[len(here)-1]
		}
		bytes := kept.Data[at-kept.First : end-kept.First+1]
		for _, p := range here {
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
				Span: Span{at, end}, KeptInput: kept.layer, OtherInput: p.layer, Differ: differ,
				Kept: layers[kept.layer].origin(at), Other: layers[p.layer].origin(at),
			})
		}
		out.add(Span{at, end}, bytes, kept.layer)
		here = slices.DeleteFunc(here, func(p present) bool { return p.Last() == end })
		at = end + 1
	}
	out.flush()
	return &out.image, clashes
}

func (l *layer) origin(address uint64) Origin {
	o, _ := (&Image{trail: l.trail, inputs: l.inputs}).Origin(address)
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
	refs   map[*source.Input]uint32
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
	for trail[c].Last() < s.First {
		c++
	}
	w.cursor[l] = c
	for ; c < len(trail) && trail[c].First <= s.Last; c++ {
		part := trail[c].cut(s)
		part.Ref = w.ref(w.layers[l].inputs[part.Ref])
		w.image.trail = joinTrail(w.image.trail, part)
	}
}

// ref returns the number of an input in the new image.
func (w *weaver) ref(in *source.Input) uint32 {
	ref, ok := w.refs[in]
	if !ok {
		ref = uint32(len(w.image.inputs))
		w.refs[in] = ref
		w.image.inputs = append(w.image.inputs, in)
	}
	return ref
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
