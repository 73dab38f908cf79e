package main

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/docs"
)

// TestJSONHoldsItsSchema runs each command with -json, where it does its work and
// where it fails, and holds what it prints against the schema that help gives.
func TestJSONHoldsItsSchema(t *testing.T) {
	t.Parallel()
	f := releasedFolder(t)
	f.write("x.device.toml", "name = 7\n")
	const d = " -device brindle-b8-32"
	lines := map[string]int{
		"inspect bootloader.hex gauge-app.s19 station.elf calibration.bin" + d:          0,
		"inspect bootloader-damaged.hex none.hex":                                       4,
		"inspect bootloader.hex -device x":                                              3,
		"view bootloader.hex -origin" + d:                                               0,
		"view station.elf -in symbol.tide_height -origin":                               0,
		"view gauge-app.s19 -find TG-1" + d:                                             0,
		"view gauge-app.s19 -find 00112233445566":                                       1,
		"view bootloader-damaged.hex":                                                   3,
		"map bootloader.hex gauge-app-2.s19" + d:                                        0,
		"map bootloader.hex":                                                            2,
		"compare gauge-app.s19 gauge-app-2.s19" + d:                                     1,
		"compare gauge-app.s19 gauge-app.s19":                                           0,
		"compare gauge-app.s19":                                                         2,
		"merge bootloader.hex gauge-app.s19 -o both.hex" + d:                            0,
		"merge bootloader.hex gauge-app-2.s19 -o clash.hex":                             3,
		"split gauge-app.s19 -by size 8K -o part-{n}.hex":                               0,
		"place calibration.bin -at 0x400000 -o placed.hex":                              0,
		"cut gauge-app.s19 -keep 0..0xFF -o cut.hex":                                    0,
		"fill gauge-app.s19 -in 0,32K -o filled.hex -dry-run":                           0,
		"fill gauge-app.s19 -in nowhere -o filled.hex":                                  2,
		"patch gauge-app.s19 -at 0x34 -text x -o patched.hex":                           0,
		"convert gauge-app.s19 -to hex -o gauge-app.hex":                                0,
		"convert gauge-app.s19 -o gauge-app.s19":                                        2,
		"checksum gauge-app.s19 -kind md5 -kind crc-32/iso-hdlc":                        0,
		"checksum gauge-app.s19 -expect 0":                                              1,
		"checksum gauge-app.s19 -store image.last+1 -grow -o summed.hex":                0,
		"checksum -list modbus":                                                         0,
		"seal tg1-harbour-2.4.1.hex -o sealed.hex" + d:                                  0,
		"identify tg1-harbour-2.4.1.hex -at 0x77FC -size 4 -in 0x0000..0x77FB":          0,
		"identify calibration.bin -value 0x123456789A":                                  1,
		"check tg1-harbour-2.4.1.hex" + d:                                               0,
		"check gauge-app-2.s19 bootloader.hex -baud 115200 -device brindle-m32-512" + d: 1,
		"check bootloader-damaged.hex" + d:                                              3,
		"check gauge-app.s19 -device nowhere":                                           2,
		"check none.hex" + d:                                                            4,
		"device brindle-m32-512":                                                        0,
		"device brindle-b8-32 -explain clock_word=0x82":                                 1,
		"device brindle-b8-32 -compose boot_start=0":                                    0,
		"device -list":   0,
		"device nowhere": 2,
		"device brindle-b8-32 -against brindle-m32-512":                                                                   1,
		"release tg1.release.toml -dry-run":                                                                               0,
		"release tg1.release.toml":                                                                                        0,
		"release tg1.release.toml -set application=gauge-app-2.s19":                                                       3,
		"release tg1-line.release.toml -units units.csv":                                                                  0,
		"release none.release.toml":                                                                                       4,
		"confirm tg1.manifest.json":                                                                                       0,
		"confirm none.manifest.json":                                                                                      4,
		"explain tg1-harbour-2.4.1.hex -at 0x77F8..0x7803":                                                                0,
		"explain tg1-harbour-2.4.1.hex -at nowhere":                                                                       2,
		"match tg1-harbour-2.4.1.hex":                                                                                     0,
		"match bootloader.hex":                                                                                            1,
		"inspect . -device brindle-b8-32":                                                                                 1,
		"check gauge-app.s19 gauge-app-2.s19 -each -region application -device brindle-b8-32":                             1,
		"config -device brindle-b8-32 -set boot_start=0 -o words.hex":                                                     0,
		"config bootloader.hex -device brindle-b8-32":                                                                     0,
		"config tg1-harbour-2.4.1.hex -board gauge-north -from tg1-north-2.4.1.hex":                                       0,
		"device -board gauge-north":                                                                                       0,
		"device -board gauge -compose clock_source=crystal":                                                               1,
		"match bootloader.hex none":                                                                                       4,
		"compare station-3.0.0.elf station.elf -device brindle-m32-512 -cost":                                             1,
		"compare tg4.manifest.json tg4.manifest.json":                                                                     0,
		"compare tg4.manifest.json none.manifest.json":                                                                    4,
		"check tg1-harbour-2.4.1.hex -device brindle-b8-32 -against tg1.manifest.json":                                    0,
		"rehearse tg1-harbour-2.4.1.hex -device brindle-b8-32 -plan factory -read-back back.hex":                          0,
		"rehearse tg1-harbour-2.4.1.hex -device brindle-b8-32 -fault drop0x2000":                                          2,
		"rehearse tg1-harbour-2.4.1.hex -from tg1-north-2.4.1.hex -device brindle-b8-32 -fault noise=1e-3":                2,
		"rehearse bootloader.hex -device brindle-b8-32":                                                                   1,
		"rehearse tg1-harbour-2.4.1.hex -from tg1-north-2.4.1.hex -device brindle-b8-32 -sweep -chance 1e-5 -expect safe": 1,
		"rehearse none.hex -device brindle-b8-32":                                                                         4,
		"version":    0,
		"version -v": 0,
	}
	at, wait := served(t, f, "tg1-harbour-2.4.1.hex -device brindle-b8-32 -clients 4 -json -from tg1-north-2.4.1.hex")
	lines["read "+at+" -device brindle-b8-32 -o part.hex"] = 0
	lines["read "+at+" -device brindle-b8-32 -against tg1-harbour-2.4.1.hex"] = 1
	lines["read "+at+" -device brindle-m32-512 -o part.hex"] = 3
	lines["check tg1-harbour-2.4.1.hex -device brindle-b8-32 -on "+at] = 0
	lines["check tg1-harbour-2.4.1.hex -device brindle-b8-32 -on localhost:1"] = 4
	served := result{}
	schemas := map[string]*jsonschema.Schema{}
	seen := map[string]bool{}
	each := func(line string, status int, r result) {
		require.Equal(t, status, r.status, "%s\n%s", line, r.err)
		text := r.out
		var head struct {
			Schema string
			Failed bool
		}
		require.NoError(t, json.Unmarshal([]byte(text), &head), "%s: %s", line, text)
		require.True(t, strings.HasPrefix(text, "{\n  \"schema\": \"mexalt."), line)
		name, _, _ := strings.Cut(strings.TrimPrefix(head.Schema, "mexalt."), "/")
		if schemas[name] == nil {
			schemas[name] = compileSchema(t, f.ok("help json "+name))
		}
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
		require.NoError(t, err)
		assert.NoError(t, schemas[name].Validate(value), line)
		if head.Failed {
			assert.GreaterOrEqual(t, status, 2, line)
			assert.NotEmpty(t, r.err, "an error is told to people too: %s", line)
			name += " failed"
		}
		assert.NotContains(t, r.err, "note:", "notes are in the report: %s", line)
		seen[name] = true
	}
	for line, status := range lines {
		each(line, status, f.line(line+" -json"))
	}
	served.out, served.status = wait()
	served.out = served.out[:strings.LastIndex(served.out, "}")+2]
	each("rehearse -serve", 1, served)
	for _, name := range docs.Schemas() {
		assert.True(t, seen[name] || name == "manifest" || name == "board", "%s is printed by none of the lines", name)
	}
	for _, name := range []string{"merge", "compare", "check", "fill", "device", "release", "explain", "map", "confirm", "convert",
		"inspect"} {
		assert.True(t, seen[name+" failed"], name)
	}
}

// TestJSONLeavesTheImageItsStream prints the report of what makes an image where the
// image is not.
func TestJSONLeavesTheImageItsStream(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	image := f.ok("fill gauge-app.s19 -in 0,32K -quiet")
	r := f.line("fill gauge-app.s19 -in 0,32K -json")
	assert.Equal(t, image, r.out)
	assert.True(t, json.Valid([]byte(r.err)), "nothing else is on that stream: %s", r.err)
	r = f.line("checksum gauge-app.s19 -store image.last+1 -grow -json -o summed.s19")
	assert.True(t, json.Valid([]byte(r.out)), r.out)
	assert.Empty(t, r.err)
	assert.Contains(t, r.out, `"outputs": [`)
	r = f.line("merge bootloader-damaged.hex gauge-app.s19 -json")
	assert.Empty(t, r.out, "what reads the image gets none")
	assert.True(t, json.Valid([]byte(r.err)), r.err)
	assert.Contains(t, r.err, `"line": 12`)
}

// TestReportsGoToFiles writes what commands that look say into a file.
func TestReportsGoToFiles(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	f.ok("release tg1.release.toml -quiet")
	for _, line := range []string{"inspect bootloader.hex", "view bootloader.hex -in 0x7800,64", "compare gauge-app.s19 gauge-app-2.s19",
		"identify calibration.bin -value 0",
		"check tg1-harbour-2.4.1.hex -device brindle-b8-32", "device brindle-b8-32", "confirm tg1.manifest.json",
		"explain tg1-harbour-2.4.1.hex -at 0",
		"rehearse tg1-harbour-2.4.1.hex -device brindle-b8-32", "rehearse bootloader.hex -device brindle-b8-32"} {
		want := f.line(line)
		r := f.line(line + " -o told.txt")
		assert.Equal(t, want.status, r.status, line)
		assert.Empty(t, r.out, line)
		assert.Contains(t, r.err, "wrote told.txt", line)
		assert.Equal(t, want.out, f.read("told.txt"), line)
	}
	assert.Equal(t, 2, f.line("inspect bootloader.hex -o bootloader.hex").status, "what was read is not written over")
	f.ok("map bootloader.hex -device brindle-b8-32 -o map.txt")
	assert.Equal(t, f.ok("map bootloader.hex -device brindle-b8-32"), f.read("map.txt"))
}

// TestReportsAreAlwaysWritten writes reports for continuous integration where
// nothing could be checked.
func TestReportsAreAlwaysWritten(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	schema := compileSchema(t, readTestdata(t, "sarif-2.1.0.schema.json"))
	for line, status := range map[string]int{"check gauge-app.s19 -device nowhere": 2, "check none*.hex -device brindle-b8-32": 4,
		"check gauge-app.s19 -device brindle-b8-32 -accept nothing": 2} {
		require.Equal(t, status, f.line(line+" -format sarif -o r.sarif").status, line)
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(f.read("r.sarif")))
		require.NoError(t, err)
		assert.NoError(t, schema.Validate(value), line)
		assert.Contains(t, f.read("r.sarif"), `"executionSuccessful": false`)
		require.Equal(t, status, f.line(line+" -format junit -o r.xml").status, line)
		assert.Contains(t, f.read("r.xml"), `errors="1"`)
		assert.Contains(t, f.read("r.xml"), "<error message=")
	}
}

// TestValueAlone prints a bare value for scripts.
func TestValueAlone(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	assert.Equal(t, "0x4B37\n", f.run("123456789", "checksum", "-from", "raw", "-kind", "crc-16/modbus", "-value").out)
	r := f.line("checksum calibration.bin -kind crc-32/iso-hdlc -store image.last+1 -grow -o c.hex -value")
	assert.Regexp(t, "^0x[0-9A-F]{8}\n", r.err)
}
