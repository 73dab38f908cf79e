package source

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPlaces(t *testing.T) {
	assert.Equal(t, "boot.hex:12", (&Input{Name: "boot.hex"}).Place(12))
	assert.Equal(t, "table.bin+0x40", (&Input{Name: "table.bin", Counting: Offsets}).Place(0x40))
	assert.Equal(t, "fill", (&Input{Name: "fill", Counting: Operation}).Place(7))
}

func TestProblemsAreSortedAndCounted(t *testing.T) {
	var ps Problems
	assert.NoError(t, ps.Err())
	ps.Add(&Problem{File: "b", Line: 1, What: "w", Severity: Warning})
	assert.NoError(t, ps.Err(), "a warning spoils nothing")
	ps.Add(&Problem{File: "a", Line: 9, Column: 3, What: "x", Expected: "y", Advice: Advise("z")})
	ps.Add(&Problem{File: "a", Line: 9, Column: 2, What: "v"})
	ps.Add(&Problem{File: "a", What: "whole file"})
	var lines []string
	for _, p := range ps.Sorted() {
		lines = append(lines, p.Error())
	}
	assert.Equal(t, []string{"a: error: whole file", "a:9:2: error: v", "a:9:3: error: x; y (z)", "b:1: warning: w"}, lines)
	assert.Equal(t, "a: error: whole file (and 2 more errors)", ps.Error())
	var as *Problems
	assert.True(t, errors.As(ps.Err(), &as))

	for range MostKept {
		ps.Add(&Problem{File: "c"})
	}
	assert.Len(t, ps.Sorted(), MostKept, "a hostile file does not fill memory with problems")
	assert.Equal(t, MostKept+4, ps.Count())
	assert.Equal(t, MostKept+3, ps.Errors())
}

func TestNearest(t *testing.T) {
	known := []string{"application", "bootloader", "data"}
	assert.Equal(t, "application", Nearest("Aplication", known))
	assert.Equal(t, "", Nearest("calibration table", known))
	assert.Equal(t, "did you mean bootloader?", DidYouMean("botloader", known))
	assert.Equal(t, "known: application, bootloader, data", DidYouMean("x", known))
	assert.Equal(t, "", DidYouMean("x", nil))
}

func TestAdviceIsWordedByTheInterface(t *testing.T) {
	a := Advice{Text: "fill them first", AnyOf: []Setting{{Key: "holes", Value: "FF", Does: "writes them as FF"}}}
	assert.Equal(t, "fill them first; holes FF writes them as FF", a.In(nil))
	a = Advice{Text: "store it", Action: &Action{"seal", []Setting{{Key: "only", Value: "crc"}}}}
	assert.Equal(t, "store it: seal only crc", a.In(nil))
	assert.Equal(t, "", Advice{}.In(nil))
}

func TestVisible(t *testing.T) {
	for text, want := range map[string]string{
		"plain – ä": "plain – ä", "a\x1b[31mb": `a\x1B[31mb`, "\u009b1m": `\x9B1m`, "x\u202eabc": `x\u202Eabc`, "a\nb\tc": `a\nb\tc`,
		"bad\xffbyte": `bad\xFFbyte`, "\u2028": `\u2028`, "\uFFFD": "\uFFFD", "zero\u200bwidth": `zero\u200Bwidth`,
	} {
		assert.Equal(t, want, Visible(text))
	}
}

func TestFilesAreRecorded(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "a.bin")
	require.NoError(t, os.WriteFile(name, []byte("abc"), 0o644))
	f := Files{Digest: true, Stdin: strings.NewReader("in")}
	file, err := f.Open(name, "image")
	require.NoError(t, err)
	assert.Equal(t, int64(3), file.Size)
	_, err = io.ReadAll(file)
	require.NoError(t, err)
	require.NoError(t, file.Close())
	in, err := f.Open("-", "image")
	require.NoError(t, err)
	_, err = io.ReadAll(in)
	require.NoError(t, err)
	_, err = f.Open("-", "image")
	assert.ErrorIs(t, err, ErrStdinTwice)
	list := f.Recorded()
	require.Len(t, list, 2)
	assert.Equal(t, "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad", fmt.Sprintf("%x", list[0].SHA256()))
	assert.Equal(t, int64(3), list[0].Size)
	assert.Equal(t, StandardInput, list[1].Name)
	assert.Equal(t, uint64(5), f.TotalRead())

	link := filepath.Join(dir, "b.bin")
	require.NoError(t, os.Link(name, link))
	info, err := os.Stat(link)
	require.NoError(t, err)
	assert.Equal(t, list[0], f.Find(info), "by another name it is still the file that was read")

	_, err = f.Open(filepath.Join(dir, "c.bin"), "image")
	assert.ErrorContains(t, err, "cannot read "+filepath.Join(dir, "c.bin")+": no such file; did you mean ")
	_, err = f.Open(filepath.Join(dir, "no", "c.bin"), "image")
	assert.ErrorContains(t, err, ": no folder "+filepath.Join(dir, "no"))
	file, err = f.Open(name, "image")
	require.NoError(t, err)
	_, err = file.Read(make([]byte, 2))
	require.NoError(t, err)
	require.NoError(t, file.Close())
	assert.Nil(t, file.Recorded().SHA256(), "a digest of a part would pass for that of the file")
	_, err = f.ReadAll(name, "device map", 2)
	assert.ErrorContains(t, err, "larger than the 2 bytes that a device map may have")
}

// resuming gives more after its end, as a terminal does.
type resuming struct{ parts []string }

func (r *resuming) Read(b []byte) (int, error) {
	if len(r.parts) == 0 || r.parts[0] == "" {
		r.parts = r.parts[min(1, len(r.parts)):]
		return 0, io.EOF
	}
	n := copy(b, r.parts[0])
	r.parts[0] = r.parts[0][n:]
	return n, nil
}

func TestAFileStaysAtItsEnd(t *testing.T) {
	f := Files{Digest: true, Stdin: &resuming{[]string{"abc", "def"}}}
	file, err := f.Open("-", "image")
	require.NoError(t, err)
	for range 2 {
		_, err = io.ReadAll(file)
		require.NoError(t, err)
	}
	require.NoError(t, file.Close())
	assert.Equal(t, int64(3), file.Recorded().Size)
	assert.Equal(t, "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad", fmt.Sprintf("%x", file.Recorded().SHA256()))
}

// TestVeryLongNames holds no names against each other for which that would take long.
func TestVeryLongNames(t *testing.T) {
	long := strings.Repeat("a", 400_000)
	assert.Empty(t, Nearest(long+"b", []string{long + "c"}))
	assert.Equal(t, "flash", Nearest("flahs", []string{long, "flash"}))
}
