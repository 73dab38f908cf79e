package memory

import (
	"encoding/binary"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

// TestOrders holds numbers in both orders against encoding/binary.
func TestOrders(t *testing.T) {
	assert.Equal(t, []Order{Little, Big}, []Order{OrderOf(false), OrderOf(true)})
	assert.Equal(t, []string{"little", "little", "big"}, []string{Order("").String(), Little.String(), Big.String()})
	for width := 1; width <= 8; width++ {
		const n uint64 = 0x8182838485868788
		var little, big [8]byte
		binary.LittleEndian.PutUint64(little[:], n)
		binary.BigEndian.PutUint64(big[:], n)
		low := n & (uint64(math.MaxUint64) >> (64 - 8*width))
		assert.Equal(t, little[:width], Little.Bytes(n, width))
		assert.Equal(t, big[8-width:], Big.Bytes(n, width))
		assert.Equal(t, low, Order("").Number(little[:width]))
		assert.Equal(t, low, Big.Number(big[8-width:]))
	}
}

func TestSizesAndCountsInWords(t *testing.T) {
	for n, want := range map[uint64][3]string{ // as size, as bytes, as a number of entries of text
		0:          {"0 bytes", "0 bytes", "0 entries of text"},
		1:          {"1 byte", "1 byte", "1 entry of text"},
		2:          {"2 bytes", "2 bytes", "2 entries of text"},
		999:        {"999 bytes", "999 bytes", "999 entries of text"},
		1023:       {"1023 bytes", "1,023 bytes", "1,023 entries of text"},
		1024:       {"1 KiB", "1,024 bytes", "1,024 entries of text"},
		1540:       {"1.5 KiB (1,540 bytes)", "1,540 bytes", "1,540 entries of text"},
		1 << 20:    {"1 MiB", "1,048,576 bytes", "1,048,576 entries of text"},
		1<<20 + 1:  {"1.0 MiB (1,048,577 bytes)", "1,048,577 bytes", "1,048,577 entries of text"},
		1023 << 10: {"1023 KiB", "1,047,552 bytes", "1,047,552 entries of text"},
		3 << 40:    {"3 TiB", "3,298,534,883,328 bytes", "3,298,534,883,328 entries of text"},
		math.MaxUint64: {"16.0 EiB (18,446,744,073,709,551,615 bytes)", "18,446,744,073,709,551,615 bytes",
			"18,446,744,073,709,551,615 entries of text"},
	} {
		assert.Equal(t, want, [3]string{FormatSize(n), FormatBytes(n), FormatNumber(n, "entry of text")})
	}
	assert.Equal(t, []string{"0x0000", "0xFFFF", "0x0001_0000", "0xFFFF_FFFF_FFFF_FFFF"},
		[]string{FormatAddress(0), FormatAddress(0xFFFF), FormatAddress(0x1_0000), FormatAddress(math.MaxUint64)})
	assert.Equal(t, []string{"0x0001", "0x0001_0000..0x0001_FFFF", "0x0000_0010..0x0001_0000"},
		[]string{Span{1, 1}.Range(), Span{0x10000, 0x1FFFF}.Range(), Span{0x10, 0x10000}.Range()})
	assert.Equal(t, "0x0001 (1 byte), 0x0004..0x0603 (1.5 KiB, 1,536 bytes)", FormatSpans([]Span{{1, 1}, {4, 0x603}}))
	const more, fits = 256 << 20, (math.MaxUint64 - 256<<20) / 64
	assert.Equal(t, []uint64{fits*64 + more, math.MaxUint64}, []uint64{Proportion(fits), Proportion(fits + 1)})
}

// TestSpansOfSets holds the algebra of spans against sets of addresses.
func TestSpansOfSets(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	some := func() (list []Span, set [64]bool) {
		for range r.IntN(5) {
			first := uint64(r.IntN(60))
			s := Span{first, first + uint64(r.IntN(min(8, 64-int(first))))}
			list = append(list, s)
			for a := s.First; a <= s.Last; a++ {
				set[a] = true
			}
		}
		return list, set
	}
	spansOf := func(set [64]bool) (list []Span) {
		for a := 0; a < 64; a++ {
			if first := a; set[a] {
				for a+1 < 64 && set[a+1] {
					a++
				}
				list = append(list, Span{uint64(first), uint64(a)})
			}
		}
		return list
	}
	for range 2000 {
		a, inA := some()
		b, inB := some()
		var both, without, union [64]bool
		for k := range 64 {
			both[k], without[k], union[k] = inA[k] && inB[k], inA[k] && !inB[k], inA[k] || inB[k]
		}
		require.Equal(t, spansOf(both), Intersect(a, b), "%v %v", a, b)
		require.Equal(t, spansOf(without), Without(a, b), "%v %v", a, b)
		require.Equal(t, spansOf(union), Union(append(a, b...)))
	}
	last := Span{math.MaxUint64 - 1, math.MaxUint64}
	assert.Equal(t, []Span{{0, math.MaxUint64 - 2}}, Complement([]Span{last}))
	assert.Equal(t, []Span{{2, math.MaxUint64}}, Complement([]Span{{0, 0}, {1, 1}}))
	assert.Equal(t, uint64(math.MaxUint64), SizeOf([]Span{{0, math.MaxUint64 - 1}, {0, 0}}))
	assert.Equal(t, uint64(math.MaxUint64-1), SizeOf([]Span{{0, math.MaxUint64 - 3}, {0, 0}}))
	assert.True(t, Span{1, 5}.Covers(Span{1, 5}))
	assert.False(t, Span{1, 5}.Covers(Span{0, 5}))
	assert.False(t, Span{1, 5}.Covers(Span{1, 6}))
}

func TestStartsAndHeadersOfMergedImages(t *testing.T) {
	cs := Start{SegmentedStart, 0x1234_0010}
	assert.Equal(t, uint64(0x12350), cs.Address())
	assert.Equal(t, uint64(0xF), Start{LinearStart, 0xF}.Address())
	assert.Equal(t, []string{"0x0001_2350 (CS:IP 1234:0010)", "0x000F", "none"},
		[]string{cs.String(), Start{LinearStart, 0xF}.String(), Start{}.String()})
	a, _ := FromBytes(0, []byte("ab"), &source.Input{Name: "a"})
	b, _ := FromBytes(8, []byte("cd"), &source.Input{Name: "b"})
	b.header = []byte("of b")
	c := b.WithStart(cs)
	assert.Same(t, c, c.WithStart(cs))
	d := c.WithStart(Start{LinearStart, 9})
	d.header = []byte("of d")
	for _, order := range [][]*Image{{a, c, d}, {c, d}, {a, c}} {
		merged, _ := Merge(order, First)
		assert.Equal(t, cs, merged.Start(), "the first that has one")
		assert.Equal(t, "of b", string(merged.Header()))
	}
	held, ok := c.Extent(Span{9, 20})
	assert.Equal(t, Span{9, 9}, held)
	assert.True(t, ok)
	for _, none := range []Span{{10, 20}, {0, 7}} {
		_, ok = c.Extent(none)
		assert.False(t, ok, none)
	}
	both, _ := Merge([]*Image{a, b}, First)
	held, _ = both.Extent(Span{1, 8})
	assert.Equal(t, Span{1, 8}, held)
	assert.True(t, a.ReadAt(nil, 7))
	assert.False(t, a.ReadAt(make([]byte, 2), math.MaxUint64))
	empty, ok := FromBytes(math.MaxUint64, nil, &source.Input{Name: "none"})
	assert.True(t, ok)
	assert.Zero(t, empty.Bytes())
	_, ok = FromBytes(math.MaxUint64, []byte("ab"), &source.Input{})
	assert.False(t, ok)
	v := View([]Run{{4, []byte("xyz")}, {9, []byte("w")}}, &source.Input{Name: "v"})
	assert.True(t, v.Holds(6) && !v.Holds(7) && v.Holds(9))
	o, ok := v.Origin(9)
	assert.True(t, ok)
	assert.Equal(t, "v:0", o.Place())
	assert.Equal(t, "nowhere", Origin{}.Place())
}

// TestClashesInWords says of two inputs that give the same addresses which came first, and
// how they differ.
func TestClashesInWords(t *testing.T) {
	in := func(name string) *source.Input { return &source.Input{Name: name} }
	a, _ := FromBytes(0, []byte("abcdefgh"), in("a"))
	for text, want := range map[string]string{
		"abcd": "all bytes are equal there",
		"x":    "they differ there",
		"axxd": "2 of 4 bytes differ",
	} {
		b, _ := FromBytes(0, []byte(text), in("b"))
		for _, policy := range []Policy{First, Last} {
			_, clashes := Merge([]*Image{a, b}, policy)
			require.Len(t, clashes.List, 1)
			c := &clashes.List[0]
			assert.Equal(t, want, c.Comparison())
			early, late := c.Earlier()
			assert.Equal(t, "a:0 b:0", early.Place()+" "+late.Place())
		}
	}
}

func TestPlacesOfLanes(t *testing.T) {
	m, _ := FromBytes(0x10, []byte("0123456789abcdef"), &source.Input{Name: "f"})
	lanes := m.SplitLanes(2, 2, &source.Input{Name: "lanes"})
	assert.Equal(t, "0x0012 of the image (1 byte)", lanes[1].Place(Span{8, 8}))
	assert.Equal(t, "0x0010..0x0015 of the image (4 bytes of this lane)", lanes[0].Place(Span{8, 11}))
	assert.Equal(t, Span{8, 15}, lanes[0].Block)
	assert.Equal(t, "014589cd", string(lanes[0].Image.Runs()[0].Data))
	assert.Equal(t, "2367abef", string(lanes[1].Image.Runs()[0].Data))
}

// TestWordsOfAnySize swaps, gathers and scatters words of all sizes and lengths, and holds
// what comes out against a plain loop.
func TestWordsOfAnySize(t *testing.T) {
	src := make([]byte, 96)
	for i := range src {
		src[i] = byte(i + 1)
	}
	for _, size := range []int{2, 4, 8} {
		for n := 0; n <= 40; n += size {
			want, got := make([]byte, n), make([]byte, n)
			for i := range want {
				want[i] = src[i/size*size+size-1-i%size]
			}
			SwapWords(got, src[:n], size)
			require.Equal(t, want, got, "%d of %d", n, size)
		}
	}
	for _, size := range []int{1, 2, 3, 4, 8} {
		for _, step := range []int{1, 2, 3, 4} {
			for words := range 12 {
				want := make([]byte, 0, words*size)
				for w := range words {
					for k := range size {
						if at := w*size*step + k; at < len(src) {
							want = append(want, src[at])
						}
					}
				}
				if words*size*step > len(src) {
					continue
				}
				got := make([]byte, words*size)
				gather(got, src, size, step)
				require.Equal(t, want, got, "%d words of %d, each %d", words, size, step)
				back, whole := make([]byte, len(src)), make([]byte, len(src))
				scatter(back, got, size, step)
				for w := range words {
					copy(whole[w*size*step:], want[w*size:][:size])
				}
				require.Equal(t, whole, back, "%d words of %d, each %d", words, size, step)
			}
		}
	}
}
