package check

import (
	"bytes"
	"fmt"
	"sort"
	"strings"
	"sync"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

func (c *checker) clash() {
	const most = 20
	name := func(n int) string {
		at := 0
		for _, p := range c.parts {
			if p.Image == nil {
				continue
			}
			if at == n {
				return p.Name
			}
			at++
		}
		return ""
	}
	told, explained := 0, 0
	for _, cl := range c.clashes.List {
		if told == most {
			break
		}
		if c.foundEarlier("region-overrun", func(f *Finding) bool { return f.Where.Covers(cl.Span) }) {
			explained++ // a part that runs over into another's region
			continue
		}
		told++
		early, late := cl.Earlier()
		where := cl.Span
		c.addPlaced(Finding{Where: &where, Name: name(cl.OtherInput), Input: name(max(cl.KeptInput, cl.OtherInput)), Place: placeOf(late),
			What:     fmt.Sprintf("clashes with %s over %s; %s", early, cl.Span, cl.Comparison()),
			Expected: "one input for each address",
			Advice:   source.Advise("move one, make one smaller, or merge them with a rule for clashes")})
	}
	if more := c.clashes.Count - told - explained; more > 0 {
		c.addPlaced(Finding{
			What:     fmt.Sprintf("%s more stretches clash", memory.FormatCount(uint64(more))),
			Expected: "one input for each address",
			Advice:   source.Advise("move one of the inputs"),
		})
	}
}

// addPlaced adds a finding whose place is known already.
func (c *checker) addPlaced(f Finding) {
	c.complete(&f)
	if f.Where != nil {
		if r := c.m.RegionAt(f.Where.First); r != nil {
			f.Region = r.Name
		}
	}
	c.found = append(c.found, f)
}

// memoryList names all memories and their spans.
func (c *checker) memoryList() string {
	return "one of the memories " + listed(len(c.m.Memories), func(i int) string {
		return c.m.Memories[i].Name + " " + c.m.Memories[i].Span.String()
	})
}

func (c *checker) regionList() string {
	return "one of the regions " + listed(len(c.m.Regions), func(i int) string {
		return c.m.Regions[i].Name + " " + c.m.Regions[i].Span.String()
	})
}

// listed joins n names, of very many the first few.
func listed(n int, name func(i int) string) string {
	const most = 12
	var names []string
	for i := range min(n, most) {
		names = append(names, name(i))
	}
	if n > most {
		names = append(names, fmt.Sprintf("and %d more", n-most))
	}
	return strings.Join(names, ", ")
}

// strays returns where the part holds bytes in the gaps between spans, which are sorted:
// one stretch for each gap, so that a thousand stray runs are one finding.
func (c *checker) strays(gaps []memory.Span) []memory.Span {
	var out []memory.Span
	for _, run := range c.part.Image.Runs() {
		k := sort.Search(len(gaps), func(k int) bool { return gaps[k].Last >= run.First })
		for ; k < len(gaps) && gaps[k].First <= run.Last(); k++ {
			if last := len(out) - 1; last >= 0 && gaps[k].Contains(out[last].First) {
				continue // a run before is in this gap too
			}
			if held, ok := c.part.Image.Extent(gaps[k]); ok {
				out = append(out, held)
			}
		}
	}
	return out
}

// gaps are the addresses that lie outside what a map has, worked out once for all parts.
type gaps struct {
	memories func() []memory.Span            // outside all memories
	regions  func() map[string][]memory.Span // in a memory that has regions, outside these
}

func gapsOf(m *device.Map) *gaps {
	return &gaps{
		memories: sync.OnceValue(func() []memory.Span {
			var spans []memory.Span
			for i := range m.Memories {
				spans = append(spans, m.Memories[i].Span)
			}
			return memory.Complement(spans)
		}),
		regions: sync.OnceValue(func() map[string][]memory.Span {
			var inRegions []memory.Span
			for _, r := range m.Regions {
				inRegions = append(inRegions, r.Span)
			}
			for i := range m.Config { // a word that is declared needs no region of its own
				w := &m.Config[i]
				inRegions = append(inRegions, w.Span())
				if s, ok := w.Complement(); ok {
					inRegions = append(inRegions, s)
				}
			}
			all := map[string][]memory.Span{}
			for i := range m.Memories {
				if mem := &m.Memories[i]; mem.Programmable() && len(m.RegionsIn(mem.Span)) > 0 {
					all[mem.Name] = memory.Without([]memory.Span{mem.Span}, inRegions)
				}
			}
			return all
		}),
	}
}

// bytesIn says how many bytes the part holds in a span.
func (c *checker) bytesIn(s memory.Span) string { return memory.FormatSize(c.part.Image.Count(s)) }

// extent returns the stretch from the first to the last byte of the part in a span.
func (c *checker) extent(s memory.Span) (memory.Span, bool) { return c.part.Image.Extent(s) }

func (c *checker) notProgrammable() {
	for i := range c.m.Memories {
		mem := &c.m.Memories[i]
		if mem.Programmable() {
			continue
		}
		if where, ok := c.extent(mem.Span); ok {
			c.add(Finding{
				Name:     mem.Name,
				Where:    &where,
				Region:   mem.Name,
				What:     fmt.Sprintf("%s in %s, which is %s and cannot be programmed", c.bytesIn(mem.Span), mem.Name, mem.Kind),
				Expected: "an image with programmed memory only",
				Advice:   operationAdvice("have the linker leave it out, or drop it", "cut", source.Setting{Key: "drop", Value: mem.Name}),
			})
		}
	}
}

func (c *checker) outsideMemory() {
	all, _ := c.part.Image.Span()
	for _, s := range c.strays(c.gaps.memories()) {
		advice := source.Advise("the wrong device, or placed at the wrong address")
		past := ""
		if home := c.overrunInto(s); home != nil {
			past = ", past the end of region " + home.Name
			advice = source.Advise(fmt.Sprintf("the wrong device, or make the program %s smaller", memory.FormatBytes(s.Size())))
		} else if c.part.Image.Count(s) < c.part.Image.Bytes() { // else nothing would be left
			advice = operationAdvice(advice.Text+"; to drop it", "cut", source.Setting{Key: "drop", Value: s.Range()})
		}
		for _, mem := range c.m.Memories {
			for _, alias := range mem.Aliases {
				if alias.Covers(all) { // else moving the part would move what is in its place
					by := fmt.Sprintf("0x%X", mem.Span.First-alias.First)
					if mem.Span.First < alias.First {
						by = fmt.Sprintf("-0x%X", alias.First-mem.Span.First)
					}
					advice = operationAdvice(fmt.Sprintf("this address is an alias of %s; program it at %s", mem.Name,
						memory.FormatAddress(mem.Span.First)), "place", source.Setting{Key: "shift", Value: by})
				}
			}
		}
		c.add(
			Finding{Where: &s, What: fmt.Sprintf("%s in no memory of %s%s", c.bytesIn(s), c.m.Name, past), Expected: c.memoryList(),
				Advice: advice},
		)
	}
}

// overrunInto returns the region from whose last byte the part carries on into a span outside
// all memories; nil is none.
func (c *checker) overrunInto(s memory.Span) *device.Region {
	if s.First == 0 {
		return nil
	}
	home := c.m.RegionAt(s.First - 1)
	if home == nil || !c.runsOver(home, s) {
		return nil
	}
	return home
}

func (c *checker) reservedArea() {
	for r := range c.m.All() {
		if where, ok := c.extent(r.Span); ok && r.Role == device.Reserved {
			c.add(Finding{
				Name:     r.Name,
				Where:    &where,
				Region:   r.Name,
				What:     fmt.Sprintf("%s in %s, which is reserved", c.bytesIn(r.Span), r.Name),
				Expected: "no bytes there",
				Advice:   operationAdvice("drop it", "cut", source.Setting{Key: "drop", Value: r.Name}),
			})
		}
	}
}

func (c *checker) oneTimeArea() {
	for _, mem := range c.m.Memories {
		if where, ok := c.extent(mem.Span); ok && mem.Kind == device.OTP {
			c.add(Finding{
				Name:     mem.Name,
				Where:    &where,
				Region:   mem.Name,
				What:     fmt.Sprintf("%s in %s, which can be written once", c.bytesIn(mem.Span), mem.Name),
				Expected: "no bytes here, unless every device must get exactly these",
				Advice:   source.Advice{Text: "drop it", AnyOf: c.accepting(mem.Name)},
			})
		}
	}
}

func (c *checker) partialGranule() {
	for i := range c.m.Memories {
		mem := &c.m.Memories[i]
		pages := source.Setting{Key: "pages"}
		if mem.Page == 0 {
			pages.Value = fmt.Sprint(mem.Granule)
		}
		c.units(mem, mem.Granule, "granule", operationAdvice("fill the rest", "fill", pages, source.Setting{Key: "erased"}), 1)
	}
}

func (c *checker) partialPage() {
	for i := range c.m.Memories {
		mem := &c.m.Memories[i]
		c.units(
			mem,
			mem.Page,
			"page",
			operationAdvice("fill the rest, so that every device gets the same bytes", "fill", source.Setting{Key: "pages"},
				source.Setting{Key: "erased"}),
			max(mem.Granule, 1), // what ends within a granule is told of that
		)
	}
}

// units finds units of size bytes that are partly given, by runs that begin or end within
// one, at a multiple of step bytes.
func (c *checker) units(mem *device.Memory, size uint64, noun string, advice source.Advice, step uint64) {
	if size < 2 || !mem.Programmable() {
		return
	}
	n, last := 0, uint64(0) // units partly given, and the last of them
	var where memory.Span
	count := func(address uint64) {
		unit := mem.Span.First + (address-mem.Span.First)/size*size
		if n == 0 {
			where = memory.Span{First: unit, Last: unit + size - 1}
		} else if unit == last {
			return
		}
		n, last = n+1, unit
	}
	for r := range c.part.Image.In(mem.Span) {
		within := func(border uint64) bool { return border%size != 0 && border%step == 0 }
		if within(r.First - mem.Span.First) {
			count(r.First)
		}
		if within(r.Last() - mem.Span.First + 1) {
			count(r.Last())
		}
	}
	if n == 0 {
		return
	}
	what := memory.FormatNumber(n, noun)
	held, _ := c.extent(where)
	where.First = held.First
	expected := "a complete " + noun
	if n > 1 {
		expected = strings.TrimPrefix(memory.FormatNumber(2, "complete "+noun), "2 ")
	}
	if mem.WriteOnce && size == mem.Granule {
		expected += ", because each is written once after an erase"
	}
	c.add(Finding{
		Name:     mem.Name,
		Where:    &where,
		Region:   mem.Name,
		What:     fmt.Sprintf("%s of %s in %s only partly filled", what, memory.FormatSize(size), mem.Name),
		Expected: expected,
		Advice:   advice,
	})
}

func (c *checker) wrongIdentity() {
	var known []string
	found := make([]byte, len(c.m.Identities[0].Bytes))
	for _, d := range c.m.Identities {
		b := make([]byte, len(d.Bytes))
		if !c.part.Image.ReadAt(b, *c.m.IdentityAt) || d.Is(b) {
			return
		}
		found, known = b, append(known, d.String())
	}
	where, _ := memory.SpanOf(*c.m.IdentityAt, uint64(len(found)))
	c.add(Finding{
		Where:    &where,
		What:     fmt.Sprintf("the image is built for a device with identity % X", found),
		Expected: fmt.Sprintf("%s has %s", c.m.Name, strings.Join(known, ", or ")),
		Advice:   source.Advise("the wrong variant of the device, or the wrong file"),
	})
}

func (c *checker) erasedStretch() {
	for _, mem := range c.m.Memories {
		c.stretches(mem.Span, mem.Erased, "erased",
			source.Advice{Text: "the copy may have lost blocks; get the file again", AnyOf: c.accepting("")})
	}
}

func (c *checker) zeroStretch() {
	for _, mem := range c.m.Memories {
		if mem.Erased != 0 {
			c.stretches(mem.Span, 0, "00", source.Advise("the copy may have lost blocks; compare it with another copy"))
		}
	}
}

// stretches finds stretches of one value that begin and end on whole blocks, or
// a few bytes beside, between other bytes: what a file looks like that lost
// blocks on a copy.
func (c *checker) stretches(within memory.Span, value byte, how string, advice source.Advice) {
	const block, few = 512, 8
	whole := bytes.Repeat([]byte{value}, block)
	for r := range c.part.Image.In(within) {
		// One that counts has a whole block at least.
		at := int((block - (r.First-within.First)%block) % block)
		for at+block <= len(r.Data) {
			if r.Data[at] != value || !bytes.Equal(r.Data[at:at+block], whole) {
				at += block
				continue
			}
			i, j := at, at+block
			for i > 0 && r.Data[i-1] == value {
				i--
			}
			for j < len(r.Data) && r.Data[j] == value {
				j++
			}
			first, end := r.First+uint64(i)-within.First, r.First+uint64(j)-within.First
			from, to := (first+block-1)/block*block, end/block*block // the whole blocks
			if i > 0 && j < len(r.Data) && to > from && from-first < few && end-to < few {
				where := memory.Span{First: within.First + from, Last: within.First + to - 1}
				c.add(Finding{
					Where: &where,
					What: fmt.Sprintf("%s of %d bytes %s %s, in the middle of the data", memory.FormatNumber((to-from)/block, "block"), block,
						map[bool]string{true: "is", false: "are"}[to-from == block], how),
					Expected: "data without such a gap",
					Advice:   advice,
				})
			}
			at += (j - at + block - 1) / block * block
		}
	}
}
