package checksum

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/source"
)

// stored makes n images of a kilobyte, each with the value of a kind over what
// stands before it, at 0x13F8.
func stored(t *testing.T, k *Kind, n int, order memory.Order) (images []*memory.Image, values []Value) {
	t.Helper()
	r := rand.New(rand.NewPCG(11, 12))
	for range n {
		m := image(t, 0x1000, string(firmware(r, 1024)))
		v, err := (&Feed{Spans: []memory.Span{{First: 0x1000, Last: 0x13F7}}}).Sum(k, m, 1)
		require.NoError(t, err)
		b, err := v.Stored(order, 0)
		require.NoError(t, err)
		m, _ = m.Write(in, 0x13F8, b)
		images, values = append(images, m), append(values, v)
	}
	return images, values
}

func search(images []*memory.Image) *Search {
	s := &Search{
		Images: images, PlaceText: "0x13F8", Cores: 2,
		Place: func(_ *memory.Image, size int) (memory.Span, error) {
			place, ok := memory.SpanOf(0x13F8, uint64(size))
			if !ok {
				return place, fmt.Errorf("no span")
			}
			return place, nil
		},
		Erased: func(uint64) byte { return 0xFF },
	}
	spans := NamedSpans{Text: "image"}
	for _, m := range images {
		all, _ := m.Span()
		spans.Spans = append(spans.Spans, all)
	}
	s.Spans = []NamedSpans{spans}
	return s
}

// TestSearchProves searches for stored values of each of a few kinds; the
// settings that come with the hit must say kind, place and order.
func TestSearchProves(t *testing.T) {
	for _, name := range []string{"CRC-32/ISO-HDLC", "CRC-16/XMODEM", "CRC-64/XZ", "FLETCHER-32"} {
		k := kind(t, name)
		for _, order := range []memory.Order{memory.Big, memory.Little} {
			images, values := stored(t, k, 2, order)
			answers, err := search(images).Run(context.Background())
			require.NoError(t, err)
			require.NotEmpty(t, answers)
			a := answers[len(answers)-1]
			require.NotEmpty(t, a.Hits, name)
			assert.Equal(t, k, a.Hits[0].Kind)
			assert.Len(t, a.Settings, len(a.Hits))
			for _, want := range []source.Setting{{Key: "kind", Value: name}, {Key: "expect-at", Value: "0x13F8"},
				{Key: "size", Value: fmt.Sprint(k.Size())}, {Key: "order", Value: order.String()}} {
				assert.Contains(t, a.Settings[0], want)
			}

			// The same by the values that the other side computes.
			s := search(images)
			s.Values = values
			answers, err = s.Run(context.Background())
			require.NoError(t, err)
			require.Len(t, answers, 1)
			require.NotEmpty(t, answers[0].Hits)
			assert.Equal(t, k, answers[0].Hits[0].Kind)
			assert.Contains(t, answers[0].Settings[0], source.Setting{Key: "expect", Value: values[0].String()})
		}
	}
}

// TestSearchOfUnknownPolynomials needs three images, and says so of fewer.
func TestSearchOfUnknownPolynomials(t *testing.T) {
	c := CRC{Width: 16, Poly: 0x2F9B, Init: 0x1234, XorOut: 0x5555}
	k, err := KindOf(c.String())
	require.NoError(t, err)
	for n, want := range map[int]bool{2: false, 4: true} {
		images, _ := stored(t, k, n, memory.Big)
		s := search(images)
		s.Size, s.Given = 2, true
		answers, err := s.Run(context.Background())
		require.NoError(t, err)
		require.Len(t, answers, 1)
		a := answers[0]
		assert.Empty(t, a.Hits)
		if !want {
			assert.Empty(t, a.Recovered)
			assert.Contains(t, a.Notes, "with 3 images of one length and their values, a polynomial in no catalogue is searched for too")
			continue
		}
		found := false
		for i, r := range a.Recovered {
			found = found || r.CRC.Poly == c.Poly && r.CRC.Width == c.Width
			assert.Equal(t, "kind", a.RecoveredSettings(i)[0].Key)
		}
		assert.True(t, found, "%v", a.Recovered)
	}
}

func TestSearchOutsideTheImage(t *testing.T) {
	images, _ := stored(t, kind(t, "CRC-16/XMODEM"), 1, memory.Big)
	s := search(images)
	s.Size = 16
	_, err := s.Run(context.Background())
	assert.EqualError(t, err, "image 1 does not contain the bytes 0x13F8..0x1407")
	s.Size = 0 // sizes that do not fit are left out
	answers, err := s.Run(context.Background())
	require.NoError(t, err)
	for _, a := range answers {
		assert.LessOrEqual(t, len(a.Values[0]), 8)
	}
}

// TestValuesThatAnImageHasByChance finds the span of a value of 16 bits in an image that is
// so large that it has these bytes somewhere, too; and a value that stands where it is
// covered, whose place is left out.
func TestValuesThatAnImageHasByChance(t *testing.T) {
	r := rand.New(rand.NewPCG(31, 32))
	data := make([]byte, 256<<10)
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	m, _ := memory.FromBytes(0x8000, data, in)
	all := memory.Span{First: 0x8000, Last: 0x8000 + 256<<10 - 1}
	for _, name := range []string{"CRC-16/XMODEM", "CRC-16/MODBUS", "SUM-16/LITTLE"} {
		k := kind(t, name)
		v, err := (&Feed{Spans: []memory.Span{all}}).Sum(k, m, 1)
		require.NoError(t, err)
		s := &Search{
			Images: []*memory.Image{m}, Values: []Value{v}, Cores: 2, Given: true,
			Erased: func(uint64) byte { return 0xFF }, Spans: []NamedSpans{{"image", []memory.Span{all}}},
		}
		answers, err := s.Run(context.Background())
		require.NoError(t, err)
		require.Len(t, answers, 1)
		require.NotEmpty(t, answers[0].Notes, "the image has the value somewhere")
		assert.Contains(t, answers[0].Notes[0], "the image contains the value")
		found := slices.IndexFunc(answers[0].Hits, func(h Hit) bool {
			return h.Kind == k && slices.Equal(h.Settings, []source.Setting{{Key: "kind", Value: name}, {Key: "in", Value: "image"}})
		})
		assert.GreaterOrEqual(t, found, 0, "%s: %v", name, answers[0].Hits)
		for _, h := range answers[0].Hits {
			assert.InDelta(t, float64(h.tried)*2/float64(uint(1)<<h.Kind.Bits), h.Chance, 1e-9)
			assert.LessOrEqual(t, h.tried, answers[0].Tried)
		}
	}
	images, values := stored(t, kind(t, "CRC-32/ISO-HDLC"), 2, memory.Little)
	s := search(images)
	s.Values = values
	answers, err := s.Run(context.Background())
	require.NoError(t, err)
	require.NotEmpty(t, answers[0].Hits)
	assert.Equal(t, "CRC-32/ISO-HDLC", answers[0].Hits[0].Kind.Name)
}

// TestSearchOfPages finds values over a span filled up to a page of each usual size, and values
// that the image has itself at its first byte.
func TestSearchOfPages(t *testing.T) {
	r := rand.New(rand.NewPCG(41, 42))
	k := kind(t, "CRC-32/MPEG-2")
	for _, page := range []int{128, 256, 512, 1 << 10, 2 << 10, 4 << 10} {
		data := firmware(r, page-37)
		v := k.Sum(1, data, bytes.Repeat([]byte{0xFF}, 37))
		s := search([]*memory.Image{image(t, uint64(page)*3, string(data))})
		s.Values, s.Given = []Value{v}, true
		answers, err := s.Run(context.Background())
		require.NoError(t, err)
		require.NotEmpty(t, answers[0].Hits, page)
		h := answers[0].Hits[0]
		assert.Equal(t, k, h.Kind)
		span := memory.Span{First: uint64(page) * 3, Last: uint64(page)*4 - 1}
		assert.Equal(t, []source.Setting{{Key: "kind", Value: k.Name}, {Key: "in", Value: span.Range()}, {Key: "holes", Value: "FF"}},
			h.Settings, page)
		assert.InEpsilon(t, float64(answers[0].Tried)*2/(1<<32), answers[0].Expected(), 1e-9)
		assert.Equal(t, append(h.Settings, source.Setting{Key: "expect", Value: v.String()}), answers[0].Settings[0])
	}
	data := firmware(r, 300)
	v := k.Sum(1, data[4:])
	copy(data, v)
	s := search([]*memory.Image{image(t, 0x1000, string(data))})
	s.Values, s.Given = []Value{v}, true
	answers, err := s.Run(context.Background())
	require.NoError(t, err)
	assert.Equal(t, []string{"the image contains the value " + v.String() + " itself at 0x1000..0x1003"}, answers[0].Notes)
	require.NotEmpty(t, answers[0].Hits)
	assert.Equal(t, k, answers[0].Hits[0].Kind)
	assert.Zero(t, (&Answer{Tried: 7}).Expected())
}
