//go:build !windows

package cli

import (
	"os"
	"os/signal"
	"time"
)

// die ends the program by a signal, so that whoever started it sees that.
func die(sig os.Signal) {
	signal.Reset()
	if self, err := os.FindProcess(os.Getpid()); err == nil {
		self.Signal(sig)
	}
	time.Sleep(time.Second) // for the signal to arrive
	os.Exit(statusSystem)   // where the system does not deliver it
}

// readerGone reports whether nobody reads any more what the program writes. The signal for
// that ends it before it is asked.
func readerGone(error) bool { return false }
