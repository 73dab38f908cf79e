package rehearsal

import (
	"context"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// open opens a shipped map.
func open(t testing.TB, name string) *device.Map {
	m, err := device.Open(&source.Files{}, name, nil)
	require.NoError(t, err)
	return m
}

// station makes an image for the M32-512: a loader that starts, and an application
// of so many bytes, whose checksum holds.
func station(t testing.TB, m *device.Map, seed uint64, loader byte, size int) *memory.Image {
	r := rand.New(rand.NewPCG(seed, 0))
	in := &source.Input{Name: "test"}
	low := make([]byte, 32<<10)
	for i := range low {
		low[i] = loader
	}
	copy(low, []byte{0, 0, 2, 0x28, 0x09, 0, 0, 0x06})
	app := make([]byte, 480<<10)
	for i := range app {
		app[i] = 0xFF
		if i < size {
			app[i] = byte(r.Uint32())
		}
	}
	return sealed(t, m, joined(t, in, 0x0600_0000, low, 0x0600_8000, app))
}

func joined(t testing.TB, in *source.Input, parts ...any) *memory.Image {
	var images []*memory.Image
	for i := 0; i < len(parts); i += 2 {
		one, ok := memory.FromBytes(uint64(parts[i].(int)), parts[i+1].([]byte), in)
		require.True(t, ok)
		images = append(images, one)
	}
	all, _ := memory.Merge(images, memory.First)
	return all
}

// sealed stores all checksums of the map.
func sealed(t testing.TB, m *device.Map, image *memory.Image) *memory.Image {
	for i := range m.Checksums {
		spec, err := m.Checksums[i].Spec(m, image)
		require.NoError(t, err)
		_, value, err := spec.Compute(image, 1)
		require.NoError(t, err)
		out, ok := image.Write(&source.Input{Name: "seal"}, spec.Place.First, value)
		require.True(t, ok)
		image = out
	}
	return image
}

// BenchmarkSweep cuts the power at every moment of an update of 512 KiB, five times
// a page and sector: 10,000 moments.
func BenchmarkSweep(b *testing.B) {
	m := open(b, "brindle-m32-512")
	old, new := station(b, m, 1, 0xA5, 480<<10-4), station(b, m, 2, 0xA5, 480<<10-4)
	p, err := Open(&source.Files{}, "update")
	require.NoError(b, err)
	for b.Loop() {
		c := chip.New(m, 1)
		c.Program(old)
		s, err := SweepOf(context.Background(), c, p, new, SweepOptions{})
		require.NoError(b, err)
		b.ReportMetric(float64(s.Moments), "moments")
		if testing.Verbose() {
			for _, w := range s.Windows {
				fmt.Println(w.Outcome, w.From, w.To, w.First, w.Last, w.Why(), w.Remedy, w.Acts)
			}
			fmt.Println(s.Counts, s.Durations, s.Unrepeatable, s.WhyFailing, s.FirstFailing, s.End)
		}
	}
}

// BenchmarkLargeSweep cuts the power at every moment of an update of 29,000 acts on a
// part of 4 GiB.
func BenchmarkLargeSweep(b *testing.B) {
	m := mapOf(b, `name = "Large"
[[memory]]
name = "flash"
kind = "flash"
first = 0
size = "4G"
page = 256
granule = 8
sectors = [{ count = 65536, size = "64K" }]
erase-time = { typical = "50 ms" }
program-time = { typical = "1 ms" }
[[region]]
name = "loader"
role = "bootloader"
first = 0
size = "64K"
[[region]]
name = "app"
role = "application"
first = "64K"
last = "flash.last"
[start]
kind = "instruction"
at = "loader.first"
[[checksum]]
name = "sum"
kind = "CRC-32/ISO-HDLC"
in = "app.first..app.first+7M-1"
at = "app.first+7M"
guards = "app"
`)
	in := &source.Input{Name: "test"}
	make := func(seed uint64, loader bool) *memory.Image {
		r := rand.New(rand.NewPCG(seed, 0))
		app := make([]byte, 7<<20)
		for i := range app {
			app[i] = byte(r.Uint32())
		}
		parts := []any{64 << 10, app}
		if loader {
			parts = append(parts, 0, []byte("loader"))
		}
		return sealed(b, m, joined(b, in, parts...))
	}
	old, new := make(1, true), make(2, false)
	p, err := Open(&source.Files{}, "update")
	require.NoError(b, err)
	for b.Loop() {
		c := chip.New(m, 1)
		c.Program(old)
		s, err := SweepOf(context.Background(), c, p, new, SweepOptions{})
		require.NoError(b, err)
		require.Equal(b, AnyCuts, s.Ladder.Rung, s.Ladder.Why)
		b.ReportMetric(float64(s.Steps), "acts")
	}
}

// BenchmarkBetter looks for a better order of an update of 512 KiB: each try takes a part of
// what a sweep does.
func BenchmarkBetter(b *testing.B) {
	m := open(b, "brindle-m32-512")
	c := chip.New(m, 1)
	c.Program(station(b, m, 1, 1, 512<<10))
	image := station(b, m, 2, 1, 512<<10)
	p, err := Open(&source.Files{}, "update")
	require.NoError(b, err)
	s, err := SweepOf(context.Background(), c, p, image, SweepOptions{})
	require.NoError(b, err)
	for b.Loop() {
		found, err := BetterThan(context.Background(), c, s, image, SweepOptions{})
		require.NoError(b, err)
		require.NotNil(b, found)
	}
}
