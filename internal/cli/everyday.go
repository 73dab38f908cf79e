package cli

import (
	"fmt"
	"slices"
)

// everyday are words of the trade that are names of no command, and where what they are
// about is done or described.
var everyday = []struct {
	words []string
	about string
	see   [][2]string // a command line, and what it does
}{
	{
		[]string{"fuses", "fuse", "option bytes", "option-bytes", "options", "configuration", "config"},
		"configuration words: fuses, option bytes",
		[][2]string{
			{"mexalt config FILE -device MAP", "what the words in an image mean, and which ways in remain"},
			{"mexalt device MAP -explain WORD=VALUE", "what each field of a word means at a value"},
			{"mexalt device MAP -compose FIELD=MEANING", "the value for a configuration you want"},
			{"mexalt help boards", "words judged for your board, ports, the order to write words in"},
			{"mexalt help maps", "how a map describes words and fields"},
			{"mexalt help config-hazard", "values that cannot be undone"},
		},
	},
	{[]string{"crystal", "clock", "oscillator"}, "the clock source is a field of a configuration word", [][2]string{
		{"mexalt help boards", "what your board has, in a board file"},
		{"mexalt check IMAGE -board BOARD", "whether the words are right for the board"},
		{`mexalt device MAP -compose "FIELD=MEANING"`, "the value for a clock source"},
		{"mexalt help config-board", "a clock that the board does not have"},
		{"mexalt help config-hazard", "the same without a board"},
	}},
	{[]string{"lock", "locked", "protection", "read-out"}, "lock bits and read-out protection are fields of configuration words",
		[][2]string{
			{"mexalt device MAP -explain WORD=VALUE", "what a value locks"},
			{"mexalt config FILE -device MAP -from OLD", "the order in which to write words, and the point of no return"},
			{"mexalt help last-port", "the last way into a device"},
			{"mexalt help rehearsal", "what a locked device still does"},
		}},
	{[]string{"hazard", "hazards", "brick", "bricked"}, "configuration values that cannot be undone", [][2]string{
		{"mexalt help config-hazard", "the rule, and how to accept a value that you intend"},
		{"mexalt device MAP -explain WORD=VALUE", "which values are hazards"},
	}},
	{[]string{"board", "port", "ports", "high-voltage", "reset pin"}, "what the device is soldered to, and the ways into it", [][2]string{
		{"mexalt device MAP -board FILE -new", "a board file to start from"},
		{"mexalt config FILE -board BOARD", "which ways in remain after programming"},
		{"mexalt help boards", "boards, ports and the way back"},
	}},
	{[]string{"recover", "unbrick", "rescue"}, "ways back", [][2]string{
		{"mexalt config FILE -device MAP -from READ-BACK", "from the words that a device has to others"},
		{"mexalt help rehearsal", "updates that survive a power cut, and what each fault looks like"},
		{"mexalt inspect FILE", "what is intact in a damaged file"},
		{"mexalt convert FILE -lenient -o OUT", "the intact lines of a damaged file"},
	}},
	{[]string{"boot", "bootloader", "loader"}, "bootloaders and boot sections", [][2]string{
		{"mexalt merge BOOTLOADER APPLICATION -device MAP -o OUT", "one image of both"},
		{"mexalt check IMAGE -device MAP", "whether it starts, and fits the boot section"},
		{"mexalt help boot-section", "the rule about a boot section's size"},
	}},
	{
		[]string{"burn", "flash", "program", "programming", "write"},
		"programming a device: mexalt makes and checks the image, and rehearses it on a simulated device",
		[][2]string{
			{"mexalt check IMAGE -device MAP", "before you program it"},
			{"mexalt rehearse IMAGE -device MAP", "what programming does, and how long it takes"},
			{"mexalt convert IMAGE -to FORMAT -o OUT", "the format your programmer needs"},
		},
	},
	{[]string{"debugger", "debug", "probe", "server", "bench", "emulator"}, "a device that a debug server reaches", [][2]string{
		{"mexalt read HOST:PORT -o OUT", "its memory, as an image"},
		{"mexalt check IMAGE -device MAP -on HOST:PORT", "whether an image may be programmed into it"},
		{"mexalt rehearse IMAGE -device MAP -serve :PORT", "the simulated device, for a debugger to program"},
		{"mexalt help target", "all about it"},
	}},
	{[]string{"erase", "erased"}, "erasing, and erased bytes", [][2]string{
		{"mexalt rehearse IMAGE -device MAP", "which sectors are erased, and how long it takes"},
		{"mexalt fill IMAGE -erased -device MAP -o OUT", "holes filled with the erased value"},
		{"mexalt help shared-sector", "two regions in one sector"},
	}},
	{[]string{"blank", "blank-check", "empty"}, "blank devices and empty regions", [][2]string{
		{"mexalt rehearse IMAGE -device MAP", "the plan factory checks that the device is blank"},
		{"mexalt compare IMAGE READ-BACK -holes FF", "erased bytes in a read-back"},
		{"mexalt help missing-part", "a required region without bytes"},
	}},
	{[]string{"verify", "read-back", "readback", "corrupt", "damage"}, "verifying", [][2]string{
		{"mexalt compare IMAGE READ-BACK -holes FF -device MAP", "what a device contains, compared with an image"},
		{"mexalt read HOST:PORT -against IMAGE", "a device that a debug server reaches, compared with an image"},
		{"mexalt confirm MANIFEST", "whether files are those that were released"},
		{"mexalt checksum IMAGE -expect VALUE", "whether a checksum is right"},
		{"mexalt help diagnosis", "what happened to an image that is not as expected"},
	}},
	{[]string{"signature", "sign", "signing", "key", "keys"}, "signatures, and the identity that some data sheets call signature",
		[][2]string{
			{"mexalt release RELEASE -sign KEY.pem", "signs the manifest (Ed25519, ECDSA P-256, RSA-PSS; PKCS #8 in PEM)"},
			{"openssl genpkey -algorithm ed25519 -out KEY.pem", "makes such a key"},
			{"openssl pkey -in KEY.pem -pubout -out PUBLIC.pem", "its public half"},
			{"mexalt confirm MANIFEST -trust PUBLIC.pem", "requires that signature"},
			{"mexalt help wrong-identity", "identity (signature) bytes of another device"},
		}},
	{[]string{"serial", "serial number", "serials", "unit"}, "serial numbers", [][2]string{
		{"mexalt release RELEASE -units TABLE.csv", "one image for each row: serial number, key, calibration"},
		{"mexalt patch IMAGE -at ADDRESS -number N -size 4 -o OUT", "one value in one image"},
		{"mexalt help releases", "the table, its log, and how it continues"},
	}},
	{[]string{"watch"}, "building on every change", [][2]string{
		{"mexalt release RELEASE -watch", "runs the release whenever an input has changed"},
	}},
	{[]string{"make", "makefile", "ninja", "build"}, "mexalt in a build", [][2]string{
		{"mexalt release RELEASE -depfile FILE.d", "writes which files the outputs depend on"},
		{"mexalt help engines", "rules for make and ninja"},
	}},
	{[]string{"ci", "pipeline", "sarif", "junit"}, "continuous integration", [][2]string{
		{"mexalt check IMAGE -device MAP -format junit -o report.xml", "findings as test results; sarif for code scanning"},
		{"mexalt help exit", "the exit status"},
		{"mexalt help json", "reports for programs"},
	}},
	{[]string{"hex", "intel hex", "srec", "s19", "s37", "bin", "binary", "elf", "uf2", "dfu", "mem"}, "file formats", [][2]string{
		{"mexalt convert FILE -to FORMAT -o OUT", "writes another format"},
		{"mexalt inspect FILE", "what a file is, and whether it is intact"},
		{"mexalt help formats", "each format, and how strict mexalt is"},
	}},
	{[]string{"crc32", "crc16", "crc", "ccitt", "sum"}, "checksums", [][2]string{
		{"mexalt checksum -list crc-32", "the algorithms whose names contain a text"},
		{"mexalt checksum IMAGE -kind CRC-32/ISO-HDLC", "the value over an image"},
		{"mexalt identify IMAGE -at ADDRESS", "which algorithm gives a stored value"},
		{"mexalt help checksums", "computing, storing, proving"},
	}},
	{[]string{"even", "odd", "even/odd", "interleave", "lanes", "swap", "endian"}, "byte lanes and byte order", [][2]string{
		{`mexalt split IMAGE -by lanes 2 -o "lane-{n}.bin"`, "one file for each chip of a 16-bit bus"},
		{"mexalt merge -lanes LANE LANE -o OUT", "the reverse"},
		{"mexalt convert IMAGE -swap 2 -o OUT", "bytes of each 16-bit word swapped"},
	}},
}

// printEveryday prints where a word of the trade leads; false is that it is none.
func (s *session) printEveryday(word string) bool {
	for _, e := range everyday {
		if !slices.Contains(e.words, word) {
			continue
		}
		s.print.Line("%s: %s", word, e.about)
		s.print.Printf("\n")
		wide := 0
		for _, see := range e.see {
			wide = max(wide, len(see[0]))
		}
		for _, see := range e.see {
			s.print.Hanging(fmt.Sprintf("  %-*s  ", wide, see[0]), "%s", see[1])
		}
		return true
	}
	return false
}
