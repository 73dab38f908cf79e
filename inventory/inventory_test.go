package inventory_test

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec"
	"mexalt/codec/format"
	"mexalt/demo"
	"mexalt/device"
	"mexalt/internal/golden"
	"mexalt/inventory"
	"mexalt/memory"
	"mexalt/release"
	"mexalt/source"
)

// hex returns an Intel HEX file of bytes at addresses, a line each.
func hex(lines map[uint64]string, order ...uint64) string {
	var b strings.Builder
	upper := uint64(0)
	record := func(kind byte, offset uint16, data string) {
		sum := byte(len(data)) + byte(offset>>8) + byte(offset) + kind
		fmt.Fprintf(&b, ":%02X%04X%02X", len(data), offset, kind)
		for i := range len(data) {
			sum += data[i]
			fmt.Fprintf(&b, "%02X", data[i])
		}
		fmt.Fprintf(&b, "%02X\n", -sum)
	}
	for _, at := range order {
		if at>>16 != upper {
			upper = at >> 16
			record(4, 0, string([]byte{byte(upper >> 8), byte(upper)}))
		}
		record(0, uint16(at), lines[at])
	}
	record(1, 0, "")
	return b.String()
}

// hexOf returns the image of an ELF file as Intel HEX.
func hexOf(t *testing.T, name string) string {
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	var problems source.Problems
	f, err := codec.Read(bytes.NewReader(data), name, int64(len(data)), codec.ReadOptions{}, &problems)
	require.NoError(t, err)
	lines, order := map[uint64]string{}, []uint64{}
	for _, r := range f.Image.Runs() {
		for i := 0; i < len(r.Data); i += 16 {
			at := r.First + uint64(i)
			lines[at] = string(r.Data[i:min(i+16, len(r.Data))])
			order = append(order, at)
		}
	}
	return hex(lines, order...)
}

// text says what was found, a line each.
func text(v *inventory.Inventory, folder string) string {
	var b strings.Builder
	short := func(s string) string { return strings.ReplaceAll(s, folder+string(filepath.Separator), "") }
	for _, c := range v.Contradictions {
		fmt.Fprintf(&b, "! %s: %s\n", short(strings.Join(c.Files, ", ")), c.What)
	}
	for _, f := range v.Files {
		line := fmt.Sprintf("%s | %s | %s | %s | %d | %s | %s | %s", short(f.Name), f.Format, f.What, f.Device, f.Bytes, f.Version,
			strings.Join(f.Notes, "; "), short(f.Bad))
		fmt.Fprintln(&b, strings.TrimRight(strings.ReplaceAll(line, " |  ", " | "), " |"))
	}
	return b.String()
}

// TestFolders holds what is said of folders against what was said before, and read: each is
// made by a function.
func TestFolders(t *testing.T) {
	copied := func(t *testing.T, folder string, names ...string) {
		for _, name := range names {
			from, to, renamed := strings.Cut(name, ">")
			if !renamed {
				to = from
			}
			data, err := fs.ReadFile(demo.Files(), from)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(folder, to), data, 0o644))
		}
	}
	write := func(t *testing.T, folder, name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
	}
	run := func(t *testing.T, folder, name, units string) {
		o := release.Options{Tool: "test"}
		files := &source.Files{Digest: true}
		f, err := release.Load(files, filepath.Join(folder, name))
		require.NoError(t, err)
		if units != "" {
			_, err = f.RunUnits(context.Background(), files, filepath.Join(folder, units), o)
		} else {
			_, err = f.Run(context.Background(), files, o)
		}
		require.NoError(t, err)
	}
	long := strings.Repeat("calibration of a gauge, 16 ", 4)[:64]
	folders := []struct {
		name string
		maps []string
		make func(t *testing.T, folder string)
	}{
		{"as they came", nil, func(t *testing.T, folder string) {
			copied(t, folder, "bootloader.hex", "gauge-app.s19", "gauge-app-2.s19", "calibration.bin", "bootloader-damaged.hex",
				"units.csv", "tg1.release.toml", "tide-tables.bin")
		}},
		{"one device", []string{"brindle-b8-32"}, func(t *testing.T, folder string) {
			copied(t, folder, "bootloader.hex", "gauge-app.s19>a.s19", "gauge-app.s19>b.s19", "gauge-app.s19>c.s19",
				"gauge-app.s19>d.s19", "gauge-app.s19>e.s19", "station.elf")
			write(t, folder, "words.hex", hex(map[uint64]string{0x50_0000: "\x82\x06\xFF"}, 0x50_0000))
			write(t, folder, "word.hex", hex(map[uint64]string{0x50_0000: "\x82"}, 0x50_0000))
			write(t, folder, "data.hex", hex(map[uint64]string{0x40_0000: long}, 0x40_0000))
			write(t, folder, "two.hex", hex(map[uint64]string{0x40_0000: long, 0: "abcd"}, 0, 0x40_0000))
			write(t, folder, "erased.hex", hex(map[uint64]string{0x100: "\xFF\xFF"}, 0x100))
			write(t, folder, "beyond.hex", hex(map[uint64]string{0x7FFF: "ab"}, 0x7FFF))
			write(t, folder, "none.hex", hex(nil))
			write(t, folder, "a.hex", hex(map[uint64]string{0: "abcd"}, 0))
			write(t, folder, "flash.bin", strings.Repeat("\x00", 32<<10))
			write(t, folder, "gauge_log.bin", "0123")
		}},
		{"a release", []string{"brindle-b8-32"}, func(t *testing.T, folder string) {
			copied(t, folder, "bootloader.hex", "gauge-app.s19", "gauge-app-2.s19", "calibration.bin", "calibration-north.bin",
				"tg1.release.toml", "tg1-line.release.toml", "units.csv")
			run(t, folder, "tg1.release.toml", "")
			run(t, folder, "tg1-line.release.toml", "units.csv")
			for _, name := range []string{"tg1-harbour-2.4.1.html", "tg1-north-2.4.1.html", "tg1-north-2.4.1.png",
				"tg1-harbour-2.4.1.png"} {
				os.Remove(filepath.Join(folder, name))
			}
			require.NoError(t, os.Rename(filepath.Join(folder, "tg1-harbour-2.4.1.hex"), filepath.Join(folder, "tg1-north-2.4.1.hex")))
			write(t, folder, "calibration.bin", strings.Repeat("x", 512))
			write(t, folder, "broken.manifest.json", "{}")
		}},
		{"built again", []string{"brindle-m32-512"}, func(t *testing.T, folder string) {
			copied(t, folder, "station.elf>station-3.0.0.elf", "station-3.0.0.elf>station.elf")
			copied(t, folder, "station-3.0.0.elf>old.elf")
			text := hexOf(t, filepath.Join(folder, "station-3.0.0.elf"))
			write(t, folder, "station.hex", text)
			write(t, folder, "station.img.hex", text[:len(text)-len(":00000001FF\n")]+":020000045000AA\n:040000006162636472\n:00000001FF\n")
			write(t, folder, "station-3.0.0.hex", hexOf(t, filepath.Join(folder, "station.elf")))
			require.NoError(t, os.Chtimes(filepath.Join(folder, "station.hex"), time.Unix(1e9, 0), time.Unix(1e9, 0)))
			later := time.Now().Add(time.Hour)
			require.NoError(t, os.Chtimes(filepath.Join(folder, "station-3.0.0.hex"), later, later))
		}},
		{"without maps", []string{}, func(t *testing.T, folder string) {
			copied(t, folder, "bootloader.hex", "gauge-app.s19", "station.elf", "calibration.bin")
			require.NoError(t, os.Symlink("nothing.hex", filepath.Join(folder, "gone.hex")))
		}},
		{"of other names", []string{"brindle-m32-512"}, func(t *testing.T, folder string) {
			copied(t, folder, "station.elf>first.elf", "tg4.release.toml", "station.elf", "station-loader.hex", "tide-tables.bin")
			text := hexOf(t, filepath.Join(folder, "station.elf"))
			lines := strings.SplitAfter(text, "\n")
			write(t, folder, "most.hex", strings.Join(append(lines[:len(lines)*2/3:len(lines)*2/3], ":00000001FF\n"), ""))
			write(t, folder, "few.hex", strings.Join(append(lines[:len(lines)/3:len(lines)/3], ":00000001FF\n"), ""))
			write(t, folder, "first.hex", strings.Join(append(lines[:4:4], ":00000001FF\n"), ""))
			write(t, folder, "station.hex", strings.Join(append(lines[:5:5], ":00000001FF\n"), "")) // older than its program
			require.NoError(t, os.Chtimes(filepath.Join(folder, "station.hex"), time.Unix(1e9, 0), time.Unix(1e9, 0)))
			b := []byte(lines[1])
			b[12] = '9'
			sum := byte(0)
			for i := 1; i < len(b)-3; i += 2 {
				n, err := strconv.ParseUint(string(b[i:i+2]), 16, 8)
				require.NoError(t, err)
				sum += byte(n)
			}
			copy(b[len(b)-3:], fmt.Sprintf("%02X", -sum))
			write(t, folder, "other.hex", strings.Replace(text, lines[1], string(b), 1))
			run(t, folder, "tg4.release.toml", "")
			data, err := os.ReadFile(filepath.Join(folder, "tg4-3.1.0.hex"))
			require.NoError(t, err)
			write(t, folder, "copy.hex", strings.ToLower(string(data)))
			write(t, folder, "part.hex", string(data[:len(data)/2]))
		}},
		{"no firmware", nil, func(t *testing.T, folder string) {
			for name, text := range map[string]string{
				"a.png": "\x89PNG\r\n\x1a\n", "b.jpg": "\xFF\xD8\xFF\xE0", "c.zip": "PK\x03\x04", "d.gz": "\x1F\x8B\x08",
				"e.c": "#include <a.h>\n", "f.log": "all done\n",
				"g.exe": "MZ", "h.pdf": "%PDF-1", "i.plan.toml": "", "j.units.jsonl": "", "k.board": "x = 1\n", ".hidden": "",
				"l.html": "<!doctype html>", "m.bom.json": "{}",
			} {
				write(t, folder, name, text)
			}
			require.NoError(t, os.Mkdir(filepath.Join(folder, "inside"), 0o755))
		}},
	}
	var all strings.Builder
	for _, f := range folders {
		folder := t.TempDir()
		f.make(t, folder)
		names, err := inventory.Names([]string{folder})
		require.NoError(t, err)
		maps := device.Each(nil, nil)
		if f.maps != nil {
			maps = func(yield func(string, *device.Map) bool) {
				for _, name := range f.maps {
					m, err := device.Open(&source.Files{}, name, nil)
					require.NoError(t, err)
					yield(name, m)
				}
			}
		}
		v, err := inventory.Of(context.Background(), names, maps)
		require.NoError(t, err)
		found := text(v, folder)
		assert.Equal(t, !strings.Contains(found, "!") && !strings.Contains(found, "damaged") &&
			!strings.Contains(found, "expected a manifest"), v.Sound(), f.name)
		fmt.Fprintf(&all, "# %s\n%s", f.name, found)
	}
	golden.File(t, "testdata/folders.txt", all.String())
}

// TestNames takes files as they are named, and of folders the files in them.
func TestNames(t *testing.T) {
	folder := t.TempDir()
	for _, name := range []string{"b", "a", ".c"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), nil, 0o644))
	}
	os.Symlink(filepath.Join(folder, "nowhere"), filepath.Join(folder, "dangling")) // left out, where there are links
	a := filepath.Join(folder, "a")
	list, err := inventory.Names([]string{filepath.Join(folder, ".c"), folder})
	require.NoError(t, err)
	assert.Equal(t, []string{filepath.Join(folder, ".c"), a, filepath.Join(folder, "b")}, list)
	_, err = inventory.Names([]string{filepath.Join(folder, "none")})
	assert.ErrorContains(t, err, "no such file")
	gone, err := inventory.Of(context.Background(), []string{filepath.Join(folder, "gone.hex")}, device.Each(nil, nil))
	require.NoError(t, err)
	assert.Contains(t, gone.Files[0].Bad, "gone.hex", "it cannot be read")
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = inventory.Of(ctx, list, device.Each(nil, nil))
	assert.ErrorIs(t, err, context.Canceled)
}

// TestSeveralDevices looks into folders of files that fit two devices, which differ in where
// their EEPROM is: other files decide, or a release, or nothing does.
func TestSeveralDevices(t *testing.T) {
	mapOf := func(name, eeprom string) string {
		return fmt.Sprintf("name = %q\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0\nsize = \"32K\"\n[[memory]]\nname = "+
			"\"eeprom\"\nkind = \"eeprom\"\nfirst = %s\nsize = \"1K\"\n[[region]]\nname = \"app\"\nrole = \"application\"\nfirst = "+
			"0\nsize = \"32K\"\n", name, eeprom)
	}
	flash, low, high := map[uint64]string{0x100: "program"}, map[uint64]string{0x40_0000: "data"}, map[uint64]string{0x50_0000: "data"}
	for _, c := range []struct {
		name  string
		files map[string]string
		want  map[string]string
	}{
		{"nothing decides", map[string]string{"x.hex": hex(flash, 0x100)}, map[string]string{"x.hex": "a, or b"}},
		{"another file decides", map[string]string{"x.hex": hex(flash, 0x100), "y.hex": hex(low, 0x40_0000)},
			map[string]string{"x.hex": "a", "y.hex": "a"}},
		{"files of both", map[string]string{"x.hex": hex(flash, 0x100), "y.hex": hex(low, 0x40_0000), "z.hex": hex(high, 0x50_0000)},
			map[string]string{"x.hex": "a, or b", "y.hex": "a", "z.hex": "b"}},
		{"a release decides for its input and output",
			map[string]string{"x.hex": hex(flash, 0x100), "w.hex": hex(flash, 0x100), "y.hex": hex(low, 0x40_0000),
				"r.release.toml": "name = \"r\"\ndevice = \"b\"\n[[input]]\nname = \"x\"\nfile = \"x.hex\"\n[[output]]\nfile = " +
					"\"out.s37\"\n"},
			map[string]string{"x.hex": "b", "out.s37": "b", "y.hex": "a", "w.hex": "a, or b"}},
	} {
		folder := t.TempDir()
		c.files["a.device.toml"], c.files["b.device.toml"] = mapOf("A", "0x40_0000"), mapOf("B", "0x50_0000")
		for name, text := range c.files {
			require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
		}
		if c.files["r.release.toml"] != "" {
			files := &source.Files{Digest: true}
			f, err := release.Load(files, filepath.Join(folder, "r.release.toml"))
			require.NoError(t, err)
			_, err = f.Run(context.Background(), files, release.Options{Tool: "test"})
			require.NoError(t, err, c.name)
		}
		names, err := inventory.Names([]string{folder})
		require.NoError(t, err)
		v, err := inventory.Of(context.Background(), names, func(yield func(string, *device.Map) bool) {
			for _, name := range []string{"a", "b"} {
				m, err := device.Open(&source.Files{}, filepath.Join(folder, name+".device.toml"), nil)
				require.NoError(t, err)
				if !yield(name, m) {
					return
				}
			}
		})
		require.NoError(t, err)
		got := map[string]string{}
		for _, f := range v.Files {
			if base := filepath.Base(f.Name); c.want[base] != "" {
				got[base] = f.Device
			}
		}
		assert.Equal(t, c.want, got, c.name)
	}
}

// TestFoldersByChance says what lies in folders that are put together by chance: files of a
// release and parts of them, copies, other builds, torn and joined ones, with the manifest and
// without.
func TestFoldersByChance(t *testing.T) {
	t.Parallel()
	base := t.TempDir()
	require.NoError(t, os.CopyFS(base, demo.Files()))
	files := &source.Files{Digest: true}
	f, err := release.Load(files, filepath.Join(base, "tg1.release.toml"))
	require.NoError(t, err)
	r, err := f.Run(context.Background(), files, release.Options{Tool: "test"})
	require.NoError(t, err)
	image := func(name string) *memory.Image {
		data, err := os.ReadFile(filepath.Join(base, name))
		require.NoError(t, err)
		var problems source.Problems
		one, err := codec.Read(bytes.NewReader(data), name, int64(len(data)), codec.ReadOptions{}, &problems)
		require.NoError(t, err)
		return one.Image
	}
	whole := filepath.Base(r.Products[0].Outputs[0].File)
	sources := []string{"bootloader.hex", "gauge-app.s19", "gauge-app-2.s19", whole}
	in := &source.Input{Name: "made"}
	m, err := device.Open(&source.Files{}, "brindle-b8-32", nil)
	require.NoError(t, err)
	var out strings.Builder
	for seed := range uint64(48) {
		random := rand.New(rand.NewPCG(seed, 23))
		folder := t.TempDir()
		if seed%3 == 0 {
			for _, name := range []string{filepath.Base(r.Manifest), "bootloader.hex", "gauge-app.s19", whole} {
				data, err := os.ReadFile(filepath.Join(base, name))
				require.NoError(t, err)
				require.NoError(t, os.WriteFile(filepath.Join(folder, name), data, 0o644))
			}
		}
		for n := range 2 + random.IntN(5) {
			from := sources[random.IntN(len(sources))]
			one := image(from)
			all, _ := one.Span()
			half := all.First + all.Size()/2
			what := ""
			switch random.IntN(8) {
			case 0:
				what = "copy"
			case 1:
				what, one = "low", one.Cut(memory.Span{First: all.First, Last: half})
			case 2:
				what, one = "high", one.Cut(memory.Span{First: half, Last: all.Last})
			case 3:
				what = "patched"
				for range 1 + random.IntN(4) {
					one, _ = one.Write(in, all.First+random.Uint64N(all.Size()), []byte{byte(random.Uint32())})
				}
			case 4:
				other := image(sources[random.IntN(len(sources))])
				what = "torn"
				one, _ = memory.Merge([]*memory.Image{one.Cut(memory.Span{First: all.First, Last: half}),
					other.Drop(memory.Span{First: 0, Last: half})}, memory.First)
			case 5:
				what = "joined"
				one, _ = memory.Merge([]*memory.Image{one, image(sources[random.IntN(len(sources))])}, memory.First)
			case 6:
				what = "words"
				one, _ = memory.Merge([]*memory.Image{one, image(whole).Cut(memory.Span{First: 0x50_0000, Last: 0x50_0002})}, memory.First)
			default:
				what = "beyond"
				one, _ = one.Write(in, 0x7FFC, []byte("12345678"))
			}
			stem, _, _ := strings.Cut(from, ".")
			name := fmt.Sprintf("%s-%s-%d.hex", stem, what, n)
			if random.IntN(4) == 0 {
				name = stem + ".srec"
			}
			w, err := codec.ChoiceOfName(name).Writer(format.WriteOptions{}, nil)
			require.NoError(t, err)
			var b bytes.Buffer
			require.NoError(t, w.Write(&b, one))
			at := filepath.Join(folder, name)
			require.NoError(t, os.WriteFile(at, b.Bytes(), 0o644))
			require.NoError(t, os.Chtimes(at, time.Time{}, time.Unix(1_700_000_000+int64(random.IntN(100))*3600, 0)))
		}
		names, err := inventory.Names([]string{folder})
		require.NoError(t, err)
		v, err := inventory.Of(context.Background(), names, func(yield func(string, *device.Map) bool) { yield("brindle-b8-32", m) })
		require.NoError(t, err)
		fmt.Fprintf(&out, "%d: sound %v\n%s", seed, v.Sound(), text(v, folder))
	}
	golden.File(t, "testdata/chance.txt", out.String())
}

// TestWhatFilesHold says what files are for a device by its regions, and by a map that has none.
func TestWhatFilesHold(t *testing.T) {
	const memories = "name = \"D\"\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0\nsize = \"32K\"\n[[memory]]\nname = " +
		"\"fuses\"\nkind = \"config\"\nfirst = 0x50_0000\nsize = 2\n" +
		"[[config]]\nname = \"word\"\nat = \"fuses.first\"\nwidth = 2\ndefault = 0\n[[config.field]]\nname = \"field\"\nbits = " +
		"0\nvalues = [{ value = 0, meaning = \"no\" }, { value = 1, meaning = \"yes\" }]\n"
	region := func(name, role string, first int) string {
		return fmt.Sprintf("[[region]]\nname = %q\nrole = %q\nfirst = %d\nsize = 256\n", name, role, first)
	}
	regions := region("boot", "bootloader", 0) + region("a", "application", 256) + region("b", "application", 512) + region("d", "data",
		768) + region("e", "data", 1024)
	words := map[uint64]string{0x50_0000: "\x01\x00"}
	for name, c := range map[string]struct {
		at            []uint64
		with, without string // by a map with regions, and by one without
	}{
		"loader": {[]uint64{0}, "loader for boot", "firmware"}, "program": {[]uint64{256}, "program for a", "firmware"},
		"both":  {[]uint64{256, 512}, "program for a, b", "firmware"},
		"whole": {[]uint64{0, 512}, "whole image: boot, b", "firmware"}, "data": {[]uint64{768}, "data for d", "firmware"},
		"all data":          {[]uint64{768, 1024}, "data for d, e", "firmware"},
		"loader and data":   {[]uint64{0, 768}, "for boot, d", "firmware"},
		"program and data":  {[]uint64{256, 1024}, "for a, e", "firmware"},
		"no region":         {[]uint64{0x2000}, "erased bytes only, or in no region", "firmware"},
		"words":             {[]uint64{0x50_0000}, "configuration words only", "configuration words only"},
		"program and words": {[]uint64{256, 0x50_0000}, "program for a", "firmware"},
	} {
		for with, want := range map[string]string{memories + regions: c.with, memories: c.without} {
			folder := t.TempDir()
			contents := map[uint64]string{}
			for _, at := range c.at {
				if contents[at] = "bytes"; at == 0x50_0000 {
					contents[at] = words[at]
				}
			}
			require.NoError(t, os.WriteFile(filepath.Join(folder, "x.hex"), []byte(hex(contents, c.at...)), 0o644))
			var problems source.Problems
			m := device.Load("d.device.toml", []byte(with), &problems)
			require.NoError(t, problems.Err())
			v, err := inventory.Of(context.Background(), []string{filepath.Join(folder, "x.hex")},
				func(yield func(string, *device.Map) bool) { yield("d", m) })
			require.NoError(t, err)
			assert.Equal(t, want, v.Files[0].What, name)
		}
	}
}
