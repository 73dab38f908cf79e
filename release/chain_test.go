package release

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/operation"
	"mexalt/source"
)

// TestStepsInARow runs releases of many small changes, among which are some of all: what
// comes of them, and where each byte came from, is as if each had been made in a copy.
func TestStepsInARow(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "a.bin", strings.Repeat("firmware of a gauge. ", 20))
	write(t, dir, "b.bin", strings.Repeat("0123456789abcdef", 12))
	made := 0
	for seed := range uint64(120 / golden.Every(3)) {
		r := rand.New(rand.NewPCG(seed, 51))
		text := "name = \"r\"\n[[input]]\nname = \"a\"\nfile = \"a.bin\"\nat = 0x100\n[[input]]\nname = \"b\"\nfile = " +
			"\"b.bin\"\nat = 0x400\n"
		type change struct {
			line int
			do   string
			keys []source.Setting
		}
		var steps []change
		for range 12 + r.IntN(20) {
			var keys []source.Setting
			set := func(name, value string) { keys = append(keys, source.Setting{Key: name, Value: value}) }
			do := "patch"
			at := []int{0x100 + r.IntN(400), 0x400 + r.IntN(180)}[r.IntN(2)]
			switch r.IntN(12) {
			case 0:
				do = "convert"
				set("swap", fmt.Sprint(1<<r.IntN(3)))
			case 1:
				do = "fill"
				set("in", fmt.Sprintf("0x%X..0x%X", at, at+r.IntN(64)))
				set("with", "FF")
			case 2:
				do = "cut"
				set("drop", fmt.Sprintf("0x%X,%d", at, 4*(1+r.IntN(2))))
			default:
				set("at", fmt.Sprintf("0x%X", at))
				set("bytes", fmt.Sprintf("%02X %02X %02X", r.IntN(256), r.IntN(256), r.IntN(256))[:3*(1+r.IntN(3))-1])
				set("grow", "true")
			}
			steps = append(steps, change{strings.Count(text, "\n") + 1, do, keys})
			text += "[[step]]\ndo = \"" + do + "\"\n"
			for _, k := range keys {
				value := fmt.Sprintf("%q", k.Value)
				if k.Key == "grow" {
					value = "true"
				}
				text += k.Key + " = " + value + "\n"
			}
		}
		text += "[[output]]\nfile = \"r.hex\"\n"

		var image *memory.Image
		var failed error
		place := func(file string, at uint64) *memory.Image {
			m, _ := memory.FromBytes(at, []byte(read(t, dir, file)), &source.Input{Name: file, Counting: source.Offsets})
			return m
		}
		image, _ = memory.Merge([]*memory.Image{place("a.bin", 0x100), place("b.bin", 0x400)}, memory.First)
		for _, c := range steps {
			op := operation.KindOf(c.do).New()
			require.NoError(t, key.Set(op.Keys(), c.keys))
			outcome, err := op.Apply(&operation.Environment{Cores: 1, Where: fmt.Sprintf("x.release.toml:%d", c.line)},
				[]memory.Part{{Name: "r", Image: image}})
			if failed = err; err != nil {
				break
			}
			image = outcome.Image()
		}
		got, _, err := run(t, dir, text, Options{Tool: "test"})
		require.Equal(t, failed != nil, err != nil, "seed %d: %v\n%v", seed, failed, err)
		if err != nil {
			continue
		}
		made++
		is := got.Products[0].Image
		require.True(t, image.Equal(is), "seed %d\n%s", seed, text)
		for at := range uint64(0x600) {
			want, ok := image.Origin(at)
			origin, found := is.Origin(at)
			require.Equal(t, ok, found)
			says := strings.NewReplacer(dir+string(filepath.Separator), "", ", place (x.release.toml:2)", "",
				", place (x.release.toml:6)", "").Replace(chainOf(&origin))
			require.Equal(t, chainOf(&want), says, "seed %d, 0x%X\n%s", seed, at, text)
		}
	}
	assert.Greater(t, made, 30/golden.Every(3))
}

// chainOf says where a byte came from, and what it was written over.
func chainOf(o *memory.Origin) string {
	var list []string
	for ; o != nil; o = o.Over {
		list = append(list, o.String())
	}
	return strings.Join(list, "; ")
}
