package output

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

// TestFilesThatAnotherProgramHasOpen writes over files that are open elsewhere: for as long as
// a scanner has one it is waited for, and otherwise nothing is written and nothing is left.
func TestFilesThatAnotherProgramHasOpen(t *testing.T) {
	dir := tempDir(t)
	a, b := filepath.Join(dir, "a"), filepath.Join(dir, "b")
	require.NoError(t, os.WriteFile(a, []byte("old a"), 0o644))
	require.NoError(t, os.WriteFile(b, []byte("old b"), 0o644))
	files := []File{text(a, "new a"), text(b, "new b")}

	held, err := os.Open(b)
	require.NoError(t, err)
	begin := time.Now()
	_, err = Write(&source.Files{}, files)
	assert.ErrorContains(t, err, "another program has it open")
	assert.GreaterOrEqual(t, time.Since(begin), patience)
	assert.Equal(t, "old a", read(t, a))
	assert.Equal(t, "old b", read(t, b))
	assert.Equal(t, []string{"a", "b"}, names(t, dir), "nothing is left")

	time.AfterFunc(patience/5, func() { held.Close() })
	_, err = Write(&source.Files{}, files)
	require.NoError(t, err)
	assert.Equal(t, "new a", read(t, a))
	assert.Equal(t, "new b", read(t, b))
	assert.Equal(t, []string{"a", "b"}, names(t, dir))
}
