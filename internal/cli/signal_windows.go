package cli

import (
	"errors"
	"os"

	"golang.org/x/sys/windows"
)

// die ends the program as Ctrl-C ends one that does not ask for it, so that whoever started
// it sees that.
func die(os.Signal) { os.Exit(int(windows.STATUS_CONTROL_C_EXIT)) }

// readerGone reports whether nobody reads any more what the program writes.
func readerGone(err error) bool {
	return errors.Is(err, windows.ERROR_BROKEN_PIPE) || errors.Is(err, windows.ERROR_NO_DATA) ||
		errors.Is(err, windows.ERROR_PIPE_NOT_CONNECTED)
}
