// Package codectest holds readers and writers of formats to what all of them promise, in
// the tests of each.
package codectest

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec/format"
	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

var errFull = errors.New("no space is left")

// full takes some bytes, and then no more; or, where it is freed, all again after one failure.
type full struct {
	left  int
	freed bool
}

func (f *full) Write(b []byte) (int, error) {
	if len(b) > f.left {
		n := f.left
		if f.left = 0; f.freed {
			f.left = math.MaxInt
		}
		return n, errFull
	}
	f.left -= len(b)
	return len(b), nil
}

// Writes writes an image, and again to where there is too little space: each error is
// returned. It returns what was written.
func Writes(t testing.TB, w format.Writer, m *memory.Image) []byte {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, w.Write(&b, m))
	step := max(b.Len()/97, 1)
	for n := 0; n < b.Len(); n += step {
		require.ErrorIs(t, w.Write(&full{left: n}, m), errFull, "%d bytes of %d", n, b.Len())
		require.ErrorIs(t, w.Write(&full{left: n, freed: true}, m), errFull, "%d bytes of %d, and then there is space", n, b.Len())
	}
	require.NoError(t, w.Write(&full{left: b.Len()}, m))
	return b.Bytes()
}

// Reads reads a file in pieces of all sizes and gets the same image each time, and gets the
// error of a file that cannot be read on.
func Reads(t testing.TB, reader func() format.Reader, data []byte) *memory.Image {
	t.Helper()
	read := func(r io.Reader, size int64, cores int) (*format.Content, *source.Problems, error) {
		problems := &source.Problems{}
		c, err := reader().Read(r, &source.Input{Name: "f"}, format.ReadOptions{Size: size, Cores: cores}, problems)
		return c, problems, err
	}
	whole, problems, err := read(bytes.NewReader(data), int64(len(data)), 1)
	require.NoError(t, err)
	for _, r := range []io.Reader{
		iotest.OneByteReader(bytes.NewReader(data)),
		iotest.HalfReader(bytes.NewReader(data)),
		iotest.DataErrReader(bytes.NewReader(data)),
	} {
		for _, size := range []int64{-1, int64(len(data))} {
			c, again, err := read(r, size, 2)
			require.NoError(t, err)
			require.Equal(t, problems.Count(), again.Count())
			require.True(t, whole.Image.Equal(c.Image))
			require.Equal(t, whole.Facts, c.Facts)
			r = bytes.NewReader(data)
		}
	}
	broken := errors.New("the cable is out")
	for _, n := range []int{0, len(data) / 2, len(data)} {
		_, _, err = read(io.MultiReader(bytes.NewReader(data[:n]), iotest.ErrReader(broken)), -1, 2)
		assert.ErrorIs(t, err, broken, "after %d bytes of %d", n, len(data))
	}
	return whole.Image
}

// Edited reads many files that differ from these in a few places, strictly and leniently, and
// holds what comes of each against what came of it before.
func Edited(t *testing.T, file string, n int, reader func() format.Reader, files map[string]string) {
	t.Helper()
	golden.Edited(t, file, n, files, func(_, text string) string {
		var b strings.Builder
		for _, o := range []format.ReadOptions{{}, {Lenient: true, Size: int64(len(text)), Cores: 2}} {
			var problems source.Problems
			content, err := reader().Read(strings.NewReader(text), &source.Input{Name: "f"}, o, &problems)
			fmt.Fprintln(&b, err)
			for _, p := range problems.Sorted() {
				fmt.Fprintln(&b, p)
			}
			if content == nil {
				continue
			}
			fmt.Fprintln(&b, content.Facts, content.Unproven, content.WrittenAs)
			if p := content.Program; p != nil {
				symbols, err := p.Symbols()
				fmt.Fprintln(&b, p.Machine, p.Bits, p.Order, p.Entry, p.BuildID, p.Sections, symbols, err)
			}
			if m := content.Image; m != nil {
				fmt.Fprintf(&b, "%+v %q\n", m.Start(), m.Header())
				for _, run := range m.Runs() {
					first, _ := m.Origin(run.First)
					last, _ := m.Origin(run.First + uint64(len(run.Data)) - 1)
					fmt.Fprintf(&b, "%#x %x %s %s\n", run.First, run.Data, first, last)
				}
			}
		}
		return b.String()
	})
}
