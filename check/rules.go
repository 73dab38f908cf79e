package check

import (
	"slices"
	"sync"

	"mexalt/source"
)

// Rule is a rule of the check.
type Rule struct {
	ID          string
	Severity    source.Severity
	Title       string // what it finds, in short
	Description string // what it looks for, and why that is wrong
	// Complete is whether it says something of whole images only: not of one
	// region's part alone, nor where a part could not be read.
	Complete bool

	// Named is whether what it finds is accepted by name alone, and Never whether it is
	// not accepted at all.
	Named, Never bool

	misplaced bool // it finds bytes for which the map has no place

	each  func(*checker) // looks in each part
	whole func(*checker) // or in the whole image
	// idle says why there is nothing for it to look at; "" is that there is. nil is that
	// there always is.
	idle func(*checker) string
}

// Rules returns all rules, in the order in which they are looked for: later ones
// leave out what an earlier one explains.
func Rules() []*Rule {
	once.Do(fill)
	return rules
}

// The table is filled when it is wanted: most commands never do.
var (
	once  sync.Once
	rules []*Rule
)

func fill() {
	rules = []*Rule{
		{ID: "unreadable", Title: "an input that cannot be read, with line and column",
			Description: "An input is damaged or missing: the file, line and column of each error. The report then covers the other " +
				"inputs only.",
			whole: (*checker).unreadable},
		{
			ID:        "outside-memory",
			misplaced: true,
			Title:     "bytes where the device has no memory",
			Description: "Bytes where the device has no memory: the wrong device, or placed at the wrong address. If the address is an " +
				"alias of a memory, the advice gives the command that moves the bytes.",
			each: (*checker).outsideMemory,
		},
		{ID: "not-programmable", misplaced: true, Title: "bytes in RAM or ROM",
			Description: "Bytes in RAM or ROM, which a programmer cannot write: for example initial data that the linker left in RAM.",
			each:        (*checker).notProgrammable},
		{
			ID:       "boot-section",
			Complete: true,
			Title:    "a boot section whose size does not match where the bootloader is",
			Description: "The bootloader does not begin at the boot section that the configuration sets, or the application is " +
				"inside that section. The finding gives both addresses and the setting that fits.",
			idle: noBootSection, whole: (*checker).bootSection,
		},
		{ID: "region-overrun", misplaced: true, Title: "an input that continues past the end of its region",
			Description: "An input continues past the end of its region: by how many bytes, into what, and from which source line on.",
			idle:        noRegion, each: (*checker).regionOverrun},
		{ID: "clash", Title: "addresses for which two inputs have bytes",
			Description: "Two inputs contain a byte for the same address, so one would overwrite the other.",
			idle:        onePart, whole: (*checker).clash},
		{ID: "outside-region", misplaced: true, Title: "bytes in a memory, but in none of its regions",
			Description: "Bytes in a memory that has regions, but in none of them. With one region to check, bytes outside it.",
			idle:        noRegion, each: (*checker).outsideRegion},
		{ID: "reserved-area", misplaced: true, Title: "bytes in a reserved region",
			Description: "Bytes in a region of role reserved.",
			idle:        noReserved, each: (*checker).reservedArea},
		{ID: "one-time-area", Title: "bytes in one-time programmable memory",
			Description: "Bytes in one-time programmable memory, which every device would get for good. Accept the finding by the " +
				"memory's name if you intend it.",
			idle: noOneTime, each: (*checker).oneTimeArea},
		{ID: "missing-part", Title: "a required region that is empty",
			Description: "The map requires a region, and the image has no bytes in it.",
			idle:        noRequired, whole: (*checker).missingPart},
		{
			ID:       "region-erased",
			Complete: true,
			Title:    "a required region that contains only erased bytes",
			Description: "A required region contains only erased bytes and its checksum: an earlier stage failed, and the fill and the " +
				"checksum ran on nothing.",
			idle: noRequired, whole: (*checker).regionErased,
		},
		{
			ID:    "region-holds",
			Title: "a region whose contents are not those that the map gives",
			Description: "The map gives bytes or texts by which the contents of a region are recognised (holds), and they are not " +
				"there: the wrong file, or another input that runs into the region. holds = \"unknown\" in the map says that there " +
				"are none.",
			idle: noHolds, whole: (*checker).regionHolds,
		},
		{
			ID:       "crosses-border",
			Complete: true,
			Title:    "bytes that continue across the border between an application and a bootloader",
			Description: "Bytes continue across the border between an application and a bootloader, and nothing shows that the " +
				"bootloader begins there: an application that has grown over it looks the same. Any of these shows it: the " +
				"contents that the map gives, vectors that lead into the region, a valid checksum that covers it, a start address " +
				"at its first byte, or bytes from different inputs on both sides, in this run or in the manifest next to the image.",
			idle: noBootloader, whole: (*checker).crossesBorder,
		},
		{ID: "wrong-machine", Title: "a program for another machine",
			Description: "An ELF file is linked for another machine, or another byte order, than the map names with machine and " +
				"byte-order.",
			idle: noMachine, whole: (*checker).wrongMachine},
		{ID: "partial-granule", Title: "a granule that is only partly filled",
			Description: "The image fills part of a granule, the smallest unit the memory can write. The programmer chooses the other " +
				"bytes; in write-once memory they cannot be corrected without another erase.",
			idle: noGranule, each: (*checker).partialGranule},
		{ID: "partial-page", Severity: source.Note, Title: "pages that are only partly filled",
			Description: "A note: the image fills part of a page. Complete the page with fill, so that every device gets the same bytes.",
			idle:        noPage, each: (*checker).partialPage},
		{ID: "shared-sector", Complete: true, Severity: source.Warning, Title: "a sector in which two regions have bytes",
			Description: "Two regions have bytes in one sector: erasing it to update one region destroys the other.",
			idle:        noSector, whole: (*checker).sharedSector},
		{ID: "start-missing", Complete: true, Title: "no bytes where the device starts",
			Description: "The image has no bytes where the device starts. If a configuration word makes the device start in another " +
				"region, that region counts.",
			idle: noStart, whole: (*checker).startMissing},
		{ID: "start-erased", Complete: true, Title: "an erased first instruction",
			Description: "The first instruction, where the device starts, is erased: FF FF, for example.",
			idle:        noStart, whole: (*checker).startErased},
		{ID: "start-stack", Complete: true, Title: "an initial stack outside RAM, or not aligned",
			Description: "For devices that start by a vector table: the initial stack is outside its memory, or not aligned.",
			idle:        noVectors, whole: (*checker).startStack},
		{
			ID:       "start-target",
			Complete: true,
			Title:    "a reset target outside its region, without bytes, or without the instruction-set bit",
			Description: "For devices that start by a vector table: the reset target is outside its region, the image has no bytes " +
				"there, or the bit that selects the instruction set is missing.",
			idle: noVectors, whole: (*checker).startTarget,
		},
		{ID: "start-record", Severity: source.Warning, Title: "a start address at which the image has no bytes",
			Description: "The image has no bytes at the start address that the file gives.",
			idle:        noStartRecord, whole: (*checker).startRecord},
		{ID: "config-undefined", Title: "configuration bits or values that are not defined",
			Description: "Configuration bits that no field defines differ from their delivered values, or a field has a value that is " +
				"not defined.",
			idle: noWords, whole: (*checker).configUndefined},
		{ID: "config-conflict", Title: "configuration values that contradict each other",
			Description: "A value requires that another field has a certain value, and it does not. Or the complement of a word, " +
				"which the device needs, is wrong: the device then ignores both.",
			idle: noWords, whole: (*checker).configConflict},
		{ID: "config-hazard", Title: "configuration values that cannot be undone",
			Description: "A configuration value cannot be undone, or locks you out of the device. An error until you accept it by " +
				"the name of its field.",
			idle: noWords, whole: (*checker).configHazard},
		{ID: "config-board", Never: true, Title: "configuration values, or a clock, that the board does not support",
			Description: "A configuration value needs something that the board does not have, or its supply does not allow the clock. It " +
				"cannot be accepted: change the value, or correct the board's file.",
			idle: noBoard, whole: (*checker).configBoard},
		{ID: "last-port", Named: true, Title: "configuration values that close the last way in",
			Description: "After programming these words, no port that the board wires can change anything of the device: nobody can " +
				"program it again. An error until you accept it by the name of the last port.",
			idle: noWays, whole: (*checker).lastPort},
		{ID: "config-clock", Title: "a program that was built for another clock",
			Description: "A program contains the frequency that it was built for (clock-at), or its input says so (built-for), and the " +
				"device runs at another: times and baud rates are wrong.",
			idle: noClock, whole: (*checker).configClock},
		{ID: "config-partial", Severity: source.Warning, Title: "a configuration word that is only partly given",
			Description: "The image contains some bytes of a configuration word only. The word is judged as far as it is given.",
			idle:        noWords, whole: (*checker).configPartial},
		{ID: "checksum-absent", Complete: true, Title: "a declared checksum that is missing",
			Description: "A checksum that the map declares is missing or erased. The advice is the seal command that stores it.",
			idle:        noChecksum, whole: (*checker).checksumAbsent},
		{ID: "checksum-wrong", Complete: true, Title: "a declared checksum that is wrong",
			Description: "A checksum that the map declares does not match the bytes of the image. The advice is the seal command that " +
				"recomputes it.",
			idle: noChecksum, whole: (*checker).checksumWrong},
		{
			ID:       "uncovered",
			Complete: true,
			Severity: source.Warning,
			Title:    "bytes of a guarded region that no checksum covers",
			Description: "A warning: a region starts if a checksum is valid (its guard), and the checksum does not cover all bytes " +
				"of the region. The other bytes may be torn, or from another version, while the checksum is valid. The places " +
				"where the checksum, its length and its end are stored do not count.",
			idle: noGuard, whole: (*checker).uncovered,
		},
		{ID: "wrong-identity", Title: "the identity of another device",
			Description: "The image contains the identity of another device.",
			idle:        noIdentity, each: (*checker).wrongIdentity},
		{ID: "erased-stretch", Severity: source.Warning, Title: "erased blocks in the middle of the data",
			Description: "Blocks of 512 bytes inside the file are erased: a copy that lost blocks looks like this.",
			each:        (*checker).erasedStretch},
		{
			ID:       "zero-stretch",
			Severity: source.Note,
			Title:    "blocks of zeros in the middle of the data",
			Description: "A note: blocks of 512 bytes inside the file are zeros. A copy that lost blocks can look like this, and so " +
				"can a table.",
			each: (*checker).zeroStretch,
		},
		{ID: "two-starts", Severity: source.Note, Title: "inputs with different start addresses",
			Description: "A note: the inputs have different start addresses, which is normal for separately linked files. A warning if " +
				"none of them is the start in the map.",
			idle: onePart, whole: (*checker).twoStarts},
		{
			ID:    source.LostLine,
			Title: "a file that seems to have lost lines",
			Description: "A few records are missing in a regular sequence, as if lines were lost. The hole would be filled, summed and " +
				"programmed. An error until you accept it by name.",
			whole: (*checker).doubts,
		},
		{
			ID:    source.MovedLine,
			Title: "a record that seems to be on the wrong side of a base record",
			Description: "A record would continue its neighbours on the other side of the base record next to it, as if two lines were " +
				"swapped. An error until you accept it by name.",
			whole: (*checker).doubts,
		},
		{ID: source.CountDiffers, Title: "a file whose count of records is wrong",
			Description: "The count record does not match the number of data records: lines were lost or added. The file is not read.",
			whole:       (*checker).doubts},
		{
			ID:    source.MissingEnd,
			Title: "a file without an end record",
			Description: "The file has no end record and was read leniently: a truncated copy looks like this. An error until you accept " +
				"it by name.",
			whole: (*checker).doubts,
		},
		{
			ID:    source.AfterEnd,
			Title: "data after the end record",
			Description: "The file has data after its end record and was read leniently: two files joined, whose base and start " +
				"addresses may differ. An error until you accept it by name.",
			whole: (*checker).doubts,
		},
		{
			ID:    source.SkippedLine,
			Title: "lines that are not records and were skipped",
			Description: "A line does not begin with a record mark and was skipped leniently: a comment, or a record damaged beyond " +
				"recognition. An error until you accept it by name.",
			whole: (*checker).doubts,
		},
		{
			ID:    source.ShortWord,
			Title: "words of memory text with too few digits",
			Description: "A word of memory text has fewer digits than the others and was read leniently with zeros in front: a digit may " +
				"be lost. An error until you accept it by name.",
			whole: (*checker).doubts,
		},
		{
			ID:    source.LeftOut,
			Title: "sections of a program that would not be programmed",
			Description: "A section of an ELF file has contents but is in no segment that loads, so the image does not contain it. An " +
				"error until you accept it by name.",
			whole: (*checker).doubts,
		},
		{ID: doubtful, Severity: source.Note, Title: "other doubts about an input",
			Description: "A note: what else looked wrong about a file that could be read.",
			whole:       (*checker).doubts},
	}
}

// RuleOf returns the rule of an ID, or nil.
func RuleOf(id string) *Rule {
	i := slices.IndexFunc(Rules(), func(r *Rule) bool { return r.ID == id })
	if i < 0 {
		return nil
	}
	return rules[i]
}

// RuleIDs returns the IDs of all rules.
func RuleIDs() []string {
	var ids []string
	for _, r := range Rules() {
		ids = append(ids, r.ID)
	}
	return ids
}
