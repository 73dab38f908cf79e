package proof_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/release"
	"mexalt/release/proof"
	"mexalt/source"
)

// TestManifestAgainstTheTruth makes random releases and keeps its own books of
// where every byte came from.
func TestManifestAgainstTheTruth(t *testing.T) {
	for seed := range uint64(200 / golden.Every(4)) {
		r := rand.New(rand.NewPCG(seed, 9))
		dir := t.TempDir()
		text := "name = \"random\"\n"
		truth := map[uint64]string{} // place and steps
		line := 1
		add := func(format string, args ...any) int {
			begin := line + 1
			more := fmt.Sprintf(format, args...)
			text += more
			line += strings.Count(more, "\n")
			return begin
		}
		at := uint64(r.IntN(100))
		for n := range 1 + r.IntN(3) {
			at += uint64(r.IntN(60))
			size := 1 + r.IntN(100)
			name := fmt.Sprintf("in%d", n)
			if r.IntN(2) == 0 { // raw, placed
				data := make([]byte, size)
				for i := range data {
					data[i] = byte(r.Uint32())
				}
				write(t, dir, name+".bin", string(data))
				begin := add("[[input]]\nname = %q\nfile = %q\nat = %d\n", name, name+".bin", at)
				for i := range uint64(size) {
					truth[at+i] = fmt.Sprintf("%s.bin+0x%X", name, i)
					if at > 0 {
						truth[at+i] += fmt.Sprintf(", place (r.release.toml:%d)", begin)
					}
				}
				at += uint64(size)
				continue
			}
			hex, first := "", at
			for n := 1; size > 0; n++ {
				each := min(1+r.IntN(20), size)
				record := []byte{byte(each), byte(at >> 8), byte(at), 0}
				for i := range each {
					record = append(record, byte(r.Uint32()))
					truth[at+uint64(i)] = fmt.Sprintf("%s.hex:%d", name, n)
				}
				sum := byte(0)
				for _, b := range record {
					sum += b
				}
				hex += fmt.Sprintf(":%X%02X\n", record, byte(-sum))
				at, size = at+uint64(each), size-each
			}
			write(t, dir, name+".hex", hex+":00000001FF\n")
			begin := add("[[input]]\nname = %q\nfile = %q\n", name, name+".hex")
			if r.IntN(3) == 0 { // and shifted far up
				add("shift = 0x10000\n")
				for a := first; a < at; a++ {
					truth[a+0x10000] = truth[a] + fmt.Sprintf(", place (r.release.toml:%d)", begin)
					delete(truth, a)
				}
			}
		}
		first, last := ^uint64(0), uint64(0)
		for a := range truth {
			first, last = min(first, a), max(last, a)
		}
		for range r.IntN(5) {
			switch r.IntN(3) {
			case 0:
				where, size := first+uint64(r.IntN(int(min(last-first+1, 300)))), uint64(1+r.IntN(6))
				if where+size-1 > last {
					continue
				}
				begin := add("[[step]]\ndo = \"patch\"\nat = %d\ngrow = true\nbytes = \"%s\"\n", where, strings.Repeat("5A", int(size)))
				for a := where; a < where+size; a++ {
					truth[a] = fmt.Sprintf("patch (r.release.toml:%d)", begin)
				}
			case 1:
				end := min(first+200, last)
				begin := add("[[step]]\ndo = \"fill\"\nin = \"%d..%d\"\nwith = \"FF\"\n", first, end)
				for a := first; a <= end; a++ {
					if truth[a] == "" {
						truth[a] = fmt.Sprintf("fill (r.release.toml:%d)", begin)
					}
				}
			case 2:
				whole := true
				for a := range truth {
					whole = whole && truth[a^1] != ""
				}
				if !whole {
					continue
				}
				begin := add("[[step]]\ndo = \"convert\"\nswap = 2\n")
				turned := map[uint64]string{}
				for a, from := range truth {
					turned[a^1] = from + fmt.Sprintf(", swap (r.release.toml:%d)", begin)
				}
				truth = turned
				for a := range truth {
					first, last = min(first, a), max(last, a)
				}
			}
		}
		write(t, dir, "r.release.toml", text+"[[output]]\nfile = \"r.hex\"\n")
		name := made(t, dir, "r.release.toml", release.Options{})
		require.Empty(t, nos(confirm(t, name, false)), "seed %d", seed)
		m, err := proof.Load(&source.Files{}, name)
		require.NoError(t, err)
		tracer, err := m.Products[0].Origins.Tracer()
		require.NoError(t, err)
		for a, want := range truth {
			got, ok := tracer.Origin(a)
			require.True(t, ok, "seed %d, 0x%X", seed, a)
			require.Equal(t, want, got.String(), "seed %d, 0x%X\n%s", seed, a, text)
		}
		assert.Equal(t, uint64(len(truth)), m.Products[0].Contents.Bytes)
	}
}

func explain(t *testing.T, q proof.Question) (*proof.Explained, error) {
	t.Helper()
	return proof.Explain(&source.Files{}, q, release.Again(context.Background(), release.Options{}),
		release.AgainUnits(context.Background(), release.Options{}))
}

func TestExplain(t *testing.T) {
	dir := folder(t)
	write(
		t,
		dir,
		"x.release.toml",
		strings.Replace(small, `file = "{version}.hex"`, "file = \"{version}.hex\"\n[[output]]\nfile = \"app.bin\"\nin = \"application\"",
			1),
	)
	made(t, dir, "x.release.toml", release.Options{})
	path := func(name string) string { return filepath.Join(dir, name) }
	e, err := explain(t, proof.Question{Output: path("2.4.1.hex"), At: []string{"0x77FA..0x7801", "part.calibration.first"}})
	require.NoError(t, err)
	require.Len(t, e.Rows, 4)
	assert.False(t, e.Changed)
	assert.Equal(t, "fill (x.release.toml:12)", e.Rows[0].From)
	assert.Equal(t, []string{"application_crc, CRC-32/ISO-HDLC over 0x0000..0x77FB"}, e.Rows[0].Covers)
	assert.Equal(
		t,
		proof.Row{
			Span:   e.Rows[1].Span,
			Data:   e.Rows[1].Data,
			Region: "application",
			From:   "seal (x.release.toml:16)",
			Over:   []string{"fill (x.release.toml:12)"},
			Is:     "application_crc, CRC-32/ISO-HDLC over 0x0000..0x77FB",
		},
		e.Rows[1],
	)
	assert.Equal(t, "bootloader.hex:1", e.Rows[2].From)
	assert.Equal(t, "calibration.bin+0x0", e.Rows[3].From)
	assert.Equal(t, []string{"place (x.release.toml:24)"}, e.Rows[3].Steps)

	whole, err := explain(t, proof.Question{Output: path("app.bin"), At: []string{"0x0000..0x77FF"}})
	require.NoError(t, err)
	var all []byte
	for _, row := range whole.Rows {
		all = append(all, row.Data...)
	}
	assert.Equal(t, read(t, dir, "app.bin"), string(all), "each row has all its bytes")

	byOffset, err := explain(t, proof.Question{Output: path("app.bin"), Offset: "0x77FC..0x77FF"})
	require.NoError(t, err)
	assert.Equal(t, e.Rows[1], byOffset.Rows[0])
	byOffset, err = explain(t, proof.Question{Output: path("app.bin"), Offset: "0"})
	require.NoError(t, err)
	assert.Equal(t, all[:1], byOffset.Rows[0].Data)

	// Each line of the application went to where its record says.
	lines := strings.Split(read(t, dir, "gauge-app.s19"), "\n")
	for _, n := range []int{2, 3, 400, 758} {
		var count, first uint64
		_, err := fmt.Sscanf(lines[n-1], "S1%2x%4x", &count, &first)
		require.NoError(t, err)
		e, err := explain(t, proof.Question{Output: path("2.4.1.hex"), From: fmt.Sprintf("gauge-app.s19:%d", n)})
		require.NoError(t, err)
		require.Len(t, e.Rows, 1)
		assert.Equal(t, first, e.Rows[0].First)
		assert.Equal(t, count-3, e.Rows[0].Size())
		assert.Equal(t, fmt.Sprintf("gauge-app.s19:%d", n), e.Rows[0].From)
		assert.Empty(t, e.Rows[0].To)
	}

	// A changed output, and what a device said, differ where they do.
	app := []byte(read(t, dir, "app.bin"))
	app[0x123] ^= 0xFF
	write(t, dir, "readback.bin", string(app))
	for _, q := range []proof.Question{{Output: path("app.bin")}, {Output: path("readback.bin"), Manifest: path("x.manifest.json")}} {
		write(t, dir, "app.bin", string(app))
		q.At = []string{"0x0120..0x012F"}
		e, err := explain(t, q)
		require.NoError(t, err)
		assert.True(t, e.Changed)
		require.Len(t, e.Rows, 1)
		assert.Equal(t, []proof.Differs{{Address: 0x123, Found: app[0x123], Want: app[0x123] ^ 0xFF}}, e.Rows[0].Differ)
	}
	for want, q := range map[string]proof.Question{
		"at: missing; give":                                {Output: path("2.4.1.hex")},
		"unknown name foo":                                 {Output: path("2.4.1.hex"), At: []string{"foo"}},
		"it contains nothing there":                        {Output: path("2.4.1.hex"), At: []string{"0x9000"}},
		"from: \"x\" is neither FILE:LINE nor FILE+OFFSET": {Output: path("2.4.1.hex"), From: "x"},
		"2.4.1.hex contains nothing of other.hex":          {Output: path("2.4.1.hex"), From: "other.hex:1"},
		"2.4.1.hex contains nothing of gauge-app.s19:1":    {Output: path("2.4.1.hex"), From: "gauge-app.s19:1"},
		"offset: has no effect on":                         {Output: path("2.4.1.hex"), Offset: "0"},
		"manifest: missing; no manifest":                   {Output: path("tide-tables.bin"), At: []string{"0"}},
		"bootloader.hex: error: it contains nothing there": {Output: path("bootloader.hex"), At: []string{"0"}},
		"no such file": {Output: path("nothing.hex"), Manifest: path("x.manifest.json"),
			At: []string{"0"}},
	} {
		_, err := explain(t, q)
		assert.ErrorContains(t, err, want)
	}
	// A copy of another name is of the first variant whose output is the same, or of the one
	// that is named.
	write(t, dir, "y.release.toml", strings.Replace(small, "{version}.hex", "y-{variant}.hex", 1)+
		"[[variant]]\nname = \"one\"\n[[variant]]\nname = \"two\"\n[[variant]]\nname = \"three\"\nset = { version = \"2.4.1\" }\n")
	made(t, dir, "y.release.toml", release.Options{})
	write(t, dir, "copy.hex", read(t, dir, "y-two.hex"))
	for variant, want := range map[string]string{"": "one", "one": "one", "two": "two", "three": "three"} {
		e, err := explain(t,
			proof.Question{Output: path("copy.hex"), Manifest: path("y.manifest.json"), Variant: variant, At: []string{"0"}})
		require.NoError(t, err, variant)
		assert.Equal(t, want, e.Product.Variant)
		assert.False(t, e.Changed)
	}
	// Where what it was made of has changed too, nothing is said of what it should be.
	write(t, dir, "gauge-app.s19", read(t, dir, "gauge-app-2.s19"))
	e, err = explain(t, proof.Question{Output: path("app.bin"), At: []string{"0x0120..0x012F"}})
	require.NoError(t, err)
	assert.True(t, e.Changed)
	assert.Empty(t, e.Rows[0].Differ)
	assert.Equal(t, []memory.Span{{First: 0x120, Last: 0x12F}}, e.Rows[0].Within, "but that something in the block was changed")
	e, err = explain(t, proof.Question{Output: path("app.bin"), At: []string{"0x0000..0x00FF"}})
	require.NoError(t, err)
	assert.Empty(t, e.Rows[0].Within)
	require.NoError(t, os.Remove(path("x.release.toml")))
	_, err = explain(t, proof.Question{Output: path("2.4.1.hex"), At: []string{"0"}})
	assert.NoError(t, err, "the manifest is enough")
}

// TestExplainProgramsByTheManifestAlone asks of a program whose file is gone, and of
// configuration words.
func TestExplainProgramsByTheManifestAlone(t *testing.T) {
	dir := folder(t)
	text := strings.Replace(read(t, dir, "tg4.release.toml"), "[[step]]\ndo = \"seal\"",
		"[[step]]\ndo = \"config\"\nwords = { watchdog = \"runs from reset on\" }\n\n[[step]]\ndo = \"seal\"", 1)
	write(t, dir, "tg4.release.toml", text)
	made(t, dir, "tg4.release.toml", release.Options{})
	output := filepath.Join(dir, "tg4-3.1.0.hex")
	for range 2 {
		e, err := explain(t, proof.Question{Output: output, At: []string{"symbol.tide_height", "symbol.settings.first", "option_words"}})
		require.NoError(t, err)
		require.Len(t, e.Rows, 3)
		byAddress := map[uint64]proof.Row{}
		for _, r := range e.Rows {
			byAddress[r.First] = r
		}
		assert.Equal(t, []string{"user_options 0x00000000", "watchdog: runs from reset on", "brown_out: 1.8 V"},
			byAddress[0x0700_1004].Config)
		assert.Equal(t, "station.elf .text+0x1AC (tide_height, tide.c:38)", byAddress[0x0600_81B4].From)
		assert.Equal(t, "station.elf .data+0x0 (settings)", byAddress[0x0600_8358].From)
		for _, name := range []string{"station.elf", "tg4.release.toml", "tide-tables.bin", "station-loader.hex"} {
			os.Remove(filepath.Join(dir, name))
		}
	}
	_, err := explain(t, proof.Question{Output: output, At: []string{"symbol.tide_hight"}})
	assert.ErrorContains(t, err, "tide_height")
}

// TestExplainTakesTheManifestThatHolds has two that tell of one output.
func TestExplainTakesTheManifestThatHolds(t *testing.T) {
	dir := folder(t)
	made(t, dir, "tg1.release.toml", release.Options{Variants: []string{"north"}})
	write(t, dir, "calibration-north.bin", strings.Repeat("c", 512))
	made(t, dir, "tg1.release.toml", release.Options{})
	e, err := explain(t, proof.Question{Output: filepath.Join(dir, "tg1-north-2.4.1.hex"), At: []string{"calibration.first"}})
	require.NoError(t, err)
	assert.Equal(t, "tg1.manifest.json", filepath.Base(e.Manifest))
	assert.False(t, e.Changed)

	// One that is as neither says is what the first says that has its name.
	name := filepath.Join(dir, "tg1-north-2.4.1.hex")
	text := read(t, "", name)
	write(t, "", name, "\n"+text)
	e, err = explain(t, proof.Question{Output: name, At: []string{"calibration.first"}})
	require.NoError(t, err)
	assert.Equal(t, "tg1-north.manifest.json", filepath.Base(e.Manifest))
	assert.True(t, e.Changed)
	for damaged, what := range map[string]string{"": "it contains nothing there", text[:len(text)-20]: "the file is truncated here",
		":01000000BE41\n" + text: "given twice and differ"} {
		write(t, "", name, damaged)
		_, err = explain(t, proof.Question{Output: name, At: []string{"calibration.first"}})
		assert.ErrorContains(t, err, what)
	}

	// One that cannot be read may be the one: it is an error where no other tells of the output.
	write(t, "", name, text)
	write(t, dir, "a.manifest.json", "{}")
	e, err = explain(t, proof.Question{Output: name, At: []string{"calibration.first"}})
	require.NoError(t, err)
	assert.Equal(t, "tg1.manifest.json", filepath.Base(e.Manifest))
	require.NoError(t, os.Remove(filepath.Join(dir, "tg1.manifest.json")))
	require.NoError(t, os.Remove(filepath.Join(dir, "tg1-north.manifest.json")))
	_, err = explain(t, proof.Question{Output: name, At: []string{"calibration.first"}})
	assert.ErrorContains(t, err, "a.manifest.json: error: ")
}

// TestExplainManyStretches asks of two files that lie in each other byte by byte, and
// of which variant a device was read.
func TestExplainManyStretches(t *testing.T) {
	dir := folder(t)
	for odd := range 2 {
		hex := ""
		for i := range 800 {
			at := 2*i + odd
			record := []byte{1, byte(at >> 8), byte(at), 0, byte(i)}
			sum := byte(0)
			for _, b := range record {
				sum += b
			}
			hex += fmt.Sprintf(":%X%02X\n", record, byte(-sum))
		}
		write(t, dir, fmt.Sprintf("in%d.hex", odd), hex+":00000001FF\n")
	}
	write(
		t,
		dir,
		"m.release.toml",
		"name = \"many\"\n[[input]]\nname = \"a\"\nfile = \"in0.hex\"\n[[input]]\nname = \"b\"\nfile = \"in1.hex\"\n"+
			"[[output]]\nfile = \"{variant}.hex\"\n[[variant]]\nname = \"x\"\n[[variant]]\nname = \"y\"\n",
	)
	made(t, dir, "m.release.toml", release.Options{})
	e, err := explain(t, proof.Question{Output: filepath.Join(dir, "x.hex"), At: []string{"image"}})
	require.NoError(t, err)
	assert.Len(t, e.Rows, 1000)
	assert.True(t, e.More)
	assert.Equal(t, "in1.hex:3", e.Rows[5].From)
	e, err = explain(t, proof.Question{Output: filepath.Join(dir, "x.hex"), At: []string{"0..9"}})
	require.NoError(t, err)
	assert.Len(t, e.Rows, 10)
	assert.False(t, e.More)
	assert.Empty(t, e.Nothing)
	e, err = explain(t, proof.Question{Output: filepath.Join(dir, "x.hex"), At: []string{"0x63E..0x641", "0x700..0x701"}})
	require.NoError(t, err)
	assert.Len(t, e.Rows, 2)
	assert.Equal(t, []memory.Span{{First: 0x640, Last: 0x641}, {First: 0x700, Last: 0x701}}, e.Nothing)
	holes := proof.Question{Output: filepath.Join(dir, "x.hex"), At: []string{"0"}}
	for i := range uint64(1001) {
		holes.At = append(holes.At, fmt.Sprintf("0x%X", 0x1000+2*i))
	}
	e, err = explain(t, holes)
	require.NoError(t, err)
	assert.Len(t, e.Nothing, 1000)
	assert.True(t, e.More)

	q := proof.Question{Output: filepath.Join(dir, "bootloader.hex"), Manifest: filepath.Join(dir, "m.manifest.json"),
		At: []string{"0x7800"}}
	_, err = explain(t, q)
	assert.ErrorContains(t, err, "the output bootloader.hex; name its variant, one of x, y")
	q.Variant = "y"
	e, err = explain(t, q)
	require.NoError(t, err)
	assert.Equal(t, "nothing that was made", e.Rows[0].From)
}

// TestDemoAgainstTheTruth reads the demo's inputs line by line, without the
// program's readers, and holds what the manifest says of every byte of the TG-1
// against that.
func TestDemoAgainstTheTruth(t *testing.T) {
	dir := folder(t)
	m, err := proof.Load(&source.Files{}, made(t, dir, "tg1.release.toml", release.Options{}))
	require.NoError(t, err)
	release := strings.Split(read(t, dir, "tg1.release.toml"), "\n")
	// lineOf returns the line of the table that has a key.
	lineOf := func(key string) int {
		for i, text := range release {
			if strings.HasPrefix(text, key) {
				for !strings.HasPrefix(release[i], "[[") {
					i--
				}
				return i + 1
			}
		}
		t.Fatal(key)
		return 0
	}
	for i, calibration := range []string{"calibration.bin", "calibration-north.bin"} {
		truth := map[uint64]string{}
		for n, text := range strings.Split(read(t, dir, "gauge-app.s19"), "\n") {
			var count, first uint64
			if got, _ := fmt.Sscanf(text, "S1%2x%4x", &count, &first); got == 2 {
				for a := range count - 3 {
					truth[first+a] = fmt.Sprintf("gauge-app.s19:%d", n+1)
				}
			}
		}
		for n, text := range strings.Split(read(t, dir, "bootloader.hex"), "\n") {
			var count, first, kind uint64
			if got, _ := fmt.Sscanf(text, ":%2x%4x%2x", &count, &first, &kind); got == 3 && kind == 0 {
				for a := range count {
					truth[first+a] = fmt.Sprintf("bootloader.hex:%d", n+1)
				}
			}
		}
		for a := range uint64(0x7800) {
			if truth[a] == "" {
				truth[a] = fmt.Sprintf("fill (tg1.release.toml:%d)", lineOf(`do = "fill"`))
			}
		}
		for a := uint64(0x77FC); a < 0x7800; a++ {
			truth[a] = fmt.Sprintf("seal (tg1.release.toml:%d)", lineOf(`do = "seal"`))
		}
		for a := range len(read(t, dir, calibration)) {
			truth[0x40_0000+uint64(a)] = fmt.Sprintf("%s+0x%X, place (tg1.release.toml:%d)", calibration, a, lineOf(`name = "calibration"`))
		}
		p := &m.Products[i]
		require.Equal(t, uint64(len(truth)), p.Contents.Bytes)
		tracer, err := p.Origins.Tracer()
		require.NoError(t, err)
		for a, want := range truth {
			got, ok := tracer.Origin(a)
			require.True(t, ok, "0x%X", a)
			require.Equal(t, want, got.String(), "0x%X", a)
		}
	}
}

// TestExplainWords asks of a device that counts words, by its own addresses and in bytes; by
// variants that are none, and by offsets of raw inputs.
func TestExplainWords(t *testing.T) {
	dir := t.TempDir()
	path := func(name string) string { return filepath.Join(dir, name) }
	write(t, dir, "a.bin", strings.Repeat("0123456789abcdef", 4))
	write(t, dir, "w.release.toml", `name = "w"
device = "brindle-w16-64"
[[input]]
name = "a"
file = "a.bin"
at = "word 0x100"
[[output]]
name = "whole"
file = "{variant}.hex"
[[output]]
file = "{variant}.bin"
in = "part.a"
[[output]]
file = "{variant}.txt"
text = "{size:part.a}"
[check]
accept = ["missing-part", "partial-page", "region-erased", "checksum-absent", "checksum-wrong", "start-missing"]
[[variant]]
name = "one"
[[variant]]
name = "two"
`)
	made(t, dir, "w.release.toml", release.Options{})
	rows := func(q proof.Question) []proof.Row {
		q.Manifest = path("w.manifest.json")
		e, err := explain(t, q)
		require.NoError(t, err)
		return e.Rows
	}
	var first uint64
	for at, words := range map[string]string{"word 0x100": "word 0x0100", "word 0x101": "word 0x0101", "part.a": "words 0x0100..0x011F"} {
		list := rows(proof.Question{Output: path("one.hex"), At: []string{at}})
		require.Len(t, list, 1)
		assert.Equal(t, words, list[0].Words, at)
		if at == "part.a" {
			first = list[0].First
			assert.Equal(t, uint64(64), list[0].Size())
		}
	}
	for from, offset := range map[string]uint64{"a.bin+0": 0, "a.bin+0x10": 16, "a.bin+63": 63} {
		list := rows(proof.Question{Output: path("two.hex"), From: from})
		require.Len(t, list, 1, from)
		assert.Equal(t, memory.Span{First: first + offset, Last: first + offset}, list[0].Span, from)
	}
	list := rows(proof.Question{Output: path("one.bin"), Offset: "16..17"})
	require.Len(t, list, 1)
	assert.Equal(t, memory.Span{First: first + 16, Last: first + 17}, list[0].Span)
	for want, q := range map[string]proof.Question{
		"has no variant too; did you mean two?":     {Output: path("one.hex"), Variant: "too", At: []string{"part.a"}},
		"one.hex is of variant one, and not of two": {Output: path("one.hex"), Variant: "two", At: []string{"part.a"}},
		"it is a text, and contains no image":       {Output: path("one.txt"), At: []string{"part.a"}},
		"runs past the last 64-bit address":         {Output: path("one.bin"), Offset: "0xFFFF_FFFF_FFFF_FFF0,2"},
		"neither FILE:LINE nor FILE+OFFSET":         {Output: path("one.bin"), From: "a.bin+x"},
		"one.bin contains nothing of a.bin+0x40":    {Output: path("one.bin"), From: "a.bin+0x40"},
		"unknown name wrd":                          {Output: path("one.hex"), At: []string{"wrd 0x100"}},
	} {
		q.Manifest = path("w.manifest.json")
		_, err := explain(t, q)
		assert.ErrorContains(t, err, want)
	}
}
