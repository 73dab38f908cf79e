package output

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

var errFault = errors.New("no space left on device")

// faulty is a pending file whose calls fail from one on.
type faulty struct {
	pendingFile
	calls *countdown
}

// countdown lets so many calls pass.
type countdown struct{ left atomic.Int64 }

func (c *countdown) spent() bool { return c.left.Add(-1) < 0 }

func (f *faulty) Write(b []byte) (int, error) {
	if f.calls.spent() {
		n, _ := f.pendingFile.Write(b[:len(b)/2]) // a full disk takes some
		return n, errFault
	}
	return f.pendingFile.Write(b)
}

func (f *faulty) Sync() error {
	if f.calls.spent() {
		return errFault
	}
	return f.pendingFile.Sync()
}

func (f *faulty) Close() error {
	if err := f.pendingFile.Close(); err != nil {
		return err
	}
	if f.calls.spent() {
		return errFault
	}
	return nil
}

// TestEachSystemCallMayFail lets each call to the system fail in turn, of a run that
// replaces two files and makes one, with a journal and without: the error is the
// system's, the old files are as they were, and nothing else is left.
func TestEachSystemCallMayFail(t *testing.T) {
	was := system
	t.Cleanup(func() { system = was })
	for _, journal := range []bool{false, true} {
		failures := 0
		for n := int64(0); ; n++ {
			require.Less(t, n, int64(100))
			dir := tempDir(t)
			var files []File
			for _, name := range []string{"a", "b", "c"} {
				files = append(files, text(filepath.Join(dir, name), "new "+name))
			}
			require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("old a"), 0o640))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "b"), []byte("old b"), 0o644))
			calls := &countdown{}
			calls.left.Store(n)
			system.create = func(name, token string, like os.FileInfo, private bool) (pendingFile, error) {
				if calls.spent() {
					return nil, errFault
				}
				f, err := was.create(name, token, like, private)
				return &faulty{f, calls}, err
			}
			system.link = func(from, to string) error {
				if calls.spent() {
					return errFault
				}
				return was.link(from, to)
			}
			system.rename = func(from, to string) error {
				if calls.spent() {
					return errFault
				}
				return was.rename(from, to)
			}
			var j *Journal
			if journal {
				var err error
				j, _, err = OpenJournal(filepath.Join(dir, ".j"))
				require.NoError(t, err)
			}
			_, err := WriteWith(j, &source.Files{}, files)
			if journal {
				require.NoError(t, j.Close())
			}
			if err == nil {
				assert.Equal(t, []string{"a", "b", "c"}, names(t, dir))
				info, err := os.Stat(filepath.Join(dir, "a"))
				require.NoError(t, err)
				assert.Equal(t, permissions, info.Mode().Perm())
				break
			}
			failures++
			var failed *source.SystemError
			require.ErrorAs(t, err, &failed, "call %d", n)
			assert.ErrorIs(t, err, errFault)
			assert.Equal(t, []string{"a", "b"}, names(t, dir), "call %d", n)
			assert.Empty(t, pending.files, "call %d", n)
			assert.Equal(t, "old a", read(t, filepath.Join(dir, "a")), "call %d", n)
			assert.Equal(t, "old b", read(t, filepath.Join(dir, "b")), "call %d", n)
		}
		assert.GreaterOrEqual(t, failures, 15, "creating, writing, syncing, closing, linking and renaming, of each file")
	}
}

// TestAWriterMayFail keeps the old file where what writes the new one fails.
func TestAWriterMayFail(t *testing.T) {
	dir := tempDir(t)
	name := filepath.Join(dir, "a")
	require.NoError(t, os.WriteFile(name, []byte("old"), 0o644))
	_, err := Write(&source.Files{}, []File{{Name: name, Write: func(w io.Writer) error {
		fmt.Fprint(w, "new")
		return errFault
	}}})
	var failed *source.SystemError
	require.ErrorAs(t, err, &failed)
	assert.ErrorContains(t, err, "the file is unchanged")
	assert.Equal(t, "old", read(t, name))
	assert.Equal(t, []string{"a"}, names(t, dir))
}

// TestAfterAFailureTheRestIsNotTried ends soon where one of many files cannot be written.
func TestAfterAFailureTheRestIsNotTried(t *testing.T) {
	dir := tempDir(t)
	const many = 3000
	var tried atomic.Int64
	files := []File{{Name: filepath.Join(dir, "first"), Write: func(io.Writer) error { return errFault }}}
	for i := range many {
		files = append(files, File{Name: filepath.Join(dir, fmt.Sprint(i)), Write: func(io.Writer) error {
			tried.Add(1)
			time.Sleep(time.Millisecond)
			return nil
		}})
	}
	_, err := Write(&source.Files{}, files)
	require.ErrorIs(t, err, errFault)
	assert.Less(t, tried.Load(), int64(many/2))
	assert.Empty(t, names(t, dir))
}

// TestAJournalThatCannotBeWritten lets nothing be put in its place.
func TestAJournalThatCannotBeWritten(t *testing.T) {
	for _, many := range []bool{false, true} {
		dir := tempDir(t)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("old"), 0o644))
		j, _, err := OpenJournal(filepath.Join(dir, ".j"))
		require.NoError(t, err)
		files := []File{text(filepath.Join(dir, "a"), "new")}
		if many { // the journal is full when all is written, and only has to be put in its place
			files = append(files, File{Name: filepath.Join(dir, "b"), Write: func(io.Writer) error { return nil }})
			files[0].Write = func(w io.Writer) error {
				io.WriteString(w, "new")
				time.Sleep(20 * time.Millisecond)
				j.mu.Lock()
				defer j.mu.Unlock()
				return j.file.Close()
			}
		} else {
			require.NoError(t, j.file.Close())
		}
		_, err = WriteWith(j, &source.Files{}, files)
		require.ErrorIs(t, err, os.ErrClosed)
		assert.Equal(t, "old", read(t, filepath.Join(dir, "a")))
		assert.Empty(t, pending.files)
		assert.NotContains(t, names(t, dir), "b")
		j.Close()
	}
}
