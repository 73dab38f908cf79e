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
		{ID: "unreadable", Title: "a part that cannot be read, with line and column",
			Description: "A part that is damaged or not there. What is said of the image then holds for the other parts alone.",
			whole:       (*checker).unreadable},
		{
			ID:          "outside-memory",
			misplaced:   true,
			Title:       "bytes where the device has no memory",
			Description: "Bytes where the device has no memory: the wrong part, or placed at the wrong address. Where the part sees a memory at an alias, the advice moves the bytes.",
			each:        (*checker).outsideMemory,
		},
		{ID: "not-programmable", misplaced: true, Title: "bytes in RAM or ROM",
			Description: "Bytes in RAM or ROM, which a programmer cannot write; a linker left in initial data, say.",
			each:        (*checker).notProgrammable},
		{
			ID:          "boot-section",
			Complete:    true,
			Title:       "a boot section whose size does not fit where the bootloader lies",
			Description: "The bootloader begins elsewhere than at the boot section that configuration sets, or the application is in it: both addresses, and the setting that fits.",
			idle:        noBootSection, whole: (*checker).bootSection,
		},
		{ID: "region-overrun", misplaced: true, Title: "a part that runs over the end of its region",
			Description: "A part that runs over the end of its region: by how many bytes, into what, and from which source line on.",
			idle:        noRegion, each: (*checker).regionOverrun},
		{ID: "clash", Title: "addresses to which two parts give bytes",
			Description: "Two parts give the same address a byte, so that one would cover the other.",
			idle:        onePart, whole: (*checker).clash},
		{ID: "outside-region", misplaced: true, Title: "bytes in a memory, but in none of its regions",
			Description: "Bytes in a memory that has regions, but in none of them; of one part alone, outside its region.",
			idle:        noRegion, each: (*checker).outsideRegion},
		{ID: "reserved-area", misplaced: true, Title: "bytes in a reserved region",
			Description: "Bytes in a region of role reserved.",
			idle:        noReserved, each: (*checker).reservedArea},
		{ID: "one-time-area", Title: "bytes in one-time memory",
			Description: "Bytes in one-time memory, which every part would get for good.",
			idle:        noOneTime, each: (*checker).oneTimeArea},
		{ID: "missing-part", Title: "a required region that is empty",
			Description: "A region that the map requires, and in which the image contains nothing.",
			idle:        noRequired, whole: (*checker).missingPart},
		{
			ID:          "region-erased",
			Complete:    true,
			Title:       "a required region that holds only erased bytes",
			Description: "A required region that contains nothing but erased bytes next to its checksum: a stage before failed, and nothing was filled and summed.",
			idle:        noRequired, whole: (*checker).regionErased,
		},
		{
			ID:          "region-holds",
			Title:       "a region that does not hold what its part is known by",
			Description: "The map says by what a region's part is known, bytes or texts at places, and these are not there: another file, or a part that runs over into the region.",
			idle:        noHolds, whole: (*checker).regionHolds,
		},
		{
			ID:          "crosses-border",
			Complete:    true,
			Title:       "bytes that run on between an application and a bootloader",
			Description: "Bytes run on over the border between an application and a bootloader, and nothing shows that the bootloader is there: an application that has grown over it looks the same. What shows it: what the map says that the region holds, vectors that lead into it, a checksum of it, a start address at its first byte, or the parts that the image was made of.",
			idle:        noBootloader, whole: (*checker).crossesBorder,
		},
		{ID: "wrong-machine", Title: "a program for another machine",
			Description: "An ELF file is linked for another machine, or another order of bytes, than the map names.",
			idle:        noMachine, whole: (*checker).wrongMachine},
		{ID: "partial-granule", Title: "a granule that is only partly filled",
			Description: "A unit of writing that is partly given: the rest would be written with what the programmer sees fit.",
			idle:        noGranule, each: (*checker).partialGranule},
		{ID: "partial-page", Severity: source.Note, Title: "pages that are only partly filled",
			Description: "Pages that are partly given; filled out, every part gets the same.",
			idle:        noPage, each: (*checker).partialPage},
		{ID: "shared-sector", Complete: true, Severity: source.Warning, Title: "a sector in which two regions hold bytes",
			Description: "Two regions have bytes in one sector: erasing it to update one region destroys the other.",
			idle:        noSector, whole: (*checker).sharedSector},
		{ID: "start-missing", Complete: true, Title: "no bytes where the part starts",
			Description: "No bytes where the part starts. Where configuration says that start-up enters another region, that one counts.",
			idle:        noStart, whole: (*checker).startMissing},
		{ID: "start-erased", Complete: true, Title: "an erased first instruction",
			Description: "Erased bytes where the part starts: a first instruction of FF FF.",
			idle:        noStart, whole: (*checker).startErased},
		{ID: "start-stack", Complete: true, Title: "an initial stack outside RAM, or not aligned",
			Description: "Of parts that start by vectors: an initial stack outside its memory, or not aligned.",
			idle:        noVectors, whole: (*checker).startStack},
		{
			ID:          "start-target",
			Complete:    true,
			Title:       "a reset target outside its region, without bytes, or without the instruction-set bit",
			Description: "Of parts that start by vectors: a reset target outside its region, where the image contains nothing, or without the bit that chooses the instruction set.",
			idle:        noVectors, whole: (*checker).startTarget,
		},
		{ID: "start-record", Severity: source.Warning, Title: "a start address at which the image contains nothing",
			Description: "The start address in the file is where the image contains nothing.",
			idle:        noStartRecord, whole: (*checker).startRecord},
		{ID: "config-undefined", Title: "configuration bits or values that are not defined",
			Description: "Configuration bits that no field defines, changed from what they are as delivered; field values that are not defined.",
			idle:        noWords, whole: (*checker).configUndefined},
		{ID: "config-conflict", Title: "configuration values that contradict each other",
			Description: "A value that requires another field to mean something else.",
			idle:        noWords, whole: (*checker).configConflict},
		{ID: "config-hazard", Title: "configuration values that cannot be undone",
			Description: "A value that cannot be undone, or that shuts the part. An error until it is accepted by the field's name.",
			idle:        noWords, whole: (*checker).configHazard},
		{ID: "config-partial", Severity: source.Warning, Title: "a configuration word that is given in part",
			Description: "A configuration word of which the image gives some bytes only. It is judged as far as it is given.",
			idle:        noWords, whole: (*checker).configPartial},
		{ID: "checksum-absent", Complete: true, Title: "a declared checksum that is not there",
			Description: "A checksum that the map declares is not there, or erased.",
			idle:        noChecksum, whole: (*checker).checksumAbsent},
		{ID: "checksum-wrong", Complete: true, Title: "a declared checksum that is wrong",
			Description: "A checksum that the map declares is not what the image's bytes give.",
			idle:        noChecksum, whole: (*checker).checksumWrong},
		{
			ID:          "uncovered",
			Complete:    true,
			Severity:    source.Warning,
			Title:       "bytes of a guarded region that no checksum covers",
			Description: "A region is started where a checksum holds, and the checksum does not cover all of it: what is left out may be torn, or another version's, while it holds.",
			idle:        noGuard, whole: (*checker).uncovered,
		},
		{ID: "wrong-identity", Title: "identity bytes of another part",
			Description: "The image carries the identity of another part.",
			idle:        noIdentity, each: (*checker).wrongIdentity},
		{ID: "erased-stretch", Severity: source.Warning, Title: "an erased stretch in whole blocks inside a part, as of a file that lost some",
			Description: "Whole blocks of 512 bytes are erased, with bytes before and after: a copy that lost blocks looks like that.",
			each:        (*checker).erasedStretch},
		{
			ID:          "zero-stretch",
			Severity:    source.Note,
			Title:       "a stretch of zeros in whole blocks inside a part",
			Description: "Whole blocks of 512 bytes are 00, with bytes before and after: a copy that lost blocks may look like that, and so may a table.",
			each:        (*checker).zeroStretch,
		},
		{ID: "two-starts", Severity: source.Note, Title: "parts with start addresses that differ",
			Description: "Parts with different start addresses, as compiled files have them; a warning where the map's start is none of them.",
			idle:        onePart, whole: (*checker).twoStarts},
		{
			ID:          source.LostLine,
			Title:       "a file from which lines seem to be lost",
			Description: "A few whole records are left out between regular ones, as if lines were lost on the way. The hole would be filled, summed and programmed. An error until it is accepted by name.",
			whole:       (*checker).doubts,
		},
		{
			ID:          source.MovedLine,
			Title:       "a record that seems to stand on the wrong side of a base record",
			Description: "A record would carry on from its neighbours if it stood on the other side of the base record next to it, as if two lines were swapped. An error until it is accepted by name.",
			whole:       (*checker).doubts,
		},
		{ID: source.CountDiffers, Title: "a file that counts other records than it has",
			Description: "The count record counts more or fewer data records than there are: lines were lost or added. The file yields no image.",
			whole:       (*checker).doubts},
		{
			ID:          source.MissingEnd,
			Title:       "a file without its end record",
			Description: "The file ends without an end record, and was read leniently: a copy that was cut short looks like this. An error until it is accepted by name.",
			whole:       (*checker).doubts,
		},
		{
			ID:          source.AfterEnd,
			Title:       "records after the end record",
			Description: "Something follows the end record, and was read leniently: two files in one, of which the base and start addresses may differ. An error until it is accepted by name.",
			whole:       (*checker).doubts,
		},
		{
			ID:          source.SkippedLine,
			Title:       "lines that are no records, and were passed over",
			Description: "A line does not begin with a record mark, and was passed over leniently: a comment, or a record damaged beyond recognition. An error until it is accepted by name.",
			whole:       (*checker).doubts,
		},
		{
			ID:          source.ShortWord,
			Title:       "words of memory text with too few digits",
			Description: "A word of memory text has fewer digits than the others, and zeros were put before it leniently: a digit may be lost. An error until it is accepted by name.",
			whole:       (*checker).doubts,
		},
		{
			ID:          source.LeftOut,
			Title:       "sections of a program that would not be programmed",
			Description: "A section of an ELF file holds bytes and is in no segment that loads, so that it is not in the image. An error until it is accepted by name.",
			whole:       (*checker).doubts,
		},
		{ID: doubtful, Severity: source.Note, Title: "what else readers warned of",
			Description: "What was odd about a file that could be read, besides what the rules above report.",
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
