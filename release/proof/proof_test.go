package proof_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"mexalt/demo"
)

// folder is a folder with the demo's files in which release files are run.
func folder(t testing.TB) string {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, demo.Files()))
	return dir
}

func write(t testing.TB, dir, name, text string) {
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
}

func read(t testing.TB, dir, name string) string {
	b, err := os.ReadFile(filepath.Join(dir, name))
	require.NoError(t, err)
	return string(b)
}

const small = `name = "gauge"
device = "brindle-b8-32"
[set]
version = "2.4.1"
[[input]]
name = "boot"
file = "bootloader.hex"
[[input]]
name = "app"
file = "gauge-app.s19"
version-at = "0x34"
[[step]]
do = "fill"
in = ["application"]
with = "FF"
[[step]]
do = "seal"
[[output]]
name = "whole"
file = "{version}.hex"
[[input]]
name = "calibration"
file = "calibration.bin"
at = "calibration.first"
`
