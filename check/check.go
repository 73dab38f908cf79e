// Package check holds images against device maps and returns what it finds:
// what would go wrong if the image were programmed into the part.
package check

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

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
	Name     string // what the finding is about, where the rule may find several: a field, a region
	Where    memory.Span
	Region   string // region or memory concerned; may be empty
	Origin   string // where the first byte concerned came from; may be empty
	Input    string // the input concerned; may be empty
	What     string
	Expected string
	Advice   string
	Accepted bool // it was accepted by name, and does not count
}

// Rule is a rule and what it finds, in short.
type Rule struct{ Name, Finds string }

// The rules.
const (
	OutsideMemory   = "outside-memory"
	NotProgrammable = "not-programmable"
	OutsideRegion   = "outside-region"
	ReservedArea    = "reserved-area"
	OneTimeArea     = "one-time-area"
	RegionOverrun   = "region-overrun"
	MissingPart     = "missing-part"
	PartialGranule  = "partial-granule"
	PartialPage     = "partial-page"
	SharedSector    = "shared-sector"
	StartMissing    = "start-missing"
	StartErased     = "start-erased"
	StartStack      = "start-stack"
	StartTarget     = "start-target"
	StartRecord     = "start-record"
	ConfigUndefined = "config-undefined"
	ConfigConflict  = "config-conflict"
	ConfigHazard    = "config-hazard"
	BootSection     = "boot-section"
	ChecksumAbsent  = "checksum-absent"
	ChecksumWrong   = "checksum-wrong"
	WrongIdentity   = "wrong-identity"
	ErasedStretch   = "erased-stretch"
	TwoStarts       = "two-starts"
)

// Rules are all rules, in the order in which help lists them.
var Rules = []Rule{
	{OutsideMemory, "bytes where the device has no memory"},
	{NotProgrammable, "bytes in RAM or ROM"},
	{OutsideRegion, "bytes in a memory, but in none of its regions"},
	{ReservedArea, "bytes in a reserved region"},
	{OneTimeArea, "bytes in one-time memory"},
	{RegionOverrun, "a part that runs over the end of its region"},
	{MissingPart, "a required region that is empty"},
	{PartialGranule, "a unit of writing that is partly given"},
	{PartialPage, "pages that are partly given (a note)"},
	{SharedSector, "a sector in which two regions hold bytes"},
	{StartMissing, "no bytes where the part starts"},
	{StartErased, "an erased first instruction"},
	{StartStack, "an initial stack outside RAM, or not aligned"},
	{StartTarget, "a reset target outside its region, without bytes, or without the instruction-set bit"},
	{StartRecord, "a start address at which the image holds nothing"},
	{ConfigUndefined, "configuration bits or values that are not defined"},
	{ConfigConflict, "configuration values that contradict each other"},
	{ConfigHazard, "configuration values that cannot be undone"},
	{BootSection, "a boot section whose size does not fit where the bootloader lies"},
	{ChecksumAbsent, "a declared checksum that is not there"},
	{ChecksumWrong, "a declared checksum that is wrong"},
	{WrongIdentity, "identity bytes of another part"},
	{ErasedStretch, "an erased stretch in whole blocks inside a part, as of a file that lost some"},
	{TwoStarts, "parts with start addresses that differ"},
}

// Options set what is checked.
type Options struct {
	// Region, where given, is the region in which every part must lie. The
	// parts are then no whole image, and nothing need be there but they.
	Region *device.Region
	// Accept lists findings that do not count: RULE, or RULE:NAME for those of
	// one field or region.
	Accept []string
}

// Result is what a check found.
type Result struct {
	Map       *device.Map // as it is for the image's configuration
	FromImage bool        // whether any configuration came from the image
	Whole     *memory.Image
	Findings  []Finding
}

// Counting returns the findings that count: those that are neither notes nor
// accepted.
func (r *Result) Counting() []Finding {
	return slices.DeleteFunc(slices.Clone(r.Findings), func(f Finding) bool { return f.Accepted || f.Severity == Note })
}

// Run checks parts, together one image, against a map. The findings are
// sorted by severity, then by address.
func Run(m *device.Map, parts []memory.Part, o Options) *Result {
	images := make([]*memory.Image, len(parts))
	for i, p := range parts {
		images[i] = p.Image
	}
	r := &Result{}
	r.Whole, _ = memory.Merge(images, memory.First)
	r.Map, r.FromImage = m.For(r.Whole)
	if o.Region != nil {
		o.Region = r.Map.Region(o.Region.Name)
	}
	for _, p := range parts {
		c := checker{m: r.Map, part: p}
		c.memories()
		c.areas()
		c.granules()
		c.identity()
		c.erasedStretches()
		if o.Region != nil {
			c.inside(o.Region)
		} else {
			c.regions(len(parts) > 1)
		}
		r.Findings = append(r.Findings, c.found...)
	}
	whole := checker{m: r.Map, part: memory.Part{Image: r.Whole}}
	if len(parts) == 1 {
		whole.part.Name = parts[0].Name
	}
	whole.startRecord()
	whole.config()
	if o.Region == nil {
		whole.missing()
		whole.sectors()
		whole.start()
		whole.bootSection()
		whole.checksums()
		whole.starts(parts)
	}
	r.Findings = append(r.Findings, whole.found...)
	for i := range r.Findings {
		f := &r.Findings[i]
		f.Accepted = slices.Contains(o.Accept, f.Rule) || f.Name != "" && slices.Contains(o.Accept, f.Rule+":"+f.Name)
	}
	slices.SortStableFunc(r.Findings, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.Severity, b.Severity), cmp.Compare(a.Where.First, b.Where.First))
	})
	return r
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
	if f.Region == "" {
		if r := c.m.RegionAt(f.Where.First); r != nil {
			f.Region = r.Name
		}
	}
	c.found = append(c.found, f)
}

// missing adds a finding about bytes that are not there.
func (c *checker) addMissing(f Finding) {
	f.Input = ""
	c.found = append(c.found, f)
}

// memoryList names all memories and their spans.
func (c *checker) memoryList() string {
	var names []string
	for _, mem := range c.m.Memories {
		names = append(names, mem.Name+" "+mem.Span.String())
	}
	return "memories are " + strings.Join(names, ", ")
}

func (c *checker) regionList() string {
	var names []string
	for _, r := range c.m.Regions {
		names = append(names, r.Name+" "+r.Span.String())
	}
	return "regions are " + strings.Join(names, ", ")
}

// together joins the runs that lie outside a list of spans, wherever only
// holes stand between them inside one gap, so that a thousand stray runs are
// one finding.
func (c *checker) together(spans []memory.Span) []memory.Span {
	var out []memory.Span
	for _, gap := range memory.Complement(spans) {
		first, last, some := uint64(0), uint64(0), false
		for r := range c.part.Image.In(gap) {
			if !some {
				first, some = r.First, true
			}
			last = r.Last()
		}
		if some {
			out = append(out, memory.Span{First: first, Last: last})
		}
	}
	return out
}

// bytesIn says how many bytes the part holds in a span.
func (c *checker) bytesIn(s memory.Span) string { return memory.FormatSize(c.part.Image.Count(s)) }

// memories finds bytes that lie in no memory of the part, or in one that
// cannot be programmed.
func (c *checker) memories() {
	var spans []memory.Span
	for i := range c.m.Memories {
		mem := &c.m.Memories[i]
		spans = append(spans, mem.Span)
		if !mem.Programmable() {
			if n := c.part.Image.Count(mem.Span); n > 0 {
				where := c.firstIn(mem.Span)
				c.add(Finding{Rule: NotProgrammable, Name: mem.Name, Where: where, Region: mem.Name,
					What: fmt.Sprintf("%s in %s, which is %s and cannot be programmed", memory.FormatSize(n), mem.Name, mem.Kind), Expected: "an image holds what is programmed, nothing else",
					Advice: "drop it (cut -drop), or have the linker leave it out"})
			}
		}
	}
	for _, s := range c.together(spans) {
		f := Finding{
			Rule: OutsideMemory, Where: s, What: fmt.Sprintf("%s in no memory of %s", c.bytesIn(s), c.m.Name),
			Expected: c.memoryList(), Advice: "the wrong part, or placed at the wrong address",
		}
		for _, mem := range c.m.Memories {
			for _, alias := range mem.Aliases {
				if alias.Covers(s) {
					by := mem.Span.First - alias.First
					sign := ""
					if mem.Span.First < alias.First {
						by, sign = alias.First-mem.Span.First, "-"
					}
					f.Advice = fmt.Sprintf("the part sees %s here too, but it is programmed at %s: place -by %s0x%X", mem.Name, memory.FormatAddress(mem.Span.First), sign, by)
				}
			}
		}
		c.add(f)
	}
}

// firstIn returns the stretch from the first to the last byte that the part
// holds in a span.
func (c *checker) firstIn(s memory.Span) memory.Span {
	out, some := memory.Span{}, false
	for r := range c.part.Image.In(s) {
		if !some {
			out.First, some = r.First, true
		}
		out.Last = r.Last()
	}
	return out
}

// areas finds bytes in reserved regions and in one-time memory.
func (c *checker) areas() {
	for _, r := range c.m.Regions {
		if n := c.part.Image.Count(r.Span); r.Role == device.Reserved && n > 0 {
			c.add(Finding{Rule: ReservedArea, Name: r.Name, Where: c.firstIn(r.Span), Region: r.Name,
				What: fmt.Sprintf("%s in %s, which is reserved", memory.FormatSize(n), r.Name), Expected: "nothing there", Advice: "drop it (cut -drop " + r.Name + ")"})
		}
	}
	for _, mem := range c.m.Memories {
		if n := c.part.Image.Count(mem.Span); mem.Kind == device.OTP && n > 0 {
			c.add(Finding{Rule: OneTimeArea, Name: mem.Name, Where: c.firstIn(mem.Span), Region: mem.Name,
				What: fmt.Sprintf("%s in %s, which can be written once", memory.FormatSize(n), mem.Name), Expected: "nothing, unless each part is meant to get just these bytes",
				Advice: "drop it, or accept it: -accept " + OneTimeArea + ":" + mem.Name})
		}
	}
}

// granules finds units of writing that are partly given, and tells of pages
// that are.
func (c *checker) granules() {
	for _, mem := range c.m.Memories {
		if mem.Programmable() {
			c.units(&mem, mem.Granule, Finding{Severity: Error, Rule: PartialGranule, Name: mem.Name, Region: mem.Name, Advice: "fill them out: fill -pages=" + fmt.Sprint(max(mem.Granule, 1))},
				"unit of writing", "units of writing")
			c.units(&mem, mem.Page, Finding{Severity: Note, Rule: PartialPage, Name: mem.Name, Region: mem.Name, Advice: "fill them out with fill -pages, so that they are the same on every part"},
				"page", "pages")
		}
	}
}

func (c *checker) units(mem *device.Memory, size uint64, f Finding, one, many string) {
	if size < 2 {
		return
	}
	n, last := 0, uint64(0) // units partly given, and the last of them
	count := func(address uint64) {
		unit := mem.Span.First + (address-mem.Span.First)/size*size
		if n == 0 {
			f.Where = memory.Span{First: unit, Last: unit + size - 1}
		} else if unit == last {
			return
		}
		n, last = n+1, unit
	}
	for r := range c.part.Image.In(mem.Span) {
		if (r.First-mem.Span.First)%size != 0 {
			count(r.First)
		}
		if (r.Last()-mem.Span.First+1)%size != 0 {
			count(r.Last())
		}
	}
	if n == 0 {
		return
	}
	what := fmt.Sprintf("%d %s", n, many)
	if n == 1 {
		what = "1 " + one
	}
	f.What = fmt.Sprintf("%s of %s in %s partly given", what, memory.FormatSize(size), mem.Name)
	f.Expected = "whole ones"
	held := c.firstIn(f.Where)
	f.Where.First = held.First
	c.add(f)
}

// identity holds the identity that the image carries against the map's.
func (c *checker) identity() {
	if c.m.IdentityAt == nil || len(c.m.Identity) == 0 {
		return
	}
	found := make([]byte, len(c.m.Identity))
	if !c.part.Image.ReadAt(found, *c.m.IdentityAt) || string(found) == string(c.m.Identity) {
		return
	}
	where, _ := memory.SpanOf(*c.m.IdentityAt, uint64(len(found)))
	c.add(Finding{Rule: WrongIdentity, Where: where, What: fmt.Sprintf("the image is for a part with identity % X", found),
		Expected: fmt.Sprintf("%s has % X", c.m.Name, c.m.Identity), Advice: "the wrong variant of the part, or the wrong file"})
}

// erasedStretches finds erased stretches that begin and end on whole blocks
// between bytes that are not: what a file looks like that lost blocks on a
// copy.
func (c *checker) erasedStretches() {
	const block = 512
	for _, mem := range c.m.Memories {
		for r := range c.part.Image.In(mem.Span) {
			for i := 0; i < len(r.Data); {
				j := i
				for j < len(r.Data) && r.Data[j] == mem.Erased {
					j++
				}
				first := r.First + uint64(i) - mem.Span.First
				if size := j - i; size >= block && i > 0 && j < len(r.Data) && first%block == 0 && size%block == 0 {
					where := memory.Span{First: r.First + uint64(i), Last: r.First + uint64(j) - 1}
					c.add(Finding{Severity: Warning, Rule: ErasedStretch, Where: where, What: fmt.Sprintf("%d whole blocks of %d bytes are erased, with bytes before and behind", size/block, block),
						Expected: "a part has no such stretch by chance", Advice: "a copy that lost blocks? Take the file again, or accept it: -accept " + ErasedStretch})
				}
				i = max(j, i+1)
			}
		}
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
	for _, mem := range c.m.Memories {
		if !mem.Programmable() {
			continue
		}
		others := append(memory.Complement([]memory.Span{mem.Span}), inRegions...)
		for _, s := range c.together(others) {
			if c.reported(s) {
				continue
			}
			c.add(Finding{
				Rule: OutsideRegion, Name: mem.Name, Where: s, Region: mem.Name,
				What: fmt.Sprintf("%s in %s but in none of its regions", c.bytesIn(s), mem.Name), Expected: c.regionList(),
				Advice: "place it in a region, or give the map a region here",
			})
		}
	}
}

// reported reports whether a finding covers the span already.
func (c *checker) reported(s memory.Span) bool {
	return slices.ContainsFunc(c.found, func(f Finding) bool { return f.Rule == RegionOverrun && f.Where.Covers(s) })
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
		Rule: RegionOverrun, Name: home.Name, Where: over, Region: home.Name,
		What:     fmt.Sprintf("runs over the end of region %s by %s, into %s", home.Name, memory.FormatSize(over.Size()), into),
		Expected: fmt.Sprintf("%s holds %s", home.Name, home.Span),
		Advice:   fmt.Sprintf("make the part smaller by %s bytes, or the region larger", memory.FormatCount(over.Size())),
	})
}

// inside finds what lies outside the one region in which all should be.
func (c *checker) inside(home *device.Region) {
	for _, s := range c.together([]memory.Span{home.Span}) {
		if s.First == home.Span.Last+1 && c.part.Image.Count(memory.Span{First: home.Span.Last, Last: home.Span.Last}) == 1 {
			c.overrun(home, s)
			continue
		}
		if c.m.MemoryAt(s.First) == nil {
			continue // outside-memory says so
		}
		c.add(Finding{
			Rule: OutsideRegion, Name: home.Name, Where: s, Region: home.Name,
			What:     fmt.Sprintf("%s outside region %s", c.bytesIn(s), home.Name),
			Expected: fmt.Sprintf("%s holds %s", home.Name, home.Span), Advice: "the wrong file, or linked for another address",
		})
	}
	if c.part.Image.Count(home.Span) == 0 {
		c.missingPart(home)
	}
}

// missing finds required regions in which the image holds nothing.
func (c *checker) missing() {
	for i := range c.m.Regions {
		if r := &c.m.Regions[i]; r.Required && c.part.Image.Count(r.Span) == 0 {
			c.missingPart(r)
		}
	}
}

func (c *checker) missingPart(r *device.Region) {
	c.addMissing(Finding{
		Rule: MissingPart, Name: r.Name, Where: r.Span, Region: r.Name, What: fmt.Sprintf("region %s is empty", r.Name),
		Expected: fmt.Sprintf("a part of role %s in %s", r.Role, r.Span), Advice: "merge it in, or check one part alone with -region",
	})
}

// sectors finds sectors in which two regions hold bytes: erasing one part takes
// the other with it.
func (c *checker) sectors() {
	for _, mem := range c.m.Memories {
		for _, s := range mem.Sectors {
			var here []string
			for _, r := range c.m.Regions {
				if both, ok := r.Span.Meet(s); ok && c.part.Image.Count(both) > 0 {
					here = append(here, r.Name)
				}
			}
			if len(here) > 1 {
				c.add(Finding{Severity: Warning, Rule: SharedSector, Name: here[0], Where: s, Region: here[0],
					What: fmt.Sprintf("the sector is shared by regions %s", strings.Join(here, " and ")), Expected: "a sector of its own for each, as it is erased at once",
					Advice: "move the border of the regions to that of a sector"})
			}
		}
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
	m, _ = m.For(whole)
	var uses []Use
	for i := range m.Regions {
		uses = append(uses, Use{&m.Regions[i], whole.Count(m.Regions[i].Span)})
	}
	return uses
}
