package output

import (
	"os"
	"path/filepath"
	"sync"
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
		"done before":       {`{"from":".a1","to":"b"}` + "\n" + `{"to":"/"}` + "\n" + `{"done":true}` + "\n" + `{"from":".b1","to":"b"}` + "\n" + `{"to":"/"}` + "\n", 1, map[string]string{"a": "old a", "b": "new b", ".a1": "new a"}, ""},
		"done, and no more": {`{"from":".a1","to":"a"}` + "\n" + `{"to":"/"}` + "\n" + `{"done":true}` + "\n" + `{"from":".b1","to":"b"}` + "\n", 0, map[string]string{"a": "old a", "b": "old b", ".b1": "new b"}, ""},
		"cut within a line": {`{"from":".a1","to":"a"}` + "\n" + `{"from":"","to":"/"`, 0, map[string]string{"a": "old a"}, ""},
		"empty":             {"", 0, map[string]string{"a": "old a"}, ""},
		"another file":      {"notes\n", 0, map[string]string{"a": "old a"}, "it is no journal of unfinished outputs"},
		"out of the folder": {`{"from":".a1","to":"../a"}` + "\n" + `{"from":"","to":"/"}` + "\n", 0, map[string]string{"a": "old a"}, "it names a file outside its folder"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			for file, text := range map[string]string{".a1": "new a", ".b1": "new b", "a": "old a", "b": "old b", ".j": c.text} {
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

// TestUnfinishedFilesAreTheRunsOwn takes away what a run that was killed left beside its
// outputs, by the journal alone: a user's file that is called nearly so stays.
func TestUnfinishedFilesAreTheRunsOwn(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o755))
	const token = "mexalt-0123456789abcdef"
	left := []string{".x.hex." + token + "77", ".x.hex." + token + "78.old", "in/.y.bin." + token + "5"}
	kept := []string{".s3.hex7", ".x.hex123", ".x.hex." + token + "-notes", "x.hex." + token + "9", ".x.hex.mexalt-", ".x.hex.mexalt-9", "in/.s3.hex7"}
	for _, name := range append(left, kept...) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o644))
	}
	path := filepath.Join(dir, ".j")
	require.NoError(t, os.WriteFile(path, []byte(`{"token":"`+token+`"}`+"\n"+`{"token":"mexalt-"}`+"\n"+`{"folder":"."}`+"\n"+`{"folder":"in"}`+"\n"+`{"folder":"../"}`+"\n"), 0o644))
	n, err := FinishJournal(path)
	require.NoError(t, err)
	assert.Zero(t, n)
	for _, name := range left {
		assert.NoFileExists(t, filepath.Join(dir, name))
	}
	for _, name := range kept {
		assert.FileExists(t, filepath.Join(dir, name))
	}
	assert.NoFileExists(t, path)
}

// TestAJournalThatIsTakenAwayIsNone opens another one where the run that had it took it
// away between opening and locking.
func TestAJournalThatIsTakenAwayIsNone(t *testing.T) {
	path := filepath.Join(t.TempDir(), ".j")
	var wait sync.WaitGroup
	var mu sync.Mutex
	opened, inside := 0, 0
	for range 8 {
		wait.Go(func() {
			for range 200 {
				j, _, err := OpenJournal(path)
				if err != nil {
					assert.ErrorIs(t, err, ErrBusy)
					continue
				}
				mu.Lock()
				opened++
				inside++
				assert.Equal(t, 1, inside, "two runs have the journal")
				mu.Unlock()
				assert.FileExists(t, path)
				mu.Lock()
				inside--
				mu.Unlock()
				assert.NoError(t, j.Close())
			}
		})
	}
	wait.Wait()
	assert.Positive(t, opened)
}

// TestAJournalNamesOutputsBehindLinks finishes an output that is a link with an absolute
// target inside the folder.
func TestAJournalNamesOutputsBehindLinks(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "real"), []byte("old"), 0o644))
	require.NoError(t, os.Symlink(filepath.Join(dir, "real"), filepath.Join(dir, "link")))
	t.Chdir(dir)
	j, _, err := OpenJournal(".j")
	require.NoError(t, err)
	_, err = WriteWith(j, &source.Files{}, []File{text("link", "new"), text("b", "new")})
	require.NoError(t, err)
	require.NoError(t, j.Close())
	assert.Equal(t, []string{"b", "link", "real"}, names(t, dir))
	assert.Equal(t, "new", read(t, filepath.Join(dir, "real")))
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
