package output

import (
	"errors"
	"io"
	"os"
	"path/filepath"
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
