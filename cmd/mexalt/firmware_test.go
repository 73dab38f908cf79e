package main

import (
	"bufio"
	"context"
	"debug/dwarf"
	"debug/elf"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The programs in testdata/firmware are built by compilers for three machines,
// go all the way through the program, and are started in emulators. Tests that
// need what is not installed are skipped, unless MEXALT_COMPILERS=all says that
// it must be there.

// machine is one of those machines.
type machine struct {
	name      string
	compiler  []string // with what it needs for the machine
	program   []string // more for programs
	loader    []string // more for the loader
	app       []string // and for the application
	deviceMap string
	hex, raw  []string // the emulator's command line, {} for the image
}

const firmwareMap = `name = "Test part %s"
[[memory]]
name = "flash"
kind = "flash"
first = %s
size = "32K"
page = 256
[[region]]
name = "loader"
role = "bootloader"
first = "flash.first"
size = "%[3]s"
required = true
[[region]]
name = "application"
role = "application"
first = "loader.last + 1"
last = "flash.first + %[4]s - 1"
required = true
[[checksum]]
name = "application_crc"
kind = "CRC-32/ISO-HDLC"
in = "application.first..application.last-4"
at = "application.last-3"
order = "little"
`

func machines(t *testing.T) []machine {
	sources, err := filepath.Abs("testdata/firmware")
	require.NoError(t, err)
	bare := []string{
		"-Os",
		"-g",
		"-fno-tree-loop-distribute-patterns",
		"-nostdlib",
		"-Wl,--build-id",
		"-Wl,-T," + sources + "/link.ld",
		sources + "/start.c",
	}
	at := func(first, ram string) []string {
		return []string{"-Wl,--defsym=FIRST=" + first, "-Wl,--defsym=RAM=" + ram, "-lgcc"}
	}
	quiet := []string{"-display", "none", "-monitor", "none", "-serial", "stdio"}
	return []machine{
		{
			name: "avr", compiler: []string{"avr-gcc", "-mmcu=atmega1280"}, program: []string{"-Os", "-gdwarf-2"},
			app:       []string{"-Wl,--section-start=.text=0x1000"},
			deviceMap: fmt.Sprintf(firmwareMap, "8", "0", "4K", "16K"),
			hex:       []string{"simavr", "-m", "atmega1280", "-f", "16000000", "{}"},
			raw:       append([]string{"qemu-system-avr", "-M", "mega", "-bios", "{}"}, quiet...),
		},
		{
			name: "arm", compiler: []string{"arm-none-eabi-gcc", "-mcpu=cortex-m3", "-mthumb", "-ffreestanding"}, program: bare,
			loader: at("0", "0x20000000"), app: at("0x4000", "0x20004000"),
			deviceMap: fmt.Sprintf(firmwareMap, "32", "0", "16K", "32K"),
			hex:       append([]string{"qemu-system-arm", "-M", "mps2-an385", "-device", "loader,file={}"}, quiet...),
			raw:       append([]string{"qemu-system-arm", "-M", "mps2-an385", "-kernel", "{}"}, quiet...),
		},
		{
			name:     "riscv",
			compiler: []string{"riscv64-unknown-elf-gcc", "-march=rv32imac", "-mabi=ilp32", "-mcmodel=medany", "-ffreestanding"},
			program:  bare,
			loader:   at("0x80000000", "0x80010000"), app: at("0x80004000", "0x80014000"),
			deviceMap: fmt.Sprintf(firmwareMap, "V", "0x8000_0000", "16K", "32K"),
			hex:       append([]string{"qemu-system-riscv32", "-M", "virt", "-bios", "none", "-device", "loader,file={}"}, quiet...),
			raw:       append([]string{"qemu-system-riscv32", "-M", "virt", "-bios", "{}"}, quiet...),
		},
	}
}

// need skips the test where a program is not installed.
func need(t *testing.T, name string) {
	t.Helper()
	if _, err := exec.LookPath(name); err != nil {
		if os.Getenv("MEXALT_COMPILERS") == "all" {
			t.Fatalf("%s is not installed, and MEXALT_COMPILERS says that it is", name)
		}
		t.Skipf("%s is not installed", name)
	}
}

// compile builds a program for the machine, with the linker's map beside it.
func (m *machine) compile(t *testing.T, f folder, source, out string, more ...string) {
	t.Helper()
	sources, err := filepath.Abs("testdata/firmware")
	require.NoError(t, err)
	m.gcc(t, f, slices.Concat(m.program, []string{filepath.Join(sources, source), "-Wl,-Map=" + out + ".map", "-o", out}, more)...)
}

// gcc runs the machine's compiler.
func (m *machine) gcc(t *testing.T, f folder, args ...string) {
	t.Helper()
	cmd := exec.Command(m.compiler[0], append(m.compiler[1:len(m.compiler):len(m.compiler)], args...)...)
	cmd.Dir = f.dir
	text, err := cmd.CombinedOutput()
	require.NoError(t, err, string(text))
}

// starts runs an image in an emulator until it has printed a whole line that
// holds one of the texts, and returns all it printed.
func starts(t *testing.T, f folder, command []string, file string, until ...string) string {
	t.Helper()
	return startsWithin(t, f, time.Minute, command, file, until...)
}

// startsWithin is [starts], for a time that is enough for what is expected.
func startsWithin(t *testing.T, f folder, most time.Duration, command []string, file string, until ...string) string {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), most)
	defer stop()
	args := make([]string, len(command))
	for i, a := range command {
		args[i] = strings.ReplaceAll(a, "{}", file)
	}
	cmd := exec.CommandContext(ctx, args[0], args[1:]...)
	cmd.Dir = f.dir
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	cmd.Stderr = cmd.Stdout
	require.NoError(t, cmd.Start())
	var all strings.Builder
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		fmt.Fprintln(&all, lines.Text())
		for _, u := range until {
			if strings.Contains(lines.Text(), u) {
				stop()
			}
		}
	}
	cmd.Wait()
	return all.String()
}

func TestFirmwareOfRealCompilers(t *testing.T) {
	t.Parallel()
	for _, m := range machines(t) {
		t.Run(m.name, func(t *testing.T) {
			t.Parallel()
			need(t, m.compiler[0])
			need(t, m.hex[0])
			need(t, m.raw[0])
			f := emptyFolder(t)
			m.compile(t, f, "loader.c", "loader.elf", m.loader...)
			m.compile(t, f, "application.c", "application.elf", m.app...)
			f.write("part.device.toml", m.deviceMap)
			for _, name := range []string{"loader.elf", "application.elf"} {
				asTheLinkerSeesIt(t, f, name)
				asTheCompilerSeesIt(t, f, name)
			}
			f.explained("application.elf")
			f.ok("merge loader.elf application.elf -start none -device part -o merged.hex")
			f.ok("fill merged.hex -device part -in loader -in application -with FF -o filled.hex")
			assert.Equal(t, 1, f.line("check filled.hex -device part").status, "the loader's checksum is not there yet")
			f.ok("seal filled.hex -device part -o sealed.hex")
			f.ok("check sealed.hex -device part")
			f.everyFormat("sealed.hex")
			f.ok("convert sealed.hex -to raw -o sealed.bin")
			m.compileTable(t, f, "sealed.hex")

			assert.Equal(t, "tide_table  12 -7 31 44 -19 2", f.tideTable())
			whole := "application gauge 2.4.1, data whole"
			for file, command := range map[string][]string{"sealed.hex": m.hex, "sealed.bin": m.raw} {
				assert.Regexp(t, "(?s)loader.*"+whole, starts(t, f, command, file, whole, "refused", "lost"))
			}
			// One bit of the application, and the loader refuses it.
			f.ok("patch sealed.hex -device part -at application.last-0x40 -bytes 7F -o flipped.hex")
			f.ok("convert flipped.hex -to raw -o flipped.bin")
			for file, command := range map[string][]string{"flipped.hex": m.hex, "flipped.bin": m.raw} {
				assert.Contains(t, starts(t, f, command, file, whole, "refused"), "refused: the application's CRC is wrong")
			}
		})
	}
}

// everyFormat writes an image in every format, and reads it back the same.
func (f folder) everyFormat(name string) {
	f.t.Helper()
	first := f.inspected(name).Span.First
	for _, flags := range []string{"-o all.hex", "-o all.srec", "-record-length 32 -o all.s37", "-family 0x12345678 -holes FF -o all.uf2",
		"-word 4 -order big -o all.mem", "-word 2 -o all.memb", "-o all.bin", "-vendor 0x1234 -o all.dfu"} {
		f.ok("convert " + name + " " + flags)
		// Raw bytes are put back where they were; for the others that changes nothing.
		back := flags[strings.Index(flags, "all."):] + "@" + first
		r := f.line("compare " + name + " " + back)
		assert.Equal(f.t, 0, r.status, "%s: %s", back, r.out)
	}
}

// inspectedFile is what the tests read of an inspection.
type inspectedFile struct {
	Span    struct{ First, Last string }
	Program struct {
		Machine, Entry, BuildID string
		Bits                    int
		Sections                []struct {
			Name, Run, Load string
			Size            uint64
			Loads           bool
		}
	}
}

func (f folder) inspected(name string) inspectedFile {
	f.t.Helper()
	var all struct{ Files []inspectedFile }
	require.NoError(f.t, json.Unmarshal([]byte(f.ok("inspect -json "+name)), &all))
	require.Len(f.t, all.Files, 1)
	return all.Files[0]
}

// tideTable reads the application's table by its symbol.
func (f folder) tideTable() string {
	f.t.Helper()
	f.ok("cut application.elf -keep symbol.tide_table -o table.hex")
	f.ok("convert table.hex -to raw -o table.bin")
	text := "tide_table "
	data := f.read("table.bin")
	for i := 0; i+1 < len(data); i += 2 {
		text += fmt.Sprintf(" %d", int16(uint16(data[i])|uint16(data[i+1])<<8))
	}
	return text
}

// asTheLinkerSeesIt holds the image against the program headers, read with a few
// lines of its own, and against the linker's map: each byte of a load segment is
// in the image, at its load address, but for the file's own headers and gaps
// between sections.
func asTheLinkerSeesIt(t *testing.T, f folder, name string) {
	t.Helper()
	file, err := elf.Open(f.path(name))
	require.NoError(t, err)
	defer file.Close()
	f.ok("convert " + name + " -to csv -record-length 1 -o image.csv")
	image := map[uint64]byte{}
	for _, line := range strings.Split(strings.TrimSpace(f.read("image.csv")), "\n")[1:] {
		cells := strings.Split(line, ",")
		at, err := strconv.ParseUint(cells[0], 0, 64)
		require.NoError(t, err)
		b, err := strconv.ParseUint(cells[2], 16, 8)
		require.NoError(t, err)
		image[at] = byte(b)
	}
	sections := linkerMap(t, f, name+".map")
	inSection := func(load uint64) bool {
		for _, s := range sections {
			if load-s.load < s.size {
				return true
			}
		}
		return false
	}
	found := 0
	for _, p := range file.Progs {
		if p.Type != elf.PT_LOAD || p.Filesz == 0 {
			continue
		}
		data := make([]byte, p.Filesz)
		_, err := p.ReadAt(data, 0)
		require.NoError(t, err)
		for i, b := range data {
			at := p.Paddr + uint64(i)
			got, ok := image[at]
			if !ok {
				assert.False(t, inSection(at), "%s: the linker puts a byte at 0x%X", name, at)
				continue
			}
			assert.Equal(t, b, got, "%s: 0x%X", name, at)
			assert.True(t, inSection(at), "%s: the linker puts none at 0x%X", name, at)
			found++
		}
	}
	assert.Equal(t, len(image), found, "%s: bytes that no segment loads", name)

	told := f.inspected(name)
	assert.Equal(t, strings.TrimPrefix(file.Machine.String(), "EM_"), told.Program.Machine)
	assert.Equal(t, 32, told.Program.Bits)
	seen := 0
	for _, s := range told.Program.Sections {
		want, ok := sections[s.Name]
		if !assert.True(t, ok, "%s: %s is not in the linker's map", name, s.Name) {
			continue
		}
		seen++
		number := func(text string) uint64 { n, _ := strconv.ParseUint(text, 0, 64); return n }
		assert.Equal(t, want.run, number(s.Run), "%s %s", name, s.Name)
		assert.Equal(t, want.size, s.Size, "%s %s", name, s.Name)
		if s.Loads {
			assert.Equal(t, want.load, number(s.Load), "%s %s", name, s.Name)
		}
	}
	assert.GreaterOrEqual(t, seen, 2)
}

type linkedSection struct{ run, load, size uint64 }

// linkerMap reads the output sections of a linker's map.
func linkerMap(t *testing.T, f folder, name string) map[string]linkedSection {
	t.Helper()
	row := regexp.MustCompile(`(?m)^(\.[\w.-]+)\s+0x([0-9a-f]+)\s+0x([0-9a-f]+)(?: load address 0x([0-9a-f]+))?`)
	list := map[string]linkedSection{}
	for _, cells := range row.FindAllStringSubmatch(f.read(name), -1) {
		number := func(text string) uint64 { n, err := strconv.ParseUint(text, 16, 64); require.NoError(t, err); return n }
		s := linkedSection{run: number(cells[2]), size: number(cells[3])}
		if s.load = s.run; cells[4] != "" {
			s.load = number(cells[4])
		}
		if s.size > 0 && !strings.HasPrefix(cells[1], ".debug") && cells[1] != ".comment" {
			list[cells[1]] = s
		}
	}
	return list
}

// asTheCompilerSeesIt holds the source line of each byte of code against the
// compiler's own table.
func asTheCompilerSeesIt(t *testing.T, f folder, name string) {
	t.Helper()
	file, err := elf.Open(f.path(name))
	require.NoError(t, err)
	defer file.Close()
	debug, err := file.DWARF()
	require.NoError(t, err)
	lines := compilersLines(t, debug)
	require.Greater(t, len(lines), 50, "%s has line information", name)
	text := file.Section(".text")
	place := regexp.MustCompile(`\.text\+0x([0-9A-F]+)(?: \((?:[^,)]+, )?([\w.]+:\d+)?)?`)
	held := 0
	for _, cells := range place.FindAllStringSubmatch(f.ok("view "+name+" -columns 1 -origin"), -1) {
		offset, err := strconv.ParseUint(cells[1], 16, 64)
		require.NoError(t, err)
		want, ok := lines[text.Addr+offset]
		if ok {
			assert.Equal(t, want, cells[2], "%s .text+0x%X", name, offset)
			held++
		}
	}
	assert.Greater(t, 10*held, 9*len(lines), "rows that repeat the one above are not shown")
}

// explained holds what a manifest says of a program's bytes, when the program is
// gone, against the compiler's own table.
func (f folder) explained(name string) {
	f.t.Helper()
	file, err := elf.Open(f.path(name))
	require.NoError(f.t, err)
	defer file.Close()
	debug, err := file.DWARF()
	require.NoError(f.t, err)
	lines := compilersLines(f.t, debug)
	f.write("proof.release.toml", "name = \"proof\"\n[[input]]\nname = \"app\"\nfile = \""+name+"\"\n[[output]]\nfile = \"proof.hex\"\n")
	f.ok("release proof.release.toml")
	require.NoError(f.t, os.Rename(f.path(name), f.path("away")))
	args := []string{"explain", "proof.hex", "-json"}
	first := file.Section(".text").Addr
	for a := range lines {
		if a%2 == 0 { // neighbours would be one stretch
			args = append(args, "-at", fmt.Sprint(a))
		}
	}
	r := f.run("", args...)
	require.Equal(f.t, 0, r.status, r.err)
	var told struct {
		Rows []struct {
			Span struct{ First string }
			From string
		}
	}
	require.NoError(f.t, json.Unmarshal([]byte(r.out), &told))
	assert.Greater(f.t, len(told.Rows), 50)
	for _, row := range told.Rows {
		a, err := strconv.ParseUint(row.Span.First, 0, 64)
		require.NoError(f.t, err)
		assert.Regexp(f.t, fmt.Sprintf(`^%s \.text\+0x%X \((.*, )?%s\)$`, regexp.QuoteMeta(name), a-first, regexp.QuoteMeta(lines[a])),
			row.From)
	}
	require.NoError(f.t, os.Rename(f.path("away"), f.path(name)))
}

// compilersLines returns the source line of each address, as the compiler's own
// table has it.
func compilersLines(t *testing.T, debug *dwarf.Data) map[uint64]string {
	t.Helper()
	lines := map[uint64]string{}
	for units := debug.Reader(); ; units.SkipChildren() {
		unit, err := units.Next()
		require.NoError(t, err)
		if unit == nil {
			break
		}
		rows, err := debug.LineReader(unit)
		require.NoError(t, err)
		if rows == nil {
			continue
		}
		var row, before dwarf.LineEntry
		for in := false; rows.Next(&row) == nil; {
			for a := before.Address; in && a < row.Address; a++ {
				lines[a] = fmt.Sprintf("%s:%d", path.Base(before.File.Name), before.Line)
			}
			before, in = row, !row.EndSequence
		}
	}
	return lines
}

// compileTable writes the image as a C array, compiles that, and compares what
// the compiler made of it.
func (m *machine) compileTable(t *testing.T, f folder, name string) {
	t.Helper()
	for _, word := range []int{1, 2, 4} {
		f.ok(fmt.Sprintf("convert %s -to c -name whole -word %d -o whole.c", name, word))
		m.gcc(t, f, "-std=c99", "-Wall", "-Wextra", "-Werror", "-c", "whole.c", "-o", "whole.o")
		object, err := elf.Open(f.path("whole.o"))
		require.NoError(t, err)
		defer object.Close()
		symbols, err := object.Symbols()
		require.NoError(t, err)
		parts := map[string][]byte{}
		for _, s := range symbols {
			if strings.HasPrefix(s.Name, "whole_") && elf.ST_TYPE(s.Info) == elf.STT_OBJECT {
				data, err := object.Sections[s.Section].Data()
				require.NoError(t, err)
				parts[s.Name] = data[s.Value : s.Value+s.Size]
			}
		}
		f.ok(fmt.Sprintf("convert %s -to raw -o whole.bin", name))
		assert.Equal(t, f.read("whole.bin"), string(parts["whole_0"]), "words of %d bytes", word)
	}
}
