package proof

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

var read = &source.Input{Name: "f"}

// released writes a manifest of a release of one product, of an image at an address and, with
// tail, of more at 0x9000.
func released(t testing.TB, folder, name, version, variant string, data, tail []byte) string {
	t.Helper()
	image := joined(t, data, tail)
	p := Product{Variant: variant, Set: map[string]string{"version": version},
		Origins: OriginsOf(image, func(n string) string { return n }),
		Regions: []Region{{Name: "low", Span: SpanOf(memory.Span{First: 0x1000, Last: 0x10FF})}}}
	for _, r := range image.Runs() {
		p.Contents.Runs = append(p.Contents.Runs, SpanOf(r.Span()))
	}
	p.Contents.SetBlocks(image)
	p.Config = []Config{{Name: "fuses", Span: SpanOf(memory.Span{First: 0x1001, Last: 0x1002}), Value: "0x1234"}}
	p.Checksums = []Checksum{{Name: "crc", Kind: "CRC-32", In: SpanOf(memory.Span{First: 0x1000, Last: 0x1010}), At: "0x10C0",
		Value: "00000000"}}
	m := &Manifest{Header: Header{Schema: Schema, Tool: "t", Name: name, Release: "r.toml"}, Products: []Product{p}}
	var text bytes.Buffer
	require.NoError(t, m.Write(&text))
	file := filepath.Join(folder, fmt.Sprintf("%s-%s-%s%s", name, version, variant, Extension))
	require.NoError(t, os.WriteFile(file, text.Bytes(), 0o644))
	return file
}

// joined is an image of data at 0x1000 and tail at 0x9000.
func joined(t testing.TB, data, tail []byte) *memory.Image {
	t.Helper()
	runs := []memory.Run{{First: 0x1000, Data: data}}
	if len(tail) > 0 {
		runs = append(runs, memory.Run{First: 0x9000, Data: tail})
	}
	return memory.View(runs, read)
}

func noise(r *rand.Rand, n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.IntN(255)) // never FF
	}
	return b
}

// TestMatch makes three releases of a program and two of another, and finds each by what a
// device said when it was read, whole or changed in a known way.
func TestMatch(t *testing.T) {
	folder := t.TempDir()
	const size, block = 1000, 64 // the last block is shorter
	r := rand.New(rand.NewPCG(1, 2))
	old, next, tail, tail2 := noise(r, size), noise(r, size), noise(r, 100), noise(r, 100)
	copy(next[:256], old[:256]) // they begin alike
	released(t, folder, "gauge", "1.9.0", "", old, tail)
	released(t, folder, "gauge", "1.10.0", "", next, tail)
	released(t, folder, "gauge", "1.10.0", "b", next, tail2)
	released(t, folder, "other", "7", "", noise(r, size), nil)
	names, err := ManifestsIn([]string{folder})
	require.NoError(t, err)
	require.Len(t, names, 4)
	match := func(m *memory.Image) *Matched {
		got := Match(m, "", false, names)
		require.Equal(t, []int{4, 4, 0}, []int{got.Manifests, got.Products, len(got.Unread)})
		return got
	}
	named := func(list []Candidate) (out []string) {
		for i := range list {
			out = append(out, list[i].Name())
		}
		return out
	}
	erased := bytes.Repeat([]byte{0xFF}, 500)

	got := match(joined(t, append(bytes.Clone(old), erased...), tail))
	assert.True(t, got.Exact(), "with erased memory after it")
	assert.Equal(t, []string{"gauge 1.9.0"}, named(got.Candidates))
	assert.Equal(t, "1.10.0", got.Candidates[0].Newer)
	assert.Equal(t, []uint64{size + 100, 0}, []uint64{got.Candidates[0].Equal, got.Candidates[0].Differ})

	got = match(joined(t, next, nil))
	assert.True(t, got.Exact(), "a memory that is missing does not count")
	assert.Equal(t, []string{"gauge 1.10.0", "gauge 1.10.0, variant b"}, named(got.Candidates))
	assert.Equal(t, []memory.Span{{First: 0x9000, Last: 0x9063}}, got.Candidates[0].Missing)
	assert.Empty(t, got.Candidates[0].Newer)

	got = match(memory.View([]memory.Run{{First: 0x9000, Data: tail2}}, read))
	assert.False(t, got.Exact(), "most of it is missing")
	assert.True(t, got.Candidates[0].Part())
	assert.Equal(t, []string{"gauge 1.10.0, variant b"}, named(got.Candidates))

	got = match(joined(t, append(bytes.Clone(next), 0), tail2))
	assert.False(t, got.Exact(), "a byte more")
	assert.Equal(t, []memory.Span{{First: 0x13E8, Last: 0x13E8}}, got.Candidates[0].Other)
	assert.Equal(t, 0, int(got.Candidates[0].Differ))

	got = match(joined(t, append(bytes.Clone(next), next[:size%block+64]...), tail2)) // into the block behind
	assert.NotContains(t, got.Candidates[0].Partial, memory.Span{First: 0x13C0, Last: 0x13E7})
	got = match(memory.View([]memory.Run{{First: 0x1000, Data: next[:1]}, {First: 0x1040, Data: next[64:size]},
		{First: 0x9000, Data: tail2}}, read))
	assert.False(t, got.Exact(), "one byte of the first block")
	assert.Equal(t, []memory.Span{{First: 0x1000, Last: 0x103F}}, got.Candidates[0].Partial)
	assert.Empty(t, got.Candidates[0].Missing)

	got = match(joined(t, next[:size-1], tail2))
	assert.False(t, got.Exact(), "a byte less")
	assert.Equal(t, []memory.Span{{First: 0x13C0, Last: 0x13E7}}, got.Candidates[0].Partial)

	for at := 0; at < size; at += golden.Every(3) {
		one := bytes.Clone(next)
		one[at] ^= 1
		got = match(joined(t, one, tail))
		require.False(t, got.Exact())
		first := uint64(0x1000 + at/block*block)
		require.Equal(t, []string{"gauge 1.10.0", "gauge 1.10.0, variant b", "gauge 1.9.0"}, named(got.Candidates))
		want := Difference{Span: memory.Span{First: first, Last: min(first+block-1, 0x13E7)}, From: []string{"f"}}
		if at < 256 {
			want.Region = "low"
		}
		if at < block {
			want.Is = []string{"configuration word fuses, released as 0x1234"}
		}
		if at/block == 3 {
			want.Is = []string{"checksum crc"}
		}
		require.Equal(t, []Difference{want}, got.Candidates[0].Differences)
		require.Equal(t, got.Candidates[0].Equal, uint64(size+100)-want.Size())
		require.Nil(t, got.Torn)

		torn := append(bytes.Clone(next[:at]), old[at:]...)
		got = match(joined(t, torn, tail))
		switch {
		case at < 256+block: // of none but the old, but for a block at most
			require.Equal(t, "gauge 1.9.0", got.Candidates[0].Name())
			require.Nil(t, got.Torn)
		case at < size/block*block:
			require.NotNil(t, got.Torn, "at %d", at)
			boundary := uint64(0x1000 + (at+block-1)/block*block)
			require.Equal(t, []any{"gauge 1.10.0", "gauge 1.9.0", boundary},
				[]any{got.Torn.Below.Name(), got.Torn.From.Name(), got.Torn.At})
			require.Equal(t, at%block != 0, len(got.Torn.Between) == 1)
		}
	}
	pieces := append(append(bytes.Clone(next[:512]), old[512:768]...), next[768:]...)
	got = match(joined(t, pieces, tail))
	assert.Nil(t, got.Torn, "in the middle of it is no boundary")
	require.Len(t, got.Candidates[0].Differences, 1)
	assert.Equal(t, "gauge 1.9.0", got.Candidates[0].Differences[0].As)

	assert.Empty(t, match(joined(t, erased, nil)).Candidates)
	assert.Empty(t, match(memory.View([]memory.Run{{First: 0x1040, Data: next}}, read)).Candidates, "moved")
}

// TestManyAreLikeIt shows the nearest of many releases, and says how many more there are; of what
// is whole, those that are as whole alone.
func TestManyAreLikeIt(t *testing.T) {
	folder := t.TempDir()
	r := rand.New(rand.NewPCG(3, 4))
	data := noise(r, 1000)
	const releases = 9
	for k := range releases {
		one := bytes.Clone(data)
		one[k*64]++
		released(t, folder, "gauge", fmt.Sprint(k), "", one, nil)
	}
	names, err := ManifestsIn([]string{folder})
	require.NoError(t, err)
	got := Match(joined(t, data, nil), "", false, names)
	require.Len(t, got.Candidates, mostCandidates)
	assert.Equal(t, releases-mostCandidates, got.More)
	whole := bytes.Clone(data)
	whole[64]++
	got = Match(joined(t, whole, nil), "", false, names)
	require.Len(t, got.Candidates, 1)
	assert.Equal(t, "gauge 1", got.Candidates[0].Name())
	assert.Zero(t, got.More)
}

// TestMatchOfRawBytes places bytes without addresses where a release begins.
func TestMatchOfRawBytes(t *testing.T) {
	folder := t.TempDir()
	r := rand.New(rand.NewPCG(3, 4))
	data, tail := noise(r, 640), noise(r, 128)
	name := released(t, folder, "gauge", "1", "", data, tail)
	for first, part := range map[uint64][]byte{0x1000: data, 0x9000: tail} {
		image, _ := memory.FromBytes(0, part, read)
		got := Match(image, "", true, []string{name})
		require.Len(t, got.Candidates, 1)
		assert.Equal(t, first, *got.Candidates[0].First)
		assert.Equal(t, uint64(len(part)), got.Candidates[0].Equal)
		assert.Equal(t, first == 0x1000, got.Exact())
	}
}

// TestManifestsThatAreNone tells of each, and looks at the others.
func TestManifestsThatAreNone(t *testing.T) {
	folder := t.TempDir()
	good := released(t, folder, "gauge", "1", "", []byte("0123456789"), nil)
	inside := filepath.Join(folder, "inside")
	require.NoError(t, os.Mkdir(inside, 0o755))
	bad := filepath.Join(inside, "b"+Extension)
	require.NoError(t, os.WriteFile(bad, []byte(`{"schema":"mexalt.manifest/1"}`), 0o644))
	names, err := ManifestsIn([]string{folder, good})
	require.NoError(t, err)
	assert.Equal(t, []string{good, bad}, names, "each once")
	alone, err := ManifestsIn([]string{good, filepath.Join(folder, "..", filepath.Base(folder), filepath.Base(good))})
	require.NoError(t, err)
	assert.Contains(t, alone, good, "a file that is named")
	for _, name := range []string{"u" + BatchExtension, "u" + LogExtension} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), nil, 0o644))
		none, err := ManifestsIn([]string{filepath.Join(folder, name)})
		require.NoError(t, err)
		assert.Empty(t, none, "of units")
	}
	got := Match(joined(t, []byte("0123456789"), nil), "", false, names)
	assert.True(t, got.Exact())
	require.Len(t, got.Unread, 1)
	assert.ErrorContains(t, got.Unread[0], `it is of the form "mexalt.manifest/1"`)
	_, err = ManifestsIn([]string{filepath.Join(folder, "none")})
	assert.ErrorContains(t, err, "no such file")
}

// TestHostileBlocks goes through blocks that have no length, too much, or lie at the end of all.
func TestHostileBlocks(t *testing.T) {
	digests := strings.Repeat("0123456789ABCDEF", 4)
	for _, c := range []struct {
		block       uint64
		first, last uint64
		blocks      int
	}{
		{0, 0, 0xFF, 0}, {1 << 40, 0, 0xFF, 0}, {64, 0, 0xFF, 4}, {64, 0, 0x80, 3}, {64, math.MaxUint64 - 0xFF, math.MaxUint64, 0},
		{128, 0x40, 0xFF, 2},
	} {
		contents := Contents{Block: c.block, Blocks: digests, Runs: []Span{{memory.PlainAddress(c.first), memory.PlainAddress(c.last)}}}
		n := 0
		contents.eachBlock(func(block memory.Span, digest uint64, ok bool) {
			n++
			assert.True(t, ok)
			assert.EqualValues(t, 0x0123456789ABCDEF, digest)
			assert.LessOrEqual(t, block.Last, c.last)
			require.Less(t, n, 10)
		})
		assert.Equal(t, c.blocks, n, "%+v", c)
	}
}

// TestDigestsOfRuns are the first 128 bits of a SHA-256.
func TestDigestsOfRuns(t *testing.T) {
	assert.Equal(t, "ba7816bf8f01cfea414140de5dae2223", runDigest([]byte("abc"))) // FIPS 180-4, of "abc"
}

// BenchmarkMatch looks an image up in 1,000 manifests.
func BenchmarkMatch(b *testing.B) {
	folder := b.TempDir()
	r := rand.New(rand.NewPCG(5, 6))
	var names []string
	var last []byte
	for i := range 1000 {
		last = noise(r, 32<<10)
		names = append(names, released(b, folder, "gauge", fmt.Sprintf("1.%d.0", i), "", last, nil))
	}
	image := joined(b, last, nil)
	for b.Loop() {
		if !Match(image, "", false, names).Exact() {
			b.Fatal("not found")
		}
	}
}

// TestMatchOfSealedImages tells images apart whose CRCs are right in both: the CRC of the block
// that ends with it is the same, whatever the block has.
func TestMatchOfSealedImages(t *testing.T) {
	data := noise(rand.New(rand.NewPCG(7, 8)), 640)
	sealed := func(with byte) []byte {
		d := bytes.Clone(data)
		d[600] = with
		binary.LittleEndian.PutUint32(d[636:], crc32.ChecksumIEEE(d[:636]))
		return d
	}
	name := released(t, t.TempDir(), "gauge", "1", "", sealed(1), nil)
	require.Equal(t, crc32.ChecksumIEEE(sealed(1)[576:]), crc32.ChecksumIEEE(sealed(2)[576:]))
	got := Match(joined(t, sealed(2), nil), "", false, []string{name})
	assert.False(t, got.Exact())
	assert.Equal(t, uint64(64), got.Candidates[0].Differ)
	assert.True(t, Match(joined(t, sealed(1), nil), "", false, []string{name}).Exact())
}

// FuzzMatch reads damaged manifests, which neither panic nor take long.
func FuzzMatch(f *testing.F) {
	data := noise(rand.New(rand.NewPCG(9, 10)), 300)
	text, err := os.ReadFile(released(f, f.TempDir(), "gauge", "1.0.0", "", data, []byte("0123456789abcdef")))
	require.NoError(f, err)
	f.Add(text)
	for _, change := range [][2]string{{`"block": 64`, `"block": 4294967296`}, {"0x1000", "0xFFFFFFFFFFFFFFFF"},
		{"0x112B", "0xFFFFFFFFFFFFFFFF"}, {`"1.0.0"`, `"v"`}} {
		f.Add(bytes.ReplaceAll(text, []byte(change[0]), []byte(change[1])))
	}
	image := joined(f, data, nil)
	folder := f.TempDir()
	f.Fuzz(func(t *testing.T, text []byte) {
		name := filepath.Join(folder, "f"+Extension)
		require.NoError(t, os.WriteFile(name, text, 0o644))
		for _, unplaced := range []bool{false, true} {
			got := Match(image, "", unplaced, []string{name})
			for i := range got.Candidates {
				c := &got.Candidates[i]
				assert.LessOrEqual(t, c.Equal+c.Differ, image.Bytes()*uint64(1+len(c.product.Contents.Runs)))
			}
		}
	})
}

// TestMatchByDigest finds a file by its digest among the outputs and the inputs of releases, before
// all that is alike: one that a release only read beside its inputs is none of them.
func TestMatchByDigest(t *testing.T) {
	folder := t.TempDir()
	sum := func(n int) string { return strings.Repeat(fmt.Sprint(n), 64) }
	alike, data := []byte("0123456789 and so on, for a block"), []byte("something else of the same length")
	for i, one := range []struct {
		version, output, input, other string
		data                          []byte
	}{{"1", sum(1), sum(2), sum(3), data}, {"2", sum(4), sum(5), sum(6), alike}, {"3", sum(1), sum(7), sum(2), data}} {
		image := joined(t, one.data, nil)
		p := Product{Set: map[string]string{"version": one.version}, Origins: OriginsOf(image, func(n string) string { return n })}
		p.Contents.Runs = []Span{SpanOf(image.Runs()[0].Span())}
		p.Contents.SetBlocks(image)
		p.Inputs = []Input{{Name: "in", File: "in.hex"}}
		p.Outputs = []Output{{File: "first.hex", SHA256: sum(8)}, {File: "out.hex", SHA256: one.output}}
		m := &Manifest{Header: Header{Schema: Schema, Tool: "t", Name: "r", Release: "r.toml",
			Read: []ReadFile{{File: "in.hex", SHA256: one.input}, {File: "other.csv", SHA256: one.other}}}, Products: []Product{p}}
		var text bytes.Buffer
		require.NoError(t, m.Write(&text))
		require.NoError(t, os.WriteFile(filepath.Join(folder, fmt.Sprint(i)+Extension), text.Bytes(), 0o644))
	}
	names, err := ManifestsIn([]string{folder})
	require.NoError(t, err)
	for digest, want := range map[string][2]string{ // of an image as release 2 made it, and of one that is none of them
		"": {"2 ; ", ""}, sum(1): {"1 out.hex; 3 out.hex; 2 ; ", "1 out.hex; 3 out.hex; "}, sum(2): {"2 ; ", "1 in in.hex; "},
		sum(3): {"2 ; ", ""}, sum(4): {"2 out.hex; ", "2 out.hex; "},
		sum(5): {"2 in in.hex; ", "2 in in.hex; "}, sum(7): {"2 ; ", "3 in in.hex; "},
		sum(8): {"2 first.hex; 1 first.hex; 3 first.hex; ", "1 first.hex; 2 first.hex; 3 first.hex; "}, sum(9): {"2 ; ", ""},
	} {
		for i, bytes := range [][]byte{alike, []byte("a third one, which is not like it")} {
			said := ""
			for _, c := range Match(joined(t, bytes, nil), digest, false, names).Candidates {
				said += c.Version + " " + c.Output
				if c.Input != "" {
					said += "in " + c.Input
				}
				said += "; "
			}
			assert.Equal(t, want[i], said, digest)
		}
	}
}

// TestNothingThatTells holds that bytes of one value, which many releases have, make no image a
// release, though all of them are as released.
func TestNothingThatTells(t *testing.T) {
	for telling, whole := range map[uint64]bool{0: false, 1: true} {
		c := Candidate{Input: "in", Equal: 64, telling: telling}
		assert.Equal(t, whole, c.Whole())
		assert.Equal(t, whole, (&Matched{Candidates: []Candidate{c}}).Exact())
	}
}
