package main

import (
	"bytes"
	"encoding/xml"
	"image/png"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMap(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	const line = "map bootloader.hex gauge-app-2.s19 calibration.bin@calibration.first -device brindle-b8-32"
	out := f.ok(line)
	for _, row := range strings.Split(strings.Split(out, "\n^1 ")[0], "\n") {
		assert.LessOrEqual(t, len([]rune(row)), 80, row)
	}
	assert.Contains(t, out, "flash (flash) 0x0000..0x7FFF (32 KiB): 32,128 bytes used, 98.0 %")
	assert.Regexp(t, `(?m)^\[b{70,}\]\[b+a+·?\]$`, out)
	assert.Contains(t, out, "error region-overrun at 0x7800..0x7B23 (804 bytes): ends 804 bytes past the end of region application")

	f.ok(line + " -o x.png")
	picture, err := png.Decode(strings.NewReader(f.read("x.png")))
	require.NoError(t, err)
	assert.Equal(t, 1920, picture.Bounds().Dx())
	colours := map[[3]uint32]int{}
	for y := range picture.Bounds().Dy() {
		for x := range picture.Bounds().Dx() {
			r, g, b, _ := picture.At(x, y).RGBA()
			colours[[3]uint32{r >> 8, g >> 8, b >> 8}]++
		}
	}
	for _, c := range [][3]uint32{{0x00, 0x72, 0xB2}, {0xE6, 0x9F, 0x00}, {0x00, 0x9E, 0x73}, {0xD5, 0x5E, 0x00}} {
		assert.Positive(t, colours[c], "each part and the marks have their colour: %X", c)
	}

	f.ok(line + " -o x.svg")
	d := xml.NewDecoder(bytes.NewReader([]byte(f.read("x.svg"))))
	elements, texts := map[string]int{}, []string{}
	for {
		token, err := d.Token()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		switch e := token.(type) {
		case xml.StartElement:
			elements[e.Name.Local]++
		case xml.CharData:
			texts = append(texts, string(e))
		}
	}
	assert.Equal(t, 1, elements["svg"])
	for _, want := range []string{"application  31,524 used, −804 free", "0x7800", "0x7FFF", "to scale", "gauge_log  0 used, 512 free",
		"reserved", "1"} {
		assert.Contains(t, texts, want)
	}
	assert.Contains(t, f.read("x.svg"), "bootloader.hex, 1,408 bytes")
	f.ok(line + " -o y.svg")
	assert.Equal(t, f.read("x.svg"), f.read("y.svg"), "the same picture every time")

	// 64 bytes beside 4 MiB can still be seen.
	f.write(
		"big.device.toml",
		"name='B'\n[[memory]]\nname='m'\nkind='flash'\nfirst=0\nsize='4M'\n[[region]]\nname='small'\nrole='data'\nfirst=0\nsize=64\n"+
			"[[region]]\nname='large'\nrole='data'\nfirst=64\nlast='m.last'\n",
	)
	f.write("s.bin", "x")
	big := f.ok("map s.bin@0 -device big")
	assert.Contains(t, big, "[a·][·")
	assert.Contains(t, big, "54 KiB a column; drawn wider: small\n", "the scale is told")
	assert.Regexp(t, `\n0x0000 +0x003F_FFFF\n`, big, "the last address ends the line")
	assert.NotContains(t, big, "reserved", "the legend has nothing that the picture lacks")
	assert.Equal(t, 2, f.line("map s.bin -device big -o x.jpg").status)
	assert.Equal(t, 2, f.line("map s.bin").status)
}
