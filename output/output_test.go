package output

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

// text is a file of that text.
func text(name, text string) File {
	return File{Name: name, Write: func(to io.Writer) error { _, err := io.WriteString(to, text); return err }}
}

// names returns what a folder holds.
func names(t *testing.T, dir string) []string {
	t.Helper()
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	var list []string
	for _, e := range entries {
		list = append(list, e.Name())
	}
	return list
}

func read(t *testing.T, name string) string {
	t.Helper()
	b, err := os.ReadFile(name)
	require.NoError(t, err)
	return string(b)
}

func TestFilesAppearTogether(t *testing.T) {
	dir := tempDir(t)
	a, b := filepath.Join(dir, "a"), filepath.Join(dir, "b")
	require.NoError(t, os.WriteFile(a, []byte("old"), 0o640))
	written, err := Write(&source.Files{}, []File{text(a, "new a"), text(b, "new b")})
	require.NoError(t, err)
	assert.Equal(t, []Written{{Name: a, Replaced: true, Size: 5}, {Name: b, Size: 5}}, written)
	assert.Equal(t, "new a", read(t, a))
	assert.Equal(t, "new b", read(t, b))
	assert.Equal(t, []string{"a", "b"}, names(t, dir))
	info, err := os.Stat(a)
	require.NoError(t, err)
	assert.Equal(t, permissions, info.Mode().Perm())
}

func TestAFailureLeavesAllAsItWas(t *testing.T) {
	dir := tempDir(t)
	a, b := filepath.Join(dir, "a"), filepath.Join(dir, "b")
	require.NoError(t, os.WriteFile(a, []byte("old"), 0o644))
	broken := errors.New("broken in the middle")
	_, err := Write(&source.Files{}, []File{text(a, "new"), {Name: b, Write: func(to io.Writer) error {
		io.WriteString(to, "half")
		return broken
	}}})
	assert.ErrorIs(t, err, broken)
	assert.Equal(t, "old", read(t, a))
	assert.Equal(t, []string{"a"}, names(t, dir))
}

// TestRollBack lets the second of two renames fail, since a folder with that
// name came up in between.
func TestRollBack(t *testing.T) {
	dir := tempDir(t)
	a, b, c := filepath.Join(dir, "a"), filepath.Join(dir, "b"), filepath.Join(dir, "c")
	require.NoError(t, os.WriteFile(a, []byte("old"), 0o644))
	_, err := Write(&source.Files{}, []File{text(a, "new"), text(c, "fresh"), {Name: b, Write: func(to io.Writer) error {
		require.NoError(t, os.MkdirAll(filepath.Join(b, "x"), 0o755))
		_, err := io.WriteString(to, "new")
		return err
	}}})
	require.Error(t, err)
	assert.Equal(t, "old", read(t, a), "what was in place already is taken back")
	assert.Equal(t, []string{"a", "b"}, names(t, dir), "what was new is taken away")
}

func TestNothingReadIsWrittenOver(t *testing.T) {
	dir := tempDir(t)
	in, link, hard := filepath.Join(dir, "in"), filepath.Join(dir, "link"), filepath.Join(dir, "hard")
	require.NoError(t, os.WriteFile(in, []byte("precious"), 0o644))
	symlink(t, "in", link)
	require.NoError(t, os.Link(in, hard))
	files := &source.Files{}
	_, err := files.ReadAll(in, "device map", 100)
	require.NoError(t, err)
	for _, name := range []string{in, link, hard} {
		_, err := Write(files, []File{text(name, "new")})
		var key *source.KeyError
		require.True(t, errors.As(err, &key), name)
		assert.ErrorContains(t, err, "is also an input (the device map)")
		assert.Error(t, Check(files, []File{text(name, "new")}), "a dry run says the same")
	}
	assert.Equal(t, "precious", read(t, in))
}

func TestTwoOutputsThatAreOneFile(t *testing.T) {
	dir := tempDir(t)
	a, link, hard := filepath.Join(dir, "a"), filepath.Join(dir, "link"), filepath.Join(dir, "hard")
	symlink(t, "a", link)
	for _, pair := range [][]File{{text(a, "1"), text(link, "2")}, {text(a, "1"), text(filepath.Join(dir, ".", "x", "..", "a"), "2")}} {
		_, err := Write(&source.Files{}, pair)
		assert.ErrorContains(t, err, "are one file")
	}
	assert.Equal(t, []string{"link"}, names(t, dir))
	require.NoError(t, os.WriteFile(a, []byte("old"), 0o644))
	require.NoError(t, os.Link(a, hard))
	_, err := Write(&source.Files{}, []File{text(a, "1"), text(hard, "2")})
	assert.ErrorContains(t, err, "are one file")
	assert.Equal(t, "old", read(t, a))
}

func TestReadOnlyFilesStay(t *testing.T) {
	name := filepath.Join(tempDir(t), "a")
	require.NoError(t, os.WriteFile(name, []byte("old"), 0o444))
	_, err := Write(&source.Files{}, []File{text(name, "new")})
	var system *source.SystemError
	require.True(t, errors.As(err, &system))
	assert.ErrorContains(t, err, "it is read-only")
	assert.Equal(t, "old", read(t, name))
}

// tempDir is a folder for a test. The layer that runs programs of Windows elsewhere cannot
// take folders away as the testing package asks it to.
func tempDir(t testing.TB) string {
	t.Helper()
	if runtime.GOOS != "windows" {
		return t.TempDir()
	}
	dir, err := os.MkdirTemp("", "mexalt-output-")
	require.NoError(t, err)
	return dir
}

// permissions are those that a test gives a file, as far as the system knows any.
var permissions = map[bool]fs.FileMode{false: 0o640, true: 0o666}[runtime.GOOS == "windows"]

// symlink makes a link, or ends the test where there are none.
func symlink(t *testing.T, target, name string) {
	t.Helper()
	require.NoError(t, os.Symlink(target, name))
	if info, err := os.Lstat(name); err != nil || info.Mode()&fs.ModeSymlink == 0 {
		t.Skip("links are none here")
	}
}

// overFolder is what the system says where a file would take the place of a folder.
var overFolder = map[bool]string{false: "file exists", true: "denied"}[runtime.GOOS == "windows"]
