package check

import (
	"fmt"
	"strings"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// startRecord finds a start address at which the image holds nothing.
func (c *checker) startRecord() {
	s := c.part.Image.Start()
	at := s.Address()
	if s.Kind == memory.NoStart || c.part.Image.Holds(at) || c.part.Image.Holds(c.m.Unaliased(at)) {
		return
	}
	c.addMissing(Finding{
		Where:    &memory.Span{First: at, Last: at},
		What:     "the start address is where the image contains nothing",
		Expected: "a byte of the image there",
		Advice: operationAdvice("it may be cut off, or belong to another device; to leave it out", "merge",
			source.Setting{Key: "start", Value: "none"}),
	})
}

// twoStarts finds parts whose start addresses differ.
func (c *checker) twoStarts() {
	var starts []string
	seen := map[memory.Start]bool{}
	agrees := false
	said := c.m.StartAddresses(c.part.Image)
	for _, p := range c.parts {
		if p.Image == nil || p.Image.Start().Kind == memory.NoStart {
			continue
		}
		s := p.Image.Start()
		seen[s] = true
		starts = append(starts, fmt.Sprintf("%s at %s", p.Name, memory.FormatAddress(s.Address())))
		for _, a := range said {
			agrees = agrees || a == s.Address()
		}
	}
	if len(seen) < 2 {
		return
	}
	f := Finding{
		What:     "the inputs start at different addresses: " + strings.Join(starts, ", "),
		Expected: "one start address",
		Advice:   source.Advise("merging with the map keeps the one that the map says"),
	}
	if len(said) > 0 && !agrees {
		f.Severity = source.Warning
		f.Expected = "the map's start, " + memory.FormatAddress(said[0])
		f.Advice = source.Advise("an input may be linked for another start, or the map is wrong")
	}
	c.addMissing(f)
}

// entries returns how the image starts, by each start that the map gives, but those
// that are told already: where the part is missing that should hold them, or the boot
// section is not what it should be. Where nothing, or nothing but erased bytes, is in
// an optional region, nothing needs to start there, unless it is where the part itself starts.
func (c *checker) entries() (list []Entry) {
	for i := range c.m.Starts {
		e := entryBy(c.m, &c.m.Starts[i], c.part.Image)
		if mem := c.m.MemoryAt(e.At); c.blank(e.At) || c.moved() || mem != nil && mem.Kind == device.ROM {
			continue
		}
		if r := e.Region; i > 0 && r != nil && !r.Required && (c.part.Image.Count(r.Span) == 0 || c.erasedBeside(r)) {
			continue
		}
		list = append(list, e)
	}
	return list
}

// name is the name of the region in which something lies.
func (e *Entry) name() string {
	if e.Region == nil {
		return ""
	}
	return e.Region.Name
}

func (e *Entry) vectors() bool { return e.Start.Kind == device.StartVectors }

func (c *checker) startMissing() {
	for _, e := range c.entries() {
		switch {
		case e.Fault != Blank || c.part.Image.Count(e.Where) > 0:
		case e.vectors():
			c.addMissing(Finding{
				Where:    &e.Where,
				What:     "the stack and the reset vector are missing",
				Expected: fmt.Sprintf("%d bytes at the start of the vector table", e.Where.Size()),
				Advice:   source.Advise("merge the input that contains the vector table"),
			})
		default:
			c.addMissing(Finding{
				Name:     e.name(),
				Where:    &e.Where,
				Region:   e.name(),
				What:     "the device starts here, but the image has no bytes here",
				Expected: strings.TrimSuffix("the first instruction of region "+e.name(), " of region "),
				Advice: source.Advise("merge the input that belongs here, or change the configuration so that the device " +
					"starts elsewhere"),
			})
		}
	}
}

func (c *checker) startErased() {
	for _, e := range c.entries() {
		switch {
		case e.Fault == Blank && c.part.Image.Count(e.Where) > 0 && e.vectors():
			c.addAt(Finding{
				Where:    &e.Where,
				What:     "stack and reset vector are erased",
				Expected: "a vector table",
				Advice:   source.Advise("the code may begin at a higher address, or the file may be incomplete"),
			})
		case e.Fault == Blank && c.part.Image.Count(e.Where) > 0,
			e.Fault == BlankTarget && c.part.Image.Count(memory.Span{First: e.Code, Last: e.Code + 1}) > 0:
			first := readErased(c.m, c.part.Image, memory.Span{First: e.Code, Last: e.Code + 1})
			c.addAt(Finding{
				Name:     e.name(),
				Where:    &memory.Span{First: e.Code, Last: e.Code + 1},
				What:     fmt.Sprintf("the first instruction is % X: erased", first),
				Expected: "an instruction",
				Advice:   source.Advise("the code may begin at a higher address, or the file may be incomplete"),
			})
		}
	}
}

// addAt adds a finding whose first byte the image may not hold.
func (c *checker) addAt(f Finding) {
	if held, ok := c.extent(*f.Where); ok {
		f.Where.First = held.First
	}
	c.add(f)
}

func (c *checker) startStack() {
	for _, e := range c.entries() {
		within, limited := c.m.Names().Span(e.Start.Stack)
		if e.Fault == Blank || !e.vectors() || !limited {
			continue
		}
		where := memory.Span{First: e.At, Last: e.At + uint64(e.Start.Width) - 1}
		what := fmt.Sprintf("the initial stack is %s", memory.FormatAddress(e.Stack))
		switch {
		case e.Stack <= within.First || e.Stack-1 > within.Last:
			c.addAt(Finding{
				Where:    &where,
				What:     what,
				Expected: fmt.Sprintf("inside %s %s, or right above it", e.Start.Stack, within),
				Advice:   source.Advise("not a vector table, or linked for another device"),
			})
		case e.Fault == WildStack:
			c.addAt(Finding{
				Where:    &where,
				What:     what,
				Expected: fmt.Sprintf("a multiple of %d", e.Start.StackAlign),
				Advice:   source.Advise("align it in the linker script"),
			})
		}
	}
}

// startTarget judges the reset targets of vectors.
func (c *checker) startTarget() {
	for _, e := range c.entries() {
		if e.Fault == Blank || !e.vectors() {
			continue
		}
		add := func(what, expected, advice string) {
			where := memory.Span{First: e.At + uint64(e.Start.Width), Last: e.Where.Last}
			c.addAt(Finding{
				Where:    &where,
				What:     fmt.Sprintf("the reset target is %s, %s", memory.FormatAddress(e.Target), what),
				Expected: expected,
				Advice:   source.Advise(advice),
			})
		}
		if e.Start.OddTarget && e.Target&1 == 0 {
			add("an even address", "bit 0 set: it selects the instruction set",
				"check that this is a vector table and that the address has bit 0")
		}
		region, limited := c.m.Names().Span(e.Start.Target)
		switch other := c.m.RegionAt(e.Code); {
		case limited && !region.Contains(e.Code) && other != nil:
			add(fmt.Sprintf("in region %s and not in %s", other.Name, e.Start.Target), fmt.Sprintf("inside %s", region),
				"linked for "+other.Name+", not for "+e.Start.Target)
		case limited && !region.Contains(e.Code):
			add("outside region "+e.Start.Target, fmt.Sprintf("inside %s", region), "linked for another address")
		case c.m.MemoryAt(e.Code) == nil:
			add("in no memory", "inside a memory", "not a vector table, or linked for another device")
		case c.part.Image.Count(memory.Span{First: e.Code, Last: e.Code + 1}) == 0:
			add("where the image contains nothing", "programmed bytes", "an input is missing, or linked for another address")
		}
	}
}
