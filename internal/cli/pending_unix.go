//go:build !windows

package cli

import (
	"path/filepath"

	"github.com/google/renameio/v2"
)

// pendingFile is a file that is written beside where it belongs, and put there
// whole.
type pendingFile = renameio.PendingFile

func newPendingFile(name string) (*pendingFile, error) {
	return renameio.NewPendingFile(name, renameio.WithTempDir(filepath.Dir(name)),
		renameio.WithPermissions(0o666), renameio.WithExistingPermissions())
}
