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
	rule    *device.Start
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

// startups reads how the image starts, by each start that the map gives, but those
// of which the part that should hold them is missing, which is told.
func (c *checker) startups() (list []startup) {
	for i := range c.m.Starts {
		s := c.startup(&c.m.Starts[i])
		if r := c.m.RegionAt(s.at); r != nil && !r.Required && c.part.Image.Count(r.Span) == 0 {
			continue // nothing is there to be started, and need not be
		}
		// Where the boot section is not what it should be, neither is the start.
		if !c.blank(s.at) && !c.moved() {
			list = append(list, s)
		}
	}
	return list
}

func (c *checker) startup(rule *device.Start) startup {
	s := startup{rule: rule, at: rule.At}
	if rule.Kind == device.StartInstruction {
		if r := c.m.Region(c.m.Enters); r != nil && rule == &c.m.Starts[0] {
			s.at, s.region = r.Span.First, r.Name
		} else if r := c.m.RegionAt(s.at); r != nil {
			s.region = r.Name
		}
		s.where = memory.Span{First: s.at, Last: s.at + 1}
		s.present = c.part.Image.Count(s.where) == 2
		s.code, s.sound = s.at, s.present
		return s
	}
	s.vectors = true
	s.where = memory.Span{First: s.at, Last: s.at + uint64(2*rule.Width) - 1}
	if s.stack, s.target, s.present = rule.Vectors(c.part.Image); s.present {
		s.code = s.target
		if rule.OddTarget {
			s.code &^= 1
		}
		region, limited := c.m.Names().Span(rule.Target)
		s.sound = (!limited || region.Contains(s.code)) && c.part.Image.Count(memory.Span{First: s.code, Last: s.code + 1}) == 2
	}
	return s
}

func (c *checker) startMissing() {
	for _, s := range c.startups() {
		switch {
		case s.present:
		case s.vectors:
			c.addMissing(Finding{Where: &s.where, What: "stack and reset vector are not there", Expected: fmt.Sprintf("%d bytes at the start of the vector table", s.where.Size()),
				Advice: source.Advise("merge the part that holds the vector table")})
		default:
			c.addMissing(Finding{Name: s.region, Where: &s.where, Region: s.region, What: "start-up goes here, and the image holds nothing",
				Expected: fmt.Sprintf("the first instruction of region %s", s.region), Advice: source.Advise("merge the part that belongs here, or set the configuration so that start-up goes elsewhere")})
		}
	}
}

func (c *checker) startErased() {
	for _, s := range c.startups() {
		if !s.sound {
			continue
		}
		var first [2]byte
		c.part.Image.ReadAt(first[:], s.code)
		if erased := c.m.ErasedAt(s.code); first[0] == erased && first[1] == erased {
			c.add(Finding{Name: s.region, Where: &memory.Span{First: s.code, Last: s.code + 1}, What: fmt.Sprintf("the first instruction is % X, as erased", first),
				Expected: "an instruction", Advice: source.Advise("a part that begins later, or a file that lost a piece?")})
		}
	}
}

func (c *checker) startStack() {
	for _, s := range c.startups() {
		if !s.vectors || !s.present {
			continue
		}
		within, limited := c.m.Names().Span(s.rule.Stack)
		where := memory.Span{First: s.at, Last: s.at + uint64(s.rule.Width) - 1}
		what := fmt.Sprintf("the initial stack is %s", memory.FormatAddress(s.stack))
		switch {
		case !limited:
		case s.stack <= within.First || s.stack-1 > within.Last: // it grows down, and may begin right above
			c.add(Finding{Where: &where, What: what, Expected: fmt.Sprintf("inside %s %s, or right above it", s.rule.Stack, within), Advice: source.Advise("not a vector table, or linked for another part")})
		case s.rule.StackAlign > 1 && s.stack%s.rule.StackAlign != 0:
			c.add(Finding{Where: &where, What: what, Expected: fmt.Sprintf("a multiple of %d", s.rule.StackAlign), Advice: source.Advise("align it in the linker script")})
		}
	}
}

func (c *checker) startTarget() {
	for _, s := range c.startups() {
		if s.vectors && s.present {
			c.target(&s)
		}
	}
}

// target judges the reset target of vectors.
func (c *checker) target(s *startup) {
	add := func(what, expected, advice string) {
		where := memory.Span{First: s.at + uint64(s.rule.Width), Last: s.where.Last}
		c.add(Finding{Where: &where, What: fmt.Sprintf("the reset target is %s, %s", memory.FormatAddress(s.target), what), Expected: expected, Advice: source.Advise(advice)})
	}
	if s.rule.OddTarget && s.target&1 == 0 {
		add("an even address", "bit 0 set, as it chooses the instruction set", "not a vector table, or a function's address taken without it")
	}
	region, limited := c.m.Names().Span(s.rule.Target)
	switch other := c.m.RegionAt(s.code); {
	case limited && !region.Contains(s.code) && other != nil:
		add(fmt.Sprintf("in region %s and not in %s", other.Name, s.rule.Target), fmt.Sprintf("inside %s", region), "linked for "+other.Name+", not for "+s.rule.Target)
	case limited && !region.Contains(s.code):
		add("outside region "+s.rule.Target, fmt.Sprintf("inside %s", region), "linked for another address")
	case !s.sound:
		add("where the image holds nothing", "programmed bytes", "a part is missing, or linked for another address")
	}
}
