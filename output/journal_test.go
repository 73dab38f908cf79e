package output

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

func TestJournalFinishesWhatWasBegun(t *testing.T) {
	for name, c := range map[string]struct {
		text     string
		finished int
		want     map[string]string
		err      string
	}{
		"whole":             {`{"from":".a1","to":"a"}` + "\n" + `{"from":".b1","to":"b"}` + "\n" + `{"from":"","to":"/"}` + "\n", 2, map[string]string{"a": "new a", "b": "new b"}, ""},
		"one renamed":       {`{"from":".gone","to":"a"}` + "\n" + `{"from":".b1","to":"b"}` + "\n" + `{"from":"","to":"/"}` + "\n", 1, map[string]string{"a": "old a", "b": "new b"}, ""},
		"cut off":           {`{"from":".a1","to":"a"}` + "\n" + `{"from":".b1","to":"b"}` + "\n", 0, map[string]string{"a": "old a"}, ""},
		"cut within a line": {`{"from":".a1","to":"a"}` + "\n" + `{"from":"","to":"/"`, 0, map[string]string{"a": "old a"}, ""},
		"empty":             {"", 0, map[string]string{"a": "old a"}, ""},
		"another file":      {"notes\n", 0, map[string]string{"a": "old a"}, "it is no journal of unfinished outputs"},
		"out of the folder": {`{"from":".a1","to":"../a"}` + "\n" + `{"from":"","to":"/"}` + "\n", 0, map[string]string{"a": "old a"}, "it names a file outside its folder"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			for file, text := range map[string]string{".a1": "new a", ".b1": "new b", "a": "old a", ".j": c.text} {
				require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(text), 0o644))
			}
			j, finished, err := OpenJournal(filepath.Join(dir, ".j"))
			if c.err != "" {
				assert.ErrorContains(t, err, c.err)
			} else {
				require.NoError(t, err)
				assert.Equal(t, c.finished, finished)
				require.NoError(t, j.Close())
				assert.NoFileExists(t, filepath.Join(dir, ".j"))
			}
			for file, text := range c.want {
				assert.Equal(t, text, read(t, filepath.Join(dir, file)))
			}
		})
	}
}

func TestJournalIsOneRunsAlone(t *testing.T) {
	path := filepath.Join(t.TempDir(), ".j")
	j, _, err := OpenJournal(path)
	require.NoError(t, err)
	_, _, err = OpenJournal(path)
	assert.ErrorIs(t, err, ErrBusy)
	require.NoError(t, j.Close())
	j, _, err = OpenJournal(path)
	require.NoError(t, err)
	require.NoError(t, j.Close())
}

func TestCleanUpTakesOnlyItsOwn(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"x.hex", ".x.hex123", ".x.hex123.old", ".y.hex5", ".x.hexa5", "x.hex7", ".unit-7", ".unit-77123", ".x.hex"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o644))
	}
	CleanUp([]string{filepath.Join(dir, "x.hex"), filepath.Join(dir, "unit-7")})
	assert.Equal(t, []string{".unit-7", ".x.hex", ".x.hexa5", ".y.hex5", "x.hex", "x.hex7"}, names(t, dir))
}

func TestSameIsLeftAlone(t *testing.T) {
	dir := t.TempDir()
	a := text(filepath.Join(dir, "a"), "text")
	a.Sum, a.Keep = true, true
	w, err := Write(&source.Files{}, []File{a})
	require.NoError(t, err)
	assert.False(t, w[0].Same)
	before, err := os.Stat(a.Name)
	require.NoError(t, err)
	w, err = Write(&source.Files{}, []File{a, text(filepath.Join(dir, "b"), "more")})
	require.NoError(t, err)
	assert.True(t, w[0].Same)
	assert.NotEqual(t, [32]byte{}, w[0].SHA256)
	after, err := os.Stat(a.Name)
	require.NoError(t, err)
	assert.True(t, os.SameFile(before, after))
	assert.Equal(t, []string{"a", "b"}, names(t, dir))
}
