package check

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

func testMap(t *testing.T) *device.Map {
	t.Helper()
	var problems source.Problems
	m := device.Load("m", []byte(`
name = "T"
[[memory]]
name = "flash"
kind = "flash"
first = 0x1000
size = 0x1000
[[region]]
name = "app"
role = "application"
first = 0x1000
size = 0x800
required = true
[[region]]
name = "boot"
role = "bootloader"
first = 0x1800
size = 0x400
required = true
`), &problems)
	require.NoError(t, problems.Err())
	return m
}

// part makes a part of records of 16 bytes.
func part(name string, spans ...memory.Span) memory.Part {
	var b memory.Batch
	line := 1
	for _, s := range spans {
		for a := s.First; a <= s.Last; a += 16 {
			b.Add(a, make([]byte, min(16, s.Last-a+1)), line)
			line++
		}
	}
	m, _ := b.Image(&source.Input{Name: name, Counting: source.Lines})
	return memory.Part{Name: name, Image: m}
}

func TestRules(t *testing.T) {
	m := testMap(t)
	boot := memory.Span{First: 0x1800, Last: 0x1BFF}
	app := memory.Span{First: 0x1000, Last: 0x13FF}
	for name, c := range map[string]struct {
		parts  []memory.Part
		region string
		want   []string
	}{
		"whole":                         {[]memory.Part{part("f", app, boot)}, "", nil},
		"whole, side by side":           {[]memory.Part{part("f", memory.Span{First: 0x1000, Last: 0x1BFF})}, "", nil},
		"in parts":                      {[]memory.Part{part("a", app), part("b", boot)}, "", nil},
		"one part":                      {[]memory.Part{part("a", app)}, "app", nil},
		"below memory":                  {[]memory.Part{part("f", memory.Span{First: 0xFF0, Last: 0x101F}, boot)}, "", []string{"error outside-memory 0x0FF0..0x0FFF f:1 16 bytes in no memory of T"}},
		"above memory":                  {[]memory.Part{part("f", app, boot, memory.Span{First: 0x2000, Last: 0x2000})}, "", []string{"error outside-memory 0x2000 f:129 1 byte in no memory of T"}},
		"in no region":                  {[]memory.Part{part("f", app, boot, memory.Span{First: 0x1D00, Last: 0x1D0F})}, "", []string{"error outside-region 0x1D00..0x1D0F f:129 16 bytes in flash but in none of its regions"}},
		"over the last region":          {[]memory.Part{part("f", app, memory.Span{First: 0x1800, Last: 0x1C01})}, "", []string{"error region-overrun 0x1C00..0x1C01 f:129 runs over the end of region boot by 2 bytes, into memory that is no region's"}},
		"a record in two regions":       {[]memory.Part{part("f", memory.Span{First: 0x1008, Last: 0x1907})}, "", []string{"error region-overrun 0x1800..0x1907 f:128 runs over the end of region app by 264 bytes, into region boot"}},
		"a part over its region":        {[]memory.Part{part("a", memory.Span{First: 0x1000, Last: 0x180F}), part("b", memory.Span{First: 0x1810, Last: 0x1BFF})}, "", []string{"error region-overrun 0x1800..0x180F a:129 runs over the end of region app by 16 bytes, into region boot"}},
		"one part over its region":      {[]memory.Part{part("a", memory.Span{First: 0x1000, Last: 0x180F})}, "app", []string{"error region-overrun 0x1800..0x180F a:129 runs over the end of region app by 16 bytes, into region boot"}},
		"one part in the wrong place":   {[]memory.Part{part("a", boot)}, "app", []string{"error missing-part 0x1000..0x17FF  region app is empty", "error outside-region 0x1800..0x1BFF a:1 1 KiB outside region app"}},
		"nothing in required regions":   {[]memory.Part{{Name: "f", Image: &memory.Image{}}}, "", []string{"error missing-part 0x1000..0x17FF  region app is empty", "error missing-part 0x1800..0x1BFF  region boot is empty"}},
		"the last region is not filled": {[]memory.Part{part("f", app)}, "", []string{"error missing-part 0x1800..0x1BFF  region boot is empty"}},
	} {
		t.Run(name, func(t *testing.T) {
			var found []string
			for _, f := range Run(m, c.parts, Options{Region: m.Region(c.region)}) {
				assert.NotEmpty(t, f.Expected)
				assert.NotEmpty(t, f.Advice)
				found = append(found, f.Severity.String()+" "+f.Rule+" "+f.Where.Range()+" "+f.Origin+" "+f.What)
			}
			assert.Equal(t, c.want, found)
		})
	}
}

func TestUses(t *testing.T) {
	m := testMap(t)
	uses := Uses(m, []memory.Part{part("a", memory.Span{First: 0x1000, Last: 0x100F}), part("b", memory.Span{First: 0x1800, Last: 0x1BFF})})
	require.Len(t, uses, 2)
	assert.Equal(t, uint64(16), uses[0].Used)
	assert.Equal(t, uint64(0x400), uses[1].Used)
}
