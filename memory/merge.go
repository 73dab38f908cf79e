package memory

import (
	"cmp"
	"fmt"
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

// Comparison says how many of the bytes differ.
func (c *Clash) Comparison() string {
	switch {
	case c.Differ == 0:
		return "all bytes are equal there"
	case c.Size() == 1:
		return "they differ there"
	}
	return fmt.Sprintf("%s of %s differ", FormatCount(c.Differ), FormatBytes(c.Size()))
}

// Earlier returns where the earlier input's first byte came from, and the later
// one's, which is the one to look at: the other was there first.
func (c *Clash) Earlier() (early, late Origin) {
	if c.KeptInput > c.OtherInput {
		return c.Other, c.Kept
	}
	return c.Kept, c.Other
}

// MostClashes is how many clashes are kept; those beyond are only counted, so
// that their list stays small beside the images.
const MostClashes = 10_000

// Clashes are those that were met. The zero value is none.
type Clashes struct {
	List      []Clash // in the order of addresses, the first [MostClashes]
	Count     int     // of all
	Differing int     // of all, those in which bytes differ
}

// Merge lays images over each other. It returns the image of all their bytes
// and the clashes; where images clash, policy says which bytes the result
// holds. The start address and header are the first image's that has one. Time
// is linear in the bytes held, whatever the number of images.
func Merge(images []*Image, policy Policy) (*Image, *Clashes) {
	runs := 0
	for _, m := range images {
		runs += len(m.runs)
	}
	// Runs of layers are sorted by way of pieces: Ref is the layer, Position the number
	// of the run in it.
	pieces := make([]Chunk, 0, runs)
	for l, m := range images {
		for i, r := range m.runs {
			pieces = append(pieces, Chunk{First: r.First, Ref: uint32(l), Position: uint32(i)})
		}
	}
	sortByFirst(pieces)
	layerRuns := make([]layerRun, len(pieces))
	for i := range pieces {
		p := &pieces[i]
		layerRuns[i] = layerRun{images[p.Ref].runs[p.Position], p.Ref}
	}
	// The sweep asks for rising addresses only.
	cursor := make([]int, len(images))
	merged, clashes := weave(layerRuns, policy, func(layer uint32, at uint64) provenance {
		pieces, c := images[layer].ranges, cursor[layer]
		for pieces[c].Last() < at {
			c++
		}
		cursor[layer] = c
		return provenance{pieces[c:], images[layer].sources}
	})
	for _, m := range images {
		if merged.start.Kind == NoStart {
			merged.start = m.start
		}
		if merged.header == nil {
			merged.header = m.header
		}
	}
	return merged, clashes
}

// layerRun is a run of one of the layers that are woven together.
type layerRun struct {
	Run
	layer uint32
}

// present is a run of a layer where the sweep is, and the clash that it is in.
type present struct {
	layerRun
	clash   int    // its number, or -1
	with    uint32 // the layer that was kept there
	differs bool   // whether bytes differ in it so far
}

// weave sweeps over runs of layers, which are sorted by first address and, where that
// is equal, by layer; those of one layer do not overlap. Between two addresses
// at which a run of a layer begins or ends, those present are known, and the policy
// picks one. Each step looks at each run of a layer present, and each of these gives
// at least one byte of its own there, so that the whole is linear in bytes.
// provenanceAt returns the provenance of a layer from an address on.
func weave(layerRuns []layerRun, policy Policy, provenanceAt func(layer uint32, at uint64) provenance) (*Image, *Clashes) {
	out := weaver{refs: map[*byteSource]uint32{}}
	clashes := &Clashes{}
	var here, merged []present // by layer
	byLayer := func(a, b present) int { return cmp.Compare(a.layer, b.layer) }
	var at uint64
	for i := 0; i < len(layerRuns) || len(here) > 0; {
		if len(here) == 0 {
			at = layerRuns[i].First
		}
		if first := i; i < len(layerRuns) && layerRuns[i].First == at {
			for ; i < len(layerRuns) && layerRuns[i].First == at; i++ {
			}
			fresh := make([]present, 0, i-first)
			for _, s := range layerRuns[first:i] {
				fresh = append(fresh, present{layerRun: s, clash: -1})
			}
			slices.SortFunc(fresh, byLayer)
			merged = mergeSorted(merged[:0], here, fresh, byLayer)
			here, merged = merged, here
		}
		end := here[0].Last()
		for _, p := range here[1:] {
			end = min(end, p.Last())
		}
		if i < len(layerRuns) {
			end = min(end, layerRuns[i].First-1)
		}
		kept := here[0]
		if policy == Last {
			kept = here[len(here)-1]
		}
		bytes := kept.Data[at-kept.First : end-kept.First+1]
		for k := range here {
			p := &here[k]
			if p.layer == kept.layer {
				p.clash = -1 // what it clashed with ends here
				continue
			}
			clashes.add(p, &kept, Span{at, end}, countDiffering(bytes, p.Data[at-p.First:end-p.First+1]), provenanceAt)
		}
		out.add(Span{at, end}, bytes, provenanceAt(kept.layer, at))
		here = slices.DeleteFunc(here, func(p present) bool { return p.Last() == end })
		at = end + 1
	}
	out.flush()
	return &out.image, clashes
}

// add adds a stretch in which a run of a layer clashes with the one that was kept, to the
// clash that it is in already or as a new one.
func (c *Clashes) add(p, kept *present, s Span, differ uint64, provenanceAt func(layer uint32, at uint64) provenance) {
	fresh := p.clash < 0 || p.with != kept.layer
	if fresh {
		p.clash, p.with, p.differs = c.Count, kept.layer, false
		c.Count++
	}
	if differ > 0 && !p.differs {
		p.differs = true
		c.Differing++
	}
	switch {
	case !fresh && p.clash < len(c.List):
		known := &c.List[p.clash]
		known.Last, known.Differ = s.Last, known.Differ+differ
	case fresh && len(c.List) < MostClashes:
		keptTrail, otherTrail := provenanceAt(kept.layer, s.First), provenanceAt(p.layer, s.First)
		keptAt, _ := keptTrail.origin(s.First)
		otherAt, _ := otherTrail.origin(s.First)
		c.List = append(c.List,
			Clash{Span: s, KeptInput: int(kept.layer), OtherInput: int(p.layer), Differ: differ, Kept: keptAt, Other: otherAt})
	}
}

// mergeSorted appends two sorted lists to out as one.
func mergeSorted(out, a, b []present, compare func(a, b present) int) []present {
	for len(a) > 0 && len(b) > 0 {
		if compare(a[0], b[0]) <= 0 {
			out, a = append(out, a[0]), a[1:]
		} else {
			out, b = append(out, b[0]), b[1:]
		}
	}
	return append(append(out, a...), b...)
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
	refs  map[*byteSource]uint32
	image Image

	first uint64
	parts [][]byte
	next  uint64
}

// add takes bytes, and their origins from the start of a provenance that ends at or
// above the span's first address.
func (w *weaver) add(s Span, data []byte, t provenance) {
	if len(w.parts) > 0 && w.next != s.First {
		w.flush()
	}
	if len(w.parts) == 0 {
		w.first = s.First
	}
	w.parts = append(w.parts, data)
	w.next = s.Last + 1
	for c := 0; c < len(t.ranges) && t.ranges[c].First <= s.Last; c++ {
		part := t.ranges[c].cut(s)
		part.Ref = w.ref(t.sources[part.Ref])
		w.image.join(part)
	}
}

// ref returns the number of a source in the new image.
func (w *weaver) ref(s *byteSource) uint32 {
	ref, ok := w.refs[s]
	if !ok {
		ref = uint32(len(w.image.sources))
		w.refs[s] = ref
		w.image.sources = append(w.image.sources, s)
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
