package diagnosis

import (
	"bytes"
	"fmt"
	"math/bits"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec"
	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

// damage is a way in which images are damaged in these tests, told by itself: by its own
// code, not by the one under test. It returns nil where the parameters make none.
type damage struct {
	name  string
	says  []string // one of them is in the text of the cause
	total bool     // it leaves nothing of what was there
	make  func(r *rand.Rand, d []byte) []byte
}

// page returns a page of d, by chance.
func page(r *rand.Rand, d []byte) (from, to int) {
	size := []int{128, 256, 512, 1024}[r.IntN(4)]
	from = r.IntN(len(d)/size) * size
	return from, from + size
}

func each(f func(i int, b byte) byte) func(*rand.Rand, []byte) []byte {
	return func(_ *rand.Rand, d []byte) []byte {
		for i := range d {
			d[i] = f(i, d[i])
		}
		return d
	}
}

func fillPage(v byte) func(*rand.Rand, []byte) []byte {
	return func(r *rand.Rand, d []byte) []byte {
		from, to := page(r, d)
		for i := from; i < to; i++ {
			d[i] = v
		}
		return d
	}
}

func from(f func(r *rand.Rand, d, was []byte)) func(*rand.Rand, []byte) []byte {
	return func(r *rand.Rand, d []byte) []byte { f(r, d, bytes.Clone(d)); return d }
}

var damages = []damage{
	{name: "page erased", says: []string{"erased"}, make: fillPage(0xFF)},
	{name: "page of zeros", says: []string{"filled with 00"}, make: fillPage(0)},
	{name: "page filled", says: []string{"filled with 5A"}, make: fillPage(0x5A)},
	{name: "cut short", says: []string{"truncated"}, make: func(r *rand.Rand, d []byte) []byte { return d[:len(d)/8+r.IntN(len(d)/2)] }},
	{name: "all FF", says: []string{"every byte reads FF"}, total: true, make: each(func(int, byte) byte { return 0xFF })},
	{name: "all 00", says: []string{"every byte reads 00"}, total: true, make: each(func(int, byte) byte { return 0 })},
	{name: "one answer", says: []string{"every address reads"}, total: true,
		make: each(func(i int, _ byte) byte { return []byte{0xDE, 0xAD, 0xBE, 0xEF}[i%4] })},
	{name: "inverted", says: []string{"inverted"}, make: each(func(_ int, b byte) byte { return ^b })},
	{name: "nibbles", says: []string{"nibbles"}, make: each(func(_ int, b byte) byte { return b<<4 | b>>4 })},
	{name: "bits reversed", says: []string{"bits reversed"}, make: each(func(_ int, b byte) byte { return bits.Reverse8(b) })},
	{name: "words of 2", says: []string{"words of 2 are reversed"}, make: from(func(_ *rand.Rand, d, was []byte) {
		for i := range d {
			d[i] = was[i^1]
		}
	})},
	{name: "words of 4", says: []string{"words of 4 are reversed"}, make: from(func(_ *rand.Rand, d, was []byte) {
		for i := range d {
			d[i] = was[i^3]
		}
	})},
	{name: "halves", says: []string{"halves of words of 4"}, make: from(func(_ *rand.Rand, d, was []byte) {
		for i := range d {
			d[i] = was[i^2]
		}
	})},
	{name: "order in a range", says: []string{"words of 2 are reversed"}, make: from(func(r *rand.Rand, d, was []byte) {
		a := r.IntN(len(d)/2) &^ 1
		for i := a; i < a+len(d)/4&^1; i++ {
			d[i] = was[i^1]
		}
	})},
	{name: "data bit", says: []string{"data bit"}, make: func(r *rand.Rand, d []byte) []byte {
		bit, v := r.IntN(8), r.IntN(2)
		for i := range d {
			d[i] = d[i]&^(1<<bit) | byte(v<<bit)
		}
		return d
	}},
	{name: "data bit of 16", says: []string{"data bit"}, make: func(r *rand.Rand, d []byte) []byte {
		bit, lane := r.IntN(8), r.IntN(2)
		for i := range d {
			if i%2 == lane {
				d[i] |= 1 << bit
			}
		}
		return d
	}},
	{name: "data bits exchanged", says: []string{"are exchanged"}, make: func(r *rand.Rand, d []byte) []byte {
		j := 1 + r.IntN(7)
		k := r.IntN(j)
		for i, b := range d {
			if b>>j&1 != b>>k&1 {
				d[i] ^= 1<<j | 1<<k
			}
		}
		return d
	}},
	{name: "lane lost", says: []string{"lane is lost"}, make: func(r *rand.Rand, d []byte) []byte {
		n := []int{2, 4}[r.IntN(2)]
		lane := r.IntN(n)
		for i := range d {
			if i%n == lane {
				d[i] = 0xFF
			}
		}
		return d
	}},
	{name: "lane twice", says: []string{"lane stands twice"}, make: from(func(r *rand.Rand, d, was []byte) {
		for i := range d {
			if i%2 == 1 {
				d[i] = was[i-1]
			}
		}
	})},
	{name: "address line", says: []string{"address line"}, make: from(func(r *rand.Rand, d, was []byte) {
		bit := 1 << (1 + r.IntN(bits.Len(uint(len(d)))-2))
		for i := range d {
			d[i] = was[i&^bit]
		}
	})},
	{name: "address lines exchanged", says: []string{"address lines"}, make: from(func(r *rand.Rand, d, was []byte) {
		lines := bits.Len(uint(len(d))) - 1
		j := 1 + r.IntN(lines-1)
		k := r.IntN(j)
		for i := range d {
			a := i
			if a>>j&1 != a>>k&1 {
				a ^= 1<<j | 1<<k
			}
			d[i] = was[a]
		}
	})},
	{name: "page twice", says: []string{"has the bytes of"}, make: from(func(r *rand.Rand, d, was []byte) {
		a, b := page(r, d)
		to := r.IntN(len(d)/(b-a)) * (b - a)
		copy(d[to:], was[a:b])
	})},
	{name: "pages swapped", says: []string{"are swapped"}, make: from(func(r *rand.Rand, d, was []byte) {
		a, b := page(r, d)
		to := r.IntN(len(d)/(b-a)) * (b - a)
		copy(d[to:], was[a:b])
		copy(d[a:], was[to:to+b-a])
	})},
	{name: "byte lost", says: []string{"lost at"}, make: func(r *rand.Rand, d []byte) []byte {
		a, n := len(d)/8+r.IntN(len(d)/2), 1+r.IntN(4)
		return append(d[:a], d[a+n:]...)
	}},
	{name: "byte put in", says: []string{"put in at"}, make: func(r *rand.Rand, d []byte) []byte {
		a := len(d)/8 + r.IntN(len(d)/2)
		return append(d[:a], append([]byte{0x55, 0xAA, 0x33}[:1+r.IntN(3)], d[a:]...)...)
	}},
	{name: "over another", says: []string{"without an erase"}, make: from(func(r *rand.Rand, d, was []byte) {
		a, b := page(r, d)
		for i := a; i < b; i++ {
			d[i] &= byte(r.IntN(256))
		}
	})},
	{name: "LF to CR LF", says: []string{"0A was made 0D 0A"},
		make: func(_ *rand.Rand, d []byte) []byte { return bytes.ReplaceAll(d, []byte("\n"), []byte("\r\n")) }},
	{name: "CR dropped", says: []string{"0D was dropped"},
		make: func(_ *rand.Rand, d []byte) []byte { return bytes.ReplaceAll(d, []byte("\r"), nil) }},
}

// images are three kinds: a program, any bytes, and a table with much that repeats.
func images(t testing.TB) map[string][]byte {
	t.Helper()
	random := make([]byte, 8<<10)
	table := make([]byte, 8<<10)
	r := rand.New(rand.NewPCG(4, 4))
	for i := range random {
		random[i] = byte(r.Uint32())
		table[i] = byte(i/7) + byte(i%16)*3
		if i > 6<<10 {
			table[i] = 0xFF
		}
	}
	text, err := os.ReadFile("../demo/data/gauge-app-2.s19")
	require.NoError(t, err)
	var problems source.Problems
	f, err := codec.Read(bytes.NewReader(text), "gauge-app-2.s19", int64(len(text)), codec.ReadOptions{}, &problems)
	require.NoError(t, err)
	var program []byte
	for _, run := range f.Image.Runs() {
		program = append(program, run.Data...)
	}
	return map[string][]byte{"program": program[:min(len(program), 8<<10)], "random": random, "table": table}
}

// named reports whether one of the causes is the damage's.
func (d *damage) named(causes []Cause) bool {
	for i := range causes {
		for _, want := range d.says {
			if strings.Contains(causes[i].Says(), want) {
				return true
			}
		}
	}
	return false
}

// TestDamagesAreNamed makes every damage, with parameters by chance, on three kinds of image:
// of 100, at least 95 are named.
func TestDamagesAreNamed(t *testing.T) {
	t.Parallel()
	in := &source.Input{Name: "f"}
	total, right := 0, 0
	for kind, data := range images(t) {
		expected, _ := memory.FromBytes(0x8000, data, in)
		for i := range damages {
			d := &damages[i]
			for seed := range uint64(50 / golden.Every(50)) {
				made := d.make(rand.New(rand.NewPCG(seed, 7)), bytes.Clone(data))
				if differing(data, made) < 8 {
					continue
				}
				total++
				found, _ := memory.FromBytes(0x8000, made, in)
				got := Of(expected, found, Options{Erased: 0xFF})
				if d.named(got.Causes) {
					right++
					assert.LessOrEqual(t, got.Explained, got.Differ)
				} else {
					t.Logf("%s, %s, %d: %v %s", kind, d.name, seed, got.Causes, got.Rest)
				}
			}
		}
	}
	t.Logf("%d of %d damages are named", right, total)
	assert.GreaterOrEqual(t, right*100, total*95)
}

func differing(a, b []byte) (n int) {
	for i := range max(len(a), len(b)) {
		x, y := byte(0xFF), byte(0xFF)
		if i < len(a) {
			x = a[i]
		}
		if i < len(b) {
			y = b[i]
		}
		if x != y {
			n++
		}
	}
	return n
}

// TestOfNothingInCommon names no cause for bytes that differ by chance, nor for another
// program.
func TestOfNothingInCommon(t *testing.T) {
	t.Parallel()
	in := &source.Input{Name: "f"}
	for kind, data := range images(t) {
		expected, _ := memory.FromBytes(0x8000, data, in)
		for seed := range uint64(333 / golden.Every(20)) {
			r := rand.New(rand.NewPCG(seed, 17))
			made := bytes.Clone(data)
			for range 1 + r.IntN(200) {
				made[r.IntN(len(made))] = byte(r.Uint32())
			}
			found, _ := memory.FromBytes(0x8000, made, in)
			assert.Empty(t, Of(expected, found, Options{Erased: 0xFF}).Causes, "%s %d", kind, seed)
		}
		r := rand.New(rand.NewPCG(1, 18))
		other := make([]byte, len(data)-77)
		for i := range other {
			other[i] = data[(i*31+r.IntN(3))%len(data)]
		}
		found, _ := memory.FromBytes(0x8000, other, in)
		d := Of(expected, found, Options{Erased: 0xFF})
		assert.Empty(t, d.Causes, kind)
		assert.Contains(t, d.Rest, "more likely another program", kind)
	}
}

// TestTwoDamages makes two, one after the other: of 100 pairs, both of 60 are named. Some leave
// what others do, as a page erased and then all inverted.
func TestTwoDamages(t *testing.T) {
	t.Parallel()
	in := &source.Input{Name: "f"}
	both, foreign, n := 0, 0, 0
	for _, data := range images(t) {
		expected, _ := memory.FromBytes(0x8000, data, in)
		for seed := range uint64(100 / golden.Every(20)) {
			r := rand.New(rand.NewPCG(seed, 27))
			a, b := &damages[r.IntN(len(damages))], &damages[r.IntN(len(damages))]
			first := append(a.make(r, bytes.Clone(data)), bytes.Repeat([]byte{0xFF}, len(data))...)
			made := b.make(r, first[:len(data)])
			if a == b || a.total || b.total || differing(made, data) < 64 {
				continue
			}
			// Each of them has to show beside the other.
			alone := rand.New(rand.NewPCG(seed, 27))
			alone.IntN(len(damages))
			alone.IntN(len(damages))
			one := a.make(alone, bytes.Clone(data))
			if differing(made, one) < 32 || differing(made, b.make(alone, bytes.Clone(data))) < 32 {
				continue
			}
			n++
			found, _ := memory.FromBytes(0x8000, made, in)
			d := Of(expected, found, Options{Erased: 0xFF})
			if slices.ContainsFunc(d.Causes, func(c Cause) bool {
				one := []Cause{c}
				return c.Kind != "erased memory" && !a.named(one) && !b.named(one)
			}) {
				foreign++
			}
			if a.named(d.Causes) && b.named(d.Causes) {
				both++
			} else {
				t.Logf("%s and %s: %v %s", a.name, b.name, d.Causes, d.Rest)
			}
		}
	}
	t.Logf("both of %d pairs of %d are named; of %d a foreign one is", both, n, foreign)
	assert.GreaterOrEqual(t, both*100, n*60)
	if n > 100 { // of a few, one is many
		assert.LessOrEqual(t, foreign*20, n)
	}
}

// TestOfOtherImages finds the image that was found, and what was programmed over it.
func TestOfOtherImages(t *testing.T) {
	in := &source.Input{Name: "f"}
	r := rand.New(rand.NewPCG(3, 3))
	random := func() []byte {
		d := make([]byte, 4096)
		for i := range d {
			d[i] = byte(r.Uint32())
		}
		return d
	}
	data, old := random(), random()
	image := func(d []byte) *memory.Image { m, _ := memory.FromBytes(0x100, d, in); return m }
	later := random()[2048:] // an image that begins within this one
	begins, _ := memory.FromBytes(0x900, later, in)
	all, short := random(), random()[:3000]
	elsewhere, _ := memory.FromBytes(0x8000, later, in)
	more, _ := memory.Merge([]*memory.Image{image(all), elsewhere}, memory.First) // of which one part is found
	others := []Other{{"tg1-2.3.0", image(random())}, {"tg1-2.4.0", image(old)}, {"tg1-data", begins}, {"tg1-more", more},
		{"tg1-padded", image(append(bytes.Clone(short), bytes.Repeat([]byte{0xFF}, 1096)...))}}
	part := append(bytes.Clone(data[:2048]), later...)
	half, over := bytes.Clone(data), bytes.Clone(data)
	copy(half[2048:], old[2048:])
	for i := range over {
		over[i] &= old[i]
	}
	for want, found := range map[string][]byte{
		"it is tg1-2.4.0": old, "0x0900..0x10FF is of tg1-data": part, "0x0100..0x10FF is of tg1-more": all,
		"it is tg1-padded": short, "0x0900..0x10FF is of tg1-2.4.0": half,
		"programmed over tg1-2.4.0 without an erase, everywhere": over,
	} {
		d := Of(image(data), image(found), Options{Erased: 0xFF, Others: others})
		require.NotEmpty(t, d.Causes, want)
		assert.Equal(t, want, d.Causes[0].Text)
		assert.Equal(t, d.Differ, d.Explained)
		assert.Empty(t, d.Rest)
		assert.Contains(t, d.Counts(&d.Causes[0]), "explains all ")
	}
	// All but the last byte of one.
	d := Of(image(data), image(old[:4095]), Options{Erased: 0xFF, Others: others})
	require.NotEmpty(t, d.Causes)
	assert.Equal(t, "0x0100..0x10FE is of tg1-2.4.0", d.Causes[0].Text)
	// Of one that is erased, nothing is found but what is missing.
	blank, _ := memory.FromBytes(0x110, bytes.Repeat([]byte{0xFF}, 4080), in)
	was := newPair(image(data), image(data[:16]), Options{Erased: 0xFF, Others: []Other{{"blank", blank}}}).begin()
	for _, a := range otherImages(was, rows[0]) {
		assert.Equal(t, "0x0110..0x10FF is of blank", a.words(was, domain{to: len(was.now), all: true}))
	}
}

// TestOfPlaces says where: a part that is found elsewhere, one that is missing, a run that ends
// early, spans that are looked at alone, and what is no difference.
func TestOfPlaces(t *testing.T) {
	in := &source.Input{Name: "f"}
	r := rand.New(rand.NewPCG(5, 5))
	run := func(n int) []byte {
		d := make([]byte, n)
		for i := range d {
			d[i] = byte(r.Uint32())
		}
		return d
	}
	image := func(parts map[uint64][]byte) *memory.Image {
		out := &memory.Image{}
		for at, d := range parts {
			m, _ := memory.FromBytes(at, d, in)
			out, _ = memory.Merge([]*memory.Image{out, m}, memory.First)
		}
		return out
	}
	a, b := run(512), run(300)
	expected := image(map[uint64][]byte{0x1_0000: a, 0x2_0000: b})
	for name, c := range map[string]struct {
		found *memory.Image
		in    []memory.Span
		want  []string
		rest  string
	}{
		"a part moved": {image(map[uint64][]byte{0x1_0000: a, 0x3_0000: b}), nil,
			[]string{"0x0002_0000..0x0002_012B is found at 0x0003_0000..0x0003_012B, moved by +0x10000: a record with the upper " +
				"address was lost or changed"}, ""},
		"all moved":         {image(map[uint64][]byte{0x1_2000: a, 0x2_2000: b}), nil, []string{"all bytes are moved by +0x2000"}, ""},
		"a part missing":    {image(map[uint64][]byte{0x1_0000: a}), nil, []string{"truncated: nothing from 0x0002_0000 on"}, ""},
		"the first missing": {image(map[uint64][]byte{0x2_0000: b}), nil, []string{"0x0001_0000..0x0001_01FF is missing"}, ""},
		"in one span":       {image(map[uint64][]byte{0x1_0000: a}), []memory.Span{{First: 0x1_0000, Last: 0x1_FFFF}}, nil, ""},
		"more, erased": {image(map[uint64][]byte{0x1_0000: append(bytes.Clone(a), 0xFF, 0xFF), 0x2_0000: b}), nil,
			[]string{"all bytes that only the second has are FF: erased memory in a read-back"}, ""},
		"one byte": {image(map[uint64][]byte{0x1_0000: append(bytes.Clone(a[:511]), a[511]^6), 0x2_0000: b}), nil, nil,
			"1 byte, at 0x0001_01FF"},
		"two bits": {image(map[uint64][]byte{0x1_0000: append([]byte{a[0] ^ 1, a[1] ^ 0x80}, a[2:]...), 0x2_0000: b}), nil, nil,
			"2 bytes, each in a single bit, the first at 0x0001_0000"},
	} {
		d := Of(expected, c.found, Options{Erased: 0xFF, In: c.in})
		var texts []string
		for i := range d.Causes {
			texts = append(texts, d.Causes[i].Text)
		}
		assert.Equal(t, c.want, texts, name)
		assert.Equal(t, c.rest, d.Rest, name)
	}
	assert.Empty(t, Of(expected, expected, Options{Erased: 0xFF}).Causes)
	assert.Empty(t, Of(expected, &memory.Image{}, Options{Erased: 0xFF}).Causes)
	assert.Contains(t, strings.Join(Names(), ", "), "filled, repeated, moved, words, order")
	far := image(map[uint64][]byte{0: a})
	huge, _, err := (&memory.Image{}).Fill(in, []byte{1}, memory.Span{First: 0, Last: MostExamined})
	require.NoError(t, err)
	assert.Equal(t, "not examined: there are more than 64 MiB of addresses", Of(far, huge, Options{}).Rest)
}

// TestOfMuchThatIsErased finds what acted everywhere where most is erased and stays so, and
// what touches a little of much.
func TestOfMuchThatIsErased(t *testing.T) {
	in := &source.Input{Name: "f"}
	r := rand.New(rand.NewPCG(6, 6))
	flash := bytes.Repeat([]byte{0xFF}, 128<<10)
	for i := range flash[:2048] {
		flash[i] = byte(r.Uint32())
	}
	stuck, page := bytes.Clone(flash), bytes.Clone(flash)
	for i := range stuck {
		stuck[i] |= 8
	}
	copy(page[0x300:0x380], bytes.Repeat([]byte{0}, 128))
	full := make([]byte, 128<<10)
	for i := range full {
		full[i] = byte(r.Uint32())
	}
	twice := bytes.Clone(full)
	copy(twice[0x1000:0x1100], full[0x1_8000:])
	image := func(d []byte) *memory.Image { m, _ := memory.FromBytes(0, d, in); return m }
	for want, c := range map[string][2][]byte{
		"data bit 3 reads as 1, everywhere":                                  {flash, stuck},
		"0x0300..0x037F filled with 00":                                      {flash, page},
		"page 0x1000..0x10FF has the bytes of page 0x0001_8000..0x0001_80FF": {full, twice},
	} {
		d := Of(image(c[0]), image(c[1]), Options{Erased: 0xFF})
		require.Len(t, d.Causes, 1, want)
		assert.Equal(t, want, d.Causes[0].Text)
		assert.Equal(t, d.Differ, d.Explained)
	}
}

// TestOfOneStretch finds what acted in the smaller of two parts alone.
func TestOfOneStretch(t *testing.T) {
	in := &source.Input{Name: "f"}
	r := rand.New(rand.NewPCG(8, 8))
	large, small := make([]byte, 64<<10), make([]byte, 2048)
	for i := range large {
		large[i] = byte(r.Uint32())
	}
	for i := range small {
		small[i] = byte(r.Uint32())
	}
	both := func(small []byte) *memory.Image {
		a, _ := memory.FromBytes(0, large, in)
		b, _ := memory.FromBytes(0x10_0000, small, in)
		m, _ := memory.Merge([]*memory.Image{a, b}, memory.First)
		return m
	}
	lost := bytes.Clone(small)
	for i := 1; i < len(lost); i += 2 {
		lost[i] = 0xFF
	}
	d := Of(both(small), both(lost), Options{Erased: 0xFF})
	require.Len(t, d.Causes, 1)
	assert.Equal(t, "byte 1 of words of 2 reads FF: a lane is lost, in 0x0010_0000..0x0010_07FF", d.Causes[0].Text)
	assert.Equal(t, d.Differ, d.Causes[0].Explains)
}

// TestOfADamageBelowAnother counts what both explain together: alone, the first would have
// left other bytes.
func TestOfADamageBelowAnother(t *testing.T) {
	in := &source.Input{Name: "f"}
	data := images(t)["program"]
	expected, _ := memory.FromBytes(0x8000, data, in)
	made := append(bytes.Clone(data[:0x800]), data[0x803:]...)
	for len(made)%4 != 0 {
		made = append(made, 0xFF)
	}
	swapped := make([]byte, len(made))
	for i := range swapped {
		swapped[i] = made[i^3]
	}
	found, _ := memory.FromBytes(0x8000, swapped, in)
	d := Of(expected, found, Options{Erased: 0xFF})
	require.Len(t, d.Causes, 2)
	assert.Contains(t, d.Causes[0].Text, "3 bytes lost at 0x8800; what follows is moved")
	assert.Zero(t, d.Causes[0].Explains)
	assert.Equal(t, "the bytes in words of 4 are reversed, everywhere, after that", d.Causes[1].Text)
	assert.Equal(t, d.Explained, d.Causes[1].Explains)
	assert.Greater(t, d.Explained, d.Differ-8)
}

// TestErasedToTheEnd says that a tail is erased as one that a cut transfer leaves, where nothing
// follows it, and that a stretch is not programmed where something does.
func TestErasedToTheEnd(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	data := make([]byte, 0x800)
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	for name, c := range map[string]struct {
		change func(found []byte) // 0x200 bytes longer than the image
		want   string
	}{
		"a tail":            {func(b []byte) { fillWith(b[0x600:], 0xFF) }, "erased from 0x8600 on; a truncated transfer leaves the same"},
		"a tail, then more": {func(b []byte) { fillWith(b[0x600:], 0xFF); b[0x900] = 0x12 }, "0x8600..0x87FF erased, not programmed"},
		"in the middle":     {func(b []byte) { fillWith(b[0x400:0x600], 0xFF) }, "0x8400..0x85FF erased, not programmed"},
		"all but the end":   {func(b []byte) { fillWith(b[0x400:0x7FE], 0xFF) }, "0x8400..0x87FD erased, not programmed"},
		"a tail, and behind": {func(b []byte) { fillWith(b[0x600:0x800], 0xFF); fillWith(b[0x800:], 0) },
			"0x8600..0x87FF erased, not programmed"},
	} {
		found := append(bytes.Clone(data), bytes.Repeat([]byte{0xFF}, 0x200)...)
		c.change(found)
		expected, ok := memory.FromBytes(0x8000, data, &source.Input{Name: "a"})
		require.True(t, ok)
		read, ok := memory.FromBytes(0x8000, found, &source.Input{Name: "b"})
		require.True(t, ok)
		d := Of(expected, read, Options{Erased: 0xFF})
		require.NotEmpty(t, d.Causes, name)
		assert.Equal(t, c.want, d.Causes[0].Text, name)
	}
}

func fillWith(data []byte, v byte) {
	for i := range data {
		data[i] = v
	}
}

// TestOfPlacesOfADevicesOwn takes what differs there out of what is not explained.
func TestOfPlacesOfADevicesOwn(t *testing.T) {
	in := &source.Input{Name: "f"}
	data := images(t)["random"]
	made := bytes.Clone(data)
	copy(made[0x100:], "0123456789")
	for i := 0x800; i < 0x900; i++ {
		made[i] = 0xFF
	}
	made[0x1800] ^= 0x0F
	expected, _ := memory.FromBytes(0x8000, data, in)
	found, _ := memory.FromBytes(0x8000, made, in)
	o := Options{Erased: 0xFF, Places: []Place{
		{Name: "none", Span: memory.Span{First: 0x9900, Last: 0x99FF}}, {Name: "serial", Span: memory.Span{First: 0x8100, Last: 0x8107}},
	}}
	d := Of(expected, found, o)
	require.Len(t, d.Causes, 2)
	assert.Equal(t, "0x8800..0x88FF erased, not programmed", d.Causes[0].Text)
	assert.Equal(t, Cause{Kind: "place", Text: "8 bytes in serial, where devices may differ", Where: []memory.Span{o.Places[1].Span}},
		d.Causes[1])
	assert.Equal(t, "3 bytes in 2 places, the first at 0x8108", d.Rest)
	made[0x1800] ^= 0x0F
	copy(made[0x108:], data[0x108:0x10A])
	found, _ = memory.FromBytes(0x8000, made, in)
	assert.Empty(t, Of(expected, found, o).Rest)
}

// outcome is an image that was expected, and what was found in its place.
type outcome struct {
	name       string
	was, found *memory.Image
	options    Options
}

// outcomes are every damage alone, and pairs, on each kind of image; for devices whose erased
// bytes are zeros; over other images; in images with holes, of which a few bytes differ besides.
func outcomes(t testing.TB) (list []outcome) {
	t.Helper()
	in := &source.Input{Name: "f"}
	kinds := images(t)
	for kind := range kinds {
		kinds[kind] = kinds[kind][:4096]
	}
	add := func(name string, expected, made []byte, o Options) {
		was, _ := memory.FromBytes(0x8000, expected, in)
		found, _ := memory.FromBytes(0x8000, made, in)
		list = append(list, outcome{name, was, found, o})
	}
	for _, kind := range []string{"program", "random", "table"} {
		data := kinds[kind]
		for i := range damages {
			d := &damages[i]
			for seed := range uint64(2) {
				add(kind+", "+d.name, data, d.make(rand.New(rand.NewPCG(seed, 41)), bytes.Clone(data)), Options{Erased: 0xFF})
			}
		}
		for seed := range uint64(12) {
			r := rand.New(rand.NewPCG(seed, 43))
			x, y := &damages[r.IntN(len(damages))], &damages[r.IntN(len(damages))]
			made := y.make(r, append(x.make(r, bytes.Clone(data)), bytes.Repeat([]byte{0xFF}, len(data))...)[:len(data)])
			add(kind+", "+x.name+" and "+y.name, data, made, Options{Erased: 0xFF})
		}
	}
	// One of three runs alone, and short ones.
	lay := func(runs ...[]byte) *memory.Image {
		list := make([]memory.Run, len(runs))
		for i, first := range []uint64{0x1000, 0x4010, 0x8005}[:len(runs)] {
			list[i] = memory.Run{First: first, Data: runs[i]}
		}
		return memory.View(list, in)
	}
	for i := range damages {
		r, d := rand.New(rand.NewPCG(uint64(i), 67)), kinds[[]string{"program", "random"}[i%2]]
		parts := [][]byte{d[:1024], d[1024:3072], d[2500:4000]}
		made := slices.Clone(parts)
		made[i%3] = damages[i].make(r, bytes.Clone(parts[i%3]))
		made[i%3] = made[i%3][:min(len(made[i%3]), len(parts[i%3]))]
		list = append(list, outcome{"of three parts, " + damages[i].name, lay(parts...), lay(made...), Options{Erased: 0xFF}})
		if i%3 == 0 {
			made[1], made[2] = append(parts[1][:1024:1024], parts[2][:1024]...), append(parts[1][1024:1548:1548], parts[2][524:]...)
			list = append(list,
				outcome{"of three parts, some swapped, " + damages[i].name, lay(parts...), lay(made...), Options{Erased: 0xFF}})
		}
	}
	// Pages that are swapped, several pairs of them, at the beginning and at the end; and what
	// lies so far apart that there are more lines of addresses than are looked at.
	for n, pairs := range [][][2]int{{{0, 7}}, {{0, 1}, {6, 7}}, {{1, 5}, {2, 6}}, {{1, 3}, {5, 6}, {0, 7}}, {{0, 2}, {1, 3}}} {
		for _, size := range []int{128, 256, 500} {
			d := kinds["random"][:8*size]
			made := bytes.Clone(d)
			for _, p := range pairs {
				copy(made[p[0]*size:], d[p[1]*size:(p[1]+1)*size])
				copy(made[p[1]*size:], d[p[0]*size:(p[0]+1)*size])
			}
			add(fmt.Sprintf("swaps %d of %d", n, size), d, bytes.Clone(made), Options{Erased: 0xFF})
			copy(made[3*size+20:], d[:size/2])
			add(fmt.Sprintf("swaps %d of %d, and a copy", n, size), d, made, Options{Erased: 0xFF})
		}
	}
	for line := 30; line <= 34; line++ {
		far := uint64(1) << line
		runs := func(second []byte) *memory.Image {
			return memory.View([]memory.Run{{First: 0x100, Data: kinds["random"][:512]}, {First: 0x100 + far, Data: second}}, in)
		}
		list = append(list,
			outcome{fmt.Sprintf("line %d", line), runs(kinds["random"][1024:1536]), runs(kinds["random"][:512]), Options{Erased: 0xFF}})
	}
	for _, size := range []int{250, 255, 256, 300, 600} {
		for strays := 7; strays <= 9; strays++ {
			data := kinds["random"][:size]
			made := bytes.Clone(data)
			for at := range made {
				made[at] |= 0x10
			}
			for at := range strays {
				made[20+at*9] &^= 0x10
			}
			for at := size / 2; at < size/2+64; at++ {
				made[at] = data[at^1] | 0x10
			}
			add(fmt.Sprintf("%d bytes, a bit reads as 1 but for %d, and others reversed", size, strays), data, made, Options{Erased: 0xFF})
		}
	}
	// What is found below a change of all bytes, and beside a bit that never changes.
	for i := range damages {
		for k := range damages {
			if last := &damages[k]; last.name == "data bit" || last.name == "words of 4" || last.name == "inverted" && i%2 == 0 {
				r, x := rand.New(rand.NewPCG(uint64(k), 61)), &damages[i]
				data := kinds[[]string{"program", "random"}[(i+k)%2]][:2048]
				made := last.make(r, append(x.make(r, bytes.Clone(data)), bytes.Repeat([]byte{0xFF}, len(data))...)[:len(data)])
				for at := range 8 * (i % 3) {
					made[at*31%len(made)] = byte(at * 77)
				}
				add(x.name+", then "+last.name, data, made, Options{Erased: 0xFF})
			}
		}
	}
	zeros := bytes.ReplaceAll(kinds["program"], []byte{0xFF}, []byte{0})
	for i := range 6 {
		add("zeros, "+damages[i].name, zeros, damages[i].make(rand.New(rand.NewPCG(1, 47)), bytes.Clone(zeros)), Options{Erased: 0})
	}
	old, _ := memory.FromBytes(0x8000, kinds["random"], in)
	for _, erased := range []byte{0xFF, 0} {
		made := bytes.Clone(kinds["program"])
		for i := 0x400; i < 0x600; i++ {
			if made[i] &= kinds["random"][i]; erased == 0 {
				made[i] = kinds["program"][i] | kinds["random"][i]
			}
		}
		unknown := bytes.Clone(made)
		copy(made[0xC00:], kinds["random"][0xC00:0xE00])
		add("program, over and of another", kinds["program"], made, Options{Erased: erased, Others: []Other{{"old", old}}})
		add("program, over one not known", kinds["program"], unknown, Options{Erased: erased})
		// Address lines that were open while it was programmed.
		open := bytes.Clone(kinds["program"])
		for i := range open {
			if open[i] &= kinds["program"][i^0x40]; erased == 0 {
				open[i] = kinds["program"][i] | kinds["program"][i^0x40]
			}
		}
		add("program, address line open", kinds["program"], open, Options{Erased: erased})
	}
	// Transferred as text, in other ways.
	text := bytes.ReplaceAll(kinds["program"], []byte{0x10}, []byte("\r\n"))
	for _, to := range [][2]string{{"\r\n", "\n"}, {"\r", "\r\r"}, {"\x00", ""}} {
		add("text", text, bytes.ReplaceAll(text, []byte(to[0]), []byte(to[1])), Options{Erased: 0xFF})
	}
	ends := bytes.Clone(kinds["random"])
	ends[0x634] = 0x1A
	add("ends at 1A", ends, ends[:0x634], Options{Erased: 0xFF})
	// Addresses of words taken for those of bytes, and the other way.
	data := kinds["program"]
	was, _ := memory.FromBytes(0, data, in)
	for _, record := range []int{16, 32} {
		var twice []memory.Run
		half := make([]byte, len(data)/2)
		for at := 0; at < len(data); at += record {
			twice = append(twice, memory.Run{First: uint64(2 * at), Data: data[at : at+record]})
			copy(half[at/2:], data[at:at+record/2])
		}
		halved, _ := memory.FromBytes(0, half, in)
		for _, found := range []*memory.Image{memory.View(twice, in), halved} {
			list = append(list, outcome{fmt.Sprintf("records of %d", record), was, found, Options{Erased: 0xFF}})
		}
	}
	for seed := range uint64(90) {
		r := rand.New(rand.NewPCG(seed, 53))
		kind := []string{"program", "random", "table"}[seed%3]
		data := kinds[kind][:1024*(1+r.IntN(4))]
		d := &damages[r.IntN(len(damages))]
		made := bytes.Clone(data)
		if seed%4 > 0 {
			made = d.make(r, made)
		}
		for range r.IntN(5) {
			made[r.IntN(len(made))] ^= 1 << r.IntN(8)
		}
		base := uint64(0x8000 + 16*r.IntN(8))
		was, _ := memory.FromBytes(base, data, in)
		found, _ := memory.FromBytes(base, made, in)
		for range r.IntN(4) {
			first := base + uint64(r.IntN(len(data)))
			hole := memory.Span{First: first, Last: first + uint64(r.IntN(300))}
			switch r.IntN(3) {
			case 0:
				was = was.Drop(hole)
			case 1:
				found = found.Drop(hole)
			default:
				was, found = was.Drop(hole), found.Drop(hole)
			}
		}
		o := Options{Erased: []byte{0xFF, 0xFF, 0}[r.IntN(3)], Holes: r.IntN(3) == 0}
		if r.IntN(3) == 0 {
			o.In = []memory.Span{{First: base + 100, Last: base + 900}}
		}
		if r.IntN(3) == 0 {
			o.Places = []Place{{Span: memory.Span{First: base + 40, Last: base + 300}, Name: "serial"}}
		}
		list = append(list, outcome{fmt.Sprintf("%d, %s, %s with holes", seed, kind, d.name), was, found, o})
	}
	return list
}

// TestOutcomes holds every word that is said of damages against what was said before, and read.
func TestOutcomes(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	for _, one := range outcomes(t) {
		d := Of(one.was, one.found, one.options)
		fmt.Fprintf(&b, "%s: %d of %d\n", one.name, d.Explained, d.Differ)
		for i := range d.Causes {
			c := &d.Causes[i]
			fmt.Fprintf(&b, "  %s: %s; %s; %v %v\n", c.Kind, c.Says(), d.Counts(c), c.Where, c.Advice)
		}
		if d.Rest != "" {
			fmt.Fprintf(&b, "  %s\n", d.Rest)
		}
	}
	golden.File(t, "testdata/outcomes.txt", b.String())
}

// TestFits holds which damages were worth a trial, where those that fit lie, and how sure each
// is, in bits, against what they were: what is said is the best of these.
func TestFits(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	show := func(s *foretold) {
		places := s.sampled(400)
		addresses := make([]uint64, len(places))
		for k, i := range places {
			addresses[k] = s.address(i)
		}
		for _, r := range rows {
			n := 0
			for _, a := range r.acts(s, r) {
				if a.likely(s, places, addresses) {
					n++
				}
			}
			if n > 0 {
				fmt.Fprintf(&b, " %s %d,", r.name, n)
			}
		}
		fits := s.fits()
		fmt.Fprintf(&b, " fit %d in %d..%d %v\n", len(fits), s.from, s.to, s.local)
		for _, f := range fits[:min(len(fits), 4)] {
			assert.InDelta(t, s.restCost(s.with(f).differing()), s.costWith(f), 1e-9, "of the rest, foretold")
			fmt.Fprintf(&b, "  %s: %d..%d, %d..%d, %v, slack %d..%d; +%d -%d; %.1f for %.1f\n", f.row.name,
				f.from, f.to, f.also[0], f.also[1], f.all, f.slackFrom, f.slackTo, f.explains, f.spoils, f.score, f.cost)
		}
	}
	for k, one := range outcomes(t) {
		p := newPair(one.was, one.found, one.options)
		s := p.begin()
		if n, _ := s.differing(); n == 0 || strings.Contains(one.name, " then ") || k%2 == 1 {
			continue
		}
		fmt.Fprintf(&b, "%s:", one.name)
		show(s)
		if fits := s.fits(); len(fits) > 0 {
			next := s.with(fits[0])
			if n, _ := next.differing(); n > 0 {
				b.WriteString(" then")
				show(next)
			}
		}
	}
	golden.File(t, "testdata/fits.txt", b.String())
}

// TestDistinctBytes counts different bytes.
func TestDistinctBytes(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	for size := range 600 {
		w, seen := make([]byte, size), map[byte]bool{}
		for i := range w {
			w[i] = byte(r.Uint32())
			seen[w[i]] = true
		}
		require.Equal(t, len(seen), distinct(w))
	}
	for v := range 256 {
		require.Equal(t, 1, distinct([]byte{byte(v), byte(v)}), v)
	}
}

// TestOverWhatIsLeft programs over bytes of something else without an erase: enough of them, and
// most of those that could change, tell it.
func TestOverWhatIsLeft(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	for _, c := range []struct {
		size, every int // of each so many bytes one is changed
		tells       bool
	}{{15, 1, false}, {64, 1, true}, {400, 1, true}, {400, 2, false}, {400, 3, false}, {400, 9, false}} {
		was, found := make([]byte, c.size), make([]byte, c.size)
		for i := range was {
			was[i] = byte(r.Uint32()) | 0x3C // so that each loses four bits or more
			if found[i] = was[i]; i%c.every == 0 {
				found[i] &= byte(r.Uint32()) &^ 0x3C
			}
		}
		expected, ok := memory.FromBytes(0x100, was, &source.Input{Name: "a"})
		require.True(t, ok)
		read, ok := memory.FromBytes(0x100, found, &source.Input{Name: "b"})
		require.True(t, ok)
		text := ""
		for _, cause := range Of(expected, read, Options{Erased: 0xFF}).Causes {
			text += cause.Text + "\n"
		}
		assert.Equal(t, c.tells, strings.Contains(text, "without an erase over something else"), "%d, every %d: %s", c.size, c.every, text)
	}
}

// TestWhereTextsEnd cuts an image short before, between and behind bytes that end texts.
func TestWhereTextsEnd(t *testing.T) {
	data := []byte("harbour tide gauge\x1A\x1Astation")
	in := &source.Input{Name: "test"}
	expected, _ := memory.FromBytes(0x100, data, in)
	for n, more := range map[int]bool{17: false, 18: true, 19: false, 20: false} {
		found, _ := memory.FromBytes(0x100, data[:n], in)
		s := newPair(expected, found, Options{Erased: 0xFF}).begin()
		words := s.filledWords(domain{from: n, to: len(data)}, 0xFF)
		assert.Equal(t, more, strings.HasSuffix(words, "; the next byte is 1A, which ends texts"), "%d: %s", n, words)
		assert.Contains(t, words, fmt.Sprintf("truncated: nothing from 0x%04X on", 0x100+n))
	}
}

// TestWhatFollowsWhatIsMissing tells a truncated image from one with a part missing, by what
// was expected and found behind it.
func TestWhatFollowsWhatIsMissing(t *testing.T) {
	in := &source.Input{Name: "test"}
	data := make([]byte, 0x100)
	for i := range data {
		data[i] = byte(i*i>>3 + i)
	}
	image := func(size int, last []byte) *memory.Image {
		m, _ := memory.FromBytes(0x100, data[:size], in)
		if len(last) > 0 {
			m, _ = m.Write(in, 0x300, last)
		}
		return m
	}
	erased, other := bytes.Repeat([]byte{0xFF}, 16), bytes.Repeat([]byte{0x11}, 16)
	for _, c := range []struct {
		expected, found []byte // at 0x300
		truncated       bool
	}{
		{nil, nil, true}, {erased, nil, true}, {erased, erased, true}, {nil, erased, true},
		{other, other, false}, {erased, other, false}, {nil, other, false},
	} {
		s := newPair(image(0x100, c.expected), image(0x50, c.found), Options{Erased: 0xFF}).begin()
		assert.Equal(t, c.truncated, strings.HasPrefix(s.filledWords(domain{from: 0x50, to: 0x100}, 0xFF), "truncated: nothing from 0x0150 on"),
			"%x %x", c.expected, c.found)
	}
}

// TestWhatIsLeftCosts holds the cost of what a damage leaves, and what is counted as not
// erased, against all bytes gone through one by one.
func TestWhatIsLeftCosts(t *testing.T) {
	r := rand.New(rand.NewPCG(17, 4))
	in := &source.Input{Name: "test"}
	for range 300 {
		expected, found := make([]byte, 64), make([]byte, 64)
		for i := range expected {
			expected[i] = byte(r.IntN(3)) - 1
			if found[i] = expected[i]; r.IntN(6) == 0 && i > 10 && i < 50 {
				found[i] = byte(r.IntN(3)) - 1
			}
		}
		one, _ := memory.FromBytes(0x100, expected, in)
		two, _ := memory.FromBytes(0x100, found, in)
		s := newPair(one, two, Options{Erased: 0xFF}).begin()
		part := func() (from, to int) {
			from = r.IntN(64)
			return from, from + r.IntN(65-from)
		}
		f := &fitted{act: &act{at: func(i int, _ uint64) (byte, bool) { return byte(i % 2), i%5 > 0 }}}
		f.from, f.to = part()
		f.also[0], f.also[1] = part()
		s.from, s.to = len(found), len(found)
		s.eachDiffering(func(i int) { s.from, s.to = min(s.from, i), i+1 })
		differ, runs, before := 0, 0, false
		for i, b := range expected {
			if (i >= f.from && i < f.to || i >= f.also[0] && i < f.also[1]) && i%5 > 0 {
				b = byte(i % 2)
			}
			odd := b != found[i]
			if odd {
				differ++
			}
			if odd && !before {
				runs++
			}
			before = odd
		}
		assert.Equal(t, s.restCost(differ, runs), s.costWith(f), "%v %v", f.domain, f.also)
		count := 0
		for i := f.from; i < f.to; i++ {
			if expected[i] != 0xFF || found[i] != 0xFF {
				count++
			}
		}
		assert.Equal(t, count, s.unerased(f.from, f.to))
	}
}

// TestWindows asks for all windows of four bytes that an image has.
func TestWindows(t *testing.T) {
	in := &source.Input{Name: "test"}
	one, _ := memory.FromBytes(0x100, []byte{1, 1, 1, 1, 2, 3}, in)
	two, _ := memory.FromBytes(0x200, []byte{4, 5, 6, 7, 7, 7, 7}, in)
	both, _ := memory.Merge([]*memory.Image{one, two}, memory.First)
	windows := map[uint32]bool{}
	for _, w := range []uint32{0x02_01_01_01, 0x03_02_01_01, 0x07_06_05_04, 0x07_07_06_05, 0x07_07_07_06} {
		windows[w] = true
	}
	assert.Equal(t, windows, newPair(both, one, Options{Erased: 0xFF}).windows())
}
