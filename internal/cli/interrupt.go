package cli

import (
	"context"
	"errors"
	"os"
	"os/signal"
	"syscall"
	"time"

	"mexalt/output"
)

// grace is how long a command that is interrupted may take to end by itself; then it ends
// where it is.
const grace = 700 * time.Millisecond

// errInterrupted ends a command that a signal has ended.
var errInterrupted = &failure{statusSystem, errors.New("interrupted")}

// interruptible returns a context that a signal to end the program ends. A command that has
// not ended some time later, or is signalled again, ends all the same; nothing unfinished is
// left in either case. end ends the program as the signal would have, if one came and the
// command has ended because of it.
func interruptible() (ctx context.Context, end func(status int)) {
	ctx, cancel := context.WithCancel(context.Background())
	signals := make(chan os.Signal, 2)
	for _, sig := range []os.Signal{os.Interrupt, syscall.SIGTERM, syscall.SIGHUP} {
		if !signal.Ignored(sig) { // as under nohup
			signal.Notify(signals, sig)
		}
	}
	first := make(chan os.Signal, 1)
	go func() {
		sig := <-signals
		first <- sig
		cancel()
		select {
		case <-signals:
		case <-time.After(grace):
		}
		output.Abandon()
		die(sig)
	}()
	return ctx, func(status int) {
		if status != statusDone && ctx.Err() != nil {
			die(<-first)
		}
	}
}
