package check

import (
	"bytes"
	"fmt"
	"hash/crc32"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/checksum"
	"mexalt/device"
	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

const mapText = `
name = "T"
identity = "AA BB"
[[memory]]
name = "flash"
kind = "flash"
first = 0x1000
size = 0x1000
page = 64
granule = 4
sectors = [{ count = 4, size = 0x400 }]
aliases = [0x9000]
[[memory]]
name = "ram"
kind = "ram"
first = 0x4000
size = 0x100
[[memory]]
name = "once"
kind = "otp"
first = 0x5000
size = 16
[[memory]]
name = "fuses"
kind = "config"
first = 0x6000
size = 2
[[region]]
name = "app"
role = "application"
first = 0x1000
last = "boot.first - 1"
required = true
[[region]]
name = "boot"
role = "bootloader"
last = 0x1BFF
size = 0x400
required = true
holds = "unknown"
[[region]]
name = "log"
role = "reserved"
first = 0x1C00
size = 0x100
[[region]]
name = "options"
role = "data"
first = "fuses.first"
last = "fuses.last"
[[region]]
name = "serial"
role = "data"
first = "once.first"
last = "once.last"
`

const configText = `
[[config]]
name = "word"
at = "fuses.first"
width = 2
default = 0x8000
[[config.field]]
name = "boot_size"
bits = "0..1"
values = [{ value = 0, meaning = "1 KiB", sets = { boot = 0x400 } }, { value = 1, meaning = "512 bytes", sets = { boot = 0x200 } }]
[[config.field]]
name = "port"
bits = 4
values = [{ value = 0, meaning = "open" }, { value = 1, meaning = "closed", hazard = "for good", requires = { boot_size = "512 bytes" } }]
`

// complementText is a word in flash, outside all regions, and its complement.
const complementText = `
[[config]]
name = "word"
at = 0x1E00
width = 1
default = 0x5A
complement-at = 0x1E40
[[config.field]]
name = "port"
bits = 4
values = [{ value = 0, meaning = "open" }, { value = 1, meaning = "closed" }]
`

const identityText = "identity-at = 0x13FE\n"

const vectorsText = `
[start]
kind = "vectors"
at = 0x1000
stack = "ram"
stack-align = 8
target = "app"
odd-target = true
`

func testMap(t *testing.T, more string) *device.Map {
	t.Helper()
	var problems source.Problems
	text := mapText + more
	if more == identityText {
		text = more + mapText
	}
	m := device.Load("m", []byte(text), &problems)
	require.NoError(t, problems.Err())
	return m
}

// part makes a part of records of 16 bytes.
func part(name string, spans ...memory.Span) Part {
	var b memory.Batch
	line := 1
	for _, s := range spans {
		for a := s.First; a <= s.Last; a += 16 {
			b.Add(a, make([]byte, min(16, s.Last-a+1)), line)
			line++
		}
	}
	m, _ := b.Image(&source.Input{Name: name, Counting: source.Lines})
	return Part{Name: name, Image: m}
}

// with writes bytes into a part.
func with(p Part, at uint64, b ...byte) Part {
	m, ok := p.Image.Write(&source.Input{Name: p.Name, Counting: source.Operation}, at, b)
	if !ok {
		panic("past 64 bits")
	}
	return Part{Name: p.Name, Image: m}
}

// broken is a part that could not be read.
func broken(name string) Part {
	p := &source.Problems{}
	p.Add(&source.Problem{File: name, Line: 7, Column: 3, What: "the record is torn"})
	return Part{Name: name, Problems: p}
}

// doubtful is a part that a reader warned of.
func doubted(p Part) Part {
	p.Problems = &source.Problems{}
	p.Problems.Add(&source.Problem{File: p.Name, Line: 9, Severity: source.Warning, What: "a line lost?"})
	return p
}

func filled(n int, b byte) []byte { return bytes.Repeat([]byte{b}, n) }

var (
	boot  = memory.Span{First: 0x1800, Last: 0x1BFF}
	app   = memory.Span{First: 0x1000, Last: 0x13BF}
	fit   = part("f", app, boot)
	dirty = []byte{1, 2, 3, 4}
)

// TestRules trips every rule, and shows beside it what does not.
func TestRules(t *testing.T) {
	var names []string
	cases := map[string]func(*testing.T) string{}
	started := with(with(fit, 0x1000, 0x00, 0x41, 0, 0), 0x1004, 0x09, 0x10, 0, 0)
	at := func(p Part, address uint64) Part {
		return Part{Name: p.Name, Image: p.Image.WithStart(memory.Start{Kind: memory.LinearStart, Value: address})}
	}
	crc := func(kind string) Part {
		k, _ := checksum.KindOf(kind)
		f := checksum.Feed{Spans: []memory.Span{{First: 0x1000, Last: 0x13BB}}}
		v, _ := f.Sum(k, fit.Image, 1)
		b, _ := v.Stored(memory.Big, 0)
		return with(fit, 0x13BC, b...)
	}
	const crcText = "\n[[checksum]]\nname = 'sum'\nkind = 'CRC-32/BZIP2'\nin = '0x1000..0x13BB'\nat = 0x13BC\norder = 'big'\n"
	const intoBoot = "\n[start]\nkind = 'instruction'\nat = 'boot.first'\n"
	for name, c := range map[string]struct {
		more   string
		parts  []Part
		region string
		accept []string
		want   []string
	}{
		"whole": {parts: []Part{fit}},
		"a byte of the vectors": {more: vectorsText,
			parts: []Part{part("f", memory.Span{First: 0x1003, Last: 0x13BF}, boot)}},
		"none of the vectors": {more: vectorsText,
			parts: []Part{part("f", memory.Span{First: 0x1008, Last: 0x13BF}, boot)}},
		"a complement without a region": {more: complementText, parts: []Part{with(with(fit, 0x1E00, 0x5A), 0x1E40, 0xA5)}},
		"whole, side by side": {parts: []Part{part("f", memory.Span{First: 0x1000, Last: 0x13EF},
			memory.Span{First: 0x1400, Last: 0x1BFF})},
			want: []string{"note partial-page 0x13C0..0x13FF f:61 1 page of 64 bytes in flash only partly filled"}},
		"in parts": {parts: []Part{part("a", app), part("b", boot)}},
		"one part": {parts: []Part{part("a", app)}, region: "app"},
		"below memory": {parts: []Part{part("f", memory.Span{First: 0xFC0, Last: 0x13BF}, boot)},
			want: []string{"error outside-memory 0x0FC0..0x0FFF f:1 64 bytes in no memory of T"}},
		"above memory": {parts: []Part{part("f", app, boot, memory.Span{First: 0x2000, Last: 0x2000})},
			want: []string{"error outside-memory 0x2000 f:125 1 byte in no memory of T"}},
		"far runs are one finding": {parts: []Part{part("f", app, boot, memory.Span{First: 0x2000, Last: 0x2000},
			memory.Span{First: 0x3000, Last: 0x3000})},
			want: []string{"error outside-memory 0x2000..0x3000 f:125 2 bytes in no memory of T"}},
		"in RAM": {parts: []Part{with(fit, 0x4000, dirty...)},
			want: []string{"error not-programmable 0x4000..0x4003 f 4 bytes in ram, which is ram and cannot be programmed"}},
		"in no region": {parts: []Part{part("f", app, boot, memory.Span{First: 0x1E00, Last: 0x1E3F})},
			want: []string{"error outside-region 0x1E00..0x1E3F f:125 64 bytes in flash but in none of its regions"}},
		"reserved": {parts: []Part{part("f", app, memory.Span{First: 0x1800, Last: 0x1BFF},
			memory.Span{First: 0x1C40, Last: 0x1C7F})},
			want: []string{"error reserved-area 0x1C40..0x1C7F f:125 64 bytes in log, which is reserved"}},
		"one-time": {parts: []Part{with(fit, 0x5000, dirty...)},
			want: []string{"error one-time-area 0x5000..0x5003 f 4 bytes in once, which can be written once"}},
		"one-time, accepted": {parts: []Part{with(fit, 0x5000, dirty...)}, accept: []string{"one-time-area:once"},
			want: []string{"accepted error one-time-area 0x5000..0x5003 f 4 bytes in once, which can be written once"}},
		"a record in two regions shows nothing": {parts: []Part{part("f", memory.Span{First: 0x1008, Last: 0x1907})},
			want: []string{"note partial-page 0x1008..0x103F f:1 2 pages of 64 bytes in flash only partly filled"}},
		"a part over its region": {parts: []Part{part("a", memory.Span{First: 0x1000, Last: 0x183F}),
			part("b", memory.Span{First: 0x1840, Last: 0x1BFF})},
			want: []string{"error region-overrun 0x1800..0x183F a:129 ends 64 bytes past the end of region app, in region boot"}},
		"one part over its region": {parts: []Part{part("a", memory.Span{First: 0x1000, Last: 0x183F})}, region: "app",
			want: []string{"error region-overrun 0x1800..0x183F a:129 ends 64 bytes past the end of region app, in region boot"}},
		"one part in the wrong place": {parts: []Part{part("a", boot)}, region: "app",
			want: []string{"error missing-part 0x1000..0x17FF  region app is empty",
				"error outside-region 0x1800..0x1BFF a:1 1 KiB outside region app"}},
		"nothing in required regions": {parts: []Part{{Name: "f", Image: &memory.Image{}}},
			want: []string{"error missing-part 0x1000..0x17FF  region app is empty",
				"error missing-part 0x1800..0x1BFF  region boot is empty"}},
		"the last region is not filled": {parts: []Part{part("f", app)},
			want: []string{"error missing-part 0x1800..0x1BFF  region boot is empty"}},
		"partial granule": {parts: []Part{part("f", memory.Span{First: 0x1000, Last: 0x13BD}, boot)},
			want: []string{"error partial-granule 0x13BC..0x13BF f:60 1 granule of 4 bytes in flash only partly filled"}},
		"partial page": {parts: []Part{part("f", memory.Span{First: 0x1000, Last: 0x13AF}, boot)},
			want: []string{"note partial-page 0x1380..0x13BF f:57 1 page of 64 bytes in flash only partly filled"}},
		"shared sector": {more: configText,
			parts: []Part{with(part("f", memory.Span{First: 0x1000, Last: 0x18BF}, memory.Span{First: 0x1A00, Last: 0x1BFF}), 0x6000,
				0x01, 0x80)}, want: []string{"warning shared-sector 0x1800..0x1BFF f:129 regions app and boot share a sector"}},
		"identity of another part": {more: identityText,
			parts: []Part{with(part("f", memory.Span{First: 0x1000, Last: 0x13FF}, boot), 0x13FE, 0xAA, 0xCC)},
			want:  []string{"error wrong-identity 0x13FE..0x13FF f the image is built for a device with identity AA CC"}},
		"the part's own identity": {more: identityText,
			parts: []Part{with(part("f", memory.Span{First: 0x1000, Last: 0x13FF}, boot), 0x13FE, 0xAA, 0xBB)}},
		"start record in nothing": {parts: []Part{at(fit, 0x1500)},
			want: []string{"warning start-record 0x1500  the start address is where the image contains nothing"}},
		"start record": {parts: []Part{at(fit, 0x1800)}},
		"two starts": {parts: []Part{at(part("a", app), 0x1000), at(part("b", boot), 0x1800)},
			want: []string{"note two-starts   the inputs start at different addresses: a at 0x1000, b at 0x1800"}},
		"vectors": {more: vectorsText, parts: []Part{started}},
		"stack above RAM": {more: vectorsText, parts: []Part{with(started, 0x1000, 0x08, 0x41)},
			want: []string{"error start-stack 0x1000..0x1003 f the initial stack is 0x4108"}},
		"stack not aligned": {more: vectorsText, parts: []Part{with(started, 0x1000, 0xFC, 0x40)},
			want: []string{"error start-stack 0x1000..0x1003 f the initial stack is 0x40FC"}},
		"target even": {more: vectorsText, parts: []Part{with(started, 0x1004, 0x08)},
			want: []string{"error start-target 0x1004..0x1007 f the reset target is 0x1008, an even address"}},
		"target elsewhere": {more: vectorsText, parts: []Part{with(started, 0x1004, 0x01, 0x18)},
			want: []string{"error start-target 0x1004..0x1007 f the reset target is 0x1801, in region boot and not in app"}},
		"target in a hole": {more: vectorsText, parts: []Part{with(started, 0x1004, 0x01, 0x15)},
			want: []string{"error start-target 0x1004..0x1007 f the reset target is 0x1501, where the image contains nothing"}},
		"target erased": {more: vectorsText, parts: []Part{with(started, 0x1008, 0xFF, 0xFF)},
			want: []string{"error start-erased 0x1008..0x1009 f the first instruction is FF FF: erased"}},
		"instruction": {more: intoBoot, parts: []Part{fit}},
		"instruction erased": {more: intoBoot, parts: []Part{with(fit, 0x1800, 0xFF, 0xFF)},
			want: []string{"error start-erased 0x1800..0x1801 f the first instruction is FF FF: erased"}},
		"start missing": {more: intoBoot, parts: []Part{part("f", app, memory.Span{First: 0x1840, Last: 0x1BFF})},
			want: []string{"error start-missing 0x1800..0x1801  the device starts here, but the image has no bytes here"}},
		"configured": {more: configText, parts: []Part{with(fit, 0x6000, 0x00, 0x80)}},
		"undefined bits": {more: configText, parts: []Part{with(fit, 0x6000, 0x00, 0x81)},
			want: []string{"error config-undefined 0x6000..0x6001 f word is 0x8100; it changes undefined bits 8"}},
		"undefined value": {more: configText, parts: []Part{with(fit, 0x6000, 0x02, 0x80)},
			want: []string{"error config-undefined 0x6000..0x6001 f boot_size is 2, which is not defined"}},
		"hazard and conflict": {more: configText, parts: []Part{with(fit, 0x6000, 0x10, 0x80)},
			want: []string{"error config-conflict 0x6000..0x6001 f port (closed) cannot be combined with boot_size (1 KiB)",
				"error config-hazard 0x6000..0x6001 f port = closed is a hazard: for good"}},
		"hazard accepted": {more: configText,
			parts:  []Part{with(part("f", app, memory.Span{First: 0x1A00, Last: 0x1BFF}), 0x6000, 0x11, 0x80)},
			accept: []string{"config-hazard:port"},
			want:   []string{"accepted error config-hazard 0x6000..0x6001 f port = closed is a hazard: for good"}},
		"boot section too large": {more: configText,
			parts: []Part{with(part("f", app, memory.Span{First: 0x1A00, Last: 0x1BFF}), 0x6000, 0x00, 0x80)},
			want: []string{"error boot-section 0x1A00 f:61 the bootloader begins at 0x1A00, but boot_size (1 KiB) makes the boot " +
				"section begin at 0x1800"}},
		"starts that the map contradicts": {more: intoBoot, parts: []Part{at(part("a", app), 0x1000), at(part("b", boot), 0x1900)},
			want: []string{"warning two-starts   the inputs start at different addresses: a at 0x1000, b at 0x1900"}},
		"parts that clash": {parts: []Part{part("a", app), part("b", memory.Span{First: 0x13A0, Last: 0x13BF}, boot)},
			want: []string{"error clash 0x13A0..0x13BF b:1 clashes with a:59 over 0x13A0..0x13BF (32 bytes); all bytes are equal there",
				"note partial-page 0x13A0..0x13BF b:1 1 page of 64 bytes in flash only partly filled"}},
		"an unreadable part": {parts: []Part{part("a", app), broken("b")},
			want: []string{"error unreadable  b:7:3 the record is torn"}},
		"a doubtful part": {parts: []Part{part("a", app), doubted(part("b", boot))},
			want: []string{"note doubtful-input  b:9 a line lost?"}},
		"a region of erased bytes": {more: crcText,
			parts: []Part{part("b", boot), with(with(part("a", app), 0x1000, filled(0x3C0, 0xFF)...), 0x13BC, 1, 2, 3, 4)},
			want:  []string{"error region-erased 0x1000..0x13BF a region app contains only erased bytes (FF)"}},
		"a word given in part": {more: configText, parts: []Part{with(fit, 0x6000, 0x10)},
			want: []string{"error config-conflict 0x6000 f port (closed) cannot be combined with boot_size (1 KiB)",
				"error config-hazard 0x6000 f port = closed is a hazard: for good",
				"warning config-partial 0x6000 f word is only partly given: bits 0..7 of 16"}},
		"a stretch of zeros": {parts: []Part{with(part("f", memory.Span{First: 0x1000, Last: 0x17FF}, boot), 0x1000,
			append(append(filled(0x200, 1), filled(0x202, 0)...), filled(0x1FE, 1)...)...)},
			want: []string{"note zero-stretch 0x1200..0x13FF f 1 block of 512 bytes is 00, in the middle of the data"}},
		"the application in the boot section": {more: configText,
			parts: []Part{with(part("a", memory.Span{First: 0x1000, Last: 0x18FF}), 0x6000, 0x00, 0x80),
				part("b", memory.Span{First: 0x1A00, Last: 0x1BFF})},
			want: []string{"error boot-section 0x1A00 b:1 the bootloader begins at 0x1A00, but boot_size (1 KiB) makes the boot " +
				"section begin at 0x1800"}},
		"checksum": {more: crcText, parts: []Part{crc("CRC-32/BZIP2")}},
		"checksum wrong": {more: crcText, parts: []Part{with(crc("CRC-32/BZIP2"), 0x1100, 9)},
			want: []string{"error checksum-wrong 0x13BC..0x13BF f sum: stored 0xD97CD14A, computed 0xC3F4C2E6"}},
		"checksum absent": {more: crcText, parts: []Part{with(fit, 0x13BC, 0xFF, 0xFF, 0xFF, 0xFF)},
			want: []string{"error checksum-absent 0x13BC..0x13BF  sum is missing"}},
		"ten clashes": {parts: []Part{part("a", memory.Span{First: 0x1000, Last: 0x10FF}), part("b", combs(0x1000, 12)...)},
			want: nil},
		"twenty clashes": {parts: []Part{part("a", memory.Span{First: 0x1000, Last: 0x13FF}), part("b", combs(0x1000, 25)...)},
			want: nil},
		"erased stretch": {parts: []Part{with(part("f", memory.Span{First: 0x1000, Last: 0x17FF}, boot), 0x1000,
			append(append(filled(0x200, 1), filled(0x400, 0xFF)...), filled(0x200, 1)...)...)}, want: nil},
		"most of it elsewhere": {parts: []Part{part("f", memory.Span{First: 0x100, Last: 0x1FF}, app, boot,
			memory.Span{First: 0x4000, Last: 0x4003}, memory.Span{First: 0x1E00, Last: 0x1E01})}, want: nil},
		"an alias": {parts: []Part{part("f", memory.Span{First: 0x9000, Last: 0x93BF},
			memory.Span{First: 0x9800, Last: 0x9BFF})}, want: nil},
		"accepted and not needed": {parts: []Part{fit}, accept: []string{"partial-page", "clash"}, want: nil},
		"no part at all":          {parts: nil, want: nil},
		"two that overrun": {parts: []Part{part("a", memory.Span{First: 0x1000, Last: 0x183F}),
			part("b", memory.Span{First: 0x1840, Last: 0x1C4F})}, want: nil},
		"stack at the very end":  {more: vectorsText, parts: []Part{with(started, 0x1000, 0x00, 0x41)}, want: nil},
		"stack at the beginning": {more: vectorsText, parts: []Part{with(started, 0x1000, 0x00, 0x40)}, want: nil},
		"vectors cut": {more: vectorsText, parts: []Part{part("f", memory.Span{First: 0x1010, Last: 0x13BF}, boot)},
			want: nil},
		"vectors erased": {more: vectorsText, parts: []Part{with(started, 0x1000, filled(8, 0xFF)...)}, want: nil},
		"target in RAM":  {more: vectorsText, parts: []Part{with(started, 0x1004, 0x01, 0x40)}, want: nil},
		"target nowhere": {more: vectorsText, parts: []Part{with(started, 0x1004, 0x01, 0xF0)}, want: nil},
		"a small boot section": {more: configText,
			parts: []Part{with(part("f", memory.Span{First: 0x1000, Last: 0x19FF}, memory.Span{First: 0x1A00, Last: 0x1BFF}), 0x6000,
				0x01, 0x80)}, want: nil},
		"a loader that is smaller": {more: configText,
			parts: []Part{with(part("f", app, memory.Span{First: 0x1800, Last: 0x18FF}), 0x6000, 0x01, 0x80)}, want: nil},
		"the upper byte alone": {more: configText, parts: []Part{with(fit, 0x6001, 0x80)}, want: nil},
		"identity in part": {more: identityText,
			parts: []Part{with(part("f", memory.Span{First: 0x1000, Last: 0x13BF}, boot), 0x13FE, 0xAA)}, want: nil},
		"a region alone, wrong": {parts: []Part{part("a", memory.Span{First: 0x17C0, Last: 0x18BF})}, region: "app", want: nil},
		"another region alone": {parts: []Part{part("a", memory.Span{First: 0x1000, Last: 0x107F},
			memory.Span{First: 0x1800, Last: 0x1BFF})}, region: "boot", want: nil},
		"damaged and doubted": {parts: []Part{doubted(part("b", boot)), broken("c"), part("a", app)},
			accept: []string{"doubtful-input:b"}, want: nil},
		"checksum in part":         {more: crcText, parts: []Part{part("f", memory.Span{First: 0x1000, Last: 0x13AF}, boot)}, want: nil},
		"checksum, its own hole":   {more: crcText, parts: []Part{part("f", memory.Span{First: 0x1000, Last: 0x13BB}, boot)}, want: nil},
		"checksum of another kind": {more: crcText, parts: []Part{crc("CRC-32/ISO-HDLC")}, want: nil},
	} {
		names = append(names, name)
		cases[name] = func(t *testing.T) string {
			m := testMap(t, c.more)
			return told(Run(m, c.parts, Options{Region: m.Region(c.region), Accept: c.accept}))
		}
		if c.want == nil && name != "whole" && !strings.HasPrefix(name, "in parts") {
			continue
		}
		t.Run(name, func(t *testing.T) {
			m := testMap(t, c.more)
			var found []string
			for _, f := range Run(m, c.parts, Options{Region: m.Region(c.region), Accept: c.accept}).Findings {
				assert.NotEmpty(t, f.Expected)
				assert.NotEmpty(t, f.Advice.In(nil))
				severity := f.Severity.String()
				if f.Accepted {
					severity = "accepted " + severity
				}
				where := ""
				if f.Where != nil {
					where = f.Where.Range()
				}
				found = append(found, severity+" "+f.Rule+" "+where+" "+f.Place.Text+" "+f.What)
			}
			assert.Equal(t, c.want, found)
		})
	}
	// All that is said of each stands in a file.
	slices.Sort(names)
	var all strings.Builder
	for _, name := range names {
		fmt.Fprintf(&all, "# %s\n%s\n", name, cases[name](t))
	}
	golden.File(t, "testdata/findings.txt", all.String())
}

// combs are spans of 4 bytes, each 16 further.
func combs(first uint64, n int) (list []memory.Span) {
	for i := range n {
		list = append(list, memory.Span{First: first + uint64(i)*16, Last: first + uint64(i)*16 + 3})
	}
	return list
}

// told is all that a result says.
func told(r *Result) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%d count, %d misplaced, from image %t, region %q, unused %v\n", len(r.Counting()), r.Misplaced(), r.FromImage,
		r.Region, r.Unused)
	for i := range r.Findings {
		f := &r.Findings[i]
		fmt.Fprintf(&b, "%s %s", f.Severity, f.Rule)
		if f.Accepted {
			b.WriteString(" accepted")
		}
		if f.Where != nil {
			fmt.Fprintf(&b, " %s", f.Where)
		}
		fmt.Fprintf(&b, " name=%s region=%s input=%s place=%+v\n  %s; %s (%s)\n", f.Name, f.Region, f.Input, f.Place, f.What, f.Expected,
			f.Advice.In(nil))
	}
	fmt.Fprintf(&b, "%d rules ran, %d did not\n", len(r.Ran), len(r.Skipped))
	for _, u := range r.Uses() {
		name := "none"
		free := int64(0)
		if u.Region != nil {
			name, free = u.Region.Name, u.Free()
		}
		fmt.Fprintf(&b, "use %s %d over %d depth %d free %d\n", name, u.Used, u.Over, u.Depth, free)
	}
	fmt.Fprintf(&b, "work %+v\n", WorkOf(r.Map, r.Whole))
	return b.String()
}

func TestErasedStretchesInWholeBlocks(t *testing.T) {
	m := testMap(t, "")
	erased := func(first uint64, n int) Part {
		b := make([]byte, n)
		for i := range b {
			b[i] = 0xFF
		}
		return with(part("f", memory.Span{First: 0x1000, Last: 0x17FF}, boot), first, b...)
	}
	rules := func(p Part) (names []string) {
		for _, f := range Run(m, []Part{p}, Options{}).Counting() {
			names = append(names, f.Rule)
		}
		return names
	}
	assert.Equal(t, []string{"erased-stretch"}, rules(erased(0x1200, 512)))
	assert.Equal(t, []string{"erased-stretch"}, rules(erased(0x1200, 1024)))
	assert.Empty(t, rules(erased(0x1201, 512)), "not on a block's border")
	assert.Empty(t, rules(erased(0x1200, 500)), "not a whole block")
}

func TestAliasesAreExplained(t *testing.T) {
	m := testMap(t, "")
	r := Run(m, []Part{part("f", memory.Span{First: 0x9000, Last: 0x903F})}, Options{})
	require.NotEmpty(t, r.Findings)
	assert.Contains(t, r.Findings[len(r.Findings)-1].Advice.In(nil), "place shift -0x8000")
}

func TestUses(t *testing.T) {
	a, b := part("a", memory.Span{First: 0x1000, Last: 0x100F}), with(with(part("b", boot), 0x6000, 0x01, 0x80), 0x1D00, 1)
	whole, _ := memory.Merge([]*memory.Image{a.Image, b.Image}, memory.First)
	m, _ := testMap(t, configText).For(whole)
	uses := Uses(m, whole)
	require.Len(t, uses, 6)
	assert.Equal(t, uint64(16+512), uses[0].Used, "a boot section of 512 bytes leaves more to the application")
	assert.Equal(t, uint64(0x200), uses[1].Used)
	assert.Nil(t, uses[5].Region)
	assert.Equal(t, uint64(1), uses[5].Used, "what is in no region has a row")
}

// TestByWhatALoaderIsKnown holds images that are one file against maps that say by what
// the bootloader is known, or do not: bytes that run on over its border are no proof
// that it is there.
func TestByWhatALoaderIsKnown(t *testing.T) {
	grown := part("f", memory.Span{First: 0x1000, Last: 0x1BFF})
	short := part("f", memory.Span{First: 0x1000, Last: 0x183F})
	named := with(grown, 0x1804, []byte("boot")...)
	split := Part{Name: "f", Image: merged(t, part("a", memory.Span{First: 0x1000, Last: 0x17FF}), part("b", boot))}
	vectors := with(grown, 0x1800, 0x00, 0x41, 0, 0, 0x09, 0x18, 0, 0)
	begins := grown
	begins.Begins = func(at uint64) bool { return at == 0x1800 }
	apart := part("f", memory.Span{First: 0x1000, Last: 0x17BF}, boot)
	value := func(p Part) Part {
		k, _ := checksum.KindOf("CRC-32/BZIP2")
		v, err := (&checksum.Feed{Spans: []memory.Span{{First: 0x1800, Last: 0x1BFB}}}).Sum(k, p.Image, 1)
		require.NoError(t, err)
		b, _ := v.Stored(memory.Big, 0)
		return with(p, 0x1BFC, b...)
	}
	const held = `holds = [{ at = "boot.first + 4", text = "boot" }]`
	const intoBoot = "[start]\nkind = 'vectors'\nat = 0x1800\nstack = 'ram'\ntarget = 'boot'\nodd-target = true\n"
	const summed = "[[checksum]]\nname = 'sum'\nkind = 'CRC-32/BZIP2'\nin = '0x1800..0x1BFB'\nat = 0x1BFC\norder = 'big'\n"
	for name, c := range map[string]struct {
		holds, more string
		part        Part
		want        []string
	}{
		"grown": {part: grown,
			want: []string{"crosses-border 0x1800 bytes continue from region app across the border to boot, and nothing shows that " +
				"the bytes in boot, 1,024 bytes, belong there"}},
		"grown a little": {part: short,
			want: []string{"crosses-border 0x1800 bytes continue from region app across the border to boot, and nothing shows that " +
				"the bytes in boot, 64 bytes, belong there"}},
		"a gap before it": {part: apart},
		"nothing known":   {holds: `holds = "unknown"`, part: grown},
		"what it holds":   {holds: held, part: named},
		"not what it holds": {holds: held, part: grown,
			want: []string{"region-holds 0x1804..0x1807 region boot contains other bytes than the map says: 00 00 00 00"}},
		"nor with a gap": {holds: held, part: apart,
			want: []string{"region-holds 0x1804..0x1807 region boot contains other bytes than the map says: 00 00 00 00"}},
		"nor a part of it": {holds: held, part: part("f", app, memory.Span{First: 0x1808, Last: 0x1BFF}),
			want: []string{"region-holds 0x1804..0x1807 region boot contains nothing where the map"}},
		"parts":          {part: split},
		"as it was made": {part: begins},
		"its vectors":    {more: intoBoot, part: vectors},
		"vectors that lead elsewhere": {more: intoBoot, part: with(vectors, 0x1805, 0x10),
			want: []string{"crosses-border 0x1800 bytes continue from region app across the border to boot, and nothing shows that " +
				"the bytes in boot, 1,024 bytes, belong there",
				"start-target 0x1804..0x1807 the reset target is 0x1009, in region app and not in boot"}},
		"its start address": {part: Part{Name: "f",
			Image: grown.Image.WithStart(memory.Start{Kind: memory.LinearStart, Value: 0x1800})}},
		"a start address of the other": {part: Part{Name: "f",
			Image: grown.Image.WithStart(memory.Start{Kind: memory.LinearStart, Value: 0x1000})},
			want: []string{"crosses-border 0x1800 bytes continue from region app across the border to boot, and nothing shows that " +
				"the bytes in boot, 1,024 bytes, belong there"}},
		"its checksum": {more: summed, part: value(grown)},
		"a checksum that does not hold": {more: summed, part: with(value(grown), 0x1900, 1),
			want: []string{"crosses-border 0x1800 bytes continue from region app across the border to boot, and nothing shows that " +
				"the bytes in boot, 1,024 bytes, belong there", "checksum-wrong 0x1BFC..0x1BFF"}},
	} {
		t.Run(name, func(t *testing.T) {
			var problems source.Problems
			m := device.Load("m", []byte(strings.Replace(mapText, `holds = "unknown"`, c.holds, 1)+c.more), &problems)
			require.NoError(t, problems.Err())
			found := Run(m, []Part{c.part}, Options{}).Counting()
			require.Len(t, found, len(c.want), "%v", found)
			for i, f := range found {
				assert.Equal(t, source.Error, f.Severity)
				assert.Contains(t, f.Rule+" "+f.Where.Range()+" "+f.What, c.want[i])
			}
		})
	}
}

// merged puts parts together.
func merged(t *testing.T, parts ...Part) *memory.Image {
	t.Helper()
	var images []*memory.Image
	for _, p := range parts {
		images = append(images, p.Image)
	}
	m, clashes := memory.Merge(images, memory.First)
	require.Zero(t, clashes.Count)
	return m
}

// TestWhatNoChecksumCovers leaves bytes of a guarded region out of what guards it.
func TestWhatNoChecksumCovers(t *testing.T) {
	for _, c := range []struct{ in, more, want string }{
		{"0x1000..0x13BB", "", ""},
		{"0x1010..0x13BB", "", "warning 0x1000..0x100F 16 bytes of region app are covered by no checksum that guards it"},
		{"0x1010..0x13BB", "rank-at = { at = 0x1004 }\n",
			"warning 0x1000..0x100F 16 bytes of region app are covered by no checksum that guards it"},
		{"0x1004..0x13BB", "length-at = { at = 0x1000 }\n", ""},
		{"0x1000..0x13BB", "skip = ['0x1100..0x1103']\n",
			"warning 0x1100..0x1103 4 bytes of region app are covered by no checksum that guards it"},
	} {
		m := testMap(t, "[[checksum]]\nname = 'sum'\nkind = 'CRC-32/BZIP2'\nin = '"+c.in+"'\nat = 0x13BC\nguards = 'app'\n"+c.more)
		p := with(fit, 0x1000, bytes.Repeat([]byte{7}, 16)...)
		if strings.HasPrefix(c.more, "length") {
			p = with(p, 0x1000, 0xB8, 3, 0, 0)
		}
		got := ""
		for _, f := range Run(m, []Part{p}, Options{}).Findings {
			if f.Rule == "uncovered" {
				got += f.Severity.String() + " " + f.Where.Range() + " " + f.What
			}
		}
		assert.Equal(t, c.want, got, "%+v", c)
	}
}

// TestDoubtsAreErrors holds what readers doubt, each by its rule, against what is
// accepted; and programs of another machine.
func TestDoubtsAreErrors(t *testing.T) {
	m := testMap(t, "")
	for _, doubt := range source.Doubts {
		p := fit
		p.Problems = &source.Problems{}
		p.Problems.Add(&source.Problem{File: "f", Line: 9, Severity: source.Warning, What: "odd", Doubt: doubt})
		for accept, want := range map[string]bool{"": true, doubt: false} {
			options := Options{}
			if accept != "" {
				options.Accept = []string{accept}
			}
			r := Run(m, []Part{p}, options)
			require.Len(t, r.Findings, 1, doubt)
			assert.Equal(t, doubt, r.Findings[0].Rule)
			assert.Equal(t, source.Error, r.Findings[0].Severity)
			assert.Equal(t, want, len(r.Counting()) == 1, "%s accepted %q", doubt, accept)
		}
		assert.NotNil(t, RuleOf(doubt), doubt)
	}
	var problems source.Problems
	m = device.Load("m", []byte("machine = 'AVR'\nbyte-order = 'little'\n"+mapText), &problems)
	require.NoError(t, problems.Err())
	for _, c := range []struct {
		program Program
		want    int
	}{{Program{"f", "AVR", memory.Little}, 0}, {Program{"f", "avr", memory.Little}, 0}, {Program{"f", "RISCV", memory.Little}, 1},
		{Program{"f", "AVR", memory.Big}, 1}} {
		p := fit
		p.Programs = []Program{c.program}
		found := Run(m, []Part{p}, Options{}).Counting()
		require.Len(t, found, c.want, "%+v", c)
		if c.want > 0 {
			assert.Equal(t, "wrong-machine", found[0].Rule)
			assert.Equal(t, "AVR, little byte order", found[0].Expected)
		}
	}
}

// TestGroupsAreAcceptedByTheirName accepts a hazard of a setting whose bits are in two
// fields, by the setting's name and by no field's.
func TestGroupsAreAcceptedByTheirName(t *testing.T) {
	m := testMap(t, configText+`
[[config.field]]
name = "high"
bits = 5
[[group]]
name = "level"
fields = ["port", "high"]
values = [{ value = 0, meaning = "none" }, { value = 3, meaning = "shut", hazard = "nothing opens it" }]
`)
	p := with(fit, 0x6000, 0x31, 0x80)
	for accept, want := range map[string]int{"": 2, "config-hazard:port": 1, "config-hazard:level": 1, "config-hazard:high": 2} {
		found := 0
		var accepted []string
		if accept != "" {
			accepted = []string{accept}
		}
		for _, f := range Run(m, []Part{p}, Options{Accept: accepted}).Counting() {
			if f.Rule == "config-hazard" {
				found++
				assert.NotEqual(t, accept, f.Rule+":"+f.Name)
			}
		}
		assert.Equal(t, want, found, accept)
	}
}

// TestWordsThatAreNotGiven judges a hazard that another word takes away, and a value
// that goes with one of another word alone, where that word is not in the image.
func TestWordsThatAreNotGiven(t *testing.T) {
	const two = `
[[config]]
name = "low"
at = "fuses.first"
width = 1
default = 1
[[config.field]]
name = "lock"
bits = 0
values = [{ value = 1, meaning = "open" }, { value = 0, meaning = "shut", hazard = "for good", hazard-unless = { key = "set", port = "on" } }]
[[config.field]]
name = "speed"
bits = 1
values = [{ value = 0, meaning = "low" }, { value = 1, meaning = "high", requires = { port = "on" } }]
[[config]]
name = "high"
at = "fuses.first + 1"
width = 1
default = 3
[[config.field]]
name = "key"
bits = 0
values = [{ value = 0, meaning = "none" }, { value = 1, meaning = "set" }]
[[config.field]]
name = "port"
bits = 1
values = [{ value = 0, meaning = "off" }, { value = 1, meaning = "on" }]
`
	m := testMap(t, two)
	for _, c := range []struct {
		low, high int // -1 is not given
		words     map[string]uint64
		want      []string
	}{
		{1, 3, nil, nil},
		{0, 3, nil, nil},
		{0, -1, nil, []string{"config-hazard lock = shut is a hazard: for good"}},
		{0, 2, nil, []string{"config-hazard lock = shut is a hazard: for good"}},
		{0, 1, nil, []string{"config-hazard lock = shut is a hazard: for good"}},
		{0, -1, map[string]uint64{"high": 3}, nil},
		{0, -1, map[string]uint64{"high": 2}, []string{"config-hazard lock = shut is a hazard: for good"}},
		{3, 3, nil, nil},
		{3, 1, nil, []string{"config-conflict speed (high) cannot be combined with port (off)"}},
		{3, -1, nil, []string{"config-conflict speed (high) requires one value of port, and high is not given"}},
		{-1, 0, map[string]uint64{"low": 0}, nil}, // what the part holds is not judged again
	} {
		p := fit
		for i, v := range []int{c.low, c.high} {
			if v >= 0 {
				p = with(p, 0x6000+uint64(i), byte(v))
			}
		}
		var got []string
		for _, f := range Run(m, []Part{p}, Options{Words: c.words}).Counting() {
			got = append(got, f.Rule+" "+f.What)
			if f.Rule == "config-hazard" && c.high < 0 && c.words == nil {
				assert.Equal(t, "a value that can be undone, or key: set and port: on, together; not given: high", f.Expected)
			}
		}
		assert.Equal(t, c.want, got, "%+v", c)
	}
}

// TestWhichMapIsMeant tells the map that an image fits, or comes nearest to.
func TestWhichMapIsMeant(t *testing.T) {
	own := testMap(t, "")
	variant := func(name, from, to string) *device.Map {
		var problems source.Problems
		m := device.Load(name, []byte(strings.Replace(strings.Replace(mapText, `name = "T"`, `name = "`+name+`"`, 1), from, to, 1)),
			&problems)
		require.NoError(t, problems.Err())
		return m
	}
	renamed := variant("renamed", "role = \"reserved\"", "role = \"data\"")
	elsewhere := variant("elsewhere", "aliases = [0x9000]", "")
	image := part("f", app, boot, memory.Span{First: 0x1C00, Last: 0x1C3F}) // in what is reserved
	far := part("f", memory.Span{First: 0x100, Last: 0x10F}, app, boot)
	run := func(m *device.Map, p Part) *Result { return Run(m, []Part{p}, Options{}) }
	a, b, c := run(own, image), run(renamed, image), run(elsewhere, image)
	assert.Equal(t, [3]int{1, 0, 1}, [3]int{len(a.Counting()), len(b.Counting()), len(c.Counting())})
	assert.Same(t, b, Best([]*Result{a, b, c}))
	assert.Same(t, a, Best([]*Result{a, c}), "of equals the first")
	assert.Same(t, c, Best([]*Result{c, a}))
	worse := run(own, far)
	assert.Equal(t, uint64(16), worse.Misplaced())
	assert.Equal(t, uint64(64), a.Misplaced())
	assert.Same(t, worse, Best([]*Result{a, worse}))

	known := func(list ...*device.Map) func(func(string, *device.Map) bool) {
		return func(yield func(string, *device.Map) bool) {
			for _, m := range list {
				if !yield("map "+m.Name, m) {
					return
				}
			}
		}
	}
	fit, nearer := Others(a, nil, known(own, renamed, elsewhere))
	require.Len(t, fit, 1)
	assert.Equal(t, "map renamed", fit[0].Name)
	assert.Nil(t, nearer)
	fit, nearer = Others(a, nil, known(elsewhere))
	assert.Empty(t, fit)
	assert.Nil(t, nearer, "it is no nearer")
	both := part("f", memory.Span{First: 0x100, Last: 0x10F}, app, boot, memory.Span{First: 0x1C00, Last: 0x1C3F})
	fit, nearer = Others(run(own, both), nil, known(elsewhere, renamed))
	assert.Empty(t, fit)
	require.NotNil(t, nearer)
	assert.Equal(t, "map renamed", nearer.Name)
	many := part("f", memory.Span{First: 0x100, Last: 0x10F}, app, boot, memory.Span{First: 0x1C00, Last: 0x1C3F},
		memory.Span{First: 0x4000, Last: 0x4003}, memory.Span{First: 0x5000, Last: 0x500F})
	_, nearer = Others(run(own, many), nil, known(renamed))
	assert.Nil(t, nearer, "three findings are no near map")
	assert.Nil(t, func() *Other { _, n := Others(run(own, both), nil, known(&device.Map{Name: "empty"})); return n }())
}

// TestUsesOfNestedRegions counts what lies in regions within regions.
func TestUsesOfNestedRegions(t *testing.T) {
	m := testMap(
		t,
		"\n[[region]]\nname = 'header'\nrole = 'data'\nfirst = 0x1800\nsize = 0x40\ninside = 'boot'\n[[region]]\nname = 'mark'\nrole "+
			"= 'data'\nfirst = 0x1800\nsize = 4\ninside = 'header'\n",
	)
	var uses []string
	for _, u := range Run(m, []Part{part("f", app, memory.Span{First: 0x1800, Last: 0x180F}, memory.Span{First: 0x1E00, Last: 0x1E01})},
		Options{}).Uses() {
		name := "none"
		if u.Region != nil {
			name = u.Region.Name
		}
		uses = append(uses, fmt.Sprint(name, u.Depth, u.Used))
	}
	assert.Equal(t, []string{"app0 960", "boot0 16", "header1 16", "mark2 4", "log0 0", "serial0 0", "options0 0", "none0 2"}, uses)
}

// TestImagesOfAllKinds checks images that are made of a map's regions by chance, whole and in
// part, in their place and beside it, against the map, and holds which rules find something, and
// all that is said, against what it was.
func TestImagesOfAllKinds(t *testing.T) {
	var b strings.Builder
	// One whose loader and whose data are known by what they hold, and whose rest is in no region.
	known := strings.Replace(mapText, `holds = "unknown"`,
		`holds = [{ at = "boot.first", bytes = "11 24" }, { at = "boot.first + 8", text = "LD" }]`, 1) + `[[region]]
name = "data"
role = "data"
first = 0x1D00
size = 0x80
holds = [{ at = "data.first + 4", bytes = "AA" }]
` + configText + vectorsText
	kinds := map[string]*device.Map{"known": device.Load("known", []byte(known), &source.Problems{})}
	for _, name := range device.Shipped() {
		m, err := device.Open(&source.Files{}, name, nil)
		require.NoError(t, err)
		kinds[name] = m
	}
	for _, name := range slices.Sorted(maps.Keys(kinds)) {
		m := kinds[name]
		for seed := range uint64(200) {
			r := rand.New(rand.NewPCG(seed, 71))
			parts := chanceParts(r, m)
			o := Options{}
			if r.IntN(3) == 0 {
				o.Accept = []string{"uncovered", "partial-page", "region-overrun", "missing-part:" + m.Regions[0].Name}[r.IntN(3):]
			}
			if r.IntN(4) == 0 {
				o.Region = &m.Regions[r.IntN(len(m.Regions))]
			}
			if r.IntN(3) == 0 && len(m.Config) > 0 {
				o.Words = map[string]uint64{m.Config[0].Name: r.Uint64() & 0xFF}
			}
			res := Run(m, parts, o)
			rules := map[string]int{}
			for i := range res.Findings {
				rules[res.Findings[i].Rule]++
			}
			text := told(res)
			for _, s := range res.Skipped {
				text += fmt.Sprintln(s.Rule, s.Why)
			}
			if res.Whole != nil {
				e := EntryOf(m, res.Whole)
				text += fmt.Sprintln(e.At, e.Where, e.Stack, e.Target, e.Code, e.Fault, Sums(m, res.Whole))
				for _, u := range UsesWithin(m, res.Whole) {
					text += fmt.Sprintln(u.Region != nil, u.Used, u.Over, u.Depth)
				}
			}
			fmt.Fprintf(&b, "%s %d: %v %04x\n", name, seed, rules, crc32.ChecksumIEEE([]byte(text))&0xFFFF)
		}
	}
	golden.File(t, "testdata/chance.txt", b.String())
}

// chanceParts makes parts of a map's regions.
func chanceParts(r *rand.Rand, m *device.Map) (parts []Part) {
	for range 1 + r.IntN(3) {
		name := string(rune('a' + len(parts)))
		in := &source.Input{Name: name, Counting: source.Lines}
		image := &memory.Image{}
		put := func(at uint64, data []byte) {
			from := in
			if r.IntN(6) == 0 { // a step has made it
				from = &source.Input{Name: "fill", Counting: source.Operation}
			}
			one, ok := memory.FromBytes(at, data, from)
			if ok {
				image, _ = memory.Merge([]*memory.Image{image, one}, memory.Last)
			}
		}
		for i := range m.Regions {
			region := &m.Regions[i]
			if r.IntN(2) == 0 || region.Span.Size() > 1<<20 {
				continue
			}
			first, size := region.Span.First, min(region.Span.Size(), 3000)
			switch r.IntN(8) {
			case 0:
				size = 1 + uint64(r.IntN(int(size)))
			case 1:
				first += uint64(r.IntN(int(size)))
			case 2:
				first = region.Span.Last - size/2 + 1
			case 3:
				first -= min(first, uint64(r.IntN(64)))
			case 4:
				first, size = region.Span.Last+1-min(size, region.Span.Size()), min(size, region.Span.Size())
			case 5:
				size = 1
			}
			data := make([]byte, size)
			for k := range data {
				data[k] = byte(r.Uint32())
			}
			switch mem := m.MemoryAt(first); {
			case r.IntN(6) == 0 && mem != nil:
				for k := range data[size/2:] {
					data[int(size)/2+k] = mem.Erased
				}
			case r.IntN(6) == 0:
				clear(data[:min(16, size)])
			}
			for _, h := range region.Holds { // by which its part is known
				if at := h.At - first; at < size && r.IntN(3) > 0 {
					copy(data[at:], h.Bytes)
				}
			}
			put(first, data)
		}
		for i := range m.Starts { // vectors that lead somewhere
			s := &m.Starts[i]
			if s.Kind != device.StartVectors || r.IntN(4) == 0 || !image.Holds(s.At) {
				continue
			}
			stack, _ := m.Names().Span(s.Stack)
			target, _ := m.Names().Span(s.Target)
			code := target.First + uint64(r.IntN(4)*64)
			if s.OddTarget && r.IntN(5) > 0 {
				code |= 1
			}
			data := make([]byte, 2*s.Width)
			for k := range s.Width {
				from, to := 8*k, 8*k
				if s.Order == memory.Big {
					to = 8 * (s.Width - 1 - k)
				}
				data[from/8], data[s.Width+from/8] = byte((stack.Last+1-uint64(r.IntN(2)*4))>>to), byte(code>>to)
			}
			put(s.At, data)
		}
		for i := range m.Config {
			w := &m.Config[i]
			if r.IntN(2) == 0 {
				continue
			}
			value := w.Default
			if r.IntN(2) == 0 {
				value = r.Uint64() & (1<<(8*w.Width) - 1)
			}
			put(w.At, w.Bytes(value))
			if s, ok := w.Complement(); ok && r.IntN(3) > 0 {
				put(s.First, w.Bytes(^value))
			}
		}
		if all, ok := image.Span(); ok && r.IntN(4) == 0 {
			kind := memory.LinearStart
			image = image.WithStart(memory.Start{Kind: kind, Value: all.First + uint64(r.IntN(3))*0x20})
		}
		if all, ok := image.Span(); ok && r.IntN(5) == 0 {
			at := all.First + r.Uint64N(all.Size())
			image = image.Drop(memory.Span{First: at, Last: at + uint64(r.IntN(20))})
		}
		p := Part{Name: name, Image: image, Problems: &source.Problems{}}
		if r.IntN(8) == 0 {
			p.BuiltFor = device.Quantity(1_000_000 * (1 + r.IntN(16)))
		}
		parts = append(parts, p)
	}
	return parts
}
