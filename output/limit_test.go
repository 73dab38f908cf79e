//go:build unix

package output

import (
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// lowerOpenFiles lets the process have so many files open, until the function
// returned is called.
func lowerOpenFiles(t *testing.T, most uint64) (restore func()) {
	t.Helper()
	var was syscall.Rlimit
	require.NoError(t, syscall.Getrlimit(syscall.RLIMIT_NOFILE, &was))
	low := was
	low.Cur = most
	require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_NOFILE, &low))
	return func() { syscall.Setrlimit(syscall.RLIMIT_NOFILE, &was) }
}
