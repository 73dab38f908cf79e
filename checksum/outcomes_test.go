package checksum

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/memory"
)

// TestWaysAreThoseThatWereTried lists every way of feeding that a search lays out, and sums
// what each feeds, for values before, in and behind spans with holes and erased ends.
func TestWaysAreThoseThatWereTried(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	dense := func(first uint64, n int) *memory.Image {
		return image(t, first, string(firmware(r, n)))
	}
	holed, _ := memory.Merge([]*memory.Image{dense(0x1000, 96), dense(0x1080, 40)}, memory.First)
	ended := image(t, 0x2000, string(firmware(r, 50))+strings.Repeat("\xFF", 14))
	var b strings.Builder
	for name, m := range map[string]*memory.Image{"dense": dense(0x1000, 64), "holed": holed, "erased end": ended,
		"one byte": dense(5, 1), "odd": dense(3, 7)} {
		all, _ := m.Span()
		places := map[string]*memory.Span{"nowhere": nil}
		for where, at := range map[string]uint64{"first": all.First, "inside": all.First + 8, "last": all.Last - 1,
			"before": all.First - 2, "behind": all.Last + 1} {
			if s, ok := memory.SpanOf(at, 2); ok {
				places[where] = &s
			}
		}
		for where, place := range places {
			q := Query{
				Pairs: []Pair{{Image: m, Value: Value{1, 2}, Place: place}},
				Spans: []NamedSpans{{Text: "image", Spans: []memory.Span{all}}}, Pages: []uint64{64, 256}, Erased: 0xFF, Cores: 1,
			}
			for _, v := range q.variants() {
				fmt.Fprintf(&b, "%s, %s: %d %v", name, where, v.rarity, v.settings)
				for _, f := range v.feeds {
					fed, err := f.Bytes(m)
					digest := Value(nil)
					if err == nil {
						digest = kind(t, "CRC-32/ISO-HDLC").Sum(1, fed...)
					}
					fmt.Fprintf(&b, " %X %v %d", digest, err, f.Size())
				}
				b.WriteString("\n")
			}
		}
	}
	lines := strings.Split(strings.TrimSpace(b.String()), "\n")
	slices.Sort(lines)
	golden.File(t, "testdata/ways.txt", strings.Join(lines, "\n")+"\n")
}

// TestIdentifyFindsEachKind computes a value of every kind over random bytes, in each order and
// with words swapped, and finds it.
func TestIdentifyFindsEachKind(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	var b strings.Builder
	for _, k := range Kinds() {
		m := image(t, 0x1000, string(firmware(r, 128)))
		all, _ := m.Span()
		for _, word := range []int{1, 2} {
			value, err := (&Feed{Spans: []memory.Span{all}, Word: word}).Sum(k, m, 1)
			require.NoError(t, err)
			for _, order := range []memory.Order{memory.Big, memory.Little} {
				stored, err := value.Stored(order, 0)
				require.NoError(t, err)
				hits, tried := Identify(
					context.Background(),
					Query{
						Pairs:  []Pair{{Image: m, Value: stored}},
						Spans:  []NamedSpans{{Text: "image", Spans: []memory.Span{all}}},
						Erased: 0xFF,
						Cores:  1,
					},
				)
				said := ""
				own := -1
				for i, h := range hits {
					if own < 0 && h.Kind == k {
						own = i
					}
					said += fmt.Sprintf("%s %s %v %.3g\n", h.Kind.Name, h.Order, h.Settings, h.Chance)
				}
				assert.GreaterOrEqual(t, own, 0, "%s %d %s", k.Name, word, order)
				fmt.Fprintf(&b, "%s %d %s: %d tried, %d hits, its own is number %d, all %X\n", k.Name, word, order, tried, len(hits), own,
					kind(t, "CRC-32/ISO-HDLC").Sum(1, []byte(said)))
			}
		}
	}
	golden.File(t, "testdata/hits.txt", b.String())
}

// TestRecoverFindsRandomCRCs makes CRCs of random parameters and finds them again from a few
// messages of equal and of other lengths.
func TestRecoverFindsRandomCRCs(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	var b strings.Builder
	for i := range 60 {
		width := []int{8, 16, 24, 32, 64}[i%5]
		mask := ^uint64(0) >> (64 - width)
		c := CRC{Width: width, Poly: r.Uint64()&mask | 1, Init: r.Uint64() & mask, XorOut: r.Uint64() & mask, RefIn: i%2 == 0,
			RefOut: i%3 == 0}
		var messages [][]byte
		var values []Value
		for n := range 2 + i%5 {
			message := firmware(r, 40+max(0, n-2))
			messages, values = append(messages, message), append(values, c.kind("").Sum(1, message))
		}
		if i%7 == 0 { // as it would lie in a file
			for n := range values {
				slices.Reverse(values[n])
			}
		}
		found, err := Recover(messages, values)
		fmt.Fprintf(&b, "%d: %v\n", i, err)
		for _, f := range found {
			fmt.Fprintf(&b, "  %+v %s %v\n", f.CRC, f.Order, f.Open)
		}
	}
	golden.File(t, "testdata/recovered.txt", b.String())
}

// TestCutsAreThoseThatWereTried lists the parts of data that a search goes through, the most
// usual first: of data that is empty but for a byte up to some that has its length at several
// places, and where these end in other data.
func TestCutsAreThoseThatWereTried(t *testing.T) {
	var b strings.Builder
	say := func(c *cut) string {
		text := fmt.Sprintf("%d..%d", c.from, c.to)
		if f := c.length; f != nil {
			text += fmt.Sprintf(" by %d,%d,%s,%v", f.at, f.width, f.order, f.whole)
		}
		return text
	}
	for _, size := range []int{1, 2, 5, 8, 33, 129, 300, 700, 2048} {
		r := rand.New(rand.NewPCG(uint64(size), 9))
		data := firmware(r, size)
		for i, at := range []int{2, 9, 16, 61, 66, 255, 508, 511, 514} { // where lengths stand, in turn
			if at+4 > size {
				break
			}
			n := uint32(size - i*i - 4*(i%2))
			switch i % 3 {
			case 0:
				binary.LittleEndian.PutUint32(data[at:], n)
			case 1:
				binary.BigEndian.PutUint16(data[at:], uint16(n))
			default:
				binary.BigEndian.PutUint32(data[at:], n)
			}
		}
		other := append(bytes.Clone(data[:size/2+1]), data[size/2:]...)
		all, few := cuts(data)
		fmt.Fprintf(&b, "%d bytes: %d, %d of them for all algorithms\n", size, len(all), len(few))
		for i := 0; i < len(all); {
			from, fits := i, 0
			var texts []string
			for ; i < len(all) && all[i].rarity == all[from].rarity; i++ {
				to, ok := all[i].end(size, other)
				if ok {
					fits++
				}
				texts = append(texts, fmt.Sprint(say(&all[i]), " ", to, ok))
			}
			fmt.Fprintf(&b, "  %d: %d %s, %d fit another: %s\n", all[from].rarity, len(texts),
				kind(t, "CRC-32/ISO-HDLC").Sum(1, []byte(strings.Join(texts, "\n"))), fits, strings.Join(texts[:min(3, len(texts))], ", "))
		}
		var texts []string
		for i := range few {
			texts = append(texts, say(&few[i]))
		}
		fmt.Fprintf(&b, "  for all: %s %s\n", kind(t, "CRC-32/ISO-HDLC").Sum(1, []byte(strings.Join(texts, "\n"))),
			strings.Join(texts[:min(12, len(texts))], ", "))
	}
	golden.File(t, "testdata/cuts.txt", b.String())
}
