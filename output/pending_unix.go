//go:build !windows

package output

import (
	"os"
	"path/filepath"
	"syscall"

	"github.com/google/renameio/v2"
)

// newPendingFile makes a file beside a name, with its token in its own; like is the
// file that is there, whose permissions it gets, unless it is private.
func newPendingFile(name, token string, like os.FileInfo, private bool) (pendingFile, error) {
	mode := os.FileMode(0o666)
	if like != nil {
		mode = like.Mode().Perm()
	}
	if private {
		mode &= 0o600
	}
	f, err := renameio.NewPendingFile(name+"."+token, renameio.WithTempDir(filepath.Dir(name)), renameio.WithPermissions(mode))
	if err != nil {
		return nil, err
	}
	if like != nil { // whatever the mask is
		if err := f.Chmod(mode); err != nil {
			f.Cleanup()
			return nil, err
		}
	}
	return f, nil
}

// readByOthers reports whether others than its owner may read or change a file.
func readByOthers(info os.FileInfo) bool { return info.Mode().Perm()&0o077 != 0 }

// replaceable says that a file can always be put in the place of another.
func replaceable(string) error { return nil }

// rename puts a file in its place.
func rename(from, to string) error { return os.Rename(from, to) }

// remove takes a file away.
func remove(name string) error { return os.Remove(name) }

// identity returns device and inode of a file.
func identity(_ string, info os.FileInfo) (id [2]uint64, ok bool) {
	if info == nil {
		return id, false
	}
	s, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return id, false
	}
	return [2]uint64{uint64(s.Dev), s.Ino}, true
}
