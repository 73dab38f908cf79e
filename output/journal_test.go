package output

import (
	"context"
	"crypto/sha256"
	"io"
	"os"
	"path/filepath"
	"strings"
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
		"whole": {`{"from":".a1","to":"a"}` + "\n" + `{"from":".b1","to":"b"}` + "\n" + `{"from":"","to":"/"}` + "\n", 2,
			map[string]string{"a": "new a", "b": "new b"}, ""},
		"one renamed": {`{"from":".gone","to":"a"}` + "\n" + `{"from":".b1","to":"b"}` + "\n" + `{"from":"","to":"/"}` + "\n",
			1, map[string]string{"a": "old a", "b": "new b"}, ""},
		"cut off": {`{"from":".a1","to":"a"}` + "\n" + `{"from":".b1","to":"b"}` + "\n", 0, map[string]string{"a": "old a"}, ""},
		"done before": {`{"from":".a1","to":"b"}` + "\n" + `{"to":"/"}` + "\n" + `{"done":true}` + "\n" +
			`{"from":".b1","to":"b"}` + "\n" + `{"to":"/"}` + "\n", 1, map[string]string{"a": "old a", "b": "new b", ".a1": "new a"}, ""},
		"done, and no more": {`{"from":".a1","to":"a"}` + "\n" + `{"to":"/"}` + "\n" + `{"done":true}` + "\n" +
			`{"from":".b1","to":"b"}` + "\n", 0, map[string]string{"a": "old a", "b": "old b", ".b1": "new b"}, ""},
		"cut within a line": {`{"from":".a1","to":"a"}` + "\n" + `{"from":"","to":"/"`, 0, map[string]string{"a": "old a"}, ""},
		"empty":             {"", 0, map[string]string{"a": "old a"}, ""},
		"another file":      {"notes\n", 0, map[string]string{"a": "old a"}, "it is not a journal of unfinished outputs"},
		"out of the folder": {`{"from":".a1","to":"../a"}` + "\n" + `{"from":"","to":"/"}` + "\n", 0, map[string]string{"a": "old a"},
			"it names a file outside its folder"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := tempDir(t)
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
	path := filepath.Join(tempDir(t), ".j")
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
	dir := tempDir(t)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o755))
	const token = "mexalt-0123456789abcdef"
	left := []string{".x.hex." + token + "77", ".x.hex." + token + "78.old", "in/.y.bin." + token + "5"}
	kept := []string{
		".s3.hex7",
		".x.hex123",
		".x.hex." + token + "-notes",
		"x.hex." + token + "9",
		".x.hex.mexalt-",
		".x.hex.mexalt-9",
		"in/.s3.hex7",
	}
	for _, name := range append(left, kept...) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o644))
	}
	path := filepath.Join(dir, ".j")
	require.NoError(
		t,
		os.WriteFile(
			path,
			[]byte(`{"token":"`+token+`"}`+"\n"+`{"token":"mexalt-"}`+"\n"+`{"folder":"."}`+"\n"+`{"folder":"in"}`+"\n"+
				`{"folder":"../"}`+"\n"),
			0o644,
		),
	)
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
	path := filepath.Join(tempDir(t), ".j")
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
	dir := tempDir(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "real"), []byte("old"), 0o644))
	symlink(t, filepath.Join(dir, "real"), filepath.Join(dir, "link"))
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
	dir := tempDir(t)
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

// TestKilledBetweenRenames takes the folder as it is before each file is renamed, as a kill
// would leave it: who comes next finishes it.
func TestKilledBetweenRenames(t *testing.T) {
	was := system
	t.Cleanup(func() { system = was })
	for _, several := range []bool{true, false} {
		dir, taken := tempDir(t), []string{}
		files := []File{text(filepath.Join(dir, "a"), "new a")}
		if several {
			files = append(files, text(filepath.Join(dir, "sub", "b"), "new b"), text(filepath.Join(dir, "c"), "new c"))
		}
		require.NoError(t, os.Mkdir(filepath.Join(dir, "sub"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("old a"), 0o644))
		take := func() {
			copied := tempDir(t)
			require.NoError(t, os.CopyFS(copied, os.DirFS(dir)))
			taken = append(taken, copied)
		}
		system.rename = func(from, to string) error { take(); return was.rename(from, to) }
		j, finished, err := OpenJournal(filepath.Join(dir, ".j"))
		require.NoError(t, err)
		assert.Zero(t, finished)
		_, err = WriteWith(j, &source.Files{}, files)
		require.NoError(t, err)
		assert.Empty(t, pending.files, "what is in its place is not unfinished any more")
		take()
		require.NoError(t, j.Close())
		assert.Empty(t, pending.journals)
		assert.NoFileExists(t, filepath.Join(dir, ".j"+LockExtension))
		require.Len(t, taken, len(files)+1)
		for n, copied := range taken {
			finished, err := FinishJournal(filepath.Join(copied, ".j"))
			require.NoError(t, err)
			want := []string{"a", "sub"}
			switch {
			case several:
				assert.Equal(t, len(files)-n, finished)
				want = []string{"a", "c", "sub"}
				assert.Equal(t, []string{"b"}, names(t, filepath.Join(copied, "sub")))
				assert.Equal(t, "new a", read(t, filepath.Join(copied, "a")))
			case n == 0:
				assert.Zero(t, finished, "one file needs no journal")
				assert.Equal(t, "old a", read(t, filepath.Join(copied, "a")))
			}
			assert.Equal(t, want, names(t, copied))
		}
	}
}

// TestWhatIsNoJournal is left alone, and told of.
func TestWhatIsNoJournal(t *testing.T) {
	for content, want := range map[string]string{
		"my diary\n": "not a journal of unfinished outputs", "{}\n": "not a journal of unfinished outputs",
		`{"to":"x"}` + "\n":               "not a journal of unfinished outputs",
		`{"from":"../a","to":"b"}` + "\n": "a file outside its folder", `{"from":"a","to":"/b"}` + "\n": "a file outside its folder",
		`{"from":"a","to":"b"}` + "\n" + `{"to":"/"}` + "\n": "", `{"from":"a","to":"b"}` + "\n": "", `{"from":"a"`: "", "": "",
		`{"from":"a","to":"b"}` + "\n" + `{"to":"/"}` + "\n" + `{"done":true}` + "\n":              "",
		`{"from":"none","to":"b"}` + "\n" + `{"from":"a","to":"sub"}` + "\n" + `{"to":"/"}` + "\n": overFolder,
	} {
		dir := tempDir(t)
		path := filepath.Join(dir, ".j")
		require.NoError(t, os.Mkdir(filepath.Join(dir, "sub"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("a"), 0o644))
		require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
		finished, err := FinishJournal(path)
		moved := content == `{"from":"a","to":"b"}`+"\n"+`{"to":"/"}`+"\n"
		assert.Equal(t, moved, finished == 1, content)
		if want != "" {
			assert.ErrorContains(t, err, want, content)
			assert.Equal(t, content, read(t, path), "it is as it was")
			_, _, err = OpenJournal(path)
			assert.ErrorContains(t, err, want, "the lock is free again")
			continue
		}
		require.NoError(t, err, content)
		assert.NoFileExists(t, path)
		_, err = os.Stat(filepath.Join(dir, "a"))
		assert.Equal(t, moved, err != nil)
	}
	dir := tempDir(t)
	_, _, err := OpenJournal(dir)
	assert.ErrorContains(t, err, "not a regular file; move it away")
	finished, err := FinishJournal(dir)
	assert.NoError(t, err)
	assert.Zero(t, finished)
	_, _, err = OpenJournal(filepath.Join(dir, "none", ".j"))
	assert.Error(t, err)
	for name, is := range map[string]bool{
		".a.hex.mexalt-0011": true, ".a.hex.mexalt-001199": true, ".a.hex.mexalt-001199.old": true, "a.hex.mexalt-0011": false,
		".a.hex.mexalt-0011x": false,
		".a.hex.mexalt-0022":  false, ".mexalt-0011.old.old": false,
	} {
		assert.Equal(t, is, unfinished(name, "mexalt-0011"), name)
	}
	assert.False(t, unfinished(".a.mexalt-", "mexalt-"))
}

// TestWhatIsTold says of each output how large it is, its digest, and whether it replaced
// another or is just the same.
func TestWhatIsTold(t *testing.T) {
	dir := tempDir(t)
	long := strings.Repeat("0123456789abcdef", 10_000)
	file := func(name, contents string) File {
		f := text(filepath.Join(dir, name), contents)
		f.Sum, f.Keep = true, true
		return f
	}
	for n, contents := range []string{long, long, long[1:] + "!", long[1:] + "?", long} {
		w, err := Write(&source.Files{}, []File{file("a", contents)})
		require.NoError(t, err)
		require.Len(t, w, 1)
		assert.Equal(t, n > 0, w[0].Replaced)
		assert.Equal(t, n == 1, w[0].Same)
		assert.Equal(t, int64(len(contents)), w[0].Size)
		assert.Equal(t, sha256.Sum256([]byte(contents)), w[0].SHA256)
		assert.Equal(t, contents, read(t, filepath.Join(dir, "a")))
	}
	assert.False(t, sameContents(filepath.Join(dir, "a"), filepath.Join(dir, "none")))
	assert.False(t, sameContents(filepath.Join(dir, "none"), filepath.Join(dir, "a")))

	ctx, cancel := context.WithCancel(context.Background())
	_, err := Write(&source.Files{Context: ctx}, []File{{Name: filepath.Join(dir, "a"), Write: func(to io.Writer) error {
		cancel()
		_, err := io.WriteString(to, long)
		return err
	}}})
	assert.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, long, read(t, filepath.Join(dir, "a")))
	assert.Equal(t, []string{"a"}, names(t, dir))
	symlink(t, "loop", filepath.Join(dir, "loop"))
	for name, want := range map[string]string{"loop": "too many levels", "a/b": "not a directory", "none/b": "no folder",
		".": "it is a folder"} {
		err := Check(&source.Files{}, []File{text(filepath.Join(dir, name), "x")})
		assert.ErrorContains(t, err, want, name)
	}
	require.NoError(t, Check(&source.Files{}, []File{text(filepath.Join(dir, "b"), "x")}))
	assert.NoFileExists(t, filepath.Join(dir, "b"))
}
