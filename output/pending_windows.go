package output

import (
	"errors"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/windows"
)

// newPendingFile makes a file beside a name, with its token in its own. Package
// renameio does not promise to replace files whole on Windows; os.Rename replaces
// a file in one step there too, unless another program has it open.
func newPendingFile(name, token string, _ os.FileInfo, _ bool) (pendingFile, error) {
	return os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+"."+token+"*")
}

// readByOthers reports nothing: Windows has other ways to say who may read a file.
func readByOthers(os.FileInfo) bool { return false }

// identity returns volume and index of the file that is at a path.
func identity(path string, info os.FileInfo) (id [2]uint64, ok bool) {
	if info == nil {
		return id, false
	}
	f, err := os.Open(path)
	if err != nil {
		return id, false
	}
	defer f.Close()
	var of windows.ByHandleFileInformation
	if err := windows.GetFileInformationByHandle(windows.Handle(f.Fd()), &of); err != nil {
		return id, false
	}
	return [2]uint64{uint64(of.VolumeSerialNumber), uint64(of.FileIndexHigh)<<32 | uint64(of.FileIndexLow)}, true
}

// errOpen says why a file cannot be replaced.
var errOpen = errors.New("another program has it open; close it there")

// patience is how long a file may be open in another program: a scanner of new files has
// done with one by then.
const patience = 2 * time.Second

// persevere tries something again while another program has the file open.
func persevere(try func() error) error {
	for until := time.Now().Add(patience); ; time.Sleep(patience / 40) {
		err := try()
		open := errors.Is(err, windows.ERROR_SHARING_VIOLATION) || errors.Is(err, windows.ERROR_ACCESS_DENIED)
		if !open || time.Now().After(until) {
			if errors.Is(err, windows.ERROR_SHARING_VIOLATION) {
				return errOpen
			}
			return err
		}
	}
}

// replaceable tells, before anything is done, whether a file can be put in the place of the
// one that is there.
func replaceable(path string) error {
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return err
	}
	return persevere(func() error {
		h, err := windows.CreateFile(name, windows.DELETE, windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE|windows.FILE_SHARE_DELETE,
			nil, windows.OPEN_EXISTING, windows.FILE_ATTRIBUTE_NORMAL, 0)
		if err == nil {
			err = windows.CloseHandle(h)
		}
		return err
	})
}

// rename puts a file in its place.
func rename(from, to string) error { return persevere(func() error { return os.Rename(from, to) }) }

// remove takes a file away.
func remove(name string) error { return persevere(func() error { return os.Remove(name) }) }
