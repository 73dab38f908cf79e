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
	if s.Kind == memory.NoStart || c.part.Image.Holds(at) {
		return
	}
	c.addMissing(Finding{Where: &memory.Span{First: at, Last: at}, What: "the start address lies where the image holds nothing",
		Expected: "a byte of the image there", Advice: do("cut off, or of another part? To leave it out", "merge", source.Setting{Key: "start", Value: "none"})})
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
	f := Finding{What: "the parts start at different addresses: " + strings.Join(starts, ", "), Expected: "one start address", Advice: source.Advise("merging with the map keeps the one that the map says")}
	if len(said) > 0 && !agrees {
		f.Severity = source.Warning
		f.Expected = "the map's start, " + memory.FormatAddress(said[0])
		f.Advice = source.Advise("a part that was linked for another start, or the wrong map")
	}
	c.addMissing(f)
}

// startup is what the part executes first.
type startup struct {
	vectors bool
	at      uint64      // of the vectors, or the first instruction
	where   memory.Span // what must be there
	present bool
	region  string // where an instruction lies
	stack   uint64
	target  uint64 // as the vector has it
	code    uint64 // the address of the first instruction
	// sound is whether the code's address is one that can be looked at.
	sound bool
}

// startup reads how the image starts; ok is false where the map does not say,
// or where the part that should hold it is missing, which is told.
func (c *checker) startup() (s startup, ok bool) {
	s.at = c.m.Start.At
	switch c.m.Start.Kind {
	case device.StartInstruction:
		if r := c.m.Region(c.m.Enters); r != nil {
			s.at, s.region = r.Span.First, r.Name
		} else if r := c.m.RegionAt(s.at); r != nil {
			s.region = r.Name
		}
		s.where = memory.Span{First: s.at, Last: s.at + 1}
		s.present = c.part.Image.Count(s.where) == 2
		s.code, s.sound = s.at, s.present
	case device.StartVectors:
		s.vectors = true
		s.where = memory.Span{First: s.at, Last: s.at + 7}
		if s.stack, s.target, s.present = device.Vectors(c.part.Image, s.at); s.present {
			s.code = s.target
			if c.m.Start.OddTarget {
				s.code &^= 1
			}
			region, limited := c.m.Names().Span(c.m.Start.Target)
			s.sound = (!limited || region.Contains(s.code)) && c.part.Image.Count(memory.Span{First: s.code, Last: s.code + 1}) == 2
		}
	default:
		return s, false
	}
	// Where the boot section is not what it should be, neither is the start.
	return s, !c.blank(s.at) && !c.moved()
}

func (c *checker) startMissing() {
	s, ok := c.startup()
	switch {
	case !ok || s.present:
	case s.vectors:
		c.addMissing(Finding{Where: &s.where, What: "stack and reset vector are not there", Expected: "eight bytes at the start of the vector table",
			Advice: source.Advise("merge the part that holds the vector table")})
	default:
		c.addMissing(Finding{Name: s.region, Where: &s.where, Region: s.region, What: "start-up goes here, and the image holds nothing",
			Expected: fmt.Sprintf("the first instruction of region %s", s.region), Advice: source.Advise("merge the part that belongs here, or set the configuration so that start-up goes elsewhere")})
	}
}

func (c *checker) startErased() {
	s, ok := c.startup()
	if !ok || !s.sound {
		return
	}
	var first [2]byte
	c.part.Image.ReadAt(first[:], s.code)
	if erased := c.m.ErasedAt(s.code); first[0] == erased && first[1] == erased {
		c.add(Finding{Name: s.region, Where: &memory.Span{First: s.code, Last: s.code + 1}, What: fmt.Sprintf("the first instruction is % X, as erased", first),
			Expected: "an instruction", Advice: source.Advise("a part that begins later, or a file that lost a piece?")})
	}
}

func (c *checker) startStack() {
	s, ok := c.startup()
	if !ok || !s.vectors || !s.present {
		return
	}
	rule := c.m.Start
	within, limited := c.m.Names().Span(rule.Stack)
	where := memory.Span{First: s.at, Last: s.at + 3}
	what := fmt.Sprintf("the initial stack is %s", memory.FormatAddress(s.stack))
	switch {
	case !limited:
	case s.stack <= within.First || s.stack-1 > within.Last: // it grows down, and may begin right above
		c.add(Finding{Where: &where, What: what, Expected: fmt.Sprintf("inside %s %s, or right above it", rule.Stack, within), Advice: source.Advise("not a vector table, or linked for another part")})
	case rule.StackAlign > 1 && s.stack%rule.StackAlign != 0:
		c.add(Finding{Where: &where, What: what, Expected: fmt.Sprintf("a multiple of %d", rule.StackAlign), Advice: source.Advise("align it in the linker script")})
	}
}

func (c *checker) startTarget() {
	s, ok := c.startup()
	if !ok || !s.vectors || !s.present {
		return
	}
	add := func(what, expected, advice string) {
		c.add(Finding{Where: &memory.Span{First: s.at + 4, Last: s.at + 7}, What: fmt.Sprintf("the reset target is %s, %s", memory.FormatAddress(s.target), what), Expected: expected, Advice: source.Advise(advice)})
	}
	if c.m.Start.OddTarget && s.target&1 == 0 {
		add("an even address", "bit 0 set, as it chooses the instruction set", "not a vector table, or a function's address taken without it")
	}
	if region, limited := c.m.Names().Span(c.m.Start.Target); limited && !region.Contains(s.code) {
		add("outside region "+c.m.Start.Target, fmt.Sprintf("inside %s", region), "linked for another address")
	} else if !s.sound {
		add("where the image holds nothing", "programmed bytes", "a part is missing, or linked for another address")
	}
}
