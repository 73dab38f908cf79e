// Package memory is the heart of Mexalt: a sparse image of bytes over 64-bit
// addresses that knows where every byte came from.
//
// An [Image] is a list of runs, sorted and never touching, with holes between
// them. Its cost follows the bytes that it holds, never the span that it
// covers. Images are not changed once made: each operation returns a new one,
// which shares the bytes that stayed as they were.
//
// Beside its runs an image keeps the origin of every byte: which input, which
// line or offset there, and the operations on the way. A stretch of regular
// records costs one entry, as go/token's positions cost one small integer.
package memory

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"iter"
	"slices"
	"sort"

	"mexalt/source"
)

// Run is an unbroken stretch of bytes. Its Data belongs to an image and must
// not be changed.
type Run struct {
	First uint64
	Data  []byte
}

// Last returns the address of the run's last byte.
func (r Run) Last() uint64 { return r.First + uint64(len(r.Data)) - 1 }

// Span returns the addresses of the run.
func (r Run) Span() Span { return Span{r.First, r.Last()} }

// StartKind tells how an image says where execution starts.
type StartKind uint8

const (
	// NoStart is an image without a start address.
	NoStart StartKind = iota
	// LinearStart is an address: Intel HEX type 05, S-record S7 to S9.
	LinearStart
	// SegmentedStart is CS:IP, CS in the upper 16 bits: Intel HEX type 03.
	SegmentedStart
)

// Start is where execution starts. The zero value is no start address.
type Start struct {
	Kind  StartKind
	Value uint64 // an address, or CS<<16 | IP
}

// Address returns the address at which execution starts. For CS:IP it is
// CS*16 + IP.
func (s Start) Address() uint64 {
	if s.Kind == SegmentedStart {
		return s.Value>>16*16 + s.Value&0xFFFF
	}
	return s.Value
}

// String returns the address, and CS:IP where it is given so.
func (s Start) String() string {
	switch s.Kind {
	case SegmentedStart:
		return fmt.Sprintf("%s (CS:IP %04X:%04X)", FormatAddress(s.Address()), s.Value>>16, s.Value&0xFFFF)
	case LinearStart:
		return FormatAddress(s.Value)
	}
	return "none"
}

// Image holds bytes with addresses. The zero value is an empty image.
type Image struct {
	start  Start
	header []byte
	runs   []Run
	provenance
}

// Start returns the start address, kept as its file gave it.
func (m *Image) Start() Start { return m.start }

// Header returns the text of the file's header record; nil is none. It belongs
// to the image.
func (m *Image) Header() []byte { return m.header }

// WithStart returns the image with another start address.
func (m *Image) WithStart(s Start) *Image {
	if m.start == s {
		return m
	}
	out := *m
	out.start = s
	return &out
}

// WithHeader returns the image with another header; nil is none.
func (m *Image) WithHeader(header []byte) *Image {
	out := *m
	out.header = slices.Clone(header)
	return &out
}

// Runs returns the image's runs, sorted by address, no two touching. They
// belong to the image.
func (m *Image) Runs() []Run { return m.runs }

// Empty reports whether the image holds no byte.
func (m *Image) Empty() bool { return len(m.runs) == 0 }

// Bytes returns how many bytes the image holds.
func (m *Image) Bytes() uint64 {
	var n uint64
	for _, r := range m.runs {
		n += uint64(len(r.Data))
	}
	return n
}

// Span returns the addresses from the image's first byte to its last; ok is
// false for an empty image.
func (m *Image) Span() (s Span, ok bool) {
	if m.Empty() {
		return Span{}, false
	}
	return Span{m.runs[0].First, m.runs[len(m.runs)-1].Last()}, true
}

// from returns the index of the first run that ends at or above address.
func (m *Image) from(address uint64) int {
	return sort.Search(len(m.runs), func(i int) bool { return m.runs[i].Last() >= address })
}

// In returns the parts of the image's runs that lie in the span, in order.
func (m *Image) In(s Span) iter.Seq[Run] {
	return func(yield func(Run) bool) {
		for i := m.from(s.First); i < len(m.runs) && m.runs[i].First <= s.Last; i++ {
			r := m.runs[i]
			both, _ := r.Span().Meet(s)
			if !yield(Run{both.First, r.Data[both.First-r.First : both.Last-r.First+1]}) {
				return
			}
		}
	}
}

// Count returns how many bytes the image holds in the span.
func (m *Image) Count(s Span) uint64 {
	var n uint64
	for r := range m.In(s) {
		n += uint64(len(r.Data))
	}
	return n
}

// Holds reports whether the image holds a byte at the address.
func (m *Image) Holds(address uint64) bool {
	i := m.from(address)
	return i < len(m.runs) && m.runs[i].First <= address
}

// Extent returns the stretch from the first to the last byte that the image
// holds in a span; ok is false where it holds none.
func (m *Image) Extent(s Span) (held Span, ok bool) {
	i := m.from(s.First)
	if i == len(m.runs) || m.runs[i].First > s.Last {
		return Span{}, false
	}
	held.First = max(m.runs[i].First, s.First)
	j := sort.Search(len(m.runs), func(i int) bool { return m.runs[i].First > s.Last }) - 1
	held.Last = min(m.runs[j].Last(), s.Last)
	return held, true
}

// Holes returns the stretches of the span where the image holds nothing, in
// order.
func (m *Image) Holes(s Span) []Span {
	var holes []Span
	next := s.First
	for r := range m.In(s) {
		if r.First > next {
			holes = append(holes, Span{next, r.First - 1})
		}
		if r.Last() == s.Last {
			return holes
		}
		next = r.Last() + 1
	}
	return append(holes, Span{next, s.Last})
}

// ReadAt copies the bytes from address on into b and reports whether the
// image holds them all. Where it does not, b is left partly written.
func (m *Image) ReadAt(b []byte, address uint64) bool {
	s, ok := SpanOf(address, uint64(len(b)))
	if !ok {
		return len(b) == 0
	}
	n := 0
	for r := range m.In(s) {
		n += copy(b[r.First-address:], r.Data)
	}
	return n == len(b)
}

// FromBytes returns an image of one run. The data is kept, not copied. ok is
// false where the run would pass the last 64-bit address, or has more than
// 4 GiB.
func FromBytes(first uint64, data []byte, in *source.Input) (m *Image, ok bool) {
	if len(data) == 0 {
		return &Image{}, true
	}
	s, ok := SpanOf(first, uint64(len(data)))
	if !ok || len(data) > mostInPiece {
		return nil, false
	}
	whole := Chunk{First: first, More: uint32(s.Last - s.First)}
	if in.Counting == source.Offsets {
		whole.Each = 1
	}
	return &Image{runs: []Run{{first, data}}, provenance: provenance{[]Chunk{whole}, []*byteSource{{input: in}}}}, true
}

// Equal reports whether two images hold the same bytes at the same addresses,
// whatever their start addresses, headers and origins.
func (m *Image) Equal(other *Image) bool {
	return slices.EqualFunc(m.runs, other.runs, func(a, b Run) bool {
		return a.First == b.First && string(a.Data) == string(b.Data)
	})
}

// Digest returns the SHA-256 of the image's contents: for each run, its first
// address and its length as 64-bit big-endian numbers, then its bytes. Images
// with the same bytes at the same addresses have the same digest, whatever
// format they came in; start addresses and headers do not count.
func (m *Image) Digest() [sha256.Size]byte {
	h := sha256.New()
	for _, r := range m.runs {
		var head [16]byte
		binary.BigEndian.PutUint64(head[:8], r.First)
		binary.BigEndian.PutUint64(head[8:], uint64(len(r.Data)))
		h.Write(head[:])
		h.Write(r.Data)
	}
	return [sha256.Size]byte(h.Sum(nil))
}

// View returns an image of runs that stay the caller's, sorted, no two touching,
// none of more than 4 GiB. The caller may change their bytes while the image is not
// used; all come from in.
func View(runs []Run, in *source.Input) *Image {
	m := &Image{runs: runs, provenance: provenance{sources: []*byteSource{{input: in}}}}
	for _, r := range runs {
		m.ranges = append(m.ranges, Chunk{First: r.First, More: uint32(len(r.Data) - 1)})
	}
	return m
}
