package check

import (
	"mexalt/device"
	"mexalt/memory"
)

// Fault is why a part executes nothing that an image holds.
type Fault uint8

// The faults.
const (
	Starts      Fault = iota // none: code is there
	Unsaid                   // the map does not say how the part starts
	Blank                    // what start-up reads first is erased, or the image holds nothing there
	WildStack                // the initial stack lies outside its memory, or is not aligned
	EvenTarget               // the bit is missing that chooses the instruction set
	WildTarget               // the reset target lies outside its region, or in no memory
	BlankTarget              // it is erased, or the image holds nothing there
)

// Entry is where a part, or what one region holds, starts with an image. Rehearsals and
// checks both go by it.
type Entry struct {
	Start  *device.Start
	At     uint64         // what start-up reads: the vectors, or the first instruction
	Where  memory.Span    // and all of it
	Region *device.Region // in which that lies; nil is none
	Stack  uint64         // vectors: the initial stack
	Target uint64         // vectors: the reset target, as it stands there
	Code   uint64         // the first instruction, in the memory itself where the target is an alias of it
	Fault  Fault
}

// EntryOf returns where a part starts with an image, whose holes read as erased.
func EntryOf(m *device.Map, image *memory.Image) Entry {
	if len(m.Starts) == 0 {
		return Entry{Fault: Unsaid}
	}
	return entryBy(m, &m.Starts[0], image)
}

// entryBy returns where one of the map's starts leads.
func entryBy(m *device.Map, s *device.Start, image *memory.Image) Entry {
	e := Entry{Start: s, At: s.At}
	if mem := m.MemoryAt(s.At); mem != nil && mem.Kind == device.ROM { // what is there came with the part
		e.Where, e.Region, e.Code = memory.Span{First: s.At, Last: s.At}, m.RegionAt(s.At), s.At
		return e
	}
	if s.Kind == device.StartInstruction {
		if r := m.Region(m.Enters); r != nil && s == &m.Starts[0] {
			e.At = r.Span.First
		}
		e.Where, e.Region, e.Code = memory.Span{First: e.At, Last: e.At + 1}, m.RegionAt(e.At), e.At
		if isErased(m, image, e.At) {
			e.Fault = Blank
		}
		return e
	}
	e.Where, e.Region = memory.Span{First: s.At, Last: s.At + uint64(2*s.Width) - 1}, m.RegionAt(s.At)
	if len(unerased(m, image, e.Where)) == 0 {
		e.Fault = Blank
		return e
	}
	e.Stack, e.Target = s.VectorsOf(readErased(m, image, e.Where))
	e.Code = e.Target
	if s.OddTarget {
		e.Code &^= 1
	}
	e.Code = m.Unaliased(e.Code)
	stack, limited := m.Names().Span(s.Stack)
	within, bound := m.Names().Span(s.Target)
	switch {
	case limited && (e.Stack <= stack.First || e.Stack-1 > stack.Last): // it grows down, and may begin right above
		e.Fault = WildStack
	case limited && s.StackAlign > 1 && e.Stack%s.StackAlign != 0:
		e.Fault = WildStack
	case s.OddTarget && e.Target&1 == 0:
		e.Fault = EvenTarget
	case bound && !within.Contains(e.Code) || m.MemoryAt(e.Code) == nil:
		e.Fault = WildTarget
	case isErased(m, image, e.Code):
		e.Fault = BlankTarget
	}
	return e
}

// readErased returns what is read at a span: holes are erased.
func readErased(m *device.Map, image *memory.Image, s memory.Span) []byte {
	b := make([]byte, s.Size())
	for i := range b {
		b[i] = m.ErasedAt(s.First + uint64(i))
	}
	image.ReadAt(b, s.First)
	return b
}

// unerased returns the bytes of a span that are not erased.
func unerased(m *device.Map, image *memory.Image, s memory.Span) (list []byte) {
	for i, b := range readErased(m, image, s) {
		if b != m.ErasedAt(s.First+uint64(i)) {
			list = append(list, b)
		}
	}
	return list
}

// isErased reports whether two bytes, the least that an instruction has, are erased.
func isErased(m *device.Map, image *memory.Image, at uint64) bool {
	return at == ^uint64(0) || len(unerased(m, image, memory.Span{First: at, Last: at + 1})) == 0
}
