package device

import "mexalt/source/settings"

// The file as it is written. This is the one table of keys: the loader reads by
// it, [Schema] is made of it, and the documentation's tables are.
//
// The tag doc says what a key means; one, which words it may be; must is set where
// it may not be missing; list is the least number of elements.
type (
	mapFile struct {
		Name         string                   `toml:"name" doc:"the device" must:"yes"`
		Base         string                   `toml:"base" doc:"the map that this variant is based on; it supplies every key the variant does not set"`
		Drop         settings.Texts           `toml:"drop"          doc:"names of what the base has and this one does not"`
		Identity     settings.Texts           `toml:"identity" doc:"the device's identity (signature) bytes in hex; a list if revisions differ"`
		IdentityMask string                   `toml:"identity-mask" doc:"which bits of the identity count, as hex digits; the others can be a revision"`
		IdentityAt   settings.Expression      `toml:"identity-at"   doc:"where an image contains the identity of its device"`
		IdentityRead settings.Expression      `toml:"identity-read-at" doc:"where a debugger reads the identity from the device itself: outside the memories that are programmed"`
		Machine      string                   `toml:"machine" doc:"the machine of its programs, as an ELF file names it and inspect shows it"`
		ByteOrder    string                   `toml:"byte-order" doc:"byte order of its programs" one:"little big"`
		Memories     []memoryFile             `toml:"memory" doc:"its memories" must:"yes"`
		Regions      []regionFile             `toml:"region"        doc:"how its firmware is divided"`
		Starts       settings.List[startFile] `toml:"start"         doc:"how it starts; several if each region has its own"`
		Checksums    []checksumFile           `toml:"checksum"      doc:"checksums that the bootloader or the device checks"`
		Config       []wordFile               `toml:"config"        doc:"configuration words"`
		Groups       []groupFile              `toml:"group"         doc:"settings whose bits are in several fields"`
		Link         *linkFile                `toml:"link"          doc:"the link over which it is programmed"`
		Loader       *loaderFile              `toml:"loader"        doc:"how the bootloader on it behaves, for rehearsals"`
		Ports        []portFile               `toml:"port" doc:"ways in for a programmer; without them one port is assumed, which works unless an effect closes it"`
		Wishes       []wishFile               `toml:"wish"          doc:"everyday settings by name, for config"`
		Speeds       []speedFile              `toml:"speed"         doc:"the highest clock at each supply voltage"`
	}
	portFile struct {
		Name  string           `toml:"name" doc:"name: letters, digits, _ and -" must:"yes"`
		Needs map[string]any   `toml:"needs" doc:"what it needs to work: clock = true, a running clock; wired = true, a board that says that it is wired (others are assumed to be wired if no board is given); FIELD = \"MEANING\""`
		Can   settings.Texts   `toml:"can" doc:"what it can do: identify, read, program, erase-all, words" must:"yes"`
		When  []map[string]any `toml:"when" doc:"what it can do otherwise, { FIELD = \"MEANING\", can = [\"identify\"] }: the first that applies counts; can = [] if nothing"`
	}
	wishFile struct {
		Name string            `toml:"name" doc:"what is wished: loader first"  must:"yes"`
		Set  map[string]string `toml:"set"  doc:"fields and their meanings"     must:"yes"`
	}
	speedFile struct {
		Supply string `toml:"supply" doc:"supply voltages, as >= 2.7 V"            must:"yes"`
		Clock  string `toml:"clock"  doc:"clock frequencies at these, as <= 8 MHz" must:"yes"`
	}
	needsFile struct {
		Clock     string `toml:"clock"     doc:"a clock source on the board"                                          one:"crystal signal"`
		Frequency string `toml:"frequency" doc:"frequencies of it, as 4 MHz..16 MHz"`
		Supply    string `toml:"supply"    doc:"supply voltages, as >= 2.7 V"`
		Pin       string `toml:"pin"       doc:"a pin that the board connects"`
		Free      string `toml:"free"      doc:"a pin that the board uses for nothing else, because this value takes it"`
	}
	givesFile struct {
		Clock  string              `toml:"clock"  doc:"the frequency of the clock, as 8 MHz; board for that of the board's clock source"`
		Divide settings.Expression `toml:"divide" doc:"what the clock is divided by"`
	}
	memoryFile struct {
		Name      string                `toml:"name" doc:"name: letters, digits and _" must:"yes"`
		Kind      string                `toml:"kind" doc:"memory type; otp is one-time programmable" must:"yes" one:"flash eeprom ram rom otp config"`
		First     settings.Expression   `toml:"first" doc:"its first address, in the device" must:"yes"`
		Size      settings.Expression   `toml:"size" doc:"in bytes" must:"yes"`
		Image     settings.Expression   `toml:"image-first" doc:"its first address in image files, if different from first: EEPROM and configuration memory often start at 0 in the device"`
		Unit      settings.Expression   `toml:"unit" doc:"bytes per address, for a device that addresses words; image files always address bytes"`
		Erased    settings.Expression   `toml:"erased"       doc:"what an erased byte reads as (0xFF)"`
		Page      settings.Expression   `toml:"page"         doc:"bytes programmed in one operation"`
		Granule   settings.Expression   `toml:"granule"      doc:"smallest number of bytes that can be written"`
		WriteOnce bool                  `toml:"write-once"   doc:"whether a granule can be written only once after each erase"`
		Corrects  bool                  `toml:"ecc" doc:"whether each granule has error correction, so that a granule may be unreadable after an interrupted write"`
		Bears     settings.Expression   `toml:"endurance"    doc:"how many erases of a sector the data sheet promises"`
		Sectors   []sectorsFile         `toml:"sectors" doc:"erase sectors in address order; their sizes must add up to the memory's size"`
		Aliases   []settings.Expression `toml:"aliases"      doc:"other addresses where the device maps this memory"`
		Erase     *timesFile            `toml:"erase-time"   doc:"time to erase a sector"`
		Program   *timesFile            `toml:"program-time" doc:"time to program a page, or a granule"`
	}
	sectorsFile struct {
		Count settings.Expression `toml:"count"      doc:"how many (1)"`
		Size  settings.Expression `toml:"size"       doc:"bytes in each"                                       must:"yes"`
		Erase *timesFile          `toml:"erase-time" doc:"time to erase one of them (the memory's erase-time)"`
	}
	timesFile struct {
		Typical string `toml:"typical" doc:"as a text: 40 ms, 1.5 s, 16 us"`
		Most    string `toml:"most"    doc:"the data sheet's maximum"`
	}
	linkFile struct {
		Baud     settings.Expression `toml:"baud"   doc:"bits a second"                           must:"yes"`
		Bits     settings.Expression `toml:"bits"   doc:"bits for each byte, with its frame (10)"`
		Packet   settings.Expression `toml:"packet" doc:"bytes of data in a packet"`
		Overhead settings.Expression `toml:"around" doc:"bytes of overhead for each packet"`
	}
	loaderFile struct {
		Retry     string            `toml:"retry" doc:"after an interrupted update: always, it repeats the complete plan, whatever runs; until-new, unless the new firmware runs; skips, it leaves out what is already correct; resumes, it continues where it was (always)" one:"always until-new skips resumes"`
		ReadFault string            `toml:"read-fault" doc:"if it reads a granule that error correction cannot repair: stops, it starts nothing; fails, the guard is not valid (stops)" one:"stops fails"`
		CanWrite  settings.Texts    `toml:"can-write" doc:"memories with configuration words that it can write; an empty list if it can write none"`
		Checks    []loaderCheckFile `toml:"checks" doc:"what it checks besides checksums before it starts a region: a magic value, a pin"`
		Swap      *swapFile         `toml:"swap"       doc:"how it swaps two slots, if it moves new firmware to the slot where it runs"`
	}
	swapFile struct {
		From    string         `toml:"from" doc:"the region in which a new firmware arrives" must:"yes"`
		To      string         `toml:"to" doc:"the region in which it runs" must:"yes"`
		Pending contentAtFile  `toml:"pending" doc:"the value there when a swap is requested" must:"yes"`
		Done    *contentAtFile `toml:"done"    doc:"the value there when it was done"`
		Marks   string         `toml:"marks" doc:"the span of its log, which is erased before a swap and programmed during it" must:"yes"`
		Firm    bool           `toml:"firm" doc:"whether it programs each mark again before it uses it, so that a torn mark reads the same afterwards"`
	}
	contentAtFile struct {
		At    settings.Expression `toml:"at"    doc:"its address"                            must:"yes"`
		Bytes string              `toml:"bytes" doc:"bytes, as hex digits"`
		Text  string              `toml:"text"  doc:"a text instead, with backslash escapes"`
	}
	loaderCheckFile struct {
		Region string              `toml:"region" doc:"the region that it then starts"                                 must:"yes"`
		At     settings.Expression `toml:"at"     doc:"its address"`
		Bytes  string              `toml:"bytes"  doc:"bytes, as hex digits"`
		Text   string              `toml:"text"   doc:"a text instead, with backslash escapes"`
		Pin    string              `toml:"pin"    doc:"a pin instead; a rehearsal assumes that it has the right level"`
	}
	regionFile struct {
		Name     string                   `toml:"name" doc:"name: letters, digits and _" must:"yes"`
		Role     string                   `toml:"role" doc:"what it is for; not needed with like" one:"bootloader application data reserved"`
		First    settings.Expression      `toml:"first"    doc:"its first address"`
		Size     settings.Expression      `toml:"size"     doc:"in bytes"`
		Last     settings.Expression      `toml:"last"     doc:"its last address; give two of first, size and last"`
		Inside   string                   `toml:"inside"   doc:"the region that contains it: a slot, for its header"`
		Like     string                   `toml:"like"     doc:"copy role, size and inner regions from this region (for a second slot)"`
		Unit     settings.Expression      `toml:"unit" doc:"bytes that first, last and size count here, as the device's data sheet gives them (1)"`
		Required bool                     `toml:"required" doc:"whether a complete image must have bytes here"`
		ClockAt  *fieldAtFile             `toml:"clock-at" doc:"where its program contains the frequency of the clock that it was built for, in Hz"`
		Holds    settings.List[holdsFile] `toml:"holds" doc:"bytes or texts at addresses, by which its contents are recognised; unknown if there are none"`
	}
	// holdsFile may be the word unknown.
	holdsFile struct {
		At    settings.Expression `toml:"at"    doc:"address, in the region"                 must:"yes"`
		Bytes string              `toml:"bytes" doc:"bytes, as hex digits"`
		Text  string              `toml:"text"  doc:"a text instead, with backslash escapes"`

		unknown bool
	}
	startFile struct {
		Kind       string              `toml:"kind" doc:"at a first instruction, or by a table of vectors: initial stack and reset target" one:"instruction vectors" must:"yes"`
		At         settings.Expression `toml:"at" doc:"its address" must:"yes"`
		Stack      string              `toml:"stack"       doc:"vectors: the RAM in which the initial stack must be, or a region of it"`
		StackAlign settings.Expression `toml:"stack-align" doc:"vectors: what the initial stack must be a multiple of; a power of two"`
		Target     string              `toml:"target"      doc:"vectors: the region in which the reset target must be"`
		OddTarget  bool                `toml:"odd-target" doc:"vectors: whether bit 0 of the target selects the instruction set, and must be set"`
		Width      settings.Expression `toml:"width"       doc:"vectors: bytes in each, 2 or 4 (4)"`
		Order      string              `toml:"order" doc:"vectors: which byte comes first (little)" one:"little big"`
	}
	checksumFile struct {
		Name     string              `toml:"name"       doc:"name (the region's name, or the algorithm's)"`
		Kind     string              `toml:"kind" doc:"the algorithm, by one of its listed names" must:"yes"`
		In       settings.Texts      `toml:"in" doc:"the span that it covers, or several in order" must:"yes"`
		Skip     settings.Texts      `toml:"skip"       doc:"spans that it does not cover"`
		Holes    settings.Expression `toml:"holes"      doc:"what holes count as (the erased value)"`
		Swap     settings.Expression `toml:"swap"       doc:"reverse the bytes in words of 2, 4 or 8 bytes before computing"`
		LengthAt *fieldAtFile        `toml:"length-at"  doc:"where the image contains the number of covered bytes"`
		EndAt    *fieldAtFile        `toml:"end-at"     doc:"where the image contains the last covered address"`
		At       settings.Expression `toml:"at"         doc:"where the value is stored; fed.last + 1 is right after the covered bytes"`
		PlaceAt  *fieldAtFile        `toml:"place-at"   doc:"where the image contains the address of the value"`
		Size     settings.Expression `toml:"size"       doc:"bytes in which the value is stored (as many as it has)"`
		Order    string              `toml:"order" doc:"byte order of the stored value (little)" one:"little big"`
		Slot     string              `toml:"slot" doc:"what the bytes of the value count as, if the span contains them" one:"skip zero erased"`
		Guards   string              `toml:"guards" doc:"the region that starts only if this checksum is valid; with several, the first valid one in map order"`
		By       string              `toml:"checked-by" doc:"who checks it before the region starts: loader, the bootloader; hardware, the device itself, if it starts there directly (loader)" one:"loader hardware"`
		RankAt   *fieldAtFile        `toml:"rank-at" doc:"where the guarded region contains its rank, such as a version or a counter; the region with the highest rank starts"`
	}
	fieldAtFile struct {
		At     settings.Expression `toml:"at" doc:"its address" must:"yes"`
		Width  settings.Expression `toml:"width"  doc:"bytes, 1 to 8 (4)"`
		Order  string              `toml:"order" doc:"byte order (little)" one:"little big"`
		Offset settings.Expression `toml:"offset" doc:"added to the value; can be negative: -1 if the image stores the address after the end"`
	}
	wordFile struct {
		Name         string              `toml:"name"          doc:"name"                                                     must:"yes"`
		At           settings.Expression `toml:"at"            doc:"address, in images"                                       must:"yes"`
		Width        settings.Expression `toml:"width"         doc:"bytes, 1 to 8"                                            must:"yes"`
		Order        string              `toml:"order" doc:"byte order (little)" one:"little big"`
		Default      settings.Expression `toml:"default"       doc:"value of a delivered device (0)"`
		Undefined    bool                `toml:"undefined"     doc:"allow a delivered value that no field defines"`
		ComplementAt settings.Expression `toml:"complement-at" doc:"where the device needs its complement, all bits inverted"`
		Fields       []fieldFile         `toml:"field"         doc:"its fields"`
	}
	fieldFile struct {
		Name   string              `toml:"name"   doc:"name"                                                       must:"yes"`
		Bits   settings.Expression `toml:"bits"   doc:"one bit, 7, or several, \"4..5\""                           must:"yes"`
		Values []valueFile         `toml:"values" doc:"meanings of its values; without them the field is a number"`
	}
	groupFile struct {
		Name   string         `toml:"name"   doc:"name"                                           must:"yes"`
		Fields settings.Texts `toml:"fields" doc:"its fields, the one with the lowest bits first" must:"yes"`
		Values []valueFile    `toml:"values" doc:"meanings of its values"                         must:"yes"`
	}
	valueFile struct {
		Value        settings.Expression            `toml:"value" doc:"one value" must:"yes"`
		Meaning      string                         `toml:"meaning" doc:"meaning" must:"yes"`
		Hazard       string                         `toml:"hazard"        doc:"why this value cannot be undone, or locks you out"`
		HazardUnless map[string]string              `toml:"hazard-unless" doc:"fields and meanings that together make it safe"`
		Sets         map[string]settings.Expression `toml:"sets" doc:"the size of a region, { bootloader = \"4K\" }, or the region that starts, { start = \"application\" }"`
		Requires     map[string]string              `toml:"requires"      doc:"fields and the meanings they must have with this value"`
		Needs        *needsFile                     `toml:"needs"         doc:"what this value needs of the board"`
		Gives        *givesFile                     `toml:"gives"         doc:"the clock that follows from it"`
		Protects     settings.Texts                 `toml:"protects"      doc:"spans that cannot be erased or programmed while it is set"`
		Effect       string                         `toml:"effect" doc:"what the device does after the next reset: locked, nothing can be read or programmed until a complete erase; closed, the programming port does not answer; stopped, it does not run unless the board has what the value needs" one:"locked closed stopped"`
	}
)

// unknownWord stands where nothing tells that a region's part is there.
const unknownWord = "unknown"

// Word takes the word unknown.
func (h *holdsFile) Word(word string) bool {
	h.unknown = word == unknownWord
	return h.unknown
}

// Words are the words that may stand in the place of the table.
func (h *holdsFile) Words() []string { return []string{unknownWord} }
