package uf2

import (
	"bytes"
	"crypto/md5"
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec/codectest"
	"mexalt/codec/format"
	"mexalt/internal/golden"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
)

func image(t testing.TB, parts map[uint64]string) *memory.Image {
	t.Helper()
	var list []*memory.Image
	for first, data := range parts {
		m, ok := memory.FromBytes(first, []byte(data), &source.Input{Name: "f"})
		require.True(t, ok)
		list = append(list, m)
	}
	m, _ := memory.Merge(list, memory.First)
	return m
}

func write(t testing.TB, w *Writer, m *memory.Image) []byte {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, w.Write(&b, m))
	return b.Bytes()
}

func read(t testing.TB, data []byte, o format.ReadOptions, own ...Reader) (*format.Content, *source.Problems) {
	t.Helper()
	var problems source.Problems
	own = append(own, Reader{})
	c, err := own[0].Read(bytes.NewReader(data), &source.Input{Name: "f.uf2"}, o, &problems)
	require.NoError(t, err)
	return c, &problems
}

var fill = byte(0xFF)

// TestBlockIsLaidOutAsSaid holds a block against the format's description, byte
// by byte.
func TestBlockIsLaidOutAsSaid(t *testing.T) {
	data := strings.Repeat("0123456789abcdef", 16)
	for _, digests := range []bool{false, true} {
		file := write(t, &Writer{Family: "0x12345678", Digests: digests}, image(t, map[uint64]string{0x1000_0100: data}))
		require.Len(t, file, 512)
		want := []byte("UF2\n\x57\x51\x5D\x9E")
		flags := uint32(0x2000)
		if digests {
			flags |= 0x4000
		}
		for _, n := range []uint32{flags, 0x1000_0100, 256, 0, 1, 0x1234_5678} {
			want = binary.LittleEndian.AppendUint32(want, n)
		}
		want = append(append(want, data...), make([]byte, 476-256)...)
		if digests {
			sum := md5.Sum([]byte(data))
			at := want[32+476-24:]
			binary.LittleEndian.PutUint32(at, 0x1000_0100)
			binary.LittleEndian.PutUint32(at[4:], 256)
			copy(at[8:], sum[:])
		}
		want = append(want, 0x30, 0x6F, 0xB1, 0x0A)
		assert.Equal(t, want, file)
	}
}

func TestWrittenAndReadIsTheSame(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		parts := map[uint64]string{}
		for range 1 + r.IntN(4) {
			data := make([]byte, 1+r.IntN(2000))
			for i := range data {
				data[i] = byte(r.Uint32())
			}
			parts[uint64(r.IntN(1<<16))] = string(data)
		}
		m := image(t, parts)
		w := &Writer{Digests: r.IntN(2) == 0, Holes: &fill, Family: []string{"", "none", "0x00000007"}[r.IntN(3)]}
		file := write(t, w, m)
		c, problems := read(t, file, format.ReadOptions{})
		require.Zero(t, problems.Count())
		for _, run := range m.Runs() {
			got := make([]byte, len(run.Data))
			require.True(t, c.Image.ReadAt(got, run.First))
			require.Equal(t, run.Data, got)
		}
		more := c.Image.Cut(memory.Without(memory.Complement(nil), spansOf(m))...)
		for _, run := range more.Runs() {
			require.Empty(t, bytes.Trim(run.Data, "\xFF"), "what the image has no bytes for is filled")
		}
		assert.Equal(t, file, write(t, &Writer{Digests: w.Digests, Family: c.WrittenAs[0].Value}, c.Image),
			"written again it is the same file")
		o, _ := c.Image.Origin(m.Runs()[0].First)
		assert.Regexp(t, `^f\.uf2\+0x[0-9A-F]+ \(block 0\)$`, o.String())
	}
}

func spansOf(m *memory.Image) (list []memory.Span) {
	for _, r := range m.Runs() {
		list = append(list, r.Span())
	}
	return list
}

// TestEveryChangedBitIsReported changes each bit of a file in turn: the change
// is reported, or the image stays the same.
func TestEveryChangedBitIsReported(t *testing.T) {
	m := image(t, map[uint64]string{0x2000: strings.Repeat("harbour tide gauge", 60)})
	file := write(t, &Writer{Family: "0x0BADCAFE", Digests: true, Holes: &fill}, m)
	whole, _ := read(t, file, format.ReadOptions{})
	for i := 0; i < len(file)*8; i += golden.Every(3) {
		changed := slices.Clone(file)
		changed[i/8] ^= 1 << (i % 8)
		c, problems := read(t, changed, format.ReadOptions{})
		if problems.Count() == 0 {
			require.True(t, whole.Image.Equal(c.Image), "bit %d of byte %d", i%8, i/8)
		}
	}
}

func TestBlocksThatAreWrong(t *testing.T) {
	m := image(t, map[uint64]string{0x2000: strings.Repeat("harbour tide gauge", 60)})
	plain := write(t, &Writer{Holes: &fill}, m)
	blocks := func() [][]byte { return slices.Collect(slices.Chunk(slices.Clone(plain), blockSize)) }
	set := func(b []byte, at int, n uint32) []byte {
		b = slices.Clone(b)
		binary.LittleEndian.PutUint32(b[at:], n)
		return b
	}
	other := blocks()[2]
	other[headSize] ^= 1
	for name, c := range map[string]struct {
		file    [][]byte
		want    string
		lenient bool // whether it passes when that is asked for
	}{
		"lost": {slices.Delete(blocks(), 2, 3),
			"f.uf2: error: block 2 at offset 0x400 has number 3; expected 2: blocks are lost or out of order", false},
		"lost at the end": {blocks()[:4], "1 of 5 blocks is missing: 4 (the copy may", false},
		"two lost":        {blocks()[:3], "2 of 5 blocks are missing: 3, 4", false},
		"doubled": {slices.Insert(blocks(), 3, blocks()[2]),
			"block 3 at offset 0x600 has number 2, which a block before it has", false},
		"another one in its place": {slices.Replace(blocks(), 3, 4, other),
			"block 3 at offset 0x600 has number 2, which a block before it has", false},
		"swapped": {[][]byte{blocks()[0], blocks()[2], blocks()[1], blocks()[3], blocks()[4]},
			"block 1 at offset 0x200 has number 2", true},
		"another count": {slices.Replace(blocks(), 2, 3, set(blocks()[2], 24, 9)),
			"block 2 at offset 0x400 says that there are 9 blocks, block 0 says 5", false},
		"a number too high": {slices.Replace(blocks(), 2, 3, set(blocks()[2], 20, 5)),
			"block 2 at offset 0x400 has number 5 of 5 blocks; they count from 0", false},
		"an end mark": {slices.Replace(blocks(), 1, 2, set(blocks()[1], 508, 7)),
			"block 1 at offset 0x200 does not have the marks of a block: 0A324655 9E5D5157 ... 00000007", false},
		"cut short": {append(blocks()[:4], blocks()[4][:100]),
			"block 4 at offset 0x800 is truncated: it has 100 of 512 bytes; get the", false},
		"no payload": {slices.Replace(blocks(), 1, 2, set(blocks()[1], 16, 0)),
			"block 1 at offset 0x200 gives a size of 0 bytes; expected 1 to 476", false},
		"too much payload":      {slices.Replace(blocks(), 1, 2, set(blocks()[1], 16, 477)), "gives a size of 477 bytes", false},
		"past the last address": {slices.Replace(blocks(), 1, 2, set(blocks()[1], 12, math.MaxUint32)), "runs past 0xFFFF_FFFF", false},
		"a file in a container": {slices.Replace(blocks(), 1, 2, set(blocks()[1], 8, fileContainer)), "part of a file, not of an image",
			false},
		"another family between": {slices.Replace(blocks(), 1, 2, set(set(blocks()[1], 8, familyPresent), 28, 7)),
			"the file has blocks of 2 families; expected one of none (4 blocks), 0x00000007 (1 block) (choose one; family none, or " +
				"family 0x00000007)", false},
		"other values there": {slices.Replace(blocks(), 1, 2, set(blocks()[1], 12, 0x2000)),
			"block 1 at offset 0x200 gives 0x2000..0x20FF (256 bytes) other values than f.uf2+0x20 (block 0)", false},
		"MD5 of something else": {slices.Replace(blocks(), 1, 2, set(set(blocks()[1], 8, md5Present), digestAt, 0x9000)),
			"has an MD5 of 0 bytes from 0x9000, where its 256 bytes at 0x2100 are not", false},
		"empty": {nil, "the file has no block", false},
	} {
		t.Run(name, func(t *testing.T) {
			content, problems := read(t, bytes.Join(c.file, nil), format.ReadOptions{})
			require.Error(t, problems.Err())
			var all []string
			for _, p := range problems.Sorted() {
				all = append(all, p.Error())
			}
			assert.Contains(t, strings.Join(all, "\n"), c.want)
			assert.True(t, content.Image.Empty())
			content, problems = read(t, bytes.Join(c.file, nil), format.ReadOptions{Lenient: true})
			assert.Equal(t, c.lenient, problems.Errors() == 0)
			assert.NotEqual(t, c.lenient, content.Image.Empty())
		})
	}
	c, problems := read(t, bytes.Join(slices.Replace(blocks(), 4, 5, set(blocks()[4], 8, notMainFlash)), nil), format.ReadOptions{})
	require.NoError(t, problems.Err())
	assert.Equal(t, "f.uf2: warning: 1 block for other memory than the main flash are left out", problems.Sorted()[0].Error())
	assert.Equal(t, uint64(1024), c.Image.Bytes())
}

func TestFamilies(t *testing.T) {
	a := write(t, &Writer{Family: "0x00000001"}, image(t, map[uint64]string{0: strings.Repeat("a", 512)}))
	b := write(t, &Writer{Family: "0x00000002"}, image(t, map[uint64]string{0: strings.Repeat("b", 256)}))
	both := append(slices.Clone(a), b...)
	c, problems := read(t, both, format.ReadOptions{}, Reader{Family: "0x00000002"})
	require.Zero(t, problems.Count())
	assert.Equal(t, uint64(256), c.Image.Bytes())
	assert.Equal(t, "0x00000002", c.WrittenAs[0].Value)
	assert.Equal(t, []format.Fact{{Name: "family", Text: "0x00000002"}, {Name: "blocks", Text: "1"}}, c.Facts)
	_, problems = read(t, both, format.ReadOptions{}, Reader{Family: "none"})
	assert.ErrorContains(t, problems.Err(), "no block is of family none; expected one of 0x00000001 (2 blocks), 0x00000002 (1 block)")

	var family string
	key := familyKey(&family)
	require.NoError(t, key.Set("7"))
	assert.Equal(t, "0x00000007", family)
	require.NoError(t, familyKey(&family).Set("0xFFFFFFFF"))
	assert.Equal(t, "0xFFFFFFFF", family)
	assert.Error(t, familyKey(&family).Set("0x1_0000_0000"))
	assert.Error(t, familyKey(&family).Set("harbour"))
}

// TestDigestOfSeveralBlocks reads a file in which one MD5 covers two blocks, as
// other writers have it.
func TestDigestOfSeveralBlocks(t *testing.T) {
	data := strings.Repeat("0123456789abcdef", 32)
	file := write(t, &Writer{Digests: true}, image(t, map[uint64]string{0x4000: data}))
	sum := md5.Sum([]byte(data))
	for n := range 2 {
		at := file[n*blockSize+digestAt:]
		binary.LittleEndian.PutUint32(at, 0x4000)
		binary.LittleEndian.PutUint32(at[4:], 512)
		copy(at[8:], sum[:])
	}
	_, problems := read(t, file, format.ReadOptions{})
	require.Zero(t, problems.Count())
	file[headSize]++
	_, problems = read(t, file, format.ReadOptions{})
	assert.ErrorContains(t, problems.Err(),
		"block 0 at offset 0x0 is damaged, or another block of its span is: the MD5 of 0x4000..0x41FF (512 bytes) is")
	file[headSize]--
	file[blockSize+digestAt+8]++ // the second says another one
	_, problems = read(t, file, format.ReadOptions{})
	require.Equal(t, 1, problems.Count())
	assert.ErrorContains(t, problems.Err(),
		"block 1 at offset 0x200 is damaged, or another block of its span is: the MD5 of 0x4000..0x41FF (512 bytes) is")
	file[blockSize+digestAt+8]--
	binary.LittleEndian.PutUint32(file[digestAt+4:], 1024)
	_, problems = read(t, file[:blockSize], format.ReadOptions{})
	assert.Equal(t, 2, problems.Count())
}

func TestWhatCannotBeWritten(t *testing.T) {
	for _, c := range []struct {
		m    *memory.Image
		want string
	}{
		{&memory.Image{}, "the image contains no bytes"},
		{image(t, map[uint64]string{math.MaxUint32: "ab"}), "the image ends at 0x0001_0000_0000, UF2 reaches up to 0xFFFF_FFFF"},
		{image(t, map[uint64]string{0x10: "ab"}),
			"a UF2 block has 256 bytes, and the image has 2 holes within blocks: the first is 0x0000..0x000F (16 bytes) (fill them " +
				"first; holes FF writes them as FF)"},
	} {
		_, err := (&Writer{}).Check(c.m)
		assert.ErrorContains(t, err, c.want)
		assert.Error(t, (&Writer{}).Write(&bytes.Buffer{}, c.m))
	}
	m := image(t, map[uint64]string{0: strings.Repeat("a", 256)}).WithHeader([]byte("HDR")).
		WithStart(memory.Start{Kind: memory.LinearStart, Value: 4})
	notes, err := (&Writer{}).Check(m)
	require.NoError(t, err)
	assert.Equal(t, []string{`the header "HDR" is left out; UF2 has none`, "the start address 0x0004 is left out; UF2 has none"}, notes)
}

func FuzzRead(f *testing.F) {
	f.Add(write(f, &Writer{Digests: true, Holes: &fill, Family: "0x00000001"},
		image(f, map[uint64]string{0x100: "abc", 0x2000: strings.Repeat("x", 700)})), "")
	f.Add(write(f, &Writer{Holes: &fill}, image(f, map[uint64]string{0: "abc"})), "none")
	f.Fuzz(func(t *testing.T, data []byte, family string) {
		var problems source.Problems
		c, err := (&Reader{Family: family}).Read(bytes.NewReader(data), &source.Input{Name: "f"}, format.ReadOptions{}, &problems)
		if err != nil {
			t.Fatal(err)
		}
		if c.Image.Bytes() > uint64(len(data)) {
			t.Fatal("more bytes than the file")
		}
		if problems.Count() == 0 && c.Image.Bytes() == 0 {
			t.Fatal("nothing was read, and nothing is wrong")
		}
		if problems.Errors() == 0 {
			again, more := read(t, write(t, &Writer{Holes: &fill, Digests: true}, c.Image), format.ReadOptions{})
			if more.Count() > 0 || again.Image.Count(memory.Span{First: 0, Last: math.MaxUint32}) < c.Image.Bytes() {
				t.Fatal(fmt.Sprint("written and read again it is another image ", more.Err()))
			}
		}
	})
}

// TestBlocksAtTheBounds has blocks, families and digests that are just right, and just not.
func TestBlocksAtTheBounds(t *testing.T) {
	big := image(t, map[uint64]string{0x2000: strings.Repeat("0123456789abcdef", 16*300)})
	w := &Writer{Digests: true, Family: "5"}
	file := codectest.Writes(t, w, big)
	assert.Len(t, file, 300*blockSize)
	codectest.Reads(t, Format.Reader, file)
	codectest.Writes(t, w, image(t, map[uint64]string{0: strings.Repeat("0123456789abcdef", 16*256)})) // ends with a write of many blocks
	codectest.Reads(t, Format.Reader, file[:1000])

	block := write(t, &Writer{}, image(t, map[uint64]string{0: strings.Repeat("a", 256)}))
	with := func(b []byte, words map[int]uint32) []byte {
		b = slices.Clone(b)
		for at, n := range words {
			binary.LittleEndian.PutUint32(b[at:], n)
		}
		return b
	}
	_, problems := read(t, with(block, map[int]uint32{12: math.MaxUint32 - 255}), format.ReadOptions{})
	assert.Zero(t, problems.Count(), "up to the last address")
	_, problems = read(t, with(block, map[int]uint32{16: 476}), format.ReadOptions{})
	assert.Zero(t, problems.Count())
	for at, n := range map[int]uint32{0: 1, 4: 1, 508: 1} {
		_, problems = read(t, with(block, map[int]uint32{at: n}), format.ReadOptions{})
		assert.ErrorContains(t, problems.Err(), "does not have the marks of a block", at)
	}

	// Families, one block each.
	families := func(n int) (all []byte) {
		for i := range n {
			all = append(all, with(block, map[int]uint32{8: familyPresent, 28: uint32(i)})...)
		}
		return all
	}
	for n, want := range map[int]string{5: "(choose one; family 0x00000000, or family 0x00000001, or family 0x00000002, or family " +
		"0x00000003)", 1001: "is of one family more than 1000", 1000: "blocks of 1000 families"} {
		_, problems = read(t, families(n), format.ReadOptions{})
		assert.ErrorContains(t, problems.Err(), want)
		assert.Equal(t, 1+n/1001, problems.Errors())
	}
	var family string
	require.NoError(t, familyKey(&family).Set("none"))
	assert.Equal(t, "none", family)

	// A block that two have, with the same values, is a deviation.
	twice := append(with(block, map[int]uint32{24: 2}), with(block, map[int]uint32{24: 2, 20: 1})...)
	_, problems = read(t, twice, format.ReadOptions{})
	assert.EqualError(
		t,
		problems.Err(),
		"f.uf2: error: block 1 at offset 0x200 gives 0x0000..0x00FF (256 bytes) bytes that f.uf2+0x20 (block 0) gives already, with "+
			"the same values (lenient allows it)",
	)
	c, problems := read(t, twice, format.ReadOptions{Lenient: true})
	require.NoError(t, problems.Err())
	assert.Equal(t, 1, problems.Count())
	assert.Equal(t, uint64(256), c.Image.Bytes())
	assert.Equal(t, "all blocks present, no checksums of its own", c.Unproven)

	// Blocks out of order, each with its own number: lost is what is lost.
	five := slices.Collect(slices.Chunk(write(t, &Writer{}, image(t, map[uint64]string{0: strings.Repeat("b", 256*9)})), blockSize))
	_, problems = read(t, bytes.Join([][]byte{five[0], five[2], five[3]}, nil), format.ReadOptions{Lenient: true})
	assert.ErrorContains(t, problems.Err(), "6 of 9 blocks are missing: 1, 4, 5, 6, ...")
	_, problems = read(t, bytes.Join([][]byte{five[0], five[4], five[1], five[2], five[3], five[5], five[6], five[7], five[8]}, nil),
		format.ReadOptions{Lenient: true})
	assert.NoError(t, problems.Err())
	assert.Equal(t, 1, problems.Count(), "the one that is early; what fills the gap is in its place")

	// Digests: of the same stretch one is kept, of others each; so many that overlap are not computed.
	digested := func(n int, size uint32) []byte {
		b := with(block, map[int]uint32{8: md5Present, 20: uint32(n), 24: 2000, digestAt: 0, digestAt + 4: size})
		binary.LittleEndian.PutUint32(b[12:], uint32(n)*256)
		return b
	}
	var many []byte
	for n := range 2000 {
		many = append(many, digested(n, 256*2000)...)
		binary.LittleEndian.PutUint32(many[len(many)-blockSize+digestAt+8:], uint32(n))
	}
	c, problems = read(t, many, format.ReadOptions{})
	assert.Empty(t, c.Unproven)
	var told []string
	for _, p := range problems.Sorted() {
		told = append(told, p.What)
	}
	require.Len(t, told, 5, "twice the image and a MiB")
	assert.Equal(t, "block 4 at offset 0x800 and 1,995 more have MD5s that were not checked, as they overlap", told[len(told)-1])
}

func TestEditedFiles(t *testing.T) {
	m := image(t, map[uint64]string{0x1000: strings.Repeat("abcd", 100), 0x4000: "\x00xyz"})
	codectest.Edited(t, "testdata/edited.txt", 400, Format.Reader, map[string]string{
		"plain":  string(write(t, &Writer{Holes: &fill}, m)),
		"family": string(write(t, &Writer{Holes: &fill, Family: "0x12345678", Digests: true}, m)),
	})
}

// TestParts writes blocks of several families, one after the other, and reads each again.
func TestParts(t *testing.T) {
	w := Format.Writer(format.WriteOptions{}).(*Writer)
	set := func(name, value string) error { return key.Find(w.Keys(), name).Set(value) }
	require.NoError(t, set("family", "1"))
	require.NoError(t, set("part", "2=0x100..0x2FF"))
	require.NoError(t, set("part", "0x1=0x500..0x5FF"))
	require.NoError(t, set("part", "0x3=0x600,0x200"))
	for text, want := range map[string]string{
		"4": `"4" is not ID=SPAN`, "x=0x700..0x7FF": `"x" is not a number`, "4=?": `"?", character 1`, "4=0x801..0x8FF": "is not whole blocks of 256 bytes",
		"4=0x800..0x8FE": "is not whole blocks of 256 bytes", "4=0x200..0x3FF": "0x0200..0x02FF (256 bytes) is in two parts",
	} {
		assert.ErrorContains(t, set("part", text), want, text)
	}
	require.Equal(t, []Part{
		{memory.Span{First: 0x100, Last: 0x2FF}, "0x00000002"}, {memory.Span{First: 0x500, Last: 0x5FF}, "0x00000001"},
		{memory.Span{First: 0x600, Last: 0x7FF}, "0x00000003"},
	}, w.Parts)
	data := make([]byte, 0x800)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	m := image(t, map[uint64]string{0: string(data)})
	_, err := w.Check(m.Drop(memory.Span{First: 0x500, Last: 0x5FF}))
	assert.ErrorContains(t, err, "the image has no byte in the part 0x0500..0x05FF (256 bytes) of family 0x00000001")
	file := write(t, w, m)
	require.Len(t, file, 8*blockSize)
	for family, spans := range map[string][]memory.Span{
		"0x00000001": {{First: 0, Last: 0xFF}, {First: 0x300, Last: 0x5FF}}, "0x00000002": {{First: 0x100, Last: 0x2FF}},
		"0x00000003": {{First: 0x600, Last: 0x7FF}},
	} {
		c, problems := read(t, file, format.ReadOptions{}, Reader{Family: family})
		require.Zero(t, problems.Count(), problems.Err())
		assert.True(t, c.Image.Equal(m.Cut(spans...)), family)
	}
	var numbers []string
	for at := 0; at < len(file); at += blockSize {
		le := binary.LittleEndian
		numbers = append(numbers,
			fmt.Sprintf("%X:%d/%d of %d", le.Uint32(file[at+12:]), le.Uint32(file[at+20:]), le.Uint32(file[at+24:]),
				le.Uint32(file[at+28:])))
	}
	assert.Equal(t, []string{
		"0:0/4 of 1", "300:1/4 of 1", "400:2/4 of 1", "500:3/4 of 1", "100:0/2 of 2", "200:1/2 of 2", "600:0/2 of 3", "700:1/2 of 3",
	}, numbers)
	// A block of a family is known by both, its number and whether it has one.
	le := binary.LittleEndian
	le.PutUint32(file[4*blockSize+8:], le.Uint32(file[4*blockSize+8:])&^familyPresent)
	_, problems := read(t, file, format.ReadOptions{}, Reader{Family: "0x00000002"})
	require.Equal(t, 2, problems.Count())
	assert.ErrorContains(t, problems.Sorted()[0], "block 5 at offset 0xA00 has number 1; expected 0")
	assert.ErrorContains(t, problems.Sorted()[1], "1 of 2 blocks is missing: 0")

	// Many blocks are written at once.
	long := image(t, map[uint64]string{0: strings.Repeat("ab", 100<<10)})
	count := &counting{}
	require.NoError(t, (&Writer{}).Write(count, long))
	assert.Equal(t, 800*blockSize, count.bytes)
	assert.LessOrEqual(t, count.n, 800/together+2)
	// Without MD5, and with it unless it is said otherwise.
	assert.Equal(t, uint32(familyPresent|md5Present), le.Uint32(file[8:])&(familyPresent|md5Present))
	require.NoError(t, set("md5", "false"))
	assert.Zero(t, le.Uint32(write(t, w, m)[8:])&md5Present)
}

type counting struct{ n, bytes int }

func (c *counting) Write(b []byte) (int, error) {
	c.n++
	c.bytes += len(b)
	return len(b), nil
}
