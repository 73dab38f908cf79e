package main

import (
	"encoding/json"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/check"
)

const adviceMap = `
name = "A"
identity = "AA BB"
identity-at = 0x1004
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
[[region]]
name = "log"
role = "reserved"
first = 0x1C00
size = 0x100
[start]
kind = "vectors"
at = 0x1800
stack = "ram"
stack-align = 8
target = "boot"
[[checksum]]
name = "crc"
kind = "CRC-32/ISO-HDLC"
in = "0x1000..0x13FB"
at = 0x13FC
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

// TestTheAdviceOfEveryRuleRuns trips each rule whose advice is a command or a flag
// in an image that is sound otherwise, follows the advice as it is printed, and sees the finding gone.
func TestTheAdviceOfEveryRuleRuns(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	f.write("a.device.toml", adviceMap)
	pad := func(text string, n int) string { return text + strings.Repeat("\x01", n-len(text)) }
	f.write("app.bin", pad("code\xAA\xBB", 0x3FC)+"\xFF\xFF\xFF\xFF")
	f.write("boot.bin", pad("\x00\x41\x00\x00\x10\x18\x00\x00", 0x400))
	f.write("ones.bin", strings.Repeat("\xFF", 0x200))
	f.ok("merge app.bin@0x1000 boot.bin@0x1800 -to hex -o whole.hex")
	f.ok("checksum whole.hex -in 0x1000..0x13FB -store 0x13FC -replace -o good.hex")
	require.Equal(t, 0, f.line("check good.hex -device a").status, f.line("check good.hex -device a").out)

	for rule, trip := range map[string]string{
		"outside-memory":   "patch good.hex -at 0x9000 -bytes 00 -grow -o bad.hex",
		"not-programmable": "patch good.hex -at 0x4000 -bytes 00 -grow -o bad.hex",
		"reserved-area":    "patch good.hex -at 0x1C00 -bytes 00000000 -grow -o bad.hex",
		"one-time-area":    "patch good.hex -at 0x5000 -bytes 00000000 -grow -o bad.hex",
		"outside-region":   "patch good.hex -at 0x1E00 -bytes 00000000 -grow -o bad.hex",
		"missing-part":     "cut good.hex -keep boot -device a -o bad.hex",
		"partial-granule":  "cut good.hex -drop 0x1BFE..0x1BFF -o bad.hex",
		"partial-page":     "cut good.hex -drop 0x1BFC..0x1BFF -o bad.hex",
		"start-record":     "merge good.hex -start 0x1700 -o bad.hex",
		"config-undefined": "patch good.hex -at 0x6000 -bytes 0081 -grow -o bad.hex",
		"checksum-absent":  "patch good.hex -at 0x13FC -bytes FFFFFFFF -o bad.hex",
		"checksum-wrong":   "patch good.hex -at 0x1100 -bytes 77 -o bad.hex",
	} {
		require.NotNil(t, check.RuleOf(rule), rule)
		if trip != "" {
			follow(t, f, rule, trip)
		}
	}
	// By another setting, or by name, where no operation mends it.
	f.ok("patch good.hex -at 0x6000 -bytes 1080 -grow -o bad.hex")
	f.ok("cut bad.hex -keep 0x1000..0x13FF -keep 0x6000,2 -o bad.hex.tmp")
	assert.Equal(t, "-accept config-hazard:port if it is meant", adviceOf(t, f, "config-hazard", "bad.hex"))
	assert.Equal(t, 1, f.line("check bad.hex -device a -accept config-conflict:port").status)
	assert.Equal(t, 0, f.line("check bad.hex -device a -accept config-conflict:port -accept config-hazard:port").status)
	f.ok("patch good.hex -at 0x1400 -file ones.bin -grow -o ones.hex")
	f.ok("patch ones.hex -at 0x1600 -bytes 01 -size 64 -pad 01 -grow -o bad.hex")
	assert.Contains(t, adviceOf(t, f, "erased-stretch", "bad.hex"), "-accept erased-stretch if it is meant")
	assert.Equal(t, 0, f.line("check bad.hex -device a -accept erased-stretch").status)
	f.ok("merge boot.bin@0x1A00 app.bin@0x1000 -to hex -clash first -o bad.hex")
	f.ok("cut bad.hex -drop 0x1C00..0x1DFF -o bad2.hex")
	f.ok("patch bad2.hex -at 0x6000 -bytes 0080 -grow -o bad.hex")
	follow(t, f, "boot-section", "seal bad.hex -device a -o bad.hex.sealed")
}

// adviceOf checks a file and returns the advice for a rule.
func adviceOf(t *testing.T, f folder, rule, name string) string {
	t.Helper()
	r := f.run("", "check", name, "-device", "a", "-json")
	var report struct {
		Findings []struct{ Rule, Advice string }
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &report), r.err)
	for _, finding := range report.Findings {
		if finding.Rule == rule {
			return finding.Advice
		}
	}
	t.Fatalf("%s does not trip %s: %s", name, rule, r.out)
	return ""
}

// follow trips a rule, runs the command that the advice prints, or checks again
// with the flag that it names, and sees the finding gone.
func follow(t *testing.T, f folder, rule, trip string) {
	t.Helper()
	_, status := f.shell("mexalt " + trip)
	require.Equal(t, 0, status, trip)
	name := trip[strings.LastIndexByte(trip, ' ')+1:]
	advice := adviceOf(t, f, rule, name)
	if flag := regexp.MustCompile(`-(accept|region) \S+`).FindString(advice); flag != "" {
		out, status := f.shell("mexalt check " + name + " -device a " + flag)
		assert.Equal(t, 0, status, "%s: %s\n%s", rule, advice, out)
		return
	}
	command := regexp.MustCompile(`mexalt .*`).FindString(advice)
	require.NotEmpty(t, command, "%s: %s", rule, advice)
	out, status := f.shell(command)
	require.Equal(t, 0, status, "%s: %s\n%s", rule, command, out)
	mended := command[strings.LastIndexByte(command, ' ')+1:]
	out, _ = f.shell("mexalt check " + mended + " -device a")
	assert.NotContains(t, out, "["+rule+"]", "%s: %s", rule, command)
	f.shell("rm -f " + mended)
}
