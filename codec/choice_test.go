package codec

import (
	"bytes"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec/format"
	"mexalt/codec/intel"
	"mexalt/codec/motorola"
	"mexalt/codec/raw"
	"mexalt/key"
	"mexalt/source"
)

func TestParseChoice(t *testing.T) {
	for text, want := range map[string]Choice{
		"hex":    {Format: intel.Format},
		"HEX":    {Format: intel.Format},
		"hex:2":  {Format: intel.Format, Unit: 2},
		"srec:4": {Format: motorola.Format, Unit: 4},
		"raw":    {Format: raw.Format},
		"bin":    {Format: raw.Format},
	} {
		c, err := ParseChoice(text, true)
		require.NoError(t, err, text)
		assert.Equal(t, want.Format, c.Format, text)
		assert.Equal(t, want.Unit, c.Unit, text)
	}
	c, err := ParseChoice("s37", true)
	require.NoError(t, err)
	assert.Equal(t, motorola.Format, c.Format)
	assert.NotEmpty(t, c.Settings, "the word pins the width of addresses")
	for text, want := range map[string]string{
		"hx":    `hx" is not a format; did you mean hex?`,
		"":      ` is not a format`,
		"raw:2": `"raw:2": raw has no addresses that could count words`,
		"hex:3": `hex:3": "3" is not valid; choose 1, 2 or 4 bytes per address`,
		"hex:":  `hex:": "" is not valid; choose 1, 2 or 4 bytes per address`,
	} {
		_, err := ParseChoice(text, false)
		require.Error(t, err, text)
		assert.Contains(t, strings.ToLower(err.Error()), strings.ToLower(want), text)
	}
}

// TestTableOfFormats holds each row against what the rows promise together.
func TestTableOfFormats(t *testing.T) {
	words, extensions := map[string]bool{}, map[string]bool{}
	for _, f := range Formats {
		_, known := f.Settings(f.Word)
		assert.True(t, known, f.Word)
		for _, w := range f.Words {
			assert.False(t, words[w.Word], "%s stands for two formats", w.Word)
			words[w.Word] = true
		}
		for _, extension := range f.Extensions {
			e := extension.Ending
			assert.False(t, extensions[e], "%s promises two formats", e)
			extensions[e] = true
			_, known := f.Settings(extension.Word)
			assert.True(t, known, e)
			assert.Equal(t, f, ChoiceOfName("some.thing"+strings.ToUpper(e)).Format)
		}
		if f.Writer == nil {
			continue
		}
		for _, k := range f.Writer(format.WriteOptions{}).Keys() {
			assert.NotNil(t, key.Find(WriterKeys(), k.Name))
			assert.NotEmpty(t, k.Doc, k.Name)
		}
	}
	assert.Nil(t, ChoiceOfName("name").Format)
}

func TestWriterOfChoice(t *testing.T) {
	c, err := ParseChoice("raw", true)
	require.NoError(t, err)
	_, err = c.Writer(format.WriteOptions{}, []source.Setting{{Key: "crlf"}})
	var wrong *source.KeyError
	require.ErrorAs(t, err, &wrong)
	assert.Equal(t, "crlf", wrong.Key)
	s19, err := ParseChoice("s19", true)
	require.NoError(t, err)
	_, err = s19.Writer(format.WriteOptions{}, s19.Settings)
	assert.NoError(t, err, "a setting takes the place of the one that the word pins")
}

// TestContainersAreNotTakenForRawBytes: they would be programmed with their
// wrapping.
func TestContainersAreNotTakenForRawBytes(t *testing.T) {
	for _, c := range containers {
		var problems source.Problems
		f, err := Read(strings.NewReader(c.magic+"\x00\x01\x02"), "f.bin", -1, ReadOptions{}, &problems)
		require.NoError(t, err)
		assert.Nil(t, f.Image)
		require.Error(t, problems.Err())
		assert.Contains(t, problems.Err().Error(), "the file is "+c.name)

		problems = source.Problems{}
		f, err = Read(strings.NewReader(c.magic), "f.bin", -1, ReadOptions{From: Choice{Format: raw.Format}}, &problems)
		require.NoError(t, err)
		require.NoError(t, problems.Err())
		assert.Equal(t, uint64(len(c.magic)), f.Image.Bytes(), "asked for, its bytes are taken as they are")
	}
}

// TestReadersTakeWhatComes reads the same bytes in one piece, byte by byte, and
// with the size known, wrong, and not known.
func TestReadersTakeWhatComes(t *testing.T) {
	data := bytes.Repeat([]byte("0123456789abcde\x00"), 9_000)
	for _, size := range []int{1, 15, sniffed - 1, sniffed, sniffed + 1, len(data)} {
		for _, told := range []int64{-1, 0, int64(size), int64(size) - 1, int64(size) + 1} {
			for name, r := range map[string]io.Reader{
				"whole":     bytes.NewReader(data[:size]),
				"bytes":     iotest.OneByteReader(bytes.NewReader(data[:size])),
				"error EOF": iotest.DataErrReader(bytes.NewReader(data[:size])),
			} {
				var problems source.Problems
				f, err := Read(r, "f.bin", told, ReadOptions{}, &problems)
				require.NoError(t, err)
				require.NoError(t, problems.Err())
				require.Len(t, f.Image.Runs(), 1)
				assert.True(t, bytes.Equal(data[:size], f.Image.Runs()[0].Data), "%s: %d bytes, told %d", name, size, told)
			}
		}
	}
	var problems source.Problems
	_, err := Read(iotest.TimeoutReader(bytes.NewReader(data)), "f.bin", -1, ReadOptions{}, &problems)
	assert.ErrorIs(t, err, iotest.ErrTimeout)
	_, err = Read(strings.NewReader("x"), "f.bin", format.Most+1, ReadOptions{}, &problems)
	assert.ErrorIs(t, err, source.ErrTooLarge)
}

// TestReadersAreSetByTheirOwnKeys gives settings to whom they are for, and proves them first.
func TestReadersAreSetByTheirOwnKeys(t *testing.T) {
	var kept []source.Setting
	keys := ReaderKeys(&kept)
	names := map[string]int{}
	for _, k := range keys {
		names[k.Name]++
	}
	assert.Equal(t, map[string]int{"virtual": 1, "family": 1, "order": 1}, names, "each once")
	require.NoError(t, key.Find(keys, "order").Set("big"))
	assert.Error(t, key.Find(keys, "family").Set("harbour"))
	assert.Equal(t, []source.Setting{{Key: "order", Value: "big"}}, kept)
	read := func(text string, o ReadOptions) *File {
		var problems source.Problems
		f, err := Read(strings.NewReader(text), "f.memh", -1, o, &problems)
		require.NoError(t, err)
		require.NoError(t, problems.Err())
		return f
	}
	assert.Equal(t, "\x11\x22",
		string(read("@0 1122 ", ReadOptions{Settings: append(kept, source.Setting{Key: "virtual"})}).Image.Runs()[0].Data))
	assert.Equal(t, "\x22\x11", string(read("@0 1122 ", ReadOptions{}).Image.Runs()[0].Data))
	_, err := Read(strings.NewReader("@0 1122 "), "f.memh", -1,
		ReadOptions{Settings: []source.Setting{{Key: "order", Value: "sideways"}}}, &source.Problems{})
	assert.ErrorContains(t, err, "sideways")
	_, err = Read(strings.NewReader(""), "f.hex", format.Most+1, ReadOptions{}, &source.Problems{})
	assert.ErrorIs(t, err, source.ErrTooLarge)
	for name, empty := range map[string]bool{source.StandardInput: true, "f": true, "f.hex": false, "f.bin": false} {
		var problems source.Problems
		_, err := Read(strings.NewReader(""), name, 0, ReadOptions{}, &problems)
		require.NoError(t, err)
		found := false
		for _, p := range problems.Sorted() {
			found = found || p.What == "the input is empty"
		}
		assert.Equal(t, empty, found, name)
	}
	for text, unit := range map[string]int{"hex": 0, "hex:1": 1, "hex:2": 2, "hex:4": 4, "srec:2": 2, "memh:4": 4} {
		c, err := ParseChoice(text, false)
		require.NoError(t, err, text)
		assert.Equal(t, unit, c.Unit, text)
	}
	for _, text := range []string{"hex:3", "hex:8", "hex:", "hex:0", "raw:2", "uf2:2", "hex:x"} {
		_, err := ParseChoice(text, false)
		assert.Error(t, err, text)
	}
	c, err := ParseChoice("s37", true)
	require.NoError(t, err)
	_, err = c.Writer(format.WriteOptions{}, []source.Setting{{Key: "record-length", Value: "0"}})
	assert.ErrorContains(t, err, "record-length")
	for text, json := range map[string]bool{`{"a": 1}`: true, `[1, 2]`: true, `{`: false, `{a}`: false, ` {"a"`: false, `[`: false,
		`["` + strings.Repeat("x", sniffed): true, `[x` + strings.Repeat("x", sniffed): false, `{}`: true, `[]`: true, "": false,
		"x": false} {
		assert.Equal(t, json, isJSON([]byte(text)), text)
	}
}
