package main

import (
	"encoding/binary"
	"hash/crc32"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// slot makes an application for a slot of the D32-256: vectors, code, and a header
// that says how long it is.
func slot(first uint32, length int) string {
	body := make([]byte, length)
	for i := range body {
		body[i] = byte(i*7 + i>>8)
	}
	binary.LittleEndian.PutUint32(body, 0x2801_0000)
	binary.LittleEndian.PutUint32(body[4:], first+0x201)
	head := []byte(strings.Repeat("\xFF", 256))
	copy(head, "SLOT")
	binary.LittleEndian.PutUint32(head[4:], 1)
	binary.LittleEndian.PutUint32(head[8:], uint32(length))
	return string(head) + string(body)
}

// TestSlots seals and checks images of two slots, each with a header that says how
// long its application is.
func TestSlots(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	const d = " -device brindle-d32-256"
	loader := make([]byte, 0x400)
	for i := range loader {
		loader[i] = byte(i)
	}
	binary.LittleEndian.PutUint32(loader, 0x2801_0000)
	binary.LittleEndian.PutUint32(loader[4:], 0x0600_0101)
	f.write("loader.bin", string(loader))
	f.write("a.bin", slot(0x0600_4000, 0x1238))
	f.write("b.bin", slot(0x0602_4000, 0x3000))

	f.ok("merge loader.bin@loader.first a.bin@slot_a.first b.bin@slot_b.first" + d + " -o both.hex")
	r := f.line("check both.hex" + d)
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.err+r.out, "slot_a_crc is")
	assert.Contains(t, f.line("check both.hex"+d+" -json").out, `"rule": "checksum-absent"`)
	sealed := f.line("seal both.hex" + d + " -o sealed.hex")
	require.Zero(t, sealed.status, sealed.err)
	assert.Contains(t, sealed.err,
		"over 0x0600_4000..0x0600_400B (12 bytes), 0x0600_4010..0x0600_5337 (4.8 KiB, 4,904 bytes), stored at 0x0600_400C")
	assert.Contains(t, sealed.err,
		"over 0x0602_4000..0x0602_400B (12 bytes), 0x0602_4010..0x0602_70FF (12.2 KiB, 12,528 bytes), stored at 0x0602_400C")
	whole := slot(0x0600_4000, 0x1238)
	f.ok("convert sealed.hex -in slot_a_header" + d + " -to raw -o head.bin")
	assert.Equal(t, crc32.ChecksumIEEE([]byte(whole[:12]+whole[16:])), binary.LittleEndian.Uint32([]byte(f.read("head.bin"))[12:]))
	r = f.line("check sealed.hex" + d)
	assert.Zero(t, r.status, r.err+r.out)
	assert.NotContains(t, r.err+r.out, "overrun")
	assert.Regexp(
		t,
		`\nslot_a +0x0600_4000.*\n  slot_a_header +0x0600_4000\.\.0x0600_40FF \(256 bytes\) +256 +0 +100\.0 %\n  slot_a_body `,
		r.out,
	)
	assert.Contains(t, f.line("check a.bin@slot_a.first -region slot_a_header"+d).out, "slot_a_header")
	assert.Contains(t, f.ok("view sealed.hex -in 0x060040F0,32"+d), "slot_a_body 0x0600_4100..0x0601_FFFF")

	// One slot is enough; its header is wrong, or nothing of it is there.
	f.ok("merge loader.bin@loader.first a.bin@slot_a.first" + d + " -o one.hex")
	one := f.line("seal one.hex" + d + " -o one-sealed.hex")
	assert.Contains(t, one.err, "slot_b_crc is left out: the image contains nothing in")
	assert.Zero(t, f.line("check one-sealed.hex"+d).status)
	f.ok("patch one-sealed.hex -at 0x06004008 -number 0x20000 -size 4 -o long.hex")
	r = f.line("check long.hex" + d)
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.err+r.out, "slot_a_crc cannot be computed: the length at 0x0600_4008 says 131,328 bytes")
	assert.Equal(t, 2, f.line("seal long.hex"+d+" -o no.hex").status)
	assert.NotContains(t, f.names(), "no.hex")

	// Linked for the other bank.
	f.ok("merge loader.bin@loader.first b.bin@slot_a.first" + d + " -o moved.hex")
	f.ok("seal moved.hex" + d + " -o moved-sealed.hex")
	r = f.line("check moved-sealed.hex" + d)
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.err+r.out, "the reset target is 0x0602_4201, in region slot_b and not in slot_a")
	assert.Contains(t, r.err+r.out, "linked for slot_b, not for slot_a) [start-target]")

	// A full dump of a part in which a slot that need not be there is erased: nothing is
	// wrong with that slot's checksum.
	f.write("half.device.toml", "name = \"Half\"\nbase = \"brindle-d32-256\"\n[[region]]\nname = \"slot_b\"\nrequired = false\n")
	f.ok("fill one-sealed.hex -in bank1 -in bank2 -erased -device half -o dump.hex")
	r = f.line("check dump.hex -device half")
	assert.NotContains(t, r.err+r.out, "slot_b_crc")
	assert.NotContains(t, r.err+r.out, "start-")

	// A start address at an alias of where the image lies is none outside.
	f.ok("merge sealed.hex -start 0x101 -o alias.hex")
	assert.NotContains(t, f.line("check alias.hex"+d).out, "start-record")
	f.ok("merge sealed.hex -start 0x30101 -o outside.hex")
	assert.Contains(t, f.line("check outside.hex"+d).out, "start-record")

	// A part's rules: what changes a body makes its checksum stale; reserved bytes.
	r = f.line("patch sealed.hex -at 0x06004200 -bytes 00" + d + " -o stale.hex")
	assert.Contains(t, r.err, "slot_a_crc at 0x0600_400C no longer matches")
	f.write("kept.bin", "\x00\x01\x02\x03\x04\x05\x06\x07")
	r = f.line("check sealed.hex kept.bin@kept.first" + d)
	assert.Contains(t, r.err+r.out, "[reserved-area]")
	f.write("odd.bin", "\x00\x01\x02")
	r = f.line("check odd.bin@slot_b_body.first -region slot_b" + d)
	assert.Contains(t, r.err+r.out, "complete granule, because each is written once after an erase")
}

// TestOptionsWithComplements composes option words of which the part wants the
// complement too, and a setting whose bits lie in two words.
func TestOptionsWithComplements(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	const d = "brindle-d32-256"
	out := f.run("", "device", d, "-compose", "brown_out=2.8 V").out
	assert.Contains(t, out, "boot_options = 0x00000CB7 at 0x0700_0000 (bytes B7 0C 00 00)\n")
	assert.Contains(t, out, "its complement at 0x0700_0004 (bytes 48 F3 FF FF)\n")
	assert.Contains(t, out, "more_options = 0x00000001 at 0x0700_0008 (bytes 01 00 00 00)")
	f.write("recipe.release.toml", `name = "options"
device = "brindle-d32-256"
[[input]]
name = "empty"
file = "empty.bin"
at = "options.first"
[[step]]
do = "config"
words = { brown_out = "2.8 V" }
[check]
accept = ["missing-part"]
[[output]]
file = "options.bin"
in = ["options"]
`)
	f.write("empty.bin", "\xB7\x00\x00\x00\x48\xFF\xFF\xFF\x00\x00\x00\x00\xFF\xFF\xFF\xFF")
	f.ok("release recipe.release.toml")
	assert.Equal(t, "\xB7\x0C\x00\x00\x48\xF3\xFF\xFF\x01\x00\x00\x00\xFE\xFF\xFF\xFF", f.read("options.bin"))
	f.write("options.bin", "\xB7\x0C\x00\x00\x48\xF3\xFF\xFF\x01\x00\x00\x00\xFE\xFF\xFF\xFF")
	r := f.line("check options.bin@options.first -region loader -device " + d)
	assert.NotContains(t, r.out+r.err, "config-conflict", "both complements agree")
	f.write("options.bin", "\xB7\x0C\x00\x00\x48\xF2\xFF\xFF\x01\x00\x00\x00\xFE\xFF\xFF\xFF")
	r = f.line("check options.bin@options.first -device " + d)
	assert.Contains(t, r.out+r.err,
		"the complement of boot_options is 48 F2 FF FF; expected 48 F3 FF FF, because boot_options is 0x00000CB7")
	f.write("options.bin", "\xB7\x08\x00\x00\x48\xF7\xFF\xFF\x01\x00\x00\x00\xFE\xFF\xFF\xFF")
	r = f.line("check options.bin@options.first -device " + d)
	assert.Contains(t, r.out+r.err, "brown_out is 6, which is not defined")
	assert.NotContains(t, r.out+r.err, "outside-region", "a word needs no region of its own")

	// Words that are not given are not known, in whatever asks.
	r = f.line("device " + d + " -compose read_level=closed")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.err+r.out, "hazard")
	f.write("options.bin", "\x91\x00\x00\x00\x6E\xFF\xFF\xFF")
	for _, line := range []string{"check options.bin@options.first -device " + d, "rehearse options.bin@options.first -device " + d} {
		r = f.line(line)
		assert.NotZero(t, r.status, line)
		assert.Contains(t, r.out+r.err, "read_level", line)
	}

	// A hazard that another field takes away.
	r = f.line("device " + d + " -explain boot_options=0x91")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.out, "no way in remains\n\nhazard: read_level = closed: nothing opens the device again\n")
	r = f.line("device " + d + " -explain boot_options=0x91 -explain more_options=2")
	assert.Zero(t, r.status, r.out)
}

// TestWordsOfSixteenBits checks a part that counts words: vectors of 16 bits, and a
// sum over what the image says.
func TestWordsOfSixteenBits(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	const d = " -device brindle-w16-64"
	application := []byte(strings.Repeat("\x12\x34", 0x7000))
	copy(application, "\x10\x00\x00\x10")
	binary.BigEndian.PutUint32(application[0xDFF8:], 0x2000)
	f.write("app.bin", string(application))
	boot := strings.Repeat("\x56\x78", 0xFF0)
	f.write("boot.bin", boot)
	f.ok("merge app.bin@application.first boot.bin@bootloader.first" + d + " -o whole.hex")
	r := f.line("seal whole.hex" + d + " -o sealed.hex")
	require.Zero(t, r.status, r.err)
	assert.Contains(t, r.err, "over 0x0000..0x1FFF (8 KiB)")
	sum := uint16(0)
	for i := 0; i < 0x2000; i += 2 {
		sum += binary.BigEndian.Uint16(application[i:])
	}
	f.ok("convert sealed.hex -in 0xDFFC,2 -to raw -o sum.bin")
	assert.Equal(t, sum, binary.BigEndian.Uint16([]byte(f.read("sum.bin"))))
	r = f.line("check sealed.hex" + d)
	assert.NotContains(t, r.out+r.err, "start-target")
	assert.NotContains(t, r.out+r.err, "checksum-wrong")
	shown := f.ok("device brindle-w16-64")
	assert.Contains(t, shown, "0x7000..0x7FEF", "in words, as the data sheet has them")
}
