package codec

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec/format"
	"mexalt/source"
)

// TestNamesThatFit holds names against formats, and reads each: a name that fits is read
// again, one that does not is refused.
func TestNamesThatFit(t *testing.T) {
	of := func(word string) *format.Format {
		c, err := ParseChoice(word, false)
		require.NoError(t, err)
		return c.Format
	}
	for name, fits := range map[string]string{
		"a.hex": "hex", "a.bin": "raw", "a.s37": "srec", "a": "hex raw srec uf2", "a.unknown": "hex raw srec uf2",
		"a.c": "hex raw srec uf2",
	} {
		for _, word := range []string{"hex", "raw", "srec", "uf2"} {
			want := bytes.Contains([]byte(" "+fits+" "), []byte(" "+word+" "))
			assert.Equal(t, want, NameFits(name, of(word)), "%s %s", name, word)
		}
	}
}

// TestReadersThatFail reads from files that fail at the beginning, in the middle and at the
// end: the error is passed on, never taken for the end of the file.
func TestReadersThatFail(t *testing.T) {
	broken := errors.New("broken")
	text := bytes.Repeat([]byte(":0400000001020304F2\n"), 4000)
	for _, at := range []int{0, 1, 100, sniffed - 1, sniffed, sniffed + 1, len(text)} {
		r := io.MultiReader(bytes.NewReader(text[:at]), iotest.ErrReader(broken))
		f, err := Read(r, "a.hex", -1, ReadOptions{}, &source.Problems{})
		assert.ErrorIs(t, err, broken, "%d", at)
		assert.True(t, f == nil || f.Image == nil, "%d", at)
	}
	// One that fails once, as a disk that is pulled out and put in again does.
	f, err := Read(io.MultiReader(bytes.NewReader(text[:100]), &failsOnce{err: broken}, bytes.NewReader(text[100:])), "a.hex", -1,
		ReadOptions{}, &source.Problems{})
	assert.ErrorIs(t, err, broken)
	assert.Nil(t, f)
	_, err = Read(bytes.NewReader(nil), "a.hex", format.Most+1, ReadOptions{}, &source.Problems{})
	assert.ErrorIs(t, err, source.ErrTooLarge)
	for _, most := range []int64{0, 1, 9, 10, 11} {
		got, err := io.ReadAll(&limitedReader{r: iotest.HalfReader(strings.NewReader("0123456789")), left: most})
		if most >= 10 {
			assert.NoError(t, err)
			assert.Len(t, got, 10)
		} else {
			assert.ErrorIs(t, err, source.ErrTooLarge, "%d", most)
			assert.LessOrEqual(t, int64(len(got)), most)
		}
	}
}

// failsOnce fails at its first reading, and is then at its end.
type failsOnce struct{ err error }

func (f *failsOnce) Read([]byte) (int, error) {
	if err := f.err; err != nil {
		f.err = nil
		return 0, err
	}
	return 0, io.EOF
}
