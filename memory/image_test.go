package memory

import (
	"cmp"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

// model is the plainest image there is: a byte and an origin for each address.
type model map[uint64]modelByte

type modelByte struct {
	value byte
	from  string
}

// check holds an image against the model, byte for byte and origin for origin,
// and proves that its runs are sorted and do not touch.
func (m model) check(t *testing.T, image *Image) {
	t.Helper()
	require.Equal(t, uint64(len(m)), image.Bytes())
	for i, r := range image.Runs() {
		require.NotEmpty(t, r.Data)
		if i > 0 {
			require.Greater(t, r.First, image.Runs()[i-1].Last()+1, "runs touch or overlap")
		}
		for j, b := range r.Data {
			a := r.First + uint64(j)
			want, ok := m[a]
			require.True(t, ok, "byte at %X", a)
			require.Equal(t, want.value, b, "byte at %X", a)
			o, ok := image.Origin(a)
			require.True(t, ok)
			require.Equal(t, want.from, o.String(), "origin of %X", a)
		}
	}
}

// corners are addresses around which images are made.
var corners = []uint64{0, 0xFFF0, 0xFFFF_FFF0, 0x1_0000_0000, math.MaxUint64 - 70}

// randomBatch makes records around a corner, in any order, some of them
// regular as linkers write them.
func randomBatch(r *rand.Rand, corner uint64, overlap bool) (Batch, []Chunk) {
	var b Batch
	var pieces []Chunk
	taken := map[uint64]bool{}
	line := 1
	for range 1 + r.IntN(12) {
		first, size := corner+r.Uint64N(60), 1+r.IntN(5)
		records := 1 + r.IntN(3)
		for range records {
			fits := first <= math.MaxUint64-uint64(size-1) && first >= corner
			for i := range uint64(size) {
				fits = fits && (overlap || !taken[first+i])
			}
			if fits {
				data := make([]byte, size)
				for i := range data {
					data[i] = byte(r.IntN(3))
					taken[first+uint64(i)] = true
				}
				b.Add(first, data, line)
				pieces = append(pieces, Chunk{First: first, More: uint32(size - 1), Position: uint32(line)})
			}
			line += 1 + r.IntN(8)/7
			first += uint64(size)
		}
	}
	return b, pieces
}

func TestBatchImageAgainstModel(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	in := &source.Input{Name: "f", Counting: source.Lines}
	for n := range 500 {
		overlap := n%2 == 1
		b, pieces := randomBatch(r, corners[n%len(corners)], overlap)
		want, twice := model{}, map[uint64]bool{}
		at := 0
		for _, p := range pieces {
			for i := range uint64(p.More) + 1 {
				if _, ok := want[p.First+i]; ok {
					twice[p.First+i] = true
				} else {
					want[p.First+i] = modelByte{b.Data[at], fmt.Sprintf("f:%d", p.Position)}
				}
				at++
			}
		}
		image, clashes := b.Image(in)
		want.check(t, image)
		clashing := map[uint64]bool{}
		for _, c := range clashes.List {
			for a := c.First; ; a++ {
				clashing[a] = true
				if a == c.Last {
					break
				}
			}
		}
		require.Equal(t, twice, clashing)
	}
}

// randomImage makes an image with holes and its model.
func randomImage(r *rand.Rand, name string, corner uint64) (*Image, model) {
	in := &source.Input{Name: name, Counting: source.Lines}
	b, pieces := randomBatch(r, corner, false)
	m, at := model{}, 0
	for _, p := range pieces {
		for i := range uint64(p.More) + 1 {
			m[p.First+i] = modelByte{b.Data[at], fmt.Sprintf("%s:%d", name, p.Position)}
			at++
		}
	}
	image, _ := b.Image(in)
	return image, m
}

func TestOperationsAgainstModel(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for n := range 500 {
		corner := corners[n%len(corners)]
		a, am := randomImage(r, "a", corner)
		b, bm := randomImage(r, "b", corner)
		c, cm := randomImage(r, "c", corner)

		for _, policy := range []Policy{First, Last} {
			merged, clashes := Merge([]*Image{a, b, c}, policy)
			want := model{}
			order := []model{am, bm, cm}
			if policy == First {
				order = []model{cm, bm, am}
			}
			given := 0
			for _, m := range order {
				given += len(m)
				for k, v := range m {
					want[k] = v
				}
			}
			want.check(t, merged)
			var clashed, differ, wantDiffer uint64
			for _, cl := range clashes.List {
				clashed += cl.Size()
				differ += cl.Differ
			}
			for k, v := range want {
				for _, m := range order {
					if w, ok := m[k]; ok && w.value != v.value {
						wantDiffer++
					}
				}
			}
			require.Equal(t, uint64(given-len(want)), clashed)
			require.Equal(t, wantDiffer, differ)
		}

		x, y := corner+r.Uint64N(70), corner+r.Uint64N(70)
		s := Span{min(x, y), max(x, y)}
		cut, dropped := model{}, model{}
		for k, v := range am {
			if s.Contains(k) {
				cut[k] = v
			} else {
				dropped[k] = v
			}
		}
		cut.check(t, a.Cut(s))
		dropped.check(t, a.Drop(s))
		require.Equal(t, uint64(len(cut)), a.Count(s))
		buffer := make([]byte, s.Size())
		require.Equal(t, len(cut) == len(buffer), a.ReadAt(buffer, s.First))

		filled, holes, err := a.Fill(&source.Input{Name: "fill", Counting: source.Operation}, []byte{7, 8, 9}, s)
		require.NoError(t, err)
		want, size := model{}, uint64(0)
		for k, v := range am {
			want[k] = v
		}
		for k := s.First; ; k++ {
			if _, ok := want[k]; !ok {
				want[k] = modelByte{byte(7 + k%3), "fill"}
				size++
			}
			if k == s.Last {
				break
			}
		}
		want.check(t, filled)
		for _, h := range holes {
			size -= h.Size()
		}
		require.Zero(t, size, "the holes told are those filled")

		if written, ok := a.Write(&source.Input{Name: "patch", Counting: source.Operation}, s.First, []byte{1, 2}); ok {
			want := model{}
			for k, v := range am {
				want[k] = v
			}
			want[s.First], want[s.First+1] = modelByte{1, "patch"}, modelByte{2, "patch"}
			want.check(t, written)
		} else {
			require.Equal(t, uint64(math.MaxUint64), s.First)
		}

		delta, down := r.Uint64N(40), r.IntN(2) == 0
		all, _ := a.Span()
		moved, ok := a.Move(delta, down, operationInput("place"))
		if down && all.First < delta || !down && all.Last > math.MaxUint64-delta {
			require.False(t, ok)
		} else {
			want := model{}
			for k, v := range am {
				if delta > 0 {
					v.from += ", place"
				}
				if down {
					want[k-delta] = v
				} else {
					want[k+delta] = v
				}
			}
			want.check(t, moved)
		}
	}
}

func TestOriginsStayCompact(t *testing.T) {
	in := &source.Input{Name: "f", Counting: source.Lines}
	var b Batch
	const records = 100_000
	for i := range uint64(records) {
		b.Add(0x1000+16*i, make([]byte, 16), int(2+i))
	}
	b.Add(0x1000+16*records, make([]byte, 5), 2+records) // the last one is shorter
	image, _ := b.Image(in)
	assert.Len(t, image.ranges, 1)
	assert.Len(t, image.runs, 1)
	o, ok := image.Origin(0x1000 + 16*records + 4)
	assert.True(t, ok)
	assert.Equal(t, "f:100002", o.String())
	_, ok = image.Origin(0xFFF)
	assert.False(t, ok)
}

func TestFillRefusesTheWholeWorld(t *testing.T) {
	m, _ := FromBytes(0, []byte{1}, &source.Input{Name: "f"})
	_, _, err := m.Fill(&source.Input{Name: "fill"}, []byte{0xFF}, Span{0, math.MaxUint64})
	assert.ErrorContains(t, err, "more than 4 GiB")
}

func TestMoveTakesTheStartAddressAlong(t *testing.T) {
	m, _ := FromBytes(0x100, []byte{1, 2}, &source.Input{Name: "f"})
	m = m.WithStart(Start{LinearStart, 0x101})
	moved, _ := m.Move(0x10, false, operationInput("place"))
	assert.Equal(t, uint64(0x111), moved.Start().Value)
	m = m.WithStart(Start{LinearStart, 0x200}) // outside the image: it belongs to something else
	moved, _ = m.Move(0x10, false, operationInput("place"))
	assert.Equal(t, uint64(0x200), moved.Start().Value)
}

func TestDigestIsOfContentsAlone(t *testing.T) {
	a, _ := FromBytes(0x100, []byte{1, 2, 3}, &source.Input{Name: "a"})
	b, _ := FromBytes(0x100, []byte{1, 2, 3}, &source.Input{Name: "b"})
	b = b.WithStart(Start{LinearStart, 1}).WithHeader([]byte("x"))
	assert.Equal(t, a.Digest(), b.Digest())
	moved, _ := a.Move(1, false, operationInput("place"))
	assert.NotEqual(t, a.Digest(), moved.Digest())
}

func TestSortByFirst(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for n := range 90 {
		pieces := make([]Chunk, []int{10, 300, 5000}[n%3]+r.IntN(20))
		for i := range pieces {
			pieces[i] = Chunk{First: r.Uint64() >> r.IntN(64) << r.IntN(20), Ref: uint32(i)}
		}
		want := slices.Clone(pieces)
		slices.SortStableFunc(want, func(a, b Chunk) int { return cmp.Compare(a.First, b.First) })
		sortByFirst(pieces)
		require.True(t, slices.Equal(want, pieces))
	}
}

func operationInput(name string) *source.Input {
	return &source.Input{Name: name, Counting: source.Operation}
}
