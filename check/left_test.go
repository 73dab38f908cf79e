package check

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// TestRulesThatHaveNothingToLookAt gives a bare map one thing more at a time: just the rules run
// that this gives something to look at, and the others say what is missing.
func TestRulesThatHaveNothingToLookAt(t *testing.T) {
	const region = "[[region]]\nname = \"r\"\nfirst = 0x1000\nsize = 0x100\nrole = "
	const config = "[[memory]]\nname = \"fuses\"\nkind = \"config\"\nfirst = 0x6000\nsize = 2\n[[config]]\nname = \"word\"\nat = " +
		"\"fuses.first\"\nwidth = 2\ndefault = 0\n[[config.field]]\nname = \"field\"\nbits = 0\nvalues = [{ value = 0, meaning = " +
		"\"no\" }, { value = 1, meaning = \"yes\"SETS }]\n"
	image := part("a.hex", memory.Span{First: 0x1000, Last: 0x103F})
	words := with(image, 0x6000, 1, 0)
	run := func(top, flash, more string, parts ...Part) map[string]string {
		var problems source.Problems
		m := device.Load("m",
			[]byte(top+"name = \"T\"\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0x1000\nsize = 0x1000\n"+flash+more),
			&problems)
		require.NoError(t, problems.Err(), more)
		if len(parts) == 0 {
			parts = []Part{image}
		}
		left := map[string]string{}
		for _, s := range Run(m, parts, Options{}).Skipped {
			left[s.Rule] = s.Why
		}
		return left
	}
	bare := run("", "", "")
	assert.Len(t, bare, 31)
	for _, c := range []struct {
		flash, top, more string
		parts            []Part
		runs             string
	}{
		{more: region + `"data"`, runs: "region-overrun outside-region"},
		{more: region + `"reserved"`, runs: "region-overrun outside-region reserved-area"},
		{more: region + `"bootloader"`, runs: "region-overrun outside-region crosses-border"},
		{more: region + "\"data\"\nrequired = true", runs: "region-overrun outside-region missing-part region-erased"},
		{more: region + "\"data\"\nholds = \"unknown\"", runs: "region-overrun outside-region"},
		{flash: "granule = 4\n", runs: "partial-granule"},
		{flash: "page = 64\n", runs: "partial-page"},
		{flash: "sectors = [{ count = 4, size = 0x400 }]\n", runs: "shared-sector"},
		{flash: "granule = 1\n"},
		{more: "[[memory]]\nname = \"once\"\nkind = \"otp\"\nfirst = 0x5000\nsize = 16\n", runs: "one-time-area"},
		{more: "[start]\nkind = \"instruction\"\nat = 0x1000\n", runs: "start-missing start-erased"},
		{more: "[start]\nkind = \"vectors\"\nat = 0x1000\nstack = \"ram\"\n[[memory]]\nname = \"ram\"\nkind = \"ram\"\nfirst = " +
			"0x4000\nsize = 0x100\n", runs: "start-missing start-erased start-stack start-target"},
		{more: strings.ReplaceAll(config, "SETS", ""), runs: "; config-partial: the image has no configuration words"},
		{more: strings.ReplaceAll(config, "SETS", ""), parts: []Part{words},
			runs: "config-undefined config-conflict config-hazard config-partial; last-port: no board is given"},
		{more: region + "\"data\"\n" + strings.ReplaceAll(config, "SETS", ", sets = { r = 0x80 }"),
			runs: "boot-section region-overrun outside-region; config-partial: the image has no configuration words"},
		{top: "identity = \"AA BB\"\n"},
		{top: "identity = \"AA BB\"\nidentity-at = 0x1000\n", runs: "wrong-identity"},
		{top: "machine = \"AVR\"\n", runs: "; wrong-machine: no input is an ELF file"},
		{more: "[[checksum]]\nkind = \"CRC-32/ISO-HDLC\"\nin = \"0x1000..0x101F\"\nat = 0x1020\n", runs: "checksum-absent checksum-wrong"},
		{more: region + "\"data\"\n[[checksum]]\nkind = \"CRC-32/ISO-HDLC\"\nin = \"r\"\nat = 0x1100\nguards = \"r\"\n",
			runs: "region-overrun outside-region checksum-absent checksum-wrong uncovered"},
		{parts: []Part{image, part("b.hex", memory.Span{First: 0x1100, Last: 0x110F})}, runs: "clash two-starts"},
		{parts: []Part{{Name: "s.hex", Image: image.Image.WithStart(memory.Start{Kind: memory.LinearStart, Value: 0x1000})}},
			runs: "start-record"},
	} {
		left := run(c.top, c.flash, c.more, c.parts...)
		var begins []string
		other := ""
		for _, id := range RuleIDs() {
			switch why, is := bare[id]; {
			case is && left[id] == "":
				begins = append(begins, id)
			case why != left[id]: // the last of them
				other = "; " + id + ": " + left[id]
			}
		}
		assert.Equal(t, c.runs, strings.Join(begins, " ")+other, "%s%s%s", c.top, c.flash, c.more)
	}
}

// TestEachStartIsLookedAt has a map whose part starts in ROM, which came with the part, and goes on
// in a loader and in one of two slots, of which one may be empty.
func TestEachStartIsLookedAt(t *testing.T) {
	const text = "name = \"T\"\n[[memory]]\nname = \"rom\"\nkind = \"rom\"\nfirst = 0\nsize = 0x100\n[[memory]]\nname = " +
		"\"flash\"\nkind = \"flash\"\nfirst = 0x1000\nsize = 0x1000\n" +
		"[[memory]]\nname = \"ram\"\nkind = \"ram\"\nfirst = 0x4000\nsize = 0x100\n" +
		"[[region]]\nname = \"boot\"\nrole = \"bootloader\"\nrequired = true\nfirst = 0x1000\nsize = 0x400\n[[region]]\nname = " +
		"\"a\"\nrole = \"application\"\nrequired = true\nfirst = 0x1400\nsize = 0x400\n" +
		"[[region]]\nname = \"b\"\nrole = \"application\"\nfirst = 0x1800\nsize = 0x400\n" +
		"[[start]]\nkind = \"instruction\"\nat = 0\n[[start]]\nkind = \"vectors\"\nat = 0x1000\nstack = \"ram\"\ntarget = \"boot\"\n" +
		"[[start]]\nkind = \"vectors\"\nat = 0x1400\nstack = \"ram\"\ntarget = \"a\"\n[[start]]\nkind = \"vectors\"\nat = " +
		"0x1800\nstack = \"ram\"\ntarget = \"b\"\n"
	var problems source.Problems
	m := device.Load("m", []byte(text), &problems)
	require.NoError(t, problems.Err())
	good := func(p Part, at uint64) Part {
		return with(with(p, at, 0, 0x41, 0, 0, byte(at+0x20), byte(at>>8), 0, 0), at+0x20, 1, 2)
	}
	all := good(good(good(part("all.hex", memory.Span{First: 0x1000, Last: 0x1C00 - 1}), 0x1000), 0x1400), 0x1800)
	for _, c := range []struct {
		name string
		part Part
		want string
	}{
		{"all", all, ""},
		{"no b", Part{Name: "x", Image: all.Image.Drop(memory.Span{First: 0x1800, Last: 0x1BFF})}, ""},
		{"b without a start", Part{Name: "x", Image: all.Image.Drop(memory.Span{First: 0x1800, Last: 0x1807})}, "start-missing 0x1800"},
		{"an erased start of b", with(all, 0x1800, 255, 255, 255, 255, 255, 255, 255, 255), "start-erased 0x1800"},
		{"no boot", Part{Name: "x", Image: all.Image.Drop(memory.Span{First: 0x1000, Last: 0x13FF})}, "missing-part 0x1000"},
		{"no start of boot, nor of a",
			Part{Name: "x",
				Image: all.Image.Drop(memory.Span{First: 0x1000, Last: 0x1007}).Drop(memory.Span{First: 0x1400, Last: 0x1407})},
			"start-missing 0x1000, start-missing 0x1400"},
		{"a's stack below", with(all, 0x1400, 0, 0x40, 0, 0), "start-stack 0x1400"},
		{"a's stack at the end", with(all, 0x1400, 0, 0x41, 0, 0), ""},
		{"a's stack above", with(all, 0x1400, 1, 0x41, 0, 0), "start-stack 0x1400"},
		{"a's target in b", with(all, 0x1404, 0x20, 0x18), "start-target 0x1404"},
		{"a's target in a, blank", with(with(all, 0x1404, 0x40, 0x14), 0x1440, 255, 255), "start-erased 0x1440"},
		{"boot's target at its first byte", with(all, 0x1004, 0, 0x10), ""},
		{"boot's target at its last byte", with(all, 0x1004, 0xFF, 0x13), ""},
		{"boot's target behind", with(all, 0x1004, 0x00, 0x14), "start-target 0x1004"},
	} {
		var found []string
		for _, f := range Run(m, []Part{c.part}, Options{}).Findings {
			if f.Where == nil {
				continue
			}
			found = append(found, f.Rule+" "+memory.FormatAddress(f.Where.First))
		}
		assert.Equal(t, c.want, strings.Join(found, ", "), c.name)
	}
}
