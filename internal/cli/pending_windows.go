package cli

import (
	"os"
	"path/filepath"
)

// pendingFile is a file that is written beside where it belongs, and put there
// whole. Package renameio does not promise that on Windows; os.Rename replaces
// a file in one step there too, unless another program has it open.
type pendingFile struct {
	*os.File
	name string
	done bool
}

func newPendingFile(name string) (*pendingFile, error) {
	f, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name))
	if err != nil {
		return nil, err
	}
	return &pendingFile{File: f, name: name}, nil
}

// Cleanup takes the unfinished file away.
func (f *pendingFile) Cleanup() error {
	if f.done {
		return nil
	}
	f.done = true
	f.Close()
	return os.Remove(f.Name())
}

// CloseAtomicallyReplace puts the file where it belongs.
func (f *pendingFile) CloseAtomicallyReplace() error {
	if err := f.Sync(); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	if err := os.Rename(f.Name(), f.name); err != nil {
		return err
	}
	f.done = true
	return nil
}
