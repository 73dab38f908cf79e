package derive

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

const scriptText = `/* A script. */
#include <left by a preprocessor>
__flash_size__ = DEFINED(__flash_size__) ? __flash_size__ : 256K;
_boot_start = 0x06000000;
_boot_size = 16K;
MEMORY
{
  FLASH (rx)  : ORIGIN = 0x0600_0000 + 0, LENGTH = __flash_size__ // to the end
  RAM  (rwx!x): org = (1 << 29), len = 64K - 0x400
  INCLUDE more.ld
  later (rx)  : ORIGIN = somewhere, LENGTH = 1K
}
PROVIDE(__app_start = ORIGIN(FLASH) + _boot_size);
__app_end = ORIGIN(FLASH) + LENGTH(FLASH);
__heap_start = ORIGIN(RAM); __heap_size = 1K;
SECTIONS { .text : { *(.text) . = ALIGN(4); _end_of = .; } > FLASH }
`

const treeText = `/dts-v1/;
/ {
	model = "A board";
	#address-cells = <1>;
	#size-cells = <1>;
	sram0: memory@20000000 { device_type = "memory"; reg = <0x28000000 DT_SIZE_K(64)>; };
	soc {
		#address-cells = <1>;
		#size-cells = <1>;
		flash0: flash@8000000 {
			compatible = "maker,part-nv-flash", "soc-nv-flash";
			reg = <0x06000000 (256 * 1024)>;
			erase-block-size = <2048>;
		};
		spi { #address-cells = <1>; #size-cells = <0>; flash@0 { compatible = "jedec,spi-nor"; reg = <0>; }; };
	};
};
&flash0 {
	partitions {
		compatible = "fixed-partitions";
		#address-cells = <1>;
		#size-cells = <1>;
		boot: partition@0 { label = "bootloader"; reg = <0x0 0x4000>; read-only; };
		partition@4000 { label = "image-0"; reg = <0x4000 0x3c000>; };
		partition@40000 { label = "outside"; reg = <0x40000 0x1000>; };
	};
};
`

const memoryMap = `<?xml version="1.0"?>
<!DOCTYPE memory-map PUBLIC "+//" "x.dtd">
<memory-map>
  <memory type="ram" start="0x28000000" length="0x10000"/>
  <memory type="flash" start="0x06000000" length="0x40000"> <property name="blocksize">0x800</property> </memory>
</memory-map>
`

const segments = `<part><devices><device name="P8">
<address-spaces>
 <address-space id="prog" start="0" size="0x8000">
  <memory-segment start="0x0000" size="0x8000" type="flash" rw="RW" exec="1" name="FLASH" pagesize="0x80"/>
  <memory-segment start="0x7e00" size="0x0200" type="flash" name="BOOT_SECTION_1" pagesize="0x80"/>
  <memory-segment start="0x7c00" size="0x0400" type="flash" name="BOOT_SECTION_2" pagesize="0x80"/>
 </address-space>
 <address-space id="data" start="0" size="0x0900">
  <memory-segment name="IRAM" start="0x0100" size="0x0800" type="ram"/>
 </address-space>
 <address-space id="eeprom"><memory-segment name="EEPROM" start="0x0000" size="0x0400" type="eeprom" pagesize="0x04"/></address-space>
</address-spaces></device></devices></part>
`

const pack = `<package><devices><family Dfamily="F"><device Dname="D32">
  <memory id="IROM1" start="0x06000000" size="0x40000" startup="1" default="1"/>
  <memory name="Extra" access="rwx" start="0x28000000" size="0x10000"/>
</device></family></devices></package>
`

// included are files that others include.
var included = map[string]string{
	"more.ld":              "EEPROM (rw) : ORIGIN = 0x06080000, LENGTH = 4K\n",
	"boards/soc/part.dtsi": "#include \"../flash.dtsi\"\n/ { #address-cells = <1>; #size-cells = <1>; };\n",
	"boards/flash.dtsi": "/ {\n\tflash0: flash@8000000 {\n\t\tcompatible = \"soc-nv-flash\";\n\t\treg = <0x06000000 " +
		"DT_SIZE_K(256)>;\n\t};\n};\n",
	"boards/round.dtsi": "/include/ \"round.dtsi\"\n/ { };\n",
}

// TestTreesInPieces follows what a tree includes, and says which file a memory is from.
func TestTreesInPieces(t *testing.T) {
	d, text := derived(
		t,
		"boards/a.dts",
		"/dts-v1/;\n#include <soc/part.dtsi>\n#include <dt-bindings/clock.h>\n&flash0 { partitions { compatible = "+
			"\"fixed-partitions\"; #address-cells = <1>; #size-cells = <1>;\n\tloader@0 { reg = <0 0x4000>; };\n}; };\n",
	)
	m := load(t, text)
	assert.Equal(t, []string{"flash0 flash 0x0600_0000..0x0603_FFFF"}, memories(m))
	assert.Equal(t, []string{"loader_0 bootloader 0x0600_0000..0x0600_3FFF"}, regions(m))
	assert.Contains(t, text, "[[memory]]                      # boards/flash.dtsi:4\n")
	assert.Contains(t, text, "[[region]]                      # boards/a.dts:5\n")
	assert.Empty(t, warnings(d))
	d = &Draft{}
	err := d.Read("boards/b.dts", []byte("/dts-v1/;\n/include/ \"round.dtsi\"\n"),
		func(name string) ([]byte, error) { return []byte(included[name]), nil })
	assert.EqualError(t, err, "boards/b.dts: error: no memory is described in it; the included round.dtsi is not followed", "and it ends")
	d = &Draft{}
	text = "/dts-v1/;\n" + strings.Repeat("/include/ \"empty.dtsi\"\n", 258) + treeText[len("/dts-v1/;"):]
	require.NoError(t, d.Read("c.dts", []byte(text), func(string) ([]byte, error) { return []byte("/ { };\n"), nil }))
	assert.Equal(t, []string{"c.dts:258: warning: the included empty.dtsi is not followed",
		"c.dts:259: warning: the included empty.dtsi is not followed"},
		warnings(d)[:2])
}

// derived derives one map of texts, by their names.
func derived(t *testing.T, files ...string) (*Draft, string) {
	t.Helper()
	d := &Draft{}
	for i := 0; i < len(files); i += 2 {
		require.NoError(t, d.Read(files[i], []byte(files[i+1]), func(name string) ([]byte, error) {
			if text, ok := included[name]; ok {
				return []byte(text), nil
			}
			return nil, errors.New("no such file")
		}))
	}
	return d, d.Text()
}

// load loads a derived map.
func load(t *testing.T, text string) *device.Map {
	t.Helper()
	var problems source.Problems
	m := device.Load("derived", []byte(text), &problems)
	require.NoError(t, problems.Err(), text)
	return m
}

func warnings(d *Draft) (list []string) {
	for _, p := range d.Problems.Sorted() {
		list = append(list, p.Error())
	}
	return list
}

func memories(m *device.Map) (list []string) {
	for i := range m.Memories {
		mem := &m.Memories[i]
		list = append(list, strings.Join([]string{mem.Name, string(mem.Kind), mem.Span.Range()}, " "))
	}
	return list
}

func regions(m *device.Map) (list []string) {
	for _, r := range m.Regions {
		list = append(list, strings.Join([]string{r.Name, string(r.Role), r.Span.Range()}, " "))
	}
	return list
}

func TestLinkerScript(t *testing.T) {
	d, text := derived(t, "a.ld", strings.ReplaceAll(scriptText, "0800_0000", "08000000"))
	m := load(t, text)
	assert.Equal(t, []string{"flash flash 0x0600_0000..0x0603_FFFF", "eeprom eeprom 0x0608_0000..0x0608_0FFF",
		"ram ram 0x2000_0000..0x2000_FBFF"}, memories(m))
	assert.Equal(t, []string{"boot bootloader 0x0600_0000..0x0600_3FFF", "app application 0x0600_4000..0x0603_FFFF"}, regions(m))
	assert.Equal(t, []string{"a.ld:11: warning: the place of memory later is not known: it depends on what the script does not say"},
		warnings(d))
	assert.Contains(t, text, "[[memory]]                      # a.ld:8\n")
	assert.Contains(t, text, "[[memory]]                      # more.ld:1\n")
	assert.Contains(t, text, "# sectors = [{ count = 0, size = 0 }] # to do: the erase sectors, in address order")
}

// TestBanksAndPieces leaves out the banks that a variant does not have, and takes
// memories that lie in others as pieces of them.
func TestBanksAndPieces(t *testing.T) {
	d, text := derived(t, "memory.x", `MEMORY {
  infod : ORIGIN = 0x1800, LENGTH = 0x80
  info  : ORIGIN = 0x1800, LENGTH = 0x200
  infoc : ORIGIN = 0x1880, LENGTH = 0x80
  ram (wx) : ORIGIN = 0x1c00, LENGTH = 4K - 2
  ram2 (wx) : ORIGIN = 0x0000, LENGTH = 0x0000
  rom (rx) : ORIGIN = 0x8000 + LENGTH(ram2), LENGTH = 32K
}`)
	m := load(t, text)
	assert.Equal(t, []string{"info flash 0x1800..0x19FF", "ram ram 0x1C00..0x2BFD", "rom flash 0x8000..0xFFFF"}, memories(m))
	assert.Equal(t, []string{"infod data 0x1800..0x187F", "infoc data 0x1880..0x18FF"}, regions(m))
	assert.Empty(t, warnings(d))
}

func TestDeviceTree(t *testing.T) {
	d, text := derived(t, "a.dts", treeText)
	m := load(t, text)
	assert.Equal(t, "A board", m.Name)
	assert.Equal(t, []string{"flash0 flash 0x0600_0000..0x0603_FFFF", "sram0 ram 0x2800_0000..0x2800_FFFF"}, memories(m))
	assert.Equal(t, []device.Sectors{{First: 0x0600_0000, Size: 2048, Count: 128}}, m.Memories[0].Sectors)
	assert.Equal(t, []string{"bootloader bootloader 0x0600_0000..0x0600_3FFF", "image_0 application 0x0600_4000..0x0603_FFFF"}, regions(m))
	assert.Equal(t, []string{"a.dts:15: warning: flash@0 is chosen on a bus: where its bytes are seen is not known",
		"a.dts:25: warning: partition outside, 0x0004_0000..0x0004_0FFF (4 KiB), is not in its flash, 0x0600_0000..0x0603_FFFF (256 KiB)"}, warnings(d))
}

// TestPartitionsOnABus are those of a flash without addresses of its own, which
// count from 0.
func TestPartitionsOnABus(t *testing.T) {
	d, text := derived(t, "b.dts", `/dts-v1/;
/include/ "part.dtsi"
#include <dt-bindings/x.h>
/ { model = "B"; };
&spi {
	flash@0 {
		compatible = "jedec,spi-nor";
		reg = <0>;
		partitions {
			compatible = "fixed-partitions";
			#address-cells = <1>;
			#size-cells = <1>;
			partition@0 { label = "loader"; reg = <0 0x10000>; };
			partition@10000 { label = "image"; reg = <0x10000 (0x80000 - 0x10000)>; };
		};
	};
	flash@1 {
		partitions { #address-cells = <1>; #size-cells = <1>; kept@0 { reg = <0 0x1000>; }; };
	};
};
`)
	m := load(t, text)
	assert.Equal(t, []string{"flash flash 0x0000_0000..0x0007_FFFF", "flash_2 flash 0x0010_0000..0x0010_0FFF"}, memories(m))
	assert.Equal(t, []string{"loader bootloader 0x0000..0xFFFF", "image_ application 0x0001_0000..0x0007_FFFF",
		"kept_0 data 0x0010_0000..0x0010_0FFF"}, regions(m))
	assert.Contains(t, text, "# to do: the complete size; the program uses this much")
	assert.Equal(t, []string{"b.dts:2: warning: the included part.dtsi is not read: no such file; what it says is not known"}, warnings(d))
}

func TestXML(t *testing.T) {
	d, text := derived(t, "map.xml", memoryMap)
	m := load(t, text)
	assert.Equal(t, []string{"flash flash 0x0600_0000..0x0603_FFFF", "ram ram 0x2800_0000..0x2800_FFFF"}, memories(m))
	assert.Equal(t, uint64(2048), m.Memories[0].Sectors[0].Size)
	assert.Empty(t, warnings(d))

	d, text = derived(t, "p8.xml", segments)
	m = load(t, text)
	assert.Equal(t, "P8", m.Name)
	require.Len(t, m.Memories, 3)
	assert.Equal(t, "flash flash 0x0000..0x7FFF", memories(m)[0])
	assert.Equal(t, uint64(128), m.Memories[0].Page)
	assert.Contains(t, text, "to do: its first address in images; eeprom begins at 0 too")
	assert.Equal(t, []string{"boot_section_1 bootloader 0x7E00..0x7FFF"}, regions(m), "of sections that are choices, one")
	assert.Equal(
		t,
		[]string{
			"p8.xml:6: warning: boot_section_2, 0x7C00..0x7FFF (1 KiB), overlaps boot_section_1, 0x7E00..0x7FFF (512 bytes), in " +
				"0x7E00..0x7FFF; it is left out",
		},
		warnings(d),
	)

	_, text = derived(t, "pack.xml", pack)
	m = load(t, text)
	assert.Equal(t, []string{"irom1 flash 0x0600_0000..0x0603_FFFF", "extra ram 0x2800_0000..0x2800_FFFF"}, memories(m))
}

// TestSeveralAddUp joins what several say, and tells where they contradict each
// other, with both lines.
func TestSeveralAddUp(t *testing.T) {
	elf, err := os.ReadFile(filepath.Join("..", "..", "demo", "data", "station.elf"))
	require.NoError(t, err)
	linker := "MEMORY { rom (rx) : ORIGIN = 0x06000000, LENGTH = 512K\n ram (rwx) : ORIGIN = 0x28000000, LENGTH = 128K }\n"
	d, text := derived(t, "station.elf", string(elf), "a.ld", linker, "map.xml", strings.Replace(memoryMap, "0x40000", "0x80000", 1))
	m := load(t, text)
	assert.Equal(t, []string{"rom flash 0x0600_0000..0x0607_FFFF", "ram ram 0x2800_0000..0x2801_FFFF"}, memories(m))
	assert.Equal(t, uint64(2048), m.Memories[0].Sectors[0].Size, "the map's blocks for the script's memory")
	assert.Contains(t, text, "# at = 0x0600_8008              # the entry of station.elf")
	assert.Equal(
		t,
		[]string{
			"map.xml:4: warning: memory ram is 0x2800_0000..0x2800_FFFF (64 KiB); expected ram 0x2800_0000..0x2801_FFFF (128 KiB), " +
				"as in a.ld:2",
		},
		warnings(d),
	)

	d, text = derived(t, "station.elf", string(elf))
	load(t, text)
	assert.Contains(t, text, "# to do: the complete size; the program uses this much")
	assert.Contains(t, text, "# .text 0x0600_8008..0x0600_8241 (570 bytes)\n")
	assert.Contains(t, text, "# .bss 0x2800_000C..0x2800_000F (4 bytes)\n")
	assert.Empty(t, warnings(d))
	d, _ = derived(t, "a.ld", linker, "b.ld", strings.Replace(linker, "512K", "256K", 1))
	assert.Equal(
		t,
		[]string{
			"b.ld:1: warning: memory rom is 0x0600_0000..0x0603_FFFF (256 KiB); expected rom 0x0600_0000..0x0607_FFFF (512 KiB), " +
				"as in a.ld:1",
		},
		warnings(d),
	)

	assert.ErrorContains(t, (&Draft{}).Read("x", []byte("nothing"), nil), "a description of no known form")
	assert.ErrorContains(t, (&Draft{}).Read("x", []byte("<a/>"), nil), "no memory is described in it")
	assert.ErrorContains(t, (&Draft{}).Read("x", []byte("<a"), nil), "no XML")
	assert.Error(t, (&Draft{}).Read("x", elf[:60], nil))
}

// TestUpdateKeepsWhatIsThere brings a map that somebody wrote to what is derived.
func TestUpdateKeepsWhatIsThere(t *testing.T) {
	const mine = `# Mine.
name = "Mine"
[[memory]]
name = "flash"   # the only one
kind = "flash"
first = 0x0600_0000
size = "128K"    # of the small variant
# granule is unknown
[[memory]]
name = "ram"
kind = "ram"
first = 0x2800_0000
size = 65536
[[region]]       # as the loader has it
name = "all"
role = "application"
first = "flash.first"
size = "128K"
`
	d := &Draft{}
	require.NoError(t, d.Read("map.xml", []byte(memoryMap), nil))
	require.NoError(t, d.Read("e.ld", []byte("MEMORY { eeprom (rw) : ORIGIN = 0x06080000, LENGTH = 4K }"), nil))
	text, changes, err := d.Update("mine.device.toml", []byte(mine))
	require.NoError(t, err)
	want := strings.Replace(mine, `size = "128K"    # of`, `size = "256K"    # of`, 1)
	want = strings.Replace(want, "# the only one\n", "# the only one\nsectors = [{ count = 128, size = \"2K\" }]\n", 1)
	assert.True(t, strings.HasPrefix(text, want), text)
	m := load(t, text)
	assert.Equal(t, []string{"flash flash 0x0600_0000..0x0603_FFFF", "eeprom eeprom 0x0608_0000..0x0608_0FFF",
		"ram ram 0x2800_0000..0x2800_FFFF"}, memories(m))
	assert.Equal(
		t,
		[]Change{
			{7, `size was "128K", is "256K" (map.xml:5)`},
			{4, `sectors = [{ count = 128, size = "2K" }] is new (map.xml:5)`},
			{0, "memory eeprom is new (e.ld:1)"},
		},
		changes,
	)

	again, changes, err := d.Update("mine.device.toml", []byte(text))
	require.NoError(t, err)
	assert.Empty(t, changes)
	assert.Equal(t, text, again, "a second time changes nothing")
	_, _, err = d.Update("mine.device.toml", []byte("name = 3"))
	assert.Error(t, err)
}

// TestUpdateNeverTakesAway brings a map to scripts that divide its memories: they stay as
// large as they are, and the divisions become regions. A script's length that depends on
// a symbol is the program's.
func TestUpdateNeverTakesAway(t *testing.T) {
	const mine = "name = \"Mine\"\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0x0600_0000\nsize = \"256K\"\n" +
		"[[memory]]\nname = \"ram\"\nkind = \"ram\"\nfirst = 0x2800_0000\nsize = \"64K\"\n"
	for name, c := range map[string]struct {
		script            string
		memories, regions []string
		changes           int
	}{
		"the end is left": {"MEMORY { FLASH (rx) : ORIGIN = 0x06000000, LENGTH = 224K\n RAM (rwx) : ORIGIN = 0x28000000, LENGTH = 1K }",
			[]string{"flash flash 0x0600_0000..0x0603_FFFF", "ram ram 0x2800_0000..0x2800_FFFF"}, []string{"program"}, 2},
		"two parts": {"MEMORY { BOOT (rx) : ORIGIN = 0x06000000, LENGTH = 32K\n APP (rx) : ORIGIN = 0x06008000, LENGTH = 224K\n RAM " +
			"(rwx) : ORIGIN = 0x28000000, LENGTH = 64K }",
			[]string{"flash flash 0x0600_0000..0x0603_FFFF", "ram ram 0x2800_0000..0x2800_FFFF"}, []string{"BOOT", "APP"}, 2},
		"the second part alone": {"MEMORY { APP (rx) : ORIGIN = 0x06008000, LENGTH = 224K\n RAM (rwx) : ORIGIN = 0x28000000, " +
			"LENGTH = 64K }",
			[]string{"flash flash 0x0600_0000..0x0603_FFFF", "ram ram 0x2800_0000..0x2800_FFFF"}, []string{"APP"}, 1},
		"larger than the map": {"MEMORY { FLASH (rx) : ORIGIN = 0x06000000, LENGTH = 512K\n RAM (rwx) : ORIGIN = 0x28000000, " +
			"LENGTH = 64K }",
			[]string{"flash flash 0x0600_0000..0x0607_FFFF", "ram ram 0x2800_0000..0x2800_FFFF"}, nil, 1},
	} {
		d := &Draft{}
		require.NoError(t, d.Read("a.ld", []byte(c.script), nil))
		text, changes, err := d.Update("mine.device.toml", []byte(mine))
		require.NoError(t, err, name)
		m := load(t, text)
		assert.Equal(t, c.memories, memories(m), name)
		assert.Len(t, m.Regions, len(c.regions), "%s\n%s", name, text)
		for _, r := range c.regions {
			assert.NotNil(t, m.Region(strings.ToLower(r)), "%s: %s", name, r)
		}
		assert.Len(t, changes, c.changes, name)
		_, changes, err = d.Update("mine.device.toml", []byte(text))
		require.NoError(t, err)
		for _, change := range changes {
			assert.Contains(t, change.What, "ram is 0x2800_0000..0x2800_03FF (1 KiB); the memory is kept as it is", name)
		}
	}

	elf, err := os.ReadFile(filepath.Join("..", "..", "demo", "data", "station.elf"))
	require.NoError(t, err)
	const conditional = "_len = DEFINED(bss_first) ? bss_first - 0x27F8000C : 256K;\nMEMORY { rom (rx) : ORIGIN = 0x06000000, LENGTH " +
		"= _len\n ram (rwx) : ORIGIN = 0x28000000, LENGTH = 128K }\n"
	_, text := derived(t, "station.elf", string(elf), "a.ld", conditional)
	assert.Contains(t, memories(load(t, text)), "rom flash 0x0600_0000..0x0607_FFFF")
	_, text = derived(t, "a.ld", conditional)
	assert.Contains(t, memories(load(t, text)), "rom flash 0x0600_0000..0x0603_FFFF")

	// A program that lies in two memories side by side, and two with entries of their own.
	d, text := derived(
		t,
		"a.ld",
		"MEMORY { one (rx) : ORIGIN = 0x06000000, LENGTH = 33K\n two (rx) : ORIGIN = 0x06008400, LENGTH = 31K\n ram (rwx) : ORIGIN = "+
			"0x28000000, LENGTH = 4K }",
		"station.elf",
		string(elf),
		"b.elf",
		strings.Replace(string(elf), "\x08\x80\x00\x08", "\x0A\x80\x00\x08", 1),
	)
	load(t, text)
	assert.Empty(t, warnings(d))
	assert.Contains(t, text, "0x0600_8008")
	assert.Contains(t, text, "0x0600_8008")
}

// TestScriptsOfCompilers derives maps of the scripts that compilers bring.
func TestScriptsOfCompilers(t *testing.T) {
	scripts, _ := filepath.Glob("/usr/lib/avr/lib/ldscripts/avr*.x")
	more, _ := filepath.Glob("/usr/share/doc/gcc-arm-none-eabi/examples/ldscripts/mem.ld")
	if scripts = append(scripts, more...); len(scripts) == 0 {
		skipOrFail(t, "no compiler's scripts")
	}
	for _, name := range scripts {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		d := &Draft{}
		require.NoError(t, d.Read(name, text, nil), name)
		m := load(t, d.Text())
		assert.NotEmpty(t, m.Memories, name)
		flash, ok := memory.SpanOf(m.Memories[0].Span.First, 4096)
		assert.True(t, ok)
		assert.Equal(t, device.Flash, m.MemoryAt(flash.First).Kind, name)
	}
}

// TestTreesOfEmulators derives maps of the trees that emulators dump.
func TestTreesOfEmulators(t *testing.T) {
	for machine, want := range map[string]string{"virt": "flash flash 0x2000_0000..0x21FF_FFFF",
		"sifive_u": "memory ram 0x8000_0000..0x87FF_FFFF"} {
		emulator, err := exec.LookPath("qemu-system-riscv64")
		compiler, err2 := exec.LookPath("dtc")
		if err != nil || err2 != nil {
			skipOrFail(t, "no emulator, or no compiler of trees")
		}
		blob := filepath.Join(t.TempDir(), "tree.dtb")
		out, err := exec.Command(emulator, "-machine", machine+",dumpdtb="+blob, "-bios", "none", "-display", "none").CombinedOutput()
		require.NoError(t, err, string(out))
		text, err := exec.Command(compiler, "-q", "-I", "dtb", "-O", "dts", blob).Output()
		require.NoError(t, err)
		d := &Draft{}
		require.NoError(t, d.Read("tree.dts", text, nil))
		assert.Contains(t, memories(load(t, d.Text())), want, machine)
		text, err = os.ReadFile(blob)
		require.NoError(t, err)
		binary := &Draft{}
		require.NoError(t, binary.Read("tree.dtb", text, nil))
		assert.Equal(t, memories(load(t, d.Text())), memories(load(t, binary.Text())), machine)
	}
}

// skipOrFail skips where other programs are missing that need not be there.
func skipOrFail(t *testing.T, why string) {
	t.Helper()
	if os.Getenv("MEXALT_COMPILERS") == "all" {
		t.Fatal(why)
	}
	t.Skip(why)
}

// FuzzDerive reads anything: maps that load, or an error, but never a panic.
func FuzzDerive(f *testing.F) {
	for _, text := range []string{scriptText, treeText, memoryMap, segments, pack, "MEMORY { a : ORIGIN = -1, LENGTH = ((((1",
		"/dts-v1/; / { a@1 { compatible = \"flash\"; reg = <1 2 3>; }; };", "<memory start='1' size='x'/>",
		"MEMORY { a : ORIGIN = 0, LENGTH = 0xFFFFFFFFFFFFFFFF }", "MEMORY { a : ORIGIN = 0, LENGTH = 1 << 63 }"} {
		f.Add(text)
	}
	f.Add(string(blobOf(blobTree())))
	f.Fuzz(func(t *testing.T, text string) {
		d := &Draft{}
		if err := d.Read("x", []byte(text), func(string) ([]byte, error) { return []byte(text), nil }); err != nil {
			return
		}
		out := d.Text()
		var problems source.Problems
		device.Load("x", []byte(out), &problems)
		require.NoError(t, problems.Err(), out)
	})
}

// TestNamesThatTell says what a memory and a region are by their names.
func TestNamesThatTell(t *testing.T) {
	for name, want := range map[string]device.Kind{
		"PROGRAM": device.Flash, "program_ram": device.RAM, "progmem": device.Flash, "sram_d2": device.RAM, "DTCM": device.RAM,
		"ccmram": device.RAM,
		"eeprom": device.EEPROM, "FUSES": device.Config, "lockbits": device.Config, "option_bytes": device.Config,
		"configuration": device.Config,
		"otp":           device.OTP, "signatures": device.ROM, "text": device.Flash, "bootrom": device.Flash, "data": device.RAM, "x": "",
	} {
		assert.Equal(t, want, kindOf(name), name)
	}
	for name, want := range map[string]device.Role{
		"boot": device.Bootloader, "Loader": device.Bootloader, "bootslot": device.Application, "slot_a": device.Application,
		"app":     device.Application,
		"image-1": device.Application, "Firmware": device.Application, "text": device.Application, "nvs": device.Data,
	} {
		assert.Equal(t, want, roleOf(name), name)
	}
}

// TestOperatorsBindAsInC reads sizes of two operators without parentheses: they are what they are
// with those that C's table of precedences puts there.
func TestOperatorsBindAsInC(t *testing.T) {
	levels := []string{"||", "&&", "|", "&", "== !=", "< > <= >=", "<< >>", "+ -", "* / %"} // the weakest first
	var operators []string
	strengths := map[string]int{}
	for i, level := range levels {
		for _, op := range strings.Fields(level) {
			operators = append(operators, op)
			strengths[op] = i
		}
	}
	sizes := func(expressions []string) (list []string) {
		script := "MEMORY\n{\n"
		for i, e := range expressions {
			script += fmt.Sprintf("  m%d (rx) : ORIGIN = %d, LENGTH = 64 + ((%s) & 1023)\n", i, i<<16, e)
		}
		_, text := derived(t, "a.ld", script+"}\n")
		return memories(load(t, text))
	}
	var plain, clear []string
	for _, one := range operators {
		for _, two := range operators {
			for _, v := range [][3]int{{7, 2, 1}, {12, 5, 3}, {1, 6, 2}, {9, 1, 9}} {
				a, b, c := v[0], v[1], v[2]
				plain = append(plain, fmt.Sprintf("%d %s %d %s %d", a, one, b, two, c))
				if strengths[two] > strengths[one] {
					clear = append(clear, fmt.Sprintf("%d %s (%d %s %d)", a, one, b, two, c))
				} else {
					clear = append(clear, fmt.Sprintf("(%d %s %d) %s %d", a, one, b, two, c))
				}
			}
		}
	}
	want, got := sizes(clear), sizes(plain)
	require.Greater(t, len(want), 1000, "but for those that divide by 0")
	require.Len(t, got, len(want))
	for i := range want {
		assert.Equal(t, want[i], got[i], plain[i])
	}
}

// TestFunctionsOfScripts computes what linkers' functions are, and leaves out what they are not.
func TestFunctionsOfScripts(t *testing.T) {
	for expression, want := range map[string]uint64{
		"MAX(0x100, 0x200)": 0x200, "MAX(0x300, 0x200)": 0x300, "MIN(0x100, 0x200)": 0x100, "MIN(0x300, 0x200)": 0x200,
		"ABSOLUTE(0x180)": 0x180, "ALIGN(0x101, 0x100)": 0x200, "ALIGN(0x100, 0x100)": 0x100, "MAX(MIN(0x100, 0x80), 0x40) + 1": 0x81,
		"LENGTH(first) / 2": 0x80, "ORIGIN(first) + 4": 0x1004, "MAX(0x100)": 0, "MIN(1, 2, 3)": 0, "ALIGN(8, 0)": 0,
		"ALIGN(0xFFFFFFFFFFFFFFF8, 16)": 0, "MAX(nothing, 1)": 0, "ABSOLUTE(1, 2)": 0, "LOADADDR(x)": 0,
	} {
		_, text := derived(t, "a.ld",
			"MEMORY\n{\n first (rx) : ORIGIN = 0x1000, LENGTH = 0x100\n second (rx) : ORIGIN = 0x8000, LENGTH = "+expression+"\n}\n")
		known := load(t, text)
		i := slices.IndexFunc(known.Memories, func(m device.Memory) bool { return m.Name == "second" })
		if assert.Equal(t, want > 0, i >= 0, expression) && i >= 0 {
			assert.Equal(t, memory.Span{First: 0x8000, Last: 0x8000 + want - 1}, known.Memories[i].Span, expression)
		}
	}
}

// TestWhatAProgramUsesIsOfItsSpace adds memories of two address spaces, which lie over one another:
// what a program uses is within one of its own space, or a memory more.
func TestWhatAProgramUsesIsOfItsSpace(t *testing.T) {
	spans := func(uses ...Memory) (list []string) {
		d := &Draft{
			Memories: []Memory{{Name: "text", Space: "text", Span: memory.Span{Last: 0x7FFF}}}}
		for _, m := range uses {
			m.Part = true
			d.addMemory(m)
		}
		for _, m := range d.Memories {
			list = append(list, m.Space+" "+m.Span.Range())
		}
		return list
	}
	low := memory.Span{First: 0x100, Last: 0x1FF}
	assert.Equal(t, []string{"text 0x0000..0x7FFF"}, spans(Memory{Space: "text", Span: low}))
	assert.Equal(t, []string{"text 0x0000..0x7FFF", "data 0x0100..0x01FF"}, spans(Memory{Space: "data", Span: low}))
	assert.Equal(t, []string{"text 0x0000..0x7FFF", "data 0x0100..0x01FF"},
		spans(Memory{Space: "data", Span: low}, Memory{Space: "data", Span: memory.Span{First: 0x110, Last: 0x11F}}))
}
