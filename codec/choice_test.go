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
		"hx":    `"hx" is no format; did you mean hex?`,
		"":      `"" is no format; `,
		"raw:2": `"raw:2": raw has no addresses that could count words`,
		"hex:3": `"hex:3": "3" is none of 1, 2, 4 bytes an address`,
		"hex:":  `"hex:": "" is none of 1, 2, 4 bytes an address`,
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
