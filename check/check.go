// Package check holds images against device maps and returns what it finds:
// what would go wrong if the image were programmed into the part.
package check

import (
	"cmp"
	"fmt"
	"slices"

	"mexalt/device"
	"mexalt/memory"
)

// Severity is how bad a finding is.
type Severity uint8

const (
	// Error must not be programmed.
	Error Severity = iota
	// Warning is most likely wrong.
	Warning
	// Note is worth knowing; it is no reason against programming.
	Note
)

func (s Severity) String() string { return [...]string{"error", "warning", "note"}[s] }

// Finding is one result of a check.
type Finding struct {
	Severity Severity
	Rule     string
	Where    memory.Span
	Region   string // region or memory concerned; may be empty
	Origin   string // where the first byte concerned came from; may be empty
	Input    string // the input concerned; may be empty
	What     string
	Expected string
	Advice   string
}

// The rules.
const (
	OutsideMemory = "outside-memory"
	OutsideRegion = "outside-region"
	RegionOverrun = "region-overrun"
	MissingPart   = "missing-part"
)

// Options set what is checked.
type Options struct {
	// Region, where given, is the region in which every part must lie. The
	// parts are then no whole image, and nothing need be there but they.
	Region *device.Region
}

// Run checks parts, together one image, against a map. The findings are
// sorted by severity, then by address.
func Run(m *device.Map, parts []memory.Part, o Options) []Finding {
	var found []Finding
	images := make([]*memory.Image, len(parts))
	for i, p := range parts {
		images[i] = p.Image
		c := checker{m: m, part: p}
		c.memories()
		if o.Region != nil {
			c.inside(o.Region)
		} else {
			c.regions(len(parts) > 1)
		}
		found = append(found, c.found...)
	}
	whole, _ := memory.Merge(images, memory.First)
	if o.Region == nil {
		found = append(found, missing(m, whole)...)
	}
	slices.SortStableFunc(found, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.Severity, b.Severity), cmp.Compare(a.Where.First, b.Where.First))
	})
	return found
}

type checker struct {
	m     *device.Map
	part  memory.Part
	found []Finding
}

// add completes a finding with its place.
func (c *checker) add(f Finding) {
	f.Input = c.part.Name
	if o, ok := c.part.Image.Origin(f.Where.First); ok {
		f.Origin = o.String()
	}
	c.found = append(c.found, f)
}

// memories finds bytes that lie in no memory of the part.
func (c *checker) memories() {
	var spans []memory.Span
	for _, mem := range c.m.Memories {
		spans = append(spans, mem.Span)
	}
	for _, r := range c.part.Image.Drop(spans...).Runs() {
		expected := "memories are "
		for i, mem := range c.m.Memories {
			if i > 0 {
				expected += ", "
			}
			expected += mem.Name + " " + mem.Span.String()
		}
		c.add(Finding{
			Rule: OutsideMemory, Where: r.Span(),
			What:     fmt.Sprintf("%s in no memory of %s", memory.FormatSize(r.Span().Size()), c.m.Name),
			Expected: expected,
			Advice:   "the wrong part, or placed at the wrong address",
		})
	}
}

// regions finds bytes that lie in a memory but in none of its regions, and a
// part that runs from its region over into the next. An image that is whole
// may fill regions side by side; there, only a record that lies in two of
// them shows that one part ran over. Each of several parts has a region of
// its own, the one in which it begins.
func (c *checker) regions(several bool) {
	var inRegions []memory.Span
	for _, r := range c.m.Regions {
		inRegions = append(inRegions, r.Span)
	}
	for _, run := range c.part.Image.Runs() {
		home := c.m.RegionAt(run.First)
		for home != nil && run.Last() > home.Span.Last {
			border := home.Span.Last
			next := c.m.RegionAt(border + 1)
			if next == nil || several || c.oneRecord(border) {
				c.overrun(home, memory.Span{First: border + 1, Last: run.Last()})
				break
			}
			home = next
		}
	}
	for _, r := range c.part.Image.Drop(inRegions...).Runs() {
		mem := c.m.MemoryAt(r.First)
		if mem == nil || c.reported(r.Span()) {
			continue
		}
		where, _ := r.Span().Meet(mem.Span)
		c.add(Finding{
			Rule: OutsideRegion, Where: where, Region: mem.Name,
			What:     fmt.Sprintf("%s in %s but in none of its regions", memory.FormatSize(where.Size()), mem.Name),
			Expected: c.regionList(),
			Advice:   "place it in a region, or give the map a region here",
		})
	}
}

// reported reports whether a finding covers the span already.
func (c *checker) reported(s memory.Span) bool {
	return slices.ContainsFunc(c.found, func(f Finding) bool { return f.Where.Covers(s) })
}

func (c *checker) regionList() string {
	list := "regions are "
	for i, r := range c.m.Regions {
		if i > 0 {
			list += ", "
		}
		list += r.Name + " " + r.Span.String()
	}
	return list
}

// oneRecord reports whether the bytes on both sides of a border stand on the
// same line of a record file.
func (c *checker) oneRecord(border uint64) bool {
	a, ok1 := c.part.Image.Origin(border)
	b, ok2 := c.part.Image.Origin(border + 1)
	return ok1 && ok2 && a == b
}

func (c *checker) overrun(home *device.Region, over memory.Span) {
	into := "memory that is no region's"
	if next := c.m.RegionAt(over.First); next != nil {
		into = "region " + next.Name
	} else if c.m.MemoryAt(over.First) == nil {
		into = "no memory at all"
	}
	c.add(Finding{
		Rule: RegionOverrun, Where: over, Region: home.Name,
		What:     fmt.Sprintf("runs over the end of region %s by %s, into %s", home.Name, memory.FormatSize(over.Size()), into),
		Expected: fmt.Sprintf("%s holds %s", home.Name, home.Span),
		Advice:   fmt.Sprintf("make the part smaller by %s bytes, or the region larger", memory.FormatCount(over.Size())),
	})
}

// inside finds what lies outside the one region in which all should be.
func (c *checker) inside(home *device.Region) {
	for _, r := range c.part.Image.Drop(home.Span).Runs() {
		if r.First == home.Span.Last+1 && c.part.Image.Count(memory.Span{First: home.Span.Last, Last: home.Span.Last}) == 1 {
			c.overrun(home, r.Span())
			continue
		}
		if c.m.MemoryAt(r.First) == nil {
			continue // outside-memory says so
		}
		c.add(Finding{
			Rule: OutsideRegion, Where: r.Span(), Region: home.Name,
			What:     fmt.Sprintf("%s outside region %s", memory.FormatSize(r.Span().Size()), home.Name),
			Expected: fmt.Sprintf("%s holds %s", home.Name, home.Span),
			Advice:   "the wrong file, or linked for another address",
		})
	}
	if c.part.Image.Count(home.Span) == 0 {
		c.found = append(c.found, missingPart(home))
	}
}

// missing finds required regions in which the image holds nothing.
func missing(m *device.Map, whole *memory.Image) []Finding {
	var found []Finding
	for i := range m.Regions {
		if r := &m.Regions[i]; r.Required && whole.Count(r.Span) == 0 {
			found = append(found, missingPart(r))
		}
	}
	return found
}

func missingPart(r *device.Region) Finding {
	return Finding{
		Rule: MissingPart, Where: r.Span, Region: r.Name,
		What:     fmt.Sprintf("region %s is empty", r.Name),
		Expected: fmt.Sprintf("a part of role %s in %s", r.Role, r.Span),
		Advice:   "merge it in, or check one part alone with -region",
	}
}

// Use tells how much of a region an image fills.
type Use struct {
	Region *device.Region
	Used   uint64 // bytes
}

// Uses returns the use of each region by the parts together.
func Uses(m *device.Map, parts []memory.Part) []Use {
	images := make([]*memory.Image, len(parts))
	for i, p := range parts {
		images[i] = p.Image
	}
	whole, _ := memory.Merge(images, memory.First)
	var uses []Use
	for i := range m.Regions {
		uses = append(uses, Use{&m.Regions[i], whole.Count(m.Regions[i].Span)})
	}
	return uses
}
