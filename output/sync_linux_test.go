package output

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

func TestSyncOfWhatIsNotThere(t *testing.T) {
	dir := tempDir(t)
	assert.NoError(t, Sync(dir))
	assert.Error(t, Sync(filepath.Join(dir, "none")))
}

// TestManyFilesAreSyncedTogether asks the system once a folder for many files, and each file for one
// fewer; where the system fails, nothing is left.
func TestManyFilesAreSyncedTogether(t *testing.T) {
	was := system
	t.Cleanup(func() { system, manyFiles = was, 1000 })
	manyFiles = 10
	for _, c := range []struct {
		files, fails, alone int
		folders             []string
	}{
		{manyFiles, -1, 0, []string{"one", "two"}},
		{manyFiles, 1, 0, []string{"one"}},
		{manyFiles - 1, -1, manyFiles - 1, nil},
	} {
		dir := tempDir(t)
		folders := []string{filepath.Join(dir, "later"), filepath.Join(dir, "one"), filepath.Join(dir, "two")}
		var files []File
		for i := range c.files {
			files = append(files, text(filepath.Join(folders[min(i, 1+i%2)], fmt.Sprint(i)), "x"))
		}
		files[0].Later = true
		for _, folder := range folders {
			require.NoError(t, os.Mkdir(folder, 0o755))
		}
		var synced []string
		var alone atomic.Int64
		system.create = func(name, token string, like os.FileInfo, private bool) (pendingFile, error) {
			f, err := was.create(name, token, like, private)
			return &syncedFile{f, &alone}, err
		}
		system.sync = func(folder string) error {
			if len(synced) == c.fails {
				return errFault
			}
			synced = append(synced, filepath.Base(folder))
			return was.sync(folder)
		}
		_, err := Write(&source.Files{}, files)
		assert.Equal(t, c.folders, synced)
		assert.EqualValues(t, max(0, c.alone-1), alone.Load(), "but for the one that is left to Sync")
		left := 0
		for _, folder := range folders {
			left += len(names(t, folder))
		}
		if c.fails >= 0 {
			assert.ErrorIs(t, err, errFault)
			assert.ErrorContains(t, err, filepath.Join(folders[2], "3"))
			assert.Zero(t, left)
		} else {
			assert.NoError(t, err)
			assert.Equal(t, c.files, left)
		}
	}
}

// syncedFile counts how often files are synced by themselves.
type syncedFile struct {
	pendingFile
	count *atomic.Int64
}

func (f *syncedFile) Sync() error {
	f.count.Add(1)
	return f.pendingFile.Sync()
}

// TestAPipeWhoseWriterFails writes to a pipe what cannot be finished: the reader of the pipe
// comes to an end, and the error is told.
func TestAPipeWhoseWriterFails(t *testing.T) {
	pipe := filepath.Join(tempDir(t), "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	got := make(chan []byte)
	go func() {
		b, _ := os.ReadFile(pipe)
		got <- b
	}()
	broken := errors.New("broken")
	_, err := Write(&source.Files{}, []File{{Name: pipe, Write: func(w io.Writer) error {
		io.WriteString(w, "half")
		return broken
	}}})
	require.ErrorIs(t, err, broken)
	<-got // it would wait as long as the pipe is open
	_, err = os.Stat(pipe)
	assert.NoError(t, err)
}

// openFiles is how many files the process has open.
func openFiles(t *testing.T) int {
	t.Helper()
	list, err := os.ReadDir("/proc/self/fd")
	require.NoError(t, err)
	return len(list)
}

// TestNothingStaysOpen runs what writes, compares and locks files, so that it succeeds and so that
// it fails: no file is open afterwards, and no lock is held.
func TestNothingStaysOpen(t *testing.T) {
	dir := tempDir(t)
	at := func(name string) string { return filepath.Join(dir, name) }
	broken := errors.New("broken")
	failing := func(name string) File { return File{Name: at(name), Write: func(io.Writer) error { return broken }} }
	require.NoError(t, os.WriteFile(at("old"), []byte("old"), 0o644))
	require.NoError(t, syscall.Mkfifo(at("pipe"), 0o600))
	reader, err := os.OpenFile(at("pipe"), os.O_RDONLY|syscall.O_NONBLOCK, 0)
	require.NoError(t, err)
	defer reader.Close()
	journal, lock := at(".j"), at(".j")+LockExtension
	for name, run := range map[string]func() error{
		"written": func() error {
			_, err := Write(&source.Files{}, []File{text(at("a"), "a"), text(at("old"), "new")})
			return err
		},
		"failed": func() error { _, err := Write(&source.Files{}, []File{text(at("b"), "b"), failing("old")}); return err },
		"kept": func() error {
			f := text(at("old"), "new")
			f.Keep = true
			_, err := Write(&source.Files{}, []File{f})
			return err
		},
		"through":        func() error { _, err := Write(&source.Files{}, []File{text(at("pipe"), "x")}); return err },
		"failed through": func() error { _, err := Write(&source.Files{}, []File{failing("pipe")}); return err },
		"full":           func() error { _, err := Write(&source.Files{}, []File{text("/dev/full", "x")}); return err },
		"synced":         func() error { return Sync(dir) },
		"no folder":      func() error { return Sync(at("none")) },
		"same": func() error {
			sameContents(at("old"), at("none"))
			sameContents(at("none"), at("old"))
			sameContents(at("old"), at("old"))
			return nil
		},
		"journal": func() error {
			j, _, err := OpenJournal(journal)
			require.NoError(t, err)
			_, _, busy := OpenJournal(journal)
			assert.ErrorIs(t, busy, ErrBusy)
			_, err = WriteWith(j, &source.Files{}, []File{text(at("c"), "c"), failing("d")})
			return errors.Join(err, j.Close())
		},
		"busy": func() error {
			mine, err := lockOf(journal)
			require.NoError(t, err)
			_, busy := lockOf(journal)
			assert.ErrorIs(t, busy, ErrBusy)
			return errors.Join(mine.Close(), os.Remove(lock))
		},
	} {
		run() // so that what is opened once is
		before := openFiles(t)
		for range 3 {
			err := run()
			fails := name == "failed" || name == "failed through" || name == "full" || name == "no folder" || name == "journal"
			assert.Equal(t, fails, err != nil, "%s: %v", name, err)
			assert.Empty(t, pending.files, name)
		}
		assert.Equal(t, before, openFiles(t), name)
	}
	assert.Equal(t, []string{"a", "old", "pipe"}, names(t, dir))
	assert.Equal(t, "new", read(t, at("old")))
}

// TestIdentities tells files apart by what the system calls them.
func TestIdentities(t *testing.T) {
	dir := tempDir(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), nil, 0o644))
	require.NoError(t, os.Link(filepath.Join(dir, "a"), filepath.Join(dir, "b")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "c"), nil, 0o644))
	of := func(name string) [2]uint64 {
		info, err := os.Stat(filepath.Join(dir, name))
		require.NoError(t, err)
		id, ok := identity(filepath.Join(dir, name), info)
		require.True(t, ok)
		return id
	}
	assert.Equal(t, of("a"), of("b"))
	assert.NotEqual(t, of("a"), of("c"))
	_, ok := identity("none", nil)
	assert.False(t, ok)
	_, ok = identity("other", noStat{})
	assert.False(t, ok)
}

// noStat is what a file system says that has no such names.
type noStat struct{ os.FileInfo }

func (noStat) Sys() any { return nil }

// TestModesOfNewFiles are what the mask leaves, or nobody else's, or those of the old file.
func TestModesOfNewFiles(t *testing.T) {
	defer syscall.Umask(syscall.Umask(0))
	for _, mask := range []int{0, 0o022, 0o077} {
		syscall.Umask(mask)
		dir := tempDir(t)
		at := func(name string) string { return filepath.Join(dir, name) }
		require.NoError(t, os.WriteFile(at("old"), nil, 0o600))
		require.NoError(t, os.Chmod(at("old"), 0o751))
		secret := text(at("secret"), "s")
		secret.Private = true
		_, err := Write(&source.Files{}, []File{text(at("new"), "n"), text(at("old"), "o"), secret})
		require.NoError(t, err)
		for name, want := range map[string]os.FileMode{"new": 0o666 &^ os.FileMode(mask), "old": 0o751,
			"secret": 0o600 &^ os.FileMode(mask)} {
			info, err := os.Stat(at(name))
			require.NoError(t, err)
			assert.Equal(t, want, info.Mode().Perm(), "%s, mask %o", name, mask)
			assert.Equal(t, want&0o077 != 0, readByOthers(info), name)
		}
	}
}

// TestChainsOfLinks are followed as far as the system follows them.
func TestChainsOfLinks(t *testing.T) {
	dir := tempDir(t)
	last := filepath.Join(dir, "file")
	for n := 1; n <= 40; n++ {
		link := filepath.Join(dir, fmt.Sprint(n))
		require.NoError(t, os.Symlink(filepath.Base(last), link))
		got, err := resolve(link)
		if last = link; n < 40 {
			require.NoError(t, err)
			assert.Equal(t, filepath.Join(dir, "file"), got)
		} else {
			assert.ErrorIs(t, err, syscall.ELOOP)
		}
	}
	require.NoError(t, os.Symlink("/x/y", filepath.Join(dir, "absolute")))
	got, err := resolve(filepath.Join(dir, "absolute"))
	require.NoError(t, err)
	assert.Equal(t, "/x/y", got)
}

// TestLinksOfTheSystem are written through where what they lead to has no path: a pipe that a
// process has open, as /dev/stdout may be.
func TestLinksOfTheSystem(t *testing.T) {
	r, w, err := os.Pipe()
	require.NoError(t, err)
	defer r.Close()
	link := filepath.Join(tempDir(t), "link")
	require.NoError(t, os.Symlink(fmt.Sprintf("/proc/self/fd/%d", w.Fd()), link))
	for _, name := range []string{fmt.Sprintf("/proc/self/fd/%d", w.Fd()), link} {
		written, err := Write(&source.Files{}, []File{text(name, "through")})
		require.NoError(t, err, name)
		assert.Equal(t, int64(7), written[0].Size)
		got := make([]byte, 7)
		_, err = io.ReadFull(r, got)
		require.NoError(t, err)
		assert.Equal(t, "through", string(got))
	}
	w.Close()
	_, err = os.Lstat(link)
	assert.NoError(t, err, "the link stays")
}
