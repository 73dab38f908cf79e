package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// freePort returns a port that nobody listens at.
func freePort(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	return port
}

// emulated starts an emulator with a debug server, and returns its address once it listens.
func emulated(t testing.TB, dir string, command ...string) string {
	t.Helper()
	port := "1234" // of the one that takes no other
	if strings.Contains(strings.Join(command, " "), "{port}") {
		port = freePort(t)
	}
	for i := range command {
		command[i] = strings.ReplaceAll(command[i], "{port}", port)
	}
	cmd := exec.Command(command[0], command[1:]...)
	cmd.Dir = dir
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	address := "127.0.0.1:" + port
	require.Eventually(t, func() bool {
		// Whether it listens is asked of the system: a connection would stop the device.
		text, _ := os.ReadFile("/proc/net/tcp")
		var n int
		fmt.Sscan(port, &n)
		return bytes.Contains(text, fmt.Appendf(nil, ":%04X 00000000:0000 0A", n))
	}, 20*time.Second, 50*time.Millisecond, "%v does not listen", command)
	return address
}

// TestEmulatorsAreRead reads the memory of three machines through the debug servers of their
// emulators: what is read is what was loaded, and the device is left as it was found.
func TestEmulatorsAreRead(t *testing.T) {
	t.Parallel()
	for _, m := range machines(t) {
		t.Run(m.name, func(t *testing.T) {
			t.Parallel()
			need(t, m.compiler[0])
			onLinux(t)
			f := emptyFolder(t)
			m.compile(t, f, "loader.c", "loader.elf", m.loader...)
			f.write("part.device.toml", m.deviceMap)
			var command []string
			identity, wrong := "", ""
			left := "the device runs on, as before"
			switch m.name {
			case "avr":
				need(t, "simavr")
				command = []string{"simavr", "-m", "atmega1280", "-f", "16000000", "-g", "loader.elf"}
				left = "the connection was closed; the server did not say that it had stopped the device" // it does not say whether it ran
			case "arm":
				need(t, "qemu-system-arm")
				command = []string{"qemu-system-arm", "-M", "mps2-an385", "-kernel", "loader.elf", "-display", "none", "-monitor", "none",
					"-serial", "null", "-gdb", "tcp:127.0.0.1:{port}"}
				identity, wrong = "identity = \"31 C2 0F 41\"\nidentity-read-at = 0xE000_ED00\n",
					"identity = \"31 C2 0F 40\"\nidentity-read-at = 0xE000_ED00\n"
			case "riscv":
				need(t, "qemu-system-riscv32")
				command = []string{"qemu-system-riscv32", "-M", "virt", "-bios", "loader.elf", "-display", "none", "-monitor", "none",
					"-serial", "null", "-gdb", "tcp:127.0.0.1:{port}"}
				identity, wrong = "identity = \"97 02 00 00\"\nidentity-read-at = 0x1000\n",
					"identity = \"97 02 00 01\"\nidentity-read-at = 0x1000\n"
			}
			at := emulated(t, f.dir, command...)
			f.write("part.device.toml", identity+m.deviceMap)
			f.write("wrong.device.toml", wrong+m.deviceMap)
			var read struct {
				Known    bool `json:"identified"`
				Left     string
				Bytes    uint64
				Compared struct {
					Equal      bool
					EqualBytes uint64
				}
			}
			// As they load, whatever RAM holds by now.
			f.ok("convert loader.elf -o loader.hex")
			f.ok("cut loader.hex -device part -keep flash -o flash.hex")
			require.NoError(t, json.Unmarshal([]byte(f.ok("read "+at+" -device part -against flash.hex -json")), &read))
			assert.True(t, read.Compared.Equal)
			assert.NotZero(t, read.Compared.EqualBytes)
			assert.Equal(t, identity != "", read.Known)
			assert.Equal(t, left, read.Left)
			assert.Equal(t, read.Bytes, read.Compared.EqualBytes, "no more is read than is compared")
			f.ok("read " + at + " -device part -in loader -o back.hex")
			f.ok("compare flash.hex back.hex -device part -holes " + map[string]string{"avr": "FF", "arm": "00", "riscv": "00"}[m.name] +
				" -in loader")
			// One byte is not as it was loaded.
			f.ok("patch flash.hex -at loader.first+8 -bytes A5 -device part -o other.hex")
			r := f.line("read " + at + " -device part -against other.hex -first")
			assert.Equal(t, 1, r.status, r.err)
			assert.Contains(t, r.out, "reading ended at the first difference")
			assert.Contains(t, r.out, "1 byte differs")
			if wrong != "" {
				r = f.line("read " + at + " -device wrong -o none.hex")
				assert.Equal(t, 3, r.status)
				assert.Regexp(t, "a different device: it identifies itself as (31 C2 0F 41|97 02 00 00)", r.err)
				assert.NoFileExists(t, f.path("none.hex"))
			}
		})
	}
}

// served starts the simulated chip, and returns its address and what waits for its end.
func served(t testing.TB, f folder, line string, faults ...string) (address string, wait func() (string, int)) {
	t.Helper()
	args := append([]string{"rehearse", "-serve", ":0"}, strings.Fields(line)...)
	for _, fault := range faults {
		args = append(args, "-fault", fault)
	}
	cmd := exec.Command(program, args...)
	cmd.Dir = f.dir
	var out bytes.Buffer
	cmd.Stdout = &out
	messages, err := cmd.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	lines := bufio.NewScanner(messages)
	all := ""
	for lines.Scan() {
		all += lines.Text() + "\n"
		if _, rest, ok := strings.Cut(lines.Text(), " at "); ok && strings.Contains(lines.Text(), "serving") {
			address, _, _ = strings.Cut(rest, ";")
			break
		}
	}
	require.NotEmpty(t, address, all)
	rest := make(chan string)
	go func() {
		text := ""
		for lines.Scan() {
			text += lines.Text() + "\n"
		}
		rest <- text
	}()
	return address, func() (string, int) {
		t.Helper()
		text := <-rest
		cmd.Wait()
		return out.String() + text, cmd.ProcessState.ExitCode()
	}
}

// TestADebuggerProgramsTheChip has a real debugger load programs into the simulated chip and
// compare them. What it says is no proof: what the chip holds is.
func TestADebuggerProgramsTheChip(t *testing.T) {
	t.Parallel()
	need(t, "gdb-multiarch")
	onLinux(t)
	gdb := func(f folder, address string, commands ...string) string {
		args := []string{"-q", "-nx", "-batch", "-ex", "set confirm off", "-ex", "set tcp connect-timeout 5"}
		for _, c := range commands {
			args = append(args, "-ex", strings.ReplaceAll(c, "{}", address))
		}
		cmd := exec.Command("gdb-multiarch", args...)
		cmd.Dir = f.dir
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	for _, m := range machines(t)[1:] {
		need(t, m.compiler[0])
		f := emptyFolder(t)
		m.compile(t, f, "loader.c", "loader.elf", m.loader...)
		m.compile(t, f, "application.c", "application.elf", m.app...)
		f.write("part.device.toml", strings.Replace(m.deviceMap, "page = 256", "page = 256\nsectors = [{ count = 32, size = \"1K\" }]", 1))
		load := []string{"file application.elf", "target remote {}", "load", "compare-sections", "detach"}
		at, wait := served(t, f, "application.elf -device part -clients 1 -chip c.chip")
		said := gdb(f, at, load...)
		assert.Contains(t, said, "Section .text, range")
		assert.NotContains(t, said, "MIS-MATCHED")
		out, status := wait()
		assert.Equal(t, 0, status, out+said)
		assert.Contains(t, out, "equal: the chip holds every byte of application.elf")
		// What is there stays: the loader is loaded beside it, and both are read.
		at, wait = served(t, f, "loader.elf -device part -clients 2 -chip c.chip")
		gdb(f, at, "file loader.elf", "target remote {}", "load", "detach")
		f.ok("cut application.elf -device part -keep flash -o app.hex")
		assert.Contains(t, f.ok("read "+at+" -device part -against app.hex"), "the target's own CRC of these bytes agrees")
		out, status = wait()
		assert.Equal(t, 0, status, out)
		// A page that does not take what is programmed: the debugger is content with its load, and
		// finds it when it compares.
		first := f.inspected("application.elf").Span.First
		at, wait = served(t, f, "application.elf -device part -clients 1", "page-dead "+first)
		said = gdb(f, at, load...)
		assert.Contains(t, said, "MIS-MATCHED")
		out, status = wait()
		assert.Equal(t, 1, status, out)
		assert.Contains(t, out, "not as the image")
		// The power fails while it loads: it goes on and says that all matches.
		at, wait = served(t, f, "application.elf -device part -clients 1", "cut 2")
		said = gdb(f, at, load...)
		out, status = wait()
		assert.Equal(t, 1, status, out)
		assert.Contains(t, out, "the power failed")
		assert.Contains(t, said, "matched.", "the link is gone, and it compares the program with itself")
		t.Logf("a debugger whose device lost its power says: %s", said)
	}
}

// TestBeforeProgramming judges images for devices that are simulated, and served.
func TestBeforeProgramming(t *testing.T) {
	t.Parallel()
	f := releasedFolder(t)
	f.ok("release tg4.release.toml -quiet")
	f.ok("config -device brindle-b8-32 -set read_out=0 -o locked-words.hex")
	f.ok("merge tg1-north-2.4.1.hex locked-words.hex -start none -o locked.hex")
	f.ok("config -device brindle-b8-32 -set startup_delay=1 -o words.hex")
	f.ok("merge tg1-harbour-2.4.1.hex words.hex -start none -o with-words.hex")
	f.ok("patch tg1-north-2.4.1.hex -at 0x7D90 -bytes 01020304 -grow -o more.hex")
	f.ok("patch more.hex -at gauge_log.first -bytes 55 -grow -device brindle-b8-32 -o log.hex")
	f.ok("patch tg4-3.1.0.hex -at serial_number.first -bytes 3131313131313131 -grow -device brindle-m32-512 -o one.hex")
	f.ok("patch tg4-3.1.0.hex -at serial_number.first -bytes 3131313131313132 -grow -device brindle-m32-512 -o two.hex")
	for _, c := range []struct {
		serve, faults, check string
		status               int
		says                 []string
	}{
		{"-from tg1-north-2.4.1.hex", "", "tg1-harbour-2.4.1.hex -device brindle-b8-32", 0, []string{
			"identity  B8 32 01, Brindle B8-32",
			"now       TG-1 gauge 2.4.1, variant north (tg1.manifest.json), every byte as released, but for the configuration words",
			"changes   142 bytes of calibration in 0x0040_000E..0x0040_01FC",
			"left      the connection was closed; the server did not say that it had stopped the device\ngo\n"}},
		{"-from tg1-harbour-2.4.1.hex", "", "tg1-harbour-2.4.1.hex -device brindle-b8-32", 0,
			[]string{"every byte of tg1-harbour-2.4.1.hex already", "\ngo\n"}},
		{"", "", "tg1-harbour-2.4.1.hex -device brindle-b8-32", 0,
			[]string{"now       no release that is known here", "every byte is FF: it is erased, or there is no memory", "\ngo\n"}},
		{"", "identity B8 16 01", "tg1-harbour-2.4.1.hex -device brindle-b8-32",
			1, []string{"no go: it is a different device: B8 16 01, not Brindle B8-32\n"}},
		{"", "", "tg4-3.1.0.hex -device brindle-m32-512", 1, []string{
			"no go: whether it is the device that the image is for is not known: the server refuses to read its identity at " +
				"0x0700_2000 (-accept unidentified, if it is meant)",
			"no go: 0x0600_0000..0x0607_FFFF (512 KiB) cannot be read"}},
		{"-from locked.hex", "", "tg1-harbour-2.4.1.hex -device brindle-b8-32", 1,
			[]string{"no go: 0x0000..0x7D7F (31.4 KiB, 32,128 bytes) cannot be read, so that nobody knows what is there: it may be locked"}},
		{"-from log.hex", "", "tg1-harbour-2.4.1.hex -device brindle-b8-32", 1, []string{
			"lost      4 bytes of bootloader in 0x7D90..0x7D93 (4 bytes): their sectors are erased",
			"kept      1 byte of gauge_log in 0x0040_0200 (1 byte), unless all of the chip is erased",
			"no go: 4 bytes of bootloader would be erased, and the image has nothing for them (-accept erased-data:bootloader, if " +
				"it is meant)"}},
		{"-from log.hex", "", "tg1-harbour-2.4.1.hex -device brindle-b8-32 -accept erased-data:bootloader", 0,
			[]string{"accepted  4 bytes of bootloader would be erased", "\ngo\n"}},
		{"-from log.hex", "", "tg1-harbour-2.4.1.hex -device brindle-b8-32 -accept erased-data:calibration -accept unidentified", 2, nil},
		{"-from tg1-north-2.4.1.hex", "", "with-words.hex -device brindle-b8-32 -accept crosses-border", 0, []string{
			"word      clock_word 0x80, then 0x90 (startup_delay: 50 ms, then 5 ms)"}},
		{"-from one.hex", "", "one.hex -device brindle-m32-512 -accept one-time-area", 0, []string{"every byte of one.hex already"}},
		{"-from one.hex", "", "two.hex -device brindle-m32-512 -accept one-time-area", 1,
			[]string{"no go: 0x0700_0000..0x0700_0007 (8 bytes) is written once only, and holds other bytes already"}},
		{"-from one.hex", "", "tg4-3.1.0.hex -device brindle-m32-512", 0, []string{"every byte of tg4-3.1.0.hex already", "\ngo\n"}},
		{"", "", "gauge-app-2.s19 -device brindle-b8-32", 1, []string{"no go: the image: 0x77FC..0x77FF: application_crc: stored"}},
	} {
		image := "tg1-harbour-2.4.1.hex -device brindle-b8-32 "
		if strings.HasPrefix(c.serve, "-from one") {
			image = "tg4-3.1.0.hex -device brindle-m32-512 "
		}
		var faults []string
		if c.faults != "" {
			faults = []string{c.faults}
		}
		at, _ := served(t, f, image+"-clients 1 "+c.serve, faults...)
		r := f.line("check " + c.check + " -on " + at)
		assert.Equal(t, c.status, r.status, "%s %s\n%s%s", c.serve, c.check, r.out, r.err)
		for _, says := range c.says {
			assert.Contains(t, r.out, says, "%s %s", c.serve, c.check)
		}
		if c.status == 2 {
			assert.Contains(t, r.err, "-accept: nothing was found for erased-data:calibration, unidentified; leave it out")
		}
	}
	at, _ := served(t, f, "tg1-harbour-2.4.1.hex -device brindle-b8-32 -clients 1")
	f.ok("device -derive " + at + " -o derived.device.toml")
	assert.Contains(t, f.read("derived.device.toml"), "sectors = [{ count = 128, size = 256 }]")
	for line, want := range map[string]string{
		"check gauge-app.s19 -device brindle-b8-32 -on localhost:1 -each":                   "-on judges one image for one device",
		"check gauge-app.s19 -device brindle-b8-32 -device brindle-m32-512 -on localhost:1": "-on is for one device",
		"check gauge-app.s19 -device brindle-b8-32 -on localhost:1 -format sarif": "-on reports as text or json, and " +
			"not as sarif",
		"read localhost:1":        "cannot connect to localhost:1: connection refused",
		"read nowhere":            "expected HOST:PORT, as in localhost:3333",
		"read":                    "name the debug server",
		"read localhost:1 -first": "-first belongs to -against",
		"read localhost:1 -first -against gauge-app.s19 -twice":         "-first ends reading, and -twice reads everything",
		"read localhost:1 -first -against gauge-app.s19 -o x.hex":       "-first ends reading, so that -o would get some of the image only",
		"read localhost:1 -o x.elf":                                     "ELF is read only",
		"rehearse gauge-app.s19 -device brindle-b8-32 -clients 1":       "-clients belongs to -serve",
		"rehearse gauge-app.s19 -device brindle-b8-32 -serve :0 -sweep": "-serve lets a debugger program the chip",
		"rehearse gauge-app.s19 -device brindle-b8-32 -serve nowhere":   "expected HOST:PORT, or :PORT for this machine alone",
	} {
		r := f.line(line)
		assert.GreaterOrEqual(t, r.status, 2, line)
		if programSystem() == "linux" || !strings.Contains(want, "refused") {
			assert.Contains(t, r.err, want, line)
		}
	}
}
