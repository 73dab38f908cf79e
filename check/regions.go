package check

import (
	"fmt"
	"slices"
	"strings"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// regionOverrun finds a part that runs from its region over into what lies
// behind. An image that is whole may fill regions side by side; each of several
// parts, and a part that is checked alone, has a region of its own: the one in
// which it begins.
func (c *checker) regionOverrun() {
	if c.region != nil {
		for _, s := range c.strays(memory.Complement([]memory.Span{c.region.Span})) {
			if c.runsOver(c.region, s) {
				c.overrun(c.region, s)
			}
		}
		return
	}
	for _, run := range c.part.Image.Runs() {
		home := c.m.RegionAt(run.First)
		for home != nil && run.Last() > home.Span.Last {
			next := c.m.RegionAt(home.Span.Last + 1)
			if next == nil || len(c.parts) > 1 {
				c.overrun(home, memory.Span{First: home.Span.Last + 1, Last: run.Last()})
				break
			}
			home = next
		}
	}
}

// runsOver reports whether bytes outside a region carry on from its last.
func (c *checker) runsOver(home *device.Region, s memory.Span) bool {
	return s.First == home.Span.Last+1 && c.part.Image.Holds(home.Span.Last)
}

func (c *checker) overrun(home *device.Region, over memory.Span) {
	if c.foundEarlier("boot-section", func(f *Finding) bool { return over.Last < f.Where.First && home.Span.Last < f.Where.First }) {
		return // the setting is the cause: with the one that fits, the part does too
	}
	into := "memory outside all regions"
	if next := c.m.RegionAt(over.First); next != nil {
		into = "region " + next.Name
	} else if c.m.MemoryAt(over.First) == nil {
		return // told by another rule
	}
	c.add(Finding{
		Name: home.Name, Where: &over, Region: home.Name,
		What:     fmt.Sprintf("ends %s past the end of region %s, in %s", memory.FormatSize(over.Size()), home.Name, into),
		Expected: fmt.Sprintf("region %s, %s", home.Name, home.Span),
		Advice:   source.Advise(fmt.Sprintf("make the program %s smaller, or the region larger", memory.FormatBytes(over.Size()))),
	})
}

// outsideRegion finds bytes in memories that have regions, but in none of them.
func (c *checker) outsideRegion() {
	if c.region != nil {
		for _, s := range c.strays(memory.Complement([]memory.Span{c.region.Span})) {
			if c.runsOver(c.region, s) || c.m.MemoryAt(s.First) == nil {
				continue // told by another rule
			}
			c.add(Finding{
				Name:     c.region.Name,
				Where:    &s,
				Region:   c.region.Name,
				What:     fmt.Sprintf("%s outside region %s", c.bytesIn(s), c.region.Name),
				Expected: fmt.Sprintf("region %s, %s", c.region.Name, c.region.Span),
				Advice:   source.Advise("the wrong file, or linked for another address"),
			})
		}
		return
	}
	outside := c.gaps.regions()
	for i := range c.m.Memories {
		mem := &c.m.Memories[i]
		for _, s := range c.strays(outside[mem.Name]) {
			if c.foundEarlier("region-overrun", func(f *Finding) bool { return f.Where.Covers(s) }) {
				continue
			}
			c.add(Finding{
				Name:     mem.Name,
				Where:    &s,
				Region:   mem.Name,
				What:     fmt.Sprintf("%s in %s but in none of its regions", c.bytesIn(s), mem.Name),
				Expected: c.regionList(),
				Advice: operationAdvice("place it in a region, or give the map a region here; to drop it", "cut",
					source.Setting{Key: "drop", Value: s.Range()}),
			})
		}
	}
}

// missingPart finds required regions in which the image holds nothing.
func (c *checker) missingPart() {
	for r := range c.m.All() {
		if outer := c.m.Region(r.Inside); outer != nil && c.region != r && c.part.Image.Count(outer.Span) == 0 {
			continue // all of it is missing, and told where it is required
		}
		if mem := c.m.MemoryAt(r.Span.First); mem != nil && mem.Kind == device.ROM {
			continue // what is there came with the part
		}
		if (c.region == nil && r.Required || c.region == r) && c.part.Image.Count(r.Span) == 0 && !c.unread() {
			c.addMissing(Finding{
				Name: r.Name, Where: &r.Span, Region: r.Name, What: fmt.Sprintf("region %s is empty", r.Name),
				Expected: fmt.Sprintf("an input with role %s in %s", r.Role, r.Span),
				Advice:   source.Advice{Text: "merge it in", AnyOf: c.oneRegion()},
			})
		}
	}
}

// oneRegion returns the setting that checks the image as the part of the region
// that it lies in, where it lies in one.
func (c *checker) oneRegion() []source.Setting {
	if all, ok := c.part.Image.Span(); ok && c.region == nil {
		if r := c.m.RegionAt(all.First); r != nil && r.Span.Covers(all) {
			return []source.Setting{{Key: "region", Value: r.Name, Does: "checks this input only"}}
		}
	}
	return nil
}

// unread reports whether a part could not be read, which may be the missing
// one.
func (c *checker) unread() bool {
	return slices.ContainsFunc(c.parts, func(p Part) bool { return p.Image == nil })
}

// regionErased finds required regions that hold nothing but erased bytes beside
// declared checksums.
func (c *checker) regionErased() {
	for i := range c.m.Regions {
		r := &c.m.Regions[i]
		if !r.Required || c.part.Image.Count(r.Span) == 0 {
			continue
		}
		if !c.erasedBeside(r) {
			continue
		}
		erased := c.m.ErasedAt(r.Span.First)
		where, _ := c.extent(r.Span)
		c.add(Finding{
			Name:     r.Name,
			Where:    &where,
			Region:   r.Name,
			What:     fmt.Sprintf("region %s contains only erased bytes (%02X)", r.Name, erased),
			Expected: fmt.Sprintf("an input with role %s", r.Role),
			Advice:   source.Advise("an earlier step may have failed; merge the missing input"),
		})
	}
}

// erasedBeside reports whether what the image holds of a region is erased, beside the
// places of declared checksums.
func (c *checker) erasedBeside(r *device.Region) bool {
	var places []memory.Span
	for _, d := range c.declared() {
		places = append(places, d.place)
	}
	erased := c.m.ErasedAt(r.Span.First)
	for _, s := range memory.Without([]memory.Span{r.Span}, places) {
		for run := range c.part.Image.In(s) {
			if slices.ContainsFunc(run.Data, func(b byte) bool { return b != erased }) {
				return false
			}
		}
	}
	return true
}

// blank reports whether the region that holds an address is empty or erased,
// which is a finding of its own.
func (c *checker) blank(at uint64) bool {
	r := c.m.RegionAt(at)
	if r == nil || !r.Required {
		return false
	}
	here := func(f *Finding) bool { return f.Name == r.Name }
	return c.foundEarlier("missing-part", here) || c.foundEarlier("region-erased", here)
}

// sharedSector finds sectors in which two regions hold bytes: these lie around
// the borders of regions.
func (c *checker) sharedSector() {
	var last memory.Span
	for i := range c.m.Regions {
		r := &c.m.Regions[i]
		mem := c.m.MemoryAt(r.Span.First)
		if mem == nil {
			continue
		}
		for _, at := range []uint64{r.Span.First, r.Span.Last} {
			sector, ok := mem.SectorAt(at)
			if !ok || sector == last || r.Span.Covers(sector) {
				continue
			}
			last = sector
			var here []string
			for _, other := range c.m.RegionsIn(sector) {
				if both, ok := other.Span.Meet(sector); ok && c.part.Image.Count(both) > 0 {
					here = append(here, other.Name)
				}
			}
			if len(here) > 1 {
				c.add(Finding{
					Name:     here[0],
					Where:    &sector,
					Region:   here[0],
					What:     fmt.Sprintf("regions %s share a sector", strings.Join(here, " and ")),
					Expected: "separate sectors, because a sector is erased as a whole",
					Advice:   source.Advise("move the border of the regions to that of a sector"),
				})
			}
		}
	}
}
