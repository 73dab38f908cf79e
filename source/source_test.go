package source

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

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
	assert.Equal(t, []string{"a: error: whole file", "a:9:2: error: v", "a:9:3: error: x; expected y (z)", "b:1: warning: w"}, lines)
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
	// One slip in three characters, and never none.
	for typed, want := range map[string]string{"rexiox": "region", "rexiXX": "", "regionx": "region", "xegio": "", "xegin": "",
		"reg": "region", "re": "", "xn": "in", "region and more of it": ""} {
		assert.Equal(t, want, Nearest(typed, []string{"region", "in"}), typed)
	}
}

// TestReasonsNameNoFile tells why the system refused, without the name that it says too.
func TestReasonsNameNoFile(t *testing.T) {
	for _, inner := range []error{
		&os.PathError{Op: "open", Path: "x", Err: syscall.ENAMETOOLONG},
		&os.LinkError{Op: "rename", Old: "x", New: "y", Err: syscall.ENAMETOOLONG}, syscall.ENAMETOOLONG,
		fmt.Errorf("%w", &os.PathError{Op: "open", Path: "x", Err: syscall.ENAMETOOLONG}),
	} {
		assert.EqualError(t, &SystemError{File: "x", Doing: "read", Err: inner}, "cannot read x: "+syscall.ENAMETOOLONG.Error())
	}
}

// TestLargeFilesAreDigested reads more than waits to be digested, in small and large reads.
func TestLargeFilesAreDigested(t *testing.T) {
	data := make([]byte, 3*mostQueued)
	rand.NewChaCha8([32]byte{7}).Read(data) // so that nothing is like what is read into the same room
	name := filepath.Join(t.TempDir(), "large")
	require.NoError(t, os.WriteFile(name, data, 0o644))
	want := sha256.Sum256(data)
	for _, size := range []int{1 << 12, 1 << 20, len(data)} {
		files := &Files{Digest: true}
		f, err := files.Open(name, "image")
		require.NoError(t, err)
		_, err = io.CopyBuffer(struct{ io.Writer }{io.Discard}, struct{ io.Reader }{f}, make([]byte, size))
		require.NoError(t, err)
		f.Close()
		assert.Equal(t, want[:], f.Recorded().SHA256())
	}
}

func TestAdviceIsWordedByTheInterface(t *testing.T) {
	a := Advice{Text: "fill them first", AnyOf: []Setting{{Key: "holes", Value: "FF", Does: "writes them as FF"}}}
	assert.Equal(t, "fill them first; holes FF writes them as FF", a.In(nil))
	a = Advice{Text: "store it", Action: &Action{"seal", []Setting{{Key: "only", Value: "crc"}}}}
	assert.Equal(t, "store it: seal only crc", a.In(nil))
	assert.Equal(t, "", Advice{}.In(nil))
}

// TestMatch takes upper and lower case for the same where the names of files do.
func TestMatch(t *testing.T) {
	for _, c := range []struct {
		system, pattern, name string
		want                  bool
	}{
		{"linux", "boot*.hex", "bootloader.hex", true}, {"linux", "BOOT*.hex", "bootloader.hex", false},
		{"windows", "BOOT*.hex", "Bootloader.HEX", true},
		{"windows", "boot?.hex", "bootloader.hex", false}, {"linux", "[", "[", false},
	} {
		assert.Equal(t, c.want, matchOn(c.system, c.pattern, c.name), c)
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a[1].hex"), nil, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "ab.hex"), nil, 0o644))
	assert.False(t, IsPattern(filepath.Join(dir, "a[1].hex")), "a file that is there is no pattern")
	assert.True(t, IsPattern(filepath.Join(dir, "a?.hex")))
	assert.Equal(t, []string{filepath.Join(dir, "ab.hex")}, Glob(filepath.Join(dir, "a?.hex")))
}

// TestLineEndsChanged finds what tools for sources make of an image.
func TestLineEndsChanged(t *testing.T) {
	name := filepath.Join(t.TempDir(), "a.hex")
	sum := func(text string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(text))) }
	for _, c := range []struct{ is, was, want string }{
		{"a\r\nb\r\n", "a\nb\n", "from LF to CR LF"}, {"a\nb\n", "a\r\nb\r\n", "from CR LF to LF"},
		{"a\nb\n", "a\nb\n", ""}, {"a\r\nb\n", "a\nc\n", ""}, {"ab", "a\nb", ""},
	} {
		require.NoError(t, os.WriteFile(name, []byte(c.is), 0o644))
		got := LineEndsChanged(name, sum(c.was))
		if c.want == "" {
			assert.Empty(t, got, "%q of %q", c.is, c.was)
		} else {
			assert.Contains(t, got, c.want)
		}
	}
	assert.Empty(t, LineEndsChanged(name+"x", sum("")))
	assert.Empty(t, LineEndsChanged(filepath.Dir(name), sum("")))
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

// TestPlacesInPrograms names places by section, symbol and line, as far as they are known.
func TestPlacesInPrograms(t *testing.T) {
	for want, d := range map[string]Detail{
		"tide+0x1C, gauge.c:112": {Symbol: "tide", Begins: 4, File: "gauge.c", Line: 112}, "tide": {Symbol: "tide", Begins: 0x20},
		"gauge.c:1": {File: "gauge.c", Line: 1}, "": {Begins: 3}, "tide+0x1": {Symbol: "tide", Begins: 0x1F},
	} {
		assert.Equal(t, want, d.Text(0x20))
		in := &Input{Name: "app.elf", Counting: Offsets, Section: ".te\nxt", Detail: d.Text}
		if want != "" {
			want = " (" + want + ")"
		}
		assert.Equal(t, `app.elf .te\nxt+0x20`+want, in.Place(0x20))
	}
	for want, p := range map[string]Problem{"f:2:3": {File: "f", Line: 2, Column: 3}, "f:2": {File: "f", Line: 2},
		"f": {File: "f", Column: 3}, "f:1:1": {File: "f", Line: 1, Column: 1}} {
		assert.Equal(t, want, p.Position())
	}
	var ps Problems
	ps.Add(&Problem{File: "a", What: "only"})
	assert.Equal(t, "a: error: only", ps.Error())
	ps.Add(&Problem{File: "b", What: "doubted", Severity: Warning, Doubt: LostLine})
	assert.Equal(t, "a: error: only", ps.Error())
	assert.True(t, ps.Doubtful())
	for range 2 {
		ps.Add(&Problem{File: "a", What: "more"})
	}
	assert.Equal(t, "a: error: only (and 2 more errors)", ps.Error())
	assert.False(t, new(Problems).Doubtful())
	assert.Equal(t, "which: no", Keyf("which", "no").Error())
	assert.Equal(t, "no", Keyf("", "no").Error())
}

// TestNearestIsMeasured tries names just near enough, and just not.
func TestNearestIsMeasured(t *testing.T) {
	for word, want := range map[string]string{"ab": "abc", "abcd": "abc", "abcde": "", "acb": "abc", "xbz": "", "a": "", "ABCX": "abc"} {
		assert.Equal(t, want, Nearest(word, []string{"abc"}), word)
	}
	assert.Equal(t, "first", NearestWithin("firsts", []string{"first", "firsty"}, 1), "of equals the first")
	assert.Equal(t, "firsts", NearestWithin("firsts", []string{"first", "firsts"}, 1))
	assert.Empty(t, NearestWithin("firsts", []string{"fir"}, 2))
	assert.Equal(t, "fir", NearestWithin("firsts", []string{"fir"}, 3))
	exact := strings.Repeat("a", 200)
	assert.Equal(t, exact, Nearest(exact[1:], []string{exact}))
	assert.Equal(t, exact, Nearest(exact, []string{exact}))
	assert.Empty(t, Nearest(exact, []string{exact + "a"}))
	assert.Empty(t, Nearest(exact+"a", []string{exact}))
	many := make([]string, 1001)
	for i := range many {
		many[i] = fmt.Sprintf("name number %d", i)
	}
	many[999], many[1000] = "wanted", "sought"
	assert.Equal(t, "wanted", Nearest("wantde", many))
	assert.Empty(t, Nearest("soughd", many))
	assert.Equal(t, "known: "+strings.Join(many[:32], ", "), DidYouMean("?????????????????", many[:32]))
	assert.Equal(t, "known: "+strings.Join(many[:32], ", ")+" and 1 more", DidYouMean("?????????????????", many[:33]))
	assert.Equal(t, `\xFF\u0100x`, Visible("\xFF")+`\u0100x`)
	assert.Equal(t, `\xAD`, Visible("\u00AD"))
	assert.Equal(t, `\u0600`, Visible("\u0600"))
	assert.Equal(t, `\u2029`, Visible("\u2029"))
	assert.Equal(t, "a\n"+`b\x07`, VisibleLines("a\nb\a"))
}

// failing gives a little and fails.
type failing struct{ given bool }

func (f *failing) Read(b []byte) (int, error) {
	if f.given {
		return 0, errors.New("the cable is out")
	}
	f.given = true
	return copy(b, "ab"), nil
}

// TestReading ends as what is read ends, fails, or is ended from outside.
func TestReading(t *testing.T) {
	p := &Progress{}
	f := Files{Stdin: &failing{}, Progress: p, Digest: true}
	file, err := f.Open("-", "image")
	require.NoError(t, err)
	assert.Equal(t, int64(-1), file.Size)
	_, err = io.ReadAll(file)
	var system *SystemError
	require.ErrorAs(t, err, &system)
	assert.Equal(t, "cannot read standard input: the cable is out", err.Error())
	assert.Equal(t, "reading standard input", p.Phase().What)
	assert.Equal(t, int64(2), p.Phase().Done())
	require.NoError(t, file.Close())
	assert.Nil(t, file.Recorded().SHA256())
	p.Begin("more", "acts", 3)
	p.Add(2)
	assert.Equal(t, [2]int64{2, 3}, [2]int64{p.Phase().Done(), p.Phase().Total})
	(*Progress)(nil).Begin("nothing", "", 1)
	(*Progress)(nil).Add(1)
	new(Progress).Add(1)

	dir := t.TempDir()
	_, err = f.Open(dir, "image")
	assert.ErrorContains(t, err, "it is a folder, a file is needed")
	name := filepath.Join(dir, "a.bin")
	data := bytes.Repeat([]byte("0123456789abcdef"), 1<<20) // more than may wait for a digest
	require.NoError(t, os.WriteFile(name, data, 0o644))
	want := fmt.Sprintf("%x", sha256.Sum256(data))
	for _, keeps := range []string{"none", "all", "some"} {
		file, err = f.Open(name, "image")
		require.NoError(t, err)
		buffer, all := make([]byte, 100_000), []byte(nil)
		var whole [][]byte // what stays as it is
		for k := 0; ; k++ {
			if file.Kept = keeps == "all" || keeps == "some" && k%3 != 0; file.Kept {
				buffer = make([]byte, 100_000)
			}
			n, err := file.Read(buffer)
			if file.Kept {
				whole = append(whole, buffer[:n])
				buffer = make([]byte, 100_000)
			} else {
				whole = append(whole, bytes.Clone(buffer[:n]))
			}
			all = append(all, whole[len(whole)-1]...)
			if err == io.EOF {
				break
			}
			require.NoError(t, err)
		}
		assert.True(t, bytes.Equal(data, all))
		require.NoError(t, file.Close())
		assert.Equal(t, want, fmt.Sprintf("%x", file.Recorded().SHA256()), keeps)
		assert.True(t, bytes.Equal(data, bytes.Join(whole, nil)), "what is kept is written over by nobody")
	}
	opened, err := os.Open(name)
	require.NoError(t, err)
	defer opened.Close()
	_, err = opened.Seek(10, io.SeekStart)
	require.NoError(t, err)
	assert.Equal(t, int64(len(data)-10), sizeOf(opened))
	pipe, other, err := os.Pipe()
	require.NoError(t, err)
	defer other.Close()
	defer pipe.Close()
	assert.Equal(t, int64(-1), sizeOf(pipe))
	info, err := os.Stat(dir)
	require.NoError(t, err)
	assert.Nil(t, f.Find(info))
	text, err := f.ReadAll(name, "image", int64(len(data)))
	require.NoError(t, err)
	assert.Len(t, text, len(data))
	assert.True(t, Exists(name))
	assert.False(t, Exists(name+"x"))

	ctx, cancel := context.WithCancel(context.Background())
	waiting := Files{Stdin: pipe, Context: ctx}
	file, err = waiting.Open("-", "image")
	require.NoError(t, err)
	other.Write([]byte("xyz"))
	some := make([]byte, 2)
	n, err := file.Read(some)
	require.NoError(t, err)
	assert.Equal(t, "xy", string(some[:n]))
	time.AfterFunc(20*time.Millisecond, cancel)
	for err == nil {
		_, err = file.Read(some)
	}
	assert.Equal(t, context.Canceled, err)
	told, err := pipe.Stat()
	require.NoError(t, err)
	assert.Equal(t, waiting.Recorded()[0], waiting.Find(told))
	assert.Nil(t, waiting.Recorded()[0].SHA256(), "none was asked for")
	n, err = file.Read(some)
	assert.Equal(t, context.Canceled, err)
	assert.Zero(t, n)
	regular, err := (&Files{Context: ctx}).Open(name, "image")
	require.NoError(t, err)
	n, err = regular.Read(some)
	assert.Equal(t, context.Canceled, err)
	assert.Zero(t, n)
}

// TestForeign tells of files that others may write.
func TestForeign(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "own.toml")
	require.NoError(t, os.WriteFile(name, nil, 0o600))
	for _, c := range []struct {
		file, folder os.FileMode
		want         string
	}{
		{0o600, 0o700, ""}, {0o602, 0o700, "all users may write it"}, {0o600, 0o777, "its folder: all users may write it"},
		{0o600, 0o777 | os.ModeSticky, ""},
		{0o660, 0o700, ""}, {0o601, 0o700, ""}, {0o666, 0o777, "all users may write it"},
	} {
		require.NoError(t, os.Chmod(name, c.file))
		require.NoError(t, os.Chmod(dir, c.folder))
		assert.Equal(t, c.want, Foreign(name), c)
	}
	assert.Empty(t, Foreign(name+"x"))
	if os.Geteuid() != 0 {
		t.Skip("files of others are made by the superuser alone")
	}
	require.NoError(t, os.Chmod(dir, 0o700))
	require.NoError(t, os.Chmod(name, 0o600))
	require.NoError(t, os.Chown(name, 12345, 0))
	assert.Equal(t, "another user, number 12345, owns it", Foreign(name))
	require.NoError(t, os.Chown(name, 0, 777))
	require.NoError(t, os.Chmod(name, 0o620))
	assert.Equal(t, "the group 777 may write it", Foreign(name))
	for _, mode := range []os.FileMode{0o600, 0o601, 0o610} {
		require.NoError(t, os.Chmod(name, mode))
		assert.Empty(t, Foreign(name), mode)
	}
	require.NoError(t, os.Chmod(name, 0o620))
	require.NoError(t, os.Chown(name, 0, os.Getegid()))
	assert.Empty(t, Foreign(name))
}
