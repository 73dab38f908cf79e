package release

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/output"
	"mexalt/source"
)

// writtenOf is what became of a run's outputs.
func writtenOf(r *Result) (list []output.Written) {
	for _, p := range r.Products {
		for _, o := range p.Outputs {
			list = append(list, output.Written{Name: o.File, Size: int64(o.Size), SHA256: o.SHA256})
		}
	}
	return list
}

// TestVariantsThatAreLetGo runs a release of more variants than it keeps images of: outputs,
// page and manifest are those of runs of one variant, and a file that is modified before
// the outputs are written is told.
func TestVariantsThatAreLetGo(t *testing.T) {
	dir := t.TempDir()
	data := make([]byte, 1<<20)
	rand.NewChaCha8([32]byte{}).Read(data)
	write(t, dir, "a.bin", string(data))
	write(t, dir, "serial.bin", "one!")
	write(t, dir, "p.device.toml", "name = \"P\"\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0\nsize = \"1M\"\n")
	text := `name = "many"
device = "p"
[[input]]
name = "all"
file = "a.bin"
at = 0
[[step]]
do = "patch"
at = 16
values = [{ text = "{variant}" }, { file = "serial.bin" }]
[[output]]
name = "whole"
file = "{variant}.bin"
[[output]]
file = "{variant}.hex"
in = "0..0xFF"
[[output]]
file = "{variant}.txt"
text = "{sha256:whole}"
[[output]]
file = "{variant}.html"
`
	for i := range 7 {
		text += fmt.Sprintf("[[variant]]\nname = \"v%d\"\n", i)
	}
	o := Options{Tool: "test", Picture: func(kind string, f *File, p *Product) func(io.Writer) error {
		return func(w io.Writer) error {
			_, err := fmt.Fprintf(w, "%s %x %d", p.Variant, p.Image.Digest(), len(p.Outputs))
			return err
		}
	}}
	r, _, err := run(t, dir, text, o)
	require.NoError(t, err)
	kept := 0
	for _, p := range r.Products {
		if p.Image != nil {
			kept++
		} else {
			assert.NotNil(t, p.image())
			assert.Nil(t, p.let.made, "nothing is kept once all is written")
			assert.Nil(t, p.Checked.Whole)
		}
	}
	assert.Equal(t, mostKept/len(data), kept)
	all, alone := r.manifest(&source.Files{}, o, writtenOf(r)), t.TempDir()
	for i, p := range r.Products {
		one := o
		one.Variants, one.Folder = []string{p.Variant}, alone
		single, _, err := run(t, dir, text, one)
		require.NoError(t, err)
		for _, ending := range []string{".bin", ".hex", ".txt", ".html"} {
			assert.Equal(t, read(t, alone, p.Variant+ending), read(t, dir, p.Variant+ending), p.Variant+ending)
		}
		assert.Equal(t, fmt.Sprintf("%x", sha256.Sum256([]byte(read(t, dir, p.Variant+".bin")))), read(t, dir, p.Variant+".txt"))
		want := single.manifest(&source.Files{}, one, writtenOf(single)).Products[0]
		is := all.Products[i]
		for k := range is.Outputs {
			is.Outputs[k].File = filepath.Base(is.Outputs[k].File)
			want.Outputs[k].File = filepath.Base(want.Outputs[k].File)
		}
		is.Inputs, want.Inputs, is.Origins.Inputs, want.Origins.Inputs = nil, nil, nil, nil // named from another folder
		assert.Equal(t, want, is)
	}
	files := &source.Files{Digest: true}
	f, err := Load(files, filepath.Join(dir, "x.release.toml"))
	require.NoError(t, err)
	o.unwritten = true
	ctx, end := context.WithCancel(context.Background())
	r, err = f.Run(ctx, files, o)
	require.NoError(t, err)
	last := r.Products[len(r.Products)-1]
	for _, p := range r.Products {
		if p.let != nil {
			last = p
		}
	}
	write(t, dir, "serial.bin", "two!")
	assert.ErrorContains(t, last.files[0].Write(io.Discard), "an input was modified while the release was built; run it again")
	assert.Nil(t, last.image())
	require.NoError(t, os.Remove(filepath.Join(dir, "serial.bin")))
	assert.ErrorContains(t, last.files[0].Write(io.Discard), "serial.bin")
	end()
	assert.ErrorIs(t, last.files[0].Write(io.Discard), context.Canceled)
}
