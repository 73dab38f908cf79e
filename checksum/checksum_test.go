package checksum

import (
	"bytes"
	"context"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/source"
)

var in = &source.Input{Name: "f", Counting: source.Offsets}

func kind(t *testing.T, name string) *Kind {
	t.Helper()
	k, err := KindOf(name)
	require.NoError(t, err)
	return k
}

func TestGoldenValues(t *testing.T) {
	for _, c := range []struct{ name, data, want string }{
		{"CRC-32/ISO-HDLC", "123456789", "0xCBF43926"},
		{"crc-16/modbus", "123456789", "0x4B37"},
		{"CRC-32C", "123456789", "0xE3069283"},
		{"SUM-8", "\xFF\x02", "0x01"},
		{"SUM-16", "\xFF\x02", "0x0101"},
		{"SUM-16/LITTLE", "\x01\x02\x03\x04\xFF\xFF\x00\x00\x01\x00", "0x0604"},
		{"SUM-16/BIG", "\x01\x02\x03\x04\xFF\xFF\x00\x00\x00\x01", "0x0406"},
		{"SUM-32/LITTLE/TWOS", "\x01\x00\x00\x00\x02\x00\x00\x00", "0xFFFFFFFD"},
		{"SUM-32/BIG/ONES", "\x00\x00\x00\x01\x00\x00\x00\x02", "0xFFFFFFFC"},
		{"XOR-8", "\x0F\xF0\x01", "0xFE"},
		{"XOR-16/BIG", "\x12\x34\xFF\x00\x00\x01", "0xED35"},
		{"FLETCHER-16", "abcde", "0xC8F0"},
		{"FLETCHER-32", "abcde", "0xF04FC729"},
		{"FLETCHER-64", "abcde", "0xC8C6C527646362C6"},
		{"FLETCHER-16", "abcdefgh", "0x0627"},
		{"FLETCHER-32", "abcdefgh", "0xEBE19591"},
		{"FLETCHER-64", "abcdefgh", "0x312E2B28CCCAC8C6"},
		{"ADLER-32", "Wikipedia", "0x11E60398"},
		{"INTERNET", "\x00\x01\xF2\x03\xF4\xF5\xF6\xF7", "0x220D"}, // RFC 1071, section 3: the sum is DDF2
		{"POSIX-CKSUM", "123456789", "0x377A6011"},
		{"MD5", "abc", "900150983cd24fb0d6963f7d28e17f72"},
		{"SHA-1", "abc", "a9993e364706816aba3e25717850c26c9cd0d89d"},
		{"SHA-256", "abc", "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"},
		{"SHA3-256", "", "a7ffc6f8bf1ed76651c14756a061d662f580ff4de43b49fa82d80a4b80f8434a"},
		{"BLAKE2S-256", "abc", "508c5e8c327c14e2e1a72ba34eeb452f37458b209ed63a294d999b4c86675982"},
		{"width=16 poly=0x8005 refin=true refout=true", "123456789", "0xBB3D"},
	} {
		assert.Equal(t, c.want, kind(t, c.name).Sum(1, []byte(c.data)).String(), c.name)
		half := len(c.data) / 2
		assert.Equal(t, c.want, kind(t, c.name).Sum(2, []byte(c.data)[:half], []byte(c.data)[half:]).String(), "%s in pieces", c.name)
	}
	assert.Equal(t, "BLAKE2B-512", kind(t, "blake2b").Name)
	for text, want := range map[string]string{"crc32": "CRC-32/ISO-HDLC", "CRC16modbus": "CRC-16/MODBUS", "sum_32": "SUM-32",
		"md-5": "MD5", "crc 32c": "CRC-32/ISCSI"} {
		assert.Equal(t, want, kind(t, text).Name)
	}
	for text, want := range map[string]string{
		"CRC-32/ISO-HDCL": `algorithm "CRC-32/ISO-HDCL"; did you mean CRC-32/ISO-HDLC?`,
		"width=8":         "a CRC needs poly=",
		"ccit":            `algorithm "ccit"; algorithms known by it: CRC-16/IBM-3740, CRC-16/KERMIT, CRC-16/SPI-FUJITSU`,
		"little":          "SUM-64/LITTLE, SUM-16/LITTLE/ONES, SUM-32/LITTLE/ONES, SUM-64/LITTLE/ONES, and 9",
		"16":              `unknown algorithm "16"`,
	} {
		_, err := KindOf(text)
		assert.ErrorContains(t, err, want)
	}
}

// TestSumsAgainstDefinition holds the sums that take eight bytes at a time
// against adding up word by word.
func TestSumsAgainstDefinition(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for n := range 1500 {
		data := make([]byte, n)
		for i := range data {
			data[i] = byte(r.IntN(256)) | byte(n%2*255)
		}
		var bytes uint64
		for _, b := range data {
			bytes += uint64(b)
		}
		require.Equal(t, bytes, sumBytes(data))
		for _, word := range []int{2, 4, 8} {
			for _, big := range []bool{false, true} {
				var sum, xor uint64
				whole := data[:n-n%word]
				for i := 0; i < len(whole); i += word {
					sum += wordOf(data[i:i+word], big)
					xor ^= wordOf(data[i:i+word], big)
				}
				require.Equal(t, sum, sumWords(whole, word, big))
				require.Equal(t, xor, xorWords(whole, word, big))
			}
		}
	}
}

func TestStored(t *testing.T) {
	v := Value{0x12, 0x34}
	for _, c := range []struct {
		o     memory.Order
		width int
		want  []byte
	}{{memory.Big, 0, []byte{0x12, 0x34}}, {memory.Little, 0, []byte{0x34, 0x12}}, {memory.Big, 4, []byte{0, 0, 0x12, 0x34}},
		{memory.Little, 4, []byte{0x34, 0x12, 0, 0}}} {
		got, err := v.Stored(c.o, c.width)
		require.NoError(t, err)
		assert.Equal(t, c.want, got)
	}
	_, err := v.Stored(memory.Big, 1)
	assert.EqualError(t, err, "the value 0x1234 does not fit into 1 byte")
	digest := Value(strings.Repeat("x", 32))
	got, err := digest.Stored(memory.Little, 0)
	require.NoError(t, err)
	assert.Equal(t, []byte(digest), got, "digests have no byte order")
	_, err = ParseValue("0x12G4")
	assert.ErrorContains(t, err, "is not a check value")
	v, err = ParseValue("0x0_12")
	require.NoError(t, err)
	assert.Equal(t, Value{0, 0x12}, v)
}

func image(t *testing.T, first uint64, data string) *memory.Image {
	t.Helper()
	m, ok := memory.FromBytes(first, []byte(data), in)
	require.True(t, ok)
	return m
}

func TestFeed(t *testing.T) {
	a, b := image(t, 0x10, "abcdefgh"), image(t, 0x20, "ijkl")
	m, _ := memory.Merge([]*memory.Image{a, b}, memory.First)
	dot := byte('.')
	sp := func(first, last uint64) memory.Span { return memory.Span{First: first, Last: last} }
	place := sp(0x12, 0x13)
	outside := sp(0x18, 0x19)
	for name, c := range map[string]struct {
		f    Feed
		want string
	}{
		"a span":              {Feed{Spans: []memory.Span{sp(0x11, 0x13)}}, "bcd"},
		"in the order given":  {Feed{Spans: []memory.Span{sp(0x20, 0x21), sp(0x10, 0x11)}}, "ijab"},
		"skipped":             {Feed{Spans: []memory.Span{sp(0x10, 0x17)}, Skip: []memory.Span{sp(0x11, 0x15)}}, "agh"},
		"holes filled":        {Feed{Spans: []memory.Span{sp(0x0E, 0x24)}, Hole: &dot}, "..abcdefgh........ijkl."},
		"holes alone":         {Feed{Spans: []memory.Span{sp(0x30, 0x32)}, Hole: &dot}, "..."},
		"words":               {Feed{Spans: []memory.Span{sp(0x10, 0x17)}, Word: 4}, "dcbahgfe"},
		"words over pieces":   {Feed{Spans: []memory.Span{sp(0x10, 0x10), sp(0x20, 0x20)}, Word: 2}, "ia"},
		"slot skipped":        {Feed{Spans: []memory.Span{sp(0x10, 0x15)}, Place: &place, Slot: SlotSkip}, "abef"},
		"slot zero":           {Feed{Spans: []memory.Span{sp(0x10, 0x15)}, Place: &place, Slot: SlotZero}, "ab\x00\x00ef"},
		"slot erased":         {Feed{Spans: []memory.Span{sp(0x10, 0x15)}, Place: &place, Slot: SlotErased, Erased: 0xFF}, "ab\xFF\xFFef"},
		"slot in a hole":      {Feed{Spans: []memory.Span{sp(0x17, 0x19)}, Place: &outside, Slot: SlotZero}, "h\x00\x00"},
		"slot lies elsewhere": {Feed{Spans: []memory.Span{sp(0x14, 0x15)}, Place: &place}, "ef"},
	} {
		pieces, err := c.f.Bytes(m)
		require.NoError(t, err, name)
		assert.Equal(t, c.want, string(flat(pieces)), name)
		assert.Equal(t, uint64(len(c.want)), c.f.Size(), name)
	}
	for want, f := range map[string]Feed{
		"there are no bytes at 0x0018..0x001F (8 bytes), 0x0024 (1 byte)": {Spans: []memory.Span{sp(0x10, 0x24)}},
		"the checksum at 0x0012..0x0013 would change its value: the span 0x0010..0x0015": {Spans: []memory.Span{sp(0x10, 0x15)},
			Place: &place},
		"the span has 3 bytes, not a multiple of the word size 2": {Spans: []memory.Span{sp(0x10, 0x12)},
			Word: 2},
		"the holes in 0x0000_0000_0000..0x0002_0000_0000 (8.0 GiB, 8,589,934,593 bytes) are ": {Spans: []memory.Span{sp(0, 1<<33)},
			Hole: &dot},
	} {
		_, err := f.Bytes(m)
		assert.ErrorContains(t, err, want)
	}
	f := Feed{Spans: []memory.Span{sp(0x10, 0x12)}}
	_, err := f.Sum(kind(t, "SUM-16/BIG"), m, 1)
	assert.ErrorContains(t, err, "of the word size 2, as SUM-16/BIG takes them")
}

// firmware returns bytes that look like none of the special cases.
func firmware(r *rand.Rand, n int) []byte {
	data := make([]byte, n)
	for i := range data {
		data[i] = byte(r.IntN(256))
	}
	return data
}

// TestIdentifyFindsWhatWasStored stores the value of every algorithm, and lets
// the search find it from its place.
func TestIdentifyFindsWhatWasStored(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	data := firmware(r, 2048)
	for i := range data[1500:] {
		data[1500+i] = 0xFF // the rest is erased
	}
	for _, k := range Kinds() {
		m := image(t, 0x4000, string(data))
		place := memory.Span{First: 0x47F0, Last: 0x47F0 + uint64(k.Size()) - 1}
		order := memory.OrderOf(r.IntN(2) == 1)
		f := Feed{
			Spans:  []memory.Span{{First: 0x4000, Last: 0x47FF}},
			Place:  &place,
			Slot:   []Slot{SlotSkip, SlotZero, SlotErased}[r.IntN(3)],
			Erased: 0xFF,
		}
		if k.Word > 1 || r.IntN(2) == 0 {
			f.Spans[0].Last, f.Slot = place.First-1, SlotUnsaid
		}
		v, err := f.Sum(k, m, 1)
		require.NoError(t, err)
		stored, err := v.Stored(order, 0)
		require.NoError(t, err)
		m, _ = m.Write(in, place.First, stored)
		hits, tried := Identify(
			context.Background(),
			Query{
				Pairs:  []Pair{{m, stored, &place}},
				Spans:  []NamedSpans{{"image", []memory.Span{{First: 0x4000, Last: 0x47FF}}}},
				Erased: 0xFF,
				Cores:  2,
			},
		)
		assert.Positive(t, tried)
		found := false
		for _, h := range hits {
			found = found || h.Kind == k
		}
		if k.Bits > 4 { // a value of three bits fits nearly anything
			assert.True(t, found, "%s, %v, slot %v: %d hits", k.Name, order, f.Slot, len(hits))
		}
	}
}

func TestIdentifyNarrowsByPairs(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	k := kind(t, "CRC-16/DNP")
	var q Query
	spans := NamedSpans{Text: "image"}
	for i := range 3 {
		m := image(t, 0, string(firmware(r, 300+i)))
		v, err := (&Feed{Spans: []memory.Span{{First: 0, Last: uint64(299 + i)}}}).Sum(k, m, 1)
		require.NoError(t, err)
		q.Pairs = append(q.Pairs, Pair{Image: m, Value: v})
		spans.Spans = append(spans.Spans, memory.Span{First: 0, Last: uint64(299 + i)})
	}
	q.Spans = []NamedSpans{spans}
	hits, _ := Identify(context.Background(), q)
	require.Len(t, hits, 1)
	assert.Equal(t, []source.Setting{{Key: "kind", Value: "CRC-16/DNP"}, {Key: "in", Value: "image"}}, hits[0].Settings)
	assert.Equal(t, memory.Big, hits[0].Order)
	assert.Less(t, hits[0].Chance, 1e-9)
}

func TestRecover(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 10))
	for n := range 40 {
		c := CRC{Width: []int{8, 16, 24, 32, 15, 12}[n%6], RefIn: n%2 == 0}
		c.RefOut = c.RefIn
		c.Poly = r.Uint64()&c.mask() | 1
		c.Init = []uint64{0, c.mask(), r.Uint64() & c.mask()}[n%3]
		c.XorOut = r.Uint64() & c.mask()
		var messages [][]byte
		var values []Value
		for i := range 7 {
			size := 60
			if i == 6 {
				size = 61 // another length settles init and xorout
			}
			m := firmware(r, size)
			messages = append(messages, m)
			stored, _ := number(c.Sum(1, m), c.Width).Stored(memory.OrderOf(n%2 == 0), 0)
			values = append(values, stored)
		}
		found, err := Recover(messages, values)
		require.NoError(t, err)
		right := false
		for _, f := range found {
			if f.CRC.Poly != c.Poly || f.CRC.Width != c.Width {
				continue
			}
			right = true
			if len(f.Open) == 0 {
				assert.Equal(t, c.Sum(1, []byte("123456789")), f.CRC.Sum(1, []byte("123456789")), "%s against %s", c, f.CRC)
			}
			for i, m := range messages {
				stored, _ := number(f.CRC.Sum(1, m), c.Width).Stored(f.Order, 0)
				assert.Equal(t, values[i], Value(stored), "%s against %s", c, f.CRC)
			}
		}
		assert.True(t, right, "%s: found %v", c, found)

		found, err = Recover(messages[:6], values[:6])
		require.NoError(t, err)
		require.NotEmpty(t, found, "%s", c)
		assert.Contains(t, found[0].Open[0], "images of other lengths settle them")
	}
	_, err := Recover([][]byte{{1}, {2}, {1, 2}}, []Value{{1}, {2}, {3}})
	assert.ErrorContains(t, err, "three or more images of equal length")
	found, err := Recover([][]byte{{1, 2, 3, 4}, {2, 3, 4, 5}, {9, 8, 7, 1}, {0, 0, 1, 7}}, []Value{{1, 9}, {2, 7}, {3, 200}, {7, 77}})
	require.NoError(t, err)
	assert.Empty(t, found, "there is none")
}

// TestDifferences holds the shares of changed bytes of each algorithm against its values.
func TestDifferences(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 24))
	told := map[string]int{}
	for _, k := range Kinds() {
		d := k.Difference()
		if d == nil {
			assert.Contains(t, []string{"digest", "other"}, k.Group, k.Name)
			continue
		}
		told[k.Group]++
		number := func(b []byte) uint64 {
			n, ok := k.Sum(1, b).Number()
			require.True(t, ok, k.Name)
			return n
		}
		for range 20 {
			data := make([]byte, 8*(1+r.IntN(12)))
			for i := range data {
				data[i] = byte(r.Uint32())
			}
			changed := bytes.Clone(data)
			share := uint64(0)
			for range 3 {
				at := r.IntN(len(data))
				n := 1 + r.IntN(min(len(data)-at, 9))
				was := bytes.Clone(changed[at : at+n])
				for i := range n {
					changed[at+i] = byte(r.Uint32())
				}
				share = d.Join(share, d.Of(was, changed[at:at+n], uint64(at), uint64(len(data))))
			}
			assert.Equal(t, number(changed), d.Join(number(data), share), k.Name)
			assert.Equal(t, number(data), d.Without(number(changed), share), k.Name)
		}
		assert.Equal(t, k.Group == "sum", d.Adds(), k.Name)
	}
	assert.Equal(t, 30, told["sum"])
	assert.Greater(t, told["XOR"], 10)
	assert.Greater(t, told["CRC"], 100)
}

// TestWhatWouldHaveGivenIt tells the setting that gives an expected value.
func TestWhatWouldHaveGivenIt(t *testing.T) {
	m := image(t, 0x100, "123456789abcdef!")
	k, err := KindOf("CRC-16/MODBUS")
	require.NoError(t, err)
	f := &Feed{Spans: []memory.Span{{First: 0x100, Last: 0x10F}}}
	v, err := f.Sum(k, m, 1)
	require.NoError(t, err)
	turned := slices.Clone(v)
	slices.Reverse(turned)
	for _, order := range []memory.Order{memory.Little, memory.Big} {
		assert.Contains(t, f.Explain(k, m, v, turned, order),
			source.Setting{Key: "order", Value: memory.OrderOf(order == memory.Little).String()})
	}
	swapped := *f
	swapped.Word = 2
	other, err := swapped.Sum(k, m, 1)
	require.NoError(t, err)
	assert.Contains(t, f.Explain(k, m, v, other, memory.Little), source.Setting{Key: "swap", Value: "2"})
	assert.Empty(t, f.Explain(k, m, v, Value{0, 0}, memory.Little))
	digest := make(Value, 20)
	for width, ok := range map[int]bool{0: true, 20: true, 21: false, 64: false} {
		b, err := digest.Stored(memory.Little, width)
		assert.Equal(t, ok, err == nil, width)
		if ok {
			assert.Len(t, b, 20)
		}
	}
}

// TestDifferencesFromPlaceToPlace changes long data at places that go up, down and about: what a
// change does there is worked out from the place before.
func TestDifferencesFromPlaceToPlace(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 25))
	for _, name := range []string{"CRC-32/ISO-HDLC", "CRC-32/MPEG-2", "CRC-16/XMODEM", "CRC-16/MODBUS", "CRC-64/XZ", "CRC-8/SMBUS",
		"CRC-24/OS-9"} {
		k := kind(t, name)
		d := k.Difference()
		data := firmware(r, 5000)
		changed := bytes.Clone(data)
		share := uint64(0)
		change := func(at, n int) {
			was := bytes.Clone(changed[at : at+n])
			for i := range n {
				changed[at+i] = byte(r.Uint32())
			}
			share = d.Join(share, d.Of(was, changed[at:at+n], uint64(at), uint64(len(data))))
		}
		for at := 4000; at < 4100; at++ {
			change(at, 1)
		}
		for at := 3990; at > 3700; at -= 3 {
			change(at, 2)
		}
		for range 100 {
			change(r.IntN(4990), 1+r.IntN(9))
		}
		before, _ := k.Sum(1, data).Number()
		after, _ := k.Sum(1, changed).Number()
		assert.Equal(t, after, d.Join(before, share), name)
	}
}

// TestRecoverTakesTheUsual takes, of all pairs of init and xorout that fit images of one length,
// one that is usual.
func TestRecoverTakesTheUsual(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 11))
	for _, c := range []CRC{
		{Width: 16, Poly: 0x2F9B, Init: 0xFFFF}, {Width: 16, Poly: 0x2F9B, Init: 0xFFFF, XorOut: 0xFFFF, RefIn: true, RefOut: true},
		{Width: 16, Poly: 0x2F9B}, {Width: 32, Poly: 0x1234567, XorOut: 0xFFFFFFFF},
		{Width: 32, Poly: 0x1234567, Init: 0xFFFFFFFF, RefIn: true, RefOut: true},
	} {
		var messages [][]byte
		var values []Value
		for range 6 {
			m := firmware(r, 60)
			messages, values = append(messages, m), append(values, number(c.Sum(1, m), c.Width))
		}
		found, err := Recover(messages, values)
		require.NoError(t, err)
		require.NotEmpty(t, found)
		assert.Equal(t, c, found[0].CRC)
	}
}
