package main

import (
	"encoding/json"
	"encoding/xml"
	"os"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/source"
)

func compileSchema(t *testing.T, text string) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("schema.json", doc))
	schema, err := c.Compile("schema.json")
	require.NoError(t, err)
	return schema
}

// TestReportsForContinuousIntegration writes findings, one of them accepted, in
// each format, and validates SARIF against its published schema.
func TestReportsForContinuousIntegration(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	f.write("odd.s19", f.read("gauge-app-2.s19"))
	line := "check odd.s19 -device brindle-b8-32 -region application -accept region-overrun:application -o report."
	for _, status := range []int{0, 1} {
		if status == 1 {
			line = "check gauge-app.s19 -device brindle-b8-32 -o report."
		}
		r := f.line(line + "sarif -format sarif")
		assert.Equal(t, status, r.status, r.err)
		assert.Contains(t, r.err, "wrote report.sarif: ")
		schema, err := os.ReadFile("testdata/sarif-2.1.0.schema.json")
		require.NoError(t, err)
		report, err := jsonschema.UnmarshalJSON(strings.NewReader(f.read("report.sarif")))
		require.NoError(t, err)
		require.NoError(t, compileSchema(t, string(schema)).Validate(report))

		assert.Equal(t, status, f.line(line+"xml -format junit").status)
		var suites struct {
			Tests    int `xml:"tests,attr"`
			Failures int `xml:"failures,attr"`
			Suites   []struct {
				Tests    int `xml:"tests,attr"`
				Failures int `xml:"failures,attr"`
				Cases    []struct {
					Name    string `xml:"name,attr"`
					Failure *struct {
						Message string `xml:"message,attr"`
					} `xml:"failure"`
					Output string `xml:"system-out"`
				} `xml:"testcase"`
			} `xml:"testsuite"`
		}
		require.NoError(t, xml.Unmarshal([]byte(f.read("report.xml")), &suites))
		require.Len(t, suites.Suites, 1)
		failed := map[string]bool{}
		for _, c := range suites.Suites[0].Cases {
			failed[c.Name] = c.Failure != nil
			if c.Name == "region-overrun" && status == 0 {
				assert.Contains(t, c.Output, "accepted error")
			}
		}
		assert.Equal(t, suites.Tests, len(suites.Suites[0].Cases))
		assert.False(t, failed["region-overrun"])
		assert.Equal(t, status == 1, failed["missing-part"])
	}
	assert.Contains(t, f.read("report.sarif"), `"ruleId": "missing-part"`)
	r := f.line("check gauge-app.s19 -device brindle-b8-32 -accept hazard")
	assert.Equal(t, 2, r.status)
	assert.Contains(t, r.err, `-accept: unknown rule "hazard"`)
}

func TestCheckSaysWhichDeviceFits(t *testing.T) {
	t.Parallel()
	f := releasedFolder(t)
	f.write("factory.hex", f.read("tg1-harbour-2.4.1.hex"))
	r := f.line("check factory.hex -device brindle-m32-512 -device brindle-b8-32")
	assert.Equal(t, 0, r.status, r.out)
	assert.Contains(t, r.out, "Brindle B8-32: fits\n")
	assert.Contains(t, r.out, "Brindle M32-512: does not fit, ")
	r = f.line("check factory.hex -device brindle-m32-512")
	assert.Equal(t, 1, r.status)
	assert.Equal(t, "mexalt check: note: the image fits Brindle B8-32 (-device brindle-b8-32)\n", r.err)
	r = f.line("check gauge-app-2.s19 -device brindle-m32-512 -device brindle-b8-32")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.out, "none fits; Brindle B8-32 comes nearest:")
	assert.Contains(t, f.ok("check factory.hex -device brindle-b8-32 -baud 9600"), "at 9,600 bit/s 34.0 s as raw bytes, 93.5 s as Intel")
}

// TestConfigurationSetsTheBootSection checks the demo's image with
// configuration words of its own.
func TestConfigurationSetsTheBootSection(t *testing.T) {
	t.Parallel()
	f := releasedFolder(t)
	f.write("factory.hex", f.read("tg1-harbour-2.4.1.hex"))
	patch := func(at, bytes string) {
		f.ok("patch factory.hex -at " + at + " -bytes " + bytes + " -grow -o set.hex")
	}
	patch("0x500000", "800103") // as delivered
	r := f.line("check set.hex -device brindle-b8-32")
	assert.Equal(t, 0, r.status, r.out)
	assert.Contains(t, r.out, "region sizes from the configuration words in the image")
	patch("0x500000", "800003") // 6 KiB
	r = f.line("check set.hex -device brindle-b8-32")
	assert.Equal(t, 1, r.status)
	assert.Contains(
		t,
		r.out,
		"error: 0x7800 (1 byte): the bootloader begins at 0x7800, but boot_size (6 KiB) makes the boot section begin at 0x6800; "+
			"expected boot_size = 2 KiB (set boot_word to 0x01",
	)
	r = f.line("fill set.hex -device brindle-b8-32 -in bootloader -o filled-set.hex")
	assert.Contains(t, r.err, "note: as the image is configured, region bootloader is 0x6800..0x7FFF (6 KiB)")
	patch("0x500000", "020103") // crystal, reset pin off
	r = f.line("check set.hex -device brindle-b8-32")
	assert.Equal(t, 1, r.status)
	assert.Equal(t, 2, strings.Count(r.out, "[config-hazard]"))
	assert.Equal(t, 0, f.line("check set.hex -device brindle-b8-32 -accept config-hazard:clock_source -accept config-hazard:reset_pin").status)
	assert.Equal(t, 1, f.line("check set.hex -device brindle-b8-32 -accept config-hazard:clock_source").status)
}

func TestDevice(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	assert.Contains(t, f.ok("device -list"), "brindle-m32-512  Brindle M32-512")
	out := f.ok("device brindle-m32-512")
	assert.Contains(t, out, "2 x 96 KiB + 1 x 256 KiB ")
	assert.Contains(t, out, "seen at 0x0000 too")
	r := f.line("device brindle-b8-32 -explain clock_word=0x82")
	assert.Equal(t, 1, r.status, "a hazard is a finding")
	assert.Contains(t, r.out, "no way in remains\n\nhazard: clock_source = external crystal: on a board without a crystal")
	assert.Contains(t, f.run("", "device", "brindle-b8-32", "-compose", "boot_size=1 KiB", "-compose", "boot_start=1").out,
		"boot_word = 0x06 at 0x0050_0001 (bytes 06)")
	f.ok("device -new -o mine.device.toml")
	assert.Contains(t, f.ok("device mine"), "My device")
	for line, want := range map[string]string{
		"device": "mexalt device: error: name a map: a file, or one of brindle-b8-32, brindle-d32-256, " +
			"brindle-m32-512, brindle-w16-64\n",
		"device brindle-b8-32 -explain clok=1": "mexalt device: error: -explain: unknown word clok; the words of Brindle " +
			"B8-32 are clock_word, boot_word, lock_word\n",
		"device brindle-b8-32 -explain clock_word=256": "mexalt device: error: -explain: clock_word=256: 0x100 has more than the " +
			"word's 8 bits\n",
		"device brindle-b8-32 -compose boot_siz=1": "mexalt device: error: -compose: boot_siz=1: Brindle B8-32 has no field " +
			"\"boot_siz\"; did you mean boot_size?\n",
		"device brindle-b8-32 -compose boot_start=maybe": "mexalt device: error: -compose: boot_start=maybe: boot_start means one of: " +
			"start in the bootloader; start in the application\n",
	} {
		r := f.line(line)
		assert.Equal(t, 2, r.status)
		assert.Equal(t, want, r.err)
	}
	assert.Equal(t, 4, f.line("device -new -o mine.device.toml").status, "a map that is there is not written over")
}

// TestDeviceSchema validates all maps, as TOML, against the schema for editors.
func TestDeviceSchema(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	schema := compileSchema(t, f.ok("device -schema"))
	texts := map[string]string{"template": device.Template}
	for _, name := range device.Shipped() {
		_, text, err := device.Find(&source.Files{}, name, nil)
		require.NoError(t, err)
		texts[name] = string(text)
	}
	for name, text := range texts {
		var tree map[string]any
		require.NoError(t, toml.Unmarshal([]byte(text), &tree))
		asJSON, err := json.Marshal(tree)
		require.NoError(t, err)
		doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(asJSON)))
		require.NoError(t, err)
		assert.NoError(t, schema.Validate(doc), name)
		tree["speed"] = 3
		asJSON, _ = json.Marshal(tree)
		doc, _ = jsonschema.UnmarshalJSON(strings.NewReader(string(asJSON)))
		assert.Error(t, schema.Validate(doc), "unknown keys are errors to the schema too")
	}
}
