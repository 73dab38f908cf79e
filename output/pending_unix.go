//go:build !windows

package output

import (
	"os"
	"path/filepath"
	"syscall"

	"github.com/google/renameio/v2"
)

// pendingFile is a file that is written beside where it belongs, and put there
// whole.
type pendingFile = renameio.PendingFile

func newPendingFile(name string) (*pendingFile, error) {
	return renameio.NewPendingFile(name, renameio.WithTempDir(filepath.Dir(name)),
		renameio.WithPermissions(0o666), renameio.WithExistingPermissions())
}

// identity returns device and inode of a file.
func identity(info os.FileInfo) (id [2]uint64, ok bool) {
	if info == nil {
		return id, false
	}
	s, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return id, false
	}
	return [2]uint64{uint64(s.Dev), s.Ino}, true
}
