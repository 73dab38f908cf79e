//go:build unix

package output

import (
	"os"
	"syscall"
)

// lock takes a file for this run alone, until it is closed.
func lock(f *os.File) error {
	err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	if err == syscall.EWOULDBLOCK {
		return ErrBusy
	}
	return err
}
