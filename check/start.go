package check

import (
	"encoding/binary"
	"fmt"
	"math/bits"
	"slices"
	"strings"

	"mexalt/checksum"
	"mexalt/device"
	"mexalt/memory"
)

// startRecord finds a start address at which the image holds nothing.
func (c *checker) startRecord() {
	s := c.part.Image.Start
	at := s.Address()
	if s.Kind == memory.NoStart || c.part.Image.Count(memory.Span{First: at, Last: at}) == 1 {
		return
	}
	c.addMissing(Finding{Severity: Warning, Rule: StartRecord, Where: memory.Span{First: at, Last: at}, What: "the start address lies where the image holds nothing",
		Expected: "a byte of the image there", Advice: "cut off, or of another part? -start none leaves it out when merging"})
}

// starts finds parts whose start addresses differ.
func (c *checker) starts(parts []memory.Part) {
	var first *memory.Part
	for i, p := range parts {
		switch s := p.Image.Start; {
		case s.Kind == memory.NoStart:
		case first == nil:
			first = &parts[i]
		case first.Image.Start != s:
			c.addMissing(Finding{Severity: Warning, Rule: TwoStarts, Where: memory.Span{First: s.Address(), Last: s.Address()},
				What:     fmt.Sprintf("%s starts at %s, %s at %s", p.Name, memory.FormatAddress(s.Address()), first.Name, memory.FormatAddress(first.Image.Start.Address())),
				Expected: "one start address", Advice: "say which when merging (-start)"})
		}
	}
}

// toldOf reports whether the region that should hold an address is required
// and empty, which is a finding of its own.
func (c *checker) toldOf(at uint64) bool {
	r := c.m.RegionAt(at)
	return r != nil && r.Required && c.part.Image.Count(r.Span) == 0
}

// start holds what the part executes first against the map.
func (c *checker) start() {
	switch at := c.m.Start.At; c.m.Start.Kind {
	case device.StartInstruction:
		name := ""
		if r := c.m.Region(c.m.Enters); r != nil {
			at, name = r.Span.First, r.Name
		} else if r := c.m.RegionAt(at); r != nil {
			name = r.Name
		}
		c.instruction(at, name)
	case device.StartVectors:
		c.vectors(at)
	}
}

func (c *checker) instruction(at uint64, region string) {
	const size = 2
	where := memory.Span{First: at, Last: at + size - 1}
	var b [size]byte
	if c.toldOf(at) {
		return
	}
	if !c.part.Image.ReadAt(b[:], at) {
		c.addMissing(Finding{Rule: StartMissing, Name: region, Where: where, Region: region, What: "start-up goes here, and the image holds nothing",
			Expected: fmt.Sprintf("the first instruction of region %s", region), Advice: "merge the part that belongs here, or set the configuration so that start-up goes elsewhere"})
		return
	}
	if mem := c.m.MemoryAt(at); mem != nil && b[0] == mem.Erased && b[1] == mem.Erased {
		c.add(Finding{Rule: StartErased, Name: region, Where: where, What: fmt.Sprintf("the first instruction is % X, as erased", b),
			Expected: "an instruction", Advice: "a part that begins later, or a file that lost its beginning?"})
	}
}

func (c *checker) vectors(at uint64) {
	var b [8]byte
	where := memory.Span{First: at, Last: at + 7}
	s := c.m.Start
	if c.toldOf(at) {
		return
	}
	if !c.part.Image.ReadAt(b[:], at) {
		c.addMissing(Finding{Rule: StartMissing, Where: where, What: "stack and reset vector are not there", Expected: "eight bytes at the start of the vector table",
			Advice: "merge the part that holds the vector table"})
		return
	}
	stack, target := uint64(binary.LittleEndian.Uint32(b[:])), uint64(binary.LittleEndian.Uint32(b[4:]))
	if span, ok := c.m.Names()[s.Stack]; ok {
		// The stack grows down, so that it may begin right above its memory.
		inside := stack > span.First && stack-1 <= span.Last
		if !inside {
			c.add(Finding{Rule: StartStack, Where: memory.Span{First: at, Last: at + 3}, What: fmt.Sprintf("the initial stack is %s", memory.FormatAddress(stack)),
				Expected: fmt.Sprintf("inside %s %s, or right above it", s.Stack, span), Advice: "not a vector table, or linked for another part"})
		} else if s.StackAlign > 1 && stack%s.StackAlign != 0 {
			c.add(Finding{Rule: StartStack, Where: memory.Span{First: at, Last: at + 3}, What: fmt.Sprintf("the initial stack is %s", memory.FormatAddress(stack)),
				Expected: fmt.Sprintf("a multiple of %d", s.StackAlign), Advice: "align it in the linker script"})
		}
	}
	where.First = at + 4
	add := func(what, expected, advice string) {
		c.add(Finding{Rule: StartTarget, Where: where, What: fmt.Sprintf("the reset target is %s, %s", memory.FormatAddress(target), what), Expected: expected, Advice: advice})
	}
	code := target
	if s.OddTarget {
		if target&1 == 0 {
			add("an even address", "bit 0 set, as it chooses the instruction set", "not a vector table, or a function's address taken without it")
		}
		code = target &^ 1
	}
	mem := c.m.MemoryAt(code)
	var first [2]byte
	if span, ok := c.m.Names()[s.Target]; ok && !span.Contains(code) {
		add("outside region "+s.Target, fmt.Sprintf("inside %s", span), "linked for another address")
	} else if !c.part.Image.ReadAt(first[:], code) {
		add("where the image holds nothing", "programmed bytes", "a part is missing, or linked for another address")
	} else if mem != nil && first[0] == mem.Erased && first[1] == mem.Erased {
		c.add(Finding{Rule: StartErased, Where: memory.Span{First: code, Last: code + 1}, What: fmt.Sprintf("the first instruction is % X, as erased", first),
			Expected: "an instruction", Advice: "a file that lost a part?"})
	}
}

// config holds the configuration words that the image carries against their
// definitions.
func (c *checker) config() {
	for i := range c.m.Config {
		w := &c.m.Config[i]
		value, ok := w.In(c.part.Image)
		if !ok {
			continue
		}
		if odd := (value ^ w.Default) &^ w.Defined(); odd != 0 {
			c.add(Finding{Severity: Error, Rule: ConfigUndefined, Name: w.Name, Where: w.Span(),
				What:     fmt.Sprintf("%s is %s, with undefined bits %s changed", w.Name, w.Format(value), bitList(odd)),
				Expected: fmt.Sprintf("these as delivered, in %s", w.Format(w.Default)), Advice: "device -explain shows the fields, -compose makes a value"})
		}
		for j := range w.Fields {
			c.field(w, &w.Fields[j], value)
		}
	}
}

// bitList names the bits that are set.
func bitList(v uint64) string {
	var names []string
	for ; v != 0; v &= v - 1 {
		names = append(names, fmt.Sprint(bits.TrailingZeros64(v)))
	}
	return strings.Join(names, ", ")
}

func (c *checker) field(w *device.Word, f *device.Field, word uint64) {
	v := f.Value(f.Of(word))
	if v == nil {
		if len(f.Values) > 0 {
			var known []string
			for _, k := range f.Values {
				known = append(known, fmt.Sprintf("%d (%s)", k.Value, k.Meaning))
			}
			c.add(Finding{Rule: ConfigUndefined, Name: f.Name, Where: w.Span(), What: fmt.Sprintf("%s is %d, which is not defined", f.Name, f.Of(word)),
				Expected: strings.Join(known, ", "), Advice: "device -compose makes a value"})
		}
		return
	}
	if v.Hazard != "" {
		c.add(Finding{Rule: ConfigHazard, Name: f.Name, Where: w.Span(), What: fmt.Sprintf("%s: %s; %s", f.Name, v.Meaning, v.Hazard),
			Expected: "a value that can be undone", Advice: "if it is meant, accept it by name: -accept " + ConfigHazard + ":" + f.Name})
	}
	for _, name := range sortedKeys(v.Requires) {
		otherWord, other := c.m.Field(name)
		if other == nil {
			continue
		}
		value, _ := otherWord.In(c.part.Image)
		meaning := fmt.Sprint(other.Of(value))
		if is := other.Value(other.Of(value)); is != nil {
			meaning = is.Meaning
		}
		if meaning != v.Requires[name] {
			c.add(Finding{Rule: ConfigConflict, Name: f.Name, Where: w.Span(), What: fmt.Sprintf("%s (%s) does not go with %s (%s)", f.Name, v.Meaning, other.Name, meaning),
				Expected: fmt.Sprintf("%s: %s", other.Name, v.Requires[name]), Advice: "change one of the two"})
		}
	}
}

func sortedKeys(m map[string]string) []string {
	var keys []string
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// bootSection holds the size that configuration gives a region against where
// its part really begins, and looks for the setting that fits.
func (c *checker) bootSection() {
	for i := range c.m.Config {
		w := &c.m.Config[i]
		word, _ := w.In(c.part.Image)
		for j := range w.Fields {
			f := &w.Fields[j]
			for name := range regionsSet(f) {
				r := c.m.Region(name)
				if r == nil || r.Role != device.Bootloader {
					continue
				}
				c.bootRegion(w, f, word, r)
			}
		}
	}
}

func regionsSet(f *device.Field) map[string]bool {
	names := map[string]bool{}
	for _, v := range f.Values {
		for name := range v.Sets {
			names[name] = true
		}
	}
	return names
}

func (c *checker) bootRegion(w *device.Word, f *device.Field, word uint64, r *device.Region) {
	// The part begins where a run does, in the region as one of the settings
	// makes it.
	begins := func(at uint64) bool {
		m := c.part.Image
		if m.Count(memory.Span{First: at, Last: at}) == 0 {
			return false
		}
		if at > 0 && m.Count(memory.Span{First: at - 1, Last: at - 1}) == 0 {
			return true
		}
		return m.Start.Kind != memory.NoStart && m.Start.Address() == at
	}
	if begins(r.Span.First) || c.part.Image.Count(r.Span) == 0 && c.part.Image.Count(memory.Span{First: 0, Last: r.Span.First}) == 0 {
		return
	}
	for k := range f.Values {
		v := &f.Values[k]
		other := c.m.With(f, v.Value, c.part.Image).Region(r.Name)
		if other == nil || other.Span == r.Span || !begins(other.Span.First) {
			continue
		}
		now := f.Value(f.Of(word))
		meaning := fmt.Sprint(f.Of(word))
		if now != nil {
			meaning = now.Meaning
		}
		c.add(Finding{Rule: BootSection, Name: f.Name, Where: memory.Span{First: other.Span.First, Last: other.Span.First}, Region: r.Name,
			What:     fmt.Sprintf("the bootloader begins at %s, but %s (%s) makes the boot section begin at %s", memory.FormatAddress(other.Span.First), f.Name, meaning, memory.FormatAddress(r.Span.First)),
			Expected: fmt.Sprintf("%s: %s", f.Name, v.Meaning), Advice: fmt.Sprintf("set %s to %s, or link the bootloader for %s", w.Name, w.Format(word&^f.Mask()|v.Value<<f.Low), memory.FormatAddress(r.Span.First))})
		return
	}
}

// checksums holds the values that the map declares against those computed.
// Where the boot section is not what it should be, neither are their places.
func (c *checker) checksums() {
	if slices.ContainsFunc(c.found, func(f Finding) bool { return f.Rule == BootSection }) {
		return
	}
	for _, d := range c.m.Checksums {
		k, err := checksum.KindOf(d.Kind)
		if err != nil {
			c.addMissing(Finding{Rule: ChecksumWrong, Name: d.Name, Where: memory.Span{First: d.At, Last: d.At}, Region: d.Region,
				What: fmt.Sprintf("%s cannot be computed: %s", d.Name, err), Expected: "a kind that checksum -kinds lists", Advice: "correct the map"})
			continue
		}
		if c.part.Image.Count(d.In) == 0 {
			continue // its part is missing, and that is told
		}
		place, _ := memory.SpanOf(d.At, uint64(k.Size()))
		mem := c.m.MemoryAt(d.At)
		erased := byte(0xFF)
		if mem != nil {
			erased = mem.Erased
		}
		stored := make([]byte, k.Size())
		c.part.Image.ReadAt(stored, d.At)
		absent := c.part.Image.Count(place) < place.Size() || !slices.ContainsFunc(stored, func(b byte) bool { return b != erased })
		how := fmt.Sprintf("checksum -kind %s -in %s -store %s -order %s", d.Kind, d.In.Range(), memory.FormatAddress(d.At), d.Order)
		if absent {
			c.addMissing(Finding{Rule: ChecksumAbsent, Name: d.Name, Where: place, Region: d.Region, What: fmt.Sprintf("%s is not there", d.Name),
				Expected: fmt.Sprintf("%s over %s", d.Kind, d.In), Advice: "compute and store it: " + how})
			continue
		}
		feed := checksum.Feed{Spans: []memory.Span{d.In}, Hole: &erased, Erased: erased}
		if _, inside := d.In.Meet(place); inside {
			feed.Place, feed.Slot = &place, checksum.Slot(slices.Index(checksum.SlotWords, d.Slot))
		}
		value, err := feed.Sum(k, c.part.Image, 1)
		if err != nil {
			c.add(Finding{Rule: ChecksumWrong, Name: d.Name, Where: place, What: fmt.Sprintf("%s cannot be computed: %s", d.Name, err), Expected: fmt.Sprintf("%s over %s", d.Kind, d.In), Advice: "correct the map"})
			continue
		}
		order := checksum.Little
		if d.Order == "big" {
			order = checksum.Big
		}
		if want, _ := value.Stored(order, 0); string(want) != string(stored) {
			c.add(Finding{Rule: ChecksumWrong, Name: d.Name, Where: place, What: fmt.Sprintf("%s is % X", d.Name, stored),
				Expected: fmt.Sprintf("% X: %s %s over %s, %s-endian", want, d.Kind, value, d.In, d.Order), Advice: "the image was changed after it was stored, or the part is another; store it anew: " + how})
		}
	}
}
