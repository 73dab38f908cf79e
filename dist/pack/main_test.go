package main

import (
	"archive/tar"
	"compress/gzip"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/cli"
	"mexalt/internal/golden"
)

// TestPackIsTheSameTwice packs this machine's archive, twice in a long run, and looks into it.
func TestPackIsTheSameTwice(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("the archive of Windows is no tar")
	}
	t.Chdir(filepath.Join("..", ".."))
	t.Setenv("SOURCE_DATE_EPOCH", "1764072000")
	target := runtime.GOOS + "/" + runtime.GOARCH
	first, second := t.TempDir(), t.TempDir()
	require.NoError(t, pack(first, target))
	twice := golden.Every(2) == 1
	if twice {
		require.NoError(t, pack(second, target))
	}
	names, err := filepath.Glob(filepath.Join(first, "*"))
	require.NoError(t, err)
	require.Len(t, names, 3)
	archive := ""
	for _, name := range names {
		one, err := os.ReadFile(name)
		require.NoError(t, err)
		if twice {
			two, err := os.ReadFile(filepath.Join(second, filepath.Base(name)))
			require.NoError(t, err)
			assert.Equal(t, one, two, name)
		}
		if strings.HasSuffix(name, ".tar.gz") {
			archive = name
		}
		if filepath.Base(name) == "SHA256SUMS" {
			assert.Equal(t, 2, strings.Count(string(one), "\n"))
		}
	}
	held := unpack(t, archive, t.TempDir())
	out, err := exec.Command(held["mexalt"], "version").Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), "mexalt ")
	for name := range cli.Manual("") {
		assert.Contains(t, held, "man/man1/"+name)
	}
	for _, name := range []string{"LICENSE", "README.md", "mexalt.cdx.json", "completions/mexalt.bash", "completions/_mexalt",
		"completions/mexalt.fish", "completions/mexalt.ps1"} {
		assert.Contains(t, held, name)
	}
	for _, module := range []string{"std", "github.com/pelletier/go-toml/v2", "codeberg.org/go-fonts/liberation", "golang.org/x/image",
		"github.com/jedib0t/go-pretty/v6"} {
		assert.Contains(t, held, "licences/"+module+"/LICENSE")
	}
	bill, err := os.ReadFile(held["mexalt.cdx.json"])
	require.NoError(t, err)
	assert.Contains(t, string(bill), `"purl": "pkg:golang/github.com/pelletier/go-toml/v2@`)
	assert.NotContains(t, string(bill), "testify", "only what is linked")
	assert.Error(t, pack(first, "plan9/mips"))
}

// unpack returns the files of an archive by their names within its folder.
func unpack(t *testing.T, archive, to string) map[string]string {
	t.Helper()
	f, err := os.Open(archive)
	require.NoError(t, err)
	defer f.Close()
	zipped, err := gzip.NewReader(f)
	require.NoError(t, err)
	held := map[string]string{}
	for r := tar.NewReader(zipped); ; {
		h, err := r.Next()
		if err == io.EOF {
			return held
		}
		require.NoError(t, err)
		assert.Equal(t, time.Unix(1764072000, 0).UTC(), h.ModTime.UTC())
		top, name, _ := strings.Cut(h.Name, "/")
		assert.Equal(t, strings.TrimSuffix(filepath.Base(archive), ".tar.gz"), top)
		file := filepath.Join(to, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o777))
		data, err := io.ReadAll(r)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, data, os.FileMode(h.Mode)))
		held[name] = file
	}
}

// TestManualIsRight lets the formatter of manuals look at each page.
func TestManualIsRight(t *testing.T) {
	if _, err := exec.LookPath("groff"); err != nil {
		t.Skip(err)
	}
	for name, text := range cli.Manual("1.0") {
		cmd := exec.Command("groff", "-man", "-ww", "-Tascii", "-P-c")
		cmd.Stdin = strings.NewReader(string(text))
		var told strings.Builder
		cmd.Stderr = &told
		out, err := cmd.Output()
		require.NoError(t, err)
		assert.Empty(t, told.String(), name)
		shown := regexp.MustCompile(".\b").ReplaceAllString(string(out), "") // bold is struck twice
		for _, section := range []string{"NAME", "SYNOPSIS", "EXIT STATUS", "SEE ALSO"} {
			assert.True(t, strings.Contains(shown, "\n"+section+"\n"), "%s: %s", name, section)
		}
	}
}
