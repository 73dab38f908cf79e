package main

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReadingFlags(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	f.write("note.hex", "; a comment\n:0100000061"+"9E\n:00000001FF\n")
	r := f.line("convert note.hex")
	assert.Equal(t, 3, r.status)
	r = f.line("convert note.hex -lenient")
	assert.Equal(t, 0, r.status)
	assert.Contains(t, r.err, "note.hex:1:1: warning: the line does not begin with a record mark")
	assert.Equal(t, ":0100000061"+"9E\n:00000001FF\n", r.out)

	f.write("wrong.bin", ":0100000061"+"9E\n:00000001FF\n")
	assert.Equal(t, 3, f.line("convert wrong.bin").status)
	assert.Equal(t, r.out, f.ok("convert wrong.bin -from hex -to hex"))
	assert.Contains(t, f.ok("convert wrong.bin -from raw -to srec"), "3A303130")

	f.write("words.hex", ":0400100061626364"+"62\n:00000001FF\n")
	assert.Contains(t, f.ok("inspect words.hex -from hex:2"), "4 bytes at 0x0020..0x0023")
	assert.Equal(t, f.read("words.hex"), f.ok("convert words.hex -from hex:2 -to hex:2"))

	assert.Contains(t, f.ok("convert words.hex@0x12340 -segmented"), ":020000021000EC\n:04234000")
	assert.Equal(t, 2, f.line("convert words.hex@0x100000 -segmented").status)
	assert.Contains(t, f.ok("convert words.hex -crlf"), "\r\n")
	assert.Contains(t, f.ok("convert words.hex -record-length 1"), "\n:01001100628C\n")
}

func TestInspectJSON(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	f.write("half.hex", strings.Repeat("x\n", 50))
	r := f.line("inspect -json bootloader-damaged.hex gauge-app.s19 calibration.bin half.hex -device brindle-b8-32")
	assert.Equal(t, 3, r.status)
	var out struct {
		Schema string
		Files  []struct {
			Name, Format, Sha256, ContentsSha256, Header string
			Size                                         int
			Whole                                        bool
			Bytes                                        int
			Problems                                     []struct{ Line, Column int }
			Span                                         *struct {
				First, Last string
				Size        int
			}
			Runs    []struct{ First string }
			Records *struct {
				Lines         int
				Types, Widths []struct{ Value, Count int }
				InOrder       bool
			}
			Regions []struct {
				Name string
				Used int
			}
			Versions []struct{ Text string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &out))
	assert.Equal(t, "mexalt.inspect/1", out.Schema)
	require.Len(t, out.Files, 4)
	damaged, app, table := out.Files[0], out.Files[1], out.Files[2]
	assert.False(t, damaged.Whole)
	assert.Len(t, damaged.Problems, 4)
	assert.Equal(t, 12, damaged.Problems[0].Line)
	assert.Equal(t, 22, damaged.Problems[0].Column)
	assert.True(t, app.Whole)
	assert.Equal(t, "srec", app.Format)
	assert.Equal(t, "gauge-app 2.4.1", app.Header)
	assert.Equal(t, "0x5EF5", app.Span.Last)
	assert.Equal(t, 760, app.Records.Types[1].Count)
	assert.Len(t, app.Sha256, 64)
	assert.Len(t, app.ContentsSha256, 64)
	assert.Equal(t, "application", app.Regions[0].Name)
	assert.Equal(t, 24310, app.Regions[0].Used)
	assert.Equal(t, "TG-1 gauge 2.4.1", app.Versions[0].Text)
	assert.Equal(t, "raw", table.Format)
	assert.Nil(t, table.Records)
	assert.Len(t, out.Files[3].Problems, 1, "text that is no record, under a name that promises records")
	assert.Equal(t, f.line("inspect -json bootloader-damaged.hex gauge-app.s19 calibration.bin half.hex -device brindle-b8-32").out,
		r.out, "two runs print the same")
}

func TestDevicesAreLookedUpBesideTheImageAndInFolders(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "folders are named for the system below")
	f := demoFolder(t)
	const text = "name = 'Mine'\n[[memory]]\nname = 'm'\nkind = 'flash'\nfirst = 0\nsize = '64K'\n[[region]]\nname = 'all'\nrole = " +
		"'application'\nfirst = 0\nsize = '64K'\n"
	require.NoError(t, os.Mkdir(f.path("images"), 0o755))
	require.NoError(t, os.Rename(f.path("gauge-app.s19"), f.path("images/app.s19")))
	f.write("images/mine.device.toml", text)
	assert.Contains(t, f.ok("check images/app.s19 -device mine"), "with Mine (images/mine.device.toml)\n")
	assert.Equal(t, 2, f.line("check bootloader.hex -device mine").status)
	assert.Contains(t, f.ok("check bootloader.hex -device images/mine.device.toml"), "passed: ")
	f.write("images/bad.device.toml", text+"[[memory]]\nname = 'm'\n")
	r := f.line("check images/app.s19 -device bad")
	assert.Equal(t, 3, r.status)
	assert.Contains(t, r.err, "images/bad.device.toml:13:1: error: the name m is given twice")
	assert.Contains(t, r.err, "images/bad.device.toml:12:3: error: memory m has no kind, no first and no size")
}
