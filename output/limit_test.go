//go:build unix

package output

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"mexalt/source"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// lowerOpenFiles lets the process have so many files open, until the function
// returned is called.
func lowerOpenFiles(t *testing.T, most uint64) (restore func()) {
	t.Helper()
	var was syscall.Rlimit
	require.NoError(t, syscall.Getrlimit(syscall.RLIMIT_NOFILE, &was))
	low := was
	low.Cur = most
	require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_NOFILE, &low))
	return func() { syscall.Setrlimit(syscall.RLIMIT_NOFILE, &was) }
}

// TestManyFiles writes more files than a process may have open.
func TestManyFiles(t *testing.T) {
	dir := tempDir(t)
	var files []File
	for i := range 300 {
		files = append(files, text(filepath.Join(dir, fmt.Sprint(i)), "x"))
	}
	limit := lowerOpenFiles(t, 60)
	defer limit()
	_, err := Write(&source.Files{}, files)
	require.NoError(t, err)
}

// TestPipesAreWrittenThrough writes to a pipe, which is never replaced.
func TestPipesAreWrittenThrough(t *testing.T) {
	pipe := filepath.Join(tempDir(t), "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	got := make(chan []byte)
	go func() {
		b, _ := os.ReadFile(pipe)
		got <- b
	}()
	w, err := Write(&source.Files{}, []File{text(pipe, "gone")})
	require.NoError(t, err)
	assert.Equal(t, "gone", string(<-got))
	assert.False(t, w[0].Replaced)
	assert.Equal(t, int64(4), w[0].Size)
	info, err := os.Stat(pipe)
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeNamedPipe)
}
