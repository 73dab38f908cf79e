package output

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSameContents holds files of sizes around that of the pieces that are read against
// copies, and against such as differ in one byte or in length.
func TestSameContents(t *testing.T) {
	dir := tempDir(t)
	write := func(name string, data []byte) string {
		name = filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(name, data, 0o644))
		return name
	}
	const piece = 64 << 10
	for _, n := range []int{0, 1, piece - 1, piece, piece + 1, 2 * piece, 2*piece + 7} {
		data := bytes.Repeat([]byte{7}, n)
		a := write("a", data)
		assert.True(t, sameContents(a, write("b", data)), "%d", n)
		longer := write("longer", append(data, 7))
		assert.False(t, sameContents(a, longer), "%d", n)
		assert.False(t, sameContents(longer, a), "%d", n)
		for _, at := range []int{0, n / 2, n - 1} {
			if at >= 0 && at < n {
				other := bytes.Clone(data)
				other[at]++
				assert.False(t, sameContents(a, write("other", other)), "%d %d", n, at)
			}
		}
		assert.False(t, sameContents(a, filepath.Join(dir, "none")), "%d", n)
		assert.False(t, sameContents(filepath.Join(dir, "none"), a), "%d", n)
		assert.False(t, sameContents(a, dir), "what cannot be read is not known")
		assert.False(t, sameContents(dir, dir), "what cannot be read is not known")
	}
}
