package output

import (
	"os"

	"golang.org/x/sys/unix"
)

// syncsTogether says that [Sync] sees to all files of a folder at once.
const syncsTogether = true

// Sync waits until all that was written to the file system of a folder has
// reached the disk.
func Sync(folder string) error {
	f, err := os.Open(folder)
	if err != nil {
		return err
	}
	defer f.Close()
	return unix.Syncfs(int(f.Fd()))
}
