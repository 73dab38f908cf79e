package elf

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec/format"
)

// TestOverlays links functions to the same addresses, and again to addresses of their own: each
// byte of a section has the same line both times, or none where that cannot be told.
func TestOverlays(t *testing.T) {
	const compiler = "arm-none-eabi-gcc"
	if _, err := exec.LookPath(compiler); err != nil {
		if os.Getenv("MEXALT_COMPILERS") == "all" {
			t.Fatal(err)
		}
		t.Skip(err)
	}
	folder := t.TempDir()
	run := func(args ...string) {
		cmd := exec.Command(compiler, append([]string{"-mcpu=cortex-m3", "-mthumb", "-Os"}, args...)...)
		cmd.Dir = folder
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o666))
	}
	write("a.c", `int shared;
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
IN(".one") static int same(int x) {
	return shared << x;
}
IN(".four") int left(int x) { return shared + x * 9; } IN(".five") int right(int x) { return shared / x; }
IN(".one") int uses(int x) { return same(x) + same(x + 1) + 1; }
int start(void) { return first(1) + second(2) + left(3) + right(4) + uses(5); }
`)
	write("b.c", `extern int shared;
#define IN(s) __attribute__((section(s), noinline))
IN(".three") int third(int x) {
	return shared |= x;
}
IN(".three") int fourth(int x) {
	shared &= x;
	return shared - 1;
}
IN(".six") static int same(int x) {
	return shared >> x;
}
IN(".six") int also(int x) {
	int a = same(x);
	int b = same(a);
	return a * b;
}
int unused(void) { return third(1) + fourth(2) + also(3); }
`)
	// Of unequal lengths, one begins in the middle of others.
	write("overlay.ld", `ENTRY(start)
SECTIONS {
	.text 0 : { *(.text) }
	OVERLAY 0x20000000 : AT(0x4000) { .first { *(.one) } .second { *(.two) } .third { *(.three) } .fourth { *(.four) } .fifth { *(.five) } }
	.sixth 0x20000004 : AT(0x6000) { *(.six) }
	.bss 0x20001000 (NOLOAD) : { *(.bss) *(COMMON) }
}
`)
	write("apart.ld", `ENTRY(start)
SECTIONS {
	.text 0 : { *(.text) }
	.first 0x20000000 : AT(0x4000) { *(.one) }
	.second 0x20000100 : AT(0x4100) { *(.two) }
	.third 0x20000200 : AT(0x4200) { *(.three) }
	.fourth 0x20000300 : AT(0x4300) { *(.four) }
	.fifth 0x20000400 : AT(0x4400) { *(.five) }
	.sixth 0x20000504 : AT(0x6000) { *(.six) }
	.bss 0x20001000 (NOLOAD) : { *(.bss) *(COMMON) }
}
`)
	link := func(script string, more ...string) *format.Content {
		run(append([]string{"-nostdlib", "-Wl,--no-check-sections", "-T", script, "a.o", "b.o", "-o", "o.elf"}, more...)...)
		data, err := os.ReadFile(filepath.Join(folder, "o.elf"))
		require.NoError(t, err)
		c, problems := read(t, data, format.ReadOptions{})
		require.NoError(t, problems.Err())
		return c
	}
	// lines are what is said of each position of the sections that are loaded.
	lines := func(c *format.Content) map[string]string {
		said := map[string]string{}
		for _, s := range c.Program.Sections {
			if !s.Loads {
				continue
			}
			o, ok := c.Image.Origin(s.Load)
			require.True(t, ok, s.Name)
			list := o.Input.Details()
			for position, at := uint64(0), 0; position < s.Size; position++ {
				if at+1 < len(list) && list[at+1].Position <= position {
					at++
				}
				text := o.Input.Detail(position)
				assert.Equal(t, text, list[at].Text(position), "%s+%d", s.Name, position)
				said[fmt.Sprintf("%s+%02d", s.Name, position)] = text
			}
		}
		return said
	}
	for _, version := range []string{"2", "4 -gz", "5"} {
		flags := strings.Fields("-gdwarf-" + version)
		run(append(flags, "-c", "a.c")...)
		run(append(flags, "-c", "b.c")...)
		apart, over := lines(link("apart.ld")), lines(link("overlay.ld"))
		require.Len(t, over, len(apart))
		without, written, with := 0, 0, map[string]bool{}
		for place, want := range apart {
			if !strings.Contains(want, ".c:") { // of the linker's own, which differ with the addresses
				assert.NotContains(t, over[place], ".c:", place)
				continue
			}
			written++
			if over[place] != want {
				symbol, _, _ := strings.Cut(want, ",")
				assert.Equal(t, symbol, over[place], "%s: DWARF %s", place, version)
				assert.Contains(t, []string{"left", "right"}, strings.Split(symbol, "+")[0], "%s: DWARF %s", place, version)
				without++
				continue
			}
			section, _, _ := strings.Cut(place, "+")
			with[section] = true
		}
		assert.Greater(t, written*10, len(apart)*7)
		assert.Positive(t, without, "two functions that are declared on one line")
		assert.Len(t, with, 5, "%v", with)
	}
	// Without the names of some functions, nothing is said of them rather than what may be wrong.
	apart, nameless := lines(link("apart.ld")), 0
	for place, text := range lines(link("overlay.ld", "-Wl,--discard-all")) {
		if _, line, ok := strings.Cut(text, ", "); ok {
			assert.True(t, strings.HasSuffix(apart[place], ", "+line), "%s: %s, %s", place, text, apart[place])
		} else if strings.Contains(apart[place], "same+") {
			nameless++
		}
	}
	assert.Positive(t, nameless)
}
