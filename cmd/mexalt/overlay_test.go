package main

import (
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestLinesOfOverlays has functions that run at the same address, two of them of one file:
// each byte is explained by the lines of the section that it loads with.
func TestLinesOfOverlays(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	arm := machines(t)[1]
	need(t, arm.compiler[0])
	f.write("a.c", `int shared;
#define IN(s) __attribute__((section(s), noinline))
IN(".one") int first(int x) {
	shared += x * 3;
	return shared;
}
IN(".two") int second(int x) {
	shared -= x;
	shared *= 5;
	return shared ^ x;
}
int start(void) { return first(1) + second(2); }
`)
	f.write("b.c", `extern int shared;
__attribute__((section(".three"))) int third(int x) {
	return shared |= x;
}
__attribute__((section(".three"))) int fourth(int x) {
	return shared &= x;
}
`)
	f.write("overlay.ld", `ENTRY(start)
MEMORY { flash : ORIGIN = 0x0, LENGTH = 32K ram : ORIGIN = 0x20000000, LENGTH = 8K }
SECTIONS {
	.text : { *(.text) } >flash
	OVERLAY 0x20000000 : AT(0x4000) { .first { *(.one) } .second { *(.two) } .third { *(.three) } }
	.bss 0x20001000 (NOLOAD) : { *(.bss) *(COMMON) }
}
`)
	for _, c := range []struct {
		version  string
		stripped bool
	}{{"4", false}, {"5", false}, {"5", true}} {
		debug := "-gdwarf-" + c.version
		arm.gcc(t, f, "-Os", debug, "-c", "a.c")
		arm.gcc(t, f, "-Os", debug, "-c", "b.c")
		arm.gcc(t, f, "-nostdlib", "-Wl,--no-check-sections", "-T", "overlay.ld", "a.o", "b.o", "-o", "o.elf")
		out := f.ok("view o.elf -columns 2 -origin")
		if c.stripped { // of the functions' names: nothing is said rather than what may be wrong
			arm.gcc(t, f, "-nostdlib", "-Wl,--no-check-sections", "-Wl,-T,overlay.ld", "-Wl,-x", "-Wl,--strip-all", "a.o", "b.o", "-o", "o.elf")
			out = f.ok("view o.elf -columns 2 -origin")
			assert.NotContains(t, out[strings.Index(out, ".first"):], ".c:")
			continue
		}
		lines := map[string]map[string]bool{} // by section
		for row := range strings.Lines(out) {
			section, rest, ok := strings.Cut(row, "+0x")
			if _, line, has := strings.Cut(rest, ", "); ok && has {
				section = section[strings.LastIndex(section, " ")+1:]
				if lines[section] == nil {
					lines[section] = map[string]bool{}
				}
				lines[section][strings.TrimRight(line, ")\n ")] = true
			}
		}
		for section, want := range map[string]string{".first": "a.c:4 a.c:6", ".second": "a.c:8 a.c:9 a.c:11", ".third": "b.c:3 b.c:4 b.c:6 b.c:7"} {
			assert.ElementsMatch(t, strings.Fields(want), slices.Collect(maps.Keys(lines[section])), "DWARF %s, %s\n%s", c.version, section, out)
		}
	}
}
