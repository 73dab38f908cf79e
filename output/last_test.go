package output

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

// TestTheLastFilesTellOfTheOthers writes files, one of which is there already, and then one
// that says what became of them.
func TestTheLastFilesTellOfTheOthers(t *testing.T) {
	dir := tempDir(t)
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.WriteFile(at("same"), []byte("abc"), 0o644))
	require.NoError(t, os.WriteFile(at("other"), []byte("abd"), 0o644))
	long := strings.Repeat("0123456789abcdef", 5000) // more than one buffer
	files := []File{text(at("same"), "abc"), text(at("other"), "abc"), text(at("new"), long)}
	for i := range files {
		files[i].Keep, files[i].Sum = true, true
	}
	var told []Written
	j, _, err := OpenJournal(at(".j"))
	require.NoError(t, err)
	written, err := WriteThen(j, &source.Files{}, files, func(others []Written) []File {
		told = others
		return []File{text(at("log"), "log"), text(at("list"), fmt.Sprint(len(others)))}
	})
	require.NoError(t, err)
	require.NoError(t, j.Close())
	sum := func(text string) [32]byte { return sha256.Sum256([]byte(text)) }
	want := []Written{
		{Name: at("same"), Replaced: true, Same: true, Size: 3, SHA256: sum("abc")},
		{Name: at("other"), Replaced: true, Size: 3, SHA256: sum("abc")},
		{Name: at("new"), Size: int64(len(long)), SHA256: sum(long)},
	}
	assert.Equal(t, want, told)
	assert.Equal(t, append(want, Written{Name: at("log"), Size: 3}, Written{Name: at("list"), Size: 1}), written)
	assert.Equal(t, []string{"list", "log", "new", "other", "same"}, names(t, dir))
	assert.Equal(t, "3", read(t, at("list")))
	assert.Equal(t, "abclogabc"+long, read(t, at("other"))+read(t, at("log"))+read(t, at("same"))+read(t, at("new")))

	// Where one fails, the last is not asked what became of the others.
	broken := File{Name: at("broken"), Write: func(io.Writer) error { return errors.New("no") }}
	calls := 0
	_, err = WriteThen(nil, &source.Files{}, []File{text(at("new"), "x"), broken}, func(others []Written) []File {
		calls++
		return []File{text(at("log"), "other")}
	})
	assert.EqualError(t, err, "cannot write "+at("broken")+": no")
	assert.Equal(t, 1, calls, "for its names")
	assert.Equal(t, "log", read(t, at("log")))
	assert.Equal(t, long, read(t, at("new")))
}

// TestPreparedFiles are seen by nobody until they are committed, and gone where they are not; the
// journal does not tell of them.
func TestPreparedFiles(t *testing.T) {
	dir := tempDir(t)
	at := func(name string) string { return filepath.Join(dir, name) }
	j, _, err := OpenJournal(at(".j"))
	require.NoError(t, err)
	one := text(at("unit"), "u")
	one.Later = true
	p, err := Prepare(j, &source.Files{}, []File{one})
	require.NoError(t, err)
	assert.Equal(t, []Written{{Name: at("unit"), Size: 1}}, p.Written())
	assert.NoFileExists(t, at("unit"))
	other, err := Prepare(j, &source.Files{}, []File{text(at("other"), "o"), text(at("more"), "m")})
	require.NoError(t, err)
	require.NoError(t, p.Commit())
	other.Discard()
	p.Discard()
	assert.Equal(t, "u", read(t, at("unit")))
	_, err = Prepare(j, &source.Files{},
		[]File{text(at("other"), "o"), {Name: at("broken"), Write: func(io.Writer) error { return errors.New("no") }}})
	assert.EqualError(t, err, "cannot write "+at("broken")+": no")
	assert.NotContains(t, read(t, at(".j")), "unit")
	assert.NoError(t, Sync(dir))
	if runtime.GOOS == "linux" {
		assert.Error(t, Sync(at("none")))
	}
	require.NoError(t, j.Close())
	assert.Equal(t, []string{"unit"}, names(t, dir))
	finished, err := FinishJournal(at(".j"))
	assert.Equal(t, 0, finished)
	assert.NoError(t, err)
	assert.NoError(t, os.Mkdir(at("folder"), 0o755))
	_, err = FinishJournal(at("folder"))
	assert.NoError(t, err, "it is no journal")
	_, _, err = OpenJournal(at("none/.j"))
	assert.EqualError(t, err, "cannot write to "+at("none")+": no such folder; make it first")
}

// TestAbandon ends a process of its own in the middle of its work: what it leaves is what was
// there before.
func TestAbandon(t *testing.T) {
	const folder = "MEXALT_ABANDONED"
	if dir := os.Getenv(folder); dir != "" {
		j, _, err := OpenJournal(filepath.Join(dir, ".j"))
		require.NoError(t, err)
		WriteWith(j, &source.Files{},
			[]File{text(filepath.Join(dir, "a"), "new"), {Name: filepath.Join(dir, "b"), Write: func(w io.Writer) error {
				io.WriteString(w, "half")
				Abandon()
				os.Exit(7)
				return nil
			}}})
		return
	}
	dir := tempDir(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("old"), 0o644))
	cmd := exec.Command(os.Args[0], "-test.run=TestAbandon$")
	cmd.Env = append(os.Environ(), folder+"="+dir)
	out, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	require.ErrorAs(t, err, &exit, "%s", out)
	assert.Equal(t, 7, exit.ExitCode(), "%s", out)
	assert.Equal(t, "old", read(t, filepath.Join(dir, "a")))
	assert.Subset(t, []string{"a", ".j.lock"}, names(t, dir))
	j, finished, err := OpenJournal(filepath.Join(dir, ".j"))
	require.NoError(t, err)
	assert.Equal(t, 0, finished)
	assert.NoError(t, j.Close())
	assert.Equal(t, []string{"a"}, names(t, dir))
}

func TestOutputsThatDifferInCaseAlone(t *testing.T) {
	dir := tempDir(t)
	at := func(name string) string { return filepath.Join(dir, name) }
	for _, c := range []struct{ one, other, more string }{
		{"out.hex", "Out.HEX", " where upper and lower case are the same"}, {"a", "a", ""},
	} {
		err := Check(&source.Files{}, []File{text(at(c.one), "x"), text(at(c.other), "x")})
		assert.EqualError(t, err, "the outputs "+at(c.one)+" and "+at(c.other)+" are one file"+c.more)
	}
	assert.NoError(t, Check(&source.Files{}, []File{text(at("a"), "x"), text(at("b"), "x")}))
	require.NoError(t, os.WriteFile(at("ended"), nil, 0o644))
	for name, want := range map[string]string{
		dir:          "cannot write " + dir + ": it is a folder",
		at("none/x"): "cannot write " + at("none/x") + ": no folder " + at("none"),
	} {
		assert.EqualError(t, Check(&source.Files{}, []File{text(name, "x")}), want)
	}
	assert.Error(t, Check(&source.Files{}, []File{text(at("ended/x"), "x")}), "its folder is a file")
}

// TestOutputsOfALinkedFolder are one file where a folder has two names.
func TestOutputsOfALinkedFolder(t *testing.T) {
	dir := tempDir(t)
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.MkdirAll(at("real/deep"), 0o755))
	if err := os.Symlink(at("real"), at("link")); err != nil {
		t.Skip(err)
	}
	if _, err := os.Stat(at("link/deep")); err != nil { // the layer that runs programs of another system makes one that leads nowhere
		t.Skip(err)
	}
	for _, names := range [][2]string{{"real/a", "link/a"}, {"link/deep/a", "real/deep/a"}, {"link/deep/../a", "real/a"}} {
		err := Check(&source.Files{}, []File{text(at(names[0]), "x"), text(at(names[1]), "x")})
		assert.ErrorContains(t, err, "are one file", names)
	}
	assert.NoError(t, Check(&source.Files{}, []File{text(at("real/a"), "x"), text(at("link/deep/a"), "x")}))
}
