package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
)

// model is an image as a map from address to byte.
type model map[uint64]byte

// hexText writes the model as Intel HEX, a byte a record, in any order.
func (m model) hexText() string {
	var b strings.Builder
	upper := uint64(0)
	line := func(bytes ...byte) {
		sum := byte(0)
		for _, c := range bytes {
			sum += c
		}
		fmt.Fprintf(&b, ":%X%02X\n", bytes, -sum)
	}
	for a, v := range m {
		if a>>16 != upper {
			upper = a >> 16
			line(2, 0, 0, 4, byte(upper>>8), byte(upper))
		}
		line(1, byte(a>>8), byte(a), 0, v)
	}
	b.WriteString(":00000001FF\n")
	return b.String()
}

// same holds a file against the model, by comparing it with the model's own
// text.
func (m model) same(f folder, name, what string) {
	f.t.Helper()
	r := f.run(m.hexText(), "compare", "-", name)
	require.Equal(f.t, 0, r.status, "%s: %s%s", what, r.out, r.err)
}

func (m model) with(change func(model)) model {
	out := model{}
	for a, v := range m {
		out[a] = v
	}
	change(out)
	return out
}

// TestShapingAgainstModel does each operation on random images, in each format
// between, and holds the results against a map from address to byte.
func TestShapingAgainstModel(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(21, 22))
	f := emptyFolder(t)
	random := func(corner uint64) model {
		m := model{}
		for range 1 + r.IntN(4) {
			first, size := corner+r.Uint64N(60), 1+r.Uint64N(12)
			for a := first; a < first+size && a <= 0xFFFF_FFFF; a++ {
				m[a] = byte(r.IntN(256))
			}
		}
		return m
	}
	for round := range 24 / golden.Every(2) {
		corner := []uint64{0, 0xFFE0, 0x7FFF_FFE0, 0xFFFF_FFC0}[round%4]
		between := []string{"hex", "srec"}[round/4%2]
		in, out := "in."+between, "out."+between
		a, b := random(corner), random(corner)
		f.write("a.hex", a.hexText())
		f.write("b.hex", b.hexText())
		f.ok("convert a.hex -o " + in)
		a.same(f, in, "convert")

		x, y := corner+r.Uint64N(60), corner+r.Uint64N(60)
		first, last := min(x, y), min(max(x, y), 0xFFFF_FFFF)
		span := fmt.Sprintf("%d..0x%X", first, last)
		inSpan := func(k uint64) bool { return first <= k && k <= last }

		f.ok("merge a.hex b.hex -clash first -o " + out)
		b.with(func(m model) {
			for k, v := range a {
				m[k] = v
			}
		}).same(f, out, "merge first")
		f.ok("merge a.hex b.hex -clash last -o " + out)
		a.with(func(m model) {
			for k, v := range b {
				m[k] = v
			}
		}).same(f, out, "merge last")

		for line, kept := range map[string]bool{"cut " + in + " -keep " + span: true, "cut -drop " + span + " " + in: false,
			"convert " + in + " -in " + span: true} {
			want := a.with(func(m model) {
				for k := range m {
					if inSpan(k) != kept {
						delete(m, k)
					}
				}
			})
			os.Remove(f.path(out))
			r := f.line(line + " -o " + out)
			if len(want) == 0 {
				assert.Equal(t, 3, r.status, line)
				assert.Contains(t, r.err, "error: nothing is left of the image", line)
				assert.NoFileExists(t, f.path(out), line)
				continue
			}
			require.Zero(t, r.status, "%s: %s", line, r.err)
			want.same(f, out, line)
		}

		f.ok("fill -in " + span + " -with 010203 " + in + " -o " + out)
		a.with(func(m model) {
			for k := first; k <= last; k++ {
				if _, ok := m[k]; !ok {
					m[k] = byte(1 + k%3)
				}
			}
		}).same(f, out, "fill")

		f.ok("fill -pages=16 -with FF " + in + " -o " + out)
		a.with(func(m model) {
			for k := range a {
				for p := k &^ 15; p <= k|15; p++ {
					if _, ok := m[p]; !ok {
						m[p] = 0xFF
					}
				}
			}
		}).same(f, out, "pages")

		f.ok(fmt.Sprintf("patch -at %d -number 0x1234 -size 2 -order big -grow %s -o %s", min(first, 0xFFFF_FFFE), in, out))
		a.with(func(m model) {
			at := min(first, 0xFFFF_FFFE)
			m[at], m[at+1] = 0x12, 0x34
		}).same(f, out, "patch")

		if corner > 0 {
			f.ok("place -shift -0x123 " + in + " -o " + out)
			moved := model{}
			for k, v := range a {
				moved[k-0x123] = v
			}
			moved.same(f, out, "place")
		}

		for _, way := range []string{"runs", "size 7", "lanes 3"} {
			for _, old := range f.names() {
				if strings.HasPrefix(old, "part-") {
					os.Remove(f.path(old))
				}
			}
			f.ok("split " + in + " -by " + way + " -o part-{n}." + between)
			var parts []string
			for i := 0; ; i++ {
				name := fmt.Sprintf("part-%d.%s", i, between)
				if _, err := os.Stat(f.path(name)); err != nil {
					break
				}
				parts = append(parts, name)
			}
			join := "merge "
			if way == "lanes 3" {
				join = "merge -lanes "
			}
			f.ok(join + strings.Join(parts, " ") + " -start none -o " + out)
			a.same(f, out, way)
		}
	}
}

func TestSplitAndMergeShowRegions(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	r := f.line("merge bootloader.hex gauge-app.s19 -device brindle-b8-32 -o m.hex")
	assert.Equal(t, 0, r.status)
	assert.Regexp(t, `gauge-app.s19 +application +24,310 +6,410 +79.1 %`, r.err)
	r = f.line("split m.hex -by regions -device brindle-b8-32 -o {name}-{first}.s19")
	assert.Equal(t, 0, r.status)
	assert.Regexp(t, `bootloader-0x7800.s19 +bootloader +1,408 +640 +68.8 %`, r.err)
	assert.Equal(t, 0, f.line("compare bootloader.hex bootloader-0x7800.s19").status)
	assert.NotContains(t, f.names(), "calibration-0x400000.s19", "empty regions make no files")
	assert.Contains(t, f.ok("inspect bootloader-0x7800.s19"), "start     0x7800")
	assert.NotContains(t, f.ok("inspect application-0x0.s19"), "start  ")
}

func TestDryRunsWriteNothing(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	before := f.names()
	for _, line := range []string{
		"merge bootloader.hex gauge-app.s19", "split gauge-app.s19 -by size 16K", "place bootloader.hex -shift 2",
		"cut bootloader.hex -keep image",
		"fill gauge-app.s19 -pages=128", "patch gauge-app.s19 -at 0 -bytes 00", "convert gauge-app.s19",
		"checksum gauge-app.s19 -store 0x7000 -grow",
	} {
		r := f.line(line + " -dry-run -o x{n}.hex")
		assert.Equal(t, 0, r.status, r.err)
		assert.Contains(t, r.err, "dry run: would write x")
		assert.Empty(t, r.out)
	}
	assert.Equal(t, before, f.names())
	assert.Contains(t, f.line("convert gauge-app.s19 -dry-run").err, "would write to standard output: S-record, 24,310 bytes in 1 run")
}

func TestCutTakesTheStartAddressAlong(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	r := f.line("cut bootloader.hex -drop 0x7800,16 -o x.hex")
	assert.Contains(t, r.err, "note: the start address 0x7800 is dropped with the bytes there")
	assert.NotContains(t, f.read("x.hex"), ":04000005")
	f.ok("cut bootloader.hex -keep 0x7800,16 -o x.hex")
	assert.Contains(t, f.read("x.hex"), ":0400000500007800")
}

// TestOutputsAppearTogetherOrNotAtAll lets one of several outputs fail.
func TestOutputsAppearTogetherOrNotAtAll(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	f.write("p0.bin", "old")
	require.NoError(t, os.Mkdir(f.path("p1.bin"), 0o755)) // cannot be replaced by a file
	before := f.names()
	r := f.line("split gauge-app.s19 -by size 16K -o p{n}.bin")
	assert.Equal(t, 4, r.status)
	assert.Equal(t, before, f.names())
	assert.Equal(t, "old", f.read("p0.bin"))

	// An output that is also the input is refused before any is written.
	f.ok("convert gauge-app.s19 -o q1.s19")
	before = f.names()
	assert.Equal(t, 2, f.line("split q1.s19 -by size 16K -o q{n}.s19").status)
	assert.Equal(t, before, f.names())
}

// TestKilledAtAnyMoment kills runs at random moments: the output is the old
// file or the new one, whole.
func TestKilledAtAnyMoment(t *testing.T) {
	notOn(t, "windows", "signals of the system below are none for its programs")
	f := emptyFolder(t)
	r := rand.New(rand.NewPCG(31, 32))
	f.write("in.bin", strings.Repeat("some firmware bytes ", 50_000))
	f.ok("convert in.bin -o new.hex")
	whole := f.read("new.hex")
	for range 30 {
		f.write("out.hex", "old")
		cmd := exec.Command(program, "convert", "in.bin", "-o", "out.hex")
		cmd.Dir = f.dir
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(r.IntN(25)) * time.Millisecond)
		interrupted := r.IntN(2) == 0
		if interrupted {
			cmd.Process.Signal(os.Interrupt)
		} else {
			cmd.Process.Kill()
		}
		cmd.Wait()
		if got := f.read("out.hex"); got != "old" {
			require.True(t, got == whole, "torn after %d bytes", len(got))
		}
		if interrupted {
			assert.Len(t, f.names(), 3, "an interrupted run takes its unfinished file away")
		}
		for _, name := range f.names() {
			if strings.HasPrefix(name, ".out.hex") {
				os.Remove(f.path(name)) // what a killed one could not take away
			}
		}
	}
}

func TestRestLanesAndHeader(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	f.write("far.hex", ":020000040100F9\n:0100000061"+"9E\n:00000001FF\n")
	f.ok("merge bootloader.hex far.hex -o both.hex")
	f.ok("split both.hex -by regions -device brindle-b8-32 -rest elsewhere -o part-{name}.hex")
	assert.Equal(t, "equal: far.hex and part-elsewhere.hex, 1 byte\n", f.ok("compare far.hex part-elsewhere.hex"))
	assert.Equal(t, "equal: bootloader.hex and part-bootloader.hex, 1,408 bytes\n", f.ok("compare bootloader.hex part-bootloader.hex"))

	f.ok("split bootloader.hex -by lanes 4 -lane-width 2 -o lane{n}.bin")
	f.ok("merge -lanes -lane-width 2 lane0.bin@0x1E00 lane1.bin@0x1E00 lane2.bin@0x1E00 lane3.bin@0x1E00 -o joined.hex")
	assert.Equal(t, 0, f.line("compare bootloader.hex joined.hex").status)

	f.ok("convert bootloader.hex -to srec -header TG-1 -o b.s19")
	assert.Contains(t, f.ok("inspect b.s19"), `header    "TG-1"`)
	assert.Contains(t, f.ok("convert b.s19"), "S00700005447"+"2D31", "the header stays as read")
	f.ok("fill gauge-app.s19 -pages 256 -o a.s19")
	f.ok("fill gauge-app.s19 -pages=256 -o b.s19")
	assert.Equal(t, f.read("a.s19"), f.read("b.s19"))
}
