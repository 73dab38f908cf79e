package main

import (
	"encoding/json"
	"hash/crc32"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// valueOf returns the value that a line of output tells.
func valueOf(t *testing.T, out string) string {
	t.Helper()
	m := regexp.MustCompile(`(?m)^\S+ (\S+) over `).FindStringSubmatch(out)
	require.NotNil(t, m, out)
	return m[1]
}

func TestChecksumStoresAndProves(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	for _, c := range []struct{ flags, prove string }{
		{"-in 0..0x5EF5 -store 0x6000", "-in 0..0x5EF5 -expect-at 0x6000"},
		{"-in 0..0x5EF5 -store 0x6000 -order big -kind CRC-16/XMODEM", "-in 0..0x5EF5 -expect-at 0x6000 -order big -kind crc-16/acorn"},
		{"-in 0..0x5FFF -holes FF -slot zero -store 0x5FFC -kind CRC-32/MPEG-2 -swap 4",
			"-in 0..0x5FFF -holes FF -slot zero -expect-at 0x5FFC -kind CRC-32/MPEG-2 -swap 4"},
		{"-in 0..0x5FFF -holes 00 -slot skip -store 0x5FF8 -size 8 -kind SUM-16",
			"-in 0..0x5FFF -holes 00 -slot skip -expect-at 0x5FF8 -size 8 -kind SUM-16"},
		{"-in 0x100..0x5EF5 -in 0..0xFF -skip 0x200,16 -store 0x6000 -kind SHA-256",
			"-in 0x100..0x5EF5 -in 0..0xFF -skip 0x200..0x20F -expect-at 0x6000 -kind SHA-256"},
		{"-in 0..0x5EF5 -length-at 0x5EF8 -store 0x6000", "-in 0..0x5EF5 -expect-at 0x6000"},
	} {
		r := f.line("checksum gauge-app.s19 -grow " + c.flags + " -o stored.s19")
		require.Equal(t, 0, r.status, r.err)
		out := f.ok("checksum stored.s19 " + c.prove)
		assert.Contains(t, out, "as: ")
		r = f.line(
			"checksum stored.s19 " +
				strings.NewReplacer("0..0x5FFF", "0..0x3FFF", "0..0x5EF5", "0..0x3FFF", "-in 0..0xFF ", "").Replace(c.prove),
		)
		assert.Equal(t, 1, r.status, "over another span the value is another: %s", r.err)
		assert.Contains(t, r.out, "different: ")
	}
	assert.Contains(t, f.ok("view stored.s19 -in 0x5EF8,4"), "F6 5E 00 00", "the length is stored too")

	// The standard library agrees, as another implementation.
	f.ok("convert gauge-app.s19 -to raw -o app.bin")
	want := crc32.ChecksumIEEE([]byte(f.read("app.bin")))
	f.ok("checksum gauge-app.s19 -expect 0x" + strings.ToUpper(strings.TrimPrefix(jsonNumber(want), "0x")))

	// A zero-sum: with the value stored, the words add up to nothing.
	f.ok("checksum gauge-app.s19 -kind SUM-32/LITTLE/TWOS -in 0..0x1B -store 0x1C -replace -o vectors.s19")
	assert.Equal(t, "0x00000000", valueOf(t, f.ok("checksum vectors.s19 -kind SUM-32/LITTLE -in 0..0x1F")))
}

func jsonNumber(v uint32) string {
	const digits = "0123456789ABCDEF"
	b := make([]byte, 8)
	for i := range b {
		b[7-i] = digits[v>>(4*i)&15]
	}
	return string(b)
}

func TestChecksumHints(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	f.ok("checksum gauge-app.s19 -in 0..0x5FFF -holes FF -slot zero -store 0x5FFC -grow -o stored.s19")
	for flags, hint := range map[string]string{
		"-holes FF -slot zero -order big": "-order little",
		"-holes FF -slot erased":          "-slot zero",
		"-holes 00 -slot zero":            "-holes FF",
		"-holes FF -slot zero -swap 4":    "-swap 1",
	} {
		r := f.line("checksum stored.s19 -in 0..0x5FFF -expect-at 0x5FFC " + flags)
		assert.Equal(t, 1, r.status)
		assert.Contains(t, r.out, "hint: this value results with "+hint+"\n", flags)
	}
}

// TestIdentifyPrintsFlagsThatReproduce hides an algorithm, finds it, and runs
// the flags that were printed.
func TestIdentifyPrintsFlagsThatReproduce(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	for _, c := range []struct{ store, kind string }{
		{"-in 0..0x5FFB -holes FF -store 0x5FFC", "CRC-32/ISO-HDLC"},
		{"-in 0..0x5FFF -holes FF -slot zero -store 0x5FFC -order big", "CRC-32/AUTOSAR"},
		{"-in 0..0x5EF5 -store 0x5FFC -swap 2", "CRC-32/BZIP2"},
		{"-in 0..0x5EFF -holes FF -store 0x5FF8", "CRC-64/XZ"},
	} {
		f.ok("checksum gauge-app.s19 -grow " + c.store + " -kind " + c.kind + " -o hidden.s19")
		place := regexp.MustCompile(`-store (\S+)`).FindStringSubmatch(c.store)[1]
		width := "4"
		if c.kind == "CRC-64/XZ" {
			width = "8"
		}
		out := f.ok("identify hidden.s19 -at " + place + " -size " + width)
		flags := regexp.MustCompile(`(?m)^  (-kind ` + c.kind + ` .*)$`).FindStringSubmatch(out)
		require.NotNil(t, flags, "%s: %s", c.kind, out)
		assert.Contains(t, f.ok("checksum hidden.s19 "+flags[1]), "as")
	}

	value := valueOf(t, f.ok("checksum gauge-app.s19 -kind CRC-16/DNP"))
	out := f.ok("identify gauge-app.s19 -value " + value)
	assert.Contains(t, out, "  -kind CRC-16/DNP -in image -expect "+value+"  (by chance: about 0.08)\n")
	assert.Contains(t, out, "expected by chance: about 12\n")
	assert.Contains(t, out, "and 6 more, as many as chance gives")
	reversed := "0x" + value[4:6] + value[2:4]
	assert.Contains(t, f.ok("identify gauge-app.s19 -value "+reversed), "-expect "+value+"  (the value's bytes reversed)")

	r := f.line("identify gauge-app.s19 -value 0x0123456789ABCDEF")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.out, "no known algorithm gives 0x0123456789ABCDEF")

	r = f.line("identify gauge-app.s19 -json -value " + value)
	var found struct {
		Schema  string
		Results []struct{ Kind, Flags string }
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &found))
	assert.Equal(t, "mexalt.identify/1", found.Schema)
	assert.NotEmpty(t, found.Results)
}

func TestUnknownPolynomialIsFound(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	const secret = "width=16 poly=0x6F99 init=0x1D0F refin=false refout=false xorout=0x55AA"
	args := []string{"identify"}
	var values []string
	for i, size := range []int{400, 400, 400, 400, 401} {
		data := make([]byte, size)
		for j := range data {
			data[j] = byte((i*7919 + j*j*31 + j*i*17) >> 2)
		}
		name := string(rune('a'+i)) + ".bin"
		require.NoError(t, os.WriteFile(f.path(name), data, 0o644))
		args = append(args, name)
		values = append(values, valueOf(t, strings.Replace(f.run("", "checksum", name, "-kind", secret).out, secret, "kind", 1)))
	}
	for _, v := range values {
		args = append(args, "-value", v)
	}
	r := f.run("", args...)
	assert.Equal(t, 0, r.status, r.err)
	assert.Contains(t, r.out, "a CRC that is in no catalogue gives all of them:\n  -kind \""+secret+"\" -in image")
}

func TestKinds(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	assert.Greater(t, strings.Count(f.ok("checksum -list"), "\n"), 150)
	assert.Contains(t, f.ok("checksum -list modbus"), "CRC-16/MODBUS")
	assert.Contains(
		t,
		f.ok("checksum -list modbus -json"),
		`"parameters": "width=16 poly=0x8005 init=0xFFFF refin=true refout=true xorout=0x0"`,
	)
	assert.Equal(t, 3, strings.Count(f.ok("checksum gauge-app.s19 -kind md5 -kind crc-8 -kind xor-8"), "\n"))
}
